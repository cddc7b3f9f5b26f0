//! Damaged files, and small files that need far more memory than their size. Each run has limits on
//! memory and time, and must end with a result or with an error that says what is wrong.

use rstest::rstest;
use std::{
    fs,
    io::Write,
    path::Path,
    process::{Command, Stdio},
    time::{Duration, Instant},
};
use tempfile::TempDir;

/// How a limited run ended.
struct Ended {
    /// None if a signal ended it.
    code: Option<i32>,
    out: String,
    err: String,
}

/// The limit on the address space in kibibytes: what the allocator reserves at the start, and a
/// little more.
const MOST_KIB: u64 = 4 << 20;
/// A run that takes longer counts as hanging.
const PATIENCE: Duration = Duration::from_secs(120);

/// Runs the command with little memory.
fn bounded(directory: &Path, arguments: &[&str]) -> Ended {
    bounded_to(MOST_KIB, directory, arguments)
}

fn bounded_to(kib: u64, directory: &Path, arguments: &[&str]) -> Ended {
    let limited = format!("ulimit -v {kib}; exec \"$@\"");
    let mut running = Command::new("sh")
        .args(["-c", &limited, "sh", env!("CARGO_BIN_EXE_jembric")])
        .args(arguments)
        .current_dir(directory)
        .stdout(fs::File::create(directory.join("stdout")).unwrap())
        .stderr(fs::File::create(directory.join("stderr")).unwrap())
        .spawn()
        .unwrap();
    let began = Instant::now();
    let status = loop {
        if let Some(status) = running.try_wait().unwrap() {
            break status;
        }
        if began.elapsed() > PATIENCE {
            running.kill().unwrap();
            let shown: Vec<&str> =
                arguments.iter().map(|word| &word[..word.len().min(40)]).collect();
            panic!("{shown:?} hangs");
        }
        std::thread::sleep(Duration::from_millis(5));
    };
    let text =
        |name: &str| String::from_utf8_lossy(&fs::read(directory.join(name)).unwrap()).into_owned();
    Ended { code: status.code(), out: text("stdout"), err: text("stderr") }
}

/// An archive of these parts, as workbooks are.
fn archive(path: &Path, parts: &[(&str, String)]) {
    let mut archive = zip::ZipWriter::new(fs::File::create(path).unwrap());
    for (name, text) in parts {
        archive.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
        archive.write_all(text.as_bytes()).unwrap();
    }
    archive.finish().unwrap();
}

/// A workbook with one sheet of this content, shared texts and number formats.
fn xlsx(path: &Path, sheet: &str, texts: &str) {
    const MAIN: &str = "http://schemas.openxmlformats.org/spreadsheetml/2006/main";
    const OFFICE: &str = "http://schemas.openxmlformats.org/officeDocument/2006/relationships";
    const RELS: &str = "http://schemas.openxmlformats.org/package/2006/relationships";
    let rel = |id: &str, kind: &str, to: &str| {
        format!("<Relationship Id=\"{id}\" Type=\"{OFFICE}/{kind}\" Target=\"{to}\"/>")
    };
    let rels = |all: String| format!("<Relationships xmlns=\"{RELS}\">{all}</Relationships>");
    archive(
        path,
        &[
            ("_rels/.rels", rels(rel("a", "officeDocument", "xl/workbook.xml"))),
            (
                "xl/workbook.xml",
                format!(
                    "<workbook xmlns=\"{MAIN}\" xmlns:r=\"{OFFICE}\"><sheets><sheet name=\"S\" \
                        sheetId=\"1\" r:id=\"b\"/>\
                     </sheets></workbook>"
                ),
            ),
            (
                "xl/_rels/workbook.xml.rels",
                rels(
                    rel("b", "worksheet", "worksheets/sheet1.xml")
                        + &rel("c", "styles", "styles.xml")
                        + &rel("d", "sharedStrings", "sharedStrings.xml"),
                ),
            ),
            (
                "xl/styles.xml",
                format!(
                    "<styleSheet xmlns=\"{MAIN}\"><cellXfs><xf numFmtId=\"0\"/><xf \
                        numFmtId=\"14\"/></cellXfs></styleSheet>"
                ),
            ),
            ("xl/sharedStrings.xml", format!("<sst xmlns=\"{MAIN}\">{texts}</sst>")),
            (
                "xl/worksheets/sheet1.xml",
                format!("<worksheet xmlns=\"{MAIN}\"><sheetData>{sheet}</sheetData></worksheet>"),
            ),
        ],
    );
}

fn ods(path: &Path, content: &str) {
    let whole = format!(
        "<office:document-content xmlns:office=\"o\" xmlns:table=\"t\" \
            xmlns:text=\"x\"><office:body><office:spreadsheet>{content}"
    );
    archive(
        path,
        &[
            ("mimetype", "application/vnd.oasis.opendocument.spreadsheet".to_owned()),
            ("content.xml", whole),
        ],
    );
}

/// Writes a hostile file.
type Make = fn(&Path);

fn in_ods(cell: &str) -> String {
    format!(
        "<table:table \
            table:name=\"S\">{cell}</table:table></office:spreadsheet></office:body>\
            </office:document-content>"
    )
}

#[rstest]
#[case::a_cell_far_to_the_right("far.xlsx", |path: &Path| {
    xlsx(path, "<row r=\"1\"><c r=\"A1\"><v>1</v></c><c r=\"ZZZZZZ1\"><v>2</v></c></row>", "");
}, "error: far.xlsx: it has 321272406 columns, more than the limit of 20000. If the file is \
    right, raise the limit: `--most-columns 321272406`")]
#[case::one_text_in_many_cells("shared.xlsx", |path: &Path| {
    let rows: String = (1..2_000).map(|row| format!("<row r=\"{row}\"><c r=\"A{row}\" \
        t=\"s\"><v>0</v></c></row>")).collect();
    xlsx(path, &rows, &format!("<si><t>{}</t></si>", "x".repeat(1 << 20)));
}, "error: shared.xlsx: its 11577 bytes unpack to more than the limit of 536870912 bytes. If the \
    file is right, raise the limit: `--most-unpacked 4294967296`")]
#[case::xml_that_ends_in_a_table("hang.ods", |path: &Path| {
    ods(path, "<table:table table:name=\"S\"><table:table-row><table:table-cell \
        office:value-type=\"float\">");
}, "error: hang.ods: this is not a complete workbook: its XML is incomplete")]
#[case::a_row_that_stands_there_for_ever("repeated.ods", |path: &Path| {
    let cell = "<table:table-cell office:value-type=\"string\" \
        table:number-columns-repeated=\"16000\"><text:p>x</text:p></table:table-cell>";
    ods(path, &in_ods(&format!("<table:table-row \
        table:number-rows-repeated=\"1000000\">{cell}</table:table-row>")));
}, "unpack to more than")]
#[case::each_line_its_own_key("keys.jsonl", |path: &Path| {
    let lines: String = (0..10_000).map(|n| format!("{{\"k{n}\":1}}\n")).collect();
    fs::write(path, lines).unwrap();
}, "unpack to more than")]
#[case::commas("commas.csv", |path: &Path| fs::write(path, vec![b','; 1 << 24]).unwrap(),
    "error: commas.csv: it has 16777217 columns, more than the limit of 20000. If the file is \
        right, raise the limit: `--most-columns 16777217`")]
#[case::packed_commas("commas.csv.zst", |path: &Path| {
    fs::write(path, zstd::encode_all(&vec![b','; 1 << 24][..], 1).unwrap()).unwrap();
}, "error: commas.csv.zst: it has 16777217 columns, more than the limit of 20000. If the file is \
    right, raise the limit: `--most-columns 16777217`")]
#[case::packed_nothing("zeros.csv.zst", |path: &Path| {
    fs::write(path, zstd::encode_all(&vec![b'0'; 600 << 20][..], 1).unwrap()).unwrap();
}, "error: zeros.csv.zst: its 19218 bytes unpack to more than the limit of 536870912 bytes. If \
    the file is right, raise the limit: `--most-unpacked 4294967296`")]
#[case::a_holiday_with_a_letter("h.csv", |path: &Path| {
    fs::write(path, "2025-05-O1\n2025-05-02\n").unwrap();
    fs::write(path.with_file_name("holidays"), "").unwrap();
}, "line 1 has `2025-05-O1`")]
fn a_small_file_that_needs_much_memory_is_refused(
    #[case] name: &str,
    #[case] make: Make,
    #[case] said: &str,
) {
    let directory = tempfile::tempdir().unwrap();
    make(&directory.path().join(name));
    fs::write(directory.path().join("d.csv"), "day\n2025-05-01\n").unwrap();
    let arguments: &[&str] = if directory.path().join("holidays").exists() {
        &[
            "elapsed",
            "d.csv",
            "--from",
            "day",
            "--to",
            "2025-06-01",
            "--unit",
            "workdays",
            "--holidays",
            name,
        ]
    } else {
        &["look", name]
    };
    let ended = bounded(directory.path(), arguments);
    assert_eq!((ended.code, ended.out.as_str()), (Some(1), ""), "{}", ended.err);
    assert!(ended.err.contains(said) && ended.err.starts_with("error:"), "{}", ended.err);
}

/// A missing value costs nothing until it is used.
#[test]
fn an_arrow_file_of_nothing_but_missing_values_is_refused() {
    use jembric::arrow::{
        NullArray, RecordBatch,
        schema::{DataType, Field, Schema},
    };
    let directory = tempfile::tempdir().unwrap();
    let schema = std::sync::Arc::new(Schema::new(vec![Field::new("n", DataType::Null, true)]));
    let nulls = std::sync::Arc::new(NullArray::new(i32::MAX as usize));
    let batch = RecordBatch::try_new(schema.clone(), vec![nulls]).unwrap();
    let file = fs::File::create(directory.path().join("nulls.arrow")).unwrap();
    let mut writer = arrow_ipc::writer::FileWriter::try_new(file, &schema).unwrap();
    writer.write(&batch).unwrap();
    writer.finish().unwrap();
    assert!(fs::metadata(directory.path().join("nulls.arrow")).unwrap().len() < 1_000);
    let ended = bounded(directory.path(), &["totals", "nulls.arrow", "--per", "n"]);
    assert_eq!(ended.code, Some(1));
    assert!(ended.err.contains("bytes unpack to more than"), "{}", ended.err);
}

/// Each of these made the library of its format panic, or gave rows that do not exist.
#[rstest]
#[case("panic.parquet", include_bytes!("hostile_files/panic.parquet"))]
#[case("panic.arrow", include_bytes!("hostile_files/panic.arrow"))]
#[case("panic.arrows", include_bytes!("hostile_files/panic.arrows"))]
fn a_damaged_file_is_an_error_that_names_it_and_changes_no_output(
    #[case] name: &str,
    #[case] bytes: &[u8],
) {
    let directory = tempfile::tempdir().unwrap();
    fs::write(directory.path().join(name), bytes).unwrap();
    fs::write(directory.path().join("out.csv"), "old").unwrap();
    let ended = bounded(directory.path(), &["sort", name, "invoice", "--out", "out.csv"]);
    assert_eq!(ended.code, Some(1), "{}", ended.err);
    assert!(ended.err.starts_with(&format!("error: {name}: ")), "{}", ended.err);
    assert!(!ended.err.contains("panicked"), "{}", ended.err);
    assert_eq!(fs::read_to_string(directory.path().join("out.csv")).unwrap(), "old");
}

/// The demo's tables in each binary format, with some bytes changed: the command gives a result or
/// an error. It never crashes or hangs.
#[rstest]
#[case("dues.parquet")]
#[case("dues.arrow")]
#[case("dues.arrows")]
#[case("dues.xlsx")]
#[case("dues.csv.gz")]
#[case("dues.csv.zst")]
fn a_file_with_changed_bytes_gives_a_result_or_an_error(#[case] name: &str) {
    let directory = crate::harness::harbour();
    let at = |name: &str| directory.path().join(name);
    assert_eq!(
        crate::harness::run(
            directory.path(),
            &["sort", "dues.csv", "invoice", "--out", name, "-q"]
        )
        .code,
        0
    );
    let whole = fs::read(at(name)).unwrap();
    let mut random = fastrand::Rng::with_seed(7);
    let broken = format!("broken.{name}");
    for round in 0..25 {
        let mut bytes = whole.clone();
        for _ in 0..1 + round % 4 {
            let place = random.usize(..bytes.len());
            bytes[place] = random.u8(..);
        }
        if round % 5 == 4 {
            bytes.truncate(random.usize(1..bytes.len()));
        }
        fs::write(at(&broken), bytes).unwrap();
        let ended =
            bounded(directory.path(), &["totals", &broken, "--per", "vessel", "--sum", "amount"]);
        assert!(
            matches!(ended.code, Some(0 | 1)),
            "{name}, round {round}: {:?} {}",
            ended.code,
            ended.err
        );
        assert!(!ended.err.contains("panicked"), "{name}, round {round}: {}", ended.err);
    }
}

#[test]
fn carriage_returns_end_lines_and_utf_16_needs_no_mark() {
    let directory = tempfile::tempdir().unwrap();
    let text = "who,day,n\ra,2025-01-01,1\rb,2025-01-02,2\r";
    fs::write(directory.path().join("cr.csv"), text).unwrap();
    let wide: Vec<u8> = text.encode_utf16().flat_map(u16::to_le_bytes).collect();
    fs::write(directory.path().join("wide.csv"), wide).unwrap();
    for name in ["cr.csv", "wide.csv"] {
        let ended = bounded(directory.path(), &["sort", name, "n:down", "-q"]);
        assert_eq!(
            (ended.code, ended.out.as_str()),
            (Some(0), "who,day,n\nb,2025-01-02,2\na,2025-01-01,1\n"),
            "{}",
            ended.err
        );
    }
}

#[test]
fn numbers_keep_all_their_digits_or_are_refused() {
    let directory = tempfile::tempdir().unwrap();
    fs::write(
        directory.path().join("n.csv"),
        "day,n\n2025-01-01,9999999999999.999999\n2025-01-02,-1\n",
    )
    .unwrap();
    let ended = bounded(directory.path(), &["filter", "n.csv", "n < 99999999999999999999", "-q"]);
    let out = "day,n\n2025-01-01,9999999999999.999999\n2025-01-02,-1.000000\n";
    assert_eq!((ended.code, ended.out.as_str()), (Some(0), out), "{}", ended.err);
    let ended = bounded(directory.path(), &["totals", "n.csv", "--sum", "n", "-q"]);
    assert_eq!(ended.out, "sum_n\n9999999999998.999999\n", "{}", ended.err);
    for opening in ["99999999999999999999", "nan", "inf", "1e3"] {
        let routine = format!(
            "[[step]]\nread = \"n.csv\"\nrunning = {{ date = \"day\", sum = [\"n\"], opening = \
                {opening} }}\n"
        );
        fs::write(directory.path().join("o.toml"), routine).unwrap();
        let ended = bounded(directory.path(), &["run", "o.toml"]);
        assert_eq!(ended.code, Some(1), "{opening}: {}", ended.out);
        assert!(ended.err.contains("`opening`") && ended.err.contains("o.toml:3"), "{}", ended.err);
    }
}

/// Day numbers outside the calendar are cells that are not dates.
#[test]
fn day_numbers_out_of_range_do_not_become_days() {
    let directory = tempfile::tempdir().unwrap();
    let rows = ["45000", "2958465", "3000000", "1e300"].iter().zip(2..).map(|(value, row)| {
        format!("<row r=\"{row}\"><c r=\"A{row}\" s=\"1\"><v>{value}</v></c></row>")
    });
    let name = "<row r=\"1\"><c r=\"A1\" t=\"inlineStr\"><is><t>day</t></is></c></row>";
    let rows: String = rows.collect();
    xlsx(&directory.path().join("serial.xlsx"), &format!("{name}{rows}"), "");
    let ended = bounded(directory.path(), &["columns", "serial.xlsx", "day", "-q"]);
    let cells: Vec<&str> = ended.out.lines().collect();
    assert_eq!(
        cells[1..4],
        ["2023-03-15T00:00", "9999-12-31T00:00", "3000000"],
        "{}{}",
        ended.out,
        ended.err
    );
    assert!(!cells[4].contains("9999-12-31") && ended.code == Some(0));
}

/// The command refuses a result that would not fit into memory before it makes it. If memory runs
/// out anyway, the command leaves no file behind.
#[test]
fn a_result_that_does_not_fit_is_refused_and_leaves_nothing() {
    let directory = tempfile::tempdir().unwrap();
    let stays: String = (0..54).map(|n| format!("v{n},0001-01-01,9999-12-31\n")).collect();
    fs::write(directory.path().join("long.csv"), format!("who,a,z\n{stays}")).unwrap();
    // Counts are delivered in batches, but a step that sorts them needs all of them.
    let count = [
        "active", "long.csv", "--start", "a", "--end", "z", "--count", "--per", "who", "+", "sort",
        "active", "--out", "out.csv",
    ];
    let ended = bounded(directory.path(), &count);
    assert_eq!(ended.code, Some(1), "{}", ended.err);
    let refused = ended.err.contains(" of memory, more than the limit of")
        || ended.err.contains("not enough memory");
    assert!(refused, "{}", ended.err);
    // A table that is larger than the available memory.
    let rows = "2025-01-01,abcdefghijklmnopqrstuvwxyz\n".repeat(2_000_000);
    fs::write(directory.path().join("large.csv"), format!("day,text\n{rows}")).unwrap();
    let ended =
        bounded_to(1_300_000, directory.path(), &["sort", "large.csv", "text", "--out", "out.csv"]);
    let left: Vec<String> = fs::read_dir(directory.path())
        .unwrap()
        .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
        .filter(|name| name.starts_with('.'))
        .collect();
    assert_eq!(left, [""; 0], "{:?} {}", ended.code, ended.err);
    assert!(matches!(ended.code, Some(0 | 1)), "{:?} {}", ended.code, ended.err);
}

/// Control characters in data, names or arguments never reach the terminal.
#[rstest]
#[case(&["look", "nasty.csv"])]
#[case(&["sort", "nasty.csv", "day", "--format", "table"])]
#[case(&["latest", "nasty.csv", "--date", "no\u{1b}[2Jthing"])]
#[case(&["latest", "nasty.csv", "--date", "note\u{7}\u{202e}"])]
#[case(&["no\u{1b}]0;title\u{7}thing"])]
#[case(&["run", "nasty.toml"])]
fn control_characters_are_shown_as_escapes(#[case] arguments: &[&str]) {
    let directory = tempfile::tempdir().unwrap();
    let rows =
        "day,note\u{7}\u{202e},x\n2025-01-01,a\u{1b}[2Jb,\u{1b}]0;t\u{7}\n2025-01-02,\u{2066}c,-\n";
    fs::write(directory.path().join("nasty.csv"), rows).unwrap();
    let routine = "title = \"a\\u001b[2J\"\n[[step]]\nread = \"nasty.csv\"\nlatest = { date \
        = \"day\", mark = \"m\\u202e\" }\n";
    fs::write(directory.path().join("nasty.toml"), routine).unwrap();
    let ended = bounded(directory.path(), arguments);
    // The result itself goes into pipes unchanged.
    let shown = if arguments[0] == "run" {
        ended.err.clone()
    } else {
        format!("{}{}", ended.out, ended.err)
    };
    let acts = |c: char| c.is_control() && c != '\n' || "\u{202e}\u{2066}".contains(c);
    assert!(!shown.contains(acts), "{shown:?}");
    // The argument parser removes such characters itself.
    assert!(shown.contains("\\u{") || shown.contains("subcommand"), "{shown:?}");
}

#[test]
fn a_text_of_a_megabyte_is_shortened_in_messages() {
    let directory = tempfile::tempdir().unwrap();
    let long = "x".repeat(1 << 20);
    fs::write(directory.path().join("long.csv"), format!("day,{long}\n2025-01-01,1\n{long},2\n"))
        .unwrap();
    for arguments in [
        &["latest", "long.csv", "--date", "day"][..],
        &["latest", "long.csv", "--date", "nothing"],
        &["sort", "long.csv", &"y".repeat(100_000)],
    ] {
        let ended = bounded(directory.path(), arguments);
        assert_eq!(ended.code, Some(1));
        assert!(ended.err.len() < 5_000, "{} bytes: {}…", ended.err.len(), &ended.err[..200]);
    }
    let look = bounded(directory.path(), &["look", "long.csv"]);
    assert_eq!(look.code, Some(0), "{}", look.err);
    assert!(look.out.contains("xxx…") && look.out.len() < 5_000, "{} bytes", look.out.len());
}

#[rstest]
#[case::columns("wide.csv", &["look", "wide.csv"])]
#[case::steps("long.toml", &["run", "long.toml", "-q"])]
fn time_is_linear_in_the_number_of_columns_and_steps(
    #[case] name: &str,
    #[case] arguments: &[&str],
) {
    let directory = tempfile::tempdir().unwrap();
    let names: Vec<String> = (0..16_000).map(|n| format!("c{n}")).collect();
    let cells = |value: &str| vec![value; 16_000].join(",");
    let text = match name {
        "wide.csv" => format!("{}\n{}\n{}\n", names.join(","), cells("2025-01"), cells("2025-02")),
        _ => {
            fs::write(directory.path().join("d.csv"), "n\n1\n2\n").unwrap();
            format!(
                "[[step]]\nread = \"d.csv\"\nfilter = \"n > 0\"\n{}",
                "[[step]]\nfilter = \"n > 0\"\n".repeat(10_000)
            )
        }
    };
    fs::write(directory.path().join(name), text).unwrap();
    let ended = bounded_to(8 << 20, directory.path(), arguments);
    assert_eq!(ended.code, Some(0), "{}", ended.err);
}

/// A routine that writes four files, each of which contains the run that wrote it.
fn four_files(directory: &TempDir) -> Vec<String> {
    let names = ["a.csv", "b.csv", "c.csv", "d.csv"];
    let steps: String = names
        .iter()
        .map(|name| {
            format!("[[step]]\nread = \"in.csv\"\nfilter = \"n >= 0\"\nwrite = \"{name}\"\n")
        })
        .collect();
    fs::write(directory.path().join("four.toml"), steps).unwrap();
    names.map(str::to_owned).to_vec()
}

fn input(directory: &TempDir, run: usize) {
    let rows: String = (0..2_000).map(|row| format!("{run},{row}\n")).collect();
    fs::write(directory.path().join("in.csv"), format!("n,row\n{rows}")).unwrap();
}

/// The run that wrote each file. Panics if one is incomplete.
fn written_by(directory: &TempDir, names: &[String]) -> Vec<String> {
    let run = |name: &String| {
        let text = fs::read_to_string(directory.path().join(name)).unwrap();
        assert_eq!(text.lines().count(), 2_001, "{name} is not whole");
        text.lines().nth(1).unwrap().split(',').next().unwrap().to_owned()
    };
    names.iter().map(run).collect()
}

/// If a routine is killed at any moment, the next run leaves files that are all from one run. A run
/// that is told to end removes what it has begun.
#[test]
fn fifty_kills_never_leave_a_mixed_set() {
    let directory = tempfile::tempdir().unwrap();
    let names = four_files(&directory);
    let whole = |directory: &Path| bounded(directory, &["run", "four.toml", "-q"]);
    input(&directory, 0);
    let began = Instant::now();
    assert_eq!(whole(directory.path()).code, Some(0));
    let usual = began.elapsed();
    let mut random = fastrand::Rng::with_seed(11);
    let mut killed = 0;
    for run in 1..=50 {
        input(&directory, run);
        let mut running = Command::new(env!("CARGO_BIN_EXE_jembric"))
            .args(["run", "four.toml", "-q"])
            .current_dir(directory.path())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(usual.mul_f64(random.f64() * 1.2));
        let by_kill = random.bool();
        let signal = if by_kill { "-KILL" } else { "-TERM" };
        let _ = Command::new("kill")
            .args([signal, &running.id().to_string()])
            .stderr(Stdio::null())
            .status();
        killed += usize::from(running.wait().unwrap().code() != Some(0));
        if !by_kill {
            let begun = temporary_files(&directory);
            assert_eq!(begun, [""; 0], "a run that was told to end removes its files");
        }
        // The next run first finishes or undoes what was begun. If it cannot read its input, it
        // changes nothing else.
        fs::rename(directory.path().join("in.csv"), directory.path().join("away.csv")).unwrap();
        assert_eq!(whole(directory.path()).code, Some(1));
        fs::rename(directory.path().join("away.csv"), directory.path().join("in.csv")).unwrap();
        let runs = written_by(&directory, &names);
        assert!(runs.iter().all(|run| *run == runs[0]), "after kill {run}: {runs:?}");
        assert_eq!(temporary_files(&directory), [""; 0], "after kill {run}");
    }
    assert!(killed > 10, "{killed} of 50 runs were killed before they were done");
}

fn temporary_files(directory: &TempDir) -> Vec<String> {
    let names = fs::read_dir(directory.path()).unwrap().map(|entry| entry.unwrap().file_name());
    let names = names.map(|name| name.to_string_lossy().into_owned());
    names.filter(|name| name.starts_with('.')).collect()
}
