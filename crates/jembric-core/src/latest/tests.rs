//! `Latest` and `Earliest` compared with an obvious model, and the laws of the ledger.

use super::*;
use crate::{
    calendar::{Day, Periods},
    ledger::{Ledger, Outcome, Reason},
    table::Origin,
};
use arrow_array::{
    ArrayRef, Date32Array, Int64Array, StringViewArray, TimestampMicrosecondArray,
    cast::AsArray,
    types::{Date32Type, Int64Type},
};
use proptest::prelude::*;
use rstest::rstest;
use std::sync::Arc;

#[derive(Clone, Debug)]
struct Row {
    vessel: Option<u8>,
    day: Option<i32>,
    grade: Option<i64>,
    number: i64,
}

fn table(rows: &[Row], moments: bool) -> Table {
    let days = rows.iter().map(|row| row.day);
    let dates: ArrayRef = if moments {
        // Noon, so that a moment differs from the midnight of its day.
        Arc::new(TimestampMicrosecondArray::from_iter(
            days.map(|day| Some(i64::from(day?) * 86_400_000_000 + 43_200_000_000)),
        ))
    } else {
        Arc::new(Date32Array::from_iter(days))
    };
    let vessels = rows.iter().map(|row| row.vessel.map(|vessel| format!("vessel {vessel}")));
    let columns: [(&str, ArrayRef); 4] = [
        ("vessel", Arc::new(vessels.collect::<StringViewArray>())),
        ("seen_on", dates),
        ("grade", Arc::new(rows.iter().map(|row| row.grade).collect::<Int64Array>())),
        ("number", Arc::new(rows.iter().map(|row| Some(row.number)).collect::<Int64Array>())),
    ];
    Table::from_columns(columns).unwrap()
}

fn numbers(table: &Table) -> Vec<i64> {
    table.column("number").unwrap().as_primitive::<Int64Type>().values().to_vec()
}

/// The settings, apart from the table.
#[derive(Clone, Debug)]
struct Case {
    per_vessel: bool,
    then: bool,
    ties: Ties,
    dates: u32,
    earliest: bool,
    as_of: Option<i32>,
}

impl Case {
    fn apply(&self, table: &Table) -> Result<Outcome> {
        let per = self.per_vessel.then_some("vessel");
        let then = self.then.then_some("grade");
        let mut context = Context::new().reconcile(["grade"]);
        context.as_of = self.as_of.and_then(crate::calendar::Day::from_number);
        if self.earliest {
            Earliest::new("seen_on")
                .per(per)
                .then(then)
                .ties(self.ties)
                .oldest(self.dates)
                .apply_with(table, &context)
        } else {
            Latest::new("seen_on")
                .per(per)
                .then(then)
                .ties(self.ties)
                .newest(self.dates)
                .apply_with(table, &context)
        }
    }

    /// The kept rows, found by loops: a row is kept if fewer than N dates of its entity are better,
    /// and no row with its date wins over it.
    fn model(&self, rows: &[Row]) -> Vec<i64> {
        let considered: Vec<&Row> = rows
            .iter()
            .filter(|row| row.day.is_some_and(|day| self.as_of.is_none_or(|as_of| day <= as_of)))
            .filter(|row| !self.per_vessel || row.vessel.is_some())
            .collect();
        let entity = |row: &Row| if self.per_vessel { row.vessel } else { None };
        let better = |a: i64, b: i64| if self.earliest { a < b } else { a > b };
        let mut kept = Vec::new();
        for row in &considered {
            let peers = || considered.iter().filter(|other| entity(other) == entity(row));
            let better_days: std::collections::BTreeSet<_> = peers()
                .filter_map(|other| other.day)
                .filter(|&day| better(day.into(), row.day.unwrap().into()))
                .collect();
            let beats = |other: &Row| match (other.grade, row.grade) {
                (Some(theirs), Some(own)) => better(theirs, own),
                (theirs, own) => theirs.is_some() && own.is_none(),
            };
            let same_day = || peers().filter(|other| other.day == row.day);
            let ties_with = |other: &Row| !self.then || other.grade == row.grade;
            let position = |of: &Row| considered.iter().position(|other| other.number == of.number);
            let loses = match self.ties {
                Ties::First => {
                    same_day().any(|other| ties_with(other) && position(other) < position(row))
                }
                Ties::Last => {
                    same_day().any(|other| ties_with(other) && position(other) > position(row))
                }
                Ties::All | Ties::Refuse => false,
            };
            if better_days.len() < self.dates as usize
                && !(self.then && same_day().any(|other| beats(other)))
                && !loses
            {
                kept.push(row.number);
            }
        }
        kept
    }
}

fn rows() -> impl Strategy<Value = Vec<Row>> {
    let row = (
        prop::option::weighted(0.9, 0_u8..4),
        prop::option::weighted(0.9, 20_000_i32..20_004),
        prop::option::of(0_i64..3),
    );
    prop::collection::vec(row, 0..30).prop_map(|rows| {
        rows.into_iter()
            .zip(0..)
            .map(|((vessel, day, grade), number)| Row { vessel, day, grade, number })
            .collect()
    })
}

fn case() -> impl Strategy<Value = Case> {
    let ties = prop::sample::select(vec![Ties::All, Ties::First, Ties::Last]);
    (any::<(bool, bool, bool)>(), ties, 1_u32..4, prop::option::of(20_000_i32..20_004)).prop_map(
        |((per_vessel, then, earliest), ties, dates, as_of)| Case {
            per_vessel,
            then,
            ties,
            dates,
            earliest,
            as_of,
        },
    )
}

proptest! {
    #[test]
    fn the_result_agrees_with_the_model_and_the_ledger_balances(rows in rows(),
        case in case(),
        moments: bool) {
        let table = table(&rows, moments);
        let outcome = case.apply(&table).unwrap();
        prop_assert_eq!(numbers(&outcome.table), case.model(&rows));
        let ledger = &outcome.ledger;
        prop_assert!(ledger.balances(), "{}", ledger);
        prop_assert_eq!(ledger.rows_in, rows.len() as u64);
        prop_assert_eq!(outcome.set_aside.rows() as u64,
            ledger.rows(Reason::NoDate) + ledger.rows(Reason::NoKey));
        let sums = &ledger.reconciled[0];
        let parts = sums.kept.clone().plus(&sums.dropped).plus(&sums.set_aside);
        prop_assert_eq!(&parts, &sums.came_in);
    }

    #[test]
    fn the_order_of_rows_does_not_matter(rows in rows(), case in case(),
        seed in any::<u64>()) {
        let case = Case { ties: Ties::All, ..case };
        let mut shuffled = rows.clone();
        fastrand::Rng::with_seed(seed).shuffle(&mut shuffled);
        let (one, other) = (case.apply(&table(&rows, false)).unwrap(),
            case.apply(&table(&shuffled, false)).unwrap());
        let mut other_numbers = numbers(&other.table);
        other_numbers.sort_unstable();
        prop_assert_eq!(numbers(&one.table), other_numbers);
        prop_assert_eq!(one.ledger, other.ledger);
    }

    #[test]
    fn split_by_entity_and_merged_is_the_whole(rows in rows(), case in case()) {
        let case = Case { per_vessel: true, ..case };
        let (left, right): (Vec<Row>,
            Vec<Row>) = rows.iter().cloned().partition(|row| row.vessel
                .is_some_and(|vessel| vessel < 2));
        let [whole, left, right] = [rows, left, right].map(|rows| case.apply(&table(&rows,
            false)).unwrap());
        let mut merged = [numbers(&left.table), numbers(&right.table)].concat();
        merged.sort_unstable();
        prop_assert_eq!(numbers(&whole.table), merged);
        let ledger = left.ledger.merge(&right.ledger);
        for reason in [Reason::Superseded, Reason::TiedWithTheOneKept, Reason::AfterAsOf,
            Reason::NoDate, Reason::NoKey] {
            prop_assert_eq!(ledger.rows(reason), whole.ledger.rows(reason));
        }
        for count in ["entities", "tied records"] {
            prop_assert_eq!(ledger.count(count), whole.ledger.count(count));
        }
        let told = |ledger: &Ledger| {
            let warnings: Vec<String> = ledger.warnings().map(ToString::to_string).collect();
            (ledger.kept, warnings, ledger.reconciled.clone())
        };
        prop_assert_eq!(told(&ledger), told(&whole.ledger));
    }

    #[test]
    fn marking_keeps_all_rows_and_marks_the_same(rows in rows(), moments: bool) {
        let table = table(&rows, moments);
        let latest = Latest::new("seen_on").per(["vessel"]);
        let marked = latest.clone().mark("is_latest").apply(&table).unwrap();
        prop_assert_eq!(numbers(&marked.table), numbers(&table));
        let marks = marked.table.column("is_latest").unwrap().as_boolean();
        let picked: Vec<i64> = marks.iter().zip(numbers(&table)).filter(|(mark,
            _)| *mark == Some(true)).map(|(_, n)| n).collect();
        prop_assert_eq!(picked, numbers(&latest.apply(&table).unwrap().table));
        for (row, mark) in rows.iter().zip(marks) {
            prop_assert_eq!(mark.is_none(), row.day.is_none() || row.vessel.is_none());
        }
    }
}

/// Many rows, so that threads divide the work and records are prefetched.
#[rstest]
#[case(300_000, 50)]
#[case(1_200_000, 700_000)]
fn threads_do_not_change_the_result(#[case] rows: usize, #[case] vessels: i64) {
    let mut random = fastrand::Rng::with_seed(7);
    let ids: Int64Array = (0..rows).map(|_| Some(random.i64(0..vessels))).collect();
    let days: Date32Array = (0..rows).map(|_| Some(random.i32(18_000..18_900))).collect();
    let numbers_column: Int64Array = (0..rows as i64).map(Some).collect();
    let table = Table::from_columns([
        ("vessel", Arc::new(ids.clone()) as ArrayRef),
        ("seen_on", Arc::new(days.clone())),
        ("number", Arc::new(numbers_column)),
    ])
    .unwrap();
    let mut best = vec![i32::MIN; vessels as usize];
    for (id, day) in ids.values().iter().zip(days.values()) {
        best[*id as usize] = best[*id as usize].max(*day);
    }
    let expected: Vec<i64> = (0..rows)
        .filter(|&row| best[ids.value(row) as usize] == days.value(row))
        .map(|row| row as i64)
        .collect();
    for threads in [1, 2, 3] {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
        let outcome =
            pool.install(|| Latest::new("seen_on").per(["vessel"]).apply(&table).unwrap());
        assert!(numbers(&outcome.table) == expected, "{threads} threads");
    }
}

fn inspections() -> Table {
    let row = |vessel, day, grade, number| Row { vessel, day, grade, number };
    let rows = [
        row(Some(1), Some(20_000), Some(3), 0),
        row(Some(1), Some(20_000), Some(3), 1),
        row(Some(2), Some(19_000), None, 2),
        row(Some(2), None, None, 3),
        row(None, Some(20_000), Some(5), 4),
        row(Some(1), Some(19_500), Some(9), 5),
    ];
    table(&rows, false).with_origin(Origin::new("inspections.csv", 2))
}

#[test]
fn the_ledger_reads_as_an_account() {
    let context = Context::new().as_of("2025-06-30".parse().unwrap()).reconcile(["grade"]);
    let outcome =
        Latest::new("seen_on").per(["vessel"]).apply_with(&inspections(), &context).unwrap();
    insta::assert_snapshot!(outcome.ledger, @"
    latest per vessel by seen_on, from inspections.csv, as of 2025-06-30
      rows in       6
      kept          3  entities: 2 · tied records: 2
      dropped       1  superseded by a later record
      set aside     1  date missing (line 5)
                    1  key missing (line 6)
      sum of grade: 20 in = 6 kept + 9 dropped + 5 set aside
      warning: 1 entity has 2 records that tie on `seen_on`, so a sum over the result counts each of them. Break ties with `then`, or choose with `ties`
      balance       6 = 3 kept + 1 dropped + 2 set aside
    ");
    insta::assert_snapshot!(serde_json::to_string_pretty(&outcome.ledger).unwrap(),
        @r#"
    {
      "step": "latest per vessel by seen_on",
      "from": "inspections.csv",
      "as-of": "2025-06-30",
      "rows-in": 6,
      "kept": 3,
      "dropped": [
        {
          "reason": "superseded by a later record",
          "rows": 1
        }
      ],
      "set-aside": [
        {
          "reason": "date missing",
          "rows": 1,
          "lines": [
            5
          ]
        },
        {
          "reason": "key missing",
          "rows": 1,
          "lines": [
            6
          ]
        }
      ],
      "counts": {
        "entities": 2,
        "tied records": 2
      },
      "warnings": [
        "1 entity has 2 records that tie on `seen_on`, so a sum over the result counts each of them. Break ties with `then`, or choose with `ties`"
      ],
      "reconciled": [
        {
          "column": "grade",
          "in": "20",
          "kept": "6",
          "dropped": "9",
          "set-aside": "5"
        }
      ]
    }
    "#);
    let because = outcome.set_aside.column("set_aside_because").unwrap().as_string_view();
    assert_eq!(because.iter().flatten().collect::<Vec<_>>(), ["date missing", "key missing"]);
}

#[test]
fn listed_columns_can_be_renamed_in_the_result() {
    let latest = Latest::new("seen_on").per(["vessel as ship"]).then(["grade"]);
    let outcome = latest.apply(&inspections()).unwrap();
    assert_eq!(outcome.table.names().collect::<Vec<_>>(), ["ship", "seen_on", "grade", "number"]);
    assert_eq!(latest.check(&inspections().shape()).unwrap().columns()[0].name, "ship");
    assert!(outcome.set_aside.column("vessel").is_ok());
    let marked = Latest::new("seen_on")
        .per(["vessel as ship"])
        .mark("vessel")
        .apply(&inspections())
        .unwrap();
    assert_eq!(marked.table.names().last(), Some("vessel"));
    let taken =
        Latest::new("seen_on").per(["vessel as grade"]).check(&inspections().shape()).unwrap_err();
    assert_eq!(taken.to_string(), "the table already has a column `grade`: choose another name");
    assert!(
        Latest::new("seen_on")
            .per(["vesel as ship"])
            .check(&inspections().shape())
            .unwrap_err()
            .to_string()
            .ends_with("Did you mean `vessel`?")
    );
}

#[test]
fn refused_ties_name_the_entities() {
    let error = Latest::new("seen_on")
        .per(["vessel"])
        .ties(Ties::Refuse)
        .apply(&inspections())
        .unwrap_err();
    assert_eq!(
        error.to_string(),
        "2 records of 1 entity tie on `seen_on`, and ties are refused: `vessel 1` on 2024-10-04. \
            Allow them (`ties(\"first\")`), or break them with `then`"
    );
    let without_ties =
        Earliest::new("seen_on").per(["vessel"]).ties(Ties::Refuse).apply(&inspections()).unwrap();
    assert_eq!(numbers(&without_ties.table), [2, 5]);
}

#[rstest]
#[case::misspelt(
    Latest::new("seenon"),
    "inspections.csv: there is no column `seenon`. Did you mean `seen_on`?"
)]
#[case::nothing_near(Latest::new("seen_on").per(["xyz"]),
    "inspections.csv: there is no column `xyz`. The columns are: `vessel`, `seen_on`, `grade`, \
        `number`")]
#[case::numbers(
    Latest::new("grade"),
    "inspections.csv: column `grade` holds whole numbers, but dates are required"
)]
#[case::taken(Latest::new("seen_on").mark("grade"),
    "the table already has a column `grade`: choose another name")]
#[case::none_asked(Latest::new("seen_on").newest(0),
    "`newest` is 0: expected a whole number from 1")]
fn mistakes_are_caught_before_the_data(#[case] latest: Latest, #[case] message: &str) {
    assert_eq!(latest.check(&inspections().shape()).unwrap_err().to_string(), message);
}

#[test]
fn tables_without_rows_and_columns_without_dates_give_empty_results() {
    for table in [table(&[], false), inspections().head(0)] {
        let outcome = Latest::new("seen_on").per(["vessel"]).newest(2).apply(&table).unwrap();
        assert_eq!((outcome.table.rows(), outcome.ledger.balances()), (0, true));
    }
    let blank: ArrayRef = Arc::new(arrow_array::NullArray::new(3));
    let table = Table::from_columns([("seen_on", blank)]).unwrap();
    let outcome = Latest::new("seen_on").apply(&table).unwrap();
    assert_eq!((outcome.table.rows(), outcome.ledger.rows(Reason::NoDate)), (0, 3));
}

#[test]
fn settings_survive_writing_and_reading() {
    let latest = Latest::new("seen_on").per(["vessel"]).ties(Ties::Last).newest(2);
    let written = serde_json::to_string(&latest).unwrap();
    assert_eq!(serde_json::from_str::<Latest>(&written).unwrap(), latest);
    assert_eq!(
        serde_json::from_str::<Latest>(r#"{"date": "seen_on"}"#).unwrap(),
        Latest::new("seen_on")
    );
    assert!(serde_json::from_str::<Latest>(r#"{"date": "seen_on", "oldest": 1}"#).is_err());
    let named: Vec<&str> = Latest::SETTINGS.iter().map(|setting| setting.name).collect();
    let fields = serde_json::to_value(&latest).unwrap();
    assert_eq!(named, fields.as_object().unwrap().keys().collect::<Vec<_>>());
}

#[test]
fn a_column_without_values_does_not_break_ties() {
    let blank: ArrayRef = Arc::new(arrow_array::NullArray::new(6));
    let table = inspections().with_column("blank", blank).unwrap();
    let latest = Latest::new("seen_on").per(["vessel"]);
    let outcome = latest.clone().then(["blank"]).apply(&table).unwrap();
    assert_eq!(numbers(&outcome.table), numbers(&latest.apply(&table).unwrap().table));
}

#[test]
fn cells_that_are_nan_are_counted_in_the_ledger() {
    let levels: ArrayRef = Arc::new(arrow_array::Float64Array::from(vec![1.0, f64::NAN]));
    let table = Table::from_columns([
        ("day", Arc::new(Date32Array::from(vec![1, 2])) as ArrayRef),
        ("level", levels),
    ])
    .unwrap();
    let ledger = Latest::new("day").apply(&table).unwrap().ledger;
    assert_eq!(ledger.count("NaN cells counted as missing"), 1);
}

#[test]
fn numbered_entities_can_be_used_directly() {
    let table = inspections();
    let ids = vec![0, 0, 1, 1, Entities::NONE, 0];
    let rows = latest_rows(&Entities::from_ids(ids, 2).unwrap(), &table, "seen_on").unwrap();
    assert_eq!(rows.set_indices().collect::<Vec<_>>(), [0, 1, 2]);
    assert!(Entities::from_ids(vec![2], 2).is_none());
    assert!(latest_rows(&Entities::from_ids(vec![0], 1).unwrap(), &table, "seen_on").is_err());
}

/// The first and last day of the calendar are sorted correctly, as dates and as moments.
#[rstest]
#[case(true)]
#[case(false)]
fn the_first_and_last_day_of_the_calendar_are_ordinary_dates(#[case] moments: bool) {
    let days = [crate::calendar::Day::MAX.number(), 0, crate::calendar::Day::MIN.number()];
    let rows: Vec<Row> = days
        .iter()
        .zip(0..)
        .map(|(&day, number)| Row { vessel: Some(1), day: Some(day), grade: None, number })
        .collect();
    let table = table(&rows, moments);
    assert_eq!(numbers(&Latest::new("seen_on").apply(&table).unwrap().table), [0]);
    assert_eq!(numbers(&Earliest::new("seen_on").apply(&table).unwrap().table), [2]);
    let last = Context::new().as_of(crate::calendar::Day::MAX);
    assert_eq!(
        Latest::new("seen_on").apply_with(&table, &last).unwrap().ledger.rows(Reason::AfterAsOf),
        0
    );
}

#[test]
fn a_moment_on_the_as_of_date_counts() {
    let row = |day, number| Row { vessel: Some(1), day: Some(day), grade: None, number };
    let table = table(&[row(20_000, 0), row(20_001, 1)], true);
    let context = Context::new().as_of(crate::calendar::Day::from_number(20_000).unwrap());
    let outcome = Latest::new("seen_on").apply_with(&table, &context).unwrap();
    assert_eq!((numbers(&outcome.table), outcome.ledger.rows(Reason::AfterAsOf)), (vec![0], 1));
}

/// For every period and entity, the record with the greatest date up to its end.
fn states_by_hand(rows: &[(i64, i32)], grain: Grain, as_of: Option<i32>) -> Vec<(i32, i64, i32)> {
    let periods = Periods::from(grain);
    let number = |day: i32| periods.number(Day::from_number(day).unwrap());
    let rows: Vec<_> = rows.iter().filter(|row| as_of.is_none_or(|day| row.1 <= day)).collect();
    let Some(first) = rows.iter().map(|row| number(row.1)).min() else { return Vec::new() };
    let last = as_of.map_or_else(|| rows.iter().map(|row| number(row.1)).max().unwrap(), number);
    let mut states = Vec::new();
    for period in first..=last {
        let end = periods.numbered(period).last().number();
        let end = as_of.map_or(end, |day| end.min(day));
        for entity in 0..4 {
            let then =
                rows.iter().filter(|row| row.0 == entity && row.1 <= end).map(|row| row.1).max();
            let tied = rows.iter().filter(|row| row.0 == entity && Some(row.1) == then);
            states.extend(tied.map(|row| (end, row.0, row.1)));
        }
    }
    states
}

proptest! {
    #[test]
    fn a_state_is_the_latest_record_at_the_end_of_each_period(
        rows in prop::collection::vec((0_i64..4, 20_000_i32..20_100), 0..20),
        grain in prop::sample::select(vec![Grain::Day, Grain::Week, Grain::Month, Grain::Quarter,
            Grain::Year]),
        as_of in prop::option::of(20_020_i32..20_150),
    ) {
        let table = Table::from_columns([
            ("who", Arc::new(rows.iter().map(|row| Some(row.0))
                .collect::<Int64Array>()) as ArrayRef),
            ("day", Arc::new(rows.iter().map(|row| Some(row.1)).collect::<Date32Array>())),
        ]).unwrap();
        let context = as_of.and_then(Day::from_number).map_or(Context::new(),
            |day| Context::new().as_of(day));
        let outcome = Latest::new("day").per(["who"]).at_each(grain).apply_with(&table,
            &context).unwrap();
        let number = |name: &str,
            row: usize| outcome.table.column(name).unwrap().as_primitive::<Date32Type>().value(row);
        let who = |row: usize| outcome.table.column("who").unwrap().as_primitive::<Int64Type>()
            .value(row);
        let states: Vec<_> =
            (0..outcome.table.rows()).map(|row| (number("state_on", row), who(row), number("day",
                row))).collect();
        prop_assert_eq!(states, states_by_hand(&rows, grain, as_of));
        prop_assert!(outcome.ledger.balances());
    }
}

#[rstest]
#[case(Latest::new("day").at_each(Grain::Hour), "`at-each` is hour: expected a day or longer")]
#[case(Latest::new("day").at_each(Grain::Day).mark("m"),
    "`mark` cannot be used together with `at-each`")]
#[case(Latest::new("day").at_each(Grain::Day).newest(2), "`newest` is more than 1")]
#[case(Latest::new("day").at_each(Grain::Day).most_rows(3),
    "the result would have 4 rows, more than the limit of 3. Choose a longer grain, or raise the \
        limit: `most_rows(4)`")]
fn states_that_cannot_be(#[case] latest: Latest, #[case] expected: &str) {
    let days: ArrayRef = Arc::new(Date32Array::from(vec![0, 3]));
    let error =
        latest.apply(&Table::from_columns([("day", days)]).unwrap()).unwrap_err().to_string();
    assert!(error.contains(expected), "{error}");
}
