//! Options and profiles of a workspace.

use nubrik_lang::{OptionInfo, SettingValue};

use serde::Serialize;

/// An option, for programs.
#[derive(Serialize)]
pub struct OptionEvent<'a> {
    event: &'static str,
    option: &'a str,
    full_name: &'a str,
    r#type: &'a str,
    default: Option<serde_json::Value>,
    value: Option<serde_json::Value>,
    documentation: &'a str,
    defined: String,
    readers: Vec<&'a str>,
}

impl OptionEvent<'_> {
    /// The event about an option.
    pub fn of(option: &OptionInfo) -> OptionEvent<'_> {
        OptionEvent {
            event: "option",
            option: &option.name,
            full_name: &option.full_name,
            r#type: &option.ty,
            default: option.default.as_deref().map(typed),
            value: option.value.as_deref().map(typed),
            documentation: &option.documentation,
            defined: option.place.to_string(),
            readers: option.readers.iter().map(|r| &**r).collect(),
        }
    }
}

/// The options with a word in their names or documentation; all of them without a word.
pub fn options_with<'o>(all: &'o [OptionInfo], word: Option<&str>) -> Vec<&'o OptionInfo> {
    let fits = |o: &&OptionInfo| {
        let text = format!("{} {}", o.full_name, o.documentation).to_lowercase();
        word.is_none_or(|w| text.contains(&w.to_lowercase()))
    };
    all.iter().filter(fits).collect()
}

/// A profile, for programs.
#[derive(Serialize)]
pub struct ProfileEvent<'a> {
    event: &'static str,
    profile: &'a str,
    options: serde_json::Map<String, serde_json::Value>,
}

impl<'a> ProfileEvent<'a> {
    /// The event about a profile that sets some options.
    pub fn of(profile: &'a str, set: &[(String, SettingValue)]) -> ProfileEvent<'a> {
        let options = set
            .iter()
            .map(|(name, value)| (name.clone(), typed(&value.to_string())))
            .collect();
        ProfileEvent {
            event: "profile",
            profile,
            options,
        }
    }
}

/// A value as JSON: what options can be is written as in JSON; anything else stays a text.
fn typed(written: &str) -> serde_json::Value {
    serde_json::from_str(written).unwrap_or_else(|_| serde_json::Value::String(written.to_owned()))
}
