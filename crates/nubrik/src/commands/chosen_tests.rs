//! Which tests are run: by tag, path, last result, and what changed.

use std::collections::BTreeMap;

use nubrik_graph::{Closure, FileId, StepId};
use nubrik_lang::Evaluation;
use nubrik_session::Session;

use super::{CommandResult, say_wrong, say_wrong_noted};
use crate::arguments::ChosenTests;
use crate::exit::Exit;
use crate::ui::console::Console;

/// The tests that are asked for: their verdicts and the steps that give them.
pub fn tests_of(evaluation: &Evaluation) -> Vec<(FileId, StepId)> {
    let graph = &evaluation.graph;
    let through = &evaluation.through;
    let tests = evaluation.requested.iter().filter_map(|file| Some((*file, graph.file(*file).maker?)));
    let uses = |file: FileId| {
        let closure = Closure::of(graph, [file]).steps;
        closure.iter().any(|s| {
            through.contains(&graph.step(*s).target)
                || graph.service_targets(*s).iter().any(|t| through.contains(t))
        })
    };
    tests.filter(|(file, _)| through.is_empty() || uses(*file)).collect()
}

/// Tests that are left out, by why.
pub type LeftOut = BTreeMap<String, usize>;

/// The files of tests that are chosen, and how many are left out, by why.
pub fn chosen_of(
    console: Console,
    session: &Session,
    evaluation: &Evaluation,
    chosen: &ChosenTests,
) -> CommandResult<(Vec<FileId>, LeftOut)> {
    let (tests, left) = choose(console, session, evaluation, tests_of(evaluation), (chosen, None))?;
    Ok((tests.into_iter().map(|(file, _)| file).collect(), left))
}

/// Tests that are chosen, and how many are left out, by why.
pub fn choose(
    console: Console,
    session: &Session,
    evaluation: &Evaluation,
    mut tests: Vec<(FileId, StepId)>,
    (which, since): (&ChosenTests, Option<&str>),
) -> CommandResult<(Vec<(FileId, StepId)>, LeftOut)> {
    let graph = &evaluation.graph;
    let mut left = LeftOut::new();
    if let Some(tag) = &which.tag {
        let known = |step: StepId| graph.owner(step).tags.iter().any(|t| **t == **tag);
        if !tests.iter().any(|(_, step)| known(*step)) {
            let tags = tests.iter().flat_map(|(_, step)| &graph.owner(*step).tags).map(|t| &**t);
            let mut tags: Vec<&str> = tags.collect();
            tags.sort_unstable();
            tags.dedup();
            let near = nubrik_diagnostic::nearest(tag, tags.iter().copied()).map(|n| format!("--tag {n}"));
            let known = if tags.is_empty() {
                "no test here has a tag".to_owned()
            } else {
                format!("tags here: {}", tags.join(", "))
            };
            let message = format!("no test here is tagged `{tag}`");
            return Err(say_wrong_noted(console, Exit::Usage, &message, &[&known], near.as_deref()));
        }
        leave(&mut tests, &mut left, |_, step| (!known(step)).then(|| format!("not tagged {tag}")));
    }
    if !which.filter.is_empty() {
        let path = |step: StepId| graph.step(step).check.as_ref().map_or("", |check| &check.address);
        let is_meant = |step: StepId| which.filter.iter().any(|text| path(step).contains(text.as_str()));
        if !tests.iter().any(|(_, step)| is_meant(*step)) {
            let texts = which.filter.iter().map(|text| format!("`{text}`")).collect::<Vec<_>>().join(" or ");
            let message = format!("no test here has {texts} in its path");
            return Err(say_wrong(console, Exit::Usage, &message, &["nubrik list   lists tests"]));
        }
        let texts = which.filter.join(" or ");
        leave(&mut tests, &mut left, |_, step| {
            (!is_meant(step)).then(|| format!("the path does not contain {texts}"))
        });
    }
    if which.failed {
        let state = session.state();
        leave(&mut tests, &mut left, |_, step| {
            let memory = state.steps.get(graph.step(step).folder.as_str());
            match memory {
                Some(memory) if memory.outputs.is_empty() => None,
                Some(_) => Some("passed the last time".to_owned()),
                None => Some("never ran here".to_owned()),
            }
        });
    }
    if let Some(revision) = since {
        let reached = super::since::changed(console, session, evaluation, revision)?.steps_reached(graph);
        leave(&mut tests, &mut left, |_, step| {
            (!reached[step.index()]).then(|| format!("nothing they depend on changed since {revision}"))
        });
    }
    Ok((tests, left))
}

fn leave(
    tests: &mut Vec<(FileId, StepId)>,
    left: &mut LeftOut,
    why: impl Fn(FileId, StepId) -> Option<String>,
) {
    tests.retain(|(file, step)| match why(*file, *step) {
        None => true,
        Some(why) => {
            *left.entry(why).or_default() += 1;
            false
        }
    });
}
