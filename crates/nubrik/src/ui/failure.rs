//! A step that failed: its command, what it printed, and what to do.

use std::path::Path;

use nubrik_answers::wrote;
use nubrik_confine::file_with_all;
use nubrik_engine::{Failure, Refusal, survived};
use nubrik_graph::{Graph, Role, StepId, shown_command};

use super::excerpts::{excerpt, render_printed, shortened};
use super::paint::{Ink, Paint};
use super::text::harmless;

/// How many files are named that commands wrote before they failed.
const FILES_SHOWN: usize = 5;

/// Where the whole command of a step is to be read. What is no target cannot be shown: its command
/// is kept in a file.
fn whole_command(graph: &Graph, id: StepId, root: &Path) -> Option<String> {
    let owner = graph.owner(id);
    if owner.role != Role::Inner {
        return Some(format!("nubrik show {}", owner.address));
    }
    let step = graph.step(id);
    let commands = shown_command(step).join("\n") + "\n";
    nubrik_disk::keep_printed(
        root,
        &format!("command of {}", step.say),
        commands.as_bytes(),
    )
}

/// The commands of a step, long ones by their beginning and end, and where they ran.
fn commands_of(graph: &Graph, id: StepId, root: &Path, line: &mut impl FnMut(&str, &str)) {
    let mut cut = false;
    for (i, command) in shown_command(graph.step(id)).iter().enumerate() {
        let short = shortened(command);
        cut |= short.is_some();
        line(
            if i > 0 { "then" } else { "command" },
            short.as_deref().unwrap_or(command),
        );
    }
    if cut && let Some(whole) = whole_command(graph, id, root) {
        line("whole", &whole);
    }
    line("folder", &folder_of(graph, id, root));
}

/// Says where all that a step printed is. What is not shown as a whole is put into a file.
fn where_all_is(root: &Path, title: &str, printed: &[u8], text: &str, paint: Paint) -> String {
    let (_, left_out, _) = excerpt(paint).of(text);
    // A command may print such a line itself: only a file that is there counts.
    let kept = file_with_all(text)
        .filter(|file| root.join(file).is_file())
        .map(str::to_owned);
    let keep = || nubrik_disk::keep_printed(root, title, printed);
    let whole = kept.or_else(|| (left_out > 0).then(keep).flatten());
    whole.map_or("it could not be kept".to_owned(), |file| {
        format!("all of it: {file}")
    })
}

/// Everything about a failed step below its line.
pub fn render(
    graph: &Graph,
    id: StepId,
    failure: &Failure,
    printed: &[u8],
    root: &Path,
    paint: Paint,
) -> String {
    let step = graph.step(id);
    let mut out = String::new();
    let mut line = |label: &str, text: &str| {
        let label = paint.ink(Ink::Calm, &format!("{label:<8}"));
        out.push_str(&format!("  {label}  {text}\n"));
    };
    let ran = !matches!(
        failure,
        Failure::NoTool(_) | Failure::NoRoot { .. } | Failure::NoInput { .. } | Failure::Service(_)
    );
    if ran {
        commands_of(graph, id, root, &mut line);
    }
    let owner = graph.owner(id);
    let defined = match owner.place.file == step.place.file {
        true => step.place.to_string(),
        false => format!("{}, by way of {}", owner.place, step.place),
    };
    line("defined", &defined);
    let told = failure.readings(graph, id, printed);
    let is_gone = matches!(step.work, nubrik_graph::WorkFolder::Private { .. });
    if ran
        && (is_gone || told.iter().all(|(label, _)| *label != "try"))
        && let Some(command) = look_inside(graph, id)
    {
        line("look", &command);
    }
    for (label, text) in told {
        match label {
            "try" => line(label, &paint.ink(Ink::Mend, &text)),
            _ => line(label, &text),
        }
    }
    let files = wrote(graph, id, failure, root);
    for file in files.iter().take(FILES_SHOWN) {
        line("wrote", file);
    }
    if files.len() > FILES_SHOWN {
        line("", &format!("and {} more", files.len() - FILES_SHOWN));
    }
    let printed = match failure {
        Failure::Service(failure) => &failure.printed,
        _ => printed,
    };
    let shows = ran || matches!(failure, Failure::Service(_));
    let text = String::from_utf8_lossy(printed);
    let text = harmless(text.trim_end(), paint.colours);
    if shows && !text.trim().is_empty() {
        line("printed", "");
        let whole = where_all_is(root, &graph.title(id), printed, &text, paint);
        out.push_str(&render_printed(&text, paint, &whole));
    }
    out
}

/// The command that opens a shell where a step ran; `None` where no words mean it alone.
fn look_inside(graph: &Graph, id: StepId) -> Option<String> {
    let (owner, step) = (graph.owner(id), graph.step(id));
    if owner.role == Role::Inner || step.commands.is_empty() {
        return None;
    }
    let all = (0..graph.steps.len() as u32).map(|number| graph.step(StepId(number)));
    let mut own = all.filter(|other| {
        other.target == step.target && other.variant == step.variant && !other.commands.is_empty()
    });
    let alike = own.clone().filter(|other| other.say == step.say).count();
    let words = match own.nth(1) {
        None => String::new(),
        Some(_) if alike == 1 => format!(" {}", nubrik_graph::shown_word(&step.say)),
        Some(_) => return None,
    };
    // A variant that a definition chose is chosen by its options.
    let mut chosen = crate::arguments::chosen().to_owned();
    if chosen.is_empty() && !step.variant.is_empty() {
        chosen = step
            .variant
            .split(", ")
            .map(|set| format!(" --set {}", nubrik_graph::shown_word(set)))
            .collect();
    }
    Some(format!("nubrik inside{chosen} {}{words}", owner.address))
}

/// Where a step's commands run, so that they can be run there once more.
fn folder_of(graph: &Graph, id: StepId, root: &Path) -> String {
    match &graph.step(id).work {
        nubrik_graph::WorkFolder::Private { .. } => "one of its own, which is gone now".to_owned(),
        work => root
            .join(work.path().as_str())
            .display()
            .to_string()
            .trim_end_matches('/')
            .to_owned(),
    }
}

/// What commands that ended well were refused, below their step's line.
pub fn render_survived(graph: &Graph, id: StepId, refused: &[Refusal], paint: Paint) -> String {
    let mut out = String::new();
    for (label, text) in survived(graph, id, refused) {
        let text = if label == "try" {
            paint.ink(Ink::Mend, &text)
        } else {
            text
        };
        out.push_str(&format!(
            "  {}  {text}\n",
            paint.ink(Ink::Calm, &format!("{label:<8}"))
        ));
    }
    out
}
