//! Names that only a build defines: by a word for the compiler in its files, or by what they are usually called.

use std::collections::BTreeMap;

use regex::Regex;

use crate::tree::{SourceTree, ext_of};

/// Endings of files that do not say how sources are compiled: these themselves, and what is written for people.
const OTHERS: [&str; 18] = [
    "S", "adoc", "asm", "c", "cc", "cpp", "cxx", "h", "hh", "hpp", "htm", "html", "md", "po", "rst", "s",
    "svg", "xml",
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

/// What a name represents, as it is written between `=` and the end of a word for the compiler; `None` if nothing says it.
pub(crate) fn value_of(tree: &SourceTree, name: &str) -> Option<String> {
    tree.build_words(given).get(name).cloned().or_else(|| {
        let text = match name {
            "GETTEXT_PACKAGE" | "TEXTDOMAIN" => crate::without_version(&tree.name()).to_owned(),
            _ => FOLDERS.iter().find(|(end, _)| name.ends_with(end))?.1.to_owned(),
        };
        Some(format!("\"{text}\""))
    })
}

/// The values that files of the build give, where these need nothing else to be known. The first one counts.
fn given(tree: &SourceTree) -> BTreeMap<String, String> {
    let mut values = BTreeMap::new();
    let Ok(pattern) = Regex::new(r"-D\s*(\w+)(?:=(\S*))?(?:\s|$)") else { return values };
    for file in tree.files().iter().filter(|file| !OTHERS.contains(&ext_of(file))) {
        let Some(text) = tree.text(file) else { continue };
        for found in pattern.captures_iter(&text) {
            let value = found.get(2).map_or("1", |value| value.as_str());
            let value = match variable(value) {
                Some(name) => assigned(&text, name),
                None => Some(value.trim_end_matches([')', ';'])),
            };
            let is_fine = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '.' | '-' | '+');
            if let Some(value) = value.filter(|value| value.chars().all(is_fine)) {
                values.entry(found[1].to_owned()).or_insert_with(|| value.to_owned());
            }
        }
    }
    values
}

/// The variable that a word is: `$(SIZE)`, `${SIZE}`.
fn variable(word: &str) -> Option<&str> {
    let inside = |open, close| word.strip_prefix(open)?.strip_suffix(close);
    inside("$(", ")").or_else(|| inside("${", "}"))
}

/// What a file of rules gives a variable.
fn assigned<'t>(text: &'t str, name: &str) -> Option<&'t str> {
    text.lines().find_map(|line| {
        let value = line.strip_prefix(name)?.trim_start().trim_start_matches([':', '?']).strip_prefix('=')?;
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
        assert_eq!((value("SIZE").as_deref(), value("FAST").as_deref()), (Some("4096"), Some("1")));
        assert_eq!(value("DEEP").as_deref(), Some("12"));
        assert_eq!((value("NAME"), value("PLACE"), value("LOST")), (None, None, None));
        assert_eq!(value("TIDE_SYSCONFDIR").as_deref(), Some("\"/etc\""));
    }
}
