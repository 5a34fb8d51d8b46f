//! Lines that say of a file why it is left out, and whether the cause is still there.

use std::collections::BTreeSet;
use std::ops::Range;

use crate::MachineView;
use crate::existing::Existing;
use crate::proposal::{DefinitionAddress, Proposal};
use crate::tree::{SourceTree, is_below, joined};

/// How such a line begins. A person may write one, too.
pub(crate) const WITHOUT: &str = "# Without ";

/// What may have changed since something was left out.
#[derive(Clone, Copy)]
pub struct CauseFacts<'a> {
    /// The machine as it is now.
    pub machine: &'a dyn MachineView,
    /// Whether registries are asked again for packages that were not to be had.
    pub asks_registries: bool,
}

/// A line that says why a file is left out.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct OmissionLine {
    /// The package whose definitions say it.
    pub package: String,
    /// The file or folder, from the tree's top.
    pub path: String,
    /// Why.
    pub why: String,
    /// The whole line in the text, with its end.
    pub range: Range<usize>,
}

impl OmissionLine {
    /// All of a definition file.
    pub fn all_in<'t>(package: &'t str, text: &'t str) -> impl Iterator<Item = OmissionLine> + 't {
        let mut end = 0;
        text.split_inclusive('\n').filter_map(move |line| {
            let range = end..end + line.len();
            end = range.end;
            let (path, why) = line.trim().strip_prefix(WITHOUT)?.split_once(": ")?;
            let path = joined(package, path)?;
            Some(OmissionLine {
                package: package.to_owned(),
                path,
                why: why.trim_end_matches('.').to_owned(),
                range,
            })
        })
    }

    /// Whether it is about a file.
    pub fn is_about(&self, file: &str) -> bool {
        file == self.path || is_below(file, &self.path)
    }

    /// Whether the cause is gone, as far as this line alone says it: only those causes that this tool writes itself can be.
    fn is_gone(&self, tree: &SourceTree, facts: CauseFacts<'_>) -> bool {
        let header = self
            .why
            .strip_prefix("it includes ")
            .and_then(|rest| rest.split_once(", which neither this folder"));
        if let Some((header, _)) = header {
            return has_header(tree, facts.machine, header);
        }
        let is_of_package = self.why.starts_with("it uses ") && self.why.ends_with(", which is nowhere");
        let needs_package = self.why.starts_with("it needs ") && self.why.contains(", which ");
        facts.asks_registries && (is_of_package || needs_package)
    }

    /// The definition that was left out, too, where that is the cause.
    fn needed(&self) -> Option<&str> {
        self.why.strip_prefix("it needs ").filter(|name| !name.contains([' ', ',']))
    }
}

fn has_header(tree: &SourceTree, machine: &dyn MachineView, header: &str) -> bool {
    let behind = format!("/{header}");
    let is_in_tree = tree.files().iter().any(|file| file == header || file.ends_with(&behind));
    is_in_tree
        || ["/usr/include", "/usr/local/include"].iter().any(|at| machine.has_file(&format!("{at}{behind}")))
}

/// The lines of all definition files whose cause is gone.
pub(crate) fn gone(
    tree: &SourceTree,
    existing: &Existing,
    proposal: &Proposal,
    facts: CauseFacts<'_>,
) -> Vec<OmissionLine> {
    let all = existing.iter().flat_map(|(package, text)| OmissionLine::all_in(package, text));
    let (mut gone, mut holding): (Vec<OmissionLine>, Vec<OmissionLine>) =
        all.partition(|line| line.is_gone(tree, facts));
    // What only needed something else comes back with it.
    loop {
        let held: BTreeSet<String> = holding
            .iter()
            .flat_map(|line| tree.files().iter().filter(|file| line.is_about(file)))
            .cloned()
            .collect();
        let comes_back = |line: &OmissionLine| {
            let needed = line.needed().and_then(|name| {
                let (package, name) = name.rsplit_once('/').unwrap_or(("", name));
                let address = DefinitionAddress { package: package.to_owned(), name: name.to_owned() };
                proposal.definition(&address)
            });
            needed.is_some_and(|needed| needed.sources().is_disjoint(&held))
        };
        let (more, rest): (Vec<OmissionLine>, Vec<OmissionLine>) =
            holding.into_iter().partition(|line| comes_back(line));
        holding = rest;
        if more.is_empty() {
            return gone;
        }
        gone.extend(more);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::NoMachine;

    #[test]
    fn only_causes_that_the_tool_writes_can_be_gone() {
        let text = "# Without a.c: it includes sea.h, which neither this folder nor this machine has.\n\
                    # Without b.c: it includes ebb.h, which neither this folder nor this machine has.\n\
                    # Without c.py: it needs python flow, which cannot be pinned: no address.\n\
                    # Without d.c: nobody ships it.\ntarget x = 1\n";
        let tree =
            SourceTree::of(&[("include/sea.h", ""), ("a.c", ""), ("b.c", ""), ("c.py", ""), ("d.c", "")]);
        let existing = Existing::from([(String::new(), text.to_owned())]);
        let paths = |asks_registries| -> Vec<String> {
            let facts = CauseFacts { machine: &NoMachine, asks_registries };
            gone(&tree, &existing, &Proposal::default(), facts).into_iter().map(|line| line.path).collect()
        };
        assert_eq!(paths(false), ["a.c"]);
        assert_eq!(paths(true), ["a.c", "c.py"]);
        let first = OmissionLine::all_in("", text).next().map(|line| line.range);
        assert_eq!(
            first.map(|range| &text[range]).and_then(|line| line.strip_suffix('\n')),
            text.lines().next()
        );
    }
}
