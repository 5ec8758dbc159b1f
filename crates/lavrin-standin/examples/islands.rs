//! Starts the hosts of the pictures in the documents: `islands KEYS`, where KEYS is a folder with `office.pub`, `edda.pub`,
//! `sten.pub`, `runa.pub` and `old.pub`. Prints a line for each host, its name, its port and the fingerprint of its key, then
//! `ready`. Ends when its standard input does.
#![allow(clippy::print_stdout, reason = "this is a program of its own")]

use lavrin_server::device::KeyPlaces;
use lavrin_standin::{
    Behaviour, Console, ConsoleKnobs, DeviceUser, FileHost, FileHostKnobs, KeyDevice, KeyDeviceKnobs, Router,
    RouterKnobs, StandIn, StoredFile, TreeAccount, stray_pair,
};
use std::io::Read as _;
use std::os::unix::fs::PermissionsExt as _;
use std::sync::Arc;

#[tokio::main(flavor = "multi_thread", worker_threads = 2)]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    let folder = std::env::args().nth(1).ok_or("islands KEYS")?;
    let key = |name: &str| std::fs::read_to_string(format!("{folder}/{name}.pub"));
    let (office, edda, sten, runa, old) = (key("office")?, key("edda")?, key("sten")?, key("runa")?, key("old")?);
    let account = |name: &'static str, keys: &'static str| TreeAccount { name, shell: "/bin/sh", keys: Some(keys) };
    let keep = |text: String| -> &'static str { text.leak() };
    let root = || account("root", keep(office.clone()));
    // Private keys that somebody forgot: from the lantern one gets to the skerry, from there to the office, from there to Kvarnholm.
    let lamp = stray_pair("lamp timer")?;
    let backup = stray_pair("backup of the readings")?;
    let tide = stray_pair("tide log")?;
    let root_and = |more: &str| account("root", keep(format!("{office}{more}")));
    let stranger = lavrin_standin::fresh_line();
    let harbour = vec![
        root_and(&backup.1),
        account("edda", ""),
        account("sten", keep(format!("# the harbour office\n{sten}{old}{sten}"))),
        account(
            "tidelog",
            keep(format!("restrict,command=\"/usr/local/bin/tide\" {} buoy-7@tide\n", lavrin_standin::fresh_line())),
        ),
    ];
    let lights = |keys: String| vec![root(), account("keeper", keep(keys))];
    let hosts: Vec<(&str, Vec<TreeAccount<'_>>, Behaviour)> = vec![
        ("harbour-office", harbour, Behaviour::default()),
        ("lantern", lights(format!("{sten}{runa}{stranger} the lamp oil delivery\n")), Behaviour::default()),
        ("skerry", lights(format!("{runa}{sten}{}", lamp.1)), Behaviour::default()),
        ("kvarnholm", vec![root_and(&tide.1), account("keeper", keep(edda.clone()))], Behaviour::default()),
        ("buoy-7", lights(runa.clone()), Behaviour { silent: true, ..Behaviour::default() }),
    ];
    let mut running = Vec::new();
    for (name, accounts, behaviour) in hosts {
        let host = StandIn::with(name, &accounts, behaviour).await?;
        println!("{name} {} {}", host.address().port(), host.host_key());
        running.push(host);
    }
    // A router that takes changes on approval, a small device on a buoy, an archive with nothing but files, the console of a fog signal.
    let keeper: &[&str] = &[&sten, &format!("{stranger} the old radio")];
    let users = vec![DeviceUser::with("root", &[&office]), DeviceUser::with("keeper", keeper)];
    let knobs = RouterKnobs { candidate: true, confirmed_commit: Some("1.1"), ..RouterKnobs::default() };
    let router = StandIn::router("grindholm", Arc::new(Router::new(users, knobs)), Behaviour::default()).await?;
    let buoy = Arc::new(KeyDevice::new("keeper", &[&office, &runa], KeyDeviceKnobs::default()));
    let buoy = StandIn::key_device("buoy-4", buoy, Behaviour::default()).await?;
    let text = format!("# keepers of the readings\n{office}{runa}");
    let files = vec![
        ("/home/keeper", StoredFile::folder(1000, 0o755)),
        ("/home/keeper/.ssh", StoredFile::folder(1000, 0o700)),
        ("/home/keeper/.ssh/authorized_keys", StoredFile::file(1000, 0o600, &text)),
    ];
    let archive = Arc::new(FileHost::new(files, KeyPlaces::default(), FileHostKnobs::default()));
    let archive = StandIn::file_host("tide-archive", archive, Behaviour::default()).await?;
    let horn = Arc::new(Console::new(&[("keeper", None, &[&office])], ConsoleKnobs::default()));
    let horn = StandIn::console("horn-2", horn, Behaviour::default()).await?;
    for (name, host) in [("grindholm", router), ("buoy-4", buoy), ("tide-archive", archive), ("horn-2", horn)] {
        println!("{name} {} {}", host.address().port(), host.host_key());
        running.push(host);
    }
    running[1].leave_key("/home/keeper/.ssh/lamp-timer", &lamp.0)?;
    running[2].leave_key("/home/keeper/.ssh/backup", &backup.0)?;
    running[0].leave_key("/home/tidelog/.ssh/tide", &tide.0)?;
    let stens = running[0].file("/home/sten/.ssh/authorized_keys");
    std::fs::set_permissions(stens, std::fs::Permissions::from_mode(0o666))?;
    println!("ready");
    tokio::task::spawn_blocking(|| std::io::stdin().read_to_end(&mut Vec::new())).await??;
    Ok(())
}
