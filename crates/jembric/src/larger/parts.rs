//! Divides the rows of tables by entity into parts in temporary files, and applies a plan to each.

use super::{
    results::{Results, with_lines},
    step::{Larger, Take, applied, delivered},
};
use crate::{
    Outcome, Plan, Table,
    arrow::UInt32Array,
    data::{
        bytes_of,
        collect::joined,
        spill::{Frame, SpillFile, SpillWriter},
    },
    error::Result,
};
use jembric_core::{ByEntity, EntityPart, InPieces};
use rayon::prelude::*;

/// The most parts of a table, because each has a file that is open while rows are divided.
pub(super) const MOST_PARTS: u64 = 128;
/// How often a part that is still too large is divided again.
const MOST_DIVISIONS: u64 = 4;

/// The rows of each table of a part, as runs.
type Runs = Vec<SpillFile>;

/// The rows of all tables, divided into parts that are written to temporary files.
pub(super) struct Divided<'a> {
    larger: &'a Larger<'a>,
    division: &'a ByEntity,
    /// The number of parts, and the seed of the division.
    how: (u32, u64),
    /// For each table, a run for each part.
    writers: Vec<Vec<SpillWriter>>,
    /// The rows that wait to be written: the table and the part of each group.
    pending: Vec<(usize, usize, Table)>,
    bytes: u64,
}

impl<'a> Divided<'a> {
    pub(super) fn new(
        larger: &'a Larger<'a>,
        division: &'a ByEntity,
        how: (u32, u64),
    ) -> Divided<'a> {
        let runs = |_| (0..how.0).map(|_| SpillWriter::new(larger.memory)).collect();
        let writers = (0..larger.inputs.len()).map(runs).collect();
        Divided { larger, division, how, writers, pending: Vec::new(), bytes: 0 }
    }

    /// Adds rows of the table at a place.
    pub(super) fn add(&mut self, place: usize, batch: &Table) -> Result<()> {
        let parts = self.division.parts(place, batch, &self.larger.samples(), self.how)?;
        // Rows are put in the order of their parts by counting, and gathered once.
        let mut starts = vec![0_u32; self.how.0 as usize + 1];
        parts.iter().for_each(|part| starts[*part as usize + 1] += 1);
        for part in 1..starts.len() {
            starts[part] += starts[part - 1];
        }
        let mut next = starts.clone();
        let mut rows = vec![0_u32; batch.rows()];
        for (row, part) in parts.into_iter().enumerate() {
            let next = &mut next[part as usize];
            rows[*next as usize] = row as u32;
            *next += 1;
        }
        let gathered = batch.take(&UInt32Array::from(rows))?;
        self.bytes += bytes_of(&gathered);
        for (part, bounds) in
            starts.windows(2).enumerate().filter(|(_, bounds)| bounds[0] < bounds[1])
        {
            let rows = gathered.slice(bounds[0] as usize, (bounds[1] - bounds[0]) as usize);
            self.pending.push((place, part, rows));
        }
        if batch.not_numbers() > 0 {
            // Any part may report the NaN cells of the table.
            if let Some((.., rows)) = self.pending.last_mut() {
                *rows = rows.clone().with_not_numbers(batch.not_numbers());
            }
        }
        if self.bytes > self.larger.memory.buffers() { self.write() } else { Ok(()) }
    }

    fn write(&mut self) -> Result<()> {
        let mut pending = std::mem::take(&mut self.pending);
        self.bytes = 0;
        // The groups of a part keep their order, because this sort is stable.
        pending.sort_by_key(|(place, part, _)| (*place, *part));
        let groups: Vec<&[(usize, usize, Table)]> =
            pending.chunk_by(|one, other| (one.0, one.1) == (other.0, other.1)).collect();
        for several in groups.chunks(4 * rayon::current_num_threads()) {
            let packed = several.par_iter().map(|group| {
                let tables: Vec<Table> = group.iter().map(|(.., table)| table.clone()).collect();
                let not_numbers = tables.iter().map(Table::not_numbers).sum();
                Frame::pack(&joined(&tables)?.with_not_numbers(not_numbers))
            });
            let packed: Vec<Result<Frame>> = packed.collect();
            for (group, frame) in several.iter().zip(packed) {
                let (place, part, _) = group[0];
                self.writers[place][part].append(&frame?)?;
            }
        }
        Ok(())
    }

    /// The runs of each part.
    fn finish(mut self) -> Result<Vec<Runs>> {
        self.write()?;
        let mut parts: Vec<Runs> = (0..self.how.0).map(|_| Vec::new()).collect();
        for of_table in self.writers {
            for (part, writer) in parts.iter_mut().zip(of_table) {
                part.push(writer.finish());
            }
        }
        Ok(parts)
    }
}

impl Results<'_> {
    /// Applies the plan to all parts.
    pub(super) fn take_parts(&mut self, plan: &Plan, divided: Divided<'_>) -> Result<()> {
        let (division, how) = (divided.division, divided.how);
        let all = divided.finish()?;
        let rows = |runs: &Runs| runs.iter().map(SpillFile::rows).sum::<u64>();
        let all_rows: u64 = all.iter().map(rows).sum();
        for (number, runs) in all.into_iter().enumerate() {
            let plan =
                plan.for_part(EntityPart::new(number as u32, how), self.larger.inputs[0].sample())?;
            let bytes: u64 = runs.iter().map(SpillFile::bytes).sum();
            let is_large = bytes > 2 * self.larger.memory.part();
            // If a part has nearly all rows, they are of one entity, and another division is no
            // smaller. Rows without a key are in all parts.
            let is_divided = rows(&runs) * 10 < all_rows * 9;
            let divisions = division.date.map_or(MOST_DIVISIONS, |_| 1);
            if is_large && is_divided && how.1 < divisions {
                self.divide_again(&plan, division, &runs, how.1 + 1)?
            } else {
                self.take_part(&plan, division, &runs)?
            }
        }
        Ok(())
    }

    /// Applies the plan for a part to its rows: to all of them, or if they are too many, in pieces.
    ///
    /// Errors: they are too many, and must be together.
    fn take_part(&mut self, plan: &Plan, division: &ByEntity, runs: &[SpillFile]) -> Result<()> {
        let (larger, memory) = (self.larger, self.larger.memory);
        let (rows, bytes) = (
            runs.iter().map(SpillFile::rows).sum(),
            runs.iter().map(SpillFile::bytes).sum::<u64>(),
        );
        if bytes <= memory.whole() || plan.begin().is_some() {
            return self.add(rows, &mut |take| larger.apply_to_part(plan, runs, take));
        }
        match (runs, division.date) {
            ([run], Some(date)) => self.take_sorted(plan, division, date, run),
            ([first, second], _) if second.bytes() <= memory.whole() => {
                let second = larger.table_of_part(second, 1)?;
                match plan.beside(&second)? {
                    Some(pieces) => self.take_beside(pieces, first),
                    None => Err(larger.needs_memory(rows, bytes)),
                }
            }
            _ => Err(larger.needs_memory(rows, bytes)),
        }
    }

    /// Takes the rows of the first table of a part in pieces, beside those of the second.
    fn take_beside(&mut self, mut pieces: InPieces, first: &SpillFile) -> Result<()> {
        let larger = self.larger;
        let sample = larger.inputs[0].sample();
        let (mut waiting, mut bytes) = (Vec::new(), 0);
        for number in 0..first.frames() {
            let frame = first.frame(number)?;
            bytes += bytes_of(&frame);
            waiting.push(frame);
            let are_last = number + 1 == first.frames();
            if bytes < larger.memory.batch() && !are_last {
                continue;
            }
            let not_numbers = if are_last { first.not_numbers() } else { 0 };
            let rows = with_lines(joined(&std::mem::take(&mut waiting))?, 0, sample);
            let rows = rows.with_not_numbers(not_numbers);
            self.add(rows.rows() as u64, &mut |take| {
                delivered(take, |sink| pieces.take_into(&rows, are_last, sink))
            })?;
            bytes = 0;
        }
        Ok(())
    }

    /// Divides a part that is too large.
    fn divide_again(
        &mut self,
        plan: &Plan,
        division: &ByEntity,
        runs: &[SpillFile],
        seed: u64,
    ) -> Result<()> {
        let memory = self.larger.memory;
        let bytes: u64 = runs.iter().map(SpillFile::bytes).sum();
        let parts = bytes.div_ceil(memory.part()).clamp(2, MOST_PARTS) as u32;
        let mut divided = Divided::new(self.larger, division, (parts, seed));
        for (place, run) in runs.iter().enumerate() {
            for number in 0..run.frames() {
                divided.add(place, &run.frame(number)?)?;
            }
        }
        self.take_parts(plan, divided)
    }
}

impl Larger<'_> {
    /// Applies the plan for a part to its rows. The table of the outcome has no rows.
    fn apply_to_part(
        &self,
        plan: &Plan,
        runs: &[SpillFile],
        take: &mut Take<'_>,
    ) -> Result<Outcome> {
        if let Some(mut fold) = plan.begin() {
            // Even all rows of one entity are folded in batches.
            for (place, (run, input)) in runs.iter().zip(self.inputs).enumerate() {
                let mut first_row = 0;
                for number in 0..run.frames() {
                    let frame = with_lines(run.frame(number)?, place, input.sample());
                    let not_numbers = if number == 0 { run.not_numbers() } else { 0 };
                    let frame = frame.with_not_numbers(not_numbers);
                    fold.take_of(place, &frame, first_row)?;
                    first_row += frame.rows() as u64;
                }
            }
            return delivered(take, |sink| fold.finish_into(sink));
        }
        let tables = runs.iter().enumerate().map(|(place, run)| self.table_of_part(run, place));
        let tables = tables.collect::<Result<Vec<Table>>>()?;
        applied(plan, &tables.iter().collect::<Vec<_>>(), take)
    }

    /// The rows of a part of the table at a place.
    fn table_of_part(&self, run: &SpillFile, place: usize) -> Result<Table> {
        let sample = self.inputs[place].sample();
        let table = match run.whole()? {
            Some(table) => table,
            None => sample.emptied().with_row_numbers(place, Vec::new())?,
        };
        Ok(with_lines(table, place, sample))
    }
}
