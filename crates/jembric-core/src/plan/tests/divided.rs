//! Parts of a table, divided as a plan says and put in order again, give the whole result.

use super::*;
use crate::{
    Changes, Division, Each, Earliest, Elapsed, EntityList, EntityPart, Filled, Keep, Ledger,
    Overall, Pick, ResultOrder, Running, Sort, Spells, Totals, Within,
};
use arrow_array::{Array, UInt32Array};
use arrow_ord::sort::lexsort_to_indices;

/// The rows of a table that are in a part, with their numbers and places.
fn part_of(table: &Table, place: usize, parts: &[u32], number: u32) -> Table {
    let rows: Vec<u32> =
        (0..table.rows() as u32).filter(|row| parts[*row as usize] == number).collect();
    let numbers = rows.iter().map(|row| i64::from(*row)).collect();
    let part = table.take_with_origin(&UInt32Array::from(rows)).unwrap();
    part.with_row_numbers(place, numbers).unwrap()
}

/// The rows in the order of the whole result.
pub(super) fn in_order(table: &Table, order: &ResultOrder) -> Table {
    let columns = match order {
        ResultOrder::Rows(place) => {
            let numbers = table.row_numbers(*place).unwrap();
            assert_eq!(numbers.null_count(), 0);
            let name = table.names().position(has_row_numbers_of(*place)).unwrap();
            table.sort_columns(&[(name, false)])
        }
        ResultOrder::Columns(columns) => {
            table.sort_columns(&columns.iter().map(|place| (*place, false)).collect::<Vec<_>>())
        }
    };
    // Rows that are equal so far keep their order.
    let mut columns = columns;
    let rows: ArrayRef = Arc::new(UInt32Array::from_iter_values(0..table.rows() as u32));
    columns.push(arrow_ord::sort::SortColumn { values: rows, options: None });
    let sorted = table.take(&lexsort_to_indices(&columns, None).unwrap()).unwrap();
    sorted.without_row_numbers().unwrap()
}

fn has_row_numbers_of(place: usize) -> impl Fn(&str) -> bool {
    move |name| crate::row_numbers::has_row_numbers(name) && name.ends_with(&place.to_string())
}

/// The result and the ledger of tables that are divided by entity; none if the plan is not.
fn divided(
    prepare: &dyn Fn(&[&Shape]) -> Plan,
    tables: &[&Table],
    parts: u32,
) -> Option<std::result::Result<(Vec<String>, Ledger), String>> {
    let shapes: Vec<Shape> = tables.iter().map(|table| table.shape()).collect();
    let plan = prepare(&shapes.iter().collect::<Vec<_>>());
    let Some(Division::Entities(_)) = plan.kind().division() else { return None };
    let numbered: Vec<Shape> = shapes
        .iter()
        .enumerate()
        .map(|(place, shape)| shape.with_row_numbers(place).unwrap())
        .collect();
    let overall = plan.survey(tables[0]).unwrap();
    let halves = tables[0].rows() / 2;
    let of_halves = [tables[0].head(halves), tables[0].slice(halves, usize::MAX)]
        .iter()
        .filter_map(|half| plan.survey(half).unwrap())
        .reduce(|one, other| Overall::plus(one, other).unwrap());
    assert_eq!(overall, of_halves, "what is known of all rows is that of the parts");
    let mut numbered = prepare(&numbered.iter().collect::<Vec<_>>());
    if let Some(overall) = overall {
        numbered = numbered.for_parts(overall);
    }
    let Some(Division::Entities(division)) = numbered.kind().division() else { return None };
    let how = (parts, 7);
    let of_tables: Vec<Vec<u32>> = tables
        .iter()
        .enumerate()
        .map(|(place, table)| division.parts(place, table, tables, how).unwrap())
        .collect();
    let (mut results, mut ledger): (Vec<Table>, Option<Ledger>) = (Vec::new(), None);
    for number in 0..parts {
        let part: Vec<Table> = tables
            .iter()
            .enumerate()
            .map(|(place, table)| part_of(table, place, &of_tables[place], number))
            .collect();
        let plan = numbered.for_part(EntityPart::new(number, how), tables[0]).unwrap();
        match plan.apply(&part.iter().collect::<Vec<_>>()) {
            Err(error) => return Some(Err(error.to_string())),
            Ok(outcome) => {
                assert!(outcome.ledger.balances());
                results.push(outcome.table);
                ledger = Some(match ledger {
                    None => outcome.ledger,
                    Some(before) => before.merge(&outcome.ledger),
                });
            }
        }
    }
    let all = Table::joined(&results[0], &results[1..]).unwrap();
    let mut rows = shown(&in_order(&all, &division.order));
    if let Some(last) = plan.last_rows() {
        rows.extend(shown(&last.apply(tables).unwrap().table));
    }
    Some(Ok((rows, ledger.unwrap())))
}

/// In CI the cases are always the same.
pub(super) fn cases() -> ProptestConfig {
    let chance = ProptestConfig::with_cases(48);
    let rng_seed = match std::env::var_os("CI") {
        Some(_) => proptest::test_runner::RngSeed::Fixed(19),
        None => chance.rng_seed,
    };
    ProptestConfig { rng_seed, ..chance }
}

/// The rows of vessels on different days.
fn one_each_day(rows: &[Row]) -> Vec<Row> {
    let mut seen = BTreeSet::new();
    rows.iter().filter(|row| seen.insert((row.vessel, row.day))).cloned().collect()
}

proptest! {
    #![proptest_config(cases())]

    #[test]
    fn entities_in_parts_give_the_whole(rows in prop::collection::vec(row(), 1..40),
        parts in 1..6_u32) {
        let all = table(&rows);
        let days = table(&one_each_day(&rows));
        let operations: Vec<(Box<dyn Operation>, &Table)> = vec![
            (Box::new(Latest::new("start").per(["vessel"]).mark("is_latest")), &all),
            (Box::new(Running::new("start").per(["vessel"]).sum(["tons", "level"])), &all),
            (Box::new(Running::new("start").per(["vessel", "berth"]).max(["level"])), &all),
            (Box::new(Elapsed::since_previous("start").per(["vessel"])), &all),
            (Box::new(Spells::of_intervals("start", "end").per(["vessel"])), &all),
            (Box::new(Spells::of_states("start", ["berth"]).per(["vessel"])), &all),
            (Box::new(Filled::new("start").per(["vessel"]).carry(["tons"])), &days),
            (Box::new(Filled::new("start").per(["vessel"]).grain(Grain::Quarter)), &days),
        ];
        for (operation, table) in operations {
            let prepare =
                |shapes: &[&Shape]| operation.prepare(shapes[0], &context()).unwrap();
            let found = divided(&prepare, &[table], parts).expect("it is divided by entity");
            match (prepare(&[&table.shape()]).apply(&[table]), found) {
                (Ok(whole), Ok((rows, ledger))) => {
                    prop_assert_eq!(shown(&whole.table), rows, "{:?}", operation);
                    prop_assert_eq!(whole.ledger.to_string(), ledger.to_string());
                }
                (Err(_), Err(_)) => {}
                (whole, found) => {
                    prop_assert!(false, "{operation:?}: {:?} and {found:?}", whole.err());
                }
            }
        }
    }

    #[test]
    fn states_that_outgrow_memory_are_replaced_by_those_of_parts(
        rows in prop::collection::vec(row(), 1..40),
        parts in 1..6_u32,
    ) {
        let all = table(&rows);
        let monthly = || Totals::new().date(["start"]).grain(Grain::Month).per(["vessel"]);
        let sums = || monthly().sum(["tons", "level"]).min(["level"]).distinct(["berth"]).count();
        let both_dates = || Totals::new().date(["start", "end"]).grain(Grain::Week).per(["berth"]);
        let listed = EntityList::from_table(&all.head(3), &["vessel"]).unwrap();
        let range = "2025-02..2025-04".parse().unwrap();
        let operations: Vec<Box<dyn Operation>> = vec![
            Box::new(Latest::new("start").per(["vessel"])),
            Box::new(Earliest::new("start").per(["vessel", "berth"]).ties(crate::Ties::First)),
            Box::new(Latest::new("start").per(["vessel"]).newest(2)),
            Box::new(Latest::new("start").per(["vessel"]).at_each(Grain::Month)),
            Box::new(sums()),
            Box::new(sums().margins()),
            Box::new(sums().range(range)),
            Box::new(sums().side_by_side("berth").margins()),
            Box::new(monthly().side_by_side("berth").margins().dense().range(range)),
            Box::new(sums().beside(["year", "all"]).margins()),
            Box::new(monthly().per(["vessel", "berth"]).sum(["tons"]).beside_every(["berth"])),
            Box::new(monthly().dense().margins().entities(listed)),
            Box::new(monthly().each(Each::Weekday).mean(["tons"]).margins()),
            Box::new(both_dates().max(["level"])),
            Box::new(Totals::new().per(["tons", "vessel"]).margins()),
        ];
        for operation in operations {
            let prepare =
                |shapes: &[&Shape]| operation.prepare(shapes[0], &context()).unwrap();
            let found = divided(&prepare, &[&all], parts).expect("it is divided by entity");
            let whole = prepare(&[&all.shape()]).apply(&[&all]).unwrap();
            let (rows, ledger) = found.unwrap();
            prop_assert_eq!(shown(&whole.table), rows, "{:?}", operation);
            prop_assert_eq!(whole.ledger.to_string(), ledger.to_string(), "{:?}", operation);
        }
    }

    #[test]
    fn recent_rows_are_those_of_each_batch_once_the_newest_date_is_known(
        rows in prop::collection::vec(row(), 1..40),
        rows_of_first in 0..40_usize,
    ) {
        let all = table(&rows);
        let batches = [all.head(rows_of_first), all.slice(rows_of_first, usize::MAX)];
        for mark in [None, Some("is_recent".to_owned())] {
            let last = crate::Recent::last("start", "9 days".parse().unwrap());
            let recent = crate::Recent { mark, ..last };
            let plan = recent.prepare(&all.shape(), &context()).unwrap();
            prop_assert_eq!(plan.kind().division(), Some(&Division::Rows));
            let surveys = batches.iter().filter_map(|batch| plan.survey(batch).unwrap());
            let overall = surveys.reduce(|one, other| one.plus(other).unwrap()).unwrap();
            let of_parts = plan.for_parts(overall);
            let parts = batches.iter().map(|batch| of_parts.apply(&[batch]).unwrap());
            let (mut found, mut ledger) = (Vec::new(), None::<Ledger>);
            for part in parts {
                found.extend(shown(&part.table));
                ledger = Some(match ledger {
                    None => part.ledger,
                    Some(before) => before.merge(&part.ledger),
                });
            }
            let whole = plan.apply(&[&all]).unwrap();
            prop_assert_eq!(shown(&whole.table), found);
            prop_assert_eq!(whole.ledger.to_string(), ledger.unwrap().to_string());
        }
    }

    #[test]
    fn joined_tables_in_parts_give_the_whole(events in prop::collection::vec(row(), 1..30),
        windows in prop::collection::vec(row(), 1..20), parts in 1..6_u32) {
        let (events, windows) = (table(&events), table(&windows));
        let within = |keep, pick| {
            let mut within =
                Within::new("start", "start - 2 days..end".parse().unwrap());
            within.matching = vec!["vessel".to_owned()];
            (within.keep, within.pick) = (keep, pick);
            within
        };
        for within in [
            within(Keep::Matched, Pick::All),
            within(Keep::EveryEvent, Pick::First),
            within(Keep::StrayEvents, Pick::All),
            within(Keep::EmptyWindows, Pick::Last),
        ] {
            let prepare =
                |shapes: &[&Shape]| within.prepare(shapes[0], shapes[1], &context()).unwrap();
            let found = divided(&prepare, &[&events, &windows], parts).unwrap().unwrap();
            let whole = within.apply_with(&events, &windows, &context()).unwrap();
            prop_assert_eq!(shown(&whole.table), found.0, "{:?}", within);
            prop_assert_eq!(whole.ledger.to_string(), found.1.to_string());
        }
        let mut changes = Changes::per(["vessel", "berth"]);
        changes.ties = crate::Duplicates::First;
        let prepare =
            |shapes: &[&Shape]| changes.prepare(shapes[0], Some(shapes[1]), &context()).unwrap();
        let found = divided(&prepare, &[&events, &windows], parts).unwrap().unwrap();
        let whole = changes.apply_with(&events, Some(&windows), &context()).unwrap();
        prop_assert_eq!(shown(&whole.table), found.0);
        prop_assert_eq!(whole.ledger.to_string(), found.1.to_string());
    }
}

#[test]
fn the_whole_table_as_one_entity_is_divided_by_date() {
    let shape = table(&[]).shape();
    let running = Running::new("start").sum(["tons"]).prepare(&shape, &context()).unwrap();
    assert_eq!(running.kind().division(), Some(&Division::Dates(2, ResultOrder::Rows(0))));
    let filled = Filled::new("start").prepare(&shape, &context()).unwrap();
    assert_eq!(filled.kind().division(), None);
    let sort = Sort::new(["tons:down", "berth"]).prepare(&shape, &context()).unwrap();
    assert_eq!(sort.kind().division(), Some(&Division::Sorted(vec![(4, true), (1, false)])));
}

#[rstest]
#[case::whole(vec![1, 2, 3])]
#[case::far(vec![i64::MIN, 0, i64::MAX])]
fn equal_keys_of_two_types_are_in_the_same_part(#[case] numbers: Vec<i64>) {
    use arrow_array::{Decimal128Array, Int64Array};
    let whole: ArrayRef = Arc::new(Int64Array::from(numbers.clone()));
    let cents: Vec<i128> = numbers.iter().map(|n| i128::from(*n) * 100).collect();
    let cents = Decimal128Array::from(cents).with_precision_and_scale(38, 2).unwrap();
    let tables =
        [whole, Arc::new(cents)].map(|column| Table::from_columns([("k", column)]).unwrap());
    let [one, other] = [&tables[0], &tables[1]];
    let division = crate::plan::ByEntity::by(vec![0], ResultOrder::Rows(0)).unwrap();
    let division = crate::plan::ByEntity { keys: vec![vec![0], vec![0]], ..division };
    let parts = |place, table| division.parts(place, table, &[one, other], (64, 3)).unwrap();
    assert_eq!(parts(0, one), parts(1, other));
}

/// The keys of a part are spread over the table that numbers them, which is placed by a hash of the
/// same texts.
#[test]
fn the_keys_of_a_part_are_spread() {
    let texts: Vec<String> = (0..40_000).map(|n| format!("key number {n}")).collect();
    let column: ArrayRef = Arc::new(arrow_array::StringViewArray::from_iter_values(&texts));
    let keys = Table::from_columns([("k", column)]).unwrap();
    let division = crate::plan::ByEntity::by(vec![0], ResultOrder::Rows(0)).unwrap();
    for seed in [0, 1] {
        let parts = division.parts(0, &keys, &[&keys], (20, seed)).unwrap();
        let mut slots = [0; 8];
        for (text, _) in texts.iter().zip(parts).filter(|(_, part)| *part == 7) {
            slots[(crate::entities::hash_of_bytes(text.as_bytes(), 0) >> 61) as usize] += 1;
        }
        assert!(slots.iter().all(|keys| (150..350).contains(keys)), "{slots:?}");
    }
}

/// Processes that share rows may be built apart, and must agree on the owner of an entity.
#[test]
fn owners_do_not_depend_on_the_build() {
    let keys = crate::sample::table(
        "vessel:text day:date berth:number fee:money level:float at:instant
         Kestrel 2025-06-30 1 3.50 0.5 2025-06-30T10:00:00Z
         Petrel 0001-01-01 -7 -0.05 -2 1969-12-31T23:59:59Z
         Bolt_of_the_northern_passage 9999-12-31 9007199254740993 0.00 0 2025-06-30T10:00:01Z",
    );
    let owners = |column: usize| {
        let division = crate::plan::ByEntity::by(vec![column], ResultOrder::Rows(0)).unwrap();
        division.owners(0, &keys, &[&keys], 1_000_000).unwrap()
    };
    let all: Vec<Vec<u32>> = (0..keys.columns().len()).map(owners).collect();
    assert_eq!(
        all,
        [
            [923648, 621180, 275193],
            [450211, 38085, 706183],
            [374125, 612623, 634535],
            [622417, 775756, 104426],
            [714993, 19516, 104426],
            [123485, 489853, 497948],
        ]
    );
    let both = crate::plan::ByEntity::by(vec![0, 1], ResultOrder::Rows(0)).unwrap();
    assert_eq!(both.owners(0, &keys, &[&keys], 1_000_000).unwrap(), [42435, 538567, 939102]);
}
