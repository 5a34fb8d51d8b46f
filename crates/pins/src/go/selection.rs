//! Minimal version selection: of each module the oldest version that everybody who needs it will do
//! with.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::proxy::{ManifestPage, ManifestPages};
use super::sums::KnownSums;
use super::versions::{GoVersion, ModuleVersion};
use crate::PinProblem;

/// Versions that were chosen, and who wanted them.
#[derive(Debug, Default)]
pub(crate) struct Selection {
    pub versions: BTreeMap<String, GoVersion>,
    /// Who needs which version of what.
    pub wants: BTreeSet<(ModuleVersion, ModuleVersion)>,
}

impl Selection {
    /// The version of a module that was chosen.
    pub(crate) fn module(&self, path: &str) -> Option<ModuleVersion> {
        Some(ModuleVersion {
            path: path.to_owned(),
            version: self.versions.get(path)?.clone(),
        })
    }

    /// The modules that may hold a package: whose path it begins with, the longest first.
    pub(crate) fn candidates(&self, import: &str) -> Vec<ModuleVersion> {
        prefixes(import)
            .filter_map(|path| self.module(path))
            .collect()
    }

    fn raise(&mut self, module: &ModuleVersion) {
        let chosen = self
            .versions
            .entry(module.path.clone())
            .or_insert_with(|| module.version.clone());
        if *chosen < module.version {
            *chosen = module.version.clone();
        }
    }
}

/// The beginnings of an import path that may be modules, the longest first.
pub(crate) fn prefixes(import: &str) -> impl Iterator<Item = &str> {
    std::iter::successors(Some(import), |path| Some(path.rsplit_once('/')?.0))
}

/// Reads what modules need.
pub(crate) struct ModuleGraph<'a> {
    pub manifests: ManifestPages<'a>,
    pub sums: KnownSums,
}

impl ModuleGraph<'_> {
    /// The description of a version, compared with what the workspace knows of it.
    pub(crate) fn manifest(&self, module: &ModuleVersion) -> Result<Arc<ManifestPage>, PinProblem> {
        let page = self.manifests.get(&module.key())?;
        let page =
            page.ok_or_else(|| PinProblem::new(format!("the registry `go` has no {module}")))?;
        match self.sums.against_manifest(module, &page.sum) {
            Some(known) => Err(another_one(
                &format!("the go.mod of {module}"),
                known,
                &page.sum,
            )),
            None => Ok(page),
        }
    }

    /// The versions that follow from some. Of a module whose description names all that it needs,
    /// also indirectly, only what it names counts; older ones are followed to the end.
    pub(crate) fn select(
        &self,
        roots: &BTreeMap<String, GoVersion>,
    ) -> Result<Selection, PinProblem> {
        let mut selection = Selection::default();
        let root = |(path, version): (&String, &GoVersion)| ModuleVersion {
            path: path.clone(),
            version: version.clone(),
        };
        let mut open: Vec<ModuleVersion> = roots.iter().map(root).collect();
        open.iter().for_each(|module| selection.raise(module));
        // What those need who are met below an old module is followed, whatever they say
        // themselves.
        let (mut followed, mut is_below_old) = (BTreeSet::new(), false);
        while !open.is_empty() {
            let keys: Vec<String> = open.iter().map(ModuleVersion::key).collect();
            self.manifests.expect(keys.iter().map(String::as_str))?;
            let mut next = Vec::new();
            for module in open {
                let page = self.manifest(&module)?;
                let follows = is_below_old || !page.manifest.names_all();
                for (path, version) in &page.manifest.requires {
                    let version = GoVersion::read(version).ok_or_else(|| {
                        PinProblem::new(format!(
                            "{module} needs {path} {version}, which is no version"
                        ))
                    })?;
                    let needed = ModuleVersion {
                        path: path.clone(),
                        version,
                    };
                    selection.raise(&needed);
                    if follows && followed.insert(needed.clone()) {
                        next.push(needed.clone());
                    }
                    selection.wants.insert((module.clone(), needed));
                }
            }
            open = next;
            is_below_old = true;
        }
        Ok(selection)
    }
}

/// What is wrong if something is another one than was known.
pub(crate) fn another_one(what: &str, known: &str, found: &str) -> PinProblem {
    PinProblem::new(format!(
        "{what} is another one than go.sum, or its proxy, says"
    ))
    .note(format!("published  {known}"))
    .note(format!("found      {found}"))
}
