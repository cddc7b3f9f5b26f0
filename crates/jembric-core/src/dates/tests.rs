//! Why a text is not a date, and the newest day.

use super::*;
use crate::table::Origin;
use arrow_array::ArrayRef;
use rstest::rstest;
use std::sync::Arc;

#[rstest]
#[case::names(&["Petrel", "Bolt Head"],
    "harbour.csv: column `day` cannot be used as dates: 2 of its 2 values are not dates (line 2 \
        `Petrel`, line 3 `Bolt Head`). Choose a column of dates, or give their format \
        (`Reading::read`)")]
#[case::nearly(&["2025-06-30", "soon", "2025-02-30", "30.06.25", "x"],
    "harbour.csv: column `day` cannot be used as dates: 4 of its 5 values are not dates (line 3 \
        `soon`, line 4 `2025-02-30` (February 2025 has 28 days), line 5 `30.06.25` (a year of two \
        digits), …). Correct these cells, mark them as missing (`Reading::missing`), or give the \
        format of the dates (`Reading::read`)")]
#[case::ambiguous(&["05/05/2025", "03/04/2025"],
    "harbour.csv: column `day` does not show whether the day or the month comes first: line 3 \
        `03/04/2025` is 2025-04-03 or 2025-03-04. Choose `Reading::date_order(DateOrder::Dmy)` or \
        `Reading::date_order(DateOrder::Mdy)`")]
#[case::both_orders(&["13/04/2025", "04/13/2025", "14/04/2025"],
    "harbour.csv: column `day` cannot be used as dates: 1 of its 3 values is not a date (line 3 \
        `04/13/2025` (day and month the other way round)). Correct these cells, mark them as \
        missing (`Reading::missing`), or give the format of the dates (`Reading::read`)")]
#[case::offsets(&["2025-06-30T14:05Z", "2025-06-30T14:05"],
    "harbour.csv: column `day` cannot be used as dates: 1 of its 2 values is not a date (line 2 \
        `2025-06-30T14:05Z` (with an offset)). Correct these cells, mark them as missing \
        (`Reading::missing`), or give the format of the dates (`Reading::read`)")]
fn text_used_as_dates_names_the_wrong_cells(#[case] cells: &[&str], #[case] message: &str) {
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
    assert_eq!(message, "column `day` has no dates, so it has no newest date");
}
