use super::*;
use crate::account::read_passwd;
use crate::survey::Observation;
use crate::system::System;
use lavrin_keys::key::{PrivateKey, PublicKey};

const FILE: &str = "/home/edda/.ssh/authorized_keys";

fn key(seed: u8) -> PublicKey {
    PrivateKey::ed25519(&[seed; 32]).unwrap().public().clone()
}

fn node(kind: NodeKind, mode: u32, uid: u32) -> Fact<Node> {
    Fact::Known(Node { kind, mode, uid, gid: uid, access_list: false })
}

/// An account with a home and nothing in it.
fn bare() -> Observation {
    let mut seen = Observation {
        looked: true,
        accounts: read_passwd(b"edda:x:1001:1001::/home/edda:/bin/sh\n").into(),
        ..Observation::default()
    };
    seen.nodes.insert("/home".into(), node(NodeKind::Folder, 0o755, 0));
    seen.nodes.insert("/home/edda".into(), node(NodeKind::Folder, 0o755, 1001));
    seen.nodes.insert("/home/edda/.ssh".into(), Fact::Absent);
    seen
}

fn with_file(content: &str, folder: u32, file: u32, owner: u32) -> Observation {
    let mut seen = bare();
    seen.nodes.insert("/home/edda/.ssh".into(), node(NodeKind::Folder, folder, 1001));
    seen.nodes.insert(FILE.into(), node(NodeKind::File, file, owner));
    seen.nodes.insert("/home/edda/.ssh/authorized_keys2".into(), Fact::Absent);
    seen.bytes.insert(FILE.into(), Fact::Known(content.as_bytes().to_vec()));
    seen
}

fn installation(seen: &System<'_>) -> Installation {
    install("edda", &key(1), &key(1).line("edda@lantern"), seen, &Policy::default()).unwrap()
}

fn plan(seen: &System<'_>) -> Steps {
    installation(seen).steps
}

#[test]
fn what_is_missing_is_made_with_the_account_as_owner() {
    let there = installation(&System::of(&bare()));
    let owner = OwnerIds { uid: 1001, gid: 1001 };
    let new = format!("{}\n", key(1).line("edda@lantern")).into_bytes();
    let deed = Deed::Entries { come: vec![1], go: Vec::new(), limit: Vec::new() };
    assert_eq!(
        there.steps.changes,
        [
            FileChange::MakeFolder { path: "/home/edda/.ssh".into(), mode: 0o700, owner }.into(),
            FileChange::WriteFile { path: FILE.into(), old: None, new, mode: 0o600, owner, was: None, deed }.into(),
        ]
    );
    assert_eq!(there.target, Some(Place::Line { path: FILE.into(), line: 1 }));
}

#[test]
fn a_key_that_is_there_is_not_added_twice() {
    let seen = with_file(&format!("# x\nno-pty {}\n", key(1).line("old")), 0o700, 0o600, 1001);
    let there = installation(&System::of(&seen));
    assert!(there.steps.changes.is_empty());
    assert_eq!(there.present[0].0.line(), Some(2));
    assert_eq!(there.present[0].1.denied, ["terminal"]);
}

#[test]
fn loose_modes_and_wrong_owners_are_set_right_and_revived_entries_listed() {
    let mut seen = with_file(&key(2).line("sten"), 0o777, 0o666, 0);
    let steps = plan(&System::of(&seen));
    assert_eq!(steps.changes[0], FileChange::SetMode { path: "/home/edda/.ssh".into(), from: 0o777, to: 0o700 }.into());
    let Change::File(FileChange::WriteFile { mode, owner, .. }) = &steps.changes[1] else { panic!() };
    assert_eq!((*mode, owner.uid), (0o600, 1001));
    seen.viewer = Some(0);
    // Root gives nothing away in a folder of the account: the account puts a file of its own there.
    let Change::File(FileChange::WriteFile { was: Some(was), .. }) = &plan(&System::of(&seen)).changes[1] else {
        panic!()
    };
    assert_eq!(*was, Was { mode: 0o666, owner: OwnerIds { uid: 0, gid: 0 } });
    let bar = node(NodeKind::Folder, 0o700, 1002);
    seen.viewer = Some(1001);
    seen.nodes.insert("/home/edda/.ssh".into(), bar);
    let refused = install("edda", &key(1), "x", &System::of(&seen), &Policy::default()).unwrap_err();
    assert_eq!(refused, NoSteps::NeedsRoot { path: "/home/edda/.ssh".into(), found: 1002, wanted: 1001 });
    assert_eq!(steps.revived.len(), 1);
    assert_eq!(steps.revived[0].fingerprint, key(2).fingerprint());
}

#[test]
fn modes_are_set_right_even_where_the_key_is_there() {
    let mut seen = with_file(&key(1).line("edda"), 0o700, 0o644, 1001);
    seen.nodes.insert("/home/edda".into(), node(NodeKind::Folder, 0o777, 1001));
    let steps = plan(&System::of(&seen));
    assert_eq!(
        steps.changes,
        [
            FileChange::SetMode { path: "/home/edda".into(), from: 0o777, to: 0o755 }.into(),
            FileChange::SetMode { path: FILE.into(), from: 0o644, to: 0o600 }.into(),
        ]
    );
}

#[test]
fn links_that_lead_out_and_foreign_homes_are_refused() {
    let mut seen = with_file("", 0o700, 0o600, 1001);
    seen.nodes.insert(FILE.into(), node(NodeKind::Link(b"/etc/shadow".to_vec()), 0o777, 1001));
    seen.nodes.insert("/etc".into(), node(NodeKind::Folder, 0o755, 0));
    seen.nodes.insert("/etc/shadow".into(), node(NodeKind::File, 0o600, 0));
    let refused = install("edda", &key(1), "x", &System::of(&seen), &Policy::default()).unwrap_err();
    assert_eq!(refused, NoSteps::LinkLeadsOut { path: FILE.into(), to: "/etc/shadow".into() });
    let mut seen = bare();
    seen.nodes.insert("/home/edda".into(), node(NodeKind::Folder, 0o755, 1002));
    let refused = install("edda", &key(1), "x", &System::of(&seen), &Policy::default()).unwrap_err();
    assert_eq!(refused, NoSteps::HomeOwner { path: "/home/edda".into(), found: 1002, wanted: 1001 });
}

#[test]
fn every_line_of_a_key_goes_and_the_rest_stays() {
    let seen =
        with_file(&format!("# x\n{0}\nrestrict {0}\n{1}\r\n", key(1).line("a"), key(2).line("b")), 0o700, 0o640, 1001);
    let there = remove("edda", &key(1).fingerprint(), &System::of(&seen)).unwrap();
    let Change::File(FileChange::WriteFile { new, mode, .. }) = &there.steps.changes[0] else { panic!() };
    assert_eq!(new, format!("# x\n{}\r\n", key(2).line("b")).as_bytes());
    assert_eq!(*mode, 0o640);
    assert_eq!(there.present.len(), 2);
    assert!(remove("edda", &key(3).fingerprint(), &System::of(&seen)).unwrap().steps.changes.is_empty());
}

#[test]
fn removal_is_refused_where_a_file_could_not_be_read() {
    let mut seen = with_file("", 0o700, 0o600, 1001);
    seen.bytes.insert(FILE.into(), Fact::Unseen(Why::Permission));
    let refused = remove("edda", &key(1).fingerprint(), &System::of(&seen)).unwrap_err();
    assert_eq!(refused, NoSteps::Unread(BytePath::from(FILE).into(), Why::Permission));
}

#[test]
fn the_guard_keeps_the_key_that_the_login_uses() {
    let seen = with_file(&key(1).line("a"), 0o700, 0o600, 1001);
    let steps = remove("edda", &key(1).fingerprint(), &System::of(&seen)).unwrap().steps;
    let login = |account: &str, seed: u8| Login { account: account.into(), key: Some(key(seed).fingerprint()) };
    assert!(guard(&steps, Some(&login("edda", 1)), false).is_err());
    assert!(guard(&steps, Some(&login("edda", 1)), true).is_ok());
    assert!(guard(&steps, Some(&login("edda", 2)), false).is_ok());
    assert!(guard(&steps, Some(&login("root", 1)), false).is_ok());
    assert_eq!(guard(&steps, None, false).unwrap().len(), 1);
}

fn mending(seen: &System<'_>, consent: &[u8]) -> Mending {
    let consent: Vec<Fingerprint> = consent.iter().map(|seed| key(*seed).fingerprint()).collect();
    mend("edda", &consent, seen, &Policy::default()).unwrap()
}

#[test]
fn mending_sets_modes_and_splits_lines_only_with_consent() {
    let glued = format!("{}{}\r\n", key(1).line("edda@lantern"), key(2).line("sten@kvarnholm"));
    let mut seen = with_file(&glued, 0o777, 0o666, 1001);
    seen.viewer = Some(0);
    let held = mending(&System::of(&seen), &[]);
    assert_eq!(held.withheld.len(), 1, "the modes alone would bring edda's key to life: {held:?}");
    assert!(matches!(held.withheld[0].what, WithheldWhat::Modes(ref changes) if changes.len() == 2));
    assert!(held.steps.changes.is_empty());
    let revives: Vec<Fingerprint> = held.withheld[0].revives.iter().map(|entry| entry.fingerprint).collect();
    assert_eq!(revives, [key(1).fingerprint(), key(2).fingerprint()]);
    assert_eq!(mending(&System::of(&seen), &[1]).withheld.len(), 1);
    let both = mending(&System::of(&seen), &[1, 2]);
    assert!(both.withheld.is_empty());
    assert_eq!(both.steps.revived.len(), 2);
    let Some(Change::File(FileChange::WriteFile { new, mode: 0o600, .. })) = both.steps.changes.last() else {
        panic!("{both:?}")
    };
    let lines = format!("{}\n{}\n", key(1).line("edda@lantern"), key(2).line("sten@kvarnholm"));
    assert_eq!(String::from_utf8_lossy(new), lines);
}

#[test]
fn mending_leaves_what_needs_a_decision_and_folders_of_others() {
    let text = format!("{}restrict {}\nwords\n", key(1).line("edda"), key(2).line("sten"));
    let found = mending(&System::of(&with_file(&text, 0o700, 0o600, 1001)), &[]);
    assert!(found.steps.changes.is_empty());
    assert_eq!(found.left.iter().map(|left| left.line).collect::<Vec<_>>(), [Some(2), Some(1)]);
    let mut seen = with_file(&key(1).line("edda"), 0o700, 0o600, 1001);
    seen.nodes.insert("/home/edda".into(), node(NodeKind::Folder, 0o2775, 0));
    let found = mending(&System::of(&seen), &[1]);
    assert!(found.steps.changes.is_empty(), "{found:?}");
    assert!(matches!(found.left[..], [Left { why: LeftWhy::Outside(_), .. }]));
}

#[test]
fn a_change_tells_whether_it_holds() {
    let seen = with_file("old\n", 0o755, 0o644, 1001);
    let steps = plan(&System::of(&seen));
    assert!(steps.changes.iter().all(|change| !change.holds(&System::of(&seen))));
    assert!(
        steps
            .changes
            .iter()
            .filter(|change| !matches!(change, Change::File(FileChange::SetMode { .. })))
            .all(|c| !c.inverse().holds(&System::of(&seen)))
    );
    let mode = FileChange::SetMode { path: FILE.into(), from: 0o644, to: 0o600 };
    assert!(mode.inverse().holds(&System::of(&seen)) && !mode.holds(&System::of(&seen)));
}

#[test]
fn lines_go_come_and_change_and_a_stranger_is_not_let_in_by_a_mode() {
    let line = |seed: u8| PrivateKey::ed25519(&[seed; 32]).unwrap().public().line("x");
    let print = |seed: u8| PrivateKey::ed25519(&[seed; 32]).unwrap().public().fingerprint();
    let content = format!("# kept\r\n  {}\r\nno-pty {}\n{}", line(1), line(2), line(3));
    let seen = with_file(&content, 0o700, 0o600, 1001);
    let place = |line| Place::Line { path: "/home/edda/.ssh/authorized_keys".into(), line };
    let edits = Edits {
        remove: vec![place(4)],
        options: vec![(place(2), "restrict".to_owned()), (place(3), String::new())],
        add: vec![line(4)],
        modes: false,
    };
    let steps = bring("edda", &edits, &|_| false, &System::of(&seen), &Policy::default()).unwrap();
    let Some(Change::File(FileChange::WriteFile { new, .. })) = steps.changes.last() else { panic!("{steps:?}") };
    let expected = format!("# kept\r\n  restrict {}\r\n{}\n{}\n", line(1), line(2), line(4));
    assert_eq!(String::from_utf8_lossy(new), expected);
    let effect = steps.effect();
    let prints = |keys: &[std::sync::Arc<lavrin_keys::key::PublicKey>]| {
        keys.iter().map(|key| key.fingerprint()).collect::<std::collections::BTreeSet<_>>()
    };
    assert_eq!(prints(&effect.came), [print(4)].into());
    assert_eq!(prints(&effect.gone), [print(3)].into());
    assert_eq!(prints(&effect.limited), [print(1), print(2)].into());
    // Restricting the key of the login itself shuts it out as taking it away does.
    let login = |seed| Login { account: "edda".to_owned(), key: Some(print(seed)) };
    assert!(guard(&steps, Some(&login(1)), false).is_err() && guard(&steps, Some(&login(3)), false).is_err());
    assert!(guard(&steps, Some(&login(4)), false).is_ok() && guard(&steps, Some(&login(1)), true).is_ok());
    // Taking them back gives the file of before; where it was changed since, nothing is told.
    let mut after = with_file(&expected, 0o700, 0o600, 1001);
    let back = restore("edda", &steps.changes, &System::of(&after)).unwrap();
    let Some(Change::File(FileChange::WriteFile { new, .. })) = back.changes.last() else { panic!("{back:?}") };
    assert_eq!(String::from_utf8_lossy(new), content);
    assert!(restore("edda", &steps.changes, &System::of(&seen)).unwrap().changes.is_empty());
    after.bytes.insert("/home/edda/.ssh/authorized_keys".into(), Fact::Known(b"other".to_vec()));
    assert!(matches!(restore("edda", &steps.changes, &System::of(&after)), Err(NoSteps::ChangedSince(_))));
    // A file that the server ignores for its mode: opening it lets in whoever stands in it.
    let ignored = with_file(&content, 0o700, 0o666, 1001);
    let modes = Edits { modes: true, ..Edits::default() };
    let refused = bring("edda", &modes, &|key| *key != print(3), &System::of(&ignored), &Policy::default());
    assert!(matches!(&refused, Err(NoSteps::WouldRevive(list)) if list.len() == 1), "{refused:?}");
    assert!(bring("edda", &modes, &|_| true, &System::of(&ignored), &Policy::default()).is_ok());
}

#[test]
fn keys_come_into_the_list_of_revoked_ones_once_and_other_lists_are_left_alone() {
    let keys = [key(1), key(2)];
    let with = |config: &str, list: Option<&[u8]>| {
        let mut seen = bare();
        seen.accounts = read_passwd(b"root:x:0:0::/root:/bin/sh\nedda:x:1001:1001::/home/edda:/bin/sh\n").into();
        seen.bytes.insert("/etc/ssh/sshd_config".into(), Fact::Known(config.as_bytes().to_vec()));
        for folder in ["/etc", "/etc/ssh"] {
            seen.nodes.insert(folder.into(), node(NodeKind::Folder, 0o755, 0));
        }
        let path: BytePath = "/etc/ssh/revoked".into();
        seen.nodes.insert(path.clone(), list.map_or(Fact::Absent, |_| node(NodeKind::File, 0o644, 0)));
        seen.bytes.insert(path, list.map_or(Fact::Absent, |list| Fact::Known(list.to_vec())));
        revoke(&keys, &System::of(&seen))
    };
    let used = "RevokedKeys /etc/ssh/revoked\n";
    let held = format!("# gone\n{}", key(2).line("x"));
    let steps = with(used, Some(held.as_bytes())).unwrap().unwrap();
    let Some(Change::File(FileChange::WriteFile { new, mode, .. })) = steps.changes.last() else { panic!("{steps:?}") };
    assert_eq!(String::from_utf8_lossy(new), format!("{held}\n{}\n", key(1).line("revoked")));
    assert_eq!((*mode, &steps.effect().revoked), (0o644, &vec![key(1).fingerprint()]));
    // It opens nothing, so no key comes; and the key of the login itself is not put there.
    assert!(steps.effect().came.is_empty());
    let login = |seed: u8| Login { account: "edda".to_owned(), key: Some(key(seed).fingerprint()) };
    assert!(guard(&steps, Some(&login(1)), false).is_err());
    assert!(guard(&steps, Some(&login(3)), false).is_ok() && guard(&steps, Some(&login(1)), true).is_ok());
    let all = format!("{}\n{}\n", key(1).line(""), key(2).line(""));
    assert!(with(used, Some(all.as_bytes())).unwrap().unwrap().changes.is_empty());
    assert!(with("", Some(b"")).is_none() && with("RevokedKeys none\n", Some(b"")).is_none());
    assert!(with(used, None).is_none());
    assert!(matches!(with(used, Some(b"SSHKRL\n\0...")), Some(Err(NoSteps::BinaryList(_)))));
}
