//! Proof from outside: a fresh connection asks the server, and where the private key is at hand signs in for real.

use lavrin_core::key::generate::Randomness;
use lavrin_core::key::{PrivateKey, PublicKey};
use lavrin_reach::ssh::{Answer, ConnectFault, Connection, Credential, NoAnswer, Rejected, SignedIn, Target};

/// What a fresh connection showed.
#[derive(Debug)]
pub enum Proof {
    /// The key opened a login.
    LoggedIn(SignedIn),
    /// The server asked for a signature: it would take the key. Not yet a login.
    WouldAccept,
    /// The server refuses the key.
    Refused,
    /// The server takes the key and refuses the login all the same, or asks for more.
    LoginRefused(Box<Rejected>),
    /// Nothing can be said.
    Nothing(NoProof),
}

/// What a server says about one key among several.
#[derive(Debug, Clone)]
pub enum Heard {
    /// It would take the key.
    Accepts,
    /// It refuses the key.
    Refuses,
    /// Nothing can be said.
    Nothing(NoProof),
    /// Not asked: so many questions could be taken for an attack.
    LeftOut,
}

impl std::fmt::Display for Heard {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.write_str(match self {
            Self::Accepts => "accepted",
            Self::Refuses => "refused",
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
}

/// Asks about a public key, after a throwaway key has shown that the server can say no.
///
/// The connection is given back where it is still of use, which it is after a login.
pub async fn prove(
    target: &Target,
    account: &str,
    public: &PublicKey,
    private: Option<(Box<PrivateKey>, String)>,
    randomness: &dyn Randomness,
) -> (Proof, Option<Connection>) {
    let mut connection = match target.connect().await {
        Ok(connection) => connection,
        Err(fault) => return (Proof::Nothing(NoProof::NoConnection(Box::new(fault))), None),
    };
    let answer = calibrated(&mut connection, account, public, randomness).await;
    connection.close().await;
    match (answer, private) {
        (Proof::WouldAccept, Some((key, source))) => log_in(target, account, key, source).await,
        (answer, _) => (answer, None),
    }
}

/// Asks about several keys for one account, after a throwaway key has shown that the server can say no. Nobody signs in.
pub async fn hear(
    target: &Target,
    account: &str,
    keys: &[PublicKey],
    randomness: &(dyn Randomness + Sync),
) -> Vec<Heard> {
    let mut heard: Vec<Heard> = Vec::new();
    let mut can_refuse = false;
    while heard.len() < keys.len().min(ASKED_MAX) {
        let mut connection = match target.connect().await {
            Ok(connection) => connection,
            Err(fault) => return rest(heard, keys, &NoProof::NoConnection(Box::new(fault))),
        };
        let mut refusals = 0;
        if !can_refuse {
            if let Some(why) = ask_throwaway(&mut connection, account, randomness).await {
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
        connection.close().await;
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

async fn calibrated(
    connection: &mut Connection,
    account: &str,
    public: &PublicKey,
    randomness: &dyn Randomness,
) -> Proof {
    let mut seed = [0; 32];
    randomness.fill(&mut seed);
    if let Ok(throwaway) = PrivateKey::ed25519(&seed)
        && connection.ask(account, throwaway.public()).await == Answer::Accepts
    {
        return Proof::Nothing(NoProof::YesToAnything);
    }
    match connection.ask(account, public).await {
        Answer::Accepts => Proof::WouldAccept,
        Answer::Refuses => Proof::Refused,
        Answer::NoAnswer(why) => Proof::Nothing(NoProof::NoAnswer(why)),
    }
}

async fn log_in(target: &Target, account: &str, key: Box<PrivateKey>, source: String) -> (Proof, Option<Connection>) {
    let mut connection = match target.connect().await {
        Ok(connection) => connection,
        Err(fault) => return (Proof::Nothing(NoProof::NoConnection(Box::new(fault))), None),
    };
    match connection.sign_in(account, &[Credential::Key { key: key.into(), source }]).await {
        Ok(signed) => (Proof::LoggedIn(signed), Some(connection)),
        Err(rejected) => (Proof::LoginRefused(Box::new(rejected)), None),
    }
}
