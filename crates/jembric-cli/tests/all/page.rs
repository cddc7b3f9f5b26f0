//! The report page in a real browser: what a reader sees and does.

use crate::browser::{Browser, or_skipped};
use crate::harness::{harbour, run};
use rstest::rstest;
use serde_json::Value;
use std::{
    fs,
    path::{Path, PathBuf},
};
use tempfile::TempDir;

/// The page of the harbour, in a directory with its tables.
fn page_of(harbour: &TempDir) -> PathBuf {
    let ran = run(harbour.path(), &["run", "harbour.toml", "--page", "harbour.html", "--quiet"]);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    harbour.path().join("harbour.html")
}

/// A page of a routine on some files.
fn page_with(directory: &Path, routine: &str, files: &[(&str, &str)]) -> PathBuf {
    for (name, text) in files {
        fs::write(directory.join(name), text).unwrap();
    }
    fs::write(directory.join("r.toml"), routine).unwrap();
    let ran = run(directory, &["run", "r.toml", "--page", "r.html", "--quiet"]);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    directory.join("r.html")
}

/// The rows of a CSV without its header, as the command writes it.
fn rows(directory: &Path, arguments: &[&str]) -> Vec<Vec<String>> {
    let ran = run(directory, arguments);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let cells = |line: &str| line.split(',').map(str::to_owned).collect();
    ran.out.lines().skip(1).map(cells).collect()
}

/// The texts of a table's body, from the selector of its box.
fn table(browser: &Browser, selector: &str) -> Vec<Vec<String>> {
    let script = format!(
        "return [...document.querySelector({selector:?}).querySelectorAll('tbody tr')]
            .map(row => [...row.cells].map(cell => cell.textContent))"
    );
    serde_json::from_value(browser.value(&script)).unwrap()
}

/// The selector of the table of a section, by the section's number from 1.
fn of_section(number: usize) -> String {
    format!("section:has(#section-{number}) > .table")
}

/// The number of rows that are shown.
fn shown(browser: &Browser, selector: &str) -> i64 {
    browser.number(&format!(
        "[...document.querySelectorAll({:?})].filter(row => row.checkVisibility()).length",
        format!("{selector} tbody tr")
    ))
}

/// The first cells of the rows that are shown.
fn column(browser: &Browser, selector: &str, place: usize) -> Vec<String> {
    browser.texts(&format!(
        "[...document.querySelectorAll({:?})].filter(row => row.checkVisibility())
            .map(row => row.cells[{place}].textContent)",
        format!("{selector} tbody tr")
    ))
}

#[rstest]
fn the_page_needs_nothing_from_elsewhere_and_reports_no_problem(harbour: TempDir) {
    let page = page_of(&harbour);
    let Some(browser) = Browser::start() else { return };
    browser.requests();
    browser.open(&page);
    browser.click("#section-5");
    browser.medium("print", "light");
    browser.print();
    assert_eq!(browser.log("browser"), [""; 0]);
    let requests = browser.requests();
    assert_eq!(requests.len(), 1, "{requests:?}");
    assert!(requests[0].ends_with("/harbour.html"), "{requests:?}");
    // The policy holds: a script that is added later does not run.
    browser.value(
        "const script = document.createElement('script');
         script.textContent = 'window.ran = true';
         document.body.append(script);
         const image = document.createElement('img');
         image.src = 'http://127.0.0.1:9/x.png';
         document.body.append(image);",
    );
    assert_eq!(browser.value("return window.ran ?? null"), Value::Null);
    assert!(browser.log("browser").iter().any(|text| text.contains("Content Security Policy")));
}

#[rstest]
fn every_value_is_that_of_the_steps(harbour: TempDir) {
    let page = page_of(&harbour);
    let Some(browser) = Browser::start() else { return };
    browser.open(&page);
    let directory = harbour.path();
    let upto = |name: &str| {
        rows(directory, &["run", "harbour.toml", "--upto", name, "--quiet", "--rows", "all"])
    };
    for (section, step) in [(1, "overdue"), (2, "lifted"), (3, "levels"), (4, "tank"), (6, "dues")]
    {
        let expected = upto(step);
        assert!(!expected.is_empty());
        assert_eq!(table(&browser, &of_section(section)), expected, "{step}");
    }
    // The figures of each grain are those of totals of that grain.
    for grain in ["year", "quarter", "month"] {
        let line = format!(
            "totals dues.csv --date issued --grain {grain} --per class --sum amount --count --quiet"
        );
        let arguments: Vec<&str> = line.split(' ').collect();
        let expected = rows(directory, &arguments);
        let view = format!("section:has(#section-5) .view[data-view={grain}]");
        assert_eq!(table(&browser, &format!("{view} .table")), expected, "{grain}");
        // Each mark of the picture tells a value of the table.
        let titles = browser.texts(&format!(
            "[...document.querySelectorAll('{view} .wide svg g title')].map(t => t.textContent)
                .filter(text => text.includes(': '))"
        ));
        assert_eq!(titles.len(), expected.len(), "{titles:?}");
        for row in &expected {
            let amount = jembric::grouped(row[2].trim_end_matches('0').trim_end_matches('.'));
            let tells = |title: &String| {
                title.contains(&row[0]) && title.contains(&row[1]) && title.contains(&amount)
            };
            assert!(titles.iter().any(tells), "{row:?} {titles:?}");
        }
    }
    // The sentences, with figures that are computed from the tables here.
    let says = browser.texts("[...document.querySelectorAll('.say')].map(p => p.textContent)");
    let cents = |text: &str| text.replace('.', "").parse::<i64>().unwrap();
    let sum = |rows: &[Vec<String>], column: usize| {
        rows.iter().map(|row| cents(&row[column])).sum::<i64>()
    };
    let (overdue, lifted) = (upto("overdue"), upto("lifted"));
    let (tank, levels) = (upto("tank"), upto("levels"));
    let tons = sum(&lifted, 2);
    let tons = jembric::grouped(format!("{}.{}", tons / 10, tons % 10));
    let oldest = overdue.iter().map(|row| &row[0]).min().unwrap();
    assert_eq!(oldest, "2025-02-10");
    let dues = rows(directory, &["totals", "dues.csv", "--sum", "amount", "--count", "--quiet"]);
    let amount = jembric::grouped(&dues[0][0]);
    let level = |row: &&Vec<String>| cents(&row[2]);
    let known = || levels.iter().filter(|row| !row[2].is_empty());
    let [low, high] =
        [known().min_by_key(level), known().max_by_key(level)].map(|row| &row.unwrap()[2]);
    let in_tank = |row: &Vec<String>| cents(row.last().unwrap());
    let least = tank.iter().min_by_key(|row| in_tank(row)).unwrap();
    let most = lifted.iter().max_by_key(|row| cents(&row[2])).unwrap();
    let last = tank.last().unwrap();
    let grouped = |text: &String| jembric::grouped(text);
    let events: Vec<String> = lifted.iter().map(|row| row[3].clone()).collect();
    let events: i64 = events.iter().map(|count| count.parse::<i64>().unwrap()).sum();
    assert_eq!(
        says,
        [
            format!(
                "{} of 14 vessels are overdue for an inspection. The cranes lifted {tons} tons, \
                    and the dues come to {amount}.",
                overdue.len()
            ),
            format!(
                "{} of 14 vessels (14%) had their last inspection more than 120 days before 30 \
                    June 2025. The oldest inspection is of 10 February 2025, {} days ago.",
                overdue.len(),
                overdue.iter().map(|row| row[6].parse::<i64>().unwrap()).max().unwrap()
            ),
            format!(
                "{events} lifts took place while their vessel lay at a berth: {tons} tons in all. \
                    The most in a quarter at one berth were {} tons.",
                grouped(&most[2])
            ),
            format!(
                "The water stood between {low} and {high} metres. Days without a reading have the \
                    level of the day before, for three days at most."
            ),
            format!(
                "The tank held {} litres at the end, on 30 June 2025. The least was {} litres.",
                grouped(last.last().unwrap()),
                grouped(least.last().unwrap())
            ),
            format!("Dues of {amount} were issued in {} invoices.", dues[0][1]),
        ]
    );
    // The ledgers.
    let ran = run(directory, &["run", "harbour.toml", "--ledger", "json", "--page", "again.html"]);
    let ledgers: Vec<Value> =
        ran.err.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(ledgers.len(), 13);
    for (n, ledger) in ledgers.iter().enumerate() {
        let cells = browser.texts(&format!(
            "[...document.querySelectorAll('#ledger-{} > table.account')[0].rows].slice(0, 2)
                .map(row => row.cells[1].textContent)",
            n + 1
        ));
        let expected = ["rows-in", "kept"].map(|key| jembric::grouped(&ledger[key]));
        assert_eq!(cells, expected, "{ledger}");
    }
    // The files.
    let files = table(&browser, "section:has(#sources) > .scroll");
    for file in &files {
        let bytes = fs::read(directory.join(&file[0])).unwrap();
        assert_eq!(file[1], jembric::grouped(bytes.len()));
        let lines = bytes.iter().filter(|byte| **byte == b'\n').count();
        assert_eq!(file[2], (lines - 1).to_string());
        let output =
            std::process::Command::new("sha256sum").arg(directory.join(&file[0])).output().unwrap();
        assert!(String::from_utf8(output.stdout).unwrap().starts_with(&file[3]), "{file:?}");
    }
    assert_eq!(files.len(), 7);
}

#[rstest]
fn tables_are_sorted_by_value_searched_and_divided_into_pages(harbour: TempDir) {
    let page = page_of(&harbour);
    let Some(browser) = Browser::start() else { return };
    browser.open(&page);
    let tank = of_section(4);
    let status = || {
        browser.value(&format!(
            "return document.querySelector({:?}).textContent",
            format!("{tank} [role=status]")
        ))
    };
    let place = || {
        browser.value(&format!(
            "return document.querySelector({:?}).textContent",
            format!("{tank} .pages span")
        ))
    };
    assert_eq!(
        (shown(&browser, &tank), status(), place()),
        (50, "782 of 782 rows".into(), "Page 1 of 16".into())
    );
    browser.click(&format!("{tank} .pages button:last-child"));
    assert_eq!(place(), "Page 2 of 16");
    browser.click(&format!("{tank} .pages button:first-child"));
    assert_eq!(place(), "Page 1 of 16");
    let in_order = column(&browser, &tank, 1);

    // Litres are sorted as numbers: up, down, and back.
    let head = format!("{tank} th:nth-child(2) button");
    let number = |text: &String| text.parse::<f64>().unwrap();
    browser.click(&head);
    let up: Vec<f64> = column(&browser, &tank, 1).iter().map(number).collect();
    assert!(up.is_sorted() && up[49] < 200.0, "{up:?}");
    // The same with the keyboard.
    browser.keys(&head, "\u{e007}");
    let down: Vec<f64> = column(&browser, &tank, 1).iter().map(number).collect();
    assert!(down.is_sorted_by(|one, other| one >= other) && down[49] > 1_000.0, "{down:?}");
    let sorted =
        format!("return document.querySelector({:?}).ariaSort", format!("{tank} th:nth-child(2)"));
    assert_eq!(browser.value(&sorted), "descending");
    browser.keys(&head, "\u{e007}");
    assert_eq!(column(&browser, &tank, 1), in_order);
    assert_eq!(browser.value(&sorted), "none");

    // Missing values are last in both directions.
    let supplier = format!("{tank} th:nth-child(3) button");
    for _ in 0..2 {
        browser.click(&supplier);
        assert!(column(&browser, &tank, 2).iter().all(|text| !text.is_empty()));
    }

    browser.keys(&format!("{tank} input"), "KITTIWAKE");
    let found = column(&browser, &tank, 3);
    assert!(!found.is_empty() && found.iter().all(|vessel| vessel == "Kittiwake"), "{found:?}");
    assert_eq!(
        status(),
        format!(
            "{} of 782 rows",
            browser.number(&format!(
                "[...document.querySelectorAll({:?})].filter(row => !row.hidden).length",
                format!("{tank} tbody tr")
            ))
        )
    );
    browser.keys(&format!("{tank} input"), " no such text");
    assert_eq!((shown(&browser, &tank), status()), (0, "0 of 782 rows".into()));
    // A short table needs neither.
    assert_eq!(
        browser
            .number("document.querySelectorAll('section:has(#section-1) > .table input').length"),
        0
    );
}

#[rstest]
fn grains_are_switched_and_ledgers_are_unfolded(harbour: TempDir) {
    let page = page_of(&harbour);
    let Some(browser) = Browser::start() else { return };
    browser.open(&page);
    let seen = || {
        browser.texts(
            "[...document.querySelectorAll('.view')].filter(view => view.checkVisibility())
                .map(view => view.dataset.view)",
        )
    };
    assert_eq!(seen(), ["quarter"]);
    let labels =
        browser.texts("[...document.querySelectorAll('.grains button')].map(b => b.textContent)");
    assert_eq!(labels, ["Quarter", "Year", "Month"]);
    browser.click(".grains button[data-grain=month]");
    assert_eq!(seen(), ["month"]);
    browser.keys(".grains button[data-grain=year]", "\u{e007}");
    assert_eq!(seen(), ["year"]);
    assert_eq!(
        browser.texts(
            "[...document.querySelectorAll('.grains [aria-pressed=true]')].map(b => b.textContent)"
        ),
        ["Year"]
    );
    // A link to a ledger unfolds it.
    let is_open = "Number(document.querySelector('#ledger-1').checkVisibility())";
    assert_eq!(browser.number(is_open), 0);
    browser.click(".attention a[href='#ledger-1']");
    assert!(browser.number(is_open) > 0);
    let warnings =
        browser.texts("[...document.querySelectorAll('.attention li')].map(li => li.textContent)");
    assert!(
        warnings[0].starts_with("Inspections that are overdue: 3 rows set aside: 2 date missing"),
        "{warnings:?}"
    );
    assert!(
        warnings[1].starts_with("Lifts at the berths: Warning: 3 events match a window only if"),
        "{warnings:?}"
    );
    // The rows set aside are there in full.
    let aside = table(&browser, "#ledger-1 .table");
    assert_eq!(aside.len(), 3);
    assert!(aside.iter().all(|row| !row.last().unwrap().is_empty()), "{aside:?}");
    // The first stop of the keyboard is the link to the report.
    browser.open(&page);
    browser.press("\u{e004}");
    assert_eq!(browser.value("return document.activeElement.className"), "skip");
}

#[rstest]
fn print_has_all_rows_and_ledgers_on_several_pages(harbour: TempDir) {
    let page = page_of(&harbour);
    let Some(browser) = Browser::start() else { return };
    browser.open(&page);
    let pages = |pdf: &[u8]| {
        let text = String::from_utf8_lossy(pdf).into_owned();
        text.matches("/Type /Page\n").count()
    };
    let all = pages(&browser.print());
    assert!((25..60).contains(&all), "{all} pages");
    // Everything is folded again.
    assert_eq!(browser.number("document.querySelectorAll('details[open]').length"), 0);
    // What is not found is not printed.
    browser.keys(&format!("{} input", of_section(4)), "Kittiwake");
    assert!(pages(&browser.print()) < all);
    browser.medium("print", "light");
    assert!(browser.number("Number(document.querySelector('#ledger-1').checkVisibility())") > 0);
    assert_eq!(browser.number("document.querySelector('.tools').offsetHeight"), 0);
    assert_eq!(shown(&browser, &of_section(3)), 362);
}

#[rstest]
fn the_page_fits_narrow_and_wide_windows_in_light_and_dark(harbour: TempDir) {
    let page = page_of(&harbour);
    let Some(browser) = Browser::start() else { return };
    browser.open(&page);
    browser.value("for (const one of document.querySelectorAll('details')) one.open = true");
    for width in [360, 480, 768, 1_120, 1_600] {
        browser.width(width);
        let over = browser.number("document.documentElement.scrollWidth - innerWidth");
        assert!(over <= 0, "{width}: {over} pixels too wide");
        let pictures = browser.number(
            "[...document.querySelectorAll('section:has(#section-2) svg')]
                .filter(svg => svg.checkVisibility()).length",
        );
        assert_eq!(pictures, 1, "{width}");
    }
    // The colours of the page and of the pictures follow the viewer.
    let lightness = |selector: &str, property: &str| {
        let script = format!(
            "const text = getComputedStyle(document.querySelector('{selector}')).{property};
             const canvas = document.createElement('canvas').getContext('2d');
             canvas.fillStyle = text;
             canvas.fillRect(0, 0, 1, 1);
             return [...canvas.getImageData(0, 0, 1, 1).data].slice(0, 3).reduce((a, b) => a + b)"
        );
        browser.value(&script).as_i64().unwrap()
    };
    for (scheme, is_dark) in [("light", false), ("dark", true)] {
        browser.medium("screen", scheme);
        for (paper, ink) in [
            (("body", "backgroundColor"), ("body", "color")),
            (("svg .paper", "fill"), ("svg .ink", "fill")),
        ] {
            let [paper, ink] =
                [paper, ink].map(|(selector, property)| lightness(selector, property));
            assert_eq!(paper < ink, is_dark, "{scheme}: {paper} {ink}");
            assert!((paper - ink).abs() > 400, "{scheme}: {paper} {ink}");
        }
    }
}

#[rstest]
fn the_page_is_accessible(harbour: TempDir) {
    let page = page_of(&harbour);
    let axe = std::env::var_os("JEMBRIC_AXE").and_then(|path| fs::read_to_string(path).ok());
    let Some(axe) = or_skipped(axe, "axe.min.js of the npm package axe-core (JEMBRIC_AXE)") else {
        return;
    };
    let Some(browser) = Browser::start() else { return };
    browser.open(&page);
    browser.value("for (const one of document.querySelectorAll('details')) one.open = true");
    browser.value(&axe);
    for (width, scheme) in [(1_280, "light"), (1_280, "dark"), (400, "light")] {
        browser.width(width);
        browser.medium("screen", scheme);
        browser.value("window.found = null; axe.run().then(result => { window.found = result })");
        let found = (0..600).find_map(|_| {
            std::thread::sleep(std::time::Duration::from_millis(50));
            let found = browser.value(
                "return window.found && window.found.violations.map(one =>
                    one.id + ': ' + one.nodes.map(node => node.html.slice(0, 200)).slice(0, 3).join(' | '))",
            );
            Some(found).filter(|found| !found.is_null())
        });
        assert_eq!(found, Some(Value::Array(Vec::new())), "{width} {scheme}");
    }
}

#[rstest]
fn without_script_everything_is_there(harbour: TempDir) {
    let page = page_of(&harbour);
    let html = fs::read_to_string(&page).unwrap();
    let start = html.rfind("<script>").unwrap();
    let end = html.rfind("</script>").unwrap();
    let plain = harbour.path().join("plain.html");
    fs::write(&plain, format!("{}{}", &html[..start], &html[end + "</script>".len()..])).unwrap();
    let Some(browser) = Browser::start() else { return };
    browser.open(&plain);
    assert_eq!(shown(&browser, &of_section(4)), 782);
    assert_eq!(shown(&browser, ".view[data-view=month] .table"), 70);
    assert_eq!(
        browser.number(
            "document.querySelectorAll('.grains:not([hidden]), button:not([hidden] *)').length"
        ),
        0
    );
}

const HOSTILE: [&str; 6] = [
    "<img src=x onerror=window.hacked=1>",
    "</script><script>window.hacked=1</script>",
    "]]><!--",
    "javascript:window.hacked=1",
    "\"' onload='window.hacked=1'",
    "abc\u{202e}fed\u{1}",
];

#[rstest]
fn hostile_cells_and_names_stay_text() {
    let directory = tempfile::tempdir().unwrap();
    let quoted = |text: &str| format!("\"{}\"", text.replace('"', "\"\""));
    let lines: Vec<String> = HOSTILE
        .iter()
        .enumerate()
        .map(|(n, text)| format!("{},2025-01-0{},{n}\n", quoted(text), n + 1))
        .collect();
    let name = HOSTILE[0];
    let csv = format!("{},day,tons\n{}", quoted(name), lines.concat());
    let toml = |text: &str| serde_json::to_string(text).unwrap();
    let routine = format!(
        "title = {}\n[[step]]\nname = {}\nread = \"h.csv\"\nsort = \"day\"\n\
         write = \"javascript:window.hacked=1.csv\"\nheading = {}\n\
         say = {}\nshow = [\"picture\", \"table\"]\n",
        toml(HOSTILE[1]),
        toml(HOSTILE[2]),
        toml(HOSTILE[1]),
        toml(&format!("{} {{first of {name}}} {{rows}}", HOSTILE[4])),
    );
    let page = page_with(directory.path(), &routine, &[("h.csv", &csv)]);
    let Some(browser) = Browser::start() else { return };
    browser.open(&page);
    assert_eq!(browser.log("browser"), [""; 0]);
    assert_eq!(browser.value("return window.hacked ?? null"), Value::Null);
    assert_eq!(
        browser
            .number("document.querySelectorAll('img, iframe, object, [onload], [onerror]').length"),
        0
    );
    assert_eq!(browser.number("document.scripts.length"), 1);
    let cells = column(&browser, ".table", 0);
    let expected: Vec<String> =
        HOSTILE.iter().map(|text| jembric::visible(text).into_owned()).collect();
    assert_eq!(cells, expected);
    assert_eq!(browser.value("return document.title"), HOSTILE[1]);
    assert_eq!(
        browser.value("return document.querySelector('h2#section-1').textContent"),
        HOSTILE[1]
    );
    let said = browser.value("return document.querySelector('.say').textContent");
    assert_eq!(said, format!("{} {} 6", HOSTILE[4], HOSTILE[0]));
    // Every link leads to a place on the page, or to a file beside it.
    let links = browser.texts("[...document.links].map(link => link.href)");
    assert!(links.iter().all(|link| link.starts_with("file:///")), "{links:?}");
    assert!(
        links.iter().any(|link| link.ends_with("/javascript%3Awindow.hacked%3D1.csv")),
        "{links:?}"
    );
}

#[rstest]
fn a_long_table_has_its_first_rows_and_a_link_to_its_file() {
    let directory = tempfile::tempdir().unwrap();
    let lines: String = (0..10_500).map(|n| format!("{n},{}.5\n", n % 7)).collect();
    let routine = "[[step]]\nread = \"n.csv\"\nfilter = \"n >= 100\"\n\
        write = \"out/all rows.csv\"\n\
        say = \"{rows} rows, {max of n} at most, {sum of x}.\"\n";
    fs::create_dir(directory.path().join("out")).unwrap();
    let page = page_with(directory.path(), routine, &[("n.csv", &format!("n,x\n{lines}"))]);
    let Some(browser) = Browser::start() else { return };
    browser.open(&page);
    // Without a heading, every step is a section by its name.
    assert_eq!(browser.value("return document.querySelector('#section-1').textContent"), "filter");
    let sum: i64 = (100..10_500).map(|n| n % 7 * 10 + 5).sum();
    let sum = jembric::grouped(format!("{}.{}", sum / 10, sum % 10));
    assert_eq!(
        browser.value("return document.querySelector('.say').textContent"),
        format!("10,400 rows, 10,499 at most, {sum}.")
    );
    assert_eq!(browser.number("document.querySelectorAll('.table tbody tr').length"), 10_000);
    let notes = browser.texts("[...document.querySelectorAll('.note')].map(p => p.textContent)");
    assert_eq!(
        notes,
        ["The table has the first 10,000 of 10,400 rows.", "File with all rows: out/all rows.csv"]
    );
    let link = browser.value("return document.querySelector('.note a').getAttribute('href')");
    assert_eq!(link, "out/all%20rows.csv");
    browser.click(".table th:nth-child(1) button");
    browser.click(".table th:nth-child(1) button");
    assert_eq!(column(&browser, ".table", 0)[0], "10099");
}

#[rstest]
fn what_changed_since_an_earlier_date_is_marked() {
    let directory = tempfile::tempdir().unwrap();
    let csv = "vessel,day,grade\nx,2025-05-01,1\nx,2025-06-10,2\ny,2025-06-20,2\nz,2025-04-01,3\n\
        z,2025-06-01,1\n";
    fs::write(directory.path().join("g.csv"), csv).unwrap();
    let routine = "as-of = \"2025-06-30\"\n[[step]]\nname = \"grades\"\nread = \"g.csv\"\n\
        latest = { per = [\"vessel\"], date = \"day\" }\n[[step]]\nname = \"good\"\n\
        filter = \"grade > 1\"\n";
    fs::write(directory.path().join("r.toml"), routine).unwrap();
    let words = ["run", "r.toml", "--since", "2025-05-31", "--page", "r.html", "-q"];
    let ran = run(directory.path(), &words);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let Some(browser) = Browser::start() else { return };
    browser.open(&directory.path().join("r.html"));
    assert_eq!(browser.log("browser"), [""; 0]);
    let notes = browser.texts("[...document.querySelectorAll('.note')].map(p => p.textContent)");
    assert_eq!(
        notes,
        [
            "Since 31 May 2025: 1 new row (+), 2 changed rows (•), 0 gone.",
            "Since 31 May 2025: 2 new rows (+), 0 changed rows (•), 1 gone."
        ]
    );
    let hovers = browser.texts("[...document.querySelectorAll('.changed')].map(td => td.title)");
    assert_eq!(hovers, ["before: 2025-05-01", "before: 1", "before: 2025-04-01", "before: 3"]);
    let new = browser
        .texts("[...document.querySelectorAll('tr.new')].map(tr => tr.cells[0].textContent)");
    assert_eq!(new, ["+ y (new)", "+ x (new)", "+ y (new)"]);
    let gone = table(&browser, "section:has(#section-2) > .table ~ .table");
    assert_eq!(gone, [["z", "2025-04-01", "3"]]);
}
