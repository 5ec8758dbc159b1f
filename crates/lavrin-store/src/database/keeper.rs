//! A register's store as the place of backups and of the journal.

use super::{Database, who};
use crate::fault::DatabaseFault;
use crate::store::HostHold;
use crate::{JournalEntry, Keeper, StoreFault, copy};
use lavrin_server::survey::snapshot::{Hash, hash};
use std::path::PathBuf;

impl Keeper for Database {
    fn back_up(&self, bytes: &[u8]) -> Result<String, StoreFault> {
        let hash = hash(bytes);
        self.keep(&hash, bytes).map_err(|fault| self.as_store_fault(fault))?;
        let name: String = hash.iter().map(|byte| format!("{byte:02x}")).collect();
        copy::keep(&self.copies(), &name, bytes).map_err(|source| StoreFault { path: self.copies(), source })?;
        self.shared.iter().try_for_each(|shared| shared.keep(&name, bytes))?;
        Ok(name)
    }

    fn write_down(&self, entry: &JournalEntry) -> Result<(), StoreFault> {
        Self::write_down(self, entry).map_err(|fault| self.as_store_fault(fault))
    }

    fn kept(&self, name: &str) -> Result<Option<Vec<u8>>, StoreFault> {
        let Some(hash) = hash_named(name) else { return Ok(None) };
        let kept = self.content(&hash);
        if matches!(kept, Ok(Some(_))) {
            return kept.map_err(|fault| self.as_store_fault(fault));
        }
        let copied = copy::read(&self.copies(), name).ok().flatten().filter(|bytes| self::hash(bytes) == hash);
        let shared = || self.shared.as_ref().and_then(|shared| shared.kept(name).ok().flatten());
        copied.or_else(shared).map_or_else(|| kept.map_err(|fault| self.as_store_fault(fault)), |bytes| Ok(Some(bytes)))
    }

    fn lines(&self) -> Result<Vec<JournalEntry>, StoreFault> {
        self.journal().map_err(|fault| self.as_store_fault(fault))
    }

    fn at_once(&self, work: &mut dyn FnMut(&dyn Keeper) -> Result<(), StoreFault>) -> Result<(), StoreFault> {
        self.together(|own| work(own).map_err(DatabaseFault::System)).map_err(|fault| self.as_store_fault(fault))
    }

    fn hold(&self, place: &str, now: i64) -> Result<HostHold, StoreFault> {
        self.store.hold(place, &who::own_name(), now).map_err(|fault| self.as_store_fault(fault))
    }

    fn let_go(&self, place: &str) {
        self.store.let_go(place);
    }

    fn write_outcomes(&self, entries: &[JournalEntry]) -> Result<(), StoreFault> {
        self.end_changes(entries).map_err(|fault| self.as_store_fault(fault))
    }
}

impl Database {
    pub(super) fn copies(&self) -> PathBuf {
        self.folder.join(copy::FOLDER)
    }

    fn as_store_fault(&self, fault: DatabaseFault) -> StoreFault {
        match fault {
            DatabaseFault::System(fault) => fault,
            other => {
                let (place, text) = (self.place(), other.to_string());
                // Where it is stands before it already.
                let said = text.strip_prefix(place.as_str()).map_or(text.as_str(), str::trim_start).to_owned();
                StoreFault { path: PathBuf::from(place), source: std::io::Error::other(said) }
            }
        }
    }
}

/// The hash that a name in the journal stands for.
pub(super) fn hash_named(name: &str) -> Option<Hash> {
    let mut hash = [0; 32];
    if name.len() != 64 || !name.is_ascii() {
        return None;
    }
    for (number, byte) in hash.iter_mut().enumerate() {
        *byte = u8::from_str_radix(&name[2 * number..2 * number + 2], 16).ok()?;
    }
    Some(hash)
}
