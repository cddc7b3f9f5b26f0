//! Reads the share of one of several processes: a part of a text file, or some of the groups of
//! rows of a Parquet file. Other files are read by process 0.

use super::{bytes::FileBytes, header::Header, reading::Reading, scan::TextScan};
use crate::{
    databases::name::Name,
    error::Result,
    exchange::Exchange,
    formats::{
        batches::{Columnar, Input},
        detect::{Special, special},
        packing::most_unpacked,
        sheet::file_and_sheet,
    },
    larger::{Data, Memory, shared::only_at_first},
};
use std::{fs::File, path::Path, sync::Arc};

impl Reading {
    /// Reads the share of this process, as [`data`](Reading::data) reads all rows. All processes
    /// call this with the same file, and get columns of the same types.
    ///
    /// A text file is shared out by bytes, and a record belongs to the process in whose share it
    /// begins. A Parquet file is shared out by its groups of rows. A file that is compressed, in
    /// another encoding or in another format, and a table of a database, are read by process 0.
    pub fn share(
        &self,
        path: impl AsRef<Path>,
        memory: &Memory,
        exchange: &dyn Exchange,
    ) -> Result<Data> {
        let path = path.as_ref();
        match self.sharable(path)? {
            Some(Sharable::Text(source)) => {
                let header = Header::read(self, &source)?;
                TextScan::data(self, (source, header), &[], None, memory, Some(exchange))
            }
            Some(Sharable::Parquet(file)) => {
                self.groups_of_share(&path.display().to_string(), file, memory, exchange)
            }
            None => {
                let is_first = exchange.process() == 0;
                let own = is_first.then(|| self.data(path, memory)).transpose()?;
                only_at_first(own, exchange)
            }
        }
    }

    /// A file that can be shared out.
    fn sharable(&self, path: &Path) -> Result<Option<Sharable>> {
        let name = path.display().to_string();
        let (of_file, sheet) = file_and_sheet(path);
        if Name::of_input(&name).is_some() || sheet.is_some() || !of_file.is_file() {
            return Ok(None);
        }
        self.refuse_query(&name)?;
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
        file: File,
        memory: &Memory,
        exchange: &dyn Exchange,
    ) -> Result<Data> {
        let input = Input::File(Arc::new(file));
        let places = self.chosen_places(Columnar::Parquet, name, input.clone())?;
        let most = most_unpacked(input.len(), self.most_unpacked);
        let share = (exchange.process(), exchange.processes());
        let scan = Columnar::Parquet.scan(name, input, (places, most), memory, share)?;
        let data = Data::Larger(Arc::new(scan));
        match memory.holds(data.bytes()) {
            true => data.in_memory().map(Data::Table),
            false => Ok(data),
        }
    }
}

/// How a file is shared out.
enum Sharable {
    Text(FileBytes),
    Parquet(File),
}
