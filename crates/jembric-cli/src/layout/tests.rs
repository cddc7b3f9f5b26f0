//! What fits into a terminal, and what is never broken.

use super::*;
use jembric::arrow::{ArrayRef, Date32Array, Int64Array, StringViewArray};
use rstest::rstest;
use std::sync::Arc;

/// A table of seven columns, with long texts and names.
fn stays() -> Vec<ShownColumn> {
    let texts = |cells: &[&str]| -> ArrayRef {
        Arc::new(StringViewArray::from_iter_values(cells.iter().copied()))
    };
    let note = "moored outside until the tide allowed her to come alongside the quay";
    let columns: [(&str, ArrayRef); 7] = [
        ("arrived", Arc::new(Date32Array::from(vec![19_724, 19_725, 20_000]))),
        ("vessel", texts(&["Ebb and Flow", "Wend", "Long Myre"])),
        ("note", texts(&[note, "", "short"])),
        ("tons", Arc::new(Int64Array::from(vec![1_234_567, 3, 90]))),
        ("level", Arc::new(Float64Array::from(vec![Some(0.060_234_567), Some(1234.5), None]))),
        ("left", Arc::new(Date32Array::from(vec![Some(19_730), None, Some(20_002)]))),
        ("days_since_previous_arrival", Arc::new(Int64Array::from(vec![1, 2, 3]))),
    ];
    ShownColumn::all_of(&Table::from_columns(columns).unwrap())
}

#[rstest]
fn nothing_is_wider_than_the_terminal_and_no_value_is_broken(
    #[values(80, 100, 126, 40)] width: u16,
    #[values(false, true)] all: bool,
) {
    let columns = stays();
    let (text, left_out) = if all {
        (in_blocks(&columns, Some(width)), Vec::new())
    } else {
        fitting(&columns, Some(width))
    };
    for line in text.lines() {
        assert!(display_width(line) <= width.into(), "{width}: {line}");
    }
    let shown = |column: &&ShownColumn| !left_out.contains(&&*column.name);
    for column in columns.iter().filter(shown).filter(|column| !column.is_text) {
        assert!(column.cells.iter().all(|cell| text.contains(cell.trim())), "{width}: {text}");
    }
    assert!(text.contains("Ebb and Flow"), "{width}: {text}");
}

#[test]
fn texts_are_shortened_before_a_column_is_left_out() {
    let columns = stays();
    let (wide, left_out) = fitting(&columns, Some(100));
    assert_eq!(left_out, [""; 0]);
    insta::assert_snapshot!(wide, @"
     arrived     vessel        note                tons         level  left        days_since_previous…
    ────────────────────────────────────────────────────────────────────────────────────────────────────
     2024-01-02  Ebb and Flow  moored outside…  1234567     0.0602346  2024-01-08                     1
     2024-01-03  Wend                                 3  1234.5                                       2
     2024-10-04  Long Myre     short                 90                2024-10-06                     3
    ");
    let (narrow, left_out) = fitting(&columns, Some(60));
    assert_eq!(left_out, ["level", "left", "days_since_previous_arrival"]);
    insta::assert_snapshot!(narrow, @"
     arrived     vessel        note                        tons
    ────────────────────────────────────────────────────────────
     2024-01-02  Ebb and Flow  moored outside until t…  1234567
     2024-01-03  Wend                                         3
     2024-10-04  Long Myre     short                         90
    ");
}

#[test]
fn blocks_repeat_the_first_column() {
    insta::assert_snapshot!(in_blocks(&stays(), Some(48)), @"
     arrived     vessel        note
    ────────────────────────────────────────────────
     2024-01-02  Ebb and Flow  moored outside unti…
     2024-01-03  Wend
     2024-10-04  Long Myre     short

     arrived        tons         level  left
    ───────────────────────────────────────────────
     2024-01-02  1234567     0.0602346  2024-01-08
     2024-01-03        3  1234.5
     2024-10-04       90                2024-10-06

     arrived     days_since_previous_arrival
    ─────────────────────────────────────────
     2024-01-02                            1
     2024-01-03                            2
     2024-10-04                            3
    ");
    assert_eq!(in_blocks(&[], Some(48)), "");
    let one = [ShownColumn::of_words("a", ["1".to_owned()])];
    assert_eq!(in_blocks(&one, None), fitting(&one, None).0);
}

#[test]
fn without_a_terminal_nothing_is_shortened() {
    let columns = stays();
    let (text, left_out) = fitting(&columns, None);
    assert!(text.contains("come alongside the quay"), "{text}");
    assert_eq!(left_out, [""; 0]);
}

#[test]
fn decimal_points_are_aligned() {
    let floats = Float64Array::from(vec![Some(1.5), Some(22.0), None, Some(0.125)]);
    assert_eq!(on_the_point(&floats), ["1.5  ", "22    ", "    ", "0.125"]);
}

#[rstest]
#[case("short", 10, "short")]
#[case("exactly ten", 11, "exactly ten")]
#[case("exactly ten", 10, "exactly t…")]
// Each of these characters is two columns wide.
#[case("漢字漢字", 8, "漢字漢字")]
#[case("漢字漢字", 7, "漢字漢…")]
#[case("漢字漢字", 6, "漢字…")]
fn a_text_is_cut_by_the_columns_that_it_takes(
    #[case] text: &str,
    #[case] width: usize,
    #[case] cut: &str,
) {
    assert_eq!(shortened(text, width), cut);
    assert!(display_width(cut) <= width);
}

#[test]
fn control_characters_in_cells_are_shown_as_escapes() {
    assert_eq!(printable("a\nb\u{7}\u{1b}[2J\u{202e}"), "a\\nb\\u{7}\\u{1b}[2J\\u{202e}");
}
