//! LCOV's tracefiles: lines of a word, a colon and values.

use std::fmt::Write;

use super::{Coverage, LineCounts};
use crate::{Malformed, malformed};

/// What a line of a tracefile may begin with.
const WORDS: [&str; 19] = [
    "TN",
    "SF",
    "VER",
    "FN",
    "FNDA",
    "FNF",
    "FNH",
    "FNL",
    "FNA",
    "BRDA",
    "BRF",
    "BRH",
    "MCDC",
    "MCF",
    "MCH",
    "DA",
    "LF",
    "LH",
    "end_of_record",
];

pub(crate) fn read(text: &str) -> Result<Coverage, Malformed> {
    let mut all = Coverage::default();
    let mut open: Option<(String, LineCounts)> = None;
    for (number, line) in text.lines().enumerate() {
        let line = line.trim();
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        let wrong =
            |what: &str| malformed(format!("line {} of it {what}: `{}`", number + 1, cut(line)));
        let (word, value) = line.split_once(':').unwrap_or((line, ""));
        match word {
            "SF" if open.is_some() => return Err(wrong("begins a file inside of another")),
            "SF" => open = Some((value.to_owned(), LineCounts::default())),
            "DA" | "BRDA" => {
                let (_, lines) = open.as_mut().ok_or_else(|| wrong("is outside of a file"))?;
                let added = match word {
                    "DA" => add_line(lines, value).ok_or("has no line and number of runs"),
                    _ => add_branch(lines, value).ok_or("has no line, branch and number of times"),
                };
                added.map_err(wrong)?;
            }
            "end_of_record" => {
                let (path, lines) = open
                    .take()
                    .ok_or_else(|| wrong("ends a file that was not begun"))?;
                all.add(path, &lines);
            }
            known if WORDS.contains(&known) => {}
            _ => return Err(wrong("is none of a tracefile")),
        }
    }
    match open {
        Some((path, _)) => Err(malformed(format!(
            "it ends in the middle of `{}`",
            cut(&path)
        ))),
        None => Ok(all),
    }
}

/// Adds a line of a file: its number, and how often it ran.
fn add_line(lines: &mut LineCounts, value: &str) -> Option<()> {
    let mut values = value.split(',');
    let place = values.next()?.parse::<u32>().ok()?;
    // Some compilers count below zero when threads are at work together: such a line ran.
    let times = values.next()?.parse::<i64>().ok()?.unsigned_abs();
    // Of an empty file some programs tell line 0.
    if place > 0 {
        lines.add(place, times);
    }
    Some(())
}

/// Adds a branch: the line, the block and the branch, which may be any texts, and how often: `-`
/// where the line never ran.
fn add_branch(lines: &mut LineCounts, value: &str) -> Option<()> {
    let (place, rest) = value.split_once(',')?;
    let place = place.parse::<u32>().ok()?;
    let (name, times) = rest.rsplit_once(',')?;
    let times = match times {
        "-" => 0,
        times => times.parse::<i64>().ok()?.unsigned_abs(),
    };
    if place > 0 {
        lines.add_branch(place, name, times);
    }
    Some(())
}

fn cut(text: &str) -> String {
    text.chars().take(60).collect()
}

pub(crate) fn write(all: &Coverage) -> String {
    let mut out = String::new();
    for (path, lines) in &all.files {
        let _ = writeln!(out, "SF:{path}");
        for (line, times) in lines.iter() {
            let _ = writeln!(out, "DA:{line},{times}");
        }
        let mut any = false;
        for (line, name, times) in lines.branches() {
            any = true;
            let ran = lines.times(line).is_some_and(|times| times > 0);
            let times = if ran || times > 0 {
                times.to_string()
            } else {
                "-".to_owned()
            };
            let _ = writeln!(out, "BRDA:{line},{name},{times}");
        }
        if any {
            let sum = lines.branch_sum();
            let _ = writeln!(out, "BRF:{}\nBRH:{}", sum.all, sum.taken);
        }
        let _ = writeln!(
            out,
            "LF:{}\nLH:{}\nend_of_record",
            lines.len(),
            lines.covered()
        );
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_programs_write_is_read() {
        let text = "TN:\nSF:src/fit.c\nFN:3,fit\nFNDA:2,fit\nDA:3,2,aGVsbG8\nBRDA:3,0,0,-\nDA:4,0\nDA:0,1,x\nDA:5,-3\nLF:2\nend_of_record\n";
        let all = read(text).unwrap();
        assert_eq!(
            all.files["src/fit.c"].iter().collect::<Vec<_>>(),
            [(3, 2), (4, 0), (5, 3)]
        );
        assert!(read("").unwrap().files.is_empty());
    }

    #[test]
    fn what_is_wrong_is_said_with_its_line() {
        for (text, said) in [
            (
                "SF:a\nDA:x,1\nend_of_record\n",
                "line 2 of it has no line and number of runs: `DA:x,1`",
            ),
            ("DA:1,1\n", "line 1 of it is outside of a file: `DA:1,1`"),
            ("SF:a\nDA:1,1\n", "it ends in the middle of `a`"),
            (
                "what is this",
                "line 1 of it is none of a tracefile: `what is this`",
            ),
        ] {
            assert_eq!(read(text).unwrap_err().to_string(), said);
        }
    }
}
