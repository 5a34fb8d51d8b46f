//! Options: which values they have where, which of them a value has reached, and `under`.
//!
//! A choice of options is called a config. A value remembers which options it reached and what they
//! were set to: under any other config in which these are set alike it is the same value, and its
//! steps are in the same folders. Options that were reached but not set leave no trace in names.

use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::{Diagnostic, nearest};
use nubrik_source::{Span, WsPath};

use super::chosen::{Config, ConfigId, DEFAULTS, OptionId, PROBE, ROOT, SetOption, Setting};
use super::option_values::{example_value, may_be_chosen, setting_value, shown, written};
use super::reads::Reads;
use super::roots::ROOT_NAME;
use super::{Evaluator, Result, Scope};
use crate::hir::*;
use crate::types::Type;
use crate::value::*;

/// How many expressions each option in a new choice of options counts as: a choice is kept, and so
/// is what it leads to.
const WORK_OF_OPTION: u64 = 64;

/// An option as it was declared, for people.
#[derive(Clone, PartialEq, Debug)]
pub struct OptionInfo {
    /// The shortest name that only it has.
    pub name: String,
    /// The kit or package that it lives in, and its name: `kit/flags.mode`.
    pub full_name: String,
    /// Its type as written.
    pub ty: String,
    /// Its default, written; `None` where it is wrong.
    pub default: Option<String>,
    /// Its value in this run.
    pub value: Option<String>,
    /// Its documentation.
    pub documentation: Arc<str>,
    /// Where it was declared: file and line.
    pub place: nubrik_graph::Place,
    /// Addresses of the targets that reached it.
    pub readers: Vec<Arc<str>>,
}

impl Evaluator<'_> {
    /// Takes note that the value being evaluated reached an option.
    pub(super) fn note_read(&mut self, option: OptionId, set: Option<Arc<str>>) {
        if let Some(frame) = self.choices.frames.last_mut() {
            frame.add(option, set);
        }
    }

    /// Takes note that the value being evaluated reached the answer of a probe.
    pub(super) fn note_probe(&mut self) {
        self.note_read(PROBE, None);
    }

    pub(super) fn note_reads(&mut self, reads: &Reads) {
        if let Some(frame) = self.choices.frames.last_mut()
            && !reads.is_empty()
        {
            frame.add_all(reads);
        }
    }

    /// The number of a config with these options set.
    pub(super) fn config(&mut self, config: Config) -> ConfigId {
        let key: Vec<(OptionId, Arc<str>)> = config
            .set
            .iter()
            .map(|(option, set)| (*option, set.written.clone()))
            .collect();
        if let Some(id) = self.choices.config_ids.get(&key) {
            return *id;
        }
        let id = ConfigId(self.choices.configs.len() as u32);
        self.choices.configs.push(config);
        self.choices.config_ids.insert(key, id);
        id
    }

    /// Sets an option in a config; a value that is the default anyway leaves it unset.
    fn set_option(
        &mut self,
        config: &mut Config,
        option: OptionId,
        value: Value,
        span: Span,
    ) -> Result<()> {
        let written: Arc<str> = written(&value).into();
        self.choices.frames.push(Reads::default());
        let default = self.declaration(option, DEFAULTS, span);
        let depends = self
            .choices
            .frames
            .pop()
            .is_some_and(|reads| reads.iter().any(|(o, _)| *o != option));
        if !depends && super::option_values::written(&default?) == *written {
            config.set.remove(&option);
        } else {
            config.set.insert(option, SetOption { value, written });
        }
        Ok(())
    }

    /// `base under { … }`, or `under defaults` without choices.
    pub(super) fn under(
        &mut self,
        scope: &Scope,
        base: ExprId,
        choices: Option<&[OptionChoice]>,
    ) -> Result<Value> {
        let mut changed = BTreeSet::new();
        let config = match choices {
            None => DEFAULTS,
            Some(choices) => {
                let mut config = self.choices.configs[scope.config.index()].clone();
                let size = (config.set.len() + choices.len()) as u64;
                self.count(size * WORK_OF_OPTION, self.module(scope.module).span(base))?;
                for choice in choices {
                    if self.means_root(scope.module, &choice.option) {
                        let span = self.module(scope.module).span(choice.value);
                        let value = self.eval(scope, choice.value)?;
                        self.set_root_under(&mut config, &value, span)?;
                        changed.insert(ROOT);
                        continue;
                    }
                    let option = self.chosen_option(scope.module, &choice.option)?;
                    let span = self.module(scope.module).span(choice.value);
                    let value = self.eval(scope, choice.value)?;
                    let ty = self.option_type(option)?;
                    let value = self.coerce_named(value, &ty, scope.module, span, option)?;
                    self.set_option(&mut config, option, value, span)?;
                    changed.insert(option);
                }
                self.config(config)
            }
        };
        let outer = self.choices.frames.last().cloned().unwrap_or_default();
        self.choices.frames.push(outer);
        let result = self.eval(
            &Scope {
                config,
                ..scope.clone()
            },
            base,
        );
        let reads = self.choices.frames.pop().unwrap_or_default();
        if choices.is_some() {
            for (option, set) in reads.iter() {
                if !changed.contains(option) {
                    self.note_read(*option, set.clone());
                }
            }
        }
        result
    }

    fn coerce_named(
        &mut self,
        value: Value,
        ty: &Type,
        base: ModuleId,
        span: Span,
        option: OptionId,
    ) -> Result<Value> {
        let before = self.definitions.modules.diagnostics.len();
        let result = self.coerce(value, ty, base, span);
        let module = self.module(option.module);
        let decl = module.decl(option);
        for diagnostic in &mut self.definitions.modules.diagnostics[before..] {
            let message = format!(
                "the option `{}` was declared as {} here",
                decl.name.text,
                ty.written()
            );
            *diagnostic = diagnostic.clone().related(decl.name.span, message);
        }
        result
    }

    /// Whether a name means the image that steps run in: no declaration in reach has it.
    fn means_root(&self, from: ModuleId, name: &OptionName) -> bool {
        name.kit.is_none()
            && *name.name.text == *ROOT_NAME
            && !self.module(from).names.contains_key(&name.name.text)
    }

    fn chosen_option(&mut self, from: ModuleId, name: &OptionName) -> Result<OptionId> {
        let id = match name.kit {
            Some(kit) => self.member(from, kit, &name.name)?,
            None => match self.module(from).names.get(&name.name.text) {
                Some(Bound::Decl(number)) => DeclId::new(from, *number),
                _ => return self.failed_before(name.name.span),
            },
        };
        let owner = self.module(id.module);
        let decl = owner.decl(id);
        if decl.kind != DeclKind::Option {
            let message = format!(
                "`{}` is a {}, not an option",
                name.name.text,
                decl.kind.word()
            );
            let error =
                Diagnostic::error("wrong-type", message).related(decl.name.span, "declared here");
            return self.fail(name.name.span, error);
        }
        Ok(id)
    }

    /// The declared type of an option; reports one that no option may have.
    pub(super) fn option_type(&mut self, option: OptionId) -> Result<Type> {
        let taken = self.take_from(option);
        let module = self.module(option.module);
        let decl = module.decl(option);
        let Some(ty) = &decl.content(taken).ty else {
            return self.failed_before(decl.name.span);
        };
        let ty = self.in_unit(option, |this| this.resolve_type(option.module, ty))?;
        if may_be_chosen(&ty) {
            return Ok(ty);
        }
        if self.choices.bad_options.insert(option) {
            let message = format!("an option cannot be of type {}", ty.written());
            let error = Diagnostic::error("wrong-type", message).note(
                "options are bool, int, text, duration, alternatives, or lists of these, perhaps with `?`",
            );
            return self.fail(decl.name.span, error);
        }
        self.failed_before(decl.name.span)
    }

    /// The folder and the readable name of the variant that is being evaluated; both empty where no
    /// option that was reached is set.
    pub(super) fn variant(&self) -> (String, Arc<str>) {
        let Some(frame) = self.choices.frames.last() else {
            return (String::new(), self.nothing.clone());
        };
        let set: Vec<(OptionId, Arc<str>)> = frame
            .iter()
            .filter_map(|(o, v)| Some((*o, v.clone()?)))
            .collect();
        if set.is_empty() {
            return (String::new(), self.nothing.clone());
        }
        let mut full: Vec<(String, Arc<str>, Arc<str>)> = Vec::new();
        let mut short: Vec<String> = Vec::new();
        for (option, written) in set {
            if option == ROOT {
                short.push(format!("{ROOT_NAME}={written}"));
                full.push(("nubrik".to_owned(), ROOT_NAME.into(), written));
                continue;
            }
            let module = self.module(option.module);
            let name = module.decl(option).name.text.clone();
            short.push(format!("{name}={written}"));
            full.push((home_of(&module), name, written));
        }
        short.sort();
        let options = full
            .iter()
            .map(|(home, name, written)| (&**home, &**name, &**written));
        let folder = nubrik_graph::variant_folder(options, |name| {
            blake3::hash(name.as_bytes()).to_hex()[..24].to_owned()
        });
        (folder, short.join(", ").into())
    }

    // Settings from outside.

    /// Sets options for everything that is asked for. Reports settings that mean nothing.
    pub(super) fn apply_settings(&mut self, settings: &[Setting]) {
        if settings.is_empty() {
            return;
        }
        let config = self.config_of(settings);
        self.choices.chosen = self.config(config);
    }

    /// What settings mean. Reports those that mean nothing.
    pub(super) fn config_of(&mut self, settings: &[Setting]) -> Config {
        self.load_everything();
        let mut config = Config::default();
        // What is said of one option wins over what is said of all of a name.
        for setting in settings.iter().filter(|setting| setting.of_all().is_some()) {
            if let Err(error) = self.set_all(&mut config, setting) {
                self.definitions.modules.diagnostics.push(error);
            }
        }
        for setting in settings.iter().filter(|setting| setting.of_all().is_none()) {
            let option = match self.find_option(setting) {
                Ok(option) => option,
                Err(_) if setting.name == ROOT_NAME => {
                    // Its problem is reported where it is found.
                    let _ = self.set_root_by(&mut config, setting);
                    continue;
                }
                Err(error) => {
                    self.definitions.modules.diagnostics.push(error);
                    continue;
                }
            };
            let Ok(ty) = self.option_type(option) else {
                continue;
            };
            let module = self.module(option.module);
            let decl = module.decl(option);
            match setting_value(&setting.value, &ty) {
                Ok(value) => drop(self.set_option(&mut config, option, value, decl.name.span)),
                Err(problem) => {
                    let message = format!(
                        "{} for the option `{}` ({})",
                        problem, setting.name, setting.origin
                    );
                    let error = Diagnostic::error("option-value", message);
                    let example = example_value(&ty, &setting.value);
                    let error =
                        error.maybe_mend(example.map(|(value, written)| match &*setting.origin {
                            "--set" => format!("--set {}={value}", setting.name),
                            _ => format!("{} = {written}", setting.name),
                        }));
                    self.definitions
                        .modules
                        .diagnostics
                        .push(error.related(decl.name.span, "declared here"));
                }
            }
        }
        config
    }

    /// Sets each option of a name that can have the value: `*.coverage`.
    fn set_all(
        &mut self,
        config: &mut Config,
        setting: &Setting,
    ) -> std::result::Result<(), Diagnostic> {
        let name = setting.of_all().unwrap_or_default();
        let mut fits = false;
        for option in self.options() {
            let span = {
                let owner = self.module(option.module);
                let declared = &owner.decl(option).name;
                if *declared.text != *name {
                    continue;
                }
                declared.span
            };
            let Ok(ty) = self.option_type(option) else {
                continue;
            };
            if let Ok(value) = setting_value(&setting.value, &ty) {
                fits |= self.set_option(config, option, value, span).is_ok();
            }
        }
        if fits {
            return Ok(());
        }
        let message = format!(
            "no kit or package here has an option `{name}` that can be so ({})",
            setting.origin
        );
        let error = Diagnostic::error("unknown-option", message);
        Err(error
            .mend("`nubrik options` shows what can be set")
            .mend(format!("option {name}: bool = false")))
    }

    /// Loads every package and every kit that one of them uses.
    pub(super) fn load_everything(&mut self) {
        let packages = self.packages_below(&WsPath::root()).unwrap_or_default();
        for folder in &packages {
            let _ = self.definitions.modules.package(self.world, folder);
        }
        let mut at = 0;
        while at < self.definitions.modules.modules.len() {
            let id = ModuleId(at as u32);
            for number in 0..self.module(id).uses.len() as u32 {
                let _ = self.definitions.modules.used(self.world, id, number);
            }
            at += 1;
        }
    }

    /// All options of the modules loaded so far.
    fn options(&self) -> Vec<OptionId> {
        let modules = self.definitions.modules.modules.iter().enumerate();
        let of = |(m, module): (usize, &Rc<Module>)| {
            let options = module
                .decls
                .iter()
                .enumerate()
                .filter(|(_, d)| d.kind == DeclKind::Option);
            options
                .map(|(n, _)| DeclId::new(ModuleId(m as u32), n as u32))
                .collect::<Vec<_>>()
        };
        modules.flat_map(of).collect()
    }

    fn full_name(&self, option: OptionId) -> String {
        let module = self.definitions.modules.get(option.module);
        format!("{}.{}", home_of(module), module.decl(option).name.text)
    }

    fn find_option(&self, setting: &Setting) -> std::result::Result<OptionId, Diagnostic> {
        let all = self.options();
        let fits: Vec<OptionId> = all
            .iter()
            .copied()
            .filter(|o| name_fits(&self.full_name(*o), &setting.name))
            .collect();
        match fits.as_slice() {
            [option] => Ok(*option),
            [] => {
                let message = format!(
                    "no option is called `{}` ({})",
                    setting.name, setting.origin
                );
                let names: Vec<String> = all.iter().map(|o| self.short_name(*o, &all)).collect();
                let near =
                    nearest(&setting.name, names.iter().map(String::as_str)).map(str::to_owned);
                let error = Diagnostic::error("unknown-option", message);
                Err(match names.is_empty() {
                    true => error.note("these definitions declare no options"),
                    false => error
                        .maybe_mend(near)
                        .mend("`nubrik options` shows what can be set"),
                })
            }
            several => {
                let message = format!(
                    "`{}` means several options ({})",
                    setting.name, setting.origin
                );
                let error = Diagnostic::error("two-meanings", message);
                Err(several
                    .iter()
                    .fold(error, |e, o| e.mend(self.short_name(*o, &all))))
            }
        }
    }

    /// The shortest name that only this option has.
    fn short_name(&self, option: OptionId, all: &[OptionId]) -> String {
        let full = self.full_name(option);
        let (home, name) = full.rsplit_once('.').unwrap_or(("", &full));
        let parts: Vec<&str> = home.split('/').collect();
        let candidates = std::iter::once(name.to_owned()).chain(
            (0..parts.len())
                .rev()
                .map(|i| format!("{}.{name}", parts[i..].join("/"))),
        );
        let only = |c: &String| {
            all.iter()
                .filter(|o| name_fits(&self.full_name(**o), c))
                .count()
                == 1
        };
        candidates.clone().find(only).unwrap_or(full.clone())
    }

    /// What there is to choose, with who reached it in this run.
    pub(super) fn option_infos(&mut self) -> Vec<OptionInfo> {
        self.load_everything();
        let all = self.options();
        let mut readers: BTreeMap<OptionId, BTreeSet<Arc<str>>> = BTreeMap::new();
        for (target, reads) in &self.choices.target_reads {
            let target = &self.drafting.graph.targets[target.index()];
            if target.is_declared() {
                for (option, _) in reads.iter() {
                    readers
                        .entry(*option)
                        .or_default()
                        .insert(target.address.clone());
                }
            }
        }
        let chosen = self.choices.chosen;
        let mut infos: Vec<OptionInfo> = Vec::new();
        for option in &all {
            let module = self.module(option.module);
            let decl = module.decl(*option);
            let span = decl.name.span;
            let ty = self
                .option_type(*option)
                .map_or("?".to_owned(), |t| t.core().written());
            let default = self.declaration(*option, DEFAULTS, span).ok();
            let value = self.declaration(*option, chosen, span).ok();
            infos.push(OptionInfo {
                name: self.short_name(*option, &all),
                full_name: self.full_name(*option),
                ty,
                default: default.map(|v| shown(&v)),
                value: value.map(|v| shown(&v)),
                documentation: decl.documentation.clone(),
                place: self.place(span),
                readers: readers.remove(option).into_iter().flatten().collect(),
            });
        }
        infos.sort_by(|a, b| a.full_name.cmp(&b.full_name));
        infos
    }
}

/// The kit or package that a module's options are named after: `c`, `kit/flags`, `tide`.
fn home_of(module: &Module) -> String {
    match &module.folder {
        Some(folder) if module.is_package && folder.is_root() => "workspace".to_owned(),
        Some(folder) if module.is_package => folder.as_str().to_owned(),
        _ => module
            .title
            .trim_start_matches("nub:")
            .trim_end_matches(".nub")
            .to_owned(),
    }
}

/// Whether a name is an option's full name or an end of it: `mode`, `flags.mode`, `kit/flags.mode`.
fn name_fits(full: &str, name: &str) -> bool {
    let Some(rest) = full.strip_suffix(name) else {
        return false;
    };
    match name.contains('.') {
        true => rest.is_empty() || rest.ends_with('/'),
        false => rest.ends_with('.'),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_fit_from_the_end() {
        for (name, fits) in [
            ("mode", true),
            ("flags.mode", true),
            ("kit/flags.mode", true),
            ("ode", false),
            ("lags.mode", false),
        ] {
            assert_eq!(name_fits("kit/flags.mode", name), fits, "{name}");
        }
    }
}
