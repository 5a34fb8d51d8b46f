//! Lines that say of a file why it is left out, and whether the cause is still there.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use crate::MachineView;
use crate::causes::OmissionCause;
use crate::existing::Existing;
use crate::proposal::{DefinitionAddress, Proposal};
use crate::tree::{SourceTree, below, is_below, joined};

/// How such a line begins. A person may write one, too.
const WITHOUT: &str = "# Without ";

/// The lines by which files of a package are left out, each ended: one for each reason, and more
/// where it would be wider than so many columns.
pub(crate) fn omission_lines<'f>(
    package: &str,
    width: usize,
    without: impl IntoIterator<Item = (&'f str, &'f str)>,
) -> Vec<String> {
    let mut reasons: Vec<(&str, Vec<String>)> = Vec::new();
    let mut places: BTreeMap<&str, usize> = BTreeMap::new();
    for (file, why) in without {
        let why = why.lines().next().unwrap_or_default().trim_end_matches('.');
        let at = *places.entry(why).or_insert(reasons.len());
        if at == reasons.len() {
            reasons.push((why, Vec::new()));
        }
        reasons[at].1.push(written(below(file, package)));
    }
    let line = |names: &str, why: &str| format!("{WITHOUT}{names}: {why}.\n");
    let mut lines = Vec::new();
    for (why, names) in reasons {
        let mut row = String::new();
        for name in names {
            let longer = if row.is_empty() {
                name.clone()
            } else {
                format!("{row}, {name}")
            };
            if !row.is_empty() && line(&longer, why).chars().count() > width {
                lines.push(line(&row, why));
                row = name;
            } else {
                row = longer;
            }
        }
        lines.push(line(&row, why));
    }
    lines
}

/// A name in such a line: in quotes where it has a sign that ends names there.
fn written(name: &str) -> String {
    let is_odd = |c: char| matches!(c, ',' | ':' | '"') || c.is_control();
    if name.contains(is_odd) {
        serde_json::Value::from(name).to_string()
    } else {
        name.to_owned()
    }
}

/// The names at the beginning of a line, and the rest of it after `: `; `None` where there is no
/// reason.
fn names_and_reason(line: &str) -> Option<(Vec<String>, &str)> {
    let mut names = Vec::new();
    let mut rest = line;
    loop {
        let end = if rest.starts_with('"') {
            let mut quoted = serde_json::Deserializer::from_str(rest).into_iter::<String>();
            names.push(quoted.next()?.ok()?);
            quoted.byte_offset()
        } else {
            let end = [", ", ": "]
                .iter()
                .filter_map(|sign| rest.find(sign))
                .min()?;
            names.push(rest[..end].to_owned());
            end
        };
        if let Some(why) = rest[end..].strip_prefix(": ") {
            return Some((names, why));
        }
        rest = rest[end..].strip_prefix(", ")?;
    }
}

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
    /// The files or folders, from the tree's top.
    pub paths: Vec<String>,
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
            let (names, why) = names_and_reason(line.trim().strip_prefix(WITHOUT)?)?;
            let paths = names
                .iter()
                .map(|name| joined(package, name))
                .collect::<Option<_>>()?;
            Some(OmissionLine {
                package: package.to_owned(),
                paths,
                why: why.trim_end_matches('.').to_owned(),
                range,
            })
        })
    }

    /// Whether it is about a file.
    pub fn is_about(&self, file: &str) -> bool {
        self.paths
            .iter()
            .any(|path| file == path || is_below(file, path))
    }

    /// Whether the cause is gone, as far as this line alone says it: only those causes that this
    /// tool writes itself can be.
    fn is_gone(&self, tree: &SourceTree, facts: CauseFacts<'_>) -> bool {
        match OmissionCause::of(&self.why) {
            OmissionCause::Header(header) => has_header(tree, facts.machine, header),
            OmissionCause::Package => facts.asks_registries,
            OmissionCause::Definition(_) | OmissionCause::Other => false,
        }
    }

    /// The definition that was left out, too, where that is the cause.
    fn needed(&self) -> Option<&str> {
        if let OmissionCause::Definition(name) = OmissionCause::of(&self.why) {
            Some(name)
        } else {
            None
        }
    }

    /// The line without those of its files that are taken now; nothing where none of them is left.
    pub fn without_taken(&self, width: usize, taken: &BTreeSet<String>) -> String {
        let left = self.paths.iter().filter(|path| !taken.contains(*path));
        omission_lines(
            &self.package,
            width,
            left.map(|path| (path.as_str(), self.why.as_str())),
        )
        .concat()
    }
}

fn has_header(tree: &SourceTree, machine: &dyn MachineView, header: &str) -> bool {
    let behind = format!("/{header}");
    let is_in_tree = tree
        .files()
        .iter()
        .any(|file| file == header || file.ends_with(&behind));
    is_in_tree
        || ["/usr/include", "/usr/local/include"]
            .iter()
            .any(|at| machine.has_file(&format!("{at}{behind}")))
}

/// The lines of all definition files whose cause is gone.
pub(crate) fn gone(
    tree: &SourceTree,
    existing: &Existing,
    proposal: &Proposal,
    facts: CauseFacts<'_>,
) -> Vec<OmissionLine> {
    let all = existing
        .iter()
        .flat_map(|(package, text)| OmissionLine::all_in(package, text));
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
                let address = DefinitionAddress {
                    package: package.to_owned(),
                    name: name.to_owned(),
                };
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
        let tree = SourceTree::of(&[
            ("include/sea.h", ""),
            ("a.c", ""),
            ("b.c", ""),
            ("c.py", ""),
            ("d.c", ""),
        ]);
        let existing = Existing::from([(String::new(), text.to_owned())]);
        let paths = |asks_registries| -> Vec<String> {
            let facts = CauseFacts {
                machine: &NoMachine,
                asks_registries,
            };
            gone(&tree, &existing, &Proposal::default(), facts)
                .into_iter()
                .flat_map(|line| line.paths)
                .collect()
        };
        assert_eq!(paths(false), ["a.c"]);
        assert_eq!(paths(true), ["a.c", "c.py"]);
        let first = OmissionLine::all_in("", text).next().map(|line| line.range);
        assert_eq!(
            first
                .map(|range| &text[range])
                .and_then(|line| line.strip_suffix('\n')),
            text.lines().next()
        );
    }

    #[test]
    fn files_of_one_reason_share_a_line() {
        let long: Vec<String> = (10..30)
            .map(|n| format!("src/part_of_the_tide_{n}.c"))
            .collect();
        let mut without = vec![
            ("src/a.c", "nobody ships it"),
            ("src/b.c", "it needs sea"),
            ("src/c, d: e.c", "nobody ships it"),
        ];
        without.extend(long.iter().map(|name| (name.as_str(), "it needs sea")));
        let lines = omission_lines("src", 100, without.iter().copied());
        assert_eq!(lines[0], "# Without a.c, \"c, d: e.c\": nobody ships it.\n");
        assert!(
            lines[1].starts_with("# Without b.c, part_of_the_tide_10.c, "),
            "{}",
            lines[1]
        );
        assert!(
            lines
                .iter()
                .all(|line| line.chars().count() <= 100 && line.ends_with(".\n"))
        );
        // All of them are read back, with their reasons.
        let text = lines.concat();
        let mut read: Vec<(String, String)> = OmissionLine::all_in("src", &text)
            .flat_map(|line| {
                line.paths
                    .into_iter()
                    .map(move |path| (path, line.why.clone()))
            })
            .collect();
        let mut wanted: Vec<(String, String)> = without
            .iter()
            .map(|(path, why)| ((*path).to_owned(), (*why).to_owned()))
            .collect();
        read.sort();
        wanted.sort();
        assert_eq!(read, wanted);
        // Those that are taken later are not named any more.
        let first = OmissionLine::all_in("src", &text)
            .next()
            .unwrap_or_else(|| panic!("it is there"));
        assert_eq!(
            first.without_taken(100, &["src/a.c".to_owned()].into()),
            "# Without \"c, d: e.c\": nobody ships it.\n"
        );
        assert_eq!(
            first.without_taken(100, &first.paths.iter().cloned().collect()),
            ""
        );
    }

    #[test]
    fn a_line_without_a_reason_is_none() {
        for line in [
            "# Without a.c.",
            "# Without a.c, b.c",
            "# Without \"a.c: x",
            "# Without \"a.c\"; x: y",
        ] {
            assert_eq!(OmissionLine::all_in("", line).next(), None, "{line}");
        }
    }
}
