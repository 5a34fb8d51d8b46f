//! What can be found by words, and what was found.

use maud::html;
use nubrik_wording::counted;

use crate::links::{About, page};
use crate::look::SitePage;
use crate::search::{FoundThing, SearchIndex, quoted};
use crate::site::{Site, kind_of};

/// So many are proposed while somebody types.
const PROPOSED: usize = 12;

/// So many are listed on a page.
const LISTED: usize = 200;

/// Everything in a workspace that can be found.
pub(crate) fn index(site: &Site) -> &SearchIndex {
    site.index.get_or_init(|| index_of(site))
}

fn index_of(site: &Site) -> SearchIndex {
    let mut index = SearchIndex::default();
    let graph = site.graph();
    let mut packages: Vec<&str> = site
        .declared()
        .map(|(_, target)| target.package.as_str())
        .collect();
    packages.sort_unstable();
    packages.dedup();
    for (_, target) in site.declared() {
        let more = format!("{} {}", target.documentation, target.tags.join(" "));
        let address = &target.address;
        index.add(
            &kind_of(target),
            address,
            page(About::Target, address),
            &more,
        );
    }
    packages
        .iter()
        .for_each(|path| index.add("package", path, page(About::Package, path), ""));
    for (kind, count) in site.kinds() {
        index.add(
            "kind",
            &kind,
            page(About::Kind, &kind),
            &counted(count, "target"),
        );
    }
    for option in &site.options().options {
        let anchor = format!(
            "options.html#{}",
            option.full_name.replace(['/', '.', ':'], "-")
        );
        index.add("option", &option.full_name, anchor, &option.documentation);
    }
    for topic in &site.topics {
        index.add(
            topic.category,
            &topic.name,
            page(About::Topic, &topic.name),
            &topic.summary,
        );
    }
    let sources = graph
        .files
        .iter()
        .filter(|file| file.maker.is_none() && !file.folder);
    let mut files: Vec<&str> = sources.map(|file| file.path.as_str()).collect();
    files.extend(site.evaluation.definitions().map(|path| path.as_str()));
    files.sort_unstable();
    files.dedup();
    files
        .iter()
        .for_each(|path| index.add("file", path, page(About::File, path), ""));
    index
}

/// What fits some words, as JSON: rows of what it is, its name and its page.
pub(crate) fn found_json(site: &Site, words: &str) -> String {
    let (found, _) = index(site).find(words, PROPOSED);
    let rows = found.iter().map(|f| {
        format!(
            "[{},{},{}]",
            quoted(&f.what),
            quoted(&f.name),
            quoted(&f.page)
        )
    });
    format!("[{}]", rows.collect::<Vec<_>>().join(","))
}

/// The page of what was found.
pub(crate) fn search_page(site: &Site, words: &str) -> SitePage {
    let (found, count) = index(site).find(words, LISTED);
    let body = html! {
        h1 { "Search: " (words) }
        p.lead {
            @if words.trim().is_empty() { "Parts of names or of documentation; all words must match." }
            @else if count == 0 { "No results. Fewer or shorter words find more." }
            @else if count > found.len() { (found.len()) " of " (count) " results" }
            @else { (counted(count, "result")) }
        }
        @if !found.is_empty() {
            table {
                thead { tr { th scope="col" { "Name" } th scope="col" { "What" } } }
                tbody {
                    @for FoundThing { what, name, page } in &found {
                        tr { td.name { a href=(page) { (name) } } td { (what) } }
                    }
                }
            }
        }
    };
    SitePage {
        title: format!("Search: {words}"),
        part: "search.html",
        body,
    }
}
