//! `lavrin keys-only --status`: which hosts still take passwords, by what was seen of them last.

use super::out::OpenSettingOut;
use crate::clock;
use crate::command::register::OpenedRegister;
use crate::command::survey::hosts_named;
use crate::error::{CommandError, no_steps};
use crate::exit::Exit;
use crate::table::columns;
use crate::ui::{Label, Ui};
use lavrin_keys::text::count;
use lavrin_server::steps::{RootLogin, open_to_passwords};
use lavrin_server::system::System;
use lavrin_store::database::Database;
use lavrin_work::memory::Memory;
use serde::Serialize;

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct KeysOnlyStatusOut {
    schema: &'static str,
    hosts: Vec<PasswordsOut>,
}

/// A host.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct PasswordsOut {
    host: String,
    /// When it was last seen (RFC 3339).
    seen: Option<String>,
    /// Whether it takes passwords; `null` where that is not known.
    passwords: Option<bool>,
    /// Why that is not known.
    why: Option<String>,
    /// By what.
    open: Vec<OpenSettingOut>,
}

/// Runs it.
pub fn run(opened: OpenedRegister, names: &[String], root: RootLogin, ui: &Ui) -> Result<Exit, CommandError> {
    let store = Database::open_existing(opened.folder.path())?;
    let mut hosts = Vec::new();
    let looks = store.as_ref().map(Database::looks).transpose()?.unwrap_or_default();
    let mut memory = store.as_ref().map(Memory::of);
    for host in hosts_named(opened.register(), names)? {
        let look = looks.iter().find(|look| look.host == host.id).and_then(|look| look.seen);
        let seen = look.and_then(|seen| u64::try_from(seen).ok()).map(clock::date_of);
        let observation = match &mut memory {
            Some(memory) => memory.observations(&[&host.id], i64::MAX)?.pop().flatten(),
            None => None,
        };
        let mut told = PasswordsOut { host: host.id.clone(), seen, passwords: None, why: None, open: Vec::new() };
        match observation.as_ref().map(|seen| open_to_passwords(root, &System::of(seen))) {
            None => told.why = Some("it was never seen".to_owned()),
            Some(Err(fault)) => told.why = Some(no_steps(&fault, "root", &host.id).message),
            Some(Ok(open)) => {
                told.passwords = Some(!open.is_empty());
                told.open = open.into_iter().map(OpenSettingOut::of).collect();
            }
        }
        hosts.push(told);
    }
    let exit = hosts.iter().map(PasswordsOut::exit).max().unwrap_or(Exit::Done);
    let out = KeysOnlyStatusOut { schema: "lavrin/keys-only-status/1", hosts };
    ui.give(&out, || text(&out, ui));
    Ok(exit)
}

impl PasswordsOut {
    fn exit(&self) -> Exit {
        match self.passwords {
            Some(false) => Exit::Done,
            Some(true) => Exit::Findings,
            None => Exit::NotChecked,
        }
    }

    fn row(&self, ui: &Ui) -> Vec<String> {
        let (word, label) = match self.passwords {
            Some(false) => ("keys only", Label::Good),
            Some(true) => ("takes passwords", Label::Warn),
            None => ("not known", Label::Warn),
        };
        let open: Vec<String> = self.open.iter().map(|one| format!("{} {}", one.keyword, one.value)).collect();
        let seen = self.seen.as_deref().map(|seen| format!("seen {}", &seen[..10])).unwrap_or_default();
        let why = self.why.clone().unwrap_or_else(|| open.join(", "));
        vec![ui.paint(Label::Strong, &self.host), ui.paint(label, word), seen, why]
    }
}

fn text(out: &KeysOnlyStatusOut, ui: &Ui) -> String {
    let rows: Vec<Vec<String>> = out.hosts.iter().map(|host| host.row(ui)).collect();
    let lines = columns(&rows, 0).join("\n");
    let number = |wanted: Option<bool>| out.hosts.iter().filter(|host| host.passwords == wanted).count();
    let mut text = format!(
        "{lines}\n{}: {} take keys only, {} take passwords, {} not known",
        count(out.hosts.len(), "host", "hosts"),
        number(Some(false)),
        number(Some(true)),
        number(None)
    );
    if let Some(host) = out.hosts.iter().find(|host| host.passwords == Some(true)) {
        text += &format!("\nnext: lavrin keys-only {} --preview", host.host);
    }
    text
}
