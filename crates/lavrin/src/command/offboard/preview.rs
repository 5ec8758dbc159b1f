//! What a leaving would change, before it is done: for every host, also for those that are not reached.

use super::left_behind::LeftBehindOut;
use crate::clock;
use crate::command::compare::out::{AccountOut, account_text};
use crate::command::kept::KeptName;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::{Label, Ui};
use crate::wording;
use lavrin_store::database::Database;
use lavrin_work::offboard::Leaver;
use lavrin_work::plan::Planned;
use lavrin_work::survey::Surveyed;
use serde::Serialize;

/// What `--preview --format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct OffboardPreviewOut {
    schema: &'static str,
    person: String,
    /// From which day on the person is gone.
    left: String,
    /// Hosts on which something would change.
    hosts: Vec<HostPreviewOut>,
    /// Hosts that were not reached, with what was last known of this person there.
    not_reached: Vec<NotReachedOut>,
    /// Kept keys of which this person may have a copy: `ACCOUNT@HOST`.
    kept: Vec<String>,
    /// What they have left behind beside keys.
    left_behind: Vec<LeftBehindOut>,
    /// Keys that other people in the register have too: they lose their access with them.
    shared: Vec<SharedWithOut>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct SharedWithOut {
    key: String,
    person: String,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct HostPreviewOut {
    host: String,
    accounts: Vec<AccountOut>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct NotReachedOut {
    host: String,
    why: String,
    /// The day of the last survey; none where there was none.
    surveyed: Option<String>,
    /// The accounts in which that survey saw one of the keys.
    accounts: Vec<String>,
}

impl OffboardPreviewOut {
    /// Of what was planned, and of hosts that were looked at in vain.
    pub fn of(
        leaver: &Leaver,
        planned: &Planned,
        looked: &[Surveyed],
        store: Option<&Database>,
        kept: &[KeptName],
    ) -> Result<Self, CommandError> {
        let changed = planned.accounts.iter().filter(|(_, accounts)| !accounts.is_empty());
        let hosts = changed.map(|(host, accounts)| HostPreviewOut {
            host: host.clone(),
            accounts: accounts.iter().map(|account| AccountOut::of(account, host)).collect(),
        });
        let mut not_reached = Vec::new();
        for host in looked {
            let Some(fault) = &host.fault else { continue };
            let seen = store.map(|store| store.sightings_on(&host.host)).transpose()?.unwrap_or_default();
            let theirs = seen.into_iter().filter(|seen| seen.gone.is_none() && leaver.prints.contains(&seen.key));
            let mut accounts: Vec<String> = theirs.map(|seen| seen.account).collect();
            accounts.dedup();
            not_reached.push(NotReachedOut {
                host: host.host.clone(),
                why: wording::host_fault(fault),
                surveyed: host.last_seen.map(clock::day_of),
                accounts,
            });
        }
        let (person, left) = (leaver.id.clone(), leaver.left.to_string());
        Ok(Self {
            schema: "lavrin/offboard-preview/1",
            person,
            left,
            hosts: hosts.collect(),
            not_reached,
            kept: kept.iter().map(ToString::to_string).collect(),
            left_behind: Vec::new(),
            shared: Vec::new(),
        })
    }

    /// The same with what was found beside, and who else has which of the keys.
    pub fn with(mut self, left_behind: Vec<LeftBehindOut>, shared: Vec<(String, String)>) -> Self {
        self.left_behind = left_behind;
        self.shared = shared.into_iter().map(|(key, person)| SharedWithOut { key, person }).collect();
        self
    }

    /// How a preview ends.
    pub fn exit(&self) -> Exit {
        if self.not_reached.is_empty() { Exit::Done } else { Exit::NotChecked }
    }

    /// The lines.
    pub fn text(&self, ui: &Ui) -> String {
        let mut text = format!("{} is gone from {}:\n", self.person, self.left);
        for host in &self.hosts {
            text += &format!("{}\n", ui.paint_status(Label::Strong, &host.host));
            for account in &host.accounts {
                text += &format!("{}\n", account_text(account, ui).trim_end());
            }
        }
        if self.hosts.is_empty() {
            text += "  no managed account that was read has a key of theirs\n";
        }
        for host in &self.not_reached {
            let known = match (&host.surveyed, &host.accounts[..]) {
                (None, _) => "it was never surveyed".to_owned(),
                (Some(day), []) => format!("the survey of {day} saw no key of theirs"),
                (Some(day), accounts) => format!("the survey of {day} saw their keys in {}", accounts.join(", ")),
            };
            let name = ui.paint_status(Label::Strong, &host.host);
            let what = ui.paint_status(Label::Warn, "not reached");
            text += &format!("{name}\n  {what}  {}; {known}\n", host.why);
        }
        for one in &self.shared {
            let told = format!("{} has the key {} too, and loses access with it", one.person, one.key);
            text += &format!("{}\n", ui.paint_status(Label::Warn, &told));
        }
        for line in self.left_behind.iter().flat_map(|host| host.lines(ui)) {
            text += &format!("{line}\n");
        }
        if !self.kept.is_empty() {
            let told = format!("{} may have a copy of kept keys: {}", self.person, self.kept.join(", "));
            text += &format!("{}\n", ui.paint_status(Label::Warn, &told));
        }
        text
    }
}
