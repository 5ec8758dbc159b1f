//! Changes, in one order for all commands: what was looked at is guarded, backed up and put on record; changed; read back;
//! proven by a new login and by questions from outside; taken back where that fails; and the outcome is put on record.

mod first_key;
mod held;
mod journal;
mod left_open;
mod many;
mod prove;
mod put_back;
mod run;
mod running;
mod settle;
mod state;

pub use journal::{Intent, Open, Record};
pub use left_open::{BY_HAND, LeftOpen};
pub use many::{Job, one, run_all};
pub use prove::Asked;
pub use running::Proof;

use crate::heard::Heard;
use crate::interrupt::{Interrupt, Stage};
use crate::ways::WayFault;
use lavrin_keys::key::Fingerprint;
use lavrin_keys::key::generate::{Randomness as _, SystemSource};
use lavrin_reach::{Armed, CarryFault};
use lavrin_server::login::{NotGone, Reason};
use lavrin_server::steps::{Around, ChangeSubject, LockOut, Steps, Whose};
use lavrin_server::survey::Observation;
use lavrin_store::{Keeper, StoreFault};
use std::sync::Arc;
use thiserror::Error;

/// The steps of one account, and what they were made from.
#[derive(Debug, Clone)]
pub struct Task {
    /// The steps.
    pub steps: Steps,
    /// What was seen when they were made.
    pub seen: Arc<Observation>,
    /// What lies around the account.
    pub around: Arc<Around>,
}

/// What all changes of a command have in common.
#[derive(Clone)]
pub struct Terms {
    /// The command.
    pub command: &'static str,
    /// What ties all changes of this run together.
    pub run: Option<String>,
    /// Which part of the run this is, where it changes an account more than once.
    pub part: Option<&'static str>,
    /// Now, in UTC (RFC 3339).
    pub time: String,
    /// Now, in seconds since 1970.
    pub now: i64,
    /// Why, in the user's words.
    pub reason: Option<String>,
    /// Whether the key of the login itself may be taken away.
    pub accept_lockout: bool,
    /// Where backups and journal are kept.
    pub keeper: Arc<dyn Keeper + Send + Sync>,
    /// Told what is going on.
    pub interrupt: Interrupt,
}

fn whose(of: Whose) -> &'static str {
    match of {
        Whose::Login => "is the key of this login",
        Whose::Granted => "has a grant, and would not open its account any more",
    }
}

impl Terms {
    /// The name of one account's change in the journal.
    fn id(&self, place: &str, account: &str) -> String {
        match (&self.run, self.part) {
            (Some(run), None) => format!("{run}-{place}-{account}"),
            (Some(run), Some(part)) => format!("{run}-{place}-{account}-{part}"),
            (None, _) => hex_of_random::<8>(),
        }
    }

    fn stage(&self, host: &str, stage: Stage) {
        self.interrupt.stage(host, stage);
    }
}

/// A name for a run that nobody else has: the moment, and some random digits.
#[must_use]
pub fn run_name(moment: &str) -> String {
    format!("{moment}-{}", hex_of_random::<3>())
}

fn hex_of_random<const BYTES: usize>() -> String {
    use std::fmt::Write as _;
    let mut random = [0u8; BYTES];
    SystemSource.fill(&mut random);
    random.iter().fold(String::new(), |mut text, byte| {
        let _ = write!(text, "{byte:02x}");
        text
    })
}

/// Why a change was not made, was taken back, or is not certain.
#[derive(Debug, Error)]
pub enum Trouble {
    /// The host was not reached, let nobody in, or gave no answer.
    #[error(transparent)]
    Host(#[from] WayFault),
    /// The last proven way in would go, or one that the register grants.
    #[error("{} {}; without it {} may be locked out", .0.fingerprint, whose(.0.of), .0.account)]
    LockOut(LockOut),
    /// A change was not made.
    #[error(transparent)]
    Carry(#[from] CarryFault),
    /// Backup or journal could not be written.
    #[error(transparent)]
    Store(#[from] StoreFault),
    /// Somebody else changes the same place.
    #[error("{who}; nothing was begun here")]
    AtWork {
        /// Who, since when.
        who: String,
    },
    /// Read back, something is not as it was written.
    #[error("read back, {subject} is not as it was written: something else writes it")]
    NotHeld {
        /// Which file or slot.
        subject: ChangeSubject,
    },
    /// A key that was taken out stands there again.
    #[error("{0} was removed, but it is there again: something else writes these files")]
    StandsAgain(Fingerprint),
    /// Nobody could sign in any more.
    #[error("a new login failed while the old session was open: {0}")]
    NoLogin(WayFault),
    /// A new login was not opened by a key.
    #[error("a new login was opened by {0} and not by a key")]
    NotByKey(&'static str),
    /// A new login does not become root any more.
    #[error("a new login does not become root: {0}")]
    NoRights(String),
    /// The server still lets accounts in by a password.
    #[error("for {account} the server still offers {}", .methods.join(", "))]
    StillOffered {
        /// The account.
        account: String,
        /// All methods that it offers.
        methods: Vec<String>,
    },
    /// The server does not say by which methods it lets accounts in.
    #[error("the server does not say by which methods it lets accounts in")]
    NothingOffered,
    /// The changes are not proven, and the host puts everything back by itself.
    #[error("{why}; the host puts everything back by itself within {seconds} s")]
    LeftToHost {
        /// After how many seconds, counted from the beginning.
        seconds: u64,
        /// Why they are not proven.
        why: Arc<Trouble>,
    },
    /// It is done and proven, and gone after a restart.
    #[error("it is done and proven, but the device may not keep it over a restart: {0}")]
    NotKept(String),
    /// The first key ends the password of the login, and nobody here has its private half.
    #[error(
        "the first key ends the logins of {account} by password there, and no private half of a key that comes is at hand"
    )]
    NoPrivateHalf {
        /// The account.
        account: String,
    },
    /// A key that was added did not prove itself.
    #[error("{fingerprint} was added to {account} and did not prove itself: {heard}")]
    NoProof {
        /// The account.
        account: String,
        /// The key.
        fingerprint: Fingerprint,
        /// What the server says.
        heard: Heard,
        /// Why, by what the files say.
        by_files: Option<Box<Reason>>,
    },
    /// A host that belongs together with this one failed.
    #[error("left alone, because another host with the tag {0} failed")]
    PairFailed(String),
    /// Too many hosts failed.
    #[error("not started, because {0} hosts failed")]
    Stopped(usize),
    /// The program itself failed.
    #[error("the program failed while it was at work there, which is a fault of its own: {0}")]
    Crashed(String),
    /// Somebody did not wait for the end.
    #[error("ended by the user")]
    CutOff(Option<Stage>),
    /// The line to the host was lost before it came to this.
    #[error("not started, because the connection to the host was lost")]
    Lost,
    /// Somebody ended the run before it came to this.
    #[error("not started, because the run was ended")]
    NotBegun,
}

/// How it ended for one account.
#[derive(Debug, Clone)]
pub enum End {
    /// Done, read back and proven.
    Done,
    /// Nothing was tried.
    NotBegun(Arc<Trouble>),
    /// Everything is as it was.
    AsBefore(Arc<Trouble>),
    /// Something is neither as it was nor as asked, or nobody knows.
    Unknown(Arc<Trouble>),
}

impl End {
    /// Whether all is done.
    #[must_use]
    pub fn is_done(&self) -> bool {
        matches!(self, Self::Done)
    }

    /// Why it is not done.
    #[must_use]
    pub fn trouble(&self) -> Option<&Trouble> {
        match self {
            Self::Done => None,
            Self::NotBegun(why) | Self::AsBefore(why) | Self::Unknown(why) => Some(&**why),
        }
    }

    /// The same, to be kept.
    #[must_use]
    pub fn why(&self) -> Option<Arc<Trouble>> {
        match self {
            Self::Done => None,
            Self::NotBegun(why) | Self::AsBefore(why) | Self::Unknown(why) => Some(why.clone()),
        }
    }

    fn gravity(&self) -> u8 {
        match self {
            Self::Done => 0,
            Self::NotBegun(_) => 1,
            Self::AsBefore(_) => 2,
            Self::Unknown(_) => 3,
        }
    }
}

/// How it ended at one place. Each account that something was to be done for has exactly one end.
#[derive(Debug)]
pub struct Ended {
    /// By account.
    pub accounts: Vec<(String, End)>,
    /// What the host says about the keys.
    pub asked: Vec<Asked>,
    /// Keys that went and are not shown to be gone, although all that was to be done is done.
    pub not_shown: Vec<NotShown>,
    /// How the host would have put the changes back by itself.
    pub armed: Option<Armed>,
    /// What it is like now, where it was looked at again.
    pub after: Option<Box<Observation>>,
}

/// A key that was taken out of an account and may stand there still.
#[derive(Debug, Clone)]
pub struct NotShown {
    /// The account.
    pub account: String,
    /// The key.
    pub key: Fingerprint,
    /// Why.
    pub why: NotGone,
}

impl Ended {
    /// The same end for all of them.
    pub(crate) fn all(accounts: impl IntoIterator<Item = String>, end: &End) -> Self {
        let accounts = accounts.into_iter().map(|account| (account, end.clone())).collect();
        Self { accounts, asked: Vec::new(), not_shown: Vec::new(), armed: None, after: None }
    }

    /// The gravest end; that of a place where nothing was to be done is a good one.
    #[must_use]
    pub fn worst(&self) -> &End {
        self.accounts.iter().map(|(_, end)| end).max_by_key(|end| end.gravity()).unwrap_or(&End::Done)
    }

    /// How it ended for an account.
    #[must_use]
    pub fn of(&self, account: &str) -> Option<&End> {
        self.accounts.iter().find(|(name, _)| name == account).map(|(_, end)| end)
    }
}
