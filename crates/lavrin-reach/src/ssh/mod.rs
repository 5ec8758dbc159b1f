//! SSH connections: reaching a host, knowing its key, signing in, asking whether it would take a key, running a command.

mod ask;
mod exec;
mod old;
mod run;
mod signin;

use crate::Boxed;
use crate::patience::STEP_TIMEOUT;
use lavrin_keys::hostkey::{self, HostKeyStanding};
use lavrin_keys::key::{Algorithm as KeyKind, Curve, Fingerprint, PublicKey};
use lavrin_keys::text::printable;
use russh::client::{self, Handle};
use russh::keys::{Algorithm, EcdsaCurve, HashAlg, PublicKeyOrCertificate};
use std::borrow::Cow;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use thiserror::Error;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite};
use tokio::net::TcpStream;

pub use ask::{Answer, NoAnswer};
pub use exec::{Exec, ExecFault, RootBy, Said};
pub use run::{Ran, Subsystem};
pub use signin::{AsksPassword, Credential, Rejected, SignedIn, Tried};

/// A connection on which nothing at all arrives for this long is given up.
const SILENCE_TIMEOUT: Duration = Duration::from_mins(2);

/// How long a host may take to identify itself, and how much it may say before that (RFC 4253, section 4.2).
const BANNER_TIMEOUT: Duration = Duration::from_secs(10);
const BANNER_BYTES: usize = 1024;

/// The kinds of host keys, each by what it signs with; never SHA-1.
const KINDS: [(KeyKind, &[Algorithm]); 5] = [
    (KeyKind::Ed25519, &[Algorithm::Ed25519]),
    (KeyKind::Ecdsa(Curve::P256), &[Algorithm::Ecdsa { curve: EcdsaCurve::NistP256 }]),
    (KeyKind::Ecdsa(Curve::P384), &[Algorithm::Ecdsa { curve: EcdsaCurve::NistP384 }]),
    (KeyKind::Ecdsa(Curve::P521), &[Algorithm::Ecdsa { curve: EcdsaCurve::NistP521 }]),
    (KeyKind::Rsa, &[Algorithm::Rsa { hash: Some(HashAlg::Sha512) }, Algorithm::Rsa { hash: Some(HashAlg::Sha256) }]),
];

/// Where a host is reached and how its key is known.
#[derive(Debug, Clone)]
pub struct Target {
    /// The connection to another host over which it is reached.
    pub through: Option<Arc<Connection>>,
    /// Name or address.
    pub host: String,
    /// Port.
    pub port: u16,
    /// The keys that are known for it, as in `known_hosts`: the user's own file, or what the register pins.
    pub known_hosts: Vec<u8>,
    /// The user's own file, where it is not the one above: keys that it revokes are refused whoever pins them.
    pub revoked_in: Arc<Vec<u8>>,
    /// The name under which a register pins its keys, where one does.
    pub pinned_as: Option<String>,
    /// The fingerprint the user expects; where given, nothing else is trusted.
    pub expected: Option<Fingerprint>,
    /// The fingerprint that the key must have besides being known or expected.
    pub required: Option<Fingerprint>,
    /// Whether it may speak with algorithms that are broken, where it knows no others.
    pub old_algorithms: bool,
}

/// Why a host was not reached.
#[derive(Debug, Clone, Error)]
pub enum ConnectFault {
    /// The name is not known.
    #[error("the name {host} is not known: {why}")]
    NameUnknown {
        /// The name.
        host: String,
        /// In the system's words.
        why: String,
    },
    /// Nothing listens there.
    #[error("nothing listens on port {port} of {host}")]
    PortClosed {
        /// The host.
        host: String,
        /// The port.
        port: u16,
    },
    /// No answer at all.
    #[error("{host} port {port} does not answer: a firewall drops it, or the host is off")]
    NoAnswer {
        /// The host.
        host: String,
        /// The port.
        port: u16,
    },
    /// The network says no.
    #[error("{host} cannot be reached: {why}")]
    Unreachable {
        /// The host.
        host: String,
        /// In the system's words.
        why: String,
    },
    /// Something else than SSH answers.
    #[error("port {port} of {host} is not an SSH server: it answers '{said}'")]
    NotSsh {
        /// The host.
        host: String,
        /// The port.
        port: u16,
        /// The beginning of what it says.
        said: String,
    },
    /// The host's key is not known yet.
    #[error("the key of {host} is not known yet: {fingerprint}")]
    HostKeyUnknown {
        /// The host.
        host: String,
        /// The key it shows.
        key: Box<PublicKey>,
        /// Its fingerprint.
        fingerprint: Fingerprint,
    },
    /// The host shows another key than the known or expected one.
    #[error("the key of {host} has changed: it shows {shown}, known is {known}")]
    HostKeyChanged {
        /// The host.
        host: String,
        /// The key it shows.
        shown: Fingerprint,
        /// The key that is known.
        known: Fingerprint,
        /// The line of `known_hosts`; `None` where the fingerprint was given with the command.
        line: Option<usize>,
        /// The name under which a register pins the known key; then the line is one of those pins.
        pinned_as: Option<Box<str>>,
    },
    /// The host's key is marked as revoked.
    #[error("the key of {host} is marked as revoked in line {line} of known_hosts")]
    HostKeyRevoked {
        /// The host.
        host: String,
        /// The line.
        line: usize,
    },
    /// It takes no connection from here for a while, and says so.
    #[error("{host} refuses connections from this address for a while")]
    HeldOff {
        /// The host.
        host: String,
    },
    /// It takes the connection and ends it without a greeting.
    #[error("the connection to {host} failed: {why}")]
    NoGreeting {
        /// The host.
        host: String,
        /// What happened.
        why: String,
    },
    /// The two sides found no common algorithm, or the connection broke.
    #[error("the connection to {host} failed: {why}")]
    Broken {
        /// The host.
        host: String,
        /// The library's words.
        why: String,
    },
}

/// A connection whose host has proven itself. Nobody has signed in yet.
pub struct Connection {
    handle: Handle<Watcher>,
    banner: String,
    host: String,
    host_key: Fingerprint,
    /// Cannot be reused after a lost connection.
    port: u16,
    /// Whether the host may speak with algorithms that are broken.
    old_algorithms: bool,
}

impl std::fmt::Debug for Connection {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.debug_struct("Connection").field("host", &self.host).field("port", &self.port).finish_non_exhaustive()
    }
}

/// What the key exchange showed.
#[derive(Default)]
struct ExchangeShown {
    fault: Option<ConnectFault>,
    key: Option<Fingerprint>,
    kind: Option<KeyKind>,
}

/// Judges the host's key during the key exchange.
struct Watcher {
    target: Target,
    shown: Arc<Mutex<ExchangeShown>>,
}

impl client::Handler for Watcher {
    type Error = russh::Error;

    async fn check_server_key(&mut self, presented: &PublicKeyOrCertificate) -> Result<bool, russh::Error> {
        let PublicKeyOrCertificate::PublicKey { key, .. } = presented else { return Ok(false) };
        let blob = key.to_bytes().map_err(|_| russh::Error::UnknownKey)?;
        let key = PublicKey::from_blob(&blob).map_err(|_| russh::Error::UnknownKey)?;
        let mut shown = self.shown.lock().expect("nobody panics holding this");
        shown.key = Some(key.fingerprint());
        shown.kind = Some(key.algorithm());
        shown.fault = self.target.judge(key);
        Ok(shown.fault.is_none())
    }

    async fn kex_done(
        &mut self,
        _: Option<&[u8]>,
        names: &russh::Names,
        _: &mut client::Session,
    ) -> Result<(), russh::Error> {
        let host = &self.target.host;
        let (kex, key, cipher) = (names.kex.as_ref(), &names.key, names.cipher.as_ref());
        tracing::info!("{host}: key exchange {kex}, host key {key}, cipher {cipher}");
        Ok(())
    }
}

impl Target {
    fn judge(&self, key: PublicKey) -> Option<ConnectFault> {
        let (host, shown) = (self.host.clone(), key.fingerprint());
        if let HostKeyStanding::Revoked { line } = hostkey::standing(&self.revoked_in, &self.host, self.port, &key) {
            return Some(ConnectFault::HostKeyRevoked { host, line });
        }
        let pinned_as = self.pinned_as.as_deref().map(Into::into);
        if let Some(known) = self.required.filter(|required| *required != shown) {
            return Some(ConnectFault::HostKeyChanged { host, shown, known, line: None, pinned_as: None });
        }
        match (self.expected, hostkey::standing(&self.known_hosts, &self.host, self.port, &key)) {
            (_, HostKeyStanding::Revoked { line }) => Some(ConnectFault::HostKeyRevoked { host, line }),
            (Some(expected), _) if expected == shown => None,
            (Some(known), _) => Some(ConnectFault::HostKeyChanged { host, shown, known, line: None, pinned_as: None }),
            (None, HostKeyStanding::Known) => None,
            (None, HostKeyStanding::Unknown) => {
                Some(ConnectFault::HostKeyUnknown { host, key: Box::new(key), fingerprint: shown })
            }
            (None, HostKeyStanding::Changed { line, known }) => {
                Some(ConnectFault::HostKeyChanged { host, shown, known, line: Some(line), pinned_as })
            }
        }
    }

    /// The algorithms to ask for: those of known keys first, so that the host shows a key that can be compared; never SHA-1.
    fn host_key_algorithms(&self) -> Vec<Algorithm> {
        let known = hostkey::known_algorithms(&self.known_hosts, &self.host, self.port);
        let mut algorithms: Vec<Algorithm> = russh::Preferred::DEFAULT.key.to_vec();
        algorithms.retain(|algorithm| *algorithm != Algorithm::Rsa { hash: None });
        let is_known = |algorithm: &Algorithm| {
            let name = if let Algorithm::Rsa { .. } = algorithm { "ssh-rsa".to_owned() } else { algorithm.to_string() };
            known.iter().any(|known| known.name() == name)
        };
        algorithms.sort_by_key(|algorithm| !is_known(algorithm));
        algorithms
    }

    fn config(&self, only: &[Algorithm]) -> client::Config {
        let mut key = self.host_key_algorithms();
        key.retain(|algorithm| only.is_empty() || only.contains(algorithm));
        let usual = russh::Preferred { key: Cow::Owned(key), ..russh::Preferred::DEFAULT };
        // A kind of key that is asked for by itself is asked for as it is.
        let preferred = if self.old_algorithms && only.is_empty() { old::with_old(usual) } else { usual };
        client::Config {
            preferred,
            inactivity_timeout: Some(SILENCE_TIMEOUT),
            keepalive_interval: Some(Duration::from_secs(15)),
            nodelay: true,
            ..client::Config::default()
        }
    }

    /// Connects and checks the host's key. A host has keys of several kinds: where the first is not the one that a fingerprint
    /// stands for, the others are asked for before anything is said to have changed.
    ///
    /// # Errors
    /// The [`ConnectFault`] that says how far it came.
    #[must_use]
    pub fn connect(&self) -> Boxed<'_, Result<Connection, ConnectFault>> {
        Box::pin(async move {
            let shown = Arc::new(Mutex::new(ExchangeShown::default()));
            let first = self.connect_by(&[], &shown).await;
            let Err(fault @ ConnectFault::HostKeyChanged { line: None, .. }) = first else { return first };
            // One more key of the kind that was shown would be another host's.
            let kind = shown.lock().expect("nobody panics holding this").kind;
            for kind in KINDS.into_iter().filter(|(own, _)| Some(*own) != kind) {
                match self.connect_by(kind.1, &Arc::default()).await {
                    // A kind that the host does not have, or has with another key too.
                    Err(ConnectFault::HostKeyChanged { .. } | ConnectFault::Broken { .. }) => {}
                    found => return found,
                }
            }
            Err(fault)
        })
    }

    /// One connection on which the host shows a key of these kinds; none given: the one that is preferred.
    async fn connect_by(
        &self,
        only: &[Algorithm],
        shown: &Arc<Mutex<ExchangeShown>>,
    ) -> Result<Connection, ConnectFault> {
        match &self.through {
            None => {
                let stream = self.dial().await?;
                let banner = self.greeting(&stream).await?;
                self.shake_hands(stream, banner, only, shown).await
            }
            Some(through) => {
                let mut stream = self.hop(through).await?;
                let said = self.greeting_through(&mut stream).await?;
                let banner = String::from_utf8_lossy(last_line(&said)).into_owned();
                // The library wants to hear the greeting too.
                let (read, write) = tokio::io::split(stream);
                let stream = tokio::io::join(std::io::Cursor::new(said).chain(read), write);
                self.shake_hands(stream, banner, only, shown).await
            }
        }
    }

    /// The key exchange, which shows the host's key.
    async fn shake_hands(
        &self,
        stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
        banner: String,
        only: &[Algorithm],
        shown: &Arc<Mutex<ExchangeShown>>,
    ) -> Result<Connection, ConnectFault> {
        tracing::info!(
            "{}: connected to port {}, it calls itself {}",
            self.host,
            self.port,
            printable(banner.as_bytes())
        );
        let watcher = Watcher { target: self.clone(), shown: shown.clone() };
        let exchange = client::connect_stream(Arc::new(self.config(only)), stream, watcher);
        let done = tokio::time::timeout(STEP_TIMEOUT, exchange).await;
        let mut shown = shown.lock().expect("nobody panics holding this");
        if let Some(fault) = shown.fault.take() {
            return Err(fault);
        }
        let broken = |why: String| ConnectFault::Broken { host: self.host.clone(), why };
        let handle = match done {
            Err(_) => return Err(broken("the key exchange does not end".to_owned())),
            Ok(Err(error)) => return Err(broken(old::no_common(&error).unwrap_or_else(|| error.to_string()))),
            Ok(Ok(handle)) => handle,
        };
        let host_key = shown.key.ok_or_else(|| broken("the host showed no key".to_owned()))?;
        Ok(Connection {
            handle,
            banner,
            host: self.host.clone(),
            host_key,
            port: self.port,
            old_algorithms: self.old_algorithms,
        })
    }

    /// A way through another host, as it sees this one's name.
    async fn hop(&self, through: &Connection) -> Result<russh::ChannelStream<client::Msg>, ConnectFault> {
        let (host, port) = (self.host.clone(), u32::from(self.port));
        let open = through.handle.channel_open_direct_tcpip(host, port, "127.0.0.1", 0);
        match tokio::time::timeout(STEP_TIMEOUT, open).await {
            Ok(Ok(channel)) => Ok(channel.into_stream()),
            Ok(Err(error)) => {
                let why = format!("{} opens no way to it: {error}", through.host);
                Err(ConnectFault::Unreachable { host: self.host.clone(), why })
            }
            Err(_) => Err(ConnectFault::NoAnswer { host: self.host.clone(), port: self.port }),
        }
    }

    /// Reads what the host says first, up to the end of its identification.
    async fn greeting_through(&self, stream: &mut (impl AsyncRead + Unpin)) -> Result<Vec<u8>, ConnectFault> {
        let deadline = tokio::time::Instant::now() + BANNER_TIMEOUT;
        let mut said = Vec::new();
        while said.len() < BANNER_BYTES {
            if last_line(&said).starts_with(b"SSH-") && said.ends_with(b"\n") {
                return Ok(said);
            }
            match tokio::time::timeout_at(deadline, stream.read_u8()).await {
                Ok(Ok(byte)) => said.push(byte),
                Ok(Err(_)) | Err(_) => break,
            }
        }
        let (host, port) = (self.host.clone(), self.port);
        if said.is_empty() {
            return Err(ConnectFault::NoAnswer { host, port });
        }
        Err(self.no_greeting(&said))
    }

    async fn dial(&self) -> Result<TcpStream, ConnectFault> {
        let (host, port) = (self.host.clone(), self.port);
        let look_up = tokio::time::timeout(STEP_TIMEOUT, tokio::net::lookup_host((host.as_str(), port)));
        let unknown = |why: String| ConnectFault::NameUnknown { host: host.clone(), why };
        let addresses: Vec<SocketAddr> = match look_up.await {
            Err(_) => return Err(unknown("the name service does not answer".to_owned())),
            Ok(Err(error)) => return Err(unknown(error.to_string())),
            Ok(Ok(addresses)) => addresses.collect(),
        };
        let mut fault = unknown("it has no address".to_owned());
        for address in addresses {
            fault = match tokio::time::timeout(STEP_TIMEOUT, TcpStream::connect(address)).await {
                Ok(Ok(stream)) => {
                    // Small questions and answers go back and forth; waiting to fill packets would cost 40 ms each.
                    let _ = stream.set_nodelay(true);
                    return Ok(stream);
                }
                Err(_) => ConnectFault::NoAnswer { host: host.clone(), port },
                Ok(Err(error)) if error.kind() == std::io::ErrorKind::ConnectionRefused => {
                    ConnectFault::PortClosed { host: host.clone(), port }
                }
                Ok(Err(error)) if error.kind() == std::io::ErrorKind::TimedOut => {
                    ConnectFault::NoAnswer { host: host.clone(), port }
                }
                Ok(Err(error)) => ConnectFault::Unreachable { host: host.clone(), why: error.to_string() },
            };
        }
        Err(fault)
    }

    /// Looks at what the host says first, without taking it off the connection.
    async fn greeting(&self, stream: &TcpStream) -> Result<String, ConnectFault> {
        let mut buffer = [0; BANNER_BYTES];
        let deadline = tokio::time::Instant::now() + BANNER_TIMEOUT;
        let mut length = 0;
        while tokio::time::Instant::now() < deadline {
            let Ok(peeked) = tokio::time::timeout_at(deadline, stream.peek(&mut buffer)).await else { break };
            let now =
                peeked.map_err(|error| ConnectFault::NoGreeting { host: self.host.clone(), why: error.to_string() })?;
            let mut lines = buffer[..now].split_inclusive(|byte| *byte == b'\n');
            if let Some(line) = lines.find(|line| line.starts_with(b"SSH-") && line.ends_with(b"\n")) {
                return Ok(String::from_utf8_lossy(line.trim_ascii_end()).into_owned());
            }
            if now == length {
                if now == 0 || now == BANNER_BYTES {
                    break;
                }
                tokio::time::sleep(Duration::from_millis(50)).await;
            }
            length = now;
        }
        if length == 0 {
            let why = "it accepts the connection and says nothing".to_owned();
            return Err(ConnectFault::NoGreeting { host: self.host.clone(), why });
        }
        Err(self.no_greeting(&buffer[..length]))
    }

    /// Why what a host says first is no greeting.
    fn no_greeting(&self, said: &[u8]) -> ConnectFault {
        let host = self.host.clone();
        if said.windows(HELD_OFF.len()).any(|words| words == HELD_OFF) {
            return ConnectFault::HeldOff { host };
        }
        ConnectFault::NotSsh { host, port: self.port, said: printable(&said[..said.len().min(60)]) }
    }
}

/// What OpenSSH says in place of a greeting to an address that it holds off.
const HELD_OFF: &[u8] = b"Not allowed at this time";

/// The last line of a text, its end left out.
fn last_line(text: &[u8]) -> &[u8] {
    text.trim_ascii_end().rsplit(|byte| *byte == b'\n').next().unwrap_or_default()
}

impl Connection {
    /// How the host identified itself (RFC 4253, section 4.2).
    #[must_use]
    pub fn banner(&self) -> &str {
        &self.banner
    }

    /// The fingerprint of the host's key.
    #[must_use]
    pub fn host_key(&self) -> Fingerprint {
        self.host_key
    }

    /// The host as the user named it.
    #[must_use]
    pub fn host(&self) -> &str {
        &self.host
    }

    /// The port.
    #[must_use]
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Whether nothing can be sent on it any more.
    #[must_use]
    pub fn is_closed(&self) -> bool {
        self.handle.is_closed()
    }

    /// Says good-bye; what is already lost is not waited for.
    #[must_use]
    pub fn close(self) -> Boxed<'static, ()> {
        Box::pin(async move {
            let bye = self.handle.disconnect(russh::Disconnect::ByApplication, "", "");
            let _ = tokio::time::timeout(Duration::from_secs(2), bye).await;
        })
    }
}
