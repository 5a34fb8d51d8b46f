//! What can stand where somebody types.

use lsp_types::{CompletionItem, CompletionItemKind, Documentation};
use nubrik_lang::meanings::{FileNames, NameMeaning};
use nubrik_lang::topics::Topic;

use crate::document::OpenText;
use crate::reading::form_around;
use crate::state::EditorKnowledge;

/// More proposals than this are not sent: who types on gets others.
const MOST: usize = 200;

fn item(label: &str, kind: CompletionItemKind, detail: &str, documentation: &str) -> CompletionItem {
    CompletionItem {
        label: label.to_owned(),
        kind: Some(kind),
        detail: (!detail.is_empty()).then(|| detail.to_owned()),
        documentation: (!documentation.is_empty()).then(|| Documentation::String(documentation.to_owned())),
        ..CompletionItem::default()
    }
}

fn of_topic(label: &str, topic: &Topic, kind: CompletionItemKind) -> CompletionItem {
    item(label, kind, topic.category, &topic.summary)
}

/// Targets whose addresses begin so.
fn addresses(known: &EditorKnowledge, begins: &str) -> Vec<CompletionItem> {
    let fitting = known.targets(|target| target.address.starts_with(begins)).take(MOST + 1);
    let proposed = fitting.map(|target| {
        let address = format!("&{}", target.address);
        item(&address, CompletionItemKind::REFERENCE, &target.kind, &target.documentation)
    });
    proposed.collect()
}

/// What is in the folder that a text names so far.
fn paths(document: &OpenText, text: &str, files: &dyn Fn(&str) -> Vec<String>) -> Vec<CompletionItem> {
    let folder = text.rsplit_once('/').map_or("", |(folder, _)| folder);
    let package = document.path.parent().map_or(String::new(), |parent| parent.as_str().to_owned());
    let at = match text.starts_with('/') {
        true => folder.trim_start_matches('/').to_owned(),
        false => {
            let parts = [package.as_str(), folder];
            parts.into_iter().filter(|part| !part.is_empty()).collect::<Vec<_>>().join("/")
        }
    };
    let kind = |name: &str| match name.ends_with('/') {
        true => CompletionItemKind::FOLDER,
        false => CompletionItemKind::FILE,
    };
    files(&at).iter().map(|name| item(name, kind(name), "", "")).collect()
}

/// What a kit offers that is known by a name, or the methods of values.
fn members(known: &EditorKnowledge, names: &FileNames<'_>, alias: &str) -> Vec<CompletionItem> {
    let Some(kit) = names.kit(alias).map(|kit| format!("{kit}.")) else {
        let methods = known.topics.iter().filter(|topic| topic.category == "method");
        return methods.map(|topic| of_topic(&topic.name, topic, CompletionItemKind::METHOD)).collect();
    };
    let members = known.topics.iter().filter_map(|topic| Some((topic.name.strip_prefix(&*kit)?, topic)));
    members.map(|(name, topic)| of_topic(name, topic, CompletionItemKind::FUNCTION)).collect()
}

/// Proposals for a byte of a text, and whether there are more. `files` lists names in a folder of the workspace, folders with `/`
/// behind them.
pub fn completions(
    known: &EditorKnowledge,
    document: &OpenText,
    byte: usize,
    files: &dyn Fn(&str) -> Vec<String>,
) -> (Vec<CompletionItem>, bool) {
    let graph = &known.evaluated.evaluation.graph;
    let names = FileNames::of(graph, document.path.as_str(), document.parsed.tree.root());
    let line_start = document.text[..byte].rfind('\n').map_or(0, |at| at + 1);
    let before = &document.text[line_start..byte];
    let typed =
        before.rsplit(|c: char| !(c.is_alphanumeric() || matches!(c, '_' | '/' | '&' | '.' | '-'))).next();
    let typed = typed.unwrap_or("");
    let mut items = Vec::new();
    let quotes = before.matches('"').count();
    if let Some(address) = typed.strip_prefix('&') {
        items = addresses(known, address.trim_start_matches('/'));
    } else if quotes % 2 == 1 {
        items = paths(document, before.rsplit('"').next().unwrap_or(""), files);
    } else if let Some((alias, _)) = typed.rsplit_once('.') {
        items = members(known, &names, alias);
    } else {
        let is_value = before.trim_end_matches(typed).trim_end().ends_with(['=', '[', '(', '+']);
        let form = form_around(&names, document.parsed.tree.root(), byte);
        if let Some(topic) = form.as_deref().filter(|_| !is_value).and_then(|form| known.topic(form)) {
            items.extend(topic.parts.iter().map(|(name, shape, what)| {
                let name = name.trim_end_matches('?');
                let mut field = item(name, CompletionItemKind::FIELD, shape, what);
                field.insert_text = Some(format!("{name} = "));
                field.sort_text = Some(format!("0{name}"));
                field
            }));
        }
        if form.is_none() || is_value {
            items.extend(general(known, &names, before.trim_end_matches(typed).trim().is_empty()));
        }
    }
    let is_more = items.len() > MOST;
    items.truncate(MOST);
    (items, is_more)
}

/// Names that mean something anywhere: at the beginning of a line words that declare something.
fn general(known: &EditorKnowledge, names: &FileNames<'_>, is_line_begin: bool) -> Vec<CompletionItem> {
    if is_line_begin {
        let words = nubrik_syntax::DECLARATION_WORDS.iter();
        return words
            .map(|word| match known.topic(word) {
                Some(topic) => of_topic(word, topic, CompletionItemKind::KEYWORD),
                None => item(word, CompletionItemKind::KEYWORD, "", ""),
            })
            .collect();
    }
    let mut items: Vec<CompletionItem> = names
        .all()
        .into_iter()
        .map(|(name, meaning)| match meaning {
            NameMeaning::Target(address) => {
                let target = known.target(&address).map(|(known, id)| known.evaluation.graph.target(id));
                let (kind, documentation) =
                    target.map_or(("", ""), |target| (&*target.kind, &*target.documentation));
                item(&name, CompletionItemKind::VARIABLE, kind, documentation)
            }
            NameMeaning::InFile(path) => item(&name, CompletionItemKind::VARIABLE, &path, ""),
            _ => item(&name, CompletionItemKind::VARIABLE, "", ""),
        })
        .collect();
    items.extend(
        names.kits().map(|(name, kit)| item(name, CompletionItemKind::MODULE, &format!("nub:{kit}"), "")),
    );
    let forms = known.topics.iter().filter(|topic| matches!(topic.category, "form" | "function"));
    items.extend(forms.map(|topic| of_topic(&topic.name, topic, CompletionItemKind::FUNCTION)));
    items
}
