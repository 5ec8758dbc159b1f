//! A walk over what is remembered of hosts: some at once, judged on all cores, so that memory stays small however many there are.

use crate::memory::{FleetFault, LastRead, Memory};
use crate::survey::unread;
use lavrin_fleet::fleet::matrix::{Matrix, WayIn, WaysIn};
use lavrin_fleet::fleet::{Access, Moment, who};
use lavrin_fleet::register::{Host, Register};
use lavrin_keys::key::container::line::KnownKeys;
use lavrin_keys::text::printable;
use lavrin_server::survey::Observation;
use lavrin_server::system::System;
use lavrin_store::database::Database;
use rayon::prelude::*;

/// Hosts that are held in memory at once.
const HOSTS_AT_ONCE: usize = 128;

/// Missing ways in that are listed one by one, on all hosts together; the rest is counted.
const MISSING_MAX: usize = 50_000;

/// What is remembered of a host.
#[derive(Debug)]
pub struct RememberedHost {
    /// What was seen of it.
    pub seen: Observation,
    /// When it was last seen so, in seconds since 1970.
    pub time: i64,
    /// Accounts that were not read then, by the names under which they are shown.
    pub unread: Vec<String>,
    /// What earlier looks read of those.
    pub earlier: Vec<LastRead>,
}

/// Goes over these hosts as they were known at a time. `judge` is asked for each, on any core; `take` is handed the answers in the
/// order of the hosts.
///
/// # Errors
/// [`FleetFault`].
pub fn walk<T: Send>(
    store: Option<&Database>,
    hosts: &[&Host],
    time: i64,
    judge: impl Fn(&Host, Option<&RememberedHost>) -> T + Sync,
    mut take: impl FnMut(&Host, T),
) -> Result<(), FleetFault> {
    let mut memory = store.map(Memory::of);
    for some in hosts.chunks(HOSTS_AT_ONCE) {
        let names: Vec<&str> = some.iter().map(|host| host.id.as_str()).collect();
        let remembered = match &mut memory {
            Some(memory) => remember(memory, &names, time)?,
            None => some.iter().map(|_| None).collect(),
        };
        let judged: Vec<T> =
            some.par_iter().zip(remembered).map(|(host, remembered)| judge(host, remembered.as_ref())).collect();
        for (host, judged) in some.iter().zip(judged) {
            take(host, judged);
        }
    }
    Ok(())
}

fn remember(memory: &mut Memory<'_>, hosts: &[&str], time: i64) -> Result<Vec<Option<RememberedHost>>, FleetFault> {
    let seen = memory.with_times(hosts, time)?;
    let mut remembered: Vec<Option<RememberedHost>> = seen
        .into_par_iter()
        .map(|seen| {
            let (seen, last) = seen?;
            let unread = unread(&System::of(&seen));
            Some(RememberedHost { seen, time: last.min(time), unread, earlier: Vec::new() })
        })
        .collect();
    for (host, one) in hosts.iter().zip(&mut remembered) {
        if let Some(one) = one.as_mut().filter(|one| !one.unread.is_empty()) {
            one.earlier = memory.last_read(host, one.unread.clone(), one.time)?;
        }
    }
    Ok(remembered)
}

/// Who gets into a host.
#[derive(Debug)]
pub struct HostAccess {
    /// The host.
    pub host: String,
    /// When it was last seen, in seconds since 1970; `None`: never.
    pub seen: Option<i64>,
    /// The ways in.
    pub ways: Vec<WayIn>,
    /// How many more the register asks for.
    pub more_missing: usize,
    /// Accounts that were not read.
    pub unread: Vec<String>,
}

impl HostAccess {
    /// Keeps those missing ways for which there is room among `told` ones, and counts the rest.
    pub fn limit_missing(&mut self, told: &mut usize) {
        let before = self.ways.len();
        self.ways.retain(|way| {
            *told += usize::from(!way.is_open());
            way.is_open() || *told <= MISSING_MAX
        });
        self.more_missing += before - self.ways.len();
    }

    /// By what is remembered, and who gets in by that.
    #[must_use]
    pub fn of(
        matrix: &Matrix<'_>,
        host: &Host,
        remembered: Option<&RememberedHost>,
        open: Option<Vec<Access>>,
        now: Moment,
    ) -> Self {
        let unread = remembered.map(|one| one.unread.clone()).unwrap_or_default();
        let earlier = remembered.iter().flat_map(|one| &one.earlier).flat_map(|earlier| {
            let of_these = |access: &Access| earlier.accounts.contains(&printable(access.account.as_bytes()));
            who(&System::of(&earlier.seen), now.time).into_iter().filter(of_these)
        });
        let WaysIn { ways, more_missing } = matrix.host(host, open, earlier.collect(), &unread);
        Self { host: host.id.clone(), seen: remembered.map(|one| one.time), ways, more_missing, unread }
    }
}

/// Who got into these hosts at a moment, in their order.
///
/// # Errors
/// [`FleetFault`].
pub fn access(
    register: &Register,
    hosts: &[&Host],
    store: Option<&Database>,
    now: Moment,
) -> Result<Vec<HostAccess>, FleetFault> {
    let matrix = Matrix::new(register, now);
    let mut found = Vec::with_capacity(hosts.len());
    let known = KnownKeys::default();
    let judge = |host: &Host, remembered: Option<&RememberedHost>| {
        let open = remembered.map(|one| who(&System::of(&one.seen).knowing(&known), now.time));
        HostAccess::of(&matrix, host, remembered, open, now)
    };
    let mut missing = 0;
    walk(store, hosts, now.time, judge, |_, mut one| {
        one.limit_missing(&mut missing);
        found.push(one);
    })?;
    Ok(found)
}
