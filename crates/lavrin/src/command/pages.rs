//! `lavrin pages`: manual pages, completions and the reference as files, for whoever packages the program.

use crate::cli;
use crate::command::completions::ShellArg;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::paths;
use crate::ui::Ui;
use clap::{Args, ValueEnum as _};
use std::path::PathBuf;

/// Write manual pages (man1/), completions (completions/) and the reference into a folder
#[derive(Debug, Args)]
pub struct PagesArgs {
    /// The folder
    #[arg(value_name = "DIR", value_parser = paths::typed)]
    pub folder: PathBuf,
}

/// Runs the command.
pub fn run(args: &PagesArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let (manual, completions) = (args.folder.join("man1"), args.folder.join("completions"));
    for folder in [&manual, &completions] {
        std::fs::create_dir_all(folder).map_err(|error| CommandError::file(folder, "make the folder", &error))?;
    }
    cli::write_manual(&manual).map_err(|error| CommandError::file(&manual, "write", &error))?;
    for shell in ShellArg::value_variants() {
        let path = completions.join(format!("lavrin.{}", shell.name()));
        std::fs::write(&path, cli::completion_script(shell.name()))
            .map_err(|error| CommandError::file(&path, "write", &error))?;
    }
    let path = args.folder.join("reference.md");
    std::fs::write(&path, cli::reference()).map_err(|error| CommandError::file(&path, "write", &error))?;
    ui.result(&format!("manual pages and completions are in {}", paths::shown(&args.folder)));
    Ok(Exit::Done)
}
