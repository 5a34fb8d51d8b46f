//! Cobertura's XML: `class`es with `line`s in `package`s.

use std::collections::BTreeMap;
use std::fmt::Write;

use nubrik_wording::xml;

use super::{Coverage, LineCounts};
use crate::{Malformed, malformed};

pub(crate) fn read(text: &str) -> Result<Coverage, Malformed> {
    // Its files name a document type, which is not fetched.
    let options =
        roxmltree::ParsingOptions { allow_dtd: true, nodes_limit: 16_000_000, ..Default::default() };
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
    for class in document.descendants().filter(|node| node.has_tag_name("class")) {
        let name = class.attribute("filename").ok_or_else(|| malformed("a <class> in it has no filename"))?;
        let mut lines = LineCounts::default();
        let own = class.children().filter(|node| node.has_tag_name("lines"));
        for line in own.flat_map(|lines| lines.children().filter(|node| node.has_tag_name("line"))) {
            let number = line.attribute("number").and_then(|v| v.parse::<u32>().ok()).filter(|n| *n > 0);
            let times = line.attribute("hits").and_then(|v| v.parse::<u64>().ok());
            let (Some(number), Some(times)) = (number, times) else {
                return Err(malformed(format!("a <line> of `{name}` has no number and hits")));
            };
            lines.add(number, times);
        }
        all.add(placed(name, &sources), &lines);
    }
    Ok(all)
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
    let mut out = String::from("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n");
    let _ = writeln!(
        out,
        "<coverage line-rate=\"{}\" branch-rate=\"0\" lines-covered=\"{covered}\" lines-valid=\"{lines}\" \
         branches-covered=\"0\" branches-valid=\"0\" complexity=\"0\" version=\"1\" timestamp=\"0\">",
        rate(covered, lines)
    );
    out.push_str("  <sources>\n    <source>.</source>\n  </sources>\n  <packages>\n");
    for (folder, files) in packages {
        let covered = files.iter().map(|(_, lines)| lines.covered()).sum();
        let all = files.iter().map(|(_, lines)| lines.len()).sum();
        let (name, rate_of) = (xml(&folder.replace('/', ".")), rate(covered, all));
        let _ = writeln!(
            out,
            "    <package name=\"{name}\" line-rate=\"{rate_of}\" branch-rate=\"0\" complexity=\"0\">\n      <classes>"
        );
        for (path, lines) in files {
            let name = path.rsplit('/').next().unwrap_or(path);
            let _ = writeln!(
                out,
                "        <class name=\"{}\" filename=\"{}\" line-rate=\"{}\" branch-rate=\"0\" complexity=\"0\">\n          \
                 <methods/>\n          <lines>",
                xml(name),
                xml(path),
                rate(lines.covered(), lines.len())
            );
            for (line, times) in lines.iter() {
                let _ = writeln!(out, "            <line number=\"{line}\" hits=\"{times}\"/>");
            }
            out.push_str("          </lines>\n        </class>\n");
        }
        out.push_str("      </classes>\n    </package>\n");
    }
    out.push_str("  </packages>\n</coverage>\n");
    out
}

/// The part of lines that ran, from 0 to 1.
fn rate(covered: usize, all: usize) -> String {
    format!("{:.4}", if all == 0 { 1.0 } else { covered as f64 / all as f64 })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_programs_write_is_read() {
        let text = r#"<?xml version="1.0" ?><!DOCTYPE coverage SYSTEM "coverage-04.dtd">
            <coverage><sources><source>/work/isles/</source></sources><packages><package name="tide"><classes>
            <class name="fit.py" filename="tide/fit.py"><methods><method><lines><line number="9" hits="1"/></lines></method></methods>
            <lines><line number="3" hits="2" branch="true"/><line number="4" hits="0"/></lines></class>
            </classes></package></packages></coverage>"#;
        let all = read(text).unwrap();
        assert_eq!(all.files["/work/isles/tide/fit.py"].iter().collect::<Vec<_>>(), [(3, 2), (4, 0)]);
    }

    #[test]
    fn what_is_no_coverage_is_refused() {
        assert_eq!(
            read("<html/>").unwrap_err().to_string(),
            "it is XML with <html>, where Cobertura has <coverage>"
        );
        let text =
            "<coverage><class filename='a'><lines><line number='0' hits='1'/></lines></class></coverage>";
        assert_eq!(read(text).unwrap_err().to_string(), "a <line> of `a` has no number and hits");
    }
}
