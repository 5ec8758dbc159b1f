//! Two examples for every command, from the world of the demo. A test types each of them.

/// The examples of a command, by its words.
pub fn of(path: &str) -> Option<&'static [&'static str]> {
    EXAMPLES.iter().find(|(command, _)| *command == path).map(|(_, lines)| *lines)
}

/// Each command's words, and what one types.
pub const EXAMPLES: &[(&str, &[&str])] = &[
    (
        "key generate",
        &[
            "lavrin key generate --name edda --comment 'edda, harbour office'",
            "lavrin key generate --name buoy-7 --algorithm rsa-4096 --passphrase none",
        ],
    ),
    ("key inspect", &["lavrin key inspect ~/incoming", "lavrin key inspect - --fail-on high"]),
    (
        "key convert",
        &[
            "lavrin key convert ~/.ssh/edda --to line --out ~/.ssh/edda.pub",
            "lavrin key convert edda.pub --to rfc4716 --line-ends crlf --out router.pub",
        ],
    ),
    (
        "install",
        &[
            "lavrin install edda.pub edda@harbour-office --ask-password",
            "lavrin install edda.pub edda --tree / --preview",
        ],
    ),
    (
        "remove",
        &["lavrin remove edda.pub edda@harbour-office --login root", "lavrin remove edda.pub edda --tree /srv/image"],
    ),
    ("mend", &["lavrin mend sten@harbour-office --login root --preview", "lavrin mend --all --tree /"]),
    (
        "why",
        &[
            "lavrin why sten@harbour-office --login root --key sten.pub",
            "lavrin why sten --tree / --key sten.pub --from-address 192.0.2.17",
        ],
    ),
    ("matrix", &["lavrin matrix", "lavrin matrix sten --at yesterday --format csv"]),
    ("paths", &["lavrin paths buoy-7", "lavrin paths buoys office --cut"]),
    ("report", &["lavrin report --out access.html", "lavrin report --out march.html --at 2026-03-01 --tag lights"]),
    ("probe", &["lavrin probe sten.pub keeper@lantern", "lavrin probe runa --until refused"]),
    ("register begin", &["lavrin register begin halvmark --name 'Halvmark lights'", "lavrin register begin"]),
    (
        "register check",
        &["lavrin register check", "lavrin register check --register halvmark --format json --fail-on high"],
    ),
    ("register adopt", &["lavrin register adopt", "lavrin register adopt lights --take-proposals"]),
    (
        "person add",
        &[
            "lavrin person add edda --name 'Edda Holm' --team office --key edda.pub",
            "lavrin person add sten --key report.pub --label report --purpose automation",
        ],
    ),
    (
        "person request",
        &[
            "lavrin person request edda --name 'Edda Holm' --what-for 'tide logs' --identity ~/.ssh/edda",
            "lavrin person request edda --challenge 'harbour 42' --identity ~/.ssh/edda.pub --out edda-request.txt",
        ],
    ),
    ("person list", &["lavrin person list", "lavrin person list --format json"]),
    ("person show", &["lavrin person show sten", "lavrin person show sten --format json"]),
    ("agent list", &["lavrin agent list", "lavrin agent list --register halvmark"]),
    ("agent hold", &["lavrin agent hold ~/.ssh/edda", "lavrin agent hold ~/.ssh/office --for 30m --confirm"]),
    ("kept list", &["lavrin kept list", "lavrin kept list root@buoy-7"]),
    ("kept make", &["lavrin kept make root@buoy-7", "lavrin kept make root@buoy-7 --algorithm rsa-4096"]),
    (
        "kept take-in",
        &[
            "lavrin kept take-in root@buoy-7 --key came-with-it",
            "lavrin kept take-in root@buoy-7 --key ~/.ssh/buoy-7 --reason 'from the builder'",
        ],
    ),
    ("kept prove", &["lavrin kept prove", "lavrin kept prove root@buoy-7"]),
    (
        "kept hand-out",
        &[
            "lavrin kept hand-out root@buoy-7 --to agent --for 30m --reason 'the lamp is out'",
            "lavrin kept hand-out root@buoy-7 --to ./buoy-7-root --reason 'work on site'",
        ],
    ),
    ("kept seal", &["lavrin kept seal", "lavrin kept seal --administrators edda,sten"]),
    ("agent release", &["lavrin agent release ~/.ssh/edda", "lavrin agent release --left"]),
    ("person set", &["lavrin person set edda --team lights", "lavrin person set sten --name 'Sten Åkre'"]),
    ("person rename", &["lavrin person rename edda edda.holm", "lavrin person rename sten sten-lights"]),
    ("person remove", &["lavrin person remove edda", "lavrin person remove edda --register halvmark"]),
    (
        "person key retire",
        &["lavrin person key retire sten main", "lavrin person key retire sten main --from-date 2027-01-31"],
    ),
    ("person key rename", &["lavrin person key rename sten main old", "lavrin person key rename sten key-2 report"]),
    (
        "host add",
        &[
            "lavrin host add lantern --address 192.0.2.7 --tag lights --account keeper",
            "lavrin host add buoy-7 --address 198.51.100.7 --through lantern --account root",
        ],
    ),
    ("host list", &["lavrin host list", "lavrin host list --tag lights"]),
    ("host show", &["lavrin host show lantern", "lavrin host show lantern --format json"]),
    (
        "host set",
        &[
            "lavrin host set lantern --address 192.0.2.9",
            "lavrin host set skerry --login keeper --root-by sudo --account keeper --account root",
        ],
    ),
    ("host rename", &["lavrin host rename lantern lantern-north", "lavrin host rename buoy-7 buoy-17"]),
    ("host remove", &["lavrin host remove buoy-7", "lavrin host remove buoy-7 --register halvmark"]),
    (
        "host trust",
        &[
            "lavrin host trust lantern",
            "lavrin host trust lantern --expect-host-key SHA256:uNiVztksCsDhcc0u9e8BrWXQgYPEa7dFNLIGM2zLPbA",
        ],
    ),
    ("host import", &["lavrin host import hosts.csv --source csv", "lavrin host import ~/.ssh/config --source client"]),
    (
        "host reopen",
        &[
            "lavrin host reopen horn-2 --ask-password --identity ~/.ssh/edda",
            "lavrin host reopen horn-2 --replace SHA256:ul8RHIbwIcYeYtVcX7J+NzElv7eRVpBJxm6t5nCfcuc --ask-password --identity ~/.ssh/edda",
        ],
    ),
    (
        "host profile try",
        &["lavrin host profile try fog-signal horn-2", "lavrin host profile try new.toml horn-2 --account keeper"],
    ),
    (
        "host settings",
        &[
            "lavrin host settings harbour-office --login root",
            "lavrin host settings --tree / --account sten --from-address 192.0.2.17",
        ],
    ),
    (
        "grant",
        &[
            "lavrin grant edda keeper --tag lights --until 2027-06-30",
            "lavrin grant lights keeper --team --host '*' --reason 'looks after the lamps'",
        ],
    ),
    ("withdraw", &["lavrin withdraw edda root --host office", "lavrin withdraw edda keeper --tag lights"]),
    ("survey", &["lavrin survey --identity ~/.ssh/office", "lavrin survey lights --parallel 8 --host-limit 30"]),
    ("compare", &["lavrin compare", "lavrin compare lights --live --identity ~/.ssh/office"]),
    ("enforce", &["lavrin enforce --preview", "lavrin enforce --first 2 --reason 'the register is in force'"]),
    ("audit", &["lavrin audit lights", "lavrin audit --tree /"]),
    ("rotate", &["lavrin rotate edda --from-file edda-2.pub", "lavrin rotate --status"]),
    ("offboard", &["lavrin offboard runa --preview", "lavrin offboard runa --end-sessions --statement runa-left.txt"]),
    ("keys-only", &["lavrin keys-only lights --first 2 --preview", "lavrin keys-only --status"]),
    (
        "history",
        &[
            "lavrin history sten",
            "lavrin history runs",
            "lavrin history --at '3 days ago'",
            "lavrin history --verify runa-left.txt",
        ],
    ),
    (
        "shortcuts",
        &["lavrin shortcuts sten --write", "lavrin shortcuts edda@192.0.2.7 --alias lantern --identity ~/.ssh/edda"],
    ),
    (
        "firstboot",
        &["lavrin firstboot lantern --host-key --out lantern.yaml", "lavrin firstboot buoys --form shell --out images"],
    ),
    ("completions", &["lavrin completions bash", "lavrin completions fish"]),
    ("pages", &["lavrin pages target/pages", "lavrin pages /tmp/pages"]),
    ("version", &["lavrin version", "lavrin version --long"]),
    ("rule", &["lavrin rule", "lavrin rule mode-too-open"]),
    ("first", &["lavrin first", "lavrin first edda@192.0.2.5"]),
    ("store show", &["lavrin store show", "lavrin store show --format json"]),
    ("store check", &["lavrin store check", "lavrin store check --register halvmark"]),
    (
        "store prune",
        &["lavrin store prune --before 2025-01-01 --preview", "lavrin store prune --before 2025-01-01 --yes"],
    ),
    (
        "store set-up",
        &[
            "lavrin store set-up postgresql:///halvmark",
            "lavrin store set-up postgresql://postgres@db.example/halvmark",
        ],
    ),
    (
        "store move",
        &["lavrin store move postgresql://edda@db.example/halvmark", "lavrin store move file --register halvmark"],
    ),
    ("store join", &["lavrin store join", "lavrin store join --register halvmark --yes"]),
    ("store roles", &["lavrin store roles", "lavrin store roles --color never"]),
    ("undo", &["lavrin undo --last --preview", "lavrin undo --run 20261123-080000-61d125"]),
    ("demo", &["lavrin demo", "lavrin demo --keep"]),
];
