//! The texts of the page's interface, in one place, so that they can be translated. In those for
//! the script, names in braces stand for numbers.

use crate::grouped;

pub(super) const LANGUAGE: &str = "en";
pub(super) const SKIP: &str = "Skip to the report";
pub(super) const UNTITLED: &str = "Report";
pub(super) const AS_OF: &str = "As of";
pub(super) const CONTENTS: &str = "Contents";
pub(super) const ATTENTION: &str = "Warnings and rows set aside";
pub(super) const NO_ATTENTION: &str = "There are no warnings, and no row was set aside.";
pub(super) const WARNING: &str = "Warning";
pub(super) const GRAIN: &str = "Period";
pub(super) const TABLE: &str = "Table";
pub(super) const NO_ROWS: &str = "The result has no rows.";
pub(super) const FILE: &str = "File with all rows:";
pub(super) const ACCOUNT: &str = "What happened to every row";
pub(super) const SET_ASIDE_ROWS: &str = "Rows set aside";
pub(super) const ROWS_IN: &str = "Rows in";
pub(super) const KEPT: &str = "Kept";
pub(super) const DROPPED: &str = "Dropped";
pub(super) const SET_ASIDE: &str = "Set aside";
pub(super) const SUMS: &str = "Sums";
pub(super) const FOLLOWED: &str = "Followed";
pub(super) const BALANCE: &str = "Balance";
pub(super) const FROM: &str = ", from ";
pub(super) const LEDGER_AS_OF: &str = ", as of ";
pub(super) const RANGE: &str = ", range ";
pub(super) const LEDGER_ZONE: &str = ", time zone ";
pub(super) const OTHER_STEPS: &str = "Further steps";
pub(super) const SOURCES: &str = "Where this comes from";
pub(super) const SOURCE_FILE: &str = "File";
pub(super) const SOURCE_SIZE: &str = "Size in bytes";
pub(super) const SOURCE_ROWS: &str = "Rows read";
pub(super) const SOURCE_SUM: &str = "SHA-256";
pub(super) const NO_SUM: &str = "read from a stream";
pub(super) const AS_OF_DATE: &str = "As-of date";
pub(super) const SINCE: &str = "Compared with";
pub(super) const ZONE: &str = "Time zone";
pub(super) const PROGRAM: &str = "Made by";
pub(super) const ROUTINE: &str = "The routine";

/// The texts for the script, as attributes of the body.
pub(super) const SEARCH: &str = "Search";
pub(super) const FOUND: &str = "{found} of {rows} rows";
pub(super) const PAGE: &str = "Page {page} of {pages}";
pub(super) const PREVIOUS: &str = "Previous";
pub(super) const NEXT: &str = "Next";

/// The heading of the view of a grain.
pub(super) fn by(grain: &str) -> String {
    format!("By {grain}")
}

/// What a screen reader says about a row that appeared.
pub(super) const APPEARED: &str = " (new)";

/// The earlier value of a cell, on hover and for a screen reader.
pub(super) fn before(value: &str) -> String {
    match value {
        "" => "before: no value".to_owned(),
        value => format!("before: {value}"),
    }
}

/// The line above a table that is compared with an earlier date.
pub(super) fn compared(since: &str, appeared: u64, changed: u64, gone: usize) -> String {
    let number = |rows: u64| grouped(rows);
    let rows = |rows: u64| if rows == 1 { "row" } else { "rows" };
    format!(
        "Since {since}: {} new {} (+), {} changed {} (•), {} gone.",
        number(appeared),
        rows(appeared),
        number(changed),
        rows(changed),
        number(gone as u64)
    )
}

/// The caption of the rows that are gone.
pub(super) fn gone(since: &str) -> String {
    format!("Gone since {since}")
}

/// The button of a grain.
pub(super) fn button(grain: &str) -> String {
    let mut letters = grain.chars();
    letters.next().map(|first| first.to_uppercase().chain(letters).collect()).unwrap_or_default()
}

/// The line under a table that is not complete.
pub(super) fn shortened(shown: usize, rows: usize) -> String {
    format!("The table has the first {} of {} rows.", grouped(shown), grouped(rows))
}

/// The line under a printed table that has more columns than fit on paper.
pub(super) fn printed(shown: usize, columns: usize) -> String {
    format!("On paper, the table has the first {shown} of {} columns.", grouped(columns))
}

/// The right side of a ledger's balance: the rows kept, dropped and set aside.
pub(super) fn balance(balances: bool, kept: u64, [dropped, set_aside]: [u64; 2]) -> String {
    let mut text = format!("{} {} kept", if balances { '=' } else { '≠' }, grouped(kept));
    for (rows, fate) in [(dropped, "dropped"), (set_aside, "set aside")] {
        if rows > 0 {
            text.push_str(&format!(" + {} {fate}", grouped(rows)));
        }
    }
    text
}

/// The number of rows that a step set aside.
pub(super) fn set_aside(rows: u64) -> String {
    match rows {
        1 => "1 row set aside".to_owned(),
        rows => format!("{} rows set aside", grouped(rows)),
    }
}
