//! Every key of every file of a register, described; `docs/register.md` is written from it. A test holds it against what the reader
//! asks for: a key that is read and not described fails it, and so does one that is described and not read.

use super::fields::recorded;
use super::{SourceFile, read};
use std::collections::BTreeSet;
use std::fmt::Write as _;

/// A table of a file: its heading, what it is, and its keys with their kind and meaning.
type Table = (&'static str, &'static str, &'static [(&'static str, &'static str, &'static str)]);

const TEXT: &str = "text";
const TEXTS: &str = "text or list";
const DATE: &str = "date";
const FLAG: &str = "true or false";
const NUMBER: &str = "number";
const LINES: &str = "table with `send` and `says`";

const KEY: Table = (
    "people/NAME.toml: [[key]]",
    "One for each key of the person.",
    &[
        ("line", TEXT, "the public key, as in a key file; needed"),
        ("label", TEXT, "what its owner calls it (`main`)"),
        ("purpose", TEXT, "`person`, `automation` or `break-glass`"),
        ("added", DATE, "since when it is known"),
        ("retired", DATE, "from this day on it is not used any more"),
        ("replaces", TEXT, "the label of the key that it takes the place of, until that one is retired"),
    ],
);

const TABLES: &[Table] = &[
    (
        "lavrin.toml",
        "The register itself. A folder with this file is a register.",
        &[
            ("name", TEXT, "what it is called; needed"),
            ("policy", "table", "what is asked beyond what servers ask; below"),
            ("defaults", "table", "what holds where an option is not typed; below"),
            ("kept", "table", "kept keys; below"),
            ("store", "table", "where is kept what commands remember; below"),
            ("exception", "tables", "findings that may stay for a while; below"),
        ],
    ),
    (
        "lavrin.toml: [store]",
        "",
        &[
            (
                "journal",
                TEXT,
                "`desk`: on the desk of whoever makes a change (what holds without it); `register`: in the register too (journal/, contents/), so that version control carries it",
            ),
            (
                "url",
                TEXT,
                "the PostgreSQL in which several people keep one memory, as `postgresql://NAME@HOST/DATABASE`, without a password; without it: a file on this machine (docs/office.md)",
            ),
        ],
    ),
    (
        "lavrin.toml: [policy]",
        "",
        &[
            ("algorithms", TEXTS, "the algorithms that keys may have; none named: all sound ones"),
            ("rsa_bits_min", NUMBER, "RSA keys below this are weak (2048)"),
            ("rsa_bits_advised", NUMBER, "RSA keys below this are reported (3072)"),
            ("key_age_days_max", NUMBER, "days after which a key is to be replaced"),
            ("ends_soon_days", NUMBER, "so many days before its end a grant or an entry is reported (14; 0 for never)"),
            (
                "break_glass_hosts",
                TEXTS,
                "hosts or tags that need a key for the day on which nothing else works; `*` for all",
            ),
            ("keys_only", TEXTS, "hosts or tags on which no password opens anything; `*` for all"),
            ("no_way", "tables", "tags that no way over keys on hosts may join: `from`, `to`"),
            ("groups_forbidden", TEXTS, "groups into which no grant puts an account"),
            ("way_back_days_max", NUMBER, "days after which the way back to each host is to be tried again"),
            ("comment", TEXT, "the form of every comment, a pattern such as `*@*`"),
            ("automation_options", TEXTS, "a key for automation needs one of these options"),
            ("severity", "table", "other severities for rules: `rule = \"low\"`, or `\"off\"`"),
        ],
    ),
    ("lavrin.toml: [[policy.no_way]]", "", &[("from", TEXT, "a tag; needed"), ("to", TEXT, "a tag; needed")]),
    (
        "lavrin.toml: [defaults]",
        "What is not typed and not said of the host.",
        &[
            ("login", TEXT, "the account that signs in"),
            ("identity", TEXT, "the file of the key to sign in with"),
            ("root_by", TEXT, "`sudo`, `doas` or `none`"),
            ("parallel", NUMBER, "hosts at the same time (32)"),
            ("host_limit", NUMBER, "seconds for one look at one host (60)"),
        ],
    ),
    ("lavrin.toml: [kept]", "", &[("administrators", TEXTS, "people to whose keys private halves are sealed")]),
    (
        "lavrin.toml: [[exception]]",
        "A finding that is allowed for a while. One that is no longer needed is reported.",
        &[
            ("rule", TEXT, "its name; needed"),
            ("about", TEXT, "a person, a host, or `ACCOUNT@HOST`; needed"),
            ("reason", TEXT, "why; needed"),
            ("until", DATE, "the last day; needed"),
        ],
    ),
    (
        "people/NAME.toml",
        "A person. The name of the file is their name in the register.",
        &[
            ("name", TEXT, "the full name; needed"),
            ("team", TEXT, "the team they belong to"),
            ("since", DATE, "their first day"),
            ("left", DATE, "from this day on nothing is granted to them"),
            ("key", "tables", "their keys"),
        ],
    ),
    KEY,
    (
        "hosts.toml: [NAME], or hosts/NAME.toml",
        "A host. The name of the table, or of the file, is its name in the register.",
        &[
            ("address", TEXT, "name or address at which it is reached (its name)"),
            ("port", NUMBER, "the port of its server (22; NETCONF: 830)"),
            ("reach", TEXT, "`shell`, `netconf`, `publickey-subsystem`, `sftp` or `dialogue` ([devices](devices.md))"),
            ("host_keys", TEXTS, "the public keys by which it proves itself"),
            ("tags", TEXTS, "what it is grouped by"),
            ("site", TEXT, "where the machine is"),
            ("login", TEXT, "the account that signs in (`root`)"),
            ("root_by", TEXT, "how that login gets root's rights: `sudo`, `doas` or `none`"),
            ("through", TEXT, "the host over which it is reached"),
            ("way_back", TEXT, "how somebody gets in when no key opens it any more"),
            ("way_back_tried", DATE, "when that was last tried"),
            ("accounts", TEXTS, "the accounts whose key files are managed"),
            ("leave", TEXTS, "fingerprints of keys without a known owner that stay"),
            ("complete", FLAG, "everybody who may enter is in the register: keys of nobody are removed too"),
            (
                "after_change",
                TEXTS,
                "a program and its arguments that run there after changes, by root where the login has root's rights",
            ),
            ("old_algorithms", FLAG, "it knows nothing but broken algorithms and is spoken to all the same"),
            ("profile", TEXT, "for `dialogue`: the name of a file in profiles/"),
            ("keys_file", TEXT, "for `sftp`: where the keys of an account are; `%u` is its name"),
            ("keys_file_of_groups", "table", "for `sftp`: the file of each group"),
            ("members", "table", "for `sftp`: who is in each of these groups"),
            ("keys_form", TEXT, "for `sftp`: the form of that file"),
            ("line_ends", TEXT, "for `sftp`: `lf` or `crlf`"),
            ("limits", "table", "what it can bear of keys; below"),
            ("key", "tables", "keys that belong to its accounts; below"),
        ],
    ),
    (
        "A host: [NAME.limits]",
        "",
        &[
            ("algorithms", TEXTS, "those that it takes"),
            ("rsa_bits_max", NUMBER, "its largest RSA key"),
            ("keys_max", NUMBER, "most keys of an account"),
            ("line_bytes_max", NUMBER, "longest entry"),
            ("comment_bytes_max", NUMBER, "longest comment"),
            ("first_key_ends_passwords", FLAG, "the first key of an account ends its logins by password"),
        ],
    ),
    (
        "A host: [[NAME.key]]",
        "The keys of [[key]] above, and:",
        &[
            ("account", TEXT, "the account that it belongs to; needed"),
            ("file", TEXT, "where its private half lies there"),
            ("line", TEXT, "the public key; needed"),
            ("label", TEXT, "what it is called (`main`)"),
            ("purpose", TEXT, "`automation` unless it says otherwise"),
            ("added", DATE, "since when it is known"),
            ("retired", DATE, "from this day on it is not used any more"),
            ("replaces", TEXT, "the label of the key that it takes the place of"),
        ],
    ),
    ("access.toml", "Who may use which account.", &[("grant", "tables", "one for each grant")]),
    (
        "access.toml: [[grant]]",
        "Exactly one of `person`, `team` and `machine` says who it is for.",
        &[
            ("person", TEXT, "a person"),
            ("team", TEXT, "everybody of a team"),
            ("machine", TEXT, "`ACCOUNT@HOST`, whose keys stand with the host"),
            ("account", TEXT, "the account; needed"),
            ("hosts", TEXTS, "hosts; `*` for all"),
            ("tags", TEXTS, "all hosts with one of these tags"),
            ("key", TEXT, "only the key with this label, or one that replaces it"),
            ("until", DATE, "until the end of this day"),
            ("from", TEXT, "only from these addresses, as in `from=`"),
            ("command", TEXT, "only this command"),
            ("options", TEXTS, "further options of the entry"),
            ("reason", TEXT, "why"),
            ("create", FLAG, "the account is made where it is not there"),
            ("groups", TEXTS, "with `create`: the groups that it is put into"),
            ("shell", TEXT, "with `create`: its shell"),
            ("home", TEXT, "with `create`: its home"),
        ],
    ),
    (
        "owed.toml",
        "Removals that could not be carried out yet; commands write it.",
        &[("removal", "tables", "one for each")],
    ),
    (
        "owed.toml: [[removal]]",
        "",
        &[
            ("key", TEXT, "the fingerprint; needed"),
            ("person", TEXT, "whose it is"),
            ("account", TEXT, "the account; needed"),
            ("host", TEXT, "the host; needed"),
            ("since", DATE, "since when it is owed"),
        ],
    ),
    (
        "kept/ACCOUNT@HOST.toml",
        "The key of an account that several people use; `lavrin kept` writes it.",
        &[
            ("from", TEXT, "only from these addresses"),
            ("command", TEXT, "only this command"),
            ("options", TEXTS, "further options of the entry"),
            ("key", "tables", "its versions; below"),
            ("hand_out", "tables", "to whom it was given; below"),
        ],
    ),
    (
        "kept: [[key]]",
        "",
        &[
            ("version", NUMBER, "counted from 1; needed"),
            ("line", TEXT, "the public half; needed"),
            ("added", DATE, "when it was made or imported"),
            ("retired", DATE, "since when it opens nothing any more"),
            ("proven", DATE, "when a login last proved it"),
            ("sealed_for", TEXTS, "the people for whom it was sealed"),
        ],
    ),
    (
        "kept: [[hand_out]]",
        "",
        &[
            ("version", NUMBER, "which version; needed"),
            ("person", TEXT, "who got it; needed"),
            ("day", DATE, "when"),
            ("reason", TEXT, "why"),
        ],
    ),
    (
        "profiles/NAME.toml",
        "How to work on a device with a command line of its own ([devices](devices.md)). To be read like a program.",
        &[
            ("prompts", TEXTS, "what stands on the last line when it waits; needed"),
            ("errors", TEXTS, "what a line shows that was refused"),
            ("pager", "table", "`shows`, and what to `send` then"),
            ("line_ends", TEXT, "`lf` or `crlf`"),
            ("patience", NUMBER, "seconds for an answer (10)"),
            ("start", LINES, "what is typed first"),
            ("back", TEXT, "what leaves a level"),
            ("leave", TEXT, "what ends the session"),
            ("list", "table", "how keys are listed; needed; below"),
            ("add", "table", "how a key is added: `send`, `says`, or by a `file`; needed"),
            ("remove", LINES, "how a key is removed; needed"),
            ("save", LINES, "what keeps the changes"),
            ("backup", LINES, "what shows the whole configuration"),
            ("reload", "table", "`arm` and `disarm`: a start that takes everything back, and what calls it off"),
            ("passwords", "table", "how passwords are switched: `show`, `are_off`, `off`, `on`"),
            ("passwords_end_with", TEXT, "what ends logins by password there"),
            ("transfer", "table", "`open` and `close` the service for files"),
        ],
    ),
    ("profiles: [pager]", "", &[("shows", TEXT, "what it shows; needed"), ("send", TEXT, "what goes on; needed")]),
    (
        "profiles: [list]",
        "",
        &[
            ("send", TEXTS, "what is typed"),
            ("says", TEXTS, "lines that may be answered beside keys"),
            ("key", TEXT, "the form of a line with a key; needed"),
            ("no_account", TEXTS, "what is answered where there is no such account"),
        ],
    ),
    (
        "profiles: [add]",
        "",
        &[
            ("send", TEXTS, "what is typed"),
            ("says", TEXTS, "what may be answered"),
            (
                "file",
                "table",
                "a file that is put there or fetched: `path` or `fetched_from`, `keys_form`, `line_ends`",
            ),
        ],
    ),
    (
        "profiles: [add.file]",
        "",
        &[
            ("path", TEXT, "where it is put"),
            ("fetched_from", TEXT, "from where the device fetches it"),
            ("keys_form", TEXT, "the form of the key in it"),
            ("line_ends", TEXT, "`lf` or `crlf`"),
        ],
    ),
    ("profiles: what is typed", "", &[("send", TEXTS, "what is typed"), ("says", TEXTS, "what may be answered")]),
    ("profiles: [reload]", "", &[("arm", LINES, "what starts the clock"), ("disarm", LINES, "what stops it")]),
    (
        "profiles: [passwords]",
        "",
        &[
            ("show", LINES, "what shows whether passwords open anything; needed"),
            ("are_off", TEXTS, "what is shown then; needed"),
            ("off", LINES, "what ends them; needed"),
            ("on", LINES, "what lets them in again; needed"),
        ],
    ),
    ("profiles: [transfer]", "", &[("open", LINES, "what opens it"), ("close", LINES, "what closes it")]),
];

/// A register in which every table is there.
const SAMPLES: &[(&str, &str)] = &[
    (
        "lavrin.toml",
        "name = \"x\"\n[policy]\n[[policy.no_way]]\nfrom = \"a\"\nto = \"b\"\n[defaults]\n[kept]\n[store]\n[[exception]]\nrule = \"x\"\n",
    ),
    ("people/edda.toml", "name = \"x\"\n[[key]]\nline = \"x\"\n"),
    ("hosts.toml", "[lantern]\n[lantern.limits]\n[[lantern.key]]\nline = \"x\"\n"),
    ("access.toml", "[[grant]]\nperson = \"edda\"\n"),
    ("owed.toml", "[[removal]]\nkey = \"x\"\n"),
    ("kept/root@lantern.toml", "[[key]]\nversion = 1\n[[hand_out]]\nversion = 1\n"),
    (
        "profiles/horn.toml",
        "prompts = \">\"\npager = { shows = \"more\", send = \" \" }\n[list]\nsend = \"keys\"\nkey = \"%n. %k\"\n[add]\nsend = \"x\"\n[add.file]\npath = \"x\"\n[remove]\nsend = \"x\"\n[reload.arm]\nsend = \"x\"\n[reload.disarm]\nsend = \"x\"\n[passwords]\nare_off = \"x\"\n[passwords.show]\n[passwords.off]\n[passwords.on]\n[transfer.open]\nsend = \"x\"\n",
    ),
];

fn text() -> String {
    let mut text = "# Every key of the register\n\nMade from the reader. `lavrin register check` reads all of it and shows each fault at its place; a key that is not here is one.\n\
        Whatever is not needed may be left away; what holds then is in brackets. Dates are written as `2027-01-31`.\n"
        .to_owned();
    for (heading, about, keys) in TABLES {
        let _ = write!(text, "\n## {heading}\n\n{about}\n\n| key | kind | meaning |\n| --- | --- | --- |\n");
        for (key, kind, meaning) in *keys {
            let _ = writeln!(text, "| `{key}` | {kind} | {meaning} |");
        }
    }
    text.replace("\n\n\n\n", "\n\n")
}

#[test]
#[expect(clippy::disallowed_methods, reason = "the test holds the document, which is a file")]
fn every_key_that_is_read_is_described_and_every_one_described_is_read() {
    let files: Vec<SourceFile> =
        SAMPLES.iter().map(|(path, text)| SourceFile { path: (*path).to_owned(), text: (*text).to_owned() }).collect();
    let _ = read(&files);
    let described: Vec<BTreeSet<&str>> =
        TABLES.iter().map(|(_, _, keys)| keys.iter().map(|(key, ..)| *key).collect()).collect();
    let asked = recorded();
    for keys in &asked {
        let keys: BTreeSet<&str> = keys.iter().copied().collect();
        assert!(described.iter().any(|table| keys.is_subset(table)), "read and not described: {keys:?}");
    }
    for ((heading, ..), table) in TABLES.iter().zip(&described) {
        let is_read = asked.iter().any(|keys| keys.iter().copied().collect::<BTreeSet<_>>() == *table);
        assert!(is_read, "described and not read: {heading}");
    }
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/register.md");
    if std::env::var_os("LAVRIN_WRITE_SCHEMAS").is_some() {
        std::fs::write(path, text()).unwrap();
    }
    assert_eq!(
        std::fs::read_to_string(path).unwrap_or_default(),
        text(),
        "LAVRIN_WRITE_SCHEMAS=1 writes docs/register.md"
    );
}
