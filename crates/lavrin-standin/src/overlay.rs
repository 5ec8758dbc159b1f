//! A small device whose root file system is read-only: a restart undoes every write that its overlay has not saved.

use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;

/// What is forgotten.
const FOLDERS: [&str; 2] = ["home", "root"];

/// Where it is kept once it is saved.
const SAVED: &str = "saved";

const OVERLAY: &str = "#!/bin/sh
[ \"$1\" = save ] || { echo 'overlay: save what?'; exit 1; }
cd \"$LAVRIN_STANDIN_ROOT\" || exit 1
rm -rf saved.new && mkdir saved.new && cp -a home root saved.new/ && rm -rf saved && mv saved.new saved
";

/// Puts the program there, and saves what there is in the beginning.
pub(crate) fn lay_out(tree: &Path) -> std::io::Result<()> {
    let program = tree.join("sbin/overlay");
    std::fs::create_dir_all(tree.join("sbin"))?;
    std::fs::write(&program, OVERLAY)?;
    std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o755))?;
    for folder in FOLDERS {
        std::fs::create_dir_all(tree.join(folder))?;
    }
    // By the shell: what this process has written a moment ago is perhaps not to be run yet.
    let saved =
        std::process::Command::new("/bin/sh").arg(&program).arg("save").env("LAVRIN_STANDIN_ROOT", tree).status()?;
    if saved.success() { Ok(()) } else { Err(std::io::Error::other("the overlay could not be saved")) }
}

/// Brings back what was saved.
pub(crate) fn forget(tree: &Path) -> std::io::Result<()> {
    let copy = |folder: &str| {
        std::fs::remove_dir_all(tree.join(folder))?;
        std::process::Command::new("cp").arg("-a").arg(tree.join(SAVED).join(folder)).arg(tree).status().map(drop)
    };
    FOLDERS.into_iter().try_for_each(copy)
}
