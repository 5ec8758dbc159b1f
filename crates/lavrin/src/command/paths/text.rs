//! The ways through as text: a tree with the shortest way first, each step with what shows it.

use super::PathsArgs;
use super::out::{BehindOut, CutOut, EntryAt, PathsOut, StepKind, StepOut};
use crate::cli::complete;
use crate::screen;
use crate::table::columns;
use crate::ui::{Label, Ui};
use lavrin_keys::text::{count, shell_word};
use std::collections::{BTreeMap, BTreeSet};

/// Accounts that are drawn; the rest is counted.
const DRAWN_MAX: usize = 40;

/// Accounts whose ways are looked at for that.
pub const LOOKED_AT: usize = 400;

/// The whole text.
pub fn text(out: &PathsOut, args: &PathsArgs, ui: &Ui) -> String {
    let Some(from) = &out.from else { return overview(out, args, ui) + &aside(out, args, ui) };
    let to = out.to.as_ref().map(|to| format!(" to {to}")).unwrap_or_default();
    let mut text = format!("{}\n", ui.paint(Label::Strong, &format!("From {from}{to}")));
    text += &tree(out, args, ui);
    text += &commands(out, ui);
    if let Some(cut) = &out.cut {
        text += &cut_text(cut, out.to.is_some(), ui);
    }
    text + &aside(out, args, ui) + &summary(out, ui)
}

/// The account or key that a step leaves.
fn leaves(step: &StepOut) -> String {
    step.from.clone().unwrap_or_else(|| step.key.clone().unwrap_or_default())
}

/// The steps below each account, each once.
fn tree(out: &PathsOut, args: &PathsArgs, ui: &Ui) -> String {
    let most = if args.all { usize::MAX } else { DRAWN_MAX };
    let mut below: BTreeMap<String, Vec<&StepOut>> = BTreeMap::new();
    let mut known: BTreeSet<(String, &str)> = BTreeSet::new();
    let mut tops: Vec<String> = Vec::new();
    let mut drawn = 0;
    // Root may act as every account: that is worth a line only where it leads on.
    let leads_on = |account: &str| {
        out.to.as_deref().is_some_and(|to| to.contains('@'))
            || out.reached.iter().flat_map(|one| &one.steps).any(|step| step.from.as_deref() == Some(account))
    };
    for one in &out.reached {
        let is_plain = one.steps.last().is_some_and(|step| step.kind == StepKind::Root);
        if is_plain && !leads_on(&one.account) {
            continue;
        }
        drawn += 1;
        if drawn > most {
            continue;
        }
        for (number, step) in one.steps.iter().enumerate() {
            let top = leaves(step);
            if number == 0 && !tops.contains(&top) {
                tops.push(top.clone());
            }
            if known.insert((top.clone(), &step.to)) {
                below.entry(top).or_default().push(step);
            }
        }
    }
    let mut text = String::new();
    for top in &tops {
        text += &format!("  {top}\n");
        branch(top, "  ", &below, &mut text, ui);
    }
    if drawn > most || out.accounts > out.reached.len() {
        text += "  and more, which --all lists\n";
    }
    text
}

fn branch(from: &str, indent: &str, below: &BTreeMap<String, Vec<&StepOut>>, text: &mut String, ui: &Ui) {
    let steps = below.get(from).map(Vec::as_slice).unwrap_or_default();
    let (fork, last, stroke) = if screen::is_unicode() { ("├ ", "└ ", "│ ") } else { ("|- ", "`- ", "|  ") };
    for (number, step) in steps.iter().enumerate() {
        let is_last = number + 1 == steps.len();
        let doubt = if step.certain { String::new() } else { format!("  {}", ui.paint(Label::Warn, "perhaps")) };
        let branch_mark = if is_last { last } else { fork };
        let under = if is_last { " ".repeat(stroke.chars().count()) } else { stroke.to_owned() };
        let name = ui.paint(Label::Strong, &step.to);
        *text += &format!("{indent}{}{name}{doubt}\n", ui.paint(Label::Faint, branch_mark));
        let has_more = below.contains_key(&step.to);
        let side = if has_more { stroke } else { "" };
        for line in evidence(step) {
            *text += &format!(
                "{indent}{}{}\n",
                ui.paint(Label::Faint, &format!("{under}{side:<2}")),
                ui.paint(Label::Faint, &line)
            );
        }
        branch(&step.to, &format!("{indent}{under}"), below, text, ui);
    }
}

/// What shows a step, a line each.
pub fn evidence(step: &StepOut) -> Vec<String> {
    match step.kind {
        StepKind::Root => return vec!["root there may act as every account".to_owned()],
        StepKind::BecomesRoot => return vec![format!("may become root: {}", step.by.clone().unwrap_or_default())],
        StepKind::SharedHome => {
            return vec![format!("the home {} lies on both hosts", step.by.clone().unwrap_or_default())];
        }
        StepKind::Key => {}
    }
    let key = step.key.clone().unwrap_or_default();
    let whose = step.owner.as_ref().map(|owner| format!(" of {owner}")).unwrap_or_default();
    let mut lines = Vec::new();
    if let Some(agent) = &step.agent_of {
        lines.push(format!("by the agent of {agent}, while it is forwarded there"));
    }
    if let Some(held) = &step.held {
        let protected = match held.protected {
            Some(false) => "no passphrase",
            Some(true) => "with a passphrase",
            None => "perhaps with a passphrase",
        };
        let beside = if held.beside { "; its .pub says which key it is" } else { "" };
        lines.push(format!("key {}, {protected}{beside}", held.path));
    }
    lines.push(format!("{key}{whose}"));
    lines.extend(step.entry.as_ref().map(|entry| format!("entry {}", entry_words(entry))));
    lines.extend(step.hint.as_ref().map(|hint| format!("{} line {} names the host", hint.path, hint.line)));
    lines
}

fn entry_words(entry: &EntryAt) -> String {
    let place = match (&entry.path, entry.line) {
        (Some(path), Some(line)) => format!("{path} line {line}"),
        _ => "in a list of the device".to_owned(),
    };
    let since = entry.since.as_ref().map(|day| format!(", seen since {day}")).unwrap_or_default();
    let from = entry.limits.from.as_ref().map(|from| format!(", from {from}")).unwrap_or_default();
    let denied = if entry.limits.denied.is_empty() {
        String::new()
    } else {
        format!(", no {}", entry.limits.denied.join(", no "))
    };
    format!("{place}{since}{from}{denied}")
}

fn commands(out: &PathsOut, ui: &Ui) -> String {
    if out.commands.is_empty() {
        return String::new();
    }
    let mut text = format!("\n{}\n", ui.paint(Label::Strong, "Ends at one command"));
    for one in out.commands.iter().take(DRAWN_MAX) {
        let command = one.entry.limits.command.clone().unwrap_or_default();
        text += &format!("  {}  only: {command}\n", one.entry.account);
        text += &format!("      {}\n", ui.paint(Label::Faint, &entry_words(&one.entry)));
    }
    text
}

/// What to type to take an entry away.
fn removal(entry: &EntryAt) -> String {
    complete(&format!("lavrin remove {} {}", shell_word(&entry.key), shell_word(&entry.account)))
}

fn cut_text(cut: &CutOut, has_end: bool, ui: &Ui) -> String {
    let mut text = String::new();
    let line = |entry: &EntryAt, more: &str| {
        let whose = entry.owner.clone().unwrap_or_else(|| "owner unknown".to_owned());
        format!(
            "  {}  {whose}{more}\n      {}\n      next: {}\n",
            ui.paint(Label::Strong, &entry.account),
            ui.paint(Label::Faint, &entry_words(entry)),
            ui.paint(Label::Type, &removal(entry))
        )
    };
    match &cut.entries {
        _ if !has_end => {}
        None => {
            let told = "No entry that goes closes all ways: some way needs none (the same host, a shared home, root)";
            text += &format!("\n{}\n", ui.paint(Label::Warn, told));
        }
        Some(entries) if entries.is_empty() => {}
        Some(entries) => {
            let told = format!(
                "Without {} no way is left",
                count(entries.len(), "this entry", "these entries").replacen("1 ", "", 1)
            );
            text += &format!("\n{}\n", ui.paint(Label::Strong, &told));
            text += &entries.iter().map(|entry| line(entry, "")).collect::<String>();
        }
    }
    if cut.single.is_empty() {
        return text + "\nNo single entry closes any of it by itself\n";
    }
    text += &format!("\n{}\n", ui.paint(Label::Strong, "Single entries that close most"));
    for one in &cut.single {
        let (hosts, accounts) = (count(one.hosts, "host", "hosts"), count(one.accounts, "account", "accounts"));
        text += &line(&one.entry, &format!(": closes {hosts}, {accounts}"));
    }
    text
}

fn overview(out: &PathsOut, args: &PathsArgs, ui: &Ui) -> String {
    if out.overview.is_empty() {
        return "From no host is another one reached\n".to_owned();
    }
    let most = if args.all { usize::MAX } else { DRAWN_MAX };
    let mut text = format!("{}\n", ui.paint(Label::Strong, "What is reached from each host, if it is lost"));
    let row = |one: &BehindOut| {
        let more = if one.hosts > one.nearest.len() { ", …" } else { "" };
        vec![
            ui.paint(Label::Strong, &one.host),
            count(one.hosts, "host", "hosts"),
            if one.roots > 0 { ui.paint(Label::Bad, &format!("root on {}", one.roots)) } else { String::new() },
            format!("{}{more}", one.nearest.join(", ")),
        ]
    };
    let rows: Vec<Vec<String>> = out.overview.iter().take(most).map(row).collect();
    text += &columns(&rows, 2).into_iter().map(|line| line + "\n").collect::<String>();
    if out.overview.len() > most {
        text += &format!("  and {} more: {}\n", out.overview.len() - most, complete("lavrin paths --all"));
    }
    let worst = out.overview.first().map(|one| one.host.clone()).unwrap_or_default();
    text + &format!("next: {}\n", ui.paint(Label::Type, &complete(&format!("lavrin paths {}", shell_word(&worst)))))
}

/// What was left aside.
fn aside(out: &PathsOut, args: &PathsArgs, ui: &Ui) -> String {
    let mut lines = Vec::new();
    let not = &out.not_followed;
    if not.passphrases > 0 {
        let keys = count(not.passphrases, "key", "keys");
        lines.push(format!("not followed: {keys} with a passphrase (--with-passphrases follows them)"));
    }
    if not.agents > 0 && !args.with_agents {
        let hosts = count(not.agents, "host", "hosts");
        lines.push(format!("not followed: agents forwarded to {hosts} (--with-agents follows them)"));
    }
    if !not.unknown_keys.is_empty() {
        lines.push(format!("not known which key this is: {}", some(&not.unknown_keys, 3)));
    }
    if !out.never_seen.is_empty() {
        lines.push(format!("never seen, so nothing is known of them: {}", some(&out.never_seen, 8)));
    }
    if !out.not_read.is_empty() {
        lines.push(format!("not read by the last survey, a way may lead through them: {}", some(&out.not_read, 8)));
    }
    let unread = out.not_read.iter().filter_map(|account| Some(account.rsplit_once('@')?.1));
    let hosts: BTreeSet<&str> = out.never_seen.iter().map(String::as_str).chain(unread).collect();
    if !hosts.is_empty() {
        let names = hosts.into_iter().take(8).map(shell_word).collect::<Vec<_>>().join(" ");
        lines.push(format!("next: lavrin survey {names}"));
    }
    if lines.is_empty() {
        return String::new();
    }
    let shown = |line: &String| format!("  {}\n", ui.paint(Label::Faint, line));
    format!("\n{}", lines.iter().map(shown).collect::<String>())
}

/// The first ones, and how many more there are.
fn some(names: &[String], most: usize) -> String {
    let some = names.iter().take(most).cloned().collect::<Vec<_>>().join(", ");
    if names.len() > most { format!("{some} and {} more", names.len() - most) } else { some }
}

fn summary(out: &PathsOut, ui: &Ui) -> String {
    if out.accounts == 0 && !out.is_complete() {
        return format!("{}\n", ui.paint(Label::Warn, "No way is known, but not everything was seen"));
    }
    if out.accounts == 0 {
        return format!("{}\n", ui.paint(Label::Good, "No way"));
    }
    let doubts = if out.perhaps > 0 { format!(", {} of them perhaps", out.perhaps) } else { String::new() };
    let (hosts, accounts) = (count(out.hosts, "host", "hosts"), count(out.accounts, "account", "accounts"));
    format!("{}\n", ui.paint(Label::Strong, &format!("{hosts} reached ({accounts}{doubts})")))
}
