//! What the server asks of the offered key or certificate itself: its algorithm, its size, whether it is revoked.

use super::{Question, Reason, ReasonKind, WrongCertificate};
use crate::account::Account;
use crate::fs::{BytePath, Fact};
use crate::server::Version;
use crate::server_config::{Settings, addresses};
use crate::survey::{KEYS_FILE_BYTES_MAX, Observation, Resolved, Want, Wanted, resolve};
use crate::system::System;
use lavrin_keys::key::container::PieceKind;
use lavrin_keys::key::container::certificate::{self, Certificate};
use lavrin_keys::key::{Algorithm, Fingerprint, PublicKey, revocation};
use lavrin_keys::keysfile::options::Options;
use lavrin_keys::pieces::read;

/// RSA keys below this size are refused by every OpenSSH server; `RequiredRSASize` can only raise it.
const SERVER_RSA_BITS_MIN: usize = 1024;

pub(super) fn reasons(question: &Question, account: &Account, settings: &Settings, seen: &System<'_>) -> Vec<Reason> {
    if seen.server.is_dropbear() {
        return Vec::new();
    }
    let mut reasons = Vec::new();
    if let Some(name) = algorithm_off(question, settings) {
        let setting = settings.get("pubkeyacceptedalgorithms");
        reasons.push(Reason {
            kind: ReasonKind::AlgorithmOff(name),
            path: setting.and_then(|setting| setting.path.clone()),
            line: setting.and_then(|setting| setting.line),
        });
    }
    reasons.extend(too_small(question, settings));
    reasons.extend(long_exponent(question));
    reasons.extend(revoked(question, account, settings, seen));
    reasons
}

/// Since this version the server tells clients which signatures of RSA keys it accepts; before, the stock client's first choice
/// decides.
const TOLD_SINCE: Version = Version(9, 2);

/// The algorithm the client would have to use, where the server does not accept it.
fn algorithm_off(question: &Question, settings: &Settings) -> Option<String> {
    let choices = if settings.version() < TOLD_SINCE { 1 } else { usize::MAX };
    let first_choice = |names: Vec<String>| names.into_iter().take(choices).collect();
    let possible: Vec<String> = match (&question.signature, &question.certificate, &question.key) {
        (Some(named), ..) => vec![named.clone()],
        (None, Some(certificate), _) if certificate.key.algorithm() == Algorithm::Rsa => {
            first_choice(["rsa-sha2-512", "rsa-sha2-256"].map(|name| format!("{name}-cert-v01@openssh.com")).to_vec())
        }
        (None, Some(certificate), _) => vec![certificate::name_of(&certificate.key)],
        (None, None, Some(PublicKey::Rsa { .. })) => {
            first_choice(["rsa-sha2-512", "rsa-sha2-256", "ssh-rsa"].map(str::to_owned).to_vec())
        }
        (None, None, Some(key)) => vec![key.algorithm().name().to_owned()],
        (None, None, None) => return None,
    };
    let accepted = settings.accepted_algorithms();
    (!possible.iter().any(|name| accepted.contains(name))).then(|| possible[0].clone())
}

fn too_small(question: &Question, settings: &Settings) -> Option<Reason> {
    let key = question.key.as_ref().filter(|key| key.algorithm() == Algorithm::Rsa)?;
    let min = settings.word("requiredrsasize").parse().unwrap_or(SERVER_RSA_BITS_MIN).max(SERVER_RSA_BITS_MIN);
    let bits = key.bits();
    (bits < min).then(|| Reason::plain(ReasonKind::KeyTooSmall { bits, min }))
}

/// Above this length of a modulus the library takes no exponent longer than [`EXPONENT_BITS_MAX`] where it checks a signature
/// (`openssl/rsa.h`, `OPENSSL_RSA_SMALL_MODULUS_BITS` and `OPENSSL_RSA_MAX_PUBEXP_BITS`; docs/server-rules.md).
const ANY_EXPONENT_BITS: usize = 3072;
const EXPONENT_BITS_MAX: usize = 64;

fn long_exponent(question: &Question) -> Option<Reason> {
    let key = question.key.as_ref().filter(|key| key.bits() > ANY_EXPONENT_BITS)?;
    let bits = key.exponent_bits().filter(|bits| *bits > EXPONENT_BITS_MAX)?;
    Some(Reason::plain(ReasonKind::ExponentTooLong { bits, max: EXPONENT_BITS_MAX }))
}

/// The file of revoked keys, where the settings name one.
fn file_of_revoked(settings: &Settings) -> Option<BytePath> {
    let word = settings.get("revokedkeys")?.words.first()?;
    (!word.eq_ignore_ascii_case("none")).then(|| BytePath::from(word.as_str()))
}

/// The file of revoked keys, where the settings for an account name one.
pub(crate) fn revoked_file(account: &Account, seen: &System<'_>) -> Option<BytePath> {
    file_of_revoked(&seen.settings(account))
}

pub(super) fn revoked_wants(account: &Account, seen: &System<'_>) -> Option<Want> {
    let file = revoked_file(account, seen)?;
    match resolve(&file, seen) {
        Resolved::Ask(path) => Some(Want { what: Wanted::Node(path), account: None }),
        Resolved::To(real, _) => Some(Want { what: Wanted::Bytes(real, KEYS_FILE_BYTES_MAX), account: None }),
        _ => None,
    }
}

/// A server that cannot read its list of revoked keys takes every key for revoked.
fn revoked(question: &Question, _: &Account, settings: &Settings, seen: &System<'_>) -> Option<Reason> {
    let file = file_of_revoked(settings)?;
    let reason = |kind| Some(Reason::at(kind, &file, None));
    let real = match resolve(&file, seen) {
        Resolved::To(real, _) => real,
        Resolved::Missing(_) | Resolved::Loop => return reason(ReasonKind::RevokedListMissing),
        Resolved::Unseen(..) | Resolved::Ask(_) => return reason(ReasonKind::RevokedKeysUnseen),
    };
    match seen.content(&real) {
        Fact::Known(bytes) if revocation::is_binary(bytes) => {
            let (key, certificate) = (question.key.as_ref(), question.certificate.as_ref());
            match revocation::revokes(bytes, &question.fingerprint, key, certificate) {
                Some(true) => reason(ReasonKind::Revoked),
                Some(false) => None,
                None => reason(ReasonKind::RevokedListMissing),
            }
        }
        Fact::Known(bytes) if lists(bytes, &question.fingerprint) || authority_is_listed(question, bytes) => {
            reason(ReasonKind::Revoked)
        }
        Fact::Known(_) => None,
        Fact::Absent => reason(ReasonKind::RevokedListMissing),
        Fact::Unseen(_) => reason(ReasonKind::RevokedKeysUnseen),
    }
}

fn authority_is_listed(question: &Question, bytes: &[u8]) -> bool {
    question.certificate.as_ref().is_some_and(|certificate| lists(bytes, &certificate.authority))
}

/// Whether a text list of public keys holds this one.
pub(crate) fn lists(bytes: &[u8], fingerprint: &Fingerprint) -> bool {
    read(bytes).iter().any(|piece| match &piece.kind {
        PieceKind::Public { fingerprint: listed, .. } => listed == fingerprint,
        _ => false,
    })
}

/// Why the server refuses a certificate though its authority is trusted by this entry.
pub(super) fn certificate_reason(
    certificate: &Certificate,
    account: &Account,
    options: &Options,
    now: i64,
    seen: &Observation,
) -> Option<ReasonKind> {
    let now = u64::try_from(now).unwrap_or(0);
    let refuse = |why| Some(ReasonKind::CertificateRefused(why));
    if certificate.kind != "user" {
        return refuse(WrongCertificate::ForHosts);
    }
    if now < certificate.valid_after {
        return refuse(WrongCertificate::NotYetValid);
    }
    if now >= certificate.valid_before {
        return refuse(WrongCertificate::Ended);
    }
    if certificate.principals.is_empty() {
        return refuse(WrongCertificate::NamesNobody);
    }
    let named = match options.value("principals") {
        Some(list) => {
            let list = String::from_utf8_lossy(list).into_owned();
            certificate.principals.iter().any(|name| list.split(',').any(|wanted| wanted == name))
        }
        None => certificate.principals.contains(&account.name),
    };
    if !named {
        return refuse(WrongCertificate::ForSomebodyElse);
    }
    let critical = &certificate.critical;
    if critical.unknown.is_some() {
        return refuse(WrongCertificate::UnknownCriticalOption);
    }
    let line = options.value("command").map(lavrin_keys::text::printable);
    if line.is_some() && critical.force_command.is_some() && line != critical.force_command {
        return refuse(WrongCertificate::TwoCommands);
    }
    if critical.verify_required && is_of_authenticator(&certificate.key) {
        return Some(ReasonKind::VerificationUnknown);
    }
    let from = critical.source_address.as_ref()?;
    if !addresses::is_plain_list(from, seen.server.rules()) {
        return refuse(WrongCertificate::BadAddresses);
    }
    match seen.connection.from {
        None => Some(ReasonKind::FromUnknown { from: from.clone() }),
        Some(address) if addresses::list_takes(from, address, seen.server.rules()) => None,
        Some(_) => Some(ReasonKind::CertificateFromElsewhere { from: from.clone() }),
    }
}

/// Whether the private half lies in an authenticator.
pub(super) fn is_of_authenticator(key: &PublicKey) -> bool {
    matches!(key, PublicKey::SkEd25519 { .. } | PublicKey::SkEcdsa { .. })
}
