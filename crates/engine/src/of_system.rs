//! Files of the system that count for a step though nobody declares them: those that its words
//! name, and what runs its scripts.

use nubrik_bytes::Digest;
use nubrik_graph::{Program, StepId};
use nubrik_source::FilePath;

use crate::build::{Build, OnSystem};
use crate::examine::{CLOSED, NOT_THERE};
use crate::words::{programs_in, shell_script, system_files_in};

impl Build<'_> {
    /// What is at a path of the system; looked at once a run.
    pub(crate) fn on_system(&self, path: &FilePath) -> OnSystem {
        let mut known = self.known.on_system.lock();
        *known
            .entry(path.clone())
            .or_insert_with(|| match self.outside.check(path) {
                None => OnSystem::Nothing,
                Some(found) if found.is_folder() => OnSystem::Folder,
                Some(_) => OnSystem::File,
            })
    }

    /// Files of the system that a step's words name or that run its scripts, and programs that
    /// these start by their bare names.
    pub(crate) fn of_system_in(&self, id: StepId) -> (Vec<FilePath>, Vec<String>) {
        let step = self.graph.step(id);
        let (mut named, mut programs) = (Vec::new(), Vec::new());
        let stages = || step.commands.iter().flat_map(|pipeline| &pipeline.stages);
        let words = stages().flat_map(|stage| &stage.words);
        let texts = words.chain(step.env.iter().map(|(_, value)| value));
        for text in texts.chain(step.lists.iter().map(|list| &list.text)) {
            named.extend(system_files_in(text, &|path| self.outside.is_system(path)));
        }
        for stage in stages() {
            if let Some(script) = shell_script(&stage.words) {
                programs.extend(programs_in(script));
            }
            if let Program::File(file) = stage.program {
                self.bring_path(self.graph.file(file).path.as_str());
                named.extend(
                    self.outside
                        .interpreters(&FilePath::from(&self.graph.file(file).path)),
                );
            }
        }
        (named, programs)
    }

    /// Files of the system that a step's words name, and what runs its scripts: with their
    /// contents, or with that they are not there.
    pub(crate) fn add_system_files(&self, id: StepId, inputs: &mut Vec<(FilePath, Digest)>) {
        let (mut named, programs) = self.of_system_in(id);
        named.extend(
            programs
                .iter()
                .flat_map(|program| self.outside.looked_up(program)),
        );
        named.sort();
        named.dedup();
        for path in named {
            // What folders of the system hold is not counted.
            if self.on_system(&path) == OnSystem::Folder {
                continue;
            }
            let content = self.system_content(&path);
            inputs.push((path, content));
        }
    }

    /// What a file of the system is as an input: its content, or that it is not there, or cannot be
    /// read.
    pub(crate) fn system_content(&self, path: &FilePath) -> Digest {
        match self.table.entry(self.outside, path) {
            Ok(Some(entry)) => entry.digest,
            Ok(None) => Digest::of(NOT_THERE),
            Err(_) => Digest::of(CLOSED),
        }
    }
}
