//! JSON Lines: one object on each line, whose keys are the columns.
//!
//! A first pass collects the keys, because a later line may have more of them than the first. A
//! second pass converts the rows. Both work on groups of whole lines on all threads, because a
//! string in JSON cannot contain a line break.

use super::{
    Target,
    csv_rows::{Cell, CsvRows, Joining, RowRules, Rows},
    packing::CELL,
    text::{CellText, in_stretches},
};
use crate::{
    Table, Type,
    data::memory::Memory,
    error::{Error, Result},
    text::file_bytes::FileBytes,
};
use memchr::{memchr_iter, memrchr};
use rayon::prelude::*;
use serde::{
    Deserializer,
    de::{MapAccess, Visitor},
};
use serde_json::value::RawValue;
use std::{
    borrow::Cow,
    collections::{HashMap, HashSet},
    fmt,
    io::{self, Write},
    sync::atomic::{AtomicU64, Ordering::Relaxed},
};

/// The bytes that a thread takes at a time.
const STRETCH: usize = 1 << 20;

/// Whether a text that begins like this consists of objects: with a brace, after blanks at most.
pub(crate) fn is_likely(first: &[u8]) -> bool {
    let first = first.strip_prefix(b"\xef\xbb\xbf").unwrap_or(first);
    first.iter().find(|byte| !byte.is_ascii_whitespace()) == Some(&b'{')
}

/// A key of an object, and its value as it is written.
type Member<'a> = (Cow<'a, str>, &'a RawValue);

/// Receives the number and the entries of each line.
type OnEntries<'a> = dyn FnMut(u64, Vec<Member<'_>>) -> Result<()> + 'a;

/// The entries of an object, in order.
fn entries(line: &str) -> serde_json::Result<Vec<Member<'_>>> {
    struct Entries;
    impl<'de> Visitor<'de> for Entries {
        type Value = Vec<Member<'de>>;

        fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
            f.write_str("an object")
        }

        fn visit_map<A: MapAccess<'de>>(
            self,
            mut map: A,
        ) -> std::result::Result<Self::Value, A::Error> {
            let mut entries = Vec::new();
            while let Some((Key(key), value)) = map.next_entry::<Key<'de>, &RawValue>()? {
                entries.push((key, value));
            }
            Ok(entries)
        }
    }
    let mut deserializer = serde_json::Deserializer::from_str(line);
    let entries = deserializer.deserialize_map(Entries)?;
    deserializer.end()?;
    Ok(entries)
}

/// A key, borrowed if it has no escapes.
#[derive(serde::Deserialize)]
struct Key<'a>(#[serde(borrow)] Cow<'a, str>);

/// A value as a cell; none for a nested value.
fn cell(value: &RawValue) -> Option<Cell<'_>> {
    let text = value.get();
    match text.as_bytes().first()? {
        b'n' => Some(Cell::Missing),
        b'"' => serde_json::from_str::<Key<'_>>(text).ok().map(|Key(text)| Cell::Text(text)),
        b'{' | b'[' => None,
        _ => Some(Cell::Bare(text.into())),
    }
}

/// Some whole lines, and the number of the first.
struct WholeLines<'a> {
    bytes: &'a [u8],
    first_line: u64,
}

/// Cuts whole lines, so that all threads have some.
fn stretches(mut bytes: &[u8], mut line: u64) -> Vec<WholeLines<'_>> {
    let mut all = Vec::new();
    while !bytes.is_empty() {
        let end = if bytes.len() > STRETCH {
            memrchr(b'\n', &bytes[..STRETCH]).or_else(|| memchr::memchr(b'\n', bytes))
        } else {
            None
        };
        let (these, rest) = bytes.split_at(end.map_or(bytes.len(), |end| end + 1));
        all.push(WholeLines { bytes: these, first_line: line });
        line += memchr_iter(b'\n', these).count() as u64;
        bytes = rest;
    }
    all
}

/// Delivers a text in groups of whole lines, each of about this many bytes.
fn each_group(
    source: &FileBytes,
    bytes: u64,
    take: &mut dyn FnMut(&[WholeLines<'_>]) -> Result<()>,
) -> Result<()> {
    let (mut from, mut line, mut buffer) = (0, 1, Vec::new());
    let mut step = bytes;
    while from < source.len() {
        let to = source.len().min(from.saturating_add(step));
        let found = source.bytes(from, to, &mut buffer)?;
        let end = if to == source.len() {
            found.len()
        } else {
            memrchr(b'\n', found).map_or(0, |end| end + 1)
        };
        if end == 0 {
            // The line is longer than a group.
            step = step.saturating_mul(2);
            continue;
        }
        let mut these = &found[..end];
        if from == 0 {
            these = these.strip_prefix(b"\xef\xbb\xbf").unwrap_or(these);
        }
        take(&stretches(these, line))?;
        line += memchr_iter(b'\n', these).count() as u64;
        from += end as u64;
        step = bytes;
    }
    Ok(())
}

/// The entries of the object in each line, with its number. Empty lines are skipped.
///
/// Errors: those of `on`; a line that is not an object.
fn each_object(
    stretch: &WholeLines<'_>,
    wrong: &dyn Fn(u64, String) -> Error,
    on: &mut OnEntries<'_>,
) -> Result<()> {
    for (line, number) in stretch.bytes.split(|&byte| byte == b'\n').zip(stretch.first_line..) {
        let line = line.trim_ascii();
        if line.is_empty() {
            continue;
        }
        let text = simdutf8::basic::from_utf8(line).map_err(|_| {
            wrong(number, "bytes that are not UTF-8, in which JSON is written".to_owned())
        })?;
        let entries = entries(text).map_err(|error| {
            let problem = error.to_string();
            let problem = problem.split(" at line").next().unwrap_or_default();
            let column = error.column();
            wrong(number, format!("expected one JSON object: {problem}, at column {column}"))
        })?;
        on(number, entries)?;
    }
    Ok(())
}

/// The columns and rows of a text of objects. If the text is long and memory is limited, it is read
/// in groups of lines, and the rows are in a temporary file.
///
/// Errors: a line that is not an object; a key that is repeated in one object; a value that is an
/// object or a list; more columns than the limit; cells that need more bytes than the limit.
pub(crate) fn to_csv_rows(
    source: &FileBytes,
    rules: RowRules<'_>,
    most: u64,
    memory: &Memory,
) -> Result<CsvRows> {
    let (missing, file) = (rules.missing, source.name.as_str());
    let wrong = |line: u64, problem: String| Error::Line { file: file.to_owned(), line, problem };
    let each = |stretch: &WholeLines<'_>, on: &mut OnEntries<'_>| each_object(stretch, &wrong, on);
    let lines = AtomicU64::new(0);
    let keys = |stretch: &WholeLines<'_>| {
        let (mut keys, mut seen) = (Vec::<String>::new(), HashSet::<String>::new());
        each(stretch, &mut |_, entries| {
            lines.fetch_add(1, Relaxed);
            for (key, _) in &entries {
                if !seen.contains(key.as_ref()) {
                    seen.insert(key.to_string());
                    keys.push(key.to_string());
                }
            }
            Ok(())
        })?;
        Ok(keys)
    };
    let (mut names, mut places) = (Vec::new(), HashMap::new());
    each_group(source, memory.batch(), &mut |stretches| {
        let found: Vec<Result<Vec<String>>> = stretches.par_iter().map(keys).collect();
        for key in found.into_iter().collect::<Result<Vec<_>>>()?.into_iter().flatten() {
            places.entry(key).or_insert_with_key(|key| {
                names.push(key.clone());
                names.len() - 1
            });
        }
        Ok(())
    })?;
    if names.is_empty() {
        return Err(Error::Empty { file: file.to_owned() });
    }
    rules.refuse_columns(file, names.len())?;
    // If each line has its own keys, the table is mostly empty and far larger than the text.
    if lines.into_inner().saturating_mul(names.len() as u64).saturating_mul(CELL) > most {
        return Err(Error::Unpacks { file: file.to_owned(), packed: source.len(), most });
    }

    let rows = |stretch: &WholeLines<'_>| {
        let mut rows = Rows::new(names.len(), missing);
        // The last line with each key.
        let mut met = vec![0; names.len()];
        each(stretch, &mut |line, entries| {
            let mut cells = vec![Cell::Missing; names.len()];
            for (key, value) in entries {
                let Some(&place) = places.get(key.as_ref()) else { continue };
                if std::mem::replace(&mut met[place], line) == line {
                    return Err(wrong(line, format!("the key `{key}` is repeated")));
                }
                cells[place] = cell(value).ok_or_else(|| {
                    let start: String = value.get().chars().take(40).collect();
                    wrong(
                        line,
                        format!(
                            "`{key}` holds `{start}`, where one value is needed: a \
                        text, a number, true, false or null"
                        ),
                    )
                })?;
            }
            rows.row(line, cells.iter()).map_err(|error| wrong(line, error.to_string()))
        })?;
        Ok(rows)
    };
    let mut joining = Joining::new(file, names.clone(), memory);
    each_group(source, memory.batch(), &mut |stretches| {
        let written: Vec<Result<Rows<'_>>> = stretches.par_iter().map(rows).collect();
        written.into_iter().try_for_each(|rows| joining.add(rows?))
    })?;
    joining.finish()
}

/// Writes JSON Lines.
pub(crate) struct JsonLinesWriter;

impl Target for JsonLinesWriter {
    fn write(&mut self, rows: &Table, to: &mut dyn Write) -> io::Result<()> {
        written(rows, to)
    }
}

fn written(table: &Table, to: &mut dyn Write) -> io::Result<()> {
    let quoted = |text: &str| serde_json::to_string(text).map_err(io::Error::from);
    let names = table.names().map(quoted).collect::<io::Result<Vec<_>>>()?;
    let bare = |kind| {
        matches!(kind, Some(Type::Integer | Type::Float | Type::Decimal { .. } | Type::Boolean))
    };
    let shape = table.shape();
    let columns = CellText::for_columns(table);
    in_stretches(table.rows(), to, |rows, to| {
        let mut text = String::new();
        for row in rows {
            to.push(b'{');
            for (i, (cell, name)) in columns.iter().zip(&names).enumerate() {
                text.clear();
                cell.append(row, &mut text);
                write!(to, "{}{name}:", if i > 0 { "," } else { "" })?;
                // JSON has no infinity.
                if cell.is_missing(row) || matches!(text.as_str(), "inf" | "-inf") {
                    to.extend_from_slice(b"null");
                } else if bare(shape.columns()[i].kind) {
                    to.extend_from_slice(text.as_bytes());
                } else {
                    serde_json::to_writer(&mut *to, &text)?;
                }
            }
            to.extend_from_slice(b"}\n");
        }
        Ok(())
    })
}

#[cfg(test)]
mod tests;
