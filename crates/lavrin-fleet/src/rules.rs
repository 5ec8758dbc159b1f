//! Every rule that something can be found by: one name each, wherever it appears.

use crate::host_fault::HostFault;
use lavrin_keys::key::strength::Weakness;
use lavrin_keys::severity::Severity;
use lavrin_server::finding::Fault;

/// The name under which tables of other families keep the weaknesses, which have names of their own.
const WEAK_KEY: &str = "weak-key";

/// The rules of findings on hosts and of keys, with how much each usually matters; a rule that may matter more or less stands
/// several times.
pub fn on_hosts() -> impl Iterator<Item = (&'static str, Severity)> {
    let all = Weakness::RULES.iter().chain(Fault::RULES).chain(HostFault::RULES);
    all.copied().filter(|(rule, _)| *rule != WEAK_KEY)
}

/// The same with those of another table, each once where they share a name.
pub fn with(own: &'static [(&'static str, Severity)]) -> impl Iterator<Item = (&'static str, Severity)> {
    on_hosts().chain(own.iter().copied().filter(|(rule, _)| *rule != WEAK_KEY))
}

/// Whether findings on hosts go by this name.
#[must_use]
pub fn is_on_hosts(name: &str) -> bool {
    on_hosts().any(|(rule, _)| rule == name)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::register::RegisterFault;
    use std::collections::BTreeMap;

    #[test]
    fn each_rule_is_one_thing() {
        let tables: [&[(&str, Severity)]; 4] = [Weakness::RULES, Fault::RULES, HostFault::RULES, RegisterFault::RULES];
        let mut table_of: BTreeMap<&str, usize> = BTreeMap::new();
        for (number, table) in tables.into_iter().enumerate() {
            for (rule, _) in table.iter().filter(|(rule, _)| *rule != WEAK_KEY) {
                assert_eq!(*table_of.entry(rule).or_insert(number), number, "{rule} stands in two tables");
                let is_kebab =
                    rule.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'-');
                assert!(is_kebab, "{rule}");
            }
        }
        assert!(is_on_hosts("weak-rsa-short") && is_on_hosts("removal-owed") && !is_on_hosts("grant-twice"));
    }
}
