//! What a text says of itself: its outline, what folds, what its words are; and what a name in it
//! means.

use lsp_types::{
    CodeLens, Command, DocumentSymbol, FoldingRange, FoldingRangeKind, Location, Position, Range,
    SemanticToken, SemanticTokenType, SymbolKind,
};
use nubrik_graph::{Place, TargetId};
use nubrik_lang::ToldName;
use nubrik_lang::meanings::{FileNames, NameMeaning, TokenInTree, each_token};
use nubrik_lang::topics::Topic;
use nubrik_source::{Sources, WsPath};
use nubrik_syntax::{Node, SyntaxKind, Token, views};
use nubrik_wording::{counted, duration};

use crate::document::OpenText;
use crate::places::{DefinitionFiles, FileAddresses};
use crate::state::{EditorKnowledge, Evaluated};

/// What words can be, in the order of the numbers that represent them.
pub const TOKEN_TYPES: [SemanticTokenType; 7] = [
    SemanticTokenType::KEYWORD,
    SemanticTokenType::STRING,
    SemanticTokenType::COMMENT,
    SemanticTokenType::NUMBER,
    SemanticTokenType::VARIABLE,
    SemanticTokenType::FUNCTION,
    SemanticTokenType::MACRO,
];

/// The command that the server does for an editor.
pub const RUN: &str = "nubrik.run";

fn names<'k>(known: &'k EditorKnowledge, document: &OpenText) -> FileNames<'k> {
    FileNames::of(
        &known.evaluated.evaluation.graph,
        document.path.as_str(),
        document.parsed.tree.root(),
    )
}

/// Declarations of a text.
#[allow(deprecated)] // A field that must be there.
pub fn symbols(document: &OpenText) -> Vec<DocumentSymbol> {
    let declarations = document
        .parsed
        .tree
        .root()
        .children()
        .filter(|node| node.kind().is_declaration());
    let symbol = |node: Node<'_>| {
        let name = views::declared_name(node)?;
        let (kind, word) = match node.kind() {
            SyntaxKind::TargetDecl => (SymbolKind::OBJECT, "target"),
            SyntaxKind::TestDecl => (SymbolKind::EVENT, "test"),
            SyntaxKind::JobDecl => (SymbolKind::METHOD, "job"),
            SyntaxKind::ServiceDecl => (SymbolKind::INTERFACE, "service"),
            SyntaxKind::OptionDecl => (SymbolKind::PROPERTY, "option"),
            SyntaxKind::TypeDecl => (SymbolKind::STRUCT, "type"),
            SyntaxKind::KindDecl => (SymbolKind::CLASS, "kind"),
            SyntaxKind::UseDecl => (SymbolKind::MODULE, "use"),
            _ => (SymbolKind::VARIABLE, "let"),
        };
        let (from, to) = node.range();
        Some(DocumentSymbol {
            name: node.token_text(name).to_owned(),
            detail: Some(word.to_owned()),
            kind,
            tags: None,
            deprecated: None,
            range: document.range(from, to),
            selection_range: document.range(name.start as usize, name.end as usize),
            children: None,
        })
    };
    declarations.filter_map(symbol).collect()
}

/// What can be folded: whatever has several lines between two brackets, and rows of comments.
pub fn folds(document: &OpenText) -> Vec<FoldingRange> {
    let mut folds = Vec::new();
    let mut add = |from: u32, to: u32, kind: Option<FoldingRangeKind>| {
        if to > from {
            let lines = FoldingRange {
                start_line: from,
                end_line: to,
                kind,
                ..FoldingRange::default()
            };
            folds.push(lines);
        }
    };
    let mut nodes = vec![document.parsed.tree.root()];
    while let Some(node) = nodes.pop() {
        nodes.extend(node.children());
        let brackets = node.tokens().filter(|token| {
            matches!(
                token.kind,
                SyntaxKind::LeftBrace | SyntaxKind::LeftBracket | SyntaxKind::LeftParen
            )
        });
        if let Some(open) = brackets.last() {
            let (_, end) = node.range();
            add(
                document.position(open.start as usize).line,
                document.position(end).line.saturating_sub(1),
                None,
            );
        }
    }
    let is_comment = |line: &str| line.trim_start().starts_with('#');
    let mut first = None;
    for (number, line) in document.text.lines().chain([""]).enumerate() {
        match (is_comment(line), first) {
            (true, None) => first = Some(number),
            (false, Some(from)) => {
                add(
                    from as u32,
                    number as u32 - 1,
                    Some(FoldingRangeKind::Comment),
                );
                first = None;
            }
            _ => {}
        }
    }
    folds.sort_by_key(|fold| (fold.start_line, fold.end_line));
    folds.dedup_by_key(|fold| fold.start_line);
    folds
}

/// What each word is, each as far from the one before as the protocol wants it.
pub fn words(known: &EditorKnowledge, document: &OpenText) -> Vec<SemanticToken> {
    let names = names(known, document);
    let mut words = Vec::new();
    let mut last = Position::default();
    each_token(document.parsed.tree.root(), &mut |at| {
        let Some(kind) = word_type(&names, at) else {
            return;
        };
        let (start, end) = (at.token.start as usize, at.token.end as usize);
        // A part of a text may have several lines, and the protocol wants one each.
        let mut from = start;
        for line in document.text[start..end].split_inclusive('\n') {
            let text = line.trim_end_matches('\n');
            let position = document.position(from);
            from += line.len();
            if text.is_empty() {
                continue;
            }
            let delta_line = position.line - last.line;
            let delta_start = if delta_line == 0 {
                position.character - last.character
            } else {
                position.character
            };
            let length = text.encode_utf16().count() as u32;
            words.push(SemanticToken {
                delta_line,
                delta_start,
                length,
                token_type: kind,
                token_modifiers_bitset: 0,
            });
            last = position;
        }
    });
    words
}

fn word_type(names: &FileNames<'_>, at: TokenInTree<'_>) -> Option<u32> {
    let text = at.node.token_text(at.token);
    Some(match at.token.kind {
        SyntaxKind::Comment | SyntaxKind::DocComment => 2,
        kind if kind.is_of_text() => 1,
        SyntaxKind::Int | SyntaxKind::Duration => 3,
        kind if kind.is_of_command() => 6,
        SyntaxKind::Ref => 4,
        SyntaxKind::Word if nubrik_syntax::is_reserved(text) => 0,
        SyntaxKind::Word if at.node.kind().is_declaration() => {
            match views::declared_name(at.node) {
                Some(name) if name == at.token => 4,
                _ => 0,
            }
        }
        SyntaxKind::Word => match names.meaning(at)? {
            NameMeaning::OfKit(_) | NameMeaning::Known(_) => 5,
            _ => 4,
        },
        _ => return None,
    })
}

/// How many steps a target has, and how long they took.
fn cost(known: &Evaluated, id: TargetId) -> Option<String> {
    let (steps, micros) = known.costs.get(&id)?;
    let steps = counted(*steps, "step");
    Some(if *micros > 0 {
        format!("{steps}, last built in {}", duration(*micros))
    } else {
        format!("{steps}, never built here")
    })
}

fn about_target(known: &Evaluated, id: TargetId) -> String {
    let target = known.evaluation.graph.target(id);
    let mut text = format!("**{}**", target.address);
    // What it is, is known as far as it can be evaluated.
    if !target.kind.is_empty() {
        text.push_str(&format!(": {}", target.kind));
    }
    if !target.documentation.is_empty() {
        text.push_str(&format!("\n\n{}", target.documentation));
    }
    if let Some(cost) = cost(known, id) {
        text.push_str(&format!("\n\n{cost}"));
    }
    text.push_str(&format!("\n\n{}", target.place));
    text
}

fn about_topic(topic: &Topic) -> String {
    let mut text = format!(
        "**{}**: {}\n\n{}",
        topic.name, topic.category, topic.summary
    );
    if !topic.parts.is_empty() {
        text.push_str("\n\n");
        topic.parts.iter().for_each(|(name, shape, what)| {
            text.push_str(&format!("- `{name}` ({shape}): {what}\n"))
        });
    }
    if !topic.example.is_empty() {
        text.push_str(&format!("\n```nub\n{}\n```\n", topic.example));
    }
    text
}

/// What is at a byte, as Markdown, and where that is.
pub fn hover(
    known: &EditorKnowledge,
    document: &OpenText,
    byte: usize,
    read: &dyn Fn(&WsPath) -> Option<String>,
) -> Option<(String, Range)> {
    let at = document.token_at(byte)?;
    let range = document.range(at.token.start as usize, at.token.end as usize);
    let names = names(known, document);
    let text = match names.meaning(at) {
        Some(NameMeaning::Target(address)) => {
            let (known, id) = known.target(&address)?;
            about_target(known, id)
        }
        Some(NameMeaning::Declared(token)) => {
            let name = document
                .text
                .get(token.start as usize..token.end as usize)
                .unwrap_or_default();
            about_declared(known, document, name)?
        }
        Some(NameMeaning::InFile(path)) => {
            let from = format!("from {path}");
            let other = open(&path, read);
            let about =
                other.and_then(|other| about_declared(known, &other, at.node.token_text(at.token)));
            about.map_or(from.clone(), |about| format!("{about}\n\n{from}"))
        }
        Some(NameMeaning::OfKit(name) | NameMeaning::Known(name)) => {
            about_topic(known.topic(&name)?)
        }
        Some(NameMeaning::File(path)) => {
            let (known, file) = known.file(&path)?;
            match file.maker {
                Some(maker) => format!("{path}, made by {}", known.evaluation.graph.title(maker)),
                None => path,
            }
        }
        None if parameter_of(document, at).is_some() => {
            let (_, parameter) = parameter_of(document, at)?;
            format!(
                "a parameter here:\n```nub\n{}\n```",
                parameter.text().trim()
            )
        }
        None => about_field(known, &names, document.parsed.tree.root(), at).or_else(|| {
            let word = at.node.token_text(at.token);
            (at.token.kind == SyntaxKind::Word)
                .then(|| known.topic(word).map(about_topic))
                .flatten()
        })?,
    };
    Some((text, range))
}

/// The parameter that a name is, of the declaration that it is in: where its own name is, and all
/// of it.
fn parameter_of<'d>(document: &'d OpenText, at: TokenInTree<'_>) -> Option<(Token, Node<'d>)> {
    if !matches!(at.node.kind(), SyntaxKind::NameExpr | SyntaxKind::Param) {
        return None;
    }
    let byte = at.token.start as usize;
    let mut declarations = document.parsed.tree.root().children();
    let mut nodes =
        vec![declarations.find(|node| (node.range().0..node.range().1).contains(&byte))?];
    let wanted = at.node.token_text(at.token);
    while let Some(node) = nodes.pop() {
        let name = node.tokens().find(|token| token.kind == SyntaxKind::Word);
        let is_it =
            |name: &Token| node.kind() == SyntaxKind::Param && node.token_text(*name) == wanted;
        if let Some(name) = name.filter(is_it) {
            return Some((name, node));
        }
        nodes.extend(node.children());
    }
    None
}

/// A file of definitions.
fn open(path: &str, read: &dyn Fn(&WsPath) -> Option<String>) -> Option<OpenText> {
    let path = WsPath::root().resolve(path).ok()?;
    Some(OpenText::new(path.clone(), read(&path)?))
}

/// How something is declared that is no target, what its comments say, and its value.
fn about_declared(known: &EditorKnowledge, document: &OpenText, name: &str) -> Option<String> {
    let declared = document.declaration(name)?;
    let is_it = |told: &&ToldName| *told.name == *name && *told.file == *document.path.as_str();
    let value = known.evaluated.names.iter().find(is_it);
    let value = value.map(|told| format!("\n\n{}: `{}`", told.kind, told.value.replace('`', "'")));
    let documentation = document.documentation(declared.range().0);
    let documentation = if documentation.is_empty() {
        documentation
    } else {
        format!("\n\n{documentation}")
    };
    Some(format!(
        "```nub\n{}\n```{documentation}{}",
        declared.text(),
        value.unwrap_or_default()
    ))
}

/// The form or kind whose fields stand in the braces around a node, by the name of its topic.
pub fn form_around(names: &FileNames<'_>, root: Node<'_>, byte: usize) -> Option<String> {
    let mut found = None;
    let mut nodes = vec![root];
    while let Some(node) = nodes.pop() {
        let (from, to) = node.range();
        // One that is not closed yet goes on.
        if byte < from || byte > to + 1 {
            continue;
        }
        if node.kind() == SyntaxKind::BraceCallExpr
            && let Some(callee) = node.children().next()
            && byte > callee.range().1
        {
            found = callee_name(names, callee).or(found);
        }
        nodes.extend(node.children());
    }
    found
}

fn callee_name(names: &FileNames<'_>, callee: Node<'_>) -> Option<String> {
    match callee.kind() {
        SyntaxKind::NameExpr => match names.name(callee.text())? {
            NameMeaning::Known(name) | NameMeaning::OfKit(name) => Some(name),
            _ => None,
        },
        SyntaxKind::FieldExpr => {
            let kit = names.kit(callee.child(SyntaxKind::NameExpr)?.text())?;
            let member = callee.text().rsplit('.').next()?;
            Some(format!("{kit}.{member}"))
        }
        _ => None,
    }
}

/// What a field is for, where a name of one is.
fn about_field(
    known: &EditorKnowledge,
    names: &FileNames<'_>,
    root: Node<'_>,
    at: TokenInTree<'_>,
) -> Option<String> {
    if at.token.kind != SyntaxKind::Word {
        return None;
    }
    let topic = known.topic(&form_around(names, root, at.token.start as usize)?)?;
    let word = at.node.token_text(at.token);
    let (name, shape, what) = topic
        .parts
        .iter()
        .find(|(name, _, _)| name.trim_end_matches('?') == word)?;
    Some(format!("`{name}` of **{}** ({shape}): {what}", topic.name))
}

/// Where what a byte names is declared.
pub fn definition(
    known: &EditorKnowledge,
    places: &FileAddresses,
    document: &OpenText,
    byte: usize,
    read: &dyn Fn(&WsPath) -> Option<String>,
) -> Option<Location> {
    let at = document.token_at(byte)?;
    let start = |path: &str| {
        let path = WsPath::root().resolve(path).ok()?;
        Some(Location {
            uri: places.uri(&path)?,
            range: Range::default(),
        })
    };
    let meaning = names(known, document).meaning(at);
    if meaning.is_none()
        && let Some((token, _)) = parameter_of(document, at)
    {
        let range = document.range(token.start as usize, token.end as usize);
        return Some(Location {
            uri: places.uri(&document.path)?,
            range,
        });
    }
    match meaning? {
        NameMeaning::Target(address) => {
            let (known, id) = known.target(&address)?;
            declared_at(places, &known.evaluation.graph.target(id).place)
        }
        NameMeaning::Declared(token) => Some(Location {
            uri: places.uri(&document.path)?,
            range: document.range(token.start as usize, token.end as usize),
        }),
        NameMeaning::InFile(path) => {
            let whole = start(&path)?;
            let other = open(&path, read);
            let range = other.and_then(|other| {
                let token = other.declared(at.node.token_text(at.token))?;
                Some(other.range(token.start as usize, token.end as usize))
            });
            Some(Location {
                range: range.unwrap_or_default(),
                ..whole
            })
        }
        NameMeaning::File(path) => {
            let file = known.file(&path);
            match file.and_then(|(known, file)| Some((known, file.maker?))) {
                // What is made leads to what makes it.
                Some((known, maker)) => {
                    declared_at(places, &known.evaluation.graph.owner(maker).place)
                }
                // The path of a `use` is one of definitions.
                None => start(&path).filter(|_| {
                    file.is_some() || (path.ends_with(".nub") && open(&path, read).is_some())
                }),
            }
        }
        NameMeaning::OfKit(_) | NameMeaning::Known(_) => None,
    }
}

/// The line on which something of the graph is declared.
fn declared_at(places: &FileAddresses, place: &Place) -> Option<Location> {
    let line = Position {
        line: place.line.saturating_sub(1),
        character: 0,
    };
    let path = WsPath::root().resolve(&place.file).ok()?;
    Some(Location {
        uri: places.uri(&path)?,
        range: Range {
            start: line,
            end: line,
        },
    })
}

/// The file that declares what a token means, and its name there, where that is no target.
fn declared_by(
    document: &OpenText,
    meaning: &NameMeaning,
    at: TokenInTree<'_>,
) -> Option<(String, String)> {
    let name = || at.node.token_text(at.token).to_owned();
    match meaning {
        NameMeaning::Declared(_) => Some((document.path.to_string(), name())),
        NameMeaning::InFile(path) => Some((path.clone(), name())),
        _ => None,
    }
}

/// What a call takes at a byte behind its bracket: how it is called, what it does, and the number
/// of the argument.
pub fn signature(
    known: &EditorKnowledge,
    document: &OpenText,
    byte: usize,
) -> Option<(String, String, usize)> {
    let names = names(known, document);
    let before = document.text.get(..byte)?;
    let line = before.rsplit('\n').next()?;
    // Brackets in texts are no brackets.
    let (mut open, mut in_text) = (Vec::new(), false);
    for (at, c) in line.char_indices() {
        match c {
            '"' => in_text = !in_text,
            _ if in_text => {}
            '(' | '[' | '{' => open.push((at, c, 0)),
            ')' | ']' | '}' => drop(open.pop()),
            ',' => {
                if let Some((_, _, commas)) = open.last_mut() {
                    *commas += 1;
                }
            }
            _ => {}
        }
    }
    let (at, _, argument) = open.into_iter().rev().find(|(_, c, _)| *c == '(')?;
    let called = line[..at].trim_end();
    let start = called.rfind(|c: char| !(c.is_ascii_alphanumeric() || matches!(c, '_' | '.')));
    let called = &called[start.map_or(0, |start| start + 1)..];
    let (owner, name) = called.rsplit_once('.').unwrap_or(("", called));
    let topic = match names.kit(owner) {
        Some(kit) => known.topic(&format!("{kit}.{name}"))?,
        None => known
            .topic(name)
            .filter(|topic| matches!(topic.category, "method" | "function" | "form"))?,
    };
    let label = match topic.parts.is_empty() {
        true => topic.example.lines().next().unwrap_or_default().to_owned(),
        false => {
            let parts = topic
                .parts
                .iter()
                .map(|(name, shape, _)| format!("{name}: {shape}"));
            format!("{name}({})", parts.collect::<Vec<_>>().join(", "))
        }
    };
    Some((label, topic.summary.clone(), argument))
}

/// All places that name what a byte names.
pub fn references(
    known: &EditorKnowledge,
    places: &FileAddresses,
    document: &OpenText,
    byte: usize,
    definitions: &DefinitionFiles<'_>,
) -> Vec<Location> {
    let Some(at) = document.token_at(byte) else {
        return Vec::new();
    };
    let Some(wanted) = names(known, document).meaning(at) else {
        return Vec::new();
    };
    let wanted = (declared_by(document, &wanted, at), wanted);
    let mut found = Vec::new();
    for path in definitions.paths {
        let Some(text) = (definitions.read)(path) else {
            continue;
        };
        let other = OpenText::new(path.clone(), text);
        let names = names(known, &other);
        let Some(uri) = places.uri(path) else {
            continue;
        };
        each_token(other.parsed.tree.root(), &mut |at| {
            let meaning = names.meaning(at);
            let is_it = meaning.is_some_and(|meaning| match &wanted.0 {
                Some(_) => declared_by(&other, &meaning, at) == wanted.0,
                None => meaning == wanted.1,
            });
            if is_it {
                let range = other.range(at.token.start as usize, at.token.end as usize);
                found.push(Location {
                    uri: uri.clone(),
                    range,
                });
            }
        });
    }
    found
}

/// What is above each target: its cost, and commands that build it, test it, or say why it would
/// run.
pub fn lenses(known: &EditorKnowledge, document: &OpenText) -> Vec<CodeLens> {
    let names = names(known, document);
    let mut lenses = Vec::new();
    for symbol in symbols(document) {
        let Some(NameMeaning::Target(address)) = names.name(&symbol.name) else {
            continue;
        };
        let Some((known, id)) = known.target(&address) else {
            continue;
        };
        let verb = match symbol.detail.as_deref() {
            Some("target") => "build",
            Some("test") => "test",
            _ => continue,
        };
        let told = cost(known, id).unwrap_or_else(|| "no steps of its own".to_owned());
        for (title, verb) in [
            (format!("{told} · {verb}"), verb),
            ("why".to_owned(), "why"),
        ] {
            let arguments = Some(vec![verb.into(), address.to_string().into()]);
            let command = Some(Command {
                title,
                command: RUN.to_owned(),
                arguments,
            });
            lenses.push(CodeLens {
                range: symbol.selection_range,
                command,
                data: None,
            });
        }
    }
    lenses
}

/// A text in the form that all have, if it can be read.
pub fn formatted(document: &OpenText) -> Option<String> {
    let file = Sources::default().add(document.path.as_str(), document.text.clone());
    nubrik_syntax::format(file, &document.text).ok()
}
