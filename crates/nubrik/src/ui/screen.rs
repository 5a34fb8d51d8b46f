//! What a build shows while it goes: a live view on a terminal, a line a step elsewhere, JSON for
//! programs. All three hear the same events.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::sync::{Mutex, MutexGuard, PoisonError};

use nubrik_engine::{Event, Listener, Notice, Refusal, Verdict};
use nubrik_graph::{Graph, StepId};

use super::live::Live;
use super::paint::{Ink, Paint};
use super::text::{cut, harmless, padded, time, width};
use super::{failure, json, out};

/// Where lines go.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Stream {
    Output,
    Error,
}

/// Which face a build shows.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Shown {
    Lines,
    Live,
    Json,
}

/// Hears a build's events and shows them.
pub struct Screen<'g> {
    graph: &'g Graph,
    root: PathBuf,
    paint: Paint,
    shown: Shown,
    stream: Stream,
    columns: Columns,
    live: Mutex<Live>,
    /// Whether steps with nothing to do are told, too.
    explains: bool,
    /// Tools that were said to be missing: the mend is said once.
    missing_tools: Mutex<BTreeSet<String>>,
    /// Steps that were not begun, by their verdict and why: told together, so that what failed stays in
    /// sight.
    not_begun: Mutex<BTreeMap<(&'static str, String), Vec<StepId>>>,
    /// How many steps were reused that printed something when they ran, and one of them.
    silent: Mutex<(usize, Option<StepId>)>,
    /// What failures printed, and of which step: the same is not shown twice.
    printed: Mutex<BTreeMap<Vec<u8>, StepId>>,
}

/// How many targets of steps that were not begun are named.
const NAMED_TARGETS: usize = 4;

/// Widths of the columns of step lines.
#[derive(Clone, Copy)]
pub struct Columns {
    target: usize,
    say: usize,
}

impl Columns {
    /// Widths that fit the steps of a graph.
    pub fn of(graph: &Graph) -> Columns {
        let widest = |texts: &mut dyn Iterator<Item = &str>, limit: usize| {
            texts.map(width).max().unwrap_or(0).min(limit)
        };
        let steps = || graph.steps.iter();
        Columns {
            target: graph
                .steps
                .iter()
                .map(|s| {
                    let variant = if s.variant.is_empty() { 0 } else { width(&s.variant) + 3 };
                    width(&graph.target(s.target).address) + variant
                })
                .max()
                .unwrap_or(0)
                .min(40),
            say: widest(&mut steps().map(|s| &*s.say), 36),
        }
    }
}

impl Columns {
    /// The columns on a terminal of some width: what a step does gives way before why it ran.
    fn within(self, width: usize) -> Columns {
        let say = self.say.min(width.saturating_sub(self.target + 40).max(16));
        // Verdict, gaps and time, then what is left for target and text.
        let room = width.saturating_sub(if width < 48 { 14 } else { 26 });
        let target = self.target.min(room.saturating_sub(say).max(room / 2));
        Columns { target, say: say.min(room - target) }
    }
}

/// The colour of a verdict.
pub fn ink_of(verdict: Verdict) -> Ink {
    match verdict {
        Verdict::Ran => Ink::Busy,
        Verdict::Current => Ink::Calm,
        Verdict::Reused => Ink::Found,
        Verdict::Failed => Ink::Wrong,
        Verdict::Blocked => Ink::Doubt,
        Verdict::Left => Ink::Faint,
    }
}

/// A line about a step: state, target, what it does, time, why. Cut to the terminal's width.
pub fn step_line(
    paint: Paint,
    columns: Columns,
    word: (&str, Ink),
    target: &str,
    say: &str,
    took: &str,
    why: &str,
) -> String {
    // Widths are those of what is shown.
    let (target, say, why) = (&*out::visible(target), &*out::visible(say), &*out::visible(why));
    let more = paint.glyph("…", "...");
    let fitted = |text: &str, columns: usize| match paint.width {
        Some(_) => padded(&cut(text, columns, more), columns),
        None => padded(text, columns),
    };
    let columns = paint.width.map_or(columns, |w| columns.within(w));
    let target = fitted(target, columns.target);
    let say = fitted(say, columns.say);
    let used = 10 + width(&target) + 3 + width(&say) + 2 + 8 + 2;
    // A few letters of a reason say nothing.
    let why = paint.width.map_or(why.to_owned(), |w| match w.saturating_sub(used + 1) {
        room if room < 8 => String::new(),
        room => cut(why, room, more),
    });
    // The narrowest ones have no room for times.
    let took = if paint.width.is_some_and(|w| w < used) { String::new() } else { format!("{took:>8}") };
    let line = format!(
        "{}{target}   {say}  {took}  {}",
        paint.ink(word.1, &format!("{:<10}", word.0)),
        paint.ink(Ink::Faint, &why)
    );
    line.trim_end().to_owned()
}

/// Whether the reason of a step has its place in the step's line, at least in part.
fn has_room(paint: Paint, columns: Columns, why: &str) -> bool {
    let Some(terminal) = paint.width else { return true };
    let columns = columns.within(terminal);
    let used = 10 + columns.target + 3 + columns.say + 2 + 8 + 2;
    terminal.saturating_sub(used + 1) >= width(why).min(SHORT_REASON)
}

/// A reason that is cut to this still tells something.
const SHORT_REASON: usize = 16;

impl<'g> Screen<'g> {
    pub fn new(graph: &'g Graph, root: PathBuf, paint: Paint, shown: Shown, stream: Stream) -> Self {
        let columns = Columns::of(graph);
        let live = Mutex::new(Live::new(paint, columns));
        Screen {
            graph,
            root,
            paint,
            shown,
            stream,
            columns,
            live,
            explains: false,
            missing_tools: Mutex::default(),
            not_begun: Mutex::default(),
            silent: Mutex::default(),
            printed: Mutex::default(),
        }
    }

    /// The same screen, which also tells of steps with nothing to do.
    #[must_use]
    pub fn explaining(self, explains: bool) -> Self {
        Screen { explains, ..self }
    }

    fn live(&self) -> MutexGuard<'_, Live> {
        let mut live = self.live.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(width) = self.paint.resized().width {
            live.resized(width);
        }
        live
    }

    /// Prints what moves the cursor, and lines that are harmless already.
    fn write(&self, text: &str) {
        out::raw(self.stream, text);
    }

    /// Keeps the live view moving until `work` is done.
    pub fn during<T>(&self, work: impl FnOnce() -> T) -> T {
        if self.shown != Shown::Live {
            let result = work();
            self.say_not_begun();
            return result;
        }
        let done = std::sync::mpsc::channel::<()>();
        std::thread::scope(|scope| {
            let (sender, receiver) = done;
            scope.spawn(move || {
                use std::sync::mpsc::RecvTimeoutError::Timeout;
                while receiver.recv_timeout(std::time::Duration::from_millis(80)) == Err(Timeout) {
                    let drawn = self.live().redraw(self.graph);
                    self.write(&drawn);
                }
            });
            let result = work();
            drop(sender);
            self.say_not_begun();
            let last = self.live().erase();
            self.write(&last);
            result
        })
    }

    /// Lines that stay, above the live view.
    fn lines(&self, text: &str) {
        let text = out::visible(text);
        match self.shown {
            Shown::Live => {
                let drawn = self.live().above(self.graph, &text);
                self.write(&drawn);
            }
            _ => self.write(&text),
        }
    }

    fn step_done(&self, id: StepId, event: &Event) {
        let Event::Done { verdict, reason, micros, printed, failure, .. } = event else { return };
        self.live().done(id, *verdict);
        if *verdict == Verdict::Current && !self.explains {
            return;
        }
        let step = self.graph.step(id);
        let target = &*self.graph.title(id);
        if self.shown == Shown::Json {
            return self.json_step(id, event);
        }
        if matches!(verdict, Verdict::Blocked | Verdict::Left) {
            let mut not_begun = self.not_begun.lock().unwrap_or_else(PoisonError::into_inner);
            return not_begun.entry((verdict.word(), reason.to_string())).or_default().push(id);
        }
        let why = match failure {
            Some(failure) => failure::short(failure),
            None if step.check.is_some() && *verdict == Verdict::Ran => format!("passed; {reason}"),
            None => reason.to_string(),
        };
        let took = if matches!(verdict, Verdict::Ran | Verdict::Failed) && *micros > 0 {
            time(*micros)
        } else {
            String::new()
        };
        let word = (verdict.word(), ink_of(*verdict));
        let paint = self.paint.resized();
        let is_below = self.explains && !has_room(paint, self.columns, &why);
        let beside = if is_below { "" } else { &*why };
        let mut text = step_line(paint, self.columns, word, target, &step.say, &took, beside) + "\n";
        if is_below {
            let more = paint.glyph("…", "...");
            let why =
                cut(&out::visible(&why), paint.width.map_or(usize::MAX, |w| w.saturating_sub(11)), more);
            text.push_str(&format!("{:10}{}\n", "", paint.ink(Ink::Faint, &why)));
        }
        if let Some(failure) = failure.as_ref().filter(|f| self.is_news(f)) {
            let same = self.printed_before(id, printed);
            let shown = if same.is_some() { &[] } else { printed.as_slice() };
            text.push_str(&failure::render(self.graph, id, failure, shown, &self.root, self.paint));
            if let Some(other) = same {
                let label = self.paint.ink(Ink::Calm, &format!("{:<8}", "printed"));
                text.push_str(&format!("  {label}  the same as {}\n", self.graph.title(other)));
            }
        } else if !printed.is_empty() && *verdict == Verdict::Ran && step.check.is_none() {
            let printed = String::from_utf8_lossy(printed);
            let whole = format!("all of it: nubrik show {} --printed", self.graph.owner(id).address);
            let printed = harmless(printed.trim_end(), self.paint.colours);
            text.push_str(&failure::render_printed(&printed, self.paint, &whole));
        }
        if !printed.is_empty() && *verdict == Verdict::Reused && step.check.is_none() {
            let mut silent = self.silent.lock().unwrap_or_else(PoisonError::into_inner);
            *silent = (silent.0 + 1, silent.1.or(Some(id)));
        }
        self.lines(&text);
    }

    /// Says what a step was refused that ended well.
    fn survived(&self, id: StepId, refused: &[Refusal]) {
        if self.shown == Shown::Json {
            let lines = failure::survived(self.graph, id, refused);
            let of = |wanted: &str| -> Vec<String> {
                lines.iter().filter(|(label, _)| *label == wanted).map(|(_, text)| text.clone()).collect()
            };
            let step = self.graph.step(id);
            return json::print(&json::RefusedEvent {
                event: "refused",
                target: &self.graph.target(step.target).address,
                variant: &step.variant,
                say: &step.say,
                refused: of("refused"),
                reading: of("reading").concat(),
                mends: of("mend"),
            });
        }
        let title = self.graph.title(id);
        let say = &self.graph.step(id).say;
        let line = step_line(self.paint, self.columns, ("refused", Ink::Doubt), &title, say, "", "");
        let below = failure::render_survived(self.graph, id, refused, self.paint);
        self.lines(&format!("{line}\n{below}"));
    }

    /// Says which steps were not begun, and why.
    fn say_not_begun(&self) {
        if let (count, Some(id)) = *self.silent.lock().unwrap_or_else(PoisonError::into_inner) {
            let steps = if count == 1 { "a reused step" } else { &format!("{count} reused steps") };
            let address = &self.graph.owner(id).address;
            let text = format!("{steps} had printed something: nubrik show {address} --printed");
            self.lines(&format!("{}{text}\n", self.paint.ink(Ink::Doubt, &format!("{:<10}", "notice"))));
        }
        let all = std::mem::take(&mut *self.not_begun.lock().unwrap_or_else(PoisonError::into_inner));
        for ((word, why), steps) in all {
            let ink = if word == Verdict::Blocked.word() { Ink::Doubt } else { Ink::Faint };
            if let [one] = steps.as_slice() {
                let (title, say) = (self.graph.title(*one), &self.graph.step(*one).say);
                let line = step_line(self.paint, self.columns, (word, ink), &title, say, "", &why);
                self.lines(&format!("{line}\n"));
                continue;
            }
            let mut targets: Vec<&str> = Vec::new();
            for step in &steps {
                let address = &*self.graph.owner(*step).address;
                if !targets.contains(&address) {
                    targets.push(address);
                }
            }
            let named = targets[..targets.len().min(NAMED_TARGETS)].join(", ");
            let more = match targets.len().saturating_sub(NAMED_TARGETS) {
                0 => String::new(),
                more => format!(" and {more} more"),
            };
            let text = format!("{} steps of {named}{more}", steps.len());
            let more = self.paint.glyph("…", "...");
            let fitted = |text: &str| {
                self.paint.width.map_or(text.to_owned(), |w| cut(text, w.saturating_sub(11), more))
            };
            let word = self.paint.ink(ink, &format!("{word:<10}"));
            let why = self.paint.ink(Ink::Faint, &fitted(&why));
            self.lines(&format!("{word}{}\n{:10}{why}\n", fitted(&text), ""));
        }
    }

    /// The step whose failure printed the same before.
    fn printed_before(&self, id: StepId, printed: &[u8]) -> Option<StepId> {
        if printed.is_empty() {
            return None;
        }
        let mut before = self.printed.lock().unwrap_or_else(PoisonError::into_inner);
        match before.get(printed) {
            Some(other) => Some(*other),
            None => {
                before.insert(printed.to_vec(), id);
                None
            }
        }
    }

    /// Whether a failure says more than one that was shown before.
    fn is_news(&self, failure: &nubrik_engine::Failure) -> bool {
        match failure {
            nubrik_engine::Failure::NoTool(problem) => {
                let mut said = self.missing_tools.lock().unwrap_or_else(PoisonError::into_inner);
                said.insert(problem.name.to_string())
            }
            _ => true,
        }
    }

    fn json_step(&self, id: StepId, event: &Event) {
        let Event::Done { verdict, reason, micros, printed, failure, .. } = event else { return };
        let step = self.graph.step(id);
        let text = String::from_utf8_lossy(printed);
        let mends =
            failure.as_ref().map(|f| failure::readings(self.graph, id, f, printed)).unwrap_or_default();
        json::print(&json::StepEvent {
            event: "step",
            state: verdict.word(),
            target: &self.graph.target(step.target).address,
            variant: &step.variant,
            say: &step.say,
            reason: reason.to_string(),
            reason_code: reason.code(),
            seconds: json::rounded(*micros as f64 / 1e6),
            command: failure.as_ref().map(|_| nubrik_engine::shown_command(step)),
            printed: (!text.is_empty()).then(|| text.into_owned()),
            failure: failure.as_ref().map(failure::short),
            mends: mends.into_iter().filter(|m| m.0 == "mend").map(|m| m.1).collect(),
        });
    }

    fn notice(&self, notice: &Notice) {
        let text = match notice {
            Notice::DamagedBlob => {
                "a kept result was damaged; it was thrown away, and is made anew".to_owned()
            }
            Notice::StoreUnusable(why) => format!("results are not kept for other times: {why}"),
            Notice::Unconfined(missing) => {
                format!(
                    "steps are not fully confined: this kernel lacks {missing}; `nubrik doctor` says what that means"
                )
            }
            Notice::OrphansEnded(count, targets) => {
                let processes = if *count == 1 { "1 process" } else { &format!("{count} processes") };
                let text = format!("{processes} left behind by steps, ended now");
                if targets.is_empty() { text } else { format!("{text}: {}", targets.join(", ")) }
            }
            Notice::NotStopped(failure) => super::services::not_stopped(failure),
            Notice::RoomMade(bytes) => {
                let size = super::text::size(*bytes);
                format!("kept results had grown too large; {size} not used for longest were removed")
            }
            Notice::PutBack(path, true) => format!("{path} was edited; it is put back"),
            Notice::PutBack(path, false) => format!("{path} was gone; it is put back"),
            Notice::NotPublished(problem) => problem.clone(),
        };
        match self.shown {
            Shown::Json => json::print(&json::NoticeEvent { event: "notice", text }),
            _ => self.lines(&format!("{}{text}\n", self.paint.ink(Ink::Doubt, &format!("{:<10}", "notice")))),
        }
    }
}

impl Listener for Screen<'_> {
    fn hear(&self, event: &Event) {
        match event {
            Event::Began { steps } => {
                self.live().began(*steps);
                if self.shown == Shown::Json {
                    json::print(&json::BeganEvent { event: "began", version: json::VERSION, steps: *steps });
                }
            }
            Event::WillRun { step, .. } => self.live().running(*step),
            Event::Done { step, .. } => self.step_done(*step, event),
            Event::Survived { step, refused } => self.survived(*step, refused),
            Event::Notice(notice) => self.notice(notice),
        }
    }
}
