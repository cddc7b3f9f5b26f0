//! Connections, as a URI and the environment say.

use super::{
    cancel::{self, Cancellable},
    passwords::password_of,
    server_errors,
    tls::{self, Tls, Verification},
};
use crate::{
    Result,
    databases::failed,
    uri::{Uri, shown_name},
};
use postgres::{
    Client, Config, CopyInWriter, CopyOutReader, Row, Statement,
    config::{Host, SslMode},
    types::ToSql,
};
use std::{
    cell::{RefCell, RefMut},
    env, fmt,
    path::Path,
    time::Duration,
};

/// How long to wait for a server, unless the URI says otherwise.
const PATIENCE: Duration = Duration::from_secs(10);

/// The directory of the socket of a server on the same machine, where Debian has it.
const SOCKETS: &str = "/var/run/postgresql";

/// A connection.
pub(super) struct Connection {
    name: String,
    user: String,
    client: Client,
    /// It can be cancelled as long as this exists.
    _cancellable: Cancellable,
}

impl fmt::Debug for Connection {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Connection").field(&self.name).finish()
    }
}

/// A connection that a source uses, whose methods do not change the source.
pub(super) struct Shared<'a> {
    name: String,
    connection: RefCell<&'a mut Connection>,
}

impl<'a> Shared<'a> {
    pub(super) fn name(&self) -> &str {
        &self.name
    }

    pub(super) fn borrow(&self) -> RefMut<'_, &'a mut Connection> {
        self.connection.borrow_mut()
    }
}

/// The parameters that we use ourselves, because the client does not know them.
const OURS: [&str; 3] = ["sslmode", "sslrootcert", "passfile"];

/// The hosts, each of which has this port if it has none.
fn with_port(hosts: &str, port: u16) -> String {
    let host = |host: &str| {
        // The colons of an IPv6 address are in brackets.
        let has_port = host.rsplit(']').next().is_some_and(|behind| behind.contains(':'));
        if has_port || host.is_empty() { host.to_owned() } else { format!("{host}:{port}") }
    };
    hosts.split(',').map(host).collect::<Vec<String>>().join(",")
}

/// What a connection needs.
struct Settings {
    config: Config,
    verification: Verification,
    root_certificates: Option<String>,
}

impl Settings {
    /// The settings of a URI. What it does not say, the standard variables say, and then the
    /// defaults of the standard client.
    fn from_uri(uri: &str, variable: &dyn Fn(&str) -> Option<String>) -> Result<Settings> {
        const FORM: &str = "It is written like \
                            postgresql://user@host:5432/database?sslmode=require, with special \
                            characters as %20 and so on";
        let name = shown_name(uri);
        let invalid = |problem: String, advice: &str| failed(&name, problem, advice);
        let is_invalid =
            |problem: &str| invalid(format!("the connection URI is invalid: {problem}"), FORM);
        let uri = Uri::parse(uri).map_err(|problem| is_invalid(&problem))?;
        let decoded = |text: &str| {
            percent_encoding::percent_decode_str(text).decode_utf8_lossy().into_owned()
        };
        let of_uri = |wanted: &str| uri.parameter(wanted).map(decoded);
        let number = |name: &str| -> Result<Option<u64>> {
            let Some(text) = variable(name) else { return Ok(None) };
            let number = text.parse().map_err(|_| {
                invalid(format!("the variable {name} is `{text}`"), "Set it to a whole number")
            });
            number.map(Some)
        };
        let port = number("PGPORT")?.map(|port| {
            u16::try_from(port).map_err(|_| {
                invalid(format!("the variable PGPORT is `{port}`"), "Set it to a port")
            })
        });
        let port = port.transpose()?;
        let hosts = port.map_or(uri.hosts.to_owned(), |port| with_port(uri.hosts, port));
        let plain = uri.for_client(&hosts, &OURS);
        let mut config: Config = plain
            .parse()
            .map_err(|error: postgres::Error| is_invalid(&server_errors::reason(&error)))?;
        if config.get_hosts().is_empty() && config.get_hostaddrs().is_empty() {
            let host = variable("PGHOST").unwrap_or_else(|| {
                if Path::new(SOCKETS).is_dir() {
                    SOCKETS.to_owned()
                } else {
                    "localhost".to_owned()
                }
            });
            config.host(&host);
        }
        if config.get_ports().is_empty()
            && let Some(port) = port
        {
            config.port(port);
        }
        identify(&mut config, variable);
        if config.get_options().is_none()
            && let Some(options) = variable("PGOPTIONS")
        {
            config.options(&options);
        }
        if config.get_application_name().is_none() {
            config.application_name(variable("PGAPPNAME").as_deref().unwrap_or("jembric"));
        }
        if config.get_connect_timeout().is_none() {
            let seconds = number("PGCONNECT_TIMEOUT")?.filter(|seconds| *seconds > 0);
            config.connect_timeout(seconds.map_or(PATIENCE, Duration::from_secs));
        }
        let mode = of_uri("sslmode").or_else(|| variable("PGSSLMODE"));
        let root_certificates = of_uri("sslrootcert").or_else(|| variable("PGSSLROOTCERT"));
        let mode = mode.as_deref().unwrap_or("prefer");
        let (mode, verification) =
            encryption(mode, root_certificates.is_some()).ok_or_else(|| {
                invalid(
                    format!("there is no sslmode `{mode}`"),
                    "Choose disable, allow, prefer, require, verify-ca or verify-full",
                )
            })?;
        config.ssl_mode(mode);
        if config.get_password().is_none() {
            let file = of_uri("passfile").filter(|file| !file.is_empty());
            let file = file.or_else(|| variable("PGPASSFILE"));
            let password =
                variable("PGPASSWORD").or_else(|| password_of(&config, file.as_deref(), variable));
            if let Some(password) = password {
                config.password(password);
            }
        }
        Ok(Settings { config, verification, root_certificates })
    }
}

/// Sets the user and the database, if the URI does not.
fn identify(config: &mut Config, variable: &dyn Fn(&str) -> Option<String>) {
    let user = config.get_user().map(str::to_owned);
    let user = user
        .or_else(|| variable("PGUSER"))
        .or_else(|| variable("USER"))
        .or_else(|| variable("LOGNAME"));
    if let Some(user) = &user {
        config.user(user);
    }
    if config.get_dbname().is_none()
        && let Some(database) = variable("PGDATABASE").or_else(|| user.clone())
    {
        config.dbname(&database);
    }
}

/// How a connection is encrypted and verified in a mode; none if there is no such mode.
fn encryption(mode: &str, has_root_certificates: bool) -> Option<(SslMode, Verification)> {
    Some(match mode {
        "disable" => (SslMode::Disable, Verification::None),
        "allow" | "prefer" => (SslMode::Prefer, Verification::None),
        // With root certificates, this has always verified.
        "require" if has_root_certificates => (SslMode::Require, Verification::Issuer),
        "require" => (SslMode::Require, Verification::None),
        "verify-ca" => (SslMode::Require, Verification::Issuer),
        "verify-full" => (SslMode::Require, Verification::Full),
        _ => return None,
    })
}

/// The hosts of a configuration, for messages.
fn hosts(config: &Config) -> String {
    let port = |n: usize| {
        config.get_ports().get(n).or(config.get_ports().first()).copied().unwrap_or(5432)
    };
    let host = |(n, host): (usize, &Host)| match host {
        Host::Tcp(host) if host.contains(':') => format!("[{host}]:{}", port(n)),
        Host::Tcp(host) => format!("{host}:{}", port(n)),
        #[cfg(unix)]
        Host::Unix(directory) => format!("{}, port {}", directory.display(), port(n)),
    };
    let hosts: Vec<String> = config.get_hosts().iter().enumerate().map(host).collect();
    hosts.join(" or ")
}

impl Connection {
    /// Connects to a server.
    ///
    /// Errors: the URI is invalid; no server answers; it refuses the user, the password or the
    /// database; its certificate is not trusted.
    pub(super) fn open(uri: &str) -> Result<Connection> {
        let name = shown_name(uri);
        let variable = |name: &str| env::var(name).ok().filter(|value| !value.is_empty());
        let Settings { config, verification, root_certificates } =
            Settings::from_uri(uri, &variable)?;
        let tls: Tls = tls::connector(verification, root_certificates.as_deref())
            .map_err(|problem| failed(&name, problem, "Correct `sslrootcert`"))?;
        let user = config.get_user().unwrap_or("the user of this process").to_owned();
        let client = config.connect(tls.clone()).map_err(|error| {
            server_errors::of_connection(&name, &hosts(&config), &user, &config, &error)
        })?;
        let cancellable = cancel::register(client.cancel_token(), tls);
        Ok(Connection { name, user, client, _cancellable: cancellable })
    }

    /// The URI without a password.
    pub(super) fn name(&self) -> &str {
        &self.name
    }

    pub(super) fn user(&self) -> &str {
        &self.user
    }

    pub(super) fn shared(&mut self) -> Shared<'_> {
        Shared { name: self.name.clone(), connection: RefCell::new(self) }
    }

    fn explained<T>(&self, result: std::result::Result<T, postgres::Error>) -> Result<T> {
        result.map_err(|error| server_errors::of_statement(&self.name, &self.user, &error))
    }

    pub(super) fn execute(&mut self, sql: &str) -> Result<()> {
        let result = self.client.batch_execute(sql);
        self.explained(result)
    }

    pub(super) fn query(
        &mut self,
        sql: &str,
        parameters: &[&(dyn ToSql + Sync)],
    ) -> Result<Vec<Row>> {
        let result = self.client.query(sql, parameters);
        self.explained(result)
    }

    pub(super) fn prepare(&mut self, sql: &str) -> Result<Statement> {
        let result = self.client.prepare(sql);
        self.explained(result)
    }

    pub(super) fn copy_out(&mut self, sql: &str) -> Result<CopyOutReader<'_>> {
        let (name, user) = (&self.name, &self.user);
        self.client.copy_out(sql).map_err(|error| server_errors::of_statement(name, user, &error))
    }

    pub(super) fn copy_in(&mut self, sql: &str) -> Result<CopyInWriter<'_>> {
        let (name, user) = (&self.name, &self.user);
        self.client.copy_in(sql).map_err(|error| server_errors::of_statement(name, user, &error))
    }
}

#[cfg(test)]
mod tests;
