//! `nubrik show`

use std::collections::BTreeSet;
use std::fmt::Write;
use std::mem::ManuallyDrop;

use nubrik_answers::{PrintedEvent, TargetAnswer, TargetAnswers};
use nubrik_graph::{FileId, Serving, Step, StepId, shown_command, shown_service};
use nubrik_lang::{AddressPattern, Evaluation};
use nubrik_session::Session;
use nubrik_source::WsPath;
use nubrik_wording::duration;

use super::{CommandResult, evaluate, open, patterns};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out, outln};
use crate::ui::paint::{Ink, Paint};
use crate::ui::text::{cut, harmless, wrapped};

/// How many files, steps and users are named; more of them are only counted.
const NAMED: usize = 8;

/// How many lines of a text are shown that is written for a command.
const TEXT_LINES: usize = 8;

/// What is shown of targets.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum ShownPart {
    /// What they are; of several a list, or each of them.
    Targets {
        /// Whether each is shown.
        each: bool,
    },
    /// What their steps printed.
    Printed,
}

pub fn show(
    console: Console,
    choice: &Choice,
    address: &str,
    part: ShownPart,
) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    let wanted = patterns(console, &mut session, &[address.to_owned()])?;
    let evaluation = evaluate(console, &mut session, &wanted)?;
    if part == ShownPart::Printed {
        show_printed(console, &session, &evaluation);
        return Ok(Exit::Done);
    }
    let is_list = part == ShownPart::Targets { each: false } && evaluation.targets.len() > 1;
    if is_list && !console.is_json() {
        drop(session);
        super::list::list(
            console,
            choice,
            &[address.to_owned()],
            super::list::Which::default(),
        )?;
        outln!(
            console,
            "\nnubrik show TARGET shows one of them, nubrik show --all {address} each"
        );
        return Ok(Exit::Done);
    }
    // Users may be anywhere in the workspace; where something else is wrong, it is shown all the
    // same.
    let everything = [AddressPattern::below(&WsPath::root())];
    let once = |session: &Session| session.evaluate_to_read(&everything);
    let whole = ManuallyDrop::new(super::as_far_as_known(console, &mut session, once));
    let answers = TargetAnswers::of(
        &evaluation,
        &whole.graph,
        session.state(),
        session.results_folder(),
    );
    for (i, answer) in answers.each().enumerate() {
        if console.is_json() {
            console.event(&answer.event());
        } else {
            if i > 0 {
                outln!(console);
            }
            out!(
                console,
                "{}",
                ShownTarget(answer).render(console.paint(OutputStream::Output))
            );
        }
    }
    Ok(Exit::Done)
}

/// Shows what the steps of some targets printed when they last ran.
fn show_printed(console: Console, session: &Session, evaluation: &Evaluation) {
    let paint = console.paint(OutputStream::Output);
    let graph = &evaluation.graph;
    let mut said = false;
    for id in evaluation.own_steps() {
        let step = graph.step(id);
        let printed = session.printed(step);
        if console.is_json() {
            console.event(&PrintedEvent::of(graph, id, printed.as_deref()));
            continue;
        }
        let text = String::from_utf8_lossy(printed.as_deref().unwrap_or_default()).into_owned();
        let head = format!("{}   {}", graph.title(id), step.say);
        match (printed, text.trim_end()) {
            (None, _) => outln!(console, "{head}   {}", paint.ink(Ink::Faint, "not kept")),
            (Some(_), "") => continue,
            (Some(_), text) => {
                outln!(console, "{}", paint.ink(Ink::Strong, &head));
                harmless(text, paint.colours)
                    .lines()
                    .for_each(|line| outln!(console, "    {line}"));
            }
        }
        said = true;
    }
    if !said && !console.is_json() {
        outln!(console, "its steps printed nothing");
    }
}

/// An answer about a target, as people read it.
struct ShownTarget<'a>(TargetAnswer<'a>);

impl ShownTarget<'_> {
    fn render(&self, paint: Paint) -> String {
        let target = self.0.target();
        let mut out = format!("{}\n", paint.ink(Ink::Strong, &target.address));
        let room = paint.width.map_or(usize::MAX, |w| w.saturating_sub(13));
        let more = paint.glyph("…", "...");
        let mut line = |label: &str, text: &str| {
            let text = cut(text, room, more);
            out.push_str(&format!(
                "  {}  {text}\n",
                paint.ink(Ink::Calm, &format!("{label:<8}"))
            ));
        };
        let private = if target.private { ", private" } else { "" };
        line("kind", &format!("{}{private}", target.kind));
        if !target.documentation.is_empty() {
            line("about", &target.documentation);
        }
        line("defined", &target.place.to_string());
        if !target.tags.is_empty() {
            line("tags", &target.tags.join(", "));
        }
        line("needs", &named(&self.0.needs(), "no targets"));
        line("used by", &named(self.0.users(), "no other target"));
        let results = self.0.results();
        let results: Vec<&str> = results.iter().map(String::as_str).collect();
        line("results", &named(&results, "none of its own"));
        let steps = self.0.steps();
        for id in steps.iter().take(NAMED) {
            out.push_str(&self.step(*id, paint));
        }
        if steps.len() > NAMED {
            let text = format!(
                "and {} more steps; `--json` shows all of them",
                steps.len() - NAMED
            );
            out.push_str(&format!("\n  {}\n", paint.ink(Ink::Faint, &text)));
        }
        for effect in self.0.effects() {
            let head = (&*effect.step.say, effect.step.place.to_string());
            let commands = shown_command(&effect.step);
            let labelled = commands.into_iter().enumerate();
            let lines = labelled
                .map(|(i, c)| (if i > 0 { "then" } else { "command" }, c))
                .collect();
            out.push_str(&self.block(head, lines, &self.0.files(&effect.step.inputs), paint));
        }
        for service in self.0.services() {
            let kind = match &service.serving {
                Serving::Elsewhere { .. } => "runs somewhere else",
                Serving::Here { shared: true, .. } => "one for all who need it",
                Serving::Here { .. } => "a fresh one for each user",
            };
            let head = (kind, service.place.to_string());
            let made = self.0.graph().files.iter().enumerate();
            let made = made.filter(|(_, f)| service.inputs.holds(&f.path));
            let inputs: Vec<_> = made.map(|(i, _)| FileId(i as u32)).collect();
            out.push_str(&self.block(head, shown_service(service), &self.0.files(&inputs), paint));
        }
        out
    }

    /// Commands that are no step's, with what they read.
    fn block(
        &self,
        (head, note): (&str, String),
        commands: Vec<(&str, String)>,
        reads: &[String],
        paint: Paint,
    ) -> String {
        let mut out = format!(
            "\n  {}  {}\n",
            paint.ink(Ink::Busy, head),
            paint.ink(Ink::Faint, &note)
        );
        let room = paint.width.map_or(usize::MAX, |w| w.saturating_sub(15));
        let mut line = |label: &str, text: &str| {
            out.push_str(&format!(
                "    {}  {text}\n",
                paint.ink(Ink::Calm, &format!("{label:<8}"))
            ));
        };
        let mut last = "";
        for (label, command) in &commands {
            for (n, text) in wrapped(command, room).iter().enumerate() {
                line(
                    if n > 0 || (*label == last && last != "then") {
                        ""
                    } else {
                        label
                    },
                    text,
                );
            }
            last = label;
        }
        let reads: Vec<&str> = reads.iter().map(String::as_str).collect();
        line(
            "reads",
            cut(&named(&reads, "nothing"), room, paint.glyph("…", "...")).as_ref(),
        );
        out
    }

    fn step(&self, id: StepId, paint: Paint) -> String {
        let step = self.0.graph().step(id);
        let variant = if step.variant.is_empty() {
            String::new()
        } else {
            format!(" ({})", step.variant)
        };
        let took = self.0.last_micros(id);
        let took = took.map_or("never ran here".to_owned(), |m| {
            format!("took {}", duration(m))
        });
        let place = paint.ink(Ink::Faint, &format!("{took}, {}", step.place));
        let say = paint.ink(Ink::Busy, &step.say);
        let mut out = format!("\n  {say}{variant}  {place}\n");
        let room = paint.width.map_or(usize::MAX, |w| w.saturating_sub(15));
        let more = paint.glyph("…", "...");
        // Commands are shown whole: they are there to be read and pasted.
        out.push_str(&whole_commands(step, paint, room));
        let mut line = |label: &str, text: &str| {
            let text = cut(text, room, more);
            let label = paint.ink(Ink::Calm, &format!("{label:<8}"));
            out.push_str(&format!("    {label}  {text}\n"));
        };
        show_given(step, paint, &mut line);
        if let Some(image) = self.0.image(id) {
            line("image", image);
        }
        let some = |files: &[String], nothing: &str| {
            let files: Vec<&str> = files.iter().map(String::as_str).collect();
            named(&files, nothing)
        };
        let reads = self.0.files(&step.inputs_besides_image());
        line("reads", &some(&reads, "nothing"));
        let candidates = self.0.files(&self.0.graph().uncertain(step));
        if !candidates.is_empty() {
            line("may read", &some(&candidates, ""));
        }
        let services: Vec<&str> = step.services.iter().map(|s| &*s.address).collect();
        if !services.is_empty() {
            line("while", &format!("{} runs", services.join(", ")));
        }
        if !step.machine.is_empty() {
            line("machine", &step.machine.join(", "));
        }
        let makes: Vec<&str> = step.outputs.iter().map(|o| &*o.name).collect();
        line("makes", &named(&makes, "nothing"));
        out
    }
}

/// The commands of a step, whole, in lines of so many columns.
fn whole_commands(step: &Step, paint: Paint, room: usize) -> String {
    let mut commands = String::new();
    for (i, command) in shown_command(step).iter().enumerate() {
        let word = if i > 0 { "then" } else { "command" };
        let label = paint.ink(Ink::Calm, &format!("{word:<8}"));
        for (n, text) in wrapped(command, room).iter().enumerate() {
            let label = if n == 0 { label.clone() } else { " ".repeat(8) };
            let _ = writeln!(commands, "    {label}  {text}");
        }
    }
    commands
}

/// Names with commas, at most so many of them.
fn named(names: &[&str], none: &str) -> String {
    let distinct: BTreeSet<&str> = names.iter().copied().collect();
    let some: Vec<&str> = distinct.iter().copied().take(NAMED).collect();
    match distinct.len() {
        0 => none.to_owned(),
        n if n > NAMED => format!("{} and {} more", some.join(", "), n - NAMED),
        _ => some.join(", "),
    }
}

/// The files that are written for a step's commands, by their first lines.
fn show_given(step: &Step, paint: Paint, line: &mut impl FnMut(&str, &str)) {
    let more = paint.glyph("…", "...");
    // What is asked of a program that stays is shown as part of its command.
    let stages = step.commands.iter().flat_map(|pipeline| &pipeline.stages);
    let asked: Vec<&WsPath> = stages
        .filter_map(|stage| stage.stdin.as_ref().filter(|_| stage.answers))
        .collect();
    for file in step
        .lists
        .iter()
        .filter(|file| !asked.contains(&&file.path))
    {
        let name = file.path.below(&step.folder).unwrap_or(file.path.as_str());
        let lines: Vec<&str> = file.text.lines().collect();
        line(
            "given",
            &format!(
                "{} {name}",
                paint.ink(Ink::Faint, &format!("{} lines in", lines.len()))
            ),
        );
        for text in lines.iter().take(TEXT_LINES) {
            line("", &format!("  {}", harmless(text, false)));
        }
        if lines.len() > TEXT_LINES {
            let rest = format!("  {more} {} more, with --json", lines.len() - TEXT_LINES);
            line("", &paint.ink(Ink::Faint, &rest));
        }
    }
}
