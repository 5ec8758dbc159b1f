//! The arguments that say which connection and which server is asked about.

use clap::Args;
use lavrin_server::server::{Known, Server};
use lavrin_server::survey::LoginAttempt;
use lavrin_server::survey::Observation;
use std::net::IpAddr;

/// The connection that is asked about, as far as it is known.
#[derive(Debug, Args, Clone, Default)]
pub struct ConnectionArgs {
    /// Client address of the login, for from= and Match Address
    #[arg(long, value_name = "ADDRESS")]
    pub from_address: Option<IpAddr>,
    /// Client name, as the server resolves that address
    #[arg(long, value_name = "HOST")]
    pub from_host: Option<String>,
    /// Server address of the login, for Match `LocalAddress`
    #[arg(long, value_name = "ADDRESS")]
    pub local_address: Option<IpAddr>,
    /// Server port of the login, for Match `LocalPort`
    #[arg(long, value_name = "PORT")]
    pub local_port: Option<u16>,
}

/// The server that is asked about, where nothing on the system tells.
#[derive(Debug, Args, Clone, Default)]
pub struct ServerArgs {
    /// Rules of this server, such as `openssh-9.2+debian` or `dropbear-2022.83`
    #[arg(long, value_name = "SERVER", value_parser = parse_server)]
    server: Option<GivenServer>,
}

#[derive(Debug, Clone)]
struct GivenServer(Server, String);

fn parse_server(name: &str) -> Result<GivenServer, String> {
    Server::from_name(name).map(|server| GivenServer(server, name.to_owned())).ok_or_else(|| {
        format!("no server '{name}' is known; write openssh-9.2+debian, openssh-9.9 or dropbear-2022.83")
    })
}

impl ServerArgs {
    /// Writes what was given into an observation that is about to begin.
    pub fn give(&self, seen: &mut Observation) {
        if let Some(GivenServer(server, name)) = &self.server {
            seen.found_server(*server, Known::Given(name.clone()));
        }
    }
}

impl ConnectionArgs {
    /// As the core takes it.
    pub fn connection(&self) -> LoginAttempt {
        LoginAttempt {
            from: self.from_address,
            from_host: self.from_host.clone(),
            host_counts: false,
            local_address: self.local_address,
            local_port: self.local_port,
        }
    }
}
