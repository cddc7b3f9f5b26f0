//! Opens files whose tables may be larger than memory.
//!
//! A file that is not read as it is (compressed, from a pipe, in another encoding, or with rows
//! that are converted to CSV) is written to a temporary file first, if it is large, because it is
//! read twice.

use super::ConnectedReading;
use crate::{
    data::{Data, exchange::Portion, memory::Memory},
    databases::name::Name,
    error::{Error, Result},
    formats::{
        batches::Input,
        detect::{FIRST, Special},
        packed::unpacking,
        packing::{Packing, most_unpacked},
        sheet::file_and_sheet,
    },
    read::{header::Header, reading::Reading, scan::TextScan},
    text::{file_bytes::FileBytes, spool::spooled},
};
use jembric_core::Origin;
use std::{
    fs::File,
    io::{self, Read, Seek},
    path::Path,
    sync::Arc,
};

impl Reading {
    /// Reads a stream to its end as [`stream`](Reading::stream) does. What does not fit into memory
    /// is written to a temporary file.
    pub fn stream_data(
        &self,
        name: impl Into<String>,
        mut stream: impl Read,
        memory: &Memory,
    ) -> Result<Data> {
        let name = name.into();
        if !memory.is_limited() {
            return self.stream(name, stream).map(Data::Table);
        }
        self.refuse_for_databases(&name)?;
        match beginning(&mut stream, memory.whole()).map_err(Error::read(&name))? {
            Beginning::Whole(bytes) => match Special::recognize(&bytes) {
                Some(_) => self.stream(name, &bytes[..]).map(Data::Table),
                None => {
                    self.text(FileBytes::stream(name, &bytes[..], self.known_encoding()?)?, memory)
                }
            },
            Beginning::Part(bytes) => {
                let file = spooled(&name, bytes.chain(stream), memory)?;
                self.of_file(&name, file, memory)
            }
        }
    }

    /// Reads a file by its content.
    fn of_file(&self, name: &str, mut file: File, memory: &Memory) -> Result<Data> {
        let mut first = Vec::new();
        let seen = Read::by_ref(&mut file).take(FIRST).read_to_end(&mut first);
        seen.and_then(|_| file.rewind()).map_err(Error::read(name))?;
        match Special::recognize(&first) {
            Some(Special::Columnar(format)) => {
                let input = Input::File(Arc::new(file));
                let places = self.chosen_places(format, name, input.clone())?;
                let most = most_unpacked(input.len(), self.most_unpacked);
                let scan = match format.scan(
                    name,
                    input.clone(),
                    (places, most),
                    memory,
                    Portion::WHOLE,
                ) {
                    // The damage of a small file is found column by column.
                    Err(_) if input.len() <= memory.whole() => {
                        return self.typed(format, name, input).map(Data::Table);
                    }
                    scan => Data::Larger(Arc::new(scan?)),
                };
                if memory.holds(scan.bytes()) {
                    self.typed(format, name, input).map(Data::Table)
                } else {
                    Ok(scan)
                }
            }
            Some(Special::Packed(packing)) => self.unpacked_data(name, packing, file, memory),
            Some(Special::JsonLines) => {
                let rows = self.of_objects(&FileBytes::as_it_is(name, file)?, memory)?;
                let (reading, source, header, texts, origin) =
                    self.for_written(rows, Origin::new(name, 1));
                TextScan::data(&reading, (source, header), &texts, Some(origin), memory, None)
            }
            // A workbook has at most a million rows, and its texts are apart from its cells.
            Some(Special::Workbook) => {
                let mut bytes = Vec::new();
                file.read_to_end(&mut bytes).map_err(Error::read(name))?;
                self.bytes(name, bytes, None).map(Data::Table)
            }
            None => self
                .text(FileBytes::open(name, file, self.known_encoding()?, Some(memory))?, memory),
        }
    }

    fn text(&self, source: FileBytes, memory: &Memory) -> Result<Data> {
        let header = Header::read(self, &source)?;
        TextScan::data(self, (source, header), &[], None, memory, None)
    }

    /// Unpacks a file into memory, or into a temporary file.
    fn unpacked_data(
        &self,
        name: &str,
        packing: Packing,
        file: File,
        memory: &Memory,
    ) -> Result<Data> {
        let packed = file.metadata().map_err(Error::read(name))?.len();
        let most = most_unpacked(packed, self.most_unpacked);
        let reader = unpacking(packing, io::BufReader::new(file)).map_err(Error::read(name))?;
        let mut reader = reader.take(most.saturating_add(1));
        let unpacked = match beginning(&mut reader, memory.whole()).map_err(Error::read(name))? {
            Beginning::Whole(bytes) => {
                let size = bytes.len() as u64;
                let data = if size > most { None } else { Some(self.bytes(name, bytes, None)?) };
                return data.map(Data::Table).ok_or_else(|| refused(name, packed, most));
            }
            Beginning::Part(bytes) => spooled(name, bytes.chain(reader), memory)?,
        };
        if unpacked.metadata().map_err(Error::read(name))?.len() > most {
            return Err(refused(name, packed, most));
        }
        self.of_file(name, unpacked, memory)
    }
}

/// The error of a file that unpacks to more than the limit.
fn refused(name: &str, packed: u64, most: u64) -> Error {
    Error::Unpacks { file: name.to_owned(), packed, most }
}

/// The beginning of a stream.
enum Beginning {
    /// The stream ended.
    Whole(Vec<u8>),
    /// More may follow.
    Part(io::Cursor<Vec<u8>>),
}

fn beginning(stream: &mut impl Read, most: u64) -> io::Result<Beginning> {
    let mut bytes = Vec::new();
    stream.by_ref().take(most).read_to_end(&mut bytes)?;
    Ok(if (bytes.len() as u64) < most {
        Beginning::Whole(bytes)
    } else {
        Beginning::Part(io::Cursor::new(bytes))
    })
}

impl ConnectedReading {
    /// See [`Reading::data`].
    pub fn data(&self, path: impl AsRef<Path>, memory: &Memory) -> Result<Data> {
        let path = path.as_ref();
        let name = path.display().to_string();
        if !memory.is_limited() {
            return self.file(path).map(Data::Table);
        }
        if let Some(database) = Name::of_input(&name) {
            return self.rows_of_database(&database, memory);
        }
        let (of_file, sheet) = file_and_sheet(path);
        let Some(file) = of_file.is_file().then(|| File::open(&of_file).ok()).flatten() else {
            // A pipe, or an error that reading it will tell.
            return match (File::open(&of_file), sheet) {
                (Ok(pipe), None) if !of_file.is_dir() => {
                    self.reading.stream_data(name, pipe, memory)
                }
                _ => self.file(path).map(Data::Table),
            };
        };
        if sheet.is_some() {
            return self.file(path).map(Data::Table);
        }
        self.reading.refuse_for_databases(&name)?;
        self.reading.of_file(&name, file, memory)
    }
}
