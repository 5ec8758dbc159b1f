//! Keys and what they stand in: bytes in; keys, documents and their faults out.
//!
//! Nothing in here opens a file, a socket or a terminal, reads a clock or an environment variable.
//! What has to be known comes in as arguments; what should happen goes out as data.
#![warn(missing_docs)]

pub mod date;
pub mod hostkey;
pub mod key;
pub mod keysfile;
pub mod patterns;
pub mod pieces;
pub mod repair;
pub mod services;
pub mod severity;
pub mod signers;
pub mod text;
pub mod version;
pub mod wire;
