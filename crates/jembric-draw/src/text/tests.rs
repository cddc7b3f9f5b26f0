use crate::{
    draw::Draw,
    kinds::{Form, Level},
};
use insta::assert_snapshot;
use jembric_core::{
    Table,
    arrow::{ArrayRef, BooleanArray, Date32Array, Float64Array, StringViewArray},
};
use rstest::rstest;
use std::sync::Arc;

/// Two gauges on four days; the third day of one was filled, and one of the other is missing.
fn gauges() -> Table {
    let day: ArrayRef = Arc::new(Date32Array::from_iter_values((0..8).map(|n| 20_000 + n / 2)));
    let level = [1.0, 3.0, 2.0, 4.0, 3.0, f64::NAN, 4.0, 6.0]
        .map(|level| Some(level).filter(|level: &f64| !level.is_nan()));
    let level: ArrayRef = Arc::new(Float64Array::from_iter(level));
    let gauge: ArrayRef =
        Arc::new(StringViewArray::from_iter_values((0..8).map(|n| ["Mole", "River"][n % 2])));
    let added: ArrayRef = Arc::new(BooleanArray::from_iter((0..8).map(|n| Some(n == 4))));
    Table::from_columns([("day", day), ("level", level), ("gauge", gauge), ("added", added)])
        .unwrap()
}

fn text(draw: &Draw, table: &Table, width: u16, height: u16) -> String {
    draw.picture(table).unwrap().text(width, height).to_string()
}

#[test]
fn bars_stand_beside_their_values() {
    let draw = Draw::new().form(Form::Bars).along("gauge").of(["level"]);
    assert_snapshot!(text(&draw, &gauges(), 40, 20), @"
    level by gauge
    Mole  ███████████████████████▊        10
    River ███████████████████████████████ 13
    8 rows drawn · none set aside · missing
    values, without a bar: 1
    ");
}

#[test]
fn intervals_are_bars_in_rows() {
    let days = |days: [Option<i32>; 3]| -> ArrayRef { Arc::new(Date32Array::from_iter(days)) };
    let berth: ArrayRef = Arc::new(StringViewArray::from_iter_values(["Basin", "Basin", "Quay 3"]));
    let stays = Table::from_columns([
        ("berth", berth),
        ("arrived", days([Some(20_000), Some(20_006), Some(20_002)])),
        ("left", days([Some(20_003), None, Some(20_009)])),
    ]);
    assert_snapshot!(text(&Draw::new(), &stays.unwrap(), 27, 20), @r#"
    arrived to left by berth
    ▒ open, has not ended
    Basin  ████████····▒▒▒▒▒▒▒▒
    Quay 3 ····████████████████
           2024-10-042024-10-13
    3 rows drawn · none set
    aside · open intervals,
    which fade out: 1
    "#);
}

#[test]
fn a_calendar_has_two_columns_for_each_day() {
    let draw = Draw::new().form(Form::Calendar).of(["level"]).apart("gauge").mark("added");
    assert_snapshot!(text(&draw, &gauges(), 40, 20), @"
    level by day
    · filled, not measured (added)
    ░▒▓█ 1 to 6
    Mole
    October 2024
    M T W T F S S
      · · · ░░░░()
    ▓▓· · · · · ·
    · · · · · · ·
    · · · · · · ·
    · · · ·


    River
    October 2024
    M T W T F S S
      · · · ▒▒▓▓·
    ██· · · · · ·
    · · · · · · ·
    · · · · · · ·
    · · · ·


    8 rows drawn · none set aside · missing
    values, days left empty: 1
    ");
}

#[rstest]
#[case(Form::Lines)]
#[case(Form::Steps)]
#[case(Form::Dots)]
#[case(Form::Bars)]
#[case(Form::Calendar)]
fn no_line_is_wider_than_the_terminal(#[case] form: Form) {
    for width in [24, 40, 80, 200] {
        let draw = Draw::new().form(form).of(["level"]).along("day");
        let draw = if form == Form::Calendar { draw.apart("gauge") } else { draw.per(["gauge"]) };
        let text = text(&draw, &gauges(), width, 30);
        for line in text.lines() {
            assert!(line.chars().count() <= usize::from(width), "{width}: {line}");
        }
    }
}

#[test]
fn a_line_breaks_at_a_gap_in_text_as_well() {
    let table = gauges();
    let draw = Draw::new().per(["gauge"]).mark("added");
    let picture = draw.level([Level { value: 5.0, label: String::new() }]).picture(&table).unwrap();
    let pieces =
        super::pieces(&picture.content, &picture.content.panels[0].marks, (0.0, 1.0), false);
    let lengths: Vec<(usize, bool, usize)> =
        pieces.iter().map(|piece| (piece.series, piece.is_marked, piece.points.len())).collect();
    // One gauge has a filled day, and the line of the other is in two pieces.
    assert_eq!(lengths, [(0, false, 2), (0, true, 2), (0, false, 2), (1, false, 2), (1, false, 1)]);
}

/// Figures of two classes in three months, of which one has no rows.
fn months(values: [f64; 6]) -> Table {
    let month: ArrayRef = Arc::new(StringViewArray::from(vec!["a", "a", "b", "b", "c", "c"]));
    let class: ArrayRef = Arc::new(StringViewArray::from(vec!["x", "y", "x", "y", "x", "y"]));
    let tons: ArrayRef = Arc::new(Float64Array::from(values.to_vec()));
    Table::from_columns([("month", month), ("class", class), ("tons", tons)]).unwrap()
}

#[test]
fn negative_bars_go_to_the_left_of_zero() {
    let draw = Draw::new().form(Form::Bars).along("month").of(["tons"]).per(Vec::<String>::new());
    let table = months([4.0, 4.0, -2.0, -2.0, 1.0, 1.0]);
    assert_snapshot!(text(&draw.per(["class"]), &table, 40, 20), @"
    tons by month and class
    ⣿ x   • y
    a             ⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿  4
                  •••••••••••••••••••••••  4

    b ⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿                        -2
      ••••••••••••                        -2

    c             ⣿⣿⣿⣿⣿⣿                   1
                  ••••••                   1
    6 rows drawn · none set aside
    ");
}

#[test]
fn stacked_bars_follow_each_other() {
    let draw = Draw::new().along("month").of(["tons"]).per(["class"]).stacked();
    assert_snapshot!(text(&draw, &months([4.0, 4.0, 2.0, 6.0, 1.0, 0.0]), 40, 20), @"
    tons by month and class
    ⣿ x   • y
    a ⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿⣿•••••••••••••••••• 8
    b ⣿⣿⣿⣿⣿⣿⣿⣿⣿••••••••••••••••••••••••••• 8
    c ⣿⣿⣿⣿⣿                                1
    6 rows drawn · none set aside
    ");
}

#[test]
fn a_period_without_a_bar_leaves_a_line_empty() {
    let day: ArrayRef = Arc::new(Date32Array::from(vec![20_000, 20_001, 20_004]));
    let tons: ArrayRef = Arc::new(Float64Array::from(vec![1.0, 2.0, 3.0]));
    let table = Table::from_columns([("day", day), ("tons", tons)]).unwrap();
    let draw = Draw::new().form(Form::Bars).of(["tons"]);
    assert_snapshot!(text(&draw, &table, 40, 20), @"
    tons by day
    2024-10-04 █████████                   1
    2024-10-05 ██████████████████          2

    2024-10-08 ███████████████████████████ 3
    3 rows drawn · none set aside
    ");
}

#[test]
fn levels_are_named_and_in_the_range() {
    let level = Level { value: 40.0, label: "flood".to_owned() };
    let shown = text(&Draw::new().per(["gauge"]).level([level]), &gauges(), 60, 16);
    assert!(shown.contains("• 40 = flood"), "{shown}");
}

/// The distance of the values is beyond all floats.
#[test]
fn values_far_apart_are_drawn() {
    let day: ArrayRef = Arc::new(Date32Array::from(vec![20_000, 20_001, 20_002]));
    let tons: ArrayRef = Arc::new(Float64Array::from(vec![1e308, -1e308, 0.0]));
    let table = Table::from_columns([("day", day), ("tons", tons)]).unwrap();
    for form in [Form::Lines, Form::Bars, Form::Dots, Form::Steps] {
        let picture = Draw::new().form(form).of(["tons"]).picture(&table).unwrap();
        let svg = picture.svg();
        assert!(!svg.contains("NaN") && !svg.contains("inf"), "{form}");
        assert!(picture.text(60, 16).to_string().contains("1e308"), "{form}");
    }
}

/// All series have marks of their own.
#[test]
fn twelve_series_have_twelve_marks() {
    let marks: std::collections::BTreeSet<&str> = (0..12).map(super::symbol).collect();
    assert_eq!(marks.len(), 12);
}
