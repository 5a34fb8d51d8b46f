//! `[origins]`: where registries are.

use nubrik_diagnostic::nearest;
use nubrik_pins::{OriginSetting, OriginSettings, Registry};
use nubrik_source::WsPath;
use toml::de::{DeTable, DeValue};

use super::{Keyed, SettingsProblem, TOKEN_OR_USER, problem, secret, sorted};

/// What is said besides addresses of registries.
const OWN_KEYS: [&str; 2] = ["mirror", "certificates"];

/// What is said of an address.
const ADDRESS_KEYS: [&str; 4] = ["url", "secret", "name", "packages"];

/// Reads the table.
pub(super) fn origins(table: &DeTable<'_>) -> Result<OriginSettings, SettingsProblem> {
    let mut settings = OriginSettings::default();
    for (key, value) in sorted(table) {
        let name: &str = key.get_ref();
        match Registry::named(name) {
            Some(registry) if registry.description().names_files => {
                let DeValue::Table(sites) = value.get_ref() else {
                    let message =
                        "`archive` is a table of sites, each by the name of what is pinned from it"
                            .to_owned();
                    let mend = "[origins.archive]\nlua = \"https://…\"".to_owned();
                    return Err(problem(value.span(), message, Some(mend)));
                };
                let list = settings.registries.entry(registry).or_default();
                for (site, value) in sorted(sites) {
                    let found = addresses(site.get_ref(), value)?;
                    list.extend(found.into_iter().map(|one| OriginSetting {
                        site: Some(site.get_ref().to_string()),
                        ..one
                    }));
                }
            }
            Some(registry) => drop(
                settings
                    .registries
                    .insert(registry, addresses(name, value)?),
            ),
            None if name == "mirror" => settings.mirror = Some(path(name, value)?),
            None if name == "certificates" => settings.certificates = Some(path(name, value)?),
            None => {
                let names: Vec<&str> = Registry::ALL
                    .iter()
                    .map(|r| r.name())
                    .chain(OWN_KEYS)
                    .collect();
                let near = nearest(name, names.iter().copied()).map(str::to_owned);
                let known = format!("`origins` has no `{name}`; there is: {}", names.join(", "));
                return Err(problem(key.span(), known, near));
            }
        }
    }
    Ok(settings)
}

/// A path in the workspace.
pub(super) fn path(name: &str, value: &Keyed<'_>) -> Result<String, SettingsProblem> {
    match value.get_ref() {
        DeValue::String(path) if path.starts_with('/') => Ok(path.to_string()),
        DeValue::String(path)
            if !path.contains("://")
                && WsPath::root().resolve(path).is_ok_and(|p| !p.is_root()) =>
        {
            Ok(path.to_string())
        }
        _ => {
            let message = format!("`{name}` is a path from this folder");
            Err(problem(value.span(), message, Some(format!("\"{name}\""))))
        }
    }
}

/// One address or several: texts, or tables of an address and the variable with its secret.
fn addresses(name: &str, value: &Keyed<'_>) -> Result<Vec<OriginSetting>, SettingsProblem> {
    match value.get_ref() {
        DeValue::Array(items) if !items.is_empty() => {
            items.iter().map(|item| address(name, item)).collect()
        }
        _ => Ok(vec![address(name, value)?]),
    }
}

fn address(name: &str, value: &Keyed<'_>) -> Result<OriginSetting, SettingsProblem> {
    let wrong = |at: &Keyed<'_>| {
        let message = format!(
            "`{name}` is an address (http://, https://, file:///), a path from this folder, or a table with `url` and `secret`"
        );
        Err(problem(
            at.span(),
            message,
            Some("\"https://…\"".to_owned()),
        ))
    };
    let is_fine = |url: &str| {
        let known = [
            "http://",
            "https://",
            "file:///",
            "sparse+https://",
            "sparse+http://",
        ];
        known.iter().any(|start| url.starts_with(start))
            || (!url.contains("://") && !url.is_empty())
    };
    match value.get_ref() {
        DeValue::String(url) if is_fine(url) => Ok(OriginSetting {
            url: url.to_string(),
            ..OriginSetting::default()
        }),
        DeValue::Table(table) => {
            let (mut url, mut rest) = (None, OriginSetting::default());
            for (key, value) in sorted(table) {
                match (&**key.get_ref(), value.get_ref()) {
                    ("url", DeValue::String(text)) if is_fine(text) => url = Some(text.to_string()),
                    ("url", _) => return wrong(value),
                    ("secret", _) => rest.secret = Some(secret(TOKEN_OR_USER, value)?),
                    ("name", DeValue::String(text)) if is_origin_name(text) => {
                        rest.name = Some(text.to_string());
                    }
                    ("name", _) => {
                        let message =
                            "`name` is what pins call this origin: letters, digits, `-`, `_`, `.`";
                        let mend = Some("\"company\"".to_owned());
                        return Err(problem(value.span(), message.to_owned(), mend));
                    }
                    ("packages", _) => rest.packages = packages(value)?,
                    (unknown, _) => {
                        let near = nearest(unknown, ADDRESS_KEYS).map(str::to_owned);
                        let known = ADDRESS_KEYS.join(", ");
                        let message = format!("an address has no `{unknown}`; there is: {known}");
                        return Err(problem(key.span(), message, near));
                    }
                }
            }
            match url {
                Some(url) => Ok(OriginSetting { url, ..rest }),
                None => wrong(value),
            }
        }
        _ => wrong(value),
    }
}

fn is_origin_name(name: &str) -> bool {
    let is_fine = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
    (1..=64).contains(&name.len()) && name.chars().all(is_fine)
}

/// Patterns of names.
fn packages(value: &Keyed<'_>) -> Result<Vec<String>, SettingsProblem> {
    let pattern = |item: &Keyed<'_>| match item.get_ref() {
        DeValue::String(text) if !text.is_empty() => Some(text.to_string()),
        _ => None,
    };
    let patterns = match value.get_ref() {
        DeValue::Array(items) if !items.is_empty() => {
            items.iter().map(pattern).collect::<Option<_>>()
        }
        _ => None,
    };
    patterns.ok_or_else(|| {
        let message =
            "`packages` lists patterns of names for which this origin alone is asked, and it for nothing else";
        problem(value.span(), message.to_owned(), Some("[\"tide*\"]".to_owned()))
    })
}

#[cfg(test)]
mod tests {
    use super::super::Settings;
    use super::*;

    #[test]
    fn addresses_are_texts_lists_and_tables() {
        let read = |text: &str| Settings::parse(&format!("[origins]\n{text}")).map(|s| s.origins);
        let good =
            read("mirror = 'vendor'\npython = ['https://a/simple', { url = 'https://b', secret = 'SALT' }]")
                .unwrap();
        assert_eq!(good.mirror.as_deref(), Some("vendor"));
        let python = &good.registries[&Registry::Python];
        assert_eq!(
            python[0],
            OriginSetting {
                url: "https://a/simple".to_owned(),
                ..OriginSetting::default()
            }
        );
        let own = read(
            "python = [{ url = 'https://a', name = 'own', packages = ['tide*'] }, 'https://b']",
        );
        let own = &own.unwrap().registries[&Registry::Python][0];
        assert_eq!(
            (own.name.as_deref(), &*own.packages),
            (Some("own"), &["tide*".to_owned()][..])
        );
        assert_eq!(python[1].secret.as_deref(), Some("SALT"));
        for (wrong, said) in [
            (
                "pyton = 'https://a'",
                "`origins` has no `pyton`; there is: python, java, js, rust, go, images, archive, mirror",
            ),
            ("python = 3", "`python` is an address"),
            ("python = 'ftp://a'", "`python` is an address"),
            ("python = { secret = 'X' }", "`python` is an address"),
            (
                "python = { url = 'https://a', token = 'x' }",
                "an address has no `token`",
            ),
            (
                "python = { url = 'https://a', secret = 3 }",
                "`secret` is the name of the variable",
            ),
            (
                "python = { url = 'https://a', name = 'a/b' }",
                "`name` is what pins call",
            ),
            (
                "python = { url = 'https://a', packages = 'tide*' }",
                "`packages` lists patterns",
            ),
            (
                "python = { url = 'https://a', packages = [''] }",
                "`packages` lists patterns",
            ),
            ("archive = 'https://x'", "`archive` is a table of sites"),
            ("mirror = '../x'", "`mirror` is a path from this folder"),
        ] {
            let problem = read(wrong).unwrap_err();
            assert!(problem.message.starts_with(said), "{}", problem.message);
        }
        assert!(
            Settings::parse("origins = 3")
                .unwrap_err()
                .message
                .starts_with("`origins` is a table")
        );
    }
}
