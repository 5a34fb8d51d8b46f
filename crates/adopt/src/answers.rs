//! Answers that are given before anything is asked.

use std::collections::BTreeSet;

use nubrik_pins::Registry;
use nubrik_survey::{Answers, Proposal, SurveyQuestion, survey};

use crate::{AdoptProblem, AdoptedFolder, MachineFacts};

/// What questions about definitions that want the network begin with: only a try shows which ones
/// there are.
const NETWORK: &str = "network.";

/// Refuses answers to questions that are not asked, and answers that are none.
///
/// # Errors
///
/// [`AdoptProblem::NotAsked`] and [`AdoptProblem::NoAnswer`].
pub fn check_answers(
    answers: &Answers,
    proposal: &Proposal,
    folder: &AdoptedFolder,
) -> Result<(), AdoptProblem> {
    if answers.is_empty() {
        return Ok(());
    }
    // The questions that the answers have settled are known from a survey without answers only.
    let open = survey(&folder.tree, &folder.top, &Answers::new(), &MachineFacts).questions;
    let pins = proposal
        .registries()
        .into_iter()
        .map(|registry| pinning(registry, String::new()));
    let all: Vec<SurveyQuestion> = open
        .iter()
        .chain(&proposal.questions)
        .cloned()
        .chain(pins)
        .collect();
    for (id, answer) in answers {
        if id.starts_with(NETWORK) && yes_or_no().contains(answer) {
            continue;
        }
        match all.iter().find(|question| question.id == *id) {
            Some(question) if question.choices.contains(answer) => {}
            Some(question) => {
                let (id, answer, choices) = (id.clone(), answer.clone(), question.choices.clone());
                return Err(AdoptProblem::NoAnswer {
                    id,
                    answer,
                    choices,
                });
            }
            None => {
                let known: BTreeSet<&str> =
                    all.iter().map(|question| question.id.as_str()).collect();
                let near = nubrik_diagnostic::nearest(id, known).map(str::to_owned);
                return Err(AdoptProblem::NotAsked {
                    id: id.clone(),
                    near,
                });
            }
        }
    }
    Ok(())
}

/// Whether packages of a registry are to be pinned.
pub fn pinning(registry: Registry, text: String) -> SurveyQuestion {
    SurveyQuestion {
        id: format!("pin.{registry}"),
        text,
        choices: yes_or_no(),
    }
}

/// Whether a definition, named from the workspace's root, may use the network.
pub fn network_for(name: &str) -> SurveyQuestion {
    SurveyQuestion {
        id: format!("{NETWORK}{name}"),
        text: format!("{name} was refused the network. May it use it?"),
        choices: yes_or_no().into_iter().rev().collect(),
    }
}

fn yes_or_no() -> Vec<String> {
    vec!["yes".to_owned(), "no".to_owned()]
}
