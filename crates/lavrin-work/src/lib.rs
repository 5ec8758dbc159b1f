//! What a command conducts: look, decide, journal the intent, carry out, prove, journal the outcome; at one place or at many.

pub mod ask;
mod audit;
pub mod change;
pub mod fleet;
pub mod fleet_run;
mod heard;
pub mod hops;
pub mod interrupt;
pub mod kept;
pub mod look;
pub mod memory;
pub mod offboard;
pub mod overview;
pub mod owed;
mod penalties;
pub mod plan;
pub mod pool;
pub mod profile_walk;
pub mod register;
pub mod rotate;
mod scope;
pub mod site;
pub mod standing;
pub mod survey;
pub mod told;
pub mod walk;
pub mod ways;

pub use audit::{Audited, audit_tree};
pub use heard::{AskTerms, Heard, Holder, NoProof, hear, prove};
pub use penalties::Penalties;
pub use scope::Scope;
