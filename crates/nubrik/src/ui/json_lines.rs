//! A build's events as JSON, one value a line.

use std::path::PathBuf;

use nubrik_engine::{Event, Listener, Refusal, Verdict, survived};
use nubrik_graph::{Graph, StepId};

use super::console::Console;
use super::telling::Told;
use super::{failure, json};

/// Shows a build to programs.
pub struct JsonLines<'g> {
    graph: &'g Graph,
    console: Console,
    root: PathBuf,
    told: Told,
}

impl<'g> JsonLines<'g> {
    pub fn new(graph: &'g Graph, console: Console, root: PathBuf, told: Told) -> JsonLines<'g> {
        JsonLines { graph, console, root, told }
    }

    fn step_done(&self, id: StepId, event: &Event) {
        let Event::Done { verdict, reason, micros, printed, failure, machine, .. } = event else { return };
        let is_told = match verdict {
            Verdict::Current => self.told.unchanged,
            _ => !self.told.only_trouble || failure.is_some(),
        };
        if !is_told {
            return;
        }
        let step = self.graph.step(id);
        let text = String::from_utf8_lossy(printed);
        let mends = failure.as_ref().map(|f| f.readings(self.graph, id, printed)).unwrap_or_default();
        self.console.event(&json::StepEvent {
            event: "step",
            state: verdict.word(),
            target: &self.graph.target(step.target).address,
            variant: &step.variant,
            say: &step.say,
            reason: reason.to_string(),
            reason_code: reason.code(),
            seconds: nubrik_answers::seconds(*micros),
            machine: machine.as_deref(),
            command: (failure.is_some() || (self.told.commands && *verdict == Verdict::Ran))
                .then(|| nubrik_graph::shown_command(step)),
            printed: (!text.is_empty()).then(|| text.into_owned()),
            failure: failure.as_ref().map(ToString::to_string),
            wrote: failure
                .as_ref()
                .map(|f| failure::wrote(self.graph, id, f, &self.root))
                .unwrap_or_default(),
            mends: mends.into_iter().filter(|m| m.0 == "try").map(|m| m.1).collect(),
        });
    }

    fn survived(&self, id: StepId, refused: &[Refusal]) {
        let lines = survived(self.graph, id, refused);
        let of = |wanted: &str| -> Vec<String> {
            lines.iter().filter(|(label, _)| *label == wanted).map(|(_, text)| text.clone()).collect()
        };
        let step = self.graph.step(id);
        self.console.event(&json::RefusedEvent {
            event: "refused",
            target: &self.graph.target(step.target).address,
            variant: &step.variant,
            say: &step.say,
            refused: of("refused"),
            reading: of("reading").concat(),
            mends: of("try"),
        });
    }
}

impl Listener for JsonLines<'_> {
    fn hear(&self, event: &Event) {
        match event {
            Event::Began { order } => {
                let (version, steps) = (json::VERSION, order.len());
                self.console.event(&json::BeganEvent { event: "began", version, steps });
            }
            Event::WillRun { .. } | Event::Elsewhere { .. } | Event::Unpacks { .. } => {}
            Event::Done { step, .. } => self.step_done(*step, event),
            Event::Survived { step, refused } => self.survived(*step, refused),
            Event::Notice(notice) => {
                self.console.event(&json::NoticeEvent { event: "notice", text: notice.to_string() });
            }
        }
    }
}
