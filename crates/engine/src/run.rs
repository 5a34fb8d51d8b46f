//! A build from its beginning to its end.

use std::collections::HashSet;
use std::sync::atomic::Ordering;
use std::sync::mpsc::channel;

use nubrik_graph::{Closure, StepId};
use nubrik_source::WsPath;
use nubrik_store::Store;

use crate::build::{Build, Options, Outcome, Request};
use crate::event::{Event, Listener};
use crate::outside::Outside;
use crate::schedule::{Schedule, longest_run};
use crate::state::{Changes, State};

/// So many threads send steps to other machines, at most.
const SENDERS: usize = 8;

/// So many threads take answers of other machines, at most.
const RECEIVERS: usize = 8;

/// Builds the steps behind the files of a request, and publishes results below `out` (a folder,
/// from the workspace's root). Never fails as a whole: what went wrong is in the events and the
/// summary.
pub fn build(
    request: Request<'_>,
    out: &WsPath,
    before: &State,
    outside: &dyn Outside,
    store: Option<&dyn Store>,
    listener: &dyn Listener,
    options: Options,
) -> Outcome {
    let Request {
        graph,
        files,
        settled,
        publish,
        ..
    } = request;
    let mut build = Build::new(request, before, outside, store, listener, options);
    build.may_bring = true;
    let mut order = Closure::of(graph, files.iter().copied()).steps;
    let settled: HashSet<StepId> = settled.iter().copied().collect();
    order.retain(|step| !settled.contains(step));
    listener.hear(&Event::Began {
        order: order.as_slice().into(),
    });
    let published = if publish { files } else { &[] };
    let schedule = Schedule::new(&build, order, &settled, (files, published), out);
    let workers = options.jobs.min(schedule.order.len()).max(1);
    perform_all(&schedule, workers);
    outside.rest();
    outcome(&build, schedule)
}

/// Performs the steps of a schedule, by so many threads of this machine and by others.
fn perform_all(schedule: &Schedule<'_, '_>, workers: usize) {
    let build = schedule.build;
    std::thread::scope(|scope| {
        if build.options.shared_root.is_some() {
            let (sender, known) = channel();
            *schedule.to_fetch.lock() = Some(sender);
            scope.spawn(move || schedule.fetch(&known));
        }
        if let Some(performer) = build.performer {
            performer.begin();
            // Whoever has many machines at work is answered often: answers are taken by several at
            // once.
            scope.spawn(|| schedule.receive());
            for _ in 1..workers.clamp(1, RECEIVERS) {
                scope.spawn(|| schedule.take_answers());
            }
            schedule.sort_out();
            for _ in 0..workers.clamp(1, SENDERS) {
                scope.spawn(|| schedule.forward());
            }
        }
        let work = || {
            schedule.build.outside.begin_worker(workers);
            schedule.work();
        };
        let workers: Vec<_> = (0..workers).map(|_| scope.spawn(work)).collect();
        // One that panics is reported at the end of the scope, where nobody waits for more to
        // fetch.
        let ends: Vec<_> = workers
            .into_iter()
            .map(std::thread::ScopedJoinHandle::join)
            .collect();
        drop(schedule.to_fetch.lock().take());
        // Nobody is left who would do what is answered now.
        schedule.is_over.store(true, Ordering::Relaxed);
        if let Some(panic) = ends.into_iter().find_map(Result::err) {
            std::panic::resume_unwind(panic);
        }
    });
}

/// What came of it.
fn outcome(build: &Build<'_>, schedule: Schedule<'_, '_>) -> Outcome {
    let Schedule {
        progress,
        published,
        order,
        ..
    } = schedule;
    let mut progress = progress.into_inner();
    progress.summary.counts.steps = order.len();
    progress.shared.away = order
        .iter()
        .filter(|step| build.away(**step).is_some())
        .count();
    longest_run(build.graph, &order, &progress.micros, &mut progress.summary);
    let looked_at = build.table.looked_at();
    let mut steps = std::mem::take(&mut *build.after.lock());
    // What was noted last of a step counts.
    steps.reverse();
    steps.sort_by(|a, b| a.0.cmp(&b.0));
    steps.dedup_by(|later, first| later.0 == first.0);
    let published = published.into_inner();
    let mut published: Vec<_> = published
        .into_iter()
        .map(|(path, entry)| (path, Some(entry)))
        .collect();
    published.sort_by(|a, b| a.0.cmp(&b.0));
    let changes = Changes {
        builds: build.number,
        files: build.table.changes(),
        steps,
        published,
    };
    Outcome {
        summary: progress.summary,
        shared: progress.shared,
        changes,
        cancelled: build.outside.is_cancelled(),
        machine_lacks: progress.machine_lacks,
        lost: build.lost.load(Ordering::Relaxed),
        sent: build.sent.load(Ordering::Relaxed),
        looked_at,
    }
}
