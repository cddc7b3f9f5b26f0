//! Brings what processes have to process 0: results in the order of one process, and accounts.

use super::{
    in_order::{Sorter, sorted},
    received::Received,
    step::Accounted,
};
use crate::{
    data::{
        Data,
        collect::{Collector, in_batches},
        exchange::{Exchange, packed, unpacked},
        memory::Memory,
        merge::{MergeOrder, merge},
    },
    error::Result,
};

/// Merges the accounts of all processes into one, with the rows set aside at process 0. The
/// account of a process that is alone stays as it is.
pub(crate) fn accounted(
    exchange: &dyn Exchange,
    own: Accounted,
    memory: &Memory,
    keeps_aside: bool,
) -> Result<Accounted> {
    if exchange.is_alone() {
        return Ok(own);
    }
    let Accounted { mut outcome, mut set_aside } = own;
    let ledgers = exchange.all_gather(&outcome.ledger)?;
    let merged = ledgers.into_iter().reduce(|all, more| all.merge(&more));
    outcome.ledger = merged.unwrap_or(outcome.ledger);
    outcome.set_aside = outcome.set_aside.without_row_numbers()?;
    if keeps_aside {
        set_aside = gathered(exchange, &set_aside, memory)?;
        set_aside = in_order(set_aside, &MergeOrder::BothNumbers, memory)?;
    }
    Ok(Accounted { outcome, set_aside })
}

/// Rows in order, without their numbers. Rows without numbers keep their order.
pub(super) fn in_order(data: Data, order: &MergeOrder, memory: &Memory) -> Result<Data> {
    let sample = data.sample();
    let is_known = match order {
        MergeOrder::Columns(_) => true,
        MergeOrder::Numbers(place) => sample.row_numbers(*place).is_some(),
        MergeOrder::BothNumbers => (0..2).any(|place| sample.row_numbers(place).is_some()),
    };
    match &data {
        Data::Table(table) if is_known && table.rows() > 0 => {
            Ok(Data::Table(sorted(table, order)?.without_row_numbers()?))
        }
        Data::Larger(_) if is_known => {
            let mut sorter = Sorter::by(memory, |rows| sorted(&rows, order));
            data.each(&mut |batch| sorter.add(batch))?;
            let mut rows = Collector::new(memory);
            merge(sorter.finish()?, order, memory, &mut |batch| {
                rows.take(&batch.without_row_numbers()?)
            })?;
            Ok(rows.finish()?.unwrap_or(data))
        }
        _ => without_numbers(data, memory),
    }
}

/// The rows without their numbers.
fn without_numbers(data: Data, memory: &Memory) -> Result<Data> {
    match &data {
        Data::Table(table) => Ok(Data::Table(table.without_row_numbers()?)),
        Data::Larger(scan) if (0..2).all(|place| scan.sample().row_numbers(place).is_none()) => {
            Ok(data)
        }
        Data::Larger(_) => {
            let mut rows = Collector::new(memory);
            data.each(&mut |batch| rows.take(&batch.without_row_numbers()?))?;
            Ok(rows.finish()?.unwrap_or(data))
        }
    }
}

/// All rows at process 0, one process after the other, and none at the others.
pub(crate) fn gathered(exchange: &dyn Exchange, data: &Data, memory: &Memory) -> Result<Data> {
    if exchange.is_alone() {
        return Ok(data.clone());
    }
    let mut received = Received::new(data.sample(), exchange.processes(), memory);
    let kept = std::cell::RefCell::new(&mut received);
    exchange.parcels(
        &mut |send| {
            data.each(&mut |batch| {
                if exchange.is_first() {
                    kept.borrow_mut().take(0, batch)
                } else {
                    let batches = in_batches(vec![batch], memory.parcel())?;
                    batches.iter().try_for_each(|batch| send(0, packed(batch)?))
                }
            })
        },
        &mut |from, parcel| kept.borrow_mut().take(from, unpacked(&parcel)?),
    )?;
    received.finish()
}
