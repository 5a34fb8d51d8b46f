//! Which versions of archives are used: those that are named nearest to what is asked for.

use std::collections::{BTreeMap, BTreeSet, VecDeque};

use super::descriptor::{Coordinates, Dependency, Descriptor};
use super::repository::{JavaRepository, is_part, path_of};
use super::versions::{ArchiveVersion, WantedVersions};
use crate::desk::{Desk, WantedArchive, held_archives};
use crate::explain::NOTHING_FITS;
use crate::file::{Archive, AskedPackage, Need, Pin, pin_id};
use crate::solved::{Preferred, Solved};
use crate::{PinProblem, Registry};

/// What is one choice: a name with its classifier.
type ArchiveName = (String, String, String);

/// Kinds of what is on a class path.
const ON_PATH: [&str; 4] = ["jar", "bundle", "ejb", "test-jar"];

/// What is to be looked at: a name, its version there, and what is left out below it.
type Waiting = (ArchiveName, String, Vec<(String, String)>);

/// Something that was chosen, with what it needs.
struct ChosenArchive {
    version: String,
    descriptor: Descriptor,
    needs: Vec<ArchiveName>,
}

struct RepositoryWalk<'a> {
    repository: JavaRepository<'a>,
    chosen: BTreeMap<ArchiveName, ChosenArchive>,
    preferred: &'a Preferred,
}

/// Chooses a version of everything that is asked for and of what that needs.
pub(crate) fn resolve(
    desk: &Desk<'_>,
    asked: &BTreeMap<String, AskedPackage>,
    preferred: &Preferred,
) -> Result<Solved, PinProblem> {
    let mut walk = RepositoryWalk {
        repository: JavaRepository::new(desk),
        chosen: BTreeMap::new(),
        preferred,
    };
    let mut open: VecDeque<Waiting> = VecDeque::new();
    for (name, AskedPackage { requirement, .. }) in asked {
        let wanted = WantedVersions::read(requirement).ok_or_else(|| {
            let message = format!("`{requirement}` is no requirement of versions of `{name}`");
            PinProblem::new(message)
                .mend("\"1.2\"   exactly this one")
                .mend("\"[1.2,2)\"   from 1.2, before 2")
        })?;
        let key = key_of(name)?;
        let version = walk
            .version(&key, &wanted)?
            .ok_or_else(|| walk.nothing(name, requirement))?;
        open.push_back((key, version, Vec::new()));
    }
    // Level by level: the first version of a name that is met is the nearest.
    while let Some((name, version, exclusions)) = open.pop_front() {
        if walk.chosen.contains_key(&name) {
            continue;
        }
        let at: Coordinates = (name.0.clone(), name.1.clone(), version.clone());
        let descriptor = walk.repository.whole(&at)?.ok_or_else(|| {
            let (group, artifact, _) = &name;
            let message = format!("the registry `java` has no {group}:{artifact} {version}");
            PinProblem::new(message).mend("look at how the archive spells its group and its name")
        })?;
        let mut needs = Vec::new();
        for need in &descriptor.dependencies {
            let need = descriptor.managed_need(need);
            if !is_wanted(&need, &exclusions) {
                continue;
            }
            let key = (
                need.group.clone(),
                need.artifact.clone(),
                need.classifier.clone(),
            );
            needs.push(key.clone());
            if let Some(version) = walk.needed_version(&at, &need, &key)? {
                let more = need.exclusions.iter().chain(&exclusions).cloned().collect();
                open.push_back((key, version, more));
            }
        }
        let chosen = ChosenArchive {
            version,
            descriptor,
            needs,
        };
        walk.chosen.insert(name, chosen);
    }
    walk.solved(asked)
}

fn key_of(name: &str) -> Result<ArchiveName, PinProblem> {
    let parts: Vec<&str> = name.split(':').collect();
    match parts.as_slice() {
        [group, artifact] if is_part(group) && is_part(artifact) => {
            Ok(((*group).to_owned(), (*artifact).to_owned(), String::new()))
        }
        [group, artifact, classifier]
            if [group, artifact, classifier]
                .iter()
                .all(|part| is_part(part)) =>
        {
            Ok((
                (*group).to_owned(),
                (*artifact).to_owned(),
                (*classifier).to_owned(),
            ))
        }
        _ => Err(
            PinProblem::new(format!("`{name}` does not name a group and an archive"))
                .mend("nubrik pins add java org.example:tides   its group, `:` and its name"),
        ),
    }
}

/// Whether a need is on the class path of those who use what needs it.
fn is_wanted(need: &Dependency, exclusions: &[(String, String)]) -> bool {
    let fits = |pattern: &str, name: &str| pattern == "*" || pattern == name;
    let is_excluded = exclusions
        .iter()
        .any(|(group, artifact)| fits(group, &need.group) && fits(artifact, &need.artifact));
    let is_used = matches!(need.scope.as_str(), "" | "compile" | "runtime");
    let may_be = is_part(&need.group) && is_part(&need.artifact);
    !need.is_optional
        && is_used
        && !is_excluded
        && may_be
        && (ON_PATH.contains(&need.kind.as_str()) || need.kind == "pom")
}

fn named((group, artifact, classifier): &ArchiveName) -> String {
    match classifier.as_str() {
        "" => format!("{group}:{artifact}"),
        classifier => format!("{group}:{artifact}:{classifier}"),
    }
}

impl RepositoryWalk<'_> {
    /// The version of what an archive needs; `None` where one of that name is chosen already.
    fn needed_version(
        &self,
        at: &Coordinates,
        need: &Dependency,
        key: &ArchiveName,
    ) -> Result<Option<String>, PinProblem> {
        let named = format!("{}:{}", need.group, need.artifact);
        let user = format!("{}:{} {}", at.0, at.1, at.2);
        let wanted = WantedVersions::read(&need.version).filter(|_| !need.version.is_empty());
        let wanted = wanted.ok_or_else(|| {
            let what = match need.version.is_empty() {
                true => "names no version of it",
                false => "names no version that can be read",
            };
            PinProblem::new(format!("{user} needs {named} and {what}"))
        })?;
        if self.chosen.contains_key(key) {
            return Ok(None);
        }
        if let WantedVersions::One(version) = wanted {
            return Ok(Some(version));
        }
        let none = || {
            self.nothing(&named, &need.version)
                .note(format!("{user} needs it"))
        };
        Ok(Some(self.version(key, &wanted)?.ok_or_else(none)?))
    }

    /// The version that a requirement means: what is pinned, if it will do; else the newest that is
    /// not an early one.
    fn version(
        &self,
        name: &ArchiveName,
        wanted: &WantedVersions,
    ) -> Result<Option<String>, PinProblem> {
        let kept = self.preferred.get(&named(name)).into_iter().flatten();
        if let Some(kept) = kept
            .into_iter()
            .find(|version| wanted.contains(&ArchiveVersion::new(version)))
        {
            return Ok(Some(kept.clone()));
        }
        if let WantedVersions::One(version) = wanted {
            return Ok(Some(version.clone()));
        }
        let versions = self.repository.versions(&name.0, &name.1)?;
        let mut fitting = versions
            .iter()
            .rev()
            .filter(|version| wanted.contains(version));
        let released = fitting.clone().find(|version| !version.is_early());
        Ok(released
            .or_else(|| fitting.next())
            .map(|version| version.text.clone()))
    }

    fn nothing(&self, name: &str, requirement: &str) -> PinProblem {
        let (group, artifact) = name.split_once(':').unwrap_or((name, ""));
        let versions = self
            .repository
            .versions(group, artifact.split(':').next().unwrap_or_default());
        match versions.ok().and_then(|versions| versions.last().map(|version| version.text.clone())) {
            None => PinProblem::new(format!("no repository lists versions of `{name}`"))
                .mend("look at how the archive spells its group and its name")
                .mend(format!(
                    "nubrik pins add java {name} 1.2   names a version, so that nothing has to be listed"
                )),
            Some(newest) => PinProblem::new(NOTHING_FITS)
                .note(format!("there is no {name} {requirement}"))
                .note(format!("the newest {name} is {newest}")),
        }
    }

    /// Pins for what was chosen. Archives are fetched: only they say their sizes.
    fn solved(&self, asked: &BTreeMap<String, AskedPackage>) -> Result<Solved, PinProblem> {
        let mut pins = Vec::new();
        let mut wanted = Vec::new();
        for (name, chosen) in &self.chosen {
            let at: Coordinates = (name.0.clone(), name.1.clone(), chosen.version.clone());
            let is_list = chosen.descriptor.packaging == "pom" && name.2.is_empty();
            let path = path_of(&at, &name.2, if is_list { "pom" } else { "jar" });
            let (address, credential) = self.repository.desk.locate(Registry::Java, &path)?;
            let origin = self.repository.desk.page(
                Registry::Java,
                &path_of(&at, "", "pom"),
                None,
                &format!("{}:{}", name.0, name.1),
            )?;
            let digest = match origin {
                Some(page) => self.repository.digest(&address, &page.origin)?,
                None => None,
            };
            let what = format!("{} {}", named(name), chosen.version);
            wanted.push(WantedArchive {
                what,
                address,
                credential,
                digest,
                size: None,
            });
            let chosen_needs = chosen.needs.iter();
            let needs: BTreeSet<String> = chosen_needs
                .filter_map(|need| Some(pin_id(&named(need), &self.chosen.get(need)?.version)))
                .collect();
            let licences = &chosen.descriptor.licences;
            pins.push(Pin {
                name: named(name),
                version: chosen.version.clone(),
                licence: (!licences.is_empty()).then(|| licences.join(" or ")),
                // Only the archive that is fetched says the rest.
                archives: vec![Archive::everywhere(path, String::new(), 0)],
                facts: is_list
                    .then(|| ("packaging".to_owned(), "pom".to_owned()))
                    .into_iter()
                    .collect(),
                needs: needs.into_iter().map(Need::plain).collect(),
                ..Pin::default()
            });
        }
        let held = held_archives(self.repository.desk, &wanted)?;
        let mut solved = Solved::default();
        for (mut pin, held) in pins.into_iter().zip(held) {
            if let Some(archive) = pin.archives.first_mut() {
                (archive.digest, archive.size) = (held.digest, held.size);
            }
            solved.pins.insert(pin.id(), pin);
        }
        for name in asked.keys() {
            let chosen = self.chosen.get(&key_of(name)?);
            solved
                .asked
                .extend(chosen.map(|chosen| (name.clone(), pin_id(name, &chosen.version))));
        }
        Ok(solved)
    }
}
