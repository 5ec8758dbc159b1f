//! What the settings in the tree say, which each connection reads anew.

use crate::inside::Inside;
use crate::world::{Device, World};
use lavrin_server::server_config::{self, Settings};
use lavrin_server::survey::Observation;
use russh::server::Auth;
use russh::{MethodKind, MethodSet};
use std::path::Path;
use tokio::process::Command;

/// Rounds of looking before the settings are known: files include others.
const ROUNDS_MAX: usize = 20;

/// What is there while the host waits for a proof of its settings.
const ARMED: &str = "etc/ssh/.put-back";

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
        if self.device.is_some() {
            return true;
        }
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
        let by_device = |device: &Device| !matches!(device, Device::Console(console) if console.takes_keys_only());
        let takes = self.device.as_ref().map_or_else(|| self.takes_passwords(), by_device);
        let password = takes.then_some(MethodKind::Password);
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
