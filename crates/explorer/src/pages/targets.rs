//! Lists of targets: by kind, and by package.

use std::collections::BTreeMap;

use maud::{Markup, html};
use nubrik_graph::{Target, TargetId};
use nubrik_wording::{counted, duration, plural};

use crate::links::{About, page};
use crate::look::{SitePage, prose};
use crate::pages::naming::target_link;
use crate::site::{Site, kind_of};

/// More rows than this are not put into one page.
pub(crate) const ROWS: usize = 1_000;

/// More packages than this are not named in one list.
const PACKAGES: usize = 200;

/// Kinds with how many there are of each.
pub(crate) fn kind_chips(site: &Site) -> Markup {
    html! {
        ul.chips {
            @for (kind, count) in site.kinds() {
                li { a href=(page(About::Kind, &kind)) { b { (count) } " " (plural(&kind, count)) } }
            }
        }
    }
}

/// The packages below a folder, one level of them, each with how many targets it and what is below
/// it have.
pub(crate) fn package_list(site: &Site, below: &str) -> Markup {
    let mut counts: BTreeMap<&str, (usize, bool)> = BTreeMap::new();
    for (path, targets) in site.packages().packages_in(below) {
        let end = below_end(path, below);
        let entry = counts.entry(&path[..end]).or_default();
        *entry = (entry.0 + targets, entry.1 || end < path.len());
    }
    let own = counts.remove(below);
    html! {
        @if counts.is_empty() {
            @if own.is_some() && below.is_empty() { p { a href=(page(About::Package, "")) { "the root, the only package" } } }
        } @else {
            table {
                thead { tr { th scope="col" { "Package" } th.number scope="col" { "Targets" } } }
                tbody {
                    @if let Some((count, _)) = own.filter(|_| below.is_empty()) {
                        tr { td { a href=(page(About::Package, "")) { "the root" } } td.number { (count) } }
                    }
                    @for (path, (count, has_more)) in counts.iter().take(PACKAGES) {
                        tr {
                            td.name { a href=(page(About::Package, path)) { (path) @if *has_more { "/…" } } }
                            td.number { (count) }
                        }
                    }
                }
            }
            @if counts.len() > PACKAGES { p.lead { "and " (counts.len() - PACKAGES) " more; the search finds them" } }
        }
    }
}

/// Where the first folder below another one ends in a path.
fn below_end(path: &str, folder: &str) -> usize {
    let from = if folder.is_empty() {
        0
    } else {
        (folder.len() + 1).min(path.len())
    };
    path[from..].find('/').map_or(path.len(), |at| from + at)
}

/// Rows about targets.
pub(crate) fn target_rows<'s>(
    site: &'s Site,
    targets: impl Iterator<Item = (TargetId, &'s Target)>,
) -> Markup {
    let mut all: Vec<_> = targets.collect();
    all.sort_by(|a, b| a.1.address.cmp(&b.1.address));
    let more = all.len().saturating_sub(ROWS);
    html! {
        div.scroll {
            table {
                thead { tr {
                    th scope="col" { "Target" } th scope="col" { "Kind" } th scope="col" { "What it is" } th.number scope="col" { "Steps" } th.number scope="col" { "Took" }
                } }
                tbody {
                    @for (id, target) in all.iter().take(ROWS) {
                        tr {
                            td.name { (target_link(site, *id)) }
                            td { (kind_of(target)) }
                            td { (prose(target.documentation.lines().next().unwrap_or(""))) }
                            td.number { (site.steps[id.index()].len()) }
                            td.number { @let cost = site.cost(*id); @if cost > 0 { (duration(cost)) } }
                        }
                    }
                }
            }
        }
        @if more > 0 { p.lead { "and " (more) " more; packages and the search find them" } }
    }
}

/// All kinds, and all packages.
pub(crate) fn kinds(site: &Site) -> SitePage {
    let body = html! {
        h1 { "Targets" }
        (kind_chips(site))
        h2 { "Packages" }
        (package_list(site, ""))
        @if site.packages().count() <= ROWS {
            h2 { "All of them" }
            (target_rows(site, site.declared()))
        }
    };
    SitePage {
        title: "Targets".to_owned(),
        part: "kinds.html",
        body,
    }
}

/// Targets of a kind; nothing where there is none.
pub(crate) fn kind(site: &Site, kind: &str) -> Option<SitePage> {
    let count = site
        .declared()
        .filter(|(_, target)| *kind_of(target) == *kind)
        .count();
    let body = html! {
        h1 { (kind) }
        p.lead { (counted(count, "target")) @if count == 1 { " is one" } @else { " are one" } }
        @if let Some(topic) = site.topics.iter().find(|topic| topic.name == kind) {
            p { (prose(&topic.summary)) " " a href=(page(About::Topic, &topic.name)) { "More about it" } }
        }
        (target_rows(site, site.declared().filter(|(_, target)| *kind_of(target) == *kind)))
    };
    (count > 0).then(|| SitePage {
        title: kind.to_owned(),
        part: "kinds.html",
        body,
    })
}

/// What a package holds; nothing where there is none, and none is below.
pub(crate) fn package(site: &Site, path: &str) -> Option<SitePage> {
    let is_any = site.packages().packages_in(path).next().is_some();
    let own = || {
        site.packages()
            .package(path)
            .iter()
            .map(|id| (*id, site.graph().target(*id)))
    };
    let definitions = nubrik_source::WsPath::from_normal(path)
        .child(nubrik_lang::TARGETS_FILE)
        .to_string();
    let body = html! {
        @if !path.is_empty() { (crumbs(path.rsplit_once('/').map_or("", |(above, _)| above))) }
        h1 { @if path.is_empty() { "The root" } @else { (path) } }
        @if site.paths().contains(&definitions) {
            p { "Defined in " a.name href=(page(About::File, &definitions)) { (definitions) } }
        }
        @if own().next().is_some() { (target_rows(site, own())) }
        @if !path.is_empty() { (package_list(site, path)) }
    };
    is_any.then(|| SitePage {
        title: path.to_owned(),
        part: "kinds.html",
        body,
    })
}

/// Links to the packages that something is in, the root first.
pub(crate) fn crumbs(package: &str) -> Markup {
    let ends = package
        .match_indices('/')
        .map(|(at, _)| at)
        .chain((!package.is_empty()).then_some(package.len()));
    html! {
        p.lead {
            a href=(page(About::Package, "")) { "root" }
            @for end in ends { " / " a href=(page(About::Package, &package[..end])) { (package[..end].rsplit('/').next().unwrap_or("")) } }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packages_are_listed_a_level_at_a_time() {
        assert_eq!(&"a/b/c"[..below_end("a/b/c", "")], "a");
        assert_eq!(&"a/b/c"[..below_end("a/b/c", "a")], "a/b");
        assert_eq!(below_end("a", "a"), 1);
    }
}
