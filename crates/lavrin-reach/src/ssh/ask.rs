//! The question whether a server would take a public key for an account (RFC 4252, section 7: the query without a
//! signature). It is weaker than a login and stronger than reading a file.

use super::Connection;
use super::signin::{NoSignature, foreign};
use crate::Boxed;
use crate::patience::timed;
use lavrin_keys::key::PublicKey;
use russh::MethodKind;
use russh::client::AuthResult;
use russh::keys::HashAlg;
use russh::keys::agent::AgentIdentity;

/// What the server says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Answer {
    /// It asked for a signature: it would take the key.
    Accepts,
    /// It refused the key and still offers the method.
    Refuses,
    /// It gave no answer that says either.
    NoAnswer(NoAnswer),
}

/// Why there is no answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NoAnswer {
    /// The connection ended.
    Lost,
    /// The server does not offer public keys to this account.
    NotOffered(Vec<String>),
    /// The server let the account in without asking for anything, so keys show nothing.
    OpenToAll,
    /// The key is of a kind that cannot be asked about.
    Unaskable,
}

/// Never signs, and remembers that it was asked to.
struct NeverSigns {
    asked: bool,
}

impl russh::Signer for NeverSigns {
    type Error = NoSignature;

    async fn auth_sign(&mut self, _: &AgentIdentity, _: Option<HashAlg>, _: Vec<u8>) -> Result<Vec<u8>, NoSignature> {
        self.asked = true;
        Err(NoSignature)
    }
}

impl Connection {
    /// The methods by which the server would let this account in (RFC 4252, section 5.2), by asking for `none`. `None`: it gave no
    /// answer, or let the account in without asking for anything.
    pub fn offered<'a>(&'a mut self, account: &'a str) -> Boxed<'a, Option<Vec<String>>> {
        Box::pin(async move {
            match timed(self.handle.authenticate_none(account)).await {
                Some(Ok(AuthResult::Failure { remaining_methods, .. })) => {
                    Some(remaining_methods.iter().map(|kind| <&str>::from(kind).to_owned()).collect())
                }
                _ => None,
            }
        })
    }

    /// Asks. RSA keys are asked about with each signature name that servers take today.
    pub fn ask<'a>(&'a mut self, account: &'a str, key: &'a PublicKey) -> Boxed<'a, Answer> {
        Box::pin(async move {
            let Some(public) = foreign(key) else { return Answer::NoAnswer(NoAnswer::Unaskable) };
            let hashes: &[Option<HashAlg>] = match key {
                PublicKey::Rsa { .. } if self.old_algorithms => &[Some(HashAlg::Sha512), Some(HashAlg::Sha256), None],
                PublicKey::Rsa { .. } => &[Some(HashAlg::Sha512), Some(HashAlg::Sha256)],
                _ => &[None],
            };
            let mut answer = Answer::NoAnswer(NoAnswer::Lost);
            for hash in hashes {
                let mut recorder = NeverSigns { asked: false };
                let result =
                    timed(self.handle.authenticate_publickey_with(account, public.clone(), *hash, &mut recorder)).await;
                if recorder.asked {
                    return Answer::Accepts;
                }
                answer = match result {
                    Some(Ok(AuthResult::Success)) => return Answer::NoAnswer(NoAnswer::OpenToAll),
                    Some(Ok(AuthResult::Failure { remaining_methods, .. }))
                        if remaining_methods.contains(&MethodKind::PublicKey) =>
                    {
                        Answer::Refuses
                    }
                    Some(Ok(AuthResult::Failure { remaining_methods, .. })) if !remaining_methods.is_empty() => {
                        Answer::NoAnswer(NoAnswer::NotOffered(
                            remaining_methods.iter().map(|kind| <&str>::from(kind).to_owned()).collect(),
                        ))
                    }
                    Some(Ok(AuthResult::Failure { .. }) | Err(_)) | None => return Answer::NoAnswer(NoAnswer::Lost),
                };
            }
            answer
        })
    }
}
