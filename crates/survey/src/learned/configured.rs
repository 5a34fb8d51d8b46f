//! Headers that a configuration made: what a survey asks of the machine for them, with the values
//! that the configuration gave for all that no machine can be asked for.

use std::collections::{BTreeMap, BTreeSet};

use regex::Regex;

use super::SeenBuild;
use crate::proposal::{Body, Definition};
use crate::tree::{SourceTree, name_of};
use crate::writing::quoted;

/// How the code of such a definition begins.
const BEGIN: &str = "c.config_header {\n    path = ";

/// Where the rows of names are.
const ROWS: &str = "    defines = {\n";

/// The names that a header defines, each with its value.
pub fn defines_of(text: &str) -> BTreeMap<String, String> {
    let Ok(line) = Regex::new(r"(?m)^[ \t]*#[ \t]*define[ \t]+(\w+)(?:[ \t]+(.*?))?[ \t]*\r?$")
    else {
        return BTreeMap::new();
    };
    let comment = |value: &str| {
        value
            .split("/*")
            .next()
            .unwrap_or_default()
            .trim()
            .to_owned()
    };
    let found = line.captures_iter(text);
    found
        .map(|row| {
            (
                row[1].to_owned(),
                row.get(2)
                    .map_or(String::new(), |value| comment(value.as_str())),
            )
        })
        .collect()
}

/// The definition of a survey for a header, with what a configuration put into the header: names
/// that are defined there and of which a survey knows no question get these values, and names that
/// are not defined there stay undefined. Nothing where the definition is for another header, or in
/// another form.
pub(super) fn configured(
    surveyed: &Definition,
    file: &str,
    made: &str,
    tree: &SourceTree,
    build: &SeenBuild,
) -> Option<Definition> {
    let command = &build.command;
    let Body::Code(code, takes) = &surveyed.body else {
        return None;
    };
    let path = code.strip_prefix(BEGIN)?.lines().next()?.trim_matches('"');
    if path != name_of(file) || !surveyed.address.package.is_empty() {
        return None;
    }
    let defined = defines_of(made);
    let template = takes.iter().next().and_then(|template| tree.text(template));
    // A template that is taken as a whole says itself what it does not ask for.
    let asks = |name: &str| match &template {
        Some(text) => {
            let wanted =
                format!(r"(?m)^[ \t]*#[ \t]*(undef|cmakedefine|cmakedefine01)[ \t]+{name}\b");
            Regex::new(&wanted).is_ok_and(|wanted| wanted.is_match(text))
        }
        None => true,
    };
    let (head, rest) = code.split_once(ROWS)?;
    let end = rest.find("    }\n")?;
    let rows = rest[..end].lines();
    let rows = rows.filter_map(|row| Some((name_in_row(row)?, row.to_owned())));
    // A row without a question is a guess of the survey.
    let is_asked = |(name, row): &(String, String)| {
        defined.contains_key(name) && row.contains(" c.") && !build.as_seen.contains(name)
    };
    let mut rows: BTreeMap<String, String> = rows.filter(is_asked).collect();
    let is_given = |name: &&String| !rows.contains_key(*name) && asks(name);
    let given: BTreeSet<&str> = defined
        .keys()
        .filter(is_given)
        .map(String::as_str)
        .collect();
    for name in &given {
        let row = format!("        {}: {}", quoted(name), quoted(&defined[*name]));
        rows.insert((*name).to_owned(), row);
    }
    let rows: String = rows.into_values().map(|row| row + "\n").collect();
    let code = format!("{head}{ROWS}{rows}{}", &rest[end..]);
    let mut definition = Definition {
        body: Body::Code(code, takes.clone()),
        ..surveyed.clone()
    };
    let name = name_of(file);
    definition.documentation =
        format!("{name}, as `{command}` makes it: what this machine has is asked.");
    let reasons = &mut definition.reasons;
    reasons.retain(|reason| !reason.starts_with("Left undefined"));
    if !given.is_empty() {
        let names: Vec<&str> = given.into_iter().collect();
        reasons.push(format!("Values of `{command}`: {}.", names.join(", ")));
    }
    Some(definition)
}

/// The name that a row is about.
fn name_in_row(row: &str) -> Option<String> {
    let (name, _) = row.trim_start().strip_prefix('"')?.split_once('"')?;
    Some(name.to_owned())
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;
    use crate::{Answers, NoMachine, survey};

    #[test]
    fn what_no_machine_can_be_asked_has_the_value_of_the_configuration() {
        let files = [
            (
                "config.h.in",
                "#undef HAVE_STRING_H\n#undef HAVE_NO_SUCH_H\n#undef PACKAGE\n#undef HAVE_SEA_H\n#ifndef _ALL\n# define _ALL 1\n#endif\n",
            ),
            (
                "a.c",
                "#include \"config.h\"\nint main(void) { return sizeof PACKAGE > HAVE_STRING_H + HAVE_NO_SUCH_H + HAVE_SEA_H; }\n",
            ),
        ];
        let tree = SourceTree::of(&files);
        let proposal = survey(&tree, "", &Answers::new(), &NoMachine);
        let surveyed = proposal
            .definitions
            .iter()
            .find(|one| matches!(&one.body, Body::Code(code, _) if code.starts_with(BEGIN)));
        let made = "#define HAVE_STRING_H 1 /* there */\n/* #undef HAVE_NO_SUCH_H */\n#define PACKAGE \"tides\"\n# define _ALL 1\n#define EMPTY\n";
        let mut build = SeenBuild {
            command: "./build.sh".to_owned(),
            ..SeenBuild::default()
        };
        let learned = configured(surveyed.unwrap(), "config.h", made, &tree, &build).unwrap();
        let Body::Code(code, _) = &learned.body else {
            unreachable!()
        };
        assert!(
            code.contains(
                "\"HAVE_STRING_H\": if c.header_exists(\"string.h\") then \"1\" else none"
            ),
            "{code}"
        );
        assert!(code.contains("\"PACKAGE\": '\"tides\"'"), "{code}");
        for gone in ["HAVE_NO_SUCH_H", "HAVE_SEA_H", "_ALL", "EMPTY"] {
            assert!(!code.contains(&format!("\"{gone}\"")), "{gone}: {code}");
        }
        assert_eq!(
            learned.reasons.last().unwrap(),
            "Values of `./build.sh`: PACKAGE."
        );
        assert!(configured(surveyed.unwrap(), "other.h", made, &tree, &build).is_none());
        // Where the machine answers otherwise than the configuration, that one holds.
        build.as_seen.insert("HAVE_STRING_H".to_owned());
        let learned = configured(surveyed.unwrap(), "config.h", made, &tree, &build).unwrap();
        let Body::Code(code, _) = &learned.body else {
            unreachable!()
        };
        assert!(code.contains("\"HAVE_STRING_H\": \"1\""), "{code}");
        assert_eq!(defines_of(made).get("EMPTY").map(String::as_str), Some(""));
    }
}
