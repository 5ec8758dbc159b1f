//! A host's scripts see its tree as `/`. The stand-in runs them on this machine, in a folder: on their way in it tells them so, and
//! keeps them out of this machine's log. The client knows nothing of it.

use std::path::Path;

/// What a script says of the tree it works in.
const IN_ROOT: &[u8] = b"R=; export R";

/// What would write into the log, and what does nothing in its place, of the same length.
const LOGGER: [&[u8]; 2] = [b"logger -t ", b"true      "];

/// What stands before the number of bytes that a shell reads and then runs.
const COUNT: &str = "count=";

/// The tree, as it stands in a script.
fn quoted(root: &Path) -> String {
    format!("'{}'", root.display())
}

/// A command as it is run here, and how many bytes of a script come behind it: those of the tree's name are added to the number
/// of bytes that it reads. Any other command is run as it is.
pub(crate) fn command(command: &[u8], root: &Path) -> (Vec<u8>, usize) {
    let text = String::from_utf8_lossy(command);
    let read = || {
        let (before, rest) = text.split_once(COUNT)?;
        let length = rest.find(|digit: char| !digit.is_ascii_digit())?;
        let bytes: usize = rest[..length].parse().ok()?;
        let more = bytes + quoted(root).len();
        Some((format!("{before}{COUNT}{more}{}", &rest[length..]).into_bytes(), bytes))
    };
    read().unwrap_or_else(|| (command.to_vec(), 0))
}

/// A script as it is run here, longer by the name of the tree.
pub(crate) fn script(script: &[u8], root: &Path) -> Vec<u8> {
    let root = quoted(root);
    let told = format!("R={root}; export R");
    let mut script = script.to_vec();
    if let Some(at) = find(&script, IN_ROOT) {
        script.splice(at..at + IN_ROOT.len(), told.bytes());
    } else {
        // One that works in no tree: what reads it counts bytes.
        script.splice(..0, vec![b'\n'; root.len()]);
    }
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
    pub(crate) fn take(&mut self, bytes: &[u8], root: &Path) -> Vec<u8> {
        if self.missing == 0 {
            return bytes.to_vec();
        }
        let (own, rest) = bytes.split_at(bytes.len().min(self.missing));
        self.script.extend_from_slice(own);
        self.missing -= own.len();
        if self.missing > 0 {
            return Vec::new();
        }
        [script(&std::mem::take(&mut self.script), root), rest.to_vec()].concat()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_script_is_told_where_its_tree_is_and_counted_anew() {
        let root = Path::new("/tmp/x");
        let (told, length) = command(b"exec /bin/sh -c 'eval \"$(dd bs=1 count=18 2>/dev/null)\"'", root);
        assert_eq!(told, b"exec /bin/sh -c 'eval \"$(dd bs=1 count=26 2>/dev/null)\"'");
        let mut incoming = Incoming::of(length);
        assert_eq!(incoming.take(b"N=1; R=; ", root), b"");
        assert_eq!(incoming.take(b"export RabcZ\n", root), b"N=1; R='/tmp/x'; export RabcZ\n".to_vec());
        assert_eq!(incoming.take(b"more", root), b"more");
    }

    #[test]
    fn what_works_in_no_tree_is_as_long_and_writes_no_log() {
        let told = script(b"logger -t lavrin x", Path::new("/tmp/x"));
        assert_eq!(told, b"\n\n\n\n\n\n\n\ntrue      lavrin x");
        assert_eq!(command(b"uname -a", Path::new("/tmp/x")), (b"uname -a".to_vec(), 0));
    }
}
