//! Results under readable names: each name represents one result, and none lies in another one.

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::Tables;
use nubrik_graph::{FileId, ResultFile, Target};
use nubrik_source::WsPath;
use rustc_hash::{FxHashMap, FxHashSet};

/// Errors for results that would be published under one name.
pub(super) fn check_published(graph: &Tables) -> Vec<Diagnostic> {
    check(graph.targets.iter())
}

/// The same errors between packages that were each looked at on their own. A result is below its
/// package:
/// one of another package has its name only if that package lies below the first, and the first
/// one's result in folders that lead there. Most often no result does.
pub(crate) fn check_published_across(graph: &Tables) -> Vec<Diagnostic> {
    // What is called as a package, or as a folder on the way to one, takes the place of that one's
    // results.
    let packages: FxHashSet<&WsPath> = graph.targets.iter().map(|t| &t.package).collect();
    let on_the_way: Vec<WsPath> = packages
        .iter()
        .flat_map(|package| std::iter::successors(package.parent(), WsPath::parent))
        .collect();
    let folders: FxHashSet<&WsPath> = packages.iter().copied().chain(&on_the_way).collect();
    if graph
        .targets
        .iter()
        .flat_map(|t| &t.results)
        .any(|r| folders.contains(&r.publish))
    {
        return check(graph.targets.iter());
    }
    // Packages whose results lie in the folder of another one, and those others.
    let mut involved: FxHashSet<&WsPath> = FxHashSet::default();
    for target in &graph.targets {
        for result in target.results.iter().filter(|r| is_deep(target, r)) {
            let folders = std::iter::successors(result.publish.parent(), WsPath::parent);
            let folders = folders.take_while(|folder| *folder != target.package);
            for other in folders.filter_map(|folder| packages.get(&folder).copied()) {
                involved.extend([other, &target.package]);
            }
        }
    }
    if involved.is_empty() {
        return Vec::new();
    }
    check(
        graph
            .targets
            .iter()
            .filter(|t| involved.contains(&t.package)),
    )
}

/// Whether a result is in a folder below its package.
fn is_deep(target: &Target, result: &ResultFile) -> bool {
    result
        .publish
        .below(&target.package)
        .is_some_and(|rest| rest.contains('/'))
}

fn check<'g>(targets: impl Iterator<Item = &'g Target> + Clone) -> Vec<Diagnostic> {
    let mut names: FxHashMap<&WsPath, (FileId, &Target)> = FxHashMap::default();
    names.reserve(targets.clone().map(|t| t.results.len()).sum());
    let mut errors = Vec::new();
    for (target, result) in targets
        .clone()
        .flat_map(|t| t.results.iter().map(move |r| (t, r)))
    {
        match names.get(&result.publish) {
            Some((file, _)) if *file == result.file => {}
            Some((_, other)) => errors.push(made_twice(other, target, result)),
            None => drop(names.insert(&result.publish, (result.file, target))),
        }
    }
    for (target, result) in targets.flat_map(|t| t.results.iter().map(move |r| (t, r))) {
        let mut above = std::iter::successors(result.publish.parent(), WsPath::parent);
        let outer = above.find_map(|folder| Some((names.get(&folder)?, folder)));
        if let Some(((_, other), folder)) = outer {
            errors.push(inside_another((other, &folder), target, result));
        }
    }
    errors
}

/// The error for a result whose place lies in that of another one, which is a file or a whole
/// folder.
fn inside_another(
    (other, folder): (&Target, &WsPath),
    target: &Target,
    result: &ResultFile,
) -> Diagnostic {
    let message = format!(
        "`{}` makes `{}`, and `{}` makes `{}`, which lies in it",
        other.address,
        folder.as_str(),
        result.address,
        result.publish.as_str()
    );
    Diagnostic::error("made-twice", message)
        .note(format!("declared at {} and {}", other.place, target.place))
        .mend("give one of them another name")
}

fn made_twice(other: &Target, target: &Target, result: &ResultFile) -> Diagnostic {
    let message = format!(
        "`{}` and `{}` both make `{}`",
        other.address,
        result.address,
        result.publish.as_str()
    );
    let error = Diagnostic::error("made-twice", message);
    if other.address == target.address {
        return error
            .note(format!("declared at {}", target.place))
            .mend("{ \"key\": … } puts each under a key of its own");
    }
    error
        .note(format!("declared at {} and {}", other.place, target.place))
        .mend("give one of them another name")
}
