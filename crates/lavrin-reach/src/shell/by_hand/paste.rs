//! A script as text that survives a browser's console: short lines, no tabs, nothing that a shell at a prompt would take
//! for its own, and a checksum over all of it before anything is done.

use std::fmt::Write as _;

/// Longest line, in bytes; consoles in browsers lose what is longer than 1,000.
const LINE_MAX: usize = 900;

/// Wraps a script. `title` says what it is and where it belongs.
#[must_use]
pub fn paste(title: &str, script: &str) -> String {
    let script = script.replace('\t', "  ");
    let mut text = format!(
        "# {title}\n# It does nothing unless all of it has arrived whole. Where the shell is no plain one (csh, fish), type sh first.\nn=$(printf '\\nx'); n=${{n%x}}; s=\n"
    );
    let mut line = String::from("s=$s");
    for character in script.chars() {
        let piece = match character {
            '\n' => "$n".to_owned(),
            '\'' => "\\'".to_owned(),
            other => format!("'{other}'"),
        };
        if line.len() + piece.len() > LINE_MAX {
            let _ = writeln!(text, "{line}");
            line = String::from("s=$s");
        }
        // Quoted pieces that follow each other become one.
        if piece.starts_with('\'') && line.ends_with('\'') && !line.ends_with("\\'") {
            line.pop();
            line.push_str(&piece[1..]);
        } else {
            line.push_str(&piece);
        }
    }
    let (sum, length) = cksum(script.as_bytes());
    let _ = write!(
        text,
        "{line}\nset -- $(printf '%s' \"$s\" | cksum)\nif [ \"$1 $2\" = \"{sum} {length}\" ]; then (eval \"$s\"); else echo; echo '{}damaged: paste it again; nothing was changed'; fi\n",
        super::change::MARK
    );
    text
}

/// The checksum that `cksum` prints, and the number of bytes (POSIX, cksum).
fn cksum(bytes: &[u8]) -> (u32, usize) {
    let mut sum = 0u32;
    let mut take = |byte: u8| {
        sum ^= u32::from(byte) << 24;
        for _ in 0..8 {
            sum = if sum & 0x8000_0000 == 0 { sum << 1 } else { (sum << 1) ^ 0x04c1_1db7 };
        }
    };
    for byte in bytes {
        take(*byte);
    }
    let mut length = bytes.len();
    while length > 0 {
        take(length.to_le_bytes()[0]);
        length >>= 8;
    }
    (!sum, bytes.len())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write as _;
    use std::process::{Command, Stdio};

    fn run(text: &str) -> String {
        let mut child = Command::new("/bin/sh").stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
        child.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
        String::from_utf8_lossy(&child.wait_with_output().unwrap().stdout).into_owned()
    }

    #[test]
    fn a_script_comes_through_whole_or_not_at_all() {
        let script =
            "echo it\\'s here\nx='a b  c'\nfor i in 1 2; do echo \"$x! $i\"; done\n# ünïcode \\0 $n\n".repeat(40);
        let text = paste("for the lantern", &script);
        assert!(text.lines().all(|line| line.len() < 1000));
        assert_eq!(run(&text), run(&script));
        // A character that was lost, two lines that were swapped.
        let lost = text.replacen("s here", "s hre", 1);
        assert_eq!(run(&lost), "\nlavrin-change-1 damaged: paste it again; nothing was changed\n");
        let mut lines: Vec<&str> = text.lines().collect();
        lines.swap(3, 4);
        assert!(run(&(lines.join("\n") + "\n")).contains("damaged"));
    }

    #[test]
    fn the_checksum_is_that_of_the_system() {
        for text in ["", "a", "hello\n", &"x".repeat(70_000)] {
            let mut child = Command::new("cksum").stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
            child.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
            let said = String::from_utf8_lossy(&child.wait_with_output().unwrap().stdout).trim().to_owned();
            let (sum, length) = cksum(text.as_bytes());
            assert_eq!(said, format!("{sum} {length}"));
        }
    }
}
