//! Hosts that give nothing but files (the SSH file transfer protocol, version 3): the keys are in files at places that the register
//! names. Everything is done with the rights of whoever has signed in, by names, so they never go where somebody else decides what a
//! name means.

mod key_file;
pub mod packet;
mod session;

use crate::reach::Reach;
use crate::ssh::{Connection, ExecFault};
use crate::{Boxed, CarryFault};
use key_file::{KeyEditFault, Places, edited, slots};
use lavrin_server::abilities::{Abilities, Ability};
use lavrin_server::account::Account;
use lavrin_server::device::{KeyForm, KeyPlaces};
use lavrin_server::fs::{BytePath, Fact, Node, NodeKind, Why};
use lavrin_server::server::{Known, Server};
use lavrin_server::steps::{Change, ChangeSubject, Guarded, KeyChange};
use lavrin_server::survey::{KEYS_FILE_BYTES_MAX, KeySlot, Observation, Want, Wanted, Who};
use packet::FileAttributes;
use session::{FileFault, FileSession};
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use tokio::sync::Mutex;

const SUBSYSTEM: &str = "sftp";

/// How long each answer may take at most.
const ANSWER_TIME: Duration = Duration::from_secs(30);

/// A file on its way that was not written for so long is nobody's any more: each answer takes no longer than [`ANSWER_TIME`].
const LEFT_BEHIND_AFTER: Duration = Duration::from_mins(2);

/// What is written before it gets its name.
const NEW: &str = ".lavrin-new";

const FILE_MODE: u32 = 0o600;
const FOLDER_MODE: u32 = 0o700;

/// A host with a session that is open.
pub struct SftpHost {
    connection: Connection,
    /// Who has signed in.
    login: String,
    /// The accounts that are managed.
    managed: Vec<String>,
    places: KeyPlaces,
    files: Mutex<Files>,
}

struct Files {
    session: FileSession,
    /// Where the session begins.
    home: String,
    removed: Places,
}

/// A key file as it is now.
struct FoundFile {
    path: String,
    /// Its bytes and attributes; none: it does not exist.
    file: Option<(Vec<u8>, FileAttributes)>,
    folder: Option<FileAttributes>,
}

/// Why a key file is not read or written.
enum NotOurs {
    Fault(FileFault),
    /// Its name may lead somewhere else by the time it is used.
    Elsewhere(String),
}

impl From<FileFault> for NotOurs {
    fn from(fault: FileFault) -> Self {
        Self::Fault(fault)
    }
}

impl std::fmt::Display for NotOurs {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Fault(fault) => fault.fmt(out),
            Self::Elsewhere(why) => out.write_str(why),
        }
    }
}

/// The keys in a file as slots, each with its bytes there.
#[must_use]
pub fn slots_of(form: KeyForm, bytes: &[u8]) -> Vec<(KeySlot, std::ops::Range<usize>)> {
    slots(form, bytes).into_iter().map(|one| (one.slot, one.span)).collect()
}

/// Puts a file onto a host, in the place of one that has its name.
///
/// # Errors
/// Why it was not put there.
pub(crate) async fn put_file(connection: &Connection, path: &str, bytes: &[u8], limit: Duration) -> Result<(), String> {
    let limit = limit.min(ANSWER_TIME);
    let stream = connection.subsystem(SUBSYSTEM, limit).await.map_err(|fault| match fault {
        ExecFault::Refused => "it takes no file to be imported".to_owned(),
        other => other.to_string(),
    })?;
    let put = async {
        let mut session = FileSession::open(stream, limit).await?;
        if session.look_at(path).await?.is_some() {
            session.remove(path).await?;
        }
        session.create(path, bytes, &FileAttributes::default()).await
    };
    put.await.map_err(|fault: FileFault| format!("{path}: {fault}"))
}

impl SftpHost {
    /// Opens a session over a connection on which this account has signed in. Each answer may take so long.
    ///
    /// # Errors
    /// [`ExecFault`].
    #[must_use]
    pub fn open(
        connection: Connection,
        login: String,
        managed: Vec<String>,
        places: KeyPlaces,
        limit: Duration,
    ) -> Boxed<'static, Result<Self, ExecFault>> {
        Box::pin(async move {
            let limit = limit.min(ANSWER_TIME);
            let stream = connection.subsystem(SUBSYSTEM, limit).await.map_err(|fault| match fault {
                ExecFault::Refused => ExecFault::Device { why: "it transfers no files".to_owned() },
                other => other,
            })?;
            let mut session = FileSession::open(stream, limit).await.map_err(exec_fault)?;
            let home = session.real_path(".").await.map_err(exec_fault)?;
            let files = Files { session, home, removed: Places::default() };
            Ok(Self { connection, login, managed, places, files: Mutex::new(files) })
        })
    }

    /// Everybody of whom the register says something.
    fn accounts(&self) -> Vec<String> {
        let members = self.places.of_groups.iter().flat_map(|place| &place.members);
        let mut names: Vec<String> =
            std::iter::once(&self.login).chain(&self.managed).chain(members).cloned().collect();
        let mut told = std::collections::HashSet::new();
        names.retain(|name| told.insert(name.clone()));
        names
    }
}

fn exec_fault(fault: FileFault) -> ExecFault {
    match fault {
        FileFault::Timeout(seconds) => ExecFault::Timeout { seconds },
        FileFault::Ended => ExecFault::Broken,
        other => ExecFault::Device { why: other.to_string() },
    }
}

fn parent(path: &str) -> &str {
    match path.trim_end_matches('/').rfind('/') {
        Some(0) => "/",
        Some(at) => &path[..at],
        None => ".",
    }
}

impl Files {
    /// A place as a name from the root. What names a drive is taken as it is.
    fn absolute(&self, file: &str) -> String {
        let is_whole = file.starts_with('/') || file.as_bytes().get(1) == Some(&b':');
        if is_whole { file.to_owned() } else { format!("{}/{file}", self.home.trim_end_matches('/')) }
    }

    /// Looks at a key file. Where it is not that of the login, nobody but root or the login itself may decide what its name means.
    async fn found(&mut self, file: &str, is_own: bool) -> Result<FoundFile, NotOurs> {
        let path = self.absolute(file);
        if !is_own {
            self.is_fixed(&path).await?;
        }
        let folder = self.session.look_at(parent(&path)).await?;
        let there = match folder {
            Some(_) => self.session.look_at(&path).await?,
            None => None,
        };
        let elsewhere = |why: &str| NotOurs::Elsewhere(format!("{path} {why}"));
        if folder.is_some_and(|folder| folder.is_link()) {
            return Err(elsewhere("is in a folder that is a link"));
        }
        let file = match there {
            None => None,
            Some(found) if found.is_link() => return Err(elsewhere("is a link")),
            Some(found) if !found.may_be_file() => return Err(elsewhere("is no regular file")),
            Some(found) => Some((self.session.content(&path, KEYS_FILE_BYTES_MAX).await?, found)),
        };
        Ok(FoundFile { path, file, folder })
    }

    /// Whether nobody but root and the login can put something else where a name leads: no folder on the way is somebody else's, none
    /// can be written by others, and none is a link.
    async fn is_fixed(&mut self, path: &str) -> Result<(), NotOurs> {
        let own = self.session.look_at(&self.home.clone()).await?.and_then(|home| home.owner).map(|(user, _)| user);
        let mut folder = parent(path);
        loop {
            if let Some(found) = self.session.look_at(folder).await? {
                let is_others = found.owner.is_some_and(|(user, _)| user != 0 && Some(user) != own);
                let is_open = found.permissions().is_some_and(|bits| bits & 0o022 != 0);
                if is_others || is_open || found.is_link() {
                    let why = format!(
                        "somebody else may change where {path} leads: {folder} is not root's or the login's alone"
                    );
                    return Err(NotOurs::Elsewhere(why));
                }
            }
            let next = parent(folder);
            if next == folder || next == "." {
                return Ok(());
            }
            folder = next;
        }
    }

    /// Makes a change, and reads it back.
    async fn make(&mut self, key: &KeyChange, file: &str, is_own: bool, places: &KeyPlaces) -> Result<(), MakeFault> {
        let there = self.found(file, is_own).await.map_err(|why| MakeFault::Refused(why.to_string()))?;
        let old = there.file.as_ref().map(|(bytes, _)| bytes.as_slice());
        let new = edited(old.unwrap_or_default(), key, places, &mut self.removed).map_err(|fault| match fault {
            KeyEditFault::Changed => MakeFault::Changed,
            KeyEditFault::NotSayable(why) => MakeFault::Refused(why),
        })?;
        if old == Some(new.as_slice()) {
            return Ok(());
        }
        let told = self.write(&there, &new, is_own).await;
        if self.session.is_broken() {
            return Err(MakeFault::Unknown);
        }
        let after = self.session.content(&there.path, KEYS_FILE_BYTES_MAX).await.ok();
        match told {
            // A server that cannot cut a file leaves blank lines.
            Ok(()) if after.as_deref().is_some_and(|after| holds_no_more(after, &new)) => Ok(()),
            Ok(()) if after.as_deref() == old => {
                Err(MakeFault::Refused("it answered that the file was written, and did not write it".to_owned()))
            }
            Err(fault) if after.as_deref() == old || old.is_none() && after.is_none() => {
                Err(MakeFault::Refused(fault.to_string()))
            }
            _ => Err(MakeFault::Unknown),
        }
    }

    async fn write(&mut self, there: &FoundFile, new: &[u8], is_own: bool) -> Result<(), FileFault> {
        let folder = parent(&there.path).to_owned();
        if there.folder.is_none() {
            if !is_own {
                return Err(FileFault::Refused(packet::status::NO_SUCH_FILE, folder));
            }
            self.session.make_folder(&folder, FOLDER_MODE).await?;
        }
        // A file of its own keeps its mode and owner; a new one is that of its folder.
        let own = match &there.file {
            Some((_, own)) => FileAttributes { size: None, modified: None, ..*own },
            None => FileAttributes {
                owner: there.folder.and_then(|folder| folder.owner),
                ..FileAttributes::of_mode(FILE_MODE)
            },
        };
        let temporary = format!("{}/{NEW}", folder.trim_end_matches('/'));
        if let Some(left) = self.session.look_at(&temporary).await? {
            if !is_left_behind(&left) {
                return Err(FileFault::Busy(temporary));
            }
            self.session.remove(&temporary).await?;
        }
        let created = self.session.create(&temporary, new, &own).await;
        // Nothing takes the place of a file of keys before it was seen to be whole.
        let whole = match created {
            Ok(()) => self.session.content(&temporary, KEYS_FILE_BYTES_MAX).await,
            Err(fault) => Err(fault),
        };
        let put = match whole {
            Ok(bytes) if bytes == new => self.session.rename(&temporary, &there.path).await,
            Ok(_) => Err(FileFault::NotWritten),
            Err(fault) => Err(fault),
        };
        let Err(fault) = put else { return Ok(()) };
        let left = self.session.remove(&temporary).await;
        match (&there.file, &fault) {
            // It cannot put a file in the place of another: then the file itself is written.
            (Some((old, _)), FileFault::Refused(..)) if !self.session.replaces() && left.is_ok() => {
                self.session.overwrite(&there.path, old, new).await
            }
            _ => Err(fault),
        }
    }
}

/// Whether a file that is on its way was left behind by a run that was ended outright, and nobody writes it any more.
fn is_left_behind(file: &FileAttributes) -> bool {
    let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    file.modified.is_some_and(|written| Duration::from_secs(written.into()) + LEFT_BEHIND_AFTER < now)
}

/// Whether a file holds these bytes and nothing but blank lines behind them.
fn holds_no_more(file: &[u8], bytes: &[u8]) -> bool {
    file.strip_prefix(bytes).is_some_and(|rest| rest.iter().all(|byte| *byte == b'\n'))
}

enum MakeFault {
    Changed,
    Refused(String),
    Unknown,
}

impl MakeFault {
    fn of(self, subject: ChangeSubject) -> CarryFault {
        match self {
            Self::Changed => CarryFault::Changed { subject },
            Self::Refused(why) => CarryFault::Refused { subject, why },
            Self::Unknown => CarryFault::Unknown { subject },
        }
    }
}

fn node(found: &FileAttributes, kind: NodeKind) -> Option<Node> {
    let (uid, gid) = found.owner.unwrap_or_default();
    Some(Node { kind, mode: found.permissions()?, uid, gid, access_list: false })
}

impl Reach for SftpHost {
    fn abilities(&self) -> Abilities {
        use Ability::{Accounts, Files, Logs, NewAccounts, Options, Owners, Settings};
        let always = [Accounts, Files, Owners, Settings, Logs, NewAccounts];
        // No block says anything beside a key and its comment.
        Abilities::without(always.into_iter().chain((self.places.form == KeyForm::Blocks).then_some(Options)))
    }

    fn look<'a>(&'a mut self, wants: &'a [Want], seen: &'a mut Observation) -> Boxed<'a, Result<(), ExecFault>> {
        Box::pin(async move {
            seen.found_server(Server::default(), Known::Banner(self.connection.banner().to_owned()));
            for want in wants {
                match &want.what {
                    Wanted::System(who) => {
                        let mut names = self.accounts();
                        if let Who::One(name) = who
                            && !names.contains(name)
                        {
                            names.push(name.clone());
                        }
                        seen.accounts = names.iter().map(|name| Account::unknown(name)).collect::<Vec<_>>().into();
                        seen.looked = true;
                    }
                    Wanted::Slots(name) => {
                        let held = self.slots_of(name, seen).await?;
                        seen.slots.insert(name.clone(), held);
                    }
                    _ => seen.give_up(want, &Why::WrongKind),
                }
            }
            Ok(())
        })
    }

    fn carry<'a>(
        &'a self,
        change: &'a Guarded,
        _: &'a Account,
        _: &'a Observation,
    ) -> Boxed<'a, Result<(), CarryFault>> {
        Box::pin(async move {
            let change = change.change();
            let Change::Key(key) = change else { return Err(CarryFault::not_there(change)) };
            let Some(file) = self.places.file_of(&key.account, &self.login) else {
                let why = "the register names no key file of this account".to_owned();
                return Err(CarryFault::Refused { subject: change.subject(), why });
            };
            let is_own = key.account == self.login;
            let made = self.files.lock().await.make(key, &file, is_own, &self.places).await;
            made.map_err(|fault| fault.of(change.subject()))
        })
    }

    fn close(self: Box<Self>) -> Boxed<'static, ()> {
        Box::pin(async move {
            drop(self.files);
            self.connection.close().await;
        })
    }
}

impl SftpHost {
    /// The keys of an account; modes of its file and folder go into the observation, where the host tells them.
    async fn slots_of(&mut self, name: &str, seen: &mut Observation) -> Result<Fact<Vec<KeySlot>>, ExecFault> {
        let Some(file) = self.places.file_of(name, &self.login) else { return Ok(Fact::Unseen(Why::Permission)) };
        let files = self.files.get_mut();
        let there = match files.found(&file, name == self.login).await {
            Ok(there) => there,
            Err(NotOurs::Elsewhere(why)) => return Ok(Fact::Unseen(Why::Other(why))),
            Err(NotOurs::Fault(FileFault::Refused(packet::status::PERMISSION_DENIED, _))) => {
                return Ok(Fact::Unseen(Why::Permission));
            }
            Err(NotOurs::Fault(FileFault::TooLarge(limit))) => return Ok(Fact::Unseen(Why::TooLarge(limit))),
            Err(NotOurs::Fault(fault)) => return Err(exec_fault(fault)),
        };
        let mut put = |path: &str, node: Option<Node>| {
            if let Some(node) = node {
                seen.nodes.insert(BytePath::new(path.as_bytes()), Fact::Known(node));
            }
        };
        let folder = parent(&there.path);
        // A folder of keys that is not the home itself.
        if folder != files.home
            && let Some(found) = &there.folder
        {
            put(folder, node(found, NodeKind::Folder));
        }
        let Some((bytes, found)) = there.file else { return Ok(Fact::Known(Vec::new())) };
        put(&there.path, node(&found, NodeKind::File));
        Ok(Fact::Known(slots(self.places.form, &bytes).into_iter().map(|slot| slot.slot).collect()))
    }
}
