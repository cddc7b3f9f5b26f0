//! [`Peers`]: connects the processes of a run, and notices when one of them ends.
//!
//! Two connections lead to each other process: one for parcels, and one for control. On the second
//! one, processes tell each other that they still run, that they have failed, or that they are
//! done. A process that says nothing for some time has failed as well.

mod greeting;

pub(crate) use greeting::{Agreement, Connecting};

use crate::Hosts;
use jembric::{Error, Result};
use std::{
    fmt,
    io::{self, Read, Write},
    net::TcpStream,
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicBool, Ordering::Relaxed},
    },
    thread,
    time::{Duration, Instant},
};

/// How often a process says that it still runs.
const ALIVE_EVERY: Duration = Duration::from_secs(2);
/// A process that says nothing for this time has failed.
const SILENCE: Duration = Duration::from_secs(15);
/// The time to learn why a connection for parcels was closed.
const REASON: Duration = Duration::from_secs(2);
/// The time for the other processes to put their files in place.
const LAST_WAIT: Duration = Duration::from_secs(60);

/// What is told of a process that is gone.
const ENDED: &str = "it ended before the run was complete";

const ALIVE: u8 = 0;
const FAILED: u8 = 1;
const DONE: u8 = 2;

/// The other processes of a run.
pub struct Peers {
    hosts: Hosts,
    process: usize,
    controls: Vec<Option<Mutex<TcpStream>>>,
    has_failed: AtomicBool,
    state: Mutex<State>,
}

impl fmt::Debug for Peers {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Peers").field("process", &self.process).finish_non_exhaustive()
    }
}

/// What is known of the other processes.
struct State {
    /// The process that failed first, and why.
    failed: Option<(usize, String)>,
    /// A process whose parcels cannot be exchanged any more, since when, and why.
    lost: Option<(usize, Instant, String)>,
    /// Whether each process is done.
    done: Vec<bool>,
}

/// The connections to the other processes, by their numbers.
pub(crate) struct Connections {
    pub(crate) parcels: Vec<Option<TcpStream>>,
    pub(crate) controls: Vec<Option<TcpStream>>,
}

impl Peers {
    /// A process of which no other is known to run. Threads of one process are processes to each
    /// other in this way.
    pub fn alone(hosts: Hosts, process: usize) -> Arc<Peers> {
        let controls = hosts.addresses().iter().map(|_| None).collect();
        Peers::new(hosts, process, controls)
    }

    /// Watches the other processes.
    ///
    /// Errors: no threads can be started for that.
    pub(crate) fn watch(
        hosts: Hosts,
        process: usize,
        controls: Vec<Option<TcpStream>>,
    ) -> io::Result<Arc<Peers>> {
        let mut readers = Vec::new();
        for (peer, control) in controls.iter().enumerate() {
            let Some(control) = control else { continue };
            control.set_write_timeout(Some(SILENCE))?;
            let reader = control.try_clone()?;
            reader.set_read_timeout(Some(SILENCE))?;
            readers.push((peer, reader));
        }
        let controls = controls.into_iter().map(|control| control.map(Mutex::new)).collect();
        let peers = Peers::new(hosts, process, controls);
        for (peer, reader) in readers {
            let peers = peers.clone();
            let listen = move || peers.listen(peer, reader);
            thread::Builder::new().name(format!("control-{peer}")).spawn(listen)?;
        }
        let alive = peers.clone();
        let tell = move || {
            loop {
                alive.tell_all(&[ALIVE]);
                thread::sleep(ALIVE_EVERY);
            }
        };
        thread::Builder::new().name("alive".to_owned()).spawn(tell)?;
        Ok(peers)
    }

    fn new(hosts: Hosts, process: usize, controls: Vec<Option<Mutex<TcpStream>>>) -> Arc<Peers> {
        let done = vec![false; controls.len()];
        let state = Mutex::new(State { failed: None, lost: None, done });
        Arc::new(Peers { hosts, process, controls, has_failed: AtomicBool::new(false), state })
    }

    /// The number of this process.
    pub fn process(&self) -> usize {
        self.process
    }

    /// The number of all processes.
    pub fn processes(&self) -> usize {
        self.controls.len()
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Errors: another process failed.
    pub fn expect_all(&self) -> Result<()> {
        if !self.has_failed.load(Relaxed) {
            return Ok(());
        }
        match self.first_failure() {
            Some((peer, problem)) => {
                Err(Error::Process { process: self.hosts.name(peer), problem })
            }
            None => Ok(()),
        }
    }

    /// The process that failed first, and why. A lost connection counts once its reason had time
    /// to arrive.
    fn first_failure(&self) -> Option<(usize, String)> {
        let state = self.state();
        let late = || state.lost.clone().filter(|(_, since, _)| since.elapsed() > REASON);
        state.failed.clone().or_else(|| late().map(|(peer, _, problem)| (peer, problem)))
    }

    /// The error of connections that no longer work, once the reason is known.
    pub(crate) fn lost(&self) -> Error {
        let until = Instant::now() + 2 * REASON;
        while Instant::now() < until {
            match self.expect_all() {
                Err(error) => return error,
                Ok(()) => thread::sleep(Duration::from_millis(10)),
            }
        }
        let (process, problem) =
            (self.hosts.name(self.process), "its connections were lost".to_owned());
        Error::Process { process, problem }
    }

    /// Notes that a process has failed, and why. The first failure counts.
    pub fn fail(&self, peer: usize, problem: String) {
        let mut state = self.state();
        if !state.done[peer] {
            state.failed.get_or_insert((peer, problem));
            self.has_failed.store(true, Relaxed);
        }
    }

    /// Notes that parcels cannot be exchanged with a process any more. The reason may come on its
    /// other connection.
    pub(crate) fn lose(&self, peer: usize, problem: String) {
        let mut state = self.state();
        if !state.done[peer] {
            state.lost.get_or_insert((peer, Instant::now(), problem));
            self.has_failed.store(true, Relaxed);
        }
    }

    /// Takes what a process says until it is done or has failed.
    fn listen(&self, peer: usize, mut from: TcpStream) {
        loop {
            match said(&mut from) {
                Ok(Said::Alive) => {}
                Ok(Said::Done) => {
                    self.state().done[peer] = true;
                    return;
                }
                Ok(Said::Failed(failed, problem)) => {
                    let known = if failed < self.processes() { failed } else { peer };
                    return self.fail(known, problem);
                }
                Err(error) => {
                    let silent =
                        matches!(error.kind(), io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut);
                    let problem = if silent {
                        format!("it has not answered for {} seconds", SILENCE.as_secs())
                    } else {
                        ENDED.to_owned()
                    };
                    return self.fail(peer, problem);
                }
            }
        }
    }

    fn tell_all(&self, message: &[u8]) {
        for control in self.controls.iter().flatten() {
            // If it does not arrive, the process is gone, which is noticed when it says nothing.
            let mut control = control.lock().unwrap_or_else(PoisonError::into_inner);
            let _ = control.write_all(message);
        }
    }

    /// Tells the other processes which process failed, and why: one that is known to have failed,
    /// or this one with its own problem. Others may notice later that a process is silent, and
    /// would take this one, which ends now, for the cause.
    pub fn tell_failure(&self, own_problem: &str) {
        let own = || (self.process, own_problem.to_owned());
        let (process, problem) = self.first_failure().unwrap_or_else(own);
        self.tell_all(&failure(process, &problem));
    }

    /// Tells the other processes that this one is done, and waits until all are.
    ///
    /// Errors: another process failed after all had run their steps.
    pub fn finish(&self) -> Result<()> {
        self.tell_all(&[DONE]);
        let begun = Instant::now();
        loop {
            self.expect_all()?;
            let waits_for = {
                let state = self.state();
                let others = self.controls.iter().zip(&state.done).enumerate();
                let mut others = others.filter(|(_, (control, done))| control.is_some() && !**done);
                others.next().map(|(peer, _)| peer)
            };
            let Some(peer) = waits_for else { return Ok(()) };
            if begun.elapsed() > LAST_WAIT {
                let (process, problem) =
                    (self.hosts.name(peer), "it has not put its files in place".to_owned());
                return Err(Error::Process { process, problem });
            }
            thread::sleep(Duration::from_millis(2));
        }
    }
}

/// What a process says on a control connection.
enum Said {
    Alive,
    Done,
    /// This process failed, with this problem.
    Failed(usize, String),
}

fn said(from: &mut impl Read) -> io::Result<Said> {
    let mut kind = [0];
    from.read_exact(&mut kind)?;
    match kind[0] {
        ALIVE => Ok(Said::Alive),
        DONE => Ok(Said::Done),
        FAILED => {
            let (mut process, mut length) = ([0; 4], [0; 4]);
            from.read_exact(&mut process)?;
            from.read_exact(&mut length)?;
            let mut text = Vec::new();
            from.take(u32::from_le_bytes(length).into()).read_to_end(&mut text)?;
            let process = u32::from_le_bytes(process) as usize;
            Ok(Said::Failed(process, String::from_utf8_lossy(&text).into_owned()))
        }
        _ => Err(io::ErrorKind::InvalidData.into()),
    }
}

/// The message that a process failed.
fn failure(process: usize, problem: &str) -> Vec<u8> {
    const MOST: usize = 1 << 16;
    let mut ends = (0..=MOST.min(problem.len())).rev();
    let end = ends.find(|&end| problem.is_char_boundary(end)).unwrap_or_default();
    let text = &problem.as_bytes()[..end];
    let mut message = vec![FAILED];
    message.extend((process as u32).to_le_bytes());
    message.extend((text.len() as u32).to_le_bytes());
    message.extend(text);
    message
}

/// A connection for parcels, which notes when it is lost.
pub(crate) struct Watched {
    pub(crate) stream: TcpStream,
    pub(crate) peers: Arc<Peers>,
    pub(crate) peer: usize,
}

impl Watched {
    fn noted<T>(&self, result: io::Result<T>) -> io::Result<T> {
        if let Err(error) = &result
            && error.kind() != io::ErrorKind::Interrupted
        {
            self.peers.lose(self.peer, format!("the connection to it was lost ({error})"));
        }
        result
    }
}

impl Read for Watched {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.stream.read(buffer);
        if let Ok(0) = read
            && !buffer.is_empty()
        {
            self.peers.lose(self.peer, "it closed its connection".to_owned());
        }
        self.noted(read)
    }
}

impl Write for Watched {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.stream.write(bytes);
        self.noted(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.stream.flush()
    }
}

impl timely::communication::allocator::zero_copy::stream::Stream for Watched {
    fn try_clone(&self) -> io::Result<Watched> {
        let (peers, peer) = (self.peers.clone(), self.peer);
        Ok(Watched { stream: self.stream.try_clone()?, peers, peer })
    }

    fn set_nonblocking(&self, nonblocking: bool) -> io::Result<()> {
        self.stream.set_nonblocking(nonblocking)
    }

    fn shutdown(&self, how: std::net::Shutdown) -> io::Result<()> {
        self.stream.shutdown(how)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_said_is_understood() {
        let long = "ä".repeat(1 << 16);
        for problem in ["the disk is full", "", &long] {
            let message = failure(7, problem);
            let Ok(Said::Failed(7, text)) = said(&mut &message[..]) else { panic!("{problem}") };
            assert!(problem.starts_with(&text) && text.len() + 1 >= problem.len().min(1 << 16));
        }
        assert!(matches!(said(&mut &[ALIVE][..]), Ok(Said::Alive)));
        assert!(matches!(said(&mut &[DONE][..]), Ok(Said::Done)));
        assert!(said(&mut &[9][..]).is_err() && said(&mut &[][..]).is_err());
    }

    /// Both ends of a new connection.
    fn connection() -> (TcpStream, TcpStream) {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let one = TcpStream::connect(listener.local_addr().unwrap()).unwrap();
        (one, listener.accept().unwrap().0)
    }

    #[rstest::rstest]
    #[case::another_failed(true, "process 2 (c:3): it is silent")]
    #[case::it_failed_itself(false, "process 1 (b:2): the disk is full")]
    fn the_process_that_failed_first_is_told_to_others(
        #[case] another: bool,
        #[case] expected: &str,
    ) {
        let hosts = || Hosts::parse("hosts.txt", "a:1\nb:2\nc:3\n").unwrap();
        let (at_a, at_b) = connection();
        let a = Peers::watch(hosts(), 0, vec![None, Some(at_a), None]).unwrap();
        let b = Peers::watch(hosts(), 1, vec![Some(at_b), None, None]).unwrap();
        if another {
            b.fail(2, "it is silent".to_owned());
        }
        b.tell_failure("the disk is full");
        assert!(a.lost().to_string().ends_with(expected), "{}", a.lost());
    }
}
