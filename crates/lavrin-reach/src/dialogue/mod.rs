//! Devices that have nothing but a command line of their own. How to work on one stands in its profile, in the words of whoever knows it.

mod line;
mod screen;

pub use line::Exchange;
pub use screen::line as shown_line;

use crate::reach::Reach;
use crate::sftp;
use crate::slots::unreadable;
use crate::ssh::{Connection, ExecFault};
use crate::{Armed, Boxed, CarryFault, TimerKind};
use lavrin_keys::key::container::write::{Form, public};
use lavrin_keys::key::generate::{Randomness as _, SystemSource};
use lavrin_keys::keysfile::{Content, Dialect, Entry, read_all};
use lavrin_keys::text::printable;
use lavrin_server::abilities::{Abilities, Ability};
use lavrin_server::account::Account;
use lavrin_server::device::{ImportFile, ImportWay, KeyForm, MarkValues, Profile};
use lavrin_server::fs::{Fact, Why};
use lavrin_server::server::{Known, Server};
use lavrin_server::steps::{Change, ChangeSubject, Guarded, KeyChange, ServerChange, entries_say_the_same};
use lavrin_server::survey::{KeySlot, Observation, Want, Wanted, Who};
use line::{DialogueFault, DialogueLine, is_expected};
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::Mutex;

/// Why a switch is not turned.
const NO_RELOAD: &str =
    "its profile names nothing that would put the switch back if it locked everybody out ([reload])";

/// A device with a session that is open.
pub struct DialogueDevice {
    connection: Connection,
    /// Who has signed in, and the accounts that the register manages.
    accounts: Vec<String>,
    limit: Duration,
    /// Where files are put on this machine that the device fetches itself.
    fetch_folder: Option<PathBuf>,
    work: Mutex<DialogueWork>,
}

struct DialogueWork {
    line: DialogueLine,
    /// It will load what it has saved by itself.
    is_armed: bool,
    /// Changes that were made and not taken back.
    made: Vec<KeyChange>,
}

impl DialogueDevice {
    /// Opens a session over a connection on which this account has signed in. Each answer may take so long.
    ///
    /// # Errors
    /// [`ExecFault`].
    #[must_use]
    pub fn open(
        connection: Connection,
        login: String,
        managed: Vec<String>,
        profile: Arc<Profile>,
        fetch_folder: Option<PathBuf>,
        limit: Duration,
    ) -> Boxed<'static, Result<Self, ExecFault>> {
        Box::pin(async move {
            let stream = connection.terminal(limit).await?;
            let line = DialogueLine::open(stream, profile, limit).await.map_err(exec_fault)?;
            let mut accounts = vec![login];
            accounts.extend(managed);
            let mut told = std::collections::HashSet::new();
            accounts.retain(|name| told.insert(name.clone()));
            let work = DialogueWork { line, is_armed: false, made: Vec::new() };
            Ok(Self { connection, accounts, limit, fetch_folder, work: Mutex::new(work) })
        })
    }

    /// Everything that was typed and said, in order.
    pub fn exchanges(&mut self) -> &[Exchange] {
        self.work.get_mut().line.exchanges()
    }
}

fn exec_fault(fault: DialogueFault) -> ExecFault {
    match fault {
        DialogueFault::Ended => ExecFault::Broken,
        other => ExecFault::Device { why: other.to_string() },
    }
}

/// A name that is nothing but a name: what is typed must not become another line or another command.
fn is_plain_name(name: &str) -> bool {
    !name.is_empty() && name.chars().all(|own| own.is_ascii_alphanumeric() || "._-".contains(own))
}

fn of_account(name: &str) -> MarkValues {
    MarkValues::from([('u', name.to_owned())])
}

/// What stands for the marks of a key.
fn of_key(entry: &Entry, values: &mut MarkValues) {
    // A comment is somebody's own text: what a device might take for more than text goes out of it.
    let plain = |own: char| if own.is_ascii_alphanumeric() || " @._+:-".contains(own) { own } else { '-' };
    let comment: String = printable(&entry.comment).trim().chars().map(plain).collect();
    let line = entry.key.line(&comment);
    let mut words = line.split(' ');
    for mark in ['a', 'd'] {
        values.insert(mark, words.next().unwrap_or_default().to_owned());
    }
    values.insert('c', comment.clone());
    values.insert('k', line.trim_end().to_owned());
    values.insert('b', public(Form::Rfc4716, &entry.key, &comment).unwrap_or_default().trim_end().to_owned());
}

fn parsed(entry: &[u8]) -> Option<Entry> {
    match read_all(entry, None, &Dialect::default()).into_iter().next()?.content {
        Content::Entry(entry) => Some(*entry),
        _ => None,
    }
}

/// A key as a line of the device's list tells it.
fn slot(values: &MarkValues) -> KeySlot {
    let part = |mark: char| values.get(&mark).map(String::as_str).unwrap_or_default();
    let line = match values.get(&'k') {
        Some(line) => line.trim().to_owned(),
        None => format!("{} {} {}", part('a'), part('d'), part('c')).trim().to_owned(),
    };
    let (print, entry) = match parsed(line.as_bytes()) {
        Some(entry) if entry.options.is_empty() => (entry.fingerprint.to_string(), line),
        _ => {
            let mut words = line.splitn(3, ' ');
            let mut word = || words.next().unwrap_or_default();
            let text = unreadable(word(), word(), word());
            (text.clone(), text)
        }
    };
    KeySlot { name: values.get(&'n').cloned().unwrap_or(print), entry: entry.into_bytes() }
}

impl DialogueWork {
    async fn list(&mut self, account: &str) -> Result<Fact<Vec<KeySlot>>, DialogueFault> {
        if !is_plain_name(account) {
            return Ok(Fact::Unseen(Why::Other("its name is none that could be typed there".to_owned())));
        }
        let (listing, values) = (self.line.profile.list.clone(), of_account(account));
        let said = match self.line.ask(&listing.how, &values).await {
            Ok(said) => said,
            Err(fault @ DialogueFault::Refused { .. }) => return Ok(Fact::Unseen(Why::Other(fault.to_string()))),
            Err(fault) => return Err(fault),
        };
        let mut slots: Vec<KeySlot> = Vec::new();
        for line in &said {
            if is_expected(line, &listing.no_account, &values) {
                return Ok(Fact::Unseen(Why::Other("it has no such account".to_owned())));
            }
            if let Some(found) = listing.key.fits(line, &values) {
                let mut slot = slot(&found);
                let same = slots.iter().filter(|other| other.name == slot.name).count();
                if same > 0 {
                    slot.name = format!("{} {}", slot.name, same + 1);
                }
                slots.push(slot);
            } else if !is_expected(line, &listing.how.says, &values) {
                let sent = listing.how.send.last().map(|line| line.text().to_owned()).unwrap_or_default();
                return self.line.stop(DialogueFault::Unexpected { sent, said: vec![line.clone()] });
            }
        }
        Ok(Fact::Known(slots))
    }

    async fn make(&mut self, key: &KeyChange, device: &DialogueDevice) -> Result<(), NotMade> {
        let before = self.list(&key.account).await.map_err(|fault| NotMade::Refused(fault.to_string()))?;
        let Fact::Known(before) = before else {
            return Err(NotMade::Refused("it does not show the keys of this account".to_owned()));
        };
        let profile = self.line.profile.clone();
        let mut values = of_account(&key.account);
        let told = match (&key.old, &key.new) {
            (None, Some(new)) => {
                let entry = parsed(new).ok_or_else(|| NotMade::Refused("it is no key".to_owned()))?;
                if let Some(option) = entry.options.list().first() {
                    return Err(NotMade::Refused(format!("it has nothing like the option {}", option.name)));
                }
                of_key(&entry, &mut values);
                match &profile.import {
                    Some(file) => self.import(file, &mut values, device).await?,
                    None => self.line.carry_out(&profile.add, &values).await,
                }
            }
            (Some(old), None) => {
                let own = |slot: &&KeySlot| key.slot.as_ref().is_none_or(|name| *name == slot.name);
                let found = before.iter().filter(own).find(|slot| slot.entry == *old);
                let found = found.or_else(|| before.iter().find(|slot| slot.entry == *old));
                let found = found.ok_or(NotMade::Changed)?;
                values.insert('n', found.name.clone());
                if let Some(entry) = parsed(old) {
                    of_key(&entry, &mut values);
                }
                self.line.carry_out(&profile.remove, &values).await
            }
            _ => return Err(NotMade::Refused("an entry cannot be changed there".to_owned())),
        };
        if self.line.is_broken() {
            return Err(match told {
                Err(fault @ DialogueFault::Unexpected { .. }) => NotMade::NotUnderstood(fault.to_string()),
                _ => NotMade::Unknown,
            });
        }
        let Ok(Fact::Known(after)) = self.list(&key.account).await else { return Err(NotMade::Unknown) };
        let count = |slots: &[KeySlot], entry: &[u8]| {
            slots.iter().filter(|slot| entries_say_the_same(&slot.entry, entry)).count()
        };
        let comes = key.new.as_ref().is_none_or(|new| count(&after, new) > count(&before, new));
        let goes = key.old.as_ref().is_none_or(|old| count(&after, old) < count(&before, old));
        match told {
            _ if comes && goes => Ok(()),
            Err(fault) if before == after => Err(NotMade::Refused(fault.to_string())),
            Ok(()) if before == after => {
                Err(NotMade::Refused("it said nothing against the change, and did not make it".to_owned()))
            }
            _ => Err(NotMade::Unknown),
        }
    }

    /// Adds a key from a file; what lets the file onto the device is closed again, whatever becomes of it.
    async fn import(
        &mut self,
        file: &ImportFile,
        values: &mut MarkValues,
        device: &DialogueDevice,
    ) -> Result<Result<(), DialogueFault>, NotMade> {
        let profile = self.line.profile.clone();
        let opened = self.line.carry_out(&profile.transfer.open, values).await;
        opened.map_err(|fault| NotMade::Refused(fault.to_string()))?;
        let put = device.put(file, values).await;
        let told = match &put {
            Ok(_) => Some(self.line.carry_out(&profile.add, values).await),
            Err(_) => None,
        };
        if let Ok(Some(local)) = &put {
            let _ = std::fs::remove_file(local);
        }
        let closed = self.line.carry_out(&profile.transfer.close, values).await;
        match (told, put) {
            (Some(told), _) => Ok(told.and(closed)),
            (None, Err(why)) => Err(NotMade::Refused(why)),
            (None, Ok(_)) => Ok(closed),
        }
    }

    /// Whether passwords open accounts there, where a switch says so.
    async fn takes_passwords(&mut self) -> Result<Option<bool>, DialogueFault> {
        let Some(switch) = self.line.profile.switch.clone() else { return Ok(None) };
        let none = MarkValues::new();
        let said = self.line.ask(&switch.show, &none).await?;
        let odd = said
            .iter()
            .find(|line| !is_expected(line, &switch.are_off, &none) && !is_expected(line, &switch.show.says, &none));
        if let Some(odd) = odd {
            let sent = switch.show.send.last().map(|line| line.text().to_owned()).unwrap_or_default();
            return self.line.stop(DialogueFault::Unexpected { sent, said: vec![odd.clone()] });
        }
        Ok(Some(!said.iter().any(|line| is_expected(line, &switch.are_off, &none))))
    }

    /// Turns the switch, and looks how it stands.
    async fn turn(&mut self, on: bool) -> Result<(), NotMade> {
        let Some(switch) = self.line.profile.switch.clone() else {
            return Err(NotMade::Refused("its profile names no switch for passwords".to_owned()));
        };
        let told = self.line.carry_out(if on { &switch.on } else { &switch.off }, &MarkValues::new()).await;
        match (self.takes_passwords().await, told) {
            (Ok(Some(takes)), _) if takes == on => Ok(()),
            (Ok(Some(_)), Ok(())) => {
                Err(NotMade::Refused("it said nothing against the change, and did not make it".to_owned()))
            }
            (Ok(Some(_)), Err(fault)) => Err(NotMade::Refused(fault.to_string())),
            (_, Err(fault @ DialogueFault::Unexpected { .. })) => Err(NotMade::NotUnderstood(fault.to_string())),
            _ => Err(NotMade::Unknown),
        }
    }

    /// Sets up what takes the changes back by itself, and has the device back itself up.
    async fn begin(&mut self, after: Duration) -> Result<(), DialogueFault> {
        let profile = self.line.profile.clone();
        if let Some(backup) = &profile.backup {
            self.line.carry_out(backup, &MarkValues::new()).await?;
        }
        if let Some(reload) = &profile.reload {
            let minutes = after.as_secs().div_ceil(60).max(1);
            self.line.carry_out(&reload.arm, &MarkValues::from([('m', minutes.to_string())])).await?;
            self.is_armed = true;
        }
        Ok(())
    }

    /// Writes down that a change was made; one that takes another back leaves neither.
    fn note(&mut self, key: &KeyChange) {
        let is_taken_back =
            |made: &KeyChange| (&made.account, &made.new, &made.old) == (&key.account, &key.old, &key.new);
        match self.made.iter().rposition(is_taken_back) {
            Some(number) => drop(self.made.remove(number)),
            None => self.made.push(key.clone()),
        }
    }

    async fn disarm(&mut self) -> Result<(), DialogueFault> {
        let Some(reload) = self.line.profile.reload.clone() else { return Ok(()) };
        match self.line.carry_out(&reload.disarm, &MarkValues::new()).await {
            // A session before this one may have set it up, or none.
            Err(DialogueFault::Refused { .. }) if !self.is_armed => {}
            other => other?,
        }
        self.is_armed = false;
        Ok(())
    }
}

/// Why a change was not made.
enum NotMade {
    Changed,
    Refused(String),
    NotUnderstood(String),
    Unknown,
}

impl DialogueDevice {
    /// Puts a file to where the device imports it from; gives what is to be removed here afterwards.
    async fn put(&self, file: &ImportFile, values: &mut MarkValues) -> Result<Option<PathBuf>, String> {
        let no_value = || "the place of its file has a mark for nothing".to_owned();
        let text = if file.form == KeyForm::Blocks { &values[&'b'] } else { &values[&'k'] };
        let content: String = text.lines().map(|line| format!("{line}{}", file.line_ends.text())).collect();
        match &file.way {
            ImportWay::Put(path) => {
                let path = path.filled(values).ok_or_else(no_value)?;
                sftp::put_file(&self.connection, &path, content.as_bytes(), self.limit).await?;
                values.insert('f', path);
                Ok(None)
            }
            ImportWay::Fetched(address) => {
                let folder = self.fetch_folder.as_ref().ok_or_else(|| {
                    "it fetches a file itself; say where that is put: LAVRIN_FETCH_FOLDER=DIR".to_owned()
                })?;
                let (local, name) = written_for(folder, content.as_bytes())?;
                values.insert('f', name);
                let address = address.filled(values).ok_or_else(no_value)?;
                values.insert('f', address);
                Ok(Some(local))
            }
        }
    }
}

/// A new file in a folder of this machine, with a name that nobody knows before.
fn written_for(folder: &Path, content: &[u8]) -> Result<(PathBuf, String), String> {
    let mut bytes = [0u8; 6];
    SystemSource.fill(&mut bytes);
    let name = format!("key-{:012x}.pub", bytes.iter().fold(0u64, |sum, byte| sum << 8 | u64::from(*byte)));
    let path = folder.join(&name);
    let fault = |error: std::io::Error| format!("{}: {error}", path.display());
    let options = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o644).open(&path);
    options.and_then(|mut file| file.write_all(content)).map_err(fault)?;
    Ok((path, name))
}

impl Reach for DialogueDevice {
    fn abilities(&self) -> Abilities {
        use Ability::{Accounts, Files, Logs, Modes, NewAccounts, Options, Owners, Rename, Settings};
        Abilities::without([Accounts, Files, Modes, Owners, Settings, Logs, Rename, NewAccounts, Options])
    }

    fn look<'a>(&'a mut self, wants: &'a [Want], seen: &'a mut Observation) -> Boxed<'a, Result<(), ExecFault>> {
        Box::pin(async move {
            seen.found_server(Server::default(), Known::Banner(self.connection.banner().to_owned()));
            for want in wants {
                match &want.what {
                    Wanted::System(who) => {
                        let mut names = self.accounts.clone();
                        if let Who::One(name) = who
                            && !names.contains(name)
                        {
                            names.push(name.clone());
                        }
                        seen.accounts = names.iter().map(|name| Account::unknown(name)).collect::<Vec<_>>().into();
                        seen.takes_passwords = self.work.get_mut().takes_passwords().await.map_err(exec_fault)?;
                        seen.looked = true;
                    }
                    Wanted::Slots(name) => {
                        let held = self.work.get_mut().list(name).await.map_err(exec_fault)?;
                        seen.slots.insert(name.clone(), held);
                    }
                    _ => seen.give_up(want, &Why::WrongKind),
                }
            }
            Ok(())
        })
    }

    fn begin<'a>(&'a self, changes: &'a [Guarded], after: Duration) -> Boxed<'a, Result<Option<Armed>, CarryFault>> {
        Box::pin(async move {
            let begun = self.work.lock().await.begin(after).await;
            let subject = changes.first().map(|change| change.change().subject());
            match (begun, subject) {
                (Err(fault), Some(subject)) => Err(CarryFault::Refused { subject, why: fault.to_string() }),
                _ => Ok(None),
            }
        })
    }

    fn carry<'a>(
        &'a self,
        change: &'a Guarded,
        _: &'a Account,
        _: &'a Observation,
    ) -> Boxed<'a, Result<(), CarryFault>> {
        Box::pin(async move {
            let change = change.change();
            let mut work = self.work.lock().await;
            let made = match change {
                Change::Key(key) => work.make(key, self).await,
                Change::Server(ServerChange::Passwords { on }) => work.turn(*on).await,
                _ => return Err(CarryFault::not_there(change)),
            };
            if let (Ok(()), Change::Key(key)) = (&made, change) {
                work.note(key);
            }
            made.map_err(|fault| match fault {
                NotMade::Changed => CarryFault::Changed { subject: change.subject() },
                NotMade::Refused(why) => CarryFault::Refused { subject: change.subject(), why },
                NotMade::NotUnderstood(why) => CarryFault::NotUnderstood { why },
                NotMade::Unknown => CarryFault::Unknown { subject: change.subject() },
            })
        })
    }

    /// Only a device that loads what it has saved by itself puts a switch back that nobody proves.
    fn arm<'a>(&'a self, changes: &'a [Guarded], after: Duration) -> Boxed<'a, Result<Armed, CarryFault>> {
        Box::pin(async move {
            let mut work = self.work.lock().await;
            let refused = |why: String| CarryFault::Refused { subject: ChangeSubject::Server, why };
            if work.line.profile.reload.is_none() {
                return Err(changes.first().map_or(CarryFault::PutBack, |_| refused(NO_RELOAD.to_owned())));
            }
            work.begin(after).await.map_err(|fault| refused(fault.to_string()))?;
            let (name, folder) = (String::new(), String::new());
            Ok(Armed { name, folder, kind: TimerKind::Device, over_a_restart: true, after })
        })
    }

    fn disarm<'a>(&'a self, _: &'a Armed) -> Boxed<'a, Result<(), CarryFault>> {
        // What is proven is saved first, so that it is not loaded away: see `keep`.
        Box::pin(async { Ok(()) })
    }

    fn put_back<'a>(&'a self, _: &'a Armed) -> Boxed<'a, Result<(), CarryFault>> {
        Box::pin(async move {
            let mut work = self.work.lock().await;
            work.turn(true).await.map_err(|_| CarryFault::PutBack)?;
            work.disarm().await.map_err(|_| CarryFault::PutBack)
        })
    }

    fn keep(&self) -> Boxed<'_, Result<(), CarryFault>> {
        Box::pin(async move {
            let mut work = self.work.lock().await;
            let save = work.line.profile.save.clone();
            let saved = match &save {
                Some(save) => work.line.carry_out(save, &MarkValues::new()).await,
                None => Ok(()),
            };
            let kept = match saved {
                Ok(()) => work.disarm().await,
                Err(fault) => Err(fault),
            };
            kept.map_err(|fault| CarryFault::Refused { subject: ChangeSubject::Server, why: fault.to_string() })
        })
    }

    fn close(self: Box<Self>) -> Boxed<'static, ()> {
        Box::pin(async move {
            let mut work = self.work.into_inner();
            // Everything was taken back: then there is nothing that the device would have to take back itself.
            if work.is_armed && work.made.is_empty() {
                let _ = work.disarm().await;
            }
            work.line.leave().await;
            drop(work);
            self.connection.close().await;
        })
    }
}
