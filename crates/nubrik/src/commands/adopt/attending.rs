//! Answers questions of an adoption from a terminal, and shows there how far it is.

use nubrik_adopt::{AdoptNews, AdoptProblem, Attendant, TrialCounts};
use nubrik_engine::Failure;
use nubrik_survey::SurveyQuestion;
use nubrik_wording::counted;

use super::asking;
use crate::commands::{build, labelled, pins};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, errln};
use crate::ui::failure;
use crate::ui::paint::Ink;

/// The person at the terminal, if there is one.
pub struct Attending {
    pub console: Console,
    /// Whether the first answer to each question is taken without asking.
    pub yes: bool,
}

impl Attendant for Attending {
    fn answer(&self, question: &SurveyQuestion) -> Result<String, AdoptProblem> {
        asking::ask(self.console, question, self.yes).map_err(|_| AdoptProblem::Interrupted)
    }

    fn hear(&self, news: AdoptNews<'_>) {
        let console = self.console;
        match news {
            AdoptNews::Waits => build::say_waiting(console),
            AdoptNews::KitFetched { name, from } => build::say_kit_fetched(console, name, from),
            AdoptNews::Chooses { registry, packages, locked } if !console.is_json() => {
                let paint = console.paint(OutputStream::Error);
                let as_locked = match locked {
                    [] => String::new(),
                    files => format!(", in the versions of {}", files.join(", ")),
                };
                let text = format!("{} from {registry}{as_locked}", counted(packages, "package"));
                errln!(console, "{}", labelled(paint, Ink::Busy, "pins", &text));
            }
            AdoptNews::Chooses { .. } => {}
            // What to do is said; the rest goes on without.
            AdoptNews::WithoutPins(problem) => drop(pins::say(console, Exit::Failed, problem)),
            AdoptNews::Progress(counts) => self.progress(counts),
            AdoptNews::Ended { round, counts } => self.ended(round, counts),
        }
    }

    fn words(&self, failure: &Failure) -> String {
        failure::short(failure)
    }
}

impl Attending {
    fn progress(&self, counts: TrialCounts) {
        let paint = self.console.paint(OutputStream::Error);
        if self.console.is_json() || paint.width.is_none() {
            return;
        }
        let failed = if counts.failed == 0 { String::new() } else { format!(", {} failed", counts.failed) };
        let (busy, TrialCounts { done, all, .. }) = (paint.ink(Ink::Busy, "tries     "), counts);
        self.console.raw(OutputStream::Error, &format!("\r\x1b[K{busy}{done} of {all} steps{failed}"));
    }

    fn ended(&self, round: Option<usize>, counts: TrialCounts) {
        let paint = self.console.paint(OutputStream::Error);
        if self.console.is_json() {
            return;
        }
        if paint.width.is_some() {
            self.console.raw(OutputStream::Error, "\r\x1b[K");
        } else if let Some(round) = round {
            let TrialCounts { all, failed, .. } = counts;
            errln!(self.console, "trial     build {}: {all} steps, {failed} failed", round + 1);
        }
    }
}
