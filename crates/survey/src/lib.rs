//! Looks at a folder of sources, and proposes definitions for all of it.
//!
//! A survey reads files and runs nothing. Each language's reader knows the open manifests that its
//! packages carry, and what sources say themselves: what they include, import or use, and where
//! programs begin. What it proposes is data: it can be changed after it was tried, compared with
//! definitions that are there already, and written as text.
//!
//! ```
//! use nubrik_survey::{Answers, NoMachine, SourceTree, survey};
//!
//! let tree = SourceTree::of(&[("tide.c", "int main(void) { return 0; }\n")]);
//! let proposal = survey(&tree, "", &Answers::new(), &NoMachine);
//! assert_eq!(proposal.definitions[0].address.name, "tide");
//! ```

mod arguments;
mod build_words;
mod causes;
mod covers;
mod existing;
mod languages;
mod learned;
mod mending;
mod names;
mod omitted;
mod places;
mod proposal;
mod reconcile;
mod scripts;
mod tree;
mod tried;
mod uncompiled;
mod values;
mod writing;

use std::collections::BTreeSet;

pub use causes::needs_package;
pub use existing::Existing;
pub use learned::{
    CompilationDatabase, LearnedBuild, LearnedTarget, SeenBuild, SeenProgram, defines_of, learn,
};
pub use mending::mend;
pub use omitted::CauseFacts;
pub use proposal::{
    Answers, Body, Definition, DefinitionAddress, FieldValue, Keyword, KindCall, Kit, Omission,
    Proposal, SurveyQuestion, WantedPin,
};
pub use reconcile::{ChangeKind, FileChange, ReconcileProblem, TakenFiles, reconcile, with_more};
pub use scripts::{ScriptSeen, settle_script};
pub use tree::SourceTree;
pub use tried::{Mended, TryFailure};
pub use uncompiled::{lacks_given_up, with_needed, without_uncompiled};
pub use writing::DefinitionWriter;

use names::NameGiver;
use tree::is_below;

/// What the sources do not say and the machine does.
pub trait MachineView {
    /// Whether there is a library of this name, with its headers.
    fn has_library(&self, name: &str) -> bool;
    /// Whether there is a program of this name.
    fn has_program(&self, name: &str) -> bool;
    /// Whether there is a file at this absolute path.
    fn has_file(&self, path: &str) -> bool;
    /// The installed library that has a file of this name in one of its folders of headers.
    fn library_with(&self, file: &str) -> Option<InstalledFile>;
    /// Whether the system's library of C has a function of this name.
    fn has_function(&self, name: &str) -> bool;
}

/// A file that belongs to a library of the machine.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct InstalledFile {
    /// The library's name.
    pub library: String,
    /// Whether it lies in the folder that all compilers search for headers.
    pub is_in_plain_folder: bool,
}

/// A machine on which nothing is.
pub struct NoMachine;

impl MachineView for NoMachine {
    fn has_library(&self, _: &str) -> bool {
        false
    }

    fn has_program(&self, _: &str) -> bool {
        false
    }

    fn has_file(&self, _: &str) -> bool {
        false
    }

    fn library_with(&self, _: &str) -> Option<InstalledFile> {
        None
    }

    fn has_function(&self, _: &str) -> bool {
        false
    }
}

/// Proposes definitions for a tree, which lies in this folder of its workspace; empty for the
/// workspace itself.
pub fn survey(
    tree: &SourceTree,
    top: &str,
    answers: &Answers,
    machine: &dyn MachineView,
) -> Proposal {
    let mut work = Survey {
        tree,
        top,
        answers,
        machine,
        names: NameGiver::default(),
        proposal: Proposal::default(),
        claimed: BTreeSet::new(),
    };
    languages::look(&mut work);
    work.finish()
}

/// A survey at work.
struct Survey<'a> {
    tree: &'a SourceTree,
    top: &'a str,
    answers: &'a Answers,
    machine: &'a dyn MachineView,
    names: NameGiver,
    proposal: Proposal,
    /// Files that belong to a language's package, whatever they are in.
    claimed: BTreeSet<String>,
}

/// A name without the version that unpacked archives have behind it.
pub(crate) fn without_version(name: &str) -> &str {
    let is_version = |at: &usize| name[at + 1..].starts_with(|c: char| c.is_ascii_digit());
    let end = name
        .match_indices(['-', '_'])
        .map(|(at, _)| at)
        .find(is_version);
    &name[..end.unwrap_or(name.len())]
}

/// The numbers of the one version that a requirement allows: `==4.8.3`.
fn exact_version(requirement: &str) -> Option<Vec<u32>> {
    requirement
        .strip_prefix("==")?
        .split('.')
        .map(|part| part.trim().parse().ok())
        .collect()
}

impl Survey<'_> {
    /// The name of what is in a folder of the tree.
    fn name_of_folder(&self, folder: &str) -> String {
        match (folder, self.top) {
            ("", "") => without_version(&self.tree.name()).to_owned(),
            ("", top) => tree::name_of(top).to_owned(),
            (folder, _) => tree::name_of(folder).to_owned(),
        }
    }

    fn count(&mut self, kit: Kit, sources: usize) {
        if sources > 0 {
            *self.proposal.sources.entry(kit).or_default() += sources;
        }
    }

    fn define(&mut self, definition: Definition) {
        self.proposal.definitions.push(definition);
    }

    fn leave_out(&mut self, what: impl Into<String>, why: impl Into<String>) {
        self.proposal.left_out.push(Omission {
            what: what.into(),
            why: why.into(),
            files: BTreeSet::new(),
        });
    }

    /// Takes note of other people's code. Requests for the same package become one.
    fn pin(&mut self, pin: WantedPin) {
        let same =
            |other: &&mut WantedPin| (other.registry, &other.name) == (pin.registry, &pin.name);
        let Some(other) = self.proposal.pins.iter_mut().find(same) else {
            self.proposal.pins.push(pin);
            return;
        };
        other.features.extend(pin.features);
        other.is_bare &= pin.is_bare;
        other.is_guess &= pin.is_guess;
        let is_new = !pin.requirement.is_empty() && !other.requirement.contains(&pin.requirement);
        // Lists with one version each are for older and newer machines.
        if let (Some(known), Some(new)) = (
            exact_version(&other.requirement),
            exact_version(&pin.requirement),
        ) {
            if new > known {
                other.requirement = pin.requirement;
            }
            return;
        }
        other.requirement = match (is_new, other.requirement.is_empty(), pin.registry) {
            (false, ..) => std::mem::take(&mut other.requirement),
            (true, true, _) => pin.requirement,
            (true, false, registry) => registry.both(&other.requirement, &pin.requirement),
        };
    }

    /// Asks something. Gives the answer, or the first choice.
    fn ask(&mut self, id: &str, text: String, choices: Vec<String>) -> String {
        let answer = self
            .answers
            .get(id)
            .filter(|answer| choices.contains(answer))
            .cloned();
        answer.unwrap_or_else(|| {
            let first = choices[0].clone();
            self.proposal.questions.push(SurveyQuestion {
                id: id.to_owned(),
                text,
                choices,
            });
            first
        })
    }

    fn finish(mut self) -> Proposal {
        let mut proposal = std::mem::take(&mut self.proposal);
        // A package is written where its folder is, in the order in which its definitions were
        // found.
        proposal
            .definitions
            .sort_by(|a, b| a.address.package.cmp(&b.address.package));
        proposal.left_out.sort();
        proposal.left_out.dedup();
        proposal
            .pins
            .sort_by(|a, b| (a.registry, &a.name).cmp(&(b.registry, &b.name)));
        proposal
    }

    /// Whether another survey of this run took a file already.
    fn is_claimed(&self, file: &str) -> bool {
        self.claimed.contains(file)
    }

    /// Takes all files below a folder whose names end so.
    fn claim(&mut self, folder: &str, exts: &[&str]) {
        let files = self.tree.files().iter();
        let mine =
            files.filter(|file| is_below(file, folder) && exts.contains(&tree::ext_of(file)));
        self.claimed.extend(mine.cloned());
    }
}
