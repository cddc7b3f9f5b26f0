use super::*;
use crate::{
    Add, Context, Filter,
    calendar::{Day, Grain, Moment, ValueError, Zone},
};
use arrow_array::{
    Array, ArrayRef, BooleanArray, Date32Array, Decimal64Array, Float64Array, Int64Array,
    NullArray, StringViewArray, TimestampMicrosecondArray, cast::AsArray,
};
use arrow_cast::display::array_value_to_string;
use proptest::prelude::*;
use rstest::rstest;
use std::sync::Arc;

fn micros(text: &str) -> i64 {
    let written = crate::calendar::notation::read(text.as_bytes()).unwrap();
    written.micros(crate::calendar::notation::Order::DayFirst).unwrap()
}

fn day(text: &str) -> i32 {
    text.parse::<Day>().unwrap().number()
}

/// Two rows: one with values, and one without any.
fn table() -> Table {
    let seen = TimestampMicrosecondArray::from(vec![Some(micros("2025-03-29T23:30")), None])
        .with_timezone("UTC");
    let amount =
        Decimal64Array::from(vec![Some(1050), None]).with_precision_and_scale(18, 2).unwrap();
    let columns: Vec<(&str, ArrayRef)> = vec![
        ("n", Arc::new(Int64Array::from(vec![Some(7), None]))),
        ("zero", Arc::new(Int64Array::from(vec![0, 0]))),
        ("amount", Arc::new(amount)),
        ("x", Arc::new(Float64Array::from(vec![Some(2.675), None]))),
        ("word", Arc::new(StringViewArray::from(vec![Some(" Petrel "), None]))),
        ("day", Arc::new(Date32Array::from(vec![Some(day("2024-01-31")), None]))),
        ("month", Arc::new(Date32Array::from(vec![Some(day("2024-01-01")), None]))),
        (
            "at",
            Arc::new(TimestampMicrosecondArray::from(vec![
                Some(micros("2024-01-31T14:05:09")),
                None,
            ])),
        ),
        ("seen", Arc::new(seen)),
        ("ok", Arc::new(BooleanArray::from(vec![Some(true), None]))),
        ("none", Arc::new(NullArray::new(2))),
        ("arrived on", Arc::new(Date32Array::from(vec![Some(day("2024-02-29")), None]))),
    ];
    Table::from_columns(columns).unwrap().with_periods("month", Grain::Month).unwrap()
}

fn context() -> Context {
    Context::new()
        .as_of("2025-06-30".parse().unwrap())
        .zone("Europe/Paris".parse::<Zone>().unwrap())
}

fn value_of(
    expression: &Expression,
    table: &Table,
    context: &Context,
) -> Result<(Field, ArrayRef, Unanswered)> {
    expression.bind(&table.shape(), context)?.column("v", table, context)
}

/// The value in either row.
fn values(text: &str) -> std::result::Result<[String; 2], String> {
    let expression: Expression = text.parse().map_err(|error: Error| error.to_string())?;
    let (field, array, _) =
        value_of(&expression, &table(), &context()).map_err(|error| error.to_string())?;
    let whole = Table::of_fields([(field, array.clone())]).unwrap();
    let kind = whole.shape().columns()[0].kind;
    // The type is the one that the check found.
    let promised = expression.check(&table().shape(), &context()).unwrap();
    assert!(promised == kind || promised == Some(Type::Nothing), "{text}: {promised:?} {kind:?}");
    let cell = |row| match kind.and_then(Type::periods) {
        Some(periods) if array.is_valid(row) => periods
            .containing(
                Day::from_number(array.as_primitive::<arrow_array::types::Date32Type>().value(row))
                    .unwrap(),
            )
            .to_string(),
        _ if matches!(kind, Some(Type::Moment { .. })) => whole.dates("v").unwrap().text(row),
        _ => array_value_to_string(&array, row).unwrap(),
    };
    Ok([cell(0), cell(1)])
}

#[rstest]
#[case::precedence("1 + 2 * 3 - 4", "3", "3")]
#[case::parentheses("(1 + 2) * -3", "-9", "-9")]
#[case::left_to_right("10 - 3 - 2", "5", "5")]
#[case::quotient("n / 2", "3.5", "")]
#[case::exact("0.1 + 0.2", "0.3", "0.3")]
#[case::product("amount * 0.075", "0.78750", "")]
#[case::taken("n - amount", "-3.50", "")]
#[case::wide("999999999999999999 * 99.99", "99989999999999999900.01", "99989999999999999900.01")]
#[case::beyond_64_bits("99999999999999999999 - 99999999999999999998", "1", "1")]
#[case::all_digits_of_a_decimal(
    "9999999999999.999999 + 0",
    "9999999999999.999999",
    "9999999999999.999999"
)]
#[case::least_whole("-9223372036854775808 + n - n", "-9223372036854775808", "")]
#[case::floats("x * 2", "5.35", "")]
#[case::by_zero("n / zero", "", "")]
#[case::round_as_it_is_shown("round(x, 2)", "2.68", "")]
#[case::round_half_away("round(-2.5)", "-3", "-3")]
#[case::round_decimal("round(amount * 0.075, 2)", "0.79", "")]
#[case::round_quotient("round(n / 2)", "4", "")]
#[case::round_large(
    "round(9007199254740993.0 * 1e15, 2)",
    "9007199254740994251799813685248.00",
    "9007199254740994251799813685248.00"
)]
#[case::round_nothing("round(amount, 4)", "10.50", "")]
#[case::abs("abs(-n) + abs(-0.5)", "7.5", "")]
#[case::least("least(n, 9.5, missing)", "7.0", "9.5")]
#[case::greatest("greatest(day, as_of, \"arrived on\")", "2025-06-30", "2025-06-30")]
#[case::coalesce("coalesce(none, n, 5)", "7", "5")]
#[case::if_true("if n > 5 then 'many' else 'few'", "many", "few")]
#[case::if_mixed("if ok then n else amount", "7.00", "")]
#[case::if_missing("if n is missing then missing else day", "2024-01-31", "")]
#[case::parts("year(day) * 10000 + month(day) * 100 + day(day)", "20240131", "")]
#[case::quarter("quarter(\"arrived on\")", "1", "")]
#[case::week("week(2024-12-30)", "1", "1")]
#[case::weekday("weekday(day)", "Wednesday", "")]
#[case::weekday_in("weekday(day) in (tue, Wednesday)", "true", "")]
#[case::weekday_text("weekday(day) = 'wed'", "true", "")]
#[case::days("\"arrived on\" - day", "29", "")]
#[case::span("day + 1 month", "2024-02-29", "")]
#[case::spans("2024-03-31 - 1 month 1 day + 2 weeks", "2024-03-13", "2024-03-13")]
#[case::span_first("1 year + day", "2025-01-31", "")]
#[case::as_of("as_of - 9 months", "2024-09-30", "2024-09-30")]
#[case::month("month + 3 months", "2024-04", "")]
#[case::months("month - 2023-11", "2", "")]
#[case::period("period(day, quarter)", "2024-Q1", "")]
#[case::period_week("period(2024-12-30, week)", "2025-W01", "2025-W01")]
#[case::hour("period(at, hour)", "2024-01-31T14:00", "")]
#[case::time("time(at)", "14:05:09", "")]
#[case::clock("hour(at) * 100 + minute(at)", "1405", "")]
#[case::hour_of_time("hour(14:05)", "14", "14")]
#[case::moment_shifted("at + 1 month", "2024-02-29T14:05:09", "")]
#[case::day_in_the_zone("date(seen)", "2025-03-30", "")]
#[case::hour_in_the_zone("hour(seen)", "0", "")]
#[case::clocks_change("seen + 1 day", "2025-03-30T22:30Z", "")]
#[case::date_made("date(2024, 2, 29)", "2024-02-29", "2024-02-29")]
#[case::no_such_date("date(2025, 2, 29)", "", "")]
#[case::moments_differ("at - day", "0", "")]
#[case::day_against_month("day = 2024-01", "true", "")]
#[case::month_against_day("month < 2024-01-15", "false", "")]
#[case::moment_on_the_last_day("at <= 2024-01-31", "true", "")]
#[case::moment_against_moment("at > 2024-01-31T14:05", "true", "")]
#[case::instant_against_reading("seen < 2025-03-30T00:31", "true", "")]
#[case::instant_literal("seen = 2025-03-29T23:30Z", "true", "")]
#[case::numbers_of_all_kinds("amount = 10.5 and x < 3 and n >= 7.0", "true", "")]
#[case::text("lower(trim(word)) = 'petrel'", "true", "")]
#[case::upper("upper('straße')", "STRASSE", "STRASSE")]
#[case::quotes_doubled("'Ivo''s'", "Ivo's", "Ivo's")]
#[case::not_in("n not in (1, 2)", "true", "")]
#[case::in_with_missing("n in (missing, 7)", "true", "")]
#[case::in_nothing("n in ()", "false", "false")]
#[case::undecided_or_true("ok or n > 5 or zero = 0", "true", "true")]
#[case::undecided_and_false("n > 5 and zero = 1", "false", "false")]
#[case::not_undecided("not n > 5", "false", "")]
#[case::is_missing("n is missing", "false", "true")]
#[case::is_not_missing("none is not missing", "false", "false")]
#[case::nothing_compared("none > 3 or ok", "true", "")]
#[case::nothing_added("none + 1", "", "")]
fn an_expression_has_this_value(#[case] text: &str, #[case] with: &str, #[case] without: &str) {
    assert_eq!(values(text), Ok([with.to_owned(), without.to_owned()]), "{text}");
}

#[rstest]
#[case("n +", "the expression ends, but expected a value")]
#[case("(n", "this `(` is never closed")]
#[case("n)", "this `)` closes nothing")]
#[case("n n", "the expression is complete before this")]
#[case("in (1)", "expected a value here")]
#[case("n == 7", "`==` is not an operator")]
#[case("1 < n < 3", "comparisons cannot be chained")]
#[case("n is 7", "expected `missing` or `not missing` after `is` here")]
#[case(
    "if ok then 1",
    "the expression ends, but expected `else`, followed by the value if the condition is false or \
        unknown (it may be `missing`)"
)]
#[case("nn > 1", "there is no column `nn`")]
#[case("'never", "this text is never closed")]
#[case("n # 3", "`#` is not allowed here")]
#[case("2025-02-30", "`2025-02-30` is not a date: February 2025 has 28 days")]
#[case("25:00", "this is not a time of day")]
#[case("yaer(day)", "there is no function `yaer`")]
#[case("year(day, day)", "`year` cannot be called like this")]
#[case("year(n)", "expected a date here, but this is whole numbers")]
#[case("day(month)", "this holds months, so it has no day")]
#[case("period(day, decade)", "`decade` is not a grain")]
#[case("period(month, day)", "this holds months, so it has no day")]
#[case("weekday(day) = 'noday'", "`noday` is not a weekday")]
#[case("word = mon", "weekdays cannot be compared with text")]
#[case("day = '2024-01-31'", "dates cannot be compared with text")]
#[case("word > 3", "text cannot be compared with whole numbers")]
#[case("ok > true", "true or false cannot be compared with true or false")]
#[case("month = period(day, week)", "months and weeks cannot be compared")]
#[case("n = missing", "a comparison with `missing` is never true")]
#[case("day + 3", "a number cannot be added to or subtracted from dates")]
#[case("day + day", "dates and dates cannot be added")]
#[case("day - month", "months cannot be subtracted from dates")]
#[case("month + 1 day", "1 day is not a whole number of months")]
#[case("word * 2", "expected a number here, but this is text")]
#[case("2 * day", "expected a number here, but this is dates")]
#[case("not n", "expected a condition here, but this is whole numbers")]
#[case("if n then 1 else 2", "expected a condition here, but this is whole numbers")]
#[case(
    "if ok then 1 else 'a'",
    "text here, but whole numbers elsewhere: one column cannot hold both"
)]
#[case("round(x, n)", "expected the number of decimal places here: 0 to 9")]
#[case("3 days", "this is a span, and a column cannot hold a span")]
#[case("1.5 days", "a span is a whole number of days")]
#[case(
    "9223372036854775807 + n",
    "`+` gives a number that is too large to be exact: 9223372036854775807 + 7 in row 1"
)]
#[case(
    "99999999999999999.9 * 99999999999999999.9 * 9999999.9",
    "`*` gives a number that is too large to be exact: 9999999999999999980000000000000000.01 * \
        9999999.9 in row 1"
)]
#[case(
    "round(x * 1e40, 2)",
    "`round` gives a number that is too large to be exact: 2.6749999999999997e40 in row 1"
)]
#[case("day + 9000 years", "9000 years after 2024-01-31 is outside the years 0001 to 9999")]
#[case("n < 123456789012345678901234567890123456789.5", "this number has more than 38 digits")]
#[case("n < 1e400", "this number is too large")]
#[case("", "this expression is empty")]
fn what_is_wrong_is_said(#[case] text: &str, #[case] begins: &str) {
    let error = values(text).unwrap_err();
    assert!(error.starts_with(begins), "{text}: {error}");
}

#[test]
fn a_message_marks_its_place() {
    let error = "amount > 3 and levle < 2".parse::<Expression>().unwrap();
    let shape = Shape::of_names(["amount", "level"]).from_file("gauge.csv");
    insta::assert_snapshot!(error.check(&shape, &Context::new()).unwrap_err(), @"
    gauge.csv: there is no column `levle`
      |
    1 | amount > 3 and levle < 2
      |                ^^^^^ did you mean `level`?
    ");
}

#[test]
fn a_missing_as_of_date_is_an_error_if_it_is_needed() {
    let expression: Expression = "day > as_of".parse().unwrap();
    assert!(
        expression
            .check(&table().shape(), &Context::new())
            .unwrap_err()
            .to_string()
            .contains("give an as-of date")
    );
    assert!(expression.check(&table().shape(), &Context::new().as_of_follows()).is_ok());
}

#[test]
fn values_that_could_not_be_computed_are_counted() {
    let added =
        Add::new(["q = n / zero", "d = date(2025, 2, n)", "\"no day\" = date(2025, 13, 1)"]);
    let ledger = added.apply_with(&table(), &context()).unwrap().ledger;
    assert_eq!(ledger.count("divisions by zero, counted as missing"), 1);
    assert_eq!(ledger.count("dates that do not exist, counted as missing"), 2);
    assert!(ledger.balances());
}

#[rstest]
#[case("(", ")")]
#[case("not ", "")]
#[case("-", "")]
#[case("if true then ", " else 1")]
#[case("abs(", ")")]
#[case("", " + 1")]
#[case("", " or true")]
fn ten_thousand_levels_are_an_error(#[case] before: &str, #[case] after: &str) {
    let text = format!("{}1{}", before.repeat(10_000), after.repeat(10_000));
    let error = text.parse::<Expression>().unwrap_err().to_string();
    assert!(error.contains("deep"), "{}", &error[..60]);
}

/// Each level needs the result of the level below once. If it asked twice, the test would take
/// forever.
#[rstest]
#[case::differences(200, "", "1", " - 1", "-199")]
#[case::products(200, "", "1", " * 1", "1")]
#[case::quotients(200, "", "1", " / 1", "1.0")]
#[case::spans(200, "", "2025-01-01", " + 1 day", "2025-07-20")]
#[case::membership(25, "(", "true", " in (true, false))", "true")]
#[case::comparisons(25, "(", "true", " = true)", "true")]
#[case::choices(25, "if true then ", "1", " else 2", "1")]
#[case::functions(25, "greatest(", "1", ", 0)", "1")]
#[case::roundings(25, "round(", "1", ", 2)", "1")]
#[case::missing(25, "coalesce(", "missing", ", 1)", "1")]
fn each_level_is_checked_once(
    #[case] levels: usize,
    #[case] before: &str,
    #[case] innermost: &str,
    #[case] after: &str,
    #[case] value: &str,
) {
    let text = format!("{}{innermost}{}", before.repeat(levels), after.repeat(levels));
    let table =
        Table::from_columns([("n", Arc::new(Int64Array::from(vec![1])) as ArrayRef)]).unwrap();
    let expression: Expression = text.parse().unwrap();
    let (_, array, _) = value_of(&expression, &table, &Context::new()).unwrap();
    assert_eq!(array_value_to_string(&array, 0).unwrap(), value);
}

/// A column with two decimal places, and a whole number.
#[derive(Clone, Debug)]
enum Model {
    N,
    Amount,
    Whole(i8),
    Two(i16),
    Sign(char, Box<Model>, Box<Model>),
    Negative(Box<Model>),
}

impl Model {
    fn text(&self) -> String {
        match self {
            Model::N => "n".to_owned(),
            Model::Amount => "amount".to_owned(),
            Model::Whole(n) => n.to_string(),
            Model::Two(units) => crate::number_text::decimal_text((*units).into(), 2),
            Model::Sign(sign, left, right) => format!("({} {sign} {})", left.text(), right.text()),
            Model::Negative(inner) => format!("-{}", inner.text()),
        }
    }

    /// Its value in units of this number of decimal places.
    fn value(&self, n: Option<i64>, amount: Option<i64>) -> Option<(i128, u32)> {
        match self {
            Model::N => Some((n?.into(), 0)),
            Model::Amount => Some((amount?.into(), 2)),
            Model::Whole(n) => Some(((*n).into(), 0)),
            Model::Two(units) => Some(((*units).into(), 2)),
            Model::Negative(inner) => {
                inner.value(n, amount).map(|(units, places)| (-units, places))
            }
            Model::Sign(sign, left, right) => {
                let ((a, a_places), (b, b_places)) =
                    (left.value(n, amount)?, right.value(n, amount)?);
                let places = a_places.max(b_places);
                let (x, y) =
                    (a * 10_i128.pow(places - a_places), b * 10_i128.pow(places - b_places));
                Some(match sign {
                    '+' => (x + y, places),
                    '-' => (x - y, places),
                    _ => (a * b, a_places + b_places),
                })
            }
        }
    }
}

fn model() -> impl Strategy<Value = Model> {
    let leaf = prop_oneof![
        Just(Model::N),
        Just(Model::Amount),
        any::<i8>().prop_map(Model::Whole),
        any::<i16>().prop_map(Model::Two)
    ];
    leaf.prop_recursive(3, 12, 2, |inner| {
        let sign = (prop::sample::select(vec!['+', '-', '*']), inner.clone(), inner.clone());
        prop_oneof![
            4 => sign.prop_map(|(sign, left, right)| Model::Sign(sign, Box::new(left),
                Box::new(right))),
            1 => inner.prop_map(|inner| Model::Negative(Box::new(inner))),
        ]
    })
}

proptest! {
    #[test]
    fn numbers_are_as_exact_as_on_paper(
        model in model(),
        rows in prop::collection::vec((prop::option::of(-1000_i64..1000),
            prop::option::of(-100_000_i64..100_000)), 0..8),
    ) {
        let amount: Decimal64Array = rows.iter().map(|row| row.1).collect();
        let table = Table::from_columns([
            ("n", Arc::new(rows.iter().map(|row| row.0).collect::<Int64Array>()) as ArrayRef),
            ("amount", Arc::new(amount.with_precision_and_scale(18, 2).unwrap())),
        ]).unwrap();
        let expression: Expression = model.text().parse().unwrap();
        let (_, array, _) = value_of(&expression, &table, &Context::new()).unwrap();
        for (row, &(n, amount)) in rows.iter().enumerate() {
            let expected = model.value(n, amount);
            let expected = expected.map_or(String::new(), |(units,
                places)| crate::number_text::decimal_text(units, places as i8));
            prop_assert_eq!(array_value_to_string(&array, row).unwrap(), expected, "{}",
                expression);
        }
    }

    #[test]
    fn no_text_breaks_the_parser(
        words in prop::collection::vec(prop::sample::select(vec![
            "n", "day", "(", ")", ",", "+", "-", "*", "/", "=", "<", "and", "or", "not", "in",
                "is", "missing", "if", "then",
            "else", "3", "1.5", "'a'", "\"day\"", "2025-06-30", "2025-06", "14:05", "9 months",
                "year", "period", "é", "tue",
        ]), 0..12),
        noise in ".{0,12}",
    ) {
        for text in [words.join(" "), words.concat(), noise] {
            // It has a value, or the marked place is in the text.
            match text.parse::<Expression>().and_then(|expression| value_of(&expression, &table(),
                &context())) {
                Ok((_, array, _)) => prop_assert_eq!(array.len(), 2),
                Err(Error::Expression(wrong)) => prop_assert!(text.get(wrong.at.clone()).is_some()
                    && !wrong.to_string().is_empty()),
                Err(Error::Value(ValueError::BeyondCalendar { .. }) | Error::Overflow { .. }) => {}
                Err(other) => prop_assert!(false, "{}: {}", text, other),
            }
        }
    }

    #[test]
    fn a_condition_divides_the_rows_into_true_false_and_unknown(
        rows in prop::collection::vec(prop::option::of(-3_i64..4), 0..40),
    ) {
        let table = Table::from_columns([("n",
            Arc::new(rows.iter().copied().collect::<Int64Array>()) as ArrayRef)]).unwrap();
        let outcome = Filter::new("n > 0").apply(&table).unwrap();
        let true_of = rows.iter().filter(|n| n.is_some_and(|n| n > 0)).count();
        prop_assert_eq!(outcome.table.rows(), true_of);
        prop_assert_eq!(outcome.ledger.rows(crate::Reason::ConditionUndecided) as usize,
            rows.iter().filter(|n| n.is_none()).count());
        prop_assert!(outcome.ledger.balances());
        let marked = Filter::new("n > 0").mark("m").apply(&table).unwrap();
        prop_assert_eq!(marked.ledger.count("rows marked") as usize, true_of);
        prop_assert_eq!(marked.table.rows(), rows.len());
    }

    #[test]
    fn moments_become_the_days_that_the_clocks_show(seconds in 0_i64..2_000_000_000) {
        let seen = TimestampMicrosecondArray::from(vec![seconds * 1_000_000]).with_timezone("UTC");
        let table = Table::from_columns([("seen", Arc::new(seen) as ArrayRef)]).unwrap();
        let expression: Expression = "date(seen)".parse().unwrap();
        let (_, array, _) = value_of(&expression, &table, &context()).unwrap();
        let reading = context().zone.reading(seconds * 1_000_000);
        prop_assert_eq!(
            array_value_to_string(&array, 0).unwrap(),
            Moment::from_micros(reading).unwrap().day().to_string()
        );
    }
}

#[rstest]
#[case("i = f", &[false, true, false])]
#[case("i > f", &[true, false, false])]
#[case("f >= i", &[false, true, true])]
#[case("f = m", &[false, false, true])]
#[case("f in (m, 7)", &[false, true, true])]
#[case("f = 0.1", &[false, false, true])]
#[case("f = 9007199254740993", &[false, false, false])]
#[case("9007199254740993 > f", &[true, true, true])]
#[case("greatest(i, f) = f", &[true, true, true])]
#[case("if greatest(i, m) = i then i > f else f = m", &[true, false, true])]
fn numbers_of_different_types_are_compared_by_their_values(
    #[case] condition: &str,
    #[case] expected: &[bool],
) {
    let rows = crate::sample::table(
        "i:number f:float m:money
         9007199254740993 9007199254740992 0.00
         7 7 7.01
         0 0.1 0.10",
    );
    let plan = Add::new([format!("is = {condition}")]).apply(&rows).unwrap();
    let is = plan.table.column("is").unwrap().as_boolean().clone();
    assert_eq!(is, BooleanArray::from(expected.to_vec()));
}
