//! The commands, one file each, and what they share.

mod adopt;
mod agree;
mod build;
mod cache;
mod cache_file;
mod chosen_tests;
mod clean;
mod completions;
mod coverage;
mod demo;
mod doctor;
mod editor;
mod evaluating;
mod explain;
mod explore;
mod fmt;
pub mod graph;
mod history;
mod how;
mod image;
mod init;
mod inside;
mod joining;
mod left_out;
mod lint;
mod list;
mod manual;
mod observe;
mod options;
mod pins;
mod plan;
mod report_file;
mod run;
mod sbom;
mod services;
mod shared;
mod shared_news;
mod shared_upkeep;
mod show;
mod since;
mod test;
mod test_part;
mod tree;
mod verify;
mod watch;
mod watcher;
mod why;
mod why_shared;
mod worker;
mod writing;

use std::mem::ManuallyDrop;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use nubrik_answers::{DiagnosticEvent, NoticeEvent, has_topic, targets_of_file};
use nubrik_confine::CancelSwitch;
use nubrik_diagnostic::Diagnostic;
use nubrik_engine::{Event, Listener, Outreach};
use nubrik_lang::{AddressPattern, Wanted};
use nubrik_session::{BuildProblem, OpenProblem, SETTINGS_FILE, Session};
use nubrik_source::Sources;

use crate::arguments::{
    Arguments, CacheWork, Choice, How, Once, PinsWork, SetupWork, UserCommand, WorkersCommand,
};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, err, errln};
use crate::ui::diagnostics;
use crate::ui::paint::{Ink, Paint};
pub use evaluating::{
    Answering, as_far_as_known, evaluate, evaluate_address, evaluate_with, evaluate_with_all,
    stop_on_errors,
};
use writing::{remove_report, root_around, write_whole};

pub use explain::all_topics;

/// A command that cannot go on has said why, and ends with this.
pub type CommandResult<T> = Result<T, Exit>;

/// The folder in which the program was started, which `-C` may have left.
static STARTED_IN: OnceLock<PathBuf> = OnceLock::new();

/// The folder from which the words of the command line are understood.
pub fn started_in() -> PathBuf {
    STARTED_IN.get().cloned().unwrap_or_default()
}

/// Does what the command line asks for.
pub fn dispatch(arguments: Arguments) -> Exit {
    let console = Console::new(arguments.face);
    let choice = &arguments.choice;
    choice.keep();
    let _ = STARTED_IN.set(std::env::current_dir().unwrap_or_default());
    if let Some(folder) = &choice.directory
        && let Err(e) = std::env::set_current_dir(folder)
    {
        return say_wrong(
            console,
            Exit::Usage,
            &format!("cannot work in {}: {e}", folder.display()),
            &[],
        );
    }
    let result = match arguments.command {
        UserCommand::Init => init::init(console, choice),
        UserCommand::Adopt(adopting) if adopting.check || adopting.update => {
            adopt::update(console, choice, &adopting)
        }
        UserCommand::Adopt(adopting) => adopt::adopt(console, choice, &adopting),
        UserCommand::Demo { dir } => demo::demo(console, &dir),
        UserCommand::Build {
            what,
            how,
            since,
            once: Once { dry_run: true, .. },
            ..
        } => {
            let since = since.as_deref();
            plan::plan(
                console,
                choice,
                &what,
                &plan::Planning {
                    since,
                    jobs: how.jobs,
                    ..Default::default()
                },
            )
        }
        UserCommand::Build {
            what,
            how,
            observe,
            since,
            verify,
            once,
        } => {
            let verify = verify.map_or(0, |share| share.unwrap_or(1_000_000));
            let extras = build::BuildExtras {
                observe,
                since,
                rerun: once.rerun,
                verify,
            };
            build::build(console, choice, &what, how, extras)
        }
        UserCommand::Test {
            tests,
            once: Once { dry_run: true, .. },
        } => test::plan(console, choice, &tests),
        UserCommand::Test { tests, once } => test::test(console, choice, &tests, once.rerun),
        UserCommand::Run(running) => run::meant(console, choice, running.target.as_deref())
            .and_then(|target| run::run(console, choice, &target, &running.args, running.how)),
        UserCommand::Plan {
            what,
            tests,
            chosen,
            if_changed,
            since,
            jobs,
        } => {
            let tests = (tests || chosen.is_any()).then_some(&chosen);
            let planning = plan::Planning {
                tests,
                if_changed: &if_changed,
                since: since.as_deref(),
                jobs,
            };
            plan::plan(console, choice, &what, &planning)
        }
        UserCommand::Why {
            target,
            shared: true,
            ..
        } => why_shared::why_shared(console, choice, &target),
        UserCommand::Why {
            target, need: None, ..
        } => why::why(console, choice, &target),
        UserCommand::Why {
            target,
            need: Some(need),
            ..
        } => how::how(console, choice, &target, &need),
        UserCommand::History { build } => history::history(console, choice, build),
        UserCommand::Watch { work } => watch::watch(console, choice, work.as_ref()),
        UserCommand::Inside { target, step } => {
            inside::inside(console, choice, &target, step.as_deref())
        }
        UserCommand::List {
            what,
            count,
            cases,
            kind,
            tag,
            since,
        } => list::list(
            console,
            choice,
            &what,
            list::Which {
                count,
                cases,
                kind,
                tag,
                since,
            },
        ),
        // No target has an `@` in its name, and every pin has.
        UserCommand::Show {
            target,
            printed: false,
            ..
        } if target.contains('@') => pins::pins(
            console,
            choice,
            Some(&PinsWork::Why {
                name: target,
                registry: None,
            }),
        ),
        UserCommand::Show {
            target,
            all,
            printed,
        } => {
            let part = if printed {
                show::ShownPart::Printed
            } else {
                show::ShownPart::Targets { each: all }
            };
            show::show(console, choice, &target, part)
        }
        UserCommand::Graph {
            what,
            format,
            output,
            depth,
            users,
            packages,
            since,
        } => {
            let drawing = graph::Drawing {
                format,
                output,
                depth,
                users,
                packages,
                since,
            };
            graph::graph(console, choice, &what, &drawing)
        }
        UserCommand::Lsp => editor::serve_editor(console, choice),
        UserCommand::Explore { port, open } => explore::explore(console, choice, port, open),
        UserCommand::Report { merge, files, .. } if !merge.is_empty() => {
            joining::merge(console, &merge, &files)
        }
        UserCommand::Report { what, files, .. } => {
            report_file::report(console, choice, what.as_deref(), &files)
        }
        UserCommand::Options { word } => options::options(console, choice, word.as_deref()),
        UserCommand::Agree { yes } => agree::agree(console, choice, yes),
        UserCommand::Doctor => doctor::doctor(console, choice),
        UserCommand::Explain { topic, all } => explain::explain(console, &topic.join(" "), all),
        UserCommand::Sbom {
            target,
            format,
            output,
        } => sbom::sbom(console, choice, &target, format, output.as_deref()),
        UserCommand::Pins { work } => pins::pins(console, choice, work.as_ref()),
        UserCommand::Image { work } => image::image(console, &work),
        UserCommand::Fmt { files, check } => fmt::fmt(console, &files, check),
        UserCommand::Setup {
            work: SetupWork::Manual { to },
        } => manual::manual(console, &to),
        UserCommand::Setup {
            work: SetupWork::Completions { shell },
        } => completions::completions(console, shell),
        UserCommand::Tree {
            target,
            depth,
            users,
        } => tree::tree(console, choice, &target, depth, users),
        UserCommand::Workers {
            work:
                Some(WorkersCommand::Serve {
                    slots,
                    name,
                    labels,
                    grace,
                    metrics,
                }),
        } => {
            let grace = Duration::from_secs(u64::from(grace));
            let own = worker::WorkerChoice {
                slots,
                name: name.as_deref(),
                labels: &labels,
                grace,
                metrics,
            };
            worker::worker(console, choice, &own)
        }
        UserCommand::Workers { work: None } => worker::workers(console, choice),
        UserCommand::Cache { work } => match work {
            None => cache::cache(console, None),
            Some(CacheWork::Upkeep(upkeep)) => cache::cache(console, Some(upkeep)),
            Some(CacheWork::Save { file }) => cache_file::save(console, choice, &file),
            Some(CacheWork::Load { file }) => cache_file::load(console, &file),
        },
        UserCommand::Shared { work } => shared::shared(console, choice, work.as_ref()),
        UserCommand::Clean { what, cache } => clean::clean(console, choice, &what, cache),
        UserCommand::Lint { strict } => lint::lint(console, choice, strict),
    };
    result.unwrap_or_else(|exit| exit)
}

/// Opens the workspace that this folder belongs to, or says why not.
pub fn open(console: Console, choice: &Choice) -> CommandResult<Session> {
    let here = current_folder(console)?;
    let mut session = open_at(console, &here)?;
    session
        .choose(choice.profile.as_deref(), &choice.set)
        .map_err(|problem| {
            let mends: Vec<&str> = problem.mends.iter().map(String::as_str).collect();
            say_wrong(console, Exit::Usage, &problem.message, &mends)
        })?;
    Ok(session)
}

/// The same for a command that builds: its steps may reach out of this machine, unless that is not
/// wanted.
pub fn open_to_build(console: Console, choice: &Choice, how: How) -> CommandResult<Session> {
    let mut session = open(console, choice)?;
    session.let_reach(if how.offline {
        Outreach::NoNetwork
    } else {
        Outreach::Everything
    });
    if how.no_cache {
        session.keep_no_results();
    }
    if how.portable {
        session.note_what_results_rest_on();
    }
    if !how.no_cache && !how.no_shared_cache {
        shared_news::begin(console, &mut session, how.offline);
    }
    Ok(session)
}

/// Opens the workspace that a folder belongs to, or says why not.
pub fn open_at(console: Console, folder: &Path) -> CommandResult<Session> {
    let cancel = crate::interrupt::cancel_switch().or_else(|_| CancelSwitch::new().map(Arc::new));
    let cancel = cancel.map_err(|e| {
        say_wrong(
            console,
            Exit::Own,
            &format!("cannot listen for signals: {e}"),
            &[],
        )
    })?;
    let mut opened = Session::open(folder, cancel);
    if let Ok(session) = &mut opened {
        crate::ui::plain::name_places_from(&started_in(), &session.workspace.root);
        if session.workspace.settings.watching.keep {
            session.start_watchers_by(watcher::starter(session));
        }
    }
    opened.map_err(|problem| say_not_opened(console, &problem))
}

/// Says why a workspace cannot be opened.
fn say_not_opened(console: Console, problem: &OpenProblem) -> Exit {
    match problem {
        OpenProblem::NoWorkspace(start) => say_wrong(
            console,
            Exit::Usage,
            &format!(
                "no workspace here: neither {} nor a folder above it has a nubrik.toml",
                start.display()
            ),
            &[
                "nubrik init    makes this folder a workspace",
                "nubrik adopt   does, and proposes definitions for the sources that are in it",
                "nubrik demo    unpacks one to look at",
            ],
        ),
        OpenProblem::Settings {
            path,
            text,
            problem,
        } => {
            // As all other files it is named from the workspace's root.
            let root = path.parent().unwrap_or(path);
            crate::ui::plain::name_places_from(&started_in(), root);
            let mut sources = Sources::default();
            let file = sources.add(SETTINGS_FILE, text.as_str().into());
            let mut diagnostic = Diagnostic::error("settings", problem.message.clone())
                .maybe_mend(problem.mend.clone());
            if let Some(range) = &problem.range {
                diagnostic = diagnostic.at(nubrik_source::Span::new(file, range.start, range.end));
            } else {
                diagnostic = diagnostic.note(path.display().to_string());
            }
            report(console, &[diagnostic], &sources);
            Exit::Definitions
        }
        OpenProblem::Io(path, e) => say_wrong(
            console,
            Exit::Own,
            &format!("cannot read {}: {e}", path.display()),
            &[],
        ),
    }
}

/// The folder in which the command was started.
pub fn current_folder(console: Console) -> CommandResult<PathBuf> {
    std::env::current_dir().map_err(|e| {
        let message = format!("cannot find this folder: {e}");
        say_wrong(console, Exit::Own, &message, &[])
    })
}

/// Says what is wrong where no definition is to blame.
pub fn say_wrong(console: Console, exit: Exit, message: &str, mends: &[&str]) -> Exit {
    let diagnostic = mends
        .iter()
        .fold(Diagnostic::error("command", message), |d, m| d.mend(*m));
    report(console, &[diagnostic], &Sources::default());
    exit
}

/// The same with facts besides what to do.
pub fn say_wrong_noted(
    console: Console,
    exit: Exit,
    message: &str,
    notes: &[&str],
    mend: Option<&str>,
) -> Exit {
    let diagnostic = notes
        .iter()
        .fold(Diagnostic::error("command", message), |d, note| {
            d.note(*note)
        });
    report(console, &[diagnostic.maybe_mend(mend)], &Sources::default());
    exit
}

/// Whether this run showed how a code is explained.
static HINTED: AtomicBool = AtomicBool::new(false);

/// Prints diagnostics: for people to standard error, for programs as events.
pub fn report(console: Console, list: &[Diagnostic], sources: &Sources) {
    if console.is_json() {
        list.iter()
            .for_each(|found| console.event(&DiagnosticEvent::of(found, sources)));
    } else {
        let paint = console.paint(OutputStream::Error);
        err!(console, "{}", diagnostics::render(list, sources, paint));
        let in_definitions = list.iter().filter(|d| d.span.is_some());
        let code = in_definitions.map(|d| d.code).find(|code| has_topic(code));
        // Each place has its code: one hint at the first error shows how a code is explained.
        if let Some(code) = code.filter(|_| !paint.plain && !HINTED.swap(true, Ordering::Relaxed)) {
            errln!(
                console,
                "\n{}",
                paint.ink(Ink::Faint, &format!("more    nubrik explain {code}"))
            );
        }
    }
}

/// Says something that a person should know: after a word in a line for people, as a notice for
/// programs.
pub fn say_notice(console: Console, stream: OutputStream, (ink, word): (Ink, &str), text: &str) {
    if console.is_json() {
        return console.event(&NoticeEvent::of(text));
    }
    console.line(stream, &labelled(console.paint(stream), ink, word, text));
}

/// Says that one of the tool's own files cannot be read or written.
pub fn own_problem(console: Console, problem: &BuildProblem) -> Exit {
    let BuildProblem::Own(path, e) = problem;
    say_wrong(
        console,
        Exit::Own,
        &format!("cannot use {}: {e}", path.display()),
        &["check the rights and the space there"],
    )
}

/// The patterns that words of the command line mean: addresses, globs, and paths of files (a result
/// means what makes it, a source what uses it). Without words: everything at and below this folder.
pub fn patterns(
    console: Console,
    session: &mut impl Answering,
    words: &[String],
) -> CommandResult<Vec<AddressPattern>> {
    let folder = &session.session().workspace.folder.clone();
    if words.is_empty() {
        return Ok(vec![AddressPattern::below(folder)]);
    }
    let mut patterns = Vec::new();
    let mut files = Vec::new();
    for word in words {
        let pattern = AddressPattern::new(word, folder).map_err(|problem| {
            say_wrong(
                console,
                Exit::Usage,
                &problem.0,
                &["the path of a target looks like tide/tidecast"],
            )
        })?;
        let path = session.session().workspace.root.join(pattern.path.as_str());
        if !pattern.is_glob() && path.is_file() {
            files.push(pattern)
        } else {
            patterns.push(pattern)
        }
    }
    if !files.is_empty() {
        let root = AddressPattern::below(&nubrik_source::WsPath::root());
        // Freed when this is done: a build may come after it.
        let evaluation = ManuallyDrop::into_inner(evaluate(console, session, &[root])?);
        let (out, root) = (
            session.session().results_folder(),
            nubrik_source::WsPath::root(),
        );
        for file in files {
            let addresses = targets_of_file(&evaluation.graph, &out, &file.path);
            if addresses.is_empty() {
                let message = format!("`{}` is a file that no target makes or uses", file.written);
                let mend = "`nubrik list` shows what there is";
                return Err(say_wrong(console, Exit::Usage, &message, &[mend]));
            }
            patterns.extend(
                addresses
                    .iter()
                    .filter_map(|address| AddressPattern::new(address, &root).ok()),
            );
        }
    }
    Ok(patterns)
}

/// The same patterns, where folders and globs mean some declarations only.
pub fn wanting(patterns: Vec<AddressPattern>, wanted: Wanted) -> Vec<AddressPattern> {
    patterns.into_iter().map(|p| p.wanting(wanted)).collect()
}

/// A listener for commands that run nothing.
pub struct Silent;

impl Listener for Silent {
    fn hear(&self, _: &Event) {}
}

/// A line with a word in front.
pub fn labelled(paint: Paint, ink: Ink, word: &str, text: &str) -> String {
    let text = paint.in_lines(10, text, str::to_owned);
    format!("{}{text}", paint.ink(ink, &format!("{word:<10}")))
}
