//! Ledgers on the page: a table of what happened to every row, and the rows that were set aside.

use super::{collected::StepOnPage, marked::marked, tables::Shown, texts};
use crate::{Entry, Ledger, grouped, visible};
use maud::{Markup, html};

/// The id of a step's ledger.
pub(super) fn id(place: usize) -> String {
    format!("ledger-{}", place + 1)
}

/// The warnings of a ledger and of its other side.
pub(super) fn warnings(ledger: &Ledger) -> Vec<String> {
    let sides = std::iter::once(ledger).chain(ledger.other_side.as_deref());
    sides.flat_map(Ledger::warnings).map(|warning| format!("{warning:#}")).collect()
}

/// The rows that a ledger and its other side set aside, by reason.
pub(super) fn set_aside(ledger: &Ledger) -> Option<String> {
    let sides = std::iter::once(ledger).chain(ledger.other_side.as_deref());
    let entries: Vec<&Entry> = sides.flat_map(|side| &side.set_aside).collect();
    let rows: u64 = entries.iter().map(|entry| entry.rows).sum();
    let reasons: Vec<String> = entries.iter().map(|entry| format!("{entry:#}")).collect();
    (rows > 0).then(|| format!("{}: {}", texts::set_aside(rows), reasons.join("; ")))
}

/// The ledgers of a step, and the rows that it set aside.
pub(super) fn of_step(step: &StepOnPage) -> Markup {
    // The ledgers of further grains differ in the words for the step only, or in warnings as well.
    let differs = |ledger: &&Ledger| {
        let mut same = (*ledger).clone();
        same.step.clone_from(&step.ledger.step);
        same != step.ledger
    };
    let further = step.views.iter().skip(1).map(|view| &view.ledger).filter(differs);
    let (set_aside, rows) = &step.set_aside;
    html! {
        div class="ledger" id=(id(step.place)) {
            (ledger(&step.ledger))
            @for further in further {
                (ledger(further))
            }
            @if *rows > 0 {
                h4 { (texts::SET_ASIDE_ROWS) }
                (Shown {
                    table: set_aside,
                    rows: *rows,
                    caption: texts::SET_ASIDE_ROWS,
                    file: None,
                    marks: None,
                }
                .markup())
            }
        }
    }
}

fn ledger(ledger: &Ledger) -> Markup {
    let Ledger { step, from, as_of, view, zone, .. } = ledger;
    let counts: Vec<String> =
        ledger.counts.iter().map(|(name, count)| format!("{name}: {}", grouped(count))).collect();
    let entries = [(texts::DROPPED, &ledger.dropped), (texts::SET_ASIDE, &ledger.set_aside)];
    let total = |entries: &[Entry]| entries.iter().map(|entry| entry.rows).sum::<u64>();
    let sums = [total(&ledger.dropped), total(&ledger.set_aside)];
    html! {
        h3 {
            (visible(step))
            @if let Some(from) = from { (texts::FROM) (visible(file_name(from))) }
            @if let Some(as_of) = as_of { (texts::LEDGER_AS_OF) span class="d" { (as_of) } }
            @if let Some(view) = view { (texts::RANGE) span class="d" { (view) } }
            @if let Some(zone) = zone { (texts::LEDGER_ZONE) (zone) }
        }
        table class="account" {
            tr {
                th scope="row" { (texts::ROWS_IN) }
                td class="n" { (grouped(ledger.rows_in)) }
                td {}
            }
            tr {
                th scope="row" { (texts::KEPT) }
                td class="n" { (grouped(ledger.kept)) }
                td { (counts.join(" · ")) }
            }
            @for (name, entries) in entries {
                @for (n, entry) in entries.iter().enumerate() {
                    tr {
                        @if n == 0 { th scope="row" rowspan=(entries.len()) { (name) } }
                        td class="n" { (grouped(entry.rows)) }
                        td { (reason(entry)) }
                    }
                }
            }
            @if let Some(followed) = &ledger.followed {
                tr {
                    th scope="row" { (texts::FOLLOWED) }
                    td class="n" { (grouped(followed.rows_in)) }
                    td { (visible(&format!("{followed:#}"))) }
                }
            }
            @for sums in &ledger.reconciled {
                tr { th scope="row" { (texts::SUMS) } td {} td { (visible(&format!("{sums:#}"))) } }
            }
            tr {
                th scope="row" { (texts::BALANCE) }
                td class="n" { (grouped(ledger.rows_in)) }
                td {
                    (texts::balance(ledger.balances(), ledger.kept, sums))
                }
            }
        }
        @for warning in ledger.warnings() {
            p class="warning" {
                strong { (texts::WARNING) ":" } " " (marked(&format!("{warning:#}")))
            }
        }
        @if let Some(side) = &ledger.other_side {
            (self::ledger(side))
        }
    }
}

/// The name of a file without its directories, so that the page does not depend on where it was
/// made.
fn file_name(path: &str) -> &str {
    path.rsplit(['/', '\\']).next().unwrap_or(path)
}

/// The reason of an entry with its lines, without the number of rows.
fn reason(entry: &Entry) -> String {
    let text = format!("{entry:#}");
    let reason = text.split_once(' ').map_or(text.as_str(), |(_, reason)| reason);
    visible(reason).into_owned()
}
