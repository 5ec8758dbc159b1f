//! `lavrin paths`: who can reach what by hopping from host to host over keys that lie on them.

mod ends;
pub mod out;
pub mod text;

use super::compare::moment;
use super::register::RegisterArgs;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use crate::{input, paths};
use clap::Args;
use ends::{From, To, check_account};
use lavrin_fleet::hops::{Follow, WaysThrough};
use lavrin_fleet::register::Host;
use lavrin_keys::key::Fingerprint;
use lavrin_store::database::Database;
use lavrin_work::hops::facts;
use out::{PathsOut, SightedSince};

/// Who can reach what by hopping from host to host over keys that lie on them
#[derive(Debug, Args)]
pub struct PathsArgs {
    /// A person, a host, a tag or ACCOUNT@HOST to begin at (default: each host)
    #[arg(value_name = "FROM")]
    pub from: Option<String>,
    /// A host, a tag or ACCOUNT@HOST to get to (default: everything)
    #[arg(value_name = "TO")]
    pub to: Option<String>,
    /// Begin with a key that was stolen: its public half, or its fingerprint
    #[arg(long, value_name = "KEY.pub|FINGERPRINT")]
    pub key: Option<String>,
    /// Which entries have to go so that no way is left, and which single one closes most
    #[arg(long)]
    pub cut: bool,
    /// Follow keys too that a passphrase protects
    #[arg(long)]
    pub with_passphrases: bool,
    /// Follow agents too that people may forward
    #[arg(long)]
    pub with_agents: bool,
    /// Every way, however many there are
    #[arg(long)]
    pub all: bool,
    #[command(flatten)]
    register: RegisterArgs,
}

impl PathsArgs {
    /// Where one begins and where one gets to: with a key the first name is where one gets to.
    fn ends(&self) -> Result<(Option<&str>, Option<&str>), CommandError> {
        match (&self.key, &self.from, &self.to) {
            (Some(_), Some(_), Some(_)) => {
                Err(CommandError::usage("with --key there is one name only, where one gets to")
                    .hint("lavrin paths --key KEY.pub harbour-office"))
            }
            (Some(_), to, None) => Ok((None, to.as_deref())),
            (_, from, to) => Ok((from.as_deref(), to.as_deref())),
        }
    }

    fn stolen(&self) -> Result<Option<Fingerprint>, CommandError> {
        let Some(key) = &self.key else { return Ok(None) };
        if key.starts_with("SHA256:") {
            return Ok(Some(Fingerprint::parse(key)?));
        }
        let Ok(path) = paths::typed(key);
        Ok(Some(input::public_key(&path)?.key.fingerprint()))
    }
}

/// Runs the command.
pub fn run(args: &PathsArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open_to_report(ui)?;
    let register = opened.register();
    let (from, to) = args.ends()?;
    if args.cut && from.is_none() && args.key.is_none() {
        return Err(CommandError::usage("cut the ways from where? Name a person, a host, a tag or ACCOUNT@HOST")
            .hint("lavrin paths --cut buoys office"));
    }
    let stolen = args.stolen()?;
    let from = from.map(|from| From::of(from, register)).transpose()?;
    let to = to.map(|to| To::of(to, register)).transpose()?;
    let store = Database::open_existing(opened.folder.path())?;
    if let Some(From::Account(name, host)) = &from {
        check_account(name, host, store.as_ref())?;
    }
    if let Some(To::Account(name, host)) = &to {
        check_account(name, host, store.as_ref())?;
    }
    let hosts: Vec<&Host> = register.all_hosts().collect();
    let facts = facts(&hosts, store.as_ref(), moment())?;
    let follow = Follow { passphrases: args.with_passphrases, agents: args.with_agents };
    let ways = WaysThrough::of(&facts.hosts, register, follow);
    let sighted = SightedSince::of(store.as_ref());
    // A person reads the nearest ones, a program all of them.
    let told_max = if ui.is_text() && !args.all { text::LOOKED_AT } else { usize::MAX };
    let mut out = match (stolen, from) {
        (None, None) => PathsOut::overview(&ways),
        (stolen, from) => {
            let start = match (&from, stolen) {
                (Some(from), _) => from.start(&ways)?,
                (None, key) => ways.with_keys(key),
            };
            let ends = to.as_ref().map(|to| to.spots(&ways));
            let name = from.map_or_else(|| "the key".to_owned(), |from| from.name().to_owned());
            PathsOut::from(
                &ways,
                (name, &start),
                to.as_ref().map(To::name),
                ends.as_deref(),
                (args.cut, told_max),
                &sighted,
            )?
        }
    };
    out.not_followed(&ways, follow, &facts);
    ui.give(&out, || text::text(&out, args, ui));
    Ok(out.exit())
}
