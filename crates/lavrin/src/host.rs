//! Reaching a host: the options for it, and the care for a host key that is not known yet.

use crate::client_config::{self, ClientHost};
use crate::defaults;
use crate::error::{CommandError, host_fault, unspoken};
use crate::exit::Exit;
use crate::input::typed_fingerprint;
use crate::paths;
use crate::sign_in::SignInArgs;
use crate::ui::Ui;
use clap::{Args, ValueEnum};
use lavrin_fleet::register::{ReachKind, USUAL_LOGIN};
use lavrin_keys::hostkey::{KNOWN_HOSTS_BYTES_MAX, line_for};
use lavrin_keys::key::{Fingerprint, PublicKey};
use lavrin_reach::ssh::{ConnectFault, Target};
use lavrin_server::device::KeyPlaces;
use lavrin_work::register::OpenedRegister;
use lavrin_work::site::Site;
use lavrin_work::ways::{Rights, Stop, Unspoken, Way, WayFault, Ways, pins};
use std::io::{Read as _, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

/// The user's own file of known hosts.
const KNOWN_HOSTS: &str = "~/.ssh/known_hosts";

/// The port of SSH servers (RFC 4253, section 4).
const SSH_PORT: u16 = 22;

/// How long each step on a single host may take: signing in, a whole look. Each has shorter limits of its own within.
const STEP_LIMIT: Duration = Duration::from_mins(10);

/// How a host is spoken to.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum ReachArg {
    /// Over a shell behind SSH.
    Shell,
    /// Over NETCONF, by default on port 830.
    Netconf,
    /// Over the public key subsystem, for the account that signs in.
    PublickeySubsystem,
    /// Over nothing but the transfer of files.
    Sftp,
    /// Over a command line of its own, by a profile of the register.
    Dialogue,
}

impl ReachArg {
    pub fn kind(self) -> ReachKind {
        match self {
            Self::Shell => ReachKind::Shell,
            Self::Netconf => ReachKind::Netconf,
            Self::PublickeySubsystem => ReachKind::KeySubsystem,
            Self::Sftp => ReachKind::Sftp,
            Self::Dialogue => ReachKind::Dialogue,
        }
    }
}

/// How to reach a host and sign in there.
#[derive(Debug, Args, Clone)]
#[command(next_help_heading = crate::cli::CONNECTION)]
pub struct HostArgs {
    /// Port of the SSH server (default: from the register, else 22)
    #[arg(long, value_name = "PORT")]
    pub port: Option<u16>,
    /// How it is spoken to (default: from the register, else over a shell)
    #[arg(long, value_name = "REACH")]
    pub reach: Option<ReachArg>,
    #[command(flatten)]
    pub sign_in: SignInArgs,
    /// The fingerprint the host's key must have, for scripts
    #[arg(long, value_name = "SHA256:…", value_parser = typed_fingerprint)]
    pub expect_host_key: Option<Fingerprint>,
    /// File with known host keys
    #[arg(long, value_name = "FILE", value_parser = paths::typed, default_value = KNOWN_HOSTS)]
    pub known_hosts: PathBuf,
}

impl HostArgs {
    /// A host that nobody has signed in to yet: by the register, where there is one that knows the name.
    pub fn site(
        &self,
        ui: &Ui,
        register: Option<&OpenedRegister>,
        host: &str,
        account: &str,
        rights: Rights,
    ) -> Result<Site, CommandError> {
        let (stop, ways) = self.stop(ui, register, host, account)?;
        let rights = if stop.login == account { Rights::Own } else { rights };
        Ok(Site::host(stop, Arc::new(ways), rights, STEP_LIMIT))
    }

    /// Where a host is and who signs in there, and the way to it.
    pub fn stop(
        &self,
        ui: &Ui,
        register: Option<&OpenedRegister>,
        host: &str,
        account: &str,
    ) -> Result<(Stop, Ways), CommandError> {
        let known = register.and_then(|opened| opened.register().hosts.get(host));
        let defaults = defaults::of(register.map(OpenedRegister::register))?;
        let client = if known.is_some() { ClientHost::default() } else { client_config::of(host) };
        // A host of the register is entered by the same login whatever the command.
        let usual = if known.is_some() { USUAL_LOGIN } else { account };
        let named = self.sign_in.login.as_deref().or(known.and_then(|known| known.login.as_deref()));
        let login = named.or(client.user.as_deref()).or(defaults.login.as_deref()).unwrap_or(usual);
        let way = self.with_identity_of(&client).way(&format!("{login} on {host}"), &defaults)?;
        client.words().iter().for_each(|words| ui.status(words));
        let (mut stop, ways) = match (register, known) {
            (Some(opened), Some(known)) => {
                if opened.register().goes_round(known) {
                    return Err(unspoken(host, Unspoken::Endless));
                }
                let ways = Ways::of(opened.register(), way, Some(login.to_owned()));
                (ways.stop(known), ways)
            }
            _ => self.plain_stop(host, login, &client, way),
        };
        if let Some(reach) = self.reach {
            stop.reach = reach.kind();
        }
        if let Some(port) = self.port {
            stop.target.port = port;
            stop.target.known_hosts = known.map(|known| pins(known, port)).unwrap_or_default().into_bytes();
        }
        stop.target.required = self.expect_host_key;
        let known_hosts = self.known_hosts()?;
        ways.know(&known_hosts);
        if stop.target.known_hosts.is_empty() {
            stop.target.pinned_as = None;
            stop.target.known_hosts = known_hosts;
        }
        Ok((stop, ways))
    }

    /// The key to sign in with as typed, else as the client configuration names it.
    fn with_identity_of(&self, client: &ClientHost) -> SignInArgs {
        let mut sign_in = self.sign_in.clone();
        sign_in.identity = sign_in.identity.or_else(|| client.identity.clone());
        sign_in
    }

    /// A host that no register knows: where the user's client configuration says it is.
    fn plain_stop(&self, host: &str, login: &str, client: &ClientHost, way: Way) -> (Stop, Ways) {
        let mut jumps: Vec<Stop> = Vec::new();
        for written in &client.jumps {
            let (user, rest) =
                written.rsplit_once('@').map_or((None, written.as_str()), |(user, rest)| (Some(user), rest));
            let (name, port) = match rest.rsplit_once(':').filter(|(name, _)| !name.contains(':')) {
                Some((name, port)) => (name, port.parse().ok()),
                None => (rest, None),
            };
            let own = client_config::of(name);
            let user = user.map(str::to_owned).or_else(|| own.user.clone()).unwrap_or_else(|| login.to_owned());
            let mut jump = plain(name, &user, &own, port);
            jump.through = jumps.last().map(|before| before.host.clone());
            jumps.push(jump);
        }
        let port = self.port.or(client.port).or_else(|| self.reach.map(|reach| reach.kind().port()));
        let mut stop = plain(host, login, client, port);
        stop.through = jumps.last().map(|jump| jump.host.clone());
        (stop, Ways::over_these(jumps, way))
    }

    fn known_hosts(&self) -> Result<Vec<u8>, CommandError> {
        read_known_hosts(&self.known_hosts)
    }

    /// Signs in; an unknown host key is shown and asked about, and remembered once it is confirmed.
    pub async fn open(&self, ui: &Ui, site: &mut Site) -> Result<(), CommandError> {
        while let Err(fault) = site.open().await {
            let Some((stop, ways)) = site.way() else { return Err(host_fault(site.name(), &fault)) };
            self.vouch(ui, stop, ways, fault)?;
        }
        if let Some(signed) = site.signed() {
            ui.status(&crate::wording::signed_in(signed, site.name()));
        }
        if let Some(fault) = site.refused() {
            let login = site.signed().map(|signed| signed.account.clone()).unwrap_or_default();
            ui.warn(&format!("{fault}. What {login} may not read is listed as not checked."));
        }
        Ok(())
    }

    /// Connects without signing in, with the same care for the host's key.
    pub async fn greet(&self, ui: &Ui, stop: &mut Stop, ways: &Ways) -> Result<Target, CommandError> {
        loop {
            match ways.greet(stop).await {
                Ok(target) => return Ok(target),
                Err(fault) => self.vouch(ui, stop, ways, fault)?,
            }
        }
    }

    /// Where a host key is not known yet, asks whether it is the right one; then the host can be spoken to.
    fn vouch(&self, ui: &Ui, stop: &mut Stop, ways: &Ways, fault: WayFault) -> Result<(), CommandError> {
        match fault {
            WayFault::Connect(ConnectFault::HostKeyUnknown { host, key, fingerprint }) => {
                // Whoever says which key to expect has vouched for it; the next command need not say it again.
                if self.expect_host_key == Some(fingerprint) {
                    if let Err(error) = self.remember(&line_for(&host, stop.target.port, &key)) {
                        ui.warn(&error.message);
                    }
                } else {
                    self.ask(ui, &host, stop.target.port, &key)?;
                }
                stop.target.expected = Some(fingerprint);
                Ok(())
            }
            WayFault::Through { host: name, fault } => match *fault {
                WayFault::Connect(ConnectFault::HostKeyUnknown { host, key, fingerprint }) => {
                    // What is expected of the host says nothing about those on the way to it.
                    self.ask(ui, &host, ways.port(&name).unwrap_or(SSH_PORT), &key)?;
                    ways.vouch(&name, fingerprint);
                    Ok(())
                }
                fault => Err(host_fault(&stop.host, &WayFault::Through { host: name, fault: Box::new(fault) })),
            },
            fault => Err(host_fault(&stop.host, &fault)),
        }
    }

    fn ask(&self, ui: &Ui, host: &str, port: u16, key: &PublicKey) -> Result<(), CommandError> {
        let fingerprint = key.fingerprint();
        if !std::io::IsTerminal::is_terminal(&std::io::stdin()) {
            let (host, key) = (host.to_owned(), Box::new(key.clone()));
            return Err(ConnectFault::HostKeyUnknown { host, key, fingerprint }.into());
        }
        ui.show(&format!("The key of {host} is not known yet.\n  {} {fingerprint}", key.algorithm()));
        let question = "Is this the fingerprint shown on the host's own console? Trust and remember it?";
        if !ui.confirm(question, &[("", "--expect-host-key SHA256:…")])? {
            let stopped = CommandError::with(Exit::Stopped, "the host key was not confirmed");
            return Err(stopped.because("nothing was sent"));
        }
        self.remember(&line_for(host, port, key))
    }

    fn remember(&self, line: &str) -> Result<(), CommandError> {
        let write = || {
            if let Some(folder) = self.known_hosts.parent().filter(|folder| !folder.exists()) {
                std::fs::DirBuilder::new().recursive(true).mode(0o700).create(folder)?;
            }
            let before = std::fs::read(&self.known_hosts).unwrap_or_default();
            let gap = if before.last().is_some_and(|last| *last != b'\n') { "\n" } else { "" };
            let mut file = std::fs::OpenOptions::new().append(true).create(true).mode(0o600).open(&self.known_hosts)?;
            file.write_all(format!("{gap}{line}\n").as_bytes())?;
            file.sync_all()
        };
        write().map_err(|error| CommandError::file(&self.known_hosts, "add the host key to", &error))
    }
}

/// A host by its name, and by what the client configuration says of it.
fn plain(host: &str, login: &str, client: &ClientHost, port: Option<u16>) -> Stop {
    let target = Target {
        through: None,
        host: client.address.clone().unwrap_or_else(|| host.to_owned()),
        port: port.or(client.port).unwrap_or(SSH_PORT),
        known_hosts: Vec::new(),
        pinned_as: None,
        expected: None,
        required: None,
        revoked_in: std::sync::Arc::default(),
        old_algorithms: false,
    };
    let reach = ReachKind::default();
    Stop {
        host: host.to_owned(),
        target,
        reach,
        places: KeyPlaces::default(),
        managed: Vec::new(),
        profile: None,
        first_key_ends_passwords: false,
        after_change: Vec::new(),
        login: login.to_owned(),
        through: None,
        first: Vec::new(),
        root_by: None,
    }
}

/// The user's own file of known hosts; nothing where there is none.
pub fn users_known_hosts() -> Result<Vec<u8>, CommandError> {
    paths::typed(KNOWN_HOSTS).map_or(Ok(Vec::new()), |path| read_known_hosts(&path))
}

fn read_known_hosts(path: &Path) -> Result<Vec<u8>, CommandError> {
    let mut known_hosts = Vec::new();
    match std::fs::File::open(path) {
        Ok(file) => {
            // One byte more shows that it is too long: a key that stands behind the limit would pass for unknown.
            let read = file.take(KNOWN_HOSTS_BYTES_MAX + 1).read_to_end(&mut known_hosts);
            read.map_err(|error| CommandError::file(path, "read", &error))?;
            if known_hosts.len() as u64 > KNOWN_HOSTS_BYTES_MAX {
                let shown = paths::shown(path);
                let said =
                    format!("{shown} is larger than {KNOWN_HOSTS_BYTES_MAX} bytes, and it is read whole or not at all");
                return Err(CommandError::usage(said).again("with the hosts that are meant", "--known-hosts FILE"));
            }
        }
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
        Err(error) => return Err(CommandError::file(path, "read", &error)),
    }
    Ok(known_hosts)
}
