//! Pins of plain archives, from a folder and from a page that lists them.

use nubrik_pins::{Free, Registry, Shelf};

use crate::server::{Answer, Server};
use crate::shop::{Shop, shelf, told};

const ARCHIVE: Registry = Registry::Archive;

fn asked(requirement: &str) -> Shelf {
    let mut shelf = shelf(ARCHIVE, &[], &[&format!("moon {requirement}")]);
    shelf.asked.get_mut("moon").unwrap().file = Some("moon-{version}.tar.gz".to_owned());
    shelf
}

#[test]
fn the_newest_archive_that_is_listed_and_will_do_is_pinned() {
    let shop = Shop::new();
    for version in ["1.2", "1.10", "2.0-rc1", "2.0"] {
        shop.put(
            &format!("archive/moon-{version}.tar.gz"),
            version.as_bytes(),
        );
    }
    let pinned = |requirement: &str| {
        Ok::<_, nubrik_pins::PinProblem>(told(&shop.settle(
            ARCHIVE,
            &asked(requirement),
            &Free::Nothing,
        )?))
    };
    assert_eq!(pinned("").unwrap(), "moon@2.0");
    assert_eq!(
        pinned(">=1,<2").unwrap(),
        "moon@1.10",
        "an early version is taken only if there is no other"
    );
    assert_eq!(pinned("<1.11").unwrap(), "moon@1.10");
    assert_eq!(pinned("1.2").unwrap(), "moon@1.2");
    assert_eq!(
        pinned(">2").unwrap_err().notes,
        ["the newest moon that is listed is 2.0"]
    );
    assert!(pinned("1.3").unwrap_err().message.starts_with("moon 1.3: "));
    assert!(
        pinned("^1")
            .unwrap_err()
            .message
            .contains("is no requirement")
    );
    let settled = shop.settle(ARCHIVE, &asked("1.2"), &Free::Nothing).unwrap();
    assert_eq!(
        settled.pins["moon@1.2"].archives[0].path,
        "moon/moon-1.2.tar.gz"
    );
    assert!(settled.systems.is_empty());
}

#[test]
fn a_page_lists_archives_and_a_digest_beside_one_is_held_against_it() {
    let sum = nubrik_web::Checksum::of(nubrik_web::ChecksumMethod::Sha256, b"moon");
    let served = |sum: &str| {
        let page = "<a href=\"moon-1.0.tar.gz\">1.0</a> <a href='/d/moon-1.1.tar.gz'>1.1</a> <a href='moon-1.1.tar.gz.sig'>x</a>";
        let server = Server::new([
            ("/d/".to_owned(), Answer::of("text/html", page.as_bytes())),
            (
                "/d/moon-1.1.tar.gz".to_owned(),
                Answer::of("application/gzip", b"moon"),
            ),
            (
                "/d/moon-1.1.tar.gz.sha256".to_owned(),
                Answer::of("text/plain", format!("{sum}  moon-1.1.tar.gz").as_bytes()),
            ),
        ]);
        let mut shop = Shop::new();
        shop.addresses
            .insert(ARCHIVE, format!("{}/d/", server.address));
        (shop, server)
    };
    let (shop, _server) = served(sum.trim_start_matches("sha256:"));
    let settled = shop.settle(ARCHIVE, &asked(""), &Free::Nothing).unwrap();
    assert_eq!(settled.pins["moon@1.1"].archives[0].digest, sum);
    assert!(settled.pins["moon@1.1"].facts.is_empty());
    let (shop, _server) = served(&"0".repeat(64));
    let problem = shop
        .settle(ARCHIVE, &asked(""), &Free::Nothing)
        .unwrap_err();
    assert_eq!(
        problem.message,
        "moon 1.1: its digest is not the one that its registry says"
    );
}
