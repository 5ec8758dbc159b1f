//! A host with a POSIX shell behind an SSH connection.

pub mod by_hand;
mod carry;
mod frames;
mod heard;
mod listing;
mod look;
mod network;
mod put_back;
mod traces;

pub use network::Claims;

use crate::ssh::{Connection, ExecFault, RootBy};
use crate::{Boxed, CarryFault};
use lavrin_keys::key::generate::Randomness;
use lavrin_server::steps::ChangeSubject;
use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::sync::Arc;

const FUNCTIONS: &str = include_str!("scripts/functions.sh");
const RIGHTS: &str = include_str!("scripts/rights.sh");

/// Finds the server that runs the session: its program, configuration, options and process.
const LISTENER: &str = include_str!("scripts/listener.sh");

/// Longest line for a host's log, in characters; some loggers cut at 1,024 bytes.
const LOG_CHARACTERS_MAX: usize = 900;

/// A host to look at and to change, over a login that is open.
pub struct ShellHost {
    /// The connection.
    pub connection: Connection,
    /// With whose rights scripts run.
    pub root_by: RootBy,
    /// Where homes on a network file system are looked at: what nobody has looked at yet.
    pub network_homes: Option<Arc<Claims>>,
    /// What has to run there once changes are proven, so that they are kept: a program and its arguments; nothing on most.
    pub after_change: Vec<String>,
    /// Accounts whose processes did not answer in time; they are not asked again over this connection.
    silent: BTreeSet<String>,
    randomness: Box<dyn Randomness + Send + Sync>,
}

impl ShellHost {
    /// A host over this connection, on which `login` has signed in.
    #[must_use]
    pub fn new(connection: Connection, root_by: RootBy, randomness: Box<dyn Randomness + Send + Sync>) -> Self {
        Self { connection, root_by, network_homes: None, after_change: Vec::new(), silent: BTreeSet::new(), randomness }
    }

    /// A word that nobody else knows.
    fn nonce(&self) -> String {
        nonce_of(self.randomness.as_ref())
    }

    /// Runs what has to run after changes, by root only where root alone decides what that program is.
    ///
    /// # Errors
    /// [`CarryFault`].
    #[must_use]
    pub fn keep(&self) -> Boxed<'_, Result<(), CarryFault>> {
        Box::pin(async move {
            let Some(program) = self.after_change.first() else { return Ok(()) };
            if !program.starts_with('/') {
                let why = format!("{program} is not run after changes: it is no program by its whole path");
                return Err(CarryFault::Refused { subject: ChangeSubject::Server, why });
            }
            let folder = program.rsplit_once('/').map_or("/", |(folder, _)| folder);
            let words: Vec<String> = self.after_change.iter().map(|word| quoted(word)).collect();
            // It is that of the tree in which scripts work.
            let words = format!("\"$R\"{}", words.join(" "));
            let steps = format!(
                "if root && ! alone {}; then echo \"fail open $R{}\"; else x=$({} </dev/null 2>&1) && echo ok || echo \"fail after $(echo \"$x\" | tail -n 1 | head -c 200)\"; fi",
                quoted(if folder.is_empty() { "/" } else { folder }),
                folder,
                words,
            );
            self.told(&format!("( {steps} )"), &ChangeSubject::Server).await.map(drop)
        })
    }

    /// Writes a line into the host's own log, where it has the means. Whether it worked is not known.
    #[must_use]
    pub fn log<'a>(&'a self, text: &'a str) -> Boxed<'a, ()> {
        Box::pin(async move {
            let text: String = lavrin_keys::text::printable(text.as_bytes()).chars().take(LOG_CHARACTERS_MAX).collect();
            let line = quoted(&text);
            let script =
                format!("PATH=/usr/sbin:/usr/bin:/sbin:/bin; logger -t lavrin -p auth.notice -- {line} 2>/dev/null\n");
            if let Ok(exec) = self.connection.start(&script, &self.root_by, crate::patience::STEP_TIMEOUT).await {
                exec.close().await;
            }
        })
    }

    /// Gets root's rights where there is a way to them; else why the first way was refused, which is the one to tell: what is
    /// tried after it is only a second best.
    ///
    /// # Errors
    /// [`ExecFault`] where the host gives no answer.
    #[must_use]
    pub fn get_root<'a>(&'a mut self, ways: &'a [RootBy]) -> Boxed<'a, Result<Option<ExecFault>, ExecFault>> {
        Box::pin(async move {
            let mut first = None;
            for way in ways {
                self.root_by = way.clone();
                match self.check_rights().await {
                    Ok(Some(0)) => return Ok(None),
                    Ok(_) => {}
                    Err(fault @ (ExecFault::RiseRefused { .. } | ExecFault::NoShell { .. })) => {
                        first = first.or(Some(fault));
                    }
                    Err(fault) => return Err(fault),
                }
            }
            self.root_by = RootBy::Nobody;
            // Root may go by another name.
            if first.is_some() && self.check_rights().await? == Some(0) {
                return Ok(None);
            }
            Ok(first)
        })
    }

    /// Whether the login gets root's rights this way, and if not, why.
    ///
    /// # Errors
    /// [`ExecFault`] in the words of sudo or doas.
    fn check_rights(&self) -> Boxed<'_, Result<Option<u32>, ExecFault>> {
        Box::pin(async move {
            let nonce = self.nonce();
            let script = format!("printf '\\n%s uid ' {nonce}; id -u; printf '\\n%s Z\\n' {nonce}\n");
            let mut exec = self.connection.start(&script, &self.root_by, crate::patience::STEP_TIMEOUT).await?;
            let answer = exec.until(format!("\n{nonce} Z\n").as_bytes(), 1 << 16).await?;
            exec.close().await;
            let text = String::from_utf8_lossy(&answer).into_owned();
            let uid =
                text.split(&format!("{nonce} uid ")).nth(1).and_then(|rest| rest.lines().next()?.trim().parse().ok());
            Ok(uid)
        })
    }
}

/// A word that nobody else knows.
fn nonce_of(randomness: &dyn Randomness) -> String {
    let mut bytes = [0u8; 12];
    randomness.fill(&mut bytes);
    bytes.iter().fold("L".to_owned(), |mut text, byte| {
        let _ = write!(text, "{byte:02x}");
        text
    })
}

/// What says in a script where the tree is that it works in: `/` itself. Processes that need no other rights inherit it.
const IN_ROOT: &str = "R=; export R";

/// The words that begin every script: the nonces, the root of the tree, and the functions.
fn opening_words(nonce: &str, child: &str) -> String {
    format!("N={nonce}; K={child}; {IN_ROOT}\nF={}\neval \"$F\"\n{RIGHTS}", quoted(FUNCTIONS))
}

/// A text as one word of a shell script.
fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\'', "'\\''"))
}

/// Bytes as one word of a shell script. `None` where they are no text or hold a line end: the framing cannot carry it.
fn quoted_path(path: &lavrin_server::fs::BytePath) -> Option<String> {
    let text = std::str::from_utf8(path.as_bytes()).ok()?;
    (!text.contains(['\n', '\0'])).then(|| quoted(text))
}
