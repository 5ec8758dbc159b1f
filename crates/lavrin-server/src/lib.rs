//! What a server would do: accounts and facts in; settings, verdicts, findings and steps out.
//!
//! Nothing in here opens a file, a socket or a terminal, reads a clock or an environment variable.
//! What has to be known comes in as arguments; what should happen goes out as data.
#![warn(missing_docs)]

pub mod abilities;
pub mod access_rules;
pub mod account;
pub mod audit;
pub mod device;
pub mod finding;
pub mod fs;
pub mod login;
pub mod server;
pub mod server_config;
pub mod steps;
pub mod survey;
pub mod system;
