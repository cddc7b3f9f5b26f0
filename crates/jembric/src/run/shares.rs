//! [`Shares`]: what the processes that run a routine together have of it. A process that runs a
//! routine alone is one of one.
//!
//! Every process runs the same steps. Between steps, a result is in shares: each process has some
//! of its rows. Process 0 has the ledgers, draws the pictures and makes the page, and gets whole
//! results for these.

use super::checked::{Checked, RunSettings};
use crate::{
    Context, CoreError, Error, Expression, Filter, Result, Table,
    calendar::{Day, Moment, Zone},
    data::{Data, collect::joined, exchange::Exchange, memory::Memory},
    databases::name::is_database_output,
    larger::gathered::gathered,
    routine::Routine,
    steps::Contents,
    uri::shown_name,
};
use std::{path::Path, time::UNIX_EPOCH};

/// The processes of a run.
#[derive(Clone, Copy)]
pub(super) struct Shares<'a> {
    pub(super) exchange: &'a dyn Exchange,
    /// Whether process 0 writes the whole results.
    pub(super) gathers: bool,
    /// Whether process 0 delivers the whole last result.
    pub(super) gathers_last: bool,
}

impl Checked<'_> {
    /// The processes of the run.
    pub(super) fn shares(&self) -> Shares<'_> {
        let RunSettings { exchange, gathers, gathers_last, .. } = *self.running;
        Shares { exchange, gathers, gathers_last }
    }

    /// The name of the file for this process's share of the last result; none if process 0 writes
    /// the whole of it and this is another process.
    pub fn file_of_share(&self, file: &str) -> Option<String> {
        let shares = Shares { gathers: self.running.gathers_last, ..self.shares() };
        shares.write(file).then(|| shares.name(file))
    }
}

impl Shares<'_> {
    /// Whether there are several processes.
    pub(super) fn are_there(&self) -> bool {
        !self.exchange.is_alone()
    }

    /// The number of this process.
    pub(super) fn process(&self) -> usize {
        self.exchange.process()
    }

    /// Whether this process has what is not shared: ledgers, pictures, the page.
    pub(super) fn is_first(&self) -> bool {
        self.exchange.is_first()
    }

    /// Errors: the run asks for what several processes cannot do; the processes see a file
    /// differently.
    pub(super) fn expect_possible(
        &self,
        routine: &Routine,
        running: &RunSettings<'_>,
    ) -> Result<()> {
        if !self.are_there() {
            return Ok(());
        }
        if routine.files_read().any(|file| file == "-") {
            return Err(Error::Setting {
                setting: "read",
                value: "standard input, which only one process has".to_owned(),
                expected: "a file, which every process can read".to_owned(),
            });
        }
        let mut seen: Vec<(String, Option<(u64, u64)>)> = Vec::new();
        for file in routine.files_read() {
            if let Some(Contents::File(path)) = running.files.contents(file) {
                seen.push((file.to_owned(), size_and_time(&path)));
            }
        }
        for (process, others) in self.exchange.all_gather(&seen)?.into_iter().enumerate() {
            if others == seen {
                continue;
            }
            // Patterns may match other files elsewhere.
            let differs = |other: &&(String, Option<(u64, u64)>)| !seen.contains(other);
            let mut all = seen.iter().filter(|own| !others.contains(own));
            let Some((file, _)) = all.next().or_else(|| others.iter().find(differs)) else {
                continue;
            };
            let shown = |seen: &[(String, Option<(u64, u64)>)]| {
                let seen = seen.iter().find(|(other, _)| other == file).and_then(|(_, seen)| *seen);
                match seen {
                    Some((bytes, time)) => {
                        let changed = Moment::from_micros(time as i64 * 1_000_000);
                        let changed = changed.map(|moment| format!(", changed {moment} UTC"));
                        format!("{bytes} bytes{}", changed.unwrap_or_default())
                    }
                    None => "no file".to_owned(),
                }
            };
            return Err(Error::Process {
                process: format!("processes {} and {process}", self.process()),
                problem: format!(
                    "they see different files at `{file}`: {} and {}. Give every process the same \
                        file, changed at the same time",
                    shown(&seen),
                    shown(&others),
                    file = shown_name(file),
                ),
            });
        }
        Ok(())
    }

    /// Whether process 0 writes the whole result into this file. Only one process can write to a
    /// table of a database.
    pub(super) fn gathers_into(&self, file: &str) -> bool {
        self.are_there() && (self.gathers || is_database_output(file))
    }

    /// Whether this process writes a file, or its share of it.
    pub(super) fn write(&self, file: &str) -> bool {
        self.is_first() || !self.gathers_into(file)
    }

    /// The name of the file for this process's share of a result: `late.csv` becomes
    /// `late-0002-of-0008.csv`.
    pub(super) fn name(&self, file: &str) -> String {
        if self.are_there() && !self.gathers_into(file) {
            name_of_share(file, self.process(), self.exchange.processes())
        } else {
            file.to_owned()
        }
    }

    /// The whole of a table at process 0, and none of its rows elsewhere.
    pub(super) fn whole(&self, data: &Data, memory: &Memory) -> Result<Data> {
        gathered(self.exchange, data, memory)
    }

    /// The rows of a result for which a condition is true, of all processes, at process 0. A
    /// condition with other columns is true for no row.
    pub(super) fn followed(
        &self,
        data: &Data,
        condition: &Expression,
        context: &Context,
        memory: &Memory,
    ) -> Result<Table> {
        let filter = Filter::new(condition.to_string());
        let mut rows = vec![data.sample().emptied()];
        data.each(&mut |batch| {
            let followed = filter.apply_with(&batch, context).ok();
            rows.extend(followed.map(|followed| followed.table).filter(|rows| rows.rows() > 0));
            Ok(())
        })?;
        self.whole(&Data::Table(joined(&rows)?), memory)?.whole(memory)
    }

    /// The whole of each named table at process 0.
    pub(super) fn all_whole(
        &self,
        inputs: &[(String, Data)],
        memory: &Memory,
    ) -> Result<Vec<(String, Data)>> {
        let whole = |(name, data): &(String, Data)| Ok((name.clone(), self.whole(data, memory)?));
        inputs.iter().map(whole).collect()
    }

    /// The columns of a table that only process 0 has, without its rows, at all processes.
    pub(super) fn columns_of_first(&self, table: Option<&Table>) -> Result<Table> {
        let columns = table.map(Table::emptied);
        self.exchange.broadcast_from_first(columns.as_ref())
    }

    /// The number of rows of all processes.
    pub(super) fn rows(&self, data: &Data) -> Result<u64> {
        Ok(self.exchange.all_gather(&data.rows())?.into_iter().sum())
    }

    /// The newest day of a column of dates, of the rows of all processes.
    pub(super) fn newest(&self, data: &Data, column: &str, zone: &Zone) -> Result<Day> {
        let own = match data.newest(column, zone) {
            Ok(day) => Some(day),
            Err(Error::Core(CoreError::NoNewest { .. })) => None,
            Err(error) => return Err(error),
        };
        let newest = self.exchange.all_gather(&own)?.into_iter().flatten().max();
        newest.ok_or_else(|| CoreError::NoNewest { column: column.to_owned() }.into())
    }
}

/// The size of a file, and when it was changed, in seconds; none if there is no file.
fn size_and_time(path: &Path) -> Option<(u64, u64)> {
    let about = path.metadata().ok()?;
    let time = about.modified().ok()?.duration_since(UNIX_EPOCH).ok()?;
    Some((about.len(), time.as_secs()))
}

/// The name of a file with the number of a process before its extensions: `late.csv` becomes
/// `late-0002-of-0008.csv`.
pub fn name_of_share(file: &str, process: usize, processes: usize) -> String {
    let name = Path::new(file).file_name().map_or(file, |name| name.to_str().unwrap_or(file));
    let directory = &file[..file.len() - name.len()];
    // A name may begin with a dot, and may have two extensions: late.csv.gz.
    let begin = name.len() - name.trim_start_matches('.').len();
    let dots = name[begin..].match_indices('.').map(|(at, _)| begin + at);
    let packed = name.ends_with(".gz") || name.ends_with(".zst");
    let dots: Vec<usize> = dots.collect();
    let end = dots.iter().rev().nth(usize::from(packed)).or(dots.last());
    let (stem, extension) = name.split_at(end.copied().unwrap_or(name.len()));
    format!("{directory}{stem}-{process:04}-of-{processes:04}{extension}")
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("late.csv", "late-0002-of-0008.csv")]
    #[case("out/late.2025.csv.gz", "out/late.2025-0002-of-0008.csv.gz")]
    #[case("late", "late-0002-of-0008")]
    #[case("late.gz", "late-0002-of-0008.gz")]
    #[case("../.hidden", "../.hidden-0002-of-0008")]
    #[case("a.b/late.parquet", "a.b/late-0002-of-0008.parquet")]
    fn the_number_of_a_process_stands_before_the_extensions(
        #[case] file: &str,
        #[case] expected: &str,
    ) {
        assert_eq!(name_of_share(file, 2, 8), expected);
    }
}
