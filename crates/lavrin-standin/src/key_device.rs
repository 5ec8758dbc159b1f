//! A device with the public key subsystem (RFC 4819), with every answer that the description knows.

use lavrin_reach::key_subsystem::packet::{Attribute, Packet, Request, next};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// A key of an account there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoredKey {
    /// Its algorithm.
    pub algorithm: String,
    /// The key.
    pub blob: Vec<u8>,
    /// What it has beside.
    pub attributes: Vec<(String, Vec<u8>)>,
}

/// How a device differs from one in good order.
#[derive(Debug, Clone)]
pub struct KeyDeviceKnobs {
    /// The version that it speaks.
    pub version: u32,
    /// What it answers to every change instead of making it.
    pub refuses_with: Option<u32>,
    /// Attributes that it understands; others are refused where they are critical, else left away.
    pub attributes: &'static [&'static str],
    /// Attributes without which it takes no key.
    pub compulsory: &'static [&'static str],
    /// Whether it says which attributes it understands.
    pub lists_attributes: bool,
    /// Most keys of an account.
    pub keys_max: usize,
    /// It says that a change was made, and does not make it.
    pub loses_changes: bool,
    /// From this request on it says no word.
    pub silent_from: Option<usize>,
    /// It ends the session in the middle of this answer.
    pub breaks_off_in: Option<usize>,
    /// Its packets are longer than anything.
    pub endless: bool,
    /// How long it thinks about each request.
    pub slow: Duration,
}

impl Default for KeyDeviceKnobs {
    fn default() -> Self {
        Self {
            version: 2,
            refuses_with: None,
            attributes: &["comment", "from", "command-override", "x11", "agent", "port-forward", "reverse-forward"],
            compulsory: &[],
            lists_attributes: true,
            keys_max: usize::MAX,
            loses_changes: false,
            silent_from: None,
            breaks_off_in: None,
            endless: false,
            slow: Duration::ZERO,
        }
    }
}

/// A device with one account.
#[derive(Debug)]
pub struct KeyDevice {
    account: String,
    password: Option<String>,
    pub(crate) knobs: KeyDeviceKnobs,
    state: Mutex<KeyDeviceState>,
}

#[derive(Debug)]
struct KeyDeviceState {
    keys: Vec<StoredKey>,
    requests: usize,
}

impl KeyDevice {
    /// One with these keys of its account, each a plain line.
    #[must_use]
    pub fn new(account: &str, lines: &[&str], knobs: KeyDeviceKnobs) -> Self {
        let key = |line: &&str| {
            let mut words = line.trim().splitn(3, ' ');
            let (algorithm, data) = (words.next()?.to_owned(), words.next()?);
            let blob = lavrin_keys::key::base64::decode_loosely(data.as_bytes());
            let comment = words.next().map(|comment| ("comment".to_owned(), comment.as_bytes().to_vec()));
            Some(StoredKey { algorithm, blob, attributes: comment.into_iter().collect() })
        };
        let state = KeyDeviceState { keys: lines.iter().filter_map(key).collect(), requests: 0 };
        Self { account: account.to_owned(), password: None, knobs, state: Mutex::new(state) }
    }

    /// The same, also opened by this password.
    #[must_use]
    pub fn with_password(self, password: &str) -> Self {
        Self { password: Some(password.to_owned()), ..self }
    }

    fn state(&self) -> MutexGuard<'_, KeyDeviceState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The keys that it has.
    #[must_use]
    pub fn keys(&self) -> Vec<StoredKey> {
        self.state().keys.clone()
    }

    pub(crate) fn takes(&self, account: &str, password: &str) -> bool {
        account == self.account && self.password.as_deref() == Some(password)
    }

    pub(crate) fn lets_in(&self, account: &str, blob: &[u8]) -> bool {
        account == self.account && self.state().keys.iter().any(|key| key.blob == blob)
    }
}

/// A session with somebody.
#[derive(Default)]
pub(crate) struct KeyDeviceSession {
    buffer: Vec<u8>,
    greeted: bool,
}

/// What it says now, and whether the session is over then.
#[derive(Default)]
pub(crate) struct KeyDeviceSays {
    pub(crate) bytes: Vec<u8>,
    pub(crate) ends: bool,
}

impl KeyDeviceSession {
    /// The greeting.
    pub(crate) fn begin(device: &KeyDevice) -> (Self, Vec<u8>) {
        (Self::default(), Request::new("version").number(device.knobs.version).whole())
    }

    /// Takes in what came, and answers what is whole.
    pub(crate) fn take(&mut self, bytes: &[u8], device: &KeyDevice) -> KeyDeviceSays {
        self.buffer.extend_from_slice(bytes);
        let mut says = KeyDeviceSays::default();
        loop {
            match next(&mut self.buffer) {
                Ok(Some(packet)) if !says.ends => self.answer(&packet, device, &mut says),
                Ok(Some(_) | None) => return says,
                Err(_) => return KeyDeviceSays { ends: true, ..says },
            }
        }
    }

    fn answer(&mut self, packet: &[u8], device: &KeyDevice, says: &mut KeyDeviceSays) {
        if !self.greeted {
            self.greeted = true;
            let is_known =
                matches!(Packet::read(packet), Ok(Packet::Version(version)) if version >= device.knobs.version);
            if !is_known || device.knobs.version != 2 {
                says.bytes.extend(status(3));
                says.ends = true;
            }
            return;
        }
        let knobs = &device.knobs;
        let mut state = device.state();
        state.requests += 1;
        if knobs.silent_from.is_some_and(|from| state.requests >= from) {
            return;
        }
        let mut said = if knobs.endless { vec![0xff; 1 << 20] } else { state.carry_out(packet, knobs) };
        if knobs.breaks_off_in == Some(state.requests) {
            said.truncate(said.len() / 2);
            says.ends = true;
        }
        says.bytes.extend(said);
    }
}

fn status(code: u32) -> Vec<u8> {
    Request::new("status").number(code).string(b"").string(b"en").whole()
}

impl KeyDeviceState {
    fn carry_out(&mut self, packet: &[u8], knobs: &KeyDeviceKnobs) -> Vec<u8> {
        let Some(request) = KeyRequest::read(packet) else { return status(8) };
        let place = |state: &Self, blob: &[u8]| state.keys.iter().position(|key| key.blob == blob);
        match request {
            KeyRequest::ListAttributes if knobs.lists_attributes => {
                let one = |name: &&str| {
                    Request::new("attribute").string(name.as_bytes()).flag(knobs.compulsory.contains(name)).whole()
                };
                knobs.attributes.iter().flat_map(one).chain(status(0)).collect()
            }
            KeyRequest::ListAttributes => status(8),
            KeyRequest::List => self.keys.iter().flat_map(said).chain(status(0)).collect(),
            KeyRequest::Add { .. } | KeyRequest::Remove { .. } if knobs.refuses_with.is_some() => {
                status(knobs.refuses_with.unwrap_or_default())
            }
            KeyRequest::Add { .. } | KeyRequest::Remove { .. } if knobs.loses_changes => status(0),
            KeyRequest::Remove { blob } => match place(self, &blob) {
                Some(place) => {
                    self.keys.remove(place);
                    status(0)
                }
                None => status(4),
            },
            KeyRequest::Add { algorithm, blob, overwrites, attributes } => {
                let knows = |name: &str| knobs.attributes.contains(&name);
                if attributes.iter().any(|(attribute, critical)| *critical && !knows(&attribute.name)) {
                    return status(9);
                }
                let kept = attributes.into_iter().filter(|(attribute, _)| knows(&attribute.name));
                let attributes = kept.map(|(attribute, _)| (attribute.name, attribute.value)).collect();
                let key = StoredKey { algorithm, blob, attributes };
                match place(self, &key.blob) {
                    Some(_) if !overwrites => return status(6),
                    Some(place) => self.keys[place] = key,
                    None if self.keys.len() >= knobs.keys_max => return status(2),
                    None => self.keys.push(key),
                }
                status(0)
            }
        }
    }
}

fn said(key: &StoredKey) -> Vec<u8> {
    let mut packet = Request::new("publickey").string(key.algorithm.as_bytes()).string(&key.blob);
    packet = packet.number(u32::try_from(key.attributes.len()).unwrap_or_default());
    for (name, value) in &key.attributes {
        packet = packet.string(name.as_bytes()).string(value);
    }
    packet.whole()
}

/// What somebody asks for.
enum KeyRequest {
    List,
    ListAttributes,
    Add { algorithm: String, blob: Vec<u8>, overwrites: bool, attributes: Vec<(Attribute, bool)> },
    Remove { blob: Vec<u8> },
}

impl KeyRequest {
    fn read(packet: &[u8]) -> Option<Self> {
        let mut reader = lavrin_keys::wire::Reader::new(packet);
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        match reader.string().ok()? {
            b"list" => Some(Self::List),
            b"listattributes" => Some(Self::ListAttributes),
            b"remove" => {
                reader.string().ok()?;
                Some(Self::Remove { blob: reader.string().ok()?.to_vec() })
            }
            b"add" => {
                let algorithm = text(reader.string().ok()?);
                let blob = reader.string().ok()?.to_vec();
                let overwrites = reader.byte().ok()? != 0;
                let count = reader.u32().ok()?;
                let mut attributes = Vec::new();
                for _ in 0..count {
                    let name = text(reader.string().ok()?);
                    let value = reader.string().ok()?.to_vec();
                    attributes.push((Attribute { name, value }, reader.byte().ok()? != 0));
                }
                Some(Self::Add { algorithm, blob, overwrites, attributes })
            }
            _ => None,
        }
    }
}
