//! What a build shows while it goes: a live view on a terminal, a line a step elsewhere, JSON for
//! programs. Each of the three is a listener of its own; what steps did is put into words in one
//! place.

use std::path::PathBuf;

use nubrik_answers::PastTimes;
use nubrik_engine::{Event, Listener};
use nubrik_graph::Graph;

use super::console::{Console, OutputStream};
use super::json_lines::JsonLines;
use super::lines::Lines;
use super::live::LiveView;
pub use super::live::TrafficMeter;
use super::onlookers::Onlookers;
use super::telling::{Telling, Told};

/// Hears a build's events and shows them in the way that the console wants.
pub struct Screen<'g> {
    shown: ScreenKind<'g>,
    onlookers: Option<Onlookers<'g>>,
}

/// The ways in which a build is shown.
enum ScreenKind<'g> {
    Lines(Lines<'g>),
    Live(Box<LiveView<'g>>),
    Json(JsonLines<'g>),
}

impl<'g> Screen<'g> {
    /// The screen of a workspace at `root`.
    pub fn new(
        console: Console,
        stream: OutputStream,
        graph: &'g Graph,
        root: PathBuf,
        told: Told,
        (past, moving): (impl FnOnce() -> PastTimes, Option<TrafficMeter>),
    ) -> Self {
        let onlookers = Onlookers::of(&root, graph);
        if console.is_json() {
            return Screen {
                shown: ScreenKind::Json(JsonLines::new(graph, console, root, told)),
                onlookers,
            };
        }
        let paint = console.paint(stream);
        let telling = Telling::new(graph, root, paint, told);
        let shown = match paint.width {
            Some(_) if !told.only_trouble => ScreenKind::Live(Box::new(LiveView::new(
                telling,
                console,
                stream,
                past(),
                moving,
            ))),
            _ => ScreenKind::Lines(Lines::new(telling, console, stream)),
        };
        Screen { shown, onlookers }
    }

    /// Keeps what moves moving until `work` is done, and then says what was kept back.
    pub fn during<T>(&self, work: impl FnOnce() -> T) -> T {
        match &self.shown {
            ScreenKind::Lines(lines) => {
                let result = work();
                lines.end();
                result
            }
            ScreenKind::Live(live) => live.during(work),
            ScreenKind::Json(_) => work(),
        }
    }
}

impl Listener for Screen<'_> {
    fn hear(&self, event: &Event) {
        if let Some(onlookers) = &self.onlookers {
            onlookers.hear(event);
        }
        match &self.shown {
            ScreenKind::Lines(lines) => lines.hear(event),
            ScreenKind::Live(live) => live.hear(event),
            ScreenKind::Json(json) => json.hear(event),
        }
    }
}
