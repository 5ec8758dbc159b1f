//! A key for an account on a host that is reached only by a console: printed to be pasted there, and its answer taken in.

use super::{InstallArgs, check_policy, check_text};
use crate::command::change::keeper;
use crate::command::register::{OpenedRegister, policy};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::input;
use crate::ui::{Label, Ui};
use crate::{clock, paths, wording};
use lavrin_keys::key::generate::SystemSource;
use lavrin_reach::by_hand::{self, Told, id_in, install_script, paste, told};
use lavrin_server::login::{self, Outcome as Verdict, Question};
use lavrin_server::system::System;
use lavrin_store::{ChangeOutcome, Event, JournalEntry};
use lavrin_work::change::{BY_HAND, run_name};
use std::path::Path;

/// Prints the change.
pub fn script(args: &InstallArgs, register: Option<&OpenedRegister>, ui: &Ui) -> Result<Exit, CommandError> {
    let given = input::public_key(&args.key)?;
    check_policy(args, &given, &policy(register), ui)?;
    check_text(&given, ui)?;
    let id = run_name(&clock::for_file_name());
    let bare = given.key.line("");
    let blob = bare.split(' ').nth(1).unwrap_or_default();
    let script = install_script(&id, &args.target.account, &given.entry(), blob, &SystemSource);
    let place = args.target.host.as_deref().unwrap_or("the host");
    ui.part(&paste(&format!("Paste all of this into a root shell on {place}, and keep what it prints."), &script));
    Ok(Exit::Done)
}

/// Takes in what the change printed on the host.
pub fn read(args: &InstallArgs, path: &Path, register: Option<&OpenedRegister>, ui: &Ui) -> Result<Exit, CommandError> {
    let given = input::public_key(&args.key)?;
    let account = &args.target.account;
    let place = args.target.host.as_deref().unwrap_or("the host");
    let answer = input::bytes(path)?;
    let bad = |cause: String| {
        CommandError::usage(format!("{} cannot be used", paths::shown(path))).because(cause).hint(format!(
            "lavrin install {} {account} --script >change, then paste it on the host",
            paths::shown(&args.key)
        ))
    };
    let id = id_in(&answer).unwrap_or_default();
    match told(&answer, &id) {
        Some(Told::Done) => {}
        Some(Told::Damaged) => {
            return Err(CommandError::with(Exit::Stopped, "the paste arrived damaged; nothing was changed")
                .hint("paste it again, in smaller parts if the console loses characters"));
        }
        Some(Told::AsBefore(why)) => {
            return Err(CommandError::with(Exit::Stopped, format!("{place}: everything is as it was: {why}")));
        }
        Some(Told::Unknown(why)) => return Err(CommandError::with(Exit::Midway, format!("{place}: {why}"))),
        None => return Err(bad("it does not say how the change ended".to_owned())),
    }
    let seen = by_hand::read(&answer, |seen| login::wants(account, &System::of(seen)))
        .map_err(|fault| bad(fault.to_string()))?;
    let verdict =
        login::judge(&Question::plain(account, &given.key, clock::now().unix_timestamp()), &System::of(&seen));
    let said = match (verdict.outcome, &verdict.deciding) {
        (Verdict::Accepted, _) => "by the server's rules the key opens the account".to_owned(),
        (_, Some(reason)) => wording::reason::message(reason, account),
        (_, None) => "undecided".to_owned(),
    };
    let fingerprint = given.key.fingerprint().to_string();
    let done = Done { id: &id, account, place, key: &fingerprint };
    record(&done, args, register, &said)?;
    let label = if verdict.outcome == Verdict::Refused { Label::Warn } else { Label::Good };
    let headline = ui.paint(label, &format!("Installed for {account} on {place}"));
    ui.result(&format!(
        "{headline}\n  key     {fingerprint}\n  proof   the host says it is done; {said}; no login was tried"
    ));
    Ok(if verdict.outcome == Verdict::Refused { Exit::Findings } else { Exit::Done })
}

/// What was done by hand.
struct Done<'a> {
    id: &'a str,
    account: &'a str,
    place: &'a str,
    key: &'a str,
}

/// What was done by hand goes into the journal when its answer is here.
fn record(
    done: &Done<'_>,
    args: &InstallArgs,
    register: Option<&OpenedRegister>,
    detail: &str,
) -> Result<(), CommandError> {
    let Done { id, account, place, key } = *done;
    let intent = Event::Intent {
        command: "install".to_owned(),
        place: place.to_owned(),
        account: account.to_owned(),
        login: Some(BY_HAND.to_owned()),
        key: Some(key.to_owned()),
        files: Vec::new(),
        reason: args.change.reason.clone(),
        run: None,
        came: vec![key.to_owned()],
        gone: Vec::new(),
        changes: Vec::new(),
    };
    let keeper = keeper(register)?;
    for event in [intent, Event::Outcome { outcome: ChangeOutcome::Done, detail: detail.to_owned() }] {
        keeper.write_down(&JournalEntry::new(id, clock::timestamp(), event))?;
    }
    Ok(())
}
