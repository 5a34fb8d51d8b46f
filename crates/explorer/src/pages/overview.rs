//! What there is, at one glance.

use maud::{Markup, html};
use nubrik_diagnostic::Severity;
use nubrik_graph::Role;
use nubrik_wording::counted;

use crate::look::SitePage;
use crate::pages::builds::build_rows;
use crate::pages::targets::{kind_chips, package_list};
use crate::site::Site;

/// So many builds are shown.
const BUILDS: usize = 6;

/// So many steps that took the most time are shown.
const DEAREST: usize = 8;

pub(crate) fn overview(site: &Site) -> SitePage {
    let graph = site.graph();
    let declared: Vec<_> = site.declared().collect();
    let tests = declared
        .iter()
        .filter(|(_, target)| target.role == Role::Test)
        .count();
    let builds = site.builds();
    let body = html! {
        h1 { (site.name) }
        p.lead {
            (counted(declared.len(), "target"))
            @if tests > 0 { " (" (counted(tests, "test")) ")" }
            ", " (counted(graph.steps.len(), "step"))
        }
        (problems(site))
        h2 { "Kinds" }
        (kind_chips(site))
        div.columns {
            section {
                h2 { "Packages" }
                (package_list(site, ""))
            }
            section {
                h2 { "Last builds" }
                @if builds.is_empty() { p { "Nothing was built here yet: " code { "nubrik build" } } }
                @else {
                    (build_rows(site, builds.iter().rev().take(BUILDS)))
                    p { a href="builds.html" { "All builds" } }
                }
                (dearest(site))
            }
        }
    };
    SitePage {
        title: "Overview".to_owned(),
        part: "index.html",
        body,
    }
}

/// What is wrong with the definitions: there are fewer pages then than there should be.
fn problems(site: &Site) -> Markup {
    let wrong = site
        .evaluation
        .diagnostics
        .iter()
        .filter(|d| d.severity == Severity::Error);
    let wrong: Vec<_> = wrong.collect();
    html! {
        @if !wrong.is_empty() {
            div.notice.wrong role="note" {
                p { strong { (counted(wrong.len(), "error")) " in the definitions" } ": what they are about is missing here." }
                ul { @for error in wrong.iter().take(5) { li { (error.message) } } }
                p { code { "nubrik lint" } " tells where, and how to fix it." }
            }
        }
    }
}

/// The steps on which most time goes.
fn dearest(site: &Site) -> Markup {
    let mut steps: Vec<(u64, usize)> = (0..site.graph().steps.len())
        .filter_map(|n| Some((site.micros(nubrik_graph::StepId(n as u32))?, n)))
        .filter(|(micros, _)| *micros > 0)
        .collect();
    steps.sort_unstable_by(|a, b| b.cmp(a));
    steps.truncate(DEAREST);
    html! {
        @if !steps.is_empty() {
            h2 { "What takes the most time" }
            table {
                thead { tr { th scope="col" { "Step" } th scope="col" { "Target" } th.number scope="col" { "Took" } } }
                tbody {
                    @for (micros, number) in &steps {
                        @let step = nubrik_graph::StepId(*number as u32);
                        tr {
                            td.say { (site.graph().step(step).say) }
                            td.name { (crate::pages::naming::target_link(site, site.graph().step(step).target)) }
                            td.number { (nubrik_wording::duration(*micros)) }
                        }
                    }
                }
            }
        }
    }
}
