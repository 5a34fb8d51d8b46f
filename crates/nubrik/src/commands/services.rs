//! Services in this terminal: run by name, or for a job.

use std::sync::Arc;
use std::time::Duration;

use nubrik_answers::ServingEvent;
use nubrik_diagnostic::Diagnostic;
use nubrik_engine::{Lent, ServiceFailure};
use nubrik_graph::Service;
use nubrik_lang::Evaluation;
use nubrik_session::{OutputListener, Session};
use nubrik_source::Sources;

use super::{CommandResult, labelled, report, say_notice, say_wrong};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, err, errln};
use crate::ui::paint::Ink;
use crate::ui::plain;
use crate::ui::text::harmless;

/// How often a service is looked at, whether it still runs.
const TICK: Duration = Duration::from_millis(100);

/// Stops where an address means several services, or one that runs somewhere else.
pub fn check(console: Console, evaluation: &Evaluation, address: &str) -> CommandResult<()> {
    let [service] = evaluation.services.as_slice() else {
        let mends: Vec<String> = evaluation
            .services
            .iter()
            .map(|s| format!("nubrik run {}", s.address))
            .collect();
        let mends: Vec<&str> = mends.iter().map(String::as_str).collect();
        return Err(say_wrong(
            console,
            Exit::Usage,
            &format!("`{address}` is several services: say which"),
            &mends,
        ));
    };
    if matches!(service.serving, nubrik_graph::Serving::Elsewhere { .. }) {
        let message = format!("`{address}` runs somewhere else: there is nothing to start");
        return Err(say_wrong(console, Exit::Usage, &message, &[]));
    }
    Ok(())
}

/// Starts a service, and waits until someone ends it. What it uses was built.
pub fn run(console: Console, session: &Session, evaluation: &Evaluation) -> CommandResult<Exit> {
    let service = &evaluation.services[0];
    let paint = console.paint(OutputStream::Error);
    let say = |word: &str, text: &str| {
        if !console.is_json() {
            errln!(console, "{}", labelled(paint, Ink::Busy, word, text));
        }
    };
    say("starts", &service.address);
    let stream = if console.is_json() {
        OutputStream::Error
    } else {
        OutputStream::Output
    };
    let echo: OutputListener =
        Arc::new(move |bytes: &[u8]| console.text(stream, &String::from_utf8_lossy(bytes)));
    let lent = lend(
        console,
        session,
        "run",
        std::slice::from_ref(service),
        Some(echo),
    )?;
    for (name, at) in session.places(&lent) {
        if console.is_json() {
            console.event(&ServingEvent::of(&name, &at));
        }
        say("serves", &format!("{name} at {at}; Ctrl-C ends it"));
    }
    let ended = loop {
        if session.is_cancelled() {
            break None;
        }
        if let Some(ended) = session.ended(&lent) {
            break Some(ended);
        }
        std::thread::sleep(TICK);
    };
    give_back(console, session, lent);
    match ended {
        None => {
            say("ended", &service.address);
            Ok(Exit::Done)
        }
        Some((name, how, _)) => Err(say_wrong(
            console,
            Exit::Failed,
            &format!("the service {name} {how} by itself"),
            &[],
        )),
    }
}

/// Makes services ready, or says why they are not.
pub fn lend(
    console: Console,
    session: &Session,
    user: &str,
    wanted: &[Arc<Service>],
    echo: Option<OutputListener>,
) -> CommandResult<Lent> {
    let is_heard = echo.is_some();
    let lent = session.lend(user, wanted, echo);
    lent.map_err(|failure| match failure {
        None => Exit::Interrupted,
        Some(failure) => say_failed(console, &failure, is_heard),
    })
}

/// Takes services back, and says which did not stop as they should.
pub fn give_back(console: Console, session: &Session, lent: Lent) {
    for failure in session.give_back(lent) {
        say_notice(
            console,
            OutputStream::Error,
            (Ink::Doubt, "notice"),
            &failure.not_stopped(),
        );
    }
}

/// Says why a service is not there; what it printed only where that was not seen already.
fn say_failed(console: Console, failure: &ServiceFailure, was_seen: bool) -> Exit {
    let mut diagnostic = Diagnostic::error("service", failure.to_string());
    for (label, text) in failure.readings() {
        diagnostic = match label {
            "try" => diagnostic.mend(text),
            "service" => diagnostic.note(format!("defined at {}", failure.place)),
            label => diagnostic.note(format!("{label} {text}")),
        };
    }
    let printed = String::from_utf8_lossy(&failure.printed).into_owned();
    let shows = !printed.trim().is_empty() && !was_seen;
    if console.is_json() && shows {
        diagnostic = diagnostic.note(format!("it printed: {printed}"));
    }
    let paint = console.paint(OutputStream::Error);
    if paint.plain && !console.is_json() {
        err!(
            console,
            "{}",
            plain::diagnostic_at(&failure.place, &diagnostic)
        );
    } else {
        report(console, &[diagnostic], &Sources::default());
    }
    if shows && !console.is_json() {
        errln!(console, "  {}", paint.ink(Ink::Calm, "printed"));
        harmless(printed.trim_end(), paint.colours)
            .lines()
            .for_each(|line| errln!(console, "    {line}"));
    }
    if failure.problem.lies_in_machine() {
        Exit::Machine
    } else {
        Exit::Failed
    }
}
