//! A suggestion reads every cell or marks it as missing; otherwise there is no suggestion.

use super::*;
use proptest::prelude::*;
use rstest::rstest;

fn dates(cells: &[&str]) -> Option<SuggestedReading> {
    SuggestedReading::of_dates(&StringViewArray::from_iter_values(cells.iter().copied()))
}

#[rstest]
#[case(&["25/11/63", "03/02/64"], "%d/%m/%y", Some(1900))]
#[case(&["11/25/63", "02/03/64"], "%m/%d/%y", Some(1900))]
#[case(&["25.11.24", "03.02.25"], "%d.%m.%y", Some(2000))]
#[case(&["25.11.63", "03.02.05"], "%d.%m.%y", Some(1950))]
#[case(&["25-11-2024", "03-02-2025"], "%d-%m-%Y", None)]
#[case(&["25Nov2024", "03Feb2025"], "%d %b %Y", None)]
#[case(&["25112024", "03022025"], "%d %m %Y", None)]
#[case(&["Mon, 30 Jun 2025", "Tue, 1 Jul 2025"], "%a, %d %b %Y", None)]
#[case(&["30.06.25 14:05", "01.07.25 09:30"], "%d.%m.%y %H:%M", Some(2000))]
#[case(&["30 June 25", "1 July 25"], "%d %B %y", Some(2000))]
fn the_format_of_the_cells_is_found(
    #[case] cells: &[&str],
    #[case] format: &str,
    #[case] century: Option<i16>,
) {
    let suggested = dates(cells).unwrap();
    assert_eq!((suggested.format.as_deref(), suggested.century), (Some(format), century));
    assert_eq!(suggested.missing, [""; 0]);
}

#[rstest]
// Texts that are not dates.
#[case(&["Petrel", "Wend"])]
// No format matches more than half of the cells.
#[case(&["25/11/63", "1963-11-26", "26.11.63", "Wend"])]
// Too many distinct texts to mark as missing.
#[case(&["25/11/63", "26/11/63", "27/11/63", "28/11/63", "29/11/63", "a", "b", "c", "d"])]
// A text with a comma cannot be listed between commas.
#[case(&["25/11/63", "26/11/63", "27/11/63", "none, yet"])]
fn nothing_is_suggested_that_would_not_work(#[case] cells: &[&str]) {
    assert_eq!(dates(cells), None);
}

#[test]
fn a_few_texts_among_dates_are_suggested_to_be_missing() {
    let suggested =
        dates(&["25/11/63", "-", "26/11/63", "n/a", "27/11/63", "-", "28/11/63"]).unwrap();
    assert_eq!(suggested.format.as_deref(), Some("%d/%m/%y"));
    assert_eq!(suggested.missing, ["-", "n/a"]);
    let marks = SuggestedReading::of_marks(["-", "-"].into_iter()).unwrap();
    assert_eq!((marks.format, marks.missing), (None, vec!["-".to_owned()]));
    assert_eq!(SuggestedReading::of_marks(["a", "b", "c", "d"].into_iter()), None);
}

#[rstest]
#[case(&[20_250_630, 20_240_229], Some("%Y%m%d"))]
#[case(&[202_506, 202_412], Some("month"))]
#[case(&[45_838, 45_839], Some("serial"))]
#[case(&[20_250_630, 20_250_230], None)]
#[case(&[1, 2], None)]
#[case(&[], None)]
fn whole_numbers_may_be_dates(#[case] numbers: &[i64], #[case] format: Option<&str>) {
    let numbers = Int64Array::from(numbers.to_vec());
    let suggested = SuggestedReading::of_whole_numbers(&numbers);
    assert_eq!(suggested.and_then(|suggested| suggested.format).as_deref(), format);
}

#[rstest]
#[case(&["1,5", "-2,25"], &["3"], true)]
#[case(&["1,5", "-2,25"], &["3.5"], false)]
#[case(&["1,5", "none"], &["3"], false)]
#[case(&["1,5,0"], &["3"], false)]
fn a_decimal_comma_is_suggested_if_all_cells_have_it(
    #[case] bad: &[&str],
    #[case] good: &[&str],
    #[case] comma: bool,
) {
    let suggested = SuggestedReading::of_numbers(bad.iter().copied(), good.iter().copied());
    assert_eq!(suggested.is_some_and(|suggested| suggested.decimal_comma), comma);
}

proptest! {
    /// The suggested format reads dates that were written in any of the formats.
    #[test]
    fn a_suggested_format_reads_every_cell(
        place in 0..formats().count(),
        days in prop::collection::vec((2000_i32..2050, 1_u32..13, 1_u32..29), 1..20),
    ) {
        let format = formats().nth(place).unwrap();
        let cells: Vec<String> = days
            .iter()
            .map(|&(year, month, day)| {
                let date = jiff::civil::date(year as i16, month as i8, day as i8).at(14, 5, 9, 0);
                jiff::fmt::strtime::format(&format, date).unwrap()
            })
            .collect();
        let array = StringViewArray::from_iter_values(cells.iter());
        let suggested = SuggestedReading::of_dates(&array);
        let suggested = suggested.ok_or_else(|| TestCaseError::fail(format!("{cells:?}")))?;
        let format = Directives::new(suggested.format.as_deref().unwrap(), suggested.century);
        let format = format.unwrap();
        for cell in cells {
            let read = Cell::new(&cell).is_some_and(|cell| cell.fits(&format));
            prop_assert!(read || suggested.missing.contains(&cell), "{cell}: {format:?}");
        }
    }
}
