//! `lavrin host trust`: fetch the key of a host and pin it.

use super::{FILE, find};
use crate::command::register::{OpenedRegister, RegisterArgs, change_file, edit_fault};
use crate::defaults;
use crate::error::{CommandError, host_fault, unspoken};
use crate::exit::Exit;
use crate::input::typed_fingerprint;
use crate::sign_in::SignInArgs;
use crate::ui::Ui;
use clap::Args;
use lavrin_fleet::register::edit::{HostField, set_host};
use lavrin_fleet::register::{Host, Register};
use lavrin_keys::key::{Fingerprint, PublicKey};
use lavrin_reach::ssh::ConnectFault;
use lavrin_work::ways::{Unspoken, Way, WayFault, Ways};

/// Fetch the key of a host and pin it
#[derive(Debug, Args)]
pub struct TrustArgs {
    /// The host
    #[arg(value_name = "HOST")]
    pub id: String,
    /// The fingerprint its key must have, for scripts
    #[arg(long, value_name = "SHA256:…", value_parser = typed_fingerprint)]
    pub expect_host_key: Option<Fingerprint>,
    /// The pinned key that the new one takes the place of (ask the host's owner first)
    #[arg(long, value_name = "SHA256:…", value_parser = typed_fingerprint)]
    pub replace: Option<Fingerprint>,
    #[command(flatten)]
    sign_in: SignInArgs,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Runs the command.
pub fn run(args: &TrustArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open_for_hosts(ui)?;
    let host = find(&opened.reading.register, &args.id)?;
    let key = fetch(host, &opened.reading.register, &args.sign_in)?;
    let fingerprint = key.fingerprint();
    if host.host_keys.iter().any(|pinned| pinned.value == key) {
        ui.result(&format!("{} shows the key that is pinned: {} {fingerprint}", host.id, key.algorithm()));
        return Ok(Exit::Done);
    }
    let same_kind = host.host_keys.iter().find(|pinned| pinned.value.algorithm() == key.algorithm());
    let is_meant = |pinned: &Fingerprint| args.replace == Some(*pinned);
    if let Some(pinned) = same_kind.filter(|pinned| !is_meant(&pinned.value.fingerprint())) {
        return Err(CommandError::with(Exit::Stopped, format!("{} shows another key than the pinned one", host.id))
            .because(format!("pinned: {}", pinned.value.fingerprint()))
            .because(format!("shown:  {fingerprint}"))
            .because("someone may be intercepting the connection; nothing was changed")
            .again(
                "once whoever looks after the host says that it was reinstalled",
                &format!("--replace {}", pinned.value.fingerprint()),
            ));
    }
    confirm(args, host, &key, ui)?;
    let kept = host.host_keys.iter().filter(|pinned| pinned.value.algorithm() != key.algorithm());
    let keys: Vec<&PublicKey> = kept.map(|pinned| &pinned.value).chain([&key]).collect();
    pin(&opened, host, &keys, ui)?;
    Ok(Exit::Done)
}

/// The key that the host shows now.
fn fetch(host: &Host, register: &Register, sign_in: &SignInArgs) -> Result<PublicKey, CommandError> {
    if register.goes_round(host) {
        return Err(unspoken(&host.id, Unspoken::Endless));
    }
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let runtime = runtime.map_err(|error| CommandError::usage(format!("no thread could be started: {error}")))?;
    runtime.block_on(async {
        // Nobody signs in but on the way.
        let way = match &host.through {
            Some(through) => sign_in.way(&format!("the login on {}", through.value), &defaults::of(Some(register))?)?,
            None => Way::default(),
        };
        let ways = Ways::of(register, way, None);
        let mut stop = ways.stop(host);
        // Nothing is known beforehand, so that the key is shown whatever it is.
        stop.target.known_hosts.clear();
        match ways.greet(&mut stop).await {
            Err(WayFault::Connect(ConnectFault::HostKeyUnknown { key, .. })) => Ok(*key),
            Err(fault) => Err(host_fault(&host.id, &fault)),
            Ok(_) => Err(CommandError::with(Exit::NotChecked, format!("{} showed no key", host.id))),
        }
    })
}

fn confirm(args: &TrustArgs, host: &Host, key: &PublicKey, ui: &Ui) -> Result<(), CommandError> {
    let fingerprint = key.fingerprint();
    if let Some(expected) = args.expect_host_key {
        if expected == fingerprint {
            return Ok(());
        }
        return Err(CommandError::with(Exit::Stopped, format!("{} shows {fingerprint}, not {expected}", host.id))
            .because("someone may be intercepting the connection, or this is another host; nothing was changed")
            .again(
                "once this one is compared on the host's own console",
                &format!("--expect-host-key {fingerprint}"),
            ));
    }
    ui.show(&format!("{} shows this key:\n  {} {fingerprint}", host.id, key.algorithm()));
    if ui.confirm(
        "Is this the fingerprint shown on the host's own console? Pin it?",
        &[("", "--expect-host-key SHA256:…")],
    )? {
        return Ok(());
    }
    Err(CommandError::with(Exit::Stopped, "the key was not confirmed").because("nothing was changed"))
}

/// Writes down by which keys a host proves itself from now on.
pub fn pin(opened: &OpenedRegister, host: &Host, keys: &[&PublicKey], ui: &Ui) -> Result<OpenedRegister, CommandError> {
    let lines: Vec<String> = keys.iter().map(|key| key.line("").trim_end().to_owned()).collect();
    let own = format!("hosts/{}.toml", host.id);
    let (path, id) = if opened.text(&own).is_some() { (own.as_str(), None) } else { (FILE, Some(host.id.as_str())) };
    let text = set_host(opened.text(path).unwrap_or_default(), id, "host_keys", &HostField::List(&lines))
        .map_err(edit_fault(path))?;
    change_file(opened, ui, path, &text)
}
