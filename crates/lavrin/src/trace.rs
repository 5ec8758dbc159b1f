//! What `--verbose` tells on the error output: how each connection came about, and how long scripts ran. Never a secret.

use lavrin_server::server::{DROPBEAR_MEASURED, OPENSSH_MEASURED, Version};
use tracing::level_filters::LevelFilter;

/// Begins to trace: nothing, connections, or scripts too.
pub fn start(verbose: u8) {
    let level = match verbose {
        0 => return,
        1 => LevelFilter::INFO,
        _ => LevelFilter::DEBUG,
    };
    let lines = tracing_subscriber::fmt().without_time().with_target(false).with_level(false).with_ansi(false);
    lines.with_writer(std::io::stderr).with_max_level(level).init();
    let names = |measured: &[Version]| measured.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
    tracing::info!("rules measured with OpenSSH {}", names(&OPENSSH_MEASURED));
    tracing::info!("rules measured with dropbear {}", names(&DROPBEAR_MEASURED));
}
