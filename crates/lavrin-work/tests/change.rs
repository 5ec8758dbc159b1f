//! The one conductor, against stand-ins and on a tree: every change is proven, taken back or told, and no intent stays open.

use lavrin_keys::hostkey::line_for;
use lavrin_keys::key::policy::Policy;
use lavrin_keys::key::{PrivateKey, PublicKey};
use lavrin_reach::ssh::{Credential, Target};
use lavrin_server::steps::{Around, NotCovered, install, remove};
use lavrin_server::survey::Observation;
use lavrin_server::system::System;
use lavrin_standin::{Behaviour, StandIn, TreeAccount};
use lavrin_store::{ChangeOutcome, Event, JournalEntry, Keeper, State, StoreFault};
use lavrin_work::change::{End, Ended, Job, Proof, Task, Terms, Trouble, one, run_all};
use lavrin_work::interrupt::Interrupt;
use lavrin_work::pool::Pace;
use lavrin_work::site::Site;
use lavrin_work::ways::{Rights, Stop, Way, Ways};
use lavrin_work::{Heard, Holder, Scope};
use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Duration;
use tokio::sync::mpsc;

fn key(seed: u8) -> PrivateKey {
    PrivateKey::ed25519(&[seed; 32]).unwrap()
}

fn line(seed: u8) -> String {
    key(seed).public().line("a key") + "\n"
}

fn pace(parallel: usize) -> Pace {
    Pace { parallel, limit: Duration::from_secs(30), interrupt: Interrupt::default() }
}

/// A host on which root has key 1, and two accounts with a file each.
async fn host(behaviour: Behaviour) -> StandIn {
    let root = line(1);
    let account = |name, keys| TreeAccount { name, shell: "/bin/sh", keys: Some(keys) };
    let accounts = [account("root", root.as_str()), account("edda", "# kept\n"), account("sten", "# kept\n")];
    StandIn::with("lantern", &accounts, behaviour).await.unwrap()
}

fn on(connections: std::ops::RangeInclusive<usize>, then: Behaviour) -> Behaviour {
    Behaviour { episodes: vec![(connections, then)], ..Behaviour::default() }
}

fn keys(host: &StandIn, account: &str) -> String {
    std::fs::read_to_string(host.file(&format!("/home/{account}/.ssh/authorized_keys"))).unwrap_or_default()
}

fn stop(name: &str, host: &StandIn) -> Stop {
    let port = host.address().port();
    let shown = host.host_key_line();
    let parsed = lavrin_keys::key::container::line::parse(shown.as_bytes()).unwrap().unwrap();
    let target = Target {
        through: None,
        host: "127.0.0.1".to_owned(),
        port,
        pinned_as: None,
        known_hosts: line_for("127.0.0.1", port, &parsed.key).into_bytes(),
        expected: None,
        required: None,
        revoked_in: std::sync::Arc::default(),
        old_algorithms: false,
    };
    Stop {
        host: name.to_owned(),
        target,
        login: "root".to_owned(),
        through: None,
        first: Vec::new(),
        root_by: None,
        reach: lavrin_fleet::register::ReachKind::Shell,
        places: lavrin_server::device::KeyPlaces::default(),
        managed: Vec::new(),
        profile: None,
        first_key_ends_passwords: false,
        after_change: Vec::new(),
    }
}

fn ways() -> Arc<Ways> {
    let credentials = vec![Credential::Key { key: Arc::new(key(1)), source: "office".to_owned() }];
    Arc::new(Ways::over_these([], Way { credentials, ..Way::default() }))
}

fn site(host: &StandIn) -> Site {
    Site::host(stop("lantern", host), ways(), Rights::Wanted, Duration::from_secs(30))
}

/// What is seen of a host, by a connection of its own.
async fn seen(host: &StandIn) -> Arc<Observation> {
    let mut seen = Observation::default();
    let mut site = site(host);
    site.look(&mut seen, &|seen| Scope::Survey.wants(seen)).await.unwrap();
    site.close().await;
    Arc::new(seen)
}

fn around(seen: &Arc<Observation>) -> Arc<Around> {
    Arc::new(Around { seen: seen.clone(), granted: Vec::new() })
}

fn adds(account: &str, key: &PublicKey, seen: &Arc<Observation>) -> Task {
    let steps = install(account, key, &key.line("a key"), &System::of(seen), &Policy::default()).unwrap().steps;
    Task { steps, seen: seen.clone(), around: around(seen) }
}

fn terms_kept_by(keeper: Arc<dyn Keeper + Send + Sync>) -> Terms {
    Terms {
        command: "install",
        run: Some("run".to_owned()),
        part: None,
        time: "2026-11-23T08:00:00Z".to_owned(),
        now: 1_795_420_800,
        reason: None,
        accept_lockout: false,
        keeper,
        interrupt: Interrupt::default(),
    }
}

struct Journal {
    folder: tempfile::TempDir,
}

impl Journal {
    fn new() -> Self {
        Self { folder: tempfile::tempdir().unwrap() }
    }

    fn state(&self) -> State {
        State::at(self.folder.path())
    }

    fn terms(&self) -> Terms {
        terms_kept_by(Arc::new(self.state()))
    }

    /// The outcome of each intent, in order; an intent without one, or with two, fails the test.
    fn outcomes(&self) -> Vec<ChangeOutcome> {
        let lines = self.state().journal().unwrap();
        let mut open: Vec<(String, Option<ChangeOutcome>)> = Vec::new();
        for JournalEntry { id, event, .. } in lines {
            match event {
                Event::Intent { .. } => open.push((id, None)),
                Event::Kept { .. } => panic!("no kept key is in this test"),
                Event::Outcome { outcome, .. } => {
                    let own = open.iter_mut().rev().find(|(own, _)| *own == id).expect("an intent comes first");
                    assert!(own.1.replace(outcome).is_none(), "{id} has two outcomes");
                }
            }
        }
        open.into_iter().map(|(id, outcome)| outcome.unwrap_or_else(|| panic!("{id} is open"))).collect()
    }
}

async fn carry(host: &StandIn, tasks: Vec<Task>, journal: &Journal) -> Ended {
    one(site(host), tasks, Proof::of(Scope::Survey), journal.terms(), &pace(1)).await.1
}

fn ends(ended: &Ended) -> Vec<(&str, &End)> {
    ended.accounts.iter().map(|(account, end)| (account.as_str(), end)).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_is_made_read_back_and_proven() {
    let (host, journal) = (host(Behaviour::default()).await, Journal::new());
    let seen = seen(&host).await;
    let tasks = vec![adds("edda", key(2).public(), &seen)];
    let holder = Some(Holder { key: Arc::new(key(2)), source: "two".to_owned() });
    let proof = Proof { holder, ..Proof::of(Scope::Account("edda".to_owned())) };
    let (site, ended) = one(site(&host), tasks.clone(), proof, journal.terms(), &pace(1)).await;
    assert!(ended.worst().is_done(), "{ended:?}");
    assert!(matches!(&ended.asked[..], [asked] if matches!(asked.heard, Heard::LoggedIn(_)) && asked.should_open));
    assert!(ended.after.as_ref().is_some_and(|after| after.account("edda").is_some()));
    assert_eq!(keys(&host, "edda"), format!("# kept\n{}", line(2)));
    assert_eq!(journal.outcomes(), [ChangeOutcome::Done]);
    // The same once more does not fit what is there now; nothing is changed.
    let (_, again) = one(site.unwrap(), tasks, Proof::of(Scope::Survey), journal.terms(), &pace(1)).await;
    assert!(matches!(again.of("edda"), Some(End::AsBefore(why)) if matches!(**why, Trouble::Carry(_))), "{again:?}");
    assert_eq!(keys(&host, "edda"), format!("# kept\n{}", line(2)));
    assert_eq!(journal.outcomes(), [ChangeOutcome::Done, ChangeOutcome::AsBefore]);
}

#[tokio::test(flavor = "multi_thread")]
async fn one_failing_account_costs_no_other() {
    let (host, journal) = (host(Behaviour::default()).await, Journal::new());
    let seen = seen(&host).await;
    let tasks = vec![adds("edda", key(2).public(), &seen), adds("sten", key(3).public(), &seen)];
    std::fs::write(host.file("/home/edda/.ssh/authorized_keys"), "# somebody else wrote this\n").unwrap();
    let ended = carry(&host, tasks, &journal).await;
    assert!(matches!(ends(&ended)[..], [("edda", End::AsBefore(_)), ("sten", End::Done)]), "{ended:?}");
    assert_eq!(keys(&host, "edda"), "# somebody else wrote this\n");
    assert_eq!(keys(&host, "sten"), format!("# kept\n{}", line(3)));
    assert_eq!(journal.outcomes(), [ChangeOutcome::AsBefore, ChangeOutcome::Done]);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_guard_looks_at_all_accounts_before_anything_is_changed() {
    let (host, journal) = (host(Behaviour::default()).await, Journal::new());
    let seen = seen(&host).await;
    let roots = remove("root", &key(1).public().fingerprint(), &System::of(&seen)).unwrap().steps;
    let tasks =
        vec![adds("edda", key(2).public(), &seen), Task { steps: roots, seen: seen.clone(), around: around(&seen) }];
    let ended = carry(&host, tasks, &journal).await;
    for (_, end) in ends(&ended) {
        assert!(matches!(end, End::NotBegun(why) if matches!(**why, Trouble::LockOut(_))), "{ended:?}");
    }
    assert_eq!(keys(&host, "edda"), "# kept\n");
    assert!(journal.outcomes().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn without_a_fresh_login_or_a_proof_of_the_key_all_is_taken_back() {
    // The first connection looks, the second changes, the third is the new login, the fourth asks.
    let other_key = Behaviour { other_host_key: true, ..Behaviour::default() };
    for (number, is_login) in [(3, true), (4, false)] {
        let (host, journal) = (host(on(number..=number, other_key.clone())).await, Journal::new());
        let seen = seen(&host).await;
        let ended = carry(&host, vec![adds("edda", key(2).public(), &seen)], &journal).await;
        let Some(End::AsBefore(why)) = ended.of("edda") else { panic!("{ended:?}") };
        assert_eq!(matches!(**why, Trouble::NoLogin(_)), is_login, "{why}");
        assert_eq!(matches!(**why, Trouble::NoProof { .. }), !is_login, "{why}");
        assert_eq!(keys(&host, "edda"), "# kept\n");
        assert_eq!(journal.outcomes(), [ChangeOutcome::AsBefore]);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_line_that_is_cut_anywhere_is_settled_over_a_new_one() {
    let mut counts: HashMap<&str, usize> = HashMap::new();
    for number in 0..24 {
        let cut = Behaviour { cut_after: Some(1_000 + number * 1_500), ..Behaviour::default() };
        let (host, journal) = (host(on(2..=2, cut)).await, Journal::new());
        let seen = seen(&host).await;
        let tasks = vec![adds("edda", key(2).public(), &seen), adds("sten", key(3).public(), &seen)];
        let ended = carry(&host, tasks, &journal).await;
        let outcomes = journal.outcomes();
        for (place, ((account, end), seed)) in ends(&ended).into_iter().zip([2, 3]).enumerate() {
            let now = keys(&host, account);
            let told = match end {
                End::Done => ("done", format!("# kept\n{}", line(seed)), ChangeOutcome::Done),
                End::AsBefore(_) => ("as-before", "# kept\n".to_owned(), ChangeOutcome::AsBefore),
                End::NotBegun(_) => ("not-begun", "# kept\n".to_owned(), ChangeOutcome::AsBefore),
                End::Unknown(why) => panic!("{number}: {account}: {why}"),
            };
            assert_eq!(now, told.1, "{number}: {account}");
            // Where nobody had signed in yet nothing went on record.
            assert!(outcomes.get(place).is_none_or(|outcome| *outcome == told.2), "{number}: {account}");
            *counts.entry(told.0).or_default() += 1;
        }
    }
    assert!(["done", "as-before", "not-begun"].iter().all(|told| counts.contains_key(told)), "{counts:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_line_that_never_comes_back_is_told_as_not_known() {
    let journal = Journal::new();
    // The look works; then the line breaks during the change, and nothing answers any more.
    let broken = |after| Behaviour { cut_after: Some(after), ..Behaviour::default() };
    let dead = Behaviour { silent: true, ..Behaviour::default() };
    let mut unknown = 0;
    for after in (14_000..30_000).step_by(4_000) {
        let behaviour =
            Behaviour { episodes: vec![(2..=2, broken(after)), (3..=99, dead.clone())], ..Behaviour::default() };
        let host = host(behaviour).await;
        let seen = seen(&host).await;
        let site = Site::host(stop("lantern", &host), ways(), Rights::Wanted, Duration::from_secs(2));
        let tasks = vec![adds("edda", key(2).public(), &seen)];
        let (_, ended) = one(site, tasks, Proof::of(Scope::Survey), journal.terms(), &pace(1)).await;
        match ended.of("edda").unwrap() {
            End::Unknown(_) => unknown += 1,
            End::NotBegun(_) | End::AsBefore(_) => assert_eq!(keys(&host, "edda"), "# kept\n"),
            End::Done => panic!("nothing was proven: {ended:?}"),
        }
        drop(journal.outcomes());
    }
    assert!(unknown > 0);
}

/// A keeper that fails, or makes the program crash, at the moment that is told.
struct Failing {
    state: State,
    calls: AtomicUsize,
    at: usize,
    crashes: bool,
    failed: AtomicBool,
}

impl Failing {
    fn call(&self) -> Result<(), StoreFault> {
        if self.calls.fetch_add(1, Ordering::SeqCst) != self.at {
            return Ok(());
        }
        self.failed.store(true, Ordering::SeqCst);
        assert!(!self.crashes, "told to crash");
        Err(StoreFault { path: "disk".into(), source: std::io::Error::other("full") })
    }
}

impl Keeper for Failing {
    fn back_up(&self, bytes: &[u8]) -> Result<String, StoreFault> {
        self.call()?;
        self.state.back_up(bytes)
    }

    fn write_down(&self, entry: &JournalEntry) -> Result<(), StoreFault> {
        self.call()?;
        self.state.write_down(entry)
    }

    fn kept(&self, name: &str) -> Result<Option<Vec<u8>>, StoreFault> {
        Keeper::kept(&self.state, name)
    }

    fn lines(&self) -> Result<Vec<JournalEntry>, StoreFault> {
        self.state.journal()
    }

    fn at_once(&self, work: &mut dyn FnMut(&dyn Keeper) -> Result<(), StoreFault>) -> Result<(), StoreFault> {
        work(self)
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_kept_first_is_not_changed_and_a_crash_is_told() {
    for crashes in [false, true] {
        // Two accounts: for each two contents and the intent; then the outcomes.
        for at in 0..7 {
            let (host, journal) = (host(Behaviour::default()).await, Journal::new());
            let seen = seen(&host).await;
            let tasks = vec![adds("edda", key(2).public(), &seen), adds("sten", key(3).public(), &seen)];
            let (calls, failed) = (AtomicUsize::new(0), AtomicBool::new(false));
            let keeper = Arc::new(Failing { state: journal.state(), calls, at, crashes, failed });
            let terms = terms_kept_by(keeper.clone());
            let (back, ended) = one(site(&host), tasks, Proof::of(Scope::Survey), terms, &pace(1)).await;
            assert!(keeper.failed.load(Ordering::SeqCst));
            assert_eq!(back.is_none(), crashes);
            assert_eq!(ended.accounts.len(), 2);
            let changed = keys(&host, "edda") != "# kept\n";
            assert_eq!(changed, at == 6, "{at}");
            for (_, end) in ends(&ended) {
                match end {
                    End::NotBegun(why) => assert!(!crashes && !changed && matches!(**why, Trouble::Store(_)), "{why}"),
                    End::Unknown(why) if crashes => {
                        assert!(matches!(&**why, Trouble::Crashed(said) if said == "told to crash"), "{why}");
                    }
                    End::Unknown(why) => assert!(changed && matches!(**why, Trouble::Store(_)), "{why}"),
                    other => panic!("{at}: {other:?}"),
                }
            }
            // Whatever was written down has an outcome.
            assert!(journal.outcomes().iter().all(|outcome| *outcome != ChangeOutcome::Done));
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn hosts_of_a_run_have_one_end_each_and_failures_stop_the_rest() {
    let journal = Journal::new();
    let (mut hosts, mut jobs) = (Vec::new(), Vec::new());
    for number in 0..6 {
        let menu = on(2..=99, Behaviour { menu: true, ..Behaviour::default() });
        let host = host(if number == 1 { menu } else { Behaviour::default() }).await;
        let seen = seen(&host).await;
        let pairs = if number < 3 { vec!["pair-north".to_owned()] } else { Vec::new() };
        let (stop, tasks) = (stop(&format!("h{number}"), &host), vec![adds("edda", key(2).public(), &seen)]);
        jobs.push(Job { stop, pairs, tasks, proof: Proof::of(Scope::Survey) });
        hosts.push(host);
    }
    let (done, mut ended) = mpsc::channel(8);
    let terms = journal.terms();
    let run = tokio::spawn(async move { run_all(jobs, ways(), pace(1), terms, Some(2), done).await });
    let mut all: HashMap<String, Ended> = HashMap::new();
    while let Some((host, ended)) = ended.recv().await {
        assert!(all.insert(host, ended).is_none());
    }
    run.await.unwrap();
    let why = |host: &str| all[host].worst().trouble().map(ToString::to_string).unwrap_or_default();
    assert_eq!(all.len(), 6);
    assert!(all["h0"].worst().is_done() && !all["h1"].worst().is_done());
    assert_eq!(why("h2"), "left alone, because another host with the tag pair-north failed");
    for (number, host) in hosts.iter().enumerate().skip(3) {
        assert_eq!(keys(host, "edda"), format!("# kept\n{}", line(2)), "h{number}: {}", why(&format!("h{number}")));
    }
    assert_eq!(journal.outcomes().len(), 5);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_tree_is_changed_by_the_same_order_and_asks_no_server() {
    let (host, journal) = (host(Behaviour::default()).await, Journal::new());
    let mut tree = Site::tree(host.tree(), "tree".to_owned(), "tree".to_owned()).unwrap();
    let mut found = Observation::default();
    tree.look(&mut found, &|seen| Scope::Accounts.wants(seen)).await.unwrap();
    let found = Arc::new(found);
    let task = adds("edda", key(2).public(), &found);
    assert!(!task.steps.not_covered.iter().any(|what| matches!(what, NotCovered::SettingsUnseen(_))));
    let (_, ended) = one(tree, vec![task], Proof::of(Scope::Accounts), journal.terms(), &pace(1)).await;
    assert!(ended.worst().is_done() && ended.asked.is_empty(), "{ended:?}");
    assert_eq!(keys(&host, "edda"), format!("# kept\n{}", line(2)));
    assert_eq!(journal.outcomes(), [ChangeOutcome::Done]);
    let changes =
        remove("edda", &key(2).public().fingerprint(), &System::of(&ended.after.unwrap())).unwrap().steps.changes;
    assert_eq!(changes.len(), 1);
}
