//! Versions of Go's modules: semantic ones with a `v`, and those made up for a moment in time.

use std::cmp::Ordering;
use std::fmt;

use semver::Version;

/// A version as it is written, with all three numbers.
#[derive(Clone, PartialEq, Eq, Hash, Debug)]
pub(crate) struct GoVersion {
    pub text: String,
    numbers: Version,
}

impl GoVersion {
    pub(crate) fn read(text: &str) -> Option<GoVersion> {
        let numbers = Version::parse(text.strip_prefix('v')?).ok()?;
        Some(GoVersion {
            text: text.to_owned(),
            numbers,
        })
    }

    /// Whether it comes before a release.
    pub(crate) fn is_early(&self) -> bool {
        !self.numbers.pre.is_empty()
    }

    /// Whether it is of a later major version than its module's path says.
    pub(crate) fn is_incompatible(&self) -> bool {
        self.numbers.build.as_str() == "incompatible"
    }

    /// Whether its first numbers are these.
    pub(crate) fn begins_with(&self, numbers: &[u64]) -> bool {
        let own = [self.numbers.major, self.numbers.minor, self.numbers.patch];
        own.starts_with(numbers)
    }
}

impl Ord for GoVersion {
    fn cmp(&self, other: &GoVersion) -> Ordering {
        self.numbers
            .cmp_precedence(&other.numbers)
            .then_with(|| self.text.cmp(&other.text))
    }
}

impl PartialOrd for GoVersion {
    fn partial_cmp(&self, other: &GoVersion) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl fmt::Display for GoVersion {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

/// A module and one of its versions.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub(crate) struct ModuleVersion {
    pub path: String,
    pub version: GoVersion,
}

impl ModuleVersion {
    /// As documents of it are called: `example.org/tides@v1.2.0`.
    pub(crate) fn key(&self) -> String {
        format!("{}@{}", self.path, self.version)
    }

    /// From such a name.
    pub(crate) fn of_key(key: &str) -> Option<ModuleVersion> {
        let (path, version) = key.rsplit_once('@')?;
        Some(ModuleVersion {
            path: path.to_owned(),
            version: GoVersion::read(version)?,
        })
    }
}

impl fmt::Display for ModuleVersion {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.path, self.version)
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn moments_in_time_come_before_the_release_after_them() {
        let mut versions: Vec<GoVersion> = [
            "v1.0.0",
            "v0.0.0-20230102030405-abcdefabcdef",
            "v1.0.1-0.20230102030405-abcdefabcdef",
            "v2.0.0+incompatible",
            "v1.0.1",
            "v1.0.0-rc.1",
        ]
        .map(|text| GoVersion::read(text).unwrap())
        .into();
        versions.sort();
        let sorted: Vec<&str> = versions
            .iter()
            .map(|version| version.text.as_str())
            .collect();
        assert_eq!(
            sorted,
            [
                "v0.0.0-20230102030405-abcdefabcdef",
                "v1.0.0-rc.1",
                "v1.0.0",
                "v1.0.1-0.20230102030405-abcdefabcdef",
                "v1.0.1",
                "v2.0.0+incompatible"
            ]
        );
        assert!(
            versions[1].is_early()
                && versions[5].is_incompatible()
                && versions[2].begins_with(&[1, 0])
        );
        assert!(GoVersion::read("1.0.0").is_none() && GoVersion::read("v1.0").is_none());
    }
}
