//! The ways through as a graph: hosts in layers, by the number of steps after which they are reached.

use super::{Hops, Page};
use maud::{Markup, html};

/// Sizes in the drawing.
const WIDTH: usize = 190;
const HEIGHT: usize = 46;
const GAP_X: usize = 70;
const GAP_Y: usize = 18;
const MARGIN: usize = 8;

/// Characters of a name that fit into a box.
const NAME_MAX: usize = 24;

pub(super) fn markup(page: &Page) -> Markup {
    html! {
        @if !page.hops.is_empty() {
            section id="hops" aria-labelledby="hops-h" {
                h2 id="hops-h" { "Ways through" }
                p {
                    "What else is lost if one of these hosts is lost: private keys that lie on it open other hosts, step by step. "
                    "A dashed line is not certain."
                }
                @for hops in &page.hops { (one(hops)) }
                @for line in &page.hops_aside { p class="more" { (line) } }
            }
        }
    }
}

fn one(hops: &Hops) -> Markup {
    let layers = hops.nodes.iter().map(|node| node.layer + 1).max().unwrap_or(1);
    let mut filled = vec![0usize; layers];
    let places: Vec<(usize, usize)> = hops
        .nodes
        .iter()
        .map(|node| {
            let row = filled[node.layer];
            filled[node.layer] += 1;
            (MARGIN + node.layer * (WIDTH + GAP_X), MARGIN + row * (HEIGHT + GAP_Y))
        })
        .collect();
    let rows = filled.iter().copied().max().unwrap_or(1);
    let (width, height) = (2 * MARGIN + layers * (WIDTH + GAP_X) - GAP_X, 2 * MARGIN + rows * (HEIGHT + GAP_Y) - GAP_Y);
    html! {
        figure {
            figcaption { b { "From " (hops.from) } ": " (hops.hosts) @if hops.hosts == 1 { " host is reached" } @else { " hosts are reached" } }
            div class="scroll" role="region" aria-label={ "Ways from " (hops.from) } tabindex="0" {
                svg class="graph" xmlns="http://www.w3.org/2000/svg" width=(width) height=(height)
                    viewBox={ "0 0 " (width) " " (height) } role="img" aria-label={ "From " (hops.from) " step by step; the list below says the same" } {
                    @for edge in &hops.edges { (line(edge.certain, places[edge.from], places[edge.to], &edge.evidence)) }
                    @for (node, (x, y)) in hops.nodes.iter().zip(&places) {
                        rect x=(x) y=(y) width=(WIDTH) height=(HEIGHT) rx="4" class={ "l" (node.layer.min(1)) } {}
                        text x=(x + 10) y=(y + 19) class="name" { (shortened(&node.host)) }
                        text x=(x + 10) y=(y + 36) class="who" { (shortened(&node.accounts.join(", "))) }
                    }
                }
            }
            ul class="steps" {
                @for edge in &hops.edges {
                    li {
                        b { (hops.nodes[edge.from].host) " to " (hops.nodes[edge.to].host) }
                        @if !edge.certain { span class="warn" { " perhaps" } }
                        span class="more" { (edge.evidence) }
                    }
                }
            }
        }
    }
}

fn line(certain: bool, from: (usize, usize), to: (usize, usize), evidence: &str) -> Markup {
    let (x, y) = (from.0 + WIDTH, from.1 + HEIGHT / 2);
    let (to_x, to_y) = (to.0, to.1 + HEIGHT / 2);
    let middle = usize::midpoint(x, to_x);
    let path = format!("M{x} {y}C{middle} {y} {middle} {to_y} {to_x} {to_y}");
    let class = if certain { "edge" } else { "edge doubt" };
    html! { path d=(path) class=(class) { title { (evidence) } } }
}

fn shortened(name: &str) -> String {
    if name.chars().count() <= NAME_MAX {
        return name.to_owned();
    }
    name.chars().take(NAME_MAX - 1).chain(['…']).collect()
}
