//! `nubrik.toml`: settings of the tool, never build logic. Parsed strictly.

mod origins;
mod rows;
mod shared;
mod steps;
mod watching;
mod workers;

use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

use nubrik_diagnostic::nearest;
use nubrik_graph::{ArchiveFormat, Unpacking, is_digest, url_name};
use nubrik_lang::SettingValue;
use nubrik_pins::OriginSettings;
use nubrik_source::WsPath;
use toml::Spanned;
use toml::de::{DeString, DeTable, DeValue};

use crate::archives::KitArchive;
use rows::WrongSetting;

pub use rows::{SETTINGS, WorkspaceSetting};
pub use shared::{SharedPlace, SharedSettings};
pub use steps::StepSettings;
pub use watching::WatchingSettings;
pub use workers::WorkersSettings;

/// Settings of a workspace.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Settings {
    /// How many steps run at once; as many as there are processors by default.
    pub jobs: Option<usize>,
    /// Whether commands see that files which they do not declare are not there.
    pub hide_undeclared: bool,
    /// How long each command of a test may take that does not say it, in seconds.
    pub test_timeout: Option<u64>,
    /// Kits in archives, by the names that definitions use.
    pub kits: BTreeMap<String, KitArchive>,
    /// Where registries are.
    pub origins: OriginSettings,
    /// Options set together, by the name of their profile.
    pub profiles: BTreeMap<String, Vec<(String, SettingValue)>>,
    /// The shared cache.
    pub shared: Option<SharedSettings>,
    /// How steps run that say nothing of it themselves.
    pub steps: StepSettings,
    /// Whether a watcher is kept.
    pub watching: WatchingSettings,
    /// Other machines that run steps.
    pub workers: Option<WorkersSettings>,
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

/// What is said of a kit.
const KIT_KEYS: [&str; 4] = ["url", "digest", "strip", "format"];

/// Names of profiles that mean something else in the folder of results.
const TAKEN_PROFILES: [&str; 1] = ["default"];

/// A key with its place, and its value with its own.
type Key<'t> = Spanned<DeString<'t>>;
type Keyed<'t> = Spanned<DeValue<'t>>;

fn problem(at: Range<usize>, message: String, mend: Option<String>) -> SettingsProblem {
    SettingsProblem {
        message,
        range: Some(at),
        mend,
    }
}

/// What is wrong with an address that holds a user or a password: the line is not shown, since logs
/// are for everybody.
fn with_password(name: &str, value: &Keyed<'_>) -> Option<SettingsProblem> {
    let DeValue::String(text) = value.get_ref() else {
        return None;
    };
    let server = text.split_once("://")?.1.split('/').next()?;
    let message = format!("`{name}` holds a user or a password, and this file is for everybody");
    let mend = "secret = \"VARIABLE\" names the variable that holds USER:PASSWORD".to_owned();
    server.contains('@').then_some(SettingsProblem {
        message,
        range: None,
        mend: Some(mend),
    })
}

/// The name of the variable that holds a secret. What cannot be such a name may be the secret
/// itself: the line is not shown.
fn secret(holds: &str, value: &Keyed<'_>) -> Result<String, SettingsProblem> {
    let is_fine = |c: char| c.is_ascii_alphanumeric() || c == '_';
    match value.get_ref() {
        DeValue::String(name)
            if !name.starts_with(|c: char| c.is_ascii_digit())
                && !name.is_empty()
                && name.chars().all(is_fine) =>
        {
            Ok(name.to_string())
        }
        _ => {
            let message = format!(
                "`secret` is the name of the variable that holds {holds}: letters, digits and `_`"
            );
            let mend = "secret = \"VARIABLE\", and the secret in that variable".to_owned();
            Err(SettingsProblem {
                message,
                range: None,
                mend: Some(mend),
            })
        }
    }
}

/// What a secret is that opens a store or a registry.
const TOKEN_OR_USER: &str = "a token, or a user and a password with `:` between";

impl Settings {
    /// Reads settings.
    ///
    /// # Errors
    /// When the text is not TOML, or a key is unknown or has a value of the wrong type.
    pub fn parse(text: &str) -> Result<Settings, SettingsProblem> {
        let table = DeTable::parse(text).map_err(|e| not_toml(text, &e))?;
        // What a newer nubrik knows more than this one is wrong for another reason.
        if let Some((_, value)) = sorted(table.get_ref())
            .into_iter()
            .find(|(key, _)| key.get_ref() == "at_least")
        {
            check_version(value)?;
        }
        let mut settings = Settings::default();
        for (key, value) in sorted(table.get_ref()) {
            let name: &str = key.get_ref();
            let Some(setting) = SETTINGS.iter().find(|setting| setting.name == name) else {
                let names = SETTINGS.map(|setting| setting.name);
                let near = nearest(name, names).map(str::to_owned);
                let known = format!(
                    "no setting is called `{name}`; there is: {}",
                    names.join(", ")
                );
                return Err(problem(key.span(), known, near));
            };
            (setting.read)(&mut settings, key, value).map_err(|wrong| match wrong {
                WrongSetting::Kind => problem(
                    value.span(),
                    setting.kind.to_owned(),
                    Some(setting.kind_mend.to_owned()),
                ),
                WrongSetting::Inside(problem) => problem,
            })?;
        }
        Ok(settings)
    }
}

/// What is wrong with a text that is no TOML.
fn not_toml(text: &str, error: &toml::de::Error) -> SettingsProblem {
    let at = error.span().map_or(0, |span| span.start.min(text.len()));
    // A word without quotes is a text that lacks them.
    let word = text[at..]
        .split(['\n', ',', '}', ']', '#'])
        .next()
        .unwrap_or_default()
        .trim_end();
    let is_unquoted = error.message().contains("must be quoted");
    let line = text[..at].rsplit('\n').next().unwrap_or_default();
    let name = line.split('=').next().unwrap_or_default().trim();
    let value = match SETTINGS.iter().find(|setting| setting.name == name) {
        Some(setting) if !setting.is_text => setting.kind_mend.to_owned(),
        _ => format!("\"{word}\""),
    };
    SettingsProblem {
        message: error.message().to_owned(),
        range: if is_unquoted {
            Some(at..at + word.len())
        } else {
            error.span()
        },
        mend: is_unquoted.then_some(value),
    }
}

/// Refuses a workspace that needs a newer nubrik.
fn check_version(value: &Keyed<'_>) -> Result<(), SettingsProblem> {
    let own = env!("CARGO_PKG_VERSION");
    let written = match value.get_ref() {
        DeValue::String(written) => Some(written.as_ref()),
        _ => None,
    };
    match written.map(|written| (written, version(written))) {
        Some((_, Some(wanted))) if Some(wanted) <= version(own) => Ok(()),
        Some((written, Some(_))) => {
            let message =
                format!("this workspace needs nubrik {written} or newer, and this is {own}");
            Err(problem(
                value.span(),
                message,
                Some("install a newer nubrik".to_owned()),
            ))
        }
        _ => {
            let message = "`at_least` is the smallest version of nubrik, as a text".to_owned();
            Err(problem(value.span(), message, Some(format!("\"{own}\""))))
        }
    }
}

/// The numbers of a version, of which the last ones may be missing.
fn version(text: &str) -> Option<[u64; 3]> {
    let mut numbers = [0; 3];
    let parts: Vec<&str> = text.split('.').collect();
    if parts.len() > numbers.len() {
        return None;
    }
    for (number, part) in numbers.iter_mut().zip(parts) {
        *number = part.parse().ok()?;
    }
    Some(numbers)
}

/// What is in a table, by its keys.
fn sorted<'a, 't>(table: &'a DeTable<'t>) -> Vec<(&'a Key<'t>, &'a Keyed<'t>)> {
    let mut entries: Vec<_> = table.iter().collect();
    entries.sort_by(|a, b| a.0.get_ref().cmp(b.0.get_ref()));
    entries
}

/// A kit in an archive.
fn kit(key: &Key<'_>, value: &Keyed<'_>) -> Result<KitArchive, SettingsProblem> {
    let name: &str = key.get_ref();
    let fine = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '-');
    if name.is_empty() || name == "nub" || !name.chars().all(fine) {
        let message = format!(
            "`{name}` cannot be the name of a kit: letters, digits, `_` and `-`, but not `nub`"
        );
        return Err(problem(key.span(), message, None));
    }
    let DeValue::Table(table) = value.get_ref() else {
        let mend =
            format!("[kits.{name}]\nurl = \"https://…/{name}-1.2.tar.gz\"\ndigest = \"sha256:…\"");
        let message = format!("the kit `{name}` has the `url` and the `digest` of an archive");
        return Err(problem(value.span(), message, Some(mend)));
    };
    let (mut urls, mut digest, mut strip, mut format) = (None, None, 0, None);
    for (key, value) in sorted(table) {
        let wrong = |message: &str, mend: &str| {
            let mend = Some(mend.to_owned());
            Err(problem(value.span(), message.to_owned(), mend))
        };
        match (&**key.get_ref(), value.get_ref()) {
            ("url", found) => match kit_urls(found) {
                Some(found) => urls = Some((found, value.span())),
                None => {
                    return wrong(
                        "`url` is one address or a list of them (http://, https://, file:///), or a path from this folder",
                        "\"https://…\"",
                    );
                }
            },
            ("digest", DeValue::String(text)) if is_digest(text) => {
                digest = Some(Arc::from(&**text))
            }
            ("digest", _) => {
                return wrong(
                    "`digest` is \"sha256:…\", \"sha512:…\", \"blake3:…\" or \"h1:…\" with all digits of the archive's digest",
                    "\"sha256:…\", as `sha256sum FILE` prints it",
                );
            }
            ("strip", found) => match number(found).and_then(|n| u32::try_from(n).ok()) {
                Some(count @ ..=100) => strip = count,
                _ => {
                    return wrong(
                        "`strip` is how many leading folders of each name are dropped",
                        "1",
                    );
                }
            },
            ("format", DeValue::String(text)) if ArchiveFormat::named(text).is_some() => {
                format = ArchiveFormat::named(text);
            }
            ("format", _) => {
                let names = ArchiveFormat::ALL.iter().map(|(name, _)| *name);
                let names = names.collect::<Vec<_>>().join(", ");
                return wrong(&format!("`format` is one of {names}"), "\"tar.gz\"");
            }
            (unknown, _) => return Err(unknown_kit_key(key, unknown)),
        }
    }
    whole_kit(key, (urls, digest, format), strip)
}

/// The problem of a key that a kit does not have.
fn unknown_kit_key(key: &Key<'_>, unknown: &str) -> SettingsProblem {
    let near = nearest(unknown, KIT_KEYS).map(str::to_owned);
    let known = KIT_KEYS.join(", ");
    let message = format!("a kit has no `{unknown}`; there is: {known}");
    problem(key.span(), message, near)
}

/// What is said of an archive: its addresses with their place, its digest, its format.
type SaidOfKit = (
    Option<(Vec<Arc<str>>, Range<usize>)>,
    Option<Arc<str>>,
    Option<ArchiveFormat>,
);

/// A kit of which all was said that is needed.
fn whole_kit(
    key: &Key<'_>,
    (urls, digest, format): SaidOfKit,
    strip: u32,
) -> Result<KitArchive, SettingsProblem> {
    let name: &str = key.get_ref();
    let lacks = |what: &str, mend: &str| {
        let message = format!("the kit `{name}` has no `{what}`");
        problem(key.span(), message, Some(format!("{what} = \"{mend}\"")))
    };
    let (urls, span) = urls.ok_or_else(|| lacks("url", "https://…"))?;
    let digest = digest.ok_or_else(|| lacks("digest", "sha256:…"))?;
    let Some(format) = format.or_else(|| ArchiveFormat::of_file(url_name(&urls[0]))) else {
        let message = format!("the name \"{}\" does not say a format", url_name(&urls[0]));
        return Err(problem(
            span,
            message,
            Some("format = \"tar.gz\"".to_owned()),
        ));
    };
    Ok(KitArchive {
        urls,
        digest,
        unpacking: Unpacking { format, strip },
    })
}

/// Addresses of an archive, at least one; or its path from the root, alone.
fn kit_urls(value: &DeValue<'_>) -> Option<Vec<Arc<str>>> {
    let far = |url: &str| {
        ["http://", "https://", "file:///"]
            .iter()
            .any(|start| url.starts_with(start))
    };
    match value {
        DeValue::String(url) if far(url) => Some(vec![Arc::from(&**url)]),
        DeValue::String(path) => {
            let is_inside =
                !path.contains("://") && WsPath::root().resolve(path).is_ok_and(|p| !p.is_root());
            is_inside.then(|| vec![Arc::from(&**path)])
        }
        DeValue::Array(items) if !items.is_empty() => {
            let url = |item: &Keyed<'_>| match item.get_ref() {
                DeValue::String(url) if far(url) => Some(Arc::from(&**url)),
                _ => None,
            };
            items.iter().map(url).collect()
        }
        _ => None,
    }
}

fn profile(
    key: &Key<'_>,
    value: &Keyed<'_>,
) -> Result<Vec<(String, SettingValue)>, SettingsProblem> {
    let name: &str = key.get_ref();
    let fine = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '-');
    if name.is_empty() || !name.chars().all(fine) {
        let message =
            format!("`{name}` cannot be the name of a profile: letters, digits, `_` and `-`");
        return Err(problem(key.span(), message, None));
    }
    if TAKEN_PROFILES.contains(&name) {
        let message = format!("`{name}` is the name of the results without a profile");
        return Err(problem(
            key.span(),
            message,
            Some("give the profile another name".to_owned()),
        ));
    }
    let DeValue::Table(options) = value.get_ref() else {
        let mend = "{ mode = \"release\" }".to_owned();
        return Err(problem(
            value.span(),
            format!("the profile `{name}` is a table of options"),
            Some(mend),
        ));
    };
    let mut set = Vec::new();
    let mut add = |name: String, value: &Keyed<'_>| match setting_value(value.get_ref()) {
        Some(found) => {
            set.push((name, found));
            Ok(())
        }
        None => {
            let message = format!(
                "the value of the option `{name}` is a text, a bool, a number or a list of these"
            );
            Err(problem(value.span(), message, None))
        }
    };
    for (option, value) in sorted(options) {
        // `flags.mode = …` is a table in a table: the longer name of an option.
        if let DeValue::Table(inner) = value.get_ref() {
            for (name, value) in sorted(inner) {
                add(format!("{}.{}", option.get_ref(), name.get_ref()), value)?;
            }
        } else {
            add(option.get_ref().to_string(), value)?;
        }
    }
    Ok(set)
}

fn number(value: &DeValue<'_>) -> Option<i64> {
    let DeValue::Integer(number) = value else {
        return None;
    };
    i64::from_str_radix(number.as_str(), number.radix()).ok()
}

fn setting_value(value: &DeValue<'_>) -> Option<SettingValue> {
    match value {
        DeValue::String(text) => Some(SettingValue::Word(text.to_string())),
        DeValue::Boolean(value) => Some(SettingValue::Bool(*value)),
        DeValue::Integer(_) => number(value).map(SettingValue::Int),
        DeValue::Array(items) => {
            let items = items.iter().map(|item| setting_value(item.get_ref()));
            Some(SettingValue::List(items.collect::<Option<Vec<_>>>()?))
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
        assert_eq!(problem.mend.as_deref(), Some("jobs"));
        assert_eq!(problem.range, Some(4..7));
        assert!(Settings::parse("jobs =").is_err());
        // The place is that of the value, whatever else speaks of the key.
        let commented = "# how many jobs, jobs = 0\njobs = 0\n[profiles]\nship = { jobs = \"ship\", ship = 1.5 }";
        assert_eq!(Settings::parse(commented).unwrap_err().range, Some(33..34));
        let profiled =
            Settings::parse(&commented.replace("jobs = 0\n[", "jobs = 1\n[")).unwrap_err();
        assert_eq!(&commented[profiled.range.unwrap()], "1.5");
        let settings =
            Settings::parse("[profiles]\nship = { mode = 'release', lto = true, c.level = 3 }")
                .unwrap();
        let ship = &settings.profiles["ship"];
        assert_eq!(ship[0], ("c.level".into(), SettingValue::Int(3)));
        assert_eq!(ship.len(), 3);
        let digest = format!("sha256:{}", "0a".repeat(32));
        let kit = |rest: &str| Settings::parse(&format!("[kits.harbour]\n{rest}"));
        let good = kit(&format!(
            "url = 'https://x/harbour-1.2.tgz'\ndigest = '{digest}'\nstrip = 1"
        ))
        .unwrap();
        assert_eq!(good.kits["harbour"].unpacking.format, ArchiveFormat::TarGz);
        for (wrong, said) in [
            (
                format!("digest = '{digest}'"),
                "the kit `harbour` has no `url`",
            ),
            (
                "url = 'kit.zip'".to_owned(),
                "the kit `harbour` has no `digest`",
            ),
            (
                format!("url = 'kit'\ndigest = '{digest}'"),
                "the name \"kit\" does not say a format",
            ),
            (
                format!("url = '../kit.zip'\ndigest = '{digest}'"),
                "`url` is one address or a list",
            ),
            (
                format!("url = 'ftp://x/kit.zip'\ndigest = '{digest}'"),
                "`url` is one address or a list",
            ),
            (
                "url = 'kit.zip'\ndigest = 'sha256:00'".to_owned(),
                "`digest` is ",
            ),
            (
                "url = 'kit.zip'\nstrop = 1".to_owned(),
                "a kit has no `strop`",
            ),
        ] {
            let problem = kit(&wrong).unwrap_err();
            assert!(problem.message.starts_with(said), "{}", problem.message);
        }
        assert!(Settings::parse("[kits]\nnub = {}").is_err());
        assert!(Settings::parse("[profiles]\ndefault = {}").is_err());
        assert!(Settings::parse("[profiles]\nship = 3").is_err());
        assert!(Settings::parse("[profiles]\nship = { mode = 1.5 }").is_err());
    }
}
