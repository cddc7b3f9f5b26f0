//! Starts all processes of a run on this machine.

use clap::ArgMatches;
use jembric::Error;
use jembric_cli::Failure;
use std::{
    env,
    ffi::OsString,
    io::{self, Write},
    net::TcpListener,
    process::{Child, Command, Stdio},
    thread,
};

/// Runs the command with its options in several processes. The first one has the terminal.
///
/// Errors: a process cannot be started, or fails.
pub(crate) fn run(
    processes: usize,
    memory: Option<u64>,
    typed: &ArgMatches,
) -> Result<(), Failure> {
    let failed =
        |error: io::Error| Error::Settings(format!("processes cannot be started: {error}"));
    let mut hosts = tempfile::NamedTempFile::new().map_err(failed)?;
    for port in free_ports(processes).map_err(failed)? {
        writeln!(hosts, "127.0.0.1:{port}").map_err(failed)?;
    }
    let mut shared: Vec<OsString> = without_local(env::args_os().skip(1));
    if typed.get_one::<String>("memory").is_none() {
        let share = memory.map(|memory| format!("{}MiB", (memory / processes as u64) >> 20));
        shared.extend(share.into_iter().flat_map(|share| ["--memory".into(), share.into()]));
    }
    if typed.get_one::<u32>("threads").is_none() {
        let cores = thread::available_parallelism().map_or(1, usize::from);
        shared.extend(["--threads".into(), (cores / processes).max(1).to_string().into()]);
    }
    let program = env::current_exe().map_err(failed)?;
    let mut children: Vec<Child> = Vec::new();
    for process in 0..processes {
        let mut command = Command::new(&program);
        command.args(&shared).arg("--hosts").arg(hosts.path());
        command.arg("--process").arg(process.to_string()).arg("--ends-with-input");
        // No process reads its input. It is closed when this process ends, in whatever way.
        command.stdin(Stdio::piped());
        if process > 0 {
            command.stdout(Stdio::null()).stderr(Stdio::piped());
        }
        match command.spawn() {
            Ok(child) => children.push(child),
            Err(error) => {
                children.iter_mut().for_each(|child| drop(child.kill()));
                return Err(failed(error).into());
            }
        }
    }
    ended(children)
}

/// Ends this process when its standard input is closed, as on a signal: temporary files are
/// removed, and nothing is put in place.
///
/// Errors: no thread can be started for that.
pub(crate) fn end_with_input() -> io::Result<()> {
    let wait = || {
        // Nothing is sent, so this returns when the other end is gone.
        let _ = io::copy(&mut io::stdin(), &mut io::sink());
        jembric_cli::end_as_on_a_signal();
    };
    thread::Builder::new().name("parent".to_owned()).spawn(wait).map(drop)
}

/// Ports on which nobody listens. They are below those that systems give to connections, so that no
/// connection takes one of them before a process listens on it.
fn free_ports(count: usize) -> io::Result<Vec<u16>> {
    const PORTS: u32 = 12_000;
    // Runs that begin at the same time try different ports first.
    let first = std::process::id().wrapping_mul(64);
    let tried = (0..PORTS).map(|n| 20_000 + (first.wrapping_add(n) % PORTS) as u16);
    let is_free = |port: &u16| TcpListener::bind(("127.0.0.1", *port)).is_ok();
    let free: Vec<u16> = tried.filter(is_free).take(count).collect();
    if free.len() == count {
        Ok(free)
    } else {
        Err(io::Error::other("there are not enough free ports"))
    }
}

/// The words without `--local` and its number.
fn without_local(words: impl Iterator<Item = OsString>) -> Vec<OsString> {
    let mut left = Vec::new();
    let mut words = words;
    while let Some(word) = words.next() {
        match word.to_string_lossy().as_ref() {
            "--local" => drop(words.next()),
            text if text.starts_with("--local=") => {}
            _ => left.push(word),
        }
    }
    left
}

/// Waits for the processes. The first one prints what went wrong in any of them, unless it was
/// ended by a signal.
fn ended(children: Vec<Child>) -> Result<(), Failure> {
    let waited = |mut child: Child| {
        // Waiting would close the input, which tells the process to end.
        let input = child.stdin.take();
        thread::spawn(move || {
            let ended = child.wait_with_output();
            drop(input);
            ended
        })
    };
    let waiting: Vec<_> = children.into_iter().map(waited).collect();
    // All of them remove their temporary files before this returns.
    let ended: Vec<_> = waiting.into_iter().map(|waiting| waiting.join()).collect();
    let mut problems = Vec::new();
    for (process, ended) in ended.into_iter().enumerate() {
        let Ok(Ok(output)) = ended else { continue };
        if output.status.success() {
            continue;
        }
        // It has printed the reason itself.
        if process == 0 && output.status.code().is_some() {
            return Err(Failure::Told(output.status.code().unwrap_or(1) as u8));
        }
        let message = String::from_utf8_lossy(&output.stderr).trim().to_owned();
        let message = message.strip_prefix("error: ").map(str::to_owned).unwrap_or(message);
        let problem =
            if message.is_empty() { format!("it ended ({})", output.status) } else { message };
        problems.push(Error::Process { process: format!("process {process}"), problem });
    }
    match problems.into_iter().next() {
        Some(problem) => Err(problem.into()),
        None => Ok(()),
    }
}
