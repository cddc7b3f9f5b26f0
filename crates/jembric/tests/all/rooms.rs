//! The rooms of each crate import only those before them, in the order that `DESIGN.md` lists.

use rstest::rstest;
use std::{
    collections::BTreeSet,
    fs,
    path::{Path, PathBuf},
};

/// The top of the repository.
fn repository() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// The rooms of a directory of modules, in the order of the design: those it lists in one line that
/// begins with the directory's name.
fn order(directory: &str) -> Vec<String> {
    let design = fs::read_to_string(repository().join("DESIGN.md")).unwrap();
    let (_, rooms) = design.split_once("```rooms\n").unwrap();
    let (rooms, _) = rooms.split_once("```").unwrap();
    // A line that begins with blanks continues the one above it.
    let rooms = rooms.replace("\n ", " ");
    let line = rooms.lines().find_map(|line| line.strip_prefix(&format!("{directory}:")));
    line.unwrap().split_whitespace().map(str::to_owned).collect()
}

/// The files of a room's code, without its tests, each with the names of its modules.
fn files(directory: &Path, modules: &[String], found: &mut Vec<(Vec<String>, String)>) {
    for entry in fs::read_dir(directory).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_stem().unwrap().to_string_lossy().into_owned();
        let of_file = [modules, std::slice::from_ref(&name)].concat();
        if path.is_dir() {
            files(&path, &of_file, found);
        } else if path.extension().is_some_and(|ending| ending == "rs") && name != "tests" {
            found.push((of_file, fs::read_to_string(path).unwrap()));
        }
    }
}

/// The code without comments, and without the tests at its end.
fn code(text: &str) -> String {
    let code = text.split_once("\n#[cfg(test)]\nmod ").map_or(text, |(code, _)| code);
    code.lines()
        .map(|line| line.split("//").next().unwrap_or_default())
        .collect::<Vec<_>>()
        .join("\n")
}

/// The first names of the paths that begin here: one, or those of a list in braces.
fn first_names(path: &str) -> Vec<String> {
    let is_part = |c: char| c.is_alphanumeric() || c == '_';
    let name = |text: &str| text.trim_start().split(|c| !is_part(c)).next().unwrap().to_owned();
    let Some(list) = path.strip_prefix('{') else { return vec![name(path)] };
    let (mut depth, mut names, mut begins) = (0, Vec::new(), 0);
    for (at, sign) in list.char_indices() {
        match sign {
            '{' => depth += 1,
            '}' if depth > 0 => depth -= 1,
            ',' | '}' if depth == 0 => {
                names.push(name(&list[begins..at]));
                begins = at + 1;
            }
            _ => {}
        }
        if sign == '}' && depth == 0 && begins == at + 1 {
            break;
        }
    }
    names
}

/// The names that a file imports from a module, which is the crate or a room: those of paths that
/// begin with `crate::`, and with as many `super::` as lead there.
fn imports(modules: &[String], code: &str, of_module: &[String]) -> BTreeSet<String> {
    let inside = of_module.iter().map(|module| format!("{module}::")).collect::<String>();
    let beginnings =
        [format!("crate::{inside}"), "super::".repeat(modules.len() - of_module.len())];
    let mut found = BTreeSet::new();
    for beginning in beginnings {
        for (at, _) in code.match_indices(&beginning) {
            let before = &code[..at];
            let is_whole = !before.ends_with("::") && !before.ends_with(char::is_alphanumeric);
            let path = &code[at + beginning.len()..];
            if is_whole && !path.starts_with("super::") {
                found.extend(first_names(path));
            }
        }
    }
    found
}

#[rstest]
#[case("jembric-core")]
#[case("jembric-core/expression")]
#[case("jembric-draw")]
#[case("jembric")]
#[case("jembric-cli")]
#[case("jembric-cluster")]
fn a_room_imports_only_those_before_it(#[case] directory: &str) {
    let order = order(directory);
    let (name, inside) = directory.split_once('/').unwrap_or((directory, ""));
    let of_module: Vec<String> =
        inside.split('/').filter(|part| !part.is_empty()).map(str::to_owned).collect();
    let source = repository().join("crates").join(name).join("src").join(inside);
    let mut found = Vec::new();
    files(&source, &of_module, &mut found);
    let mut rooms = BTreeSet::new();
    for (modules, text) in &found {
        let room = &modules[of_module.len()];
        if ["lib", "main", "sample"].contains(&room.as_str()) {
            continue;
        }
        rooms.insert(room.clone());
        let place = order.iter().position(|listed| listed == room);
        let place = place.unwrap_or_else(|| panic!("DESIGN.md does not list {directory}: {room}"));
        for import in imports(modules, &code(text), &of_module) {
            let above = order[place + 1..].contains(&import);
            assert!(
                !above,
                "{directory}: {} imports {import}, which is above it",
                modules.join("/")
            );
        }
    }
    let listed: BTreeSet<String> = order.into_iter().collect();
    assert_eq!(listed, rooms, "DESIGN.md lists the rooms of {directory}");
}

/// The reading of the `use` lines itself.
#[rstest]
#[case("a", "use crate::{b::C, d::{self, E}, f};\nlet x = crate::g::h();", &["b", "d", "f", "g"])]
#[case("a", "use super::b;", &["b"])]
#[case("a/c", "use super::b;\nuse super::super::d::E;", &["d"])]
#[case("a", "// use crate::b;\n#[cfg(test)]\nmod tests {\n use crate::b; }", &[])]
fn the_imports_of_a_file(#[case] file: &str, #[case] text: &str, #[case] expected: &[&str]) {
    let modules: Vec<String> = file.split('/').map(str::to_owned).collect();
    let found = imports(&modules, &code(&format!("\n{text}")), &[]);
    assert_eq!(found.iter().map(String::as_str).collect::<Vec<_>>(), expected);
}
