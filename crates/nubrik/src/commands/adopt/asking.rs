//! Questions in a terminal, one at a time.

use std::io::{BufRead, IsTerminal};

use nubrik_adopt::QuestionEvent;
use nubrik_survey::SurveyQuestion;

use super::super::CommandResult;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, errln};
use crate::ui::paint::Ink;

/// Whether a person can answer.
pub fn is_attended(console: Console) -> bool {
    !console.is_json() && std::io::stdin().is_terminal() && std::io::stderr().is_terminal()
}

/// Asks a question; without a person its first answer is taken, and said to programs.
pub fn ask(console: Console, question: &SurveyQuestion, yes: bool) -> CommandResult<String> {
    let assumed = question.choices[0].clone();
    if console.is_json() {
        console.event(&QuestionEvent::of(question, &assumed));
    }
    if yes || !is_attended(console) {
        return Ok(assumed);
    }
    loop {
        let Some(line) = read_answer(console, &question.text, &question.choices)? else {
            return Ok(assumed);
        };
        let meant: Vec<&String> = question
            .choices
            .iter()
            .filter(|choice| choice.starts_with(&line))
            .collect();
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
        let Some(line) = read_answer(console, text, &choices)? else {
            return Ok(true);
        };
        match line.to_lowercase().as_str() {
            "y" | "yes" => return Ok(true),
            "n" | "no" => return Ok(false),
            _ => errln!(console, "  yes or no"),
        }
    }
}

/// What a person writes; `None` for an empty line, which means the first choice. The end of all
/// input is no answer: then nothing is done.
fn read_answer(console: Console, text: &str, choices: &[String]) -> CommandResult<Option<String>> {
    let paint = console.paint(OutputStream::Error);
    let first = choices.first().map_or("", String::as_str);
    let all = paint.ink(
        Ink::Faint,
        &format!("{}; Enter means {first}", choices.join(" / ")),
    );
    errln!(console, "\n{} {all}", paint.ink(Ink::Strong, text));
    let mut line = String::new();
    match std::io::stdin().lock().read_line(&mut line) {
        Ok(0) | Err(_) => Err(Exit::Interrupted),
        Ok(_) => Ok(Some(line.trim().to_owned()).filter(|line| !line.is_empty())),
    }
}
