//! Four hosts, each a network namespace of this machine: a slow network, and one that breaks.
//!
//! This needs root and the command `ip`, and is skipped elsewhere.

use assert_cmd::cargo::cargo_bin;
use std::{
    fs,
    path::Path,
    process::{Child, Command, Output, Stdio},
    thread,
    time::{Duration, Instant},
};

const HOSTS: usize = 4;

/// The hosts, which are removed in the end.
struct Network {
    name: String,
}

fn ip(words: &str) -> bool {
    let ran = Command::new("ip").args(words.split(' ')).stderr(Stdio::null()).status();
    ran.is_ok_and(|status| status.success())
}

impl Network {
    /// The hosts, on one bridge; none if this machine does not allow that.
    fn new(number: u8) -> Option<Network> {
        let name = format!("j{}{number}", std::process::id());
        let network = Network { name: name.clone() };
        if !ip(&format!("link add {name} type bridge")) || !ip(&format!("link set {name} up")) {
            eprintln!("skipped: this needs root, and the command `ip` for network namespaces");
            return None;
        }
        for host in 0..HOSTS {
            let made = [
                format!("netns add {name}-{host}"),
                format!("link add {name}v{host} type veth peer name eth0 netns {name}-{host}"),
                format!("link set {name}v{host} master {name}"),
                format!("link set {name}v{host} up"),
                format!("-n {name}-{host} addr add 10.77.{number}.{}/24 dev eth0", host + 1),
                format!("-n {name}-{host} link set eth0 up"),
                format!("-n {name}-{host} link set lo up"),
            ];
            if !made.iter().all(|words| ip(words)) {
                eprintln!("skipped: this machine does not allow network namespaces");
                return None;
            }
        }
        Some(network)
    }

    /// Makes the network slow, and lets it lose packets, where the system can.
    fn slow_down(&self) {
        for host in 0..HOSTS {
            let words = format!(
                "netns exec {}-{host} tc qdisc add dev eth0 root netem delay 5ms loss 1%",
                self.name
            );
            if !ip(&words) {
                eprintln!("without delay and loss: this system has no `netem`");
                return;
            }
        }
    }

    fn start(&self, directory: &Path, process: usize, more: &[&str]) -> Child {
        let mut command = Command::new("ip");
        command.args(["netns", "exec", &format!("{}-{process}", self.name)]);
        command.arg(cargo_bin("jembric-cluster")).args(["run", "days.toml"]);
        command.args(["--hosts", "hosts.txt", "--process", &process.to_string(), "--threads", "1"]);
        command.args(more).current_dir(directory);
        command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
        command.spawn().unwrap()
    }
}

impl Drop for Network {
    fn drop(&mut self) {
        for host in 0..HOSTS {
            ip(&format!("netns del {}-{host}", self.name));
        }
        ip(&format!("link del {}", self.name));
    }
}

/// A directory with a routine and its table.
fn days(number: u8, rows: usize) -> tempfile::TempDir {
    let directory = tempfile::tempdir().unwrap();
    let row = |n: usize| {
        format!("vessel {},2025-{:02}-{:02},{}\n", n * 7 % 977, n % 12 + 1, n % 28 + 1, n % 100)
    };
    let text: String =
        std::iter::once("vessel,day,tons\n".to_owned()).chain((0..rows).map(row)).collect();
    fs::write(directory.path().join("days.csv"), text).unwrap();
    let routine = "[[step]]\nname = 'so far'\nread = 'days.csv'\nrunning = { per = ['vessel'], \
                   date = 'day', sum = ['tons'] }\n[[step]]\ntotals = { date = ['day'], grain = \
                   'month', per = ['vessel'], max = ['sum_so_far_tons'] }\nwrite = \
                   'totals.csv'\n[[step]]\nfrom = 'so far'\nlatest = { per = ['vessel'], date = \
                   'day', ties = 'first', then = ['sum_so_far_tons'] }\nwrite = 'latest.csv'\n";
    fs::write(directory.path().join("days.toml"), routine).unwrap();
    let hosts = (1..=HOSTS).map(|host| format!("10.77.{number}.{host}:7000\n"));
    fs::write(directory.path().join("hosts.txt"), hosts.collect::<String>()).unwrap();
    directory
}

fn told(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

#[test]
fn four_hosts_on_a_slow_network_give_what_one_gives() {
    let Some(network) = Network::new(1) else { return };
    network.slow_down();
    let (one, several) = (days(1, 20_000), days(1, 20_000));
    let mut alone = Command::new(cargo_bin("jembric-cluster"));
    alone.args(["run", "days.toml", "--local", "1", "--gather"]).current_dir(one.path());
    let alone = alone.output().unwrap();
    assert!(alone.status.success(), "{}", told(&alone));
    let children: Vec<Child> =
        (0..HOSTS).map(|host| network.start(several.path(), host, &["--gather"])).collect();
    let ended: Vec<Output> =
        children.into_iter().map(|child| child.wait_with_output().unwrap()).collect();
    ended.iter().for_each(|output| assert!(output.status.success(), "{}", told(output)));
    assert_eq!(told(&alone), told(&ended[0]));
    for file in ["totals.csv", "latest.csv"] {
        let rows = |directory: &Path| {
            let text = fs::read_to_string(directory.join(file)).unwrap();
            let mut rows: Vec<String> = text.lines().map(str::to_owned).collect();
            rows[1..].sort_unstable();
            rows
        };
        assert!(rows(one.path()) == rows(several.path()), "{file}");
    }
}

#[test]
fn a_host_that_loses_its_network_ends_the_run() {
    let Some(network) = Network::new(2) else { return };
    let directory = days(2, 900_000);
    let children: Vec<Child> =
        (0..HOSTS).map(|host| network.start(directory.path(), host, &[])).collect();
    // The last one loses its network once all are connected, while the others work or wait for it.
    thread::sleep(Duration::from_millis(1_000));
    assert!(ip(&format!("link set {}v3 down", network.name)));
    let begun = Instant::now();
    let ended: Vec<Output> =
        children.into_iter().map(|child| child.wait_with_output().unwrap()).collect();
    assert!(begun.elapsed() < Duration::from_secs(50), "{:?}", begun.elapsed());
    for output in &ended[..3] {
        assert_eq!(output.status.code(), Some(1));
        assert!(
            told(output).starts_with("error: process 3 (10.77.2.4:7000): "),
            "{}",
            told(output)
        );
    }
    assert_eq!(ended[3].status.code(), Some(1));
    let left = fs::read_dir(directory.path()).unwrap().flatten();
    let names: Vec<String> =
        left.map(|file| file.file_name().to_string_lossy().into_owned()).collect();
    assert!(!names.iter().any(|name| name.starts_with('.') || name.contains("-of-")), "{names:?}");
}
