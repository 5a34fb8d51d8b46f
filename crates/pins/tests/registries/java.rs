//! Pins of Java's archives, from a repository in a folder and from a server.

use nubrik_pins::{Free, Registry};

use crate::server::{Answer, Server};
use crate::shop::{Shop, shelf, told};

const JAVA: Registry = Registry::Java;

/// A need of a descriptor; more is XML inside it.
fn need(name: &str, version: &str, more: &str) -> String {
    let (group, artifact) = name.split_once(':').unwrap();
    let version = if version.is_empty() {
        String::new()
    } else {
        format!("<version>{version}</version>")
    };
    format!(
        "<dependency><groupId>{group}</groupId><artifactId>{artifact}</artifactId>{version}{more}</dependency>"
    )
}

fn needs(all: &[String]) -> String {
    format!("<dependencies>{}</dependencies>", all.concat())
}

fn descriptor(name: &str, version: &str, more: &str) -> String {
    let (group, artifact) = name.split_once(':').unwrap();
    format!(
        "<project xmlns=\"urn:isles:descriptor\"><groupId>{group}</groupId><artifactId>{artifact}</artifactId><version>{version}</version>{more}</project>"
    )
}

fn put(shop: &Shop, name: &str, version: &str, more: &str) {
    let (group, artifact) = name.split_once(':').unwrap();
    let place = format!(
        "java/{}/{artifact}/{version}/{artifact}-{version}",
        group.replace('.', "/")
    );
    shop.put(
        &format!("{place}.pom"),
        descriptor(name, version, more).as_bytes(),
    );
    if !more.contains("<packaging>pom") {
        shop.put(
            &format!("{place}.jar"),
            format!("{name} {version}").as_bytes(),
        );
    }
}

#[test]
fn the_nearest_version_wins() {
    let shop = Shop::new();
    put(&shop, "isles:moon", "1.0", "");
    put(&shop, "isles:moon", "2.0", "");
    put(&shop, "isles:moon", "3.0-rc1", "");
    put(
        &shop,
        "isles:ebb",
        "1.0",
        &needs(&[need("isles:moon", "1.0", "")]),
    );
    put(
        &shop,
        "isles:tides",
        "1.0",
        &needs(&[need("isles:ebb", "1.0", ""), need("isles:moon", "2.0", "")]),
    );
    assert_eq!(
        shop.pinned(JAVA, &["isles:ebb"]).unwrap(),
        "isles:ebb@1.0 isles:moon@1.0"
    );
    assert_eq!(
        shop.pinned(JAVA, &["isles:tides"]).unwrap(),
        "isles:ebb@1.0 isles:moon@2.0 isles:tides@1.0"
    );
    assert_eq!(
        shop.pinned(JAVA, &["isles:moon"]).unwrap(),
        "isles:moon@2.0"
    );
    assert_eq!(
        shop.pinned(JAVA, &["isles:moon [1,2)"]).unwrap(),
        "isles:moon@1.0"
    );
    let problem = shop.pinned(JAVA, &["isles:moon [9,)"]).unwrap_err();
    assert_eq!(
        problem.notes,
        [
            "there is no isles:moon [9,)",
            "the newest isles:moon is 3.0-rc1"
        ]
    );
    assert_eq!(
        shop.pinned(JAVA, &["isles:mon"]).unwrap_err().message,
        "no repository lists versions of `isles:mon`"
    );
    assert!(
        shop.pinned(JAVA, &["moon"])
            .unwrap_err()
            .message
            .contains("does not name a group")
    );
    assert!(
        shop.pinned(JAVA, &["isles:moon >=1"])
            .unwrap_err()
            .message
            .contains("is no requirement")
    );
}

#[test]
fn scopes_exclusions_and_managed_versions_hold() {
    let shop = Shop::new();
    for name in [
        "isles:moon",
        "isles:sun",
        "isles:wind",
        "isles:rain",
        "isles:mud",
    ] {
        put(&shop, name, "1.0", "");
    }
    put(
        &shop,
        "isles:ebb",
        "1.0",
        &needs(&[need("isles:moon", "1.0", ""), need("isles:mud", "1.0", "")]),
    );
    let managed = needs(&[
        need("isles:sun", "1.0", ""),
        need("isles:list", "1.0", "<type>pom</type><scope>import</scope>"),
    ]);
    put(
        &shop,
        "isles:parent",
        "1.0",
        &format!(
            "<packaging>pom</packaging><dependencyManagement>{managed}</dependencyManagement>"
        ),
    );
    let imported = needs(&[need("isles:rain", "1.0", "")]);
    put(
        &shop,
        "isles:list",
        "1.0",
        &format!(
            "<packaging>pom</packaging><dependencyManagement>{imported}</dependencyManagement>"
        ),
    );
    let exclusion = "<exclusions><exclusion><groupId>isles</groupId><artifactId>mud</artifactId></exclusion></exclusions>";
    let own = needs(&[
        need("isles:ebb", "1.0", exclusion),
        need("isles:sun", "", ""),
        need("isles:rain", "", "<scope>runtime</scope>"),
        need("isles:wind", "1.0", "<scope>test</scope>"),
        need("isles:lost", "1.0", "<optional>true</optional>"),
    ]);
    let parent = "<parent><groupId>isles</groupId><artifactId>parent</artifactId><version>1.0</version></parent>";
    put(
        &shop,
        "isles:tides",
        "1.0",
        &format!("{parent}<licenses><license><name>MIT</name></license></licenses>{own}"),
    );
    let settled = shop
        .settle(
            JAVA,
            &shelf(JAVA, &["linux-x86_64"], &["isles:tides"]),
            &Free::Nothing,
        )
        .unwrap();
    assert_eq!(
        told(&settled),
        "isles:ebb@1.0 isles:moon@1.0 isles:rain@1.0 isles:sun@1.0 isles:tides@1.0"
    );
    let tides = &settled.pins["isles:tides@1.0"];
    assert_eq!(
        (tides.licence.as_deref(), tides.archives[0].path.as_str()),
        (Some("MIT"), "isles/tides/1.0/tides-1.0.jar")
    );
    assert_eq!(tides.needs.len(), 3);
    // A list of others is no archive itself.
    let list = shop
        .settle(
            JAVA,
            &shelf(JAVA, &["linux-x86_64"], &["isles:list"]),
            &Free::Nothing,
        )
        .unwrap();
    assert_eq!(list.pins["isles:list@1.0"].facts["packaging"], "pom");
    put(
        &shop,
        "isles:vague",
        "1.0",
        &needs(&[need("isles:moon", "", "")]),
    );
    let problem = shop.pinned(JAVA, &["isles:vague"]).unwrap_err();
    assert_eq!(
        problem.message,
        "isles:vague 1.0 needs isles:moon and names no version of it"
    );
    put(&shop, "isles:orphan", "1.0", &parent.replace("1.0", "7"));
    let problem = shop.pinned(JAVA, &["isles:orphan"]).unwrap_err();
    assert_eq!(
        problem.message,
        "isles:orphan 1.0 inherits from isles:parent 7, which no repository has"
    );
}

#[test]
fn a_weak_digest_is_checked_and_a_strong_one_kept() {
    let sha1 = nubrik_web::Checksum::of(nubrik_web::ChecksumMethod::Sha1, b"jar");
    let served = |sum: &str| {
        let place = "/m/isles/moon/1.0/moon-1.0";
        let list = "<a href='../'>up</a> <a href='1.0/'>1.0</a>";
        let server = Server::new([
            (
                format!("{place}.pom"),
                Answer::of("text/xml", descriptor("isles:moon", "1.0", "").as_bytes()),
            ),
            (
                format!("{place}.jar"),
                Answer::of("application/java-archive", b"jar"),
            ),
            (
                format!("{place}.jar.sha1"),
                Answer::of("text/plain", format!("{sum}  moon-1.0.jar\n").as_bytes()),
            ),
            (
                "/m/isles/moon/".to_owned(),
                Answer::of("text/html", list.as_bytes()),
            ),
        ]);
        let mut shop = Shop::new();
        shop.addresses.insert(JAVA, format!("{}/m", server.address));
        (shop, server)
    };
    let (shop, _server) = served(sha1.trim_start_matches("sha1:"));
    let settled = shop
        .settle(
            JAVA,
            &shelf(JAVA, &["linux-x86_64"], &["isles:moon"]),
            &Free::Nothing,
        )
        .unwrap();
    assert!(
        settled.pins["isles:moon@1.0"].archives[0]
            .digest
            .starts_with("sha256:")
    );
    let (shop, _server) = served(&"0".repeat(40));
    let problem = shop.pinned(JAVA, &["isles:moon"]).unwrap_err();
    assert_eq!(
        problem.message,
        "isles:moon 1.0: its digest is not the one that its registry says"
    );
}
