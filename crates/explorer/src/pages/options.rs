//! Options, and how profiles set them.

use maud::{Markup, html};
use nubrik_wording::counted;

use crate::links::{About, page};
use crate::look::{SitePage, prose};
use crate::pages::naming::place_link;
use crate::site::Site;

/// So many readers are named at once.
const READERS: usize = 6;

pub(crate) fn options(site: &Site) -> SitePage {
    let options = &site.options().options;
    let body = html! {
        h1 { "Options" }
        @if options.is_empty() { p { "These definitions declare no options: " code { "nubrik explain option" } } }
        (profiles(site))
        @for option in options {
            section.step id=(option.full_name.replace(['/', '.', ':'], "-")) {
                h3 { code { (option.name) } " " span.lead { (option.ty) } }
                @if !option.documentation.is_empty() { p { (prose(&option.documentation)) } }
                dl.facts {
                    dt { "Value" }
                    dd {
                        code { (option.value.as_deref().unwrap_or("?")) }
                        @if option.value == option.default { ", its default" } @else { ", its default is " code { (option.default.as_deref().unwrap_or("?")) } }
                    }
                    dt { "Declared" } dd { (place_link(site, &option.place)) " as " code { (option.full_name) } }
                    dt { "Read by" }
                    dd {
                        @if option.readers.is_empty() { "no target: setting it changes nothing" }
                        @for (n, reader) in option.readers.iter().take(READERS).enumerate() { @if n > 0 { ", " } a.name href=(page(About::Target, reader)) { (reader) } }
                        @if option.readers.len() > READERS {
                            details { summary { (counted(option.readers.len() - READERS, "more target")) }
                                @for (n, reader) in option.readers.iter().skip(READERS).enumerate() { @if n > 0 { ", " } a.name href=(page(About::Target, reader)) { (reader) } } }
                        }
                    }
                }
            }
        }
    };
    SitePage {
        title: "Options".to_owned(),
        part: "options.html",
        body,
    }
}

/// A column for each profile, a row for each option that one sets: what differs is side by side.
fn profiles(site: &Site) -> Markup {
    let profiles = &site.session.workspace.settings.profiles;
    let mut names: Vec<&str> = profiles
        .values()
        .flatten()
        .map(|set| set.0.as_str())
        .collect();
    names.sort_unstable();
    names.dedup();
    let options = &site.options().options;
    let default = |name: &str| {
        let option = options
            .iter()
            .find(|option| option.name == name || option.full_name == name);
        option
            .and_then(|option| option.default.clone())
            .unwrap_or_default()
    };
    html! {
        @if !profiles.is_empty() {
            h2 { "Profiles" }
            div.scroll { table {
                thead { tr { th scope="col" { "Option" } th scope="col" { "Without one" } @for name in profiles.keys() { th scope="col" { (name) } } } }
                tbody {
                    @for option in &names {
                        tr {
                            th scope="row" { code { (option) } }
                            td { code { (default(option)) } }
                            @for set in profiles.values() {
                                td { @match set.iter().find(|set| set.0 == *option) {
                                    Some(set) => { strong { code { (set.1.to_string()) } } },
                                    None => { span.lead { code { (default(option)) } } },
                                } }
                            }
                        }
                    }
                }
            } }
        }
    }
}
