//! `lavrin demo`: the whole job, chapter by chapter, against small stand-in servers on this machine. Each command is shown as
//! a person would type it, and run for real by this very program.

mod hosts;
mod office;

use crate::error::CommandError;
use crate::exit::Exit;
use crate::paths;
use crate::ui::{Label, Ui};
use clap::Args;
use hosts::{DemoHosts, FirstKeys};
use lavrin_keys::text::shell_word;
use lavrin_standin::{CONSOLE_PROFILE, StandIn};
use std::cell::Cell;
use std::io::IsTerminal as _;
use std::path::Path;
use std::process::{Command, Stdio};

/// The whole job, chapter by chapter, against small stand-in servers on this machine
#[derive(Debug, Args)]
pub struct DemoArgs {
    /// Do not stop after each chapter
    #[arg(long)]
    pub through: bool,
    /// Three people and two collectors with one memory; needs PostgreSQL
    #[arg(long, conflicts_with = "keep")]
    pub office: bool,
    /// Leave the stand-in server running, and print how to use it
    #[arg(long)]
    pub keep: bool,
}

/// The passphrase of the demo's key lies in a variable of this name, the first password in another.
const PASSPHRASE: &str = "TIDE";
const PASSWORD: &str = "FIRST_PASSWORD";

/// Runs the command.
pub fn run(args: &DemoArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let failed =
        |what: &str, error: &dyn std::fmt::Display| CommandError::with(Exit::NotChecked, format!("{what}: {error}"));
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build();
    let runtime = runtime.map_err(|error| failed("no threads could be started", &error))?;
    let stand_in = runtime.block_on(StandIn::harbour_office()).map_err(|error| failed("the demo", &error))?;
    let home = tempfile::Builder::new().prefix("lavrin-home-").tempdir().map_err(|error| failed("the demo", &error))?;
    let stops = !args.through && std::io::stdin().is_terminal() && std::io::stdout().is_terminal();
    let stage = DemoStage { ui, stand_in: &stand_in, home: home.path(), is_shown: Cell::new(true) };
    let mut hosts = DemoHosts::new(&runtime);
    let outcome = if args.office { stage.play_office(&mut hosts) } else { stage.play(&mut hosts, stops) };
    if args.keep {
        runtime.block_on(stage.wait(&hosts));
    }
    drop((hosts, stand_in));
    ui.result(&format!("\n{}", ui.paint(Label::Faint, "The stand-in, its tree and the demo's home are gone again.")));
    outcome
}

/// What the demo plays on.
struct DemoStage<'a> {
    ui: &'a Ui,
    stand_in: &'a StandIn,
    home: &'a Path,
    /// Whether what happens is shown: chapters that are jumped over are played all the same, since later ones build on them.
    is_shown: Cell<bool>,
}

/// A chapter: its title, and what happens in it.
type Chapter = (&'static str, fn(&DemoStage<'_>, &mut DemoHosts<'_>) -> Result<(), CommandError>);

/// They follow the day of the work.
const CHAPTERS: [Chapter; 8] = [
    ("One server", |stage, _| stage.one_server()),
    ("A handful of servers", |stage, hosts| stage.a_handful(hosts)),
    ("Devices", |stage, hosts| stage.look_after_devices(hosts)),
    ("Somebody joins", |stage, _| stage.somebody_joins()),
    ("A key is replaced", |stage, hosts| stage.replace_a_key(hosts)),
    ("Passwords end", |stage, hosts| stage.end_passwords(hosts)),
    ("Somebody leaves", |stage, _| stage.somebody_leaves().and_then(|()| stage.edda_moves_on())),
    ("The report", |stage, _| stage.report()),
];

impl DemoStage<'_> {
    fn play(&self, hosts: &mut DemoHosts<'_>, stops: bool) -> Result<Exit, CommandError> {
        if stops {
            self.contents();
        }
        let mut shown_from = 0;
        for (number, (title, chapter)) in CHAPTERS.iter().enumerate() {
            self.is_shown.set(number >= shown_from);
            if number < shown_from {
                // It takes a while all the same.
                self.ui.show(&format!("  {}  {title} …", number + 1));
            }
            self.say(&format!("{}. {title}", number + 1));
            chapter(self, hosts)?;
            if !stops || number < shown_from || number + 1 == CHAPTERS.len() {
                continue;
            }
            match self.ask(number + 1)? {
                Some(next) => shown_from = next,
                None => return Ok(Exit::Done),
            }
        }
        Ok(Exit::Done)
    }

    fn contents(&self) {
        self.ui.show("The chapters:");
        for (number, (title, _)) in CHAPTERS.iter().enumerate() {
            self.ui.show(&format!("  {}  {title}", number + 1));
        }
    }

    /// From which chapter on to show; none: it ends here. `done` chapters are over.
    fn ask(&self, done: usize) -> Result<Option<usize>, CommandError> {
        loop {
            let question = format!("Enter goes on with chapter {}, a number jumps to that one, q ends:", done + 1);
            let Some(answer) = self.ui.ask(&question)? else { return Ok(None) };
            match (answer.as_str(), answer.parse::<usize>()) {
                ("", _) => return Ok(Some(done)),
                ("q", _) => return Ok(None),
                (_, Ok(number)) if number > done && number <= CHAPTERS.len() => {
                    if number > done + 1 {
                        self.ui.show("What comes before is done without being shown: it is built upon.");
                    }
                    return Ok(Some(number - 1));
                }
                (_, Ok(number)) if (1..=done).contains(&number) => self.ui.show("That chapter is over."),
                _ => self.contents(),
            }
        }
    }

    /// From nothing to a key that works, on a server that one has a password for.
    fn one_server(&self) -> Result<(), CommandError> {
        let reach = format!("--port {}", self.stand_in.address().port());
        let with_key = format!("{reach} --identity ~/.ssh/edda --passphrase-env {PASSPHRASE}");
        self.say("The harbour office of the Halvmark islands has a server. Edda is new there and has a password, but no key. She makes a pair,\nprotected by a passphrase");
        self.expect(
            0,
            &format!("lavrin key generate --name edda --comment 'edda, harbour office' --passphrase-env {PASSPHRASE}"),
        )?;
        self.say("What is in these files?");
        self.expect(0, "lavrin key inspect ~/.ssh/edda ~/.ssh/edda.pub")?;
        self.say("The public half goes to the server: a preview first, then the change, proven by a new login");
        let install = format!("lavrin install ~/.ssh/edda.pub edda@127.0.0.1 {reach} --password-env {PASSWORD}");
        self.expect(0, &format!("{install} --expect-host-key {} --preview", self.stand_in.host_key()))?;
        self.expect(0, &format!("{install} --passphrase-env {PASSPHRASE} --yes"))?;
        self.say("Does this key open Sten's account too? And why does Sten's own key not work?");
        self.expect(1, &format!("lavrin why sten@127.0.0.1 --login edda --key ~/.ssh/edda.pub {with_key}"))?;
        self.put_stens_key()?;
        self.expect(1, &format!("lavrin why sten@127.0.0.1 --login edda --key ~/.ssh/sten.pub {with_key}"))?;
        self.say("All accounts of the server at once");
        self.expect(1, &format!("lavrin audit 127.0.0.1 --login edda {with_key}"))
    }

    /// A register, and the servers that match it.
    fn a_handful(&self, hosts: &mut DemoHosts<'_>) -> Result<(), CommandError> {
        self.keep_a_register()?;
        self.survey_the_lighthouses(hosts)?;
        self.bring_into_line()
    }

    /// Somebody new proves their key, and gets access with it; and a key that several people use is kept by the office.
    fn somebody_joins(&self) -> Result<(), CommandError> {
        let there = "--register ~/halvmark";
        let sign_in = format!("--identity ~/.ssh/edda --passphrase-env {PASSPHRASE}");
        self.say("Tove is new. She makes a pair on her own machine and sends a request: her public half, and the proof that she has the other one");
        self.expect(0, "lavrin key generate --name tove --comment 'tove, tide readings' --passphrase none")?;
        self.expect(
            0,
            "lavrin person request tove --name 'Tove Rask' --what-for 'tide readings' --challenge 'low water 7' --identity ~/.ssh/tove --out ~/tove-request.txt",
        )?;
        self.say("Edda reads it, calls Tove, and both have the same words before them");
        self.expect(
            0,
            &format!(
                "lavrin person add --request ~/tove-request.txt --challenge 'low water 7' --team lights --yes {there}"
            ),
        )?;
        self.expect(0, &format!("lavrin grant tove keeper --host kvarnholm --until 2099-06-30 {there}"))?;
        self.expect(0, &format!("lavrin enforce kvarnholm --yes --reason 'Tove joins' {sign_in} {there}"))?;
        self.say("What Tove's client has to know");
        self.expect(0, &format!("lavrin shortcuts tove --identity ~/.ssh/tove {there}"))?;
        self.keep_a_key()
    }

    /// One who moves on takes her own key away last.
    fn edda_moves_on(&self) -> Result<(), CommandError> {
        let reach = format!("--port {}", self.stand_in.address().port());
        let with_key = format!("{reach} --identity ~/.ssh/edda --passphrase-env {PASSPHRASE}");
        self.say("Edda moves on, and her key is removed. A login with that same key may not do it, though");
        self.expect(4, &format!("lavrin remove ~/.ssh/edda.pub edda@127.0.0.1 {with_key} --yes"))?;
        self.expect(
            0,
            &format!("lavrin remove ~/.ssh/edda.pub edda@127.0.0.1 {reach} --password-env {PASSWORD} --yes"),
        )?;
        self.expect(1, &format!("lavrin probe ~/.ssh/edda.pub edda@127.0.0.1 {reach}"))
    }

    /// A private key lies on the office's server, and opens a buoy.
    fn look_for_ways(&self) -> Result<(), CommandError> {
        let (there, key) = ("--register ~/halvmark", format!("--identity ~/.ssh/edda --passphrase-env {PASSPHRASE}"));
        self.say(
            "A private key was left on the server of the office. What else is lost if that server is? And which entry has to go?",
        );
        self.expect(0, &format!("lavrin survey office {key} {there}"))?;
        self.expect(1, &format!("lavrin paths office buoys --cut {there}"))
    }

    /// The page to look at. It stays where it is when the demo is over.
    fn report(&self) -> Result<(), CommandError> {
        self.say("Who gets in where, on one page, as it would be shown to an auditor");
        let folder = tempfile::Builder::new().prefix("lavrin-demo-report-").tempdir();
        let folder = folder.map_err(|error| CommandError::usage(error.to_string()))?.keep();
        let page = folder.join("halvmark.html");
        self.expect(1, "lavrin matrix --register ~/halvmark")?;
        let typed = format!("lavrin report --out {} --register ~/halvmark", shell_word(&page.to_string_lossy()));
        self.expect(0, &typed)?;
        self.ui.result(&format!("The report stays: open {} in a browser", paths::shown(&page)));
        Ok(())
    }

    /// What should be: people, keys, hosts and grants as files.
    fn keep_a_register(&self) -> Result<(), CommandError> {
        let there = "--register ~/halvmark";
        self.say("Who should be able to log in where? A register says so, as text files for version control");
        self.expect(0, "lavrin register begin ~/halvmark --name 'Halvmark lights'")?;
        self.expect(
            0,
            &format!("lavrin person add edda --name 'Edda Holm' --team office --key ~/.ssh/edda.pub {there}"),
        )?;
        self.expect(
            0,
            &format!("lavrin person add sten --name 'Sten Åkre' --team lights --key ~/.ssh/sten.pub {there}"),
        )?;
        let port = self.stand_in.address().port();
        let address = format!("--address 127.0.0.1 --port {port}");
        self.expect(
            0,
            &format!(
                "lavrin host add office {address} --tag office --account edda --account sten --login edda {there}"
            ),
        )?;
        self.expect(0, &format!("lavrin host trust office --expect-host-key {} {there}", self.stand_in.host_key()))?;
        self.expect(0, &format!("lavrin grant edda edda --host office --until 2099-12-31 {there}"))?;
        self.expect(1, &format!("lavrin register check {there}"))?;
        self.expect(0, &format!("lavrin grant sten sten --host office {there}"))?;
        self.expect(0, &format!("lavrin register check {there}"))?;
        self.expect(0, &format!("lavrin person show edda {there}"))
    }

    /// What really is, on many hosts at once, beside what should be.
    fn survey_the_lighthouses(&self, hosts: &mut DemoHosts<'_>) -> Result<(), CommandError> {
        let (there, key) = ("--register ~/halvmark", format!("--identity ~/.ssh/edda --passphrase-env {PASSPHRASE}"));
        self.say("The lighthouses were looked after by hand for years. Which keys are there, and whose are they?");
        hosts.light_the_lamps(&self.first_keys()?)?;
        for name in ["kvarnholm", "skerry"] {
            let address = hosts.address(name);
            self.expect(
                0,
                &format!("lavrin host add {name} {address} --tag lights --login root --account keeper {there}"),
            )?;
            self.trust(name, hosts)?;
        }
        self.expect(0, &format!("lavrin grant edda root --host '*' {there}"))?;
        self.expect(0, &format!("lavrin survey lights {key} {there}"))?;
        self.expect(1, &format!("lavrin audit lights {there}"))?;
        self.say("One of these keys has a comment that says whose it is: it is adopted. The other stays unknown, and is left in place");
        self.expect(1, &format!("lavrin register adopt lights --take-proposals {there}"))?;
        self.expect(1, &format!("lavrin audit lights {there}"))?;
        self.expect(0, &format!("lavrin host show kvarnholm {there}"))?;
        self.say("A lamp is replaced, and somebody adds a key by hand. Who could log in before, and who came?");
        hosts.add_by_hand().map_err(|error| CommandError::usage(error.to_string()))?;
        self.expect(0, &format!("lavrin survey lights {key} {there}"))?;
        self.expect(0, &format!("lavrin history skerry {there}"))?;
        Ok(())
    }

    /// The lighthouses are made to match the register.
    fn bring_into_line(&self) -> Result<(), CommandError> {
        let there = format!("--identity ~/.ssh/edda --passphrase-env {PASSPHRASE} --register ~/halvmark");
        self.say("What differs between the register and the hosts?");
        self.expect(0, "lavrin grant edda keeper --tag lights --register ~/halvmark")?;
        self.expect(0, "lavrin grant sten keeper --tag lights --register ~/halvmark")?;
        self.expect(1, "lavrin compare lights --register ~/halvmark")?;
        self.say(
            "The hosts are changed to match the register: account by account, each proven by a new login and by asking from outside",
        );
        self.expect(0, &format!("lavrin enforce lights --yes --reason 'the register is in force' {there}"))?;
        self.expect(1, "lavrin compare lights --register ~/halvmark")
    }

    /// A key is replaced; one lighthouse is off at first.
    fn replace_a_key(&self, hosts: &DemoHosts<'_>) -> Result<(), CommandError> {
        let there = format!("--identity ~/.ssh/edda --passphrase-env {PASSPHRASE} --register ~/halvmark");
        self.say(
            "Sten has a new key. It is put beside the old one, proven, and only then the old one goes. Skerry is off at first. In the office\nthe change would make an old entry active again that nobody granted, so that account is left as it is",
        );
        self.expect(0, "lavrin key generate --name sten-2 --comment 'sten, his new boat' --passphrase none")?;
        self.expect(0, "lavrin host set skerry --port 1 --register ~/halvmark")?;
        self.expect(4, &format!("lavrin rotate sten --from-file ~/.ssh/sten-2.pub --yes {there}"))?;
        let port = hosts.port("skerry");
        self.expect(0, &format!("lavrin host set skerry --port {port} --register ~/halvmark"))?;
        self.expect(4, &format!("lavrin rotate sten --yes {there}"))?;
        self.expect(1, "lavrin rotate --status --register ~/halvmark")
    }

    /// An account that several people use has a key that the office keeps.
    fn keep_a_key(&self) -> Result<(), CommandError> {
        let (there, open) = ("--register ~/halvmark", format!("--passphrase-env {PASSPHRASE}"));
        let sign_in = format!("--identity ~/.ssh/edda {open}");
        self.say(
            "The keeper's account of Kvarnholm is used by several people. The office keeps a key for it, sealed for Edda and Runa, and hands it\nout to Runa for a night",
        );
        self.expect(0, &format!("lavrin kept seal --administrators edda,runa --yes {there}"))?;
        self.expect(0, &format!("lavrin kept make keeper@kvarnholm --yes {sign_in} {there}"))?;
        self.expect(
            0,
            &format!(
                "lavrin kept hand-out keeper@kvarnholm --to ~/lamp-key --person runa --reason 'the lamp is out' {open} {there}"
            ),
        )?;
        self.expect(0, &format!("lavrin kept list {there}"))
    }

    /// A lighthouse takes keys only: its line is lost in the middle, and it puts its settings back itself.
    fn end_passwords(&self, hosts: &mut DemoHosts<'_>) -> Result<(), CommandError> {
        if !lavrin_standin::can_be_roots() {
            self.say("On the lighthouse of Ytterskar passwords would end here. That needs root's rights in the stand-in, which this system does not give: try it as root");
            return Ok(());
        }
        let there = format!("--identity ~/.ssh/edda --passphrase-env {PASSPHRASE} --register ~/halvmark");
        self.say(
            "The lighthouse of Ytterskar still takes passwords. It is told to take keys only. The first time its line is lost once the settings are\nchanged: nobody proves them, so the host itself puts them back. The second time they are proven, and stay",
        );
        hosts.light_ytterskar(&self.first_keys()?)?;
        let address = hosts.address("ytterskar");
        self.expect(
            0,
            &format!("lavrin host add ytterskar {address} --tag lights --login root --register ~/halvmark"),
        )?;
        self.trust("ytterskar", hosts)?;
        self.expect(5, &format!("lavrin keys-only ytterskar --heal-after 10 --yes {there}"))?;
        hosts.wait_until_healed()?;
        self.expect(0, &format!("lavrin survey ytterskar {there}"))?;
        self.expect(1, "lavrin keys-only ytterskar --status --register ~/halvmark")?;
        self.expect(0, &format!("lavrin keys-only ytterskar --heal-after 10 --yes {there}"))?;
        self.expect(0, "lavrin history ytterskar --register ~/halvmark")
    }

    /// Hosts without a shell: NETCONF, the public key subsystem, nothing but files, a console. The same commands serve them.
    fn look_after_devices(&self, hosts: &mut DemoHosts<'_>) -> Result<(), CommandError> {
        let (there, key) = ("--register ~/halvmark", format!("--identity ~/.ssh/edda --passphrase-env {PASSPHRASE}"));
        self.say(
            "Hosts differ. Buoy 7 has a shell and forgets what its overlay is not told to save; others have no shell at all. The lighthouse of\nGrindholm has a router that is spoken to over NETCONF, buoy 4 takes keys over the public key subsystem, the archive of tide readings gives\nnothing but files, and the fog signal has a console of its own: how to work on it stands in ~/halvmark/profiles/fog-signal.toml. The same commands look after them",
        );
        hosts.start_the_devices(&self.first_keys()?, &self.stray_key()?)?;
        self.write_profile()?;
        for (name, more) in [
            ("grindholm", "--reach netconf --tag lights --login root"),
            ("buoy-4", "--reach publickey-subsystem --tag buoys --login keeper"),
            ("tide-archive", "--reach sftp --tag buoys --login keeper"),
            ("buoy-7", "--tag buoys --login root"),
            ("horn-2", "--reach dialogue --profile fog-signal --tag buoys --login keeper"),
        ] {
            let address = hosts.address(name);
            self.expect(0, &format!("lavrin host add {name} {address} {more} --account keeper {there}"))?;
            if name == "buoy-7" {
                self.say_after_change()?;
            }
            self.trust(name, hosts)?;
        }
        self.expect(0, &format!("lavrin grant edda keeper --tag buoys {there}"))?;
        self.expect(0, &format!("lavrin grant runa keeper --tag buoys {there}"))?;
        self.expect(0, &format!("lavrin host list {there}"))?;
        self.expect(0, &format!("lavrin host profile try fog-signal horn-2 {key} {there}"))?;
        self.expect(0, &format!("lavrin survey grindholm buoys {key} {there}"))?;
        self.expect(1, &format!("lavrin compare grindholm buoys {there}"))?;
        self.expect(0, &format!("lavrin enforce grindholm buoys --yes {key} {there}"))?;
        // One of them shows modes, and no access lists.
        self.expect(3, &format!("lavrin audit grindholm buoys {there}"))
    }

    /// What has to run on the host that stands last in the file, so that it keeps what is done there.
    fn say_after_change(&self) -> Result<(), CommandError> {
        let (path, line) = (self.home.join("halvmark/hosts.toml"), "after_change = [\"/sbin/overlay\", \"save\"]");
        let text = std::fs::read_to_string(&path).map_err(|error| CommandError::file(&path, "read", &error))?;
        std::fs::write(&path, format!("{text}{line}\n")).map_err(|error| CommandError::file(&path, "write", &error))?;
        self.say(&format!("Written below it by hand: {line}"));
        Ok(())
    }

    /// How to work on the console of the fog signal, as somebody wrote it down who knows it.
    fn write_profile(&self) -> Result<(), CommandError> {
        let path = self.home.join("halvmark/profiles/fog-signal.toml");
        let folder = path.parent().unwrap_or(self.home);
        let written = std::fs::create_dir_all(folder).and_then(|()| std::fs::write(&path, CONSOLE_PROFILE));
        written.map_err(|error| CommandError::file(&path, "write", &error))
    }

    /// Somebody leaves.
    fn somebody_leaves(&self) -> Result<(), CommandError> {
        let there = format!("--identity ~/.ssh/edda --passphrase-env {PASSPHRASE} --register ~/halvmark");
        self.say(
            "Runa has left. Her keys are removed from every host, each host is asked whether it still accepts them, and the kept key is replaced.\nOne line in the office is damaged and cannot be read, so nothing proves that her key is gone there: that removal stays owed",
        );
        self.expect(3, &format!("lavrin offboard runa --rotate-kept --yes {there}"))?;
        self.expect(0, &format!("lavrin probe runa --until refused {there}"))?;
        self.expect(1, "lavrin audit lights --register ~/halvmark")?;
        self.look_for_ways()
    }

    /// The keys with which the hosts begin.
    fn first_keys(&self) -> Result<FirstKeys, CommandError> {
        Ok(FirstKeys { edda: self.public_half("edda")?, sten: self.public_half("sten")? })
    }

    /// The public half of the key that was left on the office's server.
    fn stray_key(&self) -> Result<String, CommandError> {
        let path = self.stand_in.file("/home/tidelog/.ssh/buoy-7.pub");
        std::fs::read_to_string(&path).map_err(|error| CommandError::file(&path, "read", &error))
    }

    /// Pins the key of a host.
    fn trust(&self, name: &str, hosts: &DemoHosts<'_>) -> Result<(), CommandError> {
        let print = hosts.print(name);
        self.expect(0, &format!("lavrin host trust {name} --expect-host-key {print} --register ~/halvmark"))
    }

    /// The line of a public key of the demo.
    fn public_half(&self, name: &str) -> Result<String, CommandError> {
        let path = self.home.join(".ssh").join(format!("{name}.pub"));
        std::fs::read_to_string(&path).map_err(|error| CommandError::file(&path, "read", &error))
    }

    fn reach(&self) -> String {
        format!("--port {} --expect-host-key {}", self.stand_in.address().port(), self.stand_in.host_key())
    }

    fn say(&self, text: &str) {
        if !self.is_shown.get() {
            return;
        }
        self.ui.result(&format!("\n{}\n", self.ui.paint(Label::Strong, text)));
    }

    /// The public half of Sten's key, as he would bring it: the entry of his that stands in the server's file.
    fn put_stens_key(&self) -> Result<(), CommandError> {
        let path = self.stand_in.file("/home/sten/.ssh/authorized_keys");
        let text = std::fs::read_to_string(&path).map_err(|error| CommandError::file(&path, "read", &error))?;
        let line = text.lines().nth(1).unwrap_or_default();
        let own = self.home.join(".ssh/sten.pub");
        std::fs::write(&own, format!("{line}\n")).map_err(|error| CommandError::file(&own, "write", &error))
    }

    /// Shows a command and runs it; an exit code other than the expected one ends the demo.
    fn expect(&self, code: i32, typed: &str) -> Result<(), CommandError> {
        let is_shown = self.is_shown.get();
        if is_shown {
            self.ui.result(&format!("{} {}", self.ui.paint(Label::Good, "$"), self.ui.paint(Label::Type, typed)));
        }
        let program = std::env::current_exe().map_err(|error| CommandError::usage(error.to_string()))?;
        // The shell reads the line as the person's shell would; the program it finds is this one.
        let line = typed.replacen("lavrin", &shell_word(&program.to_string_lossy()), 1);
        let status = Command::new("/bin/sh")
            .arg("-c")
            .arg(format!("{line} 2>&1"))
            .env("HOME", self.home)
            .env("USER", "edda")
            .env("XDG_STATE_HOME", self.home.join("state"))
            .env(PASSPHRASE, "low water at the old pier")
            .env(PASSWORD, self.stand_in.password("edda").unwrap_or_default())
            .env_remove("SSH_AUTH_SOCK")
            .stdin(Stdio::null())
            .stdout(if is_shown { Stdio::inherit() } else { Stdio::null() })
            .status()
            .map_err(|error| CommandError::usage(error.to_string()))?;
        if is_shown {
            self.ui.result("");
        }
        if status.code() == Some(code) {
            return Ok(());
        }
        Err(CommandError::with(Exit::Midway, format!("the demo expected exit code {code} and got {status}")))
    }

    /// Waits until somebody ends it.
    async fn wait(&self, hosts: &DemoHosts<'_>) {
        let password = self.stand_in.password("edda").unwrap_or_default();
        self.say("The stand-ins go on until Ctrl-C. To talk to them from another terminal:");
        self.ui.result(&format!(
            "  export HOME={} {PASSPHRASE}='low water at the old pier' {PASSWORD}='{password}'\n  lavrin audit 127.0.0.1 --login edda {} --password-env {PASSWORD}\n  its tree: {}\n  lavrin survey --register {}/halvmark --identity ~/.ssh/edda --passphrase-env {PASSPHRASE}   # {}",
            self.home.display(),
            self.reach(),
            self.stand_in.tree().display(),
            self.home.display(),
            hosts.names().collect::<Vec<_>>().join(", ")
        ));
        let mut terminate = tokio::signal::unix::signal(tokio::signal::unix::SignalKind::terminate()).ok();
        let terminated = async {
            match &mut terminate {
                Some(signal) => drop(signal.recv().await),
                None => std::future::pending().await,
            }
        };
        tokio::select! {
            _ = tokio::signal::ctrl_c() => {}
            () = terminated => {}
        }
    }
}
