//! The beginning of a Go source: its build constraint, its package, and what it imports.

use std::collections::BTreeSet;

use super::constraint::BuildConstraint;

/// What a Go source says before its first declaration.
///
/// ```
/// let source = nubrik_pins::GoSource::read("//go:build linux\n\npackage tides\n\nimport \"fmt\"\n");
/// assert_eq!((source.package.as_str(), source.imports.len()), ("tides", 1));
/// assert!(source.constraint.is_some());
/// ```
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct GoSource {
    /// The name of its package; empty if it names none.
    pub package: String,
    /// The import paths.
    pub imports: BTreeSet<String>,
    /// When it counts; `None` for always.
    pub constraint: Option<BuildConstraint>,
}

impl GoSource {
    /// Reads the beginning of a source, as far as it can be read.
    pub fn read(text: &str) -> GoSource {
        let mut source = GoSource::default();
        let mut reader = SourceReader {
            rest: text.trim_start_matches('\u{feff}'),
            comments: Vec::new(),
        };
        if !reader.word("package") {
            return source;
        }
        source.constraint = BuildConstraint::among(&reader.comments);
        source.package = reader.name();
        reader.end();
        while reader.word("import") {
            if reader.sign('(') {
                while !reader.sign(')') {
                    let Some(path) = reader.import() else {
                        return source;
                    };
                    source.imports.insert(path);
                    reader.end();
                }
            } else {
                let Some(path) = reader.import() else {
                    return source;
                };
                source.imports.insert(path);
            }
            reader.end();
        }
        source
    }
}

/// Whether an import is of the standard library: only these have no dot in their first part.
pub fn is_standard_import(path: &str) -> bool {
    !path.split('/').next().unwrap_or(path).contains('.')
}

struct SourceReader<'t> {
    rest: &'t str,
    /// Comments of one line that were passed, without spaces around them.
    comments: Vec<&'t str>,
}

impl<'t> SourceReader<'t> {
    /// Passes spaces and comments.
    fn pass(&mut self) {
        loop {
            self.rest = self.rest.trim_start();
            if self.rest.starts_with("//") {
                let (line, rest) = self.rest.split_once('\n').unwrap_or((self.rest, ""));
                self.comments.push(line.trim_end());
                self.rest = rest;
            } else if let Some(inside) = self.rest.strip_prefix("/*") {
                self.rest = inside.split_once("*/").map_or("", |(_, rest)| rest);
            } else {
                return;
            }
        }
    }

    fn word(&mut self, word: &str) -> bool {
        self.pass();
        let rest = self.rest.strip_prefix(word);
        let rest = rest.filter(|rest| !rest.starts_with(|c: char| c.is_alphanumeric() || c == '_'));
        self.rest = rest.unwrap_or(self.rest);
        rest.is_some()
    }

    fn sign(&mut self, sign: char) -> bool {
        self.pass();
        let rest = self.rest.strip_prefix(sign);
        self.rest = rest.unwrap_or(self.rest);
        rest.is_some()
    }

    fn name(&mut self) -> String {
        self.pass();
        let end = self
            .rest
            .find(|c: char| !(c.is_alphanumeric() || c == '_'))
            .unwrap_or(self.rest.len());
        let (name, rest) = self.rest.split_at(end);
        self.rest = rest;
        name.to_owned()
    }

    /// A path, after the name that it may be given.
    fn import(&mut self) -> Option<String> {
        if !self.sign('.') {
            self.name();
        }
        self.pass();
        let quote = self
            .rest
            .chars()
            .next()
            .filter(|c| matches!(c, '"' | '`'))?;
        let (path, rest) = self.rest[1..].split_once(quote)?;
        self.rest = rest;
        Some(path.to_owned())
    }

    /// Passes what is between two declarations.
    fn end(&mut self) {
        while self.sign(';') {}
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn imports_are_read_in_all_ways_to_write_them() {
        let text = "// Package a.\n/* import \"not.this/one\" */\npackage a // import \"example.org/a\"\n\nimport \"fmt\"\nimport (\n\tx \"os\" // why\n\
            \t_ \"example.org/y\"; . `example.org/z`\n)\nimport\nz \"io\"; import ()\nfunc f() { import_(\"no\") }\nimport \"late\"\n";
        let source = GoSource::read(text);
        assert_eq!(source.package, "a");
        let imports: Vec<_> = source.imports.into_iter().collect();
        assert_eq!(
            imports,
            ["example.org/y", "example.org/z", "fmt", "io", "os"]
        );
    }

    #[test]
    fn a_source_that_cannot_be_read_says_what_can() {
        assert_eq!(GoSource::read(""), GoSource::default());
        assert_eq!(GoSource::read("func f() {}"), GoSource::default());
        let source = GoSource::read("package a\nimport (\n\"fmt\"\n");
        assert_eq!((source.package.as_str(), source.imports.len()), ("a", 1));
        assert!(
            GoSource::read("\u{feff}// +build ignore\n\npackage a")
                .constraint
                .is_some()
        );
        assert!(
            GoSource::read("package a\n//go:build ignore\n")
                .constraint
                .is_none()
        );
    }

    #[test]
    fn the_standard_library_has_no_dot() {
        assert!(is_standard_import("net/http") && is_standard_import("C"));
        assert!(!is_standard_import("example.org/a"));
    }
}
