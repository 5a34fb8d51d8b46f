//! Globs over the workspace's files: sorted, without what is ignored, stopping at packages below.

use std::collections::BTreeSet;
use std::fmt;

use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use nubrik_diagnostic::{Diagnostic, nearest};
use nubrik_source::WsPath;

use crate::TARGETS_FILE;
use crate::world::{Answer, World};

/// Whether a text is a pattern rather than a plain path.
pub(crate) fn is_pattern(text: &str) -> bool {
    text.contains(['*', '?', '[', '{'])
}

/// How many characters a pattern may have, and how deep its braces may nest: what it becomes grows
/// with both.
const LONGEST_PATTERN: usize = 16 << 10;
const DEEPEST_BRACES: usize = 10;

/// Why a text is no pattern.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) enum GlobProblem {
    /// It has too many characters.
    TooLong,
    /// Its braces nest too deep.
    TooDeep,
    /// It does not have the form of one, or becomes too large: why.
    Form(String),
}

impl fmt::Display for GlobProblem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            GlobProblem::TooLong => write!(f, "it has more than {} KiB", LONGEST_PATTERN >> 10),
            GlobProblem::TooDeep => write!(f, "its braces nest more than {DEEPEST_BRACES} deep"),
            GlobProblem::Form(why) => f.write_str(why),
        }
    }
}

impl From<globset::Error> for GlobProblem {
    fn from(e: globset::Error) -> GlobProblem {
        GlobProblem::Form(e.kind().to_string())
    }
}

/// A pattern, ready to match whole paths: `*` and `?` stop at `/`.
///
/// # Errors
/// What is wrong with the pattern.
pub(crate) fn compiled(pattern: &str) -> Result<GlobSet, GlobProblem> {
    if pattern.len() > LONGEST_PATTERN {
        return Err(GlobProblem::TooLong);
    }
    let mut depth = 0usize;
    for c in pattern.chars() {
        match c {
            '{' => depth += 1,
            '}' => depth = depth.saturating_sub(1),
            _ => {}
        }
        if depth > DEEPEST_BRACES {
            return Err(GlobProblem::TooDeep);
        }
    }
    let glob = GlobBuilder::new(pattern)
        .literal_separator(true)
        .backslash_escape(true)
        .build()?;
    // A set of one: unlike a single matcher it says when a pattern becomes too large.
    Ok(GlobSetBuilder::new().add(glob).build()?)
}

fn matcher(pattern: &str) -> Result<GlobSet, Diagnostic> {
    compiled(pattern).map_err(|problem| {
        Diagnostic::error("bad-glob", format!("this is not a glob: {problem}"))
            .mend("`*` means any part of a name, `**` any folders")
    })
}

/// Files that match `pattern` from `base` on, and match none of `except`.
///
/// # Errors
/// When a pattern is wrong, leaves the workspace, or (unless `or_none`) matches nothing.
pub(crate) fn glob(
    world: &dyn World,
    base: &WsPath,
    pattern: &str,
    except: &[String],
    or_none: bool,
) -> Answer<Result<Vec<WsPath>, Diagnostic>> {
    match try_glob(world, base, pattern, except, or_none) {
        Ok(result) => Answer::Ready(Ok(result)),
        Err(Some(diagnostic)) => Answer::Ready(Err(diagnostic)),
        Err(None) => Answer::Pending,
    }
}

/// Links that lead nowhere and that a pattern would mean: beside what it found, and where it
/// begins.
pub(crate) fn dangling(
    world: &dyn World,
    base: &WsPath,
    pattern: &str,
    found: &[WsPath],
) -> Vec<WsPath> {
    let Ok(whole) = absolute(base, pattern) else {
        return Vec::new();
    };
    let Ok(wanted) = compiled(&whole) else {
        return Vec::new();
    };
    let plain: Vec<&str> = whole
        .split('/')
        .take_while(|part| !is_pattern(part))
        .collect();
    let folders: BTreeSet<WsPath> = (found.iter().filter_map(WsPath::parent))
        .chain([WsPath::from_normal(&plain.join("/"))])
        .collect();
    let links = folders.iter().flat_map(|folder| {
        world
            .dangling(folder)
            .into_iter()
            .map(|name| folder.child(&name))
            .collect::<Vec<_>>()
    });
    links
        .filter(|link| wanted.is_match(link.as_str()))
        .collect()
}

fn try_glob(
    world: &dyn World,
    base: &WsPath,
    pattern: &str,
    except: &[String],
    or_none: bool,
) -> Result<Vec<WsPath>, Option<Diagnostic>> {
    let whole = absolute(base, pattern)?;
    let mut refused = Vec::new();
    for pattern in except {
        refused.push(matcher(&absolute(base, pattern)?)?);
    }
    // The walk begins after the last part that is plain, and goes as deep as the pattern can.
    let parts: Vec<&str> = whole.split('/').collect();
    let plain = parts
        .iter()
        .take_while(|p| !is_pattern(p))
        .count()
        .min(parts.len().saturating_sub(1));
    let depth = if parts.contains(&"**") {
        usize::MAX
    } else {
        parts.len() - plain
    };
    let start = WsPath::from_normal(&parts[..plain].join("/"));
    let mut files = Vec::new();
    let mut crossed = Vec::new();
    match parts[plain..] {
        [last] => list_fitting(world, &start, last, &mut files)?,
        _ => walk(world, &start, depth, &mut files, &mut crossed)?,
    }
    match parts[plain..] {
        // One star in a name is by far the most frequent pattern: it needs no machinery.
        [last] if is_one_star(last) => {
            let (prefix, suffix) = last.split_once('*').unwrap_or((last, ""));
            files.retain(|f| {
                f.name().len() >= prefix.len() + suffix.len() && f.name().ends_with(suffix)
            });
        }
        _ => {
            let wanted = matcher(&whole)?;
            files.retain(|f| wanted.is_match(f.as_str()));
        }
    }
    files.retain(|f| !refused.iter().any(|r| r.is_match(f.as_str())));
    files.sort();
    if files.is_empty() && !or_none {
        return Err(Some(no_match(world, pattern, &start, &crossed)));
    }
    Ok(files)
}

fn absolute(base: &WsPath, pattern: &str) -> Result<String, Diagnostic> {
    let path = base
        .resolve(pattern)
        .map_err(|p| Diagnostic::error("bad-path", p.to_string()))?;
    Ok(path.as_str().to_owned())
}

fn is_one_star(pattern: &str) -> bool {
    pattern.matches('*').count() == 1 && !pattern.contains(['?', '[', '{', '\\'])
}

/// Files of one folder whose names begin as the pattern does. Names are sorted, so that a narrow
/// pattern looks at few of many.
fn list_fitting(
    world: &dyn World,
    folder: &WsPath,
    pattern: &str,
    files: &mut Vec<WsPath>,
) -> Result<(), Option<Diagnostic>> {
    let Answer::Ready(listing) = world.list(folder) else {
        return Err(None);
    };
    if let Some(problem) = &listing.problem {
        let message = format!("cannot list the folder `{folder}`: {problem}");
        return Err(Some(Diagnostic::error("unreadable", message)));
    }
    let prefix = &pattern[..pattern
        .find(['*', '?', '[', '{', '\\'])
        .unwrap_or(pattern.len())];
    let from = listing.files.partition_point(|name| &**name < prefix);
    let fitting = listing.files[from..]
        .iter()
        .take_while(|name| name.starts_with(prefix));
    files.extend(fitting.map(|name| folder.child(name)));
    Ok(())
}

fn walk(
    world: &dyn World,
    folder: &WsPath,
    depth: usize,
    files: &mut Vec<WsPath>,
    crossed: &mut Vec<WsPath>,
) -> Result<(), Option<Diagnostic>> {
    let Answer::Ready(listing) = world.list(folder) else {
        return Err(None);
    };
    if let Some(problem) = &listing.problem {
        let message = format!("cannot list the folder `{folder}`: {problem}");
        return Err(Some(Diagnostic::error("unreadable", message)));
    }
    files.extend(listing.files.iter().map(|name| folder.child(name)));
    if depth <= 1 {
        return Ok(());
    }
    let mut pending = false;
    for name in &listing.folders {
        let below = folder.child(name);
        match world.list(&below) {
            Answer::Pending => pending = true,
            Answer::Ready(inner) if inner.files.iter().any(|f| &**f == TARGETS_FILE) => {
                crossed.push(below)
            }
            Answer::Ready(_) => walk(world, &below, depth - 1, files, crossed)?,
        }
    }
    if pending { Err(None) } else { Ok(()) }
}

fn no_match(world: &dyn World, pattern: &str, start: &WsPath, crossed: &[WsPath]) -> Diagnostic {
    let mut error = Diagnostic::error("no-match", format!("no file matches \"{pattern}\""));
    if let Some(package) = crossed.first() {
        error = error.note(format!(
            "globs stop at packages: `{package}` is one of its own"
        ));
    }
    match world.kind(start) {
        Answer::Ready(None) => {
            let folder = start.parent().unwrap_or_else(WsPath::root);
            error = error.note(format!("there is no folder `{start}`"));
            if let Answer::Ready(listing) = world.list(&folder) {
                let near = nearest(start.name(), listing.folders.iter().map(|f| &**f));
                error = error
                    .maybe_mend(near.map(|n| format!("\"{}\"", pattern.replace(start.name(), n))));
            }
        }
        _ => {
            if let Answer::Ready(listing) = world.list(start) {
                let some: Vec<&str> = listing.files.iter().take(5).map(|f| &**f).collect();
                if !some.is_empty() {
                    error = error.note(format!("`{start}` holds {}", some.join(", ")));
                }
            }
        }
    }
    error.mend(format!(
        "glob(\"{pattern}\", or_none = true) if no file is right, too"
    ))
}

/// All files in and below a folder, packages included, sorted: what a folder represents as an
/// input.
pub(crate) fn all_below(world: &dyn World, folder: &WsPath) -> Answer<Vec<WsPath>> {
    fn collect(world: &dyn World, folder: &WsPath, files: &mut Vec<WsPath>) -> bool {
        let Answer::Ready(listing) = world.list(folder) else {
            return false;
        };
        files.extend(listing.files.iter().map(|name| folder.child(name)));
        let mut ready = true;
        for name in &listing.folders {
            // All of them are asked, even when one has no answer yet.
            ready &= collect(world, &folder.child(name), files);
        }
        ready
    }
    let mut files = Vec::new();
    if !collect(world, folder, &mut files) {
        return Answer::Pending;
    }
    files.sort();
    Answer::Ready(files)
}
