//! Pins of JavaScript's packages, from documents in a folder.

use crate::shop::{Shop, shelf};
use nubrik_pins::{Free, Registry, Shelf};

const JS: Registry = Registry::Js;

/// All places with what is there.
fn places(shelf: &Shelf) -> String {
    let mut all: Vec<String> = shelf
        .pins
        .iter()
        .flat_map(|(id, pin)| pin.places.iter().map(move |place| format!("{place}={id}")))
        .collect();
    all.sort();
    all.join(" ")
}

fn settled(shop: &Shop, asked: &[&str]) -> String {
    places(
        &shop
            .settle(JS, &shelf(JS, &["linux-x86_64"], asked), &Free::Nothing)
            .unwrap(),
    )
}

#[test]
fn two_versions_of_one_name_stand_side_by_side() {
    let shop = Shop::new();
    shop.js("moon", &[("1.0.0", ""), ("1.2.0", ""), ("2.0.0", "")]);
    shop.js("ebb", &[("1.0.0", r#""dependencies": {"moon": "^1.0.0"}"#)]);
    shop.js(
        "flow",
        &[("1.0.0", r#""dependencies": {"moon": "^2.0.0"}"#)],
    );
    assert_eq!(
        settled(&shop, &["ebb", "flow"]),
        "ebb=ebb@1.0.0 flow/node_modules/moon=moon@2.0.0 flow=flow@1.0.0 moon=moon@1.2.0"
    );
    // What is asked for itself is at the top.
    assert_eq!(
        settled(&shop, &["ebb", "flow", "moon 2"]),
        "ebb/node_modules/moon=moon@1.2.0 ebb=ebb@1.0.0 flow=flow@1.0.0 moon=moon@2.0.0"
    );
}

#[test]
fn what_is_advised_against_or_needs_another_node_comes_last() {
    let shop = Shop::new();
    shop.js(
        "ebb",
        &[
            ("1.0.0", ""),
            ("1.1.0", r#""deprecated": "it leaks""#),
            ("2.0.0", ""),
        ],
    );
    shop.js(
        "flow",
        &[
            ("1.0.0", ""),
            ("1.1.0", r#""engines": {"node": ">=99"}"#),
            ("2.0.0", ""),
        ],
    );
    let mut asked = shelf(JS, &["linux-x86_64"], &["ebb ^1", "flow ^1"]);
    asked
        .systems
        .get_mut("linux-x86_64")
        .unwrap()
        .insert("node".to_owned(), "20".to_owned());
    assert_eq!(
        places(&shop.settle(JS, &asked, &Free::Nothing).unwrap()),
        "ebb=ebb@1.0.0 flow=flow@1.0.0"
    );
}

#[test]
fn a_release_that_needs_what_is_not_there_is_passed_over() {
    let shop = Shop::new();
    shop.js("moon", &[("1.0.0", "")]);
    let lacks = r#""dependencies": {"moon": "^1.1.0"}"#;
    shop.js(
        "ebb",
        &[
            ("1.0.0", r#""dependencies": {"moon": "^1.0.0"}"#),
            ("1.1.0", lacks),
            ("1.2.0", lacks),
        ],
    );
    shop.js("flow", &[("1.0.0", r#""dependencies": {"ebb": "^1.0.0"}"#)]);
    assert_eq!(
        settled(&shop, &["flow"]),
        "ebb=ebb@1.0.0 flow=flow@1.0.0 moon=moon@1.0.0"
    );
    assert_eq!(settled(&shop, &["ebb ^1"]), "ebb=ebb@1.0.0 moon=moon@1.0.0");
    // Where no older one helps, the first cause is said.
    let problem = shop.pinned(JS, &["ebb ^1.1"]).unwrap_err();
    assert_eq!(problem.message, "no versions fit together");
    assert!(
        problem
            .notes
            .contains(&"ebb 1.2.0 needs moon ^1.1.0".to_owned()),
        "{problem:?}"
    );
    // What is asked for itself is never passed over.
    let problem = shop.pinned(JS, &["moon ^2"]).unwrap_err();
    assert!(
        problem.notes.contains(&"you ask for moon ^2".to_owned()),
        "{problem:?}"
    );
}

#[test]
fn peers_are_found_beside_and_optional_ones_by_system() {
    let shop = Shop::new();
    shop.js("moon", &[("1.0.0", ""), ("2.0.0", "")]);
    shop.js("ebb", &[("1.0.0", r#""peerDependencies": {"moon": "1", "sun": "*"}, "peerDependenciesMeta": {"sun": {"optional": true}}"#)]);
    assert_eq!(settled(&shop, &["ebb"]), "ebb=ebb@1.0.0 moon=moon@1.0.0");
    let problem = shop.pinned(JS, &["ebb", "moon 2"]).unwrap_err();
    assert_eq!(problem.message, "no versions fit together");
    assert!(
        problem.notes.contains(&"ebb 1.0.0 needs moon 1".to_owned()),
        "{problem:?}"
    );
    // Who comes later wants an older one than the newest that the first one takes: both can have
    // it.
    shop.js(
        "flow",
        &[("1.0.0", r#""peerDependencies": {"moon": ">=1"}"#)],
    );
    shop.js(
        "tide",
        &[("1.0.0", r#""dependencies": {"flow": "1", "lunar": "1"}"#)],
    );
    shop.js(
        "lunar",
        &[("1.0.0", r#""peerDependencies": {"moon": "^1"}"#)],
    );
    assert_eq!(
        settled(&shop, &["tide"]),
        "flow=flow@1.0.0 lunar=lunar@1.0.0 moon=moon@1.0.0 tide=tide@1.0.0"
    );
    assert_eq!(settled(&shop, &["flow"]), "flow=flow@1.0.0 moon=moon@2.0.0");
    assert_eq!(
        settled(&shop, &["tide", "moon 2"]),
        "flow=flow@1.0.0 moon=moon@2.0.0 tide/node_modules/lunar=lunar@1.0.0 tide/node_modules/moon=moon@1.0.0 tide=tide@1.0.0"
    );
    assert!(shop.pinned(JS, &["lunar", "moon 2"]).is_err());
    // It stands where it finds the right one, though there is room further up.
    shop.js(
        "neap",
        &[("1.0.0", r#""dependencies": {"moon": "2", "lunar": "1"}"#)],
    );
    shop.js(
        "lunar",
        &[("1.0.0", r#""peerDependencies": {"moon": "^2"}"#)],
    );
    assert_eq!(
        settled(&shop, &["moon 1", "neap"]),
        "moon=moon@1.0.0 neap/node_modules/lunar=lunar@1.0.0 neap/node_modules/moon=moon@2.0.0 neap=neap@1.0.0"
    );
    shop.js(
        "fast",
        &[(
            "1.0.0",
            r#""optionalDependencies": {"fast-linux": "1", "fast-mac": "1", "lost": "1"}"#,
        )],
    );
    shop.js(
        "fast-linux",
        &[("1.0.0", r#""os": ["linux"], "cpu": ["x64"]"#)],
    );
    shop.js("fast-mac", &[("1.0.0", r#""os": ["!linux"]"#)]);
    assert_eq!(
        settled(&shop, &["fast"]),
        "fast-linux=fast-linux@1.0.0 fast=fast@1.0.0"
    );
    let two = shelf(JS, &["linux-x86_64", "macos-aarch64"], &["fast"]);
    let both = shop.settle(JS, &two, &Free::Nothing).unwrap();
    assert_eq!(both.pins["fast-mac@1.0.0"].on, ["macos-aarch64"]);
}

#[test]
fn other_names_tags_and_circles_are_understood() {
    let shop = Shop::new();
    shop.js(
        "moon",
        &[("1.0.0", r#""dependencies": {"ebb": "*"}"#), ("1.1.0", "")],
    );
    shop.js(
        "ebb",
        &[("1.0.0", r#""dependencies": {"luna": "npm:moon@1.0.0"}"#)],
    );
    assert_eq!(settled(&shop, &["ebb"]), "ebb=ebb@1.0.0 luna=moon@1.0.0");
    assert_eq!(settled(&shop, &["moon latest"]), "moon=moon@1.1.0");
    assert_eq!(
        shop.pinned(JS, &["mon"]).unwrap_err().message,
        "the registry `js` has no `mon`"
    );
    let problem = shop.pinned(JS, &["moon ^9"]).unwrap_err();
    assert_eq!(
        problem.notes,
        ["you ask for moon ^9", "the newest moon is 1.1.0"]
    );
    assert!(
        shop.pinned(JS, &["moon one two"])
            .unwrap_err()
            .message
            .contains("is no requirement")
    );
}
