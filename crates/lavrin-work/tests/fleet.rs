//! What surveys remember, put together again and audited.

use lavrin_fleet::fleet::Moment;
use lavrin_fleet::register::{Date, Host, Register, SourceFile, read};
use lavrin_keys::key::PrivateKey;
use lavrin_server::account::read_passwd;
use lavrin_server::fs::{Fact, Node, NodeKind};
use lavrin_server::survey::Observation;
use lavrin_server::survey::key_use::{KeyUse, KeyUses};
use lavrin_server::survey::snapshot::Snapshot;
use lavrin_store::database::{Database, HostRecord, SeenKeys, Sighted};
use lavrin_work::fleet::{audit, states};
use lavrin_work::memory::{FleetFault, Memory};

const TODAY: Date = Date { year: 2026, month: 11, day: 23 };

fn now() -> Moment {
    Moment { time: TODAY.number() * 86_400, today: TODAY }
}

fn register() -> Register {
    let file = |path: &str, text: &str| SourceFile { path: path.to_owned(), text: text.to_owned() };
    let reading =
        read(&[file("lavrin.toml", "name = \"lights\"\n"), file("hosts.toml", "[lantern]\n[skerry]\n[tide]\n")]);
    reading.register
}

fn observation(seed: u8) -> Observation {
    let mut seen = Observation {
        looked: true,
        accounts: read_passwd(b"edda:x:1001:1001::/home/edda:/bin/sh\n").into(),
        ..Observation::default()
    };
    let node = |kind, mode, uid| Fact::Known(Node { kind, mode, uid, gid: uid, access_list: false });
    seen.nodes.insert("/home".into(), node(NodeKind::Folder, 0o755, 0));
    seen.nodes.insert("/home/edda".into(), node(NodeKind::Folder, 0o755, 1001));
    seen.nodes.insert("/home/edda/.ssh".into(), node(NodeKind::Folder, 0o700, 1001));
    seen.nodes.insert("/home/edda/.ssh/authorized_keys".into(), node(NodeKind::File, 0o600, 1001));
    seen.nodes.insert("/home/edda/.ssh/authorized_keys2".into(), Fact::Absent);
    let line = PrivateKey::ed25519(&[seed; 32]).unwrap().public().line("edda");
    seen.bytes.insert("/home/edda/.ssh/authorized_keys".into(), Fact::Known(line.into_bytes()));
    seen
}

fn put(store: &Database, host: &str, time: i64, seed: u8) {
    let key = PrivateKey::ed25519(&[seed; 32]).unwrap().public().fingerprint();
    let entry = Sighted { account: "edda".to_owned(), key, comment: "edda".to_owned() };
    let last = [(("edda".to_owned(), key), KeyUse { time: time - 60, from: "192.0.2.7".to_owned() })];
    let uses = KeyUses { since: Some(1), last: last.into() };
    let keys = SeenKeys { entries: vec![entry], ..SeenKeys::default() };
    let (host, snapshot) = (host.to_owned(), Snapshot::of(&observation(seed)));
    store.record(HostRecord { host, time, snapshot, keys, uses, register: None }).unwrap();
}

#[test]
fn every_host_is_audited_by_what_was_last_seen_of_it() {
    let folder = tempfile::tempdir().unwrap();
    let store = Database::open(folder.path()).unwrap();
    let register = register();
    let hosts: Vec<&Host> = register.all_hosts().collect();
    let unseen = audit(&register, &hosts, None, now()).unwrap();
    assert_eq!((unseen.entries.len(), unseen.findings.len()), (0, 3));
    put(&store, "lantern", now().time - 100, 1);
    put(&store, "skerry", now().time - 100, 1);
    put(&store, "skerry", now().time - 50, 2);
    store.record_fault("tide", now().time, "no answer").unwrap();
    let seen = audit(&register, &hosts, Some(&store), now()).unwrap();
    let told: Vec<(&str, &str)> =
        seen.findings.iter().map(|found| (found.host.as_str(), found.finding.fault.rule())).collect();
    assert_eq!(told, [("lantern", "unknown-key"), ("skerry", "unknown-key"), ("tide", "never-surveyed")]);
    assert_eq!((seen.accounts, seen.entries.len(), seen.not_checked.len()), (2, 2, 1));
    assert_ne!(seen.entries[0].entry.fingerprint, seen.entries[1].entry.fingerprint);
    let states = states(&store).unwrap();
    assert_eq!((states["lantern"].seen, states["lantern"].uses.len()), (Some(now().time - 100), 1));
    assert_eq!(states["tide"].fault.as_deref(), Some("no answer"));
}

#[test]
fn the_past_is_put_together_as_it_was() {
    let folder = tempfile::tempdir().unwrap();
    let store = Database::open(folder.path()).unwrap();
    put(&store, "lantern", 10, 1);
    put(&store, "lantern", 20, 2);
    let mut memory = Memory::of(&store);
    let mut content = |time: i64| {
        let seen = memory.observations(&["lantern", "nowhere"], time).unwrap();
        assert!(seen[1].is_none());
        let path = "/home/edda/.ssh/authorized_keys".into();
        seen.into_iter().next().flatten().map(|seen| seen.content(&path).into_known().cloned())
    };
    assert_eq!(content(9), None);
    let of = |seed| observation(seed).content(&"/home/edda/.ssh/authorized_keys".into()).into_known().cloned();
    assert_eq!([content(15), content(20), content(99)], [Some(of(1)), Some(of(2)), Some(of(2))]);
}

#[test]
fn a_content_that_is_gone_is_told_with_its_host() {
    let folder = tempfile::tempdir().unwrap();
    let store = Database::open(folder.path()).unwrap();
    // A document that names a content, and nothing else.
    let whole = Snapshot::of(&observation(1));
    let snapshot = Snapshot { document: whole.document, contents: std::collections::BTreeMap::new() };
    let (keys, uses) = (SeenKeys::default(), KeyUses::default());
    store.record(HostRecord { host: "lantern".to_owned(), time: 10, snapshot, keys, uses, register: None }).unwrap();
    let fault = Memory::of(&store).observations(&["lantern"], 20).unwrap_err();
    assert!(matches!(&fault, FleetFault::Document { host, .. } if host == "lantern"), "{fault:?}");
}
