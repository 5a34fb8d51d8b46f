//! Which versions of a module will do.

use super::versions::GoVersion;

/// What a person asks for, comparisons of which all must hold, or a name in version control.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) enum VersionQuery {
    /// All of these; none of them is any version.
    Comparisons(Vec<VersionComparison>),
    /// The version that a branch or a commit has.
    Revision(String),
}

#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) enum VersionComparison {
    Is(GoVersion),
    BeginsWith(Vec<u64>),
    AtLeast(GoVersion),
    After(GoVersion),
    AtMost(GoVersion),
    Before(GoVersion),
}

impl VersionQuery {
    /// Reads `v1.2.3`, `v1.2`, `>=v1.2.3,<v2.0.0`, `latest`, or a revision. `None` if it is none of
    /// these.
    pub(crate) fn read(text: &str) -> Option<VersionQuery> {
        let text = text.trim();
        let parts = text
            .split(',')
            .map(str::trim)
            .filter(|part| !part.is_empty() && *part != "latest");
        let comparisons: Option<Vec<VersionComparison>> = parts.map(comparison).collect();
        if let Some(comparisons) = comparisons {
            return Some(VersionQuery::Comparisons(comparisons));
        }
        let is_name = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.' | '/');
        let looks_like_version =
            text.starts_with(|c: char| c.is_ascii_digit()) && text.contains('.');
        let is_revision =
            !text.starts_with(['.', '-', '/']) && !text.contains("..") && text.chars().all(is_name);
        (is_revision && !looks_like_version).then(|| VersionQuery::Revision(text.to_owned()))
    }

    pub(crate) fn contains(&self, version: &GoVersion) -> bool {
        match self {
            VersionQuery::Revision(_) => true,
            VersionQuery::Comparisons(all) => all.iter().all(|one| match one {
                VersionComparison::Is(other) => version == other,
                VersionComparison::BeginsWith(numbers) => version.begins_with(numbers),
                VersionComparison::AtLeast(other) => version >= other,
                VersionComparison::After(other) => version > other,
                VersionComparison::AtMost(other) => version <= other,
                VersionComparison::Before(other) => version < other,
            }),
        }
    }

    /// The version that is named as the only one or as the least one, if it will do.
    pub(crate) fn named(&self) -> Option<&GoVersion> {
        let VersionQuery::Comparisons(all) = self else {
            return None;
        };
        let named = all.iter().filter_map(|one| match one {
            VersionComparison::Is(version) | VersionComparison::AtLeast(version) => Some(version),
            _ => None,
        });
        named.into_iter().find(|version| self.contains(version))
    }

    /// Whether the oldest version that will do is meant, and not the newest: where a lower end is
    /// named.
    pub(crate) fn wants_oldest(&self) -> bool {
        let VersionQuery::Comparisons(all) = self else {
            return false;
        };
        all.iter().any(|one| {
            matches!(
                one,
                VersionComparison::AtLeast(_) | VersionComparison::After(_)
            )
        })
    }
}

fn comparison(text: &str) -> Option<VersionComparison> {
    let sign = ["<=", ">=", "<", ">", "="]
        .into_iter()
        .find(|sign| text.starts_with(sign))
        .unwrap_or("");
    let version = text[sign.len()..].trim();
    let whole = GoVersion::read(version);
    if let (None, "" | "=") = (&whole, sign) {
        let numbers: Option<Vec<u64>> = version
            .strip_prefix('v')?
            .split('.')
            .map(|part| part.parse().ok())
            .collect();
        return numbers
            .filter(|numbers| numbers.len() < 3)
            .map(VersionComparison::BeginsWith);
    }
    let whole = whole?;
    Some(match sign {
        "<=" => VersionComparison::AtMost(whole),
        ">=" => VersionComparison::AtLeast(whole),
        "<" => VersionComparison::Before(whole),
        ">" => VersionComparison::After(whole),
        _ => VersionComparison::Is(whole),
    })
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn queries_are_what_they_say() {
        let fits = |query: &str, version: &str| {
            VersionQuery::read(query)
                .unwrap()
                .contains(&GoVersion::read(version).unwrap())
        };
        assert!(
            fits("", "v0.1.0")
                && fits("latest", "v9.0.0")
                && fits("v1.2.3", "v1.2.3")
                && fits("=v1.2.3", "v1.2.3")
        );
        assert!(
            !fits("v1.2.3", "v1.2.4")
                && fits("v1.2", "v1.2.9")
                && !fits("v1.2", "v1.3.0")
                && fits("v1", "v1.9.0")
        );
        assert!(fits(">=v1.2.0,<v2.0.0", "v1.9.0") && !fits(">=v1.2.0, <v2.0.0", "v2.0.0"));
        assert_eq!(
            VersionQuery::read("main"),
            Some(VersionQuery::Revision("main".to_owned()))
        );
        for wrong in ["1.2.3", "^v1", ">=1.2", "a b", "../x"] {
            assert_eq!(VersionQuery::read(wrong), None, "{wrong}");
        }
    }
}
