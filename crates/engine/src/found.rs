//! Listings in which commands say what they read: the rules that C compilers and linkers write
//! (`target: file file \`), with spaces and `#` escaped by a backslash and `$` doubled.

use std::borrow::Cow;

use nubrik_source::{FilePath, WsPath};

/// What there is to know to understand a listing.
pub struct ListingContext<'a> {
    /// The absolute paths by which commands know the workspace.
    pub roots: &'a [&'a str],
    /// The folder in which the command ran.
    pub work: &'a WsPath,
    /// Where a path of the workspace leads when links are followed: what is before `..` may be a
    /// link, and what is above it is above where that leads.
    pub follow: &'a dyn Fn(&WsPath) -> Option<WsPath>,
    /// Whether something is at a path of the workspace.
    pub exists: &'a dyn Fn(&WsPath) -> bool,
}

/// How many words a name may have in a listing whose writer does not mark the spaces in them: some
/// linkers.
const WORDS_OF_NAME: usize = 8;

/// The files in a listing, sorted, each once. Names before a `:` are what was made, not read;
/// files in folders that hold no real inputs (`/proc`, `/dev`, `/tmp`) are left out.
pub fn parse_listing(text: &str, around: &ListingContext<'_>) -> Vec<FilePath> {
    let mut files = Vec::new();
    for rule in logical_lines(text) {
        let words = split_words(&rule);
        let Some(colon) = words.iter().position(|w| w.ends_target) else {
            continue;
        };
        let names: Vec<&WrittenWord> = words[colon + 1..]
            .iter()
            .filter(|w| !w.ends_target)
            .collect();
        let mut at = 0;
        while at < names.len() {
            let (listed, count) = name_at(&names[at..], around);
            files.extend(listed);
            at += count;
        }
    }
    files.sort();
    files.dedup();
    files
}

/// The file that some words begin with, and how many of them name it: more than one where only they
/// together name something that is there.
fn name_at(words: &[&WrittenWord], around: &ListingContext<'_>) -> (Option<FilePath>, usize) {
    let inside = |listed: &Option<FilePath>| listed.as_ref().and_then(FilePath::in_workspace);
    let is_there =
        |listed: &Option<FilePath>| inside(listed).is_none_or(|path| (around.exists)(&path));
    let first = place(&words[0].text, around);
    if is_there(&first) {
        return (first, 1);
    }
    if words[0].other != words[0].text {
        let other = place(&words[0].other, around);
        if is_there(&other) {
            return (other, 1);
        }
    }
    let mut name = words[0].text.clone();
    for (number, word) in words.iter().enumerate().take(WORDS_OF_NAME).skip(1) {
        name = format!("{name} {}", word.text);
        let listed = place(&name, around);
        if is_there(&listed) {
            return (listed, number + 1);
        }
    }
    (first, 1)
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

struct WrittenWord {
    /// As compilers of C write it: backslashes are plain, but before blanks, where each is doubled
    /// and one more marks the blank, and one before `#`.
    text: String,
    /// As others write it: a backslash before a blank, `#`, `:` or another backslash marks that.
    other: String,
    /// Whether a `:` was after the word.
    ends_target: bool,
}

/// Blanks between words. Whatever else looks like one, in whatever script, is a part of a name.
fn is_blank(c: char) -> bool {
    matches!(c, ' ' | '\t' | '\r')
}

fn split_words(line: &str) -> Vec<WrittenWord> {
    let mut words = Vec::new();
    let (mut text, mut other) = (String::new(), String::new());
    let mut chars = line.chars().peekable();
    let mut seen_colon = false;
    let mut end = |text: &mut String, other: &mut String, ends_target| {
        if ends_target || !text.is_empty() {
            let (text, other) = (std::mem::take(text), std::mem::take(other));
            words.push(WrittenWord {
                text,
                other,
                ends_target,
            });
        }
    };
    while let Some(c) = chars.next() {
        match c {
            '\\' => read_backslashes(&mut chars, seen_colon, &mut text, &mut other),
            '$' if chars.peek() == Some(&'$') => {
                chars.next();
                text.push(c);
                other.push(c);
            }
            // The first `:` before white space or the line's end closes the targets.
            ':' if !seen_colon && chars.peek().is_none_or(|c| is_blank(*c)) => {
                seen_colon = true;
                end(&mut text, &mut other, true);
            }
            c if is_blank(c) => end(&mut text, &mut other, false),
            c => {
                text.push(c);
                other.push(c);
            }
        }
    }
    end(&mut text, &mut other, false);
    words
}

/// Reads what begins with a backslash that was taken already: as one program that lists files means
/// it (`text`), and as another one does (`other`).
fn read_backslashes(
    chars: &mut std::iter::Peekable<std::str::Chars<'_>>,
    seen_colon: bool,
    text: &mut String,
    other: &mut String,
) {
    let mut count = 1;
    while chars.next_if_eq(&'\\').is_some() {
        count += 1;
    }
    let next = chars.peek().copied();
    let marks = next.is_some_and(|c| c == '#' || is_blank(c)) && count % 2 == 1;
    let plain = match next {
        Some(c) if is_blank(c) => count / 2,
        Some('#') => count - 1,
        _ => count,
    };
    text.extend(std::iter::repeat_n('\\', plain));
    let marks_colon = next == Some(':') && count % 2 == 1;
    let halved = match marks || marks_colon {
        true => count / 2,
        false => count.div_ceil(2),
    };
    other.extend(std::iter::repeat_n('\\', halved));
    if marks || (marks_colon && !seen_colon) {
        text.extend(next);
        other.extend(next);
        chars.next();
    }
}

/// Where a listed name is: `.` and `..` taken out, the workspace's own absolute path taken off.
fn place(name: &str, around: &ListingContext<'_>) -> Option<FilePath> {
    let ListingContext {
        roots,
        work,
        follow,
        ..
    } = around;
    let name = name.strip_prefix("/proc/self/cwd/").unwrap_or(name);
    let inside = roots
        .iter()
        .find_map(|root| name.strip_prefix(root)?.strip_prefix('/'));
    let from_work = if work.is_root() {
        Cow::Borrowed(name)
    } else {
        Cow::Owned(format!("{work}/{name}"))
    };
    let (name, absolute) = match inside {
        Some(inside) => (inside, false),
        None if name.starts_with('/') => (name, true),
        None => (&*from_work, false),
    };
    if is_normal(name, absolute) {
        return at_normal(name, absolute, roots);
    }
    let mut parts: Vec<String> = Vec::new();
    for part in name.split('/') {
        match part {
            "" | "." => {}
            ".." => {
                if !absolute && let Some(real) = follow(&WsPath::from_normal(&parts.join("/"))) {
                    parts = real.parts().map(str::to_owned).collect();
                }
                // A relative name may leave the workspace: then it is one of the system.
                if parts.pop().is_none() && !absolute {
                    let up = std::path::Path::new(roots.first()?).join(name);
                    return up
                        .canonicalize()
                        .ok()
                        .map(|p| FilePath::of_machine(&p.to_string_lossy()));
                }
            }
            part => parts.push(part.to_owned()),
        }
    }
    let joined = parts.join("/");
    at_normal(
        &if absolute {
            format!("/{joined}")
        } else {
            joined
        },
        absolute,
        roots,
    )
}

/// Whether each part of a path, without the `/` at the beginning of an absolute one, is a name.
fn is_normal(path: &str, absolute: bool) -> bool {
    let inside = if absolute { &path[1..] } else { path };
    inside
        .split('/')
        .all(|part| !matches!(part, "" | "." | ".."))
}

/// Where a path of names is: on the machine, or below the workspace's root.
fn at_normal(path: &str, absolute: bool, roots: &[&str]) -> Option<FilePath> {
    if !absolute {
        return (!path.is_empty()).then(|| FilePath::from(&WsPath::from_normal(path)));
    }
    if let Some(inside) = roots
        .iter()
        .find_map(|root| path.strip_prefix(root)?.strip_prefix('/'))
    {
        return Some(FilePath::from(&WsPath::from_normal(inside)));
    }
    let holds_inputs = !["/proc/", "/dev/", "/tmp/"]
        .iter()
        .any(|f| path.starts_with(f));
    holds_inputs.then(|| FilePath::of_machine(path))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn reads_compilers_and_linkers_listings() {
        let text = "out/fit.o: src/fit.c \\\n  include/../include/a\\ b.h /usr/include/stdio.h \\\n /work/tide/x$$y.h ./src/fit.c\n\ninclude/ab.h:\n";
        let inside = |p: &str| FilePath::from(&WsPath::from_normal(p));
        assert_eq!(
            parse(text, "/work/tide", ""),
            [
                FilePath::of_machine("/usr/include/stdio.h"),
                inside("include/a b.h"),
                inside("src/fit.c"),
                inside("x$y.h")
            ]
        );
        assert_eq!(
            parse("a.o: /tmp/cc1.o /proc/self/cwd/b.c /dev/null", "/w", ""),
            [inside("b.c")]
        );
        assert_eq!(
            parse("a.o: ../x.h fit.c", "/w", "tide"),
            [inside("tide/fit.c"), inside("x.h")]
        );
        assert_eq!(
            parse("a.o: /nubrik/b.c /nubrik//c.c", "/w", "tide"),
            [inside("b.c"), inside("c.c")]
        );
        assert_eq!(
            parse("a.o: //usr//x.h /w", "/w", ""),
            [FilePath::of_machine("/usr/x.h"), FilePath::of_machine("/w")]
        );
        assert_eq!(parse("", "/w", ""), []);
    }

    fn parse(text: &str, root: &str, work: &str) -> Vec<FilePath> {
        let (roots, work) = ([root, "/nubrik"], WsPath::from_normal(work));
        parse_listing(
            text,
            &ListingContext {
                roots: &roots,
                work: &work,
                follow: &|_| None,
                exists: &|_| true,
            },
        )
    }

    fn told(listed: &[FilePath]) -> Vec<String> {
        listed.iter().map(FilePath::to_string).collect()
    }

    #[test]
    fn what_is_above_a_link_is_above_where_it_leads() {
        let follow =
            |path: &WsPath| (path.as_str() == "src/inc").then(|| WsPath::from_normal("other/inc"));
        let around = ListingContext {
            roots: &["/w"],
            work: &WsPath::root(),
            follow: &follow,
            exists: &|_| true,
        };
        let listed = parse_listing("a.o: src/inc/../common.h src/x/../y.h", &around);
        assert_eq!(told(&listed), ["other/common.h", "src/y.h"]);
    }

    #[test]
    fn names_with_spaces_that_nobody_marked_are_put_together() {
        let exists = |path: &WsPath| ["a b c.o", "d.o"].contains(&path.as_str());
        let around = ListingContext {
            roots: &[],
            work: &WsPath::root(),
            follow: &|_| None,
            exists: &exists,
        };
        let listed = parse_listing("x: a b c.o d.o none e", &around);
        assert_eq!(told(&listed), ["a b c.o", "d.o", "e", "none"]);
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..Default::default() })]

        #[test]
        fn any_text_is_survived(text in any::<String>()) {
            parse(&text, "/w", "tide/sub");
        }
    }
}
