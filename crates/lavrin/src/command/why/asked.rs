//! What the verdict is made from: the place itself; where a host of the register is not reached, what the last survey saw of it.

use super::WhyArgs;
use crate::clock;
use crate::command::place::Work;
use crate::command::register::OpenedRegister;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use lavrin_keys::text::shell_word;
use lavrin_server::fs::{BytePath, Why};
use lavrin_server::survey::Observation;
use lavrin_store::database::Database;
use lavrin_work::look::Wants;
use lavrin_work::memory::Memory;
use lavrin_work::ways::Rights;

/// What is asked about.
pub enum AskedPlace {
    /// The place, looked at now.
    Now(Box<Work>),
    /// A host as it was seen.
    Then {
        /// What was seen.
        seen: Box<Observation>,
        /// The host.
        host: String,
        /// When, in seconds since 1970.
        time: i64,
    },
}

impl AskedPlace {
    /// Opens the place, or remembers it.
    pub async fn open(args: &WhyArgs, register: Option<&OpenedRegister>, ui: &Ui) -> Result<Self, CommandError> {
        let opened = Work::open(ui, register, &args.target, args.tree.as_deref(), &args.host, Rights::Wanted).await;
        let mut asked = match opened {
            Ok(work) => Self::Now(Box::new(work)),
            Err(error) => Self::remembered(args, register, &error, ui)?.ok_or(error)?,
        };
        asked.seen_mut().connection = args.connection.connection();
        args.server.give(asked.seen_mut());
        Ok(asked)
    }

    /// What the last survey saw, where the host was not reached; a host that shows another key is not excused so.
    fn remembered(
        args: &WhyArgs,
        register: Option<&OpenedRegister>,
        error: &CommandError,
        ui: &Ui,
    ) -> Result<Option<Self>, CommandError> {
        let (Some(opened), Some(host)) = (register, &args.target.host) else { return Ok(None) };
        if error.exit != Exit::NotChecked || !opened.register().hosts.contains_key(host) {
            return Ok(None);
        }
        let Some(store) = Database::open_existing(opened.folder.path())? else { return Ok(None) };
        let last = Memory::of(&store).with_times(&[host], i64::MAX)?.pop().flatten();
        Ok(last.map(|(seen, time)| {
            ui.warn(&error.in_one_line());
            ui.warn(&format!(
                "this is by what the survey of {} UTC saw, {}; what changed since is not in it",
                clock::text_of(time).replace('T', " ").trim_end_matches('Z'),
                clock::ago(time)
            ));
            ui.show(&format!("  next: lavrin survey {}", shell_word(host)));
            Self::Then { seen: Box::new(seen), host: host.clone(), time }
        }))
    }

    /// Looks until nothing is asked any more; what nobody saw then stays unseen.
    pub async fn look(&mut self, wants: &Wants<'_>) -> Result<(), CommandError> {
        match self {
            Self::Now(work) => work.look(wants).await,
            Self::Then { seen, .. } => loop {
                let open: Vec<_> = wants(seen).into_iter().filter(|want| !seen.answers(want)).collect();
                if open.is_empty() {
                    return Ok(());
                }
                for want in &open {
                    seen.give_up(want, &Why::NotReached);
                }
            },
        }
    }

    /// What was seen.
    pub fn seen(&self) -> &Observation {
        match self {
            Self::Now(work) => &work.seen,
            Self::Then { seen, .. } => seen,
        }
    }

    fn seen_mut(&mut self) -> &mut Observation {
        match self {
            Self::Now(work) => &mut work.seen,
            Self::Then { seen, .. } => seen,
        }
    }

    /// How the place is named.
    pub fn name(&self) -> &str {
        match self {
            Self::Now(work) => &work.name,
            Self::Then { host, .. } => host,
        }
    }

    /// A path as the one who types a remedy sees it.
    pub fn typed_path(&self, path: &BytePath) -> String {
        match self {
            Self::Now(work) => work.typed_path(path),
            Self::Then { .. } => path.to_string(),
        }
    }

    /// Of when the answer is, where it is not of now (RFC 3339).
    pub fn as_of(&self) -> Option<String> {
        match self {
            Self::Now(_) => None,
            Self::Then { time, .. } => Some(clock::text_of(*time)),
        }
    }

    /// An answer from memory is not checked.
    pub fn exit(&self, exit: Exit) -> Exit {
        match self {
            Self::Now(_) => exit,
            Self::Then { .. } => exit.max(Exit::NotChecked),
        }
    }
}
