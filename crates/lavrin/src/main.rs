//! The `lavrin` command: who can log in where, is that how it should be, and can it be made so.

mod account_target;
mod cli;
mod client_config;
mod clock;
mod command;
mod connection;
mod defaults;
mod error;
mod exit;
mod finding_text;
mod fold;
mod host;
mod input;
mod json;
mod out_file;
mod outcome;
mod own_keys;
mod paths;
mod screen;
mod secret;
mod severity_arg;
mod sign_in;
mod signing;
mod table;
mod trace;
mod ui;
mod wording;

use std::process::ExitCode;
use zeroizing_alloc::ZeroAlloc;

/// Reading and printing very many keys asks for memory on both cores all the time; this one serves them side by side.
/// What is given back is overwritten: secrets pass through many hands, libraries' too, that do not wipe what they leave.
#[global_allocator]
static ALLOCATOR: ZeroAlloc<mimalloc::MiMalloc> = ZeroAlloc(mimalloc::MiMalloc);

/// Keeps what is in memory, secrets among it, out of core files and away from other processes of the same user.
fn keep_memory_private() {
    use rustix::process::{DumpableBehavior, Resource, Rlimit, set_dumpable_behavior, setrlimit};
    let _ = setrlimit(Resource::Core, Rlimit { current: Some(0), maximum: Some(0) });
    let _ = set_dumpable_behavior(DumpableBehavior::NotDumpable);
}

/// Large pages are cleared whole and hold two megabytes for each corner that is used: a sixth more memory, and no time won.
fn keep_memory_small() {
    let _ = rustix::thread::disable_transparent_huge_pages(true);
}

fn main() -> ExitCode {
    keep_memory_private();
    keep_memory_small();
    cli::run().into()
}
