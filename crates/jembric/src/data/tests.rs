//! Temporary files, merging and collecting.

use crate::{
    Error, Result, Table,
    arrow::{ArrayRef, Decimal64Array, Decimal128Array, Int64Array, StringViewArray},
    data::{
        Data, Receiver, Scan,
        collect::{Collector, Unifying, in_batches},
        memory::Memory,
        merge::{MergeOrder, merge},
        spill::{SpillFile, SpillScan, SpillWriter},
    },
};
use proptest::prelude::*;
use rstest::rstest;
use std::{
    fs,
    ops::ControlFlow,
    path::PathBuf,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering::SeqCst},
    },
};

const LONG: &str = "a text that is longer than twelve bytes";

fn numbers(numbers: &[i64]) -> Table {
    let text = |n: &i64| if n % 3 == 0 { LONG.to_owned() } else { format!("t{n}") };
    let texts: ArrayRef = Arc::new(StringViewArray::from_iter_values(numbers.iter().map(text)));
    let numbers: ArrayRef = Arc::new(Int64Array::from(numbers.to_vec()));
    Table::from_columns([("n", numbers), ("t", texts)]).unwrap()
}

fn values(table: &Table) -> Vec<i64> {
    use crate::arrow::{cast::AsArray, types::Int64Type};
    table.columns()[0].as_primitive::<Int64Type>().values().to_vec()
}

fn run(memory: &Memory, batches: &[Table]) -> SpillFile {
    let mut writer = SpillWriter::new(memory);
    batches.iter().for_each(|batch| writer.write(batch).unwrap());
    writer.finish()
}

/// The only temporary directory in this one.
fn temporary(directory: &std::path::Path) -> PathBuf {
    let found: Vec<_> = fs::read_dir(directory).unwrap().flatten().collect();
    assert_eq!(found.len(), 1);
    found[0].path()
}

#[test]
fn a_run_has_its_rows_in_frames_and_is_removed_with_its_directory() {
    let directory = tempfile::tempdir().unwrap();
    let memory = Memory::limited(1 << 20, directory.path());
    let run = run(&memory, &[numbers(&[1, 2, 3]), numbers(&[]), numbers(&[4])]);
    assert_eq!((run.rows(), run.frames()), (4, 3));
    assert_eq!(run.whole().unwrap().unwrap(), numbers(&[1, 2, 3, 4]));
    assert_eq!(run.frame(2).unwrap(), numbers(&[4]));
    assert!(memory.spilled() > 0);
    let private = temporary(directory.path());
    assert_eq!(fs::read_dir(&private).unwrap().count(), 1);
    drop(run);
    assert_eq!(fs::read_dir(&private).unwrap().count(), 0);
    drop(memory);
    assert!(!private.exists());
}

#[rstest]
#[case::in_memory(Memory::unlimited())]
#[case::in_a_file(Memory::limited(1, std::env::temp_dir()))]
fn the_first_rows_of_a_table_can_be_taken(#[case] memory: Memory) {
    let mut collector = Collector::new(&memory);
    for batch in [&[1, 2, 3][..], &[4], &[5, 6]] {
        collector.take(&numbers(batch)).unwrap();
    }
    let data = collector.finish().unwrap().unwrap();
    assert_eq!(data.rows(), 6);
    for rows in [0, 1, 3, 4, 6, usize::MAX] {
        let expected: Vec<i64> = (1..=6).take(rows).collect();
        assert_eq!(values(&data.head(rows).unwrap()), expected, "{rows} rows");
    }
}

#[test]
fn runs_that_come_one_after_the_other_share_a_file() {
    let directory = tempfile::tempdir().unwrap();
    let memory = Memory::limited(1 << 20, directory.path());
    let mut runs: Vec<SpillFile> = Vec::new();
    for first in 0..300 {
        let mut writer = SpillWriter::after(&runs, &memory);
        // Some runs have no rows.
        if first % 7 > 0 {
            writer.write(&numbers(&[first, first + 1_000])).unwrap();
        }
        runs.push(writer.finish());
    }
    assert_eq!(fs::read_dir(temporary(directory.path())).unwrap().count(), 1);
    let mut merged = Vec::new();
    merge(runs, &MergeOrder::Columns(vec![(0, false)]), &memory, &mut |rows| {
        merged.extend(values(&rows));
        Ok(())
    })
    .unwrap();
    let firsts = || (0..300).filter(|first| first % 7 > 0);
    let expected: Vec<i64> = firsts().chain(firsts().map(|first| first + 1_000)).collect();
    assert_eq!(merged, expected);
}

#[cfg(unix)]
#[test]
fn only_the_user_may_read_temporary_files() {
    use std::os::unix::fs::PermissionsExt;
    let directory = tempfile::tempdir().unwrap();
    let memory = Memory::limited(1 << 20, directory.path());
    let run = run(&memory, &[numbers(&[1])]);
    let about = fs::metadata(temporary(directory.path())).unwrap();
    assert_eq!(about.permissions().mode() & 0o777, 0o700);
    drop(run);
}

#[rstest]
#[case::a_bit(|bytes: &mut Vec<u8>| { let at = bytes.len() / 2; bytes[at] ^= 1; }, "checksum")]
#[case::the_length(|bytes: &mut Vec<u8>| bytes[0] ^= 1, "checksum")]
#[case::the_end(|bytes: &mut Vec<u8>| bytes.truncate(bytes.len() - 1), "too short")]
fn a_damaged_run_is_an_error(#[case] damage: fn(&mut Vec<u8>), #[case] problem: &str) {
    let directory = tempfile::tempdir().unwrap();
    let memory = Memory::limited(1 << 20, directory.path());
    let run = run(&memory, &[numbers(&[1, 2, 3])]);
    let path = temporary(directory.path()).join("0");
    let mut bytes = fs::read(&path).unwrap();
    damage(&mut bytes);
    fs::write(&path, bytes).unwrap();
    let error = run.frame(0).unwrap_err().to_string();
    assert!(error.contains("a temporary file is damaged") && error.contains(problem), "{error}");
}

#[test]
fn a_directory_that_does_not_exist_is_an_error_that_says_what_to_do() {
    let directory = tempfile::tempdir().unwrap();
    let memory = Memory::limited(1 << 20, directory.path().join("none"));
    let error = SpillWriter::new(&memory).write(&numbers(&[1])).unwrap_err().to_string();
    assert!(error.contains("none: no such file or directory. Set a directory"), "{error}");
}

#[test]
fn what_a_dead_process_left_behind_is_removed_by_the_next_run() {
    let directory = tempfile::tempdir().unwrap();
    let memory = Memory::limited(1 << 20, directory.path());
    let first = run(&memory, &[numbers(&[1])]);
    let own = temporary(directory.path());
    // The name of a process that has ended: this one, as if it had begun at another time.
    let name = own.file_name().unwrap().to_string_lossy().into_owned();
    let parts: Vec<&str> = name.rsplitn(3, '-').collect();
    let other = tempfile::tempdir().unwrap();
    let [dead, alive] = ["1", parts[1]].map(|began| {
        let path = other.path().join(format!("{}-{began}-7.scratch", parts[2]));
        fs::create_dir(&path).unwrap();
        fs::write(path.join("0"), "rows").unwrap();
        path
    });
    let again = Memory::limited(1 << 20, other.path());
    let second = run(&again, &[numbers(&[1])]);
    assert!(!dead.exists() && alive.exists());
    drop((first, second));
}

#[test]
fn decimals_of_two_widths_have_the_wider_one() {
    let directory = tempfile::tempdir().unwrap();
    let memory = Memory::limited(1 << 20, directory.path());
    let decimals = |column: ArrayRef| Table::from_columns([("d", column)]).unwrap();
    let narrow = Decimal64Array::from(vec![Some(150), None]).with_precision_and_scale(18, 2);
    let wide = Decimal128Array::from(vec![10_i128.pow(30)]).with_precision_and_scale(38, 2);
    let (narrow, wide) = (decimals(Arc::new(narrow.unwrap())), decimals(Arc::new(wide.unwrap())));
    let run = run(&memory, &[narrow.clone(), wide.clone()]);
    let scan = SpillScan::open(run).unwrap();
    assert_eq!(scan.sample().columns()[0].data_type(), wide.columns()[0].data_type());
    let mut rows = 0;
    scan.each(&mut |batch| {
        assert_eq!(batch.columns()[0].data_type(), wide.columns()[0].data_type());
        rows += batch.rows();
        Ok(())
    })
    .unwrap();
    assert_eq!(rows, 3);
    let mut writer = SpillWriter::new(&memory);
    writer.write(&narrow).unwrap();
    assert!(writer.write(&numbers(&[1])).is_err(), "rows with other columns");
}

#[test]
fn a_collector_keeps_little_in_memory_and_writes_the_rest() {
    let directory = tempfile::tempdir().unwrap();
    for (budget, is_larger) in [(1 << 20, false), (4_096, true)] {
        let memory = Memory::limited(budget, directory.path());
        let mut collector = Collector::new(&memory);
        let all: Vec<i64> = (0..300).collect();
        all.chunks(7).for_each(|chunk| collector.take(&numbers(chunk)).unwrap());
        collector.take(&numbers(&[])).unwrap();
        let data = collector.finish().unwrap().unwrap();
        assert_eq!(matches!(data, Data::Larger(_)), is_larger);
        assert_eq!((data.rows(), data.sample().names().len()), (300, 2));
        for _ in 0..2 {
            let mut rows = Vec::new();
            data.each(&mut |batch| {
                rows.extend(values(&batch));
                Ok(())
            })
            .unwrap();
            assert_eq!(rows, all);
        }
    }
    assert!(Collector::new(&Memory::unlimited()).finish().unwrap().is_none());
}

proptest! {
    #[test]
    fn batches_are_cut_and_joined_without_a_change(
        sizes in prop::collection::vec(0..9_usize, 1..9), bytes in 1..400_u64,
    ) {
        let mut next = 0;
        let tables: Vec<Table> = sizes.iter().map(|size| {
            let own: Vec<i64> = (next..next + *size as i64).collect();
            next += *size as i64;
            numbers(&own)
        }).collect();
        let batches = in_batches(tables, bytes).unwrap();
        let all: Vec<i64> = batches.iter().flat_map(values).collect();
        prop_assert_eq!(all, (0..next).collect::<Vec<_>>());
        let cut = batches.iter().filter(|batch| batch.rows() > 1);
        cut.for_each(|batch| assert!(crate::data::bytes_of(batch) < bytes + 80));
    }

}

proptest! {
    // Each case makes up to 90 files.
    #![proptest_config(ProptestConfig { cases: 64, ..ProptestConfig::default() })]

    #[test]
    fn merged_runs_are_sorted_and_equal_rows_keep_the_order_of_runs(
        runs in prop::collection::vec(prop::collection::vec(0..20_i64, 0..30), 0..90),
        frame in 1..6_usize,
        descending: bool,
        memory in prop::sample::select(vec![1_u64, 1 << 20]),
    ) {
        let directory = tempfile::tempdir().unwrap();
        let memory = Memory::limited(memory, directory.path());
        // The second column tells the run and the place of each row.
        let mut expected: Vec<(i64, i64)> = Vec::new();
        let mut sorted = Vec::new();
        for (n, mut own) in runs.into_iter().enumerate() {
            own.sort_by_key(|value| if descending { -value } else { *value });
            let rows: Vec<(i64, i64)> =
                own.into_iter().zip(0..).map(|(value, at)| (value, n as i64 * 100 + at)).collect();
            let frames: Vec<Table> = rows.chunks(frame).map(|rows| {
                let column = |of: fn(&(i64, i64)) -> i64| -> ArrayRef {
                    Arc::new(Int64Array::from_iter_values(rows.iter().map(of)))
                };
                let columns = [("n", column(|row| row.0)), ("at", column(|row| row.1))];
                Table::from_columns(columns).unwrap()
            }).collect();
            sorted.push(run(&memory, &frames));
            expected.extend(rows);
        }
        expected.sort_by_key(|(value, _)| if descending { -value } else { *value });
        let mut found = Vec::new();
        merge(sorted, &MergeOrder::Columns(vec![(0, descending)]), &memory, &mut |batch| {
            let second = batch.columns()[1].clone();
            let places = Table::from_columns([("at", second)])?;
            found.extend(values(&batch).into_iter().zip(values(&places)));
            Ok(())
        }).unwrap();
        prop_assert_eq!(found, expected);
    }
}

fn decimals(units: &[i64], places: i8) -> Table {
    let decimals = Decimal64Array::from(units.to_vec()).with_precision_and_scale(18, places);
    Table::from_columns([("tons", Arc::new(decimals.unwrap()) as ArrayRef)]).unwrap()
}

fn shown(data: &Data) -> Vec<String> {
    let mut all = Vec::new();
    data.each(&mut |batch| {
        let cells = crate::formats::text::CellText::for_columns(&batch);
        all.extend((0..batch.rows()).map(|row| cells[0].text(row)));
        Ok(())
    })
    .unwrap();
    all
}

#[rstest]
#[case::in_memory(1 << 20)]
#[case::in_files(1)]
fn decimals_get_the_places_of_all_batches(#[case] budget: u64) {
    let directory = tempfile::tempdir().unwrap();
    let memory = Memory::limited(budget, directory.path());
    let mut unifying = Unifying::new(&memory);
    let batches = [decimals(&[5], 0), decimals(&[25, -1], 1), decimals(&[7], 0), decimals(&[1], 3)];
    batches.iter().try_for_each(|batch| unifying.take(batch)).unwrap();
    let data = unifying.finish().unwrap();
    assert_eq!(shown(&data), ["5.000", "2.500", "-0.100", "7.000", "0.001"]);
    assert_eq!(data.rows(), 5);
    let places = |table: &Table| table.shape().columns()[0].kind;
    assert_eq!(places(data.sample()), Some(crate::Type::Decimal { places: 3 }));
    assert!(data.sample().rows() > 0);
}

#[test]
fn batches_of_one_type_are_collected_as_they_are() {
    let directory = tempfile::tempdir().unwrap();
    let memory = Memory::limited(1 << 20, directory.path());
    let mut unifying = Unifying::new(&memory);
    unifying.take(&numbers(&[1, 2]).with_not_numbers(3)).unwrap();
    unifying.take(&numbers(&[3])).unwrap();
    let data = unifying.finish().unwrap();
    let table = data.table().expect("they fit into memory");
    assert_eq!((values(table), table.not_numbers()), (vec![1, 2, 3], 3));
    assert_eq!(Unifying::new(&memory).finish().unwrap().rows(), 0);
}

#[test]
fn stages_tell_the_rows_and_the_bytes_in_files() {
    use crate::data::progress::{Phase, Progress};
    use std::sync::Mutex;
    let directory = tempfile::tempdir().unwrap();
    /// The phase, its rows, all of them, and whether there are temporary files.
    type Told = (Phase, u64, u64, bool);
    let told: Arc<Mutex<Vec<Told>>> = Arc::default();
    let telling = told.clone();
    let progress = Progress::new(move |stage| {
        let has_spilled = stage.spilled > 0;
        telling.lock().unwrap().push((stage.phase, stage.rows, stage.all_rows, has_spilled));
    });
    let memory = Memory::telling(1 << 20, directory.path(), Some(progress));
    memory.tell(Phase::Reading, Some("stays.csv"), 1, 5);
    let runs = vec![run(&memory, &[numbers(&[1, 4])]), run(&memory, &[numbers(&[2, 3, 5])])];
    let mut merged = Vec::new();
    merge(runs, &MergeOrder::Columns(vec![(0, false)]), &memory, &mut |batch| {
        merged.extend(values(&batch));
        Ok(())
    })
    .unwrap();
    assert_eq!(merged, [1, 2, 3, 4, 5]);
    let told = told.lock().unwrap();
    assert_eq!(told.first(), Some(&(Phase::Reading, 1, 5, false)));
    assert_eq!(told.last(), Some(&(Phase::Merging, 5, 5, true)));
    assert!(told.windows(2).skip(1).all(|pair| pair[0].1 <= pair[1].1), "{told:?}");
}

/// Batches that are counted when they are read, and may end in an error or a panic.
#[derive(Debug)]
struct Counted {
    sample: Table,
    read: AtomicUsize,
    end: End,
}

#[derive(Debug, Clone, Copy)]
enum End {
    Well,
    InAnError,
    InAPanic,
}

impl Scan for Counted {
    fn sample(&self) -> &Table {
        &self.sample
    }

    fn rows(&self) -> u64 {
        10
    }

    fn each_until(&self, take: &mut Receiver<'_>) -> Result<ControlFlow<()>> {
        for n in 0..10 {
            self.read.fetch_add(1, SeqCst);
            if take(numbers(&[n]))?.is_break() {
                return Ok(ControlFlow::Break(()));
            }
        }
        match self.end {
            End::Well => Ok(ControlFlow::Continue(())),
            End::InAnError => Err(Error::Changed { file: "stays.csv".to_owned() }),
            End::InAPanic => panic!("damaged"),
        }
    }
}

fn counted(end: End) -> (Arc<Counted>, Data) {
    let scan = Arc::new(Counted { sample: numbers(&[0]), read: AtomicUsize::new(0), end });
    (scan.clone(), Data::Larger(scan))
}

#[rstest]
#[case::well(End::Well, None)]
#[case::an_error(End::InAnError, Some("stays.csv"))]
fn batches_that_are_read_ahead_come_in_order_with_the_error(
    #[case] end: End,
    #[case] expected: Option<&str>,
) {
    let (_, data) = counted(end);
    let mut taken = Vec::new();
    let ended = data.each(&mut |batch| {
        taken.extend(values(&batch));
        Ok(())
    });
    assert_eq!(taken, (0..10).collect::<Vec<i64>>());
    let error = ended.err().map(|error| error.to_string());
    assert_eq!(error.is_some(), expected.is_some());
    assert!(error.unwrap_or_default().contains(expected.unwrap_or_default()));
}

#[test]
fn reading_stops_when_the_receiver_fails() {
    let (scan, data) = counted(End::InAnError);
    let mut taken = 0;
    let ended = data.each(&mut |_| {
        taken += 1;
        match taken {
            3 => Err(Error::Changed { file: "the receiver".to_owned() }),
            _ => Ok(()),
        }
    });
    // The receiver's error is the one that is told.
    assert!(ended.unwrap_err().to_string().contains("the receiver"));
    assert!(scan.read.load(SeqCst) <= 4, "one batch is read ahead");
}

#[test]
#[should_panic(expected = "damaged")]
fn a_panic_while_reading_is_passed_on() {
    let _ = counted(End::InAPanic).1.each(&mut |_| Ok(()));
}

#[test]
fn reading_stops_when_there_are_enough_rows() {
    let (scan, data) = counted(End::InAnError);
    assert_eq!(values(&data.head(3).unwrap()), [0, 1, 2]);
    assert!(scan.read.load(SeqCst) <= 4, "one batch is read ahead");
}
