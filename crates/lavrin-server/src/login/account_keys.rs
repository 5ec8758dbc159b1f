//! The keys of an account, wherever its host keeps them: on the lines of files, or in the slots of a device.

use super::key_files;
use crate::abilities::Ability;
use crate::account::Account;
use crate::fs::{BytePath, Fact, Why};
use crate::survey::{KeySlot, Resolved, resolve};
use crate::system::System;
use lavrin_keys::key::container::line::KnownKeys;
use lavrin_keys::key::{Fingerprint, PublicKey};
use lavrin_keys::keysfile::{Content, read_all};
use std::sync::Arc;

/// Where an entry stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Place {
    /// On a line of a file.
    Line {
        /// The file, as the settings name it.
        path: BytePath,
        /// The line, counted from 1.
        line: usize,
    },
    /// In a slot of a device.
    Slot {
        /// How the device names it.
        slot: String,
    },
}

impl Place {
    /// The file, where it is one.
    #[must_use]
    pub fn path(&self) -> Option<&BytePath> {
        match self {
            Self::Line { path, .. } => Some(path),
            Self::Slot { .. } => None,
        }
    }

    /// The line, where it is one.
    #[must_use]
    pub fn line(&self) -> Option<usize> {
        match self {
            Self::Line { line, .. } => Some(*line),
            Self::Slot { .. } => None,
        }
    }

    /// The slot, where it is one.
    #[must_use]
    pub fn slot(&self) -> Option<&str> {
        match self {
            Self::Line { .. } => None,
            Self::Slot { slot } => Some(slot),
        }
    }
}

/// What keys are read from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum KeySource {
    /// A file or folder.
    Path(BytePath),
    /// The slots of the account.
    Slots,
}

/// The path, or `slots`.
impl std::fmt::Display for KeySource {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Path(path) => write!(out, "{path}"),
            Self::Slots => out.write_str("slots"),
        }
    }
}

impl From<BytePath> for KeySource {
    fn from(path: BytePath) -> Self {
        Self::Path(path)
    }
}

/// An entry, or a line or slot whose content is none.
#[derive(Debug, Clone)]
pub struct HeldEntry {
    /// Where the machine is.
    pub place: Place,
    /// What it holds: an entry, or something the server cannot use.
    pub content: Content,
}

impl HeldEntry {
    /// The key, also where the server cannot use the entry.
    #[must_use]
    pub fn key(&self) -> Option<&Arc<PublicKey>> {
        match &self.content {
            Content::Entry(entry) => Some(&entry.key),
            Content::Unusable(unusable) => unusable.key.as_ref(),
            Content::Blank | Content::Comment => None,
        }
    }

    /// The comment behind the key.
    #[must_use]
    pub fn comment(&self) -> &[u8] {
        match &self.content {
            Content::Entry(entry) => &entry.comment,
            _ => &[],
        }
    }
}

/// The keys of an account.
#[derive(Debug, Clone, Default)]
pub struct AccountKeys {
    /// What stands there, in the order in which the server reads it; blank lines and comments are left out.
    pub entries: Vec<HeldEntry>,
    /// What could not be read, and why.
    pub unread: Vec<(KeySource, Why)>,
}

impl AccountKeys {
    /// Those of an account. Lines that are `known` are not read again.
    #[must_use]
    pub fn of(account: &Account, seen: &System<'_>, known: Option<&KnownKeys>) -> Self {
        let has_files = seen.abilities.has(Ability::Files);
        let files = if has_files { key_files(account, seen) } else { Vec::new() };
        Self::in_files(account, &files, seen, known)
    }

    /// The same where the account's key files are known already.
    #[must_use]
    pub fn in_files(account: &Account, files: &[BytePath], seen: &System<'_>, known: Option<&KnownKeys>) -> Self {
        let (mut keys, known) = (Self::default(), known.or(seen.known()));
        if !seen.abilities.has(Ability::Files) {
            match seen.slots_of(&account.name) {
                Fact::Known(slots) => keys.add_slots(slots, seen),
                Fact::Absent => {}
                Fact::Unseen(why) => keys.unread.push((KeySource::Slots, why)),
            }
            return keys;
        }
        if seen.network_homes.contains(&account.home) {
            keys.unread.push((account.home.clone().into(), Why::NetworkHome));
            return keys;
        }
        for file in files {
            match content(file, seen) {
                Ok(Some(bytes)) => keys.add_file(file, bytes, seen, known),
                Ok(None) => {}
                Err(unread) => keys.unread.push(unread),
            }
        }
        keys
    }

    /// What of an account could not be read, without reading what could.
    #[must_use]
    pub fn unread_of(account: &Account, seen: &System<'_>) -> Vec<(KeySource, Why)> {
        if !seen.abilities.has(Ability::Files) || seen.network_homes.contains(&account.home) {
            return Self::of(account, seen, None).unread;
        }
        key_files(account, seen).iter().filter_map(|file| content(file, seen).err()).collect()
    }

    /// The lines of one file.
    pub(crate) fn add_file(&mut self, file: &BytePath, bytes: &[u8], seen: &System<'_>, known: Option<&KnownKeys>) {
        for line in read_all(bytes, known, seen.dialect()) {
            if !matches!(line.content, Content::Blank | Content::Comment) {
                let place = Place::Line { path: file.clone(), line: line.number };
                self.entries.push(HeldEntry { place, content: line.content });
            }
        }
    }

    fn add_slots(&mut self, slots: &[KeySlot], seen: &System<'_>) {
        for slot in slots {
            let first = read_all(&slot.entry, None, seen.dialect()).into_iter().next();
            if let Some(content) = first.map(|line| line.content) {
                self.entries.push(HeldEntry { place: Place::Slot { slot: slot.name.clone() }, content });
            }
        }
    }

    /// The entries of a key.
    pub fn of_key(&self, fingerprint: Fingerprint) -> impl Iterator<Item = &HeldEntry> {
        self.entries.iter().filter(move |held| held.key().is_some_and(|key| key.fingerprint() == fingerprint))
    }
}

/// What a key file holds; nothing where the server finds none either.
fn content<'a>(file: &BytePath, seen: &'a System<'_>) -> Result<Option<&'a Vec<u8>>, (KeySource, Why)> {
    let real = match resolve(file, seen) {
        Resolved::To(real, _) => real,
        Resolved::Missing(_) | Resolved::Loop => return Ok(None),
        Resolved::Unseen(path, why) => return Err((path.into(), why)),
        Resolved::Ask(path) => return Err((path.into(), Why::NotReached)),
    };
    match seen.content(&real) {
        Fact::Known(bytes) => Ok(Some(bytes)),
        // What is no regular file is not read by the server either.
        Fact::Absent | Fact::Unseen(Why::WrongKind) => Ok(None),
        Fact::Unseen(why) => Err((real.into(), why)),
    }
}
