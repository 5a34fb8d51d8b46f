//! What texts speak of: files of the system in words of commands, headers that sources ask about.

use std::sync::Arc;

/// The files of the system that a word names: absolute paths in it, alone, behind an option (`--jar=/usr/share/x.jar`), in
/// a list (`/usr/share/a.jar:/usr/share/b.jar`), or in the text of a shell.
pub(crate) fn system_files_in(word: &str, is_system: &dyn Fn(&str) -> bool) -> Vec<Arc<str>> {
    let ends_path = |c: char| c.is_whitespace() || "=:,;|&()<>`${}'\"\0*?[]@".contains(c);
    let mut found = Vec::new();
    let mut rest = word;
    let mut before = None;
    while let Some(at) = rest.find('/') {
        let previous = rest[..at].chars().next_back().or(before);
        let path = &rest[at..];
        let end = path.find(ends_path).unwrap_or(path.len());
        let path = &path[..end];
        // Behind a letter the slash stands in the middle of a path.
        let is_absolute = previous.is_none_or(ends_path);
        if is_absolute && path.len() > 1 && is_system(path) {
            found.push(path.trim_end_matches('/').into());
        }
        before = path.chars().next_back();
        rest = &rest[at + path.len()..];
    }
    found
}

/// What a source asks about with `__has_include` or `__has_embed`.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) enum Asked {
    /// Whether there is a file of this name.
    Name(String),
    /// Whether there is one whose name only the compiler can put together.
    Computed,
}

/// What a source asks about, in its order.
pub(crate) fn asked_about(text: &[u8]) -> Vec<Asked> {
    let mut asked = Vec::new();
    for question in [b"__has_include".as_slice(), b"__has_embed"] {
        for at in memchr::memmem::find_iter(text, question) {
            let rest = &text[at + question.len()..];
            let rest = rest.strip_prefix(b"_next").unwrap_or(rest).trim_ascii_start();
            // Without what it asks about it only asks whether it may ask.
            let Some(rest) = rest.strip_prefix(b"(").map(<[u8]>::trim_ascii_start) else { continue };
            let name = match rest.first() {
                Some(b'<') => rest[1..].split(|b| *b == b'>').next(),
                Some(b'"') => rest[1..].split(|b| *b == b'"').next(),
                Some(_) => None,
                None => continue,
            };
            let name =
                name.filter(|name| !name.contains(&b'\n')).and_then(|name| std::str::from_utf8(name).ok());
            asked.push(name.map_or(Asked::Computed, |name| Asked::Name(name.to_owned())));
        }
    }
    asked
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_of_the_system_are_found_in_words() {
        let is_system = |path: &str| path.starts_with("/usr/") || path.starts_with("/etc/");
        let found = |word: &str| -> Vec<String> {
            system_files_in(word, &is_system).iter().map(|path| path.to_string()).collect()
        };
        assert_eq!(found("/usr/share/x.jar"), ["/usr/share/x.jar"]);
        assert_eq!(found("--cp=/usr/a.jar:/usr/b.jar,/etc/c"), ["/usr/a.jar", "/usr/b.jar", "/etc/c"]);
        assert_eq!(found("src/usr/a.c"), [""; 0]);
        assert_eq!(found("./usr/a.c"), [""; 0]);
        assert_eq!(found("-I/usr/include"), [""; 0]);
        assert_eq!(found("if [ -f /etc/motd ]; then cat</etc/motd; fi"), ["/etc/motd", "/etc/motd"]);
        assert_eq!(found("s/a/b/"), [""; 0]);
        assert_eq!(found("/usr/lib/ /home/x"), ["/usr/lib"]);
        assert_eq!(found("/"), [""; 0]);
    }

    #[test]
    fn questions_of_sources_are_found() {
        let text = b"#ifdef __has_include\n#if __has_include(<a/b.h>) || __has_include ( \"c.h\" ) || __has_include(X)\n";
        let name = |name: &str| Asked::Name(name.to_owned());
        assert_eq!(asked_about(text), [name("a/b.h"), name("c.h"), Asked::Computed]);
        assert_eq!(asked_about(b"__has_embed(<x>) __has_include_next(<y.h>"), [name("y.h"), name("x")]);
        assert_eq!(asked_about(b"__has_include("), []);
    }
}
