//! What a server says from outside: a fresh connection asks it, and where the private key is at hand signs in for real.

use crate::penalties::{PAUSE, Penalties};
use lavrin_keys::key::generate::Randomness;
use lavrin_keys::key::{Fingerprint, PrivateKey, PublicKey};
use lavrin_reach::ssh::{Answer, ConnectFault, Connection, Credential, NoAnswer, Rejected, SignedIn, Target};
use std::sync::Arc;
use std::time::Duration;
use tokio::time::Instant;

/// What a server says about a key.
#[derive(Debug, Clone)]
pub enum Heard {
    /// The key opened a login.
    LoggedIn(SignedIn),
    /// The server asked for a signature: it would take the key. Not yet a login.
    Accepts,
    /// It refuses the key.
    Refuses,
    /// It takes the key and refuses the login all the same, or asks for more.
    LoginRefused(Box<Rejected>),
    /// Nothing can be said.
    Nothing(NoProof),
    /// Not asked: so many questions could be taken for an attack.
    LeftOut,
}

impl Heard {
    /// Whether the key opens the account.
    #[must_use]
    pub fn opens(&self) -> bool {
        matches!(self, Self::LoggedIn(_) | Self::Accepts)
    }

    /// Whether a login with the private half would show more: the server takes the key, or says that it takes any.
    #[must_use]
    pub fn leaves_a_login_to_try(&self) -> bool {
        matches!(self, Self::Accepts | Self::Nothing(NoProof::YesToAnything))
    }
}

/// A private half that is at hand.
#[derive(Clone)]
pub struct Holder {
    /// The key.
    pub key: Arc<PrivateKey>,
    /// Where it lies, for messages.
    pub source: String,
}

impl std::fmt::Display for Heard {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.write_str(match self {
            Self::LoggedIn(_) => "accepted, and a login with it worked",
            Self::Accepts => "accepted",
            Self::Refuses => "refused",
            Self::LoginRefused(_) => "accepted, and the login is refused",
            Self::Nothing(_) => "no answer that shows anything",
            Self::LeftOut => "not asked",
        })
    }
}

/// Most keys of one account that are asked about in one go.
const ASKED_MAX: usize = 12;

/// So many refusals are let come together on one connection; servers end it after six.
const REFUSALS_MAX: usize = 4;

/// Why nothing can be said.
#[derive(Debug, Clone)]
pub enum NoProof {
    /// No connection.
    NoConnection(Box<ConnectFault>),
    /// The server gave no usable answer.
    NoAnswer(NoAnswer),
    /// The server says yes to a key that nobody has, so its yes is worth nothing.
    YesToAnything,
    /// The server takes no connection from here for a while.
    HeldOff,
}

/// Asks about one key, and signs in with its private half where that is at hand. The connection is given back where it is
/// still of use, which it is after a login.
pub async fn prove(
    target: &Target,
    account: &str,
    public: &PublicKey,
    holder: Option<&Holder>,
    terms: &AskTerms<'_>,
) -> (Heard, Option<Connection>) {
    let heard = hear(target, account, std::slice::from_ref(public), terms).await;
    match (heard.into_iter().next().unwrap_or(Heard::LeftOut), holder) {
        (heard, Some(holder)) if heard.leaves_a_login_to_try() => log_in(target, account, holder).await,
        (heard, _) => (heard, None),
    }
}

/// How a server is asked.
pub struct AskTerms<'a> {
    /// Where keys that nobody has come from.
    pub randomness: &'a (dyn Randomness + Sync),
    /// What is owed to servers that count.
    pub penalties: &'a Penalties,
    /// What opens this very account, and which keys first: a login at the end makes the connection cost nothing.
    pub login: Option<(&'a [Credential], &'a [Fingerprint])>,
    /// How long to wait for a server that holds us off.
    pub patience: Duration,
}

/// A connection, once it can be afforded. A server that holds us off is waited for.
async fn connect(target: &Target, terms: &AskTerms<'_>) -> Result<Connection, NoProof> {
    let until = Instant::now() + terms.patience;
    loop {
        let wait = terms.penalties.wait(&target.host);
        if Instant::now() + wait > until {
            return Err(NoProof::HeldOff);
        }
        tokio::time::sleep(wait).await;
        let fault = match target.connect().await {
            Ok(connection) => {
                terms.penalties.greeted(&target.host, connection.banner());
                return Ok(connection);
            }
            Err(fault) => fault,
        };
        // Some of those that are held off hear nothing at all.
        let is_held_off = match &fault {
            ConnectFault::HeldOff { .. } => true,
            ConnectFault::NoGreeting { .. } => terms.penalties.counts(&target.host),
            _ => false,
        };
        if !is_held_off {
            return Err(NoProof::NoConnection(Box::new(fault)));
        }
        if Instant::now() + PAUSE > until {
            return Err(NoProof::HeldOff);
        }
        tokio::time::sleep(PAUSE).await;
    }
}

/// Ends a connection of questions, with a login where that is possible.
async fn end(mut connection: Connection, target: &Target, account: &str, terms: &AskTerms<'_>) {
    let logged_in = match terms.login.filter(|_| terms.penalties.counts(&target.host)) {
        Some((credentials, first)) => connection.sign_in(account, credentials, first).await.is_ok(),
        None => false,
    };
    if !logged_in {
        terms.penalties.spend(&target.host);
    }
    connection.close().await;
}

/// Asks about several keys for one account, after a throwaway key has shown that the server can say no. Nobody signs in.
pub async fn hear(target: &Target, account: &str, keys: &[PublicKey], terms: &AskTerms<'_>) -> Vec<Heard> {
    let mut heard: Vec<Heard> = Vec::new();
    let mut can_refuse = false;
    while heard.len() < keys.len().min(ASKED_MAX) {
        let mut connection = match connect(target, terms).await {
            Ok(connection) => connection,
            Err(why) => return rest(heard, keys, &why),
        };
        let mut refusals = 0;
        if !can_refuse {
            if let Some(why) = ask_throwaway(&mut connection, account, terms.randomness).await {
                end(connection, target, account, terms).await;
                return rest(heard, keys, &why);
            }
            (can_refuse, refusals) = (true, 1);
        }
        while refusals < REFUSALS_MAX && heard.len() < keys.len().min(ASKED_MAX) {
            let key = &keys[heard.len()];
            match connection.ask(account, key).await {
                Answer::Accepts => heard.push(Heard::Accepts),
                Answer::Refuses => {
                    // RSA keys are asked about under two names.
                    refusals += if matches!(key, PublicKey::Rsa { .. }) { 2 } else { 1 };
                    heard.push(Heard::Refuses);
                }
                // A server may allow fewer refusals; a fresh connection shows whether it was that.
                Answer::NoAnswer(NoAnswer::Lost) if refusals > 0 => break,
                Answer::NoAnswer(why) => {
                    heard.push(Heard::Nothing(NoProof::NoAnswer(why)));
                    break;
                }
            }
        }
        end(connection, target, account, terms).await;
    }
    heard.resize(keys.len(), Heard::LeftOut);
    heard
}

fn rest(mut heard: Vec<Heard>, keys: &[PublicKey], why: &NoProof) -> Vec<Heard> {
    heard.resize(keys.len(), Heard::Nothing(why.clone()));
    heard
}

/// Why the server's answers would show nothing; `None`: it can refuse.
async fn ask_throwaway(
    connection: &mut Connection,
    account: &str,
    randomness: &(dyn Randomness + Sync),
) -> Option<NoProof> {
    let mut seed = [0; 32];
    randomness.fill(&mut seed);
    let throwaway = PrivateKey::ed25519(&seed).ok()?;
    match connection.ask(account, throwaway.public()).await {
        Answer::Accepts => Some(NoProof::YesToAnything),
        Answer::Refuses => None,
        Answer::NoAnswer(why) => Some(NoProof::NoAnswer(why)),
    }
}

/// Signs in with a private key over a new connection.
pub(crate) async fn log_in(target: &Target, account: &str, holder: &Holder) -> (Heard, Option<Connection>) {
    let mut connection = match target.connect().await {
        Ok(connection) => connection,
        Err(fault) => return (Heard::Nothing(NoProof::NoConnection(Box::new(fault))), None),
    };
    let credential = Credential::Key { key: holder.key.clone(), source: holder.source.clone() };
    match connection.sign_in(account, &[credential], &[]).await {
        Ok(signed) => (Heard::LoggedIn(signed), Some(connection)),
        // A connection that ended early says nothing about the key.
        Err(rejected) if rejected.lost => (Heard::Nothing(NoProof::NoAnswer(NoAnswer::Lost)), None),
        Err(rejected) => (Heard::LoginRefused(Box::new(rejected)), None),
    }
}
