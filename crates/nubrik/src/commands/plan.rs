//! `nubrik plan`

use std::collections::HashSet;
use std::path::{Path, PathBuf};

use nubrik_answers::{
    ForecastEvent, LeftOut, PlanCounts, PlanEvent, chain_of, foreseen, planned_word,
};
use nubrik_engine::{Capacity, PlannedStep, Supposed, Verdict};
use nubrik_graph::{Closure, FileId, Graph};
use nubrik_lang::{AddressPattern, Evaluation, Wanted};
use nubrik_session::{Session, Standing};
use nubrik_source::WsPath;
use nubrik_wording::{counted, duration};

use super::chosen_tests::choose;
use super::since::{affected, say_skipped};
use super::{CommandResult, Silent, evaluate, open, patterns, say_wrong};
use crate::arguments::{Choice, TestChoice};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out};
use crate::ui::paint::{Ink, Paint};
use crate::ui::step_line::{StepRow, Titles};
use crate::ui::summary::chain_text;
use crate::ui::text::wrapped;

/// What is planned, and under which assumptions.
#[derive(Default)]
pub struct Planning<'a> {
    /// The tests, if it is what `nubrik test` would run.
    pub tests: Option<&'a TestChoice>,
    /// Sources that are taken for changed.
    pub if_changed: &'a [PathBuf],
    /// Only what a change since this revision can affect.
    pub since: Option<&'a str>,
    /// How many steps run at once.
    pub jobs: Option<u16>,
}

pub fn plan(
    console: Console,
    choice: &Choice,
    words: &[String],
    planning: &Planning<'_>,
) -> CommandResult<Exit> {
    let Planning {
        tests,
        if_changed,
        since,
        jobs,
    } = *planning;
    let mut session = open(console, choice)?;
    if since.is_some() {
        session.take_notes();
    }
    let wanted = match tests {
        Some(_) => Wanted::Tests,
        None => Wanted::Targets,
    };
    let patterns = super::wanting(patterns(console, &mut session, words)?, wanted);
    let room = room_of(&session, jobs);
    // What is said of each step that is current, or of what is supposed to change, is said for the
    // whole graph only.
    let of_whole_graph = since.is_none() && if_changed.is_empty();
    if !console.is_json() && of_whole_graph && !tests.is_some_and(TestChoice::is_any) {
        let paint = console.paint(OutputStream::Output);
        if let Some(text) = by_last_build(&session, &patterns, room, paint) {
            out!(console, "{text}");
            return Ok(Exit::Done);
        }
    }
    let evaluation = evaluate(console, &mut session, &patterns)?;
    let mut changed: Vec<WsPath> = Vec::new();
    for file in if_changed {
        changed.push(source(console, &session, &evaluation.graph, file)?);
    }
    let reached = match since {
        Some(revision) => Some(affected(console, &session, &evaluation, revision)?),
        None => None,
    };
    let (if_changed, compare) = (&*changed, false);
    let supposed = Supposed {
        if_changed,
        compare,
    };
    let asked = &evaluation.requested;
    let files = reached.as_ref().map_or(asked, |reached| &reached.files);
    let mut files = files.clone();
    let mut left = LeftOut::new();
    if let Some(choice) = tests {
        left = keep_chosen(console, &session, &evaluation, choice, &mut files)?;
    }
    if files.is_empty() && !left.is_empty() && !console.is_json() {
        out!(console, "no test to run\n");
    } else {
        show(console, &session, &evaluation, (&files, supposed), room);
    }
    if let Some(reached) = &reached {
        say_skipped(console, reached);
    }
    crate::ui::verdicts::show_skipped(console, &left);
    Ok(Exit::Done)
}

/// Keeps the files of the tests that are chosen; the others, by why they are left out.
fn keep_chosen(
    console: Console,
    session: &Session,
    evaluation: &Evaluation,
    choice: &TestChoice,
    files: &mut Vec<FileId>,
) -> CommandResult<LeftOut> {
    let chosen = choose(console, session, evaluation, (choice, None))?;
    let kept: HashSet<FileId> = chosen.files().into_iter().collect();
    files.retain(|file| kept.contains(file));
    Ok(chosen.left_out)
}

/// Shows what a build of some files of what was evaluated would do.
pub fn show_files(
    console: Console,
    session: &Session,
    evaluation: &Evaluation,
    files: &[FileId],
    jobs: Option<u16>,
) {
    show(
        console,
        session,
        evaluation,
        (files, Supposed::default()),
        room_of(session, jobs),
    );
}

fn show(
    console: Console,
    session: &Session,
    evaluation: &Evaluation,
    (files, supposed): (&[FileId], Supposed<'_>),
    room: Capacity,
) {
    let mut planned = session.plan(evaluation, &Silent, supposed);
    let mut wanted = vec![false; evaluation.graph.steps.len()];
    let needed = Closure::of(&evaluation.graph, files.iter().copied()).steps;
    needed.iter().for_each(|step| wanted[step.index()] = true);
    planned.retain(|step| wanted[step.step.index()]);
    if console.is_json() {
        print_json(console, &evaluation.graph, &planned, room);
    } else {
        out!(
            console,
            "{}",
            render(
                &evaluation.graph,
                &planned,
                planned.len(),
                room,
                console.paint(OutputStream::Output)
            )
        );
    }
}

/// The plan by what the last build of the same saw; `None` where that cannot be known.
fn by_last_build(
    session: &Session,
    patterns: &[AddressPattern],
    room: Capacity,
    paint: Paint,
) -> Option<String> {
    match session.standing(patterns) {
        Standing::Holds(sealed) => Some(render(&Graph::default(), &[], sealed.steps, room, paint)),
        Standing::Reached(reached) if session.remembers(&reached) => {
            let (steps, planned) = session.plan_reached(&reached, &Silent);
            Some(render(reached.graph(), &planned, steps, room, paint))
        }
        Standing::Reached(_) | Standing::Unknown => None,
    }
}

fn room_of(session: &Session, jobs: Option<u16>) -> Capacity {
    let processors = jobs.map_or(session.default_jobs(), usize::from);
    Capacity {
        processors,
        memory: session.memory(),
    }
}

/// The path of a source, from the workspace's root.
fn source(
    console: Console,
    session: &Session,
    graph: &Graph,
    file: &Path,
) -> CommandResult<WsPath> {
    let written = file.display().to_string();
    let path = session
        .workspace
        .folder
        .resolve(&written)
        .map_err(|problem| {
            say_wrong(
                console,
                Exit::Usage,
                &format!("`{written}`: {problem}"),
                &["name a source of this workspace"],
            )
        })?;
    let known = graph.files.iter().find(|f| f.path == path);
    match known {
        Some(node) if node.maker.is_none() => Ok(path),
        Some(_) => {
            let message = format!("`{written}` is made by a step, so it does not change by itself");
            Err(say_wrong(
                console,
                Exit::Usage,
                &message,
                &["name one of the sources that it is made from"],
            ))
        }
        None => {
            let sources = graph
                .files
                .iter()
                .filter(|f| f.maker.is_none())
                .map(|f| f.path.as_str());
            let near = nubrik_diagnostic::nearest(path.as_str(), sources);
            let mends: Vec<&str> = near.into_iter().collect();
            let message = format!("`{written}` is a source of nothing that was asked for");
            Err(say_wrong(console, Exit::Usage, &message, &mends))
        }
    }
}

/// The colour of what would become of a step.
fn planned_ink(verdict: Verdict) -> Ink {
    match verdict {
        Verdict::Ran => Ink::Busy,
        Verdict::Reused => Ink::Found,
        Verdict::Unstarted | Verdict::Blocked => Ink::Doubt,
        Verdict::Failed => Ink::Wrong,
        Verdict::Current => Ink::Calm,
    }
}

/// The plan for people. Of all `steps` those that are current may be left out of `planned`.
fn render(
    graph: &Graph,
    planned: &[PlannedStep],
    steps: usize,
    room: Capacity,
    paint: Paint,
) -> String {
    let titles = Titles::of(graph);
    let columns = titles.columns(graph);
    let mut out = String::new();
    for step in planned.iter().filter(|s| s.verdict != Verdict::Current) {
        let node = graph.step(step.step);
        let took = step.micros.map_or("?".to_owned(), duration);
        let why = step.reason.to_string();
        let title = titles.of_step(graph, step.step);
        let row = StepRow {
            word: (planned_word(step.verdict), planned_ink(step.verdict)),
            target: &title,
            say: &node.say,
            took: &took,
            why: &why,
            needs_reason: true,
        };
        out.push_str(&columns.lines(paint, row));
    }
    if steps == 0 {
        return "nothing to build here\n".to_owned();
    }
    if out.is_empty() {
        let its = match steps {
            1 => "its 1 step is".to_owned(),
            _ => format!("all {steps} steps are"),
        };
        return format!("nothing would run: {its} current\n");
    }
    out.push('\n');
    let counts = PlanCounts::of(graph, planned);
    let total = counts.micros();
    out.push_str(&paint.in_lines(0, &counts.in_words(steps), |line| {
        paint.ink(Ink::Strong, line)
    }));
    out.push('\n');
    if total > 0 {
        let text = how_long(graph, planned, room);
        let columns = paint.width.map_or(usize::MAX, |w| w - 1);
        text.lines()
            .flat_map(|line| wrapped(line, columns))
            .for_each(|line| out.push_str(&(line + "\n")));
    }
    if counts.targets.len() > 1 && total > 0 {
        for (target, (steps, micros)) in counts.targets {
            out.push_str(&format!(
                "{:>9}  {target}, {}\n",
                duration(micros),
                counted(steps, "step")
            ));
        }
    }
    out
}

/// How long what would run, or may have to, takes by the last times, and the longest chain of it.
fn how_long(graph: &Graph, planned: &[PlannedStep], room: Capacity) -> String {
    let seen = foreseen(graph, planned, room);
    let mut text = format!(
        "about {} with {} at once, judging by earlier runs; {} of work",
        duration(seen.micros as u64),
        room.processors,
        duration(seen.work as u64)
    );
    let names = chain_of(graph, &seen);
    if names.len() > 1 {
        let took = duration(seen.chain_micros as u64);
        text.push_str(&format!("\ncritical path {took}: {}", chain_text(names)));
    }
    text + "\n"
}

fn print_json(console: Console, graph: &Graph, planned: &[PlannedStep], room: Capacity) {
    planned
        .iter()
        .for_each(|step| console.event(&PlanEvent::of(graph, step)));
    console.event(&ForecastEvent::of(graph, planned, room));
}
