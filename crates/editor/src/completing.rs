//! What can stand where somebody types.

use lsp_types::{CompletionItem, CompletionItemKind, Documentation};
use nubrik_lang::meanings::{FileNames, NameMeaning};
use nubrik_lang::topics::{Topic, methods_of};
use nubrik_source::WsPath;
use nubrik_syntax::SyntaxKind;

use crate::document::OpenText;
use crate::reading::form_around;
use crate::state::EditorKnowledge;

/// More proposals than this are not sent: who types on gets others.
const MOST: usize = 200;

fn item(
    label: &str,
    kind: CompletionItemKind,
    detail: &str,
    documentation: &str,
) -> CompletionItem {
    CompletionItem {
        label: label.to_owned(),
        kind: Some(kind),
        detail: (!detail.is_empty()).then(|| detail.to_owned()),
        documentation: (!documentation.is_empty())
            .then(|| Documentation::String(documentation.to_owned())),
        ..CompletionItem::default()
    }
}

fn of_topic(label: &str, topic: &Topic, kind: CompletionItemKind) -> CompletionItem {
    item(label, kind, topic.category, &topic.summary)
}

/// Targets whose addresses begin so.
fn addresses(known: &EditorKnowledge, begins: &str) -> Vec<CompletionItem> {
    let fitting = known
        .targets(|target| target.address.starts_with(begins))
        .take(MOST + 1);
    let proposed = fitting.map(|target| {
        let address = format!("&{}", target.address);
        item(
            &address,
            CompletionItemKind::REFERENCE,
            &target.kind,
            &target.documentation,
        )
    });
    proposed.collect()
}

/// What is in the folder that a text names so far.
fn paths(
    document: &OpenText,
    text: &str,
    files: &dyn Fn(&str) -> Vec<String>,
) -> Vec<CompletionItem> {
    let folder = text.rsplit_once('/').map_or("", |(folder, _)| folder);
    let package = document
        .path
        .parent()
        .map_or(String::new(), |parent| parent.as_str().to_owned());
    let at = match text.starts_with('/') {
        true => folder.trim_start_matches('/').to_owned(),
        false => {
            let parts = [package.as_str(), folder];
            parts
                .into_iter()
                .filter(|part| !part.is_empty())
                .collect::<Vec<_>>()
                .join("/")
        }
    };
    let kind = |name: &str| match name.ends_with('/') {
        true => CompletionItemKind::FOLDER,
        false => CompletionItemKind::FILE,
    };
    files(&at)
        .iter()
        .map(|name| item(name, kind(name), "", ""))
        .collect()
}

/// What somebody types in, as far as the text before it shows.
enum TypingPlace<'t> {
    /// An address behind `&`.
    Address(&'t str),
    /// The text of a `use`: a kit, or a file of definitions.
    UsedFile(&'t str),
    /// The names of a `use`, from a kit or a file.
    UsedNames(String),
    /// A text that is compared with an option.
    ValueOf(&'t str),
    /// Another text.
    Path(&'t str),
    /// Behind a dot: what is before it.
    Member(&'t str),
    /// A hole of a command.
    Hole,
    /// A command, but for its holes: any word of any program.
    Command,
    /// Anything else.
    Elsewhere,
}

impl<'t> TypingPlace<'t> {
    /// `before` is the line up to the place, and `after` the rest of it.
    fn of(before: &'t str, after: &str, typed: &'t str) -> TypingPlace<'t> {
        let in_text = before.matches('"').count() % 2 == 1;
        let is_use = before.trim_start().starts_with("use ");
        if let Some(address) = typed.strip_prefix('&') {
            return TypingPlace::Address(address.trim_start_matches('/'));
        }
        if in_text {
            let (head, text) = before.rsplit_once('"').unwrap_or((before, ""));
            let compared = head.trim_end();
            let option = compared
                .strip_suffix("==")
                .or_else(|| compared.strip_suffix("!="));
            let option =
                option.and_then(|left| left.trim_end().rsplit(|c: char| !is_of_name(c)).next());
            return match option {
                _ if is_use => TypingPlace::UsedFile(text),
                Some(option) if !option.is_empty() => TypingPlace::ValueOf(option),
                _ => TypingPlace::Path(text),
            };
        }
        if is_use && before.contains('{') && !before.contains('}') {
            return TypingPlace::UsedNames(after.split('"').nth(1).unwrap_or_default().to_owned());
        }
        if before.matches('`').count() % 2 == 1 {
            let command = before.rsplit('`').next().unwrap_or_default();
            let is_hole = command.rfind('{') > command.rfind('}');
            return if is_hole {
                TypingPlace::Hole
            } else {
                TypingPlace::Command
            };
        }
        match typed.rsplit_once('.') {
            Some((_, begun)) => TypingPlace::Member(&before[..before.len() - begun.len() - 1]),
            None => TypingPlace::Elsewhere,
        }
    }
}

fn is_of_name(c: char) -> bool {
    c.is_ascii_alphanumeric() || c == '_'
}

/// What a kit offers that is known by a name, or the methods of what is before a dot.
fn members(
    known: &EditorKnowledge,
    document: &OpenText,
    names: &FileNames<'_>,
    owner: &str,
) -> Vec<CompletionItem> {
    let alias = owner
        .rsplit(|c: char| !is_of_name(c))
        .next()
        .unwrap_or_default();
    if let Some(kit) = names.kit(alias) {
        return of_kit(known, kit, CompletionItemKind::FUNCTION);
    }
    let kind = kind_of_value(document, names, owner, alias);
    let own: Option<Vec<&str>> = kind.map(|kind| methods_of(kind).collect());
    let methods = known
        .topics
        .iter()
        .filter(|topic| topic.category == "method");
    let fitting = methods.filter(|topic| {
        own.as_ref()
            .is_none_or(|own| own.contains(&topic.name.as_str()))
    });
    fitting
        .map(|topic| of_topic(&topic.name, topic, CompletionItemKind::METHOD))
        .collect()
}

/// What a value is whose text ends before a dot, where its last sign says that, or the sign with
/// which its declaration begins.
fn kind_of_value(
    document: &OpenText,
    names: &FileNames<'_>,
    owner: &str,
    name: &str,
) -> Option<&'static str> {
    match owner.trim_end().chars().last()? {
        ']' => return Some("lists"),
        '"' | '\'' => return Some("texts"),
        '}' => return Some("maps"),
        _ => {}
    }
    let Some(NameMeaning::Declared(token)) = names.name(name) else {
        return None;
    };
    let (_, value) = document
        .text
        .get(token.end as usize..)?
        .lines()
        .next()?
        .split_once('=')?;
    match value.trim_start() {
        value if value.starts_with('[') || value.starts_with("glob(") => Some("lists"),
        value if value.starts_with(['"', '\'']) => Some("texts"),
        value if value.starts_with('{') && !value.starts_with("{each") => Some("maps"),
        _ => None,
    }
}

/// What a kit of the tool offers: what makes something first, helpers of it last.
fn of_kit(known: &EditorKnowledge, kit: &str, kind: CompletionItemKind) -> Vec<CompletionItem> {
    let begin = format!("{kit}.");
    let members = known
        .topics
        .iter()
        .filter_map(|topic| Some((topic.name.strip_prefix(&*begin)?, topic)));
    let item = |(name, topic): (&str, &Topic)| {
        let mut item = of_topic(name, topic, kind);
        // A kind has fields, and is used far more often than a value or a function of the kit.
        let rank = if topic.parts.is_empty() { 1 } else { 0 };
        item.sort_text = Some(format!("{rank}{name}"));
        item
    };
    let mut items: Vec<CompletionItem> = members.map(item).collect();
    items.sort_by(|one, other| one.sort_text.cmp(&other.sort_text));
    items
}

/// The kits of the tool whose names begin so, behind `nub:` or with it.
fn kits(known: &EditorKnowledge, begun: &str) -> Vec<CompletionItem> {
    let kits = known
        .topics
        .iter()
        .filter(|topic| topic.category == "kit" && !topic.name.contains('.'));
    let item = |topic: &Topic| {
        let label = match begun.strip_prefix("nub:") {
            Some(_) => topic.name.clone(),
            None => format!("nub:{}", topic.name),
        };
        of_topic(&label, topic, CompletionItemKind::MODULE)
    };
    kits.map(item).collect()
}

/// What can be taken from a kit, or from a file of definitions, by `use { … }`.
fn used_names(
    known: &EditorKnowledge,
    document: &OpenText,
    from: &str,
    read: &dyn Fn(&WsPath) -> Option<String>,
) -> Vec<CompletionItem> {
    if let Some(kit) = from.strip_prefix("nub:") {
        return of_kit(known, kit, CompletionItemKind::FUNCTION);
    }
    let Some(other) = document
        .beside(from)
        .and_then(|path| Some(OpenText::new(path.clone(), read(&path)?)))
    else {
        return Vec::new();
    };
    let symbols = crate::reading::symbols(&other);
    let detail = |symbol: &lsp_types::DocumentSymbol| symbol.detail.clone().unwrap_or_default();
    symbols
        .iter()
        .filter(|symbol| detail(symbol) != "use")
        .map(|symbol| {
            item(
                &symbol.name,
                CompletionItemKind::VARIABLE,
                &detail(symbol),
                "",
            )
        })
        .collect()
}

/// The texts that an option may be.
fn values_of(
    document: &OpenText,
    names: &FileNames<'_>,
    option: &str,
    read: &dyn Fn(&WsPath) -> Option<String>,
) -> Option<Vec<CompletionItem>> {
    let own;
    let home = match names.name(option)? {
        NameMeaning::Declared(_) => document,
        NameMeaning::InFile(path) => {
            let path = WsPath::root().resolve(&path).ok()?;
            own = OpenText::new(path.clone(), read(&path)?);
            &own
        }
        _ => return None,
    };
    let declaration = home
        .declaration(option)
        .filter(|node| node.kind() == SyntaxKind::OptionDecl)?;
    let mut texts: Vec<String> = Vec::new();
    let mut nodes = vec![declaration];
    while let Some(node) = nodes.pop() {
        texts.extend(nubrik_syntax::views::plain_text(node));
        nodes.extend(node.children());
    }
    texts.sort();
    texts.dedup();
    Some(
        texts
            .iter()
            .map(|text| item(text, CompletionItemKind::VALUE, "", ""))
            .collect(),
    )
}

/// Proposals for a byte of a text, and whether there are more. `files` lists names in a folder of
/// the workspace, folders with `/` behind them; `read` gives the text of a file.
pub fn completions(
    known: &EditorKnowledge,
    document: &OpenText,
    byte: usize,
    files: &dyn Fn(&str) -> Vec<String>,
    read: &dyn Fn(&WsPath) -> Option<String>,
) -> (Vec<CompletionItem>, bool) {
    let graph = &known.evaluated.evaluation.graph;
    let names = FileNames::of(graph, document.path.as_str(), document.parsed.tree.root());
    let line_start = document.text[..byte].rfind('\n').map_or(0, |at| at + 1);
    let before = &document.text[line_start..byte];
    let after = document.text[byte..].lines().next().unwrap_or_default();
    let typed = before
        .rsplit(|c: char| !(c.is_alphanumeric() || matches!(c, '_' | '/' | '&' | '.' | '-')))
        .next();
    let typed = typed.unwrap_or("");
    let mut items = match TypingPlace::of(before, after, typed) {
        TypingPlace::Address(begun) => addresses(known, begun),
        TypingPlace::UsedFile(text) => {
            let mut all = kits(known, text);
            if !text.starts_with("nub:") {
                all.extend(paths(document, text, files));
            }
            all
        }
        TypingPlace::UsedNames(from) => used_names(known, document, &from, read),
        TypingPlace::ValueOf(option) => values_of(document, &names, option, read)
            .unwrap_or_else(|| paths(document, before.rsplit('"').next().unwrap_or(""), files)),
        TypingPlace::Path(text) => paths(document, text, files),
        TypingPlace::Member(owner) => members(known, document, &names, owner),
        TypingPlace::Hole => {
            let mut all = hole_words(known);
            all.extend(own_names(known, &names));
            all
        }
        TypingPlace::Command => Vec::new(),
        TypingPlace::Elsewhere => elsewhere(
            known,
            document,
            byte,
            &names,
            before.trim_end_matches(typed),
        ),
    };
    let is_more = items.len() > MOST;
    items.truncate(MOST);
    (items, is_more)
}

/// Proposals where a field, a value or a declaration may begin. `before` is the line up to the word
/// that is typed.
fn elsewhere(
    known: &EditorKnowledge,
    document: &OpenText,
    byte: usize,
    names: &FileNames,
    before: &str,
) -> Vec<CompletionItem> {
    let is_value = before.trim_end().ends_with(['=', '[', '(', '+']);
    let form = form_around(names, document.parsed.tree.root(), byte);
    let named = form.as_deref().filter(|_| !is_value);
    let topic = named.and_then(|form| known.topic(form));
    let mut all: Vec<CompletionItem> = topic.into_iter().flat_map(fields).collect();
    if form.is_none() || is_value {
        all.extend(general(known, names, before.trim().is_empty()));
    }
    all
}

/// The words that forms of holes begin with.
fn hole_words(known: &EditorKnowledge) -> Vec<CompletionItem> {
    let forms = known.topics.iter().filter(|topic| topic.category == "hole");
    let word = |topic: &Topic| {
        let (word, _) = topic.name.strip_prefix('{')?.split_once(' ')?;
        let mut item = of_topic(word, topic, CompletionItemKind::KEYWORD);
        item.insert_text = Some(format!("{word} "));
        Some(item)
    };
    forms.filter_map(word).collect()
}

/// The fields of a form or kind.
fn fields(topic: &Topic) -> impl Iterator<Item = CompletionItem> + '_ {
    topic.parts.iter().map(|(name, shape, what)| {
        let name = name.trim_end_matches('?');
        let mut field = item(name, CompletionItemKind::FIELD, shape, what);
        field.insert_text = Some(format!("{name} = "));
        field.sort_text = Some(format!("0{name}"));
        field
    })
}

/// Names that mean something anywhere: at the beginning of a line words that declare something.
fn general(
    known: &EditorKnowledge,
    names: &FileNames<'_>,
    is_line_begin: bool,
) -> Vec<CompletionItem> {
    if is_line_begin {
        let words = nubrik_syntax::DECLARATION_WORDS.iter();
        return words
            .map(|word| match known.topic(word) {
                Some(topic) => of_topic(word, topic, CompletionItemKind::KEYWORD),
                None => item(word, CompletionItemKind::KEYWORD, "", ""),
            })
            .collect();
    }
    let mut items = own_names(known, names);
    items.extend(
        names
            .kits()
            .map(|(name, kit)| item(name, CompletionItemKind::MODULE, &format!("nub:{kit}"), "")),
    );
    let forms = known
        .topics
        .iter()
        .filter(|topic| matches!(topic.category, "form" | "function"));
    items.extend(forms.map(|topic| of_topic(&topic.name, topic, CompletionItemKind::FUNCTION)));
    items
}

/// Names that the file declares or takes from others, and targets of its package.
fn own_names(known: &EditorKnowledge, names: &FileNames<'_>) -> Vec<CompletionItem> {
    names
        .all()
        .into_iter()
        .map(|(name, meaning)| match meaning {
            NameMeaning::Target(address) => {
                let target = known
                    .target(&address)
                    .map(|(known, id)| known.evaluation.graph.target(id));
                let (kind, documentation) =
                    target.map_or(("", ""), |target| (&*target.kind, &*target.documentation));
                item(&name, CompletionItemKind::VARIABLE, kind, documentation)
            }
            NameMeaning::InFile(path) => item(&name, CompletionItemKind::VARIABLE, &path, ""),
            _ => item(&name, CompletionItemKind::VARIABLE, "", ""),
        })
        .collect()
}
