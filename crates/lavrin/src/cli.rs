//! The command line: which commands there are, and the options that all of them share.

mod again;
mod completion;
mod examples;
mod forms;
mod help;
mod manual;
mod next;

use crate::command::{
    agent, audit, compare, completions, demo, enforce, first, firstboot, grant, history, host, install, kept, key,
    keys_only, matrix, mend, offboard, pages, paths, person, probe, register, remove, report, rotate, rule, shortcuts,
    store, survey, undo, version, where_one_is, why, withdraw,
};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::{Color, Format, Ui};
use clap::{CommandFactory as _, FromArgMatches as _, Parser, Subcommand};
use std::pin::Pin;

pub use again::with as typed_again;
pub use help::CONNECTION;
pub use next::complete;

/// Who can log in where over SSH, is that how it should be,
/// and can it be made so without locking anybody out?
#[derive(Debug, Parser)]
#[command(name = "lavrin", version, max_term_width = 100, disable_help_subcommand = true, verbatim_doc_comment)]
struct Cli {
    #[command(subcommand)]
    command: Option<Command>,
    /// Form of the results
    #[arg(long, global = true, value_name = "FORM", default_value = "text", hide_default_value = true)]
    format: Format,
    /// When to use colours
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto")]
    color: Color,
    /// Print only results, warnings and errors
    #[arg(short, long, global = true)]
    quiet: bool,
    /// Trace connections and sign-ins; -vv: scripts too
    #[arg(short, long, global = true, action = clap::ArgAction::Count, conflicts_with = "quiet")]
    verbose: u8,
    /// On a terminal, show long results through $PAGER
    #[arg(long, global = true)]
    pager: bool,
    /// Show the options for reaching a host
    #[arg(long, global = true)]
    help_connection: bool,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Make key pairs; identify, judge and convert any key
    #[command(subcommand)]
    Key(key::KeyCommand),
    /// Put a public key into an account and prove that it opens it
    Install(install::InstallArgs),
    /// Take a key out of an account and prove that it is gone
    Remove(remove::RemoveArgs),
    /// Repair modes, owners and broken lines of key files
    Mend(mend::MendArgs),
    /// Does this key open this account, and if not, which rule refuses it?
    Why(why::WhyArgs),
    /// Ask hosts from outside whether they accept a key; changes nothing
    Probe(probe::ProbeArgs),
    /// What the running agent holds; give it a key for a time, or take one
    #[command(subcommand)]
    Agent(agent::AgentCommand),
    /// The keys of accounts that several people use, sealed in the register
    #[command(subcommand)]
    Kept(kept::KeptCommand),
    /// Begin a register, check it, or build it from what is there
    #[command(subcommand)]
    Register(register::RegisterCommand),
    /// The people of the register and their keys
    #[command(subcommand)]
    Person(person::PersonCommand),
    /// The hosts of the register; the settings of a server
    #[command(subcommand)]
    Host(host::HostCommand),
    /// Record who may use which account (changes the register only)
    Grant(grant::GrantArgs),
    /// Take a grant out of the register (changes the register only)
    Withdraw(withdraw::WithdrawArgs),
    /// Look at many hosts at once and remember what is there
    Survey(survey::SurveyArgs),
    /// Show what differs between register and hosts; changes nothing
    Compare(compare::CompareArgs),
    /// Change the hosts so that they match the register, with proof
    Enforce(enforce::EnforceArgs),
    /// List entries and findings of a tree, a host or the whole fleet
    Audit(audit::AuditArgs),
    /// Replace a key by a new one, with proof before the old one goes
    Rotate(rotate::RotateArgs),
    /// Have a server take keys only, proven before it stays so
    KeysOnly(keys_only::KeysOnlyArgs),
    /// Remove all keys of a person who leaves from every host
    Offboard(offboard::OffboardArgs),
    /// Who came and went, what was changed, who could log in on a day
    History(history::HistoryArgs),
    /// A page to look at: access, keys, findings, ways through
    Report(report::ReportArgs),
    /// Who gets in where: people beside hosts, and where they differ
    Matrix(matrix::MatrixArgs),
    /// Who can reach what by hopping over keys that lie on hosts
    Paths(paths::PathsArgs),
    /// Client configuration for the hosts that a person may use
    Shortcuts(shortcuts::ShortcutsArgs),
    /// Accounts and keys of a machine before its first boot
    Firstboot(firstboot::FirstbootArgs),
    /// The memory of a register: how much is in it, whether it is in order
    #[command(subcommand)]
    Store(store::StoreCommand),
    /// Take back a change or a whole run; it may let people in again
    Undo(undo::UndoArgs),
    /// One server, step by step, from a password to a proven key
    First(first::FirstArgs),
    /// What a shell reads so that Tab completes names of the register
    Completions(completions::CompletionsArgs),
    /// Write manual pages and completions for a package
    #[command(hide = true)]
    Pages(pages::PagesArgs),
    /// Which version this is, and what it was built from
    Version(version::VersionArgs),
    /// What a finding's name stands for, why it matters, what mends it
    Rule(rule::RuleArgs),
    /// Show the whole job on small stand-in servers on this machine
    Demo(demo::DemoArgs),
}

/// The text that a shell reads once.
pub fn completion_script(shell: &str) -> Vec<u8> {
    completion::script(shell).unwrap_or_default()
}

/// Every command with its help, as one document.
pub fn reference() -> String {
    manual::reference(&help::laid_out(Cli::command()))
}

/// Writes a manual page for each command into a folder.
pub fn write_manual(folder: &std::path::Path) -> std::io::Result<()> {
    manual::write(&help::laid_out(Cli::command()), folder)
}

/// Runs the command and gives its exit code.
pub fn run() -> Exit {
    if completion::answers(|| help::laid_out(Cli::command())) {
        return Exit::Done;
    }
    if std::env::args_os().take_while(|word| word != "--").any(|word| word == "--help-connection") {
        let page = help::connection_page(&help::laid_out(Cli::command()));
        Ui::new(Color::Never, Format::Text, false).result(page.trim_end());
        return Exit::Done;
    }
    // Help takes longer to lay out than most commands take; it is wanted only where something is to be shown.
    let (cli, found) = match typed(Cli::command()).or_else(|_| typed(help::laid_out(Cli::command()))) {
        Ok(typed) => typed,
        Err(error) => {
            // What was typed may have come from somewhere else; help is our own, and may be coloured.
            if error.use_stderr() {
                Ui::new(Color::Never, Format::Text, false).show(error.render().to_string().trim_end());
            } else {
                let _ = error.print();
            }
            return if error.use_stderr() { Exit::Usage } else { Exit::Done };
        }
    };
    crate::trace::start(cli.verbose);
    let ui = Ui::new(cli.color, cli.format, cli.quiet);
    let ui = if cli.pager && forms::is_shown(&found) { ui.paged() } else { ui };
    match forms::check(cli.format, &found).and_then(|()| dispatch(cli.command.as_ref(), &ui)) {
        Ok(exit) => ui.ended(exit),
        Err(error) => {
            ui.error(&error);
            error.exit
        }
    }
}

/// What was typed, by this command line.
fn typed(mut command: clap::Command) -> Result<(Cli, clap::ArgMatches), clap::Error> {
    let found = command.try_get_matches_from_mut(std::env::args_os())?;
    let cli = Cli::from_arg_matches(&found)?;
    next::remember(command, &found);
    Ok((cli, found))
}

fn dispatch(command: Option<&Command>, ui: &Ui) -> Result<Exit, CommandError> {
    let Some(command) = command else { return where_one_is::run(ui) };
    match command {
        // What needs no network starts no runtime.
        Command::Key(command) => key::run(command, ui),
        Command::Demo(args) => demo::run(args, ui),
        Command::Agent(command) => agent::run(command, ui),
        Command::Kept(command) => kept::run(command, ui),
        Command::Register(command) => register::run(command, ui),
        Command::Person(command) => person::run(command, ui),
        Command::Host(command) => host::run(command, ui),
        Command::Grant(args) => grant::run(args, ui),
        Command::Withdraw(args) => withdraw::run(args, ui),
        Command::History(args) => history::run(args, ui),
        Command::Report(args) => report::run(args, ui),
        Command::Matrix(args) => matrix::run(args, ui),
        Command::Paths(args) => paths::run(args, ui),
        Command::Completions(args) => completions::run(args, ui),
        Command::Pages(args) => pages::run(args, ui),
        Command::Version(args) => version::run(args, ui),
        Command::Rule(args) => rule::run(args, ui),
        Command::Store(command) => store::run(command, ui),
        Command::First(args) => first::run(args, ui),
        Command::Firstboot(args) => firstboot::run(args, ui),
        Command::Shortcuts(args) => shortcuts::run(args, ui),
        Command::Install(args) => block_on(ui, install::run(args, ui)),
        Command::Remove(args) => block_on(ui, remove::run(args, ui)),
        Command::Mend(args) => block_on(ui, mend::run(args, ui)),
        Command::Why(args) => block_on(ui, why::run(args, ui)),
        Command::Audit(args) => block_on(ui, audit::run(args, ui)),
        Command::Compare(args) => block_on(ui, compare::run(args, ui)),
        Command::Enforce(args) => block_on(ui, enforce::run(args, ui)),
        Command::Rotate(args) => block_on(ui, rotate::run(args, ui)),
        Command::KeysOnly(args) => block_on(ui, keys_only::run(args, ui)),
        Command::Offboard(args) => block_on(ui, offboard::run(args, ui)),
        Command::Undo(args) => block_on(ui, undo::run(args, ui)),
        Command::Survey(args) => block_on(ui, survey::run(args, ui)),
        Command::Probe(args) => block_on(ui, probe::run(args, ui)),
    }
}

type CommandWork<'a> = Pin<Box<dyn Future<Output = Result<Exit, CommandError>> + 'a>>;

/// Runs what needs the network.
pub fn block_on(ui: &Ui, work: impl Future<Output = Result<Exit, CommandError>>) -> Result<Exit, CommandError> {
    // Boxed, since what runs it would otherwise be in the program once for each command.
    block_on_boxed(ui, Box::pin(work))
}

fn block_on_boxed(ui: &Ui, work: CommandWork<'_>) -> Result<Exit, CommandError> {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build();
    let runtime = runtime.map_err(|error| CommandError::usage(format!("no threads could be started: {error}")))?;
    runtime.block_on(async {
        // Where nobody can listen a signal ends the program at once, as everywhere.
        let _ = ui.interrupt.listen(crate::ui::tell_that_it_ends);
        work.await
    })
}

#[cfg(test)]
mod tests;
