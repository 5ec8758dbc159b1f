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

/// Why nothing can be said.
#[derive(Debug)]
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
