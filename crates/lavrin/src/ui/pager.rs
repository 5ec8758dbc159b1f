//! A program that shows long results page by page, where the user has chosen one and asks for it.

use std::io::{IsTerminal as _, Write as _};
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::Mutex;

/// It runs until all is shown.
#[derive(Debug)]
pub struct Pager {
    child: Mutex<Child>,
    input: Mutex<Option<ChildStdin>>,
}

impl Pager {
    /// Starts what `PAGER` names; `None` where nothing is named, where nobody looks, or where it does not start.
    pub fn begin() -> Option<Self> {
        let program = std::env::var("PAGER").ok().filter(|program| !program.trim().is_empty())?;
        if !std::io::stdout().is_terminal() {
            return None;
        }
        let mut child = Command::new("/bin/sh").arg("-c").arg(&program).stdin(Stdio::piped()).spawn().ok()?;
        let input = child.stdin.take();
        Some(Self { child: Mutex::new(child), input: Mutex::new(input) })
    }

    /// Hands it some more. One that was ended is no failure.
    pub fn write(&self, bytes: &[u8]) {
        if let Ok(mut input) = self.input.lock()
            && let Some(open) = input.as_mut()
            && open.write_all(bytes).is_err()
        {
            *input = None;
        }
    }
}

impl Drop for Pager {
    fn drop(&mut self) {
        if let Ok(mut input) = self.input.lock() {
            *input = None;
        }
        if let Ok(mut child) = self.child.lock() {
            let _ = child.wait();
        }
    }
}
