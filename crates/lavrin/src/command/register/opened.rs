//! What the commands on the register have in common: find it, read it, change a file and show what changed.

use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use crate::{clock, paths};
use clap::Args;
use lavrin_fleet::register::edit::EditFault;
use lavrin_fleet::register::{Date, GrantsFor, Reading};
use lavrin_keys::key::policy::Policy;
use lavrin_store::StoreFault;
use lavrin_store::register::{MAIN_FILE, RegisterFolder, Trust};
pub use lavrin_work::register::OpenedRegister;
use std::path::PathBuf;

/// Which register.
#[derive(Debug, Args, Clone, Default)]
#[command(next_help_heading = "The register")]
pub struct RegisterArgs {
    /// Its folder (default: nearest with lavrin.toml, else `LAVRIN_REGISTER`)
    #[arg(long, value_name = "DIR", value_parser = paths::typed)]
    pub register: Option<PathBuf>,
}

impl RegisterArgs {
    /// One in this folder, or the one that one stands in.
    pub fn of(register: Option<PathBuf>) -> Self {
        Self { register }
    }

    /// Finds the register and reads it, to act on what it says.
    pub fn open(&self) -> Result<OpenedRegister, CommandError> {
        self.trusted(self.find()?)
    }

    /// The same for commands that only report: they warn where part of it cannot be read.
    pub fn open_to_report(&self, ui: &Ui) -> Result<OpenedRegister, CommandError> {
        self.open().inspect(|opened| warn_of_faults(&opened.reading, ui))
    }

    /// The same with the grants that may be about one person or one host.
    pub fn open_for(&self, wanted: GrantsFor<'_>, ui: &Ui) -> Result<&'static OpenedRegister, CommandError> {
        let opened = OpenedRegister::read_some(self.own(self.find()?)?, wanted);
        let opened = opened.inspect(|opened| warn_of_faults(&opened.reading, ui));
        opened.map(|opened| &*until_the_end(opened)).map_err(|fault| unreadable(&fault))
    }

    /// The same without the grants, for those who only ask whose something is.
    pub fn open_without_grants(&self, ui: &Ui) -> Result<OpenedRegister, CommandError> {
        let opened = OpenedRegister::read_without_grants(self.own(self.find()?)?);
        opened.inspect(|opened| warn_of_faults(&opened.reading, ui)).map_err(|fault| unreadable(&fault))
    }

    /// The same for a command that connects to hosts: it tells whose word it follows.
    pub fn open_for_hosts(&self, ui: &Ui) -> Result<OpenedRegister, CommandError> {
        self.open_to_report(ui).inspect(|opened| tell(opened, ui))
    }

    /// The same for one that changes hosts by what it says: it has to read whole.
    pub fn open_to_change_hosts(&self, ui: &Ui) -> Result<OpenedRegister, CommandError> {
        let opened = self.open()?;
        tell(&opened, ui);
        check_reads(&opened)?;
        Ok(opened)
    }

    /// Finds the register and reads it as somebody else's word: nothing is done by it.
    pub fn open_to_judge(&self) -> Result<OpenedRegister, CommandError> {
        OpenedRegister::read(self.find()?).map_err(|fault| unreadable(&fault))
    }

    /// The register that one stands in, read; none where there is none. One that cannot be read is an error: its pins and
    /// its policy must not be passed over in silence.
    pub fn here(&self, ui: &Ui) -> Result<Option<OpenedRegister>, CommandError> {
        let opened = self.read_here()?;
        if let Some(opened) = &opened {
            warn_of_faults(&opened.reading, ui);
        }
        Ok(opened)
    }

    /// The same for a command that connects to a host, unless it works on a tree.
    pub fn here_for_host(
        &self,
        tree: Option<&std::path::Path>,
        ui: &Ui,
    ) -> Result<Option<OpenedRegister>, CommandError> {
        let opened = self.read_here()?;
        if let Some(opened) = &opened {
            if tree.is_none() {
                tell(opened, ui);
            }
            warn_why(&opened.reading, "its rules, pins and settings may be missing here", ui);
        }
        Ok(opened)
    }

    /// Finds the register that one stands in without reading it; one that is somebody else's is an error.
    pub fn folder_here(&self) -> Result<Option<RegisterFolder>, CommandError> {
        self.folder().map(|folder| self.own(folder)).transpose()
    }

    fn read_here(&self) -> Result<Option<OpenedRegister>, CommandError> {
        self.folder().map(|folder| self.trusted(folder)).transpose()
    }

    fn trusted(&self, folder: RegisterFolder) -> Result<OpenedRegister, CommandError> {
        OpenedRegister::read(self.own(folder)?).map_err(|fault| unreadable(&fault))
    }

    fn own(&self, folder: RegisterFolder) -> Result<RegisterFolder, CommandError> {
        // Root's rights that sudo gave are used on behalf of somebody, who could do by them whatever the register says.
        let behind = std::env::var("SUDO_UID").ok().and_then(|uid| uid.parse().ok());
        folder.trusted(Trust::of_user(behind), self.register.is_some()).map_err(|fault| unreadable(&fault))
    }

    /// The register's folder, where there is one.
    pub fn folder(&self) -> Option<RegisterFolder> {
        self.find().ok()
    }

    fn find(&self) -> Result<RegisterFolder, CommandError> {
        let missing = |path: &std::path::Path| {
            CommandError::usage(format!("there is no register in {} (no {MAIN_FILE})", paths::shown(path)))
                .hint(format!("lavrin register begin {}", lavrin_keys::text::shell_word(&paths::shown(path))))
        };
        if let Some(path) = &self.register {
            return RegisterFolder::at(path).ok_or_else(|| missing(path));
        }
        let here = std::env::current_dir().unwrap_or_default();
        if let Some(found) = RegisterFolder::nearest(&here) {
            return Ok(found);
        }
        match std::env::var_os("LAVRIN_REGISTER").map(PathBuf::from) {
            Some(path) => RegisterFolder::at(&path).ok_or_else(|| missing(&path)),
            None => Err(missing(&here).again("or say where it is", "--register DIR")),
        }
    }
}

/// Keeps something large until the program ends, which is soon: to give it back piece by piece would take a while, and nobody needs
/// the memory any more.
pub fn until_the_end<T>(large: T) -> &'static mut T {
    Box::leak(Box::new(large))
}

fn tell(opened: &OpenedRegister, ui: &Ui) {
    let shared = if opened.folder.is_shared() { ", which its group may write" } else { "" };
    // One that cannot be read has no name.
    let name = Some(&opened.register().name).filter(|name| !name.is_empty()).map(|name| format!(" {name}"));
    let name = name.unwrap_or_default();
    ui.status(&format!("register{name} in {}{shared}", paths::shown(opened.folder.path())));
}

/// Warns where part of a register cannot be read: hosts and grants in it are missing, and its people's keys seem to be nobody's.
pub fn warn_of_faults(reading: &Reading, ui: &Ui) {
    warn_why(reading, "this may be incomplete", ui);
}

fn warn_why(reading: &Reading, why: &str, ui: &Ui) {
    if !reading.findings.is_empty() {
        let next = crate::cli::complete("lavrin register check");
        ui.warns_in_part(&format!("the register has faults, so {why}: {next}"));
    }
}

/// Refuses to change hosts by a register that does not read whole: what a faulty file says is not known.
pub fn check_reads(opened: &OpenedRegister) -> Result<(), CommandError> {
    if opened.reading.findings.is_empty() {
        return Ok(());
    }
    Err(CommandError::usage("the register has errors; no host was changed").hint("lavrin register check"))
}

/// A register of which a file cannot be read.
fn unreadable(fault: &StoreFault) -> CommandError {
    let path = lavrin_keys::text::shell_word(&paths::shown(&fault.path));
    CommandError::usage("the register cannot be read").because(fault.to_string()).hint(format!("ls -l {path}"))
}

/// Replaces a file and shows what changed in it. The result has to read, or nothing is written. Gives the register as it is
/// then.
pub fn change_file(opened: &OpenedRegister, ui: &Ui, path: &str, new: &str) -> Result<OpenedRegister, CommandError> {
    let after = opened.with(path, new);
    let before = opened.reading.findings.len();
    if after.reading.findings.len() > before {
        let fault = after.reading.findings.last().map(|finding| crate::wording::register::message(&finding.fault));
        return Err(CommandError::with(Exit::Stopped, "the register would not be in order afterwards")
            .because(fault.unwrap_or_default())
            .because("nothing was changed"));
    }
    let old = opened.text(path);
    opened.folder.save(path, old, new)?;
    ui.status(&paths::shown(&opened.folder.path().join(path)));
    for line in changed_lines(old.unwrap_or_default(), new) {
        // A program reads one object, and nothing before it.
        if ui.is_for_programs() { ui.status(&line.words()) } else { ui.result(&line.words()) }
    }
    Ok(after)
}

/// A line of a file that was changed.
#[derive(Debug, PartialEq, Eq)]
enum ChangedLine {
    Written(String),
    TakenOut(String),
}

impl ChangedLine {
    /// What was written is shown as it stands there.
    fn words(&self) -> String {
        match self {
            Self::Written(line) => line.clone(),
            Self::TakenOut(line) => format!("taken out: {line}"),
        }
    }

    fn is_blank(&self) -> bool {
        let (Self::Written(line) | Self::TakenOut(line)) = self;
        line.is_empty()
    }
}

/// The lines that differ, between what both have at their beginning and at their end.
fn changed_lines(old: &str, new: &str) -> Vec<ChangedLine> {
    let (old, new): (Vec<&str>, Vec<&str>) = (old.lines().collect(), new.lines().collect());
    let mut start = old.iter().zip(&new).take_while(|(a, b)| a == b).count();
    let most = old.len().min(new.len()) - start;
    let end = old.iter().rev().zip(new.iter().rev()).take(most).take_while(|(a, b)| a == b).count();
    let (mut gone, mut come) = (old.len() - end, new.len() - end);
    // Where a block repeats the lines above it, it is the block that begins with a heading which came or went.
    let begins = |lines: &[&str], start: usize| {
        lines.iter().skip(start).find(|line| !line.is_empty()).is_some_and(|line| line.starts_with('['))
    };
    let slides =
        |lines: &[&str], start: usize, last: usize| start > 0 && last > start && lines[start - 1] == lines[last - 1];
    let (lines, last) = if gone == start { (&new, come) } else { (&old, gone) };
    let by = (0..=start)
        .take_while(|by| *by == 0 || ((gone == start || come == start) && slides(lines, start + 1 - by, last + 1 - by)))
        .find(|by| begins(lines, start - by));
    let by = by.unwrap_or_default();
    (start, gone, come) = (start - by, gone - by, come - by);
    let gone = old[start..gone].iter().map(|line| ChangedLine::TakenOut((*line).to_owned()));
    let come = new[start..come].iter().map(|line| ChangedLine::Written((*line).to_owned()));
    gone.chain(come).filter(|line| !line.is_blank()).collect()
}

/// What is asked of keys and modes: by the register, where one stands in one.
pub fn policy(opened: Option<&OpenedRegister>) -> Policy {
    opened.map(|opened| opened.register().rules.policy.clone()).unwrap_or_default()
}

/// Today.
pub fn today() -> Date {
    let date = clock::now().date();
    let year = u16::try_from(date.year()).unwrap_or_default();
    Date { year, month: date.month().into(), day: date.day() }
}

/// A date that was typed.
pub fn typed_date(text: &str) -> Result<Date, String> {
    Date::parse(text).ok_or_else(|| format!("'{text}' is not a date; write it as 2027-01-31"))
}

/// A name for a person, host, team or tag that was typed.
pub fn typed_id(text: &str) -> Result<String, String> {
    if lavrin_fleet::register::is_id(text) {
        return Ok(text.to_owned());
    }
    Err(format!("'{text}' cannot be a name here: small letters, digits, dots and dashes, up to 64 of them"))
}

/// An edit that could not be made.
pub fn edit_fault(path: &str) -> impl FnOnce(EditFault) -> CommandError {
    let path = path.to_owned();
    move |fault| {
        CommandError::usage(format!("{path} could not be changed: {}", crate::wording::register::edit(&fault)))
            .hint("lavrin register check")
    }
}

#[cfg(test)]
mod tests {
    use super::changed_lines;

    #[test]
    fn a_block_is_told_from_its_beginning() {
        let told =
            |old: &str, new: &str| changed_lines(old, new).iter().map(super::ChangedLine::words).collect::<Vec<_>>();
        assert_eq!(told("[a]\nx\n[a]\nz\n", "[a]\nz\n"), ["taken out: [a]", "taken out: x"]);
        assert_eq!(told("[a]\nz\n", "[a]\nx\n[a]\nz\n"), ["[a]", "x"]);
        // A host whose last lines are those of the host before it.
        assert_eq!(told("[a]\nx\nt\n", "[a]\nx\nt\n[b]\ny\nt\n"), ["[b]", "y", "t"]);
        assert_eq!(told("a\nb\nc\n", "a\nx\nc\n"), ["taken out: b", "x"]);
        assert_eq!(told("", "a\n"), ["a"]);
    }
}
