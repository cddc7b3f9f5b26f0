//! [`Column`]: a column in a setting, with its new name or its sort order.

/// A column in a setting. The short form, which most calls use, is its name as text.
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
    /// The column with this name.
    pub fn new(name: impl Into<String>) -> Column {
        Column { text: name.into() }
    }

    /// Renames the column in the result.
    pub fn named(self, name: impl AsRef<str>) -> Column {
        Column { text: format!("{} as {}", self.text, name.as_ref()) }
    }

    /// Sorts by the column in descending order.
    pub fn down(self) -> Column {
        Column { text: format!("{}:down", self.text) }
    }
}

impl From<Column> for String {
    fn from(column: Column) -> String {
        column.text
    }
}
