//! Links to things by their names.

use maud::{Markup, html};
use nubrik_graph::{FileId, Place, TargetId};

use crate::links::{About, page};
use crate::site::Site;

/// A link to a target.
pub(crate) fn target_link(site: &Site, id: TargetId) -> Markup {
    let address = &site.graph().target(id).address;
    html! { a.name href=(page(About::Target, address)) { (address) } }
}

/// Where something was declared.
pub(crate) fn place_link(site: &Site, place: &Place) -> Markup {
    html! {
        @if site.paths().contains(&*place.file) {
            a.name href=(format!("{}#l{}", page(About::File, &place.file), place.line)) { (place.to_string()) }
        } @else { span.name { (place.to_string()) } }
    }
}

/// A file as people know it: a source by its path, what a step makes by its name and target.
pub(crate) fn file_link(site: &Site, file: FileId) -> Markup {
    let graph = site.graph();
    let node = graph.file(file);
    match node.maker {
        None if node.folder => html! { span.name { (node.path.as_str()) "/" } },
        None => {
            html! { a.name href=(page(About::File, node.path.as_str())) { (node.path.as_str()) } }
        }
        Some(maker) => {
            let name = node
                .path
                .below(&graph.step(maker).folder)
                .unwrap_or(node.path.name());
            html! {
                @if node.folder { span.name { (name) "/" } }
                @else { a.name href=(page(About::File, node.path.as_str())) { (name) } }
                " of " (target_link(site, graph.step(maker).target))
            }
        }
    }
}
