//! `lavrin rotate --account`: the next version of a kept key.

use super::RotateArgs;
use super::keys::{Begin, RotationCase};
use crate::command::kept::{
    KeptKeyDeed, KeptName, OpenedKept, SealOpener, current, mark_proven, new_version, open, record, set_back,
};
use crate::command::key::generate::{AlgorithmName, made_key};
use crate::command::register::{OpenedRegister, change_file, edit_fault, today};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use lavrin_fleet::fleet::Owner;
use lavrin_fleet::fleet::rotation::{Rotation, rotations};
use lavrin_fleet::register::USUAL_LOGIN;
use lavrin_fleet::register::edit_kept::set_day;
use lavrin_fleet::register::kept::{file, sealed_file};
use lavrin_fleet::register::{KeptAccount, Register};
use lavrin_keys::key::PrivateKey;
use lavrin_reach::ssh::Credential;
use lavrin_work::{Heard, Holder};
use std::sync::Arc;

/// The private halves of a kept key that is replaced.
pub struct KeptHalves {
    /// The account.
    pub name: KeptName,
    /// That of the new version.
    new: Arc<PrivateKey>,
    /// That of the old one, where it is needed to sign in and could be opened.
    old: Option<Arc<PrivateKey>>,
}

impl KeptHalves {
    /// For the proof of the new version.
    pub fn holder(&self) -> Holder {
        Holder { key: self.new.clone(), source: self.source() }
    }

    fn source(&self) -> String {
        format!("kept key of {}", self.name)
    }

    /// With what to sign in while the new version is put beside the old one.
    pub fn both(&self) -> Vec<Credential> {
        let old = self.old.iter().map(|key| Credential::Key { key: key.clone(), source: self.source() });
        if self.old.is_none() { Vec::new() } else { old.chain(self.new_only()).collect() }
    }

    /// With what to sign in while the old version is taken out.
    pub fn new_only(&self) -> Vec<Credential> {
        let new = Credential::Key { key: self.new.clone(), source: self.source() };
        if self.old.is_none() { Vec::new() } else { vec![new] }
    }
}

/// The rotation of a kept key: the one that is under way, else a new one.
pub fn find(
    args: &RotateArgs,
    name: &KeptName,
    opened: &OpenedRegister,
    ui: &Ui,
) -> Result<RotationCase, CommandError> {
    let register = opened.register();
    let kept = name.of(register)?;
    set_back(opened, kept)?;
    name.host(register)?;
    let mut opener =
        SealOpener::new(&args.opener, args.fleet.sign_in.identity.as_ref(), args.fleet.sign_in.passphrase());
    let under_way = of_account(register, name).filter(|one| one.retired.is_none());
    let old = if signs_in_as(args, name, register)? { open_old(opened, kept, &mut opener, ui) } else { None };
    if let Some(rotation) = under_way {
        let OpenedKept { key: new, .. } = open_new(opened, kept, &rotation, &mut opener)?;
        let kept = Some(KeptHalves { name: name.clone(), new, old });
        return Ok(RotationCase { kept, ..super::keys::of_rotation(opened, rotation) });
    }
    let (key, _) = current(kept)?;
    let new = made_key(AlgorithmName::like(&key.key), "", None)?.key;
    let version = new_version(opened, &name.account, &name.host, new.clone(), &[], false)?;
    let rotation = of_account(version.register.register(), name).filter(|one| one.retired.is_none());
    let rotation = rotation.ok_or_else(|| {
        CommandError::with(Exit::Stopped, "the register would not be in order afterwards").hint("lavrin register check")
    })?;
    ui.status(&format!("version {} of {name}: to be sealed for {}", version.version, version.people.join(", ")));
    Ok(RotationCase {
        register: version.register.clone(),
        rotation,
        begin: Some(Begin::Kept(Box::new(version), args.fleet.change.reason.clone())),
        private: None,
        public: None,
        kept: Some(KeptHalves { name: name.clone(), new, old }),
    })
}

/// The rotation of the newest version.
fn of_account(register: &Register, name: &KeptName) -> Option<Rotation> {
    let is_it = |one: &Rotation| matches!(&one.owner, Owner::Kept { account, host, .. } if *account == name.account && *host == name.host);
    rotations(register, today()).into_iter().rfind(is_it)
}

/// Whether the login on the host is the account itself: then the kept key may be the only way in.
fn signs_in_as(args: &RotateArgs, name: &KeptName, register: &Register) -> Result<bool, CommandError> {
    let usual = crate::defaults::of(Some(register))?.login;
    let host = register.hosts.get(&name.host).and_then(|host| host.login.clone());
    let login = args.fleet.sign_in.login.clone().or(host).or(usual);
    Ok(login.as_deref().unwrap_or(USUAL_LOGIN) == name.account)
}

/// The version in use, to sign in with. Where it cannot be opened there may be another way in.
fn open_old(opened: &OpenedRegister, kept: &KeptAccount, opener: &mut SealOpener, ui: &Ui) -> Option<Arc<PrivateKey>> {
    let unsealed = current(kept).and_then(|version| open(opened, kept, version, opener));
    unsealed.map(|unsealed| unsealed.key).map_err(|fault| ui.warn(&fault.in_one_line())).ok()
}

fn open_new(
    opened: &OpenedRegister,
    kept: &KeptAccount,
    rotation: &Rotation,
    opener: &mut SealOpener,
) -> Result<OpenedKept, CommandError> {
    let version = kept.all().find(|(key, _)| key.fingerprint == rotation.new_print());
    let version = version.ok_or_else(|| CommandError::usage(format!("no version of {} is new", kept.name())))?;
    open(opened, kept, version, opener)
}

/// Once the old version is out and refused, and the new one has opened the account: the register says so, and the private half of
/// the old version goes. Gives whether it is so.
pub fn finish(
    opened: &OpenedRegister,
    rotation: &Rotation,
    name: &KeptName,
    new: &[Option<Heard>],
    ui: &Ui,
) -> Result<bool, CommandError> {
    let Some(kept) = opened.register().kept_of(&name.account, &name.host) else { return Ok(false) };
    let of_key = |print| kept.all().find(|(key, _)| key.fingerprint == print).map(|(_, version)| version.number);
    let (Some(old), Some(next)) = (of_key(rotation.old_print()), of_key(rotation.new_print())) else {
        return Ok(false);
    };
    let has_opened = |said: &Option<Heard>| matches!(said, Some(Heard::LoggedIn(_)));
    if new.is_empty() || !new.iter().all(has_opened) {
        ui.warn(&format!("version {next} has not opened the account yet, so version {old} stays in the register"));
        return Ok(false);
    }
    let opened = mark_proven(opened, name, next, rotation.new_print(), ui)?;
    let path = file(&name.account, &name.host);
    let text = set_day(opened.text(&path).unwrap_or_default(), old, "retired", today()).map_err(edit_fault(&path))?;
    let opened = change_file(&opened, ui, &path, &text)?;
    remove_sealed(&opened, name, ui)?;
    let place = (name.account.as_str(), name.host.as_str(), old);
    record(&opened, KeptKeyDeed::Retired, place, rotation.old_print(), &[], None)?;
    Ok(true)
}

/// Removes the private half of each version that is retired: also that of an earlier one, whose run was killed before this.
fn remove_sealed(opened: &OpenedRegister, name: &KeptName, ui: &Ui) -> Result<(), CommandError> {
    let kept = opened.register().kept_of(&name.account, &name.host);
    for (_, version) in kept.into_iter().flat_map(KeptAccount::all).filter(|(key, _)| !key.is_active(today())) {
        let sealed = sealed_file(&name.account, &name.host, version.number);
        if let Some(text) = opened.folder.text(&sealed)? {
            opened.folder.remove(&sealed, &text)?;
            ui.status(&format!("{sealed} is removed: its key opens nothing any more"));
        }
    }
    Ok(())
}
