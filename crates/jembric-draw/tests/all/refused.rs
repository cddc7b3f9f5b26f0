//! What cannot be drawn is an error that names the setting. Hostile or empty input is a picture.

use crate::common::*;
use jembric_core::{
    Context, Table,
    arrow::{ArrayRef, Date32Array, Int64Array, TimestampMicrosecondArray},
    settings::{GivenSettings, Settings},
};
use jembric_draw::{Draw, Form, Paper};
use rstest::rstest;
use std::sync::Arc;

fn refused(draw: &Draw, table: &Table) -> String {
    match draw.picture(table) {
        Ok(picture) => panic!("drawn as {}", picture.form()),
        Err(error) => error.to_string(),
    }
}

fn gauge() -> Table {
    table([
        ("day", days(["2025-01-01", "2025-01-02"])),
        ("gauge", texts(["Mole", "River"])),
        ("level", numbers([1.0, 2.0])),
    ])
}

#[test]
fn a_table_without_dates_or_numbers_cannot_be_drawn() {
    let names = table([("vessel", texts(["Petrel", "Wend"]))]);
    assert_eq!(
        refused(&Draw::new(), &names),
        "`along`: the picture needs a column of dates or two columns of numbers, and \
             the table has none"
    );
    assert_eq!(
        refused(&Draw::new().form(Form::Lines), &table([("day", days(["2025-01-01"]))])),
        "`of`: the picture needs a column of numbers, and the table has none"
    );
    assert_eq!(
        refused(&Draw::new().form(Form::Intervals), &gauge()),
        "`to`: the picture needs a column of dates, and the table has none"
    );
    assert_eq!(
        refused(&Draw::new().of(["gauge"]), &gauge()),
        "column `gauge` holds text, but numbers are required"
    );
    assert_eq!(
        refused(&Draw::new().of(["levle"]), &gauge()),
        "there is no column `levle`. Did you mean `level`?"
    );
    assert_eq!(
        refused(&Draw::new().mark("gauge"), &gauge()),
        "`mark` is `gauge`, which holds text: expected a column of true and false"
    );
    assert_eq!(
        refused(&Draw::new().form(Form::Calendar).per(["gauge"]), &gauge()),
        "`per` needs another form than calendar (use `apart`)"
    );
    assert_eq!(
        refused(&Draw::new().form(Form::Lines).stacked(), &gauge()),
        "`stacked` needs `form` bars"
    );
}

fn vessels(count: usize) -> Table {
    let rows = 0..count;
    let name: ArrayRef = texts(
        rows.clone().map(|n| format!("vessel {n}")).collect::<Vec<_>>().iter().map(String::as_str),
    );
    let day: ArrayRef = Arc::new(Date32Array::from_iter(rows.clone().map(|n| Some(n as i32))));
    let number: ArrayRef = Arc::new(Int64Array::from_iter(rows.map(|n| Some(n as i64))));
    table([("day", day.clone()), ("until", day), ("vessel", name), ("tons", number)])
}

#[test]
fn too_many_series_or_rows_name_a_way_out() {
    let draw = Draw::new().along("day").of(["tons"]).per(["vessel"]);
    assert_eq!(drawn(&draw, &vessels(12)).form(), Form::Lines);
    assert_eq!(
        refused(&draw, &vessels(13)),
        "the picture would have 13 series by vessel, but the limit is 12. Draw a small \
             picture for each value (`apart(\"vessel\")`), choose fewer values, or filter \
             the rows first"
    );
    let intervals = Draw::new().from("day").to("until").per(["vessel"]);
    assert_eq!(
        refused(&intervals, &vessels(5_001)),
        "the picture would have 5,001 rows of intervals by vessel, but the limit is \
             5,000. Draw a small picture for each value (`apart(\"vessel\")`), choose fewer \
             values, or filter the rows first"
    );
    assert_eq!(
        refused(&Draw::new().apart("vessel").along("day").of(["tons"]), &vessels(61)),
        "the picture would have 61 small pictures by vessel, but the limit is 60. \
             Choose other columns, or filter the rows first"
    );
    let far = table([("day", days(["2000-01-01", "2024-01-01"])), ("level", numbers([1.0, 2.0]))]);
    assert_eq!(
        refused(&Draw::new().form(Form::Calendar), &far),
        "the picture would have 289 months of a calendar, but the limit is 240. Choose \
             other columns, or filter the rows first"
    );
}

#[rstest]
#[case::small("size", "100x90")]
#[case::large("size", "960x20000")]
#[case::no_size("size", "large")]
#[case::no_number("level", "high = flood")]
#[case::infinite("level", "inf = flood")]
#[case::no_form("form", "pie")]
fn a_wrong_value_names_its_setting(#[case] setting: &str, #[case] value: &str) {
    let mut given = GivenSettings::default();
    given.insert(setting, value);
    let error = Draw::from_given(&given).unwrap_err();
    assert_eq!(error.setting(), Some(setting));
    assert!(
        error.to_string().contains("expected") || error.to_string().contains("one of"),
        "{error}"
    );
}

#[rstest]
#[case::no_rows(gauge().head(0))]
#[case::all_missing(table([("day", days(["2025-01-01", "2025-01-02"])),
    ("level", numbers([f64::NAN, f64::NAN]))]))]
#[case::no_dates(table([("day", days(["", ""])), ("level", numbers([1.0, 2.0]))]))]
#[case::infinite(table([("day", days(["2025-01-01"])), ("level", numbers([f64::INFINITY]))]))]
fn an_empty_picture_says_so(#[case] table: Table) {
    for form in [Form::Lines, Form::Steps, Form::Bars, Form::Dots, Form::Calendar] {
        let picture = drawn(&Draw::new().form(form).along("day").of(["level"]), &table);
        let seen = Seen::of(&picture);
        let document = seen.document();
        assert!(document.descendants().any(|node| text(&node) == "No rows to draw"), "{form}");
        assert!(!picture.png().unwrap().is_empty());
        assert!(picture.text(80, 20).lines().len() > 2);
        assert!(picture.ledger().balances());
    }
}

#[test]
fn one_point_is_seen() {
    let one = gauge().head(1);
    for form in [Form::Lines, Form::Steps, Form::Bars, Form::Dots, Form::Calendar] {
        let seen = Seen::of(&drawn(&Draw::new().form(form).of(["level"]).along("day"), &one));
        let document = seen.document();
        let is_mark = |node: &roxmltree::Node<'_, '_>| {
            node.ancestors().any(|outer| has(&outer, "marks") || has(&outer, "panel"))
                && ["f0", "l0", "s3"].iter().any(|class| has(node, class))
        };
        assert!(document.descendants().any(|node| is_mark(&node)), "{form}");
    }
    let at: ArrayRef = Arc::new(TimestampMicrosecondArray::from(vec![0]).with_timezone("UTC"));
    let moment = table([("at", at), ("level", numbers([3.0]))]);
    Seen::of(&drawn(&Draw::new(), &moment)).document();
}

#[test]
fn hostile_texts_stay_text() {
    const HOSTILE: &str = "</text><script>alert(1)</script>";
    let table = table([
        ("day", days(["2025-01-01", "2025-01-02", "2025-01-01"])),
        ("<b>\"level\"</b>", numbers([1.0, 2.0, 3.0])),
        ("gauge", texts([HOSTILE, HOSTILE, "bell\u{7}\u{1b}[31m"])),
    ]);
    for draw in [
        Draw::new().title("]]></title><svg onload='alert(1)'>"),
        Draw::new().form(Form::Bars).along("gauge").of(["<b>\"level\"</b>"]),
        Draw::new().apart("gauge"),
    ] {
        let picture = drawn(&draw, &table);
        let seen = Seen::of(&picture);
        let document = seen.document();
        assert!(
            document
                .descendants()
                .any(|node| text(&node).contains("script") || title(&node).contains("script"))
        );
        let shown = picture.text(80, 24).to_string();
        assert!(!shown.contains('\u{1b}') && !shown.contains('\u{7}'));
        picture.png().unwrap();
    }
}

#[test]
fn a_png_is_the_same_each_time_and_differs_by_paper() {
    let picture = |paper| drawn(&Draw::new().paper(paper), &gauge()).png().unwrap();
    let light = picture(Paper::Light);
    assert_eq!(light, picture(Paper::Light));
    assert_eq!(light, picture(Paper::Viewer));
    assert_ne!(light, picture(Paper::Dark));
    assert!(light.starts_with(b"\x89PNG"));
}

#[test]
fn an_svg_has_a_title_and_a_description_and_follows_the_viewer() {
    let picture = drawn(&Draw::new().level([level("1.5 = normal")]), &gauge());
    let seen = Seen::of(&picture);
    let document = seen.document();
    let root = document.root_element();
    let names: Vec<&str> = root
        .children()
        .filter(|child| child.is_element())
        .take(3)
        .map(|child| child.tag_name().name())
        .collect();
    assert_eq!(names, ["title", "desc", "style"]);
    let description = root.children().find(|child| child.has_tag_name("desc")).unwrap();
    assert_eq!(
        text(&description),
        "A picture of lines from 2025-01-01 to 2025-01-02, with values from 1 to 2. \
             Series: Mole, River. 2 rows drawn · none set aside."
    );
    assert!(picture.svg().contains("prefers-color-scheme:dark"));
    let light = drawn(&Draw::new().paper(Paper::Light), &gauge());
    assert!(!light.svg().contains("prefers-color-scheme"));
    let lines = with_class(&document, "path", "level");
    assert_eq!(title(&lines[0]), "1.5 = normal");
}

fn level(text: &str) -> jembric_draw::Level {
    text.parse().unwrap()
}

#[test]
fn the_foot_line_accounts_for_the_rows_of_all_steps() {
    let table = table([
        ("day", days(["2025-01-01", "2025-01-04", ""])),
        ("level", numbers([1.0, 2.0, 3.0])),
    ]);
    let filled =
        jembric_core::Filled::new("day").carry(["level"]).mark("was_added").apply(&table).unwrap();
    let (outcome, picture) = Draw::new().draw(&filled.table, &Context::new()).unwrap();
    let picture = picture.after([&filled.ledger]);
    assert_eq!(picture.form(), Form::Steps);
    assert_eq!(picture.account(), "4 rows drawn · 2 added · 1 set aside (date missing)");
    assert!(outcome.ledger.balances());
}
