//! Which version of a register lies in its folder, where it is under version control by git: read from its files, nothing is run.

use std::fs::File;
use std::io::Read as _;
use std::os::unix::fs::FileExt as _;
use std::path::{Path, PathBuf};

/// Longest file that is read, in bytes.
const BYTES_MAX: u64 = 16 << 20;

/// Folders of objects that are looked into beside the own one, where they are shared with other copies.
const SHARED_MAX: usize = 8;

/// What an index of a pack begins with: its mark and the version that every git of the last fifteen years writes (gitformat-pack(5)).
const INDEX: [u8; 8] = [0xff, b't', b'O', b'c', 0, 0, 0, 2];

/// Behind that stands how many objects there are up to each first byte, then their names in order.
const COUNTS: u64 = 8;
const NAMES: u64 = COUNTS + 256 * 4;

/// Whether the copy that the folder is part of has this commit; none where there is no git, or where that does not show.
#[must_use]
pub fn has_commit(folder: &Path, commit: &str) -> Option<bool> {
    let commit = id(commit)?.to_ascii_lowercase();
    let (_, common) = git_of(folder)?;
    let own = common.join("objects");
    let shared = read(&own.join("info/alternates")).unwrap_or_default();
    let shared = shared.lines().take(SHARED_MAX).map(|path| own.join(path));
    let folders: Vec<PathBuf> = std::iter::once(own.clone()).chain(shared).collect();
    Some(folders.iter().any(|objects| is_in(objects, &commit)))
}

fn is_in(objects: &Path, commit: &str) -> bool {
    let (first, rest) = commit.split_at(2);
    if objects.join(first).join(rest).is_file() {
        return true;
    }
    let packs = std::fs::read_dir(objects.join("pack")).into_iter().flatten().flatten();
    let mut indexes = packs.map(|entry| entry.path()).filter(|path| path.extension().is_some_and(|end| end == "idx"));
    indexes.any(|path| is_in_index(&path, commit).unwrap_or(false))
}

/// Looks a name up in the index of a pack, reading no more than that takes.
fn is_in_index(path: &Path, commit: &str) -> Option<bool> {
    let digit = |at: usize| u8::from_str_radix(commit.get(at..at + 2)?, 16).ok();
    let name: Vec<u8> = (0..commit.len()).step_by(2).map(digit).collect::<Option<_>>()?;
    let file = File::open(path).ok()?;
    let mut mark = [0; 8];
    file.read_exact_at(&mut mark, 0).ok()?;
    if mark != INDEX {
        return None;
    }
    let count = |byte: u64| {
        let mut number = [0; 4];
        file.read_exact_at(&mut number, COUNTS + byte * 4).ok()?;
        Some(u64::from(u32::from_be_bytes(number)))
    };
    let first = u64::from(name[0]);
    let (mut low, mut high) = (if first == 0 { 0 } else { count(first - 1)? }, count(first)?);
    let mut found = vec![0; name.len()];
    while low < high {
        let middle = u64::midpoint(low, high);
        file.read_exact_at(&mut found, NAMES + middle * name.len() as u64).ok()?;
        match found.cmp(&name) {
            std::cmp::Ordering::Equal => return Some(true),
            std::cmp::Ordering::Less => low = middle + 1,
            std::cmp::Ordering::Greater => high = middle,
        }
    }
    Some(false)
}

/// The folder of git, and the one that several work trees share.
fn git_of(folder: &Path) -> Option<(PathBuf, PathBuf)> {
    let folder = std::fs::canonicalize(folder).ok()?;
    let git = folder.ancestors().map(|folder| folder.join(".git")).find(|git| git.symlink_metadata().is_ok())?;
    let git = if git.is_dir() { git } else { elsewhere(&git)? };
    let common = read(&git.join("commondir")).map_or_else(|| git.clone(), |path| git.join(path.trim()));
    Some((git, common))
}

/// The commit that the folder is at; none where there is no git, or where that does not show.
#[must_use]
pub fn commit(folder: &Path) -> Option<String> {
    let (git, common) = git_of(folder)?;
    let head = read(&git.join("HEAD"))?;
    let Some(name) = head.strip_prefix("ref: ") else { return id(&head) };
    let name = name.trim();
    // A name that leads out of the folder of references is none.
    if name.split('/').any(|part| part.is_empty() || part == "..") {
        return None;
    }
    let own = read(&git.join(name)).or_else(|| read(&common.join(name)));
    own.and_then(|text| id(&text)).or_else(|| {
        let packed = read(&common.join("packed-refs"))?;
        packed
            .lines()
            .find_map(|line| line.split_once(' ').filter(|(_, other)| *other == name).and_then(|(text, _)| id(text)))
    })
}

/// The folder that a file names instead.
fn elsewhere(file: &Path) -> Option<PathBuf> {
    let text = read(file)?;
    let path = Path::new(text.strip_prefix("gitdir: ")?.trim());
    Some(file.parent()?.join(path))
}

fn id(text: &str) -> Option<String> {
    let text = text.trim();
    let is_id = matches!(text.len(), 40 | 64) && text.bytes().all(|byte| byte.is_ascii_hexdigit());
    is_id.then(|| text.to_owned())
}

fn read(path: &Path) -> Option<String> {
    if !path.is_file() {
        return None;
    }
    let mut text = String::new();
    std::fs::File::open(path).ok()?.take(BYTES_MAX).read_to_string(&mut text).ok()?;
    Some(text)
}

#[cfg(test)]
mod tests {
    use super::{commit, has_commit};

    #[test]
    fn the_commit_is_read_wherever_git_keeps_it() {
        let folder = tempfile::tempdir().unwrap();
        let (register, git) = (folder.path().join("registers/lights"), folder.path().join("registers/.git"));
        let put = |path: &str, text: &str| {
            let path = git.join(path);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, text).unwrap();
        };
        std::fs::create_dir_all(&register).unwrap();
        assert_eq!(commit(&register), None);
        let (one, two) = ("1".repeat(40), "ab".repeat(32));
        put("HEAD", &format!("{one}\n"));
        assert_eq!(commit(&register), Some(one.clone()));
        put("HEAD", "ref: refs/heads/main\n");
        assert_eq!(commit(&register), None);
        put("packed-refs", &format!("# pack-refs\n{two} refs/heads/main\n"));
        assert_eq!(commit(&register), Some(two));
        put("refs/heads/main", &format!("{one}\n"));
        assert_eq!(commit(&register), Some(one));
        put("HEAD", "ref: ../../secret\n");
        assert_eq!(commit(&register), None);
    }

    #[test]
    fn a_commit_is_found_by_itself_and_in_a_pack() {
        let folder = tempfile::tempdir().unwrap();
        let git = |words: &[&str]| {
            let mut command = std::process::Command::new("git");
            command.args(["-c", "user.name=Edda", "-c", "user.email=edda@example.invalid"]).args(words);
            let done = command.current_dir(folder.path()).env("GIT_CONFIG_NOSYSTEM", "1").output().unwrap();
            assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
            String::from_utf8(done.stdout).unwrap().trim().to_owned()
        };
        assert_eq!(has_commit(folder.path(), &"1".repeat(40)), None);
        git(&["init", "-q"]);
        let commits: Vec<String> = (0..40)
            .map(|number| {
                git(&["commit", "-q", "--allow-empty", "-m", &format!("change {number}")]);
                git(&["rev-parse", "HEAD"])
            })
            .collect();
        for is_packed in [false, true] {
            if is_packed {
                git(&["gc", "-q", "--prune=now"]);
            }
            assert!(
                commits.iter().all(|commit| has_commit(folder.path(), commit) == Some(true)),
                "packed: {is_packed}"
            );
            assert_eq!(has_commit(folder.path(), &"1".repeat(40)), Some(false));
        }
        assert_eq!(commit(folder.path()).as_ref(), commits.last());
    }
}
