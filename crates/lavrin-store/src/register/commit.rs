//! Which version of a register lies in its folder, where it is under version control by git: read from its files, nothing is run.

use std::io::Read as _;
use std::path::{Path, PathBuf};

/// Longest file that is read, in bytes.
const BYTES_MAX: u64 = 16 << 20;

/// The commit that the folder is at; none where there is no git, or where that does not show.
#[must_use]
pub fn commit(folder: &Path) -> Option<String> {
    let folder = std::fs::canonicalize(folder).ok()?;
    let git = folder.ancestors().map(|folder| folder.join(".git")).find(|git| git.symlink_metadata().is_ok())?;
    let git = if git.is_dir() { git } else { elsewhere(&git)? };
    let head = read(&git.join("HEAD"))?;
    let Some(name) = head.strip_prefix("ref: ") else { return id(&head) };
    let name = name.trim();
    // A name that leads out of the folder of references is none.
    if name.split('/').any(|part| part.is_empty() || part == "..") {
        return None;
    }
    let common = read(&git.join("commondir")).map_or_else(|| git.clone(), |path| git.join(path.trim()));
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
    use super::commit;

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
}
