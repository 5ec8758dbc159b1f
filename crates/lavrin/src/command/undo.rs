//! `lavrin undo`: take back a change that the journal knows, or everything that one run changed.

use super::barred::Barred;
use super::change::{self, ChangeArgs, keeper};
use super::fleet_change::{ManyArgs, ResultOut, begin, differs_now, text};
use super::place::Work;
use super::register::{OpenedRegister, RegisterArgs};
use super::survey::look_at;
use crate::error::{CommandError, no_steps};
use crate::exit::Exit;
use crate::host::HostArgs;
use crate::outcome::ChangeState;
use crate::table::columns;
use crate::ui::{Label, Ui};
use crate::wording;
use clap::Args;
use lavrin_fleet::fleet::Index;
use lavrin_fleet::fleet::compare::Comparer;
use lavrin_fleet::register::{Host, Register};
use lavrin_keys::key::Fingerprint;
use lavrin_keys::text::count;
use lavrin_server::fs::BytePath;
use lavrin_server::steps::{Around, Change, Effect, Steps, keep_out, restore};
use lavrin_server::survey::Observation;
use lavrin_server::system::System;
use lavrin_store::{ChangeOutcome, Event, JournalEntry, Keeper};
use lavrin_work::Scope;
use lavrin_work::change::{Asked, Job, Proof, Task};
use lavrin_work::plan::pairs;
use lavrin_work::survey::LookAt;
use lavrin_work::ways::Rights;
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

/// Take back a change or a whole run; it may let people in again
#[derive(Debug, Args)]
#[command(group(clap::ArgGroup::new("what").required(true).args(["id", "run", "last"])))]
pub struct UndoArgs {
    /// The change or the run, as listed by `lavrin history`
    #[arg(value_name = "CHANGE")]
    pub id: Option<String>,
    /// Everything this run changed, on all its hosts
    #[arg(long, value_name = "RUN")]
    pub run: Option<String>,
    /// The last change, with everything of its run
    #[arg(long)]
    pub last: bool,
    /// Let even keys come back whose owner left, or that are retired or revoked
    #[arg(long)]
    pub even_leavers: bool,
    #[command(flatten)]
    pub change: ChangeArgs,
    #[command(flatten)]
    pub many: ManyArgs,
    #[command(flatten)]
    pub host: HostArgs,
    #[command(flatten)]
    pub register: RegisterArgs,
}

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct UndoOut {
    schema: &'static str,
    /// What ties the changes of this run together.
    run: Option<String>,
    hosts: Vec<ResultOut>,
}

/// A change that the journal knows.
#[derive(Debug, Clone)]
struct KnownChange {
    time: String,
    command: String,
    place: String,
    account: String,
    changes: Vec<Change>,
}

/// Runs the command.
pub async fn run(args: &UndoArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.here_for_host(None, ui)?;
    let keeper = keeper(opened.as_ref())?;
    let lines = keeper.lines()?;
    let wanted = wanted(args, &lines)?;
    let is_meant = |id: &str, run: Option<&String>| id == wanted && args.run.is_none() || run == Some(&wanted);
    let known = known(&lines, keeper.as_ref(), &is_meant)?;
    if known.is_empty() {
        return Err(unknown(&wanted));
    }
    take_back(args, opened.as_ref(), &known, ui).await
}

/// Takes back these changes of the journal.
pub async fn these(args: &UndoArgs, ids: &[String], ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.here_for_host(None, ui)?;
    let keeper = keeper(opened.as_ref())?;
    let known = known(&keeper.lines()?, keeper.as_ref(), &|id, _| ids.iter().any(|one| one == id))?;
    take_back(args, opened.as_ref(), &known, ui).await
}

fn unknown(wanted: &str) -> CommandError {
    CommandError::usage(format!(
        "the journal knows no change '{}' that could be taken back",
        lavrin_keys::text::printable(wanted.as_bytes())
    ))
    .hint("lavrin history")
    .hint("lavrin history runs")
}

async fn take_back(
    args: &UndoArgs,
    opened: Option<&OpenedRegister>,
    known: &[KnownChange],
    ui: &Ui,
) -> Result<Exit, CommandError> {
    show(known, opened, ui);
    let is_host =
        |known: &KnownChange| opened.is_some_and(|opened| opened.reading.register.hosts.contains_key(&known.place));
    match (opened, known) {
        (Some(opened), _) if known.iter().all(is_host) => on_hosts(args, opened, known, ui).await,
        (_, [one]) => on_one(args, opened, one, ui).await,
        _ => Err(CommandError::usage("this run changed a host that is not in the register any more")
            .hint("put it back there, or take its changes back one by one: lavrin history")),
    }
}

/// The changes that are meant, the last one first.
fn known(
    lines: &[JournalEntry],
    keeper: &dyn Keeper,
    is_meant: &dyn Fn(&str, Option<&String>) -> bool,
) -> Result<Vec<KnownChange>, CommandError> {
    let mut found: Vec<KnownChange> = Vec::new();
    for JournalEntry { id, time, event, .. } in lines {
        let Event::Intent { command, place, account, run, changes, files, .. } = event else { continue };
        if !is_meant(id, run.as_ref()) || ended(lines, id) == Some(ChangeOutcome::AsBefore) {
            continue;
        }
        if changes.is_empty() && !files.is_empty() {
            return Err(CommandError::with(
                Exit::Stopped,
                format!("{id} was written by a version that did not keep enough"),
            )
            .because("nothing was changed"));
        }
        let content = |name: &str| keeper.kept(name).ok().flatten();
        let whole: Option<Vec<Change>> = changes.iter().map(|change| change.whole(content)).collect();
        let changes = whole.ok_or_else(|| {
            CommandError::with(Exit::Stopped, format!("a backup that {id} needs is missing or damaged"))
                .because("nothing was changed")
        })?;
        let (time, command) = (time.clone(), command.clone());
        found.push(KnownChange { time, command, place: place.clone(), account: account.clone(), changes });
    }
    found.reverse();
    // Hosts were changed side by side; what matters is the order on each.
    found.sort_by(|one, other| (&one.place, &one.account).cmp(&(&other.place, &other.account)));
    Ok(found)
}

/// The change or the run that is meant: as it was typed, or the last one that changed something.
fn wanted(args: &UndoArgs, lines: &[JournalEntry]) -> Result<String, CommandError> {
    if let Some(typed) = args.id.as_ref().or(args.run.as_ref()) {
        return Ok(typed.trim_start_matches('[').trim_end_matches(']').to_owned());
    }
    let last = lines.iter().rev().find_map(|line| match &line.event {
        Event::Intent { run, .. } if ended(lines, &line.id) != Some(ChangeOutcome::AsBefore) => {
            Some(run.clone().unwrap_or_else(|| line.id.clone()))
        }
        _ => None,
    });
    last.ok_or_else(|| CommandError::usage("the journal knows no change yet").hint("lavrin history"))
}

fn ended(lines: &[JournalEntry], id: &str) -> Option<ChangeOutcome> {
    lines.iter().rev().find_map(|line| match &line.event {
        Event::Outcome { outcome, .. } if line.id == id => Some(*outcome),
        _ => None,
    })
}

/// What would be taken back, on stderr; whose keys come back is said, since one of them may have left.
fn show(known: &[KnownChange], opened: Option<&OpenedRegister>, ui: &Ui) {
    let register = opened.map(|opened| &opened.reading.register);
    let index = register.map(Index::of);
    for one in known {
        let what = format!("{} of {} on {}@{}", one.command, one.time, one.account, one.place);
        ui.status(&ui.paint_status(Label::Strong, &format!("undo {what}")));
        let inverse: Vec<Change> = one.changes.iter().rev().map(Change::inverse).collect();
        let effect = Effect::of(&inverse);
        let row = |what: &str, key: &lavrin_keys::key::PublicKey| {
            let print = key.fingerprint();
            let owner = index.as_ref().and_then(|index| index.owner(print)).map(lavrin_fleet::fleet::Owner::name);
            let left = register.zip(owner.as_ref()).and_then(|(register, id)| left(register, id)).unwrap_or_default();
            let owner = owner.unwrap_or_else(|| "no known owner".to_owned());
            vec![ui.paint_status(Label::Strong, what), owner, print.to_string(), left]
        };
        let came = effect.came.iter().map(|key| row("comes back", key));
        let gone = effect.gone.iter().map(|key| row("removed", key));
        let limited = effect.limited.iter().map(|key| row("options", key));
        let rows: Vec<Vec<String>> = came.chain(gone).chain(limited).collect();
        for line in columns(&rows, 4) {
            ui.status(&line);
        }
    }
}

fn left(register: &Register, id: &str) -> Option<String> {
    let left = register.people.get(id)?.left.as_ref()?;
    Some(format!("left on {}, and could log in again", left.value))
}

/// On the hosts of the register, all at once.
async fn on_hosts(
    args: &UndoArgs,
    opened: &OpenedRegister,
    known: &[KnownChange],
    ui: &Ui,
) -> Result<Exit, CommandError> {
    let register = &opened.reading.register;
    let ways = args.host.sign_in.ways(register)?;
    let names: Vec<&KnownChange> = known.iter().collect();
    let hosts: Vec<&Host> = register.all_hosts().filter(|host| names.iter().any(|one| one.place == host.id)).collect();
    let (mut jobs, mut results) = (Vec::new(), Vec::new());
    let pace = args.many.pace(register, ui)?;
    let comparer = Comparer::new(register, super::compare::moment());
    let barred = Barred::of(args, Some(register));
    let mut kept_out: Vec<(String, String, Fingerprint)> = Vec::new();
    let scope = scope_of(known, Scope::Survey);
    let at = LookAt { hosts: &hosts, scope: scope.clone() };
    let looked =
        look_at(opened, at, &ways, &pace, ui, |host, seen| match plan(known, host, &seen, &barred, &mut kept_out) {
            Ok(steps) if steps.is_empty() => {
                results.push(ResultOut::still(host, ChangeState::NothingToDo, None, Exit::Done));
            }
            Ok(steps) => jobs.extend(register.hosts.get(host).map(|known| {
                let seen: Arc<Observation> = Arc::new(*seen);
                let around = Arc::new(Around { seen: seen.clone(), granted: comparer.granted(known) });
                let task = |steps| Task { steps, seen: seen.clone(), around: around.clone() };
                let tasks = steps.into_iter().map(task).collect();
                let proof = Proof::of(scope.clone());
                Job { stop: ways.stop(known), pairs: pairs(known), tasks, proof }
            })),
            Err(error) => results.push(ResultOut::still(host, ChangeState::AsBefore, Some(error.message), error.exit)),
        });
    let looked = looked.await?;
    barred.tell(&kept_out, ui);
    results.extend(looked.iter().filter_map(ResultOut::not_seen));
    let mut run_id = None;
    if args.change.preview {
        results.extend(jobs.iter().map(|job| ResultOut::still(&job.stop.host, ChangeState::Preview, None, Exit::Done)));
    } else if !jobs.is_empty() {
        change::confirm(ui, &args.change)?;
        let run = begin("undo", opened, &args.many, args.change.reason.clone(), ui)?;
        let ended = run.carry(jobs, &ways).await?;
        let one = |(host, ended): (&String, &_)| ResultOut::of(host, ended, |ended| differs_now(opened, host, ended));
        results.extend(ended.iter().map(one));
        run_id = run.terms.run;
    }
    results.sort_by(|one, other| one.host.cmp(&other.host));
    let away = if kept_out.is_empty() { Exit::Done } else { Exit::Findings };
    let exit = results.iter().map(|result| result.exit).max().unwrap_or(Exit::Done).max(away);
    let out = UndoOut { schema: "lavrin/undo/1", run: run_id, hosts: results };
    ui.give(&out, || text(&out.hosts, ui));
    Ok(exit)
}

/// How far a look goes: no other looks at the files of the server's settings.
fn scope_of(known: &[KnownChange], usual: Scope) -> Scope {
    let changes = known.iter().flat_map(|one| &one.changes);
    let files: Vec<BytePath> =
        changes.filter(|change| change.is_of_settings()).filter_map(Change::path).cloned().collect();
    if files.is_empty() { usual } else { Scope::With(files.into()) }
}

/// The steps on one host, account by account.
fn plan(
    known: &[KnownChange],
    host: &str,
    seen: &Observation,
    barred: &Barred<'_>,
    kept_out: &mut Vec<(String, String, Fingerprint)>,
) -> Result<Vec<Steps>, CommandError> {
    let system = System::of(seen);
    let mut by_account: BTreeMap<&str, Vec<Change>> = BTreeMap::new();
    // What was changed last is taken back first; `restore` wants the order in which it was made.
    for one in known.iter().rev().filter(|one| one.place == host) {
        by_account.entry(&one.account).or_default().extend(barred.allowed(&one.changes));
    }
    let mut all = Vec::new();
    for (account, changes) in by_account {
        let mut steps = restore(account, &changes, &system).map_err(|fault| no_steps(&fault, account, host))?;
        let out = keep_out(&mut steps, &|key| barred.is_barred(key, &system));
        kept_out.extend(out.into_iter().map(|key| (account.to_owned(), host.to_owned(), key)));
        if !steps.changes.is_empty() {
            all.push(steps);
        }
    }
    Ok(all)
}

/// In a tree, or on a host without a register.
async fn on_one(
    args: &UndoArgs,
    register: Option<&OpenedRegister>,
    known: &KnownChange,
    ui: &Ui,
) -> Result<Exit, CommandError> {
    let account = &known.account;
    let tree = known.place.starts_with(['/', '~']).then(|| crate::paths::typed(&known.place));
    let mut work = match tree {
        Some(Ok(tree)) => Work::open_tree(Path::new(&tree))?,
        _ => Work::open_host(ui, register, &known.place, account, &args.host, Rights::Needed).await?,
    };
    let scope = scope_of(std::slice::from_ref(known), Scope::Account(account.clone()));
    work.look(&|seen| scope.wants(seen)).await?;
    change::close_left_open(&work, register)?;
    let barred = Barred::of(args, register.map(OpenedRegister::register));
    let mut steps = restore(account, &barred.allowed(&known.changes), &System::of(&work.seen))
        .map_err(|fault| no_steps(&fault, account, &work.name))?;
    let out = keep_out(&mut steps, &|key| barred.is_barred(key, &System::of(&work.seen)));
    let out: Vec<_> = out.into_iter().map(|key| (account.clone(), work.name.clone(), key)).collect();
    barred.tell(&out, ui);
    let away = if out.is_empty() { Exit::Done } else { Exit::Findings };
    let target = format!("{account} on {}", work.name);
    if steps.changes.is_empty() {
        ui.result(&format!("Nothing to do: {target} is as it was before"));
        return Ok(away);
    }
    let tasks = change::guarded(vec![steps.clone()], &mut work, register, args.many.accept_lockout).await?;
    for (number, change) in steps.changes.iter().enumerate() {
        ui.status(&format!("  {}. {}", number + 1, wording::steps::taken_back(change)));
    }
    if args.change.preview {
        ui.result(&format!("This would be taken back for {target}; nothing was changed"));
        return Ok(Exit::Done);
    }
    change::confirm(ui, &args.change)?;
    let (reason, accept) = (args.change.reason.clone(), args.many.accept_lockout);
    let terms = change::terms("undo", register, reason, accept, ui)?;
    let place = work.name.clone();
    let (_, ended) = change::carry(work, tasks, Proof::of(scope), terms, ui).await;
    if let Some(error) = change::error_of(ended.worst(), account, &place) {
        return Err(error);
    }
    let asked = ended
        .asked
        .iter()
        .map(|asked| format!("{} is {} from outside", asked.fingerprint, wording::heard(&asked.heard).0.word()));
    let proven = std::iter::once("read back".to_owned()).chain(asked).collect::<Vec<_>>().join("; ");
    let said = count(steps.changes.len(), "change", "changes");
    ui.result(&format!("{}\n  proof   {proven}", ui.paint(Label::Good, &format!("Taken back: {said} for {target}"))));
    Ok(if ended.asked.iter().any(Asked::still_open) { Exit::Findings } else { away })
}
