use super::*;
use crate::{Type, page::figures::Value};
use rstest::rstest;

const NAMES: [Option<&str>; 3] = [Some("current"), None, Some("lifts at berth")];

/// What a sentence of the second of three steps can refer to. The result of the last one is not
/// known.
fn with_known<T>(parse: impl FnOnce(&Known<'_>) -> T) -> T {
    let shape = |names: &[&str]| {
        let empty = Shape::of_names(Vec::<String>::new());
        names.iter().fold(empty, |shape, name| {
            let kind = match *name {
                "day" => Type::DAYS,
                "vessel" => Type::Text,
                _ => Type::Integer,
            };
            shape.with(name, kind).unwrap()
        })
    };
    let shapes = [
        Some(shape(&["vessel", "day", "tons"])),
        Some(shape(&["vessel", "day", "tons", "a of b"])),
        None,
    ];
    parse(&Known { own: 1, names: &NAMES, shapes: &shapes, has_as_of: true })
}

fn figure(step: usize, what: What, column: Option<&str>) -> Figure {
    Figure { step, quantity: Quantity { what, column: column.map(str::to_owned) } }
}

#[rstest]
#[case("{rows}", 1, What::Rows, None)]
#[case("{ rows of current }", 0, What::Rows, None)]
#[case("{rows of lifts at berth}", 2, What::Rows, None)]
#[case("{sum of tons}", 1, What::Sum, Some("tons"))]
#[case("{mean of tons of current}", 0, What::Mean, Some("tons"))]
#[case::column_with_of("{max of a of b}", 1, What::Max, Some("a of b"))]
#[case::unknown_shape("{newest of any of lifts at berth}", 2, What::Newest, Some("any"))]
fn a_placeholder_names_a_figure_a_column_and_a_step(
    #[case] text: &str,
    #[case] step: usize,
    #[case] what: What,
    #[case] column: Option<&str>,
) {
    let sentence = with_known(|known| Sentence::parse(text, known)).unwrap();
    assert_eq!(sentence.figures().collect::<Vec<_>>(), [(&figure(step, what, column), text)]);
}

#[rstest]
#[case("{row}", "`row` is not a figure", "did you mean `rows`?")]
#[case(
    "{}",
    "`` is not a figure",
    "a placeholder begins with rows, sum, mean, min, max, newest, \
    oldest, distinct, first, last, as-of, share"
)]
#[case("{sum}", "`sum` needs a column", "{sum of COLUMN}")]
#[case("{rows of curent}", "no step is named `curent`", "did you mean `current`?")]
#[case("{sum of tons of curent}", "no step is named `curent`", "did you mean `current`?")]
#[case("{rows of 7}", "no step is named `7`", "the steps are current, lifts at berth")]
#[case("{sum of tns}", "there is no column `tns`. Did you mean `tons`?", "")]
#[case("{sum of vessel}", "column `vessel` holds text, but numbers are required", "")]
#[case("{newest of tons}", "column `tons` holds whole numbers, but dates are required", "")]
#[case(
    "{share of rows}",
    "`share of rows` does not name the step with the whole",
    "{share of rows of STEP}"
)]
#[case(
    "{share of max of tons of current}",
    "only rows and sums have shares",
    "{share of rows of STEP} or {share of sum of COLUMN of STEP}"
)]
fn an_invalid_placeholder_is_reported_with_what_to_do(
    #[case] placeholder: &str,
    #[case] problem: &str,
    #[case] advice: &str,
) {
    let text = format!("{{{{before}}}} {placeholder} behind");
    let wrong = with_known(|known| Sentence::parse(&text, known)).unwrap_err();
    assert_eq!((wrong.problem.as_str(), wrong.advice.as_str()), (problem, advice));
    assert_eq!(wrong.placeholder, placeholder);
}

#[rstest]
#[case("{rows", "{")]
#[case("rows}", "}")]
#[case("{rows {rows}}", "{")]
fn a_brace_without_a_partner_is_reported(#[case] text: &str, #[case] brace: &str) {
    let wrong = with_known(|known| Sentence::parse(text, known)).unwrap_err();
    assert_eq!(wrong.problem, format!("the brace `{brace}` has no partner"));
    assert!(wrong.advice.starts_with(&format!("write `{brace}{brace}` for a brace")));
}

#[test]
fn the_as_of_date_must_exist() {
    let parse = |has_as_of| {
        let known = Known { own: 0, names: &[None], shapes: &[None], has_as_of };
        Sentence::parse("On {as-of}.", &known)
    };
    assert_eq!(
        parse(true).unwrap().text(Some("30 June 2025"), &Figures::new()),
        "On 30 June 2025."
    );
    assert_eq!(parse(false).unwrap_err().problem, "there is no as-of date");
}

#[test]
fn values_stand_in_their_places() {
    let text = "{{{rows}}}: {share of rows of current}, {sum of tons}";
    let sentence = with_known(|known| Sentence::parse(text, known)).unwrap();
    let value = |text: &str, number| Value { text: text.to_owned(), number: Some(number) };
    let mut figures = Figures::from([
        (figure(1, What::Rows, None), value("1,250", 1_250.0)),
        (figure(0, What::Rows, None), value("5,000", 5_000.0)),
    ]);
    assert_eq!(sentence.text(None, &figures), "{1,250}: 25%, no value");
    figures.insert(figure(1, What::Sum, Some("tons")), value("7.5", 7.5));
    assert_eq!(sentence.text(None, &figures), "{1,250}: 25%, 7.5");
}

/// A step has no share of itself, and the advice does not repeat its name.
#[test]
fn a_share_of_the_own_step_is_an_error() {
    let names = [Some("current")];
    let known = Known { own: 0, names: &names, shapes: &[None], has_as_of: false };
    let misplaced = Sentence::parse("{share of rows of current}", &known).unwrap_err();
    assert_eq!(
        (misplaced.problem.as_str(), misplaced.advice.as_str()),
        ("`current` is this step, whose share of itself is always 100%", "{share of rows of STEP}")
    );
}
