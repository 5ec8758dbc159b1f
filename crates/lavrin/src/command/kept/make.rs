//! `lavrin kept make`

use super::recipients::administrators;
use super::record::{KeptKeyDeed, record};
use super::version::{NewVersionOf, new_version};
use super::{KeptDoneOut, KeptName};
use crate::command::change::{self, exit_of};
use crate::command::compare::moment;
use crate::command::compare::out::problem;
use crate::command::fleet_change::{FleetArgs, begin};
use crate::command::key::generate::{AlgorithmName, made_key};
use crate::command::register::{OpenedRegister, change_file, edit_fault, today};
use crate::command::survey::look;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::{Label, Ui};
use crate::wording;
use clap::Args;
use lavrin_fleet::register::edit_kept::set_day;
use lavrin_fleet::register::kept::file;
use lavrin_keys::text::printable;
use lavrin_store::database::Database;
use lavrin_work::change::Ended;
use lavrin_work::fleet::removed;
use lavrin_work::plan::{Plan, Which};
use lavrin_work::{Heard, Holder};

/// Make a key for an account, seal it for the administrators, put it there and sign in with it
#[derive(Debug, Args)]
pub struct MakeArgs {
    /// The account that the key is for
    #[arg(value_name = "ACCOUNT@HOST")]
    pub name: KeptName,
    /// Kind of the key
    #[arg(long, value_name = "KIND", default_value = "ed25519")]
    pub algorithm: AlgorithmName,
    #[command(flatten)]
    fleet: FleetArgs,
}

/// Runs the command.
pub async fn run(args: &MakeArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.fleet.register.open_to_change_hosts(ui)?;
    let (name, register) = (&args.name, opened.register());
    args.name.host(register)?;
    if register.kept_of(&name.account, &name.host).is_some_and(|kept| kept.current(today()).is_some()) {
        return Err(CommandError::usage(format!("a key is kept for {name} already"))
            .hint(format!("to replace it: lavrin rotate --account {name}")));
    }
    let recipients = administrators(register)?;
    for (person, why) in &recipients.unable {
        ui.warn(&format!("{person} will not be able to open it: {why}"));
    }
    ui.status(&format!(
        "{name}: a new key is made, sealed for {}, put into the account, and tried",
        recipients.words()
    ));
    let key = made_key(args.algorithm, "", None)?.key;
    let new = new_version(&opened, &name.account, &name.host, key, &[], false)?;
    put(args, &opened, &new, ui).await
}

/// Puts the key beside what is there, and signs in with it. It is sealed and in the register before any host has it.
async fn put(args: &MakeArgs, opened: &OpenedRegister, new: &NewVersionOf, ui: &Ui) -> Result<Exit, CommandError> {
    let register = new.register.register();
    let host = args.name.host(register)?;
    let (print, fleet) = (new.key.public().fingerprint(), &args.fleet);
    let store = Database::open_existing(opened.folder.path())?;
    let removed = store.as_ref().map(removed).transpose()?.unwrap_or_default();
    drop(store);
    let ways = fleet.sign_in.ways(register)?;
    let pace = fleet.many.pace(register, ui)?;
    let mut plan = Plan::new(register, moment(), removed, Which::Keys(vec![print]))
        .with_network_homes(fleet.sign_in.network_homes);
    let looked = look(opened, &[host], &ways, &pace, ui, |host, seen| plan.take(host, seen)).await?;
    let mut planned = plan.end(&ways);
    let source = format!("kept key of {}", args.name);
    for job in &mut planned.jobs {
        job.proof.holder = Some(Holder { key: new.key.clone(), source: source.clone() });
    }
    for task in planned.jobs.iter().flat_map(|job| &job.tasks) {
        for (number, line) in wording::steps::changes(&task.steps).iter().enumerate() {
            ui.status(&format!("  {}. {line}", number + 1));
        }
        task.steps.revived.iter().for_each(|entry| ui.warn(&wording::steps::revived(entry)));
    }
    let not_reached = looked.iter().find_map(|seen| seen.fault.as_ref()).map(wording::host_fault);
    let in_the_way = planned.problems.get(&host.id).and_then(|all| all.first());
    let in_the_way = in_the_way.map(|(account, why)| problem(why, account, &host.id));
    if let Some(why) = in_the_way {
        return Err(CommandError::with(Exit::Stopped, format!("{} cannot be changed", args.name))
            .because(why)
            .because("no key was made"));
    }
    if fleet.change.preview {
        ui.result("nothing was changed");
        return Ok(if not_reached.is_some() { Exit::NotChecked } else { Exit::Done });
    }
    change::confirm(ui, &fleet.change)?;
    let opened = new.write(opened, KeptKeyDeed::Made, fleet.change.reason.as_deref(), ui)?;
    let run = begin("kept make", &opened, &fleet.many, fleet.change.reason.clone(), ui)?;
    let ended = run.carry(planned.jobs, &ways).await?.remove(&host.id);
    let (why, exit) = outcome(&args.name, not_reached, ended.as_ref());
    let proven = ended.as_ref().is_some_and(|ended| has_opened(ended, &args.name.account));
    if proven {
        mark_proven(&opened, &args.name, new.version, print, ui)?;
    }
    let out = KeptDoneOut {
        schema: "lavrin/kept-make/1",
        account: args.name.account.clone(),
        host: args.name.host.clone(),
        version: new.version,
        key: print.to_string(),
        sealed_for: new.people.clone(),
        proven,
        why,
    };
    ui.give(&out, || text(&out, ui));
    Ok(exit)
}

fn outcome(name: &KeptName, not_reached: Option<String>, ended: Option<&Ended>) -> (Option<String>, Exit) {
    if let Some(why) = not_reached {
        return (Some(format!("{} was not reached: {why}", printable(name.host.as_bytes()))), Exit::NotChecked);
    }
    let end = ended.and_then(|ended| ended.of(&name.account));
    match end {
        Some(end) => (end.trouble().map(wording::trouble), exit_of(end)),
        None => (Some("there was nothing to change on the host".to_owned()), Exit::NotChecked),
    }
}

/// Whether the key signed in.
fn has_opened(ended: &Ended, account: &str) -> bool {
    let mut asked = ended.asked.iter().filter(|asked| asked.account == account);
    ended.of(account).is_some_and(lavrin_work::change::End::is_done)
        && asked.any(|asked| matches!(asked.heard, Heard::LoggedIn(_)))
}

/// Writes down that a version has opened its account today.
pub fn mark_proven(
    opened: &OpenedRegister,
    name: &KeptName,
    version: u32,
    key: lavrin_keys::key::Fingerprint,
    ui: &Ui,
) -> Result<OpenedRegister, CommandError> {
    let path = file(&name.account, &name.host);
    let old = opened.text(&path).unwrap_or_default();
    let new = set_day(old, version, "proven", today()).map_err(edit_fault(&path))?;
    record(opened, KeptKeyDeed::Proven, (&name.account, &name.host, version), key, &[], None)?;
    if new == old { Ok(opened.clone()) } else { change_file(opened, ui, &path, &new) }
}

fn text(out: &KeptDoneOut, ui: &Ui) -> String {
    let name = format!("{}@{}", out.account, out.host);
    let mut text = format!(
        "{}  version {}  {}\n  sealed for {}\n",
        ui.paint(Label::Strong, &name),
        out.version,
        out.key,
        out.sealed_for.join(", "),
    );
    if out.proven {
        text += &format!("  {}", ui.paint(Label::Good, "a new login with it worked"));
        return text;
    }
    let why = out.why.as_deref().unwrap_or("no login with it was made");
    let next = crate::cli::complete(&format!("lavrin enforce {}", out.host));
    text += &format!("  {}\nto put it there: {next}\nthen: ", ui.paint(Label::Warn, why));
    text + &crate::cli::complete(&format!("lavrin kept prove {name}"))
}
