//! How help is laid out: commands under headings in the order of the work, at most a screen for each command, and one page for
//! all options that say how a host is reached.

use super::examples;
use clap::builder::PossibleValue;
use clap::{Arg, ArgAction, Command};
use std::fmt::Write as _;

/// The heading of the options that say how a host is reached; they are on a page of their own.
pub const CONNECTION: &str = "Reaching a host";

/// Options of every command that its page does not repeat.
const ASIDE: [&str; 5] = ["color", "quiet", "verbose", "pager", "help_connection"];

/// Commands in the order of the work.
const GROUPS: [(&str, &[&str]); 8] = [
    ("Keys", &["key", "agent", "kept"]),
    ("One account", &["install", "remove", "mend", "why", "probe"]),
    ("The register (who should have access)", &["register", "person", "host", "grant", "withdraw"]),
    ("The fleet (who has access, and putting it right)", &["survey", "compare", "enforce", "audit"]),
    ("People come and go, passwords end", &["rotate", "offboard", "keys-only"]),
    ("To be looked at", &["report", "matrix", "paths"]),
    ("For people and new machines", &["shortcuts", "firstboot"]),
    (
        "Looking back, and a first look",
        &["history", "undo", "store", "first", "demo", "rule", "completions", "version"],
    ),
];

const EXIT_CODES: &str = "Exit codes: 0 done, 1 findings or a refusal, 2 wrong usage or input,\n\
3 not reached or not checked, 4 stopped for safety (everything is as it was),\n\
5 failed midway (each thing is listed)";

/// The whole command line with its help.
pub fn laid_out(command: Command) -> Command {
    let (list, options) = (groups(&command), everywhere(&command));
    let command = with_pages(command, "");
    command
        .help_template(format!("{{about}}\n\nUsage: lavrin [OPTIONS] COMMAND\n\n{list}{options}\n{{after-help}}"))
        .after_help(format!("{EXIT_CODES}\n\nMore about one command: lavrin COMMAND --help"))
}

/// The options that every command takes.
fn everywhere(command: &Command) -> String {
    let mut text = "Options of every command:\n".to_owned();
    for arg in command.get_arguments() {
        let short = arg.get_short().map(|short| format!("-{short}, ")).unwrap_or_default();
        let long = arg.get_long().unwrap_or_default();
        let value = shown_values(arg).map(|values| format!(" <{values}>")).unwrap_or_default();
        let name = format!("{short}--{long}{value}");
        // What does not fit stands with each command.
        let name = if name.len() > 29 { format!("{short}--{long} <{}>", long.to_uppercase()) } else { name };
        let _ = writeln!(text, "  {name:<29} {}", arg.get_help().map(ToString::to_string).unwrap_or_default());
    }
    text + "  -h, --help                    Print help, for each command too\n  -V, --version                 Print the version\n"
}

/// The values an option takes, where they are few and short.
fn shown_values(arg: &Arg) -> Option<String> {
    let values = arg.get_possible_values();
    let names: Vec<&str> = values.iter().map(PossibleValue::get_name).collect();
    let shown = names.join("|");
    (arg.get_action().takes_values() && !names.is_empty() && shown.len() <= 30).then_some(shown)
}

/// The commands under their headings, one line each.
fn groups(command: &Command) -> String {
    let mut text = String::new();
    for (heading, names) in GROUPS {
        let _ = writeln!(text, "{heading}:");
        for name in names {
            let about = command.find_subcommand(name).and_then(Command::get_about).map(ToString::to_string);
            let _ = writeln!(text, "  {name:<9} {}", about.unwrap_or_default());
        }
        text.push('\n');
    }
    text
}

/// Gives each command its examples, and moves the options of connections to their own page.
fn with_pages(mut command: Command, path: &str) -> Command {
    let has_connection = command.get_arguments().any(is_connection);
    command = command.mut_args(|arg| {
        let is_aside = is_connection(&arg) || ASIDE.contains(&arg.get_id().as_str());
        // The marks of code are for whoever reads the source.
        let help = arg.get_help().map(|help| help.to_string().replace('`', "")).unwrap_or_default();
        let arg = arg.hide(is_aside).help(help);
        match shown_values(&arg) {
            Some(values) => arg.value_name(values).hide_possible_values(true),
            None => arg,
        }
    });
    if !path.is_empty() && !command.has_subcommands() {
        // Each command shows the forms that it has.
        let (forms, id) = (super::forms::names(super::forms::of(path)), "format");
        let own = Arg::new(id).long(id).value_name(forms.join("|")).help("Form of the results").help_heading(None);
        command = command.arg(
            own.default_value("text")
                .hide_default_value(true)
                .value_parser(clap::builder::EnumValueParser::<crate::ui::Format>::new())
                .hide_possible_values(true),
        );
    }
    if path.is_empty() {
        let help = Arg::new("help").short('h').long("help").action(ArgAction::HelpShort).global(true);
        command = command.disable_help_flag(true).arg(help.help("Print help"));
    }
    let mut after = String::new();
    if has_connection {
        after += "Options for reaching a host and signing in: lavrin --help-connection\n\n";
    }
    if let Some(lines) = examples::of(path) {
        after += "Examples:\n";
        for line in lines {
            let _ = writeln!(after, "  {line}");
        }
    }
    if !path.is_empty() {
        command = command.after_help(after.trim_end().to_owned());
    }
    let names: Vec<String> = command.get_subcommands().map(|sub| sub.get_name().to_owned()).collect();
    for name in names {
        let path = format!("{path} {name}").trim().to_owned();
        command = command.mut_subcommand(name, |sub| with_pages(sub, &path));
    }
    command
}

fn is_connection(arg: &Arg) -> bool {
    arg.get_help_heading() == Some(CONNECTION)
}

/// The page of the options that say how a host is reached.
pub fn connection_page(command: &Command) -> String {
    let install = command.find_subcommand("install");
    let options = install.into_iter().flat_map(Command::get_arguments).filter(|arg| is_connection(arg));
    let page = Command::new("lavrin")
        .max_term_width(100)
        .disable_help_flag(true)
        .args(options.map(|arg| arg.clone().hide(false).help_heading(None)))
        .help_template(
            "How a host is reached, and how Lavrin signs in there. Every command that connects\n\
             to hosts takes these options; what is not given comes from the register.\n\
             --port, --expect-host-key and --known-hosts are for commands on one host.\n\n{options}\n\n{after-help}",
        )
        .after_help(
            "Examples:\n  \
             lavrin audit harbour-office --live --login root --identity ~/.ssh/office\n  \
             lavrin install edda.pub edda@192.0.2.5 --ask-password\n  \
             lavrin why sten@harbour-office --login edda --root-by sudo --ask-root-password",
        );
    page.clone().render_help().to_string()
}
