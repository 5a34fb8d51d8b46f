//! Texts in lines: definitions with what each name in them leads to, and marks of lines that ran.

use std::sync::Arc;

use maud::{Markup, html};
use nubrik_lang::meanings::{FileNames, NameMeaning, TargetNames, each_token};
use nubrik_reports::coverage::LineCounts;
use nubrik_source::Sources;
use nubrik_syntax::{Node, SyntaxKind, parse};
use nubrik_wording::counted;
use parking_lot::Mutex;

/// The lines that were made last: pages about one file follow each other.
#[derive(Default)]
pub(crate) struct LastLines(Mutex<Option<(String, Arc<TextLines>)>>);

impl LastLines {
    /// The lines of a text with a path: those that were made last where they are of the same text,
    /// else what `make` makes.
    pub fn of(
        &self,
        path: &str,
        text: &Arc<str>,
        make: impl FnOnce() -> TextLines,
    ) -> Arc<TextLines> {
        let mut last = self.0.lock();
        if let Some((of, lines)) = &*last
            && of == path
            && lines.text == *text
        {
            return lines.clone();
        }
        let lines = Arc::new(make());
        *last = Some((path.to_owned(), lines.clone()));
        lines
    }
}

/// A text in lines, with what each part of it is.
pub(crate) struct TextLines {
    text: Arc<str>,
    /// Where each line begins.
    starts: Vec<usize>,
    /// Parts that are shown in some way, in order: where they are, their class, and where they
    /// lead.
    parts: Vec<(usize, usize, &'static str, Option<String>)>,
    /// Where declarations begin and end, by lines from 0.
    declarations: Vec<(usize, usize)>,
}

impl TextLines {
    /// Those of a text with a path. `leads_to` is the page of the meaning of a name in it.
    pub fn of(
        targets: &dyn TargetNames,
        path: &str,
        text: &Arc<str>,
        leads_to: &dyn Fn(&TextLines, NameMeaning) -> Option<String>,
    ) -> TextLines {
        let mut starts = vec![0];
        starts.extend(text.match_indices('\n').map(|(at, _)| at + 1));
        let mut lines = TextLines {
            text: text.clone(),
            starts,
            parts: Vec::new(),
            declarations: Vec::new(),
        };
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
            let names = FileNames::of(targets, path, parsed.tree.root());
            let mut parts = Vec::new();
            each_token(parsed.tree.root(), &mut |at| {
                let class = class_of(at.token.kind, at.node.token_text(at.token));
                // The name that a declaration gives leads nowhere else.
                let is_own = at.node.kind().is_declaration();
                let meaning = names.meaning(at).filter(|_| !is_own);
                let link = meaning.and_then(|meaning| leads_to(&lines, meaning));
                if !class.is_empty() || link.is_some() {
                    parts.push((at.token.start as usize, at.token.end as usize, class, link));
                }
            });
            lines.parts = parts;
        }
        lines
    }

    /// How many lines there are.
    pub fn count(&self) -> usize {
        self.starts.len()
    }

    /// The line of a byte, counted from 0.
    pub fn line_of(&self, at: usize) -> usize {
        self.starts.partition_point(|start| *start <= at) - 1
    }

    /// The lines of a declaration, with the comments right above it.
    fn range_of(&self, node: &Node<'_>) -> (usize, usize) {
        let range = node.range();
        let (mut from, to) = (
            self.line_of(range.0),
            self.line_of(range.1.saturating_sub(1).max(range.0)),
        );
        while from > 0 && self.line(from - 1).trim_start().starts_with('#') {
            from -= 1;
        }
        (from, to)
    }

    fn line(&self, number: usize) -> &str {
        let end = self
            .starts
            .get(number + 1)
            .map_or(self.text.len(), |next| next - 1);
        &self.text[self.starts[number]..end]
    }

    /// The declaration that has a line, counted from 1; if none has, the line and a few after it.
    pub fn declaration_at(&self, line: usize) -> (usize, usize) {
        let at = line.saturating_sub(1).min(self.starts.len() - 1);
        let first = self.declarations.partition_point(|(_, to)| *to < at);
        let own = self.declarations.get(first).filter(|(from, _)| *from <= at);
        own.copied()
            .unwrap_or((at, (at + 8).min(self.starts.len() - 1)))
    }

    /// Lines as they are shown, from one to another.
    pub fn markup(&self, from: usize, to: usize) -> Markup {
        self.markup_with(from, to, None)
    }

    /// The same, with which of them tests ran, where that is known.
    pub fn markup_with(&self, from: usize, to: usize, lines: Option<&LineCounts>) -> Markup {
        // Of those that can run; what a mark means is said in its words, too.
        let branches = lines.map(LineCounts::branches_by_line).unwrap_or_default();
        let mark = |number: usize| match lines.and_then(|lines| lines.times(number as u32 + 1)) {
            None => ("", None),
            Some(0) => ("missed", Some("no test ran it".to_owned())),
            Some(times) => {
                let ran = format!("tests ran it {}", counted(times as usize, "time"));
                match branches.get(&(number as u32 + 1)) {
                    Some(sum) if sum.taken < sum.all => (
                        "partly",
                        Some(format!(
                            "{ran}, and took {} of {} branches",
                            sum.taken, sum.all
                        )),
                    ),
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
        let (start, end) = (
            self.starts[number],
            self.starts[number] + self.line(number).len(),
        );
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
            if nubrik_syntax::DECLARATION_WORDS.contains(&text)
                || nubrik_syntax::is_reserved(text) =>
        {
            "keyword"
        }
        _ => "",
    }
}
