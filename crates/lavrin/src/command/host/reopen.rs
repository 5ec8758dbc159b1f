//! `lavrin host reopen`: leads a host that was reset back to where it was, through commands of our own that are shown as they run.

use super::find;
use crate::command::register::RegisterArgs;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::input::typed_fingerprint;
use crate::sign_in::SignInArgs;
use crate::ui::{Label, Ui};
use clap::Args;
use lavrin_keys::key::Fingerprint;
use lavrin_keys::text::shell_word;
use std::process::Command;

/// Lead a host that was reset through password login, keys, proof and closing again
#[derive(Debug, Args)]
pub struct ReopenArgs {
    /// The host
    #[arg(value_name = "HOST")]
    pub id: String,
    /// The pinned key that its new one takes the place of
    #[arg(long, value_name = "SHA256:…", value_parser = typed_fingerprint)]
    pub replace: Option<Fingerprint>,
    /// The fingerprint its key must have, for scripts
    #[arg(long, value_name = "SHA256:…", value_parser = typed_fingerprint)]
    pub expect_host_key: Option<Fingerprint>,
    /// Answer yes to the question of each step
    #[arg(long)]
    pub yes: bool,
    #[command(flatten)]
    sign_in: SignInArgs,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Options of this command that its steps get by themselves, and whether a value stands behind each.
const OWN: [(&str, bool); 3] = [("--replace", true), ("--expect-host-key", true), ("--yes", false)];

/// Runs the command.
pub fn run(args: &ReopenArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open_for_hosts(ui)?;
    let register = &opened.reading.register;
    let host = find(register, &args.id)?;
    // The first key of an account may end its password, so the one that is to work from then on is at hand before anything begins.
    if args.sign_in.identity.is_none() && register.defaults.identity.is_none() {
        return Err(
            CommandError::usage("which key is to open it from now on?").again("its private half", "--identity FILE")
        );
    }
    let shared = passed_on(std::env::args().collect(), &args.id);
    let by_register: Vec<String> = shared_register(args);
    let yes = if args.yes { vec!["--yes".to_owned()] } else { Vec::new() };
    let option = |name: &str, value: Option<Fingerprint>| {
        value.map(|print| vec![name.to_owned(), print.to_string()]).unwrap_or_default()
    };
    let trust =
        [option("--replace", args.replace), option("--expect-host-key", args.expect_host_key), by_register].concat();
    let mut steps = vec![("Who answers there?", vec!["host", "trust"], trust)];
    steps.push((
        "The keys go in, each proven by a login, while this one is open",
        vec!["enforce"],
        [shared.clone(), yes.clone()].concat(),
    ));
    if register.rules.asks_for_keys_only(host) {
        steps.push(("Passwords end", vec!["keys-only"], [shared.clone(), yes].concat()));
    }
    steps.push(("What it is like now", vec!["survey"], shared));
    for (what, words, more) in steps {
        ui.show(&ui.paint(Label::Strong, what));
        let exit = step(&words, &args.id, &more, ui)?;
        if exit != 0 {
            let again: Vec<String> = words.iter().map(|word| (*word).to_owned()).chain([args.id.clone()]).collect();
            return Err(CommandError::with(
                exit_of(exit),
                format!("it stops here: {} ended with {exit}", words.join(" ")),
            )
            .because("the steps before it stand, each proven by itself")
            .hint(format!("lavrin {}", again.join(" "))));
        }
    }
    ui.result(&format!("{} is open to the keys that the register names", args.id));
    Ok(Exit::Done)
}

fn exit_of(code: i32) -> Exit {
    let all = [Exit::Findings, Exit::Usage, Exit::NotChecked, Exit::Stopped, Exit::Midway];
    all.into_iter().find(|exit| *exit as i32 == code).unwrap_or(Exit::Midway)
}

fn shared_register(args: &ReopenArgs) -> Vec<String> {
    let folder = args.register.register.as_ref().map(|path| path.to_string_lossy().into_owned());
    folder.map(|folder| vec!["--register".to_owned(), folder]).unwrap_or_default()
}

/// What was typed behind this command that its steps take as well: how to sign in, and which register.
fn passed_on(typed: Vec<String>, id: &str) -> Vec<String> {
    let mut words = typed.into_iter().skip_while(|word| word != "reopen").skip(1);
    let mut passed = Vec::new();
    let mut is_named = false;
    while let Some(word) = words.next() {
        let own = OWN.iter().find(|(name, _)| word == *name || word.starts_with(&format!("{name}=")));
        if let Some((name, has_value)) = own {
            if *has_value && word == *name {
                words.next();
            }
        } else if word == id && !is_named {
            is_named = true;
        } else {
            passed.push(word);
        }
    }
    passed
}

/// Shows a command of our own and runs it.
fn step(words: &[&str], id: &str, more: &[String], ui: &Ui) -> Result<i32, CommandError> {
    let shown: Vec<String> = more.iter().map(|word| shell_word(word)).collect();
    ui.show(&format!("$ lavrin {} {id} {}", words.join(" "), shown.join(" ")));
    let program = std::env::current_exe().map_err(|error| CommandError::usage(error.to_string()))?;
    let status = Command::new(program).args(words).arg(id).args(more).status();
    let status = status.map_err(|error| CommandError::usage(error.to_string()))?;
    Ok(status.code().unwrap_or(Exit::Midway as i32))
}

#[cfg(test)]
mod tests {
    use super::passed_on;

    #[test]
    fn what_belongs_to_a_step_is_passed_on_once() {
        let typed =
            "lavrin host reopen horn --yes --replace SHA256:x --identity horn --register r --expect-host-key=SHA256:y";
        let words = passed_on(typed.split(' ').map(str::to_owned).collect(), "horn");
        assert_eq!(words, ["--identity", "horn", "--register", "r"]);
    }
}
