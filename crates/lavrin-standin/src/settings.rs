//! What the settings in the tree say, which each connection reads anew; and the line that is lost because of them.

use crate::inside::Inside;
use crate::server::World;
use lavrin_server::server_config::{self, Settings};
use lavrin_server::survey::Observation;
use russh::server::Auth;
use russh::{MethodKind, MethodSet};
use std::path::Path;
use std::sync::atomic::{AtomicU8, Ordering};
use tokio::process::Command;

/// Rounds of looking before the settings are known: files include others.
const ROUNDS_MAX: usize = 20;

/// What is there while the host waits for a proof of its settings.
const ARMED: &str = "etc/ssh/.put-back";

/// A line that is lost once.
#[derive(Debug, Default)]
pub(crate) struct LostLine(AtomicU8);

impl LostLine {
    const HOLDS: u8 = 0;
    const LOST: u8 = 1;
    const BACK: u8 = 2;

    /// Whether it is lost now; `is_armed`: whether settings were changed and are not proven yet.
    fn is_lost(&self, is_armed: impl Fn() -> bool) -> bool {
        let now = match self.0.load(Ordering::SeqCst) {
            Self::HOLDS if is_armed() => Self::LOST,
            Self::LOST if !is_armed() => Self::BACK,
            same => same,
        };
        self.0.store(now, Ordering::SeqCst);
        now == Self::LOST
    }
}

impl World {
    /// Where scripts work.
    pub(crate) fn tree(&self) -> Inside<'_> {
        Inside { root: &self.root, is_roots: self.behaviour.is_roots }
    }

    /// How a program is started here. Whoever is root in the tree has a number space of accounts in which that is so.
    pub(crate) fn program(&self, program: &Path) -> Command {
        if !self.behaviour.is_roots || is_root() {
            return Command::new(program);
        }
        let mut inside = Command::new("unshare");
        inside.arg("--map-root-user").arg(program);
        inside
    }

    /// Whether passwords open accounts.
    pub(crate) fn takes_passwords(&self) -> bool {
        let mut seen = Observation { looked: true, ..Observation::default() };
        for _ in 0..ROUNDS_MAX {
            let wants: Vec<_> = server_config::wants(&seen).into_iter().filter(|want| !seen.answers(want)).collect();
            if wants.is_empty() {
                break;
            }
            self.look(&wants, &mut seen);
        }
        Settings::from_files(None, &seen).word("passwordauthentication") == "yes"
    }

    /// By which methods somebody may sign in.
    pub(crate) fn methods(&self) -> MethodSet {
        let password = self.takes_passwords().then_some(MethodKind::Password);
        let methods: Vec<MethodKind> = std::iter::once(MethodKind::PublicKey).chain(password).collect();
        MethodSet::from(&methods[..])
    }

    /// A refusal after which the same methods are still offered, as real servers do it.
    pub(crate) fn refuse(&self) -> Auth {
        Auth::Reject { proceed_with_methods: Some(self.methods()), partial_success: false }
    }

    /// Whether nobody gets through now.
    pub(crate) fn is_lost(&self) -> bool {
        let is_armed = || self.root.join(ARMED).exists() && !self.takes_passwords();
        self.behaviour.is_lost_once && self.lost_line.is_lost(is_armed)
    }
}

/// Whether this process has root's rights.
fn is_root() -> bool {
    std::fs::metadata("/proc/self").is_ok_and(|own| std::os::unix::fs::MetadataExt::uid(&own) == 0)
}

/// Whether somebody can be root in a tree of the stand-in here: root itself, and whoever the system lets have a number space of
/// accounts of its own.
#[must_use]
pub fn can_be_roots() -> bool {
    let tried = || std::process::Command::new("unshare").args(["--map-root-user", "true"]).output();
    is_root() || tried().is_ok_and(|tried| tried.status.success())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_is_lost_once_while_settings_are_not_proven() {
        let line = LostLine::default();
        let at = |is_armed: bool| line.is_lost(|| is_armed);
        assert_eq!([false, true, true, false, true].map(at), [false, true, true, false, false]);
    }
}
