//! `lavrin shortcuts`: the configuration of a person's client for the hosts they may use.

mod blocks;
mod files;
mod identity;

use super::register::{OpenedRegister, RegisterArgs, today};
use super::unknown;
use crate::account_target::AccountTarget;
use crate::cli::typed_again;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::host::users_known_hosts;
use crate::paths;
use crate::ui::Ui;
use blocks::{ClientNames, is_path};
use clap::Args;
use files::{ClientFile, ShortcutFiles};
use identity::Identity;
use lavrin_fleet::register::{Host, Register, USUAL_LOGIN};
use lavrin_fleet::shortcuts::{LeftOutShortcut, Shortcut, Shortcuts, WhyLeftOut, is_word};
use lavrin_keys::hostkey::known_keys;
use lavrin_keys::text::{count, printable, shell_word};
use serde::Serialize;
use std::path::PathBuf;

/// The port of SSH servers (RFC 4253, section 4).
const SSH_PORT: u16 = 22;

/// Client configuration for the hosts that a person may use: names, accounts, ways, pinned host keys
#[derive(Debug, Args)]
pub struct ShortcutsArgs {
    /// Whose; or one account, which needs no register
    #[arg(value_name = "PERSON|ACCOUNT@HOST")]
    pub whose: String,
    /// The private key to offer (default: the person's key in ~/.ssh)
    #[arg(long, value_name = "FILE", value_parser = paths::typed)]
    pub identity: Option<PathBuf>,
    /// For ACCOUNT@HOST: what is typed (default: HOST)
    #[arg(long, value_name = "NAME")]
    pub alias: Option<String>,
    /// For ACCOUNT@HOST: the port (default: from the register, else 22)
    #[arg(long, value_name = "PORT")]
    pub port: Option<u16>,
    /// Write them to files of their own; the line that reads these is asked for
    #[arg(long, conflicts_with = "remove")]
    pub write: bool,
    /// Take these files, and the line that reads them, away again
    #[arg(long)]
    pub remove: bool,
    /// The folder of these files
    #[arg(long, value_name = "DIR", default_value = "~/.ssh/lavrin", value_parser = paths::typed)]
    pub into: PathBuf,
    /// The client's configuration
    #[arg(long, value_name = "FILE", default_value = "~/.ssh/config", value_parser = paths::typed)]
    pub config: PathBuf,
    /// Line ends for clients on Windows
    #[arg(long)]
    pub crlf: bool,
    /// Change the client's configuration without asking
    #[arg(long)]
    pub yes: bool,
    #[command(flatten)]
    register: RegisterArgs,
}

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ShortcutsOut {
    schema: &'static str,
    /// The person, or the account.
    name: String,
    shortcuts: Vec<ShortcutOut>,
    /// Accounts that the person may use and that have none.
    left_out: Vec<LeftOutOut>,
    /// The client's configuration.
    config: String,
    /// The file of known hosts that belongs to it.
    known_hosts: String,
    /// Files that were written.
    written: Vec<String>,
}

/// A shortcut.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ShortcutOut {
    alias: String,
    account: String,
    host: String,
    address: String,
    port: u16,
    through: Option<String>,
    /// Whether the host proves itself by keys that are known.
    pinned: bool,
    until: Option<String>,
}

/// An account without a shortcut.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct LeftOutOut {
    account: String,
    host: String,
    why: String,
    /// What to type.
    remedy: Option<String>,
}

/// What is made into blocks.
struct Chosen {
    name: String,
    /// The name of the files.
    file: String,
    identity: Identity,
    shortcuts: Vec<Shortcut>,
    left_out: Vec<LeftOutShortcut>,
    /// Whose grants they are.
    person: Option<String>,
}

/// Runs the command.
pub fn run(args: &ShortcutsArgs, ui: &Ui) -> Result<Exit, CommandError> {
    if args.remove {
        return remove(args, ui);
    }
    let here = &args.register;
    let opened = if args.whose.contains('@') { here.here(ui)? } else { Some(here.open_to_report(ui)?) };
    let chosen = match (args.whose.parse::<AccountTarget>(), &opened) {
        (Ok(AccountTarget { account, host: Some(host) }), opened) => one(args, &account, &host, opened.as_ref())?,
        (_, Some(opened)) => of_person(args, opened.register())?,
        (Err(said), None) => return Err(CommandError::usage(said).hint("lavrin shortcuts --help")),
        (Ok(_), None) => return Err(CommandError::usage("an account needs a host").hint("lavrin shortcuts --help")),
    };
    let files = ShortcutFiles::of(&args.into, &chosen.file);
    let (mut config, mut known_hosts) = texts(args, &chosen, &files)?;
    if args.crlf {
        (config, known_hosts) = (config.replace('\n', "\r\n"), known_hosts.replace('\n', "\r\n"));
    }
    let mut written = Vec::new();
    if args.write {
        files.write(&config, &known_hosts)?;
        written = [&files.blocks, &files.known_hosts].map(|path| path.to_string_lossy().into_owned()).into();
        include(args, &files, &chosen, ui)?;
    }
    let left_out: Vec<LeftOutOut> =
        chosen.left_out.iter().map(|one| LeftOutOut::of(one, chosen.person.as_deref())).collect();
    let out = ShortcutsOut {
        schema: "lavrin/shortcuts/1",
        name: chosen.name,
        shortcuts: chosen.shortcuts.iter().map(ShortcutOut::of).collect(),
        left_out,
        config,
        known_hosts,
        written,
    };
    ui.give(&out, || words(&out, args, ui));
    tell(&out, &chosen.identity, ui);
    Ok(if out.left_out.is_empty() { Exit::Done } else { Exit::Findings })
}

/// Everything that a person may use.
fn of_person(args: &ShortcutsArgs, register: &Register) -> Result<Chosen, CommandError> {
    if args.alias.is_some() || args.port.is_some() {
        return Err(CommandError::usage("--alias and --port are for one account: ACCOUNT@HOST")
            .hint("lavrin shortcuts edda@192.0.2.7 --alias lantern --identity ~/.ssh/edda"));
    }
    let person = unknown::person(register, &args.whose)?;
    if person.has_left(today()) {
        return Err(CommandError::with(Exit::Stopped, format!("{} has left, and no grant counts any more", person.id))
            .hint(format!("lavrin person show {}", person.id)));
    }
    let identity = Identity::of(person, args.identity.as_deref())?;
    let Shortcuts { shortcuts, left_out } = Shortcuts::of(register, person, identity.print, today());
    if shortcuts.is_empty() && left_out.is_empty() {
        return Err(CommandError::usage(format!("the register lets {} in nowhere", person.id))
            .hint(format!("lavrin grant {} ACCOUNT --host HOST", person.id)));
    }
    let name = person.id.clone();
    Ok(Chosen { file: name.clone(), person: Some(name.clone()), name, identity, shortcuts, left_out })
}

/// One account, with the hosts on the way to it where the register knows some.
fn one(
    args: &ShortcutsArgs,
    account: &str,
    host: &str,
    opened: Option<&OpenedRegister>,
) -> Result<Chosen, CommandError> {
    let Some(identity) = args.identity.as_deref().map(Identity::named) else {
        return Err(CommandError::usage("which key opens it?").again("", "--identity FILE"));
    };
    let alias = args.alias.clone().unwrap_or_else(|| host.to_owned());
    if let Some(odd) = [alias.as_str(), account, host].into_iter().find(|text| !is_word(text)) {
        return Err(CommandError::usage(format!("a client's configuration cannot hold '{odd}'"))
            .hint("lavrin shortcuts edda@192.0.2.7 --alias lantern --identity ~/.ssh/edda"));
    }
    let register = opened.map(OpenedRegister::register);
    let mut shortcuts = Vec::new();
    if let Some((register, known)) = register.and_then(|register| Some((register, register.hosts.get(host)?))) {
        if register.goes_round(known) {
            return Err(crate::error::unspoken(host, lavrin_work::ways::Unspoken::Endless));
        }
        let mut first = of_host(known, account, alias.clone());
        first.port = args.port.unwrap_or(first.port);
        shortcuts.push(first);
        let mut next = known.through.as_ref().and_then(|through| register.hosts.get(&through.value));
        while let Some(jump) = next {
            shortcuts.push(of_host(jump, jump.login.as_deref().unwrap_or(USUAL_LOGIN), jump.id.clone()));
            next = jump.through.as_ref().and_then(|through| register.hosts.get(&through.value));
        }
        if let Some(odd) = shortcuts.iter().find(|one| !is_word(&one.address) || !is_word(&one.account)) {
            let odd = printable(format!("{}@{}", odd.account, odd.address).as_bytes());
            return Err(CommandError::usage(format!("a client's configuration cannot hold '{odd}'"))
                .hint(format!("lavrin host show {}", shell_word(host))));
        }
    } else {
        let port = args.port.unwrap_or(SSH_PORT);
        shortcuts.push(Shortcut {
            host: alias.clone(),
            alias: alias.clone(),
            address: host.to_owned(),
            port,
            account: account.to_owned(),
            through: None,
            host_keys: known_keys(&users_known_hosts()?, host, port),
            old_algorithms: false,
            until: None,
            from: None,
            command: None,
        });
    }
    Ok(Chosen {
        name: format!("{account}@{host}"),
        file: alias,
        identity,
        shortcuts,
        left_out: Vec::new(),
        person: None,
    })
}

fn of_host(host: &Host, account: &str, alias: String) -> Shortcut {
    Shortcut {
        alias,
        host: host.id.clone(),
        address: host.address.clone(),
        port: host.port,
        account: account.to_owned(),
        through: host.through.as_ref().map(|through| through.value.clone()),
        host_keys: host.host_keys.iter().map(|key| key.value.clone()).collect(),
        old_algorithms: host.old_algorithms,
        until: None,
        from: None,
        command: None,
    }
}

/// Both texts. What is written here names files as they are here; what is printed may be for another machine.
fn texts(args: &ShortcutsArgs, chosen: &Chosen, files: &ShortcutFiles) -> Result<(String, String), CommandError> {
    let as_read = |path: &PathBuf| if args.write { path.to_string_lossy().into_owned() } else { paths::shown(path) };
    let (identity, known_hosts) = (as_read(&chosen.identity.path), as_read(&files.known_hosts));
    if let Some(odd) = [&identity, &known_hosts].into_iter().find(|path| !is_path(path)) {
        let said = format!("a client's configuration cannot hold the path {}", printable(odd.as_bytes()));
        return Err(CommandError::usage(said).again("", "--identity FILE").again("", "--into DIR"));
    }
    let client =
        ClientNames { name: &chosen.name, today: today().to_string(), identity: &identity, known_hosts: &known_hosts };
    Ok((blocks::text(&chosen.shortcuts, &client), blocks::known_hosts(&chosen.shortcuts, &client)))
}

/// Has the client read the files: one line, shown and asked for.
fn include(args: &ShortcutsArgs, files: &ShortcutFiles, chosen: &Chosen, ui: &Ui) -> Result<(), CommandError> {
    let config = ClientFile::read(&args.config)?;
    let line = files.include();
    if !config.includes(&line) && !config.add(&line, ui, args.yes)? {
        ui.warn(&format!("{} does not read them yet; its first line has to be: {line}", paths::shown(&args.config)));
    }
    // Of this keyword all lines count, not the first one alone.
    if let Some(first) = chosen.shortcuts.first() {
        let other = crate::client_config::identities(&args.config, &first.alias);
        let mut other = other.into_iter().filter(|path| *path != chosen.identity.path);
        if let Some(other) = other.next() {
            let (config, other) = (paths::shown(&args.config), paths::shown(&other));
            ui.warn(&format!("{config} names {other} for {} too: the client offers both", first.alias));
        }
    }
    Ok(())
}

fn remove(args: &ShortcutsArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let file = match args.whose.parse::<AccountTarget>() {
        Ok(AccountTarget { host: Some(host), .. }) => args.alias.clone().unwrap_or(host),
        _ => args.whose.clone(),
    };
    if !is_word(&file) {
        return Err(CommandError::usage(format!("'{}' names no shortcuts", printable(file.as_bytes())))
            .hint(format!("ls {}", shell_word(&paths::shown(&args.into)))));
    }
    let files = ShortcutFiles::of(&args.into, &file);
    let line = files.include();
    let config = ClientFile::read(&args.config)?;
    if !files.blocks.exists() && !config.includes(&line) {
        return Err(CommandError::usage(format!("there are no shortcuts of {file}"))
            .hint(format!("ls {}", shell_word(&paths::shown(&args.into)))));
    }
    let was_there = files.remove()?;
    if was_there {
        ui.result(&format!("removed: {}", paths::shown(&files.blocks)));
    }
    if !files.has_others() && config.includes(&line) && !config.take_out(&line, ui, args.yes)? {
        ui.warn("the line stays; it reads no file any more");
    }
    Ok(Exit::Done)
}

impl ShortcutOut {
    fn of(shortcut: &Shortcut) -> Self {
        Self {
            alias: shortcut.alias.clone(),
            account: shortcut.account.clone(),
            host: shortcut.host.clone(),
            address: shortcut.address.clone(),
            port: shortcut.port,
            through: shortcut.through.clone(),
            pinned: !shortcut.host_keys.is_empty(),
            until: shortcut.until.map(|until| until.to_string()),
        }
    }
}

impl LeftOutOut {
    fn of(left_out: &LeftOutShortcut, person: Option<&str>) -> Self {
        let host = &left_out.host;
        let (why, remedy) = match &left_out.why {
            WhyLeftOut::OtherKey(label) => {
                (format!("it is granted to the key {} only", printable(label.as_bytes())), None)
            }
            WhyLeftOut::Netconf => ("it is spoken to over NETCONF, on a port that is not for people".to_owned(), None),
            WhyLeftOut::Endless => {
                ("the way to it over other hosts never ends".to_owned(), Some("lavrin register check".to_owned()))
            }
            WhyLeftOut::NoWayOver(over) => (
                format!("one gets there over {over}, and has no account there that may go on"),
                person.map(|person| format!("lavrin grant {person} {} --host {over}", shell_word(&left_out.account))),
            ),
            WhyLeftOut::NotAWord(odd) => (
                format!("a client's configuration cannot hold '{}'", printable(odd.as_bytes())),
                Some(format!("lavrin host show {host}")),
            ),
        };
        Self { account: printable(left_out.account.as_bytes()), host: host.clone(), why, remedy }
    }
}

/// The configuration itself, where it is only printed; what became of it, where it was written.
fn words(out: &ShortcutsOut, args: &ShortcutsArgs, ui: &Ui) -> String {
    if args.write {
        let written = out.written.iter().map(|path| paths::shown(std::path::Path::new(path))).collect::<Vec<_>>();
        let shortcuts = count(out.shortcuts.len(), "shortcut", "shortcuts");
        let next = out.shortcuts.first().map(|first| format!("\n  next: ssh {}", first.alias)).unwrap_or_default();
        return format!("{shortcuts} in {}{next}", written.join(" and "));
    }
    ui.status(&format!("to write it to a file of its own that the client reads: {}", typed_again("--write")));
    let lines = out.known_hosts.lines().skip(1).map(|line| format!("#   {line}\n")).collect::<String>();
    let file = paths::shown(&ShortcutFiles::of(&args.into, &out.file_name(args)).known_hosts);
    let behind = if lines.is_empty() { String::new() } else { format!("\n# {file} holds:\n{lines}") };
    let end = if args.crlf { "\r\n" } else { "\n" };
    format!("{}{}", out.config, behind.replace('\n', end)).trim_end().to_owned()
}

impl ShortcutsOut {
    fn file_name(&self, args: &ShortcutsArgs) -> String {
        let host = self.name.rsplit_once('@').map_or(self.name.as_str(), |(_, host)| host);
        args.alias.clone().unwrap_or_else(|| host.to_owned())
    }
}

/// What whoever uses them has to know.
fn tell(out: &ShortcutsOut, identity: &Identity, ui: &Ui) {
    if identity.print.is_none() {
        ui.warn(&identity::not_here(&identity.path));
    }
    for one in &out.left_out {
        ui.warn(&format!("left out: {}@{}: {}", one.account, one.host, one.why));
        one.remedy.iter().for_each(|remedy| ui.show(&format!("  next: {}", crate::cli::complete(remedy))));
    }
    let open: Vec<&str> = out.shortcuts.iter().filter(|one| !one.pinned).map(|one| one.host.as_str()).collect();
    if let Some(first) = open.first() {
        let hosts = count(open.len(), "host is", "hosts are");
        ui.warn(&format!("{hosts} not pinned, so that the client asks about the key: {}", open.join(", ")));
        ui.show(&format!("  next: lavrin host trust {}", shell_word(first)));
    }
}
