//! `nubrik build`

use std::time::Instant;

use nubrik_engine::Options;
use nubrik_lang::{AddressPattern, Evaluation};
use nubrik_session::{BuildReport, Session};

use super::{Outcome, evaluate, open, own_problem, patterns};
use crate::arguments::{Face, How};
use crate::exit::Exit;
use crate::ui::paint::{Ink, Paint};
use crate::ui::screen::{Screen, Shown, Stream};
use crate::ui::{json, summary};

pub fn build(face: Face, words: &[String], how: How) -> Outcome<Exit> {
    let began = Instant::now();
    let mut session = open(face)?;
    lock(face, &mut session)?;
    let patterns = patterns(face, &session, words)?;
    let micros = || began.elapsed().as_micros() as u64;
    if let Some(sealed) = session.sealed(&patterns) {
        let done =
            nubrik_engine::Summary { steps: sealed.steps, current: sealed.steps, ..Default::default() };
        show(face, &done, &sealed.results, micros(), false, Stream::Output);
        return Ok(Exit::Done);
    }
    let (_, report) = build_evaluated(face, &mut session, &patterns, how, Stream::Output)?;
    show(face, &report.summary, &report.results, micros(), report.cancelled, Stream::Output);
    Ok(exit_of(&report))
}

/// Waits until no other command changes the workspace.
pub fn lock(face: Face, session: &mut Session) -> Outcome<()> {
    let waiting = || {
        let paint = Paint::for_stderr(face.plain);
        let text = "another nubrik works in this workspace; this one goes on when it is done";
        if face.json {
            json::print(&json::NoticeEvent { event: "notice", text: text.to_owned() });
        } else {
            eprintln!("{}", super::labelled(paint, Ink::Doubt, "waits", text));
        }
    };
    session.lock(waiting).map_err(|problem| own_problem(face, problem))
}

/// Evaluates and builds in a locked session.
pub fn build_evaluated(
    face: Face,
    session: &mut Session,
    patterns: &[AddressPattern],
    how: How,
    stream: Stream,
) -> Outcome<(Evaluation, BuildReport)> {
    session.load_state();
    let evaluation = evaluate(face, session, patterns)?;
    let jobs = how.jobs.map_or(session.default_jobs(), usize::from);
    let paint = match stream {
        Stream::Output => Paint::for_stdout(face.plain || face.json),
        Stream::Error => Paint::for_stderr(face.plain || face.json),
    };
    let shown = match (face.json, paint.width) {
        (true, _) => Shown::Json,
        (false, Some(_)) => Shown::Live,
        (false, None) => Shown::Lines,
    };
    let root = session.workspace.root.clone();
    let screen = Screen::new(&evaluation.graph, root, paint, shown, stream);
    let options = Options { jobs, keep_going: how.keep_going };
    let report = screen.during(|| session.build(patterns, &evaluation, &screen, options));
    drop(screen);
    let report = report.map_err(|problem| own_problem(face, problem))?;
    Ok((evaluation, report))
}

/// Prints the summary, and for programs the results.
pub fn show(
    face: Face,
    done: &nubrik_engine::Summary,
    results: &[String],
    micros: u64,
    cancelled: bool,
    stream: Stream,
) {
    if face.json {
        let ok = done.failed + done.blocked + done.left + done.unpublished == 0 && !cancelled;
        if ok {
            for path in results {
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
        Stream::Output => print!("{text}"),
        Stream::Error => eprint!("{text}"),
    }
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
