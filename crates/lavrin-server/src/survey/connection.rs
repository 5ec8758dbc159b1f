//! The login that is asked about.

use std::net::IpAddr;

/// The login that is asked about, as far as it is known.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct LoginAttempt {
    /// Where it comes from.
    pub from: Option<IpAddr>,
    /// Client name, as the server resolves that address.
    pub from_host: Option<String>,
    /// Whether the name counts whatever `UseDNS` says, as in the server's test mode.
    pub host_counts: bool,
    /// The address it comes in at.
    pub local_address: Option<IpAddr>,
    /// The port it comes in at.
    pub local_port: Option<u16>,
}
