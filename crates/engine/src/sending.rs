//! Steps that other machines run for this one. What they make comes back as a result of a shared
//! store, and counts under the same conditions; what does not come, or does not count, is made
//! here.

use std::cmp::Reverse;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use nubrik_bytes::Digest;
use nubrik_graph::{FileId, FileNode, LoneStep, SetId, StepId};
use nubrik_source::{FilePath, WsPath};
use nubrik_store::RecordEntry;

use crate::build::Build;
use crate::event::{Event, Failure, Verdict};
use crate::examine::{Examined, INHERITS, SEES_BESIDES};
use crate::performer::{Errand, FailedElsewhere, Performer, SetFile, StepAnswer};
use crate::reason::Reason;
use crate::schedule::Schedule;
use crate::sent::SentStep;
use crate::state::{StepMemory, memory_for_others};
use crate::step_end::{Attended, StepEnd};

/// How often it is looked whether an answer came.
const LOOK: Duration = Duration::from_millis(20);

/// What takes less time than this is done sooner here, in microseconds.
const WORTH_SENDING: u64 = 50_000;

/// Why a step is not sent that another machine could not run as this one does.
const TIED: &str = "it uses something of this machine: the network, a service, a folder that it keeps, a program that stays, \
                    an output that it gives early, or a link among its sources";

impl Build<'_> {
    /// A step as another machine would run it; nothing where only this one can.
    fn errand(&self, id: StepId, now: &Examined) -> Option<Errand> {
        let step = self.graph.step(id);
        let is_bound = self.is_for_others(id);
        // A slot is one processor, and nobody says how much memory there is.
        let is_heavy = !is_bound && (step.limits.processors > 1 || step.limits.memory.is_some());
        // What is seen besides what is declared is of this machine alone.
        let sees_more = now
            .parts
            .tools
            .iter()
            .any(|(name, _)| [SEES_BESIDES, INHERITS].contains(&&**name));
        if is_heavy || sees_more || step.is_tied() {
            return None;
        }
        // Of the image that it runs in, too: a machine that lacks it puts it together.
        let image = self.graph.image_of(id).map(|image| self.graph.step(image));
        let of_image = image.into_iter().flat_map(|image| image.inputs.iter());
        let sources = self.plain_sources(step.inputs.iter().chain(of_image))?;
        let of_set = |set: &SetId| Some((*set, self.plain_set(*set)?));
        let sets = step
            .candidates
            .iter()
            .map(of_set)
            .collect::<Option<Vec<_>>>()?;
        let lone = LoneStep::of(self.graph, id, self.needs()).ok()?;
        let mut made = Vec::new();
        for maker in LoneStep::makers_of(self.graph, id, self.needs()) {
            let memory = self.made_by(maker)?;
            made.push((
                self.graph.step(maker).folder.shared().clone(),
                memory_for_others(memory),
            ));
        }
        let forecast = self.remembered_cost(id) as u64;
        Some(Errand {
            step: id,
            lone,
            first_key: now.first_key,
            tools: now.parts.tools.clone(),
            sources,
            sets,
            made,
            machine: step.needed_labels(),
            is_bound,
            forecast,
        })
    }

    /// The files of a set, which are looked at once a build; nothing where a link leads to a source
    /// among them.
    fn plain_set(&self, set: SetId) -> Option<Arc<[SetFile]>> {
        let files = self.graph.sets.files(set);
        let look = || {
            self.plain_sources(files.iter())?;
            let nodes = files.iter().map(|file| self.graph.file(*file));
            let file = |node: &FileNode| SetFile {
                path: node.path.clone(),
                folder: node.folder,
                is_made: node.maker.is_some(),
            };
            Some(nodes.map(file).collect())
        };
        self.known.sent_sets[set.index()].get_or_init(look).clone()
    }

    /// The sources among some files; nothing where a link leads to one: what that leads to may be
    /// anywhere.
    fn plain_sources<'f>(&self, files: impl Iterator<Item = &'f FileId>) -> Option<Vec<WsPath>> {
        let nodes = files
            .map(|file| self.graph.file(*file))
            .filter(|node| node.maker.is_none());
        nodes
            .map(|node| {
                self.outside
                    .links_to(&node.path)
                    .is_empty()
                    .then(|| node.path.clone())
            })
            .collect()
    }

    /// A result that another machine made just now, if it counts.
    fn counted_here(&self, id: StepId, now: &Examined, entry: RecordEntry) -> Option<RecordEntry> {
        let is_unmoved = |(path, digest): &(FilePath, Digest)| {
            self.must_be_as_examined(id, path, digest).is_ok()
        };
        if !now.parts.inputs.iter().all(is_unmoved) {
            return None;
        }
        match self.is_for_others(id) {
            true => self.counted_from_there(id, entry),
            false => self.fits(id, now, &entry).then_some(entry),
        }
    }
}

impl Schedule<'_, '_> {
    /// Sends a step that is to run to another machine, if one would begin it now.
    /// `ahead` it may wait there until somebody is free.
    pub(crate) fn send(
        &self,
        id: StepId,
        now: Examined,
        reason: &Reason,
        ahead: bool,
    ) -> Result<(), Examined> {
        let build = self.build;
        let Some(performer) = build.performer else {
            return Err(now);
        };
        let forecast = self.costs[id.index()] as u64;
        let is_bound = build.is_for_others(id);
        // What only others can run waits for them; the labels of all others are those of this
        // machine.
        let has_place = || {
            let labels = build.graph.step(id).needed_labels();
            is_bound || forecast >= WORTH_SENDING && performer.has_place(&labels, ahead)
        };
        if self.not_sent.lock().contains_key(&id) || !has_place() {
            return Err(now);
        }
        let Some(errand) = build.errand(id, &now) else {
            self.send_no_more(id, TIED);
            return Err(now);
        };
        let known = build.before.cost_of(build.graph.step(id).folder.shared());
        let sent = SentStep {
            now,
            reason: reason.clone(),
            at: None,
            forecast: Duration::from_micros(forecast),
            // What nobody ran took nothing.
            is_known: known.is_some_and(|took| took > 0),
            is_begun: false,
            unpacks: false,
            is_gone: false,
            is_doubled: false,
            is_bound,
        };
        // All of it before it is sent: the answer may be there at once.
        let reason = reason.clone();
        build.listener.hear(&Event::WillRun { step: id, reason });
        self.progress.lock().queue.set_aside(id);
        self.sent.lock().insert(id, sent);
        if performer.send(&errand) {
            if let Some(sent) = self.sent.lock().get_mut(&id) {
                sent.at = Some(Instant::now());
            }
            self.changed.notify_all();
            return Ok(());
        }
        self.send_no_more(id, "it could not be sent");
        let Some(sent) = self.sent.lock().remove(&id) else {
            // Somebody took it back meanwhile, and whoever begins it then goes on with it.
            return Ok(());
        };
        self.progress.lock().queue.come_back(id);
        Err(sent.now)
    }

    /// Sends a step that this machine cannot run; how it ended, where nobody can run it.
    pub(crate) fn hand_on(&self, id: StepId, now: Examined, reason: Reason) -> Attended {
        let now = match self.send(id, now, &reason, true) {
            Ok(()) => return Attended::Sent,
            Err(now) => now,
        };
        let problem = match self.not_sent.lock().get(&id) {
            Some(why) => why.to_string(),
            None => "no worker is available".to_owned(),
        };
        let labels = self.build.graph.step(id).machine.clone();
        self.build.note(
            id,
            Arc::new(self.build.unfinished(id, &now, (0, &Reason::FailedBefore))),
        );
        let failure = Some(Failure::NoMachine { labels, problem });
        StepEnd {
            failure,
            ..StepEnd::new(Verdict::Failed, reason)
        }
        .into()
    }

    /// Keeps those here from being sent that only this machine runs, as far as that is known before
    /// they are looked at.
    pub(crate) fn sort_out(&self) {
        let (build, mut progress) = (self.build, self.progress.lock());
        for id in &self.order {
            let step = build.graph.step(*id);
            let is_short = (self.costs[id.index()] as u64) < WORTH_SENDING;
            if !build.is_for_others(*id)
                && (is_short || step.commands.is_empty() || build.again.contains(id))
            {
                progress.queue.keep_here(*id);
            }
        }
    }

    /// Sends steps while those who run some are busy, until nothing is left to do: others wait for
    /// nobody here.
    pub(crate) fn forward(&self) {
        while let Some(step) = self.next_to_send() {
            match self.attend(step, true) {
                Attended::Ended(done) => self.end(step, *done),
                Attended::Sent => {}
                Attended::ToRun(_) => {
                    let mut progress = self.progress.lock();
                    // Nobody had room for it after all, or it cannot be sent.
                    if self.not_sent.lock().contains_key(&step) {
                        progress.queue.keep_here(step);
                    }
                    progress.queue.put_back(step);
                    drop(progress);
                    self.changed.notify_all();
                }
            }
        }
    }

    /// The next step for another machine, as soon as there is one and somebody would begin it.
    fn next_to_send(&self) -> Option<StepId> {
        let (build, performer) = (self.build, self.build.performer?);
        let would = |id: StepId, ahead: bool| {
            build.is_for_others(id)
                || performer.has_place(&build.graph.step(id).needed_labels(), ahead)
        };
        let mut progress = self.progress.lock();
        loop {
            if progress.remaining == 0 || self.is_over.load(Ordering::Relaxed) {
                return None;
            }
            // Who is free here takes what would only wait there.
            let ahead = progress.running_here >= build.options.jobs.min(self.order.len());
            if let Some(step) = progress.queue.begin_elsewhere(|id| would(id, ahead)) {
                return Some(step);
            }
            progress.senders += 1;
            self.changed.wait_for(&mut progress, LOOK);
            progress.senders -= 1;
        }
    }

    fn send_no_more(&self, id: StepId, why: &str) {
        self.not_sent.lock().insert(id, why.into());
    }

    /// Takes answers, until nothing is left to do.
    pub(crate) fn take_answers(&self) {
        let Some(performer) = self.build.performer else {
            return;
        };
        while self.progress.lock().remaining > 0 && !self.is_over.load(Ordering::Relaxed) {
            self.take_answer(performer);
        }
    }

    /// Takes an answer, if one comes soon.
    fn take_answer(&self, performer: &dyn Performer) {
        match performer.receive(LOOK) {
            Some((step, StepAnswer::Begun { machine, unpacks })) => {
                let mut sent = self.sent.lock();
                let Some(sent_step) = sent.get_mut(&step) else {
                    return;
                };
                sent_step.is_begun = true;
                let before = std::mem::replace(&mut sent_step.unpacks, unpacks);
                drop(sent);
                self.build
                    .listener
                    .hear(&Event::Elsewhere { step, machine });
                if unpacks != before {
                    self.build.listener.hear(&Event::Unpacks {
                        step,
                        is_over: !unpacks,
                    });
                }
            }
            Some((step, StepAnswer::Gone(_))) => {
                let mut sent = self.sent.lock();
                sent.get_mut(&step).into_iter().for_each(SentStep::lose);
            }
            Some((step, answer)) => {
                let sent = self.sent.lock().remove(&step);
                if let Some(sent) = sent {
                    self.answered(step, &sent, answer);
                }
            }
            None => {}
        }
    }

    /// Hears what becomes of steps that were sent, until nothing is left to do: takes answers, and
    /// begins once more what is late.
    pub(crate) fn receive(&self) {
        let Some(performer) = self.build.performer else {
            return;
        };
        let mut is_any_left = false;
        let mut looked = Instant::now();
        while self.progress.lock().remaining > 0 && !self.is_over.load(Ordering::Relaxed) {
            self.take_answer(performer);
            // To look at all that is under way for each answer would cost the product of both.
            if looked.elapsed() < LOOK {
                continue;
            }
            looked = Instant::now();
            is_any_left |= self.double();
            let is_over = self.build.outside.is_cancelled() || self.progress.lock().stop;
            let given_up = self.given_up(is_over);
            match is_over && !given_up.is_empty() {
                true => performer.abandon(),
                // What is begun here instead is of use to nobody.
                false => given_up
                    .iter()
                    .for_each(|(step, _)| performer.withdraw(*step)),
            }
            is_any_left |= !given_up.is_empty();
            given_up
                .iter()
                .for_each(|(step, why)| self.take_back(*step, why));
        }
        if is_any_left {
            performer.abandon();
        }
    }

    /// Steps that others have and are begun here instead, and why: as many as there is room for, or
    /// all where it `is_over`.
    fn given_up(&self, is_over: bool) -> Vec<(StepId, &'static str)> {
        let mut sent = self.sent.lock();
        let idle = {
            let progress = self.progress.lock();
            progress.waiting.min(progress.queue.idle_processors())
        };
        if sent.is_empty() || !is_over && idle == 0 {
            return Vec::new();
        }
        let of_use = |(step, sent): (&StepId, &SentStep)| {
            let why = match () {
                () if is_over => "nothing more is begun",
                () if sent.is_bound => return None,
                () if sent.is_gone => "the machine that began it is gone",
                () if sent.is_late() => "it is late",
                () if sent.only_waits() => "it only waited there",
                () => return None,
            };
            Some((sent.at, *step, why))
        };
        let mut given_up: Vec<_> = sent.iter().filter_map(of_use).collect();
        // What was sent last waits longest for its turn there.
        given_up.sort_unstable_by_key(|(at, step, _)| (Reverse(*at), *step));
        given_up.truncate(if is_over { usize::MAX } else { idle });
        given_up
            .iter()
            .for_each(|(_, step, _)| drop(sent.remove(step)));
        given_up
            .into_iter()
            .map(|(_, step, why)| (step, why))
            .collect()
    }

    /// Sends what is late to a second machine, where one is free.
    fn double(&self) -> bool {
        let Some(performer) = self.build.performer else {
            return false;
        };
        let mut has_doubled = false;
        let mut late: Vec<(StepId, u64)> = {
            let sent = self.sent.lock();
            let late = sent
                .iter()
                .filter(|(_, sent)| sent.is_late() && !sent.is_doubled);
            late.map(|(step, sent)| (*step, sent.forecast.as_micros() as u64))
                .collect()
        };
        // The longest chain first would take looking: those that take longest are its likeliest.
        late.sort_unstable_by_key(|(step, forecast)| (std::cmp::Reverse(*forecast), *step));
        for (step, _) in late {
            if !performer.has_place(&self.build.graph.step(step).needed_labels(), false) {
                continue;
            }
            let errand = self
                .sent
                .lock()
                .get(&step)
                .and_then(|sent| self.build.errand(step, &sent.now));
            if errand.is_some_and(|errand| performer.send(&errand)) {
                self.sent
                    .lock()
                    .get_mut(&step)
                    .into_iter()
                    .for_each(SentStep::send_again);
                has_doubled = true;
            }
        }
        has_doubled
    }

    fn answered(&self, id: StepId, sent: &SentStep, answer: StepAnswer) {
        let build = self.build;
        let (entry, machine) = match answer {
            StepAnswer::Made(entry, machine) => (entry, machine),
            StepAnswer::Failed(failed) if sent.is_bound => {
                return self.failed_there(id, sent, *failed);
            }
            // A second machine may still make it; here it is sure.
            StepAnswer::Failed(failed) => {
                self.failed_there.lock().insert(id, failed.machine.clone());
                return self.take_back(id, &format!("it failed on {}", failed.machine));
            }
            StepAnswer::Not(why) => return self.take_back(id, &why),
            StepAnswer::Begun { .. } | StepAnswer::Gone(_) => return,
        };
        let Some(entry) = build.counted_here(id, &sent.now, *entry) else {
            return self.take_back(
                id,
                "what came back does not count here: something changed meanwhile",
            );
        };
        let Some(memory) = build.reuse(id, &sent.now, &entry, &sent.reason) else {
            return self.take_back(id, "what it made cannot be fetched");
        };
        build.remember(
            id,
            StepMemory {
                because: StepMemory::because_of(&sent.reason),
                ..memory
            },
        );
        build.sent.fetch_add(1, Ordering::Relaxed);
        let done = StepEnd {
            micros: entry.micros,
            printed: entry.printed,
            machine: Some(machine),
            ..StepEnd::new(Verdict::Ran, sent.reason.clone())
        };
        self.hand_out(id, Verdict::Ran);
        self.finish(id, done);
    }

    /// Ends a step that failed on the one machine that can run it.
    fn failed_there(&self, id: StepId, sent: &SentStep, failed: FailedElsewhere) {
        let FailedElsewhere {
            failure,
            printed,
            micros,
            machine,
        } = failed;
        let unfinished = self
            .build
            .unfinished(id, &sent.now, (micros, &Reason::FailedBefore));
        self.build.note(id, Arc::new(unfinished));
        // What it made before is of no use to anyone, as where it runs here.
        self.build
            .outside
            .discard(&self.build.graph.step(id).folder);
        let (failure, machine) = (Some(failure), Some(machine));
        let end = StepEnd::new(Verdict::Failed, sent.reason.clone());
        self.finish(
            id,
            StepEnd {
                micros,
                printed,
                failure,
                machine,
                ..end
            },
        );
    }

    /// Lets a step be run here, or fail, that was sent.
    fn take_back(&self, id: StepId, why: &str) {
        self.send_no_more(id, why);
        let mut progress = self.progress.lock();
        progress.queue.keep_here(id);
        progress.queue.put_back(id);
        drop(progress);
        self.changed.notify_all();
    }
}
