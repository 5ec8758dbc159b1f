//! `lavrin first`: one server, from a password to a proven key. Each step is one of the other commands, shown as it is run, so that
//! whoever has seen it once can type them.

use super::register::RegisterArgs;
use crate::account_target::AccountTarget;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::{Label, Ui};
use crate::{own_keys, paths};
use clap::Args;
use lavrin_fleet::register::USUAL_LOGIN;
use lavrin_keys::text::shell_word;
use std::io::IsTerminal as _;
use std::path::{Path, PathBuf};
use std::process::Command;

/// How often a question is asked again.
const TRIES: usize = 5;

/// One server, step by step: a key, its proof, the end of passwords, a shortcut
#[derive(Debug, Args)]
pub struct FirstArgs {
    /// The account on the server (default: it is asked for)
    #[arg(value_name = "ACCOUNT@HOST")]
    pub target: Option<AccountTarget>,
    /// Port of its SSH server (default: 22)
    #[arg(long, value_name = "PORT")]
    pub port: Option<u16>,
}

/// Runs the command.
pub fn run(args: &FirstArgs, ui: &Ui) -> Result<Exit, CommandError> {
    if !std::io::stdin().is_terminal() {
        return Err(CommandError::usage("this asks questions, and there is no terminal to ask at")
            .hint("lavrin key generate --name edda")
            .hint("lavrin install ~/.ssh/edda.pub edda@192.0.2.5 --ask-password")
            .hint("lavrin probe --identity ~/.ssh/edda edda@192.0.2.5"));
    }
    if RegisterArgs::default().folder().is_some() {
        ui.warn("there is a register here: what is done now is not written down in it");
    }
    let first = FirstServer { ui, server: server(args, ui)? };
    first.walk()
}

/// The server, and the account on it.
struct FirstTarget {
    account: String,
    host: String,
    port: Option<u16>,
}

fn server(args: &FirstArgs, ui: &Ui) -> Result<FirstTarget, CommandError> {
    let mut target = args.target.clone();
    for _ in 0..TRIES {
        if let Some(AccountTarget { account, host: Some(host) }) = target {
            return Ok(FirstTarget { account, host, port: args.port });
        }
        let typed = answer(ui, "Which account on which server? (edda@192.0.2.5, or only the server)")?;
        let user = std::env::var("USER").unwrap_or_else(|_| USUAL_LOGIN.to_owned());
        let typed = if typed.contains('@') || typed.is_empty() { typed } else { format!("{user}@{typed}") };
        target = typed.parse().map_err(|said: String| ui.warn(&said)).ok();
    }
    Err(CommandError::usage("no server was named").hint("lavrin first edda@192.0.2.5"))
}

/// An answer; the end of the input ends the command.
fn answer(ui: &Ui, question: &str) -> Result<String, CommandError> {
    ui.ask(question)?.ok_or_else(|| CommandError::usage("the input ended; what was done so far stays"))
}

struct FirstServer<'a> {
    ui: &'a Ui,
    server: FirstTarget,
}

impl FirstServer<'_> {
    fn walk(&self) -> Result<Exit, CommandError> {
        self.say("1. The key");
        let key = self.key()?;
        self.say("2. The server gets its public half, and a new login proves it");
        let way = self.way_in()?;
        let public = shell_word(&format!("{}.pub", paths::shown(&key)));
        if let Some(exit) = self.run(&(format!("lavrin install {public} {}", self.target()) + " " + &way))? {
            return Ok(exit);
        }
        self.say("3. The moment of truth: a login with the key alone");
        let identity = format!("--identity {}", shell_word(&paths::shown(&key)));
        if let Some(exit) = self.run(&format!("lavrin probe {identity} {}", self.target()))? {
            self.ui.warn("passwords stay as they are, since the key does not open the account yet");
            return Ok(exit);
        }
        self.say("4. Passwords");
        self.end_passwords(&identity)?;
        self.say("5. A short name");
        self.shortcut(&identity)?;
        self.ui.result("Done. Keep a copy of the key where it is not lost with this machine.");
        Ok(Exit::Done)
    }

    /// `ACCOUNT@HOST`, with its port.
    fn target(&self) -> String {
        let FirstTarget { account, host, port } = &self.server;
        let port = port.map(|port| format!(" --port {port}")).unwrap_or_default();
        format!("{}{port}", shell_word(&format!("{account}@{host}")))
    }

    /// One that is there, or a new one.
    fn key(&self) -> Result<PathBuf, CommandError> {
        let keys = own_keys::lying_here();
        for (number, (path, print)) in keys.iter().enumerate() {
            self.ui.show(&format!("  {}  {}  {print}", number + 1, paths::shown(path)));
        }
        if !keys.is_empty() {
            for _ in 0..TRIES {
                let typed = answer(self.ui, "Which of these? (its number; Enter makes a new one)")?;
                match typed.parse::<usize>().ok().and_then(|number| keys.get(number.checked_sub(1)?)) {
                    Some((path, _)) => return Ok(path.clone()),
                    None if typed.is_empty() => break,
                    None => self.ui.warn("there is no key with that number"),
                }
            }
        }
        let user = std::env::var("USER").unwrap_or_else(|_| "edda".to_owned());
        let typed = answer(self.ui, &format!("Name of the new pair, after you or this machine (Enter: {user}):"))?;
        let name = if typed.is_empty() { user } else { typed };
        match self.run(&format!("lavrin key generate --name {}", shell_word(&name)))? {
            None => Ok(paths::home().unwrap_or(Path::new("")).join(".ssh").join(name)),
            Some(exit) => Err(CommandError::with(exit, "no key was made").hint("lavrin key generate --help")),
        }
    }

    /// How one gets in so far.
    fn way_in(&self) -> Result<String, CommandError> {
        let question = "How do you get in today? (Enter: with a password; or the file of a key that opens the account)";
        for _ in 0..TRIES {
            let typed = answer(self.ui, question)?;
            let Ok(path) = paths::typed(&typed);
            if typed.is_empty() {
                return Ok("--ask-password".to_owned());
            }
            if Path::new(&path).is_file() {
                return Ok(format!("--identity {}", shell_word(&paths::shown(&path))));
            }
            self.ui.warn(&format!("there is no file {}", paths::shown(&path)));
        }
        Err(CommandError::usage("no way in was named").hint("lavrin first --help"))
    }

    fn end_passwords(&self, identity: &str) -> Result<(), CommandError> {
        self.ui.show("As long as passwords open the server anybody may guess them. The server can take keys only; it puts that back\nitself unless a new login proves it.");
        let typed = self.ui.confirm("End passwords now? It needs root's rights there", &[("", "")])?;
        let FirstTarget { account, host, port } = &self.server;
        let port = port.map(|port| format!(" --port {port}")).unwrap_or_default();
        let root = if account == USUAL_LOGIN { "" } else { " --root-by sudo --ask-root-password" };
        let typed_line =
            format!("lavrin keys-only {}{port} --login {} {identity}{root}", shell_word(host), shell_word(account));
        if !typed {
            self.ui.show(&format!("  later: {}", self.ui.paint_status(Label::Type, &typed_line)));
            return Ok(());
        }
        if self.run(&typed_line)?.is_some() {
            self.ui.warn("passwords still open the server; the key works all the same");
        }
        Ok(())
    }

    fn shortcut(&self, identity: &str) -> Result<(), CommandError> {
        let name = answer(self.ui, "Under which short name do you want to reach it? (Enter: none)")?;
        if name.is_empty() {
            return Ok(());
        }
        let alias = shell_word(&name);
        if self
            .run(&(format!("lavrin shortcuts {} --alias {alias} --write", self.target()) + " " + identity))?
            .is_none()
        {
            self.ui.result(&format!("from now on: {}", self.ui.paint(Label::Type, &format!("ssh {alias}"))));
        }
        Ok(())
    }

    fn say(&self, text: &str) {
        self.ui.result(&format!("\n{}", self.ui.paint(Label::Strong, text)));
    }

    /// Shows a command and runs it by this very program; its exit code where it is not zero.
    fn run(&self, typed: &str) -> Result<Option<Exit>, CommandError> {
        self.ui.result(&format!("{} {}", self.ui.paint(Label::Good, "$"), self.ui.paint(Label::Type, typed)));
        let failed = |error: std::io::Error| CommandError::usage(format!("the command could not be run: {error}"));
        let program = std::env::current_exe().map_err(failed)?;
        let line = typed.replacen("lavrin", &shell_word(&program.to_string_lossy()), 1);
        let status = Command::new("/bin/sh").arg("-c").arg(line).status().map_err(failed)?;
        Ok(match status.code() {
            Some(0) => None,
            code => Some(Exit::of(code.unwrap_or(5))),
        })
    }
}
