//! `nubrik list`

use std::borrow::Cow;
use std::collections::{BTreeMap, HashSet};

use nubrik_answers::{EntryCounts, NothingOfThat, TargetEvent, TargetsOf, TestCases, kinds_of};
use nubrik_graph::{Graph, Target, TargetId};
use nubrik_lang::Evaluation;
use nubrik_session::Session;

use super::since::{affected, say_skipped};
use super::{CommandResult, evaluate, open, patterns};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out, outln};
use crate::ui::paint::{Ink, Paint};
use crate::ui::text::{cut, padded, width};

/// Says that no target is of that kind, or has that tag.
fn nothing_of_that(console: Console, nothing: &NothingOfThat<'_>) -> Exit {
    let NothingOfThat {
        is_tag,
        wanted,
        known,
        near,
    } = nothing;
    let (message, option) = match is_tag {
        true => (format!("no target here is tagged `{wanted}`"), "--tag"),
        false => (format!("no target here is of kind `{wanted}`"), "--kind"),
    };
    let note = match known.is_empty() {
        true => "no target here has tags".to_owned(),
        false => format!("there are: {}", known.join(", ")),
    };
    let mend = near.map(|near| format!("{option} {near}"));
    super::say_wrong_noted(console, Exit::Usage, &message, &[&note], mend.as_deref())
}

fn count_kinds(console: Console, targets: &[&Target]) {
    let paint = console.paint(OutputStream::Output);
    for counted in kinds_of(targets) {
        if console.is_json() {
            console.event(&counted);
        } else {
            outln!(
                console,
                "{:>6}  {}",
                counted.targets,
                paint.ink(Ink::Calm, counted.kind)
            );
        }
    }
}

/// Lists tests with the cases that they reported the last time.
fn list_cases(console: Console, session: &Session, graph: &Graph, targets: &HashSet<TargetId>) {
    let mut any = false;
    for tested in TestCases::of(session, graph, targets) {
        any = true;
        if console.is_json() {
            tested
                .events()
                .iter()
                .for_each(|event| console.event(event));
        } else {
            show_cases(console, &tested);
        }
    }
    if !any && !console.is_json() {
        outln!(console, "there are no tests here");
    }
}

fn show_cases(console: Console, tested: &TestCases<'_>) {
    let paint = console.paint(OutputStream::Output);
    let inked = |word: &str| {
        let ink = match word {
            "failed" => Ink::Wrong,
            "passed" => Ink::Calm,
            _ => Ink::Faint,
        };
        paint.ink(ink, &format!("{word:<10}"))
    };
    outln!(
        console,
        "{}{}",
        inked(tested.state),
        paint.ink(Ink::Strong, tested.test)
    );
    for case in &tested.cases {
        let group = if case.group.is_empty() {
            String::new()
        } else {
            format!("{} ", case.group)
        };
        outln!(
            console,
            "  {}{}{}",
            inked(case.outcome.word()),
            paint.ink(Ink::Faint, &group),
            case.name
        );
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

pub fn list(
    console: Console,
    choice: &Choice,
    words: &[String],
    which: Which,
) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    if which.since.is_some() {
        session.take_notes();
    }
    let patterns = patterns(console, &mut session, words)?;
    let evaluation = evaluate(console, &mut session, &patterns)?;
    let reached = match &which.since {
        Some(revision) => Some(affected(console, &session, &evaluation, revision)?),
        None => None,
    };
    let listed = reached
        .as_ref()
        .map_or(&evaluation.targets, |reached| &reached.targets);
    let exit = list_targets(console, &mut session, &evaluation, listed, &which)?;
    if let Some(reached) = &reached {
        // What is left out belongs to no package of the list.
        if reached.skipped().is_some() && !reached.targets.is_empty() && !console.is_json() {
            outln!(console);
        }
        say_skipped(console, reached);
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
    let meant = TargetsOf {
        kind: which.kind.as_deref(),
        tag: which.tag.as_deref(),
    };
    let targets = meant
        .among(&all)
        .map_err(|nothing| nothing_of_that(console, &nothing))?;
    if which.cases {
        let chosen: HashSet<&str> = targets.iter().map(|target| &*target.address).collect();
        let is_chosen = |id: &TargetId| chosen.contains(&*graph.target(*id).address);
        let targets: HashSet<TargetId> = listed.iter().copied().filter(is_chosen).collect();
        list_cases(console, session, graph, &targets);
        return Ok(Exit::Done);
    }
    if which.count {
        count_kinds(console, &targets);
        return Ok(Exit::Done);
    }
    let entries = EntryCounts::of(graph);
    if console.is_json() {
        targets
            .iter()
            .for_each(|target| console.event(&TargetEvent::of(target, &entries)));
        return Ok(Exit::Done);
    }
    out!(
        console,
        "{}",
        render(&targets, &entries, console.paint(OutputStream::Output))
    );
    Ok(Exit::Done)
}

fn render(targets: &[&Target], entries: &EntryCounts<'_>, paint: Paint) -> String {
    let mut packages: BTreeMap<&str, Vec<(&Target, Cow<'_, str>)>> = BTreeMap::new();
    for target in targets {
        packages
            .entry(target.package.as_str())
            .or_default()
            .push((target, entries.kind(target)));
    }
    let name = |t: &Target| t.address.rsplit('/').next().unwrap_or("").to_owned();
    let names = targets
        .iter()
        .map(|t| width(&name(t)))
        .max()
        .unwrap_or(0)
        .min(32);
    let kinds = packages
        .values()
        .flatten()
        .map(|(_, kind)| width(kind))
        .max()
        .unwrap_or(0);
    let mut out = String::new();
    for (package, mut targets) in packages {
        if !out.is_empty() {
            out.push('\n');
        }
        let title = if package.is_empty() {
            "the workspace's root"
        } else {
            package
        };
        out.push_str(&format!("{}\n", paint.ink(Ink::Strong, title)));
        targets.sort_by(|(a, _), (b, _)| {
            (a.role, &a.kind, &a.address).cmp(&(b.role, &b.kind, &b.address))
        });
        for (target, kind) in targets {
            let kind = paint.ink(Ink::Calm, &padded(&kind, kinds));
            let room = paint
                .width
                .map_or(usize::MAX, |w| w.saturating_sub(2 + kinds + 2 + names + 3));
            let tags: String = target.tags.iter().map(|t| format!("  #{t}")).collect();
            let more = paint.glyph("…", "...");
            // Tags are what one types: they stay, and a sentence gives way.
            let documentation = cut(
                &target.documentation,
                room.saturating_sub(width(&tags)),
                more,
            );
            let documentation = cut(format!("{documentation}{tags}").trim_start(), room, more);
            let documentation = paint.ink(Ink::Faint, &documentation);
            let line = format!(
                "  {kind}  {}   {documentation}",
                padded(&name(target), names)
            );
            out.push_str(line.trim_end());
            out.push('\n');
        }
    }
    out
}
