//! Work that several collectors share.

use super::{Database, DatabaseFault, who};
use crate::fault::StoreResult;
use crate::store::{DueHost, HostToCollect, Office};
use std::time::Duration;

impl Database {
    fn office(&self) -> StoreResult<&dyn Office> {
        self.store.office().ok_or_else(|| DatabaseFault::OneMachine { place: self.place() })
    }

    /// The name of this collector: who it is, where, and which of several.
    #[must_use]
    pub fn collector(&self) -> String {
        format!("{} {}", who::own_name(), std::process::id())
    }

    /// Puts the register's hosts to the collectors: new ones are due at once, those that are gone are taken out.
    ///
    /// # Errors
    /// [`DatabaseFault`], also where the store is for one machine.
    pub fn put_work(&self, hosts: &[HostToCollect<'_>], now: i64) -> StoreResult<()> {
        let office = self.office()?;
        self.together(|_| office.put_work(hosts, now))
    }

    /// Takes hosts that are due and that nobody has, asked ones first, for so many seconds; without sites those of every site.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn take_work(
        &self,
        collector: &str,
        sites: &[String],
        most: usize,
        now: i64,
        lease: i64,
    ) -> StoreResult<Vec<DueHost>> {
        let most = i64::try_from(most).unwrap_or(i64::MAX);
        let office = self.office()?;
        self.together(|_| office.take_work(collector, sites, most, now, lease))
    }

    /// Gives back hosts that were looked at since `began`; they are due again then.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn end_work(&self, collector: &str, hosts: &[&str], due: i64, began: i64) -> StoreResult<()> {
        let office = self.office()?;
        self.together(|_| office.end_work(collector, hosts, due, began))
    }

    /// Asks the collectors for a look at hosts, and wakes them.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn ask_for_look(&self, hosts: &[&str], now: i64) -> StoreResult<()> {
        let office = self.office()?;
        self.together(|_| office.ask(hosts, now))
    }

    /// When the next host is due for these sites, in seconds since 1970; none where there is none.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn next_due(&self, sites: &[String]) -> StoreResult<Option<i64>> {
        self.office()?.next_due(sites)
    }

    /// Waits until somebody asks for a look, or that long.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn wait_for_questions(&self, time: Duration) -> StoreResult<()> {
        self.office()?.wait(time)
    }
}
