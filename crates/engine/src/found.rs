//! Listings in which commands say what they read: the rules that C compilers and linkers write
//! (`target: file file \`), with spaces and `#` escaped by a backslash and `$` doubled.

/// A listed file.
#[derive(Clone, PartialEq, Eq, Debug, PartialOrd, Ord)]
pub enum Listed {
    /// A file of the workspace: path from its root.
    Inside(String),
    /// A file of the system: absolute path.
    System(String),
}

/// The files in a listing, sorted, each once. Names before a `:` are what was made, not read;
/// files in folders that hold no real inputs (`/proc`, `/dev`, `/tmp`) are left out.
///
/// `root` is the workspace's absolute path; `work` the folder in which the command ran, from there.
pub fn parse_listing(text: &str, root: &str, work: &str) -> Vec<Listed> {
    let mut files = Vec::new();
    for rule in logical_lines(text) {
        let words = split_words(&rule);
        let Some(colon) = words.iter().position(|w| w.ends_target) else { continue };
        files.extend(
            words[colon + 1..].iter().filter(|w| !w.ends_target).filter_map(|w| place(&w.text, root, work)),
        );
    }
    files.sort();
    files.dedup();
    files
}

/// Lines with those that end in a backslash joined to the next one.
fn logical_lines(text: &str) -> Vec<String> {
    let mut lines = Vec::new();
    let mut current = String::new();
    for line in text.lines() {
        match line.strip_suffix('\\') {
            Some(part) => {
                current.push_str(part);
                current.push(' ');
            }
            None => {
                current.push_str(line);
                lines.push(std::mem::take(&mut current));
            }
        }
    }
    lines.push(current);
    lines
}

struct Word {
    text: String,
    /// Whether a `:` stood behind the word.
    ends_target: bool,
}

fn split_words(line: &str) -> Vec<Word> {
    let mut words = Vec::new();
    let mut text = String::new();
    let mut chars = line.chars().peekable();
    let mut seen_colon = false;
    while let Some(c) = chars.next() {
        match c {
            '\\' if matches!(chars.peek(), Some(' ' | '#' | ':' | '\\' | '\t')) => text.extend(chars.next()),
            '$' if chars.peek() == Some(&'$') => text.extend(chars.next()),
            // The first `:` before white space or the line's end closes the targets.
            ':' if !seen_colon && chars.peek().is_none_or(|c| c.is_whitespace()) => {
                seen_colon = true;
                words.push(Word { text: std::mem::take(&mut text), ends_target: true });
            }
            c if c.is_whitespace() => {
                if !text.is_empty() {
                    words.push(Word { text: std::mem::take(&mut text), ends_target: false });
                }
            }
            c => text.push(c),
        }
    }
    if !text.is_empty() {
        words.push(Word { text, ends_target: false });
    }
    words
}

/// Where a listed name is: `.` and `..` taken out, the workspace's own absolute path taken off.
fn place(name: &str, root: &str, work: &str) -> Option<Listed> {
    let name = name.strip_prefix("/proc/self/cwd/").unwrap_or(name);
    let from_root =
        if work.is_empty() || name.starts_with('/') { None } else { Some(format!("{work}/{name}")) };
    let name = from_root.as_deref().unwrap_or(name);
    let absolute = name.starts_with('/');
    let mut parts: Vec<&str> = Vec::new();
    for part in name.split('/') {
        match part {
            "" | "." => {}
            ".." => {
                // A relative name may leave the workspace: then it is one of the system.
                if parts.pop().is_none() && !absolute {
                    let up = std::path::Path::new(root).join(name);
                    return up.canonicalize().ok().map(|p| Listed::System(p.to_string_lossy().into_owned()));
                }
            }
            part => parts.push(part),
        }
    }
    let joined = parts.join("/");
    if !absolute {
        return (!joined.is_empty()).then_some(Listed::Inside(joined));
    }
    let whole = format!("/{joined}");
    match whole.strip_prefix(root).and_then(|rest| rest.strip_prefix('/')) {
        Some(inside) => Some(Listed::Inside(inside.to_owned())),
        None if ["/proc/", "/dev/", "/tmp/"].iter().any(|f| whole.starts_with(f)) => None,
        None => Some(Listed::System(whole)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn reads_compilers_and_linkers_listings() {
        let text = "out/fit.o: src/fit.c \\\n  include/../include/a\\ b.h /usr/include/stdio.h \\\n /work/tide/x$$y.h ./src/fit.c\n\ninclude/ab.h:\n";
        let inside = |p: &str| Listed::Inside(p.to_owned());
        assert_eq!(
            parse_listing(text, "/work/tide", ""),
            [
                inside("include/a b.h"),
                inside("src/fit.c"),
                inside("x$y.h"),
                Listed::System("/usr/include/stdio.h".into())
            ]
        );
        assert_eq!(parse_listing("a.o: /tmp/cc1.o /proc/self/cwd/b.c /dev/null", "/w", ""), [inside("b.c")]);
        assert_eq!(parse_listing("a.o: ../x.h fit.c", "/w", "tide"), [inside("tide/fit.c"), inside("x.h")]);
        assert_eq!(parse_listing("", "/w", ""), []);
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..Default::default() })]

        #[test]
        fn any_text_is_survived(text in any::<String>()) {
            parse_listing(&text, "/w", "tide/sub");
        }
    }
}
