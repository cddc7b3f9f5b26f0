//! The ledger as text, with one line for each fact and the numbers aligned.
//!
//! The plain form (`{}`) has plain numbers. The alternate form (`{:#}`) is for people, and its
//! numbers have group separators.

use super::{Entry, Followed, Ledger, Reconciled, total};
use crate::{error::Words, message::grouped};
use std::fmt::{self, Formatter, Result};

/// Formats a number for the plain or the alternate form.
pub(super) fn number(f: &Formatter<'_>, number: impl fmt::Display) -> String {
    if f.alternate() { grouped(number) } else { number.to_string() }
}

/// What is displayed in the words of an interface for the settings that it advises.
pub(super) struct Rendered<'a, T>(pub(super) &'a T, pub(super) Words<'a>);

impl Ledger {
    /// The text of the ledger, with the settings that its warnings advise in the words of an
    /// interface. The alternate form (`{:#}`) is for people.
    pub fn rendered<'a>(&'a self, words: Words<'a>) -> impl fmt::Display + 'a {
        Rendered(self, words)
    }
}

impl fmt::Display for Ledger {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        Rendered(self, &|advised| advised.in_rust()).fmt(f)
    }
}

impl fmt::Display for Rendered<'_, Ledger> {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        let Rendered(ledger, words) = self;
        f.write_str(&ledger.step)?;
        if let Some(from) = &ledger.from {
            write!(f, ", from {from}")?;
        }
        if let Some(as_of) = ledger.as_of {
            write!(f, ", as of {as_of}")?;
        }
        if let Some(view) = ledger.view {
            write!(f, ", range {view}")?;
        }
        if let Some(zone) = &ledger.zone {
            write!(f, ", time zone {zone}")?;
        }
        let width = number(f, ledger.rows_in).len().max(4);
        let line = |f: &mut Formatter<'_>, name: &str, rows: u64, rest: &str| {
            let rows = number(f, rows);
            let gap = if rest.trim().is_empty() { "" } else { "  " };
            write!(f, "\n  {name:<10} {rows:>width$}{gap}{rest}")
        };
        line(f, "rows in", ledger.rows_in, "")?;
        let count = |(name, count): &(_, u64)| format!("{name}: {}", number(f, count));
        let counts: Vec<String> = ledger.counts.iter().map(count).collect();
        line(f, "kept", ledger.kept, &counts.join(" · "))?;
        for (name, entries) in [("dropped", &ledger.dropped), ("set aside", &ledger.set_aside)] {
            // One line for each reason, so that the numbers add up to the rows that came in.
            for (n, entry) in entries.iter().enumerate() {
                let rest = format!("{}{}", entry.reason, Lines(entry));
                line(f, if n == 0 { name } else { "" }, entry.rows, &rest)?;
            }
        }
        for sums in &ledger.reconciled {
            if f.alternate() { write!(f, "\n  {sums:#}")? } else { write!(f, "\n  {sums}")? }
        }
        if let Some(followed) = &ledger.followed {
            line(f, "followed", followed.rows_in, "  ")?;
            followed.fmt(f)?;
        }
        for warning in ledger.warnings() {
            if f.alternate() {
                write!(f, "\n  warning: {:#}", Rendered(warning, words))?
            } else {
                write!(f, "\n  warning: {}", Rendered(warning, words))?
            }
        }
        let (dropped, set_aside) = (total(&ledger.dropped), total(&ledger.set_aside));
        let sign = if ledger.rows_in == ledger.kept + dropped + set_aside { '=' } else { '≠' };
        let rows_in = number(f, ledger.rows_in);
        write!(
            f,
            "\n  {:<10} {rows_in:>width$} {sign} {} kept",
            "balance",
            number(f, ledger.kept)
        )?;
        for (name, rows) in [("dropped", dropped), ("set aside", set_aside)] {
            if rows > 0 {
                write!(f, " + {} {name}", number(f, rows))?;
            }
        }
        match &ledger.other_side {
            Some(side) if f.alternate() => write!(f, "\n{:#}", Rendered(&**side, words)),
            Some(side) => write!(f, "\n{}", Rendered(&**side, words)),
            None => Ok(()),
        }
    }
}

impl fmt::Display for Reconciled {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        let Reconciled { column, came_in, kept, dropped, set_aside, in_answer } = self;
        let [came_in, kept] = [came_in, kept].map(|sum| number(f, sum));
        write!(f, "sum of {column}: {came_in} in = {kept} kept")?;
        for (name, sum) in [("dropped", dropped), ("set aside", set_aside)] {
            // Leave out a sum over no rows.
            if !sum.is_zero() {
                write!(f, " + {} {name}", number(f, sum))?;
            }
        }
        match in_answer {
            Some(sum) => write!(f, "; {} in the result", number(f, sum)),
            None => Ok(()),
        }
    }
}

impl fmt::Display for Followed {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        write!(f, "{}: {} kept", self.condition, number(f, self.kept))?;
        for entry in self.dropped.iter().chain(&self.set_aside) {
            write!(f, " · {} {}{}", number(f, entry.rows), entry.reason, Lines(entry))?;
        }
        Ok(())
    }
}

impl fmt::Display for Entry {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        write!(f, "{} {}{}", number(f, self.rows), self.reason, Lines(self))
    }
}

/// The known lines of an entry's rows, or their row numbers with their keys. A line number has no
/// group separators, because people look it up in a file.
struct Lines<'a>(&'a Entry);

impl fmt::Display for Lines<'_> {
    fn fmt(&self, f: &mut Formatter<'_>) -> Result {
        let Entry { rows, lines, keys, numbering, .. } = self.0;
        if lines.is_empty() {
            return Ok(());
        }
        let named: Vec<String> = lines.iter().map(u64::to_string).collect();
        let more = if *rows > lines.len() as u64 { ", …" } else { "" };
        let (word, s) = (numbering.word(), if *rows == 1 { "" } else { "s" });
        write!(f, " ({word}{s} {}{more}", named.join(", "))?;
        if !keys.is_empty() {
            write!(f, ": {}{more}", keys.join("; "))?;
        }
        f.write_str(")")
    }
}
