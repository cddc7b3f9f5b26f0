use super::{super::encode, *};
use crate::{Type, arrow::StringViewArray};
use arrow_array::{
    BooleanArray, Date32Array, Float64Array, Int64Array, Time64MicrosecondArray,
    TimestampMicrosecondArray,
};
use proptest::prelude::*;
use rstest::rstest;

/// The type on the wire of a column that this library writes.
fn wire(kind: Option<Type>) -> Wire {
    match kind.unwrap_or(Type::Text) {
        Type::Boolean => Wire::Boolean,
        Type::Integer => Wire::Int8,
        Type::Decimal { places } => Wire::Numeric(Some((38, places))),
        Type::Float => Wire::Float8,
        Type::Date(_) => Wire::Date,
        Type::Time => Wire::Time,
        Type::Moment { instant } => Wire::Moment { instant },
        _ => Wire::Text,
    }
}

fn column(name: &str, wire: Wire) -> WireColumn {
    WireColumn { name: name.to_owned(), wire, periods: None }
}

/// The table of these bytes, which arrive in pieces of this length.
fn decoded(columns: &[WireColumn], bytes: &[u8], piece: usize) -> std::result::Result<Table, Bad> {
    let fetched: Vec<&WireColumn> = columns.iter().collect();
    let names: Vec<String> =
        columns.iter().flat_map(WireColumn::shapes).map(|(name, _)| name).collect();
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    let mut decoder = Decoder::new(&fetched, &names);
    bytes.chunks(piece).try_for_each(|piece| decoder.add(piece))?;
    decoder.expect_end()?;
    decoder.batch("t").map_err(|error| Bad::stream(&error.to_string()))
}

/// One row with one field, in the binary form.
fn one_field(value: Option<&[u8]>) -> Vec<u8> {
    let mut bytes = encode::header();
    bytes.extend_from_slice(&1_i16.to_be_bytes());
    match value {
        None => bytes.extend_from_slice(&(-1_i32).to_be_bytes()),
        Some(value) => {
            bytes.extend_from_slice(&(value.len() as i32).to_be_bytes());
            bytes.extend_from_slice(value);
        }
    }
    bytes.extend_from_slice(&encode::TRAILER);
    bytes
}

fn cell(wire: Wire, value: &[u8]) -> std::result::Result<String, String> {
    match decoded(&[column("x", wire)], &one_field(Some(value)), 1 << 16) {
        Ok(table) => Ok(crate::formats::text::CellText::for_columns(&table)[0].text(0)),
        Err(bad) => Err(bad.problem),
    }
}

/// A `numeric` of these digits of base 10,000.
fn numeric_of(digits: &[u16], weight: i16, sign: u16, places: u16) -> Vec<u8> {
    let head = [digits.len() as u16, weight as u16, sign, places];
    head.iter().chain(digits).flat_map(|word| word.to_be_bytes()).collect()
}

#[rstest]
#[case::zero(&[], 0, 0, 2, "0.00")]
#[case::whole(&[12], 0, 0, 0, "12")]
#[case::thousands(&[1, 2345], 1, 0, 0, "12345")]
#[case::zeros_left_out(&[3], 2, 0, 1, "300000000.0")]
#[case::fraction(&[12, 5000], 0, 0, 2, "12.50")]
#[case::negative_fraction(&[100], -1, 0x4000, 2, "-0.01")]
#[case::small(&[1000], -2, 0, 5, "0.00001")]
#[case::many_digits(&[9999, 9999, 9999, 9999, 9999, 9999, 9999, 9999, 9999, 9900], 8, 0, 2,
    "999999999999999999999999999999999999.99")]
fn a_numeric_is_exact(
    #[case] digits: &[u16],
    #[case] weight: i16,
    #[case] sign: u16,
    #[case] places: u16,
    #[case] shown: &str,
) {
    let value = numeric_of(digits, weight, sign, places);
    assert_eq!(cell(Wire::Numeric(None), &value).as_deref(), Ok(shown));
}

#[rstest]
#[case::infinite(Wire::Numeric(None), numeric_of(&[], 0, 0xD000, 0), "infinite")]
#[case::too_long(Wire::Numeric(None), numeric_of(&[1], 10, 0, 0), "more than 38 digits")]
#[case::too_small(Wire::Numeric(None), numeric_of(&[1], -11, 0, 44), "more than 38 digits")]
#[case::cut_short(Wire::Numeric(None), vec![0, 1, 0, 0], "malformed")]
#[case::missing_digit(Wire::Numeric(None), numeric_of(&[1], 0, 0, 0)[..8].to_vec(), "malformed")]
#[case::short_number(Wire::Int8, vec![0; 4], "4 bytes instead of 8")]
#[case::not_text(Wire::Text, vec![0xFF], "not UTF-8")]
#[case::short_range(Wire::Range(Box::new(Wire::Date)), vec![2, 0, 0, 0, 4, 0], "malformed")]
fn a_value_that_cannot_be_read_is_an_error(
    #[case] wire: Wire,
    #[case] value: Vec<u8>,
    #[case] part: &str,
) {
    let problem = cell(wire, &value).unwrap_err();
    assert!(problem.contains(part), "{problem}");
}

#[rstest]
#[case::date(Wire::Date, i32::MAX.to_be_bytes().to_vec())]
#[case::moment(Wire::Moment { instant: true }, i64::MIN.to_be_bytes().to_vec())]
#[case::not_a_number(Wire::Numeric(None), numeric_of(&[], 0, 0xC000, 0))]
fn infinite_dates_and_what_is_no_number_are_missing(#[case] wire: Wire, #[case] value: Vec<u8>) {
    let is_number = matches!(wire, Wire::Numeric(_));
    let table = decoded(&[column("x", wire)], &one_field(Some(&value)), 1 << 16).unwrap();
    assert_eq!(table.columns()[0].null_count(), 1);
    assert_eq!(table.not_numbers(), u64::from(is_number));
}

#[rstest]
#[case::half_open(0x02, Some(0), Some(31), ["2000-01-01", "2000-01-31"])]
#[case::closed(0x06, Some(0), Some(31), ["2000-01-01", "2000-02-01"])]
#[case::open(0x00, Some(0), Some(31), ["2000-01-02", "2000-01-31"])]
#[case::endless(0x12, Some(0), None, ["2000-01-01", ""])]
#[case::infinite(0x02, Some(0), Some(i32::MAX), ["2000-01-01", ""])]
#[case::empty(0x01, None, None, ["", ""])]
fn a_range_of_dates_becomes_its_first_and_last_day(
    #[case] flags: u8,
    #[case] lower: Option<i32>,
    #[case] upper: Option<i32>,
    #[case] ends: [&str; 2],
) {
    let mut value = vec![flags];
    for bound in [lower, upper].into_iter().flatten() {
        value.extend_from_slice(&4_i32.to_be_bytes());
        value.extend_from_slice(&bound.to_be_bytes());
    }
    let range = column("stay", Wire::Range(Box::new(Wire::Date)));
    let table = decoded(&[range], &one_field(Some(&value)), 1 << 16).unwrap();
    assert_eq!(table.names().collect::<Vec<_>>(), ["stay_start", "stay_end"]);
    let texts = crate::formats::text::CellText::for_columns(&table);
    assert_eq!([texts[0].text(0), texts[1].text(0)], ends);
}

#[test]
fn a_stream_that_is_not_complete_is_an_error() {
    let whole = one_field(Some(&1_i64.to_be_bytes()));
    let columns = [column("x", Wire::Int8)];
    assert!(decoded(&columns, &whole, 7).is_ok());
    for end in 0..whole.len() {
        let bad = decoded(&columns, &whole[..end], 7).unwrap_err();
        assert_eq!(bad.problem, "the rows ended early", "cut at {end}");
    }
    let mut behind = whole.clone();
    behind.push(0);
    assert!(decoded(&columns, &behind, 1 << 16).is_err());
    let other = decoded(&[columns[0].clone(), columns[0].clone()], &whole, 1 << 16);
    assert_eq!(other.unwrap_err().problem, "a row has another number of columns");
    let not_copy = decoded(&columns, b"PGCOPX\n\xff\r\n\0\0\0\0\0\0\0\0\0\xff\xff", 1 << 16);
    assert!(not_copy.is_err());
}

#[test]
fn a_uuid_is_written_as_usual_and_a_short_float_by_its_own_digits() {
    let bytes: Vec<u8> = (0..16).map(|n| n * 17).collect();
    let shown = cell(Wire::Uuid, &bytes);
    assert_eq!(shown.as_deref(), Ok("00112233-4455-6677-8899-aabbccddeeff"));
    assert_eq!(cell(Wire::Float4, &0.1_f32.to_be_bytes()).as_deref(), Ok("0.1"));
    assert_eq!(cell(Wire::JsonBinary, b"\x01{\"a\": 1}").as_deref(), Ok("{\"a\": 1}"));
}

#[test]
fn a_text_with_a_nul_character_is_refused() {
    let texts: ArrayRef = Arc::new(StringViewArray::from(vec!["a", "b\0"]));
    let table = Table::from_columns([("x", texts)]).unwrap();
    let refused = encode::rows(&table, 0..2, &mut Vec::new());
    assert_eq!(refused, Err(encode::NulInText { row: 1, column: 0 }));
}

/// A row of a table with a column of every type.
type Row = (
    Option<bool>,
    Option<i64>,
    Option<f64>,
    Option<i128>,
    Option<String>,
    Option<i32>,
    Option<i64>,
    Option<i64>,
);

fn row() -> impl Strategy<Value = Row> {
    const DAYS: std::ops::RangeInclusive<i32> = -719_162..=2_932_896;
    const DAY: i64 = 86_400_000_000;
    let units = -(10_i128.pow(38) - 1)..10_i128.pow(38);
    let moments = i64::from(*DAYS.start()) * DAY..(i64::from(*DAYS.end()) + 1) * DAY;
    (
        any::<Option<bool>>(),
        any::<Option<i64>>(),
        proptest::option::of(prop::num::f64::NORMAL | prop::num::f64::INFINITE),
        proptest::option::of(units),
        proptest::option::of("[^\0]{0,40}"),
        proptest::option::of(DAYS),
        proptest::option::of(0..DAY),
        proptest::option::of(moments),
    )
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    /// What is encoded is decoded again, in pieces of any length.
    #[test]
    fn rows_survive(
        rows in prop::collection::vec(row(), 0..20),
        places in 0_i8..=38,
        piece in 1_usize..200,
    ) {
        let units: Decimal128Array = rows.iter().map(|row| row.3).collect();
        let moments: TimestampMicrosecondArray = rows.iter().map(|row| row.7).collect();
        let texts: StringViewArray = rows.iter().map(|row| row.4.as_deref()).collect();
        let columns: [(&str, ArrayRef); 9] = [
            ("truth", Arc::new(rows.iter().map(|row| row.0).collect::<BooleanArray>())),
            ("count", Arc::new(rows.iter().map(|row| row.1).collect::<Int64Array>())),
            ("level", Arc::new(rows.iter().map(|row| row.2).collect::<Float64Array>())),
            ("amount", Arc::new(units.with_precision_and_scale(38, places).unwrap())),
            ("name", Arc::new(texts)),
            ("day", Arc::new(rows.iter().map(|row| row.5).collect::<Date32Array>())),
            ("time", Arc::new(rows.iter().map(|row| row.6).collect::<Time64MicrosecondArray>())),
            ("reading", Arc::new(moments.clone())),
            ("instant", Arc::new(moments.with_timezone("UTC"))),
        ];
        let table = Table::from_columns(columns).unwrap();
        let mut bytes = encode::header();
        encode::rows(&table, 0..table.rows(), &mut bytes).unwrap();
        bytes.extend_from_slice(&encode::TRAILER);
        let shape = table.shape();
        let columns: Vec<WireColumn> =
            shape.columns().iter().map(|one| column(&one.name, wire(one.kind))).collect();
        prop_assert_eq!(decoded(&columns, &bytes, piece).unwrap(), table);
    }
}
