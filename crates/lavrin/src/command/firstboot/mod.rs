//! `lavrin firstboot`: the accounts and keys of a machine that has not run yet.

mod cloud_config;
mod fragment;
mod machine;
mod tree;

use super::compare::moment;
use super::host::trust;
use super::register::{OpenedRegister, RegisterArgs, check_reads};
use super::unknown;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::out_file::OutFile;
use crate::ui::Ui;
use crate::{clock, paths};
use clap::{Args, ValueEnum};
use lavrin_fleet::fleet::compare::Comparer;
use lavrin_fleet::register::{Host, ReachKind};
use lavrin_keys::text::{count, printable, shell_word};
use lavrin_store::database::Database;
use lavrin_work::memory::Memory;
use machine::{HostKey, Machine, Refused};
use serde::Serialize;
use std::os::unix::fs::DirBuilderExt as _;
use std::path::{Path, PathBuf};
use tree::{AccountNumbers, OwnerArg};

/// The accounts and keys of a machine before its first boot, as the register grants them
#[derive(Debug, Args)]
pub struct FirstbootArgs {
    /// The host, or all hosts with a tag
    #[arg(value_name = "HOST|TAG")]
    pub name: String,
    /// The kind of text or archive
    #[arg(long, value_name = "FORM", default_value = "cloud-config")]
    pub form: FormArg,
    /// The file to write; for a tag the folder, with a file for each host
    #[arg(long, value_name = "FILE|DIR", value_parser = paths::typed)]
    pub out: Option<PathBuf>,
    /// Only this account
    #[arg(long, value_name = "ACCOUNT")]
    pub account: Option<String>,
    /// Make a host key too, and pin it before the machine exists; the file then holds a private key
    #[arg(long)]
    pub host_key: bool,
    /// For tree: the numbers of an account there; may be repeated
    #[arg(long, value_name = "ACCOUNT=UID[:GID]")]
    pub owner: Vec<OwnerArg>,
    /// Move an existing file aside; with --host-key, the new key takes the place of pinned ones
    #[arg(long)]
    pub replace: bool,
    #[command(flatten)]
    register: RegisterArgs,
}

/// In which form.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum FormArg {
    /// YAML that cloud images read at their first boot
    CloudConfig,
    /// The lines of one account
    AuthorizedKeys,
    /// A fragment for the end of any installation
    Shell,
    /// A tar of homes and key files, with owners and modes
    Tree,
}

impl FormArg {
    fn ending(self) -> &'static str {
        match self {
            Self::CloudConfig => "yaml",
            Self::AuthorizedKeys => "keys",
            Self::Shell => "sh",
            Self::Tree => "tar",
        }
    }
}

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct FirstbootOut {
    schema: &'static str,
    hosts: Vec<FirstHostOut>,
}

/// What is made for one host.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct FirstHostOut {
    host: String,
    /// The file; `null`: the text stands below.
    file: Option<String>,
    text: Option<String>,
    accounts: Vec<FirstAccountOut>,
    left_out: Vec<FirstLeftOut>,
    /// The fingerprint of the host key that was made and pinned.
    host_key: Option<String>,
    /// Why nothing was made for it.
    problem: Option<String>,
}

/// An account, and how many keys open it.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct FirstAccountOut {
    account: String,
    keys: usize,
}

/// An account that gets no key, or not all.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct FirstLeftOut {
    account: String,
    why: String,
}

/// Runs the command.
pub fn run(args: &FirstbootArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let mut opened = args.register.open()?;
    check_reads(&opened)?;
    let register = opened.register();
    let named = std::slice::from_ref(&args.name);
    let hosts: Vec<Host> =
        register.hosts_named(named).map_err(|odd| unknown::anything(register, &odd))?.into_iter().cloned().collect();
    let is_one = register.hosts.contains_key(&args.name);
    check(args, &hosts, is_one)?;
    let mut out = FirstbootOut { schema: "lavrin/firstboot/1", hosts: Vec::new() };
    let mut exit = Exit::Done;
    for host in &hosts {
        match one(args, &mut opened, host, is_one, ui) {
            Ok(done) => out.hosts.push(done),
            Err(error) if is_one => return Err(error),
            // The others go on.
            Err(error) => {
                exit = exit.max(error.exit);
                out.hosts.push(FirstHostOut::failed(host, &error));
            }
        }
    }
    ui.give(&out, || words(&out));
    for host in &out.hosts {
        host.problem.iter().for_each(|problem| ui.warn(&format!("{}: {problem}", host.host)));
        for left in &host.left_out {
            ui.warn(&format!("left out: {}@{}: {}", left.account, host.host, left.why));
            exit = exit.max(Exit::Findings);
        }
    }
    Ok(exit)
}

impl FirstHostOut {
    fn failed(host: &Host, error: &CommandError) -> Self {
        Self {
            host: host.id.clone(),
            file: None,
            text: None,
            accounts: Vec::new(),
            left_out: Vec::new(),
            host_key: None,
            problem: Some(error.in_one_line()),
        }
    }
}

/// Whether what was typed can be done, before anything is made.
fn check(args: &FirstbootArgs, hosts: &[Host], is_one: bool) -> Result<(), CommandError> {
    if let Some(other) = hosts.iter().find(|host| host.reach != ReachKind::Shell) {
        let said = format!("{} has no accounts and files of its own", other.id);
        return Err(CommandError::usage(said)
            .because(format!("it is spoken to by {}", other.reach.name()))
            .hint(format!("lavrin host show {}", other.id)));
    }
    let with_key = matches!(args.form, FormArg::CloudConfig | FormArg::Tree);
    if args.host_key && !with_key {
        return Err(CommandError::usage("this form holds no host key").again("", "--form cloud-config"));
    }
    if args.out.is_none() && (!is_one || args.host_key || args.form == FormArg::Tree) {
        let said = if args.host_key { "a private key is not printed" } else { "this does not go onto a terminal" };
        let name =
            if is_one { format!("--out {}.{}", args.name, args.form.ending()) } else { format!("--out {}", args.name) };
        return Err(CommandError::usage(said).again("", &name));
    }
    if let Some(pinned) = hosts.iter().find(|host| args.host_key && !args.replace && !host.host_keys.is_empty()) {
        return Err(CommandError::with(Exit::Stopped, format!("{} has a pinned host key already", pinned.id))
            .because("a new machine under that name would not be believed; nothing was written")
            .again("if it is set up anew under this name", "--replace"));
    }
    let Some(folder) = args.out.as_ref().filter(|_| !is_one) else { return Ok(()) };
    if !folder.exists() {
        let made = std::fs::DirBuilder::new().mode(0o700).create(folder);
        made.map_err(|error| CommandError::file(folder, "make the folder", &error))?;
    }
    Ok(())
}

fn one(
    args: &FirstbootArgs,
    opened: &mut OpenedRegister,
    host: &Host,
    is_one: bool,
    ui: &Ui,
) -> Result<FirstHostOut, CommandError> {
    let register = opened.register();
    let keys_only = register.rules.asks_for_keys_only(host);
    let mut accounts = Comparer::new(register, moment()).first_entries(host);
    if let Some(name) = &args.account {
        accounts.retain(|account| account.name == *name);
    }
    let (mut machine, mut refused) = Machine::of(host, accounts, keys_only)?;
    if args.account.is_some() {
        refused.retain(|one| Some(&one.account) == args.account.as_ref());
    }
    if machine.accounts.is_empty() {
        return Err(CommandError::usage(format!("nobody is granted an account on {}", host.id))
            .hint(format!("lavrin host show {}", host.id)));
    }
    let path = args
        .out
        .as_ref()
        .map(|out| if is_one { out.clone() } else { out.join(format!("{}.{}", host.id, args.form.ending())) });
    // Whether there is room for it, before a key is made.
    let file = path.as_deref().map(|path| OutFile::of(path, args.replace)).transpose()?;
    machine.host_key = args.host_key.then(|| HostKey::make(&host.id)).transpose()?;
    let bytes = content(args, &machine, opened)?;
    let text = match file {
        Some(file) => {
            file.put(&bytes)?;
            None
        }
        None => Some(String::from_utf8(bytes).unwrap_or_default()),
    };
    let print = machine.host_key.as_ref().map(|key| key.public.fingerprint().to_string());
    let accounts = machine.accounts.iter();
    let accounts: Vec<FirstAccountOut> =
        accounts.map(|account| FirstAccountOut { account: account.name.clone(), keys: account.lines.len() }).collect();
    if let Some(key) = &machine.host_key {
        *opened = trust::pin(opened, host, &[&key.public], ui)?;
    }
    Ok(FirstHostOut {
        host: host.id.clone(),
        file: path.map(|path| path.to_string_lossy().into_owned()),
        text,
        accounts,
        left_out: refused.into_iter().map(|Refused { account, why }| FirstLeftOut { account, why }).collect(),
        host_key: print,
        problem: None,
    })
}

fn content(args: &FirstbootArgs, machine: &Machine<'_>, opened: &OpenedRegister) -> Result<Vec<u8>, CommandError> {
    Ok(match args.form {
        FormArg::CloudConfig => cloud_config::text(machine).into_bytes(),
        FormArg::Shell => fragment::text(machine).into_bytes(),
        FormArg::AuthorizedKeys => {
            let [account] = machine.accounts.as_slice() else {
                let names = machine.accounts.iter().map(|account| account.name.as_str()).collect::<Vec<_>>().join(", ");
                let first = machine.accounts.first().map_or("keeper", |account| account.name.as_str());
                return Err(CommandError::usage(format!("of which account? {} has {names}", machine.host.id))
                    .again("", &format!("--account {}", shell_word(first))));
            };
            account.lines.iter().map(|line| format!("{line}\n")).collect::<String>().into_bytes()
        }
        FormArg::Tree => tree::archive(machine, &owners(args, machine, opened)?, clock::unix().unsigned_abs())?,
    })
}

/// The numbers of accounts: root's, what the last survey saw, what was given.
fn owners(
    args: &FirstbootArgs,
    machine: &Machine<'_>,
    opened: &OpenedRegister,
) -> Result<AccountNumbers, CommandError> {
    let mut owners = AccountNumbers::new();
    let store = Database::open_existing(opened.folder.path())?;
    let mut seen = match &store {
        Some(store) => Memory::of(store).observations(&[&machine.host.id], i64::MAX)?,
        None => Vec::new(),
    };
    if let Some(seen) = seen.pop().flatten() {
        for account in seen.accounts.iter() {
            owners.seen(&account.name, account.uid, account.gid, account.home.to_string());
        }
    }
    owners.given(&args.owner);
    Ok(owners)
}

fn words(out: &FirstbootOut) -> String {
    let mut lines = Vec::new();
    for host in out.hosts.iter().filter(|host| host.problem.is_none()) {
        if let Some(text) = &host.text {
            return text.trim_end().to_owned();
        }
        let accounts: Vec<String> = host
            .accounts
            .iter()
            .map(|one| format!("{} ({})", printable(one.account.as_bytes()), count(one.keys, "key", "keys")))
            .collect();
        let file = host.file.as_ref().map(|file| paths::shown(Path::new(file))).unwrap_or_default();
        lines.push(format!("{}  {file}  {}", host.host, accounts.join(", ")));
        if let Some(print) = &host.host_key {
            lines.push(format!(
                "  holds a PRIVATE host key, pinned as {print}; delete the file once the machine has it"
            ));
        }
    }
    lines.join("\n")
}
