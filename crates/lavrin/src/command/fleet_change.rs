//! What `enforce`, `offboard` and `restore` have in common: carry steps out on many hosts, remember what came of it, and
//! say so.

use super::compare::moment;
use super::compare::out::{AccountOut, account_text};
use super::register::Opened;
use super::survey::{Ways, remember};
use crate::clock;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::table::columns;
use crate::ui::{Label, Ui};
use crate::wording;
use clap::Args;
use lavrin_core::audit::Auditor;
use lavrin_core::key::generate::{Randomness as _, SystemSource};
use lavrin_core::register::Host;
use lavrin_core::text::{count, printable};
use lavrin_reach::ssh::ConnectFault;
use lavrin_store::Keeper;
use lavrin_store::database::Database;
use lavrin_work::Heard;
use lavrin_work::enforce::{Asked, Ended, Job, Terms, Trouble, enforce};
use lavrin_work::survey::{Pace, SurveyFault};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::sync::mpsc;

/// Results that wait to be written down.
const WAITING: usize = 64;

/// Hosts whose tag begins so belong together, as two routers of a pair do, and are never changed at the same time.
pub const PAIR: &str = "pair-";

/// How many hosts at once, and when to stop.
#[derive(Debug, Args, Clone)]
#[command(next_help_heading = "Many hosts")]
pub struct ManyArgs {
    /// Hosts that are worked on at once
    #[arg(long, value_name = "N", default_value_t = 32, value_parser = clap::value_parser!(u16).range(1..=1024))]
    pub parallel: u16,
    /// Seconds that one look at one host may take
    #[arg(long, value_name = "SECONDS", default_value_t = 60, value_parser = clap::value_parser!(u64).range(1..=3600))]
    pub time: u64,
    /// Begin no further host once it failed on so many
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    pub stop_after_failures: Option<u32>,
    /// Take away even the key that this login itself uses; you may be locked out
    #[arg(long)]
    pub accept_lockout: bool,
}

impl ManyArgs {
    /// How much at once, and for how long.
    pub fn pace(&self) -> Pace {
        Pace { parallel: self.parallel.into(), time: Duration::from_secs(self.time) }
    }
}

/// A run over many hosts.
pub struct FleetRun {
    /// What ties its changes together.
    pub id: String,
    store: Arc<Mutex<Database>>,
    terms: Arc<Terms>,
    pace: Pace,
    auditor: Auditor,
}

/// What came of one host.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ResultOut {
    /// The host.
    pub host: String,
    /// `done`, `as-before`, `unknown`, `not-begun`, `not-seen`, `nothing-to-do`, `preview` or `left`.
    pub state: &'static str,
    /// Why it is not done.
    pub why: Option<String>,
    /// What differed when it was looked at.
    pub accounts: Vec<AccountOut>,
    /// What it says from outside about each key.
    pub proofs: Vec<ProofOut>,
    /// What differs now, where somebody changed it meanwhile.
    pub now: Vec<AccountOut>,
    #[serde(skip)]
    pub exit: Exit,
}

/// What a host says from outside about a key.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct ProofOut {
    pub account: String,
    pub key: String,
    /// `accepted`, `refused`, `no-answer` or `not-asked`.
    pub answer: &'static str,
    /// Whether it should open the account.
    pub should_open: bool,
    /// What is worth knowing about the answer.
    pub note: Option<String>,
}

impl ProofOut {
    fn of(asked: &Asked) -> Self {
        let (answer, why) = heard(&asked.heard);
        let explained = "the entry or the settings say why it is refused from here";
        let still = "another source than the account's files gives this key";
        let note = if asked.explained && answer == "refused" {
            Some(explained.to_owned())
        } else if asked.still_open() {
            Some(still.to_owned())
        } else {
            why
        };
        let (account, key) = (asked.account.clone(), asked.fingerprint.to_string());
        Self { account, key, answer, should_open: asked.should_open, note }
    }
}

/// An answer in one word, and why there is none.
pub fn heard(heard: &Heard) -> (&'static str, Option<String>) {
    match heard {
        Heard::Accepts => ("accepted", None),
        Heard::Refuses => ("refused", None),
        Heard::Nothing(why) => ("no-answer", Some(wording::no_proof(why))),
        Heard::LeftOut => ("not-asked", Some("so many questions at once could be taken for an attack".to_owned())),
    }
}

impl FleetRun {
    /// Begins a run.
    pub fn begin(
        command: &'static str,
        opened: &Opened,
        many: &ManyArgs,
        reason: Option<String>,
    ) -> Result<Self, CommandError> {
        let mut random = [0u8; 3];
        SystemSource.fill(&mut random);
        let tail = random.iter().fold(String::new(), |text, byte| text + &format!("{byte:02x}"));
        let id = format!("{}-{tail}", clock::for_file_name());
        let store = Arc::new(Mutex::new(Database::open(opened.folder.path())?));
        let terms = Terms {
            command,
            run: id.clone(),
            time: clock::timestamp(),
            now: clock::now().unix_timestamp(),
            reason,
            accept_lockout: many.accept_lockout,
            stop_after: many.stop_after_failures.map(|limit| limit as usize),
            keeper: store.clone() as Arc<dyn Keeper + Send + Sync>,
        };
        Ok(Self { id, store, terms: Arc::new(terms), pace: many.pace(), auditor: Auditor::default() })
    }

    /// Carries the jobs out; what the hosts are like afterwards is remembered as a survey would.
    pub async fn carry(&self, jobs: Vec<Job>, ways: &Ways) -> Result<HashMap<String, Ended>, CommandError> {
        let (done, mut ended) = mpsc::channel(WAITING);
        let work = enforce(jobs, ways.jumps.clone(), ways.way.clone(), self.pace, self.terms.clone(), done);
        let work = tokio::spawn(work);
        let mut all = HashMap::new();
        let mut waiting = Vec::with_capacity(WAITING);
        while ended.recv_many(&mut waiting, WAITING).await > 0 {
            let store = self.store.lock().expect("nobody panics holding this");
            store.together(|store| {
                for (host, ended) in &waiting {
                    if let Ended::Done { after, .. } | Ended::AsBefore { after: Some(after), .. } = ended {
                        remember(store, &self.auditor, host, after)?;
                    }
                }
                Ok(())
            })?;
            drop(store);
            all.extend(waiting.drain(..));
        }
        let _ = work.await;
        Ok(all)
    }
}

/// The tags of a host that keep it apart from others.
pub fn pairs(host: &Host) -> Vec<String> {
    host.tags.iter().filter(|tag| tag.starts_with(PAIR)).cloned().collect()
}

impl ResultOut {
    /// A host on which nothing was tried.
    pub fn still(host: &str, state: &'static str, why: Option<String>, exit: Exit) -> Self {
        let host = host.to_owned();
        Self { host, state, why, accounts: Vec::new(), proofs: Vec::new(), now: Vec::new(), exit }
    }

    /// How it ended on a host. `now` tells what differs there at present.
    pub fn of(host: &str, ended: &Ended, now: impl FnOnce(&Ended) -> Vec<AccountOut>) -> Self {
        match ended {
            Ended::Done { asked, .. } => {
                let exit = if asked.iter().any(Asked::still_open) { Exit::Findings } else { Exit::Done };
                let proofs = asked.iter().map(ProofOut::of).collect();
                Self { proofs, ..Self::still(host, "done", None, exit) }
            }
            Ended::AsBefore { why, .. } => {
                Self { now: now(ended), ..Self::still(host, "as-before", Some(trouble(why)), Exit::Stopped) }
            }
            Ended::Unknown { why } => Self::still(host, "unknown", Some(trouble(why)), Exit::Midway),
            Ended::NotBegun { why: why @ Trouble::Survey(fault) } if !is_changed_key(fault) => {
                Self::still(host, "not-begun", Some(trouble(why)), Exit::NotChecked)
            }
            Ended::NotBegun { why } => Self::still(host, "not-begun", Some(trouble(why)), Exit::Stopped),
        }
    }

    fn row(&self, ui: &Ui) -> Vec<String> {
        let (word, label) = match self.state {
            "done" if self.exit == Exit::Findings => ("done", Label::Bad),
            "done" => ("done", Label::Good),
            "nothing-to-do" => ("nothing to do", Label::Good),
            "as-before" => ("as it was", Label::Warn),
            "unknown" => ("NOT KNOWN", Label::Bad),
            "not-begun" => ("not begun", Label::Warn),
            "not-seen" => ("not seen", Label::Warn),
            "left" => ("left", Label::Warn),
            other => (other, Label::Strong),
        };
        vec![
            ui.paint(Label::Strong, &self.host),
            ui.paint(label, word),
            self.why.clone().unwrap_or_else(|| self.proven()),
        ]
    }

    /// What was proven, in a few words.
    fn proven(&self) -> String {
        let number = |answer: &str| self.proofs.iter().filter(|proof| proof.answer == answer).count();
        let mut parts = Vec::new();
        if self.state == "done" {
            parts.push("read back, a fresh login works".to_owned());
        }
        let told = [("accepted", "accepted"), ("refused", "refused"), ("no-answer", "without an answer")];
        let told = told.into_iter().map(|(answer, words)| (number(answer), words)).filter(|(number, _)| *number > 0);
        let told: Vec<String> =
            told.map(|(number, words)| format!("{} {words}", count(number, "key", "keys"))).collect();
        if !told.is_empty() {
            parts.push(format!("asked from outside: {}", told.join(", ")));
        }
        parts.join("; ")
    }
}

/// Whether a host shows another key than the pinned one, which always stops.
fn is_changed_key(fault: &SurveyFault) -> bool {
    matches!(fault, SurveyFault::Connect(ConnectFault::HostKeyChanged { .. } | ConnectFault::HostKeyRevoked { .. }))
}

fn trouble(why: &Trouble) -> String {
    match why {
        Trouble::NoProof { account, fingerprint, heard: said } => {
            let (answer, why) = heard(said);
            let why = why.map(|why| format!(" ({why})")).unwrap_or_default();
            format!("{fingerprint} was added to {account} and is {answer} from outside{why}; taken back")
        }
        Trouble::Stopped(failed) => {
            format!("not begun, since {} before it", count(*failed, "host failed", "hosts failed"))
        }
        Trouble::LockOut(_) => format!("{why}; --accept-lockout does it all the same"),
        Trouble::NoLogin(_) => format!("{why}; taken back over the session that was still open"),
        other => printable(other.to_string().as_bytes()),
    }
}

/// The results as text: each host, what differs now where that is news, and how many ended how.
pub fn text(results: &[ResultOut], ui: &Ui) -> String {
    let rows: Vec<Vec<String>> = results.iter().map(|result| result.row(ui)).collect();
    let mut text = String::new();
    for (line, result) in columns(&rows, 0).into_iter().zip(results) {
        text += &format!("{line}\n");
        for proof in result.proofs.iter().filter(|proof| is_news(proof)) {
            let label = if proof.answer == "accepted" { Label::Bad } else { Label::Warn };
            let note = proof.note.as_ref().map(|note| format!(" ({note})")).unwrap_or_default();
            let what = if proof.answer == "accepted" { "STILL ACCEPTED" } else { proof.answer };
            text += &format!("    {} {} {}{note}\n", proof.account, proof.key, ui.paint(label, what));
        }
        if !result.now.is_empty() {
            text += "    differs now:\n";
            text += &result.now.iter().map(|account| account_text(account, ui)).collect::<String>();
        }
    }
    text + &summary(results, ui)
}

/// Whether an answer is not the one that was wanted.
fn is_news(proof: &ProofOut) -> bool {
    proof.answer == "no-answer" || (proof.answer == "accepted") != proof.should_open && proof.answer != "not-asked"
}

fn summary(results: &[ResultOut], ui: &Ui) -> String {
    let all = [
        ("done", "done", Label::Good),
        ("nothing-to-do", "with nothing to do", Label::Good),
        ("preview", "to be changed", Label::Strong),
        ("left", "left for the next run", Label::Warn),
        ("as-before", "as it was", Label::Warn),
        ("not-begun", "not begun", Label::Warn),
        ("not-seen", "not seen", Label::Warn),
        ("unknown", "in a state that is not known", Label::Bad),
    ];
    let told = all.into_iter().filter_map(|(state, words, label)| {
        let number = results.iter().filter(|result| result.state == state).count();
        (number > 0).then(|| ui.paint(label, &format!("{number} {words}")))
    });
    format!("{}: {}", count(results.len(), "host", "hosts"), told.collect::<Vec<_>>().join(", "))
}

/// Refuses to change hosts by a register that does not read whole: what a faulty file says is not known.
pub fn check_reads(opened: &Opened) -> Result<(), CommandError> {
    if opened.reading.findings.is_empty() {
        return Ok(());
    }
    Err(CommandError::usage("the register does not read whole, so no host is changed by it").hint("lavrin check"))
}

/// What differs on a host now, where somebody changed it while it was worked on.
pub fn differs_now(opened: &Opened, host: &str, ended: &Ended) -> Vec<AccountOut> {
    let register = &opened.reading.register;
    let (Ended::AsBefore { why: Trouble::Carry(_), after: Some(after) }, Some(known)) =
        (ended, register.hosts.get(host))
    else {
        return Vec::new();
    };
    let comparer = lavrin_core::fleet::compare::Comparer::new(register, moment());
    let found = comparer.host(known, after, &HashMap::new());
    found.iter().map(|account| AccountOut::of(account, host)).collect()
}
