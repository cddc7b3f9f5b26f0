//! What messages are made of, for every room: numbers with separators, shortened texts, and the
//! names that were meant.

use std::fmt;

/// Formats a number with group separators: `12,345,678.9`.
///
/// ```
/// assert_eq!(jembric_core::grouped(1_234_567), "1,234,567");
/// assert_eq!(jembric_core::grouped("-1234.5678"), "-1,234.5678");
/// ```
pub fn grouped(number: impl fmt::Display) -> String {
    let text = number.to_string();
    let start = text.find(|c: char| c.is_ascii_digit()).unwrap_or(text.len());
    let digits = text[start..].bytes().take_while(u8::is_ascii_digit).count();
    let mut grouped = text[..start].to_owned();
    for (place, digit) in text[start..start + digits].chars().enumerate() {
        if place > 0 && (digits - place) % 3 == 0 {
            grouped.push(',');
        }
        grouped.push(digit);
    }
    grouped + &text[start + digits..]
}

/// The most characters of a cell in a message.
const MOST_SHOWN: usize = 80;

/// Shortens a text that is too long for a message.
pub fn shortened(text: &str) -> String {
    match text.char_indices().nth(MOST_SHOWN) {
        Some((end, _)) => format!("{}… ({} bytes)", &text[..end], text.len()),
        None => text.to_owned(),
    }
}

/// The existing name that was most likely meant by a wrong one.
pub fn nearest_name<'a>(wanted: &str, names: impl Iterator<Item = &'a str>) -> Option<String> {
    nearest(wanted, names).into_iter().next()
}

/// The existing names nearest to a wrong one: equal except for case and blanks, or a few letters
/// different, or a part of it.
pub(crate) fn nearest<'a>(wanted: &str, names: impl Iterator<Item = &'a str>) -> Vec<String> {
    let plain = |name: &str| {
        name.chars()
            .filter(|c| c.is_alphanumeric())
            .flat_map(char::to_lowercase)
            .collect::<String>()
    };
    // The cost of a distance is the product of both lengths, and a mistyped name is not that long.
    const MOST: usize = 200;
    if wanted.len() > MOST {
        return Vec::new();
    }
    let target = plain(wanted);
    let allowed = 1 + target.chars().count() / 4;
    let mut near: Vec<(usize, &str)> = names
        .filter(|name| name.len() <= MOST)
        .filter_map(|name| {
            let candidate = plain(name);
            let distance = strsim::damerau_levenshtein(&target, &candidate);
            // A letter is a part of many names, and no hint.
            let is_part = |one: &str, other: &str| one.len() >= 3 && other.contains(one);
            let part = is_part(&target, &candidate) || is_part(&candidate, &target);
            (distance <= allowed || part).then_some((distance, name))
        })
        .collect();
    near.sort_by_key(|&(distance, _)| distance);
    if near.first().is_some_and(|&(distance, _)| distance == 0) {
        near.truncate(1);
    }
    near.into_iter().take(3).map(|(_, name)| name.to_owned()).collect()
}

/// The names that were meant, or else the known words, as the end of a message.
pub(crate) fn meant(nearest: &[String], known: &str) -> String {
    match nearest {
        [] => format!(". Expected one of: {known}"),
        names => {
            let quoted: Vec<String> = names.iter().map(|name| format!("`{name}`")).collect();
            format!(". Did you mean {}?", quoted.join(" or "))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("0", "0")]
    #[case("999", "999")]
    #[case("1000", "1,000")]
    #[case("1234567.25", "1,234,567.25")]
    #[case("-9876", "-9,876")]
    #[case("-", "-")]
    fn numbers_are_grouped_by_thousands(#[case] plain: &str, #[case] with_separators: &str) {
        assert_eq!(grouped(plain), with_separators);
    }
}
