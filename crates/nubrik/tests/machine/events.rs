//! What commands print with `--json` is what `docs/formats.md` says: every event, with these
//! fields, of these types.

use std::collections::{BTreeMap, BTreeSet};

use crate::sandbox::Sandbox;
use serde_json::Value;

/// A field of an event: its type, and whether it may be missing.
type Fields = BTreeMap<String, (String, bool)>;

/// The table of events, by their names.
fn documented() -> BTreeMap<String, Fields> {
    let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/formats.md");
    let page = std::fs::read_to_string(path).unwrap();
    let table = page.split("| event | printed | fields |").nth(1).unwrap();
    let rows = table
        .lines()
        .skip(2)
        .take_while(|line| line.starts_with('|'));
    let event = |row: &str| {
        let cells: Vec<&str> = row.trim_matches('|').split(" | ").map(str::trim).collect();
        let fields = cells[2].split(", ").map(|field| {
            let (name, kind) = field.split_once("` ").unwrap();
            let name = name.trim_start_matches('`');
            (
                name.trim_end_matches('?').to_owned(),
                (kind.to_owned(), name.ends_with('?')),
            )
        });
        (cells[0].trim_matches('`').to_owned(), fields.collect())
    };
    rows.map(event).collect()
}

/// What is wrong with an event.
fn problem(documented: &BTreeMap<String, Fields>, event: &Value) -> Option<String> {
    let name = event["event"].as_str()?;
    let Some(fields) = documented.get(name) else {
        return Some(format!("{name} is not documented"));
    };
    let object = event.as_object().unwrap();
    let missing = fields
        .iter()
        .find(|(field, (_, optional))| !optional && !object.contains_key(*field));
    if let Some((field, _)) = missing {
        return Some(format!("{name} lacks {field}"));
    }
    object
        .iter()
        .filter(|(field, _)| *field != "event")
        .find_map(|(field, value)| {
            let Some((kind, _)) = fields.get(field) else {
                return Some(format!("{name} has {field}"));
            };
            let found = match value {
                Value::Null => "null",
                Value::Bool(_) => "bool",
                Value::Number(_) => "number",
                Value::String(_) => "text",
                Value::Array(_) => "list",
                Value::Object(_) => "object",
            };
            (!kind
                .split(" or ")
                .any(|kind| kind == found || kind == "value"))
            .then(|| format!("{name}: {field} is {found}, not {kind}"))
        })
}

const DEFINITIONS: &str = "\
option mode: \"debug\" | \"release\" = \"debug\"
## Ebb and flood.
target tides tagged water = step { run = `echo {mode} {in \"a.txt\"} > {out \"tides\"}` }
target high = step { run = sh`cat {tides} b.txt > {out \"high\"} || echo > {out \"high\"}` }
option coverage: bool = false
test passes = check { run = sh`printf 'SF:a.txt\\nDA:1,0\\nend_of_record\\n' > {out lines \"lines.info\"}`, coverage = \"lines\", reads = \"a.txt\" }
test flaky = check { run = sh`echo \"1..2\" > {out r \"r.tap\"}; echo \"ok 1 - a\" >> {out r \"r.tap\"}; echo \"not ok 2 - b\" >> {out r \"r.tap\"}`, report = \"r\", quarantined = \"it depends\" }
job hello = effect { run = `echo hello` }
job fails = effect { run = `false` }
let cc = tool { names = \"cat\" }
";

/// Makes an archive of a package of JavaScript.
fn publish(path: &std::path::Path) {
    let file = flate2::write::GzEncoder::new(
        std::fs::File::create(path).unwrap(),
        flate2::Compression::fast(),
    );
    let mut archive = tar::Builder::new(file);
    let mut header = tar::Header::new_gnu();
    header.set_size(2);
    header.set_cksum();
    archive
        .append_data(&mut header, "package/package.json", "{}".as_bytes())
        .unwrap();
    archive.into_inner().unwrap().finish().unwrap();
}

#[test]
fn every_event_is_as_documented() {
    let documented = documented();
    let sandbox = Sandbox::new(&[
        ("targets.nub", DEFINITIONS),
        ("nubrik.toml", "[profiles]\nship = { mode = \"release\" }\n"),
        ("a.txt", "a\n"),
        ("b.txt", "b\n"),
    ]);
    let git = |args: &[&str]| {
        let mut command = std::process::Command::new("git");
        command
            .args(["-c", "user.name=a", "-c", "user.email=a@b"])
            .args(args)
            .current_dir(&sandbox.folder);
        assert!(command.status().is_ok_and(|status| status.success()));
    };
    git(&["init", "-q"]);
    git(&["add", "-A"]);
    git(&["commit", "-qm", "one"]);
    let mut seen: BTreeSet<String> = BTreeSet::new();
    let mut problems: Vec<String> = Vec::new();
    let writer = sandbox.folder.join("writer.key").display().to_string();
    let mut check = |args: &[&str]| {
        let variables = [("NUBRIK_SHARED_KEY", writer.as_str())];
        let writes = args == ["shared", "prune"] || args.contains(&"--verify");
        let variables = if writes { &variables[..] } else { &[] };
        let run = sandbox.run_with(&[args, &["--json"]].concat(), variables);
        for line in run.stdout.lines().filter(|line| line.starts_with('{')) {
            let event: Value =
                serde_json::from_str(line).unwrap_or_else(|e| panic!("{args:?}: {line}: {e}"));
            if let Some(problem) = problem(&documented, &event) {
                problems.push(format!("{args:?}: {problem}"));
            }
            seen.extend(event["event"].as_str().map(str::to_owned));
        }
    };
    check(&["plan"]);
    check(&["build", "-v"]);
    check(&["build", "--reasons"]);
    check(&["build", "--observe"]);
    check(&["build", "--since", "HEAD"]);
    check(&["test", "--repeat", "2"]);
    check(&["test", "--coverage"]);
    check(&["list"]);
    check(&["list", "--count"]);
    check(&["list", "--cases"]);
    check(&["show", "high"]);
    check(&["show", "high", "--printed"]);
    check(&["tree", "high"]);
    check(&["graph"]);
    check(&["why", "high", "tides"]);
    check(&["why", "high"]);
    check(&["options"]);
    check(&["history"]);
    check(&["history", "1"]);
    check(&["doctor"]);
    check(&["run", "hello"]);
    check(&["run", "fails"]);
    check(&["explain", "step"]);
    check(&["cache"]);
    check(&["cache", "save", "results"]);
    check(&["cache", "load", "results"]);
    check(&["cache", "verify"]);
    check(&["lint"]);
    check(&["setup", "manual", "pages"]);
    check(&["report", "--pages", "explored"]);
    check(&["report"]);
    check(&["report", "tests", "--html", "r.html", "--junit", "r.xml"]);
    check(&["test", "--part", "1/1", "--junit", "part.xml"]);
    check(&["report", "--merge", "part.xml"]);
    let store = sandbox
        .folder
        .parent()
        .unwrap()
        .join("store")
        .display()
        .to_string();
    check(&["shared", "create", &store, "--root-key", "root.key"]);
    let key = std::fs::read_to_string(sandbox.folder.join("root.key")).unwrap();
    let key = nubrik_shared::SecretKey::parse(&key)
        .unwrap()
        .public()
        .to_string();
    sandbox.write(
        "nubrik.toml",
        &format!(
            "[profiles]\nship = {{ mode = \"release\" }}\n[shared]\nat = \"{store}\"\nroot_key = \"{key}\"\n"
        ),
    );
    check(&["shared"]);
    check(&["shared", "trust"]);
    check(&["shared", "new-key", "writer.key"]);
    let key = std::fs::read_to_string(&writer).unwrap();
    let key = nubrik_shared::SecretKey::parse(&key)
        .unwrap()
        .public()
        .to_string();
    check(&["shared", "add", "writer", &key, "--root-key", "root.key"]);
    check(&["shared", "prune"]);
    check(&["agree"]);
    check(&["shared", "verify"]);
    check(&["build", "--rerun"]);
    check(&["why", "tides", "--shared"]);
    check(&["build", "--rerun", "--verify"]);
    sandbox.write("a.txt", "c\n");
    sandbox.write("out/default/high", "edited\n");
    check(&["plan", "--profile", "ship"]);
    check(&["build", "-k"]);
    check(&["clean"]);
    sandbox.write("targets.nub", &format!("{DEFINITIONS}let   x = hight\n"));
    check(&["build"]);
    check(&["build", "--set", "mode=fast"]);
    sandbox.write("targets.nub", DEFINITIONS);
    sandbox.write("reef/targets.nub", "target bad = nothing\n");
    check(&["build", "-k"]);
    std::fs::remove_dir_all(sandbox.folder.join("reef")).unwrap();
    sandbox.write(
        "targets.nub",
        &format!("{DEFINITIONS}let   x = 1\ntarget bad = step {{ run = `false {{out \"b\"}}` }}\n"),
    );
    check(&["fmt", "--check"]);
    check(&["build", "-k"]);
    sandbox.write("nubrik.toml", "[origins]\njs = \"registry\"\n");
    let package = |versions: &str| {
        let text = format!("{{\"dist-tags\": {{}}, \"versions\": {{{versions}}}}}");
        sandbox.write("registry/ebb", &text);
    };
    let version = |version: &str| {
        format!("\"{version}\": {{\"dist\": {{\"tarball\": \"ebb-{version}.tgz\"}}}}")
    };
    package(&version("1.0.0"));
    for name in ["1.0.0", "1.1.0"] {
        publish(&sandbox.folder.join(format!("registry/ebb-{name}.tgz")));
    }
    sandbox.write(
        "package.json",
        r#"{"name": "isles", "main": "i.js", "scripts": {"tide": "true"}, "dependencies": {"ebb": "^1"}}"#,
    );
    sandbox.write("i.js", "1;\n");
    sandbox.write("go/a.go", "package a\n\nimport \"isles.example/b\"\n");
    check(&["adopt", "--no-try"]);
    check(&["adopt", "--yes", "--offline"]);
    check(&["adopt", "--check"]);
    sandbox.write("sea/sea.c", "int main(void) { return 0; }\n");
    check(&["adopt", "sea", "--yes", "--watch", "cc -o sea sea.c"]);
    sandbox.write("targets.nub", DEFINITIONS);
    check(&["pins", "add", "js", "ebb"]);
    check(&["pins", "why", "ebb"]);
    sandbox.write("targets.nub", DEFINITIONS);
    check(&["pins"]);
    package(&format!("{}, {}", version("1.0.0"), version("1.1.0")));
    check(&["pins", "newer"]);
    let lacks = r#""1.2.0": {"dist": {"tarball": "ebb-1.2.0.tgz"}, "dependencies": {"ebb": "^7"}}"#;
    package(&format!("{}, {lacks}", version("1.0.0")));
    check(&["pins", "update", "ebb"]);
    assert!(problems.is_empty(), "{problems:#?}");
    // These need a test that fails now and then, a command or a terminal that waits, a service, a
    // machine that refuses, a registry of images, or a server of jobs.
    let mut elsewhere = vec![
        "changed", "explorer", "pushed", "refused", "serving", "flaky", "worked", "worker",
        "workers", "metrics",
    ];
    // Where the kernel shows no commands, nothing is watched.
    if !nubrik_confine::can_record() {
        elsewhere.extend(["watched", "compared"]);
    }
    let all: BTreeSet<String> = documented
        .keys()
        .filter(|name| !elsewhere.contains(&name.as_str()))
        .cloned()
        .collect();
    let unseen: Vec<&String> = all.difference(&seen).collect();
    assert!(unseen.is_empty(), "never printed: {unseen:?}");
}

/// One spelling of names, one unit of time.
#[test]
fn names_are_in_snake_case_and_times_in_seconds() {
    for (event, fields) in documented() {
        for name in fields.keys().chain([&event]) {
            let is_fine = name
                .chars()
                .all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_');
            assert!(is_fine && !name.contains("micros"), "{event}: {name}");
        }
    }
}

#[test]
fn every_event_of_the_program_is_documented() {
    let documented = documented();
    let mut folders = vec![std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("src")];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap().flatten() {
            let path = entry.path();
            if path.is_dir() {
                folders.push(path);
                continue;
            }
            let text = std::fs::read_to_string(&path).unwrap();
            for part in text.split("event: \"").skip(1) {
                let name = part.split('"').next().unwrap();
                assert!(documented.contains_key(name), "{}: {name}", path.display());
            }
        }
    }
}
