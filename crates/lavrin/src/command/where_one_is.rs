//! `lavrin` alone: where one is, and what to type next. It reads what the last audit kept, so that it answers at once however large
//! the register is.

use super::compare::moment;
use super::register::{RegisterArgs, warn_of_faults};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::{Label, Ui};
use crate::{clock, paths};
use lavrin_fleet::register::{Date, Register, SourceFile, read};
use lavrin_keys::text::{count, printable};
use lavrin_server::account::read_passwd;
use lavrin_server::finding::Severity;
use lavrin_store::database::{Database, SeenHosts};
use lavrin_store::register::{MAIN_FILE, RegisterFolder};
use lavrin_work::register::OpenedRegister;
use lavrin_work::standing::FleetStanding;
use serde::Serialize;
use std::os::unix::fs::MetadataExt as _;
use std::path::Path;

/// A register whose files are not longer than this together is read anew: that takes no time.
const SMALL_BYTES: u64 = 200_000;

/// Its people have a file each; so many at most.
const SMALL_FILES: usize = 200;

/// A survey older than this should be made anew, in seconds.
const OLD_SURVEY: i64 = 7 * 86_400;

/// Grants that end within so many days are told.
const SOON_DAYS: i64 = 14;

/// Where the register keeps what is owed.
const OWED_FILE: &str = "owed.toml";

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct WhereOut {
    schema: &'static str,
    register: String,
    folder: String,
    /// Whose it is, where it is somebody else's.
    owner: Option<String>,
    /// `null`: not known before the first audit.
    counts: Option<CountsOut>,
    surveyed: usize,
    /// When the last survey was (RFC 3339).
    last_survey: Option<String>,
    /// When the last audit of everything was, and what it found.
    last_audit: Option<LastAuditOut>,
    owed: usize,
    /// Grants that end within two weeks: the day, and whose.
    ends_soon: Vec<EndingGrantOut>,
    next: String,
}

/// How large the register is.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct CountsOut {
    people: usize,
    hosts: usize,
    grants: usize,
}

/// The last audit of everything.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct LastAuditOut {
    time: String,
    findings: std::collections::BTreeMap<String, usize>,
    not_checked: usize,
}

/// A grant that ends.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct EndingGrantOut {
    day: String,
    whose: String,
}

/// Runs it: without a register a command is missing, so it ends as wrong usage does.
pub fn run(ui: &Ui) -> Result<Exit, CommandError> {
    let Some(folder) = RegisterArgs::default().folder_here()? else {
        ui.show("There is no register here.");
        ui.show("  one server, step by step: lavrin first");
        ui.show("  a register for several:   lavrin register begin DIR");
        ui.show("  see the whole job done:   lavrin demo");
        ui.show("  all commands:             lavrin --help");
        return Ok(Exit::Usage);
    };
    let store = Database::open_existing(folder.path())?;
    let audited = store.as_ref().map(FleetStanding::last).transpose()?.flatten();
    let seen = store.as_ref().map(Database::seen_hosts).transpose()?.unwrap_or_default();
    let (name, now) = now_of(&folder, ui)?;
    let standing = now.or_else(|| audited.clone());
    let owed = part(&folder, ui)?.owed.len();
    let soon = standing.as_ref().map(ends_soon).unwrap_or_default();
    let out = WhereOut {
        schema: "lavrin/where/1",
        register: name,
        folder: paths::shown(folder.path()),
        owner: owner_of(folder.path()),
        counts: standing.as_ref().map(|standing| CountsOut {
            people: standing.people,
            hosts: standing.hosts,
            grants: standing.grants,
        }),
        // One that was taken out of the register is still remembered.
        surveyed: standing.as_ref().map_or(seen.seen, |standing| seen.seen.min(standing.hosts)),
        last_survey: seen.newest.map(clock::text_of),
        last_audit: audited.as_ref().map(|audited| LastAuditOut {
            time: clock::text_of(audited.time),
            findings: audited.findings.clone(),
            not_checked: audited.not_checked,
        }),
        owed,
        next: if ui.is_in_part() {
            "lavrin register check"
        } else {
            next(seen, audited.as_ref(), owed, !soon.is_empty())
        }
        .to_owned(),
        ends_soon: soon,
    };
    ui.give(&out, || text(&out, seen, ui));
    Ok(Exit::Done)
}

/// The register's name; and what it says now, where it is small enough to be read.
fn now_of(folder: &RegisterFolder, ui: &Ui) -> Result<(String, Option<FleetStanding>), CommandError> {
    let small = {
        let length = |name: &str| std::fs::metadata(folder.path().join(name)).map_or(0, |meta| meta.len());
        let files = |name: &str| {
            std::fs::read_dir(folder.path().join(name)).map_or(0, |entries| entries.take(SMALL_FILES + 1).count())
        };
        length("access.toml") + length("hosts.toml") <= SMALL_BYTES && files("people") + files("hosts") <= SMALL_FILES
    };
    if small {
        let opened = OpenedRegister::read(folder.clone())?;
        warn_of_faults(&opened.reading, ui);
        return Ok((opened.register().name.clone(), Some(FleetStanding::of_register(opened.register(), moment()))));
    }
    Ok((part(folder, ui)?.name, None))
}

/// What its main file says, and what is owed.
fn part(folder: &RegisterFolder, ui: &Ui) -> Result<Register, CommandError> {
    let mut files = Vec::new();
    for path in [MAIN_FILE, OWED_FILE] {
        files.extend(folder.text(path)?.map(|text| SourceFile { path: path.to_owned(), text }));
    }
    let reading = read(&files);
    warn_of_faults(&reading, ui);
    Ok(reading.register)
}

/// The name of whoever the folder belongs to, where that is somebody else.
fn owner_of(folder: &Path) -> Option<String> {
    let uid = std::fs::metadata(folder).ok()?.uid();
    if uid == rustix::process::getuid().as_raw() {
        return None;
    }
    let passwd = std::fs::read("/etc/passwd").unwrap_or_default();
    let name = read_passwd(&passwd).into_iter().find(|account| account.uid == uid).map(|account| account.name);
    Some(printable(name.unwrap_or_else(|| uid.to_string()).as_bytes()))
}

fn ends_soon(standing: &FleetStanding) -> Vec<EndingGrantOut> {
    let today = super::register::today();
    let is_soon =
        |day: &str| Date::parse(day).is_some_and(|day| (0..=SOON_DAYS).contains(&(day.number() - today.number())));
    let ends = standing.ends.iter().filter(|(day, _)| is_soon(day));
    ends.map(|(day, whose)| EndingGrantOut { day: day.clone(), whose: printable(whose.as_bytes()) }).collect()
}

/// The one thing to do next.
fn next(seen: SeenHosts, audited: Option<&FleetStanding>, owed: usize, ends: bool) -> &'static str {
    let newest = seen.newest.unwrap_or_default();
    if seen.seen == 0 || clock::unix() - newest > OLD_SURVEY {
        return "lavrin survey";
    }
    let is_urgent = |standing: &FleetStanding| {
        [Severity::Critical, Severity::High].iter().any(|severity| standing.findings.get(severity.name()) > Some(&0))
    };
    match audited {
        None => "lavrin audit",
        Some(audited) if audited.time < newest || is_urgent(audited) => "lavrin audit",
        _ if owed > 0 => "lavrin offboard --status",
        _ if ends => "lavrin register check",
        _ => "lavrin compare",
    }
}

fn text(out: &WhereOut, seen: SeenHosts, ui: &Ui) -> String {
    let owner = out.owner.as_ref().map(|owner| format!(", of {owner}")).unwrap_or_default();
    let mut text = format!("{}{owner}\n", ui.paint(Label::Strong, &format!("{} in {}", out.register, out.folder)));
    let mut line = |text_of: String| text += &format!("  {text_of}\n");
    if let Some(counts) = &out.counts {
        let (people, hosts) = (count(counts.people, "person", "people"), count(counts.hosts, "host", "hosts"));
        line(format!("{people}, {hosts}, {}", count(counts.grants, "grant", "grants")));
    }
    line(match seen.newest {
        Some(last) => format!(
            "{} surveyed, last on {}, {}",
            count(out.surveyed, "host", "hosts"),
            clock::day_of(last),
            clock::ago(last)
        ),
        None => "no host surveyed yet".to_owned(),
    });
    if seen.failed > 0 {
        line(ui.paint(Label::Warn, &format!("the last try failed on {}", count(seen.failed, "host", "hosts"))));
    }
    if let Some(audit) = &out.last_audit {
        let found = Severity::URGENT_FIRST.into_iter().filter_map(|severity| {
            let number = audit.findings.get(severity.name()).copied().filter(|number| *number > 0)?;
            Some(ui.paint(Label::of(severity), &format!("{number} {}", severity.name())))
        });
        let found = found.collect::<Vec<_>>().join(", ");
        let found =
            if found.is_empty() { ui.paint(Label::Good, "nothing found") } else { format!("findings: {found}") };
        line(format!("{found} (audit of {})", audit.time.split('T').next().unwrap_or_default()));
    }
    if out.owed > 0 {
        line(ui.paint(Label::Warn, &format!("owed: {}", count(out.owed, "removal", "removals"))));
    }
    if let Some(first) = out.ends_soon.first() {
        let more = match out.ends_soon.len() - 1 {
            0 => String::new(),
            more => format!(", and {more} more within two weeks"),
        };
        line(format!("ends soon: {} on {}{more}", first.whose, first.day));
    }
    line(format!("next: {}", ui.paint(Label::Type, &out.next)));
    text.trim_end().to_owned()
}
