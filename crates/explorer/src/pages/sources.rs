//! Texts: definitions with links, sources, and what was made.

use std::fs;
use std::io::Read;
use std::sync::Arc;
use std::time::UNIX_EPOCH;

use maud::{Markup, html};
use nubrik_graph::{FileId, Place};
use nubrik_lang::meanings::NameMeaning;
use nubrik_wording::{counted, size};

use crate::links::{About, page};
use crate::look::SitePage;
use crate::pages::naming::{file_link, target_link};
use crate::pages::targets::crumbs;
use crate::site::Site;
use crate::text_lines::TextLines;

/// Longer files are shown in part, in bytes.
const SHOWN: usize = 512 << 10;

/// So many users of a file are named.
const USERS: usize = 40;

/// Bytes as text: what is no text is replaced, and of much only the beginning is there.
pub(crate) fn text_of(bytes: &[u8], most: usize) -> String {
    let cut = bytes.get(..most).unwrap_or(bytes);
    let mut text = String::from_utf8_lossy(cut).replace(
        |c: char| c.is_control() && c != '\n' && c != '\t',
        "\u{fffd}",
    );
    if cut.len() < bytes.len() {
        text.push_str("\n…");
    }
    text
}

/// The text of a definition, every name of a target in it a link.
pub(crate) fn definition(site: &Site, place: &Place) -> Markup {
    let Some(text) = read_text(site, &place.file) else {
        return html! { p.lead { "Its text is not in the workspace: " (place.to_string()) } };
    };
    let lines = lines_of(site, &place.file, &text);
    let (from, to) = lines.declaration_at(place.line as usize);
    lines.markup(from, to)
}

fn read_text(site: &Site, path: &str) -> Option<Arc<str>> {
    if !site.paths().contains(path) {
        return None;
    }
    let mut bytes = Vec::new();
    let file = fs::File::open(site.session.workspace.root.join(path))
        .ok()
        .filter(|f| f.metadata().is_ok_and(|m| m.is_file()))?;
    file.take(SHOWN as u64 + 1).read_to_end(&mut bytes).ok()?;
    (bytes.len() <= SHOWN)
        .then(|| String::from_utf8(bytes).ok())
        .flatten()
        .map(Arc::from)
}

/// The lines of a text with a path.
fn lines_of(site: &Site, path: &str, text: &Arc<str>) -> Arc<TextLines> {
    let leads_to = |lines: &TextLines, meaning: NameMeaning| page_of(site, path, lines, meaning);
    site.last_lines
        .of(path, text, || TextLines::of(site, path, text, &leads_to))
}

/// The page that something leads to, if there is one.
fn page_of(site: &Site, path: &str, lines: &TextLines, meaning: NameMeaning) -> Option<String> {
    let topic = |name: &str| {
        site.topics
            .iter()
            .any(|topic| topic.name == name)
            .then(|| page(About::Topic, name))
    };
    let file = |path: &str| site.paths().contains(path).then(|| page(About::File, path));
    match meaning {
        NameMeaning::Target(address) => Some(page(About::Target, &address)),
        NameMeaning::Declared(token) => {
            file(path).map(|page| format!("{page}#l{}", lines.line_of(token.start as usize) + 1))
        }
        NameMeaning::InFile(path) | NameMeaning::File(path) => file(&path),
        NameMeaning::OfKit(name) | NameMeaning::Known(name) => topic(&name),
    }
}

/// The page of a file; nothing where no definition knows it.
pub(crate) fn file(site: &Site, path: &str) -> Option<SitePage> {
    if !site.paths().contains(path) {
        return None;
    }
    let graph = site.graph();
    let known = site.files().file(path);
    let maker = known.and_then(|file| graph.file(file).maker);
    let at = site.session.workspace.root.join(path);
    let length = fs::metadata(&at)
        .ok()
        .filter(fs::Metadata::is_file)
        .map(|meta| meta.len());
    let text = read_text(site, path).filter(|text| !text.contains('\0'));
    let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
    // What a source was when it ran, if it was changed after that, is not known.
    let changed = fs::metadata(&at).and_then(|meta| meta.modified()).ok();
    let changed = changed
        .and_then(|at| at.duration_since(UNIX_EPOCH).ok())
        .map_or(0, |time| time.as_secs());
    let ran = site
        .lines()
        .filter(|(_, asked)| changed <= *asked)
        .and_then(|(lines, _)| lines.files.get(path));
    let body = html! {
        @if maker.is_none() { (crumbs(package_of(site, folder))) }
        h1 { (path.rsplit('/').next().unwrap_or(path)) }
        dl.facts {
            dt { "Path" } dd { code { (path) } }
            @if let Some(length) = length { dt { "Size" } dd { (size(length)) } }
            @if let Some(maker) = maker {
                dt { "Made by" }
                dd { (target_link(site, graph.step(maker).target)) ", " span.say { (graph.step(maker).say) } }
            }
            @if let Some(known) = known { dt { "Read by" } dd { (readers(site, known)) } }
            @if let Some(ran) = ran {
                dt { "Tests ran" } dd { (ran.covered()) " of " (counted(ran.len(), "line")) " that can run: marked at their left" }
            }
        }
        (listing(site, path))
        @match (&text, length) {
            (Some(text), _) => { @let lines = lines_of(site, path, text); (lines.markup_with(0, lines.count() - 1, ran)) },
            (None, None) => { p.lead { "It is not there now" @if maker.is_some() { ": nothing was built, or only what needs it came from a store" } "." } },
            (None, Some(_)) if archive(site, path).is_some() => {},
            (None, Some(length)) => { p.lead { "Its content is no text, or too long to be shown: " (size(length)) "." } },
        }
    };
    Some(SitePage {
        title: path.rsplit('/').next().unwrap_or(path).to_owned(),
        part: "kinds.html",
        body,
    })
}

/// Larger archives are not looked into, in bytes.
const ARCHIVE: u64 = 64 << 20;

/// More entries than this are put away, and more than so many times as many are not shown.
const ENTRIES: usize = 200;

/// What an archive that is there holds: names in their order, with how many bytes each has.
fn archive(site: &Site, path: &str) -> Option<Vec<(String, u64)>> {
    let at = site.session.workspace.root.join(path);
    let is_short = fs::metadata(&at).is_ok_and(|meta| meta.is_file() && meta.len() <= ARCHIVE);
    let file = is_short.then(|| fs::File::open(&at).ok()).flatten()?;
    let mut head = Vec::new();
    file.take(nubrik_contrast::HEAD)
        .read_to_end(&mut head)
        .ok()?;
    nubrik_contrast::may_be_archive(&head)
        .then(|| nubrik_contrast::listed(&fs::read(&at).ok()?))
        .flatten()
}

/// What is in an archive, as a part of a page; nothing of what is none.
pub(crate) fn listing(site: &Site, path: &str) -> Markup {
    let entries = archive(site, path).unwrap_or_default();
    html! {
        @if !entries.is_empty() {
            details open[entries.len() <= ENTRIES] {
                summary { (counted(entries.len(), "entry")) " in " code { (path.rsplit('/').next().unwrap_or(path)) } }
                div.scroll { table {
                    thead { tr { th scope="col" { "Entry" } th.number scope="col" { "Size" } } }
                    tbody { @for (name, length) in entries.iter().take(ENTRIES * 10) { tr { td.name { (name) } td.number { (size(*length)) } } } }
                } }
                @if entries.len() > ENTRIES * 10 { p.lead { "and " (entries.len() - ENTRIES * 10) " more" } }
            }
        }
    }
}

/// The package that a folder belongs to: the nearest one above it, or itself.
fn package_of<'p>(site: &Site, folder: &'p str) -> &'p str {
    let mut at = folder;
    while !at.is_empty() && site.packages().package(at).is_empty() {
        at = at.rsplit_once('/').map_or("", |(above, _)| above);
    }
    at
}

/// Steps that read a file.
fn readers(site: &Site, file: FileId) -> Markup {
    let targets = site.files().readers(file);
    html! {
        @if targets.is_empty() { "no step" }
        @for (n, target) in targets.iter().take(USERS).enumerate() { @if n > 0 { ", " } (target_link(site, *target)) }
        @if targets.len() > USERS { " and " (counted(targets.len() - USERS, "more target")) }
        @if site.graph().file(file).folder { " " (file_link(site, file)) }
    }
}
