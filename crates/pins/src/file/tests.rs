//! `pins.toml`, written and read back.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use super::*;

fn pin(name: &str, version: &str, needs: &[&str]) -> (String, Pin) {
    let need = |id: &&str| Need {
        pin: (*id).to_owned(),
        alias: None,
        build: false,
        on: vec![],
    };
    let pin = Pin {
        name: name.to_owned(),
        version: version.to_owned(),
        origin: Some("company".to_owned()),
        licence: Some("MIT \"or\" so".to_owned()),
        archives: vec![Archive {
            path: format!("{name}/{name}.whl"),
            digest: "sha256:00".to_owned(),
            size: 12,
            on: vec!["linux-x86_64".to_owned()],
        }],
        features: vec!["a".to_owned(), "b".to_owned()],
        packages: vec![".".to_owned(), "text".to_owned()],
        facts: [("edition".to_owned(), "2021".to_owned())].into(),
        places: vec!["ebb/node_modules/flow".to_owned()],
        needs: needs.iter().map(need).collect(),
        on: vec![],
        wanted_by: vec![],
    };
    (pin.id(), pin)
}

fn shelf() -> Shelf {
    let pins = [
        pin("ebb", "1.0", &["flow@2.0"]),
        pin("flow", "2.0", &["moon@3"]),
        pin("moon", "3", &[]),
    ];
    let asked = AskedPackage {
        requirement: ">=1".to_owned(),
        pins: vec!["ebb@1.0".to_owned()],
        ..AskedPackage::default()
    };
    let facts = [("python".to_owned(), "3.11".to_owned())].into();
    Shelf {
        systems: [("linux-x86_64".to_owned(), facts)].into(),
        asked: [("ebb".to_owned(), asked)].into(),
        pins: pins.into(),
    }
}

#[test]
fn what_is_written_is_read_back() {
    let mut pins = Pins {
        shelves: [(Registry::Python, shelf())].into(),
    };
    pins.shelves.get_mut(&Registry::Python).unwrap().settle();
    let text = pins.write();
    assert_eq!(Pins::read(&text).unwrap(), pins);
    assert_eq!(Pins::read(&text).unwrap().write(), text);
    assert_eq!(Pins::read("format = 1").unwrap(), Pins::default());
}

#[test]
fn what_does_not_hold_together_is_refused() {
    let mut pins = Pins {
        shelves: [(Registry::Python, shelf())].into(),
    };
    pins.shelves
        .get_mut(&Registry::Python)
        .unwrap()
        .pins
        .remove("moon@3");
    let problem = Pins::read(&pins.write()).unwrap_err();
    assert_eq!(
        problem.message,
        "pins.toml: \"flow@2.0\" of python needs \"moon@3\", which is not there"
    );
    assert!(
        Pins::read("format = 2")
            .unwrap_err()
            .message
            .contains("format 2")
    );
    assert!(
        Pins::read("format = 1\ncolour = 3")
            .unwrap_err()
            .message
            .contains("line 2")
    );
    let merged = Pins::read("format = 1\n<<<<<<< here\n").unwrap_err();
    assert_eq!(merged.message, "pins.toml has marks of a merge in it");
}

#[test]
fn pins_are_here_because_of_something() {
    let mut shelf = shelf();
    shelf.pins.extend([pin("alone", "1", &["moon@3"])]);
    shelf.settle();
    assert_eq!(
        shelf.pins.keys().collect::<Vec<_>>(),
        ["ebb@1.0", "flow@2.0", "moon@3"]
    );
    assert_eq!(shelf.pins["ebb@1.0"].wanted_by, [ASKED]);
    assert_eq!(shelf.pins["moon@3"].wanted_by, ["flow@2.0"]);
    assert_eq!(shelf.chain("moon@3"), ["ebb@1.0", "flow@2.0", "moon@3"]);
    assert!(shelf.chain("alone@1").is_empty());
}
