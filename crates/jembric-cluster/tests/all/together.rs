//! Several processes as threads of one, which exchange parcels as processes do.

use jembric::Result;
use jembric_cluster::{Flow, Hosts, Peers};
use std::{sync::Arc, thread, time::Instant};
use timely::{
    WorkerConfig,
    communication::{Allocator, Hooks, allocator::ProcessBuilder},
    worker::Worker,
};

/// Runs a function in each of several processes.
pub(crate) fn together<T: Send>(
    processes: usize,
    round: u64,
    run: impl Fn(&Flow) -> Result<T> + Sync,
) -> Vec<Result<T>> {
    let text: String = (0..processes).map(|n| format!("harbour-{n}:7000\n")).collect();
    let hosts = Hosts::parse("hosts.txt", &text).unwrap();
    let peers: Vec<Arc<Peers>> =
        (0..processes).map(|process| Peers::alone(hosts.clone(), process)).collect();
    let builders = ProcessBuilder::new_typed_vector(processes, Hooks::default().refill, None);
    thread::scope(|scope| {
        let running: Vec<_> = builders
            .into_iter()
            .enumerate()
            .map(|(process, builder)| {
                let (peers, run) = (&peers, &run);
                scope.spawn(move || {
                    let allocator = Allocator::Process(builder.build());
                    let worker =
                        Worker::new(WorkerConfig::default(), allocator, Some(Instant::now()));
                    let done = run(&Flow::new(worker, peers[process].clone(), round));
                    if let Err(error) = &done {
                        let others = peers.iter().filter(|other| other.process() != process);
                        others.for_each(|other| other.fail(process, error.to_string()));
                    }
                    done
                })
            })
            .collect();
        running.into_iter().map(|running| running.join().unwrap()).collect()
    })
}
