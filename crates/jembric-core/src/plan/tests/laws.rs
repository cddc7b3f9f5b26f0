//! Laws that the plan of every operation keeps about its columns and its access.

use super::*;
use crate::{Add, Columns, Elapsed, Filled, Filter, Running, Sort, Spells, calendar::Day};

/// Operations with each kind of access.
fn all_operations() -> Vec<Box<dyn Operation>> {
    let mut all = operations();
    let others: [Box<dyn Operation>; 13] = [
        Box::new(Latest::new("start").per(["vessel"]).mark("is_latest")),
        Box::new(Active::new("start", "end").grain(Grain::Month).share(["tons"])),
        Box::new(Active::new("start", "end").on(day(20_020))),
        Box::new(Spells::of_intervals("start", "end").per(["vessel"])),
        Box::new(Spells::of_states("start", ["berth"]).per(["vessel"])),
        Box::new(Elapsed::between("start", "end").bands([0, 7, 30])),
        Box::new(Elapsed::since_previous("start").per(["vessel"])),
        Box::new(Running::new("start").per(["vessel"]).sum(["tons"]).max(["level"])),
        Box::new(Filled::new("start").per(["vessel"]).grain(Grain::Quarter)),
        Box::new(Filter::new("tons > 1 and (level < 10 or berth = 'b1')")),
        Box::new(Add::new(["more = tons * 2", "late = start + 3 days"])),
        Box::new(Sort::new(["tons:down", "start", "vessel"])),
        Box::new(Columns::new(["vessel as ship", "end", "tons"])),
    ];
    all.extend(others);
    all
}

fn day(number: i32) -> Day {
    Day::from_number(number).unwrap()
}

fn at_a_day() -> Context {
    Context::new().as_of(day(20_040))
}

/// The rows that an operation gives, in no order; or the error about the data.
fn rows_of(operation: &dyn Operation, table: &Table) -> std::result::Result<Vec<String>, String> {
    let outcome = operation.apply_with(table, &at_a_day()).map_err(|error| error.to_string())?;
    assert!(outcome.ledger.balances(), "{}", outcome.ledger);
    let mut rows = shown(&outcome.table);
    rows.sort_unstable();
    Ok(rows)
}

/// Whether the order of the rows decides between equal rows, because the settings say so.
fn goes_by_row_order(operation: &dyn Operation) -> bool {
    let requested = format!("{operation:?}");
    requested.contains("ties: First") || requested.contains("ties: Last")
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn the_columns_that_are_needed_are_enough(rows in prop::collection::vec(row(), 1..25),
        chosen: u32) {
        let table = table(&rows);
        for operation in all_operations() {
            let plan = operation.prepare(&table.shape(), &at_a_day()).unwrap();
            let Some(shape) = plan.shape() else { continue };
            let names = shape.columns().iter().enumerate();
            let wanted: BTreeSet<String> = names
                .filter(|(place, _)| chosen >> place & 1 == 1)
                .map(|(_, column)| column.name.clone())
                .collect();
            let needed = &plan.needed(Some(&wanted))[0];
            if needed.is_empty() {
                continue;
            }
            let all: Vec<&str> = table.names().collect();
            let few = Columns::new(needed.iter().map(|&place| all[place])).apply(&table)
                .unwrap().table;
            let again = operation.apply_with(&few, &at_a_day());
            match (plan.apply(&[&table]), again) {
                (Ok(whole), Ok(few)) => {
                    prop_assert_eq!(&whole.ledger.dropped, &few.ledger.dropped, "{:?}", operation);
                    for name in &wanted {
                        let column = |outcome: &Outcome| {
                            shown(&Columns::new([name.as_str()]).apply(&outcome.table)
                                .unwrap().table)
                        };
                        prop_assert_eq!(column(&whole), column(&few), "{} of {:?}", name,
                            operation);
                    }
                }
                (Err(_), Err(_)) => {}
                (whole, few) => prop_assert!(false, "{operation:?}: {:?} and {:?}", whole.err(),
                    few.err()),
            }
        }
    }

    #[test]
    fn batches_together_are_the_whole(rows in prop::collection::vec(row(), 0..40)) {
        let table = table(&rows);
        for operation in all_operations() {
            let plan = operation.prepare(&table.shape(), &context()).unwrap();
            let mut batches = Vec::new();
            let account = plan.apply_into(&[&table], &mut |batch| {
                batches.extend(shown(batch));
                Ok(())
            });
            match (plan.apply(&[&table]), account) {
                (Ok(whole), Ok(account)) => {
                    prop_assert_eq!(shown(&whole.table), batches, "{:?}", operation);
                    prop_assert_eq!(whole.ledger.to_string(), account.ledger.to_string());
                    prop_assert_eq!(shown(&whole.set_aside), shown(&account.set_aside));
                    prop_assert_eq!(account.table.rows(), 0);
                    prop_assert_eq!(whole.table.names().collect::<Vec<_>>(),
                        account.table.names().collect::<Vec<_>>());
                }
                (Err(whole), Err(account)) => prop_assert_eq!(whole.to_string(),
                    account.to_string()),
                (whole, account) => {
                    prop_assert!(false, "{operation:?}: {:?} and {:?}", whole.err(), account.err());
                }
            }
        }
    }

    #[test]
    fn the_order_of_rows_changes_nothing(rows in prop::collection::vec(row(), 0..25),
        turn in 0..25_usize) {
        let mut turned = rows.clone();
        turned.reverse();
        turned.rotate_left(turn % rows.len().max(1));
        for operation in all_operations() {
            if goes_by_row_order(&*operation) {
                continue;
            }
            match (rows_of(&*operation, &table(&rows)), rows_of(&*operation, &table(&turned))) {
                (Ok(one), Ok(other)) => prop_assert_eq!(one, other, "{:?}", operation),
                (Err(_), Err(_)) => {}
                (one, other) => prop_assert!(false, "{operation:?}: {one:?} and {other:?}"),
            }
        }
    }

    #[test]
    fn groups_of_rows_can_be_processed_separately(
        rows in prop::collection::vec(row(), 0..40),
        cuts in prop::collection::vec(0..60_usize, 0..6),
    ) {
        let table = table(&rows);
        let mut by_row = 0;
        for operation in all_operations() {
            let plan = operation.prepare(&table.shape(), &at_a_day()).unwrap();
            if *plan.kind() != Kind::ByRow {
                continue;
            }
            by_row += 1;
            let mut parts = Vec::new();
            for bounds in bounds(&table, &cuts).windows(2) {
                let part = table.slice(bounds[0], bounds[1] - bounds[0]);
                parts.extend(shown(&plan.apply(&[&part]).unwrap().table));
            }
            prop_assert_eq!(shown(&plan.apply(&[&table]).unwrap().table), parts, "{:?}", operation);
        }
        prop_assert!(by_row > 3, "{}", by_row);
    }

    #[test]
    fn entities_do_not_depend_on_each_other(rows in prop::collection::vec(row(), 0..40)) {
        let of_vessels = |wanted: fn(u8) -> bool| {
            let rows = rows.iter().filter(|row| row.vessel.is_none_or(wanted));
            table(&rows.filter(|row| row.vessel.is_some()).cloned().collect::<Vec<_>>())
        };
        let mut by_entity = 0;
        for operation in all_operations() {
            let all = of_vessels(|_| true);
            let plan = operation.prepare(&all.shape(), &at_a_day()).unwrap();
            let by_entity_only = matches!(plan.kind(), Kind::Divided(Division::Entities(_)));
            if !by_entity_only || !format!("{operation:?}").contains("per: \
                [\"vessel\"]") {
                continue;
            }
            by_entity += 1;
            let one = rows_of(&*operation, &of_vessels(|vessel| vessel < 2));
            let other = rows_of(&*operation, &of_vessels(|vessel| vessel >= 2));
            match (rows_of(&*operation, &all), one, other) {
                (Ok(all), Ok(one), Ok(other)) => {
                    let mut both = [one, other].concat();
                    both.sort_unstable();
                    prop_assert_eq!(all, both, "{:?}", operation);
                }
                (Err(_), one, other) => prop_assert!(one.is_err() || other.is_err(), "{:?}",
                    operation),
                (Ok(_), one, other) => prop_assert!(false, "{operation:?}: {one:?} and {other:?}"),
            }
        }
        prop_assert!(by_entity > 2, "{}", by_entity);
    }
}

/// For all settings, an empty table gives a result and not a panic.
#[test]
fn a_table_without_rows_gives_an_empty_result() {
    let table = table(&[]);
    for operation in all_operations() {
        let outcome = operation.apply_with(&table, &at_a_day()).unwrap();
        assert!(outcome.ledger.balances() && outcome.ledger.rows_in == 0, "{operation:?}");
        assert_eq!(outcome.set_aside.rows(), 0, "{operation:?}");
    }
}

#[test]
fn a_plan_names_its_shape_and_can_be_sent_to_threads() {
    let table = table(&[]);
    for operation in all_operations() {
        let plan = operation.prepare(&table.shape(), &at_a_day()).unwrap();
        assert!(format!("{plan:?}").contains("kind"), "{plan:?}");
        let result =
            std::thread::scope(|scope| scope.spawn(|| plan.apply(&[&table])).join().unwrap());
        assert_eq!(result.unwrap().ledger.rows_in, 0);
        assert!(plan.used(0).all(|place| place < table.columns().len()), "{operation:?}");
        let all = plan.needed(None);
        assert!(plan.used(0).all(|place| all[0].contains(&place)), "{operation:?}");
    }
}

/// The kind of a plan promises how it can be applied.
#[test]
fn plans_can_do_what_their_kind_says() {
    let shape = table(&[]).shape();
    for operation in all_operations() {
        let plan = operation.prepare(&shape, &at_a_day()).unwrap();
        let folds = matches!(plan.kind(), Kind::OnePass(_));
        assert_eq!(plan.begin().is_some(), folds, "{operation:?}");
        let has_an_order = match plan.kind().division() {
            Some(Division::Dates(..)) => true,
            Some(Division::Entities(division)) => division.date.is_some(),
            _ => false,
        };
        assert_eq!(plan.in_order().is_some(), has_an_order, "{operation:?}");
    }
}

/// A run that is cancelled before it begins, or between two batches, ends with an error of its own.
#[test]
fn every_plan_can_be_cancelled() {
    let rows = table(&[]);
    for operation in all_operations() {
        let cancel = crate::Cancel::new();
        let context = at_a_day().cancelled_by(&cancel);
        let plan = operation.prepare(&rows.shape(), &context).unwrap();
        assert!(plan.apply(&[&rows]).is_ok(), "{operation:?}");
        let mut fold = plan.begin();
        let mut pieces = plan.in_order();
        cancel.cancel();
        let mut taken = 0;
        let mut count = |_: &Table| {
            taken += 1;
            Ok(())
        };
        let delivered = plan.apply_into(&[&rows], &mut count);
        assert!(matches!(delivered, Err(Error::Cancelled)), "{operation:?}");
        assert_eq!(taken, 0, "{operation:?}");
        assert!(matches!(plan.apply(&[&rows]), Err(Error::Cancelled)), "{operation:?}");
        if let Some(fold) = &mut fold {
            assert!(matches!(fold.take(&rows, 0), Err(Error::Cancelled)), "{operation:?}");
        }
        if let Some(pieces) = &mut pieces {
            assert!(matches!(pieces.take(&rows, true), Err(Error::Cancelled)), "{operation:?}");
        }
    }
}
