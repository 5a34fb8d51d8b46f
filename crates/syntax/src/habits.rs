//! What people write by habit of another language, and what it is here.

use nubrik_diagnostic::Diagnostic;

/// Signs of other languages in a place where nothing of this language can be: the sign, what there
/// is to know, and what to write in its place.
const SIGNS: [(&str, &str, &str); 6] = [
    (
        "&&",
        "two conditions are joined by `and`, not by `&&`",
        "and",
    ),
    ("||", "two conditions are joined by `or`, not by `||`", "or"),
    (
        "=>",
        "a case and its value are joined by `:`, not by `=>`",
        ":",
    ),
    ("**", "there is no power: `*` is for patterns of files", ""),
    ("++", "lists and texts are joined by `+`", "+"),
    (
        ";",
        "unexpected `;`: a declaration ends at the line end",
        "",
    ),
];

/// Words that declare a value in other languages.
const DECLARING: [&str; 8] = [
    "def", "var", "const", "func", "function", "fn", "val", "set",
];

/// Quotes that word processors put in place of plain ones.
const CURLED: [char; 8] = ['“', '”', '„', '«', '»', '‘', '’', '‚'];

/// A duration with the unit that was meant: `3sec` is `3s`.
pub(crate) fn duration(word: &str) -> Option<String> {
    let digits = word.find(|c: char| !c.is_ascii_digit())?;
    let unit = match &word[digits..] {
        "sec" | "secs" | "second" | "seconds" => "s",
        "m" | "mins" | "minute" | "minutes" => "min",
        "hr" | "hrs" | "hour" | "hours" => "h",
        "msec" | "millis" | "milliseconds" => "ms",
        _ => return None,
    };
    Some(format!("{}{unit}", &word[..digits]))
}

/// What is known of the sign at the beginning of a text: how many bytes of it the error is about,
/// and the error.
pub(crate) fn sign(rest: &str) -> Option<(usize, Diagnostic)> {
    let line = rest.lines().next().unwrap_or_default();
    let first = line.chars().next()?;
    if CURLED.contains(&first) {
        let inner = &line[first.len_utf8()..];
        let error = Diagnostic::error("syntax", "texts are written between plain quotes");
        return Some(match inner.find(CURLED) {
            Some(end) => {
                let closing = inner[end..].chars().next().map_or(0, char::len_utf8);
                (
                    first.len_utf8() + end + closing,
                    error.mend(format!("\"{}\"", &inner[..end])),
                )
            }
            None => (first.len_utf8(), error.mend("\"")),
        });
    }
    if first == '!' && !line.starts_with("!=") {
        let operand = line[1..].find(|c: char| !c.is_alphanumeric() && c != '_' && c != '.');
        let end = operand.map_or(line.len(), |at| at + 1);
        let error = Diagnostic::error("syntax", "a condition is negated by `not`, not by `!`");
        return Some((end, error.mend(format!("not {}", &line[1..end]))));
    }
    if first == '?' {
        let error = Diagnostic::error("syntax", "there is no `? :` here");
        return Some((1, error.note("written `if CONDITION then A else B`")));
    }
    let (sign, message, instead) = SIGNS.iter().find(|(sign, ..)| line.starts_with(sign))?;
    let error = Diagnostic::error("syntax", *message);
    let error = match *instead {
        "" if *sign == ";" => error.mend("remove it"),
        "" => error,
        instead => error.mend(instead),
    };
    Some((sign.len(), error))
}

/// What is known of a line that should be a declaration: how many bytes of it the error is about,
/// and the error.
pub(crate) fn declaration(rest: &str) -> Option<(usize, Diagnostic)> {
    let line = rest.lines().next().unwrap_or_default();
    for open in ["//", "/*", "--"] {
        if let Some(comment) = line.strip_prefix(open) {
            let comment = comment.trim().trim_end_matches("*/").trim_end();
            let error = Diagnostic::error("syntax", "comments begin with `#`");
            return Some((line.trim_end().len(), error.mend(format!("# {comment}"))));
        }
    }
    let word = line
        .split(|c: char| !c.is_alphanumeric() && c != '_')
        .next()?;
    if DECLARING.contains(&word) {
        let error = Diagnostic::error(
            "syntax",
            format!("a value is declared with `let`, not with `{word}`"),
        );
        return Some((word.len(), error.mend("let")));
    }
    if matches!(word, "import" | "include" | "load" | "require" | "from") {
        let error = Diagnostic::error(
            "syntax",
            format!("a kit is taken with `use`, not with `{word}`"),
        );
        let error =
            error.note("written `use \"nub:c\" as c` or `use { name } from \"/kit/flags.nub\"`");
        // What follows is as it is written here.
        let follows = line[word.len()..].trim_start().starts_with(['"', '{']);
        return Some((word.len(), if follows { error.mend("use") } else { error }));
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    fn said(found: Option<(usize, Diagnostic)>) -> (usize, String) {
        found.map_or((0, String::new()), |(length, error)| {
            (length, error.mends.join("; "))
        })
    }

    #[test]
    fn signs_of_other_languages_are_known() {
        assert_eq!(said(sign("&& b")), (2, "and".to_owned()));
        assert_eq!(
            said(sign("!dry.season then")),
            (11, "not dry.season".to_owned())
        );
        assert_eq!(
            said(sign("“high water”,")),
            ("“high water”".len(), "\"high water\"".to_owned())
        );
        assert_eq!(said(sign("“high\n”")), ("“".len(), "\"".to_owned()));
        assert_eq!(said(sign("|| b")), (2, "or".to_owned()));
        assert_eq!(said(sign("=> \"a\"")), (2, ":".to_owned()));
        assert_eq!(said(sign(";")), (1, "remove it".to_owned()));
        assert_eq!(said(sign("? \"a\" : \"b\"")), (1, String::new()));
        assert_eq!(said(sign("++ b")), (2, "+".to_owned()));
        assert_eq!(said(sign("!= b")), (0, String::new()));
        assert_eq!(said(sign("")), (0, String::new()));
    }

    #[test]
    fn units_of_durations_are_known_by_other_names() {
        assert_eq!(duration("3sec").as_deref(), Some("3s"));
        assert_eq!(duration("15minutes").as_deref(), Some("15min"));
        assert_eq!(duration("3furlongs"), None);
    }

    #[test]
    fn declarations_of_other_languages_are_known() {
        assert_eq!(said(declaration("// a note ")), (9, "# a note".to_owned()));
        assert_eq!(
            said(declaration("/* a note */")),
            (12, "# a note".to_owned())
        );
        assert_eq!(said(declaration("var x = 1")), (3, "let".to_owned()));
        assert_eq!(said(declaration("import x")), (6, String::new()));
        assert_eq!(
            said(declaration("import \"nub:c\" as c")),
            (6, "use".to_owned())
        );
        assert_eq!(said(declaration("-- a note")), (9, "# a note".to_owned()));
        assert_eq!(said(declaration("variable = 1")), (0, String::new()));
    }
}
