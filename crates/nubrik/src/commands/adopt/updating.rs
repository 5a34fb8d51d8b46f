//! `nubrik adopt --check` and `--update`: where definitions and sources differ.

use nubrik_survey::{Answers, reconcile, survey};

use super::{AdoptedFolder, MachineFacts, agreed, difference};
use crate::arguments::{Adopting, Choice};
use crate::commands::{CommandResult, labelled, open, say_wrong};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, outln};
use crate::ui::paint::Ink;

/// Compares definitions with sources, and changes the definitions if that is wanted.
pub fn update(console: Console, choice: &Choice, adopting: &Adopting) -> CommandResult<Exit> {
    let here = std::env::current_dir()
        .map_err(|e| say_wrong(console, Exit::Own, &format!("cannot find this folder: {e}"), &[]))?;
    // There must be a workspace.
    let root = open(console, choice)?.workspace.root.clone();
    let place = adopting.dir.as_ref().map_or(root, |dir| here.join(dir));
    let ground = AdoptedFolder::of(console, choice, &place)?;
    let mut proposal = survey(&ground.tree, &ground.top, &Answers::new(), &MachineFacts);
    let changes = reconcile(&ground.tree, &ground.top, &mut proposal, &ground.existing, &ground.taken, true);
    let changes = changes.map_err(|problem| super::not_reconciled(console, &ground, &problem))?;
    if changes.is_empty() {
        if !console.is_json() {
            outln!(console, "definitions and sources agree");
        }
        return Ok(Exit::Done);
    }
    let paint = console.paint(OutputStream::Output);
    for change in &changes {
        if !console.is_json() {
            for (target, _, what) in &change.differences {
                outln!(console, "{}", labelled(paint, Ink::Doubt, "differs", &format!("{target}: {what}")));
            }
        }
    }
    for change in &changes {
        difference(console, &ground, change);
    }
    if adopting.check {
        return Ok(Exit::Failed);
    }
    if !agreed(console, "Write this?", adopting.yes)? {
        if !console.is_json() {
            outln!(console, "\nnothing was written; nubrik adopt --update --yes writes it");
        }
        return Ok(Exit::Done);
    }
    let texts = changes.into_iter().map(|change| (change.package, change.after)).collect();
    ground.write_all(console, &texts, &std::collections::BTreeMap::new())?;
    if !console.is_json() {
        outln!(console);
        for package in texts.keys() {
            let path = ground.path(package, "targets.nub");
            outln!(console, "{}", labelled(paint, Ink::Busy, "wrote", &path));
        }
    }
    Ok(Exit::Done)
}
