//! How a stand-in differs from a host in good order: one knob for each thing that goes wrong in the field.

use crate::replay::Replay;
use std::path::PathBuf;
use std::sync::Arc;

/// The knobs. By default everything works.
#[derive(Debug, Clone, Default)]
pub struct Behaviour {
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
}
