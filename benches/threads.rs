//! Times an operation beside its kernel, and with one thread beside all threads.

#[path = "ratio.rs"]
mod ratio;

use criterion::Criterion;
use rayon::ThreadPoolBuilder;

const ROUNDS: usize = 5;

/// Compares an operation with its kernel. If there is a ratio to reach, the operation also runs
/// with one thread and with all threads in turn.
pub(crate) fn compare<A, B: Send>(
    criterion: &mut Criterion,
    name: &str,
    kernel: (&str, impl FnMut() -> A),
    (operation_name, mut operation): (&str, impl FnMut() -> B + Send),
    to_reach: Option<f64>,
) {
    let has_run =
        ratio::compare(criterion, name, kernel, (operation_name, &mut operation), to_reach);
    if !has_run || to_reach.is_none() {
        return;
    }
    let one_thread = ThreadPoolBuilder::new().num_threads(1).build().expect("a thread");
    let ratios = (0..ROUNDS).map(|_| {
        let alone = one_thread.install(|| ratio::timed(&mut operation)).as_secs_f64();
        alone / ratio::timed(&mut operation).as_secs_f64()
    });
    println!(
        "THREADS {name}: one thread takes {:.2} times as long as {}",
        ratio::median(ratios.collect()),
        rayon::current_num_threads()
    );
}
