//! Decodes the binary form of COPY into columns.
//!
//! The form is that of the section "COPY" of PostgreSQL's manual: a header, then for each row the
//! number of its fields, and for each field its length (−1 if it is missing) and bytes, in network
//! order; −1 for the number of fields ends it.

use super::{
    super::failed,
    wire::{Wire, WireColumn},
};
use crate::{
    CoreError, Error, Result, Table,
    arrow::{
        ArrayRef, RecordBatch, RecordBatchOptions,
        builder::{
            BooleanBuilder, Date32Builder, Float64Builder, Int64Builder, StringViewBuilder,
            Time64MicrosecondBuilder, TimestampMicrosecondBuilder,
        },
        schema::{ArrowError, DataType, Field, Schema},
    },
};
use arrow_array::{Decimal64Array, Decimal128Array};
use arrow_buffer::NullBufferBuilder;
use std::{collections::HashMap, sync::Arc};

/// The days and microseconds from 1970-01-01 to 2000-01-01, where the server's count begins.
pub(super) const EPOCH_DAYS: i32 = 10_957;
pub(super) const EPOCH_MICROS: i64 = 946_684_800_000_000;

/// What the binary form begins with; 32 bits of flags and the length of an extension follow.
pub(super) const SIGNATURE: &[u8; 11] = b"PGCOPY\n\xff\r\n\0";

/// The most digits of a decimal, and of one with 64 bits.
const MOST_DIGITS: u8 = 38;
const NARROW_DIGITS: u8 = 18;

/// The powers of ten.
const TENS: [i128; 39] = {
    let mut tens = [1; 39];
    let mut power = 1;
    while power < tens.len() {
        tens[power] = tens[power - 1] * 10;
        power += 1;
    }
    tens
};

/// A value that cannot be read.
#[derive(Debug, PartialEq)]
pub(super) struct Bad {
    row: u64,
    column: String,
    problem: String,
    advice: String,
}

impl Bad {
    fn stream(problem: &str) -> Bad {
        Bad {
            row: 0,
            column: String::new(),
            problem: problem.to_owned(),
            advice: "Run the command again".to_owned(),
        }
    }

    pub(super) fn into_error(self, name: &str) -> Error {
        let Bad { row, column, problem, advice } = self;
        match row {
            0 => failed(name, problem, advice),
            row => failed(name, format!("row {row}: column `{column}`: {problem}"), advice),
        }
    }
}

/// The values of a column so far.
enum Values {
    Booleans(BooleanBuilder),
    Integers(Int64Builder),
    Floats(Float64Builder),
    Decimals(Decimals),
    Texts(StringViewBuilder),
    Dates(Date32Builder),
    Times(Time64MicrosecondBuilder),
    Moments(TimestampMicrosecondBuilder),
    /// The two ends of ranges.
    Ranges(Box<[Values; 2]>),
}

/// Decimals. Those of a column that declares their places are in units of its last place; others
/// are each in units of their own until all are known.
struct Decimals {
    declared: Option<(u8, i8)>,
    /// With at most 18 digits, or with more.
    narrow: Vec<i64>,
    wide: Vec<i128>,
    present: NullBufferBuilder,
    /// The places of each, if they are not declared.
    places: Vec<u8>,
    most_places: u8,
}

/// A column to decode.
struct Column {
    name: String,
    wire: Wire,
    values: Values,
    /// The field of each column that it becomes, if that is wanted.
    fields: Vec<Option<Field>>,
}

/// Decodes rows.
pub(super) struct Decoder {
    columns: Vec<Column>,
    /// The bytes of a row whose other bytes are still to come.
    pending: Vec<u8>,
    stage: Stage,
    rows: usize,
    /// The rows of the batches before.
    before: u64,
    not_numbers: u64,
}

#[derive(PartialEq)]
enum Stage {
    Header,
    Rows,
    End,
}

/// Whether all bytes of something are there.
enum Taken {
    Bytes(usize),
    Incomplete,
}

impl Values {
    fn for_type(wire: &Wire) -> Values {
        match wire {
            Wire::Boolean => Values::Booleans(BooleanBuilder::new()),
            Wire::Int2 | Wire::Int4 | Wire::Int8 | Wire::Unsigned4 => {
                Values::Integers(Int64Builder::new())
            }
            Wire::Float4 | Wire::Float8 => Values::Floats(Float64Builder::new()),
            Wire::Numeric(declared) => Values::Decimals(Decimals::new(*declared)),
            Wire::Date => Values::Dates(Date32Builder::new()),
            Wire::Time => Values::Times(Time64MicrosecondBuilder::new()),
            Wire::Moment { .. } => Values::Moments(TimestampMicrosecondBuilder::new()),
            Wire::Range(bounds) => {
                Values::Ranges(Box::new([Values::for_type(bounds), Values::for_type(bounds)]))
            }
            // A refused column is never fetched.
            Wire::Text | Wire::JsonBinary | Wire::Uuid | Wire::Refused { .. } => {
                Values::Texts(StringViewBuilder::new())
            }
        }
    }

    fn missing(&mut self) {
        match self {
            Values::Booleans(values) => values.append_null(),
            Values::Integers(values) => values.append_null(),
            Values::Floats(values) => values.append_null(),
            Values::Decimals(values) => values.missing(),
            Values::Texts(values) => values.append_null(),
            Values::Dates(values) => values.append_null(),
            Values::Times(values) => values.append_null(),
            Values::Moments(values) => values.append_null(),
            Values::Ranges(ends) => ends.iter_mut().for_each(Values::missing),
        }
    }

    fn finish(&mut self, instant: bool) -> std::result::Result<Vec<ArrayRef>, Unread> {
        Ok(vec![match self {
            Values::Booleans(values) => Arc::new(values.finish()),
            Values::Integers(values) => Arc::new(values.finish()),
            Values::Floats(values) => Arc::new(values.finish()),
            Values::Decimals(values) => values.finish()?,
            Values::Texts(values) => Arc::new(values.finish()),
            Values::Dates(values) => Arc::new(values.finish()),
            Values::Times(values) => Arc::new(values.finish()),
            Values::Moments(values) => {
                let values = values.finish();
                if instant { Arc::new(values.with_timezone("UTC")) } else { Arc::new(values) }
            }
            Values::Ranges(ends) => {
                let ends = ends.iter_mut().map(|end| end.finish(instant));
                return Ok(ends.collect::<std::result::Result<Vec<_>, _>>()?.concat());
            }
        }])
    }
}

impl Decimals {
    fn new(declared: Option<(u8, i8)>) -> Decimals {
        Decimals {
            declared,
            narrow: Vec::new(),
            wide: Vec::new(),
            present: NullBufferBuilder::new(0),
            places: Vec::new(),
            most_places: 0,
        }
    }

    fn is_narrow(&self) -> bool {
        self.declared.is_some_and(|(digits, _)| digits <= NARROW_DIGITS)
    }

    fn push(&mut self, units: i128, places: u8) {
        if self.is_narrow() {
            self.narrow.push(units as i64)
        } else {
            self.wide.push(units)
        }
        if self.declared.is_none() {
            self.places.push(places);
            self.most_places = self.most_places.max(places);
        }
    }

    fn missing(&mut self) {
        self.push(0, 0);
        self.present.append_null();
    }

    fn add(&mut self, units: i128, places: u8) {
        self.push(units, places);
        self.present.append_non_null();
    }

    /// The array, with the places that the column declares or that its values need.
    ///
    /// Errors: with all these places, a value has too many digits.
    fn finish(&mut self) -> std::result::Result<ArrayRef, Unread> {
        let mut taken = std::mem::replace(self, Decimals::new(self.declared));
        let nulls = taken.present.finish();
        let precise = |_: ArrowError| too_many_digits();
        if taken.is_narrow() {
            let places = taken.declared.map_or(0, |(_, places)| places);
            let array = Decimal64Array::new(taken.narrow.into(), nulls);
            let array = array.with_precision_and_scale(NARROW_DIGITS, places);
            return Ok(Arc::new(array.map_err(precise)?));
        }
        for (units, places) in taken.wide.iter_mut().zip(&taken.places) {
            let more = TENS.get(usize::from(taken.most_places - places));
            let wider = more.and_then(|more| units.checked_mul(*more));
            *units = wider.ok_or_else(too_many_digits)?;
        }
        let places = taken.declared.map_or(taken.most_places as i8, |(_, places)| places);
        let array = Decimal128Array::new(taken.wide.into(), nulls);
        array.validate_decimal_precision(MOST_DIGITS).map_err(precise)?;
        let array = array.with_precision_and_scale(MOST_DIGITS, places);
        Ok(Arc::new(array.map_err(precise)?))
    }
}

impl Decoder {
    /// A decoder for these columns, of which the result has those with the wanted names.
    pub(super) fn new(fetched: &[&WireColumn], wanted: &[&str]) -> Decoder {
        let column = |column: &&WireColumn| {
            let shapes = column.shapes();
            let field = |(name, _): &(String, _)| {
                // The type is that of the array.
                let field = Field::new(name, DataType::Null, true);
                let grain = if column.wire == Wire::Date { column.periods } else { None };
                let about = grain.map(|periods| ("jembric.grain".to_owned(), periods.to_string()));
                let field = field.with_metadata(about.into_iter().collect::<HashMap<_, _>>());
                wanted.contains(&name.as_str()).then_some(field)
            };
            Column {
                name: column.name.clone(),
                wire: column.wire.clone(),
                values: Values::for_type(&column.wire),
                fields: shapes.iter().map(field).collect(),
            }
        };
        Decoder {
            columns: fetched.iter().map(column).collect(),
            pending: Vec::new(),
            stage: Stage::Header,
            rows: 0,
            before: 0,
            not_numbers: 0,
        }
    }

    /// The rows since the last batch.
    pub(super) fn rows(&self) -> usize {
        self.rows
    }

    /// Adds bytes, which may end anywhere. Usually they are one row.
    pub(super) fn add(&mut self, bytes: &[u8]) -> std::result::Result<(), Bad> {
        if self.pending.is_empty() {
            let taken = self.decode(bytes)?;
            self.pending.extend_from_slice(&bytes[taken..]);
            return Ok(());
        }
        let mut pending = std::mem::take(&mut self.pending);
        pending.extend_from_slice(bytes);
        let taken = self.decode(&pending)?;
        pending.drain(..taken);
        self.pending = pending;
        Ok(())
    }

    /// Errors: the stream ended before its end was announced.
    pub(super) fn expect_end(&self) -> std::result::Result<(), Bad> {
        if self.stage == Stage::End && self.pending.is_empty() {
            Ok(())
        } else {
            Err(Bad::stream("the rows ended early"))
        }
    }

    /// Decodes as much as is complete, and returns the number of its bytes.
    fn decode(&mut self, bytes: &[u8]) -> std::result::Result<usize, Bad> {
        let mut taken = 0;
        loop {
            let rest = &bytes[taken..];
            let step = match self.stage {
                Stage::Header => self.header(rest)?,
                Stage::Rows => self.row(rest)?,
                Stage::End if rest.is_empty() => Taken::Incomplete,
                Stage::End => return Err(Bad::stream("there are bytes behind the last row")),
            };
            match step {
                Taken::Bytes(more) => taken += more,
                Taken::Incomplete => return Ok(taken),
            }
        }
    }

    fn header(&mut self, bytes: &[u8]) -> std::result::Result<Taken, Bad> {
        let Some(header) = bytes.get(..SIGNATURE.len() + 8) else { return Ok(Taken::Incomplete) };
        if !header.starts_with(SIGNATURE) {
            return Err(Bad::stream("the rows are not in the binary form of COPY"));
        }
        let extension = int4(&header[SIGNATURE.len() + 4..]) as u32 as usize;
        if bytes.len() < header.len() + extension {
            return Ok(Taken::Incomplete);
        }
        self.stage = Stage::Rows;
        Ok(Taken::Bytes(header.len() + extension))
    }

    fn row(&mut self, bytes: &[u8]) -> std::result::Result<Taken, Bad> {
        let Some(fields) = bytes.first_chunk() else { return Ok(Taken::Incomplete) };
        let fields = i16::from_be_bytes(*fields);
        if fields == -1 {
            self.stage = Stage::End;
            return Ok(Taken::Bytes(2));
        }
        if usize::try_from(fields) != Ok(self.columns.len()) {
            return Err(Bad::stream("a row has another number of columns"));
        }
        if !is_complete(bytes, self.columns.len()) {
            return Ok(Taken::Incomplete);
        }
        let mut place = 2;
        for column in &mut self.columns {
            let length = int4(&bytes[place..]);
            place += 4;
            let Ok(length) = usize::try_from(length) else {
                column.values.missing();
                continue;
            };
            let value = &bytes[place..place + length];
            place += length;
            let decoded = decode(&column.wire, &mut column.values, value, &mut self.not_numbers);
            if let Err((problem, advice)) = decoded {
                let quoted = super::quoted(&column.name);
                return Err(Bad {
                    row: self.before + self.rows as u64 + 1,
                    column: column.name.clone(),
                    problem,
                    advice: advice.replace("COL", &quoted),
                });
            }
        }
        self.rows += 1;
        Ok(Taken::Bytes(place))
    }

    /// The rows since the last batch, as a table.
    pub(super) fn batch(&mut self, name: &str) -> Result<Table> {
        let (mut fields, mut arrays) = (Vec::new(), Vec::new());
        for column in &mut self.columns {
            let finished = column.values.finish(column.wire.is_instant());
            let finished = finished.map_err(|(problem, advice)| {
                let advice = advice.replace("COL", &super::quoted(&column.name));
                failed(name, format!("column `{}`: {problem}", column.name), advice)
            })?;
            for (field, array) in column.fields.iter().zip(finished) {
                if let Some(field) = field {
                    fields.push(field.clone().with_data_type(array.data_type().clone()));
                    arrays.push(array);
                }
            }
        }
        let options = RecordBatchOptions::new().with_row_count(Some(self.rows));
        let schema = Arc::new(Schema::new(fields));
        let batch = RecordBatch::try_new_with_options(schema, arrays, &options);
        let table = Table::from_batch(&batch.map_err(CoreError::from)?)
            .map_err(|error| Error::InFile { file: name.to_owned(), source: Box::new(error) })?;
        self.before += self.rows as u64;
        self.rows = 0;
        let not_numbers = std::mem::take(&mut self.not_numbers) + table.not_numbers();
        Ok(table.with_not_numbers(not_numbers))
    }
}

impl Wire {
    fn is_instant(&self) -> bool {
        match self {
            Wire::Moment { instant } => *instant,
            Wire::Range(bounds) => bounds.is_instant(),
            _ => false,
        }
    }
}

/// Whether all fields of a row are there.
fn is_complete(bytes: &[u8], fields: usize) -> bool {
    let mut place = 2;
    for _ in 0..fields {
        let Some(length) = bytes.get(place..place + 4) else { return false };
        place += 4 + usize::try_from(int4(length)).unwrap_or(0);
    }
    place <= bytes.len()
}

fn int4(bytes: &[u8]) -> i32 {
    bytes.first_chunk().map_or(0, |bytes| i32::from_be_bytes(*bytes))
}

/// The problem of a value, and what to do.
type Unread = (String, String);

/// A value of a fixed length.
fn fixed<const N: usize>(value: &[u8]) -> std::result::Result<[u8; N], Unread> {
    <[u8; N]>::try_from(value).map_err(|_| {
        let problem = format!("a value has {} bytes instead of {N}", value.len());
        (problem, "Read it by a query: COL::text".to_owned())
    })
}

/// Appends a value to its column.
fn decode(
    wire: &Wire,
    values: &mut Values,
    value: &[u8],
    not_numbers: &mut u64,
) -> std::result::Result<(), Unread> {
    match (values, wire) {
        (Values::Booleans(values), _) => values.append_value(fixed::<1>(value)? != [0]),
        (Values::Integers(values), wire) => values.append_value(match wire {
            Wire::Int2 => i16::from_be_bytes(fixed(value)?).into(),
            Wire::Int4 => i32::from_be_bytes(fixed(value)?).into(),
            Wire::Unsigned4 => u32::from_be_bytes(fixed(value)?).into(),
            _ => i64::from_be_bytes(fixed(value)?),
        }),
        (Values::Floats(values), Wire::Float4) => {
            // By its shortest digits, so that 0.1 stays 0.1.
            let value = f32::from_be_bytes(fixed(value)?);
            let shown = value.to_string().parse().unwrap_or_else(|_| f64::from(value));
            values.append_value(shown);
        }
        (Values::Floats(values), _) => {
            values.append_value(f64::from_be_bytes(fixed(value)?));
        }
        (Values::Decimals(values), _) => match numeric(value)? {
            Some((units, places)) => values.add(units, places),
            None => {
                *not_numbers += 1;
                values.missing();
            }
        },
        (Values::Texts(values), Wire::Uuid) => {
            values.append_value(uuid(&fixed(value)?));
        }
        (Values::Texts(values), wire) => {
            let bytes =
                if *wire == Wire::JsonBinary { value.get(1..).unwrap_or(&[]) } else { value };
            let text = simdutf8::basic::from_utf8(bytes).map_err(|_| {
                let advice = "Read it by a query: convert_to(COL, 'UTF8')";
                ("the text is not UTF-8".to_owned(), advice.to_owned())
            })?;
            values.append_value(text);
        }
        (Values::Dates(values), _) => {
            values.append_option(days(i32::from_be_bytes(fixed(value)?)));
        }
        (Values::Times(values), _) => values.append_value(i64::from_be_bytes(fixed(value)?)),
        (Values::Moments(values), _) => {
            values.append_option(micros(i64::from_be_bytes(fixed(value)?)));
        }
        (Values::Ranges(ends), Wire::Range(bounds)) => range(bounds, ends, value)?,
        (Values::Ranges(ends), _) => ends.iter_mut().for_each(Values::missing),
    }
    Ok(())
}

/// Days since 1970. An infinite date is missing, which means that an interval never ends.
fn days(days: i32) -> Option<i32> {
    (days != i32::MAX && days != i32::MIN).then(|| days.saturating_add(EPOCH_DAYS))
}

fn micros(micros: i64) -> Option<i64> {
    (micros != i64::MAX && micros != i64::MIN).then(|| micros.saturating_add(EPOCH_MICROS))
}

fn too_many_digits() -> Unread {
    (
        format!("the column needs more than {MOST_DIGITS} digits, counted with all its places"),
        "Read it in a query as a float, COL::float8, or with fewer places, round(COL, 6)"
            .to_owned(),
    )
}

/// A `numeric` in units of its last place, with its places; none if it is not a number.
///
/// Its digits have base 10,000. `weight` is the power of 10,000 of the first one.
fn numeric(value: &[u8]) -> std::result::Result<Option<(i128, u8)>, Unread> {
    let malformed =
        || ("a number is malformed".to_owned(), "Read it by a query: COL::text".to_owned());
    let (head, digits) = value.split_first_chunk::<8>().ok_or_else(malformed)?;
    let word = |n: usize| u16::from_be_bytes([head[2 * n], head[2 * n + 1]]);
    let (count, weight, sign, places) = (word(0), word(1) as i16, word(2), word(3) & 0x3FFF);
    match sign {
        0xC000 => return Ok(None),
        0xD000 | 0xF000 => {
            let advice = "Read it by a query: COL::float8";
            return Err((
                "a number is infinite, which no decimal is".to_owned(),
                advice.to_owned(),
            ));
        }
        _ => {}
    }
    let (digits, rest) = digits.as_chunks::<2>();
    if digits.len() != usize::from(count) || !rest.is_empty() {
        return Err(malformed());
    }
    let places = u8::try_from(places).map_err(|_| too_many_digits())?;
    let Some((last, before)) = digits.split_last() else { return Ok(Some((0, places))) };
    // Four digits of base 10,000 fit 64 bits, and most numbers have no more.
    let (first, more) = before.split_at(before.len().min(4));
    let first = first
        .iter()
        .fold(0_u64, |units, digit| units * 10_000 + u64::from(u16::from_be_bytes(*digit)));
    let mut units = i128::from(first);
    for digit in more {
        units = shifted(units, 4, i128::from(u16::from_be_bytes(*digit)))?;
    }
    // The power of ten of the last digit's units, seen from the last place. If it is negative, the
    // last digit of base 10,000 has zeros behind the last place.
    let power = 4 * (i32::from(weight) - i32::from(count as i16) + 1) + i32::from(places);
    let zeros = usize::try_from(-power).unwrap_or(0);
    let last = i128::from(u16::from_be_bytes(*last));
    let kept = 4_usize.checked_sub(zeros).ok_or_else(malformed)?;
    units = shifted(units, kept, last / TENS[zeros])?;
    units = shifted(units, usize::try_from(power).unwrap_or(0), 0)?;
    Ok(Some((if sign == 0x4000 { -units } else { units }, places)))
}

/// A number times a power of ten, plus what follows.
fn shifted(units: i128, power: usize, plus: i128) -> std::result::Result<i128, Unread> {
    let ten = TENS.get(power).or((units == 0).then_some(&1));
    let shifted = ten.and_then(|ten| units.checked_mul(*ten)?.checked_add(plus));
    shifted.ok_or_else(too_many_digits)
}

fn uuid(bytes: &[u8; 16]) -> String {
    let hex: String = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
    [&hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..]].join("-")
}

/// Appends the ends of a range of dates or moments. Those of dates are its first and last day. An
/// empty range has neither.
fn range(bounds: &Wire, ends: &mut [Values; 2], value: &[u8]) -> std::result::Result<(), Unread> {
    const EMPTY: u8 = 0x01;
    const INCLUDES: [u8; 2] = [0x02, 0x04];
    const INFINITE: [u8; 2] = [0x08, 0x10];
    let malformed =
        || ("a range is malformed".to_owned(), "Read it by a query: COL::text".to_owned());
    let (&flags, mut rest) = value.split_first().ok_or_else(malformed)?;
    for (n, end) in ends.iter_mut().enumerate() {
        if flags & EMPTY != 0 || flags & INFINITE[n] != 0 {
            end.missing();
            continue;
        }
        let (length, more) = rest.split_first_chunk::<4>().ok_or_else(malformed)?;
        let length = usize::try_from(i32::from_be_bytes(*length)).map_err(|_| malformed())?;
        let (bound, more) = more.split_at_checked(length).ok_or_else(malformed)?;
        rest = more;
        match (end, bounds) {
            (Values::Dates(values), _) => {
                let day = days(i32::from_be_bytes(fixed(bound)?));
                let inside = if n == 0 { 1 } else { -1 };
                let is_included = flags & INCLUDES[n] != 0;
                values.append_option(day.map(|day| if is_included { day } else { day + inside }));
            }
            (end, bounds) => decode(bounds, end, bound, &mut 0)?,
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests;
