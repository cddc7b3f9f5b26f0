//! Tables larger than memory give the same bytes, ledgers and rows set aside as tables in memory.

#![cfg(feature = "draw")]
#![allow(clippy::unwrap_used)]

use jembric::{
    Result, Table,
    calendar::Day,
    io::{Data, Outputs, Writing},
    routine::{Routine, Run},
    steps::Disk,
};
use proptest::{prelude::*, test_runner::RngSeed};
use rstest::rstest;
use std::{fs, path::Path};

/// A stay of a vessel at a berth.
#[derive(Clone, Debug)]
struct Stay {
    vessel: Option<u8>,
    berth: Option<u8>,
    arrived: Option<i32>,
    days: Option<i32>,
    tons: Option<i64>,
    level: Option<i32>,
}

/// Few days, vessels and values, so that ties and missing values are common.
fn stay() -> impl Strategy<Value = Stay> {
    (
        prop::option::weighted(0.9, 0..6_u8),
        prop::option::weighted(0.8, 0..3_u8),
        prop::option::weighted(0.9, 20_000..20_060_i32),
        prop::option::weighted(0.8, -2..20_i32),
        prop::option::weighted(0.8, -5..5_i64),
        prop::option::weighted(0.8, -1_000..1_000_i32),
    )
        .prop_map(|(vessel, berth, arrived, days, tons, level)| Stay {
            vessel,
            berth,
            arrived,
            days,
            tons,
            level,
        })
}

fn day(number: i32) -> String {
    Day::from_number(number).unwrap().to_string()
}

/// The stays as CSV. Long names show that texts are kept, and quoted line breaks that lines are.
fn csv(stays: &[Stay]) -> String {
    let mut text = "vessel,berth,arrived,left,tons,level\n".to_owned();
    for Stay { vessel, berth, arrived, days, tons, level } in stays {
        let vessel = vessel.map_or(String::new(), |n| match n {
            0 => "\"vessel with a\nlong name\"".to_owned(),
            n => format!("v{n}"),
        });
        let left = arrived.zip(*days).map_or(String::new(), |(from, days)| day(from + days));
        let level = level.map_or(String::new(), |level| format!("{}e-3", level));
        let cells = [
            vessel,
            berth.map_or(String::new(), |n| format!("B{n}")),
            arrived.map_or(String::new(), day),
            left,
            tons.map_or(String::new(), |tons| tons.to_string()),
            level,
        ];
        text += &(cells.join(",") + "\n");
    }
    text
}

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
    let mut batches = Writing::of(Path::new("a.csv")).unwrap().batches(&mut text);
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
    let mut running = Run::on(&files, "2025-06-30".parse().unwrap());
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

/// A step of each kind, on `stays.csv` and `calls.csv`.
const STEPS: &[&str] = &[
    "filter = 'tons > 1 or berth is missing'",
    "add = ['more = tons * 2', 'late = arrived + 3 days']",
    "add = 'share = level / 7'",
    "columns = ['vessel as ship', 'left', 'tons']",
    "sort = ['tons:down', 'arrived', 'vessel']",
    "sort = 'berth'",
    "stack = { files = ['calls.csv'], source = 'book' }",
    "elapsed = { from = 'arrived', to = 'left', bands = [0, 7] }",
    "elapsed = { date = 'arrived', since-previous = true, per = ['vessel'] }",
    "recent = { date = 'arrived', last = '20 days' }",
    "latest = { per = ['vessel'], date = 'arrived' }",
    "latest = { per = ['vessel', 'berth'], date = 'arrived', then = ['tons'], ties = 'first' }",
    "latest = { per = ['vessel'], date = 'arrived', mark = 'is_latest' }",
    "latest = { per = ['vessel'], date = 'arrived', at-each = 'week', ties = 'last' }",
    "earliest = { date = 'left', oldest = 2 }",
    "totals = { date = ['arrived'], grain = 'week', per = ['vessel'], sum = ['tons', 'level'], \
     count = true }",
    "totals = { per = ['vessel'], sum = ['tons'], mean = ['level'], side-by-side = 'berth', \
     margins = true }",
    "totals = { date = ['arrived'], grain = 'month', per = ['vessel'], sum = ['tons'], beside = \
     ['all'], distinct = ['berth'] }",
    "active = { start = 'arrived', end = 'left', count = true, grain = 'week', per = ['berth'] }",
    "active = { start = 'arrived', end = 'left', grain = 'week', share = ['tons'] }",
    "active = { start = 'arrived', end = 'left', on = '2024-11-20' }",
    "spells = { start = 'arrived', end = 'left', per = ['vessel'], join-gaps = 1 }",
    "spells = { date = 'arrived', value = ['berth'], per = ['vessel'] }",
    "running = { per = ['vessel'], date = 'arrived', max = ['tons'], sum = ['tons', 'level'], \
     count = true, mark-highs = 'is_high' }",
    "running = { per = ['vessel', 'berth'], date = 'arrived', mean = ['level'], trailing = '9 \
     days' }",
    "running = { date = 'arrived', sum = ['tons', 'level'], min = ['level'], count = true }",
    "running = { date = 'arrived', mean = ['level'], anew-each = 'month', row-by-row = true }",
    "running = { date = 'arrived', max = ['tons'], trailing = '5 days', mark-highs = 'is_high' }",
    "elapsed = { date = 'arrived', since-previous = true }",
    "spells = { start = 'arrived', end = 'left', join-gaps = 1 }",
    "spells = { date = 'arrived', value = ['vessel', 'berth'] }",
    "within = { windows = 'calls.csv', date = 'arrived', window = 'arrived..left' }",
    "within = { windows = 'calls.csv', date = 'left', window = 'arrived..left', keep = \
     'every-event', pick = 'last' }",
    "within = { windows = 'calls.csv', interval = 'arrived..left', window = 'left..', keep = \
     'stray-events' }",
    "within = { windows = 'calls.csv', date = 'left', window = 'arrived..left', keep = \
     'empty-windows' }",
    "within = { windows = 'calls.csv', match = ['vessel'], date = 'arrived', window = \
     'arrived..left' }",
    "within = { windows = 'calls.csv', match = ['vessel'], date = 'arrived', window = \
     'arrived..left', pick = 'first', keep = 'every-event', bring = ['tons as lifted'] }",
    "within = { windows = 'calls.csv', match = ['vessel', 'berth'], interval = 'arrived..left', \
     window = 'arrived - 3 days..left + 3 days' }",
    "within = { windows = 'calls.csv', match = ['vessel'], date = 'left', window = \
     'arrived..left', keep = 'stray-events' }",
    "within = { windows = 'calls.csv', match = ['vessel'], date = 'left', window = \
     'arrived..left', keep = 'empty-windows' }",
    "changes = { before = 'calls.csv', per = ['vessel', 'berth'], ties = 'first' }",
    "changes = { before = 'calls.csv', per = ['vessel', 'berth', 'arrived'] }",
];

/// A budget that is enough for the rows of each entity, and not for all rows.
const ENOUGH: u64 = 24_000;

/// Steps whose input must have one record of each vessel and day.
const OF_DAYS: &[&str] = &[
    "filled = { per = ['vessel'], date = 'arrived', carry = ['tons'], linear = ['level'], limit = \
     3, mark = 'was_added' }",
    "filled = { per = ['vessel'], date = 'arrived', grain = 'month', range = 'each', zero = \
     ['tons'] }",
    "filled = { per = ['vessel'], date = 'arrived', range = '2024-10-10..2024-10-20', keep-with = \
     [], entities = 'calls.csv:vessel' }",
];

/// Chains of steps.
const CHAINS: &[&str] = &[
    "running = { per = ['vessel'], date = 'arrived', sum = ['tons'] }\n[[step]]\nfilter = \
     'sum_so_far_tons > 0'\n[[step]]\nlatest = { per = ['berth'], date = 'arrived', ties = 'first' }",
    "sort = ['level:down']\n[[step]]\nadd = 'n = tons + 1'\n[[step]]\nrunning = { per = \
     ['berth'], date = 'arrived', max = ['n'] }\n[[step]]\ntotals = { per = ['vessel'], max = \
     ['max_so_far_n'] }",
    "elapsed = { from = 'arrived', to = 'as-of' }\n[[step]]\nfilter = 'elapsed_days > \
     10'\n[[step]]\nspells = { date = 'arrived', value = ['berth'], per = ['vessel'] }",
];

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
        let mut running = Run::on(&files, "2025-06-30".parse().unwrap());
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
    match needs_more {
        false => assert_eq!(little, whole),
        true => {
            let error = little.unwrap_err();
            assert!(error.contains("2000 rows at once"), "{error}");
            assert_eq!(run(&routine, directory.path(), Some(2_000_000)), whole);
        }
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
    ProptestConfig { cases: 3, max_shrink_iters: 60, rng_seed, ..chance }
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
