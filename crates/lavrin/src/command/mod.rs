//! One file per command.

pub mod audit;
pub mod change;
pub mod demo;
pub mod install;
pub mod key;
pub mod place;
pub mod probe;
pub mod remove;
pub mod settings;
pub mod why;
