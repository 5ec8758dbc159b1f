//! Where a host without a shell keeps the keys of an account, and in which form.

/// Stands for the account in the name of a key file, as in `AuthorizedKeysFile` of `sshd_config(5)`.
const ACCOUNT: &str = "%u";

/// The key file of the account that signs in, from where its sessions begin.
const USUAL: &str = ".ssh/authorized_keys";

/// How keys are written into a file.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum KeyForm {
    /// An entry on each line, as in `sshd(8)`.
    #[default]
    Lines,
    /// A block for each key (RFC 4716).
    Blocks,
}

impl KeyForm {
    /// Each by its name in the register.
    pub const NAMES: [(&'static str, Self); 2] = [("lines", Self::Lines), ("blocks", Self::Blocks)];
}

/// How lines end that are written.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum KeyLineEnds {
    /// With LF.
    #[default]
    Lf,
    /// With CR LF.
    CrLf,
}

impl KeyLineEnds {
    /// Each by its name in the register.
    pub const NAMES: [(&'static str, Self); 2] = [("lf", Self::Lf), ("crlf", Self::CrLf)];

    /// The bytes.
    #[must_use]
    pub fn text(self) -> &'static str {
        match self {
            Self::Lf => "\n",
            Self::CrLf => "\r\n",
        }
    }
}

/// One key file for all members of a group.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GroupPlace {
    /// The group.
    pub group: String,
    /// The file.
    pub file: String,
    /// Its members; the host itself does not show them.
    pub members: Vec<String>,
}

/// Where the keys of accounts are.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct KeyPlaces {
    /// The key file; `%u` stands for the account. Without it the login's own, and that of no other account.
    pub file: Option<String>,
    /// Files of groups; the first whose member an account is goes before its own.
    pub of_groups: Vec<GroupPlace>,
    /// How keys are written there.
    pub form: KeyForm,
    /// How lines end that are written.
    pub line_ends: KeyLineEnds,
}

/// Whether this can be the path of a key file: `..` leads elsewhere, and nothing unseen belongs into a name.
#[must_use]
pub fn is_keys_path(path: &str) -> bool {
    !path.is_empty() && !path.contains(char::is_control) && path.split('/').all(|name| name != "..")
}

impl KeyPlaces {
    /// The key file of an account, where `login` signs in; none where the register names none that is this account's.
    #[must_use]
    pub fn file_of(&self, account: &str, login: &str) -> Option<String> {
        // A name that leads elsewhere is no name.
        if account.is_empty() || account.contains(['/', '\\']) || account.starts_with('.') {
            return None;
        }
        let of_group = self.of_groups.iter().find(|place| place.members.iter().any(|member| member == account));
        let file = match (of_group, &self.file) {
            (Some(place), _) => Some(place.file.clone()),
            (None, Some(file)) if file.contains(ACCOUNT) || account == login => Some(file.replace(ACCOUNT, account)),
            (None, None) if account == login => Some(USUAL.to_owned()),
            (None, _) => None,
        };
        file.filter(|file| is_keys_path(file))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_account_has_the_file_of_its_group_else_its_own_and_never_anothers() {
        let usual = KeyPlaces::default();
        assert_eq!(usual.file_of("edda", "edda").as_deref(), Some(".ssh/authorized_keys"));
        assert_eq!(usual.file_of("sten", "edda"), None);
        let named = KeyPlaces { file: Some("/keys/%u.pub".to_owned()), ..KeyPlaces::default() };
        assert_eq!(named.file_of("sten", "edda").as_deref(), Some("/keys/sten.pub"));
        assert_eq!(["../root", "", ".", "a/b", "a\\b"].map(|name| named.file_of(name, "edda")), [const { None }; 5]);
        for elsewhere in ["/keys/../etc/%u", "..", "", "/keys/%u\0"] {
            let led = KeyPlaces { file: Some(elsewhere.to_owned()), ..KeyPlaces::default() };
            assert_eq!(led.file_of("sten", "edda"), None, "{elsewhere:?}");
        }
        let one = KeyPlaces { file: Some("/keys/own".to_owned()), ..KeyPlaces::default() };
        assert_eq!([one.file_of("sten", "edda"), one.file_of("edda", "edda")], [None, Some("/keys/own".to_owned())]);
        let group = GroupPlace { group: "office".into(), file: "/keys/office".into(), members: vec!["sten".into()] };
        let groups = KeyPlaces { of_groups: vec![group], ..named };
        assert_eq!(groups.file_of("sten", "edda").as_deref(), Some("/keys/office"));
        assert_eq!(groups.file_of("edda", "edda").as_deref(), Some("/keys/edda.pub"));
    }
}
