//! `nubrik build`

use std::time::Instant;

use nubrik_engine::{Event, Listener, Options};
use nubrik_graph::{FileId, Graph};
use nubrik_lang::{AddressPattern, Evaluation, Wanted};
use nubrik_session::{BuildReport, Results, Session, Standing, Workshop};

use super::since::Reached;
use super::{Outcome, evaluate_with, open_to_build, own_problem, patterns};
use crate::arguments::{Choice, Face, How};
use crate::exit::Exit;
use crate::ui::out::{err, errln, out, outln};
use crate::ui::paint::{Ink, Paint};
use crate::ui::screen::{Screen, Shown, Stream};
use crate::ui::{json, summary};

/// What else is wanted of a build.
pub struct Way {
    /// Whether the steps are run once more, recorded.
    pub audit: bool,
    /// Only what a change since this revision can affect.
    pub since: Option<String>,
}

pub fn build(face: Face, choice: &Choice, words: &[String], how: How, way: Way) -> Outcome<Exit> {
    let began = Instant::now();
    let mut session = open_to_build(face, choice)?;
    let mut workshop = lock(face, &mut session)?;
    let patterns = super::wanting(patterns(face, &mut workshop, words)?, Wanted::Targets);
    let micros = || began.elapsed().as_micros() as u64;
    if let Some(revision) = &way.since {
        return build_since(face, &mut workshop, &patterns, how, revision, began);
    }
    if way.audit {
        let (evaluation, report) = build_evaluated(face, &mut workshop, &patterns, how, Stream::Output)?;
        if exit_of(&report) == Exit::Done {
            if report.summary.current < report.summary.steps && !face.json {
                outln!();
            }
            return super::audit::audit(face, &workshop, &evaluation);
        }
        show(face, &report.summary, &report.results, micros(), report.cancelled, Stream::Output);
        return Ok(exit_of(&report));
    }
    let report = match bring_up(face, &mut workshop, &patterns, how, Stream::Output, |_| Ok(()))? {
        Brought::Built(report) => report,
        Brought::MakesNothing(evaluation) => return refuse_jobs(face, &evaluation).map(|()| Exit::Usage),
    };
    show(face, &report.summary, &report.results, micros(), report.cancelled, Stream::Output);
    Ok(exit_of(&report))
}

/// What a request came to.
pub enum Brought {
    /// It was built, as far as it was not there already.
    Built(BuildReport),
    /// It means jobs or services, which make nothing.
    MakesNothing(Box<Evaluation>),
}

/// Brings what is asked for up to date. Where all is as it was, nothing is done; where little changed, only what that reaches
/// is evaluated and built. `check` may refuse what was evaluated before anything is built.
pub fn bring_up(
    face: Face,
    workshop: &mut Workshop<'_>,
    patterns: &[AddressPattern],
    how: How,
    stream: Stream,
    check: impl FnOnce(&Evaluation) -> Outcome<()>,
) -> Outcome<Brought> {
    match if how.explain { Standing::Unknown } else { workshop.standing(patterns) } {
        Standing::Holds(sealed) => {
            let steps = sealed.steps;
            let summary = nubrik_engine::Summary { steps, current: steps, ..Default::default() };
            let results = sealed.results;
            return Ok(Brought::Built(BuildReport {
                summary,
                results,
                cancelled: false,
                machine_lacks: false,
            }));
        }
        Standing::Reached(reached) if workshop.remembers(&reached) => {
            let graph = reached.graph().clone();
            let screen = screen_for(face, workshop, &graph, stream);
            let options = options_of(workshop, how);
            let report = screen.during(|| workshop.build_reached(patterns, *reached, &screen, options));
            drop(screen);
            return report.map(Brought::Built).map_err(|problem| own_problem(face, problem));
        }
        Standing::Reached(_) | Standing::Unknown => {}
    }
    let evaluation = evaluate_with(face, workshop, Some((how, stream)), |s| s.evaluate(patterns))?;
    check(&evaluation)?;
    if !evaluation.effects.is_empty() || !evaluation.services.is_empty() {
        return Ok(Brought::MakesNothing(Box::new(evaluation)));
    }
    let files = &evaluation.requested;
    build_of(face, workshop, patterns, (&evaluation, files), how, stream).map(Brought::Built)
}

/// Builds what a change since a revision can affect.
fn build_since(
    face: Face,
    workshop: &mut Workshop<'_>,
    patterns: &[AddressPattern],
    how: How,
    revision: &str,
    began: Instant,
) -> Outcome<Exit> {
    let evaluation = evaluate_with(face, workshop, Some((how, Stream::Output)), |s| s.evaluate(patterns))?;
    refuse_jobs(face, &evaluation)?;
    let reached = Reached::of(face, workshop, &evaluation, revision)?;
    let report = build_of(face, workshop, patterns, (&evaluation, &reached.files), how, Stream::Output)?;
    let micros = began.elapsed().as_micros() as u64;
    show(face, &report.summary, &report.results, micros, report.cancelled, Stream::Output);
    reached.say_left(face);
    Ok(exit_of(&report))
}

/// Waits until no other command changes the workspace.
pub fn lock(face: Face, session: &mut Session) -> Outcome<Workshop<'_>> {
    let waiting = || {
        let paint = Paint::for_stderr(face.plain);
        let text = "another nubrik works in this workspace; this one goes on when it is done";
        if face.json {
            json::print(&json::NoticeEvent { event: "notice", text: text.to_owned() });
        } else {
            errln!("{}", super::labelled(paint, Ink::Doubt, "waits", text));
        }
    };
    // Where it comes to nothing everything was to stop while it waited.
    session.lock(waiting).map_err(|problem| own_problem(face, problem))?.ok_or(Exit::Interrupted)
}

/// Evaluates and builds, whatever there was before.
pub fn build_evaluated(
    face: Face,
    workshop: &mut Workshop<'_>,
    patterns: &[AddressPattern],
    how: How,
    stream: Stream,
) -> Outcome<(Evaluation, BuildReport)> {
    let evaluation = evaluate_with(face, workshop, Some((how, stream)), |s| s.evaluate(patterns))?;
    refuse_jobs(face, &evaluation)?;
    let report = build_of(face, workshop, patterns, (&evaluation, &evaluation.requested), how, stream)?;
    Ok((evaluation, report))
}

/// Stops where only jobs are asked for: they are not built.
fn refuse_jobs(face: Face, evaluation: &Evaluation) -> Outcome<()> {
    if let Some(service) = evaluation.services.first() {
        let message =
            format!("`{}` is a service: it makes nothing, and runs while others need it", service.address);
        return Err(super::say_wrong(
            face,
            Exit::Usage,
            &message,
            &[&format!("nubrik run {}", service.address)],
        ));
    }
    let Some(effect) = evaluation.effects.first() else { return Ok(()) };
    let message = format!("`{}` is a job: it makes nothing, and is done when it is run", effect.address);
    Err(super::say_wrong(face, Exit::Usage, &message, &[&format!("nubrik run {}", effect.address)]))
}

/// Builds and publishes files of what was evaluated.
pub fn build_of(
    face: Face,
    workshop: &mut Workshop<'_>,
    patterns: &[AddressPattern],
    (evaluation, files): (&Evaluation, &[FileId]),
    how: How,
    stream: Stream,
) -> Outcome<BuildReport> {
    let screen = screen_for(face, workshop, &evaluation.graph, stream).explaining(how.explain);
    let options = options_of(workshop, how);
    let report = screen.during(|| workshop.build_part(patterns, evaluation, files, &screen, options));
    drop(screen);
    report.map_err(|problem| own_problem(face, problem))
}

/// Builds some files of what was evaluated, which something else needs.
pub fn build_files(
    face: Face,
    workshop: &mut Workshop<'_>,
    evaluation: &Evaluation,
    files: &[nubrik_graph::FileId],
    how: How,
    stream: Stream,
) -> Outcome<BuildReport> {
    let screen = screen_for(face, workshop, &evaluation.graph, stream);
    let options = options_of(workshop, how);
    let report = screen.during(|| workshop.build_files(evaluation, files, &screen, options));
    drop(screen);
    report.map_err(|problem| own_problem(face, problem))
}

pub fn options_of(session: &Session, how: How) -> Options {
    let jobs = how.jobs.map_or(session.default_jobs(), usize::from);
    Options { jobs, memory: session.memory(), keep_going: how.keep_going, reaches_out: session.reaches_out() }
}

pub fn screen_for<'g>(face: Face, session: &Session, graph: &'g Graph, stream: Stream) -> Screen<'g> {
    let paint = match stream {
        Stream::Output => Paint::for_stdout(face.plain || face.json),
        Stream::Error => Paint::for_stderr(face.plain || face.json),
    };
    let shown = match (face.json, paint.width) {
        (true, _) => Shown::Json,
        (false, Some(_)) => Shown::Live,
        (false, None) => Shown::Lines,
    };
    Screen::new(graph, session.workspace.root.clone(), paint, shown, stream)
}

/// Runs the scans that definitions wait for; stops when one fails. Without `shown` only failures are said.
pub fn answer_scans(
    face: Face,
    workshop: &mut Workshop<'_>,
    evaluation: &Evaluation,
    shown: Option<(How, Stream)>,
) -> Outcome<()> {
    let began = Instant::now();
    let (how, stream) = shown.unwrap_or((How::default(), Stream::Error));
    let screen = screen_for(face, workshop, &evaluation.graph, stream);
    let options = options_of(workshop, how);
    let quiet = OnlyFailures(&screen);
    let report = match shown {
        Some(_) => screen.during(|| workshop.answer(evaluation, &screen, options)),
        None => workshop.answer(evaluation, &quiet, options),
    };
    drop(screen);
    let report = report.map_err(|problem| own_problem(face, problem))?;
    match exit_of(&report) {
        Exit::Done => Ok(()),
        exit => {
            let micros = began.elapsed().as_micros() as u64;
            show(face, &report.summary, &Results::default(), micros, report.cancelled, stream);
            Err(exit)
        }
    }
}

/// Tells on only what failed.
struct OnlyFailures<'s, 'g>(&'s Screen<'g>);

impl Listener for OnlyFailures<'_, '_> {
    fn hear(&self, event: &Event) {
        if matches!(event, Event::Done { failure: Some(_), .. }) {
            self.0.hear(event);
        }
    }
}

/// Prints the summary, and for programs the results.
pub fn show(
    face: Face,
    done: &nubrik_engine::Summary,
    results: &Results,
    micros: u64,
    cancelled: bool,
    stream: Stream,
) {
    if face.json {
        let ok = done.failed + done.blocked + done.left + done.unpublished == 0 && !cancelled;
        if ok {
            for path in results.iter() {
                json::print(&json::ResultEvent { event: "result", path });
            }
        }
        return json::summary(done, ok, micros as f64 / 1e6);
    }
    let paint = super::paint(face);
    // An empty line between what happened and what it came to.
    let gap = if done.current == done.steps { "" } else { "\n" };
    let text = format!("{gap}{}", summary::render(done, results, micros, cancelled, paint));
    match stream {
        Stream::Output => out!("{text}"),
        Stream::Error => err!("{text}"),
    }
}

/// How a command ends that wants something built first and does not get it; says what the build came to.
pub fn unless_built(face: Face, report: &BuildReport) -> Option<Exit> {
    let exit = exit_of(report);
    if exit == Exit::Done {
        return None;
    }
    show(face, &report.summary, &report.results, 0, report.cancelled, Stream::Error);
    Some(exit)
}

/// How a command ends after a build.
pub fn exit_of(report: &BuildReport) -> Exit {
    match report {
        _ if report.cancelled => Exit::Interrupted,
        _ if report.machine_lacks => Exit::Machine,
        _ if report.summary.failed + report.summary.blocked + report.summary.left > 0 => Exit::Failed,
        _ if report.summary.unpublished > 0 => Exit::Own,
        _ => Exit::Done,
    }
}
