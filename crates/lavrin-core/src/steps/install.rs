//! The steps that put a public key into an account.

use super::{
    Access, Account, BytePath, Change, KeysFile, NoSteps, Node, NodeKind, Observation, Obstacle, ObstacleKind, Owner,
    Place, Policy, Revived, Steps, Target, access, check_home, login, not_covered, owner_after, target,
};
use crate::key::PublicKey;
use crate::login::Limits;
use crate::server_config::Settings;

/// The steps that add `line`, which holds `key`. The first file that the server reads takes it.
///
/// # Errors
/// [`NoSteps`] where something is in the way that is not for Lavrin to decide.
pub fn install(name: &str, key: &PublicKey, line: &str, seen: &Observation, policy: &Policy) -> Result<Steps, NoSteps> {
    let account = seen.account(name).ok_or(NoSteps::NoSuchAccount)?;
    let files = login::key_files(account, seen);
    let first = files.first().ok_or(NoSteps::NoKeyFileNamed)?;
    let (home, home_node) = check_home(account, seen)?;
    let fingerprint = key.fingerprint();
    let mut steps = Steps {
        account: account.clone(),
        fingerprint,
        changes: Vec::new(),
        present: Vec::new(),
        target: None,
        revived: Vec::new(),
        not_covered: not_covered(account, seen),
        dead: Vec::new(),
    };
    for file in &files {
        // A file that cannot be read may hold the key too; only the one that is written has to be known.
        match target(file, account, seen) {
            Ok(found) => note_presence(&found, &mut steps),
            Err(fault) if file == first => return Err(fault),
            Err(_) => {}
        }
    }
    let chosen = match steps.present.first() {
        Some((place, _)) => place.path.clone(),
        None => first.clone(),
    };
    let found = target(&chosen, account, seen)?;
    let repair = Repair { account, home: &home, policy, seen };
    repair.folders(&home_node, &found, &mut steps)?;
    if steps.present.is_empty() {
        append(&repair, &found, line, &mut steps);
    } else {
        repair.file(&found, &mut steps);
    }
    if !steps.changes.is_empty() {
        steps.revived = revived(account, &found, &fingerprint, seen);
    }
    Ok(steps)
}

fn note_presence(found: &Target, steps: &mut Steps) {
    let document = found.document();
    for (line, entry) in document.entries().filter(|(_, entry)| entry.fingerprint == steps.fingerprint) {
        steps.present.push((Place { path: found.named.clone(), line }, Limits::of(&entry.options)));
    }
    for (line, unusable) in document.unusable() {
        if unusable.key.as_ref().is_some_and(|key| key.fingerprint() == steps.fingerprint) {
            steps.dead.push(Place { path: found.named.clone(), line });
        }
    }
}

fn append(repair: &Repair<'_>, found: &Target, line: &str, steps: &mut Steps) {
    let new = found.document().with_appended(line);
    let number = KeysFile::parse(&new).lines().last().map_or(1, |line| line.number);
    let (mode, owner) = repair.file_should_be(found);
    if repair.may_give_away() {
        repair.file(found, steps);
    }
    steps.changes.push(Change::WriteFile { path: found.real.clone(), old: found.bytes.clone(), new, mode, owner });
    steps.target = Some(Place { path: found.named.clone(), line: number });
}

/// What modes and owners should be, and the changes that make them so.
struct Repair<'a> {
    account: &'a Account,
    home: &'a BytePath,
    policy: &'a Policy,
    seen: &'a Observation,
}

impl Repair<'_> {
    fn own(&self) -> Owner {
        Owner { uid: self.account.uid, gid: self.account.gid }
    }

    /// Folders from the home down to the file: made, or set right where the server or policy objects.
    fn folders(&self, home_node: &Node, found: &Target, steps: &mut Steps) -> Result<(), NoSteps> {
        let Some(folder) = found.real.parent() else { return Ok(()) };
        if !folder.is_within(self.home) {
            return self.seen.node(&folder).into_known().map(|_| ()).ok_or(NoSteps::HomeMissing(folder));
        }
        set_mode(self.home, home_node, home_node.mode & !self.too_open(home_node), steps);
        let mut missing = false;
        for path in below(self.home, &folder) {
            match self.seen.node(&path).into_known() {
                Some(node) if node.kind != NodeKind::Folder => return Err(NoSteps::WrongKind(path)),
                Some(node) if !missing => {
                    self.owner(&path, node, steps)?;
                    let wanted = if node.mode & !self.policy.folder_mode & 0o777 != 0 || node.mode & 0o100 == 0 {
                        self.policy.folder_mode
                    } else {
                        node.mode
                    };
                    set_mode(&path, node, wanted, steps);
                }
                _ => {
                    missing = true;
                    steps.changes.push(Change::MakeFolder { path, mode: self.policy.folder_mode, owner: self.own() });
                }
            }
        }
        Ok(())
    }

    /// The write bits for which the server would not read anything in this folder.
    fn too_open(&self, node: &Node) -> u32 {
        let tolerated = matches!(self.seen.server, crate::survey::Server::OpenSsh { tolerates_private_groups: true })
            && crate::account::is_private_group(
                node.gid,
                node.uid,
                self.account,
                &self.seen.accounts,
                &self.seen.groups,
            );
        if tolerated { 0o002 } else { 0o022 }
    }

    fn may_give_away(&self) -> bool {
        self.seen.viewer == Some(0)
    }

    fn owner(&self, path: &BytePath, node: &Node, steps: &mut Steps) -> Result<(), NoSteps> {
        if node.uid == self.account.uid {
            return Ok(());
        }
        if !self.may_give_away() {
            return Err(NoSteps::NeedsRoot { path: path.clone(), found: node.uid, wanted: self.account.uid });
        }
        let from = Owner { uid: node.uid, gid: node.gid };
        steps.changes.push(Change::SetOwner { path: path.clone(), from, to: self.own() });
        Ok(())
    }

    /// Mode and owner that the file should have: as they are where nobody objects.
    fn file_should_be(&self, found: &Target) -> (u32, Owner) {
        let Some(node) = &found.node else { return (self.policy.file_mode, self.own()) };
        let owner = Owner { uid: node.uid, gid: node.gid };
        if !found.real.is_within(self.home) {
            return (node.mode & !0o022, owner);
        }
        let unfit = node.mode & !self.policy.file_mode & 0o777 != 0 || node.mode & 0o400 == 0;
        let mode = if unfit { self.policy.file_mode } else { node.mode };
        (mode, if node.uid == self.account.uid { owner_after(node, self.account, self.seen) } else { self.own() })
    }

    /// Owner and mode of a file that is there. Without root's rights a foreign owner goes when the file is replaced.
    fn file(&self, found: &Target, steps: &mut Steps) {
        let Some(node) = &found.node else { return };
        let (mode, owner) = self.file_should_be(found);
        let from = Owner { uid: node.uid, gid: node.gid };
        if owner.uid != from.uid && !self.may_give_away() {
            let bytes = found.bytes.clone().unwrap_or_default();
            steps.changes.push(Change::WriteFile {
                path: found.real.clone(),
                old: Some(bytes.clone()),
                new: bytes,
                mode,
                owner,
            });
            return;
        }
        if owner.uid != from.uid {
            steps.changes.push(Change::SetOwner { path: found.real.clone(), from, to: owner });
        }
        set_mode(&found.real, node, mode, steps);
    }
}

fn set_mode(path: &BytePath, node: &Node, wanted: u32, steps: &mut Steps) {
    if node.mode != wanted {
        steps.changes.push(Change::SetMode { path: path.clone(), from: node.mode, to: wanted });
    }
}

/// Every folder below `home` down to `folder`.
fn below(home: &BytePath, folder: &BytePath) -> Vec<BytePath> {
    let mut paths = Vec::new();
    let mut here = Some(folder.clone());
    while let Some(path) = here.filter(|path| path != home) {
        here = path.parent();
        paths.push(path);
    }
    paths.reverse();
    paths
}

/// The other entries of a file that the server did not read until now and will read afterwards.
fn revived(account: &Account, found: &Target, own: &crate::key::Fingerprint, seen: &Observation) -> Vec<Revived> {
    let strict = login::strict(&Settings::of(account, seen), seen);
    let Access::Barred(_, obstacles) = access(&found.named, account, strict, seen) else { return Vec::new() };
    let mended = |obstacle: &Obstacle| {
        matches!(
            obstacle.kind,
            ObstacleKind::TooOpen { .. } | ObstacleKind::TooClosed { .. } | ObstacleKind::WrongOwner { .. }
        )
    };
    if !obstacles.iter().all(mended) {
        return Vec::new();
    }
    let document = found.document();
    let others = document.entries().filter(|(_, entry)| entry.fingerprint != *own);
    others
        .map(|(line, entry)| Revived {
            place: Place { path: found.named.clone(), line },
            fingerprint: entry.fingerprint,
            comment: entry.comment.clone(),
        })
        .collect()
}
