//! Draws: from the settings and a table to a picture and its ledger.

use crate::{chosen::Chosen, content::Content, draw::Draw, picture::Picture, read};
use jembric_core::{Context, Error, Operation, Outcome, Plan, Result, RowsLeftOut, Shape, Table};

impl Draw {
    /// Draws the form that fits the table.
    pub fn new() -> Draw {
        Draw::default()
    }

    /// Draws a picture of a table, without an as-of date and with days of UTC.
    ///
    /// Errors: the settings do not fit the table; the picture would be too large.
    pub fn picture(&self, table: &Table) -> Result<Picture> {
        self.picture_with(table, &Context::new())
    }

    /// Draws a picture of a table in a context: as-of date, time zone.
    ///
    /// Errors: the settings do not fit the table; the picture would be too large.
    pub fn picture_with(&self, table: &Table, context: &Context) -> Result<Picture> {
        Ok(self.draw(table, context)?.1)
    }

    /// Draws a picture of a table, and returns the rows that were drawn as well.
    ///
    /// Errors: as for [`picture_with`](Draw::picture_with).
    pub fn draw(&self, table: &Table, context: &Context) -> Result<(Outcome, Picture)> {
        let (rows_left_out, content) = self.read(table, context)?;
        let outcome = rows_left_out.outcome(table, context)?;
        let picture = Picture::new(self.clone(), content, outcome.ledger.clone());
        Ok((outcome, picture))
    }

    fn read(&self, table: &Table, context: &Context) -> Result<(RowsLeftOut, Content)> {
        let shape = table.shape();
        let chosen = Chosen::choose(self, &shape, Some(table));
        let chosen = chosen.map_err(|error| table.explained(error))?;
        // A table knows the type of every column, so its columns can be chosen.
        let chosen = chosen.ok_or(Error::NothingToDraw { setting: "along", needs: "a column" })?;
        read::content(self, chosen, table, context)
    }

    /// Applies the settings to a table without drawing it: the rows that can be drawn, and the
    /// ledger.
    ///
    /// Errors: as for [`picture`](Draw::picture).
    pub fn apply(&self, table: &Table) -> Result<Outcome> {
        self.apply_with(table, &Context::new())
    }

    /// Prepares the settings for tables of a shape.
    ///
    /// Errors: a column is missing, or is known to have the wrong type.
    pub fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan> {
        Operation::prepare(self, shape, context)
    }
}

impl Operation for Draw {
    fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan> {
        // What is guessed depends on the data, so only a plan whose columns are all known can name
        // the columns that it needs.
        let used: Vec<usize> = match Chosen::choose(self, shape, None)? {
            Some(chosen) => chosen.places().collect(),
            None => (0..shape.columns().len()).collect(),
        };
        let draw = self.clone();
        Plan::leaving_out(shape, context, used, move |table, context| {
            Ok(draw.read(table, context)?.0)
        })
    }
}
