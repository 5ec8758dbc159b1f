//! One line after the other with a device that has a language of its own. Nothing is guessed: what its profile does not expect stops the
//! work.

use super::screen;
use crate::ssh::Subsystem;
use lavrin_keys::text::printable;
use lavrin_server::device::{Doing, MarkValues, Profile, Template};
use std::sync::Arc;
use std::time::Duration;
use thiserror::Error;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::time::{Instant, timeout_at};

/// Most bytes of one answer: a long list of keys.
const ANSWER_BYTES_MAX: usize = 1 << 20;

/// A prompt is one once nothing more has come for this time.
const SETTLES: Duration = Duration::from_millis(40);

/// How many lines of an answer an error shows, and how many characters of each.
const LINES_TOLD: usize = 4;
const CHARACTERS_TOLD: usize = 120;

/// Steps back to where work begins, at most.
const BACK_MAX: usize = 8;

/// So many pages an answer may have.
const PAGES_MAX: usize = 10_000;

/// A line that was typed, and what the device said to it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Exchange {
    /// What was typed; nothing at the beginning.
    pub sent: String,
    /// The lines that came back.
    pub said: Vec<String>,
    /// The prompt behind them.
    pub prompt: String,
}

/// Why the work stops.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub(super) enum DialogueFault {
    #[error("it ended the session")]
    Ended,
    #[error("it does not wait for a line within {seconds} s{}; it said: {}", after(.sent), told(.said))]
    Timeout { seconds: u64, sent: String, said: Vec<String> },
    #[error("its answer{} is longer than {} KiB", after(.0), ANSWER_BYTES_MAX >> 10)]
    TooMuch(String),
    #[error("its profile does not expect what it says{}: {}", after(.sent), told(.said))]
    Unexpected { sent: String, said: Vec<String> },
    #[error("the line '{0}' of its profile has a mark for which there is nothing here")]
    NoValue(String),
    /// It says no; the session goes on.
    #[error("it refuses{}: {}", after(.sent), told(.said))]
    Refused { sent: String, said: Vec<String> },
}

fn after(sent: &str) -> String {
    let shown: String = printable(sent.as_bytes()).chars().take(CHARACTERS_TOLD).collect();
    if sent.is_empty() { " at first".to_owned() } else { format!(" to '{shown}'") }
}

fn told(said: &[String]) -> String {
    let lines = said.iter().take(LINES_TOLD).map(|line| {
        let line: String = printable(line.as_bytes()).chars().take(CHARACTERS_TOLD).collect();
        format!("'{line}'")
    });
    let lines: Vec<String> = lines.collect();
    if lines.is_empty() { "nothing".to_owned() } else { lines.join(", ") }
}

pub(super) struct DialogueLine {
    stream: Subsystem,
    pub(super) profile: Arc<Profile>,
    limit: Duration,
    broken: Option<DialogueFault>,
    /// The prompt that stands there now.
    prompt: String,
    exchanges: Vec<Exchange>,
}

impl DialogueLine {
    /// Waits for the first prompt and types what comes first.
    pub(super) async fn open(stream: Subsystem, profile: Arc<Profile>, limit: Duration) -> Result<Self, DialogueFault> {
        // What a device says too late is still told within the time of the whole step.
        let limit = (limit / 2).min(profile.patience);
        let mut line = Self { stream, profile, limit, broken: None, prompt: String::new(), exchanges: Vec::new() };
        // What it greets with is its own.
        line.answer("").await?;
        let start = line.profile.start.clone();
        line.carry_out(&start, &MarkValues::new()).await?;
        Ok(line)
    }

    /// Everything that was typed and said, in order.
    pub(super) fn exchanges(&self) -> &[Exchange] {
        &self.exchanges
    }

    /// Whether the session is over.
    pub(super) fn is_broken(&self) -> bool {
        self.broken.is_some()
    }

    /// Types lines that say nothing but what their profile expects.
    pub(super) async fn carry_out(&mut self, doing: &Doing, values: &MarkValues) -> Result<(), DialogueFault> {
        for template in &doing.send {
            let said = self.type_line(template, values).await?;
            if said.iter().any(|line| !is_expected(line, &doing.says, values)) {
                let sent = template.text().to_owned();
                return self.stop(DialogueFault::Unexpected { sent, said });
            }
        }
        Ok(())
    }

    /// Types lines and gives everything that was said to them.
    pub(super) async fn ask(&mut self, doing: &Doing, values: &MarkValues) -> Result<Vec<String>, DialogueFault> {
        let mut said = Vec::new();
        for template in &doing.send {
            said.extend(self.type_line(template, values).await?);
        }
        Ok(said)
    }

    /// What the profile does not expect stops everything.
    pub(super) fn stop<T>(&mut self, fault: DialogueFault) -> Result<T, DialogueFault> {
        self.broken = Some(fault.clone());
        Err(fault)
    }

    async fn type_line(&mut self, template: &Template, values: &MarkValues) -> Result<Vec<String>, DialogueFault> {
        let Some(text) = template.filled(values) else {
            return Err(DialogueFault::NoValue(template.text().to_owned()));
        };
        let said = self.say(&text).await?;
        let errors = &self.profile.errors;
        if said.iter().any(|line| errors.iter().any(|error| line.starts_with(error.as_str()))) {
            self.go_back().await?;
            return Err(DialogueFault::Refused { sent: template.text().to_owned(), said });
        }
        Ok(said)
    }

    /// Goes back to where work begins.
    async fn go_back(&mut self) -> Result<(), DialogueFault> {
        let Some(back) = self.profile.back.as_ref().map(|back| back.text().to_owned()) else { return Ok(()) };
        for _ in 0..BACK_MAX {
            if self.profile.prompts.first() == Some(&self.prompt) {
                return Ok(());
            }
            self.say(&back).await?;
        }
        let said = vec![self.prompt.clone()];
        self.stop(DialogueFault::Unexpected { sent: back, said })
    }

    /// Types one line, or several that belong together, and gives the answer's lines.
    async fn say(&mut self, text: &str) -> Result<Vec<String>, DialogueFault> {
        if let Some(fault) = &self.broken {
            return Err(fault.clone());
        }
        let end = self.profile.line_end.text();
        let bytes: String = text.lines().map(|line| format!("{line}{end}")).collect();
        // A bare return is a line too.
        let bytes = if bytes.is_empty() { end.to_owned() } else { bytes };
        if let Err(fault) = self.write(bytes.as_bytes()).await {
            return self.stop(fault);
        }
        match self.answer(text).await {
            Ok(said) => Ok(said),
            Err(fault) => self.stop(fault),
        }
    }

    async fn write(&mut self, bytes: &[u8]) -> Result<(), DialogueFault> {
        let write = async {
            self.stream.write_all(bytes).await?;
            self.stream.flush().await
        };
        let written = tokio::time::timeout(self.limit, write).await;
        written.map_err(|_| DialogueFault::Ended)?.map_err(|_| DialogueFault::Ended)
    }

    /// Reads until the device waits for a line.
    async fn answer(&mut self, sent: &str) -> Result<Vec<String>, DialogueFault> {
        let deadline = Instant::now() + self.limit;
        let (mut raw, mut part) = (Vec::new(), vec![0; 16 << 10]);
        // What has been read as lines, and how far: each byte is looked at once.
        let mut lines: Vec<String> = Vec::new();
        let (mut read, mut pages) = (0, 0);
        loop {
            while let Some(length) = memchr::memchr(b'\n', &raw[read..]) {
                lines.push(screen::line(&String::from_utf8_lossy(&raw[read..read + length])));
                read += length + 1;
            }
            let last = screen::line(&String::from_utf8_lossy(&raw[read..]));
            let waits = self.profile.prompts.contains(&last);
            if let Some((shows, send)) = self.profile.pager.clone().filter(|(shows, _)| last == *shows) {
                pages += 1;
                if pages > PAGES_MAX {
                    return Err(DialogueFault::TooMuch(sent.to_owned()));
                }
                tracing::debug!("{}: {shows}", self.profile.name);
                raw.truncate(read);
                self.write(send.as_bytes()).await?;
            }
            let until = if waits { (Instant::now() + SETTLES).min(deadline) } else { deadline };
            match timeout_at(until, self.stream.read(&mut part)).await {
                Ok(Ok(0) | Err(_)) => return Err(DialogueFault::Ended),
                Ok(Ok(length)) if raw.len() + length > ANSWER_BYTES_MAX => {
                    return Err(DialogueFault::TooMuch(sent.to_owned()));
                }
                Ok(Ok(length)) => raw.extend_from_slice(&part[..length]),
                Err(_) if waits => {
                    self.prompt = last;
                    return Ok(self.keep(sent, lines));
                }
                Err(_) => {
                    let seconds = self.limit.as_secs();
                    lines.push(last);
                    lines.retain(|line| !line.is_empty());
                    return Err(DialogueFault::Timeout { seconds, sent: sent.to_owned(), said: lines });
                }
            }
        }
    }

    /// The lines without what was typed, which a device may show again, and without empty ones.
    fn keep(&mut self, sent: &str, mut lines: Vec<String>) -> Vec<String> {
        for typed in sent.lines() {
            if lines.first().is_some_and(|line| line.trim_start() == typed.trim()) {
                lines.remove(0);
            }
        }
        lines.retain(|line| !line.is_empty());
        let exchange = Exchange { sent: sent.to_owned(), said: lines.clone(), prompt: self.prompt.clone() };
        tracing::trace!("{}: {exchange:?}", self.profile.name);
        self.exchanges.push(exchange);
        lines
    }

    /// Ends the session.
    pub(super) async fn leave(&mut self) {
        if let Some(leave) = self.profile.leave.as_ref().filter(|_| self.broken.is_none()) {
            let line = format!("{}{}", leave.text(), self.profile.line_end.text());
            let _ = self.write(line.as_bytes()).await;
        }
    }
}

/// Whether a profile expects a line.
pub(super) fn is_expected(line: &str, says: &[Template], values: &MarkValues) -> bool {
    says.iter().any(|template| template.fits(line, values).is_some())
}
