//! A small simulated host for the demo and for tests: an SSH server on loopback with a file tree of its own. What it
//! lets in is decided by the core's own verdict on that tree; what is run runs in that tree, with the rights of whoever
//! started it.

mod behaviour;
mod console;
mod cut;
mod file_host;
mod inside;
mod key_device;
mod lost_line;
mod netconf;
mod overlay;
mod postgres;
mod replay;
mod server;
mod settings;
mod tree;
mod world;

pub use behaviour::Behaviour;
pub use console::{CONSOLE_PROFILE, Console, ConsoleKnobs};
pub use file_host::{FileHost, FileHostKnobs, StoredFile};
pub use key_device::{KeyDevice, KeyDeviceKnobs, StoredKey};
pub use netconf::{DeviceKey, DeviceUser, Router, RouterKnobs};
pub use postgres::{DatabaseServer, Stopping};
pub use replay::Replay;
pub use settings::can_be_roots;
pub use tree::{TreeAccount, fresh_line, stray_pair};

use lavrin_keys::key::container::openssh;
use lavrin_keys::key::generate::{Recipe, SystemSource, generate};
use lavrin_keys::key::{Fingerprint, PublicKey, passphrase};
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

/// A stand-in that is being started; boxed, so that its server is built once, here.
pub type Starting<'a> = std::pin::Pin<Box<dyn Future<Output = Result<StandIn, StandInFault>> + Send + 'a>>;

/// A stand-in that is running. Dropping it ends it and removes its tree.
pub struct StandIn {
    address: SocketAddr,
    host_key: PublicKey,
    passwords: HashMap<String, String>,
    tree: TempDir,
    listener: JoinHandle<()>,
}

impl StandIn {
    /// Starts the harbour office's server of the demo on a free port of loopback.
    ///
    /// # Errors
    /// [`StandInFault`].
    #[must_use]
    pub fn harbour_office() -> Starting<'static> {
        Box::pin(async move {
            let tree = tempfile::Builder::new().prefix("lavrin-demo-").tempdir()?;
            tree::lay_out(tree.path())?;
            // Fresh passwords for each run: whoever can reach loopback must not get in with a known one.
            let passwords = [("edda".to_owned(), passphrase::made(&SystemSource).to_string())].into();
            Self::start("harbour-office", tree, passwords, Behaviour::default(), None).await
        })
    }

    /// Starts a host with these accounts and their key files, which behaves as it is told to.
    ///
    /// # Errors
    /// [`StandInFault`].
    #[must_use]
    pub fn with<'a>(name: &'a str, accounts: &'a [TreeAccount<'a>], behaviour: Behaviour) -> Starting<'a> {
        Box::pin(async move {
            let tree = tempfile::Builder::new().prefix("lavrin-host-").tempdir()?;
            tree::lay_out_accounts(tree.path(), accounts, behaviour.is_roots)?;
            if behaviour.forgets {
                overlay::lay_out(tree.path())?;
            }
            Self::start(name, tree, HashMap::new(), behaviour, None).await
        })
    }

    /// Starts a router with these accounts, which speaks NETCONF and behaves as configured.
    ///
    /// # Errors
    /// [`StandInFault`].
    #[must_use]
    pub fn router(name: &str, router: Arc<Router>, behaviour: Behaviour) -> Starting<'_> {
        Box::pin(async move {
            let tree = tempfile::Builder::new().prefix("lavrin-host-").tempdir()?;
            Self::start(name, tree, HashMap::new(), behaviour, Some(world::Device::Router(router))).await
        })
    }

    /// Starts a device with the public key subsystem, which behaves as configured.
    ///
    /// # Errors
    /// [`StandInFault`].
    #[must_use]
    pub fn key_device(name: &str, device: Arc<KeyDevice>, behaviour: Behaviour) -> Starting<'_> {
        Box::pin(async move {
            let tree = tempfile::Builder::new().prefix("lavrin-host-").tempdir()?;
            Self::start(name, tree, HashMap::new(), behaviour, Some(world::Device::Keys(device))).await
        })
    }

    /// Starts a host that gives nothing but files, which behaves as configured.
    ///
    /// # Errors
    /// [`StandInFault`].
    #[must_use]
    pub fn file_host(name: &str, host: Arc<FileHost>, behaviour: Behaviour) -> Starting<'_> {
        Box::pin(async move {
            let tree = tempfile::Builder::new().prefix("lavrin-host-").tempdir()?;
            Self::start(name, tree, HashMap::new(), behaviour, Some(world::Device::Files(host))).await
        })
    }

    /// Starts a device with a console of its own, which behaves as configured.
    ///
    /// # Errors
    /// [`StandInFault`].
    #[must_use]
    pub fn console(name: &str, console: Arc<Console>, behaviour: Behaviour) -> Starting<'_> {
        Box::pin(async move {
            let tree = tempfile::Builder::new().prefix("lavrin-host-").tempdir()?;
            Self::start(name, tree, HashMap::new(), behaviour, Some(world::Device::Console(console))).await
        })
    }

    async fn start(
        name: &str,
        tree: TempDir,
        passwords: HashMap<String, String>,
        behaviour: Behaviour,
        device: Option<world::Device>,
    ) -> Result<Self, StandInFault> {
        let key = generate(Recipe::Ed25519, &SystemSource).map_err(|_| StandInFault::HostKey)?;
        let text = openssh::write(&key, name, None, &SystemSource).map_err(|_| StandInFault::HostKey)?;
        let transport_key =
            russh::keys::PrivateKey::from_openssh(text.as_bytes()).map_err(|_| StandInFault::HostKey)?;
        let other = generate(Recipe::Ed25519, &SystemSource).map_err(|_| StandInFault::HostKey)?;
        let other = openssh::write(&other, name, None, &SystemSource).map_err(|_| StandInFault::HostKey)?;
        let other = russh::keys::PrivateKey::from_openssh(other.as_bytes()).map_err(|_| StandInFault::HostKey)?;
        let socket = TcpListener::bind("127.0.0.1:0").await?;
        let address = socket.local_addr()?;
        let root = tree.path().canonicalize()?;
        let lost_line = lost_line::LostLine::default();
        let world = Arc::new(world::World { root, passwords: passwords.clone(), behaviour, lost_line, device });
        let listener = tokio::spawn(server::serve(socket, [transport_key, other], world));
        Ok(Self { address, host_key: key.public().clone(), passwords, tree, listener })
    }

    /// Where it listens.
    #[must_use]
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// The fingerprint of its host key.
    #[must_use]
    pub fn host_key(&self) -> Fingerprint {
        self.host_key.fingerprint()
    }

    /// Its host key as one line.
    #[must_use]
    pub fn host_key_line(&self) -> String {
        self.host_key.line("")
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

    /// Restarts a host that forgets: what was not saved is gone.
    ///
    /// # Errors
    /// Those of the system.
    pub fn restart(&self) -> std::io::Result<()> {
        overlay::forget(self.tree.path())
    }

    /// A file in its tree.
    #[must_use]
    pub fn file(&self, path: &str) -> PathBuf {
        self.tree.path().join(path.trim_start_matches('/'))
    }

    /// Leaves a private key lying around in its tree, where somebody forgot it.
    ///
    /// # Errors
    /// Those of the system.
    pub fn leave_key(&self, path: &str, private: &str) -> std::io::Result<()> {
        use std::os::unix::fs::PermissionsExt as _;
        let path = self.file(path);
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder)?;
        }
        std::fs::write(&path, private)?;
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o600))
    }
}

impl Drop for StandIn {
    fn drop(&mut self) {
        self.listener.abort();
    }
}
