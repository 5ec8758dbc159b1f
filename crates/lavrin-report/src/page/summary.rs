//! What a reader understands in ten seconds.

use super::Page;
use maud::{Markup, html};

/// Hosts that are named one by one.
const NAMED_MAX: usize = 8;

pub(super) fn markup(page: &Page) -> Markup {
    let summary = &page.summary;
    let hosts = page.hosts.len();
    html! {
        section id="summary" aria-labelledby="summary-h" {
            h2 id="summary-h" { "In short" }
            @if summary.register_faults > 0 {
                p class="warn" {
                    "The register has faults in " (summary.register_faults) @if summary.register_faults == 1 { " place" } @else { " places" }
                    ". What could not be read there is missing on this page."
                }
            }
            div class="tiles" {
                div class="tile" {
                    p class="n" { (summary.seen) @if summary.seen < hosts { span class="of" { " of " (hosts) } } }
                    p { @if hosts == 1 { "host seen" } @else { "hosts seen" } }
                    @if let Some((oldest, newest)) = &summary.looks {
                        p class="more" { @if oldest == newest { "on " (newest) } @else { "from " (oldest) " to " (newest) } }
                    }
                    @if !summary.never_seen.is_empty() {
                        p class="more warn" {
                            "never seen: " (summary.never_seen.iter().take(NAMED_MAX).cloned().collect::<Vec<_>>().join(", "))
                            @if summary.never_seen.len() > NAMED_MAX { " and " (summary.never_seen.len() - NAMED_MAX) " more" }
                        }
                    }
                    @if summary.in_part > 0 { p class="more warn" { (summary.in_part) " read in part" } }
                }
                div class="tile" {
                    p class="n" { (summary.entries) }
                    p { "entries in " (summary.accounts) " accounts" }
                    p class="more" {
                        @for (number, (whose, count)) in summary.by_owner.iter().enumerate() {
                            @if number > 0 { ", " }
                            (count) " " (whose)
                        }
                    }
                }
                div class="tile" {
                    p class="n" { (summary.differing.0 + summary.differing.1) }
                    p { "differences to the register" }
                    p class="more" { (summary.differing.0) " not registered, " (summary.differing.1) " missing" }
                }
                div class="tile" {
                    p class="n" { (summary.findings.iter().map(|(_, count, _)| count).sum::<usize>()) }
                    p { "findings" }
                    ul class="severities" {
                        @for (severity, count, before) in &summary.findings {
                            @if *count > 0 || before.is_some_and(|before| before > 0) {
                                li class=(severity) { b { (count) } " " (severity) @if let Some(before) = before { (change(*count, *before)) } }
                            }
                        }
                    }
                }
                div class="tile" {
                    @match &summary.changes {
                        Some((since, came, went)) => {
                            p class="n" { "+" (came) span class="of" { " −" (went) } }
                            p { "entries came and went" }
                            p class="more" { "since the report of " (since) }
                        }
                        None => {
                            p class="n" { "–" }
                            p { "changes since the last report" }
                            p class="more" { "there is no earlier report of this part" }
                        }
                    }
                }
                div class="tile" {
                    p class="n" { (summary.owed.len()) }
                    p { "removals owed" }
                    @for owed in summary.owed.iter().take(NAMED_MAX) { p class="more warn" { (owed) } }
                    @if summary.owed.len() > NAMED_MAX { p class="more" { "and " (summary.owed.len() - NAMED_MAX) " more" } }
                }
            }
        }
    }
}

fn change(now: usize, before: usize) -> Markup {
    html! {
        span class="change" {
            @if now > before { " (" (now - before) " more)" } @else if now < before { " (" (before - now) " less)" }
        }
    }
}
