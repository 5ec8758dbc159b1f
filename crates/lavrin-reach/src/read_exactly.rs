//! How a shell takes a script or a file from its input without touching what comes behind it.

/// Pieces that a long one is read in, in bytes.
const PIECE: usize = 64 << 10;

/// A command for a shell that copies exactly so many bytes of its input to its output: in large pieces, or one by one where its `dd`
/// does not know how to wait for a whole piece; such a `dd` has read nothing before it says so.
#[must_use]
pub fn read_exactly(bytes: usize) -> String {
    let (pieces, rest) = (bytes / PIECE, bytes % PIECE);
    let whole = |size: usize, count: usize| format!("dd bs={size} count={count} iflag=fullblock");
    let large = match (pieces, rest) {
        (0, _) => whole(bytes.max(1), bytes.min(1)),
        (_, 0) => whole(PIECE, pieces),
        (_, _) => format!("{} && {}", whole(PIECE, pieces), whole(rest, 1)),
    };
    format!("{{ {large} || dd bs=1 count={bytes}; }} 2>/dev/null")
}

/// How many bytes a command reads in this way.
#[must_use]
pub fn reads_exactly(command: &str) -> Option<usize> {
    let (_, rest) = command.split_once("|| dd bs=1 count=")?;
    let bytes = rest.split(';').next()?.parse().ok()?;
    command.contains(&read_exactly(bytes)).then_some(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write as _;
    use std::process::{Command, Stdio};

    /// What a shell reads of an input that comes in two parts, and what it leaves.
    fn read_by(shell: &[&str], before: &str, bytes: usize) -> (usize, Vec<u8>) {
        let script = format!("{before}x=$({} | wc -c); echo $x; cat", read_exactly(bytes));
        let mut child = Command::new(shell[0])
            .args(&shell[1..])
            .args(["-c", &script])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut input = child.stdin.take().unwrap();
        let text = vec![b'a'; bytes];
        let (first, second) = text.split_at(bytes / 3);
        for part in [first, second, b"behind".as_slice()] {
            input.write_all(part).unwrap();
            std::thread::sleep(std::time::Duration::from_millis(20));
        }
        drop(input);
        let said = child.wait_with_output().unwrap().stdout;
        let end = said.iter().position(|byte| *byte == b'\n').unwrap();
        (String::from_utf8_lossy(&said[..end]).trim().parse().unwrap(), said[end + 1..].to_vec())
    }

    #[test]
    fn exactly_so_much_is_read_however_it_comes() {
        for bytes in [0, 1, 3000, PIECE, PIECE + 1, 3 * PIECE + 17] {
            assert_eq!(read_by(&["/bin/sh"], "", bytes), (bytes, b"behind".to_vec()));
            assert_eq!(reads_exactly(&format!("eval \"$({})\"", read_exactly(bytes))), Some(bytes));
        }
        assert_eq!(reads_exactly("dd bs=1 count=7"), None);
    }

    #[test]
    fn a_dd_that_cannot_wait_reads_byte_by_byte() {
        let old = "dd() { case \"$*\" in *iflag*) echo 'unknown operand' >&2; return 1 ;; esac; command dd \"$@\"; }; ";
        assert_eq!(read_by(&["/bin/sh"], old, 3000), (3000, b"behind".to_vec()));
    }
}
