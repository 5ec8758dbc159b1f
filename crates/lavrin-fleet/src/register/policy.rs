//! What the register asks beyond what every register is asked: the table `policy` of `lavrin.toml`.

use super::fault::FieldKind;
use super::fields::{Faults, Fields};
use super::table::RegisterTable;
use super::{NoWay, RegisterFault, Rules, SourcePart};
use crate::rules;
use lavrin_keys::key::Algorithm;
use lavrin_keys::key::policy::Policy;
use lavrin_server::finding::Severity;
use std::collections::BTreeMap;
use toml::Spanned;

pub(super) fn rules(source: SourcePart, table: Spanned<RegisterTable<'_>>, faults: &mut Faults) -> Rules {
    let usual = Policy::default();
    let mut fields = Fields::new(source, "policy", table, faults);
    let size = |number: i64| usize::try_from(number).unwrap_or_default();
    let mut algorithms = Vec::new();
    for name in fields.texts("algorithms") {
        match Algorithm::from_name(name.value.as_bytes()) {
            Some(algorithm) => algorithms.push(algorithm),
            None => fields.fault(
                RegisterFault::BadValue { name: "algorithms".to_owned(), wanted: FieldKind::Algorithm },
                name.place,
            ),
        }
    }
    let policy = Policy {
        rsa_bits_min: fields.number("rsa_bits_min", 1024..=16384).map_or(usual.rsa_bits_min, size),
        rsa_bits_advised: fields.number("rsa_bits_advised", 1024..=16384).map_or(usual.rsa_bits_advised, size),
        algorithms: if algorithms.is_empty() { usual.algorithms.clone() } else { algorithms },
        ..usual
    };
    let rules = Rules {
        policy,
        key_age_days_max: fields.number("key_age_days_max", 1..=36_500),
        ends_soon_days: fields.number("ends_soon_days", 0..=365).unwrap_or(Rules::default().ends_soon_days),
        break_glass_hosts: fields.texts("break_glass_hosts"),
        keys_only: fields.texts("keys_only"),
        no_ways: no_ways(source, &mut fields),
        groups_forbidden: fields.texts("groups_forbidden").into_iter().map(|group| group.value).collect(),
        way_back_days_max: fields.number("way_back_days_max", 1..=36_500),
        comment: fields.text("comment").map(|pattern| pattern.value),
        automation_options: fields.texts("automation_options").into_iter().map(|option| option.value).collect(),
        severities: fields
            .table("severity")
            .map(|table| severities(source, table, fields.faults()))
            .unwrap_or_default(),
    };
    fields.end();
    rules
}

fn no_ways(source: SourcePart, fields: &mut Fields<'_, '_>) -> Vec<NoWay> {
    let tables = fields.tables("no_way");
    let one = |table| {
        let mut fields = Fields::new(source, "no_way", table, fields.faults());
        let (from, to) = (fields.needed_text("from"), fields.needed_text("to"));
        fields.end();
        Some(NoWay { from: from?, to: to? })
    };
    tables.into_iter().filter_map(one).collect()
}

fn severities(
    source: SourcePart,
    table: Spanned<RegisterTable<'_>>,
    faults: &mut Faults,
) -> BTreeMap<String, Option<Severity>> {
    let mut found = BTreeMap::new();
    for (rule, value) in table.into_inner().into_fields() {
        let (name, span) = (rule.get_ref().to_string(), value.span());
        let place = |span| source.place(span);
        let known = rules::with(RegisterFault::RULES).any(|(rule, _)| rule == name);
        let word = value.get_ref().as_text().unwrap_or_default();
        let severity = Severity::URGENT_FIRST.into_iter().find(|severity| severity.name() == word);
        if !known {
            let fault = RegisterFault::UnknownName { what: "rule", name, near: None };
            faults.push((fault, place(rule.span()), "policy".to_owned()));
        } else if severity.is_none() && word != "off" {
            let wanted = FieldKind::Severity;
            faults.push((RegisterFault::BadValue { name, wanted }, place(span), "policy".to_owned()));
        } else {
            found.insert(name, severity);
        }
    }
    found
}
