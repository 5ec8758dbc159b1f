//! Where a command works: a local tree or a host, and what was seen there.

use super::register::OpenedRegister;
use crate::account_target::AccountTarget;
use crate::error::{CommandError, host_fault};
use crate::host::HostArgs;
use crate::ui::Ui;
use lavrin_fleet::fleet::compare::Comparer;
use lavrin_server::fs::BytePath;
use lavrin_server::server::Known;
use lavrin_server::steps::{Around, Login, Steps};
use lavrin_server::survey::Observation;
use lavrin_work::Scope;
use lavrin_work::look::Wants;
use lavrin_work::site::Site;
use lavrin_work::ways::Rights;
use std::path::Path;
use std::sync::Arc;

/// A place that is open, and what was seen of it.
pub struct Work {
    /// The place.
    pub site: Site,
    /// What was seen.
    pub seen: Observation,
    /// How it is named in messages.
    pub name: String,
}

impl Work {
    /// Opens the tree that `--tree` names, or signs in to the host.
    pub async fn open(
        ui: &Ui,
        register: Option<&OpenedRegister>,
        target: &AccountTarget,
        tree: Option<&Path>,
        args: &HostArgs,
        rights: Rights,
    ) -> Result<Self, CommandError> {
        match (&target.host, tree) {
            (Some(_), Some(_)) => Err(CommandError::usage("a host and --tree were given; only one place can be meant")),
            (None, None) => Err(CommandError::usage(format!("on which host is the account {}?", target.account)).hint(
                format!("{0}@HOST; or in a local tree: {0} --tree DIR (--tree / for this machine)", target.account),
            )),
            (None, Some(tree)) => Self::open_tree(tree),
            (Some(host), None) => Self::open_host(ui, register, host, &target.account, args, rights).await,
        }
    }

    /// Opens a local tree.
    pub fn open_tree(root: &Path) -> Result<Self, CommandError> {
        let name = crate::paths::shown(root);
        let open = || Site::tree(root, name, crate::paths::shown(&std::path::absolute(root)?));
        let site = open().map_err(|error| CommandError::file(root, "open the tree", &error))?;
        Ok(Self::at(site))
    }

    /// Signs in to a host.
    pub async fn open_host(
        ui: &Ui,
        register: Option<&OpenedRegister>,
        host: &str,
        account: &str,
        args: &HostArgs,
        rights: Rights,
    ) -> Result<Self, CommandError> {
        let mut site = args.site(ui, register, host, account, rights)?;
        args.open(ui, &mut site).await?;
        Ok(Self::at(site))
    }

    fn at(site: Site) -> Self {
        Self { name: site.name().to_owned(), site, seen: Observation::default() }
    }

    /// Looks until nothing is asked any more.
    pub async fn look(&mut self, wants: &Wants<'_>) -> Result<(), CommandError> {
        let looked = self.site.look(&mut self.seen, wants).await;
        looked.map_err(|fault| host_fault(&self.name, &fault))
    }

    /// Forgets what was seen and looks again.
    pub async fn look_again(&mut self, wants: &Wants<'_>) -> Result<(), CommandError> {
        let (server, known) = (self.seen.server, self.seen.server_known.clone());
        self.seen = Observation { connection: self.seen.connection.clone(), ..Observation::default() };
        if matches!(known, Known::Given(_)) {
            self.seen.found_server(server, known);
        }
        self.look(wants).await
    }

    /// What lies around accounts that are worked on: every account of the place may read the same files, and the login and the
    /// register's grants may depend on them.
    pub async fn around(
        &mut self,
        all: &[Steps],
        seen: &Arc<Observation>,
        register: Option<&OpenedRegister>,
    ) -> Result<Around, CommandError> {
        let known = register.and_then(|opened| Some((opened, opened.register().hosts.get(&self.name)?)));
        let granted = known
            .map(|(opened, host)| Comparer::new(opened.register(), crate::command::compare::moment()).granted(host))
            .unwrap_or_default();
        let is_own = |login: &Login| all.iter().all(|steps| steps.account.name == login.account);
        let is_enough = self.site.login().is_none_or(|login| is_own(&login)) && granted.is_empty();
        if is_enough || all.is_empty() {
            return Ok(Around { seen: seen.clone(), granted });
        }
        let mut wide = Observation::default();
        let looked = self.site.look(&mut wide, &|seen| Scope::Accounts.wants(seen)).await;
        looked.map_err(|fault| host_fault(&self.name, &fault))?;
        Ok(Around { seen: Arc::new(wide), granted })
    }

    /// How the login was opened, in words; none for a tree.
    pub fn login_words(&self) -> Option<String> {
        self.site.signed().map(|signed| crate::wording::signed_in(signed, &self.name))
    }

    /// A path of the place as the one who types a remedy sees it.
    pub fn typed_path(&self, path: &BytePath) -> String {
        self.site.outside(path).map_or_else(|| path.to_string(), |path| crate::paths::shown(&path))
    }
}
