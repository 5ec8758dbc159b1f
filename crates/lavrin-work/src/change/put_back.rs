//! Changes that the host itself puts back unless they are proven in time: armed before the first of them, disarmed by the proof.

use super::running::Running;
use super::state::{TaskState, state_of};
use super::{End, Trouble};
use crate::scope::Scope;
use crate::ways::WayFault;
use lavrin_reach::{Armed, CarryFault};
use lavrin_server::fs::BytePath;
use lavrin_server::steps::Change;
use lavrin_server::survey::Observation;
use std::sync::Arc;
use std::time::Duration;

/// A server that reads its settings again answers a moment later, so it is asked so often.
const TRIES: usize = 6;

/// Time between them.
const PAUSE: Duration = Duration::from_secs(1);

/// What was proven, for the journal.
pub(super) const PROVEN: &str =
    "read back; over new connections a key opened the login and root's rights, and no password was asked for";

/// The methods of a login that a password opens (RFC 4252; RFC 4256).
const BY_PASSWORD: [&str; 2] = ["password", "keyboard-interactive"];

impl Running<'_> {
    /// Has the host count the time, where that is wanted.
    pub(super) async fn arm(&mut self) -> Result<(), CarryFault> {
        let Some(after) = self.proof.put_back else { return Ok(()) };
        let changes: Vec<_> = self.all.iter().flat_map(|begun| begun.changes.clone()).collect();
        self.armed = Some(self.site.arm(&changes, after).await?);
        Ok(())
    }

    /// Whether a key alone still opens the login and root's rights over a new connection, and no password is asked for.
    pub(super) async fn takes_keys_only(&mut self) -> Result<(), Trouble> {
        let mut tried = 1;
        loop {
            match self.ask_for_keys_only().await {
                Err(_) if tried < TRIES => tried += 1,
                told => return told,
            }
            tokio::time::sleep(PAUSE).await;
        }
    }

    async fn ask_for_keys_only(&mut self) -> Result<(), Trouble> {
        let fresh = self.site.fresh_rights().await.map_err(Trouble::NoLogin)?;
        if fresh.signed.key.is_none() {
            return Err(Trouble::NotByKey(fresh.signed.method));
        }
        if let Some(refused) = fresh.refused {
            return Err(Trouble::NoRights(refused.to_string()));
        }
        let login = fresh.signed.account;
        // The login's own account first, which costs nothing; root once that is fine.
        let others = Some("root").filter(|root| login != *root);
        for account in std::iter::once(login.as_str()).chain(others) {
            let Some(methods) = self.site.offered(account).await else { return Err(Trouble::NothingOffered) };
            if methods.iter().any(|method| BY_PASSWORD.contains(&method.as_str())) {
                return Err(Trouble::StillOffered { account: account.to_owned(), methods });
            }
        }
        Ok(())
    }

    /// Has the host put everything back at once.
    pub(super) async fn back_by_host(&mut self, number: usize, armed: &Armed, why: Arc<Trouble>) -> End {
        let left = || {
            let trouble = Trouble::LeftToHost { seconds: armed.after.as_secs(), why: why.clone() };
            End::Unknown(Arc::new(trouble))
        };
        if self.site.put_back(armed).await.is_err() {
            return left();
        }
        self.armed = None;
        match self.look_at_files(number).await {
            Ok(now) if matches!(state_of(&self.all[number].changes(), &now), TaskState::Old) => End::AsBefore(why),
            _ => End::Unknown(why),
        }
    }

    /// A look at what was written, also where the server that read it is gone and nobody can tell where its settings are.
    async fn look_at_files(&mut self, number: usize) -> Result<Observation, WayFault> {
        let files: Vec<BytePath> = self.all[number].changes().into_iter().filter_map(Change::path).cloned().collect();
        let (scope, mut now) = (Scope::With(files.into()), Observation::default());
        self.site.look(&mut now, &|seen| scope.wants(seen)).await?;
        Ok(now)
    }

    /// Proven: the host keeps what was changed. Everything else it puts back.
    pub(super) async fn end_timer(&mut self) {
        let Some(armed) = self.armed.take() else { return };
        for number in 0..self.all.len() {
            self.all[number].end = match &self.all[number].end {
                End::Done => match self.site.disarm(&armed).await {
                    Ok(()) => End::Done,
                    Err(fault @ CarryFault::PutBack) => End::AsBefore(Arc::new(Trouble::Carry(fault))),
                    Err(fault) => {
                        let why = Arc::new(Trouble::Carry(fault));
                        End::Unknown(Arc::new(Trouble::LeftToHost { seconds: armed.after.as_secs(), why }))
                    }
                },
                End::AsBefore(why) => {
                    let why = why.clone();
                    self.back_by_host(number, &armed, why).await
                }
                other => other.clone(),
            };
        }
    }
}
