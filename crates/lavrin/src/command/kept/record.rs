//! What the journal records about kept keys.

use crate::clock;
use crate::command::register::OpenedRegister;
use crate::error::CommandError;
use lavrin_fleet::register::KeptAccount;
use lavrin_keys::key::Fingerprint;
pub use lavrin_store::KeptKeyDeed;
use lavrin_store::database::Database;
use lavrin_store::{Event, JournalEntry};
use lavrin_work::change::run_name;
use lavrin_work::kept::RememberedVersions;

/// Writes down what was done with a version.
pub fn record(
    opened: &OpenedRegister,
    deed: KeptKeyDeed,
    (account, host, version): (&str, &str, u32),
    key: Fingerprint,
    people: &[String],
    reason: Option<&str>,
) -> Result<(), CommandError> {
    let event = Event::Kept {
        deed,
        account: account.to_owned(),
        host: host.to_owned(),
        version,
        key: key.to_string(),
        people: people.to_vec(),
        reason: reason.map(str::to_owned),
    };
    let entry = JournalEntry::new(run_name(&clock::for_file_name()), clock::timestamp(), event);
    Ok(Database::open(opened.folder.path())?.write_down(&entry)?)
}

/// Which versions this journal knows.
pub fn remembered(opened: &OpenedRegister) -> Result<RememberedVersions, CommandError> {
    let store = Database::open_existing(opened.folder.path())?;
    Ok(store.as_ref().map(|store| RememberedVersions::read(store)).transpose()?.unwrap_or_default())
}

/// The place of a version in a call of [`record`].
pub fn place(kept: &KeptAccount, version: u32) -> (&str, &str, u32) {
    (&kept.account, &kept.host, version)
}
