use super::*;
use crate::postgres::PostgresStore;
use crate::sqlite::FILE;
use crate::{ChangeOutcome, Event, Keeper};
use lavrin_keys::key::{Fingerprint, PrivateKey};
use lavrin_server::survey::Observation;
use lavrin_server::survey::key_use::{KeyUse, KeyUses};
use lavrin_server::survey::snapshot::{Snapshot, hash};
use lavrin_standin::{DatabaseServer, Stopping};
use rusqlite::{Connection, params};
use std::os::unix::fs::PermissionsExt as _;
use tempfile::TempDir;

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

fn look(host: &str, time: i64, content: &str, keys: SeenKeys, uses: KeyUses) -> HostRecord {
    HostRecord { host: host.to_owned(), time, snapshot: world(content), keys, uses, register: None }
}

/// The file on this machine, opened beside the store.
fn raw(folder: &Path) -> Connection {
    Connection::open(folder.join(FOLDER).join(FILE)).unwrap()
}

/// A register with a store of one kind or the other.
struct Place {
    folder: TempDir,
    server: Option<DatabaseServer>,
}

impl Place {
    fn sqlite() -> Self {
        Self { folder: tempfile::tempdir().unwrap(), server: None }
    }

    fn postgres() -> Self {
        let server = DatabaseServer::start(&[]).expect("PostgreSQL is installed");
        server.run("postgres", "CREATE DATABASE lights").unwrap();
        assert_eq!(set_up(&server.url("postgres", "lights")).unwrap(), (0, 1));
        server.run("lights", "CREATE ROLE edda LOGIN IN ROLE lavrin_administrator").unwrap();
        server.run("lights", "CREATE ROLE gull LOGIN IN ROLE lavrin_collector").unwrap();
        server.run("lights", "CREATE ROLE auditor LOGIN IN ROLE lavrin_reader").unwrap();
        let place = Self { folder: tempfile::tempdir().unwrap(), server: Some(server) };
        place.use_login("edda");
        place
    }

    fn use_login(&self, login: &str) {
        let url = self.server().url(login, "lights");
        std::fs::write(self.folder.path().join("lavrin.toml"), format!("name = \"x\"\n[store]\nurl = \"{url}\"\n"))
            .unwrap();
        agree(self.folder.path(), Some(&url)).unwrap();
    }

    fn server(&self) -> &DatabaseServer {
        self.server.as_ref().expect("a place with a server")
    }

    fn open(&self) -> Database {
        Database::open(self.folder.path()).unwrap()
    }
}

/// What every store does alike.
macro_rules! alike {
    ($($name:ident),* $(,)?) => {
        mod in_a_file {
            $(#[test] fn $name() { super::$name(&super::Place::sqlite()); })*
        }
        mod in_postgresql {
            $(#[test] #[ignore = "starts a real PostgreSQL"] fn $name() { super::$name(&super::Place::postgres()); })*
        }
    };
}

alike!(
    entries_of_an_account_that_was_not_read_are_not_gone,
    an_unchanged_host_costs_no_row,
    what_was_in_force_at_a_time_is_found_again,
    a_host_that_fails_keeps_what_was_seen_of_it,
    several_things_are_written_together_or_not_at_all,
    the_journal_reads_back_in_order,
    a_backup_is_found_under_its_hash,
    a_look_that_comes_late_changes_nothing_that_is_newer,
    a_host_gets_another_name,
    reports_and_days_are_told,
    many_hosts_at_once_are_kept_each_as_it_is,
    what_is_old_is_taken_out_and_no_more,
    only_one_at_a_time_holds_a_host,
);

/// Rows of content, observations, looks and sightings.
fn counts(store: &Database) -> [usize; 4] {
    let numbers = store.numbers().unwrap();
    [numbers.contents, numbers.observations, numbers.hosts, numbers.sightings]
}

fn entries_of_an_account_that_was_not_read_are_not_gone(place: &Place) {
    let store = place.open();
    store.record(look("lantern", 10, "a", keys(&[entry(1)]), KeyUses::default())).unwrap();
    let unread = SeenKeys { unread: ["edda".to_owned(), "sten".to_owned()].into(), ..SeenKeys::default() };
    let recorded = store.record(look("lantern", 20, "b", unread, KeyUses::default())).unwrap();
    assert_eq!(recorded, Recorded { changed: true, kept: vec!["edda".to_owned()] });
    assert_eq!(store.sightings().unwrap()[0].gone, None);
    store.record(look("lantern", 30, "c", keys(&[]), KeyUses::default())).unwrap();
    assert_eq!(store.sightings().unwrap()[0].gone, Some(30));
}

fn an_unchanged_host_costs_no_row(place: &Place) {
    let store = place.open();
    for time in [10, 20, 30] {
        store.record(look("lantern", time, "a", keys(&[entry(1)]), KeyUses::default())).unwrap();
    }
    assert_eq!(counts(&store), [2, 1, 1, 1]);
    // Another host with the same files shares everything but the note that it was seen.
    store.record(look("skerry", 30, "a", keys(&[entry(1)]), KeyUses::default())).unwrap();
    assert_eq!(counts(&store), [2, 2, 2, 2]);
    let found = store.observation_at("lantern", 99).unwrap().unwrap();
    assert_eq!((found.first, found.last), (10, 30));
    drop(store);
    assert_eq!(counts(&place.open()), [2, 2, 2, 2]);
}

fn what_was_in_force_at_a_time_is_found_again(place: &Place) {
    let store = place.open();
    let uses = KeyUses { since: Some(1), last: [(("edda".to_owned(), key(1)), used(15))].into() };
    store.record(look("lantern", 10, "a", keys(&[entry(1)]), uses)).unwrap();
    store.record(look("lantern", 20, "b", keys(&[entry(1), entry(2)]), KeyUses::default())).unwrap();
    store.record(look("lantern", 30, "a", keys(&[entry(1)]), KeyUses::default())).unwrap();
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

fn a_host_that_fails_keeps_what_was_seen_of_it(place: &Place) {
    let store = place.open();
    store.record(look("lantern", 10, "a", keys(&[]), KeyUses { since: Some(3), ..KeyUses::default() })).unwrap();
    store.record_fault("lantern", 20, "no answer").unwrap();
    store.record_fault("skerry", 20, "no answer").unwrap();
    let looks = store.looks().unwrap();
    assert_eq!((looks[0].tried, looks[0].seen, looks[0].logs_since), (20, Some(10), Some(3)));
    assert_eq!((looks[1].seen, looks[1].fault.as_deref()), (None, Some("no answer")));
    let named = |hosts: &[&str]| {
        store.looks_at(hosts).unwrap().into_iter().map(|look| (look.host, look.tried, look.seen)).collect::<Vec<_>>()
    };
    let of = |look: &Look| (look.host.clone(), look.tried, look.seen);
    assert_eq!(named(&["skerry", "lantern", "skerry", "nowhere"]), [of(&looks[0]), of(&looks[1])]);
    assert_eq!((named(&["skerry"]), named(&["nowhere"]), named(&[])), (vec![of(&looks[1])], Vec::new(), Vec::new()));
    assert!(store.observation_at("lantern", 30).unwrap().is_some());
}

fn several_things_are_written_together_or_not_at_all(place: &Place) {
    let store = place.open();
    let failed: Result<(), _> = store.together(|store| {
        store.keep(&hash(b"x"), b"x")?;
        Err(DatabaseFault::Busy { place: String::new() })
    });
    assert!(failed.is_err());
    let entry = outcome("kept together");
    let failed: Result<(), _> = store.together(|store| {
        store.write_down(&entry)?;
        Err(DatabaseFault::Busy { place: String::new() })
    });
    assert!(failed.is_err() && store.journal().unwrap().is_empty());
    store.together(|store| store.keep(&hash(b"x"), b"x")).unwrap();
    assert_eq!(store.content(&hash(b"x")).unwrap().as_deref(), Some(&b"x"[..]));
}

fn the_journal_reads_back_in_order(place: &Place) {
    let store = place.open();
    let entries = ["one", "two"].map(outcome);
    for entry in &entries {
        store.write_down(entry).unwrap();
    }
    assert_eq!(store.journal().unwrap(), entries);
    assert_eq!((store.chain().unwrap().lines, store.chain().unwrap().broken_at), (2, None));
    assert_eq!(store.check().unwrap(), []);
}

fn a_backup_is_found_under_its_hash(place: &Place) {
    let store = place.open();
    let keeper: &dyn Keeper = &store;
    let name = keeper.back_up(b"old\n").unwrap();
    assert_eq!(keeper.back_up(b"old\n").unwrap(), name);
    assert_eq!(name, hash(b"old\n").iter().map(|byte| format!("{byte:02x}")).collect::<String>());
    assert_eq!(store.content(&hash(b"old\n")).unwrap().as_deref(), Some(&b"old\n"[..]));
    assert_eq!(store.numbers().unwrap().contents, 1);
}

#[test]
fn a_damaged_foreign_or_newer_store_is_told_and_left_as_it_is() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join(FOLDER).join(FILE);
    assert!(Database::open_existing(folder.path()).unwrap().is_none());
    drop(Database::open(folder.path()).unwrap());
    let change = |sql: &str| Connection::open(&path).unwrap().execute_batch(sql).unwrap();
    change("PRAGMA user_version = 5");
    assert!(matches!(Database::open(folder.path()), Err(DatabaseFault::Newer { found: 5, .. })));
    // One of the first form gets what was added since.
    change(
        "PRAGMA user_version = 1; DROP TABLE report; DROP TABLE chain; DROP TABLE look_commit;
        DROP TABLE observation_commit; DROP TABLE pruned",
    );
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
    raw(folder.path()).execute("UPDATE content SET bytes = x'00'", []).unwrap();
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
        raw(folder.path()).execute_batch(planted).unwrap();
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
    JournalEntry::new("1", "2026-11-23T08:00:00Z", event)
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
        raw(folder.path()).execute_batch(change).unwrap();
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
    raw(folder.path())
        .execute_batch(
            "DROP TABLE chain; DROP TABLE look_commit; DROP TABLE observation_commit; DROP TABLE pruned; PRAGMA user_version = 2",
        )
        .unwrap();
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
    raw(folder.path()).execute("UPDATE content SET bytes = x'7a' WHERE hash = ?1", params![hash(b"y")]).unwrap();
    assert!(matches!(store.check().unwrap().as_slice(), [StoreFinding::Content(_)]));
}

fn a_look_that_comes_late_changes_nothing_that_is_newer(place: &Place) {
    let store = place.open();
    let one = |time, content, entries: &[Sighted]| look("lantern", time, content, keys(entries), KeyUses::default());
    store.record(one(10, "a", &[entry(1)])).unwrap();
    store.record(one(30, "c", &[entry(3)])).unwrap();
    let before = (store.looks().unwrap(), store.sightings().unwrap());
    for _ in 0..2 {
        assert!(store.record(one(20, "b", &[entry(2)])).unwrap().changed);
        store.record_fault("lantern", 25, "no answer").unwrap();
    }
    assert_eq!((store.looks().unwrap(), store.sightings().unwrap()), before);
    let at = |time| store.observation_at("lantern", time).unwrap().unwrap().document;
    assert_eq!([at(15), at(25), at(40)], [world("a").document, world("b").document, world("c").document]);
    assert_eq!(store.numbers().unwrap().observations, 3);
}

fn a_host_gets_another_name(place: &Place) {
    let store = place.open();
    let uses = KeyUses { since: Some(1), last: [(("edda".to_owned(), key(1)), used(15))].into() };
    let mut first = look("lantern", 10, "a", keys(&[entry(1)]), uses);
    first.register = Some("1".repeat(40));
    store.record(first).unwrap();
    store.record(look("lantern", 20, "b", keys(&[entry(1)]), KeyUses::default())).unwrap();
    store.rename_host("lantern", "skerry").unwrap();
    assert_eq!(store.looks().unwrap().into_iter().map(|look| look.host).collect::<Vec<_>>(), ["skerry"]);
    assert_eq!(store.observation_at("skerry", 15).unwrap().unwrap().last, 10);
    assert_eq!(store.observation_at("lantern", 15).unwrap(), None);
    assert!(store.sightings_on("skerry").unwrap()[0].used.is_some());
}

fn reports_and_days_are_told(place: &Place) {
    let store = place.open();
    store.note_report(7, "lights", "{\"a\":1}").unwrap();
    store.note_report(9, "lights", "{}").unwrap();
    assert_eq!(store.reports("lights", 9).unwrap(), [(7, "{\"a\":1}".to_owned())]);
    store.note_instead(11, "lights", "x").unwrap();
    assert_eq!(store.reports("lights", 99).unwrap(), [(11, "x".to_owned())]);
    let day = 86_400;
    store.record(look("lantern", day, "a", keys(&[entry(1), entry(2)]), KeyUses::default())).unwrap();
    store.record(look("lantern", 3 * day, "b", keys(&[entry(2), entry(3)]), KeyUses::default())).unwrap();
    let days: Vec<_> =
        store.changes(0, 9 * day).unwrap().into_iter().map(|one| (one.day, one.came, one.gone)).collect();
    assert_eq!(days, [("1970-01-02".to_owned(), 2, 0), ("1970-01-04".to_owned(), 1, 1)]);
    assert_eq!(store.first_seen().unwrap()[&key(2)], day);
    assert_eq!(store.seen_hosts().unwrap().newest, Some(3 * day));
}

fn many_hosts_at_once_are_kept_each_as_it_is(place: &Place) {
    let store = place.open();
    let name = |number: usize| format!("buoy-{number:03}");
    let all = |time: i64, changed: usize| -> Vec<HostRecord> {
        let one = |number: usize| {
            let content = if number < changed { format!("new {number}") } else { format!("old {}", number % 7) };
            look(
                &name(number),
                time,
                &content,
                keys(&[entry(u8::try_from(number % 9).unwrap() + 1)]),
                KeyUses::default(),
            )
        };
        (0..200).rev().map(one).collect()
    };
    assert!(store.record_all(all(10, 0)).unwrap().iter().all(|recorded| recorded.changed));
    // The same host twice in one batch: the second look counts.
    let mut second = all(20, 3);
    second.push(look(&name(0), 21, "newest", keys(&[]), KeyUses::default()));
    let changed: Vec<bool> = store.record_all(second).unwrap().into_iter().map(|recorded| recorded.changed).collect();
    assert_eq!(changed.iter().filter(|changed| **changed).count(), 4);
    assert!(!changed[0] && changed[199] && changed[200]);
    let hosts: Vec<String> = (0..200).map(name).collect();
    let hosts: Vec<&str> = hosts.iter().map(String::as_str).collect();
    let mut asked = hosts.clone();
    asked.insert(1, "nowhere");
    let now = store.observations_at(&asked, i64::MAX).unwrap();
    assert_eq!(now[0].as_ref().unwrap().document, world("newest").document);
    assert!(now[1].is_none());
    assert_eq!(now[2].as_ref().map(|one| (one.host.as_str(), one.first, one.last)), Some(("buoy-001", 20, 20)));
    assert_eq!(now[200].as_ref().map(|one| (one.first, one.last)), Some((10, 20)));
    let then = store.observations_at(&hosts, 15).unwrap();
    assert!(then.iter().flatten().all(|one| one.first == 10) && then.len() == 200);
    assert_eq!(store.sightings().unwrap().iter().filter(|seen| seen.gone.is_some()).count(), 1);
    assert_eq!(store.check().unwrap(), []);
}

#[test]
#[ignore = "starts a real PostgreSQL"]
fn everything_in_a_new_store_is_known() {
    let place = Place::postgres();
    let store = PostgresStore::open(&place.server().url("edda", "lights")).unwrap();
    let found = store.objects().unwrap().join("\n") + "\n";
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("src/postgres/objects.txt");
    if std::env::var_os("LAVRIN_WRITE_SCHEMAS").is_some() {
        std::fs::write(&path, &found).unwrap();
    }
    assert_eq!(found, std::fs::read_to_string(&path).unwrap(), "LAVRIN_WRITE_SCHEMAS=1 writes the file");
}

fn what_is_old_is_taken_out_and_no_more(place: &Place) {
    if place.server.is_some() {
        place.use_login("postgres");
    }
    let store = place.open();
    for (time, content, entries) in [
        (10, "a", vec![entry(1)]),
        (20, "b", vec![]),
        (30, "c", vec![entry(1)]),
        (40, "d", vec![]),
        (50, "e", vec![entry(1)]),
    ] {
        store.record(look("lantern", time, content, keys(&entries), KeyUses::default())).unwrap();
    }
    // The journal names one of the contents that would go.
    let name: String = hash(b"c").iter().map(|byte| format!("{byte:02x}")).collect();
    let files = vec![("/home/edda/.ssh/authorized_keys".to_owned(), Some(name))];
    let event = Event::Intent {
        command: "install".to_owned(),
        place: "lantern".to_owned(),
        account: "edda".to_owned(),
        login: None,
        key: None,
        files,
        reason: None,
        run: None,
        came: Vec::new(),
        gone: Vec::new(),
        changes: Vec::new(),
    };
    store.write_down(&JournalEntry::new("1", "2026-11-23T08:00:00Z", event)).unwrap();
    let before = store.numbers().unwrap();
    let would = store.prune(45, 60, true).unwrap();
    // A database does not get smaller at once.
    assert_eq!(StoreNumbers { bytes: before.bytes, ..store.numbers().unwrap() }, before);
    let gone = store.prune(45, 60, false).unwrap();
    assert_eq!(gone, would);
    // Of the observations b, c and d go with the documents of all three and the contents of b and d; of the sightings the middle one.
    assert_eq!((gone.observations, gone.sightings, gone.contents), (3, 1, 5));
    let after = store.numbers().unwrap();
    assert_eq!((after.observations, after.sightings, after.journal, after.pruned), (2, 2, 1, Some(45)));
    assert_eq!(store.content(&hash(b"c")).unwrap().as_deref(), Some(&b"c"[..]));
    // What was taken out is not known; what was seen itself is.
    let at = |time| store.observation_at("lantern", time).unwrap().map(|one| one.first);
    assert_eq!([at(10), at(15), at(35), at(47), at(50), at(99)], [Some(10), None, None, None, Some(50), Some(50)]);
    assert_eq!(store.check().unwrap(), []);
}

fn only_one_at_a_time_holds_a_host(place: &Place) {
    let (one, other) = (place.open(), place.open());
    assert_eq!(Keeper::hold(&one, "lantern", 7).unwrap(), HostHold::Own);
    assert_eq!(Keeper::hold(&one, "skerry", 8).unwrap(), HostHold::Own);
    let HostHold::Other(Some((who, since))) = Keeper::hold(&other, "lantern", 9).unwrap() else { panic!("it is held") };
    assert!(who.contains('@') && since == 7, "{who} {since}");
    one.let_go("lantern");
    assert_eq!(Keeper::hold(&other, "lantern", 10).unwrap(), HostHold::Own);
    // Who ends lets everything go.
    drop(one);
    let begun = std::time::Instant::now();
    while Keeper::hold(&other, "skerry", 11).unwrap() != HostHold::Own {
        assert!(begun.elapsed().as_secs() < 20, "it is held by somebody who ended");
        std::thread::yield_now();
    }
}

#[test]
#[ignore = "starts a real PostgreSQL"]
fn no_host_is_taken_by_two_collectors() {
    let place = Place::postgres();
    place.use_login("gull");
    let names: Vec<String> = (0..300).map(|number| format!("buoy-{number:03}")).collect();
    let hosts: Vec<HostToCollect<'_>> = names.iter().map(|host| HostToCollect { host, site: None }).collect();
    place.open().put_work(&hosts, 10).unwrap();
    let all_open = std::sync::Barrier::new(4);
    let taken: Vec<Vec<String>> = std::thread::scope(|scope| {
        let collect = |number: usize| {
            let (place, all_open) = (&place, &all_open);
            move || {
                let (store, me) = (place.open(), format!("collector {number}"));
                all_open.wait();
                let mut own = Vec::new();
                loop {
                    let some = store.take_work(&me, &[], 7, 10, 60).unwrap();
                    if some.is_empty() {
                        return own;
                    }
                    own.extend(some.into_iter().map(|due| due.host));
                }
            }
        };
        let all: Vec<_> = (0..4).map(|number| scope.spawn(collect(number))).collect();
        all.into_iter().map(|one| one.join().unwrap()).collect()
    });
    let mut all: Vec<String> = taken.concat();
    all.sort_unstable();
    assert_eq!(all, names);
    assert!(taken.iter().filter(|own| !own.is_empty()).count() > 1, "only one of them took anything");
    // One who lost the lease ends nothing that another one has taken since.
    let store = place.open();
    assert_eq!(store.take_work("later", &[], 1000, 100, 60).unwrap().len(), 300);
    store.end_work("collector 0", &["buoy-000"], 0, 10).unwrap();
    assert!(store.take_work("third", &[], 1000, 120, 60).unwrap().is_empty());
    store.end_work("later", &["buoy-000"], 110, 100).unwrap();
    assert_eq!(store.take_work("third", &[], 1000, 120, 60).unwrap().len(), 1);
}

#[test]
#[ignore = "starts a real PostgreSQL"]
fn how_a_change_ended_waits_until_the_store_is_back_and_is_there_once() {
    let mut place = Place::postgres();
    let store = place.open();
    store.write_down(&outcome("before")).unwrap();
    let server = place.server.as_mut().unwrap();
    server.stop(Stopping::Immediate).unwrap();
    Keeper::write_outcomes(&store, &[outcome("meanwhile")]).unwrap();
    assert_eq!(store.waiting().unwrap(), 1);
    // What would be begun is not: nobody could take it back.
    let refused = Keeper::at_once(&store, &mut |keeper| keeper.back_up(b"old").map(drop)).unwrap_err();
    assert!(refused.to_string().contains("does not answer"), "{refused}");
    let looked = look("lantern", 10, "a", keys(&[entry(1)]), KeyUses::default());
    store.record(looked.clone()).unwrap();
    store.record_fault("skerry", 11, "no answer").unwrap();
    assert_eq!(store.waiting().unwrap(), 3);
    // As if the line had broken after everything had arrived.
    let spool = desk::folder_of(place.folder.path()).unwrap().join("spool");
    let kept: Vec<(PathBuf, Vec<u8>)> = std::fs::read_dir(&spool)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .map(|path| (path.clone(), std::fs::read(path).unwrap()))
        .collect();
    std::fs::write(spool.join("00000000000000000000-0.json"), "{\"kind\":").unwrap();
    place.server.as_mut().unwrap().begin().unwrap();
    for _ in 0..2 {
        let again = place.open();
        assert_eq!(again.waiting().unwrap(), 0);
        assert_eq!(again.journal().unwrap(), [outcome("before"), outcome("meanwhile")]);
        assert_eq!(counts(&again), [2, 1, 2, 1]);
        assert_eq!(again.check().unwrap(), []);
        for (path, bytes) in &kept {
            std::fs::write(path, bytes).unwrap();
        }
    }
    // What does not read is put aside, and told by its name.
    assert!(spool.join("00000000000000000000-0.damaged").exists());
}
