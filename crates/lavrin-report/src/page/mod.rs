//! The report: one page that holds everything it needs. What is on it comes in as values and words that are safe to show.

mod findings;
mod hops;
mod matrix;
mod parts;
mod summary;

use crate::plot::{Bars, TimeLines};
use maud::{DOCTYPE, Markup, PreEscaped, html};
use std::io::{self, Write};

/// What the page looks like.
const STYLE: &str = include_str!("style.css");

/// Filters by what is typed; the page says everything without it.
const SCRIPT: &str = include_str!("script.js");

/// Nothing from anywhere: only the style and the one script that stand in the page itself, known by its hash (CSP Level 3,
/// section 2.3.1). A test holds the hash.
const POLICY: &str = "default-src 'none'; style-src 'unsafe-inline'; script-src \
                      'sha256-HASH'; base-uri 'none'; form-action 'none'";

/// The hash of the script.
pub const SCRIPT_HASH: &str = include_str!("script.sha256");

/// Up to so many people and so many hosts meet in one table; of more, teams and tags do.
const EACH_MAX: usize = 60;

/// Up to so many sections are open from the start.
const OPEN_MAX: usize = 40;

/// Up to so many ways in each is marked, and names are links.
const SMALL_MAX: usize = 5_000;

/// Everything that is on the page.
#[derive(Debug, Default)]
pub struct Page {
    /// What the register is called.
    pub register: String,
    /// The moment, in words.
    pub at: String,
    /// Which part of the register it is about; none: all of it.
    pub scope: Option<String>,
    /// Whether the moment is past.
    pub is_past: bool,
    /// The version of the program.
    pub version: String,
    /// What a reader sees first.
    pub summary: PageSummary,
    /// Whose keys there are: people, programs, kept keys, and nobody.
    pub owners: Vec<PageOwner>,
    /// The hosts.
    pub hosts: Vec<PageHost>,
    /// Every way in, host by host.
    pub ways: Vec<PageWay>,
    /// Words that stand in many ways in.
    pub words: Vec<String>,
    /// Findings that have the same thing to be done about them.
    pub findings: Vec<FindingGroup>,
    /// Numbers as bars.
    pub bars: Vec<Bars>,
    /// Numbers over time.
    pub lines: Vec<TimeLines>,
    /// The ways through from some hosts.
    pub hops: Vec<Hops>,
    /// What is not followed among these, in words.
    pub hops_aside: Vec<String>,
}

/// What a reader sees first.
#[derive(Debug, Default)]
pub struct PageSummary {
    /// Hosts that were seen.
    pub seen: usize,
    /// Hosts that were never seen.
    pub never_seen: Vec<String>,
    /// Hosts of which not everything was read.
    pub in_part: usize,
    /// Places of the register that could not be read.
    pub register_faults: usize,
    /// The days of the oldest and of the newest look.
    pub looks: Option<(String, String)>,
    /// Accounts.
    pub accounts: usize,
    /// Entries in key files.
    pub entries: usize,
    /// Entries by whose they are.
    pub by_owner: Vec<(&'static str, usize)>,
    /// Findings by severity, and how many there were in the last report.
    pub findings: Vec<(&'static str, usize, Option<usize>)>,
    /// Ways in that the register does not know, and those that are missing.
    pub differing: (usize, usize),
    /// Since the last report: its day, entries that came and that went.
    pub changes: Option<(String, usize, usize)>,
    /// What is owed, in words.
    pub owed: Vec<String>,
}

/// Whose key it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum OwnerKind {
    /// A person's.
    Person,
    /// A program's.
    Program,
    /// A kept key.
    Kept,
    /// Nobody's that is known.
    Nobody,
}

/// Somebody with keys.
#[derive(Debug)]
pub struct PageOwner {
    /// What kind.
    pub kind: OwnerKind,
    /// The name in the register.
    pub id: String,
    /// The full name.
    pub name: String,
    /// The team.
    pub team: Option<String>,
    /// The day on which they left.
    pub left: Option<String>,
    /// Their keys, a line each.
    pub keys: Vec<String>,
}

/// A host.
#[derive(Debug)]
pub struct PageHost {
    /// Its name.
    pub id: String,
    /// Where it is.
    pub address: String,
    /// What it is grouped by.
    pub tags: Vec<String>,
    /// Where the machine is.
    pub site: Option<String>,
    /// The day of the look; none: never.
    pub seen: Option<String>,
    /// Accounts that were not read.
    pub not_read: Vec<String>,
    /// Its accounts.
    pub accounts: usize,
    /// Ways in that the register asks for and that are missing, beyond those that are listed.
    pub more_missing: usize,
    /// Its findings: severity, rule, and how many.
    pub findings: Vec<(&'static str, &'static str, usize)>,
}

/// How host and register stand to each other.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum WayMark {
    /// As registered.
    AsRegistered,
    /// As registered, and a condition could not be checked.
    Perhaps,
    /// The account was not read.
    NotRead,
    /// The host was not seen.
    NotSeen,
    /// Registered, and does not open.
    Missing,
    /// Opens, and is not registered.
    NotRegistered,
}

impl WayMark {
    /// The mark that stands for it, its class, and its words.
    fn shown(self) -> (&'static str, &'static str, &'static str) {
        match self {
            Self::AsRegistered => ("●", "good", "as registered"),
            Self::Perhaps => ("◐", "faint", "perhaps"),
            Self::NotRead => ("?", "faint", "not read"),
            Self::NotSeen => ("?", "faint", "not seen"),
            Self::Missing => ("○", "warn", "missing"),
            Self::NotRegistered => ("▲", "bad", "not registered"),
        }
    }

    /// Its name, as in JSON.
    fn name(self) -> &'static str {
        match self {
            Self::AsRegistered => "as-registered",
            Self::Perhaps => "perhaps",
            Self::NotRead => "not-read",
            Self::NotSeen => "not-seen",
            Self::Missing => "missing",
            Self::NotRegistered => "not-registered",
        }
    }
}

/// A way in. Names and words are numbers, since there may be very many.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PageWay {
    /// The number of the host.
    pub host: u32,
    /// The number of the owner.
    pub owner: u32,
    /// The word for the account.
    pub account: u32,
    /// The word for the key.
    pub key: u32,
    /// The words for its limits; those of an empty text where there are none.
    pub limits: u32,
    /// How host and register stand to each other.
    pub state: WayMark,
}

/// Findings that have the same thing to be done about them.
#[derive(Debug)]
pub struct FindingGroup {
    /// Stable rule name.
    pub rule: &'static str,
    /// How much they matter.
    pub severity: &'static str,
    /// What the rule is about.
    pub about: &'static str,
    /// Each: where, what, and what to type.
    pub told: Vec<ToldFinding>,
    /// How many more there are.
    pub more: usize,
}

/// A finding.
#[derive(Debug)]
pub struct ToldFinding {
    /// The hosts; where it is the same on several, all of them.
    pub hosts: Vec<String>,
    /// Account, path and line, as far as there are any.
    pub place: String,
    /// What is wrong.
    pub message: String,
    /// What to type.
    pub remedy: String,
}

/// The ways through from one host.
#[derive(Debug, Default)]
pub struct Hops {
    /// The host.
    pub from: String,
    /// How many hosts are reached.
    pub hosts: usize,
    /// The hosts that are drawn, in layers: each with the number of the step at which it is reached.
    pub nodes: Vec<HopNode>,
    /// Which leads to which, by number, and by what.
    pub edges: Vec<HopEdge>,
}

/// A host on a way.
#[derive(Debug)]
pub struct HopNode {
    /// Its name.
    pub host: String,
    /// The accounts that are entered.
    pub accounts: Vec<String>,
    /// The layer, counted from 0.
    pub layer: usize,
}

/// A step from one host to another.
#[derive(Debug)]
pub struct HopEdge {
    /// The number of the host one comes from.
    pub from: usize,
    /// The number of the host one comes to.
    pub to: usize,
    /// Whether it is certain.
    pub certain: bool,
    /// What shows it, in words.
    pub evidence: String,
}

impl Page {
    /// Writes the page.
    ///
    /// # Errors
    /// Those of the writer.
    pub fn write(&self, out: &mut impl Write) -> io::Result<()> {
        let out = &mut Counted(out);
        out.markup(&self.head())?;
        out.markup(&summary::markup(self))?;
        matrix::write(self, out)?;
        out.markup(&self.plots())?;
        findings::write(self, out)?;
        out.markup(&hops::markup(self))?;
        parts::owners(self, out)?;
        parts::hosts(self, out)?;
        out.markup(&html! {
            footer {
                p { "Made by lavrin " (self.version) " from what surveys saw. What was not seen is said to be so; nothing on this page was asked of any host while it was made." }
            }
            script { (PreEscaped(SCRIPT)) }
        })?;
        out.0.write_all(b"</main></body></html>\n")
    }

    fn head(&self) -> Markup {
        let policy = POLICY.replace("HASH", SCRIPT_HASH.trim());
        html! {
            (DOCTYPE)
            (PreEscaped("<html lang=\"en\">"))
            head {
                meta charset="utf-8";
                meta http-equiv="Content-Security-Policy" content=(policy);
                meta name="viewport" content="width=device-width, initial-scale=1";
                meta name="color-scheme" content="light dark";
                meta name="referrer" content="no-referrer";
                title { "Access to " (self.register) ", " (self.at) }
                style { (PreEscaped(STYLE)) }
            }
            (PreEscaped("<body>"))
            a class="skip" href="#main" { "To the content" }
            header {
                div class="board" {
                    p class="kind" { "Access report" }
                    h1 { (self.register) }
                    p class="when" {
                        @if self.is_past { "As it was at " } @else { "As seen until " }
                        time { (self.at) }
                        @if let Some(scope) = &self.scope { ", only " (scope) }
                    }
                }
                nav aria-label="On this page" {
                    ul {
                        @for (id, name) in self.sections() { li { a href={ "#" (id) } { (name) } } }
                    }
                }
                div class="filter" id="filter" hidden {
                    label for="typed" { "Show only" }
                    input id="typed" type="search" placeholder="a person, host, tag or team" autocomplete="off";
                    span id="left" role="status" {}
                }
            }
            (PreEscaped("<main id=\"main\" tabindex=\"-1\">"))
        }
    }

    fn sections(&self) -> Vec<(&'static str, &'static str)> {
        let mut sections = vec![("summary", "In short"), ("matrix", "Who gets in where"), ("numbers", "Numbers")];
        sections.push(("findings", "What to do"));
        if !self.hops.is_empty() {
            sections.push(("hops", "Ways through"));
        }
        sections.extend([("owners", "Person by person"), ("hosts", "Host by host")]);
        sections
    }

    fn plots(&self) -> Markup {
        html! {
            section id="numbers" aria-labelledby="numbers-h" {
                h2 id="numbers-h" { "Numbers" }
                div class="plots" {
                    @for bars in &self.bars { (bars.markup()) }
                    @for lines in &self.lines { (lines.markup()) }
                }
            }
        }
    }

    fn word(&self, number: u32) -> &str {
        self.words.get(number as usize).map(String::as_str).unwrap_or_default()
    }

    fn owner(&self, number: u32) -> &PageOwner {
        &self.owners[number as usize]
    }

    fn host(&self, number: u32) -> &PageHost {
        &self.hosts[number as usize]
    }

    /// The name by which the section of an owner is linked to. In a large report it is a number, which is shorter.
    fn owner_anchor(&self, number: u32) -> String {
        let owner = self.owner(number);
        let is_named = self.is_small() && owner.kind == OwnerKind::Person;
        if is_named { format!("person-{}", owner.id) } else { format!("o{number}") }
    }

    /// The same of a host.
    fn host_anchor(&self, number: u32) -> String {
        if self.is_small() { format!("host-{}", self.host(number).id) } else { format!("h{number}") }
    }

    /// Whether everything can be marked and linked.
    fn is_small(&self) -> bool {
        self.ways.len() <= SMALL_MAX
    }
}

/// A writer for pieces of the page.
struct Counted<'a, W: Write>(&'a mut W);

impl<W: Write> Counted<'_, W> {
    fn markup(&mut self, markup: &Markup) -> io::Result<()> {
        self.0.write_all(markup.0.as_bytes())
    }

    fn raw(&mut self, text: &str) -> io::Result<()> {
        self.0.write_all(text.as_bytes())
    }
}

/// A mark with its words for whoever does not see it.
fn mark(state: WayMark) -> Markup {
    let (sign, class, words) = state.shown();
    html! { span class={ "m " (class) } title=(words) { (sign) } span class="sr" { " " (words) ": " } }
}

#[cfg(test)]
mod tests;
