//! Devices that take keys over the public key subsystem (RFC 4819). It acts for the account that has signed in and for no other.

mod attributes;
pub mod packet;

pub use attributes::slot as read_slot;

use crate::reach::Reach;
use crate::ssh::{Connection, ExecFault, Subsystem};
use crate::{Boxed, CarryFault};
use attributes::{KeyToAdd, NotSayable};
use lavrin_keys::text::printable;
use lavrin_server::abilities::{Abilities, Ability};
use lavrin_server::account::Account;
use lavrin_server::fs::{Fact, Why};
use lavrin_server::server::{Known, Server};
use lavrin_server::steps::{Change, ChangeSubject, Guarded, KeyChange, entries_say_the_same};
use lavrin_server::survey::{KeySlot, Observation, Want, Wanted, Who};
use packet::{Packet, PacketFault, Request, VERSION};
use std::time::Duration;
use thiserror::Error;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::sync::Mutex;
use tokio::time::{Instant, timeout_at};

/// The subsystem (RFC 4819, section 3).
const SUBSYSTEM: &str = "publickey";

/// How long each answer may take at most.
const ANSWER_TIME: Duration = Duration::from_secs(30);

/// Most keys that an account may have.
const KEYS_MAX: usize = 20_000;

/// What a status means (RFC 4819, section 3.3).
const WORDS: [&str; 10] = [
    "",
    "access denied",
    "storage exceeded",
    "version not supported",
    "key not found",
    "key not supported",
    "key already present",
    "general failure",
    "request not supported",
    "attribute not supported",
];

/// Why a request came to nothing.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
enum KeyStoreFault {
    #[error("it ended the session")]
    Ended,
    #[error("it did not answer within {0} s")]
    Timeout(u64),
    #[error(transparent)]
    Packet(#[from] PacketFault),
    #[error("it speaks version {0} of RFC 4819, which is not known here")]
    Version(u32),
    #[error("it answers something that was not asked")]
    WrongAnswer,
    /// It says no; the session goes on.
    #[error("{}", told(*.0, .1))]
    Refused(u32, String),
}

fn told(code: u32, words: &str) -> String {
    let known = usize::try_from(code).ok().and_then(|code| WORDS.get(code)).copied().unwrap_or("unknown status");
    let words: String = printable(words.as_bytes()).chars().take(200).collect();
    if words.is_empty() || words.eq_ignore_ascii_case(known) { known.to_owned() } else { format!("{known}: {words}") }
}

/// A device with a session that is open.
pub struct KeySubsystem {
    connection: Connection,
    /// Who has signed in.
    account: String,
    line: Mutex<KeyStoreLine>,
}

struct KeyStoreLine {
    stream: Subsystem,
    buffer: Vec<u8>,
    broken: Option<KeyStoreFault>,
    /// For each answer.
    limit: Duration,
    attributes: AttributeList,
}

/// What a device says of attributes.
#[derive(Debug, Clone)]
enum AttributeList {
    NotAsked,
    /// It does not know the question.
    NotTold,
    Told(Vec<KnownAttribute>),
}

/// An attribute that a device knows.
#[derive(Debug, Clone)]
struct KnownAttribute {
    name: String,
    /// Whether each key has to have it.
    compulsory: bool,
}

impl KeySubsystem {
    /// Opens a session over a connection on which this account has signed in. Each answer may take so long.
    ///
    /// # Errors
    /// [`ExecFault`].
    #[must_use]
    pub fn open(connection: Connection, account: String, limit: Duration) -> Boxed<'static, Result<Self, ExecFault>> {
        Box::pin(async move {
            let limit = limit.min(ANSWER_TIME);
            let stream = connection.subsystem(SUBSYSTEM, limit).await.map_err(|fault| match fault {
                ExecFault::Refused => ExecFault::Device { why: "it has no public key subsystem".to_owned() },
                other => other,
            })?;
            let mut line =
                KeyStoreLine { stream, buffer: Vec::new(), broken: None, limit, attributes: AttributeList::NotAsked };
            line.greet().await.map_err(exec_fault)?;
            Ok(Self { connection, account, line: Mutex::new(line) })
        })
    }
}

fn exec_fault(fault: KeyStoreFault) -> ExecFault {
    match fault {
        KeyStoreFault::Timeout(seconds) => ExecFault::Timeout { seconds },
        KeyStoreFault::Ended => ExecFault::Broken,
        other => ExecFault::Device { why: other.to_string() },
    }
}

impl KeyStoreLine {
    /// Each side says which version it speaks; the lower one is spoken.
    async fn greet(&mut self) -> Result<(), KeyStoreFault> {
        self.write(Request::new("version").number(VERSION)).await?;
        match self.read(Instant::now() + self.limit).await? {
            Packet::Version(theirs) if theirs >= VERSION => Ok(()),
            Packet::Version(theirs) => Err(KeyStoreFault::Version(theirs)),
            Packet::Status(code, words) => Err(KeyStoreFault::Refused(code, words)),
            _ => Err(KeyStoreFault::WrongAnswer),
        }
    }

    fn late(&self) -> KeyStoreFault {
        KeyStoreFault::Timeout(self.limit.as_secs())
    }

    async fn write(&mut self, request: Request) -> Result<(), KeyStoreFault> {
        let bytes = request.whole();
        let write = async {
            self.stream.write_all(&bytes).await?;
            self.stream.flush().await
        };
        let written = tokio::time::timeout(self.limit, write).await.map_err(|_| self.late())?;
        written.map_err(|_| KeyStoreFault::Ended)
    }

    async fn read(&mut self, deadline: Instant) -> Result<Packet, KeyStoreFault> {
        let mut part = vec![0; 16 << 10];
        loop {
            if let Some(packet) = packet::next(&mut self.buffer)? {
                return Ok(Packet::read(&packet)?);
            }
            match timeout_at(deadline, self.stream.read(&mut part)).await.map_err(|_| self.late())? {
                Ok(0) | Err(_) => return Err(KeyStoreFault::Ended),
                Ok(length) => self.buffer.extend_from_slice(&part[..length]),
            }
        }
    }

    /// Makes a request; gives the keys that come before its status.
    async fn request(&mut self, request: Request) -> Result<Vec<KeySlot>, KeyStoreFault> {
        if let Some(fault) = &self.broken {
            return Err(fault.clone());
        }
        let answer = self.answer(request).await;
        if let Err(fault) = &answer
            && !matches!(fault, KeyStoreFault::Refused(..))
        {
            self.broken = Some(fault.clone());
        }
        answer
    }

    async fn answer(&mut self, request: Request) -> Result<Vec<KeySlot>, KeyStoreFault> {
        self.write(request).await?;
        let (deadline, mut keys) = (Instant::now() + self.limit, Vec::new());
        loop {
            match self.read(deadline).await? {
                Packet::Status(0, _) => return Ok(keys),
                Packet::Status(code, words) => return Err(KeyStoreFault::Refused(code, words)),
                Packet::PublicKey { algorithm, blob, attributes } if keys.len() < KEYS_MAX => {
                    keys.push(attributes::slot(&algorithm, &blob, &attributes));
                }
                _ => return Err(KeyStoreFault::WrongAnswer),
            }
        }
    }

    async fn list(&mut self) -> Result<Vec<KeySlot>, KeyStoreFault> {
        self.request(Request::new("list")).await
    }

    /// What the device says of attributes; a device may not know that question.
    async fn attributes(&mut self) -> Result<AttributeList, KeyStoreFault> {
        if !matches!(self.attributes, AttributeList::NotAsked) {
            return Ok(self.attributes.clone());
        }
        self.write(Request::new("listattributes")).await?;
        let (deadline, mut known) = (Instant::now() + self.limit, Vec::new());
        self.attributes = loop {
            match self.read(deadline).await? {
                Packet::Attribute(name, compulsory) if known.len() < KEYS_MAX => {
                    known.push(KnownAttribute { name, compulsory });
                }
                Packet::Status(0, _) => break AttributeList::Told(known),
                Packet::Status(..) => break AttributeList::NotTold,
                _ => return Err(KeyStoreFault::WrongAnswer),
            }
        };
        Ok(self.attributes.clone())
    }

    /// Why the device takes no key with these attributes, by what it says of them.
    async fn objection(&mut self, add: &KeyToAdd) -> Result<Option<String>, KeyStoreFault> {
        let AttributeList::Told(known) = self.attributes().await? else { return Ok(None) };
        let has = |name: &str| add.attributes.iter().any(|(attribute, _)| attribute.name == name);
        let mut critical =
            add.attributes.iter().filter(|(_, critical)| *critical).map(|(attribute, _)| &attribute.name);
        if let Some(name) = critical.find(|name| known.iter().all(|own| own.name != **name)) {
            return Ok(Some(format!("attribute not supported: {name}")));
        }
        let demanded = known.iter().find(|own| own.compulsory && !has(&own.name));
        Ok(demanded.map(|own| format!("it takes no key without the attribute {}", own.name)))
    }

    /// Makes a change, and reads back whatever the answer says.
    async fn make(&mut self, key: &KeyChange, subject: &(dyn Fn() -> ChangeSubject + Sync)) -> Result<(), CarryFault> {
        let refused = |why: String| CarryFault::Refused { subject: subject(), why };
        let before = self.list().await.map_err(|fault| refused(fault.to_string()))?;
        let is_own = |slot: &&KeySlot| key.slot.as_ref().is_none_or(|name| *name == slot.name);
        let stands = |keys: &[KeySlot], entry: &Vec<u8>| keys.iter().filter(is_own).any(|slot| slot.entry == *entry);
        if key.old.as_ref().is_some_and(|old| !stands(&before, old)) {
            return Err(CarryFault::Changed { subject: subject() });
        }
        let request = match (&key.new, &key.old) {
            (Some(new), old) => {
                let add = attributes::to_add(new, key.slot.as_deref()).map_err(|fault| match fault {
                    NotSayable::NoKey => refused("it is no key".to_owned()),
                    NotSayable::Option(name) => refused(format!("it has nothing like the option {name}")),
                })?;
                match self.objection(&add).await {
                    Ok(None) => {}
                    Ok(Some(why)) => return Err(refused(why)),
                    Err(fault) => {
                        let why = fault.to_string();
                        self.broken = Some(fault);
                        return Err(refused(why));
                    }
                }
                let mut request =
                    Request::new("add").string(add.algorithm.as_bytes()).string(&add.blob).flag(old.is_some());
                request = request.number(u32::try_from(add.attributes.len()).unwrap_or_default());
                for (attribute, critical) in &add.attributes {
                    request = request.string(attribute.name.as_bytes()).string(&attribute.value).flag(*critical);
                }
                request
            }
            (None, Some(old)) => {
                let (algorithm, blob) =
                    named(old).ok_or_else(|| refused("it is no key that can be named".to_owned()))?;
                Request::new("remove").string(algorithm.as_bytes()).string(&blob)
            }
            (None, None) => return Ok(()),
        };
        let told = self.request(request).await.map(drop);
        if self.broken.is_some() {
            return Err(CarryFault::Unknown { subject: subject() });
        }
        let after = self.list().await.map_err(|_| CarryFault::Unknown { subject: subject() })?;
        let made = key.new.as_ref().is_none_or(|new| after.iter().any(|slot| entries_say_the_same(&slot.entry, new)))
            && !key.old.as_ref().is_some_and(|old| stands(&after, old));
        match told {
            _ if made => Ok(()),
            Err(fault) if before == after => Err(refused(fault.to_string())),
            Ok(()) if before == after => {
                Err(refused("it answered that the change was made, and did not make it".to_owned()))
            }
            _ => Err(CarryFault::Unknown { subject: subject() }),
        }
    }
}

/// The key of an entry as a request names it, also of one that no server here understands.
fn named(entry: &[u8]) -> Option<(String, Vec<u8>)> {
    if let Some(entry) = attributes::parsed(entry) {
        return Some((entry.key.algorithm().name().to_owned(), entry.key.blob()));
    }
    let text = str::from_utf8(entry).ok()?;
    let mut words = text.split(' ');
    let (algorithm, data) = (words.next()?, words.next()?);
    Some((algorithm.to_owned(), lavrin_keys::key::base64::decode_loosely(data.as_bytes())))
}

impl Reach for KeySubsystem {
    fn abilities(&self) -> Abilities {
        use Ability::{Accounts, Files, Logs, Modes, Owners, Rename, Settings};
        Abilities::without([Accounts, Files, Modes, Owners, Settings, Logs, Rename])
    }

    fn look<'a>(&'a mut self, wants: &'a [Want], seen: &'a mut Observation) -> Boxed<'a, Result<(), ExecFault>> {
        Box::pin(async move {
            seen.found_server(Server::default(), Known::Banner(self.connection.banner().to_owned()));
            let line = self.line.get_mut();
            for want in wants {
                match &want.what {
                    Wanted::System(who) => {
                        let mut accounts = vec![Account::unknown(&self.account)];
                        // Another one may be there too: nothing of it is shown over this login.
                        if let Who::One(name) = who
                            && *name != self.account
                        {
                            accounts.push(Account::unknown(name));
                            seen.slots.insert(name.clone(), Fact::Unseen(Why::Permission));
                        }
                        seen.accounts = accounts.into();
                        seen.looked = true;
                    }
                    Wanted::Slots(name) if *name == self.account => {
                        let keys = line.list().await.map_err(exec_fault)?;
                        seen.slots.insert(name.clone(), Fact::Known(keys));
                    }
                    Wanted::Slots(_) => seen.give_up(want, &Why::Permission),
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
            match change {
                Change::Key(key) if key.account == self.account => {
                    self.line.lock().await.make(key, &|| change.subject()).await
                }
                Change::Key(_) => {
                    let why = "it acts for the account that has signed in and for no other".to_owned();
                    Err(CarryFault::Refused { subject: change.subject(), why })
                }
                _ => Err(CarryFault::not_there(change)),
            }
        })
    }

    fn close(self: Box<Self>) -> Boxed<'static, ()> {
        Box::pin(async move {
            drop(self.line);
            self.connection.close().await;
        })
    }
}
