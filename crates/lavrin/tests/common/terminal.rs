//! A person at a terminal: waits for a question before answering it, however slow the machine is.

use std::io::{Read as _, Write as _};
use std::process::{Command, Stdio};
use std::sync::mpsc;
use std::time::{Duration, Instant};

/// How long a question may take to appear.
const PATIENCE: Duration = Duration::from_mins(1);

/// Runs a command on a terminal of its own. Each pair is a text to wait for and the line to type then. Gives everything
/// that was shown, and whether the command succeeded.
pub fn talk(world: &super::World, line: &str, dialogue: &[(&str, &str)]) -> (String, bool) {
    let mut child = Command::new("script")
        .args(["-qec", &format!("{} {line}", env!("CARGO_BIN_EXE_lavrin")), "/dev/null"])
        .env_clear()
        .env("PATH", "/usr/bin:/bin")
        .env("HOME", world.path("home"))
        .env("TERM", "dumb")
        .current_dir(world.path(""))
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut input = child.stdin.take().unwrap();
    let mut output = child.stdout.take().unwrap();
    let (sender, receiver) = mpsc::channel();
    let reader = std::thread::spawn(move || {
        let mut buffer = [0; 4096];
        while let Ok(length @ 1..) = output.read(&mut buffer) {
            if sender.send(buffer[..length].to_vec()).is_err() {
                break;
            }
        }
    });
    let mut shown = Vec::new();
    let mut searched = 0;
    for (question, answer) in dialogue {
        let begun = Instant::now();
        let at = loop {
            let text = &shown[searched..];
            if let Some(at) = text.windows(question.len()).position(|window| window == question.as_bytes()) {
                break at;
            }
            let left = PATIENCE.saturating_sub(begun.elapsed());
            let Ok(more) = receiver.recv_timeout(left) else {
                panic!("'{question}' did not appear: {}", String::from_utf8_lossy(&shown));
            };
            shown.extend(more);
        };
        searched += at + question.len();
        // The terminal hides what is typed from shortly after the question on.
        std::thread::sleep(Duration::from_millis(300));
        writeln!(input, "{answer}").unwrap();
    }
    let status = child.wait().unwrap();
    drop(input);
    reader.join().unwrap();
    shown.extend(receiver.try_iter().flatten());
    (String::from_utf8_lossy(&shown).into_owned(), status.success())
}
