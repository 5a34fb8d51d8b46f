//! `nubrik show`

use std::collections::{BTreeSet, HashMap};
use std::fmt::Write;
use std::mem::ManuallyDrop;
use std::sync::Arc;

use nubrik_engine::State;
use nubrik_graph::{
    Effect, Graph, Service, Serving, Step, StepId, Target, TargetId, shown_command, shown_service,
};
use nubrik_lang::{AddressPattern, Evaluation};
use nubrik_session::Session;
use nubrik_source::WsPath;
use nubrik_wording::duration;
use serde::Serialize;

use super::{CommandResult, evaluate, open, patterns};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out, outln};
use crate::ui::json;
use crate::ui::paint::{Ink, Paint};
use crate::ui::text::{cut, harmless, wrapped};

/// How many files, steps and users are named; more of them are only counted.
const NAMED: usize = 8;

/// How many lines of a text are shown that is written for a command.
const TEXT_LINES: usize = 8;

#[derive(Serialize)]
struct ShownEvent<'a> {
    event: &'static str,
    target: &'a str,
    kind: &'a str,
    documentation: &'a str,
    defined: String,
    private: bool,
    tags: &'a [std::sync::Arc<str>],
    results: Vec<String>,
    needs: Vec<&'a str>,
    used_by: Vec<&'a str>,
    steps: Vec<ShownStep<'a>>,
    /// The commands of each effect of a job.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    does: Vec<Vec<String>>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    serves: Vec<ShownService<'a>>,
}

#[derive(Serialize)]
struct ShownService<'a> {
    target: &'a str,
    defined: String,
    shared: bool,
    elsewhere: bool,
    /// By the fields that they are in.
    commands: Vec<(&'static str, String)>,
    reads: Vec<&'a str>,
}

impl<'a> ShownService<'a> {
    fn of(service: &'a Arc<Service>) -> ShownService<'a> {
        ShownService {
            target: &service.address,
            defined: service.place.to_string(),
            shared: service.is_shared(),
            elsewhere: service.is_elsewhere(),
            commands: shown_service(service),
            reads: service.inputs.iter().map(|p| p.as_str()).collect(),
        }
    }
}

#[derive(Serialize)]
struct ShownText<'a> {
    path: &'a str,
    text: &'a str,
}

#[derive(Serialize)]
struct ShownStep<'a> {
    say: &'a str,
    #[serde(skip_serializing_if = "str::is_empty")]
    variant: &'a str,
    defined: String,
    commands: Vec<String>,
    /// Files that are written for the commands: lists of their arguments, and texts.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    texts: Vec<ShownText<'a>>,
    reads: Vec<&'a str>,
    may_read: Vec<&'a str>,
    /// Addresses of the services that run while it does.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    services: Vec<&'a str>,
    /// The image that it sees in place of this machine's system.
    #[serde(skip_serializing_if = "Option::is_none")]
    image: Option<&'a str>,
    /// What is said of the machine that may run it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    machine: Vec<&'a str>,
    makes: Vec<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    last_seconds: Option<f64>,
}

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

pub fn show(console: Console, choice: &Choice, address: &str, part: ShownPart) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    let wanted = patterns(console, &mut session, &[address.to_owned()])?;
    let evaluation = evaluate(console, &mut session, &wanted)?;
    if part == ShownPart::Printed {
        show_printed(console, &session, &evaluation.graph, &evaluation.targets);
        return Ok(Exit::Done);
    }
    let is_list = part == ShownPart::Targets { each: false } && evaluation.targets.len() > 1;
    if is_list && !console.is_json() {
        drop(session);
        super::list::list(console, choice, &[address.to_owned()], super::list::Which::default())?;
        outln!(console, "\nnubrik show TARGET shows one of them, nubrik show --all {address} each");
        return Ok(Exit::Done);
    }
    // Users may be anywhere in the workspace; where something else is wrong, it is shown all the same.
    let whole = ManuallyDrop::new(session.evaluate_to_read(&[AddressPattern::below(&WsPath::root())]));
    let graph = &evaluation.graph;
    let (around, on_call) = (ShownRelations::of(&evaluation, &whole.graph), OnCall::of(&evaluation));
    let out = session.results_folder();
    for (i, id) in evaluation.targets.iter().enumerate() {
        let shown = Shown {
            graph,
            id: *id,
            state: session.state(),
            out: &out,
            around: &around,
            on_call: &on_call[id.index()],
        };
        if console.is_json() {
            console.event(&shown.event());
        } else {
            if i > 0 {
                outln!(console);
            }
            out!(console, "{}", shown.render(console.paint(OutputStream::Output)));
        }
    }
    Ok(Exit::Done)
}

/// Shows what the steps of some targets printed when they last ran.
fn show_printed(console: Console, session: &Session, graph: &Graph, targets: &[TargetId]) {
    let paint = console.paint(OutputStream::Output);
    let steps = (0..graph.steps.len() as u32).map(StepId);
    let mut said = false;
    for id in steps.filter(|s| targets.contains(&graph.step(*s).target)) {
        let step = graph.step(id);
        let printed = session.printed(step);
        let text = String::from_utf8_lossy(printed.as_deref().unwrap_or_default()).into_owned();
        if console.is_json() {
            let (target, say) = (graph.title(id).to_string(), step.say.to_string());
            console.event(&PrintedEvent { event: "printed", target, say, known: printed.is_some(), text });
            continue;
        }
        let head = format!("{}   {}", graph.title(id), step.say);
        match (printed, text.trim_end()) {
            (None, _) => outln!(console, "{head}   {}", paint.ink(Ink::Faint, "not kept")),
            (Some(_), "") => continue,
            (Some(_), text) => {
                outln!(console, "{}", paint.ink(Ink::Strong, &head));
                harmless(text, paint.colours).lines().for_each(|line| outln!(console, "    {line}"));
            }
        }
        said = true;
    }
    if !said && !console.is_json() {
        outln!(console, "its steps printed nothing");
    }
}

#[derive(Serialize)]
struct PrintedEvent {
    event: &'static str,
    target: String,
    say: String,
    /// Whether it is still kept what the step printed.
    known: bool,
    text: String,
}

/// Addresses of the targets that use a target directly.
/// What surrounds targets, found for all of them at once.
struct ShownRelations<'g> {
    /// By the number of each target: the targets that it needs.
    needs: Vec<Vec<TargetId>>,
    /// By the number of each target: its steps.
    steps: Vec<Vec<StepId>>,
    /// By the address of each target that is shown: who uses it, in the whole workspace.
    users: HashMap<&'g str, Vec<&'g str>>,
}

impl<'g> ShownRelations<'g> {
    fn of(evaluation: &'g Evaluation, whole: &'g Graph) -> ShownRelations<'g> {
        let graph = &evaluation.graph;
        let mut steps = vec![Vec::new(); graph.targets.len()];
        for (number, step) in (0..).zip(&graph.steps) {
            steps[step.target.index()].push(StepId(number));
        }
        let shown = evaluation.targets.iter().map(|id| &*graph.target(*id).address);
        let mut users: HashMap<&str, Vec<&str>> = shown.map(|address| (address, Vec::new())).collect();
        let needs_of_all = whole.target_needs();
        for (user, needs) in whole.targets.iter().zip(&needs_of_all).filter(|(user, _)| user.is_declared()) {
            for need in needs {
                // Who uses several variants of a target is one user.
                if let Some(users) = users.get_mut(&*whole.target(*need).address)
                    && users.last() != Some(&&*user.address)
                {
                    users.push(&user.address);
                }
            }
        }
        ShownRelations { needs: graph.target_needs(), steps, users }
    }
}

struct Shown<'g> {
    graph: &'g Graph,
    id: TargetId,
    state: &'g State,
    out: &'g WsPath,
    around: &'g ShownRelations<'g>,
    on_call: &'g OnCall<'g>,
}

/// What is no step of the graph: what jobs do, and services.
#[derive(Default)]
struct OnCall<'g> {
    effects: Vec<&'g Effect>,
    services: Vec<&'g Arc<Service>>,
}

impl<'g> OnCall<'g> {
    /// Those of each target by its number, where they were asked for.
    fn of(evaluation: &'g Evaluation) -> Vec<OnCall<'g>> {
        let graph = &evaluation.graph;
        let mut all: Vec<OnCall<'g>> = graph.targets.iter().map(|_| OnCall::default()).collect();
        for effect in &evaluation.effects {
            all[effect.step.target.index()].effects.push(effect);
        }
        let index = (!evaluation.services.is_empty()).then(|| graph.target_index());
        for service in &evaluation.services {
            if let Some(target) = index.as_ref().and_then(|index| index.of_service(service)) {
                all[target.index()].services.push(service);
            }
        }
        all
    }

    fn needs(&self, graph: &Graph) -> Vec<TargetId> {
        let inputs = self.effects.iter().flat_map(|e| &e.step.inputs);
        let makers = inputs.filter_map(|f| graph.file(*f).maker);
        let mut needs: Vec<TargetId> = makers.map(|s| graph.step(s).target).collect();
        let used = self.effects.iter().flat_map(|e| &e.step.services);
        needs.extend(used.filter_map(|s| graph.target_of_service(s)));
        needs.extend(self.services.iter().flat_map(|s| graph.service_needs(s)));
        needs
    }
}

impl<'g> Shown<'g> {
    fn target(&self) -> &'g Target {
        self.graph.target(self.id)
    }

    fn steps(&self) -> impl Iterator<Item = StepId> + '_ {
        self.around.steps[self.id.index()].iter().copied()
    }

    /// Addresses of the targets that use it.
    fn users(&self) -> &'g [&'g str] {
        self.around.users.get(&*self.target().address).map_or(&[], Vec::as_slice)
    }

    fn results(&self) -> Vec<String> {
        let mut results: Vec<String> =
            self.target().results.iter().map(|r| format!("{}/{}", self.out, r.publish.as_str())).collect();
        results.sort();
        results.dedup();
        results
    }

    fn needs(&self) -> Vec<&'g str> {
        let needs = &self.around.needs[self.id.index()];
        let more = self.on_call.needs(self.graph);
        let mut names: Vec<&str> =
            needs.iter().chain(&more).map(|n| &*self.graph.target(*n).address).collect();
        names.sort_unstable();
        names.dedup();
        names
    }

    /// Files as programs know them: by their paths.
    fn paths(&self, files: &[nubrik_graph::FileId]) -> Vec<&'g str> {
        let mut paths: Vec<&str> = files.iter().map(|f| self.graph.file(*f).path.as_str()).collect();
        paths.sort_unstable();
        paths
    }

    /// The image that a step sees in place of this machine's system.
    fn image(&self, id: StepId) -> Option<&str> {
        self.graph.image_of(id).map(|image| &*self.graph.owner(image).address)
    }

    /// Files as people know them: sources by their paths, what steps make by name and target.
    fn files(&self, files: &[nubrik_graph::FileId]) -> Vec<String> {
        let mut names: Vec<String> = files
            .iter()
            .map(|f| {
                let node = self.graph.file(*f);
                match node.maker {
                    None => node.path.to_string(),
                    Some(maker) => {
                        let folder = &self.graph.step(maker).folder;
                        let name = node.path.below(folder).unwrap_or(node.path.name());
                        format!("{name} of {}", self.graph.title(maker))
                    }
                }
            })
            .collect();
        names.sort();
        names
    }

    fn last_micros(&self, step: StepId) -> Option<u64> {
        let memory = self.state.steps.get(self.graph.step(step).folder.shared())?;
        (!memory.outputs.is_empty()).then_some(memory.micros)
    }

    fn event(&self) -> ShownEvent<'_> {
        let target = self.target();
        let step = |id: StepId| {
            let step = self.graph.step(id);
            ShownStep {
                say: &step.say,
                variant: &step.variant,
                defined: step.place.to_string(),
                commands: shown_command(step),
                texts: step
                    .lists
                    .iter()
                    .map(|file| ShownText { path: file.path.as_str(), text: &file.text })
                    .collect(),
                reads: self.paths(&step.inputs_besides_image()),
                image: self.image(id),
                may_read: self.paths(&self.graph.uncertain(step)),
                services: step.services.iter().map(|s| &*s.address).collect(),
                machine: step.machine.iter().map(|label| &**label).collect(),
                makes: step.outputs.iter().map(|o| &*o.name).collect(),
                last_seconds: self.last_micros(id).map(|m| json::rounded(m as f64 / 1e6)),
            }
        };
        ShownEvent {
            event: "detail",
            target: &target.address,
            kind: &target.kind,
            documentation: &target.documentation,
            defined: target.place.to_string(),
            private: target.private,
            tags: &target.tags,
            results: self.results(),
            needs: self.needs(),
            used_by: self.users().to_vec(),
            steps: self.steps().map(step).collect(),
            does: self.on_call.effects.iter().map(|e| shown_command(&e.step)).collect(),
            serves: self.on_call.services.iter().map(|s| ShownService::of(s)).collect(),
        }
    }

    fn render(&self, paint: Paint) -> String {
        let target = self.target();
        let mut out = format!("{}\n", paint.ink(Ink::Strong, &target.address));
        let room = paint.width.map_or(usize::MAX, |w| w.saturating_sub(13));
        let more = paint.glyph("…", "...");
        let mut line = |label: &str, text: &str| {
            let text = cut(text, room, more);
            out.push_str(&format!("  {}  {text}\n", paint.ink(Ink::Calm, &format!("{label:<8}"))));
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
        line("needs", &named(&self.needs(), "no targets"));
        line("used by", &named(self.users(), "no other target"));
        let results = self.results();
        let results: Vec<&str> = results.iter().map(String::as_str).collect();
        line("results", &named(&results, "none of its own"));
        let steps: Vec<StepId> = self.steps().collect();
        for id in steps.iter().take(NAMED) {
            out.push_str(&self.step(*id, paint));
        }
        if steps.len() > NAMED {
            let text = format!("and {} more steps; `--json` shows all of them", steps.len() - NAMED);
            out.push_str(&format!("\n  {}\n", paint.ink(Ink::Faint, &text)));
        }
        for effect in &self.on_call.effects {
            let head = (&*effect.step.say, effect.step.place.to_string());
            let commands = shown_command(&effect.step);
            let labelled = commands.into_iter().enumerate();
            let lines = labelled.map(|(i, c)| (if i > 0 { "then" } else { "command" }, c)).collect();
            out.push_str(&self.block(head, lines, &self.files(&effect.step.inputs), paint));
        }
        for service in &self.on_call.services {
            let kind = match &service.serving {
                Serving::Elsewhere { .. } => "runs somewhere else",
                Serving::Here { shared: true, .. } => "one for all who need it",
                Serving::Here { .. } => "a fresh one for each user",
            };
            let head = (kind, service.place.to_string());
            let made = self.graph.files.iter().enumerate();
            let made = made.filter(|(_, f)| service.inputs.holds(&f.path));
            let inputs: Vec<_> = made.map(|(i, _)| nubrik_graph::FileId(i as u32)).collect();
            out.push_str(&self.block(head, shown_service(service), &self.files(&inputs), paint));
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
        let mut out = format!("\n  {}  {}\n", paint.ink(Ink::Busy, head), paint.ink(Ink::Faint, &note));
        let room = paint.width.map_or(usize::MAX, |w| w.saturating_sub(15));
        let mut line = |label: &str, text: &str| {
            out.push_str(&format!("    {}  {text}\n", paint.ink(Ink::Calm, &format!("{label:<8}"))));
        };
        let mut last = "";
        for (label, command) in &commands {
            for (n, text) in wrapped(command, room).iter().enumerate() {
                line(if n > 0 || (*label == last && last != "then") { "" } else { label }, text);
            }
            last = label;
        }
        let reads: Vec<&str> = reads.iter().map(String::as_str).collect();
        line("reads", cut(&named(&reads, "nothing"), room, paint.glyph("…", "...")).as_ref());
        out
    }

    fn step(&self, id: StepId, paint: Paint) -> String {
        let step = self.graph.step(id);
        let variant = if step.variant.is_empty() { String::new() } else { format!(" ({})", step.variant) };
        let took =
            self.last_micros(id).map_or("never ran here".to_owned(), |m| format!("took {}", duration(m)));
        let mut out = format!(
            "\n  {}{variant}  {}\n",
            paint.ink(Ink::Busy, &step.say),
            paint.ink(Ink::Faint, &format!("{took}, {}", step.place))
        );
        let room = paint.width.map_or(usize::MAX, |w| w.saturating_sub(15));
        let more = paint.glyph("…", "...");
        // Commands are shown whole: they are there to be read and pasted.
        let mut commands = String::new();
        for (i, command) in shown_command(step).iter().enumerate() {
            let label = paint.ink(Ink::Calm, &format!("{:<8}", if i > 0 { "then" } else { "command" }));
            for (n, text) in wrapped(command, room).iter().enumerate() {
                let label = if n == 0 { label.clone() } else { " ".repeat(8) };
                let _ = writeln!(commands, "    {label}  {text}");
            }
        }
        out.push_str(&commands);
        let mut line = |label: &str, text: &str| {
            let text = cut(text, room, more);
            out.push_str(&format!("    {}  {text}\n", paint.ink(Ink::Calm, &format!("{label:<8}"))));
        };
        show_given(step, paint, &mut line);
        if let Some(image) = self.image(id) {
            line("image", image);
        }
        let reads = self.files(&step.inputs_besides_image());
        line("reads", &named(&reads.iter().map(String::as_str).collect::<Vec<_>>(), "nothing"));
        let candidates = self.files(&self.graph.uncertain(step));
        if !candidates.is_empty() {
            line("may read", &named(&candidates.iter().map(String::as_str).collect::<Vec<_>>(), ""));
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
    let asked: Vec<&WsPath> =
        stages.filter_map(|stage| stage.stdin.as_ref().filter(|_| stage.answers)).collect();
    for file in step.lists.iter().filter(|file| !asked.contains(&&file.path)) {
        let name = file.path.below(&step.folder).unwrap_or(file.path.as_str());
        let lines: Vec<&str> = file.text.lines().collect();
        line("given", &format!("{} {name}", paint.ink(Ink::Faint, &format!("{} lines in", lines.len()))));
        for text in lines.iter().take(TEXT_LINES) {
            line("", &format!("  {}", harmless(text, false)));
        }
        if lines.len() > TEXT_LINES {
            let rest = format!("  {more} {} more, with --json", lines.len() - TEXT_LINES);
            line("", &paint.ink(Ink::Faint, &rest));
        }
    }
}
