//! The command line: which commands there are, and the options that all of them share.

use crate::command::{
    adopt, audit, check, compare, demo, enforce, grant, history, host, init, install, key, mend, offboard, person,
    probe, remove, restore, settings, survey, why,
};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::{Color, Format, Ui};
use clap::{Parser, Subcommand};

/// Who can log in where over SSH, is that how it should be, and can it be made so without locking anybody out?
#[derive(Debug, Parser)]
#[command(name = "lavrin", version, max_term_width = 100, disable_help_subcommand = true)]
#[command(
    after_help = "Exit codes: 0 done, 1 findings or a refusal, 2 wrong usage or input, 3 not reached or not checked,\n\
                        4 stopped for safety (everything is as it was), 5 failed midway (each thing is listed)"
)]
struct Cli {
    #[command(subcommand)]
    command: Command,
    /// How results are printed
    #[arg(long, global = true, value_name = "FORM", default_value = "text")]
    format: Format,
    /// When to use colours
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto")]
    color: Color,
    /// Tell only results, warnings and errors
    #[arg(short, long, global = true)]
    quiet: bool,
    /// Trace connections and sign-ins on the error output; twice: scripts too
    #[arg(short, long, global = true, action = clap::ArgAction::Count, conflicts_with = "quiet")]
    verbose: u8,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Make key pairs, identify and judge any key
    #[command(subcommand)]
    Key(key::KeyCommand),
    /// Put a public key into an account, and prove that it opens it
    Install(install::InstallArgs),
    /// Take a key out of an account, and prove that it is refused
    Remove(remove::RemoveArgs),
    /// Set modes and owners right, and repair what is certain in key files
    Mend(mend::MendArgs),
    /// Would this key open this account, and if not, which rule refuses it
    Why(why::WhyArgs),
    /// Which settings of the server are in force for a login, and where each comes from
    Settings(settings::SettingsArgs),
    /// Every account's entries, and what is wrong with them and around them
    Audit(audit::AuditArgs),
    /// Ask a host from outside whether it takes a key; changes nothing
    Probe(probe::ProbeArgs),
    /// Begin a register: people, keys, hosts and who may log in where
    Init(init::InitArgs),
    /// The people of the register and their keys
    #[command(subcommand)]
    Person(person::PersonCommand),
    /// The hosts of the register
    #[command(subcommand)]
    Host(host::HostCommand),
    /// Let a person, a team or a machine use an account
    Grant(grant::GrantArgs),
    /// Take a grant back
    Withdraw(grant::WithdrawArgs),
    /// What is wrong with the register, every fault at its place; looks at no host
    Check(check::CheckArgs),
    /// Look at many hosts at once, and remember what is seen
    Survey(survey::SurveyArgs),
    /// What register and hosts disagree on; changes nothing
    Compare(compare::CompareArgs),
    /// Make the hosts match the register, each account as a whole and each host proven from outside
    Enforce(enforce::EnforceArgs),
    /// A person leaves: take their keys from every host, and ask each whether it still takes them
    Offboard(offboard::OffboardArgs),
    /// Build the register from what surveys found, asking once for each key whose it is; changes nothing on any host
    Adopt(adopt::AdoptArgs),
    /// Which entries came and went, what was changed, and who could log in at a time
    History(history::HistoryArgs),
    /// Take back a change that the journal knows, or everything one run changed
    Restore(restore::RestoreArgs),
    /// The whole job, step by step, against a small stand-in server on this machine
    Demo(demo::DemoArgs),
}

/// Runs the command and gives its exit code.
pub fn run() -> Exit {
    let cli = match Cli::try_parse() {
        Ok(cli) => cli,
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
    match dispatch(&cli.command, &ui) {
        Ok(exit) => exit,
        Err(error) => {
            ui.error(&error);
            error.exit
        }
    }
}

fn dispatch(command: &Command, ui: &Ui) -> Result<Exit, CommandError> {
    match command {
        // What needs no network starts no runtime.
        Command::Key(command) => key::run(command, ui),
        Command::Demo(args) => demo::run(args, ui),
        Command::Init(args) => init::run(args, ui),
        Command::Person(command) => person::run(command, ui),
        Command::Host(command) => host::run(command, ui),
        Command::Grant(args) => grant::grant(args, ui),
        Command::Withdraw(args) => grant::withdraw(args, ui),
        Command::Check(args) => check::run(args, ui),
        Command::Adopt(args) => adopt::run(args, ui),
        Command::History(args) => history::run(args, ui),
        Command::Install(args) => block_on(ui, install::run(args, ui)),
        Command::Remove(args) => block_on(ui, remove::run(args, ui)),
        Command::Mend(args) => block_on(ui, mend::run(args, ui)),
        Command::Why(args) => block_on(ui, why::run(args, ui)),
        Command::Settings(args) => block_on(ui, settings::run(args, ui)),
        Command::Audit(args) => block_on(ui, audit::run(args, ui)),
        Command::Compare(args) => block_on(ui, compare::run(args, ui)),
        Command::Enforce(args) => block_on(ui, enforce::run(args, ui)),
        Command::Offboard(args) => block_on(ui, offboard::run(args, ui)),
        Command::Restore(args) => block_on(ui, restore::run(args, ui)),
        Command::Survey(args) => block_on(ui, survey::run(args, ui)),
        Command::Probe(args) => block_on(ui, probe::run(args, ui)),
    }
}

fn block_on(ui: &Ui, work: impl Future<Output = Result<Exit, CommandError>>) -> Result<Exit, CommandError> {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build();
    let runtime = runtime.map_err(|error| CommandError::usage(format!("no threads could be started: {error}")))?;
    runtime.block_on(async {
        // Where nobody can listen a signal ends the program at once, as everywhere.
        let _ = ui.interrupt.listen(crate::ui::tell_that_it_ends);
        work.await
    })
}

#[cfg(test)]
mod tests {
    use super::Cli;
    use clap::CommandFactory as _;

    #[test]
    fn the_command_line_is_consistent() {
        Cli::command().debug_assert();
    }
}
