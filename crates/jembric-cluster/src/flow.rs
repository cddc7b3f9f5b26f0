//! [`Flow`]: exchanges parcels as a dataflow of `timely`.
//!
//! Each exchange is a dataflow of its own: an input, and an operator to which the parcels travel.
//! A sender counts its bytes in rounds, and each round is a timestamp. It begins a round only when
//! every process has taken all parcels of the round before the last one, so that no more than two
//! rounds of each sender are on their way.

use crate::peers::Peers;
use jembric::{
    Result,
    io::{Exchange, Parcels},
};
use serde::{Deserialize, Serialize};
use std::{
    cell::{Cell, RefCell},
    collections::VecDeque,
    fmt,
    panic::{AssertUnwindSafe, catch_unwind},
    rc::Rc,
    sync::Arc,
    time::{Duration, Instant},
};
use timely::{
    container::CapacityContainerBuilder,
    dataflow::{
        InputHandle, ProbeHandle,
        channels::pact::Exchange as ToProcess,
        operators::{
            Input, Probe,
            generic::{Operator, OutputBuilderSession},
        },
    },
    worker::Worker,
};

/// How long a process waits before it looks whether the others still run.
const LOOK: Duration = Duration::from_millis(50);

#[derive(Clone, Debug, Serialize, Deserialize)]
struct Parcel {
    to: u64,
    from: u64,
    #[serde(with = "serde_bytes")]
    bytes: Vec<u8>,
}

/// The output of an operator that has none. Its timestamps tell which rounds were taken.
type Nothing<'a> = OutputBuilderSession<'a, u64, CapacityContainerBuilder<Vec<()>>>;

/// Connects the processes of a run. Each process has a worker of `timely`.
pub struct Flow {
    worker: RefCell<Worker>,
    peers: Arc<Peers>,
    /// The bytes of a round.
    round: u64,
    traffic: Cell<Traffic>,
}

/// What a process has exchanged.
#[derive(Clone, Copy, Debug, Default)]
pub struct Traffic {
    /// The bytes that were sent to other processes.
    pub sent: u64,
    /// The time in exchanges, with that of making and taking the parcels.
    pub exchanging: Duration,
    /// The part of it that passed in waiting for other processes.
    pub waiting: Duration,
}

impl fmt::Debug for Flow {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Flow").field("peers", &self.peers).finish_non_exhaustive()
    }
}

/// The state of an exchange.
struct Exchanging<'a> {
    worker: &'a mut Worker,
    peers: &'a Peers,
    received: Rc<RefCell<VecDeque<Parcel>>>,
    probe: ProbeHandle<u64>,
    waiting: Duration,
}

impl Flow {
    /// Connects processes by a worker, of which each process has one. At most twice this many bytes
    /// of each sender are on their way.
    pub fn new(worker: Worker, peers: Arc<Peers>, round: u64) -> Flow {
        let traffic = Cell::default();
        Flow { worker: RefCell::new(worker), peers, round: round.max(1), traffic }
    }

    /// What this process has exchanged so far.
    pub fn traffic(&self) -> Traffic {
        self.traffic.get()
    }
}

impl Exchanging<'_> {
    /// Lets the worker do what it can, and takes the parcels that have come.
    fn step(&mut self, wait: Duration, take: &mut Parcels<'_>) -> Result<()> {
        let begun = Instant::now();
        let step = AssertUnwindSafe(|| self.worker.step_or_park(Some(wait)));
        let stepped = catch_unwind(step);
        self.waiting += begun.elapsed();
        if stepped.is_err() {
            return Err(self.peers.lost());
        }
        loop {
            let Some(parcel) = self.received.borrow_mut().pop_front() else { break };
            take(parcel.from as usize, parcel.bytes)?;
        }
        self.peers.expect_all()
    }

    /// Waits until every process has taken the parcels of all rounds before this one.
    fn until(&mut self, round: u64, take: &mut Parcels<'_>) -> Result<()> {
        while self.probe.less_than(&round) {
            self.step(LOOK, take)?;
        }
        Ok(())
    }
}

impl Exchange for Flow {
    fn process(&self) -> usize {
        self.peers.process()
    }

    fn processes(&self) -> usize {
        self.peers.processes()
    }

    fn parcels(
        &self,
        send: &mut dyn FnMut(&mut Parcels<'_>) -> Result<()>,
        take: &mut Parcels<'_>,
    ) -> Result<()> {
        let begun = Instant::now();
        let worker = &mut *self.worker.borrow_mut();
        let received: Rc<RefCell<VecDeque<Parcel>>> = Rc::default();
        let probe = ProbeHandle::new();
        let mut input = InputHandle::new();
        worker.dataflow::<u64, _, _>(|scope| {
            let received = received.clone();
            let pact = ToProcess::new(|parcel: &Parcel| parcel.to);
            let taken = scope.input_from(&mut input).unary(pact, "parcels", |_, _| {
                move |input, _: &mut Nothing<'_>| {
                    input.for_each(|_, parcels: &mut Vec<Parcel>| {
                        received.borrow_mut().extend(parcels.drain(..));
                    });
                }
            });
            taken.probe_with(&probe);
        });
        let (process, mut round, mut bytes, mut sent) = (self.process(), 0_u64, 0_u64, 0_u64);
        let mut flow =
            Exchanging { worker, peers: &self.peers, received, probe, waiting: Duration::ZERO };
        // Both functions take parcels, but never at the same time.
        let take = RefCell::new(take);
        send(&mut |to, parcel| {
            let length = parcel.len() as u64;
            bytes += length;
            sent += if to == process { 0 } else { length };
            input.send(Parcel { to: to as u64, from: process as u64, bytes: parcel });
            input.flush();
            if bytes >= self.round {
                (round, bytes) = (round + 1, 0);
                input.advance_to(round);
                flow.until(round.saturating_sub(1), &mut **take.borrow_mut())?;
            }
            flow.step(Duration::ZERO, &mut **take.borrow_mut())
        })?;
        input.close();
        flow.until(u64::MAX, &mut **take.borrow_mut())?;
        let before = self.traffic.get();
        self.traffic.set(Traffic {
            sent: before.sent + sent,
            exchanging: before.exchanging + begun.elapsed(),
            waiting: before.waiting + flow.waiting,
        });
        Ok(())
    }
}
