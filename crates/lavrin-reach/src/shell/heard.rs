//! What root and the accounts said in one round, put together: each is believed about what it was asked, root before accounts.

use super::frames::Frame;
use super::look::take;
use lavrin_server::fs::{BytePath, Fact, Why};
use lavrin_server::survey::{Observation, Want, Wanted};
use std::collections::{BTreeMap, HashMap, HashSet};

/// Whether root itself may answer: nobody's rights are asked for, or it is a file that may lie where root alone decides.
pub(super) fn may_be_roots(want: &Want) -> bool {
    want.account.is_none() || matches!(want.what, Wanted::Bytes(..))
}

pub(super) fn path_of(want: &Want) -> Option<&BytePath> {
    match &want.what {
        Wanted::System(_) | Wanted::Slots(_) | Wanted::Traces(_) => None,
        Wanted::Node(path) | Wanted::Bytes(path, _) | Wanted::Names(path) | Wanted::PrivateKeys(path) => Some(path),
    }
}

fn add<T>(said: BTreeMap<BytePath, Fact<T>>, seen: &mut BTreeMap<BytePath, Fact<T>>) {
    for (path, fact) in said {
        seen.entry(path).or_insert(fact);
    }
}

/// What was said in one round. Where two accounts say different things of one file, neither is believed.
#[derive(Default)]
pub(super) struct HeardRound {
    own: HashMap<Option<String>, Observation>,
}

impl HeardRound {
    pub(super) fn of(&mut self, frame: &Frame<'_>, account: Option<&str>, asked: &dyn Fn(&BytePath) -> bool) {
        take(frame, self.own.entry(account.map(str::to_owned)).or_default(), asked);
    }

    /// Root's word counts before that of accounts.
    pub(super) fn take_into(mut self, seen: &mut Observation) {
        let mut all: Vec<Observation> = self.own.remove(&None).into_iter().collect();
        let mut bytes: BTreeMap<BytePath, Fact<Vec<u8>>> =
            all.first_mut().map(|root| std::mem::take(&mut root.bytes)).unwrap_or_default();
        let roots: HashSet<BytePath> = bytes.keys().cloned().collect();
        for mut one in self.own.into_values() {
            for (path, fact) in std::mem::take(&mut one.bytes) {
                match bytes.get_mut(&path) {
                    None => drop(bytes.insert(path, fact)),
                    Some(other) if *other != fact && !roots.contains(&path) => {
                        *other = Fact::Unseen(Why::Other("the accounts that read it say different things".to_owned()));
                    }
                    Some(_) => {}
                }
            }
            all.push(one);
        }
        add(bytes, &mut seen.bytes);
        for one in all {
            add(one.nodes, &mut seen.nodes);
            add(one.names, &mut seen.names);
            add(one.private_keys, &mut seen.private_keys);
        }
    }
}
