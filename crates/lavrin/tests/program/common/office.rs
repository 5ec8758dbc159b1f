//! A register whose memory lies in a real PostgreSQL, and desks of several people with copies of it.

use super::Run;
use super::fleet::Fleet;
use lavrin_standin::DatabaseServer;
use std::path::Path;

/// What a copy of a register consists of.
const COPIED: [&str; 4] = ["lavrin.toml", "access.toml", "people", "hosts"];

/// An office: its hosts, its database, its first register.
pub struct Office {
    pub fleet: Fleet,
    pub server: DatabaseServer,
}

impl Office {
    /// With a store that was set up, and nothing in it; edda and sten are administrators, gull and tern collectors, and there is an
    /// auditor.
    pub fn of(fleet: Fleet) -> Self {
        let server = DatabaseServer::start(&[]).expect("PostgreSQL is installed");
        server.run("postgres", "CREATE DATABASE lights").unwrap();
        let office = Self { fleet, server };
        let set_up = office.fleet.run(&format!("store set-up {}", office.url("postgres"))).expect(0);
        assert!(set_up.stdout.contains("the store is there, form 1"), "{set_up}");
        let roles =
            "CREATE ROLE edda LOGIN IN ROLE lavrin_administrator; CREATE ROLE sten LOGIN IN ROLE lavrin_administrator;
            CREATE ROLE gull LOGIN IN ROLE lavrin_collector; CREATE ROLE tern LOGIN IN ROLE lavrin_collector;
            CREATE ROLE auditor LOGIN IN ROLE lavrin_reader";
        office.server.run("lights", roles).unwrap();
        office
    }

    /// The same; the register's memory is in it already.
    pub fn moved(fleet: Fleet) -> Self {
        let office = Self::of(fleet);
        let _ = office.fleet.run("survey --script").expect(0);
        // Something has to be there to be moved.
        let _ = office.fleet.survey("").expect(0);
        let _ = office.fleet.run(&format!("store move {} --yes", office.url("edda"))).expect(0);
        office
    }

    pub fn url(&self, login: &str) -> String {
        self.server.url(login, "lights")
    }

    /// A copy of the register on somebody's desk, who signs in to the database under that name; nobody has agreed to it there yet.
    pub fn copy(&self, login: &str) {
        let (from, to) = (self.fleet.world.path(""), self.fleet.world.path(login));
        std::fs::create_dir_all(&to).unwrap();
        for name in COPIED {
            copy(&from.join(name), &to.join(name));
        }
        let text = std::fs::read_to_string(to.join("lavrin.toml")).unwrap();
        std::fs::write(to.join("lavrin.toml"), text.replace("postgresql://edda@", &format!("postgresql://{login}@")))
            .unwrap();
    }

    /// A desk that has agreed.
    pub fn desk(&self, login: &str) {
        self.copy(login);
        let _ = self.at(login, "store join --yes").expect(0);
    }

    /// Runs a line at somebody's desk.
    pub fn at(&self, login: &str, line: &str) -> Run {
        self.fleet.run(&format!("{line} --register {login}"))
    }

    /// The same at another moment.
    pub fn at_time(&self, login: &str, time: &str, line: &str) -> Run {
        let line = format!("{line} --register {login}");
        self.fleet.world.run_with(&[("LAVRIN_NOW", time)], &line.split_whitespace().collect::<Vec<_>>())
    }
}

fn copy(from: &Path, to: &Path) {
    if from.is_dir() {
        std::fs::create_dir_all(to).unwrap();
        for entry in std::fs::read_dir(from).unwrap().flatten() {
            copy(&entry.path(), &to.join(entry.file_name()));
        }
    } else if from.exists() {
        std::fs::copy(from, to).unwrap();
    }
}
