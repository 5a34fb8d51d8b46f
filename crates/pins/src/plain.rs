//! Archives of no registry: from a site that `nubrik.toml` names, by the pattern of their names.

use nubrik_web::{Address, Trouble};

use crate::desk::{Desk, WantedArchive};
use crate::explain::NOTHING_FITS;
use crate::file::{Archive, AskedPackage, Pin, pin_id};
use crate::java::ArchiveVersion;
use crate::links::links;
use crate::origin::Origin;
use crate::solved::{Preferred, Solved};
use crate::{PinProblem, Registry};

/// What represents the version in a pattern.
const VERSION: &str = "{version}";

/// Digests that stand beside archives: the ending, and the name of the method.
const BESIDE: [(&str, &str); 2] = [(".sha512", "sha512"), (".sha256", "sha256")];

/// Which versions will do: comparisons with `,` between them.
struct Comparisons(Vec<(String, ArchiveVersion)>);

impl Comparisons {
    fn read(text: &str) -> Option<Comparisons> {
        let parts = text
            .split(',')
            .map(str::trim)
            .filter(|part| !part.is_empty());
        let comparison = |part: &str| {
            let sign = ["<=", ">=", "==", "<", ">", "="]
                .into_iter()
                .find(|sign| part.starts_with(sign));
            let version = part[sign.map_or(0, str::len)..].trim();
            let is_fine = version.starts_with(|c: char| c.is_ascii_digit())
                && !version.contains(char::is_whitespace);
            is_fine.then(|| (sign.unwrap_or("=").to_owned(), ArchiveVersion::new(version)))
        };
        parts
            .map(comparison)
            .collect::<Option<Vec<_>>>()
            .map(Comparisons)
    }

    fn contains(&self, version: &ArchiveVersion) -> bool {
        self.0.iter().all(|(sign, other)| match sign.as_str() {
            "<=" => version <= other,
            ">=" => version >= other,
            "<" => version < other,
            ">" => version > other,
            _ => version == other,
        })
    }

    /// The only version that will do, if there is one.
    fn exact(&self) -> Option<&str> {
        match self.0.as_slice() {
            [(sign, version)] if sign.contains('=') && !sign.contains(['<', '>']) => {
                Some(&version.text)
            }
            _ => None,
        }
    }
}

/// Chooses a version of each archive that is asked for.
pub(crate) fn resolve(
    desk: &Desk<'_>,
    asked: &std::collections::BTreeMap<String, AskedPackage>,
    preferred: &Preferred,
) -> Result<Solved, PinProblem> {
    let mut solved = Solved::default();
    for (name, asked) in asked {
        let AskedPackage {
            requirement, file, ..
        } = asked;
        let wanted = Comparisons::read(requirement).ok_or_else(|| {
            let message = format!("`{requirement}` is no requirement of versions of `{name}`");
            PinProblem::new(message)
                .mend("\">=5.4,<5.5\"")
                .mend("\"5.4.7\"   exactly this one")
        })?;
        let file = file.as_deref();
        let pattern = file.filter(|file| file.contains(VERSION)).ok_or_else(|| {
            let message = format!("it is not known how the archives of `{name}` are called");
            PinProblem::new(message).mend(format!(
                "nubrik pins add archive {name} --file \"{name}-{{version}}.tar.gz\""
            ))
        })?;
        let origin = site(desk, name)?;
        let version = choose(desk, name, pattern, &origin, &wanted, preferred)?;
        let path = pattern.replace(VERSION, &version);
        let address = origin.address.below(&path);
        let address =
            address.ok_or_else(|| PinProblem::new(format!("`{path}` is no path below a site")))?;
        let digest = digest_beside(desk, &address, &origin)?;
        let is_published = digest.is_some();
        let credential = origin.credential.clone();
        let what = format!("{name} {version}");
        let held = desk.archive(&WantedArchive {
            what,
            address,
            credential,
            digest,
            size: None,
        })?;
        let mut pin = Pin {
            name: name.clone(),
            version,
            archives: vec![Archive::everywhere(
                format!("{name}/{path}"),
                held.digest,
                held.size,
            )],
            ..Pin::default()
        };
        if !is_published {
            pin.facts.insert(
                "digest".to_owned(),
                "of what came when it was pinned".to_owned(),
            );
        }
        solved
            .asked
            .insert(name.clone(), pin_id(name, &pin.version));
        solved.pins.insert(pin.id(), pin);
    }
    Ok(solved)
}

/// The digest of an archive that its site says in a file beside it.
fn digest_beside(
    desk: &Desk<'_>,
    address: &Address,
    origin: &Origin,
) -> Result<Option<String>, PinProblem> {
    for (ending, method) in BESIDE {
        let Some(beside) = address.beside(ending) else {
            continue;
        };
        let said = desk.beside(Registry::Archive, &beside, origin)?;
        let said = said.map(|bytes| String::from_utf8_lossy(&bytes).to_lowercase());
        let hex = said
            .as_deref()
            .and_then(|text| text.split_whitespace().next());
        let is_hex = |hex: &&str| hex.len() >= 64 && hex.chars().all(|c| c.is_ascii_hexdigit());
        if let Some(hex) = hex.filter(is_hex) {
            return Ok(Some(format!("{method}:{hex}")));
        }
    }
    Ok(None)
}

/// The site of an archive.
fn site(desk: &Desk<'_>, name: &str) -> Result<Origin, PinProblem> {
    let origins = desk.origins(Registry::Archive)?;
    origins
        .into_iter()
        .find(|origin| origin.scope.as_deref() == Some(name))
        .ok_or_else(|| {
            PinProblem::new(format!("nothing says where the archives of `{name}` are")).mend(
                format!(
                    "{name} = \"https://HOST/FOLDER/\"   below [origins.archive] in nubrik.toml"
                ),
            )
        })
}

/// The version that is pinned, if it will do; else the newest that the site lists.
fn choose(
    desk: &Desk<'_>,
    name: &str,
    pattern: &str,
    origin: &Origin,
    wanted: &Comparisons,
    preferred: &Preferred,
) -> Result<String, PinProblem> {
    if let Some(exact) = wanted.exact() {
        return Ok(exact.to_owned());
    }
    let kept = preferred.get(name).into_iter().flatten();
    if let Some(kept) = kept
        .into_iter()
        .find(|version| wanted.contains(&ArchiveVersion::new(version)))
    {
        return Ok(kept.clone());
    }
    let versions = listed(desk, pattern, origin)?;
    let mut fitting = versions
        .iter()
        .rev()
        .filter(|version| wanted.contains(version));
    let released = fitting.clone().find(|version| !version.is_early());
    match (released.or_else(|| fitting.next()), versions.last()) {
        (Some(version), _) => Ok(version.text.clone()),
        (None, Some(newest)) => Err(PinProblem::new(NOTHING_FITS)
            .note(format!("the newest {name} that is listed is {}", newest.text))),
        (None, None) => Err(PinProblem::new(format!("the site of `{name}` lists no `{pattern}`"))
            .note(format!("asked {}", origin.address))
            .mend(format!(
                "nubrik pins add archive {name} 1.2   names a version, so that nothing has to be listed"
            ))),
    }
}

/// The versions whose archives a site lists, the oldest first.
fn listed(
    desk: &Desk<'_>,
    pattern: &str,
    origin: &Origin,
) -> Result<Vec<ArchiveVersion>, PinProblem> {
    // A folder in the pattern is one of each version, and not listed.
    let Some((before, after)) = pattern
        .split_once(VERSION)
        .filter(|_| !pattern.contains('/'))
    else {
        return Ok(Vec::new());
    };
    let names: Vec<String> = match origin.address.file() {
        Some(folder) => {
            let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
            entries
                .filter_map(|entry| entry.file_name().into_string().ok())
                .collect()
        }
        None => {
            let page = desk.site_page(origin).map_err(|trouble| match trouble {
                Trouble::NotThere => PinProblem::new(format!("nothing is at {}", origin.address)),
                trouble => PinProblem::new(format!("cannot ask {}: {trouble}", origin.address)),
            })?;
            links(&page.bytes, &page.address)
                .iter()
                .map(Address::file_name)
                .collect()
        }
    };
    let version = |name: &String| {
        let version = name.strip_prefix(before)?.strip_suffix(after)?;
        let is_fine = version.starts_with(|c: char| c.is_ascii_digit());
        is_fine.then(|| ArchiveVersion::new(version))
    };
    let mut versions: Vec<ArchiveVersion> = names.iter().filter_map(version).collect();
    versions.sort();
    Ok(versions)
}

/// Where the archive of a path is: below its site.
pub(crate) fn locate(desk: &Desk<'_>, path: &str) -> Result<Option<(Address, Origin)>, PinProblem> {
    let Some((name, file)) = path.split_once('/') else {
        return Ok(None);
    };
    let origin = site(desk, name)?;
    Ok(origin.address.below(file).map(|address| (address, origin)))
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn comparisons_are_read() {
        let has = |text: &str, version: &str| {
            Comparisons::read(text)
                .unwrap()
                .contains(&ArchiveVersion::new(version))
        };
        assert!(
            has(">=5.4,<5.5", "5.4.7")
                && !has(">=5.4,<5.5", "5.5.0")
                && has("", "1")
                && has("5.4", "5.4.0")
        );
        assert_eq!(Comparisons::read("5.4.7").unwrap().exact(), Some("5.4.7"));
        assert_eq!(Comparisons::read(">=5").unwrap().exact(), None);
        assert!(Comparisons::read("^5").is_none() && Comparisons::read("five").is_none());
    }
}
