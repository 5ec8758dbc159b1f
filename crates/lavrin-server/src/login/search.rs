//! The search for an entry that opens an account: which files the server reads, and what it makes of their lines.

use super::{Limits, Place, Question, Reason, ReasonKind, dropbear, key_files, limits, offered, strict};
use crate::access_rules::{self, FileAccess, Obstacle};
use crate::account::Account;
use crate::fs::{BytePath, Fact};
use crate::server_config::{Settings, addresses};
use crate::system::System;
use lavrin_keys::key::Fingerprint;
use lavrin_keys::key::container::PieceKind;
use lavrin_keys::keysfile::{Entry, KeysFile, broken};
use lavrin_keys::pieces::read;

pub(super) struct Search {
    pub(super) reasons: Vec<Reason>,
    pub(super) entry: Option<Place>,
    pub(super) limits: Limits,
}

/// Goes through the key files as the server does: the first entry that matches and is usable wins.
pub(super) fn search(question: &Question, account: &Account, settings: &Settings, seen: &System<'_>) -> Search {
    let mut reasons = Vec::new();
    let files = key_files(account, seen);
    if files.is_empty() {
        reasons.push(Reason::plain(ReasonKind::NoKeyFileNamed));
    }
    let mut missing = Vec::new();
    for file in &files {
        let access = access_rules::access(file, account, strict(settings, seen), seen);
        let real = match &access {
            FileAccess::Open(real) => real,
            // A missing key file stops nothing; it is reported only where no other file holds the key.
            FileAccess::Missing(_) => {
                missing.push(Reason::at(ReasonKind::NoKeyFile, file, None));
                continue;
            }
            barred => {
                reasons.extend(barred_reasons(barred, file, question, account, settings, seen));
                continue;
            }
        };
        let bytes = match seen.content(real) {
            Fact::Known(bytes) => bytes,
            Fact::Absent => continue,
            Fact::Unseen(why) => {
                reasons.push(Reason::at(ReasonKind::Unseen(why), file, None));
                continue;
            }
        };
        match search_file(question, account, settings, seen, &seen.keys_file(bytes), file) {
            Ok((line, limits)) => {
                // What an earlier file says does not matter once a later one opens the account.
                return Search { reasons: Vec::new(), entry: Some(Place::Line { path: file.clone(), line }), limits };
            }
            Err(found) => reasons.extend(found),
        }
    }
    if reasons.is_empty() {
        reasons.extend(missing.into_iter().take(1));
    } else if reasons.iter().any(|reason| reason.line.is_some()) {
        // Where one file holds the key, it says nothing that another does not.
        reasons.retain(|reason| reason.kind != ReasonKind::NoEntry);
    }
    Search { reasons, entry: None, limits: Limits::default() }
}

fn search_file(
    question: &Question,
    account: &Account,
    settings: &Settings,
    seen: &System<'_>,
    file: &KeysFile,
    path: &BytePath,
) -> Result<(usize, Limits), Vec<Reason>> {
    if seen.server.is_dropbear() {
        return dropbear::search(file.as_bytes(), &question.fingerprint, path, seen.server.rules());
    }
    let mut reasons = Vec::new();
    // A certificate is looked up by the key of its authority.
    let wanted = question.certificate.as_ref().map_or(question.fingerprint, |certificate| certificate.authority);
    for (line, entry) in file.entries().filter(|(_, entry)| entry.fingerprint == wanted) {
        match entry_reason(question, account, settings, seen, entry) {
            None => return Ok((line, Limits::of(&entry.options).and_of(question.certificate.as_ref()))),
            Some(kind) => reasons.push(Reason::at(kind, path, Some(line))),
        }
    }
    let dead = file.unusable().filter(|(_, line)| line.key.as_ref().is_some_and(|key| key.fingerprint() == wanted));
    reasons.extend(
        dead.map(|(line, unusable)| Reason::at(ReasonKind::DeadLine(unusable.fault.clone()), path, Some(line))),
    );
    if reasons.is_empty() {
        let own = question.key.as_ref().filter(|_| question.certificate.is_none());
        if let Some((first, last)) = own.and_then(|key| broken::lines_of(file.as_bytes(), key)).filter(|(a, b)| a != b)
        {
            reasons.push(Reason::at(ReasonKind::Broken { last }, path, Some(first)));
            return Err(reasons);
        }
        let mangled = mangled_line(file, &wanted);
        let kind = if mangled.is_some() { ReasonKind::NotOnItsLine } else { ReasonKind::NoEntry };
        reasons.push(Reason::at(kind, path, mangled));
    }
    Err(reasons)
}

/// The line where a key begins that a person sees in the file and the server does not: broken, glued, in a block.
fn mangled_line(file: &KeysFile, fingerprint: &Fingerprint) -> Option<usize> {
    let bytes = file.as_bytes();
    // With CR alone as line end the server sees one line, a person many.
    let lone_cr = bytes.contains(&b'\r') && !bytes.windows(2).any(|pair| pair == b"\r\n");
    let text: Vec<u8> = bytes.iter().map(|byte| if lone_cr && *byte == b'\r' { b'\n' } else { *byte }).collect();
    read(&text).iter().find_map(|piece| match &piece.kind {
        PieceKind::Public { fingerprint: found, .. } if found == fingerprint => Some(piece.line),
        _ => None,
    })
}

/// Why the server passes over an entry that holds the key.
fn entry_reason(
    question: &Question,
    account: &Account,
    settings: &Settings,
    seen: &System<'_>,
    entry: &Entry,
) -> Option<ReasonKind> {
    let options = &entry.options;
    let shown = |value: &[u8]| lavrin_keys::text::printable(value);
    match &question.certificate {
        Some(_) if !options.has("cert-authority") => return Some(ReasonKind::NotAnAuthority),
        None if options.has("cert-authority") => return Some(ReasonKind::OnlyAsAuthority),
        Some(certificate) => {
            if let Some(kind) = offered::certificate_reason(certificate, account, options, question.now, seen) {
                return Some(kind);
            }
        }
        None if options.has("principals") => return Some(ReasonKind::PrincipalsOnPlainKey),
        None => {}
    }
    let expired = options.values("expiry-time").find(|value| limits::is_past(value, question.now, seen.clock));
    if let Some(value) = expired {
        return Some(ReasonKind::Expired { at: shown(value) });
    }
    if account.is_root()
        && settings.word("permitrootlogin") == "forced-commands-only"
        && options.value("command").is_none()
        && question.certificate.as_ref().is_none_or(|certificate| certificate.critical.force_command.is_none())
    {
        return Some(ReasonKind::RootNotAllowed("forced-commands-only".to_owned()));
    }
    let always = settings
        .get("pubkeyauthoptions")
        .is_some_and(|setting| setting.words.iter().any(|word| word.eq_ignore_ascii_case("verify-required")));
    if (always || options.has("verify-required")) && offered::is_of_authenticator(&entry.key) {
        return Some(ReasonKind::VerificationUnknown);
    }
    let from = options.value("from")?;
    let Some(address) = seen.connection.from else { return Some(ReasonKind::FromUnknown { from: shown(from) }) };
    // Only a server that looks up names holds patterns against them.
    let host = seen.connection.from_host.as_deref().filter(|_| settings.word("usedns") == "yes");
    let takes = addresses::list_takes_client(&String::from_utf8_lossy(from), address, host, settings.version());
    (!takes).then(|| ReasonKind::FromElsewhere { from: shown(from) })
}

fn barred_reasons(
    access: &FileAccess,
    file: &BytePath,
    question: &Question,
    account: &Account,
    settings: &Settings,
    seen: &System<'_>,
) -> Vec<Reason> {
    match access {
        FileAccess::Barred(real, obstacles) => {
            let mut reasons: Vec<Reason> = obstacles
                .iter()
                .map(|Obstacle { path, kind }| Reason::at(ReasonKind::Obstacle(kind.clone()), path, None))
                .collect();
            if let Some(bytes) = seen.content(real).into_known() {
                let found = search_file(question, account, settings, seen, &seen.keys_file(bytes), file);
                reasons.extend(found.err().unwrap_or_default());
            }
            reasons
        }
        FileAccess::NotRegular(path) => vec![Reason::at(ReasonKind::NotRegular, path, None)],
        FileAccess::LinkLoop => vec![Reason::at(ReasonKind::LinkLoop, file, None)],
        FileAccess::Unseen(path, why) => vec![Reason::at(ReasonKind::Unseen(why.clone()), path, None)],
        FileAccess::Open(_) | FileAccess::Missing(_) => Vec::new(),
    }
}
