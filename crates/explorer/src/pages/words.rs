//! What words mean: the language, kits, states, settings, errors.

use maud::html;

use crate::links::{About, page};
use crate::look::{SitePage, prose};
use crate::site::Site;

pub(crate) fn words(site: &Site) -> SitePage {
    let mut categories: Vec<&str> = site.topics.iter().map(|topic| topic.category).collect();
    categories.dedup();
    let body = html! {
        h1 { "Reference" }
        p.lead { "What each word of definitions, of settings and of messages means; " code { "nubrik explain WORD" } " tells the same." }
        @for (n, category) in categories.iter().enumerate() {
            @if !categories[..n].contains(category) {
                h2 { (category) }
                ul.chips { @for topic in site.topics.iter().filter(|topic| topic.category == *category) {
                    li { a href=(page(About::Topic, &topic.name)) { (topic.name) } }
                } }
            }
        }
    };
    SitePage {
        title: "Reference".to_owned(),
        part: "words.html",
        body,
    }
}

/// What there is to know about a word; a word may mean several things.
pub(crate) fn topic(site: &Site, name: &str) -> Option<SitePage> {
    let topics: Vec<_> = site
        .topics
        .iter()
        .filter(|topic| topic.name == name)
        .collect();
    let body = html! {
        h1 { (name) }
        @for topic in &topics {
            p.lead { (topic.category) }
            p { (prose(&topic.summary)) }
            @if !topic.parts.is_empty() {
                div.scroll { table {
                    thead { tr { th scope="col" { "Part" } th scope="col" { "Type" } th scope="col" { "What it is for" } } }
                    tbody { @for (part, shape, what) in &topic.parts { tr { td { code { (part) } } td { code { (shape) } } td { (prose(what)) } } } }
                } }
            }
            @if !topic.example.is_empty() { h2 { "Example" } pre { (topic.example) } }
        }
    };
    (!topics.is_empty()).then(|| SitePage {
        title: name.to_owned(),
        part: "words.html",
        body,
    })
}
