//! Cancels the queries of this process on their servers.

use super::tls::Tls;
use postgres::CancelToken;
use std::{
    collections::BTreeMap,
    sync::{Mutex, MutexGuard, PoisonError, mpsc},
    thread,
    time::Duration,
};

/// How long to wait for servers.
const PATIENCE: Duration = Duration::from_secs(2);

static OPEN: Mutex<BTreeMap<u64, (CancelToken, Tls)>> = Mutex::new(BTreeMap::new());

fn open() -> MutexGuard<'static, BTreeMap<u64, (CancelToken, Tls)>> {
    OPEN.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A connection whose queries can be cancelled, until this is dropped.
#[derive(Debug)]
pub(super) struct Cancellable(u64);

impl Drop for Cancellable {
    fn drop(&mut self) {
        open().remove(&self.0);
    }
}

pub(super) fn register(token: CancelToken, tls: Tls) -> Cancellable {
    let mut open = open();
    let number = open.last_key_value().map_or(0, |(last, _)| last + 1);
    open.insert(number, (token, tls));
    Cancellable(number)
}

/// Cancels the queries that this process runs on PostgreSQL servers. This is for a process that is
/// about to end: a server may otherwise go on with a long query, because it does not notice that
/// its client has gone. It waits for at most two seconds.
pub fn cancel_queries() {
    let open: Vec<(CancelToken, Tls)> = open().values().cloned().collect();
    let (done, all_done) = mpsc::channel();
    let number = open.len();
    for (token, tls) in open {
        let done = done.clone();
        let _ = thread::Builder::new().spawn(move || {
            let _ = token.cancel_query(tls);
            let _ = done.send(());
        });
    }
    for _ in 0..number {
        if all_done.recv_timeout(PATIENCE).is_err() {
            break;
        }
    }
}
