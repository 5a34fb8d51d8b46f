//! `nubrik test`

use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::Path;

use nubrik_answers::{ChosenTests, Round, TestEnd, TestResult, Unevaluated, accounts_of_lines};
use nubrik_engine::{Event, Listener};
use nubrik_graph::{FileId, Graph, StepId};
use nubrik_lang::{AddressPattern, Evaluation, Wanted};
use nubrik_reports::cases::{Suite, TestReport};
use nubrik_reports::parts::PartMark;
use nubrik_session::Workshop;
use parking_lot::Mutex;

use super::build::{lock, options_of, screen_for};
use super::chosen_tests::choose;
use super::coverage;
use super::left_out::{self, PartEvaluated};
use super::shared_news;
use super::test_part::{keep_part, read_times};
use super::{CommandResult, open_to_build, own_problem, patterns, say_notice, say_wrong, wanting};
use crate::arguments::{Choice, How, Testing, WhichTests};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream};
use crate::ui::paint::Ink;
use crate::ui::verdicts as ui;

pub fn test(
    console: Console,
    choice: &Choice,
    tests: &Testing,
    rerun: bool,
) -> CommandResult<Exit> {
    let mut session = open_to_build(console, choice, tests.how)?;
    coverage::choose(&mut session, &tests.which);
    let mut workshop = lock(console, &mut session)?;
    let patterns = wanting(
        patterns(console, &mut workshop, &tests.what)?,
        Wanted::Tests,
    );
    let exit = run(
        console,
        &mut workshop,
        &patterns,
        tests.how,
        &tests.which,
        rerun,
    )?;
    drop(workshop);
    shared_news::required(console, &session, tests.how.require_shared_cache, exit)
}

/// Says what a run of the chosen tests would run.
pub fn plan(console: Console, choice: &Choice, tests: &Testing) -> CommandResult<Exit> {
    let which = &tests.which;
    let of_runs = [
        (which.repeat.is_some(), "--repeat"),
        (which.retries.is_some(), "--retries"),
        (which.junit.is_some(), "--junit"),
        (!which.coverage_file.is_empty(), "--coverage-file"),
    ];
    if let Some((_, option)) = of_runs.into_iter().find(|(given, _)| *given) {
        let message = format!("`{option}` cannot be used with `--dry-run`: no test runs");
        return Err(say_wrong(console, Exit::Usage, &message, &[]));
    }
    let mut session = super::open(console, choice)?;
    coverage::choose(&mut session, which);
    if which.since.is_some() {
        session.take_notes();
    }
    let patterns = wanting(patterns(console, &mut session, &tests.what)?, Wanted::Tests);
    let evaluation = super::evaluate(console, &mut session, &patterns)?;
    let mut chosen = choose(
        console,
        &session,
        &evaluation,
        (&which.chosen, which.since.as_deref()),
    )?;
    if let Some(part) = which.part {
        let times = read_times(console, which.times.as_deref())?;
        keep_part(
            console,
            &evaluation.graph,
            (part, times.as_ref()),
            &mut chosen,
        );
    }
    let files = chosen.files();
    super::plan::show_files(console, &session, &evaluation, &files, tests.how.jobs);
    ui::show_skipped(console, &chosen.left_out);
    Ok(Exit::Done)
}

/// Runs the chosen ones of some tests.
pub fn run(
    console: Console,
    session: &mut Workshop<'_>,
    patterns: &[AddressPattern],
    how: How,
    which: &WhichTests,
    rerun: bool,
) -> CommandResult<Exit> {
    let times = read_times(console, which.times.as_deref())?;
    // A report of before would tell of other tests. Its times may be wanted.
    if let Some(file) = &which.junit {
        super::remove_report(file);
    }
    let PartEvaluated {
        evaluation,
        patterns,
        left_out,
    } = left_out::evaluate_part(console, session, patterns, (how, OutputStream::Output))?;
    // One failing test says nothing of the others.
    let how = How {
        keep_going: true,
        ..how
    };
    let graph = &evaluation.graph;
    let wished = (&which.chosen, which.since.as_deref());
    let mut chosen = choose(console, session, &evaluation, wished)?;
    let mark = which
        .part
        .map(|part| keep_part(console, graph, (part, times.as_ref()), &mut chosen));
    let ChosenTests {
        tests: chosen,
        left_out: left,
    } = chosen;
    let verdicts: Vec<FileId> = chosen.iter().map(|(file, _)| *file).collect();
    let mut again: Vec<StepId> = chosen.iter().map(|(_, step)| *step).collect();
    if which.repeat.is_none() && !rerun {
        again.clear();
    }
    let mut wanted = verdicts.clone();
    if which.coverage {
        if !how.quiet {
            coverage::say_cost(console, session, &evaluation, &verdicts);
        }
        // Where a shared cache has the verdicts alone, these are downloaded, too.
        wanted.extend(accounts_of_lines(graph, &verdicts));
    }
    let tried = TestsToRun {
        patterns: &patterns,
        evaluation: &evaluation,
        chosen: &chosen,
        wanted: &wanted,
        again: &again,
    };
    let (repeat, retries) = (which.repeat.unwrap_or(1), which.retries.unwrap_or(0));
    let mut ended = tried.repeated(console, session, how, repeat)?;
    tried.run_failed_again(console, session, how, retries, &mut ended)?;
    let done = (!ended.cancelled).then_some((graph, verdicts.as_slice()));
    shared_news::conclude(console, session, done, OutputStream::Output);
    if let (Some(file), Some(last)) = (&which.junit, ended.rounds.last()) {
        write_report(console, file, (last, mark), &left_out)?;
    }
    let (face, of_tests) = ((how, which), (&evaluation, &left));
    show_end(console, session, of_tests, face, &ended, &left_out)
}

/// Shows what became of all rounds, and says how the command ends.
fn show_end(
    console: Console,
    session: &Workshop<'_>,
    (evaluation, left): (&Evaluation, &BTreeMap<String, usize>),
    (how, which): (How, &WhichTests),
    ended: &RoundsEnd,
    left_out: &Unevaluated,
) -> CommandResult<Exit> {
    let RoundsEnd {
        rounds,
        micros,
        cancelled,
        machine_lacks,
    } = ended;
    let is_whole = left_out.addresses.is_empty();
    let last = rounds.last();
    let any_failed = rounds.iter().any(Round::has_failed);
    // For programs the sum of tests comes last.
    let mut is_read = true;
    let mut show_lines = |is_json: bool| -> CommandResult<()> {
        if let Some(last) =
            last.filter(|_| which.coverage && !cancelled && console.is_json() == is_json)
        {
            let passed: Vec<StepId> = last
                .results
                .iter()
                .filter(|r| r.passed)
                .map(|r| r.step)
                .collect();
            is_read = coverage::show(console, session, evaluation, &passed, which)?;
        }
        Ok(())
    };
    show_lines(true)?;
    if last.is_some() && (!how.quiet || console.is_json() || any_failed || *cancelled) {
        let graph = &evaluation.graph;
        ui::show(
            console,
            graph,
            rounds,
            left,
            *micros,
            *cancelled,
            left_out.addresses.len(),
        );
    }
    show_lines(false)?;
    left_out::remind(console, &left_out.addresses, OutputStream::Output);
    Ok(match any_failed || !is_read {
        _ if *cancelled => Exit::Interrupted,
        _ if *machine_lacks => Exit::Machine,
        true => Exit::Failed,
        false if !is_whole => Exit::Definitions,
        false => Exit::Done,
    })
}

/// The tests that are run, and of what.
struct TestsToRun<'a> {
    patterns: &'a [AddressPattern],
    evaluation: &'a Evaluation,
    chosen: &'a [(FileId, StepId)],
    /// Their verdicts, and what else is wanted of them.
    wanted: &'a [FileId],
    /// Those that run though nothing changed.
    again: &'a [StepId],
}

/// What became of all rounds.
struct RoundsEnd {
    rounds: Vec<Round>,
    /// Of all rounds together.
    micros: u64,
    cancelled: bool,
    machine_lacks: bool,
}

impl TestsToRun<'_> {
    fn repeated(
        &self,
        console: Console,
        session: &mut Workshop<'_>,
        how: How,
        repeats: u32,
    ) -> CommandResult<RoundsEnd> {
        let graph = &self.evaluation.graph;
        let mut ended = RoundsEnd {
            rounds: Vec::new(),
            micros: 0,
            cancelled: false,
            machine_lacks: false,
        };
        for _ in 0..repeats {
            let screen = screen_for(console, session, graph, OutputStream::Output, how);
            let heard = TestListener {
                screen: &screen,
                graph,
                done: Mutex::default(),
            };
            let options = options_of(session, how);
            let report = screen.during(|| {
                session.test(
                    self.patterns,
                    self.evaluation,
                    self.wanted,
                    self.again,
                    &heard,
                    options,
                )
            });
            let done = heard.done.into_inner();
            drop(screen);
            let report = report.map_err(|problem| own_problem(console, &problem))?;
            ended.micros += report.micros;
            ended.cancelled |= report.cancelled;
            ended.machine_lacks |= report.machine_lacks;
            let results = self.chosen.iter();
            let results = results.filter_map(|(_, step)| {
                Some(TestResult::of(session, graph, *step, done.get(step)?))
            });
            ended.rounds.push(Round {
                results: results.collect(),
                summary: report.summary,
            });
            if ended.cancelled {
                break;
            }
        }
        Ok(ended)
    }

    /// Runs tests again that failed, until all passed, at most so many times. What becomes of them
    /// then counts.
    fn run_failed_again(
        &self,
        console: Console,
        session: &mut Workshop<'_>,
        how: How,
        retries: u32,
        ended: &mut RoundsEnd,
    ) -> CommandResult<()> {
        for number in 1..=retries {
            let Some(round) = ended.rounds.last().filter(|_| !ended.cancelled) else {
                break;
            };
            let failed: HashSet<StepId> = round
                .results
                .iter()
                .filter(|result| result.is_to_run_again())
                .map(|r| r.step)
                .collect();
            if failed.is_empty() {
                break;
            }
            let chosen: Vec<(FileId, StepId)> = self
                .chosen
                .iter()
                .filter(|(_, step)| failed.contains(step))
                .copied()
                .collect();
            let again: Vec<StepId> = chosen.iter().map(|(_, step)| *step).collect();
            let tests = nubrik_wording::counted(chosen.len(), "test");
            let text = format!("{tests} failed; trying again, {number} of {retries}");
            if !how.quiet {
                say_notice(console, OutputStream::Output, (Ink::Doubt, "notice"), &text);
            }
            let mut wanted: Vec<FileId> = chosen.iter().map(|(file, _)| *file).collect();
            if self.wanted.len() > self.chosen.len() {
                wanted.extend(accounts_of_lines(&self.evaluation.graph, &wanted));
            }
            let tried = TestsToRun {
                chosen: &chosen,
                wanted: &wanted,
                again: &again,
                ..*self
            };
            let next = tried.repeated(console, session, how, 1)?;
            ended.micros += next.micros;
            ended.cancelled |= next.cancelled;
            ended.machine_lacks |= next.machine_lacks;
            if let (Some(round), Some(next)) =
                (ended.rounds.last_mut(), next.rounds.into_iter().next())
            {
                round.take_over(next);
            }
        }
        Ok(())
    }
}

/// Tells events on, and keeps those of tests.
struct TestListener<'s, 'g> {
    screen: &'s crate::ui::screen::Screen<'g>,
    graph: &'g Graph,
    done: Mutex<HashMap<StepId, TestEnd>>,
}

impl Listener for TestListener<'_, '_> {
    fn hear(&self, event: &Event) {
        if let Event::Done {
            step,
            verdict,
            reason,
            micros,
            failure,
            printed,
            machine: _,
        } = event
            && self.graph.step(*step).check.is_some()
        {
            let (reason, failure, printed) = (reason.clone(), failure.clone(), printed.clone());
            let done = TestEnd {
                verdict: *verdict,
                reason,
                micros: *micros,
                failure,
                printed,
            };
            self.done.lock().insert(*step, done);
        }
        self.screen.hear(event);
    }
}

fn write_report(
    console: Console,
    file: &Path,
    (round, mark): (&Round, Option<PartMark>),
    left_out: &Unevaluated,
) -> CommandResult<()> {
    let suites: Vec<Suite> = round
        .results
        .iter()
        .map(TestResult::suite)
        .chain(left_out.suites())
        .collect();
    super::write_whole(file, &TestReport { suites, mark }.to_xml()).map_err(|e| {
        say_wrong(
            console,
            Exit::Own,
            &format!("cannot write the report {}: {e}", file.display()),
            &["name a file in a folder that can be written"],
        )
    })
}
