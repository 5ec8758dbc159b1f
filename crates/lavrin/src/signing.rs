//! What signs a text: a private key, or the agent that holds one.

use crate::command::agent;
use crate::error::CommandError;
use crate::exit::Exit;
use lavrin_keys::key::signature::{armored, sign, to_be_signed};
use lavrin_keys::key::{PrivateKey, PublicKey};
use std::sync::Arc;

/// What signs.
pub enum SigningKey {
    /// A private key.
    Private(Arc<PrivateKey>),
    /// An agent.
    Agent {
        /// Where it listens.
        socket: String,
        /// The key that it holds.
        key: PublicKey,
    },
}

impl SigningKey {
    /// The key that it signs with.
    pub fn public(&self) -> &PublicKey {
        match self {
            Self::Private(key) => key.public(),
            Self::Agent { key, .. } => key,
        }
    }

    /// Signs a text for something, in the SSH signature format.
    pub async fn sign(&self, namespace: &str, text: &[u8]) -> Result<String, CommandError> {
        match self {
            Self::Private(key) => {
                sign(key, namespace, text).map_err(|_| CommandError::with(Exit::Stopped, "this key cannot sign"))
            }
            Self::Agent { socket, key } => {
                let data = to_be_signed(namespace, text);
                let blob = lavrin_reach::agent::sign(socket, key, &data).await.map_err(|why| agent::fault(&why))?;
                Ok(armored(key, namespace, &blob))
            }
        }
    }
}
