//! `install --create-account`: the account comes first, since nobody knows before where its home is.

use super::InstallArgs;
use crate::clock;
use crate::command::change;
use crate::command::place::Work;
use crate::command::register::OpenedRegister;
use crate::error::{CommandError, no_steps};
use crate::exit::Exit;
use crate::ui::Ui;
use lavrin_server::steps::{NewAccount, make_account, make_account_wants};
use lavrin_server::system::System;
use lavrin_work::Scope;
use lavrin_work::change::Proof;

/// Makes it; `None`: it was only to be shown.
pub async fn make(
    args: &InstallArgs,
    mut work: Work,
    register: Option<&OpenedRegister>,
    ui: &Ui,
) -> Result<Option<Work>, CommandError> {
    let name = args.target.account.clone();
    let new = NewAccount { name: name.clone(), shell: args.shell.clone(), home: args.home.clone() };
    work.look(&|seen| make_account_wants(&new, &System::of(seen))).await?;
    let forbidden = register.map(|opened| opened.register().rules.groups_forbidden.as_slice()).unwrap_or_default();
    if let Some(group) = args.group.iter().find(|group| forbidden.contains(group)) {
        return Err(CommandError::with(
            Exit::Stopped,
            format!("policy forbids to put accounts into the group {group}"),
        )
        .because("nothing was changed"));
    }
    let now = clock::now().unix_timestamp();
    let steps = make_account(&new, &args.group, &System::of(&work.seen), now)
        .map_err(|fault| no_steps(&fault, &name, &work.name))?;
    change::show(ui, &steps, &work);
    if args.change.preview {
        ui.result(&format!(
            "The account {name} would be made on {}, and then get the key; nothing was changed",
            work.name
        ));
        return Ok(None);
    }
    let tasks = change::guarded(vec![steps], &mut work, register, false).await?;
    change::confirm(ui, &args.change)?;
    let terms = change::terms("install", register, args.change.reason.clone(), false, ui)?;
    let place = work.name.clone();
    let proof = Proof { asks: false, ..Proof::of(Scope::Account(name.clone())) };
    let (work, ended) = change::carry(work, tasks, proof, terms, ui).await;
    if let Some(error) = change::error_of(ended.worst(), &name, &place) {
        return Err(error);
    }
    ui.status(&format!("made the account {name} on {place}"));
    work.map(Some).ok_or_else(|| CommandError::with(Exit::Midway, "the program failed"))
}
