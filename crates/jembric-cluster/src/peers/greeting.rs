//! Connects the processes, and makes sure that all of them run the same.
//!
//! Each process listens on its own address, and connects to those before it in the list. Whoever
//! connects greets first, and the other answers with what does not agree. Greetings are read
//! concurrently, as their bytes arrive: a stranger that connects and says nothing delays nobody.

use super::{Connections, ENDED, Peers, Said, failure, said};
use crate::Hosts;
use borsh::{BorshDeserialize, BorshSerialize};
use jembric::{Error, Result};
use socket2::{SockRef, TcpKeepalive};
use std::{
    collections::VecDeque,
    io::{self, Read, Write},
    net::{TcpListener, TcpStream, ToSocketAddrs},
    sync::Arc,
    thread,
    time::{Duration, Instant},
};

/// The first bytes of a greeting. Another program that connects by mistake does not send them.
const GREETING: [u8; 8] = *b"jembric\x01";
/// The most bytes of a greeting or an answer.
const MOST_BYTES: u32 = 1 << 16;
/// The time for a greeting and its answer.
const ANSWER: Duration = Duration::from_secs(10);
/// The time between two attempts to connect.
const AGAIN: Duration = Duration::from_millis(50);
/// The most connections that have not greeted yet. If there are more, the oldest is closed.
const MOST_WAITING: usize = 64;

/// What all processes must agree on.
#[derive(Clone, Debug, PartialEq, Eq, BorshSerialize, BorshDeserialize)]
pub(crate) struct Agreement {
    /// The version of the program.
    pub(crate) version: String,
    /// A hash of the routine, and of the options for it.
    pub(crate) routine: [u8; 32],
    /// A hash of the list of hosts.
    pub(crate) hosts: [u8; 32],
}

#[derive(BorshSerialize, BorshDeserialize)]
struct Greeting {
    greeting: [u8; 8],
    /// Whether the connection is for control, and not for parcels.
    is_control: bool,
    from: u32,
    to: u32,
    agreement: Agreement,
}

#[derive(BorshSerialize, BorshDeserialize)]
struct Answer {
    /// What does not agree.
    problem: Option<String>,
    /// Today's date for the process that answers.
    today: String,
}

/// The other processes, the connections for parcels, and today's date for process 0.
pub(crate) struct Connected {
    pub(crate) peers: Arc<Peers>,
    pub(crate) parcels: Vec<Option<TcpStream>>,
    pub(crate) today: String,
}

/// One process that connects to the others.
pub(crate) struct Connecting<'a> {
    pub(crate) hosts: &'a Hosts,
    pub(crate) process: usize,
    pub(crate) agreement: &'a Agreement,
    pub(crate) today: &'a str,
    pub(crate) until: Instant,
    pub(crate) wait: Duration,
}

impl Connecting<'_> {
    /// Connects to all other processes.
    ///
    /// Errors: the address is not one of this machine, or is in use; a process does not come in
    /// time; a process runs something else.
    pub(crate) fn connect(&self) -> Result<Connected> {
        let listener = self.listener()?;
        let none = || self.hosts.addresses().iter().map(|_| None).collect();
        let mut connections = Connections { parcels: none(), controls: none() };
        let done = self.connect_all(&listener, &mut connections);
        let today = match done {
            Ok(today) => today,
            Err(error) => {
                // Those that are connected already learn why.
                let message = failure(self.process, &error.to_string());
                for control in connections.controls.iter_mut().flatten() {
                    let _ = control.write_all(&message);
                }
                return Err(error);
            }
        };
        let Connections { parcels, controls } = connections;
        // A process may wait for parcels for a long time.
        let waits = |stream: &TcpStream| stream.set_read_timeout(None);
        let waits = parcels.iter().flatten().try_for_each(waits);
        waits.map_err(|error| self.own(error.to_string()))?;
        let peers = Peers::watch(self.hosts.clone(), self.process, controls);
        let peers = peers.map_err(|error| self.own(error.to_string()))?;
        Ok(Connected { peers, parcels, today })
    }

    /// The error of this process.
    fn own(&self, problem: String) -> Error {
        Error::Process { process: self.hosts.name(self.process), problem }
    }

    /// Listens on this process's own address.
    ///
    /// Errors: the port is in use; the address is another machine's.
    fn listener(&self) -> Result<TcpListener> {
        let address = &self.hosts.addresses()[self.process];
        let listener = TcpListener::bind(address.as_str()).and_then(|listener| {
            listener.set_nonblocking(true)?;
            Ok(listener)
        });
        listener.map_err(|error| {
            self.own(match error.kind() {
                io::ErrorKind::AddrInUse => "its port is in use. Is the process running already? \
                     Otherwise give it another port in the list of hosts"
                    .to_owned(),
                io::ErrorKind::AddrNotAvailable => {
                    "its address is not one of this machine. Give --process the number of the line \
                     that has this machine"
                        .to_owned()
                }
                _ => format!("it cannot listen on its address ({error})"),
            })
        })
    }

    /// Connects to the processes before this one, and waits for those behind it.
    fn connect_all(&self, listener: &TcpListener, to: &mut Connections) -> Result<String> {
        let mut today = self.today.to_owned();
        for peer in 0..self.process {
            let (parcels, _) = self.greet(peer, false, to)?;
            let (control, answer) = self.greet(peer, true, to)?;
            if peer == 0 {
                today = answer.today;
            }
            (to.parcels[peer], to.controls[peer]) = (Some(parcels), Some(control));
        }
        let is_missing = |to: &Connections| {
            (self.process + 1..self.hosts.addresses().len())
                .find(|peer| to.parcels[*peer].is_none() || to.controls[*peer].is_none())
        };
        let mut waiting: VecDeque<Waiting> = VecDeque::new();
        while let Some(missing) = is_missing(to) {
            match listener.accept() {
                Ok((stream, _)) => {
                    waiting.extend(Waiting::new(stream));
                    if waiting.len() > MOST_WAITING {
                        waiting.pop_front();
                    }
                }
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => {
                    if Instant::now() > self.until {
                        return Err(self.late(missing, "it has not connected"));
                    }
                    self.expect_connected(to)?;
                    thread::sleep(AGAIN / 10);
                }
                Err(error) => return Err(self.own(error.to_string())),
            }
            // A connection of anything else than such a process is closed.
            for mut greeter in std::mem::take(&mut waiting) {
                match greeter.read() {
                    Ok(Some(greeting)) => self.answer(greeter.stream, greeting, to)?,
                    Ok(None) if greeter.since.elapsed() < ANSWER => waiting.push_back(greeter),
                    Ok(None) | Err(_) => {}
                }
            }
        }
        Ok(today)
    }

    fn late(&self, peer: usize, problem: &str) -> Error {
        let problem = format!(
            "{problem} within {} seconds. Is it running, and is its line in the list of hosts \
                right?",
            self.wait.as_secs()
        );
        Error::Process { process: self.hosts.name(peer), problem }
    }

    /// Errors: a process to which this one is connected has failed.
    fn expect_connected(&self, to: &Connections) -> Result<()> {
        for (peer, control) in to.controls.iter().enumerate() {
            let Some(mut control) = control.as_ref() else { continue };
            let answered = control.set_nonblocking(true).and_then(|()| control.peek(&mut [0]));
            control.set_nonblocking(false).map_err(|error| self.own(error.to_string()))?;
            if answered.as_ref().is_err_and(|error| error.kind() == io::ErrorKind::WouldBlock) {
                continue;
            }
            let problem = match said(&mut control) {
                Ok(Said::Alive | Said::Done) => continue,
                Ok(Said::Failed(_, problem)) => problem,
                Err(_) => ENDED.to_owned(),
            };
            return Err(Error::Process { process: self.hosts.name(peer), problem });
        }
        Ok(())
    }

    /// Connects to a process, and greets it.
    fn greet(
        &self,
        peer: usize,
        is_control: bool,
        to: &Connections,
    ) -> Result<(TcpStream, Answer)> {
        let failed = |problem: String| Error::Process { process: self.hosts.name(peer), problem };
        let mut stream = self.stream_to(peer, to)?;
        // The other process may still wait for those before it.
        let left = self.until.saturating_duration_since(Instant::now()).max(ANSWER);
        stream.set_read_timeout(Some(left)).map_err(|error| failed(error.to_string()))?;
        let greeting = Greeting {
            greeting: GREETING,
            is_control,
            from: self.process as u32,
            to: peer as u32,
            agreement: self.agreement.clone(),
        };
        let answer = write(&mut stream, &greeting).and_then(|()| read::<Answer>(&mut stream));
        let answer = answer.map_err(|error| failed(format!("it does not answer ({error})")))?;
        match answer.problem {
            Some(problem) => Err(failed(problem)),
            None => Ok((stream, answer)),
        }
    }

    /// A connection to a process, which may not be listening yet.
    fn stream_to(&self, peer: usize, to: &Connections) -> Result<TcpStream> {
        let address = self.hosts.addresses()[peer].as_str();
        loop {
            let connected = address.to_socket_addrs().and_then(|mut addresses| {
                let none = || io::Error::new(io::ErrorKind::NotFound, "its name has no address");
                let address = addresses.next().ok_or_else(none)?;
                TcpStream::connect_timeout(&address, ANSWER)
            });
            match connected.and_then(|stream| ready(&stream).map(|()| stream)) {
                Ok(stream) => return Ok(stream),
                Err(error) if Instant::now() > self.until => {
                    return Err(self.late(peer, &format!("it cannot be reached ({error})")));
                }
                Err(_) => {
                    self.expect_connected(to)?;
                    thread::sleep(AGAIN);
                }
            }
        }
    }

    /// Answers a greeting.
    fn answer(
        &self,
        mut stream: TcpStream,
        greeting: Greeting,
        to: &mut Connections,
    ) -> Result<()> {
        let Greeting { is_control, from, to: meant, agreement, .. } = greeting;
        let (from, processes) = (from as usize, self.hosts.addresses().len());
        if stream.set_nonblocking(false).and_then(|()| ready(&stream)).is_err() {
            return Ok(());
        }
        let problem = self.disagreement(&agreement).or_else(|| {
            let is_wrong = meant as usize != self.process || from <= self.process;
            (is_wrong || from >= processes).then(|| "has another number".to_owned())
        });
        let place = if is_control { &mut to.controls } else { &mut to.parcels };
        let is_there = place.get(from).is_some_and(Option::is_some);
        let answered = match &problem {
            Some(problem) => Some(format!("this process {problem} than it")),
            None if is_there => Some("a process with this number is connected already".to_owned()),
            None => None,
        };
        let answer = Answer { problem: answered, today: self.today.to_owned() };
        let answered = write(&mut stream, &answer);
        match problem {
            Some(problem) if from < processes => {
                let problem = format!("it {problem} than process {}", self.process);
                Err(Error::Process { process: self.hosts.name(from), problem })
            }
            Some(problem) => Err(self.own(format!("another process {problem} than it"))),
            None => {
                if answered.is_ok() && !is_there {
                    place[from] = Some(stream);
                }
                Ok(())
            }
        }
    }

    /// What another process has otherwise.
    fn disagreement(&self, other: &Agreement) -> Option<String> {
        let own = self.agreement;
        if other.version != own.version {
            return Some(format!("runs another version ({}, not {})", other.version, own.version));
        }
        if other.hosts != own.hosts {
            return Some("has another list of hosts".to_owned());
        }
        (other.routine != own.routine).then(|| "runs another routine or other options".to_owned())
    }
}

/// A connection that has not greeted yet.
struct Waiting {
    stream: TcpStream,
    since: Instant,
    /// The bytes of the greeting that have arrived, with its length before them.
    bytes: Vec<u8>,
}

impl Waiting {
    fn new(stream: TcpStream) -> Option<Waiting> {
        stream.set_nonblocking(true).ok()?;
        Some(Waiting { stream, since: Instant::now(), bytes: Vec::new() })
    }

    /// The greeting, if all of it has arrived. No byte after it is read.
    ///
    /// Errors: the connection is closed, or what comes is no greeting.
    fn read(&mut self) -> io::Result<Option<Greeting>> {
        loop {
            let length = self.bytes.first_chunk::<4>().map(|bytes| u32::from_le_bytes(*bytes));
            if length.is_some_and(|length| length > MOST_BYTES) {
                return Err(io::ErrorKind::InvalidData.into());
            }
            let end = length.map_or(4, |length| 4 + length as usize);
            if length.is_some() && self.bytes.len() == end {
                let greeting: Greeting = borsh::from_slice(&self.bytes[4..])?;
                return if greeting.greeting == GREETING {
                    Ok(Some(greeting))
                } else {
                    Err(io::ErrorKind::InvalidData.into())
                };
            }
            let (before, left) = (self.bytes.len(), end - self.bytes.len());
            self.bytes.resize(before + left.min(1 << 12), 0);
            let read = self.stream.read(&mut self.bytes[before..]);
            self.bytes.truncate(before + read.as_ref().map_or(0, |read| *read));
            match read {
                Ok(0) => return Err(io::ErrorKind::UnexpectedEof.into()),
                Ok(_) => {}
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => return Ok(None),
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
        }
    }
}

/// Prepares a connection: small messages are sent at once, and a machine that is gone is noticed.
fn ready(stream: &TcpStream) -> io::Result<()> {
    stream.set_nodelay(true)?;
    stream.set_read_timeout(Some(ANSWER))?;
    let alive = TcpKeepalive::new().with_time(ANSWER);
    SockRef::from(stream).set_tcp_keepalive(&alive)
}

fn write(to: &mut impl Write, message: &impl BorshSerialize) -> io::Result<()> {
    let bytes = borsh::to_vec(message)?;
    to.write_all(&(bytes.len() as u32).to_le_bytes())?;
    to.write_all(&bytes)
}

fn read<T: BorshDeserialize>(from: &mut impl Read) -> io::Result<T> {
    let mut length = [0; 4];
    from.read_exact(&mut length)?;
    let length = u32::from_le_bytes(length);
    if length > MOST_BYTES {
        return Err(io::ErrorKind::InvalidData.into());
    }
    let mut bytes = vec![0; length as usize];
    from.read_exact(&mut bytes)?;
    borsh::from_slice(&bytes)
}
