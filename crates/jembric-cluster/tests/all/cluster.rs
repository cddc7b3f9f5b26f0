//! The command as users run it: the harbour's routine in several processes, wrong calls, and
//! processes that end.

use assert_cmd::cargo::cargo_bin;
use rstest::rstest;
use std::{
    fs,
    io::Write,
    net::{TcpListener, TcpStream},
    path::{Path, PathBuf},
    process::{Child, Command, Output, Stdio},
    sync::atomic::{AtomicU16, Ordering::Relaxed},
    thread,
    time::{Duration, Instant},
};

const HARBOUR: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../jembric-cli/demo");

/// A directory with the harbour's tables and its routine.
fn harbour() -> tempfile::TempDir {
    let directory = tempfile::tempdir().unwrap();
    for file in fs::read_dir(HARBOUR).unwrap() {
        let file = file.unwrap().path();
        fs::copy(&file, directory.path().join(file.file_name().unwrap())).unwrap();
    }
    directory
}

fn cluster(directory: &Path) -> Command {
    let mut command = Command::new(cargo_bin("jembric-cluster"));
    command.current_dir(directory).arg("run").stdin(Stdio::null());
    command
}

/// What a command writes to standard error.
fn told(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

/// A list of hosts on this machine, on ports that nobody uses, and that are not given to
/// connections.
fn hosts(directory: &Path, processes: usize) -> PathBuf {
    static NEXT: AtomicU16 = AtomicU16::new(0);
    let port = || loop {
        let port = 12_000 + (std::process::id() as u16 % 100) * 64 + NEXT.fetch_add(1, Relaxed);
        if TcpListener::bind(("127.0.0.1", port)).is_ok() {
            return port;
        }
    };
    let lines = (0..processes).map(|_| format!("127.0.0.1:{}\n", port()));
    let file = directory.join("hosts.txt");
    fs::write(&file, lines.collect::<String>()).unwrap();
    file
}

/// The header and the rows of a file, or of the shares of it, one after the other.
fn rows(directory: &Path, name: &str, processes: Option<usize>) -> Vec<String> {
    let (stem, extension) = name.rsplit_once('.').unwrap();
    let files = match processes {
        None => vec![name.to_owned()],
        Some(all) => (0..all).map(|n| format!("{stem}-{n:04}-of-{all:04}.{extension}")).collect(),
    };
    let mut rows = Vec::new();
    for file in files {
        let text = fs::read_to_string(directory.join(file)).unwrap();
        let mut lines = text.lines().map(str::to_owned);
        let header = lines.next().unwrap();
        if rows.is_empty() {
            rows.push(header);
        } else {
            assert_eq!(rows[0], header);
        }
        rows.extend(lines);
    }
    rows
}

const WRITTEN: [&str; 4] = ["overdue.csv", "lifted-2025-06-30.csv", "levels.csv", "tank.csv"];

#[rstest]
#[case(2, true)]
#[case(3, false)]
#[case(7, true)]
#[case(7, false)]
fn the_harbours_report_is_that_of_one_process(#[case] processes: usize, #[case] gathers: bool) {
    let (one, several) = (harbour(), harbour());
    let mut command = cluster(one.path());
    let page = ["--page", "page.html"];
    command.args(["harbour.toml", "--local", "1", "--gather", "--aside", "aside.csv"]).args(page);
    let alone = command.output().unwrap();
    assert!(alone.status.success(), "{}", told(&alone));
    let mut command = cluster(several.path());
    command.args(["harbour.toml", "--aside", "aside.csv", "--local", &processes.to_string()]);
    command.args(page);
    let together = command.args(gathers.then_some("--gather")).output().unwrap();
    assert!(together.status.success(), "{}", told(&together));
    assert_eq!(alone.stdout, together.stdout);
    let without_files = |output: &Output| -> Vec<String> {
        let told = told(output);
        let is_of_one =
            |line: &&str| !["  file ", "  process "].iter().any(|word| line.starts_with(word));
        told.lines().filter(is_of_one).map(str::to_owned).collect()
    };
    assert_eq!(without_files(&alone), without_files(&together));
    assert!(without_files(&together).iter().any(|line| line.contains("(lines 19, 43)")));
    // The fuel tank is in one order of dates.
    let at_one = "running sum of change as in_tank by day\n  rows in     782\n  kept        782\n  \
                  balance     782 = 782 kept\n  process    0, because this step needs all rows \
                  together\n";
    assert!(told(&together).contains(at_one), "{}", told(&together));
    for file in WRITTEN {
        let shares = (!gathers).then_some(processes);
        assert_eq!(rows(one.path(), file, None), rows(several.path(), file, shares), "{file}");
    }
    for file in ["aside.csv", "page.html"] {
        let [one, several] = [&one, &several].map(|of| fs::read(of.path().join(file)).unwrap());
        // A process writes the name of its share.
        assert!(one == several || !gathers && file == "page.html", "{file}");
    }
    let left = fs::read_dir(several.path()).unwrap().flatten();
    let left: Vec<_> = left.map(|file| file.file_name()).collect();
    assert!(!left.iter().any(|name| name.to_string_lossy().starts_with('.')), "{left:?}");
}

/// The result of one process is that of `jembric run`.
#[test]
fn one_process_is_the_command_run() {
    let (one, other) = (harbour(), harbour());
    let mut command = cluster(one.path());
    let alone = command.args(["harbour.toml", "--local", "1", "--gather"]).output().unwrap();
    let run = jembric::routine::Routine::file(other.path().join("harbour.toml")).unwrap();
    let files = jembric::routine::Routine::files_beside(other.path().join("harbour.toml"));
    let mut running = jembric::run::RunSettings::on(&files, "2025-06-30".parse().unwrap());
    running.into = Some(other.path().to_owned());
    let mut ledgers = format!("{}\n", run.title_on(Some("2025-06-30".parse().unwrap())).unwrap());
    run.check(&running)
        .unwrap()
        .run(&mut |_| Ok(()), &mut |ran| {
            ledgers += &format!("{}\n", ran.outcome.ledger);
            if let Some(file) = &ran.written {
                ledgers += &format!("  file       {file}\n");
            }
            Ok(())
        })
        .unwrap();
    let beside = format!("{}/", other.path().display());
    assert_eq!(ledgers.replace(&beside, ""), told(&alone));
    for file in WRITTEN {
        let bytes = |directory: &Path| fs::read(directory.join(file)).unwrap();
        assert!(bytes(one.path()) == bytes(other.path()), "{file}");
    }
}

#[rstest]
#[case::no_line("a:1\nb:2\n", &["--process", "2"], "hosts.txt has 2 hosts")]
#[case::twice("a:1\na:1\n", &["--process", "0"], "line 2: `a:1` is on line 1 as well")]
#[case::no_port("harbour-1\n", &["--process", "0"], "`harbour-1` is not an address")]
#[case::unknown("127.0.0.1:9\nno-such-host.invalid:7000\n", &["--process", "1"],
    "process 1 (no-such-host.invalid:7000): it cannot listen on its address")]
#[case::not_this_machine("192.0.2.1:7000\n", &["--process", "0"],
    "its address is not one of this machine")]
#[case::not_reached("127.0.0.1:9\n127.0.0.1:0\n", &["--process", "1"], "`127.0.0.1:0` is not an")]
fn a_wrong_list_of_hosts_is_an_error(
    #[case] hosts: &str,
    #[case] arguments: &[&str],
    #[case] expected: &str,
) {
    let directory = harbour();
    fs::write(directory.path().join("hosts.txt"), hosts).unwrap();
    let mut command = cluster(directory.path());
    command.args(["harbour.toml", "--hosts", "hosts.txt", "--wait", "1"]).args(arguments);
    let output = command.output().unwrap();
    assert_eq!(output.status.code(), Some(1));
    assert!(told(&output).contains(expected), "{}", told(&output));
}

/// Starts a process with a routine of its own.
fn start(directory: &Path, hosts: &Path, process: usize, more: &[&str]) -> Child {
    let mut command = cluster(directory);
    command.arg("--hosts").arg(hosts).args(["--process", &process.to_string(), "--threads", "1"]);
    command.args(more).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
}

#[rstest]
#[case::routine(&["harbour.toml"], &["other.toml"], "runs another routine or other options")]
#[case::as_of(&["harbour.toml"], &["harbour.toml", "--as-of", "2025-05-31"],
    "runs another routine or other options")]
fn processes_that_run_something_else_do_not_begin(
    #[case] first: &[&str],
    #[case] second: &[&str],
    #[case] expected: &str,
) {
    let directory = harbour();
    let routine = fs::read_to_string(directory.path().join("harbour.toml")).unwrap();
    fs::write(directory.path().join("other.toml"), routine + "\n").unwrap();
    let hosts = hosts(directory.path(), 2);
    let one = start(directory.path(), &hosts, 0, first);
    let other = start(directory.path(), &hosts, 1, second);
    for output in [one, other].map(|child| child.wait_with_output().unwrap()) {
        assert_eq!(output.status.code(), Some(1));
        assert!(told(&output).contains(expected), "{}", told(&output));
    }
    assert!(!directory.path().join("tank-0000-of-0002.csv").exists());
}

#[test]
fn a_process_cannot_be_started_twice() {
    let directory = harbour();
    let hosts = hosts(directory.path(), 2);
    let mut one = start(directory.path(), &hosts, 0, &["harbour.toml", "--wait", "20"]);
    let begun = Instant::now();
    let told = loop {
        let again = start(directory.path(), &hosts, 0, &["harbour.toml", "--wait", "0"]);
        let told = told(&again.wait_with_output().unwrap());
        // The first one may not be listening yet.
        if told.contains("is in use") || begun.elapsed() > Duration::from_secs(10) {
            break told;
        }
    };
    assert!(told.contains("its port is in use. Is the process running already? "), "{told}");
    one.kill().unwrap();
    one.wait().unwrap();
}

#[test]
fn standard_input_is_refused() {
    let directory = harbour();
    let routine = "[[step]]\nread = '-'\nlatest = { date = 'day' }\n";
    fs::write(directory.path().join("piped.toml"), routine).unwrap();
    let output = cluster(directory.path()).args(["piped.toml", "--local=2"]).output().unwrap();
    assert_eq!(output.status.code(), Some(1));
    let expected = "standard input, which only one process has";
    assert!(told(&output).contains(expected), "{}", told(&output));
}

/// What changed since an earlier date, and the followed rows, are those of one process.
#[rstest]
#[case::changes(&["--since=2025-03-31", "--out=changed.csv"])]
#[case::followed(&["--follow=vessel = 'Petrel'", "--out=changed.csv", "--gather"])]
#[case::both(&["--follow=vessel = 'Petrel'", "--since=2025-03-31", "--out=changed.csv"])]
fn results_are_compared_and_rows_followed(#[case] options: &[&str]) {
    let run = |processes: &str| {
        let directory = harbour();
        let mut command = cluster(directory.path());
        let output = command.args(["harbour.toml", "--local", processes]).args(options).output();
        let output = output.unwrap();
        assert!(output.status.success(), "{}", told(&output));
        let of_one =
            |line: &&str| !["  file ", "  process "].iter().any(|word| line.starts_with(word));
        let mut lines: Vec<String> =
            told(&output).lines().filter(of_one).map(str::to_owned).collect();
        lines.sort_unstable();
        (lines, rows(directory.path(), "changed.csv", None))
    };
    let alone = run("1");
    assert!(alone.0.iter().any(|line| line.contains("Petrel")) || alone.1.len() > 20);
    for processes in ["2", "5"] {
        assert_eq!(run(processes), alone, "{processes}");
    }
}

/// A pattern stands for files, and files that cannot be cut are read by several processes.
#[test]
fn files_that_match_a_pattern_are_shared_out_by_size() {
    let directory = tempfile::tempdir().unwrap();
    for (month, rows) in [(1, 500), (2, 300), (3, 200), (4, 150)] {
        let row = |n: usize| format!("v{},2025-{month:02}-{:02}\n", n % 97, n % 28 + 1);
        let text: String = ["vessel,day\n".into()].into_iter().chain((0..rows).map(row)).collect();
        let table = jembric::io::Reading::new().stream("days", text.as_bytes()).unwrap();
        jembric::io::write(&table, directory.path().join(format!("{month}-days.csv.gz"))).unwrap();
    }
    let routine = "[[step]]\nstack = { files = ['*-days.csv.gz'], source = 'file' }\nwrite = \
                   'all.csv'\n[[step]]\nlatest = { per = ['vessel'], date = 'day' }\nwrite = \
                   'latest.csv'\n";
    fs::write(directory.path().join("days.toml"), routine).unwrap();
    let run = |options: &[&str]| {
        let output = cluster(directory.path()).arg("days.toml").args(options).output().unwrap();
        assert!(output.status.success(), "{}", told(&output));
    };
    run(&["--local", "1", "--gather"]);
    let files = ["all.csv", "latest.csv"];
    let alone = files.map(|file| rows(directory.path(), file, None));
    run(&["--local", "3"]);
    let together = files.map(|file| rows(directory.path(), file, Some(3)));
    assert!(alone == together);
    let shares: Vec<usize> = (0..3)
        .map(|process| {
            let share = directory.path().join(format!("all-{process:04}-of-0003.csv"));
            fs::read_to_string(share).unwrap().lines().count() - 1
        })
        .collect();
    assert_eq!(shares, [500, 300, 350]);
}

/// An error in the share of any process is told once, with the process and the line.
#[test]
fn an_error_in_a_share_names_the_process_and_the_line() {
    let directory = harbour();
    let stays = directory.path().join("stays.csv");
    let text = fs::read_to_string(&stays).unwrap();
    let line = text.lines().count() + 1;
    fs::write(&stays, text + "1,2\n").unwrap();
    let output = cluster(directory.path()).args(["harbour.toml", "--local", "3"]).output().unwrap();
    assert_eq!(output.status.code(), Some(1));
    let told = told(&output);
    assert!(told.starts_with("error: process 2 (127.0.0.1:"), "{told}");
    assert!(told.contains(&format!("stays.csv: line {line}: expected")), "{told}");
    assert_eq!(told.matches("error").count(), 1, "{told}");
    let left = fs::read_dir(directory.path()).unwrap().flatten();
    let names: Vec<String> =
        left.map(|file| file.file_name().to_string_lossy().into_owned()).collect();
    assert!(!names.iter().any(|name| name.starts_with('.') || name.contains("-of-")), "{names:?}");
}

/// Whenever a process is killed, the others end in time, and nothing is put in place unless all
/// have finished.
/// Connections that say nothing delay nobody: the run begins although more of them are open than
/// could be waited for one after the other.
#[test]
fn silent_strangers_delay_no_process() {
    let directory = harbour();
    let hosts = hosts(directory.path(), 3);
    let wait = ["harbour.toml", "--gather", "--wait", "8"];
    let first = start(directory.path(), &hosts, 0, &wait);
    let address = fs::read_to_string(&hosts).unwrap().lines().next().unwrap().to_owned();
    let silent = (0..80).map(|_| {
        loop {
            match TcpStream::connect(&address) {
                Ok(stream) => return stream,
                Err(_) => thread::sleep(Duration::from_millis(5)),
            }
        }
    });
    let mut silent: Vec<TcpStream> = silent.collect();
    // Some say less than a greeting, or a length that is far too large.
    silent[70].write_all(&[7, 0]).unwrap();
    silent[71].write_all(&[255; 16]).unwrap();
    let others = [1, 2].map(|process| start(directory.path(), &hosts, process, &wait));
    for child in [first].into_iter().chain(others) {
        let output = child.wait_with_output().unwrap();
        assert!(output.status.success(), "{}", told(&output));
    }
}

/// However the command ends, its processes end with it, and put nothing in place.
#[rstest]
#[case::by_a_signal("TERM")]
#[case::at_once("KILL")]
fn local_processes_end_with_the_command(#[case] signal: &str) {
    let directory = tempfile::tempdir().unwrap();
    let rows = (0..400_000).map(|n| format!("v{},2025-01-{:02}\n", n % 97_777, n % 28 + 1));
    let days: String = std::iter::once("vessel,day\n".to_owned()).chain(rows).collect();
    fs::write(directory.path().join("days.csv"), days).unwrap();
    let routine = "[[step]]\nread = 'days.csv'\nrunning = { per = ['vessel'], date = 'day', \
                   count = true }\nwrite = 'visits.csv'\n[[step]]\nsort = ['day', 'vessel']\nwrite = \
                   'sorted.csv'\n";
    fs::write(directory.path().join("days.toml"), routine).unwrap();
    let mut command = cluster(directory.path());
    command.args(["days.toml", "--local", "3", "--quiet"]);
    let child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let names = || -> Vec<String> {
        let files = fs::read_dir(directory.path()).unwrap().flatten();
        files.map(|file| file.file_name().to_string_lossy().into_owned()).collect()
    };
    // The processes have opened their files.
    while names().iter().filter(|name| name.starts_with('.')).count() < 3 {
        thread::sleep(Duration::from_millis(5));
    }
    let kill = Command::new("kill").args(["-s", signal, &child.id().to_string()]).status();
    assert!(kill.unwrap().success());
    // Process 0 has the same output, so this returns when it has ended as well.
    let output = child.wait_with_output().unwrap();
    assert!(!output.status.success());
    thread::sleep(Duration::from_millis(500));
    let names = names();
    assert!(!names.iter().any(|name| name.contains("-of-")), "{names:?}");
}

#[test]
fn a_process_that_is_killed_ends_the_run() {
    let mut chance = fastrand::Rng::with_seed(21);
    let directory = harbour();
    let hosts = hosts(directory.path(), 3);
    // Long enough for a kill at any moment.
    let rows =
        (0..60_000).map(|n| format!("v{},2025-{:02}-{:02}\n", n % 977, n % 12 + 1, n % 28 + 1));
    let days: String = std::iter::once("vessel,day\n".to_owned()).chain(rows).collect();
    fs::write(directory.path().join("days.csv"), days).unwrap();
    let routine = "[[step]]\nread = 'days.csv'\nrunning = { per = ['vessel'], date = 'day', count \
                   = true }\nwrite = 'running.csv'\n[[step]]\nsort = ['day', 'vessel']\nwrite = \
                   'sorted.csv'\n";
    fs::write(directory.path().join("days.toml"), routine).unwrap();
    let (mut killed, options) = (0, ["days.toml", "--quiet", "--wait", "5"]);
    for _ in 0..16 {
        let mut children: Vec<Child> =
            (0..3).map(|n| start(directory.path(), &hosts, n, &options)).collect();
        let victim = chance.usize(0..3);
        thread::sleep(Duration::from_millis(chance.u64(0..600)));
        let _ = children[victim].kill();
        let begun = Instant::now();
        let ended: Vec<Output> =
            children.into_iter().map(|child| child.wait_with_output().unwrap()).collect();
        assert!(begun.elapsed() < Duration::from_secs(30), "{:?}", begun.elapsed());
        let all_done = ended.iter().all(|output| output.status.success());
        let written: Vec<PathBuf> = fs::read_dir(directory.path())
            .unwrap()
            .map(|file| file.unwrap().path())
            .filter(|path| path.display().to_string().contains("-of-0003.csv"))
            .collect();
        if !all_done && ended[victim].status.code().is_none() {
            killed += 1;
            let others = ended.iter().enumerate().filter(|(n, _)| *n != victim);
            let mut unfinished = others.filter(|(_, output)| output.status.code() == Some(1));
            if let Some((_, output)) = unfinished.next() {
                let expected = format!("process {victim} (127.0.0.1:");
                assert!(told(output).contains(&expected), "{victim}: {}", told(output));
                assert_eq!(told(output).lines().count(), 1, "{}", told(output));
            }
            // Either all had finished, and the others put their files in place, or none did.
            assert!(written.is_empty() || written.len() >= 4, "{written:?}");
        }
        written.iter().for_each(|file| fs::remove_file(file).unwrap());
    }
    assert!(killed > 3, "only {killed} runs were ended by a kill");
}

/// Rows that do not fit into the memory of a process are written to temporary files.
#[test]
fn little_memory_changes_nothing() {
    let directory = tempfile::tempdir().unwrap();
    let row = |n: usize| {
        let vessel = format!("a vessel with a long name and number {}", n * 31 % 5_003);
        format!("{vessel},2025-{:02}-{:02},{}\n", n % 12 + 1, n % 28 + 1, n % 1_000)
    };
    let text: String =
        std::iter::once("vessel,day,tons\n".to_owned()).chain((0..120_000).map(row)).collect();
    fs::write(directory.path().join("lifts.csv"), text).unwrap();
    let routine = "[[step]]\nread = 'lifts.csv'\nrunning = { per = ['vessel'], date = 'day', sum = \
                   ['tons'] }\nwrite = 'running.csv'\n[[step]]\nread = 'lifts.csv'\ntotals = { per \
                   = ['vessel', 'day'], sum = ['tons'], margins = true }\nwrite = 'totals.csv'\n";
    fs::write(directory.path().join("lifts.toml"), routine).unwrap();
    let run = |options: &[&str]| {
        let output = cluster(directory.path()).arg("lifts.toml").args(options).output().unwrap();
        assert!(output.status.success(), "{}", told(&output));
        let text = told(&output);
        text.lines().filter(|line| !line.starts_with("  file ")).map(str::to_owned).collect()
    };
    let alone: Vec<String> = run(&["--local", "1", "--gather"]);
    let files = ["running.csv", "totals.csv"];
    let whole = files.map(|file| rows(directory.path(), file, None));
    let several: Vec<String> = run(&["--local", "3", "--memory", "16MiB", "--scratch", "."]);
    assert_eq!(alone, several);
    for (file, whole) in files.into_iter().zip(whole) {
        assert!(whole == rows(directory.path(), file, Some(3)), "{file}");
    }
    let left = fs::read_dir(directory.path()).unwrap().flatten();
    let mut names = left.map(|file| file.file_name().to_string_lossy().into_owned());
    assert!(!names.any(|name| name.starts_with('.')));
}

/// A result that is gathered has the rows in the order of one process, and so has the page.
#[rstest]
#[case::by_rows("running = { per = ['vessel'], date = 'arrived', count = true }")]
#[case::by_columns("spells = { start = 'arrived', end = 'left', per = ['vessel'] }")]
#[case::in_one_pass("latest = { per = ['vessel'], date = 'arrived' }")]
#[case::with_a_last_row("totals = { per = ['vessel'], count = true, margins = true }")]
#[case::row_by_row("elapsed = { from = 'arrived', to = 'left' }")]
#[case::at_one_process("sort = ['left:down', 'vessel']")]
fn a_gathered_result_and_its_page_have_the_bytes_of_one_process(#[case] step: &str) {
    let directory = harbour();
    let routine = format!(
        "title = 'Stays'\n[[step]]\nread = 'stays.csv'\n{step}\nwrite = 'result.csv'\nheading = \
         'The stays'\nsay = '{{rows}} rows.'\nshow = ['table']\n"
    );
    fs::write(directory.path().join("stays.toml"), routine).unwrap();
    let run = |processes: &str| {
        let mut command = cluster(directory.path());
        command.args(["stays.toml", "--gather", "--page", "page.html", "--local", processes]);
        let output = command.output().unwrap();
        assert!(output.status.success(), "{}", told(&output));
        ["result.csv", "page.html"].map(|file| fs::read(directory.path().join(file)).unwrap())
    };
    let [result, page] = run("1");
    assert!(result.len() > 100 && page.len() > 1_000);
    for processes in ["2", "5"] {
        let several = run(processes);
        assert!(result == several[0], "{processes} processes");
        assert!(page == several[1], "{processes} processes");
    }
}

/// The result of a stop is shown by process 0, or each process writes its share of it.
#[test]
fn the_result_is_shown_or_written_in_shares() {
    let directory = harbour();
    let run = |options: &[&str]| {
        let mut command = cluster(directory.path());
        let output = command.args(["harbour.toml", "--upto", "levels"]).args(options).output();
        let output = output.unwrap();
        assert!(output.status.success(), "{}", told(&output));
        output
    };
    let shown = run(&["--local", "3", "--quiet"]);
    let alone = run(&["--local", "1", "--quiet"]);
    assert_eq!(String::from_utf8_lossy(&shown.stdout), String::from_utf8_lossy(&alone.stdout));
    assert!(shown.stdout.len() > 1_000 && shown.stderr.is_empty());
    run(&["--local", "3", "--quiet", "--out", "out.jsonl"]);
    let shares = (0..3).map(|n| {
        let name = format!("out-{n:04}-of-0003.jsonl");
        fs::read_to_string(directory.path().join(name)).unwrap().lines().count()
    });
    assert_eq!(shares.sum::<usize>(), 362);
    // What was sent is printed for each process.
    let told = told(&run(&["--local", "2", "--traffic"]));
    for process in 0..2 {
        let line = told.lines().find(|line| line.starts_with(&format!("process {process} sent ")));
        let sent = line.and_then(|line| line.split_once(" kB to others")).unwrap().0;
        let sent: f64 = sent.rsplit(' ').next().unwrap().parse().unwrap();
        assert!((1.0..100.0).contains(&sent), "{told}");
    }
}

/// All processes must see the same files.
#[test]
fn files_that_differ_are_an_error_before_they_are_read() {
    let (one, other) = (harbour(), harbour());
    let hosts = hosts(one.path(), 2);
    let stays = other.path().join("stays.csv");
    let text = fs::read_to_string(&stays).unwrap();
    fs::write(&stays, text.replace("2025", "2024") + "\n").unwrap();
    for file in ["inspections.csv", "lifts.csv"] {
        let time = fs::metadata(one.path().join(file)).unwrap().modified().unwrap();
        let copy = fs::File::options().append(true).open(other.path().join(file)).unwrap();
        copy.set_modified(time).unwrap();
    }
    let children = [
        start(one.path(), &hosts, 0, &["harbour.toml"]),
        start(other.path(), &hosts, 1, &["harbour.toml"]),
    ];
    let told: Vec<String> =
        children.into_iter().map(|child| told(&child.wait_with_output().unwrap())).collect();
    let expected = "they see different files at `stays.csv`: ";
    assert!(told.iter().all(|told| told.contains(expected)), "{told:?}");
    assert!(told.iter().all(|told| told.contains("Give every process the same file")), "{told:?}");
}

/// A directory with a disk of its own, which is small.
struct SmallDisk(tempfile::TempDir);

impl SmallDisk {
    /// None if this machine does not allow that.
    fn new(size: &str) -> Option<SmallDisk> {
        let directory = tempfile::tempdir().unwrap();
        let mut mount = Command::new("mount");
        mount.args(["-t", "tmpfs", "-o", &format!("size={size}"), "tmpfs"]).arg(directory.path());
        let mounted = mount.stderr(Stdio::null()).status();
        mounted.is_ok_and(|status| status.success()).then_some(SmallDisk(directory))
    }
}

impl Drop for SmallDisk {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg(self.0.path()).status();
    }
}

/// If the disk of one process is full, the run ends everywhere, and nothing is put in place.
#[rstest]
#[case::of_a_process("2M")]
#[case::of_no_process("20M")]
fn a_full_disk_of_one_process_ends_the_run(#[case] size: &str) {
    let Some(disk) = SmallDisk::new(size) else {
        eprintln!("skipped: this needs root, and the command `mount`");
        return;
    };
    let (one, other) = (tempfile::tempdir().unwrap(), disk.0.path());
    let rows = (0..20_000).map(|n| format!("v{},2025-01-{:02}\n", n % 977, n % 28 + 1));
    let days: String = std::iter::once("vessel,day\n".to_owned()).chain(rows).collect();
    let note = "a note that takes more room than all of the rest ".repeat(8);
    let routine = format!(
        "[[step]]\nread = 'days.csv'\nadd = [\"note = '{note}'\"]\nwrite = 'noted.csv'\n\
         [[step]]\nlatest = {{ per = ['vessel'], date = 'day' }}\nwrite = 'latest.csv'\n"
    );
    for directory in [one.path(), other] {
        fs::write(directory.join("days.csv"), &days).unwrap();
        fs::write(directory.join("days.toml"), &routine).unwrap();
        let file = fs::File::options().append(true).open(directory.join("days.csv")).unwrap();
        file.set_modified(std::time::UNIX_EPOCH + Duration::from_secs(1_750_000_000)).unwrap();
    }
    let hosts = hosts(one.path(), 2);
    let children = [one.path(), other].into_iter().enumerate();
    let children: Vec<Child> = children
        .map(|(process, directory)| start(directory, &hosts, process, &["days.toml"]))
        .collect();
    let ended: Vec<Output> =
        children.into_iter().map(|child| child.wait_with_output().unwrap()).collect();
    let names = |directory: &Path| -> Vec<String> {
        let files = fs::read_dir(directory).unwrap().flatten();
        files.map(|file| file.file_name().to_string_lossy().into_owned()).collect()
    };
    if size == "20M" {
        assert!(ended.iter().all(|output| output.status.success()), "{}", told(&ended[1]));
        assert!(names(other).contains(&"noted-0001-of-0002.csv".to_owned()));
        return;
    }
    assert!(ended.iter().all(|output| output.status.code() == Some(1)));
    let expected = "noted-0001-of-0002.csv: could not be written: the disk is full";
    assert!(told(&ended[1]).contains(expected), "{}", told(&ended[1]));
    let (of_first, expected) = (told(&ended[0]), "process 1 (127.0.0.1:");
    assert!(of_first.contains(expected) && of_first.contains("the disk is full"), "{of_first}");
    for directory in [one.path(), other] {
        let names = names(directory);
        assert!(!names.iter().any(|name| name.starts_with('.') || name.contains("-of-")));
    }
}
