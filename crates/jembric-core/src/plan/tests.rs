//! A fold gives the same bytes as one batch, for any division into batches and any order of
//! merging.

use super::*;
use crate::{
    Active, Almanac, Earliest, Latest, Look, LookFold, OpenEnds, Operation, Recent, Ties, Totals,
    calendar::{Grain, Span},
    sample::shown,
    table::Origin,
};
use arrow_array::{ArrayRef, BooleanArray, Date32Array, Float64Array, Int64Array, StringViewArray};
use proptest::prelude::*;
use rstest::rstest;
use std::{collections::BTreeSet, sync::Arc};

mod divided;
mod in_pieces;
mod laws;
mod numbered;
mod roles;

#[derive(Clone, Debug)]
struct Row {
    vessel: Option<u8>,
    berth: Option<u8>,
    day: Option<i32>,
    length: Option<i32>,
    tons: Option<i64>,
    level: Option<f64>,
}

/// Few days, vessels and values, so that ties and missing values are common.
fn row() -> impl Strategy<Value = Row> {
    let level = prop_oneof![Just(0.1), Just(-3.4e38), -1e3..1e3_f64, Just(2.5e-17)];
    let maybe = |chance, values: BoxedStrategy<i32>| prop::option::weighted(chance, values);
    (
        prop::option::weighted(0.9, 0..4_u8),
        prop::option::weighted(0.8, 0..3_u8),
        maybe(0.9, (20_000..20_060_i32).boxed()),
        maybe(0.8, (-3..40_i32).boxed()),
        prop::option::weighted(0.8, -5..5_i64),
        prop::option::weighted(0.8, level),
    )
        .prop_map(|(vessel, berth, day, length, tons, level)| Row {
            vessel,
            berth,
            day,
            length,
            tons,
            level,
        })
}

fn table(rows: &[Row]) -> Table {
    let text = |prefix: &str, of: fn(&Row) -> Option<u8>| -> ArrayRef {
        let names = rows.iter().map(|row| of(row).map(|n| format!("{prefix}{n}")));
        Arc::new(names.collect::<StringViewArray>())
    };
    let end = |row: &Row| row.day.zip(row.length).map(|(day, length)| day + length);
    let columns: Vec<(&str, ArrayRef)> = vec![
        ("vessel", text("v", |row| row.vessel)),
        ("berth", text("b", |row| row.berth)),
        ("start", Arc::new(rows.iter().map(|row| row.day).collect::<Date32Array>())),
        ("end", Arc::new(rows.iter().map(end).collect::<Date32Array>())),
        ("tons", Arc::new(rows.iter().map(|row| row.tons).collect::<Int64Array>())),
        ("level", Arc::new(rows.iter().map(|row| row.level).collect::<Float64Array>())),
        (
            "odd",
            Arc::new(rows.iter().map(|row| row.tons.map(|n| n % 2 != 0)).collect::<BooleanArray>()),
        ),
    ];
    let mut origin = Origin::new("stays.csv", 2);
    (0..rows.len() as u32)
        .filter(|row| row % 5 == 3)
        .for_each(|row| origin.jump(row, 3 + 2 * u64::from(row)));
    Table::from_columns(columns).unwrap().with_origin(origin)
}

fn context() -> Context {
    Context::new().reconcile(["tons", "level"]).follow("tons > 1".parse().unwrap())
}

/// Everything in an outcome.
fn said(outcome: &Outcome) -> Vec<String> {
    let Outcome { table, ledger, set_aside } = outcome;
    let mut said = vec![table.names().collect::<Vec<_>>().join(" "), ledger.to_string()];
    said.push(serde_json::to_string(ledger).unwrap());
    said.extend(shown(table));
    said.push(set_aside.names().collect::<Vec<_>>().join(" "));
    said.extend(shown(set_aside));
    said
}

/// The bounds of the batches of a table.
fn bounds(table: &Table, cuts: &[usize]) -> Vec<usize> {
    let mut bounds: Vec<usize> = cuts.iter().map(|cut| cut % (table.rows() + 1)).collect();
    bounds.extend([0, table.rows()]);
    bounds.sort_unstable();
    bounds
}

/// Folds parts of a table in several states, which are merged in some order.
fn folded(
    plan: &Plan,
    table: &Table,
    cuts: &[usize],
    states: usize,
    backwards: bool,
) -> Result<Outcome> {
    let bounds = bounds(table, cuts);
    let mut folds: Vec<Fold> =
        (0..states).map(|_| plan.begin().expect("it needs one pass")).collect();
    for (n, bounds) in bounds.windows(2).enumerate() {
        let batch = table.slice(bounds[0], bounds[1] - bounds[0]);
        folds[n % states].take(&batch, bounds[0] as u64)?;
        // What is forgotten between batches makes no difference.
        if bounds[1] % 3 == 0 {
            folds[n % states].compact()?;
        }
    }
    if backwards {
        folds.reverse();
    }
    let mut folds = folds.into_iter();
    let mut all = folds.next().expect("there is a state");
    folds.enumerate().try_for_each(|(n, fold)| match n % 2 {
        // As the state of another process.
        0 => all.merge_packed(&fold.packed()?),
        _ => all.merge(fold),
    })?;
    all.finish()
}

fn operations() -> Vec<Box<dyn Operation>> {
    let latest = || Latest::new("start").per(["vessel"]);
    let totals = || Totals::new().date(["start"]).grain(Grain::Week).per(["vessel"]);
    let active = || Active::new("start", "end").count().sum(["tons", "level"]).grain(Grain::Week);
    vec![
        Box::new(latest()),
        Box::new(latest().then(["tons"])),
        Box::new(latest().ties(Ties::First)),
        Box::new(latest().ties(Ties::Last).then(["berth"])),
        Box::new(latest().newest(2_u32)),
        Box::new(latest().at_each(Grain::Week).ties(Ties::First)),
        Box::new(Latest::new("start")),
        Box::new(Earliest::new("end").per(["vessel", "berth"]).then(["level"])),
        Box::new(Earliest::new("end").oldest(3_u32).ties(Ties::Last)),
        Box::new(Recent::last("start", Span::days(7))),
        Box::new(Recent::previous("start", 2, Grain::Week)),
        Box::new(totals().sum(["tons", "level"]).mean(["level", "tons"]).count()),
        Box::new(
            totals().min(["berth", "level"]).max(["berth", "end"]).distinct(["berth", "tons"]),
        ),
        Box::new(totals().sum(["level"]).side_by_side("berth").margins().dense()),
        Box::new(
            totals()
                .grain(Grain::Month)
                .sum(["tons", "level"])
                .beside(["year", "all"])
                .beside_every(["vessel"]),
        ),
        Box::new(Totals::new().date(["start", "end"]).each(crate::Each::Weekday).max(["level"])),
        Box::new(
            Totals::new()
                .range("2024-10-10..2024-10-20".parse::<crate::calendar::Range>().unwrap())
                .date(["end"])
                .mean(["level"])
                .distinct(["vessel"]),
        ),
        Box::new(Totals::new().sum(["level"])),
        Box::new(active()),
        Box::new(active().per(["vessel"])),
        Box::new(active().per(["berth"]).open_ends(OpenEnds::Drop)),
        Box::new(
            active().range("2024-10-10..2024-10-20".parse::<crate::calendar::Range>().unwrap()),
        ),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn any_division_into_batches_and_order_of_merging_give_the_same_bytes(
        rows in prop::collection::vec(row(), 0..40),
        cuts in prop::collection::vec(0..60_usize, 0..6),
        states in 1..4_usize,
        backwards: bool,
        as_of in prop::option::of(20_000..20_060_i32),
    ) {
        let table = table(&rows);
        let mut context = context();
        context.as_of = as_of.and_then(crate::calendar::Day::from_number);
        for (n, operation) in operations().into_iter().enumerate() {
            let plan = operation.prepare(&table.shape(), &context).unwrap();
            if !matches!(plan.kind(), Kind::OnePass(_)) {
                continue;
            }
            let whole = plan.apply(&[&table]);
            let parts = folded(&plan, &table, &cuts, states, backwards);
            match (whole, parts) {
                (Ok(whole), Ok(parts)) => {
                    prop_assert!(parts.ledger.balances(), "{n}: {}", parts.ledger);
                    prop_assert_eq!(said(&whole), said(&parts), "operation {}", n);
                }
                (Err(whole), Err(parts)) => prop_assert_eq!(whole.to_string(), parts.to_string()),
                (whole, parts) => prop_assert!(false, "{n}: {whole:?} and {parts:?}"),
            }
        }
    }

    #[test]
    fn a_look_at_any_batches_is_the_same(
        rows in prop::collection::vec(row(), 0..40),
        cuts in prop::collection::vec(0..60_usize, 0..6),
        states in 1..4_usize,
    ) {
        let table = table(&rows);
        let mut folds: Vec<LookFold> = (0..states).map(|_| LookFold::default()).collect();
        for (n, bounds) in bounds(&table, &cuts).windows(2).enumerate() {
            folds[n % states].take(&table.slice(bounds[0], bounds[1] - bounds[0]),
                bounds[0] as u64).unwrap();
        }
        let mut all = LookFold::default();
        folds.into_iter().rev().for_each(|fold| all.merge(fold).unwrap());
        let (whole, parts) = (Look::at(&table).unwrap(), all.finish().unwrap());
        prop_assert_eq!(format!("{whole:?}"), format!("{parts:?}"));
    }

    #[test]
    fn an_almanac_of_any_batches_is_the_same(
        rows in prop::collection::vec(row(), 1..40),
        cuts in prop::collection::vec(0..60_usize, 0..6),
        states in 1..4_usize,
    ) {
        let table = table(&rows);
        let columns = ["start".to_owned(), "end as left".to_owned()];
        let plan = Almanac::new().prepare(&[(&table.shape(), &columns)], &context()).unwrap();
        match (plan.apply(&[&table]), folded(&plan, &table, &cuts, states, true)) {
            (Ok(whole), Ok(parts)) => prop_assert_eq!(said(&whole), said(&parts)),
            (Err(whole), Err(parts)) => prop_assert_eq!(whole.to_string(), parts.to_string()),
            (whole, parts) => prop_assert!(false, "{whole:?} and {parts:?}"),
        }
    }
}

#[test]
fn a_plan_knows_the_types_of_its_result() {
    let row = Row {
        vessel: Some(1),
        berth: Some(2),
        day: Some(20_000),
        length: Some(40),
        tons: Some(3),
        level: Some(0.5),
    };
    let table = table(&[row.clone(), row]);
    let shares = Active::new("start", "end").grain(Grain::Month).share(["tons", "level as part"]);
    for operation in operations().into_iter().chain([Box::new(shares) as Box<dyn Operation>]) {
        let plan = operation.prepare(&table.shape(), &Context::new()).unwrap();
        let Ok(outcome) = plan.apply(&[&table]) else { continue };
        for promised in plan.known_columns().columns() {
            let found = outcome.table.shape().find(&promised.name).unwrap().kind;
            assert!(
                promised.kind.is_none() || promised.kind == found,
                "{operation:?}: {promised:?}, {found:?}"
            );
        }
    }
}

#[rstest]
#[case::another_name(&["vessel", "begin"],
    "prepared for column `start` of dates, but it was given column `begin` of text")]
#[case::another_type(&["vessel", "start"],
    "prepared for column `start` of dates, but it was given column `start` of text")]
#[case::more_columns(&["vessel", "more", "start"],
    "prepared for column `start` of dates, but it was given column `more` of text")]
#[case::fewer_columns(&["vessel"], "prepared for 2 columns, but it was given 1 column")]
fn a_table_of_another_shape_is_an_error(#[case] names: &[&str], #[case] expected: &str) {
    let plan = Latest::new("start").per(["vessel"]);
    let day: ArrayRef = Arc::new(Date32Array::from(vec![1]));
    let text = || Arc::new(StringViewArray::from(vec!["a"])) as ArrayRef;
    let right = Table::from_columns([("vessel", text()), ("start", day)]).unwrap();
    let plan = plan.prepare(&right.shape(), &Context::new()).unwrap();
    assert_eq!(plan.apply(&[&right]).unwrap().table.rows(), 1);

    let wrong = Table::from_columns(names.iter().map(|name| (*name, text()))).unwrap();
    let error = plan.apply(&[&wrong]).unwrap_err().to_string();
    assert!(error.contains(expected), "{error}");
    let mut fold = plan.begin().unwrap();
    assert_eq!(fold.take(&wrong, 0).unwrap_err().to_string(), error);
    assert!(
        plan.apply(&[&right, &right])
            .unwrap_err()
            .to_string()
            .contains("prepared for 1 table, but it was given 2 tables")
    );
}

#[test]
fn states_of_two_plans_are_not_merged() {
    let shape = table(&[]).shape();
    let plan = |date: &str| Latest::new(date).prepare(&shape, &Context::new()).unwrap();
    let error = plan("start").begin().unwrap().merge(plan("end").begin().unwrap()).unwrap_err();
    assert!(error.to_string().contains("the state of another"), "{error}");
}

#[test]
fn a_fold_without_batches_gives_what_an_empty_table_gives() {
    let table = table(&[]);
    for operation in operations() {
        let plan = operation.prepare(&table.shape(), &Context::new()).unwrap();
        let Some(fold) = plan.begin() else { continue };
        let (none, empty) = (fold.finish().unwrap(), plan.apply(&[&table]).unwrap());
        assert_eq!(none.table.shape(), empty.table.shape());
        assert_eq!(none.ledger.rows_in, 0);
    }
}

#[rstest]
#[case::events_and_keys(Box::new(Latest::new("start").per(["vessel"]).then(["tons"])), &[],
    &["vessel", "start", "tons"])]
#[case::passed_on(Box::new(crate::Filter::new("tons > 1")), &["level"], &["tons", "level"])]
#[case::renamed(Box::new(crate::Columns::new(["vessel as ship", "end"])), &["ship"], &["vessel",
    "end"])]
#[case::sums(Box::new(Totals::new().per(["berth"]).sum(["tons"])), &["sum_tons"], &["berth",
    "tons"])]
#[case::made_columns(Box::new(crate::Add::new(["a = tons + 1", "b = a * 2"])), &["b"], &["tons"])]
#[case::states(Box::new(crate::Spells::of_states("start", ["berth"])), &[], &["berth", "start"])]
fn a_plan_knows_the_columns_that_it_needs(
    #[case] operation: Box<dyn Operation>,
    #[case] wanted: &[&str],
    #[case] needed: &[&str],
) {
    let shape = table(&[]).shape();
    let plan = operation.prepare(&shape, &Context::new()).unwrap();
    let wanted = wanted.iter().map(|name| (*name).to_owned()).collect();
    let names: Vec<&str> = plan.needed(Some(&wanted))[0]
        .iter()
        .map(|&place| shape.columns()[place].name.as_str())
        .collect();
    assert_eq!(names, needed);
}
