//! How a host is spoken to, and how a login gets root's rights there.

/// How a host is spoken to.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum ReachKind {
    /// Over a POSIX shell behind SSH.
    #[default]
    Shell,
    /// Over NETCONF, to its data store of accounts.
    Netconf,
    /// Over the public key subsystem, for the account that signs in.
    KeySubsystem,
    /// Over nothing but the transfer of files.
    Sftp,
    /// Over a command line of its own, by a profile.
    Dialogue,
}

impl ReachKind {
    /// Each by its name in the register.
    pub(crate) const NAMES: [(&'static str, Self); 5] = [
        ("shell", Self::Shell),
        ("netconf", Self::Netconf),
        ("publickey-subsystem", Self::KeySubsystem),
        ("sftp", Self::Sftp),
        ("dialogue", Self::Dialogue),
    ];

    /// Its name in the register.
    #[must_use]
    pub fn name(self) -> &'static str {
        Self::NAMES.iter().find(|(_, kind)| *kind == self).map_or("shell", |(name, _)| name)
    }

    /// The port where the register names none (RFC 4253, section 4; RFC 6242, section 6).
    #[must_use]
    pub fn port(self) -> u16 {
        match self {
            Self::Shell | Self::KeySubsystem | Self::Sftp | Self::Dialogue => 22,
            Self::Netconf => 830,
        }
    }
}

/// What gives a login other than root the rights of root.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RootProgram {
    /// `sudo`.
    Sudo,
    /// `doas`.
    Doas,
    /// Nothing: the login works with its own rights.
    Nothing,
}

impl RootProgram {
    /// Each by its name in the register.
    pub(crate) const NAMES: [(&'static str, Self); 3] =
        [("sudo", Self::Sudo), ("doas", Self::Doas), ("none", Self::Nothing)];
}
