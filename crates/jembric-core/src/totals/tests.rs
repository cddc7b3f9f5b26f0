use super::*;
use crate::sample::{shown, table};
use arrow_array::{
    ArrayRef, Date32Array, Float64Array, Int64Array, StringViewArray, UInt32Array, cast::AsArray,
    types::*,
};
use proptest::prelude::*;
use rstest::rstest;
use std::{collections::BTreeMap, sync::Arc};

fn dues() -> Table {
    table(
        "issued:date paid:date class:text berth:text amount:money
         2025-01-06 2025-02-03 barge  North 100.10
         2025-01-20 -          tanker North 250.00
         2025-01-31 2025-01-31 barge  South 0.05
         2025-03-03 2025-04-01 -      South 40.00
         2025-03-04 2025-03-10 barge  North -
         -          -          barge  North 9.99",
    )
}

fn monthly() -> Totals {
    Totals::new().date(["issued"]).grain(Grain::Month)
}

fn names(table: &Table) -> String {
    table.names().collect::<Vec<_>>().join(" ")
}

#[test]
fn totals_have_a_row_for_each_month_and_class_and_sums_are_compared() {
    let requested = monthly()
        .per(["class"])
        .sum(["amount"])
        .mean(["amount"])
        .min(["issued"])
        .max(["amount as most"]);
    let outcome = requested.count().distinct(["berth"]).apply(&dues()).unwrap();
    assert_eq!(
        names(&outcome.table),
        "month class sum_amount mean_amount min_issued most distinct_berth count"
    );
    assert_eq!(
        shown(&outcome.table),
        [
            "2025-01 barge 100.15 50.075 2025-01-06 100.10 2 2",
            "2025-01 tanker 250.00 250.0 2025-01-20 250.00 1 1",
            "2025-03 barge 0.00 - 2025-03-04 - 1 1",
            "2025-03 - 40.00 40.0 2025-03-03 40.00 1 1",
        ]
    );
    insta::assert_snapshot!(outcome.ledger, @"
    totals: sum of amount, mean of amount, min of issued, max of amount as most, distinct of berth, count by month of issued, class, range 2025-01-01..2025-03-31
      rows in       6
      kept          5  rows in the result: 4 · empty months not shown: 1 · missing values skipped: 1
      set aside     1  date missing
      sum of amount: 400.14 in = 390.15 kept + 9.99 set aside; 390.15 in the result
      balance       6 = 5 kept + 1 set aside
    ");
}

/// A record from before the time zone had full hours does not shift the hours of today.
#[rstest]
#[case("Europe/Lisbon", "2024-07-01T09:40:00Z", "2024-07-01T09:00Z")]
#[case("Asia/Kathmandu", "2024-07-01T09:40:00Z", "2024-07-01T09:15Z")]
#[case("Australia/Lord_Howe", "2024-07-01T09:40:00Z", "2024-07-01T09:30Z")]
#[case("Australia/Lord_Howe", "2024-12-01T09:40:00Z", "2024-12-01T09:00Z")]
fn an_early_record_does_not_move_the_hours_of_later_ones(
    #[case] zone: &str,
    #[case] at: &str,
    #[case] hour: &str,
) {
    let rows = table(&format!("at:instant\n1850-01-01T12:00:00Z\n{at}"));
    let context = Context::new().zone(zone.parse().unwrap());
    let totals = Totals::new().date(["at"]).grain(Grain::Hour).count();
    let outcome = totals.apply_with(&rows, &context).unwrap();
    assert_eq!(shown(&outcome.table)[1], format!("{hour} 1"));
    let filled = crate::Filled::new("at").grain(Grain::Hour).range(at[..10].parse().unwrap());
    let filled = filled.apply_with(&rows, &context).unwrap();
    assert!(shown(&filled.table).contains(&at.replace(":00Z", "Z")));
    // A period in an expression is the same hour.
    let added = crate::Add::new(["hour = period(at, hour)"]).apply_with(&rows, &context).unwrap();
    assert_eq!(shown(&added.table)[1].split(' ').nth(1), Some(hour));
}

/// A fill value in one group, or in a row that does not count, does not make the sums of others
/// inexact.
#[rstest]
#[case("a 12.5\na 0.25\nb 9.96921e36", "12.75")]
#[case("a 12.5\na 0.25\nb -3.4e38\nb 1e-300", "12.75")]
#[case("a 1e16\na 1\na -1e16\nb 1e-320", "1.0")]
fn one_huge_float_does_not_change_the_sums_of_other_groups(#[case] rows: &str, #[case] sum: &str) {
    let rows = table(&format!("g:text x:float\n{rows}"));
    let totals = Totals::new().per(["g"]).sum(["x"]);
    assert_eq!(shown(&totals.apply(&rows).unwrap().table)[0], format!("a {sum}"));
    let all = Totals::new().sum(["x"]).apply(&rows).unwrap();
    let of_all = &all.ledger.reconciled[0];
    assert_eq!(of_all.in_answer.as_ref(), Some(&of_all.kept), "{}", all.ledger);
}

#[test]
fn figures_beside_a_range_warn_of_what_they_cover() {
    let rows = table("day:date x:number\n2024-01-05 1\n2024-03-20 3\n2024-12-01 5");
    let outcome = Totals::new()
        .date(["day"])
        .grain(Grain::Month)
        .sum(["x"])
        .beside(["year"])
        .range("2024-01-10..2024-06-30".parse().unwrap())
        .apply(&rows)
        .unwrap();
    let ledger = outcome.ledger.to_string();
    assert!(
        ledger.contains("the range 2024-01-10..2024-06-30 covers only part of 2024-01"),
        "{ledger}"
    );
    let beside = "`sum_x_of_year` counts only rows in the range 2024-01-10..2024-06-30, which \
        covers only part of 2024";
    assert!(ledger.contains(beside), "{ledger}");
}

#[rstest]
#[case::several_dates(monthly().date(["issued", "paid"]).count(), "month count_issued count_paid",
    &["2025-01 3 1", "2025-02 0 1", "2025-03 2 1", "2025-04 0 1"])]
#[case::side_by_side(monthly().side_by_side("class").sum(["amount"]).margins(),
    "month barge tanker (missing) total",
    &["2025-01 100.15 250.00 0.00 350.15", "2025-03 0.00 0.00 40.00 40.00",
        "- 100.15 250.00 40.00 390.15"])]
#[case::two_figures_side_by_side(Totals::new().per(["berth"]).side_by_side("class").count()
    .mean(["amount"]).margins(),
    "berth mean_amount_barge mean_amount_tanker mean_amount_(missing) mean_amount_total \
        count_barge count_tanker count_(missing) count_total",
    &["North 55.045 250.0 - 120.03 3 1 0 4", "South 0.05 - 40.0 20.025 1 0 1 2",
        "(total) 36.71333333333333 250.0 40.0 80.028 4 1 1 6"])]
#[case::dense(monthly().per(["class"]).dense().range("2025-01..2025-02".parse().unwrap())
    .max(["amount"]).count(), "month class max_amount count",
    &["2025-01 barge 100.10 2", "2025-01 tanker 250.00 1", "2025-01 - - 0", "2025-02 barge - 0",
        "2025-02 tanker - 0", "2025-02 - - 0"])]
#[case::weekdays(Totals::new().date(["issued"]).each(Each::Weekday).week_start(Weekday::Friday),
    "weekday count",
    &["Friday 1", "Monday 3", "Tuesday 1"])]
#[case::months_of_a_fiscal_year(Totals::new().date(["paid"]).each(Each::MonthOfYear)
    .year_start(crate::calendar::Month::April).margins(), "month_of_year count",
    &["April 1", "January 1", "February 1", "March 1", "(total) 4"])]
#[case::days_of_months(Totals::new().date(["issued"]).each(Each::DayOfMonth).per(["berth"]),
    "day_of_month berth count",
    &["3 South 1", "4 North 1", "6 North 1", "20 North 1", "31 South 1"])]
#[case::quarters_of_a_fiscal_year(monthly().grain(Grain::Quarter)
    .year_start(crate::calendar::Month::February), "quarter count",
    &["FY2025-Q4 3", "FY2026-Q1 2"])]
#[case::all(Totals::new().sum(["amount"]), "sum_amount", &["400.14"])]
#[case::beside(monthly().per(["class"]).sum(["amount as fees"]).beside(["quarter",
    "all"]).beside_every(["class"]),
    "month class fees fees_of_quarter share_of_quarter_fees fees_of_all share_of_all_fees \
        fees_every_class",
    &["2025-01 barge 100.15 100.15 1.0 100.15 1.0 350.15", "2025-01 tanker 250.00 250.00 1.0 \
        250.00 1.0 350.15",
      "2025-03 barge 0.00 100.15 0.0 100.15 0.0 40.00", "2025-03 - 40.00 40.00 1.0 40.00 1.0 \
          40.00"])]
#[case::a_weekday_beside_its_month(monthly().each(Each::Weekday).count().beside(["month"]),
    "month weekday count count_of_month share_of_month_count",
    &["2025-01 Monday 2 3 0.6666666666666666", "2025-01 Friday 1 3 0.3333333333333333",
        "2025-03 Monday 1 2 0.5", "2025-03 Tuesday 1 2 0.5"])]
#[case::distinct_beside(monthly().per(["berth"]).distinct(["class"]).beside_every(["berth"])
    .beside(["year"]),
    "month berth distinct_class distinct_class_of_year distinct_class_every_berth",
    &["2025-01 North 2 2 2", "2025-01 South 1 1 2", "2025-03 North 1 2 1", "2025-03 South 0 1 1"])]
#[case::a_name(Totals::new().date(["paid"]).grain(Grain::Year).name("in").margins(), "in count",
    &["2025 4", "- 4"])]
fn totals_have_the_requested_layout(
    #[case] totals: Totals,
    #[case] columns: &str,
    #[case] rows: &[&str],
) {
    let outcome = totals.apply(&dues()).unwrap();
    assert_eq!(names(&outcome.table), columns);
    assert_eq!(shown(&outcome.table), rows);
    assert!(outcome.ledger.balances());
    let checked = totals.check(&dues().shape()).unwrap();
    let known = checked.columns().iter().map(|column| column.name.as_str());
    assert!(
        totals.side_by_side.is_some() || known.eq(outcome.table.names()),
        "what is known beforehand comes out"
    );
}

#[test]
fn entities_come_from_a_list_and_hours_from_the_time_zone() {
    let list = EntityList::from_table(&table("b:text\nWest\n-\nNorth"), &["b"]).unwrap();
    let dense = Totals::new().per(["berth"]).dense().entities(list).sum(["amount"]).count();
    let outcome = dense.apply(&dues()).unwrap();
    assert_eq!(shown(&outcome.table), ["North 360.09 4", "South 40.05 2", "West 0.00 0"]);
    assert_eq!(outcome.ledger.count("entities named without a key"), 1);

    let zone = Context::new().zone("Europe/Lisbon".parse().unwrap());
    let moments = table("at:instant n:number\n2025-03-29T23:30:00Z 1\n2025-03-30T23:30:00Z 2");
    let hours = Totals::new().date(["at"]).each(Each::HourOfDay).sum(["n"]);
    let outcome = hours.apply_with(&moments, &zone).unwrap();
    assert_eq!(
        (shown(&outcome.table).join(" "), outcome.ledger.zone.as_deref()),
        ("0 2 23 1".to_owned(), Some("Europe/Lisbon"))
    );
    let days = Totals::new().date(["at"]).sum(["n"]).apply_with(&moments, &zone).unwrap();
    assert_eq!(shown(&days.table), ["2025-03-29 1", "2025-03-31 2"]);
    let dense =
        Totals::new().date(["at"]).grain(Grain::Hour).dense().range("2025-03-30".parse().unwrap());
    assert_eq!(dense.apply_with(&moments, &zone).unwrap().table.rows(), 23);
}

#[test]
fn a_table_without_rows_has_totals_too() {
    let none = dues().head(0);
    assert_eq!(
        shown(&Totals::new().sum(["amount"]).count().apply(&none).unwrap().table),
        ["0.00 0"]
    );
    let monthly = monthly().per(["class"]).side_by_side("berth").margins();
    assert_eq!(shown(&monthly.apply(&none).unwrap().table), ["- (total) 0"]);
    assert_eq!(shown(&Totals::new().date(["issued"]).dense().apply(&none).unwrap().table).len(), 0);
}

#[rstest]
#[case::grain(Totals::new().grain(Grain::Month), "`grain` needs `date`")]
#[case::entities(Totals::new().per(["class"]).entities(EntityList::default()),
    "`entities` needs `dense`")]
#[case::beside_week(monthly().grain(Grain::Week).beside(["year"]),
    "`beside` is year: expected `all`, or a longer period that consists of whole periods of \
        `grain`")]
#[case::beside_itself(monthly().beside(["month"]),
    "`beside` is month: expected `all`, or a longer period that consists of whole periods of \
        `grain`")]
#[case::beside_what(monthly().beside(["yeer"]),
    "`beside`: `yeer` is not a grain. Did you mean `year` or `week`?")]
#[case::every(monthly().per(["class"]).beside_every(["berth"]),
    "`beside-every` is `berth`: expected one of the columns of `per`")]
#[case::both(monthly().side_by_side("class").beside(["year"]),
    "`side-by-side` cannot be used together with `beside` and `beside-every`")]
#[case::columns(Totals { most_side_by_side: 2, ..monthly().side_by_side("class") },
    "column `class` has 3 values, and each would become a column, but the limit is 2. Choose a \
        column with fewer values, or raise the limit: `most_side_by_side(3)`")]
#[case::flood(monthly().dense().per(["class"]).range("0001..9999".parse().unwrap())
    .most_rows(9_999),
    "the result would have 359,964 rows, more than the limit of 9,999: 0001-01 to 9999-12 are \
        119988 months. Choose a longer grain or a shorter range, or raise the limit: \
        `most_rows(359964)`")]
#[case::hours(Totals::new().date(["paid"]).each(Each::HourOfDay),
    "column `paid` holds days, so it has no the hour of day. Ask for days")]
#[case::text(Totals::new().sum(["class"]), "column `class` holds text, but numbers are required")]
#[case::misspelt(monthly().sum(["amuont"]), "there is no column `amuont`. Did you mean `amount`?")]
#[case::name(monthly().per(["berth as month"]),
    "the table already has a column `month`: choose another name")]
fn impossible_results_are_explained(#[case] totals: Totals, #[case] message: &str) {
    assert_eq!(totals.apply(&dues()).unwrap_err().to_string(), message);
}

#[test]
fn sums_that_do_not_fit_are_refused() {
    let most: ArrayRef = Arc::new(Int64Array::from(vec![i64::MAX, 1]));
    let error =
        Totals::new().sum(["n"]).apply(&Table::from_columns([("n", most)]).unwrap()).unwrap_err();
    assert!(
        error.to_string().contains("the sum of `n` gives a number that is too large"),
        "{error}"
    );
}

type Row = (Option<i64>, Option<i32>, Option<i64>, Option<u8>);

fn table_of(rows: &[Row]) -> Table {
    let text = |row: &Row| row.3.map(|class| format!("class {class}"));
    Table::from_columns([
        ("who", Arc::new(rows.iter().map(|row| row.0).collect::<Int64Array>()) as ArrayRef),
        ("day", Arc::new(rows.iter().map(|row| row.1).collect::<Date32Array>())),
        ("n", Arc::new(rows.iter().map(|row| row.2).collect::<Int64Array>())),
        (
            "float",
            Arc::new(
                rows.iter().map(|row| row.2.map(|n| n as f64 / 8.0)).collect::<Float64Array>(),
            ),
        ),
        ("class", Arc::new(rows.iter().map(text).collect::<StringViewArray>())),
    ])
    .unwrap()
}

/// The figures of a group of rows: sum, mean, least, greatest, number of classes, and number of
/// rows.
fn figures(rows: &[Row]) -> String {
    let values: Vec<i64> = rows.iter().filter_map(|row| row.2).collect();
    let sum: i64 = values.iter().sum();
    let mut classes: Vec<u8> = rows.iter().filter_map(|row| row.3).collect();
    classes.sort_unstable();
    classes.dedup();
    let text = |value: Option<&i64>| value.map_or("-".to_owned(), i64::to_string);
    let mean = if values.is_empty() {
        "-".to_owned()
    } else {
        format!("{:?}", sum as f64 / values.len() as f64)
    };
    format!(
        "{sum} {mean} {} {} {} {}",
        text(values.iter().min()),
        text(values.iter().max()),
        classes.len(),
        rows.len()
    )
}

fn everything() -> Totals {
    Totals::new().sum(["n"]).mean(["n"]).min(["n"]).max(["n"]).distinct(["class"]).count()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(120))]
    #[test]
    fn every_group_has_the_figures_of_its_rows(
        rows in prop::collection::vec(
            (prop::option::weighted(0.9, 0_i64..4), prop::option::weighted(0.9,
                20_000_i32..20_090), prop::option::weighted(0.8, -9_i64..9),
                    prop::option::of(0_u8..4)),
            0..60,
        ),
        grain in prop::sample::select(vec![Grain::Day, Grain::Week, Grain::Month, Grain::Quarter]),
        far in any::<bool>(),
    ) {
        // Entities with numbers far apart need many times more slots than rows.
        let by = |who: i64| if far { who * 1_000_003 } else { who };
        let rows: Vec<Row> = rows.into_iter().map(|row| (row.0.map(by), row.1, row.2,
            row.3)).collect();
        let periods = Periods::from(grain);
        let day = |number: i32| crate::calendar::Day::from_number(number).unwrap();
        let period = |row: &Row| row.1.map(|number| periods.containing(day(number)));
        let mut groups: BTreeMap<(i32, bool, Option<i64>), Vec<Row>> = BTreeMap::new();
        for row in &rows {
            if let Some(period) = period(row) {
                groups.entry((period.number(), row.0.is_none(), row.0)).or_default().push(*row);
            }
        }
        let label = |number: i32| periods.numbered(number).to_string();
        let who = |who: Option<i64>| who.map_or("-".to_owned(), |who| who.to_string());
        let expected: Vec<String> = groups.iter()
            .map(|((period, _, key), rows)| format!("{} {} {}", label(*period), who(*key),
                figures(rows)))
            .collect();
        let requested = everything().date(["day"]).grain(grain).per(["who"]);
        let outcome = requested.apply(&table_of(&rows)).unwrap();
        prop_assert_eq!(shown(&outcome.table), &expected[..]);
        prop_assert!(outcome.ledger.balances());
        prop_assert_eq!(&outcome.ledger.reconciled[0].kept,
            outcome.ledger.reconciled[0].in_answer.as_ref().unwrap());

        // In any order, and the same for floats that are exact.
        let mut turned = rows.clone();
        turned.reverse();
        let again = requested.clone().sum(["float"]).apply(&table_of(&turned)).unwrap().table;
        let floats = again.column("sum_float").unwrap().as_primitive::<Float64Type>().values()
            .to_vec();
        let whole = outcome.table.column("sum_n").unwrap().as_primitive::<Int64Type>().values()
            .to_vec();
        prop_assert_eq!(floats, whole.iter().map(|&n| n as f64 / 8.0).collect::<Vec<_>>());

        // Over all periods and all entities, each computed from the rows, as the margins are.
        let beside = requested.clone().beside(["all"]).beside_every(["who"]).apply(&table_of(&rows))
            .unwrap().table;
        let dated: Vec<Row> = rows.iter().filter(|row| row.1.is_some()).copied().collect();
        for (n, (number, _, key)) in groups.keys().enumerate() {
            let of_entity: Vec<Row> = dated.iter().filter(|row| row.0 == *key).copied().collect();
            let of_period: Vec<Row> = dated.iter().filter(|row| period(row).unwrap().number() ==
                *number).copied().collect();
            let line = shown(&beside)[n].clone();
            let cells: Vec<&str> = line.split(' ').collect();
            let over = |from: usize,
                places: &[usize]| places.iter().map(|place| cells[from + place])
                    .collect::<Vec<_>>().join(" ");
            prop_assert_eq!(over(8, &[0, 2, 3, 4, 5, 6]), figures(&of_entity));
            prop_assert_eq!(over(16, &[0, 1, 2, 3, 4, 5]), figures(&of_period));
        }
        let margins = requested.margins().apply(&table_of(&rows)).unwrap().table;
        prop_assert_eq!(shown(&margins).pop().unwrap(), format!("- - {}", figures(&dated)));

        // Entities that are processed separately and merged give the whole.
        let table = table_of(&rows);
        let requested = everything().date(["day"]).grain(grain).per(["who"]);
        let (one, other): (Vec<u32>,
            Vec<u32>) = (0..rows.len() as u32).partition(|&row| rows[row as usize].0 == Some(0));
        let mut parts = Vec::new();
        let mut ledgers = Vec::new();
        for part in [one, other] {
            let outcome = requested.apply(&table.take(&UInt32Array::from(part)).unwrap()).unwrap();
            parts.extend(shown(&outcome.table));
            ledgers.push(outcome.ledger);
        }
        parts.sort();
        let mut whole = expected;
        whole.sort();
        prop_assert_eq!(parts, whole);
        let merged = ledgers[0].clone().merge(&ledgers[1]);
        prop_assert_eq!((merged.rows_in, merged.kept), (outcome.ledger.rows_in,
            outcome.ledger.kept));
    }
}

/// Enough rows for several threads, in few cells and in many, some in slots and some numbered.
#[rstest]
#[case::few_cells(11, 1)]
#[case::many_cells(40_009, 1)]
#[case::far_apart(40_009, 9_000)]
fn neither_threads_nor_the_number_of_cells_change_a_sum(
    #[case] entities: i64,
    #[case] days_apart: i32,
) {
    let rows: Vec<Row> = (0..150_000_i64)
        .map(|n| {
            (
                Some(n * 31 % entities),
                Some((n % 97) as i32 * days_apart),
                (n % 13 != 0).then_some(n % 1_000),
                None,
            )
        })
        .collect();
    let mut sums: BTreeMap<(i32, i64), (i64, i64)> = BTreeMap::new();
    for row in &rows {
        let sum = sums.entry((row.1.unwrap(), row.0.unwrap())).or_default();
        *sum = (sum.0 + row.2.unwrap_or(0), sum.1 + 1);
    }
    let expected: Vec<(i64, i64)> = sums.into_values().collect();
    for threads in [1, 3] {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
        let totals = Totals::new().date(["day"]).per(["who"]).sum(["n"]).count();
        let answer = pool.install(|| totals.apply(&table_of(&rows))).unwrap().table;
        let column =
            |name: &str| answer.column(name).unwrap().as_primitive::<Int64Type>().values().to_vec();
        assert_eq!(column("sum_n").into_iter().zip(column("count")).collect::<Vec<_>>(), expected);
    }
}

#[test]
fn the_least_text_goes_by_its_own_order_and_dates_can_be_side_by_side() {
    let range = "2025-06-01..2025-06-14".parse().unwrap();
    let days = crate::Almanac::new().range(range).make().unwrap().table;
    let weekly = Totals::new()
        .per(["iso_week"])
        .min(["weekday"])
        .max(["weekday as last", "date"])
        .sum(["day"]);
    let answer = weekly.apply(&days).unwrap().table;
    assert_eq!(
        shown(&answer),
        [
            "22 1 Sunday Sunday 2025-06-01",
            "23 35 Monday Sunday 2025-06-08",
            "24 69 Monday Saturday 2025-06-14"
        ]
    );
    // The result still knows the order of its texts.
    let sorted = crate::Sort::new(["min_weekday"]).apply(&answer).unwrap().table;
    assert_eq!(
        sorted.column("iso_week").unwrap().as_primitive::<Int64Type>().values().to_vec(),
        [23, 24, 22]
    );

    let stays = table("month:date open:float n:number\n2025-01 0.5 1\n2025-02 - 2\n2025-02 0.5 3");
    let across =
        Totals::new().per(["open"]).side_by_side("month").sum(["n"]).apply(&stays).unwrap().table;
    assert_eq!(
        (names(&across).as_str(), shown(&across)),
        ("open 2025-01 2025-02", vec!["0.5 1 3".to_owned(), "- 0 2".to_owned()])
    );
}

#[test]
fn several_dates_are_accounted_for_separately() {
    let both = Totals::new().date(["issued", "paid"]).grain(Grain::Month).sum(["amount"]);
    let outcome = both.range("2025-01..2025-02".parse().unwrap()).apply(&dues()).unwrap();
    assert_eq!(shown(&outcome.table), ["2025-01 350.15 0.05", "2025-02 0.00 100.10"]);
    let ledger = outcome.ledger.to_string();
    for line in [
        "rows without issued: 1 · values of issued outside the range: 2 · rows without paid: 2 · \
            values of paid outside the range: 2",
        "sum of amount by issued: 400.14 in = 350.15 kept + 40.00 dropped + 9.99 set aside; \
            350.15 in the result",
        "sum of amount by paid: 400.14 in = 100.15 kept + 40.00 dropped + 259.99 set aside; \
            100.15 in the result",
        "balance       6 = 3 kept + 2 dropped + 1 set aside",
    ] {
        assert!(ledger.contains(line), "{line} in {ledger}");
    }
    let infinite: ArrayRef = Arc::new(Float64Array::from(vec![f64::INFINITY]));
    let error = Totals::new()
        .sum(["x"])
        .apply(&Table::from_columns([("x", infinite)]).unwrap())
        .unwrap_err();
    assert!(error.to_string().contains("infinite"), "{error}");
}

#[test]
fn every_combination_of_keys_is_listed_if_asked_for() {
    let rows = table(
        "day:date class:text berth:text tons:number
         2025-01-05 barge  North 1
         2025-02-05 tanker South 2
         2025-02-06 -      South 4",
    );
    let dense = Totals::new().per(["class", "berth"]).sum(["tons"]).dense();
    let all = dense.clone().every_combination();
    let outcome = all.apply(&rows).unwrap();
    assert_eq!(
        shown(&outcome.table),
        [
            "barge North 1",
            "barge South 0",
            "tanker North 0",
            "tanker South 2",
            "- North 0",
            "- South 4",
        ]
    );
    let monthly = |totals: &Totals| {
        let totals = totals.clone().date(["day"]).grain(Grain::Month);
        totals.apply(&rows).unwrap().table.rows()
    };
    assert_eq!((monthly(&dense), monthly(&all)), (2 * 3, 2 * 6));
    assert_eq!(all.apply(&rows.head(0)).unwrap().table.rows(), 0);
    let error = all.most_rows(5).apply(&rows).unwrap_err().to_string();
    assert!(error.contains("6 rows, more than the limit of 5. Choose fewer columns"), "{error}");
}

#[test]
fn months_that_a_range_of_days_cuts_count_as_a_whole() {
    let rows = table("m:date n:number\n2024-01 1\n2024-02 2\n2024-03 4");
    let totals =
        Totals::new().sum(["n"]).date(["m"]).range("2024-01-10..2024-02-29".parse().unwrap());
    for totals in [totals.clone().grain(Grain::Month), totals.grain(Grain::Quarter)] {
        let outcome = totals.apply(&rows).unwrap();
        let ledger = outcome.ledger.to_string();
        assert!(
            ledger.contains("covers only part of 2024-01, which counts as a whole"),
            "{ledger}"
        );
        assert!(ledger.contains("sum of n: 7 in = 3 kept + 4 dropped"), "{ledger}");
    }
}

#[test]
fn a_column_is_listed_once() {
    let error = Totals::new().sum(["amount", "amount"]).apply(&dues()).unwrap_err().to_string();
    assert!(error.contains("column `amount` is listed twice: list it once"), "{error}");
    let renamed = Totals::new().sum(["amount", "amount as again"]).apply(&dues()).unwrap();
    assert_eq!(names(&renamed.table), "sum_amount again");
}
