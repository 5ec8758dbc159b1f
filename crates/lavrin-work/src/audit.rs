//! The audit of a local tree, account by account on all cores, so that memory stays small however large the tree is.

use crate::look::look_tree;
use lavrin_reach::local::LocalTree;
use lavrin_server::account::Account;
use lavrin_server::audit::{self, AuditEntry, Auditor, Report};
use lavrin_server::server_config::{self, Config};
use lavrin_server::survey::{Observation, Want, Wanted, Who};
use lavrin_server::system::System;
use rayon::prelude::*;
use std::sync::{Arc, mpsc};

/// Accounts that are audited before what was found is handed on.
const ACCOUNTS_AT_ONCE: usize = 256;

/// Parts that wait to be handed on; memory stays small.
const CHUNKS_WAITING: usize = 2;

/// What an audit of a tree gives.
pub struct Audited {
    /// Everything but the entries.
    pub report: Report,
    /// How many entries there are.
    pub entries: usize,
    /// What was seen of the system as a whole.
    pub seen: Observation,
}

/// Audits every account of a tree. Each account's entries go through `render` on whichever core audited it, and what
/// came out goes to `take` in the order of the accounts; the report holds all the rest and no entries.
pub fn audit_tree<T: Send>(
    tree: &LocalTree,
    mut base: Observation,
    auditor: &Auditor,
    render: impl Fn(&[AuditEntry]) -> T + Sync,
    mut take: impl FnMut(T),
) -> Audited {
    look_tree(tree, &mut base, &|seen: &Observation| {
        if seen.looked { common_wants(seen) } else { vec![Want { what: Wanted::System(Who::All), account: None }] }
    });
    let config = Arc::new(Config::of(&base));
    let (mut report, mut entries) = (Report::default(), 0);
    let (done, finished) = mpsc::sync_channel(CHUNKS_WAITING);
    std::thread::scope(|scope| {
        let (base, config, render) = (&base, &config, &render);
        // While one part is handed on, the next is audited.
        scope.spawn(move || {
            for accounts in base.accounts.chunks(ACCOUNTS_AT_ONCE) {
                let parts: Vec<(Report, usize, T)> =
                    accounts.par_iter().map(|account| one(tree, auditor, account, base, config, render)).collect();
                if done.send(parts).is_err() {
                    return;
                }
            }
        });
        for (part, count, rendered) in finished.into_iter().flatten() {
            report.absorb(part);
            entries += count;
            take(rendered);
        }
    });
    report.add_server(&System::sharing(&base, config));
    report.sort();
    Audited { report, entries, seen: base }
}

fn one<T>(
    tree: &LocalTree,
    auditor: &Auditor,
    account: &Account,
    base: &Observation,
    config: &Arc<Config>,
    render: &impl Fn(&[AuditEntry]) -> T,
) -> (Report, usize, T) {
    let mut seen = base.clone();
    look_tree(tree, &mut seen, &|seen: &Observation| audit::wants_of(account, &System::sharing(seen, config.clone())));
    let mut report = auditor.account(account, &System::sharing(&seen, config.clone()));
    let entries = std::mem::take(&mut report.entries);
    (report, entries.len(), render(&entries))
}

/// The configuration, and the folders that the homes lie in.
fn common_wants(seen: &Observation) -> Vec<Want> {
    let mut wants = server_config::wants(seen);
    let parents: std::collections::BTreeSet<_> = seen
        .accounts
        .iter()
        .filter_map(|account| account.home.parent())
        .filter(|path| !path.name().is_empty())
        .collect();
    wants.extend(parents.into_iter().map(|path| Want { what: Wanted::Node(path), account: None }));
    wants
}
