use super::*;
use crate::{calendar::Span, ledger::Reason};
use arrow_array::{
    Array, ArrayRef, Date32Array, Int64Array, StringViewArray, TimestampMicrosecondArray,
};
use arrow_cast::display::array_value_to_string;
use proptest::prelude::*;
use rstest::rstest;
use std::sync::Arc;

fn cells(table: &Table, row: usize) -> Vec<String> {
    table.columns().iter().map(|column| array_value_to_string(column, row).unwrap()).collect()
}

fn shown(table: &Table) -> Vec<String> {
    (0..table.rows()).map(|row| cells(table, row).join(" ").trim_end().to_owned()).collect()
}

fn texts(values: &[&str]) -> ArrayRef {
    Arc::new(
        values
            .iter()
            .map(|text| Some(*text).filter(|text| !text.is_empty()))
            .collect::<StringViewArray>(),
    )
}

fn days(values: &[&str]) -> ArrayRef {
    Arc::new(
        values
            .iter()
            .map(|text| text.parse::<Day>().ok().map(Day::number))
            .collect::<Date32Array>(),
    )
}

fn moments(values: &[&str], instants: bool) -> ArrayRef {
    let micros = |text: &&str| {
        let at = format!("{text}Z").parse::<jiff::Timestamp>().ok()?;
        Some(at.as_microsecond())
    };
    let array = values.iter().map(micros).collect::<TimestampMicrosecondArray>();
    if instants { Arc::new(array.with_timezone("UTC")) } else { Arc::new(array) }
}

fn window(text: &str) -> Window {
    text.parse().unwrap()
}

#[rstest]
#[case("a..b", "a..b")]
#[case(" due - 7 days .. due + 3 days ", "due - 7 days..due + 3 days")]
#[case("valid_from..", "valid_from..")]
#[case("..left + P1M", "..left + 1 month")]
#[case("\"odd..name\" - 2 weeks..", "\"odd..name\" - 14 days..")]
#[case("arrived on..left-behind", "arrived on..left-behind")]
fn windows_are_parsed_and_formatted(#[case] text: &str, #[case] written: &str) {
    assert_eq!(window(text).to_string(), written);
    assert_eq!(window(written), window(text));
}

#[rstest]
#[case("..")]
#[case("arrived")]
#[case("a..b..c")]
fn a_text_that_is_not_a_window_is_refused(#[case] text: &str) {
    assert!(text.parse::<Window>().unwrap_err().to_string().contains("`arrived..left`"), "{text}");
}

/// Events of A, B and nobody. Windows of A that overlap, an open one, a reversed one, and one of
/// nobody.
fn lifts_and_stays() -> (Table, Table) {
    let events = Table::from_columns([
        ("who", texts(&["A", "A", "B", "a ", "", "A", "C"])),
        (
            "day",
            days(&[
                "2025-01-05",
                "2025-01-20",
                "2025-03-01",
                "2025-01-05",
                "2025-01-05",
                "",
                "2025-01-05",
            ]),
        ),
        ("tons", Arc::new(Int64Array::from(vec![1, 2, 4, 8, 16, 32, 64]))),
    ]);
    let windows = Table::from_columns([
        ("ship", texts(&["A", "A", "B", "A", "", "C"])),
        (
            "a",
            days(&[
                "2025-01-01",
                "2025-01-05",
                "2025-02-01",
                "2025-01-20",
                "2025-01-01",
                "2025-01-06",
            ]),
        ),
        ("z", days(&["2025-01-05", "2025-01-07", "", "2025-01-19", "2025-01-09", "2025-01-07"])),
        ("tons", Arc::new(Int64Array::from(vec![100, 200, 400, 800, 1600, 3200]))),
    ]);
    (events.unwrap(), windows.unwrap())
}

fn stays() -> Within {
    Within::new("day", window("a..z")).matching(["who=ship"])
}

#[rstest]
#[case::matched(stays(), &["A 2025-01-05 1 2025-01-01 2025-01-05 100",
    "A 2025-01-05 1 2025-01-05 2025-01-07 200", "B 2025-03-01 4 2025-02-01  400"])]
#[case::free(stays().end_day(EndDay::Exclusive).bring(["tons as t"]), &["A 2025-01-05 1 200",
    "B 2025-03-01 4 400"])]
#[case::last(stays().pick(Pick::Last).bring(["a"]), &["A 2025-01-05 1 2025-01-05",
    "B 2025-03-01 4 2025-02-01"])]
#[case::nearest(stays().pick(Pick::Nearest).nearest_to("a").bring(["a"]),
    &["A 2025-01-05 1 2025-01-05", "B 2025-03-01 4 2025-02-01"])]
#[case::strays(stays().keep(Keep::StrayEvents),
    &["A 2025-01-20 2 outside every window with this key",
    "a  2025-01-05 8 no window with this key", "C 2025-01-05 64 outside every window with this \
        key"])]
#[case::empty(stays().keep(Keep::EmptyWindows), &["C 2025-01-06 2025-01-07 3200"])]
#[case::dropped(stays().open_ends(OpenEnds::Drop).pick(Pick::First).bring(["tons"]),
    &["A 2025-01-05 1 100"])]
#[case::every(stays().keep(Keep::EveryEvent).pick(Pick::First).bring(["tons"]),
    &["A 2025-01-05 1 100", "A 2025-01-20 2", "B 2025-03-01 4 400", "a  2025-01-05 8",
        " 2025-01-05 16", "A  32", "C 2025-01-05 64"])]
fn each_way_to_keep_and_to_pick(#[case] within: Within, #[case] expected: &[&str]) {
    let (events, windows) = lifts_and_stays();
    let outcome = within.apply(&events, &windows).unwrap();
    assert_eq!(shown(&outcome.table), expected);
    assert!(outcome.ledger.balances(), "{}", outcome.ledger);
}

#[test]
fn the_ledger_accounts_for_both_sides() {
    let (events, windows) = lifts_and_stays();
    let context = Context::new().reconcile(["tons"]);
    let outcome = stays().apply_with(&events, &windows, &context).unwrap();
    insta::assert_snapshot!(outcome.ledger, @"
    within: day in a..z, matched on who=ship
      rows in       7
      kept          2  pairs: 3 · events in several windows: 1
      dropped       1  no window with this key
                    2  outside every window with this key
      set aside     1  date missing
                    1  key missing
      sum of tons: 127 in = 5 kept + 74 dropped + 48 set aside; 6 in the result
      warning: 1 event lies in several windows and makes 2 rows, so a sum over the result counts each of them. Choose one window with `pick`
      warning: 1 event matches a window only if upper and lower case and outer blanks are ignored: `a ` and `A`
      balance       7 = 2 kept + 3 dropped + 2 set aside
    windows a..z
      rows in       6
      kept          3
      dropped       1  contains no event
      set aside     1  end before start
                    1  key missing
      sum of tons: 6300 in = 700 kept + 3200 dropped + 2400 set aside; 700 in the result
      balance       6 = 3 kept + 1 dropped + 2 set aside
    ");
    assert_eq!(
        shown(&outcome.set_aside),
        [
            " 2025-01-05 16     key missing",
            "A  32     date missing",
            "   A 2025-01-20 2025-01-19 800 end before start",
            "    2025-01-01 2025-01-09 1600 key missing"
        ]
    );
    assert_eq!(outcome.set_aside.names().nth(6), Some("tons_window"));
}

#[rstest]
// A moment on the last day is inside, up to the end of the day in the time zone: 23:30 UTC on the
// 5th is the 6th in Lisbon in summer.
#[case::moments_in_days(moments(&["2025-07-05T22:59", "2025-07-05T23:30"], true),
    days(&["2025-07-01"]), days(&["2025-07-05"]), &[0])]
#[case::moments_in_moments(moments(&["2025-07-05T10:00", "2025-07-05T10:01"], false),
    moments(&["2025-07-05T09:00"], false), moments(&["2025-07-05T10:00"], false), &[0])]
#[case::days_in_moments(days(&["2025-07-04", "2025-07-05", "2025-07-06"]),
    moments(&["2025-07-05T09:00"], false), moments(&["2025-07-05T10:00"], false), &[1])]
#[case::from_a_moment_to_a_day(moments(&["2025-07-05T08:59", "2025-07-05T23:59:59"], false),
    moments(&["2025-07-05T09:00"], false), days(&["2025-07-05"]), &[1])]
// At 09:30 UTC in summer the clocks in Lisbon show 10:30.
#[case::instants_beside_readings(moments(&["2025-07-05T09:30", "2025-07-05T11:30"], true),
    moments(&["2025-07-05T10:00"], false), moments(&["2025-07-05T11:00"], false), &[0])]
#[case::nothing_known(days(&["2025-07-04", "0001-01-01"]), days(&[""]), days(&[""]), &[0, 1])]
fn days_beside_moments(
    #[case] at: ArrayRef,
    #[case] a: ArrayRef,
    #[case] z: ArrayRef,
    #[case] expected: &[i64],
) {
    let n = Arc::new(Int64Array::from_iter_values(0..at.len() as i64));
    let events = Table::from_columns([("at", at), ("n", n as ArrayRef)]).unwrap();
    let windows = Table::from_columns([("a", a), ("z", z)]).unwrap();
    let context = Context::new().zone("Europe/Lisbon".parse().unwrap());
    let table =
        Within::new("at", window("a..z")).apply_with(&events, &windows, &context).unwrap().table;
    let kept: Vec<String> =
        (0..table.rows()).map(|row| table.cell_text("n", row).unwrap()).collect();
    assert_eq!(kept, expected.iter().map(i64::to_string).collect::<Vec<_>>());
}

/// The days on which the clocks in Lisbon change have 23 and 25 hours, all of which are inside.
#[rstest]
#[case::forward("2025-03-30", 23)]
#[case::back("2025-10-26", 25)]
#[case::neither("2025-10-27", 24)]
fn a_day_has_the_hours_of_its_time_zone(#[case] day: &str, #[case] hours: usize) {
    let noon = day.parse::<Day>().map(|day| i64::from(day.number()) * 24 + 12).unwrap();
    let around = (noon - 40..noon + 40).map(|hour| hour * 3_600_000_000);
    let at = TimestampMicrosecondArray::from_iter_values(around).with_timezone("UTC");
    let events = Table::from_columns([("at", Arc::new(at) as ArrayRef)]).unwrap();
    let windows = Table::from_columns([("a", days(&[day]))]).unwrap();
    let context = Context::new().zone("Europe/Lisbon".parse().unwrap());
    let outcome =
        Within::new("at", window("a..a")).apply_with(&events, &windows, &context).unwrap();
    assert_eq!(outcome.table.rows(), hours);
    assert_eq!(outcome.ledger.zone.as_deref(), Some("Europe/Lisbon"));
}

#[rstest]
// 31 January plus a month is 28 February, and the bound is the whole day.
#[case::month_ends("a..a + 1 month", "2025-01-31", "2025-02-28", true)]
#[case::a_day_later("a..a + 1 month", "2025-01-31", "2025-03-01", false)]
#[case::beyond_the_calendar("a..a + 9000 years", "2025-01-31", "9999-12-31", true)]
#[case::before("a - 2 days..a - 1 day", "2025-01-31", "2025-01-29", true)]
#[case::reversed_by_its_spans("a..a - 1 day", "2025-01-31", "2025-01-31", false)]
fn spans_on_bounds(#[case] text: &str, #[case] a: &str, #[case] day: &str, #[case] inside: bool) {
    let events = Table::from_columns([("day", days(&[day]))]).unwrap();
    let windows = Table::from_columns([("a", days(&[a]))]).unwrap();
    let outcome = Within::new("day", window(text)).apply(&events, &windows).unwrap();
    assert_eq!(outcome.table.rows() == 1, inside, "{}", outcome.ledger);
}

#[test]
fn a_month_is_in_the_windows_that_touch_it_and_windows_of_months_include_whole_months() {
    use crate::calendar::Grain;
    let months =
        Table::from_columns([("m", days(&["2025-01-01", "2025-02-01", "2025-03-01"]))]).unwrap();
    let months = months.with_periods("m", Grain::Month).unwrap();
    let windows =
        Table::from_columns([("a", days(&["2025-01-31"])), ("z", days(&["2025-02-01"]))]).unwrap();
    assert_eq!(Within::new("m", window("a..z")).apply(&months, &windows).unwrap().table.rows(), 2);
    let days =
        Table::from_columns([("day", days(&["2025-02-28", "2025-03-31", "2025-04-01"]))]).unwrap();
    let within = Within::new("day", window("m..m + 1 month")).pick(Pick::Last);
    let table = within.apply(&days, &months.head(2)).unwrap().table;
    assert_eq!(shown(&table), ["2025-02-28 2025-02-01", "2025-03-31 2025-02-01"]);
}

#[test]
fn overlaps_have_their_days() {
    let side =
        |a: &[&str], z: &[&str]| Table::from_columns([("a", days(a)), ("z", days(z))]).unwrap();
    let events = side(
        &["2025-01-01", "2025-01-10", "", "2025-02-02"],
        &["2025-01-05", "", "2025-01-01", "2025-02-01"],
    );
    let windows = side(&["2025-01-04", ""], &["", "2025-01-04"]);
    let within = Within::intervals(window("a..z"), window("a..z")).bring(["a as b"]);
    let outcome = within.apply(&events, &windows).unwrap();
    let first = "2025-01-01 2025-01-05";
    let expected = [
        format!("{first}  2025-01-01 2025-01-04 4"),
        format!("{first} 2025-01-04 2025-01-04 2025-01-05 2"),
        "2025-01-10  2025-01-04 2025-01-10".to_owned(),
    ];
    assert_eq!(shown(&outcome.table), expected);
    assert_eq!(
        (outcome.ledger.rows(Reason::NoStart), outcome.ledger.rows(Reason::EndBeforeStart)),
        (1, 1)
    );
    let as_of = Context::new().as_of("2025-01-12".parse().unwrap());
    let closed = within.end_day(EndDay::Exclusive).apply_with(&events, &windows, &as_of).unwrap();
    assert_eq!((outcome.ledger.as_of, closed.ledger.as_of), (None, as_of.as_of));
    assert_eq!(shown(&closed.table)[2], "2025-01-10  2025-01-04 2025-01-10 2025-01-13 3");
}

/// An event of a month, and windows that begin and end inside it.
#[rstest]
#[case(Pick::First, "1 2025-03-01 2025-03-14")]
#[case(Pick::Last, "2 2025-03-15 ")]
fn windows_that_meet_one_month_are_picked_by_their_own_starts(
    #[case] pick: Pick,
    #[case] expected: &str,
) {
    let events = crate::sample::table("m:date\n2025-03");
    // The third window is reversed inside the month.
    let windows = Table::from_columns([
        ("price", Arc::new(Int64Array::from(vec![2, 1, 3])) as ArrayRef),
        ("a", days(&["2025-03-15", "2025-03-01", "2025-03-20"])),
        ("z", days(&["", "2025-03-14", "2025-03-05"])),
    ])
    .unwrap();
    let outcome = Within::new("m", window("a..z")).pick(pick).apply(&events, &windows).unwrap();
    assert_eq!(cells(&outcome.table, 0)[1..].join(" "), expected);
    let windows = outcome.ledger.other_side.as_ref().unwrap();
    assert_eq!(windows.rows(Reason::EndBeforeStart), 1);
    assert_eq!(outcome.ledger.count("ties decided by the least row"), 0, "{}", outcome.ledger);
}

/// Events of months meet windows by days: none that starts after the as-of date, and none without a
/// day before its exclusive end.
#[rstest]
#[case::starts_later("a:date z:date\n2024-03-20 -", EndDay::Inclusive, Reason::AfterAsOf)]
#[case::first_of_a_month(
    "a:moment z:moment\n2024-03-01T08:00:00 2024-03-01T17:00:00",
    EndDay::Exclusive,
    Reason::NoActiveDay
)]
#[case::later_in_a_month(
    "a:moment z:moment\n2024-03-02T08:00:00 2024-03-02T17:00:00",
    EndDay::Exclusive,
    Reason::NoActiveDay
)]
fn windows_of_days_are_judged_by_days_whatever_the_grain_of_events(
    #[case] window: &str,
    #[case] end_day: EndDay,
    #[case] reason: Reason,
) {
    let events = crate::sample::table("m:date\n2024-03");
    let windows = crate::sample::table(window);
    let within = Within { end_day, ..Within::new("m", self::window("a..z")) };
    let context = Context::new().as_of("2024-03-10".parse().unwrap());
    let outcome = within.apply_with(&events, &windows, &context).unwrap();
    let windows = outcome.ledger.other_side.as_ref().unwrap();
    assert_eq!((outcome.table.rows(), windows.rows(reason)), (0, 1), "{}", outcome.ledger);
    // Without keys, no reason speaks of one.
    assert!(!outcome.ledger.to_string().contains("key"), "{}", outcome.ledger);
}

#[test]
fn a_start_decides_at_its_own_grain() {
    let events = crate::sample::table("day:date\n2024-03-10");
    let windows = crate::sample::table(
        "p:number a:moment z:date
         1 2024-03-05T23:00:00 2024-03-31
         2 2024-03-05T01:30:00 2024-04-30",
    );
    for (pick, picked) in [(Pick::First, "2024-03-10 2"), (Pick::Last, "2024-03-10 1")] {
        let within = Within::new("day", window("a..z")).pick(pick).bring(["p"]);
        let outcome = within.apply(&events, &windows).unwrap();
        assert_eq!(crate::sample::shown(&outcome.table), [picked]);
        assert!(!outcome.ledger.to_string().contains("ties"), "{}", outcome.ledger);
    }
}

#[test]
fn moments_reversed_within_a_day_are_not_a_window_of_days() {
    let events = Table::from_columns([("day", days(&["2025-07-05"]))]).unwrap();
    let windows = Table::from_columns([
        ("a", moments(&["2025-07-05T15:00", "2025-07-05T09:00"], false)),
        ("z", moments(&["2025-07-05T09:00", "2025-07-05T15:00"], false)),
    ])
    .unwrap();
    let outcome = Within::new("day", window("a..z")).apply(&events, &windows).unwrap();
    assert_eq!(
        (outcome.table.rows(), outcome.ledger.other_side.unwrap().rows(Reason::EndBeforeStart)),
        (1, 1)
    );
}

#[test]
fn a_key_whose_only_window_was_set_aside_has_no_usable_one() {
    let events = crate::sample::table("k:text day:date\na 2025-01-05\nb 2025-01-05");
    let windows = crate::sample::table("k:text a:date z:date\na 2025-01-09 2025-01-01");
    let within = Within::new("day", window("a..z")).matching(["k"]).keep(Keep::StrayEvents);
    let outcome = within.apply(&events, &windows).unwrap();
    assert_eq!(
        shown(&outcome.table),
        ["a 2025-01-05 no usable window with this key", "b 2025-01-05 no window with this key"]
    );
    assert!(outcome.ledger.warnings().next().is_none(), "{}", outcome.ledger);
}

#[rstest]
#[case::no_date(Within { date: None, ..stays() }, "`date` is not given")]
#[case::both(Within { interval: Some(window("day..")), ..stays() },
    "`date` cannot be used together with `interval`")]
#[case::nearest_to_what(stays().pick(Pick::Nearest), "`nearest-to` is not given")]
#[case::no_pick(stays().nearest_to("a"), "`nearest-to` needs `pick` nearest")]
#[case::nothing_to_bring(stays().keep(Keep::StrayEvents).bring(["a"]),
    "`keep` matched or every-event")]
#[case::no_such_bound(Within { window: window("a..zz"), ..stays() },
    "there is no column `zz`. Did you mean `z`?")]
#[case::no_such_span(Within { window: window("a - 3 moons..z"), ..stays() },
    "`window`: `3 moons` is not a span: expected whole days, weeks, months or years, such as `9 \
        months`, `7 days` or `P9M`")]
#[case::no_such_key(stays().matching(["who=shp"]), "Did you mean `ship`?")]
#[case::never_equal(stays().matching(["who=tons"]),
    "`who` holds text (`A`), but `tons` of the windows holds whole numbers (`100`), so they never \
        match. Read both as the same type, for example as text: \
        `Reading::read(\"who\", \"text\")`")]
#[case::refused(stays().open_ends(OpenEnds::Refuse),
    "1 row has no `a` or `z`, and missing ends are refused (row 3). Let these intervals last \
        until the as-of date (`open_ends(\"as-of\")`), or leave them out (`open_ends(\"drop\")`)")]
#[case::too_many(stays().most_rows(2),
    "the result would have 3 rows, more than the limit of 2: row 1 of the events alone falls in 2 \
        windows. Match on more columns, give the windows both bounds, or keep one window for each \
        event (`pick(\"first\")`), or raise the limit: `most_rows(3)`")]
#[case::taken(stays().bring(["a as who"]),
    "the table already has a column `who`: choose another name")]
fn invalid_windows_are_explained(#[case] within: Within, #[case] expected: &str) {
    let (events, windows) = lifts_and_stays();
    let error = within.apply(&events, &windows).unwrap_err().to_string();
    assert!(error.contains(expected), "{error}");
}

#[test]
fn keys_match_by_value_and_not_by_the_kind_of_number() {
    let decimals =
        arrow_array::Decimal64Array::from(vec![100, 150]).with_precision_and_scale(18, 2).unwrap();
    let events = Table::from_columns([
        ("k", Arc::new(decimals) as ArrayRef),
        ("day", days(&["2025-01-01"; 2])),
    ])
    .unwrap();
    let key: ArrayRef = Arc::new(Int64Array::from(vec![1, 2]));
    let windows = Table::from_columns([("k", key), ("a", days(&["2025-01-01"; 2]))]).unwrap();
    let outcome =
        Within::new("day", window("a..")).matching(["k"]).apply(&events, &windows).unwrap();
    assert_eq!(shown(&outcome.table), ["1.00 2025-01-01 2025-01-01"]);
    // A float that is nearest to a whole number need not be that number.
    let events =
        crate::sample::table("k:number day:date\n9007199254740993 2025-01-01\n7 2025-01-01");
    let windows =
        crate::sample::table("k:float a:date\n9007199254740992 2025-01-01\n7 2025-01-01\n0.5 -");
    let outcome =
        Within::new("day", window("a..")).matching(["k"]).bring(["a"]).apply(&events, &windows);
    assert_eq!(shown(&outcome.unwrap().table), ["7 2025-01-01 2025-01-01"]);
}

proptest! {
    #[test]
    fn a_window_survives_formatting_and_parsing(
        from in prop::option::of("[a-z]{1,6}( [a-z]{1,3}|[.]{2}[a-z]| - 3 days)?"),
        to in prop::option::of("[a-z]{1,6}"),
        (months, days) in (-20_i32..20, 0_i32..20),
    ) {
        prop_assume!(from.is_some() || to.is_some());
        let span = if months != 0 { Span::months(months) } else { Span::days(days) };
        let bound = |column: Option<String>| column.map(|column| window::Bound { column, span });
        let window = Window { from: bound(from), to: bound(to) };
        prop_assert_eq!(window.to_string().parse::<Window>().unwrap(), window);
    }
}

type Row = (Option<i64>, Option<i32>, Option<i32>);

/// Rows, most of which have a key and dates, and some of which are reversed.
fn rows(most: usize) -> impl Strategy<Value = Vec<Row>> {
    let date = || prop::option::weighted(0.9, 0_i32..40);
    prop::collection::vec((prop::option::weighted(0.9, 0_i64..3), date(), date()), 0..most)
}

fn table(rows: &[Row], names: [&str; 3]) -> Table {
    let key: ArrayRef = Arc::new(rows.iter().map(|row| row.0).collect::<Int64Array>());
    let first: ArrayRef = Arc::new(rows.iter().map(|row| row.1).collect::<Date32Array>());
    let last: ArrayRef = Arc::new(rows.iter().map(|row| row.2).collect::<Date32Array>());
    Table::from_columns(names.into_iter().zip([key, first, last])).unwrap()
}

/// The key and the first and last day of a usable row.
fn usable(within: &Within, (key, first, last): Row, is_event: bool) -> Option<(i64, i32, i32)> {
    let free = i32::from(within.end_day == EndDay::Exclusive);
    if is_event && within.interval.is_none() {
        return Some((key?, first?, first?));
    }
    if within.open_ends == OpenEnds::Drop && (last.is_none() || !is_event && first.is_none()) {
        return None;
    }
    let first = if is_event { first? } else { first.unwrap_or(i32::MIN) };
    let full = last.unwrap_or(i32::MAX);
    let last = last.map_or(i32::MAX, |last| last - free);
    (first <= full && first <= last).then_some((key?, first, last))
}

/// The windows that contain an event, with their starts.
fn hits<'a>(
    within: &Within,
    event: &Row,
    windows: &'a [Row],
) -> impl Iterator<Item = (i32, &'a Row)> {
    let event = usable(within, *event, true);
    windows.iter().filter_map(move |window| {
        let (key, first, last) = event?;
        let (of, from, to) = usable(within, *window, false)?;
        (of == key && from <= last && to >= first).then_some((from, window))
    })
}

/// Compares every event with every window.
fn model(within: &Within, events: &[Row], windows: &[Row]) -> Vec<Vec<String>> {
    let mut lines = Vec::new();
    for event in events {
        let Some((key, first, _)) = usable(within, *event, true) else { continue };
        // Missing values come first in whole rows.
        let mut hits: Vec<(i32, &Row)> = hits(within, event, windows).collect();
        hits.sort();
        let picked: Vec<&Row> = match within.pick {
            Pick::All => hits.iter().map(|hit| hit.1).collect(),
            Pick::First => hits.first().map(|hit| hit.1).into_iter().collect(),
            Pick::Last => hits.last().map(|hit| hit.1).into_iter().collect(),
            Pick::Nearest => {
                let distance = |row: &Row| row.2.map_or(i32::MAX, |date| (date - first).abs());
                hits.iter()
                    .map(|hit| hit.1)
                    .min_by_key(|row| (distance(row), **row))
                    .into_iter()
                    .collect()
            }
        };
        let text = |day: Option<i32>| {
            day.and_then(Day::from_number).map(|day| day.to_string()).unwrap_or_default()
        };
        lines.extend(picked.into_iter().map(|row| {
            vec![key.to_string(), text(event.1), text(event.2), text(row.1), text(row.2)]
        }));
    }
    lines.sort();
    lines
}

fn sorted(table: &Table) -> Vec<Vec<String>> {
    let mut lines: Vec<Vec<String>> =
        (0..table.rows()).map(|row| cells(table, row)[..5].to_vec()).collect();
    lines.sort();
    lines
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]
    #[test]
    fn pairs_agree_with_comparing_every_event_with_every_window(
        events in rows(60),
        windows in rows(80),
        (pick, free, drop_open, interval) in (0_u8..4, any::<bool>(), any::<bool>(), any::<bool>()),
    ) {
        let pick = [Pick::All, Pick::First, Pick::Last,
            Pick::Nearest][usize::from(if interval { pick % 3 } else { pick })];
        let within = if interval {
            Within::intervals(window("from..to"), window("a..z"))
        } else {
            Within::new("from", window("a..z"))
        };
        let mut within = within.matching(["k"]).pick(pick);
        if free { within = within.end_day(EndDay::Exclusive) }
        if drop_open { within = within.open_ends(OpenEnds::Drop) }
        if pick == Pick::Nearest { within = within.nearest_to("z") }
        let (these, those) = (table(&events, ["k", "from", "to"]), table(&windows, ["k", "a",
            "z"]));
        let outcome = within.apply(&these, &those).unwrap();
        let expected = model(&within, &events, &windows);
        prop_assert_eq!(sorted(&outcome.table), expected.clone());
        prop_assert!(outcome.ledger.balances(), "{}", outcome.ledger);
        prop_assert_eq!(outcome.ledger.count("pairs"), expected.len() as u64);
        prop_assert_eq!(outcome.ledger.kept, events.iter().filter(|event| hits(&within, event,
            &windows).next().is_some()).count() as u64);
        if pick == Pick::All {
            let is_used = |window: &&Row| events.iter().any(|event| hits(&within, event,
                std::slice::from_ref(*window)).next().is_some());
            let used = windows.iter().filter(is_used).count() as u64;
            prop_assert_eq!(outcome.ledger.other_side.as_ref().unwrap().kept, used);
        }

        // Rows in another order, and batches.
        let turned = |rows: &[Row]| rows.iter().rev().copied().collect::<Vec<_>>();
        let (these, those) = (table(&turned(&events), ["k", "from", "to"]),
            table(&turned(&windows), ["k", "a", "z"]));
        let mut in_batches = Vec::new();
        let streamed = within.apply_into(&these, &those, &Context::new(), &mut |batch| {
            in_batches.extend(sorted(batch));
            Ok(())
        }).unwrap();
        in_batches.sort();
        prop_assert_eq!(in_batches, expected);
        prop_assert_eq!(&streamed.ledger, &outcome.ledger);

        // What is kept of either side is the complement of the rest.
        let strays = within.clone().keep(Keep::StrayEvents).apply(&these, &those).unwrap();
        prop_assert_eq!(strays.ledger.rows(Reason::InAWindow), outcome.ledger.kept);
        let empty = within.clone().keep(Keep::EmptyWindows).apply(&these, &those).unwrap();
        let used = outcome.ledger.other_side.as_ref().unwrap().kept;
        prop_assert_eq!(empty.ledger.rows(Reason::WithAnEvent), used);
        prop_assert!(strays.ledger.balances() && empty.ledger.balances());
        let every = within.keep(Keep::EveryEvent).apply(&these, &those).unwrap();
        prop_assert_eq!(every.table.rows() as u64,
            outcome.ledger.count("pairs") + events.len() as u64 - outcome.ledger.kept);
    }

    #[test]
    fn events_of_months_meet_windows_of_days_by_the_days_of_the_windows(
        events in prop::collection::vec(-13_i32..13, 0..12),
        windows in prop::collection::vec((-400_i32..400, -40_i32..60), 0..30),
        (first, free) in any::<(bool, bool)>(),
    ) {
        let month = |number: i32| crate::calendar::Periods::from(crate::calendar::Grain::Month)
            .numbered(number);
        let starts: ArrayRef =
            Arc::new(events.iter().map(|&event| Some(month(event).first().number()))
                .collect::<Date32Array>());
        let these = Table::from_columns([("m", starts)]).unwrap();
        let these = these.with_periods("m", crate::calendar::Grain::Month).unwrap();
        let column = |of: fn(&(i32, i32)) -> i32| -> ArrayRef {
            Arc::new(windows.iter().map(|window| Some(of(window))).collect::<Date32Array>())
        };
        let ids: ArrayRef = Arc::new((0..windows.len() as i64).collect::<Int64Array>());
        let those = Table::from_columns([
            ("a", column(|window| window.0)), ("z", column(|window| window.0 + window.1)), ("id",
                ids),
        ]).unwrap();
        let pick = if first { Pick::First } else { Pick::Last };
        let mut within = Within::new("m", window("a..z")).pick(pick);
        if free { within = within.end_day(EndDay::Exclusive) }
        let outcome = within.apply(&these, &those).unwrap();
        let mut expected = Vec::new();
        for &event in &events {
            let (from, to) = (month(event).first().number(), month(event).last().number());
            let meets = |&(start, length): &(i32, i32)| {
                let last = length - i32::from(free);
                last >= 0 && start <= to && start + last >= from
            };
            let hits = windows.iter().zip(0_i64..).filter(|(window, _)| meets(window));
            let keyed = hits.map(|(&(start, length), id)| (start, start + length, id));
            let hit = if first { keyed.min() } else { keyed.max() };
            expected.extend(hit.map(|hit| hit.2));
        }
        let ids = outcome.table.column("id").unwrap();
        let got = (0..outcome.table.rows()).map(|row| array_value_to_string(ids,
            row).unwrap().parse::<i64>().unwrap());
        prop_assert_eq!(got.collect::<Vec<_>>(), expected);
        let reversed = windows.iter().filter(|window| window.1 < 0).count() as u64;
        prop_assert_eq!(outcome.ledger.other_side.unwrap().rows(Reason::EndBeforeStart), reversed);
    }

    #[test]
    fn keys_processed_separately_and_merged_are_the_whole(events in rows(40), windows in rows(40)) {
        let within = Within::new("from", window("a..z")).matching(["k"]);
        let apply = |events: &[Row], windows: &[Row]| {
            within.apply(&table(events, ["k", "from", "to"]), &table(windows, ["k", "a",
                "z"])).unwrap()
        };
        let whole = apply(&events, &windows);
        let of = |rows: &[Row], is: fn(Option<i64>) -> bool| {
            rows.iter().filter(|row| is(row.0)).copied().collect::<Vec<_>>()
        };
        let parts = [|key: Option<i64>| key == Some(0), |key| key != Some(0)]
            .map(|is| apply(&of(&events, is), &of(&windows, is)));
        let mut lines: Vec<_> = parts.iter().flat_map(|part| sorted(&part.table)).collect();
        lines.sort();
        prop_assert_eq!(lines, sorted(&whole.table));
        let [one, other] = parts.map(|part| part.ledger);
        let merged = one.merge(&other);
        prop_assert_eq!((merged.kept, merged.rows_in, merged.other_side.unwrap().kept),
            (whole.ledger.kept, whole.ledger.rows_in, whole.ledger.other_side.unwrap().kept));
    }
}

/// Many windows of one key, in each shape that could break the index, on one thread and on several.
#[rstest]
#[case::all_overlap(|n| (n, 5_000))]
#[case::one_spans_everything(|n| if n == 0 { (0, 5_000) } else { (n, n + 1) })]
#[case::nested(|n| (n, 4_000 - n))]
#[case::equal_starts(|n| (7, 7 + n % 97))]
#[case::scattered(|n| (n * 37 % 1_999, n * 37 % 1_999 + n * 91 % 400))]
fn an_index_finds_what_a_walk_finds(#[case] shape: fn(i32) -> (i32, i32)) {
    let windows: Vec<Row> =
        (0..2_000).map(|n| (Some(0), Some(shape(n).0), Some(shape(n).1))).collect();
    let events: Vec<Row> =
        (0..150).map(|n| (Some(0), Some(n * 29), Some(n * 29 + n % 50))).collect();
    let (these, those) = (table(&events, ["k", "from", "to"]), table(&windows, ["k", "a", "z"]));
    for (pick, interval) in [
        (Pick::All, false),
        (Pick::First, false),
        (Pick::Last, false),
        (Pick::Nearest, false),
        (Pick::All, true),
        (Pick::First, true),
        (Pick::Last, true),
    ] {
        let time = if interval {
            Within::intervals(window("from..to"), window("a..z"))
        } else {
            Within::new("from", window("a..z"))
        };
        let mut within = time.matching(["k"]).pick(pick);
        if pick == Pick::Nearest {
            within = within.nearest_to("z");
        }
        let outcome = within.apply(&these, &those).unwrap();
        assert!(
            sorted(&outcome.table) == model(&within, &events, &windows),
            "{pick:?}, {interval}"
        );
        if pick == Pick::All {
            let used: std::collections::HashSet<_> =
                sorted(&outcome.table).into_iter().map(|line| line[3..].to_vec()).collect();
            let is_used = |&row: &usize| used.contains(&cells(&those, row)[1..]);
            let expected = (0..those.rows()).filter(is_used).count() as u64;
            assert_eq!(outcome.ledger.other_side.unwrap().kept, expected, "{interval}");
        }
    }
}

/// Enough rows for several threads, on each number of threads, as a whole and in batches.
#[test]
fn threads_do_not_change_the_windows_of_events() {
    let events: Vec<Row> =
        (0..150_000).map(|n| (Some(n % 997), Some((n * 7 % 400) as i32), None)).collect();
    let windows: Vec<Row> = (0..3_000)
        .map(|n| {
            (Some(n % 1_009), Some((n * 13 % 300) as i32), Some((n * 13 % 300 + n % 90) as i32))
        })
        .collect();
    let (these, those) = (table(&events, ["k", "from", "to"]), table(&windows, ["k", "a", "z"]));
    let within = Within::new("from", window("a..z")).matching(["k"]).bring(["a", "z"]);
    let mut answers = Vec::new();
    for threads in [1, 2, 5] {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
        let whole = pool.install(|| within.apply(&these, &those)).unwrap();
        let mut rows = 0;
        let sink = &mut |batch: &Table| {
            rows += batch.rows();
            Ok(())
        };
        let streamed = within.apply_into(&these, &those, &Context::new(), sink).unwrap();
        assert_eq!((rows, &streamed.ledger), (whole.table.rows(), &whole.ledger));
        answers.push((whole.table.columns().to_vec(), whole.ledger));
    }
    assert!(answers.windows(2).all(|pair| pair[0] == pair[1]));
    assert!(answers[0].1.count("pairs") > 50_000, "{}", answers[0].1);
}
