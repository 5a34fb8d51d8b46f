//! `nubrik adopt`: looks at a folder of sources, proposes definitions, writes them on request, and tries them.

mod asking;
mod collecting;
mod ground;
mod pinned;
mod showing;
mod trying;
mod updating;

use std::collections::BTreeMap;

use nubrik_survey::{
    Answers, DefinitionAddress, DefinitionWriter, Proposal, ReconcileProblem, reconcile, survey, with_more,
};

use super::{CommandResult, say_wrong};
use crate::arguments::{Adopting, Choice};
use crate::exit::Exit;
use crate::ui::console::{Console, errln, outln};

pub(super) use asking::agreed;
pub(super) use ground::{AdoptedFolder, MachineFacts};
pub(super) use showing::difference;
pub(super) use updating::update;

/// What `nubrik.toml` says at first.
pub(super) const SETTINGS: &str =
    "# This file marks the root of a workspace for nubrik, and holds settings of the tool.
# What is made is defined in files called targets.nub.

# How many steps run at once; as many as there are processors by default.
# jobs = 4
";

pub fn adopt(console: Console, choice: &Choice, adopting: &Adopting) -> CommandResult<Exit> {
    let here = std::env::current_dir()
        .map_err(|e| say_wrong(console, Exit::Own, &format!("cannot find this folder: {e}"), &[]))?;
    let place = adopting.dir.as_ref().map_or(here.clone(), |dir| here.join(dir));
    let ground = AdoptedFolder::of(console, choice, &place)?;
    let answers = answers(console, adopting)?;
    let Some((proposal, answers)) = propose(console, &ground, answers, adopting)? else {
        return Ok(Exit::Done);
    };
    write_and_try(console, &ground, proposal, &answers, adopting)
}

/// What the command line answers beforehand.
fn answers(console: Console, adopting: &Adopting) -> CommandResult<Answers> {
    let mut answers = Answers::new();
    for word in &adopting.answer {
        let Some((id, answer)) = word.split_once('=') else {
            let mends = ["--answer pin.python=no"];
            return Err(say_wrong(
                console,
                Exit::Usage,
                &format!("`{word}` is no answer: a question, `=`, and what is answered"),
                &mends,
            ));
        };
        answers.insert(id.to_owned(), answer.to_owned());
    }
    Ok(answers)
}

/// Surveys the folder, and asks what the sources do not say. `None` where there is nothing to propose, which was said.
fn propose(
    console: Console,
    ground: &AdoptedFolder,
    mut answers: Answers,
    adopting: &Adopting,
) -> CommandResult<Option<(Proposal, Answers)>> {
    let look = |answers: &Answers| survey(&ground.tree, &ground.top, answers, &MachineFacts);
    let mut proposal = look(&answers);
    asking::check(console, &answers, &proposal, ground)?;
    showing::found(console, ground, &proposal);
    if proposal.definitions.is_empty() {
        showing::left_out(console, &proposal.left_out);
        if !console.is_json() {
            outln!(console, "\nnothing to propose; nubrik init begins definitions by hand");
        }
        return Ok(None);
    }
    // An answer may bring up another question.
    let mut asked = std::collections::BTreeSet::new();
    while let Some(question) =
        proposal.questions.iter().find(|question| !asked.contains(&question.id)).cloned()
    {
        asked.insert(question.id.clone());
        let answer = asking::ask(console, &question, adopting.yes)?;
        answers.insert(question.id.clone(), answer);
        proposal = look(&answers);
    }
    Ok(Some((proposal, answers)))
}

/// Says why definitions were not compared with sources, or not changed.
fn not_reconciled(console: Console, ground: &AdoptedFolder, problem: &ReconcileProblem) -> Exit {
    let path = |package: &str| ground.path(package, "targets.nub");
    match problem {
        ReconcileProblem::Unreadable { package, why } => {
            let message = format!("{} cannot be read: {why}", path(package));
            say_wrong(console, Exit::Definitions, &message, &["nubrik lint"])
        }
        ReconcileProblem::Unfit { package } => {
            let message = format!("{} is not changed: it could not be read afterwards", path(package));
            say_wrong(console, Exit::Own, &message, &["nubrik adopt --check   says what differs"])
        }
    }
}

fn write_and_try(
    console: Console,
    ground: &AdoptedFolder,
    mut proposal: Proposal,
    answers: &Answers,
    adopting: &Adopting,
) -> CommandResult<Exit> {
    let cannot_read = |problem: ReconcileProblem| not_reconciled(console, ground, &problem);
    let changes = |proposal: &mut Proposal| {
        reconcile(&ground.tree, &ground.top, proposal, &ground.existing, &ground.taken, false)
    };
    let first = changes(&mut proposal).map_err(cannot_read)?;
    showing::proposal(console, ground, &proposal);
    if first.is_empty() {
        showing::nothing_new(console);
        return Ok(Exit::Done);
    }
    if !console.is_json() {
        showing::new_settings(console, ground, SETTINGS);
    }
    for change in &first {
        difference(console, ground, change);
    }
    if !agreed(console, "Write this?", adopting.yes)? {
        showing::not_written(console, "nubrik adopt --yes");
        return Ok(Exit::Done);
    }
    let proposed: Vec<_> = proposal.definitions.iter().map(|one| one.address.clone()).collect();
    ground.write_settings(console, SETTINGS)?;
    pinned::pin_all(console, ground, &mut proposal, answers, adopting)?;
    let mut texts = texts_of(ground, &proposal);
    // What was left out since then may be in no file any more.
    let mut written = ground.write_all(console, &texts, &BTreeMap::new())?;
    if adopting.no_try {
        showing::written(console, ground, &texts);
        return Ok(Exit::Done);
    }
    let mut tried = trying::try_all(console, ground, &mut proposal, adopting, &mut |proposal| {
        texts = texts_of(ground, proposal);
        written = ground.write_all(console, &texts, &written)?;
        Ok(())
    })?;
    pinned::drop_unused(console, ground, &proposal)?;
    for address in proposed.iter().filter(|address| proposal.definition(address).is_none()) {
        let result = trying::TryResult::Omission(why_left_out(&proposal, address));
        tried.results.insert(address.below(&ground.top), result);
    }
    showing::written(console, ground, &texts);
    showing::tried(console, &tried);
    if tried.is_interrupted {
        errln!(console, "stopped; what was written stays");
        return Ok(Exit::Interrupted);
    }
    showing::what_comes_next(console);
    Ok(Exit::Done)
}

/// Why a definition is no part of a proposal any more.
fn why_left_out(proposal: &Proposal, address: &DefinitionAddress) -> String {
    let what = address.below("");
    let left = proposal.left_out.iter().find(|left| left.what == what);
    left.map(|left| left.why.clone()).unwrap_or_default()
}

/// The texts of all definition files with what is proposed, by their packages.
fn texts_of(ground: &AdoptedFolder, proposal: &Proposal) -> BTreeMap<String, String> {
    let packages = ground.existing.keys().cloned().collect();
    let writer = DefinitionWriter::new(&ground.tree, &ground.top, proposal, &packages);
    let mut texts = BTreeMap::new();
    for (package, mine) in proposal.by_package() {
        let text = match ground.existing.get(package) {
            Some(before) => with_more(&writer, before, &mine),
            None => writer.package(&mine),
        };
        texts.insert(package.to_owned(), text);
    }
    texts
}
