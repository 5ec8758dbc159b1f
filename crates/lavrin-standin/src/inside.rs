//! A host's scripts see its tree as `/`. The stand-in runs them on this machine, in a folder: on their way in it tells them so, and
//! keeps them out of this machine's log. The client knows nothing of it.

use lavrin_reach::{read_exactly, reads_exactly};
use std::path::Path;

/// What a script says of the tree it works in.
const IN_ROOT: &[u8] = b"R=; export R";

/// What would write into the log, and what does nothing in its place, of the same length.
const LOGGER: [&[u8]; 2] = [b"logger -t ", b"true      "];

/// What begins a script's work on the server's settings; before it stand the functions for that.
const WORKS: [&[u8]; 4] = [b"\nreload )", b"\nbegin ", b"\ndisarm ", b"\nat_once "];

/// Shell functions for scripts on a host where root signs in: there is no process to reload, since each connection reads the
/// settings again.
const AS_ROOT: &[u8] =
    b"\nroot() { :; }; alone() { :; }; find_server() { A=y; L=; O=; S=true; C=$R/etc/ssh/sshd_config; }";

/// The tree that scripts work in.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Inside<'a> {
    /// Where it is.
    pub(crate) root: &'a Path,
    /// Whether its owner is root in it.
    pub(crate) is_roots: bool,
}

impl Inside<'_> {
    /// The tree, as it stands in a script.
    fn quoted(self) -> String {
        format!("'{}'", self.root.display())
    }

    /// How many bytes longer a script is here.
    fn more(self) -> usize {
        self.quoted().len() + if self.is_roots { AS_ROOT.len() } else { 0 }
    }
}

/// A command as it is run here, and how many bytes of a script come behind it: those of the tree's name are added to the number
/// of bytes that it reads. Any other command is run as it is.
pub(crate) fn command(command: &[u8], inside: Inside<'_>) -> (Vec<u8>, usize) {
    let text = String::from_utf8_lossy(command);
    let Some(bytes) = reads_exactly(&text) else { return (command.to_vec(), 0) };
    let told = text.replacen(&read_exactly(bytes), &read_exactly(bytes + inside.more()), 1);
    (told.into_bytes(), bytes)
}

/// A script as it is run here, with the lines that are added.
pub(crate) fn script(script: &[u8], inside: Inside<'_>) -> Vec<u8> {
    let told = format!("R={}; export R", inside.quoted());
    let length = script.len() + inside.more();
    let mut script = script.to_vec();
    if let Some(at) = find(&script, IN_ROOT) {
        script.splice(at..at + IN_ROOT.len(), told.bytes());
    }
    let works = WORKS.iter().filter_map(|work| find(&script, work)).min();
    if let Some(at) = works.filter(|_| inside.is_roots) {
        script.splice(at..at, AS_ROOT.iter().copied());
    }
    // What reads it counts bytes.
    script.splice(..0, vec![b'\n'; length - script.len()]);
    if let Some(at) = find(&script, LOGGER[0]) {
        script.splice(at..at + LOGGER[0].len(), LOGGER[1].iter().copied());
    }
    script
}

fn find(text: &[u8], what: &[u8]) -> Option<usize> {
    text.windows(what.len()).position(|window| window == what)
}

/// The input of a command: a script of so many bytes, and then what it reads itself.
pub(crate) struct Incoming {
    script: Vec<u8>,
    missing: usize,
}

impl Incoming {
    /// Before anything came in.
    pub(crate) fn of(length: usize) -> Self {
        Self { script: Vec::new(), missing: length }
    }

    /// What goes on to the command of these bytes.
    pub(crate) fn take(&mut self, bytes: &[u8], inside: Inside<'_>) -> Vec<u8> {
        if self.missing == 0 {
            return bytes.to_vec();
        }
        let (own, rest) = bytes.split_at(bytes.len().min(self.missing));
        self.script.extend_from_slice(own);
        self.missing -= own.len();
        if self.missing > 0 {
            return Vec::new();
        }
        [script(&std::mem::take(&mut self.script), inside), rest.to_vec()].concat()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_script_is_told_where_its_tree_is_and_counted_anew() {
        let root = Inside { root: Path::new("/tmp/x"), is_roots: false };
        let reading = |bytes: usize| format!("exec /bin/sh -c 'eval \"$({})\"'", read_exactly(bytes)).into_bytes();
        let (told, length) = command(&reading(18), root);
        assert_eq!(told, reading(26));
        let mut incoming = Incoming::of(length);
        assert_eq!(incoming.take(b"N=1; R=; ", root), b"");
        assert_eq!(incoming.take(b"export RabcZ\n", root), b"N=1; R='/tmp/x'; export RabcZ\n".to_vec());
        assert_eq!(incoming.take(b"more", root), b"more");
    }

    #[test]
    fn what_works_in_no_tree_is_as_long_and_writes_no_log() {
        let root = Inside { root: Path::new("/tmp/x"), is_roots: false };
        let told = script(b"logger -t lavrin x", root);
        assert_eq!(told, b"\n\n\n\n\n\n\n\ntrue      lavrin x");
        assert_eq!(command(b"uname -a", root), (b"uname -a".to_vec(), 0));
    }

    #[test]
    fn on_a_host_of_its_own_the_owner_is_root_for_what_works_on_settings() {
        let root = Inside { root: Path::new("/tmp/x"), is_roots: true };
        let told = script(b"R=; export R\nroot() { id; }\nbegin x\n", root);
        let text = String::from_utf8(told.clone()).unwrap();
        assert!(
            text.starts_with("R='/tmp/x'; export R\nroot() { id; }\nroot() { :; }") && text.ends_with("}\nbegin x\n")
        );
        assert_eq!(
            script(b"R=; export R\nls\n", root).len() + "root() { id; }\nbegin x".len() - "ls".len(),
            told.len()
        );
    }
}
