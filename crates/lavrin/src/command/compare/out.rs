//! What a comparison tells, in text and JSON.

use crate::clock;
use crate::error::no_steps;
use crate::exit::Exit;
use crate::outcome::DifferenceKind;
use crate::table::columns;
use crate::ui::{Label, Ui};
use crate::wording;
use lavrin_fleet::fleet::compare::{AccountComparison, Difference};
use lavrin_keys::text::{count, printable};
use lavrin_report::rows::TableRow;
use lavrin_server::fs::Why;
use lavrin_server::login::Place;
use lavrin_server::steps::NoSteps;
use lavrin_work::fleet::Compared;
use serde::Serialize;

/// Up to so many hosts are listed one by one; the rest is counted.
const TOLD_MAX: usize = 500;

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct CompareOut {
    schema: &'static str,
    /// The register's name.
    register: String,
    /// Hosts on which something differs or that could not be compared.
    pub hosts: Vec<ComparedHostOut>,
    /// How much of what.
    pub summary: Summary,
}

/// A host.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ComparedHostOut {
    pub host: String,
    /// When it was last seen (RFC 3339).
    seen: Option<String>,
    /// Why it could not be looked at the last time.
    fault: Option<String>,
    pub accounts: Vec<AccountOut>,
}

/// An account on which something differs.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct AccountOut {
    pub account: String,
    /// Whether its key files are managed; if not, everything is only told.
    pub managed: bool,
    /// Why it cannot be compared or not be brought into line.
    pub problem: Option<String>,
    /// Whether that is because something could not be seen.
    #[serde(skip)]
    unseen: bool,
    #[serde(skip)]
    counts: bool,
    pub differences: Vec<DifferenceOut>,
}

/// One difference.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct DifferenceOut {
    /// What differs.
    pub kind: DifferenceKind,
    /// The person, or `ACCOUNT@HOST`, whose key it is; `null` where nobody in the register has it.
    owner: Option<String>,
    /// The fingerprint.
    pub key: Option<String>,
    /// The file.
    path: Option<String>,
    /// The line, counted from 1.
    line: Option<usize>,
    /// The comment of the entry.
    comment: Option<String>,
    /// Why, and what would be done.
    message: String,
}

/// A difference, or a problem, as a row.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct DifferenceRow<'a> {
    host: &'a str,
    seen: Option<&'a str>,
    account: Option<&'a str>,
    managed: Option<bool>,
    kind: Option<DifferenceKind>,
    owner: Option<&'a str>,
    key: Option<&'a str>,
    path: Option<&'a str>,
    line: Option<usize>,
    comment: Option<&'a str>,
    message: Option<&'a str>,
    /// Why the host or the account could not be compared.
    problem: Option<&'a str>,
}

impl TableRow for DifferenceRow<'_> {
    const COLUMNS: &'static [&'static str] = &[
        "host", "seen", "account", "managed", "kind", "owner", "key", "path", "line", "comment", "message", "problem",
    ];
}

impl<'a> DifferenceRow<'a> {
    /// One for each difference, and one for each host and account that could not be compared.
    fn all(out: &'a CompareOut) -> Vec<Self> {
        let mut rows = Vec::new();
        for host in &out.hosts {
            if host.seen.is_none() {
                let problem = host.fault.as_deref().or(Some("not surveyed yet"));
                rows.push(Self { problem, ..Self::of(host, None, None) });
            }
            for account in &host.accounts {
                if account.problem.is_some() {
                    rows.push(Self::of(host, Some(account), None));
                }
                rows.extend(account.differences.iter().map(|one| Self::of(host, Some(account), Some(one))));
            }
        }
        rows
    }

    fn of(host: &'a ComparedHostOut, account: Option<&'a AccountOut>, difference: Option<&'a DifferenceOut>) -> Self {
        Self {
            host: &host.host,
            seen: host.seen.as_deref(),
            account: account.map(|account| account.account.as_str()),
            managed: account.map(|account| account.managed),
            kind: difference.map(|one| one.kind),
            owner: difference.and_then(|one| one.owner.as_deref()),
            key: difference.and_then(|one| one.key.as_deref()),
            path: difference.and_then(|one| one.path.as_deref()),
            line: difference.and_then(|one| one.line),
            comment: difference.and_then(|one| one.comment.as_deref()),
            message: difference.map(|one| one.message.as_str()),
            problem: account.filter(|_| difference.is_none()).and_then(|account| account.problem.as_deref()),
        }
    }
}

/// How much of what.
#[derive(Debug, Default, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Summary {
    /// Hosts in all.
    hosts: usize,
    /// Hosts that are as the register says.
    in_line: usize,
    /// Hosts on which something differs.
    different: usize,
    /// Hosts or accounts that could not be compared.
    not_checked: usize,
    missing: usize,
    options: usize,
    extra: usize,
    unknown: usize,
    not_understood: usize,
    mode: usize,
    /// Hosts that take passwords, and should not.
    passwords: usize,
}

impl CompareOut {
    /// What was found.
    pub fn of(name: &str, compared: &[Compared]) -> Self {
        let mut summary = Summary { hosts: compared.len(), ..Summary::default() };
        let mut hosts = Vec::new();
        for one in compared {
            let accounts: Vec<AccountOut> = one.accounts.iter().map(|of| AccountOut::of(of, &one.host)).collect();
            let differs = accounts.iter().any(|account| account.counts && !account.unseen);
            let unseen = accounts.iter().filter(|account| account.unseen).count();
            summary.not_checked += unseen + usize::from(one.seen.is_none());
            summary.different += usize::from(differs);
            summary.in_line += usize::from(one.seen.is_some() && !differs && unseen == 0);
            accounts.iter().filter(|account| account.managed).for_each(|account| summary.add(account));
            summary.passwords += usize::from(accounts.iter().any(AccountOut::takes_passwords));
            if one.seen.is_none() || !accounts.is_empty() {
                let seen = one.seen.and_then(|seen| u64::try_from(seen).ok()).map(clock::date_of);
                hosts.push(ComparedHostOut { host: one.host.clone(), seen, fault: one.fault.clone(), accounts });
            }
        }
        Self { schema: "lavrin/compare/1", register: name.to_owned(), hosts, summary }
    }

    /// How a comparison ends.
    pub fn exit(&self) -> Exit {
        let different = if self.summary.different > 0 { Exit::Findings } else { Exit::Done };
        different.max(if self.summary.not_checked > 0 { Exit::NotChecked } else { Exit::Done })
    }
}

impl Summary {
    fn add(&mut self, account: &AccountOut) {
        for difference in &account.differences {
            match difference.kind {
                DifferenceKind::Missing => self.missing += 1,
                DifferenceKind::Options => self.options += 1,
                DifferenceKind::Extra => self.extra += 1,
                DifferenceKind::Unknown => self.unknown += 1,
                DifferenceKind::NotUnderstood => self.not_understood += 1,
                DifferenceKind::Mode => self.mode += 1,
                DifferenceKind::Account | DifferenceKind::NotTaken => self.missing += 1,
                DifferenceKind::Passwords => {}
            }
        }
    }
}

impl AccountOut {
    /// One account.
    pub fn of(found: &AccountComparison, host: &str) -> Self {
        let unseen = matches!(&found.fault, Some(NoSteps::Unread(..) | NoSteps::HomeOnNetwork(_)));
        Self {
            account: printable(found.account.as_bytes()),
            managed: found.managed,
            problem: found.fault.as_ref().map(|fault| problem(fault, &found.account, host)),
            unseen,
            counts: found.counts(),
            differences: found.differences.iter().map(DifferenceOut::of).collect(),
        }
    }
}

impl AccountOut {
    fn takes_passwords(&self) -> bool {
        self.differences.iter().any(|difference| difference.kind == DifferenceKind::Passwords)
    }

    /// Whether nothing is told of it but that the server takes passwords.
    fn is_of_server(&self) -> bool {
        self.differences.iter().all(|difference| difference.kind == DifferenceKind::Passwords)
    }
}

/// Why nothing can be done, with its cause, on one line.
pub fn problem(fault: &NoSteps, account: &str, host: &str) -> String {
    let said = no_steps(fault, account, host);
    let causes: Vec<String> = said.causes.into_iter().filter(|cause| cause != "nothing was changed").collect();
    if causes.is_empty() || matches!(fault, NoSteps::Unread(_, Why::NotReached)) {
        said.message
    } else {
        format!("{}: {}", said.message, causes.join("; "))
    }
}

impl DifferenceOut {
    fn of(difference: &Difference) -> Self {
        let message = wording::compare::message(difference);
        let plain = |kind| Self {
            kind,
            owner: None,
            key: None,
            path: None,
            line: None,
            comment: None,
            message: message.clone(),
        };
        let at = |place: &Place| (place.path().map(ToString::to_string), place.line());
        match difference {
            Difference::Add { who, fingerprint, .. } => {
                Self { owner: Some(who.clone()), key: Some(fingerprint.to_string()), ..plain(DifferenceKind::Missing) }
            }
            Difference::Options { who, fingerprint, place, .. } => {
                let (path, line) = at(place);
                Self {
                    owner: Some(who.clone()),
                    key: Some(fingerprint.to_string()),
                    path,
                    line,
                    ..plain(DifferenceKind::Options)
                }
            }
            Difference::Remove { who, fingerprint, place, comment, .. } => {
                let ((path, line), comment) = (at(place), Some(comment.clone()));
                Self {
                    owner: who.clone(),
                    key: Some(fingerprint.to_string()),
                    path,
                    line,
                    comment,
                    ..plain(DifferenceKind::Extra)
                }
            }
            Difference::Unknown { fingerprint, place, comment } => {
                let ((path, line), comment) = (at(place), Some(comment.clone()));
                Self { key: Some(fingerprint.to_string()), path, line, comment, ..plain(DifferenceKind::Unknown) }
            }
            Difference::NotUnderstood { place } => {
                let (path, line) = at(place);
                Self { path, line, ..plain(DifferenceKind::NotUnderstood) }
            }
            Difference::MakeAccount { .. } => plain(DifferenceKind::Account),
            Difference::Passwords(_) => plain(DifferenceKind::Passwords),
            Difference::NoKeyTaken { who, .. } => Self { owner: Some(who.clone()), ..plain(DifferenceKind::NotTaken) },
            Difference::Mode(change) => {
                Self { path: change.path().map(ToString::to_string), ..plain(DifferenceKind::Mode) }
            }
        }
    }

    /// What differs, whose key, which key, and why.
    fn row(&self, ui: &Ui) -> Vec<String> {
        let word = ui.paint(Label::Strong, self.kind.word());
        if self.key.is_none() {
            return vec![word, self.message.clone()];
        }
        let who = self.owner.clone().unwrap_or_else(|| "no known owner".to_owned());
        let key = self.key.clone().unwrap_or_default();
        vec![word, who, key, self.message.clone()]
    }
}

/// Prints it.
pub fn print(out: &CompareOut, ui: &Ui) {
    ui.give_rows(out, || DifferenceRow::all(out), || text(out, ui));
}

fn text(out: &CompareOut, ui: &Ui) -> String {
    out.hosts.iter().take(TOLD_MAX).for_each(|host| ui.part(&host_text(host, ui)));
    if out.hosts.len() > TOLD_MAX {
        ui.part(&format!("… and {} more hosts; --format json lists all\n", out.hosts.len() - TOLD_MAX));
    }
    summary_text(&out.summary, &out.register, ui)
}

/// A host with everything that differs on it.
pub fn host_text(host: &ComparedHostOut, ui: &Ui) -> String {
    let name = ui.paint(Label::Strong, &host.host);
    if host.seen.is_none() {
        let why = host.fault.clone().unwrap_or_else(|| "not surveyed yet: lavrin survey".to_owned());
        return format!("{name}  {}\n", ui.paint(Label::Warn, &format!("not compared: {why}")));
    }
    let mut text = format!("{name}\n");
    for account in &host.accounts {
        text += &account_text(account, ui);
    }
    text
}

/// An account with everything that differs on it.
pub fn account_text(account: &AccountOut, ui: &Ui) -> String {
    let told = if account.managed || account.is_of_server() && account.problem.is_none() {
        ""
    } else {
        "  (not managed, so only shown)"
    };
    let mut text = format!("  {}{told}\n", ui.paint(Label::Strong, &account.account));
    let rows: Vec<Vec<String>> = account.differences.iter().map(|difference| difference.row(ui)).collect();
    let (modes, keys): (Vec<Vec<String>>, Vec<Vec<String>>) = rows.into_iter().partition(|row| row.len() == 2);
    for line in columns(&keys, 4).into_iter().chain(columns(&modes, 4)) {
        text += &format!("{line}\n");
    }
    if let Some(problem) = &account.problem {
        text += &format!("    {} {problem}\n", ui.paint(Label::Warn, "problem:"));
    }
    text
}

fn summary_text(summary: &Summary, register: &str, ui: &Ui) -> String {
    let mut parts = vec![format!("{} match the register", summary.in_line)];
    if summary.different > 0 {
        let all = [
            (summary.missing, "missing"),
            (summary.options, "with other options"),
            (summary.extra, "extra"),
            (summary.unknown, "unknown"),
            (summary.passwords, "with passwords"),
            (summary.mode, if summary.mode == 1 { "mode or owner" } else { "modes or owners" }),
        ];
        let told: Vec<String> = all
            .into_iter()
            .filter(|(number, _)| *number > 0)
            .map(|(number, what)| format!("{number} {what}"))
            .collect();
        let told = if told.is_empty() { String::new() } else { format!(" ({})", told.join(", ")) };
        parts.push(ui.paint(Label::Strong, &format!("{} different{told}", summary.different)));
    }
    let next = if summary.passwords > 0 { "\nnext: lavrin enforce --only settings --preview" } else { "" };
    if summary.not_checked > 0 {
        parts.push(ui.paint(Label::Warn, &format!("{} not compared", summary.not_checked)));
    }
    format!("{register}, {}: {}{next}", count(summary.hosts, "host", "hosts"), parts.join(", "))
}
