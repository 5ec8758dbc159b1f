//! `lavrin demo --office`: three people and two collectors share one memory, in a PostgreSQL that lives as long as the demo.

use super::{DemoHosts, DemoStage, PASSPHRASE};
use crate::error::CommandError;
use crate::exit::Exit;
use lavrin_standin::DatabaseServer;
use std::path::Path;

/// Whoever has a desk with a copy of the register, and the role of their login.
const DESKS: [(&str, &str); 4] = [
    ("edda", "lavrin_administrator"),
    ("liv", "lavrin_administrator"),
    ("gull", "lavrin_collector"),
    ("tern", "lavrin_collector"),
];

const DATABASE: &str = "halvmark";

impl DemoStage<'_> {
    /// Plays it.
    pub(super) fn play_office(&self, hosts: &mut DemoHosts<'_>) -> Result<Exit, CommandError> {
        let server = start()?;
        // What the demo without this shows stands there already.
        self.is_shown.set(false);
        self.one_server()?;
        self.keep_a_register()?;
        self.survey_the_lighthouses(hosts)?;
        self.is_shown.set(true);
        self.set_up(&server)?;
        self.join()?;
        self.share_the_work()?;
        self.change_from_another_desk()?;
        Ok(Exit::Done)
    }

    /// The database, and the memory in it.
    fn set_up(&self, server: &DatabaseServer) -> Result<(), CommandError> {
        self.say("1. One memory for an office");
        self.say("Edda looked after the lights alone; what she saw and did lies in a file on her desk");
        self.expect(0, "lavrin store show --register ~/halvmark")?;
        self.say("Now Liv helps, and the islands north and south are reached from a machine of their own. The database of the office gets a store:\nwhoever runs it makes one, and gives each login a role");
        run(server, "postgres", &format!("CREATE DATABASE {DATABASE}"))?;
        self.expect(0, &format!("lavrin store set-up {}", server.url("postgres", DATABASE)))?;
        for (login, role) in DESKS {
            let sql = format!("CREATE ROLE {login} LOGIN IN ROLE {role}");
            self.say_sql(&sql);
            run(server, DATABASE, &sql)?;
        }
        self.say("The memory moves, and both sides are held against each other");
        self.expect(0, "lavrin host set kvarnholm --site north --register ~/halvmark")?;
        self.expect(0, "lavrin host set skerry --site south --register ~/halvmark")?;
        self.expect(0, "lavrin grant edda keeper --host skerry --until 2099-12-31 --register ~/halvmark")?;
        self.expect(0, &format!("lavrin store move {} --yes --register ~/halvmark", server.url("edda", DATABASE)))
    }

    /// Colleagues have a copy of the register from version control.
    fn join(&self) -> Result<(), CommandError> {
        self.say("2. Colleagues join");
        for (login, _) in DESKS.into_iter().filter(|(login, _)| *login != "edda") {
            self.copy_register(login)?;
        }
        self.say("Liv has a copy of the register. An address in it counts only once she has agreed to it: it could come from anybody's pull request");
        self.expect(4, "lavrin history kvarnholm --register ~/liv")?;
        self.expect(0, "lavrin store join --yes --register ~/liv")?;
        self.expect(0, "lavrin history kvarnholm --register ~/liv")
    }

    /// Collectors take what is due.
    fn share_the_work(&self) -> Result<(), CommandError> {
        let key = format!("--identity ~/.ssh/edda --passphrase-env {PASSPHRASE}");
        self.say("3. Collectors share the work");
        self.say("Each takes hosts that are due and that it reaches; no host is looked at twice. With --every 6h they go on for ever");
        for (login, site) in [("gull", "north"), ("tern", "south")] {
            self.expect(0, &format!("lavrin store join --yes --register ~/{login}"))?;
            self.expect(0, &format!("lavrin survey --collect --site {site} {key} --register ~/{login}"))?;
        }
        self.say("From her desk Edda asks for a fresh look at a host that only tern reaches");
        self.expect(0, "lavrin survey skerry --ask --register ~/halvmark")?;
        self.expect(0, &format!("lavrin survey --collect --site south {key} --register ~/tern"))?;
        self.say("A collector adds what it sees and nothing else: its login changes no host");
        self.expect(4, &format!("lavrin enforce skerry --yes {key} --register ~/gull"))
    }

    /// What one does the others know.
    fn change_from_another_desk(&self) -> Result<(), CommandError> {
        let key = format!("--identity ~/.ssh/edda --passphrase-env {PASSPHRASE}");
        self.say("4. What one does, the others know");
        self.expect(
            0,
            &format!("lavrin enforce skerry --yes --reason 'Edda looks after skerry' {key} --register ~/liv"),
        )?;
        self.expect(0, "lavrin history --register ~/halvmark")?;
        self.say("Nobody rewrites the journal: each line holds the hash of the one before it");
        self.expect(0, "lavrin store check --register ~/halvmark")
    }

    fn say_sql(&self, sql: &str) {
        self.ui.result(&format!("{} {sql};", self.ui.paint(crate::ui::Label::Good, "halvmark=#")));
    }

    /// As version control brings it: without what lies beside it on the desk, and with the login of whoever sits there.
    fn copy_register(&self, login: &str) -> Result<(), CommandError> {
        let (from, to) = (self.home.join("halvmark"), self.home.join(login));
        let copied = copy(&from, &to).and_then(|()| {
            let main = to.join("lavrin.toml");
            let text = std::fs::read_to_string(&main)?;
            std::fs::write(&main, text.replace("postgresql://edda@", &format!("postgresql://{login}@")))
        });
        copied.map_err(|error| CommandError::file(&to, "write", &error))
    }
}

fn copy(from: &Path, to: &Path) -> std::io::Result<()> {
    std::fs::create_dir_all(to)?;
    for entry in std::fs::read_dir(from)? {
        let entry = entry?;
        let target = to.join(entry.file_name());
        if entry.file_type()?.is_file() {
            std::fs::copy(entry.path(), target)?;
        } else if entry.file_name() != lavrin_store::database::FOLDER {
            copy(&entry.path(), &target)?;
        }
    }
    Ok(())
}

fn start() -> Result<DatabaseServer, CommandError> {
    DatabaseServer::start(&[]).map_err(|error| match error.kind() {
        std::io::ErrorKind::NotFound => {
            CommandError::with(Exit::NotChecked, "no PostgreSQL (15 or later) is installed on this machine")
                .hint("on Debian: apt install postgresql; then: lavrin demo --office")
        }
        _ => CommandError::with(Exit::NotChecked, "the PostgreSQL of the demo could not be started")
            .because(lavrin_keys::text::printable(error.to_string().as_bytes())),
    })
}

fn run(server: &DatabaseServer, database: &str, sql: &str) -> Result<(), CommandError> {
    let said = |error: std::io::Error| {
        CommandError::with(Exit::NotChecked, "the PostgreSQL of the demo did not do what was asked")
            .because(lavrin_keys::text::printable(error.to_string().as_bytes()))
    };
    server.run(database, sql).map(drop).map_err(said)
}
