//! The tables of the harbour, which are built into the command, and the demonstration that runs on
//! them.

use crate::{
    Failure,
    files::{ROUTINE, TABLES},
    screen::{BOLD, Kept, Screen},
};
use jembric::{
    Error,
    io::{Outputs, Reading, Writing},
};
use std::{fs, path::Path};

/// The questions of the demonstration with their commands. Commands after a bar read the result of
/// the one before.
const QUESTIONS: [(&str, &str); 45] = [
    ("What is in the table of inspections, and what looks wrong?", "jembric look inspections.csv"),
    (
        "What does each vessel's latest inspection say?",
        "jembric latest inspections.csv --per vessel --date inspected_on",
    ),
    (
        "The same, with ties on the day broken by the deeper hull reading, and the readings \
            reconciled",
        "jembric latest inspections.csv --per vessel --date inspected_on --then hull_mm \
            --reconcile hull_mm --rows 4",
    ),
    (
        "What changed in June, from each vessel's latest inspection at its beginning to that at \
            its end?",
        "jembric changes inspections.csv --per vessel --date inspected_on --between \
            2025-05-31..2025-06-30 --ties first --rows 6",
    ),
    (
        "What did it say at the end of 2024?",
        "jembric latest inspections.csv --per vessel --date inspected_on --as-of 2024-12-31 \
            --rows 4",
    ),
    (
        "Who came last to each berth, at the end of every month?",
        "jembric latest stays.csv --per berth --date arrived --at-each month | jembric columns - \
            'state_on, berth, vessel, arrived, left' \
         --rows 6",
    ),
    (
        "When was each vessel first at a berth?",
        "jembric earliest stays.csv --per vessel --date arrived --rows 4",
    ),
    (
        "How many berths were in use on each day of April, and how many ships came and went?",
        "jembric active stays.csv --start arrived --end left --count --range 2025-04 --rows 5",
    ),
    (
        "How many stays were active at once, as a picture?",
        "jembric active stays.csv --start arrived --end left --count --range 2025-04..2025-06 + \
            draw",
    ),
    (
        "In which months was each stay active, for how many days, and what is each month's part \
            of its tonnage?",
        "jembric active stays.csv --start arrived --end left --grain month --share tons | jembric \
            filter - 'tons_share < tons' \
         --rows 5",
    ),
    (
        "And per berth and quarter?",
        "jembric active stays.csv --start arrived --end left --grain quarter --count --per berth \
            --sum tons --rows 6",
    ),
    (
        "Which ships lay at the quays on 31 March?",
        "jembric active stays.csv --start arrived --end left --on 2025-03-31",
    ),
    (
        "When was each berth idle, and for how long?",
        "jembric spells stays.csv --per berth --start arrived --end left --idle | jembric sort - \
            days:down --rows 5",
    ),
    (
        "When was each berth in use, as a picture?",
        "jembric spells stays.csv --per berth --start arrived --end left + draw",
    ),
    (
        "For how long did each result of an inspection stand?",
        "jembric spells inspections.csv --per vessel --date inspected_on --value result --rows 5",
    ),
    (
        "Which lifts took place while the vessel lay at a berth?",
        "jembric within lifts.csv stays.csv --match vessel --date lifted_on --window \
            arrived..left --bring stay,berth \
         --reconcile tons --rows 4",
    ),
    (
        "Which did not, and why?",
        "jembric within lifts.csv stays.csv --match vessel --date lifted_on --window \
            arrived..left --keep stray-events",
    ),
    (
        "In which stays was nothing lifted?",
        "jembric within lifts.csv stays.csv --match vessel --date lifted_on --window \
            arrived..left --keep empty-windows --rows 4",
    ),
    (
        "Which price was in force on the day of each lift, and what does it come to?",
        "jembric within lifts.csv tariff.csv --match crane --date lifted_on --window valid_from.. \
            --pick last --keep every-event | \
         jembric add - 'price = round(tons * per_ton, 2)' --rows 4",
    ),
    (
        "Which stays overlapped at one berth?",
        "jembric within stays.csv stays.csv --match berth --interval arrived..left --window \
            arrived..left --bring 'stay as other' | \
         jembric filter - 'stay < other' | jembric columns - 'berth, stay, other, overlap_start, \
         overlap_end, overlap_days' --rows 4",
    ),
    (
        "How many days ago was each vessel's last inspection, on 30 June 2025, and in which band \
            is that?",
        "jembric latest inspections.csv --per vessel --date inspected_on --then hull_mm | jembric \
            elapsed - --from inspected_on \
         --to as-of --as-of 2025-06-30 --bands 0,90,180 | jembric sort - elapsed_days:down --rows \
         5",
    ),
    (
        "How long is it between a vessel's inspections?",
        "jembric elapsed inspections.csv --since-previous --per vessel --date inspected_on --rows \
            4",
    ),
    (
        "Which dues are still open, and how many days late are they?",
        "jembric filter dues.csv 'paid is missing and due < as_of' --as-of 2025-06-30 | jembric \
            add - 'days_late = as_of - due' \
         'fee = round(amount * 0.0125, 2)' --as-of 2025-06-30 | jembric sort - days_late:down \
         --rows 4",
    ),
    (
        "How many workdays did it take to pay?",
        "jembric elapsed dues.csv --from issued --to paid --unit workdays --holidays holidays.csv \
            --name took --rows 4",
    ),
    (
        "On which days did the water stand higher than ever before?",
        "jembric running gauge.csv --per gauge --date day --max level_m --mark-highs is_high \
            --missing - | jembric filter - is_high \
         --rows 6",
    ),
    (
        "How did the highest level so far rise? A picture in text; with --out highest.svg it \
            becomes a file",
        "jembric running gauge.csv --per gauge --date day --max level_m --missing - + draw",
    ),
    (
        "And what was its mean over the last seven days?",
        "jembric running gauge.csv --per gauge --date day --mean level_m --trailing '7 days' \
            --missing - --rows 4",
    ),
    (
        "How much was in the fuel tank after each day?",
        "jembric stack fuel_in.csv fuel_out.csv --source book | jembric add - \
         \"change = if book = 'fuel_in' then litres else -litres\" | jembric running - --date day \
         --sum 'change as in_tank' --opening 12000 | \
         jembric columns - 'day, book, change, in_tank' --rows 5",
    ),
    (
        "How many dues were paid so far in each fiscal year?",
        "jembric running dues.csv --date paid --sum 'amount as paid_so_far' --count --anew-each \
            year --year-start April | jembric sort - paid \
         --rows 4",
    ),
    (
        "On which days did a gauge tell nothing, and what was its last mark then?",
        "jembric filled gauge.csv --per gauge --date day --carry level_m --mark was_added \
            --missing - | jembric filter - was_added --rows 4",
    ),
    (
        "What do the gauges look like, with their gaps filled?",
        "jembric filled gauge.csv --per gauge --date day --linear level_m --mark was_added \
            --missing - + draw --apart gauge",
    ),
    ("And day by day, as a calendar?", "jembric draw gauge.csv --missing - --form calendar"),
    (
        "How many ships arrived and left in each quarter, side by side?",
        "jembric totals stays.csv --date arrived,left --grain quarter --count",
    ),
    (
        "What dues were issued, by weekday, with the classes across?",
        "jembric totals dues.csv --date issued --each weekday --sum amount --side-by-side class \
            --margins",
    ),
    (
        "What dues were issued to each class, as a picture?",
        "jembric totals dues.csv --sum amount --per class + draw",
    ),
    (
        "How many tons came in each month, and what is that of its year?",
        "jembric totals stays.csv --date arrived --grain month --sum tons --beside year --rows 4",
    ),
    (
        "How often was each vessel inspected in each quarter, also if it was not?",
        "jembric totals inspections.csv --date inspected_on --grain quarter --per vessel --count \
            --dense --entities vessels.csv:vessel --rows 4",
    ),
    (
        "What was lifted in the last nine months?",
        "jembric recent lifts.csv --date lifted_on --last '9 months' --rows 3",
    ),
    (
        "And in the two quarters before this one?",
        "jembric recent lifts.csv --date lifted_on --previous '2 quarters' --as-of 2025-06-30 \
            --rows 3",
    ),
    (
        "What did the cranes do on Tuesdays and Thursdays, by the harbour's own clocks, around \
            the change of the clocks?",
        "jembric add crane_log.csv 'day = date(at)' 'time = time(at)' 'weekday = weekday(at)' \
            --zone Europe/Lisbon | jembric filter - \
         'weekday(day) in (tue, thu)' --rows 4",
    ),
    (
        "Which days does the harbour's year have, of those that the stays cover?",
        "jembric almanac --covering stays.csv:arrived,left --holidays holidays.csv --year-start \
            April | jembric columns - \
         'date, weekday, iso_week, year_quarter, fiscal_year, is_workday, records_arrived, \
         records_left' --rows 4",
    ),
    (
        "On which days did more than two vessels arrive?",
        "jembric almanac --covering stays.csv:arrived | jembric filter - 'records_arrived > 2' | \
            jembric columns - \
         'date, weekday, records_arrived' --rows 4",
    ),
    (
        "What do both fuel books say together?",
        "jembric stack fuel_in.csv fuel_out.csv --source book --rows 3",
    ),
    (
        "Which vessels are overdue for an inspection? In one go, step by step",
        "jembric latest inspections.csv --per vessel --date inspected_on --then hull_mm + elapsed \
            --from inspected_on --to as-of \
         --as-of 2025-06-30 + filter 'elapsed_days > 120' + columns 'vessel, inspected_on, \
         elapsed_days'",
    ),
    (
        "And the harbour's whole report, saved to run again next month?",
        "jembric run harbour.toml --follow \"vessel = 'Petrel'\" --rows 3",
    ),
];

/// Runs a command on the demo's tables, with these bytes as its standard input.
pub(crate) type RunWords =
    dyn Fn(Vec<String>, &[u8], &mut Screen) -> std::result::Result<(), Failure>;

/// Runs the command of each question on the built-in tables.
pub(crate) fn run(screen: &mut Screen, run_words: &RunWords) -> std::result::Result<(), Failure> {
    let welcome = "The harbour office of Ostrey, a port that does not exist. Each command can be \
        typed after\n`jembric demo --into harbour && cd harbour`.\n";
    screen.words(welcome)?;
    for (question, line) in QUESTIONS {
        screen.words(&format!("\n{BOLD}{question}{BOLD:#}\n$ {line}\n\n"))?;
        let mut piped = Vec::new();
        let mut commands = line.split(" | ").peekable();
        while let Some(command) = commands.next() {
            let kept = Kept::default();
            if commands.peek().is_some() {
                one(command, &piped, &mut Screen::with_answers_kept(kept.clone()), run_words)?;
            } else {
                one(command, &piped, screen, run_words)?;
            }
            piped = kept.bytes();
        }
    }
    Ok(())
}

/// Runs one command line, split into words as a shell would.
fn one(
    line: &str,
    piped: &[u8],
    screen: &mut Screen,
    run_words: &RunWords,
) -> std::result::Result<(), Failure> {
    run_words(shlex::split(line).unwrap_or_default(), piped, screen)
}

/// Writes the tables into a directory. None of them may exist there.
pub(crate) fn write_into(
    directory: &Path,
    screen: &mut Screen,
) -> std::result::Result<(), Failure> {
    in_directory(directory, tables_into)?;
    Ok(screen.account(format!(
        "{} tables and a routine in {}",
        TABLES.len(),
        directory.display()
    ))?)
}

/// Writes into a directory, which is created if it does not exist.
fn in_directory(
    directory: &Path,
    write: impl FnOnce(&Path) -> std::result::Result<(), Failure>,
) -> std::result::Result<(), Failure> {
    let failed = |source| Error::Write { file: directory.display().to_string(), source };
    // If the tables cannot be written, directories that were created for them are removed again.
    let new: Vec<&Path> = directory.ancestors().take_while(|path| !path.exists()).collect();
    fs::create_dir_all(directory).map_err(failed)?;
    let written = write(directory);
    if written.is_err() {
        new.iter().for_each(|path| drop(fs::remove_dir(path)));
    }
    written
}

/// The demo's tables as one SQLite file.
const SQLITE: &str = "harbour.sqlite";

/// Writes the tables into a directory as one SQLite file, and the routine on them.
pub(crate) fn write_sqlite_into(
    directory: &Path,
    screen: &mut Screen,
) -> std::result::Result<(), Failure> {
    in_directory(directory, sqlite_into)?;
    Ok(screen.account(format!(
        "{} tables in {}, and a routine beside it",
        TABLES.len(),
        directory.join(SQLITE).display()
    ))?)
}

fn sqlite_into(directory: &Path) -> std::result::Result<(), Failure> {
    refuse_existing(directory, [SQLITE, ROUTINE.0].into_iter())?;
    let mut outputs = Outputs::new();
    let mut text = ROUTINE.1.to_owned();
    for (file, csv) in TABLES {
        let name = file.trim_end_matches(".csv");
        let table = Reading::new().missing(["-"]).stream(file, csv.as_bytes())?;
        let mut output = outputs.file(file, directory.join(format!("{SQLITE}:{name}")))?;
        output.write_tables(Writing::new(), |batches| batches.write(&table))?;
        outputs.add(output);
        text = text.replace(&format!("\"{file}\""), &format!("\"{SQLITE}:{name}\""));
    }
    let mut routine = outputs.file("the routine", directory.join(ROUTINE.0))?;
    routine.write(|to| to.write_all(text.as_bytes()))?;
    outputs.add(routine);
    Ok(outputs.commit()?)
}

/// Errors: a file is in the directory already.
fn refuse_existing<'a>(
    directory: &Path,
    mut names: impl Iterator<Item = &'a str>,
) -> std::result::Result<(), Failure> {
    match names.find(|name| directory.join(name).exists()) {
        None => Ok(()),
        Some(name) => Err(Error::Setting {
            setting: "into",
            value: format!("`{}` is there already", directory.join(name).display()),
            expected: "a directory without the demo's tables".to_owned(),
        }
        .into()),
    }
}

/// Writes all tables and the routine, or nothing.
fn tables_into(directory: &Path) -> std::result::Result<(), Failure> {
    let all = || TABLES.into_iter().chain([ROUTINE]);
    refuse_existing(directory, all().map(|(name, _)| name))?;
    let mut outputs = Outputs::new();
    for (name, text) in all() {
        let mut file = outputs.file(name, directory.join(name))?;
        file.write(|to| to.write_all(text.as_bytes()))?;
        outputs.add(file);
    }
    Ok(outputs.commit()?)
}
