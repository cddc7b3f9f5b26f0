use super::*;
use crate::{
    calendar::Day,
    sample::{shown, table},
    timeline::Timeline,
};
use arrow_array::{ArrayRef, Date32Array, Int64Array, UInt32Array, cast::AsArray as _};
use proptest::prelude::*;
use rstest::rstest;
use std::{collections::BTreeMap, sync::Arc};

fn gauge() -> Table {
    table(
        "gauge:text day:date level:money note:text
         Sill  2025-01-03 3.00 calm
         Mole  2025-01-01 1.00 -
         Mole  2025-01-02 -    -
         Mole  2025-01-05 2.60 swell
         -     2025-01-05 9.99 -
         Mole  -          9.99 -",
    )
}

fn by_gauge() -> Filled {
    Filled::new("day").per(["gauge"])
}

#[test]
fn every_entity_and_day_has_a_row_and_both_kinds_of_gap_are_counted() {
    let outcome = by_gauge().carry(["level"]).mark("added").apply(&gauge()).unwrap();
    assert_eq!(
        shown(&outcome.table),
        [
            "Mole 2025-01-01 1.00 - false",
            "Mole 2025-01-02 1.00 - false",
            "Mole 2025-01-03 1.00 - true",
            "Mole 2025-01-04 1.00 - true",
            "Mole 2025-01-05 2.60 swell false",
            "Sill 2025-01-01 - - true",
            "Sill 2025-01-02 - - true",
            "Sill 2025-01-03 3.00 calm false",
            "Sill 2025-01-04 3.00 - true",
            "Sill 2025-01-05 3.00 - true",
        ]
    );
    insta::assert_snapshot!(outcome.ledger, @"
    filled by day per gauge, one row for each day, range 2025-01-01..2025-01-05
      rows in       6
      kept          4  rows in the result: 10 · rows recorded: 4 · rows added: 6 · values of level carried into added rows: 4 · values of level carried into blanks: 1 · values of level left blank in added rows: 2
      set aside     1  date missing
                    1  key missing
      balance       6 = 4 kept + 2 set aside
    ");
    assert_eq!(outcome.set_aside.rows(), 2);
}

#[rstest]
#[case::limited(by_gauge().carry(["level"]).limit(2), "1.00 1.00 1.00 - 2.60 | - - 3.00 3.00 3.00")]
#[case::added_only(by_gauge().carry(["level"]).added_only(),
    "1.00 - 1.00 1.00 2.60 | - - 3.00 3.00 3.00")]
#[case::a_line(by_gauge().linear(["level"]), "1.0 1.4 1.8 2.2 2.6 | - - 3.0 - -")]
#[case::a_line_added_only(by_gauge().linear(["level"]).added_only(),
    "1.0 - 1.8 2.2 2.6 | - - 3.0 - -")]
#[case::zero(by_gauge().zero(["level"]), "1.00 - 0.00 0.00 2.60 | 0.00 0.00 3.00 0.00 0.00")]
#[case::zero_in_blanks(by_gauge().zero(["level"]).blanks_too(),
    "1.00 0.00 0.00 0.00 2.60 | 0.00 0.00 3.00 0.00 0.00")]
#[case::set(by_gauge().set(["level=-1.5"]),
    "1.00 - -1.50 -1.50 2.60 | -1.50 -1.50 3.00 -1.50 -1.50")]
#[case::each(by_gauge().range(Extent::Each), "1.00 - - - 2.60 | 3.00")]
#[case::a_range(by_gauge().range("2025-01-02..2025-01-03".parse().unwrap()).carry(["level"]),
    "1.00 1.00 | - 3.00")]
#[case::nothing(by_gauge(), "1.00 - - - 2.60 | - - 3.00 - -")]
fn gaps_are_filled_by_the_rules(#[case] filled: Filled, #[case] levels: &str) {
    let outcome = filled.apply(&gauge()).unwrap();
    let rows = shown(&outcome.table);
    let of = |gauge: &str| {
        let rows = rows.iter().filter(|row| row.starts_with(gauge));
        rows.map(|row| row.split(' ').nth(2).unwrap().to_owned()).collect::<Vec<_>>().join(" ")
    };
    assert_eq!(format!("{} | {}", of("Mole"), of("Sill")), levels);
    assert!(outcome.ledger.balances());
}

#[rstest]
#[case::last_days(
    "2025-01-31 2025-04-30",
    Grain::Month,
    None,
    "2025-01-31 2025-02-28 2025-03-31 2025-04-30"
)]
#[case::other_days("2025-01-31 2025-03-30", Grain::Month, None, "2025-01-31 2025-02-01 2025-03-30")]
#[case::said_last(
    "2025-01-05 2025-03-05",
    Grain::Month,
    Some(Dated::Last),
    "2025-01-05 2025-02-28 2025-03-05"
)]
#[case::said_first(
    "2024-01-31 2024-03-31",
    Grain::Month,
    Some(Dated::First),
    "2024-01-31 2024-02-01 2024-03-31"
)]
#[case::leap_day("2024-02-28 2024-03-01", Grain::Day, None, "2024-02-28 2024-02-29 2024-03-01")]
#[case::iso_weeks("2024-12-25 2025-01-09", Grain::Week, None, "2024-12-25 2024-12-30 2025-01-09")]
#[case::months_as_they_are("2024-12 2025-02", Grain::Month, None, "2024-12 2025-01 2025-02")]
#[case::months_in_quarters("2024-12 2025-06", Grain::Quarter, None, "2024-12 2025-03 2025-06")]
#[case::the_last_years("9998-06-01 9999-12-31", Grain::Year, None, "9998-06-01 9999-12-31")]
fn added_rows_are_dated_as_the_data_is(
    #[case] days: &str,
    #[case] grain: Grain,
    #[case] dated: Option<Dated>,
    #[case] expected: &str,
) {
    let filled = Filled { dated, ..Filled::new("day").grain(grain) };
    let table = table(&format!("day:date\n{}", days.replace(' ', "\n")));
    assert_eq!(shown(&filled.apply(&table).unwrap().table).join(" "), expected);
}

#[test]
fn hours_of_a_day_of_23_and_weeks_and_years_that_begin_elsewhere() {
    let zone = Context::new().zone("Europe/Lisbon".parse().unwrap());
    let moments = table("at:instant\n2025-03-30T00:10:00Z\n2025-03-30T02:40:00Z");
    let hours = Filled::new("at").grain(Grain::Hour).mark("added");
    let outcome = hours.apply_with(&moments, &zone).unwrap();
    assert_eq!(
        shown(&outcome.table),
        ["2025-03-30T00:10Z false", "2025-03-30T01:00Z true", "2025-03-30T02:40Z false"]
    );
    let whole_day = hours.range("2025-03-30".parse().unwrap()).apply_with(&moments, &zone).unwrap();
    assert_eq!(
        (whole_day.table.rows(), whole_day.ledger.zone.as_deref()),
        (23, Some("Europe/Lisbon"))
    );

    // A day of moments begins by the clocks of the time zone.
    let days = Filled::new("at").range("2025-03-30..2025-04-01".parse().unwrap());
    let days = days.apply_with(&moments.head(1), &zone).unwrap();
    assert_eq!(shown(&days.table), ["2025-03-30T00:10Z", "2025-03-30T23:00Z", "2025-03-31T23:00Z"]);

    let days = table("day:date\n2025-03-30\n2025-04-13");
    let weeks =
        Filled::new("day").grain(Grain::Week).week_start(Weekday::Sunday).apply(&days).unwrap();
    assert_eq!(shown(&weeks.table), ["2025-03-30", "2025-04-06", "2025-04-13"]);
    let years = Filled::new("day")
        .grain(Grain::Year)
        .year_start(crate::calendar::Month::April)
        .apply(&days)
        .unwrap();
    assert_eq!(shown(&years.table), ["2025-03-30", "2025-04-13"]);
}

#[test]
fn entities_without_records_have_rows_and_constant_columns_are_kept() {
    let stays = table(
        "vessel:text class:text month:date tons:number
         Petrel coaster 2025-01 10
         Marram -       2025-02 20
         Marram barge   2025-03 30",
    );
    let vessels = table("name:text\nMarram\nTeal\n-\nTeal");
    let list = EntityList::from_table(&vessels, &["name"]).unwrap();
    let filled = Filled::new("month")
        .per(["vessel"])
        .grain(Grain::Month)
        .zero(["tons as lifted"])
        .keep_with(["class"]);
    let outcome = filled
        .clone()
        .entities(list.clone())
        .range("2025-02..2025-03".parse().unwrap())
        .apply(&stays)
        .unwrap();
    assert_eq!(
        shown(&outcome.table),
        [
            "Marram - 2025-02 20",
            "Marram barge 2025-03 30",
            // All of its records lie outside the range, and it still has rows.
            "Petrel coaster 2025-02 0",
            "Petrel coaster 2025-03 0",
            "Teal - 2025-02 0",
            "Teal - 2025-03 0",
        ]
    );
    assert_eq!(outcome.table.names().collect::<Vec<_>>(), ["vessel", "class", "month", "lifted"]);
    let ledger = &outcome.ledger;
    let counts =
        ["entities without a record", "entities named twice", "entities named without a key"];
    assert_eq!(counts.map(|name| ledger.count(name)), [1, 1, 1]);
    assert_eq!(
        (ledger.rows(Reason::OutsideRange), ledger.count("values of class left blank as recorded")),
        (1, 1)
    );

    // Keys that are numbers are read as numbers, and listed entities alone make a series, too.
    let berths = table("berth:number day:date");
    let list = EntityList::from_table(&table("n:text\n12\n7"), &["n"]).unwrap();
    let alone = Filled::new("day")
        .per(["berth"])
        .entities(list.clone())
        .range("2025-01-01..2025-01-02".parse().unwrap());
    assert_eq!(shown(&alone.apply(&berths).unwrap().table).len(), 4);
    // Without keys, a table without rows or dates is still one entity.
    for rows in ["day:date n:number", "day:number n:number\n- 3"] {
        let days = Filled::new("day").range("2025-01-01..2025-01-02".parse().unwrap()).zero(["n"]);
        let mut rows = table(rows);
        if rows.rows() == 1 {
            rows = Table::from_columns([
                ("day", Arc::new(arrow_array::NullArray::new(1)) as ArrayRef),
                ("n", rows.columns()[1].clone()),
            ])
            .unwrap();
        }
        assert_eq!(shown(&days.apply(&rows).unwrap().table), ["2025-01-01 0", "2025-01-02 0"]);
    }
    let varies = filled.keep_with(["tons"]).zero(Vec::<String>::new()).apply(&stays).unwrap_err();
    assert_eq!(
        varies.to_string(),
        "`keep-with`: column `tons` is not constant: Marram has `20` and `30`. Name a column with \
            one value for each entity, or carry it"
    );
}

#[rstest]
#[case::taken(Filled::new("day").grain(Grain::Month),
    "gauge:text day:date level:number\nA 2025-01-03 1\nA 2025-01-09 2\nA 2025-02-01 3",
    "1 cell of one entity and month has several records: 2025-01 (row 1, row 2). Combine them \
        first, for example with `totals`")]
#[case::flood(by_gauge().grain(Grain::Day).range("0001..9999".parse().unwrap())
    .most_rows(1_000_000), "gauge:text day:date level:number\nA 2025-01-03 1\nB 2025-01-09 2",
    "the result would have 7,304,118 rows, more than the limit of 1,000,000: 0001-01-01 to \
        9999-12-31 are 3652059 days, for each of 2 entities. Choose a longer grain or a shorter \
        range, or raise the limit: `most_rows(7304118)`")]
#[case::too_fine(
    Filled::new("day"),
    "day:date\n2025-01",
    "column `day` holds months, so it has no days. Ask for months"
)]
#[case::two_rules(by_gauge().carry(["level"]).zero(["level"]), "gauge:text day:date level:number",
    "`zero` is `level`, which already has a rule: expected one rule for each column")]
#[case::key(by_gauge().carry(["gauge"]), "gauge:text day:date level:number",
    "`carry` is `gauge`: expected a column other than `per` and `date`")]
#[case::text(by_gauge().linear(["gauge"]).per(["level"]), "gauge:text day:date level:number",
    "column `gauge` holds text, but numbers are required")]
#[case::value(by_gauge().set(["level=high"]), "gauge:text day:date level:number\nA 2025-01-03 1",
    "`set`: `high` is not a value of column `level`, which holds whole numbers")]
#[case::places(by_gauge().set(["level=0.125"]), "gauge:text day:date level:money\nA 2025-01-03 1",
    "`set`: `0.125` is not a value of column `level`, which holds decimals, 2 places")]
#[case::no_value(by_gauge().set(["level"]), "gauge:text day:date level:number",
    "`set` is `level`: expected a column and its value, such as `state=closed`")]
#[case::limit(by_gauge().limit(3), "gauge:text day:date level:number",
    "`limit` needs `carry`")]
#[case::misspelt(by_gauge().carry(["levle"]), "gauge:text day:date level:number",
    "there is no column `levle`. Did you mean `level`?")]
#[case::listed(by_gauge().entities(EntityList::from_table(&gauge(), &["gauge", "note"]).unwrap()),
    "gauge:text day:date level:number", "`entities` is 2 columns: expected as many columns as \
        `per` has, in the same order")]
fn impossible_results_are_explained(
    #[case] filled: Filled,
    #[case] rows: &str,
    #[case] message: &str,
) {
    assert_eq!(filled.apply(&table(rows)).unwrap_err().to_string(), message);
}

type Row = (i64, i32, Option<i64>);

/// A listed entity without rows.
const LISTED: i64 = 2;

fn table_of(rows: &[Row]) -> Table {
    Table::from_columns([
        ("who", Arc::new(rows.iter().map(|row| Some(row.0)).collect::<Int64Array>()) as ArrayRef),
        ("day", Arc::new(rows.iter().map(|row| Some(row.1)).collect::<Date32Array>())),
        ("n", Arc::new(rows.iter().map(|row| row.2).collect::<Int64Array>())),
        ("line", Arc::new(rows.iter().map(|row| row.2).collect::<Int64Array>())),
    ])
    .unwrap()
}

/// Each entity and each day from the first to the last.
fn by_hand(rows: &[Row], filled: &Filled) -> Vec<String> {
    let cells: BTreeMap<(i64, i32), Option<i64>> =
        rows.iter().map(|row| ((row.0, row.1), row.2)).collect();
    let mut lines = Vec::new();
    let mut entities: Vec<i64> = rows.iter().map(|row| row.0).collect();
    entities.extend(filled.entities.as_ref().map(|_| LISTED));
    entities.sort_unstable();
    entities.dedup();
    for &who in &entities {
        let counted =
            || cells.keys().filter(|(other, _)| filled.range != Extent::Each || *other == who);
        let all = counted().map(|cell| cell.1);
        let Some((least, greatest)) = all.clone().min().zip(all.max()) else { continue };
        let (first, last) = match filled.range {
            Extent::Stated(range) => (range.first().number(), range.last().number()),
            _ => (least, greatest),
        };
        for day in first..=last {
            let own = cells.get(&(who, day)).copied();
            let may = own.is_none() || !filled.added_only;
            let known = |mut days: Box<dyn Iterator<Item = i32>>| {
                days.find_map(|day| Some((day, cells.get(&(who, day)).copied()??)))
            };
            // Values outside a fixed range fill gaps in it.
            let before = known(Box::new((least.min(first)..day).rev()));
            let after = known(Box::new(day + 1..=greatest.max(last)));
            let reach = filled.limit.map_or(i32::MAX, |limit| limit as i32);
            let carried =
                before.filter(|(from, _)| may && day - from <= reach).map(|(_, value)| value);
            let line = before.zip(after).filter(|_| may).map(|((from, one), (to, other))| {
                let (before, after) = (f64::from(day - from), f64::from(to - day));
                (one as f64 * after + other as f64 * before) / (before + after)
            });
            let text = |value: Option<String>| value.unwrap_or("-".to_owned());
            let (n, line) = match own.flatten() {
                Some(own) => (Some(own), Some(own as f64)),
                None => (carried, line),
            };
            let day = Day::from_number(day).unwrap();
            lines.push(format!(
                "{who} {day} {} {}",
                text(n.map(|n| n.to_string())),
                text(line.map(|line| format!("{line:?}")))
            ));
        }
    }
    lines
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]
    #[test]
    fn every_cell_agrees_with_a_search_over_all_days(
        cells in prop::collection::btree_map((0_i64..4, 20_000_i32..20_025),
            prop::option::weighted(0.7, -9_i64..9), 0..30),
        order in any::<prop::sample::Index>(),
        limit in prop::option::of(1_u32..5),
        added_only in any::<bool>(),
        each in any::<bool>(),
        stated in prop::option::of((19_995_i32..20_025, 0_i32..20)),
        listed in any::<bool>(),
    ) {
        let mut rows: Vec<Row> = cells.into_iter().map(|((who, day), n)| (who, day, n)).collect();
        rows.retain(|row| !listed || row.0 != LISTED);
        let day = |number| Day::from_number(number).unwrap();
        let range = match stated {
            _ if each => Extent::Each,
            Some((from, length)) => Extent::Stated(Range::new(day(from),
                day(from + length)).unwrap()),
            None => Extent::Data,
        };
        let listed_rows = table(&format!("who:number\n{LISTED}"));
        let list = EntityList::from_table(&listed_rows, &["who"]).unwrap();
        let entities = (listed && !each && !rows.is_empty()).then_some(list);
        let filled = Filled { limit, added_only, range, entities,
            ..Filled::new("day").per(["who"]).carry(["n"]).linear(["line"]) };
        let in_order = filled.apply(&table_of(&rows)).unwrap();
        let expected = by_hand(&rows, &filled);
        prop_assert_eq!(&shown(&in_order.table), &expected);

        // Neither the order of the rows nor batches change the result.
        let turn = order.index(rows.len() + 1);
        rows.rotate_left(turn);
        rows.reverse();
        let table = table_of(&rows);
        let mut handed = Vec::new();
        let outcome = filled.apply_into(&table, &Context::new(),
            &mut |batch| { handed.extend(shown(batch)); Ok(()) }).unwrap();
        prop_assert_eq!(handed, expected);
        prop_assert_eq!(&outcome.ledger, &in_order.ledger);

        // Cells are recorded or added, and each gap of a column is filled or left.
        let count = |name: &str| outcome.ledger.count(name);
        prop_assert_eq!(count("rows in the result"), count("rows recorded") + count("rows added"));
        for (column, what) in [("n", "carried into"), ("line", "interpolated in")] {
            let holes = [format!("values of {column} {what} added rows"),
                format!("values of {column} left blank in added rows")];
            prop_assert_eq!(holes.iter().map(|name| count(name)).sum::<u64>(), count("rows added"));
        }
        prop_assert!(outcome.ledger.balances());

        // Entities that are processed separately give their parts of the whole, if each has its own
        // range.
        if each {
            let entities = crate::Entities::number(&table, &["who"],
                crate::Missing::NoEntity).unwrap();
            let timeline = Timeline::new(&entities, &table.dates("day").unwrap(),
                &BooleanBuffer::new_set(table.rows()));
            let mut parts: Vec<String> = timeline.entities().flat_map(|rows| {
                let part = table.take(&UInt32Array::from(rows.to_vec())).unwrap();
                shown(&filled.apply(&part).unwrap().table)
            }).collect();
            parts.sort();
            let mut whole = shown(&in_order.table);
            whole.sort();
            prop_assert_eq!(parts, whole);
        }
    }
}

/// A listed entity without rows must not hide that the rows of another are not next to each other.
#[test]
fn a_listed_entity_without_rows_loses_no_record_of_the_others() {
    let rows = table("d:date k:text y:number\n2024-01-02 a 1\n2024-01-01 b 5\n2024-01-01 a 6");
    let list = EntityList::from_table(&table("k:text\nz"), &["k"]).unwrap();
    let outcome = Filled::new("d").per(["k"]).entities(list).apply(&rows).unwrap();
    let expected = [
        "2024-01-01 a 6",
        "2024-01-02 a 1",
        "2024-01-01 b 5",
        "2024-01-02 b -",
        "2024-01-01 z -",
        "2024-01-02 z -",
    ];
    assert_eq!(shown(&outcome.table), expected);
}

#[test]
fn a_range_that_cuts_periods_warns_and_values_come_from_outside_it() {
    let rows = table("day:date y:number\n2024-01-05 1\n2024-02-20 3");
    let filled =
        Filled::new("day").grain(Grain::Month).range("2024-01-10..2024-02-15".parse().unwrap());
    let outcome = filled.clone().carry(["y"]).apply(&rows).unwrap();
    assert_eq!(shown(&outcome.table), ["2024-01-10 1", "2024-02-01 1"]);
    let ledger = outcome.ledger.to_string();
    assert!(ledger.contains("range 2024-01-10..2024-02-15"), "{ledger}");
    let warning = "the range 2024-01-10..2024-02-15 covers only part of 2024-01 and 2024-02. Rows \
        outside the range are not counted";
    assert!(ledger.contains(warning), "{ledger}");
    let line = filled.linear(["y"]).apply(&rows).unwrap();
    assert_eq!(
        shown(&line.table),
        ["2024-01-10 1.2173913043478262", "2024-02-01 2.1739130434782608"]
    );
}

#[test]
fn interpolation_near_the_greatest_float_stays_finite() {
    let rows = table(
        "day:date y:float\n0001-01-01 1e300\n0001-01-03 -1e300\n0001-01-05 1.7e308\n0001-01-07 \
            1.7e308",
    );
    let outcome = Filled::new("day").linear(["y"]).apply(&rows).unwrap();
    let values: Vec<f64> = shown(&outcome.table)
        .iter()
        .map(|row| row.split(' ').nth(1).unwrap().parse().unwrap())
        .collect();
    assert_eq!((values[1], values[5]), (0.0, 1.7e308));
    assert!(values.iter().all(|value| value.is_finite()), "{values:?}");
}

#[test]
fn columns_of_every_type_are_filled_and_interpolation_goes_by_time() {
    let readings = table(
        "at:moment level:money state:text seen:date far:number
         2025-01-01T00:00:00 1.00 open 2025-01-01 9007199254740993
         2025-01-01T05:30:00 2.00 -    -          9007199254740993",
    );
    let filled = Filled::new("at")
        .grain(Grain::Hour)
        .linear(["level", "far"])
        .carry(["state"])
        .set(["seen=2024-02-29"]);
    let outcome = filled.apply(&readings).unwrap();
    assert_eq!(
        shown(&outcome.table),
        [
            "2025-01-01T00:00 1.0 open 2025-01-01 9007199254740992.0",
            "2025-01-01T01:00 1.1818181818181819 open 2024-02-29 9007199254740992.0",
            "2025-01-01T02:00 1.3636363636363635 open 2024-02-29 9007199254740992.0",
            "2025-01-01T03:00 1.5454545454545454 open 2024-02-29 9007199254740992.0",
            "2025-01-01T04:00 1.7272727272727273 open 2024-02-29 9007199254740992.0",
            "2025-01-01T05:30 2.0 open - 9007199254740992.0",
        ]
    );
    let counts = [
        "values of level interpolated in added rows",
        "values of state carried into blanks",
        "values of seen left blank as recorded",
    ];
    assert_eq!(counts.map(|name| outcome.ledger.count(name)), [4, 1, 1]);
    // Interpolation between cents is exact, and not that of floats.
    let cents = table("day:date level:money\n2025-01-01 2.89\n2025-01-03 2.97");
    let line = Filled::new("day").linear(["level"]).apply(&cents).unwrap();
    assert_eq!(shown(&line.table)[1], "2025-01-02 2.93");
}

/// If the result is filled again over the same range, all of its rows are kept.
#[rstest]
#[case(None, ["2023-12-10", "2024-01-01", "2024-02-01"])]
#[case(Some(Dated::Last), ["2023-12-31", "2024-01-31", "2024-02-15"])]
fn a_period_that_the_range_cuts_is_dated_inside_it(
    #[case] dated: Option<Dated>,
    #[case] days: [&str; 3],
) {
    let rows = table("day:date y:number\n2023-11-05 1\n2024-03-20 3");
    let range = "2023-12-10..2024-02-15".parse().unwrap();
    let filled = Filled { dated, ..Filled::new("day").grain(Grain::Month).range(range) };
    let outcome = filled.apply(&rows).unwrap();
    assert_eq!(shown(&outcome.table), days.map(|day| format!("{day} -")));
    assert_eq!(filled.apply(&outcome.table).unwrap().ledger.kept, 3);
}

#[test]
fn months_that_a_range_of_days_cuts_count_as_a_whole() {
    let rows = table("m:date y:number\n2024-01 1\n2024-04 3");
    let range = "2024-01-10..2024-02-15".parse().unwrap();
    let filled = Filled::new("m").grain(Grain::Month).range(range);
    let outcome = filled.apply(&rows).unwrap();
    assert_eq!(shown(&outcome.table), ["2024-01 1", "2024-02 -"]);
    let ledger = outcome.ledger.to_string();
    let warning = "the range 2024-01-10..2024-02-15 covers only part of 2024-01 and 2024-02, which \
        count as a whole, because `m` holds months";
    assert!(ledger.contains(warning), "{ledger}");
}

proptest! {
    /// A value is that of its two neighbours, whatever other entities have, and between equal
    /// neighbours it is that value.
    #[test]
    fn interpolation_depends_on_the_neighbours_only(
        values in prop::array::uniform2(prop_oneof![
            prop::num::f64::NORMAL,
            prop::sample::select(vec![0.0, -1e-9, 0.1, 1e300, f64::MAX, 5e-324]),
        ]),
        equal in any::<bool>(),
        other in prop::num::f64::NORMAL,
        days in 2_i32..400,
    ) {
        let values = if equal { [values[0]; 2] } else { values };
        let of = |entities: &[(&str, i32, f64)]| {
            let who: ArrayRef = Arc::new(arrow_array::StringViewArray::from_iter_values(
                entities.iter().map(|row| row.0)));
            let day: ArrayRef = Arc::new(Date32Array::from_iter_values(
                entities.iter().map(|row| row.1)));
            let value: ArrayRef = Arc::new(arrow_array::Float64Array::from_iter_values(
                entities.iter().map(|row| row.2)));
            let table = Table::from_columns([("k", who), ("d", day), ("y", value)]).unwrap();
            let filled = Filled::new("d").per(["k"]).linear(["y"]).range(Extent::Each);
            let table = filled.apply(&table).unwrap().table;
            let values = table.column("y").unwrap();
            let values = values.as_primitive::<arrow_array::types::Float64Type>().values();
            values[..=days as usize].to_vec()
        };
        let alone = of(&[("a", 0, values[0]), ("a", days, values[1])]);
        let beside = of(&[("a", 0, values[0]), ("a", days, values[1]), ("b", 3, other)]);
        prop_assert_eq!(&alone, &beside);
        let (least, most) = (values[0].min(values[1]), values[0].max(values[1]));
        prop_assert!(alone.iter().all(|value| (least..=most).contains(value)), "{:?}", alone);
        prop_assert!(alone.is_sorted() || alone.iter().rev().is_sorted(), "{:?}", alone);
    }
}
