//! `lavrin rotate`: a key is replaced by a new one, host by host: beside the old one, proven, then the old one goes.

mod due;
mod kept;
mod keys;
mod out;
mod status;

#[cfg(test)]
pub use out::RotateOut;

use super::change;
use super::compare::moment;
use super::fleet_change::{FleetArgs, begin};
use super::grant::FILE as GRANTS;
use super::kept::{KeptName, OpenerArgs};
use super::key::generate::PassphraseHow;
use super::register::{OpenedRegister, change_file};
use super::survey::look;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use crate::{defaults, paths};
use clap::Args;
use kept::KeptHalves;
use keys::RotationCase;
use lavrin_fleet::fleet::rotation::Rotation;
use lavrin_fleet::register::{Host, Register};
use lavrin_reach::ssh::Credential;
use lavrin_store::database::Database;
use lavrin_work::fleet::removed;
use lavrin_work::rotate::{Rotating, RotationRow, RotationState};
use lavrin_work::ways::{Way, Ways};
pub use out::RotationEnd;
use std::path::PathBuf;
use std::sync::Arc;

/// Replace a key by a new one, host by host: beside the old one, proven, then the old one goes
#[derive(Debug, Args)]
pub struct RotateArgs {
    /// Whose key, or which (fingerprint or public half)
    #[arg(value_name = "PERSON|KEY", required_unless_present_any = ["status", "due", "account"])]
    pub who: Option<String>,
    /// Make the next version of a kept key
    #[arg(long, value_name = "ACCOUNT@HOST", conflicts_with_all = ["who", "label", "from_file", "paste", "make", "due"])]
    pub account: Option<KeptName>,
    /// Which key of the person
    #[arg(long, value_name = "LABEL")]
    pub label: Option<String>,
    /// The new public key, from a file
    #[arg(long, value_name = "FILE", value_parser = paths::typed, conflicts_with_all = ["paste", "make", "status"])]
    pub from_file: Option<PathBuf>,
    /// The new public key, from a paste
    #[arg(long, conflicts_with_all = ["make", "status"])]
    pub paste: bool,
    /// Make the new pair; private half to FILE
    #[arg(long, value_name = "FILE", value_parser = paths::typed, conflicts_with = "status")]
    pub make: Option<PathBuf>,
    /// Passphrase of the pair that is made
    #[arg(long, value_name = "HOW", requires = "make")]
    pub passphrase: Option<PassphraseHow>,
    /// Leave the old key until the next run
    #[arg(long)]
    pub keep_old: bool,
    /// Replace the key in unmanaged accounts too
    #[arg(long)]
    pub everywhere: bool,
    /// Work on N hosts as a trial, then stop
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    pub first: Option<u32>,
    /// How far each host is (last surveys)
    #[arg(long)]
    pub status: bool,
    /// Every key older than policy allows
    #[arg(long, conflicts_with_all = ["who", "status", "from_file", "paste", "make", "label"])]
    pub due: bool,
    #[command(flatten)]
    opener: OpenerArgs,
    #[command(flatten)]
    fleet: FleetArgs,
}

impl RotateArgs {
    /// The next version of a kept key, as a part of another command, which has asked already.
    pub fn of_kept(name: KeptName, opener: &OpenerArgs, fleet: &FleetArgs) -> Self {
        let mut fleet = fleet.clone();
        fleet.change.yes = true;
        let (who, label, from_file, make, passphrase, first) = (None, None, None, None, None, None);
        let (paste, keep_old, everywhere, status, due) = (false, false, false, false, false);
        let (account, opener) = (Some(name), opener.clone());
        Self {
            who,
            account,
            label,
            from_file,
            paste,
            make,
            passphrase,
            keep_old,
            everywhere,
            first,
            status,
            due,
            opener,
            fleet,
        }
    }
}

/// Runs the command.
pub async fn run(args: &RotateArgs, ui: &Ui) -> Result<Exit, CommandError> {
    if args.status {
        return status::run(args, ui);
    }
    let opened = args.fleet.register.open_to_change_hosts(ui)?;
    if args.due {
        return due::run(args, &opened, ui).await;
    }
    let case = match &args.account {
        Some(name) => kept::find(args, name, &opened, ui)?,
        None => keys::find(args, args.who.as_deref().unwrap_or_default(), &opened, ui)?,
    };
    Ok(out::print(&[one(args, case, &opened, ui).await?], &[], ui))
}

/// The next version of a kept key.
pub async fn of_kept(
    args: &RotateArgs,
    name: &KeptName,
    opened: &OpenedRegister,
    ui: &Ui,
) -> Result<RotationEnd, CommandError> {
    one(args, kept::find(args, name, opened, ui)?, opened, ui).await
}

/// One key from what is seen to the register.
async fn one(
    args: &RotateArgs,
    case: RotationCase,
    opened: &OpenedRegister,
    ui: &Ui,
) -> Result<RotationEnd, CommandError> {
    let register = case.register.register();
    let is_meant = |host: &&Host| case.kept.as_ref().is_none_or(|kept| kept.name.host == host.id);
    let hosts: Vec<&Host> = register.all_hosts().filter(is_meant).collect();
    let store = Database::open_existing(opened.folder.path())?;
    let removed = store.as_ref().map(removed).transpose()?.unwrap_or_default();
    drop(store);
    let ways = OwnWays::of(args, &case, register)?;
    let pace = args.fleet.many.pace(register, ui)?;
    let mut rotating =
        Rotating::new(register, &case.rotation, moment(), removed, args.fleet.sign_in.network_homes, args.everywhere)
            .with_holder(case.kept.as_ref().map(KeptHalves::holder));
    let looked = look(opened, &hosts, &ways.first, &pace, ui, |host, seen| rotating.take(host, seen)).await?;
    let (mut besides, planned) = rotating.plan(&looked, &ways.first, args.first.map(|first| first as usize));
    ui.status(&out::intent(&case.rotation, &besides, ui));
    let mut end = RotationEnd {
        next: out::next(&case.rotation, case.public.as_deref().filter(|_| ways.is_own), args.everywhere),
        identity: case.private.as_ref().filter(|_| ways.is_own).map(|private| private.path().to_owned()),
        is_preview: args.fleet.change.preview,
        rotation: case.rotation.clone(),
        rows: Vec::new(),
        run: None,
        is_retired: false,
    };
    if args.fleet.change.preview {
        end.rows = besides.rows();
        return Ok(end);
    }
    if besides.has_work() || case.begin.is_some() {
        change::confirm(ui, &args.fleet.change)?;
    }
    let written = case.begin.map(|begin| begin.write(opened, ui)).transpose()?;
    let opened = written.as_ref().unwrap_or(opened);
    let run = begin("rotate", opened, &args.fleet.many, args.fleet.change.reason.clone(), ui)?;
    besides.put(planned.jobs, &run, &ways.first).await?;
    match &ways.then {
        _ if args.keep_old => besides.keep_old(),
        None => besides.keep_login(),
        Some(ways) => {
            let (_, after) = keys::retired(opened, &end.rotation)?;
            besides.take_out_old(after.register(), moment(), &run, ways).await?;
        }
    }
    end.rows = besides.rows();
    end.is_retired = !args.keep_old && finish(opened, &end.rotation, &end.rows, case.kept.as_ref(), ui)?;
    end.run = run.terms.run.filter(|_| besides.is_changed());
    Ok(end)
}

/// The ways to the hosts. Where the old key is that of the login itself, the new one is tried first, and the old one is taken
/// out with the new one only: there is no moment without a way in.
struct OwnWays {
    first: Arc<Ways>,
    /// Those on which the old key is taken out; none where nothing but the old key is at hand.
    then: Option<Arc<Ways>>,
    is_own: bool,
}

impl OwnWays {
    fn of(args: &RotateArgs, case: &RotationCase, register: &Register) -> Result<Self, CommandError> {
        let way = args.fleet.sign_in.way("the logins on these hosts", &defaults::of(Some(register))?)?;
        let ways = |way: Way| Arc::new(Ways::of(register, way, args.fleet.sign_in.login.clone()));
        if let Some(kept) = &case.kept {
            let with = |first: Vec<Credential>| {
                ways(Way {
                    credentials: first.into_iter().chain(way.credentials.iter().cloned()).collect(),
                    ..way.clone()
                })
            };
            return Ok(Self { first: with(kept.both()), then: Some(with(kept.new_only())), is_own: false });
        }
        let old = case.rotation.old_print();
        let is_old = |one: &Credential| matches!(one, Credential::Key { key, .. } if key.public().fingerprint() == old);
        if !way.credentials.iter().any(is_old) {
            let first = ways(way);
            return Ok(Self { then: Some(first.clone()), first, is_own: false });
        }
        let Some(private) = &case.private else { return Ok(Self { first: ways(way), then: None, is_own: true }) };
        let (key, path) = private.open(&args.fleet.sign_in.passphrase())?;
        let new = Credential::Key { key, source: paths::shown(path) };
        let then = Way { credentials: vec![new.clone()], ..way.clone() };
        let both = std::iter::once(new).chain(way.credentials.iter().cloned()).collect();
        Ok(Self { first: ways(Way { credentials: both, ..way }), then: Some(ways(then)), is_own: true })
    }
}

/// Once no host that was reached has the old key any more, the register says that it is retired: what was not reached is
/// finished by the next `enforce` or `rotate`. Says whether it is retired now.
fn finish(
    opened: &OpenedRegister,
    rotation: &Rotation,
    rows: &[RotationRow],
    kept: Option<&KeptHalves>,
    ui: &Ui,
) -> Result<bool, CommandError> {
    let is_off = |state| matches!(state, RotationState::Replaced | RotationState::NotReached);
    // Where nothing was reached nothing is known.
    let is_anywhere = rows.is_empty() || rows.iter().any(|row| row.state == RotationState::Replaced);
    if rotation.retired.is_some() || !is_anywhere || !rows.iter().all(|row| is_off(row.state)) {
        return Ok(false);
    }
    if let Some(kept) = kept {
        let replaced = rows.iter().filter(|row| row.state == RotationState::Replaced);
        let new: Vec<_> = replaced.map(|row| row.new.clone()).collect();
        return kept::finish(opened, rotation, &kept.name, &new, ui);
    }
    let (path, after) = keys::retired(opened, rotation)?;
    let opened = change_file(opened, ui, &path, after.text(&path).unwrap_or_default())?;
    let grants = keys::grants_of_new(&opened, rotation, GRANTS)?;
    if opened.text(GRANTS).is_some_and(|old| old != grants) {
        change_file(&opened, ui, GRANTS, &grants)?;
    }
    Ok(true)
}
