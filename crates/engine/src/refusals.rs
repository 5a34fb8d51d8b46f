//! What steps were refused, in words, and how it is declared.

use std::fmt;

use nubrik_graph::{Graph, Step, StepId, Target};

use crate::event::Refusal;
use crate::seen::Touch;

/// What was refused: `reading data/salt.txt`.
impl fmt::Display for Refusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&match self {
            Refusal::Network => "the network".to_owned(),
            Refusal::Listing {
                folder,
                first,
                more,
            } => {
                let folder = if folder.is_empty() {
                    "the workspace's root"
                } else {
                    folder
                };
                let (lacks, are) = match more {
                    0 => (String::new(), "is"),
                    more => (format!(" and {more} more"), "are"),
                };
                format!("listing all of {folder}: {first}{lacks} {are} not declared")
            }
            Refusal::Path {
                path,
                touch,
                folder,
                ..
            } => {
                let what = match touch {
                    Touch::Started => "starting",
                    Touch::Written => "writing",
                    Touch::Read | Touch::LookedUp if *folder => "listing the folder",
                    Touch::Read => "reading",
                    Touch::LookedUp => "looking for",
                };
                let path = path.told();
                format!(
                    "{what} {}",
                    if path.is_empty() {
                        "of the workspace"
                    } else {
                        &path
                    }
                )
            }
        })
    }
}

/// What was done, as what is to be done: `reading x` as `read x`.
pub(crate) fn to_do(done: &str) -> String {
    const ACTS: [(&str, &str); 7] = [
        ("reading", "read"),
        ("writing", "write"),
        ("starting", "start"),
        ("listing", "list"),
        ("looking for", "see"),
        ("using", "use"),
        ("the network", "use the network"),
    ];
    let act = ACTS
        .iter()
        .find_map(|(doing, act)| Some(format!("{act}{}", done.strip_prefix(doing)?)));
    act.unwrap_or_else(|| done.to_owned())
}

/// The words to add, or what to do instead, for the first of some refusals, and for all others of
/// its kind.
pub(crate) fn mend_of_refusals(graph: &Graph, id: StepId, refused: &[Refusal]) -> Option<String> {
    let source = |refusal: &Refusal| match refusal {
        Refusal::Path {
            path,
            touch,
            target,
            folder: false,
        } => {
            let is_source = *touch != Touch::Written && !path.is_of_machine() && target.is_none();
            (is_source && maker(graph, path.as_str()).is_none()).then(|| path.as_str().to_owned())
        }
        _ => None,
    };
    let first = refused.first()?;
    if source(first).is_none() {
        return Some(mend_of_refusal(graph, id, first));
    }
    let sources: Vec<String> = refused.iter().filter_map(source).collect();
    let sources: Vec<&str> = sources.iter().map(|path| &**path).collect();
    Some(declare_sources(graph, id, &sources))
}

/// The words to add, or what to do instead.
fn mend_of_refusal(graph: &Graph, id: StepId, refusal: &Refusal) -> String {
    let place = &graph.step(id).place;
    match refusal {
        Refusal::Network => {
            format!("network = true   at {place}, if its result does not depend on what answers")
        }
        Refusal::Listing { folder, .. } if folder.is_empty() && is_in_kit(graph, id) => {
            format!(
                "{}, for the files there that it needs",
                declare_written(graph, id, &["\"…\"".to_owned()], false)
            )
        }
        Refusal::Listing { folder, .. } => {
            let all = if folder.is_empty() {
                "**".to_owned()
            } else {
                format!("{folder}/**")
            };
            declare(graph, id, &all, None)
        }
        Refusal::Path {
            path,
            touch: Touch::Written,
            ..
        } if path.is_of_machine() => {
            format!(
                "let it write to {{scratch \"work\"}}, which is thrown away, or to an {{out \"…\"}}; {place}"
            )
        }
        Refusal::Path {
            path,
            touch: Touch::Written,
            ..
        } => {
            let name = path.as_str().rsplit('/').next().unwrap_or_default();
            format!(
                "a step writes only its own outputs: {{out \"{name}\"}} in the command at {place}"
            )
        }
        Refusal::Path { path, .. } if path.is_of_machine() => {
            format!(
                "a step reads the workspace and the system's folders: copy {path} into the workspace and declare it"
            )
        }
        Refusal::Path { path, target, .. } => declare(graph, id, path.as_str(), target.as_deref()),
    }
}

/// The words that declare a file as an input.
pub(crate) fn declare(graph: &Graph, id: StepId, path: &str, target: Option<&str>) -> String {
    let owner = graph.owner(id);
    if let Some(target) = target.or_else(|| maker(graph, path)) {
        // In its own package a target goes by its name.
        let own = |t: &&Target| *t.address == *target && t.package == owner.package;
        if graph.targets.iter().any(|t| own(&t)) {
            let name = target.rsplit('/').next().unwrap_or(target);
            return format!("declare what {target} makes: needs = {name}, or reads = {name}");
        }
        return format!("declare what {target} makes: needs = &{target}, or reads = &{target}");
    }
    declare_sources(graph, id, &[path])
}

/// The target that makes a file, or in whose folder it is.
fn maker<'g>(graph: &'g Graph, path: &str) -> Option<&'g str> {
    // What was published is a copy: what people mean is the target.
    let published = || {
        let below = path.strip_prefix("out/")?.split_once('/')?.1;
        let makes = |t: &&Target| t.results.iter().any(|r| r.publish.as_str() == below);
        graph.targets.iter().find(makes).map(|t| &*t.address)
    };
    // In a folder that a step makes.
    let made = || {
        let is_in = |step: &&Step| {
            path.strip_prefix(step.folder.as_str())
                .is_some_and(|rest| rest.starts_with('/'))
        };
        let steps = (0..graph.steps.len()).map(|n| StepId(n as u32));
        let mut makers = steps.filter(|id| is_in(&graph.step(*id)));
        makers.next().map(|id| &*graph.owner(id).address)
    };
    published().or_else(made)
}

/// The words that declare sources of the workspace as inputs.
fn declare_sources(graph: &Graph, id: StepId, paths: &[&str]) -> String {
    let owner = graph.owner(id);
    // In a kit a path begins at the workspace's root.
    let is_at_owner = !is_in_kit(graph, id) || !owner.reads_field.is_empty();
    let written = |path: &&str| {
        let own = path.strip_prefix(owner.package.as_str());
        let own = own.and_then(|rest| {
            if owner.package.is_root() {
                Some(rest)
            } else {
                rest.strip_prefix('/')
            }
        });
        let own = own.filter(|_| is_at_owner);
        own.map_or_else(|| format!("\"/{path}\""), |own| format!("\"{own}\""))
    };
    let written: Vec<String> = paths.iter().map(written).collect();
    let is_header = |path: &&str| [".h", ".hpp", ".inc"].iter().any(|e| path.ends_with(e));
    declare_written(graph, id, &written, paths.iter().all(is_header))
}

/// Whether a step is written in a kit: people name its files in their own target.
fn is_in_kit(graph: &Graph, id: StepId) -> bool {
    graph.step(id).place.file != graph.owner(id).place.file
}

/// The field that files go to, as they are written there.
fn declare_written(graph: &Graph, id: StepId, files: &[String], are_headers: bool) -> String {
    let (owner, step) = (graph.owner(id), graph.step(id));
    let written = files.join(", ");
    if are_headers && matches!(&*owner.kind, "library" | "program") {
        return format!(
            "internal = [{written}]   in {} at {}",
            owner.address, owner.place
        );
    }
    let holes = if files.len() == 1 {
        written.clone()
    } else {
        format!("[{written}]")
    };
    let in_command = format!("{{in {holes}}} in the command at {}", step.place);
    // A kit that ships with the tool is nobody's to change.
    let is_shipped = step.place.file.starts_with("nub:");
    match &*owner.reads_field {
        "" if is_shipped => format!(
            "{} takes no such file: let a step of your own read {written}, or put it among its sources",
            owner.address
        ),
        field if is_in_kit(graph, id) && !field.is_empty() => {
            let own = format!(
                "{field} = [{written}]   in {} at {}",
                owner.address, owner.place
            );
            if is_shipped {
                own
            } else {
                format!("{own}, or {{in …}} in the command at {}", step.place)
            }
        }
        _ => format!("reads = [{written}]   or {in_command}"),
    }
}
