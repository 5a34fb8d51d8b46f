//! The tree in which packages find one another: each looks for a name in its own folder, then in
//! the one above, and so on.

use std::collections::{BTreeMap, BTreeSet};

use node_semver::Version;

/// The root, which represents the person who asks.
pub(crate) const ROOT: usize = 0;

/// A package at a place of the tree.
#[derive(Clone, Debug)]
pub(crate) struct PlacedPackage {
    /// The name under which it is found, and that of the package.
    pub found_as: String,
    pub package: String,
    pub version: Version,
    pub above: usize,
    pub children: BTreeMap<String, usize>,
    /// Names of packages that lie in its archive, in versions that nobody knows here.
    pub carried: BTreeSet<String>,
}

/// A name that a package finds at a place.
#[derive(Clone, Debug)]
pub(crate) struct TreeEdge {
    pub from: usize,
    pub name: String,
    pub range: String,
    pub to: usize,
}

/// The tree, and who finds what in it.
#[derive(Debug)]
pub(crate) struct ModuleTree {
    pub nodes: Vec<PlacedPackage>,
    pub edges: Vec<TreeEdge>,
}

impl ModuleTree {
    pub(crate) fn new() -> ModuleTree {
        let root = PlacedPackage {
            found_as: String::new(),
            package: String::new(),
            version: Version::from((0_u64, 0_u64, 0_u64)),
            above: ROOT,
            children: BTreeMap::new(),
            carried: BTreeSet::new(),
        };
        ModuleTree {
            nodes: vec![root],
            edges: Vec::new(),
        }
    }

    /// The place that a name leads to from another one; nothing where there is none, or where it
    /// leads to what lies in an archive.
    pub(crate) fn find(&self, from: usize, name: &str) -> Option<usize> {
        let mut at = from;
        loop {
            if let Some(found) = self.nodes[at].children.get(name) {
                return Some(*found);
            }
            if at == ROOT || self.nodes[at].carried.contains(name) {
                return None;
            }
            at = self.nodes[at].above;
        }
    }

    /// The highest place at which a version can stand so that it is found from `from`, and takes
    /// nothing from those who find another one of that name now. `fits` says whether a version will
    /// do for a range, and `suits` whether it finds at a place what it wants to find beside it.
    pub(crate) fn highest(
        &self,
        from: usize,
        name: &str,
        version: &Version,
        fits: &dyn Fn(&str, &Version) -> bool,
        suits: &dyn Fn(usize) -> bool,
    ) -> usize {
        let mut best = from;
        let mut at = from;
        loop {
            if self.nodes[at].children.contains_key(name) || self.nodes[at].carried.contains(name) {
                // What is there hides everything above.
                return best;
            }
            let hides = self.edges.iter().any(|edge| {
                edge.name == name
                    && self.is_below(edge.from, at)
                    && !self.is_below(edge.to, at)
                    && !fits(&edge.range, version)
            });
            // Where an archive carries packages, it may carry more than it says: only what has to
            // be there is put beside them.
            let is_free = at == from || self.nodes[at].carried.is_empty();
            if is_free && !hides && suits(at) {
                best = at;
            }
            if at == ROOT {
                return best;
            }
            at = self.nodes[at].above;
        }
    }

    fn is_below(&self, node: usize, above: usize) -> bool {
        let mut at = node;
        while at != above && at != ROOT {
            at = self.nodes[at].above;
        }
        at == above
    }

    /// Puts a package at a place, whose archive carries some packages. Whoever found another one of
    /// its name further up finds this one now.
    pub(crate) fn put(
        &mut self,
        above: usize,
        found_as: &str,
        package: &str,
        version: Version,
        carried: BTreeSet<String>,
    ) -> usize {
        let number = self.nodes.len();
        let (found_as, package) = (found_as.to_owned(), package.to_owned());
        self.nodes[above].children.insert(found_as.clone(), number);
        self.nodes.push(PlacedPackage {
            found_as: found_as.clone(),
            package,
            version,
            above,
            children: BTreeMap::new(),
            carried,
        });
        let moved: Vec<usize> = (0..self.edges.len())
            .filter(|n| {
                self.edges[*n].name == found_as && self.is_below(self.edges[*n].from, above)
            })
            .collect();
        for n in moved {
            let from = self.edges[n].from;
            if let Some(to) = self.find(from, &found_as) {
                self.edges[n].to = to;
            }
        }
        number
    }

    /// The path of a place, as folders of modules have it: `express/node_modules/debug`.
    pub(crate) fn path(&self, node: usize) -> String {
        let mut names = Vec::new();
        let mut at = node;
        while at != ROOT {
            names.push(self.nodes[at].found_as.as_str());
            at = self.nodes[at].above;
        }
        names.reverse();
        names.join("/node_modules/")
    }

    /// How deep a place is.
    pub(crate) fn depth(&self, node: usize) -> usize {
        let (mut at, mut depth) = (node, 0);
        while at != ROOT {
            at = self.nodes[at].above;
            depth += 1;
        }
        depth
    }

    /// Places that can be reached from the root by what packages find.
    pub(crate) fn reached(&self) -> BTreeSet<usize> {
        let mut seen = BTreeSet::from([ROOT]);
        let mut open = vec![ROOT];
        while let Some(at) = open.pop() {
            for edge in self.edges.iter().filter(|edge| edge.from == at) {
                if seen.insert(edge.to) {
                    open.push(edge.to);
                }
            }
        }
        seen
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn version(major: u64) -> Version {
        Version::from((major, 0_u64, 0_u64))
    }

    #[test]
    fn nothing_is_put_beside_packages_that_lie_in_an_archive() {
        let mut tree = ModuleTree::new();
        let carried = BTreeSet::from(["moon".to_owned()]);
        let almanac = tree.put(ROOT, "almanac", "almanac", version(1), carried);
        let tides = tree.put(almanac, "tides", "tides", version(2), BTreeSet::new());
        tree.put(ROOT, "moon", "moon", version(1), BTreeSet::new());
        // From below the archive's package the one in the archive is found, whichever it is.
        assert_eq!(
            (tree.find(tides, "moon"), tree.find(ROOT, "moon").is_some()),
            (None, true)
        );
        let place = |from: usize, name: &str, is_above_taken: bool| {
            tree.highest(from, name, &version(3), &|_, _| true, &|at| {
                at != ROOT || !is_above_taken
            })
        };
        assert_eq!(
            place(tides, "moon", false),
            tides,
            "beside the one in the archive it would take its place"
        );
        assert_eq!(place(tides, "sun", false), ROOT);
        assert_eq!(
            place(tides, "sun", true),
            tides,
            "the archive may have it, too"
        );
        assert_eq!(
            place(almanac, "sun", true),
            almanac,
            "its own needs are put there if they must be"
        );
    }
}
