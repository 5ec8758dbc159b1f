use super::*;
use crate::account::read_passwd;
use crate::fs::{Node, NodeKind};
use crate::login::{Outcome, Question, judge};
use crate::steps::{Guarded, OwnerIds, Steps, guard, restore};
use crate::system::System;
use lavrin_keys::key::{PrivateKey, PublicKey};

const CONFIG: &str = "/etc/ssh/sshd_config";
const FILE: &str = "/srv/keys";

fn key() -> PublicKey {
    PrivateKey::ed25519(&[1; 32]).unwrap().public().clone()
}

fn world() -> Observation {
    let mut seen = Observation { looked: true, viewer: Some(0), ..Observation::default() };
    let mut accounts = read_passwd(b"edda:x:1001:1001::/home/edda:/bin/sh\n");
    accounts[0].aging =
        Some(Aging::Line { last_change: Some(20_000), max_days: None, inactive_days: None, expires: None });
    seen.accounts = accounts.into();
    for (path, kind, uid) in [
        ("/home", NodeKind::Folder, 0),
        ("/home/edda", NodeKind::Folder, 1001),
        ("/srv", NodeKind::Folder, 0),
        (FILE, NodeKind::File, 0),
        ("/bin", NodeKind::Folder, 0),
        ("/bin/sh", NodeKind::File, 0),
    ] {
        seen.nodes.insert(path.into(), Fact::Known(Node { kind, mode: 0o755, uid, gid: uid, access_list: false }));
    }
    seen.bytes.insert(FILE.into(), Fact::Known(key().line("x").into_bytes()));
    seen.bytes.insert(CONFIG.into(), Fact::Known(format!("AuthorizedKeysFile {FILE}\nUsePAM no\n").into_bytes()));
    seen
}

fn outcome(seen: &Observation) -> Outcome {
    let today = 20_500 * 86_400;
    judge(&Question::plain("edda", &key(), today), &System::of(seen)).outcome
}

fn expire() -> Change {
    AccountChange::Expire { account: "edda".to_owned(), from: None, to: Some(20_100) }.into()
}

#[test]
fn an_account_that_ends_lets_nobody_in_and_can_begin_again() {
    let seen = world();
    let after = seen.after([&expire()]);
    assert_eq!((outcome(&seen), outcome(&after)), (Outcome::Accepted, Outcome::Refused));
    assert!(expire().holds(&after) && expire().is_undone(&seen) && !expire().holds(&seen));
    let steps = restore("edda", &[expire()], &System::of(&after)).unwrap();
    assert_eq!(outcome(&after.after(&steps.changes)), Outcome::Accepted);
}

#[test]
fn settings_that_come_count_in_what_would_be_seen_after_them_and_are_read_again_when_put_back() {
    let mut seen = world();
    seen.said_by_server = Some(format!("authorizedkeysfile {FILE}\n").into_bytes());
    let old = seen.bytes[&BytePath::from(CONFIG)].known().cloned();
    let new = [old.clone().unwrap(), b"PubkeyAuthentication no\n".to_vec()].concat();
    let owner = OwnerIds { uid: 0, gid: 0 };
    let deed = Deed::Settings { come: vec![3], go: Vec::new() };
    let path = BytePath::from(CONFIG);
    seen.nodes.insert(
        path.clone(),
        Fact::Known(Node { kind: NodeKind::File, mode: 0o644, uid: 0, gid: 0, access_list: false }),
    );
    let write: Change = FileChange::WriteFile { path, old, new, mode: 0o644, owner, was: None, deed }.into();
    let changes = [write, ServerChange::Reload.into()];
    let after = seen.after(&changes);
    assert_eq!((outcome(&seen), outcome(&after)), (Outcome::Accepted, Outcome::Refused));
    assert!(crate::steps::Effect::of(&changes).came.is_empty());
    let back = restore("edda", &changes, &System::of(&after)).unwrap().changes;
    assert!(matches!(back[..], [Change::File(_), Change::Server(ServerChange::Reload)]), "{back:?}");
    let steps = Steps { changes: changes.to_vec(), ..Steps::blank(&seen.accounts[0], None) };
    let made = guard(&steps, None, false).unwrap();
    let back = Guarded::taken_back(&made.iter().collect::<Vec<_>>());
    let last = back.last().unwrap().change();
    assert!(matches!(last, Change::Server(_)) && !last.leaves_traces());
}
