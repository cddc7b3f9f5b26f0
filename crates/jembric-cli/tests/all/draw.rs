//! The step `draw`: the right picture for the result of every command, its outputs, and routines
//! that write pictures.

use crate::harness::{harbour, jembric, run, words};
use rstest::rstest;
use std::fs;
use tempfile::TempDir;

/// What the ledger says of the picture of a command's result.
#[rstest]
#[case(
    "latest inspections.csv --per vessel --date inspected_on",
    "dots along inspected_on per vessel"
)]
#[case("earliest stays.csv --per vessel --date arrived", "dots along arrived per vessel")]
#[case(
    "latest stays.csv --per berth --date arrived --at-each month",
    "steps of tons along state_on per berth"
)]
#[case(
    "active stays.csv --start arrived --end left --grain month",
    "bars of active_days along month"
)]
#[case(
    "active stays.csv --start arrived --end left --grain month --share tons",
    "bars of tons_share along month"
)]
#[case("active stays.csv --start arrived --end left --count", "steps of active along day")]
#[case(
    "active stays.csv --start arrived --end left --grain quarter --count --per berth --sum tons",
    "steps of sum_tons along quarter per berth"
)]
#[case(
    "active stays.csv --start arrived --end left --on 2025-03-31",
    "intervals from arrived to left per stay (guessed from types: per stay)"
)]
#[case(
    "spells stays.csv --per berth --start arrived --end left",
    "intervals from start to end per berth"
)]
#[case(
    "spells inspections.csv --per vessel --date inspected_on --value result",
    "intervals from start to end per vessel, result"
)]
#[case(
    "within lifts.csv stays.csv --match vessel --date lifted_on --window arrived..left",
    "dots along lifted_on per vessel"
)]
#[case(
    "within lifts.csv stays.csv --match vessel --date lifted_on --window arrived..left --keep \
    empty-windows",
    "intervals from arrived to left per vessel"
)]
#[case(
    "within stays.csv stays.csv --match berth --interval arrived..left --window arrived..left",
    "intervals from overlap_start to overlap_end per berth"
)]
#[case("elapsed dues.csv --from due --to paid", "dots of elapsed_days along due")]
#[case("elapsed dues.csv --from due --to paid --bands 0,15", "bars along elapsed_days_band")]
#[case(
    "elapsed inspections.csv --since-previous --per vessel --date inspected_on",
    "dots of days_since_previous along inspected_on"
)]
#[case(
    "running gauge.csv --per gauge --date day --max level_m --missing -",
    "steps of max_so_far_level_m along day per gauge"
)]
#[case(
    "filled gauge.csv --per gauge --date day --carry level_m --missing -",
    "steps of level_m along day per gauge"
)]
#[case(
    "filled gauge.csv --per gauge --date day --linear level_m --missing -",
    "lines of level_m along day per gauge"
)]
#[case(
    "totals stays.csv --date arrived,left --grain quarter --count",
    "bars of count_arrived, count_left along quarter"
)]
#[case(
    "totals dues.csv --date issued --each weekday --sum amount --side-by-side class --margins",
    "bars of barge, bulk, coaster, tanker, tender along weekday"
)]
#[case(
    "totals dues.csv --date issued --grain month --sum amount --per class",
    "bars of sum_amount along month per class"
)]
#[case("totals dues.csv --per vessel --sum amount --count", "bars of sum_amount along vessel")]
#[case(
    "almanac --covering stays.csv:arrived,left",
    "bars of records_arrived, records_left along date"
)]
#[case(
    "recent lifts.csv --date lifted_on --last '9 months'",
    "dots of tons along lifted_on per \
    crane (guessed from types: along lifted_on, of tons, per crane)"
)]
#[case(
    "filter stays.csv 'tons > 100'",
    "intervals from arrived to left per vessel (guessed from \
    types: from arrived, to left, per vessel)"
)]
#[case(
    "sort gauge.csv level_m --missing -",
    "lines of level_m along day per gauge (guessed from \
    types: along day, of level_m, per gauge)"
)]
#[case(
    "columns gauge.csv 'day, level_m as level' --missing -",
    "dots of level along day (guessed \
    from types: along day, of level)"
)]
#[case(
    "add gauge.csv 'high = level_m > 3' --missing -",
    "lines of level_m along day per gauge \
    (guessed from types: along day, of level_m, per gauge)"
)]
#[case(
    "stack fuel_in.csv fuel_out.csv --source book",
    "dots of litres along day per supplier \
    (guessed from types: along day, of litres, per supplier)"
)]
fn the_result_of_every_command_has_its_picture(
    harbour: TempDir,
    #[case] command: &str,
    #[case] drawn: &str,
) {
    let mut arguments = words(command);
    arguments.extend(["+", "draw"].map(str::to_owned));
    let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
    let ran = run(harbour.path(), &arguments);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let line = ran.err.lines().find(|line| line.starts_with("draw ")).unwrap();
    assert_eq!(line.split(", time zone").next().unwrap(), format!("draw {drawn}"));
    assert!(ran.out.starts_with("<svg") && ran.out.ends_with("</svg>\n"));
    assert!(!ran.out.contains("No rows to draw"));
}

#[rstest]
fn rows_of_totals_do_not_stand_beside_their_parts(harbour: TempDir) {
    for grouping in ["--each weekday", "--grain month"] {
        let command = format!(
            "totals dues.csv --date issued {grouping} --sum amount --margins + draw --quiet"
        );
        let arguments = words(&command);
        let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
        let ran = run(harbour.path(), &arguments);
        assert!(!ran.out.contains("(total)") && !ran.out.contains("199,197"), "{grouping}");
        assert!(ran.out.contains("1 dropped (row of totals)"), "{grouping}");
    }
}

#[rstest]
fn roles_survive_parquet_and_arrow(harbour: TempDir) {
    for ending in ["parquet", "arrow"] {
        let file = format!("counts.{ending}");
        let active = ["active", "stays.csv", "--start", "arrived", "--end", "left", "--count"];
        run(harbour.path(), &[&active[..], &["--out", &file]].concat());
        let ran = run(harbour.path(), &["draw", &file]);
        assert!(ran.err.starts_with("draw steps of active along day, from counts"), "{}", ran.err);
        // A file without roles is guessed.
        run(harbour.path(), &[&active[..], &["--out", "counts.csv"]].concat());
        let ran = run(harbour.path(), &["draw", "counts.csv"]);
        assert!(ran.err.contains("guessed from types: along day, of active"), "{}", ran.err);
    }
}

#[rstest]
fn a_picture_goes_to_a_file_or_a_pipe_in_its_format(harbour: TempDir) {
    let draw = ["draw", "gauge.csv", "--missing", "-"];
    let with = |more: &[&str]| {
        let output = jembric(harbour.path(), &[&draw[..], more].concat()).output().unwrap();
        (output.stdout, String::from_utf8(output.stderr).unwrap())
    };
    let (svg, _) = with(&[]);
    assert!(svg.starts_with(b"<svg"));
    let (png, _) = with(&["--format", "png"]);
    assert!(png.starts_with(b"\x89PNG"));
    let (text, _) = with(&["--format", "text"]);
    assert!(String::from_utf8(text).unwrap().contains("level_m by day and gauge"));
    let (none, told) = with(&["--out", "gauge.svg"]);
    assert!(none.is_empty() && told.contains("balance"));
    assert_eq!(fs::read(harbour.path().join("gauge.svg")).unwrap(), svg);
    with(&["--write", "gauge.png", "--out", "gauge-rows.csv"]);
    assert_eq!(fs::read(harbour.path().join("gauge.png")).unwrap(), png);
    let rows = fs::read_to_string(harbour.path().join("gauge-rows.csv")).unwrap();
    assert_eq!(rows.lines().count(), 354);
}

#[rstest]
#[case(
    "draw gauge.csv --missing - --out gauge.pdf",
    "`out`: `gauge.pdf`, but the last step draws a picture: expected a name that ends in .svg or \
        .png"
)]
#[case(
    "draw gauge.csv --missing - --write gauge.jpg",
    "`write`: `gauge.jpg` has no file extension of a picture: expected a name that ends in .svg \
        or .png"
)]
#[case(
    "draw gauge.csv --missing - --format csv",
    "`format`: a format of tables, but the last step draws: expected svg, png or text"
)]
#[case(
    "sort gauge.csv day --format svg",
    "`format`: a format of pictures, but the last step does not draw: expected a format of \
        tables, or a last step that draws: + draw"
)]
#[case(
    "draw gauge.csv --missing - --size 100x100",
    "`size` is `100x100`: expected a width and a height in pixels, from 160x120 to 10000x10000, \
        such as 960x540"
)]
#[case(
    "draw gauge.csv --of level_m",
    "column `level_m` cannot be used as numbers: 6 of its 353 values are not numbers (line 79 `-`"
)]
#[case(
    "running stays.csv --per vessel --date arrived --sum tons + draw",
    "the picture would have 14 series by vessel, but the limit is 12. Draw a small picture for \
        each value (`--apart vessel`)"
)]
#[case(
    "draw gauge.csv --missing - --level high=flood",
    "`level` is `high=flood`: expected a number"
)]
fn a_mistake_is_told_and_nothing_is_written(
    harbour: TempDir,
    #[case] command: &str,
    #[case] told: &str,
) {
    let before = fs::read_dir(harbour.path()).unwrap().count();
    let arguments = words(command);
    let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
    let ran = run(harbour.path(), &arguments);
    assert_ne!(ran.code, 0, "{}", ran.out);
    assert!(ran.err.contains(told), "{}", ran.err);
    assert!(ran.out.is_empty());
    assert_eq!(fs::read_dir(harbour.path()).unwrap().count(), before);
}

/// Each small picture has one series, however many there are in all.
#[rstest]
fn a_key_may_be_that_of_series_and_of_small_pictures(harbour: TempDir) {
    let line = "running stays.csv --per vessel --date arrived --sum tons + draw --apart vessel -q";
    let draws = |line: &str| {
        run(harbour.path(), &words(line).iter().map(String::as_str).collect::<Vec<_>>())
    };
    let (apart, both) = (draws(line), draws(&format!("{line} --per vessel")));
    assert_eq!(both.code, 0, "{}", both.err);
    assert_eq!(both.out, apart.out);
}

const ROUTINE: &str = r#"
as-of = "2025-06-30"

[[step]]
read = "dues.csv"
totals = { date = ["issued"], grain = "month", sum = ["amount"], per = ["class"] }
write = "dues.csv.gz"

[[step]]
draw = { form = "bars", stacked = true, title = "Dues", level = ["5000 = target"], write = "dues-{as-of}.svg" }
"#;

#[rstest]
fn a_routine_writes_pictures_and_can_be_saved(harbour: TempDir) {
    let path = |name: &str| harbour.path().join(name);
    fs::write(path("r.toml"), ROUTINE.replace("dues.csv.gz", "monthly.csv")).unwrap();
    let checked = run(harbour.path(), &["run", "r.toml", "--check"]);
    assert!(checked.err.contains("2 steps are valid"), "{}", checked.err);
    let ran = run(harbour.path(), &["run", "r.toml"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(
        ran.out.is_empty() && ran.err.contains("file       dues-2025-06-30.svg"),
        "{}",
        ran.err
    );
    let svg = fs::read_to_string(path("dues-2025-06-30.svg")).unwrap();
    assert!(svg.contains(">Dues</text>") && svg.contains("target"));
    assert!(svg.contains("dues.csv: 133 rows read · 70 rows drawn · none set aside"));
    assert!(path("monthly.csv").exists());
    // A chain that is saved writes the same picture.
    let chain = "totals dues.csv --date issued --grain month --sum amount --per class + draw \
        --form bars --stacked --title Dues --level '5000 = target' --out chain.svg --save-routine \
        chain.toml";
    let arguments = words(chain);
    let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
    assert_eq!(run(harbour.path(), &arguments).code, 0);
    let drawn = fs::read_to_string(path("chain.svg")).unwrap();
    assert_eq!(drawn, svg);
    fs::remove_file(path("chain.svg")).unwrap();
    assert_eq!(run(harbour.path(), &["run", "chain.toml"]).code, 0);
    assert_eq!(fs::read_to_string(path("chain.svg")).unwrap(), svg);
}

#[rstest]
#[case(
    r#"write = "dues-{as-of}.svg""#,
    r#"write = "dues.bmp""#,
    "`write`: `dues.bmp` has no file extension of a picture"
)]
#[case(
    r#"write = "dues-{as-of}.svg""#,
    r#"write = "monthly.csv""#,
    "two steps write `monthly.csv`"
)]
#[case("stacked = true", r#"along = "mnth""#, "there is no column `mnth`. Did you mean `month`?")]
#[case("stacked = true", "stackd = true", "did you mean `stacked`?")]
#[case(r#"form = "bars""#, r#"form = "pie""#, "`form` is `pie`")]
#[case("stacked = true", r#"size = "1x1""#, "`size` is `1x1`")]
fn a_routine_marks_what_is_wrong_with_a_picture(
    harbour: TempDir,
    #[case] good: &str,
    #[case] bad: &str,
    #[case] told: &str,
) {
    let text = ROUTINE.replace("dues.csv.gz", "monthly.csv").replace(good, bad);
    fs::write(harbour.path().join("r.toml"), text).unwrap();
    let ran = run(harbour.path(), &["run", "r.toml"]);
    assert_ne!(ran.code, 0, "{}", ran.out);
    assert!(ran.err.contains(told) && ran.err.contains("--> r.toml:"), "{}", ran.err);
    assert!(!harbour.path().join("monthly.csv").exists());
}

#[rstest]
#[cfg(target_os = "linux")]
fn on_a_terminal_a_picture_is_text_with_colours(harbour: TempDir) {
    let command = "draw gauge.csv --missing - -q";
    let plain = crate::harness::on_a_terminal(harbour.path(), 80, command, false);
    assert!(plain.lines().all(|line| line.chars().count() <= 80), "{plain}");
    assert!(plain.contains("level_m by day and gauge") && plain.contains('└'), "{plain}");
    assert!(!plain.contains('\u{1b}'));
    let coloured = crate::harness::on_a_terminal(harbour.path(), 100, command, true);
    assert!(coloured.contains("\u{1b}[32m"), "{coloured}");
}

#[rstest]
fn a_picture_between_steps_passes_its_rows_on(harbour: TempDir) {
    let chain = "draw stays.csv --write stays.svg --aside aside.csv --reconcile tons + totals \
        --per berth --count --format csv";
    let arguments = words(chain);
    let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
    let ran = run(harbour.path(), &arguments);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert_eq!(ran.out, "berth,count\nBasin,39\nNorth 1,43\nNorth 2,39\nQuay 3,42\nQuay 4,41\n");
    assert!(ran.err.contains("set aside     1  end before start (line 62)"), "{}", ran.err);
    assert!(ran.err.contains("sum of tons: ") && ran.err.contains("file       stays.svg"));
    let aside = fs::read_to_string(harbour.path().join("aside.csv")).unwrap();
    assert!(aside.lines().count() == 2 && aside.ends_with(",end before start\n"), "{aside}");
    assert!(harbour.path().join("stays.svg").exists());
}

#[rstest]
fn the_as_of_date_and_the_zone_hold_for_pictures(harbour: TempDir) {
    let with = |more: &str| {
        let arguments = words(&format!("draw {more}"));
        let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
        let ran = run(harbour.path(), &arguments);
        assert_eq!(ran.code, 0, "{}", ran.err);
        ran
    };
    // Open stays last until the as-of date, and later ones are dropped.
    let open = with("stays.csv --per berth --as-of 2025-12-31");
    assert!(open.out.contains("to 2025-12-31"), "{}", open.err);
    let before = with("stays.csv --per berth --as-of 2024-06-30");
    assert!(before.err.contains("dropped       3  after the as-of date"), "{}", before.err);
    let zoned = with("crane_log.csv --zone Europe/Lisbon");
    assert!(zoned.err.contains("time zone Europe/Lisbon"), "{}", zoned.err);
    assert_ne!(zoned.out, with("crane_log.csv").out);
}

/// A picture reads only the columns that it needs, if they are known before the file is read.
#[rstest]
fn a_saved_result_is_drawn_from_the_columns_with_roles(harbour: TempDir) {
    let totals = "totals dues.csv --date issued --grain month --sum amount --count --per class \
        --out monthly.parquet -q";
    let arguments = words(totals);
    let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
    assert_eq!(run(harbour.path(), &arguments).code, 0);
    let of_file = run(harbour.path(), &["draw", "monthly.parquet", "--stacked"]);
    assert!(of_file.err.starts_with("draw bars of sum_amount along month per class"));
    let of = run(harbour.path(), &["draw", "monthly.parquet", "--of", "count", "--stacked"]);
    assert!(of.err.starts_with("draw bars of count along month per class"), "{}", of.err);
}
