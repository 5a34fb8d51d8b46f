//! Evaluation on demand: every declaration, map entry and value in a kind at most once, when it is
//! wanted. What goes wrong is reported where it happens, once; whatever needs it then fails
//! silently.

mod addresses;
mod calls;
mod chosen;
mod coerce;
mod commands;
mod counting;
mod data;
mod declared_types;
mod each;
mod expressions;
mod files;
mod folder_parts;
mod forms;
mod inputs;
mod json;
mod keyed;
mod limits;
mod matching;
mod memo;
mod methods;
mod names;
mod natives;
mod operators;
mod option_values;
mod options;
mod parts;
mod patterns;
mod published;
mod reads;
mod requests;
mod results;
mod roots;
mod selection;
mod services;
mod step_limits;
mod steps;
mod strands;
mod taking;
mod text_methods;
mod told_fields;
mod words;

use std::cell::RefCell;
use std::rc::Rc;
use std::sync::Arc;

use chosen::{ConfigId, DEFAULTS};
use limits::TEXT_LIMIT;
use memo::OpenKey;
use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{FileId, FileNode, Place, StepId, Target, TargetId};
use nubrik_source::{Sources, Span, WsPath};
use parts::{Budget, Choices, Definitions, Demand, Drafting, Memos};
use smallvec::{SmallVec, smallvec};

use crate::hir::*;
use crate::reported::Reported;
use crate::trail::WatchedWorld;
use crate::value::*;
use crate::world::World;

pub(crate) use forms::FORMS;
pub(crate) use reads::Reads;
pub(crate) use roots::ROOT_NAME;
pub(crate) use taking::Taken;

pub use chosen::{Setting, SettingValue};
pub use json::write_json_text;
pub use options::OptionInfo;
pub(crate) use published::check_published_across;

pub use requests::Evaluation;
pub(crate) use requests::Shares;
pub use told_fields::{ToldCall, ToldField, ToldName};

/// Why there is no value.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Stop {
    /// Something was wrong, and it was reported.
    Failed(Reported),
    /// An answer of the world is not there yet.
    Waiting,
}

pub(crate) type Result<T> = std::result::Result<T, Stop>;

/// Where an expression is evaluated: its file, names in scope, and whose value it is part of.
#[derive(Clone, Debug)]
pub(crate) struct Scope {
    pub module: ModuleId,
    pub env: Option<Rc<Env>>,
    pub owner: Rc<Owner>,
    /// Whose name and package `self` gives, in a kind.
    pub this: Option<Rc<Owner>>,
    /// Which options are set.
    pub config: ConfigId,
}

/// One scope's slots, and the scope around it.
#[derive(Debug)]
pub(crate) struct Env {
    pub parent: Option<Rc<Env>>,
    pub slots: RefCell<Vec<Slot>>,
}

#[derive(Clone, Debug)]
pub(crate) enum Slot {
    Value(Value),
    /// A value that rests on the answer of a probe.
    Probed(Value),
    Lazy(Rc<Thunk>),
}

impl Slot {
    fn of(value: Value, probed: bool) -> Slot {
        if probed {
            Slot::Probed(value)
        } else {
            Slot::Value(value)
        }
    }
}

/// Whose value is being evaluated: names of outputs and addresses follow from it.
#[derive(Debug)]
pub(crate) struct Owner {
    /// The declaration, in the graph.
    pub target: TargetId,
    pub package: WsPath,
    /// The declaration's name, then keys and fields on the way into its value.
    pub parts: SmallVec<[Arc<str>; 2]>,
}

/// Evaluates definitions of one workspace.
pub struct Evaluator<'w> {
    world: &'w dyn World,
    /// The same world, where it is to be known what is taken from where.
    watched: Option<&'w WatchedWorld<'w>>,
    /// The empty text, for the many places that begin with it.
    nothing: Arc<str>,
    /// Room in which texts are put together.
    text_room: String,
    definitions: Definitions,
    memos: Memos,
    choices: Choices,
    drafting: Drafting,
    wanted: Demand,
    budget: Budget,
}

impl<'w> Evaluator<'w> {
    /// An evaluator that has loaded nothing yet.
    pub fn new(world: &'w dyn World) -> Self {
        Evaluator {
            world,
            watched: None,
            nothing: "".into(),
            text_room: String::new(),
            definitions: Definitions::default(),
            memos: Memos::default(),
            choices: Choices::default(),
            drafting: Drafting::default(),
            wanted: Demand::default(),
            budget: Budget::default(),
        }
    }

    /// An evaluator that also tells what each value was taken from.
    pub fn watching(watched: &'w WatchedWorld<'w>) -> Self {
        let mut evaluator = Evaluator::new(watched);
        evaluator.watched = Some(watched);
        evaluator
    }

    /// The same evaluator with options set. Settings that mean nothing are reported.
    #[must_use]
    pub fn with_settings(mut self, settings: &[Setting]) -> Self {
        self.apply_settings(settings);
        self
    }

    /// The same evaluator with another limit of work, in expressions.
    #[must_use]
    pub fn with_work_limit(mut self, limit: u64) -> Self {
        self.budget.work_limit = limit;
        self.budget.look_later();
        self
    }

    /// The same evaluator, which also reports all options and who reached them.
    #[must_use]
    pub fn with_option_infos(mut self) -> Self {
        self.choices.wants_options = true;
        self
    }

    /// The texts read so far.
    pub fn sources(&self) -> &Sources {
        &self.definitions.modules.sources
    }

    fn module(&self, id: ModuleId) -> Rc<Module> {
        self.definitions.modules.get(id).clone()
    }

    /// Reports an error and stops.
    fn fail<T>(&mut self, span: Span, diagnostic: Diagnostic) -> Result<T> {
        let (span, diagnostic) = self.told_at_the_caller(span, diagnostic);
        Err(Stop::Failed(
            self.definitions.modules.report(span, diagnostic),
        ))
    }

    /// An error in a kit as one of its caller: people look first at what they wrote themselves.
    fn told_at_the_caller(&self, span: Span, diagnostic: Diagnostic) -> (Span, Diagnostic) {
        let is_kit = |span: Span| {
            let name = self.definitions.modules.sources.name(span.file);
            name.starts_with("nub:")
                || (name.ends_with(".nub") && !name.ends_with(crate::TARGETS_FILE))
        };
        let caller = self
            .memos
            .callers
            .iter()
            .rev()
            .find(|caller| !is_kit(**caller));
        match caller.filter(|_| is_kit(span)) {
            None => (span, diagnostic),
            // What may be tried there is for the kit's line, and is shown with it.
            Some(caller) => {
                let mends = &diagnostic.mends;
                let told = mends
                    .first()
                    .map_or("in this line of the kit".to_owned(), |mend| {
                        format!("in this line of the kit; try {mend}")
                    });
                (
                    *caller,
                    Diagnostic {
                        mends: Vec::new(),
                        ..diagnostic
                    }
                    .related(span, told),
                )
            }
        }
    }

    /// Stops for something that has no place.
    fn fail_whole<T>(&mut self, diagnostic: Diagnostic) -> Result<T> {
        Err(Stop::Failed(
            self.definitions.modules.report_whole(diagnostic),
        ))
    }

    /// Stops at something that cannot be unless an error was reported before.
    fn failed_before<T>(&mut self, span: Span) -> Result<T> {
        Err(Stop::Failed(self.definitions.modules.reported_before(span)))
    }

    /// Attaches the place to a helper's error, reports it and stops.
    fn at<T>(&mut self, span: Span, result: std::result::Result<T, Diagnostic>) -> Result<T> {
        result.or_else(|diagnostic| self.fail(span, diagnostic))
    }

    fn wait<T>(&mut self) -> Result<T> {
        self.wanted.waiting = true;
        Err(Stop::Waiting)
    }

    fn place(&self, span: Span) -> Place {
        Place {
            file: self.definitions.modules.sources.name(span.file).clone(),
            line: self.definitions.modules.sources.line(span),
        }
    }

    /// The target whose value is being evaluated, if one is.
    fn current_target(&self) -> Option<TargetId> {
        self.memos
            .open
            .iter()
            .rev()
            .find_map(|open| match &open.key {
                OpenKey::Decl(id, _) => self.known_memo(*id)?.target,
                OpenKey::Thunk(_) => None,
            })
    }

    /// Options that the value being evaluated has reached so far, for a part of it that comes
    /// later.
    /// What rests on a probe says so itself.
    fn captured(&self) -> Rc<Reads> {
        match self.choices.frames.last() {
            Some(reads) if !reads.is_empty() => {
                let reads = reads.without(chosen::PROBE);
                if reads.is_empty() {
                    self.choices.nothing_reached.clone()
                } else {
                    Rc::new(reads)
                }
            }
            _ => self.choices.nothing_reached.clone(),
        }
    }

    /// The owner that a declaration's value has, entered in the graph on first use.
    fn owner_of(&mut self, id: DeclId) -> Rc<Owner> {
        let target = self.target_of(id);
        let module = self.module(id.module);
        let package = module.folder.clone().unwrap_or_else(WsPath::root);
        let name = module.decl(id).name.text.clone();
        let mut parts = smallvec![name];
        if !module.is_package {
            // A kit's own steps are under the kit's name.
            let title = WsPath::from_normal(module.title.trim_start_matches("nub:"));
            parts.insert(0, title.stem().into());
        }
        Rc::new(Owner {
            target,
            package,
            parts,
        })
    }

    fn target_of(&mut self, id: DeclId) -> TargetId {
        if let Some(target) = self.memo(id).target {
            return target;
        }
        let module = self.module(id.module);
        let decl = module.decl(id);
        let package = module.folder.clone().unwrap_or_else(WsPath::root);
        let target = TargetId(self.drafting.graph.targets.len() as u32);
        self.drafting.graph.targets.push(Target {
            address: package.child(&decl.name.text).shared().clone(),
            package,
            kind: self.nothing.clone(),
            reads_field: self.nothing.clone(),
            documentation: decl.documentation.clone(),
            place: self.place(decl.name.span),
            role: decl.kind.role(),
            private: decl.private,
            tags: decl.tags.clone(),
            results: Vec::new(),
        });
        self.memo(id).target = Some(target);
        target
    }

    /// The number of a file in the graph, entered on first use.
    fn file_id(&mut self, file: &FileRef) -> FileId {
        let files = &mut self.drafting.graph.files;
        let known = self.drafting.files.find_or_insert(
            nubrik_graph::row_digest(file.path.as_str()),
            |n| files[n].path == file.path,
            files.len(),
        );
        let number = known.unwrap_or_else(|| {
            files.push(FileNode {
                path: file.path.clone(),
                maker: file.maker.map(StepId),
                folder: file.folder,
            });
            files.len() - 1
        });
        FileId(number as u32)
    }
}

impl Drop for Evaluator<'_> {
    fn drop(&mut self) {
        for scope in self.memos.kind_scopes.drain(..).filter_map(|s| s.upgrade()) {
            scope.slots.borrow_mut().clear();
        }
    }
}
