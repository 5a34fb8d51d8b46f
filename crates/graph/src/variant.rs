//! Names of variants' folders: `~kit+flags.mode~release++kit+flags.lto~true`. They are parts of
//! paths in commands, so they hold no sign that compilers, linkers or shells give a meaning.

use std::fmt::Write;

/// Longest readable name of a variant's folder, in bytes.
const READABLE: usize = 100;

/// Between two options. Nothing else in a name ends with one `+` and goes on with another.
const BETWEEN: &str = "++";

/// Between an option's name and its value, in which it is not.
const SET_TO: char = '~';

/// An option that is set: the module or package it lives in, its name and its value as written.
pub type SetTo<'a> = (&'a str, &'a str, &'a str);

/// Adds a text; each byte that is not plain is a sign and two digits.
fn push_plain(name: &mut String, text: &str, sign: char) {
    for c in text.chars() {
        match c {
            'a'..='z' | 'A'..='Z' | '0'..='9' | '.' | '-' | '_' => name.push(c),
            '/' if sign != '+' => name.push('+'),
            c => c.encode_utf8(&mut [0; 4]).bytes().for_each(|byte| {
                let _ = write!(name, "{sign}{byte:02x}");
            }),
        }
    }
}

/// The name of the folder of a variant in which these options are set. Two variants never have the
/// same. A long name is shortened, to some digest of it.
pub fn variant_folder<'a>(
    options: impl IntoIterator<Item = SetTo<'a>>,
    shortened: impl FnOnce(&str) -> String,
) -> String {
    let mut each: Vec<String> = Vec::new();
    for (home, option, value) in options {
        let mut name = String::new();
        push_plain(&mut name, home, SET_TO);
        let _ = write!(name, ".{option}{SET_TO}");
        push_plain(&mut name, value, '+');
        each.push(name);
    }
    each.sort();
    let name = each.join(BETWEEN);
    match name.len() {
        0..=READABLE => format!("~{name}"),
        _ => format!("~{}", shortened(&name)),
    }
}

/// Whether a part of a made folder names a variant.
pub fn is_variant(part: &str) -> bool {
    part.starts_with('~')
}

/// The options in the name of a variant's folder, without where they live: names and values. `None`
/// where only a digest is left.
pub fn options_of(part: &str) -> Option<Vec<(&str, &str)>> {
    let one = |option| {
        let (name, value) = str::rsplit_once(option, SET_TO)?;
        Some((name.rsplit_once('.')?.1, value))
    };
    part.strip_prefix('~')?.split(BETWEEN).map(one).collect()
}

/// A step's folder without the part that names a variant.
pub fn without_variant(folder: &str) -> String {
    folder
        .split('/')
        .filter(|part| !is_variant(part))
        .collect::<Vec<_>>()
        .join("/")
}

/// The folder of the same step in the variant in which an option of this name is not set.
pub fn without_option(folder: &str, name: &str) -> String {
    let mut parts: Vec<String> = Vec::new();
    for part in folder.split('/') {
        match part.strip_prefix('~') {
            None => parts.push(part.to_owned()),
            Some(options) => {
                let is_this = |option: &str| {
                    let option = option
                        .rsplit_once(SET_TO)
                        .and_then(|(left, _)| left.rsplit_once('.'));
                    option.is_some_and(|(_, option)| option == name)
                };
                let rest: Vec<&str> = options
                    .split(BETWEEN)
                    .filter(|option| !is_this(option))
                    .collect();
                if !rest.is_empty() {
                    parts.push(format!("~{}", rest.join(BETWEEN)));
                }
            }
        }
    }
    parts.join("/")
}

#[cfg(test)]
mod tests {
    use super::{SetTo, options_of, without_option, without_variant};

    fn variant_folder<'a>(options: impl IntoIterator<Item = SetTo<'a>>) -> String {
        super::variant_folder(options, |_| "0123abcd".to_owned())
    }

    #[test]
    fn names_hold_only_plain_signs_and_are_read_again() {
        let name = variant_folder([
            ("kit/flags", "mode", "release"),
            ("a b", "list", "[\"x,y\", \"-O3\"]"),
        ]);
        assert_eq!(
            name,
            "~a~20b.list~+5b+22x+2cy+22+2c+20+22-O3+22+5d++kit+flags.mode~release"
        );
        assert_eq!(options_of(&name).unwrap()[1], ("mode", "release"));
        assert!(
            name.chars()
                .all(|c| c.is_ascii_alphanumeric() || "~+-_.".contains(c))
        );
        assert_eq!(
            options_of(&variant_folder([("a", "o", &*"x".repeat(200))])),
            None
        );
    }

    #[test]
    fn no_two_variants_have_the_same_name() {
        let texts = [
            "", "a", "+", "++", "~", "a+2b", "2b", "a/b", "a~2fb", "é", ".", "a.b", "%", "=", ",",
        ];
        let mut seen = std::collections::HashSet::new();
        for home in texts.iter().filter(|home| !home.is_empty()) {
            for value in texts {
                assert!(
                    seen.insert(variant_folder([(*home, "o", value)])),
                    "{home} {value}"
                );
                assert!(seen.insert(variant_folder([(*home, "o", value), ("z", "p", value)])));
            }
        }
    }

    #[test]
    fn an_option_is_left_out() {
        let made = |rest: &str| format!(".nubrik/made/fit/{rest}@a");
        assert_eq!(
            without_option(&made("~c.coverage~true/"), "coverage"),
            made("")
        );
        let both = made("~c.coverage~true++c.tuning~debug/");
        assert_eq!(without_option(&both, "coverage"), made("~c.tuning~debug/"));
        assert_eq!(without_variant(&both), made(""));
    }
}
