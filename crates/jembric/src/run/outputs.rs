//! The files that a run writes.

use super::{
    checked::Checked,
    stream::{Failed, Stream},
};
use crate::{
    Context, CoreError, Error, Outcome, Result, Sink,
    data::Data,
    databases::name::name_in,
    draw::{Picture, PictureFormat},
    larger::step::Accounted,
    routine::Planned,
    steps::Contents,
    uri::shown_name,
    write::{
        destination::{Destination, Outputs},
        writing::{Batches, Writing},
    },
};
use std::{io, path::PathBuf};

/// What a step writes, for messages.
pub(super) fn written_by(place: usize, planned: &Planned) -> String {
    match &planned.name {
        Some(name) => format!("the result of step `{name}`"),
        None => format!("the result of step {}", place + 1),
    }
}

impl Checked<'_> {
    /// Puts the files in place. If several processes run the routine, each waits until all have
    /// their files on the disk, and until the transactions of databases are committed.
    ///
    /// Errors: also that another process failed.
    pub fn commit(&self, outputs: Outputs) -> Result<()> {
        outputs.sync()?;
        self.await_all()?;
        let complete = outputs.complete()?;
        self.await_all()?;
        complete.commit()
    }

    /// Waits for all processes.
    fn await_all(&self) -> Result<()> {
        self.running.exchange.parcels(&mut |_| Ok(()), &mut |_, _| Ok(()))
    }

    /// Claims the files that the steps write, as far as their names are known in advance, and
    /// protects those that are read.
    ///
    /// Errors: a step writes a file that the routine reads, or that another output has claimed.
    pub fn claim(&self, outputs: &mut Outputs) -> Result<()> {
        let Checked { routine, running, .. } = self;
        let (context, as_of) = routine.context(running)?;
        let read = routine.files_read().filter(|file| *file != "-");
        outputs.protect(read.filter_map(|file| match running.files.contents(file) {
            Some(Contents::File(path)) => Some(path),
            Some(Contents::Bytes(_)) => None,
            None => running.into.as_ref().map(|directory| name_in(directory, file).into()),
        }));
        if as_of.is_none() && self.shares().is_first() {
            self.claim_page(outputs, context.as_of)?;
        }
        let Some(directory) = &running.into else { return Ok(()) };
        let shares = self.shares();
        let until = running.upto.unwrap_or(routine.steps.len().saturating_sub(1));
        for (place, planned) in routine.steps.iter().enumerate().take(until + 1) {
            for name in planned.files_written() {
                if as_of.is_some() && name.contains("{as-of}") {
                    continue;
                }
                let name = routine.name_with_date(name, context.as_of, false, planned)?;
                let draws = planned.operation.draws();
                if !if draws { shares.is_first() } else { shares.write(&name) } {
                    continue;
                }
                let name = if draws { name } else { shares.name(&name) };
                let path = name_in(directory, &name);
                let claimed = outputs.claim(&written_by(place, planned), &path);
                let claimed =
                    claimed.and_then(|()| outputs.expect_writable(&path, planned.existing));
                claimed.map_err(|error| {
                    let at = routine.place_in_text(planned, "write");
                    routine.marked(at, error)
                })?;
            }
        }
        Ok(())
    }

    /// Writes the picture of a step and its table, as far as it has files for them. Returns the
    /// names of the files.
    pub(super) fn write_drawn(
        &self,
        place: usize,
        outcome: &Outcome,
        picture: &Picture,
        context: &Context,
        outputs: &mut Outputs,
    ) -> Result<Option<String>> {
        let planned = &self.routine.steps[place];
        let at = |error: Error| self.routine.error_at_step(planned, error);
        let mut names = Vec::new();
        for (name, is_picture) in [(&planned.picture, true), (&planned.write, false)] {
            let Some(name) = name else { continue };
            let name = self.routine.name_with_date(name, context.as_of, false, planned)?;
            if let Some(directory) = &self.running.into {
                let path = PathBuf::from(name_in(directory, &name));
                let mut file = outputs.file(&written_by(place, planned), &path).map_err(at)?;
                if is_picture {
                    let format = PictureFormat::from_path(&path).map_err(at)?;
                    file.write(|to| format.write(picture, to)).map_err(at)?;
                    outputs.add(file);
                } else {
                    let writing = Writing::for_path(&path).map_err(at)?.existing(planned.existing);
                    let mut file = StepFile { destination: file, writing };
                    file.write(|batches| batches.write(&outcome.table)).map_err(at)?;
                    outputs.add(file.destination);
                }
            }
            names.push(shown_name(&name));
        }
        Ok((!names.is_empty()).then(|| names.join(", ")))
    }
}

pub(super) fn no_result() -> CoreError {
    CoreError::Broken { invariant: "a step gave no result" }
}

/// The file for the result of a step.
pub(super) struct StepFile {
    pub(super) destination: Destination,
    pub(super) writing: Writing,
}

impl StepFile {
    /// Writes what is delivered in batches.
    pub(super) fn write(
        &mut self,
        answer: impl FnOnce(&mut Batches<'_>) -> io::Result<()>,
    ) -> Result<()> {
        self.destination.write_tables(self.writing, answer)
    }

    /// Writes a result that may be larger than memory.
    pub(super) fn write_data(&mut self, data: &Data) -> Result<()> {
        self.destination.write_data(self.writing, data)
    }

    /// Writes the result of a stream, and passes it to a sink as well.
    pub(super) fn write_both(
        &mut self,
        stream: &Stream<'_>,
        last: &mut Sink<'_>,
    ) -> Result<std::result::Result<Vec<Accounted>, Failed>> {
        let mut answered = Err((stream.end(), Box::new(no_result().into())));
        self.write(|batches| {
            answered = stream.hand_over(&mut |batch| {
                batches.write(batch)?;
                last(batch)
            });
            Ok(())
        })?;
        Ok(answered)
    }
}
