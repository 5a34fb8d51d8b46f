//! The parts of an evaluator: each knows of one thing, and is reached by its name.

use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;
use std::sync::Arc;

use nubrik_graph::{Effect, FileId, RowIndex, Service, SetId, Tables, TargetId};
use nubrik_source::{Span, WsPath};
use rustc_hash::FxHashMap;

use super::chosen::{Config, ConfigId, DEFAULTS, OptionId};
use super::limits::{WORK_BETWEEN_LOOKS, WORK_LIMIT};
use super::memo::{DeclMemo, OpenValue};
use super::reads::Reads;
use super::{Env, inputs, steps};
use crate::hir::*;
use crate::modules::Modules;
use crate::reported::Reported;
use crate::types::Type;
use crate::value::*;

/// Definition files that were read, and what is known of them as such.
#[derive(Default)]
pub(super) struct Definitions {
    pub(super) modules: Modules,
    /// Numbers of units.
    pub(super) units: FxHashMap<DeclId, u32>,
    /// Data files that were read, with their texts.
    pub(super) data_files: FxHashMap<WsPath, (nubrik_source::TextId, Arc<str>)>,
    /// Names in `use { … }` that their kits do not have, by module and number of the `use`.
    pub(super) bad_names: BTreeSet<(ModuleId, u32, Arc<str>)>,
}

/// Values and types that are known already, and values that are being evaluated.
#[derive(Default)]
pub(super) struct Memos {
    /// By module and number.
    pub(super) decls: Vec<Vec<DeclMemo>>,
    pub(super) types: FxHashMap<DeclId, Type>,
    /// Types of parameters, by declaration.
    pub(super) param_types: FxHashMap<DeclId, Arc<[Type]>>,
    /// Types that functions and kinds give, by declaration.
    pub(super) result_types: FxHashMap<DeclId, Arc<Type>>,
    pub(super) open: Vec<OpenValue>,
    /// Ways round that were reported, as sets of their places.
    pub(super) cycles: BTreeSet<Vec<Span>>,
    /// Matches whose cases were checked for completeness.
    pub(super) checked_matches: FxHashMap<(ModuleId, ExprId), std::result::Result<(), Reported>>,
    /// Regular expressions that were prepared, by their texts.
    pub(super) patterns: FxHashMap<Arc<str>, Rc<regex::Regex>>,
    /// Scopes of kinds that were called: their values may hold the scopes that hold them.
    pub(super) kind_scopes: Vec<std::rc::Weak<Env>>,
    /// Where what is being evaluated was called, or is declared, the innermost last: an error in a
    /// kit is shown there.
    pub(super) callers: Vec<Span>,
}

/// Options: which are set, and which values reached.
pub(super) struct Choices {
    /// Options reached so far by each value that is being evaluated and owns what it makes.
    pub(super) frames: Vec<Reads>,
    pub(super) configs: Vec<Config>,
    pub(super) config_ids: FxHashMap<Vec<(OptionId, Arc<str>)>, ConfigId>,
    /// The config of everything that is asked for.
    pub(super) chosen: ConfigId,
    pub(super) nothing_reached: Rc<Reads>,
    pub(super) bad_options: BTreeSet<OptionId>,
    /// What was reported of the image that settings name.
    pub(super) bad_root: Option<Reported>,
    pub(super) wants_options: bool,
    /// Options that each target's values and steps reached.
    pub(super) target_reads: BTreeMap<TargetId, Reads>,
}

impl Default for Choices {
    fn default() -> Choices {
        Choices {
            frames: Vec::new(),
            configs: vec![Config::default()],
            config_ids: FxHashMap::from_iter([(Vec::new(), DEFAULTS)]),
            chosen: DEFAULTS,
            nothing_reached: Rc::default(),
            bad_options: BTreeSet::new(),
            bad_root: None,
            wants_options: false,
            target_reads: BTreeMap::new(),
        }
    }
}

/// What comes of evaluation: the graph, and what is beside it.
#[derive(Default)]
pub(super) struct Drafting {
    pub(super) graph: Tables,
    /// The graph's files by their paths.
    pub(super) files: RowIndex,
    pub(super) tools: FxHashMap<Arc<str>, nubrik_graph::ToolId>,
    /// Sets of files by the values that hold them.
    pub(super) value_sets: FxHashMap<*const FileRef, inputs::ValueSet>,
    /// Sets of the files in source folders, by the unit that asked and the folder.
    pub(super) folder_sets: FxHashMap<(u32, WsPath), SetId>,
    /// The graph's steps by their folders.
    pub(super) steps: RowIndex,
    /// Where each step was written.
    pub(super) step_spans: Vec<Span>,
    /// Outputs of each step by the names they were given.
    pub(super) outputs: steps::Outputs,
    /// Commands that read which lines ran of a program, by the step that makes it.
    pub(super) counting: FxHashMap<u32, Vec<Rc<CommandValue>>>,
    /// All effects that were evaluated, and those that are asked for.
    pub(super) effects: Vec<Effect>,
    /// All services that were evaluated, by their folders, and those that are asked for.
    pub(super) services: FxHashMap<WsPath, Arc<Service>>,
}

/// What is asked for besides targets, and what is still missing.
#[derive(Default)]
pub(super) struct Demand {
    pub(super) asked_effects: Vec<u32>,
    pub(super) asked_services: Vec<Arc<Service>>,
    /// Targets that were named where tests are wanted.
    pub(super) through: Vec<TargetId>,
    /// Answers of probes that are wanted and not there yet: outputs of steps in the graph.
    pub(super) probes: Vec<FileId>,
    pub(super) waiting: bool,
    /// Whether jobs are evaluated: one is asked for by its name, or everything is looked at.
    pub(super) evaluates_jobs: bool,
    pub(super) wants_digests: bool,
    pub(super) linting: bool,
    /// What kinds were given for targets, where that is wanted.
    pub(super) told_fields: Option<Vec<super::told_fields::ToldCall>>,
    /// Globs that were evaluated for targets, where they are looked at afterwards.
    pub(super) globs: Vec<crate::lints::GlobUse>,
}

/// How much was taken of what one evaluation may take.
pub(super) struct Budget {
    pub(super) work: u64,
    pub(super) work_limit: u64,
    /// When it is looked whether that is reached, or evaluation is to end.
    pub(super) next_look: u64,
    /// How many values are being gone through for their files, each inside the one before.
    pub(super) nesting: usize,
}

impl Default for Budget {
    fn default() -> Budget {
        let mut budget = Budget {
            work: 0,
            work_limit: WORK_LIMIT,
            next_look: 0,
            nesting: 0,
        };
        budget.look_later();
        budget
    }
}

impl Budget {
    /// Looks again after some more work.
    pub(super) fn look_later(&mut self) {
        self.next_look = (self.work + WORK_BETWEEN_LOOKS).min(self.work_limit);
    }
}
