//! One pass over all regions of a file, on all threads: surveys some columns, or fills them.

use super::{
    convert::{ColumnBuilder, FilledColumn, Filling, value},
    header::Header,
    infer::{CellType, Conventions, Facts},
    layout::Region,
    reading::{Progress, Reading},
    records::{Lines, Records},
};
use crate::{
    error::{Error, Result},
    text::file_bytes::FileBytes,
};
use arrow_array::ArrayRef;
use jembric_core::Origin;
use rayon::prelude::*;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};

/// Everything that a pass over the file needs.
pub(crate) struct Pass<'a> {
    pub(crate) source: &'a FileBytes,
    pub(crate) regions: &'a [Region],
    pub(crate) header: &'a Header,
    pub(crate) conventions: &'a Conventions,
    pub(crate) reading: &'a Reading,
}

/// The filled columns, and the places of their rows in the file.
pub(crate) struct PassFilled {
    pub(crate) columns: Vec<ColumnFilled>,
    pub(crate) origin: Origin,
}

pub(crate) struct ColumnFilled {
    pub(crate) array: ArrayRef,
    pub(crate) forms: u16,
    pub(crate) misfits: u64,
    /// The first three, each with its row.
    first_misfits: Vec<(usize, String)>,
}

impl ColumnFilled {
    /// The first cells that did not fit, with their places.
    pub(crate) fn shown_misfits<'a>(
        &'a self,
        origin: &'a Origin,
    ) -> impl Iterator<Item = String> + 'a {
        let cell = |(row, text): &(usize, String)| format!("line {} `{text}`", origin.line(*row));
        self.first_misfits.iter().map(cell)
    }
}

impl Pass<'_> {
    fn records(&self) -> Records<'_> {
        Records {
            file: &self.source.name,
            separator: self.header.separator,
            quoting: !self.reading.no_quotes,
            columns: self.header.names.len(),
        }
    }

    /// Surveys some columns, over the first rows of some regions.
    pub(crate) fn survey(
        &self,
        columns: &[usize],
        regions: &[Region],
        most_rows: usize,
    ) -> Result<Vec<Facts>> {
        let one = |buffer: &mut Vec<u8>, region: &Region| {
            let mut facts = vec![Facts::default(); columns.len()];
            let bytes = self.source.bytes(region.start, region.end, buffer)?;
            let mut rows = 0;
            self.records().each(self.source, region, bytes, |cells| {
                rows += cells.bounds.len() / cells.columns;
                for (facts, &column) in facts.iter_mut().zip(columns).filter(|_| rows <= most_rows)
                {
                    let cells = cells.of_column(column, &self.reading.missing);
                    for cell in cells
                        .bounds
                        .filter_map(|(start, end)| value(&cells.text[start..end], cells.missing))
                    {
                        facts.add(cell, self.conventions);
                    }
                }
            })?;
            Ok(facts)
        };
        // Each region is surveyed by a thread, and the facts are added in any order, because they
        // are counts.
        let surveys: Vec<Vec<Facts>> =
            in_order(regions.par_iter().map_init(Vec::new, one).collect())?;
        let none = vec![Facts::default(); columns.len()];
        Ok(surveys.into_iter().fold(none, |all, more| {
            all.into_iter().zip(&more).map(|(all, more)| all.plus(more)).collect()
        }))
    }

    /// Reads some columns as these types. If there are several errors, the first one in the file is
    /// returned.
    pub(crate) fn fill(&self, columns: &[usize], kinds: &[CellType]) -> Result<PassFilled> {
        // The first pass over the file gave the greatest possible number of records of each region.
        // So every region knows its place in the columns before any record is read, and threads
        // need not wait for each other.
        let lengths: Vec<usize> = self.regions.iter().map(|region| region.most_records).collect();
        let most: usize = lengths.iter().sum();
        if most >= u32::MAX as usize {
            return Err(jembric_core::Error::TableTooLong { rows: most }.into());
        }
        // Memory that is not written to is not used, so room for records that turn out to be
        // missing costs nothing.
        let mut blank: Vec<ColumnBuilder> =
            columns.iter().map(|&column| ColumnBuilder::blank(&kinds[column], most)).collect();
        // Split by column and then by region, and transposed to hand them out by region.
        let mut by_column: Vec<_> =
            blank.iter_mut().map(|column| column.stretches(&lengths).into_iter()).collect();
        let by_region: Vec<Vec<_>> = self
            .regions
            .iter()
            .map(|_| by_column.iter_mut().filter_map(Iterator::next).collect())
            .collect();
        // The regions may be a part of the file.
        let read = AtomicU64::new(self.regions.first().map_or(0, |region| region.start));
        // Each thread keeps one buffer for the bytes of its regions.
        let filled: Vec<Result<(Lines, Vec<FilledColumn>)>> = self
            .regions
            .par_iter()
            .zip(by_region)
            .enumerate()
            .map_init(Vec::new, |buffer, (number, (region, stretches))| {
                let mut fillings: Vec<Filling<'_>> = stretches
                    .into_iter()
                    .zip(columns)
                    .map(|(stretch, &column)| {
                        Filling::new(
                            &kinds[column],
                            self.conventions,
                            stretch,
                            number as u32,
                            region.most_records,
                        )
                    })
                    .collect();
                let bytes = self.source.bytes(region.start, region.end, buffer)?;
                let lines = self.records().each(self.source, region, bytes, |cells| {
                    for (filling, &column) in fillings.iter_mut().zip(columns) {
                        // A few rows at a time go into one column after the other, so that the
                        // cells are still in the cache.
                        filling.extend(cells.of_column(column, &self.reading.missing));
                    }
                })?;
                if let Some(Progress(progress)) = &self.reading.progress {
                    let region = region.end - region.start;
                    progress(read.fetch_add(region, Relaxed) + region, self.source.len());
                }
                Ok((lines, fillings.into_iter().map(Filling::finish).collect()))
            })
            .collect();

        // The regions are done. What they noted is put together column by column.
        let (lines, filled): (Vec<Lines>, Vec<Vec<FilledColumn>>) =
            in_order(filled)?.into_iter().unzip();
        let mut filled: Vec<_> = filled.into_iter().map(Vec::into_iter).collect();
        let by_column: Vec<_> = blank
            .into_iter()
            .zip(columns)
            .map(|(blank, &column)| {
                (
                    blank,
                    column,
                    filled.iter_mut().filter_map(Iterator::next).collect::<Vec<FilledColumn>>(),
                )
            })
            .collect();
        // Making an array of texts checks them once more, so each column has a thread.
        let columns = by_column.into_par_iter().map(|(blank, column, filled)| {
            // The rows of a region are numbered from 0; add the rows of the regions before it.
            let starts = lines
                .iter()
                .scan(0, |next, lines| Some(std::mem::replace(next, *next + lines.rows as usize)));
            let misfits = starts.zip(&filled).flat_map(|(start, filled)| {
                filled.first_misfits.iter().map(move |(row, text)| (start + row, text.clone()))
            });
            ColumnFilled {
                first_misfits: misfits.take(3).collect(),
                misfits: filled.iter().map(|filled| filled.misfits).sum(),
                forms: filled.iter().fold(0, |forms, filled| forms | filled.forms),
                array: blank.finish(&kinds[column], &lengths, filled),
            }
        });
        Ok(PassFilled { columns: columns.collect(), origin: self.origin(&lines) })
    }

    fn origin(&self, lines: &[Lines]) -> Origin {
        let mut origin = Origin::new(&self.source.name, self.header.lines + 1);
        let mut before = 0;
        for lines in lines {
            for &(row, line) in &lines.jumps {
                // Rows usually follow line by line, so only the others are recorded.
                if origin.line((before + row) as usize) != line {
                    origin.jump(before + row, line);
                }
            }
            before += lines.rows;
        }
        origin
    }

    /// The error for a column with cells that do not match the format it must have.
    pub(crate) fn misfitting(
        &self,
        column: usize,
        format: String,
        filled: &ColumnFilled,
        origin: &Origin,
    ) -> Error {
        let missing = filled.array.logical_null_count() as u64 - filled.misfits;
        Error::Format {
            file: self.source.name.clone(),
            column: self.header.names[column].clone(),
            format,
            values: filled.array.len() as u64 - missing,
            bad: filled.misfits,
            first: filled.shown_misfits(origin).collect(),
        }
    }
}

/// The results of the regions, or the error of the first region with one. Which thread was faster
/// must not matter.
fn in_order<T>(regions: Vec<Result<T>>) -> Result<Vec<T>> {
    regions.into_iter().collect()
}
