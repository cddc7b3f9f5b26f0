use super::*;
use crate::ledger::Reason;
use arrow_array::{
    Array, ArrayRef, Date32Array, Int64Array, StringViewArray, TimestampMicrosecondArray,
    cast::AsArray, types::Int64Type,
};
use arrow_cast::display::array_value_to_string;
use proptest::prelude::*;
use rstest::rstest;
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

fn shown(table: &Table) -> Vec<String> {
    let row = |row| {
        let cells =
            table.columns().iter().map(|column| array_value_to_string(column, row).unwrap());
        cells.collect::<Vec<_>>().join(" ")
    };
    (0..table.rows()).map(row).collect()
}

fn stays(rows: &[(&str, &str, &str)]) -> Table {
    let day = |text: &str| text.parse::<Day>().ok().map(Day::number);
    let dates = |of: fn(&(&str, &str, &str)) -> String| -> ArrayRef {
        Arc::new(rows.iter().map(|row| day(&of(row))).collect::<Date32Array>())
    };
    let who: ArrayRef = Arc::new(
        rows.iter()
            .map(|row| Some(row.0).filter(|who| !who.is_empty()))
            .collect::<StringViewArray>(),
    );
    Table::from_columns([
        ("who", who),
        ("a", dates(|row| row.1.to_owned())),
        ("z", dates(|row| row.2.to_owned())),
    ])
    .unwrap()
}

// B  ████              ██
// B     ███                touches the next
// B        ██
// A  ██  ██
#[rstest]
#[case::touching(Spells::of_intervals("a", "z"), &["A 2025-01-01 2025-01-02 2 1",
    "A 2025-01-05 2025-01-06 2 1", "B 2025-01-01 2025-01-08 8 3", "B 2025-01-20 2025-01-21 2 1"])]
#[case::gaps(Spells::of_intervals("a", "z").join_gaps(2), &["A 2025-01-01 2025-01-06 6 2",
    "B 2025-01-01 2025-01-08 8 3", "B 2025-01-20 2025-01-21 2 1"])]
#[case::idle(Spells::of_intervals("a", "z").idle(), &["A 2025-01-03 2025-01-04 2",
    "B 2025-01-09 2025-01-19 11"])]
#[case::free(Spells::of_intervals("a", "z").end_day(EndDay::Exclusive),
    &["A 2025-01-01 2025-01-02 1 1", "A 2025-01-05 2025-01-06 1 1", "B 2025-01-01 2025-01-06 5 2",
        "B 2025-01-07 2025-01-08 1 1", "B 2025-01-20 2025-01-21 1 1"])]
fn spells_of_each_entity(#[case] spells: Spells, #[case] expected: &[&str]) {
    let table = stays(&[
        ("B", "2025-01-20", "2025-01-21"),
        ("B", "2025-01-01", "2025-01-04"),
        ("A", "2025-01-05", "2025-01-06"),
        ("B", "2025-01-04", "2025-01-06"),
        ("A", "2025-01-01", "2025-01-02"),
        ("B", "2025-01-07", "2025-01-08"),
    ]);
    let outcome = spells.per(["who"]).apply(&table).unwrap();
    assert_eq!(shown(&outcome.table), expected);
    assert!(outcome.ledger.balances());
}

#[test]
fn rows_that_are_not_intervals_are_accounted_for() {
    let table = stays(&[
        ("A", "2025-01-01", ""),
        ("A", "2025-01-05", "2025-01-04"),
        ("", "2025-01-01", "2025-01-02"),
        ("", "", ""),
        ("A", "", ""),
    ]);
    let context = Context::new().as_of("2025-01-10".parse().unwrap());
    let outcome = Spells::of_intervals("a", "z").per(["who"]).apply_with(&table, &context).unwrap();
    assert_eq!(shown(&outcome.table), ["A 2025-01-01  10 1"]);
    let reasons = [Reason::EndBeforeStart, Reason::NoKey, Reason::NoStart]
        .map(|reason| outcome.ledger.rows(reason));
    assert_eq!(
        (reasons, outcome.ledger.count("without an end"), outcome.ledger.as_of),
        ([1, 1, 2], 1, context.as_of)
    );
    assert!(outcome.ledger.balances());
}

#[rstest]
#[case::alone(None, &["A x 2025-01-01 2025-01-09 9 2", "A  2025-01-10 2025-01-11 2 1",
    "A x 2025-01-12   1", "B y 2025-01-03   1"], 0)]
#[case::as_of(Some("2025-01-10"), &["A x 2025-01-01 2025-01-09 9 2", "A  2025-01-10  1 1",
    "B y 2025-01-03  8 1"], 1)]
fn states_hold_until_the_next_one(
    #[case] as_of: Option<&str>,
    #[case] expected: &[&str],
    #[case] after: u64,
) {
    let states = [
        ("A", "2025-01-05", "x"),
        ("B", "2025-01-03", "y"),
        ("A", "2025-01-01", "x"),
        ("A", "2025-01-12", "x"),
        ("A", "2025-01-10", ""),
        ("A", "", "z"),
    ];
    let table = stays(&states.map(|(who, date, _)| (who, date, "")));
    let values: ArrayRef = Arc::new(
        states
            .iter()
            .map(|row| Some(row.2).filter(|value| !value.is_empty()))
            .collect::<StringViewArray>(),
    );
    let table = table.with_column("state", values).unwrap();
    let context = Context { as_of: as_of.map(|day| day.parse().unwrap()), ..Context::new() };
    let outcome =
        Spells::of_states("a", ["state"]).per(["who"]).apply_with(&table, &context).unwrap();
    assert_eq!(shown(&outcome.table), expected);
    assert_eq!(
        [Reason::AfterAsOf, Reason::NoDate].map(|reason| outcome.ledger.rows(reason)),
        [after, 1]
    );
    assert!(outcome.ledger.balances());
}

#[test]
fn of_several_states_on_a_day_the_last_moment_counts_and_then_the_greatest_value() {
    let hour = |hours: i64| hours * 3_600_000_000;
    let at: ArrayRef =
        Arc::new(TimestampMicrosecondArray::from(vec![hour(10), hour(9), hour(10), hour(30)]));
    let level: ArrayRef = Arc::new(Int64Array::from(vec![1, 9, 2, 3]));
    let table = Table::from_columns([("at", at), ("level", level)]).unwrap();
    let outcome = Spells::of_states("at", ["level"]).apply(&table).unwrap();
    assert_eq!(shown(&outcome.table), ["2 1970-01-01 1970-01-01 1 3", "3 1970-01-02   1"]);
    let counts = ["records replaced on the same day", "ties decided by the greatest value"]
        .map(|name| outcome.ledger.count(name));
    assert_eq!(counts, [1, 1]);
}

#[rstest]
#[case(Spells::default(), "`start` is not given")]
#[case(Spells { end: None, ..Spells::of_intervals("a", "z") }, "`end` is not given")]
#[case(Spells { date: Some("a".into()), ..Spells::of_intervals("a", "z") },
    "`date` cannot be used together with `start` and `end`")]
#[case(Spells { value: vec!["who".into()], ..Spells::of_intervals("a", "z") }, "`value` is given")]
#[case(Spells { value: vec![], ..Spells::of_states("a", ["who"]) }, "`value` is not given")]
#[case(Spells::of_states("a", ["who"]).idle(),
    "`date` cannot be used together with `join-gaps`, `idle`, `end-day`, `open-ends` and \
        `never-ends`, which need `start` and `end`")]
#[case(Spells::of_intervals("a", "who"), "column `who` cannot be used as dates")]
#[case(Spells::of_intervals("a", "z").open_ends(OpenEnds::Refuse), "1 row has no `z`")]
fn invalid_requests_are_refused(#[case] spells: Spells, #[case] begins: &str) {
    let error = spells.apply(&stays(&[("A", "2025-01-01", "")])).unwrap_err().to_string();
    assert!(error.starts_with(begins), "{error}");
}

proptest! {
    #[test]
    fn a_spell_is_a_run_of_marked_days(
        rows in prop::collection::vec((0_i64..3, 0_i32..120, 0_i32..15), 0..40),
        join_gaps in 0_u32..4,
        as_of in prop::option::of(0_i32..140),
    ) {
        let until = as_of.unwrap_or(i32::MAX);
        let mut marked: BTreeMap<i64, BTreeSet<i32>> = BTreeMap::new();
        let mut going_on = BTreeSet::new();
        for &(who, first, length) in rows.iter().filter(|row| row.1 <= until) {
            marked.entry(who).or_default().extend(first..=(first + length).min(until));
            going_on.extend((first + length > until).then_some(who));
        }
        let (mut spells, mut holes) = (Vec::new(), Vec::new());
        for (&who, days) in &marked {
            let mut runs: Vec<(i32, i32)> = Vec::new();
            for &day in days {
                match runs.last_mut() {
                    Some(run) if day - run.1 - 1 <= join_gaps as i32 => run.1 = day,
                    _ => runs.push((day, day)),
                }
            }
            holes.extend(runs.windows(2).map(|two| (who, two[0].1 + 1, two[1].0 - 1)));
            spells.extend(runs.into_iter().map(|(first, last)| {
                let end = Some(last).filter(|&last| last < until || !going_on.contains(&who));
                (who, first, end, last - first + 1)
            }));
        }
        let holes = holes.into_iter().map(|(who, first, last): (i64, i32, i32)| {
            (who, first, Some(last), last - first + 1)
        });
        let holes = holes.collect();
        let mut context = Context::new();
        context.as_of = as_of.and_then(crate::calendar::Day::from_number);
        let table = Table::from_columns([
            ("who", Arc::new(rows.iter().map(|row| Some(row.0))
                .collect::<Int64Array>()) as ArrayRef),
            ("a", Arc::new(rows.iter().map(|row| Some(row.1)).collect::<Date32Array>())),
            ("z", Arc::new(rows.iter().map(|row| Some(row.1 + row.2)).collect::<Date32Array>())),
        ]).unwrap();
        let of_intervals = Spells::of_intervals("a", "z").per(["who"]).join_gaps(join_gaps);
        for (operation, expected) in [(of_intervals.clone(), spells), (of_intervals.idle(),
            holes)] {
            let outcome = operation.apply_with(&table, &context).unwrap();
            let of = |name: &str| outcome.table.column(name).unwrap();
            let days = |name: &str| of(name).as_primitive::<arrow_array::types::Date32Type>();
            let whole = |name: &str| of(name).as_primitive::<Int64Type>();
            let got: Vec<_> = (0..outcome.table.rows()).map(|row| {
                let end = days("end");
                let end = end.is_valid(row).then(|| end.value(row));
                (whole("who").value(row), days("start").value(row), end,
                    whole("days").value(row) as i32)
            }).collect();
            prop_assert_eq!(got, expected);
            let later = rows.iter().filter(|row| row.1 > until).count();
            prop_assert_eq!(outcome.ledger.rows(Reason::AfterAsOf) as usize, later);
            if !operation.idle {
                let records: i64 = outcome.table.column("records").unwrap()
                    .as_primitive::<Int64Type>().values().iter().sum();
                prop_assert_eq!(records as usize, rows.len() - later);
            }
        }
    }
}

fn entities(rows: &[(i64, i32, i32)]) -> Table {
    let days = |of: fn(&(i64, i32, i32)) -> i32| -> ArrayRef {
        Arc::new(rows.iter().map(|row| Some(of(row))).collect::<Date32Array>())
    };
    let who: ArrayRef = Arc::new(rows.iter().map(|row| Some(row.0)).collect::<Int64Array>());
    Table::from_columns([("who", who), ("a", days(|row| row.1)), ("z", days(|row| row.2))]).unwrap()
}

proptest! {
    #[test]
    fn entities_processed_separately_and_merged_are_the_whole_in_any_order(
        rows in prop::collection::vec((0_i64..4, 0_i32..60, 0_i32..12), 0..40),
        (gaps, idle) in (0_u32..3, any::<bool>()),
    ) {
        let rows: Vec<_> = rows.iter().map(|&(who, start, length)| (who, start,
            start + length - 1)).collect();
        let mut spells = Spells::of_intervals("a", "z").per(["who"]).join_gaps(gaps);
        spells.idle = idle;
        let whole = spells.apply(&entities(&rows)).unwrap();
        let mut turned = rows.clone();
        turned.reverse();
        let backwards = spells.apply(&entities(&turned)).unwrap();
        prop_assert_eq!(shown(&whole.table), shown(&backwards.table));
        prop_assert_eq!(&whole.ledger, &backwards.ledger);
        // The entities are sorted, so that the results of each are next to each other.
        let (mut lines, mut ledgers) = (Vec::new(), Vec::new());
        for who in 0..4 {
            let own: Vec<_> = rows.iter().filter(|row| row.0 == who).copied().collect();
            let part = spells.apply(&entities(&own)).unwrap();
            lines.extend(shown(&part.table));
            ledgers.push(part.ledger);
        }
        prop_assert_eq!(lines, shown(&whole.table));
        let merged = ledgers.iter().skip(1).fold(ledgers[0].clone(), |all, part| all.merge(part));
        prop_assert_eq!((merged.kept, merged.rows_in), (whole.ledger.kept, whole.ledger.rows_in));
        prop_assert_eq!(merged.rows(Reason::EndBeforeStart),
            whole.ledger.rows(Reason::EndBeforeStart));
    }
}
