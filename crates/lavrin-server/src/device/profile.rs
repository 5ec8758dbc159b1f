//! A profile: how to work on a device that has nothing but a command line of its own, in the words of whoever knows it.

use super::{KeyForm, KeyLineEnds, Template};
use std::time::Duration;

/// How one thing is done: what is typed, and what the device may say to it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Doing {
    /// Lines that are typed one after the other, each once the device waits again.
    pub send: Vec<Template>,
    /// Lines that it may say; anything else stops the work.
    pub says: Vec<Template>,
}

/// How the keys of an account are listed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listing {
    /// What is typed, and lines of the answer that hold no key.
    pub how: Doing,
    /// A line of the answer that holds a key.
    pub key: Template,
    /// A line that says that there is no such account.
    pub no_account: Vec<Template>,
}

/// A file with the key that the device imports.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ImportFile {
    /// How it gets there.
    pub way: ImportWay,
    /// How the key is written in it.
    pub form: KeyForm,
    /// How its lines end.
    pub line_ends: KeyLineEnds,
}

/// What ends the logins by password.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum PasswordsEnd {
    /// Nothing that is known.
    #[default]
    Unknown,
    /// The first key of an account, for that account.
    FirstKey,
    /// A switch, for all accounts.
    Switch,
}

impl PasswordsEnd {
    /// Each by its name in the register.
    pub const NAMES: [(&'static str, Self); 3] =
        [("unknown", Self::Unknown), ("first-key", Self::FirstKey), ("switch", Self::Switch)];
}

/// A switch that ends all logins by password.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PasswordSwitch {
    /// Shows how it stands.
    pub show: Doing,
    /// Lines of that answer that say that passwords open nothing.
    pub are_off: Vec<Template>,
    /// Ends them.
    pub off: Doing,
    /// Lets them in again.
    pub on: Doing,
}

/// How files get onto a device: what opens the way for them, and what closes it again.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct TransferService {
    /// Typed before a file is put there or fetched.
    pub open: Doing,
    /// Typed afterwards, also where that failed.
    pub close: Doing,
}

/// How a file gets onto a device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ImportWay {
    /// It is put at this path, over SFTP.
    Put(Template),
    /// The device fetches it from this address.
    Fetched(Template),
}

/// How a device loads its saved configuration by itself after a time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TimedReload {
    /// Sets it up; `%m` stands for the minutes.
    pub arm: Doing,
    /// Calls it off.
    pub disarm: Doing,
}

/// A profile.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Profile {
    /// Its name in the register.
    pub name: String,
    /// The device waits for a line once one of these stands alone on the last one. The first is where work begins.
    pub prompts: Vec<String>,
    /// A line that begins like this is a refusal.
    pub errors: Vec<String>,
    /// What it shows where it waits before it goes on, and what is typed then.
    pub pager: Option<(String, String)>,
    /// What ends a line that is typed.
    pub line_end: KeyLineEnds,
    /// How long each answer may take.
    pub patience: Duration,
    /// What is typed first.
    pub start: Doing,
    /// What leads back one step to where work begins, after a refusal.
    pub back: Option<Template>,
    /// What ends the session.
    pub leave: Option<Template>,
    /// Lists keys.
    pub list: Listing,
    /// Adds a key.
    pub add: Doing,
    /// The file that is imported by that.
    pub import: Option<ImportFile>,
    /// Takes a key away.
    pub remove: Doing,
    /// Keeps what was done over a restart; none: that happens by itself.
    pub save: Option<Doing>,
    /// Shows the configuration, to be kept before a change.
    pub backup: Option<Doing>,
    /// What ends the logins by password.
    pub passwords: PasswordsEnd,
    /// The switch, where it is one.
    pub switch: Option<PasswordSwitch>,
    /// What lets files onto it.
    pub transfer: TransferService,
    /// What takes changes back by itself.
    pub reload: Option<TimedReload>,
}
