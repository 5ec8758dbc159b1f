//! Measures a memory in a file beside one in a PostgreSQL, in turn: `shared_memory HOSTS FOLDER`. Written are observations of hosts that
//! are new, then of hosts that did not change, by one collector and by three at once; read is the audit of all of them. Beside that,
//! `shared_memory sightings NUMBER FOLDER` asks who could log in on a day of a year in which entries came and went.
#![allow(clippy::print_stdout, reason = "this is a program of its own")]

use lavrin_keys::key::PrivateKey;
use lavrin_server::account::read_passwd;
use lavrin_server::fs::{BytePath, Fact};
use lavrin_server::survey::Observation;
use lavrin_server::survey::key_use::KeyUses;
use lavrin_server::survey::snapshot::Snapshot;
use lavrin_standin::DatabaseServer;
use lavrin_store::database::{Database, HostRecord, SeenKeys, Sighted, agree, set_up};
use std::error::Error;
use std::path::{Path, PathBuf};
use std::time::Instant;

type Measured<T> = Result<T, Box<dyn Error>>;

/// Hosts that are written together, as a survey does.
const TOGETHER: usize = 64;
/// Entries of a host.
const ENTRIES: usize = 10;
/// Collectors that write at once.
const COLLECTORS: usize = 3;
/// Hosts of the year in which entries came and went.
const HOSTS: usize = 1000;
/// Runs in turn.
const RUNS: usize = 5;
/// 2026-11-23
const NOW: i64 = 1_795_392_000;

fn main() -> Measured<()> {
    let words: Vec<String> = std::env::args().skip(1).collect();
    match &words.iter().map(String::as_str).collect::<Vec<_>>()[..] {
        ["sightings", number, folder] => sightings(number.parse()?, Path::new(folder)),
        [hosts, folder] => writing(hosts.parse()?, Path::new(folder)),
        _ => Err("shared_memory HOSTS FOLDER, or: shared_memory sightings NUMBER FOLDER".into()),
    }
}

/// A register without hosts, and where its memory is.
fn register(folder: &Path, name: &str, url: Option<&str>) -> Measured<PathBuf> {
    let folder = folder.join(name);
    std::fs::create_dir_all(&folder)?;
    let store = url.map(|url| format!("[store]\nurl = \"{url}\"\n")).unwrap_or_default();
    std::fs::write(folder.join("lavrin.toml"), format!("name = \"measured\"\n{store}"))?;
    if let Some(url) = url {
        agree(&folder, Some(url))?;
    }
    Ok(folder)
}

/// A server that keeps what it says it keeps.
fn server() -> Measured<DatabaseServer> {
    let server = DatabaseServer::start(&["fsync=on", "shared_buffers=256MB", "max_wal_size=4GB"])?;
    Ok(server)
}

fn fresh(server: &DatabaseServer, name: &str) -> Measured<String> {
    server.run("postgres", &format!("CREATE DATABASE {name}"))?;
    let url = server.url("postgres", name);
    set_up(&url)?;
    Ok(url)
}

fn record(host: usize, time: i64, lines: &[(String, Sighted)]) -> HostRecord {
    let mut seen = Observation {
        looked: true,
        accounts: read_passwd(b"keeper:x:1001:1001::/home/keeper:/bin/sh\n").into(),
        ..Observation::default()
    };
    let own: Vec<&(String, Sighted)> =
        (0..ENTRIES).map(|entry| &lines[(host * 7 + entry * 31) % lines.len()]).collect();
    let text: String = own.iter().map(|(line, _)| line.as_str()).collect();
    seen.bytes.insert(BytePath::from("/home/keeper/.ssh/authorized_keys"), Fact::Known(text.into_bytes()));
    let entries = own.iter().map(|(_, entry)| entry.clone()).collect();
    HostRecord {
        host: format!("buoy{host}"),
        time,
        snapshot: Snapshot::of(&seen),
        keys: SeenKeys { entries, ..SeenKeys::default() },
        uses: KeyUses::default(),
        register: None,
    }
}

fn lines() -> Measured<Vec<(String, Sighted)>> {
    let line = |number: usize| {
        let mut seed = [7; 32];
        seed[..8].copy_from_slice(&number.to_le_bytes());
        let pair = PrivateKey::ed25519(&seed).map_err(|fault| format!("{fault:?}"))?;
        let public = pair.public();
        let comment = format!("keeper{number}");
        let entry = Sighted { account: "keeper".to_owned(), key: public.fingerprint(), comment: comment.clone() };
        Ok((public.line(&comment) + "\n", entry))
    };
    (0..2000).map(line).collect()
}

/// Writes these hosts as one collector does, and says how long it took.
fn write(folder: &Path, hosts: std::ops::Range<usize>, time: i64, lines: &[(String, Sighted)]) -> f64 {
    let store = Database::open(folder).expect("the store opens");
    let all: Vec<usize> = hosts.collect();
    let batches: Vec<Vec<HostRecord>> =
        all.chunks(TOGETHER).map(|some| some.iter().map(|host| record(*host, time, lines)).collect()).collect();
    let begun = Instant::now();
    for batch in batches {
        store.record_all(batch).expect("it is written");
    }
    begun.elapsed().as_secs_f64()
}

fn writing(hosts: usize, folder: &Path) -> Measured<()> {
    let (server, lines) = (server()?, lines()?);
    let mut took: Vec<(&str, Vec<f64>)> = Vec::new();
    let mut note = |what: &'static str, seconds: f64| match took.iter_mut().find(|(own, _)| *own == what) {
        Some((_, all)) => all.push(seconds),
        None => took.push((what, vec![seconds])),
    };
    for run in 0..RUNS {
        let file = register(folder, &format!("file{run}"), None)?;
        let url = fresh(&server, &format!("one{run}"))?;
        let one = register(folder, &format!("one{run}"), Some(&url))?;
        note("file: new hosts", write(&file, 0..hosts, NOW, &lines));
        note("PostgreSQL: new hosts", write(&one, 0..hosts, NOW, &lines));
        note("file: unchanged", write(&file, 0..hosts, NOW + 60, &lines));
        note("PostgreSQL: unchanged", write(&one, 0..hosts, NOW + 60, &lines));
        let url = fresh(&server, &format!("three{run}"))?;
        let three = register(folder, &format!("three{run}"), Some(&url))?;
        let part = hosts / COLLECTORS;
        let begun = Instant::now();
        std::thread::scope(|scope| {
            for number in 0..COLLECTORS {
                let (three, lines) = (&three, &lines);
                scope.spawn(move || write(three, number * part..(number + 1) * part, NOW, lines));
            }
        });
        note("PostgreSQL: new hosts, three collectors (preparing them included)", begun.elapsed().as_secs_f64());
        let begun = Instant::now();
        write(&one, hosts..2 * hosts, NOW, &lines);
        note("PostgreSQL: new hosts, one collector (preparing them included)", begun.elapsed().as_secs_f64());
    }
    for (what, mut all) in took {
        all.sort_by(f64::total_cmp);
        let median = all[all.len() / 2];
        println!(
            "{what}: {median:.2} s by the median ({:.2} to {:.2}), {:.0} hosts a second",
            all[0],
            all[all.len() - 1],
            f64::from(u32::try_from(hosts)?) / median
        );
    }
    Ok(())
}

/// A year of entries that came and went, and who could log in on one of its days.
fn sightings(number: usize, folder: &Path) -> Measured<()> {
    let (server, lines) = (server()?, lines()?);
    let url = fresh(&server, "year")?;
    let own = register(folder, "year", Some(&url))?;
    write(&own, 0..HOSTS, NOW - 400 * 86_400, &lines);
    let sql = format!(
        "INSERT INTO lavrin.sighting (host, account, key, comment, first, gone)
         SELECT 'buoy' || (n % {HOSTS}), 'keeper' || (n % 50), 'SHA256:' || rtrim(encode(sha256(n::text::bytea), 'base64'), '='), 'of the year',
           {NOW} - 86400 * (n % 365) - 86400, {NOW} - 86400 * (n % 365) FROM generate_series(1, {number}) AS n; ANALYZE lavrin.sighting"
    );
    let begun = Instant::now();
    server.run("year", &sql)?;
    println!("{number} entries that came and went were made in {:.0} s", begun.elapsed().as_secs_f64());
    println!("{}", own.display());
    println!("the server goes on until this is ended");
    let mut line = String::new();
    std::io::stdin().read_line(&mut line)?;
    Ok(())
}
