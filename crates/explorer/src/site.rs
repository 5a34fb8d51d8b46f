//! What all pages are made from: a workspace as it is at one time.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::{Arc, OnceLock};
use std::time::{SystemTime, UNIX_EPOCH};

use nubrik_answers::kept_lines;
use nubrik_graph::{Graph, Service, StepId, Target, TargetId, users_of};
use nubrik_lang::meanings::TargetNames;
use nubrik_lang::topics::Topic;
use nubrik_lang::{AddressPattern, Evaluation, OptionInfo, ToldCall};
use nubrik_reports::coverage::Coverage;
use nubrik_session::{BuildRecord, Session};
use nubrik_source::WsPath;

use crate::known::{
    KnownFiles, PackageTargets, RememberedStep, runs_by_target, services_by_target,
    targets_by_address,
};
use crate::links::{About, CutNames, cut_names, page};
use crate::look::PagesFor;
use crate::search::SearchIndex;
use crate::text_lines::LastLines;

/// A workspace as it is at one time, with what pages look up in it.
pub struct Site {
    pub(crate) session: Session,
    pub(crate) evaluation: Evaluation,
    /// The targets that each one needs, and that need it.
    pub(crate) needs: Vec<Vec<TargetId>>,
    pub(crate) users: Vec<Vec<TargetId>>,
    /// The steps of each target.
    pub(crate) steps: Vec<Vec<StepId>>,
    /// Everything that has a page of its own among words: language, kits, states, settings, errors.
    pub(crate) topics: Vec<Topic>,
    pub(crate) reading: PagesFor,
    /// What the workspace is called.
    pub(crate) name: String,
    /// When it was begun to be looked at.
    pub(crate) looked: SystemTime,
    builds: OnceLock<Vec<BuildRecord>>,
    lines: OnceLock<Option<(Coverage, u64)>>,
    told: OnceLock<HashMap<Arc<str>, ToldCall>>,
    options: OnceLock<Evaluation>,
    /// What can be found by words, once somebody looked.
    pub(crate) index: OnceLock<SearchIndex>,
    paths: OnceLock<HashSet<String>>,
    cut_names: OnceLock<CutNames>,
    packages: OnceLock<PackageTargets>,
    targets: OnceLock<HashMap<Arc<str>, TargetId>>,
    files: OnceLock<KnownFiles>,
    services: OnceLock<HashMap<TargetId, Vec<Arc<Service>>>>,
    pub(crate) last_lines: LastLines,
    runs: OnceLock<HashMap<String, Vec<RememberedStep>>>,
    /// By the address of each target: the places of the options that reach it.
    options_of: OnceLock<HashMap<Arc<str>, Vec<usize>>>,
}

/// In a workspace with more targets than this nothing is evaluated for a page.
const TOLD: usize = 2_000;

/// Evaluates all targets of a workspace, as far as answers of probes are known.
pub fn everything(session: &Session) -> Evaluation {
    session.evaluate_to_go_on(&[AddressPattern::below(&WsPath::root())])
}

impl Site {
    /// Looks at a workspace; `evaluate` finds what is known of it, by [`everything`] or more.
    pub fn of(
        mut session: Session,
        evaluate: impl FnOnce(&mut Session) -> Evaluation,
        topics: Vec<Topic>,
        reading: PagesFor,
    ) -> Site {
        let looked = SystemTime::now();
        let evaluation = evaluate(&mut session);
        let graph = &evaluation.graph;
        let needs = graph.target_needs();
        let (users, steps) = (users_of(&needs), graph.steps_of_targets());
        let root = &session.workspace.root;
        let name = root.file_name().map_or_else(
            || root.display().to_string(),
            |n| n.to_string_lossy().into_owned(),
        );
        Site {
            needs,
            users,
            steps,
            topics,
            reading,
            name,
            looked,
            builds: OnceLock::new(),
            lines: OnceLock::new(),
            told: OnceLock::new(),
            options: OnceLock::new(),
            index: OnceLock::new(),
            paths: OnceLock::new(),
            cut_names: OnceLock::new(),
            packages: OnceLock::new(),
            targets: OnceLock::new(),
            files: OnceLock::new(),
            services: OnceLock::new(),
            last_lines: LastLines::default(),
            runs: OnceLock::new(),
            options_of: OnceLock::new(),
            session,
            evaluation,
        }
    }

    pub(crate) fn graph(&self) -> &Graph {
        &self.evaluation.graph
    }

    /// Targets that people name, by address.
    pub(crate) fn declared(&self) -> impl Iterator<Item = (TargetId, &Target)> {
        let targets = self.graph().targets.iter().enumerate();
        let named = targets.filter(|(_, target)| target.is_declared());
        named.map(|(number, target)| (TargetId(number as u32), target))
    }

    /// Names that are cut in the names of their pages.
    pub(crate) fn cut_names(&self) -> &CutNames {
        self.cut_names
            .get_or_init(|| cut_names(|about| self.names(about)))
    }

    /// Targets that people name, by their packages.
    pub(crate) fn packages(&self) -> &PackageTargets {
        self.packages
            .get_or_init(|| PackageTargets::of(self.graph()))
    }

    /// Files by their paths.
    pub(crate) fn files(&self) -> &KnownFiles {
        self.files.get_or_init(|| KnownFiles::of(self.graph()))
    }

    /// Services that steps use, which a target is or has in it, by their addresses.
    pub(crate) fn services_of(&self, target: TargetId) -> &[Arc<Service>] {
        let services = self
            .services
            .get_or_init(|| services_by_target(self.graph()));
        services.get(&target).map_or(&[], Vec::as_slice)
    }

    /// The target with an address.
    pub(crate) fn find(&self, address: &str) -> Option<TargetId> {
        self.targets
            .get_or_init(|| targets_by_address(self.graph()))
            .get(address)
            .copied()
    }

    /// Puts together what most pages look up.
    pub(crate) fn look_ahead(&self) {
        let _ = (
            self.packages(),
            self.find(""),
            self.files(),
            self.services_of(TargetId(0)),
            self.runs_of(""),
        );
    }

    /// The steps of builds that are remembered, of one target: in the order of builds.
    pub(crate) fn runs_of(&self, address: &str) -> &[RememberedStep] {
        self.runs
            .get_or_init(|| runs_by_target(self.builds()))
            .get(address)
            .map_or(&[], Vec::as_slice)
    }

    /// The options that a target reached.
    pub(crate) fn options_of(&self, address: &str) -> impl Iterator<Item = &OptionInfo> {
        let options = &self.options().options;
        let by_reader = self.options_of.get_or_init(|| {
            let mut by_reader: HashMap<Arc<str>, Vec<usize>> = HashMap::new();
            for (place, option) in options.iter().enumerate() {
                for reader in &option.readers {
                    by_reader.entry(reader.clone()).or_default().push(place);
                }
            }
            by_reader
        });
        by_reader
            .get(address)
            .into_iter()
            .flatten()
            .map(|place| &options[*place])
    }

    /// Builds that are remembered, the oldest first.
    pub(crate) fn builds(&self) -> &[BuildRecord] {
        self.builds.get_or_init(|| self.session.history())
    }

    /// Whether values are evaluated for pages here.
    pub(crate) fn tells_values(&self) -> bool {
        self.packages().count() <= TOLD
    }

    /// What a target was given by its definition and by defaults, where a kind makes it; nothing in
    /// workspaces so large that to evaluate them for a page would take long.
    pub(crate) fn told(&self, address: &str) -> Option<&ToldCall> {
        let evaluate = || {
            if !self.tells_values() {
                return HashMap::new();
            }
            let calls = self
                .session
                .told_fields(&[AddressPattern::below(&WsPath::root())]);
            calls
                .into_iter()
                .map(|call| (call.target.clone(), call))
                .collect()
        };
        self.told.get_or_init(evaluate).get(address)
    }

    /// Which lines tests ran, when that was asked the last time, and when that was, in seconds
    /// since 1970.
    pub(crate) fn lines(&self) -> Option<&(Coverage, u64)> {
        let seconds = |at: SystemTime| {
            at.duration_since(UNIX_EPOCH)
                .map_or(0, |time| time.as_secs())
        };
        let kept = || kept_lines(&self.session).map(|(lines, at)| (lines, seconds(at)));
        self.lines.get_or_init(kept).as_ref()
    }

    /// What there is to know about options.
    pub(crate) fn options(&self) -> &Evaluation {
        self.options.get_or_init(|| self.session.options_to_read())
    }

    /// Paths of all files that have a page: definitions, sources, and what steps make.
    pub(crate) fn paths(&self) -> &HashSet<String> {
        self.paths.get_or_init(|| {
            let files = self
                .graph()
                .files
                .iter()
                .filter(|file| !file.folder)
                .map(|file| file.path.to_string());
            files
                .chain(self.evaluation.definitions().map(ToString::to_string))
                .collect()
        })
    }

    /// How long a step took the last time it ran here, in microseconds.
    pub(crate) fn micros(&self, step: StepId) -> Option<u64> {
        let memory = self
            .session
            .state()
            .steps
            .get(self.graph().step(step).folder.as_str())?;
        (!memory.outputs.is_empty()).then_some(memory.micros)
    }

    /// How long all steps of a target took, in microseconds.
    pub(crate) fn cost(&self, target: TargetId) -> u64 {
        self.steps[target.index()]
            .iter()
            .filter_map(|step| self.micros(*step))
            .sum()
    }

    /// How many targets there are of each kind, the most first.
    pub(crate) fn kinds(&self) -> Vec<(Arc<str>, usize)> {
        let mut kinds: BTreeMap<Arc<str>, usize> = BTreeMap::new();
        for (_, target) in self.declared() {
            *kinds.entry(kind_of(target)).or_default() += 1;
        }
        let mut kinds: Vec<_> = kinds.into_iter().collect();
        kinds.sort_by(|a, b| b.1.cmp(&a.1).then(a.0.cmp(&b.0)));
        kinds
    }

    /// What time it is when a page is read; nothing where that is unknown, because it is written.
    pub(crate) fn now(&self) -> Option<u64> {
        let now = || {
            SystemTime::now()
                .duration_since(UNIX_EPOCH)
                .unwrap_or_default()
                .as_secs()
        };
        (self.reading == PagesFor::Served).then(now)
    }

    /// The page about a target, by how builds call it: its address, and its variant behind that.
    pub(crate) fn page_of_title(&self, title: &str) -> Option<String> {
        let address = title.split(" (").next().unwrap_or(title);
        self.find(address).map(|_| page(About::Target, address))
    }
}

impl TargetNames for Site {
    fn by_address(&self, address: &str) -> Option<&Target> {
        self.find(address).map(|id| self.graph().target(id))
    }

    fn of_package(&self, package: &str) -> Vec<&Target> {
        self.packages()
            .package(package)
            .iter()
            .map(|id| self.graph().target(*id))
            .collect()
    }
}

/// What a target is.
pub(crate) fn kind_of(target: &Target) -> Arc<str> {
    if target.kind.is_empty() {
        "value".into()
    } else {
        target.kind.clone()
    }
}
