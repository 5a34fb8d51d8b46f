//! What addresses of a request mean: the targets, entries and folders that are asked for.

use std::collections::BTreeSet;
use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::Role;
use nubrik_source::WsPath;

use super::addresses::Meaning;
use super::{Evaluator, Result};
use crate::address::{AddressPattern, Wanted};
use crate::hir::*;
use crate::value::*;

impl Evaluator<'_> {
    pub(super) fn select(&mut self, pattern: &AddressPattern) -> Result<Vec<Meaning>> {
        if pattern.is_package() {
            return self.targets_of(&pattern.path, pattern.wanted);
        }
        if pattern.is_glob() {
            return self.select_glob(pattern);
        }
        let meanings: Vec<Meaning> = match pattern.is_folder {
            true => Vec::new(),
            false => self
                .meanings(&pattern.path)?
                .into_iter()
                .filter(|m| self.is_target(m))
                .collect(),
        };
        match meanings.as_slice() {
            [meaning] => {
                let kind = self.module(meaning.decl.module).decl(meaning.decl).kind;
                self.wanted.evaluates_jobs |= matches!(kind, DeclKind::Job | DeclKind::Service);
                if pattern.wanted != Wanted::Tests || kind == DeclKind::Test {
                    return Ok(meanings);
                }
                let target = self.target_of(meaning.decl);
                self.wanted.through.push(target);
                let packages = self.packages_below(&WsPath::root())?;
                let lists = self.all(&packages, |this, folder| {
                    this.targets_of(folder, Wanted::Tests)
                })?;
                return Ok(lists.concat());
            }
            [] => {}
            _ => {
                let error = Diagnostic::error(
                    "two-meanings",
                    format!("`{}` means two things", pattern.written),
                );
                let error = meanings.iter().fold(error, |error, m| {
                    let module = self.module(m.decl.module);
                    error.related(module.decl(m.decl).name.span, "one of them")
                });
                return self.fail_whole(error);
            }
        }
        self.select_below(pattern)
    }

    /// A file at the root that is called like definitions, but for the size of letters.
    fn other_spelling(&self) -> Option<String> {
        let crate::world::Answer::Ready(listing) = self.world.list(&WsPath::root()) else {
            return None;
        };
        let found = listing
            .files
            .iter()
            .find(|name| name.eq_ignore_ascii_case(crate::TARGETS_FILE));
        found.map(|name| name.to_string())
    }

    /// What a pattern means that names no target: what is declared in a folder and below.
    fn select_below(&mut self, pattern: &AddressPattern) -> Result<Vec<Meaning>> {
        let mut packages = self.packages_below(&pattern.path)?;
        let is_ours = matches!(
            self.definitions
                .modules
                .other_workspace(self.world, &pattern.path),
            crate::world::Answer::Ready(None)
        );
        if packages.is_empty() && pattern.is_folder && is_ours && self.is_folder(&pattern.path) {
            packages.extend(self.package_around(&pattern.path)?);
        }
        if packages.is_empty() {
            let error = if pattern.path.is_root() {
                let error =
                    Diagnostic::error("no-targets", "there is no `targets.nub` in this workspace");
                match self.other_spelling() {
                    Some(found) => {
                        error.mend(format!("mv {found} targets.nub   gives it the right name"))
                    }
                    None => error.mend("nubrik init   writes a first one"),
                }
            } else if pattern.is_folder && is_ours {
                let message = format!(
                    "`{}` belongs to no package: no `targets.nub` is there, below it or above it",
                    pattern.path
                );
                Diagnostic::error("unknown-target", message)
                    .mend("nubrik list /   shows what there is")
            } else {
                let error = self.no_such_address(&pattern.path);
                match pattern.path.as_str() {
                    "..." | "all" | "*" => Diagnostic {
                        notes: Vec::new(),
                        mends: Vec::new(),
                        ..error
                    }
                    .note("without a name everything in this folder and below is meant")
                    .mend("nubrik build"),
                    _ => error,
                }
            };
            return self.fail_whole(error);
        }
        let lists = self.all(&packages, |this, folder| {
            this.targets_of(folder, pattern.wanted)
        })?;
        Ok(lists.concat())
    }

    pub(super) fn is_target(&self, meaning: &Meaning) -> bool {
        let module = self.definitions.modules.get(meaning.decl.module);
        module.decl(meaning.decl).kind.role() != Role::Inner
    }

    pub(super) fn targets_of(&mut self, folder: &WsPath, wanted: Wanted) -> Result<Vec<Meaning>> {
        let Some(id) = self.load_package(folder)? else {
            return Ok(Vec::new());
        };
        let module = self.module(id);
        let targets = module
            .decls
            .iter()
            .enumerate()
            .filter(|(_, d)| wanted.holds(d.kind.role()));
        Ok(targets
            .map(|(n, _)| Meaning {
                decl: DeclId::new(id, n as u32),
                way: Vec::new(),
            })
            .collect())
    }

    pub(super) fn select_glob(&mut self, pattern: &AddressPattern) -> Result<Vec<Meaning>> {
        let mut selected = Vec::new();
        let packages = self.packages_below(&pattern.start())?;
        // A glob may also reach into a target of a package above its first wildcard.
        let above = std::iter::successors(pattern.start().parent(), WsPath::parent);
        let all: BTreeSet<WsPath> = packages.into_iter().chain(above).collect();
        for folder in all {
            for meaning in self.targets_of(&folder, pattern.wanted)? {
                let name = self
                    .module(meaning.decl.module)
                    .decl(meaning.decl)
                    .name
                    .text
                    .clone();
                let address = folder.child(&name);
                if pattern.matches(address.as_str()) {
                    selected.push(meaning);
                } else if address.is_in(&pattern.start()) || pattern.start().is_in(&address) {
                    selected.extend(self.entries_matching(&meaning, &address, pattern)?);
                }
            }
        }
        if selected.is_empty() {
            let error = Diagnostic::error(
                "unknown-target",
                format!("no target matches `{}`", pattern.written),
            );
            return self.fail_whole(error.mend("`nubrik list` shows what there is"));
        }
        Ok(selected)
    }

    pub(super) fn entries_matching(
        &mut self,
        meaning: &Meaning,
        address: &WsPath,
        pattern: &AddressPattern,
    ) -> Result<Vec<Meaning>> {
        let module = self.module(meaning.decl.module);
        let decl = module.decl(meaning.decl);
        let taken = self.take_from(meaning.decl);
        let is_map = decl.content(taken).body.is_some_and(|b| {
            matches!(
                module.expr(b),
                Expr::Map(_) | Expr::Each(_) | Expr::Record(_)
            )
        });
        if !is_map {
            return Ok(Vec::new());
        }
        let keys: Vec<Arc<str>> =
            match self.declaration(meaning.decl, self.choices.chosen, decl.name.span)? {
                Value::Map(map) => {
                    self.check_keys(&map, decl.name.span)?;
                    map.entries.iter().map(|(k, _)| k.clone()).collect()
                }
                Value::Record(record) => record.fields.iter().map(|(n, _)| n.clone()).collect(),
                _ => Vec::new(),
            };
        let fitting = keys
            .into_iter()
            .filter(|k| pattern.matches(&format!("{}/{k}", address.as_str())));
        Ok(fitting
            .map(|key| Meaning {
                way: vec![key],
                ..meaning.clone()
            })
            .collect())
    }
}

/// Whether a declaration's value is a map, whose entries are evaluated one by one and once each.
/// What a function or kind gives is made again by each call, so that nothing may lead back to one.
pub(super) fn is_lazy(module: &Module, decl: &Decl) -> bool {
    if !matches!(
        decl.kind,
        DeclKind::Value | DeclKind::Target | DeclKind::Test
    ) {
        return false;
    }
    let body = decl.to_tell().body;
    body.is_some_and(|b| {
        matches!(
            module.expr(b),
            Expr::Map(_) | Expr::Each(Each { key: Some(_), .. })
        )
    })
}
