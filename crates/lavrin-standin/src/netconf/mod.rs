//! A router that keeps accounts and keys in a data store behind NETCONF, with every odd behaviour that was met in the field.

mod store;

use lavrin_keys::key::base64;
use lavrin_reach::netconf::framing::{END, Framing, MessageBuffer};
use lavrin_reach::netconf::xml::{BASE, Element, SYSTEM, escaped};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use store::{ConfigTarget, Datastore};

/// An account of a device.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct DeviceUser {
    /// Its name.
    pub name: String,
    /// Its password, where it has one.
    pub password: Option<String>,
    /// Its keys.
    pub keys: Vec<DeviceKey>,
}

/// A key of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeviceKey {
    /// The name of its place.
    pub name: String,
    /// Its algorithm, as somebody wrote it.
    pub algorithm: String,
    /// The key in base64.
    pub data: String,
}

impl DeviceUser {
    /// One with the keys on these lines; the comments are the names.
    #[must_use]
    pub fn with(name: &str, lines: &[&str]) -> Self {
        let key = |line: &&str| {
            let mut words = line.trim().splitn(3, ' ').map(str::to_owned);
            let (algorithm, data) = (words.next()?, words.next()?);
            Some(DeviceKey { name: words.next().unwrap_or_else(|| "key".to_owned()), algorithm, data })
        };
        Self { name: name.to_owned(), password: None, keys: lines.iter().filter_map(key).collect() }
    }
}

/// How a router differs from one in good order that writes what is in force at once.
#[derive(Debug, Clone)]
pub struct RouterKnobs {
    /// Changes are made in a candidate.
    pub candidate: bool,
    /// A commit may wait for its confirmation; with a version, it can be called off (`1.1`).
    pub confirmed_commit: Option<&'static str>,
    /// What it starts with is a configuration of its own.
    pub startup: bool,
    /// The versions of the protocol that it speaks.
    pub bases: &'static [&'static str],
    /// It does not say that it has accounts.
    pub hides_model: bool,
    /// It lists what it knows in a library instead.
    pub library: bool,
    /// It shows no accounts.
    pub hides_accounts: bool,
    /// It lets nobody change anything.
    pub denies_changes: bool,
    /// It says that a change was made, and does not make it.
    pub loses_changes: bool,
    /// It warns beside every answer.
    pub warns: bool,
    /// Somebody else has locked it.
    pub is_locked: bool,
    /// A request that comes together with the greeting is never answered.
    pub hangs_when_hurried: bool,
    /// Most keys of an account.
    pub keys_max: usize,
    /// It breaks keys up into lines.
    pub folds_keys: bool,
    /// Most bytes of a chunk.
    pub chunk_max: usize,
    /// From this request on it says no word.
    pub silent_from: Option<usize>,
    /// It ends the session in the middle of this answer.
    pub breaks_off_in: Option<usize>,
    /// From this answer on its chunks are broken.
    pub bad_chunks_from: Option<usize>,
    /// It answers other requests than were made.
    pub wrong_ids: bool,
    /// Its answers do not end.
    pub endless: bool,
    /// How long it thinks about each request.
    pub slow: Duration,
    /// The first key of an account ends its password.
    pub first_key_ends_passwords: bool,
}

impl Default for RouterKnobs {
    fn default() -> Self {
        Self {
            candidate: false,
            confirmed_commit: None,
            startup: false,
            bases: &["1.0", "1.1"],
            hides_model: false,
            library: false,
            hides_accounts: false,
            denies_changes: false,
            loses_changes: false,
            warns: false,
            is_locked: false,
            hangs_when_hurried: false,
            keys_max: usize::MAX,
            folds_keys: false,
            chunk_max: usize::MAX,
            silent_from: None,
            breaks_off_in: None,
            bad_chunks_from: None,
            wrong_ids: false,
            endless: false,
            slow: Duration::ZERO,
            first_key_ends_passwords: false,
        }
    }
}

/// Why a request is refused.
#[derive(Debug)]
struct Error {
    tag: &'static str,
    message: String,
}

impl Error {
    fn new(tag: &'static str, message: &str) -> Self {
        Self { tag, message: message.to_owned() }
    }

    fn text(&self) -> String {
        format!(
            "<rpc-error><error-type>application</error-type><error-tag>{}</error-tag><error-severity>error</error-severity><error-message xml:lang=\"en\">{}</error-message></rpc-error>",
            self.tag,
            escaped(&self.message)
        )
    }
}

/// A router.
#[derive(Debug)]
pub struct Router {
    knobs: RouterKnobs,
    state: Mutex<RouterState>,
}

#[derive(Debug)]
struct RouterState {
    store: Datastore,
    sessions: u32,
    requests: usize,
    edits: usize,
    shows_passwords: bool,
}

impl Router {
    /// One with these accounts.
    #[must_use]
    pub fn new(users: Vec<DeviceUser>, knobs: RouterKnobs) -> Self {
        let mut store = Datastore::new(users);
        if knobs.is_locked {
            let _ = store.lock(ConfigTarget::Running, u32::MAX);
        }
        let state = RouterState { store, sessions: 0, requests: 0, edits: 0, shows_passwords: false };
        Self { knobs, state: Mutex::new(state) }
    }

    fn state(&self) -> MutexGuard<'_, RouterState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The accounts as they are in force.
    #[must_use]
    pub fn running(&self) -> Vec<DeviceUser> {
        self.state().store.in_force().to_vec()
    }

    /// The accounts as they are after a restart.
    #[must_use]
    pub fn after_a_restart(&self) -> Vec<DeviceUser> {
        if self.knobs.startup { self.state().store.startup.clone() } else { self.running() }
    }

    /// Somebody puts a key in force, and does not make it lasting.
    pub fn put_on_trial(&self, account: &str, line: &str) {
        let keys = DeviceUser::with(account, &[line]).keys;
        let mut state = self.state();
        if let Some(user) = state.store.running.iter_mut().find(|user| user.name == account) {
            user.keys.extend(keys);
        }
    }

    /// How many requests were made that change something.
    #[must_use]
    pub fn edits(&self) -> usize {
        self.state().edits
    }

    /// Whether it was asked for passwords, and showed them.
    #[must_use]
    pub fn shows_passwords(&self) -> bool {
        self.state().shows_passwords
    }

    /// Whether a key opens an account.
    pub(crate) fn lets_in(&self, account: &str, blob: &[u8]) -> bool {
        let mut state = self.state();
        let user = state.store.in_force().iter().find(|user| user.name == account);
        user.is_some_and(|user| user.keys.iter().any(|key| base64::decode_loosely(key.data.as_bytes()) == blob))
    }

    /// Whether a password opens it.
    pub(crate) fn takes(&self, account: &str, password: &str) -> bool {
        let mut state = self.state();
        let user = state.store.in_force().iter().find(|user| user.name == account);
        user.is_some_and(|user| {
            let ended = self.knobs.first_key_ends_passwords && !user.keys.is_empty();
            !ended && user.password.as_deref() == Some(password)
        })
    }
}

/// A session with somebody.
pub(crate) struct RouterSession {
    id: u32,
    incoming: MessageBuffer,
    framing: Framing,
    greeted: bool,
    hangs: bool,
}

/// What the router says now, and whether the session is over then.
#[derive(Default)]
pub(crate) struct RouterSays {
    pub(crate) bytes: Vec<u8>,
    pub(crate) ends: bool,
    pub(crate) endless: bool,
    pub(crate) after: Duration,
}

impl RouterSession {
    /// Begins; gives the greeting.
    pub(crate) fn begin(router: &Router) -> (Self, Vec<u8>) {
        let mut state = router.state();
        state.sessions += 1;
        let session = Self {
            id: state.sessions,
            incoming: MessageBuffer::default(),
            framing: Framing::EndOfMessage,
            greeted: false,
            hangs: false,
        };
        let hello = router.hello(session.id);
        (session, [hello.as_bytes(), END].concat())
    }

    /// Takes in what came, and answers what is whole.
    pub(crate) fn take(&mut self, bytes: &[u8], router: &Router) -> RouterSays {
        self.incoming.push(bytes);
        let mut said = RouterSays { after: router.knobs.slow, ..RouterSays::default() };
        while !said.ends {
            let message = match self.incoming.next(self.framing) {
                Ok(Some(message)) => message,
                Ok(None) => break,
                Err(_) => {
                    said.ends = true;
                    break;
                }
            };
            let Ok(request) = Element::read(&message) else {
                said.ends = true;
                break;
            };
            if !self.greeted {
                self.greet(&request, router);
                // Whatever came in the same moment is lost.
                self.hangs = router.knobs.hangs_when_hurried && bytes.len() > message.len() + END.len();
                continue;
            }
            if self.hangs {
                break;
            }
            self.answer(&request, router, &mut said);
        }
        said
    }

    fn greet(&mut self, hello: &Element, router: &Router) {
        let has = |base: &str| {
            let capability = format!("urn:ietf:params:netconf:base:{base}");
            let theirs = hello.one("capabilities");
            let offered = theirs.is_some_and(|list| list.all("capability").any(|one| one.text.trim() == capability));
            offered && router.knobs.bases.contains(&base)
        };
        self.framing = if has("1.1") { Framing::Chunked } else { Framing::EndOfMessage };
        self.greeted = true;
    }

    fn answer(&self, request: &Element, router: &Router, said: &mut RouterSays) {
        let mut state = router.state();
        state.requests += 1;
        let (number, knobs) = (state.requests, &router.knobs);
        if knobs.silent_from.is_some_and(|from| number >= from) {
            return;
        }
        let operation = request.parts.first();
        let name = operation.map(|operation| operation.name.as_str()).unwrap_or_default();
        let body = match operation
            .map_or_else(|| Err(Error::new("missing-element", "")), |own| state.carry_out(own, self.id, knobs))
        {
            Ok(body) => body,
            Err(error) => error.text(),
        };
        drop(state);
        let warning = "<rpc-error><error-type>application</error-type><error-tag>operation-failed</error-tag><error-severity>warning</error-severity><error-message>the lamp is cold</error-message></rpc-error>";
        // Beside a warning some leave out that it is well.
        let body = match (knobs.warns, body.as_str()) {
            (true, "<ok/>") => warning.to_owned(),
            (true, _) => format!("{warning}{body}"),
            (false, _) => body,
        };
        let id = if knobs.wrong_ids { "77" } else { request.message_id.as_deref().unwrap_or_default() };
        let reply = format!(
            "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<nc:rpc-reply xmlns:nc=\"{BASE}\" xmlns=\"{BASE}\" message-id=\"{}\">{body}</nc:rpc-reply>",
            escaped(id)
        );
        let mut bytes = self.framed(reply.as_bytes(), knobs, number);
        if knobs.breaks_off_in == Some(number) {
            bytes.truncate(bytes.len() / 2);
            said.ends = true;
        }
        said.endless = knobs.endless;
        said.bytes.extend(bytes);
        said.ends |= name == "close-session";
    }

    fn framed(&self, reply: &[u8], knobs: &RouterKnobs, number: usize) -> Vec<u8> {
        if self.framing == Framing::EndOfMessage {
            return [reply, END].concat();
        }
        let is_bad = knobs.bad_chunks_from.is_some_and(|from| number >= from);
        let mut bytes = Vec::new();
        for chunk in reply.chunks(knobs.chunk_max.max(1)) {
            let header = if is_bad { "\n#0\n".to_owned() } else { format!("\n#{}\n", chunk.len()) };
            bytes.extend_from_slice(header.as_bytes());
            bytes.extend_from_slice(chunk);
        }
        bytes.extend_from_slice(b"\n##\n");
        bytes
    }

    /// It is over.
    pub(crate) fn end(&self, router: &Router) {
        router.state().store.end(self.id);
    }
}

impl Router {
    fn hello(&self, session: u32) -> String {
        let knobs = &self.knobs;
        let mut capabilities: Vec<String> = Vec::new();
        let base = |name: &str| format!("urn:ietf:params:netconf:{name}");
        capabilities.extend(knobs.bases.iter().map(|version| base(&format!("base:{version}"))));
        capabilities.push(base("capability:rollback-on-error:1.0"));
        capabilities.push(base("capability:validate:1.1"));
        if knobs.candidate {
            capabilities.push(base("capability:candidate:1.0"));
        } else {
            capabilities.push(base("capability:writable-running:1.0"));
        }
        capabilities
            .extend(knobs.confirmed_commit.map(|version| base(&format!("capability:confirmed-commit:{version}"))));
        if knobs.startup {
            capabilities.push(base("capability:startup:1.0"));
        }
        if knobs.library {
            capabilities.push(base("capability:yang-library:1.1?revision=2019-01-04"));
        }
        if !knobs.hides_model {
            capabilities
                .push(format!("{SYSTEM}?module=ietf-system&revision=2014-08-06&features=authentication,local-users"));
        }
        let list: String =
            capabilities.iter().map(|one| format!("<capability>{}</capability>", escaped(one))).collect();
        format!(
            "<?xml version=\"1.0\" encoding=\"UTF-8\"?><hello xmlns=\"{BASE}\"><capabilities>{list}</capabilities><session-id>{session}</session-id></hello>"
        )
    }
}

impl RouterState {
    fn carry_out(&mut self, request: &Element, session: u32, knobs: &RouterKnobs) -> Result<String, Error> {
        let target = |name: &str| {
            let place = request.one(name).and_then(|place| place.parts.first()).map(|place| place.name.as_str());
            match place {
                Some("running") => Ok(ConfigTarget::Running),
                Some("candidate") if knobs.candidate => Ok(ConfigTarget::Candidate),
                _ => Err(Error::new("invalid-value", "config not found")),
            }
        };
        let ok = |()| "<ok/>".to_owned();
        match request.name.as_str() {
            "get-config" => {
                let filter = request.one("filter").ok_or_else(|| Error::new("missing-element", "filter"))?;
                if knobs.hides_accounts {
                    return Ok("<data/>".to_owned());
                }
                let users = match target("source")? {
                    ConfigTarget::Running => self.store.in_force(),
                    ConfigTarget::Candidate => &self.store.candidate,
                };
                let (text, shows_passwords) = store::shown(users, filter, knobs.folds_keys);
                self.shows_passwords |= shows_passwords;
                Ok(text)
            }
            "get" if knobs.library => Ok("<data><modules-state xmlns=\"urn:ietf:params:xml:ns:yang:ietf-yang-library\"><module><name>ietf-system</name><feature>local-users</feature></module></modules-state></data>".to_owned()),
            "lock" => self.store.lock(target("target")?, session).map(ok),
            "unlock" => self.store.unlock(target("target")?, session).map(ok),
            "edit-config" if knobs.denies_changes => Err(Error::new("access-denied", "access denied")),
            "edit-config" => {
                self.edits += 1;
                let place = target("target")?;
                if knobs.candidate && place == ConfigTarget::Running {
                    return Err(Error::new("operation-failed", "cannot write to this configuration directly"));
                }
                self.store.edit(place, request, session, knobs).map(ok)
            }
            "commit" if knobs.candidate => {
                let seconds = request.value("confirm-timeout").and_then(|text| text.parse().ok()).unwrap_or(600);
                let guard = request.one("confirmed").map(|_| Duration::from_secs(seconds));
                self.store.commit(session, guard).map(ok)
            }
            "discard-changes" if knobs.candidate => {
                self.store.discard();
                Ok(ok(()))
            }
            "cancel-commit" if knobs.confirmed_commit == Some("1.1") => self.store.cancel().map(ok),
            "copy-config" if knobs.startup => {
                self.store.startup = self.store.in_force().to_vec();
                Ok(ok(()))
            }
            "close-session" => Ok(ok(())),
            _ => Err(Error::new("operation-not-supported", "it has nothing of that name")),
        }
    }
}
