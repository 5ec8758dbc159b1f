//! What `ls -ldn` says of paths: kind, mode, owner, and why there is none of it.

use lavrin_server::fs::{BytePath, Fact, Node, NodeKind, Why};

/// Reads what `ls -ldn` said of one path, and how it ended.
pub(super) fn node(said: &[u8], status: u8) -> Fact<Node> {
    if status != 0 {
        return refusal(said);
    }
    let text = String::from_utf8_lossy(said);
    let mut words = text.split_ascii_whitespace();
    let parsed = (|| {
        let bits = words.next()?;
        words.next()?;
        let (uid, gid) = (words.next()?.parse().ok()?, words.next()?.parse().ok()?);
        let kind = match bits.as_bytes().first()? {
            b'-' => NodeKind::File,
            b'd' => NodeKind::Folder,
            b'l' => NodeKind::Link(Vec::new()),
            _ => NodeKind::Special,
        };
        Some(Node {
            kind,
            mode: mode_of(bits.get(1..10)?.as_bytes())?,
            uid,
            gid,
            access_list: bits.as_bytes().get(10) == Some(&b'+'),
        })
    })();
    parsed.map_or_else(|| Fact::Unseen(Why::Other("its listing was not understood".to_owned())), Fact::Known)
}

/// A listing of several plain paths, each as `./home/edda` at the end of its line. A line that is not understood is none.
pub(super) fn nodes(listing: &[u8]) -> impl Iterator<Item = (BytePath, Fact<Node>)> {
    listing.split(|byte| *byte == b'\n').filter_map(|line| {
        let path = line.rsplit(|byte| *byte == b' ').next()?.strip_prefix(b".")?;
        Some((BytePath::new(path), node(line, 0))).filter(|(_, fact)| fact.known().is_some())
    })
}

/// What the words of a refusal mean.
pub(super) fn refusal<T>(said: &[u8]) -> Fact<T> {
    let said = String::from_utf8_lossy(said);
    if said.contains("No such file") || said.contains("Not a directory") {
        Fact::Absent
    } else if said.contains("ermission denied") {
        Fact::Unseen(Why::Permission)
    } else {
        Fact::Unseen(Why::Other(lavrin_keys::text::printable(said.trim().as_bytes())))
    }
}

/// The bits behind nine letters such as `rwxr-s--T`.
fn mode_of(letters: &[u8]) -> Option<u32> {
    let mut mode = 0;
    for (place, letter) in letters.iter().enumerate() {
        let bit = 0o400 >> place;
        let special = 0o4000 >> (place / 3);
        mode |= match letter {
            b'-' => 0,
            b'r' | b'w' | b'x' => bit,
            b's' | b't' => bit | special,
            b'S' | b'T' => special,
            _ => return None,
        };
    }
    Some(mode)
}

/// The nine letters of a mode, as `ls` shows them behind the kind.
pub(super) fn letters_of(mode: u32) -> String {
    let mut letters = String::with_capacity(9);
    for place in 0..9 {
        let set = mode & (0o400 >> place) != 0;
        let special = place % 3 == 2 && mode & (0o4000 >> (place / 3)) != 0;
        letters.push(match (special, set, place) {
            (true, true, 8) => 't',
            (true, false, 8) => 'T',
            (true, true, _) => 's',
            (true, false, _) => 'S',
            (false, true, _) => ['r', 'w', 'x'][place % 3],
            (false, false, _) => '-',
        });
    }
    letters
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn listings_are_read_in_both_dialects() {
        let read = |line: &str| node(line.as_bytes(), 0);
        let expected = Node { kind: NodeKind::Folder, mode: 0o2755, uid: 1001, gid: 50, access_list: false };
        assert_eq!(read("drwxr-sr-x 2 1001 50 4096 Nov 23 08:00 /home/edda\n"), Fact::Known(expected));
        let Fact::Known(file) = read("-rw-r-----+   1 0        0              12 Nov 23  2025 /x y\n") else {
            panic!()
        };
        assert_eq!((file.mode, file.access_list), (0o640, true));
        assert!(matches!(read("nonsense"), Fact::Unseen(_)));
        assert_eq!(node(b"ls: /x: No such file or directory\n", 1), Fact::Absent);
    }

    #[test]
    fn letters_and_modes_are_each_others_inverse() {
        for mode in 0..=0o7777 {
            assert_eq!(mode_of(letters_of(mode).as_bytes()), Some(mode));
        }
    }
}
