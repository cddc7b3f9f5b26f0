//! Passwords from the password file of the standard client.

use postgres::{Config, config::Host};
use std::{fs, path::PathBuf};

/// The password of a connection in the password file: that of the first line whose host, port,
/// database and user match. Like the standard client, a file that others can read is not used.
pub(super) fn password_of(
    config: &Config,
    file: Option<&str>,
    variable: &dyn Fn(&str) -> Option<String>,
) -> Option<String> {
    let path = file
        .map(PathBuf::from)
        .or_else(|| Some(PathBuf::from(variable("HOME")?).join(".pgpass")))?;
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        let about = fs::metadata(&path).ok()?;
        if !about.is_file() || about.permissions().mode() & 0o077 != 0 {
            return None;
        }
    }
    let text = fs::read_to_string(path).ok()?;
    let host = match config.get_hosts().first() {
        Some(Host::Tcp(host)) => host.clone(),
        _ => "localhost".to_owned(),
    };
    let port = config.get_ports().first().unwrap_or(&5432).to_string();
    let wanted =
        [host.as_str(), &port, config.get_dbname().unwrap_or(""), config.get_user().unwrap_or("")];
    text.lines().find_map(|line| matching(line, wanted))
}

/// The password of a line, if its other fields match.
fn matching(line: &str, wanted: [&str; 4]) -> Option<String> {
    if line.starts_with('#') {
        return None;
    }
    let fields = fields(line);
    let (last, first) = fields.split_last()?;
    let fits = first.len() == wanted.len()
        && first.iter().zip(wanted).all(|(field, wanted)| field == "*" || field == wanted);
    fits.then(|| last.clone())
}

/// The fields of a line, which colons separate. A backslash escapes a colon or a backslash.
fn fields(line: &str) -> Vec<String> {
    let mut fields = vec![String::new()];
    let mut characters = line.chars();
    while let Some(c) = characters.next() {
        match (c, fields.len()) {
            (':', ..5) => fields.push(String::new()),
            ('\\', _) => {
                fields.last_mut().into_iter().for_each(|field| field.extend(characters.next()))
            }
            (c, _) => fields.last_mut().into_iter().for_each(|field| field.push(c)),
        }
    }
    fields
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const WANTED: [&str; 4] = ["quay", "5432", "harbour", "ana"];

    #[rstest]
    #[case("quay:5432:harbour:ana:word", Some("word"))]
    #[case("*:*:*:ana:word", Some("word"))]
    #[case("*:*:*:*:a\\:b\\\\c:d", Some("a:b\\c:d"))]
    #[case("quay:5433:*:*:word", None)]
    #[case("#*:*:*:*:word", None)]
    #[case("word", None)]
    #[case("", None)]
    fn a_line_gives_its_password(#[case] line: &str, #[case] password: Option<&str>) {
        assert_eq!(matching(line, WANTED).as_deref(), password);
    }

    #[cfg(unix)]
    #[test]
    fn a_file_that_others_can_read_is_not_used() {
        use std::os::unix::fs::PermissionsExt;
        let file = tempfile::NamedTempFile::new().unwrap();
        fs::write(file.path(), "other:*:*:*:no\nquay:*:*:*:yes\n").unwrap();
        let config: Config = "postgresql://ana@quay/harbour".parse().unwrap();
        let password = || password_of(&config, file.path().to_str(), &|_| None);
        fs::set_permissions(file.path(), fs::Permissions::from_mode(0o600)).unwrap();
        assert_eq!(password().as_deref(), Some("yes"));
        fs::set_permissions(file.path(), fs::Permissions::from_mode(0o640)).unwrap();
        assert_eq!(password(), None);
    }
}
