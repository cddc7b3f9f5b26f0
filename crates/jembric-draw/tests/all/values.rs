//! The marks of a picture stand where their values are: positions are read back from the SVG and
//! compared with the table.

use crate::common::*;
use jembric_core::{Context, Reason, Table};
use jembric_draw::{Draw, Form};
use proptest::prelude::*;
use rstest::rstest;

const NONE: f64 = f64::NAN;

#[test]
fn a_line_passes_through_its_values_and_breaks_at_gaps() {
    // The fourth day is missing as a value, and the seventh and eighth as rows.
    let texts = [
        "2025-01-30",
        "2025-01-31",
        "2025-02-01",
        "2025-02-02",
        "2025-02-03",
        "2025-02-04",
        "2025-02-07",
        "2025-02-08",
    ];
    let levels = [3.0, 3.5, 2.0, NONE, 2.5, 4.0, 1.0, 1.5];
    let gauge = table([("day", days(texts)), ("level", numbers(levels))]);
    let picture = drawn(&Draw::new(), &gauge);
    assert_eq!(picture.form(), Form::Lines);
    assert_eq!(picture.ledger().count("missing values, drawn as gaps"), 1);
    assert_eq!(picture.ledger().count("gaps in the lines"), 2);
    let seen = Seen::of(&picture);
    let document = seen.document();
    let (value, date) = (values_of(&document), days_of(&document));
    let expected: [&[(&str, f64)]; 3] = [
        &[("2025-01-30", 3.0), ("2025-01-31", 3.5), ("2025-02-01", 2.0)],
        &[("2025-02-03", 2.5), ("2025-02-04", 4.0)],
        &[("2025-02-07", 1.0), ("2025-02-08", 1.5)],
    ];
    let lines = lines(&document, 0);
    assert_eq!(lines.len(), expected.len());
    for (line, expected) in lines.iter().zip(expected) {
        for ((x, y), (text, level)) in line.iter().zip(expected) {
            // A day's value stands in the middle of its day.
            assert!((date(*x) - (f64::from(day(text)) + 0.5)).abs() < 0.02, "{text}");
            assert!((value(*y) - level).abs() < 0.02, "{text}: {}", value(*y));
        }
        assert_eq!(line.len(), expected.len());
    }
    let hovers = with_class(&document, "circle", "hover");
    assert_eq!(hovers.len(), 7);
    assert_eq!(title(&hovers[0]), "level, 2025-01-30: 3");
}

#[test]
fn a_state_holds_until_the_next_one_and_ends_where_it_is_unknown() {
    let texts = ["2025-01-01", "2025-01-10", "2025-01-20", "2025-01-25"];
    let table = table([("day", days(texts)), ("balance", numbers([10.0, 40.0, NONE, 20.0]))]);
    let picture = drawn(&Draw::new().form(Form::Steps), &table);
    let seen = Seen::of(&picture);
    let document = seen.document();
    let (value, date) = (values_of(&document), days_of(&document));
    let corners: Vec<Vec<(f64, f64)>> = lines(&document, 0)
        .into_iter()
        .map(|line| {
            let corner = |(x, y): (f64, f64)| (date(x) - f64::from(day("2025-01-01")), value(y));
            line.into_iter().map(corner).collect()
        })
        .collect();
    let expected = [
        vec![(0.0, 10.0), (9.0, 10.0), (9.0, 40.0), (19.0, 40.0)],
        // The last state holds to the end of its day.
        vec![(24.0, 20.0), (25.0, 20.0)],
    ];
    assert_eq!(corners.len(), 2);
    for (line, expected) in corners.iter().zip(expected) {
        for ((x, y), (day, value)) in line.iter().zip(&expected) {
            assert!((x - day).abs() < 0.02 && (y - value).abs() < 0.2, "{corners:?}");
        }
    }
}

#[test]
fn filled_rows_are_hollow_and_a_key_says_so() {
    let texts = ["2025-01-01", "2025-01-02", "2025-01-03", "2025-01-04"];
    let table = table([
        ("day", days(texts)),
        ("level", numbers([1.0, 2.0, 3.0, 4.0])),
        ("was_added", truths([false, false, true, false])),
    ]);
    for (form, hollow) in [
        (Form::Lines, "ring"),
        (Form::Steps, "ring"),
        (Form::Dots, "ring"),
        (Form::Bars, "hollow"),
        (Form::Calendar, "hollow"),
    ] {
        let picture = drawn(&Draw::new().form(form).of(["level"]).mark("was_added"), &table);
        let seen = Seen::of(&picture);
        let document = seen.document();
        let marks = document.descendants().filter(|node| {
            has(node, hollow)
                && node.ancestors().any(|outer| has(&outer, "marks") || has(&outer, "panel"))
        });
        assert_eq!(marks.count(), 1, "{form}");
        let legend = inside(&document, "legend", "text");
        assert!(
            legend.iter().any(|node| text(node) == "filled, not measured (was_added)"),
            "{form}"
        );
        assert!(
            seen.document().descendants().any(|node| title(&node).contains("(filled)")),
            "{form}"
        );
    }
    let dotted = drawn(&Draw::new().form(Form::Lines).mark("was_added"), &table);
    let seen = Seen::of(&dotted);
    let document = seen.document();
    // Both pieces that touch the filled day are dotted.
    let filled = inside(&document, "marks", "path");
    let filled: Vec<_> = filled.iter().filter(|node| has(node, "filled")).collect();
    assert_eq!(filled.len(), 1);
    assert_eq!(places(filled[0].attribute("d").unwrap()).len(), 3);
}

#[test]
fn bars_begin_at_zero_and_cover_their_period() {
    let months = ["2025-01-01", "2025-02-01", "2025-03-01"];
    let table =
        monthly([("month", days(months)), ("amount", numbers([120.0, -40.0, 300.0]))], "month");
    let picture = drawn(&Draw::new(), &table);
    assert_eq!(picture.form(), Form::Bars);
    let seen = Seen::of(&picture);
    let document = seen.document();
    let (value, date) = (values_of(&document), days_of(&document));
    let bars = inside(&document, "marks", "rect");
    assert_eq!(bars.len(), 3);
    for ((bar, month), amount) in bars.iter().zip(months).zip([120.0, -40.0, 300.0_f64]) {
        let (y, height) = (number(bar, "y"), number(bar, "height"));
        let (top, bottom) = (value(y), value(y + height));
        assert!((top - amount.max(0.0)).abs() < 1.5 && (bottom - amount.min(0.0)).abs() < 1.5);
        let middle = date(number(bar, "x") + number(bar, "width") / 2.0);
        let first = f64::from(day(month));
        assert!(first + 13.0 < middle && middle < first + 16.5, "{month}: {}", middle - first);
        assert!(date(number(bar, "x")) > first);
    }
    assert_eq!(title(&bars[0]), "amount, 2025-01: 120");
}

#[rstest]
#[case::side_by_side(false)]
#[case::stacked(true)]
fn bars_of_classes_add_rows_up_and_show_missing_classes(#[case] stacked: bool) {
    let class = texts(["bulk", "", "bulk", "tanker", "tanker"]);
    let berth = texts(["A", "A", "B", "A", "A"]);
    let table =
        table([("class", class), ("berth", berth), ("tons", numbers([5.0, 2.0, 3.0, 4.0, 6.0]))]);
    let draw = Draw::new().form(Form::Bars).along("class").of(["tons"]).per(["berth"]);
    let picture = drawn(&if stacked { draw.stacked() } else { draw }, &table);
    let seen = Seen::of(&picture);
    let document = seen.document();
    let bars = inside(&document, "marks", "rect");
    let titles: Vec<&str> = bars.iter().map(title).collect();
    assert_eq!(titles, ["A, bulk: 5", "B, bulk: 3", "A, tanker: 10", "A, (missing): 2"]);
    assert_eq!(picture.ledger().count("rows added up with others in one bar"), 2);
    let heights: Vec<f64> = bars.iter().map(|bar| number(bar, "height")).collect();
    assert!((heights[2] / heights[0] - 2.0).abs() < 0.02);
    let bottom = |n: usize| number(&bars[n], "y") + number(&bars[n], "height");
    // The second part of a stack begins where the first one ends.
    let base = if stacked { number(&bars[0], "y") } else { bottom(0) };
    assert!((bottom(1) - base).abs() < 0.02);
}

#[test]
fn intervals_end_after_their_last_day_and_open_ones_fade_at_the_as_of_date() {
    let table = table([
        ("berth", texts(["Quay 3", "Basin", "Basin", "Basin"])),
        ("arrived", days(["2025-01-05", "2025-01-01", "2025-01-20", "2025-01-12"])),
        ("left", days(["2025-01-09", "2025-01-10", "", "2025-01-11"])),
    ]);
    let context = Context::new().as_of("2025-01-31".parse().unwrap());
    let (outcome, picture) = Draw::new().draw(&table, &context).unwrap();
    assert_eq!(picture.form(), Form::Intervals);
    assert_eq!(outcome.ledger.rows(Reason::EndBeforeStart), 1);
    assert_eq!((outcome.table.rows(), outcome.set_aside.rows()), (3, 1));
    let seen = Seen::of(&picture);
    let document = seen.document();
    let date = days_of(&document);
    let bars = inside(&document, "marks", "rect");
    let ends = |bar| {
        let x = number(bar, "x");
        let days = [date(x), date(x + number(bar, "width"))];
        days.map(|day| (day - f64::from(crate::common::day("2025-01-01"))).round() as i32)
    };
    let found: Vec<_> = bars.iter().map(|bar| (title(bar), ends(bar), has(bar, "open"))).collect();
    assert_eq!(
        found,
        [
            ("Basin: 2025-01-01 to 2025-01-10", [0, 10], false),
            ("Basin: from 2025-01-20, open", [19, 31], true),
            ("Quay 3: 2025-01-05 to 2025-01-09", [4, 9], false),
        ]
    );
    assert!(
        number(&bars[0], "y") == number(&bars[1], "y")
            && number(&bars[1], "y") < number(&bars[2], "y")
    );
    let fill = bars[1].attribute("fill").unwrap();
    assert_eq!(fill, "url(#fade0)");
}

#[test]
fn a_calendar_has_a_cell_for_each_day_at_its_weekday() {
    // A leap day, a missing value, and a day without a row.
    let texts = ["2024-02-28", "2024-02-29", "2024-03-01", "2024-03-03"];
    let table = table([("day", days(texts)), ("level", numbers([1.0, 9.0, NONE, 5.0]))]);
    let picture = drawn(&Draw::new().form(Form::Calendar), &table);
    let seen = Seen::of(&picture);
    let document = seen.document();
    let cells = document.descendants().filter(|node| title(node).starts_with("level, "));
    let cells: Vec<_> = cells.collect();
    let titles: Vec<&str> = cells.iter().map(title).collect();
    assert_eq!(titles, ["level, 2024-02-28: 1", "level, 2024-02-29: 9", "level, 2024-03-03: 5"]);
    // 28 February 2024 is a Wednesday.
    let width = number(&cells[1], "x") - number(&cells[0], "x");
    assert!((width - number(&cells[0], "width") - 1.5).abs() < 0.01);
    let shades: Vec<bool> =
        ["s0", "s6", "s3"].iter().zip(&cells).map(|(shade, cell)| has(cell, shade)).collect();
    assert_eq!(shades, [true; 3]);
    assert_eq!(with_class(&document, "rect", "blank").len(), 29 + 31 - 3);
}

#[test]
fn small_pictures_share_their_scales() {
    let texts = ["2025-01-01", "2025-01-02", "2025-01-01", "2025-01-02"];
    let gauge = crate::common::texts(["Mole", "Mole", "River", "River"]);
    let table =
        table([("day", days(texts)), ("gauge", gauge), ("level", numbers([1.0, 2.0, 10.0, 20.0]))]);
    let picture = drawn(&Draw::new().apart("gauge"), &table);
    let seen = Seen::of(&picture);
    let document = seen.document();
    let labels: Vec<&str> = inside(&document, "up", "text").iter().map(text).collect();
    let (one, other) = labels.split_at(labels.len() / 2);
    assert_eq!(one, other);
    let lines = lines(&document, 0);
    let rise = |line: &[(f64, f64)]| line[0].1 - line[1].1;
    assert!((rise(&lines[1]) / rise(&lines[0]) - 10.0).abs() < 0.1);
}

/// Points of one day, as text.
fn many_days(values: &[f64], first: i32) -> Table {
    let days = (0..values.len() as i32).map(|n| Some(first + n));
    let days = jembric_core::arrow::Date32Array::from_iter(days);
    table([("day", std::sync::Arc::new(days)), ("level", numbers(values.iter().copied()))])
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn every_point_is_where_its_value_is(
        values in prop::collection::vec(-1e4_f64..1e4, 2..60),
        first in -20_000_i32..40_000,
        width in 320_u32..1200,
    ) {
        let table = many_days(&values, first);
        let size = format!("{width}x400").parse().unwrap();
        let picture = drawn(&Draw::new().form(Form::Lines).size(size), &table);
        let seen = Seen::of(&picture);
        let document = seen.document();
        let value = values_of(&document);
        let line = &lines(&document, 0)[0];
        prop_assert_eq!(line.len(), values.len());
        // A pixel is this much.
        let pixel = (value(0.0) - value(1.0)).abs();
        for ((_, y), expected) in line.iter().zip(&values) {
            prop_assert!((value(*y) - expected).abs() <= pixel * 0.05 + 1e-9);
        }
    }

    #[test]
    fn the_order_of_rows_does_not_matter(
        rows in prop::collection::vec((0_i32..40, -50_i32..50, 0_usize..3), 1..80),
        form in prop::sample::select(vec![Form::Lines, Form::Steps, Form::Bars, Form::Dots]),
        seed in any::<u64>(),
    ) {
        let mut shuffled = rows.clone();
        fastrand::Rng::with_seed(seed).shuffle(&mut shuffled);
        let table_of = |rows: &[(i32, i32, usize)]| {
            let days = rows.iter().map(|row| Some(row.0));
            let days = jembric_core::arrow::Date32Array::from_iter(days);
            table([
                ("day", std::sync::Arc::new(days)),
                ("level", numbers(rows.iter().map(|row| f64::from(row.1)))),
                ("gauge", texts(rows.iter().map(|row| ["Mole", "River", ""][row.2]))),
            ])
        };
        let draw = Draw::new().form(form).of(["level"]).per(["gauge"]);
        let one = drawn(&draw, &table_of(&rows)).svg();
        prop_assert_eq!(one, drawn(&draw, &table_of(&shuffled)).svg());
    }
}

/// More points than are drawn one by one: the least and greatest of each pixel column survive.
#[rstest]
#[case::lines(Form::Lines)]
#[case::steps(Form::Steps)]
#[case::bars(Form::Bars)]
fn peaks_survive_among_many_points(#[case] form: Form) {
    let mut values: Vec<f64> = (0..40_000).map(|n| f64::from(n % 100)).collect();
    (values[12_345], values[30_001]) = (5_000.0, -4_000.0);
    let table = many_days(&values, day("1900-01-01"));
    let picture = drawn(&Draw::new().form(form), &table);
    let seen = Seen::of(&picture);
    let document = seen.document();
    let value = values_of(&document);
    let marks = inside(&document, "marks", "path");
    let d = marks[0].attribute("d").unwrap();
    let heights = d.split(['M', 'L', 'V', 'H', 'Z', 'h', ' ']).filter(|part| !part.is_empty());
    // Every number of the path; those of heights contain both peaks.
    let found: Vec<f64> = heights.filter_map(|part| part.parse().ok()).map(value).collect();
    for peak in [5_000.0, -4_000.0] {
        assert!(found.iter().any(|found| (found - peak).abs() < 30.0), "{peak}");
    }
    assert!(picture.svg().len() < 2_000_000);
    assert!(
        with_class(&document, "rect", "hover").iter().any(|node| title(node).contains("5,000"))
    );
}

#[test]
fn many_points_break_where_days_are_missing() {
    // Ten thousand days are missing in the middle.
    let first = day("1950-01-01");
    let all = (0..60_000).filter(|n| !(25_000..35_000).contains(n)).map(|n| Some(first + n));
    let days = jembric_core::arrow::Date32Array::from_iter(all);
    let values = numbers((0..days.len()).map(|n| (n % 7) as f64));
    let table = table([("day", std::sync::Arc::new(days)), ("level", values)]);
    let seen = Seen::of(&drawn(&Draw::new(), &table));
    let document = seen.document();
    let marks = inside(&document, "marks", "path");
    let d = marks[0].attribute("d").unwrap();
    assert_eq!(d.matches('M').count(), 2);
}

#[test]
fn hundreds_of_thousands_of_dots_are_a_small_file() {
    let mut random = fastrand::Rng::with_seed(7);
    let numbers = |random: &mut fastrand::Rng| {
        crate::common::numbers((0..300_000).map(|_| random.f64()).collect::<Vec<_>>())
    };
    let table = table([("x", numbers(&mut random)), ("y", numbers(&mut random))]);
    let picture = drawn(&Draw::new().form(Form::Dots).along("x").of(["y"]), &table);
    assert!(picture.svg().len() < 2_000_000, "{}", picture.svg().len());
    Seen::of(&picture).document();
}

#[test]
fn many_rows_grow_the_picture_and_not_shrink_the_text() {
    let stays = |berths: i32, stays: i32| {
        let rows = 0..berths * stays;
        let name = rows.clone().map(|n| format!("{:>60}", n % berths)).collect::<Vec<_>>();
        let dates = |shift: i32| -> jembric_core::arrow::ArrayRef {
            let days = rows.clone().map(|n| Some(20_000 + n / berths * 5 + shift));
            std::sync::Arc::new(jembric_core::arrow::Date32Array::from_iter(days))
        };
        let berth = texts(name.iter().map(String::as_str));
        table([("berth", berth), ("arrived", dates(0)), ("left", dates(2))])
    };
    let seen = Seen::of(&drawn(&Draw::new(), &stays(100, 2)));
    let document = seen.document();
    let names = inside(&document, "up", "text");
    assert_eq!(names.len(), 100);
    let apart = number(&names[1], "y") - number(&names[0], "y");
    assert!(apart >= 18.0, "{apart}");
    assert!(number(&document.root_element(), "height") > 1_800.0);
    // The largest picture of single intervals, and one whose intervals are joined.
    for (berths, of_each) in [(3_500, 2), (5_000, 10)] {
        let picture = drawn(&Draw::new(), &stays(berths, of_each));
        assert!(picture.svg().len() < 2_000_000, "{}", picture.svg().len());
    }
}

/// A moment is placed by the time that has passed since the one before, on days of 23, 24 and 25
/// hours.
#[rstest]
#[case::spring("2025-03-29", 47.0)]
#[case::autumn("2025-10-25", 49.0)]
#[case::summer("2025-06-01", 48.0)]
fn moments_keep_their_distance_when_clocks_change(#[case] first: &str, #[case] hours: f64) {
    let zone: jembric_core::calendar::Zone = "Europe/Lisbon".parse().unwrap();
    let first: jembric_core::calendar::Day = first.parse().unwrap();
    let (start, end) = (zone.day_start(first), zone.day_start(first.plus_days(2).unwrap()));
    let hour = 3_600_000_000;
    assert_eq!((end - start) as f64 / hour as f64, hours);
    let micros: Vec<i64> = (0..=(end - start) / hour).map(|n| start + n * hour).collect();
    let level = numbers((0..micros.len()).map(|n| n as f64));
    let at: jembric_core::arrow::ArrayRef = std::sync::Arc::new(
        jembric_core::arrow::TimestampMicrosecondArray::from(micros).with_timezone("UTC"),
    );
    let context = Context::new().zone(zone);
    let picture =
        Draw::new().picture_with(&table([("at", at), ("level", level)]), &context).unwrap();
    assert_eq!(picture.ledger().zone.as_deref(), Some("Europe/Lisbon"));
    let seen = Seen::of(&picture);
    let document = seen.document();
    let lines = lines(&document, 0);
    // No hour is doubled or dropped, so there is no gap and every step is as wide as the next.
    assert_eq!((lines.len(), lines[0].len() as f64), (1, hours + 1.0));
    let apart: Vec<f64> = lines[0].windows(2).map(|pair| pair[1].0 - pair[0].0).collect();
    assert!(apart.iter().all(|step| (step - apart[0]).abs() < 0.03), "{apart:?}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn stacks_add_up_to_the_sums_of_their_rows(
        rows in prop::collection::vec((0_usize..4, 0_usize..3, 0_i32..1_000), 1..60),
    ) {
        let quay = texts(rows.iter().map(|row| ["North", "South", "East", "West"][row.0]));
        let class = texts(rows.iter().map(|row| ["barge", "bulk", "tanker"][row.1]));
        let tons = numbers(rows.iter().map(|row| f64::from(row.2)));
        let table = table([("quay", quay), ("class", class), ("tons", tons)]);
        let draw = Draw::new().along("quay").of(["tons"]).per(["class"]).stacked();
        let seen = Seen::of(&drawn(&draw, &table));
        let document = seen.document();
        let value = values_of(&document);
        let pixel = (value(0.0) - value(1.0)).abs();
        let bars = inside(&document, "marks", "rect");
        for (n, name) in ["North", "South", "East", "West"].into_iter().enumerate() {
            let of_quay = bars.iter().filter(|bar| title(bar).contains(&format!(", {name}: ")));
            let top = of_quay.map(|bar| value(number(bar, "y"))).fold(0.0, f64::max);
            let sum: i32 = rows.iter().filter(|row| row.0 == n).map(|row| row.2).sum();
            prop_assert!((top - f64::from(sum)).abs() <= pixel * 0.1 + 1e-6, "{name}: {top} {sum}");
        }
    }

    #[test]
    fn every_interval_is_where_its_dates_are(
        rows in prop::collection::vec((0_usize..5, 0_i32..400, -5_i32..40), 1..60),
    ) {
        let berth = texts(rows.iter().map(|row| ["A", "B", "C", "D", "E"][row.0]));
        let dates = |of: &dyn Fn(&(usize, i32, i32)) -> i32| -> jembric_core::arrow::ArrayRef {
            let days = rows.iter().map(|row| Some(20_000 + of(row)));
            std::sync::Arc::new(jembric_core::arrow::Date32Array::from_iter(days))
        };
        let table = table([
            ("berth", berth),
            ("arrived", dates(&|row| row.1)),
            ("left", dates(&|row| row.1 + row.2)),
        ]);
        let picture = drawn(&Draw::new().form(Form::Intervals), &table);
        let usable = rows.iter().filter(|row| row.2 >= 0).count();
        prop_assert_eq!(picture.ledger().kept as usize, usable);
        let reversed = picture.ledger().rows(Reason::EndBeforeStart) as usize;
        prop_assert_eq!(reversed, rows.len() - usable);
        prop_assert!(picture.ledger().balances());
        let seen = Seen::of(&picture);
        let document = seen.document();
        let bars = inside(&document, "marks", "rect");
        prop_assert_eq!(bars.len(), usable);
        let range = rows.iter().filter(|row| row.2 >= 0);
        let low = range.clone().map(|row| row.1).min().unwrap_or_default();
        let high = range.map(|row| row.1 + row.2 + 1).max().unwrap_or_default();
        let edges: Vec<(f64, f64)> = bars
            .iter()
            .map(|bar| (number(bar, "x"), number(bar, "x") + number(bar, "width")))
            .collect();
        // The marks themselves reach both ends of the axis, which gives the scale.
        let left = edges.iter().map(|edge| edge.0).fold(f64::INFINITY, f64::min);
        let right = edges.iter().map(|edge| edge.1).fold(0.0, f64::max);
        let day = (right - left) / f64::from(high - low).max(1.0);
        let mut expected: Vec<(i32, i32)> =
            rows.iter().filter(|row| row.2 >= 0).map(|row| (row.1 - low, row.2 + 1)).collect();
        let mut found: Vec<(i32, i32)> = edges
            .iter()
            .map(|edge| [(edge.0 - left) / day, (edge.1 - edge.0) / day])
            .map(|[from, length]| (from.round() as i32, length.round() as i32))
            .collect();
        expected.sort_unstable();
        found.sort_unstable();
        prop_assert_eq!(found, expected);
    }
}

/// The extremes of every part of the axis, computed row by row.
fn slow_extremes(rows: &[(i32, f64, usize)], parts: usize, series: usize) -> Vec<Vec<(f64, f64)>> {
    let low = rows.iter().map(|row| row.0).min().unwrap_or_default();
    let high = rows.iter().map(|row| row.0).max().unwrap_or_default() + 1;
    let mut extremes = vec![vec![(f64::INFINITY, f64::NEG_INFINITY); parts]; series];
    for (day, value, of) in rows.iter().filter(|row| row.1.is_finite()) {
        let share = (f64::from(day - low) + 0.5) / f64::from(high - low);
        let part = &mut extremes[*of][((share * parts as f64) as usize).min(parts - 1)];
        *part = (part.0.min(*value), part.1.max(*value));
    }
    extremes
}

#[test]
fn many_points_of_several_series_keep_the_extremes_of_each_part() {
    let mut random = fastrand::Rng::with_seed(11);
    let rows: Vec<(i32, f64, usize)> = (0..30_000)
        .map(|n| {
            let value = if n % 97 == 0 { NONE } else { random.f64() * 100.0 - 50.0 };
            (random.i32(0..5_000), value, random.usize(0..3))
        })
        .collect();
    let day = jembric_core::arrow::Date32Array::from_iter(rows.iter().map(|row| Some(row.0)));
    let table = table([
        ("day", std::sync::Arc::new(day)),
        ("level", numbers(rows.iter().map(|row| row.1))),
        ("gauge", texts(rows.iter().map(|row| ["Basin", "Mole", "River"][row.2]))),
    ]);
    let picture = drawn(&Draw::new().form(Form::Lines), &table);
    assert_eq!(picture.ledger().count("missing values, drawn as gaps"), 310);
    let seen = Seen::of(&picture);
    let document = seen.document();
    let value = values_of(&document);
    let pixel = (value(0.0) - value(1.0)).abs();
    // 960 pixels without the room for labels.
    for (series, expected) in slow_extremes(&rows, 880, 3).iter().enumerate() {
        let class = format!("l{series}");
        let paths = inside(&document, "marks", "path");
        let path = paths.iter().find(|node| has(node, &class)).unwrap();
        // Each part is a corner, and an upright line if it has two values.
        let d = path.attribute("d").unwrap();
        let parts: Vec<&str> = d.split(['M', 'L']).filter(|part| !part.is_empty()).collect();
        let filled: Vec<&(f64, f64)> = expected.iter().filter(|part| part.0 <= part.1).collect();
        assert_eq!(parts.len(), filled.len(), "{class}");
        for (part, (low, high)) in parts.iter().zip(filled) {
            let (_, heights) = part.split_once(' ').unwrap();
            let heights = heights.trim_end_matches("h0.8").split('V');
            let found: Vec<f64> = heights.map(|y| value(y.parse().unwrap())).collect();
            let least = found.iter().copied().fold(f64::INFINITY, f64::min);
            let greatest = found.iter().copied().fold(f64::NEG_INFINITY, f64::max);
            assert!((least - low).abs() < pixel && (greatest - high).abs() < pixel, "{part}");
        }
    }
}
