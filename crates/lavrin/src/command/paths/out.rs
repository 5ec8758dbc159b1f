//! What the ways through tell, as data: each account that is reached, with the steps to it and what shows each of them.

use crate::clock;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::json::LimitsOut;
use lavrin_fleet::fleet::{Certainty, Owner};
use lavrin_fleet::hops::{BecomesRoot, Behind, Cut, Follow, ReachedFrom, Spot, Start, Step, WaysThrough};
use lavrin_keys::key::Fingerprint;
use lavrin_keys::text::printable;
use lavrin_store::database::Database;
use lavrin_work::hops::FleetFacts;
use serde::Serialize;
use std::collections::{BTreeSet, HashMap, HashSet};

/// What `--format json` prints.
#[derive(Debug, Default, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct PathsOut {
    schema: &'static str,
    /// Where one begins; `null` where each host is told.
    pub from: Option<String>,
    /// Where one gets to; `null`: everywhere.
    pub to: Option<String>,
    /// Accounts that are reached, those with the fewest doubts and the shortest way first.
    pub reached: Vec<ReachedOut>,
    /// Entries that let somebody in for one command only: the way ends there.
    pub commands: Vec<CommandOut>,
    /// How many hosts are reached.
    pub hosts: usize,
    /// How many accounts are reached.
    pub accounts: usize,
    /// How many of them not for certain.
    pub perhaps: usize,
    /// What cuts the ways, where that was asked.
    pub cut: Option<CutOut>,
    /// Each host from which others are reached, where no start is given.
    pub overview: Vec<BehindOut>,
    pub not_followed: NotFollowedOut,
    /// Hosts of which nothing is known.
    pub never_seen: Vec<String>,
    /// Accounts of which the last survey did not read everything, as `ACCOUNT@HOST`: a way may lead through them.
    pub not_read: Vec<String>,
    /// Whether a key that would be followed is not known.
    #[serde(skip)]
    has_unknown: bool,
}

/// An account that is reached.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ReachedOut {
    /// `ACCOUNT@HOST`.
    pub account: String,
    pub host: String,
    /// Accounts that are entered on the way, this one with them.
    pub hops: u32,
    /// Steps that are not certain.
    pub doubts: u32,
    pub steps: Vec<StepOut>,
}

/// How one comes from one account to the next.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum StepKind {
    /// By a private key.
    Key,
    /// Root may act as any account.
    Root,
    /// The account may become root.
    BecomesRoot,
    /// The home lies on both hosts.
    SharedHome,
}

/// A step.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct StepOut {
    /// `ACCOUNT@HOST`; `null` where somebody begins with a key.
    pub from: Option<String>,
    pub to: String,
    pub kind: StepKind,
    /// Whether everything that decides was seen.
    pub certain: bool,
    /// The key.
    pub key: Option<String>,
    /// Whose it is, where the register knows.
    pub owner: Option<String>,
    /// Where its private half lies.
    pub held: Option<HeldOut>,
    /// The agent of whom holds it, where that is how one gets it.
    pub agent_of: Option<String>,
    /// The entry that it fits.
    pub entry: Option<EntryAt>,
    /// What the client on the way wrote down about the next host.
    pub hint: Option<HintOut>,
    /// How one becomes root.
    pub by: Option<String>,
}

/// Where a private key lies.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct HeldOut {
    pub account: String,
    pub path: String,
    /// Whether a passphrase protects it; `null`: that could not be told.
    pub protected: Option<bool>,
    /// Whether only the `.pub` file beside it says which key it is.
    pub beside: bool,
}

/// An entry.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct EntryAt {
    /// `ACCOUNT@HOST`.
    pub account: String,
    pub path: Option<String>,
    pub line: Option<usize>,
    pub key: String,
    pub owner: Option<String>,
    pub comment: String,
    /// The day of the look that first saw it.
    pub since: Option<String>,
    pub limits: LimitsOut,
}

/// A line in which a client names a host.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct HintOut {
    pub path: String,
    pub line: usize,
}

/// An entry that lets somebody in for one command.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct CommandOut {
    pub entry: EntryAt,
}

/// What cuts the ways.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct CutOut {
    /// The fewest entries that have to go; `null` where no entry that goes closes all ways, or no end was given.
    pub entries: Option<Vec<EntryAt>>,
    /// Single entries, the one that closes most first.
    pub single: Vec<SingleOut>,
}

/// A single entry and what it closes.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct SingleOut {
    pub entry: EntryAt,
    /// Accounts that are not reached without it.
    pub accounts: usize,
    /// Hosts of which no account is reached without it.
    pub hosts: usize,
}

/// A host and how much is behind it.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct BehindOut {
    pub host: String,
    /// Hosts that are reached from it.
    pub hosts: usize,
    /// Hosts of which root is reached.
    pub roots: usize,
    /// The nearest of them, of those with most behind them.
    pub nearest: Vec<String>,
}

/// What was left aside.
#[derive(Debug, Default, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct NotFollowedOut {
    /// Private keys that a passphrase protects.
    pub passphrases: usize,
    /// Hosts to which an agent can be forwarded.
    pub agents: usize,
    /// Private keys of which nobody knows which key they are: `ACCOUNT@HOST` and the path.
    pub unknown_keys: Vec<String>,
}

/// Since when entries are seen, as far as somebody asks.
pub struct SightedSince<'a>(Option<&'a Database>);

impl<'a> SightedSince<'a> {
    /// By what is remembered.
    pub fn of(store: Option<&'a Database>) -> Self {
        Self(store)
    }

    fn since(&self, key: Fingerprint) -> Result<HashMap<(String, String), String>, CommandError> {
        let Some(store) = self.0 else { return Ok(HashMap::new()) };
        let seen = store.sightings_of(key)?.into_iter().filter(|seen| seen.gone.is_none());
        Ok(seen.map(|seen| ((seen.host, seen.account), clock::day_of(seen.first))).collect())
    }
}

/// Hosts that are named as the nearest, and of how many hosts they are.
const NEAREST: usize = 3;
const NEAREST_OF: usize = 100;

impl PathsOut {
    /// Each host, the one with most behind it first; of the first ones the nearest hosts are named.
    pub fn overview(ways: &WaysThrough<'_>) -> Self {
        let behind = Behind::of(ways);
        let one = |number: usize| {
            let (hosts, roots) = behind.hosts(ways, &ways.at_host(number).spots, number);
            let host = ways.hosts[number].host.clone();
            (hosts > 0).then_some((number, BehindOut { host, hosts, roots, nearest: Vec::new() }))
        };
        let mut overview: Vec<(usize, BehindOut)> = (0..ways.hosts.len()).filter_map(one).collect();
        overview.sort_by(|(_, one), (_, other)| (other.hosts, &one.host).cmp(&(one.hosts, &other.host)));
        for (number, out) in overview.iter_mut().take(NEAREST_OF) {
            let reach = ways.reach_some(&ways.at_host(*number), None, NEAREST);
            for (on, _) in &reach.accounts {
                let name = &ways.hosts[*on].host;
                if out.nearest.len() < NEAREST && !out.nearest.contains(name) {
                    out.nearest.push(name.clone());
                }
            }
        }
        let overview = overview.into_iter().map(|(_, out)| out).collect();
        Self { schema: "lavrin/paths/1", overview, ..Self::default() }
    }

    /// From a start: to some ends, or to everything.
    pub fn from(
        ways: &WaysThrough<'_>,
        (name, start): (String, &Start),
        to: Option<&str>,
        ends: Option<&[Spot]>,
        (cut, told_max): (bool, usize),
        sighted: &SightedSince<'_>,
    ) -> Result<Self, CommandError> {
        let reach = ways.reach(start, None);
        let mut told = Telling { ways, sighted, since: HashMap::new() };
        let ends_known: Option<HashSet<Spot>> = ends.map(|ends| ends.iter().copied().collect());
        let is_end = |spot: Spot| ends_known.as_ref().is_none_or(|ends| ends.contains(&spot));
        let ends_reached: Vec<(usize, usize)> =
            reach.accounts.iter().copied().filter(|(host, account)| is_end(Spot::Account(*host, *account))).collect();
        let hosts = ends_reached.iter().map(|(host, _)| *host).collect::<BTreeSet<_>>().len();
        let doubtful = |(host, account): &&(usize, usize)| {
            ways.came(&reach, Spot::Account(*host, *account)).is_some_and(|came| came.doubts > 0)
        };
        let (accounts, perhaps) = (ends_reached.len(), ends_reached.iter().filter(doubtful).count());
        let mut reached = Vec::new();
        for (host, account) in ends_reached.into_iter().take(told_max) {
            reached.push(told.reached(&reach, host, account)?);
        }
        let mut commands = Vec::new();
        for (host, entry) in &reach.commands {
            if is_end(Spot::Account(*host, ways.hosts[*host].open[*entry].0)) {
                commands.push(CommandOut { entry: told.entry(*host, *entry)? });
            }
        }
        let cut = if cut { Some(told.cut(start, ends)?) } else { None };
        let to = to.map(str::to_owned);
        Ok(Self {
            schema: "lavrin/paths/1",
            from: Some(name),
            to,
            reached,
            commands,
            hosts,
            accounts,
            perhaps,
            cut,
            ..Self::default()
        })
    }

    /// Adds what was not followed, and what is not known.
    pub fn not_followed(&mut self, ways: &WaysThrough<'_>, follow: Follow, facts: &FleetFacts) {
        self.never_seen.clone_from(&facts.never_seen);
        self.not_read.clone_from(&facts.not_read);
        for host in ways.hosts {
            self.not_followed.agents += usize::from(host.takes_agents && !follow.agents);
            for account in &host.accounts {
                for key in &account.held {
                    if key.public.is_none() {
                        let name = printable(account.name.as_bytes());
                        self.has_unknown |= key.protected != Some(true) || follow.passphrases;
                        self.not_followed.unknown_keys.push(format!("{name}@{}: {}", host.host, key.path));
                    } else if key.protected == Some(true) && !follow.passphrases {
                        self.not_followed.passphrases += 1;
                    }
                }
            }
        }
    }

    /// A way to what was asked about is a finding.
    pub fn exit(&self) -> Exit {
        let found = if self.to.is_some() && !self.reached.is_empty() { Exit::Findings } else { Exit::Done };
        found.max(if self.is_complete() { Exit::Done } else { Exit::NotChecked })
    }

    /// Whether everything is known that a way could lead through.
    pub fn is_complete(&self) -> bool {
        self.never_seen.is_empty() && self.not_read.is_empty() && !self.has_unknown
    }
}

/// Puts steps into words that name accounts, files and lines.
struct Telling<'a, 'w> {
    ways: &'a WaysThrough<'w>,
    sighted: &'a SightedSince<'a>,
    since: HashMap<Fingerprint, HashMap<(String, String), String>>,
}

impl Telling<'_, '_> {
    fn reached(&mut self, reach: &ReachedFrom, host: usize, account: usize) -> Result<ReachedOut, CommandError> {
        let spot = Spot::Account(host, account);
        let mut way = self.ways.way_to(reach, spot);
        way.push((spot, Step::Opens));
        let came = self.ways.came(reach, spot);
        Ok(ReachedOut {
            account: self.ways.name(host, account),
            host: self.ways.hosts[host].host.clone(),
            hops: came.map_or(0, |came| came.hops),
            doubts: came.map_or(0, |came| came.doubts),
            steps: self.steps(&way)?,
        })
    }

    /// The spots of a way, from account to account. Each stands with the step that leaves it.
    fn steps(&mut self, way: &[(Spot, Step)]) -> Result<Vec<StepOut>, CommandError> {
        let mut steps = Vec::new();
        let mut from: Option<(usize, usize)> = None;
        let mut step = StepOut::new();
        let mut last = None;
        for (spot, leaves) in way {
            match *spot {
                Spot::Account(host, account) => {
                    if let Some((before, how)) = last {
                        step.to = self.ways.name(host, account);
                        self.end(&mut step, before, how);
                        steps.push(std::mem::replace(&mut step, StepOut::new()));
                    }
                    from = Some((host, account));
                    step.from = Some(self.ways.name(host, account));
                    match leaves {
                        Step::Holds(held) | Step::FitsFrom { held, .. } => {
                            self.held(&mut step, (host, account), *held);
                            if let Step::FitsFrom { certain: false, .. } = leaves {
                                step.certain = false;
                            }
                        }
                        Step::Agent => step.certain = false,
                        _ => {}
                    }
                }
                Spot::Key(key) => {
                    let key = self.ways.key(key);
                    step.key = Some(key.to_string());
                    step.owner = self.ways.owner(key).map(Owner::name);
                    if matches!(last, Some((_, Step::Agent))) {
                        step.agent_of.clone_from(&step.owner);
                    }
                }
                Spot::Entry(host, entry) => {
                    let access = self.ways.entry(host, entry);
                    step.key = Some(access.key.to_string());
                    step.owner = self.ways.owner(access.key).map(Owner::name);
                    step.certain &= access.certainty != Certainty::Perhaps;
                    // Who begins with a key comes from an address that nobody knows.
                    step.certain &= access.limits.from.is_none() || step.held.is_some();
                    step.entry = Some(self.entry(host, entry)?);
                    let target = self.ways.register().hosts.get(&self.ways.hosts[host].host);
                    let hint = from.zip(target).and_then(|((on, of), target)| {
                        let (path, line) = self.ways.account(on, of).names_host(target)?;
                        Some(HintOut { path: path.to_string(), line })
                    });
                    step.hint = hint;
                }
            }
            last = Some((*spot, *leaves));
        }
        Ok(steps)
    }

    /// What the step into an account is, where no key leads there.
    fn end(&self, step: &mut StepOut, before: Spot, how: Step) {
        let Spot::Account(host, account) = before else { return };
        step.kind = match how {
            Step::IsRoot => StepKind::Root,
            Step::BecomesRoot => StepKind::BecomesRoot,
            Step::SharedHome => StepKind::SharedHome,
            _ => return,
        };
        let facts = self.ways.account(host, account);
        if step.kind == StepKind::BecomesRoot {
            step.certain = false;
            step.by = facts.becomes_root.as_ref().map(|how| match how {
                BecomesRoot::AsSurveys => "surveys become root as this account".to_owned(),
                BecomesRoot::Group(group) => format!("a member of the group {}", printable(group.as_bytes())),
            });
        }
        if step.kind == StepKind::SharedHome {
            step.by = facts.shared_home.as_ref().map(ToString::to_string);
        }
    }

    fn held(&self, step: &mut StepOut, (host, account): (usize, usize), held: usize) {
        let key = self.ways.held(host, account, held);
        step.certain &= key.protected == Some(false);
        step.held = Some(HeldOut {
            account: self.ways.name(host, account),
            path: key.path.to_string(),
            protected: key.protected,
            beside: key.public.is_some_and(|public| public.beside),
        });
    }

    fn entry(&mut self, host: usize, entry: usize) -> Result<EntryAt, CommandError> {
        let access = self.ways.entry(host, entry);
        let on = &self.ways.hosts[host].host;
        if !self.since.contains_key(&access.key) {
            self.since.insert(access.key, self.sighted.since(access.key)?);
        }
        let account = printable(access.account.as_bytes());
        let since = self.since.get(&access.key);
        let day = since.and_then(|since| since.get(&(on.clone(), account.clone())).cloned());
        Ok(EntryAt {
            account: format!("{account}@{on}"),
            path: access.place.path().map(ToString::to_string),
            line: access.place.line(),
            key: access.key.to_string(),
            owner: self.ways.owner(access.key).map(Owner::name),
            comment: access.comment.clone(),
            since: day,
            limits: LimitsOut::from(&access.limits),
        })
    }

    fn cut(&mut self, start: &Start, ends: Option<&[Spot]>) -> Result<CutOut, CommandError> {
        let entries = match ends.map(|ends| self.ways.cut(start, ends)) {
            None | Some(Cut::NotByEntries) => None,
            Some(Cut::NoWay) => Some(Vec::new()),
            Some(Cut::Entries(entries)) => {
                Some(entries.into_iter().map(|(host, entry)| self.entry(host, entry)).collect::<Result<_, _>>()?)
            }
        };
        let mut single = Vec::new();
        for one in self.ways.singles(start, ends) {
            let entry = self.entry(one.entry.0, one.entry.1)?;
            single.push(SingleOut { entry, accounts: one.accounts, hosts: one.hosts });
        }
        Ok(CutOut { entries, single })
    }
}

impl StepOut {
    fn new() -> Self {
        Self {
            from: None,
            to: String::new(),
            kind: StepKind::Key,
            certain: true,
            key: None,
            owner: None,
            held: None,
            agent_of: None,
            entry: None,
            hint: None,
            by: None,
        }
    }
}
