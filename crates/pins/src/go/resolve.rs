//! Which versions of modules are used, and which of their packages.

use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;

use super::archive::ModuleArchive;
use super::is_standard_import;
use super::proxy::{ManifestPages, chosen, escaped, manifest, path_of, versions};
use super::query::VersionQuery;
use super::selection::{ModuleGraph, Selection, another_one, prefixes};
use super::sums::{KnownSums, METHOD};
use super::versions::{GoVersion, ModuleVersion};
use crate::desk::{AT_ONCE, Desk, HeldArchive, WantedArchive, held_archives};
use crate::explain::NOTHING_FITS;
use crate::file::{Archive, AskedPackage, Need, Pin, pin_id};
use crate::solved::{Preferred, Solved};
use crate::{PinProblem, Registry};

/// The language of a module that names none.
const OLDEST_LANGUAGE: &str = "1.16";

/// The fact that tells the digest of an archive's files.
const SUM: &str = "sum";

/// The digest that some folders have beside an archive.
const BESIDE: &str = "ziphash";

/// How often versions may lead to further ones before something must be wrong.
const ROUNDS: usize = 200;

/// Chooses a version of each module that is asked for, and of all whose packages those need.
pub(crate) fn resolve(
    desk: &Desk<'_>,
    asked: &BTreeMap<String, AskedPackage>,
    preferred: &Preferred,
) -> Result<Solved, PinProblem> {
    let graph = ModuleGraph {
        manifests: ManifestPages::new(desk, manifest),
        sums: KnownSums::below(&desk.root)?,
    };
    let mut resolver = ModuleResolver {
        desk,
        graph,
        preferred,
        archives: BTreeMap::new(),
    };
    let mut queries = BTreeMap::new();
    let mut roots = BTreeMap::new();
    for (path, AskedPackage { requirement, .. }) in asked {
        let query = VersionQuery::read(requirement).ok_or_else(|| {
            PinProblem::new(format!(
                "`{requirement}` is no requirement of versions of `{path}`"
            ))
            .mend("\"v1.2.0\"   exactly this one")
            .mend("\"v1.2\"   the newest of these")
            .mend("\">=v1.2.0\"   this one, or what others need")
        })?;
        roots.insert(path.clone(), resolver.root(path, &query, requirement)?);
        queries.insert(path, query);
    }
    for _ in 0..ROUNDS {
        let selection = resolver.graph.select(&roots)?;
        let mut next = roots.clone();
        for (path, version) in &mut next {
            *version = selection.versions[path].clone();
        }
        if next == roots {
            let uses = resolver.uses(&selection, asked)?;
            for path in uses.packages.keys() {
                next.insert(path.clone(), selection.versions[path].clone());
            }
            for import in &uses.missing {
                next.extend(
                    resolver
                        .provider_elsewhere(import)?
                        .filter(|(path, _)| !next.contains_key(path)),
                );
            }
            if next == roots {
                fits(&selection, &queries)?;
                return resolver.solved(&selection, &uses, asked);
            }
        }
        roots = next;
    }
    Err(PinProblem::new(
        "versions of Go's modules lead to further ones without an end",
    ))
}

/// Whether the chosen versions are what a person asked for.
fn fits(
    selection: &Selection,
    queries: &BTreeMap<&String, VersionQuery>,
) -> Result<(), PinProblem> {
    let mut notes = Vec::new();
    for (path, query) in queries {
        let Some(module) = selection
            .module(path)
            .filter(|module| !query.contains(&module.version))
        else {
            continue;
        };
        notes.push(format!(
            "you ask for another version of {path} than {}",
            module.version
        ));
        for (who, _) in selection
            .wants
            .iter()
            .filter(|(_, needed)| *needed == module)
        {
            notes.push(format!("{who} needs {module}, or a later one"));
        }
    }
    match notes.is_empty() {
        true => Ok(()),
        false => Err(PinProblem {
            notes,
            ..PinProblem::new(NOTHING_FITS)
        }),
    }
}

/// Which packages are used.
#[derive(Default)]
struct PackageUses {
    /// By module, their folders below it.
    packages: BTreeMap<String, BTreeSet<String>>,
    /// Which modules a module uses.
    needs: BTreeMap<String, BTreeSet<String>>,
    /// What no chosen module has.
    missing: BTreeSet<String>,
}

/// What an archive is compared with.
struct ArchiveCheck {
    module: ModuleVersion,
    /// The digest of its files, as a file beside it says.
    published: Option<String>,
    /// The same, as it was computed when it was pinned: of the same bytes, as another digest says.
    pinned: Option<String>,
}

impl ArchiveCheck {
    fn read(&self, held: &HeldArchive, sums: &KnownSums) -> Result<ModuleArchive, PinProblem> {
        let refused = |problem: PinProblem| {
            // What it holds is not what was wanted.
            let _ = std::fs::remove_file(&held.path);
            problem
        };
        let archive = ModuleArchive::read(&held.path, &self.module, self.pinned.clone())
            .map_err(|what| refused(PinProblem::new(format!("{}: {what}", self.module))))?;
        let beside = self
            .published
            .as_deref()
            .filter(|published| *published != archive.sum);
        match sums.against_archive(&self.module, &archive.sum).or(beside) {
            Some(other) => Err(refused(another_one(
                &self.module.to_string(),
                other,
                &archive.sum,
            ))),
            None => Ok(archive),
        }
    }
}

struct ModuleResolver<'a> {
    desk: &'a Desk<'a>,
    graph: ModuleGraph<'a>,
    preferred: &'a Preferred,
    archives: BTreeMap<ModuleVersion, (HeldArchive, Rc<ModuleArchive>)>,
}

impl ModuleResolver<'_> {
    /// The version of a module that a person means: what is pinned, if it will do.
    fn root(
        &self,
        path: &str,
        query: &VersionQuery,
        requirement: &str,
    ) -> Result<GoVersion, PinProblem> {
        let kept = self.preferred.get(path).into_iter().flatten();
        if let Some(kept) = kept
            .filter_map(|text| GoVersion::read(text))
            .find(|version| query.contains(version))
        {
            return Ok(kept);
        }
        if let Some(version) = chosen(self.desk, &self.graph.manifests, path, query)? {
            return Ok(version);
        }
        let any = VersionQuery::Comparisons(Vec::new());
        if let Some(newest) = chosen(self.desk, &self.graph.manifests, path, &any)? {
            let problem =
                PinProblem::new(NOTHING_FITS).note(format!("there is no {path} {requirement}"));
            return Err(problem.note(format!("the newest {path} is {newest}")));
        }
        let problem = PinProblem::new(format!("the registry `go` has no module `{path}`"));
        for shorter in prefixes(path)
            .skip(1)
            .filter(|shorter| shorter.contains('.') && escaped(shorter).is_some())
        {
            if versions(self.desk, shorter)?.is_some() {
                return Err(problem.mend(format!(
                    "nubrik pins add go {shorter}   it may be a package of this module"
                )));
            }
        }
        Err(
            match path
                .split('/')
                .next()
                .is_some_and(|first| first.contains('.'))
            {
                true => problem.mend("look at how the module is spelt in its go.mod"),
                false => problem.note(
                    "paths of modules begin with the name of a host, as in example.org/tides",
                ),
            },
        )
    }

    /// All packages of what is asked for, and all that they import.
    fn uses(
        &mut self,
        selection: &Selection,
        asked: &BTreeMap<String, AskedPackage>,
    ) -> Result<PackageUses, PinProblem> {
        let mut uses = PackageUses::default();
        let modules: Vec<ModuleVersion> = asked
            .keys()
            .filter_map(|path| selection.module(path))
            .collect();
        self.expect(&modules)?;
        let mut open: Vec<(ModuleVersion, String)> = Vec::new();
        for module in modules {
            let packages = &self.archive(&module)?.packages;
            let packages: BTreeSet<String> = packages.keys().cloned().collect();
            let own = packages.iter();
            open.extend(own.map(|package| (module.clone(), package.clone())));
            uses.packages.insert(module.path.clone(), packages);
        }
        while !open.is_empty() {
            let mut imports: BTreeSet<(ModuleVersion, String)> = BTreeSet::new();
            for (module, package) in open.drain(..) {
                let packages = &self.archive(&module)?.packages;
                let found = packages.get(&package).into_iter().flatten();
                let foreign = found.filter(|import| !is_standard_import(import));
                imports.extend(foreign.map(|import| (module.clone(), import.clone())));
            }
            let first = imports
                .iter()
                .filter_map(|(_, import)| selection.candidates(import).into_iter().next());
            let first: BTreeSet<ModuleVersion> = first.collect();
            self.expect(&first.into_iter().collect::<Vec<_>>())?;
            for (user, import) in imports {
                let Some((module, package)) = self.provider(selection, &import)? else {
                    uses.missing.insert(import);
                    continue;
                };
                if module.path != user.path {
                    let needs = uses.needs.entry(user.path.clone()).or_default();
                    needs.insert(module.path.clone());
                }
                let known = uses.packages.entry(module.path.clone()).or_default();
                if known.insert(package.clone()) {
                    open.push((module, package));
                }
            }
        }
        Ok(uses)
    }

    /// The module that has a package, and the package's folder in it.
    fn provider(
        &mut self,
        selection: &Selection,
        import: &str,
    ) -> Result<Option<(ModuleVersion, String)>, PinProblem> {
        for module in selection.candidates(import) {
            let below = import[module.path.len()..]
                .trim_start_matches('/')
                .to_owned();
            if self.archive(&module)?.packages.contains_key(&below) {
                return Ok(Some((module, below)));
            }
        }
        Ok(None)
    }

    /// A module that has a package, where no chosen one does: modules of before there were
    /// descriptions say nowhere what they need.
    fn provider_elsewhere(
        &mut self,
        import: &str,
    ) -> Result<Option<(String, GoVersion)>, PinProblem> {
        let any = VersionQuery::Comparisons(Vec::new());
        for path in prefixes(import).filter(|path| path.contains('/')) {
            let kept = self
                .preferred
                .get(path)
                .into_iter()
                .flatten()
                .find_map(|text| GoVersion::read(text));
            let version = match kept {
                Some(kept) => Some(kept),
                None => chosen(self.desk, &self.graph.manifests, path, &any)?,
            };
            let Some(version) = version else { continue };
            let module = ModuleVersion {
                path: path.to_owned(),
                version,
            };
            let below = import[path.len()..].trim_start_matches('/');
            if self.archive(&module)?.packages.contains_key(below) {
                return Ok(Some((module.path, module.version)));
            }
        }
        Ok(None)
    }

    fn archive(&mut self, module: &ModuleVersion) -> Result<Rc<ModuleArchive>, PinProblem> {
        self.expect(std::slice::from_ref(module))?;
        match self.archives.get(module) {
            Some((_, archive)) => Ok(archive.clone()),
            None => Err(PinProblem::new(format!(
                "the registry `go` has no {module}"
            ))),
        }
    }

    /// Fetches archives that are not here yet, several at once, and holds each against its digest.
    fn expect(&mut self, modules: &[ModuleVersion]) -> Result<(), PinProblem> {
        let unknown: Vec<&ModuleVersion> = modules
            .iter()
            .filter(|module| !self.archives.contains_key(*module))
            .collect();
        let keys: Vec<String> = unknown.iter().map(|module| module.key()).collect();
        self.graph
            .manifests
            .expect(keys.iter().map(String::as_str))?;
        let mut wanted = Vec::new();
        let mut checks = Vec::new();
        for module in &unknown {
            let Some(path) = path_of(module, "zip") else {
                return Err(PinProblem::new(format!(
                    "{module} is no version of a module"
                )));
            };
            self.graph.manifest(module)?;
            let (address, credential) = self.desk.locate(Registry::Go, &path)?;
            let pinned = self.desk.known_archive(Registry::Go, &path);
            checks.push(ArchiveCheck {
                module: (*module).clone(),
                published: self.published(module)?,
                pinned: pinned
                    .as_ref()
                    .and_then(|pinned| pinned.facts.get(SUM).cloned()),
            });
            let digest = pinned.map(|pinned| pinned.digest);
            wanted.push(WantedArchive {
                what: module.to_string(),
                address,
                credential,
                digest,
                size: None,
            });
        }
        let held = held_archives(self.desk, &wanted)?;
        let sums = &self.graph.sums;
        for (checks, held) in checks.chunks(AT_ONCE).zip(held.chunks(AT_ONCE)) {
            let read: Vec<_> = std::thread::scope(|scope| {
                let reading = checks
                    .iter()
                    .zip(held)
                    .map(|(check, held)| scope.spawn(|| check.read(held, sums)));
                reading
                    .collect::<Vec<_>>()
                    .into_iter()
                    .map(|reading| reading.join())
                    .collect()
            });
            for ((check, held), read) in checks.iter().zip(held).zip(read) {
                let archive =
                    read.map_err(|_| PinProblem::new("reading an archive broke off"))??;
                self.archives
                    .insert(check.module.clone(), (held.clone(), Rc::new(archive)));
            }
        }
        Ok(())
    }

    /// The digest of an archive's files that is beside it, in folders that are kept by the ordinary
    /// client.
    fn published(&self, module: &ModuleVersion) -> Result<Option<String>, PinProblem> {
        let beside = path_of(module, BESIDE).and_then(|path| self.desk.near(Registry::Go, &path));
        let Some(file) = beside.and_then(|beside| beside.file()) else {
            return Ok(None);
        };
        let text = std::fs::read_to_string(&file)
            .map_err(|e| PinProblem::new(format!("cannot read {}: {e}", file.display())))?;
        Ok(Some(text.trim().to_owned()).filter(|sum| sum.starts_with(METHOD)))
    }

    fn solved(
        &self,
        selection: &Selection,
        uses: &PackageUses,
        asked: &BTreeMap<String, AskedPackage>,
    ) -> Result<Solved, PinProblem> {
        let chosen = |path: &String| {
            selection
                .module(path)
                .ok_or_else(|| PinProblem::new(format!("no version of {path} was chosen")))
        };
        let id = |path: &String| Ok(pin_id(path, &chosen(path)?.version.text));
        let mut solved = Solved::default();
        for (path, packages) in &uses.packages {
            let module = chosen(path)?;
            let known = self.archives.get(&module).zip(path_of(&module, "zip"));
            let ((held, archive), place) = known
                .ok_or_else(|| PinProblem::new(format!("the archive of {module} was not read")))?;
            let language = self.graph.manifest(&module)?.manifest.language.clone();
            let needs: Vec<String> = uses
                .needs
                .get(path)
                .into_iter()
                .flatten()
                .map(id)
                .collect::<Result<_, PinProblem>>()?;
            let pin = Pin {
                name: path.clone(),
                version: module.version.text.clone(),
                archives: vec![Archive::everywhere(place, held.digest.clone(), held.size)],
                packages: packages
                    .iter()
                    .map(|below| match below.is_empty() {
                        true => ".".to_owned(),
                        false => below.clone(),
                    })
                    .collect(),
                facts: BTreeMap::from([
                    (
                        "language".to_owned(),
                        language.unwrap_or_else(|| OLDEST_LANGUAGE.to_owned()),
                    ),
                    (SUM.to_owned(), archive.sum.clone()),
                ]),
                needs: needs.into_iter().map(Need::plain).collect(),
                ..Pin::default()
            };
            solved.pins.insert(pin.id(), pin);
        }
        for path in asked.keys() {
            solved.asked.insert(path.clone(), id(path)?);
        }
        Ok(solved)
    }
}
