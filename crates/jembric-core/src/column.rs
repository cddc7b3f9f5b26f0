//! [`Column`]: a column as a setting names it, with its new name or the way it is sorted.

/// A column as a setting names it. The short form is its name as text, which is all that most calls
/// need.
///
/// ```
/// use jembric_core::{Column, Latest, Sort};
///
/// let latest = Latest::new("inspected_on").per([Column::new("vessel").named("ship")]);
/// assert_eq!(latest.per, ["vessel as ship"]);
/// assert_eq!(Sort::new([Column::new("tons").down()]).by, ["tons:down"]);
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[must_use]
pub struct Column {
    text: String,
}

impl Column {
    /// The column of this name.
    pub fn new(name: impl Into<String>) -> Column {
        Column { text: name.into() }
    }

    /// Gives it another name in the result.
    pub fn named(self, name: impl AsRef<str>) -> Column {
        Column { text: format!("{} as {}", self.text, name.as_ref()) }
    }

    /// Sorts by it with the greatest value first.
    pub fn down(self) -> Column {
        Column { text: format!("{}:down", self.text) }
    }
}

impl From<Column> for String {
    fn from(column: Column) -> String {
        column.text
    }
}
