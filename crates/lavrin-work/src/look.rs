//! Looking: the core says what it wants to see next, until nothing is wanted any more.

use lavrin_reach::local::LocalTree;
use lavrin_reach::shell::ShellHost;
use lavrin_reach::ssh::ExecFault;
use lavrin_server::survey::{Observation, Want};

/// What has to be looked at next, by what was seen so far.
pub type Wants<'a> = dyn Fn(&Observation) -> Vec<Want> + Sync + 'a;

/// Most rounds of looking: each brings the answers to questions that the last one raised (a link, an Include).
const ROUNDS_MAX: usize = 60;

/// Looks at a tree until the core asks nothing any more.
pub(crate) fn look_tree(tree: &LocalTree, seen: &mut Observation, wants: &Wants<'_>) {
    let mut walk = tree.walk();
    for _ in 0..ROUNDS_MAX {
        let mut open = wants(seen);
        open.retain(|want| !seen.answers(want));
        if open.is_empty() {
            return;
        }
        walk.look(&open, seen);
    }
}

/// Looks at a host until the core asks nothing any more.
pub(crate) async fn look_shell(
    host: &mut ShellHost,
    seen: &mut Observation,
    wants: &Wants<'_>,
) -> Result<(), ExecFault> {
    for _ in 0..ROUNDS_MAX {
        let mut open = wants(seen);
        open.retain(|want| !seen.answers(want));
        if open.is_empty() {
            break;
        }
        host.look(&open, seen).await?;
    }
    Ok(())
}
