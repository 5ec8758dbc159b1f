//! The agent: what it holds, entry by entry, since one odd key or comment must not hide the others; a key that it is handed;
//! keys that it lets go (draft-ietf-sshm-ssh-agent).

use crate::patience::timed;
use lavrin_keys::key::{Fingerprint, PrivateKey, PublicKey};
use lavrin_keys::text::printable;
use lavrin_keys::wire::{Reader, Writer};
use thiserror::Error;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::UnixStream;
use zeroize::Zeroizing;

/// The messages.
mod message {
    pub const SUCCESS: u8 = 6;
    pub const REQUEST_IDENTITIES: u8 = 11;
    pub const IDENTITIES_ANSWER: u8 = 12;
    pub const SIGN_REQUEST: u8 = 13;
    pub const SIGN_RESPONSE: u8 = 14;
    pub const ADD_IDENTITY: u8 = 17;
    pub const REMOVE_IDENTITY: u8 = 18;
    pub const REMOVE_ALL_IDENTITIES: u8 = 19;
    pub const ADD_ID_CONSTRAINED: u8 = 25;
}

/// The constraints.
mod constrain {
    pub const LIFETIME: u8 = 1;
    pub const CONFIRM: u8 = 2;
}

/// With SHA-512, where the key is RSA (RFC 8332).
const RSA_SHA2_512: u32 = 4;

/// Longest answer that is read, in bytes: OpenSSH's agent gives no longer ones.
const ANSWER_BYTES_MAX: usize = 256 << 10;

/// Why an agent did not do what it was asked for.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum AgentFault {
    /// Nobody answers at the socket.
    #[error("the agent at {socket} does not answer")]
    Silent {
        /// The socket.
        socket: String,
    },
    /// It says more than any agent does.
    #[error("the agent at {socket} says more than {ANSWER_BYTES_MAX} bytes")]
    TooLong {
        /// The socket.
        socket: String,
    },
    /// It does not answer as an agent does.
    #[error("the agent at {socket} does not list its keys")]
    NoList {
        /// The socket.
        socket: String,
    },
    /// It refused. The protocol has no words for why.
    #[error("the agent at {socket} refused")]
    Refused {
        /// The socket.
        socket: String,
    },
}

/// One entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AgentEntry {
    /// A key that can be offered.
    Key {
        /// The key.
        key: PublicKey,
        /// Its comment, safe to show.
        comment: String,
    },
    /// Something else, in words that are safe to show.
    Odd(String),
}

/// Everything that the agent behind a socket holds. A locked one holds nothing, by its own words.
///
/// # Errors
/// [`AgentFault`].
pub async fn held(socket: &str) -> Result<Vec<AgentEntry>, AgentFault> {
    let answer = asked(socket, &[message::REQUEST_IDENTITIES]).await?;
    read(&answer).ok_or_else(|| AgentFault::NoList { socket: socket.to_owned() })
}

/// Hands a key to the agent, for so many seconds, or until it ends; with `confirm` somebody is asked at each use.
///
/// # Errors
/// [`AgentFault`].
pub async fn hold(
    socket: &str,
    key: &PrivateKey,
    comment: &str,
    seconds: Option<u32>,
    confirm: bool,
) -> Result<(), AgentFault> {
    let is_limited = seconds.is_some() || confirm;
    let mut request = Writer::new();
    request.raw(&[if is_limited { message::ADD_ID_CONSTRAINED } else { message::ADD_IDENTITY }]);
    request.raw(&key.agent_identity(comment));
    if let Some(seconds) = seconds {
        request.raw(&[constrain::LIFETIME]).u32(seconds);
    }
    if confirm {
        request.raw(&[constrain::CONFIRM]);
    }
    done(socket, &request.finish()).await
}

/// Has the agent sign with a key that it holds: the signature's name and its bytes (RFC 4253, section 6.6).
///
/// # Errors
/// [`AgentFault`]: it refuses where it does not hold the key, or where somebody says no.
pub async fn sign(socket: &str, key: &PublicKey, data: &[u8]) -> Result<Vec<u8>, AgentFault> {
    let mut request = Writer::new();
    request.raw(&[message::SIGN_REQUEST]).string(&key.blob()).string(data).u32(RSA_SHA2_512);
    let answer = asked(socket, &request.finish()).await?;
    let refused = || AgentFault::Refused { socket: socket.to_owned() };
    let rest = answer.strip_prefix(&[message::SIGN_RESPONSE]).ok_or_else(refused)?;
    Reader::new(rest).string().map(<[u8]>::to_vec).map_err(|_| refused())
}

/// Has the agent let go of a key.
///
/// # Errors
/// [`AgentFault`]: it refuses where it does not hold it.
pub async fn release(socket: &str, key: &PublicKey) -> Result<(), AgentFault> {
    let mut request = Writer::new();
    request.raw(&[message::REMOVE_IDENTITY]).string(&key.blob());
    done(socket, &request.finish()).await
}

/// Has the agent let go of all that it holds.
///
/// # Errors
/// [`AgentFault`].
pub async fn release_all(socket: &str) -> Result<(), AgentFault> {
    done(socket, &[message::REMOVE_ALL_IDENTITIES]).await
}

async fn done(socket: &str, request: &[u8]) -> Result<(), AgentFault> {
    let answer = asked(socket, request).await?;
    let is_done = answer.first() == Some(&message::SUCCESS);
    is_done.then_some(()).ok_or_else(|| AgentFault::Refused { socket: socket.to_owned() })
}

/// One question and its answer, over a connection of its own.
async fn asked(socket: &str, request: &[u8]) -> Result<Vec<u8>, AgentFault> {
    let silent = || AgentFault::Silent { socket: socket.to_owned() };
    let Some(Ok(mut stream)) = timed(UnixStream::connect(socket)).await else { return Err(silent()) };
    let mut framed = Zeroizing::new(Vec::with_capacity(request.len() + 4));
    framed.extend_from_slice(&u32::try_from(request.len()).unwrap_or(u32::MAX).to_be_bytes());
    framed.extend_from_slice(request);
    let asked = async {
        stream.write_all(&framed).await?;
        let length = stream.read_u32().await? as usize;
        let mut answer = vec![0; length.min(ANSWER_BYTES_MAX)];
        stream.read_exact(&mut answer).await?;
        std::io::Result::Ok((length, answer))
    };
    let Some(Ok((length, answer))) = timed(asked).await else { return Err(silent()) };
    if length > ANSWER_BYTES_MAX {
        return Err(AgentFault::TooLong { socket: socket.to_owned() });
    }
    Ok(answer)
}

/// Reads the answer. Where it breaks off, what came before counts.
fn read(answer: &[u8]) -> Option<Vec<AgentEntry>> {
    let rest = answer.strip_prefix(&[message::IDENTITIES_ANSWER])?;
    let mut reader = Reader::new(rest);
    let count = reader.u32().ok()?;
    let mut all = Vec::new();
    for _ in 0..count {
        let (Ok(blob), Ok(comment)) = (reader.string(), reader.string()) else {
            all.push(AgentEntry::Odd("the rest of its answer does not read".to_owned()));
            break;
        };
        all.push(entry(blob, comment));
    }
    Some(all)
}

fn entry(blob: &[u8], comment: &[u8]) -> AgentEntry {
    let comment = printable(comment.trim_ascii());
    if let Ok(key) = PublicKey::from_blob(blob) {
        return AgentEntry::Key { key, comment };
    }
    let source = source(&comment);
    let kind = Reader::new(blob).string().map(printable).unwrap_or_default();
    let what = if kind.contains("-cert-") { "a certificate" } else { "no key that is known here" };
    AgentEntry::Odd(format!("{source}: {what} ({kind})"))
}

/// Where a key comes from.
fn source(comment: &str) -> String {
    if comment.is_empty() { "agent".to_owned() } else { format!("agent ({comment})") }
}

/// The keys in the order in which they are offered: those in `first` before the others.
pub(crate) fn in_order(held: Vec<AgentEntry>, first: &[Fingerprint]) -> (Vec<(PublicKey, String)>, Vec<String>) {
    let (mut keys, mut odd) = (Vec::new(), Vec::new());
    for one in held {
        match one {
            AgentEntry::Key { key, comment } => keys.push((key, source(&comment))),
            AgentEntry::Odd(what) => odd.push(what),
        }
    }
    let place = |key: &PublicKey| first.iter().position(|one| *one == key.fingerprint()).unwrap_or(first.len());
    keys.sort_by_cached_key(|(key, _)| place(key));
    (keys, odd)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key(seed: u8) -> PublicKey {
        PrivateKey::ed25519(&[seed; 32]).unwrap().public().clone()
    }

    fn answer(count: u32, entries: &[(&[u8], &[u8])]) -> Vec<u8> {
        let mut writer = Writer::new();
        writer.u32(count);
        for (blob, comment) in entries {
            writer.string(blob).string(comment);
        }
        let mut bytes = vec![message::IDENTITIES_ANSWER];
        bytes.extend_from_slice(&writer.finish());
        bytes
    }

    #[test]
    fn odd_entries_hide_no_others() {
        let mut certificate = Writer::new();
        certificate.string(b"ssh-ed25519-cert-v01@openssh.com").string(b"x");
        let certificate = certificate.finish();
        let entries: [(&[u8], &[u8]); 4] = [
            (&certificate, b"c"),
            (b"nonsense", b"\xff\x1b[2J"),
            (&key(1).blob(), b"edda \xfe"),
            (&key(2).blob(), b""),
        ];
        let held = read(&answer(4, &entries)).unwrap();
        let (keys, odd) = in_order(held, &[key(2).fingerprint()]);
        let sources: Vec<&str> = keys.iter().map(|(_, source)| source.as_str()).collect();
        assert_eq!(sources, ["agent", "agent (edda \\xfe)"]);
        assert!(odd[0].contains("a certificate") && odd[1].contains("\\x1b"), "{odd:?}");
    }

    #[test]
    fn an_answer_that_breaks_off_keeps_what_came_before() {
        let whole = answer(3, &[(&key(1).blob(), b"edda")]);
        let held = read(&whole).unwrap();
        assert!(matches!(&held[..], [AgentEntry::Key { .. }, AgentEntry::Odd(_)]), "{held:?}");
        assert_eq!(read(&[5]), None);
        assert_eq!(read(&answer(0, &[])).unwrap(), []);
    }

    /// An agent that gives this answer once, and says what it was asked.
    async fn against(
        answer: Vec<u8>,
        ask: impl AsyncFnOnce(&str) -> Result<(), AgentFault>,
    ) -> (Vec<u8>, Option<AgentFault>) {
        let place = tempfile::tempdir().unwrap();
        let socket = place.path().join("agent").display().to_string();
        let listener = tokio::net::UnixListener::bind(&socket).unwrap();
        let serve = async {
            let (mut stream, _) = listener.accept().await.unwrap();
            let length = stream.read_u32().await.unwrap() as usize;
            let mut asked = vec![0; length];
            stream.read_exact(&mut asked).await.unwrap();
            let _ = stream.write_all(&answer).await;
            asked
        };
        let (asked, said) = tokio::join!(serve, ask(&socket));
        (asked, said.err())
    }

    #[tokio::test]
    async fn a_key_is_handed_over_with_its_limits_and_a_refusal_is_told() {
        let own = PrivateKey::ed25519(&[3; 32]).unwrap();
        let yes = vec![0, 0, 0, 1, message::SUCCESS];
        let (asked, fault) =
            against(yes.clone(), async |socket| hold(socket, &own, "edda", Some(3600), true).await).await;
        assert_eq!((asked[0], fault), (message::ADD_ID_CONSTRAINED, None));
        let mut limits = vec![constrain::LIFETIME];
        limits.extend_from_slice(&3600_u32.to_be_bytes());
        limits.push(constrain::CONFIRM);
        assert!(asked.ends_with(&limits));
        let mut reader = Reader::new(&asked[1..]);
        assert_eq!(reader.string().unwrap(), b"ssh-ed25519");
        let (asked, _) = against(yes.clone(), async |socket| hold(socket, &own, "edda", None, false).await).await;
        assert_eq!(asked[0], message::ADD_IDENTITY);
        assert!(asked.ends_with(b"edda"));
        let (asked, _) = against(yes.clone(), async |socket| release(socket, own.public()).await).await;
        assert_eq!(asked[5..], own.public().blob()[..]);
        let (asked, _) = against(yes, async |socket| release_all(socket).await).await;
        assert_eq!(asked, [message::REMOVE_ALL_IDENTITIES]);
        let signature = [&[0, 0, 0, 8, message::SIGN_RESPONSE, 0, 0, 0, 3][..], b"sig"].concat();
        let (asked, fault) = against(signature, async |socket| {
            assert_eq!(sign(socket, own.public(), b"data").await?, b"sig");
            Ok(())
        })
        .await;
        assert!(asked[0] == message::SIGN_REQUEST && fault.is_none());
        assert!(asked.ends_with(b"data\0\0\0\x04"));
        let no = vec![0, 0, 0, 1, 5];
        let (_, fault) = against(no.clone(), async |socket| release_all(socket).await).await;
        assert!(matches!(fault, Some(AgentFault::Refused { .. })), "{fault:?}");
        let (_, fault) = against(no, async |socket| held(socket).await.map(drop)).await;
        assert!(matches!(fault, Some(AgentFault::NoList { .. })), "{fault:?}");
        let (_, fault) = against(vec![0xff; 300 << 10], async |socket| held(socket).await.map(drop)).await;
        assert!(matches!(fault, Some(AgentFault::TooLong { .. })), "{fault:?}");
        let (_, fault) = against(vec![0, 0], async |socket| held(socket).await.map(drop)).await;
        assert!(matches!(fault, Some(AgentFault::Silent { .. })), "{fault:?}");
        let gone = held("/nowhere/agent").await;
        assert!(matches!(gone, Err(AgentFault::Silent { .. })), "{gone:?}");
    }
}
