//! What names in a text of definitions mean, as far as that shows without evaluating it: for who
//! reads or edits the text. Broken texts are read as far as they go.

use std::collections::HashMap;
use std::sync::Arc;

use nubrik_graph::{Graph, Target};
use nubrik_syntax::{Element, Node, SyntaxKind, Token, views};

/// What a name, or a text, in definitions means.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum NameMeaning {
    /// A target, by its address.
    Target(Arc<str>),
    /// Something that the same file declares: where its name is in it.
    Declared(Token),
    /// Something of another file of definitions, by its path from the workspace's root.
    InFile(String),
    /// Something of a kit that ships with the tool: `c.program`.
    OfKit(String),
    /// A name that the language knows, such as a form.
    Known(String),
    /// Perhaps a file, by its path from the workspace's root.
    File(String),
}

/// A token with what is around it.
#[derive(Clone, Copy)]
pub struct TokenInTree<'t> {
    /// The token.
    pub token: Token,
    /// What its node has before it.
    pub before: Option<SyntaxKind>,
    /// The node that it is in.
    pub node: Node<'t>,
}

/// Hears all tokens of a tree in the order of the text.
pub fn each_token<'t>(node: Node<'t>, hear: &mut dyn FnMut(TokenInTree<'t>)) {
    let mut before = None;
    for element in node.elements() {
        match element {
            Element::Node(id) => each_token(node.node(id), hear),
            Element::Token(token) => {
                hear(TokenInTree {
                    token,
                    before,
                    node,
                });
                before = Some(token.kind);
            }
        }
    }
}

/// Names that mean something in one file of definitions.
pub struct FileNames<'g> {
    targets: &'g dyn TargetNames,
    package: String,
    /// Targets of the package, by their last names.
    own: HashMap<&'g str, &'g Arc<str>>,
    /// Names that the file itself declares.
    declared: HashMap<String, Token>,
    /// Names from other files, by the paths of these.
    used: HashMap<String, String>,
    /// Kits of the tool, by the names that they have in the file.
    kits: HashMap<String, String>,
    /// Names from kits of the tool: `c.library`.
    members: HashMap<String, String>,
}

/// Targets by their names, for who asks about many files: a graph looks through all of them for
/// each name.
pub trait TargetNames {
    /// The target with an address.
    fn by_address(&self, address: &str) -> Option<&Target>;
    /// The targets of a package that are declared there.
    fn of_package(&self, package: &str) -> Vec<&Target>;
}

impl TargetNames for Graph {
    fn by_address(&self, address: &str) -> Option<&Target> {
        self.find_target(address).map(|id| self.target(id))
    }

    fn of_package(&self, package: &str) -> Vec<&Target> {
        let is_own = |target: &&Target| target.is_declared() && target.package.as_str() == package;
        self.targets.iter().filter(is_own).collect()
    }
}

impl<'g> FileNames<'g> {
    /// Those of the file with a path from the workspace's root and a tree.
    pub fn of(targets: &'g dyn TargetNames, path: &str, root: Node<'_>) -> FileNames<'g> {
        let package = path
            .rsplit_once('/')
            .map_or("", |(folder, _)| folder)
            .to_owned();
        let is_package = path.rsplit('/').next() == Some(crate::TARGETS_FILE);
        let last = |address: &'g str| address.rsplit('/').next().unwrap_or(address);
        let own = if is_package {
            targets.of_package(&package)
        } else {
            Vec::new()
        };
        let own = own
            .into_iter()
            .map(|target| (last(&target.address), &target.address))
            .collect();
        let (declared, used, kits, members) = (
            HashMap::new(),
            HashMap::new(),
            HashMap::new(),
            HashMap::new(),
        );
        let mut names = FileNames {
            targets,
            package,
            own,
            declared,
            used,
            kits,
            members,
        };
        for node in root.children().filter(|node| node.kind().is_declaration()) {
            if node.kind() != SyntaxKind::UseDecl {
                let name = views::declared_name(node);
                names
                    .declared
                    .extend(name.map(|name| (node.token_text(name).to_owned(), name)));
                continue;
            }
            let Some(kit) = node.child(SyntaxKind::TextExpr).and_then(views::plain_text) else {
                continue;
            };
            let taken = views::used_names(node).into_iter().map(|name| (name, true));
            let whole = views::declared_name(node).map(|name| (name, false));
            for (name, is_one) in taken.chain(whole) {
                let name = node.token_text(name).to_owned();
                match (kit.strip_prefix("nub:"), is_one) {
                    (Some(kit), true) => {
                        drop(names.members.insert(name.clone(), format!("{kit}.{name}")))
                    }
                    (Some(kit), false) => drop(names.kits.insert(name, kit.to_owned())),
                    (None, _) => drop(names.used.insert(name, names.path(&kit))),
                }
            }
        }
        names
    }

    /// What a token means, if it names something.
    pub fn meaning(
        &self,
        TokenInTree {
            token,
            before,
            node,
        }: TokenInTree<'_>,
    ) -> Option<NameMeaning> {
        let text = node.token_text(token);
        match token.kind {
            SyntaxKind::TextPart => Some(NameMeaning::File(self.path(text))),
            SyntaxKind::Ref => self
                .target(text.trim_start_matches('&'))
                .map(NameMeaning::Target),
            // What is behind a dot is a name of something else.
            SyntaxKind::Word if before == Some(SyntaxKind::Dot) => self.of_kit(text, node),
            SyntaxKind::Word if nubrik_syntax::is_reserved(text) => None,
            SyntaxKind::Word
                if matches!(node.kind(), SyntaxKind::NameExpr | SyntaxKind::UseNames) =>
            {
                self.name(text)
            }
            SyntaxKind::Word if node.kind().is_declaration() => {
                let is_own = views::declared_name(node) == Some(token);
                is_own.then(|| self.name(text)).flatten()
            }
            _ => None,
        }
    }

    /// What a bare name means.
    pub fn name(&self, name: &str) -> Option<NameMeaning> {
        let own = self
            .own
            .get(name)
            .map(|address| NameMeaning::Target((*address).clone()));
        own.or_else(|| self.declared.get(name).copied().map(NameMeaning::Declared))
            .or_else(|| self.used.get(name).cloned().map(NameMeaning::InFile))
            .or_else(|| self.members.get(name).cloned().map(NameMeaning::OfKit))
            .or_else(|| {
                crate::builtins::forms()
                    .any(|form| form.name == name)
                    .then(|| NameMeaning::Known(name.to_owned()))
            })
    }

    /// Names that can be used in the file, each with what it means.
    pub fn all(&self) -> Vec<(String, NameMeaning)> {
        let mut names: Vec<String> = self.own.keys().map(|name| (*name).to_owned()).collect();
        names.extend(
            self.declared
                .keys()
                .chain(self.used.keys())
                .chain(self.members.keys())
                .cloned(),
        );
        names.sort_unstable();
        names.dedup();
        names
            .into_iter()
            .filter_map(|name| self.name(&name).map(|meaning| (name, meaning)))
            .collect()
    }

    /// Kits of the tool, by the names that they have in the file.
    pub fn kits(&self) -> impl Iterator<Item = (&str, &str)> {
        self.kits
            .iter()
            .map(|(name, kit)| (name.as_str(), kit.as_str()))
    }

    /// The kit of the tool that a name means.
    pub fn kit(&self, name: &str) -> Option<&str> {
        self.kits.get(name).map(String::as_str)
    }

    fn of_kit(&self, name: &str, node: Node<'_>) -> Option<NameMeaning> {
        let kit = self.kits.get(node.child(SyntaxKind::NameExpr)?.text())?;
        Some(NameMeaning::OfKit(format!("{kit}.{name}")))
    }

    /// A target by an address as definitions write it: from the root, or with the package's name
    /// for its main target.
    pub fn target(&self, address: &str) -> Option<Arc<str>> {
        let address = address.trim_start_matches('/');
        let last = address.rsplit('/').next().unwrap_or(address);
        let known = [
            address.to_owned(),
            format!("{address}/{last}"),
            format!("{}/{address}", self.package),
        ];
        known
            .iter()
            .find_map(|known| self.targets.by_address(known))
            .map(|found| found.address.clone())
    }

    /// The path from the workspace's root of what a text names.
    fn path(&self, text: &str) -> String {
        let text = text.strip_prefix("./").unwrap_or(text);
        match text.strip_prefix('/') {
            Some(from_root) => from_root.to_owned(),
            None if self.package.is_empty() => text.to_owned(),
            None => format!("{}/{text}", self.package),
        }
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use nubrik_graph::{Role, Tables};
    use nubrik_source::{Sources, WsPath};

    use super::*;

    #[test]
    fn names_mean_what_evaluation_takes_them_for() {
        let text: Arc<str> = "use \"nub:c\" as c\nuse { ours } from \"/kit/flags.nub\"\nlet all = glob(\"*.c\")\n\
             target fit = c.library { sources = all, needs = &base/clock, flags = ours, headers = \"fit.h\" }\n\
             target show = step { run = `cat {fit} {missing}` }\n"
            .into();
        let mut tables = Tables::default();
        for (address, package) in [
            ("tide/fit", "tide"),
            ("tide/show", "tide"),
            ("base/clock/clock", "base/clock"),
        ] {
            let package = WsPath::from_normal(package);
            tables.targets.push(Target {
                package,
                role: Role::Target,
                ..Target::plain(address)
            });
        }
        let graph = tables.finish().unwrap();
        let file = Sources::default().add("tide/targets.nub", text.clone());
        let parsed = nubrik_syntax::parse(file, &text);
        let names = FileNames::of(&graph, "tide/targets.nub", parsed.tree.root());
        let mut found = Vec::new();
        each_token(parsed.tree.root(), &mut |at| {
            if let Some(meaning) = names.meaning(at) {
                let told = match meaning {
                    NameMeaning::Target(address) => format!("target {address}"),
                    NameMeaning::Declared(token) => {
                        format!("line {}", text[..token.start as usize].lines().count())
                    }
                    NameMeaning::InFile(path) => format!("in {path}"),
                    NameMeaning::OfKit(name) => format!("kit {name}"),
                    NameMeaning::Known(name) => format!("known {name}"),
                    NameMeaning::File(path) => format!("file {path}"),
                };
                found.push((at.node.token_text(at.token).to_owned(), told));
            }
        });
        let told = |name: &str| {
            found
                .iter()
                .filter(|(text, _)| text == name)
                .map(|(_, told)| told.as_str())
                .collect::<Vec<_>>()
        };
        assert_eq!(told("all"), ["line 3", "line 3"]);
        assert_eq!(told("library"), ["kit c.library"]);
        assert_eq!(told("&base/clock"), ["target base/clock/clock"]);
        assert_eq!(told("ours"), ["in kit/flags.nub", "in kit/flags.nub"]);
        assert_eq!(told("fit.h"), ["file tide/fit.h"]);
        assert_eq!(told("fit"), ["target tide/fit", "target tide/fit"]);
        assert_eq!(
            (told("step"), told("missing")),
            (vec!["known step"], Vec::new())
        );
    }
}
