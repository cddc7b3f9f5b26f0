//! The functions of the language: one table with the name, the calls, the result and the evaluation
//! of each.
//!
//! The parser looks up names here, so a parsed expression holds no names of functions. Checks,
//! evaluation, suggestions and the help all use the table.

use super::{
    ast::{Function, Node, grain_of, places_of},
    calendrical, compare, exact,
    problem::Problem,
    types::{TermType, common, dated, needed, number},
    value::{Rows, Value, text},
};
use crate::{
    calendar::Grain,
    error::{Error, Result},
    kind::Type,
    message::nearest,
};
use std::{ops::Range, sync::Arc};

/// The type of a call's result, or what is wrong with the call.
type Checked = std::result::Result<TermType, Problem>;

/// A function with its arguments, and the whole of it in the tree.
#[derive(Clone, Copy)]
pub(super) struct Call<'a> {
    pub(super) function: Function,
    pub(super) node: &'a Node,
    pub(super) arguments: &'a [Node],
}

/// Everything about a function.
struct FunctionEntry {
    function: Function,
    name: &'static str,
    /// How to call it; "or" separates several ways.
    form: &'static str,
    /// What it returns, for the help.
    gives: &'static str,
    takes: fn(usize) -> bool,
    kind: fn(Call<'_>, &[TermType]) -> Checked,
    value: fn(Call<'_>, &[Value], &Rows<'_>) -> Result<Value>,
}

/// A row of the table.
macro_rules! entry {
    ($function:ident, $name:literal, $form:literal, $gives:literal, $takes:expr, $kind:path,
        $value:path) => {
        FunctionEntry {
            function: Function::$function,
            name: $name,
            form: $form,
            gives: $gives,
            takes: $takes,
            kind: $kind,
            value: $value,
        }
    };
}

/// In the order of the enum.
#[rustfmt::skip]
const TABLE: [FunctionEntry; 19] = [
    entry!(Year, "year", "year(date)", "the year", one, part_kind, part),
    entry!(Quarter, "quarter", "quarter(date)", "the quarter, 1 to 4", one, part_kind, part),
    entry!(Month, "month", "month(date)", "the month, 1 to 12", one, part_kind, part),
    entry!(Day, "day", "day(date)", "the day of the month", one, part_kind, part),
    entry!(Weekday, "weekday", "weekday(date)", "the weekday, which is compared with `tue` or \
        'Tuesday'", one, part_kind, part),
    entry!(Week, "week", "week(date)", "the ISO week, 1 to 53", one, part_kind, part),
    entry!(Hour, "hour", "hour(moment) or hour(time)", "the hour, 0 to 23", one, clock_kind, part),
    entry!(Minute, "minute", "minute(moment) or minute(time)", "the minute, 0 to 59", one,
        clock_kind, part),
    entry!(Date, "date", "date(moment) or date(year, month, day)", "the day", |n| n == 1 || n == 3,
        date_kind, date),
    entry!(Time, "time", "time(moment)", "the time of day", one, time_kind, part),
    entry!(Period, "period", "period(date, grain)", "the period of that grain: period(day, month)",
        |n| n == 2, period_kind, period),
    entry!(Abs, "abs", "abs(number)", "the number without its sign", one, number_kind, abs),
    entry!(Round, "round", "round(number) or round(number, places)",
        "the rounded number, with halves away from zero", |n| n == 1 || n == 2, round_kind, round),
    entry!(Least, "least", "least(a, b, …)", "the least value that is not missing", any,
        ordered_kind, best),
    entry!(Greatest, "greatest", "greatest(a, b, …)", "the greatest value that is not missing",
        any, ordered_kind, best),
    entry!(Coalesce, "coalesce", "coalesce(a, b, …)", "the first value that is not missing", any,
        common_kind, best),
    entry!(Lower, "lower", "lower(text)", "the text in lower case", one, text_kind, changed_text),
    entry!(Upper, "upper", "upper(text)", "the text in upper case", one, text_kind, changed_text),
    entry!(Trim, "trim", "trim(text)", "the text without outer blanks", one, text_kind,
        changed_text),
];

fn one(arguments: usize) -> bool {
    arguments == 1
}

fn any(arguments: usize) -> bool {
    arguments > 0
}

/// How each function is called, and what it gives.
pub(super) fn all() -> impl Iterator<Item = (&'static str, &'static str)> {
    TABLE.iter().map(|entry| (entry.form, entry.gives))
}

impl Function {
    /// Looks up a function by its name at a place in the text. Errors: the most similar names.
    pub(super) fn named(name: &str, at: &Range<usize>) -> std::result::Result<Function, Problem> {
        if let Some(entry) = TABLE.iter().find(|entry| entry.name == name) {
            return Ok(entry.function);
        }
        let names = TABLE.iter().map(|entry| entry.name);
        let advice = match &nearest(name, names.clone())[..] {
            [] => format!("there are: {}", names.collect::<Vec<_>>().join(", ")),
            near => format!("did you mean `{}`?", near.join("` or `")),
        };
        Err(Problem::new(at, format!("there is no function `{name}`")).advice(advice))
    }

    fn entry(self) -> &'static FunctionEntry {
        &TABLE[self as usize]
    }
}

impl<'a> Call<'a> {
    /// The arguments that are values: the others name a grain, or a number of places.
    ///
    /// Errors: it has too few or too many arguments.
    pub(super) fn values(self) -> std::result::Result<&'a [Node], Problem> {
        let entry = self.function.entry();
        if !(entry.takes)(self.arguments.len()) {
            let problem = format!("`{}` cannot be called like this", entry.name);
            return Err(Problem::new(&self.node.at, problem).advice(entry.form));
        }
        Ok(match self.function {
            Function::Period | Function::Round => &self.arguments[..1],
            _ => self.arguments,
        })
    }

    /// The type of its result, from those of its values.
    pub(super) fn kind(self, kinds: &[TermType]) -> Checked {
        (self.function.entry().kind)(self, kinds)
    }

    /// Its value, from those of its arguments.
    pub(super) fn value(self, values: &[Value], rows: &Rows<'_>) -> Result<Value> {
        (self.function.entry().value)(self, values, rows)
    }

    /// The place of an argument in the text.
    fn at(self, argument: usize) -> &'a Range<usize> {
        &self.arguments[argument].at
    }

    /// An error that the check should have found before.
    pub(super) fn refused(problem: Problem) -> Error {
        Error::Setting {
            setting: "expression",
            value: problem.problem,
            expected: "a valid call".into(),
        }
    }
}

/// Whether one of the values is missing in all rows.
fn is_any_missing(values: &[Value]) -> bool {
    values.iter().any(|value| value.kind == TermType::Missing)
}

// Kinds.

/// The finest period that a function needs.
fn needed_grain(function: Function) -> Grain {
    match function {
        Function::Year => Grain::Year,
        Function::Quarter => Grain::Quarter,
        Function::Month => Grain::Month,
        Function::Week => Grain::Week,
        _ => Grain::Day,
    }
}

fn part_kind(call: Call<'_>, kinds: &[TermType]) -> Checked {
    dated(call.at(0), kinds[0], needed_grain(call.function))?;
    Ok(if call.function == Function::Weekday {
        TermType::Weekday
    } else {
        TermType::Of(Type::Integer)
    })
}

fn clock_kind(call: Call<'_>, kinds: &[TermType]) -> Checked {
    match kinds[0] {
        TermType::Of(Type::Moment { .. } | Type::Time) => Ok(TermType::Of(Type::Integer)),
        kind if kind.is_open() => Ok(TermType::Of(Type::Integer)),
        kind => Err(needed(call.at(0), "a moment or a time of day", kind)),
    }
}

fn date_kind(call: Call<'_>, kinds: &[TermType]) -> Checked {
    if let [moment] = kinds {
        dated(call.at(0), *moment, Grain::Day)?;
        return Ok(TermType::Of(Type::DAYS));
    }
    for (argument, kind) in kinds.iter().enumerate() {
        if *kind != TermType::Of(Type::Integer) && !kind.is_open() {
            return Err(needed(call.at(argument), "a whole number", *kind));
        }
    }
    Ok(TermType::Of(Type::DAYS))
}

fn time_kind(call: Call<'_>, kinds: &[TermType]) -> Checked {
    match kinds[0] {
        TermType::Of(Type::Moment { .. }) => Ok(TermType::Of(Type::Time)),
        kind if kind.is_open() => Ok(TermType::Of(Type::Time)),
        kind => Err(needed(call.at(0), "a moment", kind)),
    }
}

fn period_kind(call: Call<'_>, kinds: &[TermType]) -> Checked {
    let grain = grain_of(&call.arguments[1])?;
    if grain == Grain::Hour {
        return match kinds[0] {
            TermType::Unknown => Ok(TermType::Unknown),
            kind @ (TermType::Of(Type::Moment { .. }) | TermType::Missing) => Ok(kind),
            kind => Err(needed(call.at(0), "a moment", kind)),
        };
    }
    dated(call.at(0), kinds[0], grain)?;
    Ok(TermType::Of(Type::Date(grain.into())))
}

fn number_kind(call: Call<'_>, kinds: &[TermType]) -> Checked {
    number(call.at(0), kinds[0])
}

fn round_kind(call: Call<'_>, kinds: &[TermType]) -> Checked {
    let kind = number(call.at(0), kinds[0])?;
    let places = call.arguments.get(1).map_or(Ok(0), places_of)?;
    Ok(match (kind, places) {
        (TermType::Unknown | TermType::Missing, _) => kind,
        (TermType::Of(Type::Integer), _) | (_, 0) => TermType::Of(Type::Integer),
        (TermType::Of(Type::Decimal { places: has }), places) if has < places => {
            TermType::Of(Type::Decimal { places: has })
        }
        _ => TermType::Of(Type::Decimal { places }),
    })
}

fn common_kind(call: Call<'_>, kinds: &[TermType]) -> Checked {
    let places = call.arguments.iter().map(|argument| &argument.at);
    common(&call.node.at, places.zip(kinds.iter().copied()))
}

fn ordered_kind(call: Call<'_>, kinds: &[TermType]) -> Checked {
    match common_kind(call, kinds)? {
        kind @ TermType::Of(Type::Boolean) => {
            Err(needed(&call.node.at, "a value that has an order", kind))
        }
        kind => Ok(kind),
    }
}

fn text_kind(call: Call<'_>, kinds: &[TermType]) -> Checked {
    match kinds[0] {
        kind @ TermType::Of(Type::Text) => Ok(kind),
        kind if kind.is_open() => Ok(TermType::Of(Type::Text)),
        kind => Err(needed(call.at(0), "text", kind)),
    }
}

// Evaluation. An argument without any value makes the call missing, except for functions that skip
// missing values.

/// A part of a date, a moment or a time of day.
fn part(call: Call<'_>, values: &[Value], rows: &Rows<'_>) -> Result<Value> {
    if is_any_missing(values) {
        return Ok(Value::missing());
    }
    calendrical::part(call.function, &values[0], rows.zone)
}

fn date(call: Call<'_>, values: &[Value], rows: &Rows<'_>) -> Result<Value> {
    if is_any_missing(values) {
        return Ok(Value::missing());
    }
    if let [moment] = values {
        return calendrical::part(call.function, moment, rows.zone);
    }
    let constant = values.iter().all(|value| value.constant);
    let of_one = if constant { 1 } else { rows.count };
    let parts = values.iter().map(|value| value.rows(of_one)).collect::<Result<Vec<_>>>()?;
    let (array, no_such) = calendrical::dates_of(&parts);
    // A value for all rows holds for each row.
    let for_each = if constant { rows.count as u64 } else { 1 };
    rows.no_such_day.set(rows.no_such_day.get() + no_such * for_each);
    Ok(Value::new(TermType::Of(Type::DAYS), Arc::new(array), constant))
}

fn period(call: Call<'_>, values: &[Value], rows: &Rows<'_>) -> Result<Value> {
    let grain = grain_of(&call.arguments[1]).map_err(Call::refused)?;
    if is_any_missing(values) {
        return Ok(Value::missing());
    }
    calendrical::period(&values[0], grain, rows.zone)
}

fn abs(_: Call<'_>, values: &[Value], _: &Rows<'_>) -> Result<Value> {
    if is_any_missing(values) { Ok(Value::missing()) } else { exact::negative(&values[0], true) }
}

fn round(call: Call<'_>, values: &[Value], _: &Rows<'_>) -> Result<Value> {
    let places = call.arguments.get(1).map_or(Ok(0), places_of).map_err(Call::refused)?;
    if is_any_missing(values) { Ok(Value::missing()) } else { exact::round(&values[0], places) }
}

/// The least or greatest value, or the first that is not missing.
fn best(call: Call<'_>, values: &[Value], rows: &Rows<'_>) -> Result<Value> {
    let (first, others) = values.split_first().expect("it has an argument");
    others.iter().try_fold(first.clone(), |best, next| {
        compare::better(call.function, best, next.clone(), rows)
    })
}

fn changed_text(call: Call<'_>, values: &[Value], _: &Rows<'_>) -> Result<Value> {
    if is_any_missing(values) {
        return Ok(Value::missing());
    }
    Ok(match call.function {
        Function::Lower => text(&values[0], |text| text.to_lowercase()),
        Function::Upper => text(&values[0], |text| text.to_uppercase()),
        _ => text(&values[0], |text| text.trim().to_owned()),
    })
}

#[cfg(test)]
mod tests;
