//! Another name for something, in all files that name it. What cannot be done everywhere is not
//! begun.

use std::collections::HashMap;
use std::fmt;

use lsp_types::{Range, TextEdit, Uri, WorkspaceEdit};
use nubrik_graph::Graph;
use nubrik_lang::meanings::{FileNames, NameMeaning, TokenInTree, each_token};
use nubrik_source::WsPath;
use nubrik_syntax::{Node, SyntaxKind, views};

use crate::document::OpenText;
use crate::places::{DefinitionFiles, FileAddresses};
use crate::state::EditorKnowledge;

/// Why something keeps its name. Its text is for people.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum RenameRefusal {
    /// The request does not have the form of one.
    NotUnderstood,
    /// The file is none of the workspace's.
    Elsewhere,
    /// Nothing at the place has a name that could be another one.
    NoName,
    /// It is declared where nothing can be written.
    DeclaredElsewhere,
    /// A file that may use it cannot be read.
    Unread(WsPath),
    /// No name can be written so.
    NotAName(String),
    /// Its uses are not known: the definitions have errors.
    Errors,
    /// It went while it was asked for.
    Gone,
    /// A file already has something of the new name.
    Taken { name: String, path: WsPath },
    /// A file takes all of another one by one name, so that its uses cannot be recognised there.
    UsedWhole {
        name: String,
        path: WsPath,
        home: WsPath,
    },
    /// A file has an address that may mean it.
    MayBeUsed(WsPath),
    /// A file has a parameter of the same name.
    Bound { name: String, path: WsPath },
}

impl fmt::Display for RenameRefusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            RenameRefusal::NotUnderstood => f.write_str("the request cannot be read"),
            RenameRefusal::Elsewhere => f.write_str("the file is not in this workspace"),
            RenameRefusal::NoName => {
                f.write_str("nothing here has a name that could be another one")
            }
            RenameRefusal::DeclaredElsewhere => f.write_str("it is declared elsewhere"),
            RenameRefusal::Unread(path) => write!(f, "{path} cannot be read, and may use it"),
            RenameRefusal::NotAName(name) => {
                let names = "small letters, digits and `_`, and no word of the language";
                write!(f, "`{name}` cannot be a name: {names}")
            }
            RenameRefusal::Errors => {
                f.write_str("what uses it is known once the definitions have no errors")
            }
            RenameRefusal::Gone => f.write_str("it is not there any more"),
            RenameRefusal::Taken { name, path } => {
                write!(f, "`{name}` is something else in {path}")
            }
            RenameRefusal::UsedWhole { name, path, home } => {
                write!(
                    f,
                    "{path} uses all of {home} by one name, in which `{name}` cannot be recognised"
                )
            }
            RenameRefusal::MayBeUsed(path) => {
                write!(
                    f,
                    "{path} may use it by an address, which is not known to lead to it"
                )
            }
            RenameRefusal::Bound { name, path } => {
                write!(f, "a parameter in {path} is called `{name}` as well")
            }
        }
    }
}

/// What has the name at a byte, and where that name is; nothing for what has no name that could be
/// another one.
pub fn renamed_at(
    known: &EditorKnowledge,
    document: &OpenText,
    byte: usize,
) -> Option<(NameMeaning, String, Range)> {
    let at = document.token_at(byte)?;
    let graph = &known.evaluated.evaluation.graph;
    let names = FileNames::of(graph, document.path.as_str(), document.parsed.tree.root());
    let range = document.range(at.token.start as usize, at.token.end as usize);
    match names.meaning(at)? {
        NameMeaning::Target(address) => {
            let name = address.rsplit('/').next()?.to_owned();
            Some((NameMeaning::Target(address), name, range))
        }
        meaning @ (NameMeaning::Declared(_) | NameMeaning::InFile(_)) => {
            Some((meaning, at.node.token_text(at.token).to_owned(), range))
        }
        _ => None,
    }
}

/// What takes names of its own: parameters, and what goes through a list.
fn binds(root: Node<'_>, name: &str) -> bool {
    let mut nodes = vec![root];
    while let Some(node) = nodes.pop() {
        let is_binding = matches!(
            node.kind(),
            SyntaxKind::Param | SyntaxKind::EachHead | SyntaxKind::MatchArm
        );
        let mut words = node.tokens().filter(|token| token.kind == SyntaxKind::Word);
        if is_binding && words.any(|word| node.token_text(word) == name) {
            return true;
        }
        nodes.extend(node.children());
    }
    false
}

/// Whether the declaration at a byte is one that others reach by an address.
fn declares_target(root: Node<'_>, byte: usize) -> bool {
    let mut declarations = root
        .children()
        .filter(|node| (node.range().0..node.range().1).contains(&byte));
    declarations.any(|node| {
        use SyntaxKind::{JobDecl, ServiceDecl, TargetDecl, TestDecl};
        matches!(node.kind(), TargetDecl | TestDecl | JobDecl | ServiceDecl)
    })
}

/// What `&…` is written as for an address with another last name.
fn reference(text: &str, address: &str, new: &str) -> String {
    let written = text.trim_start_matches('&');
    let bare = written.trim_start_matches('/');
    // A package's main target may be called by the package alone.
    if address
        .strip_prefix(bare)
        .is_some_and(|rest| rest.starts_with('/'))
    {
        return format!("&{written}/{new}");
    }
    match written.rsplit_once('/') {
        Some((folder, _)) => format!("&{folder}/{new}"),
        None => format!("&{new}"),
    }
}

/// Something that is to have another name.
struct Renaming<'a> {
    graph: &'a Graph,
    wanted: NameMeaning,
    old: String,
    new: &'a str,
    /// Where it is declared.
    home: WsPath,
}

impl Renaming<'_> {
    /// What is to be written in all files.
    ///
    /// # Errors
    /// Why that cannot be done.
    #[allow(clippy::mutable_key_type)] // The protocol's own types say so.
    fn all_edits(
        &self,
        places: &FileAddresses,
        definitions: &DefinitionFiles<'_>,
    ) -> Result<WorkspaceEdit, RenameRefusal> {
        let mut changes: HashMap<Uri, Vec<TextEdit>> = HashMap::new();
        for path in definitions.paths {
            let text = (definitions.read)(path);
            let text = text.ok_or_else(|| RenameRefusal::Unread(path.clone()))?;
            let edits = self.edits(path, OpenText::new(path.clone(), text))?;
            if !edits.is_empty() {
                let uri = places.uri(path).ok_or(RenameRefusal::DeclaredElsewhere)?;
                changes.insert(uri, edits);
            }
        }
        Ok(WorkspaceEdit {
            changes: Some(changes),
            ..WorkspaceEdit::default()
        })
    }

    /// What is to be written in a file.
    ///
    /// # Errors
    /// Why that cannot be done.
    fn edits(&self, path: &WsPath, text: OpenText) -> Result<Vec<TextEdit>, RenameRefusal> {
        let Renaming {
            graph,
            wanted,
            old,
            new,
            home,
        } = self;
        let root = text.parsed.tree.root();
        let names = FileNames::of(*graph, path.as_str(), root);
        if path == home
            && names
                .name(new)
                .is_some_and(|meaning| !matches!(meaning, NameMeaning::Known(_)))
        {
            return Err(RenameRefusal::Taken {
                name: (*new).to_owned(),
                path: path.clone(),
            });
        }
        if self.is_used_by_kit_name(root, &names) {
            let (name, path, home) = (old.clone(), path.clone(), home.clone());
            return Err(RenameRefusal::UsedWhole { name, path, home });
        }
        let mut edits = Vec::new();
        let mut is_used_otherwise = false;
        each_token(root, &mut |at: TokenInTree<'_>| {
            let written = at.node.token_text(at.token);
            if !self.is_it(path, at, &names) {
                // An address that leads to nothing known may be meant for it.
                is_used_otherwise |= matches!(wanted, NameMeaning::Declared(_))
                    && at.token.kind == SyntaxKind::Ref
                    && names.meaning(at).is_none()
                    && written.rsplit(['/', '&']).next() == Some(old.as_str());
                return;
            }
            let new_text = match (wanted, at.token.kind) {
                (NameMeaning::Target(address), SyntaxKind::Ref) => reference(written, address, new),
                _ => (*new).to_owned(),
            };
            let range = text.range(at.token.start as usize, at.token.end as usize);
            edits.push(TextEdit { range, new_text });
        });
        if is_used_otherwise {
            return Err(RenameRefusal::MayBeUsed(path.clone()));
        }
        let bound = || {
            [old.as_str(), new]
                .into_iter()
                .find(|name| binds(root, name))
        };
        match bound().filter(|_| !edits.is_empty()) {
            Some(name) => Err(RenameRefusal::Bound {
                name: name.to_owned(),
                path: path.clone(),
            }),
            None => Ok(edits),
        }
    }

    /// Whether a file uses all that is declared beside it, by a name for the whole file.
    fn is_used_by_kit_name(&self, root: Node<'_>, names: &FileNames<'_>) -> bool {
        let is_home =
            |name: &str| names.name(name) == Some(NameMeaning::InFile(self.home.to_string()));
        root.children().any(|node| {
            node.kind() == SyntaxKind::UseDecl
                && views::used_names(node).is_empty()
                && views::declared_name(node).is_some_and(|name| is_home(node.token_text(name)))
        })
    }

    /// Whether a token is its name.
    fn is_it(&self, path: &WsPath, at: TokenInTree<'_>, names: &FileNames<'_>) -> bool {
        let Renaming {
            wanted, old, home, ..
        } = self;
        let text = at.node.token_text(at.token);
        match (names.meaning(at), wanted) {
            (Some(NameMeaning::InFile(file)), NameMeaning::Declared(_)) => {
                file == home.as_str() && text == *old
            }
            (Some(NameMeaning::Declared(token)), NameMeaning::Declared(own)) => {
                path == home && token == *own
            }
            (Some(meaning), _) => meaning == *wanted,
            // A name that is taken from a file is in the list of these.
            (None, NameMeaning::Declared(_)) => {
                at.node.kind() == SyntaxKind::UseNames
                    && text == *old
                    && names.name(text) == Some(NameMeaning::InFile(home.to_string()))
            }
            (None, _) => false,
        }
    }
}

/// What is to be written in all files so that something has another name.
///
/// # Errors
/// Why that cannot be done.
pub fn renamed(
    known: &EditorKnowledge,
    places: &FileAddresses,
    document: &OpenText,
    byte: usize,
    new: &str,
    definitions: &DefinitionFiles<'_>,
) -> Result<WorkspaceEdit, RenameRefusal> {
    let (mut wanted, old, _) = renamed_at(known, document, byte).ok_or(RenameRefusal::NoName)?;
    let mut declared_in = document;
    let other;
    // What is taken from another file has its name there.
    if let NameMeaning::InFile(path) = &wanted {
        let path = WsPath::root()
            .resolve(path)
            .map_err(|_| RenameRefusal::DeclaredElsewhere)?;
        let text = (definitions.read)(&path).ok_or_else(|| RenameRefusal::Unread(path.clone()))?;
        other = OpenText::new(path, text);
        declared_in = &other;
        let token = other.declared(&old);
        wanted = NameMeaning::Declared(token.ok_or(RenameRefusal::NoName)?);
    }
    if !nubrik_syntax::is_name(new) || nubrik_syntax::is_reserved(new) {
        return Err(RenameRefusal::NotAName(new.to_owned()));
    }
    let graph = &known.evaluated.evaluation.graph;
    if let NameMeaning::Declared(token) = &wanted
        && declares_target(declared_in.parsed.tree.root(), token.start as usize)
    {
        return Err(RenameRefusal::Errors);
    }
    let home = match &wanted {
        NameMeaning::Target(address) => {
            let id = graph.find_target(address).ok_or(RenameRefusal::Gone)?;
            let file = WsPath::root().resolve(&graph.target(id).place.file);
            file.map_err(|_| RenameRefusal::DeclaredElsewhere)?
        }
        _ => declared_in.path.clone(),
    };
    let renaming = Renaming {
        graph,
        wanted,
        old,
        new,
        home,
    };
    renaming.all_edits(places, definitions)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn references_keep_their_form() {
        assert_eq!(
            reference("&base/clock", "base/clock/clock", "watch"),
            "&base/clock/watch"
        );
        assert_eq!(
            reference("&base/clock/clock", "base/clock/clock", "watch"),
            "&base/clock/watch"
        );
        assert_eq!(reference("&/tide/fit", "tide/fit", "curve"), "&/tide/curve");
        assert_eq!(reference("&fit", "tide/fit", "curve"), "&curve");
    }
}
