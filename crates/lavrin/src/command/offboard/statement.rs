//! The statement of a leaving: what was done, what was read back, what is owed; for people and for programs, and signed.

use super::kept::KeptKnownOut;
use super::left_behind::LeftBehindOut;
use super::out::RowOut;
use crate::command::agent;
use crate::command::key::pair::put_file;
use crate::command::register::{OpenedRegister, today};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::secret::Given;
use crate::signing::SigningKey;
use crate::table::columns;
use crate::ui::Ui;
use crate::{clock, input, paths};
use clap::Args;
use lavrin_fleet::fleet::{Index, Owner};
use lavrin_fleet::register::{Person, Register};
use lavrin_keys::key::Fingerprint;
use lavrin_keys::text::{count, shell_word};
use lavrin_server::survey::snapshot::hash;
use lavrin_store::register::commit;
use lavrin_work::offboard::Leaver;
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// What statements are signed for.
pub const NAMESPACE: &str = "statement@lavrin";

/// What stands in front of the hash of the part for programs, in the part for people.
pub const HASH_MARK: &str = "SHA-256 ";

/// Whether and how a statement is written.
#[derive(Debug, Args, Clone, Default)]
pub struct StatementArgs {
    /// Write a signed statement: FILE, FILE.json, FILE.sig
    #[arg(long, value_name = "FILE", value_parser = paths::typed)]
    pub statement: Option<PathBuf>,
    /// Key that signs it (default: --identity, or the agent)
    #[arg(long, value_name = "FILE", value_parser = paths::typed, requires = "statement")]
    pub sign_with: Option<PathBuf>,
}

/// A statement that can be written once all is done.
pub struct Prepared {
    path: PathBuf,
    key: SigningKey,
    /// Who signs.
    by: String,
}

/// The part for programs.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct StatementOut<'a> {
    schema: &'static str,
    person: &'a str,
    /// The full name.
    name: &'a str,
    /// From which day on the person is gone.
    left: String,
    /// The fingerprints of all their keys, retired ones too.
    keys: Vec<String>,
    made: MadeOut,
    register: RegisterVersionOut,
    /// What ties the changes of the run together.
    run: &'a str,
    /// One row for each key in each account, and for hosts that were not reached.
    rows: Vec<RowOut>,
    /// Kept keys of which the person may have a copy.
    kept: &'a [KeptKnownOut],
    /// Sessions, copies of keys and own accounts that were found.
    left_behind: &'a [LeftBehindOut],
    /// Removals that are owed.
    owed: usize,
}

/// When the statement was made, and by whom.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct MadeOut {
    /// RFC 3339, in UTC.
    time: String,
    /// By the register.
    by: String,
    /// The key that signs.
    key: String,
}

/// Which version of the register it is about.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct RegisterVersionOut {
    name: String,
    /// The commit that its folder is at, where it is under version control by git.
    commit: Option<String>,
    /// The SHA-256 over its files as they were when the leaving ended, in hexadecimal.
    files: String,
}

/// What a statement tells.
pub struct StatedLeaving<'a> {
    pub leaver: &'a Leaver,
    pub run: &'a str,
    pub rows: Vec<RowOut>,
    pub kept: &'a [KeptKnownOut],
    pub left_behind: &'a [LeftBehindOut],
    pub owed: usize,
}

/// Finds out, before anything is changed, whether a statement can be written and signed.
pub async fn prepare(
    args: &StatementArgs,
    identity: Option<&PathBuf>,
    given: &Given,
    opened: &OpenedRegister,
    leaver: &str,
) -> Result<Option<Prepared>, CommandError> {
    let Some(path) = &args.statement else { return Ok(None) };
    for path in [path.clone(), beside(path, "json"), beside(path, "sig")] {
        if path.symlink_metadata().is_ok() {
            let said = format!("{} is there already and is not overwritten; nothing was changed", paths::shown(&path));
            return Err(CommandError::usage(said).again("", "--statement NEW-FILE"));
        }
    }
    let register = opened.register();
    let (key, print) = match args.sign_with.as_ref().or(identity) {
        Some(path) => {
            let key = Arc::new(input::private_key(path, given)?);
            let print = key.public().fingerprint();
            (SigningKey::Private(key), print)
        }
        None => of_agent(register, leaver).await?,
    };
    let by = signer(register, print, leaver).ok_or_else(|| {
        CommandError::with(Exit::Stopped, format!("{print} cannot sign a statement"))
            .because(
                "it is no key in use of a person in the register other than the one who leaves; nothing was changed",
            )
            .again("", "--sign-with FILE")
    })?;
    Ok(Some(Prepared { path: path.clone(), key, by }))
}

/// A key of the agent that belongs to somebody who is there.
async fn of_agent(register: &Register, leaver: &str) -> Result<(SigningKey, Fingerprint), CommandError> {
    let none = || {
        CommandError::usage("no key is at hand to sign the statement with; nothing was changed")
            .again("", "--sign-with FILE")
    };
    let Ok(socket) = agent::SocketArgs { socket: None }.get() else { return Err(none()) };
    let held = lavrin_reach::agent::held(&socket).await.map_err(|why| agent::fault(&why))?;
    let mut keys = agent::keys(&held).map(|(key, _)| key.clone());
    let key = keys.find(|key| signer(register, key.fingerprint(), leaver).is_some()).ok_or_else(none)?;
    let print = key.fingerprint();
    Ok((SigningKey::Agent { socket, key }, print))
}

/// The person whose key this is, where they can sign.
fn signer(register: &Register, key: Fingerprint, leaver: &str) -> Option<String> {
    let index = Index::of(register);
    let owner = index.owner(key)?;
    let Owner::Person { id, .. } = owner else { return None };
    let person: &Person = register.people.get(id)?;
    let is_there = !person.has_left(today()) && id != leaver && index.key(owner)?.is_active(today());
    is_there.then(|| id.clone())
}

/// `FILE.json` for `FILE`.
pub fn beside(path: &Path, ending: &str) -> PathBuf {
    let mut name = path.as_os_str().to_owned();
    name.push(".");
    name.push(ending);
    PathBuf::from(name)
}

impl Prepared {
    /// Writes the three files.
    pub async fn write(self, told: StatedLeaving<'_>, opened: &OpenedRegister, ui: &Ui) -> Result<(), CommandError> {
        let register = opened.register();
        let name = register.people.get(&told.leaver.id).map_or(told.leaver.id.as_str(), |person| person.name.as_str());
        let out = StatementOut {
            schema: "lavrin/statement/1",
            person: &told.leaver.id,
            name,
            left: told.leaver.left.to_string(),
            keys: told.leaver.prints.iter().map(ToString::to_string).collect(),
            made: MadeOut {
                time: clock::timestamp(),
                by: self.by.clone(),
                key: self.key.public().fingerprint().to_string(),
            },
            register: RegisterVersionOut {
                name: register.name.clone(),
                commit: commit(opened.folder.path()),
                files: files_hash(opened),
            },
            run: told.run,
            rows: told.rows,
            kept: told.kept,
            left_behind: told.left_behind,
            owed: told.owed,
        };
        let json = serde_json::to_string_pretty(&out).expect("these types have only text keys") + "\n";
        let text = text(&out, &self.path, &hex(&hash(json.as_bytes())));
        let signature = self.key.sign(NAMESPACE, text.as_bytes()).await?;
        put_file(&beside(&self.path, "json"), json.as_bytes(), false, false)?;
        put_file(&beside(&self.path, "sig"), signature.as_bytes(), false, false)?;
        put_file(&self.path, text.as_bytes(), false, false)?;
        let shown = shell_word(&paths::shown(&self.path));
        ui.status(&format!("statement: {shown}, signed by {}", self.by));
        ui.status(&format!("to check it: {}", crate::cli::complete(&format!("lavrin history --verify {shown}"))));
        Ok(())
    }
}

/// One hash over all files of the register, each with its name and its length.
fn files_hash(opened: &OpenedRegister) -> String {
    let mut files: Vec<_> = opened.files.iter().collect();
    files.sort_by_key(|file| &file.path);
    let all: String = files.iter().map(|file| format!("{}\0{}\0{}", file.path, file.text.len(), file.text)).collect();
    hex(&hash(all.as_bytes()))
}

/// Bytes in hexadecimal.
pub fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// The part for people.
fn text(out: &StatementOut<'_>, path: &Path, hash: &str) -> String {
    let mut text = format!("Statement of a leaving\n\n{} ({}) is gone from {} on.\n", out.name, out.person, out.left);
    text += &format!("Written at {} by {}, with the key {}.\n", out.made.time, out.made.by, out.made.key);
    let commit =
        out.register.commit.as_ref().map_or("not under version control".to_owned(), |id| format!("commit {id}"));
    text += &format!("Register: {}, {commit}; SHA-256 of its files: {}\n", out.register.name, out.register.files);
    text += &format!("Run: {}\n\nKeys of {}\n", out.run, out.person);
    text += &out.keys.iter().map(|key| format!("  {key}\n")).collect::<String>();
    text += "\nWhat became of each key in each account. \"removed\": it was taken out, the files were read back, and the server refuses\n\
             it; \"refused\": there was nothing to take out, and the server refuses it.\n";
    let rows: Vec<Vec<String>> = out
        .rows
        .iter()
        .map(|row| vec![row.state.to_owned(), row.place(), row.key.clone(), row.why.clone().unwrap_or_default()])
        .collect();
    text += &columns(&rows, 2).into_iter().map(|line| line + "\n").collect::<String>();
    if !out.kept.is_empty() {
        text += &format!("\nKept keys of which {} may have a copy\n", out.person);
        let row = |one: &KeptKnownOut| {
            vec![one.state.to_owned(), format!("{}@{}", one.account, one.host), one.why.clone().unwrap_or_default()]
        };
        let rows: Vec<Vec<String>> = out.kept.iter().map(row).collect();
        text += &columns(&rows, 2).into_iter().map(|line| line + "\n").collect::<String>();
    }
    let found: Vec<_> = out.left_behind.iter().flat_map(LeftBehindOut::told).collect();
    if !found.is_empty() {
        text += "\nWhat was found beside keys that open something\n";
        let rows: Vec<Vec<String>> = found.into_iter().map(|(word, _, more)| vec![word.to_owned(), more]).collect();
        text += &columns(&rows, 2).into_iter().map(|line| line + "\n").collect::<String>();
    }
    let owed = match out.owed {
        0 => "Nothing is owed".to_owned(),
        number => count(number, "removal is owed", "removals are owed"),
    };
    let json = beside(path, "json");
    let json = json.file_name().unwrap_or_default().to_string_lossy();
    text + &format!("\n{owed}.\n\nThe same for programs: {json}, {HASH_MARK}{hash}\n")
}
