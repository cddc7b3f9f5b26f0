//! [`Span`]: a horizontal axis of time, with ticks at the boundaries of the calendar.
//!
//! Places are microseconds from the start of the span. Points in time are placed by the time that
//! has passed, and only their labels show the clock of the time zone. So a day with a change of
//! clocks is 23 or 25 hours wide, and no hour is doubled or dropped.
//!
//! Ticks are chosen from a list of steps, from seconds to thousands of years: the finest one whose
//! labels do not overlap. A label of a single day, month, quarter or year stands in the middle of
//! it, because values stand there too; labels of longer steps stand at their tick. Below them, each
//! longer period (the day, the month, the year) is named once.

use crate::font;
use jembric_core::calendar::{
    Day, Grain, MICROS_PER_DAY, Moment, Month, Period, Periods, Weekday, Zone,
};

/// A stretch of time.
#[derive(Clone, Debug)]
pub(crate) struct Span {
    /// The first microsecond: UTC with a time zone, otherwise the reading of a clock.
    low: i64,
    /// The microsecond after the last one.
    high: i64,
    /// The time zone, if the dates are points in time.
    zone: Option<Zone>,
    /// The periods of the column of dates; none for moments.
    periods: Option<Periods>,
}

/// A label below the axis.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Label {
    /// The pixels at which it begins and ends.
    pub(crate) left: f64,
    pub(crate) right: f64,
    pub(crate) text: String,
    /// The date of its tick in full.
    pub(crate) title: String,
}

/// The ticks of an axis.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct Ticks {
    /// The places of the ticks, with their dates in full.
    pub(crate) places: Vec<(f64, String)>,
    pub(crate) labels: Vec<Label>,
    /// The longer periods, below the labels.
    pub(crate) groups: Vec<Label>,
}

/// The distance between ticks.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Step {
    Seconds(i64),
    Days,
    Weeks,
    Months,
    Quarters,
    Years(i32),
}

const SECOND: i64 = 1_000_000;
const STEPS: [Step; 32] = {
    use Step::{Days, Months, Quarters, Seconds, Weeks, Years};
    [
        Seconds(1),
        Seconds(2),
        Seconds(5),
        Seconds(10),
        Seconds(15),
        Seconds(30),
        Seconds(60),
        Seconds(120),
        Seconds(300),
        Seconds(600),
        Seconds(900),
        Seconds(1_800),
        Seconds(3_600),
        Seconds(7_200),
        Seconds(10_800),
        Seconds(21_600),
        Seconds(43_200),
        Days,
        Weeks,
        Months,
        Quarters,
        Years(1),
        Years(2),
        Years(5),
        Years(10),
        Years(20),
        Years(50),
        Years(100),
        Years(200),
        Years(500),
        Years(1_000),
        Years(2_000),
    ]
};

/// The least room between two labels, in pixels.
const ROOM: f64 = 8.0;
/// The font size of labels.
pub(crate) const LABEL: f64 = 11.0;

impl Step {
    /// About how many microseconds it is long.
    fn length(self) -> f64 {
        let days = match self {
            Step::Seconds(seconds) => return (seconds * SECOND) as f64,
            Step::Days => 1.0,
            Step::Weeks => 7.0,
            Step::Months => 30.44,
            Step::Quarters => 91.3,
            Step::Years(years) => 365.25 * f64::from(years),
        };
        days * MICROS_PER_DAY as f64
    }

    /// Whether dates of this grain have ticks of this step.
    fn fits(self, periods: Option<Periods>) -> bool {
        let Some(periods) = periods else { return true };
        match periods.grain() {
            Grain::Hour => true,
            Grain::Day => !matches!(self, Step::Seconds(_)),
            Grain::Week => !matches!(self, Step::Seconds(_) | Step::Days),
            Grain::Month => matches!(self, Step::Months | Step::Quarters | Step::Years(_)),
            Grain::Quarter => matches!(self, Step::Quarters | Step::Years(_)),
            Grain::Year => matches!(self, Step::Years(_)),
        }
    }

    /// Whether a label stands in the middle of its period.
    fn is_centered(self) -> bool {
        matches!(self, Step::Days | Step::Months | Step::Quarters | Step::Years(1))
    }
}

/// A boundary of the calendar.
struct Boundary {
    micros: i64,
    text: String,
    title: String,
    /// The longer period that it belongs to.
    group: String,
}

impl Span {
    /// A span from one microsecond to another. An empty one becomes an hour around it.
    pub(crate) fn new(low: i64, high: i64, zone: Option<Zone>, periods: Option<Periods>) -> Span {
        let (low, high) =
            if low < high { (low, high) } else { (low - 1_800 * SECOND, low + 1_800 * SECOND) };
        Span { low, high, zone, periods }
    }

    pub(crate) fn low(&self) -> i64 {
        self.low
    }

    pub(crate) fn length(&self) -> f64 {
        (self.high - self.low) as f64
    }

    /// The place of a microsecond.
    pub(crate) fn place(&self, micros: i64) -> f64 {
        (micros - self.low) as f64
    }

    /// The date at a place, in full.
    pub(crate) fn text_at(&self, place: f64) -> String {
        self.text(self.low.saturating_add(place as i64))
    }

    fn reading(&self, micros: i64) -> i64 {
        self.zone.as_ref().map_or(micros, |zone| zone.reading(micros))
    }

    fn instant(&self, reading: i64) -> i64 {
        self.zone.as_ref().map_or(reading, |zone| zone.instant(reading))
    }

    fn text(&self, micros: i64) -> String {
        let reading = self.reading(micros);
        match self.periods {
            None => Moment::from_micros(reading).map(|moment| moment.to_string()),
            Some(periods) => day_of(reading).map(|day| match periods.grain() {
                Grain::Hour | Grain::Day => day.to_string(),
                _ => periods.containing(day).to_string(),
            }),
        }
        .unwrap_or_default()
    }

    /// The ticks for an axis between these pixels.
    pub(crate) fn ticks(&self, start: f64, end: f64) -> Ticks {
        let width = (end - start).max(1.0);
        let most = width / 14.0 + 2.0;
        let fitting = STEPS.into_iter().filter(|step| step.fits(self.periods));
        let few = |step: &Step| self.length() / step.length() <= most;
        let mut last = Ticks::default();
        for step in fitting.filter(few).chain([Step::Years(5_000)]) {
            let (ticks, overlap) = self.ticks_of(step, start, end);
            // A span between two boundaries has no tick; the step before shows at least its start.
            if ticks.labels.is_empty() && !last.labels.is_empty() {
                break;
            }
            last = ticks;
            if !overlap {
                break;
            }
        }
        without_overlaps(&mut last.labels);
        without_overlaps(&mut last.groups);
        last
    }

    /// The ticks of a step, and whether their labels overlap.
    fn ticks_of(&self, step: Step, start: f64, end: f64) -> (Ticks, bool) {
        let boundaries = self.boundaries(step);
        let pixel = |micros: i64| start + self.place(micros) / self.length() * (end - start);
        let visible = |micros: i64| (self.low..=self.high).contains(&micros);
        let mut ticks = Ticks::default();
        let mut overlap = false;
        let mut groups: Vec<(f64, f64, &Boundary)> = Vec::new();
        for (place, boundary) in boundaries.iter().enumerate() {
            let next = boundaries.get(place + 1).map_or(i64::MAX, |next| next.micros);
            let (from, to) = (boundary.micros.max(self.low), next.min(self.high));
            if visible(boundary.micros) {
                ticks.places.push((self.place(boundary.micros), boundary.title.clone()));
            }
            if from >= to && !visible(boundary.micros) {
                continue;
            }
            let (left, right) = (pixel(from), pixel(to.max(from)));
            // A label at a tick belongs to the longer period of that tick, so the time before the
            // first visible tick has no group.
            match groups.last_mut() {
                _ if !step.is_centered() && !visible(boundary.micros) => {}
                Some((_, until, group)) if group.group == boundary.group => *until = right,
                _ => groups.push((left, right, boundary)),
            }
            let width = font::width(&boundary.text, LABEL);
            let label = |left: f64| Label {
                left,
                right: left + width,
                text: boundary.text.clone(),
                title: boundary.title.clone(),
            };
            if step.is_centered() {
                let is_whole = from == boundary.micros && to == next;
                let fits = width <= right - left;
                overlap |= is_whole && width + ROOM > right - left;
                if fits {
                    ticks.labels.push(label((left + right - width) / 2.0));
                }
            } else if visible(boundary.micros) && boundary.micros < self.high {
                ticks.labels.push(label(left - width / 2.0));
            }
        }
        overlap |= ticks.labels.windows(2).any(|pair| pair[0].right + ROOM > pair[1].left);
        let is_single = groups.len() == 1;
        for (left, right, boundary) in groups {
            let width = font::width(&boundary.group, LABEL);
            // A group that is cut short has no room for its name, and the next one tells it.
            if !boundary.group.is_empty() && (is_single || width <= right - left) {
                let left = ((left + right - width) / 2.0).max(start.min(right - width));
                let text = boundary.group.clone();
                ticks.groups.push(Label { left, right: left + width, title: text.clone(), text });
            }
        }
        (ticks, overlap)
    }

    /// The boundaries of a step, from the last one before the span to the first one after it.
    fn boundaries(&self, step: Step) -> Vec<Boundary> {
        let (low, high) = (self.reading(self.low), self.reading(self.high));
        if let Step::Seconds(seconds) = step {
            return self.clock_boundaries(low, high, seconds * SECOND);
        }
        let (Some(first), Some(last)) = (day_of(low), day_of(high)) else { return Vec::new() };
        let own = self.periods.unwrap_or(Periods::DAYS);
        let grain = match step {
            Step::Seconds(_) | Step::Days => Grain::Day,
            Step::Weeks => Grain::Week,
            Step::Months => Grain::Month,
            Step::Quarters => Grain::Quarter,
            Step::Years(_) => Grain::Year,
        };
        // Weeks and fiscal years begin where those of the column do.
        let periods = match (own.grain(), grain) {
            (own_grain, grain) if own_grain == grain => own,
            (Grain::Quarter, Grain::Year) => {
                Periods::from(Grain::Year).year_start(own.first_month())
            }
            _ => grain.into(),
        };
        let mut boundaries = Vec::new();
        let mut period = periods.containing(first);
        if let Step::Years(years) = step {
            let (year, ..) = period.last().ymd();
            period = period.plus(-year.rem_euclid(years));
        }
        let apart = if let Step::Years(years) = step { years } else { 1 };
        loop {
            let day = period.first();
            // The first year of the calendar is not the year 0.
            if periods.containing(day) == period {
                boundaries.push(self.day_boundary(step, period));
            }
            // The period after the last year of the calendar is that year again.
            let next = period.plus(apart);
            if day > last || next.first() <= day {
                break;
            }
            period = next;
        }
        boundaries
    }

    fn day_boundary(&self, step: Step, period: Period) -> Boundary {
        let day = period.first();
        let (year, month, of_month) = day.ymd();
        let short = |month: u32| {
            let name = Month::ALL.get(month as usize - 1).map_or("", |month| month.name());
            name.get(..3).unwrap_or(name)
        };
        let (text, group) = match step {
            Step::Seconds(_) | Step::Days => {
                (of_month.to_string(), format!("{} {year:04}", short(month)))
            }
            Step::Weeks => (format!("{of_month} {}", short(month)), format!("{year:04}")),
            Step::Months => (short(month).to_owned(), format!("{year:04}")),
            Step::Quarters => match period.to_string().split_once('-') {
                Some((year, quarter)) => (quarter.to_owned(), year.to_owned()),
                None => (period.to_string(), String::new()),
            },
            Step::Years(_) => (period.to_string(), String::new()),
        };
        let micros = self.instant(i64::from(day.number()) * MICROS_PER_DAY);
        Boundary { micros, text, title: day.to_string(), group }
    }

    /// The boundaries of clock time, in steps that divide the day.
    fn clock_boundaries(&self, low: i64, high: i64, step: i64) -> Vec<Boundary> {
        let mut boundaries: Vec<Boundary> = Vec::new();
        let mut reading = low.div_euclid(step) * step;
        while reading < high + step {
            let micros = self.instant(reading);
            // The clock does not show a reading that it skips.
            let shown = self.reading(micros);
            if let (Some(moment), Some(day)) = (Moment::from_micros(shown), day_of(shown)) {
                let seconds = shown.rem_euclid(MICROS_PER_DAY) / SECOND;
                let (hour, minute, second) = (seconds / 3_600, seconds / 60 % 60, seconds % 60);
                let text = if step < 60 * SECOND {
                    format!("{hour:02}:{minute:02}:{second:02}")
                } else {
                    format!("{hour:02}:{minute:02}")
                };
                let (year, month, of_month) = day.ymd();
                let name = Month::ALL.get(month as usize - 1).map_or("", |month| month.name());
                let group = format!("{of_month} {} {year:04}", name.get(..3).unwrap_or(name));
                let title = moment.to_string();
                if boundaries.last().is_none_or(|last| last.micros < micros) {
                    boundaries.push(Boundary { micros, text, title, group });
                }
            }
            reading += step;
        }
        boundaries
    }
}

/// Keeps the labels that do not overlap the kept one before them.
fn without_overlaps(labels: &mut Vec<Label>) {
    let mut until = f64::NEG_INFINITY;
    labels.retain(|label| {
        let fits = label.left >= until;
        if fits {
            until = label.right + ROOM / 2.0;
        }
        fits
    });
}

/// The day of a reading; the last day of the calendar for the moment after it.
fn day_of(reading: i64) -> Option<Day> {
    let number = reading
        .div_euclid(MICROS_PER_DAY)
        .clamp(i64::from(Day::MIN.number()), i64::from(Day::MAX.number()));
    Day::from_number(number as i32)
}

/// The first letters of the weekdays, from the one on which weeks begin.
pub(crate) fn weekdays() -> impl Iterator<Item = &'static str> {
    Weekday::ALL.iter().map(|day| day.name().get(..1).unwrap_or_default())
}

#[cfg(test)]
mod tests;
