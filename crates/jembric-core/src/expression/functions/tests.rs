//! The table of functions contains everything about each function.

use super::*;
use crate::{Context, Expression, sample::table};
use rstest::rstest;

/// The ways to call a function, parsed from its form in the help.
fn forms(entry: &FunctionEntry) -> impl Iterator<Item = &'static str> {
    entry.form.split(" or ")
}

/// An argument for the word that stands for it in the form.
fn argument(function: Function, word: &str) -> &'static str {
    match (function, word.trim()) {
        (_, "date") => "d",
        (_, "moment") => "m",
        (_, "time") => "time(m)",
        (_, "grain") => "month",
        (_, "text") => "t",
        (_, "year") => "2024",
        (Function::Date, "month") => "2",
        (Function::Date, "day") => "29",
        (_, "places") => "1",
        (_, "number" | "a" | "b") => "n",
        (_, "…") => "7",
        (function, word) => {
            panic!("{function:?} has an argument `{word}` that this test does not know")
        }
    }
}

/// A call of that form.
fn call(entry: &FunctionEntry, form: &str) -> String {
    let arguments = form.split_once('(').unwrap().1.trim_end_matches(')');
    let arguments: Vec<&str> =
        arguments.split(',').map(|word| argument(entry.function, word)).collect();
    format!("{}({})", entry.name, arguments.join(", "))
}

#[test]
fn each_function_is_at_its_own_place_in_the_table() {
    for (place, entry) in TABLE.iter().enumerate() {
        assert_eq!(entry.function as usize, place, "{}", entry.name);
        assert_eq!(entry.function.entry().name, entry.name);
        assert_eq!(Function::named(entry.name, &(0..1)).ok(), Some(entry.function));
        assert!(
            forms(entry).all(|form| form.starts_with(&format!("{}(", entry.name))),
            "{}",
            entry.form
        );
    }
    assert_eq!(all().count(), TABLE.len());
}

#[test]
fn each_form_of_the_help_can_be_called() {
    let rows =
        table("d:date m:moment t:text n:number\n2024-02-29 2024-02-29T14:05:00 Petrel -3\n- - - -");
    let context = Context::new();
    for entry in &TABLE {
        for form in forms(entry) {
            let text = call(entry, form);
            let expression: Expression =
                text.parse().unwrap_or_else(|error| panic!("{text}: {error}"));
            let kind = expression
                .check(&rows.shape(), &context)
                .unwrap_or_else(|error| panic!("{text}: {error}"));
            let bound = expression.bind(&rows.shape(), &context).unwrap();
            let (_, array, _) = bound.column("x", &rows, &context).unwrap();
            assert_eq!(array.len(), 2, "{text}");
            assert!(kind.is_some() && array.is_valid(0), "{text} has no value");
        }
    }
}

#[test]
fn a_function_without_arguments_or_with_too_many_is_refused_with_its_form() {
    let rows = table("d:date\n2024-02-29");
    for entry in &TABLE {
        let too_many = format!("{}({})", entry.name, ["d"; 9].join(", "));
        for (text, is_refused) in
            [(format!("{}()", entry.name), true), (too_many, !(entry.takes)(9))]
        {
            let checked = text
                .parse::<Expression>()
                .and_then(|call| call.check(&rows.shape(), &Context::new()));
            match checked {
                Err(error) => {
                    assert!(!is_refused || error.to_string().contains(entry.form), "{error}")
                }
                Ok(_) => assert!(!is_refused, "{text} is accepted"),
            }
        }
    }
}

#[rstest]
#[case("yaer(d)", "did you mean `year`")]
#[case("greatst(d, d)", "did you mean `greatest`")]
#[case("Year(d)", "did you mean `year`")]
#[case("xyzzy(d)", "there are: year, quarter, month")]
fn an_unknown_function_is_an_error_with_the_known_ones(#[case] text: &str, #[case] expected: &str) {
    let error = text.parse::<Expression>().unwrap_err().to_string();
    assert!(error.contains("there is no function") && error.contains(expected), "{error}");
}
