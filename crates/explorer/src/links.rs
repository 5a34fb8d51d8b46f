//! Names of pages. All pages are in one folder, so that a link is a name, whether a page is served
//! or a file.

use std::collections::HashMap;

/// What a page is about, of a kind of which there are several.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub(crate) enum About {
    Target,
    Package,
    Kind,
    Graph,
    File,
    Build,
    Compared,
    Topic,
}

/// All kinds, with the words that names of pages begin with.
const ALL: [(About, &str); 8] = [
    (About::Target, "target"),
    (About::Package, "package"),
    (About::Kind, "kind"),
    (About::Graph, "graph"),
    (About::File, "file"),
    (About::Build, "build"),
    (About::Compared, "compared"),
    (About::Topic, "topic"),
];

/// A longer name is cut, in bytes: file systems take 255.
const LONGEST: usize = 180;

/// The name of the page about something: its letters and digits, and `~` with two hexadecimal
/// digits for everything else.
pub(crate) fn page(about: About, name: &str) -> String {
    let word = ALL
        .iter()
        .find(|(other, _)| *other == about)
        .map_or("", |(_, word)| word);
    format!("{word}.{}.html", encoded(name))
}

fn encoded(name: &str) -> String {
    let mut out = String::new();
    for byte in name.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'_' | b'-' => out.push(byte as char),
            other => out.push_str(&format!("~{other:02x}")),
        }
    }
    if out.len() <= LONGEST {
        return out;
    }
    // Cut, but still of this one alone.
    format!(
        "{}~~{}",
        &out[..LONGEST - 20],
        &nubrik_bytes::Digest::of(name.as_bytes()).hex()[..16]
    )
}

/// Names that are cut in the names of their pages, by these.
pub(crate) type CutNames = HashMap<(About, String), String>;

/// Those of all things that have a page.
pub(crate) fn cut_names(known: impl Fn(About) -> Vec<String>) -> CutNames {
    let names = ALL
        .iter()
        .flat_map(|(about, _)| known(*about).into_iter().map(|name| (*about, name)));
    let cut = names.filter_map(|(about, name)| {
        let encoded = encoded(&name);
        encoded.contains("~~").then_some(((about, encoded), name))
    });
    cut.collect()
}

/// What a page of some name is about. A name that was cut is looked for among those that are.
pub(crate) fn about<'c>(page: &str, cut: impl Fn() -> &'c CutNames) -> Option<(About, String)> {
    let (word, rest) = page.strip_suffix(".html")?.split_once('.')?;
    let about = ALL
        .iter()
        .find(|(_, other)| *other == word)
        .map(|(about, _)| *about)?;
    if rest.contains("~~") {
        return Some((about, cut().get(&(about, rest.to_owned()))?.clone()));
    }
    let mut bytes = Vec::new();
    let mut chars = rest.bytes();
    while let Some(byte) = chars.next() {
        if byte != b'~' {
            bytes.push(byte);
            continue;
        }
        let digits = [chars.next()?, chars.next()?];
        bytes.push(u8::from_str_radix(std::str::from_utf8(&digits).ok()?, 16).ok()?);
    }
    Some((about, String::from_utf8(bytes).ok()?))
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn names_of_pages_lead_back() {
        let none = CutNames::new();
        assert_eq!(page(About::Target, "tide/fit"), "target.tide~2ffit.html");
        for name in ["", "tide/fit", "a:b c", "höhe/~x", "..", "a.b"] {
            let page = page(About::File, name);
            assert!(
                page.chars()
                    .all(|c| c.is_ascii_alphanumeric() || "._-~".contains(c))
            );
            assert_eq!(about(&page, || &none), Some((About::File, name.to_owned())));
        }
        assert_eq!(about("target.~zz.html", || &none), None);
        assert_eq!(about("other.x.html", || &none), None);
    }

    #[test]
    fn long_names_are_cut_and_found_among_those_that_there_are() {
        let long = "deep/".repeat(80);
        let page = page(About::Target, &long);
        assert!(page.len() < 220);
        let known = cut_names(|about| {
            let names = vec!["other".to_owned(), long.clone()];
            if about == About::Target {
                names
            } else {
                Vec::new()
            }
        });
        assert_eq!(
            (known.len(), about(&page, || &known)),
            (1, Some((About::Target, long.clone())))
        );
    }
}
