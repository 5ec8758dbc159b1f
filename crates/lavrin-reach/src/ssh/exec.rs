//! Running one script on a host. The login shell sees a single harmless line; the script follows on its standard input,
//! then whatever the script reads itself. Everything the login shell prints before the greeting is noise.

use super::Connection;
use crate::read_exactly;
use lavrin_keys::key::generate::{Randomness as _, SystemSource};
use russh::ChannelMsg;
use russh::client::Msg;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;
use thiserror::Error;
use tokio::time::Instant;
use zeroize::Zeroizing;

/// What the script's own shell says first.
const HELLO: &[u8] = b"lavrin-hello\n";

/// How doas asks, with the account and the host in between.
const DOAS_ASKS: &[u8] = b") password: ";
const DOAS_BEGINS: &[u8] = b"doas (";

/// Most noise before the greeting, in bytes.
pub(super) const NOISE_BYTES_MAX: usize = 1 << 20;

/// Most bytes of all answers together that are held at one moment, where several hosts send many. They take up to three times as much
/// memory: an answer that grows is there twice for a moment.
const HELD_BYTES_MAX: usize = 144 << 20;

/// The same where one host alone sends many.
const ALONE_BYTES_MAX: usize = 256 << 20;

/// What the others hold then, at most.
const FEW_BYTES: usize = 16 << 20;

/// An answer grows by so much at least, in bytes.
const GROWTH_MIN: usize = 4 << 10;

/// So much is held now.
static HELD: AtomicUsize = AtomicUsize::new(0);

/// So much is shown of what was said instead of an answer, in characters.
const SAID_SHOWN: usize = 300;

/// Characters that are shown of what speaks where a shell should.
const NO_SHELL_SHOWN: usize = 100;

/// How long a script may take to end once it has answered.
const CLOSE_TIMEOUT: Duration = Duration::from_secs(2);

/// With whose rights a script runs.
#[derive(Clone)]
pub enum RootBy {
    /// Those of the login.
    Nobody,
    /// Root's, by `sudo` without a password.
    Sudo,
    /// Root's, by `sudo` with a password.
    SudoPassword(Zeroizing<String>),
    /// Root's, by `doas` without a password.
    Doas,
    /// Root's, by `doas` with a password, which it reads from a terminal only.
    DoasPassword(Zeroizing<String>),
}

/// Why a script gave no answer.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum ExecFault {
    /// The server allows no command.
    #[error("the server refuses to run a command")]
    Refused,
    /// The login shell did not run the line, or something else answered.
    #[error("no shell answered; it said: {said}")]
    NoShell {
        /// The beginning of what was said instead.
        said: String,
    },
    /// sudo or doas refused.
    #[error("{program} refused: {said}")]
    RiseRefused {
        /// Which.
        program: &'static str,
        /// In its words.
        said: String,
    },
    /// It took too long.
    #[error("no answer within {seconds} s")]
    Timeout {
        /// The limit.
        seconds: u64,
    },
    /// The connection or the script ended too early.
    #[error("the answer broke off")]
    Broken,
    /// A device that is spoken to in another way than by a shell does not do what was asked.
    #[error("{why}")]
    Device {
        /// Why not.
        why: String,
    },
    /// It sends without end.
    #[error("the answer is larger than {limit} bytes")]
    TooLarge {
        /// The limit.
        limit: usize,
    },
    /// The answers of all hosts together are too large.
    #[error("the answers of all hosts together are larger than {limit} bytes; ask fewer at once: --parallel 1")]
    NoRoom {
        /// The limit.
        limit: usize,
    },
}

/// Bytes that a host sent. What is held of them counts against what all hosts may send together, until they are let go.
#[derive(Debug, Default)]
pub struct Said(Vec<u8>);

impl Said {
    fn add(&mut self, bytes: &[u8]) -> Result<(), ExecFault> {
        let all = HELD.fetch_add(bytes.len(), Ordering::Relaxed) + bytes.len();
        let limit = most_held(all, self.0.len() + bytes.len());
        if all > limit {
            HELD.fetch_sub(bytes.len(), Ordering::Relaxed);
            return Err(ExecFault::NoRoom { limit });
        }
        // By a quarter and not by the double: what is set aside and not used counts against nobody.
        if bytes.len() > self.0.capacity() - self.0.len() {
            self.0.reserve_exact(bytes.len().max(self.0.len() / 4).max(GROWTH_MIN));
        }
        self.0.extend_from_slice(bytes);
        Ok(())
    }

    /// Takes the first bytes away.
    fn take(&mut self, length: usize) -> Self {
        let rest = self.0.split_off(length);
        Self(std::mem::replace(&mut self.0, rest))
    }
}

/// How much may be held, where so much is and one answer has so much of it.
fn most_held(all: usize, own: usize) -> usize {
    if all.saturating_sub(own) <= FEW_BYTES { ALONE_BYTES_MAX } else { HELD_BYTES_MAX }
}

impl std::ops::Deref for Said {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        &self.0
    }
}

impl Drop for Said {
    fn drop(&mut self) {
        HELD.fetch_sub(self.0.len(), Ordering::Relaxed);
    }
}

/// A script under way.
pub struct Exec {
    channel: russh::Channel<Msg>,
    output: Said,
    errors: Vec<u8>,
    deadline: Instant,
    seconds: u64,
    ended: bool,
    /// A word that nobody else knows, printed right before a password may be asked for.
    mark: String,
    host: String,
    started: Instant,
}

impl RootBy {
    /// With whose rights, for the trace.
    fn told(&self) -> &'static str {
        match self {
            Self::Nobody => "with the login's rights",
            Self::Sudo | Self::SudoPassword(_) => "with root's rights by sudo",
            Self::Doas | Self::DoasPassword(_) => "with root's rights by doas",
        }
    }
}

impl Connection {
    /// Starts a script and waits until its shell has greeted. `time` bounds the whole run.
    ///
    /// # Errors
    /// [`ExecFault`].
    pub async fn start(&self, script: &str, root_by: &RootBy, time: Duration) -> Result<Exec, ExecFault> {
        let deadline = Instant::now() + time;
        let seconds = time.as_secs();
        let open = tokio::time::timeout_at(deadline, self.handle.channel_open_session()).await;
        let channel = open.map_err(|_| ExecFault::Timeout { seconds })?.map_err(|_| ExecFault::Refused)?;
        let mut exec = Exec {
            channel,
            output: Said::default(),
            errors: Vec::new(),
            deadline,
            seconds,
            ended: false,
            mark: mark(),
            host: self.host.clone(),
            started: Instant::now(),
        };
        let shell = format!("/bin/sh -c 'echo lavrin-hello; eval \"$({})\"'", read_exactly(script.len()));
        let command = match root_by {
            RootBy::Nobody => format!("exec {shell}"),
            RootBy::Sudo => format!("exec sudo -n {shell}"),
            // It asks with a word that nobody can say before it.
            RootBy::SudoPassword(_) => format!("exec sudo -k -S -p {} {shell}", exec.mark),
            RootBy::Doas => format!("exec doas -n {shell}"),
            // The terminal must hand bytes through as they are, once doas has read the password from it.
            RootBy::DoasPassword(_) => {
                let shell = shell.replacen("'echo", "'stty raw -echo 2>/dev/null; echo", 1);
                format!("printf {} ; exec doas {shell}", exec.mark)
            }
        };
        if let RootBy::DoasPassword(_) = root_by {
            let pty = exec.channel.request_pty(true, "dumb", 200, 50, 0, 0, &[]);
            pty.await.map_err(|_| ExecFault::Refused)?;
        }
        exec.channel.exec(true, command).await.map_err(|_| ExecFault::Refused)?;
        exec.greet(root_by).await?;
        exec.send(script.as_bytes()).await?;
        tracing::debug!("{}: a script of {} bytes runs {}", self.host, script.len(), root_by.told());
        Ok(exec)
    }
}

/// What a program said, as one line: its lines parted by `; `, safe to show.
fn in_one_line(said: &[u8]) -> String {
    let text = String::from_utf8_lossy(said);
    let lines = text.lines().map(str::trim).filter(|line| !line.is_empty());
    let lines: Vec<String> = lines.map(|line| lavrin_keys::text::printable(line.as_bytes())).collect();
    lines.join("; ").chars().take(SAID_SHOWN).collect()
}

impl Exec {
    async fn greet(&mut self, root_by: &RootBy) -> Result<(), ExecFault> {
        match root_by {
            RootBy::SudoPassword(password) => self.give(password, "sudo", self.mark.clone().as_bytes()).await?,
            RootBy::DoasPassword(password) => self.give(password, "doas", DOAS_ASKS).await?,
            RootBy::Nobody | RootBy::Sudo | RootBy::Doas => {}
        }
        let mut searched = Searched::default();
        loop {
            if let Some(end) = searched.greeting(&self.output) {
                drop(self.output.take(end));
                return Ok(());
            }
            if self.ended || self.output.len() > NOISE_BYTES_MAX {
                return Err(self.no_greeting(root_by));
            }
            self.receive().await?;
        }
    }

    fn no_greeting(&self, root_by: &RootBy) -> ExecFault {
        let said = [&self.errors[..], &self.output[..]].concat();
        let said = in_one_line(&said);
        match root_by {
            RootBy::Sudo if said.contains("a password is required") => {
                let said = format!("it asks for a password, and got none ({said})");
                ExecFault::RiseRefused { program: "sudo", said }
            }
            RootBy::Nobody => ExecFault::NoShell { said: said.chars().take(NO_SHELL_SHOWN).collect() },
            RootBy::Sudo | RootBy::SudoPassword(_) => ExecFault::RiseRefused { program: "sudo", said },
            RootBy::Doas | RootBy::DoasPassword(_) => ExecFault::RiseRefused { program: "doas", said },
        }
    }

    /// Hands over the password once it is asked for, never before: a shell would take it for a command.
    async fn give(&mut self, password: &Zeroizing<String>, program: &'static str, ask: &[u8]) -> Result<(), ExecFault> {
        if ask == DOAS_ASKS {
            self.reach_mark(program).await?;
        }
        let (mut errors, mut asked, mut greeted) = (Searched::default(), Searched::default(), Searched::default());
        while errors.find(&self.errors, ask).is_none() && asked.find(&self.output, ask).is_none() {
            if greeted.greeting(&self.output).is_some() {
                return Ok(()); // it did not want one
            }
            if self.ended {
                let said = in_one_line(&self.errors);
                return Err(ExecFault::RiseRefused { program, said });
            }
            self.receive().await?;
        }
        if ask == DOAS_ASKS && !is_doas_asking(&self.output) {
            let said = "something else spoke where it should ask for the password; it was not given".to_owned();
            return Err(ExecFault::RiseRefused { program, said });
        }
        self.errors.clear();
        let mut line = Zeroizing::new(Vec::with_capacity(password.len() + 1));
        line.extend_from_slice(password.as_bytes());
        line.push(b'\n');
        self.send(&line).await?;
        // Asked a second time, it was wrong; another try could lock the account.
        let mut errors = Searched::default();
        while greeted.greeting(&self.output).is_none() && !self.ended {
            if errors.find(&self.errors, ask).is_some() {
                return Err(ExecFault::RiseRefused { program, said: "the password is wrong".to_owned() });
            }
            self.receive().await?;
        }
        Ok(())
    }

    /// Passes over what the login's shell prints before it comes to our line.
    async fn reach_mark(&mut self, program: &'static str) -> Result<(), ExecFault> {
        let mut searched = Searched::default();
        loop {
            if let Some(at) = searched.find(&self.output, self.mark.as_bytes()) {
                drop(self.output.take(at + self.mark.len()));
                return Ok(());
            }
            if self.ended || self.output.len() > NOISE_BYTES_MAX {
                let said = in_one_line(&self.output);
                return Err(ExecFault::RiseRefused { program, said });
            }
            self.receive().await?;
        }
    }

    /// Sends bytes to the script's standard input.
    ///
    /// # Errors
    /// [`ExecFault::Broken`] or [`ExecFault::Timeout`].
    pub async fn send(&mut self, bytes: &[u8]) -> Result<(), ExecFault> {
        let sending = tokio::time::timeout_at(self.deadline, self.channel.data(bytes));
        sending.await.map_err(|_| ExecFault::Timeout { seconds: self.seconds })?.map_err(|_| ExecFault::Broken)
    }

    /// Waits until the output holds `end`, at most so many bytes; gives everything up to and including it, and keeps the rest.
    ///
    /// # Errors
    /// [`ExecFault::Broken`] where the script ends before, and the limits of time and size.
    pub async fn until(&mut self, end: &[u8], limit: usize) -> Result<Said, ExecFault> {
        let mut searched = Searched::default();
        loop {
            if let Some(at) = searched.find(&self.output, end) {
                return Ok(self.output.take(at + end.len()));
            }
            if self.ended {
                return Err(ExecFault::Broken);
            }
            if self.output.len() > limit {
                return Err(ExecFault::TooLarge { limit });
            }
            self.receive().await?;
        }
    }

    /// Ends a conversation in which nothing more is sent.
    pub async fn end(self) {
        let _ = self.channel.eof().await;
        self.close().await;
    }

    /// Ends the conversation once the script has ended. Closing the channel earlier would race with the server's own
    /// closing of it, and hit the next channel on servers that use the number again.
    pub async fn close(mut self) {
        tracing::debug!("{}: the script took {} ms", self.host, self.started.elapsed().as_millis());
        self.deadline = self.deadline.min(Instant::now() + CLOSE_TIMEOUT);
        while !self.ended && self.output.len() < NOISE_BYTES_MAX {
            if self.receive().await.is_err() {
                let _ = tokio::time::timeout(CLOSE_TIMEOUT, self.channel.close()).await;
                return;
            }
        }
    }

    async fn receive(&mut self) -> Result<(), ExecFault> {
        let message = tokio::time::timeout_at(self.deadline, self.channel.wait());
        match message.await.map_err(|_| ExecFault::Timeout { seconds: self.seconds })? {
            Some(ChannelMsg::Data { data }) => self.output.add(&data)?,
            Some(ChannelMsg::ExtendedData { data, .. }) => {
                if self.errors.len() < NOISE_BYTES_MAX {
                    self.errors.extend_from_slice(&data);
                }
            }
            Some(ChannelMsg::Failure) => return Err(ExecFault::Refused),
            Some(ChannelMsg::Close) | None => self.ended = true,
            Some(_) => {}
        }
        Ok(())
    }
}

fn mark() -> String {
    let mut bytes = [0u8; 8];
    SystemSource.fill(&mut bytes);
    format!("lavrin-{:016x}", u64::from_le_bytes(bytes))
}

/// Whether this is the question of doas and nothing else: a password is not handed to whatever a login prints before it.
fn is_doas_asking(said: &[u8]) -> bool {
    let said = said.trim_ascii_start();
    said.starts_with(DOAS_BEGINS) && said.ends_with(DOAS_ASKS) && !said.contains(&b'\n')
}

/// How far bytes that come piece by piece have been searched: each is looked at once, in however small pieces they come.
#[derive(Default)]
struct Searched(usize);

impl Searched {
    /// Where the words stand, if they have come.
    fn find(&mut self, bytes: &[u8], words: &[u8]) -> Option<usize> {
        let from = self.0.min(bytes.len());
        let found = memchr::memmem::find(&bytes[from..], words).map(|at| from + at);
        if found.is_none() {
            self.0 = bytes.len().saturating_sub(words.len().saturating_sub(1));
        }
        found
    }

    /// Where the greeting ends, if it has come. A terminal turns line ends into two characters until the script has told it
    /// not to.
    fn greeting(&mut self, bytes: &[u8]) -> Option<usize> {
        let word = HELLO.trim_ascii_end();
        loop {
            let end = self.find(bytes, word)? + word.len();
            match &bytes[end..] {
                [b'\n', ..] => return Some(end + 1),
                [b'\r', b'\n', ..] => return Some(end + 2),
                // The line end may be still to come.
                [] | [b'\r'] => return None,
                _ => self.0 = end,
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::{ALONE_BYTES_MAX, FEW_BYTES, GROWTH_MIN, HELD_BYTES_MAX, Said, Searched, is_doas_asking, most_held};

    #[test]
    fn several_that_send_much_hold_less_together_than_one_alone() {
        assert_eq!(most_held(200 << 20, 200 << 20), ALONE_BYTES_MAX);
        assert_eq!(most_held((200 << 20) + FEW_BYTES, 200 << 20), ALONE_BYTES_MAX);
        assert_eq!(most_held(150 << 20, 100 << 20), HELD_BYTES_MAX);
    }

    #[test]
    fn an_answer_sets_little_more_aside_than_it_holds() {
        let mut said = Said::default();
        for chunk in (0..4_000).map(|number| vec![b'x'; 1 + number % 800]) {
            said.add(&chunk).unwrap();
            assert!(said.0.capacity() <= said.len() * 5 / 4 + GROWTH_MIN, "{} for {}", said.0.capacity(), said.len());
        }
        assert!(said.len() > 1_000_000);
    }

    #[test]
    fn the_greeting_is_found_however_it_is_cut_and_only_with_its_line_end() {
        for (said, end) in [
            (&b"welcome\nlavrin-hello\nrest"[..], Some(21)),
            (b"lavrin-hello\r\nrest", Some(14)),
            (b"lavrin-hello, lavrin-hello\n", Some(27)),
            (b"lavrin-hello\rlavrin-hello", None),
            (b"lavrin-hell\no\n", None),
        ] {
            let mut searched = Searched::default();
            let found = (0..=said.len()).find_map(|length| searched.greeting(&said[..length]));
            assert_eq!(found, end, "{}", String::from_utf8_lossy(said));
            assert_eq!(Searched::default().greeting(said), end);
        }
    }

    #[test]
    fn a_password_goes_to_doas_at_its_own_question_only() {
        assert!(is_doas_asking(b"\rdoas (edda@lantern) password: "));
        for other in
            [&b"x\r\ndoas (edda@lantern) password: "[..], b"New password: ", b"doas (edda@lantern) password: x"]
        {
            assert!(!is_doas_asking(other), "{}", String::from_utf8_lossy(other));
        }
    }

    #[test]
    fn bytes_that_come_one_by_one_are_each_looked_at_once() {
        let noise = vec![b'x'; 100_000];
        let mut searched = Searched::default();
        let mut looked_at = 0;
        for length in 1..=noise.len() {
            looked_at += length - searched.0;
            assert_eq!(searched.find(&noise[..length], b"\nL0 Z\n"), None);
        }
        assert!(looked_at < 8 * noise.len(), "{looked_at}");
    }
}
