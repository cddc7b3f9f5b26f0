//! Makes the tables of the demo: a year and a half of a harbour that does not exist, with the
//! problems that real tables have.
//!
//! `cargo run -p jembric --example make_harbour` writes them to `demo/`. The seed is fixed, so they
//! are always the same.

use jembric::calendar::{Day, Span};
use std::{fmt::Write as _, fs, path::Path};

const FIRST: &str = "2024-01-01";
const LAST: &str = "2025-06-30";

/// Vessel, class, tonnage, year of construction.
const VESSELS: [(&str, &str, u32, u32); 14] = [
    ("Petrel", "coaster", 2_840, 1998),
    ("Bolt Head", "coaster", 3_120, 2004),
    ("Gannet Rock", "bulk", 11_400, 2011),
    ("Sallow", "barge", 760, 1987),
    ("Marram", "barge", 815, 1991),
    ("Tidewrack", "coaster", 2_310, 2001),
    ("Ebb and Flow", "tanker", 6_980, 2008),
    ("Long Myre", "bulk", 14_250, 2015),
    ("Spindrift", "tender", 140, 2019),
    ("Kittiwake", "tender", 155, 2020),
    ("Stone Loach", "barge", 690, 1983),
    ("Half Crown", "coaster", 2_975, 2006),
    ("Thrift", "tanker", 7_450, 2013),
    ("Wend", "coaster", 1_880, 1995),
];
const BERTHS: [&str; 5] = ["North 1", "North 2", "Quay 3", "Quay 4", "Basin"];
const INSPECTORS: [&str; 4] = ["Orla", "Tamsin", "Bede", "Ivo"];

type Failure = Box<dyn std::error::Error>;

fn main() -> Result<(), Failure> {
    let directory = std::env::args()
        .nth(1)
        .unwrap_or_else(|| concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo").to_owned());
    fs::create_dir_all(&directory)?;
    for (name, text) in tables()? {
        fs::write(Path::new(&directory).join(name), &text)?;
        println!("{name}: {} rows", text.lines().count() - 1);
    }
    Ok(())
}

fn tables() -> Result<Vec<(&'static str, String)>, Failure> {
    let mut random = fastrand::Rng::with_seed(12);
    let (first, last): (Day, Day) = (FIRST.parse()?, LAST.parse()?);
    let stays = stays(&mut random, first, last)?;
    Ok(vec![
        ("vessels.csv", vessels()?),
        ("inspections.csv", inspections(&mut random, first, last)?),
        ("lifts.csv", lifts(&mut random, &stays)?),
        ("stays.csv", stays_text(&stays)?),
        ("gauge.csv", gauge(&mut random)?),
        ("fuel_in.csv", fuel_in(&mut random, first, last)?),
        ("fuel_out.csv", fuel_out(&mut random, first, last)?),
        ("dues.csv", dues(&mut random, first, last)?),
        ("crane_log.csv", crane_log(&mut random)?),
        ("holidays.csv", holidays()?),
        ("tariff.csv", tariff()?),
    ])
}

const HOLIDAYS: [(u32, u32, &str); 5] = [
    (1, 1, "New Year"),
    (5, 1, "May Day"),
    (6, 9, "Harbour Day"),
    (12, 25, "Midwinter"),
    (12, 26, "Second of Midwinter"),
];

/// The price of a ton at each crane from a day on, not sorted.
fn tariff() -> Result<String, Failure> {
    let mut text = "crane,valid_from,per_ton\n".to_owned();
    for (crane, from, price) in [
        ("C2", "2024-07-01", "4.85"),
        ("C1", "2024-01-01", "4.20"),
        ("C1", "2025-01-01", "4.60"),
        ("C2", "2024-01-01", "4.50"),
        ("C3", "2024-02-01", "6.10"),
        ("C2", "2025-04-01", "5.10"),
        ("C3", "2025-01-01", "6.45"),
        ("C4", "2025-06-01", "7.00"),
    ] {
        writeln!(text, "{crane},{from},{price}")?;
    }
    Ok(text)
}

/// The holidays of the harbour office: month, day and name.
fn holidays() -> Result<String, Failure> {
    let mut text = "day,name\n".to_owned();
    for year in 2024..=2025 {
        for (month, day, name) in HOLIDAYS {
            writeln!(
                text,
                "{},{name}",
                Day::from_ymd(year, month, day).ok_or("a day of the calendar")?
            )?;
        }
    }
    Ok(text)
}

fn plus(day: Day, days: i32) -> Result<Day, Failure> {
    Ok(Span::days(days).after(day)?)
}

/// This number of days of the range, in order.
fn some_days(
    random: &mut fastrand::Rng,
    first: Day,
    last: Day,
    gap: std::ops::Range<i32>,
) -> Result<Vec<Day>, Failure> {
    let (mut days, mut day) = (Vec::new(), plus(first, random.i32(0..gap.end))?);
    while day <= last {
        days.push(day);
        day = plus(day, random.i32(gap.clone()))?;
    }
    Ok(days)
}

fn vessels() -> Result<String, Failure> {
    let mut text = "vessel,class,tonnage,built\n".to_owned();
    for (vessel, class, tonnage, built) in VESSELS {
        writeln!(text, "{vessel},{class},{tonnage},{built}")?;
    }
    Ok(text)
}

/// With ties (two inspections of one vessel on its last day) and missing values (two dates, one
/// vessel).
fn inspections(random: &mut fastrand::Rng, first: Day, last: Day) -> Result<String, Failure> {
    let mut rows = Vec::new();
    for (vessel, ..) in VESSELS {
        let gap = if vessel == "Stone Loach" { 300..301 } else { 70..170 };
        for day in some_days(random, first, last, gap)? {
            let result = *random
                .choice(&["passed", "passed", "passed", "repairs", "failed"])
                .unwrap_or(&"passed");
            let depth = random.i32(110..640);
            rows.push((day, vessel, random.choice(INSPECTORS).unwrap_or_default(), result, depth));
        }
    }
    rows.sort_unstable();
    let newest = |vessel: &str| rows.iter().rfind(|row| row.1 == vessel).copied();
    let (petrel, thrift) = (newest("Petrel"), newest("Thrift"));
    rows.extend(petrel.map(|row| (row.0, row.1, "Bede", "repairs", row.4 + 5)));
    rows.extend(thrift.map(|row| (row.0, row.1, "Ivo", "passed", row.4)));
    rows.sort_unstable();
    let mut text = "inspected_on,vessel,inspector,result,hull_mm,note\n".to_owned();
    for (i, (day, vessel, inspector, result, depth)) in rows.iter().enumerate() {
        let date = if i == 17 || i == 41 { String::new() } else { day.to_string() };
        let vessel = if i == 29 { "" } else { vessel };
        let note = match (i, *result) {
            (_, "failed") => "\"out of service, \"\"until further notice\"\"\"",
            (_, "repairs") => "see work order",
            (17, _) => "date not legible",
            _ => "",
        };
        writeln!(
            text,
            "{date},{vessel},{inspector},{result},{}.{:02},{note}",
            depth / 100,
            depth % 100
        )?;
    }
    Ok(text)
}

struct Stay {
    vessel: &'static str,
    berth: &'static str,
    arrived: Day,
    left: Option<Day>,
    tons: u32,
}

/// The last stays are still open, and one has its dates swapped.
fn stays(random: &mut fastrand::Rng, first: Day, last: Day) -> Result<Vec<Stay>, Failure> {
    let mut stays = Vec::new();
    for berth in BERTHS {
        let mut day = plus(first, random.i32(0..9))?;
        while day <= last {
            let (vessel, _, tonnage, _) = *random.choice(&VESSELS).unwrap_or(&VESSELS[0]);
            let left = plus(day, random.i32(1..16))?;
            let tons = (f64::from(tonnage) * (0.2 + 0.7 * random.f64())) as u32;
            stays.push(Stay {
                vessel,
                berth,
                arrived: day,
                left: Some(left).filter(|left| *left <= last),
                tons,
            });
            day = plus(left, random.i32(0..12))?;
        }
    }
    stays.sort_by_key(|stay| (stay.arrived, stay.berth));
    if let Some(stay) = stays.get_mut(60)
        && let Some(left) = stay.left
    {
        (stay.arrived, stay.left) = (left, Some(stay.arrived));
    }
    Ok(stays)
}

fn stays_text(stays: &[Stay]) -> Result<String, Failure> {
    let mut text = "stay,vessel,berth,arrived,left,tons\n".to_owned();
    for (number, stay) in stays.iter().enumerate() {
        let left = stay.left.map(|left| left.to_string()).unwrap_or_default();
        writeln!(
            text,
            "S{:04},{},{},{},{left},{}",
            number + 1,
            stay.vessel,
            stay.berth,
            stay.arrived,
            stay.tons
        )?;
    }
    Ok(text)
}

/// Crane lifts, most of them during a stay. Some are a few days late, one is of an unknown vessel,
/// one is misspelt, and some have another case or a trailing blank.
fn lifts(random: &mut fastrand::Rng, stays: &[Stay]) -> Result<String, Failure> {
    let mut rows = Vec::new();
    for stay in stays {
        let days = stay.left.map_or(4, |left| (left.number() - stay.arrived.number()).abs());
        for _ in 0..random.u32(0..5) {
            let late = if random.u32(0..25) == 0 { 3 } else { 0 };
            let day = plus(stay.arrived, random.i32(0..=days) + late)?;
            rows.push((day, stay.vessel.to_owned(), random.u32(1..4), random.u32(20..480)));
        }
    }
    rows.sort();
    let names =
        [(7, "Petrell"), (31, "Grey Heron"), (58, "petrel"), (90, "Marram "), (122, "LONG MYRE")];
    for (row, name) in names {
        rows[row].1 = name.to_owned();
    }
    let mut text = "lifted_on;vessel;crane;tons\n".to_owned();
    for (day, vessel, crane, tons) in rows {
        let (year, month, of_month) = day.ymd();
        writeln!(
            text,
            "{of_month:02}.{month:02}.{year};{vessel};C{crane};{}.{}",
            tons / 10,
            tons % 10
        )?;
    }
    Ok(text)
}

/// The water level on each day at two gauges, with missing days and cells without a value.
fn gauge(random: &mut fastrand::Rng) -> Result<String, Failure> {
    let (first, last): (Day, Day) = ("2025-01-01".parse()?, LAST.parse()?);
    let mut text = "day,gauge,level_m\n".to_owned();
    for (gauge, mean) in [("Outer Mole", 2.9), ("River Gate", 1.7)] {
        let mut swell = 0.0;
        for number in first.number()..=last.number() {
            swell = 0.8 * swell + random.f64() - 0.5;
            let level = mean
                + 0.6 * (f64::from(number) * std::f64::consts::TAU / 14.77).sin()
                + 0.5 * swell;
            let day = Day::from_number(number).ok_or("beyond the calendar")?;
            match random.u32(0..40) {
                0 => {}
                1 => writeln!(text, "{day},{gauge},-")?,
                _ => writeln!(text, "{day},{gauge},{level:.2}")?,
            }
        }
    }
    Ok(text)
}

/// Deliveries to the fuel tank, sometimes two on a day.
fn fuel_in(random: &mut fastrand::Rng, first: Day, last: Day) -> Result<String, Failure> {
    let mut text = "day,litres,supplier\n".to_owned();
    for day in some_days(random, first, last, 6..13)? {
        for _ in 0..if random.u32(0..8) == 0 { 2 } else { 1 } {
            writeln!(
                text,
                "{day},{}.5,{}",
                random.u32(3_000..9_000),
                random.choice(["Marsh Lane", "Old Wharf"]).unwrap_or_default()
            )?;
        }
    }
    Ok(text)
}

/// Fuel consumption, with several rows for each day.
fn fuel_out(random: &mut fastrand::Rng, first: Day, last: Day) -> Result<String, Failure> {
    let mut text = "day,litres,vessel\n".to_owned();
    for day in some_days(random, first, last, 1..3)? {
        for _ in 0..random.u32(1..4) {
            let vessel = random.choice(&VESSELS).map_or("", |vessel| vessel.0);
            writeln!(text, "{day},{}.{:02},{vessel}", random.u32(100..900), random.u32(0..100))?;
        }
    }
    Ok(text)
}

/// Harbour dues: issued, due, and paid early, late or not yet. Dates are written with slashes, the
/// day first.
fn dues(random: &mut fastrand::Rng, first: Day, last: Day) -> Result<String, Failure> {
    let slashes = |day: Day| {
        let (year, month, of_month) = day.ymd();
        format!("{of_month:02}/{month:02}/{year}")
    };
    let mut text = "invoice,vessel,class,issued,due,paid,amount\n".to_owned();
    for (number, day) in some_days(random, first, last, 1..8)?.into_iter().enumerate() {
        let (vessel, class, tonnage, _) = *random.choice(&VESSELS).unwrap_or(&VESSELS[0]);
        let due = plus(day, 30)?;
        let paid = plus(due, random.i32(-20..45))?;
        let paid =
            if paid <= last && random.u32(0..12) > 0 { slashes(paid) } else { String::new() };
        let amount = tonnage * 3 + random.u32(0..5_000);
        writeln!(
            text,
            "{:05},{vessel},{class},{},{},{paid},{}.{:02}",
            417 + number,
            slashes(day),
            slashes(due),
            amount / 10,
            random.u32(0..100)
        )?;
    }
    Ok(text)
}

/// Crane movements around the night of 2025-03-30, when the clocks went forward, with the offset of
/// the local clock.
fn crane_log(random: &mut fastrand::Rng) -> Result<String, Failure> {
    let mut text = "at,crane,event\n".to_owned();
    let change = "2025-03-30".parse::<Day>()?;
    let mut minutes = i64::from(change.number() - 4) * 1_440;
    while minutes < i64::from(change.number() + 5) * 1_440 {
        minutes += random.i64(15..150);
        // The clocks go from 01:00 to 02:00; the local time had offset zero.
        let offset = i64::from(minutes >= i64::from(change.number()) * 1_440 + 60);
        let local = minutes + offset * 60;
        let day = Day::from_number(i32::try_from(local.div_euclid(1_440))?)
            .ok_or("beyond the calendar")?;
        let (hour, minute) = (local.rem_euclid(1_440) / 60, local.rem_euclid(60));
        let event = random.choice(["lift", "lift", "move", "stop"]).unwrap_or_default();
        writeln!(text, "{day}T{hour:02}:{minute:02}+0{offset}:00,C{},{event}", random.u32(1..4))?;
    }
    Ok(text)
}
