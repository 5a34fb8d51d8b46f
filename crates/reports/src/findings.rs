//! Findings: places in sources where a build or a test found something wrong, and what. They are
//! read from what commands print, and written as SARIF 2.1.0 (the open format of OASIS for results
//! of analyses), which pages of code show at the lines.

use std::collections::BTreeMap;

use nubrik_bytes::Digest;
use serde_json::{Value, json};

/// So many lines behind the head of a message its other half is looked for.
const NEAR: usize = 8;

/// A place in a source.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct FindingPlace {
    /// The file, from the workspace's root.
    pub path: String,
    /// The line, from 1.
    pub line: u32,
    /// The column, from 1, where it is known.
    pub column: Option<u32>,
}

/// How grave a finding is.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Gravity {
    /// Something failed.
    Error,
    /// Something deserves a look.
    Warning,
}

impl Gravity {
    /// The word for it, as SARIF has it.
    pub fn word(self) -> &'static str {
        match self {
            Gravity::Error => "error",
            Gravity::Warning => "warning",
        }
    }
}

/// What found something.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum FindingKind {
    /// A program that a step ran said so of a place in a source.
    Message,
    /// A step failed, and no place is known.
    Step,
    /// A test failed.
    Test,
}

impl FindingKind {
    const ALL: [FindingKind; 3] = [FindingKind::Message, FindingKind::Step, FindingKind::Test];

    /// The name of the rule that is broken.
    fn rule(self) -> &'static str {
        match self {
            FindingKind::Message => "message",
            FindingKind::Step => "failed-step",
            FindingKind::Test => "failed-test",
        }
    }

    fn about(self) -> &'static str {
        match self {
            FindingKind::Message => "A program that a failed step ran reports a place in a source.",
            FindingKind::Step => "A step failed.",
            FindingKind::Test => "A test failed.",
        }
    }
}

/// Something that was found.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct SourceFinding {
    /// Where, if that is known.
    pub place: Option<FindingPlace>,
    /// What found it.
    pub kind: FindingKind,
    /// How grave it is.
    pub gravity: Gravity,
    /// What it is, for people.
    pub message: String,
    /// The target, or the test, in which it was found.
    pub target: String,
}

/// A message with its place, as a program printed it.
pub type PlacedMessage = (FindingPlace, Gravity, String);

/// The messages of compilers, linkers and test programs in what commands printed, each once, in its
/// order. `source` gives the file of the workspace that a printed path means; messages about all
/// others are left out.
///
/// ```
/// use nubrik_reports::findings::{Gravity, messages};
/// let printed = "src/tide.c:3:9: error: expected ';'\n    3 | x\n";
/// let found = messages(printed, &|path| path.starts_with("src/").then(|| path.to_owned()));
/// assert_eq!((found[0].0.line, found[0].1, found[0].2.as_str()), (3, Gravity::Error, "expected ';'"));
/// ```
pub fn messages(printed: &str, source: &dyn Fn(&str) -> Option<String>) -> Vec<PlacedMessage> {
    let lines: Vec<&str> = printed.lines().map(str::trim_end).collect();
    let mut found: Vec<PlacedMessage> = Vec::new();
    // The last place of a trace of calls, and the last head without a place.
    let mut trace: Option<FindingPlace> = None;
    let mut head: Option<(usize, Gravity, &str)> = None;
    for (at, line) in lines.iter().enumerate() {
        let mut add = |message: PlacedMessage| {
            if !message.2.is_empty() && !found.contains(&message) {
                found.push(message);
            }
        };
        if let Some(place) = traced(line, source) {
            trace = Some(place);
            continue;
        }
        if let Some(told) = trace.take_if(|_| !line.starts_with([' ', '\t']) && !line.is_empty()) {
            add((told, Gravity::Error, (*line).to_owned()));
            continue;
        }
        if let Some((word, message)) = graded(line) {
            head = word.map(|gravity| (at, gravity, message));
            continue;
        }
        if let Some(place) = line.trim_start().strip_prefix("--> ") {
            // Only the first place belongs to the message; those behind it explain.
            let head = head.take().filter(|(from, ..)| at - from <= NEAR);
            if let (Some((place, "")), Some((_, gravity, message))) = (placed(place, source), head)
            {
                add((place, gravity, message.to_owned()));
            }
            continue;
        }
        let Some((place, rest)) = placed(line, source) else {
            continue;
        };
        match graded(rest) {
            Some((Some(gravity), message)) => add((place, gravity, message.to_owned())),
            Some((None, _)) => {}
            // The message is a few lines further on.
            None if rest.is_empty() => {
                let next = lines[at + 1..]
                    .iter()
                    .take(NEAR)
                    .take_while(|line| placed(line, source).is_none());
                let mut next = next.filter_map(|line| graded(line));
                if let Some((Some(gravity), message)) = next.next() {
                    add((place, gravity, message.to_owned()));
                }
            }
            None if rest.starts_with("In ") || rest.ends_with(':') => {}
            None => add((place, Gravity::Error, rest.to_owned())),
        }
    }
    found
}

/// `PATH:LINE:COLUMN: REST`, `PATH:LINE: REST`, `PATH(LINE,COLUMN): REST`.
fn placed<'t>(
    line: &'t str,
    source: &dyn Fn(&str) -> Option<String>,
) -> Option<(FindingPlace, &'t str)> {
    if line.starts_with([' ', '\t']) {
        return None;
    }
    let (path, number, column, rest) = in_colons(line).or_else(|| in_brackets(line))?;
    let path = source(path.strip_prefix("./").unwrap_or(path))?;
    Some((
        FindingPlace {
            path,
            line: number,
            column,
        },
        rest.trim(),
    ))
}

/// A path, a line, a column, and what follows them.
type PathAndLine<'t> = (&'t str, u32, Option<u32>, &'t str);

fn in_colons(line: &str) -> Option<PathAndLine<'_>> {
    let mut from = 0;
    // A path may hold colons itself.
    loop {
        let at = from + line.get(from..)?.find(':')?;
        from = at + 1;
        let Some((number, rest)) = leading_number(&line[from..]) else {
            continue;
        };
        if !(rest.is_empty() || rest.starts_with(':')) || at == 0 {
            continue;
        }
        let rest = rest.strip_prefix(':').unwrap_or(rest);
        return Some(match leading_number(rest) {
            Some((column, rest)) if rest.is_empty() || rest.starts_with([':', '-']) => {
                let rest = rest.trim_start_matches(|c: char| c == '-' || c.is_ascii_digit());
                (
                    &line[..at],
                    number,
                    Some(column),
                    rest.strip_prefix(':').unwrap_or(rest),
                )
            }
            _ => (&line[..at], number, None, rest),
        });
    }
}

fn in_brackets(line: &str) -> Option<PathAndLine<'_>> {
    let (path, rest) = line.split_once('(')?;
    let (numbers, rest) = rest.split_once("):")?;
    let (number, column) = numbers
        .split_once(',')
        .map_or((numbers, None), |(a, b)| (a, Some(b)));
    Some((
        path,
        number.parse().ok()?,
        column.and_then(|text| text.parse().ok()),
        rest,
    ))
}

/// A number above nothing at the start of a text, and the rest.
fn leading_number(text: &str) -> Option<(u32, &str)> {
    let end = text
        .find(|c: char| !c.is_ascii_digit())
        .unwrap_or(text.len());
    let number = text[..end].parse().ok().filter(|number| *number > 0)?;
    Some((number, &text[end..]))
}

/// `error: …`, `Error[E1]: …`, `fatal error: …`, `warning: …`: how grave it is, and the message; no
/// gravity for a note.
fn graded(text: &str) -> Option<(Option<Gravity>, &str)> {
    let (word, message) = text.split_once(':')?;
    let word = word.to_ascii_lowercase();
    // `error[E0308]`, `error TS2322`.
    let first = word.split(['[', ' ']).next().unwrap_or("");
    let gravity = match (word.as_str(), first) {
        ("fatal error", _) | (_, "error") => Some(Gravity::Error),
        (_, "warning") => Some(Gravity::Warning),
        ("note" | "help" | "hint", _) => None,
        _ => return None,
    };
    Some((gravity, message.trim()))
}

/// `  File "PATH", line LINE, in …`, as traces of calls have it.
fn traced(line: &str, source: &dyn Fn(&str) -> Option<String>) -> Option<FindingPlace> {
    let (path, rest) = line
        .trim_start()
        .strip_prefix("File \"")?
        .split_once("\", line ")?;
    let (number, _) = leading_number(rest)?;
    Some(FindingPlace {
        path: source(path)?,
        line: number,
        column: None,
    })
}

/// Findings as SARIF 2.1.0, sorted; `version` is that of this program. The same findings give the
/// same bytes.
pub fn sarif(findings: &[SourceFinding], version: &str) -> Value {
    let mut sorted: Vec<&SourceFinding> = findings.iter().collect();
    sorted.sort();
    sorted.dedup();
    let rule = |kind: &FindingKind| json!({ "id": kind.rule(), "shortDescription": { "text": kind.about() } });
    let mut same: BTreeMap<String, u64> = BTreeMap::new();
    let results = sorted.iter().map(|finding| {
        let mut location = json!({
            "logicalLocations": [{ "fullyQualifiedName": finding.target, "kind": "target" }],
        });
        if let Some(FindingPlace { path, line, column }) = &finding.place {
            let mut region = json!({ "startLine": line });
            if let Some(column) = column {
                region["startColumn"] = json!(column);
            }
            location["physicalLocation"] = json!({
                "artifactLocation": { "uri": uri(path), "uriBaseId": "WORKSPACE" },
                "region": region,
            });
        }
        // What stays the same while lines above it come and go.
        let path = finding
            .place
            .as_ref()
            .map_or("", |place| place.path.as_str());
        let text = [finding.kind.rule(), path, &finding.target, &finding.message].join("\0");
        let digest = Digest::of(text.as_bytes()).hex()[..16].to_owned();
        let number = same.entry(digest.clone()).or_default();
        *number += 1;
        json!({
            "ruleId": finding.kind.rule(),
            "level": finding.gravity.word(),
            "message": { "text": finding.message },
            "locations": [location],
            "partialFingerprints": { "finding/v1": format!("{digest}:{number}") },
        })
    });
    let results: Vec<Value> = results.collect();
    json!({
        "$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
        "version": "2.1.0",
        "runs": [{
            "tool": { "driver": {
                "name": "nubrik",
                "version": version,
                "rules": FindingKind::ALL.iter().map(rule).collect::<Vec<Value>>(),
            } },
            "originalUriBaseIds": { "WORKSPACE": { "description": { "text": "The root of the workspace." } } },
            "columnKind": "unicodeCodePoints",
            "results": results,
        }],
    })
}

/// A path as a relative URI.
fn uri(path: &str) -> String {
    let mut out = String::new();
    for byte in path.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' | b'/' => {
                out.push(byte as char)
            }
            _ => out.push_str(&format!("%{byte:02X}")),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn shown(printed: &str) -> Vec<String> {
        let source = |path: &str| {
            let path = path.strip_prefix("/w/").unwrap_or(path);
            let known = [
                "src/a.c",
                "src/b.rs",
                "x.f90",
                "go/x.go",
                "web/a.ts",
                "t/test_a.py",
                "odd:1/a b.c",
            ];
            known.contains(&path).then(|| path.to_owned())
        };
        let line = |(place, gravity, message): &PlacedMessage| {
            let column = place
                .column
                .map_or_else(String::new, |column| format!(":{column}"));
            format!(
                "{}:{}{column} {}: {message}",
                place.path,
                place.line,
                gravity.word()
            )
        };
        messages(printed, &source).iter().map(line).collect()
    }

    #[test]
    fn messages_of_many_programs_are_read() {
        let printed = "In file included from src/a.c:1:\n/usr/include/x.h:3:1: error: not ours\n\
            src/a.c: In function ‘main’:\nsrc/a.c:5:12: error: ‘tide’ undeclared\n    5 |   tide\n\
            src/a.c:5:12: note: each is reported once\n./src/a.c:9: warning: unused\n\
            /w/src/a.c:10:1: fatal error: gone.h: No such file\nodd:1/a b.c:7:2: error: odd\n\
            src/a.c:5:12: error: ‘tide’ undeclared\ncollect2: error: ld returned 1 exit status\n";
        assert_eq!(
            shown(printed),
            [
                "src/a.c:5:12 error: ‘tide’ undeclared",
                "src/a.c:9 warning: unused",
                "src/a.c:10:1 error: gone.h: No such file",
                "odd:1/a b.c:7:2 error: odd",
            ]
        );
        let printed = "error[E0308]: mismatched types\n --> src/b.rs:4:5\n  |\n4 | x\nnote: see\n --> src/b.rs:1:1\n\
            warning: unused variable\n  --> src/b.rs:2:9\nerror: aborting due to 1 previous error\n";
        assert_eq!(
            shown(printed),
            [
                "src/b.rs:4:5 error: mismatched types",
                "src/b.rs:2:9 warning: unused variable"
            ]
        );
        let printed =
            "x.f90:3:8:\n\n    3 | call ebb(\n      |        1\nError: Syntax error at (1)\n";
        assert_eq!(shown(printed), ["x.f90:3:8 error: Syntax error at (1)"]);
        assert_eq!(
            shown("# tide\ngo/x.go:4:2: undefined: ebb\n"),
            ["go/x.go:4:2 error: undefined: ebb"]
        );
        let printed = "web/a.ts(3,7): error TS2322: Type 'string' is not assignable.\n";
        assert_eq!(
            shown(printed),
            ["web/a.ts:3:7 error: Type 'string' is not assignable."]
        );
        let printed = "Traceback (most recent call last):\n  File \"/w/t/test_a.py\", line 3, in test\n    ebb()\n  \
            File \"/usr/lib/python3/x.py\", line 9, in ebb\n    raise ValueError('dry')\nValueError: dry\n";
        assert_eq!(shown(printed), ["t/test_a.py:3 error: ValueError: dry"]);
        assert_eq!(
            shown("t/test_a.py:12: AssertionError\n"),
            ["t/test_a.py:12 error: AssertionError"]
        );
    }

    #[test]
    fn findings_are_sarif() {
        let place = |line| FindingPlace {
            path: "src/a b.c".to_owned(),
            line,
            column: Some(2),
        };
        let finding = |kind, place, message: &str| SourceFinding {
            place,
            kind,
            gravity: Gravity::Error,
            message: message.to_owned(),
            target: "tide/x".to_owned(),
        };
        let findings = [
            finding(FindingKind::Message, Some(place(9)), "expected ';'"),
            finding(FindingKind::Message, Some(place(3)), "expected ';'"),
            finding(FindingKind::Test, None, "1 of 2 cases failed"),
            finding(FindingKind::Message, Some(place(9)), "expected ';'"),
        ];
        let value = sarif(&findings, "1.2.3");
        let run = &value["runs"][0];
        let results = run["results"].as_array().unwrap();
        assert_eq!(
            (results.len(), &results[0]["ruleId"]),
            (3, &json!("failed-test"))
        );
        assert!(results[0]["locations"][0].get("physicalLocation").is_none());
        let places: Vec<_> = results[1..]
            .iter()
            .map(|r| &r["locations"][0]["physicalLocation"]["region"]["startLine"])
            .collect();
        assert_eq!(places, [3, 9]);
        let uri = &results[1]["locations"][0]["physicalLocation"]["artifactLocation"]["uri"];
        assert_eq!(uri, "src/a%20b.c");
        // Each of two findings that are alike has a fingerprint of its own, which does not hold the
        // line.
        let prints: Vec<_> = results
            .iter()
            .map(|r| r["partialFingerprints"]["finding/v1"].as_str().unwrap())
            .collect();
        assert!(
            prints[1].ends_with(":1")
                && prints[2].ends_with(":2")
                && prints[1][..16] == prints[2][..16]
        );
        let rules: Vec<_> = run["tool"]["driver"]["rules"]
            .as_array()
            .unwrap()
            .iter()
            .map(|r| &r["id"])
            .collect();
        assert!(
            results
                .iter()
                .all(|result| rules.contains(&&result["ruleId"]))
        );
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..Default::default() })]

        #[test]
        fn any_text_is_survived(text in "(src/a\\.c|:|[0-9]{1,12}|error: |-->|\n| |\\(|\\)|,|File \"|\", line |[é-]){0,60}") {
            shown(&text);
        }
    }
}
