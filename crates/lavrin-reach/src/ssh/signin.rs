//! Signing in, and saying exactly what was offered, tried and refused.

use super::Connection;
use crate::Boxed;
use crate::agent;
use crate::patience::timed;
use lavrin_keys::key::private::{PrivateKey, RsaHash};
use lavrin_keys::key::{Fingerprint, PublicKey};
use russh::MethodSet;
use russh::client::{AuthResult, KeyboardInteractiveAuthResponse};
use russh::keys::agent::AgentIdentity;
use russh::keys::agent::client::AgentClient;
use russh::keys::{HashAlg, ssh_key};
use std::sync::Arc;
use zeroize::Zeroizing;

/// Most keys of an agent that are tried: servers cut a connection after six refusals.
const AGENT_KEYS_MAX: usize = 5;

/// Most rounds of questions a server may ask in keyboard-interactive (RFC 4256).
const ROUNDS_MAX: usize = 10;

/// Something to sign in with.
#[derive(Clone)]
pub enum Credential {
    /// A private key, and where it came from.
    Key {
        /// The key.
        key: Arc<PrivateKey>,
        /// Its file, for messages.
        source: String,
    },
    /// The keys of the agent behind this socket.
    Agent {
        /// The socket.
        socket: String,
    },
    /// A password, for the methods `password` and `keyboard-interactive`.
    Password(Zeroizing<String>),
    /// A password that is asked for when it is needed: by then the host has proven itself.
    AskedPassword(Arc<dyn AsksPassword>),
}

/// Whoever can be asked for a password.
pub trait AsksPassword: Send + Sync {
    /// The password; nothing where none was given.
    fn ask(&self) -> Option<Zeroizing<String>>;
}

/// How the login was opened.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignedIn {
    /// The account.
    pub account: String,
    /// The method's name (RFC 4252).
    pub method: &'static str,
    /// The key, for `publickey`.
    pub key: Option<Fingerprint>,
    /// Where that key came from.
    pub source: String,
}

/// One thing that was tried and refused.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tried {
    /// The method's name.
    pub method: &'static str,
    /// Which key, or what happened.
    pub detail: String,
}

/// Nothing opened the login.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{host} refuses to let {account} in")]
pub struct Rejected {
    /// The host.
    pub host: String,
    /// The account.
    pub account: String,
    /// The methods that the server offers.
    pub offered: Vec<String>,
    /// What was tried, in order.
    pub tried: Vec<Tried>,
    /// A method was accepted and a further one is asked for.
    pub partial: bool,
    /// The connection ended before the server had said no.
    pub lost: bool,
}

/// What one attempt led to.
enum Attempt {
    In(SignedIn),
    Refused,
    Lost,
}

struct SignInState {
    rejected: Rejected,
}

impl SignInState {
    /// Keeps the methods that the server offers.
    fn offered(&mut self, methods: &MethodSet) {
        let offered: Vec<String> = methods.iter().map(|kind| <&str>::from(kind).to_owned()).collect();
        if offered == self.rejected.offered {
            return;
        }
        self.rejected.offered = offered;
        let (host, account) = (&self.rejected.host, &self.rejected.account);
        tracing::info!("{host}: the server offers {account} {}", self.rejected.offered.join(", "));
    }

    fn take(&mut self, result: &AuthResult, method: &'static str, detail: String) -> bool {
        match result {
            AuthResult::Success => true,
            AuthResult::Failure { remaining_methods, partial_success } => {
                self.note(remaining_methods, *partial_success, method, detail);
                false
            }
        }
    }

    fn note(&mut self, remaining: &MethodSet, partial: bool, method: &'static str, detail: String) {
        let answer = if partial { "accepted, and a further method is asked for" } else { "refused" };
        tracing::info!("{}: {method} with {detail}: {answer}", self.rejected.host);
        if remaining.is_empty() {
            self.rejected.lost = true;
        } else {
            self.offered(remaining);
        }
        self.rejected.partial |= partial;
        let detail = if partial { format!("{detail}: accepted, and a further method is asked for") } else { detail };
        self.rejected.tried.push(Tried { method, detail });
    }
}

impl Connection {
    /// Signs in with the first credential that the server takes. Of an agent's keys those in `first` are offered before the
    /// others, in that order.
    ///
    /// # Errors
    /// [`Rejected`] with everything that was offered and tried.
    pub fn sign_in<'a>(
        &'a mut self,
        account: &'a str,
        credentials: &'a [Credential],
        first: &'a [Fingerprint],
    ) -> Boxed<'a, Result<SignedIn, Rejected>> {
        Box::pin(async move {
            let rejected = Rejected {
                host: self.host().to_owned(),
                account: account.to_owned(),
                offered: Vec::new(),
                tried: Vec::new(),
                partial: false,
                lost: false,
            };
            let mut state = SignInState { rejected };
            // The answer to "none" lists the methods (RFC 4252, section 5.2); an account without any protection opens here.
            match timed(self.handle.authenticate_none(account)).await {
                Some(Ok(AuthResult::Success)) => {
                    tracing::info!("{}: {account} is open to everybody: no method was needed", state.rejected.host);
                    return Ok(signed(account, "none", None, String::new()));
                }
                Some(Ok(AuthResult::Failure { remaining_methods, .. })) => {
                    state.rejected.lost = remaining_methods.is_empty();
                    state.offered(&remaining_methods);
                }
                _ => state.rejected.lost = true,
            }
            for credential in credentials {
                if state.rejected.lost {
                    break;
                }
                let attempt = match credential {
                    Credential::Key { key, source } => self.with_key(account, key, source, &mut state).await,
                    Credential::Agent { socket } => self.with_agent(account, socket, first, &mut state).await,
                    Credential::Password(password) => self.with_password(account, password, &mut state).await,
                    Credential::AskedPassword(asks) => self.with_asked_password(account, asks, &mut state).await,
                };
                match attempt {
                    Attempt::In(signed) => {
                        let key = signed.key.map(|print| format!(": {} {print}", signed.source)).unwrap_or_default();
                        tracing::info!("{}: {account} is let in with {}{key}", state.rejected.host, signed.method);
                        return Ok(signed);
                    }
                    Attempt::Refused => {}
                    Attempt::Lost => state.rejected.lost = true,
                }
            }
            Err(state.rejected)
        })
    }

    async fn with_asked_password(
        &mut self,
        account: &str,
        asks: &Arc<dyn AsksPassword>,
        state: &mut SignInState,
    ) -> Attempt {
        let asks = asks.clone();
        match tokio::task::spawn_blocking(move || asks.ask()).await {
            Ok(Some(password)) => self.with_password(account, &password, state).await,
            _ => Attempt::Refused,
        }
    }

    async fn with_key(&mut self, account: &str, key: &PrivateKey, source: &str, state: &mut SignInState) -> Attempt {
        let print = key.public().fingerprint();
        let detail = format!("{source} {print}");
        let Some(public) = foreign(key.public()) else { return Attempt::Refused };
        let hash = self.rsa_hash(key.public()).await;
        let mut signer = OwnKey { key, hash: hash.unwrap_or(HashAlg::Sha512) };
        match timed(self.handle.authenticate_publickey_with(account, public, hash, &mut signer)).await {
            None | Some(Err(_)) => Attempt::Lost,
            Some(Ok(result)) if state.take(&result, "publickey", detail.clone()) => {
                Attempt::In(signed(account, "publickey", Some(print), source.to_owned()))
            }
            Some(Ok(_)) if self.old_algorithms && matches!(key.public(), PublicKey::Rsa { .. }) => {
                match self.with_old_signature(account, key).await {
                    None => Attempt::Lost,
                    Some(result) if state.take(&result, "publickey", detail) => {
                        Attempt::In(signed(account, "publickey", Some(print), source.to_owned()))
                    }
                    Some(_) => Attempt::Refused,
                }
            }
            Some(Ok(_)) => Attempt::Refused,
        }
    }

    async fn with_agent(
        &mut self,
        account: &str,
        socket: &str,
        first: &[Fingerprint],
        state: &mut SignInState,
    ) -> Attempt {
        let mut refuse = |detail: String| {
            state.rejected.tried.push(Tried { method: "publickey", detail });
            Attempt::Refused
        };
        let held = match agent::held(socket).await {
            Ok(held) if held.is_empty() => return refuse("the agent holds no key".to_owned()),
            Ok(held) => held,
            Err(why) => return refuse(why.to_string()),
        };
        let (keys, odd) = agent::in_order(held, first);
        let Some(Ok(mut signer)) = timed(AgentClient::connect_uds(socket)).await else {
            return refuse(format!("the agent at {socket} does not answer"));
        };
        let mut left = keys.into_iter();
        for (own, source) in left.by_ref().take(AGENT_KEYS_MAX) {
            let print = own.fingerprint();
            let Some(public) = foreign(&own) else { continue };
            let hash = self.rsa_hash(&own).await;
            match timed(self.handle.authenticate_publickey_with(account, public, hash, &mut signer)).await {
                None => return Attempt::Lost,
                Some(Err(_)) => state
                    .rejected
                    .tried
                    .push(Tried { method: "publickey", detail: format!("{source} {print}: the agent does not sign") }),
                Some(Ok(result)) if state.take(&result, "publickey", format!("{source} {print}")) => {
                    return Attempt::In(signed(account, "publickey", Some(print), source));
                }
                Some(Ok(_)) if state.rejected.lost => return Attempt::Lost,
                Some(Ok(_)) => {}
            }
        }
        // What was left out may be what would have worked.
        let not_tried = left.count();
        let not_tried = (not_tried > 0).then(|| {
            format!("{not_tried} more of the agent were not tried, since servers end a connection after some refusals")
        });
        let told = not_tried.into_iter().chain(odd.into_iter().map(|what| format!("{what}: passed over")));
        state.rejected.tried.extend(told.map(|detail| Tried { method: "publickey", detail }));
        Attempt::Refused
    }

    async fn with_password(&mut self, account: &str, password: &Zeroizing<String>, state: &mut SignInState) -> Attempt {
        if state.rejected.offered.iter().any(|method| method == "password") {
            match timed(self.handle.authenticate_password(account, password.as_str())).await {
                None | Some(Err(_)) => return Attempt::Lost,
                Some(Ok(result)) if state.take(&result, "password", "the password".to_owned()) => {
                    return Attempt::In(signed(account, "password", None, String::new()));
                }
                Some(Ok(_)) if state.rejected.lost => return Attempt::Lost,
                Some(Ok(_)) => {}
            }
        }
        if state.rejected.offered.iter().any(|method| method == "keyboard-interactive") {
            return self.interactively(account, password, state).await;
        }
        Attempt::Refused
    }

    async fn interactively(&mut self, account: &str, password: &Zeroizing<String>, state: &mut SignInState) -> Attempt {
        const METHOD: &str = "keyboard-interactive";
        let mut response = timed(self.handle.authenticate_keyboard_interactive_start(account, None)).await;
        let mut answered = false;
        for _ in 0..ROUNDS_MAX {
            let prompts = match response {
                None | Some(Err(_)) => return Attempt::Lost,
                Some(Ok(KeyboardInteractiveAuthResponse::Success)) => {
                    return Attempt::In(signed(account, METHOD, None, String::new()));
                }
                Some(Ok(KeyboardInteractiveAuthResponse::Failure { remaining_methods, partial_success })) => {
                    state.note(&remaining_methods, partial_success, METHOD, "the password".to_owned());
                    return Attempt::Refused;
                }
                Some(Ok(KeyboardInteractiveAuthResponse::InfoRequest { prompts, .. })) => prompts,
            };
            // The password answers the first hidden question only: a second one is for something else.
            let answers: Vec<String> = prompts
                .iter()
                .map(|prompt| {
                    if prompt.echo || std::mem::replace(&mut answered, true) {
                        String::new()
                    } else {
                        password.to_string()
                    }
                })
                .collect();
            response = timed(self.handle.authenticate_keyboard_interactive_respond(answers)).await;
        }
        Attempt::Refused
    }

    /// The hash for signatures of an RSA key: what the server names, else SHA-512, never SHA-1.
    pub(super) async fn rsa_hash(&self, key: &PublicKey) -> Option<HashAlg> {
        if !matches!(key, PublicKey::Rsa { .. }) {
            return None;
        }
        let named = timed(self.handle.best_supported_rsa_hash()).await;
        Some(named.and_then(Result::ok).flatten().flatten().unwrap_or(HashAlg::Sha512))
    }
}

fn signed(account: &str, method: &'static str, key: Option<Fingerprint>, source: String) -> SignedIn {
    SignedIn { account: account.to_owned(), method, key, source }
}

/// The key in the transport's own type.
pub(super) fn foreign(key: &PublicKey) -> Option<ssh_key::PublicKey> {
    ssh_key::PublicKey::from_bytes(&key.blob()).ok()
}

/// No signature came about: the session is gone, the key cannot sign, or signing was never meant.
pub(super) struct NoSignature;

impl From<russh::SendError> for NoSignature {
    fn from(_: russh::SendError) -> Self {
        Self
    }
}

/// Signs with a key of our own.
struct OwnKey<'a> {
    key: &'a PrivateKey,
    hash: HashAlg,
}

impl russh::Signer for OwnKey<'_> {
    type Error = NoSignature;

    async fn auth_sign(
        &mut self,
        _: &AgentIdentity,
        _: Option<HashAlg>,
        mut data: Vec<u8>,
    ) -> Result<Vec<u8>, NoSignature> {
        let hash = if self.hash == HashAlg::Sha256 { RsaHash::Sha256 } else { RsaHash::Sha512 };
        let signature = self.key.sign(&data, hash).map_err(|_| NoSignature)?;
        let mut packed = lavrin_keys::wire::Writer::new();
        packed.string(&signature);
        data.extend_from_slice(&packed.finish());
        Ok(data)
    }
}
