//! Where work is done: a tree on this machine, or a host behind a login. A host can be opened again when its line was lost.

use crate::heard::{self, Heard, Holder};
use crate::look::{self, Wants};
use crate::ways::{OpenHost, Rights, Stop, WayFault, Ways};
use lavrin_keys::key::PublicKey;
use lavrin_keys::key::generate::SystemSource;
use lavrin_reach::local::LocalTree;
use lavrin_reach::ssh::{Connection, Credential, ExecFault, SignedIn, Target};
use lavrin_reach::{Armed, Boxed, CarryFault, Reached};
use lavrin_server::abilities::Ability;
use lavrin_server::account::Account;
use lavrin_server::device::PasswordsEnd;
use lavrin_server::fs::BytePath;
use lavrin_server::steps::{ChangeSubject, Guarded, Login};
use lavrin_server::survey::Observation;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

/// Where work is done.
pub struct Site {
    name: String,
    on_record: String,
    kind: SiteKind,
}

/// A login over a new connection.
pub(crate) struct FreshLogin {
    /// How it was opened.
    pub(crate) signed: SignedIn,
    /// Why root's rights were not got, where they were not.
    pub(crate) refused: Option<ExecFault>,
}

enum SiteKind {
    Tree(Reached),
    Host(Box<HostSite>),
}

struct HostSite {
    stop: Stop,
    ways: Arc<Ways>,
    rights: Rights,
    /// For each step.
    limit: Duration,
    open: Option<OpenHost>,
}

impl Site {
    /// A tree on this machine, named as the user typed it; on record it goes by a name that means the same wherever a later
    /// command is typed.
    ///
    /// # Errors
    /// Those of the system.
    pub fn tree(path: &Path, name: String, on_record: String) -> Result<Self, std::io::Error> {
        Ok(Self { name, on_record, kind: SiteKind::Tree(Reached::tree(LocalTree::open(path)?)) })
    }

    /// A host; each step there may take so long.
    #[must_use]
    pub fn host(stop: Stop, ways: Arc<Ways>, rights: Rights, limit: Duration) -> Self {
        Self {
            name: stop.host.clone(),
            on_record: stop.host.clone(),
            kind: SiteKind::Host(Box::new(HostSite { stop, ways, rights, limit, open: None })),
        }
    }

    /// How it is named in messages.
    #[must_use]
    pub fn name(&self) -> &str {
        &self.name
    }

    /// How it is named in the journal.
    #[must_use]
    pub fn on_record(&self) -> &str {
        &self.on_record
    }

    /// The tree, where it is one.
    #[must_use]
    pub fn as_tree(&self) -> Option<&LocalTree> {
        match &self.kind {
            SiteKind::Tree(tree) => tree.as_tree(),
            SiteKind::Host(_) => None,
        }
    }

    /// What is open.
    fn reached(&self) -> Option<&Reached> {
        match &self.kind {
            SiteKind::Tree(tree) => Some(tree),
            SiteKind::Host(host) => host.open.as_ref().map(|open| &open.reached),
        }
    }

    /// Whether the server there can be asked from outside.
    fn takes_questions(&self) -> bool {
        self.reached().is_some_and(|reached| reached.reach().abilities().has(Ability::Questions))
    }

    /// Whether the first key of an account ends its logins by password there.
    pub(crate) fn first_key_ends_passwords(&self) -> bool {
        let of_profile = |stop: &Stop| stop.profile.as_ref().is_some_and(|own| own.passwords == PasswordsEnd::FirstKey);
        self.as_host().is_some_and(|host| host.stop.first_key_ends_passwords || of_profile(&host.stop))
    }

    /// With what the command signs in.
    pub(crate) fn credentials(&self) -> &[Credential] {
        self.as_host().map(|host| host.ways.credentials()).unwrap_or_default()
    }

    /// Whether the server is known to count questions against us.
    pub(crate) fn counts_questions(&self) -> bool {
        let asked = self.as_host().zip(self.target());
        asked.is_some_and(|(host, target)| host.ways.terms(&SystemSource, host.limit).penalties.counts(&target.host))
    }

    fn as_host(&self) -> Option<&HostSite> {
        match &self.kind {
            SiteKind::Tree(_) => None,
            SiteKind::Host(host) => Some(host),
        }
    }

    /// Whether it is a host: then there is a server that can be asked.
    #[must_use]
    pub fn is_host(&self) -> bool {
        self.as_host().is_some()
    }

    /// A path there as the one who types a command on this machine sees it.
    #[must_use]
    pub fn outside(&self, path: &BytePath) -> Option<PathBuf> {
        self.as_tree().map(|tree| tree.outside(path))
    }

    /// How one comes there, so that a key on the way can be vouched for.
    pub fn way(&mut self) -> Option<(&mut Stop, &Ways)> {
        match &mut self.kind {
            SiteKind::Tree(_) => None,
            SiteKind::Host(host) => Some((&mut host.stop, &host.ways)),
        }
    }

    /// How the login was opened, where it is open.
    #[must_use]
    pub fn signed(&self) -> Option<&SignedIn> {
        Some(&self.as_host()?.open.as_ref()?.signed)
    }

    /// The login as the guard sees it.
    #[must_use]
    pub fn login(&self) -> Option<Login> {
        self.signed().map(|signed| Login { account: signed.account.clone(), key: signed.key })
    }

    /// Why root's rights were not got although they were wanted.
    #[must_use]
    pub fn refused(&self) -> Option<&ExecFault> {
        self.as_host()?.open.as_ref()?.refused.as_ref()
    }

    /// Signs in, where that has not been done yet.
    ///
    /// # Errors
    /// [`HostFault`].
    pub fn open(&mut self) -> Boxed<'_, Result<(), WayFault>> {
        Box::pin(async move {
            let SiteKind::Host(host) = &mut self.kind else { return Ok(()) };
            if host.open.is_none() {
                let mut open = in_time(host.limit, host.ways.open(&host.stop, host.rights, host.limit)).await?;
                open.reached.reach_mut().share_network_homes(host.ways.network_homes().cloned());
                host.stop.target.expected = open.target.expected;
                host.open = Some(open);
            }
            Ok(())
        })
    }

    /// Signs in over a new connection; the old one is let go.
    pub(crate) async fn reopen(&mut self) -> Result<(), WayFault> {
        if let SiteKind::Host(host) = &mut self.kind {
            host.open = None;
        }
        self.open().await
    }

    /// Homes on a network were shared out among the hosts when they were looked at; what is worked on now was this host's.
    pub(crate) fn own_network_homes(&mut self) {
        if let SiteKind::Host(host) = &mut self.kind {
            let wanted = host.ways.network_homes().is_some();
            if let Some(open) = &mut host.open {
                open.reached.reach_mut().share_network_homes(wanted.then(Arc::default));
            }
        }
    }

    /// Looks until nothing is asked any more.
    ///
    /// # Errors
    /// [`HostFault`] where a host was not reached or gave no whole answer.
    pub fn look<'a>(&'a mut self, seen: &'a mut Observation, wants: &'a Wants<'a>) -> Boxed<'a, Result<(), WayFault>> {
        Box::pin(async move {
            self.open().await?;
            match &mut self.kind {
                SiteKind::Tree(tree) => look::until_known(tree.reach_mut(), seen, wants).await?,
                SiteKind::Host(host) => {
                    let limit = host.limit;
                    let Some(open) = &mut host.open else { return Ok(()) };
                    let look = async { Ok(look::until_known(open.reached.reach_mut(), seen, wants).await?) };
                    in_time(limit, look).await?;
                }
            }
            Ok(())
        })
    }

    /// Makes one change.
    pub(crate) async fn carry(
        &self,
        change: &Guarded,
        account: &Account,
        seen: &Observation,
    ) -> Result<(), CarryFault> {
        match self.reached() {
            Some(reached) => reached.reach().carry(change, account, seen).await,
            None => Err(CarryFault::Unknown { subject: change.change().subject() }),
        }
    }

    /// Whether somebody who comes now still gets in: signs in over a new connection, beside the one that is open.
    pub(crate) async fn fresh_login(&self) -> Result<(), WayFault> {
        let Some(host) = self.as_host().filter(|host| !host.ways.is_simulated(&host.stop.host)) else { return Ok(()) };
        let (connection, ..) = in_time(host.limit, host.ways.sign_in(&host.stop)).await?;
        connection.close().await;
        Ok(())
    }

    /// The same, and root's rights over it. What is shown by it depends on nothing that is open.
    pub(crate) async fn fresh_rights(&self) -> Result<FreshLogin, WayFault> {
        let Some(host) = self.as_host() else {
            return Err(WayFault::NotBegun);
        };
        let open = in_time(host.limit, host.ways.open(&host.stop, Rights::Wanted, host.limit)).await?;
        open.reached.close().await;
        Ok(FreshLogin { signed: open.signed, refused: open.refused })
    }

    /// The methods by which the server would let an account in, over a new connection. For the login's own account that connection
    /// ends with a login, so that a server which counts refusals counts none.
    pub(crate) async fn offered(&self, account: &str) -> Option<Vec<String>> {
        let (host, target) = (self.as_host()?, self.target()?);
        let mut connection = target.connect().await.ok()?;
        let methods = connection.offered(account).await;
        if account == host.stop.login {
            let own: Vec<_> = host.open.iter().filter_map(|open| open.signed.key).collect();
            let _ = connection.sign_in(account, host.ways.credentials(), &own).await;
        }
        connection.close().await;
        methods
    }

    /// Has the host put back what these changes will write, after this time.
    pub(crate) async fn arm(&self, changes: &[Guarded], after: Duration) -> Result<Armed, CarryFault> {
        match self.reached() {
            Some(reached) => reached.reach().arm(changes, after).await,
            None => Err(CarryFault::Unknown { subject: ChangeSubject::Server }),
        }
    }

    /// Tells the host of all changes before the first of them.
    pub(crate) async fn begin(&self, changes: &[Guarded], after: Duration) -> Result<Option<Armed>, CarryFault> {
        match self.reached() {
            Some(reached) => reached.reach().begin(changes, after).await,
            None => Ok(None),
        }
    }

    /// What is there now is there after a restart too.
    pub(crate) async fn keep(&self) -> Result<(), CarryFault> {
        match self.reached() {
            Some(reached) => reached.reach().keep().await,
            None => Ok(()),
        }
    }

    /// The changes are proven: the host keeps them.
    pub(crate) async fn disarm(&self, armed: &Armed) -> Result<(), CarryFault> {
        match self.reached() {
            Some(reached) => reached.reach().disarm(armed).await,
            None => Err(CarryFault::Unknown { subject: ChangeSubject::Server }),
        }
    }

    /// The changes are not proven: the host puts everything back at once.
    pub(crate) async fn put_back(&self, armed: &Armed) -> Result<(), CarryFault> {
        match self.reached() {
            Some(reached) => reached.reach().put_back(armed).await,
            None => Err(CarryFault::Unknown { subject: ChangeSubject::Server }),
        }
    }

    /// Where further connections go; `None`: there is no server to be asked.
    fn target(&self) -> Option<&Target> {
        Some(&self.as_host()?.open.as_ref()?.target)
    }

    /// Asks the server from outside about keys of one account; where a private half is at hand, it signs in with it.
    #[must_use]
    pub fn hear<'a>(
        &'a self,
        account: &'a str,
        keys: &'a [PublicKey],
        holder: Option<&'a Holder>,
    ) -> Boxed<'a, Vec<Heard>> {
        Box::pin(async move {
            let asked = self.as_host().zip(self.target()).filter(|_| self.takes_questions());
            let Some((host, target)) = asked else {
                return vec![Heard::LeftOut; keys.len()];
            };
            let own: Vec<_> = host.open.iter().filter_map(|open| open.signed.key).collect();
            let mut terms = host.ways.terms(&SystemSource, host.limit);
            if host.stop.login == account {
                terms.login = Some((host.ways.credentials(), &own));
            }
            let mut heard = heard::hear(target, account, keys, &terms).await;
            for (key, heard) in keys.iter().zip(&mut heard) {
                if let Some(holder) =
                    holder.filter(|holder| heard.leaves_a_login_to_try() && holder.key.public() == key)
                {
                    *heard = heard::log_in(target, account, holder).await.0;
                }
            }
            heard
        })
    }

    /// A new connection on which this key signed in.
    #[must_use]
    pub fn log_in<'a>(&'a self, account: &'a str, holder: &'a Holder) -> Boxed<'a, Option<Connection>> {
        Box::pin(async move { heard::log_in(self.target()?, account, holder).await.1 })
    }

    /// Writes a line into the host's own log, where it has the means.
    pub(crate) async fn note(&self, text: &str) {
        if let Some(reached) = self.reached() {
            reached.reach().note(text).await;
        }
    }

    /// Ends the connection.
    pub async fn close(self) {
        match self.kind {
            SiteKind::Tree(tree) => tree.close().await,
            SiteKind::Host(host) => {
                if let Some(open) = host.open {
                    open.reached.close().await;
                }
            }
        }
    }
}

async fn in_time<T>(limit: Duration, work: impl Future<Output = Result<T, WayFault>>) -> Result<T, WayFault> {
    tokio::time::timeout(limit, work).await.unwrap_or(Err(WayFault::Timeout { seconds: limit.as_secs() }))
}
