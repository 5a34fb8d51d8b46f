//! `nubrik doctor`

use std::collections::{BTreeMap, BTreeSet};
use std::io::Read;
use std::sync::Arc;

use nubrik_diagnostic::{Diagnostic, Severity};
use nubrik_graph::{FileId, Graph};
use nubrik_lang::AddressPattern;
use nubrik_lang::{LibraryRequest, LibrarySearch, ToolRequest, ToolSearch};
use nubrik_pins::{Origin, PINS_FILE, PinProblem, Pins, Registry};
use nubrik_session::{DifferentTool, KnownImage, Session, WatcherStatus, known_image};
use nubrik_source::WsPath;
use nubrik_wording::{counted, size};
use serde::Serialize;

use super::watcher::doubt_words;
use super::{CommandResult, open, report};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out, outln};
use crate::ui::paint::{Ink, Paint};
use crate::ui::step_line::{STATE, below_state};
use crate::ui::text::{padded, width};

/// Something that the machine has or lacks.
#[derive(Serialize)]
struct Finding {
    event: &'static str,
    what: &'static str,
    name: String,
    ok: bool,
    /// Whether definitions can do without it.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    optional: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    version: Option<String>,
    #[serde(skip_serializing_if = "String::is_empty")]
    found: String,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    searched: Vec<String>,
    /// For tools the files of which a change makes steps run again.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    counts: Vec<String>,
    #[serde(rename = "try", skip_serializing_if = "Option::is_none")]
    mend: Option<String>,
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

pub fn doctor(console: Console, choice: &Choice) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    let mut findings = kernel(&session);
    findings.push(store());
    findings.push(watcher(&session));
    findings.extend(labels());
    let all = AddressPattern::below(&WsPath::root());
    let once = |session: &nubrik_session::Session| session.evaluate(std::slice::from_ref(&all));
    let evaluation = super::as_far_as_known(console, &mut session, once);
    let looked_for = session.looked_for();
    // Tools of steps that only other machines run need not be here.
    let steps = evaluation.graph.steps.iter().map(|step| &**step);
    let own = steps.filter(|step| session.runs_here(step) && step.root.is_none());
    let names = own.flat_map(|step| &step.tools).map(|tool| evaluation.graph.tools[tool.index()].clone());
    let mut names: Vec<Arc<str>> = names.collect();
    names.sort();
    names.dedup();
    let own_tools = names.clone();
    names.retain(|n| !looked_for.tools.iter().any(|(request, _)| request.names.contains(n)));
    for name in names {
        findings.push(tool(&session, &name));
    }
    let of_machine = |d: &Diagnostic| {
        matches!(d.code, "no-tool" | "old-tool" | "no-library" | "old-library" | "no-variable")
    };
    // Where definitions are evaluated all the same, they can do without it.
    let can_lack = !evaluation.diagnostics.iter().any(of_machine);
    let asked = (looked_for.tools.iter())
        .map(|(request, search)| tool_looked_for(&session, request, search))
        .chain(looked_for.libraries.iter().map(|(request, search)| library(request, search)));
    findings.extend(asked.map(|finding| Finding { optional: can_lack && !finding.ok, ..finding }));
    findings.extend(images(&session, &evaluation.graph));
    findings.extend(registries(&session));
    findings.extend(workers(&mut session, &own_tools));
    show(console, &findings);
    let errors: Vec<Diagnostic> =
        evaluation.diagnostics.iter().filter(|d| d.severity == Severity::Error).cloned().collect();
    if !errors.is_empty() {
        if !console.is_json() {
            outln!(console);
        }
        report(console, &errors, &evaluation.sources);
        return Ok(if errors.iter().all(of_machine) { Exit::Machine } else { Exit::Definitions });
    }
    Ok(if findings.iter().any(|f| !f.ok && !f.optional && f.what == "tool") {
        Exit::Machine
    } else {
        Exit::Done
    })
}

/// What this machine is called besides its system and its processor, where somebody called it something.
fn labels() -> Option<Finding> {
    let (own, others) = nubrik_session::own_labels();
    let (found, ok) = (own.join(" "), others.is_empty());
    let searched = others.iter().map(|word| format!("`{word}` is no label")).collect();
    let mend =
        (!ok).then(|| "letters, digits, `-` and `_`, 32 at most, with spaces between labels".to_owned());
    let finding = Finding { ok, found, searched, mend, ..Finding::of("labels", "NUBRIK_LABELS") };
    (!own.is_empty() || !ok).then_some(finding)
}

/// Machines that run steps for this one, and whether their tools are the same.
fn workers(session: &mut Session, tools: &[Arc<str>]) -> Vec<Finding> {
    let Some(at) = session.workspace.settings.workers.as_ref().map(|workers| workers.at.clone()) else {
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
            vec![Finding { found: "no worker is in this pool now".to_owned(), ..Finding::of("jobs", &at) }]
        }
        Ok(Some(all)) => all.iter().map(|(name, different)| worker(name, different)).collect(),
    }
}

fn worker(name: &str, different: &[DifferentTool]) -> Finding {
    let told = |tool: &DifferentTool| {
        if tool.is_missing { format!("no {}", tool.name) } else { format!("another {}", tool.name) }
    };
    let ok = different.is_empty();
    Finding {
        ok,
        found: if ok { "has the same tools".to_owned() } else { String::new() },
        searched: different.iter().map(told).collect(),
        mend: (!ok).then(|| "install the same tools there, or let it work for a pool of its own".to_owned()),
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
        return off(doubt_words(&doubt), "a workspace on a disk of this machine");
    }
    let Some(status) = session.watcher_status() else {
        if !session.workspace.settings.watching.keep {
            return Finding { found: "off: each command looks at all files".to_owned(), ..finding };
        }
        let said = session.workspace.own().and_then(|own| {
            let mut text = String::new();
            own.open_to_read(super::watcher::LOG)?.take(4096).read_to_string(&mut text)?;
            Ok(text)
        });
        let said = said.ok().and_then(|text| text.lines().next().map(str::to_owned));
        return match said {
            Some(said) => {
                let found = format!("none now: {}", said.trim_start_matches("ended").trim_start());
                Finding { found, ..finding }
            }
            None => Finding {
                found: "none answers: a build leaves one behind where there is none".to_owned(),
                ..finding
            },
        };
    };
    let WatcherStatus { paths, same, apart, lacking, .. } = status;
    let looked_at = paths - same;
    let mut found = format!("{same} of {paths} paths are known to be as they were");
    if looked_at > 0 {
        found.push_str(&format!(", {looked_at} are looked at each time"));
    }
    if apart > lacking {
        found.push_str(&format!(", {} of them since they are elsewhere or another user's", apart - lacking));
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
        found.push_str(&format!("; once all were looked at: {}", doubt_words(doubt)));
    }
    Finding { found, ..finding }
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
        ok: store.is_some(),
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
                    let scope = origin.scope.as_ref().map_or(String::new(), |scope| format!("{scope} at "));
                    let who = if origin.credential.is_some() { ", with a credential" } else { "" };
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
    let wanted = findings.filter(|(registry, finding)| finding.ok || pinned.shelves.contains_key(registry));
    wanted.map(|(_, finding)| finding).chain(unread).collect()
}

/// What was found of a tool that definitions asked for.
fn tool_looked_for(session: &Session, request: &ToolRequest, search: &ToolSearch) -> Finding {
    let found = search.found.first();
    Finding {
        event: "finding",
        what: "tool",
        name: request.names.iter().map(|n| &**n).collect::<Vec<_>>().join(" or "),
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
        let names = step.tools.iter().map(|tool| graph.tools[tool.index()].clone());
        if let Some(root) = step.root {
            images.entry(root).or_default().extend(names);
        }
    }
    let mut findings = Vec::new();
    for (root, names) in images {
        let node = graph.file(root);
        let owner = node.maker.map(|maker| graph.owner(maker).address.clone()).unwrap_or_default();
        let names: Vec<Arc<str>> = names.into_iter().collect();
        let known = known_image(&session.workspace.root.join(node.path.as_str()), &names);
        let found = match &known {
            None => "a build unpacks it".to_owned(),
            Some(KnownImage { amount: (files, bytes), programs }) => {
                let place = if programs.is_some() { "" } else { ", unpacked when a step needs it" };
                format!("{}, {}{place}", counted(*files as usize, "file"), size(*bytes))
            }
        };
        let ok = session.why_no_sandboxes().is_none();
        let mend = (!ok).then(|| "a machine that makes sandboxes".to_owned());
        findings.push(Finding { ok, found, mend, ..Finding::of("image", &owner) });
        for (name, path) in known.and_then(|known| known.programs).unwrap_or_default() {
            let found = path.as_ref().map(|path| format!("{path} in {owner}")).unwrap_or_default();
            let mend = Some(format!("an image that has `{name}`"));
            findings.push(Finding { ok: path.is_some(), found, mend, ..Finding::of("tool", &name) });
        }
    }
    findings
}

/// What was found of a library that definitions asked for.
fn library(request: &LibraryRequest, search: &LibrarySearch) -> Finding {
    let found = search.found.first();
    let name = request.names.iter().map(|n| &**n).collect::<Vec<_>>().join(" or ");
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

fn kernel(session: &nubrik_session::Session) -> Vec<Finding> {
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
fn counts(session: &nubrik_session::Session, name: &std::sync::Arc<str>) -> Vec<String> {
    let parts = session.find_tool(name).map(|(tool, _)| tool.parts).unwrap_or_default();
    parts.iter().map(|part| part.to_string()).collect()
}

fn tool(session: &nubrik_session::Session, name: &std::sync::Arc<str>) -> Finding {
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

/// Where something is, and what belongs to it.
fn found(finding: &Finding) -> String {
    match finding.counts.len().saturating_sub(1) {
        0 => finding.found.clone(),
        1 => format!("{}, and 1 file that counts with it", finding.found),
        more => format!("{}, and {more} files that count with it", finding.found),
    }
}

fn show(console: Console, findings: &[Finding]) {
    if console.is_json() {
        return findings.iter().for_each(|finding| console.event(finding));
    }
    let paint: Paint = console.paint(OutputStream::Output);
    let widest = |f: &dyn Fn(&Finding) -> usize| findings.iter().map(f).max().unwrap_or(0);
    let (names, kinds) = (widest(&|f| width(&f.name)), widest(&|f| f.what.len()));
    let versions = widest(&|f| f.version.as_deref().map_or(0, width));
    let mut searched: Option<&Vec<String>> = None;
    for finding in findings {
        let (word, ink) = match (finding.ok, finding.what) {
            (true, _) => ("there", Ink::Calm),
            _ if finding.optional => ("optional", Ink::Faint),
            (false, "worker") => ("differs", Ink::Doubt),
            (false, "jobs") => ("unknown", Ink::Doubt),
            (false, _) => ("missing", Ink::Wrong),
        };
        let found = found(finding);
        let used = STATE + kinds + 2 + names + 2 + versions + 2;
        let is_beside = paint.width.is_none_or(|w| used + width(&found) < w);
        let line = format!(
            "{}{}  {}  {}  {}",
            paint.ink(ink, &format!("{word:<STATE$}")),
            paint.ink(Ink::Faint, &padded(finding.what, kinds)),
            padded(&finding.name, names),
            padded(finding.version.as_deref().unwrap_or(""), versions),
            paint.ink(Ink::Faint, if is_beside { &found } else { "" }),
        );
        outln!(console, "{}", line.trim_end());
        if !is_beside {
            out!(console, "{}", below_state(paint, &found));
        }
        if !finding.ok {
            let line = |label: &str, text: &str, ink: Option<Ink>| {
                let text =
                    paint.in_lines(12, text, |line| ink.map_or(line.to_owned(), |ink| paint.ink(ink, line)));
                outln!(console, "  {}  {text}", paint.ink(Ink::Calm, &format!("{label:<8}")));
            };
            // The same folders are named once.
            let is_news = searched.replace(&finding.searched) != Some(&finding.searched);
            if !finding.searched.is_empty() && is_news {
                let word = match finding.what {
                    "worker" => "differs",
                    "jobs" | "watcher" => "because",
                    _ => "searched",
                };
                line(word, &finding.searched.join(", "), None);
            }
            if let Some(mend) = &finding.mend {
                line("try", mend, Some(Ink::Mend));
            }
        }
    }
    if findings.iter().any(|f| !f.counts.is_empty()) {
        let text = "not counted: what else tools load or start, such as plugins and modules; `nubrik build --observe TARGET` names it";
        outln!(console, "\n{}", paint.in_lines(0, text, |line| paint.ink(Ink::Faint, line)));
    }
}
