//! `lavrin report`: the page to look at, made from what surveys saw.

mod counts;
mod gather;
mod through;

use super::history::day::typed_day;
use super::matrix::moment_of;
use super::register::{OpenedRegister, RegisterArgs};
use super::survey::hosts_named;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::out_file::OutFile;
use crate::ui::{Label, Ui};
use crate::{clock, paths};
use clap::Args;
use gather::Gathered;
use lavrin_fleet::register::{Date, Host};
use lavrin_keys::text::count;
use lavrin_store::database::Database;
use serde::Serialize;
use std::path::PathBuf;

/// A page to look at: who gets in where, how strong and how old the keys are, what is wrong, what follows if a host is lost
#[derive(Debug, Args)]
pub struct ReportArgs {
    /// The file to write; it needs nothing else, and holds no secret
    #[arg(long, value_name = "FILE.html", value_parser = paths::typed)]
    pub out: PathBuf,
    /// As it was at the end of this day: 2026-10-10, yesterday, '3 days ago'
    #[arg(long, value_name = "DAY", value_parser = typed_day)]
    pub at: Option<Date>,
    /// Only this host; may be repeated
    #[arg(long, value_name = "HOST")]
    pub host: Vec<String>,
    /// Only hosts with this tag; may be repeated
    #[arg(long, value_name = "TAG")]
    pub tag: Vec<String>,
    /// Draw the ways through from this host; may be repeated (default: those from which most is reached)
    #[arg(long, value_name = "HOST")]
    pub paths_from: Vec<String>,
    /// If the file exists, move it aside under a dated name
    #[arg(long)]
    pub replace: bool,
    #[command(flatten)]
    register: RegisterArgs,
}

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ReportOut {
    schema: &'static str,
    /// The file that was written.
    file: String,
    /// Its length in bytes.
    bytes: u64,
    /// Where the one that was there before is now.
    moved_aside: Option<String>,
    /// The moment it is about (RFC 3339).
    at: String,
    hosts: usize,
    /// Hosts that were seen by then.
    seen: usize,
    entries: usize,
    findings: counts::SeverityCounts,
    /// Ways in that the register does not know.
    not_registered: usize,
    /// Ways in that the register asks for and that are not there.
    missing: usize,
}

/// Runs the command.
pub fn run(args: &ReportArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let place = OutFile::of(&args.out, args.replace)?;
    let opened = args.register.open_to_report(ui)?;
    let hosts = meant(args, &opened)?;
    let now = moment_of(args.at);
    // Only where something is remembered can a report be noted beside it.
    let store = Database::open_existing(opened.folder.path())?;
    let gathered = Gathered::of(&opened, &hosts, store.as_ref(), (now, args.at.is_some()), args)?;
    let bytes = place.write(|out| gathered.page.write(out))?;
    let summary = &gathered.page.summary;
    // The next report tells what changed since this one, where this one is whole.
    if let Some(store) = store.as_ref().filter(|_| args.at.is_none() && !ui.is_in_part()) {
        gathered.note(store, now.time)?;
    }
    let out = ReportOut {
        schema: "lavrin/report/1",
        file: args.out.to_string_lossy().into_owned(),
        bytes: bytes.length,
        moved_aside: bytes.moved_aside.map(|path| path.to_string_lossy().into_owned()),
        at: clock::text_of(now.time),
        hosts: hosts.len(),
        seen: summary.seen,
        entries: summary.entries,
        findings: gathered.numbers.findings.clone(),
        not_registered: summary.differing.0,
        missing: summary.differing.1,
    };
    ui.give(&out, || text(&out, args, ui));
    Ok(if summary.never_seen.is_empty() && summary.in_part == 0 { Exit::Done } else { Exit::NotChecked })
}

/// The hosts that it is about.
fn meant<'a>(args: &ReportArgs, opened: &'a OpenedRegister) -> Result<Vec<&'a Host>, CommandError> {
    let names: Vec<String> = args.host.iter().chain(&args.tag).cloned().collect();
    hosts_named(opened.register(), &args.paths_from)?;
    hosts_named(opened.register(), &names)
}

fn text(out: &ReportOut, args: &ReportArgs, ui: &Ui) -> String {
    let size = if out.bytes < 1 << 20 {
        format!("{} KB", out.bytes.div_ceil(1024))
    } else {
        format!("{}.{} MB", out.bytes >> 20, ((out.bytes % (1 << 20)) * 10) >> 20)
    };
    let mut text = format!("{} ({size})\n", ui.paint(Label::Strong, &paths::shown(&args.out)));
    if let Some(aside) = &out.moved_aside {
        text += &format!("  the one before is now {}\n", paths::shown(std::path::Path::new(aside)));
    }
    let seen = if out.seen == out.hosts { String::new() } else { format!(", {} of them seen", out.seen) };
    text += &format!(
        "  {}{seen}, {}; {}\n",
        count(out.hosts, "host", "hosts"),
        count(out.entries, "entry", "entries"),
        out.findings.words()
    );
    text + &format!("  {} not registered, {} missing", out.not_registered, out.missing)
}
