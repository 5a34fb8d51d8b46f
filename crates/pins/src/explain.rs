//! Why no versions fit together, in sentences: who wants what.

use std::fmt::Display;

use pubgrub::{
    DependencyProvider, DerivationTree, External, Package, PubGrubError, SelectedDependencies,
    VersionSet,
};

use crate::PinProblem;

/// What is wrong then.
pub(crate) const NOTHING_FITS: &str = "no versions fit together";

/// The most facts that are named.
const MOST: usize = 12;

/// How sets of versions are written.
pub(crate) struct Wording<'a, P, VS> {
    /// What represents the person who asks.
    pub root: &'a P,
    /// A set of versions of a package, in as few words as tell it from the other versions that
    /// there are.
    pub set: &'a dyn Fn(&P, &VS) -> String,
    /// Whether a set is too ragged to be described: what is left between versions that were tried.
    pub is_ragged: &'a dyn Fn(&VS) -> bool,
}

/// Says of a failed resolution what led to it.
pub(crate) fn explained<P: Package, VS: VersionSet>(
    tree: &DerivationTree<P, VS, String>,
    wording: &Wording<'_, P, VS>,
) -> PinProblem {
    let mut facts = Vec::new();
    collect(tree, wording, &mut facts);
    let mut problem = PinProblem::new(NOTHING_FITS);
    let more = facts.len().saturating_sub(MOST);
    problem.notes = facts.into_iter().take(MOST).collect();
    if more > 0 {
        problem.notes.push(format!("and {more} more"));
    }
    problem
}

/// What led to a conflict, in the terms of those who choose.
pub(crate) type Conflict<D> = DerivationTree<
    <D as DependencyProvider>::P,
    <D as DependencyProvider>::VS,
    <D as DependencyProvider>::M,
>;

/// Versions that fit together.
type Selected<D> = SelectedDependencies<<D as DependencyProvider>::P, <D as DependencyProvider>::V>;

/// What was chosen, or what led to a conflict. A registry that could not be asked is another
/// failure.
pub(crate) fn chosen_or_conflict<D: DependencyProvider<Err = PinProblem>>(
    result: Result<Selected<D>, PubGrubError<D>>,
) -> Result<Result<Selected<D>, Box<Conflict<D>>>, PinProblem> {
    match result {
        Ok(chosen) => Ok(Ok(chosen)),
        Err(PubGrubError::NoSolution(tree)) => Ok(Err(Box::new(tree))),
        Err(
            PubGrubError::ErrorRetrievingDependencies { source, .. }
            | PubGrubError::ErrorChoosingVersion { source, .. }
            | PubGrubError::ErrorInShouldCancel(source),
        ) => Err(source),
    }
}

fn collect<P: Package, VS: VersionSet>(
    tree: &DerivationTree<P, VS, String>,
    wording: &Wording<'_, P, VS>,
    facts: &mut Vec<String>,
) {
    match tree {
        DerivationTree::Derived(derived) => {
            collect(&derived.cause1, wording, facts);
            collect(&derived.cause2, wording, facts);
        }
        DerivationTree::External(external) => {
            if let Some(fact) = fact(external, wording).filter(|fact| !facts.contains(fact)) {
                facts.push(fact);
            }
        }
    }
}

fn fact<P: Package, VS: VersionSet>(
    external: &External<P, VS, String>,
    wording: &Wording<'_, P, VS>,
) -> Option<String> {
    let Wording {
        root,
        set: worded,
        is_ragged,
    } = *wording;
    // What is wanted is described as it is; of those who want it, as much as tells them from
    // others.
    let who = |package: &P, set: &VS| named(package, &worded(package, set));
    let whole = |package: &P, set: &VS| named(package, &set.to_string());
    Some(match external {
        External::NotRoot(..) => return None,
        External::NoVersions(_, set) if is_ragged(set) => return None,
        External::NoVersions(package, set) => format!("there is no {}", whole(package, set)),
        External::Custom(package, _, why) if package == root => why.clone(),
        External::Custom(package, set, why) => format!("{}: {why}", who(package, set)),
        External::FromDependencyOf(package, _, need, wanted) if package == root => {
            format!("you ask for {}", whole(need, wanted))
        }
        External::FromDependencyOf(package, set, need, wanted) => {
            format!("{} needs {}", who(package, set), whole(need, wanted))
        }
    })
}

/// A package and a set of its versions as people write them.
fn named(package: &impl Display, set: &str) -> String {
    match set {
        "*" | "" => package.to_string(),
        set => format!("{package} {set}"),
    }
}
