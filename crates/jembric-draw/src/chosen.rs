//! [`Chosen`]: the form and the columns of a picture, from the settings, the roles of the columns,
//! and otherwise their types.

use crate::{draw::Draw, kinds::Form};
use jembric_core::{Entities, Error, Missing, Result, Role, Shape, Table, Type};

/// The most series in one picture: more cannot be told apart by colour.
pub(crate) const MOST_SERIES: usize = crate::palette::SERIES;

/// A column by its place and name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Column {
    pub(crate) place: usize,
    pub(crate) name: String,
}

/// The form and the columns of a picture.
#[derive(Clone, Debug)]
pub(crate) struct Chosen {
    pub(crate) form: Form,
    /// Whether the form was set and not derived.
    pub(crate) form_is_set: bool,
    pub(crate) along: Option<Column>,
    pub(crate) of: Vec<Column>,
    pub(crate) per: Vec<Column>,
    pub(crate) apart: Option<Column>,
    pub(crate) from: Option<Column>,
    pub(crate) to: Option<Column>,
    /// Whether the end itself is not part of an interval.
    pub(crate) is_exclusive: bool,
    pub(crate) mark: Option<Column>,
    /// Whether the columns have roles, so that a row of totals can be recognized.
    pub(crate) has_roles: bool,
    /// What was guessed from types, for the ledger.
    pub(crate) guessed: Vec<String>,
}

/// The columns of a table, and the table itself once it is read.
struct Columns<'a> {
    shape: &'a Shape,
    table: Option<&'a Table>,
}

impl<'a> Columns<'a> {
    fn column(&self, place: usize) -> Column {
        Column { place, name: self.shape.columns()[place].name.clone() }
    }

    fn named(&self, setting: &'static str, name: &str) -> Result<Column> {
        let place = self.shape.place(name).map_err(|error| error.of_setting(setting))?;
        Ok(self.column(place))
    }

    fn all(&self, setting: &'static str, names: &[String]) -> Result<Vec<Column>> {
        names.iter().map(|name| self.named(setting, name)).collect()
    }

    fn kind(&self, place: usize) -> Option<Type> {
        self.shape.columns()[place].kind
    }

    fn with_role(&self, role: Role) -> impl Iterator<Item = Column> + '_ {
        let columns = self.shape.columns().iter().enumerate();
        let fit = columns.filter(move |(_, column)| column.role == Some(role));
        fit.map(|(place, _)| self.column(place))
    }

    fn of_kind(&self, fits: impl Fn(Type) -> bool) -> Vec<Column> {
        let columns = self.shape.columns().iter().enumerate();
        let fit = columns.filter(|(_, column)| {
            column.kind.is_some_and(|kind| kind != Type::Nothing && fits(kind))
        });
        fit.map(|(place, _)| self.column(place)).collect()
    }

    /// The number of values of a column. Cost: one pass over it.
    fn values(&self, column: &Column) -> Result<usize> {
        match self.table {
            Some(table) => Ok(Entities::number(table, &[&column.name], Missing::IsAKey)?.count()),
            None => Ok(0),
        }
    }
}

impl Columns<'_> {
    /// The first column of classes whose values repeat, so that it is no mere number of the row;
    /// without one, the first column of classes.
    fn repeated_class(&self) -> Result<Option<Column>> {
        let classes = self.of_kind(is_class);
        let rows = self.table.map_or(0, Table::rows);
        for column in &classes {
            if self.values(column)? * 2 <= rows {
                return Ok(Some(column.clone()));
            }
        }
        Ok(classes.into_iter().next())
    }

    /// The first free column of texts with at least two values, and no more than there are colours.
    fn series_class(&self, is_free: impl Fn(&Column) -> bool) -> Result<Option<Column>> {
        let texts = self.of_kind(|kind| kind == Type::Text);
        for column in texts.into_iter().filter(is_free) {
            if (2..=MOST_SERIES).contains(&self.values(&column)?) {
                return Ok(Some(column));
            }
        }
        Ok(None)
    }
}

fn is_class(kind: Type) -> bool {
    matches!(kind, Type::Text | Type::Boolean)
}

impl Chosen {
    /// The form and the columns for a table of this shape; none if they depend on the table and it
    /// is not read yet.
    ///
    /// Errors: a column is missing, or is known to have the wrong type; no column fits.
    pub(crate) fn choose(
        draw: &Draw,
        shape: &Shape,
        table: Option<&Table>,
    ) -> Result<Option<Chosen>> {
        let columns = Columns { shape, table };
        let set = Set::from_settings(draw, &columns)?;
        // Types that are unknown are known once the table is read.
        if shape.columns().iter().any(|column| column.kind.is_none()) {
            return Ok(None);
        }
        let has_roles = shape.columns().iter().any(|column| column.role.is_some());
        if !has_roles && table.is_none() {
            return Ok(None);
        }
        let mut chosen = Chosen {
            form: draw.form.unwrap_or(Form::Lines),
            form_is_set: draw.form.is_some() || draw.stacked,
            along: set.along,
            of: set.of,
            per: set.per,
            apart: set.apart,
            from: set.from,
            to: set.to,
            is_exclusive: false,
            mark: set.mark.or_else(|| columns.with_role(Role::Mark).next()),
            has_roles,
            guessed: Vec::new(),
        };
        if chosen.is_of_intervals(draw, &columns) {
            chosen.intervals(draw, &columns)?;
        } else {
            // Each small picture has one value of its own key, which is no series in it.
            let apart = chosen.apart.as_ref().map(|apart| apart.place);
            chosen.per.retain(|key| Some(key.place) != apart);
            chosen.series(draw, &columns)?;
        }
        chosen.check(draw)?;
        Ok(Some(chosen))
    }

    /// The places of all chosen columns.
    pub(crate) fn places(&self) -> impl Iterator<Item = usize> + '_ {
        let several = self.of.iter().chain(&self.per);
        let single = [&self.along, &self.apart, &self.from, &self.to, &self.mark];
        several.chain(single.into_iter().flatten()).map(|column| column.place)
    }

    fn is_of_intervals(&self, draw: &Draw, columns: &Columns<'_>) -> bool {
        if let Some(form) = draw.form {
            return form == Form::Intervals;
        }
        if self.from.is_some() || self.to.is_some() {
            return true;
        }
        if self.along.is_some() || !self.of.is_empty() || draw.stacked {
            return false;
        }
        let ends = [Role::End, Role::ExclusiveEnd].map(|role| columns.with_role(role).next());
        let has_both =
            columns.with_role(Role::Start).next().is_some() && ends.iter().any(Option::is_some);
        has_both || !self.has_roles && columns.of_kind(Type::is_dated).len() >= 2
    }

    fn intervals(&mut self, draw: &Draw, columns: &Columns<'_>) -> Result<()> {
        self.form = Form::Intervals;
        let dated = columns.of_kind(Type::is_dated);
        if self.from.is_none() {
            self.from = columns.with_role(Role::Start).next();
        }
        if self.to.is_none() {
            self.to = columns.with_role(Role::End).next();
        }
        if self.to.is_none() {
            self.to = columns.with_role(Role::ExclusiveEnd).next();
        }
        if let Some(to) = &self.to {
            self.is_exclusive = columns.shape.columns()[to.place].role == Some(Role::ExclusiveEnd);
        }
        if self.from.is_none() {
            self.from = dated.iter().find(|column| self.to.as_ref() != Some(column)).cloned();
            self.guess("from", &self.from.clone());
        }
        if self.to.is_none() {
            let after = self.from.as_ref().map_or(0, |from| from.place);
            let is_free = |column: &&Column| self.from.as_ref() != Some(*column);
            let later = dated.iter().filter(is_free).find(|column| column.place > after);
            self.to = later.or_else(|| dated.iter().find(is_free)).cloned();
            self.guess("to", &self.to.clone());
        }
        for (setting, column) in [("from", &self.from), ("to", &self.to)] {
            if column.is_none() {
                return Err(Error::NothingToDraw { setting, needs: "a column of dates" });
            }
        }
        if draw.per.is_empty() && self.apart.is_none() {
            self.per = columns.with_role(Role::Key).collect();
        }
        if self.per.is_empty() && self.apart.is_none() && draw.per.is_empty() {
            self.per = columns.repeated_class()?.into_iter().collect();
            self.guess("per", &self.per.first().cloned());
        }
        Ok(())
    }

    fn series(&mut self, draw: &Draw, columns: &Columns<'_>) -> Result<()> {
        let roles = |role| columns.with_role(role);
        // A column that has a setting of its own is not chosen for another one.
        let used =
            |chosen: &Chosen, column: &Column| chosen.places().any(|place| place == column.place);
        if self.along.is_none() {
            let dated = [Role::Period, Role::Date, Role::Event];
            self.along = dated.into_iter().find_map(|role| roles(role).next());
        }
        let is_measure = |column: &Column| !used(self, column);
        if self.of.is_empty() {
            let figures = roles(Role::State).chain(roles(Role::Measure));
            let figures: Vec<Column> = figures.filter(is_measure).collect();
            self.of = figures;
        }
        let takes_keys = draw.per.is_empty();
        if takes_keys {
            self.per = roles(Role::Key).filter(|column| !used(self, column)).collect();
        }
        if !self.has_roles {
            self.guess_series(draw, columns)?;
        }
        // Without dates, figures per class stand along the first key.
        if self.along.is_none() && takes_keys && self.has_roles && !self.per.is_empty() {
            self.along = Some(self.per.remove(0));
        }
        if self.along.is_none() {
            let needs = if self.of.is_empty() {
                "a column of dates or two columns of numbers"
            } else {
                "a column of dates, of texts, or one more of numbers"
            };
            return Err(Error::NothingToDraw { setting: "along", needs });
        }
        self.form = draw.form.unwrap_or_else(|| self.fitting_form(draw, columns));
        if self.form == Form::Calendar && takes_keys {
            // Values of several entities are not added up, so each one has its own calendar.
            let key = self.per.drain(..).next();
            self.apart = self.apart.take().or(key);
        }
        Ok(())
    }

    /// Chooses the columns of a table without roles by their types.
    fn guess_series(&mut self, draw: &Draw, columns: &Columns<'_>) -> Result<()> {
        let is_free =
            |chosen: &Chosen, column: &Column| !chosen.places().any(|place| place == column.place);
        let mut numbers = columns.of_kind(|kind| kind.is_number());
        numbers.retain(|column| is_free(self, column));
        if self.along.is_none() {
            let dated = columns.of_kind(Type::is_dated);
            let mut dated = dated.into_iter().filter(|column| is_free(self, column));
            self.along = dated.next();
            // Without dates, one number stands above another, or above its class.
            if self.along.is_none() && !(numbers.is_empty() && self.of.is_empty()) {
                let class =
                    columns.of_kind(is_class).into_iter().find(|column| is_free(self, column));
                let is_of_numbers = numbers.len() >= 2 && draw.form != Some(Form::Bars);
                self.along = if is_of_numbers { Some(numbers.remove(0)) } else { class };
            }
            self.guess("along", &self.along.clone());
        }
        if self.of.is_empty() {
            self.of = numbers.into_iter().take(1).collect();
            self.guess("of", &self.of.first().cloned());
        }
        if draw.per.is_empty() {
            let per = if self.of.is_empty() {
                columns.repeated_class()?.filter(|column| is_free(self, column))
            } else {
                columns.series_class(|column| is_free(self, column))?
            };
            if per.is_none() {
                self.expect_one_series(draw, columns, is_free)?;
            }
            self.guess("per", &per);
            self.per = per.into_iter().collect();
        }
        Ok(())
    }

    /// Errors: one line would go through all values of a column with too many for a line each.
    fn expect_one_series(
        &self,
        draw: &Draw,
        columns: &Columns<'_>,
        is_free: impl Fn(&Chosen, &Column) -> bool,
    ) -> Result<()> {
        let form = draw.form.unwrap_or_else(|| self.fitting_form(draw, columns));
        let Some(along) = self.along.as_ref().filter(|_| !self.of.is_empty()) else {
            return Ok(());
        };
        let rows = columns.table.map_or(0, Table::rows);
        let is_a_line = matches!(form, Form::Lines | Form::Steps) && self.apart.is_none();
        if !is_a_line || columns.values(along)? == rows {
            return Ok(());
        }
        let texts = columns.of_kind(|kind| kind == Type::Text).into_iter();
        for column in texts.filter(|column| is_free(self, column)) {
            let values = columns.values(&column)?;
            if values > MOST_SERIES && values * 2 <= rows {
                return Err(Error::TooMuchToDraw {
                    found: format!("{} series by {}", jembric_core::grouped(values), column.name),
                    most: MOST_SERIES as u64,
                    apart: Some(column.name),
                });
            }
        }
        Ok(())
    }

    /// The form that fits the chosen columns.
    fn fitting_form(&self, draw: &Draw, columns: &Columns<'_>) -> Form {
        let Some(along) = &self.along else { return Form::Dots };
        let kind = columns.kind(along.place).unwrap_or(Type::Nothing);
        let role = |column: &Column| columns.shape.columns()[column.place].role;
        let is_state = self.of.first().is_some_and(|of| role(of) == Some(Role::State));
        let is_period = role(along) == Some(Role::Period)
            || kind
                .periods()
                .is_some_and(|periods| periods != jembric_core::calendar::Periods::DAYS);
        match kind {
            _ if draw.stacked => Form::Bars,
            kind if is_class(kind) => Form::Bars,
            _ if !kind.is_dated() && role(along) == Some(Role::Key) => Form::Bars,
            kind if !kind.is_dated() => Form::Dots,
            _ if is_state => Form::Steps,
            _ if is_period && (!self.of.is_empty() || self.has_roles) => Form::Bars,
            _ if self.of.is_empty() || role(along) == Some(Role::Event) => Form::Dots,
            _ => Form::Lines,
        }
    }

    /// Errors: a setting has no effect on the form, or the form needs a column.
    fn check(&self, draw: &Draw) -> Result<()> {
        let needs = |setting, needs| Err(Error::SettingNeeds { setting, needs });
        let has_numbers = match self.form {
            Form::Intervals | Form::Calendar => false,
            Form::Dots => !self.of.is_empty(),
            _ => true,
        };
        match self.form {
            form if draw.stacked && form != Form::Bars => needs("stacked", "`form` bars"),
            _ if !draw.level.is_empty() && !has_numbers => {
                needs("level", "a form with an axis of numbers: lines, steps, bars or dots")
            }
            form if form != Form::Intervals && self.from.is_some() => {
                needs("from", "`form` intervals")
            }
            form if form != Form::Intervals && self.to.is_some() => needs("to", "`form` intervals"),
            Form::Intervals if self.along.is_some() => {
                needs("along", "another form than intervals")
            }
            Form::Intervals if !self.of.is_empty() => needs("of", "another form than intervals"),
            Form::Lines | Form::Steps if self.of.is_empty() => {
                Err(Error::NothingToDraw { setting: "of", needs: "a column of numbers" })
            }
            Form::Calendar if !self.per.is_empty() => {
                needs("per", "another form than calendar (use `apart`)")
            }
            Form::Calendar if self.of.len() > 1 => Err(Error::Setting {
                setting: "of",
                value: format!("{} columns", self.of.len()),
                expected: "one column, because a calendar shows one value for each day".into(),
            }),
            _ => Ok(()),
        }
    }

    fn guess(&mut self, setting: &str, column: &Option<Column>) {
        if let Some(column) = column {
            self.guessed.push(format!("{setting} {}", column.name));
        }
    }
}

/// The columns that are set.
struct Set {
    along: Option<Column>,
    of: Vec<Column>,
    per: Vec<Column>,
    apart: Option<Column>,
    from: Option<Column>,
    to: Option<Column>,
    mark: Option<Column>,
}

impl Set {
    /// Errors: a column is missing, or is known to have the wrong type.
    fn from_settings(draw: &Draw, columns: &Columns<'_>) -> Result<Set> {
        let one = |setting, name: &Option<String>| {
            name.as_ref().map(|name| columns.named(setting, name)).transpose()
        };
        let dated = |setting: &'static str, name: &Option<String>| {
            let expected = name.iter().try_for_each(|name| columns.shape.expect_dates(name));
            expected.map_err(|error| error.of_setting(setting))?;
            one(setting, name)
        };
        for name in &draw.of {
            columns.shape.expect_numbers(name).map_err(|error| error.of_setting("of"))?;
        }
        let mark = one("mark", &draw.mark)?;
        if let Some(mark) = &mark
            && let Some(kind) = columns.kind(mark.place)
            && !matches!(kind, Type::Boolean | Type::Nothing)
        {
            return Err(Error::Setting {
                setting: "mark",
                value: format!("`{}`, which holds {kind}", mark.name),
                expected: "a column of true and false".into(),
            });
        }
        Ok(Set {
            along: one("along", &draw.along)?,
            of: columns.all("of", &draw.of)?,
            per: columns.all("per", &draw.per)?,
            apart: one("apart", &draw.apart)?,
            from: dated("from", &draw.from)?,
            to: dated("to", &draw.to)?,
            mark,
        })
    }
}
