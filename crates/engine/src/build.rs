//! A build: the steps behind some files, in an order that makes the last one end early.

use std::collections::{HashMap, HashSet};
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, OnceLock, PoisonError};

use nubrik_bytes::Digest;
use nubrik_graph::{
    Closure, FileId, Graph, Needs, Place, ResultFile, Service, Step, StepId, ToolId, longest_chains,
};
use nubrik_source::WsPath;
use nubrik_store::Store;

use crate::candidates::Candidates;
use crate::event::{Event, Failure, Listener, Refusal, Summary, Verdict};
use crate::examine::{Decision, OnSystem};
use crate::files::FileTable;
use crate::outside::{FoundTool, Outside, ToolProblem};
use crate::queue::{Queue, Room};
use crate::reason::Reason;
use crate::state::{ChangeList, Changes, Published, State, StepMemory};
use crate::words::Asked;

/// What a step is taken to cost when it never ran, in microseconds: this, and more for each byte of
/// the sources that it certainly reads. Only the order among such steps follows from it.
const UNKNOWN_COST: f64 = 50_000.0;
const UNKNOWN_COST_OF_BYTE: f64 = 10.0;

/// How a build is to go.
#[derive(Clone, Copy, Debug)]
pub struct Options {
    /// How many steps run at once.
    pub jobs: usize,
    /// How much memory there is for steps that say how much they may take, in bytes.
    pub memory: u64,
    /// Whether to go on with what does not depend on a failure.
    pub keep_going: bool,
    /// Whether steps run that reach out of this machine. What is current or kept already is taken all the same.
    pub reaches_out: bool,
}

/// What is to be built.
#[derive(Clone, Copy)]
pub struct Request<'a> {
    /// Everything that it takes, or of a larger graph the steps that may have changed and those they need.
    pub graph: &'a Graph,
    /// The files that are asked for.
    pub files: &'a [FileId],
    /// Steps that are known to be current: they are not looked at.
    pub settled: &'a [StepId],
    /// The target that makes a file which is not in this graph.
    pub maker_elsewhere: &'a (dyn Fn(&str) -> Option<Arc<str>> + Sync),
    /// Whether the files are results that people want to find, or only needed for something else.
    pub publish: bool,
    /// Steps that run though their results are there.
    pub again: &'a [StepId],
}

impl<'a> Request<'a> {
    /// A request in a graph that has everything.
    pub fn whole(graph: &'a Graph, files: &'a [FileId]) -> Request<'a> {
        Request { graph, files, settled: &[], maker_elsewhere: &|_| None, publish: true, again: &[] }
    }
}

/// One build of one graph.
pub struct Build<'a> {
    pub(crate) graph: &'a Graph,
    pub(crate) outside: &'a dyn Outside,
    pub(crate) store: Option<&'a dyn Store>,
    pub(crate) listener: &'a dyn Listener,
    pub(crate) before: &'a State,
    pub(crate) table: FileTable<'a>,
    pub(crate) number: u64,
    /// Contents of outputs known so far, by number of file.
    pub(crate) made: Vec<OnceLock<Digest>>,
    /// What is known of steps whose outputs are known, by number of step.
    pub(crate) makers: Vec<OnceLock<Arc<StepMemory>>>,
    pub(crate) files_by_path: HashMap<&'a str, FileId>,
    /// What sets of files are in this run, by the sets' numbers.
    pub(crate) candidates: Vec<OnceLock<Candidates>>,
    /// What files ask about; looked for once a run.
    pub(crate) asked: Mutex<HashMap<Arc<str>, Arc<[Asked]>>>,
    /// What is at paths of the system.
    pub(crate) on_system: Mutex<HashMap<Arc<str>, OnSystem>>,
    pub(crate) store_reported: AtomicBool,
    tools: Vec<OnceLock<Result<FoundTool, ToolProblem>>>,
    after: Mutex<ChangeList<Arc<StepMemory>>>,
    pub(crate) maker_elsewhere: &'a (dyn Fn(&str) -> Option<Arc<str>> + Sync),
    again: HashSet<StepId>,
    pub(crate) options: Options,
    /// Definitions of which a step was recorded: where the target is defined, and the step.
    pub(crate) watched: Mutex<HashSet<(Place, Place)>>,
}

/// What a build came to.
pub struct Outcome {
    /// Counts and the longest chain.
    pub summary: Summary,
    /// What is to be remembered.
    pub changes: Changes,
    /// Whether it was stopped.
    pub cancelled: bool,
    /// Failures that lie in the machine: a tool that is missing.
    pub machine_lacks: bool,
    /// Sources and system files that were looked at, with what was found.
    pub looked_at: Vec<(Arc<str>, Option<crate::state::FileEntry>)>,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl<'a> Build<'a> {
    pub(crate) fn new(
        request: Request<'a>,
        before: &'a State,
        outside: &'a dyn Outside,
        store: Option<&'a dyn Store>,
        listener: &'a dyn Listener,
        options: Options,
    ) -> Self {
        let graph = request.graph;
        let build = Build {
            graph,
            outside,
            store,
            listener,
            before,
            table: FileTable::new(&before.files),
            number: before.builds + 1,
            made: graph.files.iter().map(|_| OnceLock::new()).collect(),
            makers: graph.steps.iter().map(|_| OnceLock::new()).collect(),
            files_by_path: graph
                .files
                .iter()
                .enumerate()
                .map(|(i, f)| (f.path.as_str(), FileId(i as u32)))
                .collect(),
            candidates: graph.sets.iter().map(|_| OnceLock::new()).collect(),
            asked: Mutex::default(),
            on_system: Mutex::default(),
            store_reported: AtomicBool::new(false),
            tools: graph.tools.iter().map(|_| OnceLock::new()).collect(),
            after: Mutex::default(),
            maker_elsewhere: request.maker_elsewhere,
            again: request.again.iter().copied().collect(),
            options,
            watched: Mutex::default(),
        };
        for step in request.settled {
            if let Some(memory) = before.steps.get(graph.step(*step).folder.as_str()) {
                build.know_outputs(*step, &memory);
            }
        }
        build
    }

    pub(crate) fn tool(&self, id: ToolId) -> Result<FoundTool, ToolProblem> {
        let find = || self.outside.tool(&self.graph.tools[id.index()]);
        self.tools[id.index()].get_or_init(find).clone()
    }

    fn remember(&self, id: StepId, memory: StepMemory) {
        let memory = Arc::new(memory);
        self.know_outputs(id, &memory);
        self.note(id, memory);
    }

    /// Takes note of the contents of a step's outputs.
    pub(crate) fn know_outputs(&self, id: StepId, memory: &Arc<StepMemory>) {
        for (output, record) in self.graph.step(id).outputs.iter().zip(&memory.outputs) {
            let _ = self.made[output.file.index()].set(record.digest());
        }
        let _ = self.makers[id.index()].set(memory.clone());
    }

    /// Takes note of what is to be remembered of a step.
    fn note(&self, id: StepId, memory: Arc<StepMemory>) {
        let folder = self.graph.step(id).folder.shared();
        lock(&self.after).push((folder.clone(), Some(memory)));
    }

    fn remembered_cost(&self, id: StepId) -> f64 {
        // What failed took as long as it took; it will hardly take less when it works.
        let known = self.before.cost_of(self.graph.step(id).folder.shared());
        known.map_or_else(|| self.guessed_cost(id), |micros| micros as f64)
    }

    fn guessed_cost(&self, id: StepId) -> f64 {
        let inputs = self.graph.step(id).inputs.iter().map(|f| self.graph.file(*f));
        let sources = inputs.filter(|file| file.maker.is_none());
        let bytes: u64 = sources.filter_map(|f| self.outside.check(f.path.as_str())).map(|s| s.size).sum();
        UNKNOWN_COST + UNKNOWN_COST_OF_BYTE * bytes as f64
    }
}

struct Progress {
    queue: Queue,
    verdicts: Vec<Option<Verdict>>,
    /// What a blocked step waits for in vain.
    failed_need: Vec<Option<StepId>>,
    remaining: usize,
    stop: bool,
    summary: Summary,
    machine_lacks: bool,
    /// Time that each step took in this build, by number of step.
    micros: Vec<u64>,
    /// How many workers wait for something to begin.
    waiting: usize,
    /// How many steps that are not done with may need each service, by the service's folder.
    needed: HashMap<WsPath, usize>,
}

/// How many of some steps use each service, directly or by way of another one.
fn needed_services(graph: &Graph, steps: &[StepId]) -> HashMap<WsPath, usize> {
    let mut needed = HashMap::new();
    for id in steps {
        for service in all_services(graph.step(*id)) {
            *needed.entry(service.folder.clone()).or_default() += 1;
        }
    }
    needed
}

/// All services that run for a step, those among them that others need.
fn all_services(step: &Step) -> Vec<Arc<Service>> {
    let mut all = Vec::new();
    step.services.iter().for_each(|service| service.add_to(&mut all));
    all
}

impl Progress {
    /// The services that nobody needs any more now that a step is done with; users of a service before it.
    fn no_longer_needed(&mut self, step: &Step) -> Vec<Arc<Service>> {
        let mut all = all_services(step);
        all.retain(|service| {
            let count = self.needed.get_mut(&service.folder);
            count.is_some_and(|count| {
                *count -= 1;
                *count == 0
            })
        });
        all.reverse();
        all
    }
}

struct Schedule<'b, 'a> {
    build: &'b Build<'a>,
    order: Vec<StepId>,
    results: HashMap<FileId, Vec<&'b ResultFile>>,
    progress: Mutex<Progress>,
    changed: Condvar,
    /// Results that were published now.
    published: Mutex<HashMap<Arc<str>, Published>>,
    /// Names of all that was published before, sorted.
    published_before: OnceLock<Vec<Arc<str>>>,
    out: &'b str,
}

/// Builds the steps behind the files of a request, and publishes results below `out` (a folder, from the
/// workspace's root). Never fails as a whole: what went wrong is in the events and the summary.
pub fn build(
    request: Request<'_>,
    out: &str,
    before: &State,
    outside: &dyn Outside,
    store: Option<&dyn Store>,
    listener: &dyn Listener,
    options: Options,
) -> Outcome {
    let Request { graph, files, settled, publish, .. } = request;
    let build = Build::new(request, before, outside, store, listener, options);
    let mut order = Closure::of(graph, files.iter().copied()).steps;
    let settled: HashSet<StepId> = settled.iter().copied().collect();
    order.retain(|step| !settled.contains(step));
    listener.hear(&Event::Began { steps: order.len() });
    let published = if publish { files } else { &[] };
    let schedule = Schedule::new(&build, order, &settled, published, out);
    let workers = options.jobs.min(schedule.order.len()).max(1);
    std::thread::scope(|scope| {
        for _ in 0..workers {
            scope.spawn(|| {
                schedule.build.outside.begin_worker(workers);
                schedule.work();
            });
        }
    });
    let Schedule { progress, published, order, .. } = schedule;
    let mut progress = progress.into_inner().unwrap_or_else(PoisonError::into_inner);
    progress.summary.steps = order.len();
    longest_run(graph, &order, &progress.micros, &mut progress.summary);
    let looked_at = build.table.looked_at();
    let mut steps = std::mem::take(&mut *lock(&build.after));
    steps.sort_by(|a, b| a.0.cmp(&b.0));
    let published = published.into_inner().unwrap_or_else(PoisonError::into_inner);
    let mut published: Vec<_> = published.into_iter().map(|(path, entry)| (path, Some(entry))).collect();
    published.sort_by(|a, b| a.0.cmp(&b.0));
    let changes = Changes { builds: build.number, files: build.table.changes(), steps, published };
    Outcome {
        summary: progress.summary,
        changes,
        cancelled: outside.is_cancelled(),
        machine_lacks: progress.machine_lacks,
        looked_at,
    }
}

/// The chain of steps that took longest in this build.
fn longest_run(graph: &Graph, order: &[StepId], micros: &[u64], summary: &mut Summary) {
    let chains = longest_chains(graph, order, |s| micros[s.index()] as f64);
    let ran: Vec<StepId> = order.iter().copied().filter(|s| micros[s.index()] > 0).collect();
    let Some(mut at) = ran.iter().copied().max_by(|a, b| chains[a.index()].total_cmp(&chains[b.index()]))
    else {
        return;
    };
    summary.chain_micros = chains[at.index()] as u64;
    let mut users: HashMap<StepId, Vec<StepId>> = HashMap::new();
    let needs_of = Needs::of(graph);
    for &step in &ran {
        for need in needs_of.of_step(step) {
            users.entry(need).or_default().push(step);
        }
    }
    loop {
        summary.chain.push((graph.owner(at).address.clone(), graph.step(at).say.clone()));
        let next = users.get(&at).into_iter().flatten().copied();
        match next.max_by(|a, b| chains[a.index()].total_cmp(&chains[b.index()])) {
            Some(next) => at = next,
            None => return,
        }
    }
}

impl<'b, 'a> Schedule<'b, 'a> {
    fn new(
        build: &'b Build<'a>,
        order: Vec<StepId>,
        settled: &HashSet<StepId>,
        requested: &[FileId],
        out: &'b str,
    ) -> Self {
        let graph = build.graph;
        let count = graph.steps.len();
        let room = Room { processors: build.options.jobs.max(1), memory: build.options.memory };
        let queue = Queue::new(graph, &order, settled, |s| build.remembered_cost(s), room);
        let mut results: HashMap<FileId, Vec<&ResultFile>> = HashMap::new();
        let wanted: HashSet<FileId> = requested.iter().copied().collect();
        for result in graph.targets.iter().flat_map(|t| &t.results) {
            if wanted.contains(&result.file) {
                results.entry(result.file).or_default().push(result);
            }
        }
        let progress = Progress {
            queue,
            verdicts: vec![None; count],
            failed_need: vec![None; count],
            remaining: order.len(),
            stop: false,
            summary: Summary::default(),
            machine_lacks: false,
            micros: vec![0; count],
            waiting: 0,
            needed: needed_services(graph, &order),
        };
        Schedule {
            build,
            order,
            results,
            progress: Mutex::new(progress),
            changed: Condvar::new(),
            published: Mutex::default(),
            published_before: OnceLock::new(),
            out,
        }
    }

    fn work(&self) {
        while let Some(step) = self.next() {
            let done = self.attend(step);
            if matches!(done.verdict, Verdict::Ran | Verdict::Reused | Verdict::Current) {
                self.publish(step, done.verdict);
            }
            self.finish(step, done);
        }
    }

    fn next(&self) -> Option<StepId> {
        let mut progress = lock(&self.progress);
        loop {
            if progress.remaining == 0 {
                return None;
            }
            if let Some(step) = progress.queue.begin() {
                return Some(step);
            }
            progress.waiting += 1;
            progress = self.changed.wait(progress).unwrap_or_else(PoisonError::into_inner);
            progress.waiting -= 1;
        }
    }

    fn attend(&self, step: StepId) -> Done {
        let build = self.build;
        {
            let progress = lock(&self.progress);
            if let Some(need) = progress.failed_need[step.index()] {
                let (target, say) =
                    (build.graph.owner(need).address.clone(), build.graph.step(need).say.clone());
                return Done::new(Verdict::Blocked, Reason::NeedFailed { target, say });
            }
            if progress.stop || build.outside.is_cancelled() {
                return Done::new(Verdict::Left, Reason::Stopped);
            }
        }
        let now = match build.examine(step) {
            Ok(now) => now,
            Err(failure) => {
                return Done { failure: Some(failure), ..Done::new(Verdict::Failed, Reason::Unfinished) };
            }
        };
        if build.again.contains(&step) {
            return self.run(step, &now, Reason::AskedFor);
        }
        match build.decide(step, &now) {
            Decision::Unchanged(memory) => {
                build.know_outputs(step, &memory);
                Done::new(Verdict::Current, Reason::Unchanged)
            }
            Decision::Current(memory, reason) => {
                build.remember(step, *memory);
                Done::new(Verdict::Current, reason)
            }
            Decision::Reuse(entry, reason) => match build.reuse(step, &now, &entry, &reason) {
                Some(memory) => {
                    build.remember(step, memory);
                    Done {
                        micros: entry.micros,
                        printed: entry.printed,
                        ..Done::new(Verdict::Reused, reason)
                    }
                }
                None => self.run(step, &now, reason),
            },
            Decision::Run(reason) => self.run(step, &now, reason),
        }
    }

    fn run(&self, step: StepId, now: &crate::examine::Examined, reason: Reason) -> Done {
        let build = self.build;
        let performed = build.run_step(step, now, &reason);
        let done = Done {
            micros: performed.micros,
            printed: performed.printed,
            survived: performed.survived,
            ..Done::new(Verdict::Ran, reason)
        };
        match performed.result {
            Ok(memory) => {
                build.remember(step, memory);
                done
            }
            Err(failure) => {
                // What the step made before is gone from its folder; only its cost is still true.
                let unfinished = StepMemory {
                    first_key: now.first_key,
                    command: now.parts.command,
                    described: build.describe(step),
                    tools: now.parts.tools.clone(),
                    inputs: now.parts.inputs.clone(),
                    found: Vec::new(),
                    candidate_names: now.names,
                    passed_over: Vec::new(),
                    outputs: Vec::new(),
                    signatures: Vec::new(),
                    micros: done.micros,
                    build: build.number,
                    because: StepMemory::because_of(&done.reason),
                };
                build.note(step, Arc::new(unfinished));
                let verdict = if failure.is_some() { Verdict::Failed } else { Verdict::Left };
                Done { verdict, failure, ..done }
            }
        }
    }

    fn finish(&self, step: StepId, done: Done) {
        let node = self.build.graph.step(step);
        if !node.services.is_empty() {
            // Before others see that nothing is left to do: a service ends with the thread that started it.
            let unneeded = lock(&self.progress).no_longer_needed(node);
            unneeded.iter().for_each(|service| self.build.outside.no_longer_needed(service));
        }
        let lacks = match &done.failure {
            Some(Failure::NoTool(_)) => true,
            Some(Failure::Service(failure)) => failure.problem.lies_in_machine(),
            _ => false,
        };
        let ran = matches!(done.verdict, Verdict::Ran | Verdict::Failed);
        let (verdict, micros) = (done.verdict, done.micros);
        self.build.listener.hear(&Event::Done {
            step,
            verdict,
            reason: done.reason,
            micros,
            printed: done.printed,
            failure: done.failure,
        });
        if !done.survived.is_empty() {
            self.build.listener.hear(&Event::Survived { step, refused: done.survived });
        }
        let mut progress = lock(&self.progress);
        let at = step.index();
        progress.verdicts[at] = Some(verdict);
        progress.micros[at] = if ran { micros.max(1) } else { 0 };
        progress.machine_lacks |= lacks;
        progress.remaining -= 1;
        let check = self.build.graph.step(step).check.as_ref();
        let is_quarantined = verdict == Verdict::Failed && check.is_some_and(|c| c.quarantined.is_some());
        match is_quarantined {
            true => progress.summary.quarantined += 1,
            false => progress.summary.count(verdict),
        }
        if verdict == Verdict::Failed && !is_quarantined {
            progress.stop |= !self.build.options.keep_going;
        }
        let blame = match verdict {
            Verdict::Failed => Some(step),
            Verdict::Blocked => progress.failed_need[at],
            _ => None,
        };
        let Progress { queue, failed_need, stop, .. } = &mut *progress;
        for user in queue.users(step) {
            let known = &mut failed_need[user.index()];
            *known = known.or(blame);
            *stop |= verdict == Verdict::Left && blame.is_none();
        }
        queue.end(step);
        let somebody_waits = progress.waiting > 0;
        drop(progress);
        if somebody_waits {
            self.changed.notify_all();
        }
    }

    /// Puts copies of a step's results where people find them, unless they are there and true.
    fn publish(&self, step: StepId, verdict: Verdict) {
        let build = self.build;
        for output in &build.graph.step(step).outputs {
            let Some(results) = self.results.get(&output.file) else { continue };
            let Some(digest) = build.made[output.file.index()].get() else { continue };
            for result in results {
                let to: Arc<str> = format!("{}/{}", self.out, result.publish.as_str()).into();
                let node = build.graph.file(output.file);
                let known = lock(&self.published).get(&to).cloned();
                let known = known.or_else(|| build.before.published.get(&to));
                let found = self.signatures(&to, node.folder);
                match &known {
                    Some((d, signatures)) if *signatures == found && *d == *digest => continue,
                    // A step that ran or was reused says in its own line why.
                    Some((_, signatures)) if *signatures != found && verdict == Verdict::Current => {
                        let notice = crate::event::Notice::PutBack(to.to_string(), !found.is_empty());
                        build.listener.hear(&Event::Notice(notice));
                    }
                    _ => {}
                }
                let published = match known.is_none().then(|| self.in_the_way(&to)).flatten() {
                    Some(other) => Err(std::io::Error::other(format!(
                        "{other} is a result of another target; building everything tells which two they are"
                    ))),
                    None => build.outside.publish(node.path.as_str(), &to),
                };
                match published {
                    Ok(()) => {
                        let signatures = self.signatures(&to, node.folder);
                        lock(&self.published).insert(to, (*digest, signatures));
                    }
                    Err(e) => {
                        let problem = format!("cannot put a result at {to}: {e}");
                        build.listener.hear(&Event::Notice(crate::event::Notice::NotPublished(problem)));
                        lock(&self.progress).summary.unpublished += 1;
                    }
                }
            }
        }
    }

    /// A result that was published before, still stands, and would be taken away: a folder in which a new one is to be put,
    /// or something in the place of the new one. Whoever evaluates only a part does not see that they exclude each other.
    fn in_the_way(&self, to: &str) -> Option<Arc<str>> {
        let published = &self.build.before.published;
        // What was taken away, or made anew by somebody else, is in nobody's way.
        let stands = |path: &str| {
            let now = self.build.outside.check_itself(path);
            now.is_some_and(|now| {
                published.get(path).is_some_and(|(_, then)| self.signatures(path, now.is_folder()) == then)
            })
        };
        let mut above = to.match_indices('/').map(|(at, _)| &to[..at]);
        if let Some(folder) = above.find(|folder| stands(folder)) {
            return Some(folder.into());
        }
        let below = format!("{to}/");
        let names = self.published_before.get_or_init(|| published.names());
        let first = names.partition_point(|name| **name < *below);
        let mut inside = names[first..].iter().take_while(|name| name.starts_with(&below));
        inside.find(|name| stands(name)).cloned()
    }

    fn signatures(&self, path: &str, folder: bool) -> Vec<crate::outside::Signature> {
        match folder {
            false => self.build.outside.check_itself(path).into_iter().collect(),
            true => {
                self.build.outside.tree(path).unwrap_or_default().into_iter().map(|f| f.signature).collect()
            }
        }
    }
}

struct Done {
    verdict: Verdict,
    reason: Reason,
    micros: u64,
    printed: Vec<u8>,
    failure: Option<Failure>,
    survived: Vec<Refusal>,
}

impl Done {
    fn new(verdict: Verdict, reason: Reason) -> Done {
        Done { verdict, reason, micros: 0, printed: Vec::new(), failure: None, survived: Vec::new() }
    }
}
