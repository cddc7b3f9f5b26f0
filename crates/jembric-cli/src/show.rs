//! Tables and looks for people.

use crate::arguments::command_words;
use crate::screen::{BOLD, visible, wrapped};
use comfy_table::{
    Cell, CellAlignment, ContentArrangement, ContentLineStyle, LineStyle, Table as Grid, TableStyle,
};
use jembric::{
    Finding, Look, NotQuite, Table,
    io::{self, CellText},
};
use std::fmt::Write as _;

/// A table's first rows as aligned text, and how many more of all there are. Cells wrap where the
/// terminal is too narrow.
pub(crate) fn table(table: &Table, all: u64, width: Option<u16>) -> String {
    let shown = table.rows();
    let columns = CellText::of(table);
    let cells = |row| columns.iter().map(move |column| printable(&column.text(row)));
    let mut text =
        grid(table.names().map(printable), (0..shown).map(cells), &io::numeric(table), width);
    let more = all - shown as u64;
    if more > 0 {
        let rows = if more == 1 { "row" } else { "rows" };
        let _ = writeln!(text, "… and {more} more {rows} (--rows {all} shows all)");
    }
    text
}

fn grid<R: Iterator<Item = String>>(
    names: impl Iterator<Item = String>,
    rows: impl Iterator<Item = R>,
    right: &[bool],
    width: Option<u16>,
) -> String {
    let mut grid = Grid::new();
    let style = TableStyle::new()
        .header_separator(LineStyle::new('─', '─', '─', '─'))
        .header_lines(ContentLineStyle::none())
        .content_lines(ContentLineStyle::none());
    grid.load_style(style);
    if let Some(width) = width {
        grid.set_width(width).set_content_arrangement(ContentArrangement::Dynamic);
    }
    let aligned = |cells: &mut dyn Iterator<Item = String>| -> Vec<Cell> {
        let alignment =
            |right: &bool| if *right { CellAlignment::Right } else { CellAlignment::Left };
        cells
            .zip(right)
            .map(|(cell, right)| Cell::new(cell).set_alignment(alignment(right)))
            .collect()
    };
    let mut names = names;
    grid.set_header(aligned(&mut names));
    for mut row in rows {
        grid.add_row(aligned(&mut row));
    }
    // Blanks at the ends of lines help nobody.
    grid.lines().fold(String::new(), |mut text, line| {
        let _ = writeln!(text, "{}", line.trim_end());
        text
    })
}

/// A cell's text on one line, without what would act on a terminal.
fn printable(text: &str) -> String {
    visible(&text.replace('\n', "\\n")).into_owned()
}

/// What is in a file, what looks wrong, and how to go on.
pub(crate) fn look(file: &str, look: &Look, width: Option<u16>) -> String {
    let mut text = format!(
        "{BOLD}{}{BOLD:#}: {}, {}\n\n",
        printable(file),
        many(look.rows, "row"),
        many(look.columns.len() as u64, "column")
    );
    let names = ["column", "type", "missing", "distinct", "least", "greatest"]
        .map(str::to_owned)
        .into_iter();
    let rows = look.columns.iter().map(|column| {
        let cells = [
            printable(&column.name),
            column.kind.to_string(),
            column.missing.to_string(),
            column.distinct.to_string(),
            printable(&column.least),
            printable(&column.greatest),
        ];
        cells.into_iter()
    });
    text += &grid(names, rows, &[false, false, true, true, false, false], width);
    let dated: Vec<_> =
        look.columns.iter().filter_map(|column| Some((column, column.dates?))).collect();
    if !dated.is_empty() {
        let _ = writeln!(text, "\n{BOLD}Dates{BOLD:#}");
    }
    for (column, dates) in dated {
        let periods = many(dates.periods.into(), dates.first.periods().grain().word());
        let without = match dates.without {
            0 => "each with a record".to_owned(),
            periods => format!("{periods} without a record"),
        };
        let written = column
            .notation
            .as_ref()
            .map(|notation| format!("; written like {notation}"))
            .unwrap_or_default();
        let (name, first, last) = (printable(&column.name), dates.first, dates.last);
        let _ = writeln!(text, "  {name}: {first}..{last}, {periods}, {without}{written}");
    }
    let _ = writeln!(text, "\n{BOLD}What looks wrong{BOLD:#}");
    for finding in &look.findings {
        let _ = writeln!(
            text,
            "{}",
            wrapped(&format!("  - {}", printable(&finding.told(&command_words))), width)
        );
    }
    if look.findings.is_empty() {
        let _ = writeln!(text, "  nothing");
    }
    if let Some(next) = next(file, look) {
        let _ = writeln!(text, "\n{BOLD}Next{BOLD:#}\n  {}", printable(&next));
    }
    text
}

/// The command with which one would go on.
fn next(file: &str, look: &Look) -> Option<String> {
    let quoted = |word: &str| match word.chars().all(|c| c.is_alphanumeric() || "._-/".contains(c))
    {
        true => word.to_owned(),
        false => format!("'{}'", word.replace('\'', r"'\''")),
    };
    let file = quoted(file);
    let mark = look.findings.iter().find_map(|finding| match finding {
        Finding::NotQuiteNumbers { mark, .. } => mark.as_ref(),
        _ => None,
    });
    if let Some(mark) = mark {
        return Some(format!("jembric look {file} --missing {}", quoted(mark)));
    }
    let open_order = |finding: &Finding| {
        matches!(finding, Finding::NotQuiteDates { why,
        .. } if matches!(**why, NotQuite::Order(_)))
    };
    if look.findings.iter().any(open_order) {
        return Some(format!("jembric look {file} --date-order dmy"));
    }
    let (per, date) = look.go_on.as_ref()?;
    let per = per.as_ref().map(|per| format!(" --per {}", quoted(per))).unwrap_or_default();
    Some(format!("jembric latest {file}{per} --date {}", quoted(date)))
}

fn many(n: u64, thing: &str) -> String {
    format!("{n} {thing}{}", if n == 1 { "" } else { "s" })
}

#[cfg(test)]
mod tests {
    use super::*;
    use jembric::arrow::{ArrayRef, Int64Array, StringViewArray};
    use std::sync::Arc;

    fn notes() -> Table {
        let notes: ArrayRef =
            Arc::new(StringViewArray::from(vec![Some("two\nlines"), Some("\u{1b}[31mred"), None]));
        let tons: ArrayRef = Arc::new(Int64Array::from(vec![7, 12_345, 3]));
        Table::from_columns([("note", notes), ("tons", tons)]).unwrap()
    }

    #[test]
    fn a_row_is_a_line_and_nothing_in_it_disturbs_the_terminal() {
        insta::assert_snapshot!(table(&notes(), 3, None), @r"
          note             tons
        ─────────────────────────
          two\nlines          7
          \u{1b}[31mred   12345
                              3
        ");
    }

    #[test]
    fn rows_that_are_not_shown_are_counted() {
        assert!(
            table(&notes().head(2), 3, None).ends_with("… and 1 more row (--rows 3 shows all)\n")
        );
        assert!(
            table(&notes().head(0), 3, None).ends_with("… and 3 more rows (--rows 3 shows all)\n")
        );
    }

    #[test]
    fn cells_wrap_where_the_terminal_is_narrow() {
        let text = table(&notes(), 3, Some(18));
        assert!(text.lines().all(|line| line.chars().count() <= 18), "{text}");
        assert!(text.contains("ines"), "{text}");
    }

    #[test]
    fn names_that_a_shell_would_split_are_quoted_in_what_to_type_next() {
        let look = Look::at(&notes()).unwrap();
        assert_eq!(next("my file.csv", &look), None);
        let days: ArrayRef = Arc::new(jembric::arrow::Date32Array::from(vec![0, 1, 1]));
        let look = Look::at(&Table::from_columns([("it's day", days)]).unwrap()).unwrap();
        assert_eq!(
            next("my file.csv", &look).unwrap(),
            r"jembric latest 'my file.csv' --date 'it'\''s day'"
        );
    }

    #[test]
    fn long_messages_break_between_words_and_are_indented() {
        let text = wrapped("short\n  warning: one two three four", Some(20));
        assert_eq!(text, "short\n  warning: one two\n      three four");
        assert_eq!(wrapped("one two", None), "one two");
    }
}
