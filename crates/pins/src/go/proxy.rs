//! What is where at a module proxy: lists of versions, `go.mod` files and archives.

use nubrik_web::Address;
use serde::Deserialize;

use super::manifest::GoManifest;
use super::query::VersionQuery;
use super::sums::manifest_sum;
use super::versions::{GoVersion, ModuleVersion};
use crate::desk::{Desk, Page};
use crate::origin::Origin;
use crate::pages::PackagePages;
use crate::{PinProblem, Registry};
use std::sync::Arc;

/// What a proxy says of a version.
#[derive(Deserialize)]
struct VersionInfo {
    #[serde(rename = "Version")]
    version: String,
}

/// A module's own description, and what tells whether it is the right one.
#[derive(Debug)]
pub(crate) struct ManifestPage {
    pub manifest: GoManifest,
    /// Its digest.
    pub sum: String,
    /// Whether the proxy made it, as the module has none.
    pub is_made: bool,
}

/// Descriptions by names like `example.org/tides@v1.2.0`.
pub(crate) type ManifestPages<'a> = PackagePages<'a, ManifestPage>;

/// A path or a version as proxies have it, who may be on systems that take capital letters for
/// small ones. `None` if it can be none, so that what is asked for stays below the proxy.
pub(crate) fn escaped(text: &str) -> Option<String> {
    let is_fine = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '.' | '_' | '~' | '+');
    let is_part =
        |part: &str| !part.is_empty() && !part.starts_with('.') && part.chars().all(is_fine);
    if !text.split('/').all(is_part) {
        return None;
    }
    let mut out = String::new();
    for c in text.chars() {
        if c.is_ascii_uppercase() {
            out.push('!');
        }
        out.push(c.to_ascii_lowercase());
    }
    Some(out)
}

/// What was escaped.
fn unescaped(text: &str) -> String {
    let mut out = String::new();
    let mut is_capital = false;
    for c in text.chars() {
        match c {
            '!' => is_capital = true,
            c => out.push(if std::mem::take(&mut is_capital) {
                c.to_ascii_uppercase()
            } else {
                c
            }),
        }
    }
    out
}

/// Whether something can be the path of a module: what is asked for by it stays below a proxy.
pub fn is_go_path(path: &str) -> bool {
    escaped(path).is_some()
}

/// The path of a document of a version below a proxy.
pub(crate) fn path_of(module: &ModuleVersion, ending: &str) -> Option<String> {
    Some(format!(
        "{}/@v/{}.{ending}",
        escaped(&module.path)?,
        escaped(&module.version.text)?
    ))
}

fn page(desk: &Desk<'_>, module: &str, below: &str) -> Result<Option<Arc<Page>>, PinProblem> {
    let Some(path) = escaped(module) else {
        return Ok(None);
    };
    may_ask(desk, module)?;
    desk.page(Registry::Go, &format!("{path}/{below}"), None, module)
}

/// Whether the name of a module may be sent to proxies.
fn may_ask(desk: &Desk<'_>, module: &str) -> Result<(), PinProblem> {
    match desk.keeps_private(module) {
        None => Ok(()),
        Some(pattern) => {
            let message = format!(
                "no proxy may be asked for `{module}`: GOPRIVATE or GONOPROXY has `{pattern}`"
            );
            let problem =
                PinProblem::new(message).note("sources from version control are not read");
            Err(problem.mend(format!(
                "GONOPROXY=none nubrik pins add go {module}   if the proxy may know of it"
            )))
        }
    }
}

fn text_of(page: &Page) -> String {
    String::from_utf8_lossy(&page.document.bytes).into_owned()
}

/// The description of a version; `None` if no proxy has it.
pub(crate) fn manifest(
    desk: &Desk<'_>,
    key: &str,
) -> Result<Option<Arc<ManifestPage>>, PinProblem> {
    let Some(module) = ModuleVersion::of_key(key) else {
        return Ok(None);
    };
    let Some(version) = escaped(&module.version.text) else {
        return Ok(None);
    };
    let Some(page) = page(desk, &module.path, &format!("@v/{version}.mod"))? else {
        return Ok(None);
    };
    let text = text_of(&page);
    let manifest =
        GoManifest::read(&text).map_err(|what| PinProblem::new(format!("{module}: {what}")))?;
    if manifest.path != module.path {
        let problem = PinProblem::new(format!(
            "{module} says of itself that it is `{}`",
            manifest.path
        ));
        return Err(problem.mend(format!("nubrik pins add go {}", manifest.path)));
    }
    let is_made = text == format!("module {}\n", module.path);
    let sum =
        manifest_sum(&page.document.bytes).map_err(|what| PinProblem::new(what.to_string()))?;
    Ok(Some(Arc::new(ManifestPage {
        manifest,
        sum,
        is_made,
    })))
}

/// The versions that a proxy lists, the oldest first; `None` if it does not know the module.
pub(crate) fn versions(desk: &Desk<'_>, path: &str) -> Result<Option<Vec<GoVersion>>, PinProblem> {
    let Some(page) = page(desk, path, "@v/list")? else {
        return Ok(None);
    };
    let text = text_of(&page);
    let mut versions: Vec<GoVersion> = text
        .lines()
        .filter_map(|line| GoVersion::read(line.split_whitespace().next()?))
        .collect();
    versions.sort();
    versions.dedup();
    Ok(Some(versions))
}

fn said(desk: &Desk<'_>, path: &str, below: &str) -> Result<Option<GoVersion>, PinProblem> {
    let Some(page) = page(desk, path, below)? else {
        return Ok(None);
    };
    let info: VersionInfo = serde_json::from_slice(&page.document.bytes).map_err(|e| {
        PinProblem::new(format!(
            "what the proxy says of a version of `{path}` cannot be read: {e}"
        ))
    })?;
    let version = GoVersion::read(&info.version);
    let version = version.ok_or_else(|| {
        PinProblem::new(format!(
            "the proxy says that `{path}` has the version `{}`, which is none",
            info.version
        ))
    })?;
    Ok(Some(version))
}

/// Chooses a version of a module: the newest release that will do, or the oldest one where a least
/// version is named. `None` if none will do.
pub(crate) fn chosen(
    desk: &Desk<'_>,
    manifests: &ManifestPages<'_>,
    path: &str,
    query: &VersionQuery,
) -> Result<Option<GoVersion>, PinProblem> {
    if let VersionQuery::Revision(name) = query {
        let Some(name) = escaped(name) else {
            return Ok(None);
        };
        return said(desk, path, &format!("@v/{name}.info"));
    }
    // What is named needs no list, and may not be in one: versions of a moment in time are in none.
    if let Some(version) = query.named() {
        let module = ModuleVersion {
            path: path.to_owned(),
            version: version.clone(),
        };
        if manifests.get(&module.key())?.is_some() {
            return Ok(Some(version.clone()));
        }
    }
    let listed = versions(desk, path)?.unwrap_or_default();
    let offered = offered(manifests, path, &listed)?;
    let fitting = || offered.iter().filter(|version| query.contains(version));
    let best = match query.wants_oldest() {
        true => fitting()
            .find(|version| !version.is_early())
            .or_else(|| fitting().next()),
        false => fitting()
            .rev()
            .find(|version| !version.is_early())
            .or_else(|| fitting().next_back()),
    };
    if best.is_some() || !listed.is_empty() {
        return Ok(best.cloned());
    }
    // A module without any release has a version of its last moment.
    Ok(said(desk, path, "@latest")?.filter(|version| query.contains(version)))
}

/// Listed versions without those that the author took back, and without later major versions of a
/// module that says by its path which one it is.
fn offered(
    manifests: &ManifestPages<'_>,
    path: &str,
    listed: &[GoVersion],
) -> Result<Vec<GoVersion>, PinProblem> {
    let manifest = |version: &GoVersion| {
        manifests.get(
            &ModuleVersion {
                path: path.to_owned(),
                version: version.clone(),
            }
            .key(),
        )
    };
    let newest = |fits: &dyn Fn(&&GoVersion) -> bool| {
        let fitting = || listed.iter().rev().filter(fits);
        fitting()
            .find(|version| !version.is_early())
            .or_else(|| fitting().next())
    };
    let compatible = newest(&|version| !version.is_incompatible());
    let has_own = match compatible {
        Some(version) => manifest(version)?.is_some_and(|page| !page.is_made),
        None => false,
    };
    let last = if has_own {
        compatible
    } else {
        newest(&|_| true)
    };
    let retracted: Vec<(GoVersion, GoVersion)> = match last {
        Some(version) => manifest(version)?
            .iter()
            .flat_map(|page| &page.manifest.retracted)
            .filter_map(|(low, high)| Some((GoVersion::read(low)?, GoVersion::read(high)?)))
            .collect(),
        None => Vec::new(),
    };
    let is_back = |version: &GoVersion| {
        retracted
            .iter()
            .any(|(low, high)| version >= low && version <= high)
    };
    let is_other = |version: &GoVersion| has_own && version.is_incompatible();
    Ok(listed
        .iter()
        .filter(|version| !is_back(version) && !is_other(version))
        .cloned()
        .collect())
}

/// Where the archive of a path is: at the proxy that has its description.
pub(crate) fn locate(desk: &Desk<'_>, path: &str) -> Result<Option<(Address, Origin)>, PinProblem> {
    let Some(stem) = path.strip_suffix(".zip") else {
        return Ok(None);
    };
    let module = unescaped(path.split("/@v/").next().unwrap_or_default());
    may_ask(desk, &module)?;
    let page = desk.page(Registry::Go, &format!("{stem}.mod"), None, &module)?;
    Ok(page.and_then(|page| Some((page.origin.address.below(path)?, page.origin.clone()))))
}

/// The newest release.
pub(crate) fn newest(desk: &Desk<'_>, name: &str) -> Result<Option<String>, PinProblem> {
    let any = VersionQuery::Comparisons(Vec::new());
    Ok(chosen(desk, &ManifestPages::new(desk, manifest), name, &any)?.map(|version| version.text))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn capital_letters_are_marked_and_nothing_leads_out() {
        assert_eq!(
            escaped("example.org/Tides/v2").as_deref(),
            Some("example.org/!tides/v2")
        );
        assert_eq!(unescaped("example.org/!tides/v2"), "example.org/Tides/v2");
        assert_eq!(
            escaped("v2.0.0+incompatible").as_deref(),
            Some("v2.0.0+incompatible")
        );
        for wrong in [
            "", "/a", "a//b", "../a", "a/..", "a/.b", "a b", "a:b", "a?b", "a%2e",
        ] {
            assert_eq!(escaped(wrong), None, "{wrong}");
        }
    }
}
