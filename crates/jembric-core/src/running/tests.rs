use super::*;
use crate::{calendar::Day, sort_keys::in_order_of_floats};
use arrow_array::{
    Date32Array, Decimal64Array, Float64Array, Int64Array, TimestampMicrosecondArray,
    cast::AsArray,
    types::{Float64Type, Int64Type},
};
use proptest::prelude::*;
use rstest::rstest;

fn shown(table: &Table, name: &str) -> Vec<String> {
    (0..table.rows()).map(|row| table.cell_text(name, row).unwrap()).collect()
}

/// A fill value of another entity, or one that has left the trailing span, does not make sums and
/// means inexact.
#[rstest]
#[case::of_another_entity("a 2025-01-01 12.5\na 2025-01-02 0.25\nb 2025-01-01 9.96921e36", None,
    &["12.5", "12.75", "9.96921e36"])]
#[case::that_has_left("a 2025-01-01 -3.4e38\na 2025-01-05 0.1\na 2025-01-06 0.2", Some("2 days"),
    &["-3.4e38", "0.1", "0.30000000000000004"])]
fn a_huge_float_does_not_change_other_sums(
    #[case] rows: &str,
    #[case] trailing: Option<&str>,
    #[case] sums: &[&str],
) {
    let table = crate::sample::table(&format!("g:text day:date x:float\n{rows}"));
    let trailing = trailing.map(|span| span.parse().unwrap());
    let running = Running { trailing, ..Running::new("day").per(["g"]).sum(["x"]).mean(["x"]) };
    let outcome = running.apply(&table).unwrap();
    let name = format!("sum_{}_x", running.reach());
    let expected: Vec<f64> = sums.iter().map(|sum| sum.parse().unwrap()).collect();
    let got = outcome.table.column(&name).unwrap().as_primitive::<Float64Type>().values().to_vec();
    assert_eq!(got, expected);
    assert_eq!(outcome.ledger.count("missing values skipped"), 0);
}

/// A missing cell is counted once, even if several figures use its column.
#[test]
fn a_missing_cell_is_counted_once() {
    let table = crate::sample::table(
        "day:date x:number y:number\n2025-01-01 - 1\n2025-01-02 2 -\n2025-01-03 - 3",
    );
    let running = Running::new("day").max(["x"]).min(["x"]).sum(["x", "y"]).mean(["x"]);
    assert_eq!(running.apply(&table).unwrap().ledger.count("missing values skipped"), 3);
}

type Row = (Option<i64>, Option<i32>, Option<i64>);

fn table(rows: &[Row]) -> Table {
    Table::from_columns([
        ("who", Arc::new(rows.iter().map(|row| row.0).collect::<Int64Array>()) as ArrayRef),
        ("day", Arc::new(rows.iter().map(|row| row.1).collect::<Date32Array>())),
        ("level", Arc::new(rows.iter().map(|row| row.2).collect::<Int64Array>())),
        (
            "float",
            Arc::new(
                rows.iter().map(|row| row.2.map(|n| n as f64 / 8.0)).collect::<Float64Array>(),
            ),
        ),
    ])
    .unwrap()
}

fn everything() -> Running {
    let one = ["level"];
    Running::new("day").per(["who"]).max(one).min(one).sum(one).mean(one).count().mark_highs("high")
}

/// For each row, all rows of its entity that count for its date: their greatest, least, sum, mean
/// and count, and whether it is high.
fn by_hand(rows: &[Row], running: &Running) -> Vec<String> {
    let day_of = |number: i32| Day::from_number(number).unwrap();
    let first = |day: i32| {
        let trailing =
            running.trailing.map(|span| span.negated().after(day_of(day)).unwrap().number() + 1);
        let anew = running.periods().map(|periods| periods.first_day(day_of(day)).number());
        trailing.max(anew).unwrap_or(i32::MIN)
    };
    let usable = rows.iter().enumerate().filter_map(|(n, row)| Some((n, row.0?, row.1?, row.2)));
    let usable: Vec<(usize, i64, i32, Option<i64>)> = usable.collect();
    let text = |value: Option<i64>| value.map(|value| value.to_string()).unwrap_or_default();
    let of_row = |&(n, who, day, value): &(usize, i64, i32, Option<i64>)| {
        let of_entity = || usable.iter().filter(|row| row.1 == who && row.2 >= first(day));
        let counts = |row: &&(usize, i64, i32, Option<i64>)| {
            row.2 < day || row.2 == day && (!running.row_by_row || row.0 <= n)
        };
        let values: Vec<i64> = of_entity().filter(counts).filter_map(|row| row.3).collect();
        let before = of_entity()
            .filter(|row| row.2 < day || row.2 == day && running.row_by_row && row.0 < n);
        let high = value.map(|value| before.filter_map(|row| row.3).all(|other| other < value));
        let sum: i64 = values.iter().sum();
        let mean = (!values.is_empty()).then(|| sum as f64 / values.len() as f64);
        format!(
            "{} {} {sum} {:?} {} {}",
            text(values.iter().max().copied()),
            text(values.iter().min().copied()),
            mean,
            of_entity().filter(counts).count(),
            high.map(|high| high.to_string()).unwrap_or_default()
        )
    };
    usable.iter().map(of_row).collect()
}

fn answered(outcome: &Outcome, running: &Running) -> Vec<String> {
    let table = &outcome.table;
    let cell = |what: &str, row: usize| {
        table
            .cell_text(
                &format!(
                    "{what}_{}{}",
                    running.reach(),
                    if what == "count" { "" } else { "_level" }
                ),
                row,
            )
            .unwrap()
    };
    let mean = |row: usize| {
        let means = table
            .column(&format!("mean_{}_level", running.reach()))
            .unwrap()
            .as_primitive::<Float64Type>();
        means.is_valid(row).then(|| means.value(row))
    };
    let line = |row| {
        let high = table.cell_text("high", row).unwrap();
        format!(
            "{} {} {} {:?} {} {high}",
            cell("max", row),
            cell("min", row),
            cell("sum", row),
            mean(row),
            cell("count", row)
        )
    };
    (0..table.rows()).map(line).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]
    #[test]
    fn running_figures_agree_with_all_earlier_rows(
        rows in prop::collection::vec(
            (prop::option::weighted(0.9, 0_i64..3), prop::option::weighted(0.9,
                20_000_i32..20_120), prop::option::weighted(0.8, -9_i64..9)),
            0..50,
        ),
        trailing in prop::option::of(prop::sample::select(vec![Span::days(1), Span::days(7),
            Span::months(1)])),
        anew in prop::option::of(prop::sample::select(vec![Grain::Week, Grain::Month,
            Grain::Year])),
        row_by_row in any::<bool>(),
    ) {
        let running = Running { trailing, anew_each: anew, row_by_row, ..everything() };
        let outcome = running.apply(&table(&rows)).unwrap();
        prop_assert_eq!(answered(&outcome, &running), by_hand(&rows, &running));
        prop_assert!(outcome.ledger.balances());

        // Floats that are exact give the same as whole numbers, and the order of the rows does not
        // matter.
        if !row_by_row {
            let floats = Running { max: vec!["float".into()],
                ..Running::new("day").per(["who"]).sum(["float"]) };
            let floats = Running { trailing, anew_each: anew, ..floats };
            let mut turned = rows.clone();
            turned.reverse();
            let backwards = floats.apply(&table(&turned)).unwrap().table;
            for (what, of) in [("max", 1), ("sum", 1)] {
                let float = backwards.column(&format!("{what}_{}_float",
                    floats.reach())).unwrap().as_primitive::<Float64Type>();
                let whole = outcome.table.column(&format!("{what}_{}_level",
                    floats.reach())).unwrap().as_primitive::<Int64Type>();
                let mut expected: Vec<Option<f64>> = whole.iter().map(|n| n
                    .map(|n| n as f64 / 8.0 * f64::from(of))).collect();
                expected.reverse();
                prop_assert_eq!(float.iter().collect::<Vec<_>>(), expected);
            }
        }
    }
}

#[rstest]
#[case::whole(Some("100"), &["103", "98"])]
#[case::with_places(Some("0.5"), &["3.5", "-1.5"])]
#[case::negative(Some("-10.25"), &["-7.25", "-12.25"])]
#[case::none(None, &["3", "-2"])]
fn a_sum_begins_with_the_opening_balance(#[case] opening: Option<&str>, #[case] expected: &[&str]) {
    let rows = table(&[(Some(1), Some(1), Some(3)), (Some(1), Some(2), Some(-5))]);
    let running = Running {
        opening: opening.map(|text| text.parse().unwrap()),
        ..Running::new("day").sum(["level"])
    };
    assert_eq!(shown(&running.apply(&rows).unwrap().table, "sum_so_far_level"), expected);
}

#[test]
fn amounts_add_up_exactly_and_moments_are_distinct() {
    let noon = |day: i64, hour: i64| (day * 24 + hour) * 3_600_000_000;
    let at = TimestampMicrosecondArray::from(vec![noon(0, 12), noon(0, 9), noon(1, 9), noon(2, 9)]);
    let cents = Decimal64Array::from(vec![10, 20, 1, 30]).with_precision_and_scale(18, 2).unwrap();
    let table =
        Table::from_columns([("at", Arc::new(at) as ArrayRef), ("paid", Arc::new(cents))]).unwrap();
    let running = Running::new("at").sum(["paid as so_far"]).max(["paid"]);
    let answer = running.apply(&table).unwrap().table;
    assert_eq!(shown(&answer, "so_far"), ["0.30", "0.20", "0.31", "0.61"]);
    assert_eq!(shown(&answer, "max_so_far_paid"), ["0.20", "0.20", "0.20", "0.30"]);
    // Two days up to the moment, counted in days and not in hours.
    let trailing =
        Running::new("at").sum(["paid"]).trailing(Span::days(2)).apply(&table).unwrap().table;
    assert_eq!(shown(&trailing, "sum_trailing_paid"), ["0.30", "0.20", "0.31", "0.31"]);
}

#[test]
fn a_fiscal_year_restarts_in_its_first_month() {
    let day = |text: &str| text.parse::<Day>().ok().map(Day::number);
    let rows = [
        (Some(1), day("2025-03-31"), Some(1)),
        (Some(1), day("2025-04-01"), Some(2)),
        (Some(1), day("2026-03-31"), Some(4)),
    ];
    let running = Running::new("day")
        .sum(["level"])
        .anew_each(Grain::Year)
        .year_start(crate::calendar::Month::April);
    assert_eq!(
        shown(&running.apply(&table(&rows)).unwrap().table, "sum_so_far_level"),
        ["1", "2", "6"]
    );
}

#[rstest]
#[case::nothing(Running::new("day"), "`max` is not given")]
#[case::marks(Running::new("day").count().mark_highs("h"), "`mark-highs` needs `max`")]
#[case::taken(Running::new("day").max(["level as who"]),
    "the table already has a column `who`: choose another name")]
#[case::text(Running::new("day").max(["day"]),
    "column `day` holds dates, but numbers are required")]
#[case::backwards(Running::new("day").count().trailing(Span::days(-1)),
    "`trailing` is not a span forward in time: expected a span such as `28 days`")]
#[case::opening_anew(Running::new("day").sum(["level"]).opening(1.into()).anew_each(Grain::Year),
    "`opening` cannot be used together with `anew-each`")]
#[case::overflow(Running::new("day").sum(["level"]).opening(i64::MAX.into()),
    "the sum of `level` gives a number that is too large to be exact: 9223372036854775810")]
fn routines_that_cannot_run_are_explained(#[case] running: Running, #[case] expected: &str) {
    let error = running.apply(&table(&[(Some(1), Some(1), Some(3))])).unwrap_err().to_string();
    assert!(error.contains(expected), "{error}");
}

#[rstest]
#[case::span(Running::new("m").count().trailing(Span::days(7)),
    Err("column `m` holds months, so it has no 7 days. Ask for months"))]
#[case::periods(Running::new("m").count().anew_each(Grain::Week),
    Err("column `m` holds months, so it has no weeks. Ask for months"))]
#[case::months(Running::new("m").count().trailing(Span::months(2)), Ok(&["1", "2", "2"][..]))]
#[case::years(Running::new("m").count().anew_each(Grain::Year), Ok(&["1", "1", "2"][..]))]
fn months_have_no_days(
    #[case] running: Running,
    #[case] expected: std::result::Result<&[&str], &str>,
) {
    let day = |text: &str| text.parse::<Day>().unwrap().number();
    let months: ArrayRef =
        Arc::new(Date32Array::from(vec![day("2024-12-01"), day("2025-01-01"), day("2025-02-01")]));
    let table =
        Table::from_columns([("m", months)]).unwrap().with_periods("m", Grain::Month).unwrap();
    match (running.apply(&table), expected) {
        (Ok(outcome), Ok(expected)) => {
            assert_eq!(shown(&outcome.table, outcome.table.names().last().unwrap()), expected);
        }
        (Err(error), Err(expected)) => assert!(error.to_string().contains(expected), "{error}"),
        (answer, expected) => panic!("{answer:?} where {expected:?} was expected"),
    }
}

#[test]
fn settings_and_fields_are_the_same() {
    let fields = serde_json::to_value(everything()).unwrap();
    let fields: std::collections::BTreeSet<&String> = fields.as_object().unwrap().keys().collect();
    let named: std::collections::BTreeSet<String> =
        Running::SETTINGS.iter().map(|setting| setting.name.to_owned()).collect();
    assert_eq!(fields, named.iter().collect());
    assert!(Running::new("day").count().apply(&table(&[])).unwrap().table.rows() == 0);
}

proptest! {
    /// Sorted rows are not sorted again; the same rows in another order give the same values.
    #[test]
    fn sorted_and_unsorted_rows_give_the_same(
        rows in prop::collection::vec((0_i64..4, 20_000_i32..20_030, prop::option::weighted(0.8,
            -9_i64..9)), 0..60),
    ) {
        let mut sorted: Vec<Row> = rows.iter().map(|row| (Some(row.0), Some(row.1),
            row.2)).collect();
        sorted.sort();
        let apart: Vec<Row> = (0..sorted.len()).map(|n| sorted[(n * 37 + 11) % sorted.len()
            .max(1)]).collect();
        prop_assume!(!sorted.len().is_multiple_of(37));
        let running = everything();
        let in_order = answered(&running.apply(&table(&sorted)).unwrap(), &running);
        let out_of_order = answered(&running.apply(&table(&apart)).unwrap(), &running);
        for (n, line) in out_of_order.iter().enumerate() {
            prop_assert_eq!(line, &in_order[(n * 37 + 11) % sorted.len()]);
        }
    }

    #[test]
    fn entities_processed_separately_and_merged_are_the_whole(
        rows in prop::collection::vec((0_i64..4, 20_000_i32..20_030, prop::option::of(-9_i64..9)),
            0..60),
    ) {
        let rows: Vec<Row> = rows.iter().map(|row| (Some(row.0), Some(row.1), row.2)).collect();
        let running = everything().trailing(Span::days(5));
        let whole = running.apply(&table(&rows)).unwrap();
        let mut lines = answered(&whole, &running);
        let mut apart = Vec::new();
        let mut ledgers = Vec::new();
        for who in 0..4 {
            let own: Vec<Row> = rows.iter().filter(|row| row.0 == Some(who)).copied().collect();
            let part = running.apply(&table(&own)).unwrap();
            apart.extend(answered(&part, &running));
            ledgers.push(part.ledger);
        }
        lines.sort();
        apart.sort();
        prop_assert_eq!(lines, apart);
        let merged = ledgers.iter().skip(1).fold(ledgers[0].clone(), |all, part| all.merge(part));
        prop_assert_eq!((merged.kept, merged.count("new highs")), (whole.ledger.kept,
            whole.ledger.count("new highs")));
    }

    #[test]
    fn floats_keep_their_order_as_whole_numbers(one in any::<f64>(), other in any::<f64>()) {
        prop_assume!(!one.is_nan() && !other.is_nan());
        let key = |value: f64| in_order_of_floats(value.to_bits() as i64);
        prop_assert_eq!(one.total_cmp(&other), key(one).cmp(&key(other)));
        prop_assert_eq!(in_order_of_floats(key(one)) as u64, one.to_bits());
    }
}
