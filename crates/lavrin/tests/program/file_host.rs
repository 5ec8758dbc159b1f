//! Hosts that give nothing but files: every command, and everything that goes wrong with them.

use crate::common::fleet::{Fleet, assert_fifty, fault_of_the_line};
use crate::common::{Run, key};
use lavrin_server::device::{GroupPlace, KeyForm, KeyLineEnds, KeyPlaces};
use lavrin_standin::{Behaviour, FileHost, FileHostKnobs, StoredFile};
use std::time::Duration;

const SIGN_IN: &str = "--identity home/office";
const KEYS: &str = "/home/root/.ssh/authorized_keys";

fn line(seed: u8, comment: &str) -> String {
    key(seed).public().line(comment)
}

/// The office and sten may enter the account root of each host, edda no more.
fn fleet() -> Fleet {
    Fleet::with_people("root", "")
}

fn host(text: &str, knobs: FileHostKnobs) -> FileHost {
    host_at(text, KeyPlaces::default(), knobs)
}

fn host_at(text: &str, places: KeyPlaces, knobs: FileHostKnobs) -> FileHost {
    let files = vec![
        ("/", StoredFile::folder(0, 0o755)),
        ("/home", StoredFile::folder(0, 0o755)),
        ("/home/root", StoredFile::folder(1000, 0o755)),
        ("/home/root/.ssh", StoredFile::folder(1000, 0o700)),
        (KEYS, StoredFile::file(1000, 0o640, text)),
    ];
    FileHost::new(files, places, knobs)
}

fn text(host: &FileHost, path: &str) -> String {
    String::from_utf8(host.file(path).unwrap().bytes.unwrap()).unwrap()
}

fn enforce(fleet: &Fleet, more: &str) -> Run {
    fleet.run(&format!("enforce {SIGN_IN} --yes {more}"))
}

#[test]
fn a_file_of_keys_is_brought_into_line_and_back_and_keeps_every_other_byte() {
    let mut fleet = fleet();
    let old = format!("# lamps\r\n{}\n\n{}\n# odd\n{}", line(1, "office"), line(7, "a stranger"), line(2, "edda"));
    let host =
        fleet.add_file_host("shelf", host(&old, FileHostKnobs::default()), "[\"root\"]", "", Behaviour::default());
    let seen = fleet.survey("").expect(0);
    assert!(seen.stdout.contains("1 account, 3 entries"), "{seen}");
    drop(enforce(&fleet, "").expect(0));
    let new =
        format!("# lamps\r\n{}\n\n{}\n# odd\n{}\n", line(1, "office"), line(7, "a stranger"), line(3, "sten@lantern"));
    assert_eq!(text(&host, KEYS), new);
    let kept = host.file(KEYS).unwrap();
    assert_eq!(
        (kept.mode, kept.user, host.names().len()),
        (0o640, 1000, 5),
        "mode and owner stay, and nothing is left behind"
    );
    let audited = fleet.run("audit").expect(3);
    assert!(
        audited.stdout.contains("/home/root/.ssh/authorized_keys") && audited.stdout.contains("access list"),
        "{audited}"
    );
    assert!(audited.stdout.contains("mode-wider-than-policy") && audited.stdout.contains("unknown-key"), "{audited}");
    drop(fleet.run(&format!("undo --last --yes --accept-lockout {SIGN_IN}")).expect(0));
    assert_eq!(host.keys_in(KEYS), 3);
    fleet.world.put_pair("sten", 3, "sten@lantern");
    drop(fleet.run(&format!("install home/sten.pub root@shelf --yes {SIGN_IN}")).expect(0));
    drop(fleet.run(&format!("probe sten shelf --until accepted {SIGN_IN}")).expect(0));
    let own = fleet.run(&format!("remove home/office.pub root@shelf --yes {SIGN_IN}")).expect(4);
    assert!(own.stderr.contains("key that this login uses"), "{own}");
    let gone = fleet.run(&format!("offboard sten --yes {SIGN_IN}")).expect(0);
    assert!(!text(&host, KEYS).contains("sten"), "{gone}");
}

#[test]
fn blocks_and_their_line_ends_are_written_as_the_host_reads_them() {
    let mut fleet = fleet();
    let places = KeyPlaces { form: KeyForm::Blocks, line_ends: KeyLineEnds::CrLf, ..KeyPlaces::default() };
    let knobs = FileHostKnobs { needs_cr_lf: true, ..FileHostKnobs::default() };
    let own = fleet.world.typed("key convert home/office.pub --to rfc4716 --line-ends crlf").expect(0).stdout;
    let host = host_at(&own, places, knobs);
    let lines = "keys_form = \"blocks\"\nline_ends = \"crlf\"\n";
    let host = fleet.add_file_host("shelf", host, "[\"root\"]", lines, Behaviour::default());
    drop(enforce(&fleet, "").expect(0));
    let text = text(&host, KEYS);
    assert!(text.starts_with(&own) && text.matches("\r\n").count() == text.matches('\n').count(), "{text}");
    assert_eq!(host.keys_in(KEYS), 2);
    // No block can say what a line can.
    let access = fleet.world.read("access.toml") + "from = \"127.0.0.1\"\n";
    fleet.world.write("access.toml", access, 0o644);
    let refused = enforce(&fleet, "").expect(4);
    assert!(refused.stdout.contains("options"), "{refused}");
    // By a profile of its own, a host that reads line ends of another kind takes no key: that is seen, and taken back.
    let path = "hosts/shelf.toml";
    fleet.world.write("access.toml", fleet.world.read("access.toml").replace("from = \"127.0.0.1\"\n", ""), 0o644);
    fleet.world.write(path, fleet.world.read(path).replace("crlf", "lf"), 0o644);
    drop(fleet.run(&format!("remove people/sten.toml root@shelf --yes {SIGN_IN}")));
    fleet.world.put_pair("liv", 8, "liv@lantern");
    let unproven = fleet.run(&format!("install home/liv.pub root@shelf --yes {SIGN_IN}")).expect(4);
    assert!(unproven.stderr.contains("as it was") || unproven.stdout.contains("as it was"), "{unproven}");
    assert_eq!(self::text(&host, KEYS), text, "{unproven}");
}

#[test]
fn keys_are_at_the_places_that_the_register_names() {
    let mut fleet = fleet();
    let (group, file) = ("keepers".to_owned(), "/shared/keepers".to_owned());
    let of_groups = vec![GroupPlace { group, file, members: vec!["liv".to_owned(), "runa".to_owned()] }];
    let places = KeyPlaces { file: Some("/keys/%u".to_owned()), of_groups, ..KeyPlaces::default() };
    let files = vec![
        ("/", StoredFile::folder(0, 0o755)),
        ("/home/root", StoredFile::folder(0, 0o755)),
        ("/keys", StoredFile::folder(0, 0o755)),
        ("/keys/root", StoredFile::file(0, 0o644, &(line(1, "office") + "\n"))),
        ("/keys/edda", StoredFile::file(0, 0o644, &(line(2, "edda") + "\n"))),
        ("/shared", StoredFile::folder(0, 0o755)),
        ("/shared/keepers", StoredFile::file(0, 0o644, "")),
    ];
    let host = FileHost::new(files, places, FileHostKnobs::default());
    let lines = "keys_file = \"/keys/%u\"\nkeys_file_of_groups = { keepers = \"/shared/keepers\" }\nmembers = { keepers = [\"liv\", \"runa\"] }\n";
    let host =
        fleet.add_file_host("shelf", host, "[\"root\", \"edda\", \"liv\", \"runa\"]", lines, Behaviour::default());
    let grants: String = ["edda", "liv", "runa"]
        .iter()
        .map(|account| format!("[[grant]]\nperson = \"sten\"\naccount = \"{account}\"\nhosts = [\"*\"]\n"))
        .collect();
    fleet.world.write("access.toml", fleet.world.read("access.toml") + &grants, 0o644);
    let run = enforce(&fleet, "");
    assert_eq!(
        [host.keys_in("/keys/root"), host.keys_in("/keys/edda"), host.keys_in("/shared/keepers")],
        [2, 1, 1],
        "{run}"
    );
    assert!(text(&host, "/keys/edda").contains("sten"));
    let again = fleet.run("compare shelf").expect(0);
    assert!(!again.stdout.contains("missing"), "{again}");
}

#[test]
fn where_somebody_else_decides_what_a_name_means_nothing_is_read_or_written() {
    let mut fleet = fleet();
    let places = KeyPlaces { file: Some("/home/%u/.ssh/authorized_keys".to_owned()), ..KeyPlaces::default() };
    let make = |change: &dyn Fn(&FileHost)| {
        let files = vec![
            ("/", StoredFile::folder(0, 0o755)),
            ("/home", StoredFile::folder(0, 0o755)),
            ("/home/root", StoredFile::folder(0, 0o755)),
            ("/home/root/.ssh", StoredFile::folder(0, 0o700)),
            (KEYS, StoredFile::file(0, 0o600, &(line(1, "office") + "\n"))),
            ("/home/edda", StoredFile::folder(0, 0o755)),
            ("/home/edda/.ssh", StoredFile::folder(0, 0o700)),
            ("/home/edda/.ssh/authorized_keys", StoredFile::file(0, 0o600, "secret of root\n")),
        ];
        let host = FileHost::new(files, places.clone(), FileHostKnobs::default());
        change(&host);
        host
    };
    let grant = "[[grant]]\nperson = \"sten\"\naccount = \"edda\"\nhosts = [\"*\"]\n";
    fleet.world.write("access.toml", fleet.world.read("access.toml") + grant, 0o644);
    let lines = "keys_file = \"/home/%u/.ssh/authorized_keys\"\n";
    let (managed, usual) = ("[\"edda\"]", Behaviour::default);
    let good = fleet.add_file_host("a-good", make(&|_| ()), managed, lines, usual());
    let is_others = make(&|host| host.put("/home/edda", StoredFile::folder(1001, 0o755)));
    let is_others = fleet.add_file_host("b-others", is_others, managed, lines, usual());
    let is_open = make(&|host| host.put("/home/edda/.ssh", StoredFile::folder(0, 0o777)));
    let is_open = fleet.add_file_host("c-open", is_open, managed, lines, usual());
    let link = |path: &'static str| {
        move |host: &FileHost| host.put(path, StoredFile { is_link: true, ..StoredFile::folder(0, 0o755) })
    };
    let folder = fleet.add_file_host("d-folder", make(&link("/home/edda/.ssh")), managed, lines, usual());
    let file = make(&|host| {
        host.put(
            "/home/edda/.ssh/authorized_keys",
            StoredFile { is_link: true, ..StoredFile::file(0, 0o600, "secret of root\n") },
        );
    });
    let file = fleet.add_file_host("e-file", file, managed, lines, usual());
    let before: Vec<_> = [&is_others, &is_open, &folder, &file].iter().map(|host| host.names()).collect();
    let run = enforce(&fleet, "").expect(4);
    assert!(text(&good, "/home/edda/.ssh/authorized_keys").contains("sten"), "{run}");
    let after: Vec<_> = [&is_others, &is_open, &folder, &file].iter().map(|host| host.names()).collect();
    assert_eq!(before, after);
    for host in [&is_others, &is_open, &file] {
        assert_eq!(text(host, "/home/edda/.ssh/authorized_keys"), "secret of root\n");
    }
    let json = fleet.run("compare --format json").expect(3).stdout;
    assert!(!json.contains("secret of root"), "{json}");
}

#[test]
fn without_a_rename_that_replaces_there_is_a_readable_file_at_every_moment() {
    let mut fleet = fleet();
    let plain = FileHostKnobs { has_posix_rename: false, ..FileHostKnobs::default() };
    let all = [
        FileHostKnobs { renames_over: true, ..plain.clone() },
        plain.clone(),
        FileHostKnobs { refuses_cuts: true, ..plain.clone() },
        FileHostKnobs { refuses_modes: true, hides_modes: true, ..plain },
    ];
    let old = format!("{}\n{}\n# end\n", line(2, "edda who leaves and whose line is long"), line(1, "office"));
    let hosts: Vec<_> = (0..)
        .zip(all)
        .map(|(number, knobs)| {
            fleet.add_file_host(&format!("h{number}"), host(&old, knobs), "[\"root\"]", "", Behaviour::default())
        })
        .collect();
    let run = enforce(&fleet, "").expect(0);
    for host in &hosts {
        // One that cannot cut files leaves blank lines.
        let text: Vec<String> = text(host, KEYS).lines().filter(|line| !line.is_empty()).map(str::to_owned).collect();
        assert_eq!(text, [line(1, "office"), "# end".to_owned(), line(3, "sten@lantern")], "{run}");
        assert_eq!(host.names().len(), 5);
    }
}

#[test]
fn a_change_that_somebody_else_makes_is_not_walked_over_and_what_was_left_behind_is_swept_up() {
    let mut fleet = fleet();
    let old = line(1, "office") + "\n";
    let on_its_way = "/home/root/.ssh/.lavrin-new";
    let make = |age: u32| {
        let host = host(&old, FileHostKnobs::default());
        let file = StoredFile::file(1000, 0o600, "half a fi");
        host.put(on_its_way, StoredFile { modified: file.modified - age, ..file });
        host
    };
    let busy = fleet.add_file_host("a-busy", make(30), "[\"root\"]", "", Behaviour::default());
    let left = fleet.add_file_host("b-left", make(300), "[\"root\"]", "", Behaviour::default());
    let run = enforce(&fleet, "").expect(4);
    assert!(run.stdout.contains("another change is being made there"), "{run}");
    assert_eq!((busy.keys_in(KEYS), left.keys_in(KEYS)), (1, 2), "{run}");
    assert!(busy.file(on_its_way).is_some() && left.file(on_its_way).is_none());
}

/// Fifty hosts with the same fault, each a little later than the one before.
fn fifty(fault: &str, number: usize) -> (FileHostKnobs, Behaviour) {
    let (plain, usual) = (FileHostKnobs::default(), Behaviour::default());
    match fault {
        "silent" => (FileHostKnobs { silent_from: Some(1 + number % 30), ..plain }, usual),
        "breaks off" => (FileHostKnobs { breaks_off_in: Some(1 + number % 30), ..plain }, usual),
        "breaks off in place" => {
            (FileHostKnobs { breaks_off_in: Some(1 + number % 30), has_posix_rename: false, ..plain }, usual)
        }
        "endless" => (FileHostKnobs { endless: true, ..plain }, usual),
        "loses writes" => {
            (FileHostKnobs { loses_writes: true, has_posix_rename: number.is_multiple_of(2), ..plain }, usual)
        }
        "full" => (FileHostKnobs { bytes_max: 60 + number, ..plain }, usual),
        "another version" => (FileHostKnobs { version: [0, 2, 4, 99][number % 4], ..plain }, usual),
        "slow" => (FileHostKnobs { slow: Duration::from_millis(2 * number as u64), ..plain }, usual),
        _ => (plain, fault_of_the_line(fault, 3_000 + 80 * number as u64)),
    }
}

#[test]
#[ignore = "fifty runs of twelve faults take minutes: scripts/test.sh"]
fn fifty_runs_of_every_fault_end_in_time_and_say_what_is_so() {
    let faults = [
        "silent",
        "breaks off",
        "breaks off in place",
        "endless",
        "loses writes",
        "full",
        "another version",
        "slow",
        "cut",
        "cut for good",
        "other host key",
        "silent line",
    ];
    for fault in faults {
        let mut fleet = fleet();
        let old = line(1, "office") + "\n";
        let hosts: Vec<_> = (0..50)
            .map(|number| {
                let (knobs, behaviour) = fifty(fault, number);
                fleet.add_file_host(&format!("h{number:02}"), host(&old, knobs), "[\"root\"]", "", behaviour)
            })
            .collect();
        assert_fifty(&fleet, fault, |number| hosts[number].keys_in(KEYS) == 2);
        for host in &hosts {
            assert!(text(host, KEYS).starts_with(&line(1, "office")), "{fault}: the old key is there");
        }
    }
}
