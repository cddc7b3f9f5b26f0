//! What each kind of setting accepts and refuses, however it is given.

use super::*;
use crate::{
    Active, Elapsed, Filled, Latest, OpenEnds, Operation, Ties, Totals,
    calendar::{Grain, Month, Range, Span, Weekday},
};
use proptest::prelude::*;
use rstest::rstest;

fn setting(settings: &'static [Setting], name: &str) -> &'static Setting {
    settings.iter().find(|setting| setting.name == name).unwrap()
}

fn given(pairs: &[(&str, Given)]) -> GivenSettings {
    let mut given = GivenSettings::default();
    pairs.iter().for_each(|(name, value)| given.insert(*name, value.clone()));
    given
}

#[rstest]
#[case::a_number(Given::Number(3), Ok(3))]
#[case::a_text_that_is_one(Given::from(" 3 "), Ok(3))]
#[case::the_greatest(Given::Number(u32::MAX.into()), Ok(u32::MAX))]
#[case::below(Given::Number(0), Err("`newest` is 0: expected a whole number from 1"))]
#[case::negative(Given::Number(-1), Err("`newest` is -1: expected a whole number from 1"))]
#[case::negative_text(Given::from("-1"), Err("`newest` is -1: expected a whole number from 1"))]
#[case::beyond(Given::Number(1 << 40),
    Err("`newest` is 1099511627776: expected a whole number from 1 to 4294967295"))]
#[case::a_fraction(Given::from("1.5"), Err("`newest` is `1.5`: expected a whole number from 1"))]
#[case::a_word(Given::from("two"), Err("`newest` is `two`: expected a whole number from 1"))]
#[case::a_truth(Given::Truth(true), Err("`newest` is true: expected a whole number from 1"))]
#[case::a_list(vec![1_i64, 2].into(), Err("`newest` is [1, 2]: expected a whole number from 1"))]
fn a_number_has_its_range(#[case] value: Given, #[case] expected: std::result::Result<u32, &str>) {
    let newest = given(&[("newest", value)]).value::<u32>(setting(Latest::SETTINGS, "newest"));
    match (newest, expected) {
        (Ok(newest), Ok(expected)) => assert_eq!(newest, Some(expected)),
        (Err(error), Err(expected)) => {
            assert_eq!(error.to_string(), expected);
            assert_eq!(error.setting(), Some("newest"));
        }
        (newest, expected) => panic!("{newest:?}, and expected is {expected:?}"),
    }
}

#[rstest]
#[case::a_list(vec!["berth", "class"].into(), &["berth", "class"])]
#[case::a_text_with_commas("berth, class".into(), &["berth", "class"])]
#[case::one("berth".into(), &["berth"])]
#[case::a_trailing_comma("berth,".into(), &["berth"])]
#[case::none(Vec::<String>::new().into(), &[])]
fn names_are_a_list_or_a_text_with_commas(#[case] value: Given, #[case] expected: &[&str]) {
    let per: Option<Vec<String>> =
        given(&[("per", value)]).value(setting(Latest::SETTINGS, "per")).unwrap();
    assert_eq!(per.unwrap(), expected);
}

#[test]
fn an_empty_value_is_the_same_as_none() {
    let given = given(&[("newest", Given::Nothing)]);
    assert_eq!(given.value::<u32>(setting(Latest::SETTINGS, "newest")).unwrap(), None);
    assert_eq!(given.get("newest"), Some(&Given::Nothing));
    assert_eq!(given.iter().count(), 1);
}

/// Reads a value for a setting of a type, and returns its text or the error.
fn read<T: FromGiven + fmt::Debug>(value: &str) -> String {
    let any = setting(Active::SETTINGS, "range");
    match T::from_given(&value.into(), any) {
        Ok(value) => format!("{value:?}"),
        Err(error) => error.to_string(),
    }
}

#[rstest]
#[case::day(read::<Day>("2024-02-29"), "2024-02-29")]
#[case::no_leap_day(read::<Day>("2025-02-29"),
    "`2025-02-29` is not a date: February 2025 has 28 days")]
#[case::first_day(read::<Day>("0001-01-01"), "0001-01-01")]
#[case::last_day(read::<Day>("9999-12-31"), "9999-12-31")]
#[case::grain(read::<Grain>("quarter"), "Quarter")]
#[case::no_grain(read::<Grain>("quater"), "`quater` is not a grain. Did you mean `quarter`")]
#[case::weekday(read::<Weekday>("Sunday"), "Sunday")]
#[case::no_weekday(read::<Weekday>("Sundae"), "`Sundae` is not")]
#[case::no_month(read::<Month>("Juli"), "`Juli` is not")]
#[case::no_span(read::<Span>("soon"),
    "`soon` is not a span: expected whole days, weeks, months or years, such as `9 months`, `7 \
        days` or `P9M`")]
#[case::backwards(read::<Range>("2025-06..2025-01"),
    "`2025-06..2025-01` is not a range: expected two dates or periods, the earlier first, such as \
        2025-01-01..2025-03-31 or 2025-01..2025-06")]
fn a_text_is_a_value_of_its_type(#[case] read: String, #[case] expected: &str) {
    assert!(read.starts_with(expected), "{read}");
}

#[test]
fn every_word_of_an_enum_gives_its_value() {
    let (ties, open_ends) =
        (setting(Latest::SETTINGS, "ties"), setting(Active::SETTINGS, "open-ends"));
    for word in Ties::WORDS {
        let value: Ties = given(&[("ties", (*word).into())]).value(ties).unwrap().unwrap();
        assert_eq!(value.word(), *word);
    }
    for word in OpenEnds::WORDS {
        let value: OpenEnds =
            given(&[("open-ends", (*word).into())]).value(open_ends).unwrap().unwrap();
        assert_eq!(value.to_string(), *word);
    }
    let error = given(&[("ties", "frist".into())]).value::<Ties>(ties).unwrap_err().to_string();
    assert!(
        error.contains("`frist`") && Ties::WORDS.iter().all(|word| error.contains(word)),
        "{error}"
    );
    assert!(given(&[("ties", Given::Number(1))]).value::<Ties>(ties).is_err());
}

#[rstest]
#[case::unknown(&[("date", "day"), ("pre", "vessel")],
    "latest has no setting `pre`. Did you mean `per`?", "pre")]
#[case::missing(&[("per", "vessel")], "`date` is not given: expected the name of a column", "date")]
fn names_of_settings_are_checked(
    #[case] pairs: &[(&str, &str)],
    #[case] expected: &str,
    #[case] at: &str,
) {
    let pairs: Vec<(&str, Given)> =
        pairs.iter().map(|(name, value)| (*name, (*value).into())).collect();
    let error = Latest::from_given(&given(&pairs)).unwrap_err();
    assert_eq!((error.to_string().as_str(), error.setting()), (expected, Some(at)));
}

#[test]
fn settings_of_a_file_are_those_of_the_builders() {
    let text =
        r#"{"date": "day", "per": ["vessel"], "newest": 2, "ties": "first", "mark": "is_latest"}"#;
    let read: Latest = serde_json::from_str(text).unwrap();
    let built =
        Latest::new("day").per(["vessel"]).newest(2_u32).ties(Ties::First).mark("is_latest");
    assert_eq!(format!("{read:?}"), format!("{built:?}"));
    let nothing_said: Latest = serde_json::from_str(r#"{"date": "day"}"#).unwrap();
    assert_eq!(format!("{nothing_said:?}"), format!("{:?}", Latest::new("day")));
}

/// The default in the help is the real default.
#[rstest]
#[case(Latest::SETTINGS, "newest", Latest::default().newest.to_string())]
#[case(Latest::SETTINGS, "ties", Latest::default().ties.to_string())]
#[case(Active::SETTINGS, "open-ends", Active::default().open_ends.to_string())]
#[case(Active::SETTINGS, "end-day", Active::default().end_day.to_string())]
#[case(Active::SETTINGS, "grain", Active::default().grain.to_string())]
#[case(Active::SETTINGS, "most-rows", Active::default().most_rows.to_string())]
#[case(Filled::SETTINGS, "grain", "day".to_owned())]
#[case(Elapsed::SETTINGS, "unit", Elapsed::default().unit.to_string())]
fn the_help_has_the_default(
    #[case] settings: &'static [Setting],
    #[case] name: &str,
    #[case] is: String,
) {
    let told = setting(settings, name).default.unwrap();
    assert!(told.starts_with(&is), "{name}: {told}, and it is {is}");
}

#[test]
fn settings_have_a_help_of_one_sentence() {
    for settings in
        [Latest::SETTINGS, Active::SETTINGS, Filled::SETTINGS, Elapsed::SETTINGS, Totals::SETTINGS]
    {
        let mut names: Vec<&str> = settings.iter().map(|setting| setting.name).collect();
        for setting in settings {
            assert!(!setting.help.is_empty() && !setting.help.ends_with('.'), "{setting:?}");
            assert!(
                setting.name.chars().all(|c| c.is_ascii_lowercase() || c == '-'),
                "{setting:?}"
            );
        }
        names.sort_unstable();
        names.dedup();
        assert_eq!(names.len(), settings.len());
    }
}

#[test]
fn a_range_holds_for_fields_that_are_set_by_hand() {
    let table = crate::sample::table("day:date\n2025-06-30");
    let latest = Latest { newest: 0, ..Latest::new("day") };
    let error = latest.prepare(&table.shape(), &crate::Context::new()).unwrap_err();
    assert_eq!(error.to_string(), "`newest` is 0: expected a whole number from 1");
    let operation: &dyn Operation = &latest;
    assert_eq!(
        operation.apply_with(&table, &crate::Context::new()).unwrap_err().to_string(),
        error.to_string()
    );
}

/// The formats of columns, as a routine has them, and as they are typed.
#[rstest]
#[case::a_map(
    Given::Map([("day".to_owned(), Given::from("%d.%m.%Y"))].into()),
    Ok(&[("day", "%d.%m.%Y")][..])
)]
#[case::one("day=%d.%m.%Y".into(), Ok(&[("day", "%d.%m.%Y")][..]))]
#[case::several(vec!["a=month", "b=text"].into(), Ok(&[("a", "month"), ("b", "text")][..]))]
#[case::a_name_with_the_sign("a=b=text".into(), Ok(&[("a=b", "text")][..]))]
#[case::none(Given::List(Vec::new()), Ok(&[][..]))]
#[case::without_the_sign("day".into(),
    Err("`read` is `day`: expected a column and its format, such as `day=%d.%m.%Y`"))]
#[case::another_value(Given::Map([("day".to_owned(), Given::Truth(true))].into()),
    Err("`read` is true: expected a column and its format, such as `day=%d.%m.%Y`"))]
#[case::a_number(
    Given::Number(3),
    Err("`read` is 3: expected a column and its format, such as `day=%d.%m.%Y`")
)]
fn formats_are_given_by_name(
    #[case] value: Given,
    #[case] expected: std::result::Result<&[(&str, &str)], &str>,
) {
    let setting = Setting::new("read", Takes::Formats, false, 0, "Read a column", None);
    let formats = given(&[("read", value)]).value::<BTreeMap<String, String>>(&setting);
    match (formats, expected) {
        (Ok(formats), Ok(expected)) => {
            let formats = formats.unwrap();
            let pairs = formats.iter().map(|(name, format)| (name.as_str(), format.as_str()));
            assert_eq!(pairs.collect::<Vec<_>>(), expected);
        }
        (Err(error), Err(expected)) => assert_eq!(error.to_string(), expected),
        (found, expected) => panic!("{found:?} and {expected:?}"),
    }
}

/// Values are shown in errors as they would be written.
#[rstest]
#[case(Given::Map([("a".to_owned(), Given::Number(1)), ("b".to_owned(), "x".into())].into()),
    "{ a = 1, b = x }")]
#[case(vec![1_i64, 2].into(), "[1, 2]")]
#[case(Given::Nothing, "nothing")]
fn a_value_is_shown(#[case] value: Given, #[case] shown: &str) {
    assert_eq!(value.to_string(), shown);
}

fn any_given() -> impl Strategy<Value = Given> {
    let one = prop_oneof![
        any::<bool>().prop_map(Given::Truth),
        any::<i64>().prop_map(Given::Number),
        "[a-z0-9 ,]{0,8}".prop_map(Given::Text),
        Just(Given::Nothing),
    ];
    one.prop_recursive(2, 8, 4, |one| {
        prop_oneof![
            prop::collection::vec(one.clone(), 0..4).prop_map(Given::List),
            prop::collection::btree_map("[a-z]{1,3}", one, 0..3).prop_map(Given::Map),
        ]
    })
}

proptest! {
    #[test]
    fn a_value_survives_writing_and_reading(value in any_given()) {
        let written = serde_json::to_string(&value).unwrap();
        prop_assert_eq!(serde_json::from_str::<Given>(&written).unwrap(), value);
    }

    #[test]
    fn no_value_of_any_kind_is_a_panic(value in any_given()) {
        for setting in Latest::SETTINGS {
            let mut given = given(&[("date", "day".into())]);
            given.insert(setting.name, value.clone());
            if let Err(error) = Latest::from_given(&given) {
                prop_assert_eq!(error.setting(), Some(setting.name), "{}", error);
            }
        }
    }
}
