//! Kept keys over time: what the journal remembers of them.

use lavrin_fleet::register::KeptAccount;
use lavrin_store::{Event, Keeper, StoreFault};
use std::collections::HashMap;

/// The newest version of each kept key that anything was done with from here, and when that was first (RFC 3339, in UTC).
#[derive(Debug, Clone, Default)]
pub struct RememberedVersions(HashMap<(String, String), (u32, String)>);

impl RememberedVersions {
    /// By the journal.
    ///
    /// # Errors
    /// [`StoreFault`] where it cannot be read.
    pub fn read(keeper: &dyn Keeper) -> Result<Self, StoreFault> {
        let mut found: HashMap<(String, String), (u32, String)> = HashMap::new();
        for line in keeper.lines()? {
            let Event::Kept { account, host, version, .. } = line.event else { continue };
            let newest = found.entry((account, host)).or_default();
            if version > newest.0 {
                *newest = (version, line.time);
            }
        }
        Ok(Self(found))
    }

    /// The newest version of this account.
    #[must_use]
    pub fn newest(&self, account: &str, host: &str) -> Option<u32> {
        self.0.get(&(account.to_owned(), host.to_owned())).map(|(version, _)| *version)
    }

    /// A version that is newer than all that the register knows, and when it came: the register was set back.
    #[must_use]
    pub fn newer_than(&self, kept: &KeptAccount) -> Option<(u32, &str)> {
        let (version, time) = self.0.get(&(kept.account.clone(), kept.host.clone()))?;
        (*version > kept.newest()).then_some((*version, time.as_str()))
    }
}

/// The version of the kept key of an account that the comment of an entry claims, as Lavrin writes it. Whoever may write the entry
/// may write its comment: this is a hint for a person, and decides nothing.
#[must_use]
pub fn claimed_version(kept: &KeptAccount, comment: &str) -> Option<u32> {
    comment.strip_prefix(&comment_of(&kept.account, &kept.host, ""))?.parse().ok()
}

/// The comment of a version.
#[must_use]
pub fn comment_of(account: &str, host: &str, version: &str) -> String {
    format!("{account}@{host} version {version}")
}
