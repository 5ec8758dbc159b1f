//! A device that has nothing but a command line of its own: the console of a fog signal.
//!
//! Its language is invented. It pages its lists, has a mode for the keys of an account, may take RSA keys only, ends the password of an
//! account with its first key, and forgets at a restart what was not stored.

use crate::file_host::{FileHost, FileHostKnobs};
use lavrin_keys::key::container::PieceKind;
use lavrin_keys::key::{Algorithm, PublicKey};
use lavrin_keys::pieces;
use lavrin_server::device::KeyPlaces;
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

/// How to work on it: the profile that is written down for it, an example of one.
pub const CONSOLE_PROFILE: &str = include_str!("console.toml");

/// Lines on one page.
const PAGE: usize = 4;
const MORE: &str = "-- space for more --";

/// How a device differs from one in good order.
#[derive(Debug, Clone)]
pub struct ConsoleKnobs {
    /// It takes RSA keys only, up to so many bits.
    pub only_rsa: Option<usize>,
    /// Most keys of an account.
    pub keys_max: usize,
    /// The first key of an account ends its password.
    pub first_key_ends_password: bool,
    /// It does not show what is typed.
    pub is_mute: bool,
    /// It sends a few bytes at a time.
    pub in_pieces: bool,
    /// It says something else to this line, counted from 1.
    pub odd_at: Option<usize>,
    /// From this line on it says no word.
    pub silent_from: Option<usize>,
    /// It ends the session in the middle of the answer to this line.
    pub breaks_off_at: Option<usize>,
    /// Its answers have no end.
    pub endless: bool,
    /// It says that it took a key, and does not take it.
    pub loses_changes: bool,
    /// A key that it takes opens nothing.
    pub keys_open_nothing: bool,
    /// It takes files only once its service for them is opened.
    pub closes_files: bool,
    /// Where it finds the files that it fetches.
    pub fetches_from: Option<PathBuf>,
    /// How long it thinks about each line.
    pub slow: Duration,
    /// How long its minutes are.
    pub minute: Duration,
}

impl Default for ConsoleKnobs {
    fn default() -> Self {
        Self {
            only_rsa: None,
            keys_max: usize::MAX,
            first_key_ends_password: true,
            is_mute: false,
            in_pieces: false,
            odd_at: None,
            silent_from: None,
            breaks_off_at: None,
            endless: false,
            loses_changes: false,
            keys_open_nothing: false,
            closes_files: false,
            fetches_from: None,
            slow: Duration::ZERO,
            minute: Duration::from_mins(1),
        }
    }
}

/// An account there.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
struct ConsoleAccount {
    password: Option<String>,
    /// Keys by their numbers, each on a line.
    keys: BTreeMap<u32, String>,
}

#[derive(Debug, Clone, Default, PartialEq, Eq)]
struct ConsoleConfig {
    accounts: BTreeMap<String, ConsoleAccount>,
    /// No password opens an account.
    keys_only: bool,
    /// Files can be put there.
    takes_files: bool,
}

#[derive(Debug, Default)]
struct ConsoleState {
    running: ConsoleConfig,
    stored: ConsoleConfig,
    lines: usize,
    restarts: Option<Instant>,
}

/// A device with a console.
#[derive(Debug)]
pub struct Console {
    pub(crate) knobs: ConsoleKnobs,
    /// Where files are put that it takes keys from.
    pub(crate) files: Arc<FileHost>,
    state: Mutex<ConsoleState>,
}

impl Console {
    /// One with these accounts: the name, the password, and keys each on a line.
    #[must_use]
    pub fn new(accounts: &[(&str, Option<&str>, &[&str])], knobs: ConsoleKnobs) -> Self {
        let account = |(name, password, lines): &(&str, Option<&str>, &[&str])| {
            let keys = (1..).zip(lines.iter().map(|line| line.trim().to_owned())).collect();
            ((*name).to_owned(), ConsoleAccount { password: password.map(str::to_owned), keys })
        };
        let accounts = accounts.iter().map(account).collect();
        let running = ConsoleConfig { accounts, ..ConsoleConfig::default() };
        let state = ConsoleState { stored: running.clone(), running, ..ConsoleState::default() };
        let files = FileHost::new(
            vec![("/flash", crate::StoredFile::folder(0, 0o755))],
            KeyPlaces::default(),
            FileHostKnobs::default(),
        );
        Self { knobs, files: Arc::new(files), state: Mutex::new(state) }
    }

    fn state(&self) -> MutexGuard<'_, ConsoleState> {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        if state.restarts.is_some_and(|at| at <= Instant::now()) {
            state.restart();
        }
        state
    }

    /// The keys of an account, each on a line.
    #[must_use]
    pub fn keys(&self, account: &str) -> Vec<String> {
        self.state().running.accounts.get(account).map(|own| own.keys.values().cloned().collect()).unwrap_or_default()
    }

    /// Whether a restart would change nothing.
    #[must_use]
    pub fn is_stored(&self) -> bool {
        let state = self.state();
        state.running == state.stored
    }

    /// Whether it will restart by itself.
    #[must_use]
    pub fn will_restart(&self) -> bool {
        self.state().restarts.is_some()
    }

    /// Whether an account is opened by its password.
    #[must_use]
    pub fn takes(&self, account: &str, password: &str) -> bool {
        let state = self.state();
        let own = state.running.accounts.get(account).filter(|_| !state.running.keys_only);
        own.is_some_and(|own| {
            let is_ended = self.knobs.first_key_ends_password && !own.keys.is_empty();
            own.password.as_deref() == Some(password) && !is_ended
        })
    }

    /// Whether passwords open no account at all.
    #[must_use]
    pub fn takes_keys_only(&self) -> bool {
        self.state().running.keys_only
    }

    /// Whether files can be put there.
    #[must_use]
    pub fn takes_files(&self) -> bool {
        !self.knobs.closes_files || self.state().running.takes_files
    }

    /// Forgets what was not stored.
    pub fn restart(&self) {
        self.state().restart();
    }

    pub(crate) fn lets_in(&self, account: &str, blob: &[u8]) -> bool {
        !self.knobs.keys_open_nothing
            && self.keys(account).iter().any(|line| key_on(line).is_some_and(|key| key.blob() == blob))
    }
}

impl ConsoleState {
    fn restart(&mut self) {
        (self.running, self.restarts) = (self.stored.clone(), None);
    }
}

fn key_on(text: &str) -> Option<PublicKey> {
    pieces::read(text.as_bytes()).into_iter().find_map(|piece| match piece.kind {
        PieceKind::Public { key, .. } => Some(key),
        _ => None,
    })
}

/// A session with somebody.
pub(crate) struct ConsoleSession {
    line: String,
    pages: bool,
    /// What is still to be shown.
    waiting: Vec<String>,
    /// The account whose keys are worked on.
    account: Option<String>,
    is_over: bool,
}

/// What it says now, and whether the session is over then.
#[derive(Default)]
pub(crate) struct ConsoleSays {
    pub(crate) bytes: Vec<u8>,
    pub(crate) ends: bool,
    pub(crate) endless: bool,
}

impl ConsoleSession {
    pub(crate) fn begin() -> (Self, Vec<u8>) {
        let session = Self { line: String::new(), pages: true, waiting: Vec::new(), account: None, is_over: false };
        let hello = format!("Fog signal, console 4\r\nkeep clear of the horn\r\n{}", session.prompt());
        (session, hello.into_bytes())
    }

    fn prompt(&self) -> &'static str {
        if self.account.is_some() { "fog(keys)> " } else { "fog> " }
    }

    /// Takes in what is typed.
    pub(crate) fn take(&mut self, bytes: &[u8], console: &Console) -> ConsoleSays {
        let (knobs, mut says) = (&console.knobs, ConsoleSays::default());
        for character in String::from_utf8_lossy(bytes).chars() {
            if !self.waiting.is_empty() {
                if character == ' ' {
                    says.bytes.extend(format!("\r{}\r", " ".repeat(MORE.len())).bytes());
                    self.show(&mut says.bytes);
                }
                continue;
            }
            if character != '\n' && character != '\r' {
                self.line.push(character);
                continue;
            }
            let typed = std::mem::take(&mut self.line);
            let number = {
                let mut state = console.state();
                state.lines += 1;
                state.lines
            };
            if knobs.silent_from.is_some_and(|from| number >= from) {
                return ConsoleSays::default();
            }
            if knobs.endless {
                return ConsoleSays { endless: true, ..says };
            }
            if !knobs.is_mute {
                says.bytes.extend(format!("{typed}\r\n").bytes());
            }
            let mut answer = self.carry_out(&typed, console);
            if knobs.odd_at == Some(number) {
                answer.insert(0, "low water: pump started".to_owned());
            }
            self.waiting = answer;
            self.show(&mut says.bytes);
            if knobs.breaks_off_at == Some(number) {
                let half = says.bytes.len() / 2;
                says.bytes.truncate(half);
                says.ends = true;
            }
            says.ends |= self.is_over;
            if says.ends {
                break;
            }
        }
        says
    }

    /// Shows the next page, and the prompt behind the last one.
    fn show(&mut self, out: &mut Vec<u8>) {
        let page = if self.pages { PAGE.min(self.waiting.len()) } else { self.waiting.len() };
        let rest = self.waiting.split_off(page);
        let mut text = String::new();
        for line in std::mem::replace(&mut self.waiting, rest) {
            let _ = write!(text, "{line}\r\n");
        }
        text += if self.waiting.is_empty() { self.prompt() } else { MORE };
        out.extend(text.bytes());
    }

    fn carry_out(&mut self, typed: &str, console: &Console) -> Vec<String> {
        let said = |text: &str| vec![text.to_owned()];
        let mut state = console.state();
        let words: Vec<&str> = typed.split_whitespace().collect();
        match (&words[..], self.account.clone()) {
            ([], _) => Vec::new(),
            (["bye"], _) => {
                self.is_over = true;
                said("calm seas")
            }
            (["pages", "off"], None) => {
                self.pages = false;
                Vec::new()
            }
            (["show", "doors"], None) => said(state.doors()),
            (["doors", "all"], None) => {
                state.running.keys_only = false;
                said(state.doors())
            }
            (["doors", "keys"], None) => {
                let without = |own: &ConsoleAccount| own.keys.is_empty() && own.password.is_some();
                if let Some((name, _)) = state.running.accounts.iter().find(|(_, own)| without(own)) {
                    return said(&format!("! {name} has no key"));
                }
                state.running.keys_only = true;
                said(state.doors())
            }
            (["files", "on" | "off"], None) => {
                state.running.takes_files = words[1] == "on";
                Vec::new()
            }
            (["show", "keys", name], None) => match state.running.accounts.get(*name) {
                None => said("! nobody of that name"),
                Some(own) => {
                    let mut lines = vec![format!("keys of {name}: {}", own.keys.len())];
                    lines.extend(own.keys.iter().map(|(number, line)| format!("  {number}. {line}")));
                    lines
                }
            },
            (["keys", name], None) => {
                if !state.running.accounts.contains_key(*name) {
                    return said("! nobody of that name");
                }
                self.account = Some((*name).to_owned());
                Vec::new()
            }
            (["store"], None) => {
                state.stored = state.running.clone();
                said("stored")
            }
            (["restart", "in", minutes], None) => {
                let minutes: u32 = minutes.parse().unwrap_or(1);
                state.restarts = Some(Instant::now() + console.knobs.minute * minutes);
                said("restart is set")
            }
            (["restart", "never"], None) => match state.restarts.take() {
                Some(_) => said("restart is called off"),
                None => said("! no restart is set"),
            },
            (["done"], Some(_)) => {
                self.account = None;
                Vec::new()
            }
            (["take", "file", path], Some(name)) => {
                let text = console.files.file(path).and_then(|file| file.bytes);
                let line = text.and_then(|text| key_on(&String::from_utf8_lossy(&text)));
                match line {
                    Some(key) => said(&state.take(&name, &key.line("imported"), &console.knobs)),
                    None => said("! no key in that file"),
                }
            }
            (["take", "from", address], Some(name)) => {
                let file = console.knobs.fetches_from.as_ref().zip(address.strip_prefix("harbour:"));
                let text = file.and_then(|(folder, file)| std::fs::read_to_string(folder.join(file)).ok());
                match text.as_deref().and_then(key_on) {
                    Some(key) => said(&state.take(&name, &key.line("fetched"), &console.knobs)),
                    None => said("! no key there"),
                }
            }
            (["take", key @ ..], Some(name)) => said(&state.take(&name, &key.join(" "), &console.knobs)),
            (["drop", number], Some(name)) => {
                let number: u32 = number.trim_end_matches('.').parse().unwrap_or_default();
                let own = state.running.accounts.entry(name).or_default();
                let gone = if console.knobs.loses_changes { Some(String::new()) } else { own.keys.remove(&number) };
                said(if gone.is_some() { "dropped" } else { "! no key of that number" })
            }
            _ => said("! what?"),
        }
    }
}

impl ConsoleState {
    fn doors(&self) -> &'static str {
        if self.running.keys_only { "doors: keys only" } else { "doors: passwords and keys" }
    }

    fn take(&mut self, name: &str, line: &str, knobs: &ConsoleKnobs) -> String {
        let Some(key) = key_on(line) else { return "! that is no key".to_owned() };
        if let Some(bits) = knobs.only_rsa
            && (key.algorithm() != Algorithm::Rsa || key.bits() > bits)
        {
            return format!("! rsa only, up to {bits} bits");
        }
        let own = self.running.accounts.entry(name.to_owned()).or_default();
        if own.keys.len() >= knobs.keys_max {
            return "! no room".to_owned();
        }
        let number = own.keys.keys().last().map_or(1, |last| last + 1);
        if !knobs.loses_changes {
            own.keys.insert(number, line.to_owned());
        }
        format!("taken as {number}")
    }
}
