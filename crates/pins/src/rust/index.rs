//! The sparse index: a file of lines a crate, each of a version; and where archives are.

use std::collections::BTreeMap;
use std::sync::Arc;

use nubrik_web::Address;
use semver::{Version, VersionReq};
use serde::Deserialize;

use crate::desk::Desk;
use crate::origin::Origin;
use crate::{PinProblem, Registry};

/// A version of a crate.
#[derive(Clone, Debug)]
pub(crate) struct CrateRelease {
    pub version: Version,
    pub needs: Vec<CrateNeed>,
    /// What each feature turns on.
    pub features: BTreeMap<String, Vec<String>>,
    pub digest: String,
    pub is_yanked: bool,
    /// The oldest compiler that will do: its first two numbers.
    pub rustc: Option<(u64, u64)>,
}

/// What a version of a crate needs, if all holds that is said of it.
#[derive(Clone, Debug)]
pub(crate) struct CrateNeed {
    /// The name by which it is used.
    pub name: String,
    /// The name of the crate.
    pub package: String,
    /// Whether its dependent gives it this name, whatever its library is called: it says which
    /// package it means. That may be the one of the same name.
    pub is_renamed: bool,
    pub requirement: VersionReq,
    pub features: Vec<String>,
    pub with_default: bool,
    pub is_optional: bool,
    /// For which systems: a `cfg(…)`, or the name of a target.
    pub target: Option<String>,
    /// Whether only its build script needs it.
    pub for_build: bool,
}

/// All versions of a crate.
#[derive(Debug)]
pub(crate) struct CratePage {
    /// The oldest first.
    pub releases: Vec<CrateRelease>,
    pub origin: Origin,
}

#[derive(Deserialize)]
struct IndexLine {
    vers: String,
    deps: Vec<LineNeed>,
    cksum: String,
    #[serde(default)]
    features: BTreeMap<String, Vec<String>>,
    #[serde(default)]
    features2: Option<BTreeMap<String, Vec<String>>>,
    #[serde(default)]
    yanked: bool,
    #[serde(default)]
    rust_version: Option<String>,
    #[serde(default)]
    v: Option<u32>,
}

#[derive(Deserialize)]
struct LineNeed {
    name: String,
    req: String,
    #[serde(default)]
    features: Vec<String>,
    #[serde(default)]
    optional: bool,
    #[serde(default = "on")]
    default_features: bool,
    #[serde(default)]
    target: Option<String>,
    #[serde(default)]
    kind: Option<String>,
    #[serde(default)]
    package: Option<String>,
}

fn on() -> bool {
    true
}

#[derive(Deserialize)]
struct IndexConfig {
    dl: String,
}

/// The newest format of a line that this reads.
const NEWEST_LINE: u32 = 2;

/// The folders that a crate's file is in.
fn prefix(name: &str) -> String {
    match name.len() {
        1 => "1".to_owned(),
        2 => "2".to_owned(),
        3 => format!("3/{}", &name[..1]),
        _ => format!("{}/{}", &name[..2], &name[2..4]),
    }
}

/// Whether a name may be one of a crate: what an index is asked for by it stays below it.
pub(crate) fn is_name(name: &str) -> bool {
    !name.is_empty()
        && name
            .chars()
            .all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_'))
}

/// All versions of a crate; `None` if no origin has it.
pub(crate) fn page(desk: &Desk<'_>, name: &str) -> Result<Option<Arc<CratePage>>, PinProblem> {
    if !is_name(name) {
        return Ok(None);
    }
    let lower = name.to_lowercase();
    let path = format!("{}/{lower}", prefix(&lower));
    let Some(page) = desk.page(Registry::Rust, &path, None, name)? else {
        return Ok(None);
    };
    let text = String::from_utf8_lossy(&page.document.bytes);
    let mut releases: Vec<CrateRelease> = Vec::new();
    for line in text.lines().filter(|line| !line.trim().is_empty()) {
        let line: IndexLine = serde_json::from_str(line).map_err(|e| {
            PinProblem::new(format!(
                "what the registry `rust` says of `{name}` is no index: {e}"
            ))
            .note(format!("from {}", page.document.address))
        })?;
        // A version that says things which this does not understand is left out, as the format
        // wants it.
        if line.v.unwrap_or(1) <= NEWEST_LINE {
            releases.extend(release(line));
        }
    }
    releases.sort_by(|a, b| a.version.cmp(&b.version));
    Ok(Some(Arc::new(CratePage {
        releases,
        origin: page.origin.clone(),
    })))
}

/// A version; `None` if its numbers cannot be read.
fn release(line: IndexLine) -> Option<CrateRelease> {
    let IndexLine {
        vers,
        deps,
        cksum,
        mut features,
        features2,
        yanked,
        rust_version,
        v: _,
    } = line;
    for (name, more) in features2.into_iter().flatten() {
        features.entry(name).or_default().extend(more);
    }
    let needs = deps
        .into_iter()
        .filter(|dep| dep.kind.as_deref() != Some("dev"))
        .map(|dep| {
            Some(CrateNeed {
                is_renamed: dep.package.is_some(),
                package: dep.package.unwrap_or_else(|| dep.name.clone()),
                name: dep.name,
                requirement: VersionReq::parse(&dep.req).ok()?,
                features: dep.features,
                with_default: dep.default_features,
                is_optional: dep.optional,
                target: dep.target,
                for_build: dep.kind.as_deref() == Some("build"),
            })
        });
    Some(CrateRelease {
        version: Version::parse(&vers).ok()?,
        needs: needs.collect::<Option<Vec<_>>>()?,
        features,
        digest: format!("sha256:{}", cksum.to_ascii_lowercase()),
        is_yanked: yanked,
        rustc: rust_version.as_deref().and_then(two_numbers),
    })
}

/// The first two numbers of a version: `1.70` and `1.70.0` are the same.
pub(crate) fn two_numbers(text: &str) -> Option<(u64, u64)> {
    let mut numbers = text.split('.');
    Some((
        numbers.next()?.parse().ok()?,
        numbers.next().unwrap_or("0").parse().ok()?,
    ))
}

/// The path of an archive below a registry.
pub(crate) fn path_of(name: &str, version: &Version) -> String {
    format!("{name}/{name}-{version}.crate")
}

/// Where the archive of a path is: what the registry's configuration says.
pub(crate) fn locate(desk: &Desk<'_>, path: &str) -> Result<Option<(Address, Origin)>, PinProblem> {
    let parts = path.split_once('/').and_then(|(name, file)| {
        let version = file
            .strip_prefix(name)?
            .strip_prefix('-')?
            .strip_suffix(".crate")?;
        Some((name, version))
    });
    let Some((name, version)) = parts else {
        return Ok(None);
    };
    let Some(page) = page(desk, name)? else {
        return Ok(None);
    };
    let release = page
        .releases
        .iter()
        .find(|release| release.version.to_string() == version);
    match release {
        None => Ok(None),
        Some(release) => archive_address(desk, &page.origin, name, release)
            .map(|found| Some((found, page.origin.clone()))),
    }
}

/// Where the archive of a version is.
pub(crate) fn archive_address(
    desk: &Desk<'_>,
    origin: &Origin,
    name: &str,
    release: &CrateRelease,
) -> Result<Address, PinProblem> {
    let wrong = |what: String| {
        PinProblem::new(format!(
            "the registry `rust` does not say where its archives are: {what}"
        ))
    };
    let config = desk.page_at(Registry::Rust, origin, "config.json")?;
    let config = config.ok_or_else(|| wrong("it has no config.json".to_owned()))?;
    let parsed: IndexConfig = serde_json::from_slice(&config.document.bytes)
        .map_err(|e| wrong(format!("its config.json: {e}")))?;
    let mut place = parsed.dl;
    let lower = name.to_lowercase();
    let version = release.version.to_string();
    let marks = [
        ("{crate}", name.to_owned()),
        ("{version}", version.clone()),
        ("{prefix}", prefix(name)),
        ("{lowerprefix}", prefix(&lower)),
        (
            "{sha256-checksum}",
            release.digest.trim_start_matches("sha256:").to_owned(),
        ),
    ];
    if marks.iter().any(|(mark, _)| place.contains(mark)) {
        for (mark, value) in &marks {
            place = place.replace(mark, value);
        }
    } else {
        place = format!("{}/{name}/{version}/download", place.trim_end_matches('/'));
    }
    config
        .document
        .address
        .join(&place)
        .ok_or_else(|| wrong(format!("`{place}` is no address")))
}

/// The newest version that is neither an early one nor withdrawn.
pub(crate) fn newest(desk: &Desk<'_>, name: &str) -> Result<Option<String>, PinProblem> {
    let Some(page) = page(desk, name)? else {
        return Ok(None);
    };
    let mut usable = page
        .releases
        .iter()
        .rev()
        .filter(|r| !r.is_yanked && r.version.pre.is_empty());
    Ok(usable.next().map(|release| release.version.to_string()))
}
