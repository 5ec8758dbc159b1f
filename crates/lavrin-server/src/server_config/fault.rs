//! What a server does not start with.

use crate::fs::BytePath;
use crate::server::Version;

/// Why the server would not start: a line of its configuration.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ConfigFault {
    /// The file.
    pub path: BytePath,
    /// The line in it, counted from 1; 0 where no line alone is wrong.
    pub line: usize,
    /// What is wrong.
    pub what: ConfigError,
}

/// What is wrong with a configuration.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ConfigError {
    /// Files include each other without end.
    EndlessInclude,
    /// A quote is not closed.
    OpenQuote,
    /// The value of a keyword, which is named as it stands there.
    Value(String, WrongValue),
    /// A keyword that the server does not know, with the version that brought it.
    UnknownKeyword(String, Option<Version>),
    /// A keyword that may not stand in a Match block.
    NotInMatch(String),
    /// What is wrong with a Match line.
    Match(WrongMatch),
    /// A subsystem that is defined already.
    SubsystemTwice,
    /// A subsystem of this name is defined in a Match block only, which ends the sessions there.
    SubsystemInBlockOnly(String),
    /// `any` follows other lists of `AuthenticationMethods`.
    AnyAmongMethods,
    /// `AuthenticationMethods` asks for methods that are off.
    MethodsOff,
    /// A keyword whose command has no absolute path.
    RelativeCommand(&'static str),
    /// A command without the account that it runs as: both keywords.
    CommandWithoutUser(&'static str, &'static str),
    /// A list of algorithms that excludes a name, which only works behind `-`: the keyword and the name.
    ExcludedAlgorithm(String, String),
    /// The switches that the server is started with.
    Switch(WrongSwitch),
}

/// Why a server does not start with its switches.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WrongSwitch {
    /// Its version does not know this one.
    Unknown(char),
    /// One asks for passwords and another turns them off.
    PasswordsAskedAndOff,
    /// `-G` names a group that is not there.
    NoSuchGroup(String),
}

/// What is wrong with the value of a keyword.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WrongValue {
    /// No server on Linux takes the keyword.
    NotOnLinux,
    /// There is none.
    Missing,
    /// One of the words is empty.
    Empty,
    /// This stands behind the one value.
    Surplus(String),
    /// This word has to stand alone.
    NotAlone(&'static str),
    /// The server does not take this.
    Refused(String),
    /// A subsystem without its command.
    NoCommand,
    /// A name in a list that the server does not know.
    UnknownName(String),
    /// A list in which something is no method.
    NoMethod(String),
}

/// What is wrong with a Match line.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WrongMatch {
    /// It has no condition.
    Empty,
    /// `all` stands beside others.
    AllBesideOthers,
    /// A criterion without a pattern.
    NoPattern(String),
    /// A list of addresses with an empty element, or with a length that does not fit.
    Addresses(String),
    /// A port that is none.
    NoPort(String),
    /// A criterion that the server does not know.
    UnknownCriterion(String),
}
