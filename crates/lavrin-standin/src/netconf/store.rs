//! What a router keeps: accounts with keys, in force, as a candidate and for the next start (RFC 6241, RFC 7317).

use super::{DeviceUser, Error, RouterKnobs};
use lavrin_reach::netconf::xml::{Element, Namespace, escaped};
use std::time::{Duration, Instant};

/// The configurations, and who holds them.
#[derive(Debug)]
pub(super) struct Datastore {
    pub(super) running: Vec<DeviceUser>,
    pub(super) candidate: Vec<DeviceUser>,
    pub(super) startup: Vec<DeviceUser>,
    /// The session that has locked each of them.
    locks: [Option<u32>; 2],
    pending: Option<Pending>,
}

/// A commit that holds only once it is confirmed.
#[derive(Debug)]
struct Pending {
    session: u32,
    before: Vec<DeviceUser>,
    until: Instant,
}

/// Where a request works.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum ConfigTarget {
    Running,
    Candidate,
}

impl Datastore {
    pub(super) fn new(users: Vec<DeviceUser>) -> Self {
        Self { candidate: users.clone(), startup: users.clone(), running: users, locks: [None; 2], pending: None }
    }

    /// What is in force at this moment.
    pub(super) fn in_force(&mut self) -> &[DeviceUser] {
        if self.pending.as_ref().is_some_and(|pending| Instant::now() >= pending.until) {
            self.roll_back();
        }
        &self.running
    }

    fn roll_back(&mut self) {
        if let Some(pending) = self.pending.take() {
            self.running = pending.before;
            self.candidate = self.running.clone();
        }
    }

    /// A session is over: its locks go, and what it did not confirm.
    pub(super) fn end(&mut self, session: u32) {
        for target in [ConfigTarget::Running, ConfigTarget::Candidate] {
            let _ = self.unlock(target, session);
        }
        if self.pending.as_ref().is_some_and(|pending| pending.session == session) {
            self.roll_back();
        }
    }

    pub(super) fn lock(&mut self, target: ConfigTarget, session: u32) -> Result<(), Error> {
        if target == ConfigTarget::Candidate && self.candidate != self.running {
            return Err(Error::new("resource-denied", "it holds changes that nobody has taken over"));
        }
        match &mut self.locks[target as usize] {
            Some(holder) => Err(Error::new("lock-denied", &format!("session {holder} has it"))),
            free => {
                *free = Some(session);
                Ok(())
            }
        }
    }

    pub(super) fn unlock(&mut self, target: ConfigTarget, session: u32) -> Result<(), Error> {
        match &mut self.locks[target as usize] {
            lock if *lock == Some(session) => {
                *lock = None;
                // What was not taken over goes with the lock (RFC 6241, section 8.3.5.2).
                if target == ConfigTarget::Candidate {
                    self.discard();
                }
                Ok(())
            }
            _ => Err(Error::new("operation-failed", "it is not locked by this session")),
        }
    }

    fn is_free(&self, target: ConfigTarget, session: u32) -> Result<(), Error> {
        match self.locks[target as usize] {
            Some(holder) if holder != session => Err(Error::new("in-use", "another session has locked it")),
            _ => Ok(()),
        }
    }

    /// An edit, all of it or nothing.
    pub(super) fn edit(
        &mut self,
        target: ConfigTarget,
        request: &Element,
        session: u32,
        knobs: &RouterKnobs,
    ) -> Result<(), Error> {
        self.is_free(target, session)?;
        let creates = request.value("default-operation") != Some("none");
        let users = match target {
            ConfigTarget::Running => &mut self.running,
            ConfigTarget::Candidate => &mut self.candidate,
        };
        let mut edited = users.clone();
        let system = request.one("config").and_then(|config| config.parts.first());
        let system = system.filter(|system| system.is(Namespace::System, "system"));
        let authentication = system.and_then(|system| system.one("authentication"));
        let authentication = authentication.ok_or_else(|| Error::new("missing-element", "authentication"))?;
        for user in authentication.all("user") {
            edit_user(user, &mut edited, creates, knobs)?;
        }
        if !knobs.loses_changes {
            *users = edited;
        }
        Ok(())
    }

    pub(super) fn commit(&mut self, session: u32, guard: Option<Duration>) -> Result<(), Error> {
        self.is_free(ConfigTarget::Running, session)?;
        self.is_free(ConfigTarget::Candidate, session)?;
        let before = self.pending.take().map_or_else(|| self.running.clone(), |pending| pending.before);
        self.running = self.candidate.clone();
        self.pending = guard.map(|after| Pending { session, before, until: Instant::now() + after });
        Ok(())
    }

    pub(super) fn cancel(&mut self) -> Result<(), Error> {
        if self.pending.is_none() {
            return Err(Error::new("operation-failed", "nothing waits for a confirmation"));
        }
        self.roll_back();
        Ok(())
    }

    pub(super) fn discard(&mut self) {
        self.candidate = self.running.clone();
    }
}

fn edit_user(request: &Element, users: &mut Vec<DeviceUser>, creates: bool, knobs: &RouterKnobs) -> Result<(), Error> {
    let name = request.value("name").ok_or_else(|| Error::new("missing-element", "name"))?;
    let place = users.iter().position(|user| user.name == name);
    let place = match place {
        Some(place) => place,
        None if creates => {
            users.push(DeviceUser { name: name.to_owned(), ..DeviceUser::default() });
            users.len() - 1
        }
        None => return Err(Error::new("data-missing", "data missing")),
    };
    let keys = &mut users[place].keys;
    for part in request.all("authorized-key") {
        let word = |name: &str| part.value(name).unwrap_or_default().to_owned();
        let (name, algorithm, data) = (word("name"), word("algorithm"), word("key-data"));
        let own = keys.iter().position(|key| key.name == name);
        match (part.operation.as_deref().unwrap_or("merge"), own) {
            ("create", Some(_)) => return Err(Error::new("data-exists", "data exists")),
            ("delete", None) => return Err(Error::new("data-missing", "data missing")),
            ("delete" | "remove", Some(own)) => drop(keys.remove(own)),
            ("remove", None) => {}
            ("create" | "merge" | "replace", own) => {
                if keys.len() >= knobs.keys_max {
                    return Err(Error::new("resource-denied", "no room for another key"));
                }
                if !data.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"+/=".contains(&byte)) {
                    return Err(Error::new("invalid-value", "wrong token value"));
                }
                let key = super::DeviceKey { name, algorithm, data };
                match own {
                    Some(own) => keys[own] = key,
                    None => keys.push(key),
                }
            }
            _ => return Err(Error::new("bad-attribute", "operation")),
        }
    }
    Ok(())
}

/// The answer to a question about accounts: what its filter names, and no more.
pub(super) fn shown(users: &[DeviceUser], filter: &Element, folds: bool) -> (String, bool) {
    let asked = filter.parts.first().and_then(|system| system.one("authentication")?.one("user"));
    let Some(asked) = asked else { return ("<data/>".to_owned(), false) };
    let only = asked.value("name").filter(|name| !name.is_empty());
    // Nothing but a condition asks for everything.
    let whole = asked.parts.iter().all(|part| part.name == "name" && !part.text.trim().is_empty());
    let wants = |name: &str| whole || asked.one(name).is_some();
    let mut text = String::new();
    let mut shows_passwords = false;
    for user in users.iter().filter(|user| only.is_none_or(|name| name == user.name)) {
        text += &format!("<user><name>{}</name>", escaped(&user.name));
        if wants("password") && user.password.is_some() {
            text += "<password>$6$low$water</password>";
            shows_passwords = true;
        }
        for key in user.keys.iter().filter(|_| wants("authorized-key")) {
            let data = if folds { folded(&key.data) } else { key.data.clone() };
            text += &format!("<authorized-key><name>{}</name>", escaped(&key.name));
            if !key.algorithm.is_empty() {
                text += &format!("<algorithm>{}</algorithm>", escaped(&key.algorithm));
            }
            text += &format!("<key-data>{}</key-data></authorized-key>", escaped(&data));
        }
        text += "</user>";
    }
    let inner = format!(
        "<data><system xmlns=\"urn:ietf:params:xml:ns:yang:ietf-system\"><authentication>{text}</authentication></system></data>"
    );
    (if text.is_empty() { "<data/>".to_owned() } else { inner }, shows_passwords)
}

fn folded(data: &str) -> String {
    let lines: Vec<&[u8]> = data.as_bytes().chunks(30).collect();
    lines.iter().map(|line| String::from_utf8_lossy(line)).collect::<Vec<_>>().join("\n   ")
}
