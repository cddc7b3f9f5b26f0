//! [`Shared`]: a step whose tables are shared by several processes.
//!
//! Every process has some of the rows of each table, and applies the same plan. A plan says what
//! must come together:
//!
//! - Row by row: nothing. Each process works on its own rows.
//! - In one pass: each process folds its own rows, and process 0 merges the states, or the owners
//!   of their entities do. If the states are too large for that, rows are sent to the owners.
//! - By entity: each row is sent to the process that owns its entity.
//! - In one order, or beside all rows of another table: all rows are sent to process 0.
//!
//! What a plan must know of all rows is found by every process for its own rows, and added up. The
//! ledgers are merged, and every process has the whole ledger. The shares of the result, one after
//! the other, have the rows in the order of one process (`reordered`).

use super::{
    gathered::accounted,
    received::Received,
    results,
    step::{Accounted, Larger, Take, both, delivered},
};
use crate::{
    CoreError, Ledger, Outcome, Plan, Shape, Table,
    data::{
        Data,
        collect::{Collector, in_batches},
        exchange::{Exchange, packed, unpacked},
    },
    error::{Error, Result},
};
use jembric_core::{ByEntity, Division, EntityPart, Fold, Kind, Overall, ResultOrder};

/// A step whose tables are shared by several processes.
pub(crate) struct Shared<'a> {
    pub(crate) larger: Larger<'a>,
    pub(crate) exchange: &'a dyn Exchange,
    /// The numbers of the first row of each process, for each table.
    pub(super) first_rows: Vec<Vec<Option<i64>>>,
    /// Whether the rows of all tables have lines, at every process.
    have_lines: bool,
}

/// Rows of each process have numbers apart from those of the others.
const OF_A_PROCESS: u64 = 1 << 44;

impl<'a> Shared<'a> {
    /// A step of several processes, each of which has a share of the rows.
    pub(crate) fn new(larger: Larger<'a>, exchange: &'a dyn Exchange) -> Result<Shared<'a>> {
        if exchange.is_alone() {
            return Ok(Shared { larger, exchange, first_rows: Vec::new(), have_lines: true });
        }
        let (first_rows, have_lines) = first_rows(larger.inputs, exchange)?;
        let first_row = first_rows.first().and_then(|numbers| numbers[exchange.process()]);
        let larger = Larger { first_row: first_row.unwrap_or(0) as u64, ..larger };
        Ok(Shared { larger, exchange, first_rows, have_lines })
    }
}

impl Shared<'_> {
    /// Applies the plan and delivers this process's share of the result in batches. The ledger is
    /// that of all rows. Process 0 has the rows set aside.
    pub(crate) fn apply_into(&self, take: &mut Take<'_>) -> Result<Accounted> {
        // A process that is alone need not wait for anything, and passes its result on as it comes.
        if self.exchange.is_alone() {
            return self.larger.apply_into(take);
        }
        match self.larger.plan.kind() {
            Kind::OnePass(division) => self.one_pass(division.as_ref(), take),
            Kind::ByRow | Kind::Divided(Division::Rows) => self.row_by_row(take),
            Kind::Divided(Division::Entities(division)) => self.by_entity(division, take),
            _ => self.at_first(take),
        }
    }

    /// Each process applies the plan to its own rows.
    fn row_by_row(&self, take: &mut Take<'_>) -> Result<Accounted> {
        let overall = self.overall()?;
        let inputs = self.larger.inputs.to_vec();
        let (result, accounted) = self.in_shares(&inputs, overall, None)?;
        let (result, home) = match inputs.len() {
            1 => (result, None),
            _ => self.numbered_by_table(result)?,
        };
        let result = match home {
            Some(home) => self.reordered(result, &home)?,
            None => result,
        };
        result.each(&mut |batch| take(&batch))?;
        Ok(accounted)
    }

    /// What is known of the rows of all processes.
    fn overall(&self) -> Result<Option<Overall>> {
        let (plan, first) = (self.larger.plan, self.larger.inputs.first());
        let Some(first) = first else { return Ok(None) };
        if plan.survey(&first.sample().emptied())?.is_none() {
            return Ok(None);
        }
        let mut own = None;
        self.larger.each(first, &mut |batch| {
            own = both(own.take(), plan.survey(&batch)?)?;
            Ok(())
        })?;
        self.exchange.all_gather(&own)?.into_iter().try_fold(None, both)
    }

    /// The plan for the share of this process.
    fn for_share(
        &self,
        plan: Plan,
        overall: Option<&Overall>,
        part: Option<EntityPart>,
    ) -> Result<Plan> {
        let plan = overall.map_or_else(|| plan.clone(), |overall| plan.for_parts(overall.clone()));
        match (part, self.larger.inputs.first()) {
            (Some(part), Some(first)) => Ok(plan.for_part(part, first.sample())?),
            _ => Ok(plan),
        }
    }

    /// Applies the plan to rows of this process. Returns its share of the result, with the types of
    /// all shares, and the account of all processes.
    fn in_shares(
        &self,
        inputs: &[&Data],
        overall: Option<Overall>,
        part: Option<EntityPart>,
    ) -> Result<(Data, Accounted)> {
        let own = self.larger.plan.clone();
        let plan = self.for_share(own, overall.as_ref(), part)?;
        let prepare = |shapes: &[Shape]| {
            self.for_share((self.larger.prepare)(shapes)?, overall.as_ref(), part)
        };
        let mut result = Collector::new(self.larger.memory);
        let own = Larger { plan: &plan, prepare: &prepare, inputs, knows_all: true, ..self.larger };
        let applied = own.in_memory_or_larger(&mut |batch| result.take(batch));
        let accounted = self.agreed(applied)?;
        let none = || Data::Table(accounted.outcome.table.clone());
        let result = self.in_common_types(result.finish()?.unwrap_or_else(none))?;
        let rows = self.exchange.all_gather(&result.rows())?;
        plan.expect_rows(rows.into_iter().sum())?;
        Ok((result, self.accounted(accounted)?))
    }

    /// What came of a step at this process.
    ///
    /// Errors: wrong places in the data, of all processes; other errors of this process.
    fn agreed(&self, applied: Result<Accounted>) -> Result<Accounted> {
        let (own, accounted) = match applied {
            Ok(accounted) => (None, Some(accounted)),
            Err(Error::Core(CoreError::Places(places))) => (Some(places), None),
            Err(error) => return Err(error),
        };
        let wrong = self.exchange.all_gather(&own)?.into_iter().flatten();
        match (wrong.reduce(|one, other| self.larger.both_places(one, other)), accounted) {
            (None, Some(accounted)) => Ok(accounted),
            (Some(places), _) => Err(CoreError::from(places).into()),
            (None, None) => Err(CoreError::Broken { invariant: "a step gave no result" }.into()),
        }
    }

    /// Merges the accounts of all processes into one.
    fn accounted(&self, own: Accounted) -> Result<Accounted> {
        accounted(self.exchange, own, self.larger.memory, self.larger.keeps_aside)
    }

    /// Sends each row to the owner of its entity, and applies the plan there. The rows of the
    /// result travel to the processes that have them in the order of one process.
    fn by_entity(&self, division: &ByEntity, take: &mut Take<'_>) -> Result<Accounted> {
        let overall = self.overall()?;
        let (process, processes) = (self.exchange.process(), self.exchange.processes() as u32);
        let samples = self.larger.samples();
        let numbers = self.needs_numbers(division);
        let mut owned = Vec::new();
        for (place, input) in self.larger.inputs.iter().enumerate() {
            let mut owners =
                |batch: &Table| Ok(division.owners(place, batch, &samples, processes)?);
            let first_row = self.first_rows[place][process].unwrap_or(0);
            let numbered = numbers.then_some((place, first_row));
            owned.push(self.sent(input, numbered, &mut owners)?);
        }
        let owned: Vec<&Data> = owned.iter().collect();
        let part = Some(EntityPart::of_process(process as u32, processes));
        let (result, accounted) = if numbers {
            let plan = (self.larger.prepare)(&self.larger.numbered_shapes()?)?;
            let larger = Larger { plan: &plan, inputs: &owned, keeps_numbers: true, ..self.larger };
            let first_rows = Vec::new();
            Shared { larger, first_rows, ..*self }.in_shares(&owned, overall, part)?
        } else {
            self.in_shares(&owned, overall, part)?
        };
        let result = self.reordered(result, &self.home(&division.order)?)?;
        result.each(&mut |batch| take(&batch))?;
        Ok(accounted)
    }

    /// Whether rows must carry their numbers among those of all processes, which restore the order
    /// of the result and of the rows set aside, and which errors name if there are no lines.
    fn needs_numbers(&self, division: &ByEntity) -> bool {
        self.larger.keeps_aside
            || matches!(division.order, ResultOrder::Rows(_))
            || !self.have_lines
    }

    /// Sends all rows to process 0, which applies the plan.
    fn at_first(&self, take: &mut Take<'_>) -> Result<Accounted> {
        let mut inputs = Vec::new();
        for input in self.larger.inputs {
            inputs.push(self.sent(input, None, &mut |batch| Ok(vec![0; batch.rows()]))?);
        }
        if self.exchange.is_first() {
            let inputs: Vec<&Data> = inputs.iter().collect();
            let all = Larger { inputs: &inputs, ..self.larger };
            let mut columns = None;
            let mut accounted = all.in_memory_or_larger(&mut |batch| {
                columns.get_or_insert_with(|| batch.emptied());
                take(batch)
            })?;
            accounted.outcome.table = columns.unwrap_or(accounted.outcome.table);
            return self.shared_with_others(accounted);
        }
        self.of_first(take)
    }

    /// Tells the other processes what came of a step that process 0 did alone.
    fn shared_with_others(&self, accounted: Accounted) -> Result<Accounted> {
        let Outcome { table, ledger, set_aside, .. } = &accounted.outcome;
        let account = (table.emptied(), ledger.clone(), set_aside.emptied());
        self.exchange.broadcast_from_first(Some(&account))?;
        Ok(accounted)
    }

    /// What came of a step that process 0 did alone. This process has no row of the result.
    fn of_first(&self, take: &mut Take<'_>) -> Result<Accounted> {
        let (table, ledger, set_aside): (Table, Ledger, Table) =
            self.exchange.broadcast_from_first(None)?;
        take(&table)?;
        Ok(Accounted::from_outcome(Outcome::new(table, ledger, set_aside)))
    }

    /// Folds the rows of each process, and merges the states at process 0, or at the owners of
    /// their entities if all of them together do not fit into one process.
    fn one_pass(&self, division: Option<&Division>, take: &mut Take<'_>) -> Result<Accounted> {
        let most = self.larger.memory.whole();
        let fold =
            if self.is_worth_folding()? { self.folded(self.larger.plan, most)? } else { None };
        let bytes = self.exchange.all_gather(&fold.as_ref().map(Fold::bytes))?;
        let all: Option<u64> = bytes.into_iter().sum();
        match (division, all.filter(|all| *all <= most), fold) {
            (_, Some(_), Some(fold)) => self.merged(fold, take),
            (Some(Division::Entities(division)), _, fold) => {
                drop(fold);
                let accounted = match all {
                    Some(_) => self.folded_by_owner(division, take)?,
                    None => None,
                };
                let accounted = match accounted {
                    Some(accounted) => accounted,
                    None => self.by_entity(division, take)?,
                };
                // The row over all rows is folded from all of them, and follows the last one.
                let last_rows = self.larger.plan.last_rows();
                if let Some(plan) = last_rows
                    && let Some(fold) = self.folded(&plan, u64::MAX)?
                    && let Some(all) = self.state_of_all(fold, self.exchange.processes() - 1)?
                {
                    take(&all.finish()?.table)?;
                }
                Ok(accounted)
            }
            _ => {
                // Once all rows are known, nothing has to be kept that is decided later.
                let overall = self.overall()?;
                let plan = self.for_share(self.larger.plan.clone(), overall.as_ref(), None)?;
                match self.folded(&plan, u64::MAX)? {
                    Some(fold) => self.merged(fold, take),
                    None => self.at_first(take),
                }
            }
        }
    }

    /// Folds the rows of each process apart for each owner of entities, and merges the states at
    /// the owners; none if the states do not fit into a process.
    fn folded_by_owner(
        &self,
        division: &ByEntity,
        take: &mut Take<'_>,
    ) -> Result<Option<Accounted>> {
        let Larger { inputs, memory, .. } = self.larger;
        if inputs.len() != 1 {
            return Ok(None);
        }
        let overall = self.overall()?;
        let plan = if self.needs_numbers(division) {
            (self.larger.prepare)(&self.larger.numbered_shapes()?)?
        } else {
            self.larger.plan.clone()
        };
        let (process, processes) = (self.exchange.process(), self.exchange.processes());
        let begun = |owner: usize| {
            let part = EntityPart::of_process(owner as u32, processes as u32);
            Ok::<_, Error>(self.for_share(plan.clone(), overall.as_ref(), Some(part))?.begin())
        };
        let folds = (0..processes).map(begun).collect::<Result<Option<Vec<Fold>>>>()?;
        let Some(mut folds) = folds else { return Ok(None) };
        let samples = self.larger.samples();
        let first_row = self.first_rows[0][process].unwrap_or(0);
        let mut number = self.numbering(self.needs_numbers(division).then_some((0, first_row)));
        let mut next_rows = vec![process as u64 * OF_A_PROCESS; processes];
        let most = memory.whole();
        let fits = self.larger.fold(&mut folds, (most, 0), &mut |folds, _, batch, _| {
            let owners = division.owners(0, &batch, &samples, processes as u32)?;
            for (owner, rows) in grouped(&number(batch)?, &owners, processes)? {
                folds[owner].take_of(0, &rows, next_rows[owner])?;
                next_rows[owner] += rows.rows() as u64;
            }
            Ok(())
        })?;
        if self.exchange.all_gather(&fits)?.contains(&false) {
            return Ok(None);
        }
        let mut states: Vec<Vec<u8>> = vec![Vec::new(); processes];
        self.exchange.parcels(
            &mut |send| {
                let mut folds = std::mem::take(&mut folds).into_iter().enumerate();
                folds.try_for_each(|(owner, fold)| send(owner, fold.packed()?))
            },
            &mut |from, state| {
                states[from] = state;
                Ok(())
            },
        )?;
        let Some(mut own) = begun(process)? else { return Ok(None) };
        states.iter().try_for_each(|state| own.merge_packed(state))?;
        let finished = own.finish().map_err(Error::from);
        let finished = finished.map(|mut outcome| {
            let table = outcome.table.clone();
            outcome.table = table.emptied();
            (table, Accounted::from_outcome(self.larger.without_needless_rows(outcome)))
        });
        let (table, finished) = match finished {
            Ok((table, accounted)) => (Some(table), Ok(accounted)),
            Err(error) => (None, Err(error)),
        };
        let accounted = self.agreed(finished)?;
        let result = self.in_common_types(Data::Table(
            table.unwrap_or_else(|| accounted.outcome.table.clone()),
        ))?;
        let result = self.reordered(result, &self.home(&division.order)?)?;
        result.each(&mut |batch| take(&batch))?;
        self.accounted(accounted).map(Some)
    }

    /// Whether states grow much slower than the rows, judging by the first rows of each process.
    /// Otherwise rows that travel to the owner of their entity are less work.
    fn is_worth_folding(&self) -> Result<bool> {
        const FIRST: usize = 1 << 19;
        let plan = self.larger.plan;
        let (Some(Division::Entities(_)), [input]) = (plan.kind().division(), self.larger.inputs)
        else {
            return Ok(true);
        };
        let first = input.sample().head(FIRST);
        // What the second half of the rows adds to the state of the first half, as bytes to send.
        let half = first.rows() / 2;
        let state = |halves: usize| -> Result<usize> {
            let Some(mut fold) = plan.begin() else { return Ok(0) };
            for number in 0..halves {
                fold.take(&first.slice(number * half, half), (number * half) as u64)?;
            }
            fold.forget_set_aside();
            Ok(fold.packed()?.len())
        };
        let growth = || -> Result<(u64, u64)> {
            let added = state(2)?.saturating_sub(state(1)?);
            Ok((added as u64, packed(&first.slice(half, half))?.len() as u64))
        };
        let own = if first.rows() == FIRST { growth().unwrap_or_default() } else { (0, 0) };
        let all = self.exchange.all_gather(&own)?.into_iter();
        let (states, rows) = all.fold((0, 0), |all, more| (all.0 + more.0, all.1 + more.1));
        Ok(states <= rows / 2)
    }

    /// Delivers the rows of an input in batches of about as many bytes.
    fn in_short_batches(
        &self,
        input: &Data,
        bytes: u64,
        take: &mut dyn FnMut(Table) -> Result<()>,
    ) -> Result<()> {
        self.larger.each(input, &mut |batch| {
            in_batches(vec![batch], bytes)?.into_iter().try_for_each(&mut *take)
        })
    }

    /// The state of this process's rows; none if it takes more than some bytes.
    fn folded(&self, plan: &Plan, most: u64) -> Result<Option<Fold>> {
        let Some(mut fold) = plan.begin() else { return Ok(None) };
        let first = self.exchange.process() as u64 * OF_A_PROCESS;
        let state = std::slice::from_mut(&mut fold);
        let fits =
            self.larger.fold(state, (most, first), &mut |folds, place, batch, first_row| {
                Ok(folds[0].take_of(place, &batch, first_row)?)
            })?;
        Ok(fits.then_some(fold))
    }

    /// The state of all processes, at one of them. If the order of rows matters, this must be
    /// process 0, which has the first ones.
    fn state_of_all(&self, fold: Fold, at: usize) -> Result<Option<Fold>> {
        let mut states: Vec<Vec<u8>> = vec![Vec::new(); self.exchange.processes()];
        let mut all = None;
        let mut state = Vec::new();
        if self.exchange.process() == at {
            all = Some(fold);
        } else {
            state = fold.packed()?;
        }
        let others = all.is_none().then_some(at);
        self.exchange.parcels(
            &mut |send| others.map_or(Ok(()), |to| send(to, std::mem::take(&mut state))),
            &mut |from, state| {
                states[from] = state;
                Ok(())
            },
        )?;
        let Some(mut all) = all else { return Ok(None) };
        let others = states.iter().enumerate().filter(|(from, _)| *from != at);
        others.map(|(_, state)| state).try_for_each(|state| all.merge_packed(state))?;
        Ok(Some(all))
    }

    /// The result of the states of all processes, which process 0 has.
    fn merged(&self, fold: Fold, take: &mut Take<'_>) -> Result<Accounted> {
        let Some(all) = self.state_of_all(fold, 0)? else { return self.of_first(take) };
        let outcome = delivered(take, |sink| all.finish_into(sink))?;
        self.shared_with_others(Accounted::from_outcome(self.larger.without_needless_rows(outcome)))
    }

    /// Gives the rows of batches that follow each other the numbers of a table at a place: their
    /// lines, or numbers from the first one on. Without a place, rows stay as they are.
    fn numbering(
        &self,
        numbered: Option<(usize, i64)>,
    ) -> impl FnMut(Table) -> Result<Table> + use<> {
        let mut next = numbered.map_or(0, |(_, first_row)| first_row);
        move |batch| {
            let Some((place, _)) = numbered else { return Ok(batch) };
            let rows = results::numbered(&batch, place, next)?;
            next += batch.rows() as i64;
            let rows = rows.with_not_numbers(batch.not_numbers());
            Ok(match batch.origin() {
                Some(origin) => rows.with_origin(origin.clone()),
                None => rows,
            })
        }
    }

    /// Sends each row of an input to a process, and receives the rows for this one. With the place
    /// of the input and the number of its first row, rows have their numbers among those of all
    /// processes.
    pub(super) fn sent(
        &self,
        input: &Data,
        numbered: Option<(usize, i64)>,
        owners: &mut dyn FnMut(&Table) -> Result<Vec<u32>>,
    ) -> Result<Data> {
        let processes = self.exchange.processes();
        let own = self.exchange.process();
        let mut number = self.numbering(numbered);
        let sample = number(input.sample().emptied())?;
        let mut received = Received::new(&sample, processes, self.larger.memory);
        let kept = std::cell::RefCell::new(&mut received);
        self.exchange.parcels(
            &mut |send| {
                // Parcels are short, so that their memory is used again.
                let most = self.larger.memory.parcel() * processes as u64;
                self.in_short_batches(input, most, &mut |batch| {
                    let owners = owners(&batch)?;
                    for (to, rows) in grouped(&number(batch)?, &owners, processes)? {
                        // Rows that stay need not become bytes.
                        if to == own {
                            kept.borrow_mut().take(own, rows)?
                        } else {
                            send(to, packed(&rows)?)?
                        }
                    }
                    Ok(())
                })
            },
            &mut |from, parcel| kept.borrow_mut().take(from, unpacked(&parcel)?),
        )?;
        received.finish()
    }
}

/// The number of the first row of each process, for each table: its line in the file, or its
/// number among the rows of all processes. A process without rows has none. Also whether all of
/// them are lines.
fn first_rows(inputs: &[&Data], exchange: &dyn Exchange) -> Result<(Vec<Vec<Option<i64>>>, bool)> {
    let own = |input: &&Data| {
        let sample = input.sample();
        let line = sample.origin().filter(|_| sample.rows() > 0).map(|origin| origin.line(0));
        (input.rows(), line)
    };
    let own: Vec<(u64, Option<u64>)> = inputs.iter().map(own).collect();
    let all = exchange.all_gather(&own)?;
    let of_table = |place: usize| {
        let mut before = 0;
        let first_row = |of_process: &Vec<(u64, Option<u64>)>| {
            let (rows, line) = of_process[place];
            let first = line.unwrap_or(before);
            before += rows;
            (rows > 0).then_some(first as i64)
        };
        all.iter().map(first_row).collect()
    };
    let are_lines = all.iter().flatten().all(|(rows, line)| *rows == 0 || line.is_some());
    Ok(((0..own.len()).map(of_table).collect(), are_lines))
}

/// Whether a plan needs all rows at one process.
pub(crate) fn is_at_first(plan: &Plan) -> bool {
    let shared = matches!(
        plan.kind(),
        Kind::ByRow | Kind::OnePass(_) | Kind::Divided(Division::Rows | Division::Entities(_))
    );
    !shared
}

/// The rows of a batch by the process that they belong to, in their order.
fn grouped(batch: &Table, owners: &[u32], processes: usize) -> Result<Vec<(usize, Table)>> {
    let mut starts = vec![0_u32; processes + 1];
    owners.iter().for_each(|owner| starts[*owner as usize + 1] += 1);
    (1..starts.len()).for_each(|owner| starts[owner] += starts[owner - 1]);
    let mut next = starts.clone();
    let mut rows = vec![0_u32; owners.len()];
    for (row, owner) in (0..).zip(owners) {
        let next = &mut next[*owner as usize];
        rows[*next as usize] = row;
        *next += 1;
    }
    let mut not_numbers = batch.not_numbers();
    let mut groups = Vec::new();
    for (owner, bounds) in starts.windows(2).enumerate() {
        let own = &rows[bounds[0] as usize..bounds[1] as usize];
        if !own.is_empty() {
            let own = batch.take_with_origin(&own.to_vec().into())?;
            // Any process may report the NaN cells of the table.
            groups.push((owner, own.with_not_numbers(std::mem::take(&mut not_numbers))));
        }
    }
    Ok(groups)
}
