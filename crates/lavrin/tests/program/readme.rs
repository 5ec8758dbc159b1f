//! The README leads through the commands that its pictures show.

use std::path::Path;

/// What is typed in front of each picture, by the script that takes it.
fn pictured() -> Vec<(String, String)> {
    let script = include_str!("../../../../scripts/screenshots.sh");
    let of = |line: &str| {
        let mut words = line.strip_prefix("picture ")?.splitn(4, ' ');
        let (name, _, _, command) = (words.next()?, words.next()?, words.next()?, words.next()?);
        let quote = command.chars().next().filter(|letter| ['\'', '"'].contains(letter))?;
        Some((name.to_owned(), command.trim_matches(quote).to_owned()))
    };
    script.lines().filter_map(of).collect()
}

#[test]
fn each_picture_stands_below_the_commands_that_it_shows() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let pictured = pictured();
    assert!(pictured.len() > 15, "{pictured:?}");
    let (mut typed, mut shown, mut is_block) = (Vec::new(), Vec::new(), false);
    for line in include_str!("../../../../README.md").lines() {
        if let Some(command) = line.strip_prefix("    ") {
            if !is_block {
                typed.clear();
            }
            is_block = true;
            typed.push(command.replace("cargo run --release -- ", "lavrin "));
        } else if let Some((_, name)) = line.split_once("](docs/screenshots/") {
            let name = name.trim_end_matches(".png)");
            let (_, command) =
                pictured.iter().find(|(own, _)| own == name).unwrap_or_else(|| panic!("{name} is not taken"));
            assert_eq!(&typed.join("; "), command, "{name}");
            assert!(root.join(format!("docs/screenshots/{name}.png")).is_file(), "{name}");
            shown.push(name.to_owned());
            typed.clear();
        } else {
            is_block = false;
        }
    }
    shown.sort();
    let mut taken: Vec<String> = pictured.into_iter().map(|(name, _)| name).collect();
    taken.sort();
    assert_eq!(shown, taken, "each picture is in the README once");
}
