//! What can be typed. The options of an operation are made from its settings in the library; those
//! of reading, of the answer and of the account are the same for every command and are declared
//! here.

use clap::{Arg, ArgAction, Args, Command, ValueEnum, value_parser};
use jembric::{
    Advised, Expression, Setting, Takes,
    settings::{Given, GivenSettings},
    steps::{Described, OPERATIONS, Reads},
};
use std::path::PathBuf;

/// An example of an operation on the demo's tables.
fn example_of(operation: &str) -> &'static str {
    match operation {
        "latest" => "jembric latest inspections.csv --per vessel --date inspected_on",
        "earliest" => "jembric earliest inspections.csv --per vessel --date inspected_on",
        "active" => "jembric active stays.csv --start arrived --end left --grain month --count",
        "spells" => "jembric spells stays.csv --per berth --start arrived --end left --idle",
        "within" => {
            "jembric within lifts.csv stays.csv --match vessel --date lifted_on --window \
                arrived..left"
        }
        "elapsed" => "jembric elapsed dues.csv --from due --to paid --bands 0,1,15,30",
        "running" => {
            "jembric running gauge.csv --per gauge --date day --max level_m --mark-highs is_high \
                --missing -"
        }
        "filled" => {
            "jembric filled gauge.csv --per gauge --date day --carry level_m --mark was_added \
                --missing -"
        }
        "totals" => {
            "jembric totals dues.csv --date issued --each weekday --sum amount --side-by-side \
                class --margins"
        }
        "recent" => "jembric recent lifts.csv --date lifted_on --last '7 days'",
        "almanac" => {
            "jembric almanac --covering stays.csv:arrived,left --whole-years --year-start April \
                --out calendar.csv"
        }
        "filter" => {
            "jembric filter gauge.csv 'level_m > 3.2 and weekday(day) in (tue, thu)' --missing -"
        }
        "add" => "jembric add dues.csv 'days_late = paid - due' 'fee = amount * 0.075'",
        "sort" => "jembric sort lifts.csv tons:down,lifted_on",
        "columns" => "jembric columns stays.csv 'vessel, arrived as came, left as went'",
        _ => "jembric stack fuel_in.csv fuel_out.csv --source book",
    }
}

/// How the file is read.
#[derive(Args, Clone, Debug)]
#[command(next_help_heading = "Reading FILE")]
pub(crate) struct ReadArguments {
    /// Read a column in a format of strptime directives (`day=%d.%m.%y`), or as one of: month,
    /// quarter, week, year, serial (days since 1899-12-30), rfc2822, number, text
    #[arg(long, value_name = "COL=FORMAT")]
    pub(crate) read: Vec<String>,
    /// The first of the hundred years that two-digit years stand for
    #[arg(long, value_name = "YEAR", value_parser = value_parser!(i16).range(1..=9900))]
    pub(crate) century: Option<i16>,
    /// Which comes first in dates with slashes; `ymd`: only dates that begin with the year are
    /// dates
    #[arg(long, value_name = "ORDER")]
    pub(crate) date_order: Option<DateOrder>,
    /// Texts that mean "no value", separated by commas
    #[arg(long, value_name = "TEXT,…", value_delimiter = ',', allow_hyphen_values = true)]
    pub(crate) missing: Vec<String>,
    /// The character between cells (`tab` for the tabulator); found from the first lines if not
    /// given
    #[arg(long, value_name = "CHAR")]
    pub(crate) separator: Option<String>,
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
    /// Bytes that a packed file may unpack to, or the cells of any file may take [default: 200
    /// times its size, or 512 MiB]
    #[arg(long, value_name = "BYTES")]
    pub(crate) most_unpacked: Option<u64>,
    /// Columns that a file may have [default: 20000]
    #[arg(long, value_name = "N")]
    pub(crate) most_columns: Option<u64>,
}

/// Where the answer goes.
#[derive(Args, Clone, Debug)]
#[command(next_help_heading = "The answer")]
pub(crate) struct AnswerArguments {
    /// Write the answer to a file; its ending tells the format (.csv, .jsonl, .md, .parquet,
    /// .arrow, .xlsx; the first three also with .gz or .zst)
    #[arg(long, value_name = "FILE")]
    pub(crate) out: Option<PathBuf>,
    /// The format [default: a table on a terminal, CSV in a pipe]
    #[arg(long, value_name = "FORMAT")]
    pub(crate) format: Option<AnswerFormat>,
    /// Show at most this many rows in a table, or `all`
    #[arg(long, value_name = "N", default_value = "20", value_parser = number_of_rows)]
    pub(crate) rows: usize,
    /// Show these columns in a table, or `all`, in blocks below each other where they do not fit
    /// [default: as many as fit]
    #[arg(id = "shown columns", long = "columns", value_name = "COL,…", value_delimiter = ',')]
    pub(crate) columns: Vec<String>,
    /// The date that the answer speaks of: a date, `today`, or `newest:COL`, with a span added or
    /// taken (`today - 9 months`)
    #[arg(long, value_name = "DATE")]
    pub(crate) as_of: Option<String>,
    /// The time zone in which moments with an offset are cut into days, by area and city [default:
    /// UTC]
    #[arg(long, value_name = "ZONE")]
    pub(crate) zone: Option<String>,
    /// Write the steps as a routine, which `jembric run` runs again
    #[arg(long, value_name = "FILE")]
    pub(crate) save_routine: Option<PathBuf>,
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
    Parquet,
    Arrow,
    Xlsx,
}

#[derive(ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LedgerForm {
    Text,
    Json,
}

/// How many rows are shown, of which there may be `all`.
fn number_of_rows(typed: &str) -> Result<usize, String> {
    match typed {
        "all" => Ok(usize::MAX),
        number => number.parse().map_err(|_| "expected a number, or `all`".to_owned()),
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
            "Example:\n  jembric completions bash > \
                ~/.local/share/bash-completion/completions/jembric",
        )
        .arg(Arg::new("SHELL").required(true).value_parser(value_parser!(clap_complete::Shell)));
    let manual = Command::new("manual")
        .about("Write the manual pages of all commands into a directory")
        .after_help("Example:\n  jembric manual --into ~/.local/share/man/man1")
        .arg(
            Arg::new("into")
                .long("into")
                .value_name("DIR")
                .required(true)
                .value_parser(value_parser!(PathBuf))
                .help("The directory, which is created if it does not exist"),
        );
    let run = Command::new("run")
        .about("What does a saved routine say now?")
        .help_template(help_with("jembric run harbour.toml"))
        .next_help_heading("What is asked")
        .args([
            file().help("A routine, which is a TOML file").help_heading("Arguments"),
            Arg::new("check").long("check").action(ArgAction::SetTrue).help(
                "Read headers and first rows alone, and prove every step by the names and types \
                    in them",
            ),
            Arg::new("upto")
                .long("upto")
                .value_name("NAME")
                .help("Stop after the step of this name or number, and show its answer"),
            Arg::new("follow").long("follow").value_name("EXPR").help(
                "Tell at every step what became of the rows of which this is true, and why one \
                    was dropped",
            ),
        ]);
    let run = AccountArguments::augment_args(AnswerArguments::augment_args(run))
        .mut_arg("save_routine", |argument| argument.hide(true))
        .about("What does a saved routine say now?");
    Command::new("jembric")
        .version(clap::crate_version!())
        .about("Reports from tables of dated records, with an account of every row")
        .subcommand_required(true)
        .arg_required_else_help(true)
        .subcommand(look)
        .subcommands(OPERATIONS.iter().map(|operation| command_of(operation, true)))
        .subcommand(run)
        .subcommand(demo)
        .subcommand(completions)
        .subcommand(manual)
        .after_help(
            "Start with `jembric demo`. Each command has its own help: `jembric latest --help`.",
        )
}

/// The command of an operation: the first of a chain reads files and says where the answer goes;
/// each further one works on the answer of the one before.
pub(crate) fn command_of(operation: &Described, first: bool) -> Command {
    let command = Command::new(operation.name);
    let further =
        |name: &'static str, help: &'static str| file().id(name).value_name(name).help(help);
    let command = match (operation.reads, first) {
        (Reads::OneTable, true) => command.arg(file()),
        (Reads::SeveralTables, true) => {
            command.arg(file().num_args(1..).help("The files, or - for standard input"))
        }
        (Reads::SeveralTables, false) => {
            command.arg(file().num_args(1..).help("The files to stack below"))
        }
        (Reads::EventsAndWindows, true) => command.args([
            further("EVENTS", "The events: a file, or - for standard input"),
            further("WINDOWS", "The windows, likewise"),
        ]),
        (Reads::EventsAndWindows, false) => command.arg(further("WINDOWS", "The windows: a file")),
        (Reads::Covering, true) => command.arg(
            Arg::new("covering")
                .long("covering")
                .value_name("FILE:COL,…")
                .action(ArgAction::Append)
                .help_heading("What is asked")
                .help("Cover the dates of these columns of a file; may be given several times"),
        ),
        _ => command,
    };
    let command = command
        .help_template(help_with(example_of(operation.name)))
        .next_help_heading("What is asked")
        .args(operation.settings.iter().map(|setting| argument(setting, operation)));
    // Commands that take an expression list the functions below their arguments.
    let takes_expression =
        |setting: &Setting| matches!(setting.takes, Takes::Expression | Takes::Several(_));
    let functions = operation.settings.iter().any(takes_expression).then(functions_help);
    if !first {
        return command.about(operation.answers).after_help(functions.unwrap_or_default());
    }
    let command = AnswerArguments::augment_args(ReadArguments::augment_args(command));
    // The groups of arguments have descriptions of their own, which are not the command's.
    const FURTHER: &str = "Further steps follow after a lone +, each working on the answer \
        before: … + filter 'elapsed_days > 180'";
    let after = functions
        .map_or_else(|| FURTHER.to_owned(), |functions| format!("{functions}\n\n{FURTHER}"));
    AccountArguments::augment_args(command).about(operation.answers).after_help(after)
}

/// The functions of the language of expressions, for the help.
fn functions_help() -> String {
    let widest = Expression::functions().map(|(form, _)| form.chars().count()).max().unwrap_or(0);
    let line = |(form, gives): (&str, &str)| format!("\n  {form:<widest$}  {gives}");
    format!("Functions:{}", Expression::functions().map(line).collect::<String>())
}

/// The options that say of a whole chain how its files are read and where its answer goes, with
/// whether each takes a value.
pub(crate) fn options_of_the_chain() -> Vec<(String, Option<char>, bool)> {
    let all = AccountArguments::augment_args(AnswerArguments::augment_args(
        ReadArguments::augment_args(Command::new("all")),
    ));
    let option = |argument: &Arg| {
        let takes = argument.get_action().takes_values();
        Some((argument.get_long()?.to_owned(), argument.get_short(), takes))
    };
    all.get_arguments().filter_map(option).collect()
}

/// What was typed, as the settings that the operation is read from. Files of holidays and entities
/// are named in them.
pub(crate) fn settings_of(operation: &Described, typed: &clap::ArgMatches) -> GivenSettings {
    let mut settings = GivenSettings::default();
    for setting in operation.settings {
        let name = setting.name;
        let value: Option<Given> = match setting.takes {
            Takes::Yes => typed.get_flag(name).then_some(true.into()),
            Takes::Several(_) => typed.get_many::<String>(name).map(|all| all.cloned().collect()),
            Takes::Columns | Takes::Texts(_) | Takes::List(_) => {
                typed.get_many::<String>(name).map(parts)
            }
            Takes::Numbers => typed.get_many::<String>(name).map(|all| match parts(all) {
                Given::List(texts) => texts.into_iter().map(number).collect(),
                other => other,
            }),
            Takes::Number => typed.get_one::<String>(name).map(|text| number(text.clone().into())),
            _ => typed.get_one::<String>(name).map(|text| text.clone().into()),
        };
        if let Some(value) = value {
            settings.insert(name, value);
        }
    }
    settings
}

/// The values of an option that takes several: each time it is typed, those between commas.
fn parts(typed: clap::parser::ValuesRef<'_, String>) -> Given {
    let parts = typed.flat_map(|list| list.split(',')).map(str::trim);
    parts.filter(|part| !part.is_empty()).collect()
}

/// A text that is a number as one; what is none is refused by the setting.
fn number(text: Given) -> Given {
    match &text {
        Given::Text(digits) => digits.parse().map_or(text, Given::Number),
        _ => text,
    }
}

/// The words of the command line for what an error advises to set.
pub(crate) fn command_words(advised: &Advised<'_>) -> String {
    let quoted =
        |value: &str| shlex::try_quote(value).map_or_else(|_| value.to_owned(), Into::into);
    match advised {
        Advised::Setting(name, value) => format!("`--{name} {}`", quoted(value)),
        Advised::Reading(name, Some(value)) => format!("`--{name} {}`", quoted(value)),
        Advised::Reading(name, None) => format!("`--{name}`"),
        Advised::Column(column, format) => format!("`--read '{column}={format}'`"),
        Advised::AsOf(date) => format!("`--as-of {date}`"),
        other => other.in_rust(),
    }
}

/// A command's help: what it answers, an example, and then the rest.
fn help_with(example: &str) -> String {
    let example =
        format!("Example, on the demo's tables (jembric demo --into harbour):\n  {example}");
    format!("{{about}}\n\n{example}\n\n{{usage-heading}} {{usage}}\n\n{{all-args}}{{after-help}}")
}

fn file() -> Arg {
    Arg::new("FILE").required(true).value_name("FILE").help(
        "A file: CSV, JSON Lines, Parquet, Arrow, or a sheet of a workbook \
            (book.xlsx:Sheet), packed with gzip or zstd or not; or - for standard input",
    )
}

fn argument(setting: &Setting, operation: &Described) -> Arg {
    let help = option_help(setting, operation);
    let argument = Arg::new(setting.name).help(help).required(setting.required);
    match setting.takes {
        Takes::Expression => argument.value_name("EXPR").allow_hyphen_values(true),
        Takes::Several(word) | Takes::List(word) => argument.value_name(word).num_args(1..),
        _ => option(setting, argument.long(setting.name)),
    }
}

/// A setting's help, in which other settings are called as they are typed.
fn option_help(setting: &Setting, operation: &Described) -> String {
    let mut help = setting.help.to_owned();
    for other in operation.settings {
        let is_option =
            !matches!(other.takes, Takes::Expression | Takes::Several(_) | Takes::List(_));
        if is_option {
            help = help.replace(&format!("`{}`", other.name), &format!("--{}", other.name));
        }
    }
    match setting.default {
        Some(default) => format!("{help} [default: {default}]"),
        None => help,
    }
}

fn option(setting: &Setting, argument: Arg) -> Arg {
    match setting.takes {
        Takes::Column => argument.value_name("COL"),
        Takes::Columns => argument.value_name("COL,…").action(ArgAction::Append),
        Takes::OneOf(words) => argument.value_name("WORD").value_parser(words.to_vec()),
        Takes::Number => argument.value_name("N").allow_negative_numbers(true),
        Takes::Texts(word) => argument.value_name(word).action(ArgAction::Append),
        Takes::Yes => argument.action(ArgAction::SetTrue),
        Takes::Text(word) => argument.value_name(word),
        Takes::Numbers => argument.value_name("N,…").allow_hyphen_values(true),
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
