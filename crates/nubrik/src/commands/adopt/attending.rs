//! Answers questions of an adoption from a terminal, and shows there how far it is.

use std::path::PathBuf;

use nubrik_adopt::{AdoptNews, AdoptProblem, Attendant, TrialCounts};
use nubrik_answers::PastTimes;
use nubrik_engine::Listener;
use nubrik_graph::Graph;
use nubrik_survey::SurveyQuestion;
use nubrik_wording::counted;

use super::asking;
use crate::commands::{Silent, build, labelled, pins};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, errln};
use crate::ui::live::LiveView;
use crate::ui::paint::Ink;
use crate::ui::telling::{Telling, Told};

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
            AdoptNews::Chooses {
                registry,
                packages,
                locked,
            } if !console.is_json() => {
                let paint = console.paint(OutputStream::Error);
                let as_locked = match locked {
                    [] => String::new(),
                    files => format!(", in the versions of {}", files.join(", ")),
                };
                let text = format!(
                    "{} from {registry}{as_locked}",
                    counted(packages, "package")
                );
                errln!(console, "{}", labelled(paint, Ink::Busy, "pins", &text));
            }
            AdoptNews::Chooses { .. } => {}
            AdoptNews::PassedOver { release, needs } => {
                pins::say_passed_over(console, release, needs)
            }
            // What to do is said; the rest goes on without.
            AdoptNews::WithoutPins(problem) => drop(pins::say(console, Exit::Failed, problem)),
            AdoptNews::Ended { round, counts } => self.ended(round, counts),
        }
    }

    fn attend(&self, graph: &Graph, work: &mut dyn FnMut(&dyn Listener)) {
        let paint = self.console.paint(OutputStream::Error);
        if self.console.is_json() || paint.width.is_none() {
            return work(&Silent);
        }
        let told = Told {
            only_at_work: true,
            ..Told::default()
        };
        let telling = Telling::new(graph, PathBuf::new(), paint, told);
        let view = LiveView::new(
            telling,
            self.console,
            OutputStream::Error,
            PastTimes::default(),
            None,
        );
        view.during(|| work(&view));
    }
}

impl Attending {
    fn ended(&self, round: Option<usize>, counts: TrialCounts) {
        if let (Some(round), false) = (round, self.console.is_json()) {
            let paint = self.console.paint(OutputStream::Error);
            let TrialCounts { all, failed } = counts;
            let text = format!(
                "build {}: {}, {failed} failed",
                round + 1,
                counted(all, "step")
            );
            errln!(
                self.console,
                "{}",
                labelled(paint, Ink::Busy, "trial", &text)
            );
        }
    }
}
