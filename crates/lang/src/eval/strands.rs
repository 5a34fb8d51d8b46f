//! The strands of commands: what their words are made of, and where the paths lead that only a step
//! knows.

use std::rc::Rc;

use nubrik_graph::KEPT;
use nubrik_source::{WsPath, shared_text};
use smallvec::SmallVec;

use crate::value::*;

/// Strands of a command; most often few.
pub(super) type Leaves<'a> = SmallVec<[&'a WordStrand; 16]>;

/// All strands of a process: of its words, and of where it reads and writes.
pub(super) fn all_strands(stage: &StageValue) -> impl Iterator<Item = &WordStrand> {
    stage
        .words
        .iter()
        .chain(&stage.stdin)
        .chain(&stage.stdout)
        .chain(&stage.stderr)
        .flat_map(|(_, w)| w)
}

/// Strands with those inside quoted ones instead of these.
pub(super) fn leaves<'a>(strand: &'a WordStrand, list: &mut Leaves<'a>) {
    match strand {
        WordStrand::Quoted(inner) => inner.iter().for_each(|s| leaves(s, list)),
        WordStrand::TextFile { text, .. } => {
            list.push(strand);
            text.iter().for_each(|s| leaves(s, list));
        }
        other => list.push(other),
    }
}

/// Where something is that a step throws away.
pub(super) fn scratch_path(folder: &WsPath, path: &str) -> WsPath {
    WsPath::from_normal_text(shared_text([folder.as_str(), "/.scratch/", path]))
}

/// Where a folder is that a step finds again when it runs the next time.
pub(super) fn kept_path(folder: &WsPath, path: &str) -> WsPath {
    WsPath::from_normal_text(shared_text([folder.as_str(), "/", KEPT, "/", path]))
}

/// All strands of some commands, with those inside quoted ones instead of these.
pub(super) fn leaves_of(commands: &[Rc<CommandValue>]) -> Leaves<'_> {
    let mut list = Leaves::new();
    let stages = commands.iter().flat_map(|command| &command.stages);
    stages
        .flat_map(all_strands)
        .for_each(|strand| leaves(strand, &mut list));
    list
}
