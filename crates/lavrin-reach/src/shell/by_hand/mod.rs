//! A look that somebody carries to the host and back by hand, where it cannot be reached from here.

mod change;
mod paste;

pub use change::{Told, change_script, id_in, install_script, told};
pub use paste::paste;

use super::look::{system_body, take_whole};
use super::network::NetworkHomes;
use super::{nonce_of, opening_words};
use lavrin_keys::key::generate::Randomness;
use lavrin_server::fs::Why;
use lavrin_server::survey::{Observation, Want, Who};
use thiserror::Error;

/// The first line of an answer, followed by the word that frames it.
const MARK: &str = "lavrin-survey-1 ";

/// Tells which server is installed, as its banner would.
const VERSION: &str = "b version; { sshd -V || dropbear -V; } 2>&1 | head -n 1; e 0";

/// Why an answer could not be read.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum AnswerFault {
    /// It is something else.
    #[error("this is not an answer to the script: no line begins with '{}'", MARK.trim_end())]
    NoAnswer,
    /// Its end is missing.
    #[error("the answer is cut off: its last line is missing")]
    CutOff,
}

/// The script to run on the host, as root; what it prints is for [`read`]. It changes nothing there.
#[must_use]
pub fn script(network_homes: bool, randomness: &dyn Randomness) -> String {
    let (nonce, child) = (nonce_of(randomness), nonce_of(randomness));
    format!(
        "# A look at this host; it changes nothing. Run it as root: sh FILE >ANSWER\nT=\n{}\nprintf '{MARK}%s\\n' \"$N\"\n{VERSION}\n{}\nprintf '\\n%s Z\\n' \"$N\"\n",
        opening_words(&nonce, &child),
        system_body(&Who::All, network_homes)
    )
}

/// Reads what the script printed. What it could not foresee is "not checked".
///
/// # Errors
/// [`AnswerFault`].
pub fn read(answer: &[u8], wants: impl Fn(&Observation) -> Vec<Want>) -> Result<Observation, AnswerFault> {
    let at = begin(answer).ok_or(AnswerFault::NoAnswer)?;
    let line = answer[at + MARK.len()..].split(|byte| *byte == b'\n').next().unwrap_or_default();
    // A terminal that was recorded turns every line end into two characters.
    let recorded = line.ends_with(b"\r");
    let words = String::from_utf8_lossy(line).into_owned();
    let mut words = words.split_ascii_whitespace();
    let Some(nonce) = words.next() else { return Err(AnswerFault::NoAnswer) };
    let mut body = answer[at..].to_vec();
    if recorded {
        body = plain_line_ends(&body);
    }
    let end = format!("\n{nonce} Z\n").into_bytes();
    body.push(b'\n');
    if memchr::memmem::find(&body, &end).is_none() {
        return Err(AnswerFault::CutOff);
    }
    let mut seen = Observation::default();
    let banner = banner(&body, nonce);
    take_whole(&body, nonce, &banner, NetworkHomes::ByHand, None, &mut seen);
    for want in wants(&seen) {
        if !seen.answers(&want) {
            seen.give_up(&want, &Why::NotReached);
        }
    }
    Ok(seen)
}

/// Where the answer begins: at the beginning of a line, since what was typed or pasted may have been recorded too.
fn begin(answer: &[u8]) -> Option<usize> {
    let starts = |at: usize| at == 0 || matches!(answer[at - 1], b'\n' | b'\r');
    (0..answer.len()).find(|at| starts(*at) && answer[*at..].starts_with(MARK.as_bytes()))
}

fn plain_line_ends(bytes: &[u8]) -> Vec<u8> {
    let mut plain = Vec::with_capacity(bytes.len());
    for (place, byte) in bytes.iter().enumerate() {
        if *byte != b'\r' || bytes.get(place + 1) != Some(&b'\n') {
            plain.push(*byte);
        }
    }
    plain
}

/// What the server would say of itself, from what its program says.
fn banner(body: &[u8], nonce: &str) -> String {
    let frames = super::frames::frames(body, nonce);
    let said = frames.iter().find(|frame| frame.id == b"version").map(|frame| frame.bytes).unwrap_or_default();
    let said = String::from_utf8_lossy(said).into_owned();
    let words: Vec<&str> = said.split([' ', ',', '\n']).collect();
    if let Some(place) = words.iter().position(|word| word.starts_with("OpenSSH_")) {
        let build = words.get(place + 1).filter(|word| word.starts_with("Debian") || word.starts_with("Ubuntu"));
        return format!("SSH-2.0-{} {}", words[place], build.copied().unwrap_or_default()).trim_end().to_owned();
    }
    let dropbear = words.iter().find(|word| word.starts_with("v20"));
    dropbear.map(|version| format!("SSH-2.0-dropbear_{}", &version[1..])).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use lavrin_keys::key::generate::SystemSource;
    use lavrin_server::server::{Server, Version};

    fn run(script: &str) -> Vec<u8> {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("look.sh");
        std::fs::write(&path, script).unwrap();
        std::process::Command::new("/bin/sh").arg(path).output().unwrap().stdout
    }

    #[test]
    fn what_the_script_prints_here_is_read_however_it_was_recorded() {
        let script = script(false, &SystemSource);
        let answer = run(&script);
        let seen = read(&answer, |_| Vec::new()).unwrap();
        assert!(seen.account("root").is_some());
        assert!(seen.looked && seen.viewer.is_some());
        // From a console, with a prompt before it and other line ends.
        let text = String::from_utf8_lossy(&answer).replace('\n', "\r\n");
        let console = format!("lantern# sh look.sh\r\n{text}lantern# ");
        let again = read(console.as_bytes(), |_| Vec::new()).unwrap();
        assert_eq!(again.accounts, seen.accounts);
        assert_eq!(read(&answer[..answer.len() / 2], |_| Vec::new()).unwrap_err(), AnswerFault::CutOff);
        assert_eq!(read(b"hello", |_| Vec::new()).unwrap_err(), AnswerFault::NoAnswer);
    }

    #[test]
    fn the_program_tells_what_its_banner_would() {
        let server =
            |said: &str| Server::from_banner(&banner(format!("\nN B version\n{said}\nN E 0\n").as_bytes(), "N"));
        let debian = Server::debian(Version(9, 2));
        assert_eq!(server("OpenSSH_9.2p1 Debian-2+deb12u7, OpenSSL 3.0"), debian);
        assert_eq!(server("unknown option -- V\nOpenSSH_8.4p1, OpenSSL"), Server::openssh(Some(Version(8, 4))));
        assert_eq!(server("Dropbear v2022.83"), Server::dropbear(Some(Version(2022, 83))));
        assert_eq!(server("sh: not found"), Server::default());
    }
}
