//! What holds the structure together: no module of a crate that decides, looks, remembers or conducts needs one that needs it.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// Each top-level module of a crate with those that its files name.
fn imports(source: &Path) -> BTreeMap<String, BTreeSet<String>> {
    let lib = std::fs::read_to_string(source.join("lib.rs")).unwrap();
    let declared =
        lib.lines().filter_map(|line| line.trim_start_matches("pub ").strip_prefix("mod ")?.strip_suffix(';'));
    let modules: BTreeSet<String> = declared.map(str::to_owned).collect();
    let of = |module: &String| {
        let text: String = files(&[source.join(format!("{module}.rs")), source.join(module)]);
        let named = text.split("crate::").skip(1).flat_map(named);
        (module.clone(), named.filter(|name| modules.contains(name) && name != module).collect())
    };
    modules.iter().map(of).collect()
}

/// The modules named behind `crate::`: one, or several in braces.
fn named(behind: &str) -> Vec<String> {
    let word = |text: &str| {
        text.trim().split(|letter: char| !letter.is_alphanumeric() && letter != '_').next().map(str::to_owned)
    };
    match behind.strip_prefix('{') {
        Some(list) => list.split('}').next().unwrap_or_default().split(',').filter_map(word).collect(),
        None => word(behind).into_iter().collect(),
    }
}

/// The text of files and of all files below folders, without what only tests use.
fn files(paths: &[PathBuf]) -> String {
    let mut text = String::new();
    for path in paths {
        if path.is_dir() {
            let inside: Vec<PathBuf> = std::fs::read_dir(path).unwrap().map(|entry| entry.unwrap().path()).collect();
            text += &files(&inside);
        } else if path.is_file() && !path.ends_with("tests.rs") {
            let whole = std::fs::read_to_string(path).unwrap();
            text += whole.split("#[cfg(test)]\nmod tests {").next().unwrap();
        }
    }
    text
}

/// A way from a module back to itself.
fn circle(imports: &BTreeMap<String, BTreeSet<String>>) -> Option<Vec<String>> {
    fn walk(
        at: &str,
        way: &mut Vec<String>,
        done: &mut BTreeSet<String>,
        all: &BTreeMap<String, BTreeSet<String>>,
    ) -> bool {
        if let Some(begin) = way.iter().position(|passed| passed == at) {
            way.drain(..begin);
            return true;
        }
        if !done.insert(at.to_owned()) {
            return false;
        }
        way.push(at.to_owned());
        if all[at].iter().any(|next| walk(next, way, done, all)) {
            return true;
        }
        way.pop();
        false
    }
    let mut done = BTreeSet::new();
    imports.keys().find_map(|module| {
        let mut way = Vec::new();
        walk(module, &mut way, &mut done, imports).then_some(way)
    })
}

#[test]
fn no_modules_need_each_other() {
    for name in ["lavrin-keys", "lavrin-server", "lavrin-fleet", "lavrin-reach", "lavrin-store", "lavrin-standin"] {
        let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("..").join(name).join("src");
        let imports = imports(&source);
        assert!(imports.len() > 1, "{name} has no modules: the test reads the wrong files");
        assert_eq!(circle(&imports), None, "{name}: {imports:?}");
    }
}

#[test]
fn a_circle_is_found() {
    let one = |to: &[&str]| to.iter().map(|name| (*name).to_owned()).collect();
    let imports =
        BTreeMap::from([("a".to_owned(), one(&["b"])), ("b".to_owned(), one(&["c"])), ("c".to_owned(), one(&["b"]))]);
    assert_eq!(circle(&imports), Some(vec!["b".to_owned(), "c".to_owned()]));
}

/// The files of all crates, each with the types that it declares at its outermost level.
fn declared_types(folder: &Path, found: &mut BTreeMap<String, BTreeSet<PathBuf>>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            declared_types(&path, found);
        } else if path.extension().is_some_and(|ending| ending == "rs") {
            for line in files(std::slice::from_ref(&path)).lines() {
                let rest = ["pub(super) ", "pub(crate) ", "pub "].iter().find_map(|open| line.strip_prefix(open));
                let name = ["struct ", "enum ", "trait ", "type "]
                    .iter()
                    .find_map(|kind| rest.unwrap_or(line).strip_prefix(kind))
                    .and_then(|rest| rest.split(|letter: char| !letter.is_alphanumeric()).next());
                if let Some(name) = name {
                    found.entry(name.to_owned()).or_default().insert(path.clone());
                }
            }
        }
    }
}

#[test]
fn a_name_stands_for_one_type() {
    let mut found = BTreeMap::new();
    for entry in std::fs::read_dir(Path::new(env!("CARGO_MANIFEST_DIR")).join("..")).unwrap() {
        declared_types(&entry.unwrap().path().join("src"), &mut found);
    }
    assert!(found.len() > 200, "{} types: the test reads the wrong files", found.len());
    found.retain(|_, places| places.len() > 1);
    assert!(found.is_empty(), "{found:#?}");
}
