//! The one type behind which the reaches are that exist. Nothing above asks which of them it has.

use crate::dialogue::DialogueDevice;
use crate::key_subsystem::KeySubsystem;
use crate::local::LocalTree;
use crate::netconf::NetconfDevice;
use crate::reach::Reach;
use crate::sftp::SftpHost;
use crate::shell::{Claims, ShellHost};
use crate::ssh::{Connection, ExecFault, RootBy};
use crate::{Armed, Boxed, CarryFault};
use lavrin_keys::key::generate::Randomness;
use lavrin_server::account::Account;
use lavrin_server::steps::Guarded;
use lavrin_server::survey::{Observation, Want};
use std::sync::Arc;
use std::time::Duration;

/// A reach that is open.
pub struct Reached(ReachedKind);

enum ReachedKind {
    Tree(Box<LocalTree>),
    Shell(Box<ShellHost>),
    Netconf(Box<NetconfDevice>),
    Keys(Box<KeySubsystem>),
    Sftp(Box<SftpHost>),
    Dialogue(Box<DialogueDevice>),
    Simulated(Box<dyn Reach>),
}

impl Reached {
    /// A tree on this machine.
    #[must_use]
    pub fn tree(tree: LocalTree) -> Self {
        Self(ReachedKind::Tree(Box::new(tree)))
    }

    /// A host with a POSIX shell behind this connection, on which somebody has signed in.
    #[must_use]
    pub fn shell(
        connection: Connection,
        randomness: Box<dyn Randomness + Send + Sync>,
        after_change: Vec<String>,
    ) -> Self {
        let mut host = ShellHost::new(connection, RootBy::Nobody, randomness);
        host.after_change = after_change;
        Self(ReachedKind::Shell(Box::new(host)))
    }

    /// A device with a data store behind NETCONF.
    #[must_use]
    pub fn netconf(device: NetconfDevice) -> Self {
        Self(ReachedKind::Netconf(Box::new(device)))
    }

    /// A device with the public key subsystem.
    #[must_use]
    pub fn key_subsystem(device: KeySubsystem) -> Self {
        Self(ReachedKind::Keys(Box::new(device)))
    }

    /// A host that gives nothing but files.
    #[must_use]
    pub fn sftp(host: SftpHost) -> Self {
        Self(ReachedKind::Sftp(Box::new(host)))
    }

    /// A device with a command line of its own.
    #[must_use]
    pub fn dialogue(device: DialogueDevice) -> Self {
        Self(ReachedKind::Dialogue(Box::new(device)))
    }

    /// Something that only behaves like a host.
    #[must_use]
    pub fn simulated(host: Box<dyn Reach>) -> Self {
        Self(ReachedKind::Simulated(host))
    }

    /// The tree, where it is one.
    #[must_use]
    pub fn as_tree(&self) -> Option<&LocalTree> {
        match &self.0 {
            ReachedKind::Tree(tree) => Some(tree),
            _ => None,
        }
    }

    /// What it can do.
    #[must_use]
    pub fn reach(&self) -> &dyn Reach {
        match &self.0 {
            ReachedKind::Tree(tree) => tree.as_ref(),
            ReachedKind::Shell(shell) => shell.as_ref(),
            ReachedKind::Netconf(device) => device.as_ref(),
            ReachedKind::Keys(device) => device.as_ref(),
            ReachedKind::Sftp(host) => host.as_ref(),
            ReachedKind::Dialogue(device) => device.as_ref(),
            ReachedKind::Simulated(host) => host.as_ref(),
        }
    }

    /// The same, to look and to get rights.
    pub fn reach_mut(&mut self) -> &mut dyn Reach {
        match &mut self.0 {
            ReachedKind::Tree(tree) => tree.as_mut(),
            ReachedKind::Shell(shell) => shell.as_mut(),
            ReachedKind::Netconf(device) => device.as_mut(),
            ReachedKind::Keys(device) => device.as_mut(),
            ReachedKind::Sftp(host) => host.as_mut(),
            ReachedKind::Dialogue(device) => device.as_mut(),
            ReachedKind::Simulated(host) => host.as_mut(),
        }
    }

    /// Ends the connection.
    #[must_use]
    pub fn close(self) -> Boxed<'static, ()> {
        match self.0 {
            ReachedKind::Tree(tree) => tree.close(),
            ReachedKind::Shell(shell) => shell.close(),
            ReachedKind::Netconf(device) => device.close(),
            ReachedKind::Keys(device) => device.close(),
            ReachedKind::Sftp(host) => host.close(),
            ReachedKind::Dialogue(device) => device.close(),
            ReachedKind::Simulated(host) => host.close(),
        }
    }
}

impl Reach for LocalTree {
    fn look<'a>(&'a mut self, wants: &'a [Want], seen: &'a mut Observation) -> Boxed<'a, Result<(), ExecFault>> {
        Box::pin(async move {
            self.walk().look(wants, seen);
            Ok(())
        })
    }

    fn carry<'a>(
        &'a self,
        change: &'a Guarded,
        _: &'a Account,
        _: &'a Observation,
    ) -> Boxed<'a, Result<(), CarryFault>> {
        Box::pin(async move { LocalTree::carry(self, change) })
    }
}

impl Reach for ShellHost {
    fn get_root<'a>(&'a mut self, ways: &'a [RootBy]) -> Boxed<'a, Result<Option<ExecFault>, ExecFault>> {
        ShellHost::get_root(self, ways)
    }

    fn share_network_homes(&mut self, claims: Option<Arc<Claims>>) {
        self.network_homes = claims;
    }

    fn look<'a>(&'a mut self, wants: &'a [Want], seen: &'a mut Observation) -> Boxed<'a, Result<(), ExecFault>> {
        ShellHost::look(self, wants, seen)
    }

    fn carry<'a>(
        &'a self,
        change: &'a Guarded,
        account: &'a Account,
        seen: &'a Observation,
    ) -> Boxed<'a, Result<(), CarryFault>> {
        ShellHost::carry(self, change, account, seen)
    }

    fn arm<'a>(&'a self, changes: &'a [Guarded], after: Duration) -> Boxed<'a, Result<Armed, CarryFault>> {
        ShellHost::arm(self, changes, after)
    }

    fn disarm<'a>(&'a self, armed: &'a Armed) -> Boxed<'a, Result<(), CarryFault>> {
        ShellHost::disarm(self, armed)
    }

    fn put_back<'a>(&'a self, armed: &'a Armed) -> Boxed<'a, Result<(), CarryFault>> {
        ShellHost::put_back(self, armed)
    }

    fn keep(&self) -> Boxed<'_, Result<(), CarryFault>> {
        ShellHost::keep(self)
    }

    fn note<'a>(&'a self, text: &'a str) -> Boxed<'a, ()> {
        self.log(text)
    }

    fn close(self: Box<Self>) -> Boxed<'static, ()> {
        self.connection.close()
    }
}
