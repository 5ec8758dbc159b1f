//! `lavrin host import`: take over hosts from what an administrator has already.

use super::FILE;
use crate::command::register::{RegisterArgs, change_file, edit_fault};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use crate::{input, paths};
use clap::{Args, ValueEnum};
use lavrin_fleet::register::edit::{HostField, add_host};
use lavrin_fleet::register::is_id;
use lavrin_keys::text::count;
use std::path::PathBuf;

/// Import hosts from a client configuration, a hosts file or a table
#[derive(Debug, Args)]
pub struct ImportArgs {
    /// The file; - for standard input
    #[arg(value_name = "FILE", value_parser = paths::typed)]
    pub file: PathBuf,
    /// What it is
    #[arg(long, value_name = "SOURCE")]
    pub source: ListSource,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Forms of lists of hosts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum ListSource {
    /// The configuration of OpenSSH's client
    Client,
    /// Lines as in /etc/hosts
    Hosts,
    /// A table with a first line of names: name, address, port, login, site, tags, through
    Csv,
}

/// A host that was found.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
struct FoundHost {
    id: String,
    address: String,
    port: Option<i64>,
    login: String,
    site: String,
    through: String,
    tags: Vec<String>,
}

/// Runs the command.
pub fn run(args: &ImportArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open()?;
    let bytes = input::bytes(&args.file)?;
    let text = String::from_utf8_lossy(&bytes);
    let found = match args.source {
        ListSource::Client => client(&text),
        ListSource::Hosts => hosts(&text),
        ListSource::Csv => csv(&text)?,
    };
    let known = &opened.reading.register.hosts;
    let (mut new, mut there) = (opened.text(FILE).unwrap_or_default().to_owned(), 0);
    let mut taken = std::collections::BTreeSet::new();
    for host in &found {
        if known.contains_key(&host.id) || !taken.insert(&host.id) {
            there += 1;
        } else if is_id(&host.id) {
            new = add_host(&new, &host.id, &fields(host)).map_err(edit_fault(FILE))?;
        } else {
            taken.remove(&host.id);
            ui.warn(&format!("left out: '{}' cannot be a name here", lavrin_keys::text::printable(host.id.as_bytes())));
        }
    }
    if there > 0 {
        ui.status(&format!("{} in the register already", count(there, "host is", "hosts are")));
    }
    if taken.is_empty() {
        ui.result("No new host was found.");
        return Ok(Exit::Done);
    }
    change_file(&opened, ui, FILE, &new)?;
    ui.status(&format!(
        "{} taken over; their keys are not pinned yet: lavrin host trust HOST",
        count(taken.len(), "host", "hosts")
    ));
    Ok(Exit::Done)
}

fn fields(host: &FoundHost) -> Vec<(&'static str, HostField<'_>)> {
    let mut fields = vec![("address", HostField::Text(&host.address))];
    fields.extend(host.port.map(|port| ("port", HostField::Number(port))));
    for (name, value) in [("login", &host.login), ("site", &host.site), ("through", &host.through)] {
        if !value.is_empty() {
            fields.push((name, HostField::Text(value)));
        }
    }
    fields.extend((!host.tags.is_empty()).then_some(("tags", HostField::List(&host.tags))));
    fields
}

/// `Host`, `HostName`, `Port`, `User`, `ProxyJump` (`ssh_config(5)`). Patterns are no hosts.
fn client(text: &str) -> Vec<FoundHost> {
    let mut found: Vec<FoundHost> = Vec::new();
    let mut open: std::ops::Range<usize> = 0..0;
    for line in text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#')) {
        let end = line.find([' ', '\t', '=']).unwrap_or(line.len());
        let value = line[end..].trim_start_matches([' ', '\t', '=']).trim_matches('"');
        match line[..end].to_ascii_lowercase().as_str() {
            "host" => {
                let start = found.len();
                let names = value.split_whitespace().filter(|name| !name.contains(['*', '?', '!']));
                found.extend(names.map(|name| FoundHost {
                    id: name.to_ascii_lowercase(),
                    address: name.to_owned(),
                    ..FoundHost::default()
                }));
                open = start..found.len();
            }
            "match" => open = 0..0,
            keyword => {
                for host in &mut found[open.clone()] {
                    match keyword {
                        "hostname" => host.address = value.replace("%h", &host.id),
                        "port" => host.port = value.parse().ok().filter(|port| *port != 22),
                        "user" => value.clone_into(&mut host.login),
                        "proxyjump" if !value.contains(',') && value != "none" => {
                            let jump = value.rsplit('@').next().unwrap_or(value);
                            jump.split(':').next().unwrap_or(jump).clone_into(&mut host.through);
                        }
                        _ => {}
                    }
                }
            }
        }
    }
    found
}

/// An address and names for it; this machine's own and those for many are left out.
fn hosts(text: &str) -> Vec<FoundHost> {
    let line = |line: &str| {
        let mut words = line.split('#').next().unwrap_or_default().split_whitespace();
        let address: std::net::IpAddr = words.next()?.parse().ok()?;
        let name = words.next()?;
        let own = address.is_loopback() || address.is_multicast() || address.is_unspecified();
        (!own).then(|| FoundHost {
            id: name.to_ascii_lowercase(),
            address: address.to_string(),
            ..FoundHost::default()
        })
    };
    text.lines().filter_map(line).collect()
}

/// A table (RFC 4180) whose first line names the columns.
fn csv(text: &str) -> Result<Vec<FoundHost>, CommandError> {
    let mut rows = csv_rows(text).into_iter();
    let head: Vec<String> =
        rows.next().unwrap_or_default().iter().map(|name| name.trim().to_ascii_lowercase()).collect();
    let column = |name: &str| head.iter().position(|column| column == name);
    let Some(name) = column("name") else {
        return Err(CommandError::usage("the first line names no column 'name'")
            .hint("name,address,port,login,site,tags,through"));
    };
    let found = rows.filter(|row| row.get(name).is_some_and(|id| !id.trim().is_empty())).map(|row| {
        let value = |name: &str| {
            column(name).and_then(|at| row.get(at)).map(|value| value.trim().to_owned()).unwrap_or_default()
        };
        let id = value("name").to_ascii_lowercase();
        let address = value("address");
        FoundHost {
            address: if address.is_empty() { id.clone() } else { address },
            port: value("port").parse().ok(),
            login: value("login"),
            site: value("site"),
            through: value("through"),
            tags: value("tags").split([' ', ';']).filter(|tag| !tag.is_empty()).map(str::to_owned).collect(),
            id,
        }
    });
    Ok(found.collect())
}

fn csv_rows(text: &str) -> Vec<Vec<String>> {
    let (mut rows, mut row, mut field, mut quoted) = (Vec::new(), Vec::new(), String::new(), false);
    let mut characters = text.chars().peekable();
    while let Some(character) = characters.next() {
        match character {
            '"' if quoted && characters.peek() == Some(&'"') => field.extend(characters.next()),
            '"' => quoted = !quoted,
            ',' if !quoted => row.push(std::mem::take(&mut field)),
            '\n' if !quoted => {
                row.push(std::mem::take(&mut field));
                rows.push(std::mem::take(&mut row));
            }
            '\r' if !quoted => {}
            other => field.push(other),
        }
    }
    if !field.is_empty() || !row.is_empty() {
        row.push(field);
        rows.push(row);
    }
    rows
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_client_configuration_gives_its_hosts() {
        let found = client(
            "Host *\nUser nobody\nHost lantern pier-?\n  HostName 192.0.2.7\n  Port=2222\n  User keeper\nProxyJump edda@office:22\nMatch all\nPort 9\n",
        );
        assert_eq!(found.len(), 1);
        assert_eq!(
            (found[0].id.as_str(), found[0].address.as_str(), found[0].port),
            ("lantern", "192.0.2.7", Some(2222))
        );
        assert_eq!((found[0].login.as_str(), found[0].through.as_str()), ("keeper", "office"));
    }

    #[test]
    fn addresses_and_tables_give_their_hosts() {
        let found = hosts("127.0.0.1 localhost\n192.0.2.7 lantern lantern.example # lamp\nff02::1 all\nwords\n");
        assert_eq!(found.iter().map(|host| host.id.as_str()).collect::<Vec<_>>(), ["lantern"]);
        let found = csv("Name,Site,tags,port\nlantern,\"Kvarnholm, north\",lights;north,2222\n,x,,\n").unwrap();
        assert_eq!(found.len(), 1);
        assert_eq!((found[0].site.as_str(), found[0].tags.len(), found[0].port), ("Kvarnholm, north", 2, Some(2222)));
        assert!(csv("address\n192.0.2.7\n").is_err());
    }
}
