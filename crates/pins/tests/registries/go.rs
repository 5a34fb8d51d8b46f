//! Pins of Go's modules, from a proxy in a folder and from a server.

use std::io::Write;

use nubrik_pins::{Free, Registry};

use crate::server::{Answer, Server};
use crate::shop::{Shop, shelf, told};

const GO: Registry = Registry::Go;

/// The archive of a module: its own description and sources.
fn archive(path: &str, version: &str, files: &[(&str, &str)]) -> Vec<u8> {
    let mut archive = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    let options = zip::write::SimpleFileOptions::default();
    for (name, text) in files {
        archive
            .start_file(format!("{path}@{version}/{name}"), options)
            .unwrap();
        archive.write_all(text.as_bytes()).unwrap();
    }
    archive.finish().unwrap().into_inner()
}

/// A version of a module: lines of its description, and its sources as `(path, imports)`.
fn put(shop: &Shop, path: &str, version: &str, lines: &str, sources: &[(&str, &str)]) {
    let texts: Vec<(String, String)> = sources
        .iter()
        .map(|(name, imports)| {
            let imports: String = imports
                .split_whitespace()
                .map(|i| format!("import \"{i}\"\n"))
                .collect();
            ((*name).to_owned(), format!("package x\n{imports}"))
        })
        .collect();
    let files: Vec<(&str, &str)> = texts
        .iter()
        .map(|(name, text)| (name.as_str(), text.as_str()))
        .collect();
    put_files(shop, path, version, lines, &files);
}

fn put_files(shop: &Shop, path: &str, version: &str, lines: &str, files: &[(&str, &str)]) {
    let place = format!("go/{path}/@v");
    let manifest = format!("module {path}\n{lines}");
    shop.put(&format!("{place}/{version}.mod"), manifest.as_bytes());
    shop.put(
        &format!("{place}/{version}.info"),
        format!(r#"{{"Version": "{version}"}}"#).as_bytes(),
    );
    shop.put(
        &format!("{place}/{version}.zip"),
        &archive(path, version, files),
    );
    let list =
        std::fs::read_to_string(shop.folder.path().join(&place).join("list")).unwrap_or_default();
    shop.put(
        &format!("{place}/list"),
        format!("{list}{version}\n").as_bytes(),
    );
}

fn simple(shop: &Shop, path: &str, version: &str, lines: &str) {
    put(shop, path, version, lines, &[("a.go", "fmt")]);
}

#[test]
fn of_each_module_the_oldest_version_that_does_for_all() {
    let shop = Shop::new();
    for version in ["v1.0.0", "v1.2.0", "v1.3.0", "v1.9.0"] {
        simple(&shop, "isles.example/moon", version, "go 1.21\n");
    }
    let uses = [("a.go", "isles.example/moon")];
    put(
        &shop,
        "isles.example/ebb",
        "v0.3.1",
        "go 1.21\nrequire isles.example/moon v1.2.0\n",
        &uses,
    );
    put(
        &shop,
        "isles.example/flow",
        "v0.3.0",
        "go 1.21\nrequire isles.example/moon v1.3.0\n",
        &uses,
    );
    let both = shop
        .pinned(GO, &["isles.example/ebb", "isles.example/flow"])
        .unwrap();
    assert_eq!(
        both,
        "isles.example/ebb@v0.3.1 isles.example/flow@v0.3.0 isles.example/moon@v1.3.0"
    );
    let newest = shop.pinned(GO, &["isles.example/moon"]).unwrap();
    assert_eq!(newest, "isles.example/moon@v1.9.0");
    let least = shop
        .pinned(GO, &["isles.example/moon >=v1.0.0", "isles.example/ebb"])
        .unwrap();
    assert_eq!(least, "isles.example/ebb@v0.3.1 isles.example/moon@v1.2.0");
    let problem = shop
        .pinned(GO, &["isles.example/moon v1.0.0", "isles.example/ebb"])
        .unwrap_err();
    assert_eq!(
        problem.notes,
        [
            "you ask for another version of isles.example/moon than v1.2.0",
            "isles.example/ebb v0.3.1 needs isles.example/moon v1.2.0, or a later one"
        ]
    );
    let mend = "nubrik pins add go isles.example/moon \"…\"   without its \"v1.0.0\", isles.example/moon v1.9.0 fits all others";
    assert_eq!(problem.mends, [mend]);
}

#[test]
fn only_modules_whose_packages_are_used_are_pinned_and_these_are_named() {
    let shop = Shop::new();
    let needs =
        "go 1.21\nrequire (\n\tisles.example/charts v1.0.0\n\tisles.example/unused v1.0.0\n)\n";
    let sources = [
        ("a.go", "isles.example/charts/ink strings"),
        ("a_test.go", "isles.example/unused"),
        ("deep/b_windows.go", "isles.example/charts/windows"),
        ("testdata/c.go", "isles.example/unused"),
    ];
    put(&shop, "isles.example/tides", "v1.0.0", needs, &sources);
    let charts = [
        ("all.go", "isles.example/unused"),
        ("ink/i.go", ""),
        ("windows/w.go", "C"),
    ];
    put(
        &shop,
        "isles.example/charts",
        "v1.0.0",
        "go 1.18\n",
        &charts,
    );
    simple(&shop, "isles.example/unused", "v1.0.0", "go 1.18\n");
    let settled = shop
        .settle(
            GO,
            &shelf(GO, &[], &["isles.example/tides"]),
            &Free::Nothing,
        )
        .unwrap();
    assert_eq!(
        told(&settled),
        "isles.example/charts@v1.0.0 isles.example/tides@v1.0.0"
    );
    let (charts, tides) = (
        &settled.pins["isles.example/charts@v1.0.0"],
        &settled.pins["isles.example/tides@v1.0.0"],
    );
    assert_eq!(
        (charts.packages.join(" "), tides.packages.join(" ")),
        ("ink windows".to_owned(), ". deep".to_owned())
    );
    assert_eq!(charts.facts["language"], "1.18");
    assert!(charts.facts["sum"].starts_with("h1:"));
    assert_eq!(tides.archives[0].path, "isles.example/tides/@v/v1.0.0.zip");
    assert!(tides.archives[0].digest.starts_with("sha256:") && tides.archives[0].size > 0);
    assert_eq!(charts.wanted_by, ["isles.example/tides@v1.0.0"]);
}

#[test]
fn old_modules_are_followed_and_newer_ones_name_all() {
    let shop = Shop::new();
    for version in ["v1.0.0", "v1.5.0"] {
        simple(&shop, "isles.example/moon", version, "go 1.21\n");
    }
    // What nothing imports still decides about versions, where it is followed.
    simple(
        &shop,
        "isles.example/far",
        "v1.0.0",
        "require isles.example/moon v1.5.0\n",
    );
    let needs = "require (\n\tisles.example/moon v1.0.0\n\tisles.example/far v1.0.0\n)\n";
    let uses = [("a.go", "isles.example/moon")];
    put(
        &shop,
        "isles.example/old",
        "v1.0.0",
        &format!("go 1.16\n{needs}"),
        &uses,
    );
    put(
        &shop,
        "isles.example/new",
        "v1.0.0",
        &format!("go 1.17\n{needs}"),
        &uses,
    );
    assert_eq!(
        shop.pinned(GO, &["isles.example/old"]).unwrap(),
        "isles.example/moon@v1.5.0 isles.example/old@v1.0.0"
    );
    assert_eq!(
        shop.pinned(GO, &["isles.example/new"]).unwrap(),
        "isles.example/moon@v1.0.0 isles.example/new@v1.0.0"
    );
    let both = shop
        .pinned(GO, &["isles.example/new", "isles.example/old"])
        .unwrap();
    assert!(both.starts_with("isles.example/moon@v1.5.0 "), "{both}");
}

#[test]
fn modules_without_a_description_say_by_their_imports_what_they_need() {
    let shop = Shop::new();
    put(
        &shop,
        "isles.example/old",
        "v1.0.0",
        "",
        &[("a.go", "isles.example/group/moon/phases")],
    );
    put(
        &shop,
        "isles.example/group/moon",
        "v0.1.0",
        "",
        &[("phases/a.go", "")],
    );
    put(
        &shop,
        "isles.example/group/moon",
        "v0.2.0",
        "",
        &[("phases/a.go", "")],
    );
    assert_eq!(
        shop.pinned(GO, &["isles.example/old"]).unwrap(),
        "isles.example/group/moon@v0.2.0 isles.example/old@v1.0.0"
    );
    // What nobody has is no reason to pin nothing: whoever uses that package hears of it.
    put(
        &shop,
        "isles.example/odd",
        "v1.0.0",
        "",
        &[("a.go", ""), ("demo/a.go", "isles.example/lost")],
    );
    assert_eq!(
        shop.pinned(GO, &["isles.example/odd"]).unwrap(),
        "isles.example/odd@v1.0.0"
    );
}

#[test]
fn the_newest_is_none_that_was_taken_back_or_comes_before_a_release() {
    let shop = Shop::new();
    simple(&shop, "isles.example/tides", "v1.0.0", "go 1.21\n");
    simple(
        &shop,
        "isles.example/tides",
        "v1.1.0",
        "go 1.21\nretract v1.1.0\n",
    );
    simple(&shop, "isles.example/tides", "v1.2.0-rc.1", "go 1.21\n");
    simple(&shop, "isles.example/tides", "v2.0.0+incompatible", "");
    assert_eq!(
        shop.pinned(GO, &["isles.example/tides"]).unwrap(),
        "isles.example/tides@v1.0.0"
    );
    assert_eq!(
        shop.pinned(GO, &["isles.example/tides v1.1.0"]).unwrap(),
        "isles.example/tides@v1.1.0"
    );
    // Of a module without a description of its own a later one is what its author means.
    put(&shop, "isles.example/older", "v1.0.0", "", &[("a.go", "")]);
    put(
        &shop,
        "isles.example/older",
        "v2.0.0+incompatible",
        "",
        &[("a.go", "")],
    );
    assert_eq!(
        shop.pinned(GO, &["isles.example/older"]).unwrap(),
        "isles.example/older@v2.0.0+incompatible"
    );
    // Without any release, a moment is taken; it needs no list.
    let moment = "v0.0.0-20240102030405-0123456789ab";
    simple(&shop, "isles.example/young", moment, "go 1.21\n");
    shop.put("go/isles.example/young/@v/list", b"");
    shop.put(
        "go/isles.example/young/@latest",
        format!(r#"{{"Version": "{moment}"}}"#).as_bytes(),
    );
    shop.put(
        "go/isles.example/young/@v/main.info",
        format!(r#"{{"Version": "{moment}"}}"#).as_bytes(),
    );
    for asked in [
        "isles.example/young",
        "isles.example/young main",
        &format!("isles.example/young >={moment}"),
    ] {
        assert_eq!(
            shop.pinned(GO, &[asked]).unwrap(),
            format!("isles.example/young@{moment}")
        );
    }
}

#[test]
fn what_is_pinned_stays_until_it_is_updated() {
    let shop = Shop::new();
    simple(&shop, "isles.example/tides", "v1.0.0", "go 1.21\n");
    let asked = shelf(GO, &[], &["isles.example/tides"]);
    let first = shop.settle(GO, &asked, &Free::Nothing).unwrap();
    simple(&shop, "isles.example/tides", "v1.1.0", "go 1.21\n");
    let again = shop.settle(GO, &first, &Free::Nothing).unwrap();
    assert_eq!(
        (told(&again), &again),
        ("isles.example/tides@v1.0.0".to_owned(), &first)
    );
    let free = shop.settle(GO, &first, &Free::Everything).unwrap();
    assert_eq!(told(&free), "isles.example/tides@v1.1.0");
    // A proxy that changed what it had published.
    let other = archive(
        "isles.example/tides",
        "v1.0.0",
        &[("a.go", "package other\n")],
    );
    std::fs::remove_dir_all(shop.folder.path().join("work/.nubrik")).unwrap();
    shop.put("go/isles.example/tides/@v/v1.0.0.zip", &other);
    let problem = shop.settle(GO, &first, &Free::Nothing).unwrap_err();
    assert_eq!(
        problem.message,
        "isles.example/tides v1.0.0: its digest is not the one that its registry says"
    );
}

#[test]
fn what_is_another_one_than_go_sum_says_is_refused() {
    let shop = Shop::new();
    let manifest = "module isles.example/tides\ngo 1.21\n";
    let files = [("go.mod", manifest), ("tides.go", "package tides\n")];
    put_files(&shop, "isles.example/tides", "v1.0.0", "go 1.21\n", &files);
    let settled = shop
        .settle(
            GO,
            &shelf(GO, &[], &["isles.example/tides"]),
            &Free::Nothing,
        )
        .unwrap();
    let sum = settled.pins["isles.example/tides@v1.0.0"].facts["sum"].clone();
    // As the ordinary client computes it of the same files.
    assert_eq!(sum, "h1:L+5tb1nv1cNVY5Fwnndt1ArHe7G28c7N2szh3Bx1d8c=");
    let sums = format!(
        "isles.example/tides v1.0.0 {sum}\nisles.example/tides v1.0.0/go.mod h1:qtu7EVrxMYZP2Dr9z9izfC9lLyPWaNkl3994I+eqrw0=\n"
    );
    shop.put("work/sea/go.mod", b"module isles.example/sea\n");
    shop.put("work/sea/go.sum", sums.as_bytes());
    assert!(shop.pinned(GO, &["isles.example/tides"]).is_ok());
    shop.put("work/sea/go.sum", b"isles.example/tides v1.0.0 h1:AAAA\n");
    let problem = shop.pinned(GO, &["isles.example/tides"]).unwrap_err();
    assert_eq!(
        problem.message,
        "isles.example/tides v1.0.0 is another one than go.sum, or its proxy, says"
    );
    assert_eq!(
        problem.notes,
        ["published  h1:AAAA".to_owned(), format!("found      {sum}")]
    );
    shop.put(
        "work/sea/go.sum",
        b"isles.example/tides v1.0.0/go.mod h1:BBBB\n",
    );
    let problem = shop.pinned(GO, &["isles.example/tides"]).unwrap_err();
    assert!(
        problem
            .message
            .starts_with("the go.mod of isles.example/tides v1.0.0 is another one"),
        "{problem:?}"
    );
    // One of several that says something else is enough; those that only represent something in
    // tests say nothing.
    shop.put("work/sea/go.sum", sums.as_bytes());
    shop.put("work/sea/testdata/go.mod", b"module x\n");
    shop.put(
        "work/sea/testdata/go.sum",
        b"isles.example/tides v1.0.0 h1:DDDD\n",
    );
    assert!(shop.pinned(GO, &["isles.example/tides"]).is_ok());
    let deep = "work/a/b/c/d/e/f";
    shop.put(&format!("{deep}/go.mod"), b"module isles.example/deep\n");
    shop.put(
        &format!("{deep}/go.sum"),
        b"isles.example/tides v1.0.0 h1:EEEE\n",
    );
    assert_eq!(
        shop.pinned(GO, &["isles.example/tides"]).unwrap_err().notes[0],
        "published  h1:EEEE"
    );
    // What cannot be read is not taken for nothing.
    std::fs::remove_file(shop.folder.path().join(deep).join("go.sum")).unwrap();
    std::fs::create_dir(shop.folder.path().join(deep).join("go.sum")).unwrap();
    assert!(
        shop.pinned(GO, &["isles.example/tides"])
            .unwrap_err()
            .message
            .starts_with("cannot look for go.sum in ")
    );
    std::fs::remove_dir(shop.folder.path().join(deep).join("go.sum")).unwrap();
    std::fs::remove_file(shop.folder.path().join("work/sea/go.sum")).unwrap();
    shop.put("go/isles.example/tides/@v/v1.0.0.ziphash", b"h1:CCCC");
    assert!(shop.pinned(GO, &["isles.example/tides"]).is_err());
}

#[test]
fn what_is_wrong_is_told_with_a_way_out() {
    let shop = Shop::new();
    simple(&shop, "isles.example/Tides", "v1.0.0", "go 1.21\n");
    let problem = |asked: &str| shop.pinned(GO, &[asked]).unwrap_err();
    assert_eq!(
        problem("isles.example/sea").message,
        "the registry `go` has no module `isles.example/sea`"
    );
    assert!(
        problem("tides").notes[0].starts_with("paths of modules begin with the name of a host")
    );
    assert_eq!(
        problem("isles.example/sea 1.0.0").message,
        "`1.0.0` is no requirement of versions of `isles.example/sea`"
    );
    assert_eq!(
        problem("isles.example/../work").message,
        "the registry `go` has no module `isles.example/../work`"
    );
    simple(&shop, "isles.example/moon", "v1.0.0", "go 1.21\n");
    assert_eq!(
        problem("isles.example/moon v2").notes,
        [
            "there is no isles.example/moon v2",
            "the newest isles.example/moon is v1.0.0"
        ]
    );
    let inside = problem("isles.example/moon/phases");
    assert_eq!(
        inside.mends,
        ["nubrik pins add go isles.example/moon   it may be a package of this module"]
    );
    shop.put("go/isles.example/fork/@v/list", b"v1.0.0\n");
    shop.put(
        "go/isles.example/fork/@v/v1.0.0.mod",
        b"module isles.example/moon\n",
    );
    let fork = problem("isles.example/fork");
    assert_eq!(
        fork.message,
        "isles.example/fork v1.0.0 says of itself that it is `isles.example/moon`"
    );
    shop.put("go/isles.example/moon/@v/v1.0.0.zip", b"no archive");
    assert!(
        problem("isles.example/moon")
            .message
            .starts_with("isles.example/moon v1.0.0: it is no archive of a module")
    );
    let other = archive("isles.example/other", "v1.0.0", &[("a.go", "")]);
    shop.put("go/isles.example/moon/@v/v1.0.0.zip", &other);
    assert!(
        problem("isles.example/moon")
            .message
            .contains("which is not below `isles.example/moon@v1.0.0/`")
    );
}

#[test]
fn a_server_is_asked_for_escaped_paths() {
    let manifest = b"module isles.example/Tides\n\ngo 1.21\n".to_vec();
    let bytes = archive(
        "isles.example/Tides",
        "v1.0.0",
        &[("a.go", "package tides\n")],
    );
    let place = "/isles.example/!tides/@v";
    let server = Server::new([
        (
            format!("{place}/list"),
            Answer::of("text/plain", b"v1.0.0\n"),
        ),
        (
            format!("{place}/v1.0.0.mod"),
            Answer::of("text/plain", &manifest),
        ),
        (
            format!("{place}/v1.0.0.zip"),
            Answer::of("application/zip", &bytes),
        ),
    ]);
    let mut shop = Shop::new();
    shop.addresses.insert(GO, server.address.clone());
    assert_eq!(
        shop.pinned(GO, &["isles.example/Tides"]).unwrap(),
        "isles.example/Tides@v1.0.0"
    );
    let short = Server::new([
        (
            format!("{place}/list"),
            Answer::of("text/plain", b"v1.0.0\n"),
        ),
        (
            format!("{place}/v1.0.0.mod"),
            Answer::of("text/plain", &manifest),
        ),
        (
            format!("{place}/v1.0.0.zip"),
            Answer::of("application/zip", &bytes[..40]),
        ),
    ]);
    let mut shop = Shop::new();
    shop.addresses.insert(GO, short.address.clone());
    assert!(
        shop.pinned(GO, &["isles.example/Tides"])
            .unwrap_err()
            .message
            .contains("no archive of a module")
    );
}
