//! [`Filled`]: a row for every entity and every period of a range, holes filled by stated rules.
//!
//! `filled/cells` lays out the cells, entity by entity, and finds the row that stands in each; `filled/holes` makes the columns
//! of them, each by its rule. Both do so for any stretch of entities, so that a long answer can be handed over in batches.

mod cells;
mod holes;

use crate::{
    axis::Axis,
    calendar::{Grain, Periods, Range, Weekday},
    error::{Error, Result},
    ledger::{Fates, Ledger, Outcome, Reason, Warning},
    operation::{Context, Operation, Setting, Sink, Takes, called_alone, told_in_lists, told_of_periods},
    rows::check_reconciled,
    shape::{ColumnShape, Named, Shape, Type},
    table::Table,
    written::EntityList,
};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use cells::Cells;
use holes::Fill;
use serde::{Deserialize, Serialize};
use std::{fmt, str::FromStr};

/// One row for every entity and every period of a range: what is missing is added, and holes are filled by stated rules.
///
/// All columns but the entity's and the date are blank in added rows, unless a rule fills them:
/// * [`carry`](Filled::carry): the last value, over at most [`limit`](Filled::limit) periods;
/// * [`linear`](Filled::linear): between the values on both sides, by elapsed time, never beyond the ends; such columns come
///   out as floats;
/// * [`zero`](Filled::zero), [`set`](Filled::set): a stated value, in added rows;
/// * [`keep_with`](Filled::keep_with): what the entity's other rows say, in added rows.
///
/// The first two fill every hole, that of a row that was missing and that of a value that was
/// ([`added_only`](Filled::added_only): not the latter). The next two fill added rows alone, since a blank that was recorded is an
/// unknown and not a nothing ([`blanks_too`](Filled::blanks_too): those as well). The ledger counts both kinds of hole apart.
///
/// Added rows are dated by the last day of their period where all records stand on last days, else by the first; moments at the
/// beginning of that day in [`Context::zone`]. Records keep their own date. The answer is in order of entity and date. Set
/// aside: rows without a date, rows that miss a key. Dropped: rows outside a stated range.
///
/// Errors: a column is missing, holds no dates, or no numbers where such are needed; a column has two rules; periods finer than the
/// column's own; two records of one entity and period; a value that is none of its column; a column to keep that varies; more
/// rows than allowed. Costs a timeline and one write of the answer.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub struct Filled {
    /// The columns that identify the entity; none: the whole table is one entity.
    #[serde(default)]
    pub per: Vec<String>,
    /// The column of dates or moments.
    pub date: String,
    /// The size of the periods; a day if not said.
    #[serde(default)]
    pub grain: Option<Grain>,
    /// From when to when.
    #[serde(default)]
    pub range: Stretch,
    /// Columns whose last value is carried into holes.
    #[serde(default)]
    pub carry: Vec<String>,
    /// Columns of numbers that go in a straight line through holes.
    #[serde(default)]
    pub linear: Vec<String>,
    /// Columns of numbers that are 0 in added rows.
    #[serde(default)]
    pub zero: Vec<String>,
    /// Columns with a value of their own in added rows: `COL=VALUE`.
    #[serde(default)]
    pub set: Vec<String>,
    /// Over how many periods a value is carried.
    #[serde(default)]
    pub limit: Option<u32>,
    /// Fill added rows alone, where otherwise every hole is filled.
    #[serde(default)]
    pub added_only: bool,
    /// Fill blanks that were recorded too, where otherwise only added rows are.
    #[serde(default)]
    pub blanks_too: bool,
    /// How added rows are dated.
    #[serde(default)]
    pub dated: Option<Dated>,
    /// Tell in a column of this name which rows were added.
    #[serde(default)]
    pub mark: Option<String>,
    /// Columns that say the same of an entity in every row, repeated in added ones.
    #[serde(default)]
    pub keep_with: Vec<String>,
    /// Entities that are to have rows even where there is no record of them.
    #[serde(default)]
    pub entities: Option<EntityList>,
    /// The day on which weeks begin; Monday if not said.
    #[serde(default)]
    pub week_start: Option<Weekday>,
    /// The month in which years begin; January if not said.
    #[serde(default)]
    pub year_start: Option<String>,
    /// How many rows the answer may have.
    #[serde(default)]
    pub most_rows: Option<u64>,
}

/// From when to when there is a row for every period.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Stretch {
    /// From the first to the last date of the whole table, for every entity.
    #[default]
    Data,
    /// From each entity's own first date to its last.
    Each,
    /// These days, or whole periods.
    Stated(Range),
}

impl fmt::Display for Stretch {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Stretch::Data => f.write_str("data"),
            Stretch::Each => f.write_str("each"),
            Stretch::Stated(range) => range.fmt(f),
        }
    }
}

impl FromStr for Stretch {
    type Err = Error;

    fn from_str(text: &str) -> Result<Stretch> {
        Ok(match text.trim() {
            "data" => Stretch::Data,
            "each" => Stretch::Each,
            range => Stretch::Stated(range.parse()?),
        })
    }
}

crate::calendar::serialized_as_text!(Stretch);

/// Which day of its period an added row is dated by.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Dated {
    /// The first.
    First,
    /// The last.
    Last,
}

called_alone!(Filled);
told_in_lists!(Filled {
    per: "The columns that identify the entity.",
    carry: "Carry the last value of these into every hole.",
    linear: "Draw a straight line through the holes of these.",
    zero: "Write 0 into added rows of these.",
    set: "Write values into added rows: `COL=VALUE`.",
    keep_with: "Repeat these, which never vary within an entity, in added rows.",
});
told_of_periods!(Filled);

impl Filled {
    /// The word for it on the command line and in files.
    pub const NAME: &'static str = "filled";
    /// What it answers, in a sentence.
    pub const ANSWERS: &'static str =
        "What does the series look like with one row for every day, its holes filled by a stated rule?";
    /// Its settings, described.
    pub const SETTINGS: &'static [Setting] = &[
        Setting::new(
            "per",
            Takes::Columns,
            "The columns that identify the entity. Without them the whole table is one entity",
        ),
        Setting::new("date", Takes::Column, "The column of dates or moments").required(),
        Setting::new(
            "grain",
            Takes::Text("GRAIN"),
            "One row for every hour (of moments), day, week, month, quarter or year [default: day]",
        ),
        Setting::new(
            "range",
            Takes::Text("data|each|A..B"),
            "From when to when: over all of the data, from each entity's first date to its last, or from one day or period to another \
             [default: data]",
        ),
        Setting::new("carry", Takes::Columns, "Carry the last value of these into every hole"),
        Setting::new(
            "linear",
            Takes::Columns,
            "Draw a straight line through the holes of these, between values",
        ),
        Setting::new("zero", Takes::Columns, "Write 0 into added rows of these"),
        Setting::new("set", Takes::Texts("COL=VALUE"), "Write this value into added rows of the column"),
        Setting::new("limit", Takes::Count, "Carry a value over at most so many periods"),
        Setting::new("added-only", Takes::Yes, "Carry and draw into added rows alone, not into blanks"),
        Setting::new("blanks-too", Takes::Yes, "Write zeros and set values into blanks too"),
        Setting::new(
            "dated",
            Takes::OneOf(&["first", "last"]),
            "Date added rows by the first or last day of their period [default: as the data is]",
        ),
        Setting::new("mark", Takes::Name, "Tell in a column of this name which rows were added"),
        Setting::new(
            "keep-with",
            Takes::Columns,
            "Repeat these, which never vary within an entity, in added rows",
        ),
        Setting::new(
            "entities",
            Takes::Entities,
            "Rows for the entities in these columns of a file too, in the order of --per: vessels.csv:vessel",
        ),
        Setting::new("week-start", Takes::Text("WEEKDAY"), "The day on which weeks begin [default: Monday]"),
        Setting::new("year-start", Takes::Text("MONTH"), "The month in which years begin [default: January]"),
        Setting::new("most-rows", Takes::Number, "How many rows the answer may have [default: 200000000]"),
    ];

    /// By the dates of this column, one row a day, with the whole table as one entity.
    pub fn new(date: impl Into<String>) -> Filled {
        Filled { date: date.into(), ..Filled::default() }
    }

    /// The size of the periods.
    pub fn grain(mut self, grain: Grain) -> Filled {
        self.grain = Some(grain);
        self
    }

    /// From when to when.
    pub fn range(mut self, range: Stretch) -> Filled {
        self.range = range;
        self
    }

    /// Carry a value over at most so many periods.
    pub fn limit(mut self, periods: u32) -> Filled {
        self.limit = Some(periods);
        self
    }

    /// Carry and draw into added rows alone.
    pub fn added_only(mut self) -> Filled {
        self.added_only = true;
        self
    }

    /// Write zeros and set values into blanks too.
    pub fn blanks_too(mut self) -> Filled {
        self.blanks_too = true;
        self
    }

    /// How added rows are dated.
    pub fn dated(mut self, dated: Dated) -> Filled {
        self.dated = Some(dated);
        self
    }

    /// Tell in a column of this name which rows were added.
    pub fn mark(mut self, name: impl Into<String>) -> Filled {
        self.mark = Some(name.into());
        self
    }

    /// Entities that are to have rows even where there is no record of them.
    pub fn entities(mut self, entities: EntityList) -> Filled {
        self.entities = Some(entities);
        self
    }

    /// How many rows the answer may have.
    pub fn most_rows(mut self, rows: u64) -> Filled {
        self.most_rows = Some(rows);
        self
    }

    fn grain_or_day(&self) -> Grain {
        self.grain.unwrap_or(Grain::Day)
    }

    fn periods(&self) -> Result<Periods> {
        Periods::cut(self.grain_or_day(), self.week_start, self.year_start.as_deref())
    }

    /// The columns that have a rule, each with the setting that gives it.
    fn ruled(&self, shape: &Shape) -> Result<Vec<(&'static str, Named)>> {
        let set: Vec<String> = self
            .set
            .iter()
            .map(|text| split_set(text).map(|(column, _)| column.to_owned()))
            .collect::<Result<_>>()?;
        let lists = [
            ("carry", &self.carry),
            ("linear", &self.linear),
            ("zero", &self.zero),
            ("set", &set),
            ("keep-with", &self.keep_with),
        ];
        let mut ruled: Vec<(&'static str, Named)> = Vec::new();
        for (setting, list) in lists {
            for named in shape.named(list)? {
                if ruled.iter().any(|(_, other)| other.column == named.column) {
                    let value = format!("`{}`, which has a rule already", named.column);
                    return Err(Error::Setting { setting, value, expected: "one rule for each column" });
                }
                ruled.push((setting, named));
            }
        }
        Ok(ruled)
    }

    fn check_settings(&self, shape: &Shape) -> Result<()> {
        let refused = |setting, value: &str, expected| {
            Err(Error::Setting { setting, value: value.to_owned(), expected })
        };
        self.periods()?;
        let per = shape.named(&self.per)?;
        let taken = |(setting, named): (&'static str, Named)| {
            let is_key = per.iter().any(|key| key.column == named.column);
            if is_key || named.column == self.date {
                return refused(
                    setting,
                    &format!("`{}`", named.column),
                    "a column beside the entity's and the date",
                );
            }
            if matches!(setting, "linear" | "zero") {
                shape.expect_numbers(&named.column)?;
            }
            Ok(())
        };
        self.ruled(shape)?.into_iter().try_for_each(taken)?;
        match self {
            _ if self.per.contains(&self.date) => {
                refused("per", &format!("`{}`", self.date), "columns other than the date")
            }
            Filled { limit: Some(_), carry, .. } if carry.is_empty() => {
                refused("limit", "given", "`carry` beside it")
            }
            Filled { added_only: true, carry, linear, .. } if carry.is_empty() && linear.is_empty() => {
                refused("added-only", "given", "`carry` or `linear` beside it")
            }
            Filled { blanks_too: true, zero, set, .. } if zero.is_empty() && set.is_empty() => {
                refused("blanks-too", "given", "`zero` or `set` beside it")
            }
            Filled { dated: Some(_), grain: Some(Grain::Hour), .. } => {
                refused("dated", "given", "days or longer periods: an hour has no days")
            }
            Filled { entities: Some(_), per, .. } if per.is_empty() => {
                refused("entities", "given", "`per` beside it")
            }
            Filled { entities: Some(_), range: Stretch::Each, .. } => refused(
                "entities",
                "given",
                "a range for all of them: an entity without a record has no dates of its own",
            ),
            _ => Ok(()),
        }
    }

    fn step(&self) -> String {
        let per = if self.per.is_empty() { String::new() } else { format!(" per {}", self.per.join(", ")) };
        let over = match self.range {
            Stretch::Data => String::new(),
            Stretch::Each => ", each from its first date to its last".to_owned(),
            Stretch::Stated(range) => format!(", {range}"),
        };
        format!("filled by {}{per} and {}{over}", self.date, self.grain_or_day())
    }

    /// What is needed to make the answer, and the account of the rows.
    fn laid_out(&self, table: &Table, context: &Context) -> Result<(Cells, Vec<Fill>, Ledger, Table)> {
        self.check_with(&table.shape(), context).map_err(|error| table.explain(error))?;
        let dates = table.dates(&self.date)?;
        let axis = Axis::of(&self.date, &dates, self.periods()?, &context.zone)?;
        let all = || BooleanBuffer::new_set(table.rows());
        let dated = dates.nulls().map_or_else(all, NullBuffer::into_inner);
        let per = table.shape().named(&self.per)?;
        let mut keyed = all();
        for named in &per {
            if let Some(nulls) = table.column(&named.column)?.logical_nulls() {
                keyed = &keyed & nulls.inner();
            }
        }
        let usable = &dated & &keyed;
        let stated = match self.range {
            Stretch::Stated(range) => Some(range.to_whole(dates.periods())),
            _ => None,
        };
        let none = || [(); 2].map(|()| BooleanBuffer::new_unset(table.rows()));
        let [before, after] = stated.map_or_else(none, |range| dates.outside(range, &context.zone));
        let outside = &usable & &(&before | &after);
        let kept = &usable & &!&outside;
        let fates = Fates {
            kept: kept.clone(),
            dropped: vec![(Reason::OutsideRange, outside)],
            set_aside: vec![(Reason::NoDate, !&dated), (Reason::NoKey, &dated & &!&keyed)],
        };
        let (mut ledger, set_aside) = fates.account(self.step(), table, context)?;
        ledger.zone = Some(context.zone.to_string()).filter(|_| axis.instants);

        let cells = Cells::lay_out(self, table, [&usable, &kept, &before], axis, &per)?;
        ledger.view = stated.or_else(|| cells.view());
        let cut = stated.and_then(|range| Warning::of_periods_in_part(range, self.periods().ok()?, None));
        ledger.warnings.extend(cut);
        ledger.counts.push(("rows out".into(), cells.count()));
        ledger.counts.push(("there".into(), ledger.kept));
        ledger.counts.push(("added".into(), cells.count() - ledger.kept));
        ledger.note("entities without a record", cells.without_record);
        ledger.note("entities named twice", cells.named_twice);
        ledger.note("entities named without a key", cells.without_key);
        let fills = Fill::of(self, &cells)?;
        Ok((cells, fills, ledger, set_aside))
    }
}

/// The column and the value of `COL=VALUE`.
fn split_set(text: &str) -> Result<(&str, &str)> {
    text.split_once('=').map(|(column, value)| (column.trim(), value.trim())).ok_or_else(|| Error::Setting {
        setting: "set",
        value: format!("`{text}`"),
        expected: "a column and its value, such as `state=closed`",
    })
}

impl Operation for Filled {
    fn check_with(&self, shape: &Shape, context: &Context) -> Result<Shape> {
        self.check_settings(shape)?;
        check_reconciled(shape, context)?;
        shape.expect_dates(&self.date)?;
        let ruled = self.ruled(shape)?;
        let mut names = shape.named(&self.per)?;
        names.extend(ruled.iter().map(|(_, named)| named.clone()));
        let mut answer = shape.renamed(&names)?;
        for (column, before) in answer.columns.iter_mut().zip(shape.columns()) {
            if ruled.iter().any(|(setting, named)| *setting == "linear" && named.column == before.name) {
                *column = ColumnShape { name: column.name.clone(), kind: Some(Type::Float) };
            }
        }
        self.mark.as_ref().map_or(Ok(answer.clone()), |name| answer.with(name, Type::Boolean))
    }

    fn apply_with(&self, table: &Table, context: &Context) -> Result<Outcome> {
        let (cells, mut fills, mut ledger, set_aside) = self.laid_out(table, context)?;
        context.expect_room(
            cells.count(),
            16 + table.row_bytes(),
            "Ask for a longer grain or a shorter range",
        )?;
        let answer = cells.answer(0..cells.entities(), &mut fills)?;
        fills.iter().for_each(|fill| fill.account(&mut ledger));
        Ok(Outcome { table: answer, ledger, set_aside })
    }

    fn apply_into(&self, table: &Table, context: &Context, sink: &mut Sink<'_>) -> Result<Outcome> {
        let (cells, mut fills, mut ledger, set_aside) = self.laid_out(table, context)?;
        let none = cells.answer(0..0, &mut fills)?;
        sink(&none).map_err(Error::Sink)?;
        for entities in cells.stretches() {
            sink(&cells.answer(entities, &mut fills)?).map_err(Error::Sink)?;
        }
        fills.iter().for_each(|fill| fill.account(&mut ledger));
        Ok(Outcome { table: none, ledger, set_aside })
    }
}

#[cfg(test)]
mod tests;
