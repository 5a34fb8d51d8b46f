//! Other people's code, pinned through the built program, from registries in folders.

use std::fs;
use std::io::Write;
use std::os::unix::fs::PermissionsExt;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use crate::sandbox::Sandbox;
use nubrik_testing::{Need, skip};

const SETTINGS: &str = "[origins]\npython = \"registry\"\n";

/// Puts a wheel into the registry: a module that says its version.
fn publish(sandbox: &Sandbox, name: &str, version: &str, headers: &[&str]) {
    let mut archive = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    let options = zip::write::SimpleFileOptions::default();
    archive.start_file(format!("{name}.py"), options).unwrap();
    writeln!(archive, "version = '{version}'").unwrap();
    archive
        .start_file(format!("{name}-{version}.dist-info/METADATA"), options)
        .unwrap();
    let more: String = headers.iter().map(|header| format!("{header}\n")).collect();
    writeln!(
        archive,
        "Metadata-Version: 2.1\nName: {name}\nVersion: {version}\nLicense: MIT\n{more}"
    )
    .unwrap();
    let bytes = archive.finish().unwrap().into_inner();
    let folder = sandbox.folder.join("registry").join(name);
    fs::create_dir_all(&folder).unwrap();
    fs::write(
        folder.join(format!("{name}-{version}-py3-none-any.whl")),
        bytes,
    )
    .unwrap();
}

/// A workspace with a registry: `ebb` needs `flow`.
fn workspace() -> Sandbox {
    let sandbox = Sandbox::new(&[("nubrik.toml", SETTINGS)]);
    publish(&sandbox, "ebb", "1.0", &["Requires-Dist: flow"]);
    publish(&sandbox, "moon", "1.0", &[]);
    publish(&sandbox, "flow", "0.9", &[]);
    publish(&sandbox, "flow", "1.0", &[]);
    sandbox
}

const PIN: [&str; 6] = ["pins", "add", "python", "ebb", "--python", "3.11"];

#[test]
fn a_package_is_pinned_with_what_it_needs_and_unpinned() {
    let sandbox = workspace();
    let run = sandbox
        .run(&PIN)
        .expect(0)
        .says("pins.toml: 2 pins, 2 new")
        .says("python.pinned(\"ebb\")");
    assert!(
        run.stdout.contains("ebb 1.0") && run.stdout.contains("ebb@1.0 needs it"),
        "{}",
        run.stdout
    );
    let text = sandbox.read("pins.toml");
    assert!(
        text.contains("[python.pins.\"flow@1.0\"]")
            && text.contains("path = \"ebb/ebb-1.0-py3-none-any.whl\""),
        "{text}"
    );
    // Where the registry is stays with this machine.
    assert!(
        !text.contains("registry/") && !text.contains("file:"),
        "{text}"
    );
    sandbox
        .run(&["pins", "settle"])
        .expect(0)
        .says("pins.toml: 2 pins, nothing changed");
    assert_eq!(sandbox.read("pins.toml"), text);
    sandbox
        .run(&["pins", "why", "flow"])
        .expect(0)
        .says("ebb@1.0 → flow@1.0")
        .says("MIT");
    sandbox
        .run(&["pins", "drop", "python", "flow"])
        .expect(2)
        .says("it is there because of: ebb@1.0 → flow@1.0");
    sandbox
        .run(&["pins", "add", "python", "flow", "<1"])
        .expect(0)
        .says("flow 1.0 → 0.9")
        .says("you ask for <1");
    sandbox
        .run(&["pins", "newer"])
        .expect(0)
        .says("flow 0.9")
        .says("1.0 is there, and you ask for <1");
    sandbox
        .run(&["pins", "drop", "python", "flow"])
        .expect(0)
        .says("flow@0.9 stays: ebb@1.0 needs it");
    sandbox
        .run(&["pins", "newer"])
        .expect(1)
        .says("flow 0.9 → 1.0");
    sandbox
        .run(&["pins", "update", "flow"])
        .expect(0)
        .says("flow 0.9 → 1.0");
    assert_eq!(sandbox.read("pins.toml"), text);
    sandbox
        .run(&["pins", "drop", "python", "Ebb"])
        .expect(0)
        .says("0 pins, 2 gone");
    assert!(!sandbox.folder.join("pins.toml").exists());
}

#[test]
fn mistakes_are_answered_with_a_mend() {
    let sandbox = workspace();
    sandbox
        .run(&["pins", "settle"])
        .expect(2)
        .says("nothing is pinned yet")
        .says("nubrik pins add python NAME");
    sandbox
        .run(&["pins", "add", "pyton", "ebb"])
        .expect(2)
        .says("no registry is called `pyton`")
        .says("nubrik pins add python …");
    sandbox
        .run(&["pins", "add", "python"])
        .expect(2)
        .says("which package of python?");
    let go = |more: &[&str]| {
        sandbox
            .run(&[&["pins", "add", "go", "isles.example/tides"], more].concat())
            .expect(2)
    };
    go(&["--with", "deep"])
        .says("what comes from `go` has no features")
        .says("nubrik pins add go isles.example/tides");
    go(&["--without-defaults"]).says("has no default features");
    go(&["--file", "tides-{version}.zip"]).says("says itself how its archives are called");
    sandbox
        .run(&["pins", "add", "python", "ebb>=1"])
        .expect(2)
        .says("ebb \">=1\"");
    sandbox
        .run(&["pins", "add", "python", "eb", "--python", "3.11"])
        .expect(1)
        .says("the registry `python` has no `eb`");
    sandbox
        .run(&["pins", "add", "rust", "serde"])
        .expect(1)
        .says("no address of the registry `rust` is known");
    sandbox.run(&["pin", "--python", "3.11"]).expect(2);
    sandbox.run(&PIN).expect(0);
    sandbox
        .run(&["pins", "drop", "python", "ebbb"])
        .expect(2)
        .says("nubrik pins drop python ebb");
    sandbox
        .run(&["pins", "why", "flo"])
        .expect(2)
        .says("nubrik pins why flow");
    sandbox
        .run(&["pins", "update", "flo"])
        .expect(2)
        .says("nubrik pins update flow");
    let text = sandbox.read("pins.toml");
    sandbox.write(
        "pins.toml",
        &text.replace("[python.pins.\"flow@1.0\"]", "[python.pins.\"flow@7\"]"),
    );
    sandbox
        .run(&["pins", "settle"])
        .expect(3)
        .says("needs \"flow@1.0\", which is not there");
    sandbox.run(&["pins", "update"]).expect(0);
    assert_eq!(sandbox.read("pins.toml"), text);
    sandbox.write("pins.toml", &format!("<<<<<<< ours\n{text}"));
    sandbox
        .run(&["pins", "settle"])
        .expect(3)
        .says("pins.toml has marks of a merge in it");
}

const FETCHES: &str = "\
let shelf = pins_of(\"python\")
target wheels = {each id, pin in shelf.pins where pin.name != \"moon\" give pin.name: fetch { url = \"origin://python/{pin.archives.first.path}\", digest = pin.archives.first.digest }}
";

/// A registry that has nothing, and how many requests it heard.
fn empty_registry() -> (String, Arc<AtomicUsize>) {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let at = format!("http://{}/", listener.local_addr().unwrap());
    let heard = Arc::new(AtomicUsize::new(0));
    let counted = heard.clone();
    std::thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            let mut line = String::new();
            let _ = std::io::BufRead::read_line(&mut std::io::BufReader::new(&stream), &mut line);
            counted.fetch_add(1, Ordering::SeqCst);
            let _ = stream.write_all(
                b"HTTP/1.1 404 Not Found\r\nContent-Length: 0\r\nConnection: close\r\n\r\n",
            );
        }
    });
    (at, heard)
}

#[test]
fn a_build_and_gathering_ask_the_origin_alone_that_a_package_is_pinned_from() {
    let sandbox = workspace();
    sandbox.write("targets.nub", FETCHES);
    let own = |at: &str| format!("{{ url = \"{at}\", name = \"company\" }}");
    sandbox.write(
        "nubrik.toml",
        &format!("[origins]\npython = {}\n", own("registry")),
    );
    sandbox.run(&PIN).expect(0);
    let ((company, asked), (public, overheard)) = (empty_registry(), empty_registry());
    let origins = format!("[origins]\npython = [{}, \"{public}\"]\n", own(&company));
    sandbox.write("nubrik.toml", &origins);
    fs::remove_dir_all(sandbox.folder.join(".nubrik/archives")).unwrap();
    sandbox.run(&["build"]).expect(1).says("has no `flow/");
    assert_ne!(asked.load(Ordering::SeqCst), 0);
    sandbox
        .run(&["pins", "vendor", "vendor"])
        .expect(1)
        .says("has no `ebb/");
    assert_eq!(overheard.load(Ordering::SeqCst), 0);
    // A package that nothing binds is asked for everywhere.
    fs::remove_file(sandbox.folder.join("pins.toml")).unwrap();
    sandbox.run(&["pins", "add", "python", "moon"]).expect(1);
    assert_ne!(overheard.load(Ordering::SeqCst), 0);
}

#[test]
fn a_gathered_folder_is_all_that_a_build_needs() {
    let sandbox = workspace();
    sandbox.write("targets.nub", FETCHES);
    sandbox
        .run(&["build"])
        .expect(3)
        .says("nothing is pinned from the registry `python`")
        .says("nubrik pins add python NAME");
    sandbox.run(&PIN).expect(0);
    sandbox.run(&["build"]).expect(0);
    sandbox.run(&["pins", "add", "python", "moon"]).expect(0);
    let listed = sandbox
        .run(&["pins"])
        .expect(0)
        .says("1 of what is asked for");
    assert!(
        listed.stdout.contains("used    ebb 1.0") && listed.stdout.contains("unused  moon 1.0"),
        "{}",
        listed.stdout
    );
    sandbox.run(&["pins", "drop", "python", "moon"]).expect(0);
    sandbox
        .run(&["pins", "vendor", "vendor"])
        .expect(0)
        .says("2 archives")
        .says("2 new");
    sandbox
        .run(&["pins", "vendor", "vendor"])
        .expect(0)
        .says("0 new");
    let fresh = Sandbox::new(&[
        ("nubrik.toml", "[origins]\nmirror = \"vendor\"\n"),
        ("targets.nub", FETCHES),
        ("pins.toml", &sandbox.read("pins.toml")),
    ]);
    for path in [
        "vendor/python/ebb/ebb-1.0-py3-none-any.whl",
        "vendor/python/flow/flow-1.0-py3-none-any.whl",
    ] {
        fs::create_dir_all(fresh.folder.join(path).parent().unwrap()).unwrap();
        fs::copy(sandbox.folder.join(path), fresh.folder.join(path)).unwrap();
    }
    // The folder is no network.
    fresh.run(&["build", "--offline"]).expect(0);
    // An archive that somebody changed is never used, and what is missing is named.
    fs::write(
        fresh
            .folder
            .join("vendor/python/ebb/ebb-1.0-py3-none-any.whl"),
        "another",
    )
    .unwrap();
    fresh.run(&["clean", "--cache"]).expect(0);
    fresh.run(&["build"]).expect(1).says("digest mismatch");
    fs::remove_file(
        fresh
            .folder
            .join("vendor/python/ebb/ebb-1.0-py3-none-any.whl"),
    )
    .unwrap();
    fresh
        .run(&["build"])
        .expect(1)
        .says("the registry `python` has no `ebb/ebb-1.0-py3-none-any.whl` any more");
}

#[test]
fn a_bill_of_materials_has_what_is_in_a_target_and_nothing_else() {
    let sandbox = workspace();
    let one = FETCHES.replace("pin.name != \"moon\"", "pin.name == \"ebb\"");
    sandbox.write(
        "targets.nub",
        &format!("{one}target own = write {{ path = \"own\", text = \"x\" }}\n"),
    );
    sandbox.run(&PIN).expect(0);
    let bill = |args: &[&str]| -> serde_json::Value {
        let run = sandbox.run(&[&["sbom"], args].concat()).expect(0);
        serde_json::from_str(&run.stdout).unwrap()
    };
    let whole = bill(&["wheels"]);
    assert_eq!(whole["bomFormat"], "CycloneDX");
    assert_eq!(whole["components"].as_array().unwrap().len(), 1);
    let component = &whole["components"][0];
    assert_eq!(component["purl"], "pkg:pypi/ebb@1.0");
    assert_eq!(component["licenses"][0]["license"]["name"], "MIT");
    assert_eq!(
        component["hashes"][0]["content"].as_str().unwrap().len(),
        64
    );
    assert!(bill(&["own"])["components"].as_array().unwrap().is_empty());
    sandbox.write("targets.nub", FETCHES);
    assert_eq!(
        bill(&["wheels"])["dependencies"][0]["dependsOn"][0],
        "pkg:pypi/flow@1.0"
    );
    let spdx = bill(&["wheels", "--format", "spdx"]);
    assert_eq!(
        (
            spdx["spdxVersion"].as_str(),
            spdx["packages"].as_array().unwrap().len()
        ),
        (Some("SPDX-2.3"), 3)
    );
    sandbox
        .run(&["sbom", "wheels", "--output", "bill.json"])
        .expect(0);
    let written: serde_json::Value = serde_json::from_str(&sandbox.read("bill.json")).unwrap();
    assert_eq!(written, bill(&["wheels"]));
    sandbox.run(&["sbom", "whels"]).expect(2);
}

#[test]
fn pins_of_other_systems_are_no_pins_for_this_one() {
    let sandbox = workspace();
    sandbox.write("targets.nub", FETCHES);
    sandbox.run(&PIN).expect(0);
    let own = format!("{}-{}", std::env::consts::OS, std::env::consts::ARCH);
    let text = sandbox.read("pins.toml").replace(&own, "windows-x86_64");
    sandbox.write("pins.toml", &text);
    let mend = format!("nubrik pins add python --system {own}");
    sandbox
        .run(&["build"])
        .expect(3)
        .says("the pins of `python` are for windows-x86_64, and this is")
        .says(&mend);
    sandbox
        .run(&["pins", "add", "python", "--system", &own])
        .expect(0);
    sandbox.run(&["build"]).expect(0);
}

#[test]
fn a_program_imports_what_is_pinned() {
    let found = std::process::Command::new("python3")
        .args(["-c", "import sys; print('%d.%d' % sys.version_info[:2])"])
        .output();
    let Some(version) = found
        .ok()
        .and_then(|output| String::from_utf8(output.stdout).ok())
    else {
        skip(Need::Python, "python3 is not here");
        return;
    };
    let sandbox = workspace();
    sandbox.write(
        "src/almanac.py",
        "import ebb, flow\n\n\ndef run():\n    print('ebb', ebb.version, 'flow', flow.version)\n",
    );
    let package = "use \"nub:python\" as python\n\ntarget almanac = python.package { name = \"almanac\", version = \"1\", root = \"src\", sources = \"src/*.py\", needs = [python.pinned(\"Ebb\")] }\n\ntarget show = python.program { entry_point = \"almanac:run\", needs = [almanac] }\n";
    sandbox.write("targets.nub", package);
    sandbox
        .run(&["pins", "add", "python", "ebb", "--python", version.trim()])
        .expect(0);
    sandbox
        .run(&["run", "show"])
        .expect(0)
        .says("ebb 1.0 flow 1.0");
    sandbox
        .run(&["show", "flow@1.0"])
        .expect(0)
        .says("ebb@1.0 → flow@1.0")
        .says("targets.nub:3");
    publish(&sandbox, "flow", "1.1", &[]);
    sandbox.run(&["pins", "update"]).expect(0);
    sandbox
        .run(&["run", "show"])
        .expect(0)
        .says("ebb 1.0 flow 1.1");
    sandbox.write("targets.nub", &package.replace("\"Ebb\"", "\"eb\""));
    sandbox
        .run(&["build"])
        .expect(3)
        .says("`eb` is not pinned: `nubrik pins add python eb`");
    sandbox.write("targets.nub", package);
    sandbox
        .run(&["pins", "add", "python", "--python", "3.7"])
        .expect(0);
    sandbox
        .run(&["build"])
        .expect(3)
        .says("the pins are for Python 3.7");
}

#[test]
fn a_plain_archive_comes_from_a_site_that_the_settings_name() {
    let sandbox = Sandbox::new(&[]);
    sandbox.write("moon/phase.txt", "full\n");
    sandbox.write(
        "targets.nub",
        "target made = pack { path = \"moon-1.2.tar\", prefix = \"moon-1.2\", files = \"moon/phase.txt\" }\n",
    );
    sandbox.run(&["build"]).expect(0);
    fs::create_dir(sandbox.folder.join("site")).unwrap();
    fs::copy(
        sandbox.folder.join("out/default/made/moon-1.2.tar"),
        sandbox.folder.join("site/moon-1.2.tar"),
    )
    .unwrap();
    let pin = [
        "pins",
        "add",
        "archive",
        "moon",
        "--file",
        "moon-{version}.tar",
    ];
    sandbox
        .run(&pin)
        .expect(1)
        .says("no address of the registry `archive` is known")
        .says("[origins.archive]");
    sandbox.write("nubrik.toml", "[origins.archive]\nmoon = \"site\"\n");
    sandbox
        .run(&["pins", "add", "archive", "moon"])
        .expect(1)
        .says("how the archives of `moon` are called");
    sandbox
        .run(&[
            "pins",
            "add",
            "archive",
            "sun",
            "--file",
            "sun-{version}.tar",
        ])
        .expect(1)
        .says("nothing says where");
    sandbox
        .run(&pin)
        .expect(0)
        .says("moon 1.2")
        .says("archives.pinned(\"moon\")");
    let uses = "use \"nub:archives\" as archives\ntarget moon = archives.unpacked { name = \"moon\" }\ntarget phase = step { run = `cp {moon.tree / \"phase.txt\"} {out \"phase\"}` }\n";
    sandbox.write("targets.nub", uses);
    sandbox.run(&["build"]).expect(0);
    assert_eq!(sandbox.read("out/default/phase"), "full\n");
    fs::copy(
        sandbox.folder.join("site/moon-1.2.tar"),
        sandbox.folder.join("site/moon-1.3.tar"),
    )
    .unwrap();
    sandbox
        .run(&["pins", "settle"])
        .expect(0)
        .says("nothing changed");
    sandbox
        .run(&["pins", "update"])
        .expect(0)
        .says("moon 1.2 → 1.3");
    sandbox
        .run(&[
            "pins",
            "add",
            "archive",
            "moon",
            "--system",
            "linux-aarch64",
        ])
        .expect(2)
        .says("is the same on all systems");
    sandbox.write("targets.nub", &uses.replace("\"moon\" }", "\"mon\" }"));
    sandbox
        .run(&["build"])
        .expect(3)
        .says("`mon` is not pinned: `nubrik pins add archive mon`");
}

#[test]
fn what_somebody_else_pins_meanwhile_is_not_lost() {
    let sandbox = workspace();
    sandbox
        .run(&["pins", "add", "python", "moon", "--python", "3.11"])
        .expect(0);
    let wheels = ["flow", "moon"].map(|name| {
        let file = format!("{name}-1.0-py3-none-any.whl");
        let bytes = fs::read(sandbox.folder.join("registry").join(name).join(&file)).unwrap();
        (file, bytes)
    });
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    sandbox.write(
        "nubrik.toml",
        &format!(
            "[origins]\npython = \"http://{}/\"\n",
            listener.local_addr().unwrap()
        ),
    );
    let pins = sandbox.folder.join("pins.toml");
    let other = format!(
        "{}\n# pinned by somebody else\n",
        fs::read_to_string(&pins).unwrap()
    );
    let asked_for = pins.clone();
    let answer = other.clone();
    std::thread::spawn(move || {
        while let Ok((mut stream, _)) = listener.accept() {
            let mut line = String::new();
            std::io::BufRead::read_line(
                &mut std::io::BufReader::new(stream.try_clone().unwrap()),
                &mut line,
            )
            .unwrap();
            fs::write(&asked_for, &answer).unwrap();
            let page = b"<a href=\"flow-1.0-py3-none-any.whl\">flow</a> <a href=\"moon-1.0-py3-none-any.whl\">moon</a>".to_vec();
            let wheel = wheels.iter().find(|(file, _)| line.contains(file.as_str()));
            let body = wheel.map_or(page, |(_, bytes)| bytes.clone());
            let head = format!(
                "HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
                body.len()
            );
            let _ = stream
                .write_all(head.as_bytes())
                .and_then(|()| stream.write_all(&body));
        }
    });
    sandbox
        .run(&["pins", "add", "python", "flow"])
        .expect(1)
        .says("pins.toml was changed by someone else in the meantime");
    assert_eq!(fs::read_to_string(&pins).unwrap(), other);
}

/// Puts a module of Go into the proxy.
fn publish_module(
    sandbox: &Sandbox,
    path: &str,
    version: &str,
    needs: &str,
    files: &[(&str, &str)],
) {
    let escaped: String = path
        .chars()
        .flat_map(|c| {
            [
                c.is_ascii_uppercase().then_some('!'),
                Some(c.to_ascii_lowercase()),
            ]
        })
        .flatten()
        .collect();
    let folder = sandbox.folder.join("proxy").join(escaped).join("@v");
    fs::create_dir_all(&folder).unwrap();
    let manifest = format!("module {path}\n\ngo 1.17\n{needs}");
    let mut archive = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    let options = zip::write::SimpleFileOptions::default();
    for (name, text) in files.iter().chain(&[("go.mod", manifest.as_str())]) {
        archive
            .start_file(format!("{path}@{version}/{name}"), options)
            .unwrap();
        archive.write_all(text.as_bytes()).unwrap();
    }
    fs::write(
        folder.join(format!("{version}.zip")),
        archive.finish().unwrap().into_inner(),
    )
    .unwrap();
    fs::write(folder.join(format!("{version}.mod")), &manifest).unwrap();
    let list = fs::read_to_string(folder.join("list")).unwrap_or_default();
    fs::write(folder.join("list"), format!("{list}{version}\n")).unwrap();
}

/// A workspace with a proxy: `Tides` needs `moon`, for one of its packages.
fn with_modules() -> Sandbox {
    let main = "package main\n\nimport (\n\t\"fmt\"\n\t\"isles.example/Tides\"\n)\n\nfunc main() { fmt.Println(tides.High()) }\n";
    let test = "package main\n\nimport (\n\t\"testing\"\n\t\"isles.example/moon/phases\"\n)\n\nfunc TestPhases(t *testing.T) {\n\tif phases.Full != \"full\\n\" {\n\t\tt.Fatal(phases.Full)\n\t}\n}\n";
    let sandbox = Sandbox::new(&[
        ("nubrik.toml", "[origins]\ngo = \"proxy\"\n"),
        ("module/main.go", main),
        ("module/main_test.go", test),
        (
            "targets.nub",
            "use \"nub:go\" as go\n\
             target app = go.library { path = \"isles.example/app\", root = \"module\", sources = \"module/*.go\", needs = [go.pinned(\"isles.example/Tides\")] }\n\
             target show = go.program { package = \"isles.example/app\", module = app }\n\
             target theirs = go.program { package = \"isles.example/Tides/cmd/tide\", module = go.pinned(\"isles.example/Tides\") }\n\
             test unit = go.tests { package = \"isles.example/app\", module = app, needs = [go.pinned(\"isles.example/moon\")] }\n",
        ),
    ]);
    let phases = "package phases\n\nimport _ \"embed\"\n\n//go:embed full.txt\nvar Full string\n";
    let moon = [
        ("phases/phases.go", phases),
        ("phases/full.txt", "full\n"),
        (
            "odd/odd.go",
            "package odd\n\nimport \"isles.example/lost\"\n",
        ),
        (
            "torn/torn.go",
            "package torn\n\nimport _ \"embed\"\n\n//go:embed nothing.txt\nvar Nothing string\n",
        ),
    ];
    publish_module(&sandbox, "isles.example/moon", "v0.9.0", "", &moon);
    publish_module(&sandbox, "isles.example/moon", "v1.0.0", "", &moon);
    let tides = [
        (
            "tides.go",
            "package tides\n\nimport \"isles.example/moon/phases\"\n\nfunc High() string { return \"high water, \" + phases.Full }\n",
        ),
        ("tides_windows.go", "package tides\n\nfunc low() {}\n"),
        (
            "tides_test.go",
            "package tides\n\nimport \"isles.example/never\"\n",
        ),
        (
            "cmd/tide/main.go",
            "package main\n\nimport \"isles.example/Tides\"\n\nfunc main() { print(tides.High()) }\n",
        ),
        ("windows/w_windows.go", "package windows\n"),
    ];
    publish_module(
        &sandbox,
        "isles.example/Tides",
        "v1.2.0",
        "require isles.example/moon v0.9.0\n",
        &tides,
    );
    sandbox
}

#[test]
fn modules_of_go_are_compiled_out_of_their_archives() {
    if std::process::Command::new("go")
        .arg("version")
        .output()
        .is_err()
    {
        skip(Need::Kits, "there is no go");
        return;
    }
    let sandbox = with_modules();
    sandbox
        .run(&["build"])
        .expect(3)
        .says("nubrik pins add go NAME");
    let run = sandbox
        .run(&["pins", "add", "go", "isles.example/Tides"])
        .expect(0);
    run.says("go.pinned(\"isles.example/Tides\")")
        .says("isles.example/moon v0.9.0");
    sandbox
        .run(&["test"])
        .expect(3)
        .says("`isles.example/moon` is not pinned: `nubrik pins add go isles.example/moon`");
    sandbox
        .run(&["pins", "add", "go", "isles.example/moon", ">=v0.9.0"])
        .expect(0);
    assert!(
        sandbox
            .read("pins.toml")
            .contains("path = \"isles.example/!tides/@v/v1.2.0.zip\"")
    );
    sandbox.run(&["build"]).expect(0);
    sandbox
        .run(&["run", "-q", "show"])
        .expect(0)
        .says("high water, full");
    sandbox.run(&["build", "theirs"]).expect(0);
    sandbox.run(&["test"]).expect(0);
    // An edit of one's own sources compiles nothing of other people's.
    sandbox.write("module/more.go", "package main\n\nfunc more() {}\n");
    let again = sandbox.run(&["build", "show"]).expect(0);
    assert!(!again.stdout.contains("Tides"), "{}", again.stdout);
    sandbox.run(&["pins"]).expect(0).says("isles.example/moon");
    sandbox
        .run(&["pins", "newer"])
        .expect(0)
        .says("v1.0.0 is there, and of >=v0.9.0 the oldest that will do is taken");
    // What cannot be used is reported where somebody uses it.
    let import = |path: &str| format!("package main\n\nimport _ \"{path}\"\n");
    sandbox.write("module/more.go", &import("isles.example/Tides/windows"));
    sandbox
        .run(&["build", "show"])
        .expect(3)
        .says("none of its sources counts here");
    sandbox.write("module/more.go", &import("isles.example/moon/phases"));
    sandbox
        .run(&["build", "show"])
        .expect(3)
        .says("not in what it needs: `isles.example/Tides`");
    let targets = sandbox.read("targets.nub");
    let with_moon = targets.replace(
        "needs = [go.pinned(\"isles.example/Tides\")]",
        "needs = [go.pinned(\"isles.example/Tides\"), go.pinned(\"isles.example/moon\")]",
    );
    sandbox.write("targets.nub", &with_moon);
    sandbox.run(&["build", "show"]).expect(0);
    sandbox.write("module/more.go", &import("isles.example/moon/odd"));
    sandbox
        .run(&["build", "show"])
        .expect(3)
        .says("it imports `isles.example/lost`, which is not pinned");
    // What is wrong with one package is no matter for those who use others.
    sandbox.write("module/more.go", &import("isles.example/moon/torn"));
    sandbox
        .run(&["build", "show"])
        .expect(3)
        .says("//go:embed nothing.txt: no file fits");
}

#[test]
fn gathered_modules_of_go_are_all_that_a_build_needs() {
    if std::process::Command::new("go")
        .arg("version")
        .output()
        .is_err()
    {
        skip(Need::Kits, "there is no go");
        return;
    }
    let sandbox = with_modules();
    sandbox
        .run(&["pins", "add", "go", "isles.example/Tides"])
        .expect(0);
    sandbox.run(&["pins", "vendor", "kept"]).expect(0);
    fs::remove_dir_all(sandbox.folder.join("proxy")).unwrap();
    fs::remove_dir_all(sandbox.folder.join(".nubrik")).unwrap();
    sandbox.write("nubrik.toml", "[origins]\nmirror = \"kept\"\n");
    sandbox
        .run(&["run", "-q", "show", "--offline"])
        .expect(0)
        .says("high water, full");
}

#[test]
fn proxies_are_those_of_the_go_on_the_path() {
    let sandbox = with_modules();
    sandbox.write("nubrik.toml", "");
    let proxy = sandbox.folder.join("proxy");
    sandbox.write(
        "sdk/go.env",
        &format!("GOPROXY=file://{},direct\n", proxy.display()),
    );
    sandbox.write("sdk/bin/go", "#!/bin/sh\nexit 1\n");
    fs::set_permissions(
        sandbox.folder.join("sdk/bin/go"),
        fs::Permissions::from_mode(0o755),
    )
    .unwrap();
    let path = format!("{}:/usr/bin:/bin", sandbox.folder.join("sdk/bin").display());
    let pin = ["pins", "add", "go", "isles.example/Tides"];
    sandbox
        .run_with(&pin, &[("PATH", &path), ("GOENV", "off")])
        .expect(0)
        .says("isles.example/moon v0.9.0");
}

/// A client of Go that goes to a proxy, in a folder.
fn client_of_go(folder: &std::path::Path, proxy: &std::path::Path) -> String {
    fs::create_dir_all(folder).unwrap();
    fs::write(
        folder.join("go"),
        format!(
            "#!/bin/sh\necho ${{GOPROXY:-'file://{},direct'}}\n",
            proxy.display()
        ),
    )
    .unwrap();
    fs::set_permissions(folder.join("go"), fs::Permissions::from_mode(0o755)).unwrap();
    format!("{}:/usr/bin:/bin", folder.display())
}

#[test]
fn a_client_that_nothing_sends_elsewhere_is_asked_where_it_goes() {
    let sandbox = with_modules();
    sandbox.write("nubrik.toml", "");
    let proxy = sandbox.folder.join("proxy");
    let path = client_of_go(&sandbox.state().join("clients of go"), &proxy);
    let asks = [
        ("PATH", &*path),
        ("GOENV", "off"),
        ("NUBRIK_ASK_CLIENTS", "on"),
    ];
    sandbox
        .run_with(&["doctor"], &asks)
        .says("(by `go env GOPROXY`)");
    let pin = ["pins", "add", "go", "isles.example/Tides"];
    sandbox
        .run_with(&pin, &[("PATH", &path), ("GOENV", "off")])
        .expect(1)
        .says("no address of the registry `go` is known");
    sandbox
        .run_with(&pin, &asks)
        .expect(0)
        .says("isles.example/moon v0.9.0");

    // Where a settings file says something, nobody is asked; and no program of the checkout.
    let elsewhere = [("GOPROXY", "off"), asks[0], asks[1], asks[2]];
    sandbox
        .run_with(&["pins", "add", "go", "isles.example/moon"], &elsewhere)
        .expect(1);
    let path = client_of_go(&sandbox.folder.join("bin"), &proxy);
    let own = [
        ("PATH", &*path),
        ("GOENV", "off"),
        ("NUBRIK_ASK_CLIENTS", "on"),
    ];
    sandbox
        .run_with(&["pins", "add", "go", "isles.example/moon"], &own)
        .expect(1)
        .says("no address of the registry `go` is known");
}
