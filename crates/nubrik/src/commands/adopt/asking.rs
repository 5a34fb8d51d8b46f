//! Questions in a terminal, one at a time.

use std::collections::BTreeSet;
use std::io::{BufRead, IsTerminal};

use nubrik_survey::{Answers, Proposal, SurveyQuestion};
use serde::Serialize;

use super::super::{CommandResult, say_wrong};
use super::AdoptedFolder;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, errln};
use crate::ui::paint::Ink;

#[derive(Serialize)]
struct QuestionEvent<'a> {
    event: &'static str,
    question: &'a str,
    text: &'a str,
    choices: &'a [String],
    assumed: &'a str,
}

/// Whether a person can answer.
pub fn is_attended(console: Console) -> bool {
    !console.is_json() && std::io::stdin().is_terminal() && std::io::stderr().is_terminal()
}

/// Asks a question; without a person its first answer is taken, and said to programs.
pub fn ask(console: Console, question: &SurveyQuestion, yes: bool) -> CommandResult<String> {
    let assumed = question.choices[0].clone();
    if console.is_json() {
        let SurveyQuestion { id, text, choices } = question;
        console.event(&QuestionEvent { event: "question", question: id, text, choices, assumed: &assumed });
    }
    if yes || !is_attended(console) {
        return Ok(assumed);
    }
    loop {
        let Some(line) = read_answer(console, &question.text, &question.choices)? else { return Ok(assumed) };
        let meant: Vec<&String> =
            question.choices.iter().filter(|choice| choice.starts_with(&line)).collect();
        match meant.as_slice() {
            [one] => return Ok((*one).clone()),
            _ if question.choices.contains(&line) => return Ok(line),
            _ => errln!(console, "  one of: {}", question.choices.join(", ")),
        }
    }
}

/// Asks whether to go on. Without a person only `--yes` says so.
pub fn agreed(console: Console, text: &str, yes: bool) -> CommandResult<bool> {
    if yes || !is_attended(console) {
        return Ok(yes);
    }
    let choices = ["yes".to_owned(), "no".to_owned()];
    loop {
        let Some(line) = read_answer(console, text, &choices)? else { return Ok(true) };
        match line.to_lowercase().as_str() {
            "y" | "yes" => return Ok(true),
            "n" | "no" => return Ok(false),
            _ => errln!(console, "  yes or no"),
        }
    }
}

/// What a person writes; `None` for an empty line, which means the first choice. The end of all input is no answer: then
/// nothing is done.
fn read_answer(console: Console, text: &str, choices: &[String]) -> CommandResult<Option<String>> {
    let paint = console.paint(OutputStream::Error);
    let first = choices.first().map_or("", String::as_str);
    let all = paint.ink(Ink::Faint, &format!("{}; Enter means {first}", choices.join(" / ")));
    errln!(console, "\n{} {all}", paint.ink(Ink::Strong, text));
    let mut line = String::new();
    match std::io::stdin().lock().read_line(&mut line) {
        Ok(0) | Err(_) => Err(Exit::Interrupted),
        Ok(_) => Ok(Some(line.trim().to_owned()).filter(|line| !line.is_empty())),
    }
}

/// Refuses answers to questions that are not asked, and answers that are none.
pub fn check(
    console: Console,
    answers: &Answers,
    proposal: &Proposal,
    ground: &AdoptedFolder,
) -> CommandResult<()> {
    if answers.is_empty() {
        return Ok(());
    }
    // The questions that the answers have settled are known from a survey without answers only.
    let none = Answers::new();
    let open = nubrik_survey::survey(&ground.tree, &ground.top, &none, &super::MachineFacts).questions;
    let known: BTreeSet<&str> =
        open.iter().chain(&proposal.questions).map(|question| question.id.as_str()).collect();
    for (id, answer) in answers {
        // Whether tests want the network, only trying them shows.
        if id.starts_with("network.") && ["yes", "no"].contains(&answer.as_str()) {
            continue;
        }
        let pins = proposal.registries().into_iter().map(|registry| SurveyQuestion {
            id: format!("pin.{registry}"),
            text: String::new(),
            choices: vec!["yes".to_owned(), "no".to_owned()],
        });
        let mut all = open.iter().chain(&proposal.questions).cloned().chain(pins);
        let question = all.find(|question| question.id == *id);
        match question {
            Some(question) if question.choices.contains(answer) => {}
            Some(question) => {
                let message = format!("`{answer}` is no answer to {id}");
                let mend = format!("one of: {}", question.choices.join(", "));
                return Err(say_wrong(console, Exit::Usage, &message, &[&mend]));
            }
            None => {
                let near = nubrik_diagnostic::nearest(id, known.iter().copied());
                let mend = near.map(|near| format!("--answer {near}=…"));
                let message = format!("nothing is asked about `{id}`");
                return Err(say_wrong(
                    console,
                    Exit::Usage,
                    &message,
                    &mend.iter().map(String::as_str).collect::<Vec<_>>(),
                ));
            }
        }
    }
    Ok(())
}
