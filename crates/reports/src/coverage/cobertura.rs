//! Cobertura's XML: `class`es with `line`s in `package`s.

use std::collections::BTreeMap;
use std::fmt::Write;
use std::ops::Add;

use nubrik_wording::xml;

use super::{BranchSum, Coverage, LineCounts};
use crate::{Malformed, malformed};

pub(crate) fn read(text: &str) -> Result<Coverage, Malformed> {
    // Its files name a document type, which is not fetched.
    let options = roxmltree::ParsingOptions {
        allow_dtd: true,
        nodes_limit: 16_000_000,
        ..Default::default()
    };
    let document = roxmltree::Document::parse_with_options(text, options)
        .map_err(|e| malformed(format!("it is no XML: {e}")))?;
    let root = document.root_element();
    if root.tag_name().name() != "coverage" {
        return Err(malformed(format!(
            "it is XML with <{}>, where Cobertura has <coverage>",
            root.tag_name().name()
        )));
    }
    let sources: Vec<&str> = document
        .descendants()
        .filter(|n| n.has_tag_name("source"))
        .filter_map(|n| n.text())
        .map(str::trim)
        .collect();
    let mut all = Coverage::default();
    for class in document
        .descendants()
        .filter(|node| node.has_tag_name("class"))
    {
        let name = class
            .attribute("filename")
            .ok_or_else(|| malformed("a <class> in it has no filename"))?;
        let mut lines = LineCounts::default();
        let own = class.children().filter(|node| node.has_tag_name("lines"));
        for line in own.flat_map(|lines| lines.children().filter(|node| node.has_tag_name("line")))
        {
            let number = line
                .attribute("number")
                .and_then(|v| v.parse::<u32>().ok())
                .filter(|n| *n > 0);
            let times = line.attribute("hits").and_then(|v| v.parse::<u64>().ok());
            let (Some(number), Some(times)) = (number, times) else {
                return Err(malformed(format!(
                    "a <line> of `{name}` has no number and hits"
                )));
            };
            lines.add(number, times);
            let condition = line.attribute("condition-coverage").and_then(branches_of);
            for (n, times) in condition.into_iter().flatten().enumerate() {
                lines.add_branch(number, &n.to_string(), times);
            }
        }
        all.add(placed(name, &sources), &lines);
    }
    Ok(all)
}

/// How often each branch was taken, at least once or never: of `50% (1/2)` one was.
fn branches_of(condition: &str) -> Option<Vec<u64>> {
    let (taken, all) = condition
        .split_once('(')?
        .1
        .trim_end_matches(')')
        .split_once('/')?;
    let (taken, all): (usize, usize) = (taken.trim().parse().ok()?, all.trim().parse().ok()?);
    // A file that claims billions of branches is none that a program wrote.
    (taken <= all && all <= 65_536).then(|| (0..all).map(|n| u64::from(n < taken)).collect())
}

/// The path of a class's file: below the one source folder, where there is one.
fn placed(name: &str, sources: &[&str]) -> String {
    match sources {
        [one] if !name.starts_with('/') && !matches!(*one, "" | ".") => {
            format!("{}/{name}", one.trim_end_matches('/'))
        }
        _ => name.to_owned(),
    }
}

pub(crate) fn write(all: &Coverage) -> String {
    let mut packages: BTreeMap<&str, Vec<(&str, &LineCounts)>> = BTreeMap::new();
    for (path, lines) in &all.files {
        let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
        packages.entry(folder).or_default().push((path, lines));
    }
    let (covered, lines) = all.total();
    let branches = all.branch_sum();
    let mut out = String::from("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n");
    let _ = writeln!(
        out,
        "<coverage line-rate=\"{}\" branch-rate=\"{}\" lines-covered=\"{covered}\" lines-valid=\"{lines}\" \
         branches-covered=\"{}\" branches-valid=\"{}\" complexity=\"0\" version=\"1\" timestamp=\"0\">",
        rate(covered, lines),
        branch_rate(branches),
        branches.taken,
        branches.all
    );
    out.push_str("  <sources>\n    <source>.</source>\n  </sources>\n  <packages>\n");
    for (folder, files) in packages {
        let covered = files.iter().map(|(_, lines)| lines.covered()).sum();
        let all = files.iter().map(|(_, lines)| lines.len()).sum();
        let (name, rate_of) = (xml(&folder.replace('/', ".")), rate(covered, all));
        let branches = files
            .iter()
            .map(|(_, lines)| lines.branch_sum())
            .fold(BranchSum::default(), BranchSum::add);
        let branches = branch_rate(branches);
        let _ = writeln!(
            out,
            "    <package name=\"{name}\" line-rate=\"{rate_of}\" branch-rate=\"{branches}\" complexity=\"0\">\n      <classes>"
        );
        for (path, lines) in files {
            write_file(&mut out, path, lines);
        }
        out.push_str("      </classes>\n    </package>\n");
    }
    out.push_str("  </packages>\n</coverage>\n");
    out
}

/// One file, with all its lines.
fn write_file(out: &mut String, path: &str, lines: &LineCounts) {
    let name = path.rsplit('/').next().unwrap_or(path);
    let _ = writeln!(
        out,
        "        <class name=\"{}\" filename=\"{}\" line-rate=\"{}\" branch-rate=\"{}\" complexity=\"0\">\n          \
        <methods/>\n          <lines>",
        xml(name),
        xml(path),
        rate(lines.covered(), lines.len()),
        branch_rate(lines.branch_sum())
    );
    let branches = lines.branches_by_line();
    for (line, times) in lines.iter() {
        let condition = branches.get(&line).map(|BranchSum { taken, all }| {
            let percent = taken * 100 / all;
            format!(" branch=\"true\" condition-coverage=\"{percent}% ({taken}/{all})\"")
        });
        let condition = condition.unwrap_or_default();
        let _ = writeln!(
            out,
            "            <line number=\"{line}\" hits=\"{times}\"{condition}/>"
        );
    }
    out.push_str("          </lines>\n        </class>\n");
}

/// The part of lines that ran, from 0 to 1.
fn rate(covered: usize, all: usize) -> String {
    format!(
        "{:.4}",
        if all == 0 {
            1.0
        } else {
            covered as f64 / all as f64
        }
    )
}

/// The part of branches that were taken; without any, 0, as other programs write it.
fn branch_rate(branches: BranchSum) -> String {
    if branches.all == 0 {
        "0".to_owned()
    } else {
        rate(branches.taken, branches.all)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_programs_write_is_read() {
        let text = r#"<?xml version="1.0" ?><!DOCTYPE coverage SYSTEM "coverage-04.dtd">
            <coverage><sources><source>/work/isles/</source></sources><packages><package name="tide"><classes>
            <class name="fit.py" filename="tide/fit.py"><methods><method><lines><line number="9" hits="1"/></lines></method></methods>
            <lines><line number="3" hits="2" branch="true" condition-coverage="50% (1/2)"/><line number="4" hits="0"/></lines></class>
            </classes></package></packages></coverage>"#;
        let all = read(text).unwrap();
        assert_eq!(
            all.files["/work/isles/tide/fit.py"]
                .iter()
                .collect::<Vec<_>>(),
            [(3, 2), (4, 0)]
        );
        assert_eq!(all.branch_sum(), BranchSum { taken: 1, all: 2 });
    }

    #[test]
    fn what_is_no_coverage_is_refused() {
        assert_eq!(
            read("<html/>").unwrap_err().to_string(),
            "it is XML with <html>, where Cobertura has <coverage>"
        );
        let text = "<coverage><class filename='a'><lines><line number='0' hits='1'/></lines></class></coverage>";
        assert_eq!(
            read(text).unwrap_err().to_string(),
            "a <line> of `a` has no number and hits"
        );
    }
}
