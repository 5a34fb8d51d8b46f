//! Names for definitions, no two the same in a package.

use std::collections::{BTreeMap, BTreeSet};

use crate::proposal::{DefinitionAddress, Kit};

/// Names that are taken, by package.
#[derive(Default)]
pub struct NameGiver {
    taken: BTreeMap<String, BTreeSet<String>>,
}

impl NameGiver {
    /// Takes a name that is there already.
    pub fn take(&mut self, package: &str, name: &str) {
        self.taken
            .entry(package.to_owned())
            .or_default()
            .insert(name.to_owned());
    }

    /// A name in a package, made from words of a project. If it is taken, or says something else,
    /// the second word is added.
    pub fn give(&mut self, package: &str, wish: &str, or_else: &str) -> DefinitionAddress {
        let wish = usable(wish);
        let taken = self.taken.entry(package.to_owned()).or_default();
        let is_free = |name: &str| {
            nubrik_lang::is_free_name(name)
                && !taken.contains(name)
                && !Kit::ALL.into_iter().any(|kit| kit.name() == name)
        };
        let longer = if wish.is_empty() {
            or_else.to_owned()
        } else {
            format!("{wish}_{or_else}")
        };
        let numbered = (2..).map(|n| format!("{longer}_{n}"));
        let mut ways = [wish, longer.clone()].into_iter().chain(numbered);
        let name = ways.find(|name| is_free(name)).unwrap_or_default();
        taken.insert(name.clone());
        DefinitionAddress {
            package: package.to_owned(),
            name,
        }
    }
}

/// The characters of a text that may be in a name: small letters, digits and `_`, a letter first.
fn usable(text: &str) -> String {
    let text = text.to_lowercase();
    let name: String = text
        .chars()
        .map(|c| {
            if c.is_ascii_lowercase() || c.is_ascii_digit() {
                c
            } else {
                '_'
            }
        })
        .collect();
    name.trim_matches('_')
        .trim_start_matches(|c: char| !c.is_ascii_lowercase())
        .to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_free_and_each_given_once() {
        let mut names = NameGiver::default();
        let mut name = |wish: &str, or_else: &str| names.give("p", wish, or_else).name;
        assert_eq!(name("Tide-Table", "library"), "tide_table");
        assert_eq!(name("tide table", "program"), "tide_table_program");
        assert_eq!(name("tide_table", "program"), "tide_table_program_2");
        assert_eq!(name("c", "library"), "c_library");
        assert_eq!(name("target", "tests"), "target_tests");
        assert_eq!(name("7zip", "program"), "zip");
        assert_eq!(name("--", "program"), "program");
        assert_eq!(names.give("q", "tide table", "program").name, "tide_table");
    }
}
