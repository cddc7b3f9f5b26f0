//! Every setting accepts and refuses the same values in Rust, in a routine and on the command line,
//! with the same message.

use crate::harness::run;
use jembric::{
    Context, Earliest, Filled, Latest, Setting, Table, Takes,
    arrow::{ArrayRef, Date32Array},
    calendar::Day,
    routine::Routine,
    run::RunSettings,
    settings::{Given, GivenSettings},
    steps::{Described, Disk, OPERATIONS, Reads},
};
use rstest::rstest;
use std::{fs, sync::Arc};
use tempfile::TempDir;

/// A value that a setting accepts, and one that it refuses if there is any.
fn values(setting: &Setting) -> (String, Vec<&'static str>) {
    let (good, bad): (&str, &[&str]) = match setting.takes {
        Takes::OneOf(words) => (words[0], &["nonsense"]),
        Takes::Number if setting.least > 0 => ("3", &["0", "-1", "x", "1.5"]),
        Takes::Number => ("3", &["-1", "x", "1.5"]),
        Takes::Numbers => ("1,30", &["x", "1,y"]),
        Takes::Text("GRAIN") => ("month", &["moth", "decade"]),
        Takes::Text("SPAN") => ("9 months", &["soon"]),
        Takes::Text("N GRAIN") => ("2 quarters", &["0 months", "two"]),
        Takes::Text("WEEKDAY") => ("Sunday", &["Funday"]),
        Takes::Text("MONTH") => ("April", &["Juli", "13"]),
        Takes::Text("NUMBER") => ("12.50", &["1e3", "a lot"]),
        Takes::Text("DATE") => ("2025-06-30", &["2025-02-30"]),
        Takes::Text(word) if word.contains("START") || setting.name == "window" => {
            ("a..b", &["a", ".."])
        }
        Takes::Text(word) if word.contains("A..B") => ("2025-01..2025-06", &["2025-13", "x"]),
        Takes::Text("WIDTHxHEIGHT") => ("1280x800", &["1x1", "large"]),
        Takes::Text("TEXT") => ("Levels", &[]),
        Takes::Texts("VALUE = LABEL") => ("3 = high", &["high"]),
        Takes::Texts("COL=VALUE") => ("a=1", &[]),
        Takes::Texts("GRAIN|all,…") => ("year", &[]),
        Takes::Texts(_) => ("9999-12-31", &["2025-02-30"]),
        Takes::Several(_) if setting.name == "columns" => ("more = 1", &[]),
        _ => ("day", &[]),
    };
    (good.to_owned(), bad.to_vec())
}

/// Whether a value can be typed. Files of days and entities are read before the setting is.
fn is_typed(setting: &Setting) -> bool {
    !matches!(setting.takes, Takes::Yes | Takes::Days | Takes::Entities)
}

/// The required settings of an operation, and one more.
fn settings(operation: &Described, name: &str, value: &str) -> Vec<(&'static Setting, String)> {
    let chosen =
        operation.settings.iter().filter(|setting| setting.required || setting.name == name);
    let given = |setting: &'static Setting| {
        if setting.name == name {
            (setting, value.to_owned())
        } else {
            (setting, values(setting).0)
        }
    };
    chosen.map(given).collect()
}

fn in_rust(operation: &Described, given: &[(&Setting, String)]) -> Result<(), String> {
    let mut settings = GivenSettings::default();
    given.iter().for_each(|(setting, value)| settings.insert(setting.name, value.as_str()));
    operation.step(&settings, Vec::new()).map(drop).map_err(|error| {
        assert!(given.iter().any(|(setting, _)| error.setting() == Some(setting.name)), "{error}");
        error.to_string()
    })
}

/// What a check of a routine with these settings reports.
fn in_toml(
    operation: &Described,
    given: &[(&Setting, String)],
    directory: &TempDir,
) -> Option<String> {
    let settings: Vec<String> =
        given.iter().map(|(setting, value)| format!("{} = {value:?}", setting.name)).collect();
    let further = match operation.reads {
        Reads::EventsAndWindows => ", windows = \"stays.csv\"",
        Reads::NowAndBefore => ", before = \"stays.csv\"",
        Reads::Covering => ", covering = [\"stays.csv:day\"]",
        _ => "",
    };
    let settings = format!("{}{further}", settings.join(", "));
    let settings = settings.trim_start_matches(", ");
    let text = format!("[[step]]\nread = \"stays.csv\"\n{} = {{ {settings} }}\n", operation.name);
    let files = Disk::in_directory(directory.path());
    let routine = Routine::parse("r.toml", &text).unwrap_or_else(|error| panic!("{text}\n{error}"));
    let run = RunSettings::on(&files, "2025-06-30".parse::<Day>().unwrap());
    routine.check(&run).err().map(|error| error.to_string())
}

/// What the command reports, in one line, and its exit status.
fn typed(
    operation: &Described,
    given: &[(&Setting, String)],
    directory: &TempDir,
) -> (String, i32) {
    let mut words = vec![operation.name.to_owned()];
    words.extend(match operation.reads {
        Reads::OneTable | Reads::SeveralTables => vec!["stays.csv".to_owned()],
        Reads::EventsAndWindows | Reads::NowAndBefore => {
            vec!["stays.csv".to_owned(), "stays.csv".to_owned()]
        }
        Reads::Covering => vec!["--covering".to_owned(), "stays.csv:day".to_owned()],
        _ => panic!("{} reads in a way that this test does not know", operation.name),
    });
    for (setting, value) in given {
        match setting.takes {
            Takes::Expression | Takes::Several(_) | Takes::List(_) => words.push(value.clone()),
            _ => words.push(format!("--{}={value}", setting.name)),
        }
    }
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    let ended = run(directory.path(), &words);
    (ended.err.split_whitespace().collect::<Vec<_>>().join(" "), ended.code)
}

fn stays() -> TempDir {
    let directory = TempDir::new().unwrap();
    fs::write(directory.path().join("stays.csv"), "day,a,b\n2025-06-30,2025-06-01,2025-06-02\n")
        .unwrap();
    directory
}

#[test]
fn every_setting_accepts_and_refuses_the_same_values_in_every_face() {
    let directory = stays();
    let mut refused = 0;
    for operation in OPERATIONS {
        for setting in operation.settings.iter().filter(|setting| is_typed(setting)) {
            let (good, bad) = values(setting);
            let given = settings(operation, setting.name, &good);
            let place = format!("{} {} = {good}", operation.name, setting.name);
            assert_eq!(in_rust(operation, &given), Ok(()), "{place}");
            let refused_value =
                |told: &str| told.contains("cannot be read as") || told.contains("is not a ");
            assert!(
                !in_toml(operation, &given, &directory).is_some_and(|told| refused_value(&told)),
                "{place}"
            );
            let (told, code) = typed(operation, &given, &directory);
            assert_ne!(code, 2, "{place}: {told}");

            for bad in bad {
                refused += 1;
                let given = settings(operation, setting.name, bad);
                let place = format!("{} {} = {bad}", operation.name, setting.name);
                let fact = in_rust(operation, &given).expect_err(&place);
                let in_toml = in_toml(operation, &given, &directory).expect(&place);
                assert!(in_toml.contains(&fact), "{place}: {fact}\n{in_toml}");
                let (told, code) = typed(operation, &given, &directory);
                assert_eq!(code, 2, "{place}: {told}");
                match setting.takes {
                    // The argument parser refuses unknown words itself, and lists the known ones.
                    Takes::OneOf(words) => {
                        assert!(
                            words.iter().all(|word| told.contains(word) && fact.contains(word)),
                            "{told}"
                        );
                    }
                    _ => assert!(told.contains(&fact), "{place}: {fact}\n{told}"),
                }
            }
        }
    }
    assert!(refused > 60, "{refused}");
}

/// Values that Rust's types allow are refused by `prepare`, with the same message.
#[rstest]
#[case(Latest::new("day").newest(0).apply(&day()), "`newest` is 0: expected a whole number from 1")]
#[case(Earliest::new("day").oldest(0).apply(&day()),
    "`oldest` is 0: expected a whole number from 1")]
#[case(Filled::new("day").carry(["day"]).limit(0).apply(&day()),
    "`limit` is 0: expected a whole number from 1")]
fn a_range_holds_for_builders_too(
    #[case] outcome: Result<jembric::Outcome, jembric::CoreError>,
    #[case] fact: &str,
) {
    assert_eq!(outcome.unwrap_err().to_string(), fact);
}

fn day() -> Table {
    Table::from_columns([("day", Arc::new(Date32Array::from(vec![20_000])) as ArrayRef)]).unwrap()
}

#[test]
fn an_unknown_setting_gets_the_nearest_name_and_a_repeated_one_is_refused() {
    let directory = stays();
    let latest = OPERATIONS.iter().find(|operation| operation.name == "latest").unwrap();
    let mut given = GivenSettings::default();
    given.insert("date", "day");
    given.insert("newst", 2_i64);
    let error = latest.step(&given, Vec::new()).err().unwrap();
    assert_eq!(error.setting(), Some("newst"));
    assert_eq!(error.to_string(), "latest has no setting `newst`. Did you mean `newest`?");
    let from_json = serde_json::from_str::<Latest>(r#"{"date": "day", "newst": 2}"#).unwrap_err();
    assert!(from_json.to_string().contains(&error.to_string()), "{from_json}");
    let toml = "[[step]]\nread = \"stays.csv\"\nlatest = { date = \"day\", newst = 2 }\n";
    let in_toml = Routine::parse("r.toml", toml).unwrap_err().to_string();
    assert!(
        in_toml.contains("`newst` is not a setting of latest") && in_toml.contains("`newest`"),
        "{in_toml}"
    );

    let twice =
        "[[step]]\nread = \"stays.csv\"\nlatest = { date = \"day\", newest = 2, newest = 3 }\n";
    assert!(Routine::parse("r.toml", twice).unwrap_err().to_string().contains("duplicate key"));
    for (words, told) in [
        (vec!["--date=day", "--newst=2"], "--newest"),
        (vec!["--date=day", "--newest=2", "--newest=3"], "cannot be used multiple times"),
    ] {
        let ended = run(directory.path(), &[vec!["latest", "stays.csv"], words].concat());
        assert!(ended.code == 2 && ended.err.contains(told), "{}", ended.err);
    }
}

/// A list is one text with commas, several texts, or a repeated option.
#[rstest]
#[case("per", &["--per=a,b"])]
#[case("per", &["--per=a", "--per=b"])]
#[case("then", &["--then", "a,b"])]
fn a_list_is_the_same_in_every_face(#[case] setting: &str, #[case] words: &[&str]) {
    let directory = stays();
    let latest = OPERATIONS.iter().find(|operation| operation.name == "latest").unwrap();
    for list in [Given::from("a,b"), ["a", "b"].into_iter().collect::<Given>()] {
        let mut given = GivenSettings::default();
        given.insert("date", "day");
        given.insert(setting, list);
        assert!(latest.step(&given, Vec::new()).is_ok());
    }
    let saved = directory.path().join("saved.toml");
    let first = ["latest", "stays.csv", "--date=day", "--save-routine=saved.toml"];
    let ended = run(directory.path(), &[&first[..], words].concat());
    assert_eq!(ended.code, 0, "{}", ended.err);
    let text = fs::read_to_string(saved).unwrap();
    assert!(text.contains(&format!("{setting} = [\"a\", \"b\"]")), "{text}");
}

#[test]
fn an_operation_and_its_plan_go_from_thread_to_thread() {
    fn goes<T: Send + Sync>(_: &T) {}
    let latest = Latest::new("day");
    goes(&latest);
    goes(&latest.prepare(&day().shape(), &Context::new()).unwrap());
}
