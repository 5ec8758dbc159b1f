//! The access matrix: who gets into which account of which host, by what was seen and by what the register says.

use super::Moment;
use super::access::{Access, Certainty};
use super::compare::Comparer;
use super::index::{Index, Owner, Standing};
use crate::register::{Date, Host, Register};
use lavrin_keys::key::Fingerprint;
use lavrin_server::login::{Limits, Place};
use std::collections::{HashMap, HashSet};

/// What a host shows of a key in an account.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum There {
    /// The key opens the account.
    Opens,
    /// It may; something that decides was not seen.
    Perhaps,
    /// Whoever looked saw that it does not.
    Missing,
    /// The account was not read.
    NotRead,
    /// The host was never seen.
    NotSeen,
}

/// Missing ways into one host that are listed one by one; a grant for a large team on all hosts may ask for very many.
pub const MISSING_MAX: usize = 500;

/// A way into an account: a key that opens it, or that the register says should.
#[derive(Debug, Clone)]
pub struct WayIn {
    /// The account.
    pub account: String,
    /// Whose key it is, where the register knows.
    pub owner: Option<Owner>,
    /// The key.
    pub key: Fingerprint,
    /// The comment behind its entry, safe to show.
    pub comment: String,
    /// The entry.
    pub place: Option<Place>,
    /// What the host shows.
    pub there: There,
    /// How certain it is that it opens the account; none where it does not.
    pub certainty: Option<Certainty>,
    /// What the register says.
    pub standing: Standing,
    /// The last day, where the register says one.
    pub until: Option<Date>,
    /// What limits it: by its entry, else by its grant.
    pub limits: Limits,
}

impl WayIn {
    /// Whether host and register say the same.
    #[must_use]
    pub fn is_as_registered(&self) -> bool {
        match self.there {
            There::Opens | There::Perhaps => self.standing == Standing::Granted,
            There::Missing => false,
            There::NotRead | There::NotSeen => true,
        }
    }

    /// Whether the key opens the account, as far as that is known.
    #[must_use]
    pub fn is_open(&self) -> bool {
        matches!(self.there, There::Opens | There::Perhaps)
    }
}

/// The ways into one host.
#[derive(Debug, Clone, Default)]
pub struct WaysIn {
    /// Each.
    pub ways: Vec<WayIn>,
    /// How many more the register asks for that do not open their account, or of which that is not known.
    pub more_missing: usize,
}

/// Tells the ways into hosts, perhaps on several threads.
pub struct Matrix<'a> {
    index: Index<'a>,
    comparer: Comparer<'a>,
    now: Moment,
}

impl<'a> Matrix<'a> {
    /// One for this register at this moment.
    #[must_use]
    pub fn new(register: &'a Register, now: Moment) -> Self {
        Self { index: Index::of(register), comparer: Comparer::new(register, now), now }
    }

    /// Every way into a host, by account; those that the host shows go before those that are missing. `open` is who gets in, where
    /// the host was seen; `earlier` what was read before of accounts that were `unread` now.
    #[must_use]
    pub fn host(&self, host: &Host, open: Option<Vec<Access>>, earlier: Vec<Access>, unread: &[String]) -> WaysIn {
        let is_seen = open.is_some();
        let open = open.unwrap_or_default();
        let granted = self.comparer.granted_ways(host);
        let until: HashMap<(&str, Fingerprint), Option<Date>> =
            granted.iter().map(|way| ((way.account, way.key), way.until)).collect();
        let there: HashSet<(String, Fingerprint)> =
            open.iter().chain(&earlier).map(|access| (access.account.clone(), access.key)).collect();
        let mut ways: Vec<WayIn> = open.into_iter().map(|access| self.open(host, access, &until)).collect();
        ways.extend(
            earlier.into_iter().map(|access| WayIn { there: There::NotRead, ..self.open(host, access, &until) }),
        );
        let (mut told, mut more_missing) = (0, 0);
        for way in granted {
            if way.is_spared || there.contains(&(way.account.to_owned(), way.key)) {
                continue;
            }
            told += 1;
            if told > MISSING_MAX {
                more_missing += 1;
                continue;
            }
            let there = match () {
                () if !is_seen => There::NotSeen,
                () if unread.iter().any(|account| account == way.account) => There::NotRead,
                () => There::Missing,
            };
            ways.push(WayIn {
                account: way.account.to_owned(),
                owner: self.index.owner(way.key).cloned(),
                key: way.key,
                comment: String::new(),
                place: None,
                there,
                certainty: None,
                standing: Standing::Granted,
                until: way.until,
                limits: way.limits,
            });
        }
        ways.sort_by(|one, other| (&one.account, one.there).cmp(&(&other.account, other.there)));
        WaysIn { ways, more_missing }
    }

    fn open(&self, host: &Host, access: Access, until: &HashMap<(&str, Fingerprint), Option<Date>>) -> WayIn {
        let owner = self.index.owner(access.key).cloned();
        let standing = owner.as_ref().map(|owner| self.index.standing(owner, &access.account, host, self.now.today));
        WayIn {
            until: until.get(&(access.account.as_str(), access.key)).copied().flatten(),
            owner,
            key: access.key,
            comment: access.comment,
            place: Some(access.place),
            certainty: Some(access.certainty),
            there: if access.certainty == Certainty::Perhaps { There::Perhaps } else { There::Opens },
            standing: standing.unwrap_or(Standing::None),
            limits: access.limits,
            account: access.account,
        }
    }
}
