//! Builds what is proposed, and changes it after what that shows.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use nubrik_diagnostic::Severity;
use nubrik_engine::{Options, Outreach};
use nubrik_graph::{Closure, FileId, Graph, StepId, Target};
use nubrik_lang::{AddressPattern, Evaluation};
use nubrik_session::Workshop;
use nubrik_source::WsPath;
use nubrik_survey::{
    Definition, DefinitionAddress, Keyword, Kit, Mended, Proposal, ScriptSeen, SurveyQuestion, TryFailure,
    mend, settle_script,
};

use super::super::build::{exit_of, lock, options_of};
use super::super::{CommandResult, open_at, own_problem};
use super::collecting::{Broken, Collector, SeenFailures};
use super::pinned::pin_more;
use super::{AdoptedFolder, MachineFacts};
use crate::arguments::{Adopting, How};
use crate::exit::Exit;
use crate::ui::console::Console;

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
    pub is_interrupted: bool,
}

impl Tried {
    /// How many of what a definition is work, and how many there are: each test of several counts for itself.
    pub fn count(&self, address: &str, result: &TryResult) -> (usize, usize) {
        match (self.counts.get(address), result) {
            (_, TryResult::NotTried(_)) => (0, 0),
            (Some(count), TryResult::Works | TryResult::Fails(_)) => *count,
            (_, TryResult::Works) => (1, 1),
            _ => (0, 1),
        }
    }
}

/// Tries all definitions, as often as that changes some. `rewrite` writes them.
pub fn try_all(
    console: Console,
    ground: &AdoptedFolder,
    proposal: &mut Proposal,
    adopting: &Adopting,
    rewrite: &mut dyn FnMut(&Proposal) -> CommandResult<()>,
) -> CommandResult<Tried> {
    let mut tried = Tried::default();
    let mut asked: BTreeMap<DefinitionAddress, bool> = answers_about_network(adopting, ground, proposal);
    for round in 0..ROUNDS {
        let one = TryRound::run(console, ground, proposal, adopting, round)?;
        tried.results = one
            .results
            .iter()
            .map(|(address, result)| (address.below(&ground.top), result.clone()))
            .collect();
        tried.counts =
            one.counts.iter().map(|(address, count)| (address.below(&ground.top), *count)).collect();
        tried.is_interrupted = one.is_interrupted;
        if one.is_interrupted {
            break;
        }
        let mut is_changed = false;
        for (address, trouble) in &one.troubles {
            // Code of the folder runs in tests: the network is nothing that it gets without a word.
            let may =
                !trouble.wants_network || allows_network(console, ground, address, adopting, &mut asked)?;
            let trouble = &TryFailure { wants_network: trouble.wants_network && may, ..trouble.clone() };
            match mend(&ground.tree, proposal, address, trouble, &MachineFacts) {
                Mended::Changed(how) => {
                    tried.changes.entry(address.below(&ground.top)).or_default().push(how);
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
        if is_changed {
            pin_more(console, ground, proposal, adopting)?;
        }
        if !is_changed {
            break;
        }
        rewrite(proposal)?;
    }
    if !tried.is_interrupted && settle_scripts(console, ground, proposal, adopting, &mut tried)? {
        rewrite(proposal)?;
    }
    Ok(tried)
}

/// What the command line says of definitions that may use the network.
fn answers_about_network(
    adopting: &Adopting,
    ground: &AdoptedFolder,
    proposal: &Proposal,
) -> BTreeMap<DefinitionAddress, bool> {
    let said = |address: &DefinitionAddress| {
        let question = format!("network.{}=", address.below(&ground.top));
        adopting.answer.iter().find_map(|answer| answer.strip_prefix(&question)).map(|answer| answer == "yes")
    };
    let all = proposal.definitions.iter().map(|one| one.address.clone());
    all.filter_map(|address| said(&address).map(|may| (address, may))).collect()
}

/// Whether tests that were refused the network may use it: only if somebody says so.
fn allows_network(
    console: Console,
    ground: &AdoptedFolder,
    address: &DefinitionAddress,
    adopting: &Adopting,
    asked: &mut BTreeMap<DefinitionAddress, bool>,
) -> CommandResult<bool> {
    if let Some(may) = asked.get(address) {
        return Ok(*may);
    }
    let name = address.below(&ground.top);
    let question = SurveyQuestion {
        id: format!("network.{name}"),
        text: format!("{name} was refused the network. May it use it?"),
        choices: vec!["no".to_owned(), "yes".to_owned()],
    };
    let may = super::asking::ask(console, &question, adopting.yes)? == "yes";
    asked.insert(address.clone(), may);
    Ok(may)
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
    fn run(
        console: Console,
        ground: &AdoptedFolder,
        proposal: &Proposal,
        adopting: &Adopting,
        number: usize,
    ) -> CommandResult<TryRound> {
        let mut round = TryRound::default();
        let mut session = open_at(console, &ground.root)?;
        session.let_reach(if adopting.offline { Outreach::NoNetwork } else { Outreach::Everything });
        let mut workshop = lock(console, &mut session)?;
        let how = How { keep_going: true, ..How::default() };
        let options = options_of(&workshop, how);
        let mut wanted: Vec<DefinitionAddress> = Vec::new();
        for definition in &proposal.definitions {
            match definition.keyword {
                Keyword::Target | Keyword::Test => wanted.push(definition.address.clone()),
                Keyword::Job => {
                    let why = "a job is done only when somebody asks for it".to_owned();
                    round.results.insert(definition.address.clone(), TryResult::NotTried(why));
                }
                Keyword::Let => {}
            }
        }
        let evaluation = match evaluate(console, &mut workshop, ground, &wanted, options)? {
            Ok(evaluation) => evaluation,
            // What is said to be missing then is not.
            Err(_) if workshop.is_cancelled() => {
                round.is_interrupted = true;
                let why = "it was stopped before it was tried".to_owned();
                round.all_are(wanted, &TryResult::NotTried(why));
                return Ok(round);
            }
            Err(_) => {
                wanted = round.evaluated_one_by_one(console, &mut workshop, ground, wanted, options)?;
                match evaluate(console, &mut workshop, ground, &wanted, options)? {
                    Ok(evaluation) => evaluation,
                    Err(why) => {
                        round.all_are(wanted, &TryResult::Fails(why));
                        return Ok(round);
                    }
                }
            }
        };
        let collector = Collector::new(console, &evaluation.graph, Some(number));
        let (patterns, files) = (patterns_of(ground, &wanted), &evaluation.requested);
        let report = workshop.build_files(&patterns, &evaluation, files, &collector, options);
        let seen = collector.finish();
        let report = report.map_err(|problem| own_problem(console, problem))?;
        round.is_interrupted = report.cancelled;
        round.judge(ground, &evaluation, &wanted, &seen);
        Ok(round)
    }

    fn all_are(&mut self, addresses: Vec<DefinitionAddress>, result: &TryResult) {
        self.results.extend(addresses.into_iter().map(|address| (address, result.clone())));
    }

    /// The definitions that can be evaluated each for itself; of the others it is noted why they cannot.
    fn evaluated_one_by_one(
        &mut self,
        console: Console,
        workshop: &mut Workshop<'_>,
        ground: &AdoptedFolder,
        wanted: Vec<DefinitionAddress>,
        options: Options,
    ) -> CommandResult<Vec<DefinitionAddress>> {
        let mut fine = Vec::new();
        for address in wanted {
            match evaluate(console, workshop, ground, std::slice::from_ref(&address), options)? {
                Ok(_) => fine.push(address),
                Err(why) => {
                    self.results.insert(address.clone(), TryResult::Omission(why.clone()));
                    self.not_evaluated.push((address, why));
                }
            }
        }
        Ok(fine)
    }

    /// Says of each definition whether it works, and what is wrong with it otherwise.
    fn judge(
        &mut self,
        ground: &AdoptedFolder,
        evaluation: &Evaluation,
        wanted: &[DefinitionAddress],
        seen: &SeenFailures,
    ) {
        let failed = &seen.failed;
        let graph = &evaluation.graph;
        let targets: BTreeMap<&str, &Target> = graph.targets.iter().map(|one| (&*one.address, one)).collect();
        let names: BTreeMap<String, &DefinitionAddress> =
            wanted.iter().map(|address| (address.below(&ground.top), address)).collect();
        let mut tests = tests_of(evaluation, &names);
        for (name, address) in &names {
            let address = *address;
            let Some(target) = targets.get(name.as_str()) else {
                let why = "nothing was asked of it".to_owned();
                self.results.insert(address.clone(), TryResult::NotTried(why));
                continue;
            };
            let verdicts = tests.remove(name.as_str()).unwrap_or_default();
            let fails = |file: &FileId| {
                Closure::of(graph, [*file]).steps.iter().any(|step| failed.contains_key(step))
            };
            if verdicts.len() > 1 {
                let passed = verdicts.iter().filter(|file| !fails(file)).count();
                self.counts.insert(address.clone(), (passed, verdicts.len()));
            }
            let steps =
                Closure::of(graph, target.results.iter().map(|result| result.file).chain(verdicts)).steps;
            let broken: Vec<(&StepId, &Broken)> =
                failed.iter().filter(|(step, _)| steps.contains(step)).collect();
            let is_own = |step: &StepId| *graph.owner(*step).address == *name;
            let own = broken.iter().find(|(step, _)| is_own(step)).or(broken.first());
            // What was stopped has not failed, and what it needs may have been stopped.
            let is_stopped = self.is_interrupted && !steps.iter().all(|step| seen.fine.contains(step));
            let result = match own {
                _ if is_stopped => TryResult::NotTried("it was stopped before it was tried".to_owned()),
                None => TryResult::Works,
                Some((step, one)) if is_own(step) => TryResult::Fails(one.why.clone()),
                Some((step, one)) => {
                    let owner = graph.owner(**step).address.to_string();
                    let is_proposed = names.contains_key(&owner);
                    let why =
                        if is_proposed { format!("it needs {owner}, which fails") } else { one.why.clone() };
                    TryResult::Fails(why)
                }
            };
            self.results.insert(address.clone(), result);
            for (step, one) in broken.into_iter().filter(|(step, _)| is_own(step)) {
                self.troubles.push((address.clone(), trouble(ground, graph, *step, one, name)));
            }
        }
    }
}

/// The tests of each definition, which are called as it is, or have its name before theirs.
fn tests_of(
    evaluation: &Evaluation,
    names: &BTreeMap<String, &DefinitionAddress>,
) -> BTreeMap<String, Vec<FileId>> {
    let graph = &evaluation.graph;
    let mut tests: BTreeMap<String, Vec<FileId>> = BTreeMap::new();
    for file in &evaluation.requested {
        let check = graph.file(*file).maker.and_then(|step| graph.step(step).check.as_ref());
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

fn trouble(ground: &AdoptedFolder, graph: &Graph, step: StepId, one: &Broken, name: &str) -> TryFailure {
    let inside = |path: &str| match ground.top.as_str() {
        "" => Some(path.to_owned()),
        top => path.strip_prefix(top)?.strip_prefix('/').map(str::to_owned),
    };
    let row = graph.step(step);
    let inputs = row.inputs.iter().map(|file| graph.file(*file)).filter(|file| file.maker.is_none());
    let check = row.check.as_ref().map(|check| check.address.to_string()).unwrap_or_default();
    TryFailure {
        printed: one.printed.clone(),
        writes: one.writes,
        wants_network: one.wants_network,
        is_too_long: one.is_too_long,
        is_test_run: one.has_ended && row.check.is_some(),
        refused: one.refused.iter().filter_map(|path| inside(path)).collect(),
        inputs: inputs.filter_map(|file| inside(file.path.as_str())).collect(),
        key: check.strip_prefix(name).unwrap_or_default().trim_start_matches('/').to_owned(),
    }
}

/// Runs scripts that work once more, and changes their definitions after what both runs show. Says whether any is another one.
fn settle_scripts(
    console: Console,
    ground: &AdoptedFolder,
    proposal: &mut Proposal,
    adopting: &Adopting,
    tried: &mut Tried,
) -> CommandResult<bool> {
    let is_script = |definition: &&Definition| {
        let works = tried.results.get(&definition.address.below(&ground.top)) == Some(&TryResult::Works);
        works && definition.body.calls().iter().any(|call| call.kit == Kit::Js && call.kind == "script")
    };
    let scripts: Vec<DefinitionAddress> =
        proposal.definitions.iter().filter(is_script).map(|one| one.address.clone()).collect();
    if scripts.is_empty() {
        return Ok(false);
    }
    let mut session = open_at(console, &ground.root)?;
    session.let_reach(if adopting.offline { Outreach::NoNetwork } else { Outreach::Everything });
    let mut workshop = lock(console, &mut session)?;
    let options = options_of(&workshop, How { keep_going: true, ..How::default() });
    let Ok(evaluation) = evaluate(console, &mut workshop, ground, &scripts, options)? else {
        return Ok(false);
    };
    let graph = &evaluation.graph;
    let makers: Vec<StepId> =
        evaluation.requested.iter().filter_map(|file| graph.file(*file).maker).collect();
    let made_by = |step: &StepId| -> BTreeMap<PathBuf, Vec<u8>> {
        let outputs = graph.step(*step).outputs.iter().map(|output| graph.file(output.file).path.as_str());
        outputs.flat_map(|path| contents(&ground.root.join(path))).collect()
    };
    let look = || -> BTreeMap<StepId, BTreeMap<PathBuf, Vec<u8>>> {
        makers.iter().map(|step| (*step, made_by(step))).collect()
    };
    let first = look();
    let collector = Collector::new(console, graph, None);
    let requested = &evaluation.requested;
    let report = workshop.test(&[], &evaluation, requested, &makers, &collector, options);
    let failed = collector.finish().failed;
    report.map_err(|problem| own_problem(console, problem))?;
    let second = look();
    let mut is_changed = false;
    for step in &makers {
        let owner = graph.owner(*step).address.to_string();
        let Some(address) = scripts.iter().find(|address| address.below(&ground.top) == owner) else {
            continue;
        };
        let is_same_again = (!failed.contains_key(step)).then(|| first[step] == second[step]);
        let seen = ScriptSeen { makes_files: !first[step].is_empty(), is_same_again };
        if let Some(how) = settle_script(proposal, address, seen) {
            tried.changes.entry(owner).or_default().push(how);
            is_changed = true;
        }
    }
    Ok(is_changed)
}

/// All files at and below a path, with what is in them.
fn contents(path: &Path) -> Vec<(PathBuf, Vec<u8>)> {
    match fs::symlink_metadata(path) {
        Ok(found) if found.is_dir() => {
            let entries = fs::read_dir(path).into_iter().flatten().flatten();
            entries.flat_map(|entry| contents(&entry.path())).collect()
        }
        Ok(found) if found.is_file() => vec![(path.to_owned(), fs::read(path).unwrap_or_default())],
        _ => Vec::new(),
    }
}

/// What definitions are asked for by.
fn patterns_of(ground: &AdoptedFolder, wanted: &[DefinitionAddress]) -> Vec<AddressPattern> {
    let root = WsPath::root();
    let pattern = |address: &DefinitionAddress| AddressPattern::new(&address.below(&ground.top), &root).ok();
    wanted.iter().filter_map(pattern).collect()
}

/// Evaluates definitions without a word.
fn evaluate(
    console: Console,
    workshop: &mut Workshop<'_>,
    ground: &AdoptedFolder,
    wanted: &[DefinitionAddress],
    options: Options,
) -> CommandResult<Result<Evaluation, String>> {
    let patterns = patterns_of(ground, wanted);
    loop {
        let evaluation = workshop.evaluate(&patterns);
        if let Some(error) = evaluation.diagnostics.iter().find(|one| one.severity == Severity::Error) {
            return Ok(Err(error.message.clone()));
        }
        if !evaluation.waiting || evaluation.probes.is_empty() {
            return Ok(Ok(evaluation));
        }
        let collector = Collector::new(console, &evaluation.graph, None);
        let report = workshop.answer(&evaluation, &collector, options);
        let seen = collector.finish();
        let report = report.map_err(|problem| own_problem(console, problem))?;
        match exit_of(&report) {
            Exit::Done => {}
            Exit::Interrupted => return Ok(Err("it was stopped".to_owned())),
            _ => return Ok(Err(seen.failed.into_values().next().map(|one| one.why).unwrap_or_default())),
        }
    }
}
