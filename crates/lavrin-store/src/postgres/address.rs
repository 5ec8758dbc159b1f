//! Where a database is and how one signs in, as everybody knows it from `libpq`: an address, the usual environment, a service file, a
//! file of passwords. What the address leaves open is filled from there; no password is ever part of a register.

use crate::fault::{DatabaseFault, StoreResult};
use std::collections::BTreeMap;
use std::fs::Metadata;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};
use std::time::Duration;
use tokio_postgres::Config;
use tokio_postgres::config::{Host, SslMode};

/// Where Debian's server listens, and the port.
const SOCKET: &str = "/var/run/postgresql";
const PORT: u16 = 5432;

/// How long a server is waited for until it answers.
const CONNECT: Duration = Duration::from_secs(10);

/// What is known of the parameters that this program reads itself.
const OWN: [&str; 7] = ["sslmode", "sslrootcert", "sslcert", "sslkey", "passfile", "service", "connect_timeout"];

/// How far the server's certificate is trusted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum TlsMode {
    /// The line is not encrypted: a socket of this machine, or somebody asked for it.
    Off,
    /// Encrypted where the server can.
    Prefer,
    /// Encrypted; the certificate is not looked at.
    Require,
    /// The certificate comes from the known authority, whatever name is in it.
    Authority,
    /// The certificate comes from the known authority and is for this host.
    Full,
}

const MODES: [(&str, TlsMode); 5] = [
    ("disable", TlsMode::Off),
    ("prefer", TlsMode::Prefer),
    ("require", TlsMode::Require),
    ("verify-ca", TlsMode::Authority),
    ("verify-full", TlsMode::Full),
];

/// How a database is reached.
#[derive(Debug)]
pub(super) struct Address {
    /// For the client; never shown, since it holds a password.
    pub config: Config,
    pub mode: TlsMode,
    /// The certificates of the authorities, and the client's own with its private half.
    pub authorities: Option<PathBuf>,
    pub own: Option<(PathBuf, PathBuf)>,
}

/// What the user's environment gives.
pub(super) struct Surroundings<'a> {
    pub variable: &'a dyn Fn(&str) -> Option<String>,
    pub home: Option<PathBuf>,
}

impl Address {
    /// Of an address of the register, completed by the environment.
    ///
    /// # Errors
    /// [`DatabaseFault::Address`] where it cannot be one.
    pub(super) fn of(url: &str, around: &Surroundings<'_>) -> StoreResult<Self> {
        let odd = |said: String| DatabaseFault::Address { url: url.to_owned(), said };
        let (place, query) = url.split_once('?').unwrap_or((url, ""));
        let mut own: BTreeMap<String, String> = BTreeMap::new();
        let mut rest = Vec::new();
        for pair in query.split('&').filter(|pair| !pair.is_empty()) {
            let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
            if OWN.contains(&name) {
                let value = decoded(value).ok_or_else(|| odd(format!("{name} does not read")))?;
                own.insert(name.to_owned(), value);
            } else {
                rest.push(pair);
            }
        }
        let plain = if rest.is_empty() { place.to_owned() } else { format!("{place}?{}", rest.join("&")) };
        let mut config: Config = plain.parse().map_err(|error: tokio_postgres::Error| odd(said(&error)))?;
        let service = own.get("service").cloned().or_else(|| (around.variable)("PGSERVICE"));
        if let Some(name) = service {
            let found = service_of(&name, around).ok_or_else(|| odd(format!("no service file knows '{name}'")))?;
            for (key, value) in found {
                apply(&mut config, &key, &value, &mut own).map_err(odd)?;
            }
        }
        for (variable, key) in [
            ("PGHOST", "host"),
            ("PGPORT", "port"),
            ("PGUSER", "user"),
            ("PGDATABASE", "dbname"),
            ("PGSSLMODE", "sslmode"),
            ("PGSSLROOTCERT", "sslrootcert"),
            ("PGSSLCERT", "sslcert"),
            ("PGSSLKEY", "sslkey"),
            ("PGCONNECT_TIMEOUT", "connect_timeout"),
        ] {
            if let Some(value) = (around.variable)(variable) {
                apply(&mut config, key, &value, &mut own).map_err(odd)?;
            }
        }
        if config.get_hosts().is_empty() {
            config.host_path(SOCKET);
        }
        if config.get_user().is_none() {
            let user = (around.variable)("USER").ok_or_else(|| odd("it names no user".to_owned()))?;
            config.user(user);
        }
        let is_socket = config.get_hosts().iter().all(|host| matches!(host, Host::Unix(_)));
        let mode = match own.get("sslmode") {
            _ if is_socket => TlsMode::Off,
            None => TlsMode::Full,
            Some(word) => MODES
                .iter()
                .find(|(name, _)| name == word)
                .map(|(_, mode)| *mode)
                .ok_or_else(|| odd(format!("sslmode is one of {}", MODES.map(|(name, _)| name).join(", "))))?,
        };
        config.ssl_mode(match mode {
            TlsMode::Off => SslMode::Disable,
            TlsMode::Prefer => SslMode::Prefer,
            _ => SslMode::Require,
        });
        let seconds = own.get("connect_timeout").and_then(|text| text.parse().ok()).filter(|seconds| *seconds > 0);
        config.connect_timeout(seconds.map_or(CONNECT, Duration::from_secs)).application_name("lavrin");
        if config.get_password().is_none() {
            let file = own.get("passfile").cloned().or_else(|| (around.variable)("PGPASSFILE")).map(PathBuf::from);
            let file = file.or_else(|| Some(around.home.as_ref()?.join(".pgpass")));
            let password = (around.variable)("PGPASSWORD").or_else(|| password_of(&file?, &config));
            if let Some(password) = password {
                config.password(password);
            }
        }
        let usual = |name: &str| {
            let path = around.home.as_ref()?.join(".postgresql").join(name);
            path.is_file().then_some(path)
        };
        let file = |key: &str, name: &str| own.get(key).map(PathBuf::from).or_else(|| usual(name));
        Ok(Self {
            config,
            mode,
            authorities: file("sslrootcert", "root.crt"),
            own: file("sslcert", "postgresql.crt").zip(file("sslkey", "postgresql.key")),
        })
    }
}

/// Fills in what the address left open.
fn apply(config: &mut Config, key: &str, value: &str, own: &mut BTreeMap<String, String>) -> Result<(), String> {
    match key {
        "host" if config.get_hosts().is_empty() => {
            config.host(value);
        }
        "port" if config.get_ports().is_empty() => {
            config.port(value.parse().map_err(|_| format!("'{value}' is no port"))?);
        }
        "user" if config.get_user().is_none() => {
            config.user(value);
        }
        "dbname" if config.get_dbname().is_none() => {
            config.dbname(value);
        }
        "host" | "port" | "user" | "dbname" => {}
        "password" => {
            config.password(value);
        }
        key if OWN.contains(&key) => {
            own.entry(key.to_owned()).or_insert_with(|| value.to_owned());
        }
        other => return Err(format!("'{other}' of its service is not known here")),
    }
    Ok(())
}

/// The lines of a service, from the user's file or the system's.
fn service_of(name: &str, around: &Surroundings<'_>) -> Option<Vec<(String, String)>> {
    let own = (around.variable)("PGSERVICEFILE").map(PathBuf::from);
    let own = own.or_else(|| Some(around.home.as_ref()?.join(".pg_service.conf")));
    let system = (around.variable)("PGSYSCONFDIR").map_or_else(|| "/etc/postgresql-common".into(), PathBuf::from);
    [own, Some(system.join("pg_service.conf"))].into_iter().flatten().find_map(|path| {
        let text = std::fs::read_to_string(path).ok()?;
        let mut lines = text.lines().map(str::trim).skip_while(|line| *line != format!("[{name}]"));
        lines.next()?;
        let lines = lines.take_while(|line| !line.starts_with('['));
        let pairs =
            lines.filter(|line| !line.is_empty() && !line.starts_with('#')).filter_map(|line| line.split_once('='));
        Some(pairs.map(|(key, value)| (key.trim().to_owned(), value.trim().to_owned())).collect())
    })
}

/// The password for this database from a file of lines `host:port:database:user:password`. A file that others may read is passed over.
fn password_of(path: &Path, config: &Config) -> Option<String> {
    let is_private = |meta: &Metadata| meta.is_file() && (meta.mode() & 0o777).trailing_zeros() >= 6;
    std::fs::metadata(path).ok().filter(is_private)?;
    let text = std::fs::read_to_string(path).ok()?;
    let port = config.get_ports().first().copied().unwrap_or(PORT).to_string();
    let user = config.get_user().unwrap_or_default();
    let host = match config.get_hosts().first()? {
        Host::Tcp(name) => name.clone(),
        Host::Unix(path) if path == Path::new(SOCKET) => "localhost".to_owned(),
        Host::Unix(path) => path.display().to_string(),
    };
    let wanted = [host.as_str(), &port, config.get_dbname().unwrap_or(user), user];
    text.lines().filter(|line| !line.starts_with('#')).find_map(|line| {
        let fields = fields(line);
        let fits =
            fields.len() == 5 && fields.iter().zip(wanted).all(|(field, wanted)| field == "*" || field == wanted);
        fits.then(|| fields[4].clone())
    })
}

/// The fields of a line; a backslash takes the next character as it is.
fn fields(line: &str) -> Vec<String> {
    let mut fields = vec![String::new()];
    let mut characters = line.chars();
    while let Some(character) = characters.next() {
        match character {
            ':' if fields.len() < 5 => fields.push(String::new()),
            '\\' => fields.last_mut().into_iter().for_each(|field| field.extend(characters.next())),
            other => fields.last_mut().into_iter().for_each(|field| field.push(other)),
        }
    }
    fields
}

/// A value of an address, without its `%` signs.
fn decoded(text: &str) -> Option<String> {
    let (mut bytes, mut rest) = (Vec::new(), text.as_bytes());
    while let Some((first, tail)) = rest.split_first() {
        if *first == b'%' {
            let digits = std::str::from_utf8(tail.get(..2)?).ok()?;
            bytes.push(u8::from_str_radix(digits, 16).ok()?);
            rest = &tail[2..];
        } else {
            bytes.push(*first);
            rest = tail;
        }
    }
    String::from_utf8(bytes).ok()
}

/// What an error says, with what lies below it.
pub(super) fn said(error: &(dyn std::error::Error + 'static)) -> String {
    let mut said = vec![error.to_string()];
    let mut source = error.source();
    while let Some(error) = source {
        if !said.iter().any(|before| before.contains(&error.to_string())) {
            said.push(error.to_string());
        }
        source = error.source();
    }
    said.join(": ")
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt as _;

    fn address(url: &str, variables: &[(&str, &str)], home: &Path) -> StoreResult<Address> {
        let variable =
            |name: &str| variables.iter().find(|(own, _)| *own == name).map(|(_, value)| (*value).to_owned());
        Address::of(url, &Surroundings { variable: &variable, home: Some(home.to_owned()) })
    }

    #[test]
    fn what_the_address_leaves_open_comes_from_the_usual_places() {
        let home = tempfile::tempdir().unwrap();
        let of = |url: &str, variables: &[(&str, &str)]| address(url, variables, home.path()).unwrap();
        let plain = of("postgresql:///lights", &[("USER", "edda")]);
        assert_eq!(plain.config.get_hosts(), [Host::Unix(SOCKET.into())]);
        assert_eq!((plain.config.get_user(), plain.config.get_dbname()), (Some("edda"), Some("lights")));
        assert_eq!(plain.mode, TlsMode::Off);
        let far = of("postgresql://sten@db.example:6000/lights", &[("PGUSER", "edda"), ("PGHOST", "192.0.2.1")]);
        assert_eq!((far.config.get_user(), far.config.get_ports()), (Some("sten"), &[6000][..]));
        assert_eq!(far.mode, TlsMode::Full);
        assert_eq!(of("postgresql://sten@db.example/l?sslmode=require", &[]).mode, TlsMode::Require);
        assert_eq!(of("postgresql://sten@db.example/l", &[("PGSSLMODE", "verify-ca")]).mode, TlsMode::Authority);
        let service = home.path().join(".pg_service.conf");
        std::fs::write(&service, "[other]\nhost=192.0.2.9\n[lights]\nhost=db.example\nport=6001\nuser=liv\n").unwrap();
        let by_service = of("postgresql://?service=lights", &[("USER", "edda")]);
        assert_eq!(by_service.config.get_hosts(), [Host::Tcp("db.example".to_owned())]);
        assert_eq!((by_service.config.get_user(), by_service.config.get_ports()), (Some("liv"), &[6001][..]));
    }

    #[test]
    fn what_names_no_store_is_told() {
        let home = tempfile::tempdir().unwrap();
        for (url, part) in [
            ("postgresql://sten@db.example/l?sslmode=maybe", "sslmode is one of"),
            ("postgresql://sten@db.example/l?colour=red", "colour"),
            ("postgresql:///lights", "names no user"),
            ("postgresql://sten@db.example/l?service=none", "no service file"),
        ] {
            let fault = address(url, &[], home.path()).unwrap_err().to_string();
            assert!(fault.contains(part), "{url}: {fault}");
        }
    }

    #[test]
    fn a_password_comes_from_a_file_that_nobody_else_reads() {
        let home = tempfile::tempdir().unwrap();
        let file = home.path().join(".pgpass");
        std::fs::write(&file, "db.example:*:other:sten:no\ndb.example:5432:lights:sten:a\\:b\\\\c\n").unwrap();
        let mode = |mode| std::fs::set_permissions(&file, std::fs::Permissions::from_mode(mode)).unwrap();
        let password = || {
            let address = address("postgresql://sten@db.example/lights", &[], home.path()).unwrap();
            address.config.get_password().map(<[u8]>::to_vec)
        };
        mode(0o600);
        assert_eq!(password().as_deref(), Some(&b"a:b\\c"[..]));
        mode(0o640);
        assert_eq!(password(), None);
    }
}
