//! Data files as trees whose every part knows where it is: CSV, JSON, TOML, lines.

use std::collections::HashSet;
use std::ops::Range;

use nubrik_diagnostic::Diagnostic;

/// How deep data may nest.
const DEPTH_LIMIT: usize = 100;

/// A part of a data file.
#[derive(Clone, PartialEq, Debug)]
pub(crate) struct Datum {
    /// Its bytes in the file.
    pub range: Range<usize>,
    pub kind: DatumKind,
}

#[derive(Clone, PartialEq, Debug)]
pub(crate) enum DatumKind {
    None,
    Bool(bool),
    Int(i64),
    Text(String),
    /// A text of a format that has only texts: it is read as whatever type is wanted.
    Cell(String),
    List(Vec<Datum>),
    /// Entries in order.
    Map(Vec<(String, Range<usize>, Datum)>),
}

impl Datum {
    /// What the part is, with its article.
    pub fn described(&self) -> String {
        match &self.kind {
            DatumKind::None => "nothing".to_owned(),
            DatumKind::Bool(_) => "a bool".to_owned(),
            DatumKind::Int(_) => "a number".to_owned(),
            DatumKind::Text(_) => "a text".to_owned(),
            DatumKind::Cell(text) if text.is_empty() => "an empty cell".to_owned(),
            DatumKind::Cell(text) => format!("{text:?}"),
            DatumKind::List(_) => "a list".to_owned(),
            DatumKind::Map(_) => "a table of names and values".to_owned(),
        }
    }
}

/// What is wrong with a data file, and where.
#[derive(Debug)]
pub(crate) struct DataProblem {
    pub range: Range<usize>,
    pub diagnostic: Diagnostic,
}

fn problem(range: Range<usize>, message: String) -> DataProblem {
    DataProblem {
        range,
        diagnostic: Diagnostic::error("bad-data", message),
    }
}

type Parsed = Result<Datum, DataProblem>;

/// Reads a CSV file: a header line with the columns' names, then a row a record. Text in quotes may
/// hold separators, quotes (doubled) and line ends (RFC 4180).
pub(crate) fn csv(text: &str, separator: u8) -> Parsed {
    let mut reader = csv::ReaderBuilder::new()
        .delimiter(separator)
        .has_headers(false)
        .from_reader(text.as_bytes());
    let mut header: Vec<String> = Vec::new();
    let mut rows = Vec::new();
    let mut record = csv::StringRecord::new();
    loop {
        let start = place_of(&reader, text);
        let more = reader.read_record(&mut record);
        let end = place_of(&reader, text);
        let behind = text[start..].trim_start_matches(['\r', '\n']);
        let start = text.len() - behind.len();
        let line = start..(start + text[start..end.max(start)].trim_end().len());
        match more {
            Ok(false) => break,
            Ok(true) => {}
            Err(e) => {
                return Err(match e.kind() {
                    csv::ErrorKind::UnequalLengths {
                        expected_len, len, ..
                    } => unequal_row(text, line, separator, *len as usize, *expected_len as usize),
                    _ => problem(line, format!("this is not CSV: {e}")),
                });
            }
        }
        if header.is_empty() {
            header = record.iter().map(|name| name.trim().to_owned()).collect();
            check_header(&header, line, separator)?;
            continue;
        }
        rows.push(row(text, line, &header, &record, separator));
    }
    if header.is_empty() {
        let error = problem(0..0, "this file has no header line".to_owned());
        return Err(DataProblem {
            diagnostic: error.diagnostic.mend("code,name"),
            ..error
        });
    }
    Ok(Datum {
        range: 0..text.len(),
        kind: DatumKind::List(rows),
    })
}

/// The byte at which a reader is.
fn place_of(reader: &csv::Reader<&[u8]>, text: &str) -> usize {
    let at = usize::try_from(reader.position().byte());
    at.unwrap_or(text.len()).min(text.len())
}

/// A row of a file with such a header, on such a line of it.
fn row(
    text: &str,
    line: Range<usize>,
    header: &[String],
    record: &csv::StringRecord,
    separator: u8,
) -> Datum {
    let mut at = line.start;
    let mut cells = Vec::new();
    for (name, cell) in header.iter().zip(record.iter()) {
        let (range, behind) = raw_cell(text, at, line.end.max(at), separator);
        at = behind;
        let kind = DatumKind::Cell(cell.to_owned());
        cells.push((name.clone(), range.clone(), Datum { range, kind }));
    }
    Datum {
        range: line,
        kind: DatumKind::Map(cells),
    }
}

/// What is wrong with a row that has more or fewer cells than the header.
fn unequal_row(
    text: &str,
    line: Range<usize>,
    separator: u8,
    len: usize,
    expected: usize,
) -> DataProblem {
    let row = &text[line.clone()];
    let lone = row.matches('"').count() % 2 == 1;
    if let Some(quote) = row.find('"').filter(|_| lone) {
        let quote = line.start + quote;
        let mut error = problem(quote..line.end, "this quote is never closed".to_owned());
        error.diagnostic = error
            .diagnostic
            .mend(format!("{}\"", &text[quote..line.end]));
        return error;
    }
    let cells = if len == 1 { "cell" } else { "cells" };
    let mut error = problem(
        line,
        format!("this row has {len} {cells}, and the header has {expected}"),
    );
    error.diagnostic = if len < expected {
        let missing = char::from(separator).to_string().repeat(expected - len);
        error.diagnostic.mend(format!("{row}{missing}"))
    } else {
        let note = "a cell that holds a separator is put in quotes";
        error
            .diagnostic
            .note(note)
            .maybe_mend(with_last_cells_joined(row, separator, expected))
    };
    error
}

/// Refuses columns without a name, and two of one name.
fn check_header(header: &[String], line: Range<usize>, separator: u8) -> Result<(), DataProblem> {
    let mut known = HashSet::new();
    let Some(name) = header
        .iter()
        .find(|n| n.is_empty() || !known.insert(n.as_str()))
    else {
        return Ok(());
    };
    let what = if name.is_empty() {
        "a column without a name"
    } else {
        "two columns with the same name"
    };
    let names = distinct_names(header).join(&char::from(separator).to_string());
    let mut error = problem(line, format!("the header has {what}"));
    error.diagnostic = error.diagnostic.mend(names);
    Err(error)
}

/// A row that has as many cells as the header: the last ones as one cell in quotes.
fn with_last_cells_joined(row: &str, separator: u8, count: usize) -> Option<String> {
    let separator = char::from(separator);
    let cells: Vec<&str> = row.splitn(count, separator).collect();
    let (last, first) = cells.split_last()?;
    let mut joined: String = first
        .iter()
        .map(|cell| format!("{cell}{separator}"))
        .collect();
    joined.push_str(&format!("\"{last}\""));
    (!row.contains('"')).then_some(joined)
}

/// Names of columns with a number where they are no names of their own.
fn distinct_names(names: &[String]) -> Vec<String> {
    let mut distinct: Vec<String> = Vec::new();
    for name in names {
        let base = if name.is_empty() { "column" } else { name };
        let mut now = base.to_owned();
        for number in 2.. {
            if !distinct.contains(&now) {
                break;
            }
            now = format!("{base}_{number}");
        }
        distinct.push(now);
    }
    distinct
}

/// Where the cell is that begins at a byte of a row, without its quotes, and where the next one
/// begins.
fn raw_cell(text: &str, start: usize, end: usize, separator: u8) -> (Range<usize>, usize) {
    let bytes = &text.as_bytes()[..end];
    let next_separator = |from: usize| bytes[from..].iter().position(|b| *b == separator);
    let mut at = start;
    if bytes.get(at) != Some(&b'"') {
        let cell_end = next_separator(at).map_or(end, |i| at + i);
        return (at..cell_end, (cell_end + 1).min(end));
    }
    at += 1;
    let inner = at;
    while at < end && (bytes[at] != b'"' || bytes.get(at + 1) == Some(&b'"')) {
        at += if bytes[at] == b'"' { 2 } else { 1 };
    }
    let cell_end = at.min(end);
    let behind = next_separator(cell_end).map_or(end, |i| cell_end + i + 1);
    (inner..cell_end, behind)
}

/// Reads JSON (RFC 8259).
pub(crate) fn json(text: &str) -> Parsed {
    if let Some(at) = too_deep(text) {
        return Err(problem(at..at + 1, "this nests too deep".to_owned()));
    }
    let options = jsonc_parser::ParseOptions {
        allow_comments: false,
        allow_loose_object_property_names: false,
        allow_trailing_commas: false,
        allow_missing_commas: false,
        allow_single_quoted_strings: false,
        allow_hexadecimal_numbers: false,
        allow_unary_plus_numbers: false,
        allow_bare_decimal_point_numbers: false,
        allow_extended_string_escapes: false,
        allow_non_finite_numbers: false,
    };
    let collect = jsonc_parser::CollectOptions::default();
    match jsonc_parser::parse_to_ast(text, &collect, &options) {
        Err(e) => {
            let range = e.range();
            let start = range.start.min(text.len());
            let message = e.kind().to_string();
            let lower = message
                .chars()
                .next()
                .map(char::to_lowercase)
                .into_iter()
                .flatten();
            let message: String = lower.chain(message.chars().skip(1)).collect();
            let mut error = problem(
                start..range.end.clamp(start, text.len()),
                format!("this is not JSON: {message}"),
            );
            let before = text[..start].trim_end().chars().next_back();
            error.diagnostic = match (message.as_str(), before) {
                ("trailing commas are not allowed", _) => error.diagnostic.mend("remove it"),
                ("unexpected close brace", Some(':')) => error.diagnostic.mend("\"\" }"),
                _ => error.diagnostic,
            };
            Err(error)
        }
        Ok(parsed) => match parsed.value {
            Some(value) => json_datum(&value),
            None => Err(problem(0..0, "this file holds no JSON".to_owned())),
        },
    }
}

fn json_datum(value: &jsonc_parser::ast::Value<'_>) -> Parsed {
    use jsonc_parser::ast::Value;
    use jsonc_parser::common::Ranged;
    let range = value.range();
    let range = range.start..range.end;
    let kind = match value {
        Value::NullKeyword(_) => DatumKind::None,
        Value::BooleanLit(lit) => DatumKind::Bool(lit.value),
        Value::NumberLit(lit) => number(lit.value),
        Value::StringLit(lit) => DatumKind::Text(lit.value.to_string()),
        Value::Array(array) => {
            let items: Result<Vec<Datum>, DataProblem> =
                array.elements.iter().map(json_datum).collect();
            DatumKind::List(items?)
        }
        Value::Object(object) => {
            let mut entries: Vec<(String, Range<usize>, Datum)> = Vec::new();
            let mut seen = std::collections::HashSet::new();
            for property in &object.properties {
                let key = property.name.as_str().to_owned();
                let at = property.name.range();
                if !seen.insert(key.clone()) {
                    return Err(problem(at.start..at.end, format!("duplicate key {key:?}")));
                }
                entries.push((key, at.start..at.end, json_datum(&property.value)?));
            }
            DatumKind::Map(entries)
        }
    };
    Ok(Datum { range, kind })
}

/// A number: whole ones as such, others as the text that was written.
fn number(written: &str) -> DatumKind {
    written
        .parse()
        .map_or_else(|_| DatumKind::Text(written.to_owned()), DatumKind::Int)
}

/// Where brackets nest too deep for any honest data.
fn too_deep(text: &str) -> Option<usize> {
    let (mut depth, mut in_text, mut escaped) = (0usize, false, false);
    for (at, byte) in text.bytes().enumerate() {
        match byte {
            _ if escaped => escaped = false,
            b'\\' if in_text => escaped = true,
            b'"' => in_text = !in_text,
            b'[' | b'{' if !in_text => {
                depth += 1;
                if depth > DEPTH_LIMIT {
                    return Some(at);
                }
            }
            b']' | b'}' if !in_text => depth = depth.saturating_sub(1),
            _ => {}
        }
    }
    None
}

/// Reads TOML (v1.0).
pub(crate) fn toml(text: &str) -> Parsed {
    match toml_edit::Document::parse(text) {
        Err(e) => {
            let range = e.span().unwrap_or(0..0);
            let message = e.message().lines().next().unwrap_or("").to_owned();
            let at = range.start.min(text.len());
            let word = text[at..]
                .split(['\n', ',', '}', ']', '#'])
                .next()
                .unwrap_or_default()
                .trim_end();
            let is_unquoted = message.contains("must be quoted");
            let range = if is_unquoted {
                at..at + word.len()
            } else {
                range
            };
            let mut error = problem(range, format!("this is not TOML: {message}"));
            error.diagnostic = error
                .diagnostic
                .maybe_mend(is_unquoted.then(|| format!("\"{word}\"")));
            Err(error)
        }
        Ok(document) => Ok(toml_table(document.as_table(), 0..text.len())),
    }
}

fn toml_table(table: &toml_edit::Table, whole: Range<usize>) -> Datum {
    let range = table.span().unwrap_or(whole);
    let entries = table.iter().map(|(key, item)| {
        let at = table
            .key(key)
            .and_then(toml_edit::Key::span)
            .unwrap_or(range.clone());
        (key.to_owned(), at.clone(), toml_item(item, at))
    });
    Datum {
        kind: DatumKind::Map(entries.collect()),
        range: range.clone(),
    }
}

fn toml_item(item: &toml_edit::Item, outer: Range<usize>) -> Datum {
    let range = item.span().unwrap_or(outer);
    match item {
        toml_edit::Item::None => Datum {
            range,
            kind: DatumKind::None,
        },
        toml_edit::Item::Value(value) => toml_value(value, range),
        toml_edit::Item::Table(table) => toml_table(table, range),
        toml_edit::Item::ArrayOfTables(tables) => {
            let items = tables
                .iter()
                .map(|t| toml_table(t, range.clone()))
                .collect();
            Datum {
                kind: DatumKind::List(items),
                range: range.clone(),
            }
        }
    }
}

fn toml_value(value: &toml_edit::Value, outer: Range<usize>) -> Datum {
    let range = value.span().unwrap_or(outer);
    let kind = match value {
        toml_edit::Value::String(text) => DatumKind::Text(text.value().clone()),
        toml_edit::Value::Integer(number) => DatumKind::Int(*number.value()),
        toml_edit::Value::Boolean(value) => DatumKind::Bool(*value.value()),
        toml_edit::Value::Float(number) => DatumKind::Text(number.value().to_string()),
        toml_edit::Value::Datetime(time) => DatumKind::Text(time.value().to_string()),
        toml_edit::Value::Array(items) => {
            DatumKind::List(items.iter().map(|i| toml_value(i, range.clone())).collect())
        }
        toml_edit::Value::InlineTable(table) => {
            let entries = table.iter().map(|(key, value)| {
                (
                    key.to_owned(),
                    range.clone(),
                    toml_value(value, range.clone()),
                )
            });
            DatumKind::Map(entries.collect())
        }
    };
    Datum { range, kind }
}

/// The lines of a text that are not empty.
pub(crate) fn lines(text: &str) -> Datum {
    let mut at = 0;
    let mut items = Vec::new();
    for line in text.split('\n') {
        let trimmed = line.trim();
        let start = at + (line.len() - line.trim_start().len());
        if !trimmed.is_empty() {
            let range = start..start + trimmed.len();
            items.push(Datum {
                range,
                kind: DatumKind::Text(trimmed.to_owned()),
            });
        }
        at += line.len() + 1;
    }
    Datum {
        range: 0..text.len(),
        kind: DatumKind::List(items),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cells_know_where_they_stand() {
        let text = "code,name\nardle,\"Ardle, North\"\nskerrin,Skerrin\n";
        let DatumKind::List(rows) = csv(text, b',').unwrap().kind else {
            panic!()
        };
        let DatumKind::Map(cells) = &rows[0].kind else {
            panic!()
        };
        assert_eq!(&text[cells[1].2.range.clone()], "Ardle, North");
        let DatumKind::Map(cells) = &rows[1].kind else {
            panic!()
        };
        assert_eq!(&text[cells[0].2.range.clone()], "skerrin");
        let wrong = csv("a,b\n1,2\n3\n", b',').unwrap_err();
        assert_eq!(wrong.range, 8..9);
        // Quotes in quotes, empty cells, and the same text several times in one row.
        let text = "a,b,c,d\n\"x \"\"y\"\"\",,x,x\n";
        let DatumKind::List(rows) = csv(text, b',').unwrap().kind else {
            panic!()
        };
        let DatumKind::Map(cells) = &rows[0].kind else {
            panic!()
        };
        let places: Vec<&str> = cells
            .iter()
            .map(|cell| &text[cell.2.range.clone()])
            .collect();
        assert_eq!(places, ["x \"\"y\"\"", "", "x", "x"]);
        assert_eq!(cells[2].2.range.start + 2, cells[3].2.range.start);
    }

    #[test]
    fn json_and_toml_know_where_they_stand() {
        let text = "{\"a\": [1, 2.5, null]}";
        let DatumKind::Map(entries) = json(text).unwrap().kind else {
            panic!()
        };
        let DatumKind::List(items) = &entries[0].2.kind else {
            panic!()
        };
        assert_eq!(&text[items[1].range.clone()], "2.5");
        assert_eq!(items[2].kind, DatumKind::None);
        assert_eq!(json("{\"a\": }").unwrap_err().range.start, 6);
        assert!(json(&"[".repeat(100_000)).is_err());
        let text = "a = 1\n[b]\nc = 'x'\n";
        let DatumKind::Map(entries) = toml(text).unwrap().kind else {
            panic!()
        };
        assert_eq!(entries[0].2.kind, DatumKind::Int(1));
        let DatumKind::Map(inner) = &entries[1].2.kind else {
            panic!()
        };
        assert_eq!(&text[inner[0].2.range.clone()], "'x'");
        assert!(toml("a = ").is_err());
    }
}
