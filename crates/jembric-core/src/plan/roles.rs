//! [`Roles`]: the roles that an operation gives to the columns of its result.

use crate::{
    role::Role,
    shape::{Named, Shape},
    table::Table,
};

/// The roles that an operation gives to the columns of its result. All other columns have none.
#[derive(Clone, Debug, Default)]
pub(crate) struct Roles {
    named: Vec<(String, Role)>,
    /// The role of columns whose names depend on the data, except for this one.
    others: Option<(Role, &'static str)>,
}

impl Roles {
    /// A column of this name has this role.
    pub(crate) fn with(mut self, name: impl Into<String>, role: Role) -> Roles {
        self.named.push((name.into(), role));
        self
    }

    /// These columns of the key.
    pub(crate) fn keys(self, named: &[Named]) -> Roles {
        named.iter().fold(self, |roles, named| roles.with(&named.shown_as, Role::Key))
    }

    /// Columns that are not named have this role, except for one.
    pub(crate) fn others(mut self, role: Role, except: &'static str) -> Roles {
        self.others = Some((role, except));
        self
    }

    pub(crate) fn role(&self, name: &str) -> Option<Role> {
        let named = self.named.iter().find(|(column, _)| column == name).map(|(_, role)| *role);
        let other = self.others.filter(|(_, except)| *except != name).map(|(role, _)| role);
        named.or(other)
    }

    /// The shape with these roles.
    pub(crate) fn shape(&self, mut shape: Shape) -> Shape {
        shape.columns.iter_mut().for_each(|column| column.role = self.role(&column.name));
        shape
    }

    /// The table with these roles. Cost: one new schema.
    pub(crate) fn table(&self, table: &Table) -> Table {
        table.with_roles(|name| self.role(name))
    }
}
