//! Kept keys of which somebody who leaves may have a copy: that they cannot sign in with their own key any more is not enough.

use super::OffboardArgs;
use crate::command::kept::{KeptName, may_have};
use crate::command::register::OpenedRegister;
use crate::command::rotate::{self, RotateArgs};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::table::columns;
use crate::ui::{Label, Ui};
use lavrin_work::offboard::Leaver;
use serde::Serialize;

/// A kept key of which the leaver may have a copy.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct KeptKnownOut {
    pub account: String,
    pub host: String,
    /// `replaced` or `not-replaced`.
    pub state: &'static str,
    pub why: Option<String>,
}

impl KeptKnownOut {
    fn not_replaced(name: &KeptName, why: Option<String>) -> Self {
        Self { account: name.account.clone(), host: name.host.clone(), state: "not-replaced", why }
    }

    /// How the command ends because of it.
    pub fn exit(&self) -> Exit {
        if self.state == "replaced" { Exit::Done } else { Exit::Findings }
    }
}

/// All of them, before anything is done.
pub fn known_to(opened: &OpenedRegister, leaver: &Leaver) -> Vec<KeptName> {
    let kept = opened.register().kept.iter().filter(|kept| may_have(opened, kept, &leaver.id, &leaver.keys));
    kept.map(|kept| KeptName { account: kept.account.clone(), host: kept.host.clone() }).collect()
}

/// Whether they are replaced: asked for, or answered.
pub fn are_replaced(args: &OffboardArgs, names: &[KeptName], ui: &Ui) -> Result<bool, CommandError> {
    if names.is_empty() || args.rotate_kept || args.fleet.change.yes {
        return Ok(args.rotate_kept && !names.is_empty());
    }
    ui.confirm("Replace these kept keys too?", &[("without asking", "--yes --rotate-kept")])
}

/// Replaces each by its next version, one after the other.
pub async fn replace(args: &OffboardArgs, names: &[KeptName], ui: &Ui) -> Vec<KeptKnownOut> {
    let mut all = Vec::new();
    for name in names {
        let rotate = RotateArgs::of_kept(name.clone(), &args.opener, &args.fleet);
        let ended = match args.fleet.register.open() {
            Ok(opened) => rotate::of_kept(&rotate, name, &opened, ui).await,
            Err(fault) => Err(fault),
        };
        all.push(match ended {
            Ok(end) if end.is_retired => KeptKnownOut { state: "replaced", ..KeptKnownOut::not_replaced(name, None) },
            Ok(end) => KeptKnownOut::not_replaced(name, end.why()),
            Err(fault) => KeptKnownOut::not_replaced(name, Some(fault.in_one_line())),
        });
    }
    all
}

/// The result where they were not replaced.
pub fn left(names: &[KeptName]) -> Vec<KeptKnownOut> {
    names.iter().map(|name| KeptKnownOut::not_replaced(name, None)).collect()
}

/// The end, in words.
pub fn text(kept: &[KeptKnownOut], leaver: &Leaver, ui: &Ui) -> String {
    let row = |one: &KeptKnownOut| {
        let (words, label) =
            if one.state == "replaced" { ("replaced", Label::Good) } else { ("NOT REPLACED", Label::Bad) };
        let name = format!("{}@{}", one.account, one.host);
        let next = || crate::cli::complete(&format!("{} may have a copy: lavrin rotate --account {name}", leaver.id));
        let why = match &one.why {
            _ if one.state == "replaced" => {
                "kept key: a new version is sealed, and the old one opens nothing".to_owned()
            }
            Some(why) => format!("{why}; {}", next()),
            None => next(),
        };
        vec![ui.paint(label, words), ui.paint(Label::Strong, &name), why]
    };
    let rows: Vec<Vec<String>> = kept.iter().map(row).collect();
    columns(&rows, 0).into_iter().map(|line| format!("\n{line}")).collect()
}
