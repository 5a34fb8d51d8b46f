//! What is decided about when versions of distributions are chosen.

use std::collections::BTreeMap;
use std::fmt;

use pep440_rs::Version;
use pubgrub::Ranges;

/// Versions of a distribution.
pub(super) type DistributionRange = Ranges<Version>;

/// What is decided about: a distribution, or one of its extras, which has the same version.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub(super) enum DistributionNode {
    /// What asks for all that is asked for.
    Root,
    /// A distribution by its name.
    Package(String),
    /// One of its extras.
    Extra(String, String),
}

impl DistributionNode {
    /// The distribution's name; empty for the root.
    pub fn name(&self) -> &str {
        match self {
            DistributionNode::Root => "",
            DistributionNode::Package(name) | DistributionNode::Extra(name, _) => name,
        }
    }
}

impl fmt::Display for DistributionNode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            DistributionNode::Root => f.write_str("pins.toml"),
            DistributionNode::Package(name) => f.write_str(name),
            DistributionNode::Extra(name, extra) => write!(f, "{name}[{extra}]"),
        }
    }
}

/// What a package needs, put together by name.
#[derive(Default)]
pub(super) struct WantedDistributions {
    /// The range of versions of each.
    pub constraints: BTreeMap<DistributionNode, DistributionRange>,
    /// Names in the order in which they were met.
    pub met: Vec<String>,
}

impl WantedDistributions {
    /// Adds a package that is needed with some extras.
    pub fn add(&mut self, name: &str, extras: &[String], range: &DistributionRange) {
        for extra in extras {
            self.constrain(
                DistributionNode::Extra(name.to_owned(), extra.clone()),
                range,
            );
        }
        self.met.push(name.to_owned());
        self.constrain(DistributionNode::Package(name.to_owned()), range);
    }

    /// Lets only versions of a range be taken.
    pub fn constrain(&mut self, node: DistributionNode, range: &DistributionRange) {
        let entry = self
            .constraints
            .entry(node)
            .or_insert_with(DistributionRange::full);
        *entry = entry.intersection(range);
    }
}
