//! Pins of Rust's crates, from a sparse index in a folder.

use crate::shop::{Shop, shelf, told};
use nubrik_pins::{Free, Registry};

const RUST: Registry = Registry::Rust;

#[test]
fn versions_that_go_together_share_a_choice_and_others_stand_side_by_side() {
    let shop = Shop::new();
    shop.rust("moon", "1.0.0", &[], "");
    shop.rust("moon", "1.4.0", &[], "");
    shop.rust("moon", "2.0.0", &[], "");
    shop.rust("moon", "2.1.0", &[], r#""yanked": true"#);
    shop.rust("ebb", "0.3.1", &[("moon", "^1.0", "")], "");
    shop.rust("flow", "0.3.0", &[("moon", "^2", "")], "");
    assert_eq!(
        shop.pinned(RUST, &["ebb", "flow"]).unwrap(),
        "ebb@0.3.1 flow@0.3.0 moon@1.4.0 moon@2.0.0"
    );
    assert_eq!(
        shop.pinned(RUST, &["ebb", "moon =1.0.0"]).unwrap(),
        "ebb@0.3.1 moon@1.0.0"
    );
    shop.rust("neap", "1.0.0", &[("moon", "=1.4.0", "")], "");
    let problem = shop.pinned(RUST, &["neap", "moon =1.0.0"]).unwrap_err();
    assert!(
        problem
            .notes
            .iter()
            .any(|n| n == "neap 1.0.0 needs moon 1.4.0"),
        "{problem:?}"
    );
    assert_eq!(problem.mends.len(), 1, "{problem:?}");
    let problem = shop.pinned(RUST, &["moon 7"]).unwrap_err();
    assert_eq!(
        problem.notes,
        ["you ask for moon ^7, and the newest is 2.0.0"]
    );
}

#[test]
fn features_bring_in_what_they_turn_on() {
    let shop = Shop::new();
    let optional = r#""optional": true"#;
    shop.rust(
        "tides",
        "1.0.0",
        &[
            ("charts", "1", optional),
            ("wind", "1", r#""target": "cfg(windows)""#),
            ("dev", "1", r#""kind": "dev""#),
        ],
        r#""features": {"default": ["std"], "std": [], "maps": ["dep:charts", "charts/deep"]}"#,
    );
    shop.rust(
        "charts",
        "1.0.0",
        &[("ink", "1", optional)],
        r#""features": {"deep": ["dep:ink"], "default": []}"#,
    );
    for name in ["ink", "wind", "dev"] {
        shop.rust(name, "1.0.0", &[], "");
    }
    assert_eq!(shop.pinned(RUST, &["tides"]).unwrap(), "tides@1.0.0");
    let asked = shelf(RUST, &["linux-x86_64", "windows-x86_64"], &["tides[maps]"]);
    let settled = shop.settle(RUST, &asked, &Free::Nothing).unwrap();
    assert_eq!(
        told(&settled),
        "charts@1.0.0 ink@1.0.0 tides@1.0.0 wind@1.0.0"
    );
    assert_eq!(
        settled.pins["tides@1.0.0"].features,
        ["default", "maps", "std"]
    );
    assert_eq!(settled.pins["charts@1.0.0"].features, ["deep", "default"]);
    assert_eq!(settled.pins["wind@1.0.0"].on, ["windows-x86_64"]);
    assert_eq!(settled.pins["tides@1.0.0"].facts["edition"], "2021");
    assert_eq!(settled.pins["tides@1.0.0"].licence.as_deref(), Some("MIT"));
    let problem = shop.pinned(RUST, &["tides[map]"]).unwrap_err();
    assert_eq!(
        (problem.message.as_str(), problem.mends[0].as_str()),
        ("tides 1.0.0 has no feature `map`", "maps")
    );
}

#[test]
fn renamed_needs_and_those_of_build_scripts_are_told_apart() {
    let shop = Shop::new();
    let renamed = r#""package": "moon""#;
    shop.rust(
        "ebb",
        "1.0.0",
        &[("luna", "1", renamed), ("tool", "1", r#""kind": "build""#)],
        "",
    );
    shop.rust("moon", "1.0.0", &[], "");
    shop.rust("tool", "1.0.0", &[], "");
    let settled = shop
        .settle(
            RUST,
            &shelf(RUST, &["linux-x86_64"], &["ebb"]),
            &Free::Nothing,
        )
        .unwrap();
    let needs = &settled.pins["ebb@1.0.0"].needs;
    let told: Vec<(&str, Option<&str>, bool)> = needs
        .iter()
        .map(|n| (n.pin.as_str(), n.alias.as_deref(), n.build))
        .collect();
    assert_eq!(
        told,
        [
            ("moon@1.0.0", Some("luna"), false),
            ("tool@1.0.0", None, true)
        ]
    );
    // Whoever says which package is meant names it so in sources, whatever its library is called.
    let same = r#""package": "moon""#;
    shop.rust("flood", "1.0.0", &[("moon", "1", same)], "");
    let settled = shop
        .settle(
            RUST,
            &shelf(RUST, &["linux-x86_64"], &["flood"]),
            &Free::Nothing,
        )
        .unwrap();
    assert_eq!(
        settled.pins["flood@1.0.0"].needs[0].alias.as_deref(),
        Some("moon")
    );
}

#[test]
fn a_compiler_that_is_too_old_gets_an_older_version() {
    let shop = Shop::new();
    shop.rust("ebb", "1.0.0", &[], r#""rust_version": "1.60""#);
    shop.rust("ebb", "1.1.0", &[], r#""rust_version": "1.90""#);
    let mut asked = shelf(RUST, &["linux-x86_64"], &["ebb"]);
    asked
        .systems
        .get_mut("linux-x86_64")
        .unwrap()
        .insert("rustc".to_owned(), "1.80".to_owned());
    assert_eq!(
        told(&shop.settle(RUST, &asked, &Free::Nothing).unwrap()),
        "ebb@1.0.0"
    );
    assert_eq!(shop.pinned(RUST, &["ebb"]).unwrap(), "ebb@1.1.0");
}

#[test]
fn an_archive_that_is_another_one_is_refused() {
    let shop = Shop::new();
    shop.rust("ebb", "1.0.0", &[], "");
    shop.put("rust/crates/ebb-1.0.0.crate", b"something else");
    let problem = shop.pinned(RUST, &["ebb"]).unwrap_err();
    assert_eq!(
        problem.message,
        "ebb 1.0.0: its digest is not the one that its registry says"
    );
}

#[test]
fn what_a_client_locked_is_taken_where_it_still_fits() {
    let shop = Shop::new();
    for version in ["1.0.0", "1.4.0", "2.0.0", "2.1.0"] {
        shop.rust("moon", version, &[], "");
    }
    shop.rust("ebb", "0.3.1", &[("moon", "^1.0", "")], "");
    shop.rust("ebb", "0.3.2", &[("moon", "^2", "")], "");
    let locked = |name: &str, version: &str| {
        format!(
            "[[package]]\nname = \"{name}\"\nversion = \"{version}\"\nsource = \"registry+https://a.example\"\n"
        )
    };
    let all = [
        locked("ebb", "0.3.1"),
        locked("moon", "1.0.0"),
        locked("moon", "2.0.0"),
    ]
    .concat();
    shop.put("work/Cargo.lock", all.as_bytes());
    assert_eq!(shop.pinned(RUST, &["ebb"]).unwrap(), "ebb@0.3.1 moon@1.0.0");
    assert_eq!(
        shop.pinned(RUST, &["ebb", "moon 2"]).unwrap(),
        "ebb@0.3.1 moon@1.0.0 moon@2.0.0"
    );
    // What is asked for wins over what is locked, what is pinned too, and what is to be new is new.
    assert_eq!(
        shop.pinned(RUST, &["ebb 0.3.2"]).unwrap(),
        "ebb@0.3.2 moon@2.0.0"
    );
    let before = shop
        .settle(
            RUST,
            &shelf(RUST, &["linux-x86_64"], &["moon 2.1"]),
            &Free::Nothing,
        )
        .unwrap();
    let both = nubrik_pins::Shelf {
        pins: before.pins,
        ..shelf(RUST, &["linux-x86_64"], &["moon 2"])
    };
    assert_eq!(
        told(&shop.settle(RUST, &both, &Free::Nothing).unwrap()),
        "moon@2.1.0"
    );
    let anew = shelf(RUST, &["linux-x86_64"], &["ebb"]);
    assert_eq!(
        told(&shop.settle(RUST, &anew, &Free::Everything).unwrap()),
        "ebb@0.3.2 moon@2.1.0"
    );
    let named = Free::Names(["moon".to_owned()].into());
    assert_eq!(
        told(&shop.settle(RUST, &anew, &named).unwrap()),
        "ebb@0.3.1 moon@1.4.0"
    );
    shop.put("work/Cargo.lock", b"no [ toml");
    let problem = shop.pinned(RUST, &["ebb"]).unwrap_err();
    assert!(
        problem.message.starts_with("cannot read Cargo.lock: "),
        "{problem:?}"
    );
}

#[test]
fn nobody_is_asked_for_what_is_no_name_and_no_archive_leads_out() {
    let shop = Shop::new();
    shop.rust("moon", "1.0.0", &[], "");
    for (registry, name) in [
        (RUST, "../moon"),
        (Registry::Js, "../moon"),
        (Registry::Java, "isles:../moon 1"),
    ] {
        let problem = shop.pinned(registry, &[name]).unwrap_err();
        let name = name.split(' ').next().unwrap();
        let said = format!("{} {}", problem.message, problem.notes.join(" "));
        assert!(
            said.contains(name) && !said.contains("is no path"),
            "{problem:?}"
        );
    }
    let folder = tempfile::tempdir().unwrap();
    for path in ["../evil", "a/../../evil", "/evil", "a//evil"] {
        let archive = nubrik_pins::Archive {
            path: path.to_owned(),
            digest: "sha256:00".to_owned(),
            size: 1,
            on: Vec::new(),
        };
        let problem = shop
            .at_desk(|desk| desk.gather(RUST, &archive, "evil", folder.path()))
            .unwrap_err();
        assert_eq!(
            problem.message,
            format!("`{path}` is no path of an archive")
        );
    }
}
