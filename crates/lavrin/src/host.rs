//! Reaching a host: the options for it, the host's key, signing in, root's rights.

use crate::command::register::RegisterArgs;
use crate::error::{CommandError, exec_fault};
use crate::exit::Exit;
use crate::paths;
use crate::sign_in::{RiseWay, SignInArgs};
use crate::ui::Ui;
use clap::Args;
use lavrin_core::hostkey::{KNOWN_HOSTS_BYTES_MAX, line_for};
use lavrin_core::key::Fingerprint;
use lavrin_core::key::generate::SystemSource;
use lavrin_core::register::{Host, Register};
use lavrin_core::steps::Login;
use lavrin_reach::shell::ShellHost;
use lavrin_reach::ssh::{ConnectFault, Connection, Rise, SignedIn, Target};
use std::io::{Read as _, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
use std::path::PathBuf;
use std::sync::Arc;

/// How to reach a host and sign in there.
#[derive(Debug, Args, Clone)]
#[command(next_help_heading = "Reaching a host")]
pub struct HostArgs {
    /// Port of the SSH server (by default what the register says, else 22)
    #[arg(long, value_name = "PORT")]
    pub port: Option<u16>,
    #[command(flatten)]
    pub sign_in: SignInArgs,
    /// Fingerprint that the host's key must have, for scripts
    #[arg(long, value_name = "SHA256:…", value_parser = |text: &str| Fingerprint::parse(text))]
    pub expect_host_key: Option<Fingerprint>,
    /// File of known host keys
    #[arg(long, value_name = "FILE", value_parser = paths::typed, default_value = "~/.ssh/known_hosts")]
    pub known_hosts: PathBuf,
}

/// A host on which somebody has signed in.
pub struct OpenHost {
    /// The host, ready to be looked at.
    pub shell: Box<ShellHost>,
    /// How the login was opened.
    pub signed: SignedIn,
    /// For connections to come; the host's key is pinned to the one that was shown.
    pub target: Target,
}

impl OpenHost {
    /// The login as the lock-out guard sees it.
    pub fn login(&self) -> Login {
        Login { account: self.signed.account.clone(), key: self.signed.key }
    }
}

impl HostArgs {
    /// Where a host is, with what is known about its key: by the register that one stands in, where it knows the name.
    pub async fn target(&self, ui: &Ui, host: &str) -> Result<Target, CommandError> {
        let register = RegisterArgs::default().folder().and_then(|_| RegisterArgs::default().open().ok());
        let known = register.as_ref().and_then(|opened| opened.reading.register.hosts.get(host));
        let Some(known) = known else { return self.plain_target(host) };
        let mut target = pinned_target(known);
        target.port = self.port.unwrap_or(target.port);
        if target.known_hosts.is_empty() {
            target.known_hosts = self.known_hosts()?;
        }
        if register.as_ref().is_some_and(|opened| opened.reading.register.goes_round(known)) {
            return Err(round(host));
        }
        if let Some(through) = &known.through {
            target.through = Some(Box::pin(self.hop(ui, &through.value)).await?);
        }
        Ok(target)
    }

    /// A connection to a host over which another is reached.
    async fn hop(&self, ui: &Ui, host: &str) -> Result<Arc<Connection>, CommandError> {
        let mut target = self.target(ui, host).await?;
        let login = registered_login(host).unwrap_or_else(|| USUAL_LOGIN.to_owned());
        let credentials = self.sign_in.credentials(&format!("{login} on {host}"))?;
        let mut connection = self.connect(ui, &mut target).await?;
        let signed = connection.sign_in(&login, &credentials).await?;
        ui.status(&crate::wording::signed_in(&signed, host));
        Ok(Arc::new(connection))
    }

    /// A host that no register knows.
    fn plain_target(&self, host: &str) -> Result<Target, CommandError> {
        // The expectation is for a host that is not known yet; a known one has to show the known key all the same.
        Ok(Target {
            through: None,
            host: host.to_owned(),
            port: self.port.unwrap_or(22),
            known_hosts: self.known_hosts()?,
            expected: None,
        })
    }

    fn known_hosts(&self) -> Result<Vec<u8>, CommandError> {
        let mut known_hosts = Vec::new();
        match std::fs::File::open(&self.known_hosts) {
            Ok(file) => {
                let read = file.take(KNOWN_HOSTS_BYTES_MAX).read_to_end(&mut known_hosts);
                read.map_err(|error| CommandError::file(&self.known_hosts, "read", &error))?;
            }
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
            Err(error) => return Err(CommandError::file(&self.known_hosts, "read", &error)),
        }
        Ok(known_hosts)
    }

    /// Connects; an unknown host key is shown and asked about, and remembered once it is confirmed.
    pub async fn connect(&self, ui: &Ui, target: &mut Target) -> Result<Connection, CommandError> {
        let connection = match target.connect().await {
            Err(ConnectFault::HostKeyUnknown { host, fingerprint, .. })
                if self.expect_host_key.is_some_and(|expected| expected != fingerprint) =>
            {
                let known = self.expect_host_key.unwrap_or(fingerprint);
                return Err(ConnectFault::HostKeyChanged { host, shown: fingerprint, known, line: None }.into());
            }
            Err(ConnectFault::HostKeyUnknown { host, key, fingerprint })
                if std::io::IsTerminal::is_terminal(&std::io::stdin()) =>
            {
                ui.status(&format!("The key of {host} is not known yet.\n  {} {fingerprint}", key.algorithm()));
                if !ui.confirm(
                    "Is this the fingerprint shown on the host's own console? Trust and remember it?",
                    "--expect-host-key",
                )? {
                    return Err(
                        CommandError::with(Exit::Stopped, "the host key was not confirmed").because("nothing was sent")
                    );
                }
                self.remember(&line_for(&host, target.port, &key))?;
                target.expected = Some(fingerprint);
                target.connect().await?
            }
            Err(ConnectFault::HostKeyUnknown { host, key, fingerprint })
                if self.expect_host_key == Some(fingerprint) =>
            {
                // Whoever says which key to expect has vouched for it; the next command need not say it again.
                if let Err(error) = self.remember(&line_for(&host, target.port, &key)) {
                    ui.warn(&error.message);
                }
                target.expected = Some(fingerprint);
                target.connect().await?
            }
            other => other?,
        };
        if let Some(known) = self.expect_host_key.filter(|expected| *expected != connection.host_key()) {
            let shown = connection.host_key();
            return Err(ConnectFault::HostKeyChanged { host: target.host.clone(), shown, known, line: None }.into());
        }
        // Whoever answers next must be the same host.
        target.expected = Some(connection.host_key());
        Ok(connection)
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

    /// Connects, signs in as `--login` or as the account itself, and gets root's rights where `needs_root` asks for them.
    pub async fn open(
        &self,
        ui: &Ui,
        host: &str,
        account: &str,
        needs_root: NeedsRoot,
    ) -> Result<OpenHost, CommandError> {
        let registered = registered_login(host);
        let login = self.sign_in.login.as_deref().or(registered.as_deref()).unwrap_or(account);
        let credentials = self.sign_in.credentials(&format!("{login} on {host}"))?;
        let mut target = self.target(ui, host).await?;
        let mut connection = self.connect(ui, &mut target).await?;
        let signed = connection.sign_in(login, &credentials).await?;
        ui.status(&crate::wording::signed_in(&signed, host));
        let mut shell = Box::new(ShellHost::new(connection, login, Rise::No, Box::new(SystemSource)));
        shell.network_homes = self.sign_in.network_homes.then(Arc::default);
        if needs_root != NeedsRoot::No && login != account {
            self.rise(ui, &mut shell, host, needs_root).await?;
        }
        Ok(OpenHost { shell, signed, target })
    }

    async fn rise(
        &self,
        ui: &Ui,
        shell: &mut ShellHost,
        host: &str,
        needs_root: NeedsRoot,
    ) -> Result<(), CommandError> {
        if self.sign_in.rise == RiseWay::None
            || shell.check_rights().await.map_err(|fault| exec_fault(host, &fault))? == Some(0)
        {
            return Ok(());
        }
        let mut fault = None;
        for way in self.sign_in.rise_ways()? {
            shell.rise = way;
            match shell.check_rights().await {
                Ok(_) => return Ok(()),
                // The first refusal is the one to tell: what is tried after it is only a second best.
                Err(refused) => fault = fault.or(Some(refused)),
            }
        }
        shell.rise = Rise::No;
        match fault {
            Some(fault) if needs_root == NeedsRoot::Yes => Err(exec_fault(host, &fault)),
            Some(fault) => {
                ui.warn(&format!("{fault}. What {} may not read is listed as not checked.", shell.login));
                Ok(())
            }
            None => Ok(()),
        }
    }
}

/// Who signs in on hosts of a register that name nobody.
pub const USUAL_LOGIN: &str = "root";

/// A host of the register, spoken to only under its pinned keys.
pub fn pinned_target(host: &Host) -> Target {
    let known_hosts: String =
        host.host_keys.iter().map(|key| line_for(&host.address, host.port, &key.value) + "\n").collect();
    Target {
        through: None,
        host: host.address.clone(),
        port: host.port,
        known_hosts: known_hosts.into_bytes(),
        expected: None,
    }
}

/// The way to a host never ends.
fn round(host: &str) -> CommandError {
    CommandError::usage(format!("the way to {host} goes round in circles")).hint("lavrin check")
}

/// A connection to a host of the register over which another is reached; its own key has to be pinned.
pub async fn pinned_hop(
    sign_in: &SignInArgs,
    register: &Register,
    id: &str,
    ui: &Ui,
) -> Result<Arc<Connection>, CommandError> {
    let host = register.hosts.get(id).filter(|host| !host.host_keys.is_empty()).ok_or_else(|| {
        CommandError::usage(format!("the way leads over {id}, whose keys are not pinned"))
            .hint(format!("lavrin host trust {id}"))
    })?;
    if register.goes_round(host) {
        return Err(round(id));
    }
    let mut target = pinned_target(host);
    if let Some(further) = &host.through {
        target.through = Some(Box::pin(pinned_hop(sign_in, register, &further.value, ui)).await?);
    }
    let login = host.login.as_deref().or(sign_in.login.as_deref()).unwrap_or(USUAL_LOGIN);
    let mut connection = target.connect().await?;
    let signed = connection.sign_in(login, &sign_in.credentials(&format!("{login} on {id}"))?).await?;
    ui.status(&crate::wording::signed_in(&signed, id));
    Ok(Arc::new(connection))
}

/// Who signs in on a host, by the register that one stands in.
fn registered_login(host: &str) -> Option<String> {
    let opened = RegisterArgs::default().folder().and_then(|_| RegisterArgs::default().open().ok())?;
    opened.reading.register.hosts.get(host)?.login.clone()
}

/// Whether root's rights are needed where the login is not the account itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NeedsRoot {
    /// Yes: without them the command cannot work.
    Yes,
    /// Wanted: without them less is seen.
    Wanted,
    /// No.
    No,
}
