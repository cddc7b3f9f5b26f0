//! [`Hosts`]: the list of the machines that run a routine together.

use jembric::{Error, Result};
use std::{fs, path::Path};

/// The addresses of all processes: on line N of the file, that of process N, counted from 0.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Hosts {
    /// The file, for messages.
    file: String,
    addresses: Vec<String>,
}

impl Hosts {
    /// Reads a list of hosts: a name or number of a machine and a port on each line, such as
    /// `harbour-1:7000`. Blank lines, and what follows a `#`, do not count.
    ///
    /// Errors: the file cannot be read; a line is no address; an address is there twice; there is
    /// none.
    pub fn file(path: &Path) -> Result<Hosts> {
        let file = path.display().to_string();
        let text = fs::read_to_string(path).map_err(|source| Error::Read {
            file: file.clone(),
            source,
            nearest: None,
        })?;
        Hosts::parse(&file, &text)
    }

    /// The addresses in the text of such a file.
    pub fn parse(file: &str, text: &str) -> Result<Hosts> {
        let mut addresses: Vec<(String, u64)> = Vec::new();
        for (number, line) in (1..).zip(text.lines()) {
            let address = line.split('#').next().unwrap_or_default().trim();
            if address.is_empty() {
                continue;
            }
            let wrong =
                |problem: String| Error::Line { file: file.to_owned(), line: number, problem };
            let parts = address.rsplit_once(':').filter(|(host, _)| !host.is_empty());
            let port = parts.and_then(|(_, port)| port.parse::<u16>().ok());
            if port.is_none_or(|port| port == 0) || address.contains(char::is_whitespace) {
                let expected = "expected a host and a port, such as `harbour-1:7000`";
                return Err(wrong(format!("`{address}` is not an address: {expected}")));
            }
            if let Some((_, before)) = addresses.iter().find(|(other, _)| *other == address) {
                return Err(wrong(format!(
                    "`{address}` is on line {before} as well: give each process an address of its \
                        own"
                )));
            }
            addresses.push((address.to_owned(), number));
        }
        if addresses.is_empty() {
            return Err(Error::Line {
                file: file.to_owned(),
                line: 1,
                problem:
                    "the list of hosts is empty: write the address of a process on each line, \
                          such as `harbour-1:7000`"
                        .to_owned(),
            });
        }
        let addresses = addresses.into_iter().map(|(address, _)| address).collect();
        Ok(Hosts { file: file.to_owned(), addresses })
    }

    /// The addresses, in the order of processes.
    pub fn addresses(&self) -> &[String] {
        &self.addresses
    }

    /// Errors: there is no line for this process.
    pub fn expect(&self, process: usize) -> Result<()> {
        match self.addresses.get(process) {
            Some(_) => Ok(()),
            None => Err(Error::Setting {
                setting: "process",
                value: format!("{process}, but {} has {} hosts", self.file, self.addresses.len()),
                expected: format!("a number from 0 to {}", self.addresses.len() - 1),
            }),
        }
    }

    /// A process, for messages: `process 2 (harbour-3:7000)`.
    pub fn name(&self, process: usize) -> String {
        format!("process {process} ({})", self.addresses[process])
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn each_line_is_the_address_of_a_process() {
        let text = "# the harbour\nharbour-1:7000\n\n  [::1]:7001  # this machine\r\n10.0.0.3:7000";
        let hosts = Hosts::parse("hosts.txt", text).unwrap();
        assert_eq!(hosts.addresses(), ["harbour-1:7000", "[::1]:7001", "10.0.0.3:7000"]);
        assert_eq!(hosts.name(2), "process 2 (10.0.0.3:7000)");
        assert!(hosts.expect(2).is_ok());
    }

    #[rstest]
    #[case::no_port("a:7000\nharbour-2", "hosts.txt: line 2: `harbour-2` is not an address")]
    #[case::no_number("harbour-2:http", "line 1: `harbour-2:http` is not an address")]
    #[case::no_host(":7000", "`:7000` is not an address: expected a host and a port")]
    #[case::port_zero("a:0", "`a:0` is not an address")]
    #[case::two_on_a_line("a:1 b:2", "`a:1 b:2` is not an address")]
    #[case::twice("a:1\nb:1\na:1", "hosts.txt: line 3: `a:1` is on line 1 as well")]
    #[case::none("# nobody\n", "hosts.txt: line 1: the list of hosts is empty: write the address")]
    fn a_wrong_list_is_an_error(#[case] text: &str, #[case] message: &str) {
        let error = Hosts::parse("hosts.txt", text).unwrap_err().to_string();
        assert!(error.contains(message), "{error}");
    }

    #[test]
    fn a_process_without_a_line_is_an_error() {
        let hosts = Hosts::parse("hosts.txt", "a:1\nb:1").unwrap();
        let error = hosts.expect(2).unwrap_err().to_string();
        assert_eq!(error, "`process`: 2, but hosts.txt has 2 hosts: expected a number from 0 to 1");
    }
}
