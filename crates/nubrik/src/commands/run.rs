//! `nubrik run`

use std::os::unix::fs::PermissionsExt;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::time::Duration;

use nubrik_answers::{JobEvent, ends_well, failed_command, runnable};
use nubrik_graph::{Effect, Role};
use nubrik_lang::{AddressPattern, Evaluation};
use nubrik_session::{EffectEnd, EffectProblem, Results, Session};

use super::build::{Brought, bring_up, build_files, lock, unless_built};
use super::{
    CommandResult, evaluate, labelled, open, open_to_build, patterns, say_wrong, say_wrong_noted,
};
use crate::arguments::{Choice, How};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, errln};
use crate::ui::paint::Ink;
use crate::ui::plain;

/// So many things that could be run are named.
const NAMED: usize = 12;

/// What is to be run: what is named, or the only program, job or service in this folder and below.
pub fn meant(console: Console, choice: &Choice, named: Option<&str>) -> CommandResult<String> {
    if let Some(named) = named {
        return Ok(named.to_owned());
    }
    let mut session = open(console, choice)?;
    let everything = patterns(console, &mut session, &[])?;
    let evaluation = evaluate(console, &mut session, &everything)?;
    // On the command line a path begins in the folder where one is, unless a slash is before it.
    let slash = if session.workspace.folder.is_root() {
        ""
    } else {
        "/"
    };
    let all: Vec<String> = runnable(&evaluation)
        .into_iter()
        .map(|address| format!("{slash}{address}"))
        .collect();
    match all.as_slice() {
        [one] => Ok(one.clone()),
        [] => {
            let message = "there is no program, job or service in this folder and below";
            Err(say_wrong(
                console,
                Exit::Usage,
                message,
                &["nubrik list   lists what there is"],
            ))
        }
        several => {
            let message = format!("{} things can be run here: name one of them", several.len());
            let mut mends: Vec<String> = several
                .iter()
                .take(NAMED)
                .map(|target| format!("nubrik run {target}"))
                .collect();
            if several.len() > NAMED {
                mends.push(format!("and {} more: nubrik list", several.len() - NAMED));
            }
            let mends: Vec<&str> = mends.iter().map(String::as_str).collect();
            Err(say_wrong(console, Exit::Usage, &message, &mends))
        }
    }
}

pub fn run(
    console: Console,
    choice: &Choice,
    address: &str,
    args: &[String],
    how: How,
) -> CommandResult<Exit> {
    let mut session = open_to_build(console, choice, how)?;
    let mut workshop = lock(console, &mut session)?;
    let patterns = patterns(console, &mut workshop, &[address.to_owned()])?;
    let check = |evaluation: &Evaluation| match evaluation.services.is_empty()
        && evaluation.effects.is_empty()
    {
        true => refuse_others(console, address, &patterns, evaluation),
        false => Ok(()),
    };
    // What is built goes to standard error: standard output is the program's.
    let evaluation = match bring_up(
        console,
        &mut workshop,
        &patterns,
        how,
        OutputStream::Error,
        check,
    )? {
        Brought::MakesNothing(evaluation) => evaluation,
        Brought::Built(report) => {
            if let Some(exit) = unless_built(console, &report) {
                return Ok(exit);
            }
            let root = workshop.workspace.root.clone();
            drop(workshop);
            drop(session);
            return start(console, &root, address, args, &report.results);
        }
    };
    let serves = !evaluation.services.is_empty();
    if serves {
        super::services::check(console, &evaluation, address)?;
    }
    let needed = (&*evaluation, &*evaluation.requested);
    let report = build_files(
        console,
        &mut workshop,
        &patterns,
        needed,
        how,
        OutputStream::Error,
    )?;
    if let Some(exit) = unless_built(console, &report) {
        return Ok(exit);
    }
    // Others may build while it goes on.
    drop(workshop);
    match serves {
        true => super::services::run(console, &session, &evaluation),
        false => run_job(console, &session, &evaluation, args),
    }
}

/// Stops where the address means a test, or a folder with jobs.
fn refuse_others(
    console: Console,
    address: &str,
    patterns: &[AddressPattern],
    evaluation: &Evaluation,
) -> CommandResult<()> {
    let graph = &evaluation.graph;
    let targets: Vec<_> = evaluation
        .targets
        .iter()
        .map(|t| graph.target(*t))
        .collect();
    if let [one] = targets.as_slice()
        && one.role == Role::Test
    {
        let message = format!("`{address}` is a test");
        return Err(say_wrong(
            console,
            Exit::Usage,
            &message,
            &[&format!("nubrik test {address}")],
        ));
    }
    let is_folder = patterns.iter().any(|p| p.is_glob()) || targets.len() > 1;
    let jobs = targets
        .iter()
        .filter(|t| matches!(t.role, Role::Job | Role::Service));
    let mends: Vec<String> = jobs.map(|t| format!("nubrik run {}", t.address)).collect();
    if is_folder && !mends.is_empty() {
        let mends: Vec<&str> = mends.iter().map(String::as_str).collect();
        return Err(say_wrong(
            console,
            Exit::Usage,
            &format!("`{address}` is several things: say which"),
            &mends,
        ));
    }
    Ok(())
}

/// Does what a job is for. What it uses was built.
fn run_job(
    console: Console,
    session: &Session,
    evaluation: &Evaluation,
    args: &[String],
) -> CommandResult<Exit> {
    let count = evaluation.effects.len();
    for (number, effect) in evaluation.effects.iter().enumerate() {
        if count > 1 || &*effect.step.say != effect.address.rsplit('/').next().unwrap_or("") {
            let paint = console.paint(OutputStream::Error);
            errln!(
                console,
                "{}",
                labelled(paint, Ink::Busy, "does", &effect.step.say)
            );
        }
        let args = if number + 1 == count { args } else { &[] };
        let exit = run_effect(console, session, evaluation, effect, args)?;
        if exit != Exit::Done {
            return Ok(exit);
        }
    }
    Ok(Exit::Done)
}

fn run_effect(
    console: Console,
    session: &Session,
    evaluation: &Evaluation,
    effect: &Effect,
    args: &[String],
) -> CommandResult<Exit> {
    let lent = match effect.step.services.as_slice() {
        [] => None,
        services => Some(super::services::lend(
            console,
            session,
            &effect.address,
            services,
            None,
        )?),
    };
    crate::interrupt::leave_to_children(true);
    let began = std::time::Instant::now();
    // Who reads events gets what the commands print as one of them; something lasting prints as it
    // goes on.
    let mut printed = (console.is_json() && !effect.lasting).then(Vec::new);
    let ended = session.run_effect(
        &evaluation.graph,
        effect,
        args,
        lent.as_ref(),
        printed.as_mut(),
    );
    crate::interrupt::leave_to_children(false);
    if let Some(lent) = lent {
        super::services::give_back(console, session, lent);
    }
    if let Ok(ended) = &ended {
        say_ended(console, effect, *ended, began.elapsed(), printed.as_deref());
    }
    match ended {
        Ok(EffectEnd::Well) => Ok(Exit::Done),
        Ok(ended) if ends_well(effect, ended) => Ok(Exit::Done),
        Ok(EffectEnd::Interrupted) => Ok(Exit::Interrupted),
        Ok(EffectEnd::Failed { code, .. }) => Ok(Exit::Other(u8::try_from(code).unwrap_or(1))),
        Err(problem) => Err(say_problem(console, effect, problem)),
    }
}

/// Says why an effect could not run.
fn say_problem(console: Console, effect: &Effect, problem: EffectProblem) -> Exit {
    let wrong =
        |message: String, mends: &[&str]| say_wrong(console, Exit::Machine, &message, mends);
    match problem {
        EffectProblem::NoSecret(name) => {
            let address = &effect.address;
            let message =
                format!("`{address}` needs the secret `{name}`, and that variable is not set");
            let chosen = crate::arguments::chosen();
            wrong(
                message,
                &[&format!("{name}=… nubrik run{chosen} {address}")],
            )
        }
        EffectProblem::NoTool(problem) => {
            let searched = format!("searched: {}", problem.searched.join(", "));
            let searched = problem.unanswered.is_none().then_some(searched);
            let mends = problem
                .mend
                .as_deref()
                .into_iter()
                .chain(searched.as_deref());
            wrong(problem.to_string(), &mends.collect::<Vec<_>>())
        }
        EffectProblem::NotStarted(program, problem) => wrong(
            format!("cannot start {}: {problem}", program.display()),
            &[],
        ),
        EffectProblem::NotWritten(file, problem) => {
            wrong(format!("cannot write {}: {problem}", file.display()), &[])
        }
    }
}

/// Says how an effect ended: for people where a command failed, with that command; for programs
/// always.
fn say_ended(
    console: Console,
    effect: &Effect,
    ended: EffectEnd,
    took: Duration,
    printed: Option<&[u8]>,
) {
    if console.is_json() {
        return console.event(&JobEvent::of(effect, ended, took.as_secs_f64(), printed));
    }
    let Some((command, code)) = failed_command(effect, ended) else {
        return;
    };
    let (step, commands) = (&effect.step, nubrik_graph::shown_command(&effect.step));
    let paint = console.paint(OutputStream::Error);
    let how = if code > 128 {
        format!("ended by signal {}", code - 128)
    } else {
        format!("exited with code {code}")
    };
    if paint.plain {
        errln!(
            console,
            "{}",
            plain::error_at(
                &step.place.to_string(),
                &format!("{}: {how}", effect.address)
            )
        );
    } else {
        let head = format!("{}   {how}", effect.address);
        errln!(console, "{}", labelled(paint, Ink::Wrong, "failed", &head));
    }
    let line = |label: &str, text: &str| {
        errln!(
            console,
            "  {}  {text}",
            paint.ink(Ink::Calm, &format!("{label:<8}"))
        );
    };
    if let Some(command) = commands.get(command) {
        line("command", command);
    }
    for command in commands.iter().skip(command + 1) {
        line("not run", command);
    }
    line("defined", &step.place.to_string());
}

/// So many of several programs are named.
const PROGRAMS_NAMED: usize = 4;

/// Starts the program that a target makes.
fn start(
    console: Console,
    root: &Path,
    address: &str,
    args: &[String],
    results: &Results,
) -> CommandResult<Exit> {
    let programs: Vec<&str> = results
        .iter()
        .filter(|path| is_program(&root.join(path)))
        .collect();
    let program = match programs.as_slice() {
        [program] => root.join(program),
        [] => {
            let message = format!("`{address}` is no program");
            let makes = results.iter().next().map(|r| format!("it makes {r}"));
            let notes: Vec<&str> = makes.as_deref().into_iter().collect();
            let mend = "nubrik list --kind program   lists programs";
            return Err(say_wrong_noted(
                console,
                Exit::Usage,
                &message,
                &notes,
                Some(mend),
            ));
        }
        several => {
            let message = format!(
                "`{address}` makes {} programs: name one of them",
                several.len()
            );
            // A result means the target that makes it.
            let some = several
                .iter()
                .take(PROGRAMS_NAMED)
                .map(|path| format!("nubrik run /{path}"));
            let some: Vec<String> = some.collect();
            let mends: Vec<&str> = some.iter().map(String::as_str).collect();
            return Err(say_wrong(console, Exit::Usage, &message, &mends));
        }
    };
    // The program takes this one's place: terminal, signals and exit code are its own.
    nubrik_confine::allow_huge_pages(true);
    let problem = std::process::Command::new(&program).args(args).exec();
    Err(say_wrong(
        console,
        Exit::Machine,
        &format!("cannot start {}: {problem}", program.display()),
        &[],
    ))
}

fn is_program(path: &Path) -> bool {
    path.metadata()
        .is_ok_and(|m| m.is_file() && m.permissions().mode() & 0o100 != 0)
}
