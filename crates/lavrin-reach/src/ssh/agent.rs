//! What the agent holds, entry by entry: one odd key or comment must not hide the others.

use super::signin::timed;
use lavrin_keys::key::{Fingerprint, PublicKey};
use lavrin_keys::text::printable;
use lavrin_keys::wire::Reader;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::UnixStream;

/// `SSH_AGENTC_REQUEST_IDENTITIES` and its answer (draft-ietf-sshm-ssh-agent, section 3.5).
const REQUEST: [u8; 5] = [0, 0, 0, 1, 11];
const ANSWER: u8 = 12;

/// Longest answer that is read, in bytes: OpenSSH's agent gives no longer ones.
const ANSWER_BYTES_MAX: usize = 256 << 10;

/// One entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum AgentEntry {
    /// A key that can be offered.
    Key {
        /// The key.
        key: PublicKey,
        /// Where it comes from, safe to show.
        source: String,
    },
    /// Something else, in words that are safe to show.
    Odd(String),
}

/// Everything that the agent behind a socket holds.
///
/// # Errors
/// In words, where it does not answer as an agent does.
pub(super) async fn held(socket: &str) -> Result<Vec<AgentEntry>, String> {
    let silent = || format!("the agent at {socket} does not answer");
    let Some(Ok(mut stream)) = timed(UnixStream::connect(socket)).await else { return Err(silent()) };
    let asked = async {
        stream.write_all(&REQUEST).await?;
        let length = stream.read_u32().await? as usize;
        let mut answer = vec![0; length.min(ANSWER_BYTES_MAX)];
        stream.read_exact(&mut answer).await?;
        std::io::Result::Ok((length, answer))
    };
    let Some(Ok((length, answer))) = timed(asked).await else { return Err(silent()) };
    if length > ANSWER_BYTES_MAX {
        return Err(format!("the agent at {socket} says more than {ANSWER_BYTES_MAX} bytes"));
    }
    read(&answer).ok_or_else(|| format!("the agent at {socket} does not list its keys"))
}

/// Reads the answer. Where it breaks off, what came before counts.
fn read(answer: &[u8]) -> Option<Vec<AgentEntry>> {
    let rest = answer.strip_prefix(&[ANSWER])?;
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
    let source = if comment.is_empty() { "agent".to_owned() } else { format!("agent ({comment})") };
    if let Ok(key) = PublicKey::from_blob(blob) {
        return AgentEntry::Key { key, source };
    }
    let kind = Reader::new(blob).string().map(printable).unwrap_or_default();
    let what = if kind.contains("-cert-") { "a certificate" } else { "no key that is known here" };
    AgentEntry::Odd(format!("{source}: {what} ({kind})"))
}

/// The keys in the order in which they are offered: those in `first` before the others.
pub(super) fn in_order(held: Vec<AgentEntry>, first: &[Fingerprint]) -> (Vec<(PublicKey, String)>, Vec<String>) {
    let (mut keys, mut odd) = (Vec::new(), Vec::new());
    for one in held {
        match one {
            AgentEntry::Key { key, source } => keys.push((key, source)),
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
    use lavrin_keys::key::PrivateKey;
    use lavrin_keys::wire::Writer;

    fn key(seed: u8) -> PublicKey {
        PrivateKey::ed25519(&[seed; 32]).unwrap().public().clone()
    }

    fn answer(count: u32, entries: &[(&[u8], &[u8])]) -> Vec<u8> {
        let mut writer = Writer::new();
        writer.u32(count);
        for (blob, comment) in entries {
            writer.string(blob).string(comment);
        }
        let mut bytes = vec![ANSWER];
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
}
