//! A section for each owner and each host, which can be linked to and printed by itself.

use super::{Counted, OPEN_MAX, OwnerKind, Page, PageWay, WayMark, mark};
use maud::{Markup, html};
use std::io::{self, Write};

/// The owners, each with everything that their keys open.
pub(super) fn owners<W: Write>(page: &Page, out: &mut Counted<'_, W>) -> io::Result<()> {
    out.raw("<section id=\"owners\" aria-labelledby=\"owners-h\"><h2 id=\"owners-h\">Person by person</h2>")?;
    out.markup(&note(page))?;
    let mut order: Vec<u32> = (0..u32::try_from(page.ways.len()).unwrap_or(u32::MAX)).collect();
    let way = |number: u32| &page.ways[number as usize];
    order.sort_unstable_by_key(|number| {
        let way = way(*number);
        (way.owner, way.state, way.account, way.key, way.limits, way.host)
    });
    let mut rest = order.as_slice();
    let is_open = page.owners.len() <= OPEN_MAX;
    for index in 0..page.owners.len() {
        let number = u32::try_from(index).unwrap_or(u32::MAX);
        let own = rest.partition_point(|at| way(*at).owner <= number);
        let (own, others) = rest.split_at(own);
        rest = others;
        begin(out, index, is_open)?;
        out.markup(&owner_head(page, number, own.len()))?;
        for same in own.chunk_by(|one, other| alike(way(*one), way(*other))) {
            same_ways(page, same, out)?;
        }
        out.raw("</div></details>")?;
    }
    out.raw(if is_open { "</section>" } else { "</div></section>" })
}

fn note(page: &Page) -> Markup {
    html! { @if !page.is_small() { p { small { "What has no mark is as registered." } } } }
}

/// Whether two ways of one owner differ only in their hosts.
fn alike(one: &PageWay, other: &PageWay) -> bool {
    (one.state, one.account, one.key, one.limits) == (other.state, other.account, other.key, other.limits)
}

/// Sections that a browser lays out together: it looks at each box of its own whenever one scrolls.
const TOGETHER: usize = 100;

/// The beginning of a section; it is open where there are few.
fn begin<W: Write>(out: &mut Counted<'_, W>, number: usize, is_open: bool) -> io::Result<()> {
    if !is_open && number.is_multiple_of(TOGETHER) {
        out.raw(if number == 0 { "<div class=\"many\">" } else { "</div><div class=\"many\">" })?;
    }
    out.raw(if is_open { "<details class=\"part\" open data-f>" } else { "<details class=\"part\" data-f>" })
}

/// In a large report a way that is as registered has no mark.
fn mark_of(page: &Page, state: WayMark) -> Markup {
    html! { @if page.is_small() || state != WayMark::AsRegistered { (mark(state)) } }
}

fn ways_in(count: usize) -> String {
    if count == 1 { "1 way in".to_owned() } else { format!("{count} ways in") }
}

fn owner_head(page: &Page, number: u32, ways: usize) -> Markup {
    let owner = page.owner(number);
    html! {
        summary {
            b { (owner.id) }
            @if owner.name != owner.id { " " (owner.name) }
            small {
                @if let Some(team) = &owner.team { " · " (team) }
                " · " (ways_in(ways))
            }
            @if let Some(left) = &owner.left { span class="bad" { " · left " (left) } }
        }
        (maud::PreEscaped(format!("<div class=\"in\" id=\"{}\">", page.owner_anchor(number))))
        @if !owner.keys.is_empty() {
            ul class="keys" { @for key in &owner.keys { li { (key) } } }
        }
        @if ways == 0 && owner.kind == OwnerKind::Person { p { "No key of theirs opens anything that was seen." } }
    }
}

fn same_ways<W: Write>(page: &Page, same: &[u32], out: &mut Counted<'_, W>) -> io::Result<()> {
    let first = &page.ways[same[0] as usize];
    let limits = page.word(first.limits);
    out.markup(
        &html! { (maud::PreEscaped("<p>")) (mark_of(page, first.state)) b { (page.word(first.account)) } " on " },
    )?;
    for (number, at) in same.iter().enumerate() {
        let host = page.ways[*at as usize].host;
        if number > 0 {
            out.raw(", ")?;
        }
        if page.is_small() {
            out.markup(&html! { a href={ "#" (page.host_anchor(host)) } { (page.host(host).id) } })?;
        } else {
            out.markup(&html! { (page.host(host).id) })?;
        }
    }
    out.markup(&html! {
        small {
            " " (page.word(first.key)) @if !limits.is_empty() { "; " (limits) }
            @if page.is_small() || first.state != WayMark::AsRegistered { "; " (first.state.shown().2) }
        }
        (maud::PreEscaped("</p>"))
    })
}

/// The hosts, each with everybody who gets in.
pub(super) fn hosts<W: Write>(page: &Page, out: &mut Counted<'_, W>) -> io::Result<()> {
    out.raw("<section id=\"hosts\" aria-labelledby=\"hosts-h\"><h2 id=\"hosts-h\">Host by host</h2>")?;
    out.markup(&note(page))?;
    let is_open = page.hosts.len() <= OPEN_MAX;
    let mut rest = page.ways.as_slice();
    for index in 0..page.hosts.len() {
        let number = u32::try_from(index).unwrap_or(u32::MAX);
        let own = rest.partition_point(|way| way.host <= number);
        let (own, others) = rest.split_at(own);
        rest = others;
        begin(out, index, is_open)?;
        out.markup(&host_head(page, number, own.len()))?;
        for of_account in own.chunk_by(|one, other| one.account == other.account) {
            account(page, of_account, out)?;
        }
        out.raw("</div></details>")?;
    }
    out.raw(if is_open { "</section>" } else { "</div></section>" })
}

fn host_head(page: &Page, number: u32, ways: usize) -> Markup {
    let host = page.host(number);
    html! {
        summary {
            b { (host.id) }
            small {
                @if !host.tags.is_empty() { " · " (host.tags.join(", ")) }
                @if let Some(site) = &host.site { " · " (site) }
                " · " (ways_in(ways))
                @if let Some(seen) = &host.seen { " · seen " (seen) }
            }
            @if host.seen.is_none() { span class="warn" { " · never seen" } }
            @for (severity, rule, count) in &host.findings {
                " " span class={ "severity " (severity) } title=(severity) { (rule) @if *count > 1 { " ×" (count) } }
            }
        }
        (maud::PreEscaped(format!("<div class=\"in\" id=\"{}\">", page.host_anchor(number))))
        p { small { (host.address) " · " (host.accounts) " accounts" } }
        @if !host.not_read.is_empty() { p class="warn" { "not read: " (host.not_read.join(", ")) } }
        @if ways == 0 && host.seen.is_some() { p { "No key opens an account that was read." } }
        @if host.more_missing > 0 { p class="warn" { "and " (host.more_missing) " more that the register asks for and that are missing" } }
    }
}

fn account<W: Write>(page: &Page, ways: &[PageWay], out: &mut Counted<'_, W>) -> io::Result<()> {
    out.markup(&html! { (maud::PreEscaped("<p>")) b { (page.word(ways[0].account)) } " " })?;
    for (number, way) in ways.iter().enumerate() {
        let owner = page.owner(way.owner);
        let limits = page.word(way.limits);
        if page.is_small() {
            out.raw(if number > 0 { " " } else { "" })?;
            out.markup(&html! {
                span class="who" {
                    (mark(way.state)) a href={ "#" (page.owner_anchor(way.owner)) } { (owner.id) }
                    small { " " (page.word(way.key)) @if !limits.is_empty() { "; " (limits) } }
                }
            })?;
        } else {
            out.raw(if number > 0 { ", " } else { "" })?;
            out.markup(
                &html! { (mark_of(page, way.state)) (owner.id) @if !limits.is_empty() { small { "; " (limits) } } },
            )?;
        }
    }
    out.raw("</p>")
}
