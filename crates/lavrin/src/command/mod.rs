//! One file per command.

pub mod adopt;
pub mod audit;
pub mod change;
pub mod check;
pub mod demo;
pub mod grant;
pub mod history;
pub mod host;
pub mod init;
pub mod install;
pub mod key;
pub mod mend;
pub mod person;
pub mod place;
pub mod probe;
pub mod register;
pub mod remove;
pub mod settings;
pub mod sightings;
pub mod survey;
pub mod why;
