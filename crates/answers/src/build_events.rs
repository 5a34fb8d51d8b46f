//! What happens in a build, for programs: the events of its steps, of what is refused and noticed,
//! and its sum.

use std::path::Path;

use nubrik_diagnostic::{Diagnostic, Severity};
use nubrik_engine::{Event, Failure, Refusal, StepCounts, Summary, Verdict, survived};
use nubrik_graph::{Effect, Graph, StepId, shown_command};
use nubrik_session::EffectEnd;
use nubrik_source::Sources;
use serde::Serialize;

use crate::{rounded, seconds};

/// Version of the events.
const VERSION: u32 = 1;

/// A build begins that looks at so many steps.
#[derive(Serialize)]
pub struct BeganEvent {
    event: &'static str,
    version: u32,
    steps: usize,
}

impl BeganEvent {
    /// The event about so many steps.
    pub fn of(steps: usize) -> BeganEvent {
        BeganEvent {
            event: "began",
            version: VERSION,
            steps,
        }
    }
}

/// What became of a step.
#[derive(Serialize)]
pub struct StepEvent<'a> {
    event: &'static str,
    state: &'static str,
    target: &'a str,
    #[serde(skip_serializing_if = "str::is_empty")]
    variant: &'a str,
    say: &'a str,
    reason: String,
    reason_code: &'static str,
    seconds: f64,
    /// The other machine that ran it.
    #[serde(skip_serializing_if = "Option::is_none")]
    machine: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    command: Option<Vec<String>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    printed: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    failure: Option<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    wrote: Vec<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[serde(rename = "try")]
    mends: Vec<String>,
}

impl<'a> StepEvent<'a> {
    /// The event about a step that is done; nothing where the build says something else. Its
    /// command is in it where it failed, or where it ran and `with_commands` asks for that. `root`
    /// is that of the workspace.
    pub fn of(
        graph: &'a Graph,
        heard: &'a Event,
        root: &Path,
        with_commands: bool,
    ) -> Option<StepEvent<'a>> {
        let Event::Done {
            step: id,
            verdict,
            reason,
            micros,
            printed,
            failure,
            machine,
        } = heard
        else {
            return None;
        };
        let step = graph.step(*id);
        let text = String::from_utf8_lossy(printed);
        let failure = failure.as_ref();
        let mends = failure
            .map(|f| f.readings(graph, *id, printed))
            .unwrap_or_default();
        let shows_command = failure.is_some() || (with_commands && *verdict == Verdict::Ran);
        Some(StepEvent {
            event: "step",
            state: verdict.word(),
            target: &graph.target(step.target).address,
            variant: &step.variant,
            say: &step.say,
            reason: reason.to_string(),
            reason_code: reason.code(),
            seconds: seconds(*micros),
            machine: machine.as_deref(),
            command: shows_command.then(|| shown_command(step)),
            printed: (!text.is_empty()).then(|| text.into_owned()),
            failure: failure.map(ToString::to_string),
            wrote: failure
                .map(|f| wrote(graph, *id, f, root))
                .unwrap_or_default(),
            mends: mends
                .into_iter()
                .filter(|m| m.0 == "try")
                .map(|m| m.1)
                .collect(),
        })
    }
}

/// Outputs that commands wrote before they failed: a report, a list, half of a result. They are
/// there until the step runs again. Paths are from the workspace's root; what is empty is left out.
pub fn wrote(graph: &Graph, id: StepId, failure: &Failure, root: &Path) -> Vec<String> {
    match failure {
        Failure::Observed { first, .. } => return wrote(graph, id, first, root),
        Failure::Code(_) | Failure::Signal(_) | Failure::TimedOut { .. } => {}
        Failure::Cases { .. } | Failure::BadReport { .. } | Failure::NoOutput { .. } => {}
        Failure::EarlyChanged { .. } | Failure::NoAnswer { .. } => {}
        // Nothing ran, or what is there is said in other words.
        Failure::NotStarted { .. }
        | Failure::NoTool(_)
        | Failure::NoInput { .. }
        | Failure::NeedsBuild
        | Failure::NoRoot { .. }
        | Failure::Offline
        | Failure::InputMoved { .. }
        | Failure::Service(_)
        | Failure::NoRoom
        | Failure::OddOutput { .. }
        | Failure::Undeclared { .. }
        | Failure::NoListing { .. }
        | Failure::StrangeListing { .. }
        | Failure::ToldSecret { .. }
        | Failure::NoMachine { .. }
        | Failure::There { .. }
        | Failure::Native { .. }
        | Failure::Machine { .. } => return Vec::new(),
    }
    let paths = graph
        .step(id)
        .outputs
        .iter()
        .map(|output| graph.file(output.file).path.as_str());
    let is_something = |path: &&str| match std::fs::symlink_metadata(root.join(path)) {
        Ok(data) if data.is_dir() => {
            std::fs::read_dir(root.join(path)).is_ok_and(|mut all| all.next().is_some())
        }
        Ok(data) => data.is_file() && data.len() > 0,
        Err(_) => false,
    };
    paths.filter(is_something).map(str::to_owned).collect()
}

/// A step that ended well though it was refused something.
#[derive(Serialize)]
pub struct RefusedEvent<'a> {
    event: &'static str,
    target: &'a str,
    #[serde(skip_serializing_if = "str::is_empty")]
    variant: &'a str,
    say: &'a str,
    refused: Vec<String>,
    reading: String,
    #[serde(rename = "try")]
    mends: Vec<String>,
}

impl<'a> RefusedEvent<'a> {
    /// The event about a step of a graph.
    pub fn of(graph: &'a Graph, id: StepId, refused: &[Refusal]) -> RefusedEvent<'a> {
        let lines = survived(graph, id, refused);
        let of = |wanted: &str| -> Vec<String> {
            lines
                .iter()
                .filter(|(label, _)| *label == wanted)
                .map(|(_, text)| text.clone())
                .collect()
        };
        let step = graph.step(id);
        RefusedEvent {
            event: "refused",
            target: &graph.target(step.target).address,
            variant: &step.variant,
            say: &step.say,
            refused: of("refused"),
            reading: of("reading").concat(),
            mends: of("try"),
        }
    }
}

/// How the commands of a job ended.
#[derive(Serialize)]
pub struct JobEvent<'a> {
    event: &'static str,
    state: &'static str,
    target: &'a str,
    say: &'a str,
    seconds: f64,
    #[serde(skip_serializing_if = "Option::is_none")]
    command: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    code: Option<i32>,
    defined: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    printed: Option<String>,
}

/// Whether an effect did what it is for: an interrupt is how something lasting ends.
pub fn ends_well(effect: &Effect, ended: EffectEnd) -> bool {
    match ended {
        EffectEnd::Well => true,
        EffectEnd::Interrupted | EffectEnd::Failed { code: 130, .. } => effect.lasting,
        EffectEnd::Failed { .. } => false,
    }
}

/// The number of the command of an effect that failed, and its exit code; nothing where none did.
pub fn failed_command(effect: &Effect, ended: EffectEnd) -> Option<(usize, i32)> {
    match ended {
        EffectEnd::Failed { command, code } if !ends_well(effect, ended) => Some((command, code)),
        _ => None,
    }
}

impl<'a> JobEvent<'a> {
    /// The event about an effect, which took so many seconds and printed something, if that was
    /// caught.
    pub fn of(
        effect: &'a Effect,
        ended: EffectEnd,
        took: f64,
        printed: Option<&[u8]>,
    ) -> JobEvent<'a> {
        let (step, failed) = (&effect.step, failed_command(effect, ended));
        JobEvent {
            event: "job",
            state: if ends_well(effect, ended) {
                "ran"
            } else {
                "failed"
            },
            target: &effect.address,
            say: &step.say,
            seconds: rounded(took),
            command: failed.and_then(|(command, _)| shown_command(step).into_iter().nth(command)),
            code: failed.map(|(_, code)| code),
            defined: step.place.to_string(),
            printed: printed.map(|printed| String::from_utf8_lossy(printed).into_owned()),
        }
    }
}

/// A text that is for people, and that programs may show them.
#[derive(Serialize)]
pub struct NoticeEvent {
    event: &'static str,
    text: String,
}

impl NoticeEvent {
    /// Something that a person should know.
    pub fn of(text: impl Into<String>) -> NoticeEvent {
        NoticeEvent {
            event: "notice",
            text: text.into(),
        }
    }

    /// That something was removed, or that there was nothing to remove.
    pub fn cleaned(text: String) -> NoticeEvent {
        NoticeEvent {
            event: "cleaned",
            text,
        }
    }

    /// How many problems a look at all definitions found.
    pub fn linted(text: String) -> NoticeEvent {
        NoticeEvent {
            event: "linted",
            text,
        }
    }
}

/// A result of what was asked for, by its path from the workspace's root.
#[derive(Serialize)]
pub struct ResultEvent<'a> {
    event: &'static str,
    path: &'a str,
}

impl ResultEvent<'_> {
    /// The event about a path.
    pub fn of(path: &str) -> ResultEvent<'_> {
        ResultEvent {
            event: "result",
            path,
        }
    }
}

/// The last event of every build, which scripts rely on.
#[derive(Serialize)]
pub struct SummaryEvent {
    event: &'static str,
    version: u32,
    ok: bool,
    #[serde(flatten)]
    counts: StepCounts,
    seconds: f64,
}

impl SummaryEvent {
    /// The sum of a build that took so many microseconds. `ok` says whether all went well.
    pub fn of(summary: &Summary, ok: bool, micros: u64) -> SummaryEvent {
        SummaryEvent {
            event: "summary",
            version: VERSION,
            ok,
            counts: summary.counts,
            seconds: seconds(micros),
        }
    }
}

/// Something that is wrong, in a definition or a command line.
#[derive(Serialize)]
pub struct DiagnosticEvent<'a> {
    event: &'static str,
    severity: &'static str,
    code: &'a str,
    message: &'a str,
    #[serde(skip_serializing_if = "Option::is_none")]
    file: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    line: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    column: Option<u32>,
    related: Vec<RelatedPlace<'a>>,
    notes: &'a [String],
    #[serde(rename = "try")]
    mends: &'a [String],
}

#[derive(Serialize)]
struct RelatedPlace<'a> {
    file: &'a str,
    line: u32,
    message: &'a str,
}

impl<'a> DiagnosticEvent<'a> {
    /// The event about a problem in some sources.
    pub fn of(diagnostic: &'a Diagnostic, sources: &'a Sources) -> DiagnosticEvent<'a> {
        let at = diagnostic
            .span
            .map(|s| (sources.name(s.file), sources.line_column(s.file, s.start)));
        let related = diagnostic.related.iter().map(|r| RelatedPlace {
            file: sources.name(r.span.file),
            line: sources.line(r.span),
            message: &r.message,
        });
        DiagnosticEvent {
            event: "diagnostic",
            severity: if diagnostic.severity == Severity::Error {
                "error"
            } else {
                "warning"
            },
            code: diagnostic.code,
            message: &diagnostic.message,
            file: at.as_ref().map(|a| &**a.0),
            line: at.as_ref().map(|a| a.1.line),
            column: at.as_ref().map(|a| a.1.column),
            related: related.collect(),
            notes: &diagnostic.notes,
            mends: &diagnostic.mends,
        }
    }
}
