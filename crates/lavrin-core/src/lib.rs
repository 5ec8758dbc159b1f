//! The decisions of Lavrin: bytes and facts in; documents, findings, verdicts and steps out.
//!
//! Nothing in here opens a file, a socket or a terminal, reads a clock or an environment variable.
//! What has to be known comes in as arguments; what should happen goes out as data.
#![warn(missing_docs)]

pub mod access_rules;
pub mod account;
pub mod audit;
pub mod date;
pub mod finding;
pub mod fleet;
pub mod fs;
pub mod host_fault;
pub mod hostkey;
pub mod key;
pub mod keysfile;
pub mod login;
pub mod patterns;
pub mod policy;
pub mod register;
pub mod server;
pub mod server_config;
pub mod services;
pub mod severity;
pub mod steps;
pub mod survey;
pub mod system;
pub mod text;
pub mod version;
pub mod wire;
