//! Pins of Python's distributions, from a folder and from a server that lies.

use crate::server::{Answer, Server};
use crate::shop::{Shop, shelf, told, wheel};
use nubrik_pins::{Free, Registry};

const PYTHON: Registry = Registry::Python;

#[test]
fn the_newest_versions_that_fit_are_chosen() {
    let shop = Shop::new();
    shop.python("ebb", "1.0", &["Requires-Dist: flow>=1"]);
    shop.python("ebb", "2.0", &["Requires-Dist: flow>=1,<2"]);
    shop.python("ebb", "3.0rc1", &[]);
    shop.python("flow", "1.4", &[]);
    shop.python("flow", "2.0", &[]);
    assert_eq!(shop.pinned(PYTHON, &["ebb"]).unwrap(), "ebb@2.0 flow@1.4");
    assert_eq!(
        shop.pinned(PYTHON, &["ebb <2"]).unwrap(),
        "ebb@1.0 flow@2.0"
    );
    assert_eq!(
        shop.pinned(PYTHON, &["ebb ==3.0rc1"]).unwrap(),
        "ebb@3.0rc1"
    );
    // An older one of what is needed, if the newest does not go with what else is asked for.
    assert_eq!(
        shop.pinned(PYTHON, &["ebb", "flow >=2"]).unwrap(),
        "ebb@1.0 flow@2.0"
    );
}

#[test]
fn extras_and_markers_bring_in_what_holds_here() {
    let shop = Shop::new();
    let headers = [
        "Provides-Extra: charts",
        "Requires-Dist: paper ; extra == 'charts'",
        "Requires-Dist: wind ; sys_platform == 'win32'",
        "Requires-Dist: old ; python_version < '3.9'",
        "Requires-Dist: moon ; platform_machine == 'x86_64' and python_full_version >= '3.11.4'",
    ];
    shop.python("tides", "1.0", &headers);
    for name in ["paper", "wind", "old", "moon"] {
        shop.python(name, "1.0", &[]);
    }
    assert_eq!(
        shop.pinned(PYTHON, &["tides"]).unwrap(),
        "moon@1.0 tides@1.0"
    );
    assert_eq!(
        shop.pinned(PYTHON, &["tides[charts]"]).unwrap(),
        "moon@1.0 paper@1.0 tides@1.0"
    );
    let problem = shop.pinned(PYTHON, &["tides[maps]"]).unwrap_err();
    assert!(
        problem
            .notes
            .contains(&"tides[maps] 1.0: it has no extra `maps`; it has: charts".to_owned()),
        "{problem:?}"
    );
    // On several systems: what is only on one says so, and each need does.
    let two = shelf(PYTHON, &["linux-x86_64", "windows-x86_64"], &["tides"]);
    let settled = shop.settle(PYTHON, &two, &Free::Nothing).unwrap();
    assert_eq!(told(&settled), "moon@1.0 tides@1.0 wind@1.0");
    assert_eq!(settled.pins["wind@1.0"].on, ["windows-x86_64"]);
    assert_eq!(settled.pins["moon@1.0"].on, ["linux-x86_64"]);
    assert!(settled.pins["tides@1.0"].on.is_empty());
    let needs: Vec<(&str, usize)> = settled.pins["tides@1.0"]
        .needs
        .iter()
        .map(|n| (n.pin.as_str(), n.on.len()))
        .collect();
    assert_eq!(needs, [("moon@1.0", 1), ("wind@1.0", 1)]);
}

#[test]
fn a_wheel_is_chosen_for_each_system() {
    let shop = Shop::new();
    shop.python_for("gauge", "1.0", "cp311-cp311-manylinux_2_17_x86_64", &[]);
    shop.python_for("gauge", "1.0", "cp311-cp311-win_amd64", &[]);
    shop.python_for("gauge", "2.0", "cp312-cp312-manylinux_2_17_x86_64", &[]);
    let two = shelf(PYTHON, &["linux-x86_64", "windows-x86_64"], &["gauge"]);
    let settled = shop.settle(PYTHON, &two, &Free::Nothing).unwrap();
    let archives = &settled.pins["gauge@1.0"].archives;
    let told: Vec<(&str, &[String])> = archives
        .iter()
        .map(|a| (a.path.as_str(), a.on.as_slice()))
        .collect();
    assert_eq!(
        told,
        [
            (
                "gauge/gauge-1.0-cp311-cp311-manylinux_2_17_x86_64.whl",
                &["linux-x86_64".to_owned()][..]
            ),
            (
                "gauge/gauge-1.0-cp311-cp311-win_amd64.whl",
                &["windows-x86_64".to_owned()][..]
            ),
        ]
    );
    let problem = shop.pinned(PYTHON, &["gauge >=2"]).unwrap_err();
    let why = "gauge 2.0 has no wheel for this system (Python 3.11, linux-x86_64); the newest that fits is 1.0";
    assert!(problem.notes.contains(&why.to_owned()), "{problem:?}");
}

#[test]
fn what_is_pinned_stays_until_it_is_free() {
    let shop = Shop::new();
    shop.python("ebb", "1.0", &["Requires-Dist: flow"]);
    shop.python("flow", "1.0", &[]);
    let asked = shelf(PYTHON, &["linux-x86_64"], &["ebb"]);
    let first = shop.settle(PYTHON, &asked, &Free::Nothing).unwrap();
    shop.python("ebb", "1.1", &["Requires-Dist: flow"]);
    shop.python("flow", "1.1", &[]);
    let again = shop.settle(PYTHON, &first, &Free::Nothing).unwrap();
    assert_eq!(again, first);
    let names = Free::Names(["flow".to_owned()].into());
    assert_eq!(
        told(&shop.settle(PYTHON, &first, &names).unwrap()),
        "ebb@1.0 flow@1.1"
    );
    assert_eq!(
        told(&shop.settle(PYTHON, &first, &Free::Everything).unwrap()),
        "ebb@1.1 flow@1.1"
    );
}

#[test]
fn a_failure_says_who_wants_what_and_what_to_relax() {
    let shop = Shop::new();
    shop.python("ebb", "1.0", &["Requires-Dist: moon<2"]);
    shop.python("flow", "1.0", &["Requires-Dist: moon>=2"]);
    shop.python("flow", "0.9", &["Requires-Dist: moon"]);
    shop.python("moon", "1.0", &[]);
    shop.python("moon", "2.0", &[]);
    let problem = shop.pinned(PYTHON, &["ebb", "flow >=1"]).unwrap_err();
    assert_eq!(problem.message, "no versions fit together");
    for fact in [
        "ebb 1.0 needs moon <2",
        "you ask for ebb",
        "you ask for flow >=1",
    ] {
        assert!(
            problem.notes.iter().any(|note| note == fact),
            "{fact}: {problem:?}"
        );
    }
    assert!(
        problem
            .notes
            .iter()
            .any(|note| note.starts_with("flow") && note.ends_with("needs moon >=2")),
        "{problem:?}"
    );
    assert_eq!(
        problem.mends,
        ["nubrik pins add python flow \"…\"   without its \">=1\", flow 0.9 fits all others"]
    );
    assert_eq!(
        shop.pinned(PYTHON, &["eb"]).unwrap_err().message,
        "the registry `python` has no `eb`"
    );
    let problem = shop.pinned(PYTHON, &["ebb 1.0"]).unwrap_err();
    assert_eq!(problem.mends, ["\"==1.0\"", "\">=1.0\""]);
    assert!(
        shop.pinned(PYTHON, &["ebb ~~1"])
            .unwrap_err()
            .message
            .contains("is no requirement")
    );
}

#[test]
fn packages_may_need_one_another() {
    let shop = Shop::new();
    shop.python("ebb", "1.0", &["Requires-Dist: flow"]);
    shop.python("flow", "1.0", &["Requires-Dist: ebb"]);
    assert_eq!(shop.pinned(PYTHON, &["ebb"]).unwrap(), "ebb@1.0 flow@1.0");
}

/// A server with one package: its page as HTML or JSON, and its wheel.
fn lying(page: impl Fn(&str, &[u8]) -> Answer, file: impl Fn(&[u8]) -> Answer) -> (Shop, Server) {
    let bytes = wheel("ebb", "1.0", &[]);
    let sum = nubrik_web::Checksum::of(nubrik_web::ChecksumMethod::Sha256, &bytes);
    let page = page(sum.trim_start_matches("sha256:"), &bytes);
    let server = Server::new([
        ("/simple/ebb/".to_owned(), page),
        ("/files/ebb-1.0-py3-none-any.whl".to_owned(), file(&bytes)),
    ]);
    let mut shop = Shop::new();
    shop.addresses
        .insert(PYTHON, format!("{}/simple", server.address));
    (shop, server)
}

fn html(attributes: &str) -> Answer {
    let text = format!(
        "<html><a href=\"../../files/ebb-1.0-py3-none-any.whl{attributes}\">ebb</a></html>"
    );
    Answer::of("text/html", text.as_bytes())
}

fn whole(bytes: &[u8]) -> Answer {
    Answer::of("application/octet-stream", bytes)
}

#[test]
fn pages_in_html_and_json_say_the_same() {
    let (shop, _server) = lying(|sum, _| html(&format!("#sha256={sum}")), whole);
    assert_eq!(shop.pinned(PYTHON, &["ebb"]).unwrap(), "ebb@1.0");
    let json = |sum: &str, bytes: &[u8]| {
        let file = format!(
            r#"{{"filename": "ebb-1.0-py3-none-any.whl", "url": "/files/ebb-1.0-py3-none-any.whl", "hashes": {{"sha256": "{sum}"}}, "size": {}, "requires-python": ">=3.8", "yanked": false}}"#,
            bytes.len()
        );
        Answer::of(
            "application/vnd.pypi.simple.v1+json",
            format!(r#"{{"files": [{file}]}}"#).as_bytes(),
        )
    };
    let (shop, server) = lying(json, whole);
    let settled = shop
        .settle(
            PYTHON,
            &shelf(PYTHON, &["linux-x86_64"], &["ebb"]),
            &Free::Nothing,
        )
        .unwrap();
    assert_eq!(told(&settled), "ebb@1.0");
    assert_eq!(
        settled.pins["ebb@1.0"].archives[0].path,
        "ebb/ebb-1.0-py3-none-any.whl"
    );
    // A second run takes the archive from where it is kept.
    let before = server.asked("/files/ebb-1.0-py3-none-any.whl");
    shop.settle(PYTHON, &settled, &Free::Nothing).unwrap();
    assert_eq!(
        (before, server.asked("/files/ebb-1.0-py3-none-any.whl")),
        (1, 1)
    );
    let (shop, _server) = lying(|_, _| html("\" data-yanked=\"broken"), whole);
    assert!(
        shop.pinned(PYTHON, &["ebb"]).is_err(),
        "what is withdrawn is not chosen"
    );
    let (shop, _server) = lying(|_, _| html("\" data-requires-python=\"&gt;=3.12"), whole);
    assert!(
        shop.pinned(PYTHON, &["ebb"]).is_err(),
        "what needs another Python is not chosen"
    );
}

#[test]
fn what_is_not_what_the_registry_says_is_never_kept() {
    let zeros = "0".repeat(64);
    let (shop, _server) = lying(|_, _| html(&format!("#sha256={zeros}")), whole);
    let problem = shop.pinned(PYTHON, &["ebb"]).unwrap_err();
    assert_eq!(
        problem.message,
        "ebb 1.0: its digest is not the one that its registry says"
    );
    assert_eq!(kept(&shop), 0);
    let (shop, _server) = lying(
        |sum, _| html(&format!("#sha256={sum}")),
        |b| whole(&b[..b.len() - 9]).claiming(b.len()),
    );
    assert_eq!(
        shop.pinned(PYTHON, &["ebb"]).unwrap_err().message,
        "ebb 1.0: the transfer broke off"
    );
    assert_eq!(kept(&shop), 0);
    // Where there is no digest the size is all that says so.
    let sized = |_: &str, bytes: &[u8]| {
        let wheel = "ebb-1.0-py3-none-any.whl";
        let file = format!(
            r#"{{"filename": "{wheel}", "url": "/files/{wheel}", "hashes": {{}}, "size": {}}}"#,
            bytes.len() + 1
        );
        Answer::of(
            "application/vnd.pypi.simple.v1+json",
            format!(r#"{{"files": [{file}]}}"#).as_bytes(),
        )
    };
    let (shop, _server) = lying(sized, whole);
    let problem = shop.pinned(PYTHON, &["ebb"]).unwrap_err();
    assert!(
        problem.message.contains("bytes, and its registry says"),
        "{}",
        problem.message
    );
    assert_eq!(kept(&shop), 0);
    // Of a weak digest a strong one is made, after the weak one was compared with it.
    let sha1 = |b: &[u8]| {
        nubrik_web::Checksum::of(nubrik_web::ChecksumMethod::Sha1, b).replace("sha1:", "#sha1=")
    };
    let (shop, _server) = lying(|_, bytes| html(&sha1(bytes)), whole);
    let settled = shop
        .settle(
            PYTHON,
            &shelf(PYTHON, &["linux-x86_64"], &["ebb"]),
            &Free::Nothing,
        )
        .unwrap();
    assert!(
        settled.pins["ebb@1.0"].archives[0]
            .digest
            .starts_with("sha256:")
    );
    let (shop, _server) = lying(|_, _| html(&format!("#sha1={}", "0".repeat(40))), whole);
    assert!(
        shop.pinned(PYTHON, &["ebb"])
            .unwrap_err()
            .message
            .contains("its digest is not")
    );
    let (shop, _server) = lying(|_, _| html(&format!("#md5={}", "0".repeat(32))), whole);
    assert!(
        shop.pinned(PYTHON, &["ebb"])
            .unwrap_err()
            .message
            .contains("its digest is not")
    );
    // One by a method that is not known here says nothing, and is not passed over.
    let (shop, _server) = lying(|_, _| html(&format!("#sha3_256={zeros}")), whole);
    assert!(
        shop.pinned(PYTHON, &["ebb"])
            .unwrap_err()
            .message
            .contains("by `sha3_256`, which cannot be compared")
    );
    let (shop, _server) = lying(|_, _| html("#egg=ebb"), whole);
    assert!(
        shop.settle(
            PYTHON,
            &shelf(PYTHON, &["linux-x86_64"], &["ebb"]),
            &Free::Nothing
        )
        .is_ok()
    );
    let (shop, _server) = lying(|_, _| html(""), |_| whole(b"no zip"));
    assert!(
        shop.pinned(PYTHON, &["ebb"])
            .unwrap_err()
            .message
            .starts_with("ebb 1.0: it is not a wheel")
    );
    let (shop, _server) = lying(|_, _| Answer::of("text/html", b"").status(401), whole);
    let problem = shop.pinned(PYTHON, &["ebb"]).unwrap_err();
    assert!(
        problem.message.contains("it wants a credential") && problem.mends[0].contains("secret"),
        "{problem:?}"
    );
    let (shop, _server) = lying(|_, _| Answer::of("application/json", b"{"), whole);
    assert!(
        shop.pinned(PYTHON, &["ebb"])
            .unwrap_err()
            .message
            .contains("is no index")
    );
}

fn kept(shop: &Shop) -> usize {
    std::fs::read_dir(shop.folder.path().join("work/.nubrik/archives"))
        .map_or(0, |entries| entries.count())
}
