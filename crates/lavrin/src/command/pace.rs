//! How many hosts at the same time, and for how long.

use crate::defaults;
use crate::error::CommandError;
use crate::ui::Ui;
use clap::Args;
use lavrin_fleet::register::Register;
use lavrin_work::pool::Pace;
use std::time::Duration;

/// What holds where neither an option nor a default says so.
const PARALLEL: u16 = 32;
const HOST_LIMIT: u64 = 60;

/// How many hosts at the same time, and for how long.
#[derive(Debug, Args, Clone, Default)]
pub struct PaceArgs {
    /// Work on N hosts at the same time (default: 32)
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=1024))]
    parallel: Option<u16>,
    /// Longest time for one look at one host (default: 60)
    #[arg(long, value_name = "SECONDS", value_parser = clap::value_parser!(u64).range(1..=3600))]
    host_limit: Option<u64>,
}

impl PaceArgs {
    /// As typed, else by the defaults.
    pub fn pace(&self, register: &Register, ui: &Ui) -> Result<Pace, CommandError> {
        let defaults = defaults::of(Some(register))?;
        let parallel = self.parallel.or(defaults.parallel).unwrap_or(PARALLEL);
        let limit = Duration::from_secs(self.host_limit.or(defaults.host_limit).unwrap_or(HOST_LIMIT));
        Ok(Pace { parallel: parallel.into(), limit, interrupt: ui.interrupt.clone() })
    }
}
