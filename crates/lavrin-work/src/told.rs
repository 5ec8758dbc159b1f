//! Findings that were told before, so that a nightly run speaks only of what is new. They are kept as hashes of what identifies them.

use lavrin_server::survey::snapshot::hash;
use lavrin_store::database::{Database, DatabaseFault};
use std::collections::HashSet;

/// What identifies a finding.
pub struct FindingIdentity<'a> {
    /// The rule.
    pub rule: &'a str,
    /// The host.
    pub host: &'a str,
    /// The account.
    pub account: Option<&'a str>,
    /// The file.
    pub path: Option<&'a str>,
    /// What it says.
    pub message: &'a str,
}

impl FindingIdentity<'_> {
    /// Eight bytes in hexadecimal. Numbers and days do not count: what is one day older is nothing new.
    fn hashed(&self) -> String {
        let is_counted = |word: &&str| {
            let plain = word.trim_matches(|letter: char| !letter.is_alphanumeric());
            !plain.bytes().all(|byte| byte.is_ascii_digit() || b"-:.,TZ".contains(&byte))
        };
        let message: Vec<&str> = self.message.split_whitespace().filter(is_counted).collect();
        let parts =
            [self.rule, self.host, self.account.unwrap_or_default(), self.path.unwrap_or_default(), &message.join(" ")];
        hash(parts.join("\0").as_bytes()).iter().take(8).map(|byte| format!("{byte:02x}")).collect()
    }
}

/// What was told.
pub struct ToldBefore {
    scope: String,
    before: HashSet<String>,
    now: HashSet<String>,
}

impl ToldBefore {
    /// What was told about this part of the register.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn before(store: &Database, part: &str) -> Result<Self, DatabaseFault> {
        let scope = format!("told {part}");
        let text = store.reports(&scope, i64::MAX)?.pop().map(|(_, text)| text).unwrap_or_default();
        Ok(Self { scope, before: text.split(' ').map(str::to_owned).collect(), now: HashSet::new() })
    }

    /// Whether this one is new. It is told from now on.
    pub fn is_new(&mut self, finding: &FindingIdentity<'_>) -> bool {
        let hashed = finding.hashed();
        let is_new = !self.before.contains(&hashed);
        self.now.insert(hashed);
        is_new
    }

    /// Keeps what is told now: what is gone would be new again.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn keep(self, store: &Database, time: i64) -> Result<(), DatabaseFault> {
        let mut all: Vec<String> = self.now.into_iter().collect();
        all.sort_unstable();
        store.note_instead(time, &self.scope, &all.join(" "))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn finding<'a>(account: &'a str, message: &'a str) -> FindingIdentity<'a> {
        FindingIdentity { rule: "entry-ends-soon", host: "lantern", account: Some(account), path: None, message }
    }

    #[test]
    fn what_is_older_by_a_day_is_nothing_new_and_what_comes_back_is() {
        let folder = tempfile::tempdir().unwrap();
        let store = Database::open(folder.path()).unwrap();
        let run = |findings: &[FindingIdentity<'_>]| {
            let mut told = ToldBefore::before(&store, "all").unwrap();
            let new: Vec<bool> = findings.iter().map(|finding| told.is_new(finding)).collect();
            told.keep(&store, 7).unwrap();
            new
        };
        assert_eq!(run(&[finding("edda", "ends in 3 days, on 2026-11-26")]), [true]);
        assert_eq!(run(&[finding("edda", "ends in 2 days, on 2026-11-26"), finding("sten", "ends")]), [false, true]);
        assert_eq!(run(&[finding("sten", "ends")]), [false]);
        assert_eq!(run(&[finding("edda", "ends in 1 days, on 2026-11-26")]), [true]);
        assert_eq!(store.reports("told all", i64::MAX).unwrap().len(), 1);
    }
}
