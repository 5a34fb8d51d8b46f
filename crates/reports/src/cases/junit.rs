//! JUnit XML: `testcase`s in `testsuite`s, as most test programs write it and continuous integration reads it.

use std::fmt::Write;

use nubrik_wording::xml;

use super::{Case, CaseOutcome};
use crate::{Malformed, malformed};

/// Reads a report.
pub(crate) fn read(text: &str) -> Result<Vec<Case>, Malformed> {
    let options =
        roxmltree::ParsingOptions { allow_dtd: false, nodes_limit: 4_000_000, ..Default::default() };
    let document = roxmltree::Document::parse_with_options(text, options)
        .map_err(|e| malformed(format!("it is no XML: {e}")))?;
    let root = document.root_element().tag_name().name();
    if !matches!(root, "testsuites" | "testsuite") {
        return Err(malformed(format!(
            "it is XML with <{root}>, where JUnit has <testsuites> or <testsuite>"
        )));
    }
    let cases = document.descendants().filter(|node| node.has_tag_name("testcase"));
    Ok(cases.map(case).collect())
}

fn case(node: roxmltree::Node<'_, '_>) -> Case {
    let attribute = |name: &str| node.attribute(name).unwrap_or("").to_owned();
    let suite = node.ancestors().find(|n| n.has_tag_name("testsuite")).and_then(|n| n.attribute("name"));
    let group = match attribute("classname") {
        empty if empty.is_empty() => suite.unwrap_or("").to_owned(),
        class => class,
    };
    let inner = |name: &str| node.children().find(|n| n.has_tag_name(name));
    let failure = inner("failure").or_else(|| inner("error"));
    let skipped = inner("skipped");
    let (outcome, told) = match (failure, skipped) {
        (Some(failure), _) => (CaseOutcome::Failed, Some(failure)),
        (None, Some(skipped)) => (CaseOutcome::Skipped, Some(skipped)),
        (None, None) => (CaseOutcome::Passed, None),
    };
    let mut text = String::new();
    if let Some(told) = told {
        let message = told.attribute("message").unwrap_or("").trim();
        let body = told.text().unwrap_or("").trim_matches('\n').trim_end();
        // Many programs write the message at the top of the text again.
        if !message.is_empty() && !body.starts_with(message) {
            text.push_str(message);
            text.push('\n');
        }
        text.push_str(body);
    }
    Case {
        group,
        name: attribute("name"),
        outcome,
        seconds: node.attribute("time").and_then(|t| t.replace(',', "").parse().ok()),
        text: text.trim_end().to_owned(),
    }
}

/// A test with its cases, for a report.
pub struct Suite {
    /// Its address.
    pub name: String,
    /// How long it took, in seconds.
    pub seconds: f64,
    /// Its cases.
    pub cases: Vec<Case>,
}

impl Suite {
    /// A test by its path, its time in microseconds, and its cases. Failures in quarantine, for the reason that is given, are
    /// skipped cases that say so: who reads the report does not fail because of them.
    pub fn of(path: &str, micros: u64, cases: &[Case], quarantined: Option<&str>) -> Suite {
        let mut cases = cases.to_vec();
        if let Some(why) = quarantined {
            for case in cases.iter_mut().filter(|case| case.outcome == CaseOutcome::Failed) {
                case.outcome = CaseOutcome::Skipped;
                let first = case.text.lines().next().unwrap_or("failed");
                case.text = format!("quarantined: {why}; {first}");
            }
        }
        Suite { name: path.to_owned(), seconds: micros as f64 / 1e6, cases }
    }
}

/// One report of several tests.
pub fn merged(suites: &[Suite]) -> String {
    let count = |cases: &[Case], outcome: CaseOutcome| cases.iter().filter(|c| c.outcome == outcome).count();
    let all: Vec<Case> = suites.iter().flat_map(|s| s.cases.iter().cloned()).collect();
    let mut out = String::from("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n");
    let _ = writeln!(
        out,
        "<testsuites tests=\"{}\" failures=\"{}\" skipped=\"{}\" time=\"{:.3}\">",
        all.len(),
        count(&all, CaseOutcome::Failed),
        count(&all, CaseOutcome::Skipped),
        suites.iter().map(|s| s.seconds).sum::<f64>()
    );
    for suite in suites {
        let _ = writeln!(
            out,
            "  <testsuite name=\"{}\" tests=\"{}\" failures=\"{}\" skipped=\"{}\" time=\"{:.3}\">",
            xml(&suite.name),
            suite.cases.len(),
            count(&suite.cases, CaseOutcome::Failed),
            count(&suite.cases, CaseOutcome::Skipped),
            suite.seconds
        );
        for case in &suite.cases {
            let group = if case.group.is_empty() { &suite.name } else { &case.group };
            let time = case.seconds.map(|s| format!(" time=\"{s:.3}\"")).unwrap_or_default();
            let head =
                format!("    <testcase classname=\"{}\" name=\"{}\"{time}", xml(group), xml(&case.name));
            let first = case.text.lines().next().unwrap_or("");
            let _ = match case.outcome {
                CaseOutcome::Passed if case.text.is_empty() => writeln!(out, "{head}/>"),
                CaseOutcome::Passed => {
                    let said = xml(&case.text);
                    writeln!(out, "{head}>\n      <system-out>{said}</system-out>\n    </testcase>")
                }
                CaseOutcome::Failed => writeln!(
                    out,
                    "{head}>\n      <failure message=\"{}\">{}</failure>\n    </testcase>",
                    xml(first),
                    xml(&case.text)
                ),
                CaseOutcome::Skipped => {
                    writeln!(out, "{head}>\n      <skipped message=\"{}\"/>\n    </testcase>", xml(first))
                }
            };
        }
        out.push_str("  </testsuite>\n");
    }
    out.push_str("</testsuites>\n");
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    const REPORT: &str = r#"<?xml version="1.0"?>
<testsuites><testsuite name="tides">
  <testcase classname="Spring" name="high" time="0.25"/>
  <testcase name="low"><failure message="expected 4.2">expected 4.2
  found 4.3</failure></testcase>
  <testcase name="moon"><skipped message="no moon"/></testcase>
  <testcase name="broken" time="1,000.5"><error type="X">it broke</error></testcase>
</testsuite></testsuites>"#;

    #[test]
    fn reads_cases() {
        let cases = read(REPORT).unwrap();
        let shown: Vec<String> = cases
            .iter()
            .map(|c| format!("{}/{} {} {:?}", c.group, c.name, c.outcome.word(), c.text))
            .collect();
        assert_eq!(
            shown,
            [
                "Spring/high passed \"\"",
                "tides/low failed \"expected 4.2\\n  found 4.3\"",
                "tides/moon skipped \"no moon\"",
                "tides/broken failed \"it broke\"",
            ]
        );
        assert_eq!((cases[0].seconds, cases[3].seconds), (Some(0.25), Some(1000.5)));
    }

    #[test]
    fn what_is_no_report_is_refused() {
        assert!(read("<html/>").unwrap_err().to_string().contains("<html>"));
        assert!(read("<testsuite><testcase>").unwrap_err().to_string().starts_with("it is no XML"));
        assert!(read("<!DOCTYPE x [<!ENTITY a \"b\">]><testsuite>&a;</testsuite>").is_err());
    }

    #[test]
    fn what_is_written_is_read_back() {
        let mut cases = read(REPORT).unwrap();
        cases[1].text = "a < b & \"c\" \u{1b}[31m".to_owned();
        let text = merged(&[Suite { name: "tide/fit".to_owned(), seconds: 1.5, cases: cases.clone() }]);
        assert!(
            text.contains("<testsuites tests=\"4\" failures=\"2\" skipped=\"1\" time=\"1.500\">"),
            "{text}"
        );
        let mut back = read(&text).unwrap();
        assert_eq!(back[1].text, "a < b & \"c\" \u{fffd}[31m");
        back[1].text.clone_from(&cases[1].text);
        assert_eq!(back, cases);
    }
}
