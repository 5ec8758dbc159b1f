//! The `lavrin` command: who can log in where, is that how it should be, and can it be made so.

mod account_target;
mod cli;
mod clock;
mod command;
mod connection;
mod error;
mod exit;
mod host;
mod input;
mod json;
mod paths;
mod secret;
mod severity_arg;
mod sign_in;
mod table;
mod ui;
mod wording;

use std::process::ExitCode;

/// Reading and printing very many keys asks for memory on both cores all the time; this one serves them side by side.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    cli::run().into()
}
