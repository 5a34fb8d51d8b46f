//! The registries that packages come from.

use std::fmt;

/// A kind of registry: whose packages, by which protocol.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum Registry {
    /// Python's distributions, by the simple index (PEP 503, PEP 691).
    Python,
    /// Java's archives, from a repository laid out by group, artifact and version.
    Java,
    /// JavaScript's packages, by the documents of a registry.
    Js,
    /// Rust's crates, by the sparse index.
    Rust,
    /// Go's modules, by the protocol of module proxies.
    Go,
    /// Archives of no registry, from sites that the settings name.
    Archive,
}

impl Registry {
    /// All of them, in the order in which `pins.toml` has them.
    pub const ALL: [Registry; 6] =
        [Registry::Python, Registry::Java, Registry::Js, Registry::Rust, Registry::Go, Registry::Archive];

    /// Its name in `pins.toml`, in `[origins]` and on the command line: that of the kit, but for plain archives.
    pub fn name(self) -> &'static str {
        match self {
            Registry::Python => "python",
            Registry::Java => "java",
            Registry::Js => "js",
            Registry::Rust => "rust",
            Registry::Go => "go",
            Registry::Archive => "archive",
        }
    }

    /// Whether versions and archives may differ from system to system.
    pub fn differs_by_system(self) -> bool {
        match self {
            Registry::Python | Registry::Js | Registry::Rust => true,
            Registry::Java | Registry::Go | Registry::Archive => false,
        }
    }

    /// Whether packages have features that are on or off: extras in Python.
    pub fn has_features(self) -> bool {
        match self {
            Registry::Python | Registry::Rust => true,
            Registry::Java | Registry::Js | Registry::Go | Registry::Archive => false,
        }
    }

    /// The kind of its packages in package URLs (purl).
    pub fn package_url_kind(self) -> &'static str {
        match self {
            Registry::Python => "pypi",
            Registry::Js => "npm",
            Registry::Rust => "cargo",
            Registry::Go => "golang",
            Registry::Java | Registry::Archive => "generic",
        }
    }

    /// The registry of this name.
    pub fn named(name: &str) -> Option<Registry> {
        Registry::ALL.into_iter().find(|registry| registry.name() == name)
    }
}

impl fmt::Display for Registry {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}
