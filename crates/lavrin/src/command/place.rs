//! Where a command works: a local tree or a host, and what was seen there.

use crate::account_target::AccountTarget;
use crate::error::{CommandError, exec_fault};
use crate::host::{HostArgs, NeedsRoot};
use crate::ui::Ui;
use lavrin_core::fs::BytePath;
use lavrin_core::steps::Login;
use lavrin_core::survey::{Known, Observation, Want};
use lavrin_reach::local::LocalTree;
use lavrin_reach::ssh::{SignedIn, Target};
use lavrin_work::Place;
use std::path::Path;

/// A place that is open, and what was seen of it.
pub struct Work {
    /// The place.
    pub place: Place,
    /// What was seen.
    pub seen: Observation,
    /// How it is named in messages.
    pub name: String,
    /// The login, for a host.
    pub remote: Option<Remote>,
}

/// A host's login.
pub struct Remote {
    /// How it was opened.
    pub signed: SignedIn,
    /// For further connections.
    pub target: Target,
    /// As the guard sees it.
    pub login: Login,
}

impl Work {
    /// Opens the tree that `--root` names, or signs in to the host.
    pub async fn open(
        ui: &Ui,
        target: &AccountTarget,
        root: Option<&Path>,
        args: &HostArgs,
        needs_root: NeedsRoot,
    ) -> Result<Self, CommandError> {
        match (&target.host, root) {
            (Some(_), Some(_)) => Err(CommandError::usage("a host and --root were given; only one place can be meant")),
            (None, None) => Err(CommandError::usage(format!("on which host is the account {}?", target.account)).hint(
                format!("{0}@HOST; or in a local tree: {0} --root DIR (--root / for this machine)", target.account),
            )),
            (None, Some(root)) => Self::open_tree(root),
            (Some(host), None) => Self::open_host(ui, host, &target.account, args, needs_root).await,
        }
    }

    /// Opens a local tree.
    pub fn open_tree(root: &Path) -> Result<Self, CommandError> {
        let tree = LocalTree::open(root).map_err(|error| CommandError::file(root, "open the tree", &error))?;
        let name = crate::paths::shown(root);
        Ok(Self { place: Place::Local(tree), seen: Observation::default(), name, remote: None })
    }

    /// Signs in to a host.
    pub async fn open_host(
        ui: &Ui,
        host: &str,
        account: &str,
        args: &HostArgs,
        needs_root: NeedsRoot,
    ) -> Result<Self, CommandError> {
        let open = args.open(ui, host, account, needs_root).await?;
        let remote = Remote { login: open.login(), signed: open.signed, target: open.target };
        Ok(Self {
            place: Place::Shell(open.shell),
            seen: Observation::default(),
            name: host.to_owned(),
            remote: Some(remote),
        })
    }

    /// Looks until nothing is asked any more.
    pub async fn look(&mut self, wants: impl Fn(&Observation) -> Vec<Want>) -> Result<(), CommandError> {
        let looked = self.place.look(&mut self.seen, wants).await;
        looked.map_err(|fault| exec_fault(&self.name, &fault))
    }

    /// Forgets what was seen and looks again.
    pub async fn look_again(&mut self, wants: impl Fn(&Observation) -> Vec<Want>) -> Result<(), CommandError> {
        let (server, known) = (self.seen.server.clone(), self.seen.server_known.clone());
        self.seen = Observation { connection: self.seen.connection.clone(), ..Observation::default() };
        if matches!(known, Known::Given(_)) {
            self.seen.found_server(server, known);
        }
        self.look(wants).await
    }

    /// A path of the place as the one who types a remedy sees it.
    pub fn typed_path(&self, path: &BytePath) -> String {
        match &self.place {
            Place::Local(tree) => crate::paths::shown(&tree.outside(path)),
            Place::Shell(_) => path.to_string(),
        }
    }
}
