//! Definitions that are there already, as far as they can be compared with a proposal.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::sync::Arc;

use nubrik_source::TextId;
use nubrik_syntax::{Node, SyntaxKind, parse, views};
use regex::Regex;

use crate::proposal::Kit;
use crate::tree::{SourceTree, is_below, joined};

/// Definition files by their packages, from the tree's top.
pub type Existing = BTreeMap<String, String>;

/// What a definition file says.
#[derive(Default, Debug)]
pub(crate) struct FileView {
    /// The kits that it uses, by the names that it has for them.
    pub kits: BTreeMap<String, Kit>,
    /// Where a further `use` goes.
    pub after_uses: usize,
    /// All names that are declared or brought in.
    pub names: BTreeSet<String>,
    pub declarations: Vec<Declaration>,
}

/// A declaration that uses kinds of kits.
#[derive(Debug)]
pub(crate) struct Declaration {
    pub name: String,
    pub calls: Vec<Call>,
    /// All files that it names by texts.
    pub files: BTreeSet<String>,
}

/// A kind of a kit with its fields.
#[derive(Debug)]
pub(crate) struct Call {
    pub kit: Kit,
    pub kind: String,
    pub fields: BTreeMap<String, Field>,
    /// Where a further field goes, and what is before its line.
    pub end: usize,
}

/// The value of a field.
#[derive(Clone, Debug)]
pub(crate) struct Field {
    /// Where it is in the text.
    pub range: Range<usize>,
    /// Its items as they are written, where it is a list or one value; `None` where it is computed.
    pub items: Option<Vec<(Range<usize>, String)>>,
    /// Whether these are between brackets.
    pub is_list: bool,
}

impl FileView {
    /// Reads the definitions of a package.
    ///
    /// # Errors
    /// When the text cannot be read as definitions.
    pub fn read(
        tree: &SourceTree,
        package: &str,
        packages: &BTreeSet<String>,
        text: &str,
    ) -> Result<FileView, String> {
        let shared: Arc<str> = text.into();
        let parsed = parse(TextId(0), &shared);
        if let Some(problem) = parsed.diagnostics.first() {
            return Err(problem.message.clone());
        }
        let mut view = FileView::default();
        let files: Vec<&str> = tree
            .below(package)
            .filter(|file| package_of(packages, file) == package)
            .collect();
        let reader = DefinitionReader { package, files };
        for node in parsed.tree.root().children() {
            if let Some(name) = views::declared_name(node) {
                view.names.insert(node.token_text(name).to_owned());
            }
            if node.kind() == SyntaxKind::UseDecl {
                view.names.extend(
                    views::used_names(node)
                        .into_iter()
                        .map(|name| node.token_text(name).to_owned()),
                );
                view.after_uses = node.range().1;
                let place = node
                    .children()
                    .find_map(views::plain_text)
                    .unwrap_or_default();
                let kit = place
                    .strip_prefix("nub:")
                    .and_then(|name| Kit::ALL.into_iter().find(|kit| kit.name() == name));
                if let (Some(kit), Some(name)) = (kit, views::declared_name(node)) {
                    view.kits.insert(node.token_text(name).to_owned(), kit);
                }
            }
        }
        for node in parsed.tree.root().children() {
            let Some(name) =
                views::declared_name(node).filter(|_| node.kind() != SyntaxKind::UseDecl)
            else {
                continue;
            };
            let mut calls = Vec::new();
            reader.calls(node, &view.kits, &mut calls);
            let name = node.token_text(name).to_owned();
            view.declarations.push(Declaration {
                name,
                calls,
                files: reader.files(node),
            });
        }
        Ok(view)
    }
}

/// The package that a file belongs to.
fn package_of<'p>(packages: &'p BTreeSet<String>, file: &str) -> &'p str {
    let around = packages.iter().filter(|package| is_below(file, package));
    around
        .max_by_key(|package| package.len())
        .map_or("", String::as_str)
}

struct DefinitionReader<'a> {
    package: &'a str,
    files: Vec<&'a str>,
}

impl DefinitionReader<'_> {
    fn calls(&self, node: Node<'_>, kits: &BTreeMap<String, Kit>, calls: &mut Vec<Call>) {
        if node.kind() == SyntaxKind::BraceCallExpr
            && let (Some(called), Some(record)) =
                (node.expression(0), node.child(SyntaxKind::RecordExpr))
            && let Some((alias, kind)) = called.text().split_once('.')
            && let Some(kit) = kits.get(alias.trim())
        {
            let mut fields = BTreeMap::new();
            for field in record
                .children()
                .filter(|child| child.kind() == SyntaxKind::RecordField)
            {
                let name = field
                    .words()
                    .next()
                    .map(|word| field.token_text(word).to_owned())
                    .unwrap_or_default();
                fields.extend(field.expression(0).map(|value| (name, self.field(value))));
            }
            calls.push(Call {
                kit: *kit,
                kind: kind.trim().to_owned(),
                fields,
                end: record.range().1 - 1,
            });
        }
        for child in node.children() {
            self.calls(child, kits, calls);
        }
    }

    fn field(&self, value: Node<'_>) -> Field {
        let item = |node: Node<'_>| (node.range().0..node.range().1, node.text().to_owned());
        let is_list = value.kind() == SyntaxKind::ListExpr;
        let items = match value.kind() {
            SyntaxKind::ListExpr => Some(value.children().map(item).collect()),
            SyntaxKind::EachListExpr
            | SyntaxKind::BinaryExpr
            | SyntaxKind::IfExpr
            | SyntaxKind::MatchExpr => None,
            _ => Some(vec![item(value)]),
        };
        Field {
            range: value.range().0..value.range().1,
            items,
            is_list,
        }
    }

    /// The files that texts below a node name, without those that its globs leave out.
    fn files(&self, node: Node<'_>) -> BTreeSet<String> {
        if let Some(pattern) = views::plain_text(node) {
            return self.fitting(&pattern);
        }
        let (mut found, mut except) = (BTreeSet::new(), BTreeSet::new());
        for child in node.children() {
            let word = child.words().next().map(|word| child.token_text(word));
            match child.kind() == SyntaxKind::Arg && word == Some("except") {
                true => except.extend(self.files(child)),
                false => found.extend(self.files(child)),
            }
        }
        found.difference(&except).cloned().collect()
    }

    /// The files of the package that a pattern means.
    fn fitting(&self, pattern: &str) -> BTreeSet<String> {
        let Some(whole) = pattern
            .strip_prefix('/')
            .map(str::to_owned)
            .or_else(|| joined(self.package, pattern))
        else {
            return BTreeSet::new();
        };
        if whole.is_empty() || pattern.len() > 4096 {
            return BTreeSet::new();
        }
        if !whole.contains(['*', '?', '[', '{', '\\']) {
            // A path: the files are sorted, and those of a folder follow one another.
            let start = self.files.partition_point(|file| *file < whole.as_str());
            let like = self.files[start..]
                .iter()
                .take_while(|file| file.starts_with(&whole));
            return like
                .filter(|file| is_below(file, &whole))
                .map(|file| (*file).to_owned())
                .collect();
        }
        let Some(expression) = expression_of(&whole) else {
            return BTreeSet::new();
        };
        self.files
            .iter()
            .filter(|file| expression.is_match(file))
            .map(|file| (*file).to_owned())
            .collect()
    }
}

/// A glob, or a folder, as a regular expression over whole paths.
fn expression_of(glob: &str) -> Option<Regex> {
    let mut text = String::from("^");
    let mut depth = 0;
    let mut chars = glob.chars().peekable();
    while let Some(c) = chars.next() {
        match c {
            '*' if chars.peek() == Some(&'*') => {
                chars.next();
                if chars.peek() == Some(&'/') {
                    chars.next();
                    text.push_str("(?:.*/)?");
                } else {
                    text.push_str(".*");
                }
            }
            '*' => text.push_str("[^/]*"),
            '?' => text.push_str("[^/]"),
            '{' => {
                depth += 1;
                text.push_str("(?:");
            }
            '}' if depth > 0 => {
                depth -= 1;
                text.push(')');
            }
            ',' if depth > 0 => text.push('|'),
            '\\' => text.push_str(
                &chars
                    .next()
                    .map(|c| regex::escape(&c.to_string()))
                    .unwrap_or_default(),
            ),
            '[' | ']' => text.push(c),
            c => text.push_str(&regex::escape(&c.to_string())),
        }
    }
    // The path of a folder means all in it.
    Regex::new(&(text + "(?:/.*)?$")).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn definitions_are_seen_with_their_files_and_needs() {
        let tree = SourceTree::of(&[
            ("p/src/a.c", ""),
            ("p/src/b.c", ""),
            ("p/x/c.c", ""),
            ("p/q/d.c", ""),
        ]);
        let text = "use \"nub:c\" as k\n\nlet flags = [\"-O2\"]\ntarget tide = k.library {\n    sources = [glob(\"src/*.c\", except = \"src/b.c\"), \"x/c.c\"]\n    needs = [&sea/x, other]\n    flags = flags + [\"x\"]\n}\n";
        let packages = BTreeSet::from(["p".to_owned(), "p/q".to_owned()]);
        let view = FileView::read(&tree, "p", &packages, text).expect("definitions");
        assert_eq!(view.kits["k"], Kit::C);
        assert_eq!(
            view.names.iter().cloned().collect::<Vec<_>>(),
            ["flags", "k", "tide"]
        );
        let tide = view
            .declarations
            .iter()
            .find(|one| one.name == "tide")
            .expect("tide");
        let call = &tide.calls[0];
        assert_eq!((call.kit, call.kind.as_str()), (Kit::C, "library"));
        assert_eq!(
            tide.files.iter().cloned().collect::<Vec<_>>(),
            ["p/src/a.c", "p/x/c.c"]
        );
        assert!(call.fields["sources"].is_list && call.fields["flags"].items.is_none());
        let needs = call.fields["needs"].items.clone().expect("items");
        assert_eq!(
            needs.into_iter().map(|(_, text)| text).collect::<Vec<_>>(),
            ["&sea/x", "other"]
        );
        assert!(FileView::read(&tree, "p", &packages, "target = ").is_err());
    }
}
