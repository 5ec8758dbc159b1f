//! Old devices that know nothing but SHA-1: only for hosts of which the register says so, and always a finding there.

use super::Connection;
use crate::patience::timed;
use lavrin_keys::key::PrivateKey;
use lavrin_keys::key::container::openssh;
use lavrin_keys::key::generate::SystemSource;
use lavrin_keys::text::printable;
use russh::client::AuthResult;
use russh::keys::{Algorithm, PrivateKeyWithHashAlg};
use russh::{Preferred, kex, mac};
use std::borrow::Cow;
use std::sync::Arc;

/// Key exchanges by SHA-1, the better first (RFC 4253, section 8; RFC 4419).
const EXCHANGES: [kex::Name; 3] = [kex::DH_GEX_SHA1, kex::DH_G14_SHA1, kex::DH_G1_SHA1];

/// The usual algorithms, and behind them the old ones.
pub(super) fn with_old(usual: Preferred) -> Preferred {
    let kex = [usual.kex.as_ref(), &EXCHANGES].concat();
    let mac = [usual.mac.as_ref(), &[mac::HMAC_SHA1]].concat();
    let key = [usual.key.as_ref(), &[Algorithm::Rsa { hash: None }]].concat();
    Preferred { kex: Cow::Owned(kex), mac: Cow::Owned(mac), key: Cow::Owned(key), ..usual }
}

/// Where both sides have no algorithm in common: what the host offers.
pub(super) fn no_common(error: &russh::Error) -> Option<String> {
    let russh::Error::NoCommonAlgo { theirs, .. } = error else { return None };
    let theirs: Vec<String> = theirs.iter().map(|name| printable(name.as_bytes())).collect();
    let theirs: String = theirs.join(", ").chars().take(200).collect();
    Some(format!("it offers only {theirs}; what is broken is used only where the register says old_algorithms = true"))
}

impl Connection {
    /// Signs in with an RSA key by a signature with SHA-1 (RFC 4253, section 6.6). `None`: the line was lost, or the key cannot sign so.
    pub(super) async fn with_old_signature(&mut self, account: &str, key: &PrivateKey) -> Option<AuthResult> {
        let text = openssh::write(key, "", None, &SystemSource).ok()?;
        let own = russh::keys::PrivateKey::from_openssh(text.as_bytes()).ok()?;
        let key = PrivateKeyWithHashAlg::new(Arc::new(own), None);
        timed(self.handle.authenticate_publickey(account, key)).await?.ok()
    }
}
