//! A package's page in a simple index: in JSON (PEP 691), in HTML (PEP 503), or as a folder of
//! archives.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use html5gum::{Token, Tokenizer};
use nubrik_web::Address;
use pep440_rs::{Version, VersionSpecifiers};
use serde::Deserialize;

use super::normal_name;
use crate::desk::{Desk, Page};
use crate::origin::Origin;
use crate::{PinProblem, Registry};

const ACCEPT: &str = "application/vnd.pypi.simple.v1+json, application/vnd.pypi.simple.v1+html;q=0.5, text/html;q=0.2";

/// A file of a package's page.
#[derive(Clone, Debug)]
pub(crate) struct IndexFile {
    pub name: String,
    pub address: Address,
    /// Its digest, `sha256:…`; `None` where the page has none.
    pub digest: Option<String>,
    pub size: Option<u64>,
    /// Which interpreters will do; what cannot be read leaves it out.
    pub python: Option<VersionSpecifiers>,
    pub is_yanked: bool,
    /// Whether its metadata is beside it (PEP 658), and the digest of that if it is said.
    pub metadata: Option<Option<String>>,
}

/// A package's page: wheels by version, and which versions have something else only.
#[derive(Debug)]
pub(crate) struct PackagePage {
    pub wheels: BTreeMap<Version, Vec<IndexFile>>,
    pub only_sources: Vec<Version>,
    pub origin: Origin,
}

#[derive(Deserialize)]
struct JsonPage {
    files: Vec<JsonFile>,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct JsonFile {
    filename: String,
    url: String,
    #[serde(default)]
    hashes: BTreeMap<String, String>,
    #[serde(default)]
    size: Option<u64>,
    #[serde(default)]
    requires_python: Option<String>,
    #[serde(default)]
    yanked: Maybe,
    #[serde(
        default,
        alias = "dist-info-metadata",
        alias = "data-dist-info-metadata"
    )]
    core_metadata: Maybe,
}

/// `true`, or something that says more.
#[derive(Deserialize, Default)]
#[serde(untagged)]
enum Maybe {
    #[default]
    No,
    Flag(bool),
    Reason(#[allow(dead_code)] String), // That there is one says it all.
    Hashes(BTreeMap<String, String>),
    Null(()),
}

/// The page of a package; `None` if no origin has one.
pub(crate) fn page(desk: &Desk<'_>, name: &str) -> Result<Option<Arc<PackagePage>>, PinProblem> {
    let files = match in_folders(desk, name)? {
        Some(found) => Some(found),
        None => match desk.page(Registry::Python, &format!("{name}/"), Some(ACCEPT), name)? {
            None => None,
            Some(page) => Some((files_of(&page, name)?, page.origin.clone())),
        },
    };
    Ok(files.map(|(files, origin)| Arc::new(PackagePage::of(name, files, origin))))
}

impl PackagePage {
    /// Sorts what a page has. Files of other packages are none of this one, whatever page they are
    /// on.
    fn of(package: &str, files: Vec<IndexFile>, origin: Origin) -> PackagePage {
        let mut wheels: BTreeMap<Version, Vec<IndexFile>> = BTreeMap::new();
        let mut others: BTreeSet<Version> = BTreeSet::new();
        let package = normal_name(package);
        for file in files {
            let is_wheel = file.name.ends_with(".whl");
            let Some((name, version)) = named_in(&file.name) else {
                continue;
            };
            let Ok(version) = version.parse::<Version>() else {
                continue;
            };
            if normal_name(name) != package {
                continue;
            }
            match is_wheel {
                true => wheels.entry(version).or_default().push(file),
                false => {
                    others.insert(version);
                }
            }
        }
        let only_sources = others
            .into_iter()
            .filter(|version| !wheels.contains_key(version))
            .collect();
        PackagePage {
            wheels,
            only_sources,
            origin,
        }
    }
}

/// The name and the version that the name of an archive says: of a wheel, or of sources.
fn named_in(file_name: &str) -> Option<(&str, &str)> {
    if let Some(stem) = file_name.strip_suffix(".whl") {
        let mut parts = stem.split('-');
        return Some((parts.next()?, parts.next()?));
    }
    let stem = [".tar.gz", ".zip", ".tar.bz2"]
        .iter()
        .find_map(|e| file_name.strip_suffix(e))?;
    stem.rsplit_once('-')
}

/// Where the archive of a path is: what the page of its package says.
pub(crate) fn locate(desk: &Desk<'_>, path: &str) -> Result<Option<(Address, Origin)>, PinProblem> {
    let Some((name, file_name)) = path.split_once('/') else {
        return Ok(None);
    };
    let Some(page) = page(desk, name)? else {
        return Ok(None);
    };
    let mut files = page.wheels.values().flatten();
    Ok(files
        .find(|file| file.name == file_name)
        .map(|file| (file.address.clone(), page.origin.clone())))
}

/// What lies in the first folder that is an index and has something of a package.
fn in_folders(desk: &Desk<'_>, name: &str) -> Result<Option<(Vec<IndexFile>, Origin)>, PinProblem> {
    for origin in desk.origins_for(Registry::Python, name)? {
        let Some(folder) = origin.address.file().map(|path| path.join(name)) else {
            // What is asked over the network comes after folders that stand before it.
            return Ok(None);
        };
        let Ok(entries) = std::fs::read_dir(&folder) else {
            continue;
        };
        let mut names: Vec<String> = entries
            .flatten()
            .filter_map(|e| e.file_name().into_string().ok())
            .collect();
        names.sort();
        desk.bindings.given(Registry::Python, name, &origin);
        let cannot =
            |e: std::io::Error| PinProblem::new(format!("cannot read {}: {e}", folder.display()));
        if let Some(page) = names
            .iter()
            .find(|name| *name == "index.json" || *name == "index.html")
        {
            let bytes = std::fs::read(folder.join(page)).map_err(cannot)?;
            let address = origin.address.below(&format!("{name}/{page}"));
            let address = address
                .ok_or_else(|| PinProblem::new(format!("`{name}` is no name of a package")))?;
            let files = match page.ends_with(".json") {
                true => json_files(&bytes, &address, name)?,
                false => html_files(&bytes, &address),
            };
            return Ok(Some((files, origin)));
        }
        let plain = |file: String| {
            let address =
                Address::of_folder(&folder)?.join(&file.replace('%', "%25").replace('#', "%23"))?;
            let size = std::fs::metadata(folder.join(&file)).ok().map(|m| m.len());
            Some(IndexFile {
                name: file,
                address,
                digest: None,
                size,
                python: None,
                is_yanked: false,
                metadata: None,
            })
        };
        return Ok(Some((
            names.into_iter().filter_map(plain).collect(),
            origin,
        )));
    }
    Ok(None)
}

fn files_of(page: &Page, name: &str) -> Result<Vec<IndexFile>, PinProblem> {
    let document = &page.document;
    match document.media_type.contains("json") {
        true => json_files(&document.bytes, &document.address, name),
        false => Ok(html_files(&document.bytes, &document.address)),
    }
}

fn json_files(bytes: &[u8], address: &Address, name: &str) -> Result<Vec<IndexFile>, PinProblem> {
    let page: JsonPage = serde_json::from_slice(bytes).map_err(|e| {
        PinProblem::new(format!("the page of `{name}` is no index: {e}"))
            .note(format!("from {address}"))
    })?;
    let files = page.files.into_iter().filter_map(|file| {
        let JsonFile {
            filename,
            url,
            hashes,
            size,
            requires_python,
            yanked,
            core_metadata,
        } = file;
        Some(IndexFile {
            name: filename,
            address: address.join(&url)?,
            digest: best_digest(&hashes),
            size,
            python: required(requires_python.as_deref())?,
            is_yanked: !matches!(yanked, Maybe::No | Maybe::Null(()) | Maybe::Flag(false)),
            metadata: match core_metadata {
                Maybe::Flag(true) => Some(None),
                Maybe::Hashes(hashes) => Some(best_digest(&hashes)),
                _ => None,
            },
        })
    });
    Ok(files.filter(|file| is_file_name(&file.name)).collect())
}

/// Whether a name of an archive is one name, and leads nowhere.
fn is_file_name(name: &str) -> bool {
    !name.is_empty() && !name.starts_with('.') && !name.contains(['/', '\\', '\0'])
}

/// The strongest digest that is published; one by a method that nobody here knows is kept, and
/// refused where the archive comes.
fn best_digest(hashes: &BTreeMap<String, String>) -> Option<String> {
    let known = ["sha256", "sha512", "sha1", "md5"]
        .into_iter()
        .find_map(|name| hashes.get_key_value(name));
    // What follows an address may also be something else than a digest, such as `egg=tides`.
    let is_digest = |value: &str| value.len() >= 32 && value.chars().all(|c| c.is_ascii_hexdigit());
    let (method, value) = known.or_else(|| hashes.iter().find(|(_, value)| is_digest(value)))?;
    Some(format!("{method}:{}", value.to_ascii_lowercase()))
}

/// Which interpreters will do: `Some(None)` for all, `None` if nobody can tell.
#[allow(clippy::option_option)] // Three answers: all, these, and unknown.
fn required(text: Option<&str>) -> Option<Option<VersionSpecifiers>> {
    match text.map(str::trim).filter(|text| !text.is_empty()) {
        None => Some(None),
        Some(text) => text.parse().ok().map(Some),
    }
}

fn html_files(bytes: &[u8], address: &Address) -> Vec<IndexFile> {
    let text = String::from_utf8_lossy(bytes);
    let mut files = Vec::new();
    for Ok(token) in Tokenizer::new(text.as_ref()) {
        let Token::StartTag(tag) = token else {
            continue;
        };
        if tag.name.as_slice() != b"a" {
            continue;
        }
        let value = |name: &str| {
            tag.attributes
                .get(name.as_bytes())
                .map(|value| String::from_utf8_lossy(value).into_owned())
        };
        let Some(target) = value("href").and_then(|href| address.join(&href)) else {
            continue;
        };
        let digest = target
            .fragment()
            .and_then(|fragment| fragment.split_once('='));
        let digest = digest.map(|(method, hex)| [(method.to_owned(), hex.to_owned())].into());
        let beside = value("data-core-metadata").or_else(|| value("data-dist-info-metadata"));
        let Some(python) = required(value("data-requires-python").as_deref()) else {
            continue;
        };
        files.push(IndexFile {
            name: target.file_name(),
            digest: digest.as_ref().and_then(best_digest),
            size: None,
            python,
            is_yanked: value("data-yanked").is_some(),
            metadata: beside.map(|said| {
                let said = said.split_once('=')?;
                best_digest(&[(said.0.to_owned(), said.1.to_owned())].into())
            }),
            address: target,
        });
    }
    files.retain(|file| is_file_name(&file.name));
    files
}

/// The path of a wheel below a registry.
pub(crate) fn path_of(name: &str, file: &IndexFile) -> String {
    format!("{}/{}", normal_name(name), file.name)
}

/// The newest version that is neither an early one nor withdrawn.
pub(crate) fn newest(desk: &Desk<'_>, name: &str) -> Result<Option<String>, PinProblem> {
    let Some(page) = page(desk, name)? else {
        return Ok(None);
    };
    let usable = page.wheels.iter().filter(|(version, files)| {
        !version.any_prerelease() && files.iter().any(|file| !file.is_yanked)
    });
    Ok(usable.map(|(version, _)| version.to_string()).next_back())
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn names_of_archives_lead_nowhere() {
        let address = Address::parse("https://index.example/simple/tides/")
            .unwrap()
            .0;
        let page = r#"{"files": [
            {"filename": "tides-1.0-py3-none-any.whl", "url": "a.whl", "hashes": {}},
            {"filename": "../../tides-2.0-py3-none-any.whl", "url": "b.whl", "hashes": {}},
            {"filename": "..", "url": "c.whl", "hashes": {}}, {"filename": "", "url": "d.whl", "hashes": {}}]}"#;
        let files = json_files(page.as_bytes(), &address, "tides").unwrap();
        let names: Vec<&str> = files.iter().map(|file| file.name.as_str()).collect();
        assert_eq!(names, ["tides-1.0-py3-none-any.whl"]);
    }

    #[test]
    fn files_of_other_packages_on_a_page_are_none_of_this_one() {
        let address = Address::parse("https://index.example/simple/tide-lib/")
            .unwrap()
            .0;
        let page = br#"<a href="Tide_Lib-1.0-py3-none-any.whl"></a> <a href="moon-1.0-py3-none-any.whl"></a>
            <a href="tide.lib-2.0.tar.gz"></a> <a href="moon-3.0.tar.gz"></a> <a href="tide_lib-1.0.post-1-py3-none-any.whl"></a>"#;
        let origin = Origin::new(address.clone(), None, "a test");
        let page = PackagePage::of("tide-lib", html_files(page, &address), origin);
        let names: Vec<&str> = page
            .wheels
            .values()
            .flatten()
            .map(|file| file.name.as_str())
            .collect();
        assert_eq!(
            names,
            [
                "Tide_Lib-1.0-py3-none-any.whl",
                "tide_lib-1.0.post-1-py3-none-any.whl"
            ]
        );
        assert_eq!(page.only_sources, ["2.0".parse().unwrap()]);
    }
}
