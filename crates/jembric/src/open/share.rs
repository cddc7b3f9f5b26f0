//! Reads the share of one of several processes: a part of a text file, or some of the groups of
//! rows of a Parquet file. Other files are read by process 0.

use super::ConnectedReading;
use crate::{
    data::{
        Data,
        exchange::{Exchange, PlaceInList, Portion, held_by_one},
        memory::Memory,
    },
    databases::name::Name,
    error::Result,
    formats::{
        batches::{Columnar, Input},
        detect::{Special, special},
        packing::most_unpacked,
        sheet::file_and_sheet,
    },
    read::{header::Header, reading::Reading, scan::TextScan},
    text::file_bytes::FileBytes,
};
use std::{fs::File, path::Path, sync::Arc};

/// How several processes read a file together.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Sharing {
    /// Each process reads some of the rows. The file has this many bytes.
    Rows(u64),
    /// Each process reads a range of a column.
    Ranges,
    /// One process reads all rows. The file has this many bytes.
    Whole(u64),
    /// Process 0 reads all rows, because all that is read from the same place must be of one
    /// moment.
    AtFirst,
}

impl Reading {
    /// A file that can be shared out.
    fn sharable(&self, path: &Path) -> Result<Option<Sharable>> {
        let name = path.display().to_string();
        if let Some(name) = Name::of_input(&name) {
            return Ok(self.by_ranges_of.clone().map(|column| Sharable::Ranges(name, column)));
        }
        let (of_file, sheet) = file_and_sheet(path);
        if sheet.is_some() || !of_file.is_file() {
            return Ok(None);
        }
        self.refuse_for_databases(&name)?;
        match special(&of_file)? {
            Some((file, Special::Columnar(Columnar::Parquet))) => Ok(Some(Sharable::Parquet(file))),
            Some(_) => Ok(None),
            None => {
                let file = FileBytes::as_utf8(&of_file, self.known_encoding()?)?;
                Ok(file.map(Sharable::Text))
            }
        }
    }

    /// The groups of rows of a Parquet file that belong to this process.
    fn groups_of_share(
        &self,
        name: &str,
        input: Input,
        memory: &Memory,
        portion: Portion,
    ) -> Result<Data> {
        let places = self.chosen_places(Columnar::Parquet, name, input.clone())?;
        let most = most_unpacked(input.len(), self.most_unpacked);
        let scan = Columnar::Parquet.scan(name, input, (places, most), memory, portion)?;
        let data = Data::Larger(Arc::new(scan));
        if memory.holds(data.bytes()) { data.in_memory().map(Data::Table) } else { Ok(data) }
    }
}

/// How a file is shared out.
enum Sharable {
    Text(FileBytes),
    Parquet(File),
    /// A database, by ranges of a column.
    Ranges(Name, String),
}

impl ConnectedReading {
    /// See [`Reading::sharing`].
    pub fn sharing(&self, path: impl AsRef<Path>) -> Result<Sharing> {
        let path = path.as_ref();
        Ok(match (self.reading.sharable(path)?, file_and_sheet(path).0.metadata()) {
            (Some(Sharable::Ranges(..)), _) => Sharing::Ranges,
            (Some(_), Ok(about)) => Sharing::Rows(about.len()),
            (None, Ok(about)) if Name::of_input(&path.display().to_string()).is_none() => {
                Sharing::Whole(about.len())
            }
            _ => Sharing::AtFirst,
        })
    }

    /// See [`Reading::share`].
    pub fn share(
        &self,
        path: impl AsRef<Path>,
        place: Option<PlaceInList>,
        memory: &Memory,
        exchange: &dyn Exchange,
    ) -> Result<Data> {
        let path = path.as_ref();
        let placed = |bytes| place.unwrap_or(PlaceInList { before: 0, all: bytes });
        match self.reading.sharable(path)? {
            Some(Sharable::Text(source)) => {
                let header = Header::read(&self.reading, &source)?;
                let share = (placed(source.len()), exchange);
                TextScan::data(&self.reading, (source, header), &[], None, memory, Some(share))
            }
            Some(Sharable::Parquet(file)) => {
                let input = Input::File(Arc::new(file));
                let place = placed(input.len());
                let (process, processes) = (exchange.process(), exchange.processes());
                let portion = place.portion(input.len(), process, processes);
                self.reading.groups_of_share(&path.display().to_string(), input, memory, portion)
            }
            Some(Sharable::Ranges(name, column)) => {
                self.range_of_database(&name, &column, memory, exchange)
            }
            None => {
                let own = exchange.is_first().then(|| self.data(path, memory)).transpose()?;
                held_by_one(0, own, exchange)
            }
        }
    }
}
