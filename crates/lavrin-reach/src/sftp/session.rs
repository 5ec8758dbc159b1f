//! A session of the file transfer protocol: one request at a time, each answered in time and to its number.

use super::packet::{self, FileAnswer, FileAnswerFault, FileAttributes, Outgoing, kind, open, status};
use crate::ssh::Subsystem;
use lavrin_keys::text::printable;
use std::time::Duration;
use thiserror::Error;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::time::{Instant, timeout_at};

/// Renames also where the name is taken, at once.
const POSIX_RENAME: &str = "posix-rename@openssh.com";

/// Brings a file to the disk.
const SYNC: &str = "fsync@openssh.com";

/// So much is read or written with one request: every server takes this much.
const PART_BYTES: usize = 32 << 10;

/// Why a request came to nothing.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub(super) enum FileFault {
    #[error("it ended the session")]
    Ended,
    #[error("it did not answer within {0} s")]
    Timeout(u64),
    #[error(transparent)]
    Answer(#[from] FileAnswerFault),
    #[error("it speaks version {0} of the file transfer protocol, which is not known here")]
    Version(u32),
    #[error("it answers something that was not asked")]
    WrongAnswer,
    #[error("it answered that the file was written, and did not write it")]
    NotWritten,
    #[error(
        "another change is being made there, or was ended in the middle: {0} is there; try again in two minutes, or look at it and remove it"
    )]
    Busy(String),
    #[error("the file is larger than {0} bytes")]
    TooLarge(u64),
    /// It says no; the session goes on.
    #[error("{}", told(*.0, .1))]
    Refused(u32, String),
}

impl FileFault {
    /// Whether the session goes on.
    pub(super) fn is_refusal(&self) -> bool {
        matches!(self, Self::Refused(..) | Self::TooLarge(_) | Self::NotWritten | Self::Busy(_))
    }
}

fn told(code: u32, words: &str) -> String {
    let known = match code {
        status::NO_SUCH_FILE => "no such file",
        status::PERMISSION_DENIED => "permission denied",
        status::FAILURE => "failure",
        status::UNSUPPORTED => "operation unsupported",
        _ => "it refuses",
    };
    let words: String = printable(words.as_bytes()).chars().take(200).collect();
    if words.is_empty() || words.eq_ignore_ascii_case(known) { known.to_owned() } else { format!("{known}: {words}") }
}

pub(super) struct FileSession {
    stream: Subsystem,
    buffer: Vec<u8>,
    broken: Option<FileFault>,
    /// For each answer.
    limit: Duration,
    number: u32,
    extensions: Vec<String>,
}

impl FileSession {
    /// Greets; the lower version of both sides is spoken, and there is no lower one.
    pub(super) async fn open(stream: Subsystem, limit: Duration) -> Result<Self, FileFault> {
        let mut session = Self { stream, buffer: Vec::new(), broken: None, limit, number: 0, extensions: Vec::new() };
        session.write(Outgoing::new(kind::INIT).number(packet::VERSION).whole()).await?;
        match session.read(Instant::now() + limit).await? {
            (_, FileAnswer::Version(packet::VERSION, extensions)) => session.extensions = extensions,
            (_, FileAnswer::Version(theirs, _)) => return Err(FileFault::Version(theirs)),
            (_, FileAnswer::Status(code, words)) => return Err(FileFault::Refused(code, words)),
            _ => return Err(FileFault::WrongAnswer),
        }
        Ok(session)
    }

    /// Whether the session is over.
    pub(super) fn is_broken(&self) -> bool {
        self.broken.is_some()
    }

    /// Whether a file can take the place of another at once.
    pub(super) fn replaces(&self) -> bool {
        self.has(POSIX_RENAME)
    }

    fn has(&self, extension: &str) -> bool {
        self.extensions.iter().any(|own| own == extension)
    }

    fn late(&self) -> FileFault {
        FileFault::Timeout(self.limit.as_secs())
    }

    async fn write(&mut self, bytes: Vec<u8>) -> Result<(), FileFault> {
        let write = async {
            self.stream.write_all(&bytes).await?;
            self.stream.flush().await
        };
        let written = tokio::time::timeout(self.limit, write).await.map_err(|_| self.late())?;
        written.map_err(|_| FileFault::Ended)
    }

    async fn read(&mut self, deadline: Instant) -> Result<(u32, FileAnswer), FileFault> {
        let mut part = vec![0; PART_BYTES];
        loop {
            if let Some(packet) = packet::next(&mut self.buffer)? {
                return Ok(FileAnswer::read(&packet)?);
            }
            match timeout_at(deadline, self.stream.read(&mut part)).await.map_err(|_| self.late())? {
                Ok(0) | Err(_) => return Err(FileFault::Ended),
                Ok(length) => self.buffer.extend_from_slice(&part[..length]),
            }
        }
    }

    /// Makes a request: its kind, and what fills it behind its number. A refusal is a fault.
    async fn ask(&mut self, kind: u8, fill: impl FnOnce(Outgoing) -> Outgoing) -> Result<FileAnswer, FileFault> {
        if let Some(fault) = &self.broken {
            return Err(fault.clone());
        }
        self.number = self.number.wrapping_add(1);
        let number = self.number;
        let request = fill(Outgoing::new(kind).number(number)).whole();
        let answer = async {
            self.write(request).await?;
            match self.read(Instant::now() + self.limit).await? {
                (theirs, _) if theirs != number => Err(FileFault::WrongAnswer),
                (_, FileAnswer::Status(status::OK, _)) => Ok(FileAnswer::Status(status::OK, String::new())),
                (_, FileAnswer::Status(code, words)) => Err(FileFault::Refused(code, words)),
                (_, answer) => Ok(answer),
            }
        };
        let answer = answer.await;
        if let Err(fault) = &answer
            && !fault.is_refusal()
        {
            self.broken = Some(fault.clone());
        }
        answer
    }

    /// What was answered is none of what the request can be answered with: the session is over.
    fn wrong<T>(&mut self) -> Result<T, FileFault> {
        self.broken = Some(FileFault::WrongAnswer);
        Err(FileFault::WrongAnswer)
    }

    async fn done(&mut self, kind: u8, fill: impl FnOnce(Outgoing) -> Outgoing) -> Result<(), FileFault> {
        match self.ask(kind, fill).await? {
            FileAnswer::Status(..) => Ok(()),
            _ => self.wrong(),
        }
    }

    /// The path from the root.
    pub(super) async fn real_path(&mut self, path: &str) -> Result<String, FileFault> {
        match self.ask(kind::REALPATH, |out| out.string(path.as_bytes())).await? {
            FileAnswer::Names(names) if names.len() == 1 => {
                Ok(String::from_utf8(names.into_iter().next().unwrap_or_default()).unwrap_or_default())
            }
            _ => self.wrong(),
        }
    }

    /// What is there, links not followed; none: nothing.
    pub(super) async fn look_at(&mut self, path: &str) -> Result<Option<FileAttributes>, FileFault> {
        match self.ask(kind::LSTAT, |out| out.string(path.as_bytes())).await {
            Ok(FileAnswer::Attributes(found)) => Ok(Some(found)),
            Ok(_) => self.wrong(),
            Err(FileFault::Refused(status::NO_SUCH_FILE, _)) => Ok(None),
            Err(fault) => Err(fault),
        }
    }

    async fn handle(&mut self, path: &str, how: u32, own: &FileAttributes) -> Result<Vec<u8>, FileFault> {
        let fill = |out: Outgoing| out.string(path.as_bytes()).number(how).attributes(own);
        match self.ask(kind::OPEN, fill).await? {
            FileAnswer::Handle(handle) => Ok(handle),
            _ => self.wrong(),
        }
    }

    async fn close(&mut self, handle: &[u8]) -> Result<(), FileFault> {
        self.done(kind::CLOSE, |out| out.string(handle)).await
    }

    /// The bytes of a file.
    pub(super) async fn content(&mut self, path: &str, limit: u64) -> Result<Vec<u8>, FileFault> {
        let handle = self.handle(path, open::READ, &FileAttributes::default()).await?;
        let read = self.all_of(&handle, limit).await;
        let closed = self.close(&handle).await;
        let bytes = read?;
        closed.map(|()| bytes)
    }

    async fn all_of(&mut self, handle: &[u8], limit: u64) -> Result<Vec<u8>, FileFault> {
        let mut bytes = Vec::new();
        loop {
            let part = u32::try_from(PART_BYTES).unwrap_or(u32::MAX);
            match self.ask(kind::READ, |out| out.string(handle).large(bytes.len() as u64).number(part)).await {
                // One that gives nothing would give it for ever.
                Ok(FileAnswer::Data(more)) if !more.is_empty() => bytes.extend(more),
                Ok(_) => return self.wrong(),
                Err(FileFault::Refused(status::EOF, _)) => return Ok(bytes),
                Err(fault) => return Err(fault),
            }
            if bytes.len() as u64 > limit {
                return Err(FileFault::TooLarge(limit));
            }
        }
    }

    async fn put(&mut self, handle: &[u8], at: usize, bytes: &[u8]) -> Result<(), FileFault> {
        let mut at = at as u64;
        for part in bytes.chunks(PART_BYTES) {
            self.done(kind::WRITE, |out| out.string(handle).large(at).string(part)).await?;
            at += part.len() as u64;
        }
        Ok(())
    }

    /// A new file with these bytes, which nobody but its owner may read before it has its mode and owner.
    pub(super) async fn create(&mut self, path: &str, bytes: &[u8], own: &FileAttributes) -> Result<(), FileFault> {
        let how = open::WRITE | open::CREATE | open::NEW;
        let handle = self.handle(path, how, &FileAttributes::of_mode(0o600)).await?;
        let filled = self.fill(&handle, bytes, own).await;
        let closed = self.close(&handle).await;
        filled.and(closed)
    }

    async fn fill(&mut self, handle: &[u8], bytes: &[u8], own: &FileAttributes) -> Result<(), FileFault> {
        self.put(handle, 0, bytes).await?;
        let FileAnswer::Attributes(found) = self.ask(kind::FSTAT, |out| out.string(handle)).await? else {
            return self.wrong();
        };
        let owner = own.owner.filter(|owner| found.owner.is_some_and(|found| found != *owner));
        if owner.is_some() {
            let set = FileAttributes { owner, ..FileAttributes::default() };
            match self.done(kind::FSETSTAT, |out| out.string(handle).attributes(&set)).await {
                // Nobody but root gives a file to a group that is not the own; the user is what counts.
                Err(FileFault::Refused(..)) if found.owner.map(|own| own.0) == owner.map(|own| own.0) => {}
                other => other?,
            }
        }
        if let Some(wanted) = own.permissions().filter(|wanted| found.permissions().is_some_and(|bits| bits != *wanted))
        {
            let set = FileAttributes::of_mode(wanted);
            match self.done(kind::FSETSTAT, |out| out.string(handle).attributes(&set)).await {
                // What is narrower than wanted harms nobody.
                Err(FileFault::Refused(..)) if found.permissions().is_some_and(|bits| bits & !wanted == 0) => {}
                other => other?,
            }
        }
        if self.has(SYNC) {
            self.done(kind::EXTENDED, |out| out.string(SYNC.as_bytes()).string(handle)).await?;
        }
        Ok(())
    }

    /// Gives a file another name. Where a file has that name, the server has to be able to replace it at once.
    pub(super) async fn rename(&mut self, from: &str, to: &str) -> Result<(), FileFault> {
        if self.replaces() {
            let fill =
                |out: Outgoing| out.string(POSIX_RENAME.as_bytes()).string(from.as_bytes()).string(to.as_bytes());
            return self.done(kind::EXTENDED, fill).await;
        }
        self.done(kind::RENAME, |out| out.string(from.as_bytes()).string(to.as_bytes())).await
    }

    /// Writes over a file that stays where it is. What is longer is written to its end first, and what is shorter is cut last, so that
    /// at every moment the file begins with whole entries.
    pub(super) async fn overwrite(&mut self, path: &str, old: &[u8], new: &[u8]) -> Result<(), FileFault> {
        let handle = self.handle(path, open::WRITE, &FileAttributes::default()).await?;
        let same = old.iter().zip(new).take_while(|(old, new)| old == new).count();
        let written = self.put_over(&handle, same, old, new).await;
        let closed = self.close(&handle).await;
        written.and(closed)
    }

    async fn put_over(&mut self, handle: &[u8], same: usize, old: &[u8], new: &[u8]) -> Result<(), FileFault> {
        self.put(handle, same, &new[same..]).await?;
        if new.len() < old.len() {
            let set = FileAttributes { size: Some(new.len() as u64), ..FileAttributes::default() };
            let cut = self.done(kind::FSETSTAT, |out| out.string(handle).attributes(&set)).await;
            if matches!(cut, Err(FileFault::Refused(..))) {
                // A server that cannot cut a file keeps blank lines at its end.
                self.put(handle, new.len(), &vec![b'\n'; old.len() - new.len()]).await?;
            } else {
                cut?;
            }
        }
        if self.has(SYNC) {
            self.done(kind::EXTENDED, |out| out.string(SYNC.as_bytes()).string(handle)).await?;
        }
        Ok(())
    }

    pub(super) async fn remove(&mut self, path: &str) -> Result<(), FileFault> {
        self.done(kind::REMOVE, |out| out.string(path.as_bytes())).await
    }

    pub(super) async fn make_folder(&mut self, path: &str, mode: u32) -> Result<(), FileFault> {
        let own = FileAttributes::of_mode(mode);
        self.done(kind::MKDIR, |out| out.string(path.as_bytes()).attributes(&own)).await
    }
}
