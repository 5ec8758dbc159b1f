//! A person at a terminal: waits for a question before answering it, however slow the machine is.

use std::io::{Read as _, Write as _};
use std::process::{Command, Stdio};
use std::sync::mpsc;
use std::time::{Duration, Instant};

/// How long a question may take to appear. Only a run that fails waits for so long.
const PATIENCE: Duration = Duration::from_mins(5);

/// How long the program may take to hide what is typed, where it does at all.
const HIDDEN_WITHIN: Duration = Duration::from_secs(2);

/// Runs a command on a terminal of its own. Each pair is a text to wait for and the line to type then. Gives everything
/// that was shown, and whether the command succeeded.
pub fn talk(world: &super::World, line: &str, dialogue: &[(&str, &str)]) -> (String, bool) {
    talk_with(world, line, dialogue, |_| ())
}

/// The same; the program, by its process, is looked at before each line is typed.
pub fn talk_with(
    world: &super::World,
    line: &str,
    dialogue: &[(&str, &str)],
    mut look: impl FnMut(u32),
) -> (String, bool) {
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
        if ["assphrase", "assword", "once more"].iter().any(|word| question.contains(word)) {
            wait_until_hidden(child.id());
        }
        // Between the two there may be a shell.
        if let Some((process, _)) = program_below(child.id()) {
            look(program_below(process).map_or(process, |(process, _)| process));
        }
        writeln!(input, "{answer}").unwrap();
    }
    let status = child.wait().unwrap();
    drop(input);
    reader.join().unwrap();
    shown.extend(receiver.try_iter().flatten());
    (String::from_utf8_lossy(&shown).into_owned(), status.success())
}

/// The terminal hides what is typed from shortly after a question for a secret on; other questions need not be waited for.
fn wait_until_hidden(script: u32) {
    let begun = Instant::now();
    let hides = |terminal: &std::fs::File| {
        let modes = rustix::termios::tcgetattr(terminal).map(|modes| modes.local_modes);
        modes.is_ok_and(|modes| !modes.contains(rustix::termios::LocalModes::ECHO))
    };
    while begun.elapsed() < HIDDEN_WITHIN {
        if terminal_below(script).is_some_and(|terminal| hides(&terminal)) {
            return;
        }
        std::thread::sleep(Duration::from_millis(5));
    }
}

/// The terminal on which the program runs that this one started.
fn terminal_below(parent: u32) -> Option<std::fs::File> {
    let (_, device) = program_below(parent)?;
    let (major, minor) = (device >> 8 & 0xff, device & 0xff);
    // Terminals of this kind have the major numbers from 136 on, 256 of them each.
    std::fs::File::open(format!("/dev/pts/{}", major.checked_sub(136)? * 256 + minor)).ok()
}

/// The program that this one started, and the device number of its terminal.
fn program_below(parent: u32) -> Option<(u32, u32)> {
    let processes = std::fs::read_dir("/proc").ok()?.flatten();
    let stats = processes.filter_map(|process| std::fs::read_to_string(process.path().join("stat")).ok());
    let mut below = stats.filter_map(|stat| {
        let fields: Vec<String> = stat.rsplit_once(") ")?.1.split(' ').map(str::to_owned).collect();
        let process = stat.split(' ').next()?.parse().ok()?;
        (fields[1] == parent.to_string()).then(|| Some((process, fields[4].parse::<u32>().ok()?)))?
    });
    below.find(|(_, device)| device >> 8 & 0xff >= 136)
}
