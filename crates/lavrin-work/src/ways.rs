//! The ways to hosts: where each is, who signs in, over which others it is reached, and how root's rights are got there.

use crate::heard::AskTerms;
use crate::penalties::Penalties;
use lavrin_fleet::fleet::Offers;
use lavrin_fleet::register::{Host, ReachKind, Register, RootProgram, USUAL_LOGIN};
use lavrin_keys::hostkey::line_for;
use lavrin_keys::key::Fingerprint;
use lavrin_keys::key::generate::{Randomness, SystemSource};
use lavrin_reach::dialogue::DialogueDevice;
use lavrin_reach::key_subsystem::KeySubsystem;
use lavrin_reach::netconf::NetconfDevice;
use lavrin_reach::sftp::SftpHost;
use lavrin_reach::ssh::{ConnectFault, Connection, Credential, ExecFault, Rejected, RootBy, SignedIn, Target};
use lavrin_reach::{Boxed, Claims, Reach, Reached};
use lavrin_server::device::{KeyPlaces, Profile};
use std::collections::HashMap;
use std::path::PathBuf;
use std::pin::Pin;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use thiserror::Error;
use tokio::time::Instant;

/// A host on the way that could not be passed is tried again after this time.
const AGAIN: Duration = Duration::from_secs(5);

/// A server that holds us off is waited for no longer than this.
const PATIENCE_MAX: Duration = Duration::from_secs(90);

/// A host and how one comes there.
#[derive(Debug, Clone)]
pub struct Stop {
    /// Its name in the register, or what the user called it.
    pub host: String,
    /// Where it is reached; `through` is filled in on the way.
    pub target: Target,
    /// How it is spoken to.
    pub reach: ReachKind,
    /// Where its keys are, where it gives nothing but files.
    pub places: KeyPlaces,
    /// Accounts that the register manages; a host that gives nothing but files, or has a command line of its own, does not list its own.
    pub managed: Vec<String>,
    /// How it is worked on, where it has a command line of its own.
    pub profile: Option<Arc<Profile>>,
    /// Whether the first key of an account ends its logins by password there.
    pub first_key_ends_passwords: bool,
    /// What has to run there after changes, so that they are kept.
    pub after_change: Vec<String>,
    /// Who signs in.
    pub login: String,
    /// The host through which it is reached.
    pub through: Option<String>,
    /// Keys that an agent's others come after.
    pub first: Vec<Fingerprint>,
    /// The one way to root's rights there, where that is known.
    pub root_by: Option<RootProgram>,
}

/// With what to sign in, and how to get root's rights.
#[derive(Default, Clone)]
pub struct Way {
    /// Tried one after the other.
    pub credentials: Vec<Credential>,
    /// Ways to root's rights for a login other than root, tried one after the other.
    pub root_ways: Vec<RootBy>,
    /// Whether the command itself named that way: then it holds on every host.
    pub root_is_named: bool,
    /// Who signs in where neither the command nor the host names anybody.
    pub usual_login: Option<String>,
    /// The way to root's rights where neither the command nor the host names one.
    pub usual_root_by: Option<RootProgram>,
    /// The user's own file of known hosts: what it revokes is refused although the register pins it.
    pub known_hosts: Arc<Vec<u8>>,
    /// Where homes on a network file system are looked at: what no host has looked at yet.
    pub network_homes: Option<Arc<Claims>>,
    /// Where files are put on this machine that devices fetch themselves.
    pub fetch_folder: Option<PathBuf>,
}

/// Why a host of the register is not spoken to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum Unspoken {
    /// None of its keys is pinned: anybody could answer for it.
    #[error("its keys are not pinned")]
    NotPinned,
    /// The way to it leads over itself.
    #[error("the hosts on the way to it form a loop")]
    Endless,
}

impl Unspoken {
    /// What to type next.
    #[must_use]
    pub fn remedy(self, host: &str) -> String {
        match self {
            Self::NotPinned => format!("lavrin host trust {host}"),
            Self::Endless => "lavrin register check".to_owned(),
        }
    }
}

/// Why nobody came onto a host, or why it gave no answer there.
#[derive(Debug, Clone, Error)]
pub enum WayFault {
    /// It was not reached.
    #[error(transparent)]
    Connect(#[from] ConnectFault),
    /// It let nobody in.
    #[error("{0}; tried: {tried}", tried = tried(.0))]
    Rejected(#[from] Rejected),
    /// It gave no answer.
    #[error(transparent)]
    Exec(#[from] ExecFault),
    /// The host on the way to it was not passed.
    #[error("{host}, over which it is reached: {fault}")]
    Through {
        /// That host.
        host: String,
        /// Why.
        fault: Box<WayFault>,
    },
    /// It took too long.
    #[error("not done within {seconds} s")]
    Timeout {
        /// The limit.
        seconds: u64,
    },
    /// Nothing is known about the host on the way.
    #[error("the way leads over {host}, which cannot be used")]
    NoWay {
        /// That host.
        host: String,
    },
    /// It is not spoken to.
    #[error("{why}: {}", .why.remedy(.host))]
    Unspoken {
        /// The host.
        host: String,
        /// Why.
        why: Unspoken,
    },
    /// The work on it crashed: a fault of the program.
    #[error("the program failed while it worked there: {said}")]
    Crashed {
        /// In its own words.
        said: String,
    },
    /// Somebody ended the run before it was done.
    #[error("ended before it was done")]
    CutOff,
    /// Somebody ended the run before it was begun.
    #[error("not started, because the run was ended")]
    NotBegun,
}

impl WayFault {
    /// Whether a connection to the host itself came about; without one nothing is known of it, not even that it is on.
    #[must_use]
    pub fn is_connected(&self) -> bool {
        match self {
            Self::Rejected(_) | Self::Exec(_) | Self::Timeout { .. } | Self::Crashed { .. } => true,
            Self::Connect(_) | Self::Through { .. } | Self::NoWay { .. } | Self::Unspoken { .. } => false,
            Self::CutOff | Self::NotBegun => false,
        }
    }
}

fn tried(rejected: &Rejected) -> String {
    let list: Vec<String> = rejected.tried.iter().map(|tried| format!("{} ({})", tried.method, tried.detail)).collect();
    if list.is_empty() { "nothing; give --identity FILE or start an agent".to_owned() } else { list.join(", ") }
}

/// Whether root's rights are needed where the login is not root itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Rights {
    /// Yes: without them nothing can be done.
    Needed,
    /// Wanted: without them less is seen.
    Wanted,
    /// No.
    Own,
}

/// A host on which somebody has signed in.
pub(crate) struct OpenHost {
    /// With root's rights, where there is a way to them.
    pub(crate) reached: Reached,
    /// How the login was opened.
    pub(crate) signed: SignedIn,
    /// For further connections: whoever answers there has to be the same host.
    pub(crate) target: Target,
    /// Why root's rights were not got although they were wanted.
    pub(crate) refused: Option<ExecFault>,
}

/// A connection, how the login on it was opened, and where the host is for further ones.
type SignedInto = (Connection, SignedIn, Target);

/// A connection that several use, or why there is none, and since when.
type Shared = (Instant, Result<Arc<Connection>, WayFault>);

/// The ways of one command. Connections to hosts over which others are reached are made once and shared.
pub struct Ways {
    way: Way,
    /// Who signs in, where the command says so.
    login: Option<String>,
    /// The hosts over which others are reached.
    jumps: Mutex<HashMap<String, Stop>>,
    open: Mutex<HashMap<String, Arc<tokio::sync::Mutex<Option<Shared>>>>>,
    /// Which keys of an agent are offered first.
    offers: Offers,
    /// What is owed to servers that count questions.
    penalties: Penalties,
    /// Profiles of the register, by host.
    profiles: HashMap<String, Arc<Profile>>,
    /// Hosts that are only simulated, and what opens each.
    simulated: HashMap<String, OpensSimulated>,
}

/// Opens a host that is only simulated.
pub type OpensSimulated = Arc<dyn Fn() -> Box<dyn Reach> + Send + Sync>;

fn simulated_login(stop: &Stop) -> SignedIn {
    SignedIn { account: stop.login.clone(), method: "none", key: None, source: String::new() }
}

impl Ways {
    /// The ways to the hosts of a register; `login` is who the command says should sign in.
    #[must_use]
    pub fn of(register: &Register, way: Way, login: Option<String>) -> Self {
        let jumps = register.all_hosts().filter_map(|host| host.through.as_ref());
        let jumps = jumps.filter_map(|through| register.hosts.get(&through.value));
        let has_agent = way.credentials.iter().any(|one| matches!(one, Credential::Agent { .. }));
        let offers = if has_agent { Offers::of(register) } else { Offers::default() };
        // Who signs in where the work is done says nothing about the hosts on the way.
        let jumps: Vec<Stop> = jumps.map(|host| stop(host, None, &way, &offers)).collect();
        let named = |host: &Host| register.profiles.get(&host.profile.as_ref()?.value).cloned();
        let profiles = register.all_hosts().filter_map(|host| Some((host.id.clone(), named(host)?))).collect();
        Self { login, offers, profiles, ..Self::over_these(jumps, way) }
    }

    /// Ways over these hosts, or over none.
    #[must_use]
    pub fn over_these(jumps: impl IntoIterator<Item = Stop>, way: Way) -> Self {
        let revoked_in = way.known_hosts.clone();
        let jump = |mut stop: Stop| {
            stop.target.revoked_in = revoked_in.clone();
            (stop.host.clone(), stop)
        };
        let jumps = jumps.into_iter().map(jump).collect();
        Self {
            way,
            login: None,
            jumps: Mutex::new(jumps),
            open: Mutex::default(),
            offers: Offers::default(),
            penalties: Penalties::default(),
            profiles: HashMap::new(),
            simulated: HashMap::new(),
        }
    }

    /// These ways with a host on them that is only simulated: nobody connects to it.
    #[must_use]
    pub fn with_simulated(mut self, host: &str, open: OpensSimulated) -> Self {
        self.simulated.insert(host.to_owned(), open);
        self
    }

    /// Whether nobody connects to this host.
    pub(crate) fn is_simulated(&self, host: &str) -> bool {
        self.simulated.contains_key(host)
    }

    /// How servers are asked on these ways, with at most three quarters of the time spent on waiting.
    #[must_use]
    pub fn terms<'a>(&'a self, randomness: &'a (dyn Randomness + Sync), limit: Duration) -> AskTerms<'a> {
        AskTerms { randomness, penalties: &self.penalties, login: None, patience: (limit * 3 / 4).min(PATIENCE_MAX) }
    }

    /// With what to sign in.
    pub(crate) fn credentials(&self) -> &[Credential] {
        &self.way.credentials
    }

    /// A host of the register as a look or a change comes by it.
    #[must_use]
    pub fn stop(&self, host: &Host) -> Stop {
        let mut stop = stop(host, self.login.as_deref(), &self.way, &self.offers);
        stop.target.revoked_in = self.way.known_hosts.clone();
        stop.profile = self.profiles.get(&host.id).cloned();
        stop
    }

    /// Hosts on the way whose keys nobody pinned may show one of these keys (the text of a `known_hosts` file).
    pub fn know(&self, known_hosts: &[u8]) {
        for stop in self.jumps().values_mut().filter(|stop| stop.target.known_hosts.is_empty()) {
            stop.target.known_hosts = known_hosts.to_vec();
        }
    }

    /// The port of a host on the way.
    #[must_use]
    pub fn port(&self, host: &str) -> Option<u16> {
        Some(self.jumps().get(host)?.target.port)
    }

    /// Somebody has vouched for the key of a host on the way.
    pub fn vouch(&self, host: &str, key: Fingerprint) {
        if let Some(stop) = self.jumps().get_mut(host) {
            stop.target.expected = Some(key);
        }
        self.open.lock().unwrap_or_else(PoisonError::into_inner).remove(host);
    }

    /// Whether homes on a network file system are looked at.
    #[must_use]
    pub fn network_homes(&self) -> Option<&Arc<Claims>> {
        self.way.network_homes.as_ref()
    }

    fn jumps(&self) -> MutexGuard<'_, HashMap<String, Stop>> {
        self.jumps.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Signs in and gets root's rights where there is a way to them.
    /// Each answer of a device may take so long.
    pub(crate) async fn open(&self, stop: &Stop, rights: Rights, limit: Duration) -> Result<OpenHost, WayFault> {
        let (mut reached, signed, target) = if let Some(open) = self.simulated.get(&stop.host) {
            (Reached::simulated(open()), simulated_login(stop), stop.target.clone())
        } else {
            let (connection, signed, target) = self.sign_in(stop).await?;
            let reached = match stop.reach {
                ReachKind::Shell => Reached::shell(connection, Box::new(SystemSource), stop.after_change.clone()),
                ReachKind::KeySubsystem => {
                    Reached::key_subsystem(KeySubsystem::open(connection, stop.login.clone(), limit).await?)
                }
                ReachKind::Sftp => {
                    let (login, managed) = (stop.login.clone(), stop.managed.clone());
                    Reached::sftp(SftpHost::open(connection, login, managed, stop.places.clone(), limit).await?)
                }
                ReachKind::Dialogue => Reached::dialogue(self.dialogue(connection, stop, limit).await?),
                ReachKind::Netconf => Reached::netconf(NetconfDevice::open(connection, limit).await?),
            };
            (reached, signed, target)
        };
        let needs_none = rights == Rights::Own || stop.login == "root";
        let refused = if needs_none { None } else { reached.reach_mut().get_root(&self.root_ways(stop)).await? };
        match refused {
            Some(fault) if rights == Rights::Needed => Err(fault.into()),
            refused => Ok(OpenHost { reached, signed, target, refused }),
        }
    }

    /// A session with a device that has a command line of its own.
    pub(crate) async fn dialogue(
        &self,
        connection: Connection,
        stop: &Stop,
        limit: Duration,
    ) -> Result<DialogueDevice, ExecFault> {
        let Some(profile) = stop.profile.clone() else {
            let host = &stop.host;
            let why = format!("no profile says how to work on it; give {host} one in the register: profile = \"NAME\"");
            return Err(ExecFault::Device { why });
        };
        let (login, managed) = (stop.login.clone(), stop.managed.clone());
        DialogueDevice::open(connection, login, managed, profile, self.way.fetch_folder.clone(), limit).await
    }

    /// The ways to root's rights on a host, in order.
    fn root_ways(&self, stop: &Stop) -> Vec<RootBy> {
        let fits = |way: &&RootBy| match stop.root_by.filter(|_| !self.way.root_is_named) {
            None => true,
            Some(RootProgram::Sudo) => matches!(way, RootBy::Sudo | RootBy::SudoPassword(_)),
            Some(RootProgram::Doas) => matches!(way, RootBy::Doas | RootBy::DoasPassword(_)),
            Some(RootProgram::Nothing) => false,
        };
        self.way.root_ways.iter().filter(fits).cloned().collect()
    }

    /// Where a host is reached, the way to it open.
    pub(crate) async fn target(&self, stop: &Stop) -> Result<Target, WayFault> {
        let mut target = stop.target.clone();
        if let Some(name) = &stop.through {
            target.through = Some(self.over(name).await?);
        }
        Ok(target)
    }

    /// Connects and ends the connection: shows whether the host is there and its key is known.
    ///
    /// # Errors
    /// [`WayFault`].
    pub fn greet<'a>(&'a self, stop: &'a mut Stop) -> Boxed<'a, Result<Target, WayFault>> {
        Box::pin(async move {
            let mut target = self.target(stop).await?;
            let connection = target.connect().await?;
            target.expected = Some(connection.host_key());
            stop.target.expected = target.expected;
            connection.close().await;
            Ok(target)
        })
    }

    /// A connection to this host on which somebody has signed in.
    pub(crate) fn sign_in<'a>(
        &'a self,
        stop: &'a Stop,
    ) -> Pin<Box<dyn Future<Output = Result<SignedInto, WayFault>> + Send + 'a>> {
        Box::pin(async move {
            let mut target = self.target(stop).await?;
            let mut connection = target.connect().await?;
            // Whoever answers next must be the same host.
            target.expected = Some(connection.host_key());
            let first = [&stop.first, self.offers.known()].concat();
            let signed = connection.sign_in(&stop.login, &self.way.credentials, &first).await?;
            Ok((connection, signed, target))
        })
    }

    /// The shared connection to a host over which others are reached; one that was lost is made again.
    async fn over(&self, name: &str) -> Result<Arc<Connection>, WayFault> {
        let stop = self.jumps().get(name).cloned().ok_or_else(|| WayFault::NoWay { host: name.to_owned() })?;
        let cell = {
            let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
            open.entry(name.to_owned()).or_default().clone()
        };
        let through = |fault: WayFault| WayFault::Through { host: name.to_owned(), fault: Box::new(fault) };
        let mut shared = cell.lock().await;
        match &*shared {
            Some((_, Ok(connection))) if !connection.is_closed() => return Ok(connection.clone()),
            Some((since, Err(fault))) if since.elapsed() < AGAIN => return Err(through(fault.clone())),
            _ => {}
        }
        let made = self.sign_in(&stop).await.map(|(connection, ..)| Arc::new(connection));
        *shared = Some((Instant::now(), made.clone()));
        made.map_err(through)
    }
}

/// Whether a host of the register is spoken to at all.
#[must_use]
pub fn unspoken(register: &Register, host: &Host) -> Option<WayFault> {
    let fault = |why| Some(WayFault::Unspoken { host: host.id.clone(), why });
    if host.host_keys.is_empty() {
        return fault(Unspoken::NotPinned);
    }
    if register.goes_round(host) { fault(Unspoken::Endless) } else { None }
}

fn stop(host: &Host, login: Option<&str>, way: &Way, offers: &Offers) -> Stop {
    let login = login.or(host.login.as_deref()).or(way.usual_login.as_deref()).unwrap_or(USUAL_LOGIN);
    Stop {
        host: host.id.clone(),
        target: pinned(host),
        reach: host.reach,
        places: host.places.clone(),
        managed: host.accounts.iter().map(|account| account.value.clone()).collect(),
        profile: None,
        first_key_ends_passwords: host.limits.first_key_ends_passwords,
        after_change: host.after_change.iter().map(|word| word.value.clone()).collect(),
        login: login.to_owned(),
        through: host.through.as_ref().map(|through| through.value.clone()),
        first: offers.on(host, login),
        root_by: host.root_by.or(way.usual_root_by),
    }
}

/// The pinned keys of a host as known at this port: they belong to the host, whatever port is given.
#[must_use]
pub fn pins(host: &Host, port: u16) -> String {
    host.host_keys.iter().map(|key| line_for(&host.address, port, &key.value) + "\n").collect()
}

/// A host of the register, spoken to only under its pinned keys.
fn pinned(host: &Host) -> Target {
    let known_hosts = pins(host, host.port);
    Target {
        through: None,
        host: host.address.clone(),
        port: host.port,
        known_hosts: known_hosts.into_bytes(),
        pinned_as: Some(host.id.clone()),
        expected: None,
        required: None,
        revoked_in: std::sync::Arc::default(),
        old_algorithms: host.old_algorithms,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_host_with_one_way_to_root_is_not_asked_for_another_unless_the_command_says_so() {
        let file = |text: &str| lavrin_fleet::register::SourceFile { path: "hosts.toml".into(), text: text.into() };
        let read = lavrin_fleet::register::read(&[file(
            "[gate]\nroot_by = \"doas\"\n[lantern]\n[buoy]\nroot_by = \"none\"\n",
        )]);
        let ways = |root_is_named: bool| {
            let way = Way { root_ways: vec![RootBy::Sudo, RootBy::Doas], root_is_named, ..Way::default() };
            Ways::of(&read.register, way, None)
        };
        let count = |ways: &Ways, host: &str| ways.root_ways(&ways.stop(&read.register.hosts[host])).len();
        let usual = ways(false);
        assert_eq!((count(&usual, "gate"), count(&usual, "lantern"), count(&usual, "buoy")), (1, 2, 0));
        assert_eq!(count(&ways(true), "gate"), 2);
    }
}
