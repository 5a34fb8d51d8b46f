//! The commands, one file each, and what they share.

mod audit;
mod build;
mod cache;
mod clean;
mod completions;
mod demo;
mod doctor;
mod explain;
mod fmt;
pub mod graph;
mod history;
mod how;
mod init;
mod inside;
mod lint;
mod list;
mod options;
mod plan;
mod run;
mod services;
mod show;
mod since;
mod test;
mod trace;
mod tree;
mod watch;
mod why;

use std::path::Path;
use std::sync::Arc;

use nubrik_confine::CancelSwitch;
use nubrik_diagnostic::{Diagnostic, Severity};
use nubrik_engine::{Event, Listener};
use nubrik_graph::{Closure, Graph};
use nubrik_lang::{AddressPattern, Evaluation, Wanted};
use nubrik_session::{BuildProblem, OpenProblem, Session, Workshop};
use nubrik_source::Sources;

use crate::arguments::{Arguments, Choice, Command, Face, How};
use crate::exit::Exit;
use crate::ui::out::{err, errln};
use crate::ui::paint::{Ink, Paint};
use crate::ui::screen::Stream;
use crate::ui::{diagnostics, json};

/// A command that cannot go on has said why, and ends with this.
pub type Outcome<T> = Result<T, Exit>;

/// Runs the command that was asked for.
pub fn dispatch(arguments: Arguments) -> Exit {
    let face = arguments.face;
    let choice = &arguments.choice;
    let result = match arguments.command {
        Command::Init => init::init(face),
        Command::Demo { dir } => demo::demo(face, &dir),
        Command::Build { what, how, audit, since } => {
            build::build(face, choice, &what, how, build::Way { audit, since })
        }
        Command::Test(tests) => test::test(face, choice, &tests),
        Command::Run(running) => run::run(face, choice, &running.address, &running.args, running.how),
        Command::Plan { what, if_changed, since } => {
            plan::plan(face, choice, &what, &if_changed, since.as_deref())
        }
        Command::Why { address } => why::why(face, choice, &address),
        Command::History { build } => history::history(face, choice, build),
        Command::Trace { build, to } => trace::trace(face, choice, build, to.as_deref()),
        Command::Watch { work } => watch::watch(face, choice, &work),
        Command::Inside { address, step } => inside::inside(face, choice, &address, step.as_deref()),
        Command::List { what, kinds, cases, kind, tag, since } => {
            list::list(face, choice, &what, list::Which { kinds, cases, kind, tag, since })
        }
        Command::Show { address, printed } => show::show(face, choice, &address, printed),
        Command::How { from, to } => how::how(face, choice, &from, &to),
        Command::Graph { what, format, depth, users, packages } => {
            graph::graph(face, choice, &what, graph::Drawing { format, depth, users, packages })
        }
        Command::Options { word } => options::options(face, choice, word.as_deref()),
        Command::Doctor => doctor::doctor(face, choice),
        Command::Explain { topic, all } => explain::explain(face, topic.as_deref(), all),
        Command::Fmt { files, check } => fmt::fmt(face, &files, check),
        Command::Completions { shell } => completions::completions(shell),
        Command::Tree { address, depth, users } => tree::tree(face, choice, &address, depth, users),
        Command::Cache { work } => cache::cache(face, work),
        Command::Clean { what, store } => clean::clean(face, choice, &what, store),
        Command::Lint => lint::lint(face, choice),
    };
    result.unwrap_or_else(|exit| exit)
}

/// Opens the workspace that this folder belongs to, or says why not.
pub fn open(face: Face, choice: &Choice) -> Outcome<Session> {
    let here = std::env::current_dir()
        .map_err(|e| say_wrong(face, Exit::Own, &format!("cannot find this folder: {e}"), &[]))?;
    let mut session = open_at(face, &here)?;
    session.choose(choice.profile.as_deref(), &choice.set).map_err(|problem| {
        let mends: Vec<&str> = problem.mends.iter().map(String::as_str).collect();
        say_wrong(face, Exit::Usage, &problem.message, &mends)
    })?;
    Ok(session)
}

/// The same for a command that builds: its steps may reach out of this machine.
pub fn open_to_build(face: Face, choice: &Choice) -> Outcome<Session> {
    let mut session = open(face, choice)?;
    session.let_reach_out();
    Ok(session)
}

/// Opens the workspace that a folder belongs to, or says why not.
pub fn open_at(face: Face, folder: &Path) -> Outcome<Session> {
    let cancel = crate::interrupt::cancel_switch().or_else(|_| CancelSwitch::new().map(Arc::new));
    let cancel =
        cancel.map_err(|e| say_wrong(face, Exit::Own, &format!("cannot listen for signals: {e}"), &[]))?;
    Session::open(folder, cancel).map_err(|problem| match problem {
        OpenProblem::NoWorkspace(start) => say_wrong(
            face,
            Exit::Usage,
            &format!(
                "no workspace here: neither {} nor a folder above it has a nubrik.toml",
                start.display()
            ),
            &["nubrik init   makes this folder a workspace", "nubrik demo   unpacks one to look at"],
        ),
        OpenProblem::Settings { path, text, problem } => {
            let mut sources = Sources::default();
            let file = sources.add(&path.display().to_string(), text.into());
            let mut diagnostic = Diagnostic::error("settings", problem.message).maybe_mend(problem.mend);
            if let Some(range) = problem.range {
                diagnostic = diagnostic.at(nubrik_source::Span::new(file, range.start, range.end));
            } else {
                diagnostic = diagnostic.note(path.display().to_string());
            }
            report(face, &[diagnostic], &sources);
            Exit::Definitions
        }
        OpenProblem::Io(path, e) => {
            say_wrong(face, Exit::Own, &format!("cannot read {}: {e}", path.display()), &[])
        }
    })
}

/// Says what is wrong where no definition is to blame.
pub fn say_wrong(face: Face, exit: Exit, message: &str, mends: &[&str]) -> Exit {
    let diagnostic = mends.iter().fold(Diagnostic::error("command", message), |d, m| d.mend(*m));
    report(face, &[diagnostic], &Sources::default());
    exit
}

/// Prints diagnostics: for people to standard error, for programs as events.
pub fn report(face: Face, list: &[Diagnostic], sources: &Sources) {
    if face.json {
        json::diagnostics(list, sources);
    } else {
        let paint = Paint::for_stderr(face.plain);
        err!("{}", diagnostics::render(list, sources, paint));
        // What there is more to know, once for all of them.
        let in_definitions = list.iter().filter(|d| d.span.is_some());
        let mut codes: Vec<&str> = in_definitions.map(|d| d.code).filter(|c| explain::has_topic(c)).collect();
        codes.sort_unstable();
        codes.dedup();
        if !codes.is_empty() && codes.len() <= 4 {
            let commands = codes.iter().map(|c| format!("nubrik explain {c}")).collect::<Vec<_>>().join(", ");
            errln!("\n{}", paint.ink(Ink::Faint, &format!("more    {commands}")));
        }
    }
}

/// Says that one of the tool's own files cannot be read or written.
pub fn own_problem(face: Face, problem: BuildProblem) -> Exit {
    let BuildProblem::Own(path, e) = problem;
    say_wrong(
        face,
        Exit::Own,
        &format!("cannot use {}: {e}", path.display()),
        &["check the rights and the space there"],
    )
}

/// Whoever finds answers that definitions wait for: a session, which takes the lock for that alone, or one that holds it.
pub trait Answering {
    /// To evaluate with.
    fn session(&self) -> &Session;

    /// Runs the scans that an evaluation waits for; shown as steps when `shown` says how, else only their failures are.
    fn answer(&mut self, face: Face, evaluation: &Evaluation, shown: Option<(How, Stream)>) -> Outcome<()>;
}

impl Answering for Session {
    fn session(&self) -> &Session {
        self
    }

    fn answer(&mut self, face: Face, evaluation: &Evaluation, shown: Option<(How, Stream)>) -> Outcome<()> {
        build::answer_scans(face, &mut build::lock(face, self)?, evaluation, shown)
    }
}

impl Answering for Workshop<'_> {
    fn session(&self) -> &Session {
        self
    }

    fn answer(&mut self, face: Face, evaluation: &Evaluation, shown: Option<(How, Stream)>) -> Outcome<()> {
        build::answer_scans(face, self, evaluation, shown)
    }
}

/// Evaluates, and stops with the errors if there are any. Scans that definitions wait for are run
/// without a word, unless they fail.
pub fn evaluate(
    face: Face,
    session: &mut impl Answering,
    patterns: &[AddressPattern],
) -> Outcome<Evaluation> {
    evaluate_with(face, session, None, |session| session.evaluate(patterns))
}

/// Evaluates what an address means. Scans are shown on standard error.
pub fn evaluate_address(face: Face, workshop: &mut Workshop<'_>, address: &str) -> Outcome<Evaluation> {
    let patterns = patterns(face, workshop, &[address.to_owned()])?;
    let shown = Some((How::default(), Stream::Error));
    evaluate_with(face, workshop, shown, |s| s.evaluate(&patterns))
}

/// Evaluates as often as answers of scans are missing. Scans are shown as steps when `shown` says how.
pub fn evaluate_with(
    face: Face,
    session: &mut impl Answering,
    shown: Option<(How, Stream)>,
    once: impl Fn(&Session) -> Evaluation,
) -> Outcome<Evaluation> {
    let evaluation = answered(session, once, |session, evaluation| {
        // What is wrong anyway is said first.
        let evaluation = stop_on_errors(face, evaluation)?;
        session.answer(face, &evaluation, shown)
    })?;
    stop_on_errors(face, evaluation)
}

/// Evaluates until no answer is missing that can be found; `find` finds those that one evaluation waits for.
pub fn answered<S: Answering>(
    session: &mut S,
    once: impl Fn(&Session) -> Evaluation,
    mut find: impl FnMut(&mut S, Evaluation) -> Outcome<()>,
) -> Outcome<Evaluation> {
    loop {
        let evaluation = once(session.session());
        if !evaluation.waiting || evaluation.scans.is_empty() {
            return Ok(evaluation);
        }
        find(session, evaluation)?;
    }
}

/// Evaluates everything with its warnings; errors are the caller's to print.
pub fn evaluate_with_all(face: Face, session: &mut Session) -> Outcome<Evaluation> {
    answered(session, Session::lint, |session, evaluation| session.answer(face, &evaluation, None))
}

/// Prints errors, and stops if there are any.
pub fn stop_on_errors(face: Face, evaluation: Evaluation) -> Outcome<Evaluation> {
    let errors: Vec<Diagnostic> =
        evaluation.diagnostics.iter().filter(|d| d.severity == Severity::Error).cloned().collect();
    if errors.is_empty() {
        return Ok(evaluation);
    }
    report(face, &errors, &evaluation.sources);
    if !face.json && errors.len() > 1 {
        errln!("\n{} errors", errors.len());
    }
    // Only the command line was wrong when nothing has a place.
    let of_words = ["unknown-address", "unknown-option", "option-value"];
    let usage = errors.iter().all(|e| e.span.is_none() && of_words.contains(&e.code));
    Err(if usage { Exit::Usage } else { Exit::Definitions })
}

/// The patterns that words of the command line mean: addresses, globs, and paths of files (a result
/// means what makes it, a source what uses it). Without words: everything at and below this folder.
pub fn patterns(face: Face, session: &mut impl Answering, words: &[String]) -> Outcome<Vec<AddressPattern>> {
    let folder = &session.session().workspace.folder.clone();
    if words.is_empty() {
        return Ok(vec![AddressPattern::below(folder)]);
    }
    let mut patterns = Vec::new();
    let mut files = Vec::new();
    for word in words {
        let pattern = AddressPattern::new(word, folder).map_err(|problem| {
            say_wrong(face, Exit::Usage, &problem.0, &["addresses look like tide/tidecast"])
        })?;
        let path = session.session().workspace.root.join(pattern.path.as_str());
        if !pattern.is_glob() && path.is_file() { files.push(pattern) } else { patterns.push(pattern) }
    }
    if !files.is_empty() {
        let root = AddressPattern::below(&nubrik_source::WsPath::root());
        let evaluation = evaluate(face, session, &[root])?;
        for file in files {
            patterns.extend(targets_of_file(face, session.session(), &evaluation.graph, &file)?);
        }
    }
    Ok(patterns)
}

/// The same patterns, where folders and globs mean some declarations only.
pub fn wanting(patterns: Vec<AddressPattern>, wanted: Wanted) -> Vec<AddressPattern> {
    patterns.into_iter().map(|p| p.wanting(wanted)).collect()
}

fn targets_of_file(
    face: Face,
    session: &Session,
    graph: &Graph,
    file: &AddressPattern,
) -> Outcome<Vec<AddressPattern>> {
    let mut addresses: Vec<&str> = Vec::new();
    let out = session.results_folder();
    for target in &graph.targets {
        let makes =
            target.results.iter().filter(|r| file.path.as_str() == format!("{out}/{}", r.publish.as_str()));
        addresses.extend(makes.map(|r| &*r.address));
    }
    if addresses.is_empty()
        && let Some(id) = graph.files.iter().position(|f| f.path == file.path)
    {
        let id = nubrik_graph::FileId(id as u32);
        for target in graph.targets.iter().filter(|t| t.is_declared()) {
            let steps = Closure::of(graph, target.results.iter().map(|r| r.file)).steps;
            let uses = |s: &nubrik_graph::StepId| graph.declares(graph.step(*s), id);
            if steps.iter().any(uses) {
                addresses.push(&target.address);
            }
        }
    }
    if addresses.is_empty() {
        let message = format!("`{}` is a file that no target makes or uses", file.written);
        return Err(say_wrong(face, Exit::Usage, &message, &["`nubrik list` shows what there is"]));
    }
    let root = nubrik_source::WsPath::root();
    Ok(addresses.iter().filter_map(|a| AddressPattern::new(a, &root).ok()).collect())
}

/// A listener for commands that run nothing.
pub struct Silent;

impl Listener for Silent {
    fn hear(&self, _: &Event) {}
}

/// Where standard output goes, seen as the command asks.
pub fn paint(face: Face) -> Paint {
    Paint::for_stdout(face.plain || face.json)
}

/// A line with a word in front.
pub fn labelled(paint: Paint, ink: Ink, word: &str, text: &str) -> String {
    format!("{}{text}", paint.ink(ink, &format!("{word:<10}")))
}
