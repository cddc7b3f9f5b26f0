//! Removes temporary files and cancels queries when the process is told to end.

use jembric::io::{abandon_files, cancel_queries};

/// On a signal that ends the process, removes temporary files, cancels the queries that run on
/// servers, and ends the process by that signal.
///
/// A signal that is ignored (for example under `nohup`) stays ignored. If no thread can be started
/// for this, the next run removes the files.
#[cfg(unix)]
pub(crate) fn on_signals() {
    use signal_hook::{
        consts::{SIGHUP, SIGINT, SIGTERM},
        iterator::Signals,
        low_level::emulate_default_handler,
    };
    let ignored = ignored_signals();
    let wanted =
        [SIGHUP, SIGINT, SIGTERM].into_iter().filter(|signal| ignored & 1 << (signal - 1) == 0);
    let Ok(mut signals) = Signals::new(wanted) else { return };
    let wait = move || {
        for signal in signals.forever() {
            clean_up();
            let _ = emulate_default_handler(signal);
        }
    };
    let _ = std::thread::Builder::new().name("signals".to_owned()).spawn(wait);
}

#[cfg(not(unix))]
pub(crate) fn on_signals() {}

fn clean_up() {
    abandon_files(true);
    cancel_queries();
}

/// Ends the process as a signal does: removes temporary files and cancels queries first.
pub fn end_as_on_a_signal() -> ! {
    const BY_SIGTERM: i32 = 128 + 15;
    clean_up();
    std::process::exit(BY_SIGTERM)
}

/// A bit for each signal that the process ignores, if the system reports them.
#[cfg(unix)]
fn ignored_signals() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let mask = status.lines().find_map(|line| line.strip_prefix("SigIgn:"));
    mask.and_then(|mask| u64::from_str_radix(mask.trim(), 16).ok()).unwrap_or(0)
}
