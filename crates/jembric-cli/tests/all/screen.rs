//! What a person sees on a terminal: tables that fit, ledgers, and no control characters.

use crate::harness::{harbour, on_a_terminal, run};
use jembric::calendar::Period;
use rstest::rstest;
use std::fs;
use tempfile::TempDir;

#[rstest]
fn a_terminal_shows_a_table_and_colour_adds_no_information(harbour: TempDir) {
    let latest = "latest inspections.csv --per vessel --date inspected_on --rows 2";
    let seen = on_a_terminal(harbour.path(), 90, latest, true);
    assert!(seen.contains(" inspected_on  vessel        inspector"), "{seen}");
    assert!(seen.contains("2 of 16 rows shown (--rows all)\n\nlatest per vessel"), "{seen}");
    assert!(seen.contains("\u{1b}[") && seen.contains("warning:"), "{seen}");
    let plain = on_a_terminal(harbour.path(), 90, latest, false);
    assert!(!plain.contains('\u{1b}') && plain.contains("  warning: 2 entities have"), "{plain}");

    let look = on_a_terminal(harbour.path(), 90, "look gauge.csv", false);
    assert!(look.contains("What looks wrong\n  - `level_m` is read as text"), "{look}");
    let mistake = on_a_terminal(harbour.path(), 90, "latest stays.csv --date arived", true);
    let expected =
        "error:\u{1b}[0m stays.csv: there is no column `arived`. Did you mean `arrived`?";
    assert!(mistake.contains(expected), "{mistake:?}");
}

/// Whether a word that begins like a date is a complete date.
fn is_whole(word: &str) -> bool {
    let word = word.trim_end_matches([',', ';', '.']);
    let is_date = |text: &str| text.parse::<Period>().is_ok();
    let looks_dated = word.len() > 4
        && word.as_bytes()[..4].iter().all(u8::is_ascii_digit)
        && word.as_bytes()[4] == b'-';
    !looks_dated
        || is_date(word)
        || word.split_once("..").is_some_and(|(a, b)| is_date(a) && is_date(b))
}

#[rstest]
#[case::look("look stays.csv gauge.csv dues.csv")]
#[case::latest("latest inspections.csv --per vessel --date inspected_on")]
#[case::latest_of_dues("latest dues.csv --per vessel --date issued --columns all")]
#[case::almanac("almanac --covering stays.csv:arrived --rows 5")]
#[case::all_of_almanac("almanac --covering stays.csv:arrived --rows 5 --columns all")]
#[case::within(
    "within lifts.csv stays.csv --match vessel --date lifted_on --window arrived..left --rows 9"
)]
fn nothing_is_wider_than_the_terminal_and_no_date_is_broken(
    harbour: TempDir,
    #[case] command: &str,
    #[values(80, 100, 126)] width: u16,
) {
    let seen = on_a_terminal(harbour.path(), width, command, false);
    for line in seen.lines() {
        // A suggested command stays on one line, so that it can be copied.
        if line.starts_with("  jembric ") {
            continue;
        }
        assert!(line.chars().count() <= width.into(), "{line}\n{seen}");
        assert!(line.split_whitespace().all(is_whole), "{line}\n{seen}");
    }
    assert!(!seen.contains("error:"), "{seen}");
}

#[rstest]
fn columns_that_do_not_fit_are_named_and_can_be_chosen(harbour: TempDir) {
    let almanac = "almanac --covering stays.csv:arrived -q";
    let seen = on_a_terminal(harbour.path(), 80, almanac, false);
    assert!(seen.contains("10 columns not shown: iso_year, iso_week, weekday"), "{seen}");
    assert!(seen.contains("(--columns all)") && seen.contains("20 of 542 rows shown"), "{seen}");
    let chosen = format!("{almanac} --columns covered,date --rows 1");
    let seen = on_a_terminal(harbour.path(), 80, &chosen, false);
    assert!(seen.starts_with(" covered  date\n"), "{seen}");
    let all = on_a_terminal(harbour.path(), 80, &format!("{almanac} --rows all"), false);
    assert!(all.lines().filter(|line| line.starts_with(" 202")).count() == 542, "{all}");
    // A wrong name is an error before the data is read.
    let wrong =
        run(harbour.path(), &["latest", "stays.csv", "--date", "arrived", "--columns", "tonns"]);
    assert_eq!(wrong.code, 1);
    assert_eq!(wrong.err, "error: there is no column `tonns`. Did you mean `tons`?\n");
    let wrong =
        run(harbour.path(), &["latest", "stays.csv", "--date", "arrived", "--rows", "some"]);
    assert!(wrong.err.contains("expected a number, or `all`"), "{}", wrong.err);
}

#[rstest]
fn ledgers_group_their_numbers_on_a_terminal_only(harbour: TempDir) {
    let rows: String = (0..1234).map(|n| format!("2025-01-{:02},{n}\n", n % 28 + 1)).collect();
    fs::write(harbour.path().join("many.csv"), format!("day,n\n{rows}")).unwrap();
    let seen = on_a_terminal(harbour.path(), 80, "filter many.csv 'n >= 0' --rows 3", false);
    assert!(seen.contains("rows in    1,234\n") && seen.contains("3 of 1,234 rows"), "{seen}");
    let piped = run(harbour.path(), &["filter", "many.csv", "n >= 0"]);
    assert!(piped.err.contains("rows in    1234\n"), "{}", piped.err);
}

/// Cells, column names and file names that would clear the screen, ring the bell, set the title or
/// change the direction of writing.
#[rstest]
#[case("look 'a\u{1b}[2J.csv'")]
#[case("latest 'a\u{1b}[2J.csv' --date day")]
#[case("latest 'a\u{1b}[2J.csv' --date day --columns all")]
#[case("latest 'a\u{1b}[2J.csv' --date 'n\u{7}'")]
#[case("filter 'a\u{1b}[2J.csv' '\u{202e} > 3'")]
#[case("totals 'a\u{1b}[2J.csv' --date day --side-by-side 'n\u{7}'")]
#[case("latest 'a\u{1b}[2J.csv' --per 'n\u{7}' --date day --ties refuse")]
#[case("'\u{1b}]0;title\u{7}'")]
fn nothing_in_the_data_reaches_the_terminal_raw(harbour: TempDir, #[case] command: &str) {
    let cells = "day,n\u{7}\n2025-01-01,\u{1b}]0;title\u{7}\n2025-01-01,\u{1b}]0;title\u{7}\n";
    fs::write(harbour.path().join("a\u{1b}[2J.csv"), format!("{cells}2025-01-02,\u{202e}\n"))
        .unwrap();
    let seen = on_a_terminal(harbour.path(), 80, command, false);
    let acts = |c: char| c.is_control() && c != '\n' || ('\u{202a}'..='\u{202e}').contains(&c);
    assert!(!seen.contains(acts), "{seen:?}");
    assert!(seen.contains("\\u{"), "{seen}");
}

/// A file whose dates or numbers cannot be used. The test adds the options that the message
/// suggests, and then the command must work.
#[rstest]
#[case::two_digit_years("observed,n\n25/11/63,1\n03/02/64,2\n", "latest x.csv --date observed")]
#[case::month_first("observed,n\n11/25/63,1\n02/03/64,2\n", "latest x.csv --date observed")]
#[case::points("the day,n\n25.11.24,1\n03.02.25,2\n", "latest x.csv --date 'the day'")]
#[case::with_time("at,n\n25.11.24 14:05,1\n03.02.25 09:30,2\n", "latest x.csv --date at")]
#[case::names("at,n\n25 Nov 24,1\n3 Feb 25,2\n", "latest x.csv --date at")]
#[case::compact("day,n\n20250630,1\n20250701,2\n", "latest x.csv --date day")]
#[case::months("month,n\n202506,1\n202507,2\n", "latest x.csv --date month")]
#[case::serials("day,n\n45838,1\n45839,2\n", "latest x.csv --date day")]
#[case::marks("day,n\n2025-06-30,1\nsoon,2\n2025-07-01,2\n", "latest x.csv --date day")]
#[case::format_and_marks(
    "day,n\n25/11/63,1\n-,2\n03/02/64,2\n04/02/64,2\n",
    "latest x.csv --date day"
)]
#[case::order("day,n\n03/04/2025,1\n", "latest x.csv --date day")]
#[case::dash("day,n\n2025-06-30,1\n2025-07-01,-\n2025-07-02,3\n", "totals x.csv --sum n")]
#[case::comma("day;n\n2025-06-30;1,5\n2025-07-01;2\n", "totals x.csv --sum n")]
#[case::keys("n,m\n1,2025-01-01\n", "within x.csv y.csv --match n --date m --window day..")]
#[case::quotes("day,n\n2025-06-30,\"1\n", "latest x.csv --date day")]
#[case::open("came,left\n2025-06-30,\n", "active x.csv --start came --end left --open-ends refuse")]
#[case::rows(
    "came,left\n2025-06-30,2025-07-09\n",
    "active x.csv --start came --end left --most-rows 3"
)]
#[case::tied("day,n\n2025-06-30,1\n2025-06-30,2\n", "latest x.csv --date day --ties refuse")]
fn a_suggested_option_works(harbour: TempDir, #[case] text: &str, #[case] command: &str) {
    fs::write(harbour.path().join("x.csv"), text).unwrap();
    fs::write(harbour.path().join("y.csv"), "n,day\na,2025-01-01\n").unwrap();
    let typed = crate::harness::words(command);
    let typed: Vec<&str> = typed.iter().map(String::as_str).collect();
    let refused = run(harbour.path(), &typed);
    assert_eq!(refused.code, 1, "{}", refused.err);
    // Of several suggestions separated by "or", take the first that names an option; options
    // joined by "and" belong together.
    let advice = refused.err.rsplit_once(". ").unwrap().1;
    let first = advice.split(" or ").find(|part| part.contains("`--")).unwrap();
    let options =
        first.split('`').filter(|part| part.starts_with("--")).flat_map(crate::harness::words);
    let options: Vec<String> = options.collect();
    // A suggested option replaces the one that was typed.
    let typed_already = typed.iter().position(|word| *word == options[0]);
    let kept = match typed_already {
        Some(place) => [&typed[..place], &typed[place + 2..]].concat(),
        None => typed,
    };
    let again: Vec<&str> = kept.into_iter().chain(options.iter().map(String::as_str)).collect();
    let ran = run(harbour.path(), &again);
    assert_eq!(ran.code, 0, "{again:?}: {}\n{}", ran.err, refused.err);
}

#[rstest]
fn a_misspelt_command_gets_the_one_nearest_name(harbour: TempDir) {
    let ran = run(harbour.path(), &["lates", "stays.csv"]);
    assert!(ran.err.contains("a similar subcommand exists: 'latest'"), "{}", ran.err);
    assert!(!ran.err.contains("earliest"), "{}", ran.err);
    let ran = run(harbour.path(), &["xyzzy"]);
    assert!(!ran.err.contains("similar"), "{}", ran.err);
}

#[rstest]
fn there_is_a_manual_page_for_each_command(harbour: TempDir) {
    let ran = run(harbour.path(), &["manual", "--into", "man/man1"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let pages = fs::read_dir(harbour.path().join("man/man1")).unwrap().count();
    assert!(ran.err.starts_with(&format!("{pages} manual pages in ")), "{}", ran.err);
    let page = fs::read_to_string(harbour.path().join("man/man1/jembric-latest.1")).unwrap();
    assert!(page.contains(".TH jembric-latest 1") && page.contains("\\-\\-date"), "{page}");
    let missing = run(harbour.path(), &["manual"]);
    assert!(missing.err.contains("--into <DIR>"), "{}", missing.err);
}

#[rstest]
fn look_suggests_active_and_within(harbour: TempDir) {
    let ran = run(harbour.path(), &["look", "lifts.csv", "stays.csv"]);
    let active = "  jembric active stays.csv --start arrived --end left --grain month --count\n";
    assert!(ran.out.contains(active), "{}", ran.out);
    let within =
        "jembric within lifts.csv stays.csv --match vessel --date lifted_on --window arrived..left";
    assert!(ran.out.ends_with(&format!("Together\n  {within}\n")), "{}", ran.out);
    // Every suggested command can be run.
    for line in ran.out.lines().filter_map(|line| line.strip_prefix("  jembric ")) {
        let words = crate::harness::words(line);
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        assert_eq!(run(harbour.path(), &words).code, 0, "{line}");
    }
}
