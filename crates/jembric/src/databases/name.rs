//! Names of databases and their tables: `harbour.sqlite:stays`, and connection URIs such as
//! `postgresql://localhost/harbour:stays`.

use crate::uri::{Uri, is_uri, looks_like_uri, shown_name};
use std::{
    fmt,
    fs::File,
    io::Read,
    path::{Path, PathBuf},
};

/// The first bytes of a SQLite file.
const MAGIC: &[u8; 16] = b"SQLite format 3\0";

/// The file extensions of SQLite databases that need not exist yet.
const EXTENSIONS: [&str; 3] = ["sqlite", "sqlite3", "db"];

/// Where a database is.
#[derive(Clone, PartialEq, Eq, Hash)]
pub(crate) enum Place {
    /// A SQLite file.
    File(PathBuf),
    /// A connection URI of a PostgreSQL server, with its password if it has one.
    Uri(String),
}

/// The name of a database, perhaps with one of its tables.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Name {
    pub(crate) place: Place,
    pub(crate) table: Option<String>,
}

impl fmt::Debug for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Place").field(&self.shown()).finish()
    }
}

impl Place {
    /// The name for messages, without a password.
    pub(crate) fn shown(&self) -> String {
        match self {
            Place::File(path) => path.display().to_string(),
            Place::Uri(uri) => shown_name(uri),
        }
    }
}

impl Name {
    /// Parses the name of an input; none if it is not that of a database.
    pub(crate) fn of_input(text: &str) -> Option<Name> {
        Name::parse(text, is_sqlite)
    }

    /// Parses the name of an output, which is that of a database also if the file does not exist
    /// and has the extension of one.
    pub(crate) fn of_output(text: &str) -> Option<Name> {
        Name::parse(text, |path| is_sqlite(path) || is_database_extension(path) && is_new(path))
    }

    fn parse(text: &str, is_database: impl Fn(&Path) -> bool) -> Option<Name> {
        if is_uri(text) {
            // What is wrong with a URI is told when it is opened.
            return Some(match Uri::parse(text) {
                Ok(uri) => Name {
                    place: Place::Uri(uri.for_client(uri.hosts, &[])),
                    table: uri.table.map(str::to_owned),
                },
                Err(_) => Name { place: Place::Uri(text.to_owned()), table: None },
            });
        }
        if is_database(Path::new(text)) {
            return Some(Name { place: Place::File(text.into()), table: None });
        }
        // Tables may have colons in their names, and so may files.
        text.match_indices(':').find_map(|(colon, _)| {
            let (file, table) = (&text[..colon], &text[colon + 1..]);
            let is_name = !file.is_empty() && !table.is_empty() && is_database(Path::new(file));
            is_name.then(|| Name { place: Place::File(file.into()), table: Some(table.to_owned()) })
        })
    }

    /// The name for messages, without a password.
    pub(crate) fn shown(&self) -> String {
        match &self.table {
            Some(table) => format!("{}:{table}", self.place.shown()),
            None => self.place.shown(),
        }
    }
}

/// The path of an input or output that is relative to a directory. A connection URI is unchanged,
/// also a mistyped one.
pub fn name_in(directory: &Path, name: &str) -> String {
    if looks_like_uri(name).is_some() || directory.as_os_str().is_empty() {
        name.to_owned()
    } else {
        directory.join(name).display().to_string()
    }
}

/// Whether an input is a database, or a table of one.
pub fn is_database(name: &str) -> bool {
    Name::of_input(name).is_some()
}

/// The database of an input, without the table: the input itself if it is not one of a database.
pub fn database_of(name: &str) -> String {
    match Name::of_input(name) {
        Some(Name { place: Place::File(path), .. }) => path.display().to_string(),
        Some(Name { place: Place::Uri(uri), .. }) => uri,
        None => name.to_owned(),
    }
}

/// Whether an output is a table of a database.
pub fn is_database_output(name: impl AsRef<Path>) -> bool {
    name.as_ref().to_str().is_some_and(|name| Name::of_output(name).is_some())
}

/// The table of an input, if it is one of a database.
///
/// The input may be relative to another directory than that of the process, so the extension of a
/// file suffices.
pub(crate) fn table_of(name: &str) -> Option<String> {
    // A name without a colon has no table, so its file need not be opened.
    let is_database = |path: &Path| is_database_extension(path) || is_sqlite(path);
    name.contains(':').then(|| Name::parse(name, is_database)).flatten()?.table
}

/// Whether a file is a SQLite database. An empty file is one without tables if it has the extension
/// of one.
fn is_sqlite(path: &Path) -> bool {
    let Ok(about) = path.metadata() else { return false };
    if !about.is_file() {
        return false;
    }
    let mut first = [0; 16];
    let read = File::open(path).and_then(|mut file| file.read_exact(&mut first));
    read.is_ok() && first == *MAGIC || about.len() == 0 && is_database_extension(path)
}

fn is_database_extension(path: &Path) -> bool {
    let extension = path.extension().map(|extension| extension.to_string_lossy().to_lowercase());
    extension.is_some_and(|extension| EXTENSIONS.contains(&extension.as_str()))
}

fn is_new(path: &Path) -> bool {
    path.symlink_metadata().is_err()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("postgresql://localhost/harbour:stays", "postgresql://localhost/harbour", Some("stays"))]
    #[case("postgres://a:b@h:5432/d:public.stays", "postgres://a:b@h:5432/d", Some("public.stays"))]
    #[case("postgresql://h/d?sslmode=require:s", "postgresql://h/d?sslmode=require", Some("s"))]
    #[case("postgresql:///d?host=/run:s:t", "postgresql:///d?host=/run", Some("s:t"))]
    #[case("postgresql://a:b c@h:1/d:t", "postgresql://a:b c@h:1/d", Some("t"))]
    #[case("postgresql://a:b/c@h:1/d:t", "postgresql://a:b/c@h:1/d:t", None)]
    #[case("postgresql://h:5432/d", "postgresql://h:5432/d", None)]
    #[case("postgresql://h:5432", "postgresql://h:5432", None)]
    #[case("postgresql://h/d:", "postgresql://h/d", None)]
    fn a_uri_may_have_a_table_behind_it(
        #[case] text: &str,
        #[case] uri: &str,
        #[case] table: Option<&str>,
    ) {
        let name = Name::of_input(text).unwrap();
        assert_eq!(name.place, Place::Uri(uri.to_owned()));
        assert_eq!(name.table.as_deref(), table);
    }

    #[test]
    fn a_file_is_a_database_by_its_first_bytes_and_an_output_also_by_its_extension() {
        let directory = tempfile::tempdir().unwrap();
        let path = |name: &str| directory.path().join(name).display().to_string();
        std::fs::write(path("a:b.csv"), "a\n").unwrap();
        std::fs::write(path("data"), b"SQLite format 3\0...").unwrap();
        assert_eq!(Name::of_input(&path("a:b.csv")), None);
        assert_eq!(Name::of_input(&path("new.sqlite:t")), None);
        let table = |name: Option<Name>| name.and_then(|name| name.table);
        assert_eq!(table(Name::of_input(&path("data:t:u"))).as_deref(), Some("t:u"));
        assert_eq!(Name::of_input(&path("data")).unwrap().table, None);
        assert_eq!(table(Name::of_output(&path("new.DB:t"))).as_deref(), Some("t"));
        assert_eq!(Name::of_output(&path("new.csv:t")), None);
        assert_eq!(table_of("elsewhere/harbour.sqlite:stays").as_deref(), Some("stays"));
        assert_eq!(table_of("elsewhere/stays.csv:t"), None);
        assert_eq!(name_in(directory.path(), "postgres://h/d:t"), "postgres://h/d:t");
        assert_eq!(name_in(directory.path(), "data"), path("data"));
    }
}
