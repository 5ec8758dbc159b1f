//! What the lines of a configuration come to for one login.
//!
//! The server reads its files twice: once when it starts, where nothing but what stands outside of Match blocks or under
//! `Match all` counts, and once for each connection, where the blocks that hold go before what the first reading gave.

use super::conditions::{Applies, condition};
use super::drop_in::{SetLine, set_lines};
use super::fault::{ConfigError, ConfigFault, WrongMatch};
use super::lines::{Collected, Statement, collect};
use super::values::{STRICT_SINCE, ValueRules, check, may_hold_only_comment};
use super::{Setting, Settings, Takes, USUAL_PATH, add, keywords, main_path};
use crate::account::Account;
use crate::fs::BytePath;
use crate::server::Version;
use crate::survey::Observation;
use lavrin_keys::services::Services;
use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;

/// A configuration taken apart once for the many accounts of a system.
#[derive(Debug)]
pub struct Config {
    collected: Collected,
    services: Services,
    same: Option<Arc<Settings>>,
}

impl Config {
    /// Takes the configuration apart that was seen.
    #[must_use]
    pub fn of(seen: &Observation) -> Self {
        let collected = collect(&main_path(seen), seen);
        let differs = collected.statements.iter().any(|statement| statement.keyword == "match");
        let nobody = Account::unknown("");
        let services = seen.services();
        let same = (!differs).then(|| Arc::new(settings(&collected, Some(&nobody), &services, seen)));
        Self { collected, services, same }
    }

    /// The lines that set one of these keywords (in lower case), in the order in which the server reads them.
    #[must_use]
    pub fn set_lines(&self, keywords: &[&str], seen: &Observation) -> Vec<SetLine> {
        set_lines(&self.collected.statements, seen.server.rules(), keywords)
    }

    /// The files that it was read from, each once.
    #[must_use]
    pub fn files(&self, seen: &Observation) -> Vec<BytePath> {
        let mut files = vec![main_path(seen)];
        for statement in &self.collected.statements {
            if !files.contains(&statement.path) {
                files.push(statement.path.clone());
            }
        }
        files
    }

    /// What is in force for this account.
    #[must_use]
    pub fn of_account(&self, account: &Account, seen: &Observation) -> Arc<Settings> {
        self.same.clone().unwrap_or_else(|| Arc::new(settings(&self.collected, Some(account), &self.services, seen)))
    }
}

/// A Match block that is open.
struct MatchBlock {
    depth: usize,
    applies: Applies,
    always: bool,
}

/// How many methods are set so far, at the start and for the connection: `any` may not follow any other.
#[derive(Default)]
struct Methods {
    at_start: usize,
    for_connection: usize,
}

struct Evaluation<'a> {
    account: Option<&'a Account>,
    rules: ValueRules<'a>,
    seen: &'a Observation,
    host_counts: bool,
    settings: Settings,
    matched: BTreeMap<String, Setting>,
    subsystems: HashSet<String>,
    blocks: Vec<MatchBlock>,
    methods: Methods,
}

/// What is in force for an account; without one no Match block holds.
pub(super) fn settings(
    collected: &Collected,
    account: Option<&Account>,
    services: &Services,
    seen: &Observation,
) -> Settings {
    let rules = ValueRules { version: seen.server.rules(), services };
    let looks_up = collected.statements.iter().find(|statement| statement.keyword == "usedns");
    let looks_up = looks_up.is_some_and(|statement| statement.words == ["yes"]);
    let mut reading = Evaluation {
        account,
        rules,
        seen,
        host_counts: looks_up || seen.connection.host_counts,
        settings: Settings {
            unseen: collected.unseen.clone(),
            faults: collected.faults.clone(),
            ..Settings::of_version(rules.version)
        },
        matched: BTreeMap::new(),
        subsystems: HashSet::new(),
        blocks: Vec::new(),
        methods: Methods::default(),
    };
    for statement in &collected.statements {
        reading.read(statement);
    }
    // The server looks at these when it starts, whatever a Match block says.
    check_methods(&mut reading.settings);
    check_commands(&mut reading.settings);
    let excluding = excluded_algorithm(&reading.settings.values, rules.version);
    reading.settings.faults.extend(excluding);
    // What holds for one connection is put together when it comes in: that ends the session, not the server.
    let ending = excluded_algorithm(&reading.matched, rules.version);
    reading.settings.ends = reading.settings.ends.or(ending);
    if rules.version < STRICT_SINCE {
        ask_by_keyboard(&mut reading.settings);
    }
    reading.settings.values.extend(reading.matched);
    reading.settings
}

impl Evaluation<'_> {
    fn read(&mut self, statement: &Statement) {
        while self.blocks.last().is_some_and(|block| block.depth > statement.depth) {
            self.blocks.pop();
        }
        if statement.keyword == "match" {
            self.open_block(statement);
            return;
        }
        // What stands under "Match all" is read twice: as if it stood outside, and as a block that holds.
        let outside = self.blocks.iter().all(|block| block.always);
        let is = |wanted: Applies| self.blocks.iter().any(|block| block.applies == wanted);
        let (holds, undecided) = (!is(Applies::No) && !is(Applies::Undecided), is(Applies::Undecided));
        let Some((keyword, in_match)) = self.checked(statement, !outside, holds) else { return };
        if keyword == "subsystem" {
            self.subsystem(statement, outside, holds);
        }
        if keyword == "authenticationmethods" {
            self.count_methods(statement, outside, !self.blocks.is_empty() && holds);
        }
        if statement.words.is_empty() {
            return; // as if it did not stand there, unless it is a fault
        }
        let setting = || Setting {
            words: statement.words.clone(),
            path: Some(statement.path.clone()),
            line: Some(statement.line),
        };
        if outside && (self.blocks.is_empty() || self.account.is_none() || !in_match) {
            add(&mut self.settings.values, keyword, setting(), self.rules.version);
        } else if holds {
            add(&mut self.matched, keyword, setting(), self.rules.version);
        } else if undecided && !self.blocks.iter().any(|block| block.applies == Applies::No) {
            self.settings.conditional.push((keyword.to_owned(), statement.path.clone(), statement.line));
        }
    }

    fn open_block(&mut self, statement: &Statement) {
        if self.blocks.last().is_some_and(|block| block.depth == statement.depth) {
            self.blocks.pop();
        }
        let applies = self.condition(statement);
        let always = matches!(&statement.words[..], [word] if word.eq_ignore_ascii_case("all"));
        self.blocks.push(MatchBlock { depth: statement.depth, applies, always });
    }

    fn condition(&mut self, statement: &Statement) -> Applies {
        let nobody = Account::unknown("");
        let read = if statement.words.is_empty() {
            Err(WrongMatch::Empty)
        } else {
            condition(&statement.words, self.account.unwrap_or(&nobody), self.host_counts, &self.rules, self.seen)
        };
        match read {
            Ok(applies) if self.account.is_some() => applies,
            Ok(_) => Applies::No,
            Err(what) => {
                self.fault(statement, ConfigError::Match(what));
                Applies::No
            }
        }
    }

    /// The name that counts of a statement's keyword, and whether Match blocks may hold it; `None` where there is
    /// nothing to set.
    fn checked(&mut self, statement: &Statement, in_match: bool, holds: bool) -> Option<(&'static str, bool)> {
        let Some(keyword) = keywords::keyword(&statement.keyword, self.rules.version) else {
            if self.seen.server.may_know_more() {
                let unknown = (statement.spelled.clone(), statement.path.clone(), statement.line);
                self.settings.unknown.push(unknown);
            } else {
                let came_with = keywords::first_version(&statement.keyword);
                self.fault(statement, ConfigError::UnknownKeyword(statement.spelled.clone(), came_with));
            }
            return None;
        };
        let may_stand_in_match = keyword.may_stand_in_match(self.rules.version);
        // In a block that does not hold the server only looks at the name of a subsystem.
        let is_passed_over = (keyword.takes == Takes::Subsystem
            && in_match
            && !holds
            && statement.words.first().is_some_and(|name| !name.is_empty()))
            || (statement.only_comment && may_hold_only_comment(keyword.takes, self.rules.version));
        if in_match && !may_stand_in_match {
            self.fault(statement, ConfigError::NotInMatch(statement.spelled.clone()));
        } else if !is_passed_over
            && let Err(what) = check(&statement.spelled, keyword.takes, &statement.words, &self.rules)
        {
            self.fault(statement, what);
        }
        // Under "Match all" another name counts like the keyword that it stands for.
        let meant = keywords::keyword(keyword.means, self.rules.version);
        let counts_in_match = meant.is_some_and(|meant| meant.may_stand_in_match(self.rules.version));
        (keyword.takes != Takes::Nothing).then_some((keyword.means, may_stand_in_match || counts_in_match))
    }

    /// Names of subsystems: once, before one could stand in a Match block; since then a block that holds may only change what
    /// stands outside, else the process that serves the login dies.
    fn subsystem(&mut self, statement: &Statement, outside: bool, holds: bool) {
        let name = statement.words.first().cloned().unwrap_or_default();
        if outside {
            if !self.subsystems.insert(name) && self.rules.version < IN_BLOCKS_SINCE {
                self.fault(statement, ConfigError::SubsystemTwice);
            }
        } else if holds && self.account.is_some() && !self.subsystems.contains(&name) {
            let what = ConfigError::SubsystemInBlockOnly(name);
            self.settings.ends.get_or_insert(ConfigFault { path: statement.path.clone(), line: statement.line, what });
        }
    }

    fn count_methods(&mut self, statement: &Statement, outside: bool, holds: bool) {
        let any = statement.words.iter().any(|word| word == "any");
        let beside = self.methods.at_start.max(self.methods.for_connection);
        let across_lines = (STRICT_SINCE..ANY_BY_LINE_SINCE).contains(&self.rules.version);
        if any && beside > 0 && across_lines {
            self.fault(statement, ConfigError::AnyAmongMethods);
        }
        let count = |number: &mut usize, counts: bool| {
            if counts && *number == 0 {
                *number = statement.words.len();
            }
        };
        count(&mut self.methods.at_start, outside);
        count(&mut self.methods.for_connection, holds);
    }

    fn fault(&mut self, statement: &Statement, what: ConfigError) {
        self.settings.faults.push(ConfigFault { path: statement.path.clone(), line: statement.line, what });
    }
}

/// Since this version `any` has to stand alone on its own line only, as before 8.7.
const ANY_BY_LINE_SINCE: Version = Version(10, 0);

/// Since this version a Subsystem may stand in a Match block.
pub(super) const IN_BLOCKS_SINCE: Version = Version(9, 5);

/// Before 8.7 `KbdInteractiveAuthentication` was on wherever `ChallengeResponseAuthentication` was.
fn ask_by_keyboard(settings: &mut Settings) {
    if settings.word("challengeresponseauthentication") == "no" {
        return;
    }
    let place = settings.values.get("challengeresponseauthentication").cloned();
    let asked = Setting { words: vec!["yes".to_owned()], path: None, line: None };
    let setting = place.map_or(asked.clone(), |place| Setting { words: asked.words, ..place });
    settings.values.insert("kbdinteractiveauthentication".to_owned(), setting);
}

/// At least one of the lists in `AuthenticationMethods` has to be possible with the methods that are on.
fn check_methods(settings: &mut Settings) {
    let Some(setting) = settings.values.get("authenticationmethods").cloned() else { return };
    let is_on = |method: &str| match method.split(':').next().unwrap_or_default() {
        "password" => settings.word("passwordauthentication") != "no",
        "keyboard-interactive" => settings.word("kbdinteractiveauthentication") != "no",
        "publickey" => settings.word("pubkeyauthentication") != "no",
        "hostbased" => settings.word("hostbasedauthentication") != "no",
        "gssapi-with-mic" => settings.word("gssapiauthentication") != "no",
        _ => true,
    };
    if !setting.words.iter().any(|list| list.split(',').all(is_on)) {
        let what = ConfigError::MethodsOff;
        let path = setting.path.unwrap_or_else(|| USUAL_PATH.into());
        settings.faults.push(ConfigFault { path, line: setting.line.unwrap_or(0), what });
    }
}

/// A command that gives keys or names needs an absolute path and an account to run as.
fn check_commands(settings: &mut Settings) {
    for (command, user) in [
        ("authorizedkeyscommand", "authorizedkeyscommanduser"),
        ("authorizedprincipalscommand", "authorizedprincipalscommanduser"),
    ] {
        let Some(setting) = settings.values.get(command).filter(|setting| setting.words != ["none"]).cloned() else {
            continue;
        };
        let what = if !setting.words.first().is_some_and(|word| word.starts_with('/')) {
            ConfigError::RelativeCommand(command)
        } else if settings.get(user).is_none() {
            ConfigError::CommandWithoutUser(command, user)
        } else {
            continue;
        };
        let path = setting.path.unwrap_or_else(|| USUAL_PATH.into());
        settings.faults.push(ConfigFault { path, line: setting.line.unwrap_or(0), what });
    }
}

/// A name with `!` in a list of signature algorithms: the server takes it where it reads the list, and not where it spells the
/// list out, unless the list takes names away.
fn excluded_algorithm(values: &BTreeMap<String, Setting>, version: Version) -> Option<ConfigFault> {
    values.iter().find_map(|(keyword, setting)| {
        let takes = keywords::takes(keyword, version)?;
        let list = setting.words.first().filter(|list| !list.starts_with('-'))?;
        let name = list.trim_start_matches(['+', '^']).split(',').find(|name| name.starts_with('!'))?;
        let what = ConfigError::ExcludedAlgorithm(keyword.clone(), name.to_owned());
        let place = (setting.path.clone().unwrap_or_else(|| USUAL_PATH.into()), setting.line.unwrap_or(0));
        matches!(takes, Takes::Algorithms | Takes::PlainAlgorithms).then_some(ConfigFault {
            path: place.0,
            line: place.1,
            what,
        })
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::read_passwd;
    use crate::fs::Fact;

    fn seen(text: &str) -> Observation {
        let mut seen = Observation::default();
        seen.bytes.insert(USUAL_PATH.into(), Fact::Known(text.as_bytes().to_vec()));
        seen
    }

    fn faults(text: &str) -> usize {
        let account = read_passwd(b"edda:x:1001:1001::/home/edda:/bin/sh\n").remove(0);
        Settings::from_files(Some(&account), &seen(text)).faults.len()
    }

    #[test]
    fn a_configuration_taken_apart_once_says_what_reading_it_for_each_account_says() {
        let accounts = read_passwd(b"edda:x:1001:1001::/home/edda:/bin/sh\nsten:x:1002:1002::/home/sten:/bin/sh\n");
        for text in ["StrictModes no\nUsePAM yes\n", "Match User sten\nAuthorizedKeysFile /etc/keys/%u\n", "Nonsense\n"]
        {
            let seen = seen(text);
            let config = Config::of(&seen);
            for account in &accounts {
                assert_eq!(*config.of_account(account, &seen), Settings::from_files(Some(account), &seen), "{text}");
            }
        }
    }

    #[test]
    fn a_comment_in_place_of_a_list_counts_as_no_line() {
        assert_eq!((faults("AllowUsers # nobody yet\n"), faults("AllowUsers\n"), faults("UsePAM # x\n")), (0, 1, 1));
        let found = Settings::from_files(None, &seen("AuthorizedKeysFile # x\nAuthorizedKeysFile /etc/keys/%u\n"));
        assert_eq!(found.get("authorizedkeysfile").unwrap().line, Some(2));
    }

    #[test]
    fn under_match_all_anything_may_stand() {
        assert_eq!(faults("Match all\nPort 24\nUsePAM yes\n"), 0);
        assert_eq!(faults("Match User edda\nPort 24\n"), 1);
        let account = read_passwd(b"edda:x:1001:1001::/home/edda:/bin/sh\n").remove(0);
        let found = Settings::from_files(
            Some(&account),
            &seen("PubkeyAuthentication no\nMatch all\nPubkeyAuthentication yes\n"),
        );
        assert_eq!(found.word("pubkeyauthentication"), "yes");
        let found = Settings::from_files(Some(&account), &seen("StrictModes no\nMatch all\nStrictModes yes\n"));
        assert_eq!(found.word("strictmodes"), "no");
    }

    #[test]
    fn any_method_stands_alone_wherever_it_stands() {
        assert_eq!(faults("AuthenticationMethods any\n"), 0);
        assert_eq!(faults("AuthenticationMethods publickey\nMatch User sten\nAuthenticationMethods any\n"), 1);
        assert_eq!(faults("Match User edda\nAuthenticationMethods publickey\nAuthenticationMethods any\n"), 1);
        assert_eq!(faults("Match User sten\nAuthenticationMethods publickey\nAuthenticationMethods any\n"), 0);
    }
}
