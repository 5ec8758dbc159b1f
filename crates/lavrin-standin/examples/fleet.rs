//! Starts many stand-ins with a register for them, for measuring: `fleet COUNT DIR ROOT-KEY.pub [replays]`. With `replays`
//! the first runs a script and all give its answer after that. Ends when its standard input does.
#![allow(clippy::print_stdout, reason = "this is a program of its own")]

use lavrin_standin::{Behaviour, StandIn, TreeAccount};
use std::fmt::Write as _;
use std::io::Read as _;
use std::sync::Arc;

#[tokio::main(flavor = "multi_thread", worker_threads = 2)]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    let words: Vec<String> = std::env::args().collect();
    let [_, count, folder, key, more @ ..] = &words[..] else {
        return Err("fleet COUNT DIR ROOT-KEY.pub [replays]".into());
    };
    let behaviour = Behaviour { replays: (more == ["replays"]).then(Arc::default), ..Behaviour::default() };
    let root = std::fs::read_to_string(key)?;
    let lamps = root.repeat(3);
    let accounts = [
        TreeAccount { name: "root", shell: "/bin/sh", keys: Some(&root) },
        TreeAccount { name: "keeper", shell: "/bin/sh", keys: Some(&lamps) },
        TreeAccount { name: "daemon", shell: "/usr/sbin/nologin", keys: None },
    ];
    let (mut hosts, mut text, mut known) = (Vec::new(), String::new(), String::new());
    for number in 0..count.parse::<usize>()? {
        let host = StandIn::with(&format!("buoy{number}"), &accounts, behaviour.clone()).await?;
        let (port, key) = (host.address().port(), host.host_key_line());
        writeln!(text, "[buoy{number}]\naddress = \"127.0.0.1\"\nport = {port}\nhost_keys = [\"{key}\"]\n")?;
        writeln!(known, "[127.0.0.1]:{port} {key}")?;
        hosts.push(host);
    }
    std::fs::write(format!("{folder}/lavrin.toml"), "name = \"measured\"\n")?;
    std::fs::write(format!("{folder}/hosts.toml"), text)?;
    std::fs::write(format!("{folder}/known_hosts"), known)?;
    println!("ready");
    tokio::task::spawn_blocking(|| std::io::stdin().read_to_end(&mut Vec::new())).await??;
    Ok(())
}
