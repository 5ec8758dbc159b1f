//! `lavrin register begin`: begin a register.

use crate::error::CommandError;
use crate::exit::Exit;
use crate::paths;
use crate::ui::{Label, Ui};
use clap::Args;
use lavrin_fleet::register::SourceFile;
use lavrin_keys::text::shell_word;
use lavrin_store::register::RegisterFolder;
use std::path::PathBuf;

/// Begin a register: people, keys, hosts and who may log in where
#[derive(Debug, Args)]
pub struct BeginArgs {
    /// Its folder
    #[arg(value_name = "DIR", default_value = ".", value_parser = paths::typed)]
    pub folder: PathBuf,
    /// What it is called
    #[arg(long, value_name = "NAME", default_value = "our hosts")]
    pub name: String,
}

/// Runs the command.
pub fn run(args: &BeginArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let files = [
        (
            "lavrin.toml",
            include_str!("templates/lavrin.toml").replace("NAME", &args.name.replace(['"', '\\', '\n'], " ")),
        ),
        ("hosts.toml", include_str!("templates/hosts.toml").to_owned()),
        ("access.toml", include_str!("templates/access.toml").to_owned()),
        ("people/README.md", include_str!("templates/people.md").to_owned()),
        (".gitignore", ".lavrin/\n".to_owned()),
    ];
    let files = files.map(|(path, text)| SourceFile { path: path.to_owned(), text });
    let folder = RegisterFolder::begin(&args.folder, &files).map_err(|fault| {
        let path = paths::shown(&fault.path);
        CommandError::with(Exit::Stopped, format!("no register was begun: {path}: {}", fault.source))
    })?;
    let shown = paths::shown(folder.path());
    ui.result(&ui.paint(Label::Good, &format!("Begun: a register in {shown}")));
    for file in &files {
        ui.result(&format!("  {}", file.path));
    }
    let there = if shown == "." { String::new() } else { format!(" --register {}", shell_word(&shown)) };
    ui.status("It is made for version control: put all of it there. Next:");
    for line in [
        "lavrin person add edda --key edda.pub",
        "lavrin host add lantern --address 192.0.2.7",
        "lavrin grant edda keeper --host lantern",
        "lavrin register check",
    ] {
        ui.status(&format!("  {line}{there}"));
    }
    Ok(Exit::Done)
}
