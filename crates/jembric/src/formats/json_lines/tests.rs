//! Objects are converted in the same way in groups of any size.

use super::*;
use jembric_core::Origin;
use proptest::prelude::*;

fn source(text: &str) -> FileBytes {
    FileBytes::memory("stays.jsonl".to_owned(), text.as_bytes().to_vec())
}

fn rules(missing: &[String]) -> RowRules<'_> {
    RowRules { missing, no_header: false, most_columns: None }
}

/// The lines of the groups, each with the number of the first.
fn groups(text: &str, bytes: u64) -> Vec<(u64, String)> {
    let mut all = Vec::new();
    each_group(&source(text), bytes, &mut |stretches| {
        for WholeLines { bytes, first_line } in stretches {
            all.push((*first_line, String::from_utf8(bytes.to_vec()).unwrap()));
        }
        Ok(())
    })
    .unwrap();
    all
}

/// What is converted: the columns, those with texts, the CSV, and the lines of the first rows.
type Converted = (Vec<String>, Vec<bool>, String, Vec<u64>);

fn converted(text: &str, memory: &Memory) -> std::result::Result<Converted, String> {
    let done = to_csv_rows(&source(text), rules(&[]), u64::MAX, memory);
    let CsvRows { names, texts, csv, jumps } = done.map_err(|error| error.to_string())?;
    let bytes = csv.bytes(0, csv.len(), &mut Vec::new()).unwrap().to_vec();
    let mut origin = Origin::new("stays.jsonl", 1);
    jumps.into_iter().for_each(|(row, line)| origin.jump(row, line));
    let lines = (0..20).map(|row| origin.line(row)).collect();
    Ok((names, texts, String::from_utf8(bytes).unwrap(), lines))
}

proptest! {
    #[test]
    fn groups_have_all_lines_with_their_numbers(text in "[a\n]{0,60}", bytes in 1..30_u64) {
        let found = groups(&text, bytes);
        let joined: String = found.iter().map(|(_, lines)| lines.as_str()).collect();
        prop_assert_eq!(&joined, &text);
        let (mut line, last) = (1, found.len().saturating_sub(1));
        for (n, (first_line, lines)) in found.iter().enumerate() {
            prop_assert_eq!(*first_line, line);
            prop_assert!(n == last || lines.ends_with('\n'), "{:?} is cut", lines);
            line += lines.matches('\n').count() as u64;
        }
    }

    #[test]
    fn little_memory_changes_nothing(
        lines in prop::collection::vec(
            prop_oneof![
                Just(String::new()),
                Just(r#"{"late":null}"#.to_owned()),
                (0..9_u8).prop_map(|n| format!(r#"{{"vessel":"v{n}","tons":{n}}}"#)),
                (0..9_u8).prop_map(|n| format!(r#"{{"tons":"{n}","note":"a, \"b\""}}"#)),
                (0..40_u8).prop_map(|n| match n {
                    0 => r#"{"tons":[1]}"#.to_owned(),
                    n => format!(r#"{{"at":"2025-01-{n:02}"}}"#),
                }),
            ],
            1..20,
        ),
        budget in 1..3_000_u64,
    ) {
        let text = lines.join("\n");
        let directory = tempfile::tempdir().unwrap();
        let memory = Memory::limited(budget, directory.path());
        prop_assert_eq!(converted(&text, &memory), converted(&text, &Memory::unlimited()));
    }
}

#[test]
fn a_mark_at_the_beginning_is_no_part_of_the_first_line() {
    let marked = "\u{feff}{\"n\":1}\n\n{\"n\":2}\n";
    let directory = tempfile::tempdir().unwrap();
    for memory in [Memory::unlimited(), Memory::limited(1, directory.path())] {
        let (names, texts, csv, lines) = converted(marked, &memory).unwrap();
        assert_eq!((names, texts), (vec!["n".to_owned()], vec![false]));
        assert_eq!((csv.as_str(), &lines[..2]), ("1\n2\n", &[1, 3][..]));
    }
}
