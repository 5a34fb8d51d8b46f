//! Names of what is made of C and C++.

use super::c_parts::{CRole, Parts};
use super::c_places::{is_part, plain_name};
use crate::Survey;
use crate::tree::{folder_of, name_of, stem_of};

/// Gives all parts their names; programs first, since people type them.
pub(super) fn name(survey: &mut Survey<'_>, parts: &mut Parts) {
    for round in [
        CRole::Program,
        CRole::Library,
        CRole::Helpers,
        CRole::Sample,
        CRole::Test,
    ] {
        for part in parts.all.iter_mut().filter(|part| part.place.role == round) {
            let component = part.place.component.clone();
            let (wish, or_else) = match (round, &part.main) {
                (CRole::Library, _) | (_, None) if round != CRole::Helpers => {
                    (plain_name(survey, &component), "library")
                }
                (CRole::Helpers, _) | (_, None) => ("testing".to_owned(), "library"),
                (role, Some(main)) => {
                    let stem = stem_of(main);
                    let is_plain = ["main", "cli", "app"].contains(&stem);
                    let folder = name_of(folder_of(main));
                    let wish = match is_plain {
                        true if is_part(folder) || folder.is_empty() => {
                            plain_name(survey, &component)
                        }
                        true => folder.to_owned(),
                        false => stem.to_owned(),
                    };
                    (
                        wish,
                        if role == CRole::Test {
                            "test"
                        } else {
                            "program"
                        },
                    )
                }
            };
            part.address = Some(survey.names.give(&component, &wish, or_else));
        }
    }
}
