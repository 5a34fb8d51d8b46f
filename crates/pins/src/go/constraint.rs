//! Build constraints of Go sources: `//go:build linux && !cgo`, and the older `// +build` lines.

/// When a source counts.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum BuildConstraint {
    /// When a tag is set.
    Tag(String),
    /// When another one does not hold.
    Not(Box<BuildConstraint>),
    /// When all of these hold.
    All(Vec<BuildConstraint>),
    /// When one of these holds.
    Any(Vec<BuildConstraint>),
}

impl BuildConstraint {
    /// The constraint among the comments at the beginning of a source; `None` if it always counts.
    pub(crate) fn among(comments: &[&str]) -> Option<BuildConstraint> {
        // The newer form wins where both are written.
        if let Some(written) = comments
            .iter()
            .find_map(|line| line.strip_prefix("//go:build"))
        {
            return Some(BuildConstraint::read(written));
        }
        let older = comments.iter().filter_map(|line| {
            line.strip_prefix("//")?
                .trim_start()
                .strip_prefix("+build ")
        });
        let lines: Vec<BuildConstraint> = older.map(older_line).collect();
        (!lines.is_empty()).then_some(BuildConstraint::All(lines))
    }

    /// Reads an expression of tags. What is no expression never holds: the compiler refuses such a
    /// source as well.
    pub fn read(text: &str) -> BuildConstraint {
        let mut reader = ConstraintReader {
            words: words(text),
            at: 0,
            depth: 0,
        };
        match reader.any() {
            Some(whole) if reader.at == reader.words.len() => whole,
            _ => BuildConstraint::Any(Vec::new()),
        }
    }

    /// Whether it holds for some choice of the tags of which nothing is known (`None`).
    pub fn may_hold(&self, known: &dyn Fn(&str) -> Option<bool>) -> bool {
        self.ways(known).0
    }

    /// Whether it may hold, and whether it may not.
    fn ways(&self, known: &dyn Fn(&str) -> Option<bool>) -> (bool, bool) {
        match self {
            BuildConstraint::Tag(tag) => {
                known(tag).map_or((true, true), |is_set| (is_set, !is_set))
            }
            BuildConstraint::Not(other) => {
                let (may, may_not) = other.ways(known);
                (may_not, may)
            }
            BuildConstraint::All(parts) => {
                parts.iter().fold((true, false), |(may, may_not), part| {
                    let part = part.ways(known);
                    (may && part.0, may_not || part.1)
                })
            }
            BuildConstraint::Any(parts) => {
                parts.iter().fold((false, true), |(may, may_not), part| {
                    let part = part.ways(known);
                    (may || part.0, may_not && part.1)
                })
            }
        }
    }
}

/// A line of the older form: words of which one must hold, each of parts with `,` between them that
/// must all hold.
fn older_line(text: &str) -> BuildConstraint {
    let part = |part: &str| match part.strip_prefix('!') {
        Some(tag) => BuildConstraint::Not(Box::new(BuildConstraint::Tag(tag.to_owned()))),
        None => BuildConstraint::Tag(part.to_owned()),
    };
    let words = text.split_whitespace();
    BuildConstraint::Any(
        words
            .map(|word| BuildConstraint::All(word.split(',').map(part).collect()))
            .collect(),
    )
}

/// Tags, `(`, `)`, `!`, `&&` and `||`.
fn words(text: &str) -> Vec<String> {
    let mut words: Vec<String> = Vec::new();
    let mut in_tag = false;
    let text = text.split("//").next().unwrap_or_default();
    for c in text.chars() {
        let is_tag = c.is_alphanumeric() || matches!(c, '_' | '.');
        match words.last_mut() {
            Some(last) if is_tag && in_tag => last.push(c),
            Some(last) if matches!(c, '&' | '|') && *last == c.to_string() => last.push(c),
            _ if c.is_whitespace() => {}
            _ => words.push(c.to_string()),
        }
        in_tag = is_tag;
    }
    words
}

struct ConstraintReader {
    words: Vec<String>,
    at: usize,
    /// How many `(` are open.
    depth: usize,
}

impl ConstraintReader {
    fn take(&mut self, word: &str) -> bool {
        let is_it = self.words.get(self.at).is_some_and(|next| next == word);
        self.at += usize::from(is_it);
        is_it
    }

    fn any(&mut self) -> Option<BuildConstraint> {
        let mut parts = vec![self.all()?];
        while self.take("||") {
            parts.push(self.all()?);
        }
        Some(if parts.len() == 1 {
            parts.remove(0)
        } else {
            BuildConstraint::Any(parts)
        })
    }

    fn all(&mut self) -> Option<BuildConstraint> {
        let mut parts = vec![self.one()?];
        while self.take("&&") {
            parts.push(self.one()?);
        }
        Some(if parts.len() == 1 {
            parts.remove(0)
        } else {
            BuildConstraint::All(parts)
        })
    }

    fn one(&mut self) -> Option<BuildConstraint> {
        // A source of others may begin with any number of these.
        let mut is_negated = false;
        while self.take("!") {
            is_negated = !is_negated;
        }
        let inner = if self.take("(") {
            self.depth += 1;
            let inner = if self.depth > MOST_DEEP {
                None
            } else {
                self.any()
            };
            self.depth -= 1;
            inner.filter(|_| self.take(")"))?
        } else {
            let tag = self.words.get(self.at)?.clone();
            if !tag.starts_with(|c: char| c.is_alphanumeric() || c == '_') {
                return None;
            }
            self.at += 1;
            BuildConstraint::Tag(tag)
        };
        Some(if is_negated {
            BuildConstraint::Not(Box::new(inner))
        } else {
            inner
        })
    }
}

/// The most `(` that are open at once.
const MOST_DEEP: usize = 100;

#[cfg(test)]
mod tests {
    use super::*;

    fn holds(text: &str, set: &[&str]) -> bool {
        BuildConstraint::read(text).may_hold(&|tag| Some(set.contains(&tag)))
    }

    #[test]
    fn expressions_are_read_as_the_compiler_reads_them() {
        assert!(holds("linux", &["linux"]));
        assert!(holds("linux && !cgo || windows", &["linux"]));
        assert!(!holds("linux && !cgo || windows", &["linux", "cgo"]));
        assert!(holds(
            "(linux || darwin) && !(cgo && race) // why",
            &["darwin", "cgo"]
        ));
        assert!(holds("go1.21", &["go1.21"]));
        for wrong in [
            "",
            "linux &&",
            "(linux",
            "linux)",
            "linux darwin",
            "&& linux",
            "|| linux",
            "linux && )",
        ] {
            assert!(!holds(wrong, &["linux", "darwin"]), "{wrong}");
        }
        assert!(!holds(&format!("{}linux", "(".repeat(5000)), &["linux"]));
    }

    #[test]
    fn what_is_not_known_may_be_either() {
        let any = |text: &str| {
            BuildConstraint::read(text).may_hold(&|tag| (tag == "ignore").then_some(false))
        };
        assert!(any("windows") && any("!windows") && any("!ignore") && any("ignore || plan9"));
        assert!(!any("ignore") && !any("ignore && linux"));
    }

    #[test]
    fn older_lines_must_all_hold() {
        let older = BuildConstraint::among(&["// +build linux,!cgo darwin", "// +build amd64"])
            .map(|c| {
                let at = |set: &'static [&'static str]| c.may_hold(&|tag| Some(set.contains(&tag)));
                [
                    at(&["linux", "amd64"]),
                    at(&["linux", "cgo", "amd64"]),
                    at(&["darwin", "cgo", "amd64"]),
                    at(&["linux"]),
                ]
            });
        assert_eq!(older, Some([true, false, true, false]));
        assert_eq!(BuildConstraint::among(&["// something else"]), None);
        let newer = BuildConstraint::among(&["//go:build linux", "// +build windows"]);
        assert_eq!(newer, Some(BuildConstraint::Tag("linux".to_owned())));
    }
}
