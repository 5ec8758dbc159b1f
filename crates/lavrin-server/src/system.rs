//! The system: what was seen, the server's configuration taken apart, and what runs the logins. All judges take it.

use crate::account::Account;
use crate::server_config::switches::Switches;
use crate::server_config::{Config, Settings};
use crate::survey::Observation;
use lavrin_keys::key::container::line::KnownKeys;
use lavrin_keys::keysfile::{Dialect, KeysFile};
use lavrin_keys::version::Version;
use std::ops::Deref;
use std::sync::{Arc, Mutex, OnceLock};

/// Where the bytes of a key file are, and how it was read.
type LastFile = ((usize, usize), Arc<KeysFile>);

/// What was seen of a system, with its configuration taken apart when somebody first asks for a setting. It borrows the
/// observation: nothing new can be seen while something is judged, so what was taken apart is never out of date.
#[derive(Debug)]
pub struct System<'a> {
    seen: &'a Observation,
    config: OnceLock<Arc<Config>>,
    /// Whether the configuration was taken apart before, from everything that there is of it.
    is_config_whole: bool,
    said: OnceLock<Arc<Settings>>,
    dialect: OnceLock<Dialect>,
    switches: OnceLock<Switches>,
    known: Option<&'a KnownKeys>,
    last: Mutex<Option<LastFile>>,
}

impl<'a> System<'a> {
    /// The system that was seen.
    #[must_use]
    pub fn of(seen: &'a Observation) -> Self {
        Self {
            seen,
            config: OnceLock::new(),
            is_config_whole: false,
            said: OnceLock::new(),
            dialect: OnceLock::new(),
            switches: OnceLock::new(),
            known: None,
            last: Mutex::new(None),
        }
    }

    /// One account of a system whose configuration is known already.
    #[must_use]
    pub fn sharing(seen: &'a Observation, config: Arc<Config>) -> Self {
        Self { seen, config: OnceLock::from(config), is_config_whole: true, ..Self::of(seen) }
    }

    /// Whether no file of the configuration has to be looked at any more.
    pub(crate) fn has_whole_config(&self) -> bool {
        self.is_config_whole
    }

    /// The same; keys that were read before are not read again.
    #[must_use]
    pub fn knowing(self, known: &'a KnownKeys) -> Self {
        Self { known: Some(known), ..self }
    }

    /// The keys that were read before.
    #[must_use]
    pub fn known(&self) -> Option<&'a KnownKeys> {
        self.known
    }

    /// What was seen.
    #[must_use]
    pub fn observation(&self) -> &'a Observation {
        self.seen
    }

    /// The server's configuration.
    #[must_use]
    pub fn config(&self) -> &Arc<Config> {
        self.config.get_or_init(|| Arc::new(Config::of(self.seen)))
    }

    /// The switches that dropbear is started with.
    #[must_use]
    pub fn switches(&self) -> &Switches {
        self.switches.get_or_init(|| Switches::of(self.seen))
    }

    /// How its server reads key files.
    #[must_use]
    pub fn dialect(&self) -> &Dialect {
        let new = || Dialect { version: self.openssh_version(), services: self.services() };
        self.dialect.get_or_init(new)
    }

    /// A key file as its server reads it.
    #[must_use]
    pub fn keys_file(&self, bytes: &[u8]) -> Arc<KeysFile> {
        let place = (bytes.as_ptr() as usize, bytes.len());
        let Ok(mut last) = self.last.lock() else { return self.read_file(bytes) };
        match &*last {
            // What was seen does not change while this looks at it; that the bytes are the same is looked at all the same.
            Some((known, file)) if *known == place && file.as_bytes() == bytes => file.clone(),
            _ => {
                let file = self.read_file(bytes);
                *last = Some((place, file.clone()));
                file
            }
        }
    }

    fn read_file(&self, bytes: &[u8]) -> Arc<KeysFile> {
        Arc::new(KeysFile::parse_knowing(bytes, self.dialect(), self.known))
    }

    /// The version by whose rules a file is read; those of new versions on a server that is no OpenSSH.
    fn openssh_version(&self) -> Version {
        if self.server.is_dropbear() { Dialect::default().version } else { self.server.rules() }
    }

    /// What is in force for a login: what the server itself said, else what its files say.
    #[must_use]
    pub fn settings(&self, account: &Account) -> Arc<Settings> {
        // Dropbear has no settings in files, and OpenSSH's do not concern it.
        if self.server.is_dropbear() {
            return Arc::default();
        }
        match &self.said_by_server {
            Some(said) => self.said.get_or_init(|| Arc::new(Settings::from_server(said, self.server.rules()))).clone(),
            None => self.config().of_account(account, self.seen),
        }
    }
}

impl Deref for System<'_> {
    type Target = Observation;

    fn deref(&self) -> &Observation {
        self.seen
    }
}
