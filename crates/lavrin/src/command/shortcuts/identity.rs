//! Which key the shortcuts offer: the file that is named, else one of the person's that lies in `~/.ssh`.

use crate::command::register::today;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::{own_keys, paths};
use lavrin_fleet::register::Person;
use lavrin_keys::key::Fingerprint;
use lavrin_keys::text::shell_word;
use std::path::{Path, PathBuf};

/// A key by its file.
pub struct Identity {
    /// The private half, or the public one of a key that an agent holds.
    pub path: PathBuf,
    /// Which key it is; `None`: the file is not on this machine, or says nothing.
    pub print: Option<Fingerprint>,
}

impl Identity {
    /// A file that was named. It may lie on another machine, the person's own.
    pub fn named(path: &Path) -> Self {
        Self { path: std::path::absolute(path).unwrap_or_else(|_| path.to_owned()), print: own_keys::print_of(path) }
    }

    /// That of a person.
    pub fn of(person: &Person, named: Option<&Path>) -> Result<Self, CommandError> {
        let found = match named {
            Some(path) => Self::named(path),
            None => lying_here(person).ok_or_else(|| none_here(person))?,
        };
        let is_theirs =
            |print: &Fingerprint| person.keys.iter().any(|key| key.is_active(today()) && key.fingerprint == *print);
        match found.print {
            Some(print) if !is_theirs(&print) => {
                let shown = paths::shown(&found.path);
                Err(CommandError::with(Exit::Stopped, format!("{shown} is no key in use of {}", person.id))
                    .because(format!("it is {print}"))
                    .hint(format!("lavrin person show {}", person.id)))
            }
            _ => Ok(found),
        }
    }
}

fn none_here(person: &Person) -> CommandError {
    CommandError::usage(format!("none of the keys of {} lies in ~/.ssh", person.id))
        .again("where it lies on the machine of whoever uses the shortcuts", "--identity FILE")
}

/// The first of the person's keys whose private half lies in `~/.ssh`.
fn lying_here(person: &Person) -> Option<Identity> {
    let lying = own_keys::lying_here();
    let keys = person.keys.iter().filter(|key| key.is_active(today()));
    let (path, print) =
        keys.flat_map(|key| lying.iter().filter(|(_, print)| *print == key.fingerprint)).next()?.clone();
    Some(Identity { path, print: Some(print) })
}

/// What is said where the file is not on this machine.
pub fn not_here(path: &Path) -> String {
    format!("{} is not on this machine, so nobody looked whose key it is", shell_word(&paths::shown(path)))
}
