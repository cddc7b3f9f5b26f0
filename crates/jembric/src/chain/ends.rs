//! What a chain ends with: a table, batches, files, a reader of record batches, a picture, a page.

use super::Chain;
#[cfg(feature = "draw")]
use crate::draw::{Draw, Picture};
use crate::{
    Ledger, Result, Shape, Table, Warning,
    arrow::{
        RecordBatch, RecordBatchReader,
        schema::{ArrowError, SchemaRef},
    },
    data::{Data, collect::Collector, memory::Memory},
    error::Error,
    read::reading::Reading,
    run::{Checked, RunSettings},
    steps::{Contents, Disk, Files, FilesOnce},
};
use std::{
    error::Error as StdError,
    ops::ControlFlow,
    sync::mpsc::{Receiver, sync_channel},
    thread,
};

/// What came of a chain.
#[derive(Debug)]
#[non_exhaustive]
pub struct ChainOutcome {
    /// The result of the last step. It has only its columns if it was written to a file or
    /// delivered in batches.
    pub table: Table,
    /// The ledger of each step, in order.
    pub ledgers: Vec<Ledger>,
    /// The rows that the steps set aside, each with the reason. If several steps set rows aside,
    /// the column `set_aside_by` names the step. There are none if the chain only counts them
    /// ([`Chain::counting_aside`]).
    pub set_aside: Data,
    /// The pictures of the steps that draw, in order.
    #[cfg(feature = "draw")]
    pub pictures: Vec<Picture>,
}

impl ChainOutcome {
    /// The warnings of all steps.
    pub fn warnings(&self) -> impl Iterator<Item = &Warning> {
        self.ledgers.iter().flat_map(Ledger::warnings)
    }
}

/// The batches of a result, as any consumer of Arrow's record batches reads them.
pub struct Batches {
    schema: SchemaRef,
    batches: Receiver<std::result::Result<RecordBatch, ArrowError>>,
}

impl std::fmt::Debug for Batches {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Batches").field("schema", &self.schema).finish_non_exhaustive()
    }
}

impl Iterator for Batches {
    type Item = std::result::Result<RecordBatch, ArrowError>;

    fn next(&mut self) -> Option<Self::Item> {
        self.batches.recv().ok()
    }
}

impl RecordBatchReader for Batches {
    fn schema(&self) -> SchemaRef {
        self.schema.clone()
    }
}

impl Data {
    /// The rows as record batches. Rows that are not in memory are read by a thread, which is at
    /// most two batches ahead of the consumer, and ends when the reader is dropped.
    pub fn into_batches(self) -> Batches {
        let schema = self.sample().batch().schema();
        let (send, batches) = sync_channel(2);
        thread::spawn(move || {
            let read = self.each_until(&mut |batch| {
                Ok(match send.send(Ok(batch.batch().clone())) {
                    Ok(()) => ControlFlow::Continue(()),
                    Err(_) => ControlFlow::Break(()),
                })
            });
            if let Err(error) = read {
                // Nobody is left to be told if this fails.
                drop(send.send(Err(ArrowError::ExternalError(Box::new(error)))));
            }
        });
        Batches { schema, batches }
    }
}

/// The files and tables of a chain.
struct ChainFiles<'a> {
    tables: &'a [(String, Data)],
    disk: Disk,
}

impl ChainFiles<'_> {
    fn known(&self, name: &str) -> Option<&Data> {
        self.tables.iter().find(|(own, _)| own == name).map(|(_, data)| data)
    }
}

impl Files for ChainFiles<'_> {
    fn table(&self, file: &str, reading: &Reading) -> Result<Table> {
        match self.known(file) {
            Some(data) => data.whole(&Memory::unlimited()),
            None => self.disk.table(file, reading),
        }
    }

    fn data(&self, file: &str, reading: &Reading, memory: &Memory) -> Result<Data> {
        match self.known(file) {
            Some(data) => Ok(data.clone()),
            None => self.disk.data(file, reading, memory),
        }
    }

    fn shape(&self, file: &str, reading: &Reading) -> Result<Option<Shape>> {
        match self.known(file) {
            Some(data) => Ok(Some(data.sample().shape())),
            None => self.disk.shape(file, reading),
        }
    }

    fn guessed_shape(&self, file: &str, reading: &Reading) -> Result<Option<Shape>> {
        match self.known(file) {
            Some(_) => self.shape(file, reading),
            None => self.disk.guessed_shape(file, reading),
        }
    }

    fn close(&self) {
        self.disk.close();
    }

    fn contents(&self, file: &str) -> Option<Contents<'_>> {
        if self.known(file).is_some() { None } else { self.disk.contents(file) }
    }
}

impl Chain {
    /// Checks all steps, as far as the headers of the files allow, and reads nothing else. Returns
    /// the shape of the result; none if it depends on the data.
    ///
    /// Errors: a mistake in the chain; a file that cannot be opened; everything that can be wrong
    /// with a step without the data.
    pub fn check(&self) -> Result<Option<Shape>> {
        self.checked(|_| {}, |checked| Ok(checked.shapes.last().cloned().flatten()))
    }

    /// Runs the chain, and returns the result as a table.
    ///
    /// Errors: those of [`check`](Chain::check), of reading and of the steps; the result is too
    /// long for a table; the run was cancelled. Files are written completely or not at all.
    pub fn run(&self) -> Result<ChainOutcome> {
        let mut rows = Collector::new(&Memory::unlimited());
        let whole = |settings: &mut RunSettings<'_>| settings.needs_table = true;
        let mut outcome = self.delivered(whole, |batch| rows.take(batch))?;
        if let Some(rows) = rows.finish()? {
            outcome.table = rows.whole(&Memory::unlimited())?;
        }
        Ok(outcome)
    }

    /// Runs the chain, and passes the result on in batches, the first of which may be empty. Steps
    /// that work row by row hold nothing else in memory.
    ///
    /// Errors: as for [`run`](Chain::run); if `take` fails, the run ends with
    /// [`CoreError::Sink`](crate::CoreError::Sink), which has its error.
    ///
    /// ```
    /// use jembric::{Chain, Filter};
    /// # let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/lifts.csv");
    ///
    /// let (mut rows, heavy) = (0, Chain::read(file).then(Filter::new("tons > 20")));
    /// heavy.each(|batch| {
    ///     rows += batch.rows();
    ///     Ok::<(), jembric::Error>(())
    /// })?;
    /// assert!(rows > 0);
    /// # Ok::<(), jembric::Error>(())
    /// ```
    pub fn each<E: Into<Box<dyn StdError + Send + Sync>>>(
        &self,
        take: impl FnMut(&Table) -> std::result::Result<(), E>,
    ) -> Result<ChainOutcome> {
        self.delivered(|_| {}, take)
    }

    /// Runs the chain with further settings, and passes the result on.
    fn delivered<E: Into<Box<dyn StdError + Send + Sync>>>(
        &self,
        set: impl FnOnce(&mut RunSettings<'_>),
        mut take: impl FnMut(&Table) -> std::result::Result<(), E>,
    ) -> Result<ChainOutcome> {
        self.checked(set, |checked| {
            let (mut ledgers, mut columns) = (Vec::new(), None);
            #[cfg(feature = "draw")]
            let mut pictures = Vec::new();
            let set_aside = checked.run(
                &mut |batch| {
                    columns.get_or_insert_with(|| batch.emptied());
                    take(batch).map_err(Into::into)
                },
                &mut |ran| {
                    ledgers.push(ran.outcome.ledger.clone());
                    #[cfg(feature = "draw")]
                    pictures.extend(ran.picture.cloned());
                    Ok(())
                },
            )?;
            let table = match columns {
                Some(columns) => columns,
                None => Table::from_columns(Vec::<(&str, _)>::new())?,
            };
            Ok(ChainOutcome {
                table,
                ledgers,
                set_aside,
                #[cfg(feature = "draw")]
                pictures,
            })
        })
    }

    /// Runs the chain and writes the result to a file, in the format of its extension, or to a
    /// table of a database. The rows are written as they come. A last step that draws writes its
    /// picture to a name that ends in `.svg` or `.png`.
    ///
    /// Errors: as for [`run`](Chain::run); the file cannot be written, and is as it was before.
    ///
    /// ```
    /// use jembric::{Chain, Totals, calendar::Grain, io::Size};
    /// # let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/lifts.csv");
    /// # let months = std::env::temp_dir().join("jembric-months.csv");
    ///
    /// Chain::read(file)
    ///     .then(Totals::new().date(["lifted_on"]).grain(Grain::Month).sum(["tons"]))
    ///     .memory(Size::mebibytes(512))
    ///     .write(&months)?;
    /// assert!(jembric::io::read(&months)?.rows() > 3);
    /// # Ok::<(), jembric::Error>(())
    /// ```
    pub fn write(&self, file: impl AsRef<std::path::Path>) -> Result<ChainOutcome> {
        let mut chain = self.clone().with_a_step();
        if chain.routine.steps.last().is_some_and(|step| step.files_written().next().is_some()) {
            chain = chain.then_with(crate::Stack::new(), Vec::<super::Source>::new());
        }
        chain.written(file.as_ref().display().to_string()).each(|_| Ok::<(), Error>(()))
    }

    /// Runs the chain, and returns the result as a reader of record batches. A result that exceeds
    /// the memory of the chain is in temporary files, which go with the reader.
    ///
    /// Errors: as for [`run`](Chain::run).
    pub fn reader(&self) -> Result<Batches> {
        let memory = match self.routine.memory {
            Some(size) => {
                let scratch = self.scratch.clone().unwrap_or_else(std::env::temp_dir);
                Memory::limited(size.0, scratch)
            }
            None => Memory::unlimited(),
        };
        let mut rows = Collector::new(&memory);
        let counts = |settings: &mut RunSettings<'_>| settings.aside = false;
        let outcome = self.delivered(counts, |batch| rows.take(batch))?;
        Ok(rows.finish()?.unwrap_or(Data::Table(outcome.table)).into_batches())
    }

    /// Runs the chain, and returns the picture of its last step, or one of its result. Call
    /// [`Picture::svg`] for its text.
    ///
    /// Errors: as for [`run`](Chain::run); the result cannot be drawn.
    #[cfg(feature = "draw")]
    pub fn picture(&self) -> Result<Picture> {
        let draws = self.routine.steps.last().is_some_and(|step| step.operation.draws());
        let drawn = if draws { self.clone() } else { self.clone().then(Draw::new()) };
        let only_picture = |settings: &mut RunSettings<'_>| {
            (settings.aside, settings.pictures_only) = (false, true)
        };
        let mut pictures = drawn.delivered(only_picture, |_| Ok::<(), Error>(()))?.pictures;
        let none = crate::CoreError::Broken { invariant: "a step that draws gave no picture" };
        pictures.pop().ok_or_else(|| none.into())
    }

    /// Runs the chain, and returns the report page as HTML: all steps with their headings,
    /// sentences, pictures, tables and ledgers.
    ///
    /// Errors: as for [`run`](Chain::run); a sentence has an unknown value.
    pub fn page(&self) -> Result<String> {
        let keeps_page = |settings: &mut RunSettings<'_>| settings.keeps_page = true;
        self.checked(keeps_page, |checked| {
            checked.run(&mut |_| Ok(()), &mut |_| Ok(()))?;
            let none = crate::CoreError::Broken { invariant: "a run with a page made none" };
            checked.page_text().ok_or_else(|| none.into())
        })
    }

    /// Checks the chain with these further settings, and does something with it.
    fn checked<T>(
        &self,
        set: impl FnOnce(&mut RunSettings<'_>),
        work: impl FnOnce(&Checked<'_>) -> Result<T>,
    ) -> Result<T> {
        self.expect_sound()?;
        let mut chain = self.clone().with_a_step();
        chain.routine.names_steps = true;
        let disk = Disk::in_directory(&chain.directory);
        let files = ChainFiles { tables: &chain.tables, disk };
        // For two dates, each file is read once.
        let once = FilesOnce::new(&files);
        let files: &dyn Files = if chain.since.is_some() { &once } else { &files };
        let mut settings = RunSettings::without_today(files);
        settings.today = chain.today;
        settings.reconcile = chain.reconcile;
        settings.follow = chain.follow;
        settings.scratch = chain.scratch;
        settings.cancel = chain.cancel;
        settings.since = chain.since;
        settings.progress = chain.progress;
        settings.aside = !chain.only_counts_aside;
        settings.into = Some(chain.directory.clone());
        set(&mut settings);
        work(&chain.routine.check(&settings)?)
    }
}
