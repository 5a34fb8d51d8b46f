//! `nubrik.toml`: settings of the tool, never build logic. Parsed strictly.

use nubrik_diagnostic::nearest;

/// Settings of a workspace.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Settings {
    /// How many steps run at once; as many as there are processors by default.
    pub jobs: Option<usize>,
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

const KEYS: [&str; 1] = ["jobs"];
const LATER_KEYS: [&str; 1] = ["profiles"];

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
                (key, _) if LATER_KEYS.contains(&key) => {
                    return Err(problem(format!("`{key}` cannot be used yet"), None));
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
    }
}
