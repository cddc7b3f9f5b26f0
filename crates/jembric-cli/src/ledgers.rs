//! Prints the ledgers of the steps that have run, and the followed rows.

use crate::{
    Failure,
    arguments::{AccountArguments, AnswerArguments, LedgerForm},
    screen::Screen,
    show::{self, ChosenColumns},
};
use jembric::{Error, Expression, Filter, Ledger, Table, Words, calendar::Day, run::Ran, visible};

/// What is printed about a step that has run.
pub(crate) struct StepReport {
    ledger: Ledger,
    written: Option<String>,
    /// The followed rows in its result.
    followed: Option<Table>,
    /// Whether one of several processes did it for all rows.
    at_one_process: bool,
    /// The name of a result in which nothing changed since an earlier date, and the date.
    unchanged: Option<(String, Day)>,
}

impl StepReport {
    pub(crate) fn new(ran: &Ran<'_>, follow: Option<&Expression>) -> StepReport {
        let followed = follow.map(|condition| {
            Filter::new(condition.to_string()).apply_with(&ran.outcome.table, ran.context)
        });
        StepReport {
            ledger: ran.outcome.ledger.clone(),
            written: ran.written.clone(),
            followed: followed.and_then(Result::ok).map(|outcome| outcome.table),
            at_one_process: ran.at_one_process,
            unchanged: ran
                .since
                .filter(|_| ran.outcome.table.rows() == 0)
                .map(|day| (ran.step.title().to_owned(), day)),
        }
    }
}

/// Prints the ledgers of the steps that have run, and the followed rows.
pub(crate) fn print_ledgers(
    (reports, several): (&[StepReport], bool),
    (title, words): (Option<String>, Words<'_>),
    account: &AccountArguments,
    answer: &AnswerArguments,
    is_shown: bool,
    screen: &mut Screen,
) -> Result<(), Failure> {
    // A blank line separates the ledgers from a table above them.
    let is_below = screen.is_terminal && answer.out.is_none() && is_shown;
    let mut gap = if is_below && account.ledger == LedgerForm::Text { "\n" } else { "" };
    if let (Some(title), LedgerForm::Text) = (title, account.ledger) {
        screen.account(format!("{gap}{title}"))?;
        gap = "";
    }
    // Results in which nothing changed have one line together.
    let is_listed =
        |report: &&StepReport| report.unchanged.is_some() && account.ledger == LedgerForm::Text;
    for StepReport { ledger, written, followed, at_one_process, .. } in
        reports.iter().filter(|report| !is_listed(report))
    {
        match account.ledger {
            LedgerForm::Text if screen.accounts_are_read => {
                screen.account(format!("{gap}{:#}", ledger.rendered(words)))?
            }
            LedgerForm::Text => screen.account(format!("{gap}{}", ledger.rendered(words)))?,
            LedgerForm::Json => screen.account(serde_json::to_string(ledger).map_err(not_json)?)?,
        }
        gap = "";
        if *at_one_process && several && account.ledger == LedgerForm::Text {
            screen.account("  process    0, because this step needs all rows together")?;
        }
        if let (Some(file), LedgerForm::Text) = (written, account.ledger) {
            screen.account(format!("  {:<10} {file}", "file"))?;
        }
        if let Some(rows) =
            followed.as_ref().filter(|rows| rows.rows() > 0 && account.ledger == LedgerForm::Text)
        {
            let (some, all) = (rows.head(answer.rows), rows.rows() as u64);
            // The chosen columns are those of the last step, which may not be this one.
            let shown = show::table(&some, all, &ChosenColumns::Fitting, screen.width)?;
            screen.account(format!("\n{}", shown.trim_end()))?;
            gap = "\n";
        }
    }
    let unchanged: Vec<&(String, Day)> =
        reports.iter().filter(is_listed).filter_map(|report| report.unchanged.as_ref()).collect();
    if let Some((_, day)) = unchanged.first() {
        let names: Vec<String> = unchanged.iter().map(|(name, _)| visible(name).into()).collect();
        screen.account(format!("{gap}nothing changed since {day} in: {}", names.join(", ")))?;
    }
    Ok(())
}

fn not_json(error: serde_json::Error) -> Error {
    Error::Write { file: "the ledger".to_owned(), source: error.into() }
}
