//! Which features of a crate are on, and what they turn on in others.

use std::collections::{BTreeMap, BTreeSet};

use super::index::{CrateNeed, CrateRelease};
use super::platform::CrateTarget;

/// What is on in one crate.
#[derive(Debug, Default)]
pub(crate) struct Active<'r> {
    /// Features that are on, with those that others turn on.
    pub features: BTreeSet<String>,
    /// What it then needs, each with the features that it wants of it.
    pub needs: Vec<(&'r CrateNeed, BTreeSet<String>)>,
}

/// What features turn on that were met so far.
struct ReachedFeatures<'r> {
    release: &'r CrateRelease,
    /// Optional needs that are on, by the names under which they are used.
    on: BTreeSet<String>,
    /// Features that are wanted of needs, by the same names.
    of_needs: BTreeMap<String, BTreeSet<String>>,
    /// The same, wanted only if the need is on.
    if_on: Vec<(String, String)>,
}

impl ReachedFeatures<'_> {
    fn is_optional_need(&self, name: &str) -> bool {
        self.release
            .needs
            .iter()
            .any(|need| need.name == name && need.is_optional)
    }

    /// Takes in what a feature turns on; further features go to `open`.
    fn turn_on(&mut self, item: &str, open: &mut Vec<String>) {
        match (item.strip_prefix("dep:"), item.split_once('/')) {
            (Some(need), _) => drop(self.on.insert(need.to_owned())),
            (None, Some((need, of_need))) => match need.strip_suffix('?') {
                Some(need) => self.if_on.push((need.to_owned(), of_need.to_owned())),
                None => {
                    self.of_needs
                        .entry(need.to_owned())
                        .or_default()
                        .insert(of_need.to_owned());
                    if self.is_optional_need(need) {
                        self.on.insert(need.to_owned());
                        // A feature of that name is on with it, if there is one.
                        open.extend(
                            self.release
                                .features
                                .contains_key(need)
                                .then(|| need.to_owned()),
                        );
                    }
                }
            },
            (None, None) => open.push(item.to_owned()),
        }
    }
}

/// Finds out what is on in a version of which these features are wanted.
pub(crate) fn active<'r>(
    release: &'r CrateRelease,
    wanted: &BTreeSet<String>,
    target: &CrateTarget,
) -> Active<'r> {
    let mut reached = ReachedFeatures {
        release,
        on: BTreeSet::new(),
        of_needs: BTreeMap::new(),
        if_on: Vec::new(),
    };
    let mut features = BTreeSet::new();
    let mut open: Vec<String> = wanted.iter().cloned().collect();
    while let Some(feature) = open.pop() {
        if !features.insert(feature.clone()) {
            continue;
        }
        if let Some(turns_on) = release.features.get(&feature) {
            turns_on
                .iter()
                .for_each(|item| reached.turn_on(item, &mut open));
        } else if reached.is_optional_need(&feature) {
            // An optional need is a feature by its name, where no feature speaks of it otherwise.
            reached.on.insert(feature);
        } else {
            features.remove(&feature);
        }
    }
    let ReachedFeatures {
        on,
        mut of_needs,
        if_on,
        ..
    } = reached;
    let is_on = |need: &CrateNeed| !need.is_optional || on.contains(&need.name);
    for (need, of_need) in if_on {
        if release.needs.iter().any(|n| n.name == need && is_on(n)) {
            of_needs.entry(need).or_default().insert(of_need);
        }
    }
    let here = |need: &&CrateNeed| {
        is_on(need)
            && need
                .target
                .as_ref()
                .is_none_or(|condition| target.matches(condition))
    };
    let needs = release.needs.iter().filter(here).map(|need| {
        let mut wanted: BTreeSet<String> = need.features.iter().cloned().collect();
        wanted.extend(of_needs.get(&need.name).into_iter().flatten().cloned());
        if need.with_default {
            wanted.insert("default".to_owned());
        }
        (need, wanted)
    });
    let needs = needs.collect();
    Active { features, needs }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use semver::{Version, VersionReq};

    use super::*;

    fn need(name: &str, is_optional: bool, target: Option<&str>) -> CrateNeed {
        CrateNeed {
            name: name.to_owned(),
            package: name.to_owned(),
            is_renamed: false,
            requirement: VersionReq::STAR,
            features: vec![],
            with_default: false,
            is_optional,
            target: target.map(str::to_owned),
            for_build: false,
        }
    }

    fn on(wanted: &[&str], features: &[(&str, &[&str])]) -> (Vec<String>, Vec<String>) {
        let texts = |items: &[&str]| {
            items
                .iter()
                .map(|item| (*item).to_owned())
                .collect::<Vec<_>>()
        };
        let release = CrateRelease {
            version: Version::new(1, 0, 0),
            needs: vec![
                need("ebb", true, None),
                need("flow", true, None),
                need("moon", false, None),
                need("win", false, Some("cfg(windows)")),
            ],
            features: features
                .iter()
                .map(|(name, items)| ((*name).to_owned(), texts(items)))
                .collect(),
            digest: String::new(),
            is_yanked: false,
            rustc: None,
        };
        let target = CrateTarget::of("linux-x86_64", &BTreeMap::new()).unwrap();
        let active = active(&release, &texts(wanted).into_iter().collect(), &target);
        let told = |(need, of): &(&CrateNeed, BTreeSet<String>)| {
            std::iter::once(need.name.clone())
                .chain(of.iter().cloned())
                .collect::<Vec<_>>()
                .join("+")
        };
        (
            active.features.iter().cloned().collect(),
            active.needs.iter().map(told).collect(),
        )
    }

    #[test]
    fn features_turn_on_features_and_needs() {
        let (features, needs) = on(
            &["default"],
            &[("default", &["std"]), ("std", &["moon/std"])],
        );
        assert_eq!(
            (features, needs),
            (
                vec!["default".into(), "std".into()],
                vec!["moon+std".to_owned()]
            )
        );
        assert_eq!(on(&["ebb"], &[]).1, ["ebb", "moon"]);
        assert_eq!(
            on(&["a"], &[("a", &["dep:ebb", "flow/deep"])]).1,
            ["ebb", "flow+deep", "moon"]
        );
        // What is only wanted if it is there anyway turns nothing on.
        assert_eq!(on(&["a"], &[("a", &["ebb?/deep"])]).1, ["moon"]);
        assert_eq!(
            on(&["a", "b"], &[("a", &["ebb?/deep"]), ("b", &["dep:ebb"])]).1,
            ["ebb+deep", "moon"]
        );
        assert_eq!(on(&["nothing"], &[]), (vec![], vec!["moon".to_owned()]));
    }
}
