//! The registries that packages come from; what each of them is like is a row in `registries.rs`.

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
    /// Images, by the OCI distribution specification.
    Images,
    /// Archives of no registry, from sites that the settings name.
    Archive,
}

impl Registry {
    /// All of them, in the order in which `pins.toml` has them.
    pub const ALL: [Registry; 7] = [
        Registry::Python,
        Registry::Java,
        Registry::Js,
        Registry::Rust,
        Registry::Go,
        Registry::Images,
        Registry::Archive,
    ];
}
