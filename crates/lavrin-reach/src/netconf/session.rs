//! A session with a device: hellos, requests and answers (RFC 6241, sections 4 and 8; RFC 6242).

use super::framing::{Framing, FramingFault, MessageBuffer, framed};
use super::xml::{BASE, Element, Namespace, SYSTEM, XmlFault};
use crate::ssh::Subsystem;
use std::time::Duration;
use thiserror::Error;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::time::{Instant, timeout_at};

/// What every capability of the protocol begins with.
const CAPABILITY: &str = "urn:ietf:params:netconf:";

/// Most messages that are passed over while an answer is waited for (RFC 5277: notifications).
const PASSED_OVER_MAX: usize = 100;

/// A device may not listen yet in the moment in which its greeting was answered: one that reads both at once waits for more, for ever.
const AFTER_HELLO: Duration = Duration::from_millis(60);

/// How long a device has to say goodbye.
const GOODBYE: Duration = Duration::from_secs(1);

/// Why a session ended or a request came to nothing.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum SessionFault {
    /// The device says nothing more.
    #[error("it ended the session")]
    Ended,
    /// It did not answer in time.
    #[error("it did not answer within {seconds} s")]
    Timeout {
        /// The limit.
        seconds: u64,
    },
    /// Its messages cannot be told apart.
    #[error(transparent)]
    Framing(#[from] FramingFault),
    /// It says something that is no message.
    #[error("its answer cannot be read: {0}")]
    Xml(#[from] XmlFault),
    /// It greets in another way than the protocol says.
    #[error("it does not greet as RFC 6241 says")]
    Hello,
    /// It speaks no version of the protocol that is known here.
    #[error("it speaks neither base:1.0 nor base:1.1")]
    Version,
    /// It answers something that was not asked.
    #[error("it answers another request than the one that was made")]
    WrongAnswer,
    /// It refuses; the session goes on.
    #[error("{}", list(.0))]
    Refused(Vec<RpcError>),
}

impl SessionFault {
    /// Whether the device understood and said no: then nothing of the request was done.
    pub fn refusal(&self) -> Option<&[RpcError]> {
        match self {
            Self::Refused(errors) => Some(errors),
            _ => None,
        }
    }
}

/// Why a device refuses, in its own words (RFC 6241, section 4.3).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RpcError {
    /// The kind of fault, one of a fixed list.
    pub tag: String,
    /// What it is about, where it says so.
    pub path: String,
    /// In words, for people.
    pub message: String,
}

/// Longest text of a device that is shown, in characters.
const TOLD_MAX: usize = 200;

fn list(errors: &[RpcError]) -> String {
    let told = errors.iter().take(3).map(|error| {
        let mut text = error.tag.clone();
        for more in [&error.message, &error.path].into_iter().filter(|more| !more.is_empty()) {
            text += ", ";
            text += more;
        }
        lavrin_keys::text::printable(text.as_bytes()).chars().take(TOLD_MAX).collect::<String>()
    });
    told.collect::<Vec<_>>().join("; ")
}

/// What a device says that it can do.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Capabilities {
    /// The running configuration can be written.
    pub writes_running: bool,
    /// Changes are made in a candidate and taken over by a commit.
    pub candidate: bool,
    /// A commit holds only once it was confirmed.
    pub confirmed_commit: bool,
    /// A confirmed commit can be called off (version 1.1 of it).
    pub cancels: bool,
    /// A failed request leaves nothing behind.
    pub rolls_back: bool,
    /// A request is checked before it is carried out.
    pub tests_first: bool,
    /// What runs after a start is a configuration of its own.
    pub startup: bool,
    /// It says that it knows accounts and their keys.
    pub accounts: bool,
    /// It lists what it knows in a library instead.
    pub library: bool,
}

impl Capabilities {
    fn read(hello: &Element) -> Option<(Self, bool, bool)> {
        let mut found = Self::default();
        let (mut old, mut new) = (false, false);
        let list = hello.one("capabilities")?;
        for capability in list.all("capability") {
            let text = capability.text.trim();
            if let Some(rest) = text.strip_prefix(SYSTEM) {
                found.accounts |= knows_accounts(rest);
            }
            if text.starts_with("urn:ietf:params:xml:ns:yang:ietf-yang-library") {
                found.library = true;
            }
            let Some(name) = text.strip_prefix(CAPABILITY) else { continue };
            match name.split('?').next().unwrap_or(name) {
                "base:1.0" => old = true,
                "base:1.1" => new = true,
                "capability:writable-running:1.0" => found.writes_running = true,
                "capability:candidate:1.0" => found.candidate = true,
                "capability:confirmed-commit:1.0" => found.confirmed_commit = true,
                "capability:confirmed-commit:1.1" => (found.confirmed_commit, found.cancels) = (true, true),
                "capability:rollback-on-error:1.0" => found.rolls_back = true,
                "capability:validate:1.0" | "capability:validate:1.1" => found.tests_first = true,
                "capability:startup:1.0" => found.startup = true,
                "capability:yang-library:1.0" | "capability:yang-library:1.1" => found.library = true,
                _ => {}
            }
        }
        Some((found, old, new))
    }
}

/// Whether the model is there with accounts of the device itself. A list of features that is missing says nothing about them.
fn knows_accounts(rest: &str) -> bool {
    let features = rest.split(['?', '&']).find_map(|part| part.strip_prefix("features="));
    features.is_none_or(|features| features.split(',').any(|feature| feature == "local-users"))
}

/// A session that is open.
pub struct Session {
    stream: Subsystem,
    incoming: MessageBuffer,
    framing: Framing,
    /// What the device says that it can do.
    pub capabilities: Capabilities,
    requests: u64,
    /// For each answer.
    limit: Duration,
    /// The session cannot go on, and why.
    broken: Option<SessionFault>,
}

impl Session {
    /// Greets. Each answer has to come within this time.
    ///
    /// # Errors
    /// [`SessionFault`].
    pub async fn open(stream: Subsystem, limit: Duration) -> Result<Self, SessionFault> {
        let mut session = Self {
            stream,
            incoming: MessageBuffer::default(),
            framing: Framing::EndOfMessage,
            capabilities: Capabilities::default(),
            requests: 0,
            limit,
            broken: None,
        };
        let hello = format!(
            "<hello xmlns=\"{BASE}\"><capabilities><capability>{CAPABILITY}base:1.0</capability><capability>{CAPABILITY}base:1.1</capability></capabilities></hello>"
        );
        let deadline = Instant::now() + limit;
        session.write(&hello, deadline).await?;
        let theirs = session.read(deadline).await?;
        if !theirs.is(Namespace::Base, "hello") || theirs.value("session-id").is_none() {
            return Err(SessionFault::Hello);
        }
        let (capabilities, old, new) = Capabilities::read(&theirs).ok_or(SessionFault::Hello)?;
        session.framing = match (new, old) {
            (true, _) => Framing::Chunked,
            (false, true) => Framing::EndOfMessage,
            (false, false) => return Err(SessionFault::Version),
        };
        session.capabilities = capabilities;
        tokio::time::sleep(AFTER_HELLO).await;
        Ok(session)
    }

    /// Makes a request and gives what is in the answer.
    ///
    /// # Errors
    /// [`SessionFault`]; only after [`SessionFault::Refused`] the session goes on.
    pub async fn request(&mut self, body: &str) -> Result<Element, SessionFault> {
        if let Some(fault) = &self.broken {
            return Err(fault.clone());
        }
        let answer = self.ask(body).await;
        if let Err(fault) = &answer
            && fault.refusal().is_none()
        {
            self.broken = Some(fault.clone());
        }
        answer
    }

    /// Whether requests can still be made.
    pub fn is_broken(&self) -> bool {
        self.broken.is_some()
    }

    async fn ask(&mut self, body: &str) -> Result<Element, SessionFault> {
        self.requests += 1;
        let id = self.requests.to_string();
        let deadline = Instant::now() + self.limit;
        // Declarations beyond these two come back as the same attribute twice from some devices.
        self.write(&format!("<rpc message-id=\"{id}\" xmlns=\"{BASE}\">{body}</rpc>"), deadline).await?;
        for _ in 0..PASSED_OVER_MAX {
            let answer = self.read(deadline).await?;
            if answer.name == "notification" {
                continue;
            }
            if !answer.is(Namespace::Base, "rpc-reply") || answer.message_id.as_deref() != Some(id.as_str()) {
                return Err(SessionFault::WrongAnswer);
            }
            let errors: Vec<RpcError> = answer.all("rpc-error").filter_map(error).collect();
            return if errors.is_empty() { Ok(answer) } else { Err(SessionFault::Refused(errors)) };
        }
        Err(SessionFault::WrongAnswer)
    }

    async fn write(&mut self, message: &str, deadline: Instant) -> Result<(), SessionFault> {
        let bytes = framed(message, self.framing);
        let write = async {
            self.stream.write_all(&bytes).await?;
            self.stream.flush().await
        };
        let seconds = self.limit.as_secs();
        let written = timeout_at(deadline, write).await.map_err(|_| SessionFault::Timeout { seconds })?;
        written.map_err(|_| SessionFault::Ended)
    }

    async fn read(&mut self, deadline: Instant) -> Result<Element, SessionFault> {
        let mut buffer = vec![0; 64 << 10];
        loop {
            if let Some(message) = self.incoming.next(self.framing)? {
                return Ok(Element::read(&message)?);
            }
            let seconds = self.limit.as_secs();
            let read = timeout_at(deadline, self.stream.read(&mut buffer)).await;
            match read.map_err(|_| SessionFault::Timeout { seconds })? {
                Ok(0) | Err(_) => return Err(SessionFault::Ended),
                Ok(length) => self.incoming.push(&buffer[..length]),
            }
        }
    }

    /// Says goodbye. A commit that was not confirmed is called off by it.
    pub async fn close(mut self) {
        if self.broken.is_none() {
            self.limit = self.limit.min(GOODBYE);
            let _ = self.ask("<close-session/>").await;
        }
        let _ = tokio::time::timeout(GOODBYE, self.stream.shutdown()).await;
    }
}

/// A warning is none.
fn error(element: &Element) -> Option<RpcError> {
    if element.value("error-severity") == Some("warning") {
        return None;
    }
    let word = |name: &str| element.value(name).unwrap_or_default().to_owned();
    Some(RpcError { tag: word("error-tag"), path: word("error-path"), message: word("error-message") })
}

#[cfg(test)]
mod tests {
    use super::*;
    use tokio::io::duplex;

    fn hello(capabilities: &[&str]) -> String {
        let list: String = capabilities.iter().map(|one| format!("<capability>{one}</capability>")).collect();
        format!("<hello xmlns='{BASE}'><capabilities>{list}</capabilities><session-id>4</session-id></hello>]]>]]>")
    }

    /// A device that says this, whatever it is asked, and then listens.
    async fn session(said: &[u8]) -> Result<Session, SessionFault> {
        let (own, mut device) = duplex(1 << 20);
        device.write_all(said).await.unwrap();
        tokio::spawn(async move {
            let mut heard = Vec::new();
            let _ = device.read_to_end(&mut heard).await;
        });
        Session::open(Box::new(own), Duration::from_millis(300)).await
    }

    const OLD: &str = "urn:ietf:params:netconf:base:1.0";
    const NEW: &str = "urn:ietf:params:netconf:base:1.1";

    #[tokio::test]
    async fn what_a_device_can_do_is_read_from_its_greeting() {
        let system = format!(
            "{SYSTEM}?module=ietf-system&amp;revision=2014-08-06&amp;features=radius,authentication,local-users"
        );
        let candidate = "urn:ietf:params:netconf:capability:candidate:1.0";
        let confirmed = "urn:ietf:params:netconf:capability:confirmed-commit:1.0";
        let open = session(hello(&[OLD, &system, candidate, confirmed]).as_bytes()).await.unwrap();
        let found = open.capabilities;
        assert!(found.accounts && found.candidate && found.confirmed_commit && !found.cancels && !found.writes_running);
        assert_eq!(open.framing, Framing::EndOfMessage);
        let without = format!("{SYSTEM}?module=ietf-system&amp;features=radius");
        let open = session(hello(&[OLD, NEW, &without]).as_bytes()).await.unwrap();
        assert!(!open.capabilities.accounts && open.framing == Framing::Chunked);
    }

    #[tokio::test]
    async fn a_device_that_greets_wrongly_or_not_at_all_is_let_go() {
        let fault = |said: String| async move { session(said.as_bytes()).await.err().unwrap() };
        assert_eq!(fault(hello(&["urn:other"])).await, SessionFault::Version);
        assert_eq!(fault("<hello/>]]>]]>".to_owned()).await, SessionFault::Hello);
        assert_eq!(fault("welcome to the lamp]]>]]>".to_owned()).await, SessionFault::Xml(XmlFault::Form));
        assert_eq!(fault(String::new()).await, SessionFault::Timeout { seconds: 0 });
        let (own, device) = duplex(1 << 20);
        drop(device);
        let ended = Session::open(Box::new(own), Duration::from_millis(300)).await.err();
        assert_eq!(ended, Some(SessionFault::Ended));
    }

    #[tokio::test]
    async fn an_answer_counts_for_its_own_request_only() {
        let reply = |id: &str, body: &str| {
            framed(&format!("<rpc-reply xmlns='{BASE}' message-id='{id}'>{body}</rpc-reply>"), Framing::Chunked)
        };
        let note = framed("<notification xmlns='urn:ietf:params:xml:ns:netconf:notification:1.0'/>", Framing::Chunked);
        let warning = "<rpc-error><error-severity>warning</error-severity></rpc-error>";
        let error = "<rpc-error><error-tag>lock-denied</error-tag><error-severity>error</error-severity><error-message>session 9 has it</error-message></rpc-error>";
        let said =
            [hello(&[NEW]).into_bytes(), note, reply("1", warning), reply("2", error), reply("4", "<ok/>")].concat();
        let mut open = session(&said).await.unwrap();
        assert!(open.request("<get/>").await.is_ok());
        let refused = open.request("<lock/>").await.unwrap_err();
        assert_eq!(refused.to_string(), "lock-denied, session 9 has it");
        assert_eq!(open.request("<get/>").await, Err(SessionFault::WrongAnswer));
        assert_eq!(open.request("<get/>").await, Err(SessionFault::WrongAnswer), "it is not asked any more");
    }
}
