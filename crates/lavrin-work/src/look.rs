//! Looking: the core says what it wants to see next, until nothing is wanted any more.

use lavrin_reach::Reach;
use lavrin_reach::local::LocalTree;
use lavrin_reach::ssh::ExecFault;
use lavrin_server::survey::{Observation, Want};

/// What has to be looked at next, by what was seen so far.
pub type Wants<'a> = dyn Fn(&Observation) -> Vec<Want> + Sync + 'a;

/// Most rounds of looking: each brings the answers to questions that the last one raised (a link, an Include).
const ROUNDS_MAX: usize = 60;

/// What is asked and not answered yet; nothing: the look is complete.
fn open(seen: &Observation, wants: &Wants<'_>) -> Option<Vec<Want>> {
    let mut open = wants(seen);
    open.retain(|want| !seen.answers(want));
    (!open.is_empty()).then_some(open)
}

/// Looks at a tree until the core asks nothing any more; folders on the way stay open meanwhile.
pub(crate) fn look_tree(tree: &LocalTree, seen: &mut Observation, wants: &Wants<'_>) {
    let mut walk = tree.walk();
    for _ in 0..ROUNDS_MAX {
        let Some(open) = open(seen, wants) else { return };
        walk.look(&open, seen);
    }
}

/// Looks until the core asks nothing any more.
pub(crate) async fn until_known(
    reach: &mut dyn Reach,
    seen: &mut Observation,
    wants: &Wants<'_>,
) -> Result<(), ExecFault> {
    seen.abilities = reach.abilities();
    for _ in 0..ROUNDS_MAX {
        let Some(open) = open(seen, wants) else { break };
        reach.look(&open, seen).await?;
    }
    Ok(())
}
