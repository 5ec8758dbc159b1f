//! What `install` and `remove` have in common: show the steps, ask, carry out, and say how it ended.

use super::place::Work;
use crate::clock;
use crate::command::register::RegisterArgs;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::json::{LimitsOut, PlaceOut};
use crate::paths;
use crate::ui::{Format, Label, Ui};
use crate::wording;
use clap::Args;
use lavrin_core::key::generate::{Randomness as _, SystemSource};
use lavrin_core::key::{PrivateKey, PublicKey};
use lavrin_core::steps::{Guarded, Steps};
use lavrin_store::database::Database;
use lavrin_store::{Keeper, Outcome, State};
use lavrin_work::{Carried, Proof, Record, Settled, carry_out, prove};
use schemars::JsonSchema;
use serde::Serialize;

/// Options of commands that change something.
#[derive(Debug, Args, Clone)]
#[command(next_help_heading = "Changing something")]
pub struct ChangeArgs {
    /// Show the steps and stop
    #[arg(long)]
    pub preview: bool,
    /// Do not ask before the steps are carried out
    #[arg(long)]
    pub yes: bool,
    /// Why, for the journal
    #[arg(long, value_name = "TEXT")]
    pub reason: Option<String>,
}

/// What `--format json` prints for a change.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ChangeOut {
    /// `lavrin/install/1` or `lavrin/remove/1`.
    pub schema: &'static str,
    /// The account.
    pub account: String,
    /// The host or tree.
    pub place: String,
    /// The key.
    pub fingerprint: String,
    /// The steps in words.
    pub steps: Vec<String>,
    /// `preview`, `nothing-to-do`, `done`, `as-before` or `unknown`.
    pub state: &'static str,
    /// Where the key stands now.
    pub entry: Option<PlaceOut>,
    /// What limits it there.
    pub limits: Option<LimitsOut>,
    /// What was proven from outside.
    pub proof: Option<ProofOut>,
    /// How the login was opened that was used.
    pub login: Option<String>,
    /// Sessions of the account that are still open; `null` where they could not be counted.
    pub open_sessions: Option<usize>,
    /// What is worth knowing beside.
    pub notes: Vec<String>,
}

/// What a fresh connection showed.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct ProofOut {
    /// `logged-in`, `would-accept`, `refused`, `login-refused`, `nothing` or `read-back`.
    pub kind: &'static str,
    /// In words.
    pub detail: String,
}

impl ProofOut {
    /// A proof in words.
    pub fn of(proof: &Proof) -> Self {
        let (kind, detail) = match proof {
            Proof::LoggedIn(signed) => (
                "logged-in",
                format!(
                    "a fresh login as {} with publickey: {} {}",
                    signed.account,
                    signed.source,
                    signed.key.map(|key| key.to_string()).unwrap_or_default()
                ),
            ),
            Proof::WouldAccept => {
                ("would-accept", "asked from outside, the server would accept the key (no login was made)".to_owned())
            }
            Proof::Refused => ("refused", "asked from outside, the server refuses the key".to_owned()),
            Proof::LoginRefused(rejected) => (
                "login-refused",
                format!(
                    "the server takes the key and refuses the login: {}",
                    rejected.tried.last().map(|tried| tried.detail.clone()).unwrap_or_default()
                ),
            ),
            Proof::Nothing(why) => ("nothing", wording::no_proof(why)),
        };
        Self { kind, detail }
    }
}

/// Where backups and the journal are kept: in the register that one stands in, else in the state folder.
pub fn keeper() -> Result<Box<dyn Keeper>, CommandError> {
    if let Some(register) = RegisterArgs::default().folder() {
        return Ok(Box::new(Database::open(register.path())?));
    }
    let folder = paths::state()
        .ok_or_else(|| CommandError::usage("neither HOME nor XDG_STATE_HOME says where backups can be kept"))?;
    Ok(Box::new(State::at(&folder)))
}

/// Prints the steps, on stderr, so that a question can follow.
pub fn show(ui: &Ui, steps: &Steps, work: &Work) {
    ui.status(&format!("Steps for {} on {}:", steps.account.name, work.name));
    for (number, line) in wording::steps::changes(steps).iter().enumerate() {
        ui.status(&format!("  {}. {line}", number + 1));
    }
    for entry in &steps.revived {
        ui.warn(&wording::steps::revived(entry));
    }
    for what in &steps.not_covered {
        ui.warn(&wording::steps::not_covered(what));
    }
}

/// Asks unless told not to.
pub fn confirm(ui: &Ui, args: &ChangeArgs) -> Result<(), CommandError> {
    if args.yes
        || ui.confirm("Carry these steps out?", "--yes carries them out without asking, --preview only shows them")?
    {
        return Ok(());
    }
    Err(CommandError::with(Exit::Stopped, "nothing was changed"))
}

/// A change under way: the guarded steps and what the journal knows of them.
pub struct UnderWay {
    /// The steps.
    pub changes: Vec<Guarded>,
    /// The journal's record.
    pub record: Record,
    /// Where it is kept.
    pub keeper: Box<dyn Keeper>,
}

impl UnderWay {
    /// Begins a record.
    pub fn new(
        command: &'static str,
        work: &Work,
        steps: &Steps,
        changes: Vec<Guarded>,
        reason: Option<String>,
    ) -> Result<Self, CommandError> {
        let mut id = [0u8; 8];
        SystemSource.fill(&mut id);
        let record = Record {
            id: id.iter().fold(String::new(), |text, byte| text + &format!("{byte:02x}")),
            time: clock::timestamp(),
            command,
            place: work.name.clone(),
            login: work.remote.as_ref().map(|remote| remote.signed.account.clone()),
            key: steps.fingerprint.map(|key| key.to_string()),
            reason,
            run: None,
            effect: steps.effect(),
        };
        Ok(Self { changes, record, keeper: keeper()? })
    }

    /// Backup, intent, changes. A failure is an error with the exit code that fits the state things are in.
    pub async fn carry(&self, work: &Work, steps: &Steps) -> Result<(), CommandError> {
        let carried =
            carry_out(&work.place, &self.changes, &steps.account, &work.seen, &self.record, self.keeper.as_ref())
                .await?;
        let Carried::Failed { fault, settled } = carried else { return Ok(()) };
        let error = CommandError::with(Exit::Stopped, format!("the change could not be made: {fault}"));
        match settled {
            Settled::AsBefore => {
                self.close(Outcome::AsBefore, &fault.to_string())?;
                Err(error.because("everything is as it was").hint("run the command again: it looks anew"))
            }
            Settled::Unknown => {
                self.close(Outcome::Unknown, &fault.to_string())?;
                let error = CommandError { exit: Exit::Midway, ..error };
                Err(error
                    .because(format!("what state {} is in is not known", fault_path(steps)))
                    .hint(format!("lavrin why {} --key KEY.pub", steps.account.name)))
            }
        }
    }

    /// Writes the outcome down.
    pub fn close(&self, outcome: Outcome, detail: &str) -> Result<(), CommandError> {
        self.record.close(self.keeper.as_ref(), outcome, detail).map_err(CommandError::from)
    }
}

fn fault_path(steps: &Steps) -> String {
    steps.changes.last().map(|change| change.path().to_string()).unwrap_or_default()
}

/// Asks the host from outside. `None` for a local tree: no server is asked there.
pub async fn proof(
    work: &Work,
    account: &str,
    key: &PublicKey,
    private: Option<(Box<PrivateKey>, String)>,
) -> Option<(Proof, Option<lavrin_reach::ssh::Connection>)> {
    let remote = work.remote.as_ref()?;
    Some(prove(&remote.target, account, key, private, &SystemSource).await)
}

/// Prints how it ended.
pub fn finish(ui: &Ui, out: &ChangeOut, headline: (Label, String)) {
    if ui.format == Format::Json {
        ui.result(&crate::json::print(out));
        return;
    }
    let mut text = format!("{}\n", ui.paint(headline.0, &headline.1));
    if out.state == "preview" {
        for (number, step) in out.steps.iter().enumerate() {
            text += &format!(
                "  {}. {step}
",
                number + 1
            );
        }
    }
    if let Some(entry) = &out.entry {
        text += &format!("  entry   {} line {}\n", entry.path, entry.line);
    }
    text += &format!("  key     {}\n", out.fingerprint);
    if let Some(proof) = &out.proof {
        let label = if matches!(proof.kind, "nothing" | "login-refused") { Label::Warn } else { Label::Good };
        text += &format!("  proof   {}\n", ui.paint(label, &proof.detail));
    }
    for note in &out.notes {
        text += &format!("  note    {note}\n");
    }
    ui.result(&text);
}
