//! Who works on what: steps begun in order, what becomes of them, and what is published.

use std::collections::{HashMap, HashSet};
use std::sync::atomic::AtomicBool;
use std::sync::mpsc::Sender;
use std::sync::{Arc, OnceLock};

use nubrik_disk::Signature;
use nubrik_graph::{FileId, Graph, Needs, ResultFile, Service, Step, StepId, longest_chains};
use nubrik_source::WsPath;
use parking_lot::{Condvar, Mutex};

use crate::away::WhyNotTaken;
use crate::build::Build;
use crate::event::{Event, Failure, Notice, SharedUse, Summary, Verdict};
use crate::examine::{AsMade, Decision, Examined};
use crate::queue::{Capacity, Queue};
use crate::reason::Reason;
use crate::sent::SentSteps;
use crate::state::Published;
use crate::step_end::{Attended, RunHere, StepEnd};

pub(crate) struct Progress {
    pub(crate) queue: Queue,
    pub(crate) verdicts: Vec<Option<Verdict>>,
    /// What a blocked step waits for in vain.
    pub(crate) failed_need: Vec<Option<StepId>>,
    pub(crate) remaining: usize,
    pub(crate) stop: bool,
    pub(crate) summary: Summary,
    pub(crate) shared: SharedUse,
    pub(crate) machine_lacks: bool,
    /// Time that each step took in this build, by number of step.
    pub(crate) micros: Vec<u64>,
    /// How many workers wait for something to begin.
    pub(crate) waiting: usize,
    /// How many workers run a step.
    pub(crate) running_here: usize,
    /// How many threads wait for something to send.
    pub(crate) senders: usize,
    /// How many steps that are not done with may need each service, by the service's folder.
    pub(crate) needed: HashMap<WsPath, usize>,
}

pub(crate) struct Schedule<'b, 'a> {
    pub(crate) build: &'b Build<'a>,
    pub(crate) order: Vec<StepId>,
    /// By number of step: what it will take, in microseconds.
    pub(crate) costs: Vec<f64>,
    pub(crate) results: HashMap<FileId, Vec<&'b ResultFile>>,
    pub(crate) progress: Mutex<Progress>,
    pub(crate) changed: Condvar,
    /// Results that were published now.
    pub(crate) published: Mutex<HashMap<Arc<str>, Published>>,
    /// Names of all that was published before, sorted.
    pub(crate) published_before: OnceLock<Vec<Arc<str>>>,
    pub(crate) out: &'b WsPath,
    /// Steps whose outputs are wanted here, whatever needs them.
    pub(crate) wanted: HashSet<StepId>,
    /// Takes steps whose results are wanted and away.
    pub(crate) to_fetch: Mutex<Option<Sender<(StepId, Verdict)>>>,
    /// Steps that other machines run now.
    pub(crate) sent: Mutex<SentSteps>,
    /// Whether nobody works on it any more.
    pub(crate) is_over: AtomicBool,
    /// Steps that are not sent any more: only this machine runs them, or they came back, and why.
    pub(crate) not_sent: Mutex<HashMap<StepId, Arc<str>>>,
    /// Steps that failed on other machines and run here once more, and on which machine.
    pub(crate) failed_there: Mutex<HashMap<StepId, Arc<str>>>,
}

impl<'b, 'a> Schedule<'b, 'a> {
    pub(crate) fn new(
        build: &'b Build<'a>,
        order: Vec<StepId>,
        settled: &HashSet<StepId>,
        (files, published): (&[FileId], &[FileId]),
        out: &'b WsPath,
    ) -> Self {
        let graph = build.graph;
        let count = graph.steps.len();
        let room = Capacity {
            processors: build.options.jobs.max(1),
            memory: build.options.memory,
        };
        let mut costs = vec![0.0; count];
        for step in &order {
            costs[step.index()] = build.remembered_cost(*step);
        }
        let queue = Queue::new(graph, &order, settled, |step| costs[step.index()], room);
        let mut results: HashMap<FileId, Vec<&ResultFile>> = HashMap::new();
        let requested: HashSet<FileId> = published.iter().copied().collect();
        for result in graph.targets.iter().flat_map(|t| &t.results) {
            if requested.contains(&result.file) {
                results.entry(result.file).or_default().push(result);
            }
        }
        let makers = files.iter().filter_map(|file| graph.file(*file).maker);
        let progress = Progress {
            queue,
            verdicts: vec![None; count],
            failed_need: vec![None; count],
            remaining: order.len(),
            stop: false,
            summary: Summary::default(),
            shared: SharedUse::default(),
            machine_lacks: false,
            micros: vec![0; count],
            waiting: 0,
            running_here: 0,
            senders: 0,
            needed: needed_services(graph, &order),
        };
        Schedule {
            build,
            order,
            costs,
            results,
            progress: Mutex::new(progress),
            changed: Condvar::new(),
            published: Mutex::default(),
            published_before: OnceLock::new(),
            out,
            wanted: makers.collect(),
            to_fetch: Mutex::default(),
            sent: Mutex::default(),
            is_over: AtomicBool::new(false),
            not_sent: Mutex::default(),
            failed_there: Mutex::default(),
        }
    }

    pub(crate) fn work(&self) {
        while let Some(step) = self.next() {
            // With a free place here, nothing goes elsewhere to wait.
            match self.attend(step, false) {
                Attended::Ended(done) => self.end(step, *done),
                Attended::Sent => {}
                Attended::ToRun(to_run) => {
                    let RunHere { now, reason, why } = *to_run;
                    self.progress.lock().running_here += 1;
                    let done = self.run(step, &now, reason, why);
                    self.progress.lock().running_here -= 1;
                    self.end(step, done);
                }
            }
        }
    }

    /// Ends a step, and hands out what it made.
    pub(crate) fn end(&self, step: StepId, done: StepEnd) {
        if matches!(
            done.verdict,
            Verdict::Ran | Verdict::Reused | Verdict::Current
        ) {
            self.hand_out(step, done.verdict);
        }
        self.finish(step, done);
    }

    pub(crate) fn next(&self) -> Option<StepId> {
        let mut progress = self.progress.lock();
        loop {
            if progress.remaining == 0 {
                return None;
            }
            if let Some(step) = progress.queue.begin() {
                return Some(step);
            }
            progress.waiting += 1;
            self.changed.wait(&mut progress);
            progress.waiting -= 1;
        }
    }

    /// What becomes of a step: whether it is done with, another machine runs it, perhaps after it
    /// waited there (`ahead`), or it is to run here.
    pub(crate) fn attend(&self, step: StepId, ahead: bool) -> Attended {
        let build = self.build;
        if let Some(end) = self.unbegun(step) {
            return end.into();
        }
        let now = match build.examine(step) {
            Ok(now) => now,
            Err(failure) => {
                let end = StepEnd::new(Verdict::Failed, Reason::Unfinished);
                return StepEnd {
                    failure: Some(failure),
                    ..end
                }
                .into();
            }
        };
        let is_for_others = build.is_for_others(step);
        let to_run = |now, reason, why| Attended::ToRun(Box::new(RunHere { now, reason, why }));
        if build.again.contains(&step) {
            return match is_for_others {
                true => self.hand_on(step, now, Reason::AskedFor),
                false => to_run(now, Reason::AskedFor, None),
            };
        }
        match build.decide(step, &now) {
            Decision::Unchanged(memory) => {
                build.know_outputs(step, &memory);
                StepEnd::new(Verdict::Current, Reason::Unchanged).into()
            }
            Decision::Current(memory, reason) => {
                build.remember(step, *memory);
                StepEnd::new(Verdict::Current, reason).into()
            }
            Decision::Reuse(entry, reason) => match build.reuse(step, &now, &entry, &reason) {
                Some(memory) => {
                    self.count_taken(&entry);
                    build.remember(step, memory);
                    let end = StepEnd::new(Verdict::Reused, reason);
                    StepEnd {
                        micros: entry.micros,
                        printed: entry.printed,
                        ..end
                    }
                    .into()
                }
                None => {
                    let why = build.not_taken(step, &now).map(|_| WhyNotTaken::NotHad);
                    to_run(now, reason, why)
                }
            },
            Decision::Run(reason) if is_for_others => self.hand_on(step, now, reason),
            Decision::Run(reason) => {
                let why = build.not_taken(step, &now);
                match self.send(step, now, &reason, ahead) {
                    Ok(()) => Attended::Sent,
                    Err(now) => to_run(now, reason, why),
                }
            }
        }
    }

    /// How a step ends that does not begin.
    fn unbegun(&self, step: StepId) -> Option<StepEnd> {
        let graph = self.build.graph;
        let progress = self.progress.lock();
        if let Some(need) = progress.failed_need[step.index()] {
            let target = graph.owner(need).address.clone();
            let say = graph.step(need).say.clone();
            let reason = Reason::NeedFailed { target, say };
            return Some(StepEnd::new(Verdict::Blocked, reason));
        }
        let stops = progress.stop || self.build.outside.is_cancelled();
        stops.then(|| StepEnd::new(Verdict::Unstarted, Reason::Stopped))
    }

    /// Runs a step; `why` nothing that others gave was taken for it is counted.
    pub(crate) fn run(
        &self,
        step: StepId,
        now: &Examined,
        reason: Reason,
        why: Option<WhyNotTaken>,
    ) -> StepEnd {
        let build = self.build;
        if !build.bring_needs(step) {
            self.progress.lock().stop = true;
            return StepEnd::new(Verdict::Unstarted, Reason::Stopped);
        }
        self.count_not_taken(why);
        let performed = build.run_step(step, now, &reason, &|| self.give_early(step));
        let done = StepEnd {
            micros: performed.micros,
            printed: performed.printed,
            survived: performed.survived,
            ..StepEnd::new(Verdict::Ran, reason)
        };
        match performed.result {
            Ok(memory) => {
                build.remember(step, memory);
                done
            }
            Err(failure) => {
                // What the step made before is gone from its folder.
                let because = if failure.is_some() {
                    Reason::FailedBefore
                } else {
                    Reason::Unfinished
                };
                let unfinished = build.unfinished(step, now, (done.micros, &because));
                build.note(step, Arc::new(unfinished));
                let verdict = if failure.is_some() {
                    Verdict::Failed
                } else {
                    Verdict::Unstarted
                };
                StepEnd {
                    verdict,
                    failure,
                    ..done
                }
            }
        }
    }

    /// Lets those begin that need of a step only what it gives before it ends.
    fn give_early(&self, step: StepId) {
        let mut progress = self.progress.lock();
        progress.queue.gave_early(step);
        if progress.waiting > 0 {
            drop(progress);
            self.changed.notify_all();
        }
    }

    pub(crate) fn finish(&self, step: StepId, done: StepEnd) {
        let node = self.build.graph.step(step);
        if !node.services.is_empty() {
            // Before others see that nothing is left to do: a service ends with the thread that
            // started it.
            let unneeded = self.progress.lock().no_longer_needed(node);
            unneeded
                .iter()
                .for_each(|service| self.build.outside.no_longer_needed(service));
        }
        let lacks = match &done.failure {
            Some(Failure::NoTool(_)) => true,
            Some(Failure::Service(failure)) => failure.problem.lies_in_machine(),
            _ => false,
        };
        let ran = matches!(done.verdict, Verdict::Ran | Verdict::Failed);
        let (verdict, micros) = (done.verdict, done.micros);
        let ran_here = verdict == Verdict::Ran && done.machine.is_none();
        self.build.listener.hear(&Event::Done {
            step,
            verdict,
            machine: done.machine,
            reason: done.reason,
            micros,
            printed: done.printed,
            failure: done.failure,
        });
        if ran_here && let Some(machine) = self.failed_there.lock().remove(&step) {
            let (target, say) = (self.build.graph.title(step), node.say.clone());
            self.build
                .listener
                .hear(&Event::Notice(Notice::FailedOnlyThere {
                    target,
                    say,
                    machine,
                }));
        }
        if !done.survived.is_empty() {
            self.build.listener.hear(&Event::Survived {
                step,
                refused: done.survived,
            });
        }
        let mut progress = self.progress.lock();
        progress.machine_lacks |= lacks;
        progress.note_end(
            self.build,
            (step, verdict),
            if ran { micros.max(1) } else { 0 },
        );
        let somebody_waits = progress.waiting + progress.senders > 0;
        drop(progress);
        if somebody_waits {
            self.changed.notify_all();
        }
    }

    /// Whether a place holds, by content, an output of a step that is current; `then` are the
    /// metadata that it had there.
    fn holds_output(
        &self,
        step: StepId,
        index: usize,
        place: &WsPath,
        then: &[nubrik_disk::Signature],
    ) -> bool {
        let memory = self
            .build
            .before
            .steps
            .get(self.build.graph.step(step).folder.as_str());
        let Some(record) = memory.as_ref().and_then(|memory| memory.outputs.get(index)) else {
            return false;
        };
        let (mut then, mut now) = (then.iter(), Vec::new());
        self.build
            .output_in_place(place, record, &mut then, &mut now, AsMade::ByContent)
            .is_ok()
    }

    /// Puts copies of a step's results where people find them, unless they are there and true.
    pub(crate) fn publish(&self, step: StepId, verdict: Verdict) {
        let build = self.build;
        for (index, output) in build.graph.step(step).outputs.iter().enumerate() {
            let Some(results) = self.results.get(&output.file) else {
                continue;
            };
            let Some(digest) = build.known.made[output.file.index()].get() else {
                continue;
            };
            for result in results {
                let to = self.out.join(result.publish.as_str());
                let node = build.graph.file(output.file);
                let known = self.published.lock().get(to.as_str()).cloned();
                let known = known.or_else(|| build.before.published.get(to.as_str()));
                let found = self.signatures(&to, node.folder);
                let is_there = node.folder || !found.is_empty();
                match &known {
                    Some((d, signatures)) if is_there && *signatures == found && *d == *digest => {
                        continue;
                    }
                    // In a copy of the workspace results have other times, and are as they were.
                    Some((d, signatures))
                        if is_there
                            && verdict == Verdict::Current
                            && *d == *digest
                            && self.holds_output(step, index, &to, signatures) =>
                    {
                        self.published
                            .lock()
                            .insert(to.shared().clone(), (*digest, found));
                        continue;
                    }
                    // A step that ran or was reused says in its own line why.
                    Some((_, signatures))
                        if *signatures != found && verdict == Verdict::Current =>
                    {
                        let notice =
                            crate::event::Notice::PutBack(to.to_string(), !found.is_empty());
                        build.listener.hear(&Event::Notice(notice));
                    }
                    _ => {}
                }
                let published = self.put_result(&node.path, &to, node.folder, known.is_some());
                match published {
                    Ok(signatures) => {
                        self.published
                            .lock()
                            .insert(to.shared().clone(), (*digest, signatures));
                    }
                    Err(e) => {
                        let problem = format!("cannot put a result at {to}: {e}");
                        build
                            .listener
                            .hear(&Event::Notice(crate::event::Notice::NotPublished(problem)));
                        self.progress.lock().summary.unpublished += 1;
                    }
                }
            }
        }
    }

    /// Puts a copy of a result where people find it; the metadata of what is there then.
    fn put_result(
        &self,
        from: &WsPath,
        to: &WsPath,
        is_folder: bool,
        is_known: bool,
    ) -> std::io::Result<Vec<Signature>> {
        if !is_known && let Some(other) = self.in_the_way(to) {
            return Err(std::io::Error::other(format!(
                "{other} is a result of another target; building everything tells which two they are"
            )));
        }
        self.build.outside.publish(from, to)?;
        let signatures = self.signatures(to, is_folder);
        // Somebody may remove results meanwhile: what is not there now must not count as what was
        // put there.
        match signatures.len() == self.signatures(from, is_folder).len() {
            true => Ok(signatures),
            false => Err(std::io::Error::other("it was removed at once")),
        }
    }

    /// A result that was published before, is still there, and would be taken away: a folder in
    /// which a new one is to be put, or something in the place of the new one. A caller that
    /// evaluates only a part does not see that they exclude each other.
    pub(crate) fn in_the_way(&self, to: &WsPath) -> Option<Arc<str>> {
        let published = &self.build.before.published;
        // What was removed, or made by someone else, is not in the way.
        let stands = |path: &str| {
            let at = WsPath::from_normal(path);
            let now = self.build.outside.check_itself(&at);
            now.is_some_and(|now| {
                published
                    .get(path)
                    .is_some_and(|(_, then)| self.signatures(&at, now.is_folder()) == then)
            })
        };
        let to = to.as_str();
        let mut above = to.match_indices('/').map(|(at, _)| &to[..at]);
        if let Some(folder) = above.find(|folder| stands(folder)) {
            return Some(folder.into());
        }
        let below = format!("{to}/");
        let names = self.published_before.get_or_init(|| published.names());
        let first = names.partition_point(|name| **name < *below);
        let mut inside = names[first..]
            .iter()
            .take_while(|name| name.starts_with(&below));
        inside.find(|name| stands(name)).cloned()
    }

    pub(crate) fn signatures(&self, path: &WsPath, folder: bool) -> Vec<nubrik_disk::Signature> {
        match folder {
            false => self.build.outside.check_itself(path).into_iter().collect(),
            true => self
                .build
                .outside
                .tree(path)
                .unwrap_or_default()
                .into_iter()
                .map(|f| f.signature)
                .collect(),
        }
    }
}

/// How many of some steps use each service, directly or by way of another one.
pub(crate) fn needed_services(graph: &Graph, steps: &[StepId]) -> HashMap<WsPath, usize> {
    let mut needed = HashMap::new();
    for id in steps {
        for service in all_services(graph.step(*id)) {
            *needed.entry(service.folder.clone()).or_default() += 1;
        }
    }
    needed
}

/// All services that run for a step, those among them that others need.
pub(crate) fn all_services(step: &Step) -> Vec<Arc<Service>> {
    let mut all = Vec::new();
    step.services
        .iter()
        .for_each(|service| service.add_to(&mut all));
    all
}

/// The chain of steps that took longest in this build.
pub(crate) fn longest_run(graph: &Graph, order: &[StepId], micros: &[u64], summary: &mut Summary) {
    let chains = longest_chains(graph, order, |s| micros[s.index()] as f64);
    let ran: Vec<StepId> = order
        .iter()
        .copied()
        .filter(|s| micros[s.index()] > 0)
        .collect();
    let Some(mut at) = ran
        .iter()
        .copied()
        .max_by(|a, b| chains[a.index()].total_cmp(&chains[b.index()]))
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
        summary
            .chain
            .push((graph.owner(at).address.clone(), graph.step(at).say.clone()));
        let next = users.get(&at).into_iter().flatten().copied();
        match next.max_by(|a, b| chains[a.index()].total_cmp(&chains[b.index()])) {
            Some(next) => at = next,
            None => return,
        }
    }
}

impl Progress {
    /// Takes note of how a step ended, and after how many microseconds, and lets those begin that
    /// need it.
    fn note_end(&mut self, build: &Build<'_>, (step, verdict): (StepId, Verdict), micros: u64) {
        let at = step.index();
        self.verdicts[at] = Some(verdict);
        self.micros[at] = micros;
        self.remaining -= 1;
        let check = build.graph.step(step).check.as_ref();
        let is_quarantined =
            verdict == Verdict::Failed && check.is_some_and(|c| c.quarantined.is_some());
        match is_quarantined {
            true => self.summary.quarantined += 1,
            false => self.summary.counts.count(verdict),
        }
        if verdict == Verdict::Failed && !is_quarantined {
            self.stop |= !build.options.keep_going;
        }
        let blame = match verdict {
            Verdict::Failed => Some(step),
            Verdict::Blocked => self.failed_need[at],
            _ => None,
        };
        for user in self.queue.users(step) {
            let known = &mut self.failed_need[user.index()];
            *known = known.or(blame);
            self.stop |= verdict == Verdict::Unstarted && blame.is_none();
        }
        self.queue.end(step);
    }

    /// The services that no one needs any more now that a step is done with; users of a service
    /// before it.
    pub(crate) fn no_longer_needed(&mut self, step: &Step) -> Vec<Arc<Service>> {
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
