"""Makes calendar.csv beside this file: what Python's standard library says of every day of 400 years.

Run it again with `python3 crates/jembric-core/src/calendar/vectors/make.py`; the file must come out the same.

A line is a year and a number that all its days are folded into: their ISO week, weekday and day of the year, the day one
month after (the last day of a shorter month), the completed months to a day some time later (counted one by one), and the
workdays so far, without the holidays below.
"""

import calendar
import datetime
import pathlib

HOLIDAYS = {(1, 1), (5, 1), (12, 25), (12, 26)}
FIRST, LAST = 1801, 2200
EPOCH = datetime.date(1970, 1, 1)


def plus_months(day, months):
    index = day.year * 12 + day.month - 1 + months
    year, month = divmod(index, 12)
    return datetime.date(year, month + 1, min(day.day, calendar.monthrange(year, month + 1)[1]))


def completed_months(start, end):
    months = 0
    while plus_months(start, months + 1) <= end:
        months += 1
    return months


def lines():
    workdays = 0
    for year in range(FIRST, LAST + 1):
        folded = 0
        day = datetime.date(year, 1, 1)
        while day.year == year:
            workdays += day.weekday() < 5 and (day.month, day.day) not in HOLIDAYS
            iso = day.isocalendar()
            later = day + datetime.timedelta(days=day.toordinal() * 7919 % 400)
            for number in (
                iso[0],
                iso[1],
                iso[2],
                day.timetuple().tm_yday,
                (plus_months(day, 1) - EPOCH).days,
                completed_months(day, later),
                workdays,
            ):
                folded = (folded * 31 + number) % 2**64
            day += datetime.timedelta(days=1)
        yield f"{year},{folded}"


path = pathlib.Path(__file__).with_name("calendar.csv")
path.write_text("year,folded\n" + "\n".join(lines()) + "\n")
