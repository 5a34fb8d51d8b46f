//! Reasons for which something is left out: as they are written, and as they are known again.

use nubrik_pins::Registry;

/// Why a source is left out that includes a header which is nowhere.
pub(crate) fn lacks_header(header: &str) -> String {
    format!("it includes {header}, which neither this folder nor this machine has")
}

/// Why a source is left out that uses a package which is nowhere.
pub(crate) fn lacks_package(package: &str) -> String {
    format!("it uses {package}, which is nowhere")
}

/// Why a definition is left out that needs a package of a registry which cannot be had: which `why`
/// says.
pub fn needs_package(registry: Registry, package: &str, why: &str) -> String {
    format!("it needs {registry} {package}, which {why}")
}

/// Why a definition is left out that needs another one, which was left out.
pub(crate) fn needs_definition(address: &str) -> String {
    format!("it needs {address}")
}

/// What a reason rests on that may change: those that the tool writes itself are known.
#[derive(PartialEq, Eq, Debug)]
pub(crate) enum OmissionCause<'w> {
    /// A header that was nowhere.
    Header(&'w str),
    /// A package that was nowhere, or was not to be had.
    Package,
    /// A definition that was left out, too.
    Definition(&'w str),
    /// Anything else, such as a person's word.
    Other,
}

impl OmissionCause<'_> {
    pub fn of(why: &str) -> OmissionCause<'_> {
        let between = |start: &str, end: &str| why.strip_prefix(start)?.split_once(end);
        if let Some((header, _)) = between("it includes ", ", which neither this folder") {
            return OmissionCause::Header(header);
        }
        if between("it uses ", ", which is nowhere").is_some_and(|(package, rest)| {
            // A module of Fortran is none of a registry.
            rest.is_empty() && !package.contains(' ')
        }) {
            return OmissionCause::Package;
        }
        match why.strip_prefix("it needs ") {
            Some(name) if !name.contains([' ', ',']) => OmissionCause::Definition(name),
            Some(rest)
                if rest.split_once(' ').is_some_and(|(word, rest)| {
                    Registry::named(word).is_some() && rest.contains(", which ")
                }) =>
            {
                OmissionCause::Package
            }
            _ => OmissionCause::Other,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_reason_is_known_again_as_it_was_written() {
        assert_eq!(
            OmissionCause::of(&lacks_header("sea.h")),
            OmissionCause::Header("sea.h")
        );
        assert_eq!(
            OmissionCause::of(&lacks_package("org.isles.tide")),
            OmissionCause::Package
        );
        assert_eq!(
            OmissionCause::of(&needs_package(
                Registry::Python,
                "flow",
                "cannot be pinned: no address"
            )),
            OmissionCause::Package
        );
        assert_eq!(
            OmissionCause::of(&needs_definition("tide/sea")),
            OmissionCause::Definition("tide/sea")
        );
        for other in [
            "nobody ships them",
            "it uses the module flow, which is nowhere",
            "it needs tide/sea, which fails",
            "it needs patience, which nobody has",
            "it refers to strlwr, which is nowhere",
        ] {
            assert_eq!(OmissionCause::of(other), OmissionCause::Other, "{other}");
        }
    }
}
