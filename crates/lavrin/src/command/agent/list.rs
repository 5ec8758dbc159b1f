//! `lavrin agent list`

use super::{Outdated, SocketArgs, fault, record, standing};
use crate::clock;
use crate::command::register::{OpenedRegister, RegisterArgs, policy};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::table::columns;
use crate::ui::{Label, Ui};
use crate::wording;
use clap::Args;
use lavrin_fleet::register::Register;
use lavrin_keys::key::policy::Policy;
use lavrin_keys::key::{PublicKey, strength};
use lavrin_keys::text::count;
use lavrin_reach::agent::{AgentEntry, held};
use lavrin_server::finding::Fault;
use serde::Serialize;

/// Show which keys the agent holds, whose they are and for how long
#[derive(Debug, Args)]
pub struct ListArgs {
    #[command(flatten)]
    agent: SocketArgs,
    #[command(flatten)]
    register: RegisterArgs,
}

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct AgentListOut {
    schema: &'static str,
    socket: String,
    keys: Vec<AgentKeyOut>,
    /// Entries that are no keys known here, in words.
    others: Vec<String>,
}

/// A key that the agent holds.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct AgentKeyOut {
    key: String,
    algorithm: &'static str,
    bits: usize,
    comment: String,
    /// Whose it is, where a register knows.
    owner: Option<String>,
    /// Until when it is held (UTC), where Lavrin handed it over with an end.
    until: Option<String>,
    /// Whether Lavrin handed it over so that somebody is asked at each use.
    confirm: bool,
    /// What is wrong with it.
    faults: Vec<String>,
}

/// Runs the command.
pub async fn run(args: &ListArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let socket = args.agent.get()?;
    let opened = args.register.here(ui)?;
    let register = opened.as_ref().map(OpenedRegister::register);
    let policy = policy(opened.as_ref());
    let (mut keys, mut others) = (Vec::new(), Vec::new());
    for entry in held(&socket).await.map_err(|why| fault(&why))? {
        match entry {
            AgentEntry::Key { key, comment } => keys.push(one(&key, comment, &socket, register, &policy)),
            AgentEntry::Odd(what) => others.push(what),
        }
    }
    let is_fine = keys.iter().all(|key| key.faults.is_empty());
    let out = AgentListOut { schema: "lavrin/agent-list/1", socket, keys, others };
    ui.give(&out, || text(&out, register.is_some(), ui));
    Ok(if is_fine { Exit::Done } else { Exit::Findings })
}

fn one(key: &PublicKey, comment: String, socket: &str, register: Option<&Register>, policy: &Policy) -> AgentKeyOut {
    let print = key.fingerprint();
    let (owner, outdated) = standing(register, print);
    let handed = record::all().into_iter().find(|one| one.socket == socket && one.key == print.to_string());
    let handed = handed.filter(|one| one.until.is_none_or(|until| until > clock::unix()));
    let weak = strength::objections(key, policy).into_iter();
    let weak = weak.map(|weakness| wording::finding::message(&Fault::WeakKey { weakness, fingerprint: print }));
    let outdated = outdated.map(|outdated| match outdated {
        Outdated::Left(day) => format!("its owner left on {day}"),
        Outdated::Retired(day) => format!("retired since {day}"),
    });
    AgentKeyOut {
        key: print.to_string(),
        algorithm: key.algorithm().name(),
        bits: key.bits(),
        comment,
        owner: owner.map(|owner| owner.name()),
        until: handed.as_ref().and_then(|one| one.until).map(clock::text_of),
        confirm: handed.is_some_and(|one| one.confirm),
        faults: outdated.into_iter().chain(weak).collect(),
    }
}

fn text(out: &AgentListOut, has_register: bool, ui: &Ui) -> String {
    let nobody = if has_register { "no known owner" } else { "" };
    let row = |one: &AgentKeyOut| {
        vec![
            ui.paint(Label::Strong, one.owner.as_deref().unwrap_or(nobody)),
            format!("{} {}", one.algorithm, one.bits),
            one.key.clone(),
            one.comment.clone(),
        ]
    };
    let rows: Vec<Vec<String>> = out.keys.iter().map(row).collect();
    let mut text = String::new();
    for (line, one) in columns(&rows, 0).into_iter().zip(&out.keys) {
        text += &format!("{line}\n");
        let until =
            one.until.as_ref().map(|until| format!("until {} UTC", until.replace('T', " ").trim_end_matches('Z')));
        let ask = one.confirm.then(|| "asks at each use".to_owned());
        let notes = until.into_iter().chain(ask).chain(one.faults.iter().map(|fault| ui.paint(Label::Bad, fault)));
        let notes = notes.collect::<Vec<_>>().join("; ");
        text += &if notes.is_empty() { notes } else { format!("    {notes}\n") };
    }
    for other in &out.others {
        text += &format!("{}\n", ui.paint(Label::Warn, other));
    }
    text += &count(out.keys.len(), "key", "keys");
    if out.keys.is_empty() {
        text += "; a locked agent lists none either";
    }
    if out.keys.iter().any(|key| !key.faults.is_empty()) {
        text += "\nnext: lavrin agent release --left, or: lavrin agent release SHA256:…";
    }
    text
}
