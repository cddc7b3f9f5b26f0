//! [`Collected`]: what a page shows of the steps that have run.

use super::{
    MOST_ROWS,
    figures::Figures,
    outline::{Needed, Outline},
};
use crate::{CoreError, Ledger, Outcome, Table, data::Data, draw::Picture};

/// What a page shows of the steps that have run.
#[derive(Debug, Default)]
pub(crate) struct Collected {
    pub(super) steps: Vec<StepOnPage>,
    pub(super) figures: Figures,
}

/// What a page shows of a step that has run.
#[derive(Debug)]
pub(super) struct StepOnPage {
    pub(super) place: usize,
    pub(super) ledger: Ledger,
    /// The rows set aside, as far as they are shown, and their number.
    pub(super) set_aside: (Table, usize),
    /// The result, once for each grain.
    pub(super) views: Vec<View>,
    /// The name of the file for the table.
    pub(super) written: Option<String>,
}

/// A result of a step.
#[derive(Debug)]
pub(super) struct View {
    /// The grain, if there are several.
    pub(super) grain: Option<String>,
    /// The first rows, and the number of all rows.
    pub(super) table: Table,
    pub(super) rows: usize,
    pub(super) picture: Option<Picture>,
    pub(super) ledger: Ledger,
}

/// A result, its picture if one is shown, and its grain if there are several.
pub(crate) struct Taken<'a> {
    pub(crate) grain: Option<&'a str>,
    pub(crate) outcome: &'a Outcome,
    pub(crate) picture: Option<Picture>,
}

impl Collected {
    /// Takes the account of a step that has run.
    ///
    /// Errors: the rows set aside cannot be read.
    pub(crate) fn account(
        &mut self,
        place: usize,
        (ledger, set_aside): (&Ledger, &Data),
        written: Option<&str>,
    ) -> crate::Result<()> {
        self.steps.push(StepOnPage {
            place,
            ledger: ledger.clone(),
            set_aside: (set_aside.head(MOST_ROWS)?, set_aside.rows() as usize),
            views: Vec::new(),
            written: written.map(str::to_owned),
        });
        Ok(())
    }

    /// Takes the whole results of the last step that was accounted for, the main one first, and
    /// computes the figures of the main one.
    ///
    /// Errors: those of the figures, each with its sentence.
    pub(crate) fn results(
        &mut self,
        outline: &Outline,
        results: Vec<Taken<'_>>,
    ) -> Result<(), Box<(Needed, CoreError)>> {
        let Some(step) = self.steps.last_mut() else { return Ok(()) };
        if let Some(main) = results.first() {
            for needed in outline.figures_of(step.place) {
                let value = needed.figure.quantity.compute(&main.outcome.table);
                let value = value.map_err(|error| Box::new((needed.clone(), error)))?;
                self.figures.insert(needed.figure.clone(), value);
            }
        }
        if outline.blocks[step.place].is_some() {
            step.views.extend(results.into_iter().map(|taken| View {
                grain: taken.grain.map(str::to_owned),
                table: taken.outcome.table.head(MOST_ROWS),
                rows: taken.outcome.table.rows(),
                picture: taken.picture,
                ledger: taken.outcome.ledger.clone(),
            }));
        }
        Ok(())
    }
}
