//! From addresses to values: `&base/clock` in definitions, words on a command line.

use std::sync::Arc;

use nubrik_diagnostic::{Diagnostic, nearest};
use nubrik_source::{Span, WsPath};
use nubrik_wording::some_of;

use super::{Evaluator, Result, Scope};
use crate::TARGETS_FILE;
use crate::hir::*;
use crate::modules::Missing;
use crate::value::*;
use crate::world::{Answer, EntryKind};

/// What an address means: a declaration, and the way on into its value.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) struct Meaning {
    pub decl: DeclId,
    pub way: Vec<Arc<str>>,
}

impl Evaluator<'_> {
    /// The value that `&path` refers to.
    pub(super) fn reference(
        &mut self,
        scope: &Scope,
        path: &Arc<str>,
        span: Span,
    ) -> Result<Value> {
        let meaning = self.find_reference(scope.module, path, span)?;
        let value = self.declaration(meaning.decl, scope.config, span)?;
        self.way_into(value, &meaning.way, span)
    }

    /// The declaration that `&path` means, seen from a module.
    pub(super) fn find_reference(
        &mut self,
        from: ModuleId,
        path: &Arc<str>,
        span: Span,
    ) -> Result<Meaning> {
        let path = WsPath::root()
            .resolve(path)
            .map_err(|p| Diagnostic::error("bad-path", p.to_string()));
        let path = self.at(span, path)?;
        let mut meanings = self.meanings(&path)?;
        if meanings.len() > 1 {
            let error = Diagnostic::error("two-meanings", format!("`&{path}` means two things"));
            let error = meanings.iter().fold(error, |error, m| {
                let module = self.module(m.decl.module);
                error.related(module.decl(m.decl).name.span, "one of them")
            });
            return self.fail(
                span,
                error.mend("write the whole path: package, target, then the way into it"),
            );
        }
        let Some(meaning) = meanings.pop() else {
            let mut error = self.no_such_address(&path);
            for mend in error.mends.iter_mut().filter(|mend| !mend.contains(' ')) {
                *mend = format!("&{mend}");
            }
            return self.fail(span, error);
        };
        let module = self.module(meaning.decl.module);
        let decl = module.decl(meaning.decl);
        if let Some(error) =
            self.definitions
                .modules
                .refusal(from, meaning.decl.module, decl, path.as_str())
        {
            return self.fail(span, error);
        }
        use DeclKind::{Job, Service, Target, Test, Value};
        if !matches!(decl.kind, Target | Value | Test | Job | Service) {
            let message = format!("`{path}` is a {}, which belongs in a kit", decl.kind.word());
            let error =
                Diagnostic::error("wrong-type", message).related(decl.name.span, "declared here");
            return self.fail(span, error.mend("move it to a kit and `use` it from there"));
        }
        Ok(meaning)
    }

    /// Everything that an address may mean: each package on its way that has the target named next,
    /// or (for the folder alone) a target of the folder's own name.
    pub(super) fn meanings(&mut self, path: &WsPath) -> Result<Vec<Meaning>> {
        let parts: Vec<Arc<str>> = path.parts().map(Into::into).collect();
        let mut meanings = Vec::new();
        for count in 0..=parts.len() {
            let folder = WsPath::from_normal(&parts[..count].join("/"));
            let module = match self.definitions.modules.package(self.world, &folder) {
                Ok(module) => module,
                Err(Missing::Pending) => return self.wait(),
                Err(_) => continue,
            };
            let named = |name: &Arc<str>| match self.module(module).names.get(name) {
                Some(Bound::Decl(number)) => Some(DeclId::new(module, *number)),
                _ => None,
            };
            if let Some(decl) = parts.get(count).and_then(named) {
                meanings.push(Meaning {
                    decl,
                    way: parts[count + 1..].to_vec(),
                });
            } else if count == parts.len()
                && let Some(decl) = parts.last().and_then(named)
            {
                meanings.push(Meaning {
                    decl,
                    way: Vec::new(),
                });
            } else if let Some(name) = parts.get(count).or(parts.last()) {
                self.miss(module, name);
            }
        }
        Ok(meanings)
    }

    pub(super) fn no_such_address(&mut self, path: &WsPath) -> Diagnostic {
        self.definitions.modules.entered_all();
        let error = Diagnostic::error("unknown-target", format!("there is no target `{path}`"));
        if let Answer::Ready(Some(root)) =
            self.definitions.modules.other_workspace(self.world, path)
        {
            let file = root.child(crate::WORKSPACE_FILE);
            return error
                .note(format!("`{root}` is a workspace of its own: {file}"))
                .mend(format!("remove {file}, and `{root}` belongs to this one"));
        }
        if path.as_str().contains(':') {
            return error
                .note("a package and its target are joined by `/`")
                .mend(path.as_str().replace(':', "/"));
        }
        let definitions = path.child(crate::TARGETS_FILE);
        if matches!(
            self.world.kind(&definitions),
            Answer::Ready(Some(EntryKind::Folder))
        ) {
            return error
                .note(format!(
                    "`{definitions}` is a folder, and definitions are in a file of that name"
                ))
                .mend(format!("give the folder `{definitions}` another name"));
        }
        // The nearest target of the package that the address leads to, else the nearest package.
        let mut folder = Some(path.clone());
        while let Some(at) = folder {
            if let Ok(module) = self.definitions.modules.package(self.world, &at) {
                let module = self.module(module);
                let rest = path.below(&at).unwrap_or("").to_owned();
                let name = rest.split('/').next().unwrap_or("");
                let targets = module
                    .decls
                    .iter()
                    .filter(|d| d.kind.role() != nubrik_graph::Role::Inner)
                    .map(|d| &*d.name.text);
                let near = nearest(name, targets.clone()).map(|n| at.child(n).as_str().to_owned());
                let all: Vec<&str> = targets.collect();
                let error = if all.is_empty() {
                    error
                } else {
                    error.note(format!("`{at}` has: {}", some_of(all)))
                };
                return match near {
                    None if at.is_root() && path.parts().count() > 1 => {
                        self.near_folder(without_notes(error), path)
                    }
                    None => error.mend("`nubrik list` shows what there is"),
                    near => error.maybe_mend(near),
                };
            }
            folder = at.parent();
        }
        self.near_folder(error, path)
    }

    fn near_folder(&mut self, error: Diagnostic, path: &WsPath) -> Diagnostic {
        let mut at = WsPath::root();
        for part in path.parts() {
            let Answer::Ready(listing) = self.world.list(&at) else {
                break;
            };
            if listing.folders.iter().any(|folder| **folder == *part) {
                at = at.child(part);
                continue;
            }
            let near =
                nearest(part, listing.folders.iter().map(|f| &**f)).map(|near| at.child(near));
            let Some(near) = near else { break };
            let rest =
                &path.as_str()[(at.as_str().len() + usize::from(!at.is_root()) + part.len())..];
            return error.mend(format!("{near}{rest}"));
        }
        error.mend("`nubrik list` shows what there is")
    }

    /// Goes from a declaration's value on into it, by keys, fields and names of outputs.
    pub(super) fn way_into(&mut self, value: Value, way: &[Arc<str>], span: Span) -> Result<Value> {
        let mut value = value;
        let mut at = 0;
        while at < way.len() {
            if let Value::Map(map) = &value {
                self.check_keys(map, span)?;
                // Keys may hold slashes: the longest one that fits.
                let fits = (at + 1..=way.len()).rev().find_map(|end| {
                    map.index
                        .get(way[at..end].join("/").as_str())
                        .map(|i| (end, map.entries[*i].1.clone()))
                });
                if let Some((end, thunk)) = fits {
                    self.check_part(&way[at..end].join("/"), span)?;
                    value = self.force(&thunk, span)?;
                    at = end;
                    continue;
                }
            }
            let next = match &value {
                Value::Record(record) => record.get(&way[at]).cloned(),
                Value::Step(step) => {
                    let outputs = self.drafting.outputs.of(*step);
                    let named = outputs.iter().find(|(n, _)| n.as_ref() == Some(&way[at]));
                    named.map(|(_, file)| Value::File(file.clone()))
                }
                _ => None,
            };
            let Some(next) = next else {
                let names: Vec<Arc<str>> = match &value {
                    Value::Map(map) => map.entries.iter().map(|(k, _)| k.clone()).collect(),
                    Value::Record(record) => record.fields.iter().map(|(n, _)| n.clone()).collect(),
                    Value::Step(step) => self
                        .drafting
                        .outputs
                        .of(*step)
                        .iter()
                        .filter_map(|(n, _)| n.clone())
                        .collect(),
                    _ => Vec::new(),
                };
                let near = nearest(&way[at], names.iter().map(|n| &**n)).map(str::to_owned);
                let message = format!("{} has no `{}`", value.described(), way[at]);
                let mut error = Diagnostic::error("unknown-target", message);
                if !names.is_empty() {
                    error = error.note(format!("it has: {}", some_of(&names)));
                }
                return self.fail(span, error.maybe_mend(near));
            };
            value = next;
            at += 1;
        }
        Ok(value)
    }

    /// The packages at and below a folder, sorted.
    pub(super) fn packages_below(&mut self, folder: &WsPath) -> Result<Vec<WsPath>> {
        let mut packages = Vec::new();
        match self.definitions.modules.other_workspace(self.world, folder) {
            Answer::Pending => return self.wait(),
            Answer::Ready(Some(_)) => return Ok(packages),
            Answer::Ready(None) => {}
        }
        let mut folders = vec![folder.clone()];
        let mut pending = false;
        while let Some(at) = folders.pop() {
            let Answer::Ready(listing) = self.world.list(&at) else {
                pending = true;
                continue;
            };
            // The root of another workspace looks empty.
            if !listing.files.is_empty() || !listing.folders.is_empty() {
                self.definitions.modules.belongs(&at);
            }
            folders.extend(listing.folders.iter().map(|name| at.child(name)));
            if listing.files.iter().any(|f| &**f == TARGETS_FILE) {
                packages.push(at);
            }
        }
        if pending {
            return self.wait();
        }
        packages.sort();
        Ok(packages)
    }

    pub(super) fn is_folder(&self, path: &WsPath) -> bool {
        path.is_root()
            || matches!(
                self.world.kind(path),
                Answer::Ready(Some(EntryKind::Folder))
            )
    }

    /// The package that a folder without packages belongs to: the nearest one above.
    pub(super) fn package_around(&mut self, folder: &WsPath) -> Result<Option<WsPath>> {
        let mut at = folder.parent();
        while let Some(above) = at {
            if self.load_package(&above)?.is_some() {
                return Ok(Some(above));
            }
            at = above.parent();
        }
        Ok(None)
    }

    /// Loads a package; reports when its file cannot be read.
    pub(super) fn load_package(&mut self, folder: &WsPath) -> Result<Option<ModuleId>> {
        match self.definitions.modules.package(self.world, folder) {
            Ok(id) => {
                self.definitions.modules.entered(id);
                Ok(Some(id))
            }
            Err(Missing::NoFile) => Ok(None),
            Err(Missing::Pending) => self.wait(),
            Err(Missing::Unreadable(why)) => {
                let path = folder.child(TARGETS_FILE);
                let error = Diagnostic::error("unreadable", format!("cannot read `{path}`: {why}"));
                self.fail_whole(error)
            }
        }
    }
}

/// The same, without what was noted of another package than the one that was meant.
fn without_notes(error: Diagnostic) -> Diagnostic {
    Diagnostic {
        notes: Vec::new(),
        ..error
    }
}
