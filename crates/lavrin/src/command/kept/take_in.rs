//! `lavrin kept take-in`

use super::recipients::administrators;
use super::record::KeptKeyDeed;
use super::version::new_version;
use super::{KeptDoneOut, KeptName};
use crate::command::change::{self, ChangeArgs};
use crate::command::register::{RegisterArgs, today};
use crate::error::{CommandError, host_fault};
use crate::exit::Exit;
use crate::secret::PassphraseArgs;
use crate::ui::{Label, Ui};
use crate::{defaults, host, input, paths, wording};
use clap::Args;
use lavrin_fleet::fleet::Index;
use lavrin_fleet::register::Register;
use lavrin_keys::key::{PrivateKey, PublicKey, strength};
use lavrin_keys::keysfile::Content;
use lavrin_keys::text::shell_word;
use lavrin_reach::ssh::Credential;
use lavrin_server::finding::Fault;
use lavrin_server::login::AccountKeys;
use lavrin_server::survey::Observation;
use lavrin_server::system::System;
use lavrin_work::Scope;
use lavrin_work::site::Site;
use lavrin_work::ways::{Rights, Way, WayFault, Ways, unspoken};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

/// For signing in and for the look.
const LIMIT: Duration = Duration::from_mins(2);

/// Seal a private key that an account came with, once it has opened the account
#[derive(Debug, Args)]
pub struct TakeInArgs {
    /// The account that the key opens
    #[arg(value_name = "ACCOUNT@HOST")]
    pub name: KeptName,
    /// The private key, in any container
    #[arg(long, value_name = "FILE", value_parser = paths::typed)]
    pub key: PathBuf,
    #[command(flatten)]
    passphrase: PassphraseArgs,
    #[command(flatten)]
    change: ChangeArgs,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Runs the command.
pub async fn run(args: &TakeInArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open_to_change_hosts(ui)?;
    let (name, register) = (&args.name, opened.register());
    name.host(register)?;
    if register.kept_of(&name.account, &name.host).is_some_and(|kept| kept.current(today()).is_some()) {
        return Err(CommandError::usage(format!("a key is kept for {name} already"))
            .hint(format!("to replace it: lavrin rotate --account {name}")));
    }
    let recipients = administrators(register)?;
    let key = Arc::new(input::private_key(&args.key, &args.passphrase.given())?);
    may_be_kept(key.public(), register)?;
    let seen = sign_in(args, &key, register).await?;
    ui.status(&format!("a login as {name} with this key worked"));
    let options = seen.as_ref().and_then(|seen| options(name, key.public(), seen));
    if seen.is_none() {
        ui.warn("the entry of this key could not be read, so options in front of it are not known");
    }
    for (person, why) in &recipients.unable {
        ui.warn(&format!("{person} will not be able to open it: {why}"));
    }
    ui.status(&format!("it is sealed for {} in the register; the host is not changed", recipients.words()));
    if args.change.preview {
        ui.result("nothing was changed");
        return Ok(Exit::Done);
    }
    change::confirm(ui, &args.change)?;
    let options: Vec<String> = options.into_iter().collect();
    let new = new_version(&opened, &name.account, &name.host, key.clone(), &options, true)?;
    new.write(&opened, KeptKeyDeed::TakenIn, args.change.reason.as_deref(), ui)?;
    let out = KeptDoneOut {
        schema: "lavrin/kept-take-in/1",
        account: name.account.clone(),
        host: name.host.clone(),
        version: new.version,
        key: key.public().fingerprint().to_string(),
        sealed_for: new.people.clone(),
        proven: true,
        why: None,
    };
    ui.give(&out, || {
        let file = shell_word(&paths::shown(&args.key));
        format!(
            "{}  version {}  {}\n  sealed for {}\n  {}",
            ui.paint(Label::Strong, &name.to_string()),
            out.version,
            out.key,
            out.sealed_for.join(", "),
            ui.paint(
                Label::Warn,
                &crate::cli::complete(&format!(
                    "{file} is still there; others may have copies: lavrin rotate --account {name}"
                ))
            ),
        )
    });
    Ok(Exit::Done)
}

/// A key of a person or of another account is nobody's to keep, and a weak one is not worth a seal.
fn may_be_kept(key: &PublicKey, register: &Register) -> Result<(), CommandError> {
    let print = key.fingerprint();
    if let Some(owner) = Index::of(register).owner(print) {
        return Err(CommandError::with(
            Exit::Stopped,
            format!("{print} is the key of {} in the register", owner.name()),
        )
        .because("a kept key belongs to one account alone; nothing was changed"));
    }
    let weak = strength::objections(key, &register.rules.policy);
    weak.into_iter().next().map_or(Ok(()), |weakness| {
        let why = wording::finding::message(&Fault::WeakKey { weakness, fingerprint: print });
        Err(CommandError::with(Exit::Stopped, "this key is not kept").because(why).because("nothing was changed"))
    })
}

/// Signs in with the key, and looks at the account; nothing where that shows nothing.
async fn sign_in(
    args: &TakeInArgs,
    key: &Arc<PrivateKey>,
    register: &Register,
) -> Result<Option<Observation>, CommandError> {
    let name = &args.name;
    let defaults = defaults::of(Some(register))?;
    let credential = Credential::Key { key: key.clone(), source: paths::shown(&args.key) };
    let way = Way {
        credentials: vec![credential],
        usual_root_by: defaults.root_by,
        known_hosts: Arc::new(host::users_known_hosts()?),
        ..Way::default()
    };
    let ways = Arc::new(Ways::of(register, way, Some(name.account.clone())));
    let known = name.host(register)?;
    if let Some(why) = unspoken(register, known) {
        return Err(host_fault(&name.host, &why));
    }
    let mut site = Site::host(ways.stop(known), ways, Rights::Own, LIMIT);
    site.open().await.map_err(|fault| does_not_open(name, &fault))?;
    let (mut seen, scope) = (Observation::default(), Scope::Account(name.account.clone()));
    let looked = site.look(&mut seen, &|seen| scope.wants(seen)).await;
    site.close().await;
    Ok(looked.is_ok().then_some(seen).filter(|seen| seen.account(&name.account).is_some()))
}

fn does_not_open(name: &KeptName, fault: &WayFault) -> CommandError {
    const RULE: &str = "a key is kept only once it has opened its account; nothing was changed";
    if !matches!(fault, WayFault::Rejected(_)) {
        return host_fault(&name.host, fault).because(RULE);
    }
    CommandError::with(Exit::Stopped, format!("this key does not open {name}"))
        .because(wording::host_fault(fault))
        .because(RULE)
        .hint(format!("which keys the account has: lavrin audit {}", name.host))
}

/// What stands in front of the key in the account.
fn options(name: &KeptName, key: &PublicKey, seen: &Observation) -> Option<String> {
    let system = System::of(seen);
    let keys = AccountKeys::of(system.account(&name.account)?, &system, None);
    let options = keys.of_key(key.fingerprint()).find_map(|held| match &held.content {
        Content::Entry(entry) => Some(String::from_utf8_lossy(&entry.options.text).into_owned()),
        _ => None,
    })?;
    (!options.is_empty()).then_some(options)
}
