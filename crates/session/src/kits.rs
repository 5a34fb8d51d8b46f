//! Kits that ship with the tool.

/// Each kit's name after `nub:`, and its text.
pub(crate) const SHIPPED: [(&str, &str); 11] = [
    ("archives", include_str!("../../../kits/archives.nub")),
    ("c", include_str!("../../../kits/c.nub")),
    ("documents", include_str!("../../../kits/documents.nub")),
    ("files", include_str!("../../../kits/files.nub")),
    ("fortran", include_str!("../../../kits/fortran.nub")),
    ("go", include_str!("../../../kits/go.nub")),
    ("images", include_str!("../../../kits/images.nub")),
    ("java", include_str!("../../../kits/java.nub")),
    ("js", include_str!("../../../kits/js.nub")),
    ("python", include_str!("../../../kits/python.nub")),
    ("rust", include_str!("../../../kits/rust.nub")),
];

/// What the kits offer, for `nubrik explain`.
pub fn kit_topics() -> Vec<nubrik_lang::topics::Topic> {
    SHIPPED
        .iter()
        .flat_map(|(name, text)| nubrik_lang::topics::kit_topics(name, text))
        .collect()
}
