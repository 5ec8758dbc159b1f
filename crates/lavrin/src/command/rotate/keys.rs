//! Which key is replaced by which: what was typed, held against the register.

use super::RotateArgs;
use super::kept::KeptHalves;
use crate::command::host::file_of;
use crate::command::kept::{KeptKeyDeed, NewVersionOf};
use crate::command::key::generate::{AlgorithmName, MadeKey, PassphraseHow, chosen, made_key, tell_quality};
use crate::command::key::pair::Pair;
use crate::command::person::may_come_in;
use crate::command::register::{OpenedRegister, change_file, edit_fault, today};
use crate::command::unknown;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::input::{self, GivenKey};
use crate::paths;
use crate::secret::Given;
use crate::ui::Ui;
use lavrin_fleet::fleet::rotation::{Rotation, rotations};
use lavrin_fleet::fleet::{Index, Owner};
use lavrin_fleet::register::edit::{KeyField, NewKey, add_key, set_grant_key, set_key};
use lavrin_fleet::register::edit_kept::set_day;
use lavrin_fleet::register::{OwnedKey, Register, Whom, kept};
use lavrin_keys::key::{Fingerprint, PrivateKey};
use lavrin_keys::text::{printable, shell_word};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// A rotation that is begun or gone on with.
pub struct RotationCase {
    /// The register with both keys in it, perhaps not written yet.
    pub register: OpenedRegister,
    /// The two keys.
    pub rotation: Rotation,
    /// What is written once somebody said yes; nothing where the rotation is in the register already.
    pub begin: Option<Begin>,
    /// The private half of the new key, where it is at hand.
    pub private: Option<PrivateHalf>,
    /// The file of its public half, where it came from one.
    pub public: Option<PathBuf>,
    /// Both private halves, where it is a kept key.
    pub kept: Option<KeptHalves>,
}

/// A private half that is at hand.
pub enum PrivateHalf {
    /// It was made just now.
    Made(Arc<PrivateKey>, PathBuf),
    /// It lies beside the public one.
    Beside(PathBuf),
}

impl PrivateHalf {
    /// Where it lies.
    pub fn path(&self) -> &Path {
        let (Self::Made(_, path) | Self::Beside(path)) = self;
        path
    }

    /// The key, and where it lies. One that lies somewhere is opened only now: nobody types a passphrase for nothing.
    pub fn open(&self, given: &Given) -> Result<(Arc<PrivateKey>, &Path), CommandError> {
        match self {
            Self::Made(key, path) => Ok((key.clone(), path)),
            Self::Beside(path) => Ok((Arc::new(input::private_key(path, given)?), path)),
        }
    }
}

/// What a rotation begins with.
pub enum Begin {
    /// The new key in the register, and its pair, where one was made.
    Key {
        /// The file.
        path: String,
        /// Its new text.
        text: String,
        /// The pair.
        made: Option<Box<(Pair, MadeKey)>>,
    },
    /// The next version of a kept key, and why.
    Kept(Box<NewVersionOf>, Option<String>),
}

impl Begin {
    /// Writes the new pair, where one was made, and the register. The pair comes first: a key that nobody has is worse in the
    /// register than one that is in no register.
    pub fn write(self, opened: &OpenedRegister, ui: &Ui) -> Result<OpenedRegister, CommandError> {
        let (path, text, made) = match self {
            Self::Kept(version, reason) => return version.write(opened, KeptKeyDeed::Made, reason.as_deref(), ui),
            Self::Key { path, text, made } => (path, text, made),
        };
        if let Some((pair, made)) = made.as_deref() {
            pair.write(&made.text, &format!("{}\n", made.line), false)?;
            ui.status(&format!("made: {} and its public half", paths::shown(&pair.private)));
        }
        change_file(opened, ui, &path, &text)
    }
}

/// The keys of one owner, and whose they are by the label of one.
struct Owned<'a> {
    keys: &'a [OwnedKey],
    owner: Owner,
    /// The key that was named, where one was.
    named: Option<&'a OwnedKey>,
}

/// Finds out what is meant.
pub fn find(args: &RotateArgs, who: &str, opened: &OpenedRegister, ui: &Ui) -> Result<RotationCase, CommandError> {
    let owned = owned(opened.register(), who, args.label.as_deref())?;
    match new_key(args, &owned, ui)? {
        None => go_on(opened, who, &owned),
        Some(new) => begin(who, opened, &owned, new, ui),
    }
}

fn owned<'a>(register: &'a Register, who: &str, label: Option<&str>) -> Result<Owned<'a>, CommandError> {
    let Ok(path) = paths::typed(who);
    let print = if who.starts_with("SHA256:") {
        Some(Fingerprint::parse(who)?)
    } else if path.is_file() && !register.people.contains_key(who) {
        Some(input::public_key(&path)?.key.fingerprint())
    } else {
        None
    };
    let Some(print) = print else {
        let person = unknown::person(register, who)?;
        let named = label.map(|label| labelled(&person.keys, who, label)).transpose()?;
        let owner = Owner::Person { id: person.id.clone(), label: String::new() };
        return Ok(Owned { keys: &person.keys, owner, named });
    };
    let index = Index::of(register);
    let owner = index.owner(print).cloned().ok_or_else(|| {
        CommandError::usage(format!("the key {print} is nobody's in the register")).hint("lavrin person list")
    })?;
    let keys = match &owner {
        Owner::Person { id, .. } => register.people.get(id).map(|person| person.keys.as_slice()),
        Owner::Machine { host, .. } => register.hosts.get(host).map(|host| host.keys.as_slice()),
        Owner::Kept { account, host, .. } => {
            return Err(CommandError::usage(format!("this is the kept key of {account}@{host}"))
                .hint(format!("lavrin rotate --account {}@{host}", shell_word(account))));
        }
    };
    let keys = keys.unwrap_or_default();
    Ok(Owned { keys, owner, named: keys.iter().find(|key| key.fingerprint == print) })
}

fn labelled<'a>(keys: &'a [OwnedKey], who: &str, label: &str) -> Result<&'a OwnedKey, CommandError> {
    keys.iter().find(|key| key.label == label).ok_or_else(|| {
        CommandError::usage(format!("{who} has no key '{}'", printable(label.as_bytes())))
            .hint(format!("lavrin person show {who}"))
    })
}

/// A new key as it came.
enum NewOne {
    Given(GivenKey, Option<PathBuf>),
    Made(Pair, Box<MadeKey>, String),
}

impl NewOne {
    fn given(&self) -> GivenKey {
        match self {
            Self::Given(given, _) => given.clone(),
            Self::Made(_, made, comment) => GivenKey {
                key: made.key.public().clone(),
                comment: comment.clone(),
                options: Vec::new(),
                repairs: Vec::new(),
            },
        }
    }
}

impl NewOne {
    fn private(&self) -> Option<PrivateHalf> {
        match self {
            Self::Made(pair, made, _) => Some(PrivateHalf::Made(made.key.clone(), pair.private.clone())),
            Self::Given(_, path) => path.as_deref().and_then(input::private_beside).map(PrivateHalf::Beside),
        }
    }

    fn public(&self) -> Option<PathBuf> {
        match self {
            Self::Made(pair, ..) => Some(pair.public.clone()),
            Self::Given(_, path) => path.clone(),
        }
    }
}

fn new_key(args: &RotateArgs, owned: &Owned<'_>, ui: &Ui) -> Result<Option<NewOne>, CommandError> {
    if let Some(path) = &args.from_file {
        return Ok(Some(NewOne::Given(input::public_key(path)?, Some(path.clone()))));
    }
    if args.paste {
        ui.status("Paste the new public key, then Ctrl-D:");
        return Ok(Some(NewOne::Given(input::public_key(Path::new("-"))?, None)));
    }
    let Some(path) = &args.make else { return Ok(None) };
    let (Some(folder), Some(name)) = (path.parent(), path.file_name().and_then(|name| name.to_str())) else {
        return Err(CommandError::usage("where is the private half to go?").again("", "--make FILE"));
    };
    let folder = if folder.as_os_str().is_empty() { Path::new(".") } else { folder };
    let pair = Pair::new(folder, name)?;
    pair.check_free(false)?;
    let old = owned.named.or_else(|| owned.keys.iter().find(|key| key.is_active(today())));
    let comment = old.map(|old| old.comment.clone()).unwrap_or_default();
    let passphrase = chosen(args.passphrase, ui)?;
    if let Some(passphrase) = passphrase.as_ref().filter(|_| args.passphrase != Some(PassphraseHow::Made)) {
        tell_quality(passphrase, &[&comment], ui);
    }
    let made = made_key(
        old.map_or(AlgorithmName::Ed25519, |old| AlgorithmName::like(&old.key)),
        &comment,
        passphrase.as_ref(),
    )?;
    Ok(Some(NewOne::Made(pair, Box::new(made), comment)))
}

fn is_same_owner(one: &Owner, other: &Owner) -> bool {
    match (one, other) {
        (Owner::Person { id: one, .. }, Owner::Person { id: other, .. }) => one == other,
        (Owner::Machine { host: one, .. }, Owner::Machine { host: other, .. }) => one == other,
        _ => false,
    }
}

/// A rotation that is in the register already.
fn go_on(opened: &OpenedRegister, who: &str, owned: &Owned<'_>) -> Result<RotationCase, CommandError> {
    let all = rotations(opened.register(), today());
    let mut own: Vec<Rotation> = all.into_iter().filter(|one| is_same_owner(&one.owner, &owned.owner)).collect();
    if let Some(named) = owned.named {
        own.retain(|one| [one.old_print(), one.new_print()].contains(&named.fingerprint));
    }
    // One that is not done in the register yet comes before one that only some hosts lack.
    if own.iter().any(|one| one.retired.is_none()) {
        own.retain(|one| one.retired.is_none());
    }
    let who = shell_word(who);
    if own.len() > 1 {
        let labels: Vec<&str> = own.iter().map(|one| one.label.as_str()).collect();
        return Err(CommandError::usage(format!("several keys of {who} are being replaced: {}", labels.join(", ")))
            .hint(format!("lavrin rotate {who} --label {}", shell_word(labels[0]))));
    }
    let Some(rotation) = own.pop() else {
        return Err(CommandError::usage(format!("no key of {who} is being replaced"))
            .hint(format!("lavrin rotate {who} --from-file NEW.pub")));
    };
    Ok(of_rotation(opened, rotation))
}

/// One that is in the register already.
pub fn of_rotation(opened: &OpenedRegister, rotation: Rotation) -> RotationCase {
    RotationCase { register: opened.clone(), rotation, begin: None, private: None, public: None, kept: None }
}

/// The key that the new one replaces.
fn old_key<'a>(owned: &Owned<'a>, who: &str, new: Fingerprint) -> Result<&'a OwnedKey, CommandError> {
    if let Some(named) = owned.named {
        return Ok(named);
    }
    let mut open = owned.keys.iter().filter(|key| key.is_active(today()) && key.fingerprint != new);
    // One that is replaced by the very key that was given: the same command again.
    let again = owned.keys.iter().find(|key| key.successor(owned.keys).is_some_and(|next| next.fingerprint == new));
    match (again, open.next(), open.next()) {
        (Some(old), ..) | (None, Some(old), None) => Ok(old),
        (None, None, _) => Err(CommandError::usage(format!("{who} has no key in use that could be replaced"))
            .hint(format!("lavrin person show {}", shell_word(who)))),
        (None, Some(first), Some(_)) => {
            let active = owned.keys.iter().filter(|key| key.is_active(today()));
            let labels: Vec<&str> = active.map(|key| key.label.as_str()).collect();
            Err(CommandError::usage(format!("which key of {who} is replaced? {}", labels.join(", ")))
                .again("", &format!("--label {}", shell_word(&first.label))))
        }
    }
}

/// A rotation that is not in the register yet, or the same command again.
fn begin(
    who: &str,
    opened: &OpenedRegister,
    owned: &Owned<'_>,
    new: NewOne,
    ui: &Ui,
) -> Result<RotationCase, CommandError> {
    let given = new.given();
    let print = given.key.fingerprint();
    let old = old_key(owned, who, print)?;
    if let Some(next) = old.successor(owned.keys) {
        if next.fingerprint == print {
            let mut case =
                go_on(opened, who, &Owned { keys: owned.keys, owner: owned.owner.clone(), named: Some(old) })?;
            (case.private, case.public) = (new.private(), new.public());
            return Ok(case);
        }
        let (old, next) = (printable(old.label.as_bytes()), printable(next.label.as_bytes()));
        return Err(CommandError::with(
            Exit::Stopped,
            format!("{who}'s key {old} is being replaced by {next} already"),
        )
        .because("nothing was changed")
        .hint(format!("lavrin rotate {} --status", shell_word(who))));
    }
    may_come_in(&given, opened.register(), ui)?;
    let (path, host) = file(&owned.owner, opened);
    let label = free_label(&old.label, owned.keys);
    let comment = if given.comment.is_empty() { &old.comment } else { &given.comment };
    let line = given.key.line(comment);
    let new_entry = NewKey {
        label: &label,
        line: &line,
        purpose: old.purpose.name(),
        added: today(),
        replaces: Some(&old.label),
        machine: old.account.as_deref().map(|account| (account, old.file.as_deref())),
    };
    let text =
        add_key(opened.text(&path).unwrap_or_default(), host.as_deref(), &new_entry).map_err(edit_fault(&path))?;
    let register = opened.with(&path, &text);
    let rotation = rotations(register.register(), today()).into_iter().find(|one| one.new_print() == print);
    let rotation = rotation.ok_or_else(|| {
        CommandError::with(Exit::Stopped, "the register would not be in order afterwards").hint("lavrin register check")
    })?;
    let (private, public) = (new.private(), new.public());
    let made = match new {
        NewOne::Made(pair, made, _) => Some(Box::new((pair, *made))),
        NewOne::Given(..) => None,
    };
    Ok(RotationCase { register, rotation, begin: Some(Begin::Key { path, text, made }), private, public, kept: None })
}

/// The file that holds the keys of an owner, and the host in it where it holds several.
fn file(owner: &Owner, opened: &OpenedRegister) -> (String, Option<String>) {
    match owner {
        Owner::Person { id, .. } => (format!("people/{id}.toml"), None),
        Owner::Machine { host, .. } => match opened.register().hosts.get(host) {
            Some(host) => {
                let (path, id) = file_of(opened, host);
                (path, id.map(str::to_owned))
            }
            None => (format!("hosts/{host}.toml"), None),
        },
        Owner::Kept { account, host, .. } => (kept::file(account, host), None),
    }
}

/// `main-2` for `main`, `main-3` for `main-2`.
fn free_label(old: &str, keys: &[OwnedKey]) -> String {
    let stem = match old.rsplit_once('-') {
        Some((stem, number)) if !number.is_empty() && number.bytes().all(|byte| byte.is_ascii_digit()) => stem,
        _ => old,
    };
    let labels = (2..).map(|number| format!("{stem}-{number}"));
    labels.into_iter().find(|label| !keys.iter().any(|key| key.label == *label)).unwrap_or_default()
}

/// The register as it is once the old key is not used any more.
pub fn retired(opened: &OpenedRegister, rotation: &Rotation) -> Result<(String, OpenedRegister), CommandError> {
    let (path, host) = file(&rotation.owner, opened);
    let (text, label) = (opened.text(&path).unwrap_or_default(), rotation.owner.label());
    let text = match &rotation.owner {
        Owner::Kept { .. } => set_day(text, label.parse().unwrap_or_default(), "retired", today()),
        _ => set_key(text, host.as_deref(), label, "retired", &KeyField::Day(today())),
    };
    let text = text.map_err(edit_fault(&path))?;
    let after = opened.with(&path, &text);
    Ok((path, after))
}

/// Grants that name the old key go on to name the new one.
pub fn grants_of_new(opened: &OpenedRegister, rotation: &Rotation, path: &str) -> Result<String, CommandError> {
    let mut text = opened.text(path).unwrap_or_default().to_owned();
    for grant in &opened.register().grants {
        let (is_theirs, old) = match (&grant.whom.value, &rotation.owner) {
            (Whom::Person(one), Owner::Person { id, label }) => (one == id, label),
            (Whom::Machine { account, host }, Owner::Machine { account: of, host: on, label }) => {
                (account == of && host == on, label)
            }
            _ => continue,
        };
        if is_theirs && grant.key.as_ref().is_some_and(|named| named.value == *old) {
            text = set_grant_key(&text, grant.number, &rotation.label).map_err(edit_fault(path))?;
        }
    }
    Ok(text)
}
