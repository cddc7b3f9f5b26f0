//! Formats tables and looks for people.

use crate::{
    arguments::command_words,
    layout::{self, ShownColumn, printable},
    screen::{BOLD, wrapped},
};
use jembric::{
    ColumnLook, Finding, Look, NotQuite, Result, Shape, Table, Type, grouped,
    io::{DatabaseTable, shown_name},
};
use std::fmt::Write as _;

/// The columns that a table shows.
#[derive(Clone, Debug, Default)]
pub(crate) enum ChosenColumns {
    /// As many as fit into the terminal.
    #[default]
    Fitting,
    /// All columns, in blocks below each other if they do not fit side by side.
    All,
    /// These columns, in blocks if necessary.
    Named(Vec<String>),
}

impl ChosenColumns {
    /// Parses what was typed: `all`, or names.
    pub(crate) fn parse(typed: &[String]) -> ChosenColumns {
        match typed {
            [] => ChosenColumns::Fitting,
            [one] if one == "all" => ChosenColumns::All,
            names => ChosenColumns::Named(names.to_vec()),
        }
    }

    /// Errors: the shape has no column of this name.
    pub(crate) fn check(&self, shape: &Shape) -> Result<()> {
        let ChosenColumns::Named(names) = self else { return Ok(()) };
        names.iter().try_for_each(|name| Ok(shape.place(name).map(drop)?))
    }
}

/// A table's first rows as aligned text, followed by lines that tell how many of the rows are shown
/// and which columns do not fit.
pub(crate) fn table(
    table: &Table,
    all: u64,
    chosen: &ChosenColumns,
    width: Option<u16>,
) -> Result<String> {
    let mut columns = ShownColumn::all_of(table);
    if let ChosenColumns::Named(names) = chosen {
        let shape = table.shape();
        let chosen = names.iter().map(|name| Ok(columns[shape.place(name)?].clone()));
        columns = chosen.collect::<Result<_>>()?;
    }
    let (mut text, left_out) = match chosen {
        ChosenColumns::Fitting => layout::fitting(&columns, width),
        _ => (layout::in_blocks(&columns, width), Vec::new()),
    };
    if !left_out.is_empty() {
        let columns = if left_out.len() == 1 { "column" } else { "columns" };
        let line = format!(
            "{} {columns} not shown: {} (--columns all)",
            left_out.len(),
            left_out.join(", ")
        );
        let _ = writeln!(text, "{}", wrapped(&line, width));
    }
    if all > table.rows() as u64 {
        let [some, all] = [table.rows() as u64, all].map(grouped);
        let _ = writeln!(text, "{some} of {all} rows shown (--rows all)");
    }
    Ok(text)
}

/// A name or value of a file that is looked at, shortened also where lines may have any length.
fn short(text: &str) -> String {
    layout::shortened(text, 60)
}

/// The tables of a database with their rows, and a command to try next.
pub(crate) fn tables(database: &str, tables: &[DatabaseTable]) -> String {
    let database = shown_name(database);
    let views = tables.iter().filter(|table| table.is_view).count() as u64;
    let mut count = many(tables.len() as u64 - views, "table");
    if views > 0 {
        count += &format!(", {}", many(views, "view"));
    }
    let mut text = format!("{BOLD}{}{BOLD:#}: {count}\n", printable(&database));
    let Some(first) = tables.first() else { return text };
    let cells = |text: fn(&DatabaseTable) -> String| tables.iter().map(text);
    let columns = [
        ShownColumn::of_texts("table", cells(|table| short(&table.name))),
        ShownColumn::of_words(
            "kind",
            cells(|table| if table.is_view { "view" } else { "table" }.to_owned()),
        ),
        ShownColumn::of_numbers(
            "rows",
            cells(|table| table.rows.map_or("not readable".to_owned(), grouped)),
        ),
    ];
    text += "\n";
    text += &layout::in_blocks(&columns, None);
    let name = format!("{database}:{}", first.name);
    let name = shlex::try_quote(&name).map_or_else(|_| name.clone(), Into::into);
    let _ = writeln!(text, "\n{BOLD}Next{BOLD:#}\n  jembric look {}", printable(&name));
    text
}

/// What a file holds, what looks wrong, and the commands to try next.
pub(crate) fn look(file: &str, look: &Look, width: Option<u16>) -> String {
    let mut text = format!(
        "{BOLD}{}{BOLD:#}: {}, {}\n\n",
        printable(file),
        many(look.rows, "row"),
        many(look.columns.len() as u64, "column")
    );
    let cells = |text: fn(&ColumnLook) -> String| look.columns.iter().map(text);
    let columns = [
        ShownColumn::of_texts("column", cells(|column| short(&column.name))),
        ShownColumn::of_words("type", cells(|column| column.kind.to_string())),
        ShownColumn::of_numbers("missing", cells(|column| grouped(column.missing))),
        ShownColumn::of_numbers("distinct", cells(|column| grouped(column.distinct))),
        ShownColumn::of_texts("least", cells(|column| short(&column.least))),
        ShownColumn::of_texts("greatest", cells(|column| short(&column.greatest))),
    ];
    text += &layout::in_blocks(&columns, width);
    let dated: Vec<_> =
        look.columns.iter().filter_map(|column| Some((column, column.dates?))).collect();
    if !dated.is_empty() {
        let _ = writeln!(text, "\n{BOLD}Dates{BOLD:#}");
    }
    for (column, dates) in dated {
        let periods = many(dates.periods.into(), dates.first.periods().grain().word());
        let without = match dates.without {
            0 => "each with a record".to_owned(),
            periods => format!("{} without a record", grouped(periods)),
        };
        let written = column
            .notation
            .as_ref()
            .map(|notation| format!("; written like {notation}"))
            .unwrap_or_default();
        let name = short(&column.name);
        let (name, first, last) = (printable(&name), dates.first, dates.last);
        let line = format!("  {name}: {first}..{last}, {periods}, {without}{written}");
        let _ = writeln!(text, "{}", wrapped(&line, width));
    }
    let _ = writeln!(text, "\n{BOLD}What looks wrong{BOLD:#}");
    for finding in &look.findings {
        let _ = writeln!(
            text,
            "{}",
            wrapped(&format!("  - {}", printable(&finding.rendered(&command_words))), width)
        );
    }
    if look.findings.is_empty() {
        let _ = writeln!(text, "  nothing");
    }
    let next = next(file, look);
    if !next.is_empty() {
        let _ = writeln!(text, "\n{BOLD}Next{BOLD:#}");
    }
    for command in next {
        let _ = writeln!(text, "  {}", printable(&command));
    }
    text
}

/// Quotes a word for a shell, if necessary.
fn quoted(word: &str) -> String {
    shlex::try_quote(word).map_or_else(|_| word.to_owned(), Into::into)
}

/// The commands to try next.
fn next(file: &str, look: &Look) -> Vec<String> {
    let file = quoted(file);
    let missing = look.findings.iter().find_map(|finding| match finding {
        Finding::NotQuiteNumbers { suggested: Some(suggested), .. } => Some(&suggested.missing),
        Finding::NotQuiteDates { why, .. } => match &**why {
            NotQuite::Dates(about) => about.suggested.as_ref().map(|reading| &reading.missing),
            _ => None,
        },
        _ => None,
    });
    if let Some(marks) = missing.filter(|marks| !marks.is_empty()) {
        return vec![format!("jembric look {file} --missing {}", quoted(&marks.join(",")))];
    }
    let is_open = |finding: &Finding| {
        matches!(finding, Finding::NotQuiteDates { why,
        .. } if matches!(**why, NotQuite::Order(_)))
    };
    if look.findings.iter().any(is_open) {
        return vec![format!("jembric look {file} --date-order dmy")];
    }
    let Some(go_on) = &look.go_on else { return Vec::new() };
    let mut commands = Vec::new();
    if let Some((start, end)) = &go_on.interval {
        let [start, end] = [start, end].map(|name| quoted(name));
        commands.push(format!(
            "jembric active {file} --start {start} --end {end} --grain month --count"
        ));
    }
    let per = go_on.per.as_ref().map(|per| format!(" --per {}", quoted(per))).unwrap_or_default();
    commands.push(format!("jembric latest {file}{per} --date {}", quoted(&go_on.date)));
    commands
}

/// The command that joins the events of one file with the windows of another, for the first two
/// files that share a key.
pub(crate) fn next_of_several(looks: &[(String, Look)]) -> Option<String> {
    let is_key = |column: &&ColumnLook| matches!(column.kind, Type::Text | Type::Integer);
    let pairs = looks.iter().flat_map(|events| looks.iter().map(move |windows| (events, windows)));
    for ((events_file, events), (windows_file, windows)) in pairs {
        let Some((from, of_windows)) = events.go_on.as_ref().zip(windows.go_on.as_ref()) else {
            continue;
        };
        let (Some((start, end)), None) = (&of_windows.interval, &from.interval) else { continue };
        let shared = events.columns.iter().filter(is_key).find(|column| {
            let same = |other: &&ColumnLook| {
                other.name == column.name
                    && other.kind == column.kind
                    && other.least <= column.greatest
                    && column.least <= other.greatest
            };
            column.distinct > 1 && windows.columns.iter().any(|other| same(&other))
        });
        if let Some(key) = shared {
            return Some(format!(
                "jembric within {} {} --match {} --date {} --window {}",
                quoted(events_file),
                quoted(windows_file),
                quoted(&key.name),
                quoted(&from.date),
                quoted(&format!("{start}..{end}"))
            ));
        }
    }
    None
}

fn many(n: u64, thing: &str) -> String {
    format!("{} {thing}{}", grouped(n), if n == 1 { "" } else { "s" })
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

    fn shown(table: &Table, all: u64, chosen: &ChosenColumns, width: Option<u16>) -> String {
        super::table(table, all, chosen, width).unwrap()
    }

    #[test]
    fn a_row_is_a_line_and_nothing_in_it_disturbs_the_terminal() {
        insta::assert_snapshot!(shown(&notes(), 3, &ChosenColumns::Fitting, None), @r"
         note            tons
        ──────────────────────
         two\nlines         7
         \u{1b}[31mred  12345
                            3
        ");
    }

    #[test]
    fn rows_that_are_not_shown_are_counted() {
        let few = shown(&notes().head(2), 12_345, &ChosenColumns::Fitting, None);
        assert!(few.ends_with("\n2 of 12,345 rows shown (--rows all)\n"), "{few}");
        let all = shown(&notes(), 3, &ChosenColumns::Fitting, None);
        assert!(!all.contains("shown"), "{all}");
    }

    #[test]
    fn columns_that_do_not_fit_are_named() {
        let text = shown(&notes(), 3, &ChosenColumns::Fitting, Some(18));
        assert!(text.contains("1 column not\n    shown: tons\n"), "{text}");
        let text = shown(&notes(), 3, &ChosenColumns::All, Some(18));
        assert!(text.contains("12345") && !text.contains("not shown"), "{text}");
    }

    #[test]
    fn chosen_columns_come_in_the_order_of_their_names() {
        let chosen = ChosenColumns::parse(&["tons".to_owned(), "note".to_owned()]);
        let text = shown(&notes(), 3, &chosen, None);
        assert_eq!(
            text.lines().next().unwrap().split_whitespace().collect::<Vec<_>>(),
            ["tons", "note"]
        );
        let wrong = ChosenColumns::parse(&["tonns".to_owned()]);
        let error = super::table(&notes(), 3, &wrong, None).unwrap_err().to_string();
        assert_eq!(error, "there is no column `tonns`. Did you mean `tons`?");
        assert_eq!(wrong.check(&notes().shape()).unwrap_err().to_string(), error);
    }

    #[test]
    fn names_that_a_shell_would_split_are_quoted_in_what_to_type_next() {
        let look = Look::at(&notes()).unwrap();
        assert_eq!(next("my file.csv", &look), [""; 0]);
        let days: ArrayRef = Arc::new(jembric::arrow::Date32Array::from(vec![0, 1, 1]));
        let look = Look::at(&Table::from_columns([("it's day", days)]).unwrap()).unwrap();
        let command = r#"jembric latest 'my file.csv' --date "it's day""#;
        assert_eq!(next("my file.csv", &look), [command]);
    }

    #[test]
    fn long_messages_break_between_words_and_are_indented() {
        let text = wrapped("short\n  warning: one two three four", Some(20));
        assert_eq!(text, "short\n  warning: one two\n      three four");
        assert_eq!(wrapped("one two", None), "one two");
    }
}
