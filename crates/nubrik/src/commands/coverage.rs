//! `nubrik test --coverage`: the instrumented variants, what they cost, and which lines ran.

use std::path::Path;

use nubrik_answers::{ChangedSince, Covered, keep_lines};
use nubrik_engine::{Supposed, Verdict};
use nubrik_graph::{Closure, FileId, StepId};
use nubrik_lang::Evaluation;
use nubrik_session::Session;
use nubrik_wording::{counted, duration};

use super::{CommandResult, Silent, say_wrong};
use crate::arguments::WhichTests;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, outln};
use crate::ui::coverage as ui;
use crate::ui::paint::Ink;

/// The option of kits and packages that asks for lines.
const OPTION: &str = "coverage";

/// Asks for the variants that tell of lines, where the person did.
pub fn choose(session: &mut Session, which: &WhichTests) {
    if which.coverage {
        session.choose_also(&format!("*.{OPTION}"), "true", "--coverage");
    }
}

/// Says what has to be made for it, before that is made.
pub fn say_cost(console: Console, session: &Session, evaluation: &Evaluation, verdicts: &[FileId]) {
    let graph = &evaluation.graph;
    let mut is_wanted = vec![false; graph.steps.len()];
    let needed = Closure::of(graph, verdicts.iter().copied()).steps;
    needed
        .iter()
        .for_each(|step| is_wanted[step.index()] = true);
    let planned = session.plan(evaluation, &Silent, Supposed::default());
    let works = |step: &StepId, verdict: Verdict| {
        is_wanted[step.index()] && matches!(verdict, Verdict::Ran | Verdict::Unstarted)
    };
    let (mut steps, mut micros, mut unknown) = (0_usize, 0_u64, 0_usize);
    for planned in planned.iter().filter(|p| works(&p.step, p.verdict)) {
        steps += 1;
        let folder = graph.step(planned.step).folder.as_str();
        match planned.micros.or_else(|| {
            session
                .state()
                .steps
                .get(&nubrik_graph::without_option(folder, OPTION))
                .map(|usual| usual.micros)
        }) {
            Some(known) => micros += known,
            None => unknown += 1,
        }
    }
    if steps == 0 || console.is_json() {
        return;
    }
    let mut text = format!("{steps} of {} to run", counted(needed.len(), "step"));
    match (micros, unknown) {
        (0, _) => {}
        (micros, 0) => text.push_str(&format!(", about {}", duration(micros))),
        (micros, unknown) => text.push_str(&format!(
            ", about {} ({unknown} never ran)",
            duration(micros)
        )),
    }
    text.push_str("; the normal variant is kept");
    let paint = console.paint(OutputStream::Output);
    outln!(
        console,
        "{}",
        super::labelled(paint, Ink::Faint, OPTION, &text)
    );
}

/// Shows which lines the tests ran that passed, and writes them down where that was asked for. Says
/// whether all of them could be read.
pub fn show(
    console: Console,
    session: &Session,
    evaluation: &Evaluation,
    passed: &[StepId],
    which: &WhichTests,
) -> CommandResult<bool> {
    let covered = Covered::of(session, evaluation, passed);
    let changed = match &which.since {
        Some(revision) => {
            let lines = session.lines_changed_since(revision);
            let lines = lines.map_err(|problem| {
                super::since::cannot_tell(console, "which lines", revision, &problem)
            })?;
            Some((revision.as_str(), lines))
        }
        None => None,
    };
    keep_lines(session, &covered.lines);
    for file in &which.coverage_file {
        write(console, file, &covered)?;
    }
    let changed = changed
        .as_ref()
        .map(|(revision, lines)| ChangedSince { revision, lines });
    ui::show(console, &evaluation.graph, &covered, changed);
    Ok(covered.unreadable.is_empty())
}

fn write(console: Console, file: &Path, covered: &Covered) -> CommandResult<()> {
    let is_xml = file
        .extension()
        .is_some_and(|ending| ending.eq_ignore_ascii_case("xml"));
    let text = if is_xml {
        covered.lines.to_cobertura()
    } else {
        covered.lines.to_lcov()
    };
    super::write_whole(file, &text).map_err(|e| {
        let message = format!("cannot write which lines ran to {}: {e}", file.display());
        say_wrong(
            console,
            Exit::Own,
            &message,
            &["name a file in a folder that can be written"],
        )
    })
}
