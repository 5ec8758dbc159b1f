//! The file tree of the demo, from the plain files under `demo/`.

use lavrin_keys::key::container::openssh;
use lavrin_keys::key::generate::{Recipe, SystemSource, generate};
use std::collections::HashMap;
use std::fs;
use std::io;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::Path;

/// Each file with its mode; folders get 0755 unless they stand in [`FOLDERS`].
const FILES: [(&str, u32, &str); 6] = [
    ("etc/passwd", 0o644, include_str!("../../../demo/etc/passwd")),
    ("etc/group", 0o644, include_str!("../../../demo/etc/group")),
    ("etc/ssh/sshd_config", 0o644, include_str!("../../../demo/etc/ssh/sshd_config")),
    ("home/sten/.ssh/authorized_keys", 0o666, include_str!("../../../demo/home/sten/.ssh/authorized_keys")),
    ("home/tidelog/.ssh/authorized_keys", 0o600, include_str!("../../../demo/home/tidelog/.ssh/authorized_keys")),
    ("home/runa/.ssh/authorized_keys", 0o644, include_str!("../../../demo/home/runa/.ssh/authorized_keys")),
];

/// Folders whose modes matter.
const FOLDERS: [(&str, u32); 5] = [
    ("home/edda", 0o755),
    ("home/sten/.ssh", 0o700),
    ("home/tidelog/.ssh", 0o700),
    ("home/runa/.ssh", 0o700),
    ("root", 0o700),
];

/// A key that somebody left on the server; it is made again each time.
const STRAY: &str = "home/tidelog/.ssh/buoy-7";

pub(crate) fn lay_out(root: &Path) -> io::Result<()> {
    fs::set_permissions(root, fs::Permissions::from_mode(0o755))?;
    for (folder, mode) in FOLDERS {
        fs::create_dir_all(root.join(folder))?;
        fs::set_permissions(root.join(folder), fs::Permissions::from_mode(mode))?;
    }
    let owner = fs::metadata(root)?;
    let mut keys = HashMap::new();
    for (path, mode, text) in FILES {
        let text = text.replace("{uid}", &owner.uid().to_string()).replace("{gid}", &owner.gid().to_string());
        put(root, path, mode, with_keys(&text, &mut keys).as_bytes())?;
    }
    let (private, public) = stray_pair("tidelog, for buoy 7")?;
    put(root, STRAY, 0o600, private.as_bytes())?;
    put(root, &format!("{STRAY}.pub"), 0o644, public.as_bytes())
}

/// An account of a plain tree, with the text of its key file where it has one.
#[derive(Debug, Clone)]
pub struct TreeAccount<'a> {
    /// Its name; its home is `/home/NAME`, that of root `/root`.
    pub name: &'a str,
    /// Its shell.
    pub shell: &'a str,
    /// What stands in its key file.
    pub keys: Option<&'a str>,
}

/// A tree with these accounts, all of which belong to whoever runs the stand-in. Where that is root in it, it takes passwords.
pub(crate) fn lay_out_accounts(root: &Path, accounts: &[TreeAccount<'_>], is_roots: bool) -> io::Result<()> {
    fs::set_permissions(root, fs::Permissions::from_mode(0o755))?;
    let owner = fs::metadata(root)?;
    let (uid, gid) = if is_roots { (0, 0) } else { (owner.uid(), owner.gid()) };
    let (mut passwd, mut group) = (String::new(), format!("crew:x:{gid}:\n"));
    for TreeAccount { name, shell, keys } in accounts {
        let home = if *name == "root" { "/root".to_owned() } else { format!("/home/{name}") };
        passwd += &format!("{name}:x:{uid}:{gid}::{home}:{shell}\n");
        if let Some(keys) = keys {
            put(root, &format!("{home}/.ssh/authorized_keys")[1..], 0o600, keys.as_bytes())?;
            fs::set_permissions(root.join(&home[1..]).join(".ssh"), fs::Permissions::from_mode(0o700))?;
        }
    }
    group += "lamps:x:4000:\n";
    put(root, "etc/passwd", 0o644, passwd.as_bytes())?;
    put(root, "etc/group", 0o644, group.as_bytes())?;
    let passwords = if is_roots { "yes" } else { "no" };
    put(root, "etc/ssh/sshd_config", 0o644, format!("PasswordAuthentication {passwords}\n").as_bytes())
}

fn put(root: &Path, path: &str, mode: u32, bytes: &[u8]) -> io::Result<()> {
    let path = root.join(path);
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder)?;
    }
    fs::write(&path, bytes)?;
    fs::set_permissions(&path, fs::Permissions::from_mode(mode))
}

/// Replaces each `{key NAME}` by the one line of a fresh key. `{key wrapped}` comes broken over two lines, as from a mail.
fn with_keys(text: &str, keys: &mut HashMap<String, String>) -> String {
    let mut out = String::new();
    let mut rest = text;
    while let Some((before, behind)) = rest.split_once("{key ") {
        let (name, after) = behind.split_once('}').unwrap_or((behind, ""));
        out += before;
        let line = keys.entry(name.to_owned()).or_insert_with(fresh_line);
        if name == "wrapped" {
            let (head, tail) = line.split_at(line.len() / 2);
            out += &format!("{head}\n{tail}");
        } else {
            out += line;
        }
        rest = after;
    }
    out + rest
}

/// The one line of a fresh key that nobody has, without a comment; empty where none can be made.
#[must_use]
pub fn fresh_line() -> String {
    generate(Recipe::Ed25519, &SystemSource).map(|key| key.public().line("")).unwrap_or_default()
}

/// A private key as somebody leaves it lying around, without a passphrase, and the one line of its public half.
///
/// # Errors
/// None could be made.
pub fn stray_pair(comment: &str) -> io::Result<(String, String)> {
    let refuse = |_| io::Error::other("no key could be made");
    let key = generate(Recipe::Ed25519, &SystemSource).map_err(refuse)?;
    let private = openssh::write(&key, comment, None, &SystemSource).map_err(refuse)?;
    Ok((private.to_string(), format!("{}\n", key.public().line(comment))))
}
