//! Which versions of distributions fit together, for one interpreter.

use std::cell::RefCell;
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::rc::Rc;
use std::str::FromStr;
use std::sync::Arc;

use pep440_rs::Version;
use pep508_rs::{ExtraName, MarkerEnvironment, Requirement, VerbatimUrl, VersionOrUrl};
use pubgrub::{
    Dependencies, DependencyConstraints, DependencyProvider, PackageResolutionStatistics,
};

use super::index::{self, IndexFile, PackagePage};
use super::metadata::Metadata;
use super::nodes::{DistributionNode, DistributionRange, WantedDistributions};
use super::tags::{Interpreter, rank_of};
use super::{normal_name, specifiers_of};
use crate::desk::{Desk, WantedArchive};
use crate::explain::{Conflict, Wording, chosen_or_conflict, explained};
use crate::file::{Archive, AskedPackage, Need, Pin, pin_id};
use crate::pages::PackagePages;
use crate::solved::{Preferred, Solved};
use crate::{PinProblem, Registry, Unreadable};

/// The version that fits, and the best of its files.
#[derive(Clone)]
struct Candidate {
    version: Version,
    file: IndexFile,
}

/// What a wheel says of itself, or what is wrong with that.
type ReadMetadata = Rc<Result<Metadata, Unreadable>>;

struct DistributionProvider<'a> {
    desk: &'a Desk<'a>,
    interpreter: &'a Interpreter,
    markers: MarkerEnvironment,
    ranks: HashMap<String, usize>,
    asked: Vec<(String, Vec<String>, DistributionRange)>,
    preferred: BTreeMap<String, Version>,
    /// Names of which early versions will do: somebody asks for one.
    early: RefCell<BTreeSet<String>>,
    pages: PackagePages<'a, PackagePage>,
    candidates: RefCell<HashMap<String, Rc<Vec<Candidate>>>>,
    metadata: RefCell<HashMap<(String, Version), ReadMetadata>>,
    /// In which order names were met.
    met: RefCell<HashMap<String, usize>>,
}

/// Chooses a version of everything that is asked for and of what that needs.
pub(crate) fn resolve(
    desk: &Desk<'_>,
    interpreter: &Interpreter,
    asked: &BTreeMap<String, AskedPackage>,
    preferred: &Preferred,
) -> Result<Solved, PinProblem> {
    let mut wanted = Vec::new();
    let mut early = BTreeSet::new();
    for (name, asked) in asked {
        let specifiers = specifiers_of(name, &asked.requirement)?;
        if specifiers.iter().any(|s| s.any_prerelease()) {
            early.insert(name.clone());
        }
        let range = DistributionRange::from(specifiers);
        wanted.push((name.clone(), asked.features.clone(), range));
    }
    let preferred = preferred
        .iter()
        .filter_map(|(name, versions)| Some((name.clone(), versions.first()?.parse().ok()?)));
    let provider = DistributionProvider {
        desk,
        interpreter,
        markers: interpreter.markers()?,
        ranks: interpreter.ranks(),
        asked: wanted,
        preferred: preferred.collect(),
        early: RefCell::new(early),
        pages: PackagePages::new(desk, index::page),
        candidates: RefCell::default(),
        metadata: RefCell::default(),
        met: RefCell::default(),
    };
    // What nobody publishes is a mistake of typing, and no conflict.
    for name in asked.keys() {
        if provider.page(name)?.is_none() {
            let problem = PinProblem::new(format!("the registry `python` has no `{name}`"));
            return Err(problem.mend("look at how the package spells its name"));
        }
    }
    let root = DistributionNode::Root;
    match chosen_or_conflict(pubgrub::resolve(&provider, root, Version::new([0])))? {
        Ok(chosen) => {
            let versions = chosen
                .into_iter()
                .filter(|(node, _)| *node != DistributionNode::Root);
            provider.solved(versions.collect(), asked)
        }
        Err(tree) => Err(provider.explained(&tree)),
    }
}

impl DistributionProvider<'_> {
    /// Why there is no answer, in sentences.
    fn explained(&self, tree: &Conflict<Self>) -> PinProblem {
        let set =
            |node: &DistributionNode, set: &DistributionRange| match self.candidates(node.name()) {
                Ok(known) => set
                    .simplify(known.iter().rev().map(|c| &c.version))
                    .to_string(),
                Err(_) => set.to_string(),
            };
        let is_ragged = |set: &DistributionRange| set.iter().count() > 1;
        let wording = Wording {
            root: &DistributionNode::Root,
            set: &set,
            is_ragged: &is_ragged,
        };
        let mut problem = explained(tree, &wording);
        let names: BTreeSet<String> = tree
            .packages()
            .into_iter()
            .map(|node| node.name().to_owned())
            .collect();
        for name in names.iter().filter(|name| !name.is_empty()) {
            problem.notes.extend(self.what_there_is(name));
        }
        problem
    }

    fn page(&self, name: &str) -> Result<Option<Arc<PackagePage>>, PinProblem> {
        self.pages.get(name)
    }

    /// Versions that fit the interpreter, the newest first.
    fn candidates(&self, name: &str) -> Result<Rc<Vec<Candidate>>, PinProblem> {
        if let Some(known) = self.candidates.borrow().get(name) {
            return Ok(known.clone());
        }
        let mut found = Vec::new();
        if let Some(page) = self.page(name)? {
            for (version, files) in page.wheels.iter().rev() {
                let fitting = files.iter().filter(|file| self.fits(file));
                let ranked =
                    fitting.filter_map(|file| Some((rank_of(&self.ranks, &file.name)?, file)));
                if let Some((_, file)) =
                    ranked.min_by_key(|(rank, file)| (*rank, Reverse(file.name.clone())))
                {
                    found.push(Candidate {
                        version: version.clone(),
                        file: file.clone(),
                    });
                }
            }
        }
        let found = Rc::new(found);
        self.candidates
            .borrow_mut()
            .insert(name.to_owned(), found.clone());
        Ok(found)
    }

    fn fits(&self, file: &IndexFile) -> bool {
        file.python
            .as_ref()
            .is_none_or(|python| python.contains(&self.interpreter.full_version()))
    }

    fn candidate(&self, name: &str, version: &Version) -> Result<Candidate, PinProblem> {
        let found = self
            .candidates(name)?
            .iter()
            .find(|c| c.version == *version)
            .cloned();
        found.ok_or_else(|| PinProblem::new(format!("{name} {version} is not there any more")))
    }

    fn metadata(&self, name: &str, version: &Version) -> Result<ReadMetadata, PinProblem> {
        let key = (name.to_owned(), version.clone());
        if let Some(known) = self.metadata.borrow().get(&key) {
            return Ok(known.clone());
        }
        let candidate = self.candidate(name, version)?;
        let text = match self.beside(name, &candidate.file)? {
            Some(text) => text,
            None => {
                let held = self.desk.archive(&self.wanted(name, &candidate)?)?;
                // An archive that cannot be read is a fault, and no reason to take an older
                // version.
                Metadata::in_wheel(&held.path)
                    .map_err(|what| PinProblem::new(format!("{name} {version}: {what}")))?
            }
        };
        let metadata = Rc::new(Metadata::read_of(&text, name, version));
        self.metadata.borrow_mut().insert(key, metadata.clone());
        Ok(metadata)
    }

    /// The metadata that is beside a wheel, compared with its digest.
    fn beside(&self, name: &str, file: &IndexFile) -> Result<Option<String>, PinProblem> {
        let Some(digest) = &file.metadata else {
            return Ok(None);
        };
        let Some(page) = self.page(name)? else {
            return Ok(None);
        };
        let Some(address) = file.address.beside(".metadata") else {
            return Ok(None);
        };
        let Some(bytes) = self.desk.beside(Registry::Python, &address, &page.origin)? else {
            return Ok(None);
        };
        if let Some(digest) = digest
            && let Some((mut sum, in_base64)) = nubrik_web::Checksum::like(digest)
        {
            sum.take(&bytes);
            let found = sum.written(in_base64);
            if found != *digest {
                let problem = PinProblem::new(format!(
                    "the metadata of {} has another digest than its registry says",
                    file.name
                ));
                return Err(problem
                    .note(format!("published  {digest}"))
                    .note(format!("found      {found}")));
            }
        }
        Ok(Some(String::from_utf8_lossy(&bytes).into_owned()))
    }

    fn wanted(&self, name: &str, candidate: &Candidate) -> Result<WantedArchive, PinProblem> {
        let IndexFile {
            address,
            digest,
            size,
            ..
        } = &candidate.file;
        let origin = self.page(name)?.map(|page| page.origin.clone());
        let same_host = |o: &crate::Origin| o.address.host() == address.host();
        Ok(WantedArchive {
            what: format!("{name} {}", candidate.version),
            address: address.clone(),
            credential: origin
                .filter(same_host)
                .and_then(|origin| origin.credential),
            digest: digest.clone(),
            size: *size,
        })
    }

    /// What one version of a node needs: the requirements that hold here.
    fn needs(
        &self,
        node: &DistributionNode,
        version: &Version,
    ) -> Result<Result<Vec<Requirement<VerbatimUrl>>, String>, PinProblem> {
        let metadata = self.metadata(node.name(), version)?;
        let metadata = match &*metadata {
            Ok(metadata) => metadata,
            Err(what) => return Ok(Err(what.to_string())),
        };
        if let Some(python) = metadata
            .python
            .as_ref()
            .filter(|p| !p.contains(&self.interpreter.full_version()))
        {
            return Ok(Err(format!("it needs Python {python}")));
        }
        let holds = |requirement: &Requirement<VerbatimUrl>, extras: &[ExtraName]| {
            requirement.evaluate_markers(&self.markers, extras)
        };
        let extras: Vec<ExtraName> = match node {
            DistributionNode::Extra(_, extra) => ExtraName::from_str(extra).into_iter().collect(),
            _ => Vec::new(),
        };
        let own = metadata.requires.iter();
        let own = own.filter(|r| holds(r, &extras) && (extras.is_empty() || !holds(r, &[])));
        Ok(Ok(own.cloned().collect()))
    }

    fn constraints(
        &self,
        node: &DistributionNode,
        version: &Version,
    ) -> Result<
        Result<DependencyConstraints<DistributionNode, DistributionRange>, String>,
        PinProblem,
    > {
        let mut wanted = WantedDistributions::default();
        if let DistributionNode::Root = node {
            for (name, extras, range) in &self.asked {
                wanted.add(name, extras, range);
            }
        } else {
            if let DistributionNode::Extra(name, extra) = node {
                wanted.constrain(
                    DistributionNode::Package(name.clone()),
                    &DistributionRange::singleton(version.clone()),
                );
                if let Some(why) = self.lacks_extra(name, version, extra)? {
                    return Ok(Err(why));
                }
            }
            let needs = match self.needs(node, version)? {
                Ok(needs) => needs,
                Err(why) => return Ok(Err(why)),
            };
            for requirement in needs {
                let name = normal_name(requirement.name.as_ref());
                let range = match requirement.version_or_url {
                    None => DistributionRange::full(),
                    Some(VersionOrUrl::VersionSpecifier(specifiers)) => {
                        if specifiers.iter().any(|s| s.any_prerelease()) {
                            self.early.borrow_mut().insert(name.clone());
                        }
                        DistributionRange::from(specifiers)
                    }
                    Some(VersionOrUrl::Url(_)) => {
                        return Ok(Err(format!("it needs `{name}` from an address of its own")));
                    }
                };
                let extras: Vec<String> = requirement
                    .extras
                    .iter()
                    .map(|extra| normal_name(extra.as_ref()))
                    .collect();
                wanted.add(&name, &extras, &range);
            }
        }
        let WantedDistributions { constraints, met } = wanted;
        self.pages.expect(met.iter().map(String::as_str))?;
        let mut order = self.met.borrow_mut();
        for name in met {
            let next = order.len();
            order.entry(name).or_insert(next);
        }
        Ok(Ok(constraints.into_iter().collect()))
    }

    /// What is wrong with asking for an extra that a package does not have. Packages that others
    /// need may lack them.
    fn lacks_extra(
        &self,
        name: &str,
        version: &Version,
        extra: &String,
    ) -> Result<Option<String>, PinProblem> {
        let metadata = self.metadata(name, version)?;
        let is_asked = || {
            self.asked
                .iter()
                .any(|(asked, extras, _)| asked == name && extras.contains(extra))
        };
        let Ok(metadata) = &*metadata else {
            return Ok(None);
        };
        if metadata.extras.contains(extra) || !is_asked() {
            return Ok(None);
        }
        let has = match metadata.extras.as_slice() {
            [] => "it has none".to_owned(),
            extras => format!("it has: {}", extras.join(", ")),
        };
        Ok(Some(format!("it has no extra `{extra}`; {has}")))
    }

    /// What there is of a package, for an explanation.
    fn what_there_is(&self, name: &str) -> Option<String> {
        let page = match self.page(name) {
            Ok(Some(page)) => page,
            Ok(None) => return Some(format!("the registry has no `{name}`")),
            Err(_) => return None,
        };
        let fitting = self.candidates(name).ok()?;
        let newest = page.wheels.keys().chain(&page.only_sources).max()?;
        match fitting.first() {
            Some(best) if best.version == *newest => None,
            found => {
                let why = if page.only_sources.contains(newest) {
                    "has no wheel, only sources"
                } else if page
                    .wheels
                    .get(newest)
                    .is_some_and(|files| files.iter().any(|file| self.fits(file)))
                {
                    "has no wheel for this system"
                } else {
                    "needs another Python"
                };
                let best = found.map(|best| format!("; the newest that fits is {}", best.version));
                let Interpreter {
                    system,
                    version: (major, minor),
                    ..
                } = self.interpreter;
                Some(format!(
                    "{name} {newest} {why} (Python {major}.{minor}, {system}){}",
                    best.unwrap_or_default()
                ))
            }
        }
    }

    /// Pins for what was chosen.
    fn solved(
        &self,
        chosen: BTreeMap<DistributionNode, Version>,
        asked: &BTreeMap<String, AskedPackage>,
    ) -> Result<Solved, PinProblem> {
        let id = |name: &str| id_among(&chosen, name);
        let mut solved = Solved::default();
        for (node, version) in &chosen {
            let DistributionNode::Package(name) = node else {
                continue;
            };
            let candidate = self.candidate(name, version)?;
            let needs = self.needed_ids(name, version, &chosen)?;
            let (digest, size) = self.digest_and_size(name, &candidate)?;
            let licence = (*self.metadata(name, version)?)
                .as_ref()
                .ok()
                .and_then(|m| m.licence.clone());
            let extras = chosen.keys().filter_map(|node| match node {
                DistributionNode::Extra(of, extra) if of == name => Some(extra.clone()),
                _ => None,
            });
            let path = index::path_of(name, &candidate.file);
            let pin = Pin {
                name: name.clone(),
                version: version.to_string(),
                licence,
                archives: vec![Archive::everywhere(path, digest, size)],
                features: extras.collect(),
                needs: needs.into_iter().map(Need::plain).collect(),
                ..Pin::default()
            };
            solved.pins.insert(pin.id(), pin);
        }
        solved.asked = asked
            .keys()
            .filter_map(|name| Some((name.clone(), id(name)?)))
            .collect();
        Ok(solved)
    }

    /// The ids of what a distribution needs of what was chosen, by way of any of its extras.
    fn needed_ids(
        &self,
        name: &str,
        version: &Version,
        chosen: &BTreeMap<DistributionNode, Version>,
    ) -> Result<BTreeSet<String>, PinProblem> {
        let id = |name: &str| id_among(chosen, name);
        let mut needs: BTreeSet<String> = BTreeSet::new();
        for node in chosen.keys().filter(|node| node.name() == name) {
            let requirements = self.needs(node, version)?.map_err(PinProblem::new)?;
            let names = requirements.iter().map(|r| normal_name(r.name.as_ref()));
            needs.extend(names.filter_map(|name| id(&name)));
        }
        needs.remove(&pin_id(name, &version.to_string()));
        Ok(needs)
    }

    /// The digest and the size of a file, in bytes: as the index says them, else as it comes.
    fn digest_and_size(
        &self,
        name: &str,
        candidate: &Candidate,
    ) -> Result<(String, u64), PinProblem> {
        let IndexFile { digest, size, .. } = &candidate.file;
        match (digest, size) {
            (Some(digest), Some(size)) if crate::desk::is_strong(digest) => {
                Ok((digest.clone(), *size))
            }
            _ => {
                let held = self.desk.archive(&self.wanted(name, candidate)?)?;
                Ok((held.digest, held.size))
            }
        }
    }
}

/// The id of the pin of a distribution among those that were chosen.
fn id_among(chosen: &BTreeMap<DistributionNode, Version>, name: &str) -> Option<String> {
    let version = chosen.get(&DistributionNode::Package(name.to_owned()))?;
    Some(pin_id(name, &version.to_string()))
}

impl DependencyProvider for DistributionProvider<'_> {
    type P = DistributionNode;
    type V = Version;
    type VS = DistributionRange;
    type Priority = (u32, Reverse<usize>);
    type M = String;
    type Err = PinProblem;

    fn prioritize(
        &self,
        node: &DistributionNode,
        _: &DistributionRange,
        statistics: &PackageResolutionStatistics,
    ) -> Self::Priority {
        let met = self.met.borrow().get(node.name()).copied().unwrap_or(0);
        (statistics.conflict_count(), Reverse(met))
    }

    fn choose_version(
        &self,
        node: &DistributionNode,
        range: &DistributionRange,
    ) -> Result<Option<Version>, PinProblem> {
        if let DistributionNode::Root = node {
            return Ok(Some(Version::new([0])));
        }
        let candidates = self.candidates(node.name())?;
        let is_exact = range.as_singleton().is_some();
        let may_be = |c: &&Candidate| range.contains(&c.version) && (is_exact || !c.file.is_yanked);
        if let Some(preferred) = self.preferred.get(node.name())
            && let Some(kept) = candidates
                .iter()
                .filter(may_be)
                .find(|c| c.version == *preferred)
        {
            return Ok(Some(kept.version.clone()));
        }
        let is_early = self.early.borrow().contains(node.name());
        let released = candidates
            .iter()
            .filter(may_be)
            .find(|c| is_early || !c.version.any_prerelease());
        // An early version will do where there is no other.
        let found = released.or_else(|| candidates.iter().find(may_be));
        Ok(found.map(|c| c.version.clone()))
    }

    fn get_dependencies(
        &self,
        node: &DistributionNode,
        version: &Version,
    ) -> Result<Dependencies<DistributionNode, DistributionRange, String>, PinProblem> {
        Ok(match self.constraints(node, version)? {
            Ok(constraints) => Dependencies::Available(constraints),
            Err(why) => Dependencies::Unavailable(why),
        })
    }
}
