//! The command line: one process of a run, or all of them on this machine.

use crate::{
    Flow, Hosts, Peers, Traffic, local,
    peers::{Agreement, Connecting, Watched},
};
use clap::{Arg, ArgAction, ArgMatches, Command, value_parser};
use jembric::{
    Error,
    calendar::{Day, Zone},
    io::Exchange,
    routine::Routine,
    run::RunSettings,
};
use jembric_cli::{Among, Failure, Screen};
use sha2::{Digest, Sha256};
use std::{
    mem::forget,
    panic::{set_hook, take_hook},
    path::{Path, PathBuf},
    process::ExitCode,
    sync::Arc,
    thread,
    time::{Duration, Instant},
};
use timely::{
    WorkerConfig,
    communication::{
        Allocator, Hooks,
        allocator::{ProcessBuilder, zero_copy::initialize::initialize_networking_from_sockets},
    },
    worker::Worker,
};

/// The options that may differ between the processes of a run.
const OWN_OPTIONS: [&str; 12] = [
    "hosts",
    "process",
    "threads",
    "local",
    "wait",
    "memory",
    "scratch",
    "quiet",
    "ledger",
    "rows",
    "traffic",
    "ends_with_input",
];
/// The help of the command.
const HELP: &str = "{about}\n\nExample: jembric-cluster run harbour.toml --local 2\n\n\
                    {usage-heading} {usage}\n\n{all-args}";
/// The most bytes that are on their way to one process in a round.
const MOST_BYTES: u64 = 16 << 20;

/// Runs the command that was typed.
pub fn main() -> ExitCode {
    let mut screen = jembric_cli::begin();
    quiet_network();
    let done = typed(&mut screen);
    jembric_cli::ended(done, &mut screen)
}

/// The threads of the network panic when a connection ends. That is noted elsewhere.
fn quiet_network() {
    let before = take_hook();
    set_hook(Box::new(move |about| {
        let is_network = thread::current().name().is_some_and(|name| name.starts_with("timely:"));
        let payload = about.payload();
        let text = payload.downcast_ref::<&str>().copied();
        let text = text.or_else(|| payload.downcast_ref::<String>().map(String::as_str));
        if !is_network && !text.is_some_and(|text| text.contains("MergeQueue poisoned")) {
            before(about);
        }
    }));
}

fn command_line() -> Command {
    let number = |name: &'static str, value: &'static str| {
        Arg::new(name).long(name).value_name(value).help_heading("Processes")
    };
    let run = jembric_cli::run_command()
        .about("Run a saved routine, as one of several processes that share the rows")
        .help_template(HELP)
        .mut_arg("check", |check| check.hide(true))
        .args([
            number("hosts", "FILE")
                .value_parser(value_parser!(PathBuf))
                .required_unless_present("local")
                .requires("process")
                .help(
                    "Read the addresses of all processes from this file: a host and a port on each \
                     line, such as harbour-1:7000",
                ),
            number("process", "N")
                .value_parser(value_parser!(u32))
                .requires("hosts")
                .help("Be the process whose address is on this line of the file, counted from 0"),
            number("local", "N")
                .value_parser(value_parser!(u32).range(1..=64))
                .conflicts_with_all(["hosts", "process"])
                .help("Start this many processes on this machine instead, to try a run"),
            number("threads", "N").value_parser(value_parser!(u32).range(1..=1024)).help(
                "Use this many threads in each process [default: one for each core, shared out \
                     among local processes]",
            ),
            Arg::new("ends_with_input")
                .long("ends-with-input")
                .action(ArgAction::SetTrue)
                .hide(true)
                .help(
                    "End when standard input is closed, because the process that started it has \
                       ended",
                ),
            number("wait", "SECONDS")
                .value_parser(value_parser!(u64))
                .default_value("30")
                .help("Wait this long for the other processes to start"),
            number("traffic", "").action(ArgAction::SetTrue).help(
                "Print the bytes that each process sent, and the time that it spent in exchanges",
            ),
            number("gather", "").action(ArgAction::SetTrue).help(
                "Write each result as one file, at process 0. Otherwise each process writes \
                     its share: late-0002-of-0008.csv",
            ),
        ]);
    Command::new("jembric-cluster")
        .version(clap::crate_version!())
        .about("Run a routine of jembric on several machines, and account for every row")
        .subcommand_required(true)
        .arg_required_else_help(true)
        .subcommand(run)
}

fn typed(screen: &mut Screen) -> Result<(), Failure> {
    let typed = command_line().try_get_matches()?;
    let Some((_, typed)) = typed.subcommand() else { return Ok(()) };
    if let Some(&processes) = typed.get_one::<u32>("local") {
        let memory = jembric_cli::memory_of(typed)?;
        return local::run(processes as usize, memory, typed);
    }
    process(typed, screen)
}

/// Runs one of the processes.
fn process(typed: &ArgMatches, screen: &mut Screen) -> Result<(), Failure> {
    if typed.get_flag("ends_with_input") {
        local::end_with_input().map_err(|error| Error::Settings(error.to_string()))?;
    }
    let none = Path::new("");
    let hosts = Hosts::file(typed.get_one::<PathBuf>("hosts").map_or(none, PathBuf::as_path))?;
    let process = typed.get_one::<u32>("process").map_or(0, |&process| process as usize);
    hosts.expect(process)?;
    if let Some(&threads) = typed.get_one::<u32>("threads") {
        let threads = rayon::ThreadPoolBuilder::new().num_threads(threads as usize).build_global();
        threads.map_err(|error| Error::Settings(error.to_string()))?;
    }
    let file = typed.get_one::<String>("FILE").map(PathBuf::from).unwrap_or_default();
    let given = |name: &str| typed.get_one::<String>(name).cloned();
    let routine = Routine::file(&file)?.instead(given("as_of"), given("zone"));
    let zone = routine.zone.as_deref().map(str::parse::<Zone>).transpose().map_err(Error::from)?;
    let today = jembric_cli::today(zone.as_ref());
    // What is wrong with the routine is told before anyone waits for anyone.
    if routine.files_read().any(|file| file == "-") {
        return Err(Error::Setting {
            setting: "read",
            value: "standard input, which only one process has".to_owned(),
            expected: "a file that every process can read".to_owned(),
        }
        .into());
    }
    routine.check(&RunSettings::on(&Routine::files_beside(&file), today))?;
    let wait = Duration::from_secs(typed.get_one::<u64>("wait").copied().unwrap_or_default());
    let connecting = Connecting {
        hosts: &hosts,
        process,
        agreement: &agreement(typed, &hosts, &file)?,
        today: &today.to_string(),
        until: Instant::now() + wait,
        wait,
    };
    let connected = connecting.connect()?;
    let begun = Instant::now();
    let today: Day = connected.today.parse().map_err(Error::from)?;
    let peers = connected.peers.clone();
    let sockets =
        connected.parcels.into_iter().enumerate().map(|(peer, stream)| {
            stream.map(|stream| Watched { stream, peers: peers.clone(), peer })
        });
    let memory = jembric_cli::memory_of(typed)?;
    let flow = flow(&peers, sockets.collect(), memory);
    let flow = flow.map_err(|error| Error::Settings(error.to_string()))?;
    let among = Among { exchange: &flow, gathers: typed.get_flag("gather"), today };
    let done = jembric_cli::run_among(typed, among, screen);
    let done = match done {
        Ok(()) => {
            if typed.get_flag("traffic") {
                tell_traffic(&flow, begun.elapsed(), screen)?;
            }
            Ok(peers.finish()?)
        }
        Err(failure) => {
            peers.tell_failure(&failure.to_string());
            Err(failure)
        }
    };
    // The threads of the network end with the process.
    forget(flow);
    done
}

/// Prints what each process has exchanged, at process 0.
fn tell_traffic(flow: &Flow, all: Duration, screen: &mut Screen) -> Result<(), Failure> {
    let Traffic { sent, exchanging, waiting } = flow.traffic();
    let times = [exchanging, waiting, all].map(|time| time.as_millis() as u64);
    let own: Vec<u8> = [sent].into_iter().chain(times).flat_map(u64::to_le_bytes).collect();
    let mut of_all: Vec<Vec<u64>> = vec![Vec::new(); flow.processes()];
    flow.parcels(&mut |send| send(0, own.clone()), &mut |from, parcel| {
        let numbers = parcel.chunks_exact(8).map(|bytes| bytes.try_into().unwrap_or_default());
        of_all[from] = numbers.map(u64::from_le_bytes).collect();
        Ok(())
    })?;
    for (process, numbers) in of_all.iter().enumerate() {
        let [sent, exchanging, waiting, all] = numbers[..] else { continue };
        let seconds = |millis: u64| millis as f64 / 1000.0;
        let (amount, unit) =
            if sent < 1_000_000 { (sent as f64 / 1e3, "kB") } else { (sent as f64 / 1e6, "MB") };
        screen.account(format!(
            "process {process} sent {amount:.1} {unit} to others; {:.2} s in exchanges, of which \
                {:.2} s waiting; {:.2} s in all",
            seconds(exchanging),
            seconds(waiting),
            seconds(all),
        ))?;
    }
    Ok(())
}

/// What all processes must agree on.
fn agreement(typed: &ArgMatches, hosts: &Hosts, file: &Path) -> Result<Agreement, Failure> {
    let text = std::fs::read(file).map_err(|source| Error::Read {
        file: file.display().to_string(),
        source,
        nearest: None,
    })?;
    let mut routine = Sha256::new_with_prefix(text);
    for id in typed.ids().filter(|id| !OWN_OPTIONS.contains(&id.as_str())) {
        // What was not typed is the same for all.
        let values = typed.get_raw(id.as_str()).into_iter().flatten();
        let values: Vec<String> =
            values.map(|value| value.to_string_lossy().into_owned()).collect();
        routine.update(format!("\0{id}={values:?}"));
    }
    Ok(Agreement {
        version: env!("CARGO_PKG_VERSION").to_owned(),
        routine: routine.finalize().into(),
        hosts: Sha256::digest(hosts.addresses().join("\n")).into(),
    })
}

/// The exchange of parcels through these connections.
fn flow(
    peers: &Arc<Peers>,
    sockets: Vec<Option<Watched>>,
    memory: Option<u64>,
) -> std::io::Result<Flow> {
    let hooks = Hooks::default();
    let own = ProcessBuilder::new_typed_vector(1, hooks.refill.clone(), None);
    let (builders, guard) =
        initialize_networking_from_sockets(own, sockets, peers.process(), 1, hooks)?;
    // It waits for the threads of the network, which end with the process.
    forget(guard);
    let none = || std::io::Error::other("the network has no connection for this process");
    let allocator = Allocator::Tcp(builders.into_iter().next().ok_or_else(none)?.build());
    // Without a clock it would never rest while it waits.
    let worker = Worker::new(WorkerConfig::default(), allocator, Some(Instant::now()));
    let share = memory.map_or(u64::MAX, |memory| memory / 64 / peers.processes() as u64);
    Ok(Flow::new(worker, peers.clone(), share.min(MOST_BYTES)))
}
