use super::*;
use crate::{ChangeOutcome, Event};
use lavrin_keys::key::{Fingerprint, PrivateKey};
use lavrin_server::survey::Observation;
use lavrin_server::survey::key_use::{KeyUse, KeyUses};
use lavrin_server::survey::snapshot::{Snapshot, hash};
use std::os::unix::fs::PermissionsExt as _;

fn key(number: u8) -> Fingerprint {
    PrivateKey::ed25519(&[number; 32]).unwrap().public().fingerprint()
}

fn world(content: &str) -> Snapshot {
    let mut seen = Observation { looked: true, ..Observation::default() };
    let bytes = lavrin_server::fs::Fact::Known(content.as_bytes().to_vec());
    seen.bytes.insert("/home/edda/.ssh/authorized_keys".into(), bytes);
    Snapshot::of(&seen)
}

fn entry(number: u8) -> Sighted {
    Sighted { account: "edda".to_owned(), key: key(number), comment: format!("key {number}") }
}

fn keys(entries: &[Sighted]) -> SeenKeys {
    SeenKeys { entries: entries.to_vec(), ..SeenKeys::default() }
}

fn rows(store: &Database, table: &str) -> i64 {
    store.connection.query_row(&format!("SELECT count(*) FROM {table}"), [], |row| row.get(0)).unwrap()
}

#[test]
fn entries_of_an_account_that_was_not_read_are_not_gone() {
    let folder = tempfile::tempdir().unwrap();
    let store = Database::open(folder.path()).unwrap();
    store.record("lantern", 10, &world("a"), &keys(&[entry(1)]), &KeyUses::default()).unwrap();
    let unread = SeenKeys { unread: ["edda".to_owned(), "sten".to_owned()].into(), ..SeenKeys::default() };
    let recorded = store.record("lantern", 20, &world("b"), &unread, &KeyUses::default()).unwrap();
    assert_eq!(recorded, Recorded { changed: true, kept: vec!["edda".to_owned()] });
    assert_eq!(store.sightings().unwrap()[0].gone, None);
    store.record("lantern", 30, &world("c"), &keys(&[]), &KeyUses::default()).unwrap();
    assert_eq!(store.sightings().unwrap()[0].gone, Some(30));
}

#[test]
fn an_unchanged_host_costs_no_row() {
    let folder = tempfile::tempdir().unwrap();
    let store = Database::open(folder.path()).unwrap();
    for time in [10, 20, 30] {
        store.record("lantern", time, &world("a"), &keys(&[entry(1)]), &KeyUses::default()).unwrap();
    }
    let counts = |store: &Database| ["content", "observation", "look", "sighting"].map(|table| rows(store, table));
    assert_eq!(counts(&store), [2, 1, 1, 1]);
    // Another host with the same files shares everything but the note that it was seen.
    store.record("skerry", 30, &world("a"), &keys(&[entry(1)]), &KeyUses::default()).unwrap();
    assert_eq!(counts(&store), [2, 2, 2, 2]);
    let found = store.observation_at("lantern", 99).unwrap().unwrap();
    assert_eq!((found.first, found.last), (10, 30));
    drop(store);
    assert_eq!(counts(&Database::open(folder.path()).unwrap()), [2, 2, 2, 2]);
}

#[test]
fn what_was_in_force_at_a_time_is_found_again() {
    let folder = tempfile::tempdir().unwrap();
    let store = Database::open(folder.path()).unwrap();
    let uses = KeyUses { since: Some(1), last: [(("edda".to_owned(), key(1)), used(15))].into() };
    store.record("lantern", 10, &world("a"), &keys(&[entry(1)]), &uses).unwrap();
    store.record("lantern", 20, &world("b"), &keys(&[entry(1), entry(2)]), &KeyUses::default()).unwrap();
    store.record("lantern", 30, &world("a"), &keys(&[entry(1)]), &KeyUses::default()).unwrap();
    assert_eq!(store.observation_at("lantern", 9).unwrap(), None);
    let at = |time| store.observation_at("lantern", time).unwrap().unwrap().document;
    assert_eq!([at(10), at(25), at(30)], [world("a").document, world("b").document, world("a").document]);
    let seen: Vec<_> = store.sightings_on("lantern").unwrap();
    let times = |seen: &Seen| (seen.key, seen.first, seen.gone);
    assert_eq!(seen.iter().map(times).collect::<Vec<_>>(), [(key(1), 10, None), (key(2), 20, Some(30))]);
    assert_eq!(seen[0].used, Some((15, "192.0.2.7".to_owned())));
    assert_eq!(store.sightings_of(key(2)).unwrap().len(), 1);
    assert_eq!(store.sightings().unwrap(), seen);
}

fn used(time: i64) -> KeyUse {
    KeyUse { time, from: "192.0.2.7".to_owned() }
}

#[test]
fn a_host_that_fails_keeps_what_was_seen_of_it() {
    let folder = tempfile::tempdir().unwrap();
    let store = Database::open(folder.path()).unwrap();
    store.record("lantern", 10, &world("a"), &keys(&[]), &KeyUses { since: Some(3), ..KeyUses::default() }).unwrap();
    store.record_fault("lantern", 20, "no answer").unwrap();
    store.record_fault("skerry", 20, "no answer").unwrap();
    let looks = store.looks().unwrap();
    assert_eq!((looks[0].tried, looks[0].seen, looks[0].logs_since), (20, Some(10), Some(3)));
    assert_eq!((looks[1].seen, looks[1].fault.as_deref()), (None, Some("no answer")));
    assert!(store.observation_at("lantern", 30).unwrap().is_some());
}

#[test]
fn several_things_are_written_together_or_not_at_all() {
    let folder = tempfile::tempdir().unwrap();
    let store = Database::open(folder.path()).unwrap();
    let failed: Result<(), _> = store.together(|store| {
        store.keep(&hash(b"x"), b"x")?;
        Err(DatabaseFault::Busy { path: PathBuf::new() })
    });
    assert!(failed.is_err());
    assert_eq!(store.content(&hash(b"x")).unwrap(), None);
    store.together(|store| store.keep(&hash(b"x"), b"x")).unwrap();
    assert_eq!(store.content(&hash(b"x")).unwrap().as_deref(), Some(&b"x"[..]));
}

#[test]
fn the_journal_reads_back_in_order() {
    let folder = tempfile::tempdir().unwrap();
    let store = Database::open(folder.path()).unwrap();
    let entries = ["one", "two"].map(|detail| JournalEntry {
        id: "1".to_owned(),
        time: "2026-11-23T08:00:00Z".to_owned(),
        event: Event::Outcome { outcome: ChangeOutcome::Done, detail: detail.to_owned() },
    });
    for entry in &entries {
        store.write_down(entry).unwrap();
    }
    assert_eq!(store.journal().unwrap(), entries);
}

#[test]
fn a_backup_is_found_under_its_hash() {
    let folder = tempfile::tempdir().unwrap();
    let store = Database::open(folder.path()).unwrap();
    let keeper: &dyn Keeper = &store;
    let name = keeper.back_up(b"old\n").unwrap();
    assert_eq!(keeper.back_up(b"old\n").unwrap(), name);
    assert_eq!(name, hash(b"old\n").iter().map(|byte| format!("{byte:02x}")).collect::<String>());
    assert_eq!(store.content(&hash(b"old\n")).unwrap().as_deref(), Some(&b"old\n"[..]));
    assert_eq!(rows(&store, "content"), 1);
}

#[test]
fn a_damaged_foreign_or_newer_store_is_told_and_left_as_it_is() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join(FOLDER).join(FILE);
    assert!(Database::open_existing(folder.path()).unwrap().is_none());
    drop(Database::open(folder.path()).unwrap());
    let change = |sql: &str| Connection::open(&path).unwrap().execute_batch(sql).unwrap();
    change("PRAGMA user_version = 4");
    assert!(matches!(Database::open(folder.path()), Err(DatabaseFault::Newer { found: 4, .. })));
    // One of the first form gets what was added since.
    change("PRAGMA user_version = 1; DROP TABLE report; DROP TABLE chain");
    let store = Database::open(folder.path()).unwrap();
    store.note_report(7, "lights", "{}").unwrap();
    assert_eq!(store.reports("lights", 8).unwrap(), [(7, "{}".to_owned())]);
    assert!(store.reports("lights", 7).unwrap().is_empty() && store.reports("", 8).unwrap().is_empty());
    drop(store);
    change("PRAGMA application_id = 7");
    assert!(matches!(Database::open(folder.path()), Err(DatabaseFault::Damaged { .. })));
    std::fs::write(&path, "a letter to the harbour office, longer than a header of a database would be, all in all")
        .unwrap();
    let before = std::fs::read(&path).unwrap();
    let error = Database::open(folder.path()).unwrap_err();
    assert!(matches!(error, DatabaseFault::Damaged { .. }), "{error}");
    assert_eq!(std::fs::read(&path).unwrap(), before);
}

#[test]
fn a_link_in_the_register_does_not_lead_the_store_elsewhere() {
    let (folder, elsewhere) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    std::os::unix::fs::symlink(elsewhere.path(), folder.path().join(FOLDER)).unwrap();
    assert!(matches!(Database::open(folder.path()), Err(DatabaseFault::System(_))));
    std::fs::remove_file(folder.path().join(FOLDER)).unwrap();
    std::fs::create_dir(folder.path().join(FOLDER)).unwrap();
    std::os::unix::fs::symlink(elsewhere.path().join("x"), folder.path().join(FOLDER).join(FILE)).unwrap();
    assert!(Database::open(folder.path()).is_err());
    assert_eq!(std::fs::read_dir(elsewhere.path()).unwrap().count(), 0);
}

#[test]
fn it_is_for_its_owner_alone_and_not_for_version_control() {
    let folder = tempfile::tempdir().unwrap();
    let store = Database::open(folder.path()).unwrap();
    store.keep(&hash(b"x"), b"x").unwrap();
    let mode = |name: &str| folder.path().join(FOLDER).join(name).metadata().unwrap().permissions().mode() & 0o777;
    assert_eq!([mode(FILE), mode(&format!("{FILE}-wal")), mode("")], [0o600, 0o600, 0o700]);
    assert_eq!(std::fs::read_to_string(folder.path().join(FOLDER).join(".gitignore")).unwrap(), "*\n");
}

#[test]
fn a_backup_that_was_altered_in_the_file_is_read_from_its_second_copy() {
    let folder = tempfile::tempdir().unwrap();
    let store = Database::open(folder.path()).unwrap();
    let name = Keeper::back_up(&store, b"old keys\n").unwrap();
    store.connection.execute("UPDATE content SET bytes = x'00'", []).unwrap();
    assert_eq!(store.kept(&name).unwrap().unwrap(), b"old keys\n");
    std::fs::write(store.copies().join(&name), b"x").unwrap();
    assert!(store.kept(&name).unwrap_err().to_string().contains("not the one that was kept"));
}

#[test]
fn what_this_program_does_not_make_is_refused_in_a_store() {
    for planted in [
        "CREATE TRIGGER planted AFTER INSERT ON journal BEGIN DELETE FROM content; END",
        "CREATE VIEW planted AS SELECT 1",
        "CREATE TABLE planted (x)",
        "CREATE INDEX planted ON journal (id)",
        "ALTER TABLE journal ADD COLUMN planted",
        "DROP TABLE key_use",
    ] {
        let folder = tempfile::tempdir().unwrap();
        let store = Database::open(folder.path()).unwrap();
        store.connection.execute_batch(planted).unwrap();
        drop(store);
        let fault = Database::open(folder.path()).unwrap_err().to_string();
        assert!(fault.contains("none of this program's own"), "{planted}: {fault}");
    }
}

#[test]
fn a_store_that_others_may_write_is_closed_to_them() {
    let folder = tempfile::tempdir().unwrap();
    drop(Database::open(folder.path()).unwrap());
    let (own, file) = (folder.path().join(FOLDER), folder.path().join(FOLDER).join(FILE));
    let loosen = |path: &Path, mode| std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode)).unwrap();
    loosen(&own, 0o777);
    loosen(&file, 0o666);
    drop(Database::open(folder.path()).unwrap());
    let mode = |path: &Path| std::fs::metadata(path).unwrap().permissions().mode() & 0o777;
    assert_eq!((mode(&own), mode(&file)), (0o700, 0o600));
}

fn outcome(detail: &str) -> JournalEntry {
    let event = Event::Outcome { outcome: ChangeOutcome::Done, detail: detail.to_owned() };
    JournalEntry { id: "1".to_owned(), time: "2026-11-23T08:00:00Z".to_owned(), event }
}

#[test]
fn the_journal_is_a_chain_and_every_change_in_it_shows() {
    let changes = [
        ("UPDATE journal SET entry = replace(entry, 'two', 'tow') WHERE number = 2", 2),
        ("DELETE FROM chain WHERE number = 2; DELETE FROM journal WHERE number = 2", 3),
        ("DELETE FROM chain WHERE number = 3", 3),
        ("UPDATE journal SET time = '2026-11-22T08:00:00Z' WHERE number = 1", 1),
        ("INSERT INTO journal (number, id, time, entry) VALUES (9, '1', 'x', '{}')", 9),
        ("PRAGMA foreign_keys = off; DELETE FROM journal WHERE number = 3", 3),
    ];
    for (change, line) in changes {
        let folder = tempfile::tempdir().unwrap();
        let store = Database::open(folder.path()).unwrap();
        for detail in ["one", "two", "three"] {
            store.write_down(&outcome(detail)).unwrap();
        }
        let before = store.chain().unwrap();
        assert_eq!((before.lines, before.broken_at), (3, None));
        assert!(store.check().unwrap().is_empty());
        store.connection.execute_batch(change).unwrap();
        assert_eq!(store.check().unwrap(), [StoreFinding::Chain(line)], "{change}");
    }
}

#[test]
fn a_store_from_before_the_chain_gets_one_and_goes_on() {
    let folder = tempfile::tempdir().unwrap();
    let store = Database::open(folder.path()).unwrap();
    store.write_down(&outcome("one")).unwrap();
    store.write_down(&outcome("two")).unwrap();
    let whole = store.chain().unwrap();
    store.connection.execute_batch("DROP TABLE chain; PRAGMA user_version = 2").unwrap();
    drop(store);
    let store = Database::open(folder.path()).unwrap();
    assert_eq!(store.chain().unwrap(), whole);
    store.together(|store| store.write_down(&outcome("three"))).unwrap();
    assert_eq!((store.chain().unwrap().lines, store.check().unwrap()), (3, Vec::new()));
}

#[test]
fn a_content_that_is_another_one_or_missing_is_found() {
    let folder = tempfile::tempdir().unwrap();
    let store = Database::open(folder.path()).unwrap();
    store.keep(&hash(b"x"), b"x").unwrap();
    store.keep(&hash(b"y"), b"y").unwrap();
    assert!(store.check().unwrap().is_empty());
    assert_eq!((store.numbers().unwrap().contents, store.numbers().unwrap().content_bytes), (2, 2));
    store.connection.execute("UPDATE content SET bytes = x'7a' WHERE hash = ?1", params![hash(b"y")]).unwrap();
    assert!(matches!(store.check().unwrap().as_slice(), [StoreFinding::Content(_)]));
}
