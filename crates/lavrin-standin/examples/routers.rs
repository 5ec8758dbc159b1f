//! Starts routers and servers for scripts/devices-bench.py: `routers ROUTERS SERVERS KEY.pub`, of which root's key is that in the file.
//! Prints a line for each, its name, its reach, its port and its host key, then `ready`. Ends when its standard input does.
#![allow(clippy::print_stdout, reason = "this is a program of its own")]

use lavrin_standin::{Behaviour, DeviceUser, Router, RouterKnobs, StandIn, TreeAccount, fresh_line};
use std::io::Read as _;
use std::sync::Arc;

#[tokio::main(flavor = "multi_thread", worker_threads = 2)]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut words = std::env::args().skip(1);
    let mut number =
        || words.next().and_then(|word| word.parse::<usize>().ok()).ok_or("routers ROUTERS SERVERS KEY.pub");
    let (routers, servers) = (number()?, number()?);
    let office = std::fs::read_to_string(words.next().ok_or("routers ROUTERS SERVERS KEY.pub")?)?;
    let mut running = Vec::new();
    for number in 0..routers {
        let line = fresh_line();
        let users = vec![DeviceUser::with("root", &[&office]), DeviceUser::with("keeper", &[&line])];
        let router = Arc::new(Router::new(users, RouterKnobs::default()));
        let name = format!("router-{number}");
        let host = StandIn::router(&name, router, Behaviour::default()).await?;
        println!("{name} netconf {} {}", host.address().port(), host.host_key_line());
        running.push(host);
    }
    for number in 0..servers {
        let keys = fresh_line() + "\n";
        let accounts = [
            TreeAccount { name: "root", shell: "/bin/sh", keys: Some(&office) },
            TreeAccount { name: "keeper", shell: "/bin/sh", keys: Some(&keys) },
        ];
        let name = format!("server-{number}");
        let host = StandIn::with(&name, &accounts, Behaviour::default()).await?;
        println!("{name} shell {} {}", host.address().port(), host.host_key_line());
        running.push(host);
    }
    println!("ready");
    tokio::task::spawn_blocking(|| std::io::stdin().read_to_end(&mut Vec::new())).await??;
    Ok(())
}
