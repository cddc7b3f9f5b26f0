//! Routines: from a text to steps and back, mistakes with their places, and what a run does.

use jembric::{
    Error, Shape, Table,
    arrow::cast::AsArray,
    calendar::Day,
    io::Reading,
    routine::{Input, Planned, Routine},
    run::RunSettings,
    settings::{Given, GivenSettings},
    steps::{Disk, Files, OPERATIONS, described},
};
use rstest::rstest;
use serde_json::{Value, json};
use std::{cell::RefCell, fs, path::Path};

fn today() -> Day {
    "2025-06-30".parse().unwrap()
}

fn demo() -> Disk {
    Disk::in_directory(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo"))
}

/// What is wrong with a text, and the part that is marked.
fn mistake(text: &str) -> (String, String, String) {
    let told = match Routine::parse("r.toml", text) {
        Err(error) => error,
        Ok(routine) => match routine.check(&RunSettings::on(&demo(), today())) {
            Err(error) => error,
            Ok(_) => panic!("nothing is wrong with it"),
        },
    };
    match told {
        Error::Routine(mistaken) => {
            let at =
                mistaken.text[mistaken.at.clone()].lines().next().unwrap_or_default().to_owned();
            assert!(mistaken.to_string().contains("--> r.toml:"), "{mistaken}");
            (mistaken.problem.clone(), at, mistaken.advice.clone())
        }
        other => panic!("{other}"),
    }
}

const LATEST: &str = "[[step]]\nname = \"current\"\nread = \"inspections.csv\"\nlatest = { per = \
    [\"vessel\"], date = \"inspected_on\" }\n";

#[rstest]
#[case::no_toml("title = ", "", "")]
#[case::key("titel = \"x\"", "`titel` is not a key of a routine", "did you mean `title`?")]
#[case::as_of(
    "as-of = \"2025-02-30\"\n[[step]]\nread = \"stays.csv\"\nsort = \"tons\"",
    "`2025-02-30` is not an as-of date: February 2025 has 28 days",
    ""
)]
#[case::zone(
    "zone = \"Europe/Lisbonne\"\n[[step]]\nread = \"stays.csv\"\nsort = \"tons\"",
    "`Europe/Lisbonne` is not a time zone",
    ""
)]
#[case::spelled_otherwise(
    "[[step]]\nread = \"stays.csv\"\nsort = \"tons\"\nwrite = \"o.csv\"\n[[step]]\nsort \
        = \"vessel\"\nwrite = \"./o.csv\"",
    "two steps write `./o.csv`",
    "choose another name"
)]
#[case::no_step("title = \"x\"", "the routine has no steps", "begin a step with [[step]]")]
#[case::no_operation(
    "[[step]]\nread = \"stays.csv\"",
    "a step has no operation",
    "one of latest, earliest"
)]
#[case::operation(
    "[[step]]\nlates = {}",
    "`lates` is not a key of a step",
    "did you mean `latest`?"
)]
#[case::two_operations(
    "[[step]]\nread = \"stays.csv\"\nsort = \"berth\"\nfilter = \"true\"",
    "a step has two operations, `filter` and `sort`",
    "write two steps"
)]
#[case::setting(
    "[[step]]\nread = \"stays.csv\"\nlatest = { date = \"left\", par = [\"berth\"] }",
    "`par` is not a setting of latest",
    "did you mean `per`?"
)]
#[case::nothing_before(
    "[[step]]\nsort = \"berth\"",
    "the step has no input, and there is no step before it",
    "read = \"stays.csv\""
)]
#[case::windows(
    "[[step]]\nread = \"lifts.csv\"\nwithin = { date = \"lifted_on\", window = \"a..b\" }",
    "the step has no windows",
    "add windows = \"stays.csv\", or the name of a step"
)]
#[case::from(&format!("{LATEST}[[step]]\nfrom = \"curent\"\nsort = \"vessel\""),
    "no earlier step is named `curent`", "did you mean `current`?")]
#[case::circle(
    "[[step]]\nname = \"a\"\nfrom = \"b\"\nsort = \"x\"\n[[step]]\nname = \"b\"\nfrom \
        = \"a\"\nsort = \"x\"",
    "`b` is this step or a later one, which would be a cycle",
    "a step can only use earlier steps"
)]
#[case::circle_of_files(
    "[[step]]\nname = \"a\"\nread = \"stays.csv\"\nstack = [\"a\"]",
    "`a` is this step or a later one, which would be a cycle",
    "a step can only use earlier steps"
)]
#[case::names(&format!("{LATEST}{LATEST}"), "two steps are named `current`",
    "rename one")]
#[case::column(&LATEST.replace("vessel", "vesel"),
    "inspections.csv: there is no column `vesel`. Did you mean `vessel`?", "")]
#[case::later_column(&format!("{LATEST}[[step]]\nsort = \"vesel\""),
    "there is no column `vesel`. Did you mean `vessel`?", "")]
#[case::file(&LATEST.replace("inspections.csv", "inspection.csv"), "inspection.csv: no such file",
    "")]
#[case::value(
    "[[step]]\nread = \"stays.csv\"\nrecent = { date = \"left\", last = \"3 moons\" }",
    "`3 moons` is not a span: expected whole days, weeks, months or years, such as `9 months`",
    ""
)]
#[case::missing_setting(
    "[[step]]\nread = \"stays.csv\"\nrecent = { last = \"3 months\" }",
    "`date` is not given: expected the name of a column",
    ""
)]
#[case::expression(
    "[[step]]\nread = \"stays.csv\"\nfilter = \"tons >\"",
    "the expression ends",
    ""
)]
#[case::as_of(
    "[[step]]\nread = \"stays.csv\"\nsort = \"berth\"\nwrite = \"x-{as-of}.csv\"",
    "`x-{as-of}.csv` contains the as-of date, and there is none",
    "set it above the steps: as-of = \"2025-06-30\""
)]
#[case::reading(
    "[[step]]\nread = { file = \"stays.csv\", mising = [\"-\"] }\nsort = \"berth\"",
    "`mising` is not a setting of an input",
    "did you mean `missing`?"
)]
#[case::read_and_from(&format!("{LATEST}[[step]]\nread = \"stays.csv\"\nfrom = \"current\"\nsort \
    = \"vessel\""), "a step has both `read` and `from`", "choose one")]
#[case::written_twice(
    "[[step]]\nread = \"stays.csv\"\nsort = \"berth\"\nwrite = \"x.csv\"\n[[step]]\nsort \
        = \"vessel\"\nwrite = \"x.csv\"",
    "two steps write `x.csv`",
    "choose another name"
)]
#[case::written_and_read(
    "[[step]]\nread = \"stays.csv\"\nsort = \"berth\"\nwrite = \"x.csv\"\n[[step]]\nread \
        = \"x.csv\"\nsort = \"vessel\"",
    "`x.csv` is written by this routine",
    "give the step that writes it a name"
)]
fn mistakes_are_shown_at_their_line(
    #[case] text: &str,
    #[case] problem: &str,
    #[case] advice: &str,
) {
    let (told, at, told_advice) = mistake(text);
    assert!(told.contains(problem) && told_advice.contains(advice), "{told}, {told_advice}");
    // The marked part is what the message is about, if it is a word of the text.
    if let Some(word) =
        problem.split('`').nth(1).filter(|word| text.contains(word) && !problem.contains("field"))
    {
        assert!(at.contains(word) || problem.contains("operations"), "{at} for {word}");
    }
}

fn text_of(table: &Table, column: &str) -> Vec<String> {
    table.column(column).unwrap().as_string_view().iter().flatten().map(str::to_owned).collect()
}

#[test]
fn a_routine_writes_all_of_its_files_or_none() {
    let directory = tempfile::tempdir().unwrap();
    for file in ["inspections.csv", "fuel_in.csv", "fuel_out.csv"] {
        fs::copy(demo().directory.join(file), directory.path().join(file)).unwrap();
    }
    let text = "title = \"On {as-of}\"\nas-of = \"newest:inspected_on\"\n\
        [[step]]\nname = \"current\"\nread = \"inspections.csv\"\nlatest = { per = \"vessel\", \
        date = \"inspected_on\", ties = \"first\" }\n\
        [[step]]\nelapsed = { from = \"inspected_on\", to = \"as-of\" }\nwrite \
        = \"ages-{as-of}.csv\"\n\
        [[step]]\nname = \"fuel\"\nread = \"fuel_in.csv\"\nstack = [\"fuel_out.csv\"]\n\
        [[step]]\nfrom = \"current\"\nsort = \"vessel:down\"\n\
        [[step]]\ncolumns = \"vessel\"\n";
    let routine = Routine::parse("r.toml", text).unwrap();
    let files = Disk::in_directory(directory.path());
    let mut run = RunSettings::on(&files, today());
    run.into = Some(directory.path().to_owned());
    run.follow = Some("vessel = 'Petrel'".parse().unwrap());
    let (mut vessels, mut ran) = (Vec::new(), Vec::new());
    let checked = routine.check(&run).unwrap();
    let mut title = None;
    checked
        .run(
            &mut |batch| {
                vessels.extend(text_of(batch, "vessel"));
                Ok(())
            },
            &mut |step| {
                let followed =
                    step.outcome.ledger.followed.as_ref().map(|rows| (rows.rows_in, rows.kept));
                ran.push((step.place, step.written.clone(), followed));
                title = routine.title_on(step.context.as_of);
                assert!(step.outcome.ledger.balances());
                Ok(())
            },
        )
        .unwrap();
    assert_eq!((vessels.len(), vessels.first().map(String::as_str)), (14, Some("Wend")));
    // The result has no fuel, and so the column is not read.
    let one = Some((1, 1));
    assert_eq!(
        ran,
        [
            (0, None, Some((5, 1))),
            (1, Some("ages-2025-06-30.csv".to_owned()), one),
            (3, None, one),
            (4, None, one)
        ]
    );
    assert_eq!(title.as_deref(), Some("On 2025-06-30"));
    let written = fs::read_to_string(directory.path().join("ages-2025-06-30.csv")).unwrap();
    assert_eq!(written.lines().count(), 15);

    // A failing step leaves nothing of the steps before it.
    fs::remove_file(directory.path().join("ages-2025-06-30.csv")).unwrap();
    let fails = format!("{text}[[step]]\nfilter = \"vessel > 3\"\n");
    let failing = Routine::parse("r.toml", &fails).unwrap();
    let error = failing.check(&run).unwrap().run(&mut |_| Ok(()), &mut |_| Ok(())).unwrap_err();
    assert!(error.to_string().contains("r.toml:20:11"), "{error}");
    assert_eq!(fs::read_dir(directory.path()).unwrap().count(), 3);

    // Up to a step, given by its name or its number.
    run.upto = Some(routine.place_of("fuel").unwrap());
    let mut rows = 0;
    routine
        .check(&run)
        .unwrap()
        .run(
            &mut |batch| {
                rows += batch.rows();
                Ok(())
            },
            &mut |_| Ok(()),
        )
        .unwrap();
    assert_eq!((rows, routine.place_of("4").unwrap()), (782, 3));
    assert!(
        routine
            .place_of("fual")
            .unwrap_err()
            .to_string()
            .contains("one of current, fuel, or a number from 1 to 5")
    );
}

#[test]
fn the_harbours_routine_is_valid_and_survives_saving() {
    let path = demo().directory.join("harbour.toml");
    let routine = Routine::file(&path).unwrap();
    let files = Routine::files_beside(&path);
    let run = RunSettings::on(&files, today());
    let checked = routine.check(&run).unwrap();
    assert_eq!(
        checked.shapes.iter().filter(|shape| shape.is_none()).count(),
        1,
        "only what stands side by side is not known"
    );
    let text = routine.to_text(str::to_owned).unwrap();
    let again = Routine::parse("again.toml", &text).unwrap();
    assert_eq!(again.to_text(str::to_owned).unwrap(), text);
    for (one, other) in routine.steps.iter().zip(&again.steps) {
        assert_eq!(
            (&one.inputs, &one.settings, &one.write, one.operation.name),
            (&other.inputs, &other.settings, &other.write, other.operation.name)
        );
    }
    assert_eq!((again.title, again.as_of), (routine.title, routine.as_of));
}

/// A value that a setting takes.
fn example(setting: &jembric::Setting) -> Given {
    serde_json::from_value(example_value(setting)).unwrap()
}

fn example_value(setting: &jembric::Setting) -> Value {
    use jembric::Takes;
    match setting.takes {
        Takes::Columns | Takes::Several(_) | Takes::List(_) => json!(["a"]),
        Takes::Number => json!(3),
        Takes::OneOf(words) => json!(words[0]),
        Takes::Yes => json!(true),
        Takes::Numbers => json!([1, 30]),
        Takes::Texts("COL=VALUE") => json!(["a=1"]),
        Takes::Texts("GRAIN|all,…") => json!(["year"]),
        Takes::Texts("VALUE = LABEL") => json!(["3 = high"]),
        Takes::Texts(_) | Takes::Days => json!(["9999-12-31"]),
        Takes::Entities => json!([["Petrel"]]),
        Takes::Text(word) => match word {
            "SPAN" => json!("9 months"),
            "GRAIN" => json!("month"),
            "N GRAIN" => json!("2 quarters"),
            "WEEKDAY" => json!("Sunday"),
            "MONTH" => json!("April"),
            "NUMBER" => json!("1000"),
            "DATE" => json!("2025-06-30"),
            "WIDTHxHEIGHT" => json!("1280x800"),
            word if word.contains("A..B") => json!("2025-01-01..2025-06-30"),
            word if word.contains("..") => json!("a..b"),
            _ => json!("a"),
        },
        _ => json!("a"),
    }
}

#[test]
fn every_setting_of_every_operation_is_read_by_its_struct_and_comes_back_from_a_routine() {
    for operation in OPERATIONS {
        let mut settings = GivenSettings::default();
        operation
            .settings
            .iter()
            .for_each(|setting| settings.insert(setting.name, example(setting)));
        if let Err(error) = operation.step(&settings, Vec::new()) {
            panic!("{}: {error}", operation.name);
        }
        // A routine names files, which are read when it runs.
        let mut named = settings;
        for setting in operation.settings {
            match setting.takes {
                jembric::Takes::Days => named.insert(setting.name, "holidays.csv"),
                jembric::Takes::Entities => named.insert(setting.name, "vessels.csv:vessel"),
                _ => {}
            }
        }
        let file = |name: &str| Input::File(name.to_owned(), Box::default());
        let inputs = [file("a.csv"), file("b.csv")];
        let inputs = inputs
            [..if operation.name == "within" || operation.name == "stack" { 2 } else { 1 }]
            .to_vec();
        let step = Planned::new(described(operation.name).unwrap(), named, inputs)
            .covering(vec![vec!["day".to_owned()]]);
        let text = Routine::from_steps(vec![step.clone()]).to_text(str::to_owned).unwrap();
        let again =
            Routine::parse("again.toml", &text).unwrap_or_else(|error| panic!("{text}\n{error}"));
        assert_eq!(
            (&again.steps[0].settings, &again.steps[0].inputs),
            (&step.settings, &step.inputs),
            "{text}"
        );
    }
}

#[test]
fn a_missing_file_is_named() {
    let missing = demo().directory.join("harbor.toml");
    let error = Routine::file(Path::new(&missing)).unwrap_err().to_string();
    assert!(
        error.contains("no such file or directory. Did you mean") && error.contains("harbour.toml"),
        "{error}"
    );
}

#[rstest]
#[case::all(json!({"read": {"day": "%d.%m.%y"}, "century": 1900, "date-order": "dmy",
    "missing": ["-"], "separator": ";", "encoding": "windows-1252", "decimal-comma": true,
        "most-unpacked": 1000}), None)]
#[case::tab(json!({"separator": "tab", "no-header": true, "no-quotes": true}), None)]
#[case::separator(json!({"separator": "::"}),
    Some("`separator` is `::`: expected one character such as ; or |, or the word tab"))]
#[case::quote(json!({"separator": "\""}), Some("`separator` is `\"`: expected one character"))]
fn reading_settings_can_be_serialized(#[case] settings: Value, #[case] error: Option<&str>) {
    match (serde_json::from_value::<Reading>(settings.clone()), error) {
        (Ok(read), None) => assert_eq!(serde_json::to_value(&read).unwrap(), settings),
        (Err(told), Some(error)) => assert!(told.to_string().contains(error), "{told}"),
        (told, _) => panic!("{:?}", told.err()),
    }
}

#[test]
fn the_routine_sets_the_time_zone_and_the_reading() {
    let directory = tempfile::tempdir().unwrap();
    fs::write(
        directory.path().join("log.csv"),
        "at;n\n29.03.25 23:30 +0000;1,5\n30.03.25 23:30 +0000;-\n",
    )
    .unwrap();
    let text = "zone = \"Europe/Lisbon\"\n[[step]]\nread = { file = \"log.csv\", separator \
        = \";\", missing = \"-\", decimal-comma = true, century = 2000, \
        read = { at = \"%d.%m.%y %H:%M %z\" } }\ntotals = { date = \"at\", sum = \"n\", count = \
        true }\n";
    let wrong = text.replace("missing = \"-\"", "missing = true");
    let error = Routine::parse("r.toml", &wrong).unwrap_err().to_string();
    assert!(error.contains("r.toml:3:8") && error.contains("`missing` is true"), "{error}");
    let routine = Routine::parse("r.toml", text).unwrap();
    let files = Disk::in_directory(directory.path());
    let run = RunSettings::on(&files, today());
    let mut csv = Vec::new();
    let mut answer = jembric::io::Writing::new().batches(&mut csv);
    routine
        .check(&run)
        .unwrap()
        .run(&mut |batch| Ok(answer.write(batch)?), &mut |_| Ok(()))
        .unwrap();
    assert_eq!(
        String::from_utf8(csv).unwrap(),
        "day,sum_n,count\n2025-03-29,1.5,1\n2025-03-31,0.0,1\n"
    );
}

/// The demo's files, and the columns that were read from each.
#[derive(Default)]
struct Watched(RefCell<Vec<String>>);

impl Files for Watched {
    fn table(&self, file: &str, reading: &Reading) -> jembric::Result<Table> {
        let table = demo().table(file, reading)?;
        let names: Vec<&str> = table.names().collect();
        self.0.borrow_mut().push(format!("{file}: {}", names.join(" ")));
        Ok(table)
    }

    fn shape(&self, file: &str, reading: &Reading) -> jembric::Result<Option<Shape>> {
        demo().shape(file, reading)
    }
}

#[rstest]
#[case::totals("read = \"dues.csv\"\ntotals = { date = \"issued\", sum = \"amount as owed\" }",
    &["dues.csv: issued amount"])]
#[case::counted("read = \"dues.csv\"\ntotals = { count = true }", &["dues.csv: invoice"])]
#[case::whole("read = \"dues.csv\"\nfilter = \"amount > 3\"",
    &["dues.csv: invoice vessel class issued due paid amount"])]
#[case::later(
    "read = \"dues.csv\"\nfilter = \"amount > 3\"\n[[step]]\nelapsed = { from = \"due\", to \
        = \"paid\" }\n[[step]]\ncolumns = \"class as sort, elapsed_days\"",
    &["dues.csv: class due paid amount"]
)]
#[case::rows_decide(
    "read = \"gauge.csv\"\nrunning = { date = \"day\", count = true, row-by-row = true \
        }\n[[step]]\ncolumns = \"count_so_far\"",
    &["gauge.csv: day"]
)]
#[case::windows(
    "read = \"lifts.csv\"\nwithin = { windows = \"stays.csv\", match = \"vessel\", date \
        = \"lifted_on\", window = \"arrived..left\" }\n[[step]]\ntotals = { per = \"berth\", sum \
        = \"tons_window\" }",
    &["lifts.csv: lifted_on vessel tons", "stays.csv: vessel berth arrived left tons"]
)]
#[case::brought(
    "read = \"lifts.csv\"\nwithin = { windows = \"stays.csv\", match = \"vessel\", date \
        = \"lifted_on\", window = \"arrived..left\", bring = \"berth\" }\n[[step]]\ntotals = { \
        per = \"berth\", sum = \"tons\" }",
    &["lifts.csv: lifted_on vessel tons", "stays.csv: vessel berth arrived left"]
)]
#[case::either_window(
    "read = \"lifts.csv\"\nwithin = { windows = \"stays.csv\", match = \"vessel\", date \
        = \"lifted_on\", window = \"arrived..left\", pick = \"last\" }\n[[step]]\ntotals = { per \
        = \"berth\", count = true }",
    &["lifts.csv: lifted_on vessel crane tons", "stays.csv: stay vessel berth arrived left tons"]
)]
#[case::stacked(
    "read = \"fuel_in.csv\"\nstack = { files = [\"fuel_out.csv\"], source = \"book\" \
        }\n[[step]]\ntotals = { per = [\"book\", \"vessel\"], count = true }",
    &["fuel_in.csv: day", "fuel_out.csv: vessel"]
)]
#[case::twice(
    "name = \"d\"\nread = \"dues.csv\"\nsort = \"due\"\n[[step]]\ntotals = { per = \"class\", \
        count = true }\nwrite = \"c.csv\"\n[[step]]\nfrom = \"d\"\ntotals = { per = \"vessel\", \
        count = true }\nwrite = \"v.csv\"\n[[step]]\nread = \"dues.csv\"\ntotals = { sum \
        = \"amount\" }",
    &["dues.csv: vessel class due amount"]
)]
#[case::latest(
    "read = \"stays.csv\"\nlatest = { per = \"vessel\", date = \"left\" }\n[[step]]\ncolumns \
        = \"berth\"",
    &["stays.csv: vessel berth left"]
)]
fn only_used_columns_are_read_and_the_result_is_the_same(
    #[case] steps: &str,
    #[case] read: &[&str],
) {
    let routine = Routine::parse("r.toml", &format!("[[step]]\n{steps}\n")).unwrap();
    let answer = |whole: bool| {
        let files = Watched::default();
        let mut run = RunSettings::on(&files, today());
        run.aside = whole;
        let (mut csv, mut ledgers) = (Vec::new(), Vec::new());
        let mut answer = jembric::io::Writing::new().batches(&mut csv);
        let checked = routine.check(&run).unwrap();
        checked
            .run(&mut |batch| Ok(answer.write(batch)?), &mut |ran| {
                ledgers.push(ran.outcome.ledger.to_string());
                Ok(())
            })
            .unwrap();
        (csv, ledgers, files.0.into_inner())
    };
    let (csv, ledgers, of_files) = answer(false);
    assert_eq!(of_files, read);
    assert_eq!((csv, ledgers), {
        let (csv, ledgers, _) = answer(true);
        (csv, ledgers)
    });
}

#[rstest]
#[case::to_the_end(
    "recent = { date = \"day\", range = \"2024\" }\n[[step]]\nfilter = \"n > 3000 or n is \
        missing\"\n[[step]]\nadd = \"m = n * 2\"\n[[step]]\nelapsed = { from = \"day\", to \
        = \"2025-06-30\", bands = [0, 300] }\n[[step]]\ncolumns = \"m, elapsed_days_band as band\"",
    0
)]
#[case::in_between(
    "active = { start = \"day\", end = \"until\" }\n[[step]]\nfilter = \"n > 50\"\n[[step]]\nadd \
        = \"double = n * 2\"\n[[step]]\ntotals = { per = [\"day_2\"], sum = [\"double\"] }",
    1
)]
#[case::used_twice(
    "name = \"a\"\nactive = { start = \"day\", end = \"until\", name = \"d\" }\n[[step]]\nfilter \
        = \"n > 50\"\nwrite = \"x.csv\"\n[[step]]\nfrom = \"a\"\nfilter = \"n > 90000\"",
    2
)]
fn rows_in_batches_give_the_same_result_and_ledger(#[case] steps: &str, #[case] made_whole: usize) {
    let directory = tempfile::tempdir().unwrap();
    let mut csv = "n,day,until,tons\n".to_owned();
    for n in 0_u32..150_000 {
        let day = if n % 1000 == 7 {
            String::new()
        } else {
            format!("202{}-0{}-11", n % 3 + 3, n % 9 + 1)
        };
        let until = if day.is_empty() { String::new() } else { day.replace("-11", "-12") };
        let number = if n % 77 == 5 { String::new() } else { (n % 100_000).to_string() };
        // Blank lines, so that rows are not on consecutive lines.
        csv.push_str(&format!(
            "{}{number},{day},{until},{}.5\n",
            if n % 999 == 3 { "\n" } else { "" },
            n % 50
        ));
    }
    fs::write(directory.path().join("r.csv"), csv).unwrap();
    let steps =
        steps.replace("day_2", "d").replace("end = \"until\" }", "end = \"until\", name = \"d\" }");
    let routine =
        Routine::parse("r.toml", &format!("[[step]]\nread = \"r.csv\"\n{steps}\n")).unwrap();
    let files = Disk::in_directory(directory.path());
    let answer = |follow: Option<&str>| {
        let mut run = RunSettings::on(&files, today());
        // If rows are followed, every result is needed, and so each is made as a whole.
        run.follow = follow.map(|condition| condition.parse().unwrap());
        let (mut csv, mut told, mut whole) = (Vec::new(), Vec::new(), 0);
        let mut answer = jembric::io::Writing::new().batches(&mut csv);
        let checked = routine.check(&run).unwrap();
        checked
            .run(&mut |batch| Ok(answer.write(batch)?), &mut |ran| {
                let mut ledger = ran.outcome.ledger.clone();
                ledger.followed = None;
                assert!(ledger.balances());
                let aside: Vec<String> = if ran.set_aside.rows() > 0 {
                    text_of(&ran.set_aside.head(usize::MAX).unwrap(), "set_aside_because")
                } else {
                    Vec::new()
                };
                told.push(format!("{ledger} {aside:?}"));
                whole += usize::from(ran.outcome.table.rows() > 0);
                Ok(())
            })
            .unwrap();
        (csv, told, whole)
    };
    let (csv, told, whole) = answer(None);
    let (expected_csv, expected_told, _) = answer(Some("true"));
    assert_eq!(told, expected_told);
    assert!(csv == expected_csv && csv.len() > 100);
    assert_eq!(whole, made_whole, "answers in between are not made");
}

#[test]
fn a_number_keeps_all_its_digits_or_is_refused() {
    let opening = |number: &str| {
        let text = format!(
            "[[step]]\nread = \"dues.csv\"\nrunning = {{ date = \"issued\", sum = [\"amount\"], \
                opening = {number} }}"
        );
        let routine = Routine::parse("o.toml", &text)?;
        let files = demo();
        let running = RunSettings::on(&files, today());
        let mut first = None;
        routine.check(&running)?.run(
            &mut |batch| {
                let sum = batch.column("sum_so_far_amount")?;
                first.get_or_insert(
                    sum.as_primitive::<jembric::arrow::types::Decimal128Type>().value(0),
                );
                Ok(())
            },
            &mut |_| Ok(()),
        )?;
        Ok::<_, Error>(first)
    };
    let plain = opening("0").unwrap().unwrap();
    assert_eq!(opening("9007199254740993.25").unwrap(), Some(plain + 900_719_925_474_099_325));
    for number in ["99999999999999999999", "nan", "inf", "1e3"] {
        let error = opening(number).unwrap_err().to_string();
        assert!(error.contains("`opening`: `"), "{number}: {error}");
    }
}

/// A pattern stands for the files that match it, in the order of their names.
#[rstest]
#[case::several("stack = ['days-*.csv']", Ok("days-1.csv days-10.csv days-2.csv"))]
#[case::beside_others(
    "read = 'all.csv'\nstack = ['days-?.csv']",
    Ok("all.csv days-1.csv days-2.csv")
)]
#[case::in_a_directory("stack = ['deeper/*.csv']", Ok("deeper/days-3.csv"))]
#[case::a_name_with_a_star("stack = ['odd*.csv']", Ok("odd*.csv"))]
#[case::no_file("stack = ['weeks-*.csv']", Err("no file matches `weeks-*.csv`"))]
#[case::one_table(
    "read = 'days-*.csv'\nlatest = { date = 'day' }",
    Err("`days-*.csv` is a pattern, and latest reads one file")
)]
#[case::invalid("stack = ['days-***.csv']", Err("`days-***.csv` is no valid pattern"))]
fn patterns_stand_for_files(#[case] step: &str, #[case] expected: Result<&str, &str>) {
    // What is special in the directory's own name is not.
    let directory = tempfile::Builder::new().prefix("[days]*").tempdir().unwrap();
    fs::create_dir(directory.path().join("deeper")).unwrap();
    for name in ["days-1", "days-2", "days-10", "all", "odd*", "odd-1", "deeper/days-3"] {
        let text = format!("day\n2025-06-{:02}\n", name.len());
        fs::write(directory.path().join(format!("{name}.csv")), text).unwrap();
    }
    let path = directory.path().join("days.toml");
    fs::write(&path, format!("[[step]]\n{step}\n")).unwrap();
    match (Routine::file(&path), expected) {
        (Ok(routine), Ok(expected)) => {
            assert_eq!(routine.files_read().collect::<Vec<_>>().join(" "), expected);
            let files = Routine::files_beside(&path);
            let running = RunSettings::on(&files, today());
            routine.check(&running).unwrap().run(&mut |_| Ok(()), &mut |_| Ok(())).unwrap();
        }
        (Err(Error::Routine(mistaken)), Err(expected)) => {
            assert!(mistaken.problem.contains(expected), "{mistaken}");
            assert!(mistaken.text[mistaken.at.clone()].contains('*'), "{mistaken}");
        }
        (other, _) => panic!("{other:?}"),
    }
}
