//! A run over the hosts of a register: carries its jobs out, and remembers what came of it as a survey would.

use crate::change::{Ended, Job, Terms, run_all};
use crate::pool::Pace;
use crate::survey::{Clock, record_of};
use crate::ways::Ways;
use lavrin_reach::Boxed;
use lavrin_server::audit::Auditor;
use lavrin_store::database::{Database, DatabaseFault};
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};
use tokio::sync::mpsc;

/// Results that wait to be written down.
const WAITING: usize = 64;

/// A run over many hosts.
pub struct FleetRun {
    /// The register's store, which keeps backups and journal too.
    pub store: Arc<Mutex<Database>>,
    /// What its changes have in common.
    pub terms: Terms,
    /// How much at once.
    pub pace: Pace,
    /// After so many hosts on which it failed no further one is begun.
    pub stop_after: Option<usize>,
    /// For the moments at which hosts are seen.
    pub clock: Clock,
}

impl FleetRun {
    /// A part of the run that changes accounts which another part changes too.
    #[must_use]
    pub fn part(&self, name: &'static str) -> Self {
        let terms = Terms { part: Some(name), ..self.terms.clone() };
        Self { store: self.store.clone(), terms, pace: self.pace.clone(), ..*self }
    }

    /// Carries the jobs out; what the hosts are like afterwards is remembered as a survey would.
    ///
    /// # Errors
    /// [`DatabaseFault`] where that could not be written down; every host came to its end before.
    pub fn carry<'a>(
        &'a self,
        jobs: Vec<Job>,
        ways: &'a Arc<Ways>,
    ) -> Boxed<'a, Result<BTreeMap<String, Ended>, DatabaseFault>> {
        Box::pin(async move {
            let (done, mut ended) = mpsc::channel(WAITING);
            let work = run_all(jobs, ways.clone(), self.pace.clone(), self.terms.clone(), self.stop_after, done);
            let auditor = Auditor::default();
            let remembering = async {
                let (mut all, mut fault) = (BTreeMap::new(), None);
                let mut waiting = Vec::with_capacity(WAITING);
                while ended.recv_many(&mut waiting, WAITING).await > 0 {
                    fault = fault.or(self.remember(&waiting, &auditor).err());
                    all.extend(waiting.drain(..));
                }
                fault.map_or(Ok(all), Err)
            };
            tokio::join!(work, remembering).1
        })
    }

    fn remember(&self, ended: &[(String, Ended)], auditor: &Auditor) -> Result<(), DatabaseFault> {
        let seen = ended.iter().filter_map(|(host, ended)| Some((host, ended.after.as_ref()?)));
        let records = seen.map(|(host, after)| record_of(auditor, host, (self.clock.now)(), after)).collect();
        let store = self.store.lock().unwrap_or_else(PoisonError::into_inner);
        store.record_all(records).map(drop)
    }
}
