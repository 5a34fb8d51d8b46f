//! `nubrik list`

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use nubrik_graph::TargetId;
use nubrik_graph::{Graph, Role, Target};
use nubrik_lang::Evaluation;
use nubrik_reports::cases::Case;
use nubrik_session::Session;
use serde::Serialize;

use super::since::Affected;
use super::{CommandResult, evaluate, open, patterns};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out, outln};
use crate::ui::paint::{Ink, Paint};
use crate::ui::text::{cut, padded, width};

#[derive(Serialize)]
struct TargetEvent<'a> {
    event: &'static str,
    target: &'a str,
    kind: &'a str,
    role: &'static str,
    documentation: &'a str,
    defined: String,
    private: bool,
    entries: usize,
    #[serde(skip_serializing_if = "<[_]>::is_empty")]
    tags: &'a [std::sync::Arc<str>],
}

#[derive(Serialize)]
struct KindEvent<'a> {
    event: &'static str,
    kind: &'a str,
    targets: usize,
}

fn nothing_of_that(console: Console, all: &[&Target], which: &Which) -> Exit {
    let mut kinds: Vec<&str> = all.iter().map(|t| &*t.kind).collect();
    let mut tags: Vec<&str> = all.iter().flat_map(|t| t.tags.iter().map(|t| &**t)).collect();
    for list in [&mut kinds, &mut tags] {
        list.sort_unstable();
        list.dedup();
    }
    let (what, known) = match (&which.tag, &which.kind) {
        (Some(tag), _) => (format!("no target here is tagged `{tag}`"), tags),
        (None, Some(kind)) => (format!("no target here is of kind `{kind}`"), kinds),
        (None, None) => ("nothing here".to_owned(), Vec::new()),
    };
    let wanted = which.tag.as_deref().or(which.kind.as_deref()).unwrap_or_default();
    // Tests, jobs and services go by the words that declare them.
    let declared = match wanted {
        "check" => Some("test"),
        "effect" => Some("job"),
        "serve" => Some("service"),
        _ => None,
    };
    let declared = declared.filter(|word| known.contains(word));
    let near = declared.or_else(|| nubrik_diagnostic::nearest(wanted, known.iter().copied()));
    let option = if which.tag.is_some() { "--tag" } else { "--kind" };
    let mend = near.map(|near| format!("{option} {near}"));
    let note = match known.is_empty() {
        true => "no target here has tags".to_owned(),
        false => format!("there are: {}", known.join(", ")),
    };
    super::say_wrong_noted(console, Exit::Usage, &what, &[&note], mend.as_deref())
}

fn count_kinds(console: Console, targets: &[&Target]) {
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    for target in targets {
        *counts.entry(&target.kind).or_default() += 1;
    }
    let mut counts: Vec<(&str, usize)> = counts.into_iter().collect();
    counts.sort_by_key(|(kind, count)| (std::cmp::Reverse(*count), *kind));
    let paint = console.paint(OutputStream::Output);
    for (kind, count) in counts {
        if console.is_json() {
            console.event(&KindEvent { event: "kind", kind, targets: count });
        } else {
            outln!(console, "{count:>6}  {}", paint.ink(Ink::Calm, kind));
        }
    }
}

#[derive(Serialize)]
struct ListedCase<'a> {
    event: &'static str,
    target: &'a str,
    group: &'a str,
    name: &'a str,
    state: &'static str,
}

/// Lists tests with the cases that they reported the last time.
fn list_cases(
    console: Console,
    session: &Session,
    graph: &Graph,
    targets: &HashSet<TargetId>,
) -> CommandResult<Exit> {
    let mut any = false;
    for step in graph.steps.iter().filter(|s| targets.contains(&s.target)) {
        let Some(check) = &step.check else { continue };
        any = true;
        let passed = session.state().steps.get(step.folder.as_str()).map(|m| !m.outputs.is_empty());
        let word = match passed {
            Some(true) => "passed",
            Some(false) => "failed",
            None => "not run",
        };
        let cases = session.cases(graph, step).filter(|_| passed.is_some()).unwrap_or_default();
        if console.is_json() {
            print_cases(console, &check.address, word, &cases);
        } else {
            show_cases(console, &check.address, word, &cases);
        }
    }
    if !any && !console.is_json() {
        outln!(console, "there are no tests here");
    }
    Ok(Exit::Done)
}

/// Tells programs of the cases of a test; of one without any what became of it.
fn print_cases(console: Console, test: &str, word: &'static str, cases: &[Case]) {
    let event = |group, name, state| ListedCase { event: "case", target: test, group, name, state };
    cases.iter().for_each(|case| console.event(&event(&case.group, &case.name, case.outcome.word())));
    if cases.is_empty() {
        console.event(&event("", "", word));
    }
}

fn show_cases(console: Console, test: &str, word: &str, cases: &[Case]) {
    let paint = console.paint(OutputStream::Output);
    let inked = |word: &str| {
        let ink = match word {
            "failed" => Ink::Wrong,
            "passed" => Ink::Calm,
            _ => Ink::Faint,
        };
        paint.ink(ink, &format!("{word:<10}"))
    };
    outln!(console, "{}{}", inked(word), paint.ink(Ink::Strong, test));
    for case in cases {
        let group = if case.group.is_empty() { String::new() } else { format!("{} ", case.group) };
        outln!(console, "  {}{}{}", inked(case.outcome.word()), paint.ink(Ink::Faint, &group), case.name);
    }
}

/// Which targets are listed, and how.
#[derive(Default)]
pub struct Which {
    /// Whether they are only counted.
    pub count: bool,
    /// Whether the cases of tests are listed instead.
    pub cases: bool,
    pub kind: Option<String>,
    pub tag: Option<String>,
    /// Only those that a change since this revision can affect.
    pub since: Option<String>,
}

pub fn list(console: Console, choice: &Choice, words: &[String], which: Which) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    if which.since.is_some() {
        session.take_notes();
    }
    let patterns = patterns(console, &mut session, words)?;
    let evaluation = evaluate(console, &mut session, &patterns)?;
    let reached = match &which.since {
        Some(revision) => Some(Affected::of(console, &session, &evaluation, revision)?),
        None => None,
    };
    let listed = reached.as_ref().map_or(&evaluation.targets, |reached| &reached.targets);
    let exit = list_targets(console, &mut session, &evaluation, listed, &which)?;
    if let Some(reached) = &reached {
        // What is left out belongs to no package of the list.
        if reached.skipped > 0 && !reached.targets.is_empty() && !console.is_json() {
            outln!(console);
        }
        reached.say_skipped(console);
    }
    Ok(exit)
}

fn list_targets(
    console: Console,
    session: &mut Session,
    evaluation: &Evaluation,
    listed: &[TargetId],
    which: &Which,
) -> CommandResult<Exit> {
    let graph = &evaluation.graph;
    let all: Vec<&Target> = listed.iter().map(|t| graph.target(*t)).collect();
    let targets: Vec<&Target> = all
        .iter()
        .copied()
        .filter(|t| which.kind.as_ref().is_none_or(|kind| *t.kind == **kind))
        .filter(|t| which.tag.as_ref().is_none_or(|tag| t.tags.iter().any(|other| **other == **tag)))
        .collect();
    if targets.is_empty() && !all.is_empty() {
        return Err(nothing_of_that(console, &all, which));
    }
    if which.cases {
        let chosen: HashSet<&str> = targets.iter().map(|target| &*target.address).collect();
        let is_chosen = |id: &TargetId| chosen.contains(&*graph.target(*id).address);
        let targets: HashSet<TargetId> = listed.iter().copied().filter(is_chosen).collect();
        return list_cases(console, session, graph, &targets);
    }
    if which.count {
        count_kinds(console, &targets);
        return Ok(Exit::Done);
    }
    let entries = EntryCounts::of(graph);
    if console.is_json() {
        for target in targets {
            console.event(&TargetEvent {
                event: "target",
                target: &target.address,
                kind: &target.kind,
                documentation: &target.documentation,
                defined: target.place.to_string(),
                private: target.private,
                entries: entries.count(target),
                role: target.role.word(),
                tags: &target.tags,
            });
        }
        return Ok(Exit::Done);
    }
    out!(console, "{}", render(&targets, &entries, console.paint(OutputStream::Output)));
    Ok(Exit::Done)
}

fn render(targets: &[&Target], entries: &EntryCounts<'_>, paint: Paint) -> String {
    let mut packages: BTreeMap<&str, Vec<(&Target, Cow<'_, str>)>> = BTreeMap::new();
    for target in targets {
        packages.entry(target.package.as_str()).or_default().push((target, entries.kind(target)));
    }
    let name = |t: &Target| t.address.rsplit('/').next().unwrap_or("").to_owned();
    let names = targets.iter().map(|t| width(&name(t))).max().unwrap_or(0).min(32);
    let kinds = packages.values().flatten().map(|(_, kind)| width(kind)).max().unwrap_or(0);
    let mut out = String::new();
    for (package, mut targets) in packages {
        if !out.is_empty() {
            out.push('\n');
        }
        let title = if package.is_empty() { "the workspace's root" } else { package };
        out.push_str(&format!("{}\n", paint.ink(Ink::Strong, title)));
        targets.sort_by(|(a, _), (b, _)| (a.role, &a.kind, &a.address).cmp(&(b.role, &b.kind, &b.address)));
        for (target, kind) in targets {
            let kind = paint.ink(Ink::Calm, &padded(&kind, kinds));
            let room = paint.width.map_or(usize::MAX, |w| w.saturating_sub(2 + kinds + 2 + names + 3));
            let tags: String = target.tags.iter().map(|t| format!("  #{t}")).collect();
            let more = paint.glyph("…", "...");
            // Tags are what one types: they stay, and a sentence gives way.
            let documentation = cut(&target.documentation, room.saturating_sub(width(&tags)), more);
            let documentation = cut(format!("{documentation}{tags}").trim_start(), room, more);
            let documentation = paint.ink(Ink::Faint, &documentation);
            let line = format!("  {kind}  {}   {documentation}", padded(&name(target), names));
            out.push_str(line.trim_end());
            out.push('\n');
        }
    }
    out
}

/// How many entries targets have: single tests of tests, results of all others.
struct EntryCounts<'g> {
    tests: HashMap<&'g str, BTreeSet<&'g str>>,
}

impl<'g> EntryCounts<'g> {
    fn of(graph: &'g Graph) -> EntryCounts<'g> {
        let mut tests: HashMap<&str, BTreeSet<&str>> = HashMap::new();
        for step in &graph.steps {
            if let Some(check) = &step.check {
                tests.entry(&graph.target(step.target).address).or_default().insert(&check.address);
            }
        }
        EntryCounts { tests }
    }

    fn count(&self, target: &Target) -> usize {
        if target.role == Role::Test {
            return self.tests.get(&*target.address).map_or(0, BTreeSet::len);
        }
        let mut addresses: Vec<&str> = target.results.iter().map(|r| &*r.address).collect();
        addresses.sort_unstable();
        addresses.dedup();
        addresses.len()
    }

    /// What a target is, for people: what is run or tested is distinguished from what is built.
    fn kind<'t>(&self, target: &'t Target) -> Cow<'t, str> {
        match target.role {
            Role::Test => match self.count(target) {
                1 => "test".into(),
                count => format!("{count} tests").into(),
            },
            Role::Job => "job".into(),
            Role::Service => "service".into(),
            Role::Inner | Role::Target => match &*target.kind {
                "map" => format!("map of {}", self.count(target)).into(),
                kind => kind.into(),
            },
        }
    }
}
