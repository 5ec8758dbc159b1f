//! The help as manual pages and as one document: the same source as `--help`.

use clap::Command;
use std::fmt::Write as _;
use std::path::Path;

/// The reference: every command with its help.
pub fn reference(command: &Command) -> String {
    let mut text = "# Every command\n\nMade from what `lavrin COMMAND --help` prints.\n\n".to_owned();
    let mut command = command.clone();
    command.build();
    block(&mut text, "lavrin", command.clone());
    let _ = writeln!(text, "## Reaching a host\n\n```text\n{}```\n", plain(&super::help::connection_page(&command)));
    below(&mut text, "lavrin", &command);
    text.trim_end().to_owned() + "\n"
}

fn below(text: &mut String, path: &str, command: &Command) {
    for sub in command.get_subcommands().filter(|sub| !sub.is_hide_set()) {
        let path = format!("{path} {}", sub.get_name());
        if sub.has_subcommands() {
            below(text, &path, sub);
        } else {
            block(text, &path, sub.clone());
        }
    }
}

fn block(text: &mut String, path: &str, command: Command) {
    let help = command.term_width(100).render_long_help().to_string();
    let _ = writeln!(text, "## {path}\n\n```text\n{}```\n", plain(&help));
}

/// Without blanks at the ends of lines.
fn plain(help: &str) -> String {
    help.trim_end().lines().map(|line| format!("{}\n", line.trim_end())).collect()
}

/// Writes a manual page for each command into a folder.
pub fn write(command: &Command, folder: &Path) -> std::io::Result<()> {
    clap_mangen::generate_to(command.clone(), folder)
}
