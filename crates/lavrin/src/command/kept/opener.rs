//! Which private key opens a seal: an administrator's own, from its file. An agent signs and does not open.

use crate::error::CommandError;
use crate::exit::Exit;
use crate::secret::Given;
use crate::{input, paths};
use clap::Args;
use lavrin_keys::key::container::{FILE_BYTES_MAX, PieceKind};
use lavrin_keys::key::{PrivateKey, PublicKey};
use lavrin_keys::pieces::read;
use lavrin_seal::SealedFile;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Most files of `~/.ssh` that are looked into.
const FILES_MAX: usize = 200;

/// Which key opens seals.
#[derive(Debug, Args, Clone, Default)]
pub struct OpenerArgs {
    /// Key that opens the seal (default: ~/.ssh)
    #[arg(long, value_name = "FILE", value_parser = paths::typed)]
    pub open_with: Option<PathBuf>,
}

/// Opens seals, each with the same key where that fits: a passphrase is asked for once.
pub struct SealOpener {
    named: Option<PathBuf>,
    /// Tried before any other, where it fits.
    identity: Option<PathBuf>,
    given: Given,
    opened: Option<Arc<PrivateKey>>,
}

impl SealOpener {
    /// With the key that is named, else that of the login where it fits, else one that is found.
    pub fn new(args: &OpenerArgs, identity: Option<&PathBuf>, given: Given) -> Self {
        Self { named: args.open_with.clone(), identity: identity.cloned(), given, opened: None }
    }

    /// The key that opens this one. `what` names it.
    pub fn key_for(&mut self, sealed: &SealedFile, what: &str) -> Result<Arc<PrivateKey>, CommandError> {
        if let Some(key) = self.opened.as_ref().filter(|key| sealed.is_for(key.public())) {
            return Ok(key.clone());
        }
        let identity = self.identity.as_ref().filter(|path| public_of(path).is_none_or(|key| sealed.is_for(&key)));
        let path = match self.named.as_ref().or(identity) {
            Some(path) => path.clone(),
            None => found(sealed).ok_or_else(|| for_others(what, "no key in ~/.ssh opens it"))?,
        };
        if let Some(public) = public_of(&path).filter(|public| !sealed.is_for(public)) {
            let said = format!("the key in {} ({}) does not open it", paths::shown(&path), public.fingerprint());
            return Err(for_others(what, &said));
        }
        let key = Arc::new(input::private_key(&path, &self.given)?);
        if !sealed.is_for(key.public()) {
            return Err(for_others(what, &format!("the key in {} does not open it", paths::shown(&path))));
        }
        self.opened = Some(key.clone());
        Ok(key)
    }
}

fn for_others(what: &str, cause: &str) -> CommandError {
    CommandError::with(Exit::NotChecked, format!("{what} is not sealed for you, as far as can be seen here"))
        .because(cause)
        .because("an agent cannot open a seal: the private key is needed from its file")
        .hint("for whom it is sealed: lavrin kept list")
        .again("", "--open-with FILE")
}

/// The first private key of the user that fits.
fn found(sealed: &SealedFile) -> Option<PathBuf> {
    let folder = paths::home()?.join(".ssh");
    let mut files: Vec<PathBuf> = std::fs::read_dir(folder).ok()?.flatten().map(|entry| entry.path()).collect();
    files.sort_unstable();
    let is_key = |path: &PathBuf| path.is_file() && path.extension().is_none_or(|ending| ending != "pub");
    let mut keys = files.into_iter().filter(is_key).take(FILES_MAX);
    keys.find(|path| public_of(path).is_some_and(|public| sealed.is_for(&public)))
}

/// The public half of the private key in a file, as far as it shows without a passphrase: from the file itself, else from the one
/// beside it.
fn public_of(path: &Path) -> Option<PublicKey> {
    let is_small = std::fs::metadata(path).is_ok_and(|meta| meta.len() <= FILE_BYTES_MAX as u64);
    let content = input::bytes(path).ok().filter(|_| is_small)?;
    let closed = read(&content).into_iter().find_map(|piece| match piece.kind {
        PieceKind::Private(closed) => Some(closed),
        _ => None,
    })?;
    let beside = || input::public_key(Path::new(&format!("{}.pub", path.display()))).ok().map(|given| given.key);
    closed.public().cloned().or_else(beside)
}
