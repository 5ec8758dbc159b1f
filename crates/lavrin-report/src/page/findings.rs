//! What is wrong, by what there is to do about it.

use super::{Counted, FindingGroup, Page, ToldFinding};
use maud::{Markup, html};
use std::io::{self, Write};

/// Hosts that one finding names.
const NAMED_MAX: usize = 30;

pub(super) fn write<W: Write>(page: &Page, out: &mut Counted<'_, W>) -> io::Result<()> {
    out.raw("<section id=\"findings\" aria-labelledby=\"findings-h\"><h2 id=\"findings-h\">What to do</h2>")?;
    if page.findings.is_empty() {
        out.raw("<p>Nothing was found.</p>")?;
    }
    for (number, group) in page.findings.iter().enumerate() {
        out.raw(if number < 6 { "<details class=\"part\" open>" } else { "<details class=\"part\">" })?;
        out.markup(&head(group))?;
        out.raw("<ul class=\"told\">")?;
        for told in &group.told {
            out.markup(&one(told))?;
        }
        if group.more > 0 {
            out.markup(&html! { li { "and " (group.more) " more of these; host by host they are counted below, and lavrin audit --format csv lists all" } })?;
        }
        out.raw("</ul></details>")?;
    }
    out.raw("</section>")
}

fn head(group: &FindingGroup) -> Markup {
    let count = group.more + group.told.iter().map(|told| told.hosts.len().max(1)).sum::<usize>();
    html! {
        summary {
            span class={ "severity " (group.severity) } { (group.severity) } " "
            b { (group.about) }
            span class="more" { " " (count) " · " code { (group.rule) } }
        }
    }
}

fn one(told: &ToldFinding) -> Markup {
    html! {
        li {
            p {
                @if told.hosts.len() > 1 { b { (told.hosts.len()) " hosts: " } }
                (told.hosts.iter().take(NAMED_MAX).cloned().collect::<Vec<_>>().join(", "))
                @if told.hosts.len() > NAMED_MAX { " and " (told.hosts.len() - NAMED_MAX) " more" }
                @if !told.place.is_empty() { span class="place" { " " (told.place) } }
            }
            p { (told.message) }
            p class="next" { span { "next: " } code class="copy" { (told.remedy) } }
        }
    }
}
