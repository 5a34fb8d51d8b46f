//! The live view: steps in flight with their times, a gauge, what waits. Drawn below the lines that
//! stay, and wiped when the build ends.

use std::collections::HashSet;
use std::sync::Arc;
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::time::{Duration, Instant};

use nubrik_answers::{PastTimes, TimeForecast};
use nubrik_engine::{Event, Listener, Verdict};
use nubrik_graph::{Graph, StepId};
use nubrik_wording::{counted, duration, size};
use parking_lot::{Mutex, MutexGuard};

use super::console::{Console, OutputStream};
use super::paint::{Ink, Paint};
use super::step_line::{Columns, StepRow, Titles};
use super::telling::Telling;
use super::text::{cut, harmless, width};
use super::visible::visible;
use crate::interrupt::DrawnView;

/// How often the view is drawn again.
const BEAT: Duration = Duration::from_millis(80);

/// How many bytes came from a shared cache so far, and how many went there.
pub type TrafficMeter = Box<dyn Fn() -> (u64, u64) + Send>;

/// Shows a build on a terminal: lines that stay, and below them what is at work.
pub struct LiveView<'g> {
    telling: Telling<'g>,
    live: Mutex<Live>,
    console: Console,
    stream: OutputStream,
}

impl<'g> LiveView<'g> {
    pub fn new(
        telling: Telling<'g>,
        console: Console,
        stream: OutputStream,
        past: PastTimes,
        moving: Option<TrafficMeter>,
    ) -> LiveView<'g> {
        let live = Live {
            past: Some(past),
            moving,
            ..Live::new(telling.paint, telling.graph)
        };
        let live = Mutex::new(live);
        LiveView {
            telling,
            live,
            console,
            stream,
        }
    }

    fn live(&self) -> MutexGuard<'_, Live> {
        let mut live = self.live.lock();
        if let Some(width) = self.telling.paint.resized().width {
            live.resized(width);
        }
        live
    }

    /// Lines that stay, above what moves.
    fn lines(&self, text: &str) {
        let drawn = self.live().above(self.telling.graph, &visible(text));
        self.console.raw(self.stream, &drawn);
    }

    /// Keeps the view moving until `work` is done.
    pub fn during<T>(&self, work: impl FnOnce() -> T) -> T {
        let (ended, ends) = channel::<()>();
        std::thread::scope(|scope| {
            scope.spawn(move || {
                let view = DrawnView::begin();
                while ends.recv_timeout(BEAT) == Err(RecvTimeoutError::Timeout) {
                    if view.is_suspending() {
                        // The shell writes below what is there: no old view stays above that.
                        let mut live = self.live();
                        self.console.raw(self.stream, &live.erase());
                        view.suspend();
                    }
                    let drawn = self.live().redraw(self.telling.graph);
                    self.console.raw(self.stream, &drawn);
                }
            });
            let result = work();
            drop(ended);
            self.lines(&self.telling.at_the_end());
            let last = {
                let mut live = self.live();
                live.erase() + &live.farewell()
            };
            self.console.raw(self.stream, &last);
            result
        })
    }
}

impl Listener for LiveView<'_> {
    fn hear(&self, event: &Event) {
        match event {
            Event::Began { order } => self.live().began(order.len()),
            Event::WillRun { step, .. } => self.live().running(*step),
            Event::Elsewhere { step, machine } => self.live().elsewhere(*step, machine),
            Event::Unpacks { step, is_over } => self.live().unpacks(*step, !is_over),
            Event::Done { step, verdict, .. } => self.live().done(*step, *verdict),
            Event::Survived { .. } | Event::Notice(_) => {}
        }
        if let Some(text) = self.telling.of(event) {
            self.lines(&text);
        }
    }
}

const GAUGE: usize = 24;
const SHOWN_STEPS: usize = 8;

/// A step in flight.
struct StepAtWork {
    step: StepId,
    since: Instant,
    /// The other machine that runs it, if one does.
    machine: Option<Arc<str>>,
    /// Whether the image that it runs in is being put together.
    unpacks: bool,
}

impl StepAtWork {
    /// Where it is, and what it waits for there.
    fn whereabouts(&self) -> String {
        match (&self.machine, self.unpacks) {
            (Some(machine), true) => format!("on {machine}, unpacking its image"),
            (Some(machine), false) => format!("on {machine}"),
            (None, true) => "unpacking its image".to_owned(),
            (None, false) => String::new(),
        }
    }
}

/// What is in flight, and how many lines of the terminal show it.
pub struct Live {
    paint: Paint,
    columns: Columns,
    titles: Titles,
    total: usize,
    done: usize,
    failed: usize,
    running: Vec<StepAtWork>,
    /// How wide each line is that is drawn.
    drawn: Vec<usize>,
    began: Instant,
    /// What steps took before, until it is looked ahead for the first time.
    past: Option<PastTimes>,
    forecast: Option<TimeForecast>,
    /// What moves between a shared cache and this machine, where there is one.
    moving: Option<TrafficMeter>,
    /// Steps that are done with.
    ended: HashSet<StepId>,
    /// When it was looked ahead, and what was seen.
    foreseen: (Instant, Option<Duration>),
    /// What the title of the window says now, if it says anything of us.
    title: Option<String>,
    /// Whether the title and the bell may be used.
    may_call: bool,
}

/// A build that took so long rings the bell when it is over.
const LONG: Duration = Duration::from_secs(20);

/// The title of the window is left alone before this.
const TITLE_AFTER: Duration = Duration::from_secs(2);

/// It is looked ahead again after so long, and for the first time.
const AHEAD: Duration = Duration::from_secs(1);

/// Fewer bytes that moved are not worth telling.
const WORTH_SAYING: u64 = 64 << 10;

/// Less than this that is left is not worth telling.
const WORTH_TELLING: Duration = Duration::from_secs(3);

impl Live {
    pub fn new(paint: Paint, graph: &Graph) -> Live {
        let titles = Titles::of(graph);
        let columns = titles.columns(graph);
        Live {
            paint,
            columns,
            titles,
            total: 0,
            done: 0,
            failed: 0,
            running: Vec::new(),
            drawn: Vec::new(),
            began: Instant::now(),
            past: None,
            forecast: None,
            moving: None,
            ended: HashSet::new(),
            foreseen: (Instant::now(), None),
            title: None,
            may_call: std::env::var_os("NUBRIK_BELL").is_none_or(|value| value != "off"),
        }
    }

    /// The title of the window says how far it is, for who looks at another one.
    fn told_title(&mut self) -> String {
        if !self.may_call || self.total == 0 || self.began.elapsed() < TITLE_AFTER {
            return String::new();
        }
        let failed = if self.failed > 0 {
            format!(", {} failed", self.failed)
        } else {
            String::new()
        };
        let title = format!("nubrik: {} of {}{failed}", self.done, self.total);
        if self.title.as_ref() == Some(&title) {
            return String::new();
        }
        // The title that was there is kept by the terminal, where it can do that.
        let keep = if self.title.is_none() {
            "\x1b[22;2t"
        } else {
            ""
        };
        let told = format!("{keep}\x1b]2;{title}\x07");
        self.title = Some(title);
        told
    }

    /// What the terminal gets when it is over: its title as it was, and after a long build the
    /// bell.
    pub fn farewell(&mut self) -> String {
        let title = if self.title.take().is_some() {
            "\x1b[23;2t"
        } else {
            ""
        };
        let bell = if self.may_call && self.began.elapsed() > LONG {
            "\x07"
        } else {
            ""
        };
        format!("{title}{bell}")
    }

    /// What is left, looked at once a second.
    fn left(&mut self, graph: &Graph) -> Option<Duration> {
        if self.foreseen.0.elapsed() > AHEAD {
            if let Some(past) = self.past.take() {
                self.forecast = TimeForecast::of(graph, past);
            }
            let running: Vec<(StepId, Duration)> = self
                .running
                .iter()
                .map(|at_work| (at_work.step, at_work.since.elapsed()))
                .collect();
            let ended = &self.ended;
            let forecast = self.forecast.as_ref().filter(|_| !running.is_empty());
            let left = forecast
                .and_then(|forecast| forecast.left(&running, &|step| ended.contains(&step)));
            self.foreseen = (Instant::now(), left);
        }
        let since = self.foreseen.0.elapsed();
        self.foreseen
            .1
            .map(|left| left.saturating_sub(since))
            .filter(|left| *left >= WORTH_TELLING)
    }

    pub fn began(&mut self, steps: usize) {
        self.total = steps;
    }

    pub fn running(&mut self, step: StepId) {
        // One that another machine did not end begins again, here.
        self.running.retain(|at_work| at_work.step != step);
        self.running.push(StepAtWork {
            step,
            since: Instant::now(),
            machine: None,
            unpacks: false,
        });
    }

    /// Another machine began a step.
    pub fn elsewhere(&mut self, step: StepId, machine: &Arc<str>) {
        let at_work = self
            .running
            .iter_mut()
            .filter(|at_work| at_work.step == step);
        at_work.for_each(|at_work| at_work.machine = Some(machine.clone()));
    }

    /// The image of a step is being put together, or that is over.
    pub fn unpacks(&mut self, step: StepId, is_now: bool) {
        let at_work = self
            .running
            .iter_mut()
            .filter(|at_work| at_work.step == step);
        at_work.for_each(|at_work| at_work.unpacks = is_now);
    }

    pub fn done(&mut self, step: StepId, verdict: Verdict) {
        self.done += 1;
        self.failed += usize::from(verdict == Verdict::Failed);
        self.running.retain(|at_work| at_work.step != step);
        self.ended.insert(step);
    }

    /// Takes note of how wide the terminal is now.
    pub fn resized(&mut self, width: usize) {
        self.paint.width = self.paint.width.map(|_| width);
    }

    /// Wipes the view.
    pub fn erase(&mut self) -> String {
        // A terminal that became narrower has broken the lines that are there.
        let columns = self.paint.width.unwrap_or(usize::MAX).max(1);
        let rows: usize = self
            .drawn
            .drain(..)
            .map(|width| width.div_ceil(columns).max(1))
            .sum();
        if rows == 0 {
            String::new()
        } else {
            wiping(rows)
        }
    }

    /// Wipes the view, prints lines that stay, and draws it again below them.
    pub fn above(&mut self, graph: &Graph, text: &str) -> String {
        let erased = self.erase();
        // The first moments stay quiet: a short build needs no view.
        let view = if self.began.elapsed().as_millis() > 150 {
            self.draw(graph)
        } else {
            String::new()
        };
        format!("{erased}{text}{view}")
    }

    /// Wipes and draws the view.
    pub fn redraw(&mut self, graph: &Graph) -> String {
        self.told_title() + &self.above(graph, "")
    }

    fn draw(&mut self, graph: &Graph) -> String {
        if self.total == 0 {
            return String::new();
        }
        let paint = self.paint;
        let mut lines = vec![self.gauge(graph, paint.width.unwrap_or(80))];
        for at_work in self.running.iter().take(SHOWN_STEPS) {
            let StepAtWork { step, since, .. } = at_work;
            let took = duration(since.elapsed().as_micros() as u64);
            let (target, say) = (&*self.titles.of_step(graph, *step), &*graph.step(*step).say);
            let whereabouts = at_work.whereabouts();
            let row = StepRow {
                word: ("", Ink::Faint),
                target,
                say,
                took: &took,
                why: &whereabouts,
                needs_reason: false,
            };
            lines.push(self.columns.line(paint, row));
        }
        if self.running.len() > SHOWN_STEPS {
            lines.push(format!(
                "{:10}and {} more",
                "",
                self.running.len() - SHOWN_STEPS
            ));
        }
        self.drawn = lines
            .iter()
            .map(|line| width(&without_colours(line)))
            .collect();
        lines.join("\n") + "\n"
    }

    fn gauge(&mut self, graph: &Graph, columns: usize) -> String {
        let paint = self.paint;
        // In a narrow terminal the facts come first.
        let cells = if columns < 80 { columns / 7 } else { GAUGE };
        let filled = cells * self.done / self.total.max(1);
        let (full, empty) = (paint.glyph("▰", "="), paint.glyph("▱", "."));
        let bar = paint.ink(
            if self.failed > 0 {
                Ink::Wrong
            } else {
                Ink::Busy
            },
            &full.repeat(filled),
        ) + &paint.ink(Ink::Faint, &empty.repeat(cells - filled));
        let waiting = self.total.saturating_sub(self.done + self.running.len());
        let mut facts = format!("{} of {}", self.done, counted(self.total, "step"));
        if waiting > 0 {
            facts.push_str(&format!(", {waiting} wait"));
        }
        if self.running.is_empty() && waiting > 0 {
            facts.push_str(", looking at files and tools");
        }
        let elsewhere = self
            .running
            .iter()
            .filter(|at_work| at_work.machine.is_some())
            .count();
        if elsewhere > 0 {
            facts.push_str(&format!(", {elsewhere} on workers"));
        }
        if self.failed > 0 {
            facts.push_str(&format!(", {} failed", self.failed));
        }
        facts.push_str(&format!(
            ", {}",
            duration(self.began.elapsed().as_micros() as u64)
        ));
        if let Some(left) = self.left(graph) {
            facts.push_str(&format!(", about {} left", rough(left)));
        }
        let (down, up) = self.moving.as_ref().map_or((0, 0), |moving| moving());
        for (bytes, word) in [(down, "downloaded"), (up, "uploaded")] {
            if bytes >= WORTH_SAYING {
                facts.push_str(&format!(", {} {word}", size(bytes)));
            }
        }
        let room = columns.saturating_sub(10 + cells + 2 + 1);
        format!(
            "{}{bar}  {}",
            paint.ink(Ink::Strong, "at work   "),
            cut(&facts, room, paint.glyph("…", "..."))
        )
    }
}

/// What wipes so many rows above the cursor and goes there. Row by row: a terminal that has to
/// clear all from its first row keeps what was there with what scrolled out, each time.
fn wiping(rows: usize) -> String {
    // The terminal itself may have written in the last row: what was typed.
    format!("\r\x1b[2K{}", "\x1b[1A\x1b[2K".repeat(rows))
}

/// A time of which only about so much is known.
fn rough(left: Duration) -> String {
    match left.as_secs() {
        seconds @ 0..60 => format!("{seconds} s"),
        seconds @ 60..600 => format!("{} min {} s", seconds / 60, seconds % 60 / 10 * 10),
        seconds @ 600..3_600 => format!("{} min", seconds / 60),
        seconds => format!("{} h {} min", seconds / 3_600, seconds / 60 % 60),
    }
}

/// A line without what sets colours, which takes no room.
fn without_colours(line: &str) -> String {
    harmless(line, false)
}

#[cfg(test)]
mod tests {
    use super::*;
    use nubrik_graph::{Step, Tables, Target};
    use nubrik_source::WsPath;

    fn graph() -> Graph {
        let mut tables = Tables::default();
        tables.targets.push(Target::plain("tide/harmonics"));
        for say in [
            "compile src/fit.c",
            "compile src/readings.c",
            "archive harmonics",
        ] {
            tables.steps.push(Box::new(Step {
                say: say.into(),
                ..Step::empty(WsPath::root())
            }));
        }
        tables.finish().unwrap()
    }

    fn live(graph: &Graph, width: usize) -> Live {
        let paint = Paint {
            colours: false,
            glyphs: true,
            width: Some(width),
            plain: false,
        };
        let mut live = Live::new(paint, graph);
        live.began -= Duration::from_secs(2);
        live.began(3);
        live.may_call = false;
        live
    }

    #[test]
    fn shows_what_is_at_work_and_what_waits() {
        let graph = graph();
        let mut live = live(&graph, 100);
        live.running(StepId(0));
        live.running(StepId(1));
        live.done(StepId(0), Verdict::Ran);
        let view = live.redraw(&graph);
        let lines: Vec<&str> = view.lines().collect();
        assert!(lines[0].starts_with("at work   ▰▰▰▰▰▰▰▰▱"), "{view}");
        assert!(lines[0].contains("1 of 3 steps, 1 wait, 2.00s"), "{view}");
        assert!(
            lines[1].starts_with("          tide/harmonics   compile src/readings.c"),
            "{view}"
        );
        assert_eq!(lines.len(), 2);
        // It is wiped by going up as many lines as it has.
        assert_eq!(live.erase(), "\r\x1b[2K\x1b[1A\x1b[2K\x1b[1A\x1b[2K");
        assert_eq!(live.erase(), "");
    }

    #[test]
    fn the_title_says_how_far_it_is_and_is_given_back() {
        let graph = graph();
        let mut live = Live {
            may_call: true,
            ..live(&graph, 100)
        };
        live.began -= Duration::from_secs(30);
        assert!(
            live.redraw(&graph)
                .starts_with("\x1b[22;2t\x1b]2;nubrik: 0 of 3\x07")
        );
        assert!(!live.redraw(&graph).contains("\x1b]2;"));
        live.done(StepId(0), Verdict::Failed);
        assert!(
            live.redraw(&graph)
                .contains("\x1b]2;nubrik: 1 of 3, 1 failed\x07")
        );
        assert_eq!(live.farewell(), "\x1b[23;2t\x07");
        let mut quiet = Live {
            may_call: false,
            ..live
        };
        assert!(!quiet.redraw(&graph).contains("\x1b]2;") && quiet.farewell().is_empty());
    }

    #[test]
    fn shows_where_a_step_runs_and_what_moves() {
        let graph = graph();
        let mut live = Live {
            moving: Some(Box::new(|| (3 << 20, 7))),
            ..live(&graph, 100)
        };
        live.running(StepId(0));
        live.running(StepId(1));
        let view = live.redraw(&graph);
        assert!(
            view.contains(", 3.0 MiB downloaded") && !view.contains("uploaded"),
            "{view}"
        );
        live.elsewhere(StepId(1), &"mill".into());
        let view = live.redraw(&graph);
        assert!(
            view.contains("0 of 3 steps, 1 wait, 1 on workers"),
            "{view}"
        );
        assert!(view.lines().nth(2).unwrap().ends_with("on mill"), "{view}");
        live.unpacks(StepId(1), true);
        assert!(
            live.redraw(&graph)
                .lines()
                .nth(2)
                .unwrap()
                .ends_with("on mill, unpacking its image")
        );
        // It came back, and runs here.
        live.running(StepId(1));
        assert!(!live.redraw(&graph).contains("mill"));
        live.unpacks(StepId(1), true);
        assert!(live.redraw(&graph).contains("unpacking its image"));
        live.unpacks(StepId(1), false);
        assert!(!live.redraw(&graph).contains("unpacking"));
        live.done(StepId(1), Verdict::Ran);
        assert_eq!(live.redraw(&graph).lines().count(), 2);
    }

    #[test]
    fn lines_that_stay_come_above_it() {
        let graph = graph();
        let mut live = live(&graph, 100);
        live.running(StepId(2));
        live.redraw(&graph);
        let drawn = live.above(&graph, "ran       tide/harmonics\n");
        assert!(
            drawn.starts_with(&(wiping(2) + "ran       tide/harmonics\nat work")),
            "{drawn:?}"
        );
    }

    #[test]
    fn a_terminal_that_became_narrower_is_wiped_whole() {
        let graph = graph();
        let mut live = live(&graph, 100);
        live.paint.colours = true;
        live.running(StepId(0));
        let drawn = live.redraw(&graph);
        let widths: Vec<usize> = drawn
            .lines()
            .map(|line| width(&without_colours(line)))
            .collect();
        live.resized(30);
        let rows: usize = widths.iter().map(|width| width.div_ceil(30)).sum();
        assert!(rows > 2, "{drawn}");
        assert_eq!(live.erase(), wiping(rows));
        assert!(
            live.redraw(&graph)
                .lines()
                .all(|line| width(&without_colours(line)) <= 30)
        );
    }

    #[test]
    fn a_narrow_terminal_is_never_overrun() {
        let graph = graph();
        for width in [20, 33, 47, 60] {
            let mut live = live(&graph, width);
            live.running(StepId(0));
            live.done(StepId(1), Verdict::Failed);
            for line in live.redraw(&graph).lines() {
                assert!(super::super::text::width(line) <= width, "{width}: {line}");
            }
        }
    }
}
