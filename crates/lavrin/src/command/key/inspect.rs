//! `lavrin key inspect`: what each thing in a file or a paste is, and what is weak about it.

mod out;
mod seen;
mod text;

#[cfg(test)]
pub use out::InspectOut;
pub use seen::{Inspection, SeenKind};

use crate::error::CommandError;
use crate::exit::Exit;
use crate::paths;
use crate::secret::PassphraseArgs;
use crate::severity_arg::FailOn;
use crate::ui::Ui;
use clap::Args;
use std::path::PathBuf;

/// Say what files hold: kind, container, algorithm, size, comment, protection, fingerprints, and what is weak
#[derive(Debug, Args)]
pub struct InspectArgs {
    /// Files or folders with keys; - for a paste on standard input
    #[arg(value_name = "FILE", required = true, value_parser = paths::typed)]
    pub files: Vec<PathBuf>,
    /// Exit with 1 where a finding is at least this severe
    #[arg(long, value_name = "SEVERITY", default_value = "medium")]
    pub fail_on: FailOn,
    /// Do not compare all RSA keys with each other (quick look at very many)
    #[arg(long)]
    pub no_cross_check: bool,
    #[command(flatten)]
    passphrase: PassphraseArgs,
}

/// Runs the command.
pub fn run(args: &InspectArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let mut seen = Inspection::new(args.passphrase.given(), !args.no_cross_check, ui)?;
    if ui.is_json() {
        let mut printer = out::Printer::begin(ui);
        seen.look(&args.files, &mut |some| {
            printer.keys(some);
            some.let_go();
        });
        printer.end(&seen);
    } else {
        let mut printer = text::ListPrinter::new(ui);
        seen.look(&args.files, &mut |some| printer.keys(some));
        printer.end(&seen);
    }
    Ok(if !seen.rejected.is_empty() {
        Exit::Usage
    } else if seen.found.keys().any(|severity| *severity >= args.fail_on.severity()) {
        Exit::Findings
    } else {
        Exit::Done
    })
}
