//! Tables larger than memory give the same bytes, ledgers and rows set aside as tables in memory.

use crate::stays::*;
use jembric::{
    Result, Table,
    io::{Data, Outputs, Writing},
    routine::Routine,
    run::RunSettings,
    steps::Disk,
};
use proptest::{prelude::*, test_runner::RngSeed};
use rstest::rstest;
use std::{fs, path::Path};

/// Everything that a run says.
#[derive(Debug, Default, PartialEq)]
struct Said {
    result: String,
    accounts: Vec<String>,
    set_aside: Vec<String>,
    all_set_aside: String,
}

fn as_csv(write: impl FnOnce(&mut jembric::io::Batches<'_>)) -> String {
    let mut text = Vec::new();
    let mut batches = Writing::for_path(Path::new("a.csv")).unwrap().batches(&mut text);
    write(&mut batches);
    batches.finish().unwrap();
    String::from_utf8(text).unwrap()
}

fn all_rows(data: &Data) -> String {
    let rows = data.head(usize::MAX).unwrap();
    as_csv(|batches| batches.write(&rows).unwrap())
}

/// Runs a routine in a directory, with a budget.
fn run(routine: &str, directory: &Path, memory: Option<u64>) -> std::result::Result<Said, String> {
    let routine = Routine::parse("r.toml", routine).unwrap();
    let files = Disk::in_directory(directory);
    let mut running = RunSettings::on(&files, "2025-06-30".parse().unwrap());
    running.memory = memory;
    running.scratch = Some(directory.to_owned());
    running.reconcile = vec!["tons".to_owned()];
    let mut said = Said::default();
    let mut ran: Option<Result<Data>> = None;
    let checked = routine.check(&running).map_err(|error| error.to_string())?;
    said.result = as_csv(|batches| {
        let mut write = |batch: &Table| Ok(batches.write(batch)?);
        ran = Some(checked.run_into(&mut Outputs::new(), &mut write, &mut |step| {
            let ledger = &step.outcome.ledger;
            assert!(ledger.balances(), "{ledger}");
            said.accounts.push(format!("{ledger}\n{}", serde_json::to_string(ledger).unwrap()));
            said.set_aside.push(all_rows(step.set_aside));
            Ok(())
        }));
    });
    if let Some(Ok(rows)) = &ran {
        said.all_set_aside = all_rows(rows);
    }
    // The rows set aside may be in temporary files until they are dropped.
    let ran = ran.unwrap().map(drop);
    let left: Vec<_> = fs::read_dir(directory).unwrap().flatten().collect();
    let is_temporary = |name: &str| name.starts_with(".jembric");
    assert!(!left.iter().any(|entry| is_temporary(&entry.file_name().to_string_lossy())));
    ran.map(|()| said).map_err(|error| error.to_string())
}

/// A budget that is enough for the rows of each entity, and not for all rows.
const ENOUGH: u64 = 24_000;

/// Errors: what differs.
fn compare(
    step: &str,
    stays: &[Stay],
    calls: &[Stay],
    as_of: &str,
) -> std::result::Result<(), TestCaseError> {
    let directory = tempfile::tempdir().unwrap();
    fs::write(directory.path().join("stays.csv"), csv(stays)).unwrap();
    fs::write(directory.path().join("calls.csv"), csv(calls)).unwrap();
    let routine = format!("{as_of}\n[[step]]\nread = 'stays.csv'\n{step}\n");
    let whole = run(&routine, directory.path(), None);
    for memory in [1, 6_000, ENOUGH] {
        let larger = run(&routine, directory.path(), Some(memory));
        let may_be_too_little = memory < ENOUGH;
        match (&whole, larger) {
            (_, Err(error))
                if may_be_too_little
                    && (error.contains("rows at once, and the memory is limited")
                        || error.contains("of memory, more than the limit")) => {}
            (whole, larger) => prop_assert_eq!(whole, &larger, "{} with {} bytes", step, memory),
        }
    }
    Ok(())
}

/// Stays in other formats, which are converted.
#[rstest]
#[case::json_lines("stays.jsonl")]
#[case::packed_json_lines("stays.jsonl.gz")]
#[case::arrow("stays.arrow")]
#[case::packed("stays.csv.zst")]
fn other_formats_give_the_same_with_little_memory(#[case] file: &str) {
    let directory = tempfile::tempdir().unwrap();
    let stays: Vec<Stay> = (0..3_000)
        .map(|n| Stay {
            vessel: (n % 11 > 0).then_some((n % 6) as u8),
            berth: (n % 7 > 0).then_some((n % 3) as u8),
            arrived: (n % 13 > 0).then_some(20_000 + n % 60),
            days: (n % 5 > 0).then_some(n % 20 - 2),
            tons: (n % 4 > 0).then_some(i64::from(n % 10) - 5),
            level: (n > 2_900).then_some(n),
        })
        .collect();
    let csv_file = directory.path().join("all.csv");
    fs::write(&csv_file, csv(&stays)).unwrap();
    let path = directory.path().join(file);
    jembric::io::write(&jembric::io::read(&csv_file).unwrap(), &path).unwrap();
    if file.ends_with(".jsonl") {
        // A later line may have a key that no line before it has, and empty lines are skipped.
        let text = fs::read_to_string(&path).unwrap();
        let text =
            text.replacen("}\n", "}\n\n", 1) + "{\"vessel\":\"v1\",\"late\":\"2025-01-31\"}\n";
        fs::write(&path, text).unwrap();
    }
    for step in [
        "filter = 'tons > 1 or berth is missing'",
        "latest = { per = ['vessel', 'berth', 'tons'], date = 'arrived', ties = 'first' }",
        "totals = { date = ['arrived'], per = ['vessel'], sum = ['level'] }",
        "sort = ['tons:down', 'arrived']",
    ] {
        let routine = format!("[[step]]\nread = '{file}'\n{step}\n");
        let whole = run(&routine, directory.path(), None).unwrap();
        let larger = run(&routine, directory.path(), Some(100_000));
        assert_eq!(Ok(whole), larger, "{step}");
    }
}

#[test]
fn a_page_shows_the_rows_set_aside_with_little_memory() {
    let directory = tempfile::tempdir().unwrap();
    let stay = |n: i32| Stay {
        vessel: Some((n % 6) as u8),
        berth: None,
        arrived: Some(20_000 + n % 60).filter(|_| n % 7 > 0),
        days: None,
        tons: Some(n.into()),
        level: None,
    };
    let stays: Vec<Stay> = (0..3_000).map(stay).collect();
    fs::write(directory.path().join("stays.csv"), csv(&stays)).unwrap();
    let routine = "[[step]]\nread = 'stays.csv'\nheading = 'Weeks'\ntotals = { date = \
                   ['arrived'], grain = 'week', sum = ['tons'] }\n";
    let routine = Routine::parse("r.toml", routine).unwrap();
    let page = |memory: Option<u64>| {
        let files = Disk::in_directory(directory.path());
        let mut running = RunSettings::on(&files, "2025-06-30".parse().unwrap());
        running.memory = memory;
        running.scratch = Some(directory.path().to_owned());
        running.page = Some(directory.path().join("page.html"));
        running.aside = false;
        routine.check(&running).unwrap().run(&mut |_| Ok(()), &mut |_| Ok(())).unwrap();
        fs::read_to_string(directory.path().join("page.html")).unwrap()
    };
    let whole = page(None);
    // One of the rows without a date.
    assert!(whole.contains(">2996<"), "{whole}");
    assert!(whole == page(Some(100_000)));
}

/// Rows of one date have to be together. A budget that is enough for all rows is named.
#[rstest]
#[case::a_date("running = { date = 'arrived', sum = ['tons'] }", true)]
#[case::a_span("running = { date = 'arrived', max = ['tons'], trailing = '90 days' }", true)]
#[case::one_by_one("running = { date = 'arrived', sum = ['tons'], row-by-row = true }", false)]
#[case::spells("spells = { start = 'arrived', end = 'left' }", true)]
fn rows_that_must_be_together_may_need_more_memory(#[case] step: &str, #[case] needs_more: bool) {
    let directory = tempfile::tempdir().unwrap();
    let stays: Vec<Stay> = (0..2_000)
        .map(|n| Stay {
            vessel: Some(1),
            berth: None,
            arrived: Some(if step.contains("trailing") { 20_000 + n % 60 } else { 20_000 }),
            days: Some(n % 20),
            tons: Some(i64::from(n % 7)),
            level: None,
        })
        .collect();
    fs::write(directory.path().join("stays.csv"), csv(&stays)).unwrap();
    let routine = format!("[[step]]\nread = 'stays.csv'\n{step}\n");
    let whole = run(&routine, directory.path(), None);
    let little = run(&routine, directory.path(), Some(100_000));
    if !needs_more {
        assert_eq!(little, whole)
    } else {
        let error = little.unwrap_err();
        assert!(error.contains("2000 rows at once"), "{error}");
        assert_eq!(run(&routine, directory.path(), Some(2_000_000)), whole);
    }
}

#[rstest]
#[case::running("running = { per = ['vessel'], date = 'arrived', sum = ['tons', 'level'] }")]
#[case::a_span(
    "running = { per = ['vessel'], date = 'arrived', max = ['tons'], trailing = '9 days' }"
)]
#[case::one_by_one(
    "running = { per = ['vessel'], date = 'arrived', count = true, row-by-row = true }"
)]
#[case::elapsed("elapsed = { per = ['vessel'], date = 'arrived', since-previous = true }")]
#[case::spells("spells = { per = ['vessel'], start = 'arrived', end = 'left' }")]
#[case::states("spells = { per = ['vessel'], date = 'arrived', value = ['berth'] }")]
#[case::within(
    "within = { windows = 'calls.csv', match = ['vessel'], date = 'arrived', window = \
     'arrived..left', keep = 'every-event' }"
)]
#[case::empty_windows(
    "within = { windows = 'calls.csv', match = ['vessel'], date = 'arrived', window = \
     'arrived..left', keep = 'empty-windows' }"
)]
fn one_entity_may_be_larger_than_memory(#[case] step: &str) {
    let directory = tempfile::tempdir().unwrap();
    let stay = |n: i32| Stay {
        // Most rows are of two entities, and some have no key or no date.
        vessel: Some([1, 2, (n % 40) as u8][n as usize % 3]).filter(|_| n % 11 > 0),
        berth: Some((n / 50 % 3) as u8),
        arrived: Some(20_000 + n * 7_919 % 1_000).filter(|_| n % 13 > 0),
        days: Some(n % 5),
        tons: Some(i64::from(n % 7)),
        level: Some(n % 50),
    };
    let stays: Vec<Stay> = (0..3_000).map(stay).collect();
    fs::write(directory.path().join("stays.csv"), csv(&stays)).unwrap();
    fs::write(directory.path().join("calls.csv"), csv(&stays[..40])).unwrap();
    let routine = format!("[[step]]\nread = 'stays.csv'\n{step}\n");
    let whole = run(&routine, directory.path(), None);
    assert!(whole.is_ok(), "{whole:?}");
    // The rows of the two entities together, and of each, are more than a quarter.
    for memory in [100_000, 200_000, 400_000] {
        assert_eq!(run(&routine, directory.path(), Some(memory)), whole, "{memory}");
    }
}

/// Each case runs every operation several times. In CI the cases are always the same.
fn few_cases() -> ProptestConfig {
    let chance = ProptestConfig::default();
    let rng_seed = match std::env::var_os("CI") {
        Some(_) => RngSeed::Fixed(19),
        None => chance.rng_seed,
    };
    ProptestConfig { cases: 2, max_shrink_iters: 60, rng_seed, ..chance }
}

proptest! {
    #![proptest_config(few_cases())]

    #[test]
    fn every_operation_gives_the_same_with_little_memory(
        stays in prop::collection::vec(stay(), 0..60),
        calls in prop::collection::vec(stay(), 0..40),
        as_of in prop::sample::select(vec!["", "as-of = '2024-11-10'"]),
        threads in prop::sample::select(vec![1, 2, 7]),
    ) {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
        let chains = if as_of.is_empty() { &[][..] } else { CHAINS };
        pool.install(|| {
            STEPS.iter().chain(chains).try_for_each(|step| compare(step, &stays, &calls, as_of))
        })?;
    }

    #[test]
    fn gaps_are_filled_in_the_same_way_with_little_memory(
        stays in prop::collection::btree_map((0..6_u8, 20_000..20_060_i32), stay(), 0..60),
        calls in prop::collection::vec(stay(), 0..40),
    ) {
        let stays: Vec<Stay> = stays
            .into_iter()
            .map(|((vessel, day), stay)| Stay { vessel: Some(vessel), arrived: Some(day), ..stay })
            .collect();
        OF_DAYS.iter().try_for_each(|step| compare(step, &stays, &calls, ""))?;
    }
}
