//! [`Source`]: what a chain reads.

use super::Chain;
use crate::{
    Result, Table,
    arrow::RecordBatchReader,
    data::{Data, collect::Unifying, memory::Memory},
    error::Error,
    read::reading::Reading,
};
use std::{
    io,
    path::{Path, PathBuf},
};

/// What a chain reads: a file or a table of a database, by its name; a table; or the result of
/// another chain.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub enum Source {
    /// A file or a table of a database, and how it is read.
    File(String, Box<Reading>),
    /// A table, in memory or in batches.
    Table(Data),
    /// The result of another chain. Its steps become steps of the chain that reads it, and only its
    /// steps and tables matter: dates, memory and the like are those of the chain that runs.
    Chain(Box<Chain>),
}

/// The further tables of a step.
#[derive(Clone, Debug, Default)]
pub struct Sources(pub(super) Vec<Source>);

impl Source {
    /// A file that is read with these settings.
    pub fn file(name: impl Into<String>, reading: Reading) -> Source {
        Source::File(name.into(), Box::new(reading))
    }

    /// All batches of a reader, within a limit of memory.
    ///
    /// Errors: those of the reader; types that tables do not have.
    pub fn from_reader(reader: impl RecordBatchReader, memory: &Memory) -> Result<Source> {
        let failed = |error| Error::Read {
            file: "the reader".to_owned(),
            source: io::Error::other(error),
            nearest: None,
        };
        let mut rows = Unifying::new(memory);
        let none = crate::arrow::RecordBatch::new_empty(reader.schema());
        rows.take(&Table::from_batch(&none)?)?;
        for batch in reader {
            rows.take(&Table::from_batch(&batch.map_err(failed)?)?)?;
        }
        rows.finish().map(Source::Table)
    }
}

macro_rules! from_names {
    ($($name:ty),*) => {$(
        impl From<$name> for Source {
            fn from(name: $name) -> Source {
                Source::file(AsRef::<Path>::as_ref(&name).display().to_string(), Reading::new())
            }
        }
    )*};
}
from_names!(&str, String, &String, &Path, PathBuf, &PathBuf);

impl<N: Into<String>> From<(N, Reading)> for Source {
    fn from((name, reading): (N, Reading)) -> Source {
        Source::file(name, reading)
    }
}

impl From<Table> for Source {
    fn from(table: Table) -> Source {
        Source::Table(Data::Table(table))
    }
}

impl From<&Table> for Source {
    fn from(table: &Table) -> Source {
        table.clone().into()
    }
}

impl From<Data> for Source {
    fn from(data: Data) -> Source {
        Source::Table(data)
    }
}

impl From<Chain> for Source {
    fn from(chain: Chain) -> Source {
        Source::Chain(Box::new(chain))
    }
}

impl<S: Into<Source>, const N: usize> From<[S; N]> for Sources {
    fn from(sources: [S; N]) -> Sources {
        Sources(sources.into_iter().map(Into::into).collect())
    }
}

impl<S: Into<Source>> From<Vec<S>> for Sources {
    fn from(sources: Vec<S>) -> Sources {
        Sources(sources.into_iter().map(Into::into).collect())
    }
}

macro_rules! from_one {
    ($($one:ty),*) => {$(
        impl From<$one> for Sources {
            fn from(source: $one) -> Sources {
                Sources(vec![source.into()])
            }
        }
    )*};
}
from_one!(Source, &str, String, &String, &Path, PathBuf, &PathBuf, Table, &Table, Data, Chain);
