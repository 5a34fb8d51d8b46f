//! `nubrik init`: what `nubrik adopt` does, for an empty or small folder, without trying it.

use std::collections::BTreeMap;

use nubrik_adopt::MachineFacts;
use nubrik_session::SETTINGS_FILE;
use nubrik_survey::{Answers, DefinitionWriter, Proposal, survey};

use super::adopt::{SETTINGS, folder_at, say_problem};
use super::{CommandResult, say_wrong};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, outln};
use crate::ui::paint::Ink;

/// A folder for which more definitions are proposed is not small: somebody should see them before
/// they are written.
const SMALL: usize = 4;

const GREETING: &str = "# Targets of this folder. Build them with `nubrik build`.

## A first result.
target greeting = step {
    say = \"write a greeting\"
    run = `echo \"greetings from {place}\" > {out \"greeting.txt\"}`
}

let place = \"the Skerrin Isles\"
";

pub fn init(console: Console, choice: &Choice) -> CommandResult<Exit> {
    let here = super::current_folder(console)?;
    let ground = folder_at(console, choice, &here)?;
    let settings = ground.root.join(SETTINGS_FILE).display().to_string();
    let has_definitions = ground.existing.contains_key("");
    if ground.is_workspace && has_definitions {
        let message =
            format!("this folder has a targets.nub and belongs to a workspace already: {settings}");
        let mend = "nubrik list   shows what it makes";
        return Err(say_wrong(console, Exit::Usage, &message, &[mend]));
    }
    if let Some(file) = ground.taken.all.iter().find(|file| ground.tree.has(file)) {
        let message = format!(
            "files in this folder belong to the package around it, such as {file}; with a targets.nub here it would lose them"
        );
        let mend = "nubrik adopt --update   changes the definitions that there are, if a file is missing in them";
        return Err(say_wrong(console, Exit::Usage, &message, &[mend]));
    }
    let mut proposal = survey(&ground.tree, &ground.top, &Answers::new(), &MachineFacts);
    let paint = console.paint(OutputStream::Output);
    let line = |ink, word: &str, text: &str| {
        outln!(console, "{}", super::labelled(paint, ink, word, text));
    };
    let wrote = |path: &str| line(Ink::Busy, "wrote", path);
    let kept = |what: &str| line(Ink::Calm, "kept", what);
    let say = |problem| say_problem(console, &problem);
    ground.write_settings(SETTINGS).map_err(say)?;
    if ground.is_workspace {
        kept(&settings)
    } else {
        wrote(SETTINGS_FILE)
    }
    if has_definitions {
        kept("targets.nub, which was there");
        outln!(console, "\nnow: nubrik list, then nubrik build");
        return Ok(Exit::Done);
    }
    if !is_small(&proposal) {
        say_sources(console, &proposal);
        return Ok(Exit::Done);
    }
    proposal
        .definitions
        .retain(|one| one.address.package.is_empty());
    let text = match proposal.definitions.is_empty() {
        true => GREETING.to_owned(),
        false => {
            let packages = ground.existing.keys().cloned().collect();
            let writer = DefinitionWriter::new(&ground.tree, &ground.top, &proposal, &packages);
            writer.package(&proposal.definitions.iter().collect::<Vec<_>>())
        }
    };
    ground
        .write_all(&BTreeMap::from([(String::new(), text)]), &BTreeMap::new())
        .map_err(say)?;
    wrote("targets.nub");
    outln!(console, "\nnow: nubrik list, then nubrik build");
    Ok(Exit::Done)
}

/// Says that there is more here than a first definition is written for.
fn say_sources(console: Console, proposal: &Proposal) {
    let found = proposal.sources.iter();
    let found = found.map(|(kit, count)| format!("{count} of {}", kit.language()));
    let found = found.collect::<Vec<_>>().join(", ");
    outln!(
        console,
        "\nthere are sources here: {found}\nnow: nubrik adopt, which proposes definitions for them"
    );
}

/// Whether a proposal is so small that nobody has to see it before it is written: few definitions
/// in one package, and nothing of other people's code.
fn is_small(proposal: &Proposal) -> bool {
    let is_one = proposal.packages().iter().all(|package| package.is_empty());
    proposal.definitions.len() <= SMALL && is_one && proposal.pins.is_empty()
}
