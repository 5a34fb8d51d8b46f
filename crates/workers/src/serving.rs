//! A worker at work: places that take jobs one after another, until somebody wants the end.

use std::cell::Cell;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use nubrik_confine::CancelSwitch;
use nubrik_machine::Machine;
use nubrik_shared::SharedStore;
use nubrik_web::{Caller, HttpRequest, Listener};

use crate::meter::WorkMeter;
use crate::{
    DoneJob, ExchangeTrouble, Hand, JobClient, NotDone, OpenedJob, TakenJob, ToolTeller, Turns,
    WorkEnd, WorkPlace,
};

/// How long a job is waited for before it is looked whether to end.
const PATIENCE: Duration = Duration::from_millis(500);

/// Where no job waits it is asked again after so long, and then after twice as long each time.
const SOON: Duration = Duration::from_millis(25);

/// How often it is looked whether what runs is still wanted.
const LOOK: Duration = Duration::from_millis(50);

/// After this time it is asked again who may give jobs.
const FRESH: Duration = Duration::from_secs(600);

/// Who cannot do jobs of a pool looks after so long whether that changed.
const AWAY: Duration = Duration::from_secs(60);

/// How long to wait before a server that does not answer is asked again.
const LATER: Duration = Duration::from_secs(2);

/// Hears what a worker does.
pub trait WorkerListener: Sync {
    /// A job is over here.
    fn over(&self, end: &WorkedJob<'_>);

    /// The worker is to end while so many jobs run.
    fn ends(&self, running: usize);

    /// Whether jobs that run are to be handed back now, though they may go on for a while.
    fn is_in_a_hurry(&self) -> bool;
}

/// How a job ended on this machine.
#[derive(Clone, Debug)]
pub struct WorkedJob<'a> {
    /// What its step does; empty where that is not known.
    pub say: &'a str,
    /// The build that it is of.
    pub build: &'a str,
    /// How it ended.
    pub end: WorkEnd,
    /// Why it has no result, for people.
    pub why_not: Option<&'a str>,
    /// How long it ran.
    pub took: Duration,
}

/// What it takes to work for others.
pub struct WorkSite {
    /// The name of the worker.
    pub name: String,
    /// Who hands out jobs.
    pub hand: Hand,
    /// Places for jobs, each with the switch that stops what runs there.
    pub places: Vec<(WorkPlace, Arc<CancelSwitch>)>,
    /// Those that run something take turns; there are more places than turns.
    pub turns: Arc<Turns>,
    /// How many turns there are.
    pub slots: usize,
    /// Who tells what tools there are.
    pub teller: ToolTeller,
    /// Where monitoring systems ask, if they may, and the version of the program that they see.
    pub metrics: Option<(Listener, String)>,
}

/// The end of a worker: since when it is wanted, and how long steps go on then.
struct Ending<'a> {
    since: OnceLock<Instant>,
    grace: Duration,
    listener: &'a dyn WorkerListener,
}

impl Ending<'_> {
    /// Whether steps that run are to be stopped now: their time is over, or somebody wants the end
    /// at once.
    fn is_over(&self) -> bool {
        let has_passed = self
            .since
            .get()
            .is_some_and(|since| since.elapsed() >= self.grace);
        has_passed || self.listener.is_in_a_hurry()
    }
}

/// Opens the shared cache anew: who may give jobs, and what is there, may have changed.
pub type SharedRenewal<'a> = &'a (dyn Fn() -> Option<Arc<SharedStore>> + Sync);

impl WorkSite {
    /// Does jobs until the machine's switch is thrown; those that run then go on for `grace` at
    /// most.
    pub fn serve(
        self,
        machine: &Machine,
        renew: SharedRenewal<'_>,
        listener: &dyn WorkerListener,
        grace: Duration,
    ) {
        let WorkSite {
            name,
            hand,
            places,
            turns,
            slots,
            teller,
            metrics,
        } = self;
        let ending = Ending {
            since: OnceLock::new(),
            grace,
            listener,
        };
        let meter = WorkMeter::default();
        meter.follow(&teller.shared);
        let (name, hand, meter, cancel) = (&*name, &hand, &meter, machine.cancel());
        let shift = Shift {
            name,
            hand,
            meter,
            machine: cancel,
            renew,
            listener,
            ending,
        };
        let (shift, turns) = (&shift, &*turns);
        // Monitoring sees the last jobs end.
        let is_over = || cancel.is_thrown() && hand.busy() == 0;
        let asked = metrics.as_ref().map(|(listener, version)| {
            let answer = move |request: &HttpRequest, caller: &mut Caller| {
                meter.answer(hand, version, request, caller);
            };
            (listener, answer)
        });
        std::thread::scope(|scope| {
            if let Some((listener, answer)) = &asked {
                scope.spawn(|| {
                    std::thread::scope(|callers| listener.serve(callers, &is_over, answer))
                });
            }
            scope.spawn(move || shift.answer_questions(&teller, machine, grace));
            for (number, (place, cancel)) in places.into_iter().enumerate() {
                // Those beyond the turns get ready what waits, while the others run something.
                let spare = (number >= slots).then_some(turns);
                scope.spawn(move || shift.work(spare, place, cancel));
            }
        });
    }
}

/// All that the places of a worker share.
struct Shift<'a> {
    name: &'a str,
    hand: &'a Hand,
    meter: &'a WorkMeter,
    /// The switch by which the worker is stopped.
    machine: &'a CancelSwitch,
    renew: SharedRenewal<'a>,
    listener: &'a dyn WorkerListener,
    ending: Ending<'a>,
}

impl Shift<'_> {
    /// Says what clients ask of this machine, until the worker is stopped; then says that it ends.
    fn answer_questions(&self, teller: &ToolTeller, machine: &Machine, grace: Duration) {
        while !self.machine.is_thrown() {
            let Some(question) = self.hand.question(LOOK) else {
                continue;
            };
            if let Some(answer) = teller.tools(machine, &question.bytes) {
                question.answer(answer);
            }
        }
        self.ending.since.get_or_init(Instant::now);
        self.hand.leave("it ends", grace + AWAY);
        self.listener.ends(self.hand.busy());
    }

    /// Does jobs in a place, one after another, until this program is stopped.
    fn work(&self, spare: Option<&Turns>, mut place: WorkPlace, mut cancel: Arc<CancelSwitch>) {
        let hand = self.hand;
        let mut pause = SOON;
        let mut since = Instant::now();
        while !self.machine.is_thrown() {
            if let Some(why) = place.lacks_room() {
                hand.leave(&why, AWAY);
            }
            let job = match next_job(hand, spare) {
                Ok(Some(job)) => job,
                Ok(None) => {
                    // Where nothing waits, the server is asked less and less.
                    if spare.is_some() {
                        std::thread::sleep(pause);
                        pause = (pause * 2).min(PATIENCE);
                    }
                    continue;
                }
                Err(_) => {
                    std::thread::sleep(LATER);
                    continue;
                }
            };
            if hand.is_stopped(&job.build) {
                // Nobody waits for it.
                job.close();
                continue;
            }
            pause = SOON;
            let began = Cell::new(Instant::now());
            let opened = match place.read(&job.bytes) {
                Ok(opened) => opened,
                Err(why) => {
                    // Another one may know who signed it; if nobody does, who sent it hears that
                    // from the server.
                    let why = why.to_string();
                    let end = (WorkEnd::Refused, Some(why.as_str()));
                    self.over("", &job.build, end, began.get());
                    job.pass_on();
                    continue;
                }
            };
            let number = opened.number();
            if hand.is_withdrawn(&job.build, number) {
                job.close();
                continue;
            }
            let done = self.perform(&job, opened, (&mut place, &cancel), &began);
            let build = job.build.clone();
            let (say, end, why) = self.said_of(done.as_ref());
            let unsent = self.settle((job, number), done);
            let end = match &unsent {
                None => (end, why.as_deref()),
                Some(unsent) => (WorkEnd::Unsent, Some(unsent.as_str())),
            };
            self.over(&say, &build, end, began.get());
            let is_old = since.elapsed() > FRESH || place.must_be_opened_again();
            if cancel.is_thrown() || is_old {
                // Who may give jobs, and what is there, may have changed.
                let Some(again) = self.opened_again(place) else {
                    return;
                };
                (place, cancel) = again;
                since = Instant::now();
            }
        }
    }

    /// What a job did, for people, how it ended, and why it has no result.
    fn said_of(&self, done: Option<&DoneJob>) -> (String, WorkEnd, Option<String>) {
        let nothing = |end, why: &str| (String::new(), end, Some(why.to_owned()));
        match done {
            Some(DoneJob { say, end, .. }) => {
                let (end, why) = match end {
                    Ok(()) => (WorkEnd::Ran, None),
                    Err(NotDone::Failed(why)) => (WorkEnd::Failed, Some(why)),
                    Err(NotDone::Unfit(why)) => (WorkEnd::Unfit, Some(why)),
                    Err(NotDone::Undone(why)) => (WorkEnd::Undone, Some(why)),
                };
                (say.clone(), end, why.cloned())
            }
            None if self.machine.is_thrown() => nothing(
                WorkEnd::HandedBack,
                "it is handed back, since this worker stops",
            ),
            None => nothing(WorkEnd::Unwanted, "it was stopped"),
        }
    }

    /// Gives the answer of a job, or the job itself, so that another worker does it. Gives why an
    /// answer could not be sent.
    fn settle(&self, (job, number): (TakenJob, u32), done: Option<DoneJob>) -> Option<String> {
        let hand = self.hand;
        match done {
            Some(DoneJob {
                end: Err(NotDone::Unfit(why)),
                ..
            }) => {
                hand.leave(&why, AWAY);
                job.pass_on();
            }
            Some(done) => {
                let trouble = job.answer(done.answer).err()?;
                return Some(format!(
                    "its answer cannot be sent, so another worker does it: {trouble}"
                ));
            }
            None if hand.is_withdrawn(&job.build, number) => job.close(),
            None => job.pass_on(),
        }
        None
    }

    /// Does a job, unless nobody wants it any more; notes when it `began` to run.
    fn perform(
        &self,
        job: &TakenJob,
        opened: OpenedJob,
        (place, cancel): (&mut WorkPlace, &CancelSwitch),
        began: &Cell<Instant>,
    ) -> Option<DoneJob> {
        let Shift {
            hand,
            machine,
            ending,
            ..
        } = self;
        let number = opened.number();
        let is_running = AtomicBool::new(false);
        let is_wanted = || !hand.is_withdrawn(&job.build, number);
        let begins = || {
            began.set(Instant::now());
            is_running.store(true, Ordering::Relaxed);
            job.begins(number, self.name, false);
        };
        let name = self.name;
        let unpacks = |is_now: bool| job.begins(number, name, is_now);
        let client = JobClient {
            is_wanted: &is_wanted,
            begins: &begins,
            unpacks: &unpacks,
        };
        std::thread::scope(|scope| {
            let (is_done, ended) = channel::<()>();
            let (build, is_running) = (&job.build, &is_running);
            scope.spawn(move || {
                // Until the other end is dropped.
                while ended.recv_timeout(LOOK) == Err(RecvTimeoutError::Timeout) {
                    let is_running = is_running.load(Ordering::Relaxed);
                    // What is only got ready is good for the next one: the place stays.
                    let is_unwanted = || is_running && hand.is_withdrawn(build, number);
                    if machine.is_thrown() && !is_running || ending.is_over() || is_unwanted() {
                        return cancel.throw();
                    }
                }
            });
            let done = place.perform(opened, &client);
            drop(is_done);
            done
        })
    }

    /// The same place, empty, with what is known of the shared cache now, and with the switch that
    /// stops it.
    fn opened_again(&self, place: WorkPlace) -> Option<(WorkPlace, Arc<CancelSwitch>)> {
        let shared = (self.renew)()?;
        self.meter.follow(&shared);
        let cancel = Arc::new(CancelSwitch::new().ok()?);
        Some((place.again(cancel.clone(), shared).ok()?, cancel))
    }

    fn over(
        &self,
        say: &str,
        build: &str,
        (end, why_not): (WorkEnd, Option<&str>),
        began: Instant,
    ) {
        let took = began.elapsed();
        self.meter.ended(end, took);
        self.listener.over(&WorkedJob {
            say,
            build,
            end,
            why_not,
            took,
        });
    }
}

/// The next job, for a place with a turn of its own, or for a spare one while all turns are taken.
fn next_job(hand: &Hand, spare: Option<&Turns>) -> Result<Option<TakenJob>, ExchangeTrouble> {
    match spare {
        None => hand.take(PATIENCE),
        Some(turns) if turns.wait_until_taken(PATIENCE) => hand.take_waiting(),
        Some(_) => Ok(None),
    }
}
