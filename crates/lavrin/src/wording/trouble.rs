//! Why the work on a host or an account was not done, in words.

use super::no_proof;
use crate::outcome::KeyAnswer;
use lavrin_keys::text::{count, printable};
use lavrin_work::change::Trouble;
use lavrin_work::interrupt::Stage;
use lavrin_work::ways::WayFault;
use lavrin_work::{Heard, NoProof};

/// Why, in one line.
pub fn trouble(why: &Trouble) -> String {
    match why {
        Trouble::NoProof { account, fingerprint, heard: said, .. } => {
            let (answer, why) = heard(said);
            let why = why.map(|why| format!(" ({why})")).unwrap_or_default();
            format!("{fingerprint} was added to {account} and is {} from outside{why}; taken back", answer.word())
        }
        Trouble::Stopped(failed) => {
            format!("not started, because {} before it", count(*failed, "host failed", "hosts failed"))
        }
        Trouble::LockOut(_) => format!("{why}; --accept-lockout does it anyway"),
        Trouble::NoLogin(_) => format!("{why}; taken back over the session that was still open"),
        Trouble::CutOff(stage) => match stage {
            Some(Stage::Looking) | None => {
                "ended by the user before anything was changed, as far as is known".to_owned()
            }
            Some(Stage::Changing(account)) => {
                format!("ended by the user while {} was changed", printable(account.as_bytes()))
            }
            Some(Stage::Proving) => "ended by the user: changed, and not proven yet".to_owned(),
            Some(Stage::Settling) => "ended by the user while changes were taken back".to_owned(),
        },
        other => printable(other.to_string().as_bytes()),
    }
}

/// Why a host was not seen, in one line.
pub fn host_fault(fault: &WayFault) -> String {
    printable(fault.to_string().as_bytes())
}

/// An answer in one word, and why there is none.
pub fn heard(heard: &Heard) -> (KeyAnswer, Option<String>) {
    match heard {
        Heard::LoggedIn(_) | Heard::Accepts => (KeyAnswer::Accepted, None),
        Heard::Refuses => (KeyAnswer::Refused, None),
        Heard::LoginRefused(_) => (KeyAnswer::Refused, Some("it accepts the key but refuses the login".to_owned())),
        Heard::Nothing(why @ NoProof::HeldOff) => (KeyAnswer::NotAsked, Some(no_proof(why))),
        Heard::Nothing(why) => (KeyAnswer::NoAnswer, Some(no_proof(why))),
        Heard::LeftOut => (KeyAnswer::NotAsked, Some(not_asked())),
    }
}

/// Why a key was not asked about.
pub fn not_asked() -> String {
    "so many questions at once could look like an attack".to_owned()
}
