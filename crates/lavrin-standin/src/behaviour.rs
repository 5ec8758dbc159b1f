//! How a stand-in differs from a host in good order: one knob for each thing that goes wrong in the field.

use crate::replay::Replay;
use std::ops::RangeInclusive;
use std::path::PathBuf;
use std::sync::Arc;

/// The knobs. By default everything works.
#[derive(Debug, Clone, Default)]
pub struct Behaviour {
    /// What it calls itself, instead of what it is.
    pub banner: Option<String>,
    /// Takes connections and never says a word.
    pub silent: bool,
    /// Lets in, and refuses to run commands.
    pub refuses_commands: bool,
    /// Sends for ever once a command runs.
    pub endless: bool,
    /// Shows a menu instead of a shell.
    pub menu: bool,
    /// What the login shell prints before a command's own output.
    pub noise: Vec<u8>,
    /// The login shell; by default `/bin/sh`.
    pub shell: Option<PathBuf>,
    /// Gives the answer to a script that one of those who share this has run before, without running it.
    pub replays: Option<Arc<Replay>>,
    /// Opens ways to other hosts.
    pub forwards: bool,
    /// Ends each connection after so many bytes in both directions together.
    pub cut_after: Option<u64>,
    /// Shows another host key than the one it had in the beginning.
    pub other_host_key: bool,
    /// Whoever runs it is root in its tree.
    pub is_roots: bool,
    /// Loses every line once its settings have been changed, until it has put them back itself; this happens once.
    pub is_lost_once: bool,
    /// Its root file system is read-only below what forgets: only what `/sbin/overlay save` has kept is there after a restart.
    pub forgets: bool,
    /// What it is like on some connections, counted from 1, instead of all this.
    pub episodes: Vec<(RangeInclusive<usize>, Behaviour)>,
}

impl Behaviour {
    /// What it is like on this connection.
    pub(crate) fn on(&self, connection: usize) -> Self {
        let episode = self.episodes.iter().find(|(when, _)| when.contains(&connection));
        episode.map_or_else(|| self.clone(), |(_, behaviour)| behaviour.clone())
    }
}
