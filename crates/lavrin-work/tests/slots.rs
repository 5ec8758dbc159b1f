//! A device that keeps keys in slots and has no files: the whole work over a reach that only behaves like one.

use lavrin_fleet::fleet::compare::Difference;
use lavrin_fleet::fleet::{Moment, Removed};
use lavrin_fleet::register::{Date, Host, Register, SourceFile, read};
use lavrin_keys::key::{PrivateKey, PublicKey};
use lavrin_reach::ssh::ExecFault;
use lavrin_reach::{Boxed, CarryFault, Reach};
use lavrin_server::abilities::{Abilities, Ability};
use lavrin_server::account::{Account, read_passwd};
use lavrin_server::fs::{Fact, Why};
use lavrin_server::login::{Outcome, Question, judge};
use lavrin_server::steps::{Around, Change, Guarded, restore};
use lavrin_server::survey::{KeySlot, Observation, Want, Wanted};
use lavrin_server::system::System;
use lavrin_store::Event;
use lavrin_store::database::Database;
use lavrin_work::Scope;
use lavrin_work::change::{Ended, Job, Proof, Task, Terms};
use lavrin_work::fleet::audit;
use lavrin_work::fleet_run::FleetRun;
use lavrin_work::interrupt::Interrupt;
use lavrin_work::memory::Memory;
use lavrin_work::offboard::{KeyState, Leaver, NotShownByHost, Rest};
use lavrin_work::plan::{Plan, Planned, Which};
use lavrin_work::pool::Pace;
use lavrin_work::survey::{Clock, LookAt, look};
use lavrin_work::ways::{Way, Ways};
use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex};
use std::time::Duration;

const TODAY: Date = Date { year: 2026, month: 11, day: 23 };

/// Slots by account, as the device holds them.
type Slots = Arc<Mutex<BTreeMap<String, Vec<KeySlot>>>>;

/// A device with room for four keys of each account.
struct Device(Slots);

impl Reach for Device {
    fn abilities(&self) -> Abilities {
        use Ability::{Files, Logs, Modes, Owners, Questions, Rename, Settings};
        Abilities::without([Files, Modes, Owners, Settings, Logs, Rename, Questions])
    }

    fn look<'a>(&'a mut self, wants: &'a [Want], seen: &'a mut Observation) -> Boxed<'a, Result<(), ExecFault>> {
        Box::pin(async move {
            for want in wants {
                match &want.what {
                    Wanted::System(_) => {
                        seen.accounts = read_passwd(b"admin:x:0:0::/:/\nedda:x:1001:1001::/:/\n").into();
                        seen.looked = true;
                    }
                    Wanted::Slots(account) => {
                        let slots = self.0.lock().unwrap().get(account).cloned();
                        seen.slots.insert(account.clone(), slots.map_or(Fact::Absent, Fact::Known));
                    }
                    other => panic!("nobody asks a device without files for {other:?}"),
                }
            }
            Ok(())
        })
    }

    fn carry<'a>(
        &'a self,
        change: &'a Guarded,
        _: &'a Account,
        _: &'a Observation,
    ) -> Boxed<'a, Result<(), CarryFault>> {
        Box::pin(async move {
            let subject = change.change().subject();
            let Change::Key(key) = change.change() else { panic!("a device without files is asked to change one") };
            let mut all = self.0.lock().unwrap();
            let slots = all.entry(key.account.clone()).or_default();
            if let Some(old) = &key.old {
                let own =
                    |slot: &KeySlot| slot.entry == *old && key.slot.as_ref().is_none_or(|name| *name == slot.name);
                let Some(place) = slots.iter().position(own) else { return Err(CarryFault::Changed { subject }) };
                slots.remove(place);
            }
            if let Some(new) = &key.new {
                let free =
                    (1..=4).map(|number| number.to_string()).find(|name| slots.iter().all(|slot| slot.name != *name));
                let Some(name) = key.slot.clone().or(free) else {
                    return Err(CarryFault::Refused { subject, why: "all slots are taken".to_owned() });
                };
                slots.push(KeySlot { name, entry: new.clone() });
            }
            Ok(())
        })
    }
}

fn key(seed: u8) -> PublicKey {
    PrivateKey::ed25519(&[seed; 32]).unwrap().public().clone()
}

fn register(left: &str) -> Register {
    let file = |path: &str, text: String| SourceFile { path: path.to_owned(), text };
    let person = |name: &str, seed: u8, rest: &str| {
        format!("name = \"{name}\"\n{rest}[[key]]\nlabel = \"main\"\nline = \"{}\"\n", key(seed).line(name))
    };
    let host = format!("[gate]\naccounts = [\"admin\", \"edda\"]\nhost_keys = [\"{}\"]\n", key(9).line("gate"));
    let grant = |person: &str, account: &str| {
        format!("[[grant]]\nperson = \"{person}\"\naccount = \"{account}\"\nhosts = [\"gate\"]\n")
    };
    let reading = read(&[
        file("lavrin.toml", "name = \"Skerry lights\"\n".to_owned()),
        file("people/edda.toml", person("edda", 1, left)),
        file("people/sten.toml", person("sten", 2, "")),
        file("hosts.toml", host),
        file("access.toml", grant("edda", "edda") + &grant("sten", "edda") + &grant("sten", "admin")),
    ]);
    assert!(reading.findings.is_empty(), "{:?}", reading.findings);
    reading.register
}

struct Site {
    slots: Slots,
    ways: Arc<Ways>,
    run: FleetRun,
    pace: Pace,
}

impl Site {
    fn new(folder: &std::path::Path, slots: &[(&str, &[(u8, &str)])]) -> Self {
        let of = |keys: &[(u8, &str)]| {
            let slot = |(number, (seed, comment)): (usize, &(u8, &str))| KeySlot {
                name: (number + 1).to_string(),
                entry: key(*seed).line(comment).into_bytes(),
            };
            keys.iter().enumerate().map(slot).collect::<Vec<_>>()
        };
        let slots: Slots =
            Arc::new(Mutex::new(slots.iter().map(|(account, keys)| ((*account).to_owned(), of(keys))).collect()));
        let inside = slots.clone();
        let open = Arc::new(move || Box::new(Device(inside.clone())) as Box<dyn Reach>);
        let ways = Ways::of(&register(""), Way::default(), None).with_simulated("gate", open);
        let store = Arc::new(Mutex::new(Database::open(folder).unwrap()));
        let pace = Pace { parallel: 2, limit: Duration::from_secs(10), interrupt: Interrupt::default() };
        let clock = Clock { now, text: |time| format!("at {time}") };
        let terms = Terms {
            command: "enforce",
            run: Some("run".to_owned()),
            part: None,
            time: "2026-11-23T08:00:00Z".to_owned(),
            now: now(),
            reason: None,
            accept_lockout: false,
            keeper: store.clone(),
            interrupt: Interrupt::default(),
        };
        let run = FleetRun { store, terms, pace: pace.clone(), stop_after: None, clock };
        Self { slots, ways: Arc::new(ways), run, pace }
    }

    /// Looks at the hosts of a register, and remembers what is seen.
    async fn look(&self, register: &Register) -> Vec<Box<Observation>> {
        let store =
            Database::open(std::path::Path::new(&self.run.store.lock().unwrap().place()).ancestors().nth(2).unwrap())
                .unwrap();
        let hosts: Vec<&Host> = register.all_hosts().collect();
        let mut seen = Vec::new();
        let mut take = |surveyed: &lavrin_work::survey::Surveyed, found: Option<Box<Observation>>| {
            assert!(surveyed.fault.is_none(), "{:?}", surveyed.fault);
            assert!(surveyed.lacks.contains(&Ability::Settings));
            seen.extend(found);
        };
        let at = LookAt { hosts: &hosts, scope: Scope::Survey };
        look(&store, register, at, &self.ways, &self.pace, self.run.clock, &mut take).await.unwrap();
        seen
    }

    async fn plan(&self, register: &Register, which: Which) -> Planned {
        let mut plan = Plan::new(register, moment(), HashMap::<String, Removed>::new(), which);
        for seen in self.look(register).await {
            plan.take("gate", seen);
        }
        plan.end(&self.ways)
    }

    async fn carry(&self, jobs: Vec<Job>) -> BTreeMap<String, Ended> {
        self.run.carry(jobs, &self.ways).await.unwrap()
    }

    /// Whose keys are in the slots of an account.
    fn held(&self, account: &str) -> Vec<String> {
        let slots = self.slots.lock().unwrap();
        let mut names: Vec<String> = slots
            .get(account)
            .into_iter()
            .flatten()
            .map(|slot| String::from_utf8_lossy(&slot.entry).split(' ').next_back().unwrap().to_owned())
            .collect();
        names.sort();
        names
    }
}

fn now() -> i64 {
    TODAY.number() * 86_400
}

fn moment() -> Moment {
    Moment { time: now(), today: TODAY }
}

/// In one letter each: added, removed, unknown.
fn told(planned: &Planned) -> Vec<String> {
    let one = |account: &str, difference: &Difference| match difference {
        Difference::Add { who, .. } => format!("{account} + {who}"),
        Difference::Remove { who, place, .. } => {
            format!("{account} - {} {}", who.as_deref().unwrap_or("?"), place.slot().unwrap())
        }
        Difference::Unknown { comment, .. } => format!("{account} ? {comment}"),
        other => panic!("{other:?}"),
    };
    let accounts = planned.accounts.values().flatten();
    accounts.flat_map(|found| found.differences.iter().map(|difference| one(&found.account, difference))).collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn slots_are_surveyed_compared_and_brought_into_line() {
    let folder = tempfile::tempdir().unwrap();
    let slots: [(&str, &[(u8, &str)]); 2] = [("edda", &[(1, "edda"), (7, "stranger")]), ("admin", &[(1, "edda")])];
    let site = Site::new(folder.path(), &slots);
    let register = register("");
    let planned = site.plan(&register, Which::All).await;
    assert_eq!(told(&planned), ["admin + sten", "admin - edda 1", "edda + sten", "edda ? stranger"]);
    let ended = site.carry(planned.jobs).await;
    assert!(ended["gate"].accounts.iter().all(|(_, end)| end.is_done()), "{:?}", ended["gate"].accounts);
    assert_eq!((site.held("edda"), site.held("admin")), (own(&["edda", "stranger", "sten"]), own(&["sten"])));
    assert_eq!(told(&site.plan(&register, Which::All).await), ["edda ? stranger"]);

    // What is remembered says the same, and who may get in is not claimed to be certain.
    let store = site.run.store.lock().unwrap();
    let stored = Memory::of(&store).observations(&["gate"], now()).unwrap().remove(0).unwrap();
    let system = System::of(&stored);
    let ask = |seed: u8| judge(&Question::plain("admin", &key(seed), now()), &system).outcome;
    assert_eq!((ask(2), ask(1)), (Outcome::Undecided, Outcome::Refused));
    assert!(!stored.abilities.has(Ability::Modes));
    // No finding about settings and modes that the device does not have.
    let hosts: Vec<&Host> = register.all_hosts().collect();
    let report = audit(&register, &hosts, Some(&store), moment()).unwrap();
    let rules: Vec<&str> = report.findings.iter().map(|found| found.finding.fault.rule()).collect();
    assert_eq!((rules, report.not_checked.len(), report.entries.len()), (vec!["unknown-key"], 0, 4));
    assert_eq!(store.sightings_on("gate").unwrap().iter().filter(|seen| seen.gone.is_none()).count(), 4);
}

fn own(names: &[&str]) -> Vec<String> {
    let mut names: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
    names.sort();
    names
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_leavers_keys_go_and_the_change_is_taken_back_from_the_journal() {
    let folder = tempfile::tempdir().unwrap();
    let slots: [(&str, &[(u8, &str)]); 2] = [("edda", &[(2, "sten"), (1, "edda")]), ("admin", &[(2, "sten")])];
    let site = Site::new(folder.path(), &slots);
    let register = register("left = 2026-11-22\n");
    let leaver = Leaver::of(&register.people["edda"], Date { day: 22, ..TODAY });
    let planned = site.plan(&register, Which::Keys(leaver.prints.clone())).await;
    assert_eq!(told(&planned), ["edda - edda 2"]);
    let ended = site.carry(planned.jobs).await;
    assert_eq!(site.held("edda"), own(&["sten"]));
    let mut shown = NotShownByHost::default();
    for seen in site.look(&register).await {
        shown.take("gate", &seen, &leaver);
    }
    let rest = Rest { register: &register, leaver: &leaver, ended: &ended, unseen: &[], shown: &shown };
    let rows = rest.rows(&[]);
    assert_eq!(rows.iter().map(|row| row.state).collect::<Vec<_>>(), [KeyState::Removed], "{rows:?}");

    // The journal holds the whole change, and puts the key back where it was.
    let changes = journalled(&site);
    let seen = Arc::new(*site.look(&register).await.remove(0));
    let steps = restore("edda", &changes, &System::of(&seen)).unwrap();
    let task = Task { steps, seen: seen.clone(), around: Arc::new(Around { seen, granted: Vec::new() }) };
    let stop = site.ways.stop(&register.hosts["gate"]);
    let job = Job { stop, pairs: Vec::new(), tasks: vec![task], proof: Proof::of(Scope::Survey) };
    assert!(site.carry(vec![job]).await["gate"].worst().is_done());
    assert_eq!(site.held("edda"), own(&["edda", "sten"]));
}

fn journalled(site: &Site) -> Vec<Change> {
    use lavrin_store::Keeper as _;
    let store = site.run.store.lock().unwrap();
    let lines = Database::journal(&store).unwrap();
    let kept = lines.into_iter().find_map(|line| match line.event {
        Event::Intent { changes, .. } => Some(changes),
        Event::Outcome { .. } | Event::Kept { .. } => None,
    });
    let whole = kept.unwrap().into_iter().map(|change| change.whole(|name| store.kept(name).unwrap()));
    whole.collect::<Option<_>>().unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_device_without_room_says_so_and_is_as_it_was() {
    let folder = tempfile::tempdir().unwrap();
    let full: &[(u8, &str)] = &[(3, "a"), (4, "b"), (5, "c"), (6, "d")];
    let site = Site::new(folder.path(), &[("edda", full), ("admin", &[(2, "sten")])]);
    let ended = site.carry(site.plan(&register(""), Which::All).await.jobs).await;
    let trouble = ended["gate"].worst().trouble().unwrap().to_string();
    assert!(trouble.contains("edda slot: all slots are taken"), "{trouble}");
    assert_eq!(site.held("edda"), own(&["a", "b", "c", "d"]));
}

#[test]
fn slots_that_were_not_shown_are_told_and_nothing_is_done() {
    let mut seen =
        Observation { looked: true, abilities: Device(Slots::default()).abilities(), ..Observation::default() };
    seen.accounts = read_passwd(b"edda:x:1001:1001::/:/\n").into();
    seen.slots.insert("edda".to_owned(), Fact::Unseen(Why::NoAnswer));
    let register = register("");
    let mut plan = Plan::new(&register, moment(), HashMap::new(), Which::All);
    plan.take("gate", Box::new(seen));
    let planned = plan.end(&Ways::of(&register, Way::default(), None));
    assert!(planned.jobs.is_empty());
    assert_eq!(planned.accounts["gate"].iter().filter(|found| found.fault.is_some()).count(), 2);
}
