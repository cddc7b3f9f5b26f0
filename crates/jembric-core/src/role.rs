//! [`Role`]: what a column of a result is for, so that a picture of it needs no settings.

use arrow_schema::Field;

/// What a column of a result is for. It is kept in the field's metadata (`jembric.role`), so it
/// survives Parquet and Arrow files.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Role {
    /// The date of each record.
    Date,
    /// The date of a single event, so that no line joins one row to the next.
    Event,
    /// The period that the figures of a row are about.
    Period,
    /// Part of the key: the entity or the class.
    Key,
    /// A measured or computed number.
    Measure,
    /// A number that holds until the next date: a state, a balance, a count in use.
    State,
    /// True if the values of a row were filled and not measured.
    Mark,
    /// The start of an interval.
    Start,
    /// The last day of an interval.
    End,
    /// The end of an interval, which itself is not part of it.
    ExclusiveEnd,
}

impl Role {
    /// All roles.
    pub const ALL: [Role; 10] = [
        Role::Date,
        Role::Event,
        Role::Period,
        Role::Key,
        Role::Measure,
        Role::State,
        Role::Mark,
        Role::Start,
        Role::End,
        Role::ExclusiveEnd,
    ];

    /// The role as text, as in the metadata of a field.
    pub const fn word(self) -> &'static str {
        match self {
            Role::Date => "date",
            Role::Event => "event",
            Role::Period => "period",
            Role::Key => "key",
            Role::Measure => "measure",
            Role::State => "state",
            Role::Mark => "mark",
            Role::Start => "start",
            Role::End => "end",
            Role::ExclusiveEnd => "exclusive end",
        }
    }

    /// The role of a field. A word that is not a role is ignored.
    pub(crate) fn from_field(field: &Field) -> Option<Role> {
        let word = field.metadata().get(ROLE)?;
        Role::ALL.into_iter().find(|role| role.word() == word)
    }
}

/// The key of the metadata for a column's role.
pub(crate) const ROLE: &str = "jembric.role";
