//! Gives a folder of sources definitions that work: what a survey proposes is asked about, pinned,
//! written, tried, and changed after what each try shows.
//!
//! Who is asked, and who hears how far it is, is an [`Attendant`]: this crate has no words for a
//! terminal.

mod answers;
mod attendant;
mod events;
mod failures;
mod folder;
mod limit;
mod packages;
mod problem;
mod rounds;
mod scripts;
mod watched;

use std::collections::BTreeMap;
use std::sync::Arc;

use nubrik_confine::CancelSwitch;
use nubrik_engine::{Options, Outreach};
use nubrik_lang::Evaluation;
use nubrik_session::{KitNews, Session, Workshop};
use nubrik_survey::{
    Answers, CompilationDatabase, DefinitionAddress, DefinitionWriter, LearnedBuild, Proposal,
    SeenBuild, learn, survey, with_more,
};

pub use answers::check_answers;
pub use attendant::{AdoptNews, Attendant, TrialCounts};
pub use events::{
    ComparedEvent, DifferenceEvent, OmissionEvent, ProposedEvent, QuestionEvent, TriedEvent,
    TryKind, WantedPinEvent, WatchedEvent,
};
pub use folder::{AdoptedFolder, MachineFacts};
pub use limit::TimeLimit;
pub use problem::AdoptProblem;
pub use rounds::{Tried, TryResult};
pub use watched::{ComparedTarget, WatchedFolder};

/// A folder that gets definitions, and whom it is asked about.
pub struct Adoption<'a> {
    /// The folder.
    pub folder: &'a AdoptedFolder,
    /// Who is asked, and hears how far it is.
    pub attendant: &'a dyn Attendant,
    /// Stops everything.
    pub cancel: Arc<CancelSwitch>,
    /// How long tries may take.
    pub limit: TimeLimit,
    /// What is answered already, by the names of questions.
    pub answers: Answers,
    /// How the folder is built today, where that is known.
    pub build: KnownBuild<'a>,
    /// Names of a configuration's headers that keep the values that were seen.
    pub as_seen: std::collections::BTreeSet<String>,
    /// Whether nothing may use the network: packages that are not pinned already are left out.
    pub is_offline: bool,
}

/// How a folder is built today, as far as anybody knows.
#[derive(Clone, Copy)]
pub enum KnownBuild<'a> {
    /// Only the sources say it.
    Unknown,
    /// A command built it, and was watched.
    Watched(&'a WatchedFolder),
    /// A list says how each source is compiled.
    Database(&'a CompilationDatabase),
}

impl Adoption<'_> {
    /// Surveys the folder with the answers that there are. What a build showed that was watched
    /// takes the place of what the sources suggest.
    pub fn look(&self) -> Proposal {
        match self.build {
            KnownBuild::Unknown => self.survey(),
            KnownBuild::Watched(watched) => self.learned(watched).proposal,
            KnownBuild::Database(database) => database.applied(&self.folder.tree, self.survey()),
        }
    }

    fn survey(&self) -> Proposal {
        survey(
            &self.folder.tree,
            &self.folder.top,
            &self.answers,
            &MachineFacts,
        )
    }

    /// What a build showed that was watched.
    pub fn learned(&self, watched: &WatchedFolder) -> LearnedBuild {
        let build = SeenBuild {
            as_seen: self.as_seen.clone(),
            ..watched.build().clone()
        };
        learn(&self.folder.tree, &self.folder.top, &build, self.survey())
    }

    /// Asks all questions of a proposal, and those that an answer brings up, each once; what is
    /// proposed then.
    ///
    /// # Errors
    ///
    /// Whoever is asked stopped it.
    pub fn ask(&mut self, mut proposal: Proposal) -> Result<Proposal, AdoptProblem> {
        let mut asked = std::collections::BTreeSet::new();
        while let Some(question) = proposal
            .questions
            .iter()
            .find(|question| !asked.contains(&question.id))
            .cloned()
        {
            asked.insert(question.id.clone());
            let answer = self.attendant.answer(&question)?;
            self.answers.insert(question.id.clone(), answer);
            proposal = self.look();
        }
        Ok(proposal)
    }

    /// Pins what a proposal needs, and writes it; what cannot be pinned is taken out of it first.
    ///
    /// # Errors
    ///
    /// Files cannot be written, or were changed by somebody else; or it was stopped.
    pub fn write(&self, proposal: &mut Proposal) -> Result<WrittenTexts, AdoptProblem> {
        let proposed = proposal
            .definitions
            .iter()
            .map(|one| one.address.clone())
            .collect();
        self.pin_all(proposal, false)?;
        let texts = self.texts_of(proposal);
        // What is left out since then may be in no file any more.
        self.folder.write_all(&texts, &BTreeMap::new())?;
        Ok(WrittenTexts { texts, proposed })
    }

    /// Writes another proposal in the place of one that was tried.
    ///
    /// # Errors
    ///
    /// As [`Adoption::write`] has them.
    pub fn write_again(
        &self,
        proposal: &mut Proposal,
        texts: &mut WrittenTexts,
    ) -> Result<(), AdoptProblem> {
        texts.proposed = proposal
            .definitions
            .iter()
            .map(|one| one.address.clone())
            .collect();
        self.pin_all(proposal, false)?;
        let new = self.texts_of(proposal);
        self.folder.write_all(&new, &texts.texts)?;
        texts.texts = new;
        Ok(())
    }

    /// Tries what was written, and writes what is changed by that.
    ///
    /// # Errors
    ///
    /// Files cannot be written, or were changed by somebody else; or the workspace cannot be used.
    pub fn try_all(
        &self,
        proposal: &mut Proposal,
        texts: &mut WrittenTexts,
    ) -> Result<Tried, AdoptProblem> {
        let rewrite = &mut |proposal: &Proposal| {
            let new = self.texts_of(proposal);
            self.folder.write_all(&new, &texts.texts)?;
            texts.texts = new;
            Ok(())
        };
        let mut tried = self
            .limit
            .during(&self.cancel, || self.try_in_rounds(proposal, rewrite))?;
        self.drop_unused(proposal)?;
        for address in texts
            .proposed
            .iter()
            .filter(|address| proposal.definition(address).is_none())
        {
            let result = TryResult::Omission(why_left_out(proposal, address));
            tried
                .results
                .insert(address.below(&self.folder.top), result);
        }
        Ok(tried)
    }

    /// The texts of all definition files with what is proposed, by their packages.
    fn texts_of(&self, proposal: &Proposal) -> BTreeMap<String, String> {
        let existing = &self.folder.existing;
        let packages = existing.keys().cloned().collect();
        let writer =
            DefinitionWriter::new(&self.folder.tree, &self.folder.top, proposal, &packages);
        let mut texts = BTreeMap::new();
        for (package, mine) in proposal.by_package() {
            let text = match existing.get(package) {
                Some(before) => with_more(&writer, before, &mine),
                None => writer.package(&mine),
            };
            texts.insert(package.to_owned(), text);
        }
        texts
    }

    /// Opens the folder's workspace.
    fn open(&self) -> Result<Session, AdoptProblem> {
        let mut session =
            Session::open(&self.folder.root, self.cancel.clone()).map_err(AdoptProblem::Open)?;
        session.let_reach(if self.is_offline {
            Outreach::NoNetwork
        } else {
            Outreach::Everything
        });
        Ok(session)
    }

    /// Waits until no other command changes the workspace, and fetches kits that are not there.
    fn lock<'s>(&self, session: &'s mut Session) -> Result<Workshop<'s>, AdoptProblem> {
        let locked = session
            .lock(|| self.attendant.hear(AdoptNews::Waits))
            .map_err(AdoptProblem::Own)?;
        let mut workshop = locked.ok_or(AdoptProblem::Interrupted)?;
        for (name, news) in workshop.bring_kits() {
            match news {
                KitNews::Fetched(from) => self.attendant.hear(AdoptNews::KitFetched {
                    name: &name,
                    from: &from,
                }),
                KitNews::Failed(why) => return Err(AdoptProblem::Kit { name, why }),
            }
        }
        Ok(workshop)
    }
}

/// The texts of definition files as they were written the last time.
pub struct WrittenTexts {
    /// By their packages.
    texts: BTreeMap<String, String>,
    /// All that was proposed before packages were pinned; not all of it is in the texts.
    proposed: Vec<DefinitionAddress>,
}

impl WrittenTexts {
    /// Each package with its text.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &str)> {
        self.texts
            .iter()
            .map(|(package, text)| (package.as_str(), text.as_str()))
    }
}

/// How tries are built: all that does not depend on a failure.
fn options_of(session: &Session) -> Options {
    Options {
        keep_going: true,
        ..session.options()
    }
}

/// The first error of an evaluation.
fn error_of(evaluation: &Evaluation) -> Option<&str> {
    let error =
        |one: &&nubrik_diagnostic::Diagnostic| one.severity == nubrik_diagnostic::Severity::Error;
    evaluation
        .diagnostics
        .iter()
        .find(error)
        .map(|one| one.message.as_str())
}

/// Why a definition is no part of a proposal any more.
fn why_left_out(proposal: &Proposal, address: &DefinitionAddress) -> String {
    let what = address.below("");
    let left = proposal.left_out.iter().find(|left| left.what == what);
    left.map(|left| left.why.clone()).unwrap_or_default()
}
