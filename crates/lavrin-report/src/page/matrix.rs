//! The access matrix: owners beside hosts; where there are too many, teams beside tags, and each cell opens in place.

use super::{Counted, EACH_MAX, OwnerKind, Page, PageWay, WayMark, mark};
use maud::{Markup, html};
use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, Write};

/// Owners that one cell of teams and tags names.
const NAMED_MAX: usize = 400;

pub(super) fn write<W: Write>(page: &Page, out: &mut Counted<'_, W>) -> io::Result<()> {
    out.raw("<section id=\"matrix\" aria-labelledby=\"matrix-h\"><h2 id=\"matrix-h\">Who gets in where</h2>")?;
    out.markup(&legend())?;
    let owners: BTreeSet<u32> = page.ways.iter().map(|way| way.owner).collect();
    if page.ways.is_empty() {
        out.raw("<p>No key opens any account that was seen.</p>")?;
    } else if owners.len() <= EACH_MAX && page.hosts.len() <= EACH_MAX {
        each(page, &owners, out)?;
    } else {
        folded(page, out)?;
    }
    out.raw("</section>")
}

fn legend() -> Markup {
    let all = [WayMark::AsRegistered, WayMark::Perhaps, WayMark::Missing, WayMark::NotRegistered, WayMark::NotSeen];
    html! {
        p class="legend" {
            @for state in all {
                @let (sign, class, words) = state.shown();
                span { span class={ "m " (class) } aria-hidden="true" { (sign) } " " (words) }
            }
        }
    }
}

/// The name of an owner in front of their row.
fn row_head(page: &Page, owner: u32) -> Markup {
    let of = page.owner(owner);
    html! {
        th scope="row" {
            a href={ "#" (page.owner_anchor(owner)) } { (of.id) }
            @if of.name != of.id { span class="more" { (of.name) } }
            @if let Some(left) = &of.left { span class="more bad" { "left " (left) } }
        }
    }
}

fn each<W: Write>(page: &Page, owners: &BTreeSet<u32>, out: &mut Counted<'_, W>) -> io::Result<()> {
    let mut cells: BTreeMap<(u32, u32), Vec<&PageWay>> = BTreeMap::new();
    for way in &page.ways {
        cells.entry((way.owner, way.host)).or_default().push(way);
    }
    out.raw("<div class=\"scroll\" role=\"region\" aria-label=\"People and hosts\" tabindex=\"0\"><table class=\"matrix\"><thead>")?;
    out.markup(&html! {
        tr {
            th scope="col" { "Whose key" }
            @for (number, host) in page.hosts.iter().enumerate() {
                th scope="col" data-host=(host.id) {
                    a href={ "#" (page.host_anchor(u32::try_from(number).unwrap_or_default())) } { (host.id) }
                    @if host.seen.is_none() { span class="more warn" { "never seen" } }
                }
            }
        }
    })?;
    out.raw("</thead><tbody>")?;
    for owner in owners {
        let of = page.owner(*owner);
        out.markup(&html! {
            tr data-f={ (of.id) " " (of.name) " " (of.team.as_deref().unwrap_or_default()) } data-owner=(of.id) {
                (row_head(page, *owner))
                @for host in 0..page.hosts.len() {
                    @let ways = cells.get(&(*owner, u32::try_from(host).unwrap_or_default()));
                    td { @if let Some(ways) = ways { ul { @for way in ways { (line(page, way)) } } } }
                }
            }
        })?;
    }
    out.raw("</tbody></table></div>")
}

fn line(page: &Page, way: &PageWay) -> Markup {
    let (key, limits) = (page.word(way.key), page.word(way.limits));
    html! {
        li data-state=(way.state.name()) {
            (mark(way.state)) b { (page.word(way.account)) }
            span class="more" { (key) @if !limits.is_empty() { "; " (limits) } }
        }
    }
}

/// Ways in between one team and one tag.
#[derive(Default)]
struct Between {
    ways: usize,
    hosts: BTreeSet<u32>,
    differing: usize,
    /// Of each owner: how many ways, and how many of them differ.
    owners: BTreeMap<u32, (usize, usize)>,
}

fn folded<W: Write>(page: &Page, out: &mut Counted<'_, W>) -> io::Result<()> {
    let team_of = |owner: u32| -> String {
        let of = page.owner(owner);
        match of.kind {
            OwnerKind::Person => of.team.clone().unwrap_or_else(|| "no team".to_owned()),
            OwnerKind::Program => "programs".to_owned(),
            OwnerKind::Kept => "kept keys".to_owned(),
            OwnerKind::Nobody => "owner unknown".to_owned(),
        }
    };
    let tag_of = |host: u32| page.host(host).tags.first().map_or("no tag", String::as_str);
    let teams: Vec<String> =
        (0..page.owners.len()).map(|owner| team_of(u32::try_from(owner).unwrap_or_default())).collect();
    let mut cells: BTreeMap<(&str, &str), Between> = BTreeMap::new();
    for way in &page.ways {
        let cell = cells.entry((&teams[way.owner as usize], tag_of(way.host))).or_default();
        let differs = usize::from(matches!(way.state, WayMark::Missing | WayMark::NotRegistered));
        cell.ways += 1;
        cell.differing += differs;
        cell.hosts.insert(way.host);
        let of = cell.owners.entry(way.owner).or_default();
        of.0 += 1;
        of.1 += differs;
    }
    let rows: BTreeSet<&str> = cells.keys().map(|(team, _)| *team).collect();
    let tags: BTreeSet<&str> = cells.keys().map(|(_, tag)| *tag).collect();
    out.raw("<p>One table cannot show so many people and hosts: it shows teams and tags. Each cell opens in place; below, each person and each host has a section of its own.</p>")?;
    out.raw("<div class=\"scroll\" role=\"region\" aria-label=\"Teams and tags\" tabindex=\"0\"><table class=\"matrix\"><thead>")?;
    out.markup(&html! { tr { th scope="col" { "Team" } @for tag in &tags { th scope="col" { (tag) } } } })?;
    out.raw("</thead><tbody>")?;
    for row in rows {
        out.raw("<tr>")?;
        out.markup(&html! { th scope="row" { (row) } })?;
        for tag in &tags {
            out.raw("<td>")?;
            if let Some(cell) = cells.get(&(row, *tag)) {
                between(page, cell, out)?;
            }
            out.raw("</td>")?;
        }
        out.raw("</tr>")?;
    }
    out.raw("</tbody></table></div>")
}

fn between<W: Write>(page: &Page, cell: &Between, out: &mut Counted<'_, W>) -> io::Result<()> {
    out.markup(&html! {
        (maud::PreEscaped("<details>"))
        summary {
            (cell.ways) " ways into " (cell.hosts.len()) " hosts"
            @if cell.differing > 0 { span class="bad" { ", " (cell.differing) " differ" } }
        }
    })?;
    out.raw("<ul class=\"names\">")?;
    for (owner, (ways, differing)) in cell.owners.iter().take(NAMED_MAX) {
        out.markup(&html! {
            li { a href={ "#" (page.owner_anchor(*owner)) } { (page.owner(*owner).id) } " " (ways) @if *differing > 0 { span class="bad" { " (" (differing) " differ)" } } }
        })?;
    }
    if cell.owners.len() > NAMED_MAX {
        out.markup(&html! { li { "and " (cell.owners.len() - NAMED_MAX) " more" } })?;
    }
    out.raw("</ul></details>")
}
