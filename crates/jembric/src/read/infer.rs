//! Finds the type of a column by counting what its cells could be, so that no cell can contradict
//! the decision.
//!
//! A survey of some rows gives a guess; a survey of all rows gives the type. The surveys of
//! different parts can be added.

use super::given_formats::Given;
use borsh::{BorshDeserialize, BorshSerialize};
use jembric_core::calendar::{
    Grain, label,
    notation::{self, Form, Order},
};

/// The type that a column is read as.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum CellType {
    /// No cell has a value.
    Nothing,
    Boolean,
    Integer,
    /// Decimals with this number of places, and at most 18 digits.
    Decimal {
        places: u8,
    },
    /// Decimals with this number of places, and at most 38 digits.
    WideDecimal {
        places: u8,
    },
    Float,
    Date(Order),
    Moment {
        order: Order,
        instant: bool,
    },
    /// Labels of weeks, months or quarters.
    Periods(Grain),
    /// In a given format.
    Given(Given),
    Text,
}

impl CellType {
    pub(crate) fn is_number(&self) -> bool {
        matches!(
            self,
            CellType::Integer
                | CellType::Decimal { .. }
                | CellType::WideDecimal { .. }
                | CellType::Float
        )
    }
}

/// How to read the cells of numbers and dates.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Conventions {
    pub(crate) decimal_comma: bool,
    /// The order of day and month, if it is given.
    pub(crate) order: Option<Order>,
    /// Whether only dates that begin with the year count.
    pub(crate) year_first_only: bool,
}

/// The grains whose labels cannot be mistaken for anything else.
const GRAINS: [Grain; 3] = [Grain::Week, Grain::Month, Grain::Quarter];

/// The most digits of a decimal.
const MOST_DIGITS: u8 = 38;

/// How many of a column's cells could be read as each type.
#[derive(Clone, Debug, Default, BorshSerialize, BorshDeserialize)]
pub(crate) struct Facts {
    values: u64,
    booleans: u64,
    integers: u64,
    decimals: u64,
    floats: u64,
    /// The most digits before and after the decimal point.
    whole_digits: u8,
    places: u8,
    /// Labels of weeks, months and quarters.
    labels: [u64; 3],
    dates: u64,
    pub(crate) forms: u16,
    /// Dates that are valid in only one order, or in either.
    day_first_only: bool,
    month_first_only: bool,
    either_order: bool,
    with_offset: u64,
    off_midnight: bool,
}

impl Facts {
    /// Counts a cell that has a value.
    pub(crate) fn add(&mut self, cell: &[u8], conventions: &Conventions) {
        self.values += 1;
        if self.booleans + 1 == self.values && boolean(cell).is_some() {
            self.booleans += 1;
        }
        match number(cell, conventions.decimal_comma) {
            Some(Number::Integer { digits }) => {
                self.integers += 1;
                self.whole_digits = self.whole_digits.max(digits);
            }
            Some(Number::Decimal { whole_digits, places }) => {
                self.decimals += 1;
                self.whole_digits = self.whole_digits.max(whole_digits);
                self.places = self.places.max(places);
            }
            Some(Number::Float) => self.floats += 1,
            None => {}
        }
        if let Some((grain, _)) = label(cell) {
            self.labels[GRAINS.iter().position(|labelled| *labelled == grain).unwrap_or(0)] += 1;
            return;
        }
        let Ok(written) = notation::read(cell) else { return };
        if conventions.year_first_only
            && !matches!(written.form, Form::YearDash | Form::YearSlash | Form::YearDot)
        {
            return;
        }
        self.dates += 1;
        self.forms |= 1 << written.form as u16;
        match (written.day(Order::DayFirst), written.day(Order::MonthFirst)) {
            (Some(one), Some(other)) => self.either_order |= one != other,
            (Some(_), None) => self.day_first_only = true,
            _ => self.month_first_only = true,
        }
        self.with_offset += u64::from(written.offset.is_some());
        self.off_midnight |= written.time.is_some_and(|time| time != 0) || written.offset.is_some();
    }

    /// Adds the counts of two parts.
    pub(crate) fn plus(mut self, other: &Facts) -> Facts {
        self.values += other.values;
        self.booleans += other.booleans;
        self.integers += other.integers;
        self.decimals += other.decimals;
        self.floats += other.floats;
        self.whole_digits = self.whole_digits.max(other.whole_digits);
        self.places = self.places.max(other.places);
        self.labels.iter_mut().zip(other.labels).for_each(|(count, more)| *count += more);
        self.dates += other.dates;
        self.forms |= other.forms;
        self.day_first_only |= other.day_first_only;
        self.month_first_only |= other.month_first_only;
        self.either_order |= other.either_order;
        self.with_offset += other.with_offset;
        self.off_midnight |= other.off_midnight;
        self
    }

    /// The type of the column, if these are all of its cells.
    pub(crate) fn kind(&self, conventions: &Conventions) -> CellType {
        match self.values {
            0 => CellType::Nothing,
            all if self.booleans == all => CellType::Boolean,
            all if self.integers == all => CellType::Integer,
            all if self.integers + self.decimals == all
                && self.whole_digits + self.places <= 18 =>
            {
                CellType::Decimal { places: self.places }
            }
            all if self.integers + self.decimals == all
                && self.whole_digits + self.places <= MOST_DIGITS =>
            {
                CellType::WideDecimal { places: self.places }
            }
            // With more digits, only text is exact.
            all if self.integers + self.decimals == all => CellType::Text,
            all if self.integers + self.decimals + self.floats == all => CellType::Float,
            all if self.dates == all => self.dated(conventions).unwrap_or(CellType::Text),
            all => {
                let grain = GRAINS.iter().zip(self.labels).find(|(_, count)| *count == all);
                grain.map_or(CellType::Text, |(grain, _)| CellType::Periods(*grain))
            }
        }
    }

    /// Whether these are dates that may have either order of day and month, so that other cells may
    /// decide it.
    pub(crate) fn has_open_order(&self, conventions: &Conventions) -> bool {
        let is_decided = self.day_first_only || self.month_first_only;
        let are_dates = self.values > 0 && self.dates == self.values;
        are_dates && conventions.order.is_none() && self.either_order && !is_decided
    }

    fn dated(&self, conventions: &Conventions) -> Option<CellType> {
        let order = match (conventions.order, self.day_first_only, self.month_first_only) {
            (None, true, true) => return None,
            (Some(order), day, month) if (if order == Order::DayFirst { month } else { day }) => {
                return None;
            }
            (Some(order), ..) => order,
            (None, true, false) => Order::DayFirst,
            (None, false, true) => Order::MonthFirst,
            (None, false, false) if self.either_order => return None,
            (None, false, false) => Order::DayFirst,
        };
        match self.with_offset {
            0 if self.off_midnight => Some(CellType::Moment { order, instant: false }),
            0 => Some(CellType::Date(order)),
            with if with == self.values => Some(CellType::Moment { order, instant: true }),
            _ => None,
        }
    }
}

/// The notations that occur, for people, with the time after them.
pub(crate) fn notations(forms: u16, order: Order, time: &str) -> String {
    let seen = Form::ALL.into_iter().filter(|&form| forms & 1 << form as u16 != 0);
    seen.map(|form| format!("{}{time}", form.example(order))).collect::<Vec<_>>().join(", ")
}

enum Number {
    Integer { digits: u8 },
    Decimal { whole_digits: u8, places: u8 },
    Float,
}

/// The kind of number in a cell. A leading zero or plus sign makes it text: `00417` is a name, and
/// `+447` a telephone number.
fn number(cell: &[u8], decimal_comma: bool) -> Option<Number> {
    let mark = if decimal_comma { b',' } else { b'.' };
    let digits = cell.strip_prefix(b"-").unwrap_or(cell);
    let whole = digits.iter().take_while(|byte| byte.is_ascii_digit()).count();
    if whole > 1 && digits[0] == b'0' {
        return None;
    }
    let behind = &digits[whole..];
    if behind.is_empty() {
        return integer(cell).map(|_| Number::Integer { digits: whole as u8 });
    }
    let places =
        behind.get(1..).filter(|places| behind[0] == mark && places.iter().all(u8::is_ascii_digit));
    match places.map(<[u8]>::len) {
        Some(places @ 1..=6) if whole + places <= MOST_DIGITS.into() => {
            Some(Number::Decimal { whole_digits: whole as u8, places: places as u8 })
        }
        // A number with too many digits is text; one with more than six places is a measurement,
        // and so a float.
        Some(1..=6) => None,
        _ => float(cell, decimal_comma).map(|_| Number::Float),
    }
}

pub(crate) fn boolean(cell: &[u8]) -> Option<bool> {
    match cell.len() {
        4 if cell.eq_ignore_ascii_case(b"true") => Some(true),
        5 if cell.eq_ignore_ascii_case(b"false") => Some(false),
        _ => None,
    }
}

/// A whole number that fits 64 bits, without a leading zero or plus sign.
#[inline]
pub(crate) fn integer(cell: &[u8]) -> Option<i64> {
    let digits = cell.strip_prefix(b"-").unwrap_or(cell);
    if digits.is_empty() || digits.len() > 19 || (digits[0] == b'0' && digits.len() > 1) {
        return None;
    }
    let negative = digits.len() < cell.len();
    let mut value = 0_i64;
    for byte in digits {
        let digit = byte.wrapping_sub(b'0');
        if digit > 9 {
            return None;
        }
        // Counted downwards, because the least number is further from zero than the greatest.
        value = value.checked_mul(10)?.checked_sub(i64::from(digit))?;
    }
    if negative { Some(value) } else { value.checked_neg() }
}

/// A decimal in units of its last place; none if it has more places, or more than 18 digits.
#[inline]
pub(crate) fn decimal(cell: &[u8], places: u8, decimal_comma: bool) -> Option<i64> {
    let mark = if decimal_comma { b',' } else { b'.' };
    let digits = cell.strip_prefix(b"-").unwrap_or(cell);
    // Nineteen digits fit a u64.
    if digits.len() > 19 || digits.is_empty() {
        return None;
    }
    // In most columns all cells have the same number of places, so look for the point there first.
    let usual = digits.len().wrapping_sub(usize::from(places) + 1);
    let mark_at = match digits.get(usual) {
        Some(&byte) if byte == mark => Some(usual),
        _ => digits.iter().position(|&byte| byte == mark),
    };
    let (whole, part) = mark_at.map_or((digits, &[][..]), |at| (&digits[..at], &digits[at + 1..]));
    let (mut value, mut all_digits) = (0_u64, true);
    for digits in [whole, part] {
        for byte in digits {
            let digit = byte.wrapping_sub(b'0');
            all_digits &= digit <= 9;
            value = value.wrapping_mul(10).wrapping_add(digit.into());
        }
    }
    let leading_zero = digits[0] == b'0' && digits.get(1).is_some_and(u8::is_ascii_digit);
    let too_few_or_many = part.len() > places.into() || (mark_at.is_some() && part.is_empty());
    if !all_digits || too_few_or_many || leading_zero {
        return None;
    }
    value = value.checked_mul(10_u64.pow(u32::from(places) - part.len() as u32))?;
    let value = (value < 1_000_000_000_000_000_000).then_some(value as i64)?;
    Some(if digits.len() < cell.len() { -value } else { value })
}

/// A decimal of up to 38 digits in units of its last place, as [`decimal`] reads those of up to 18.
pub(crate) fn wide_decimal(cell: &[u8], places: u8, decimal_comma: bool) -> Option<i128> {
    let mark = if decimal_comma { b',' } else { b'.' };
    let digits = cell.strip_prefix(b"-").unwrap_or(cell);
    let mark_at = digits.iter().position(|&byte| byte == mark);
    let (whole, part) = mark_at.map_or((digits, &[][..]), |at| (&digits[..at], &digits[at + 1..]));
    let leading_zero = whole.len() > 1 && whole[0] == b'0';
    let fits =
        part.len() <= places.into() && whole.len() + usize::from(places) <= MOST_DIGITS.into();
    if leading_zero || !fits || digits.is_empty() || (mark_at.is_some() && part.is_empty()) {
        return None;
    }
    let mut value = 0_i128;
    for byte in whole.iter().chain(part) {
        value = value * 10 + i128::from(Some(byte.wrapping_sub(b'0')).filter(|digit| *digit <= 9)?);
    }
    value *= 10_i128.pow(u32::from(places) - part.len() as u32);
    Some(if digits.len() < cell.len() { -value } else { value })
}

/// A number with a decimal point or an exponent, or `NaN`.
#[inline]
pub(crate) fn float(cell: &[u8], decimal_comma: bool) -> Option<f64> {
    if cell.eq_ignore_ascii_case(b"nan") {
        return Some(f64::NAN);
    }
    let digits = cell.strip_prefix(b"-").unwrap_or(cell);
    let like_a_number =
        digits.first().is_some_and(|&byte| byte.is_ascii_digit() || byte == b'.' || byte == b',');
    let leading_zero = digits.len() > 1 && digits[0] == b'0' && digits[1].is_ascii_digit();
    if !like_a_number || leading_zero {
        return None;
    }
    if !decimal_comma {
        return fast_float2::parse(cell).ok();
    }
    if cell.contains(&b'.') {
        return None;
    }
    let with_point: Vec<u8> =
        cell.iter().map(|&byte| if byte == b',' { b'.' } else { byte }).collect();
    fast_float2::parse(&with_point).ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const DAY: CellType = CellType::Date(Order::DayFirst);
    const MOMENT: CellType = CellType::Moment { order: Order::DayFirst, instant: false };

    #[rstest]
    #[case::nothing(&[], CellType::Nothing)]
    #[case::booleans(&["true", "FALSE"], CellType::Boolean)]
    #[case::integers(&["0", "-5", "9223372036854775807", "-9223372036854775808"],
        CellType::Integer)]
    #[case::too_long(&["9223372036854775808"], CellType::Text)]
    #[case::leading_zero(&["417", "00417"], CellType::Text)]
    #[case::telephone(&["+447"], CellType::Text)]
    #[case::money(&["12", "3.50", "-.5"], CellType::Decimal { places: 2 })]
    #[case::six_places(&["0.123456"], CellType::Decimal { places: 6 })]
    #[case::seven_places(&["0.1234567"], CellType::Float)]
    #[case::eighteen_digits(&["123456789012.123456"], CellType::Decimal { places: 6 })]
    #[case::nineteen_digits_together(&["1234567890123", "0.123456"],
        CellType::WideDecimal { places: 6 })]
    #[case::nineteen_digits(&["9999999999999.999999", "-.5"], CellType::WideDecimal { places: 6 })]
    #[case::too_many_digits(&["999999999999999999999999999999999.999999"], CellType::Text)]
    #[case::too_many_together(&["9999999999999999999999999999999999999.9", "0.123456"],
        CellType::Text)]
    #[case::exponent(&["1e3", "5."], CellType::Float)]
    #[case::not_a_number(&["1.5", "NaN"], CellType::Float)]
    #[case::infinite(&["inf"], CellType::Text)]
    #[case::thousands(&["1,234.50"], CellType::Text)]
    #[case::dates(&["2025-06-30", "30.06.2025"], DAY)]
    #[case::day_first(&["03/04/2025", "13/04/2025"], DAY)]
    #[case::month_first(&["03/04/2025", "04/13/2025"], CellType::Date(Order::MonthFirst))]
    #[case::no_evidence(&["03/04/2025"], CellType::Text)]
    #[case::same_either_way(&["04/04/2025"], DAY)]
    #[case::contradictory(&["13/04/2025", "04/13/2025"], CellType::Text)]
    #[case::moments(&["2025-06-30T14:05", "2025-06-30"], MOMENT)]
    #[case::midnights(&["2025-06-30T00:00", "2025-07-01 00:00:00"], DAY)]
    #[case::instants(&["2025-06-30T00:00Z"], CellType::Moment { order: Order::DayFirst,
        instant: true })]
    #[case::some_offsets(&["2025-06-30T00:00Z", "2025-06-30T00:00"], CellType::Text)]
    #[case::months(&["2025-06", "2025-12"], CellType::Periods(Grain::Month))]
    #[case::quarters(&["2025-Q2"], CellType::Periods(Grain::Quarter))]
    #[case::weeks(&["2025-W27", "2026-W53"], CellType::Periods(Grain::Week))]
    #[case::no_such_week(&["2025-W27", "2025-W53"], CellType::Text)]
    #[case::months_and_quarters(&["2025-06", "2025-Q2"], CellType::Text)]
    #[case::months_and_days(&["2025-06", "2025-06-30"], CellType::Text)]
    #[case::years(&["2025"], CellType::Integer)]
    #[case::bad_day(&["2025-06-30", "2025-02-30"], CellType::Text)]
    #[case::two_digit_year(&["30/06/25"], CellType::Text)]
    #[case::compact(&["20250630"], CellType::Integer)]
    #[case::number_and_date(&["5", "2025-06-30"], CellType::Text)]
    fn the_whole_column_decides_its_type(#[case] cells: &[&str], #[case] kind: CellType) {
        let conventions = Conventions::default();
        let survey = |cells: &[&str]| {
            let mut facts = Facts::default();
            cells.iter().for_each(|cell| facts.add(cell.as_bytes(), &conventions));
            facts
        };
        assert_eq!(survey(cells).kind(&conventions), kind);
        let (some, others) = cells.split_at(cells.len() / 2);
        assert_eq!(survey(others).plus(&survey(some)).kind(&conventions), kind, "surveyed apart");
    }

    #[rstest]
    #[case(Conventions { order: Some(Order::MonthFirst), ..Conventions::default() }, "03/04/2025",
        CellType::Date(Order::MonthFirst))]
    #[case(Conventions { order: Some(Order::MonthFirst), ..Conventions::default() }, "13/04/2025",
        CellType::Text)]
    #[case(Conventions { year_first_only: true, ..Conventions::default() }, "13/04/2025",
        CellType::Text)]
    #[case(Conventions { year_first_only: true, ..Conventions::default() }, "2025/04/13", DAY)]
    #[case(Conventions { decimal_comma: true, ..Conventions::default() }, "3,50",
        CellType::Decimal { places: 2 })]
    #[case(Conventions { decimal_comma: true, ..Conventions::default() }, "3.50", CellType::Text)]
    #[case(Conventions { decimal_comma: true, ..Conventions::default() }, "3,1234567",
        CellType::Float)]
    fn conventions_decide_where_they_are_given(
        #[case] conventions: Conventions,
        #[case] cell: &str,
        #[case] kind: CellType,
    ) {
        let mut facts = Facts::default();
        facts.add(cell.as_bytes(), &conventions);
        assert_eq!(facts.kind(&conventions), kind);
    }

    #[rstest]
    #[case("3.5", 2, Some(350))]
    #[case("-0.05", 2, Some(-5))]
    #[case("7", 2, Some(700))]
    #[case("3.555", 2, None)]
    #[case("9999999999999999.99", 2, Some(999_999_999_999_999_999))]
    #[case("99999999999999999.9", 2, None)]
    #[case("3.", 2, None)]
    #[case("-", 2, None)]
    fn decimals_are_exact(#[case] cell: &str, #[case] places: u8, #[case] value: Option<i64>) {
        assert_eq!(decimal(cell.as_bytes(), places, false), value);
    }
}
