//! Rows in order of their dates, taken piece by piece, give the whole result.

use super::{
    divided::{cases, in_order},
    *,
};
use crate::{
    Division, Elapsed, EndDay, Keep, Ledger, Pick, ResultOrder, Running, Spells, Within,
    calendar::Zone, decimal::Decimal,
};
use arrow_array::{Array, TimestampMicrosecondArray};
use arrow_schema::Field;

/// The rows with their numbers, in order of these columns. Missing values come last.
fn sorted(table: &Table, columns: &[usize]) -> Table {
    let numbered = table.with_row_numbers(0, (0..table.rows() as i64).collect()).unwrap();
    let columns: Vec<(usize, bool)> = columns.iter().map(|&column| (column, false)).collect();
    numbered.take_with_origin(&numbered.sorted_rows(&columns).unwrap()).unwrap()
}

/// The rows of each entity in order of their dates, and the order of the result.
fn entities(plan: &Plan, table: &Table) -> (Vec<Table>, ResultOrder) {
    let division = match plan.kind().division() {
        Some(Division::Dates(date, order)) => {
            return (vec![sorted(table, &[*date])], order.clone());
        }
        Some(Division::Entities(division)) => division,
        division => panic!("it has no order: {division:?}"),
    };
    let date = division.date.expect("it has an order");
    let sorted = sorted(table, &[&division.keys[0][..], &[date]].concat());
    let mut bounds = division.starts_of_entities(&sorted).unwrap();
    bounds.push(sorted.rows());
    let of_entity = |bounds: &[usize]| sorted.slice(bounds[0], bounds[1] - bounds[0]);
    let of_entities: Vec<Table> = bounds.windows(2).map(of_entity).collect();
    if of_entities.is_empty() {
        (vec![sorted], division.order.clone())
    } else {
        (of_entities, division.order.clone())
    }
}

/// The result, the ledger and the rows set aside of pieces with about this many rows.
fn in_pieces(
    operation: &dyn Operation,
    table: &Table,
    context: &Context,
    rows: usize,
) -> Result<(Vec<String>, Ledger, Vec<String>)> {
    let shape = table.shape().with_row_numbers(0).unwrap();
    let plan = operation.prepare(&shape, context)?;
    let overall = operation.prepare(&table.shape(), context)?.survey(table)?;
    let plan_of_pieces = overall.map_or_else(|| plan.clone(), |overall| plan.for_parts(overall));
    let (of_entities, order) = entities(&plan, table);
    let (mut results, mut ledger, mut aside) = (Vec::new(), None::<Ledger>, Vec::new());
    for sorted in of_entities {
        let mut pieces = plan_of_pieces.in_order().expect("it has an order");
        let (mut from, mut to) = (0, 0);
        loop {
            to = (to + rows).min(sorted.rows());
            let are_last = to == sorted.rows();
            let waiting = sorted.slice(from, to - from);
            let complete = if are_last { waiting.rows() } else { pieces.complete(&waiting) };
            let outcome = pieces.take(&waiting.slice(0, complete), are_last)?;
            from += complete;
            assert!(outcome.ledger.balances());
            results.push(outcome.table);
            aside.push(outcome.set_aside);
            ledger = Some(match ledger {
                None => outcome.ledger,
                Some(before) => before.merge(&outcome.ledger),
            });
            if are_last {
                break;
            }
        }
    }
    let all = Table::joined(&results[0], &results[1..])?;
    let aside = in_order(&Table::joined(&aside[0], &aside[1..])?, &ResultOrder::Rows(0));
    Ok((shown(&in_order(&all, &order)), ledger.unwrap(), shown(&aside)))
}

/// The same rows with moments around a midnight at which clocks go back, so that points in time are
/// on the day before once more.
fn around_midnight(rows: &[Row]) -> Table {
    const CLOCKS_GO_BACK: i64 = 1_584_846_000;
    let moments = |of: &dyn Fn(&Row) -> Option<i64>| -> ArrayRef {
        let micros = rows.iter().map(|row| Some((CLOCKS_GO_BACK + of(row)?) * 1_000_000));
        Arc::new(micros.collect::<TimestampMicrosecondArray>().with_timezone("UTC"))
    };
    let start = |row: &Row| Some(i64::from(row.day? - 20_030) * 20 * 60);
    let end = |row: &Row| Some(start(row)? + i64::from(row.length?) * 10 * 60);
    let mut columns: Vec<(Field, ArrayRef)> = table(rows).fields().collect();
    for (name, moments) in [("start", moments(&start)), ("end", moments(&end))] {
        let column = columns.iter_mut().find(|(field, _)| field.name() == name).unwrap();
        *column = (Field::new(name, moments.data_type().clone(), true), moments);
    }
    Table::of_known(columns).unwrap()
}

fn in_order_of_dates(per: &[&str]) -> Vec<Box<dyn Operation>> {
    let running = || {
        let all = Running::new("start")
            .per(per.iter().copied())
            .max(["tons"])
            .min(["level"])
            .sum(["tons", "level"]);
        all.mean(["level", "tons"]).count().mark_highs("is_high")
    };
    let days = |days| Span::days(days);
    let spells = || Spells::of_intervals("start", "end").per(per.iter().copied());
    let states =
        |value: &[&str]| Spells::of_states("start", value.iter().copied()).per(per.iter().copied());
    vec![
        Box::new(running()),
        Box::new(running().max(["odd"])),
        Box::new(Running { row_by_row: true, ..running() }),
        Box::new(running().anew_each(Grain::Day)),
        Box::new(running().anew_each(Grain::Week)),
        Box::new(running().anew_each(Grain::Month)),
        Box::new(Running { row_by_row: true, ..running().anew_each(Grain::Week) }),
        Box::new(running().trailing(days(1))),
        Box::new(running().trailing(days(9))),
        Box::new(running().trailing(days(9)).anew_each(Grain::Week)),
        Box::new(Running { row_by_row: true, ..running().trailing(days(3)) }),
        Box::new(
            Running::new("start")
                .per(per.iter().copied())
                .sum(["tons", "level"])
                .opening("0.125".parse::<Decimal>().unwrap()),
        ),
        Box::new(Elapsed::since_previous("start").per(per.iter().copied())),
        Box::new(spells()),
        Box::new(spells().join_gaps(2).idle()),
        Box::new(spells().end_day(EndDay::Exclusive)),
        Box::new(spells().open_ends(OpenEnds::Drop)),
        Box::new(states(&["berth"])),
        Box::new(states(&["odd", "tons"])),
    ]
}

proptest! {
    // Each case runs every operation on four tables.
    #![proptest_config(ProptestConfig { cases: 16, ..cases() })]

    #[test]
    fn pieces_in_order_of_dates_give_the_whole(
        rows in prop::collection::vec(row(), 0..40),
        piece in 1..9_usize,
        as_of in prop::option::of(20_000..20_080_i32),
    ) {
        let mut context = context();
        context.as_of = as_of.and_then(crate::calendar::Day::from_number);
        context.zone = "America/Asuncion".parse::<Zone>().unwrap();
        let tables = [table(&rows), around_midnight(&rows)];
        let keys: [&[&str]; 2] = [&[], &["vessel", "berth"]];
        for (table, per) in tables.iter().flat_map(|table| keys.map(|per| (table, per))) {
            for operation in in_order_of_dates(per) {
                let plan = match operation.prepare(&table.shape(), &context) {
                    Ok(plan) => plan,
                    Err(_) => continue,
                };
                let found = in_pieces(operation.as_ref(), table, &context, piece);
                match (plan.apply(&[table]), found) {
                    (Ok(whole), Ok((rows, ledger, aside))) => {
                        prop_assert_eq!(shown(&whole.table), rows, "{:?}", operation);
                        prop_assert_eq!(shown(&whole.set_aside), aside, "{:?}", operation);
                        prop_assert_eq!(whole.ledger.to_string(), ledger.to_string());
                    }
                    (Err(_), Err(_)) => {}
                    (whole, found) => {
                        prop_assert!(false, "{operation:?}: {:?} and {found:?}", whole.err());
                    }
                }
            }
        }
    }
}

proptest! {
    #![proptest_config(cases())]

    #[test]
    fn pieces_of_events_beside_all_windows_give_the_whole(
        events in prop::collection::vec(row(), 0..30),
        windows in prop::collection::vec(row(), 0..20),
        piece in 1..9_usize,
    ) {
        let (events, windows) = (table(&events), table(&windows));
        let window = || "start - 2 days..end".parse().unwrap();
        let of_dates = |keep, pick| {
            let mut within = Within::new("end", window());
            (within.keep, within.pick) = (keep, pick);
            within
        };
        let mut of_intervals = Within::intervals("start..end".parse().unwrap(), window());
        of_intervals.open_ends = OpenEnds::Drop;
        let joins = [
            of_dates(Keep::Matched, Pick::All),
            of_dates(Keep::EveryEvent, Pick::Last),
            of_dates(Keep::StrayEvents, Pick::All),
            of_dates(Keep::EmptyWindows, Pick::First),
            of_intervals,
        ];
        let with_keys = joins.clone().map(|within| within.matching(["vessel"]));
        for within in joins.into_iter().chain(with_keys) {
            let plan = within.prepare(&events.shape(), &windows.shape(), &context()).unwrap();
            let is_beside = plan.kind().division() == Some(&Division::Beside);
            prop_assert_eq!(is_beside, within.matching.is_empty());
            let mut pieces = plan.beside(&windows).unwrap().expect("windows fit");
            let (mut rows, mut ledger, mut aside) = (Vec::new(), None::<Ledger>, Vec::new());
            let bounds: Vec<usize> = (0..events.rows()).step_by(piece).collect();
            let last = events.emptied();
            let batches = bounds.iter().map(|from| (events.slice(*from, piece), false));
            for (n, (batch, are_last)) in batches.chain([(last, true)]).enumerate() {
                // Results are the same whether they are delivered in batches or not.
                let outcome = match n % 2 {
                    0 => pieces.take(&batch, are_last).unwrap(),
                    _ => pieces.take_into(&batch, are_last, &mut |part| {
                        rows.extend(shown(part));
                        Ok(())
                    }).unwrap(),
                };
                rows.extend(shown(&outcome.table));
                aside.extend(shown(&outcome.set_aside));
                ledger = Some(match ledger {
                    None => outcome.ledger,
                    Some(before) => before.merge(&outcome.ledger),
                });
            }
            let whole = plan.apply(&[&events, &windows]).unwrap();
            prop_assert_eq!(shown(&whole.table), rows, "{:?}", within);
            prop_assert_eq!(shown(&whole.set_aside), aside, "{:?}", within);
            prop_assert_eq!(whole.ledger.to_string(), ledger.unwrap().to_string());
        }
    }
}

#[test]
fn rows_are_complete_once_no_other_row_can_change_their_result() {
    let rows = crate::sample::table(
        "day:date at:instant
        2025-01-30 2025-01-30T10:00:00Z
        2025-01-31 2025-01-31T10:00:00Z
        2025-02-01 2025-02-01T10:00:00Z
        2025-02-01 2025-02-01T10:00:00Z",
    );
    let undated = crate::sample::table("day:date at:instant\n2025-01-30 -\n- -\n- -");
    let complete = |operation: &dyn Operation, rows: &Table| {
        let plan = operation.prepare(&rows.shape(), &Context::new()).unwrap();
        plan.in_order().expect("it has an order").complete(rows)
    };
    let running = |date: &str| Running::new(date).count();
    assert_eq!(complete(&running("day"), &rows), 2);
    assert_eq!(complete(&running("at"), &rows), 2);
    assert_eq!(complete(&Running { row_by_row: true, ..running("at") }, &rows), 3);
    // Another point in time may be on the day before once more.
    assert_eq!(complete(&Spells::of_states("at", ["day"]), &rows), 1);
    assert_eq!(complete(&Spells::of_states("day", ["at"]), &rows), 2);
    assert_eq!(complete(&running("day"), &undated), 2);
    assert_eq!(complete(&running("day"), &undated.head(1)), 0);
}
