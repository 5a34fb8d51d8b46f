//! Values of options: which there may be, how they are written in folders, keys and messages, and
//! how those of the command line are read.

use std::fmt;

use super::chosen::SettingValue;
use crate::types::Type;
use crate::value::*;

pub(super) fn may_be_chosen(ty: &Type) -> bool {
    match ty.core() {
        Type::Bool | Type::Int | Type::Text | Type::Duration | Type::Alternatives(_) => true,
        Type::List(inner) | Type::Optional(inner) => may_be_chosen(inner),
        _ => false,
    }
}

/// An option's value in one word; different values of one type are written differently.
pub(crate) fn written(value: &Value) -> String {
    match value {
        Value::None => "~none".to_owned(),
        Value::Bool(value) => value.to_string(),
        Value::Int(value) => value.to_string(),
        Value::Duration(millis) => format!("{millis}ms"),
        Value::Text(Text::Plain(text)) => text.to_string(),
        Value::List(items) => {
            let items: Vec<String> = items
                .iter()
                .map(|i| written(i).replace('\\', "\\\\").replace(',', "\\,"))
                .collect();
            format!("[{}]", items.join(","))
        }
        _ => String::new(),
    }
}

/// A value as it would be written in definitions.
pub(crate) fn shown(value: &Value) -> String {
    match value {
        Value::None => "none".to_owned(),
        Value::Text(Text::Plain(text)) => format!("{text:?}"),
        Value::Duration(millis) => crate::types::shown_duration(*millis),
        Value::List(items) => format!(
            "[{}]",
            items.iter().map(shown).collect::<Vec<_>>().join(", ")
        ),
        other => written(other),
    }
}

/// A value that an option of a type may have, as the command line and as a settings file write it:
/// the one nearest to what was given.
pub(super) fn example_value(ty: &Type, given: &SettingValue) -> Option<(String, String)> {
    let same = |text: &str| Some((text.to_owned(), text.to_owned()));
    match ty.core() {
        Type::Optional(inner) => example_value(inner, given),
        Type::Bool => same("true"),
        Type::Int => same("1"),
        Type::Duration => Some(("30s".to_owned(), "\"30s\"".to_owned())),
        Type::Alternatives(texts) => {
            let given = if let SettingValue::Word(word) = given {
                word.as_str()
            } else {
                ""
            };
            let near = nubrik_diagnostic::nearest(given, texts.iter().map(|text| &**text));
            let text = near.or(texts.first().map(|text| &**text))?;
            Some((text.to_owned(), format!("\"{text}\"")))
        }
        _ => None,
    }
}

/// A value that an option of its type cannot have. Its text is for people.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) struct WrongOptionValue {
    /// What the option takes, as it is written.
    expected: String,
    /// What was given.
    found: String,
}

impl fmt::Display for WrongOptionValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "expected {}, found {}", self.expected, self.found)
    }
}

type OptionValueResult<T> = std::result::Result<T, WrongOptionValue>;

/// The value of an option of a type that a setting gives.
///
/// # Errors
/// When such an option cannot have it.
pub(super) fn setting_value(value: &SettingValue, ty: &Type) -> OptionValueResult<Value> {
    let otherwise = |expected: String, found: &str| {
        let found = found.to_owned();
        Err(WrongOptionValue { expected, found })
    };
    let wrong = |found: &str| otherwise(ty.core().written(), found);
    match (ty.core(), value) {
        (Type::Optional(_), SettingValue::Word(word)) if word == "none" => Ok(Value::None),
        (Type::Optional(inner), value) => setting_value(value, inner),
        (Type::Bool, SettingValue::Bool(value)) => Ok(Value::Bool(*value)),
        (Type::Int, SettingValue::Int(value)) => Ok(Value::Int(*value)),
        (Type::List(inner), SettingValue::List(values)) => {
            let items = values
                .iter()
                .map(|v| setting_value(v, inner))
                .collect::<OptionValueResult<Vec<Value>>>();
            Ok(Value::List(items?.into()))
        }
        // As definitions write it: it would be an item that nobody means.
        (Type::List(_), SettingValue::Word(word)) if word.starts_with("[\"") => otherwise(
            format!("{} written as a,b", ty.core().written()),
            &format!("{word:?}"),
        ),
        (Type::List(inner), SettingValue::Word(word)) => {
            let words = word.split(',').filter(|w| !w.is_empty());
            let items = words.map(|w| setting_value(&SettingValue::Word(w.to_owned()), inner));
            Ok(Value::List(
                items.collect::<OptionValueResult<Vec<Value>>>()?.into(),
            ))
        }
        (Type::Bool, SettingValue::Word(word)) => match word.as_str() {
            "true" => Ok(Value::Bool(true)),
            "false" => Ok(Value::Bool(false)),
            _ => otherwise("true or false".to_owned(), &format!("{word:?}")),
        },
        (Type::Int, SettingValue::Word(word)) => word
            .parse()
            .map(Value::Int)
            .or_else(|_| wrong(&format!("{word:?}"))),
        (Type::Duration, SettingValue::Word(word)) => match nubrik_syntax::duration(word) {
            Some(millis) => Ok(Value::Duration(millis)),
            None => wrong(&format!("{word:?}; durations are written 30s, 5min")),
        },
        (Type::Text, SettingValue::Word(word)) => Ok(Value::text(word)),
        (Type::Alternatives(texts), SettingValue::Word(word)) => {
            match texts.iter().find(|t| ***t == **word) {
                Some(text) => Ok(Value::text(text)),
                None => {
                    let all: Vec<String> = texts.iter().map(|t| format!("\"{t}\"")).collect();
                    otherwise(all.join(" or "), &format!("\"{word}\""))
                }
            }
        }
        (_, SettingValue::Bool(value)) => wrong(&value.to_string()),
        (_, SettingValue::Int(value)) => wrong(&value.to_string()),
        (_, SettingValue::List(_)) => wrong("a list"),
        (_, SettingValue::Word(word)) => wrong(&format!("{word:?}")),
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;

    #[test]
    fn different_values_are_written_differently() {
        let list = |items: &[&str]| Value::List(items.iter().map(|t| Value::text(t)).collect());
        assert_ne!(written(&list(&["a,b"])), written(&list(&["a", "b"])));
        assert_ne!(written(&Value::None), written(&Value::text("none")));
    }

    #[test]
    fn items_of_lists_are_written_with_commas() {
        let set = |word: &str| {
            setting_value(
                &SettingValue::Word(word.to_owned()),
                &Type::List(Type::Text.into()),
            )
        };
        let list = |word: &str| match set(word) {
            Ok(Value::List(items)) => items.to_vec().len(),
            other => panic!("{word}: {other:?}"),
        };
        assert_eq!(
            (list("a,b"), list("a"), list(""), list("[a-c]*")),
            (2, 1, 0, 1)
        );
        assert!(set("[\"a\"]").is_err_and(|why| why.expected.contains("written as a,b")));
    }

    #[test]
    fn a_value_that_an_option_cannot_have_is_refused_with_what_it_takes() {
        let modes = Type::Alternatives(["debug", "release"].map(Arc::from).into());
        let numbers = Type::List(Type::Int.into());
        let word = |text: &str| SettingValue::Word(text.to_owned());
        let several = |values: &[SettingValue]| SettingValue::List(values.to_vec());
        for (ty, given, said) in [
            (
                &Type::Bool,
                word("yes"),
                "expected true or false, found \"yes\"",
            ),
            (&Type::Bool, SettingValue::Int(1), "expected bool, found 1"),
            (&Type::Int, word("1.5"), "expected int, found \"1.5\""),
            (&Type::Int, word(""), "expected int, found \"\""),
            (
                &Type::Int,
                SettingValue::Bool(true),
                "expected int, found true",
            ),
            (&Type::Text, SettingValue::Int(3), "expected text, found 3"),
            (
                &Type::Text,
                several(&[word("a")]),
                "expected text, found a list",
            ),
            (
                &Type::Duration,
                word("30"),
                "expected duration, found \"30\"; durations are written 30s, 5min",
            ),
            (
                &modes,
                word("fast"),
                "expected \"debug\" or \"release\", found \"fast\"",
            ),
            (
                &modes,
                SettingValue::Bool(false),
                "expected \"debug\" | \"release\", found false",
            ),
            (&numbers, word("1,b"), "expected int, found \"b\""),
            (
                &numbers,
                word("[\"1\"]"),
                "expected list[int] written as a,b, found \"[\\\"1\\\"]\"",
            ),
            (
                &numbers,
                several(&[SettingValue::Int(1), SettingValue::Bool(true)]),
                "expected int, found true",
            ),
            (&Type::File, word("a.txt"), "expected file, found \"a.txt\""),
        ] {
            let found = setting_value(&given, ty).map_err(|why| why.to_string());
            assert_eq!(found.err().as_deref(), Some(said), "{given}");
        }
    }

    #[test]
    fn a_value_that_an_option_can_have_is_taken_from_words_and_from_toml() {
        let modes = Type::Alternatives(["debug", "release"].map(Arc::from).into());
        let perhaps = Type::Optional(Type::Int.into());
        let word = |text: &str| SettingValue::Word(text.to_owned());
        for (ty, given, value) in [
            (&Type::Bool, word("true"), Value::Bool(true)),
            (&Type::Bool, SettingValue::Bool(false), Value::Bool(false)),
            (&Type::Int, word("-7"), Value::Int(-7)),
            (&Type::Duration, word("5min"), Value::Duration(300_000)),
            (&Type::Text, word("a, b"), Value::text("a, b")),
            (&modes, word("release"), Value::text("release")),
            (&perhaps, word("none"), Value::None),
            (&perhaps, SettingValue::Int(3), Value::Int(3)),
        ] {
            let found = setting_value(&given, ty).map(|found| written(&found));
            assert_eq!(found, Ok(written(&value)), "{given}");
        }
    }

    #[test]
    fn an_example_is_near_to_what_was_given() {
        let modes = Type::Alternatives(["debug", "release"].map(Arc::from).into());
        let example =
            |ty: &Type, given: &str| example_value(ty, &SettingValue::Word(given.to_owned()));
        assert_eq!(
            example(&modes, "relase"),
            Some(("release".to_owned(), "\"release\"".to_owned()))
        );
        assert_eq!(
            example(&modes, "x"),
            Some(("debug".to_owned(), "\"debug\"".to_owned()))
        );
        assert_eq!(
            example(&Type::Duration, "30"),
            Some(("30s".to_owned(), "\"30s\"".to_owned()))
        );
        assert_eq!(
            example(&Type::Optional(Type::Bool.into()), "x"),
            Some(("true".to_owned(), "true".to_owned()))
        );
        assert_eq!(example(&Type::File, "x"), None);
    }
}
