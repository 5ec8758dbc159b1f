//! What `lavrin mend` prints.

use super::{MendArgs, MendState, MendedAccount};
use crate::cli::complete;
use crate::command::place::Work;
use crate::error::no_steps;
use crate::outcome::ChangeState;
use crate::ui::{Label, Ui};
use crate::wording;
use lavrin_keys::text::{count, printable};
use lavrin_server::finding::{Fault, Finding};
use lavrin_server::steps::{Left, LeftWhy, Mending, Revived, Withheld};
use serde::Serialize;
use std::collections::BTreeSet;

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct MendOut {
    /// `lavrin/mend/1`.
    schema: &'static str,
    /// The host or tree.
    place: String,
    /// Each account there is something to say about.
    accounts: Vec<MendedAccountOut>,
    /// What to type so that everything withheld is done.
    consent: Option<String>,
}

/// One account.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct MendedAccountOut {
    /// Its name.
    account: String,
    /// How it ended.
    state: ChangeState,
    /// Why it ended that way, where something went wrong.
    detail: Option<String>,
    /// The steps in words.
    steps: Vec<String>,
    /// Keys that become active with consent.
    revived: Vec<RevivedOut>,
    /// What is not done without consent.
    withheld: Vec<WithheldOut>,
    /// What needs a decision.
    left_alone: Vec<LeftOut>,
}

/// A key that becomes active.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct RevivedOut {
    /// The file.
    path: String,
    /// The line, counted from 1, as the file stands now.
    line: usize,
    /// The key.
    fingerprint: String,
    /// Its comment, which often says whose it is.
    comment: String,
}

/// Something not done.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct WithheldOut {
    /// The file.
    path: String,
    /// What would be done.
    steps: Vec<String>,
    /// The keys that it would make active.
    revives: Vec<RevivedOut>,
}

/// Something for a person to decide.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct LeftOut {
    /// Where.
    path: String,
    /// The line, counted from 1.
    line: Option<usize>,
    /// What is wrong.
    message: String,
    /// What to do.
    remedy: Option<String>,
}

impl MendOut {
    pub(super) fn of(cases: &[MendedAccount], work: &Work, args: &MendArgs) -> Self {
        Self {
            schema: "lavrin/mend/1",
            place: work.name.clone(),
            accounts: cases.iter().map(|case| MendedAccountOut::of(case, work)).collect(),
            consent: consent(cases, args),
        }
    }

    pub(super) fn text(&self, ui: &Ui) -> String {
        if self.accounts.is_empty() {
            return format!("{}\n", ui.paint(Label::Good, &format!("Nothing to mend on {}", self.place)));
        }
        let mut text: String = self.accounts.iter().map(|account| account.text(&self.place, ui)).collect();
        if let Some(consent) = &self.consent {
            text += &format!(
                "\nIf these keys should open the account again, name them:\n  next: {}\n",
                ui.paint(Label::Type, consent)
            );
        }
        text
    }
}

impl MendedAccountOut {
    fn of(case: &MendedAccount, work: &Work) -> Self {
        let (state, detail) = match &case.state {
            MendState::Nothing if case.found.is_err() => (ChangeState::NotPossible, None),
            MendState::Nothing => (ChangeState::NothingToDo, None),
            MendState::Preview => (ChangeState::Preview, None),
            MendState::Done => (ChangeState::Done, None),
            MendState::AsBefore(said) => (ChangeState::AsBefore, Some(said.clone())),
            MendState::Unknown(said) => (ChangeState::Unknown, Some(said.clone())),
        };
        let found = case.found.as_ref().ok();
        let list = |found: Option<&Mending>| found.map(wording::steps::mending).unwrap_or_default();
        let fault = case.found.as_ref().err().map(|fault| no_steps(fault, &case.account, &work.name));
        let left = found.map(|found| found.left.iter().map(|left| left_out(left, &case.account, work)).collect());
        Self {
            account: case.account.clone(),
            state,
            detail: detail.or_else(|| fault.map(|fault| fault.message)),
            steps: list(found),
            revived: found.map(|found| found.steps.revived.iter().map(RevivedOut::of).collect()).unwrap_or_default(),
            withheld: found
                .map(|found| found.withheld.iter().map(|held| WithheldOut::of(held, found)).collect())
                .unwrap_or_default(),
            left_alone: left.unwrap_or_default(),
        }
    }

    fn text(&self, place: &str, ui: &Ui) -> String {
        let whom = format!("{} on {place}", self.account);
        let detail = self.detail.clone().unwrap_or_default();
        let (label, headline) = match self.state {
            ChangeState::Done if self.withheld.is_empty() && self.left_alone.is_empty() => {
                (Label::Good, format!("Mended: {whom}; read back and correct"))
            }
            ChangeState::Done => (Label::Warn, format!("Mended in part: {whom}; read back; the rest is listed below")),
            ChangeState::Preview => (Label::Strong, format!("This would be done for {whom}; nothing was changed")),
            ChangeState::AsBefore => (Label::Bad, format!("Not mended, everything is as it was: {whom}: {detail}")),
            ChangeState::Unknown => (Label::Bad, format!("What state {whom} is in is not known: {detail}")),
            _ if !detail.is_empty() => (Label::Warn, format!("Not mended: {whom}: {detail}")),
            _ if self.withheld.is_empty() && self.left_alone.is_empty() => {
                (Label::Good, format!("Nothing to mend: {whom}"))
            }
            _ => (Label::Strong, format!("Nothing was changed: {whom}")),
        };
        let mut text = format!("{}\n", ui.paint(label, &headline));
        if matches!(self.state, ChangeState::Preview | ChangeState::Done) {
            let lines = self.steps.iter().enumerate();
            text += &lines.map(|(number, step)| format!("  {}. {step}\n", number + 1)).collect::<String>();
        }
        for entry in &self.revived {
            text += &format!("  {}\n", ui.paint(Label::Warn, &format!("becomes active: {}", entry.words())));
        }
        for held in &self.withheld {
            let count = count(held.revives.len(), "key", "keys");
            text +=
                &format!("  {}\n", ui.paint(Label::Warn, &format!("not done, because it would make {count} active:")));
            text += &held.steps.iter().map(|step| format!("      {step}\n")).collect::<String>();
            text += &held
                .revives
                .iter()
                .map(|entry| format!("      becomes active: {}\n", entry.words()))
                .collect::<String>();
        }
        for left in &self.left_alone {
            let line = left.line.map(|line| format!(" line {line}")).unwrap_or_default();
            text +=
                &format!("  {} {}{line}\n      {}\n", ui.paint(Label::Warn, "left alone:"), left.path, left.message);
            text += &left
                .remedy
                .iter()
                .map(|remedy| format!("      next: {}\n", ui.paint(Label::Type, &complete(remedy))))
                .collect::<String>();
        }
        text
    }
}

impl RevivedOut {
    fn of(entry: &Revived) -> Self {
        Self {
            path: entry.place.path().map(ToString::to_string).unwrap_or_default(),
            line: entry.place.line().unwrap_or_default(),
            fingerprint: entry.fingerprint.to_string(),
            comment: printable(entry.comment.trim_ascii()),
        }
    }

    fn words(&self) -> String {
        let comment = wording::comment(self.comment.as_bytes());
        format!("{} {comment} ({} line {})", self.fingerprint, self.path, self.line)
    }
}

impl WithheldOut {
    fn of(held: &Withheld, found: &Mending) -> Self {
        Self {
            path: held.path.to_string(),
            steps: wording::steps::withheld(held, found),
            revives: held.revives.iter().map(RevivedOut::of).collect(),
        }
    }
}

fn left_out(left: &Left, account: &str, work: &Work) -> LeftOut {
    let typed = lavrin_keys::text::shell_word(&work.typed_path(&left.path));
    let by_rule = |fault: Fault| {
        let finding =
            Finding { fault, account: Some(account.to_owned()), path: Some(left.path.clone()), line: left.line };
        let host = work.site.login().map(|_| work.name.as_str());
        let remedy = wording::finding::remedy(&finding.fault, &finding, host, &work.typed_path(&left.path));
        (wording::finding::message(&finding.fault), Some(remedy))
    };
    let (message, remedy) = match &left.why {
        LeftWhy::Line(fault) => by_rule(fault.clone().into()),
        LeftWhy::Outside(kind) => by_rule(kind.clone().into()),
        LeftWhy::Glued => (
            "two keys share this line, and the words between them may be options of the second".to_owned(),
            Some(format!("split the line where the second entry begins: sudoedit {typed}")),
        ),
        LeftWhy::File(fault) => {
            let error = no_steps(fault, account, &work.name);
            // That nothing was changed is said once, above.
            let causes = error.causes.iter().filter(|cause| *cause != "nothing was changed");
            let message = causes.fold(error.message.clone(), |said, cause| format!("{said}: {cause}"));
            (message, error.hints.into_iter().next())
        }
    };
    LeftOut { path: left.path.to_string(), line: left.line, message, remedy }
}

/// The command that was typed, with every key that waits for consent named.
fn consent(cases: &[MendedAccount], args: &MendArgs) -> Option<String> {
    let held = cases.iter().filter_map(|case| case.found.as_ref().ok()).flat_map(|found| &found.withheld);
    let waiting: BTreeSet<String> =
        held.flat_map(|held| &held.revives).map(|entry| entry.fingerprint.to_string()).collect();
    if waiting.is_empty() {
        return None;
    }
    let given = args.revive.iter().map(ToString::to_string);
    let mut words = vec!["lavrin mend".to_owned()];
    words.extend(args.all.then(|| "--all".to_owned()));
    words.extend(args.target.clone());
    words.extend(waiting.into_iter().chain(given).map(|key| format!("--revive {key}")));
    Some(complete(&words.join(" ")))
}
