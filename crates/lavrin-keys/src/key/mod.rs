//! Keys: algorithms, public and private halves, fingerprints, generation, containers and strength.

pub mod algorithm;
pub mod base64;
pub mod container;
mod edwards;
pub mod fault;
pub mod fingerprint;
pub mod generate;
mod numbers;
pub mod passphrase;
pub mod paste;
pub mod policy;
pub mod private;
pub mod public;
pub mod revocation;
pub mod signature;
pub mod strength;
mod words;

pub use algorithm::{Algorithm, Curve};
pub use fault::KeyFault;
pub use fingerprint::Fingerprint;
pub use private::PrivateKey;
pub use public::PublicKey;

use zeroize::Zeroizing;

/// Secret bytes that are wiped when dropped.
pub type Secret = Zeroizing<Vec<u8>>;
