//! A change for a host that is reached only by a console: printed to be pasted there, and its answer taken in.

use super::EnforceArgs;
use crate::clock;
use crate::command::compare::moment;
use crate::command::compare::out::{AccountOut, account_text};
use crate::command::register::OpenedRegister;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::{Label, Ui};
use crate::{input, paths};
use lavrin_fleet::fleet;
use lavrin_fleet::register::Host;
use lavrin_keys::key::generate::SystemSource;
use lavrin_keys::text::printable;
use lavrin_reach::by_hand::{self, Told, change_script, id_in, paste, told};
use lavrin_server::account::Account;
use lavrin_server::audit::Auditor;
use lavrin_server::steps::{Guarded, guard};
use lavrin_server::system::System;
use lavrin_store::database::Database;
use lavrin_store::{ChangeOutcome, Event, JournalEntry, Keeper};
use lavrin_work::change::{BY_HAND, Ended, Intent, Open, Record, Task, run_name};
use lavrin_work::fleet::removed;
use lavrin_work::memory::Memory;
use lavrin_work::owed;
use lavrin_work::plan::Plan;
use lavrin_work::survey::record_of;
use lavrin_work::ways::{Way, Ways};
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::{Arc, Mutex};

/// Prints the change for the one host named, by what the last survey saw of it.
pub fn script(args: &EnforceArgs, opened: &OpenedRegister, ui: &Ui) -> Result<Exit, CommandError> {
    let host = one_host(args, opened)?;
    let unseen = || {
        CommandError::with(
            Exit::NotChecked,
            format!("nothing is known of {} yet, so no change can be worked out", host.id),
        )
        .hint("lavrin survey --script >look.sh, then on the host, as root: sh look.sh >answer")
        .hint(format!("lavrin survey {} --read answer", host.id))
    };
    let store = Database::open_existing(opened.folder.path())?.ok_or_else(unseen)?;
    let seen = Memory::of(&store).observations(&[&host.id], i64::MAX)?.pop().flatten().ok_or_else(unseen)?;
    let mut removed = removed(&store)?;
    removed.retain(|name, _| *name == host.id);
    let mut plan = Plan::new(opened.register(), moment(), removed, args.which());
    plan.take(&host.id, Box::new(seen));
    let mut planned = plan.end(&Ways::of(opened.register(), Way::default(), None));
    for account in planned.accounts.get(&host.id).into_iter().flatten() {
        ui.status(account_text(&AccountOut::of(account, &host.id), ui).trim_end());
    }
    let Some(job) = planned.jobs.pop() else {
        ui.result(&format!("# {}: nothing to do", host.id));
        return Ok(Exit::Done);
    };
    let id = format!("{}-{}", run_name(&clock::for_file_name()), host.id);
    let mut guarded: Vec<(Record, &Account, Vec<Guarded>)> = Vec::new();
    for Task { steps, .. } in &job.tasks {
        let record = Record {
            id: format!("{id}-{}", steps.account.name),
            time: clock::timestamp(),
            command: "enforce",
            place: host.id.clone(),
            login: Some(BY_HAND.to_owned()),
            key: None,
            reason: args.fleet.change.reason.clone(),
            run: Some(id.clone()),
            effect: steps.effect(),
        };
        guarded.push((record, &steps.account, guard(steps, None, args.fleet.many.accept_lockout)?));
    }
    let work: Vec<(&Account, &[Guarded])> =
        guarded.iter().map(|(_, account, changes)| (*account, changes.as_slice())).collect();
    let seen = job.tasks.first().map(|task| task.seen.clone()).unwrap_or_default();
    let script = change_script(&id, &work, &seen, &SystemSource).ok_or_else(|| {
        CommandError::with(Exit::Stopped, "a path on this host cannot be handed to a shell safely")
            .because("nothing was changed")
    })?;
    // The intent is on record before anybody can paste anything.
    let keeper: Arc<dyn Keeper + Send + Sync> = Arc::new(Mutex::new(store));
    let intents: Vec<Intent<'_>> =
        guarded.iter().map(|(record, account, changes)| (record.clone(), *account, changes.as_slice())).collect();
    Open::write(&keeper, &intents)?.wait_for_an_answer();
    ui.part(&paste(&format!("Paste all of this into a root shell on {}, and keep what it prints.", host.id), &script));
    ui.status(&format!("then: lavrin enforce {} --read ANSWER", host.id));
    Ok(Exit::Done)
}

fn one_host<'a>(args: &EnforceArgs, opened: &'a OpenedRegister) -> Result<&'a Host, CommandError> {
    match &args.hosts[..] {
        [host] => opened.reading.register.hosts.get(host).map(Box::as_ref),
        _ => None,
    }
    .ok_or_else(|| CommandError::usage("which host? Name one host of the register").hint("lavrin host list"))
}

/// Takes in what the change printed on the host: how it ended, and what the host is like now.
pub fn read(args: &EnforceArgs, path: &Path, opened: &mut OpenedRegister, ui: &Ui) -> Result<Exit, CommandError> {
    let host = one_host(args, opened)?.clone();
    let answer = input::bytes(path)?;
    let bad = |cause: String| {
        CommandError::usage(format!("{} cannot be used", paths::shown(path)))
            .because(cause)
            .hint(format!("lavrin enforce {} --script >change, then paste it on the host", host.id))
    };
    let id = id_in(&answer).unwrap_or_default();
    let store = Database::open(opened.folder.path())?;
    let open = open_intents(&store, &id, &host.id)?;
    let state = told(&answer, &id).ok_or_else(|| bad("it does not say how the change ended".to_owned()))?;
    if state == Told::Damaged {
        return Err(CommandError::with(Exit::Stopped, "the paste arrived damaged; nothing was changed")
            .hint("paste it again, in smaller parts if the console loses characters"));
    }
    if open.is_empty() {
        let id = printable(id.as_bytes());
        return Err(bad(format!("no change '{id}' is waiting for an answer from {}", host.id)));
    }
    let (outcome, detail, exit) = match &state {
        Told::Done => (ChangeOutcome::Done, "by hand: the host says that everything is done".to_owned(), Exit::Done),
        Told::Unknown(why) => (ChangeOutcome::Unknown, why.clone(), Exit::Midway),
        Told::AsBefore(why) => (ChangeOutcome::AsBefore, why.clone(), Exit::Stopped),
        Told::Damaged => (ChangeOutcome::AsBefore, String::new(), Exit::Stopped),
    };
    let time = clock::timestamp();
    for id in open {
        let event = Event::Outcome { outcome, detail: detail.clone() };
        store.write_down(&JournalEntry::new(id, time.clone(), event))?;
    }
    let seen =
        by_hand::read(&answer, |seen| fleet::wants(&System::of(seen))).map_err(|fault| bad(fault.to_string()))?;
    store.record(record_of(&Auditor::default(), &host.id, clock::unix(), &seen))?;
    if state == Told::Done {
        let ended = Ended {
            accounts: Vec::new(),
            asked: Vec::new(),
            not_shown: Vec::new(),
            armed: None,
            after: Some(Box::new(seen)),
        };
        owed::settle(opened, &BTreeMap::from([(host.id.clone(), ended)]))?;
    }
    let headline = match &state {
        Told::Done => ui.paint(Label::Good, &format!("{}: done", host.id)),
        Told::Unknown(why) => ui.paint(Label::Bad, &format!("{}: {why}", host.id)),
        Told::AsBefore(why) => ui.paint(Label::Warn, &format!("{}: everything is as it was: {why}", host.id)),
        Told::Damaged => String::new(),
    };
    ui.result(&format!("{headline}\nwhat differs now: lavrin compare {}", host.id));
    Ok(exit)
}

/// Changes of this name that have no outcome yet.
fn open_intents(store: &Database, id: &str, host: &str) -> Result<Vec<String>, CommandError> {
    let lines = store.journal()?;
    let ended: Vec<&str> =
        lines.iter().filter(|line| matches!(line.event, Event::Outcome { .. })).map(|line| line.id.as_str()).collect();
    let is_meant = |line: &&JournalEntry| match &line.event {
        Event::Intent { place, run, .. } => place == host && run.as_deref() == Some(id),
        Event::Outcome { .. } | Event::Kept { .. } => false,
    };
    Ok(lines.iter().filter(is_meant).map(|line| line.id.clone()).filter(|id| !ended.contains(&id.as_str())).collect())
}
