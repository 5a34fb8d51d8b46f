//! A build's events in lines for people. A caller that shows them decides where they go.

use std::collections::HashSet;
use std::path::PathBuf;

use nubrik_engine::{Event, Failure, Reason, Refusal, Verdict};
use nubrik_graph::{Graph, Native, Step, StepId};
use nubrik_wording::duration;

use super::news::SaidSoFar;
use super::paint::{Ink, Paint};
use super::step_line::{Columns, STATE, StepRow, Titles, below_state, ink_of};
use super::text::{harmless, wrapped};
use super::{failure, plain};

/// How many reused steps with one reason have a line each.
const REUSED_LINES: usize = 3;

/// How many targets of steps that are reported together are named.
const NAMED_TARGETS: usize = 4;

/// What is reported of a build.
#[derive(Clone, Copy, Default)]
pub struct Told {
    /// Whether steps with nothing to do are reported, too.
    pub unchanged: bool,
    /// Whether commands of steps that ran are shown.
    pub commands: bool,
    /// Whether only failures, refusals and notices are.
    pub only_trouble: bool,
    /// Whether nothing is, and only what is at work is shown.
    pub only_at_work: bool,
}

/// Puts events into words.
pub struct Telling<'g> {
    pub graph: &'g Graph,
    root: PathBuf,
    pub paint: Paint,
    columns: Columns,
    titles: Titles,
    told: Told,
    news: SaidSoFar,
}

impl<'g> Telling<'g> {
    pub fn new(graph: &'g Graph, root: PathBuf, paint: Paint, told: Told) -> Telling<'g> {
        let titles = Titles::of(graph);
        Telling {
            graph,
            root,
            paint,
            columns: titles.columns(graph),
            titles,
            told,
            news: SaidSoFar::default(),
        }
    }

    /// The lines about an event that stay; `None` where there is nothing to say, or not yet.
    pub fn of(&self, event: &Event) -> Option<String> {
        match event {
            _ if self.told.only_at_work => None,
            Event::Began { .. }
            | Event::WillRun { .. }
            | Event::Elsewhere { .. }
            | Event::Unpacks { .. } => None,
            Event::Done { step, .. } => self.step_done(*step, event),
            Event::Survived { step, refused } => Some(self.survived(*step, refused)),
            Event::Notice(notice) => Some(self.labelled("notice", &notice.to_string())),
        }
    }

    fn labelled(&self, word: &str, text: &str) -> String {
        format!(
            "{}{text}\n",
            self.paint.ink(Ink::Doubt, &format!("{word:<10}"))
        )
    }

    /// Whether a step that ended is reported.
    fn is_told(&self, id: StepId, verdict: Verdict, failed: bool) -> bool {
        // There is one for each source, and what comes of them is reported by the steps that they
        // decide.
        let only_looks = matches!(
            self.graph.step(id).native.as_deref(),
            Some(Native::Extract { .. })
        );
        failed
            || !self.told.only_trouble
                && (self.told.unchanged || (verdict != Verdict::Current && !only_looks))
    }

    fn step_done(&self, id: StepId, event: &Event) -> Option<String> {
        let Event::Done {
            verdict,
            reason,
            micros,
            failure,
            machine,
            ..
        } = event
        else {
            return None;
        };
        if !self.is_told(id, *verdict, failure.is_some()) {
            return None;
        }
        let step = self.graph.step(id);
        let target = &*self.titles.of_step(self.graph, id);
        // Steps that did not run are reported together, so that what ran and what failed stays in
        // sight.
        let is_fact_of_its_own = self.paint.plain || self.told.unchanged || self.told.commands;
        if matches!(verdict, Verdict::Blocked | Verdict::Unstarted)
            || *verdict == Verdict::Reused && !is_fact_of_its_own
        {
            self.news.keep_back(id, *verdict, reason.to_string());
            self.keep_silent(id, event);
            return None;
        }
        let why = why_done(step, *verdict, reason, failure.as_ref(), machine.as_deref());
        let took = match verdict {
            Verdict::Ran | Verdict::Failed if *micros > 0 => duration(*micros),
            _ => String::new(),
        };
        let paint = self.paint.resized();
        let mut text = match failure {
            Some(_) if paint.plain => {
                let message = format!("{target}: {}: {why}", step.say);
                plain::error_at(&self.graph.owner(id).place.to_string(), &message) + "\n"
            }
            _ => self.columns.lines(
                paint,
                StepRow {
                    word: (verdict.word(), ink_of(*verdict)),
                    target,
                    say: &step.say,
                    took: &took,
                    why: &why,
                    needs_reason: self.told.unchanged || failure.is_some(),
                },
            ),
        };
        if self.told.commands && *verdict == Verdict::Ran {
            for (i, command) in nubrik_graph::shown_command(step).iter().enumerate() {
                let label = if i > 0 { "then" } else { "command" };
                let label = paint.ink(Ink::Calm, &format!("{label:<8}"));
                text.push_str(&format!("  {label}  {command}\n"));
            }
        }
        text.push_str(&self.details(id, event));
        Some(text)
    }

    /// What is below the line of a step that ended: why it failed, and what it printed.
    fn details(&self, id: StepId, event: &Event) -> String {
        let mut text = String::new();
        let Event::Done {
            verdict,
            printed,
            failure,
            ..
        } = event
        else {
            return text;
        };
        let step = self.graph.step(id);
        if let Some(failure) = failure.as_ref().filter(|f| self.news.is_news(f)) {
            let same = self.news.printed_before(id, printed);
            let shown = if same.is_some() {
                &[]
            } else {
                printed.as_slice()
            };
            text.push_str(&failure::render(
                self.graph, id, failure, shown, &self.root, self.paint,
            ));
            if let Some(other) = same {
                let label = self.paint.ink(Ink::Calm, &format!("{:<8}", "printed"));
                text.push_str(&format!(
                    "  {label}  the same as {}\n",
                    self.titles.of_step(self.graph, other)
                ));
            }
        } else if !printed.is_empty() && *verdict == Verdict::Ran && step.check.is_none() {
            let printed = String::from_utf8_lossy(printed);
            let whole = nubrik_confine::file_with_all(&printed).map_or_else(
                || {
                    format!(
                        "all of it: nubrik show {} --printed",
                        self.graph.owner(id).address
                    )
                },
                |file| format!("all of it: {file}"),
            );
            let printed = harmless(printed.trim_end(), self.paint.colours);
            text.push_str(&super::excerpts::render_printed(
                &printed, self.paint, &whole,
            ));
        }
        self.keep_silent(id, event);
        text
    }

    /// Keeps back that a reused step had printed something.
    fn keep_silent(&self, id: StepId, event: &Event) {
        let Event::Done {
            verdict: Verdict::Reused,
            printed,
            ..
        } = event
        else {
            return;
        };
        if !printed.is_empty() && self.graph.step(id).check.is_none() {
            self.news.keep_silent(id);
        }
    }

    /// Says what a step was refused that ended well.
    fn survived(&self, id: StepId, refused: &[Refusal]) -> String {
        let (target, say) = (
            &*self.titles.of_step(self.graph, id),
            &*self.graph.step(id).say,
        );
        let row = StepRow {
            word: ("refused", Ink::Doubt),
            target,
            say,
            took: "",
            why: "",
            needs_reason: true,
        };
        let below = failure::render_survived(self.graph, id, refused, self.paint);
        self.columns.lines(self.paint.resized(), row) + &below
    }

    /// What was kept back: which steps were not begun, and why.
    pub fn at_the_end(&self) -> String {
        let (silent, together) = self.news.kept_back();
        let mut text = String::new();
        if self.told.only_trouble || self.told.only_at_work {
            return text;
        }
        if let Some((count, id)) = silent {
            let steps = if count == 1 {
                "a reused step"
            } else {
                &format!("{count} reused steps")
            };
            let address = &self.graph.owner(id).address;
            let said = format!("{steps} had printed something: nubrik show {address} --printed");
            text.push_str(&self.labelled("notice", &said));
        }
        let (reused, not_begun): (Vec<_>, Vec<_>) = together
            .into_iter()
            .partition(|((word, _), _)| *word == Verdict::Reused.word());
        for ((word, why), steps) in reused.into_iter().chain(not_begun) {
            text.push_str(&self.together(word, &why, &steps));
        }
        text
    }

    /// Some steps that did not run, for the same reason.
    fn together(&self, word: &'static str, why: &str, steps: &[StepId]) -> String {
        let is_reused = word == Verdict::Reused.word();
        let ink = match word {
            _ if is_reused => ink_of(Verdict::Reused),
            _ if word == Verdict::Blocked.word() => Ink::Doubt,
            _ => Ink::Faint,
        };
        if steps.len() <= if is_reused { REUSED_LINES } else { 1 } {
            let row = |step: &StepId| {
                let (target, say) = (
                    &*self.titles.of_step(self.graph, *step),
                    &*self.graph.step(*step).say,
                );
                let row = StepRow {
                    word: (word, ink),
                    target,
                    say,
                    took: "",
                    why,
                    needs_reason: !is_reused,
                };
                self.columns.lines(self.paint.resized(), row)
            };
            return steps.iter().map(row).collect();
        }
        let mut seen = HashSet::new();
        let targets = steps.iter().map(|step| &*self.graph.owner(*step).address);
        let targets: Vec<&str> = targets.filter(|address| seen.insert(*address)).collect();
        let named = targets[..targets.len().min(NAMED_TARGETS)].join(", ");
        let more = match targets.len().saturating_sub(NAMED_TARGETS) {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        let text = format!("{} steps of {named}{more}", steps.len());
        let paint = self.paint.resized();
        let room = paint
            .width
            .map_or(usize::MAX, |w| w.saturating_sub(STATE + 1));
        let word = paint.ink(ink, &format!("{word:<STATE$}"));
        let text = wrapped(&text, room).join(&format!("\n{:STATE$}", ""));
        format!("{word}{text}\n{}", below_state(paint, why))
    }
}

/// Why a step ended as it did, and where.
fn why_done(
    step: &Step,
    verdict: Verdict,
    reason: &Reason,
    failure: Option<&Failure>,
    machine: Option<&str>,
) -> String {
    let why = match failure {
        Some(failure) => failure.to_string(),
        None if step.check.is_some() && verdict == Verdict::Ran => format!("passed; {reason}"),
        None => reason.to_string(),
    };
    match machine {
        Some(machine) => format!("on {machine}: {why}"),
        None => why,
    }
}
