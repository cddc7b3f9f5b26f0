//! The text of a ledger, and when it warns.

use super::*;
use crate::{Active, Filter, Latest, Recent, Running, Totals, Within, sample};
use rstest::rstest;

fn warnings(ledger: &Ledger) -> Vec<String> {
    ledger.warnings().map(ToString::to_string).collect()
}

const STAYS: &str = "who:text left:date arrived:date tons:number
A 2025-01-09 2025-01-03 1200
A 2025-02-09 2025-02-03 900
B 2025-03-09 2025-03-03 -
B 2025-04-01 2025-04-03 7000";

#[test]
fn the_form_for_people_has_group_separators_and_the_plain_one_has_none() {
    let table = sample::table(STAYS);
    let context = Context::new().reconcile(["tons"]);
    let ledger = Filter::new("tons > 1000").apply_with(&table, &context).unwrap().ledger;
    insta::assert_snapshot!(format!("{ledger}"), @"
    filter tons > 1000
      rows in       4
      kept          2
      dropped       1  condition false
                    1  condition unknown (missing value)
      sum of tons: 9100 in = 8200 kept + 900 dropped
      balance       4 = 2 kept + 2 dropped
    ");
    insta::assert_snapshot!(format!("{ledger:#}"), @"
    filter tons > 1000
      rows in       4
      kept          2
      dropped       1  condition false
                    1  condition unknown (missing value)
      sum of tons: 9,100 in = 8,200 kept + 900 dropped
      balance       4 = 2 kept + 2 dropped
    ");
}

#[test]
fn swapped_columns_of_an_interval_are_suspected() {
    let table = sample::table(STAYS);
    // With these names, three of four intervals end before they start.
    let active = Active::new("left", "arrived");
    let expected =
        "3 of 4 intervals end before they start: are `left` and `arrived` swapped?".to_owned();
    let told = warnings(&active.apply(&table).unwrap().ledger);
    assert_eq!(told, std::slice::from_ref(&expected));
    assert_eq!(warnings(&active.count().apply(&table).unwrap().ledger), [expected]);
    let right = Active::new("arrived", "left").apply(&table).unwrap().ledger;
    assert_eq!(warnings(&right), [""; 0]);
}

#[rstest]
#[case("2024-12-31", Some("every `arrived` is after the as-of date: is the as-of date right?"))]
#[case("2025-01-03", None)]
fn an_as_of_date_before_all_dates_is_suspected(
    #[case] as_of: &str,
    #[case] expected: Option<&str>,
) {
    let context = Context::new().as_of(as_of.parse().unwrap());
    let outcome =
        Latest::new("arrived").per(["who"]).apply_with(&sample::table(STAYS), &context).unwrap();
    assert_eq!(warnings(&outcome.ledger), Vec::from_iter(expected.map(str::to_owned)));
}

#[test]
fn a_condition_that_is_unknown_everywhere_is_suspected() {
    let table = sample::table("a:number b:number\n1 -\n2 -");
    let ledger = Filter::new("a < b").apply(&table).unwrap().ledger;
    assert_eq!(warnings(&ledger).len(), 1, "{ledger}");
    assert!(warnings(&ledger)[0].contains("`is missing`"), "{ledger}");
    // One row with a known result shows that the condition can be evaluated.
    let table = sample::table("a:number b:number\n1 -\n2 3");
    assert_eq!(warnings(&Filter::new("a < b").apply(&table).unwrap().ledger), [""; 0]);
}

#[test]
fn keys_that_never_match_are_suspected() {
    let stays = sample::table(STAYS);
    let lifts = sample::table("crane:text on:date\nC1 2025-01-04\nC2 2025-02-05");
    let joined = |key: &str| {
        let window = "arrived..left".parse().unwrap();
        let within = Within::new("on", window).matching([key]);
        warnings(&within.apply(&lifts, &stays).unwrap().ledger)
    };
    assert_eq!(
        joined("crane=who"),
        ["no event matches a window: `crane` and `who` of the windows have no value in common. \
            Are these the right columns to match?"]
    );
}

#[rstest]
#[case("d:date\n-\n-\n2025-01-01", Some("`d` is missing in 2 of 3 rows: is it the right column?"))]
#[case("d:date\n-\n2025-01-01", None)]
fn a_date_that_is_mostly_missing_is_suspected(#[case] table: &str, #[case] expected: Option<&str>) {
    let table = sample::table(table);
    let expected = Vec::from_iter(expected.map(str::to_owned));
    let ledgers = [
        Latest::new("d").apply(&table).unwrap().ledger,
        Running::new("d").count().apply(&table).unwrap().ledger,
        Recent::last("d", "2 days".parse().unwrap()).apply(&table).unwrap().ledger,
    ];
    for ledger in ledgers {
        assert_eq!(warnings(&ledger), expected, "{ledger}");
    }
}

#[test]
fn a_range_without_any_row_is_suspected() {
    let range = "2030".parse().unwrap();
    let expected = ["every row lies outside the range: is the range right?"];
    let table = sample::table(STAYS);
    let totals = Totals::new().date(["arrived"]).range(range).apply(&table).unwrap();
    assert_eq!(warnings(&totals.ledger), expected, "{}", totals.ledger);
    let recent = Recent::range("arrived", range).apply(&table).unwrap();
    assert_eq!(warnings(&recent.ledger), expected, "{}", recent.ledger);
}

/// Whether a warning is due depends on all parts together.
#[test]
fn parts_of_a_table_warn_as_the_whole_does() {
    let table = sample::table(STAYS);
    let active = Active::new("left", "arrived");
    let [most, one] =
        [table.slice(0, 3), table.slice(3, 1)].map(|part| active.apply(&part).unwrap().ledger);
    assert_eq!(warnings(&one), [""; 0]);
    let whole = active.apply(&table).unwrap().ledger;
    assert_eq!(warnings(&one.merge(&most)), warnings(&whole));
}
