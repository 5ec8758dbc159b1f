//! The public key block of RFC 4716.

use crate::key::fault::WrongStructure;
use crate::key::{KeyFault, PublicKey};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;

/// The label between the dashes.
pub const LABEL: &[u8] = b"SSH2 PUBLIC KEY";

/// Reads the lines between the markers: headers (a backslash continues them), then base64.
pub(crate) fn public(body: &[u8]) -> Result<(PublicKey, Vec<u8>), KeyFault> {
    let mut comment = Vec::new();
    let mut base64 = Vec::new();
    let mut continued = false;
    let mut lines = body.split(|byte| *byte == b'\n').map(<[u8]>::trim_ascii_end);
    while let Some(line) = lines.next() {
        let line = line.trim_ascii_start();
        if !line.contains(&b':') {
            base64.extend_from_slice(line);
            continue;
        }
        let mut header = line.to_vec();
        while header.last() == Some(&b'\\') {
            header.pop();
            continued = true;
            let Some(next) = lines.next() else { break };
            // Base64 that a stray backslash swallows would be lost; the key behind it is never guessed.
            header.extend_from_slice(next);
        }
        let at = header.iter().position(|byte| *byte == b':').unwrap_or(header.len());
        if header[..at].eq_ignore_ascii_case(b"comment") {
            let value = header[at + 1..].trim_ascii();
            let value = value.strip_prefix(b"\"").and_then(|rest| rest.strip_suffix(b"\"")).unwrap_or(value);
            comment = value.to_vec();
        }
    }
    if base64.is_empty() && continued {
        return Err(KeyFault::BadStructure { detail: WrongStructure::HeaderBackslash });
    }
    let blob = STANDARD.decode(&base64).map_err(|fault| KeyFault::BadBase64 { detail: fault })?;
    Ok((PublicKey::from_blob(&blob)?, comment))
}
