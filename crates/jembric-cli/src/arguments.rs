//! Declares the command line. The options of an operation are made from its settings in the
//! library, and so are those for reading; those for the result and the ledger are the same for
//! every command and are declared here.

use clap::{Arg, ArgAction, Args, Command, ValueEnum, value_parser};
use jembric::{
    Advised, Error, Expression, Setting, Takes,
    io::{Existing, Memory, Reading, Size},
    settings::{Given, GivenSettings, Settings},
    steps::{Described, OPERATIONS, Reads},
};
use std::{ffi::OsString, path::PathBuf};

/// Where the result goes.
#[derive(Args, Clone, Debug)]
#[command(next_help_heading = "Result")]
pub(crate) struct AnswerArguments {
    /// Write the result to a file, in the format of its extension: .csv, .jsonl, .md (also with .gz
    /// or .zst), .parquet, .arrow, .xlsx; a picture as .svg or .png; or to a table of a database,
    /// as harbour.sqlite:overdue or postgresql://localhost/harbour:overdue
    #[arg(long, value_name = "FILE")]
    pub(crate) out: Option<PathBuf>,
    /// Replace a table of a database that exists already
    #[arg(long, conflicts_with = "append")]
    pub(crate) replace: bool,
    /// Add the rows to a table of a database that exists already and has the same columns
    #[arg(long)]
    pub(crate) append: bool,
    /// Write the result in this format; svg, png and text are for pictures [default: a table or a
    /// text picture on a terminal, CSV or SVG in a pipe]
    #[arg(long, value_name = "FORMAT")]
    pub(crate) format: Option<AnswerFormat>,
    /// Show at most this many rows of a table, or `all`
    #[arg(long, value_name = "N", default_value = "20", value_parser = number_of_rows)]
    pub(crate) rows: usize,
    /// Show these columns of a table, or `all`, in blocks below each other if they do not fit side
    /// by side [default: as many as fit]
    #[arg(id = "shown columns", long = "columns", value_name = "COL,…", value_delimiter = ',')]
    pub(crate) columns: Vec<String>,
    /// Set the as-of date: a date, `today`, or `newest:COL`, plus or minus a span
    /// (`today - 9 months`)
    #[arg(long, value_name = "DATE")]
    pub(crate) as_of: Option<String>,
    /// Convert moments with an offset to days in this time zone, such as Europe/Lisbon [default:
    /// UTC]
    #[arg(long, value_name = "ZONE")]
    pub(crate) zone: Option<String>,
    /// Save the steps as a routine for `jembric run`
    #[arg(long, value_name = "FILE")]
    pub(crate) save_routine: Option<PathBuf>,
}

/// Where the ledger goes.
#[derive(Args, Clone, Debug)]
#[command(next_help_heading = "Ledger")]
pub(crate) struct AccountArguments {
    /// Write the rows that were set aside to a file, with the reason of each
    #[arg(long, value_name = "FILE")]
    pub(crate) aside: Option<PathBuf>,
    /// Reconcile the sums of these columns in the ledger: in, kept, dropped, set aside
    #[arg(long, value_name = "COL,…", value_delimiter = ',')]
    pub(crate) reconcile: Vec<String>,
    /// Write the ledger as text or JSON
    #[arg(long, value_name = "FORM", default_value = "text")]
    pub(crate) ledger: LedgerForm,
    /// Print nothing but errors
    #[arg(long, short)]
    pub(crate) quiet: bool,
    /// Use at most this much memory for tables, such as 512MiB or 2GiB, and write what does not fit
    /// to temporary files [default: half of the machine's memory]
    #[arg(long, value_name = "SIZE", help_heading = "Memory")]
    pub(crate) memory: Option<String>,
    /// Write temporary files in this directory [default: that of the result's file, or else that
    /// of the system]
    #[arg(long, value_name = "DIR", help_heading = "Memory")]
    pub(crate) scratch: Option<PathBuf>,
}

impl AccountArguments {
    /// The memory that was typed.
    ///
    /// Errors: it is no size, or too little.
    pub(crate) fn memory(&self) -> jembric::Result<Option<u64>> {
        let Some(text) = &self.memory else { return Ok(None) };
        let size: Size = text.parse()?;
        Memory::expect_enough(size)?;
        Ok(Some(size.0))
    }
}

impl AnswerArguments {
    /// What to do with a table of a database that exists already.
    pub(crate) fn existing(&self) -> Existing {
        match (self.replace, self.append) {
            (true, _) => Existing::Replace,
            (_, true) => Existing::Append,
            _ => Existing::Refuse,
        }
    }
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
    Svg,
    Png,
    Text,
}

#[derive(ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LedgerForm {
    Text,
    Json,
}

/// Parses a number of rows, or `all`.
fn number_of_rows(typed: &str) -> Result<usize, String> {
    match typed {
        "all" => Ok(usize::MAX),
        number => number.parse().map_err(|_| "expected a number, or `all`".to_owned()),
    }
}

/// The whole command line.
pub(crate) fn command() -> Command {
    let demo = Command::new("demo")
        .about(
            "Run a tour on built-in tables, write these tables to a directory, or make their page",
        )
        .after_help("Examples:\n  jembric demo --into harbour\n  jembric demo --page harbour.html")
        .arg(page_argument().help("Write the harbour's report as one HTML page instead"))
        .arg(
            Arg::new("into")
                .long("into")
                .value_name("DIR")
                .value_parser(value_parser!(PathBuf))
                .conflicts_with("page")
                .help("Write the tables to this directory instead"),
        )
        .arg(
            Arg::new("sqlite")
                .long("sqlite")
                .requires("into")
                .action(ArgAction::SetTrue)
                .help("Write the tables as one SQLite file, harbour.sqlite"),
        );
    let look = Command::new("look")
        .help_template(help_with(
            "What does this file contain, and what looks wrong?",
            "look inspections.csv",
        ))
        .arg(file().num_args(1..));
    let look =
        reading_options(look).about("Describe the columns of files, and report what looks wrong");
    let completions = Command::new("completions")
        .about("Print the completion script of a shell")
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
    Command::new("jembric")
        .version(clap::crate_version!())
        .about("Make reports from tables of dated records, and account for every row")
        .subcommand_required(true)
        .arg_required_else_help(true)
        .subcommand(look)
        .subcommands(OPERATIONS.iter().map(|operation| command_of(operation, true)))
        .subcommand(run_command())
        .subcommand(demo)
        .subcommand(completions)
        .subcommand(manual)
        .after_help(
            "Start with `jembric demo`. Each command has its own help, such as `jembric latest \
                --help`.",
        )
}

/// The command that runs a routine.
pub(crate) fn run_command() -> Command {
    let run = Command::new("run")
        .help_template(help_with("What does the saved report say now?", "run harbour.toml"))
        .next_help_heading("Settings")
        .args([
            file().help("A routine (a TOML file)").help_heading("Arguments"),
            Arg::new("check")
                .long("check")
                .action(ArgAction::SetTrue)
                .help("Check every step by the headers and first rows of the files, and stop"),
            Arg::new("upto")
                .long("upto")
                .value_name("NAME")
                .help("Stop after the step with this name or number, and show its result"),
            page_argument().conflicts_with_all(["upto", "check"]).help(
                "Write the whole report as one HTML page to this file [default: that of the \
                    routine]",
            ),
            Arg::new("since").long("since").value_name("DATE").conflicts_with("check").help(
                "Run the routine for this earlier date as well, and show what changed in each \
                    named result",
            ),
            Arg::new("follow").long("follow").value_name("EXPR").help(
                "Report at every step what happened to the rows that satisfy this condition, and \
                    why",
            ),
        ]);
    AccountArguments::augment_args(AnswerArguments::augment_args(run))
        .mut_arg("save_routine", |argument| argument.hide(true))
        .about("Run a saved routine of steps")
}

/// The file for the report page.
fn page_argument() -> Arg {
    Arg::new("page").long("page").value_name("FILE").value_parser(value_parser!(PathBuf))
}

/// The command of an operation. The first command of a chain reads files and has the options for
/// the result; each further one works on the result before it.
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
            command.arg(file().num_args(1..).help("The files to append"))
        }
        (Reads::EventsAndWindows, true) => command.args([
            further("EVENTS", "The file of events, or - for standard input"),
            further("WINDOWS", "The file of windows, or - for standard input"),
        ]),
        (Reads::EventsAndWindows, false) => command.arg(further("WINDOWS", "The file of windows")),
        (Reads::NowAndBefore, true) => command.args([
            further("NOW", "The newer file, or the only one; or - for standard input"),
            further("BEFORE", "The older file; without it, `between` gives two dates")
                .required(false),
        ]),
        (Reads::NowAndBefore, false) => command.arg(
            further("BEFORE", "The older file; without it, `between` gives two dates")
                .required(false),
        ),
        (Reads::Covering, true) => command.arg(
            Arg::new("covering")
                .long("covering")
                .value_name("FILE:COL,…")
                .action(ArgAction::Append)
                .help_heading("Settings")
                .help("Cover the dates in these columns of a file; may be repeated"),
        ),
        _ => command,
    };
    let command = if operation.draws() {
        command.arg(
            Arg::new("write")
                .long("write")
                .value_name("FILE")
                .help_heading("Settings")
                .help("Write the picture to this file: .svg or .png [default: that of --out]"),
        )
    } else {
        command
    };
    let command = command
        .help_template(help_with(operation.answers, operation.example))
        .next_help_heading("Settings")
        .args(operation.settings.iter().map(|setting| argument(setting, operation.settings)));
    // Commands that take an expression list the functions below their arguments.
    let takes_expression =
        |setting: &Setting| matches!(setting.takes, Takes::Expression | Takes::Several(_));
    let functions = operation.settings.iter().any(takes_expression).then(functions_help);
    if !first {
        return command.about(operation.does).after_help(functions.unwrap_or_default());
    }
    let command = AnswerArguments::augment_args(reading_options(command));
    // Without this, clap would take the description of a group of arguments for that of the
    // command.
    const FURTHER: &str = "A lone + begins a further step, which works on the result of the step \
        before it: … + filter 'elapsed_days > 180'";
    let after = functions
        .map_or_else(|| FURTHER.to_owned(), |functions| format!("{functions}\n\n{FURTHER}"));
    AccountArguments::augment_args(command).about(operation.does).after_help(after)
}

/// The same commands with a help that fits a screen, for `-h`: what a command is for, its settings
/// in a sentence each, and where the rest is. `--help` has all.
pub(crate) fn brief(command: Command) -> Command {
    command.mut_subcommands(|command| {
        let whole = format!("All of it: jembric {} --help", command.get_name());
        brief_step(command).after_help(whole)
    })
}

/// The same for one step.
pub(crate) fn brief_step(command: Command) -> Command {
    // The first statement of a help; the rest are details.
    let first = |help: &str| {
        let end =
            [". ", ": ", "; ", " (", " [", ", and "].iter().filter_map(|end| help.find(end)).min();
        help[..end.unwrap_or(help.len())].trim_end_matches('.').to_owned()
    };
    let whole = format!("All of it: … + {} --help", command.get_name());
    let command = command.mut_args(|argument| {
        let help = argument.get_help().map(|help| first(&help.to_string())).unwrap_or_default();
        let is_own = argument.get_help_heading().is_none_or(|heading| heading == "Settings");
        // Of the options that all commands have, those that are needed most are shown.
        let help = match (argument.get_id().as_str(), is_own) {
            ("FILE", _) => "The file, a table of a database, or - for standard input".to_owned(),
            ("out", _) => "Write the result to this file or table of a database".to_owned(),
            ("as_of", _) | (_, true) => help,
            _ => return argument.hide(true),
        };
        let is_positional = argument.is_positional();
        let takes_value = argument.get_action().takes_values();
        let argument = argument.help(help).hide_default_value(takes_value);
        if is_positional { argument } else { argument.help_heading("Settings") }
    });
    let help = Arg::new("help").short('h').long("help").action(ArgAction::Help).hide(true);
    command.disable_help_flag(true).arg(help).after_help(whole)
}

/// Whether the brief help was typed.
pub(crate) fn asks_briefly<'a>(words: impl IntoIterator<Item = &'a OsString>) -> bool {
    words.into_iter().take_while(|word| *word != "--").any(|word| word == "-h")
}

/// The functions of expressions, for the help.
fn functions_help() -> String {
    let widest = Expression::functions().map(|(form, _)| form.chars().count()).max().unwrap_or(0);
    let line = |(form, gives): (&str, &str)| format!("\n  {form:<widest$}  {gives}");
    format!("Functions:{}", Expression::functions().map(line).collect::<String>())
}

/// The options that hold for a whole chain (reading, result, ledger), and whether each takes a
/// value.
pub(crate) fn options_of_the_chain() -> Vec<(String, Option<char>, bool)> {
    let all = AccountArguments::augment_args(AnswerArguments::augment_args(reading_options(
        Command::new("all"),
    )));
    let option = |argument: &Arg| {
        let takes = argument.get_action().takes_values();
        Some((argument.get_long()?.to_owned(), argument.get_short(), takes))
    };
    all.get_arguments().filter_map(option).collect()
}

/// The values of these settings from typed arguments. Files of holidays and entities stay names
/// here.
pub(crate) fn settings_of(described: &[Setting], typed: &clap::ArgMatches) -> GivenSettings {
    let mut settings = GivenSettings::default();
    for setting in described {
        let name = setting.name;
        let value: Option<Given> = match setting.takes {
            Takes::Yes => typed.get_flag(name).then_some(true.into()),
            Takes::Several(_) | Takes::Formats => {
                typed.get_many::<String>(name).map(|all| all.cloned().collect())
            }
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

/// The values of an option with several values: commas separate them, and the option may be
/// repeated.
fn parts(typed: clap::parser::ValuesRef<'_, String>) -> Given {
    let parts = typed.flat_map(|list| list.split(',')).map(str::trim);
    parts.filter(|part| !part.is_empty()).collect()
}

/// Converts a text to a number. A text that is not a number stays a text, and the setting refuses
/// it.
fn number(text: Given) -> Given {
    match &text {
        Given::Text(digits) => digits.parse().map_or(text, Given::Number),
        _ => text,
    }
}

/// The words of the command line for the advice in an error.
pub(crate) fn command_words(advised: &Advised<'_>) -> String {
    let quoted =
        |value: &str| shlex::try_quote(value).map_or_else(|_| value.to_owned(), Into::into);
    match advised {
        Advised::Setting(name, value) => format!("`--{name} {}`", quoted(value)),
        Advised::Reading(name, Some(value)) => format!("`--{name} {}`", quoted(value)),
        Advised::Named(name) | Advised::Reading(name, None) => format!("`--{name}`"),
        Advised::Column(column, format) => format!("`--read '{column}={format}'`"),
        Advised::Writing(word) => format!("`--{word}`"),
        Advised::AsOf(date) => format!("`--as-of {date}`"),
        Advised::Running(name, value) => format!("`--{name} {value}`"),
        other => other.in_rust(),
    }
}

/// The help of a command: what it does, the question that it answers, an example on the demo's
/// tables, then the options.
fn help_with(question: &str, example: &str) -> String {
    let example =
        format!("Example (with the tables of jembric demo --into harbour):\n  jembric {example}");
    let head = format!("{{about}}\n{question}\n\n{example}");
    format!("{head}\n\n{{usage-heading}} {{usage}}\n\n{{all-args}}{{after-help}}")
}

fn file() -> Arg {
    Arg::new("FILE").required(true).value_name("FILE").help(
        "The file (CSV, JSON Lines, Parquet, Arrow, a sheet of a workbook as book.xlsx:Sheet; also \
            compressed with gzip or zstd), a table of a database (harbour.sqlite:stays, \
            postgresql://localhost/harbour:stays), or - for standard input",
    )
}

/// The same command with the settings for reading files.
fn reading_options(command: Command) -> Command {
    let settings = Reading::SETTINGS.iter().map(|setting| argument(setting, Reading::SETTINGS));
    command.next_help_heading("Reading files").args(settings)
}

/// The settings for reading files, as typed.
pub(crate) fn reading_of(typed: &clap::ArgMatches) -> Result<Reading, Error> {
    let mut reading = Reading::from_given(&settings_of(Reading::SETTINGS, typed))?;
    // The text is part of the steps, so that a saved routine has it as well.
    if let Some(file) = reading.query.as_ref().and_then(|query| query.strip_prefix('@')) {
        let text = std::fs::read_to_string(file);
        let file = file.to_owned();
        reading.query = Some(text.map_err(|source| Error::Read { file, source, nearest: None })?);
    }
    Ok(reading)
}

fn argument(setting: &Setting, all: &[Setting]) -> Arg {
    let help = option_help(setting, all);
    let argument = Arg::new(setting.name).help(help).required(setting.required);
    match setting.takes {
        Takes::Expression => argument.value_name("EXPR").allow_hyphen_values(true),
        Takes::Several(word) | Takes::List(word) => argument.value_name(word).num_args(1..),
        _ => option(setting, argument.long(setting.name)),
    }
}

/// The help of a setting, in which the names of other settings become options.
fn option_help(setting: &Setting, all: &[Setting]) -> String {
    let mut help = setting.help.to_owned();
    for other in all {
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
        Takes::Texts(word @ "TEXT,…") => {
            argument.value_name(word).action(ArgAction::Append).allow_hyphen_values(true)
        }
        Takes::Texts(word) => argument.value_name(word).action(ArgAction::Append),
        Takes::Formats => argument.value_name("COL=FORMAT").action(ArgAction::Append),
        Takes::Yes => argument.action(ArgAction::SetTrue),
        Takes::Text(word @ "NUMBER") => argument.value_name(word).allow_negative_numbers(true),
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
