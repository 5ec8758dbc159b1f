//! What the owner of an account lays out, or swaps, while root's rights enforce a register on a real server: nothing
//! outside of that account's own files is read or written.

use crate::common::servers::{Account, system};
use crate::common::site::{PLAIN, Running, Site};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

const ENFORCE: &str = "enforce --identity home/keys/root --yes --host-limit 60";

/// How often the register is enforced against the swapping.
const RUNS: usize = 8;

/// What must stay as it is: another account's key file, and a file that only root reads.
struct Outside {
    other: Account,
    roots: PathBuf,
    before: Vec<(PathBuf, Vec<u8>, [u32; 3])>,
}

/// A word that stands nowhere but in the file that only root reads.
const SECRET: &str = "the lamp oil is behind the third door";

impl Outside {
    fn new(site: &Site) -> Self {
        let other = Account::new("/bin/sh");
        other.put(".ssh/authorized_keys", "# somebody else's\n", "600", &other.name);
        let roots = site.root_keys.0.parent().unwrap().join("inner");
        std::fs::create_dir(&roots).unwrap();
        std::fs::write(roots.join("authorized_keys"), format!("# {SECRET}\n")).unwrap();
        std::fs::set_permissions(roots.join("authorized_keys"), PermissionsExt::from_mode(0o600)).unwrap();
        let mut outside = Self { other, roots, before: Vec::new() };
        outside.before = outside.now();
        outside
    }

    /// Everything in both places, with content, mode, owner and group.
    fn now(&self) -> Vec<(PathBuf, Vec<u8>, [u32; 3])> {
        let mut all = Vec::new();
        for folder in [self.other.file(".ssh"), self.roots.display().to_string()] {
            let names = crate::common::names(Path::new(&folder)).into_iter().map(|name| Path::new(&folder).join(name));
            for path in names.chain([PathBuf::from(&folder)]) {
                let meta = path.symlink_metadata().unwrap();
                let bytes = if meta.is_file() { std::fs::read(&path).unwrap() } else { Vec::new() };
                all.push((path, bytes, [meta.mode(), meta.uid(), meta.gid()]));
            }
        }
        all
    }

    #[track_caller]
    fn check(&self, site: &Site, what: &str) {
        assert!(self.now() == self.before, "{what}: {:?}", self.now());
        // What root alone may read is neither shown nor remembered.
        let found = Command::new("grep").args(["-rl", SECRET]).arg(site.world.path("")).output().unwrap();
        assert_eq!(String::from_utf8_lossy(&found.stdout), "", "{what}");
    }
}

fn site() -> Site {
    let site = Site::new(PLAIN);
    site.write_register(&["edda"], &[("s", &site.server)]);
    site
}

/// Runs a script as the account, in its home.
fn as_owner(account: &Account, script: &str) -> Command {
    let mut command = Command::new("/usr/bin/setpriv");
    command.args(["--reuid", &account.name, "--regid", &account.name, "--init-groups", "/bin/sh", "-c", script]);
    command.current_dir(&account.home).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    command
}

#[test]
#[ignore = "needs real servers and root: scripts/test.sh"]
fn what_the_owner_lays_out_leads_nowhere_under_roots_login() {
    let site = site();
    let outside = Outside::new(&site);
    let account = &site.account;
    let (other, roots) = (outside.other.file(".ssh"), outside.roots.display().to_string());
    let rounds = [
        ("folder of another", format!("ln -s {other} .ssh")),
        ("folder of root", format!("ln -s {roots} .ssh")),
        ("file of another", format!("mkdir -m 700 .ssh; ln -s {other}/authorized_keys .ssh/authorized_keys")),
        ("file of root", format!("mkdir -m 700 .ssh; ln -s {roots}/authorized_keys .ssh/authorized_keys")),
        ("pipe", "mkdir -m 700 .ssh; mkfifo .ssh/authorized_keys".to_owned()),
        ("directory", "mkdir -m 700 .ssh .ssh/authorized_keys".to_owned()),
        ("loop", "ln -s .ssh .ssh".to_owned()),
        ("device", "mkdir -m 700 .ssh; ln -s /dev/zero .ssh/authorized_keys".to_owned()),
    ];
    for (what, script) in rounds {
        let status = as_owner(account, &format!("rm -rf .ssh; {script}")).status().unwrap();
        assert!(status.success(), "{what}");
        let run = site.world.typed(ENFORCE);
        assert!(matches!(run.status, 3 | 4), "{what}: {run}");
        assert!(!run.stdout.contains(SECRET) && !run.stderr.contains(SECRET), "{what}: {run}");
        outside.check(&site, what);
    }
    // A hard link to a file of root is what the kernel refuses the owner; root itself may have left one.
    system("rm", &["-rf", &account.file(".ssh")]);
    account.put(".ssh/other", "", "600", &account.name);
    let linked = account.file(".ssh/authorized_keys");
    if std::fs::hard_link(format!("{other}/authorized_keys"), &linked).is_ok() {
        let run = site.world.typed(ENFORCE);
        assert!(matches!(run.status, 3 | 4), "{run}");
        outside.check(&site, "hard link");
    }
    // With all of that out of the way the same command does its work.
    system("rm", &["-rf", &account.file(".ssh")]);
    drop(site.world.typed(ENFORCE).expect(0));
    assert!(site.client_gets_in("edda"));
    assert_eq!(account.stat(".ssh/authorized_keys"), "600 ACCOUNT");
}

#[test]
#[ignore = "needs real servers and root: scripts/test.sh"]
fn what_the_owner_swaps_while_root_works_leads_nowhere() {
    let site = site();
    let outside = Outside::new(&site);
    let account = &site.account;
    let (other, roots) = (outside.other.file(".ssh"), outside.roots.display().to_string());
    account.put(".ssh/authorized_keys", "# kept\n", "600", &account.name);
    // Folder and file are real, then links to what is not the owner's, then real again, as fast as a shell goes.
    let swap = |target: &str| {
        format!(
            "mkdir -p aside; while :; do
             mv -T .ssh aside/folder; ln -s {target} .ssh; rm -f .ssh; mv -T aside/folder .ssh
             mv .ssh/authorized_keys aside/file; ln -s {target}/authorized_keys .ssh/authorized_keys
             rm -f .ssh/authorized_keys; mv aside/file .ssh/authorized_keys; done"
        )
    };
    for target in [&other, &roots] {
        let _swapping = Running(as_owner(account, &swap(target)).spawn().unwrap());
        for number in 0..RUNS {
            let which = if number % 2 == 0 { "edda" } else { "root" };
            site.write_register(&[which], &[("s", &site.server)]);
            let run = site.world.typed(ENFORCE);
            assert!(matches!(run.status, 0 | 1 | 3 | 4 | 5), "{run}");
            assert!(!run.stdout.contains(SECRET) && !run.stderr.contains(SECRET), "{run}");
            outside.check(&site, target);
        }
    }
}
