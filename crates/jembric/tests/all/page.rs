//! The report page of a routine: mistakes with their places, and files that appear together or not
//! at all. What a reader sees of it is tested in a browser, with the command.

use jembric::{
    Error,
    calendar::Day,
    routine::{Routine, Show},
    run::RunSettings,
    steps::Disk,
};
use rstest::rstest;
use std::{fs, path::Path};
use tempfile::TempDir;

fn today() -> Day {
    "2025-06-30".parse().unwrap()
}

fn demo() -> Disk {
    Disk::in_directory(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo"))
}

const CURRENT: &str = "as-of = \"2025-06-30\"\n[[step]]\nname = \"current\"\nread = \
    \"inspections.csv\"\nlatest = { per = [\"vessel\"], date = \"inspected_on\" }\n";
const DUES: &str = "[[step]]\nname = \"dues\"\nread = \"dues.csv\"\n";

/// What is wrong with a text, the part that is marked, and what to do.
fn mistake(text: &str) -> (String, String, String) {
    let checked = Routine::parse("r.toml", text).and_then(|routine| {
        let (files, mut run) = (demo(), None);
        let run = run.insert(RunSettings::on(&files, today()));
        run.guess = true;
        routine.check(run).map(drop)
    });
    match checked.unwrap_err() {
        Error::Routine(mistaken) => {
            let marked = mistaken.text[mistaken.at.clone()].to_owned();
            (mistaken.problem.clone(), marked, mistaken.advice.clone())
        }
        other => panic!("{other}"),
    }
}

#[rstest]
#[case::figure(
    format!("{CURRENT}say = \"Of {{rows}} vessels, {{numbr of x}}\""),
    "`numbr` is not a figure", "{numbr of x}", "a placeholder begins with rows"
)]
#[case::column(
    format!("{CURRENT}say = \"{{newest of inspected}}\""),
    "there is no column `inspected`. Did you mean `inspected_on` or `inspector`?",
    "{newest of inspected}", ""
)]
#[case::kind(
    format!("{CURRENT}say = \"{{rows}} {{sum of vessel}}\""),
    "column `vessel` holds text, but numbers are required", "{sum of vessel}", ""
)]
#[case::step(
    format!("{CURRENT}heading = \"{{rows of currant}}\""),
    "no step is named `currant`", "{rows of currant}", "did you mean `current`?"
)]
#[case::later_step_column(
    format!("{CURRENT}say = \"{{sum of amont of dues}}\"\n{DUES}sort = \"amount\""),
    "there is no column `amont`. Did you mean `amount`?", "{sum of amont of dues}", ""
)]
#[case::brace(
    format!("{CURRENT}say = \"{{rows\""), "the brace `{` has no partner", "{", "write `{{`"
)]
#[case::no_as_of(
    format!("{DUES}sort = \"amount\"\nsay = \"On {{as-of}}\""),
    "there is no as-of date", "{as-of}", "set it above the steps: as-of = \"2025-06-30\""
)]
#[case::show(
    format!("{CURRENT}show = [\"picture\", \"tabel\"]"),
    "`tabel` is not a way to show a result", "\"tabel\"", "did you mean `table`?"
)]
#[case::show_no_list(
    format!("{CURRENT}show = \"table\""), "this is not a list", "\"table\"", "write it in brackets"
)]
#[case::grain(
    format!("{DUES}totals = {{ date = [\"issued\"], grain = [\"year\", \"mnth\"] }}"),
    "`mnth` is not a grain. Did you mean `month`?", "[\"year\", \"mnth\"]", ""
)]
#[case::no_grain(
    format!("{DUES}totals = {{ date = [\"issued\"], grain = [] }}"),
    "the list of grains is empty", "[]", "list the grains: [\"year\", \"month\"]"
)]
#[case::grain_twice(
    format!("{DUES}totals = {{ date = [\"issued\"], grain = [\"year\", \"year\"] }}"),
    "the grain `year` is listed twice", "\"year\"", "remove one"
)]
#[case::grains_of_others(
    format!(
        "{DUES}active = {{ start = \"issued\", end = \"due\", grain = [\"year\", \"month\"] }}"
    ),
    "`grain` is [year, month]: expected GRAIN", "[\"year\", \"month\"]", ""
)]
#[case::picture_of_a_grain(
    format!("{DUES}totals = {{ date = [\"issued\"], grain = [\"year\", \"month\"] }}\n[[step]]\n\
        draw = {{ along = \"year\" }}"),
    "there is no column `year`", "\"year\"", ""
)]
#[case::page_name(
    format!("page = \"dues.htlm\"\n{DUES}sort = \"amount\""),
    "`page`: `dues.htlm` has no file extension of a page: expected a name that ends in .html",
    "\"dues.htlm\"", ""
)]
#[case::page_date(
    format!("page = \"dues-{{as-of}}.html\"\n{DUES}sort = \"amount\""),
    "`dues-{as-of}.html` contains the as-of date, and there is none", "\"dues-{as-of}.html\"",
    "set it above the steps"
)]
#[case::page_and_file(
    format!("page = \"./dues.html\"\n{DUES}sort = \"amount\"\nwrite = \"dues.html\""),
    "the page is written to `./dues.html` as well", "\"dues.html\"", "choose another name"
)]
fn mistakes_are_marked(
    #[case] text: String,
    #[case] problem: &str,
    #[case] marked: &str,
    #[case] advice: &str,
) {
    let told = mistake(&text);
    assert!(told.0.contains(problem), "{told:?}");
    assert_eq!(told.1, marked, "{told:?}");
    assert!(told.2.starts_with(advice) && advice.is_empty() == told.2.is_empty(), "{told:?}");
}

/// Runs a routine in a directory with some dues, and returns the names of all files there.
fn run(routine: &str, directory: &Path, page: Option<&str>) -> Result<(), Error> {
    fs::write(directory.join("dues.csv"), "class,issued,amount\nbulk,2025-01-31,7.50\n,,\n")
        .unwrap();
    let routine = Routine::parse("r.toml", routine)?;
    let files = Disk::in_directory(directory);
    let mut run = RunSettings::on(&files, today());
    run.into = Some(directory.to_owned());
    run.page = page.map(|page| directory.join(page));
    routine.check(&run)?.run(&mut |_| Ok(()), &mut |_| Ok(())).map(drop)
}

fn names(directory: &Path) -> Vec<String> {
    let entries = fs::read_dir(directory).unwrap();
    let mut names: Vec<String> =
        entries.map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    names.sort();
    names
}

#[rstest]
fn the_page_and_the_files_of_steps_appear_together() {
    let directory = tempfile::tempdir().unwrap();
    let text = format!(
        "as-of = \"2025-06-30\"\npage = \"d-{{as-of}}.html\"\n{DUES}filter = \"amount > 1\"\n\
            write = \"d.csv\"\n"
    );
    run(&text, directory.path(), None).unwrap();
    assert_eq!(names(directory.path()), ["d-2025-06-30.html", "d.csv", "dues.csv"]);
    let first = fs::read(directory.path().join("d-2025-06-30.html")).unwrap();
    // The same rows give the same bytes.
    run(&text, directory.path(), None).unwrap();
    assert_eq!(fs::read(directory.path().join("d-2025-06-30.html")).unwrap(), first);
}

#[rstest]
#[case::no_directory("none/d.html", "No incomplete file was left")]
#[case::no_html("dues.csv", "expected a name that ends in .html")]
#[case::text("d.txt", "expected a name that ends in .html")]
fn without_a_page_no_file_appears(#[case] page: &str, #[case] message: &str) {
    let directory = tempfile::tempdir().unwrap();
    let text = format!(
        "{DUES}sort = \"amount\"\nwrite = \"d.csv\"\n[[step]]\ndraw = {{ write = \"d.svg\" }}\n"
    );
    let error = run(&text, directory.path(), Some(page)).unwrap_err().to_string();
    assert!(error.contains(message), "{error}");
    assert_eq!(names(directory.path()), ["dues.csv"]);
}

#[cfg(unix)]
#[test]
fn a_page_replaces_neither_an_input_nor_another_output_by_another_name() {
    use std::os::unix::fs::symlink;
    let directory = tempfile::tempdir().unwrap();
    let path = |name: &str| directory.path().join(name);
    symlink(path("dues.csv"), path("input.html")).unwrap();
    symlink(path("d.csv"), path("output.html")).unwrap();
    let text = format!("{DUES}sort = \"amount\"\nwrite = \"d.csv\"\n");
    let told = |page| run(&text, directory.path(), Some(page)).unwrap_err().to_string();
    assert!(told("input.html").contains("would overwrite an input file"));
    assert!(told("output.html").contains("would be written to the same file"));
    assert!(fs::read_to_string(path("dues.csv")).unwrap().starts_with("class,issued"));
    assert!(!path("d.csv").exists());
}

#[rstest]
#[case::picture(
    "columns = [\"class\"]",
    "show = [\"picture\"]",
    "the result cannot be drawn: `along`: the picture needs a column of dates"
)]
#[case::column(
    "totals = { side-by-side = \"class\" }",
    "say = \"{sum of bulky}\"",
    "there is no column `bulky`"
)]
#[case::kind("filter = \"true\"", "say = \"{newest of amount}\"", "but dates are required")]
fn what_is_known_only_from_the_data_is_reported_before_any_file_appears(
    #[case] step: &str,
    #[case] page: &str,
    #[case] message: &str,
) {
    let directory = tempfile::tempdir().unwrap();
    let text = format!("page = \"d.html\"\n{DUES}{step}\nwrite = \"d.csv\"\n{page}\n");
    let error = run(&text, directory.path(), None).unwrap_err().to_string();
    assert!(error.contains(message), "{error}");
    // The line of the sentence is marked.
    assert!(error.contains(page.split(" = ").next().unwrap()), "{error}");
    assert_eq!(names(directory.path()), ["dues.csv"]);
}

#[test]
fn the_page_of_a_routine_survives_saving() {
    let text = "page = \"d.html\"\n\n[[step]]\nheading = \"Dues of {as-of}\"\nsay = \"{rows}\"\n\
        show = [\"picture\"]\nread = \"dues.csv\"\n\
        totals = { date = [\"issued\"], grain = [\"year\", \"month\"] }\n";
    let routine = Routine::parse("r.toml", text).unwrap();
    let step = &routine.steps[0];
    assert_eq!(step.page.show, Some(vec![Show::Picture]));
    assert_eq!(step.grains, ["year", "month"]);
    let saved = routine.to_text(str::to_owned).unwrap();
    let again = Routine::parse("again.toml", &saved).unwrap();
    assert_eq!(again.page, routine.page);
    assert_eq!((&again.steps[0].page, &again.steps[0].grains), (&step.page, &step.grains));
    assert_eq!(again.to_text(str::to_owned).unwrap(), saved);
}

#[test]
fn a_routine_without_text_has_a_page_as_well() {
    let directory: TempDir = tempfile::tempdir().unwrap();
    let parsed = Routine::parse("r.toml", &format!("{DUES}sort = \"amount\"\n")).unwrap();
    let routine = Routine::from_steps(parsed.steps);
    let (files, page) = (demo(), directory.path().join("d.html"));
    let mut run = RunSettings::on(&files, today());
    run.page = Some(page.clone());
    routine.check(&run).unwrap().run(&mut |_| Ok(()), &mut |_| Ok(())).unwrap();
    let html = fs::read_to_string(page).unwrap();
    assert!(html.contains("sort = "), "the page has the steps");
    assert!(html.contains("There are no warnings, and no row was set aside."));
    // A run that stops before the last step has none.
    run.upto = Some(0);
    assert_eq!(routine.check(&run).unwrap().page_file(None).unwrap(), None);
}
