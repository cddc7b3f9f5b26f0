//! Why text is not dates, in words; and the newest day.

use super::*;
use crate::table::Origin;
use arrow_array::ArrayRef;
use rstest::rstest;
use std::sync::Arc;

#[rstest]
#[case::names(&["Petrel", "Bolt Head"],
    "harbour.csv: column `day` cannot be used as dates: 2 of its 2 values are not (line 2 \
        `Petrel`, line 3 `Bolt Head`). Name a column of dates, or say how these are written: \
        `Reading::read(\"day\", \"%d.%m.%Y\")`")]
#[case::nearly(&["2025-06-30", "soon", "2025-02-30", "30.06.25", "x"],
    "harbour.csv: column `day` cannot be used as dates: 4 of its 5 values are not (line 3 `soon`, \
        line 4 `2025-02-30` (the calendar has no such day), line 5 `30.06.25` (a year of two \
        digits), …). Mark what means no value (`Reading::missing`), or say how the dates are \
        written: `Reading::read(\"day\", \"%d.%m.%Y\")`")]
#[case::ambiguous(&["05/05/2025", "03/04/2025"],
    "harbour.csv: column `day` leaves open whether day or month comes first: line 3 `03/04/2025` \
        is 2025-04-03 or 2025-03-04. Say which: `Reading::date_order(\"dmy\")` or \
        `Reading::date_order(\"mdy\")`")]
#[case::both_orders(&["13/04/2025", "04/13/2025", "14/04/2025"],
    "harbour.csv: column `day` cannot be used as dates: 1 of its 3 values is not one (line 3 \
        `04/13/2025` (day and month the other way round)). Mark what means no value \
        (`Reading::missing`), or say how the dates are written: \
        `Reading::read(\"day\", \"%d.%m.%Y\")`")]
#[case::offsets(&["2025-06-30T14:05Z", "2025-06-30T14:05"],
    "harbour.csv: column `day` cannot be used as dates: 1 of its 2 values is not one (line 2 \
        `2025-06-30T14:05Z` (with an offset)). Mark what means no value (`Reading::missing`), or \
        say how the dates are written: `Reading::read(\"day\", \"%d.%m.%Y\")`")]
fn text_used_as_dates_says_which_cells_are_none(#[case] cells: &[&str], #[case] message: &str) {
    let cells = StringViewArray::from(cells.to_vec());
    let table = Table::from_columns([("day", Arc::new(cells) as ArrayRef)])
        .unwrap()
        .with_origin(Origin::new("harbour.csv", 2));
    let error = crate::Latest::new("day").apply(&table).unwrap_err();
    assert_eq!(error.to_string(), message);
}

#[test]
fn the_newest_day_is_that_of_dates_and_of_moments() {
    let table = |column: ArrayRef| Table::from_columns([("day", column)]).unwrap();
    let days: ArrayRef = Arc::new(Date32Array::from(vec![Some(3), None, Some(5)]));
    let late_on_day_five: ArrayRef =
        Arc::new(TimestampMicrosecondArray::from(vec![6 * MICROS_PER_DAY - 1]));
    for column in [days, late_on_day_five] {
        assert_eq!(
            table(column).newest("day", &crate::calendar::Zone::default()).unwrap(),
            Day::from_number(5).unwrap()
        );
    }
    let none: ArrayRef = Arc::new(Date32Array::from(vec![None]));
    let message =
        table(none).newest("day", &crate::calendar::Zone::default()).unwrap_err().to_string();
    assert_eq!(message, "column `day` has no date in it, so there is no newest one");
}
