//! `lavrin matrix`: who gets into which account of which host, and where hosts and register differ.

pub mod grid;
pub mod out;

use super::history::day::{end_of_day, typed_day};
use super::register::{OpenedRegister, RegisterArgs, today};
use super::unknown;
use crate::clock;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use clap::Args;
use lavrin_fleet::fleet::{Moment, Owner};
use lavrin_fleet::register::{Date, Host, Register};
use lavrin_store::database::Database;
use lavrin_work::walk::{HostAccess, access};
use out::MatrixOut;
use std::collections::BTreeSet;

/// Who gets into which account of which host, by the last surveys, beside what the register says
#[derive(Debug, Args)]
pub struct MatrixArgs {
    /// Only these people, teams, hosts or hosts with these tags
    #[arg(value_name = "PERSON|TEAM|HOST|TAG")]
    pub names: Vec<String>,
    /// As it was at the end of this day: 2026-10-10, yesterday, '3 days ago'
    #[arg(long, value_name = "DAY", value_parser = typed_day)]
    pub at: Option<Date>,
    /// Only where hosts and register differ
    #[arg(long)]
    pub differing: bool,
    /// Each person and each host, however many there are
    #[arg(long)]
    pub all: bool,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Whom and what a matrix is about.
pub struct MatrixSubject<'a> {
    /// The hosts.
    pub hosts: Vec<&'a Host>,
    /// The people; `None`: everybody, and keys of programs and of nobody too.
    pub people: Option<BTreeSet<String>>,
}

/// Runs the command.
pub fn run(args: &MatrixArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open_to_report(ui)?;
    let subject = MatrixSubject::of(&args.names, opened.register())?;
    let now = moment_of(args.at);
    let found = find(&opened, &subject, now)?;
    let out = MatrixOut::of(&found, now.time, args.differing);
    let exit = out.exit();
    ui.give_rows(&out, || out.rows(), || grid::text(&out, &subject, opened.register(), args, ui));
    Ok(exit)
}

/// The end of a day, or now.
pub fn moment_of(day: Option<Date>) -> Moment {
    match day {
        Some(day) => Moment { time: end_of_day(day), today: day },
        None => Moment { time: clock::now().unix_timestamp(), today: today() },
    }
}

fn find(opened: &OpenedRegister, subject: &MatrixSubject<'_>, now: Moment) -> Result<Vec<HostAccess>, CommandError> {
    let store = Database::open_existing(opened.folder.path())?;
    let mut found = access(opened.register(), &subject.hosts, store.as_ref(), now)?;
    if let Some(people) = &subject.people {
        let is_meant = |owner: &Option<Owner>| matches!(owner, Some(Owner::Person { id, .. }) if people.contains(id));
        for host in &mut found {
            host.ways.retain(|way| is_meant(&way.owner));
        }
    }
    Ok(found)
}

impl<'a> MatrixSubject<'a> {
    /// What names stand for: people and teams choose whom it is about, hosts and tags where.
    pub fn of(names: &[String], register: &'a Register) -> Result<Self, CommandError> {
        let (mut people, mut hosts) = (BTreeSet::new(), Vec::new());
        for name in names {
            let of_team: Vec<&str> = register.team(name).map(|person| person.id.as_str()).collect();
            if register.people.contains_key(name) {
                people.insert(name.clone());
            } else if !of_team.is_empty() {
                people.extend(of_team.into_iter().map(str::to_owned));
            } else {
                hosts.push(name.clone());
            }
        }
        let hosts = register.hosts_named(&hosts).map_err(|odd| unknown::anything(register, &odd))?;
        Ok(Self { hosts, people: (!people.is_empty()).then_some(people) })
    }
}
