//! `lavrin completions`: what a shell reads so that it completes commands and the names of the register.

use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use clap::{Args, ValueEnum};

/// What a shell reads so that Tab completes commands, people, hosts, tags, accounts and fingerprints
#[derive(Debug, Args)]
pub struct CompletionsArgs {
    /// The shell
    #[arg(value_name = "SHELL")]
    pub shell: ShellArg,
}

/// The shells that are served.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum ShellArg {
    /// In ~/.bashrc: source <(lavrin completions bash)
    Bash,
    /// In ~/.zshrc: source <(lavrin completions zsh)
    Zsh,
    /// In ~/.config/fish/config.fish: lavrin completions fish | source
    Fish,
}

impl ShellArg {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Bash => "bash",
            Self::Zsh => "zsh",
            Self::Fish => "fish",
        }
    }
}

/// Runs the command.
pub fn run(args: &CompletionsArgs, ui: &Ui) -> Result<Exit, CommandError> {
    ui.part(&crate::cli::completion_script(args.shell.name()));
    Ok(Exit::Done)
}
