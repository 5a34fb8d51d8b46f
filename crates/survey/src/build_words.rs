//! Names that only a build defines: by a word for the compiler in its files, or by what they are
//! usually called.

use std::collections::BTreeMap;

use regex::Regex;

use crate::tree::{SourceTree, ext_of};

/// Endings of files that do not say how sources are compiled: these themselves, and what is written
/// for people.
const OTHERS: [&str; 18] = [
    "S", "adoc", "asm", "c", "cc", "cpp", "cxx", "h", "hh", "hpp", "htm", "html", "md", "po",
    "rst", "s", "svg", "xml",
];

/// Folders of an installed system, by how names for them end.
const FOLDERS: [(&str, &str); 7] = [
    ("LOCALEDIR", "/usr/share/locale"),
    ("SYSCONFDIR", "/etc"),
    ("DATADIR", "/usr/share"),
    ("LIBEXECDIR", "/usr/libexec"),
    ("LIBDIR", "/usr/lib"),
    ("BINDIR", "/usr/bin"),
    ("LOCALSTATEDIR", "/var"),
];

/// What a name represents, as it is written between `=` and the end of a word for the compiler;
/// `None` if nothing says it.
pub(crate) fn value_of(tree: &SourceTree, name: &str) -> Option<String> {
    tree.build_words(given).get(name).cloned().or_else(|| {
        let text = match name {
            "GETTEXT_PACKAGE" | "TEXTDOMAIN" => crate::without_version(&tree.name()).to_owned(),
            _ => FOLDERS
                .iter()
                .find(|(end, _)| name.ends_with(end))?
                .1
                .to_owned(),
        };
        Some(format!("\"{text}\""))
    })
}

/// The same, of what the files of the build say alone.
pub(crate) fn given_value_of(tree: &SourceTree, name: &str) -> Option<String> {
    tree.build_words(given).get(name).cloned()
}

/// The values that files of the build give, where these need nothing else to be known. The first
/// one counts.
fn given(tree: &SourceTree) -> BTreeMap<String, String> {
    let mut values = BTreeMap::new();
    let Ok(pattern) = Regex::new(r"-D\s*(\w+)(?:=(\S*))?(?:\s|$)") else {
        return values;
    };
    let is_build = |file: &&String| !OTHERS.contains(&ext_of(file));
    let texts: Vec<_> = tree
        .files()
        .iter()
        .filter(is_build)
        .filter_map(|file| tree.text(file))
        .collect();
    for text in &texts {
        for found in pattern.captures_iter(text) {
            let written = found.get(2).map_or("1", |value| value.as_str());
            // Quotes of the shell and of the language, in whatever way they are put together.
            let bare: String = written
                .chars()
                .filter(|c| !matches!(c, '\\' | '\''))
                .collect();
            let is_text = bare.starts_with('"');
            let ended = if bare.contains('$') {
                bare.as_str()
            } else {
                bare.trim_end_matches([')', ';'])
            };
            let bare = ended.trim_matches('"');
            let everywhere = || {
                texts
                    .iter()
                    .filter(|other| !std::rc::Rc::ptr_eq(other, text))
            };
            let say = |name: &str| {
                assigned(text, name)
                    .or_else(|| everywhere().find_map(|other| assigned(other, name)))
            };
            let Some(value) = expanded(if bare.is_empty() { written } else { bare }, &say, 0)
            else {
                continue;
            };
            let is_fine = |c: char| {
                c.is_ascii_alphanumeric()
                    || matches!(c, '_' | '.' | '-' | '+')
                    || is_text && c == '/'
            };
            if value.chars().all(is_fine) {
                let value = if is_text {
                    format!("\"{value}\"")
                } else {
                    value
                };
                values.entry(found[1].to_owned()).or_insert(value);
            }
        }
    }
    values
}

/// A text with what its variables are given in their place: `$(SIZE)`, `${SIZE}`. `None` where one
/// is given nothing.
fn expanded<'t>(
    text: &str,
    say: &impl Fn(&str) -> Option<&'t str>,
    depth: usize,
) -> Option<String> {
    const DEEPEST: usize = 5;
    let Some(at) = text.find('$') else {
        return Some(text.to_owned());
    };
    let (open, close) = if text[at + 1..].starts_with('{') {
        ('{', '}')
    } else {
        ('(', ')')
    };
    let rest = text[at + 1..].strip_prefix(open)?;
    let (name, rest) = rest.split_once(close)?;
    if depth > DEEPEST {
        return None;
    }
    let inside = expanded(say(name)?, say, depth + 1)?;
    Some(format!(
        "{}{inside}{}",
        &text[..at],
        expanded(rest, say, depth)?
    ))
}

/// What a file of rules gives a variable.
fn assigned<'t>(text: &'t str, name: &str) -> Option<&'t str> {
    text.lines().find_map(|line| {
        let rest = line.trim_start().strip_prefix(name)?;
        let value = rest
            .trim_start()
            .trim_start_matches([':', '?'])
            .strip_prefix('=')?;
        Some(value.split('#').next().unwrap_or(value).trim())
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_build_says_is_taken_if_it_is_plain() {
        let text = "CFLAGS += -DSIZE=4096 -DFAST -DNAME=\\\"x\\\" -DPLACE=$(prefix)/x -DDEEP=$(DEPTH)\nDEPTH := 12 # why\n";
        let tree = SourceTree::of(&[("src/rules", text), ("README.md", "-DLOST=1 ")]);
        let value = |name: &str| value_of(&tree, name);
        assert_eq!(
            (value("SIZE").as_deref(), value("FAST").as_deref()),
            (Some("4096"), Some("1"))
        );
        assert_eq!(value("DEEP").as_deref(), Some("12"));
        assert_eq!(value("NAME").as_deref(), Some("\"x\""));
        assert_eq!((value("PLACE"), value("LOST")), (None, None));
        assert_eq!(value("TIDE_SYSCONFDIR").as_deref(), Some("\"/etc\""));
    }

    #[test]
    fn variables_of_other_files_are_looked_up_and_circles_end() {
        let text = "F = -DVERSION=\\\"$(V)\\\" -DHOME='\"$(PREFIX)/share\"' -DROUND=$(A) -DCALL=$(shell date)\nA = $(B)\nB = ${A}\n";
        let more = "  V = $(MAJOR).2\nMAJOR=7\n  PREFIX=/usr/local\n";
        let tree = SourceTree::of(&[("rules", text), ("version.mk", more)]);
        let value = |name: &str| given_value_of(&tree, name);
        assert_eq!(value("VERSION").as_deref(), Some("\"7.2\""));
        assert_eq!(value("HOME").as_deref(), Some("\"/usr/local/share\""));
        assert_eq!((value("ROUND"), value("CALL")), (None, None));
    }
}
