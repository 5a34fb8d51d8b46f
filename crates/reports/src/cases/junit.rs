//! JUnit XML: `testcase`s in `testsuite`s, as most test programs write it and continuous
//! integration reads it.

use std::fmt::Write;

use nubrik_wording::xml;

use super::{Case, CaseOutcome};
use crate::parts::PartMark;
use crate::{Malformed, malformed};

/// The properties of the suite that says which part a report is of.
const PART: &str = "nubrik.part";
const SPLIT: &str = "nubrik.split";

/// Reads the cases of a report.
pub(crate) fn read(text: &str) -> Result<Vec<Case>, Malformed> {
    let document = parsed(text)?;
    let cases = document
        .descendants()
        .filter(|node| node.has_tag_name("testcase"));
    Ok(cases.map(case).collect())
}

/// What a report says of tests.
#[derive(Clone, PartialEq, Debug, Default)]
pub struct TestReport {
    /// The tests.
    pub suites: Vec<Suite>,
    /// Which part of several it is of; none where it is of all.
    pub mark: Option<PartMark>,
}

impl TestReport {
    /// The report that some bytes hold.
    ///
    /// # Errors
    /// What is wrong with them, for people.
    pub fn read(bytes: &[u8]) -> Result<TestReport, Malformed> {
        let text = std::str::from_utf8(bytes).map_err(|_| malformed("it is no text in UTF-8"))?;
        let document = parsed(text.trim_start_matches('\u{feff}'))?;
        let mut report = TestReport::default();
        for suite in document
            .descendants()
            .filter(|node| node.has_tag_name("testsuite"))
        {
            report.mark = report.mark.or(mark(suite)?);
            let cases = suite
                .children()
                .filter(|node| node.has_tag_name("testcase"));
            let cases: Vec<Case> = cases.map(whole_case).collect();
            if !cases.is_empty() {
                let seconds = suite
                    .attribute("time")
                    .and_then(seconds)
                    .unwrap_or_default();
                let name = suite.attribute("name").unwrap_or("").to_owned();
                report.suites.push(Suite {
                    name,
                    seconds,
                    cases,
                });
            }
        }
        Ok(report)
    }

    /// The report as JUnit XML.
    pub fn to_xml(&self) -> String {
        let mark = self.mark.as_ref().map(|PartMark { part, split }| {
            format!(
                "  <testsuite name=\"part {part}\" tests=\"0\" failures=\"0\" skipped=\"0\" time=\"0.000\">\n    <properties>\n      \
                 <property name=\"{PART}\" value=\"{part}\"/>\n      <property name=\"{SPLIT}\" value=\"{}\"/>\n    \
                 </properties>\n  </testsuite>\n",
                xml(split)
            )
        });
        written(&self.suites, mark.as_deref().unwrap_or(""))
    }
}

/// The part that a suite marks its report as.
fn mark(suite: roxmltree::Node<'_, '_>) -> Result<Option<PartMark>, Malformed> {
    let properties = suite
        .children()
        .filter(|node| node.has_tag_name("properties"));
    let properties: Vec<_> = properties.flat_map(|node| node.children()).collect();
    let value = |name: &str| {
        properties
            .iter()
            .find(|p| p.attribute("name") == Some(name))
            .and_then(|p| p.attribute("value"))
    };
    let (Some(part), Some(split)) = (value(PART), value(SPLIT)) else {
        return Ok(None);
    };
    let part = part
        .parse()
        .map_err(|_| malformed(format!("its part is `{part}`")))?;
    Ok(Some(PartMark {
        part,
        split: split.to_owned(),
    }))
}

fn parsed(text: &str) -> Result<roxmltree::Document<'_>, Malformed> {
    let options = roxmltree::ParsingOptions {
        allow_dtd: false,
        nodes_limit: 4_000_000,
        ..Default::default()
    };
    let document = roxmltree::Document::parse_with_options(text, options)
        .map_err(|e| malformed(format!("it is no XML: {e}")))?;
    let root = document.root_element().tag_name().name();
    if !matches!(root, "testsuites" | "testsuite") {
        return Err(malformed(format!(
            "it is XML with <{root}>, where JUnit has <testsuites> or <testsuite>"
        )));
    }
    Ok(document)
}

fn seconds(text: &str) -> Option<f64> {
    text.replace(',', "").parse().ok()
}

/// A case, with what a passed one says besides.
fn whole_case(node: roxmltree::Node<'_, '_>) -> Case {
    let case = case(node);
    let said = node
        .children()
        .find(|n| n.has_tag_name("system-out"))
        .and_then(|n| n.text());
    match (case.outcome, said) {
        (CaseOutcome::Passed, Some(said)) => Case {
            text: said.trim_end().to_owned(),
            ..case
        },
        _ => case,
    }
}

fn case(node: roxmltree::Node<'_, '_>) -> Case {
    let attribute = |name: &str| node.attribute(name).unwrap_or("").to_owned();
    let suite = node
        .ancestors()
        .find(|n| n.has_tag_name("testsuite"))
        .and_then(|n| n.attribute("name"));
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
        seconds: node.attribute("time").and_then(seconds),
        text: text.trim_end().to_owned(),
    }
}

/// A test with its cases, for a report.
#[derive(Clone, PartialEq, Debug)]
pub struct Suite {
    /// Its address.
    pub name: String,
    /// How long it took, in seconds.
    pub seconds: f64,
    /// Its cases.
    pub cases: Vec<Case>,
}

impl Suite {
    /// A test by its path, its time in microseconds, and its cases. Failures in quarantine, for the
    /// reason that is given, are skipped cases that say so: who reads the report does not fail
    /// because of them.
    pub fn of(path: &str, micros: u64, cases: &[Case], quarantined: Option<&str>) -> Suite {
        let mut cases = cases.to_vec();
        if let Some(why) = quarantined {
            for case in cases
                .iter_mut()
                .filter(|case| case.outcome == CaseOutcome::Failed)
            {
                case.outcome = CaseOutcome::Skipped;
                let first = case.text.lines().next().unwrap_or("failed");
                case.text = format!("quarantined: {why}; {first}");
            }
        }
        Suite {
            name: path.to_owned(),
            seconds: micros as f64 / 1e6,
            cases,
        }
    }

    /// What became of the test: it failed with any of its cases, and was skipped with all of them.
    pub fn outcome(&self) -> CaseOutcome {
        let has = |outcome: CaseOutcome| self.cases.iter().any(|case| case.outcome == outcome);
        match (has(CaseOutcome::Failed), has(CaseOutcome::Passed)) {
            (true, _) => CaseOutcome::Failed,
            (false, true) => CaseOutcome::Passed,
            (false, false) => CaseOutcome::Skipped,
        }
    }
}

/// One report of several tests, with something before them.
fn written(suites: &[Suite], before: &str) -> String {
    let count = |cases: &[Case], outcome: CaseOutcome| {
        cases.iter().filter(|c| c.outcome == outcome).count()
    };
    let all: Vec<Case> = suites
        .iter()
        .flat_map(|s| s.cases.iter().cloned())
        .collect();
    let mut out = String::from("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n");
    let _ = writeln!(
        out,
        "<testsuites tests=\"{}\" failures=\"{}\" skipped=\"{}\" time=\"{:.3}\">",
        all.len(),
        count(&all, CaseOutcome::Failed),
        count(&all, CaseOutcome::Skipped),
        suites.iter().map(|s| s.seconds).sum::<f64>()
    );
    out.push_str(before);
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
            write_case(&mut out, suite, case);
        }
        out.push_str("  </testsuite>\n");
    }
    out.push_str("</testsuites>\n");
    out
}

/// One case of a test.
fn write_case(out: &mut String, suite: &Suite, case: &Case) {
    let group = match case.group.is_empty() {
        true => &suite.name,
        false => &case.group,
    };
    let time = case.seconds.map(|s| format!(" time=\"{s:.3}\""));
    let (group, name, time) = (xml(group), xml(&case.name), time.unwrap_or_default());
    let _ = write!(
        out,
        "    <testcase classname=\"{group}\" name=\"{name}\"{time}"
    );
    let text = xml(&case.text);
    let first = xml(case.text.lines().next().unwrap_or(""));
    let inside = match case.outcome {
        CaseOutcome::Passed if case.text.is_empty() => {
            out.push_str("/>\n");
            return;
        }
        CaseOutcome::Passed => format!("<system-out>{text}</system-out>"),
        CaseOutcome::Failed => format!("<failure message=\"{first}\">{text}</failure>"),
        CaseOutcome::Skipped => format!("<skipped message=\"{first}\"/>"),
    };
    let _ = writeln!(out, ">\n      {inside}\n    </testcase>");
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
        assert_eq!(
            (cases[0].seconds, cases[3].seconds),
            (Some(0.25), Some(1000.5))
        );
    }

    #[test]
    fn what_is_no_report_is_refused() {
        assert!(read("<html/>").unwrap_err().to_string().contains("<html>"));
        assert!(
            read("<testsuite><testcase>")
                .unwrap_err()
                .to_string()
                .starts_with("it is no XML")
        );
        assert!(read("<!DOCTYPE x [<!ENTITY a \"b\">]><testsuite>&a;</testsuite>").is_err());
    }

    #[test]
    fn what_is_written_is_read_back() {
        let mut cases = read(REPORT).unwrap();
        cases[1].text = "a < b & \"c\" \u{1b}[31m".to_owned();
        let suite = Suite {
            name: "tide/fit".to_owned(),
            seconds: 1.5,
            cases: cases.clone(),
        };
        let text = TestReport {
            suites: vec![suite],
            mark: None,
        }
        .to_xml();
        assert!(
            text.contains("<testsuites tests=\"4\" failures=\"2\" skipped=\"1\" time=\"1.500\">"),
            "{text}"
        );
        let mut back = read(&text).unwrap();
        assert_eq!(back[1].text, "a < b & \"c\" \u{fffd}[31m");
        back[1].text.clone_from(&cases[1].text);
        assert_eq!(back, cases);
    }

    #[test]
    fn a_report_is_read_back_with_its_part() {
        let mut cases = read(REPORT).unwrap();
        cases[0].text = "flaky: the test failed 1 time before it passed".to_owned();
        let suite = |name: &str, cases| Suite {
            name: name.to_owned(),
            seconds: 0.25,
            cases,
        };
        let suites = vec![suite("tide/fit", cases.clone()), suite("tide/<ebb>", cases)];
        let mark = PartMark {
            part: "2/3".parse().unwrap(),
            split: "0a\"1b".to_owned(),
        };
        for mark in [None, Some(mark)] {
            let report = TestReport {
                suites: suites.clone(),
                mark,
            };
            assert_eq!(
                TestReport::read(report.to_xml().as_bytes()).unwrap(),
                report
            );
            let none = TestReport {
                suites: Vec::new(),
                ..report
            };
            assert_eq!(TestReport::read(none.to_xml().as_bytes()).unwrap(), none);
        }
        // One of others, with suites in suites.
        let other = "<testsuite name='all'><testsuite name='a' time='1,000.5'><testcase name='x'/></testsuite>\
                     <testcase name='y'/></testsuite>";
        let other = TestReport::read(other.as_bytes()).unwrap();
        let shown: Vec<_> = other
            .suites
            .iter()
            .map(|s| (s.name.as_str(), s.cases.len(), s.seconds))
            .collect();
        assert_eq!(shown, [("all", 1, 0.0), ("a", 1, 1000.5)]);
        let wrong = "<testsuite><properties><property name='nubrik.part' value='3'/>\
                     <property name='nubrik.split' value='x'/></properties></testsuite>";
        assert_eq!(
            TestReport::read(wrong.as_bytes()).unwrap_err().to_string(),
            "its part is `3`"
        );
        assert!(TestReport::read(b"\xff<testsuite/>").is_err());
    }
}
