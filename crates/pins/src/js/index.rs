//! A package's document: all its versions, and what they need.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use node_semver::{Range, Version};
use nubrik_web::Address;
use serde::Deserialize;
use serde_json::Value;
use serde_json::value::RawValue;

use crate::desk::Desk;
use crate::origin::Origin;
use crate::{PinProblem, Registry};

const ACCEPT: &str = "application/vnd.npm.install-v1+json; q=1.0, application/json; q=0.8";

/// All versions of a package.
#[derive(Debug)]
pub(crate) struct PackageDocument {
    /// The oldest first, each with what is written of it, which is read when it is wanted.
    releases: Vec<(Version, Box<RawValue>)>,
    /// Names for versions: `latest`.
    tags: BTreeMap<String, String>,
    address: Address,
    pub origin: Origin,
}

/// A version of a package.
#[derive(Clone, Debug)]
pub(crate) struct PackageRelease {
    pub version: Version,
    /// What it needs, by the name under which it is found.
    pub needs: BTreeMap<String, PackageWish>,
    /// Names of packages that lie in its archive. What these need may lie there, too.
    pub carried: BTreeSet<String>,
    pub tarball: Address,
    /// Its digest, `sha512:…`; `None` where none is published.
    pub digest: Option<String>,
    systems: Systems,
    node: Option<Range>,
    is_deprecated: bool,
}

/// What is wanted of a package.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct PackageWish {
    pub name: String,
    pub range: String,
    pub kind: WishKind,
}

/// What it means if it is not there.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum WishKind {
    Needed,
    /// It may be missing.
    Optional,
    /// Whoever uses the package has to have it.
    Peer,
    /// The same, if they have it at all.
    OptionalPeer,
}

/// For which systems something is: names, or names after `!`.
#[derive(Clone, Debug, Default)]
struct Systems {
    os: Vec<String>,
    cpu: Vec<String>,
    libc: Vec<String>,
}

/// What a machine is, in the words of packages.
#[derive(Clone, Debug)]
pub(crate) struct NodeMachine {
    pub os: &'static str,
    pub cpu: &'static str,
    pub libc: Option<&'static str>,
    pub node: Option<Version>,
}

#[derive(Deserialize)]
struct WrittenPackage {
    #[serde(default, rename = "dist-tags")]
    tags: BTreeMap<String, String>,
    #[serde(default)]
    versions: BTreeMap<String, Box<RawValue>>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct WrittenVersion {
    #[serde(default)]
    dependencies: Value,
    #[serde(default)]
    optional_dependencies: Value,
    #[serde(default)]
    peer_dependencies: Value,
    #[serde(default)]
    peer_dependencies_meta: Value,
    #[serde(default, alias = "bundledDependencies")]
    bundle_dependencies: Value,
    #[serde(default)]
    os: Value,
    #[serde(default)]
    cpu: Value,
    #[serde(default)]
    libc: Value,
    #[serde(default)]
    engines: Value,
    #[serde(default)]
    deprecated: Value,
    dist: Dist,
}

#[derive(Deserialize)]
struct Dist {
    tarball: String,
    #[serde(default)]
    integrity: Option<String>,
    #[serde(default)]
    shasum: Option<String>,
}

/// Whether a name may be one of a package: what a registry is asked for by it stays below it.
pub fn is_name(name: &str) -> bool {
    let bare = match name.strip_prefix('@') {
        Some(scoped) => match scoped.split_once('/') {
            Some((scope, bare)) if is_part(scope) => bare,
            _ => return false,
        },
        None => name,
    };
    is_part(bare)
}

fn is_part(part: &str) -> bool {
    let fine = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.' | '~');
    !part.is_empty() && !part.starts_with('.') && part.chars().all(fine)
}

/// The document of a package; `None` if no origin has one.
pub(crate) fn document(
    desk: &Desk<'_>,
    name: &str,
) -> Result<Option<Arc<PackageDocument>>, PinProblem> {
    if !is_name(name) {
        return Ok(None);
    }
    let path = name.replace('/', "%2f");
    let Some(page) = desk.page(Registry::Js, &path, Some(ACCEPT), name)? else {
        return Ok(None);
    };
    let written: WrittenPackage = serde_json::from_slice(&page.document.bytes).map_err(|e| {
        PinProblem::new(format!(
            "what the registry `js` says of `{name}` is no document of a package: {e}"
        ))
        .note(format!("from {}", page.document.address))
    })?;
    let WrittenPackage { tags, versions } = written;
    let parsed = versions
        .into_iter()
        .filter_map(|(text, raw)| Some((Version::parse(&text).ok()?, raw)));
    let mut releases: Vec<(Version, Box<RawValue>)> = parsed.collect();
    releases.sort_by(|a, b| a.0.cmp(&b.0));
    let address = page.document.address.clone();
    Ok(Some(Arc::new(PackageDocument {
        releases,
        tags,
        address,
        origin: page.origin.clone(),
    })))
}

/// Where the archive of a path is: what the document of its package says.
pub(crate) fn locate(desk: &Desk<'_>, path: &str) -> Result<Option<(Address, Origin)>, PinProblem> {
    let Some((name, file)) = path.split_once("/-/") else {
        return Ok(None);
    };
    let Some(document) = document(desk, name)? else {
        return Ok(None);
    };
    let mut all = document
        .releases
        .iter()
        .rev()
        .filter_map(|(version, _)| document.release(version));
    let found = all.find(|release| release.tarball.file_name() == file);
    Ok(found.map(|release| (release.tarball, document.origin.clone())))
}

/// The path of an archive below a registry.
pub(crate) fn path_of(name: &str, release: &PackageRelease) -> String {
    format!("{name}/-/{}", release.tarball.file_name())
}

/// The version that is published as the latest, if it is not an early one; else the newest.
pub(crate) fn newest(desk: &Desk<'_>, name: &str) -> Result<Option<String>, PinProblem> {
    let Some(document) = document(desk, name)? else {
        return Ok(None);
    };
    if let Some(latest) = document.tags.get("latest") {
        return Ok(Some(latest.clone()));
    }
    let mut released = document
        .releases
        .iter()
        .rev()
        .filter(|(version, _)| !version.is_prerelease());
    Ok(released.next().map(|(version, _)| version.to_string()))
}

impl PackageDocument {
    /// What is written of a version; `None` if that cannot be read.
    pub(crate) fn release(&self, version: &Version) -> Option<PackageRelease> {
        let (version, raw) = self.releases.iter().find(|(known, _)| known == version)?;
        let written: WrittenVersion = serde_json::from_str(raw.get()).ok()?;
        let tarball = self.address.join(&written.dist.tarball)?;
        let digest = written.dist.integrity.as_deref().and_then(digest_of);
        let digest = digest.or(written
            .dist
            .shasum
            .as_ref()
            .map(|hex| format!("sha1:{}", hex.to_lowercase())));
        Some(PackageRelease {
            version: version.clone(),
            needs: needs_of(&written),
            carried: carried_by(&written),
            tarball,
            digest,
            systems: Systems {
                os: texts(&written.os),
                cpu: texts(&written.cpu),
                libc: texts(&written.libc),
            },
            node: written
                .engines
                .get("node")
                .and_then(Value::as_str)
                .and_then(|text| Range::parse(text).ok()),
            // Some say it with a reason, some with a bool.
            is_deprecated: !matches!(&written.deprecated, Value::Null | Value::Bool(false))
                && written.deprecated.as_str() != Some(""),
        })
    }

    /// The version that a range or a tag means: the latest, if that will do; else the newest that
    /// fits the machine's Node best and whose author does not advise against it.
    /// Of those that fit the first one counts that is in all `besides`, too, if there is one. Of
    /// `lacking` none is taken, unless a tag means it.
    pub(crate) fn choose(
        &self,
        range: &str,
        besides: &[Range],
        kept: &[Version],
        lacking: &BTreeSet<Version>,
        place: &NodeMachine,
    ) -> Option<Version> {
        if let Some(version) = self.tags.get(range) {
            return Version::parse(version).ok();
        }
        let range = parsed_range(range)?;
        let in_range = |version: &Version| range.satisfies(version) && !lacking.contains(version);
        let in_all = |version: &Version| {
            in_range(version) && besides.iter().all(|one| one.satisfies(version))
        };
        let chosen = (!besides.is_empty())
            .then(|| self.best(&in_all, kept, place))
            .flatten();
        chosen.or_else(|| self.best(&in_range, kept, place))
    }

    /// The version to take of those that fit.
    fn best(
        &self,
        fits: &dyn Fn(&Version) -> bool,
        kept: &[Version],
        place: &NodeMachine,
    ) -> Option<Version> {
        let is_there =
            |version: &&Version| self.releases.iter().any(|(known, _)| known == *version);
        if let Some(version) = kept.iter().filter(is_there).find(|version| fits(version)) {
            return Some(version.clone());
        }
        let suits = |release: &PackageRelease| {
            release
                .node
                .as_ref()
                .is_none_or(|node| place.node.as_ref().is_none_or(|own| node.satisfies(own)))
        };
        let latest = self
            .tags
            .get("latest")
            .and_then(|text| Version::parse(text).ok());
        if let Some(latest) = latest.filter(|version| fits(version))
            && self
                .release(&latest)
                .is_some_and(|release| suits(&release) && !release.is_deprecated)
        {
            return Some(latest);
        }
        let fitting = self.releases.iter().filter(|(version, _)| fits(version));
        let known = fitting.filter_map(|(version, _)| self.release(version));
        let best = known.max_by_key(|r| {
            let (suits, is_fine) = (suits(r), !r.is_deprecated);
            (suits && is_fine, suits, is_fine, r.version.clone())
        });
        best.map(|release| release.version)
    }

    /// The newest version, for messages.
    pub(crate) fn last(&self) -> Option<&Version> {
        self.releases
            .iter()
            .rev()
            .map(|(version, _)| version)
            .find(|version| !version.is_prerelease())
    }
}

impl PackageRelease {
    /// Whether it is for a machine.
    pub(crate) fn is_for(&self, place: &NodeMachine) -> bool {
        let fits = |list: &[String], own: &str| {
            let excluded = list.iter().any(|name| name.strip_prefix('!') == Some(own));
            let named: Vec<&String> = list.iter().filter(|name| !name.starts_with('!')).collect();
            !excluded
                && (named.is_empty() || named.iter().any(|name| *name == own || *name == "any"))
        };
        let Systems { os, cpu, libc } = &self.systems;
        fits(os, place.os) && fits(cpu, place.cpu) && place.libc.is_none_or(|own| fits(libc, own))
    }
}

/// A range of versions, as packages write it.
pub(crate) fn parsed_range(text: &str) -> Option<Range> {
    match text.trim() {
        "" | "*" | "x" | "latest" => Some(Range::any()),
        text => Range::parse(text).ok(),
    }
}

/// The strongest digest of what is published as `sha512-… sha1-…`.
fn digest_of(integrity: &str) -> Option<String> {
    let find = |method: &str| {
        integrity
            .split_whitespace()
            .find_map(|part| part.strip_prefix(method)?.strip_prefix('-'))
    };
    let base64 = find("sha512")?;
    Some(format!("sha512:{}", base64.split('?').next()?))
}

fn texts(value: &Value) -> Vec<String> {
    match value {
        Value::String(text) => vec![text.clone()],
        Value::Array(items) => items
            .iter()
            .filter_map(|item| item.as_str().map(str::to_owned))
            .collect(),
        _ => Vec::new(),
    }
}

fn carried_by(written: &WrittenVersion) -> BTreeSet<String> {
    match &written.bundle_dependencies {
        Value::Bool(true) => written
            .dependencies
            .as_object()
            .map(|map| map.keys().cloned().collect())
            .unwrap_or_default(),
        other => texts(other).into_iter().collect(),
    }
}

fn needs_of(written: &WrittenVersion) -> BTreeMap<String, PackageWish> {
    let carried = carried_by(written);
    let mut needs = BTreeMap::new();
    let mut add = |value: &Value, kind: &dyn Fn(&str) -> WishKind| {
        for (name, range) in value.as_object().into_iter().flatten() {
            let Some(range) = range.as_str() else {
                continue;
            };
            needs.insert(name.clone(), wish(name, range, kind(name)));
        }
    };
    let is_optional = |name: &str| {
        written
            .peer_dependencies_meta
            .get(name)
            .and_then(|meta| meta.get("optional"))
            == Some(&Value::Bool(true))
    };
    add(
        &written.peer_dependencies,
        &|name| match is_optional(name) {
            true => WishKind::OptionalPeer,
            false => WishKind::Peer,
        },
    );
    add(&written.dependencies, &|_| WishKind::Needed);
    add(&written.optional_dependencies, &|_| WishKind::Optional);
    // What lies in the archive itself is not fetched.
    needs.retain(|name, _| !carried.contains(name));
    needs
}

/// What is wanted under a name; `npm:other@1` is another package under it.
fn wish(name: &str, range: &str, kind: WishKind) -> PackageWish {
    let Some(meant) = range.strip_prefix("npm:") else {
        return PackageWish {
            name: name.to_owned(),
            range: range.to_owned(),
            kind,
        };
    };
    let (name, range) = match meant.rfind('@').filter(|at| *at > 0) {
        Some(at) => (&meant[..at], &meant[at + 1..]),
        None => (meant, ""),
    };
    PackageWish {
        name: name.to_owned(),
        range: range.to_owned(),
        kind,
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn names_stay_below_a_registry() {
        for good in ["express", "@types/node", "lodash.merge", "a_b-c"] {
            assert!(is_name(good), "{good}");
        }
        for bad in ["", "../x", "a/b", "@x", "@/x", ".hidden", "a b", "@a/../b"] {
            assert!(!is_name(bad), "{bad}");
        }
    }

    #[test]
    fn what_is_written_of_a_version_is_read() {
        let written: WrittenVersion = serde_json::from_str(
            r#"{"dependencies": {"ebb": "^1", "flow": "npm:@isles/flow@2", "in": "1"}, "optionalDependencies": {"ebb": "^1.2"},
                "peerDependencies": {"moon": ">=1", "sun": "*"}, "peerDependenciesMeta": {"sun": {"optional": true}},
                "bundleDependencies": ["in"], "engines": ["node"], "dist": {"tarball": "x"}}"#,
        )
        .unwrap();
        let told: Vec<String> = needs_of(&written)
            .iter()
            .map(|(n, w)| format!("{n}={}@{} {:?}", w.name, w.range, w.kind))
            .collect();
        assert_eq!(
            told,
            [
                "ebb=ebb@^1.2 Optional",
                "flow=@isles/flow@2 Needed",
                "moon=moon@>=1 Peer",
                "sun=sun@* OptionalPeer"
            ]
        );
        assert_eq!(carried_by(&written), BTreeSet::from(["in".to_owned()]));
        assert_eq!(
            digest_of("sha1-x sha512-YQ==").as_deref(),
            Some("sha512:YQ==")
        );
        assert_eq!(digest_of("sha1-x"), None);
    }
}
