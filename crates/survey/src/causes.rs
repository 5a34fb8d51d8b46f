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

/// Why a definition is left out that needs a package of a registry which cannot be had: which `why` says.
pub fn needs_package(registry: Registry, package: &str, why: &str) -> String {
    format!("it needs {registry} {package}, which {why}")
}

/// Why a definition is left out that needs another one, which was left out.
pub(crate) fn needs_definition(address: &str) -> String {
    format!("it needs {address}")
}

/// What a reason rests on that may change: those that the tool writes itself are known.
#[derive(PartialEq, Eq, Debug)]
pub(crate) enum Cause<'w> {
    /// A header that was nowhere.
    Header(&'w str),
    /// A package that was nowhere, or was not to be had.
    Package,
    /// A definition that was left out, too.
    Definition(&'w str),
    /// Anything else, such as a person's word.
    Other,
}

impl Cause<'_> {
    pub fn of(why: &str) -> Cause<'_> {
        let between = |start: &str, end: &str| why.strip_prefix(start)?.split_once(end);
        if let Some((header, _)) = between("it includes ", ", which neither this folder") {
            return Cause::Header(header);
        }
        if between("it uses ", ", which is nowhere").is_some_and(|(package, rest)| {
            // A module of Fortran is none of a registry.
            rest.is_empty() && !package.contains(' ')
        }) {
            return Cause::Package;
        }
        match why.strip_prefix("it needs ") {
            Some(name) if !name.contains([' ', ',']) => Cause::Definition(name),
            Some(rest)
                if rest.split_once(' ').is_some_and(|(word, rest)| {
                    Registry::named(word).is_some() && rest.contains(", which ")
                }) =>
            {
                Cause::Package
            }
            _ => Cause::Other,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_reason_is_known_again_as_it_was_written() {
        assert_eq!(Cause::of(&lacks_header("sea.h")), Cause::Header("sea.h"));
        assert_eq!(Cause::of(&lacks_package("org.isles.tide")), Cause::Package);
        assert_eq!(
            Cause::of(&needs_package(Registry::Python, "flow", "cannot be pinned: no address")),
            Cause::Package
        );
        assert_eq!(Cause::of(&needs_definition("tide/sea")), Cause::Definition("tide/sea"));
        for other in [
            "nobody ships them",
            "it uses the module flow, which is nowhere",
            "it needs tide/sea, which fails",
            "it needs patience, which nobody has",
            "it refers to strlwr, which is nowhere",
        ] {
            assert_eq!(Cause::of(other), Cause::Other, "{other}");
        }
    }
}
