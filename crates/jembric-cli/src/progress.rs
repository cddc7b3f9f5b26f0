//! Progress bars for what takes longer than a second, on a terminal: reading a file, and the phases
//! of a run with limited memory.

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use jembric::{
    grouped,
    io::{self, Phase, Reading, Size, Stage, shown_name},
    visible,
};
use std::{
    sync::{Mutex, OnceLock, PoisonError},
    time::{Duration, Instant},
};

const PATIENCE: Duration = Duration::from_secs(1);

/// A reading with a progress bar, which is cleared when this is dropped.
pub(crate) struct Progress {
    pub(crate) reading: Reading,
    bar: Option<ProgressBar>,
}

impl Progress {
    pub(crate) fn new(reading: Reading, file: &str, shown: bool) -> Progress {
        if !shown {
            return Progress { reading, bar: None };
        }
        let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::hidden());
        let style = ProgressStyle::with_template("reading {msg} {bar:30} {percent}% · {eta} left");
        bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()));
        bar.set_message(visible(&shown_name(file)).into_owned());
        let (telling, began, appeared) = (bar.clone(), Instant::now(), OnceLock::new());
        let reading = reading.progress(move |done, all| {
            if began.elapsed() > PATIENCE {
                appeared.get_or_init(|| {
                    telling.set_length(all);
                    telling.set_draw_target(ProgressDrawTarget::stderr());
                });
                telling.set_position(done);
            }
        });
        Progress { reading, bar: Some(bar) }
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        self.bar.iter().for_each(ProgressBar::finish_and_clear);
    }
}

/// A bar for the phases of a run, which is cleared when this is dropped.
pub(crate) struct RunBar(ProgressBar);

impl RunBar {
    /// A bar that appears after a second, and what it listens to.
    pub(crate) fn new() -> (RunBar, io::Progress) {
        let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::hidden());
        let style = ProgressStyle::with_template("{prefix} {bar:20} {percent}% · {msg}{eta} left");
        bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()));
        let (telling, began) = (bar.clone(), Instant::now());
        let last: Mutex<Option<(Phase, Option<String>)>> = Mutex::new(None);
        let progress = io::Progress::new(move |stage| {
            if began.elapsed() <= PATIENCE {
                return;
            }
            let mut last = last.lock().unwrap_or_else(PoisonError::into_inner);
            let now = (stage.phase, stage.input.map(str::to_owned));
            if last.as_ref() != Some(&now) {
                if last.is_none() {
                    telling.set_draw_target(ProgressDrawTarget::stderr());
                }
                telling.reset();
                telling.set_prefix(prefix(&stage));
                *last = Some(now);
            }
            telling.set_length(stage.all_rows);
            telling.set_position(stage.rows);
            telling.set_message(message(&stage));
        });
        (RunBar(bar), progress)
    }

    /// Removes the bar, before something is printed in its place.
    pub(crate) fn clear(&self) {
        self.0.finish_and_clear();
    }
}

impl Drop for RunBar {
    fn drop(&mut self) {
        self.clear();
    }
}

fn prefix(stage: &Stage<'_>) -> String {
    let word = stage.phase.word();
    match stage.input {
        Some(input) => format!("{word} {}", visible(&shown_name(input))),
        None => word.to_owned(),
    }
}

/// The rows of a phase, and the bytes in temporary files.
fn message(stage: &Stage<'_>) -> String {
    let rows = format!("{} of {} rows", grouped(stage.rows), grouped(stage.all_rows));
    let mebibytes = stage.spilled >> 20;
    match mebibytes {
        0 => format!("{rows} · "),
        _ => format!("{rows} · {} in temporary files · ", Size(mebibytes << 20)),
    }
}
