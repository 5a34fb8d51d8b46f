//! `nubrik adopt --check` and `--update`: where definitions and sources differ.

use nubrik_adopt::MachineFacts;
use nubrik_survey::{Answers, FileChange, survey};

use super::{agreed, difference, folder_at, say_problem};
use crate::arguments::{Adopting, Choice};
use crate::commands::{CommandResult, labelled, open};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, outln};
use crate::ui::paint::Ink;

/// Compares definitions with sources, and changes the definitions if that is wanted.
pub fn update(console: Console, choice: &Choice, adopting: &Adopting) -> CommandResult<Exit> {
    let here = super::super::current_folder(console)?;
    // There must be a workspace.
    let root = open(console, choice)?.workspace.root.clone();
    let place = adopting.dir.as_ref().map_or(root, |dir| here.join(dir));
    let folder = folder_at(console, choice, &place)?;
    let mut proposal = survey(&folder.tree, &folder.top, &Answers::new(), &MachineFacts);
    let changes = folder
        .changes(&mut proposal, true)
        .map_err(|problem| say_problem(console, &problem))?;
    let paint = console.paint(OutputStream::Output);
    if changes.is_empty() {
        if !console.is_json() {
            outln!(console, "definitions and sources agree");
        }
        return Ok(Exit::Done);
    }
    if !console.is_json() {
        for (target, _, what) in changes.iter().flat_map(|change| &change.differences) {
            let text = format!("{target}: {what}");
            outln!(console, "{}", labelled(paint, Ink::Doubt, "differs", &text));
        }
    }
    // Some differences only people can mend.
    let is_edited = |change: &FileChange| change.before.as_ref() != Some(&change.after);
    for change in changes
        .iter()
        .filter(|change| console.is_json() || is_edited(change))
    {
        difference(console, &folder, change);
    }
    if adopting.check || !changes.iter().any(is_edited) {
        return Ok(Exit::Failed);
    }
    if !agreed(console, "Write this?", adopting.yes)? {
        if !console.is_json() {
            outln!(
                console,
                "\nnothing was written; nubrik adopt --update --yes writes it"
            );
        }
        return Ok(Exit::Done);
    }
    let texts = changes
        .into_iter()
        .filter(is_edited)
        .map(|change| (change.package, change.after))
        .collect();
    folder
        .write_all(&texts, &std::collections::BTreeMap::new())
        .map_err(|problem| say_problem(console, &problem))?;
    if !console.is_json() {
        outln!(console);
        for package in texts.keys() {
            let path = folder.path(package, nubrik_lang::TARGETS_FILE);
            outln!(console, "{}", labelled(paint, Ink::Busy, "wrote", &path));
        }
    }
    Ok(Exit::Done)
}
