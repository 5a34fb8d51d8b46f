//! `nubrik.toml`: settings of the tool, never build logic. Parsed strictly.

use std::collections::BTreeMap;

use nubrik_diagnostic::nearest;
use nubrik_lang::SettingValue;

/// Settings of a workspace.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Settings {
    /// How many steps run at once; as many as there are processors by default.
    pub jobs: Option<usize>,
    /// Whether commands are told that files which they do not declare are not there.
    pub hide_undeclared: bool,
    /// Options set together, by the name of their profile.
    pub profiles: BTreeMap<String, Vec<(String, SettingValue)>>,
}

/// What is wrong with the settings, and a mend.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct SettingsProblem {
    /// What is wrong.
    pub message: String,
    /// Byte range of the words in question.
    pub range: Option<std::ops::Range<usize>>,
    /// What to write instead.
    pub mend: Option<String>,
}

const KEYS: [&str; 3] = ["jobs", "hide_undeclared", "profiles"];

/// Names of profiles that mean something else in the folder of results.
const TAKEN_PROFILES: [&str; 1] = ["base"];

impl Settings {
    /// Reads settings.
    ///
    /// # Errors
    /// When the text is not TOML, or a key is unknown or has a value of the wrong type.
    pub fn parse(text: &str) -> Result<Settings, SettingsProblem> {
        let table: toml::Table = text.parse().map_err(|e: toml::de::Error| SettingsProblem {
            message: e.message().to_owned(),
            range: e.span(),
            mend: None,
        })?;
        let mut settings = Settings::default();
        for (key, value) in &table {
            let problem = |message: String, mend: Option<String>| SettingsProblem {
                message,
                range: text.find(key.as_str()).map(|at| at..at + key.len()),
                mend,
            };
            match (key.as_str(), value) {
                ("jobs", toml::Value::Integer(n)) if (1..=4096).contains(n) => {
                    settings.jobs = Some(*n as usize)
                }
                ("jobs", _) => {
                    return Err(problem("`jobs` is a number from 1 to 4096".into(), Some("jobs = 4".into())));
                }
                ("hide_undeclared", toml::Value::Boolean(hide)) => settings.hide_undeclared = *hide,
                ("hide_undeclared", _) => {
                    let mend = "hide_undeclared = true".to_owned();
                    return Err(problem("`hide_undeclared` is true or false".into(), Some(mend)));
                }
                ("profiles", toml::Value::Table(table)) => {
                    for (name, value) in table {
                        settings.profiles.insert(name.clone(), profile(text, name, value)?);
                    }
                }
                ("profiles", _) => {
                    let mend = "[profiles]\nship = { mode = \"release\" }".to_owned();
                    return Err(problem("`profiles` is a table of profiles".into(), Some(mend)));
                }
                (key, _) => {
                    let near = nearest(key, KEYS).map(|near| format!("{near} = …"));
                    let known = format!("no setting is called `{key}`; there is: {}", KEYS.join(", "));
                    return Err(problem(known, near));
                }
            }
        }
        Ok(settings)
    }
}

fn profile(
    text: &str,
    name: &str,
    value: &toml::Value,
) -> Result<Vec<(String, SettingValue)>, SettingsProblem> {
    let at = |word: &str| text.find(word).map(|at| at..at + word.len());
    let problem = |word: &str, message: String, mend: &str| SettingsProblem {
        message,
        range: at(word),
        mend: (!mend.is_empty()).then(|| mend.to_owned()),
    };
    let fine = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '-');
    if name.is_empty() || !name.chars().all(fine) {
        return Err(problem(
            name,
            format!("`{name}` cannot be the name of a profile: letters, digits, `_` and `-`"),
            "",
        ));
    }
    if TAKEN_PROFILES.contains(&name) {
        let message = format!("`{name}` is the name of the results without a profile");
        return Err(problem(name, message, "give the profile another name"));
    }
    let toml::Value::Table(options) = value else {
        let mend = format!("{name} = {{ mode = \"release\" }}");
        return Err(problem(name, format!("the profile `{name}` is a table of options"), &mend));
    };
    let mut set = Vec::new();
    for (option, value) in options {
        // `flags.mode = …` is a table in a table: the longer name of an option.
        if let toml::Value::Table(inner) = value {
            for (name, value) in inner {
                let name = format!("{option}.{name}");
                set.push((name.clone(), setting_value(value).ok_or_else(|| not_a_value(&name, at(option)))?));
            }
        } else {
            set.push((option.clone(), setting_value(value).ok_or_else(|| not_a_value(option, at(option)))?));
        }
    }
    Ok(set)
}

fn not_a_value(option: &str, range: Option<std::ops::Range<usize>>) -> SettingsProblem {
    let message =
        format!("the value of the option `{option}` is a text, a bool, a number or a list of these");
    SettingsProblem { message, range, mend: None }
}

fn setting_value(value: &toml::Value) -> Option<SettingValue> {
    match value {
        toml::Value::String(text) => Some(SettingValue::Word(text.clone())),
        toml::Value::Boolean(value) => Some(SettingValue::Bool(*value)),
        toml::Value::Integer(value) => Some(SettingValue::Int(*value)),
        toml::Value::Array(items) => {
            Some(SettingValue::List(items.iter().map(setting_value).collect::<Option<Vec<_>>>()?))
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn is_strict() {
        assert_eq!(Settings::parse("").unwrap(), Settings::default());
        assert_eq!(Settings::parse("jobs = 3").unwrap().jobs, Some(3));
        assert!(Settings::parse("jobs = 0").is_err());
        let problem = Settings::parse("# x\njob = 3").unwrap_err();
        assert_eq!(problem.mend.as_deref(), Some("jobs = …"));
        assert_eq!(problem.range, Some(4..7));
        assert!(Settings::parse("jobs =").is_err());
        let settings =
            Settings::parse("[profiles]\nship = { mode = 'release', lto = true, c.level = 3 }").unwrap();
        let ship = &settings.profiles["ship"];
        assert_eq!(ship[0], ("c.level".into(), SettingValue::Int(3)));
        assert_eq!(ship.len(), 3);
        assert!(Settings::parse("[profiles]\nbase = {}").is_err());
        assert!(Settings::parse("[profiles]\nship = 3").is_err());
        assert!(Settings::parse("[profiles]\nship = { mode = 1.5 }").is_err());
    }
}
