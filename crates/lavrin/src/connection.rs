//! The arguments that say which connection is asked about.

use clap::Args;
use lavrin_core::server_config::Connection;
use std::net::IpAddr;

/// The connection that is asked about, as far as it is known.
#[derive(Debug, Args, Clone, Default)]
pub struct ConnectionArgs {
    /// Where the login would come from, for from=, Match Address and the like
    #[arg(long, value_name = "ADDRESS")]
    pub from_address: Option<IpAddr>,
    /// The name that the server's name service gives for that address
    #[arg(long, value_name = "HOST")]
    pub from_host: Option<String>,
    /// The address at which it would come in, for Match `LocalAddress`
    #[arg(long, value_name = "ADDRESS")]
    pub local_address: Option<IpAddr>,
    /// The port at which it would come in, for Match `LocalPort`
    #[arg(long, value_name = "PORT")]
    pub local_port: Option<u16>,
}

impl ConnectionArgs {
    /// As the core takes it.
    pub fn connection(&self) -> Connection {
        Connection {
            from: self.from_address,
            from_host: self.from_host.clone(),
            host_counts: false,
            local_address: self.local_address,
            local_port: self.local_port,
        }
    }
}
