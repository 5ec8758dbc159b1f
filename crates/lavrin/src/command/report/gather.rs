//! Everything that is on the page, gathered in one pass over what is remembered.

use super::counts::ReportNumbers;
use super::{ReportArgs, through};
use crate::clock;
use crate::command::audit::fleet_finding_out;
use crate::command::matrix::grid;
use crate::command::matrix::out::{WayState, state as state_of};
use crate::command::register::OpenedRegister;
use crate::error::CommandError;
use crate::fold::folded;
use crate::json::{AuditFinding, LimitsOut};
use crate::wording::rules::RULES;
use lavrin_fleet::fleet::matrix::{There, WayIn};
use lavrin_fleet::fleet::{FleetFinding, Moment, Owner};
use lavrin_fleet::register::{Date, Host, OwnedKey, Register};
use lavrin_keys::key::Fingerprint;
use lavrin_keys::text::printable;
use lavrin_report::page::{
    FindingGroup, OwnerKind, Page, PageHost, PageOwner, PageSummary, PageWay, ToldFinding, WayMark,
};
use lavrin_report::plot::{Bars, Signal, TimeLines};
use lavrin_server::finding::Severity;
use lavrin_store::database::{Database, DayOfChange};
use lavrin_work::overview::{EntryBrief, Found, HostOverview, overview};
use std::collections::{BTreeMap, HashMap, HashSet};

/// Findings that one group tells one by one, and all of them together.
const TOLD_IN_GROUP: usize = 100;
const TOLD_MAX: usize = 2_000;

/// Seconds of a day.
const DAY: i64 = 86_400;

/// Days that are shown one by one; a longer time is shown by months.
const DAYS_MAX: usize = 31;

/// Reports that are compared.
const REPORTS_MAX: usize = 40;

/// What was gathered.
pub struct Gathered {
    /// The page.
    pub page: Page,
    /// What the next report compares itself with.
    pub numbers: ReportNumbers,
    scope: String,
}

/// Numbers for the words that stand in many ways in.
#[derive(Default)]
struct Words {
    numbers: HashMap<String, u32>,
    all: Vec<String>,
    both: String,
}

impl Words {
    fn number(&mut self, word: &str) -> u32 {
        if let Some(number) = self.numbers.get(word) {
            return *number;
        }
        let number = u32::try_from(self.all.len()).unwrap_or(u32::MAX);
        self.numbers.insert(word.to_owned(), number);
        self.all.push(word.to_owned());
        number
    }

    /// The number of two words as one.
    fn number_of(&mut self, first: &str, second: &str) -> u32 {
        self.both.clear();
        self.both.push_str(first);
        self.both.push_str(second);
        let both = std::mem::take(&mut self.both);
        let number = self.number(&both);
        self.both = both;
        number
    }
}

/// What is counted on the way.
#[derive(Default)]
struct Counting {
    keys: HashMap<Fingerprint, (&'static str, usize)>,
    by_owner: [usize; 4],
    last_used: [usize; 5],
}

/// The times of last use that are kept apart, in days.
const USED: [(&str, i64); 3] = [("within 30 days", 30), ("within 180 days", 180), ("longer ago", i64::MAX)];
const NO_USE: [&str; 2] = ["not since the logs begin", "no log tells"];

impl Counting {
    fn add(&mut self, entry: &EntryBrief, now: i64) {
        self.keys.insert(entry.key, (entry.algorithm, entry.bits));
        self.by_owner[kind(entry.owner.as_ref()) as usize] += 1;
        let at = match (entry.used, entry.logs_since) {
            (Some(used), _) => USED.iter().position(|(_, days)| (now - used) / DAY <= *days).unwrap_or(2),
            (None, Some(_)) => 3,
            (None, None) => 4,
        };
        self.last_used[at] += 1;
    }
}

fn kind(owner: Option<&Owner>) -> OwnerKind {
    match owner {
        Some(Owner::Person { .. }) => OwnerKind::Person,
        Some(Owner::Machine { .. }) => OwnerKind::Program,
        Some(Owner::Kept { .. }) => OwnerKind::Kept,
        None => OwnerKind::Nobody,
    }
}

/// The owners by name, in the order of the page.
struct Owners {
    numbers: HashMap<(OwnerKind, String), u32>,
    all: Vec<PageOwner>,
}

impl Owners {
    /// The people of the register come first; whoever else has keys is added.
    fn of(register: &Register, today: Date) -> Self {
        let mut owners = Self { numbers: HashMap::new(), all: Vec::new() };
        for person in register.people.values() {
            let left = person.left.as_ref().filter(|_| person.has_left(today)).map(|left| left.value.to_string());
            owners.add(PageOwner {
                kind: OwnerKind::Person,
                id: person.id.clone(),
                name: printable(person.name.as_bytes()),
                team: person.team.clone(),
                left,
                keys: person.keys.iter().map(key_words).collect(),
            });
        }
        owners
    }

    fn add(&mut self, owner: PageOwner) -> u32 {
        let number = u32::try_from(self.all.len()).unwrap_or(u32::MAX);
        self.numbers.insert((owner.kind, owner.id.clone()), number);
        self.all.push(owner);
        number
    }

    fn number(&mut self, owner: Option<&Owner>) -> u32 {
        let kind = kind(owner);
        let id = owner.map_or_else(|| "owner unknown".to_owned(), Owner::name);
        if let Some(number) = self.numbers.get(&(kind, id.clone())) {
            return *number;
        }
        self.add(PageOwner { kind, name: id.clone(), id, team: None, left: None, keys: Vec::new() })
    }
}

fn key_words(key: &OwnedKey) -> String {
    let added = key.added.map(|day| format!(", since {day}")).unwrap_or_default();
    let retired = key.retired.map(|day| format!(", retired {day}")).unwrap_or_default();
    let (algorithm, bits) = (key.key.algorithm().name(), key.key.bits());
    format!("{}: {algorithm} {bits}, {}{added}{retired}", key.label, key.fingerprint)
}

impl Gathered {
    /// Gathers it.
    pub fn of(
        opened: &OpenedRegister,
        hosts: &[&Host],
        store: Option<&Database>,
        (now, is_past): (Moment, bool),
        args: &ReportArgs,
    ) -> Result<Self, CommandError> {
        let register = opened.register();
        let (mut words, mut owners, mut counting) =
            (Words::default(), Owners::of(register, now.today), Counting::default());
        words.number("");
        let summary = PageSummary { register_faults: opened.reading.findings.len(), ..PageSummary::default() };
        let mut page = Page { summary, ..Page::default() };
        let mut looks: Vec<i64> = Vec::new();
        let mut missing = 0;
        let found = overview(register, hosts, store, now, is_past, |host, mut shown| {
            shown.access.limit_missing(&mut missing);
            let number = u32::try_from(page.hosts.len()).unwrap_or(u32::MAX);
            for entry in &shown.entries {
                counting.add(entry, now.time);
            }
            page.summary.accounts += shown.accounts;
            page.summary.entries += shown.entries.len();
            page.summary.differing.1 += shown.access.more_missing;
            page.summary.in_part += usize::from(!shown.access.unread.is_empty());
            looks.extend(shown.access.seen);
            for way in &shown.access.ways {
                count_difference(way, &mut page.summary);
                let owner = owners.number(way.owner.as_ref());
                page.ways.push(way_of(number, owner, way, &mut words));
            }
            page.hosts.push(host_of(host, &shown));
        })?;
        let mut numbers = ReportNumbers { entries: page.summary.entries, ..ReportNumbers::default() };
        let Found { findings: found, key_holders } = found;
        for finding in &found {
            numbers.findings.add(finding.severity);
        }
        add_host_findings(&mut page.hosts, &found);
        let findings: Vec<AuditFinding> = found.iter().map(fleet_finding_out).collect();
        page.findings = groups(&findings);
        drop((findings, found));
        let names: Vec<&str> = args.host.iter().chain(&args.tag).map(String::as_str).collect();
        let scope = names.join(",");
        page.register = printable(register.name.as_bytes());
        page.at = clock::text_of(now.time).trim_end_matches('Z').replace('T', " ") + " UTC";
        page.scope = (!names.is_empty()).then(|| names.join(", "));
        page.is_past = is_past;
        env!("CARGO_PKG_VERSION").clone_into(&mut page.version);
        page.summary.findings = severities(&numbers, None);
        summarise(&mut page, &looks, &counting, register, hosts);
        bars(&mut page, &counting, register, store, now)?;
        if let Some(store) = store {
            over_time(&mut page, store, (&scope, &numbers), (now.time, is_past))?;
            (page.hops, page.hops_aside) = through::ways(register, store, now, &args.paths_from, &key_holders)?;
        }
        page.owners = owners.all;
        page.words = words.all;
        Ok(Self { page, numbers, scope })
    }

    /// Notes what was counted, for the next report.
    pub fn note(&self, store: &Database, time: i64) -> Result<(), CommandError> {
        Ok(store.note_report(time, &self.scope, &crate::json::line(&self.numbers))?)
    }
}

fn count_difference(way: &WayIn, summary: &mut PageSummary) {
    match way.there {
        There::Missing => summary.differing.1 += 1,
        There::Opens | There::Perhaps if !way.is_as_registered() => summary.differing.0 += 1,
        _ => {}
    }
}

fn way_of(number: u32, owner: u32, way: &WayIn, words: &mut Words) -> PageWay {
    let key = match (&way.owner, way.comment.is_empty()) {
        (Some(owner), _) => words.number_of("key ", owner.label()),
        (None, false) => words.number(&way.comment),
        (None, true) => words.number(&way.key.to_string()),
    };
    let limits = if way.limits.is_empty() && way.until.is_none() {
        words.number("")
    } else {
        words.number(&grid::how(&LimitsOut::from(&way.limits), way.until.map(|until| until.to_string()).as_deref()))
    };
    PageWay {
        host: number,
        owner,
        account: words.number(&printable(way.account.as_bytes())),
        key,
        limits,
        state: state(state_of(way)),
    }
}

fn state(state: WayState) -> WayMark {
    match state {
        WayState::AsRegistered => WayMark::AsRegistered,
        WayState::Perhaps => WayMark::Perhaps,
        WayState::NotRead => WayMark::NotRead,
        WayState::NotSeen => WayMark::NotSeen,
        WayState::Missing => WayMark::Missing,
        WayState::NotRegistered => WayMark::NotRegistered,
    }
}

fn host_of(host: &Host, shown: &HostOverview) -> PageHost {
    PageHost {
        id: host.id.clone(),
        address: printable(host.address.as_bytes()),
        tags: host.tags.clone(),
        site: host.site.as_ref().map(|site| printable(site.as_bytes())),
        seen: shown.access.seen.map(clock::day_of),
        not_read: shown.access.unread.clone(),
        accounts: shown.accounts,
        more_missing: shown.access.more_missing,
        findings: Vec::new(),
    }
}

fn add_host_findings(hosts: &mut [PageHost], found: &[FleetFinding]) {
    let mut counts: HashMap<&str, BTreeMap<(std::cmp::Reverse<Severity>, &'static str), usize>> = HashMap::new();
    for finding in found {
        let rule = (std::cmp::Reverse(finding.severity), finding.finding.fault.rule());
        *counts.entry(&finding.host).or_default().entry(rule).or_default() += 1;
    }
    for host in hosts {
        let own = counts.remove(host.id.as_str()).unwrap_or_default();
        host.findings = own.into_iter().map(|((severity, rule), count)| (severity.0.name(), rule, count)).collect();
    }
}

/// Findings by what there is to do: one group for each rule, the most urgent first.
fn groups(findings: &[AuditFinding]) -> Vec<FindingGroup> {
    let mut groups: Vec<FindingGroup> = Vec::new();
    let mut places: HashMap<(&'static str, Severity), usize> = HashMap::new();
    let mut told = 0;
    for one in folded(findings) {
        let (rule, severity) = (one.first.rule, one.first.severity);
        let at = *places.entry((rule, severity)).or_insert_with(|| {
            let about = RULES.iter().find(|known| known.name == rule).map_or(rule, |known| known.about);
            groups.push(FindingGroup { rule, severity: severity.name(), about, told: Vec::new(), more: 0 });
            groups.len() - 1
        });
        let group = &mut groups[at];
        if group.told.len() >= TOLD_IN_GROUP || told >= TOLD_MAX {
            group.more += one.hosts.len().max(1);
            continue;
        }
        told += 1;
        group.told.push(told_of(one.first, &one.hosts));
    }
    groups
}

fn told_of(first: &AuditFinding, hosts: &[&str]) -> ToldFinding {
    let account = first.account.as_ref().map(|account| printable(account.as_bytes()));
    let line = first.line.map(|line| format!(" line {line}")).unwrap_or_default();
    let path = first.path.as_ref().map(|path| format!("{path}{line}"));
    let values = match (&first.found, &first.expected) {
        (Some(found), Some(expected)) => format!(" (found {found}, expected {expected})"),
        _ => String::new(),
    };
    ToldFinding {
        hosts: hosts.iter().map(|host| (*host).to_owned()).collect(),
        place: account.into_iter().chain(path).collect::<Vec<_>>().join(" "),
        message: format!("{}{values}", first.message),
        remedy: first.remedy.clone(),
    }
}

fn summarise(page: &mut Page, looks: &[i64], counting: &Counting, register: &Register, hosts: &[&Host]) {
    let summary = &mut page.summary;
    summary.seen = looks.len();
    summary.looks =
        looks.iter().min().zip(looks.iter().max()).map(|(first, last)| (clock::day_of(*first), clock::day_of(*last)));
    let never = page.hosts.iter().filter(|host| host.seen.is_none());
    summary.never_seen = never.map(|host| host.id.clone()).collect();
    let [people, programs, kept, nobody] = counting.by_owner;
    let all = [("of people", people), ("of programs", programs), ("of kept keys", kept), ("of unknown owner", nobody)];
    summary.by_owner = all.into_iter().filter(|(_, count)| *count > 0).collect();
    let meant: HashSet<&str> = hosts.iter().map(|host| host.id.as_str()).collect();
    let owed = register.owed.iter().filter(|owed| meant.contains(owed.host.as_str()));
    let words = |owed: &lavrin_fleet::register::Owed| {
        let who = owed.person.as_ref().map(|person| format!(" of {person}")).unwrap_or_default();
        format!("the key{who} in {}@{}, since {}", printable(owed.account.as_bytes()), owed.host, owed.since)
    };
    summary.owed = owed.map(words).collect();
}

fn bars(
    page: &mut Page,
    counting: &Counting,
    register: &Register,
    store: Option<&Database>,
    now: Moment,
) -> Result<(), CommandError> {
    let mut kinds: BTreeMap<(&'static str, usize), usize> = BTreeMap::new();
    for (algorithm, bits) in counting.keys.values() {
        let bits = if *algorithm == "ssh-rsa" { *bits } else { 0 };
        *kinds.entry((algorithm, bits)).or_default() += 1;
    }
    let named = kinds.into_iter().map(|((algorithm, bits), count)| {
        (if bits > 0 { format!("{algorithm} {bits}") } else { algorithm.to_owned() }, count)
    });
    page.bars.push(Bars {
        title: "Keys by algorithm and size".to_owned(),
        bars: named.collect(),
        note: "each key once".to_owned(),
    });
    page.bars.push(ages(counting, register, store, now)?);
    let names = USED.iter().map(|(name, _)| *name).chain(NO_USE);
    let used = names.zip(counting.last_used).map(|(name, count)| (name.to_owned(), count));
    let used: Vec<(String, usize)> = used.filter(|(_, count)| *count > 0).collect();
    page.bars.push(Bars {
        title: "Entries by last use".to_owned(),
        bars: used,
        note: "as far as logs tell".to_owned(),
    });
    Ok(())
}

/// Ages that are kept apart, in days.
const AGES: [(&str, i64); 5] =
    [("under 90 days", 90), ("under a year", 365), ("1 to 2 years", 730), ("2 to 5 years", 1826), ("older", i64::MAX)];

/// By the register's word on since when a key is known, else by the first look that saw it.
fn ages(counting: &Counting, register: &Register, store: Option<&Database>, now: Moment) -> Result<Bars, CommandError> {
    let first = store.map(Database::first_seen).transpose()?.unwrap_or_default();
    let people = register.people.values().flat_map(|person| &person.keys);
    let others =
        register.all_hosts().flat_map(|host| &host.keys).chain(register.kept.iter().flat_map(|kept| &kept.keys));
    let added: HashMap<Fingerprint, Date> =
        people.chain(others).filter_map(|key| Some((key.fingerprint, key.added?))).collect();
    let mut counts = [0usize; AGES.len()];
    for key in counting.keys.keys() {
        let seen = first.get(key).map(|time| time.div_euclid(DAY));
        let since = added.get(key).map(|day| day.number()).into_iter().chain(seen).min();
        let days = since.map_or(0, |since| now.today.number() - since);
        counts[AGES.iter().position(|(_, limit)| days < *limit).unwrap_or(AGES.len() - 1)] += 1;
    }
    let bars =
        AGES.iter().zip(counts).filter(|(_, count)| *count > 0).map(|((name, _), count)| ((*name).to_owned(), count));
    Ok(Bars {
        title: "Keys by age".to_owned(),
        bars: bars.collect(),
        note: "since the register knows them, else since the first look that saw them".to_owned(),
    })
}

fn over_time(
    page: &mut Page,
    store: &Database,
    (scope, numbers): (&str, &ReportNumbers),
    (now, is_past): (i64, bool),
) -> Result<(), CommandError> {
    let changes = in_steps(store.changes(i64::MIN, now)?);
    let number = |pick: fn(&DayOfChange) -> usize| changes.iter().map(pick).collect::<Vec<usize>>();
    page.lines.push(TimeLines {
        title: "Entries over time".to_owned(),
        moments: changes.iter().map(|change| change.day.clone()).collect(),
        lines: vec![("came", Signal::Plain, number(|day| day.came)), ("went", Signal::Good, number(|day| day.gone))],
        note: "an entry comes with the first look that sees it; all hosts of the register".to_owned(),
    });
    let earlier: Vec<(i64, ReportNumbers)> = store
        .reports(scope, now)?
        .into_iter()
        .filter_map(|(time, text)| Some((time, serde_json::from_str(&text).ok()?)))
        .collect();
    if let Some((time, last)) = earlier.last() {
        let since = store.changes(*time, now)?;
        let sum = |pick: fn(&DayOfChange) -> usize| since.iter().map(pick).sum();
        page.summary.changes = Some((clock::day_of(*time), sum(|day| day.came), sum(|day| day.gone)));
        page.summary.findings = severities(numbers, Some(last));
    }
    let skip = earlier.len().saturating_sub(REPORTS_MAX);
    let mut all: Vec<(String, &ReportNumbers)> =
        earlier[skip..].iter().map(|(time, numbers)| (clock::day_of(*time), numbers)).collect();
    all.push((if is_past { clock::day_of(now) } else { "now".to_owned() }, numbers));
    let line = |pick: fn(&ReportNumbers) -> usize| all.iter().map(|(_, numbers)| pick(numbers)).collect::<Vec<usize>>();
    page.lines.push(TimeLines {
        title: "Findings at each report".to_owned(),
        lines: vec![
            (
                "critical and high",
                Signal::Bad,
                line(|one| one.findings.of(Severity::Critical) + one.findings.of(Severity::High)),
            ),
            (
                "medium and low",
                Signal::Warn,
                line(|one| one.findings.of(Severity::Medium) + one.findings.of(Severity::Low)),
            ),
        ],
        moments: all.iter().map(|(day, _)| day.clone()).collect(),
        note: String::new(),
    });
    Ok(())
}

fn severities(numbers: &ReportNumbers, before: Option<&ReportNumbers>) -> Vec<(&'static str, usize, Option<usize>)> {
    let one = |severity: Severity| {
        (severity.name(), numbers.findings.of(severity), before.map(|before| before.findings.of(severity)))
    };
    Severity::URGENT_FIRST.into_iter().map(one).collect()
}

/// Day by day where there are few, else month by month.
fn in_steps(days: Vec<DayOfChange>) -> Vec<DayOfChange> {
    if days.len() <= DAYS_MAX {
        return days;
    }
    let mut months: Vec<DayOfChange> = Vec::new();
    for day in days {
        let month = day.day.get(..7).unwrap_or(&day.day).to_owned();
        match months.last_mut().filter(|last| last.day == month) {
            Some(last) => (last.came, last.gone) = (last.came + day.came, last.gone + day.gone),
            None => months.push(DayOfChange { day: month, ..day }),
        }
    }
    months
}
