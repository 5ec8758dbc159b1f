//! A host that takes changes of its server's settings back by itself, unless they are proven in time.

use super::carry::{SERVER, octal};
use super::{LISTENER, ShellHost, quoted, quoted_path};
use crate::{Armed, Boxed, CarryFault, TimerKind};
use lavrin_server::steps::{Change, ChangeSubject, FileChange, Guarded};
use std::time::Duration;

/// What runs on the host.
const PUT_BACK: &str = include_str!("scripts/put_back.sh");

/// What puts the files back there.
const HEALER: &str = include_str!("scripts/healer.sh");

const SUBJECT: ChangeSubject = ChangeSubject::Server;

impl ShellHost {
    /// Has the host put back what these changes will write, after this time, unless [`ShellHost::disarm`] comes before.
    ///
    /// # Errors
    /// [`CarryFault`]; nothing of it is left on the host then.
    #[must_use]
    pub fn arm<'a>(&'a self, changes: &'a [Guarded], after: Duration) -> Boxed<'a, Result<Armed, CarryFault>> {
        Box::pin(async move {
            let name = self.nonce().to_ascii_lowercase();
            let mut steps = format!("H={}\nbegin {name}\n", quoted(HEALER));
            let files = changes.iter().filter_map(|change| written(change.change()));
            for (number, (path, new)) in files.enumerate() {
                let path = path.ok_or_else(|| CarryFault::Refused {
                    subject: SUBJECT,
                    why: "a name of a file cannot be handed to a shell safely".to_owned(),
                })?;
                steps += &format!("keep {number} {path} '{}'\n", octal(new));
            }
            steps += &format!("arm {}", after.as_secs());
            let said = self.told(&script(&steps), &SUBJECT).await?;
            let mut words = said.splitn(3, ' ');
            let kind = if words.next() == Some("systemd") { TimerKind::Systemd } else { TimerKind::Process };
            let over_a_restart = words.next() == Some("yes");
            let folder = words.next().unwrap_or_default().to_owned();
            Ok(Armed { name, folder, kind, over_a_restart, after })
        })
    }

    /// The changes are proven: the host keeps them, and nothing of the timer stays behind.
    ///
    /// # Errors
    /// [`CarryFault::PutBack`] where it was too late.
    #[must_use]
    pub fn disarm<'a>(&'a self, armed: &'a Armed) -> Boxed<'a, Result<(), CarryFault>> {
        Box::pin(async move { self.told(&script(&call("disarm", armed)), &SUBJECT).await.map(drop) })
    }

    /// The changes are not proven: the host puts everything back at once.
    ///
    /// # Errors
    /// [`CarryFault`].
    #[must_use]
    pub fn put_back<'a>(&'a self, armed: &'a Armed) -> Boxed<'a, Result<(), CarryFault>> {
        Box::pin(async move { self.told(&script(&call("at_once", armed)), &SUBJECT).await.map(drop) })
    }
}

fn call(function: &str, armed: &Armed) -> String {
    format!("{function} {} {}", armed.name, quoted(&armed.folder))
}

fn script(steps: &str) -> String {
    format!("( {LISTENER}\n{SERVER}\n{PUT_BACK}\n{steps} )")
}

/// The file that a change writes, as one word of a shell script, and what it is to hold.
fn written(change: &Change) -> Option<(Option<String>, &[u8])> {
    match change {
        Change::File(FileChange::WriteFile { path, new, .. }) => Some((quoted_path(path), new)),
        _ => None,
    }
}
