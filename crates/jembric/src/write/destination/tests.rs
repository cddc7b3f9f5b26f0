//! No file is left incomplete, and no file replaces another that it must not.

use super::*;
use crate::{Table, write::writing::Writing};
use arrow_array::{ArrayRef, Int64Array};
use rstest::rstest;
use std::sync::Arc;

fn table() -> Table {
    let fees: ArrayRef = Arc::new(Int64Array::from(vec![350, -5]));
    Table::from_columns([("note", fees)]).unwrap()
}

#[test]
fn a_file_is_complete_or_does_not_exist() {
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join("out.csv");
    let mut interrupted = Destination::file(&path).unwrap();
    interrupted.write(|to| to.write_all(b"half")).unwrap();
    drop(interrupted);
    let failed = Destination::file(&path)
        .unwrap()
        .write(|_| Err(io::ErrorKind::StorageFull.into()))
        .unwrap_err();
    assert!(
        failed.to_string().ends_with(
            "out.csv: could not be written: the disk is full. No incomplete file was left"
        )
    );
    assert_eq!(fs::read_dir(&directory).unwrap().count(), 0, "nothing is left behind");

    Writing::new().file(&table(), &path).unwrap();
    assert!(fs::read_to_string(&path).unwrap().ends_with("-5\n"));
    assert_eq!(fs::read_dir(&directory).unwrap().count(), 1);
}

#[cfg(unix)]
#[test]
fn links_and_permissions_stay_as_they_were() {
    use std::os::unix::fs::PermissionsExt;
    let directory = tempfile::tempdir().unwrap();
    let (target, link) = (directory.path().join("target.csv"), directory.path().join("link.csv"));
    fs::write(&target, "old").unwrap();
    fs::set_permissions(&target, fs::Permissions::from_mode(0o640)).unwrap();
    std::os::unix::fs::symlink(&target, &link).unwrap();
    Writing::new().file(&table(), &link).unwrap();
    assert!(fs::symlink_metadata(&link).unwrap().is_symlink());
    assert!(fs::read_to_string(&target).unwrap().starts_with("note"));
    assert_eq!(fs::metadata(&target).unwrap().permissions().mode() & 0o777, 0o640);
}

#[cfg(unix)]
#[test]
fn a_dangling_link_is_followed_and_a_read_only_file_stays() {
    use std::os::unix::fs::PermissionsExt;
    let directory = tempfile::tempdir().unwrap();
    let path = |name: &str| directory.path().join(name);
    std::os::unix::fs::symlink("there.csv", path("link.csv")).unwrap();
    Writing::new().file(&table(), path("link.csv")).unwrap();
    assert!(fs::symlink_metadata(path("link.csv")).unwrap().is_symlink());
    assert!(path("there.csv").is_file());
    fs::set_permissions(path("there.csv"), fs::Permissions::from_mode(0o444)).unwrap();
    let error = Destination::file(path("link.csv")).err().unwrap().to_string();
    assert!(
        error.ends_with(
            "link.csv: could not be written: no permission. No incomplete file was left"
        )
    );
}

/// A claim recognizes a file by another path, by a hard link and by a symbolic link.
#[cfg(unix)]
#[test]
fn no_output_replaces_a_file_that_is_read_or_another_output() {
    let directory = tempfile::tempdir().unwrap();
    let path = |name: &str| directory.path().join(name);
    fs::write(path("in.csv"), "a\n").unwrap();
    fs::hard_link(path("in.csv"), path("same.csv")).unwrap();
    std::os::unix::fs::symlink("new.csv", path("link.csv")).unwrap();
    let mut outputs = Outputs::new();
    outputs.protect([path("in.csv")]);
    for name in ["in.csv", "./in.csv", "same.csv"] {
        assert!(
            matches!(outputs.claim("the result", path(name)), Err(Error::OntoInput { .. })),
            "{name}"
        );
    }
    outputs.claim("the result", path("new.csv")).unwrap();
    outputs.claim("the result", path("./new.csv")).unwrap();
    for name in ["new.csv", "./new.csv", "link.csv"] {
        let error = outputs.claim("the rows set aside", path(name)).unwrap_err().to_string();
        assert!(error.ends_with(
            "the result and the rows set aside would be written to the same file. Choose another \
                file for one of them"
        ));
    }
    // Something that is not a regular file is never replaced.
    outputs.claim("the result", "/dev/null").unwrap();
    outputs.claim("the rows set aside", "/dev/null").unwrap();
}

/// A set of two files with its journal, as a killed process left it. The journal names another
/// process, because ours is running.
fn left_by_a_dead_process(directory: &Path, placing: bool) {
    let mut outputs = Outputs::of_routine(directory.join("r.toml"), 2).unwrap();
    for name in ["one.csv", "two.csv"] {
        let mut file = outputs.file(name, directory.join(name)).unwrap();
        file.write(|to| to.write_all(b"new")).unwrap();
        outputs.add(file);
    }
    if placing {
        outputs.journal.as_mut().unwrap().placing().unwrap();
    }
    // Neither the files nor the journal are removed, as after a kill.
    outputs.journal.as_ref().unwrap().file.unlock().unwrap();
    std::mem::forget(outputs);
    let journal = directory.join(".r.toml.jembric-journal");
    let text = fs::read_to_string(&journal).unwrap();
    let (first, rest) = text.split_once('\n').unwrap();
    assert!(first.starts_with("{\"process\":"));
    let host = first.rsplitn(3, '-').last().unwrap();
    fs::write(&journal, format!("{host}-4000000-1\"}}\n{rest}")).unwrap();
}

fn contents(directory: &Path) -> Vec<String> {
    let names = fs::read_dir(directory).unwrap().map(|entry| entry.unwrap().file_name());
    let mut names: Vec<String> = names.map(|name| name.to_string_lossy().into_owned()).collect();
    names.sort();
    let with_text =
        |name: &String| format!("{name} {}", fs::read_to_string(directory.join(name)).unwrap());
    names.iter().map(with_text).collect()
}

#[rstest]
#[case::killed_between_two_renames(true, true, &["one.csv new", "two.csv new"])]
#[case::killed_before_the_first(true, false, &["one.csv new", "two.csv new"])]
#[case::killed_while_it_wrote(false, false, &["one.csv old", "two.csv old"])]
fn a_set_that_was_begun_is_finished_or_undone(
    #[case] placing: bool,
    #[case] one_is_renamed: bool,
    #[case] expected: &[&str],
) {
    let directory = tempfile::tempdir().unwrap();
    let path = |name: &str| directory.path().join(name);
    ["one.csv", "two.csv"].iter().for_each(|name| fs::write(path(name), "old").unwrap());
    left_by_a_dead_process(directory.path(), placing);
    if one_is_renamed {
        let first = fs::read_dir(directory.path()).unwrap().map(|entry| entry.unwrap().path());
        let mut sets: Vec<PathBuf> =
            first.filter(|path| path.extension().is_some_and(|end| end == "set")).collect();
        sets.sort();
        fs::rename(&sets[0], path("one.csv")).unwrap();
    }
    // No other process removes the files of a set.
    Writing::new().file(&table(), path("other.csv")).unwrap();
    fs::remove_file(path("other.csv")).unwrap();
    // A run that writes a single file also finishes what was left.
    drop(Outputs::of_routine(path("r.toml"), 1).unwrap());
    assert_eq!(contents(directory.path()), expected);
}

#[test]
fn a_routine_that_is_running_is_not_run_a_second_time() {
    let directory = tempfile::tempdir().unwrap();
    let routine = directory.path().join("r.toml");
    let running = Outputs::of_routine(&routine, 2).unwrap();
    let error = Outputs::of_routine(&routine, 2).err().unwrap().to_string();
    assert!(error.contains("another process is running this routine"), "{error}");
    drop(running);
    Outputs::of_routine(&routine, 2).unwrap().commit().unwrap();
    assert_eq!(contents(directory.path()), [""; 0]);
}

/// Runs that start in the same instant: one of them runs, also if it has to finish what a dead
/// process left.
#[rstest]
fn of_two_runs_that_start_together_one_runs(#[values(false, true)] left: bool) {
    for _ in 0..50 {
        let directory = tempfile::tempdir().unwrap();
        if left {
            left_by_a_dead_process(directory.path(), true);
        }
        let routine = directory.path().join("r.toml");
        let start = std::sync::Barrier::new(2);
        let begun = || {
            start.wait();
            let outputs = Outputs::of_routine(&routine, 2);
            start.wait();
            outputs.map(drop)
        };
        let runs = std::thread::scope(|scope| {
            [scope.spawn(begun), scope.spawn(begun)].map(|thread| thread.join().unwrap())
        });
        let [one, other] = runs;
        assert!(one.is_ok() != other.is_ok(), "{one:?} {other:?}");
        let expected: &[&str] = if left { &["one.csv new", "two.csv new"] } else { &[] };
        assert_eq!(contents(directory.path()), expected);
    }
}

#[test]
fn files_of_dead_processes_are_removed_and_those_of_others_stay() {
    let directory = tempfile::tempdir().unwrap();
    let this = crate::disk::process::Process::this().to_string();
    let host = this.rsplitn(3, '-').last().unwrap();
    let names =
        [format!(".jembric-{host}-4000000-1-0.part"), ".jembric-elsewhere-1-1-0.part".to_owned()];
    names.iter().for_each(|name| fs::write(directory.path().join(name), "").unwrap());
    Writing::new().file(&table(), directory.path().join("out.csv")).unwrap();
    let left: Vec<String> = contents(directory.path())
        .iter()
        .map(|line| line.split(' ').next().unwrap().to_owned())
        .collect();
    assert_eq!(left, [names[1].as_str(), "out.csv"]);
}
