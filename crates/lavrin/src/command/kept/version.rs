//! A new version of a kept key: sealed first, then written into the register. A private half that nobody could open again is worse
//! than a sealed file that no version belongs to.

use super::recipients::administrators;
use super::record::{KeptKeyDeed, record, remembered};
use crate::command::register::{OpenedRegister, change_file, edit_fault, today};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use lavrin_fleet::register::edit_kept::{NewVersion, add_version, begin};
use lavrin_fleet::register::kept::{FOLDER, VERSION_MAX, file, sealed_file};
use lavrin_keys::key::PrivateKey;
use lavrin_keys::key::generate::SystemSource;
use lavrin_seal::{SealedFile, seal};
use lavrin_work::kept::comment_of;
use std::sync::Arc;

/// A version that is not written yet.
pub struct NewVersionOf {
    /// The account.
    pub account: String,
    /// The host.
    pub host: String,
    /// Its number.
    pub version: u32,
    /// The key.
    pub key: Arc<PrivateKey>,
    /// For whom it is sealed.
    pub people: Vec<String>,
    /// The register with it.
    pub register: OpenedRegister,
    path: String,
    text: String,
    sealed: String,
}

/// Makes one of a key. `options` stand in front of it, where it is the first version; `proven`: it has opened the account already.
pub fn new_version(
    opened: &OpenedRegister,
    account: &str,
    host: &str,
    key: Arc<PrivateKey>,
    options: &[String],
    proven: bool,
) -> Result<NewVersionOf, CommandError> {
    let recipients = administrators(opened.register())?;
    let version = next_version(opened, account, host)?;
    let comment = comment_of(account, host, &version.to_string());
    let unsealed = |fault: lavrin_seal::SealFault| {
        CommandError::with(Exit::Stopped, "the private half could not be sealed").because(fault.to_string())
    };
    let sealed = seal(&key, &comment, &recipients.keys(), &SystemSource).map_err(unsealed)?;
    SealedFile::read(sealed.as_bytes()).map_err(unsealed)?;
    let (path, people) = (file(account, host), recipients.names());
    let line = key.public().line(&comment);
    let new = NewVersion { version, line: &line, added: today(), sealed_for: &people, proven: proven.then(today) };
    let old = match opened.text(&path) {
        Some(text) => text.to_owned(),
        None => begin(options).map_err(edit_fault(&path))?,
    };
    let text = add_version(&old, &new).map_err(edit_fault(&path))?;
    let register = opened.with(&path, &text);
    let (account, host) = (account.to_owned(), host.to_owned());
    Ok(NewVersionOf { account, host, version, key, people, register, path, text, sealed })
}

/// A number that no version and no sealed file has or had: nothing sealed is ever written over.
fn next_version(opened: &OpenedRegister, account: &str, host: &str) -> Result<u32, CommandError> {
    let known = opened.register().kept_of(account, host).map_or(0, lavrin_fleet::register::KeptAccount::newest);
    let names = opened.folder.names_in(FOLDER)?;
    let number = |name: &String| {
        let rest = name.strip_prefix(&format!("{account}@{host}."))?;
        rest.strip_suffix(".age")?.parse::<u32>().ok()
    };
    let lying = names.iter().filter_map(number).max().unwrap_or(0);
    let was = remembered(opened)?.newest(account, host).unwrap_or(0);
    let next = known.max(lying).max(was).saturating_add(1);
    if next > VERSION_MAX {
        return Err(CommandError::with(Exit::Stopped, format!("{account}@{host} has had {VERSION_MAX} versions")));
    }
    Ok(next)
}

impl NewVersionOf {
    /// Writes the sealed file and the register, and the journal.
    pub fn write(
        &self,
        opened: &OpenedRegister,
        deed: KeptKeyDeed,
        reason: Option<&str>,
        ui: &Ui,
    ) -> Result<OpenedRegister, CommandError> {
        let sealed = sealed_file(&self.account, &self.host, self.version);
        opened.folder.save(&sealed, None, &self.sealed)?;
        ui.status(&format!("sealed for {}: {sealed}", self.people.join(", ")));
        let written = change_file(opened, ui, &self.path, &self.text)?;
        // On record only once the register knows it: else a run that is killed here would look like a register that was set back.
        let place = (self.account.as_str(), self.host.as_str(), self.version);
        record(opened, deed, place, self.key.public().fingerprint(), &self.people, reason)?;
        Ok(written)
    }
}
