//! Defaults for options that would be typed again and again: in the register's `lavrin.toml`, or in a file of the user's own.

use super::SourcePart;
use super::fault::FieldKind;
use super::fields::{Faults, Fields};
use super::table::{RegisterTable, by_toml};
use super::{RegisterFault, RootProgram};
use toml::Spanned;

/// What holds where an option is not typed.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Defaults {
    /// The account that signs in, where the host names none.
    pub login: Option<String>,
    /// The private key to sign in with, as a path on the machine of whoever types.
    pub identity: Option<String>,
    /// How a login other than root becomes root, where the host does not say.
    pub root_by: Option<RootProgram>,
    /// How many hosts at the same time.
    pub parallel: Option<u16>,
    /// The longest time for one look at one host, in seconds.
    pub host_limit: Option<u64>,
}

impl Defaults {
    /// These, and where they say nothing the others.
    #[must_use]
    pub fn or(self, other: Self) -> Self {
        Self {
            login: self.login.or(other.login),
            identity: self.identity.or(other.identity),
            root_by: self.root_by.or(other.root_by),
            parallel: self.parallel.or(other.parallel),
            host_limit: self.host_limit.or(other.host_limit),
        }
    }
}

/// Most hosts at the same time.
pub const PARALLEL_MAX: i64 = 1024;

/// The longest time for one look at one host, in seconds.
pub const HOST_LIMIT_MAX: i64 = 3600;

pub(super) fn of_table(source: SourcePart, table: Spanned<RegisterTable<'_>>, faults: &mut Faults) -> Defaults {
    let mut fields = Fields::new(source, "defaults", table, faults);
    let defaults = Defaults {
        login: fields.text("login").map(|login| login.value),
        identity: fields.text("identity").map(|path| path.value),
        root_by: fields.word("root_by", &RootProgram::NAMES, FieldKind::RootBy),
        parallel: fields.number("parallel", 1..=PARALLEL_MAX).and_then(|number| number.try_into().ok()),
        host_limit: fields.number("host_limit", 1..=HOST_LIMIT_MAX).and_then(|number| number.try_into().ok()),
    };
    fields.end();
    defaults
}

/// Reads a file that holds nothing but defaults.
///
/// # Errors
/// The first fault, and the bytes it is about.
pub fn read_defaults(text: &str) -> Result<Defaults, (RegisterFault, std::ops::Range<usize>)> {
    let (table, errors) = by_toml(text);
    if let Some(error) = errors.first() {
        return Err((RegisterFault::Syntax { said: error.message().to_owned() }, error.span().unwrap_or(0..0)));
    }
    let mut faults = Faults::new();
    let defaults = of_table(SourcePart { file: 0, start: 0 }, table, &mut faults);
    match faults.into_iter().next() {
        Some((fault, place, _)) => Err((fault, place.bytes())),
        None => Ok(defaults),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_that_says_something_holds() {
        let own = read_defaults("login = \"keeper\"\nparallel = 8\n").unwrap();
        let other = read_defaults("login = \"root\"\nidentity = \"~/.ssh/office\"\nroot_by = \"doas\"\n").unwrap();
        let both = own.or(other);
        assert_eq!((both.login.as_deref(), both.identity.as_deref()), (Some("keeper"), Some("~/.ssh/office")));
        assert_eq!((both.root_by, both.parallel, both.host_limit), (Some(RootProgram::Doas), Some(8), None));
    }

    #[test]
    fn what_makes_no_sense_is_told_with_its_place() {
        assert!(matches!(read_defaults("login = "), Err((RegisterFault::Syntax { .. }, _))));
        assert!(
            matches!(read_defaults("parallel = 5000"), Err((RegisterFault::WrongKind { .. }, place)) if place == (11..15))
        );
        assert!(matches!(read_defaults("user = \"x\""), Err((RegisterFault::UnknownField { .. }, _))));
    }
}
