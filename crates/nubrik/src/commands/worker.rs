//! `nubrik workers serve` and `nubrik workers`: machines that run steps for others.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use nubrik_answers::{MetricsEvent, WorkedEvent, WorkerEvent, given_labels};
use nubrik_confine::CancelSwitch;
use nubrik_session::Listener;
use nubrik_team::TeamTrouble;
use nubrik_wording::{counted, duration};
use nubrik_workers::{WorkedJob, WorkerListener, is_worker_name};

use super::{CommandResult, labelled, open, say_wrong};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, outln};
use crate::ui::paint::Ink;
use crate::ui::text::{padded, width};
use crate::ui::visible::visible;

/// Says who works for the pool that the workspace names.
pub fn workers(console: Console, choice: &Choice) -> CommandResult<Exit> {
    let session = open(console, choice)?;
    if session.workspace.settings.workers.is_none() {
        return Err(no_settings(console));
    }
    let problem = |why: TeamTrouble| {
        let mend = "at in [workers] of nubrik.toml: nubrik explain workers";
        say_wrong(
            console,
            Exit::Failed,
            &format!("the workers cannot be asked: {why}"),
            &[mend],
        )
    };
    let all = session.workers().map_err(problem)?;
    if console.is_json() {
        all.iter()
            .for_each(|alive| console.event(&WorkerEvent::of(alive)));
        return Ok(Exit::Done);
    }
    let widest = all
        .iter()
        .map(|alive| width(&alive.name))
        .max()
        .unwrap_or(0);
    let paint = console.paint(OutputStream::Output);
    for alive in &all {
        let steps = format!("{} at once", counted(alive.slots, "step"));
        let (name, machine) = (
            padded(&visible(&alive.name), widest),
            visible(&alive.machine),
        );
        let text = format!("{name}   {steps}, {} now   {machine}", alive.busy);
        outln!(console, "{}", labelled(paint, Ink::Found, "worker", &text));
        let given = given_labels(alive);
        if !given.is_empty() {
            let text = format!("{}   is {}", padded("", widest), given.join(", "));
            outln!(console, "{}", labelled(paint, Ink::Calm, "", &text));
        }
        if let Some(why) = &alive.away {
            let text = format!(
                "{}   takes no steps for a while: {}",
                padded("", widest),
                visible(why)
            );
            outln!(console, "{}", labelled(paint, Ink::Doubt, "", &text));
        }
    }
    if all.is_empty() {
        outln!(
            console,
            "{}",
            labelled(paint, Ink::Calm, "workers", "no worker is in this pool now")
        );
    }
    Ok(Exit::Done)
}

fn no_settings(console: Console) -> Exit {
    let mend = "[workers] with at = \"nats://jobs.example:4222\": nubrik explain workers";
    say_wrong(
        console,
        Exit::Usage,
        "nubrik.toml names no server for workers",
        &[mend],
    )
}

/// How somebody works for others, as it was typed.
pub struct WorkerChoice<'a> {
    pub slots: Option<u16>,
    pub name: Option<&'a str>,
    pub labels: &'a [String],
    /// How long steps go on when this program is to end.
    pub grace: Duration,
    /// Where monitoring systems ask.
    pub metrics: Option<SocketAddr>,
}

/// Works for others until it is stopped.
pub fn worker(console: Console, choice: &Choice, own: &WorkerChoice) -> CommandResult<Exit> {
    let WorkerChoice {
        slots,
        name,
        labels,
        grace,
        metrics,
    } = *own;
    let mut session = open(console, choice)?;
    if session.workspace.settings.workers.is_none() {
        return Err(no_settings(console));
    }
    let name = checked_name(console, name, labels)?;
    let labels: Vec<Arc<str>> = labels
        .iter()
        .map(|label| Arc::from(label.as_str()))
        .collect();
    let slots = slots.map_or(session.default_jobs(), usize::from);
    let ready = session.work_for_others(&name, slots, &labels, &CancelSwitch::new);
    let mut site = ready.map_err(|why| {
        say_wrong(
            console,
            Exit::Usage,
            &format!("this machine cannot be a worker: {why}"),
            &[],
        )
    })?;
    let listener = metrics.map(|at| listener_at(console, at)).transpose()?;
    let paint = console.paint(OutputStream::Output);
    let line =
        |word: &str, text: &str| outln!(console, "{}", labelled(paint, Ink::Found, word, text));
    if !console.is_json() {
        let steps = counted(slots, "step");
        line(
            "worker",
            &format!("{name} runs {steps} at once for clients; Ctrl-C stops it"),
        );
    }
    let at = listener.as_ref().and_then(Listener::address);
    if let Some(at) = at {
        let url = format!("http://{at}/metrics");
        match console.is_json() {
            true => console.event(&MetricsEvent::of(&url)),
            false => line("metrics", &format!("{url}, and /health there")),
        }
    }
    site.metrics = listener.map(|listener| (listener, env!("CARGO_PKG_VERSION").to_owned()));
    session.serve(site, &WorkerFace { console, grace }, grace);
    Ok(Exit::Done)
}

/// The name of a worker; refuses one that cannot be, and labels that cannot.
fn checked_name(console: Console, name: Option<&str>, labels: &[String]) -> CommandResult<String> {
    let wrong = |text: String, mend: &str| say_wrong(console, Exit::Usage, &text, &[mend]);
    let name = name.map_or_else(own_name, str::to_owned);
    if !is_worker_name(&name) {
        let text = format!(
            "`{name}` is no name of a worker: letters, digits, `-`, `_` and `.`, 64 at most"
        );
        return Err(wrong(text, "nubrik workers serve --name mill-2"));
    }
    if let Some(label) = labels.iter().find(|label| !nubrik_graph::is_label(label)) {
        let text = format!("`{label}` is no label: letters, digits, `-` and `_`, 32 at most");
        return Err(wrong(text, "nubrik workers serve --label tide-board"));
    }
    Ok(name)
}

/// Listens for monitoring systems.
fn listener_at(console: Console, at: SocketAddr) -> CommandResult<Listener> {
    Listener::open(at).map_err(|e| {
        let text = format!("{at} cannot be listened at: {e}");
        say_wrong(
            console,
            Exit::Usage,
            &text,
            &["--metrics 0   takes a free port, and says which"],
        )
    })
}

/// What this machine is called, where nobody says otherwise.
fn own_name() -> String {
    let host = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    let host = if host.trim().is_empty() {
        "machine"
    } else {
        host.trim()
    };
    let fine = |c: char| {
        if c.is_ascii_alphanumeric() || matches!(c, '-' | '.') {
            c
        } else {
            '-'
        }
    };
    let host: String = host.chars().map(fine).take(40).collect();
    format!("{host}-{}", std::process::id())
}

/// The terminal of a worker.
struct WorkerFace {
    console: Console,
    grace: Duration,
}

impl WorkerListener for WorkerFace {
    fn over(&self, end: &WorkedJob<'_>) {
        let console = self.console;
        if console.is_json() {
            return console.event(&WorkedEvent::of(end));
        }
        let WorkedJob {
            say,
            build,
            why_not,
            took,
            ..
        } = end;
        let took = duration(took.as_micros() as u64);
        let (word, ink, text) = match why_not {
            None => ("ran", Ink::Busy, format!("{say}   {took}   for {build}")),
            Some(why) => ("gave up", Ink::Doubt, format!("{say}   for {build}: {why}")),
        };
        outln!(
            console,
            "{}",
            labelled(console.paint(OutputStream::Output), ink, word, &text)
        );
    }

    fn ends(&self, running: usize) {
        if running == 0 || self.console.is_json() {
            return;
        }
        let steps = counted(running, "step");
        let text = format!(
            "stops when its {steps} have ended, or hands them back in {} s; Ctrl-C hands them back now",
            self.grace.as_secs()
        );
        let paint = self.console.paint(OutputStream::Output);
        outln!(
            self.console,
            "{}",
            labelled(paint, Ink::Doubt, "worker", &text)
        );
    }

    fn is_in_a_hurry(&self) -> bool {
        crate::interrupt::times_wanted_to_end() > 1
    }
}
