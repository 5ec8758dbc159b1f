//! The steps after which a server lets nobody in by a password, and who would lose the only way in by them.

use super::{Change, Deed, FileChange, FileTarget, NoSteps, OwnerIds, ServerChange, Steps, target};
use crate::abilities::Ability;
use crate::account::{Account, Password};
use crate::fs::{BytePath, Fact, NodeKind, Why};
use crate::login::{self, AccountKeys, Outcome, Question, judge};
use crate::server::Version;
use crate::server_config::{self, SetLine, Settings, drop_in_folder, with_value};
use crate::survey::{Observation, Resolved, Want, Wanted, Who, is_under_root_alone, resolve};
use crate::system::System;
use std::collections::BTreeMap;

/// The file that is made where the server includes a folder of them: it is read before all others.
pub const DROP_IN: &str = "00-lavrin-keys-only.conf";

/// Since this version one keyword decides about questions at the keyboard.
const ONE_KEYWORD_SINCE: Version = Version(8, 7);

/// Most lines that are changed: more set the same thing again and again.
const LINES_MAX: usize = 200;

/// How root may log in afterwards.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum RootLogin {
    /// With keys only.
    #[default]
    Keys,
    /// Not at all.
    Off,
}

/// A setting as it is to be.
struct Wish {
    /// As it is written.
    spelled: &'static str,
    /// In lower case.
    keyword: &'static str,
    value: &'static str,
    /// What is as good.
    fine: &'static [&'static str],
}

const ROOT_BY_KEYS: [&str; 4] = ["no", "prohibit-password", "without-password", "forced-commands-only"];

/// All of them, for a server of this version.
fn wishes(version: Version, root: RootLogin) -> Vec<Wish> {
    let off = |spelled, keyword| Wish { spelled, keyword, value: "no", fine: &["no"] };
    let mut wishes = vec![off("PasswordAuthentication", "passwordauthentication")];
    if version < ONE_KEYWORD_SINCE {
        wishes.push(off("ChallengeResponseAuthentication", "challengeresponseauthentication"));
    }
    wishes.push(off("KbdInteractiveAuthentication", "kbdinteractiveauthentication"));
    wishes.push(off("PermitEmptyPasswords", "permitemptypasswords"));
    let (spelled, keyword) = ("PermitRootLogin", "permitrootlogin");
    wishes.push(match root {
        RootLogin::Keys => Wish { spelled, keyword, value: "prohibit-password", fine: &ROOT_BY_KEYS },
        RootLogin::Off => Wish { spelled, keyword, value: "no", fine: &["no"] },
    });
    wishes
}

/// A line that comes or changes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SettingLine {
    /// The file.
    pub path: BytePath,
    /// The line that changes, counted from 1; none: it comes.
    pub line: Option<usize>,
    /// What stands there today, as it is.
    pub before: Option<Vec<u8>>,
    /// What is to stand there.
    pub after: Vec<u8>,
}

/// An account with a password and without a key that is shown to open it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OnlyPassword {
    /// The account.
    pub account: String,
    /// Whether its keys could not be read.
    pub unread: bool,
}

/// What is to be done on a server so that it takes keys only.
#[derive(Debug, Clone)]
pub struct KeysOnly {
    /// The steps; empty where it takes keys only.
    pub steps: Steps,
    /// The lines that come or change.
    pub lines: Vec<SettingLine>,
    /// Who would lose the only way in.
    pub only_password: Vec<OnlyPassword>,
}

/// Something by which a server takes passwords.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OpenSetting {
    /// The keyword, as it is usually written.
    pub keyword: &'static str,
    /// Its value.
    pub value: String,
    /// The file and line; none: it is built in.
    pub place: Option<(BytePath, usize)>,
    /// Whether it holds for some connections only.
    pub in_match: bool,
}

/// What has to be looked at before [`keys_only`] can say everything, beside what a survey sees.
#[must_use]
pub fn keys_only_wants(seen: &System<'_>) -> Vec<Want> {
    if !seen.looked {
        return vec![Want { what: Wanted::System(Who::All), account: None }];
    }
    if !seen.abilities.has(Ability::Settings) {
        // Who has no key is needed too, since a switch ends the passwords of all.
        return seen.accounts.iter().flat_map(|account| login::wants_of(account, seen)).collect();
    }
    if seen.server.is_dropbear() {
        return dropbear::wants(seen);
    }
    let mut wants = server_config::wants(seen);
    if wants.iter().any(|want| !seen.answers(want)) {
        wants.retain(|want| !seen.answers(want));
        return wants;
    }
    let look = |what| Want { what, account: None };
    let mut files = seen.config().files(seen);
    if let Some(folder) = drop_in_folder(seen) {
        wants.push(look(Wanted::Names(folder.clone())));
        files.push(folder.join(DROP_IN.as_bytes()));
    }
    for file in files {
        match resolve(&file, seen) {
            Resolved::Ask(path) => wants.push(look(Wanted::Node(path))),
            Resolved::To(real, node) if node.kind == NodeKind::File => {
                wants.push(look(Wanted::Bytes(real, crate::survey::CONFIG_BYTES_MAX)));
            }
            _ => {}
        }
    }
    wants.retain(|want| !seen.answers(want));
    wants
}

/// By what a server takes passwords today; nothing: it takes keys only.
///
/// # Errors
/// [`NoSteps`] where that cannot be told.
pub fn open_to_passwords(root: RootLogin, seen: &System<'_>) -> Result<Vec<OpenSetting>, NoSteps> {
    if dropbear::is_known(seen) {
        return Ok(dropbear::open_to_passwords(root, seen));
    }
    if let Some(takes) = seen.takes_passwords {
        return Ok(switch::open_to_passwords(takes));
    }
    readable(seen)?;
    let wishes = wishes(seen.server.rules(), root);
    let settings = Settings::from_files(None, seen);
    let everybody = wishes.iter().filter(|wish| !wish.is_met(&settings)).map(|wish| {
        let place = settings.get(wish.keyword).and_then(|setting| setting.path.clone().zip(setting.line));
        OpenSetting { keyword: wish.spelled, value: settings.word(wish.keyword), place, in_match: false }
    });
    let some = in_blocks(&wishes, seen).into_iter().filter_map(|(line, _)| {
        let keyword = wishes.iter().find(|wish| wish.keyword == line.keyword)?.spelled;
        Some(OpenSetting { keyword, value: line.value, place: Some((line.path, line.line)), in_match: true })
    });
    Ok(everybody.chain(some).collect())
}

/// The steps, by what was seen, at this moment (seconds since 1970).
///
/// # Errors
/// [`NoSteps`].
pub fn keys_only(root: RootLogin, seen: &System<'_>, now: i64) -> Result<KeysOnly, NoSteps> {
    if let Some(takes) = seen.takes_passwords {
        return switch::keys_only(takes, seen, now);
    }
    let is_started_with_switches = dropbear::is_known(seen);
    if !is_started_with_switches {
        readable(seen)?;
    }
    if seen.viewer != Some(0) {
        let main = seen.config_path.clone().unwrap_or_else(|| server_config::USUAL_PATH.into());
        return Err(NoSteps::Unread(main.into(), Why::Permission));
    }
    let account = seen.accounts.iter().find(|account| account.is_root()).ok_or(NoSteps::NoSuchAccount)?;
    let wishes = wishes(seen.server.rules(), root);
    if let Some(option) = seen.start_options.iter().find(|option| wishes.iter().any(|wish| wish.is_against(option))) {
        return Err(NoSteps::StartOption(option.clone()));
    }
    let mut draft = SettingsDraft { seen: seen.observation().clone(), targets: BTreeMap::new(), account };
    if is_started_with_switches {
        let lines = dropbear::set(&mut draft, root, seen)?;
        return draft.into_steps(lines, seen, |after| dropbear::only_password(seen, after, now));
    }
    let mut lines = Vec::new();
    for (line, value) in in_blocks(&wishes, seen) {
        lines.push(draft.set(&line.path, line.line, value)?);
    }
    if wishes.iter().any(|wish| !wish.is_met(&Settings::from_files(None, &draft.seen))) {
        match draft.with_drop_in(&wishes) {
            Some(made) => lines.extend(made),
            None => lines.extend(draft.in_place(&wishes)?),
        }
    }
    draft.into_steps(lines, seen, |after| only_password(&wishes, seen, after, now))
}

/// Whether the settings are in files that were read, of a server that keeps them there.
fn readable(seen: &System<'_>) -> Result<(), NoSteps> {
    if !seen.abilities.has(Ability::Settings) {
        return Err(NoSteps::NotApplicable(Ability::Settings));
    }
    if seen.server.is_dropbear() {
        return Err(NoSteps::StartSwitches);
    }
    let settings = Settings::from_files(None, seen);
    if let Some(path) = settings.unseen.first() {
        let why = match seen.content(path) {
            Fact::Unseen(why) => why,
            Fact::Known(_) | Fact::Absent => Why::NotReached,
        };
        return Err(NoSteps::Unread(path.clone().into(), why));
    }
    match settings.faults.first() {
        Some(fault) => Err(NoSteps::BrokenSettings(fault.clone())),
        None => Ok(()),
    }
}

/// Lines in Match blocks that let passwords in, and what they should say.
fn in_blocks(wishes: &[Wish], seen: &System<'_>) -> Vec<(SetLine, &'static str)> {
    let keywords: Vec<&str> = wishes.iter().map(|wish| wish.keyword).collect();
    let lines = seen.config().set_lines(&keywords, seen).into_iter().filter(|line| line.in_match);
    let open = lines.filter_map(|line| {
        let wish = wishes.iter().find(|wish| wish.keyword == line.keyword)?;
        (!wish.fine.contains(&line.value.as_str())).then_some((line, wish.value))
    });
    open.take(LINES_MAX).collect()
}

impl Wish {
    fn is_met(&self, settings: &Settings) -> bool {
        self.fine.contains(&settings.word(self.keyword).as_str())
    }

    /// Whether an option of the command line says otherwise.
    fn is_against(&self, option: &str) -> bool {
        let (keyword, value) = option.split_once(['=', ' ', '\t']).unwrap_or((option, ""));
        keyword.trim().eq_ignore_ascii_case(self.keyword)
            && !self.fine.contains(&value.trim().to_ascii_lowercase().as_str())
    }

    fn line(&self) -> String {
        format!("{} {}", self.spelled, self.value)
    }
}

/// The files as they are to be.
struct SettingsDraft<'a> {
    seen: Observation,
    /// Those that are changed, as they are.
    targets: BTreeMap<BytePath, FileTarget>,
    account: &'a Account,
}

impl SettingsDraft<'_> {
    /// The file as it is, which root alone can change.
    fn open(&mut self, path: &BytePath) -> Result<&FileTarget, NoSteps> {
        if !self.targets.contains_key(path) {
            let found = target(path, self.account, &System::of(&self.seen))?;
            if !is_under_root_alone(&found.real, &self.seen) {
                return Err(NoSteps::OthersMayWrite(found.real));
            }
            if found.node.as_ref().is_some_and(|node| node.uid != 0 || node.mode & 0o022 != 0) {
                return Err(NoSteps::OthersMayWrite(found.real));
            }
            self.targets.insert(path.clone(), found);
        }
        Ok(&self.targets[path])
    }

    fn text(&self, path: &BytePath) -> Vec<u8> {
        self.seen.content(path).into_known().cloned().unwrap_or_default()
    }

    fn put(&mut self, path: &BytePath, text: Vec<u8>) {
        self.seen.bytes.insert(path.clone(), Fact::Known(text));
    }

    /// Gives one line another value.
    fn set(&mut self, path: &BytePath, line: usize, value: &str) -> Result<SettingLine, NoSteps> {
        self.open(path)?;
        let text = self.text(path);
        let mut lines: Vec<Vec<u8>> = text.split(|byte| *byte == b'\n').map(<[u8]>::to_vec).collect();
        let place = lines.get_mut(line.saturating_sub(1));
        let not_understood = || NoSteps::SettingNotUnderstood { path: path.clone(), line };
        let place = place.ok_or_else(not_understood)?;
        let after = with_value(place, value).ok_or_else(not_understood)?;
        let before = std::mem::replace(place, after.clone());
        self.put(path, lines.join(&b'\n'));
        Ok(SettingLine { path: path.clone(), line: Some(line), before: Some(before), after })
    }

    /// A file of its own, where it is read before everything that says otherwise.
    fn with_drop_in(&mut self, wishes: &[Wish]) -> Option<Vec<SettingLine>> {
        let path = drop_in_folder(&self.seen)?.join(DROP_IN.as_bytes());
        if self.open(&path).ok()?.node.is_some() {
            self.targets.remove(&path);
            return None;
        }
        let before = self.seen.clone();
        let written: Vec<String> = wishes.iter().map(Wish::line).collect();
        let text = format!("# Written by lavrin keys-only\n{}\n", written.join("\n"));
        let names = path.parent().and_then(|folder| self.seen.names.get_mut(&folder));
        let Some(Fact::Known(names)) = names else {
            self.targets.remove(&path);
            return None;
        };
        names.push(DROP_IN.as_bytes().to_vec());
        self.put(&path, text.into_bytes());
        let settings = Settings::from_files(None, &self.seen);
        if wishes.iter().all(|wish| wish.is_met(&settings)) {
            let line =
                |text: String| SettingLine { path: path.clone(), line: None, before: None, after: text.into_bytes() };
            return Some(written.into_iter().map(line).collect());
        }
        self.targets.remove(&path);
        self.seen = before;
        None
    }

    /// The lines that win today; what nobody sets goes to the top of the main file.
    fn in_place(&mut self, wishes: &[Wish]) -> Result<Vec<SettingLine>, NoSteps> {
        let mut changed = Vec::new();
        loop {
            let settings = Settings::from_files(None, &self.seen);
            let open: Vec<&Wish> = wishes.iter().filter(|wish| !wish.is_met(&settings)).collect();
            let winner = open.iter().find_map(|wish| {
                let setting = settings.get(wish.keyword)?;
                Some((setting.path.clone()?, setting.line?, wish.value))
            });
            match winner {
                Some((path, line, _)) if changed.len() >= LINES_MAX => {
                    return Err(NoSteps::SettingNotUnderstood { path, line });
                }
                Some((path, line, value)) => changed.push(self.set(&path, line, value)?),
                None if open.is_empty() => return Ok(changed),
                None => {
                    changed.extend(self.on_top(&open)?);
                    return Ok(changed);
                }
            }
        }
    }

    fn on_top(&mut self, wishes: &[&Wish]) -> Result<Vec<SettingLine>, NoSteps> {
        let path = self.seen.config_path.clone().unwrap_or_else(|| server_config::USUAL_PATH.into());
        self.open(&path)?;
        let written: Vec<String> = wishes.iter().map(|wish| wish.line()).collect();
        let text = self.text(&path);
        self.put(&path, [format!("{}\n", written.join("\n")).as_bytes(), text.as_slice()].concat());
        let line =
            |text: String| SettingLine { path: path.clone(), line: None, before: None, after: text.into_bytes() };
        Ok(written.into_iter().map(line).collect())
    }

    /// What is to be done, and who would lose the only way in by it.
    fn into_steps(
        self,
        lines: Vec<SettingLine>,
        seen: &System<'_>,
        only_password: impl Fn(&System<'_>) -> Vec<OnlyPassword>,
    ) -> Result<KeysOnly, NoSteps> {
        let mut steps = Steps::blank(self.account, None);
        steps.changes = self.changes(seen)?;
        if steps.changes.is_empty() {
            return Ok(KeysOnly { steps, lines, only_password: Vec::new() });
        }
        steps.changes.push(ServerChange::Reload.into());
        let after = seen.observation().after(&steps.changes);
        let only_password = only_password(&System::of(&after));
        Ok(KeysOnly { steps, lines, only_password })
    }

    /// What has to be written.
    fn changes(self, seen: &System<'_>) -> Result<Vec<Change>, NoSteps> {
        let mut changes = Vec::new();
        for (path, found) in self.targets {
            let Fact::Known(new) = self.seen.content(&path) else { continue };
            let old = seen.content(&path).into_known();
            if old == Some(new) {
                continue;
            }
            let (come, go) = differing(old.map(Vec::as_slice).unwrap_or_default(), new);
            let (mode, owner) = found.node.as_ref().map_or((0o644, OwnerIds { uid: 0, gid: 0 }), |node| {
                (node.mode, OwnerIds { uid: node.uid, gid: node.gid })
            });
            let deed = Deed::Settings { come, go };
            let (path, old, new) = (found.real, old.cloned(), new.clone());
            changes.push(FileChange::WriteFile { path, old, new, mode, owner, was: None, deed }.into());
        }
        Ok(changes)
    }
}

/// The lines that come and go, counted from 1 in the file where they stand.
fn differing(old: &[u8], new: &[u8]) -> (Vec<usize>, Vec<usize>) {
    let lines = |text: &[u8]| {
        let mut lines: Vec<Vec<u8>> = text.split(|byte| *byte == b'\n').map(<[u8]>::to_vec).collect();
        lines.pop_if(|line| line.is_empty());
        lines
    };
    let (old, new) = (lines(old), lines(new));
    if new.starts_with(&old) {
        return ((old.len() + 1..=new.len()).collect(), Vec::new());
    }
    // Lines come at the top, or are replaced where they stand.
    let more = new.len() - old.len().min(new.len());
    let go: Vec<usize> = (0..old.len()).filter(|at| new.get(at + more) != old.get(*at)).map(|at| at + 1).collect();
    let come = (1..=more).chain(go.iter().map(|line| line + more)).collect();
    (come, go)
}

/// Accounts with a password that lets them in today, and without a key that is shown to let them in afterwards.
fn only_password(wishes: &[Wish], seen: &System<'_>, after: &System<'_>, now: i64) -> Vec<OnlyPassword> {
    let for_some = in_blocks(wishes, seen);
    let may_be_set = |keyword: &str| for_some.iter().any(|(line, _)| line.keyword == keyword);
    let asks = |account: &Account| {
        let settings = seen.settings(account);
        let is_on = |keyword: &str| settings.word(keyword) == "yes" || may_be_set(keyword);
        let asks = is_on("passwordauthentication") || is_on("kbdinteractiveauthentication");
        let has_one = match account.password {
            Some(Password::Set) => true,
            Some(Password::Empty) => is_on("permitemptypasswords"),
            // Of an account whose password nobody could see none is known.
            Some(Password::Locked | Password::Impossible) | None => false,
        };
        let root_may = !account.is_root() || is_on("permitrootlogin");
        asks && has_one && root_may && login::lets_account_in(account, seen, now)
    };
    without_a_key(asks, seen, after, now)
}

/// Accounts that a password lets in today, and no key that is shown to afterwards.
fn without_a_key(
    password_opens: impl Fn(&Account) -> bool,
    seen: &System<'_>,
    after: &System<'_>,
    now: i64,
) -> Vec<OnlyPassword> {
    let mut found = Vec::new();
    for account in seen.accounts.iter().filter(|account| !account.shell_is_closed() && password_opens(account)) {
        let opens = |key: &lavrin_keys::key::PublicKey| {
            judge(&Question::plain(&account.name, key, now), after).outcome != Outcome::Refused
        };
        if !login::keys_of(&account.name, after).iter().any(|(key, _)| opens(key)) {
            let unread = !AccountKeys::unread_of(account, after).is_empty();
            found.push(OnlyPassword { account: account.name.clone(), unread });
        }
    }
    found
}

mod dropbear;
mod switch;

pub use switch::SWITCH;
#[cfg(test)]
mod tests;
