//! Which tests are run, as the command line says it.

use nubrik_answers::{ChosenTests, NoSuchTests, TestsWanted};
use nubrik_lang::Evaluation;
use nubrik_session::Session;

use super::since::cannot_tell;
use super::{CommandResult, say_wrong, say_wrong_noted};
use crate::arguments::TestChoice;
use crate::exit::Exit;
use crate::ui::console::Console;

/// The tests of an evaluation that are chosen; or says why none can be.
pub fn choose(
    console: Console,
    session: &Session,
    evaluation: &Evaluation,
    (choice, since): (&TestChoice, Option<&str>),
) -> CommandResult<ChosenTests> {
    let TestChoice {
        tag,
        filter,
        failed,
    } = choice;
    let wanted = TestsWanted {
        tag: tag.as_deref(),
        filter,
        failed: *failed,
        since,
    };
    ChosenTests::of(session, evaluation, wanted).map_err(|none| say_none(console, &none, wanted))
}

/// Says why no test can be chosen.
fn say_none(console: Console, none: &NoSuchTests, wanted: TestsWanted<'_>) -> Exit {
    match none {
        NoSuchTests::Tag { known, near } => {
            let note = match known.is_empty() {
                true => "no test here has a tag".to_owned(),
                false => format!("tags here: {}", known.join(", ")),
            };
            let message = format!(
                "no test here is tagged `{}`",
                wanted.tag.unwrap_or_default()
            );
            let mend = near.as_ref().map(|near| format!("--tag {near}"));
            say_wrong_noted(console, Exit::Usage, &message, &[&note], mend.as_deref())
        }
        NoSuchTests::Filter => {
            let texts = wanted.filter.iter().map(|text| format!("`{text}`"));
            let texts = texts.collect::<Vec<_>>().join(" or ");
            let message = format!("no test here has {texts} in its path");
            say_wrong(
                console,
                Exit::Usage,
                &message,
                &["nubrik list   lists tests"],
            )
        }
        NoSuchTests::Since(problem) => {
            cannot_tell(console, "what", wanted.since.unwrap_or_default(), problem)
        }
    }
}
