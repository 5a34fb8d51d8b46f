//! Evaluation for commands: probes are answered on the way, and errors end it.

use std::mem::ManuallyDrop;

use nubrik_answers::errors_of;
use nubrik_lang::{AddressPattern, Evaluation};
use nubrik_session::{Session, Workshop};

use super::{CommandResult, build, patterns, report};
use crate::arguments::How;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, errln};

/// A caller that finds answers that definitions wait for: a session, which takes the lock for that
/// alone, or one that holds it.
pub trait Answering {
    /// To evaluate with.
    fn session(&self) -> &Session;

    /// Runs the probes that an evaluation waits for; shown as steps when `shown` says how, else
    /// only their failures are.
    fn answer(
        &mut self,
        console: Console,
        evaluation: &Evaluation,
        shown: Option<(How, OutputStream)>,
    ) -> CommandResult<()>;
}

impl Answering for Session {
    fn session(&self) -> &Session {
        self
    }

    fn answer(
        &mut self,
        console: Console,
        evaluation: &Evaluation,
        shown: Option<(How, OutputStream)>,
    ) -> CommandResult<()> {
        build::answer_probes(console, &mut build::lock(console, self)?, evaluation, shown)
    }
}

impl Answering for Workshop<'_> {
    fn session(&self) -> &Session {
        self
    }

    fn answer(
        &mut self,
        console: Console,
        evaluation: &Evaluation,
        shown: Option<(How, OutputStream)>,
    ) -> CommandResult<()> {
        build::answer_probes(console, self, evaluation, shown)
    }
}

/// Evaluates for a command that only reads, and stops with the errors if there are any. Probes that
/// definitions wait for are run without a word, unless they fail.
///
/// What comes back is not freed by itself: the program ends after the answer, and to free a large
/// graph piece by piece would take longer than to give it. Who goes on to something else takes it
/// out.
pub fn evaluate(
    console: Console,
    session: &mut impl Answering,
    patterns: &[AddressPattern],
) -> CommandResult<ManuallyDrop<Evaluation>> {
    evaluate_with(console, session, None, |session| {
        session.evaluate_to_read(patterns)
    })
    .map(ManuallyDrop::new)
}

/// Evaluates what an address means. Probes are shown on standard error.
pub fn evaluate_address(
    console: Console,
    workshop: &mut Workshop<'_>,
    address: &str,
) -> CommandResult<(Vec<AddressPattern>, Evaluation)> {
    let patterns = patterns(console, workshop, &[address.to_owned()])?;
    let shown = Some((How::default(), OutputStream::Error));
    let evaluation = evaluate_with(console, workshop, shown, |s| s.evaluate(&patterns))?;
    Ok((patterns, evaluation))
}

/// Evaluates as often as answers of probes are missing. Probes are shown as steps when `shown` says
/// how.
pub fn evaluate_with(
    console: Console,
    session: &mut impl Answering,
    shown: Option<(How, OutputStream)>,
    once: impl Fn(&Session) -> Evaluation,
) -> CommandResult<Evaluation> {
    let evaluation = answered(session, once, |session, evaluation| {
        // What is wrong anyway is said first.
        let evaluation = stop_on_errors(console, evaluation)?;
        session.answer(console, &evaluation, shown)
    })?;
    stop_on_errors(console, evaluation)
}

/// Evaluates until no answer is missing that can be found; `find` finds those that one evaluation
/// waits for.
pub fn answered<S: Answering>(
    session: &mut S,
    once: impl Fn(&Session) -> Evaluation,
    mut find: impl FnMut(&mut S, Evaluation) -> CommandResult<()>,
) -> CommandResult<Evaluation> {
    loop {
        let evaluation = once(session.session());
        if session.session().is_stopped() {
            return Err(Exit::Interrupted);
        }
        if !evaluation.waiting || evaluation.probes.is_empty() {
            return Ok(evaluation);
        }
        find(session, evaluation)?;
    }
}

/// Evaluates; where an answer cannot be found, the rest is known without it.
pub fn as_far_as_known(
    console: Console,
    session: &mut Session,
    once: impl Fn(&Session) -> Evaluation,
) -> Evaluation {
    let found = answered(session, &once, |session, evaluation| {
        session.answer(console, &evaluation, None)
    });
    found.unwrap_or_else(|_| once(session))
}

/// Evaluates everything with its warnings; errors are the caller's to print.
pub fn evaluate_with_all(console: Console, session: &mut Session) -> CommandResult<Evaluation> {
    answered(session, Session::lint, |session, evaluation| {
        session.answer(console, &evaluation, None)
    })
}

/// Prints errors, and stops if there are any.
pub fn stop_on_errors(console: Console, evaluation: Evaluation) -> CommandResult<Evaluation> {
    let errors = errors_of(&evaluation);
    if errors.is_empty() {
        return Ok(evaluation);
    }
    report(console, &errors, &evaluation.sources);
    if !console.is_json() && errors.len() > 1 {
        errln!(console, "\n{} errors", errors.len());
    }
    // Only the command line was wrong when nothing has a place.
    let of_words = ["unknown-target", "unknown-option", "option-value"];
    let usage = errors
        .iter()
        .all(|e| e.span.is_none() && of_words.contains(&e.code));
    Err(if usage {
        Exit::Usage
    } else {
        Exit::Definitions
    })
}
