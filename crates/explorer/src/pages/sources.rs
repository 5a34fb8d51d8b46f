//! Texts: definitions with links, sources, and what was made.

use std::collections::HashMap;
use std::fs;
use std::io::Read;
use std::sync::Arc;

use maud::{Markup, html};
use nubrik_graph::Place;
use nubrik_source::Sources;
use nubrik_syntax::{Element, Node, SyntaxKind, Token, parse, views};

use crate::links::{About, page};
use crate::look::{SitePage, counted, size};
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
    let lines = TextLines::of(site, &place.file, &text);
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
struct TextLines {
    text: Arc<str>,
    /// Where each line begins.
    starts: Vec<usize>,
    /// Parts that are shown in some way, in order: where they are, their class, and where they lead.
    parts: Vec<(usize, usize, &'static str, Option<String>)>,
    /// Where declarations begin and end, by lines from 0.
    declarations: Vec<(usize, usize)>,
}

impl TextLines {
    fn of(site: &Site, path: &str, text: &Arc<str>) -> TextLines {
        let mut starts = vec![0];
        starts.extend(text.match_indices('\n').map(|(at, _)| at + 1));
        let mut lines = TextLines { text: text.clone(), starts, parts: Vec::new(), declarations: Vec::new() };
        if path.ends_with(".nub") {
            let mut sources = Sources::default();
            let file = sources.add(path, text.clone());
            let parsed = parse(file, text);
            let package = path.rsplit_once('/').map_or("", |(folder, _)| folder);
            let names = NamesHere::of(site, path, package, parsed.tree.root(), &lines);
            for node in parsed.tree.root().children() {
                if node.kind().is_declaration() {
                    let (from, to) = lines.range_of(&node);
                    lines.declarations.push((from, to));
                }
            }
            lines.colour(&names, parsed.tree.root());
        }
        lines
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

    fn colour(&mut self, names: &NamesHere<'_>, node: Node<'_>) {
        let mut last: Option<SyntaxKind> = None;
        for element in node.elements() {
            match element {
                Element::Node(id) => self.colour(names, node.node(id)),
                Element::Token(token) => {
                    let text = &self.text[token.start as usize..token.end as usize];
                    let (class, link) = names.look(token.kind, text, last, node);
                    if !class.is_empty() || link.is_some() {
                        self.parts.push((token.start as usize, token.end as usize, class, link));
                    }
                    last = Some(token.kind);
                }
            }
        }
    }

    /// TextLines as they are shown, from one to another.
    fn markup(&self, from: usize, to: usize) -> Markup {
        html! {
            pre.lines {
                @for number in from..=to.min(self.starts.len() - 1) {
                    span id=(format!("l{}", number + 1)) {
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

/// What names in a package's definitions lead to.
struct NamesHere<'s> {
    site: &'s Site,
    package: &'s str,
    /// Targets of the package, by their last names.
    own: HashMap<&'s str, &'s str>,
    /// Names that the file itself declares or uses, with where they lead.
    here: HashMap<String, String>,
    /// Kits of the tool, by the names that they have in the file.
    kits: HashMap<String, String>,
}

impl<'s> NamesHere<'s> {
    fn of(site: &'s Site, path: &str, package: &'s str, root: Node<'_>, lines: &TextLines) -> NamesHere<'s> {
        let own = site.declared().filter(|(_, target)| target.package.as_str() == package);
        let last = |address: &'s str| address.rsplit('/').next().unwrap_or(address);
        let own = own.map(|(_, target)| (last(&target.address), &*target.address)).collect();
        let mut names = NamesHere { site, package, own, here: HashMap::new(), kits: HashMap::new() };
        for node in root.children().filter(|node| node.kind().is_declaration()) {
            let line = |token: Token| lines.line_of(token.start as usize) + 1;
            if node.kind() != SyntaxKind::UseDecl {
                let name = views::declared_name(node);
                let place = name.map(|name| format!("{}#l{}", page(About::File, path), line(name)));
                names
                    .here
                    .extend(name.zip(place).map(|(name, place)| (node.token_text(name).to_owned(), place)));
                continue;
            }
            let Some(kit) = node.child(SyntaxKind::TextExpr).and_then(views::plain_text) else { continue };
            let used = views::used_names(node).into_iter().chain(views::declared_name(node));
            for name in used.map(|name| node.token_text(name)) {
                match (kit.strip_prefix("nub:"), names.file(&kit)) {
                    (Some(kit), _) => drop(names.kits.insert(name.to_owned(), kit.to_owned())),
                    (None, Some(file)) => drop(names.here.insert(name.to_owned(), file)),
                    (None, None) => {}
                }
            }
        }
        names
    }

    /// How a token is shown, and where it leads.
    fn look(
        &self,
        kind: SyntaxKind,
        text: &str,
        before: Option<SyntaxKind>,
        inside: Node<'_>,
    ) -> (&'static str, Option<String>) {
        match kind {
            SyntaxKind::Comment | SyntaxKind::DocComment => ("comment", None),
            SyntaxKind::TextOpen | SyntaxKind::TextPart | SyntaxKind::TextEscape | SyntaxKind::TextClose => {
                ("text", self.file(text))
            }
            SyntaxKind::Int | SyntaxKind::Duration => ("amount", None),
            SyntaxKind::CommandOpen
            | SyntaxKind::CommandClose
            | SyntaxKind::CommandPart
            | SyntaxKind::CommandEscape
            | SyntaxKind::CommandRaw
            | SyntaxKind::CommandOperator
            | SyntaxKind::CommandShell
            | SyntaxKind::QuoteOpen
            | SyntaxKind::QuoteClose => ("command", None),
            SyntaxKind::Ref => ("", self.address(text.trim_start_matches('&'))),
            SyntaxKind::Word
                if nubrik_syntax::DECLARATION_WORDS.contains(&text) || nubrik_syntax::is_reserved(text) =>
            {
                ("keyword", None)
            }
            // What stands behind a dot is a name of something else.
            SyntaxKind::Word if before == Some(SyntaxKind::Dot) => ("", self.of_kit(text, inside)),
            SyntaxKind::Word if inside.kind() == SyntaxKind::NameExpr => ("", self.own(text)),
            _ => ("", None),
        }
    }

    fn own(&self, name: &str) -> Option<String> {
        let own = self.own.get(name).map(|address| page(About::Target, address));
        own.or_else(|| self.here.get(name).cloned()).or_else(|| {
            let topic = self.site.topics.iter().find(|topic| topic.name == name && topic.category == "form");
            topic.map(|topic| page(About::Topic, &topic.name))
        })
    }

    /// Something of a kit, by what stands before the dot.
    fn of_kit(&self, name: &str, inside: Node<'_>) -> Option<String> {
        let kit = self.kits.get(inside.child(SyntaxKind::NameExpr)?.text())?;
        let name = format!("{kit}.{name}");
        self.site.topics.iter().any(|topic| topic.name == name).then(|| page(About::Topic, &name))
    }

    /// A target by an address as definitions write it: from the root, or with the package's name for its main target.
    fn address(&self, address: &str) -> Option<String> {
        let address = address.trim_start_matches('/');
        let last = address.rsplit('/').next().unwrap_or(address);
        let known = [address.to_owned(), format!("{address}/{last}"), format!("{}/{address}", self.package)];
        known
            .iter()
            .find(|known| self.site.graph().find_target(known).is_some())
            .map(|known| page(About::Target, known))
    }

    /// A file by its path, as a text in the package's definitions names it.
    fn file(&self, text: &str) -> Option<String> {
        let text = text.strip_prefix("./").unwrap_or(text);
        let path = match text.strip_prefix('/') {
            Some(from_root) => from_root.to_owned(),
            None if self.package.is_empty() => text.to_owned(),
            None => format!("{}/{text}", self.package),
        };
        self.site.paths().contains(&path).then(|| page(About::File, &path))
    }
}

/// The page of a file; nothing where no definition knows it.
pub(crate) fn file(site: &Site, path: &str) -> Option<SitePage> {
    if !site.paths().contains(path) {
        return None;
    }
    let graph = site.graph();
    let number = graph.files.iter().position(|file| file.path.as_str() == path);
    let maker = number.and_then(|n| graph.files[n].maker);
    let at = site.session.workspace.root.join(path);
    let length = fs::metadata(&at).ok().filter(fs::Metadata::is_file).map(|meta| meta.len());
    let text = read_text(site, path).filter(|text| !text.contains('\0'));
    let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
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
            @if let Some(number) = number { dt { "Read by" } dd { (readers(site, number)) } }
        }
        @match (&text, length) {
            (Some(text), _) => { @let lines = TextLines::of(site, path, text); (lines.markup(0, lines.starts.len() - 1)) },
            (None, None) => { p.lead { "It is not there now" @if maker.is_some() { ": nothing was built, or only what needs it came from a store" } "." } },
            (None, Some(length)) => { p.lead { "Its content is no text, or too long to be shown: " (size(length)) "." } },
        }
    };
    Some(SitePage { title: path.rsplit('/').next().unwrap_or(path).to_owned(), part: "kinds.html", body })
}

/// The package that a folder belongs to: the nearest one above it, or itself.
fn package_of<'p>(site: &Site, folder: &'p str) -> &'p str {
    let is_package = |path: &str| site.declared().any(|(_, target)| target.package.as_str() == path);
    let mut at = folder;
    while !at.is_empty() && !is_package(at) {
        at = at.rsplit_once('/').map_or("", |(above, _)| above);
    }
    at
}

/// Steps that read a file.
fn readers(site: &Site, number: usize) -> Markup {
    let graph = site.graph();
    let file = nubrik_graph::FileId(number as u32);
    let reading = graph.steps.iter().filter(|step| graph.declares(step, file));
    let mut targets: Vec<_> = reading.map(|step| step.target).collect();
    targets.sort_unstable();
    targets.dedup();
    html! {
        @if targets.is_empty() { "no step" }
        @for (n, target) in targets.iter().take(USERS).enumerate() { @if n > 0 { ", " } (target_link(site, *target)) }
        @if targets.len() > USERS { " and " (counted(targets.len() - USERS, "more target", "more targets")) }
        @if graph.files[number].folder { " " (file_link(site, file)) }
    }
}
