//! Numbers as text: floats with their shortest digits, and decimals.

use std::fmt::Write;

/// Appends the text of a value.
pub(crate) fn shown(to: &mut String, value: impl std::fmt::Display) {
    // Writing to a string cannot fail.
    let _ = write!(to, "{value}");
}

/// Appends a float with its shortest digits. If these and the zeros beside the point are more than
/// 17, it gets an exponent, because whole numbers of more than 19 digits are read as text.
pub(crate) fn float(to: &mut String, value: f64) {
    let size = value.abs();
    if value == 0.0 || (1e-5..1e17).contains(&size) || !value.is_finite() {
        return shown(to, value);
    }
    let start = to.len();
    shown(to, format_args!("{value:e}"));
    let (digits, power) = to[start..].split_once('e').unwrap_or(("", "0"));
    let power: usize = power.trim_start_matches('-').parse().unwrap_or_default();
    let digits = digits.bytes().filter(u8::is_ascii_digit).count();
    if size < 1.0 && digits - 1 + power <= 17 {
        to.truncate(start);
        shown(to, value);
    }
}

/// Formats a decimal, given in units of its last decimal place.
pub(crate) fn decimal_text(units: i128, places: i8) -> String {
    if places <= 0 {
        return units.to_string();
    }
    let scale = 10_u128.pow(places as u32);
    let (whole, part) = (units.unsigned_abs() / scale, units.unsigned_abs() % scale);
    let sign = if units < 0 { "-" } else { "" };
    format!("{sign}{whole}.{part:0width$}", width = places as usize)
}
