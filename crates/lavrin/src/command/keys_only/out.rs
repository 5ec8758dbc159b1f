//! What `keys-only` tells of each host, in text and JSON.

use super::AskedSettings;
use crate::command::change::exit_of;
use crate::command::fleet_change::{state_label, state_of};
use crate::exit::Exit;
use crate::outcome::ChangeState;
use crate::table::columns;
use crate::ui::{Label, Ui};
use crate::wording;
use lavrin_keys::text::{count, printable};
use lavrin_reach::{Armed, TimerKind};
use lavrin_server::steps::{OnlyPassword, OpenSetting, SWITCH, SettingLine};
use lavrin_work::change::Ended;
use lavrin_work::survey::Surveyed;
use serde::Serialize;

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct KeysOnlyOut {
    schema: &'static str,
    /// What ties the changes of this run together; `lavrin undo --run` takes it.
    run: Option<String>,
    hosts: Vec<KeysOnlyHostOut>,
}

/// A host.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct KeysOnlyHostOut {
    pub host: String,
    /// How it ended.
    pub state: ChangeState,
    /// Why it is not done.
    pub why: Option<String>,
    /// What to type next.
    pub next: Vec<String>,
    /// By what the server took passwords when it was looked at.
    pub open: Vec<OpenSettingOut>,
    /// The lines that come or change.
    pub lines: Vec<SettingLineOut>,
    /// Accounts with a password and without a key that opens them.
    pub only_password: Vec<OnlyPasswordOut>,
    /// How the host would have put everything back by itself.
    pub timer: Option<TimerOut>,
    #[serde(skip)]
    pub exit: Exit,
}

/// A setting by which the server takes passwords.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct OpenSettingOut {
    pub keyword: &'static str,
    pub value: String,
    /// The file; `null` where it is built in.
    path: Option<String>,
    /// The line in it, counted from 1.
    line: Option<usize>,
    /// Whether it holds for some connections only (Match).
    in_match: bool,
}

/// A line that comes or changes.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct SettingLineOut {
    path: String,
    /// The line that changes, counted from 1; `null` where it comes.
    line: Option<usize>,
    before: Option<String>,
    after: String,
}

/// An account with a password and without a key that opens it.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct OnlyPasswordOut {
    pub account: String,
    /// Whether that is so because its keys could not be read.
    unread: bool,
}

/// How a host would have put everything back by itself.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct TimerOut {
    /// `systemd` or `process`.
    kind: &'static str,
    /// Whether a restart of the host would have done it too.
    over_a_restart: bool,
    seconds: u64,
}

impl OpenSettingOut {
    pub fn of(setting: OpenSetting) -> Self {
        let (path, line) = setting.place.map_or((None, None), |(path, line)| (Some(path.to_string()), Some(line)));
        let value = printable(setting.value.as_bytes());
        Self { keyword: setting.keyword, value, path, line, in_match: setting.in_match }
    }

    /// In columns.
    pub fn row(&self, ui: &Ui) -> Vec<String> {
        let place = match (&self.path, self.line) {
            (Some(path), Some(line)) => format!("{path} line {line}"),
            _ if self.keyword == SWITCH => "its own switch".to_owned(),
            _ => "built in".to_owned(),
        };
        let note = if self.in_match { ", for some connections (Match)" } else { "" };
        let setting = format!("{} {}", self.keyword, self.value);
        vec![ui.paint_status(Label::Warn, &setting), format!("{place}{note}")]
    }
}

impl SettingLineOut {
    pub fn of(line: &SettingLine) -> Self {
        let text = |bytes: &[u8]| printable(bytes.trim_ascii());
        let (path, before) = (line.path.to_string(), line.before.as_deref().map(text));
        Self { path, line: line.line, before, after: text(&line.after) }
    }
}

impl OnlyPasswordOut {
    pub fn of(one: &OnlyPassword) -> Self {
        Self { account: printable(one.account.as_bytes()), unread: one.unread }
    }
}

impl TimerOut {
    fn of(armed: &Armed) -> Self {
        let kind = match armed.kind {
            TimerKind::Systemd => "systemd",
            TimerKind::Process => "process",
            TimerKind::Device => "device",
        };
        Self { kind, over_a_restart: armed.over_a_restart, seconds: armed.after.as_secs() }
    }

    fn words(&self) -> String {
        let what = match self.kind {
            "systemd" => "a timer of systemd",
            "device" => "loading what it has saved",
            _ => "a process of its own",
        };
        let restart = if self.over_a_restart { "also over a restart" } else { "not over a restart" };
        format!("would have put everything back after {} s ({what}, {restart}); disarmed", self.seconds)
    }
}

impl KeysOnlyHostOut {
    /// A host of which nothing more is known yet.
    pub fn new(host: &str, state: ChangeState, exit: Exit) -> Self {
        Self {
            host: host.to_owned(),
            state,
            why: None,
            next: Vec::new(),
            open: Vec::new(),
            lines: Vec::new(),
            only_password: Vec::new(),
            timer: None,
            exit,
        }
    }

    /// A host that was not seen; none where it was.
    pub fn not_seen(seen: &Surveyed) -> Option<Self> {
        let fault = seen.fault.as_ref()?;
        let state = if fault.is_connected() { ChangeState::NotSeen } else { ChangeState::NotReached };
        Some(Self { why: Some(wording::host_fault(fault)), ..Self::new(&seen.host, state, Exit::NotChecked) })
    }

    /// How it ended there.
    pub fn end(&mut self, ended: &Ended) {
        let worst = ended.worst();
        (self.state, self.exit) = (state_of(worst), exit_of(worst));
        self.why = worst.trouble().map(wording::trouble);
        self.timer = ended.armed.as_ref().map(TimerOut::of);
    }

    /// It is left for the next run.
    pub fn wait(&mut self) {
        (self.state, self.exit) = (ChangeState::Waiting, Exit::Findings);
        self.why = Some("the trial is done: check these hosts, then run the command again without --first".to_owned());
    }

    fn text(&self, ui: &Ui) -> String {
        let (word, label) = state_label(self.state);
        let mut text = format!("{}  {}", ui.paint(Label::Strong, &self.host), ui.paint(label, word));
        text += &match (&self.why, self.state) {
            (Some(why), _) => format!(": {why}\n"),
            (None, ChangeState::NothingToDo) => ": it takes keys only\n".to_owned(),
            (None, ChangeState::Done) => ": it takes keys only\n".to_owned(),
            (None, _) => "\n".to_owned(),
        };
        if self.state == ChangeState::Done {
            let proof = "over new connections a key opens the login and root's rights, and no password is asked for";
            text += &format!("  proof   {}\n", ui.paint(Label::Good, proof));
            text +=
                &self.timer.as_ref().map(|timer| format!("  timer   the host {}\n", timer.words())).unwrap_or_default();
        }
        text + &self.next.iter().map(|next| format!("  next: {next}\n")).collect::<String>()
    }
}

impl KeysOnlyOut {
    pub fn of(run: Option<String>, hosts: Vec<KeysOnlyHostOut>) -> Self {
        Self { schema: "lavrin/keys-only/1", run, hosts }
    }

    /// Prints it.
    pub fn give(self, preview: bool, ui: &Ui) -> Exit {
        ui.give(&self, || {
            let mut text: String = self.hosts.iter().map(|host| host.text(ui)).collect();
            if preview {
                text += "nothing was changed\n";
            }
            if self.hosts.len() > 1 {
                let done = [ChangeState::Done, ChangeState::NothingToDo];
                let done = self.hosts.iter().filter(|host| done.contains(&host.state)).count();
                text += &format!("{}: {done} take keys only\n", count(self.hosts.len(), "host", "hosts"));
            }
            if let Some(run) = self.run.as_ref().filter(|_| self.hosts.iter().any(|one| one.state == ChangeState::Done))
            {
                text += &format!("to take all of it back: lavrin undo --run {run}\n");
            }
            text.trim_end().to_owned()
        });
        self.hosts.iter().map(|host| host.exit).max().unwrap_or(Exit::Done)
    }
}

/// What is to be done, on stderr, so that a question can follow.
pub fn show(hosts: &[KeysOnlyHostOut], asked: &AskedSettings<'_>, ui: &Ui) {
    let open: Vec<&KeysOnlyHostOut> = hosts.iter().filter(|host| !host.open.is_empty()).collect();
    for host in &open {
        ui.status(&ui.paint_status(Label::Strong, &format!("{} takes passwords today:", host.host)));
        let rows: Vec<Vec<String>> = host.open.iter().map(|one| one.row(ui)).collect();
        for line in columns(&rows, 2) {
            ui.status(&line);
        }
        for line in steps(host) {
            ui.status(&format!("  step: {line}"));
        }
        for one in &host.only_password {
            let why = if one.unread { "its keys could not be read" } else { "no key opens it" };
            ui.warn(&format!("{} on {} has a password, and {why}: it loses its only way in", one.account, host.host));
        }
    }
    if open.iter().any(|host| host.state == ChangeState::Preview) {
        let seconds = asked.heal_after;
        ui.status(&format!(
            "Before the first step the host gets a timer: unless the proof comes within {seconds} s, it puts everything back."
        ));
        if asked.sign_in.asks_for_root_password() {
            ui.status("Root's rights come with a password here: that password stays needed for sudo or doas.");
        }
    }
}

/// The steps in words: each file once.
fn steps(host: &KeysOnlyHostOut) -> Vec<String> {
    let mut steps = Vec::new();
    let mut made: Vec<(&str, Vec<&str>)> = Vec::new();
    for line in &host.lines {
        match (line.line, &line.before) {
            (Some(number), Some(before)) => {
                steps.push(format!("line {number} of {}: {before} becomes {}", line.path, line.after));
            }
            _ => match made.iter_mut().find(|(path, _)| *path == line.path) {
                Some((_, lines)) => lines.push(&line.after),
                None => made.push((&line.path, vec![&line.after])),
            },
        }
    }
    steps.extend(made.iter().map(|(path, lines)| format!("{path} gets: {}", lines.join("; "))));
    if steps.is_empty() && host.state == ChangeState::Preview {
        return vec!["the device's own switch ends the passwords of all accounts".to_owned()];
    }
    if !steps.is_empty() {
        steps.push("reload the server's configuration, once its own test accepts it".to_owned());
    }
    steps
}
