//! What can be typed. The options of an operation are made from its settings in the library; those of reading, of the
//! answer and of the account are the same for every command and are declared here.

use crate::demo::Files;
use clap::{Arg, ArgAction, Args, Command, ValueEnum, value_parser};
use jembric::{
    Active, Add, Almanac, Columns, Earliest, Elapsed, Error, Filled, Filter, Latest, Recent, Running,
    Setting, Sort, Spells, Stack, Takes, Totals, Within,
};
use serde_json::Value;
use std::path::PathBuf;

/// An operation as the command line knows it.
pub(crate) struct Described {
    pub(crate) name: &'static str,
    answers: &'static str,
    settings: &'static [Setting],
    pub(crate) reads: Reads,
    example: &'static str,
}

/// What a command reads.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Reads {
    OneFile,
    SeveralFiles,
    /// A file of events and one of windows.
    EventsAndWindows,
    /// Columns of files that are named with them.
    Covering,
}

/// Describes an operation by its own words, and an example of it.
macro_rules! described {
    ($operation:ty, $reads:ident, $example:literal) => {
        Described {
            name: <$operation>::NAME,
            answers: <$operation>::ANSWERS,
            settings: <$operation>::SETTINGS,
            reads: Reads::$reads,
            example: $example,
        }
    };
}

/// The operations, in the order of the help.
pub(crate) const OPERATIONS: [Described; 16] = [
    described!(Latest, OneFile, "jembric latest inspections.csv --per vessel --date inspected_on"),
    described!(Earliest, OneFile, "jembric earliest inspections.csv --per vessel --date inspected_on"),
    described!(Active, OneFile, "jembric active stays.csv --start arrived --end left --grain month --count"),
    described!(Spells, OneFile, "jembric spells stays.csv --per berth --start arrived --end left --idle"),
    described!(
        Within,
        EventsAndWindows,
        "jembric within lifts.csv stays.csv --match vessel --date lifted_on --window arrived..left"
    ),
    described!(Elapsed, OneFile, "jembric elapsed dues.csv --from due --to paid --bands 0,1,15,30"),
    described!(
        Running,
        OneFile,
        "jembric running gauge.csv --per gauge --date day --max level_m --mark-highs is_high --missing -"
    ),
    described!(
        Filled,
        OneFile,
        "jembric filled gauge.csv --per gauge --date day --carry level_m --mark was_added --missing -"
    ),
    described!(
        Totals,
        OneFile,
        "jembric totals dues.csv --date issued --each weekday --sum amount --side-by-side class --margins"
    ),
    described!(Recent, OneFile, "jembric recent lifts.csv --date lifted_on --last '7 days'"),
    described!(
        Almanac,
        Covering,
        "jembric almanac --covering stays.csv:arrived,left --whole-years --year-start April --out calendar.csv"
    ),
    described!(
        Filter,
        OneFile,
        "jembric filter gauge.csv 'level_m > 3.2 and weekday(day) in (tue, thu)' --missing -"
    ),
    described!(Add, OneFile, "jembric add dues.csv 'days_late = paid - due' 'fee = amount * 0.075'"),
    described!(Sort, OneFile, "jembric sort lifts.csv tons:down,lifted_on"),
    described!(Columns, OneFile, "jembric columns stays.csv 'vessel, arrived as came, left as went'"),
    described!(Stack, SeveralFiles, "jembric stack fuel_in.csv fuel_out.csv --source book"),
];

/// How the file is read.
#[derive(Args, Clone, Debug)]
#[command(next_help_heading = "Reading FILE")]
pub(crate) struct ReadArguments {
    /// Read a column in a format of strptime directives (`day=%d.%m.%y`), or as one of: month, quarter, week, year, serial
    /// (days since 1899-12-30), rfc2822, text
    #[arg(long, value_name = "COL=FORMAT")]
    pub(crate) read: Vec<String>,
    /// The first of the hundred years that two-digit years stand for
    #[arg(long, value_name = "YEAR", value_parser = value_parser!(i16).range(1..=9900))]
    pub(crate) century: Option<i16>,
    /// Which comes first in dates with slashes; `ymd`: only dates that begin with the year are dates
    #[arg(long, value_name = "ORDER")]
    pub(crate) date_order: Option<DateOrder>,
    /// Texts that mean "no value", separated by commas
    #[arg(long, value_name = "TEXT,…", value_delimiter = ',', allow_hyphen_values = true)]
    pub(crate) missing: Vec<String>,
    /// The character between cells (`tab` for the tabulator); found from the first lines if not given
    #[arg(long, value_name = "CHAR", value_parser = separator)]
    pub(crate) separator: Option<u8>,
    /// The file's encoding, such as windows-1252 or utf-16le
    #[arg(long, value_name = "NAME")]
    pub(crate) encoding: Option<String>,
    /// Numbers are written 3,5
    #[arg(long)]
    pub(crate) decimal_comma: bool,
    /// The first line is a row: columns are called c1, c2 …
    #[arg(long)]
    pub(crate) no_header: bool,
    /// Quotes are ordinary characters
    #[arg(long)]
    pub(crate) no_quotes: bool,
}

/// Where the answer goes.
#[derive(Args, Clone, Debug)]
#[command(next_help_heading = "The answer")]
pub(crate) struct AnswerArguments {
    /// Write the answer to a file; its ending tells the format (.csv, .jsonl, .md)
    #[arg(long, value_name = "FILE")]
    pub(crate) out: Option<PathBuf>,
    /// The format [default: a table on a terminal, CSV in a pipe]
    #[arg(long, value_name = "FORMAT")]
    pub(crate) format: Option<AnswerFormat>,
    /// How many rows a table shows
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub(crate) rows: usize,
    /// The date that the answer speaks of: a date, `today`, or `newest:COL`, with a span added or taken (`today - 9 months`)
    #[arg(long, value_name = "DATE")]
    pub(crate) as_of: Option<String>,
    /// The time zone in which moments with an offset are cut into days, by area and city [default: UTC]
    #[arg(long, value_name = "ZONE")]
    pub(crate) zone: Option<String>,
}

/// Where the account of the rows goes.
#[derive(Args, Clone, Debug)]
#[command(next_help_heading = "The account")]
pub(crate) struct AccountArguments {
    /// Write the rows that were set aside to a file, each with its reason
    #[arg(long, value_name = "FILE")]
    pub(crate) aside: Option<PathBuf>,
    /// Have the ledger carry the sums of these columns: in, kept, dropped, set aside
    #[arg(long, value_name = "COL,…", value_delimiter = ',')]
    pub(crate) reconcile: Vec<String>,
    /// How the ledger is written
    #[arg(long, value_name = "FORM", default_value = "text")]
    pub(crate) ledger: LedgerForm,
    /// Say nothing but errors
    #[arg(long, short)]
    pub(crate) quiet: bool,
}

#[derive(ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum DateOrder {
    Dmy,
    Mdy,
    Ymd,
}

#[derive(ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum AnswerFormat {
    Table,
    Csv,
    Jsonl,
    Markdown,
}

#[derive(ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LedgerForm {
    Text,
    Json,
}

fn separator(text: &str) -> Result<u8, String> {
    match text {
        "tab" | "\\t" => Ok(b'\t'),
        _ => match text.as_bytes() {
            [byte] if byte.is_ascii() && !matches!(byte, b'"' | b'\n' | b'\r') => Ok(*byte),
            _ => Err("expected one character such as ; or |, or the word tab".to_owned()),
        },
    }
}

/// The whole command line.
pub(crate) fn command() -> Command {
    let demo = Command::new("demo")
        .about("The harbour's tables and what Jembric answers about them")
        .after_help("Example:\n  jembric demo --into harbour")
        .arg(
            Arg::new("into")
                .long("into")
                .value_name("DIR")
                .value_parser(value_parser!(PathBuf))
                .help("Write the tables to a directory to play with, instead"),
        );
    let look = Command::new("look")
        .help_template(help_with("jembric look inspections.csv"))
        .arg(file().num_args(1..));
    let look = ReadArguments::augment_args(look)
        .about("What is in this file, are its dates really dates, what looks wrong?");
    let completions = Command::new("completions")
        .about("Write the completions of a shell to standard output")
        .after_help(
            "Example:\n  jembric completions bash > ~/.local/share/bash-completion/completions/jembric",
        )
        .arg(Arg::new("SHELL").required(true).value_parser(value_parser!(clap_complete::Shell)));
    Command::new("jembric")
        .version(clap::crate_version!())
        .about("Reports from tables of dated records, with an account of every row")
        .subcommand_required(true)
        .arg_required_else_help(true)
        .subcommand(look)
        .subcommands(OPERATIONS.iter().map(Described::command))
        .subcommand(demo)
        .subcommand(completions)
        .after_help("Start with `jembric demo`. Each command has its own help: `jembric latest --help`.")
}

impl Described {
    fn command(&self) -> Command {
        let command = Command::new(self.name);
        let command = match self.reads {
            Reads::OneFile => command.arg(file()),
            Reads::SeveralFiles => {
                command.arg(file().num_args(1..).help("CSV files, or - for standard input"))
            }
            Reads::EventsAndWindows => command.args([
                file()
                    .id("EVENTS")
                    .value_name("EVENTS")
                    .help("The events: a CSV file, or - for standard input"),
                file().id("WINDOWS").value_name("WINDOWS").help("The windows, likewise"),
            ]),
            Reads::Covering => command.arg(
                Arg::new("covering")
                    .long("covering")
                    .value_name("FILE:COL,…")
                    .action(ArgAction::Append)
                    .help_heading("What is asked")
                    .help("Cover the dates of these columns of a CSV file; may be given several times"),
            ),
        };
        let command = command
            .help_template(help_with(self.example))
            .next_help_heading("What is asked")
            .args(self.settings.iter().map(argument));
        let command = AnswerArguments::augment_args(ReadArguments::augment_args(command));
        // The groups of arguments have descriptions of their own, which are not the command's.
        AccountArguments::augment_args(command).about(self.answers)
    }

    /// What was typed, as the settings that the operation is read from. Files of holidays and entities are read here.
    pub(crate) fn settings(
        &self,
        typed: &clap::ArgMatches,
        files: Files<'_>,
    ) -> jembric::Result<serde_json::Map<String, Value>> {
        let mut settings = serde_json::Map::new();
        for setting in self.settings {
            let name = setting.name;
            let value: Option<Value> = match setting.takes {
                Takes::Columns | Takes::Several(_) | Takes::Texts(_) => {
                    typed.get_many::<String>(name).map(|all| all.cloned().collect())
                }
                Takes::List(_) => typed.get_many::<String>(name).map(|all| {
                    all.flat_map(|list| list.split(','))
                        .map(str::trim)
                        .filter(|one| !one.is_empty())
                        .collect()
                }),
                Takes::Numbers => typed.get_many::<i64>(name).map(|all| all.copied().collect()),
                Takes::Count => typed.get_one::<u32>(name).map(|&count| count.into()),
                Takes::Number => typed.get_one::<u64>(name).map(|&number| number.into()),
                Takes::Yes => typed.get_flag(name).then_some(true.into()),
                Takes::Days => {
                    let days = typed.get_one::<String>(name).map(|file| files.holidays(file)).transpose()?;
                    days.map(|days| days.iter().map(|day| Value::from(day.to_string())).collect())
                }
                Takes::Entities => {
                    let named = typed.get_one::<String>(name);
                    let list = named.map(|text| {
                        let (file, columns) = file_and_columns(name, text)?;
                        Ok::<_, Error>(serde_json::json!(files.entities(&file, &columns)?))
                    });
                    list.transpose()?
                }
                _ => typed.get_one::<String>(name).map(|text| text.clone().into()),
            };
            settings.extend(value.map(|value| (name.to_owned(), value)));
        }
        Ok(settings)
    }
}

/// A file and its columns, of `FILE:COL,…`.
pub(crate) fn file_and_columns(setting: &'static str, text: &str) -> jembric::Result<(String, Vec<String>)> {
    let parts = text.rsplit_once(':').filter(|(file, columns)| !file.is_empty() && !columns.is_empty());
    let (file, columns) = parts.ok_or_else(|| Error::Setting {
        setting,
        value: format!("`{text}`"),
        expected: "a file and its columns, such as `stays.csv:arrived,left`".to_owned(),
    })?;
    Ok((file.to_owned(), columns.split(',').map(|column| column.trim().to_owned()).collect()))
}

/// A command's help: what it answers, an example, and then the rest.
fn help_with(example: &str) -> String {
    let example = format!("Example, on the demo's tables (jembric demo --into harbour):\n  {example}");
    format!("{{about}}\n\n{example}\n\n{{usage-heading}} {{usage}}\n\n{{all-args}}")
}

fn file() -> Arg {
    Arg::new("FILE").required(true).value_name("FILE").help("A CSV file, or - for standard input")
}

fn argument(setting: &Setting) -> Arg {
    let argument = Arg::new(setting.name).help(setting.help).required(setting.required);
    match setting.takes {
        Takes::Expression => argument.value_name("EXPR").allow_hyphen_values(true),
        Takes::Several(word) | Takes::List(word) => argument.value_name(word).num_args(1..),
        _ => option(setting, argument.long(setting.name)),
    }
}

fn option(setting: &Setting, argument: Arg) -> Arg {
    match setting.takes {
        Takes::Column => argument.value_name("COL"),
        Takes::Columns => argument.value_name("COL,…").value_delimiter(',').action(ArgAction::Append),
        Takes::Count => argument.value_name("N").value_parser(value_parser!(u32).range(1..)),
        Takes::OneOf(words) => argument.value_name("WORD").value_parser(words.to_vec()),
        Takes::Number => argument.value_name("N").value_parser(value_parser!(u64)),
        Takes::Texts(word) => argument.value_name(word).value_delimiter(',').action(ArgAction::Append),
        Takes::Yes => argument.action(ArgAction::SetTrue),
        Takes::Text(word) => argument.value_name(word),
        Takes::Numbers => argument
            .value_name("N,…")
            .value_delimiter(',')
            .allow_hyphen_values(true)
            .value_parser(value_parser!(i64)),
        Takes::Days => argument.value_name("FILE"),
        Takes::Entities => argument.value_name("FILE:COL,…"),
        _ => argument.value_name("NAME"),
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn the_command_line_holds_together() {
        super::command().debug_assert();
    }
}
