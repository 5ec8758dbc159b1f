//! What a server does not start with, in words.

use lavrin_server::server_config::{ConfigError, WrongMatch, WrongSwitch, WrongValue};

/// What is wrong with a configuration.
pub fn error(error: &ConfigError) -> String {
    match error {
        ConfigError::EndlessInclude => "files include each other without end".to_owned(),
        ConfigError::OpenQuote => "a quote is not closed".to_owned(),
        ConfigError::Value(keyword, wrong) => format!("{keyword} {}", value(wrong)),
        ConfigError::UnknownKeyword(keyword, None) => format!("the server knows no keyword '{keyword}'"),
        ConfigError::UnknownKeyword(keyword, Some(first)) => {
            format!("the server does not know the keyword '{keyword}', which exists since {first}")
        }
        ConfigError::NotInMatch(keyword) => format!("{keyword} is not allowed in a Match block"),
        ConfigError::Match(wrong) => condition(wrong),
        ConfigError::SubsystemTwice => "this Subsystem is defined already".to_owned(),
        ConfigError::SubsystemInBlockOnly(name) => {
            format!("a Subsystem {name} that is defined only here ends the session of everybody in this block")
        }
        ConfigError::AnyAmongMethods => {
            "'any' has to be alone in AuthenticationMethods; here it follows others".to_owned()
        }
        ConfigError::MethodsOff => "AuthenticationMethods asks for methods that are off".to_owned(),
        ConfigError::RelativeCommand(command) => format!("{command} needs an absolute path"),
        ConfigError::CommandWithoutUser(command, user) => format!("{command} is set without {user}"),
        ConfigError::ExcludedAlgorithm(keyword, name) => {
            format!("{keyword} excludes a name, '{name}', which the server accepts only in a list that begins with '-'")
        }
        ConfigError::Switch(wrong) => switch(wrong),
    }
}

fn value(wrong: &WrongValue) -> String {
    match wrong {
        WrongValue::NotOnLinux => "is not supported on Linux".to_owned(),
        WrongValue::Missing => "has no value".to_owned(),
        WrongValue::Empty => "has an empty value".to_owned(),
        WrongValue::Surplus(more) => format!("needs one value, and '{more}' follows it"),
        WrongValue::NotAlone(word) => format!("has '{word}' beside others, where it has to be alone"),
        WrongValue::Refused(word) => format!("does not accept '{word}'"),
        WrongValue::NoCommand => "names no command".to_owned(),
        WrongValue::UnknownName(name) => format!("names what the server does not know: '{name}'"),
        WrongValue::NoMethod(list) => format!("names no method in '{list}'"),
    }
}

fn condition(wrong: &WrongMatch) -> String {
    match wrong {
        WrongMatch::Empty => "Match has no condition".to_owned(),
        WrongMatch::AllBesideOthers => "'all' cannot be combined with other Match attributes".to_owned(),
        WrongMatch::NoPattern(criterion) => format!("Match {criterion} has no pattern"),
        WrongMatch::Addresses(list) => {
            format!("an element of '{list}' is empty, or a range in it has a length that does not fit")
        }
        WrongMatch::NoPort(text) => format!("'{text}' is not a port"),
        WrongMatch::UnknownCriterion(name) => format!("no Match attribute is called '{name}'"),
    }
}

fn switch(wrong: &WrongSwitch) -> String {
    match wrong {
        WrongSwitch::Unknown(letter) => format!("it knows no switch -{letter}"),
        WrongSwitch::PasswordsAskedAndOff => "-t asks for the passwords that -s turns off".to_owned(),
        WrongSwitch::NoSuchGroup(name) => format!("-G names the group {name}, which is not there"),
    }
}
