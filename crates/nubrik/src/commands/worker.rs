//! `nubrik workers serve` and `nubrik workers`: machines that run steps for others.

use std::cell::Cell;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use nubrik_confine::CancelSwitch;
use nubrik_exchange::{ExchangeTrouble, Hand, TakenJob};
use nubrik_session::{
    DoneJob, NotDone, OpenedJob, Session, TeamTrouble, Turns, WorkPlace, WorkSite, is_worker_name,
};
use nubrik_wording::{counted, duration};
use serde::Serialize;

use super::{CommandResult, labelled, open, say_wrong};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, outln};
use crate::ui::paint::Ink;
use crate::ui::text::{padded, width};
use crate::ui::visible::visible;

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

#[derive(Serialize)]
struct WorkerEvent<'a> {
    event: &'static str,
    name: &'a str,
    slots: usize,
    busy: usize,
    machine: &'a str,
    labels: &'a [String],
    #[serde(skip_serializing_if = "Option::is_none")]
    away: Option<&'a str>,
}

#[derive(Serialize)]
struct WorkedEvent<'a> {
    event: &'static str,
    say: &'a str,
    build: &'a str,
    state: &'static str,
    seconds: f64,
    #[serde(skip_serializing_if = "Option::is_none")]
    why: Option<&'a str>,
}

/// Says who works for the pool that the workspace names.
pub fn workers(console: Console, choice: &Choice) -> CommandResult<Exit> {
    let session = open(console, choice)?;
    if session.workspace.settings.workers.is_none() {
        return Err(no_settings(console));
    }
    let problem = |why: TeamTrouble| {
        let mend = "at in [workers] of nubrik.toml: nubrik explain workers";
        say_wrong(console, Exit::Failed, &format!("the workers cannot be asked: {why}"), &[mend])
    };
    let all = session.workers().map_err(problem)?;
    if console.is_json() {
        for alive in &all {
            let nubrik_exchange::Alive { name, slots, busy, machine, labels, away } = alive;
            let (slots, busy, away) = (*slots, *busy, away.as_deref());
            console.event(&WorkerEvent { event: "worker", name, slots, busy, machine, labels, away });
        }
        return Ok(Exit::Done);
    }
    let widest = all.iter().map(|alive| width(&alive.name)).max().unwrap_or(0);
    let paint = console.paint(OutputStream::Output);
    for alive in &all {
        let steps = format!("{} at once", counted(alive.slots, "step"));
        let (name, machine) = (padded(&visible(&alive.name), widest), visible(&alive.machine));
        let text = format!("{name}   {steps}, {} now   {machine}", alive.busy);
        outln!(console, "{}", labelled(paint, Ink::Found, "worker", &text));
        let own =
            nubrik_graph::platform_of(&alive.labels.iter().map(|l| l.as_str().into()).collect::<Vec<_>>())
                .map(str::to_owned);
        let given: Vec<&str> =
            alive.labels.iter().filter(|label| !own.contains(label)).map(|l| l.as_str()).collect();
        if !given.is_empty() {
            let text = format!("{}   is {}", padded("", widest), given.join(", "));
            outln!(console, "{}", labelled(paint, Ink::Calm, "", &text));
        }
        if let Some(why) = &alive.away {
            let text = format!("{}   takes no steps for a while: {}", padded("", widest), visible(why));
            outln!(console, "{}", labelled(paint, Ink::Doubt, "", &text));
        }
    }
    if all.is_empty() {
        outln!(console, "{}", labelled(paint, Ink::Calm, "workers", "no worker is in this pool now"));
    }
    Ok(Exit::Done)
}

fn no_settings(console: Console) -> Exit {
    let mend = "[workers] with at = \"nats://jobs.example:4222\": nubrik explain workers";
    say_wrong(console, Exit::Usage, "nubrik.toml names no server for workers", &[mend])
}

/// How somebody works for others, as it was typed.
pub struct WorkerChoice<'a> {
    pub slots: Option<u16>,
    pub name: Option<&'a str>,
    pub labels: &'a [String],
    /// How long steps go on when this program is to end.
    pub grace: Duration,
}

/// The end of a worker: since when it was to end, and how long its steps go on.
struct Ending {
    since: OnceLock<Instant>,
    grace: Duration,
}

impl Ending {
    /// Whether steps that run are to be stopped now: their time is over, or somebody wanted the end once more.
    fn is_over(&self) -> bool {
        let has_passed = self.since.get().is_some_and(|since| since.elapsed() >= self.grace);
        has_passed || crate::interrupt::times_wanted_to_end() > 1
    }
}

/// Works for others until it is stopped.
pub fn worker(console: Console, choice: &Choice, own: &WorkerChoice) -> CommandResult<Exit> {
    let WorkerChoice { slots, name, labels, grace } = *own;
    let mut session = open(console, choice)?;
    if session.workspace.settings.workers.is_none() {
        return Err(no_settings(console));
    }
    let name = name.map_or_else(own_name, str::to_owned);
    if !is_worker_name(&name) {
        let text = format!("`{name}` is no name of a worker: letters, digits, `-`, `_` and `.`, 64 at most");
        return Err(say_wrong(console, Exit::Usage, &text, &["nubrik workers serve --name mill-2"]));
    }
    if let Some(label) = labels.iter().find(|label| !nubrik_graph::is_label(label)) {
        let text = format!("`{label}` is no label: letters, digits, `-` and `_`, 32 at most");
        return Err(say_wrong(console, Exit::Usage, &text, &["nubrik workers serve --label tide-board"]));
    }
    let labels: Vec<Arc<str>> = labels.iter().map(|label| Arc::from(label.as_str())).collect();
    let slots = slots.map_or(session.default_jobs(), usize::from);
    let ready = session.work_for_others(&name, slots, &labels, &CancelSwitch::new);
    let WorkSite { hand, places, turns, teller } = ready.map_err(|why| {
        say_wrong(console, Exit::Usage, &format!("this machine cannot be a worker: {why}"), &[])
    })?;
    let paint = console.paint(OutputStream::Output);
    if !console.is_json() {
        let steps = counted(slots, "step");
        let text = format!("{name} runs {steps} at once for clients; Ctrl-C stops it");
        outln!(console, "{}", labelled(paint, Ink::Found, "worker", &text));
    }
    let ending = Ending { since: OnceLock::new(), grace };
    let (session, hand, name, turns, ending) = (&session, &hand, &*name, &*turns, &ending);
    std::thread::scope(|scope| {
        scope.spawn(move || {
            while !session.is_stopped() {
                let Some(question) = hand.question(LOOK) else { continue };
                if let Some(answer) = teller.tools(session, &question.bytes) {
                    question.answer(answer);
                }
            }
            ending.since.get_or_init(Instant::now);
            say_end(console, hand, grace);
        });
        for (number, (place, cancel)) in places.into_iter().enumerate() {
            // Those beyond the turns get ready what waits, while the others run something.
            let spare = (number >= slots).then_some(turns);
            scope.spawn(move || serve(console, (session, ending), (hand, name, spare), (place, cancel)));
        }
    });
    Ok(Exit::Done)
}

/// Says to all that this machine ends, and to people what becomes of the steps that run.
fn say_end(console: Console, hand: &Hand, grace: Duration) {
    hand.leave("it ends", grace + AWAY);
    let running = hand.busy();
    if running == 0 || console.is_json() {
        return;
    }
    let steps = counted(running, "step");
    let text = format!(
        "stops when its {steps} have ended, or hands them back in {} s; Ctrl-C hands them back now",
        grace.as_secs()
    );
    outln!(console, "{}", labelled(console.paint(OutputStream::Output), Ink::Doubt, "worker", &text));
}

/// What this machine is called, where nobody says otherwise.
fn own_name() -> String {
    let host = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    let host = if host.trim().is_empty() { "machine" } else { host.trim() };
    let fine = |c: char| if c.is_ascii_alphanumeric() || matches!(c, '-' | '.') { c } else { '-' };
    let host: String = host.chars().map(fine).take(40).collect();
    format!("{host}-{}", std::process::id())
}

/// Does jobs in a place, one after another, until this program is stopped.
fn serve(
    console: Console,
    (session, ending): (&Session, &Ending),
    (hand, name, spare): (&Hand, &str, Option<&Turns>),
    (mut place, mut cancel): (WorkPlace, Arc<CancelSwitch>),
) {
    let mut pause = SOON;
    let mut since = Instant::now();
    while !session.is_stopped() {
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
                // Another one may know who signed it; if nobody does, who sent it hears that from the server.
                tell(console, "", &job.build, Some(&why.to_string()), began.get().elapsed());
                job.pass_on();
                continue;
            }
        };
        let number = opened.number();
        if hand.is_withdrawn(&job.build, number) {
            job.close();
            continue;
        }
        let done = perform((session, ending), (hand, name), &job, opened, (&mut place, &cancel), &began);
        let (say, why) = said_of(session, done.as_ref());
        tell(console, say, &job.build, why, began.get().elapsed());
        let is_old = since.elapsed() > FRESH || place.must_be_opened_again();
        if cancel.is_thrown() || is_old {
            // Who may give jobs, and what is there, may have changed.
            let Some(again) = opened_again(session, place) else { return };
            (place, cancel) = again;
            since = Instant::now();
        }
        settle(console, hand, (job, number), done, began.get());
    }
}

/// What a job did, for people, and why it has no result.
fn said_of<'d>(session: &Session, done: Option<&'d DoneJob>) -> (&'d str, Option<&'d str>) {
    match done {
        Some(DoneJob { say, end, .. }) => (say.as_str(), end.as_ref().err().map(NotDone::why)),
        None if session.is_stopped() => ("", Some("it is handed back, since this worker stops")),
        None => ("", Some("it was stopped")),
    }
}

/// Gives the answer of a job, or the job itself, so that another worker does it.
fn settle(
    console: Console,
    hand: &Hand,
    (job, number): (TakenJob, u32),
    done: Option<DoneJob>,
    began: Instant,
) {
    match done {
        Some(DoneJob { end: Err(NotDone::Unfit(why)), .. }) => {
            hand.leave(&why, AWAY);
            job.pass_on();
        }
        Some(done) => {
            let build = job.build.clone();
            if let Err(trouble) = job.answer(done.answer) {
                let why = format!("its answer cannot be sent, so another worker does it: {trouble}");
                tell(console, &done.say, &build, Some(&why), began.elapsed());
            }
        }
        None if hand.is_withdrawn(&job.build, number) => job.close(),
        None => job.pass_on(),
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

/// Does a job, unless nobody wants it any more; notes when it `began` to run.
fn perform(
    (session, ending): (&Session, &Ending),
    (hand, name): (&Hand, &str),
    job: &TakenJob,
    opened: OpenedJob,
    (place, cancel): (&mut WorkPlace, &CancelSwitch),
    began: &Cell<Instant>,
) -> Option<DoneJob> {
    let number = opened.number();
    let is_running = AtomicBool::new(false);
    let is_wanted = || !hand.is_withdrawn(&job.build, number);
    let begins = || {
        began.set(Instant::now());
        is_running.store(true, Ordering::Relaxed);
        job.begins(number, name);
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
                if session.is_stopped() && !is_running || ending.is_over() || is_unwanted() {
                    return cancel.throw();
                }
            }
        });
        let done = place.perform(opened, (&is_wanted, &begins), &crate::ui::failure::short);
        drop(is_done);
        done
    })
}

/// The same place, empty, with what is known of the shared cache now, and with the switch that stops it.
fn opened_again(session: &Session, place: WorkPlace) -> Option<(WorkPlace, Arc<CancelSwitch>)> {
    let shared = session.new_shared().ok()?;
    let cancel = Arc::new(CancelSwitch::new().ok()?);
    Some((place.again(cancel.clone(), shared).ok()?, cancel))
}

fn tell(console: Console, say: &str, build: &str, why: Option<&str>, took: Duration) {
    if console.is_json() {
        let (event, state) = ("worked", if why.is_none() { "ran" } else { "gave_up" });
        return console.event(&WorkedEvent { event, say, build, state, seconds: took.as_secs_f64(), why });
    }
    let paint = console.paint(OutputStream::Output);
    let took = duration(took.as_micros() as u64);
    match why {
        None => {
            outln!(console, "{}", labelled(paint, Ink::Busy, "ran", &format!("{say}   {took}   for {build}")))
        }
        Some(why) => {
            outln!(
                console,
                "{}",
                labelled(paint, Ink::Doubt, "gave up", &format!("{say}   for {build}: {why}"))
            );
        }
    }
}
