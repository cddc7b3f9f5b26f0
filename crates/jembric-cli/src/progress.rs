//! A progress bar for files that take longer than a second to read, on a terminal.

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use jembric::{
    io::{Reading, without_secrets},
    visible,
};
use std::{
    sync::OnceLock,
    time::{Duration, Instant},
};

const PATIENCE: Duration = Duration::from_secs(1);

/// A reading with a progress bar, which is cleared when this is dropped.
pub(crate) struct Progress {
    pub(crate) reading: Reading,
    bar: Option<ProgressBar>,
}

impl Progress {
    pub(crate) fn of(reading: Reading, file: &str, shown: bool) -> Progress {
        if !shown {
            return Progress { reading, bar: None };
        }
        let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::hidden());
        let style = ProgressStyle::with_template("reading {msg} {bar:30} {percent}% · {eta} left");
        bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()));
        bar.set_message(visible(&without_secrets(file)).into_owned());
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
