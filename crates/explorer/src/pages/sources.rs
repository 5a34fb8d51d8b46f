//! Texts: definitions with links, sources, and what was made.

use std::fs;
use std::io::Read;
use std::sync::Arc;
use std::time::UNIX_EPOCH;

use maud::{Markup, html};
use nubrik_graph::{FileId, Place};
use nubrik_lang::meanings::{FileNames, NameMeaning, each_token};
use nubrik_reports::coverage::LineCounts;
use nubrik_source::Sources;
use nubrik_syntax::{Node, SyntaxKind, parse};
use nubrik_wording::{counted, size};

use crate::links::{About, page};
use crate::look::SitePage;
use crate::pages::naming::{file_link, target_link};
use crate::pages::targets::crumbs;
use crate::site::Site;

/// Longer files are shown in part, in bytes.
const SHOWN: usize = 512 << 10;

/// So many users of a file are named.
const USERS: usize = 40;

/// Bytes as text: what is no text is replaced, and of much only the beginning is there.
pub(crate) fn text_of(bytes: &[u8], most: usize) -> String {
    let cut = bytes.get(..most).unwrap_or(bytes);
    let mut text =
        String::from_utf8_lossy(cut).replace(|c: char| c.is_control() && c != '\n' && c != '\t', "\u{fffd}");
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
    let lines = site.lines_of(&place.file, &text);
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
    (bytes.len() <= SHOWN).then(|| String::from_utf8(bytes).ok()).flatten().map(Arc::from)
}

/// A text in lines, with what each part of it is.
pub(crate) struct TextLines {
    text: Arc<str>,
    /// Where each line begins.
    starts: Vec<usize>,
    /// Parts that are shown in some way, in order: where they are, their class, and where they lead.
    parts: Vec<(usize, usize, &'static str, Option<String>)>,
    /// Where declarations begin and end, by lines from 0.
    declarations: Vec<(usize, usize)>,
}

impl TextLines {
    /// Those of a text with a path.
    pub fn of(site: &Site, path: &str, text: &Arc<str>) -> TextLines {
        let mut starts = vec![0];
        starts.extend(text.match_indices('\n').map(|(at, _)| at + 1));
        let mut lines = TextLines { text: text.clone(), starts, parts: Vec::new(), declarations: Vec::new() };
        if path.ends_with(".nub") {
            let mut sources = Sources::default();
            let file = sources.add(path, text.clone());
            let parsed = parse(file, text);
            for node in parsed.tree.root().children() {
                if node.kind().is_declaration() {
                    let (from, to) = lines.range_of(&node);
                    lines.declarations.push((from, to));
                }
            }
            let names = FileNames::of(site, path, parsed.tree.root());
            let mut parts = Vec::new();
            each_token(parsed.tree.root(), &mut |at| {
                let class = class_of(at.token.kind, at.node.token_text(at.token));
                // The name that a declaration gives leads nowhere else.
                let is_own = at.node.kind().is_declaration();
                let meaning = names.meaning(at).filter(|_| !is_own);
                let link = meaning.and_then(|meaning| page_of(site, path, &lines, meaning));
                if !class.is_empty() || link.is_some() {
                    parts.push((at.token.start as usize, at.token.end as usize, class, link));
                }
            });
            lines.parts = parts;
        }
        lines
    }

    /// The whole text.
    pub fn text(&self) -> &Arc<str> {
        &self.text
    }

    fn line_of(&self, at: usize) -> usize {
        self.starts.partition_point(|start| *start <= at) - 1
    }

    /// The lines of a declaration, with the comments right above it.
    fn range_of(&self, node: &Node<'_>) -> (usize, usize) {
        let range = node.range();
        let (mut from, to) = (self.line_of(range.0), self.line_of(range.1.saturating_sub(1).max(range.0)));
        while from > 0 && self.line(from - 1).trim_start().starts_with('#') {
            from -= 1;
        }
        (from, to)
    }

    fn line(&self, number: usize) -> &str {
        let end = self.starts.get(number + 1).map_or(self.text.len(), |next| next - 1);
        &self.text[self.starts[number]..end]
    }

    /// The declaration that has a line, counted from 1; if none has, the line and a few after it.
    fn declaration_at(&self, line: usize) -> (usize, usize) {
        let at = line.saturating_sub(1).min(self.starts.len() - 1);
        let own = self.declarations.iter().find(|(from, to)| (*from..=*to).contains(&at));
        own.copied().unwrap_or((at, (at + 8).min(self.starts.len() - 1)))
    }

    /// Lines as they are shown, from one to another.
    fn markup(&self, from: usize, to: usize) -> Markup {
        self.markup_with(from, to, None)
    }

    /// The same, with which of them tests ran, where that is known.
    fn markup_with(&self, from: usize, to: usize, lines: Option<&LineCounts>) -> Markup {
        // Of those that can run; what a mark means is said in its words, too.
        let branches = lines.map(LineCounts::branches_by_line).unwrap_or_default();
        let mark = |number: usize| match lines.and_then(|lines| lines.times(number as u32 + 1)) {
            None => ("", None),
            Some(0) => ("missed", Some("no test ran it".to_owned())),
            Some(times) => {
                let ran = format!("tests ran it {}", counted(times as usize, "time"));
                match branches.get(&(number as u32 + 1)) {
                    Some(sum) if sum.taken < sum.all => {
                        ("partly", Some(format!("{ran}, and took {} of {} branches", sum.taken, sum.all)))
                    }
                    _ => ("covered", Some(ran)),
                }
            }
        };
        html! {
            pre.lines {
                @for number in from..=to.min(self.starts.len() - 1) {
                    @let (class, told) = mark(number);
                    span id=(format!("l{}", number + 1)) class=(class) title=[told] {
                        a.no href=(format!("#l{}", number + 1)) { (number + 1) }
                        (self.line_markup(number))
                        "\n"
                    }
                }
            }
        }
    }

    fn line_markup(&self, number: usize) -> Markup {
        let (start, end) = (self.starts[number], self.starts[number] + self.line(number).len());
        let first = self.parts.partition_point(|(_, to, _, _)| *to <= start);
        let mut at = start;
        let mut out = Vec::new();
        for (from, to, class, link) in &self.parts[first..] {
            let (from, to) = ((*from).max(at), (*to).min(end));
            if from >= end {
                break;
            }
            if from > at {
                out.push(html! { (&self.text[at..from]) });
            }
            let text = &self.text[from..to.max(from)];
            out.push(match link {
                Some(link) => html! { a href=(link) class=(class) { (text) } },
                None => html! { span class=(class) { (text) } },
            });
            at = to.max(at);
        }
        out.push(html! { (&self.text[at.min(end)..end]) });
        html! { @for part in out { (part) } }
    }
}

/// How a token is shown.
fn class_of(kind: SyntaxKind, text: &str) -> &'static str {
    match kind {
        SyntaxKind::Comment | SyntaxKind::DocComment => "comment",
        kind if kind.is_of_text() => "text",
        SyntaxKind::Int | SyntaxKind::Duration => "amount",
        kind if kind.is_of_command() => "command",
        SyntaxKind::Word
            if nubrik_syntax::DECLARATION_WORDS.contains(&text) || nubrik_syntax::is_reserved(text) =>
        {
            "keyword"
        }
        _ => "",
    }
}

/// The page that something leads to, if there is one.
fn page_of(site: &Site, path: &str, lines: &TextLines, meaning: NameMeaning) -> Option<String> {
    let topic =
        |name: &str| site.topics.iter().any(|topic| topic.name == name).then(|| page(About::Topic, name));
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
    let known = site.known().file(path);
    let maker = known.and_then(|file| graph.file(file).maker);
    let at = site.session.workspace.root.join(path);
    let length = fs::metadata(&at).ok().filter(fs::Metadata::is_file).map(|meta| meta.len());
    let text = read_text(site, path).filter(|text| !text.contains('\0'));
    let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
    // What a source was when it ran, if it was changed after that, is not known.
    let changed = fs::metadata(&at).and_then(|meta| meta.modified()).ok();
    let changed = changed.and_then(|at| at.duration_since(UNIX_EPOCH).ok()).map_or(0, |time| time.as_secs());
    let ran =
        site.lines().filter(|(_, asked)| changed <= *asked).and_then(|(lines, _)| lines.files.get(path));
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
            (Some(text), _) => { @let lines = site.lines_of(path, text); (lines.markup_with(0, lines.starts.len() - 1, ran)) },
            (None, None) => { p.lead { "It is not there now" @if maker.is_some() { ": nothing was built, or only what needs it came from a store" } "." } },
            (None, Some(_)) if archive(site, path).is_some() => {},
            (None, Some(length)) => { p.lead { "Its content is no text, or too long to be shown: " (size(length)) "." } },
        }
    };
    Some(SitePage { title: path.rsplit('/').next().unwrap_or(path).to_owned(), part: "kinds.html", body })
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
    file.take(nubrik_contrast::HEAD).read_to_end(&mut head).ok()?;
    nubrik_contrast::may_be_archive(&head).then(|| nubrik_contrast::listed(&fs::read(&at).ok()?)).flatten()
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
    while !at.is_empty() && site.known().package(at).is_empty() {
        at = at.rsplit_once('/').map_or("", |(above, _)| above);
    }
    at
}

/// Steps that read a file.
fn readers(site: &Site, file: FileId) -> Markup {
    let targets = site.known().readers(file);
    html! {
        @if targets.is_empty() { "no step" }
        @for (n, target) in targets.iter().take(USERS).enumerate() { @if n > 0 { ", " } (target_link(site, *target)) }
        @if targets.len() > USERS { " and " (counted(targets.len() - USERS, "more target")) }
        @if site.graph().file(file).folder { " " (file_link(site, file)) }
    }
}
