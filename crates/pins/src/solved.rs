//! What a resolution gave, and how those of several systems become one.

use std::collections::{BTreeMap, BTreeSet};

use crate::file::{AskedPackage, Need, Pin, Shelf};

/// Versions that are kept if they still do, by name, the best first.
pub(crate) type Preferred = BTreeMap<String, Vec<String>>;

/// The same as a registry reads versions; those that it does not read are left out.
pub(crate) fn parsed_versions<V>(
    preferred: &Preferred,
    parse: impl Fn(&str) -> Option<V>,
) -> BTreeMap<String, Vec<V>> {
    let parsed = preferred.iter().map(|(name, versions)| {
        let versions = versions.iter().filter_map(|version| parse(version));
        (name.clone(), versions.collect())
    });
    parsed.collect()
}

/// What was chosen for one system. Nothing in it says on which.
#[derive(Clone, Debug, Default)]
pub(crate) struct Solved {
    pub pins: BTreeMap<String, Pin>,
    /// Which pin each name that is asked for leads to.
    pub asked: BTreeMap<String, String>,
}

/// Adds names to others; all are sorted then, each once.
fn unite(names: &mut Vec<String>, more: Vec<String>) {
    let all: BTreeSet<String> = names.drain(..).chain(more).collect();
    names.extend(all);
}

/// Puts together what was chosen for each system of a shelf, in the order of its systems.
pub(crate) fn together(
    systems: &BTreeMap<String, BTreeMap<String, String>>,
    asked: &BTreeMap<String, AskedPackage>,
    solved: Vec<Solved>,
) -> Shelf {
    let names: Vec<&String> = systems.keys().collect();
    let named = |at: &BTreeSet<usize>| -> Vec<String> {
        at.iter().map(|number| names[*number].clone()).collect()
    };
    let mut pins: BTreeMap<String, (Pin, BTreeSet<usize>)> = BTreeMap::new();
    let mut needs: BTreeMap<(String, Need), BTreeSet<usize>> = BTreeMap::new();
    let mut archives: BTreeMap<(String, crate::file::Archive), BTreeSet<usize>> = BTreeMap::new();
    let mut asked: BTreeMap<String, AskedPackage> = asked.clone();
    asked.values_mut().for_each(|asked| asked.pins.clear());
    for (n, one) in solved.into_iter().enumerate() {
        for (name, id) in one.asked {
            let known = asked.get_mut(&name);
            if let Some(asked) = known.filter(|asked| !asked.pins.contains(&id)) {
                asked.pins.push(id);
                asked.pins.sort();
            }
        }
        for (id, mut pin) in one.pins {
            for need in std::mem::take(&mut pin.needs) {
                needs.entry((id.clone(), need)).or_default().insert(n);
            }
            for archive in std::mem::take(&mut pin.archives) {
                archives.entry((id.clone(), archive)).or_default().insert(n);
            }
            let (known, at) = pins
                .entry(id)
                .or_insert_with(|| (pin.clone(), BTreeSet::new()));
            at.insert(n);
            unite(&mut known.features, pin.features);
            unite(&mut known.packages, pin.packages);
        }
    }
    let everywhere = pins.iter().map(|(id, (_, at))| (id.clone(), at.clone()));
    let everywhere: BTreeMap<String, BTreeSet<usize>> = everywhere.collect();
    let mut shelf = Shelf {
        systems: systems.clone(),
        asked,
        pins: BTreeMap::new(),
    };
    for (id, (mut pin, at)) in pins {
        // What is so everywhere needs no word.
        pin.on = match at.len() == names.len() {
            true => Vec::new(),
            false => named(&at),
        };
        shelf.pins.insert(id, pin);
    }
    // What is so wherever the pin is needs no word, either.
    let of_pin = |id: &str, at: &BTreeSet<usize>| match everywhere.get(id) == Some(at) {
        true => Vec::new(),
        false => named(at),
    };
    for ((id, need), at) in needs {
        if let Some(pin) = shelf.pins.get_mut(&id) {
            let on = of_pin(&id, &at);
            pin.needs.push(Need { on, ..need });
        }
    }
    for ((id, archive), at) in archives {
        if let Some(pin) = shelf.pins.get_mut(&id) {
            let on = of_pin(&id, &at);
            pin.archives.push(crate::file::Archive { on, ..archive });
        }
    }
    shelf.settle();
    shelf
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn features_that_systems_need_are_those_of_all_of_them() {
        let solved = |features: &[&str]| {
            let features = features
                .iter()
                .map(|feature| (*feature).to_owned())
                .collect();
            let pin = Pin {
                name: "ebb".to_owned(),
                version: "1.0".to_owned(),
                features,
                ..Pin::default()
            };
            Solved {
                pins: [(pin.id(), pin.clone())].into(),
                asked: [("ebb".to_owned(), pin.id())].into(),
            }
        };
        let systems = ["linux-aarch64", "linux-x86_64"]
            .map(|name| (name.to_owned(), BTreeMap::new()))
            .into();
        let asked = [("ebb".to_owned(), AskedPackage::default())].into();
        let shelf = together(
            &systems,
            &asked,
            vec![solved(&["deep", "std"]), solved(&["low", "std"])],
        );
        assert_eq!(shelf.pins["ebb@1.0"].features, ["deep", "low", "std"]);
        assert!(shelf.pins["ebb@1.0"].on.is_empty());
    }
}
