//! What a shell puts behind what was typed: asked of the shells themselves.

use crate::common::{World, key};
use std::process::Command;

fn world() -> World {
    let world = World::new();
    world.write("lavrin.toml", "name = \"Skerry lights\"\n", 0o644);
    for (name, seed) in [("edda", 1), ("edvin", 2), ("sten", 3)] {
        let line = key(seed).public().line("").trim().to_owned();
        let text = format!("name = \"{name}\"\nteam = \"lights\"\n[[key]]\nlabel = \"main\"\nline = \"{line}\"\n");
        world.write(&format!("people/{name}.toml"), text, 0o644);
    }
    let hosts = "[lantern]\naddress = \"192.0.2.7\"\ntags = [\"lamps\"]\naccounts = [\"keeper\"]\n[skerry]\naddress = \"192.0.2.8\"\n";
    world.write("hosts.toml", hosts, 0o644);
    let access = "[[grant]]\nperson = \"edda\"\naccount = \"oil\"\nhosts = [\"lantern\"]\n";
    world.write("access.toml", access, 0o644);
    world
}

/// What a shell says to a line of its own.
fn shell(world: &World, program: &str, script: &str) -> String {
    let bin = std::path::Path::new(env!("CARGO_BIN_EXE_lavrin")).parent().unwrap();
    let output = Command::new(program)
        .args(["-c", script])
        .env_clear()
        .env("PATH", format!("{}:/usr/bin:/bin", bin.display()))
        .env("HOME", world.path("home"))
        .env("TERM", "dumb")
        .current_dir(world.path(""))
        .output()
        .unwrap();
    assert!(output.stderr.is_empty(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

/// Lines that are typed, and what has to be offered: all of it, in this order.
fn cases() -> Vec<(String, Vec<String>)> {
    let owned = |words: &[&str]| words.iter().map(|word| (*word).to_owned()).collect::<Vec<String>>();
    let print = key(1).public().fingerprint().to_string();
    vec![
        ("lavrin enf".to_owned(), owned(&["enforce"])),
        ("lavrin person show ed".to_owned(), owned(&["edda", "edvin"])),
        ("lavrin survey la".to_owned(), owned(&["lamps", "lantern"])),
        ("lavrin host show ".to_owned(), owned(&["lantern", "skerry", "--register", "--format", "--help"])),
        ("lavrin why ke".to_owned(), owned(&["keeper@lantern"])),
        ("lavrin why oil@lan".to_owned(), owned(&["oil@lantern"])),
        (format!("lavrin why keeper@lantern --fingerprint {}", &print[..12]), vec![print]),
        ("lavrin rotate --lab".to_owned(), owned(&["--label"])),
        ("lavrin matrix --register nowhere st".to_owned(), owned(&[])),
    ]
}

#[test]
fn bash_completes_names_of_the_register() {
    let world = world();
    for (line, wanted) in cases() {
        let script = format!(
            "source <(lavrin completions bash); COMP_LINE='{line}'; COMP_POINT=${{#COMP_LINE}}; _lavrin_complete; printf '%s\\n' \"${{COMPREPLY[@]}}\""
        );
        let offered = shell(&world, "bash", &script);
        // Bash goes on behind the last @ or colon.
        let typed = line.rsplit(' ').next().unwrap();
        let before = typed.rfind(['@', ':']).map_or("", |at| &typed[..=at]);
        let offered: Vec<String> = offered
            .lines()
            .filter(|word| !word.is_empty())
            .map(|word| format!("{before}{}", word.trim_end()))
            .collect();
        assert_eq!(offered, wanted, "{line}");
    }
}

#[test]
#[ignore = "needs fish and zsh: scripts/test.sh"]
fn fish_and_zsh_complete_the_same() {
    let world = world();
    for (line, wanted) in cases() {
        let script = format!("lavrin completions fish | source; complete -C '{line}'");
        let offered = shell(&world, "fish", &script);
        let offered: Vec<&str> = offered.lines().filter_map(|word| word.split('\t').next()).collect();
        assert_eq!(offered, wanted, "fish: {line}");
        // What the function of zsh hands to the shell, which shows it.
        let script = format!(
            "compdef() {{ :; }}; source <(lavrin completions zsh); _describe() {{ shift; [[ $1 == -V ]] && shift 2; print -rl -- ${{(P)${{@[-1]}}}}; }}; words=(${{(z):-\"{line}\"}}); [[ '{line}' == *' ' ]] && words+=(''); CURRENT=${{#words}}; compstate=(); _clap_dynamic_completer_lavrin"
        );
        let offered = shell(&world, "zsh", &script);
        let offered: Vec<&str> = offered.lines().filter_map(|word| word.trim_end().split('\t').next()).collect();
        let offered: Vec<String> = offered.iter().map(|word| plain_of(word)).filter(|word| !word.is_empty()).collect();
        assert_eq!(offered, wanted, "zsh: {line}");
    }
}

/// A word without its description: zsh has it behind a colon, and one that belongs to the word behind a backslash.
fn plain_of(word: &str) -> String {
    let word = word.replace("\\:", "\u{1}");
    word.split(':').next().unwrap_or_default().replace('\u{1}', ":")
}

#[test]
fn manual_pages_are_made_from_the_help() {
    let world = world();
    drop(world.typed("pages out").expect(0));
    let page = world.read("out/man1/lavrin-shortcuts.1").replace("\\-", "-");
    insta::assert_snapshot!("man_shortcuts", page);
    let pages = crate::common::names(&world.path("out/man1"));
    assert!(pages.len() > 50 && pages.contains(&"lavrin.1".to_owned()), "{pages:?}");
    assert!(!pages.iter().any(|name| name.contains("pages")), "{pages:?}");
    assert_eq!(crate::common::names(&world.path("out/completions")), ["lavrin.bash", "lavrin.fish", "lavrin.zsh"]);
}
