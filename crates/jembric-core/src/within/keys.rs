//! The keys that events and windows share: their columns, whether they can match at all, and which
//! keys would match if case and outer blanks were ignored.

use crate::{
    entities::{Entities, Missing, Side},
    error::{Error, Result},
    kind::Type,
    ledger::Warning,
    number::in_one_type,
    shape::Shape,
    table::Table,
};
use arrow_array::Array;
use arrow_schema::DataType;
use std::collections::HashMap;

/// A column of the events, and the column of the windows that must equal it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Pair {
    pub(crate) of_events: usize,
    pub(crate) of_windows: usize,
}

/// The pairs of columns, from `COLUMN` or `COLUMN=COLUMN`. Errors: a column is missing, or the
/// types can never be equal. `side` says in words which table the second one is.
pub(crate) fn pairs(
    matching: &[String],
    events: &Shape,
    windows: &Shape,
    side: &'static str,
) -> Result<Vec<Pair>> {
    let one = |text: &String| {
        let (of_events, of_windows) = match text.split_once('=') {
            Some((one, other)) if events.find(text).is_err() => (one.trim(), other.trim()),
            _ => (text.as_str(), text.as_str()),
        };
        let kinds = (events.find(of_events)?.kind, windows.find(of_windows)?.kind);
        match kinds {
            (Some(one), Some(other)) if !match_at_all(one, other) => Err(Error::KeysClash {
                column: of_events.to_owned(),
                one,
                example: None,
                side,
                of_windows: of_windows.to_owned(),
                other,
                other_example: None,
            }),
            _ => Ok(Pair {
                of_events: events.place(of_events)?,
                of_windows: windows.place(of_windows)?,
            }),
        }
    };
    matching.iter().map(one).collect()
}

/// Adds a value of each side to the error.
pub(crate) fn with_examples(error: Error, events: &Table, windows: &Table) -> Error {
    let example = |table: &Table, column: &str| {
        let cells = table.column(column).ok()?;
        let row = (0..cells.len()).find(|&row| cells.is_valid(row))?;
        table.cell_text(column, row).ok()
    };
    match error {
        Error::InSetting { setting, source } => {
            Error::InSetting { setting, source: Box::new(with_examples(*source, events, windows)) }
        }
        Error::KeysClash { column, one, side, of_windows, other, .. } => Error::KeysClash {
            side,
            example: example(events, &column),
            other_example: example(windows, &of_windows),
            column,
            one,
            of_windows,
            other,
        },
        error => error,
    }
}

fn match_at_all(one: Type, other: Type) -> bool {
    one == other || one.is_number() && other.is_number() || [one, other].contains(&Type::Nothing)
}

/// The numbers of the keys of both sides: first those of the events, then those of the windows.
pub(crate) fn number(
    pairs: &[Pair],
    events: &Table,
    windows: &Table,
    missing: Missing,
) -> Result<Entities> {
    let (mut these, mut those) = (Vec::new(), Vec::new());
    for pair in pairs {
        let (one, other) = in_one_type(events.at(pair.of_events), windows.at(pair.of_windows))?;
        these.push(one);
        those.push(other);
    }
    let side = |columns, table: &Table| Side { columns, rows: table.rows() };
    Entities::number_both(side(&these, events), side(&those, windows), missing)
}

/// The stray events whose key one of some windows has if case and outer blanks are ignored.
pub(crate) fn nearly(
    pairs: &[Pair],
    events: &Table,
    windows: &Table,
    ids: &[u32],
    strays: impl Iterator<Item = usize>,
    candidates: impl Iterator<Item = usize>,
) -> Result<Option<Warning>> {
    let is_text = |pair: &Pair| *events.at(pair.of_events).data_type() == DataType::Utf8View;
    if !pairs.iter().any(is_text) {
        return Ok(None);
    }
    // The stray keys: the first event of each, and the number of events.
    let keys =
        ids.iter().filter(|&&id| id != Entities::NONE).max().map_or(0, |&id| id as usize + 1);
    let mut stray = vec![(0, 0_u64); keys];
    for event in strays {
        let (first, count) = &mut stray[ids[event] as usize];
        if *count == 0 {
            *first = event;
        }
        *count += 1;
    }
    stray.retain(|(_, count)| *count > 0);
    if stray.is_empty() {
        return Ok(None);
    }
    let cells = |table: &Table, columns: &[usize], row: usize| {
        let cells = columns.iter().map(|&place| table.cell_text_at(place, row));
        cells.collect::<Result<Vec<String>>>()
    };
    let folded = |cells: &[String]| -> Vec<String> {
        cells.iter().map(|cell| cell.trim().to_lowercase()).collect()
    };
    let of_events: Vec<usize> = pairs.iter().map(|pair| pair.of_events).collect();
    let of_windows: Vec<usize> = pairs.iter().map(|pair| pair.of_windows).collect();
    // For each key without case and outer blanks: the number of events, their least key, and the
    // least key of the windows.
    let mut by_fold: HashMap<Vec<String>, (u64, String, Option<String>)> = HashMap::new();
    for (event, count) in stray {
        let key = cells(events, &of_events, event)?;
        let (all, least, _) =
            by_fold.entry(folded(&key)).or_insert_with(|| (0, key.join(", "), None));
        *all += count;
        *least = std::mem::take(least).min(key.join(", "));
    }
    let mut seen = vec![false; keys];
    for row in candidates {
        let id = ids[events.rows() + row];
        if id == Entities::NONE || std::mem::replace(&mut seen[id as usize], true) {
            continue;
        }
        let key = cells(windows, &of_windows, row)?;
        if let Some((_, _, window)) = by_fold.get_mut(&folded(&key)) {
            let key = key.join(", ");
            *window = Some(window.take().map_or(key.clone(), |other| other.min(key)));
        }
    }
    let found = || {
        by_fold.values().filter_map(|(rows, stray, window)| Some((*rows, stray, window.as_ref()?)))
    };
    let example = found().map(|(_, stray, window)| (stray.clone(), window.clone())).min();
    let events = found().map(|(rows, ..)| rows).sum();
    Ok(example.map(|(stray, window)| Warning::KeysNearlyMatch { events, stray, window }))
}
