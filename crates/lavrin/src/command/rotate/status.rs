//! `lavrin rotate --status`: how far each key that is replaced is, by what the last surveys saw.

use super::RotateArgs;
use super::out::{RotationOut, heading, next, object, table};
use crate::command::register::{OpenedRegister, today};
use crate::command::unknown;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::{Label, Ui};
use lavrin_fleet::fleet::Owner;
use lavrin_fleet::fleet::rotation::{Rotation, RotationPlace, RotationStage, rotations};
use lavrin_server::system::System;
use lavrin_store::database::Database;
use lavrin_work::memory::Memory;
use lavrin_work::rotate::{RotationRow, RotationState, StaysWhy};

/// Hosts that are held in memory at once.
const HOSTS_AT_ONCE: usize = 512;

/// Runs it.
pub fn run(args: &RotateArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.fleet.register.open_to_report(ui)?;
    let all = rotations(opened.register(), today());
    if let Some(name) = &args.account {
        name.of(opened.register())?;
    }
    let wanted: Vec<Rotation> = match args.who.as_deref() {
        None if args.account.is_some() => {
            let is_it = |one: &Rotation| {
                let Owner::Kept { account, host, .. } = &one.owner else { return false };
                args.account.as_ref().is_some_and(|name| name.account == *account && name.host == *host)
            };
            all.into_iter().filter(is_it).collect()
        }
        None => all,
        Some(who) if who.starts_with("SHA256:") => {
            let is_it = |one: &Rotation| [one.old_print(), one.new_print()].iter().any(|key| key.to_string() == who);
            all.into_iter().filter(is_it).collect()
        }
        Some(who) => {
            unknown::person(opened.register(), who)?;
            let is_theirs = |one: &Rotation| matches!(&one.owner, Owner::Person { id, .. } if id == who);
            all.into_iter().filter(is_theirs).collect()
        }
    };
    let (rows, never) = rows(&opened, &wanted)?;
    let shown: Vec<(&Rotation, &Vec<RotationRow>)> =
        wanted.iter().zip(&rows).filter(|(one, own)| is_open(one, own)).collect();
    let out = object(shown.iter().map(|(one, own)| RotationOut::of(one, own, false, None)).collect());
    ui.give(&out, || {
        let mut text = String::new();
        for (one, own) in &shown {
            text += &heading(one, ui);
            text += &format!("{}\n", table(own, ui));
            text += &format!("to go on: {}\n\n", ui.paint(Label::Type, &next(one, None, false)));
        }
        if shown.is_empty() {
            text += "no key is being replaced\n";
        }
        if never > 0 {
            text += &format!("{never} of {} hosts were never surveyed: lavrin survey\n", opened.register().hosts.len());
        }
        text.trim_end().to_owned()
    });
    Ok(if shown.is_empty() { Exit::Done } else { Exit::Findings })
}

/// Whether something is left to do.
fn is_open(rotation: &Rotation, rows: &[RotationRow]) -> bool {
    rotation.retired.is_none() || rows.iter().any(|row| row.state != RotationState::Replaced)
}

/// The rows of each rotation, and how many hosts no survey has seen.
fn rows(opened: &OpenedRegister, wanted: &[Rotation]) -> Result<(Vec<Vec<RotationRow>>, usize), CommandError> {
    let register = opened.register();
    let mut rows: Vec<Vec<RotationRow>> = wanted.iter().map(|_| Vec::new()).collect();
    let names: Vec<&str> = register.hosts.keys().map(String::as_str).collect();
    let Some(store) = Database::open_existing(opened.folder.path())? else { return Ok((rows, names.len())) };
    let mut memory = Memory::of(&store);
    let mut never = 0;
    for some in names.chunks(HOSTS_AT_ONCE) {
        for (host, seen) in some.iter().zip(memory.observations(some, i64::MAX)?) {
            let Some(seen) = seen else {
                never += 1;
                continue;
            };
            let system = System::of(&seen);
            for (rotation, rows) in wanted.iter().zip(&mut rows) {
                let stages = rotation.on(register, host, &system).into_iter();
                let asked = stages.filter(|one| one.managed || one.stage != RotationStage::Unread);
                rows.extend(asked.map(|stage| row(host, stage)));
            }
        }
    }
    Ok((rows, never))
}

fn row(host: &str, stage: RotationPlace) -> RotationRow {
    let state = match stage.stage {
        RotationStage::New => RotationState::Replaced,
        RotationStage::Unread => RotationState::NotRead,
        _ if !stage.managed => RotationState::NotManaged,
        RotationStage::Beside => RotationState::Beside,
        RotationStage::Old => RotationState::Old,
    };
    let why = matches!(state, RotationState::Beside | RotationState::Old).then_some(StaysWhy::NotNow);
    RotationRow { host: host.to_owned(), account: stage.account, state, why, new: None, old: None }
}
