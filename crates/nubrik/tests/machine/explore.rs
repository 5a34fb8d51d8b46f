//! The explorer's pages: whole as files, each link leads somewhere, nothing comes from elsewhere;
//! served to who has the token alone, true to what changes, and with a build that runs.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::time::Duration;

use crate::explorer::{Explorer, fetch, targets_of};
use crate::sandbox::{Sandbox, wait_until};

const FILES: [(&str, &str); 8] = [
    ("nubrik.toml", "[profiles]\nship = { mode = \"release\" }\n"),
    (
        "targets.nub",
        "use { kept } from \"/kit/names.nub\"\n\
         ## Whether `fast` or small.\n\
         option mode: \"debug\" | \"release\" = \"debug\"\n\
         ## Ebb & <flood>.\n\
         target tides tagged water = step { run = `echo {mode} {in \"a.txt\"} > {out \"tides\"}` }\n\
         target high = step { say = \"make {kept}\", run = sh`cat {in tides} {in &far/low} > {out \"high\"}` }\n\
         test passes = check { run = sh`cat {in high} && echo \"1..1\" > {out r \"r.tap\"}; echo \"ok 1 - a <b>\" >> {out r \"r.tap\"}`, report = \"r\" }\n\
         test doubtful = check { run = `false`, quarantined = \"it depends on the moon\" }\n",
    ),
    ("kit/names.nub", "let kept = \"what stays\"\n"),
    (
        "far/targets.nub",
        "target low = step { run = sh`echo low > {out \"low\"}` }\ntarget heap = step { run = sh`mkdir -p {outfolder \"all\"}; echo 1 > {outfolder \"all\"}/one` }\n",
    ),
    (
        "far/deeper/targets.nub",
        "target plain_one = step { run = sh`echo x > {out \"x y\"}` }\n",
    ),
    ("a.txt", "<script>alert(1)</script>\n"),
    ("far/unused.txt", "unused\n"),
    ("far/.ignored", ""),
];

/// What links of pages lead to: files that are there, and places in them that are there.
fn broken_links(pages: &BTreeMap<String, String>) -> Vec<String> {
    let mut broken = Vec::new();
    for (name, text) in pages.iter().filter(|(name, _)| name.ends_with(".html")) {
        for target in targets_of(text) {
            let (file, place) = target.split_once('#').unwrap_or((&target, ""));
            let file = if file.is_empty() { name } else { file };
            let Some(there) = pages.get(file) else {
                broken.push(format!("{name}: {target}"));
                continue;
            };
            if !place.is_empty() && !there.contains(&format!("id=\"{place}\"")) {
                broken.push(format!("{name}: {target} has no such place"));
            }
        }
    }
    broken
}

fn written(sandbox: &Sandbox, folder: &str) -> BTreeMap<String, String> {
    sandbox.run(&["report", "--pages", folder]).expect(0);
    let all = fs::read_dir(sandbox.folder.join(folder)).unwrap().flatten();
    all.map(|entry| {
        let text = fs::read_to_string(entry.path()).unwrap();
        (entry.file_name().into_string().unwrap(), text)
    })
    .collect()
}

#[test]
fn a_written_copy_is_whole_and_loads_nothing_from_elsewhere() {
    let sandbox = Sandbox::new(&FILES);
    sandbox.run(&["build"]).expect(0);
    sandbox.run(&["test"]);
    sandbox.write("a.txt", "again <b>\n");
    sandbox.run(&["build"]).expect(0);
    let pages = written(&sandbox, "copy");
    assert_eq!(broken_links(&pages), Vec::<String>::new());
    for (name, text) in pages.iter().filter(|(name, _)| name.ends_with(".html")) {
        let loaded = text
            .split("src=\"")
            .skip(1)
            .map(|rest| rest.split('"').next().unwrap());
        assert!(loaded.clone().all(|from| from == "quick.js"), "{name}");
        assert!(
            !text.contains("<script>") && !text.contains(" style=\"") && !text.contains(" onclick"),
            "{name}"
        );
        assert_eq!(text.matches("<h1").count(), 1, "{name}");
    }
    let page = |name: &str| {
        pages
            .get(name)
            .unwrap_or_else(|| panic!("{name} of {:?}", pages.keys()))
    };
    let tides = page("target.tides.html");
    assert!(
        tides.contains("Ebb &amp; &lt;flood&gt;.") && tides.contains("options.html#"),
        "{tides}"
    );
    assert!(
        tides.contains("target.high.html") && tides.contains("build.1.html"),
        "{tides}"
    );
    // Each name in a definition leads to what it is.
    let high = page("target.high.html");
    assert!(
        high.contains("<a href=\"file.kit~2fnames~2enub.html\" class=\"\">kept</a>"),
        "{high}"
    );
    assert!(
        high.contains("<a href=\"target.far~2flow.html\" class=\"\">&amp;far/low</a>"),
        "{high}"
    );
    assert!(page("file.a~2etxt.html").contains("again &lt;b&gt;"));
    assert!(
        page("tests.html").contains("it depends on the moon")
            && page("tests.html").contains("a &lt;b&gt;")
    );
    assert!(
        page("options.html").contains("<code>fast</code>")
            && page("options.html").contains("&quot;release&quot;")
    );
    assert!(page("compared.3-2.html").contains("Only in build"));
    assert!(pages.contains_key("target.far~2fdeeper~2fplain_one.html"));
    assert!(pages["names.js"].contains("\"tides\""));
    // Once more, after something is gone: its page is gone, too.
    sandbox.write("far/deeper/targets.nub", "\n");
    let pages = written(&sandbox, "copy");
    assert!(!pages.keys().any(|name| name.contains("plain_one")));
    assert_eq!(broken_links(&pages), Vec::<String>::new());
    // What is somebody else's stays.
    sandbox.write("mine/notes.txt", "mine\n");
    let run = sandbox.run(&["report", "--pages", "mine"]).expect(2);
    assert!(
        run.stderr.contains("holds something that is no copy"),
        "{}",
        run.stderr
    );
    assert_eq!(sandbox.read("mine/notes.txt"), "mine\n");
}

#[test]
fn pages_are_there_before_anything_was_built_and_with_errors() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target a = step { run = `echo > {out \"a\"}` }\n",
    )]);
    let pages = written(&sandbox, "copy");
    assert!(pages["index.html"].contains("Nothing was built here yet"));
    assert!(pages["target.a.html"].contains("never ran here"));
    assert_eq!(broken_links(&pages), Vec::<String>::new());
    sandbox.write(
        "targets.nub",
        "target a = step { run = `echo > {out \"a\"}` }\ntarget b = nothing\n",
    );
    let pages = written(&sandbox, "copy");
    assert!(
        pages["index.html"].contains("1 error in the definitions</strong>"),
        "{}",
        pages["index.html"]
    );
    assert!(pages.contains_key("target.a.html"));
}

#[test]
fn pages_show_what_an_answer_decides_before_anything_was_built() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "let place = probe { run = `echo ardle` }\n\
         target asked = step { run = `echo {place.lines.first} > {out \"asked\"}` }\n",
    )]);
    let pages = written(&sandbox, "pages");
    assert!(
        pages["target.asked.html"].contains("echo ardle"),
        "{}",
        pages["target.asked.html"]
    );
}

#[test]
fn only_who_has_the_token_reads_and_nobody_writes() {
    let sandbox = Sandbox::new(&FILES);
    let explorer = Explorer::start(&sandbox);
    let (port, token) = (explorer.port, explorer.token.as_str());
    let own = format!("127.0.0.1:{port}");
    let status = |method: &str, path: &str, host: &str| fetch(port, method, path, host).0;
    assert_eq!(status("GET", &format!("/{token}/"), &own), 200);
    assert_eq!(status("GET", &format!("/{token}/index.html"), &own), 200);
    assert_eq!(status("GET", "/", &own), 404);
    assert_eq!(status("GET", "/index.html", &own), 404);
    let mut other = token.to_owned();
    other.replace_range(..1, if token.starts_with('0') { "1" } else { "0" });
    assert_eq!(status("GET", &format!("/{other}/index.html"), &own), 404);
    assert_eq!(
        status("GET", &format!("/{}/index.html", &token[..31]), &own),
        404
    );
    // A name of elsewhere that leads here is not answered.
    assert_eq!(
        status("GET", &format!("/{token}/index.html"), "tides.example"),
        403
    );
    assert_eq!(status("POST", &format!("/{token}/index.html"), &own), 405);
    assert_eq!(
        status("GET", &format!("/{token}/../../etc/passwd"), &own),
        404
    );
    assert_eq!(
        status(
            "GET",
            &format!("/{token}/file.~2e~2e~2f~2e~2e~2fetc~2fpasswd.html"),
            &own
        ),
        404
    );
    assert_eq!(
        status(
            "GET",
            &format!("/{token}/file.far~2funused~2etxt.html"),
            &own
        ),
        404
    );
    let (_, heads, _) = fetch(port, "GET", &format!("/{token}/index.html"), &own);
    assert!(
        heads.contains("default-src 'none'") && heads.to_lowercase().contains("no-store"),
        "{heads}"
    );
    let (_, _, found) = fetch(
        port,
        "GET",
        &format!("/{token}/found.json?words=ebb+%26"),
        &own,
    );
    assert!(found.contains("\"target.tides.html\""), "{found}");
    let (_, _, way) = fetch(
        port,
        "GET",
        &format!("/{token}/way.html?from=passes&to=far%2Flow"),
        &own,
    );
    assert!(way.contains("target.high.html"), "{way}");
    // A second one has a port of its own, and leaves the first one's socket alone.
    let second = Explorer::start(&sandbox);
    drop(second);
    assert!(sandbox.exists(".nubrik/explore.sock"));
    let code = explorer.stop();
    assert_eq!(code, Some(0));
    assert!(!sandbox.exists(".nubrik/explore.sock"));
}

#[test]
fn what_changes_shows_and_a_build_that_runs_is_followed() {
    let sandbox = Sandbox::new(&FILES);
    let explorer = Explorer::start(&sandbox);
    assert!(explorer.page("live.html").contains("No build is running"));
    sandbox.write("far/targets.nub", "target low = step { run = sh`sleep 3; echo low > {out \"low\"}` }\ntarget new = step { run = sh`echo no water; exit 3 > {out \"n\"}` }\n");
    wait_until("the new target has a page", || {
        explorer.page("kinds.html").contains("far/new")
    });
    let news = explorer.news();
    let mut build = sandbox.command(&["build", "-k", "-j2"]);
    let child = build
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    wait_until("the build is seen", || {
        let page = explorer.page("live.part");
        page.contains("A build runs") && page.contains("far/low") && page.contains("no water")
    });
    assert!(news.recv_timeout(Duration::from_secs(10)).is_ok());
    let mut child = child;
    assert_eq!(child.wait().unwrap().code(), Some(1));
    wait_until("its end is seen", || {
        explorer.page("live.part").contains("The last build")
    });
    wait_until("it is among the builds", || {
        explorer.page("builds.html").contains("build.1.html")
    });
    let build = explorer.page("build.1.html");
    assert!(
        build.contains("no water") && build.contains("nubrik build far/new"),
        "{build}"
    );
    // A build that is killed is over, too.
    sandbox.write(
        "far/targets.nub",
        "target low = step { run = sh`sleep 30; echo low > {out \"low\"}` }\n",
    );
    let mut child = sandbox
        .command(&["build"])
        .stdout(std::process::Stdio::null())
        .spawn()
        .unwrap();
    wait_until("it runs", || {
        explorer.page("live.part").contains("A build runs")
    });
    child.kill().unwrap();
    child.wait().unwrap();
    wait_until("it is over", || {
        explorer.page("live.part").contains("The last build")
    });
}

#[test]
fn every_page_that_is_served_leads_on() {
    let sandbox = Sandbox::new(&FILES);
    sandbox.run(&["build"]).expect(0);
    let explorer = Explorer::start(&sandbox);
    let mut known = BTreeSet::from(["index.html".to_owned()]);
    let mut open = vec!["index.html".to_owned()];
    while let Some(name) = open.pop() {
        let text = explorer.page(&name);
        for target in targets_of(&text) {
            let file = target.split(['#', '?']).next().unwrap().to_owned();
            // Of the words of the language a few are enough.
            let is_enough = file.starts_with("topic.")
                && known.iter().filter(|k| k.starts_with("topic.")).count() > 5;
            if !file.is_empty() && !is_enough && known.insert(file.clone()) {
                open.push(file);
            }
        }
    }
    for name in [
        "target.high.html",
        "graph.high.html",
        "kind.step.html",
        "package.far.html",
        "live.html",
    ] {
        assert!(known.contains(name), "{name} of {known:?}");
    }
}

#[test]
fn archives_are_listed_and_lines_that_tests_ran_are_marked() {
    let text = "target box = pack { path = \"box.tar.gz\", files = { \"in/a.txt\": \"a.txt\", \"in/b.txt\": \"b.txt\" } }\n\
                option coverage: bool = false\n\
                test lines = check {\n    run = if coverage then sh`printf 'SF:b.txt\\nDA:1,2\\nDA:2,0\\nend_of_record\\n' > {out l \"l.info\"}; true {in \"b.txt\"}` else `true`\n    coverage = if coverage then \"l\" else none\n}\n";
    let sandbox = Sandbox::new(&[
        ("targets.nub", text),
        ("a.txt", "ebb\n"),
        ("b.txt", "one\ntwo\nthree\n"),
    ]);
    let text = format!(
        "use \"nub:c\" as c\ntarget fit = c.library {{ sources = \"fit.c\", flags = [\"-O1\"] }}\n{text}"
    );
    sandbox.write("targets.nub", &text);
    sandbox.write("fit.c", "int fit(void) { return 7; }\n");
    sandbox.run(&["build"]).expect(0);
    let pages = written(&sandbox, "first");
    let fit = &pages["target.fit.html"];
    assert!(
        fit.contains("its default, ") && fit.contains("<code>fit.c</code>"),
        "{fit}"
    );
    assert!(
        fit.contains("the field <code>flags</code> of the definition"),
        "{fit}"
    );
    assert!(
        pages["target.box.html"].contains("in/a.txt")
            && pages["tests.html"].contains("nubrik test --coverage")
    );
    sandbox.run(&["test", "--coverage"]).expect(0);
    let pages = written(&sandbox, "second");
    assert!(
        pages["tests.html"].contains("50 %: 1 of 2 lines of 1 file"),
        "{}",
        pages["tests.html"]
    );
    let source = pages
        .iter()
        .find(|(name, _)| name.starts_with("file.b~2etxt"))
        .unwrap()
        .1;
    assert!(
        source.contains("class=\"covered\" title=\"tests ran it 2 times\"")
            && source.contains("class=\"missed\""),
        "{source}"
    );
    assert_eq!(broken_links(&pages), Vec::<String>::new());
    // Of a source that changed, nobody knows which lines ran.
    std::thread::sleep(Duration::from_millis(1_100));
    sandbox.write("b.txt", "another\ntwo\n");
    let pages = written(&sandbox, "third");
    let source = pages
        .iter()
        .find(|(name, _)| name.starts_with("file.b~2etxt"))
        .unwrap()
        .1;
    assert!(!source.contains("class=\"covered\""));
}

#[test]
fn of_a_command_with_very_many_words_it_is_said_that_their_origins_are_not_shown() {
    let words: String = (0..450).map(|number| format!("w{number} ")).collect();
    let text = format!("target many = step {{ run = `echo {words} > {{out \"x\"}}` }}\n");
    let sandbox = Sandbox::new(&[("targets.nub", &text)]);
    sandbox.run(&["report", "--pages", "pages"]).expect(0);
    let page = sandbox.read("pages/target.many.html");
    assert!(
        page.contains("The origin of its arguments is not shown: there are 451"),
        "{page}"
    );
}

#[test]
fn a_browser_is_given_a_file_that_only_the_user_can_read() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target tides = write { path = \"t\", text = \"\" }\n",
    )]);
    let programs = sandbox.folder.parent().unwrap().join("programs");
    std::fs::create_dir(&programs).unwrap();
    let seen = programs.join("seen");
    let script = format!(
        "#!/bin/sh\n{{ stat -c %a \"$1\"; echo \"$1\"; cat \"$1\"; }} > '{0}.new'\nmv '{0}.new' '{0}'\n",
        seen.display()
    );
    std::fs::write(programs.join("xdg-open"), script).unwrap();
    std::fs::set_permissions(
        programs.join("xdg-open"),
        std::fs::Permissions::from_mode(0o755),
    )
    .unwrap();
    let path = format!("{}:{}", programs.display(), std::env::var("PATH").unwrap());
    let explorer = Explorer::start_with(&sandbox, &["--open"], &[("PATH", &path)]);
    wait_until("the browser was started", || seen.exists());
    let text = std::fs::read_to_string(&seen).unwrap();
    let lines: Vec<&str> = text.lines().collect();
    assert_eq!(lines[0], "600", "{text}");
    assert!(
        !lines[1].contains(&explorer.token) && lines[2].contains(&explorer.token),
        "{text}"
    );
    assert_eq!(explorer.stop(), Some(0));
    assert!(
        !std::path::Path::new(lines[1]).exists(),
        "it is removed with the server"
    );
    // Where there is no desktop, the address is printed all the same.
    let explorer = Explorer::start_with(&sandbox, &["--open"], &[("PATH", "/nowhere")]);
    assert!(explorer.page("index.html").contains("Targets"));
}
