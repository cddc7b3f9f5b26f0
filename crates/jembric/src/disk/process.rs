//! [`Process`]: the identity of a process in the names of its files, and whether it is still
//! running.

use std::{fmt, fs, str::FromStr, sync::OnceLock};

/// A process by its host, its id and its start time.
///
/// Process ids are reused, so the start time distinguishes them. If the system does not report it,
/// it is 0.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Process {
    host: String,
    id: u32,
    began: u64,
}

impl Process {
    /// This process.
    pub(crate) fn this() -> &'static Process {
        static THIS: OnceLock<Process> = OnceLock::new();
        THIS.get_or_init(|| {
            let id = std::process::id();
            Process { host: host(), id, began: began(id).unwrap_or(0) }
        })
    }

    /// Whether it is known to have ended. Nothing is known about processes on other hosts.
    pub(crate) fn is_dead(&self) -> bool {
        self.host == Process::this().host
            && match fs::exists("/proc/self/stat") {
                Ok(true) => began(self.id) != Some(self.began),
                _ => !answers(self.id),
            }
    }
}

/// The start time of a process, in ticks since the machine started. It is the 22nd value of
/// `/proc/ID/stat`, whose second value, in parentheses, may contain blanks.
fn began(id: u32) -> Option<u64> {
    let stat = fs::read_to_string(format!("/proc/{id}/stat")).ok()?;
    stat.rsplit_once(')')?.1.split_whitespace().nth(19)?.parse().ok()
}

#[cfg(unix)]
fn answers(id: u32) -> bool {
    use rustix::process::{Pid, test_kill_process};
    let id = i32::try_from(id).ok().and_then(Pid::from_raw);
    // A process that may not be inspected is running.
    id.is_none_or(|id| test_kill_process(id) != Err(rustix::io::Errno::SRCH))
}

#[cfg(not(unix))]
fn answers(_: u32) -> bool {
    true
}

/// The name of the machine, without characters that file names cannot contain.
fn host() -> String {
    #[cfg(unix)]
    let name = rustix::system::uname().nodename().to_string_lossy().into_owned();
    #[cfg(not(unix))]
    let name = std::env::var("COMPUTERNAME").unwrap_or_default();
    let plain = |c: char| if c.is_ascii_alphanumeric() || c == '.' { c } else { '_' };
    match name.chars().take(64).map(plain).collect::<String>() {
        name if name.is_empty() => "localhost".to_owned(),
        name => name,
    }
}

impl fmt::Display for Process {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}-{}-{}", self.host, self.id, self.began)
    }
}

impl FromStr for Process {
    type Err = ();

    fn from_str(text: &str) -> Result<Process, ()> {
        let mut parts = text.rsplitn(3, '-');
        let mut number = || parts.next()?.parse::<u64>().ok();
        let (began, id) = number().zip(number()).ok_or(())?;
        let host = parts.next().ok_or(())?.to_owned();
        Ok(Process { host, id: u32::try_from(id).map_err(|_| ())?, began })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_process_is_told_by_its_name_and_by_when_it_began() {
        let this = Process::this();
        assert_eq!(this.to_string().parse().as_ref(), Ok(this));
        assert!(!this.is_dead());
        let mut ended = std::process::Command::new("true").spawn().unwrap();
        let id = ended.id();
        ended.wait().unwrap();
        let elsewhere = Process { host: "elsewhere".to_owned(), id, began: 1 };
        assert!(!elsewhere.is_dead(), "nothing is known of other hosts");
        assert!(Process { host: this.host.clone(), ..elsewhere }.is_dead());
        assert!("host-1".parse::<Process>().is_err());
    }
}
