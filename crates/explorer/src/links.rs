//! Names of pages. All pages are in one folder, so that a link is a name, whether a page is served or a file.

/// What a page is about, of a kind of which there are several.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
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

/// The name of the page about something: its letters and digits, and `~` with two hexadecimal digits for everything else.
pub(crate) fn page(about: About, name: &str) -> String {
    let word = ALL.iter().find(|(other, _)| *other == about).map_or("", |(_, word)| word);
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
    format!("{}~~{}", &out[..LONGEST - 20], &nubrik_bytes::Digest::of(name.as_bytes()).hex()[..16])
}

/// What a page of some name is about. A name that was cut is looked for among `known` ones.
pub(crate) fn about(page: &str, known: impl Fn(About) -> Vec<String>) -> Option<(About, String)> {
    let (word, rest) = page.strip_suffix(".html")?.split_once('.')?;
    let about = ALL.iter().find(|(_, other)| *other == word).map(|(about, _)| *about)?;
    if rest.contains("~~") {
        let found = known(about).into_iter().find(|name| encoded(name) == rest)?;
        return Some((about, found));
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
        assert_eq!(page(About::Target, "tide/fit"), "target.tide~2ffit.html");
        for name in ["", "tide/fit", "a:b c", "höhe/~x", "..", "a.b"] {
            let page = page(About::File, name);
            assert!(page.chars().all(|c| c.is_ascii_alphanumeric() || "._-~".contains(c)));
            assert_eq!(about(&page, |_| Vec::new()), Some((About::File, name.to_owned())));
        }
        assert_eq!(about("target.~zz.html", |_| Vec::new()), None);
        assert_eq!(about("other.x.html", |_| Vec::new()), None);
    }

    #[test]
    fn long_names_are_cut_and_found_among_those_that_there_are() {
        let long = "deep/".repeat(80);
        let page = page(About::Target, &long);
        assert!(page.len() < 220);
        let known = |_| vec!["other".to_owned(), long.clone()];
        assert_eq!(about(&page, known), Some((About::Target, long.clone())));
    }
}
