use super::*;
use crate::{
    Reason,
    arrow::{ArrayRef, Int64Array, StringViewArray},
    sample::{shown, table},
};
use proptest::prelude::*;
use rstest::rstest;
use std::{collections::BTreeMap, sync::Arc};

fn vessels() -> Changes {
    Changes::per(["vessel"])
}

/// The rows of a result, with `-` for a missing value.
fn rows(outcome: &Outcome) -> Vec<String> {
    shown(&outcome.table)
}

#[test]
fn each_changed_cell_is_a_row_and_other_records_have_one() {
    let now = table(
        "vessel:text tons:number day:date   note:text
         Petrel      12          2025-06-30 ok
         Wend        7           2025-01-01 ok
         Marram      3           2025-02-01 -",
    );
    let before = table(
        "note:text vessel:text day:date   tons:number
         ok        Wend        2025-01-01 7
         late      Petrel      2025-06-01 10
         -         Sallow      2025-02-01 3",
    );
    let outcome = vessels().apply(&now, &before).unwrap();
    assert_eq!(
        rows(&outcome),
        [
            "Marram appeared - - - -",
            "Petrel changed tons 10 12 2",
            "Petrel changed day 2025-06-01 2025-06-30 29",
            "Petrel changed note late ok -",
            "Sallow gone - - - -",
        ]
    );
    let ledger = &outcome.ledger;
    assert!(ledger.balances());
    assert_eq!((ledger.rows_in, ledger.kept, ledger.rows(Reason::Unchanged)), (3, 2, 1));
    let counts = ["changed", "appeared", "changed cells"].map(|name| ledger.count(name));
    assert_eq!(counts, [1, 1, 3]);
    let older = ledger.other_side.as_ref().unwrap();
    assert_eq!((older.rows_in, older.kept, older.count("gone")), (3, 2, 1));
    assert_eq!(ledger.count("columns of different types, shown as text"), 3);
}

#[test]
fn values_keep_their_type_if_all_columns_have_it() {
    let now = table("vessel:text a:money b:money\nPetrel 1.50 2.00");
    let before = table("vessel:text a:money b:money\nPetrel 1.25 2.00");
    let outcome = vessels().apply(&now, &before).unwrap();
    assert_eq!(rows(&outcome), ["Petrel changed a 1.25 1.50 0.25"]);
    assert_eq!(outcome.table.shape().find("now").unwrap().kind, Some(Type::Decimal { places: 2 }));
    let plan = vessels().prepare(&now.shape(), Some(&before.shape()), &Context::new()).unwrap();
    assert_eq!(plan.shape().unwrap().columns(), outcome.table.shape().columns());
}

#[rstest]
#[case::whole_and_money("a:number", "5", "a:money", "5.00", None)]
#[case::whole_and_other_money("a:number", "5", "a:money", "5.01", Some("5.01 5 -0.01"))]
#[case::float_and_whole("a:float", "0.5", "a:number", "1", Some("1 0.5 -0.5"))]
#[case::decimal_and_the_same_float("a:money", "0.10", "a:float", "0.1", None)]
#[case::equal_as_floats_only(
    "a:number",
    "9007199254740993",
    "a:float",
    "9007199254740992",
    Some("9007199254740992 9007199254740993 1")
)]
#[case::floats("a:float", "0.1", "a:float", "0.3", Some("0.3 0.1 -0.2"))]
#[case::floats_of_very_different_size(
    "a:float",
    "1e300",
    "a:float",
    "0.5",
    Some("0.5 1e300 1e300")
)]
#[case::text_and_number("a:text", "5", "a:number", "5", None)]
#[case::text_and_other_number("a:text", "05", "a:number", "5", Some("5 05 -"))]
#[case::date_and_moment(
    "a:date",
    "2025-06-30",
    "a:moment",
    "2025-06-30T10:00:00",
    Some("2025-06-30T10:00 2025-06-30 -")
)]
#[case::missing("a:number", "-", "a:number", "-", None)]
#[case::missing_now("a:number", "-", "a:number", "1", Some("1 - -"))]
#[case::month("a:date", "2025-06", "a:date", "2025-04", Some("2025-04 2025-06 61"))]
#[case::instants(
    "a:instant",
    "2025-06-30T10:00:00Z",
    "a:instant",
    "2025-06-30T11:00:00Z",
    Some("2025-06-30T11:00Z 2025-06-30T10:00Z -")
)]
fn values_of_different_types_are_compared_by_value(
    #[case] now: &str,
    #[case] now_value: &str,
    #[case] before: &str,
    #[case] before_value: &str,
    #[case] change: Option<&str>,
) {
    let side = |column: &str, value: &str| table(&format!("vessel:text {column}\nPetrel {value}"));
    let outcome = vessels().apply(&side(now, now_value), &side(before, before_value)).unwrap();
    let expected: Vec<String> =
        change.iter().map(|change| format!("Petrel changed a {change}")).collect();
    assert_eq!(rows(&outcome), expected);
}

#[test]
fn keys_are_matched_by_value_and_sorted_by_it() {
    let now = table("berth:number vessel:text a:number\n10 x 1\n9 x 1\n9 y 1\n- x 1");
    let before = table("berth:money vessel:text a:number\n9.00 x 2\n10.00 x 1\n9.50 z 1");
    let outcome = Changes::per(["berth", "vessel"]).apply(&now, &before).unwrap();
    assert_eq!(
        rows(&outcome),
        ["9.00 x changed a 2 1 -1", "9.00 y appeared - - - -", "9.50 z gone - - - -"]
    );
    assert_eq!(outcome.ledger.set_aside[0].reason, Reason::NoKey);
    assert_eq!(outcome.set_aside.rows(), 1);
}

#[rstest]
#[case("0.5", &["b changed a 1.00 1.51 0.51"])]
#[case("0.51", &[])]
#[case("0", &["a changed a 1.00 1.50 0.50", "b changed a 1.00 1.51 0.51"])]
fn numbers_may_differ_by_a_limit(#[case] within: &str, #[case] changes: &[&str]) {
    let before = table("vessel:text a:money\na 1.00\nb 1.00");
    let now = table("vessel:text a:money\na 1.50\nb 1.51");
    let settings = vessels().within(within.parse::<Decimal>().unwrap());
    assert_eq!(rows(&settings.apply(&now, &before).unwrap()), changes);
    let float = |name: &str| table(&format!("vessel:text a:float\nx {name}"));
    let none = vessels().within("0.25".parse::<Decimal>().unwrap());
    assert_eq!(none.apply(&float("1.5"), &float("1.25")).unwrap().table.rows(), 0);
    assert_eq!(none.apply(&float("1.75"), &float("1.25")).unwrap().table.rows(), 1);
    assert_eq!(none.apply(&float("inf"), &float("inf")).unwrap().table.rows(), 0);
}

#[test]
fn columns_are_chosen_and_those_of_one_side_are_counted_once() {
    let now = table("vessel:text a:number b:number new:number\nx 1 1 1\ny 1 1 1");
    let before = table("vessel:text a:number b:number old:number\nx 2 2 1\ny 2 2 1");
    let columns = |settings: Changes| {
        let outcome = settings.apply(&now, &before).unwrap();
        let columns =
            rows(&outcome).into_iter().map(|row| row.split(' ').nth(2).unwrap().to_owned());
        (columns.collect::<Vec<_>>(), outcome.ledger)
    };
    let (all, ledger) = columns(vessels());
    assert_eq!(all, ["a", "b", "a", "b"]);
    assert_eq!(ledger.count("columns on this side only (new)"), 1);
    let older = ledger.other_side.unwrap();
    assert_eq!(older.count("columns on this side only (old)"), 1);
    assert_eq!(columns(vessels().only(["b"])).0, ["b", "b"]);
    assert_eq!(columns(vessels().ignore(["b", "new"])).0, ["a", "a"]);
}

#[rstest]
#[case(vessels().only(["c"]), "`only`: there is no column `c`")]
#[case(Changes::per(["ship"]), "there is no column `ship`")]
#[case(Changes::per(Vec::<String>::new()), "`per` needs at least one column")]
#[case(vessels().date("a"), "`date` cannot be used together with a second table")]
#[case(vessels().then(["a"]), "`then` needs `date`")]
fn settings_that_do_not_fit_are_refused(#[case] settings: Changes, #[case] message: &str) {
    let one = table("vessel:text a:number b:number\nx 1 1");
    let error = settings.apply(&one, &one).unwrap_err().to_string();
    let plain = |text: &str| text.replace("`only`: ", "");
    assert!(plain(&error).contains(&plain(message)), "{error}");
}

#[test]
fn a_key_that_occurs_twice_is_refused_or_decided_by_the_order_of_rows() {
    let now = table("vessel:text a:number\nx 1\ny 1\nx 2\nx 3\n");
    let before = table("vessel:text a:number\nx 1\ny 1");
    let error = vessels().apply(&now, &before).unwrap_err().to_string();
    assert_eq!(
        error,
        "now: 1 key occurs more than once: `x` (row 1, row 3, row 4). Choose one \
            (`ties(\"first\")`), or identify each record by more columns with `per`"
    );
    let with = |ties| rows(&vessels().ties(ties).apply(&now, &before).unwrap());
    assert_eq!(with(Duplicates::First), [""; 0]);
    assert_eq!(with(Duplicates::Last), ["x changed a 1 3 2"]);
    let outcome = vessels().ties(Duplicates::Last).apply(&now, &before).unwrap();
    assert_eq!(outcome.ledger.rows(Reason::TiedWithTheOneKept), 2);
    assert!(outcome.ledger.balances());
}

#[test]
fn keys_that_differ_in_case_or_blanks_are_warned_of() {
    let now = table("vessel:text a:number\nPETREL 1");
    let before = table("vessel:text a:number\nPetrel 1");
    let outcome = vessels().apply(&now, &before).unwrap();
    let warnings: Vec<String> = outcome.ledger.warnings().map(ToString::to_string).collect();
    assert_eq!(
        warnings,
        ["1 record that appeared has the key of an older one if upper and lower case and outer \
            blanks are ignored: `PETREL` and `Petrel`"]
    );
}

#[test]
fn one_table_is_compared_at_two_dates() {
    let table = table(
        "vessel:text day:date   grade:number
         x           2025-05-01 1
         x           2025-06-10 2
         x           2025-07-01 3
         y           2025-06-20 1
         z           2025-04-01 1
         z           -          9
         -           2025-04-01 9",
    );
    let between = Between::new("2025-05-31".parse().unwrap(), "2025-06-30".parse().unwrap());
    let settings = vessels().date("day").between(between.unwrap());
    let outcome = settings.apply_between(&table).unwrap();
    assert_eq!(
        rows(&outcome),
        ["x changed day 2025-05-01 2025-06-10 40", "x changed grade 1 2 1", "y appeared - - - -",]
    );
    assert!(outcome.ledger.balances(), "{}", outcome.ledger);
    let older = outcome.ledger.other_side.as_ref().unwrap();
    assert_eq!((outcome.ledger.rows_in, older.rows_in), (7, 7));
    assert_eq!((outcome.ledger.kept, older.kept), (2, 1));
    assert_eq!(outcome.set_aside.rows(), 2);
    // Before all data, every record appeared.
    let early = Between::new("2000-01-01".parse().unwrap(), "2025-06-30".parse().unwrap());
    let outcome = vessels().date("day").between(early.unwrap()).apply_between(&table).unwrap();
    assert_eq!(outcome.ledger.count("appeared"), 3);
    assert!(outcome.ledger.to_string().contains("no record is as old as 2000-01-01, so all"));
}

#[rstest]
#[case("2025-05-31", "two dates with `..` between them")]
#[case("2025-05-31..", "two dates with `..` between them")]
#[case("2025-06-30..2025-05-31", "the earlier date first")]
#[case("2025-06-30..2025-06-30", "the earlier date first")]
#[case("2025-02-30..2025-06-30", "February 2025 has 28 days")]
fn two_dates_are_one_after_the_other(#[case] text: &str, #[case] message: &str) {
    let error = text.parse::<Between>().unwrap_err().to_string();
    assert!(error.contains(message), "{error}");
    for good in ["2025-05-31..2025-06-30", "2025-05..2025-06", "2025-05 .. 2025-Q2"] {
        assert_eq!(good.parse::<Between>().unwrap().to_string(), "2025-05-31..2025-06-30");
    }
}

#[test]
fn sums_are_reconciled_on_both_sides() {
    let now = table("vessel:text tons:number\nx 1\ny 5\n- 7");
    let before = table("vessel:text tons:number\nx 2\nz 9");
    let context = Context::new().reconcile(["tons"]);
    let ledger = vessels().apply_with(&now, Some(&before), &context).unwrap().ledger;
    let text = |ledger: &Ledger| ledger.reconciled[0].to_string();
    assert_eq!(text(&ledger), "sum of tons: 13 in = 6 kept + 7 set aside");
    assert_eq!(text(ledger.other_side.as_ref().unwrap()), "sum of tons: 11 in = 11 kept");
}

/// A record: its key and two values, which may be missing.
type Record = (u8, Option<i64>, Option<String>);
type Records = BTreeMap<u8, (Option<i64>, Option<String>)>;

fn records() -> impl Strategy<Value = Vec<Record>> {
    let texts = prop::option::of(prop::sample::select(vec![
        "a",
        "b",
        "a text that is long",
        "a text that is longer",
    ]));
    let record =
        (0_u8..30, prop::option::of(-2_i64..3), texts.prop_map(|text| text.map(str::to_owned)));
    prop::collection::vec(record, 0..40).prop_map(|records| {
        let mut seen = std::collections::HashSet::new();
        records.into_iter().filter(|(key, ..)| seen.insert(*key)).collect()
    })
}

fn of(records: &[Record]) -> Table {
    let keys: StringViewArray =
        records.iter().map(|(key, ..)| Some(format!("k{key:02}"))).collect();
    let numbers: Int64Array = records.iter().map(|(_, number, _)| *number).collect();
    let texts: StringViewArray = records.iter().map(|(.., text)| text.as_deref()).collect();
    Table::from_columns([
        ("key", Arc::new(keys) as ArrayRef),
        ("n", Arc::new(numbers)),
        ("t", Arc::new(texts)),
    ])
    .unwrap()
}

fn map(records: &[Record]) -> Records {
    records.iter().map(|(key, n, t)| (*key, (*n, t.clone()))).collect()
}

fn compared(now: &[Record], before: &[Record]) -> Outcome {
    Changes::per(["key"]).apply(&of(now), &of(before)).unwrap()
}

/// The slow model: both sides as maps, walked in order of their keys.
fn model(now: &[Record], before: &[Record]) -> Vec<String> {
    let (now, before) = (map(now), map(before));
    let keys: std::collections::BTreeSet<u8> = now.keys().chain(before.keys()).copied().collect();
    let mut rows = Vec::new();
    let text = |value: Option<String>| value.unwrap_or_else(|| "-".to_owned());
    for key in keys {
        match (now.get(&key), before.get(&key)) {
            (Some((n, t)), Some((old_n, old_t))) => {
                if n != old_n {
                    let difference = n.zip(*old_n).map(|(n, old)| (n - old).to_string());
                    let [old, new] = [old_n, n].map(|n| text(n.map(|n| n.to_string())));
                    rows.push(format!("k{key:02} changed n {old} {new} {}", text(difference)));
                }
                if t != old_t {
                    let [old, new] = [old_t, t].map(|t| text(t.clone()));
                    rows.push(format!("k{key:02} changed t {old} {new} -"));
                }
            }
            (Some(_), None) => rows.push(format!("k{key:02} appeared - - - -")),
            _ => rows.push(format!("k{key:02} gone - - - -")),
        }
    }
    rows
}

proptest! {
    #[test]
    fn a_slow_comparison_finds_the_same(now in records(), before in records()) {
        let outcome = compared(&now, &before);
        prop_assert_eq!(rows(&outcome), model(&now, &before));
        // Equal + changed + gone = before, and equal + changed + appeared = now.
        let (ledger, older) = (&outcome.ledger, outcome.ledger.other_side.as_ref().unwrap());
        let equal = ledger.rows(Reason::Unchanged);
        let changed = ledger.count("changed");
        prop_assert_eq!(equal + changed + ledger.count("appeared"), now.len() as u64);
        prop_assert_eq!(equal + changed + older.count("gone"), before.len() as u64);
        prop_assert_eq!(older.rows(Reason::Unchanged), equal);
        prop_assert!(ledger.balances());
    }

    #[test]
    fn nothing_changes_between_a_table_and_itself(now in records()) {
        prop_assert_eq!(compared(&now, &now).table.rows(), 0);
    }

    #[test]
    fn both_directions_mirror_each_other(now in records(), before in records()) {
        let mirrored = |outcome: &Outcome| -> Vec<Vec<Option<String>>> {
            let table = &outcome.table;
            let cell = |name: &str, row: usize| {
                let place = table.shape().place(name).unwrap();
                let text = &crate::CellText::for_columns(table)[place];
                (!text.is_missing(row)).then(|| text.text(row))
            };
            let negated = |text: String| text.parse::<i64>().map(|n| (-n).to_string()).unwrap();
            let change = |text: String| match text.as_str() {
                "appeared" => "gone".to_owned(),
                "gone" => "appeared".to_owned(),
                _ => text,
            };
            let row = |row| vec![
                cell("key", row), cell("change", row).map(change), cell("column", row),
                cell("now", row), cell("before", row), cell("difference", row).map(negated),
            ];
            (0..table.rows()).map(row).collect()
        };
        let forth = compared(&now, &before);
        let back = compared(&before, &now);
        let cells = |outcome: &Outcome| -> Vec<Vec<Option<String>>> {
            let texts = crate::CellText::for_columns(&outcome.table);
            let cell = |row: usize, text: &crate::CellText<'_>| {
                (!text.is_missing(row)).then(|| text.text(row))
            };
            let rows = 0..outcome.table.rows();
            rows.map(|row| texts.iter().map(|text| cell(row, text)).collect()).collect()
        };
        prop_assert_eq!(mirrored(&back), cells(&forth));
    }

    #[test]
    fn the_changes_lead_from_before_to_now(now in records(), before in records()) {
        let outcome = compared(&now, &before);
        let (mut state, target) = (map(&before), map(&now));
        let texts = crate::CellText::for_columns(&outcome.table);
        for row in 0..outcome.table.rows() {
            let cell = |place: usize| {
                (!texts[place].is_missing(row)).then(|| texts[place].text(row))
            };
            let key: u8 = cell(0).unwrap()[1..].parse().unwrap();
            match (cell(1).unwrap().as_str(), cell(2).as_deref()) {
                ("gone", _) => drop(state.remove(&key)),
                // A record that appeared is taken as a whole.
                ("appeared", _) => drop(state.insert(key, target[&key].clone())),
                (_, Some("n")) => {
                    state.get_mut(&key).unwrap().0 = cell(4).map(|n| n.parse().unwrap());
                }
                _ => state.get_mut(&key).unwrap().1 = cell(4),
            }
        }
        prop_assert_eq!(state, target);
    }

    #[test]
    fn the_order_of_rows_and_threads_do_not_matter(
        now in records(), before in records(), turn in 0_usize..40,
    ) {
        let turned = |records: &[Record]| {
            let mut records = records.to_vec();
            let by = turn.min(records.len());
            records.rotate_left(by);
            records
        };
        let one = compared(&now, &before);
        let other = compared(&turned(&now), &turned(&before));
        prop_assert_eq!(one.table.batch(), other.table.batch());
        prop_assert_eq!(one.ledger.to_string(), other.ledger.to_string());
        let pool = rayon::ThreadPoolBuilder::new().num_threads(1).build().unwrap();
        let alone = pool.install(|| compared(&now, &before));
        prop_assert_eq!(one.table.batch(), alone.table.batch());
    }
}

/// Tables that have only their key in common still have records that appeared, and that are gone.
#[test]
fn keys_alone_are_compared() {
    let now = crate::sample::table("vessel:text new:number\nWend 1\nPetrel 2");
    let before = crate::sample::table("vessel:text old:number\nKestrel 1\nPetrel 2");
    for outcome in [
        vessels().apply(&now, &before).unwrap(),
        vessels().ignore(["new"]).apply(&now, &now.slice(1, 1)).unwrap(),
    ] {
        assert!(outcome.ledger.balances());
        let rows: Vec<String> = (0..outcome.table.rows())
            .map(|row| {
                let text = |name| outcome.table.cell_text(name, row).unwrap();
                format!("{} {}", text("vessel"), text("change"))
            })
            .collect();
        assert!(rows.contains(&"Wend appeared".to_owned()), "{rows:?}");
    }
}

/// A missing key is a key of its own if that is set, as in totals.
#[test]
fn a_missing_key_is_a_key_if_that_is_set() {
    let now = crate::sample::table("vessel:text tons:number\nWend 1\n- 2");
    let before = crate::sample::table("vessel:text tons:number\n- 5\nWend 1");
    let outcome = vessels().missing_keys().apply(&now, &before).unwrap();
    assert_eq!(outcome.table.rows(), 1);
    assert_eq!(outcome.table.cell_text("difference", 0).unwrap(), "-3");
    assert_eq!(outcome.ledger.count("changed"), 1);
    assert_eq!(vessels().apply(&now, &before).unwrap().set_aside.rows(), 2);
    let none = crate::sample::table("vessel:text tons:number\n- 5");
    let outcome = vessels().missing_keys().apply(&none, &before.head(0)).unwrap();
    assert_eq!(outcome.table.cell_text("change", 0).unwrap(), "appeared");
}

/// A difference that does not fit into its column is counted.
#[test]
fn differences_that_are_too_large_are_counted() {
    let table = |units: i64| {
        let tons: ArrayRef = Arc::new(Int64Array::from(vec![units, 4]));
        let vessels: ArrayRef = Arc::new(StringViewArray::from(vec!["Wend", "Petrel"]));
        Table::from_columns([("vessel", vessels), ("tons", tons)]).unwrap()
    };
    let outcome = vessels().apply(&table(i64::MAX), &table(-1)).unwrap();
    assert_eq!(outcome.table.column("difference").unwrap().null_count(), 1);
    assert_eq!(outcome.ledger.count("differences too large to be exact, left out"), 1);
    let outcome = vessels().apply(&table(i64::MAX), &table(0)).unwrap();
    assert_eq!(outcome.ledger.count("differences too large to be exact, left out"), 0);
}

#[test]
fn floats_do_not_round_the_differences_of_other_columns() {
    let now =
        table("k:text x:number y:float z:money d:date\na 9007199254740993 0.5 0.10 2025-01-03");
    let before =
        table("k:text x:number y:float z:money d:date\na 9007199254740992 1e-9 0.30 2025-01-01");
    let changes = Changes::per(["k"]);
    let outcome = changes.apply(&now, &before).unwrap();
    assert_eq!(
        rows(&outcome),
        [
            "a changed x 9007199254740992 9007199254740993 1",
            "a changed y 0.000000001 0.5 0.499999999",
            "a changed z 0.30 0.10 -0.20",
            "a changed d 2025-01-01 2025-01-03 2",
        ]
    );
    let plan = changes.prepare(&now.shape(), Some(&before.shape()), &Context::new()).unwrap();
    assert_eq!(plan.shape().unwrap().columns(), outcome.table.shape().columns());
}

#[test]
fn a_long_difference_beside_exact_columns_has_an_exponent() {
    let now = table("k:text x:number y:float\na 1 1e300");
    let before = table("k:text x:number y:float\na 2 0.5");
    assert_eq!(
        rows(&Changes::per(["k"]).apply(&now, &before).unwrap()),
        ["a changed x 2 1 -1", "a changed y 0.5 1e300 1e300"]
    );
}

#[test]
fn keys_of_exact_numbers_and_floats_match_by_their_values() {
    let now = table("k:number v:number\n9007199254740993 1\n5 1");
    let before = table("k:float v:number\n9007199254740992 1\n5 2\n0.12345678 1");
    assert_eq!(
        rows(&Changes::per(["k"]).apply(&now, &before).unwrap()),
        [
            "0.12345678 gone - - - -",
            "5 changed v 2 1 -1",
            "9007199254740992 gone - - - -",
            "9007199254740993 appeared - - - -",
        ]
    );
}

/// Floats differ by what their digits say, and not by what is left after binary subtraction.
#[rstest]
#[case("1.1", "1", "0.1", true)]
#[case("0.7", "0.5", "0.2", true)]
#[case("0.7", "0.5", "0.19", false)]
#[case("1e300", "1", "1000000", false)]
fn a_limit_holds_for_the_digits(
    #[case] now: &str,
    #[case] before: &str,
    #[case] within: &str,
    #[case] are_equal: bool,
) {
    let side = |value: &str| table(&format!("k:text x:float\na {value}"));
    let changes = Changes::per(["k"]).within(within.parse::<Decimal>().unwrap());
    let outcome = changes.apply(&side(now), &side(before)).unwrap();
    assert_eq!(outcome.table.rows() == 0, are_equal);
}

#[test]
fn two_dates_before_all_data_have_no_record_that_appeared() {
    let records = table("k:text d:date\na 2025-01-01");
    let changes = Changes { between: "2001-01-01..2002-01-01".parse().ok(), ..Changes::per(["k"]) };
    let outcome =
        Changes { date: Some("d".to_owned()), ..changes }.apply_between(&records).unwrap();
    assert!(!outcome.ledger.to_string().contains("appeared"), "{}", outcome.ledger);
}

#[test]
fn a_key_that_appeared_may_be_similar_to_one_that_is_still_there() {
    let now = table("k:text v:number\nPetrel 1\npetrel 1");
    let before = table("k:text v:number\nPetrel 1");
    let ledger = Changes::per(["k"]).apply(&now, &before).unwrap().ledger.to_string();
    assert!(ledger.contains("ignored: `petrel` and `Petrel`"), "{ledger}");
}
