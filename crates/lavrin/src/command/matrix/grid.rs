//! The matrix as text: people beside hosts, a mark where they meet; for one person or one host a list.

use super::out::{KeyOwnerKind, MatrixOut, WayOut, WayState};
use super::{MatrixArgs, MatrixSubject};
use crate::json::LimitsOut;
use crate::screen;
use crate::table::columns;
use crate::ui::{Label, Ui};
use lavrin_fleet::register::Register;
use lavrin_keys::text::count;
use std::collections::{BTreeMap, BTreeSet};

/// Beyond so many people or hosts teams and tags stand for them, unless each is asked for.
const EACH_MAX: usize = 60;

/// Differences that are listed one by one; the rest is counted.
const TOLD_MAX: usize = 40;

/// Characters of a name in front of its row, and of one above its column.
const ROW_NAME_MAX: usize = 26;
const COLUMN_NAME_MAX: usize = 22;

/// The whole text.
pub fn text(out: &MatrixOut, subject: &MatrixSubject<'_>, register: &Register, args: &MatrixArgs, ui: &Ui) -> String {
    let is_one = subject.people.as_ref().is_some_and(|people| people.len() == 1) || subject.hosts.len() == 1;
    let mut text = format!("Who gets in, at {} UTC\n\n", out.at.trim_end_matches('Z').replace('T', " "));
    if is_one {
        text += &list(&out.ways, ui);
    } else {
        let grid = Grid::of(out, register, args.all);
        text += &grid.text(ui);
        text += &differences(&out.ways, ui);
    }
    text + &unseen(out, ui) + &summary(out, ui)
}

/// What is shown where a row and a column meet.
#[derive(Debug, Default, Clone)]
struct Cell {
    worst: Option<WayState>,
    is_root: bool,
    hosts: BTreeSet<usize>,
}

impl Cell {
    fn add(&mut self, way: &WayOut, host: usize) {
        self.worst = self.worst.max(Some(way.state));
        self.is_root |= way.account == "root";
        self.hosts.insert(host);
    }

    fn label(&self) -> Option<Label> {
        match self.worst? {
            WayState::AsRegistered => Some(Label::Good),
            WayState::Perhaps | WayState::NotRead | WayState::NotSeen => Some(Label::Faint),
            WayState::Missing => Some(Label::Warn),
            WayState::NotRegistered => Some(Label::Bad),
        }
    }

    fn mark(&self) -> &'static str {
        let marks = if screen::is_unicode() { ["■", "●", "?", "○", "▲"] } else { ["R", "a", "?", "-", "!"] };
        match self.worst {
            None => "",
            Some(WayState::AsRegistered) if self.is_root => marks[0],
            Some(WayState::AsRegistered) => marks[1],
            Some(WayState::Perhaps | WayState::NotRead | WayState::NotSeen) => marks[2],
            Some(WayState::Missing) => marks[3],
            Some(WayState::NotRegistered) => marks[4],
        }
    }
}

/// Rows, columns, and what is where they meet.
struct Grid {
    columns: Vec<String>,
    rows: Vec<(KeyOwnerKind, String)>,
    cells: BTreeMap<(usize, usize), Cell>,
    /// Whether a cell stands for several hosts.
    counts: bool,
}

impl Grid {
    fn of(out: &MatrixOut, register: &Register, all: bool) -> Self {
        let people: BTreeSet<&str> = out.ways.iter().filter_map(|way| way.owner.as_deref()).collect();
        let folds_hosts = !all && out.hosts.len() > EACH_MAX;
        let folds_people = !all && people.len() > EACH_MAX;
        let column_of = |host: &str| -> String {
            let tag = register.hosts.get(host).and_then(|host| host.tags.first()).filter(|_| folds_hosts);
            let rest = if folds_hosts { "no tag" } else { host };
            tag.map_or_else(|| rest.to_owned(), Clone::clone)
        };
        let row_of = |way: &WayOut| -> (KeyOwnerKind, String) {
            let person = register.people.get(way.owner.as_deref().unwrap_or_default());
            match (way.kind, folds_people) {
                (KeyOwnerKind::Person, true) => {
                    (way.kind, person.and_then(|person| person.team.clone()).unwrap_or_else(|| "no team".to_owned()))
                }
                (KeyOwnerKind::Program, true) => (way.kind, "programs".to_owned()),
                (KeyOwnerKind::Kept, true) => (way.kind, "kept keys".to_owned()),
                _ => (way.kind, way.who()),
            }
        };
        let columns: Vec<String> =
            out.hosts.iter().map(|host| column_of(&host.host)).collect::<BTreeSet<_>>().into_iter().collect();
        let rows: Vec<(KeyOwnerKind, String)> =
            out.ways.iter().map(row_of).collect::<BTreeSet<_>>().into_iter().collect();
        let numbers: BTreeMap<&str, usize> =
            out.hosts.iter().enumerate().map(|(number, host)| (host.host.as_str(), number)).collect();
        let mut cells: BTreeMap<(usize, usize), Cell> = BTreeMap::new();
        for way in &out.ways {
            let (row, column) = (rows.binary_search(&row_of(way)), columns.binary_search(&column_of(&way.host)));
            if let (Ok(row), Ok(column), Some(host)) = (row, column, numbers.get(way.host.as_str())) {
                cells.entry((row, column)).or_default().add(way, *host);
            }
        }
        Self { columns, rows, cells, counts: folds_hosts }
    }

    /// As many columns as fit beside the names, then the next ones below.
    fn text(&self, ui: &Ui) -> String {
        if self.rows.is_empty() || self.columns.is_empty() {
            return String::new();
        }
        let name = self.rows.iter().map(|(_, name)| shortened(name, ROW_NAME_MAX).chars().count()).max().unwrap_or(0);
        let width = self.cells.values().map(|cell| self.cell(cell).chars().count()).max().unwrap_or(1) + 1;
        let heading =
            self.columns.iter().map(|name| shortened(name, COLUMN_NAME_MAX).chars().count()).max().unwrap_or(0);
        let room = screen::width_or_usual().saturating_sub(2 + name + 2 + heading);
        let at_once = (room / width).max(1);
        let mut text = String::new();
        for start in (0..self.columns.len()).step_by(at_once) {
            let end = (start + at_once).min(self.columns.len());
            text += &self.block(start, end, name, width, ui);
            text.push('\n');
        }
        text + &self.legend(ui)
    }

    /// Each column has its name on a line of its own, with a stroke down to it.
    fn block(&self, start: usize, end: usize, name: usize, width: usize, ui: &Ui) -> String {
        let stroke = if screen::is_unicode() { "│" } else { "|" };
        let mut text = String::new();
        for column in start..end {
            let mut line = " ".repeat(2 + name + 2);
            for _ in start..column {
                line += &ui.paint(Label::Faint, stroke);
                line += &" ".repeat(width - 1);
            }
            text += &format!("{line}{}\n", ui.paint(Label::Strong, &shortened(&self.columns[column], COLUMN_NAME_MAX)));
        }
        let mut kind = KeyOwnerKind::Person;
        for (row, (of, who)) in self.rows.iter().enumerate() {
            let cells: Vec<Option<&Cell>> = (start..end).map(|column| self.cells.get(&(row, column))).collect();
            if cells.iter().all(Option::is_none) {
                continue;
            }
            if *of != kind {
                text.push('\n');
                kind = *of;
            }
            let who = shortened(who, ROW_NAME_MAX);
            let mut line = format!("  {who}{}", " ".repeat(name + 2 - who.chars().count()));
            for cell in cells {
                let shown = cell.map(|cell| self.cell(cell)).unwrap_or_default();
                let gap = " ".repeat(width - shown.chars().count());
                let label = cell.and_then(Cell::label);
                line += &label.map(|label| ui.paint(label, &shown)).unwrap_or(shown);
                line += &gap;
            }
            text += line.trim_end();
            text.push('\n');
        }
        text
    }

    fn cell(&self, cell: &Cell) -> String {
        let mark = cell.mark();
        if self.counts { format!("{}{mark}", cell.hosts.len()) } else { mark.to_owned() }
    }

    fn legend(&self, ui: &Ui) -> String {
        let marks = if screen::is_unicode() { ["■", "●", "○", "▲", "?"] } else { ["R", "a", "-", "!", "?"] };
        let [root, account, missing, extra, unknown] = marks;
        let counts = if self.counts { "; the number is that of the hosts, the mark the worst of them" } else { "" };
        let lines = [
            format!("{root} root, {account} another account, as registered   {missing} registered, does not open"),
            format!("{extra} opens, not registered   {unknown} not seen, or not certain{counts}"),
        ];
        lines.iter().map(|line| format!("  {}\n", ui.paint(Label::Faint, line))).collect::<String>() + "\n"
    }
}

fn shortened(name: &str, most: usize) -> String {
    if name.chars().count() <= most {
        return name.to_owned();
    }
    let (end, dots) = if screen::is_unicode() { (most - 1, "…") } else { (most - 2, "..") };
    name.chars().take(end).collect::<String>() + dots
}

fn label_of(state: WayState) -> Label {
    match state {
        WayState::AsRegistered => Label::Good,
        WayState::Perhaps | WayState::NotRead | WayState::NotSeen | WayState::Missing => Label::Warn,
        WayState::NotRegistered => Label::Bad,
    }
}

/// The state in words.
fn state_words(way: &WayOut) -> String {
    match (way.state, way.standing) {
        (WayState::AsRegistered, _) if way.certainty == Some("listed") => "as registered (listed)".to_owned(),
        (WayState::AsRegistered, _) => "as registered".to_owned(),
        (WayState::Perhaps, _) => "perhaps: a condition could not be checked".to_owned(),
        (WayState::NotRead, _) => "account not read".to_owned(),
        (WayState::NotSeen, _) => "host not seen".to_owned(),
        (WayState::Missing, _) => "registered, does not open".to_owned(),
        (WayState::NotRegistered, "unknown") => "opens, owner unknown".to_owned(),
        (WayState::NotRegistered, "left") => "opens, and its owner has left".to_owned(),
        (WayState::NotRegistered, "retired") => "opens, and the key is retired".to_owned(),
        (WayState::NotRegistered, "over") => "opens, and the grant is over".to_owned(),
        (WayState::NotRegistered, _) => "opens, not granted".to_owned(),
    }
}

/// How the way is limited, in words.
pub fn how(limits: &LimitsOut, until: Option<&str>) -> String {
    let parts = [
        until.map(|until| format!("until {until}")),
        limits.expires.as_ref().filter(|_| until.is_none()).map(|until| format!("until {until}")),
        limits.from.as_ref().map(|from| format!("from {from}")),
        limits.command.as_ref().map(|command| format!("only: {command}")),
        (!limits.denied.is_empty()).then(|| format!("no {}", limits.denied.join(", no "))),
        (!limits.permit.is_empty()).then(|| limits.permit.join(", ")),
    ];
    parts.into_iter().flatten().collect::<Vec<_>>().join("; ")
}

fn list(ways: &[WayOut], ui: &Ui) -> String {
    let row = |way: &WayOut| {
        let label =
            way.label.as_deref().map_or_else(|| way.comment.clone(), |label| format!("{} ({label})", way.who()));
        vec![
            ui.paint(Label::Strong, &format!("{}@{}", way.account, way.host)),
            ui.paint(label_of(way.state), &state_words(way)),
            if way.owner.is_some() { label } else { format!("owner unknown: {}", way.comment) },
            way.key.clone(),
            how(&way.limits, way.until.as_deref()),
        ]
    };
    columns(&ways.iter().map(row).collect::<Vec<_>>(), 2).into_iter().map(|line| line + "\n").collect::<String>() + "\n"
}

fn differences(ways: &[WayOut], ui: &Ui) -> String {
    let differing: Vec<&WayOut> = ways.iter().filter(|way| way.differs()).collect();
    if differing.is_empty() {
        return String::new();
    }
    let row = |way: &&WayOut| {
        let whose = way.label.as_ref().map_or_else(|| way.comment.clone(), |label| format!("key {label}"));
        vec![
            ui.paint(Label::Strong, &format!("{}@{}", way.account, way.host)),
            way.who(),
            ui.paint(label_of(way.state), &state_words(way)),
            whose,
        ]
    };
    let rows: Vec<Vec<String>> = differing.iter().take(TOLD_MAX).map(row).collect();
    let mut text = format!("{}\n", ui.paint(Label::Strong, "Where hosts and register differ"));
    text += &columns(&rows, 2).into_iter().map(|line| line + "\n").collect::<String>();
    if differing.len() > TOLD_MAX {
        text += &format!("  and {} more: lavrin matrix --differing --format csv\n", differing.len() - TOLD_MAX);
    }
    text + "\n"
}

fn unseen(out: &MatrixOut, ui: &Ui) -> String {
    let never: Vec<&str> = out.hosts.iter().filter(|host| host.seen.is_none()).map(|host| host.host.as_str()).collect();
    let in_part = out.hosts.iter().filter(|host| !host.not_read.is_empty());
    let in_part: Vec<&str> = in_part.map(|host| host.host.as_str()).collect();
    let told = |what: &str, hosts: &[&str]| {
        let some = hosts.iter().take(12).copied().collect::<Vec<_>>().join(", ");
        let more = if hosts.len() > 12 { format!(" and {} more", hosts.len() - 12) } else { String::new() };
        format!("  {}\n", ui.paint(Label::Warn, &format!("{what}: {some}{more}")))
    };
    let mut text = String::new();
    if !never.is_empty() {
        text += &told("never seen", &never);
    }
    if !in_part.is_empty() {
        text += &told("read in part", &in_part);
    }
    if text.is_empty() { text } else { text + "\n" }
}

fn summary(out: &MatrixOut, ui: &Ui) -> String {
    let open = out
        .ways
        .iter()
        .filter(|way| matches!(way.state, WayState::AsRegistered | WayState::Perhaps | WayState::NotRegistered));
    let number = |state: WayState| out.ways.iter().filter(|way| way.state == state).count();
    let more: usize = out.hosts.iter().map(|host| host.more_missing).sum();
    let (extra, missing) = (number(WayState::NotRegistered), number(WayState::Missing) + more);
    let mut parts = vec![count(open.count(), "way in", "ways in")];
    if extra > 0 {
        parts.push(ui.paint(Label::Bad, &format!("{extra} not registered")));
    }
    if missing > 0 {
        parts.push(ui.paint(Label::Warn, &format!("{missing} missing")));
    }
    format!("{}: {}", count(out.hosts.len(), "host", "hosts"), parts.join(", "))
}
