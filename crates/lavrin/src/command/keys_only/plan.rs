//! What is to be done on one host, and why perhaps not.

use super::out::{KeysOnlyHostOut, OnlyPasswordOut, OpenSettingOut, SettingLineOut};
use super::{AskedSettings, now};
use crate::error::{exit_of_no_steps, no_steps};
use crate::exit::Exit;
use crate::outcome::ChangeState;
use lavrin_server::steps::{NoSteps, Steps, keys_only, open_to_passwords};
use lavrin_server::survey::Observation;
use lavrin_server::system::System;

/// A host as it is to be changed; without steps there is nothing to do, or nothing may be done.
pub struct PlannedSettings {
    pub steps: Option<Steps>,
    pub out: KeysOnlyHostOut,
}

impl PlannedSettings {
    /// By what was seen.
    pub fn of(host: &str, seen: &Observation, asked: &AskedSettings<'_>) -> Self {
        let system = System::of(seen);
        let mut out = KeysOnlyHostOut::new(host, ChangeState::NothingToDo, Exit::Done);
        let found = open_to_passwords(asked.root, &system).and_then(|open| {
            out.open = open.into_iter().map(OpenSettingOut::of).collect();
            keys_only(asked.root, &system, now())
        });
        let found = match found {
            Ok(found) => found,
            Err(fault) => return Self { steps: None, out: not_possible(out, &fault, host) },
        };
        if found.steps.changes.is_empty() {
            return Self { steps: None, out };
        }
        out.lines = found.lines.iter().map(SettingLineOut::of).collect();
        out.only_password = found.only_password.iter().map(OnlyPasswordOut::of).collect();
        out.state = ChangeState::Preview;
        let accepted = |account: &OnlyPasswordOut| asked.accept_lockout.contains(&account.account);
        let lost: Vec<&str> =
            out.only_password.iter().filter(|one| !accepted(one)).map(|one| one.account.as_str()).collect();
        if lost.is_empty() {
            return Self { steps: Some(found.steps), out };
        }
        let next = format!(
            "install a key first, or take it on you: lavrin keys-only {host} --accept-lockout {}",
            lost.join(",")
        );
        out.why = Some(format!("{} would lose the only way in; {next}", lost.join(", ")));
        (out.state, out.exit) = (ChangeState::NotPossible, Exit::Stopped);
        Self { steps: None, out }
    }
}

fn not_possible(mut out: KeysOnlyHostOut, fault: &NoSteps, host: &str) -> KeysOnlyHostOut {
    let error = no_steps(fault, "root", host);
    let because = error.causes.iter().filter(|line| *line != "nothing was changed");
    out.why = Some(std::iter::once(&error.message).chain(because).cloned().collect::<Vec<_>>().join("; "));
    out.next = error.hints.clone();
    (out.state, out.exit) = (ChangeState::NotPossible, exit_of_no_steps(fault));
    out
}
