//! Processes that share rows give the same rows, ledgers and rows set aside as one process. Here
//! they are threads, which exchange parcels as processes do.

use crate::stays::*;
use crate::together::together;
use jembric::{
    Error, Result, Shape, Table,
    io::{Alone, Data, Exchange, Memory, Outputs, PlaceInList, Reading, Sharing, Writing},
    routine::Routine,
    run::RunSettings,
    steps::{Disk, Files},
};
use proptest::{prelude::*, test_runner::RngSeed};
use rstest::rstest;
use std::{fs, path::Path, thread};

/// Files whose rows are cut at any places.
struct Cut<'a> {
    files: Disk,
    /// The end of each share but the last, in thousandths of the rows.
    cuts: &'a [usize],
}

impl Files for Cut<'_> {
    fn table(&self, file: &str, reading: &Reading) -> Result<Table> {
        self.files.table(file, reading)
    }

    fn shape(&self, file: &str, reading: &Reading) -> Result<Option<Shape>> {
        self.files.shape(file, reading)
    }

    fn sharing(&self, file: &str, reading: &Reading) -> Result<Sharing> {
        if self.cuts.is_empty() { self.files.sharing(file, reading) } else { Ok(Sharing::Rows(0)) }
    }

    fn share(
        &self,
        file: &str,
        reading: &Reading,
        place: Option<PlaceInList>,
        memory: &Memory,
        exchange: &dyn Exchange,
    ) -> Result<Data> {
        if self.cuts.is_empty() {
            return self.files.share(file, reading, place, memory, exchange);
        }
        let table = self.files.table(file, reading)?;
        let bound = |share: usize| match share {
            0 => 0,
            share => self.cuts.get(share - 1).map_or(table.rows(), |cut| table.rows() * cut / 1000),
        };
        let (from, to) = (bound(exchange.process()), bound(exchange.process() + 1));
        Ok(Data::Table(table.slice(from, to - from)))
    }
}

/// What a run says, with the rows in their order.
#[derive(Debug, PartialEq)]
struct Said {
    rows: Vec<String>,
    accounts: Vec<String>,
    set_aside: Vec<Vec<String>>,
    all_set_aside: Vec<String>,
    page: Option<String>,
}

fn rows(table: &Table) -> Vec<String> {
    let mut text = Vec::new();
    let mut batches = Writing::for_path(Path::new("a.csv")).unwrap().batches(&mut text);
    batches.write(table).unwrap();
    batches.finish().unwrap();
    // Only texts have line breaks, and they are quoted.
    let text = String::from_utf8(text).unwrap().replace("a\nlong", "a long");
    text.lines().map(str::to_owned).collect()
}

fn all(data: &Data) -> Vec<String> {
    rows(&data.head(usize::MAX).unwrap())
}

/// Runs a routine in a directory, as one process or as one of several.
fn run(
    routine: &str,
    (directory, cuts): (&Path, &[usize]),
    memory: Option<u64>,
    exchange: &dyn Exchange,
) -> Result<Said> {
    let routine = Routine::parse("r.toml", routine)?;
    let files = Cut { files: Disk::in_directory(directory), cuts };
    let mut running = RunSettings::on(&files, "2025-06-30".parse().unwrap());
    running.memory = memory;
    running.scratch = Some(directory.to_owned());
    running.reconcile = vec!["tons".to_owned()];
    running.exchange = exchange;
    running.gathers_last = true;
    let page = directory.join("page.html");
    let writes_page = routine.page.is_some() && exchange.process() == 0;
    running.page = routine.page.is_some().then(|| page.clone());
    let mut said = Said {
        rows: Vec::new(),
        accounts: Vec::new(),
        set_aside: Vec::new(),
        all_set_aside: Vec::new(),
        page: None,
    };
    let mut batches = Vec::new();
    let mut outputs = Outputs::new();
    let set_aside = routine.check(&running)?.run_into(
        &mut outputs,
        &mut |batch| {
            batches.push(batch.clone());
            Ok(())
        },
        &mut |step| {
            let ledger = &step.outcome.ledger;
            assert!(ledger.balances(), "{ledger}");
            said.accounts.push(ledger.to_string());
            said.set_aside.push(all(step.set_aside));
            Ok(())
        },
    )?;
    said.all_set_aside = all(&set_aside);
    let whole = Table::joined(&batches[0], &batches[1..])?;
    said.rows = rows(&whole);
    if writes_page {
        outputs.commit()?;
        said.page = Some(fs::read_to_string(page).unwrap());
    }
    Ok(said)
}

/// Errors: what differs.
fn compare(
    step: &str,
    (stays, calls): (&[Stay], &[Stay]),
    as_of: &str,
    cuts: &[usize],
    memory: Option<u64>,
) -> std::result::Result<(), TestCaseError> {
    let directory = tempfile::tempdir().unwrap();
    fs::write(directory.path().join("stays.csv"), csv(stays)).unwrap();
    fs::write(directory.path().join("calls.csv"), csv(calls)).unwrap();
    let routine = format!("{as_of}\n[[step]]\nname = 'first'\nread = 'stays.csv'\n{step}\n");
    let whole = run(&routine, (directory.path(), cuts), None, &Alone);
    let processes = cuts.len().max(2) + usize::from(!cuts.is_empty());
    let several =
        together(processes, 200, |flow| run(&routine, (directory.path(), cuts), memory, flow));
    let failed = several.iter().any(Result::is_err);
    match whole {
        Err(error) => {
            let error = error.to_string();
            let is_told = |said: &Result<Said>| {
                said.as_ref().err().is_some_and(|other| other.to_string().contains(&error))
            };
            let shown = || several.iter().map(|said| said.as_ref().err()).collect::<Vec<_>>();
            prop_assert!(
                several.iter().any(is_told),
                "{}: {} is told as {:?}",
                step,
                error,
                shown()
            );
        }
        Ok(_) if failed => {
            let errors = several.iter().filter_map(|said| said.as_ref().err());
            let own = errors.filter(|error| !matches!(error, Error::Process { .. }));
            let needs = "rows at once, and the memory is limited";
            let errors: Vec<String> = own.map(ToString::to_string).collect();
            let is_too_little = memory.is_some() && errors.iter().any(|told| told.contains(needs));
            prop_assert!(is_too_little, "{}: {:?}", step, errors);
        }
        Ok(whole) => {
            for (process, said) in several.into_iter().enumerate() {
                let said = said.unwrap();
                prop_assert_eq!(&whole.accounts, &said.accounts, "{} at {}", step, process);
                if process == 0 {
                    prop_assert_eq!(&whole, &said, "{}", step);
                }
            }
        }
    }
    Ok(())
}

fn few_cases() -> ProptestConfig {
    let chance = ProptestConfig::default();
    let rng_seed = match std::env::var_os("CI") {
        Some(_) => RngSeed::Fixed(21),
        None => chance.rng_seed,
    };
    ProptestConfig { cases: 3, max_shrink_iters: 4, rng_seed, ..chance }
}

fn cuts() -> impl Strategy<Value = Vec<usize>> {
    prop::collection::vec(0..=1000_usize, 0..5).prop_map(|mut cuts| {
        cuts.sort_unstable();
        cuts
    })
}

/// Steps of which each can follow any other, with ties, running figures row by row, stacks and
/// joins, so that each can see the order of the rows before it.
const LINKS: &[&str] = &[
    "filter = 'tons > -3 or berth is missing'",
    "filter = 'tons > 90'",
    "add = 'more = tons * 2'",
    "sort = ['tons']",
    "stack = { files = ['calls.csv'] }",
    "stack = { files = ['first', 'calls.csv'] }",
    "latest = { per = ['vessel'], date = 'arrived', ties = 'all' }",
    "latest = { per = ['berth'], date = 'arrived', ties = 'first' }",
    "latest = { per = ['vessel', 'berth'], date = 'left', ties = 'last' }",
    "latest = { per = ['vessel'], date = 'arrived', at-each = 'month', ties = 'last' }",
    "earliest = { date = 'arrived', ties = 'last' }",
    "latest = { per = ['berth'], date = 'arrived', mark = 'is_latest', ties = 'first' }",
    "running = { per = ['vessel'], date = 'arrived', count = true }",
    "running = { per = ['berth'], date = 'arrived', sum = ['tons'], row-by-row = true }",
    "running = { date = 'left', max = ['tons'], row-by-row = true }",
    "elapsed = { date = 'arrived', since-previous = true, per = ['vessel'] }",
    "recent = { date = 'arrived', last = '40 days' }",
    "active = { start = 'arrived', end = 'left', grain = 'month' }",
    "within = { windows = 'calls.csv', match = ['vessel'], date = 'arrived', window = \
     'arrived..left', bring = ['tons as lifted'] }",
    "within = { windows = 'calls.csv', match = ['berth'], date = 'arrived', window = \
     'arrived..left', pick = 'first', keep = 'every-event', bring = ['level as depth'] }",
];
/// Steps that can end such a chain.
const ENDS: &[&str] = &[
    "totals = { per = ['vessel'], sum = ['tons'], margins = true }",
    "totals = { date = ['arrived'], grain = 'month', per = ['berth'], count = true }",
    "spells = { start = 'arrived', end = 'left', per = ['vessel'] }",
    "spells = { date = 'arrived', value = ['berth'], per = ['vessel'] }",
    "active = { start = 'arrived', end = 'left', count = true, grain = 'month' }",
    "latest = { per = ['berth'], date = 'arrived', ties = 'refuse' }",
    "active = { start = 'arrived', end = 'left', grain = 'month', open-ends = 'refuse' }",
    "filled = { per = ['vessel'], date = 'arrived', carry = ['tons'] }",
    "changes = { before = 'calls.csv', per = ['vessel', 'berth'], ties = 'last' }",
    "changes = { before = 'calls.csv', per = ['vessel', 'berth'] }",
];

fn chains() -> impl Strategy<Value = String> {
    // A step occurs once, because it adds columns.
    let links = prop::sample::subsequence(LINKS, 1..5).prop_shuffle();
    let end = prop::option::of(prop::sample::select(ENDS));
    (links, end).prop_map(|(links, end)| {
        let mut steps = links;
        steps.extend(end);
        steps.join("\n[[step]]\n")
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 30, ..few_cases() })]

    /// Results, ledgers, rows set aside and the report page are the bytes of one process.
    #[test]
    fn chains_give_the_bytes_of_one_process(
        stays in prop::collection::vec(stay(), 0..40),
        calls in prop::collection::vec(stay(), 0..30),
        chain in chains(),
        cuts in prop::collection::vec(0..=1000_usize, 1..5),
        memory in prop::sample::select(vec![None, None, Some(30_000)]),
        page in prop::sample::select(vec!["", "page = 'page.html'\n"]),
    ) {
        let mut cuts = cuts;
        cuts.sort_unstable();
        let head = format!("{page}as-of = '2024-11-10'");
        compare(&chain, (&stays, &calls), &head, &cuts, memory)?;
    }
}

proptest! {
    #![proptest_config(few_cases())]

    #[test]
    fn every_operation_gives_the_same_in_any_shares(
        stays in prop::collection::vec(stay(), 0..60),
        calls in prop::collection::vec(stay(), 0..40),
        as_of in prop::sample::select(vec!["", "as-of = '2024-11-10'", "as-of = 'newest:arrived'"]),
        cuts in cuts(),
        memory in prop::sample::select(vec![None, Some(24_000), Some(200_000)]),
    ) {
        let chains = if as_of.is_empty() { &[][..] } else { CHAINS };
        STEPS.iter().chain(chains).try_for_each(|step| {
            compare(step, (&stays, &calls), as_of, &cuts, memory)
        })?;
    }

    #[test]
    fn gaps_are_filled_in_the_same_way_in_any_shares(
        stays in prop::collection::btree_map((0..6_u8, 20_000..20_060_i32), stay(), 0..60),
        calls in prop::collection::vec(stay(), 0..40),
        cuts in cuts(),
    ) {
        let stays: Vec<Stay> = stays
            .into_iter()
            .map(|((vessel, day), stay)| Stay { vessel: Some(vessel), arrived: Some(day), ..stay })
            .collect();
        OF_DAYS.iter().try_for_each(|step| compare(step, (&stays, &calls), "", &cuts, None))?;
    }
}

/// Nothing shows the types of columns without values.
#[rstest]
#[case::without_rows(&[])]
#[case::without_values(&[Stay::default(), Stay::default(), Stay::default()])]
fn tables_without_values_give_the_same(#[case] stays: &[Stay]) {
    for step in STEPS {
        compare(step, (stays, stays), "as-of = '2024-11-10'", &[], None).unwrap();
    }
}

/// The owners of entities merge the states, if each process has room for its own states but not for
/// those of all.
#[rstest]
#[case::latest(
    "latest = { per = ['vessel', 'berth', 'arrived'], date = 'left', ties = 'first' }\n\
    [[step]]\nsort = ['vessel', 'berth']"
)]
#[case::tied(
    "latest = { per = ['vessel', 'berth', 'arrived'], date = 'left', ties = 'all' }\n\
    [[step]]\nfilter = 'tons > 0'"
)]
#[case::totals(
    "totals = { per = ['vessel', 'berth', 'arrived'], sum = ['tons', 'level'], margins = \
    true }"
)]
#[case::dense(
    "totals = { date = ['arrived'], per = ['vessel', 'berth'], count = true, dense = true, \
    beside = ['all'] }"
)]
#[case::active(
    "active = { start = 'arrived', end = 'left', count = true, per = ['vessel', 'berth'] \
    }"
)]
fn states_are_merged_by_the_owners_of_entities(#[case] step: &str) {
    let stay = |n: i32| Stay {
        vessel: (n % 41 > 0).then_some((n % 50) as u8),
        berth: Some((n % 3) as u8),
        arrived: (n % 37 > 0).then_some(20_000 + n % 8),
        days: Some(n * 7 % 11),
        tons: Some(i64::from(n % 9) - 4),
        level: Some(n % 100),
    };
    let stays: Vec<Stay> = (0..6_000).map(stay).collect();
    for budget in [800_000, 1_000_000, 1_500_000] {
        compare(step, (&stays, &[]), "", &[100, 300, 450, 600, 800], Some(budget)).unwrap();
    }
}

/// A sender must not send more than its receivers take.
#[test]
fn parcels_wait_for_a_process_that_is_slow() {
    let most = std::sync::atomic::AtomicI64::new(0);
    let on_their_way = std::sync::atomic::AtomicI64::new(0);
    let (parcel, round) = (1_000, 10_000);
    let taken = together(3, round, |flow| {
        let mut taken = 0;
        flow.parcels(
            &mut |send| {
                (0..300).try_for_each(|n| {
                    use std::sync::atomic::Ordering::Relaxed;
                    most.fetch_max(on_their_way.fetch_add(1, Relaxed), Relaxed);
                    send(n % 3, vec![n as u8; parcel])
                })
            },
            &mut |_, bytes| {
                assert_eq!(bytes.len(), parcel);
                on_their_way.fetch_sub(1, std::sync::atomic::Ordering::Relaxed);
                if flow.process() == 2 {
                    thread::sleep(std::time::Duration::from_millis(1));
                }
                taken += 1;
                Ok(())
            },
        )?;
        Ok(taken)
    });
    let taken: Vec<i32> = taken.into_iter().map(Result::unwrap).collect();
    assert_eq!(taken, [300; 3]);
    // Two rounds of each of three senders, and the parcel that ends a round.
    let most = most.into_inner() * parcel as i64;
    assert!(most <= 3 * 3 * (round + parcel as u64) as i64, "{most} bytes were on their way");
}

/// The count of an error is that of all rows, whichever process has them.
#[rstest]
#[case::dates("latest = { date = 'day' }", "8 of its 60 values")]
#[case::numbers("totals = { per = ['k'], sum = ['n'] }", "6 of its 60 values")]
#[case::ties("latest = { per = ['k'], date = 'on', ties = 'refuse' }", "60 records of 10 entities")]
#[case::open_ends(
    "active = { start = 'on', end = 'end', grain = 'month', open-ends = 'refuse' }",
    "60 rows have no `end`, and missing ends are refused (line 2, line 3, line 4, …)"
)]
#[case::open_ends_of_a_result(
    "filter = 'true'\n[[step]]\nactive = { start = 'on', end = 'end', grain = 'month', \
    open-ends = 'refuse' }",
    "60 rows have no `end`, and missing ends are refused (row 1, row 2, row 3, …)"
)]
#[case::cells("filled = { per = ['k'], date = 'on' }", "10 cells of one entity")]
fn errors_count_the_rows_of_all(#[case] step: &str, #[case] told: &str) {
    let directory = tempfile::tempdir().unwrap();
    let mut text = "k,day,n,on,end,tons\n".to_owned();
    for n in 0..60 {
        let day = if n % 8 == 1 { "soon".to_owned() } else { format!("2025-06-{:02}", n % 28 + 1) };
        let number = if n % 10 == 3 { "few" } else { "1.5" };
        text += &format!("k{},{day},{number},2025-06-30,,1\n", n % 10);
    }
    fs::write(directory.path().join("stays.csv"), text).unwrap();
    let routine = format!("[[step]]\nread = 'stays.csv'\n{step}");
    let several = together(3, 200, |flow| run(&routine, (directory.path(), &[]), None, flow));
    let alone = run(&routine, (directory.path(), &[]), None, &Alone).unwrap_err().to_string();
    assert!(alone.contains(told), "{alone}");
    let errors: Vec<String> =
        several.into_iter().map(|said| said.unwrap_err().to_string()).collect();
    assert!(errors.iter().all(|error| error.contains(&alone)), "{errors:?}");
}

#[rstest]
#[case::in_reading("[[step]]\nread = 'stays.csv'\nlatest = { date = 'day' }", "line 4")]
#[case::in_a_step("[[step]]\nread = 'dated.csv'\nlatest = { date = 'vessel' }", "vessel")]
fn an_error_of_one_process_ends_all(#[case] routine: &str, #[case] told: &str) {
    let directory = tempfile::tempdir().unwrap();
    fs::write(directory.path().join("stays.csv"), "tons,day\n1,2025-06-30\n2,2025-06-29\n1\n")
        .unwrap();
    fs::write(directory.path().join("dated.csv"), "vessel,tons\na,1\nb,2\n").unwrap();
    let several = together(3, 200, |flow| run(routine, (directory.path(), &[]), None, flow));
    let errors: Vec<String> =
        several.into_iter().map(|said| said.unwrap_err().to_string()).collect();
    assert!(errors.iter().all(|error| error.contains(told)), "{errors:?}");
}
