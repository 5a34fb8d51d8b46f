//! What sources of C and C++ say: what they include and under which conditions, and whether a
//! program begins in them.

use std::collections::BTreeSet;

use crate::tree::{ext_of, name_of};

pub(super) const C_SOURCES: [&str; 6] = ["c", "cc", "cpp", "cxx", "c++", "C"];
pub(super) const HEADERS: [&str; 7] = ["h", "hh", "hpp", "hxx", "h++", "H", "inl"];

/// An included file.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub(crate) struct Include {
    /// As it is written.
    pub path: String,
    /// Whether it is between quotes, so that the includer's folder is searched first.
    pub is_quoted: bool,
    /// Whether it is included only under a condition.
    pub is_conditional: bool,
}

/// What a source or header says.
#[derive(Clone, Default, Debug)]
pub(crate) struct SourceScan {
    pub includes: Vec<Include>,
    /// Whether `main` is defined, whatever is asked about.
    pub has_main: bool,
    /// Whether it has tests that another file runs.
    pub has_cases: bool,
    /// Names that are asked about and would be set by somebody who looks at the machine.
    pub asked: BTreeSet<String>,
    /// Names that are asked about and say which system this is, where it is one like POSIX.
    pub systems: BTreeSet<String>,
    /// Such names that it defines.
    pub defined: BTreeSet<String>,
    /// Whether a configuration header is included where one says that there is one.
    pub wants_config: bool,
}

/// Whether a file is a source of C or C++.
pub(crate) fn is_source(path: &str) -> bool {
    C_SOURCES.contains(&ext_of(path))
}

/// Whether a file is meant to be included.
pub(crate) fn is_header(path: &str) -> bool {
    HEADERS.contains(&ext_of(path))
}

/// Reads a text. What is between `#if 0` and its end is passed over.
pub(crate) fn scan(path: &str, text: &str) -> SourceScan {
    let mut reader = ScanReader {
        path,
        found: SourceScan::default(),
        conditions: Vec::new(),
    };
    let plain = without_comments(text);
    let mut lines = plain.lines().peekable();
    while let Some(line) = lines.next() {
        let mut line = line.trim().to_owned();
        while line.ends_with('\\') {
            line.pop();
            line.push_str(lines.next().unwrap_or("").trim());
        }
        match line.strip_prefix('#') {
            Some(directive) => reader.directive(directive.trim_start()),
            None => reader.plain_line(&line, lines.peek().copied().unwrap_or("")),
        }
    }
    reader.found
}

/// What marks a case of a test framework, at the beginning of a line.
const CASES: [&str; 5] = ["TEST(", "TEST_F(", "TEST_P(", "TYPED_TEST(", "TEST_CASE("];

/// What has a header of a test framework write the beginning of a program.
const MAIN_MARKS: [&str; 4] = [
    "DOCTEST_CONFIG_IMPLEMENT_WITH_MAIN",
    "CATCH_CONFIG_MAIN",
    "BOOST_TEST_MODULE",
    "BOOST_TEST_MAIN",
];

struct ScanReader<'p> {
    path: &'p str,
    found: SourceScan,
    /// The conditions that the line is below, the outermost first.
    conditions: Vec<Conditional>,
}

impl ScanReader<'_> {
    fn is_dead(&self) -> bool {
        self.conditions.iter().any(|condition| condition.is_dead)
    }

    fn is_conditional(&self) -> bool {
        self.conditions.iter().any(|condition| condition.counts)
    }

    fn plain_line(&mut self, line: &str, next: &str) {
        if self.is_dead() {
            return;
        }
        self.found.has_main |= !self.is_conditional() && begins_program(line, next);
        self.found.has_cases |= CASES.iter().any(|mark| line.starts_with(mark));
        self.found.has_main |=
            line.contains("BENCHMARK_MAIN()") || line.starts_with("BOOST_AUTO_TEST_SUITE_MAIN");
    }

    fn directive(&mut self, directive: &str) {
        let word_end = directive
            .find(|c: char| !c.is_ascii_alphabetic())
            .unwrap_or(directive.len());
        let (word, rest) = directive.split_at(word_end);
        let rest = rest.trim();
        match word {
            "if" | "ifdef" | "ifndef" => {
                let is_guard = word == "ifndef"
                    && self.conditions.is_empty()
                    && is_guard_name(rest, self.path);
                let is_plus = rest.contains("__cplusplus");
                self.conditions.push(Conditional {
                    is_dead: word == "if" && rest == "0",
                    counts: !is_guard && !is_plus,
                    text: rest.to_owned(),
                });
                self.found.ask(rest);
            }
            "elif" => {
                self.found.ask(rest);
                if let Some(condition) = self.conditions.last_mut() {
                    (condition.is_dead, condition.counts) = (false, true);
                    condition.text = rest.to_owned();
                }
            }
            "else" => {
                if let Some(condition) = self.conditions.last_mut() {
                    condition.is_dead = condition.text == "1";
                }
            }
            "endif" => drop(self.conditions.pop()),
            "include" | "import" if !self.is_dead() => self.include(rest),
            "define" => self.define(rest),
            _ => {}
        }
    }

    fn include(&mut self, rest: &str) {
        let Some(include) = included(rest, self.is_conditional()) else {
            return;
        };
        let says_config = self
            .conditions
            .iter()
            .any(|condition| condition.text.contains("HAVE_CONFIG_H"));
        self.found.wants_config |= says_config && name_of(&include.path).contains("config");
        self.found.includes.push(include);
    }

    fn define(&mut self, rest: &str) {
        let name = rest
            .split(|c: char| !(c.is_ascii_alphanumeric() || c == '_'))
            .next()
            .unwrap_or_default();
        if is_system_name(name) {
            self.found.defined.insert(name.to_owned());
        }
        self.found.has_main |= MAIN_MARKS.iter().any(|mark| rest.starts_with(mark));
    }
}

struct Conditional {
    is_dead: bool,
    /// Whether it is no guard of a header.
    counts: bool,
    text: String,
}

impl SourceScan {
    fn ask(&mut self, condition: &str) {
        for word in condition.split(|c: char| !(c.is_ascii_alphanumeric() || c == '_')) {
            if word.starts_with("HAVE_") || word.starts_with("SIZEOF_") {
                self.asked.insert(word.to_owned());
            } else if is_system_name(word) {
                self.systems.insert(word.to_owned());
            }
        }
    }
}

/// Whether a name means a system like POSIX, for those who configure a project.
fn is_system_name(name: &str) -> bool {
    let ends = [
        "_PLATFORM_POSIX",
        "_PLATFORM_LINUX",
        "_PLATFORM_UNIX",
        "_OS_POSIX",
        "_OS_LINUX",
        "_OS_UNIX",
    ];
    ends.iter()
        .any(|end| name.ends_with(end) && name.len() > end.len() && !name.starts_with('_'))
}

/// Whether a name is one that headers guard themselves with.
fn is_guard_name(name: &str, path: &str) -> bool {
    let plain = |text: &str| {
        text.to_lowercase()
            .chars()
            .filter(char::is_ascii_alphanumeric)
            .collect::<String>()
    };
    is_header(path)
        && (plain(name).contains(&plain(name_of(path)))
            || name.ends_with("_H")
            || name.ends_with("_H_")
            || name.ends_with("_INCLUDED"))
}

fn included(rest: &str, is_conditional: bool) -> Option<Include> {
    let (close, is_quoted) = match rest.chars().next()? {
        '"' => ('"', true),
        '<' => ('>', false),
        _ => return None,
    };
    let path = rest[1..].split(close).next()?.trim();
    (!path.is_empty()).then(|| Include {
        path: path.to_owned(),
        is_quoted,
        is_conditional,
    })
}

/// Whether a line begins the function `main`, and is neither a declaration nor a call of it.
fn begins_program(line: &str, next: &str) -> bool {
    let Some(at) = line.find("main") else {
        return false;
    };
    let (before, after) = (&line[..at], line[at + 4..].trim_start());
    let is_word = before.is_empty() || before.ends_with([' ', '*', '\t']);
    // Whatever the type is called, in front of a call there are other words, or it is indented.
    let is_name = |word: &str| {
        word == "\"\""
            || word
                .chars()
                .all(|c| c.is_ascii_alphanumeric() || "_*:".contains(c))
    };
    let calls = [
        "return", "else", "case", "do", "goto", "throw", "new", "sizeof", "typedef", "define",
    ];
    let is_type = before
        .split_whitespace()
        .all(|word| is_name(word) && !calls.contains(&word));
    if !is_word || !is_type || !after.starts_with('(') {
        return false;
    }
    let mut depth = 0;
    let end = after.find(|c: char| {
        depth += match c {
            '(' => 1,
            ')' => -1,
            _ => 0,
        };
        depth == 0
    });
    match end.map(|end| after[end + 1..].trim_start()) {
        // In old C, parameters are declared between the brackets and the body.
        Some("") => next.trim_start().starts_with('{') || !before.is_empty(),
        // Another old form, types behind an arrow, and words of C++.
        Some(rest) => {
            rest.starts_with('{') || rest.starts_with("->") || rest.starts_with(char::is_alphabetic)
        }
        // Parameters go on in the next line; a call has no type before it.
        None => !before.is_empty() || after.ends_with(','),
    }
}

/// The text with comments and what is between quotes in code blanked, line by line the same.
pub(super) fn without_comments(text: &str) -> String {
    let bytes = text.as_bytes();
    let mut plain = Vec::with_capacity(bytes.len());
    let mut at = 0;
    let mut is_directive = false;
    let mut is_line_start = true;
    while at < bytes.len() {
        let rest = &bytes[at..];
        if rest.starts_with(b"//") {
            at += rest
                .iter()
                .position(|byte| *byte == b'\n')
                .unwrap_or(rest.len());
        } else if rest.starts_with(b"/*") {
            let end = rest
                .windows(2)
                .skip(2)
                .position(|two| two == b"*/")
                .map_or(rest.len(), |end| end + 4);
            plain.extend(rest[..end].iter().filter(|byte| **byte == b'\n'));
            plain.push(b' ');
            at += end;
        } else if (rest[0] == b'"' || rest[0] == b'\'') && !is_directive {
            let end = quoted_end(rest);
            plain.extend([rest[0], rest[0]]);
            at += end;
        } else {
            if is_line_start && !rest[0].is_ascii_whitespace() {
                is_directive = rest[0] == b'#';
                is_line_start = false;
            }
            if rest[0] == b'\n' {
                is_directive = false;
                is_line_start = true;
            }
            plain.push(rest[0]);
            at += 1;
        }
    }
    String::from_utf8_lossy(&plain).into_owned()
}

/// Where a text between quotes ends, which goes over no line.
fn quoted_end(bytes: &[u8]) -> usize {
    let mut at = 1;
    while at < bytes.len() && bytes[at] != bytes[0] && bytes[at] != b'\n' {
        at += if bytes[at] == b'\\' { 2 } else { 1 };
    }
    if bytes.get(at) == Some(&b'\n') {
        at
    } else {
        (at + 1).min(bytes.len())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn programs_begin_with_main() {
        for text in [
            "int main(void) {\n",
            "int main(void) { f(1); return 0; }\n",
            "int main(int argc, char **argv)\n{\n",
            "int\nmain (int argc,\n      char **argv)\n{",
            "extern \"C\" int main() {",
            "Int32 main ( Int32 argc, char *argv[] )\n{\n",
            "auto main() -> int {",
            "std::int32_t main() noexcept {",
            "main(argc, argv) register char **argv; {",
            "#ifdef __cplusplus\nint main(void) {}\n#endif\n",
            "#define CATCH_CONFIG_MAIN\n#include \"catch.hpp\"\n",
        ] {
            assert!(scan("a.c", text).has_main, "{text}");
        }
        for text in [
            "int main(void);\n",
            "/* int main(void) { */\n",
            "const char *s = \"int main(void) {\";\n",
            "int domain(int x) {\n",
            "#ifdef TEST\nint main(void) { return 0; }\n#endif\n",
            "    main(argc, argv);\n",
            "    return main(argc, argv) + 1;\n",
            "    tide main(1);\n",
            "    tide::main(1) {\n",
        ] {
            assert!(!scan("a.c", text).has_main, "{text}");
        }
    }

    #[test]
    fn includes_know_their_conditions() {
        let text = "#ifndef TIDE_H\n#define TIDE_H\n#include <math.h>\n#ifdef _WIN32\n# include <windows.h>\n#else\n#include \"sea.h\" // x\n#endif\n#if 0\n#include \"old.h\"\n#endif\n#endif\n";
        let found = scan("tide.h", text);
        let rows: Vec<String> = found
            .includes
            .iter()
            .map(|i| format!("{} {} {}", i.path, i.is_quoted, i.is_conditional))
            .collect();
        assert_eq!(
            rows,
            [
                "math.h false false",
                "windows.h false true",
                "sea.h true true"
            ]
        );
    }

    #[test]
    fn what_is_asked_about_is_known() {
        let found = scan(
            "a.c",
            "#ifdef HAVE_CONFIG_H\n#include \"config.h\"\n#endif\n#if defined(HAVE_UNISTD_H) && SIZEOF_LONG == 8\n#endif\n",
        );
        assert!(found.wants_config);
        assert_eq!(
            found.asked.into_iter().collect::<Vec<_>>(),
            ["HAVE_CONFIG_H", "HAVE_UNISTD_H", "SIZEOF_LONG"]
        );
    }
}
