//! The state of the machine: what definitions and builds need of it, what is there, and what is
//! missing.

use std::collections::{BTreeMap, BTreeSet};
use std::io::Read;
use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{FileId, Graph};
use nubrik_lang::{Evaluation, LibraryRequest, LibrarySearch, ToolRequest, ToolSearch};
use nubrik_pins::{Origin, PINS_FILE, PinProblem, Pins, Registry};
use nubrik_session::{DifferentTool, KnownImage, Session, WATCHER_LOG, WatcherStatus, known_image};
use nubrik_wording::{counted, size};
use serde::Serialize;

/// Something that the machine has or lacks.
#[derive(Serialize)]
pub struct Finding {
    event: &'static str,
    /// What kind of thing it is: `tool`, `library`, `kernel` and others.
    pub what: &'static str,
    /// Its name.
    pub name: String,
    /// Whether it is there, and as it should be.
    pub ok: bool,
    /// Whether definitions can do without it.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub optional: bool,
    /// Its version.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    /// Where it is, or more about it.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub found: String,
    /// Where it was searched, or why it is not as it should be.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub searched: Vec<String>,
    /// For tools the files of which a change makes steps run again.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub counts: Vec<String>,
    /// What to do where it is missing.
    #[serde(rename = "try", skip_serializing_if = "Option::is_none")]
    pub mend: Option<String>,
}

impl Finding {
    /// Something that is there, of which nothing more is known yet.
    fn of(what: &'static str, name: &str) -> Finding {
        Finding {
            event: "finding",
            what,
            name: name.to_owned(),
            ok: true,
            optional: false,
            version: None,
            found: String::new(),
            searched: Vec::new(),
            counts: Vec::new(),
            mend: None,
        }
    }
}

/// Codes of the errors by which definitions miss something of the machine.
const MACHINE_CODES: [&str; 5] = [
    "no-tool",
    "old-tool",
    "no-library",
    "old-library",
    "no-variable",
];

/// Whether an error is one by which definitions miss something of the machine.
pub fn is_of_machine(error: &Diagnostic) -> bool {
    MACHINE_CODES.contains(&error.code)
}

/// Looks at everything that an evaluation of a whole workspace and its builds need of the machine.
/// Workers are asked.
pub fn examine(session: &mut Session, evaluation: &Evaluation) -> Vec<Finding> {
    let mut findings = kernel(session);
    findings.push(store());
    findings.push(watcher(session));
    findings.extend(labels());
    let looked_for = session.looked_for();
    // Tools of steps that only other machines run need not be here.
    let steps = evaluation.graph.steps.iter().map(|step| &**step);
    let own = steps.filter(|step| session.runs_here(step) && step.root.is_none());
    let names = own
        .flat_map(|step| &step.tools)
        .map(|tool| evaluation.graph.tools[tool.index()].clone());
    let mut names: Vec<Arc<str>> = names.collect();
    names.sort();
    names.dedup();
    let is_asked = |name: &Arc<str>| {
        looked_for
            .tools
            .iter()
            .any(|(request, _)| request.names.contains(name))
    };
    findings.extend(
        names
            .iter()
            .filter(|name| !is_asked(name))
            .map(|name| tool(session, name)),
    );
    // Where definitions are evaluated all the same, they can do without it.
    let can_lack = !evaluation.diagnostics.iter().any(is_of_machine);
    let asked = (looked_for.tools.iter())
        .map(|(request, search)| tool_looked_for(session, request, search))
        .chain(
            looked_for
                .libraries
                .iter()
                .map(|(request, search)| library(request, search)),
        );
    findings.extend(asked.map(|finding| Finding {
        optional: can_lack && !finding.ok,
        ..finding
    }));
    findings.extend(images(session, &evaluation.graph));
    findings.extend(registries(session));
    findings.extend(workers(session, &names));
    findings
}

/// What this machine is called besides its system and its processor, where somebody called it
/// something.
fn labels() -> Option<Finding> {
    let (own, others) = nubrik_session::own_labels();
    let (found, ok) = (own.join(" "), others.is_empty());
    let searched = others
        .iter()
        .map(|word| format!("`{word}` is no label"))
        .collect();
    let mend = (!ok)
        .then(|| "letters, digits, `-` and `_`, 32 at most, with spaces between labels".to_owned());
    let finding = Finding {
        ok,
        found,
        searched,
        mend,
        ..Finding::of("labels", "NUBRIK_LABELS")
    };
    (!own.is_empty() || !ok).then_some(finding)
}

/// Machines that run steps for this one, and whether their tools are the same.
fn workers(session: &mut Session, tools: &[Arc<str>]) -> Vec<Finding> {
    let Some(at) = session
        .workspace
        .settings
        .workers
        .as_ref()
        .map(|workers| workers.at.clone())
    else {
        return Vec::new();
    };
    let unknown = |why: String, mend: &str| {
        vec![Finding {
            ok: false,
            searched: vec![why],
            mend: Some(mend.to_owned()),
            ..Finding::of("jobs", &at)
        }]
    };
    let ready = session.use_shared().and_then(|()| session.use_workers());
    match ready.and_then(|()| session.tools_of_workers(tools)) {
        Err(why) => unknown(why.to_string(), "nubrik explain workers"),
        Ok(None) => unknown(
            "only clients may ask which tools they have".to_owned(),
            "set NUBRIK_JOBS_KEY to the key that may",
        ),
        Ok(Some(all)) if all.is_empty() => {
            vec![Finding {
                found: "no worker is in this pool now".to_owned(),
                ..Finding::of("jobs", &at)
            }]
        }
        Ok(Some(all)) => all
            .iter()
            .map(|(name, different)| worker(name, different))
            .collect(),
    }
}

fn worker(name: &str, different: &[DifferentTool]) -> Finding {
    let told = |tool: &DifferentTool| {
        if tool.is_missing {
            format!("no {}", tool.name)
        } else {
            format!("another {}", tool.name)
        }
    };
    let ok = different.is_empty();
    Finding {
        ok,
        found: if ok {
            "has the same tools".to_owned()
        } else {
            String::new()
        },
        searched: different.iter().map(told).collect(),
        mend: (!ok).then(|| {
            "install the same tools there, or let it work for a pool of its own".to_owned()
        }),
        ..Finding::of("worker", name)
    }
}

/// Whether a watcher knows what changes in the workspace, and whether it can be believed.
fn watcher(session: &Session) -> Finding {
    let finding = Finding::of("watcher", "changes of files");
    let off = |why: String, mend: &str| Finding {
        ok: false,
        optional: true,
        searched: vec![why],
        mend: Some(mend.to_owned()),
        ..Finding::of("watcher", "changes of files")
    };
    if let Err(doubt) = session.can_watch() {
        return off(doubt.to_string(), "a workspace on a disk of this machine");
    }
    let Some(status) = session.watcher_status() else {
        if !session.workspace.settings.watching.keep {
            return Finding {
                found: "off: each command looks at all files".to_owned(),
                ..finding
            };
        }
        return Finding {
            found: why_none_answers(session),
            ..finding
        };
    };
    Finding {
        found: sum_of_watcher(&status),
        ..finding
    }
}

/// Why no watcher answers, where one is wanted.
fn why_none_answers(session: &Session) -> String {
    let log = session.workspace.own().and_then(|own| {
        let mut text = String::new();
        own.open_to_read(WATCHER_LOG)?
            .take(4096)
            .read_to_string(&mut text)?;
        Ok(text)
    });
    match log.unwrap_or_default().lines().next() {
        Some(line) => format!(
            "none now: {}",
            line.trim_start_matches("ended").trim_start()
        ),
        None => "none answers: a build leaves one behind where there is none".to_owned(),
    }
}

/// How many paths a watcher vouches for, and why not for all.
fn sum_of_watcher(status: &WatcherStatus) -> String {
    let WatcherStatus {
        paths,
        same,
        apart,
        lacking,
        ..
    } = *status;
    let looked_at = paths - same;
    let mut found = format!("{same} of {paths} paths are known to be as they were");
    if looked_at > 0 {
        found.push_str(&format!(", {looked_at} are looked at each time"));
    }
    if apart > lacking {
        found.push_str(&format!(
            ", {} of them since they are elsewhere or another user's",
            apart - lacking
        ));
    }
    if lacking > 0 {
        let limit = std::fs::read_to_string(WATCHES).unwrap_or_default();
        // Each folder takes one as well, and other programs have some.
        let wanted = (2 * paths).next_power_of_two();
        found.push_str(&format!(
            ", {lacking} since the kernel allows no more than {} watches (sysctl fs.inotify.max_user_watches={wanted} allows more)",
            limit.trim()
        ));
    }
    if let Some(doubt) = &status.doubt {
        found.push_str(&format!("; once all were looked at: {}", doubt));
    }
    found
}

/// Where the kernel says how many watches a user may have.
const WATCHES: &str = "/proc/sys/fs/inotify/max_user_watches";

/// Where results are kept for other times.
fn store() -> Finding {
    let store = nubrik_session::store_folder();
    Finding {
        event: "finding",
        what: "cache",
        name: "results of all workspaces".to_owned(),
        ok: store.is_ok(),
        optional: false,
        version: None,
        found: store.map(|s| s.display().to_string()).unwrap_or_default(),
        searched: Vec::new(),
        counts: Vec::new(),
        mend: Some("set HOME or XDG_CACHE_HOME".to_owned()),
    }
}

/// Where registries are that something is pinned from, and others that are known; and what says so.
fn registries(session: &Session) -> Vec<Finding> {
    let (pinned, unread) = match session.pins() {
        Ok(pins) => (pins, None),
        Err(problem) => {
            let mend = problem.mends.into_iter().next();
            let unread = Finding {
                ok: false,
                optional: false,
                searched: vec![problem.message],
                mend,
                ..Finding::of("file", PINS_FILE)
            };
            (Pins::default(), Some(unread))
        }
    };
    let finding = |(registry, origins): (Registry, Result<Vec<Origin>, PinProblem>)| {
        let mut finding = Finding::of("registry", registry.name());
        match origins {
            Ok(origins) => {
                let told = |origin: &Origin| {
                    let scope = origin
                        .scope
                        .as_ref()
                        .map_or(String::new(), |scope| format!("{scope} at "));
                    let who = if origin.credential.is_some() {
                        ", with a credential"
                    } else {
                        ""
                    };
                    format!("{scope}{} (by {}{who})", origin.address, origin.said_by)
                };
                finding.found = origins.iter().map(told).collect::<Vec<_>>().join(", ");
            }
            Err(problem) => {
                finding.ok = false;
                finding.searched = problem.notes;
                finding.mend = problem.mends.into_iter().next();
            }
        }
        (registry, finding)
    };
    let findings = session.all_origins().into_iter().map(finding);
    let wanted =
        findings.filter(|(registry, finding)| finding.ok || pinned.shelves.contains_key(registry));
    wanted.map(|(_, finding)| finding).chain(unread).collect()
}

/// What was found of a tool that definitions asked for.
fn tool_looked_for(session: &Session, request: &ToolRequest, search: &ToolSearch) -> Finding {
    let found = search.found.first();
    Finding {
        event: "finding",
        what: "tool",
        name: request
            .names
            .iter()
            .map(|n| &**n)
            .collect::<Vec<_>>()
            .join(" or "),
        ok: found.is_some(),
        optional: false,
        version: found.and_then(|f| f.version.as_deref().map(str::to_owned)),
        found: found.map(|f| f.path.to_string()).unwrap_or_default(),
        searched: search.searched.clone(),
        counts: found.map(|f| counts(session, &f.name)).unwrap_or_default(),
        mend: search.mend.clone(),
    }
}

/// Images that steps run in, and where their programs are in them.
fn images(session: &Session, graph: &Graph) -> Vec<Finding> {
    let mut images: BTreeMap<FileId, BTreeSet<Arc<str>>> = BTreeMap::new();
    for step in &graph.steps {
        let names = step
            .tools
            .iter()
            .map(|tool| graph.tools[tool.index()].clone());
        if let Some(root) = step.root {
            images.entry(root).or_default().extend(names);
        }
    }
    let mut findings = Vec::new();
    for (root, names) in images {
        let node = graph.file(root);
        let owner = node
            .maker
            .map(|maker| graph.owner(maker).address.clone())
            .unwrap_or_default();
        let names: Vec<Arc<str>> = names.into_iter().collect();
        let known = known_image(&session.workspace.root.join(node.path.as_str()), &names);
        let found = match &known {
            None => "a build unpacks it".to_owned(),
            Some(KnownImage { amount, programs }) => {
                let place = if programs.is_some() {
                    ""
                } else {
                    ", unpacked when a step needs it"
                };
                format!(
                    "{}, {}{place}",
                    counted(amount.files as usize, "file"),
                    size(amount.bytes)
                )
            }
        };
        let ok = session.why_no_sandboxes().is_none();
        let mend = (!ok).then(|| "a machine that makes sandboxes".to_owned());
        findings.push(Finding {
            ok,
            found,
            mend,
            ..Finding::of("image", &owner)
        });
        for (name, path) in known.and_then(|known| known.programs).unwrap_or_default() {
            let found = path
                .as_ref()
                .map(|path| format!("{path} in {owner}"))
                .unwrap_or_default();
            let mend = Some(format!("an image that has `{name}`"));
            findings.push(Finding {
                ok: path.is_some(),
                found,
                mend,
                ..Finding::of("tool", &name)
            });
        }
    }
    findings
}

/// What was found of a library that definitions asked for.
fn library(request: &LibraryRequest, search: &LibrarySearch) -> Finding {
    let found = search.found.first();
    let name = request
        .names
        .iter()
        .map(|n| &**n)
        .collect::<Vec<_>>()
        .join(" or ");
    Finding {
        event: "finding",
        what: "library",
        ok: found.is_some(),
        optional: false,
        version: found.map(|f| f.version.clone()),
        found: found.map(|f| f.link.join(" ")).unwrap_or_default(),
        searched: search.searched.clone(),
        counts: Vec::new(),
        mend: Some(format!("install the development files of {name}")),
        name,
    }
}

fn kernel(session: &Session) -> Vec<Finding> {
    let support = nubrik_confine::support();
    let finding = |name: &str, ok: bool, found: String, mend: &str| Finding {
        event: "finding",
        what: "kernel",
        name: name.to_owned(),
        ok,
        optional: false,
        version: None,
        found,
        searched: Vec::new(),
        counts: Vec::new(),
        mend: (!ok).then(|| mend.to_owned()),
    };
    let rules = support.path_rules;
    let no_sandboxes = session.why_no_sandboxes();
    vec![
        finding(
            "sandboxes for steps",
            no_sandboxes.is_none(),
            no_sandboxes.unwrap_or_default().to_owned(),
            "a kernel that lets unprivileged users create user, mount and network namespaces; without it path rules confine steps, which then \
             see that undeclared files are there and have no loopback to listen at, and their results hold for this place only",
        ),
        finding(
            "path rules for steps",
            rules.is_some(),
            rules.map(|v| format!("version {v}")).unwrap_or_default(),
            "a kernel with Landlock enabled; without it undeclared files may go unnoticed",
        ),
        finding(
            "no network for steps",
            support.network_filter,
            String::new(),
            "a kernel with system-call filters; without them steps can reach the network",
        ),
        finding(
            "private network for services",
            nubrik_session::own_network_works(),
            String::new(),
            "a kernel that lets unprivileged users create user and network namespaces; without it services and those who use them see this machine's network",
        ),
        finding(
            "recording of what steps do",
            nubrik_confine::can_record(),
            String::new(),
            "a kernel that supports system-call supervision (Linux 5.5); without it refused files are not named, and `--observe` and `hide_undeclared` do nothing",
        ),
    ]
}

/// The files of a tool that was found: when one of them changes, steps run again.
fn counts(session: &Session, name: &Arc<str>) -> Vec<String> {
    let parts = session
        .find_tool(name)
        .map(|(tool, _)| tool.parts)
        .unwrap_or_default();
    parts.iter().map(|part| part.to_string()).collect()
}

fn tool(session: &Session, name: &Arc<str>) -> Finding {
    let mut finding = Finding::of("tool", name);
    match session.find_tool(name) {
        Ok((tool, version)) => {
            finding.found = tool.path.display().to_string();
            finding.counts = tool.parts.iter().map(|part| part.to_string()).collect();
            finding.version = version.map(|v| v.to_string());
        }
        Err(problem) => {
            finding.ok = false;
            finding.searched = problem.searched;
            finding.mend = problem.mend;
        }
    }
    finding
}
