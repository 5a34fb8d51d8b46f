//! Where the clients of registries go by themselves, as they are installed: each is asked, so that
//! no address is built in.

use crate::client_files::origin;
use crate::origin::{ClientQuestion, ClientSettings, Origin};
use crate::{PinProblem, Registry};

/// How a client is asked for its own address.
pub(crate) struct ClientDefault {
    /// Questions; the first one that is answered counts.
    pub questions: &'static [ClientQuestion],
    /// The addresses in an answer.
    pub read: fn(&str) -> Vec<String>,
}

/// A question that is words alone.
const fn words(program: &'static str, words: &'static [&'static str]) -> ClientQuestion {
    ClientQuestion {
        program,
        words,
        files: &[],
        variables: &[],
    }
}

pub(crate) const PYTHON: ClientDefault = ClientDefault {
    questions: &[
        words("python3", &["-m", "pip", "install", "--help"]),
        words("pip3", &["install", "--help"]),
        words("pip", &["install", "--help"]),
    ],
    read: |text| default_of_option(text, "--index-url").into_iter().collect(),
};

pub(crate) const JS: ClientDefault = ClientDefault {
    questions: &[words("npm", &["config", "get", "registry"])],
    read: |text| addresses(text).take(1).map(str::to_owned).collect(),
};

pub(crate) const GO: ClientDefault = ClientDefault {
    questions: &[ClientQuestion {
        program: "go",
        words: &["env", "GOPROXY"],
        files: &[],
        // It must fetch no other release of itself.
        variables: &[("GOTOOLCHAIN", "local"), ("GOFLAGS", "")],
    }],
    read: |text| {
        text.lines()
            .next()
            .into_iter()
            .flat_map(crate::go_client::proxy_names)
            .map(str::to_owned)
            .collect()
    },
};

/// The client of Rust has no word for it, but names the address at which it fails: its only way out
/// is a place where nobody listens.
pub(crate) const RUST: ClientDefault = ClientDefault {
    questions: &[ClientQuestion {
        program: "cargo",
        words: &["fetch", "--manifest-path", "{folder}/Cargo.toml"],
        files: &[
            (
                "Cargo.toml",
                "[package]\nname = \"asks\"\nversion = \"0.1.0\"\nedition = \"2021\"\n\n[dependencies]\nasked = \"1\"\n\n[workspace]\n",
            ),
            ("src/lib.rs", ""),
        ],
        variables: &[
            ("CARGO_HOME", "{folder}/home"),
            ("CARGO_HTTP_PROXY", "http://127.0.0.1:9"),
            ("CARGO_NET_RETRY", "0"),
            ("CARGO_NET_OFFLINE", "false"),
            ("CARGO_REGISTRIES_CRATES_IO_PROTOCOL", "sparse"),
            ("RUSTUP_AUTO_INSTALL", "0"),
        ],
    }],
    read: |text| {
        addresses(text)
            .filter_map(|address| Some(address.strip_suffix("config.json")?.to_owned()))
            .take(1)
            .collect()
    },
};

/// Where the client of a registry goes by itself; nothing where it is not installed, or does not
/// say.
///
/// # Errors
/// When it gives what is no address.
pub(crate) fn of(
    registry: Registry,
    around: &dyn ClientSettings,
) -> Result<Vec<Origin>, PinProblem> {
    let Some(client) = &registry.description().client else {
        return Ok(Vec::new());
    };
    if around.asks_no_client().is_some() {
        return Ok(Vec::new());
    }
    let answered = client.questions.iter().find_map(|question| {
        let found = (client.read)(&around.answer(question)?);
        (!found.is_empty()).then_some((found, question))
    });
    let Some((found, question)) = answered else {
        return Ok(Vec::new());
    };
    let said_by = format!("`{}`", question.command());
    found
        .iter()
        .map(|address| origin(address, &said_by, around))
        .collect()
}

/// Says of a problem which clients were asked in vain, or why none was.
pub(crate) fn asked_in_vain(
    registry: Registry,
    around: &dyn ClientSettings,
    problem: PinProblem,
) -> PinProblem {
    let Some(client) = &registry.description().client else {
        return problem;
    };
    if let Some(variable) = around.asks_no_client() {
        return problem.note(format!("{variable}=off: no client was asked"));
    }
    let commands: Vec<String> = client
        .questions
        .iter()
        .map(|question| format!("`{}`", question.command()))
        .collect();
    problem.note(format!(
        "asked {}: no address came back",
        commands.join(", ")
    ))
}

/// All addresses of the web in a text.
fn addresses(text: &str) -> impl Iterator<Item = &str> {
    let is_between = |c: char| {
        c.is_whitespace() || matches!(c, '`' | '\'' | '"' | '<' | '>' | '(' | ')' | ',' | ';')
    };
    text.split(is_between).filter(|word| {
        ["https://", "http://", "file://"]
            .iter()
            .any(|scheme| word.starts_with(scheme))
    })
}

/// The address that is an option's default, as help texts give it: `(default ADDRESS)` in the words
/// about that option.
fn default_of_option(help: &str, option: &str) -> Option<String> {
    let about = &help[help.find(&format!("{option} "))?..];
    let words: Vec<&str> = about.split_whitespace().collect();
    let at = words.iter().position(|word| *word == "(default")?;
    // The words about the next option begin with its name.
    let is_of_another = words[1..at].iter().any(|word| word.starts_with("--"));
    let address = words.get(at + 1)?.trim_end_matches([')', '.']);
    (!is_of_another)
        .then(|| addresses(address).next().map(str::to_owned))
        .flatten()
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use std::collections::BTreeMap;
    use std::sync::Arc;

    use super::*;
    use crate::clients::tests::FakeMachine;
    use crate::origins::{OriginSettings, Origins};

    fn found(
        registry: Registry,
        pairs: &[(&'static str, &'static str)],
    ) -> Result<Vec<(String, String)>, String> {
        let around = FakeMachine(
            pairs
                .iter()
                .copied()
                .chain([("HOME", "/home/ann")])
                .collect::<BTreeMap<_, _>>(),
        );
        let origins = Origins::find(&OriginSettings::default(), Arc::new(around));
        let found = origins.of(registry).map_err(|problem| problem.message)?;
        Ok(found
            .into_iter()
            .map(|origin| (origin.address.to_string(), origin.said_by))
            .collect())
    }

    fn of(address: &str, said_by: &str) -> Result<Vec<(String, String)>, String> {
        Ok(vec![(address.to_owned(), said_by.to_owned())])
    }

    #[test]
    fn a_client_that_nothing_sends_elsewhere_says_where_it_goes() {
        let help = "  -i, --index-url <url>       Base URL of the index (default\n          https://a.example/simple). This\n  --no-index   None.\n";
        assert_eq!(
            found(Registry::Python, &[("python3 -m pip install --help", help)]),
            of(
                "https://a.example/simple",
                "`python3 -m pip install --help`"
            )
        );
        assert_eq!(
            found(Registry::Python, &[("pip install --help", help)]),
            of("https://a.example/simple", "`pip install --help`")
        );
        assert_eq!(
            found(
                Registry::Js,
                &[("npm config get registry", "warn: old\nhttps://b.example/\n")]
            ),
            of("https://b.example/", "`npm config get registry`")
        );
        assert_eq!(
            found(
                Registry::Go,
                &[("go env GOPROXY", "https://c.example,direct\n")]
            ),
            of("https://c.example/", "`go env GOPROXY`")
        );
        let said = "error: failed to get `asked`\n  failed to download from `https://d.example/index/config.json`\n  [7] Failed";
        assert_eq!(
            found(Registry::Rust, &[("cargo fetch", said)]),
            of("https://d.example/index/", "`cargo fetch`")
        );
    }

    #[test]
    fn settings_win_and_a_client_that_goes_nowhere_is_believed() {
        let asked = ("npm config get registry", "https://b.example/");
        let said = found(
            Registry::Js,
            &[asked, ("NPM_CONFIG_REGISTRY", "https://own.example/")],
        )
        .unwrap();
        assert_eq!(said[0].0, "https://own.example/");
        let nowhere = Err("no address of the registry `go` is known".to_owned());
        assert_eq!(found(Registry::Go, &[("go env GOPROXY", "off\n")]), nowhere);
        assert_eq!(
            found(Registry::Go, &[("go env GOPROXY", "direct\n")]),
            nowhere
        );
        let help = (
            "pip install --help",
            "--index-url <url> Base (default https://a.example/simple).",
        );
        let problem = found(Registry::Python, &[help, ("PIP_NO_INDEX", "1")]).unwrap_err();
        assert_eq!(problem, "PIP_NO_INDEX lets pip ask no index");
        let conf = (
            "/home/ann/.config/pip/pip.conf",
            "[install]\nno-index = yes\n",
        );
        let problem = found(Registry::Python, &[help, conf]).unwrap_err();
        assert_eq!(problem, "~/.config/pip/pip.conf lets pip ask no index");
        let vendored = (
            "/home/ann/.cargo/config.toml",
            "[source.crates-io]\nreplace-with = \"vendored\"\n[source.vendored]\ndirectory = \"v\"",
        );
        let cargo = ("cargo fetch", "`https://d.example/config.json`");
        let problem = found(Registry::Rust, &[vendored, cargo]).unwrap_err();
        assert_eq!(
            problem,
            "the source `vendored` in ~/.cargo/config.toml is no sparse index"
        );
    }

    #[test]
    fn answers_that_name_no_address_are_none() {
        for text in [
            "",
            "undefined\n",
            "--index-url <url>  Base URL.\n --other (default https://a.example)",
            "(default https://a.example)",
        ] {
            assert!(default_of_option(text, "--index-url").is_none(), "{text}");
        }
        assert_eq!(
            found(Registry::Js, &[("npm config get registry", "undefined\n")]).unwrap_err(),
            "no address of the registry `js` is known"
        );
        assert!(
            found(
                Registry::Rust,
                &[("cargo fetch", "see https://d.example/help")]
            )
            .is_err()
        );
    }
}
