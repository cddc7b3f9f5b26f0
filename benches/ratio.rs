//! Times an operation beside the least work that it must do, in turn, and prints their ratio.
//!
//! Machines are shared and noisy: the ratio of two times taken one after the other says more than
//! either of them.

use criterion::{Criterion, SamplingMode};
use std::{
    cell::RefCell,
    time::{Duration, Instant},
};

/// Runs both in turn, lets criterion report the operation, and prints the median of the ratios
/// beside the one to reach. Returns whether they ran.
pub(crate) fn compare<A, B>(
    criterion: &mut Criterion,
    name: &str,
    (kernel_name, mut kernel): (&str, impl FnMut() -> A),
    (operation_name, mut operation): (&str, impl FnMut() -> B),
    to_reach: Option<f64>,
) -> bool {
    let pairs: RefCell<Vec<(Duration, Duration)>> = RefCell::new(Vec::new());
    let mut group = criterion.benchmark_group(name);
    group.sample_size(10).sampling_mode(SamplingMode::Flat);
    group.warm_up_time(Duration::from_millis(500)).measurement_time(Duration::from_secs(3));
    group.bench_function(operation_name, |bencher| {
        bencher.iter_custom(|iterations| {
            (0..iterations)
                .map(|_| {
                    let pair = (timed(&mut kernel), timed(&mut operation));
                    pairs.borrow_mut().push(pair);
                    pair.1
                })
                .sum()
        });
    });
    group.finish();
    let pairs = pairs.into_inner();
    // Nothing was run where a filter on the command line left this out.
    if pairs.is_empty() {
        return false;
    }
    let seconds = |of: fn(&(Duration, Duration)) -> f64| median(pairs.iter().map(of).collect());
    println!(
        "RATIO {name}: {operation_name} {:.3} s / {kernel_name} {:.3} s = {:.2}{}",
        seconds(|pair| pair.1.as_secs_f64()),
        seconds(|pair| pair.0.as_secs_f64()),
        seconds(|pair| pair.1.as_secs_f64() / pair.0.as_secs_f64()),
        to_reach.map(|ratio| format!(" (to reach: {ratio})")).unwrap_or_default(),
    );
    true
}

pub(crate) fn timed<T>(work: &mut impl FnMut() -> T) -> Duration {
    let began = Instant::now();
    let made = std::hint::black_box(work());
    let took = began.elapsed();
    drop(made);
    took
}

pub(crate) fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}
