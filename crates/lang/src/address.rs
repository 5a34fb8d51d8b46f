//! Addresses as people write them on a command line.

use globset::GlobSet;
use nubrik_graph::Role;
use nubrik_source::WsPath;

use crate::globs::compiled;

/// Which declarations folders and globs of addresses mean.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub enum Wanted {
    /// Whatever has an address.
    #[default]
    Everything,
    /// Targets: what is built. A test that is named is meant all the same.
    Targets,
    /// Tests. A target that is named means the tests that use it.
    Tests,
}

impl Wanted {
    pub(crate) fn holds(self, role: Role) -> bool {
        match self {
            Wanted::Everything => role != Role::Inner,
            Wanted::Targets => role == Role::Target,
            Wanted::Tests => role == Role::Test,
        }
    }
}

/// An address or a glob of addresses, from the workspace's root.
#[derive(Clone, Debug)]
pub struct AddressPattern {
    /// As it was written.
    pub written: String,
    /// From the root on: `tide/harmonics`, `tide/**`; empty for the root folder.
    pub path: WsPath,
    /// Which declarations it means where it names none.
    pub wanted: Wanted,
    /// Whether it means what is declared at and below a folder, and never a target of that name:
    /// `.`, `tide/.`, or no word at all.
    pub is_folder: bool,
    /// Whether it means what one package declares, and nothing below it.
    is_package: bool,
    matcher: Option<GlobSet>,
}

/// Why a word is not an address.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct PatternProblem(pub String);

impl AddressPattern {
    /// Takes a word of a command line, relative to the folder that the person is in.
    ///
    /// # Errors
    /// When the word leads out of the workspace or is not a glob.
    pub fn new(written: &str, folder: &WsPath) -> Result<AddressPattern, PatternProblem> {
        let path = folder
            .resolve(written)
            .map_err(|p| PatternProblem(format!("`{written}`: {p}")))?;
        let is_glob = path.as_str().contains(['*', '?', '[', '{']);
        let matcher = match is_glob {
            true => {
                let start: String = written.chars().take(60).collect();
                let shown = if start.len() < written.len() {
                    format!("{start}…")
                } else {
                    start
                };
                let matcher = compiled(path.as_str()).map_err(|problem| {
                    PatternProblem(format!("`{shown}` is not a glob: {problem}"))
                })?;
                Some(matcher)
            }
            false => None,
        };
        let last = written.rsplit('/').next().unwrap_or_default();
        let is_folder = !is_glob && matches!(last, "." | "..");
        Ok(AddressPattern {
            written: written.to_owned(),
            path,
            wanted: Wanted::default(),
            is_folder,
            is_package: false,
            matcher,
        })
    }

    /// What one package declares, and nothing of packages below it.
    pub fn of_package(package: &WsPath) -> AddressPattern {
        let written = format!("{package}/");
        AddressPattern {
            is_package: true,
            is_folder: false,
            written,
            ..AddressPattern::below(package)
        }
    }

    /// One target, by its address.
    pub fn of_target(address: &str) -> AddressPattern {
        let written = address.to_owned();
        AddressPattern {
            is_folder: false,
            written,
            ..AddressPattern::below(&WsPath::from_normal(address))
        }
    }

    /// Everything at and below a folder; where no package is there, what the package declares that
    /// the folder belongs to.
    pub fn below(folder: &WsPath) -> AddressPattern {
        let shown = if folder.is_root() {
            "the workspace".to_owned()
        } else {
            folder.to_string()
        };
        AddressPattern {
            written: shown,
            path: folder.clone(),
            wanted: Wanted::default(),
            is_folder: true,
            is_package: false,
            matcher: None,
        }
    }

    /// The same, meaning some declarations only.
    #[must_use]
    pub fn wanting(self, wanted: Wanted) -> AddressPattern {
        AddressPattern { wanted, ..self }
    }

    /// Whether it means targets by what is like their addresses: a glob, or all of one package.
    pub fn is_glob(&self) -> bool {
        self.is_package || self.matcher.is_some()
    }

    /// Whether it means what one package declares, and nothing below it.
    pub fn is_package(&self) -> bool {
        self.is_package
    }

    /// Whether it means a target with an address, where it is a glob.
    pub fn matches(&self, address: &str) -> bool {
        match &self.matcher {
            _ if self.is_package => {
                address.rsplit_once('/').map_or("", |(package, _)| package) == self.path.as_str()
            }
            Some(matcher) => matcher.is_match(address),
            None => self.path.as_str() == address,
        }
    }

    /// The folder in and below which everything that can match lies.
    pub fn start(&self) -> WsPath {
        let plain: Vec<&str> = self
            .path
            .parts()
            .take_while(|p| !p.contains(['*', '?', '[', '{']))
            .collect();
        WsPath::from_normal(&plain.join("/"))
    }
}

/// A glob of packages that `within` names, from the workspace's root.
pub(crate) struct WithinPattern;

impl WithinPattern {
    /// The pattern without its leading slash, or what is wrong with it.
    pub fn check(text: &str) -> Result<String, String> {
        let Some(rest) = text.strip_prefix('/') else {
            return Err("`within` takes paths of targets from the workspace's root on, such as \"/tide/**\""
                .to_owned());
        };
        compiled(rest).map_err(|problem| format!("not a glob: {problem}"))?;
        Ok(rest.trim_end_matches('/').to_owned())
    }

    /// Whether a package lies within the pattern: `tide/**` holds `tide` and all below it.
    pub fn holds(pattern: &str, package: &WsPath) -> bool {
        let whole = pattern.strip_suffix("/**").map(WsPath::from_normal);
        if whole.is_some_and(|folder| package.is_in(&folder)) || pattern == "**" {
            return true;
        }
        compiled(pattern).is_ok_and(|matcher| matcher.is_match(package.as_str()))
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    fn pattern(written: &str) -> AddressPattern {
        AddressPattern::new(written, &WsPath::from_normal("tide")).unwrap()
    }

    #[test]
    fn a_word_is_taken_from_the_folder_that_a_person_is_in() {
        for (written, path, is_folder, is_glob) in [
            ("fit", "tide/fit", false, false),
            ("/board/chart", "board/chart", false, false),
            (".", "tide", true, false),
            ("..", "", true, false),
            ("sub/.", "tide/sub", true, false),
            ("**", "tide/**", false, true),
            ("../*/chart", "*/chart", false, true),
        ] {
            let found = pattern(written);
            let known = (found.path.as_str(), found.is_folder, found.is_glob());
            assert_eq!(known, (path, is_folder, is_glob), "{written}");
        }
    }

    #[test]
    fn a_word_that_leads_out_or_is_no_glob_is_refused() {
        let problem = |written: &str| AddressPattern::new(written, &WsPath::root()).unwrap_err().0;
        assert!(
            problem("../tide").starts_with("`../tide`: "),
            "{}",
            problem("../tide")
        );
        assert!(
            problem("tide/{a,b").starts_with("`tide/{a,b` is not a glob: "),
            "{}",
            problem("tide/{a,b")
        );
        // A long one is cut.
        let long = problem(&format!("{}[", "a".repeat(99)));
        assert!(
            long.starts_with(&format!("`{}…` is not a glob", "a".repeat(60))),
            "{long}"
        );
    }

    #[test]
    fn a_glob_means_addresses_and_a_package_its_own_declarations() {
        let holds = |pattern: &AddressPattern, addresses: &[&str]| -> Vec<bool> {
            addresses
                .iter()
                .map(|address| pattern.matches(address))
                .collect()
        };
        assert_eq!(
            holds(&pattern("**"), &["tide/fit", "tide/sub/fit", "board/fit"]),
            [true, true, false]
        );
        assert_eq!(
            holds(&pattern("f*"), &["tide/fit", "tide/sub/fit", "fit"]),
            [true, false, false]
        );
        let package = AddressPattern::of_package(&WsPath::from_normal("tide"));
        assert_eq!(
            holds(&package, &["tide/fit", "tide/sub/fit", "fit"]),
            [true, false, false]
        );
        let root = AddressPattern::of_package(&WsPath::root());
        assert_eq!(holds(&root, &["fit", "tide/fit"]), [true, false]);
        assert_eq!(
            holds(
                &AddressPattern::of_target("tide/fit"),
                &["tide/fit", "tide/fits"]
            ),
            [true, false]
        );
        assert_eq!(pattern("/a/b*/c/**").start().as_str(), "a");
    }

    #[test]
    fn within_takes_packages_from_the_root() {
        for (pattern, package, is_in) in [
            ("tide/**", "tide", true),
            ("tide/**", "tide/sub/deep", true),
            ("tide/**", "tides", false),
            ("**", "", true),
            ("*/sub", "tide/sub", true),
            ("*/sub", "tide/sub/deep", false),
            ("tide", "tide", true),
            ("tide", "tide/sub", false),
        ] {
            assert_eq!(
                WithinPattern::holds(pattern, &WsPath::from_normal(package)),
                is_in,
                "{pattern} {package}"
            );
        }
        assert_eq!(WithinPattern::check("/tide/**"), Ok("tide/**".to_owned()));
        assert_eq!(WithinPattern::check("/tide/"), Ok("tide".to_owned()));
        assert!(
            WithinPattern::check("tide/**")
                .is_err_and(|why| why.contains("from the workspace's root on"))
        );
        assert!(WithinPattern::check("/tide/[").is_err_and(|why| why.starts_with("not a glob: ")));
    }
}
