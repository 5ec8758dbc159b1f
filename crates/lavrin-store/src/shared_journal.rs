//! The journal as files of the register, so that version control carries it: one file for each run, only ever appended to, and what
//! was replaced once by its hash. Files never conflict, since no two runs write one. Each line holds the hash of the line before it in
//! its file, and of the last line about the same host that was known when it was written: that tells which came first, also where two
//! copies of the register went on beside each other.

use crate::register::RegisterFolder;
use crate::{Event, JournalEntry, StoreFault};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use lavrin_server::survey::snapshot::hash;
use serde::{Deserialize, Serialize};
use std::cell::RefCell;
use std::collections::{HashMap, HashSet};
use std::hash::{BuildHasher as _, Hasher as _};
use std::io::Error;
use std::path::Path;

/// Where the runs are, and where what they replaced is.
const RUNS: &str = "journal";
const CONTENTS: &str = "contents";

/// A line of a file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct SharedLine {
    /// The hash of this line.
    hash: String,
    /// Of the line before it in this file.
    before: Option<String>,
    /// Of the last line about the same host, in whatever file.
    after: Option<String>,
    /// What happened.
    entry: JournalEntry,
}

impl SharedLine {
    fn new(before: Option<String>, after: Option<String>, entry: JournalEntry) -> Self {
        let hash = Self::hash_of(before.as_deref(), after.as_deref(), &entry);
        Self { hash, before, after, entry }
    }

    fn hash_of(before: Option<&str>, after: Option<&str>, entry: &JournalEntry) -> String {
        let entry = serde_json::to_string(entry).expect("these types have only text keys");
        let text = format!("{}\n{}\n{entry}", before.unwrap_or("-"), after.unwrap_or("-"));
        hash(text.as_bytes()).iter().map(|byte| format!("{byte:02x}")).collect()
    }

    fn is_whole(&self) -> bool {
        self.hash == Self::hash_of(self.before.as_deref(), self.after.as_deref(), &self.entry)
    }
}

/// A file, and its lines as far as they read.
type ReadFile = (String, Vec<Option<SharedLine>>);

/// What is known of the files.
#[derive(Debug, Default)]
struct KnownLines {
    is_read: bool,
    /// The last line about each place.
    last: HashMap<String, String>,
    /// The place of each change.
    places: HashMap<String, String>,
    /// The file of this run, and its last line.
    own: Option<(String, String)>,
}

/// The journal in a register.
#[derive(Debug)]
pub(crate) struct SharedJournal {
    folder: RegisterFolder,
    known: RefCell<KnownLines>,
}

/// A line that does not fit: its file, its number, and why.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SharedFault {
    /// The file.
    pub file: String,
    /// The line, counted from 1.
    pub line: usize,
    /// What is wrong with it.
    pub kind: SharedFaultKind,
}

/// What is wrong with a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SharedFaultKind {
    /// It is no line of a journal.
    Unreadable,
    /// It was changed.
    Changed,
    /// The line before it in the file is not the one that it was written behind.
    NotBehind,
    /// The line about the same host that it was written after is in no file.
    Missing,
}

impl SharedJournal {
    /// The one of the register in this folder.
    pub(crate) fn at(register: &Path) -> Option<Self> {
        Some(Self { folder: RegisterFolder::at(register)?, known: RefCell::default() })
    }

    /// Whether any run is there.
    pub(crate) fn is_there(&self) -> bool {
        self.folder.names_in(RUNS).is_ok_and(|names| names.iter().any(|name| name.ends_with(".jsonl")))
    }

    /// Appends a line to the file of this run.
    pub(crate) fn write_down(&self, entry: &JournalEntry) -> Result<(), StoreFault> {
        self.learn()?;
        let mut known = self.known.borrow_mut();
        let place = place_of(entry, &known.places);
        let after = place.as_ref().and_then(|place| known.last.get(place).cloned());
        let (file, before) = match &known.own {
            Some((file, last)) => (file.clone(), Some(last.clone())),
            None => (name_of_run(entry), None),
        };
        let line = SharedLine::new(before, after, entry.clone());
        let text = serde_json::to_string(&line).expect("these types have only text keys") + "\n";
        self.folder.append(&format!("{RUNS}/{file}"), &text)?;
        known.own = Some((file, line.hash.clone()));
        known.note(&line);
        Ok(())
    }

    /// Keeps what is replaced, once.
    pub(crate) fn keep(&self, name: &str, bytes: &[u8]) -> Result<(), StoreFault> {
        let (ending, text) = match std::str::from_utf8(bytes) {
            Ok(text) => ("txt", text.to_owned()),
            Err(_) => ("b64", STANDARD.encode(bytes) + "\n"),
        };
        let path = format!("{CONTENTS}/{name}.{ending}");
        if self.folder.text(&path)?.as_deref() == Some(&text) {
            return Ok(());
        }
        self.folder.save(&path, None, &text)
    }

    /// What was kept under a name, where that is what is there.
    pub(crate) fn kept(&self, name: &str) -> Result<Option<Vec<u8>>, StoreFault> {
        let text = self.folder.text(&format!("{CONTENTS}/{name}.txt"))?.map(String::into_bytes);
        let coded = || {
            let text = self.folder.text(&format!("{CONTENTS}/{name}.b64"))?;
            Ok(text.and_then(|text| STANDARD.decode(text.trim_end()).ok()))
        };
        let found = match text {
            Some(bytes) => Some(bytes),
            None => coded()?,
        };
        Ok(found.filter(|bytes| crate::backup::name_of(bytes) == name))
    }

    /// Every line, each behind those that it was written after; beside that by time.
    pub(crate) fn lines(&self) -> Result<Vec<JournalEntry>, StoreFault> {
        let mut files = self.files()?;
        let mut all: Vec<SharedLine> = Vec::new();
        for (file, lines) in &mut files {
            for (number, line) in lines.drain(..).enumerate() {
                let source = || Error::other(format!("line {} is no line of a journal", number + 1));
                all.push(line.ok_or_else(|| self.fault(file, source()))?);
            }
        }
        all.sort_by(|one, other| one.entry.time.cmp(&other.entry.time));
        Ok(in_order(all).into_iter().map(|line| line.entry).collect())
    }

    /// What does not fit, in all files.
    pub(crate) fn check(&self) -> Result<(usize, Vec<SharedFault>), StoreFault> {
        let files = self.files()?;
        let hashes: HashSet<&str> =
            files.iter().flat_map(|(_, lines)| lines).flatten().map(|line| line.hash.as_str()).collect();
        let (mut count, mut faults) = (0, Vec::new());
        for (file, lines) in &files {
            let mut before: Option<&str> = None;
            for (number, line) in lines.iter().enumerate() {
                count += 1;
                let kind = match line {
                    None => Some(SharedFaultKind::Unreadable),
                    Some(line) if !line.is_whole() => Some(SharedFaultKind::Changed),
                    Some(line) if line.before.as_deref() != before => Some(SharedFaultKind::NotBehind),
                    Some(line) if line.after.as_deref().is_some_and(|after| !hashes.contains(after)) => {
                        Some(SharedFaultKind::Missing)
                    }
                    Some(_) => None,
                };
                faults.extend(kind.map(|kind| SharedFault { file: file.clone(), line: number + 1, kind }));
                before = line.as_ref().map(|line| line.hash.as_str());
            }
        }
        Ok((count, faults))
    }

    fn fault(&self, file: &str, source: Error) -> StoreFault {
        StoreFault { path: self.folder.path().join(RUNS).join(file), source }
    }

    /// Each file with its lines; one that does not read is none.
    fn files(&self) -> Result<Vec<ReadFile>, StoreFault> {
        let mut files = Vec::new();
        for name in self.folder.names_in(RUNS)? {
            if name.ends_with(".jsonl")
                && let Some(text) = self.folder.text(&format!("{RUNS}/{name}"))?
            {
                files.push((name, text.lines().map(|line| serde_json::from_str(line).ok()).collect()));
            }
        }
        Ok(files)
    }

    /// What the files say already, once.
    fn learn(&self) -> Result<(), StoreFault> {
        if self.known.borrow().is_read {
            return Ok(());
        }
        let mut all: Vec<SharedLine> = self.files()?.into_iter().flat_map(|(_, lines)| lines).flatten().collect();
        all.sort_by(|one, other| one.entry.time.cmp(&other.entry.time));
        let mut known = self.known.borrow_mut();
        for line in in_order(all) {
            known.note(&line);
        }
        known.is_read = true;
        Ok(())
    }
}

impl KnownLines {
    fn note(&mut self, line: &SharedLine) {
        if let Some(place) = place_of(&line.entry, &self.places) {
            self.places.insert(line.entry.id.clone(), place.clone());
            self.last.insert(place, line.hash.clone());
        }
    }
}

/// The host that a line is about. An outcome says only which change it ends.
fn place_of(entry: &JournalEntry, places: &HashMap<String, String>) -> Option<String> {
    match &entry.event {
        Event::Intent { place, .. } => Some(place.clone()),
        Event::Kept { host, .. } => Some(host.clone()),
        Event::Outcome { .. } => places.get(&entry.id).cloned(),
    }
}

/// A name that no other run has: its time, and something random.
fn name_of_run(entry: &JournalEntry) -> String {
    let digits: String = entry.time.chars().filter(char::is_ascii_digit).take(14).collect();
    let random = std::collections::hash_map::RandomState::new().build_hasher().finish();
    format!("{digits}-{:08x}.jsonl", random & 0xffff_ffff)
}

/// The lines in their order, but each behind those that it names.
fn in_order(lines: Vec<SharedLine>) -> Vec<SharedLine> {
    let places: HashMap<&str, usize> =
        lines.iter().enumerate().map(|(number, line)| (line.hash.as_str(), number)).collect();
    let named = |line: &SharedLine| {
        let both = [line.before.as_deref(), line.after.as_deref()];
        both.into_iter().flatten().filter_map(|hash| places.get(hash).copied()).collect::<Vec<usize>>()
    };
    let (mut done, mut order) = (vec![false; lines.len()], Vec::with_capacity(lines.len()));
    for first in 0..lines.len() {
        // What has to come before is put there first; a hash cannot name what names it.
        let mut open = vec![first];
        while let Some(&next) = open.last() {
            let missing = named(&lines[next]).into_iter().find(|before| !done[*before] && !open.contains(before));
            if let Some(before) = missing.filter(|_| !done[next]) {
                open.push(before);
                continue;
            }
            open.pop();
            if !done[next] {
                done[next] = true;
                order.push(next);
            }
        }
    }
    let mut lines: Vec<Option<SharedLine>> = lines.into_iter().map(Some).collect();
    order.into_iter().filter_map(|number| lines[number].take()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ChangeOutcome;
    use SharedFaultKind::{Changed, NotBehind, Unreadable};

    fn intent(id: &str, time: &str, place: &str) -> JournalEntry {
        let event = Event::Intent {
            command: "install".to_owned(),
            place: place.to_owned(),
            account: "edda".to_owned(),
            login: None,
            key: None,
            files: Vec::new(),
            reason: None,
            run: None,
            came: Vec::new(),
            gone: Vec::new(),
            changes: Vec::new(),
        };
        JournalEntry::new(id, time, event)
    }

    fn outcome(id: &str, time: &str) -> JournalEntry {
        let event = Event::Outcome { outcome: ChangeOutcome::Done, detail: String::new() };
        JournalEntry::new(id, time, event)
    }

    fn register() -> tempfile::TempDir {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("lavrin.toml"), "name = \"x\"\n").unwrap();
        folder
    }

    fn ids(journal: &SharedJournal) -> Vec<String> {
        journal.lines().unwrap().into_iter().map(|entry| entry.id).collect()
    }

    /// Copies the files of one register to another one, as version control does.
    fn merge(from: &Path, to: &Path) {
        for folder in [RUNS, CONTENTS] {
            let _ = std::fs::create_dir(to.join(folder));
            for entry in std::fs::read_dir(from.join(folder)).into_iter().flatten().flatten() {
                let target = to.join(folder).join(entry.file_name());
                assert!(!target.exists() || std::fs::read(&target).unwrap() == std::fs::read(entry.path()).unwrap());
                std::fs::copy(entry.path(), target).unwrap();
            }
        }
    }

    #[test]
    fn two_copies_that_both_went_on_are_joined_without_loss() {
        let (one, two) = (register(), register());
        let first = SharedJournal::at(one.path()).unwrap();
        first.write_down(&intent("a", "2026-11-23T08:00:00Z", "lantern")).unwrap();
        first.write_down(&outcome("a", "2026-11-23T08:00:01Z")).unwrap();
        merge(one.path(), two.path());
        // The other desk's clock is an hour behind: what it does comes after what it knows all the same.
        let second = SharedJournal::at(two.path()).unwrap();
        second.write_down(&intent("b", "2026-11-23T07:30:00Z", "lantern")).unwrap();
        second.write_down(&outcome("b", "2026-11-23T07:30:01Z")).unwrap();
        let later = SharedJournal::at(one.path()).unwrap();
        later.write_down(&intent("c", "2026-11-23T08:10:00Z", "skerry")).unwrap();
        merge(one.path(), two.path());
        merge(two.path(), one.path());
        for folder in [&one, &two] {
            let journal = SharedJournal::at(folder.path()).unwrap();
            assert_eq!(ids(&journal), ["a", "a", "b", "b", "c"]);
            assert_eq!(journal.check().unwrap(), (5, Vec::new()));
        }
    }

    #[test]
    fn a_line_that_was_changed_taken_out_or_put_in_is_found() {
        let kinds = |change: &dyn Fn(&str) -> String| {
            let folder = register();
            let journal = SharedJournal::at(folder.path()).unwrap();
            for id in ["a", "b", "c"] {
                journal.write_down(&intent(id, "2026-11-23T08:00:00Z", "lantern")).unwrap();
            }
            let name = journal.folder.names_in(RUNS).unwrap().pop().unwrap();
            let path = folder.path().join(RUNS).join(name);
            std::fs::write(&path, change(&std::fs::read_to_string(&path).unwrap())).unwrap();
            journal.check().unwrap().1.into_iter().map(|fault| (fault.line, fault.kind)).collect::<Vec<_>>()
        };
        assert_eq!(kinds(&str::to_owned), []);
        assert_eq!(kinds(&|text| text.replacen("edda", "sten", 1)), [(1, Changed)]);
        let without =
            |text: &str| text.lines().enumerate().filter(|(n, _)| *n != 1).map(|(_, l)| format!("{l}\n")).collect();
        assert_eq!(kinds(&without), [(2, NotBehind)]);
        assert_eq!(kinds(&|text| text.to_owned() + "{}\n"), [(4, Unreadable)]);
    }

    #[test]
    fn what_was_replaced_is_found_under_its_hash_and_nothing_else() {
        let folder = register();
        let journal = SharedJournal::at(folder.path()).unwrap();
        for bytes in [&b"old\n"[..], b"\xff\x00", b""] {
            let name = crate::backup::name_of(bytes);
            journal.keep(&name, bytes).unwrap();
            journal.keep(&name, bytes).unwrap();
            assert_eq!(journal.kept(&name).unwrap().as_deref(), Some(bytes));
        }
        let name = crate::backup::name_of(b"old\n");
        std::fs::write(folder.path().join(CONTENTS).join(format!("{name}.txt")), "other\n").unwrap();
        assert_eq!(journal.kept(&name).unwrap(), None);
    }
}
