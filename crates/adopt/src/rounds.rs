//! Builds what is proposed, and changes it after what that shows.

use std::collections::BTreeMap;

use nubrik_engine::Options;
use nubrik_graph::{Closure, FileId, Graph, StepId, Target, steps_after};
use nubrik_lang::{AddressPattern, Evaluation};
use nubrik_session::{BuildEnd, Workshop};
use nubrik_source::WsPath;
use nubrik_survey::{
    DefinitionAddress, Keyword, Mended, Proposal, TryFailure, lacks_given_up, mend, with_needed,
    without_uncompiled,
};

use crate::failures::{Broken, SeenFailures, attended};
use crate::{AdoptProblem, AdoptedFolder, Adoption, MachineFacts, answers, error_of, options_of};

/// So often is changed and built again.
const ROUNDS: usize = 8;

/// What became of a definition.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum TryResult {
    /// It builds, or its tests pass.
    Works,
    /// It does not, and why.
    Fails(String),
    /// It is left out, and why.
    Omission(String),
    /// It is only done when somebody asks for it.
    NotTried(String),
}

/// What became of all.
#[derive(Default)]
pub struct Tried {
    /// By the addresses of definitions.
    pub results: BTreeMap<String, TryResult>,
    /// Of definitions with several tests: how many of them pass, and how many there are.
    pub counts: BTreeMap<String, (usize, usize)>,
    /// What was changed of definitions.
    pub changes: BTreeMap<String, Vec<String>>,
    /// Whether it was stopped.
    pub is_interrupted: bool,
}

impl Tried {
    /// How many of what a definition is work, and how many there are: each test of several counts
    /// for itself.
    pub fn count(&self, address: &str, result: &TryResult) -> (usize, usize) {
        match (self.counts.get(address), result) {
            (_, TryResult::NotTried(_)) => (0, 0),
            (Some(count), TryResult::Works | TryResult::Fails(_)) => *count,
            (_, TryResult::Works) => (1, 1),
            _ => (0, 1),
        }
    }
}

impl Adoption<'_> {
    /// Tries all definitions, as often as that changes some. `rewrite` writes them.
    pub(crate) fn try_in_rounds(
        &self,
        proposal: &mut Proposal,
        rewrite: &mut dyn FnMut(&Proposal) -> Result<(), AdoptProblem>,
    ) -> Result<Tried, AdoptProblem> {
        let top = &self.folder.top;
        let mut tried = Tried::default();
        let mut asked = BTreeMap::new();
        for round in 0..ROUNDS {
            let one = self.round(proposal, round)?;
            let results = one.results.iter();
            tried.results = results
                .map(|(address, result)| (address.below(top), result.clone()))
                .collect();
            tried.counts = one
                .counts
                .iter()
                .map(|(address, count)| (address.below(top), *count))
                .collect();
            tried.is_interrupted = one.is_interrupted;
            if one.is_interrupted {
                break;
            }
            for (address, failure) in &one.troubles {
                if let Some(why) = lacks_given_up(&self.folder.tree, proposal, failure) {
                    tried
                        .results
                        .insert(address.below(top), TryResult::Fails(why));
                }
            }
            let is_changed = self.mend_all(proposal, &one, &mut asked, &mut tried)?;
            if is_changed {
                self.pin_all(proposal, true)?;
            }
            if !is_changed {
                break;
            }
            rewrite(proposal)?;
        }
        if !tried.is_interrupted && self.settle_scripts(proposal, &mut tried)? {
            rewrite(proposal)?;
        }
        Ok(tried)
    }

    /// Changes what failed in a round; whether anything is different now.
    fn mend_all(
        &self,
        proposal: &mut Proposal,
        one: &TryRound,
        asked: &mut BTreeMap<DefinitionAddress, bool>,
        tried: &mut Tried,
    ) -> Result<bool, AdoptProblem> {
        let top = &self.folder.top;
        let mut is_changed = false;
        for (address, trouble) in &one.troubles {
            // Code of the folder runs in tests: the network is nothing that it gets without a word.
            let may = !trouble.wants_network || self.allows_network(address, asked)?;
            let trouble = &TryFailure {
                wants_network: trouble.wants_network && may,
                ..trouble.clone()
            };
            match mend(&self.folder.tree, proposal, address, trouble, &MachineFacts) {
                Mended::Changed(how) => {
                    tried
                        .changes
                        .entry(address.below(top))
                        .or_default()
                        .push(how);
                    is_changed = true;
                }
                Mended::Omission(why) => {
                    proposal.leave_out(address, &why);
                    is_changed = true;
                }
                Mended::Nothing => {}
            }
        }
        for (address, why) in &one.not_evaluated {
            proposal.leave_out(address, why);
            is_changed = true;
        }
        // What another change would help is not given up.
        if !is_changed {
            let mut changes = without_uncompiled(&self.folder.tree, proposal, &one.troubles);
            if changes.is_empty() {
                changes = with_needed(&self.folder.tree, proposal, &one.troubles);
            }
            is_changed = !changes.is_empty();
            for (address, how) in changes {
                tried
                    .changes
                    .entry(address.below(top))
                    .or_default()
                    .push(how);
            }
        }
        Ok(is_changed)
    }

    /// Whether tests that were refused the network may use it: only if somebody says so.
    fn allows_network(
        &self,
        address: &DefinitionAddress,
        asked: &mut BTreeMap<DefinitionAddress, bool>,
    ) -> Result<bool, AdoptProblem> {
        if let Some(may) = asked.get(address) {
            return Ok(*may);
        }
        let question = answers::network_for(&address.below(&self.folder.top));
        let may = match self.answers.get(&question.id) {
            Some(answer) => answer == "yes",
            None => self.attendant.answer(&question)? == "yes",
        };
        asked.insert(address.clone(), may);
        Ok(may)
    }

    /// Builds all once.
    fn round(&self, proposal: &Proposal, number: usize) -> Result<TryRound, AdoptProblem> {
        let mut round = TryRound::default();
        let mut session = self.open()?;
        let mut workshop = self.lock(&mut session)?;
        let options = options_of(&workshop);
        let mut wanted: Vec<DefinitionAddress> = Vec::new();
        for definition in &proposal.definitions {
            match definition.keyword {
                Keyword::Target | Keyword::Test => wanted.push(definition.address.clone()),
                Keyword::Job => {
                    let why = "a job is done only when somebody asks for it".to_owned();
                    round
                        .results
                        .insert(definition.address.clone(), TryResult::NotTried(why));
                }
                Keyword::Let => {}
            }
        }
        let evaluation = match self.evaluate(&mut workshop, &wanted, options)? {
            Ok(evaluation) => evaluation,
            // What is said to be missing then is not.
            Err(_) if workshop.is_cancelled() => {
                round.is_interrupted = true;
                let why = self.limit.why_stopped();
                round.all_are(wanted, &TryResult::NotTried(why));
                return Ok(round);
            }
            Err(_) => {
                wanted = self.one_by_one(&mut round, &mut workshop, wanted, options)?;
                match self.evaluate(&mut workshop, &wanted, options)? {
                    Ok(evaluation) => evaluation,
                    Err(why) => {
                        round.all_are(wanted, &TryResult::Fails(why));
                        return Ok(round);
                    }
                }
            }
        };
        let (patterns, files) = (self.patterns_of(&wanted), &evaluation.requested);
        let (report, seen) = attended(
            self.attendant,
            &evaluation.graph,
            Some(number),
            |listener| workshop.build_files(&patterns, &evaluation, files, listener, options),
        )?;
        round.is_interrupted = report.cancelled;
        round.judge(
            self.folder,
            &evaluation,
            &wanted,
            &seen,
            self.limit.why_stopped(),
        );
        Ok(round)
    }

    /// The definitions that can be evaluated each for itself; of the others it is noted why they
    /// cannot.
    fn one_by_one(
        &self,
        round: &mut TryRound,
        workshop: &mut Workshop<'_>,
        wanted: Vec<DefinitionAddress>,
        options: Options,
    ) -> Result<Vec<DefinitionAddress>, AdoptProblem> {
        let mut fine = Vec::new();
        for address in wanted {
            match self.evaluate(workshop, std::slice::from_ref(&address), options)? {
                Ok(_) => fine.push(address),
                Err(why) => {
                    round
                        .results
                        .insert(address.clone(), TryResult::Omission(why.clone()));
                    round.not_evaluated.push((address, why));
                }
            }
        }
        Ok(fine)
    }

    /// Evaluates definitions, with all that they ask of the machine; or the first error.
    pub(crate) fn evaluate(
        &self,
        workshop: &mut Workshop<'_>,
        wanted: &[DefinitionAddress],
        options: Options,
    ) -> Result<Result<Evaluation, String>, AdoptProblem> {
        let patterns = self.patterns_of(wanted);
        loop {
            let evaluation = workshop.evaluate(&patterns);
            if let Some(error) = error_of(&evaluation) {
                return Ok(Err(error.to_owned()));
            }
            if !evaluation.waiting || evaluation.probes.is_empty() {
                return Ok(Ok(evaluation));
            }
            let (report, seen) = attended(self.attendant, &evaluation.graph, None, |listener| {
                workshop.answer(&evaluation, listener, options)
            })?;
            match report.end() {
                BuildEnd::Done => {}
                BuildEnd::Interrupted => return Ok(Err("it was stopped".to_owned())),
                _ => {
                    return Ok(Err(seen
                        .failed
                        .into_values()
                        .next()
                        .map(|one| one.why)
                        .unwrap_or_default()));
                }
            }
        }
    }

    /// What definitions are asked for by.
    fn patterns_of(&self, wanted: &[DefinitionAddress]) -> Vec<AddressPattern> {
        let root = WsPath::root();
        let pattern = |address: &DefinitionAddress| {
            AddressPattern::new(&address.below(&self.folder.top), &root).ok()
        };
        wanted.iter().filter_map(pattern).collect()
    }
}

/// One build of all.
#[derive(Default)]
struct TryRound {
    results: BTreeMap<DefinitionAddress, TryResult>,
    counts: BTreeMap<DefinitionAddress, (usize, usize)>,
    troubles: Vec<(DefinitionAddress, TryFailure)>,
    /// Definitions that cannot be evaluated here, and why.
    not_evaluated: Vec<(DefinitionAddress, String)>,
    is_interrupted: bool,
}

impl TryRound {
    fn all_are(&mut self, addresses: Vec<DefinitionAddress>, result: &TryResult) {
        self.results.extend(
            addresses
                .into_iter()
                .map(|address| (address, result.clone())),
        );
    }

    /// Says of each definition whether it works, and what is wrong with it otherwise.
    fn judge(
        &mut self,
        folder: &AdoptedFolder,
        evaluation: &Evaluation,
        wanted: &[DefinitionAddress],
        seen: &SeenFailures,
        why_stopped: String,
    ) {
        let failed = &seen.failed;
        let graph = &evaluation.graph;
        let targets = graph.targets.iter().map(|one| (&*one.address, one));
        let targets: BTreeMap<&str, &Target> = targets.collect();
        let names = wanted.iter().map(|one| (one.below(&folder.top), one));
        let names: BTreeMap<String, &DefinitionAddress> = names.collect();
        let mut tests = tests_of(evaluation, &names);
        let failing = steps_after(graph, |step| failed.contains_key(&step));
        let unfinished = steps_after(graph, |step| !seen.fine.contains(&step));
        for (name, address) in &names {
            let address = *address;
            let Some(target) = targets.get(name.as_str()) else {
                let why = "nothing was asked of it".to_owned();
                self.results
                    .insert(address.clone(), TryResult::NotTried(why));
                continue;
            };
            let verdicts = tests.remove(name.as_str()).unwrap_or_default();
            let fails = |file: &FileId| {
                let maker = graph.file(*file).maker;
                maker.is_some_and(|maker| failing[maker.index()])
            };
            if verdicts.len() > 1 {
                let passed = verdicts.iter().filter(|file| !fails(file)).count();
                let counts = (passed, verdicts.len());
                self.counts.insert(address.clone(), counts);
            }
            let results = target.results.iter().map(|result| result.file);
            let files: Vec<FileId> = results.chain(verdicts).collect();
            let is_one_of = |all: &[bool]| {
                let mut makers = files.iter().filter_map(|file| graph.file(*file).maker);
                makers.any(|maker| all[maker.index()])
            };
            // Most are fine: only of others it is looked for what fails.
            let broken = match is_one_of(&failing) {
                true => broken_of(graph, &files, failed),
                false => Vec::new(),
            };
            // What was stopped has not failed, and what it needs may have been stopped.
            let result = if self.is_interrupted && is_one_of(&unfinished) {
                TryResult::NotTried(why_stopped.clone())
            } else {
                judged(graph, &names, &broken, name)
            };
            self.results.insert(address.clone(), result);
            let is_own = |(step, _): &(StepId, _)| *graph.owner(*step).address == *name;
            for (step, one) in broken.into_iter().filter(is_own) {
                self.troubles
                    .push((address.clone(), trouble(folder, graph, step, one, name)));
            }
        }
    }
}

/// Whether a definition of some name works, of which these steps are broken.
fn judged(
    graph: &Graph,
    proposed: &BTreeMap<String, &DefinitionAddress>,
    broken: &[(StepId, &Broken)],
    name: &str,
) -> TryResult {
    let owner = |step: &StepId| &*graph.owner(*step).address;
    let own = broken.iter().find(|(step, _)| owner(step) == name);
    match own.or(broken.first()) {
        None => TryResult::Works,
        Some((step, one)) if owner(step) != name && proposed.contains_key(owner(step)) => {
            TryResult::Fails(format!("it needs {}, which fails", owner(step)))
        }
        Some((_, one)) => TryResult::Fails(one.why.clone()),
    }
}

/// The steps that failed of those that make some files, and of all that these need, in the order of
/// the graph.
fn broken_of<'f>(
    graph: &Graph,
    files: &[FileId],
    failed: &'f BTreeMap<StepId, Broken>,
) -> Vec<(StepId, &'f Broken)> {
    let steps = Closure::of(graph, files.iter().copied()).steps;
    let mut broken: Vec<(StepId, &Broken)> = steps
        .into_iter()
        .filter_map(|step| Some((step, failed.get(&step)?)))
        .collect();
    broken.sort_unstable_by_key(|(step, _)| *step);
    broken
}

/// The tests of each definition, which are called as it is, or have its name before theirs.
fn tests_of(
    evaluation: &Evaluation,
    names: &BTreeMap<String, &DefinitionAddress>,
) -> BTreeMap<String, Vec<FileId>> {
    let graph = &evaluation.graph;
    let mut tests: BTreeMap<String, Vec<FileId>> = BTreeMap::new();
    for file in &evaluation.requested {
        let check = graph
            .file(*file)
            .maker
            .and_then(|step| graph.step(step).check.as_ref());
        let Some(check) = check else { continue };
        let mut name: &str = &check.address;
        while !names.contains_key(name) && !name.is_empty() {
            name = name.rsplit_once('/').map_or("", |(above, _)| above);
        }
        if !name.is_empty() {
            tests.entry(name.to_owned()).or_default().push(*file);
        }
    }
    tests
}

fn trouble(
    folder: &AdoptedFolder,
    graph: &Graph,
    step: StepId,
    one: &Broken,
    name: &str,
) -> TryFailure {
    let row = graph.step(step);
    let inputs = row
        .inputs
        .iter()
        .map(|file| graph.file(*file))
        .filter(|file| file.maker.is_none());
    let check = row
        .check
        .as_ref()
        .map(|check| check.address.to_string())
        .unwrap_or_default();
    TryFailure {
        printed: one.printed.clone(),
        writes: one.writes,
        wants_network: one.wants_network,
        is_too_long: one.is_too_long,
        is_test_run: one.has_ended && row.check.is_some(),
        refused: one
            .refused
            .iter()
            .filter_map(|path| folder.inside(path))
            .collect(),
        inputs: inputs
            .filter_map(|file| folder.inside(file.path.as_str()))
            .collect(),
        key: check
            .strip_prefix(name)
            .unwrap_or_default()
            .trim_start_matches('/')
            .to_owned(),
    }
}
