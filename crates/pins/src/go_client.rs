//! What the ordinary client of Go's modules reads: which proxies are asked, and for what none is.

use std::path::PathBuf;

use globset::{GlobBuilder, GlobMatcher};

use crate::PinProblem;
use crate::client_files::{home, origin, shown};
use crate::origin::{ClientSettings, Origin};

/// Modules that no proxy is asked for: their names are nobody's business.
#[derive(Clone, Debug, Default)]
pub(crate) struct PrivateModules(Vec<(String, GlobMatcher)>);

impl PrivateModules {
    /// The pattern that means a module: one fits the first parts of its path, as many as it has
    /// itself.
    pub(crate) fn pattern(&self, module: &str) -> Option<&str> {
        let fits = |pattern: &str, glob: &GlobMatcher| {
            let count = pattern.matches('/').count() + 1;
            let parts: Vec<&str> = module.split('/').take(count).collect();
            parts.len() == count && glob.is_match(parts.join("/"))
        };
        self.0
            .iter()
            .find(|(pattern, glob)| fits(pattern, glob))
            .map(|(pattern, _)| pattern.as_str())
    }
}

impl PartialEq for PrivateModules {
    fn eq(&self, other: &PrivateModules) -> bool {
        self.0
            .iter()
            .map(|(pattern, _)| pattern)
            .eq(other.0.iter().map(|(pattern, _)| pattern))
    }
}

impl Eq for PrivateModules {}

/// The value of a setting, and what says so: a variable, the person's file, or the one that comes
/// with Go.
fn setting(name: &str, around: &dyn ClientSettings) -> Option<(String, String)> {
    if let Some(value) = around.variable(name) {
        return Some((value, name.to_owned()));
    }
    let config = around
        .variable("XDG_CONFIG_HOME")
        .map_or_else(|| home(around).join(".config"), PathBuf::from);
    let own = around
        .variable("GOENV")
        .map_or_else(|| config.join("go/env"), PathBuf::from);
    let installed = match around.variable("GOROOT") {
        Some(root) => Some(PathBuf::from(root)),
        // Its program lies in `bin` of the folder where it is installed.
        None => around
            .program("go")
            .and_then(|path| Some(path.parent()?.parent()?.to_owned())),
    };
    let files = [Some(own), installed.map(|root| root.join("go.env"))];
    files.into_iter().flatten().find_map(|path| {
        let text = around.text(&path)?;
        let value = text
            .lines()
            .rev()
            .find_map(|line| line.trim().strip_prefix(name)?.strip_prefix('='))?;
        Some((value.trim().to_owned(), shown(&path, around)))
    })
}

/// The proxies that are asked, in their order. `direct` is version control, which is not read.
pub(crate) fn proxies(around: &dyn ClientSettings) -> Result<Vec<Origin>, PinProblem> {
    let Some((list, said_by)) = setting("GOPROXY", around) else {
        return Ok(Vec::new());
    };
    proxy_names(&list)
        .map(|name| origin(name, &said_by, around))
        .collect()
}

/// The proxies in a list of them, up to a word that says that none is asked any more.
pub(crate) fn proxy_names(list: &str) -> impl Iterator<Item = &str> {
    let names = list
        .split([',', '|'])
        .map(str::trim)
        .filter(|name| !matches!(*name, "" | "direct"));
    names.take_while(|name| *name != "off")
}

/// Which modules no proxy is asked for.
pub(crate) fn private_modules(around: &dyn ClientSettings) -> PrivateModules {
    let list = setting("GONOPROXY", around).or_else(|| setting("GOPRIVATE", around));
    let list = list
        .map(|(list, _)| list)
        .filter(|list| list != "none")
        .unwrap_or_default();
    let patterns = list
        .split(',')
        .map(|pattern| pattern.trim().trim_end_matches('/'))
        .filter(|p| !p.is_empty());
    // What is no pattern fits nothing for the ordinary client, either.
    let glob = |pattern: &str| {
        let glob = GlobBuilder::new(pattern)
            .literal_separator(true)
            .build()
            .ok()?;
        Some((pattern.to_owned(), glob.compile_matcher()))
    };
    PrivateModules(patterns.filter_map(glob).collect())
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use std::collections::BTreeMap;

    use super::*;
    use crate::clients::tests::FakeMachine;

    fn asked(around: &[(&'static str, &'static str)]) -> Vec<(String, String)> {
        let mut all = BTreeMap::from([("HOME", "/home/ann")]);
        all.extend(around.iter().copied());
        let found = proxies(&FakeMachine(all)).unwrap();
        found
            .into_iter()
            .map(|origin| (origin.address.to_string(), origin.said_by))
            .collect()
    }

    fn told(address: &str, said_by: &str) -> (String, String) {
        (address.to_owned(), said_by.to_owned())
    }

    #[test]
    fn proxies_come_from_where_go_looks() {
        let installed = (
            "/opt/go/go.env",
            "# Go's own\nGOPROXY=https://a.example,direct\n",
        );
        assert_eq!(
            asked(&[installed]),
            [told("https://a.example/", "/opt/go/go.env")]
        );
        let own = (
            "/home/ann/.config/go/env",
            "GOPROXY=https://b.example|https://c.example,off,https://d.example\n",
        );
        let both = [
            told("https://b.example/", "~/.config/go/env"),
            told("https://c.example/", "~/.config/go/env"),
        ];
        assert_eq!(asked(&[installed, own]), both);
        assert_eq!(
            asked(&[own, ("GOPROXY", "file:///srv/go")]),
            [told("file:///srv/go", "GOPROXY")]
        );
        assert!(asked(&[installed, ("GOPROXY", "direct")]).is_empty() && asked(&[]).is_empty());
    }

    #[test]
    fn private_modules_are_asked_of_nobody() {
        let kept = |list: &'static str, module: &str| {
            let found = private_modules(&FakeMachine(
                [("HOME", "/home/ann"), ("GOPRIVATE", list)].into(),
            ));
            found.pattern(module).map(str::to_owned)
        };
        assert_eq!(
            kept("*.isles.example,github.com/x", "git.isles.example/tides").as_deref(),
            Some("*.isles.example")
        );
        assert_eq!(
            kept("*.isles.example,github.com/x", "github.com/x/y/z").as_deref(),
            Some("github.com/x")
        );
        assert_eq!(
            kept("github.com/x*", "github.com/xyz/a").as_deref(),
            Some("github.com/x*")
        );
        assert_eq!(kept("github.com/x", "github.com/xyz"), None);
        assert_eq!(kept("none", "none"), None);
        let around = FakeMachine(
            [
                ("GOPRIVATE", "a.example"),
                ("GONOPROXY", "none"),
                ("HOME", "/h"),
            ]
            .into(),
        );
        assert_eq!(private_modules(&around).pattern("a.example"), None);
    }
}
