//! The corpora of the fuzz targets, each file through its target, so that every toolchain checks
//! what was found once.

use crate::bodies;
use rstest::rstest;
use std::{fs, path::Path};

#[rstest]
fn no_file_of_a_corpus_breaks_its_target(#[values(0, 1, 2, 3, 4, 5, 6, 7)] number: usize) {
    let (name, target) = bodies::TARGETS[number];
    let corpus = Path::new(env!("CARGO_MANIFEST_DIR")).join("fuzz/corpus").join(name);
    let files: Vec<_> = fs::read_dir(corpus).unwrap().map(|entry| entry.unwrap().path()).collect();
    assert!(files.len() > 1, "{name} has a corpus");
    for file in files {
        println!("{}", file.display());
        target(&fs::read(&file).unwrap());
    }
}
