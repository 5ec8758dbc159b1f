//! The ways through a fleet: who can reach what by hopping from host to host, over private keys that lie on them.
//!
//! Nothing here is certain to be used by somebody; it is what somebody could do who has taken a host, an account or a key.

mod behind;
mod cut;
mod facts;
mod findings;
mod graph;
mod hints;
mod search;
#[cfg(test)]
mod tests;

pub use behind::Behind;
pub use cut::{Cut, Single};
pub use facts::{AccountFacts, BecomesRoot, HostFacts};
pub use findings::findings;
pub use graph::{Follow, Spot, Step, WaysThrough};
pub use search::{Came, ReachedFrom, Start};
