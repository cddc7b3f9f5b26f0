//! The harbour's tables, which are part of the command, and the demonstration that runs on them.

use crate::{
    Failure,
    arguments::command,
    run,
    screen::{BOLD, Screen},
};
use jembric::{
    Error, Result, Shape, Table,
    io::{Destination, Reading},
};
use std::{fs, io, path::Path};

macro_rules! tables {
    ($($name:literal),* $(,)?) => { [$(($name, include_str!(concat!("../demo/", $name)))),*] };
}

const TABLES: [(&str, &str); 9] = tables![
    "vessels.csv",
    "inspections.csv",
    "stays.csv",
    "lifts.csv",
    "gauge.csv",
    "fuel_in.csv",
    "fuel_out.csv",
    "dues.csv",
    "crane_log.csv",
];

/// The questions that the demonstration asks, each with the command that answers it.
const QUESTIONS: [(&str, &str); 5] = [
    ("What is in the table of inspections, and what looks wrong?", "jembric look inspections.csv"),
    (
        "What does each vessel's latest inspection say?",
        "jembric latest inspections.csv --per vessel --date inspected_on",
    ),
    (
        "The same, with ties on the day broken by the deeper hull reading, and the readings reconciled",
        "jembric latest inspections.csv --per vessel --date inspected_on --then hull_mm --reconcile hull_mm --rows 4",
    ),
    (
        "What did it say at the end of 2024?",
        "jembric latest inspections.csv --per vessel --date inspected_on --as-of 2024-12-31 --rows 4",
    ),
    (
        "When was each vessel first at a berth?",
        "jembric earliest stays.csv --per vessel --date arrived --rows 4",
    ),
];

/// Where a command's files are.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Files {
    OfTheDisk,
    OfTheDemo,
}

impl Files {
    pub(crate) fn read(self, reading: &Reading, file: &str) -> Result<Table> {
        match self {
            Files::OfTheDisk if file == "-" => reading.stream("standard input", io::stdin().lock()),
            Files::OfTheDisk => reading.file(file),
            Files::OfTheDemo => {
                let text = TABLES.iter().find(|(name, _)| *name == file).map_or("", |(_, text)| text);
                reading.stream(file, text.as_bytes())
            }
        }
    }

    /// What the header tells, where it can be read without reading what follows.
    pub(crate) fn shape(self, reading: &Reading, file: &str) -> Result<Option<Shape>> {
        match self {
            Files::OfTheDisk if Path::new(file).is_file() => reading.shape(file).map(Some),
            _ => Ok(None),
        }
    }
}

/// Asks each question of the tables in the command.
pub(crate) fn run(screen: &mut Screen) -> std::result::Result<(), Failure> {
    let welcome = "The harbour office of Ostrey, a port that does not exist. Each command can be typed after\n`jembric demo --into harbour && cd harbour`.\n";
    screen.words(welcome)?;
    for (question, line) in QUESTIONS {
        screen.words(&format!("\n{BOLD}{question}{BOLD:#}\n$ {line}\n\n"))?;
        let typed = command().try_get_matches_from(line.split_whitespace())?;
        if let Some((name, typed)) = typed.subcommand() {
            run::step(name, typed, Files::OfTheDemo, screen)?;
        }
    }
    Ok(())
}

/// Writes the tables to a directory, where none of them is there already.
pub(crate) fn write_into(directory: &Path, screen: &mut Screen) -> std::result::Result<(), Failure> {
    let failed = |source| Error::Write { file: directory.display().to_string(), source };
    fs::create_dir_all(directory).map_err(failed)?;
    if let Some((name, _)) = TABLES.iter().find(|(name, _)| directory.join(name).exists()) {
        let value = format!("`{}` is there already", directory.join(name).display());
        return Err(Error::Setting {
            setting: "into",
            value,
            expected: "a directory without the demo's tables".to_owned(),
        }
        .into());
    }
    for (name, text) in TABLES {
        let mut file = Destination::file(directory.join(name))?;
        file.write(|to| to.write_all(text.as_bytes()))?;
        file.commit()?;
    }
    Ok(screen.account(format!("{} tables in {}", TABLES.len(), directory.display()))?)
}
