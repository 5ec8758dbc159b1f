//! How far a survey is, on a terminal.

use crate::ui::Ui;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressState, ProgressStyle};
use std::fmt::Write;
use std::time::Duration;

/// Drawn a few times a second; nothing at all where nobody watches.
pub struct Progress {
    bar: ProgressBar,
    failed: u64,
}

impl Progress {
    pub fn of(hosts: usize, ui: &Ui) -> Self {
        let target = if ui.shows_progress() { ProgressDrawTarget::stderr() } else { ProgressDrawTarget::hidden() };
        let bar = ProgressBar::with_draw_target(Some(hosts as u64), target);
        let form = "{pos} of {len} hosts{msg}, {rate} a second, {eta} to go";
        if let Ok(style) = ProgressStyle::with_template(form) {
            let rate = |state: &ProgressState, out: &mut dyn Write| {
                let _ = write!(out, "{:.0}", state.per_sec());
            };
            bar.set_style(style.with_key("rate", rate));
        }
        bar.enable_steady_tick(Duration::from_millis(200));
        Self { bar, failed: 0 }
    }

    pub fn one(&mut self, is_seen: bool) {
        if !is_seen {
            self.failed += 1;
            self.bar.set_message(format!(", {} failed", self.failed));
        }
        self.bar.inc(1);
    }

    pub fn end(&self) {
        self.bar.finish_and_clear();
    }
}
