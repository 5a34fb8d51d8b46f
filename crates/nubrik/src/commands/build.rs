//! `nubrik build`

use std::sync::Arc;

use nubrik_answers::{NoticeEvent, PastTimes, ResultEvent, SummaryEvent};
use nubrik_engine::{Event, Listener, Options, StepCounts};
use nubrik_graph::{FileId, Graph, StepId};
use nubrik_lang::{AddressPattern, Evaluation, Wanted};
use nubrik_session::{
    BuildEnd, BuildReport, KitNews, Sealed, Session, SharedCache, Standing, Workshop,
};

use super::left_out::{self, PartEvaluated};
use super::shared_news;
use super::since::{affected, say_skipped};
use super::verify;
use super::{CommandResult, open_to_build, own_problem, patterns};
use crate::arguments::{Choice, How};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, err, errln, out, outln};
use crate::ui::paint::Ink;
use crate::ui::screen::{Screen, TrafficMeter};
use crate::ui::summary;
use crate::ui::telling::Told;

/// What else is wanted of a build.
pub struct BuildExtras {
    /// Whether the steps are run once more, recorded.
    pub observe: bool,
    /// Only what a change since this revision can affect.
    pub since: Option<String>,
    /// Whether the steps of the targets run again though nothing changed.
    pub rerun: bool,
    /// Of a million results of the shared cache so many are run again.
    pub verify: u32,
}

pub fn build(
    console: Console,
    choice: &Choice,
    words: &[String],
    how: How,
    way: BuildExtras,
) -> CommandResult<Exit> {
    let mut session = open_to_build(console, choice, how)?;
    session.verify_shared(way.verify);
    let exit = build_in(console, &mut session, words, how, way)?;
    shared_news::required(console, &session, how.require_shared_cache, exit)
}

fn build_in(
    console: Console,
    session: &mut Session,
    words: &[String],
    how: How,
    way: BuildExtras,
) -> CommandResult<Exit> {
    let mut workshop = lock(console, session)?;
    let patterns = super::wanting(patterns(console, &mut workshop, words)?, Wanted::Targets);
    if let Some(revision) = &way.since {
        return build_since(console, &mut workshop, &patterns, how, revision);
    }
    if way.observe || way.rerun {
        let (evaluation, report) = build_evaluated(
            console,
            &mut workshop,
            &patterns,
            how,
            OutputStream::Output,
            way.rerun,
        )?;
        if way.observe && exit_of(&report) == Exit::Done {
            if report.summary.counts.current < report.summary.counts.steps && !console.is_json() {
                outln!(console);
            }
            // What others gave may not be here yet, and the steps run again.
            let files = workshop.needed_to_observe(&evaluation);
            let to = OutputStream::Error;
            let report = build_files(
                console,
                &mut workshop,
                &patterns,
                (&evaluation, &files),
                how,
                to,
            )?;
            return match exit_of(&report) {
                Exit::Done => super::observe::observe(console, &workshop, &evaluation),
                exit => Ok(exit),
            };
        }
        show(console, &report, how, OutputStream::Output);
        return Ok(exit_of(&report));
    }
    let report = match bring_up(
        console,
        &mut workshop,
        &patterns,
        how,
        OutputStream::Output,
        |_| Ok(()),
    )? {
        Brought::Built(report) => report,
        Brought::MakesNothing(evaluation) => {
            return refuse_jobs(console, &evaluation).map(|()| Exit::Usage);
        }
    };
    show(console, &report, how, OutputStream::Output);
    Ok(exit_of(&report))
}

/// The result of a request.
pub enum Brought {
    /// It was built, as far as it was not there already.
    Built(Box<BuildReport>),
    /// It means jobs or services, which make nothing.
    MakesNothing(Box<Evaluation>),
}

/// Brings what is asked for up to date. Where all is as it was, nothing is done; where little
/// changed, only what that reaches is evaluated and built. `check` may refuse what was evaluated
/// before anything is built.
pub fn bring_up(
    console: Console,
    workshop: &mut Workshop<'_>,
    patterns: &[AddressPattern],
    how: How,
    stream: OutputStream,
    check: impl FnOnce(&Evaluation) -> CommandResult<()>,
) -> CommandResult<Brought> {
    match if how.reasons || workshop.gives_results() || workshop.verify_rate() > 0 {
        Standing::Unknown
    } else {
        workshop.standing(patterns)
    } {
        Standing::Holds(sealed) => {
            let report = nothing_to_do(workshop, sealed);
            return Ok(Brought::Built(Box::new(report)));
        }
        Standing::Reached(reached) if workshop.remembers(&reached) => {
            let graph = reached.graph().clone();
            let screen = screen_for(console, workshop, &graph, stream, how);
            let options = options_of(workshop, how);
            let report =
                screen.during(|| workshop.build_reached(patterns, *reached, &screen, options));
            drop(screen);
            if let Some(report) = report.map_err(|problem| own_problem(console, &problem))? {
                shared_news::conclude(console, workshop, None, stream);
                return Ok(Brought::Built(Box::new(report)));
            }
        }
        Standing::Reached(_) | Standing::Unknown => {}
    }
    let part = left_out::evaluate_part(console, workshop, patterns, (how, stream))?;
    let PartEvaluated {
        evaluation,
        patterns,
        left_out,
    } = part;
    check(&evaluation)?;
    if !evaluation.effects.is_empty() || !evaluation.services.is_empty() {
        return Ok(Brought::MakesNothing(Box::new(evaluation)));
    }
    let files = Files {
        files: &evaluation.requested,
        again: &[],
    };
    let mut report = build_of(
        console,
        workshop,
        &patterns,
        (&evaluation, files),
        how,
        stream,
    )?;
    report.left_out = left_out.addresses;
    Ok(Brought::Built(Box::new(report)))
}

/// The report of a build in which all is as it was.
fn nothing_to_do(workshop: &Workshop<'_>, sealed: Sealed) -> BuildReport {
    let summary = nubrik_engine::Summary {
        counts: StepCounts::all_current(sealed.steps),
        ..Default::default()
    };
    BuildReport {
        summary,
        micros: workshop.lap_micros(),
        results: sealed.results,
        cancelled: false,
        machine_lacks: false,
        flaky: 0,
        left_out: Vec::new(),
    }
}

/// Builds what a change since a revision can affect.
fn build_since(
    console: Console,
    workshop: &mut Workshop<'_>,
    patterns: &[AddressPattern],
    how: How,
    revision: &str,
) -> CommandResult<Exit> {
    let part = left_out::evaluate_part(console, workshop, patterns, (how, OutputStream::Output))?;
    let PartEvaluated {
        evaluation,
        patterns,
        left_out,
    } = part;
    refuse_jobs(console, &evaluation)?;
    let reached = affected(console, workshop, &evaluation, revision)?;
    let files = Files {
        files: &reached.files,
        again: &[],
    };
    let mut report = build_of(
        console,
        workshop,
        &patterns,
        (&evaluation, files),
        how,
        OutputStream::Output,
    )?;
    report.left_out = left_out.addresses;
    show(console, &report, how, OutputStream::Output);
    say_skipped(console, &reached);
    Ok(exit_of(&report))
}

/// Waits until no other command changes the workspace.
pub fn lock(console: Console, session: &mut Session) -> CommandResult<Workshop<'_>> {
    // Without a lock, everything had to stop while it waited.
    let locked = session
        .lock(|| say_waiting(console))
        .map_err(|problem| own_problem(console, &problem))?;
    let mut workshop = locked.ok_or(Exit::Interrupted)?;
    bring_kits(console, &mut workshop)?;
    Ok(workshop)
}

/// Says that another command changes the workspace.
pub fn say_waiting(console: Console) {
    let text = "another nubrik is running in this workspace; waiting for it to finish";
    super::say_notice(console, OutputStream::Error, (Ink::Doubt, "waits"), text);
}

/// Fetches kits in archives that are not there yet: without them nothing can be evaluated.
fn bring_kits(console: Console, workshop: &mut Workshop<'_>) -> CommandResult<()> {
    for (name, news) in workshop.bring_kits() {
        match news {
            KitNews::Fetched(from) => say_kit_fetched(console, &name, &from),
            KitNews::Failed(problem) => return Err(say_kit_missing(console, &name, &problem)),
        }
    }
    Ok(())
}

/// Says from which of some places a kit is.
pub fn say_kit_fetched(console: Console, name: &str, from: &[Arc<str>]) {
    let text = format!("the kit {name} from {}", from.join(" or "));
    if console.is_json() {
        console.event(&NoticeEvent::of(format!("fetched {text}")));
    } else {
        let paint = console.paint(OutputStream::Error);
        errln!(
            console,
            "{}",
            super::labelled(paint, Ink::Busy, "fetched", &text)
        );
    }
}

/// Says why a kit cannot be fetched.
pub fn say_kit_missing(console: Console, name: &str, problem: &str) -> Exit {
    let problem = problem.replace('\n', "\n        ");
    let message = format!("the kit `{name}` cannot be fetched\n        {problem}");
    let mend = format!("[kits.{name}] in nubrik.toml says where it is, and its digest");
    super::say_wrong(console, Exit::Failed, &message, &[&mend])
}

/// Evaluates and builds, whatever there was before.
pub fn build_evaluated(
    console: Console,
    workshop: &mut Workshop<'_>,
    patterns: &[AddressPattern],
    how: How,
    stream: OutputStream,
    rerun: bool,
) -> CommandResult<(Evaluation, BuildReport)> {
    let part = left_out::evaluate_part(console, workshop, patterns, (how, stream))?;
    let PartEvaluated {
        evaluation,
        patterns,
        left_out,
    } = part;
    refuse_jobs(console, &evaluation)?;
    let again: Vec<StepId> = if rerun {
        evaluation.own_steps().collect()
    } else {
        Vec::new()
    };
    let files = Files {
        files: &evaluation.requested,
        again: &again,
    };
    let mut report = build_of(
        console,
        workshop,
        &patterns,
        (&evaluation, files),
        how,
        stream,
    )?;
    report.left_out = left_out.addresses;
    Ok((evaluation, report))
}

/// Stops where only jobs are asked for: they are not built.
fn refuse_jobs(console: Console, evaluation: &Evaluation) -> CommandResult<()> {
    if let Some(service) = evaluation.services.first() {
        let message = format!(
            "`{}` is a service: it makes nothing, and runs while others need it",
            service.address
        );
        return Err(super::say_wrong(
            console,
            Exit::Usage,
            &message,
            &[&format!("nubrik run {}", service.address)],
        ));
    }
    let Some(effect) = evaluation.effects.first() else {
        return Ok(());
    };
    let message = format!(
        "`{}` is a job: it makes nothing, and is done when it is run",
        effect.address
    );
    Err(super::say_wrong(
        console,
        Exit::Usage,
        &message,
        &[&format!("nubrik run {}", effect.address)],
    ))
}

/// What is built of an evaluation.
#[derive(Clone, Copy)]
pub struct Files<'a> {
    /// The files that are wanted.
    files: &'a [FileId],
    /// Steps that run again though nothing changed.
    again: &'a [StepId],
}

/// Builds and publishes files of what was evaluated.
pub fn build_of(
    console: Console,
    workshop: &mut Workshop<'_>,
    patterns: &[AddressPattern],
    (evaluation, files): (&Evaluation, Files<'_>),
    how: How,
    stream: OutputStream,
) -> CommandResult<BuildReport> {
    let screen = screen_for(console, workshop, &evaluation.graph, stream, how);
    let options = options_of(workshop, how);
    let report = screen.during(|| {
        workshop.build_part(
            patterns,
            evaluation,
            (files.files, files.again),
            &screen,
            options,
        )
    });
    drop(screen);
    let mut report = report.map_err(|problem| own_problem(console, &problem))?;
    if exit_of(&report) == Exit::Done {
        let way = (how.quiet, options);
        let built = (evaluation, files.files);
        verify::verify(console, workshop, patterns, built, way, stream, &mut report)?;
    }
    // Who stops a build does not want to wait for what it would give.
    let is_done = !report.cancelled;
    shared_news::conclude(
        console,
        workshop,
        is_done.then_some((&evaluation.graph, files.files)),
        stream,
    );
    Ok(report)
}

/// Builds some files of what was evaluated, which something else needs.
pub fn build_files(
    console: Console,
    workshop: &mut Workshop<'_>,
    patterns: &[AddressPattern],
    (evaluation, files): (&Evaluation, &[nubrik_graph::FileId]),
    how: How,
    stream: OutputStream,
) -> CommandResult<BuildReport> {
    let screen = screen_for(
        console,
        workshop,
        &evaluation.graph,
        stream,
        How {
            reasons: false,
            ..how
        },
    );
    let options = options_of(workshop, how);
    let report =
        screen.during(|| workshop.build_files(patterns, evaluation, files, &screen, options));
    drop(screen);
    report.map_err(|problem| own_problem(console, &problem))
}

pub fn options_of(session: &Session, how: How) -> Options {
    let options = session.options();
    Options {
        jobs: how.jobs.map_or(options.jobs, usize::from),
        keep_going: how.keep_going,
        ..options
    }
}

/// What shows a build of a graph.
pub fn screen_for<'g>(
    console: Console,
    session: &Session,
    graph: &'g Graph,
    stream: OutputStream,
    how: How,
) -> Screen<'g> {
    let told = Told {
        unchanged: how.reasons,
        commands: how.verbose,
        only_trouble: how.quiet,
        ..Told::default()
    };
    let past = || PastTimes {
        micros: graph
            .steps
            .iter()
            .map(|step| session.state().cost_of(step.folder.as_str()).unwrap_or(0))
            .collect(),
        jobs: how.jobs.map_or(session.default_jobs(), usize::from),
    };
    let moving = match session.shared() {
        SharedCache::Used(store) => Some(Box::new(move || {
            let traffic = store.traffic();
            (traffic.moved, traffic.sent)
        }) as TrafficMeter),
        SharedCache::Proposed(_) | SharedCache::None => None,
    };
    Screen::new(
        console,
        stream,
        graph,
        session.workspace.root.clone(),
        told,
        (past, moving),
    )
}

/// Runs the probes that definitions wait for; stops when one fails. Without `shown` only failures
/// are said.
pub fn answer_probes(
    console: Console,
    workshop: &mut Workshop<'_>,
    evaluation: &Evaluation,
    shown: Option<(How, OutputStream)>,
) -> CommandResult<()> {
    let (how, stream) = shown.unwrap_or((How::default(), OutputStream::Error));
    let screen = screen_for(
        console,
        workshop,
        &evaluation.graph,
        stream,
        How {
            reasons: false,
            ..how
        },
    );
    let options = options_of(workshop, how);
    let quiet = OnlyFailures(&screen);
    let report = match shown {
        Some(_) => screen.during(|| workshop.answer(evaluation, &screen, options)),
        None => workshop.answer(evaluation, &quiet, options),
    };
    drop(screen);
    let report = report.map_err(|problem| own_problem(console, &problem))?;
    match exit_of(&report) {
        Exit::Done => Ok(()),
        exit => {
            show(console, &report, how, stream);
            Err(exit)
        }
    }
}

/// Tells on only what failed.
struct OnlyFailures<'s, 'g>(&'s Screen<'g>);

impl Listener for OnlyFailures<'_, '_> {
    fn hear(&self, event: &Event) {
        if matches!(
            event,
            Event::Done {
                failure: Some(_),
                ..
            }
        ) {
            self.0.hear(event);
        }
    }
}

/// Prints the summary, and for programs the results.
pub fn show(console: Console, report: &BuildReport, how: How, stream: OutputStream) {
    let BuildReport {
        summary: done,
        micros,
        results,
        cancelled,
        left_out,
        ..
    } = report;
    let micros = *micros;
    let ok = done.counts.is_well() && done.unpublished == 0 && !cancelled && left_out.is_empty();
    if console.is_json() {
        if ok {
            for path in results.iter() {
                console.event(&ResultEvent::of(path));
            }
        }
        return console.event(&SummaryEvent::of(done, ok, micros));
    }
    if how.quiet && ok {
        return;
    }
    let paint = console.paint(OutputStream::Output);
    // An empty line between what happened and its result.
    let gap = if done.counts.current == done.counts.steps {
        ""
    } else {
        "\n"
    };
    let text = format!(
        "{gap}{}",
        summary::render(done, results, micros, *cancelled, paint)
    );
    match stream {
        OutputStream::Output => out!(console, "{text}"),
        OutputStream::Error => err!(console, "{text}"),
    }
    left_out::remind(console, left_out, stream);
}

/// How a command ends that wants something built first and does not get it; says the result of the
/// build.
pub fn unless_built(console: Console, report: &BuildReport) -> Option<Exit> {
    let exit = exit_of(report);
    if exit == Exit::Done {
        return None;
    }
    show(console, report, How::default(), OutputStream::Error);
    Some(exit)
}

/// How a command ends after a build.
pub fn exit_of(report: &BuildReport) -> Exit {
    match report.end() {
        BuildEnd::Done => Exit::Done,
        BuildEnd::Interrupted => Exit::Interrupted,
        BuildEnd::MachineLacks => Exit::Machine,
        BuildEnd::Failed => Exit::Failed,
        BuildEnd::Unpublished => Exit::Own,
        BuildEnd::LeftOut => Exit::Definitions,
    }
}
