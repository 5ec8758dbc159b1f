//! Reading a public key in a register.

use super::fault::FieldKind;
use super::fields::{Faults, Fields};
use super::table::RegisterTable;
use super::{OwnedKey, Purpose, RegisterFault, SourcePart};
use lavrin_keys::key::KeyFault;
use lavrin_keys::key::container::line;
use std::sync::Arc;
use toml::Spanned;

/// A key of a person, or of an account on a host.
pub(super) fn owned_key(
    source: SourcePart,
    about: &str,
    table: Spanned<RegisterTable<'_>>,
    of_host: bool,
    faults: &mut Faults,
) -> Option<OwnedKey> {
    let mut fields = Fields::new(source, about, table, faults);
    let text = fields.needed_text("line");
    let label = fields.text("label").map(|label| label.value);
    let purpose = fields.word("purpose", &Purpose::NAMES, FieldKind::Purpose);
    let (added, retired, replaces) = (fields.date("added"), fields.date("retired"), fields.text("replaces"));
    let (account, file) = if of_host { (fields.needed_text("account"), fields.text("file")) } else { (None, None) };
    let read = text.map(|text| (line::parse(text.value.as_bytes()).map(own), text.place));
    let key = match read {
        Some((Some(Ok((key, fingerprint, comment))), place)) => Some((key, fingerprint, comment, place)),
        Some((Some(Err(fault)), place)) => {
            fields.fault(RegisterFault::BadKey { fault }, place);
            None
        }
        Some((None, place)) => {
            fields.fault(RegisterFault::BadKey { fault: KeyFault::NotAKey }, place);
            None
        }
        None => None,
    };
    fields.end();
    let (key, fingerprint, comment, place) = key?;
    Some(OwnedKey {
        label: label.unwrap_or_else(|| "main".to_owned()),
        key,
        fingerprint,
        comment,
        purpose: purpose.unwrap_or(if of_host { Purpose::Automation } else { Purpose::Person }),
        added: added.map(|added| added.value),
        retired: retired.map(|retired| retired.value),
        replaces,
        account: account.map(|account| account.value),
        file: file.map(|file| file.value),
        place,
    })
}

/// A key, its fingerprint and its comment.
pub(super) type Own = (lavrin_keys::key::PublicKey, lavrin_keys::key::Fingerprint, String);

/// What was read of a line with a key.
pub(super) fn own(read: Result<line::KeyLine<'_>, KeyFault>) -> Result<Own, KeyFault> {
    let read = read?;
    let comment = lavrin_keys::text::printable(read.comment.trim_ascii());
    Ok((Arc::unwrap_or_clone(read.key), read.fingerprint, comment))
}
