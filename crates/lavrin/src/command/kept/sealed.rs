//! What lies sealed in the register, and what comes out of it. Nothing in the register is believed beyond what the seal shows.

use super::opener::SealOpener;
use crate::command::register::{OpenedRegister, today};
use crate::error::CommandError;
use crate::exit::Exit;
use lavrin_fleet::fleet::{Index, Owner};
use lavrin_fleet::register::kept::sealed_file;
use lavrin_fleet::register::{KeptAccount, KeptVersion, OwnedKey};
use lavrin_keys::key::generate::SystemSource;
use lavrin_keys::key::{PrivateKey, PublicKey};
use lavrin_keys::text::shell_word;
use lavrin_seal::{SealFault, SealedFile};
use std::sync::Arc;

/// What lies in the file of a version.
pub enum LyingSeal {
    /// A sealed file, and its text.
    Sealed(Box<SealedFile>, String),
    /// Nothing.
    Missing,
    /// Something that cannot be read, and why.
    Damaged(String),
}

/// Looks at the file of a version.
pub fn lying(opened: &OpenedRegister, kept: &KeptAccount, version: u32) -> LyingSeal {
    match opened.folder.text(&sealed_file(&kept.account, &kept.host, version)) {
        Ok(None) => LyingSeal::Missing,
        Err(fault) => LyingSeal::Damaged(fault.source.to_string()),
        Ok(Some(text)) => match SealedFile::read(text.as_bytes()) {
            Ok(sealed) => LyingSeal::Sealed(Box::new(sealed), text),
            Err(fault) => LyingSeal::Damaged(fault.to_string()),
        },
    }
}

/// A private half that was opened.
pub struct OpenedKept {
    /// The key.
    pub key: Arc<PrivateKey>,
    /// Who opened it, by the register.
    pub person: Option<String>,
}

/// Opens a version.
pub fn open(
    opened: &OpenedRegister,
    kept: &KeptAccount,
    (key, version): (&OwnedKey, &KeptVersion),
    opener: &mut SealOpener,
) -> Result<OpenedKept, CommandError> {
    let what = format!("version {} of {}", version.number, kept.name());
    let sealed = match lying(opened, kept, version.number) {
        LyingSeal::Sealed(sealed, _) => sealed,
        LyingSeal::Missing => return Err(damaged(kept, version, &what, "the sealed file is missing")),
        LyingSeal::Damaged(why) => return Err(damaged(kept, version, &what, &why)),
    };
    let with = opener.key_for(&sealed, &what)?;
    let unsealed = sealed.open(&with, &SystemSource).map_err(|fault| match fault {
        SealFault::ForOthers => damaged(kept, version, &what, "the key that it is sealed for does not open it"),
        fault => damaged(kept, version, &what, &fault.to_string()),
    })?;
    let print = unsealed.key.public().fingerprint();
    if print != key.fingerprint {
        let said = format!("it holds {print}, and the register says {}", key.fingerprint);
        return Err(damaged(kept, version, &what, &said));
    }
    let person = match Index::of(opened.register()).owner(with.public().fingerprint()) {
        Some(Owner::Person { id, .. }) => Some(id.clone()),
        _ => None,
    };
    Ok(OpenedKept { key: Arc::new(unsealed.key), person })
}

fn damaged(kept: &KeptAccount, version: &KeptVersion, what: &str, why: &str) -> CommandError {
    let path = sealed_file(&kept.account, &kept.host, version.number);
    CommandError::with(Exit::Stopped, format!("{what} cannot be opened: {path} is not what was sealed"))
        .because(why)
        .because("bring the file back from version control or from a backup")
        .hint(format!("with another way into the account: lavrin rotate --account {}", shell_word(&kept.name())))
}

/// Refuses to go on where the register was set back to a time before a version that was made from here.
pub fn set_back(opened: &OpenedRegister, kept: &KeptAccount) -> Result<(), CommandError> {
    let remembered = super::remembered(opened)?;
    let Some((version, time)) = remembered.newer_than(kept) else { return Ok(()) };
    let name = kept.name();
    let day = time.get(..10).unwrap_or(time);
    Err(CommandError::with(
        Exit::Stopped,
        format!("the register knows {name} up to version {}; version {version} came on {day}", kept.newest()),
    )
    .because("the register was set back, perhaps by version control; the account has the newer key")
    .because(format!("bring back kept/{name}.toml and {}", sealed_file(&kept.account, &kept.host, version)))
    .because(format!("if they are lost for good, move kept/{name}.toml away, and then:"))
    .hint(format!("lavrin kept make {}", shell_word(&name))))
}

/// Whether somebody with these keys may have a copy of a private half that is still in use.
pub fn may_have(opened: &OpenedRegister, kept: &KeptAccount, person: &str, keys: &[PublicKey]) -> bool {
    let can_open = |version: &KeptVersion| match lying(opened, kept, version.number) {
        LyingSeal::Sealed(sealed, _) => keys.iter().any(|key| sealed.is_for(key)),
        _ => false,
    };
    let active = kept.all().filter(|(key, _)| key.is_active(today()));
    active.into_iter().any(|(_, version)| kept.known_to(version.number).contains(person) || can_open(version))
}

/// The version in use of a kept key.
pub fn current(kept: &KeptAccount) -> Result<(&OwnedKey, &KeptVersion), CommandError> {
    kept.current(today()).ok_or_else(|| {
        CommandError::usage(format!("no version of {} is in use", kept.name()))
            .hint(format!("lavrin kept make {}", shell_word(&kept.name())))
    })
}
