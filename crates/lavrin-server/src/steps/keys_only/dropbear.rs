//! The same for dropbear, which has no settings in files: it takes switches when it starts. Where the system's own start
//! configuration holds them (Debian's default file) they are set there.

use super::{OnlyPassword, OpenSetting, RootLogin, SettingLine, SettingsDraft, without_a_key};
use crate::account::{Account, Password};
use crate::fs::BytePath;
use crate::login;
use crate::server_config::switches::{START_BYTES_MAX, START_PATH, Switches, switches_line, with_switches};
use crate::steps::NoSteps;
use crate::survey::{Resolved, Want, Wanted, resolve};
use crate::system::System;

/// What is to be looked at: whose the file is, and every folder above it.
pub(super) fn wants(seen: &System<'_>) -> Vec<Want> {
    let look = |what| Want { what, account: None };
    let mut wants = vec![look(Wanted::Bytes(START_PATH.into(), START_BYTES_MAX))];
    if let Resolved::Ask(path) = resolve(&START_PATH.into(), seen) {
        wants.push(look(Wanted::Node(path)));
    }
    wants.retain(|want| !seen.answers(want));
    wants
}

/// Whether it is a server whose switches are in a file that was read.
pub(super) fn is_known(seen: &System<'_>) -> bool {
    seen.server.is_dropbear() && seen.content(&START_PATH.into()).known().is_some()
}

/// The switches that are missing, as they are typed.
fn missing(root: RootLogin, switches: &Switches) -> String {
    let passwords = (!switches.no_passwords).then_some("-s");
    let root = (root == RootLogin::Off && !switches.no_root).then_some("-w");
    passwords.into_iter().chain(root).collect::<Vec<_>>().join(" ")
}

pub(super) fn open_to_passwords(root: RootLogin, seen: &System<'_>) -> Vec<OpenSetting> {
    let missing = missing(root, seen.switches());
    if missing.is_empty() {
        return Vec::new();
    }
    let path = BytePath::from(START_PATH);
    let line = seen.content(&path).known().and_then(|text| switches_line(text));
    let value = format!("without {missing}");
    vec![OpenSetting { keyword: "DROPBEAR_EXTRA_ARGS", value, place: line.map(|line| (path, line)), in_match: false }]
}

/// Sets what is missing; the line that does it.
pub(super) fn set(
    draft: &mut SettingsDraft<'_>,
    root: RootLogin,
    seen: &System<'_>,
) -> Result<Vec<SettingLine>, NoSteps> {
    let missing = missing(root, seen.switches());
    if missing.is_empty() {
        return Ok(Vec::new());
    }
    if seen.switches().password_too {
        return Err(NoSteps::PasswordBehindKey);
    }
    let path = BytePath::from(START_PATH);
    draft.open(&path)?;
    let text = draft.text(&path);
    let line = switches_line(&text);
    let mut lines: Vec<Vec<u8>> = text.split(|byte| *byte == b'\n').map(<[u8]>::to_vec).collect();
    let before = line.map(|line| lines[line - 1].clone());
    let after = with_switches(before.as_deref(), &missing)
        .ok_or_else(|| NoSteps::SettingNotUnderstood { path: path.clone(), line: line.unwrap_or(1) })?;
    if let Some(line) = line {
        lines[line - 1].clone_from(&after);
    } else {
        // Behind everything, so that it counts; a file without a line end at its end gets one.
        lines.pop_if(|last| last.is_empty());
        lines.extend([after.clone(), Vec::new()]);
    }
    draft.put(&path, lines.join(&b'\n'));
    Ok(vec![SettingLine { path, line, before, after }])
}

/// Accounts with a password that lets them in today, and without a key that is shown to let them in afterwards.
pub(super) fn only_password(seen: &System<'_>, after: &System<'_>, now: i64) -> Vec<OnlyPassword> {
    let switches = seen.switches();
    let opens = |account: &Account| {
        let root_may = !account.is_root() || !(switches.no_root || switches.no_root_password);
        !switches.no_passwords
            && root_may
            && account.password == Some(Password::Set)
            && login::lets_account_in(account, seen, now)
    };
    without_a_key(opens, seen, after, now)
}
