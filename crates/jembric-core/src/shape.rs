//! [`Shape`]: what is known of a table's columns without the data, and the search for the name that
//! was meant.

use crate::{
    error::{Error, Expected, Result},
    kind::Type,
    message::nearest,
    role::Role,
};
use std::collections::HashSet;

/// The names and types of a table's columns, as far as they are known: all that can be checked
/// without the data.
///
/// The header of a file gives the names; reading the whole file gives the types.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Shape {
    pub(crate) file: Option<String>,
    pub(crate) columns: Vec<ColumnShape>,
}

/// One column of a [`Shape`].
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ColumnShape {
    /// Its name.
    pub name: String,
    /// Its type, if it is known.
    pub kind: Option<Type>,
    /// What it is for, if an operation has told.
    pub role: Option<Role>,
}

impl ColumnShape {
    /// A column with its type, if it is known, and without a role.
    pub fn new(name: impl Into<String>, kind: Option<Type>) -> ColumnShape {
        ColumnShape { name: name.into(), kind, role: None }
    }
}

/// The word between a column and its new name.
const AS: &str = " as ";

impl Shape {
    /// Columns of which only the names are known.
    pub fn of_names<N: Into<String>>(names: impl IntoIterator<Item = N>) -> Shape {
        Shape::of_columns(names.into_iter().map(|name| ColumnShape::new(name, None)))
    }

    /// Columns with their types, if known.
    pub fn of_columns(columns: impl IntoIterator<Item = ColumnShape>) -> Shape {
        Shape { file: None, columns: columns.into_iter().collect() }
    }

    /// The same, with the file that it came from.
    #[must_use]
    pub fn from_file(mut self, file: impl Into<String>) -> Shape {
        self.file = Some(file.into());
        self
    }

    /// The same for a result, which does not come from a file.
    #[must_use]
    pub fn anonymous(mut self) -> Shape {
        self.file = None;
        self
    }

    /// The columns, in order.
    pub fn columns(&self) -> &[ColumnShape] {
        &self.columns
    }

    /// The place of the column with this name. Errors: the nearest names.
    pub fn place(&self, name: &str) -> Result<usize> {
        self.columns
            .iter()
            .position(|column| column.name == name)
            .ok_or_else(|| self.no_such_column(name))
    }

    /// The place of a column that may hold dates.
    ///
    /// Errors: the column is missing, or is known to hold another type.
    pub(crate) fn place_of_dates(&self, name: &str) -> Result<usize> {
        self.expect_dates(name)?;
        self.place(name)
    }

    /// The type of the column at a place, if it is known.
    pub(crate) fn kind(&self, place: usize) -> Option<Type> {
        self.columns.get(place).and_then(|column| column.kind)
    }

    /// The column with this name. Errors: the nearest names.
    pub fn find(&self, name: &str) -> Result<&ColumnShape> {
        self.columns
            .iter()
            .find(|column| column.name == name)
            .ok_or_else(|| self.no_such_column(name))
    }

    pub(crate) fn no_such_column(&self, name: &str) -> Error {
        Error::NoSuchColumn {
            file: self.file.clone(),
            column: name.to_owned(),
            nearest: nearest(name, self.columns.iter().map(|column| column.name.as_str())),
            columns: self.columns.iter().map(|column| column.name.clone()).collect(),
        }
    }

    /// Errors: the column is missing, or is known to hold no dates.
    pub fn expect_dates(&self, name: &str) -> Result<()> {
        self.expect(name, Expected::Dates, Type::is_dated)
    }

    /// Errors: the column is missing, or is known to hold no numbers.
    pub fn expect_numbers(&self, name: &str) -> Result<()> {
        self.expect(name, Expected::Numbers, Type::is_number)
    }

    fn expect(&self, name: &str, expected: Expected, fits: impl Fn(Type) -> bool) -> Result<()> {
        match self.find(name)?.kind {
            Some(found) if !fits(found) => Err(Error::WrongType {
                file: self.file.clone(),
                column: name.to_owned(),
                expected,
                found,
            }),
            _ => Ok(()),
        }
    }

    /// Parses a list of columns: each is a name, or `COLUMN as NAME`, which renames the column in
    /// the result.
    ///
    /// Errors: a column is missing, or is listed twice under one name.
    pub fn named(&self, list: &[String]) -> Result<Vec<Named>> {
        let mut all: Vec<Named> = Vec::new();
        for text in list {
            let (column, shown_as) = self.renaming(text);
            let place = self.place(column)?;
            let named = Named { column: column.to_owned(), shown_as: shown_as.to_owned(), place };
            if all.contains(&named) {
                return Err(Error::ListedTwice { column: named.column });
            }
            all.push(named);
        }
        Ok(all)
    }

    /// The column and its name in the result, in a text `COLUMN as NAME`. The name of the column
    /// may itself contain ` as `.
    fn renaming<'a>(&self, text: &'a str) -> (&'a str, &'a str) {
        if self.find(text).is_ok() {
            return (text, text);
        }
        let split = |at: usize| (text[..at].trim(), text[at + AS.len()..].trim());
        let mut splits = text.rmatch_indices(AS).map(|(at, _)| split(at));
        let known = splits.find(|(column, _)| self.find(column).is_ok());
        known.or_else(|| text.find(AS).map(split)).unwrap_or((text, text))
    }

    /// The shape with columns renamed. Errors: two have the same name.
    pub fn renamed(&self, names: &[Named]) -> Result<Shape> {
        let mut shape = self.clone();
        for (column, name) in shape
            .columns
            .iter_mut()
            .zip(new_names(self.columns.iter().map(|column| column.name.as_str()), names)?)
        {
            column.name = name;
        }
        Ok(shape)
    }

    /// The shape with one more column. Errors: the name is taken.
    pub fn with(&self, name: &str, kind: Type) -> Result<Shape> {
        self.with_shape(ColumnShape::new(name, Some(kind)))
    }

    /// Errors: a table's shape does not have these columns with these types.
    pub(crate) fn expect_same(&self, found: &Shape) -> Result<()> {
        let differs = |(one, other): (&ColumnShape, &ColumnShape)| {
            one.name != other.name || one.kind.is_none_or(|kind| Some(kind) != other.kind)
        };
        let pairs = self.columns().iter().zip(found.columns());
        let words = |column: &ColumnShape| {
            let kind =
                column.kind.map_or_else(|| "an unknown type".to_owned(), |kind| kind.to_string());
            format!("column `{}` of {kind}", column.name)
        };
        if let Some((one, other)) = pairs.into_iter().find(|&pair| differs(pair)) {
            return Err(Error::OtherShape { prepared: words(one), found: words(other) });
        }
        let count = |shape: &Shape| match shape.columns().len() {
            1 => "1 column".to_owned(),
            columns => format!("{columns} columns"),
        };
        if self.columns().len() == found.columns().len() {
            Ok(())
        } else {
            Err(Error::OtherShape { prepared: count(self), found: count(found) })
        }
    }

    /// The shape with one more column, whose type may be unknown.
    pub(crate) fn with_shape(&self, column: ColumnShape) -> Result<Shape> {
        if self.columns.iter().any(|other| other.name == column.name) {
            return Err(Error::NameTaken { name: column.name });
        }
        let mut shape = self.clone();
        shape.columns.push(column);
        Ok(shape)
    }

    /// Only these columns, under their new names.
    pub(crate) fn select(&self, named: &[Named]) -> Result<Shape> {
        let one = |named: &Named| {
            let column = self.find(&named.column)?.clone();
            Ok(ColumnShape { name: named.shown_as.clone(), ..column })
        };
        Ok(Shape {
            file: self.file.clone(),
            columns: named.iter().map(one).collect::<Result<_>>()?,
        })
    }
}

/// A column of a list, and its name in the result.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Named {
    /// The column.
    pub column: String,
    /// Its name in the result.
    pub shown_as: String,
    /// Its place among the table's columns.
    pub(crate) place: usize,
}

impl Named {
    /// The column at a place, under its own name.
    pub(crate) fn unrenamed(place: usize, name: &str) -> Named {
        Named { column: name.to_owned(), shown_as: name.to_owned(), place }
    }
}

pub(crate) fn new_names<'a>(
    names: impl Iterator<Item = &'a str>,
    renamed: &[Named],
) -> Result<Vec<String>> {
    let new = |name: &'a str| {
        renamed
            .iter()
            .find(|named| named.column == name)
            .map_or(name, |named| &named.shown_as)
            .to_owned()
    };
    let names: Vec<String> = names.map(new).collect();
    let mut seen = HashSet::new();
    match names.iter().find(|name| !seen.insert(name.as_str())) {
        Some(name) => Err(Error::NameTaken { name: name.clone() }),
        None => Ok(names),
    }
}
