//! Each setting that `nubrik.toml` cannot have is refused: with the place, what is wrong, and how
//! it is mended.

use nubrik_workspace::{SETTINGS, Settings};

const ROOT_KEY: &str = "root_key = \"ed25519:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA\"";

/// Checks what is said of a text: the beginning of the message, the words at the place, and the
/// mend.
#[track_caller]
fn refused(text: &str, said: &str, at: &str, mend: Option<&str>) {
    let problem = Settings::parse(text).expect_err(text);
    assert!(
        problem.message.starts_with(said),
        "{text}: {}",
        problem.message
    );
    assert_eq!(problem.range.map(|range| &text[range]), Some(at), "{text}");
    assert_eq!(problem.mend.as_deref(), mend, "{text}");
}

#[test]
fn every_setting_is_refused_a_value_of_another_kind() {
    for setting in &SETTINGS {
        // No setting is a date.
        let text = format!("{} = 1979-05-27", setting.name);
        let problem = Settings::parse(&text).expect_err(&text);
        assert!(
            problem
                .message
                .starts_with(&format!("`{}` is ", setting.name)),
            "{}",
            problem.message
        );
        assert_eq!(
            problem.range.map(|range| &text[range]),
            Some("1979-05-27"),
            "{text}"
        );
        assert!(problem.mend.is_some(), "{text}");
        // Its example is one that can be read.
        Settings::parse(setting.example).unwrap_or_else(|problem| panic!("{problem:?}"));
    }
}

#[test]
fn numbers_have_bounds() {
    for (text, at) in [
        ("jobs = 0", "0"),
        ("jobs = 4097", "4097"),
        ("jobs = -1", "-1"),
        ("jobs = 1.5", "1.5"),
    ] {
        refused(text, "`jobs` is a number from 1 to 4096", at, Some("4"));
    }
    for (text, at) in [("test_timeout = 0", "0"), ("test_timeout = 86401", "86401")] {
        refused(
            text,
            "`test_timeout` is a number of seconds, a day at most",
            at,
            Some("600"),
        );
    }
    assert_eq!(
        Settings::parse("jobs = 4096\ntest_timeout = 86400")
            .unwrap()
            .test_timeout,
        Some(86_400)
    );
}

#[test]
fn versions_are_compared_before_anything_else() {
    let own = env!("CARGO_PKG_VERSION");
    let newer = "this workspace needs nubrik 99.0 or newer, and this is";
    // What a newer program knows is not what is wrong.
    refused(
        "unknown = 1\nat_least = \"99.0\"",
        newer,
        "\"99.0\"",
        Some("install a newer nubrik"),
    );
    for wrong in [
        "\"1.2.3.4\"",
        "\"one\"",
        "\"\"",
        "\"1.-2\"",
        "1",
        "[\"0.1\"]",
    ] {
        let mend = format!("\"{own}\"");
        refused(
            &format!("at_least = {wrong}"),
            "`at_least` is the smallest version",
            wrong,
            Some(&mend),
        );
    }
    for fine in [own, "0", "0.1"] {
        Settings::parse(&format!("at_least = \"{fine}\"")).unwrap();
    }
}

#[test]
fn a_shared_cache_has_a_place_a_key_and_names() {
    const SERVER: Option<&str> = Some("endpoint = \"https://storage.example\"");
    const CHANNELS: Option<&str> = Some("channels = [\"main\"]");
    const WAIT: &str = "`wait` is a number of seconds";
    const VERIFY: &str = "`verify` is a number from 0 to 1";
    const AT: Option<&str> = Some("at = \"https://store.example/nubrik\"");
    const BEHIND: Option<&str> = Some(
        "behind = \"https://store.example/nubrik\"   or   behind = { at = \"https://store.example/nubrik\", secret = \"VARIABLE\" }",
    );
    let shared =
        |rest: &str| format!("[shared]\nat = \"https://store.example/n\"\n{ROOT_KEY}\n{rest}");
    for (rest, said, at, mend) in [
        ("channels = []", "`channels` is a list", "[]", CHANNELS),
        (
            "channels = \"main\"",
            "`channels` is a list",
            "\"main\"",
            CHANNELS,
        ),
        (
            "channels = [\"a\", \"../b\"]",
            "a channel is a name",
            "\"../b\"",
            Some("\"main\""),
        ),
        (
            "channels = [\"a b\"]",
            "a channel is a name",
            "\"a b\"",
            Some("\"main\""),
        ),
        (
            "endpoint = \"ftp://x\"",
            "`endpoint` is the address",
            "\"ftp://x\"",
            SERVER,
        ),
        (
            "endpoint = \"https://ann@x\"",
            "`endpoint` is the address",
            "\"https://ann@x\"",
            SERVER,
        ),
        (
            "region = 1",
            "`region` is a name",
            "1",
            Some("region = \"us-east-1\""),
        ),
        ("wait = -1", WAIT, "-1", Some("wait = 30")),
        ("wait = 86400.5", WAIT, "86400.5", Some("wait = 30")),
        ("wait = nan", WAIT, "nan", Some("wait = 30")),
        ("verify = 1.01", VERIFY, "1.01", Some("verify = 0.02")),
        ("verify = -0.1", VERIFY, "-0.1", Some("verify = 0.02")),
        ("verify = inf", VERIFY, "inf", Some("verify = 0.02")),
        ("verify = true", VERIFY, "true", Some("verify = 0.02")),
        (
            "certificates = \"https://x/a.pem\"",
            "`certificates` is a path",
            "\"https://x/a.pem\"",
            Some("\"certificates\""),
        ),
        (
            "lines = [\"main\"]",
            "`shared` has no `lines`",
            "lines",
            Some("channels"),
        ),
        (
            "root = \"x\"",
            "`shared` has no `root`",
            "root",
            Some("root_key"),
        ),
        (
            "chanels = [\"main\"]",
            "`shared` has no `chanels`",
            "chanels",
            Some("channels"),
        ),
        ("behind = 1", "`behind` is the place", "1", BEHIND),
        (
            "behind = \"store\"",
            "`behind` is the place",
            "\"store\"",
            BEHIND,
        ),
        (
            "behind = { at = \"store\" }",
            "`at` is an address",
            "\"store\"",
            AT,
        ),
        (
            "behind = { secret = \"TOKEN\" }",
            "`shared` does not say where",
            "{ secret = \"TOKEN\" }",
            Some("at = \"https://…\""),
        ),
        (
            "behind = { at = \"s3://tides\" }",
            "`shared` does not say on which",
            "{ at = \"s3://tides\" }",
            SERVER,
        ),
        (
            "behind = { att = \"/s\" }",
            "`behind` has no `att`",
            "att",
            Some("at"),
        ),
        (
            "behind = \"https://store.example/n\"",
            "`behind` is the same place",
            "\"https://store.example/n\"",
            Some("at = \"https://mirror.example/nubrik\""),
        ),
    ] {
        refused(&shared(rest), said, at, mend);
    }
    let behind = "behind = { at = \"s3://tides\", endpoint = \"https://s\", region = \"north\" }\nsecret = \"TOKEN\"";
    let settings = Settings::parse(&shared(behind)).unwrap().shared.unwrap();
    let mirror = settings.mirror.unwrap();
    assert_eq!(
        (
            &*settings.place.at,
            settings.place.region(),
            settings.place.secret.as_deref()
        ),
        ("s3://tides", "north", None)
    );
    assert_eq!(
        (&*mirror.at, mirror.secret.as_deref()),
        ("https://store.example/n", Some("TOKEN"))
    );
    let settings = Settings::parse(&shared(
        "wait = 1.5\nverify = 0.25\nchannels = [\"main\", \"try/ann\"]",
    ));
    let settings = settings.unwrap().shared.unwrap();
    assert_eq!(
        (settings.wait.unwrap().as_millis(), settings.verify),
        (1_500, 250_000)
    );
    assert_eq!(settings.channels, ["main", "try/ann"]);
}

#[test]
fn a_place_of_a_shared_cache_is_an_absolute_one() {
    for wrong in [
        "store",
        "../store",
        "ftp://x",
        "file://store",
        "https:/x",
        "/srv/http://x",
        "",
        "C:/store",
    ] {
        let text = format!("[shared]\nat = \"{wrong}\"\n{ROOT_KEY}");
        let mend = Some("at = \"https://store.example/nubrik\"");
        refused(&text, "`at` is an address", &format!("\"{wrong}\""), mend);
    }
    for fine in ["https://x/y", "http://x", "file:///srv/store", "/srv/store"] {
        let settings = Settings::parse(&format!("[shared]\nat = \"{fine}\"\n{ROOT_KEY}")).unwrap();
        assert_eq!(settings.shared.unwrap().place.at, fine);
    }
    // Without any of them nothing is asked anywhere.
    for (text, said) in [
        (
            format!("[shared]\n{ROOT_KEY}"),
            "`shared` does not say where",
        ),
        (
            format!("[shared]\nat = \"s3://tides/n\"\n{ROOT_KEY}"),
            "`shared` does not say on which server",
        ),
        (
            "[shared]\nat = \"https://x\"".to_owned(),
            "`shared` lacks the root key",
        ),
    ] {
        let problem = Settings::parse(&text).unwrap_err();
        assert!(problem.message.starts_with(said), "{}", problem.message);
        assert!(problem.mend.is_some() && problem.range.is_some());
    }
    for wrong in [
        "ed25519:",
        "ed25519:AAAA",
        "AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA",
        "rsa:AAAA",
    ] {
        let text = format!("[shared]\nat = \"https://x\"\nroot_key = \"{wrong}\"");
        let mend = "root_key = \"ed25519:…\", as `nubrik shared create` prints it";
        refused(
            &text,
            "`root_key` is a public key",
            &format!("\"{wrong}\""),
            Some(mend),
        );
    }
}

#[test]
fn a_secret_is_named_and_never_written_down() {
    let token = "a token, or a user and a password";
    for (table, holds) in [
        (
            format!("[shared]\nat = \"https://x\"\n{ROOT_KEY}\nsecret = "),
            token,
        ),
        (
            "[workers]\nat = \"nats://x:4222\"\nsecret = ".to_owned(),
            "a user and a password",
        ),
        (
            "[origins]\npython.url = \"https://x\"\npython.secret = ".to_owned(),
            token,
        ),
    ] {
        for wrong in [
            "\"ann:low-water\"",
            "\"low-water\"",
            "\"\"",
            "\"4low\"",
            "\"$LOW\"",
            "[\"LOW\"]",
            "7",
        ] {
            let problem = Settings::parse(&format!("{table}{wrong}")).unwrap_err();
            let said = format!("`secret` is the name of the variable that holds {holds}");
            assert!(problem.message.starts_with(&said), "{}", problem.message);
            // It may be the secret itself.
            assert_eq!(problem.range, None, "the line is not shown");
            assert!(
                !format!("{problem:?}").to_lowercase().contains("low"),
                "{problem:?}"
            );
        }
        Settings::parse(&format!("{table}\"STORE_TOKEN_2\"")).unwrap();
    }
}

#[test]
fn workers_are_asked_at_a_server_with_a_pool() {
    const SERVER: &str = "`at` is the address of a NATS server";
    const AT: Option<&str> = Some("at = \"nats://jobs.example:4222\"");
    for (rest, said, at, mend) in [
        ("at = \"https://x\"", SERVER, "\"https://x\"", AT),
        ("at = \"nats://\"", SERVER, "\"nats://\"", AT),
        (
            "at = \"nats://x\"\npool = \"a.b\"",
            "`pool` is a name",
            "\"a.b\"",
            Some("pool = \"linux\""),
        ),
        (
            "at = \"nats://x\"\npool = \"\"",
            "`pool` is a name",
            "\"\"",
            Some("pool = \"linux\""),
        ),
        (
            "at = \"nats://x\"\npol = \"a\"",
            "`workers` has no `pol`",
            "pol",
            Some("pool"),
        ),
    ] {
        refused(&format!("[workers]\n{rest}"), said, at, mend);
    }
    let problem = Settings::parse("[workers]\npool = \"linux\"").unwrap_err();
    assert_eq!(
        problem.message,
        "`workers` does not say where the server is"
    );
}

#[test]
fn roots_are_addresses_of_images() {
    let of_one = Some("root = \"/images/base\"");
    let of_packages = Some("roots = { \"firmware\" = \"/images/cross\" }");
    for (rest, said, at, mend) in [
        (
            "root = \"images/base\"",
            "`root` is the address of an image",
            "\"images/base\"",
            of_one,
        ),
        (
            "root = \"/\"",
            "`root` is the address of an image",
            "\"/\"",
            of_one,
        ),
        ("root = 1", "`root` is the address of an image", "1", of_one),
        (
            "roots = \"/images/base\"",
            "`roots` is a table",
            "\"/images/base\"",
            of_packages,
        ),
        (
            "roots = { \"a/../../b\" = \"/i\" }",
            "\"a/../../b\" is no package",
            "\"a/../../b\"",
            of_packages,
        ),
        (
            "roots = { a = \"i\" }",
            "`a` is the address of an image",
            "\"i\"",
            of_packages,
        ),
        (
            "roots = { a = \"/i\", \"/a\" = \"/j\" }",
            "the image of a is said twice",
            "a",
            None,
        ),
        ("rots = {}", "`steps` has no `rots`", "rots", Some("roots")),
    ] {
        refused(&format!("[steps]\n{rest}"), said, at, mend);
    }
    let settings =
        Settings::parse("[steps]\nroot = \"/images/base\"\nroots = { a = \"none\" }").unwrap();
    let roots = settings.steps.roots;
    assert_eq!(roots.usual.as_deref(), Some("/images/base"));
    assert_eq!(roots.of_packages.values().next(), Some(&None));
}

#[test]
fn a_watcher_is_kept_or_not() {
    refused(
        "[watching]\nkeep = 1",
        "`keep` is true or false",
        "1",
        Some("keep = true"),
    );
    refused(
        "[watching]\nkep = true",
        "`watching` has no `kep`",
        "kep",
        Some("keep"),
    );
}

#[test]
fn origins_are_addresses_of_registries() {
    const FINE: &str =
        "`python` is an address (http://, https://, file:///), a path from this folder";
    const URL: Option<&str> = Some("\"https://…\"");
    const PACKAGES: &str = "`packages` lists patterns";
    let archive = Some("[origins.archive]\nlua = \"https://…\"");
    let named = "python = { url = \"https://x\", name = \"a b\" }";
    for (rest, said, at, mend) in [
        ("python = \"ftp://x\"", FINE, "\"ftp://x\"", URL),
        ("python = \"\"", FINE, "\"\"", URL),
        ("python = []", FINE, "[]", URL),
        ("python = [\"https://x\", 1]", FINE, "1", URL),
        (
            "python = { name = \"own\" }",
            FINE,
            "{ name = \"own\" }",
            URL,
        ),
        ("python = { url = 3 }", FINE, "3", URL),
        (
            named,
            "`name` is what pins call",
            "\"a b\"",
            Some("\"company\""),
        ),
        (
            "python = { url = \"https://x\", packages = [] }",
            PACKAGES,
            "[]",
            Some("[\"tide*\"]"),
        ),
        (
            "python = { url = \"https://x\", packages = [\"\"] }",
            PACKAGES,
            "[\"\"]",
            Some("[\"tide*\"]"),
        ),
        (
            "python = { url = \"https://x\", nam = 1 }",
            "an address has no `nam`",
            "nam",
            Some("name"),
        ),
        (
            "pyton = \"https://x\"",
            "`origins` has no `pyton`",
            "pyton",
            Some("python"),
        ),
        (
            "archive = \"https://x\"",
            "`archive` is a table of sites",
            "\"https://x\"",
            archive,
        ),
        (
            "mirror = \"../vendored\"",
            "`mirror` is a path",
            "\"../vendored\"",
            Some("\"mirror\""),
        ),
        (
            "mirror = \".\"",
            "`mirror` is a path",
            "\".\"",
            Some("\"mirror\""),
        ),
        (
            "certificates = 1",
            "`certificates` is a path",
            "1",
            Some("\"certificates\""),
        ),
    ] {
        refused(&format!("[origins]\n{rest}"), said, at, mend);
    }
}

#[test]
fn profiles_are_named_tables_of_options() {
    let another = Some("give the profile another name");
    for (rest, said, at, mend) in [
        (
            "\"a b\" = {}",
            "`a b` cannot be the name of a profile",
            "\"a b\"",
            None,
        ),
        (
            "\"\" = {}",
            "`` cannot be the name of a profile",
            "\"\"",
            None,
        ),
        (
            "default = {}",
            "`default` is the name of the results",
            "default",
            another,
        ),
        (
            "ship = true",
            "the profile `ship` is a table",
            "true",
            Some("{ mode = \"release\" }"),
        ),
        (
            "ship = { when = 1979-05-27 }",
            "the value of the option `when`",
            "1979-05-27",
            None,
        ),
        (
            "ship = { c.when = 1979-05-27 }",
            "the value of the option `c.when`",
            "1979-05-27",
            None,
        ),
        (
            "ship = { all = [1, 1.5] }",
            "the value of the option `all`",
            "[1, 1.5]",
            None,
        ),
    ] {
        refused(&format!("[profiles]\n{rest}"), said, at, mend);
    }
}

#[test]
fn kits_are_archives_of_a_digest() {
    let digest = format!("digest = \"sha256:{}\"", "0a".repeat(32));
    let sum = Some("\"sha256:…\", as `sha256sum FILE` prints it");
    for (rest, said, at, mend) in [
        (
            "\"a/b\" = {}",
            "`a/b` cannot be the name of a kit",
            "\"a/b\"",
            None,
        ),
        ("nub = {}", "`nub` cannot be the name of a kit", "nub", None),
        (
            "a = { url = [] }",
            "`url` is one address",
            "[]",
            Some("\"https://…\""),
        ),
        (
            "a = { url = [\"kit.zip\"] }",
            "`url` is one address",
            "[\"kit.zip\"]",
            Some("\"https://…\""),
        ),
        (
            "a = { strip = 101 }",
            "`strip` is how many",
            "101",
            Some("1"),
        ),
        ("a = { strip = -1 }", "`strip` is how many", "-1", Some("1")),
        (
            "a = { format = \"rar\" }",
            "`format` is one of ",
            "\"rar\"",
            Some("\"tar.gz\""),
        ),
        (
            "a = { digest = \"md5:00\" }",
            "`digest` is ",
            "\"md5:00\"",
            sum,
        ),
        (
            "a = { urls = \"x\" }",
            "a kit has no `urls`",
            "urls",
            Some("url"),
        ),
    ] {
        refused(&format!("[kits]\n{rest}"), said, at, mend);
    }
    let text = format!("[kits.a]\nurl = \"https://x/kit?v=1\"\n{digest}");
    let format = Some("format = \"tar.gz\"");
    refused(
        &text,
        "the name \"kit\" does not say a format",
        "\"https://x/kit?v=1\"",
        format,
    );
}
