//! `nubrik adopt`: looks at a folder of sources, proposes definitions, writes them on request, and
//! tries them.

mod asking;
mod attending;
mod problems;
mod showing;
mod updating;

use std::collections::BTreeSet;
use std::path::Path;
use std::sync::Arc;

use nubrik_adopt::{
    AdoptProblem, AdoptedFolder, Adoption, ComparedTarget, KnownBuild, TimeLimit, Tried,
    WatchedFolder, check_answers,
};
use nubrik_confine::CancelSwitch;
use nubrik_lang::AddressPattern;
use nubrik_source::WsPath;
use nubrik_survey::{Answers, CompilationDatabase, LearnedTarget, Proposal};

use super::{CommandResult, evaluate, open_at, say_wrong};
use crate::arguments::{Adopting, Choice};
use crate::exit::Exit;
use crate::ui::console::{Console, errln, outln};
use attending::Attending;

pub(super) use asking::agreed;
pub(super) use problems::say as say_problem;
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
    let here = super::current_folder(console)?;
    let place = adopting
        .dir
        .as_ref()
        .map_or(here.clone(), |dir| here.join(dir));
    let folder = folder_at(console, choice, &place)?;
    let attendant = Attending {
        console,
        yes: adopting.yes,
    };
    let cancel = crate::interrupt::cancel_switch().or_else(|_| CancelSwitch::new().map(Arc::new));
    let cancel = cancel.map_err(|e| {
        say_wrong(
            console,
            Exit::Own,
            &format!("cannot listen for signals: {e}"),
            &[],
        )
    })?;
    let answers = answers(console, adopting)?;
    crate::ui::plain::name_places_from(&super::started_in(), &folder.root);
    let watched = adopting.watch.as_ref().map(|command| {
        showing::watching(console, command);
        WatchedFolder::of(&folder, command, cancel.clone())
    });
    let watched = watched
        .transpose()
        .map_err(|problem| say_problem(console, &problem))?;
    let database = adopting
        .compilations
        .as_ref()
        .map(|file| database_of(console, &here.join(file), &folder));
    let database = database.transpose()?;
    let build = match (&watched, &database) {
        (Some(watched), _) => KnownBuild::Watched(watched),
        (None, Some(database)) => KnownBuild::Database(database),
        (None, None) => KnownBuild::Unknown,
    };
    let is_offline = adopting.offline;
    let mut adoption = Adoption {
        folder: &folder,
        attendant: &attendant,
        cancel,
        limit: adopting.try_for.map(TimeLimit::of).unwrap_or_default(),
        answers,
        build,
        as_seen: BTreeSet::new(),
        is_offline,
    };
    let Some((proposal, learned)) = propose(console, &mut adoption)? else {
        return Ok(Exit::Done);
    };
    write_and_try(console, &mut adoption, proposal, learned, adopting)
}

/// Looks at a folder, and which of its files definitions take.
pub(super) fn folder_at(
    console: Console,
    choice: &Choice,
    place: &Path,
) -> CommandResult<AdoptedFolder> {
    let mut folder = AdoptedFolder::of(place).map_err(|problem| say_problem(console, &problem))?;
    if folder.has_definitions() {
        let mut session = open_at(console, &folder.root)?;
        session
            .choose(choice.profile.as_deref(), &choice.set)
            .map_err(|problem| {
                let mends: Vec<&str> = problem.mends.iter().map(String::as_str).collect();
                say_wrong(console, Exit::Usage, &problem.message, &mends)
            })?;
        let evaluation = evaluate(
            console,
            &mut session,
            &[AddressPattern::below(&WsPath::root())],
        )?;
        folder.note_taken(&evaluation.graph);
    }
    Ok(folder)
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

/// What was built, beside what the command built that was watched.
fn compared(
    adoption: &Adoption<'_>,
    proposal: &Proposal,
    learned: &[LearnedTarget],
    tried: &Tried,
) -> Result<Vec<ComparedTarget>, AdoptProblem> {
    let (KnownBuild::Watched(watched), false) = (adoption.build, tried.is_interrupted) else {
        return Ok(Vec::new());
    };
    let still = |target: &&LearnedTarget| proposal.definition(&target.address).is_some();
    let targets: Vec<LearnedTarget> = learned.iter().filter(still).cloned().collect();
    adoption.compare(watched, &targets)
}

/// Reads how another tool compiles the sources of a folder.
fn database_of(
    console: Console,
    file: &Path,
    folder: &AdoptedFolder,
) -> CommandResult<CompilationDatabase> {
    let name = file.display();
    let text = std::fs::read_to_string(file).map_err(|error| {
        say_wrong(
            console,
            Exit::Usage,
            &format!("cannot read {name}: {error}"),
            &[],
        )
    })?;
    let database = CompilationDatabase::read(&text).map_err(|why| {
        let message = format!("{name} is no JSON compilation database: {why}");
        let mend = "a list of objects, each with `directory`, `file`, and `arguments` or `command`";
        say_wrong(console, Exit::Usage, &message, &[mend])
    })?;
    if !database.is_about(&folder.tree) {
        let message = format!("{name} names no source of this folder that is compiled");
        let mend = "nubrik adopt FOLDER   for the folder that it is about";
        return Err(say_wrong(console, Exit::Usage, &message, &[mend]));
    }
    Ok(database)
}

/// Surveys the folder, and asks what the sources do not say. `None` where there is nothing to
/// propose, which was said.
fn propose(
    console: Console,
    adoption: &mut Adoption<'_>,
) -> CommandResult<Option<(Proposal, Vec<LearnedTarget>)>> {
    let (proposal, learned) = match adoption.build {
        KnownBuild::Watched(watched) => {
            let learned = adoption.learned(watched);
            (learned.proposal, learned.targets)
        }
        KnownBuild::Unknown | KnownBuild::Database(_) => (adoption.look(), Vec::new()),
    };
    if let KnownBuild::Watched(watched) = adoption.build {
        let results = learned.len();
        if results == 0 && proposal.definitions.is_empty() {
            let command = watched.build().command.clone();
            return Err(say_problem(
                console,
                &AdoptProblem::NothingLearned { command },
            ));
        }
        showing::watched(console, watched, results);
    }
    check_answers(&adoption.answers, &proposal, adoption.folder)
        .map_err(|problem| say_problem(console, &problem))?;
    showing::found(console, adoption.folder, &proposal);
    if proposal.definitions.is_empty() {
        showing::left_out(console, &proposal.left_out);
        if !console.is_json() {
            outln!(
                console,
                "\nnothing to propose; nubrik init begins definitions by hand"
            );
        }
        return Ok(None);
    }
    let proposal = adoption
        .ask(proposal)
        .map_err(|problem| say_problem(console, &problem))?;
    Ok(Some((proposal, learned)))
}

fn write_and_try(
    console: Console,
    adoption: &mut Adoption<'_>,
    mut proposal: Proposal,
    learned: Vec<LearnedTarget>,
    adopting: &Adopting,
) -> CommandResult<Exit> {
    let say = |problem| say_problem(console, &problem);
    let folder = adoption.folder;
    let first = folder.changes(&mut proposal, false).map_err(say)?;
    showing::proposal(console, folder, &proposal);
    if first.is_empty() {
        let differing = folder.changes(&mut adoption.look(), true).map_err(say)?;
        let counts = differing.iter().map(|change| change.differences.len());
        showing::nothing_new(console, counts.sum());
        return Ok(Exit::Done);
    }
    if !console.is_json() {
        showing::new_settings(console, folder, SETTINGS);
    }
    for change in &first {
        difference(console, folder, change);
    }
    if !agreed(console, "Write this?", adopting.yes)? {
        showing::not_written(console, &adopting.without_question());
        return Ok(Exit::Done);
    }
    folder.write_settings(SETTINGS).map_err(say)?;
    let mut texts = adoption.write(&mut proposal).map_err(say)?;
    if adopting.no_try {
        showing::written(console, folder, &texts);
        return Ok(Exit::Done);
    }
    let mut tried = adoption.try_all(&mut proposal, &mut texts).map_err(say)?;
    let mut compared = compared(adoption, &proposal, &learned, &tried).map_err(say)?;
    let other_values = compared.iter().flat_map(|one| one.other_values.clone());
    let other_values: BTreeSet<String> = other_values.collect();
    if let (KnownBuild::Watched(watched), false) = (adoption.build, other_values.is_empty()) {
        // The machine answers some questions otherwise than the configuration did, which knows
        // better.
        adoption.as_seen = other_values;
        proposal = adoption.learned(watched).proposal;
        folder.changes(&mut proposal, false).map_err(say)?;
        adoption
            .write_again(&mut proposal, &mut texts)
            .map_err(say)?;
        tried = adoption.try_all(&mut proposal, &mut texts).map_err(say)?;
        compared = self::compared(adoption, &proposal, &learned, &tried).map_err(say)?;
    }
    showing::written(console, folder, &texts);
    showing::tried(console, &tried);
    if let KnownBuild::Watched(watched) = adoption.build {
        showing::compared(console, &watched.build().command, &compared);
    }
    Ok(end(console, adoption.limit.is_over(), tried.is_interrupted))
}

/// Says how it goes on after all was tried, or why not all was.
fn end(console: Console, is_late: bool, is_interrupted: bool) -> Exit {
    if is_late {
        errln!(
            console,
            "the time was over; nubrik build and nubrik test go on from here"
        );
    } else if is_interrupted {
        errln!(console, "stopped; what was written stays");
        return Exit::Interrupted;
    }
    showing::what_comes_next(console);
    Exit::Done
}
