use super::*;
use arrow_array::{
    Array, ArrayRef, Date32Array, Decimal64Array, Float64Array, Int64Array, StringViewArray,
    TimestampMicrosecondArray, cast::AsArray, types::Int64Type,
};
use arrow_cast::display::array_value_to_string;
use proptest::prelude::*;
use rstest::rstest;
use std::collections::BTreeMap;

type Row = (Option<i32>, Option<i32>);

fn table_of(rows: &[Row]) -> Table {
    let column = |of: fn(&Row) -> Option<i32>| {
        Arc::new(rows.iter().map(of).collect::<Date32Array>()) as ArrayRef
    };
    let ids: Int64Array = (0..rows.len() as i64).map(Some).collect();
    Table::from_columns([
        ("id", Arc::new(ids) as ArrayRef),
        ("a", column(|row| row.0)),
        ("z", column(|row| row.1)),
    ])
    .unwrap()
}

fn days(texts: &[(&str, &str)]) -> Table {
    let day = |text: &str| text.parse::<Day>().ok().map(Day::number);
    table_of(&texts.iter().map(|(a, z)| (day(a), day(z))).collect::<Vec<_>>())
}

fn shown(table: &Table, columns: &[&str]) -> Vec<String> {
    let cell = |name: &&str, row| array_value_to_string(table.column(name).unwrap(), row).unwrap();
    (0..table.rows())
        .map(|row| columns.iter().map(|name| cell(name, row)).collect::<Vec<_>>().join(" "))
        .collect()
}

fn integers(table: &Table, name: &str) -> Vec<i64> {
    table.column(name).unwrap().as_primitive::<Int64Type>().values().to_vec()
}

// 1     ██████
// 2        ██████████
// 3                   (open)  █→
#[test]
fn a_row_for_each_record_and_month_with_its_days() {
    let table =
        days(&[("2025-01-30", "2025-02-02"), ("2025-02-01", "2025-04-01"), ("2025-04-02", "")]);
    let outcome = Active::new("a", "z").grain(Grain::Month).apply(&table).unwrap();
    assert_eq!(
        shown(&outcome.table, &["id", "month", "active_days"]),
        [
            "0 2025-01-01 2",
            "0 2025-02-01 2",
            "1 2025-02-01 28",
            "1 2025-03-01 31",
            "1 2025-04-01 1",
            "2 2025-04-01 1"
        ]
    );
    // Without an as-of date the open interval lasts until the newest date of both columns, its own
    // start.
    assert_eq!(outcome.ledger.as_of, "2025-04-02".parse().ok());
    assert_eq!(
        [outcome.ledger.count("without an end"), outcome.ledger.count("rows in the result")],
        [1, 6]
    );
}

#[rstest]
#[case::counts(EndDay::Inclusive, &["0 2", "1 1"])]
#[case::free(EndDay::Exclusive, &["0 1"])]
fn the_end_day_is_inclusive_or_exclusive(#[case] end_day: EndDay, #[case] expected: &[&str]) {
    let table = days(&[("2025-01-01", "2025-01-02"), ("2025-01-01", "2025-01-01")]);
    let outcome = Active::new("a", "z").end_day(end_day).grain(Grain::Year).apply(&table).unwrap();
    assert_eq!(shown(&outcome.table, &["id", "active_days"]), expected);
    assert_eq!(outcome.ledger.rows(Reason::NoActiveDay), u64::from(end_day == EndDay::Exclusive));
    assert!(outcome.ledger.balances());
}

#[rstest]
#[case::as_of(OpenEnds::AsOf, Some("2025-01-05"), &["0 5", "2 1", "3 5"], Reason::AfterAsOf, 1)]
#[case::newest(OpenEnds::AsOf, None, &["0 6", "1 1", "2 1", "3 6"], Reason::AfterAsOf, 0)]
#[case::dropped(OpenEnds::Drop, Some("2025-01-05"), &["2 1"], Reason::Open, 3)]
fn missing_ends_are_replaced_dropped_or_refused(
    #[case] open_ends: OpenEnds,
    #[case] as_of: Option<&str>,
    #[case] expected: &[&str],
    #[case] reason: Reason,
    #[case] rows: u64,
) {
    let open = [
        ("2025-01-01", ""),
        ("2025-01-06", ""),
        ("2025-01-03", "2025-01-03"),
        ("2025-01-01", "9999-12-31"),
    ];
    let never = "9999-12-31".parse().unwrap();
    let active = Active::new("a", "z").open_ends(open_ends).grain(Grain::Year).never_ends([never]);
    let context = Context { as_of: as_of.map(|day| day.parse().unwrap()), ..Context::new() };
    let outcome = active.apply_with(&days(&open), &context).unwrap();
    assert_eq!(shown(&outcome.table, &["id", "active_days"]), expected);
    assert_eq!(outcome.ledger.rows(reason), rows);
    assert!(outcome.ledger.balances());
}

#[test]
fn unusable_rows_are_set_aside_and_unwanted_ones_dropped() {
    let table = days(&[
        ("2025-01-02", "2025-01-01"),
        ("", "2025-01-01"),
        ("", ""),
        ("2024-01-01", "2024-01-02"),
        ("2025-01-01", "2025-01-01"),
    ]);
    let outcome = Active::new("a", "z").range("2025".parse().unwrap()).apply(&table).unwrap();
    let counts = [Reason::EndBeforeStart, Reason::NoStart, Reason::OutsideRange]
        .map(|reason| outcome.ledger.rows(reason));
    assert_eq!((counts, outcome.set_aside.rows(), outcome.table.rows()), ([1, 2, 1], 3, 1));
    assert!(outcome.ledger.balances());
}

#[test]
fn an_empty_range_gives_no_rows_and_counts_of_zero() {
    let table = days(&[("2025-01-01", "2025-01-02")]);
    let active = Active::new("a", "z").range("2030-01".parse().unwrap());
    assert_eq!(active.apply(&table).unwrap().table.rows(), 0);
    let counts = active.clone().grain(Grain::Week).count().apply(&table).unwrap().table;
    assert_eq!((counts.rows(), integers(&counts, "active").iter().sum::<i64>()), (5, 0));
    let none = table_of(&[]);
    assert_eq!(Active::new("a", "z").count().apply(&none).unwrap().table.rows(), 0);
}

#[rstest]
#[case::unknown(Active::new("a", "y"), "there is no column `y`")]
#[case::both(Active::new("a", "z").count().on(Day::MIN),
    "`on` cannot be used together with `count`")]
#[case::per(Active::new("a", "z").per(["id"]), "`per` needs `count`")]
#[case::sum(Active::new("a", "z").sum(["id"]), "`sum` needs `count`")]
#[case::share(Active::new("a", "z").count().share(["id"]),
    "`share` cannot be used together with `count`")]
#[case::text(Active::new("a", "z").share(["name"]),
    "column `name` holds text, but numbers are required")]
#[case::hours(Active::new("a", "z").grain(Grain::Hour),
    "column `a` holds days, so it has no hours. Ask for days")]
#[case::months(Active::new("m", "m"), "column `m` holds months, so it has no days. Ask for months")]
#[case::name(Active::new("a", "z").name("id"),
    "the table already has a column `id`: choose another name")]
#[case::open(Active::new("a", "z").open_ends(OpenEnds::Refuse),
    "2 rows have no `z`, and missing ends are refused (row 2, row 3). Let these intervals last \
        until the as-of date (`open_ends(\"as-of\")`), or leave them out (`open_ends(\"drop\")`)")]
#[case::flood(Active::new("a", "z").never_ends([]).most_rows(1000),
    "the result would have 2,913,176 rows, more than the limit of 1,000: row 1 alone makes \
        2913174, from 2024-01-01 to 9999-12-31. If 9999-12-31 means \"no end\", declare it \
        (`never_ends(\"9999-12-31\")`). Otherwise choose a longer grain or a shorter range, or \
        raise the limit: `most_rows(2913176)`")]
fn invalid_requests_are_refused(#[case] active: Active, #[case] begins: &str) {
    let table = days(&[("2024-01-01", "9999-12-31"), ("9999-12-31", ""), ("9999-12-31", "")]);
    let names: ArrayRef = Arc::new(StringViewArray::from(vec!["x"; 3]));
    let months: ArrayRef = Arc::new(Date32Array::from(vec![0; 3]));
    let table = table.with_column("name", names).unwrap().with_column("m", months).unwrap();
    let table = table.with_periods("m", Grain::Month).unwrap();
    let error = active.apply(&table).unwrap_err().to_string();
    assert!(error.starts_with(begins), "{error}");
}

fn instants(texts: &[(&str, &str)]) -> Table {
    let micros = |text: &str| {
        let written = crate::calendar::notation::read(text.as_bytes()).ok()?;
        written.micros(crate::calendar::notation::Order::DayFirst)
    };
    let column = |texts: Vec<&str>| -> ArrayRef {
        Arc::new(
            texts
                .into_iter()
                .map(micros)
                .collect::<TimestampMicrosecondArray>()
                .with_timezone("UTC"),
        )
    };
    let (starts, ends) = texts.iter().copied().unzip();
    Table::from_columns([("a", column(starts)), ("z", column(ends))]).unwrap()
}

// On 2025-03-30 the clocks in Lisbon go from 01:00 to 02:00. The day begins at 00:00 UTC and ends
// at 23:00 UTC.
#[rstest]
#[case(Grain::Day, "2025-03-30T23:30", "2025-03-31T00:10", &["2025-03-31"])]
#[case(Grain::Day, "2025-03-29T23:30", "2025-03-30T22:59", &["2025-03-29", "2025-03-30"])]
#[case(Grain::Hour, "2025-03-30T00:30", "2025-03-30T02:00", &["2025-03-30T00:00:00",
    "2025-03-30T01:00:00"])]
#[case(Grain::Hour, "2025-03-30T00:30", "2025-03-30T00:30", &["2025-03-30T00:00:00"])]
fn moments_become_days_by_the_clocks_of_the_time_zone(
    #[case] grain: Grain,
    #[case] start: &str,
    #[case] end: &str,
    #[case] expected: &[&str],
) {
    let context = Context::new().zone("Europe/Lisbon".parse().unwrap());
    let outcome = Active::new("a", "z")
        .grain(grain)
        .apply_with(&instants(&[(start, end)]), &context)
        .unwrap();
    let array = outcome.table.column(grain.word()).unwrap();
    let readings = match array.as_primitive_opt::<arrow_array::types::TimestampMicrosecondType>() {
        Some(moments) => {
            Arc::new(TimestampMicrosecondArray::new(moments.values().clone(), None)) as ArrayRef
        }
        None => array.clone(),
    };
    let shown: Vec<String> =
        (0..readings.len()).map(|row| array_value_to_string(&readings, row).unwrap()).collect();
    assert_eq!(shown, expected);
    assert_eq!(outcome.ledger.zone.as_deref(), Some("Europe/Lisbon"));
}

#[test]
fn an_end_before_its_start_by_an_hour_is_reversed_on_one_day() {
    let outcome = Active::new("a", "z")
        .apply(&instants(&[("2025-03-30T12:00", "2025-03-30T11:00")]))
        .unwrap();
    assert_eq!(outcome.ledger.rows(Reason::EndBeforeStart), 1);
}

/// With an exclusive end, an interval without length is active in no hour.
#[rstest]
#[case("2025-01-01T12:15", "2025-01-01T12:15", 0)]
#[case("2025-01-01T10:00", "2025-01-01T10:00", 0)]
#[case("2025-01-01T12:15", "2025-01-01T12:16", 1)]
fn with_an_exclusive_end_an_interval_without_length_has_no_hour(
    #[case] start: &str,
    #[case] end: &str,
    #[case] hours: usize,
) {
    let active = Active::new("a", "z").grain(Grain::Hour).end_day(EndDay::Exclusive);
    let outcome = active.apply(&instants(&[(start, end)])).unwrap();
    assert_eq!(
        (outcome.table.rows(), outcome.ledger.rows(Reason::NoActiveDay)),
        (hours, 1 - hours as u64)
    );
}

/// The end of time in UTC is in the next year further east, and on the day before further west.
#[rstest]
#[case("Asia/Tokyo", "9999-12-31T23:59:59Z")]
#[case("America/New_York", "9999-12-31T00:00Z")]
#[case("UTC", "9999-12-31T12:00Z")]
fn an_end_that_means_no_end_is_recognized_in_every_time_zone(
    #[case] zone: &str,
    #[case] end: &str,
) {
    let table = instants(&[("2025-01-01T00:00Z", end), ("2025-01-02T00:00Z", "2025-01-03T00:00Z")]);
    let active =
        Active::new("a", "z").never_ends(["9999-12-31".parse().unwrap()]).grain(Grain::Month);
    let outcome = active.apply_with(&table, &Context::new().zone(zone.parse().unwrap())).unwrap();
    assert_eq!(outcome.ledger.count("without an end"), 1, "{}", outcome.ledger);
}

#[test]
fn active_at_end_does_not_depend_on_other_groups() {
    let stays = |rows: &str| crate::sample::table(&format!("who:text a:date z:date\n{rows}"));
    let counts = Active::new("a", "z").count().per(["who"]).grain(Grain::Month);
    let at_end = |rows: &str| {
        let table = counts.apply(&stays(rows)).unwrap().table;
        integers(&table, "active_at_end")
    };
    // A ends in March, and an open stay continues.
    assert_eq!(at_end("A 2025-02-03 2025-03-20"), [1, 0]);
    assert_eq!(at_end("A 2025-02-03 2025-03-20\nB 2025-03-01 2025-03-31"), [1, 0, 0, 1]);
    assert_eq!(at_end("A 2025-02-03 2025-03-20\nB 2025-03-01 -"), [1, 0, 0, 1]);
}

#[test]
fn an_open_interval_of_quarters_lasts_through_the_newest_quarter() {
    let table = crate::sample::table("a:date z:date\n2025-Q1 2025-Q1\n2025-Q2 -");
    let outcome = Active::new("a", "z").grain(Grain::Quarter).apply(&table).unwrap();
    assert_eq!(integers(&outcome.table, "active_days"), [90, 91]);
}

#[test]
fn sums_of_active_records_are_exact_beside_a_huge_one() {
    let table = crate::sample::table(
        "a:date z:date x:float
         2025-01-01 2025-01-02 12.5
         2025-01-02 2025-01-04 0.25
         2025-01-01 2025-01-01 9.96921e36",
    );
    let outcome = Active::new("a", "z").count().sum(["x"]).apply(&table).unwrap();
    let sums = outcome.table.column("sum_x").unwrap();
    let sums = sums.as_primitive::<arrow_array::types::Float64Type>().values().to_vec();
    assert_eq!(sums, [9.96921e36 + 12.5, 12.75, 0.25, 0.25]);
}

/// The clocks of Lord Howe differ from UTC by a half hour in winter, and change by half an hour.
#[rstest]
#[case::winter("2025-07-01T00:10", "2025-07-01T01:40", &["2025-06-30T23:30:00",
    "2025-07-01T00:30:00", "2025-07-01T01:30:00"])]
#[case::summer("2025-01-01T00:10", "2025-01-01T01:40", &["2025-01-01T00:00:00",
    "2025-01-01T01:00:00"])]
#[case::the_change("2025-04-05T14:10", "2025-04-05T15:50", &["2025-04-05T14:00:00",
    "2025-04-05T15:00:00", "2025-04-05T15:30:00"])]
fn hours_are_those_of_the_local_clock_all_year(
    #[case] start: &str,
    #[case] end: &str,
    #[case] hours: &[&str],
) {
    let context = Context::new().zone("Australia/Lord_Howe".parse().unwrap());
    // An early record must not shift the beginning of hours.
    let table = instants(&[("1890-01-01T00:00", "1890-01-01T00:01"), (start, end)]);
    let range = format!("{}..{}", &start[..10], &end[..10]).parse::<Range>().unwrap().first();
    let active = Active::new("a", "z").grain(Grain::Hour);
    let active = active
        .range(Range::new(range.plus_days(-1).unwrap(), range.plus_days(1).unwrap()).unwrap());
    let outcome = active.apply_with(&table, &context).unwrap();
    let moments = outcome
        .table
        .column("hour")
        .unwrap()
        .as_primitive::<arrow_array::types::TimestampMicrosecondType>();
    let plain = TimestampMicrosecondArray::new(moments.values().clone(), None);
    let got: Vec<String> =
        (0..plain.len()).map(|row| array_value_to_string(&plain, row).unwrap()).collect();
    assert_eq!(got, hours);
    // The counts have the same hours.
    let counts = active.count().apply_with(&table, &context).unwrap();
    let active = integers(&counts.table, "active").iter().filter(|&&count| count > 0).count();
    assert_eq!(active, hours.len());
}

#[test]
fn a_share_of_zero_has_no_sign_and_one_of_tenths_has_hundredths() {
    let table =
        crate::sample::table("a:date z:date x:float y:float\n2025-01-31 2025-02-01 -0.0 0.3");
    let outcome =
        Active::new("a", "z").grain(Grain::Month).share(["x", "y"]).apply(&table).unwrap();
    let zero = outcome.table.column("x_share").unwrap();
    let zero = zero.as_primitive::<arrow_array::types::Float64Type>();
    assert!(zero.values().iter().all(|share| share.to_bits() == 0), "{zero:?}");
    let tenths: ArrayRef =
        Arc::new(Decimal64Array::from(vec![3]).with_precision_and_scale(18, 1).unwrap());
    let table = table.with_column("tenths", tenths).unwrap();
    let outcome = Active::new("a", "z").share(["tenths"]).apply(&table).unwrap();
    assert_eq!(shown(&outcome.table, &["tenths_share"]), ["0.15", "0.15"]);
}

#[test]
fn a_range_that_cuts_periods_is_named_in_a_warning() {
    let table = days(&[("2024-01-05", "2024-03-20")]);
    let ranged = |range: &str| {
        let active = Active::new("a", "z").grain(Grain::Month).range(range.parse().unwrap());
        active.apply(&table).unwrap().ledger.warnings().map(ToString::to_string).collect::<Vec<_>>()
    };
    assert_eq!(ranged("2024-01..2024-02"), [""; 0]);
    let said = "the range 2024-01-10..2024-02-29 covers only part of 2024-01. Rows outside the \
        range are not counted";
    assert_eq!(ranged("2024-01-10..2024-02-29"), [said]);
}

#[test]
fn a_result_that_needs_more_memory_than_the_limit_is_refused() {
    let table = days(&[("0001-01-01", "9999-12-31")]);
    let context = Context::new().memory(1 << 20);
    let active = Active::new("a", "z");
    for active in [active.clone(), active.clone().count()] {
        let error = active.apply_with(&table, &context).unwrap_err().to_string();
        assert!(
            error.starts_with("the result would have 3,652,059 rows and need about "),
            "{error}"
        );
        let advice = "MiB of memory, more than the limit of 1024 KiB. Choose a longer grain or a \
            shorter range, or raise the limit: `Chain::memory`, ";
        assert!(error.contains(advice), "{error}");
    }
    // Batches do not need memory for the whole result.
    let mut rows = 0;
    let sink = &mut |batch: &Table| {
        rows += batch.rows();
        Ok(())
    };
    active.apply_into(&table, &context, sink).unwrap();
    assert_eq!(rows, 3_652_059);
}

#[test]
fn shares_of_three_equal_days_differ_by_a_cent() {
    let table = days(&[("2025-01-31", "2025-02-02")]);
    let amount: ArrayRef =
        Arc::new(Decimal64Array::from(vec![1000]).with_precision_and_scale(18, 2).unwrap());
    let table = table.with_column("amount", amount).unwrap();
    let outcome = Active::new("a", "z").share(["amount", "id as part"]).apply(&table).unwrap();
    assert_eq!(
        shown(&outcome.table, &["amount_share", "part"]),
        ["3.33 0.00", "3.34 0.00", "3.33 0.00"]
    );
}

/// The days in an interval and a range, one by one.
fn active_days(row: &Row, close: i32, range: Option<(i32, i32)>) -> Vec<i32> {
    let (Some(start), end) = *row else { return Vec::new() };
    let end = end.unwrap_or(close);
    (start..=end).filter(|day| range.is_none_or(|(from, to)| (from..=to).contains(day))).collect()
}

fn rows() -> impl Strategy<Value = Vec<Row>> {
    let start = prop_oneof![9 => (0_i32..300).prop_map(Some), 1 => Just(None)];
    let row = (start, prop_oneof![8 => (-2_i32..90).prop_map(Some), 1 => Just(None)]);
    prop::collection::vec(
        row.prop_map(|(start, length)| (start, length.map(|length| start.unwrap_or(5) + length))),
        0..40,
    )
}

fn newest(rows: &[Row]) -> i32 {
    let starts = rows.iter().filter_map(|row| row.0);
    starts.chain(rows.iter().filter_map(|row| row.1)).max().unwrap_or(0)
}

proptest! {
    #[test]
    fn rows_and_counts_are_those_of_a_calendar_with_a_mark_for_each_active_day(
        rows in rows(),
        grain in prop::sample::select(vec![Grain::Day, Grain::Week, Grain::Month, Grain::Quarter]),
        range in prop::option::of((0_i32..200, 0_i32..150)),
        groups in 1_i64..4,
    ) {
        let close = newest(&rows);
        let range = range.map(|(from, length)| (from, from + length));
        let stated = range.map(|(from, to)| Range::new(Day::from_number(from).unwrap(),
            Day::from_number(to).unwrap()).unwrap());
        let group: ArrayRef = Arc::new((0..rows.len() as i64).map(|id| Some(id % groups))
            .collect::<Int64Array>());
        let weight: ArrayRef = Arc::new((0..rows.len()).map(|id| Some(id as f64 * 0.1))
            .collect::<Float64Array>());
        let table = table_of(&rows).with_column("g", group).unwrap().with_column("w",
            weight).unwrap();
        let active = Active { range: stated, ..Active::new("a", "z").grain(grain) };
        let periods = Periods::from(grain);
        let number = |day: i32| periods.number(Day::from_number(day).unwrap());

        // Rows.
        let mut expected = Vec::new();
        for (id, row) in rows.iter().enumerate() {
            let mut by_period: BTreeMap<i32, i64> = BTreeMap::new();
            active_days(row, close,
                range).iter().for_each(|&day| *by_period.entry(number(day)).or_default() += 1);
            expected.extend(by_period.into_iter().map(|(period, days)| (id as i64,
                periods.numbered(period).first().number(), days)));
        }
        let outcome = active.apply(&table).unwrap();
        prop_assert!(outcome.ledger.balances());
        let firsts = outcome.table.column(grain.word()).unwrap()
            .as_primitive::<arrow_array::types::Date32Type>().values();
        let days = if grain == Grain::Day { vec![1; firsts.len()] } else { integers(&outcome.table,
            "active_days") };
        let got: Vec<_> = integers(&outcome.table,
            "id").into_iter().zip(firsts.iter().copied()).zip(days).map(|((id, first), days)| (id,
                first, days)).collect();
        prop_assert_eq!(&got, &expected);

        // Batches give the same.
        let mut batched = Vec::new();
        active.apply_into(&table, &Context::new(), &mut |batch| { batched.extend(integers(batch,
            "id")); Ok(()) }).unwrap();
        prop_assert_eq!(batched, expected.iter().map(|row| row.0).collect::<Vec<_>>());

        // Counts, per group.
        let counts = active.count().per(["g"]).sum(["w", "id"]).apply(&table).unwrap();
        let usable: Vec<Vec<i32>> = rows.iter().map(|row| active_days(row, close, range)).collect();
        let all = || usable.iter().flatten().copied();
        let Some((first, last)) = range.or(all().min().zip(all().max())) else { return Ok(()) };
        let column = |name: &str| integers(&counts.table, name);
        let (gs, lists) = (column("g"), ["active", "started", "ended", "active_at_end",
            "most_at_once", "active_days"].map(column));
        let firsts = counts.table.column(grain.word()).unwrap()
            .as_primitive::<arrow_array::types::Date32Type>().values();
        let ids = column("sum_id");
        let per_group = (number(last) - number(first) + 1) as usize;
        prop_assert_eq!(gs.len(), per_group * (groups as usize).min(rows.len()));
        for (slot, &g) in gs.iter().enumerate() {
            let period = periods.containing(Day::from_number(firsts[slot]).unwrap());
            let bounds = (period.first().number().max(first), period.last().number().min(last));
            let of_group = || (0..rows.len()).filter(|&id| id as i64 % groups == g && !usable[id]
                .is_empty());
            let within = |day: &i32| (bounds.0..=bounds.1).contains(day);
            let on = |day: i32| of_group().filter(|&id| usable[id].contains(&day)).count() as i64;
            // Without a range, the whole last period counts. An interval without an end is active
            // at its end.
            let end = range.map_or(period.last().number(), |_| bounds.1);
            let at_end = |id: usize| {
                usable[id].contains(&end) || rows[id].1.is_none() && within(&close) && usable[id]
                    .iter().any(within)
            };
            let ends = |id: usize| rows[id].1.is_some_and(|end| within(&end) && range
                .is_none_or(|(_, to)| end <= to));
            let starts = |id: usize| rows[id].0.is_some_and(|start| within(&start));
            let expected = [
                of_group().filter(|&id| usable[id].iter().any(within)).count() as i64,
                of_group().filter(|&id| starts(id)).count() as i64,
                of_group().filter(|&id| ends(id)).count() as i64,
                of_group().filter(|&id| at_end(id)).count() as i64,
                (bounds.0..=bounds.1).map(on).max().unwrap_or(0),
                (bounds.0..=bounds.1).map(on).sum(),
            ];
            prop_assert_eq!(lists.each_ref().map(|list| list[slot]), expected, "slot {}", slot);
            let sum: usize = of_group().filter(|&id| usable[id].iter().any(within)).sum();
            prop_assert_eq!(ids[slot], sum as i64);
        }
        // The counts of the ledger add up to those of the result.
        prop_assert_eq!(lists[5].iter().sum::<i64>(),
            usable.iter().map(|days| days.len() as i64).sum::<i64>());
        let started = usable.iter().zip(&rows).filter(|(days,
            row)| days.first() == row.0.as_ref() && !days.is_empty()).count();
        prop_assert_eq!(lists[1].iter().sum::<i64>() as usize, started);
    }

    #[test]
    fn shares_add_up_to_the_measure(
        rows in prop::collection::vec((0_i32..500, 0_i32..200, any::<i32>(), -1e12_f64..1e12),
            1..10),
        grain in prop::sample::select(vec![Grain::Day, Grain::Week, Grain::Month]),
    ) {
        let table = table_of(&rows.iter().map(|row| (Some(row.0),
            Some(row.0 + row.1))).collect::<Vec<_>>());
        let units: Decimal64Array = rows.iter().map(|row| Some(i64::from(row.2))).collect();
        let money: ArrayRef = Arc::new(units.with_precision_and_scale(18, 3).unwrap());
        let floats: ArrayRef = Arc::new(rows.iter().map(|row| Some(row.3))
            .collect::<Float64Array>());
        let table = table.with_column("m", money).unwrap().with_column("f", floats).unwrap();
        let outcome = Active::new("a", "z").grain(grain).share(["m", "f"]).apply(&table).unwrap();
        let ids = integers(&outcome.table, "id");
        let shares = outcome.table.column("m_share").unwrap()
            .as_primitive::<arrow_array::types::Decimal64Type>().values();
        for (id, row) in rows.iter().enumerate() {
            let sum: i64 = ids.iter().zip(shares).filter(|(of, _)| **of == id as i64).map(|(_,
                share)| share).sum();
            prop_assert_eq!(sum, i64::from(row.2));
            let mask = BooleanBuffer::collect_bool(ids.len(), |slot| ids[slot] == id as i64);
            let sum = crate::ExactSum::of_rows(&outcome.table, "f_share", &mask).unwrap();
            prop_assert_eq!(sum.to_string(), row.3.to_string());
        }
    }

    #[test]
    fn sorted_events_and_slots_give_the_same_counts(rows in rows()) {
        // Beyond the limit on slots, the events of each group are sorted. Here both ways are used
        // on the same groups.
        let table = table_of(&rows);
        let (start, end) = (1, 2);
        let rules = Rules {
            start,
            end,
            end_day: EndDay::Inclusive,
            open_ends: OpenEnds::AsOf,
            never_ends: Vec::new(),
            range: None,
            hours: false,
            only_until_as_of: false,
        };
        let intervals = Intervals::from_table(&table, &rules, &Context::new()).unwrap();
        let Some((first, last)) = intervals.overall() else { return Ok(()) };
        prop_assert!(super::counts::both_sweeps_agree(&intervals, &table, first, last));
    }
}

proptest! {
    /// Counts of groups that are processed separately, and rows in another order.
    #[test]
    fn groups_processed_separately_and_merged_are_the_whole_in_any_order(
        rows in prop::collection::vec((0_i64..3, 20_000_i32..20_060, 0_i32..20), 1..40),
        grain in prop::sample::select(vec![Grain::Day, Grain::Week, Grain::Month]),
    ) {
        let table = |rows: &[(i64, i32, i32)]| {
            let days = |of: fn(&(i64, i32, i32)) -> i32| -> ArrayRef {
                Arc::new(rows.iter().map(|row| Some(of(row))).collect::<Date32Array>())
            };
            let who: ArrayRef = Arc::new(rows.iter().map(|row| Some(row.0))
                .collect::<Int64Array>());
            Table::from_columns([("who", who), ("a", days(|row| row.1)), ("z",
                days(|row| row.1 + row.2))]).unwrap()
        };
        let columns = ["who", "active", "started", "ended", "active_at_end", "most_at_once",
            "active_days"];
        // A fixed range, so that all groups have the same periods.
        let range = "2024-09-01..2025-02-28".parse().unwrap();
        let counted = Active::new("a", "z").grain(grain).range(range).count().per(["who"]);
        let whole = counted.apply(&table(&rows)).unwrap();
        let mut turned = rows.clone();
        turned.reverse();
        prop_assert_eq!(shown(&counted.apply(&table(&turned)).unwrap().table, &columns),
            shown(&whole.table, &columns));
        let mut lines = Vec::new();
        for who in 0..3 {
            let own: Vec<_> = rows.iter().filter(|row| row.0 == who).copied().collect();
            lines.extend(shown(&counted.apply(&table(&own)).unwrap().table, &columns));
        }
        prop_assert_eq!(lines, shown(&whole.table, &columns));
        // Without groups, started, ended and days are the sums over the groups.
        let all = Active::new("a",
            "z").grain(grain).range(range).count().apply(&table(&rows)).unwrap().table;
        for name in ["active", "started", "ended", "active_at_end", "active_days"] {
            prop_assert_eq!(integers(&all, name).iter().sum::<i64>(), integers(&whole.table,
                name).iter().sum::<i64>(), "{}", name);
        }
    }
}

/// Rows without an end wait for the newest date of all rows, unless it is known.
#[test]
fn open_intervals_do_not_wait_for_a_newest_date_that_is_known() {
    let day = |n: i32| Some(20_000 + n % 50);
    let open: Vec<Row> = (0..2_000).map(|n| (day(n), None)).collect();
    let table = table_of(&open);
    let plan = Active::new("a", "z").count().prepare(&table.shape(), &Context::new()).unwrap();
    let overall = plan.survey(&table).unwrap().unwrap();
    let surveyed = plan.for_parts(overall);
    let folded = |plan: &Plan| {
        let mut fold = plan.begin().unwrap();
        for from in (0..2_000).step_by(500) {
            fold.take(&table.slice(from, 500), from as u64).unwrap();
        }
        (fold.bytes(), fold.finish().unwrap())
    };
    let ((waiting, one), (settled, other)) = (folded(&plan), folded(&surveyed));
    assert!(settled < waiting / 4, "{settled} and {waiting} bytes");
    assert_eq!((&one.table, one.ledger), (&other.table, other.ledger));
    assert_eq!(one.table, plan.apply(&[&table]).unwrap().table);
}

/// Counts that are delivered in batches are those of the whole result, however many periods and
/// groups there are.
#[rstest]
#[case::of_one_group(&[])]
#[case::of_groups(&["berth"])]
fn counts_in_batches_are_those_of_the_whole(#[case] per: &[&str]) {
    let table = crate::sample::table(
        "berth:text arrived:date left:date tons:number
         Basin 1700-01-01 2600-12-31 5
         Quay 1850-05-05 - 2
         Basin 1990-03-03 1990-03-04 7
         Mole 2024-02-29 2024-03-01 1",
    );
    for grain in [Grain::Day, Grain::Week, Grain::Year] {
        let active = Active::new("arrived", "left").count().grain(grain).per(per.to_vec());
        let plan = active.sum(["tons"]).prepare(&table.shape(), &Context::new()).unwrap();
        let whole = plan.apply(&[&table]).unwrap();
        let mut batches = Vec::new();
        let outcome = plan
            .apply_into(&[&table], &mut |batch| {
                batches.push(batch.clone());
                Ok(())
            })
            .unwrap();
        assert_eq!(batches.len() > 1, whole.table.rows() > 1 << 18, "{grain}");
        let joined = Table::joined(&batches[0], &batches[1..]).unwrap();
        assert_eq!(joined, whole.table);
        assert_eq!(outcome.ledger.to_string(), whole.ledger.to_string());
        assert_eq!(
            outcome.table.names().collect::<Vec<_>>(),
            whole.table.names().collect::<Vec<_>>()
        );
    }
}

#[test]
fn months_that_a_range_of_days_cuts_count_as_a_whole() {
    let rows = crate::sample::table("a:date z:date\n2024-01 2024-03");
    let range = "2024-01-10..2024-02-15".parse().unwrap();
    let active = Active::new("a", "z").grain(Grain::Month).range(range);
    for (active, days) in [(active.clone(), ["31", "29"]), (active.count(), ["31", "29"])] {
        let outcome = active.apply(&rows).unwrap();
        let ledger = outcome.ledger.to_string();
        let last = |row: &String| row.rsplit(' ').next().unwrap_or_default().to_owned();
        let shown: Vec<String> = crate::sample::shown(&outcome.table).iter().map(last).collect();
        assert_eq!(shown, days, "{ledger}");
        assert!(
            ledger.contains("covers only part of 2024-01 and 2024-02, which count"),
            "{ledger}"
        );
        assert_eq!(ledger.matches("covers only part").count(), 1, "{ledger}");
    }
}
