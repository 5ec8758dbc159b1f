//! What a store is asked about what was seen.

use super::Database;
use crate::fault::StoreResult;
use crate::store::{DayOfChange, Look, Seen, SeenHosts, SightingsOf, StoreNumbers, Stored};
use lavrin_keys::key::Fingerprint;
use lavrin_server::survey::key_use::KeyUse;
use std::collections::HashMap;

impl Database {
    /// The last look at every host.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn looks(&self) -> StoreResult<Vec<Look>> {
        self.store.looks(None)
    }

    /// The last look at each of these hosts, by name; hosts that were never tried are left out.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn looks_at(&self, hosts: &[&str]) -> StoreResult<Vec<Look>> {
        self.store.looks(Some(hosts))
    }

    /// How many hosts were seen, and when the first and the last of the last looks were, in seconds since 1970.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn seen_hosts(&self) -> StoreResult<SeenHosts> {
        self.store.seen_hosts()
    }

    /// The observation of one host that was in force at this time.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn observation_at(&self, host: &str, time: i64) -> StoreResult<Option<Stored>> {
        Ok(self.observations_at(&[host], time)?.pop().flatten())
    }

    /// Those of several hosts, in their order.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn observations_at(&self, hosts: &[&str], time: i64) -> StoreResult<Vec<Option<Stored>>> {
        let mut found = self.store.observations_at(hosts, time)?;
        if found.iter().flatten().any(|one| one.last < time)
            && let Some(before) = self.store.pruned()?
        {
            self.leave_out_unknown(&mut found, time, before)?;
        }
        Ok(found)
    }

    /// Where observations were taken out, one that ended before says nothing about later: what came behind it may be gone. That does
    /// not hold for the newest of a host.
    fn leave_out_unknown(&self, found: &mut [Option<Stored>], time: i64, before: i64) -> StoreResult<()> {
        let is_doubtful = |one: &Stored| one.last < time && one.last < before;
        let doubtful: Vec<String> =
            found.iter().flatten().filter(|one| is_doubtful(one)).map(|one| one.host.clone()).collect();
        let hosts: Vec<&str> = doubtful.iter().map(String::as_str).collect();
        let newest: HashMap<String, i64> = self
            .store
            .observations_at(&hosts, i64::MAX)?
            .into_iter()
            .flatten()
            .map(|newest| (newest.host, newest.first))
            .collect();
        let stays = |one: &Stored| !is_doubtful(one) || newest.get(&one.host) == Some(&one.first);
        for one in found {
            *one = one.take().filter(stays);
        }
        Ok(())
    }

    /// Observations that ended before this moment were taken out, in seconds since 1970.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn pruned(&self) -> StoreResult<Option<i64>> {
        self.store.pruned()
    }

    /// Every entry that was ever seen, by host, account and time.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn sightings(&self) -> StoreResult<Vec<Seen>> {
        self.store.sightings(SightingsOf::Everything)
    }

    /// Those on one host.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn sightings_on(&self, host: &str) -> StoreResult<Vec<Seen>> {
        self.store.sightings(SightingsOf::Host(host))
    }

    /// Those of one key.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn sightings_of(&self, key: Fingerprint) -> StoreResult<Vec<Seen>> {
        self.store.sightings(SightingsOf::Key(key))
    }

    /// The last use of every key in every account: host, account, key, time and from where.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn key_uses(&self) -> StoreResult<Vec<(String, String, Fingerprint, KeyUse)>> {
        self.store.key_uses()
    }

    /// When each key was first seen anywhere.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn first_seen(&self) -> StoreResult<HashMap<Fingerprint, i64>> {
        self.store.first_seen()
    }

    /// Entries that came and went, day by day, within some time in seconds since 1970.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn changes(&self, after: i64, until: i64) -> StoreResult<Vec<DayOfChange>> {
        self.store.changes(after, until)
    }

    /// What the reports before a moment counted about the same part of the register, the oldest first.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn reports(&self, scope: &str, before: i64) -> StoreResult<Vec<(i64, String)>> {
        self.store.reports(scope, before)
    }

    /// How much is in it.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn numbers(&self) -> StoreResult<StoreNumbers> {
        self.store.numbers()
    }
}
