//! A small simulated host for the demo and for tests: an SSH server on loopback with a file tree of its own. What it
//! lets in is decided by the core's own verdict on that tree; what is run runs in that tree, with the rights of whoever
//! started it.

mod server;
mod tree;

use lavrin_core::key::container::openssh;
use lavrin_core::key::generate::{Recipe, SystemSource, generate};
use lavrin_core::key::{Fingerprint, passphrase};
use std::collections::HashMap;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use tempfile::TempDir;
use thiserror::Error;
use tokio::net::TcpListener;
use tokio::task::JoinHandle;

/// A stand-in could not be started.
#[derive(Debug, Error)]
pub enum StandInFault {
    /// The system refused something.
    #[error("the stand-in could not be started: {0}")]
    System(#[from] std::io::Error),
    /// Its host key could not be made.
    #[error("the stand-in's host key could not be made")]
    HostKey,
}

/// A stand-in that is running. Dropping it ends it and removes its tree.
pub struct StandIn {
    address: SocketAddr,
    host_key: Fingerprint,
    passwords: HashMap<String, String>,
    tree: TempDir,
    listener: JoinHandle<()>,
}

impl StandIn {
    /// Starts the harbour office's server of the demo on a free port of loopback.
    ///
    /// # Errors
    /// [`StandInFault`].
    pub async fn harbour_office() -> Result<Self, StandInFault> {
        let tree = tempfile::Builder::new().prefix("lavrin-demo-").tempdir()?;
        tree::lay_out(tree.path())?;
        let key = generate(Recipe::Ed25519, &SystemSource).map_err(|_| StandInFault::HostKey)?;
        let text = openssh::write(&key, "harbour-office", None, &SystemSource).map_err(|_| StandInFault::HostKey)?;
        let transport_key =
            russh::keys::PrivateKey::from_openssh(text.as_bytes()).map_err(|_| StandInFault::HostKey)?;
        // Fresh passwords for each run: whoever can reach loopback must not get in with a known one.
        let passwords: HashMap<String, String> =
            [("edda".to_owned(), passphrase::made(&SystemSource).to_string())].into();
        let socket = TcpListener::bind("127.0.0.1:0").await?;
        let address = socket.local_addr()?;
        let world = Arc::new(server::World { root: tree.path().canonicalize()?, passwords: passwords.clone() });
        let listener = tokio::spawn(server::serve(socket, transport_key, world));
        Ok(Self { address, host_key: key.public().fingerprint(), passwords, tree, listener })
    }

    /// Where it listens.
    #[must_use]
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// The fingerprint of its host key.
    #[must_use]
    pub fn host_key(&self) -> Fingerprint {
        self.host_key
    }

    /// The password of an account, where it has one.
    #[must_use]
    pub fn password(&self, account: &str) -> Option<&str> {
        self.passwords.get(account).map(String::as_str)
    }

    /// Its file tree.
    #[must_use]
    pub fn tree(&self) -> &Path {
        self.tree.path()
    }

    /// A file in its tree.
    #[must_use]
    pub fn file(&self, path: &str) -> PathBuf {
        self.tree.path().join(path.trim_start_matches('/'))
    }
}

impl Drop for StandIn {
    fn drop(&mut self) {
        self.listener.abort();
    }
}
