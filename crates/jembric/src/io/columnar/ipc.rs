//! Arrow's files and streams.

use super::{BatchWriter, Choose, Columnar, Input, Made, Parts, chosen};
use crate::arrow::{
    RecordBatch,
    schema::{ArrowError, SchemaRef},
};
use arrow_ipc::{
    reader::{FileReader, StreamReader},
    writer::{FileWriter, StreamWriter},
};
use std::io::{self, BufReader, Cursor, Read, Seek};

trait Seekable: Read + Seek {}
impl<T: Read + Seek> Seekable for T {}

pub(super) fn parts(
    format: Columnar,
    input: Input,
    choose: Option<&Choose<'_>>,
) -> Result<Parts, ArrowError> {
    let mut input: Box<dyn Seekable> = match input {
        Input::File(file) => Box::new(BufReader::new(file)),
        Input::Bytes(bytes) => Box::new(Cursor::new(bytes)),
    };
    let is_file = format == Columnar::ArrowFile;
    let schema = match is_file {
        true => FileReader::try_new(&mut input, None)?.schema(),
        false => StreamReader::try_new(&mut input, None)?.schema(),
    };
    let Some(choose) = choose else { return Ok((schema, Vec::new())) };
    input.rewind()?;
    let places = Some(chosen(&schema, choose));
    if is_file {
        let reader = FileReader::try_new(input, places)?;
        return Ok((reader.schema(), reader.collect::<Result<_, _>>()?));
    }
    let reader = StreamReader::try_new(input, places)?;
    Ok((reader.schema(), reader.collect::<Result<_, _>>()?))
}

pub(super) fn writer(format: Columnar, made: &Made, schema: &SchemaRef) -> io::Result<Box<dyn BatchWriter>> {
    Ok(match format {
        Columnar::ArrowFile => Box::new(FileWriter::try_new(made.clone(), schema).map_err(io::Error::other)?),
        _ => Box::new(StreamWriter::try_new(made.clone(), schema).map_err(io::Error::other)?),
    })
}

impl BatchWriter for FileWriter<Made> {
    fn write(&mut self, rows: &RecordBatch) -> io::Result<()> {
        FileWriter::write(self, rows).map_err(io::Error::other)
    }

    fn finish(mut self: Box<Self>) -> io::Result<()> {
        FileWriter::finish(&mut self).map_err(io::Error::other)
    }
}

impl BatchWriter for StreamWriter<Made> {
    fn write(&mut self, rows: &RecordBatch) -> io::Result<()> {
        StreamWriter::write(self, rows).map_err(io::Error::other)
    }

    fn finish(mut self: Box<Self>) -> io::Result<()> {
        StreamWriter::finish(&mut self).map_err(io::Error::other)
    }
}
