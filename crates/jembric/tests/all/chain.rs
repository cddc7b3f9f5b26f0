//! Chains of steps in types: they have the results of routines, and convert to them and back.

use jembric::{
    Active, Add, Almanac, Cancel, Chain, Changes, Columns, Context, CoreError, Decimal, Earliest,
    Elapsed, Error, Filled, Filter, Latest, Operation, Recent, Running, Sort, Spells, Stack, Table,
    Totals, Within,
    arrow::RecordBatchReader,
    calendar::{Day, Grain},
    chain::{AnyStep, Source},
    io::{self, DateOrder, Reading, Size},
    routine::{Routine, Show},
    steps::OnOneTable,
};
use proptest::prelude::*;
use rstest::rstest;
use std::{fs, path::Path};

fn file(name: &str) -> String {
    format!("{}/../../demo/{name}", env!("CARGO_MANIFEST_DIR"))
}

fn csv(table: &Table) -> String {
    let mut csv = Vec::new();
    io::Writing::new().batches(&mut csv).write(table).unwrap();
    String::from_utf8(csv).unwrap()
}

fn overdue() -> Chain {
    Chain::read(file("inspections.csv"))
        .then(Latest::new("inspected_on").per(["vessel"]))
        .named("current")
        .then(Elapsed::between("inspected_on", "as-of"))
        .then(Filter::new("elapsed_days > 120"))
        .as_of("2025-06-30".parse().unwrap())
}

#[test]
fn steps_work_one_after_the_other() {
    let outcome = overdue().run().unwrap();
    let latest = Latest::new("inspected_on").per(["vessel"]);
    let current = latest.apply(&io::read(file("inspections.csv")).unwrap()).unwrap();
    let days = outcome.table.cells::<i64>("elapsed_days").unwrap();
    assert!(days.flatten().all(|days| days > 120));
    assert_eq!(outcome.ledgers.len(), 3);
    assert_eq!(outcome.ledgers[0].kept, current.ledger.kept);
    assert!(outcome.ledgers.iter().all(|ledger| ledger.balances()));
}

/// A chain of each operation, and of each kind of input.
fn chains() -> Vec<Chain> {
    let gauge = || (file("gauge.csv"), Reading::new().missing(["-"]));
    let stays = || Chain::read(file("stays.csv"));
    let months = |grain| Totals::new().date(["lifted_on"]).grain(grain).sum(["tons"]);
    vec![
        overdue(),
        Chain::read(file("inspections.csv")).then(Earliest::new("inspected_on").per(["vessel"])),
        stays().then(Active::new("arrived", "left").grain(Grain::Month).count()),
        stays().then(Spells::of_intervals("arrived", "left").per(["berth"]).idle()),
        Chain::read(file("lifts.csv")).then_with(
            Within::new("lifted_on", "arrived..left".parse().unwrap()).matching(["vessel"]),
            stays(),
        ),
        Chain::read(file("inspections.csv")).then(
            Changes::per(["vessel"])
                .date("inspected_on")
                .between("2025-05-31..2025-06-30".parse().unwrap())
                .ties(jembric::Duplicates::First),
        ),
        Chain::read(gauge()).then(Running::new("day").per(["gauge"]).max(["level_m"])),
        Chain::read(gauge()).then(Filled::new("day").per(["gauge"]).carry(["level_m"])),
        Chain::read(file("lifts.csv"))
            .then(months(Grain::Month))
            .then(Sort::new(["sum_tons:down"])),
        Chain::read(file("lifts.csv"))
            .then(Recent::last("lifted_on", "14 days".parse().unwrap()))
            .then(Add::new(["heavy = tons > 20"]))
            .then(Columns::new(["vessel", "heavy as is_heavy"])),
        Chain::almanac(Almanac::new(), [(file("stays.csv"), vec!["arrived", "left"])]),
        Chain::read(file("fuel_in.csv"))
            .then_with(Stack::new().source("book"), [file("fuel_out.csv")]),
        Chain::read(file("stays.csv")),
    ]
}

#[test]
fn a_chain_and_its_routine_are_the_same() {
    for chain in chains() {
        let text = chain.routine().unwrap().to_text(str::to_owned).unwrap();
        let parsed = Routine::parse("chain.toml", &text).unwrap_or_else(|error| {
            panic!("{text}\n{error}");
        });
        assert_eq!(parsed.to_text(str::to_owned).unwrap(), text);
        let again = Chain::from(parsed);
        let (one, other) = (chain.run(), again.run());
        let (one, other) = (one.unwrap_or_else(|e| panic!("{text}\n{e}")), other.unwrap());
        assert_eq!(csv(&one.table), csv(&other.table), "{text}");
        let told = |ledgers: &[jembric::Ledger]| ledgers.iter().map(ToString::to_string).collect();
        let (one, other): (Vec<String>, Vec<String>) = (told(&one.ledgers), told(&other.ledgers));
        assert_eq!(one, other, "{text}");
    }
}

#[test]
fn every_way_to_end_gives_the_same_rows() {
    let directory = tempfile::tempdir().unwrap();
    for (n, chain) in chains().into_iter().enumerate() {
        let table = chain.run().unwrap().table;
        let path = directory.path().join(format!("{n}.csv"));
        chain.write(&path).unwrap();
        assert_eq!(fs::read_to_string(&path).unwrap(), csv(&table));

        let reader = chain.clone().memory(Size::mebibytes(8)).reader().unwrap();
        assert_eq!(reader.schema().fields().len(), table.names().len());
        let rows: usize = reader.map(|batch| batch.unwrap().num_rows()).sum();
        assert_eq!(rows, table.rows());

        let shape = chain.check().unwrap();
        if let Some(shape) = shape {
            let names: Vec<&str> = shape.columns().iter().map(|c| c.name.as_str()).collect();
            assert_eq!(names, table.names().collect::<Vec<_>>());
        }
    }
}

#[test]
fn tables_readers_and_chains_are_sources() {
    let lifts = io::read(file("lifts.csv")).unwrap();
    let reader = Chain::read(&lifts).reader().unwrap();
    let source = Source::from_reader(reader, &io::Memory::unlimited()).unwrap();
    let heavy = Chain::read(source).then(Filter::new("tons > 20"));
    let all = Chain::read(heavy.clone())
        .then_with(Stack::new(), [Source::from(&lifts), heavy.clone().into()])
        .run()
        .unwrap();
    let expected = lifts.rows() + 2 * heavy.run().unwrap().table.rows();
    assert_eq!(all.table.rows(), expected);
    let error = heavy.routine().unwrap_err().to_string();
    assert!(error.contains("is in memory, so a routine cannot read it again"), "{error}");
}

#[test]
fn an_earlier_step_is_named() {
    let chain = overdue().after("current").then(Totals::new().per(["result"]).count());
    let grades = chain.run().unwrap();
    let current = overdue().run().unwrap().ledgers[0].kept;
    let counted: i64 = grades.table.cells::<i64>("count").unwrap().flatten().sum();
    assert_eq!(counted as u64, current);
}

#[rstest]
#[case::no_step(Chain::read(file("stays.csv")).named("a"), "`named` comes before the first step")]
#[case::no_such_step(overdue().after("curent"), "`curent` is not a step: expected one of current")]
#[case::column(
    Chain::read(file("stays.csv")).then(Latest::new("arived")),
    "there is no column `arived`. Did you mean `arrived`?"
)]
#[case::column_of_a_step(
    overdue().then(Sort::new(["elapsed"])),
    "step 4 (sort): there is no column `elapsed`"
)]
#[case::column_of_a_named_step(
    Chain::read(file("stays.csv"))
        .then(Sort::new(["tns"]))
        .named("by tons")
        .then(Sort::new(["tons"])),
    "step `by tons`: "
)]
#[case::no_today(
    Chain::read(file("stays.csv")).then(Recent::last("arrived", "1 day".parse().unwrap()))
        .as_of("today".parse().unwrap()),
    "`today`, and today's date is not given"
)]
#[case::too_many(
    Chain::read(file("lifts.csv")).then_with(
        Within::new("lifted_on", "arrived..left".parse().unwrap()),
        [file("stays.csv"), file("stays.csv")],
    ),
    "`within` works on 2 tables, and 3 are given"
)]
fn mistakes_are_found_before_data_is_read(#[case] chain: Chain, #[case] expected: &str) {
    let error = chain.check().unwrap_err().to_string();
    assert!(error.contains(expected), "{error}");
    assert_eq!(chain.run().unwrap_err().to_string(), error);
}

/// What went wrong is matched, however deep it is inside a setting.
#[test]
fn errors_are_matched() {
    let error = Chain::read(file("stays.csv")).then(Latest::new("arived")).run().unwrap_err();
    match error.core() {
        Some(CoreError::NoSuchColumn { column, nearest, .. }) => {
            assert_eq!((column.as_str(), nearest[0].as_str()), ("arived", "arrived"));
        }
        _ => panic!("{error}"),
    }
    assert_eq!(error.setting(), Some("date"));
    let missing = Chain::read("nothing.csv").run().unwrap_err();
    assert!(matches!(missing, Error::Read { .. }), "{missing}");
}

#[test]
fn a_cancelled_run_ends_and_leaves_no_file() {
    let directory = tempfile::tempdir().unwrap();
    let (cancel, path) = (Cancel::new(), directory.path().join("out.csv"));
    let chain = Chain::read(file("lifts.csv"))
        .then(Filter::new("tons > 0"))
        .then(Sort::new(["tons"]))
        .cancelled_by(&cancel);
    chain.write(&path).unwrap();
    let before = fs::read(&path).unwrap();
    let many = Chain::read(chain.clone()).then_with(Stack::new(), [file("lifts.csv")]);
    let many = many.cancelled_by(&cancel);
    let mut batches = 0;
    let told = many.each(|_| {
        batches += 1;
        cancel.cancel();
        Ok::<(), Error>(())
    });
    // The result of few rows may be one batch, after which nothing is left to cancel.
    assert!(told.is_ok() || matches!(told, Err(Error::Core(CoreError::Cancelled))));
    let error = chain.write(&path).unwrap_err();
    assert!(matches!(error.core(), Some(CoreError::Cancelled)), "{error}");
    assert_eq!(fs::read(&path).unwrap(), before);
    assert_eq!(fs::read_dir(directory.path()).unwrap().count(), 1);
}

/// Steps that write are complete together, or not at all.
#[test]
fn steps_write_files() {
    let directory = tempfile::tempdir().unwrap();
    let chain = overdue().written("overdue-{as-of}.csv").in_directory(directory.path());
    let outcome = chain.run().unwrap();
    let written = fs::read_to_string(directory.path().join("overdue-2025-06-30.csv")).unwrap();
    assert_eq!(written, csv(&outcome.table));
    let failing = overdue()
        .written("first.csv")
        .after("current")
        .then(Latest::new("inspected_on").per(["vessel"]).ties(jembric::Ties::Refuse))
        .in_directory(directory.path());
    failing.run().unwrap_err();
    assert!(!directory.path().join("first.csv").exists());
}

#[test]
fn a_chain_opens_a_routine() {
    let path = file("harbour.toml");
    let chain = Chain::open(Path::new(&path)).unwrap();
    let text = Routine::file(&path).unwrap().to_text(str::to_owned).unwrap();
    assert_eq!(chain.routine().unwrap().to_text(str::to_owned).unwrap(), text);
}

/// What changed since an earlier date is the result.
#[test]
fn a_chain_compares_with_an_earlier_date() {
    let current = Chain::read(file("inspections.csv"))
        .then(Recent::last("inspected_on", "24 months".parse().unwrap()))
        .then(Latest::new("inspected_on").per(["vessel"]).ties(jembric::Ties::First))
        .named("current")
        .as_of("2025-06-30".parse().unwrap());
    let changes = current.since("2025-05-31".parse().unwrap()).run().unwrap().table;
    let steps = changes.cells::<&str>("step").unwrap();
    assert!(changes.rows() > 0);
    assert!(steps.flatten().all(|step| step == "current"));
}

/// A cell that cannot be read matters only if its column is used.
#[test]
fn only_the_columns_that_the_steps_use_are_read() {
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join("calls.csv");
    fs::write(&path, "vessel,tons,day\na,3,no date\nb,5,2025-01-01\n").unwrap();
    let reading = Reading::new().read("day", "%Y-%m-%d");
    let tons = Chain::read((path.display().to_string(), reading)).then(Totals::new().sum(["tons"]));
    let error = tons.run().unwrap_err().to_string();
    assert!(error.contains("no date"), "{error}");
    let outcome = tons.clone().counting_aside().run().unwrap();
    assert_eq!(outcome.table.cells::<i64>("sum_tons").unwrap().next(), Some(Some(8)));
    // Nobody gets the rows set aside of these.
    assert_eq!(tons.reader().unwrap().count(), 1);
}

/// The files of a chain that is read by another one stay those of its own directory.
#[test]
fn a_chain_inside_another_keeps_its_directory() {
    let directory = tempfile::tempdir().unwrap();
    let write = |name: &str, text: &str| fs::write(directory.path().join(name), text).unwrap();
    write("dues.csv", "issued,paid\n2025-01-01,2025-01-03\n");
    write("holidays.csv", "day\n2025-01-02\n");
    write(
        "r.toml",
        "[[step]]\nread = \"dues.csv\"\nelapsed = { from = \"issued\", to = \"paid\", \
            unit = \"workdays\", holidays = \"holidays.csv\" }\n",
    );
    let inner = Chain::open(directory.path().join("r.toml")).unwrap();
    let expected = csv(&inner.run().unwrap().table);
    let outer = Chain::read(inner).then(Sort::new(["issued"]));
    assert_eq!(csv(&outer.run().unwrap().table), expected);
}

#[test]
fn settings_of_reading_are_those_of_the_source() {
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join("gauge.txt");
    fs::write(&path, "day;level\n03/04/2025;2,50\n").unwrap();
    let reading = Reading::new().date_order(DateOrder::Dmy).decimal_comma().separator(b';');
    let name = path.display().to_string();
    let table = Chain::read((name, reading)).run().unwrap().table;
    let day = table.cells::<Day>("day").unwrap().get(0);
    assert_eq!(day, Some("2025-04-03".parse().unwrap()));
    let level = table.cells::<Decimal>("level").unwrap().get(0);
    assert_eq!(level.map(|level| level.to_string()).as_deref(), Some("2.50"));
}

#[cfg(feature = "draw")]
#[test]
fn pictures_and_pages_are_texts() {
    use jembric::Draw;
    let chain = overdue().heading("Overdue").say("{rows} vessels are due.").show([Show::Table]);
    let page = chain.page().unwrap();
    assert!(page.starts_with("<!DOCTYPE html>") && page.contains("vessels are due."));
    let months = Chain::read(file("lifts.csv"))
        .then(Totals::new().date(["lifted_on"]).grain(Grain::Month).sum(["tons"]));
    let svg = months.picture().unwrap().svg();
    assert!(svg.starts_with("<svg"), "{}", &svg[..40]);
    assert_eq!(months.then(Draw::new()).picture().unwrap().svg(), svg);
}

#[test]
fn chains_and_what_comes_of_them_can_be_sent_to_threads() {
    fn is_sent<T: Send + Sync>() {}
    is_sent::<Chain>();
    is_sent::<jembric::ChainOutcome>();
    fn is_moved<T: Send>() {}
    is_moved::<jembric::chain::Batches>();
    let table = std::thread::spawn(|| overdue().run().unwrap().table).join().unwrap();
    assert!(table.rows() > 0);
}

/// One of a few operations, and the same as a step.
fn operation(number: u8) -> (Box<dyn Operation>, AnyStep) {
    fn both<O: Operation + OnOneTable + Clone>(operation: O) -> (Box<dyn Operation>, AnyStep) {
        (Box::new(operation.clone()), operation.into())
    }
    match number % 8 {
        0 => both(Filter::new("tons > 3 or tons is missing")),
        1 => both(Latest::new("day").per(["vessel"])),
        2 => both(Sort::new(["tons:down", "vessel"])),
        3 => both(Elapsed::between("day", "as-of").name(format!("elapsed_{number}"))),
        4 => both(Add::new([format!("twice_{number} = tons * 2")])),
        5 => both(Recent::last("day", "40 days".parse().unwrap())),
        6 => both(Running::new("day").per(["vessel"]).max([format!("tons as most_{number}")])),
        _ => both(Earliest::new("day").per(["vessel"]).mark(format!("first_{number}"))),
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    /// A chain gives what its operations give one after the other, with the same ledgers, also if
    /// the tables are larger than memory.
    #[test]
    fn a_chain_is_its_operations_one_after_the_other(
        rows in prop::collection::vec(
            (0..6_i64, prop::option::of(0..60_i32), prop::option::of(0..9_i64)), 0..60),
        numbers in prop::collection::vec(any::<u8>(), 0..5),
    ) {
        let mut numbers = numbers;
        numbers.sort_unstable();
        numbers.dedup();
        let table = Table::builder()
            .column("vessel", rows.iter().map(|row| format!("v{}", row.0)))
            .column("day", rows.iter().map(|row| row.1.and_then(|d| Day::from_number(20_000 + d))))
            .column("tons", rows.iter().map(|row| row.2))
            .build()
            .unwrap();
        let as_of: Day = Day::from_number(20_050).unwrap();
        let context = Context::new().as_of(as_of);
        let (mut expected, mut ledgers) = (table.clone(), Vec::new());
        let mut chain = Chain::read(&table).as_of(as_of.into());
        let mut failed = None;
        for &number in &numbers {
            let (operation, step) = operation(number);
            chain = chain.then(step);
            if failed.is_none() {
                match operation.apply_with(&expected, &context) {
                    Ok(outcome) => {
                        ledgers.push(outcome.ledger);
                        expected = outcome.table;
                    }
                    Err(error) => failed = Some(error.to_string()),
                }
            }
        }
        let small = chain.clone().memory(Size::mebibytes(8));
        match (chain.run(), failed) {
            (Ok(outcome), None) => {
                prop_assert_eq!(csv(&outcome.table), csv(&expected));
                for (own, model) in outcome.ledgers.iter().zip(&ledgers) {
                    let model = (model.rows_in, model.kept, &model.counts);
                    prop_assert_eq!((own.rows_in, own.kept, &own.counts), model);
                }
                prop_assert_eq!(csv(&small.run().unwrap().table), csv(&expected));
            }
            (Err(error), Some(failed)) => {
                prop_assert!(error.to_string().ends_with(&failed), "{} and {}", error, failed);
            }
            (chain, failed) => prop_assert!(false, "{chain:?} and {failed:?}"),
        }
    }
}
