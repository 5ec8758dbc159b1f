//! One piece of work from beginning to end: look, decide, journal the intent, carry out, prove, journal the outcome.

pub mod ask;
mod audit;
mod carry;
pub mod enforce;
pub mod fleet;
mod prove;
pub mod survey;

pub use audit::{Audited, audit_tree};
pub use carry::{Carried, Record, Settled, carry_out, take_back};
pub use prove::{Heard, NoProof, Proof, hear, prove};

use lavrin_core::survey::{Observation, Want};
use lavrin_reach::local::LocalTree;
use lavrin_reach::shell::ShellHost;
use lavrin_reach::ssh::ExecFault;

/// Most rounds of looking: each brings the answers to questions that the last one raised (a link, an Include).
const ROUNDS_MAX: usize = 60;

/// Looks at a host until the core asks nothing any more.
async fn look_shell(
    host: &mut ShellHost,
    seen: &mut Observation,
    wants: impl Fn(&Observation) -> Vec<Want>,
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

/// Where the work is done.
pub enum Place {
    /// A tree on this machine.
    Local(LocalTree),
    /// A host behind a login.
    Shell(Box<ShellHost>),
}

impl Place {
    /// Looks until the core asks nothing any more.
    ///
    /// # Errors
    /// [`ExecFault`] where a host gave no whole answer.
    pub async fn look(
        &mut self,
        seen: &mut Observation,
        wants: impl Fn(&Observation) -> Vec<Want>,
    ) -> Result<(), ExecFault> {
        match self {
            Self::Local(tree) => audit::look_tree(tree, seen, wants),
            Self::Shell(host) => look_shell(host, seen, wants).await?,
        }
        Ok(())
    }
}
