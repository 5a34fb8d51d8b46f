//! Outputs that others use before the step that makes them ends, and folders that a step finds
//! again.

use std::sync::Arc;

use nubrik_disk::MadeThing;
use nubrik_graph::{FileId, KEPT, StepId};
use nubrik_source::{FilePath, WsPath};
use nubrik_store::OutputRecord;

use crate::build::Build;
use crate::event::Failure;
use crate::examine::Examined;
use crate::outside::Work;

/// Beside what a step keeps for itself: says that it is whole.
const KEPT_WHOLE: &str = ".kept-whole";

/// What is said of a kept folder that is whole: files that were written shortly before a machine
/// stopped may be empty after that.
fn kept_note(running_since: &str) -> String {
    format!("whole, while this machine runs since {running_since}\n")
}

impl Build<'_> {
    /// Lets a step's commands run, and makes its early outputs known as soon as they are whole;
    /// calls `given` when all of them are.
    pub(crate) fn while_giving_early<T>(
        &self,
        id: StepId,
        given: Option<&(dyn Fn() + Sync)>,
        mut commands: impl FnMut() -> T,
    ) -> T {
        let step = self.graph.step(id);
        let early: Vec<FileId> = step.early_outputs().collect();
        // What was made with a service may hold its secrets, which shows at the end.
        let Some(given) = given.filter(|_| !early.is_empty() && step.services.is_empty()) else {
            return commands();
        };
        let paths: Vec<WsPath> = early
            .iter()
            .map(|file| self.graph.file(*file).path.clone())
            .collect();
        let whole = |number: usize| {
            let file = early[number];
            let known = &self.known.made[file.index()];
            if known.get().is_some() {
                return;
            }
            let MadeThing::There(found) = self.outside.look_at_made(&paths[number], &step.folder)
            else {
                return;
            };
            // A file that is only begun is empty first.
            if found.is_folder() || found.size == 0 {
                return;
            }
            let Ok(digest) = self.outside.digest(&(&paths[number]).into()) else {
                return;
            };
            let record = OutputRecord::File {
                digest,
                executable: found.is_executable(),
            };
            let _ = known.set(record.digest());
            if early
                .iter()
                .all(|file| self.known.made[file.index()].get().is_some())
            {
                given();
            }
        };
        let mut ended = None;
        self.outside
            .while_watching(&paths, &whole, &mut || ended = Some(commands()));
        ended.unwrap_or_else(commands)
    }

    /// Whether an output is what others were given before the step ended.
    pub(crate) fn is_as_given(&self, file: FileId, record: &OutputRecord) -> bool {
        self.known.made[file.index()]
            .get()
            .is_none_or(|given| *given == record.digest())
    }

    /// Whether an input still is what its step, which may still run, gave early.
    pub(crate) fn early_input_in_place(&self, file: FileId) -> Result<(), Arc<str>> {
        let Some(given) = self.known.made[file.index()].get() else {
            return Ok(());
        };
        let path = &self.graph.file(file).path;
        let now = self.outside.check_itself(path).and_then(|found| {
            let digest = self.outside.digest(&path.into()).ok()?;
            Some(
                OutputRecord::File {
                    digest,
                    executable: found.is_executable(),
                }
                .digest(),
            )
        });
        if now == Some(*given) {
            Ok(())
        } else {
            Err(path.shared().clone())
        }
    }

    /// Makes a step's folder again and empty, but for what the step keeps for itself.
    pub(crate) fn fresh_folder(&self, id: StepId, inner: &[String]) -> std::io::Result<()> {
        let step = self.graph.step(id);
        let folder = &step.folder;
        if step.kept.is_empty() {
            return self.outside.fresh_folder(folder, inner);
        }
        let kept = folder.child(KEPT);
        // No step has a folder of such a name.
        let aside = folder
            .parent()
            .unwrap_or_else(WsPath::root)
            .child(&format!("~{}.aside", folder.name()));
        let note = folder.child(KEPT_WHOLE);
        let said = self
            .outside
            .read(&FilePath::from(&note))
            .ok()
            .and_then(|said| String::from_utf8(said).ok());
        let is_there = self
            .outside
            .check_itself(&kept)
            .is_some_and(|found| found.is_folder());
        let is_aside = is_there && self.outside.set_aside(&kept, &aside).is_ok();
        self.outside.fresh_folder(folder, inner)?;
        if is_aside {
            self.outside.set_aside(&aside, &kept)?;
            // What was whole is so still.
            if let Some(said) = said {
                self.outside
                    .work(&Work::write(&said), &note)
                    .map_err(std::io::Error::other)?;
            }
        }
        Ok(())
    }

    /// Throws away what a step kept for itself, unless the same command with the same tools left
    /// it, and came to an end of its own. From now on it may be half of something.
    pub(crate) fn forget_kept_of_others(&self, id: StepId, now: &Examined) {
        let step = self.graph.step(id);
        if step.kept.is_empty() {
            return;
        }
        let before = self.before.steps.get(step.folder.as_str());
        let is_same = before.is_some_and(|memory| {
            memory.command == now.parts.command && memory.tools == now.parts.tools
        });
        let note = step.folder.child(KEPT_WHOLE);
        let said = self.outside.read(&FilePath::from(&note)).ok();
        let whole = self
            .outside
            .running_since()
            .map(|since| kept_note(&since).into_bytes());
        // Where nothing can be read or known, nothing is whole.
        if !is_same || said.is_none() || said != whole {
            self.outside.discard(&step.folder.child(KEPT));
        }
        self.outside.discard(&note);
    }

    /// Takes note that what a step keeps for itself is whole, or throws it away: where its commands
    /// did not come to an end of their own it may be half of something. After a kill, or when the
    /// machine stopped, there is no such note.
    pub(crate) fn note_kept(&self, id: StepId, ended: Result<(), Option<&Failure>>) {
        let step = self.graph.step(id);
        if step.kept.is_empty() {
            return;
        }
        if !matches!(
            ended,
            Ok(()) | Err(Some(Failure::Code(_) | Failure::Cases { .. }))
        ) {
            self.outside.discard(&step.folder.child(KEPT));
            return;
        }
        let Some(since) = self.outside.running_since() else {
            return;
        };
        let work = Work::write(&kept_note(&since));
        // Without the note it is thrown away the next time.
        let _ = self.outside.work(&work, &step.folder.child(KEPT_WHOLE));
    }
}
