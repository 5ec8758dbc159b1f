//! The register and the fleet held against each other: files and observations in; findings and differences out.
//!
//! Nothing in here opens a file, a socket or a terminal, reads a clock or an environment variable.
//! What has to be known comes in as arguments; what should happen goes out as data.
#![warn(missing_docs)]

pub mod fleet;
pub mod hops;
pub mod host_fault;
pub mod register;
pub mod request;
pub mod rules;
pub mod shortcuts;
