//! A host that gives nothing but files, over the SSH file transfer protocol.

use lavrin_keys::key::PublicKey;
use lavrin_keys::key::container::PieceKind;
use lavrin_keys::keysfile::KeysFile;
use lavrin_keys::pieces;
use lavrin_keys::wire::{Reader, WireFault};
use lavrin_reach::sftp::packet::{FileAttributes, Outgoing, kind, next, open, status};
use lavrin_server::device::{KeyForm, KeyLineEnds, KeyPlaces};
use std::collections::{BTreeMap, HashMap};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// A file or folder there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoredFile {
    /// Its bytes; none: it is a folder.
    pub bytes: Option<Vec<u8>>,
    /// Its permission bits.
    pub mode: u32,
    /// Its user.
    pub user: u32,
    /// Whether it is a link.
    pub is_link: bool,
    /// When it was last written, in seconds since 1970.
    pub modified: u32,
}

impl StoredFile {
    /// A folder.
    #[must_use]
    pub fn folder(user: u32, mode: u32) -> Self {
        Self { bytes: None, mode, user, is_link: false, modified: now() }
    }

    /// A file.
    #[must_use]
    pub fn file(user: u32, mode: u32, text: &str) -> Self {
        Self { bytes: Some(text.as_bytes().to_vec()), ..Self::folder(user, mode) }
    }

    fn attributes(&self, tells_modes: bool) -> FileAttributes {
        let kind = match (&self.bytes, self.is_link) {
            (_, true) => 0o120_000,
            (None, false) => 0o040_000,
            (Some(_), false) => 0o100_000,
        };
        let size = self.bytes.as_ref().map(|bytes| bytes.len() as u64);
        let told = tells_modes.then_some(());
        let (owner, mode) = (told.map(|()| (self.user, self.user)), told.map(|()| kind | self.mode));
        FileAttributes { size, owner, mode, modified: Some(self.modified) }
    }
}

/// How a host differs from one in good order.
#[derive(Debug, Clone)]
pub struct FileHostKnobs {
    /// A file can take the place of another at once.
    pub has_posix_rename: bool,
    /// The plain request for that takes the place of another too.
    pub renames_over: bool,
    /// It sets no modes.
    pub refuses_modes: bool,
    /// It cuts no files.
    pub refuses_cuts: bool,
    /// It tells no modes and owners.
    pub hides_modes: bool,
    /// Its server takes keys only from lines that end with CR LF.
    pub needs_cr_lf: bool,
    /// The version that it speaks.
    pub version: u32,
    /// Room for so many bytes in one file.
    pub bytes_max: usize,
    /// It says that it wrote, and does not write.
    pub loses_writes: bool,
    /// From this request on it says no word.
    pub silent_from: Option<usize>,
    /// It ends the session in the middle of this answer.
    pub breaks_off_in: Option<usize>,
    /// Its packets are longer than anything.
    pub endless: bool,
    /// How long it thinks about each request.
    pub slow: Duration,
}

impl Default for FileHostKnobs {
    fn default() -> Self {
        Self {
            has_posix_rename: true,
            renames_over: false,
            refuses_modes: false,
            refuses_cuts: false,
            hides_modes: false,
            needs_cr_lf: false,
            version: 3,
            bytes_max: usize::MAX,
            loses_writes: false,
            silent_from: None,
            breaks_off_in: None,
            endless: false,
            slow: Duration::ZERO,
        }
    }
}

/// A host with files.
#[derive(Debug)]
pub struct FileHost {
    places: KeyPlaces,
    passwords: HashMap<String, String>,
    pub(crate) knobs: FileHostKnobs,
    state: Mutex<FileHostState>,
}

#[derive(Debug, Default)]
struct FileHostState {
    files: BTreeMap<String, StoredFile>,
    requests: usize,
}

impl FileHost {
    /// One with these files, whose keys are at these places.
    #[must_use]
    pub fn new(files: Vec<(&str, StoredFile)>, places: KeyPlaces, knobs: FileHostKnobs) -> Self {
        let files = files.into_iter().map(|(path, file)| (path.to_owned(), file)).collect();
        let state = Mutex::new(FileHostState { files, requests: 0 });
        Self { places, passwords: HashMap::new(), knobs, state }
    }

    /// The same, also opened by this password.
    #[must_use]
    pub fn with_password(mut self, account: &str, password: &str) -> Self {
        self.passwords.insert(account.to_owned(), password.to_owned());
        self
    }

    fn state(&self) -> MutexGuard<'_, FileHostState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A file there.
    #[must_use]
    pub fn file(&self, path: &str) -> Option<StoredFile> {
        self.state().files.get(path).cloned()
    }

    /// The names of everything there.
    #[must_use]
    pub fn names(&self) -> Vec<String> {
        self.state().files.keys().cloned().collect()
    }

    /// Puts a file there.
    pub fn put(&self, path: &str, file: StoredFile) {
        self.state().files.insert(path.to_owned(), file);
    }

    pub(crate) fn takes(&self, account: &str, password: &str) -> bool {
        self.passwords.get(account).is_some_and(|own| own == password)
    }

    pub(crate) fn lets_in(&self, account: &str, blob: &[u8]) -> bool {
        let Some(path) = self.places.file_of(account, account) else { return false };
        let path = if path.starts_with('/') { path } else { format!("{}/{path}", home(account)) };
        let Some(bytes) = self.file(&path).and_then(|file| file.bytes) else { return false };
        let ends_plainly = |line: &[u8]| line.ends_with(b"\n") && !line.ends_with(b"\r\n");
        let is_odd = self.knobs.needs_cr_lf && bytes.split_inclusive(|byte| *byte == b'\n').any(ends_plainly);
        !is_odd && keys(self.places.form, &bytes).iter().any(|key| key.blob() == blob)
    }

    /// The comments of the keys in a file, as they stand there.
    #[must_use]
    pub fn keys_in(&self, path: &str) -> usize {
        self.file(path).and_then(|file| file.bytes).map_or(0, |bytes| keys(self.places.form, &bytes).len())
    }

    /// How its lines have to end.
    #[must_use]
    pub fn line_ends(&self) -> KeyLineEnds {
        self.places.line_ends
    }
}

fn now() -> u32 {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    since.map_or(0, |since| u32::try_from(since.as_secs()).unwrap_or(u32::MAX))
}

fn home(account: &str) -> String {
    format!("/home/{account}")
}

fn keys(form: KeyForm, bytes: &[u8]) -> Vec<PublicKey> {
    let text: Vec<u8> = bytes.iter().copied().filter(|byte| *byte != b'\r').collect();
    match form {
        KeyForm::Lines => KeysFile::parse(&text).entries().map(|(_, entry)| PublicKey::clone(&entry.key)).collect(),
        KeyForm::Blocks => {
            let found = pieces::read(&text).into_iter();
            let key = found.filter_map(|piece| match piece.kind {
                PieceKind::Public { key, container: "rfc4716", .. } => Some(key),
                _ => None,
            });
            key.collect()
        }
    }
}

/// A session with somebody.
pub(crate) struct FileHostSession {
    account: String,
    buffer: Vec<u8>,
    handles: HashMap<u32, String>,
    next_handle: u32,
}

/// What it says now, and whether the session is over then.
#[derive(Default)]
pub(crate) struct FileHostSays {
    pub(crate) bytes: Vec<u8>,
    pub(crate) ends: bool,
}

impl FileHostSession {
    pub(crate) fn begin(account: &str) -> Self {
        Self { account: account.to_owned(), buffer: Vec::new(), handles: HashMap::new(), next_handle: 0 }
    }

    /// Takes in what came, and answers what is whole.
    pub(crate) fn take(&mut self, bytes: &[u8], host: &FileHost) -> FileHostSays {
        self.buffer.extend_from_slice(bytes);
        let mut says = FileHostSays::default();
        while !says.ends {
            match next(&mut self.buffer) {
                Ok(Some(packet)) => self.answer(&packet, host, &mut says),
                Ok(None) => break,
                Err(_) => says.ends = true,
            }
        }
        says
    }

    fn answer(&mut self, packet: &[u8], host: &FileHost, says: &mut FileHostSays) {
        let (knobs, mut state) = (&host.knobs, host.state());
        state.requests += 1;
        if knobs.silent_from.is_some_and(|from| state.requests >= from) {
            return;
        }
        let mut said = if knobs.endless && state.requests > 1 {
            vec![0xff; 1 << 20]
        } else {
            self.carry_out(packet, knobs, &mut state).unwrap_or_else(|_| {
                says.ends = true;
                Vec::new()
            })
        };
        if knobs.breaks_off_in == Some(state.requests) {
            said.truncate(said.len() / 2);
            says.ends = true;
        }
        says.bytes.extend(said);
    }

    fn carry_out(
        &mut self,
        packet: &[u8],
        knobs: &FileHostKnobs,
        state: &mut FileHostState,
    ) -> Result<Vec<u8>, WireFault> {
        let mut reader = Reader::new(packet);
        let asked = reader.byte()?;
        if asked == kind::INIT {
            let mut hello = Outgoing::new(kind::VERSION).number(knobs.version);
            if knobs.has_posix_rename {
                hello = hello.string(b"posix-rename@openssh.com").string(b"1");
            }
            return Ok(hello.string(b"fsync@openssh.com").string(b"1").whole());
        }
        let number = reader.u32()?;
        let first = reader.string()?;
        match asked {
            kind::FSTAT | kind::CLOSE | kind::READ | kind::WRITE | kind::FSETSTAT => {
                let handle = first.iter().fold(0, |sum, byte| sum << 8 | u32::from(*byte));
                let file = self.handles.get(&handle).and_then(|path| state.files.get_mut(path));
                file.map_or(Ok(ended(number, status::FAILURE)), |file| of_open(asked, number, file, &mut reader, knobs))
            }
            kind::EXTENDED if first == b"posix-rename@openssh.com" && knobs.has_posix_rename => {
                let (from, to) = (self.named(reader.string()?), self.named(reader.string()?));
                Ok(ended(number, rename(&mut state.files, &from, to)))
            }
            kind::EXTENDED if first == b"fsync@openssh.com" => Ok(ended(number, status::OK)),
            kind::EXTENDED => Ok(ended(number, status::UNSUPPORTED)),
            _ => self.of_name(asked, number, first, &mut reader, knobs, &mut state.files),
        }
    }

    fn named(&self, bytes: &[u8]) -> String {
        let name = String::from_utf8_lossy(bytes).into_owned();
        if name.starts_with('/') { name } else { format!("{}/{name}", home(&self.account)) }
    }

    /// Who a new file belongs to.
    fn user(&self, files: &BTreeMap<String, StoredFile>) -> u32 {
        files.get(&home(&self.account)).map_or(0, |home| home.user)
    }

    /// What is asked about a file by its name.
    fn of_name(
        &mut self,
        asked: u8,
        number: u32,
        name: &[u8],
        reader: &mut Reader<'_>,
        knobs: &FileHostKnobs,
        files: &mut BTreeMap<String, StoredFile>,
    ) -> Result<Vec<u8>, WireFault> {
        let path = if name == b"." { home(&self.account) } else { self.named(name) };
        let code = match asked {
            kind::REALPATH => {
                let (out, none) = (Outgoing::new(kind::NAME).number(number).number(1), FileAttributes::default());
                return Ok(out.string(path.as_bytes()).string(b"").attributes(&none).whole());
            }
            kind::LSTAT => match files.get(&path) {
                Some(file) => return Ok(told(number, file, knobs)),
                None => status::NO_SUCH_FILE,
            },
            kind::OPEN => {
                let (how, wanted) = (reader.u32()?, FileAttributes::read(reader)?);
                let is_there = files.contains_key(&path);
                let above = path.rsplit_once('/').map(|(above, _)| above.to_owned()).unwrap_or_default();
                if how & open::NEW != 0 && is_there {
                    return Ok(ended(number, status::FAILURE));
                }
                if !is_there && (how & open::CREATE == 0 || !above.is_empty() && !files.contains_key(&above)) {
                    return Ok(ended(number, status::NO_SUCH_FILE));
                }
                if !is_there {
                    let mode = if knobs.refuses_modes { 0o600 } else { wanted.permissions().unwrap_or(0o644) };
                    files.insert(path.clone(), StoredFile::file(self.user(files), mode, ""));
                }
                self.next_handle += 1;
                self.handles.insert(self.next_handle, path);
                let handle = self.next_handle.to_be_bytes();
                return Ok(Outgoing::new(kind::HANDLE).number(number).string(&handle).whole());
            }
            kind::SETSTAT => match files.get_mut(&path) {
                Some(file) => set(file, &FileAttributes::read(reader)?, knobs),
                None => status::NO_SUCH_FILE,
            },
            kind::REMOVE => files.remove(&path).map_or(status::NO_SUCH_FILE, |_| status::OK),
            kind::MKDIR => {
                let mode = FileAttributes::read(reader)?.permissions().unwrap_or(0o755);
                files.insert(path, StoredFile::folder(self.user(files), mode));
                status::OK
            }
            kind::RENAME => {
                let to = self.named(reader.string()?);
                let is_taken = files.contains_key(&to) && !knobs.renames_over;
                if is_taken { status::FAILURE } else { rename(files, &path, to) }
            }
            _ => status::UNSUPPORTED,
        };
        Ok(ended(number, code))
    }
}

/// What is asked about a file that is open.
fn of_open(
    asked: u8,
    number: u32,
    file: &mut StoredFile,
    reader: &mut Reader<'_>,
    knobs: &FileHostKnobs,
) -> Result<Vec<u8>, WireFault> {
    let offset = |reader: &mut Reader<'_>| -> Result<usize, WireFault> {
        let at = u64::from(reader.u32()?) << 32 | u64::from(reader.u32()?);
        Ok(usize::try_from(at).unwrap_or(usize::MAX))
    };
    let code = match asked {
        kind::FSTAT => return Ok(told(number, file, knobs)),
        kind::READ => {
            let (at, length) = (offset(reader)?, reader.u32()? as usize);
            let bytes = file.bytes.clone().unwrap_or_default();
            let part = &bytes[at.min(bytes.len())..at.saturating_add(length).min(bytes.len())];
            if !part.is_empty() {
                return Ok(Outgoing::new(kind::DATA).number(number).string(part).whole());
            }
            status::EOF
        }
        kind::WRITE => {
            let (at, data) = (offset(reader)?, reader.string()?);
            let bytes = file.bytes.get_or_insert_default();
            if at.saturating_add(data.len()) > knobs.bytes_max {
                return Ok(ended(number, status::FAILURE));
            }
            if !knobs.loses_writes {
                bytes.resize(bytes.len().max(at + data.len()), 0);
                bytes[at..at + data.len()].copy_from_slice(data);
            }
            status::OK
        }
        kind::FSETSTAT => set(file, &FileAttributes::read(reader)?, knobs),
        _ => status::OK,
    };
    Ok(ended(number, code))
}

fn ended(number: u32, code: u32) -> Vec<u8> {
    Outgoing::new(kind::STATUS).number(number).number(code).string(b"").string(b"").whole()
}

fn told(number: u32, file: &StoredFile, knobs: &FileHostKnobs) -> Vec<u8> {
    Outgoing::new(kind::ATTRS).number(number).attributes(&file.attributes(!knobs.hides_modes)).whole()
}

fn set(file: &mut StoredFile, wanted: &FileAttributes, knobs: &FileHostKnobs) -> u32 {
    if wanted.mode.is_some() && knobs.refuses_modes || wanted.size.is_some() && knobs.refuses_cuts {
        return status::UNSUPPORTED;
    }
    file.mode = wanted.permissions().unwrap_or(file.mode);
    file.user = wanted.owner.map_or(file.user, |(user, _)| user);
    if let (Some(size), Some(bytes)) = (wanted.size, &mut file.bytes) {
        bytes.resize(usize::try_from(size).unwrap_or(bytes.len()), 0);
    }
    status::OK
}

fn rename(files: &mut BTreeMap<String, StoredFile>, from: &str, to: String) -> u32 {
    let Some(file) = files.remove(from) else { return status::NO_SUCH_FILE };
    files.insert(to, file);
    status::OK
}
