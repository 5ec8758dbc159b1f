//! One file per command.

pub mod adopt;
pub mod audit;
pub mod change;
pub mod check;
pub mod compare;
pub mod demo;
pub mod enforce;
pub mod fleet_change;
pub mod grant;
pub mod history;
pub mod host;
pub mod init;
pub mod install;
pub mod key;
pub mod mend;
pub mod offboard;
pub mod person;
pub mod place;
pub mod probe;
pub mod register;
pub mod remove;
pub mod restore;
pub mod settings;
pub mod sightings;
pub mod survey;
pub mod why;
