//! What there is to know about the language, a topic a form, method, type or error. `nubrik
//! explain` shows these texts, and `docs/reference.md` is made of them.

mod tables;

use std::sync::Arc;

use nubrik_source::Sources;
use nubrik_syntax::{Node, SyntaxKind};
use tables::{DECLARATIONS, ERRORS, EXPRESSIONS, HOLES, TYPES};

use crate::builtins::{CallShape, METHODS, forms};
use crate::hir::{Decl, DeclKind, Param, TypeShape};
use crate::lower::{Location, lower};

/// A topic.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Topic {
    /// What it is looked up by.
    pub name: String,
    /// What kind of thing it is: `form`, `method`, `type`, `declaration`, `hole`, `error`, …
    pub category: &'static str,
    /// What it is, in one sentence.
    pub summary: String,
    /// Its parts: name, type or shape, and what it is for.
    pub parts: Vec<(String, String, String)>,
    /// How it is used.
    pub example: String,
}

/// The names of the methods and properties that values of a kind have: `lists`, `texts`, `maps`,
/// `files`, …
pub fn methods_of(kind: &str) -> impl Iterator<Item = &'static str> {
    METHODS
        .iter()
        .filter(move |method| method.of.split(", ").any(|of| of == kind))
        .map(|method| method.name)
}

/// All topics of the language, by category.
pub fn topics() -> Vec<Topic> {
    let mut topics: Vec<Topic> = Vec::new();
    topics.extend(plain("declaration", &DECLARATIONS));
    topics.extend(plain("type", &TYPES));
    topics.extend(forms().map(form_topic));
    topics.extend(plain("expression", &EXPRESSIONS));
    topics.extend(plain("hole", &HOLES));
    topics.extend(METHODS.iter().map(|m| {
        let call = method_example(m);
        Topic {
            name: m.name.to_owned(),
            category: "method",
            summary: format!("Of {}: {}.", m.of, m.doc),
            parts: Vec::new(),
            example: call,
        }
    }));
    topics.extend(plain("error", &ERRORS));
    topics
}

/// A method as it is used, on a value with a telling name.
fn method_example(info: &crate::builtins::MethodInfo) -> String {
    use crate::builtins::Method;
    let with_arguments = match info.method {
        Method::Below => "source.below(self.folder)",
        Method::Join => "names.join(\", \")",
        Method::Split => "line.split(\",\")",
        Method::Replace => "title.replace(\" \", \"_\")",
        Method::StartsWith => "name.starts_with(\"lib\")",
        Method::EndsWith => "name.ends_with(\".so\")",
        Method::Get => "depths.get(\"ardle\", 0)",
        Method::Slice => "names.slice(0, 10)",
        Method::SortedBy => "tables.sorted_by(\"stem\")",
        Method::IndexBy => "tables.index_by(\"stem\")[\"tides\"]",
        Method::GroupBy => "tables.group_by(\"ext\")[\"csv\"]",
        Method::RelativeTo => "page.relative_to(index)",
        Method::Matches => "name.matches('^v\\d+$')",
        Method::FindAll => "line.find_all('[\\w.]+')",
        Method::Captures => "release.captures('v(\\d+)\\.(\\d+)')[1]",
        Method::ReplaceMatches => "title.replace_matches('\\s+', \"_\")",
        Method::UniqueBy => "tables.unique_by(\"stem\")",
        _ => {
            let value = match info.of {
                "files" => "source",
                "maps" => "depths",
                of if of.starts_with("texts") => "title",
                _ => "names",
            };
            return format!("{value}.{}", info.name);
        }
    };
    with_arguments.to_owned()
}

/// What a kit offers: its kinds, functions, types and values that lists show.
pub fn kit_topics(kit: &str, text: &'static str) -> Vec<Topic> {
    let text: Arc<str> = text.into();
    let mut sources = Sources::default();
    let file = sources.add(kit, text.clone());
    let parsed = nubrik_syntax::parse(file, &text);
    let location = Location {
        file,
        folder: None,
        is_package: false,
        title: kit.into(),
    };
    let (module, _) = lower(&parsed.tree, location);
    let offered = crate::modules::listed(module.decls.iter().filter(|decl| !decl.private));
    let mut topics = Vec::new();
    let mut kinds: Vec<(String, String, String)> = Vec::new();
    for node in parsed
        .tree
        .root()
        .children()
        .filter(|n| n.kind().is_declaration())
    {
        let Some(token) = nubrik_syntax::views::declared_name(node) else {
            continue;
        };
        let name = node.token_text(token);
        let Some(decl) = offered.iter().find(|decl| *decl.name.text == *name) else {
            continue;
        };
        let parts = parts_of_kind(node, decl);
        let used = usual_example(decl, kit);
        if decl.kind == DeclKind::Kind {
            let sentences = &mut decl.documentation.split_inclusive(". ");
            let first = sentences.next().unwrap_or_default().trim_end();
            kinds.push((format!("{kit}.{name}"), String::new(), first.to_owned()));
        }
        topics.push(Topic {
            name: format!("{kit}.{name}"),
            category: "kit",
            summary: decl.documentation.to_string(),
            parts,
            example: format!("use \"nub:{kit}\" as {kit}\n{}", shown_example(node, &used)),
        });
    }
    let example = format!("use \"nub:{kit}\" as {kit}");
    let whole = Topic {
        name: kit.to_owned(),
        category: "kit",
        summary: about_kit(&text),
        parts: kinds,
        example,
    };
    [vec![whole], topics].concat()
}

/// The parameters of what a kit declares: name, type, and text.
fn parts_of_kind(node: Node<'_>, decl: &Decl) -> Vec<(String, String, String)> {
    let params = node.child(SyntaxKind::Params);
    let params = params.into_iter().flat_map(|list| {
        let all = list.children();
        all.filter(|param| param.kind() == SyntaxKind::Param)
    });
    let part = |(param, lowered): (Node<'_>, &Param)| {
        let ty = param.type_node().map_or("", |t| t.text());
        let needed = match param.expression(0).is_none() && !ty.ends_with('?') {
            true => "needed: ",
            false => "",
        };
        let name = lowered.name.text.to_string();
        let text = format!("{needed}{}", lowered.documentation);
        (name, ty.to_owned(), text)
    };
    params.zip(&decl.to_tell().params).map(part).collect()
}

/// What the first comment of a kit says of it.
fn about_kit(text: &str) -> String {
    let lines = text.lines().map_while(|line| line.strip_prefix("# "));
    lines.collect::<Vec<&str>>().join(" ")
}

/// How a name of a kit is used where its documentation has no example: an option is set, a type is
/// the type of something.
fn usual_example(decl: &Decl, kit: &str) -> String {
    let name = format!("{kit}.{}", decl.name.text);
    match (decl.kind, decl.to_tell().ty.as_ref().map(|ty| &ty.shape)) {
        (DeclKind::Option, Some(TypeShape::Alternatives(values))) => {
            let last = values.last().map_or("", |value| value);
            format!("# on the command line: nubrik build --set {name}={last}")
        }
        (DeclKind::Option, Some(TypeShape::Bool)) => {
            format!("# on the command line: nubrik build --set {name}=true")
        }
        (DeclKind::Option, _) => {
            format!("# in [profiles] of nubrik.toml: ship = {{ \"{name}\" = … }}")
        }
        (DeclKind::Type, _) => format!("let some: list[{name}] = []"),
        (DeclKind::Kind, _) => format!("target made = {name} {{ … }}"),
        (DeclKind::Function, _) => format!("let made = {name}(…)"),
        _ => format!("let chosen = {name}"),
    }
}

/// The example in the documentation of a declaration, or else how it is usually used.
fn shown_example(node: nubrik_syntax::Node<'_>, usual: &str) -> String {
    let lines = nubrik_syntax::views::example(node);
    let lines: Vec<&str> = lines
        .iter()
        .map(|line| node.token_text(*line).trim_start_matches('#').trim_end())
        .collect();
    let indent = lines
        .iter()
        .map(|line| line.len() - line.trim_start().len())
        .min()
        .unwrap_or(0);
    match lines.is_empty() {
        true => usual.to_owned(),
        false => lines
            .iter()
            .map(|line| &line[indent..])
            .collect::<Vec<_>>()
            .join("\n"),
    }
}

fn form_topic(form: &crate::builtins::FormInfo) -> Topic {
    let mut parts: Vec<(String, String, String)> = Vec::new();
    for field in form.fields {
        let needed = if field.needed { "needed: " } else { "" };
        parts.push((
            field.name.to_owned(),
            field.ty.shown().to_owned(),
            format!("{needed}{}", field.doc),
        ));
    }
    for (name, doc) in form.gives {
        parts.push((format!(".{name}"), String::new(), (*doc).to_owned()));
    }
    let category = match form.shape {
        CallShape::Braces => "form",
        CallShape::Brackets | CallShape::Plain => "function",
    };
    Topic {
        name: form.name.to_owned(),
        category,
        summary: form.doc.to_owned(),
        parts,
        example: form.example.to_owned(),
    }
}

/// Topics of a table: name, what it is, example.
pub fn plain(category: &'static str, table: &[(&str, &str, &str)]) -> Vec<Topic> {
    let topic = |(name, summary, example): &(&str, &str, &str)| Topic {
        name: (*name).to_owned(),
        category,
        summary: (*summary).to_owned(),
        parts: Vec::new(),
        example: (*example).to_owned(),
    };
    table.iter().map(topic).collect()
}

/// Errors whose name says all.
pub const PLAIN_ERRORS: [&str; 6] = [
    "wrong-type",
    "unreadable",
    "settings",
    "usage",
    "command",
    "fault",
];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_topic_has_a_name_of_its_own_in_its_category() {
        let topics = topics();
        for topic in &topics {
            assert_eq!(
                topics
                    .iter()
                    .filter(|t| t.name == topic.name && t.category == topic.category)
                    .count(),
                1,
                "{}",
                topic.name
            );
            assert!(
                topic.summary.ends_with('.'),
                "{}: {}",
                topic.name,
                topic.summary
            );
        }
    }

    #[test]
    fn the_example_of_a_method_has_as_many_arguments_as_it_takes() {
        for info in &METHODS {
            assert_eq!(
                method_example(info).contains('('),
                info.args > 0,
                "{}",
                info.name
            );
        }
    }
}
