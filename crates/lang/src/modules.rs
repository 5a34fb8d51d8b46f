//! Loading definition files, and finding what names from other files mean.

use rustc_hash::{FxHashMap, FxHashSet};
use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::{Diagnostic, nearest};
use nubrik_source::{Sources, Span, TextId, WsPath};
use nubrik_syntax::parse;
use nubrik_wording::some_of;

use crate::address::WithinPattern;
use crate::hir::*;
use crate::lower::{Location, lower};
use crate::renamed::meant;
use crate::reported::{Reported, report, reported_before};
use crate::world::{Answer, DefinitionText, EntryKind, KitPlace, World};
use crate::{TARGETS_FILE, WORKSPACE_FILE};

/// Why a module is not there.
pub(crate) enum Missing {
    /// The file does not exist.
    NoFile,
    /// It cannot be read.
    Unreadable(String),
    /// It is not known yet.
    Pending,
}

/// The definition files loaded so far.
#[derive(Default)]
pub(crate) struct Modules {
    pub sources: Sources,
    pub modules: Vec<Rc<Module>>,
    by_title: FxHashMap<Arc<str>, ModuleId>,
    /// What each `use` led to.
    uses: FxHashMap<(ModuleId, u32), Result<ModuleId, ()>>,
    /// What was wrong with each module's text: reported once something in the module is used. A
    /// file that was only looked into for a name holds nothing up.
    found_in: Vec<Vec<Diagnostic>>,
    /// Folders that are known to belong to this workspace.
    inside: FxHashSet<WsPath>,
    /// Workspace files that were read.
    pub read: Vec<WsPath>,
    pub diagnostics: Vec<Diagnostic>,
}

impl Modules {
    pub fn get(&self, id: ModuleId) -> &Rc<Module> {
        &self.modules[id.index()]
    }

    /// The module that a file was read as.
    pub fn of_file(&self, file: TextId) -> Option<&Rc<Module>> {
        self.modules.iter().find(|module| module.file == file)
    }

    /// Loads the package in a folder.
    pub fn package(&mut self, world: &dyn World, folder: &WsPath) -> Result<ModuleId, Missing> {
        match self.other_workspace(world, folder) {
            Answer::Pending => return Err(Missing::Pending),
            Answer::Ready(Some(_)) => return Err(Missing::NoFile),
            Answer::Ready(None) => {}
        }
        self.workspace_file(world, &folder.child(TARGETS_FILE))
    }

    /// Takes note that a folder belongs to this workspace.
    pub fn belongs(&mut self, folder: &WsPath) {
        self.inside.insert(folder.clone());
    }

    /// The root of the other workspace that a folder belongs to, if it does.
    pub fn other_workspace(
        &mut self,
        world: &dyn World,
        folder: &WsPath,
    ) -> Answer<Option<WsPath>> {
        let mut unknown = Vec::new();
        let mut at = Some(folder.clone());
        while let Some(here) = at.filter(|here| !here.is_root() && !self.inside.contains(here)) {
            match world.kind(&here.child(WORKSPACE_FILE)) {
                Answer::Pending => return Answer::Pending,
                Answer::Ready(Some(EntryKind::File)) => return Answer::Ready(Some(here)),
                Answer::Ready(_) => {}
            }
            at = here.parent();
            unknown.push(here);
        }
        self.inside.extend(unknown);
        Answer::Ready(None)
    }

    /// Loads a definition file of the workspace.
    pub fn workspace_file(
        &mut self,
        world: &dyn World,
        path: &WsPath,
    ) -> Result<ModuleId, Missing> {
        if let Some(id) = self.by_title.get(path.as_str()) {
            return Ok(*id);
        }
        match world.definition(path) {
            Answer::Pending => Err(Missing::Pending),
            Answer::Ready(DefinitionText::Missing) => Err(Missing::NoFile),
            Answer::Ready(DefinitionText::Unreadable(why)) => Err(Missing::Unreadable(why)),
            Answer::Ready(DefinitionText::Text(text)) => {
                self.read.push(path.clone());
                Ok(self.add(
                    path.as_str(),
                    &text,
                    path.parent(),
                    path.name() == TARGETS_FILE,
                ))
            }
        }
    }

    fn add(
        &mut self,
        title: &str,
        text: &Arc<str>,
        folder: Option<WsPath>,
        is_package: bool,
    ) -> ModuleId {
        let file = self.sources.add(title, text.clone());
        let parsed = parse(file, text);
        let title: Arc<str> = title.into();
        let location = Location {
            file,
            folder,
            is_package,
            title: title.clone(),
        };
        let (module, mut diagnostics) = lower(&parsed.tree, location);
        // What lowering finds in a text that could not be parsed is often the same mistake again.
        let broken: Vec<u32> = parsed
            .diagnostics
            .iter()
            .filter_map(|d| d.span.map(|s| self.sources.line(s)))
            .collect();
        diagnostics.retain(|d| {
            d.span
                .is_none_or(|s| !broken.contains(&self.sources.line(s)))
        });
        let id = ModuleId(self.modules.len() as u32);
        self.found_in
            .push(parsed.diagnostics.into_iter().chain(diagnostics).collect());
        self.modules.push(Rc::new(module));
        self.by_title.insert(title, id);
        id
    }

    /// The module that a `use` leads to; reports once when there is none.
    pub fn used(
        &mut self,
        world: &dyn World,
        from: ModuleId,
        number: u32,
    ) -> Result<ModuleId, Missing> {
        if let Some(known) = self.uses.get(&(from, number)) {
            return known.map_err(|()| Missing::NoFile);
        }
        let module = self.get(from).clone();
        let kit = &module.uses[number as usize];
        let result = match self.kit(world, &module, kit) {
            Ok(id) => Ok(id),
            Err(None) => return Err(Missing::Pending),
            Err(Some(diagnostic)) => {
                self.diagnostics.push(diagnostic.at(kit.path_span));
                Err(())
            }
        };
        self.uses.insert((from, number), result);
        result.map_err(|()| Missing::NoFile)
    }

    fn kit(
        &mut self,
        world: &dyn World,
        module: &Module,
        kit: &Use,
    ) -> Result<ModuleId, Option<Diagnostic>> {
        if let Some(name) = kit.path.strip_prefix("nub:") {
            return self.kit_of_program(world, &kit.path, name).map_err(Some);
        }
        if let Some((archive, file)) = kit.path.split_once(':') {
            return self.archived_kit(world, archive, file);
        }
        let base = match (
            &module.folder,
            kit.path.starts_with('/') || kit.path.starts_with("./") || kit.path.starts_with("../"),
        ) {
            (Some(folder), true) => folder.clone(),
            _ => {
                let error = Diagnostic::error(
                    "unknown-kit",
                    format!("`{}` is not the path of a kit", kit.path),
                );
                return Err(Some(
                    error
                        .mend(format!("\"/{}\" from the workspace's root", kit.path))
                        .mend(format!("\"./{}\" from this folder", kit.path)),
                ));
            }
        };
        let path = base
            .resolve(&kit.path)
            .map_err(|p| Some(Diagnostic::error("bad-path", p.to_string())))?;
        if path.name() == TARGETS_FILE {
            let error = Diagnostic::error("unknown-kit", "a package is not a kit");
            let address = path.parent().unwrap_or_else(WsPath::root);
            return Err(Some(
                error.mend(format!("&{address}/name refers to one of its targets")),
            ));
        }
        match self.workspace_file(world, &path) {
            Err(Missing::NoFile) => {
                let folder = path.parent().unwrap_or_else(WsPath::root);
                let near = match world.list(&folder) {
                    Answer::Ready(listing) => {
                        let kits = listing
                            .files
                            .iter()
                            .map(|f| &**f)
                            .filter(|f| f.ends_with(".nub"));
                        nearest(path.name(), kits)
                            .map(|n| format!("\"/{}\"", folder.child(n).as_str()))
                    }
                    Answer::Pending => None,
                };
                Err(Some(
                    Diagnostic::error("unknown-kit", format!("there is no kit `{path}`"))
                        .maybe_mend(near),
                ))
            }
            other => other.map_err(|missing| told(missing, &path)),
        }
    }

    /// A kit that ships with the program: `"nub:c"` is `c`.
    fn kit_of_program(
        &mut self,
        world: &dyn World,
        path: &Arc<str>,
        name: &str,
    ) -> Result<ModuleId, Diagnostic> {
        if let Some(id) = self.by_title.get(path) {
            return Ok(*id);
        }
        let Some(text) = world.shipped_kit(name) else {
            let known = world.shipped_kits();
            let near = nearest(name, known.iter().copied()).map(|n| format!("\"nub:{n}\""));
            let known: Vec<String> = known.iter().map(|k| format!("nub:{k}")).collect();
            let message = format!("no kit `{name}` ships with nubrik");
            let error = Diagnostic::error("unknown-kit", message);
            let error = error.note(format!("these do: {}", known.join(", ")));
            return Err(error.maybe_mend(near));
        };
        Ok(self.add(path, &text.into(), None, false))
    }

    /// A kit in an archive that `nubrik.toml` names: `"harbour:charts"` is `charts.nub` in the
    /// archive `harbour`.
    fn archived_kit(
        &mut self,
        world: &dyn World,
        archive: &str,
        file: &str,
    ) -> Result<ModuleId, Option<Diagnostic>> {
        let (folder, kits) = match world.kit_archive(archive) {
            KitPlace::Here(folder, kits) => (folder, kits),
            KitPlace::NotHere(why) => {
                let error = format!("the files of the kit `{archive}` are not here: {why}");
                return Err(Some(
                    Diagnostic::error("unknown-kit", error)
                        .mend("nubrik build   fetches what nubrik.toml names"),
                ));
            }
            KitPlace::Unnamed(known) => return Err(Some(no_archive(archive, file, &known))),
        };
        let name = if file.ends_with(".nub") {
            file.to_owned()
        } else {
            format!("{file}.nub")
        };
        let path = folder
            .resolve(&name)
            .map_err(|p| Some(Diagnostic::error("bad-path", p.to_string())))?;
        if !path.is_in(&folder) || path.name() == TARGETS_FILE {
            let error = format!("`{file}` is not the name of a kit in an archive");
            return Err(Some(Diagnostic::error("unknown-kit", error)));
        }
        match self.workspace_file(world, &path) {
            Err(Missing::NoFile) => {
                let kits: Vec<&str> = kits
                    .iter()
                    .filter_map(|kit| kit.strip_suffix(".nub"))
                    .collect();
                let error = Diagnostic::error(
                    "unknown-kit",
                    format!("the kit `{archive}` has no `{name}`"),
                );
                let near =
                    nearest(file, kits.iter().copied()).map(|n| format!("\"{archive}:{n}\""));
                Err(Some(
                    error
                        .note(format!("it has: {}", kits.join(", ")))
                        .maybe_mend(near),
                ))
            }
            other => other.map_err(|missing| told(missing, &path)),
        }
    }

    /// A name of a kit, as `kit.name` or from `use { name }`: its declaration.
    pub fn member(&self, from: ModuleId, kit: ModuleId, name: &Name) -> Result<u32, Diagnostic> {
        let module = self.get(kit).clone();
        match module.names.get(&name.text) {
            Some(Bound::Decl(number)) => {
                let decl = &module.decls[*number as usize];
                match self.refusal(from, kit, decl, &name.text) {
                    Some(error) => Err(error),
                    None => Ok(*number),
                }
            }
            _ => {
                let open = module
                    .decls
                    .iter()
                    .filter(|d| self.refusal(from, kit, d, "").is_none());
                let near =
                    meant(&name.text, open.clone().map(|d| &*d.name.text)).map(str::to_owned);
                let all = listed(open).into_iter().map(|d| &*d.name.text);
                let error = Diagnostic::error(
                    "unknown-name",
                    format!("`{}` has no `{}`", module.title, name.text),
                );
                Err(error
                    .note(format!("it has: {}", some_of(all)))
                    .maybe_mend(near))
            }
        }
    }

    /// Why a declaration may not be used from a module, if so.
    pub fn refusal(
        &self,
        from: ModuleId,
        home: ModuleId,
        decl: &Decl,
        written: &str,
    ) -> Option<Diagnostic> {
        let (user, owner) = (self.get(from), self.get(home));
        if from == home || self.same_package(user, owner) {
            return None;
        }
        if decl.private {
            let what = match &owner.folder {
                // Nobody can open it there.
                None => {
                    let error = format!("`{written}` is private to `{}`", owner.title);
                    return Some(
                        Diagnostic::error("private", error)
                            .related(decl.name.span, "declared here"),
                    );
                }
                Some(_) if self.package_of(owner).is_some() => "its package",
                Some(_) => "its kit",
            };
            let error = Diagnostic::error("private", format!("`{written}` is private to {what}"))
                .related(decl.name.span, "declared here")
                .note(format!(
                    "only `{}` may use it",
                    self.package_of(owner).unwrap_or(owner.title.to_string())
                ));
            return Some(
                error
                    .mend("drop `private` there")
                    .mend("`within \"/…\"` there opens it to a part of the workspace"),
            );
        }
        if decl.within.is_empty() {
            return None;
        }
        let package = user.folder.clone().unwrap_or_else(WsPath::root);
        let is_open = |(pattern, _): &(Arc<str>, Span)| WithinPattern::holds(pattern, &package);
        if decl.within.iter().any(is_open) {
            return None;
        }
        Some(not_open(decl, written, &package))
    }

    /// The package that a definition file lies in directly, where its folder is one that was
    /// loaded.
    fn package_of(&self, module: &Module) -> Option<String> {
        let folder = module.folder.as_ref()?;
        let file = folder.child(TARGETS_FILE);
        self.by_title
            .contains_key(file.as_str())
            .then(|| file.as_str().to_owned())
    }

    fn same_package(&self, a: &Module, b: &Module) -> bool {
        a.folder.is_some() && a.folder == b.folder && self.package_of(a).is_some()
    }

    /// Takes note that something in a module is used.
    pub fn entered(&mut self, id: ModuleId) {
        self.diagnostics.append(&mut self.found_in[id.index()]);
    }

    /// Takes note that a name was found nowhere: any mistake in the files looked into may be why.
    pub fn entered_all(&mut self) {
        for list in &mut self.found_in {
            self.diagnostics.append(list);
        }
    }

    /// Whether the syntax is wrong in some text: then what seems to be missing there may only be
    /// not understood.
    pub fn is_misread(&self, span: Span) -> bool {
        let inside = |s: Span| s.file == span.file && s.start >= span.start && s.start <= span.end;
        self.diagnostics
            .iter()
            .any(|d| d.code == "syntax" && d.span.is_some_and(inside))
    }

    /// Reports something at a place.
    pub fn report(&mut self, span: Span, diagnostic: Diagnostic) -> Reported {
        report(&mut self.diagnostics, diagnostic.at(span))
    }

    /// Reports something that has no place.
    pub fn report_whole(&mut self, diagnostic: Diagnostic) -> Reported {
        report(&mut self.diagnostics, diagnostic)
    }

    /// For a caller that meets something at a place that cannot be unless an error was reported
    /// before.
    pub fn reported_before(&mut self, span: Span) -> Reported {
        reported_before(&mut self.diagnostics, span)
    }
}

/// The error about an archive of kits that `nubrik.toml` does not name.
fn no_archive(archive: &str, file: &str, known: &[String]) -> Diagnostic {
    let message = format!("no kit is called `{archive}`");
    let error = Diagnostic::error("unknown-kit", message);
    let near = nearest(archive, known.iter().map(String::as_str).chain(["nub"]));
    let error = error.mend(match near {
        Some(near) => format!("\"{near}:{file}\""),
        None => {
            format!("[kits.{archive}] in nubrik.toml names an archive with its url and digest")
        }
    });
    if known.is_empty() {
        return error;
    }
    error.note(format!("nubrik.toml names these: {}", known.join(", ")))
}

/// The error about a declaration that is open within other folders only.
fn not_open(decl: &Decl, written: &str, package: &WsPath) -> Diagnostic {
    let patterns = decl.within.iter();
    let open: Vec<String> = patterns
        .map(|(pattern, _)| format!("\"/{pattern}\""))
        .collect();
    let open = open.join(", ");
    let message = format!("`{written}` may not be used from here");
    let here = match package.is_root() {
        true => "",
        false => package.as_str(),
    };
    Diagnostic::error("private", message)
        .related(decl.within[0].1, format!("it is open within {open} only"))
        .mend(format!("within {open}, \"/{here}\" there"))
}

/// What is said of a kit that is there and cannot be had now; nothing while its text is being
/// looked for.
fn told(missing: Missing, path: &WsPath) -> Option<Diagnostic> {
    match missing {
        Missing::Pending => None,
        Missing::NoFile => Some(Diagnostic::error(
            "unknown-kit",
            format!("there is no kit `{path}`"),
        )),
        Missing::Unreadable(why) => Some(Diagnostic::error(
            "unreadable",
            format!("cannot read `{path}`: {why}"),
        )),
    }
}
/// The declarations of a kit that lists show: those that are documented, or all of a kit that
/// documents none. Another kit can use a helper without documentation, but its author does not
/// offer it.
pub(crate) fn listed<'d>(decls: impl Iterator<Item = &'d Decl> + Clone) -> Vec<&'d Decl> {
    let documented: Vec<&Decl> = decls
        .clone()
        .filter(|decl| !decl.documentation.is_empty())
        .collect();
    if documented.is_empty() {
        decls.collect()
    } else {
        documented
    }
}
