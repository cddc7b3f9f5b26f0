//! [`Grain`], [`Weekday`] and [`Month`]: lengths of periods, and parts of the week and the year.

use super::error::{Result, ValueError};
use crate::message::nearest;
use borsh::{BorshDeserialize, BorshSerialize};
use std::{fmt, str::FromStr};

/// The length of periods. Grains compare by length.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, BorshSerialize, BorshDeserialize,
)]
pub enum Grain {
    /// An hour of the clock; only for moments.
    Hour,
    /// A calendar day.
    Day,
    /// Seven days, from Monday unless another start is set.
    Week,
    /// A calendar month.
    Month,
    /// Three months.
    Quarter,
    /// Twelve months.
    Year,
}

impl Grain {
    const ALL: [Grain; 6] =
        [Grain::Hour, Grain::Day, Grain::Week, Grain::Month, Grain::Quarter, Grain::Year];

    /// The word, such as `month`.
    pub const fn word(self) -> &'static str {
        match self {
            Grain::Hour => "hour",
            Grain::Day => "day",
            Grain::Week => "week",
            Grain::Month => "month",
            Grain::Quarter => "quarter",
            Grain::Year => "year",
        }
    }

    /// The plural, such as `months`.
    pub const fn plural(self) -> &'static str {
        match self {
            Grain::Hour => "hours",
            Grain::Day => "days",
            Grain::Week => "weeks",
            Grain::Month => "months",
            Grain::Quarter => "quarters",
            Grain::Year => "years",
        }
    }

    /// The number of months, for grains that consist of months.
    pub const fn months(self) -> Option<i32> {
        match self {
            Grain::Month => Some(1),
            Grain::Quarter => Some(3),
            Grain::Year => Some(12),
            _ => None,
        }
    }

    /// Whether every period of the finer grain lies within one period of this one. Days lie within
    /// every longer period and months within quarters, but weeks lie within no longer one.
    pub fn holds(self, finer: Grain) -> bool {
        self == finer || (finer < self && finer != Grain::Week)
    }
}

impl fmt::Display for Grain {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}

impl FromStr for Grain {
    type Err = ValueError;

    fn from_str(text: &str) -> Result<Grain> {
        let word = text.trim().to_ascii_lowercase();
        Grain::ALL
            .into_iter()
            .find(|grain| word == grain.word() || word == grain.plural())
            .ok_or_else(|| ValueError::Unknown {
                what: "a grain",
                text: text.to_owned(),
                nearest: nearest(&word, Grain::ALL.iter().map(|grain| grain.word())),
                known: "hour, day, week, month, quarter and year",
            })
    }
}

/// A day of the week.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[allow(missing_docs)]
pub enum Weekday {
    Monday,
    Tuesday,
    Wednesday,
    Thursday,
    Friday,
    Saturday,
    Sunday,
}

impl Weekday {
    /// All seven, from Monday.
    pub const ALL: [Weekday; 7] = [
        Weekday::Monday,
        Weekday::Tuesday,
        Weekday::Wednesday,
        Weekday::Thursday,
        Weekday::Friday,
        Weekday::Saturday,
        Weekday::Sunday,
    ];
    /// Their English names, from Monday.
    pub const NAMES: [&'static str; 7] =
        ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];

    /// The number by ISO 8601, from 1 for Monday to 7 for Sunday.
    pub const fn number(self) -> u32 {
        self as u32 + 1
    }

    /// The English name.
    pub const fn name(self) -> &'static str {
        Weekday::NAMES[self as usize]
    }
}

impl fmt::Display for Weekday {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.name())
    }
}

impl FromStr for Weekday {
    type Err = ValueError;

    /// Parses a full name, or at least its first three letters (`tue`, `thurs`), in upper or lower
    /// case.
    fn from_str(text: &str) -> Result<Weekday> {
        named(text, &Weekday::NAMES).map(|index| Weekday::ALL[index]).ok_or_else(|| {
            ValueError::Unknown {
                what: "a weekday",
                text: text.to_owned(),
                nearest: nearest(text, Weekday::NAMES.into_iter()),
                known: "Monday to Sunday, in full or by the first three letters",
            }
        })
    }
}

/// A month of the year.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[allow(missing_docs)]
pub enum Month {
    January,
    February,
    March,
    April,
    May,
    June,
    July,
    August,
    September,
    October,
    November,
    December,
}

impl Month {
    /// All twelve, from January.
    pub const ALL: [Month; 12] = [
        Month::January,
        Month::February,
        Month::March,
        Month::April,
        Month::May,
        Month::June,
        Month::July,
        Month::August,
        Month::September,
        Month::October,
        Month::November,
        Month::December,
    ];
    /// Their English names, from January.
    pub const NAMES: [&'static str; 12] = [
        "January",
        "February",
        "March",
        "April",
        "May",
        "June",
        "July",
        "August",
        "September",
        "October",
        "November",
        "December",
    ];

    /// The number, from 1 to 12.
    pub const fn number(self) -> u32 {
        self as u32 + 1
    }

    /// The English name.
    pub const fn name(self) -> &'static str {
        Month::NAMES[self as usize]
    }
}

impl fmt::Display for Month {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.name())
    }
}

impl FromStr for Month {
    type Err = ValueError;

    /// Parses a number, or a name or at least its first three letters, in upper or lower case.
    fn from_str(text: &str) -> Result<Month> {
        let number = text.trim().parse::<usize>().ok().filter(|month| (1..=12).contains(month));
        let place = number.map(|month| month - 1).or_else(|| named(text, &Month::NAMES));
        place.map(|place| Month::ALL[place]).ok_or_else(|| ValueError::Unknown {
            what: "a month",
            text: text.to_owned(),
            nearest: nearest(text, Month::NAMES.into_iter()),
            known: "January to December, in full or by the first three letters, or 1 to 12",
        })
    }
}

/// The name that begins with this text of at least three letters.
pub(super) fn named(text: &str, names: &[&str]) -> Option<usize> {
    let text = text.trim();
    let begins = |name: &&str| {
        text.len() >= 3
            && name.get(..text.len()).is_some_and(|start| start.eq_ignore_ascii_case(text))
    };
    names.iter().position(begins)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("month", Ok(Grain::Month))]
    #[case(" Weeks", Ok(Grain::Week))]
    #[case("moth", Err("`moth` is not a grain. Did you mean `month`?"))]
    #[case(
        "decade",
        Err("`decade` is not a grain. Expected one of: hour, day, week, month, quarter and year")
    )]
    fn grains_by_their_words(
        #[case] text: &str,
        #[case] expected: std::result::Result<Grain, &'static str>,
    ) {
        assert_eq!(
            text.parse::<Grain>().map_err(|error| error.to_string()),
            expected.map_err(str::to_owned)
        );
    }

    #[rstest]
    #[case("tue", Some(2))]
    #[case("THURS", Some(4))]
    #[case("Sunday", Some(7))]
    #[case("t", None)]
    #[case("tueday", None)]
    #[case("", None)]
    fn weekdays_by_three_letters_or_more(#[case] text: &str, #[case] number: Option<u32>) {
        assert_eq!(text.parse::<Weekday>().ok().map(Weekday::number), number);
    }

    #[rstest]
    #[case("July", Some(7))]
    #[case("sept", Some(9))]
    #[case("04", Some(4))]
    #[case("13", None)]
    #[case("0", None)]
    fn months_by_name_or_number(#[case] text: &str, #[case] month: Option<u32>) {
        assert_eq!(text.parse::<Month>().ok().map(Month::number), month);
    }
}
