//! Every error of the libraries in words for the person at the terminal, with the command to type next.

mod steps;

use crate::exit::Exit;
use lavrin_keys::key::KeyFault;
use lavrin_keys::key::fingerprint::NotAFingerprint;
use lavrin_keys::text::shell_word;
use lavrin_reach::ssh::{ConnectFault, ExecFault, Rejected};
use lavrin_server::steps::{LockOut, Whose};
use lavrin_store::StoreFault;
use lavrin_store::database::DatabaseFault;
use lavrin_work::owed::OwedFault;
use lavrin_work::ways::{Unspoken, WayFault};
use std::path::Path;
pub use steps::{exit_of_no_steps, no_steps};

/// An error as it is shown: what happened, why, and what to type.
#[derive(Debug)]
pub struct CommandError {
    /// What happened, in one line.
    pub message: String,
    /// What is known about the cause, one line each.
    pub causes: Vec<String>,
    /// What to do next.
    pub hints: Vec<String>,
    /// How the command ends.
    pub exit: Exit,
}

impl CommandError {
    /// A wrong usage or an unreadable input.
    pub fn usage(message: impl Into<String>) -> Self {
        Self::with(Exit::Usage, message)
    }

    /// An error with this exit code.
    pub fn with(exit: Exit, message: impl Into<String>) -> Self {
        Self { message: message.into(), causes: Vec::new(), hints: Vec::new(), exit }
    }

    /// Adds a cause.
    #[must_use]
    pub fn because(mut self, cause: impl Into<String>) -> Self {
        self.causes.push(cause.into());
        self
    }

    /// Adds what to do next.
    #[must_use]
    pub fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hints.push(hint.into());
        self
    }

    /// Adds the command as it was typed, with other options, and what they are for (or nothing).
    #[must_use]
    pub fn again(self, what_for: &str, options: &str) -> Self {
        let command = crate::cli::typed_again(options);
        self.hint(if what_for.is_empty() { command } else { format!("{what_for}: {command}") })
    }

    /// What happened and why, without what to do about it.
    #[must_use]
    pub fn in_one_line(&self) -> String {
        let parts = std::iter::once(&self.message).chain(&self.causes);
        parts.map(String::as_str).collect::<Vec<_>>().join("; ")
    }

    /// A file on this machine that could not be read or written.
    pub fn file(path: &Path, does: &str, error: &std::io::Error) -> Self {
        let said = Self::usage(format!("cannot {does} {}", crate::paths::shown(path))).because(error.to_string());
        match error.kind() {
            std::io::ErrorKind::NotFound => {
                let folder = path.parent().unwrap_or(path);
                let folder = if folder.as_os_str().is_empty() { Path::new(".") } else { folder };
                said.hint(format!("ls -l {}", shell_word(&crate::paths::shown(folder))))
            }
            _ => said,
        }
    }
}

impl From<StoreFault> for CommandError {
    fn from(fault: StoreFault) -> Self {
        Self::with(Exit::Stopped, "nothing was changed, because what would be replaced could not be kept first")
            .because(fault.to_string())
            .hint("set XDG_STATE_HOME to a folder that can be written")
    }
}

impl From<DatabaseFault> for CommandError {
    fn from(fault: DatabaseFault) -> Self {
        let said = Self::with(Exit::Stopped, "the store of the register cannot be used").because(fault.to_string());
        match &fault {
            DatabaseFault::Newer { .. } => said.hint("use the newer version; nothing was changed"),
            DatabaseFault::Damaged { place, .. } if place.contains("://") => {
                said.because("nothing was changed").hint("lavrin store check")
            }
            DatabaseFault::Damaged { place, .. } => {
                let path = shell_word(&crate::paths::shown(Path::new(place)));
                said.because("nothing was changed")
                    .hint(format!("put it back from a backup, or start with an empty one: mv {path} {path}.damaged"))
            }
            DatabaseFault::Busy { .. } => said.hint("wait until the other one is done"),
            DatabaseFault::Away { .. } => {
                said.because("nothing was changed").hint("when it is back: lavrin store show")
            }
            DatabaseFault::Refused { .. } => said.hint("which role may do what: lavrin store roles"),
            DatabaseFault::NotSetUp { place, .. } => {
                said.hint(format!("by whoever runs that server: lavrin store set-up {}", shell_word(place)))
            }
            DatabaseFault::Moved { .. } => {
                said.hint("take the newest register from version control, then: lavrin store join")
            }
            DatabaseFault::Unconfirmed { before, .. } => {
                let said = match before {
                    Some(before) => said.because(format!("until now it was {before}")),
                    None => said,
                };
                said.because("what is seen and done here would go there").hint("lavrin store join")
            }
            DatabaseFault::OneMachine { .. } => said.hint("how to get one: lavrin store move --help"),
            DatabaseFault::Address { .. } => said.hint("what an address holds: lavrin store set-up --help"),
            DatabaseFault::Other { .. } | DatabaseFault::System(_) => said,
        }
    }
}

impl From<OwedFault> for CommandError {
    fn from(fault: OwedFault) -> Self {
        match fault {
            OwedFault::Edit(fault) => crate::command::register::edit_fault(lavrin_work::owed::FILE)(fault),
            OwedFault::Store(fault) => fault.into(),
        }
    }
}

impl From<NotAFingerprint> for CommandError {
    fn from(fault: NotAFingerprint) -> Self {
        Self::usage(crate::wording::key::no_fingerprint(&fault))
            .hint("to see the fingerprint of a key: lavrin key inspect FILE")
    }
}

impl From<LockOut> for CommandError {
    fn from(fault: LockOut) -> Self {
        Self::with(
            Exit::Stopped,
            match fault.of {
                Whose::Login => format!(
                    "{} is the key that this login uses; without it {} may be locked out",
                    fault.fingerprint, fault.account
                ),
                Whose::Granted => {
                    format!("{} has a grant for {} and would not open it any more", fault.fingerprint, fault.account)
                }
            },
        )
        .because("nothing was changed")
        .again("sign in with another key", "--identity FILE")
        .again("if there is certainly another way in", "--accept-lockout")
    }
}

/// A key file that is no key.
pub fn key_fault(source: &str, line: usize, fault: &KeyFault) -> CommandError {
    CommandError::usage(format!("{source}, line {line}: {}", crate::wording::key::fault(fault)))
        .hint(format!("lavrin key inspect {}", shell_word(source)))
}

impl From<ConnectFault> for CommandError {
    fn from(fault: ConnectFault) -> Self {
        let said = Self::with(Exit::NotChecked, fault.to_string());
        match fault {
            ConnectFault::NameUnknown { host, .. } => said.hint(format!("getent hosts {}", shell_word(&host))),
            ConnectFault::PortClosed { host, .. } => said
                .because("the host is up and refuses the port")
                .again("another port", "--port N")
                .hint(format!("on {host}: ss -tln")),
            ConnectFault::NoAnswer { host, .. } => said.hint(format!("ping {}", shell_word(&host))),
            ConnectFault::NotSsh { .. } => said.again("another port", "--port N"),
            ConnectFault::HostKeyUnknown { fingerprint, .. } => {
                let mut said = said.because("it is not confirmed yet, and this run cannot ask");
                said.exit = Exit::Stopped;
                said.again("once it is compared on the host's own console", &format!("--expect-host-key {fingerprint}"))
            }
            ConnectFault::HostKeyChanged { line, pinned_as, known, .. } => {
                let mut said =
                    said.because("either the host was reinstalled, or someone may be intercepting the connection");
                said.exit = Exit::Stopped;
                match line {
                    _ if pinned_as.is_some() => {
                        let host = pinned_as.unwrap_or_default();
                        said.because(format!("the known key is pinned in the register, for {host}")).hint(format!(
                            "once the new key is confirmed on the host's console: lavrin host trust {host} --replace {known}"
                        ))
                    }
                    Some(line) => said.hint(format!(
                        "once the new key is confirmed on the host's console, remove line {line} of known_hosts"
                    )),
                    None => said.hint("compare with the fingerprint on the host's own console"),
                }
            }
            ConnectFault::HostKeyRevoked { .. } => Self { exit: Exit::Stopped, ..said },
            ConnectFault::HeldOff { .. } => said.hint("wait some minutes, or come from another address"),
            ConnectFault::Unreachable { .. } | ConnectFault::NoGreeting { .. } | ConnectFault::Broken { .. } => said,
        }
    }
}

impl From<Rejected> for CommandError {
    fn from(rejected: Rejected) -> Self {
        let mut said = Self::with(Exit::NotChecked, rejected.to_string());
        if !rejected.offered.is_empty() {
            said = said.because(format!("it offers: {}", rejected.offered.join(", ")));
        }
        for tried in &rejected.tried {
            said = said.because(format!("refused: {} with {}", tried.method, tried.detail));
        }
        if rejected.tried.is_empty() {
            said = said.because("there was nothing to try: no --identity, no agent, no password");
        }
        if rejected.lost {
            said = said.because("the connection ended before it had said no: it may limit or block this address");
        }
        let is_password = |method: &str| method == "password" || method == "keyboard-interactive";
        if rejected.tried.iter().any(|tried| is_password(tried.method)) {
            said = said.hint("type the password again");
        } else if rejected.offered.iter().any(|method| is_password(method)) {
            said = said.again("with a password", "--ask-password");
        }
        said.again("with a key", "--identity FILE").again("as another account", "--login NAME")
    }
}

/// A host that nobody came onto, or that gave no answer.
pub fn host_fault(host: &str, fault: &WayFault) -> CommandError {
    match fault {
        WayFault::Connect(fault) => fault.clone().into(),
        WayFault::Rejected(rejected) => rejected.clone().into(),
        WayFault::Exec(fault) => exec_fault(host, fault),
        WayFault::Unspoken { host, why } => unspoken(host, *why),
        WayFault::Through { host: through, fault } => match &**fault {
            WayFault::Connect(ConnectFault::HostKeyUnknown { .. }) => {
                CommandError::usage(format!("the host is reached through {through}, whose keys are not pinned"))
                    .hint(format!("lavrin host trust {through}"))
            }
            inner => {
                let said = host_fault(through, inner);
                CommandError {
                    message: format!("{through}, through which {host} is reached: {}", said.message),
                    ..said
                }
            }
        },
        WayFault::Timeout { .. } | WayFault::CutOff | WayFault::NotBegun | WayFault::NoWay { .. } => {
            CommandError::with(Exit::NotChecked, format!("{host}: {fault}"))
        }
        WayFault::Crashed { .. } => {
            CommandError::with(Exit::NotChecked, format!("{host}: {fault}")).because("this is a fault of Lavrin itself")
        }
    }
}

/// A host of the register that is not spoken to.
pub fn unspoken(host: &str, why: Unspoken) -> CommandError {
    CommandError::usage(format!("{host}: {why}")).hint(why.remedy(host))
}

/// A script that gave no answer.
pub fn exec_fault(host: &str, fault: &ExecFault) -> CommandError {
    let said = CommandError::with(Exit::NotChecked, format!("{host}: {fault}"));
    match fault {
        ExecFault::RiseRefused { program, .. } => said
            .again(&format!("with a password for {program}"), "--ask-root-password")
            .again("as root", "--login root"),
        ExecFault::Refused => {
            said.because("this login is limited to one command").again("as another account", "--login NAME")
        }
        _ => said,
    }
}
