//! A build's events as JSON, one value a line.

use std::path::PathBuf;

use nubrik_answers::{BeganEvent, NoticeEvent, RefusedEvent, StepEvent};
use nubrik_engine::{Event, Listener, Verdict};
use nubrik_graph::Graph;

use super::console::Console;
use super::telling::Told;

/// Shows a build to programs.
pub struct JsonLines<'g> {
    graph: &'g Graph,
    console: Console,
    root: PathBuf,
    told: Told,
}

impl<'g> JsonLines<'g> {
    pub fn new(graph: &'g Graph, console: Console, root: PathBuf, told: Told) -> JsonLines<'g> {
        JsonLines {
            graph,
            console,
            root,
            told,
        }
    }
}

impl Listener for JsonLines<'_> {
    fn hear(&self, event: &Event) {
        match event {
            Event::Began { order } => self.console.event(&BeganEvent::of(order.len())),
            Event::WillRun { .. } | Event::Elsewhere { .. } | Event::Unpacks { .. } => {}
            Event::Done {
                verdict, failure, ..
            } => {
                let is_told = match verdict {
                    Verdict::Current => self.told.unchanged,
                    _ => !self.told.only_trouble || failure.is_some(),
                };
                if is_told {
                    let told = StepEvent::of(self.graph, event, &self.root, self.told.commands);
                    told.iter().for_each(|told| self.console.event(told));
                }
            }
            Event::Survived { step, refused } => {
                self.console
                    .event(&RefusedEvent::of(self.graph, *step, refused));
            }
            Event::Notice(notice) => self.console.event(&NoticeEvent::of(notice.to_string())),
        }
    }
}
