//! The explorer's pages in a real browser: with the keyboard alone, without scripts, in a narrow
//! window, for who sees little, and while a build runs. Without `chromedriver` these tests are left
//! out, unless `NUBRIK_TESTS_NEED` names `browser`.

use crate::explorer::Explorer;
use crate::explorer::browser::{Browser, DOWN, ENTER, ESCAPE};
use crate::sandbox::{Sandbox, wait_until};

const FILES: [(&str, &str); 3] = [
    ("nubrik.toml", "[profiles]\nship = { mode = \"release\" }\n"),
    (
        "targets.nub",
        "option mode: \"debug\" | \"release\" = \"debug\"\n\
         ## Ebb and flood.\n\
         target tides = step { run = `echo {mode} {in \"a.txt\"} > {out \"tides\"}` }\n\
         target high = step { run = sh`cat {in tides} > {out \"high\"}` }\n\
         test passes = check { run = sh`cat {in high}` }\n\
         test fails = check { run = sh`echo no water; exit 1` }\n",
    ),
    ("a.txt", "06:12\n"),
];

/// Pages of each kind, of a workspace that was built and tested.
const PAGES: [&str; 16] = [
    "index.html",
    "kinds.html",
    "kind.step.html",
    "package..html",
    "target.high.html",
    "graph.html",
    "graph.high.html",
    "file.targets~2enub.html",
    "external.html",
    "builds.html",
    "build.1.html",
    "compared.2-1.html",
    "tests.html",
    "options.html",
    "words.html",
    "live.html",
];

fn built() -> Sandbox {
    let sandbox = Sandbox::new(&FILES);
    sandbox.run(&["build"]).expect(0);
    sandbox.run(&["test"]).expect(1);
    sandbox
}

#[test]
fn everything_can_be_done_with_the_keyboard() {
    let Some(browser) = Browser::start((1280, 800), true) else {
        return;
    };
    let sandbox = built();
    let explorer = Explorer::start(&sandbox);
    browser.open(&explorer.address("index.html"));
    browser.keys("/");
    browser.keys("hig");
    let proposed =
        "return [...document.querySelectorAll('#found a')].map((a) => a.textContent).join('|')";
    wait_until("something is proposed", || {
        browser.run(proposed).as_str().unwrap().contains("high")
    });
    assert_eq!(
        browser.run("return document.getElementById('words').getAttribute('aria-expanded')"),
        "true"
    );
    browser.keys(DOWN);
    let chosen = "return document.getElementById(document.getElementById('words').getAttribute('aria-activedescendant')).textContent";
    assert!(browser.run(chosen).as_str().unwrap().starts_with("high"));
    browser.keys(ENTER);
    wait_until("its page", || {
        browser.address().ends_with("/target.high.html")
    });
    // Escape puts proposals away; without one chosen, Enter asks for all that fit.
    browser.keys("/");
    browser.keys("flood");
    wait_until("something is proposed", || {
        browser.run(proposed).as_str().unwrap().contains("tides")
    });
    browser.keys(ESCAPE);
    assert_eq!(
        browser.run("return document.getElementById('found').hidden"),
        true
    );
    browser.keys(ENTER);
    wait_until("what was found", || {
        browser.address().contains("search.html?words=flood")
    });
    assert!(browser.source().contains("target.tides.html"));
    // Each thing that can be used is reached, and seen to be.
    browser.open(&explorer.address("target.high.html"));
    browser.run("document.querySelector('main a').focus()");
    let outline = "const style = getComputedStyle(document.activeElement); return style.outlineStyle + style.outlineWidth";
    assert_ne!(browser.run(outline), "none0px");
}

#[test]
fn links_lead_from_a_target_to_its_text_its_file_and_its_picture() {
    let Some(browser) = Browser::start((1280, 800), true) else {
        return;
    };
    let sandbox = built();
    let explorer = Explorer::start(&sandbox);
    browser.open(&explorer.address("index.html"));
    browser.click("nav a[href='kinds.html']");
    browser.click("main a[href='target.high.html']");
    browser.click("pre.lines a[href='target.tides.html']");
    browser.click("main a[href='file.a~2etxt.html']");
    assert!(browser.source().contains("06:12"));
    browser.open(&explorer.address("graph.html"));
    browser.click(".picture a[href='graph.high.html']");
    wait_until("its picture", || {
        browser.address().ends_with("/graph.high.html")
    });
    browser.click("form.controls button");
    wait_until("drawn as asked", || browser.address().contains("depth=2"));
    browser.open(&explorer.address("tests.html"));
    assert!(browser.source().contains("failed"));
}

#[test]
fn a_build_that_runs_shows_without_anybody_asking() {
    let Some(browser) = Browser::start((1280, 800), true) else {
        return;
    };
    let sandbox = built();
    let explorer = Explorer::start(&sandbox);
    browser.open(&explorer.address("live.html"));
    sandbox.write(
        "targets.nub",
        "target slow = step { run = sh`sleep 3; echo > {out \"x\"}` }\n",
    );
    let mut build = sandbox.command(&["build"]);
    let mut build = build.stdout(std::process::Stdio::null()).spawn().unwrap();
    let text = || {
        browser
            .run("return document.getElementById('live').textContent")
            .as_str()
            .unwrap()
            .to_owned()
    };
    wait_until("it is seen", || {
        text().contains("A build runs") && text().contains("slow")
    });
    build.wait().unwrap();
    wait_until("its end is seen", || text().contains("The last build"));
}

#[test]
fn without_scripts_everything_is_there() {
    let Some(browser) = Browser::start((1280, 800), false) else {
        return;
    };
    let sandbox = built();
    let explorer = Explorer::start(&sandbox);
    browser.open(&explorer.address("index.html"));
    browser.write("#words", &format!("flood{ENTER}"));
    wait_until("what was found", || {
        browser.address().contains("search.html?words=flood")
    });
    browser.click("main a[href='target.tides.html']");
    assert!(browser.source().contains("Ebb and flood."));
    for page in PAGES {
        browser.open(&explorer.address(page));
        assert!(browser.source().contains("<h1>"), "{page}");
    }
    // A copy needs no server, and its pages lead on as well.
    sandbox.run(&["report", "--pages", "copy"]).expect(0);
    browser.open(&format!(
        "file://{}/copy/index.html",
        sandbox.folder.display()
    ));
    browser.click("nav a[href='kinds.html']");
    browser.click("main a[href='target.high.html']");
    assert!(browser.source().contains("cat "));
}

#[test]
fn a_copy_is_searched_without_a_server() {
    let Some(browser) = Browser::start((1280, 800), true) else {
        return;
    };
    let sandbox = built();
    sandbox.run(&["report", "--pages", "copy"]).expect(0);
    browser.open(&format!(
        "file://{}/copy/index.html",
        sandbox.folder.display()
    ));
    browser.keys("/");
    browser.keys("flood");
    let proposed =
        "return [...document.querySelectorAll('#found a')].map((a) => a.textContent).join('|')";
    wait_until("something is proposed", || {
        browser.run(proposed).as_str().unwrap().contains("tides")
    });
    browser.keys(ENTER);
    wait_until("its page", || {
        browser.address().ends_with("/target.tides.html")
    });
}

#[test]
fn a_narrow_window_holds_every_page() {
    let Some(browser) = Browser::start((400, 800), true) else {
        return;
    };
    let sandbox = built();
    let explorer = Explorer::start(&sandbox);
    for page in PAGES {
        browser.open(&explorer.address(page));
        let wider = browser.run("return document.documentElement.scrollWidth - window.innerWidth");
        assert!(wider.as_i64().unwrap() <= 0, "{page} is {wider} too wide");
    }
}

/// Finds what a person who sees little, or who hears pages, would stumble over: weak contrast,
/// things without names, headings that leave out a level, ids that are there twice. By the rules of
/// WCAG 2.2, level AA.
const STUMBLES: &str = r#"
const stumbles = [];
const light = ([r, g, b]) => {
  const part = (value) => { const v = value / 255; return v <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4; };
  return 0.2126 * part(r) + 0.7152 * part(g) + 0.0722 * part(b);
};
const numbers = (colour) => colour.match(/[\d.]+/g).map(Number);
const behind = (element) => {
  for (let at = element; at !== null; at = at.parentElement) {
    const colour = numbers(getComputedStyle(at).backgroundColor);
    if (colour.length === 3 || colour[3] > 0.99) return colour;
  }
  return numbers(getComputedStyle(document.documentElement).backgroundColor);
};
for (const element of document.querySelectorAll("body *")) {
  const texts = [...element.childNodes].filter((node) => node.nodeType === 3 && node.data.trim() !== "");
  const style = getComputedStyle(element);
  if (texts.length === 0 || element.closest("svg, .unseen, .skip, noscript") !== null || style.visibility === "hidden" || element.offsetParent === null) continue;
  const [a, b] = [light(numbers(style.color)), light(behind(element))];
  const ratio = (Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05);
  const isLarge = parseFloat(style.fontSize) >= 24 || (parseFloat(style.fontSize) >= 18.66 && Number(style.fontWeight) >= 700);
  if (ratio < (isLarge ? 3 : 4.5)) stumbles.push("contrast " + ratio.toFixed(2) + ": " + texts[0].data.trim().slice(0, 40) + " in " + element.outerHTML.slice(0, 80));
}
const named = (element) => {
  const label = element.id === "" ? null : document.querySelector("label[for='" + element.id + "']");
  return [element.getAttribute("aria-label"), element.textContent, element.title, label && label.textContent, element.closest("label") && element.closest("label").textContent]
    .some((name) => name !== null && name !== undefined && name.trim() !== "");
};
for (const element of document.querySelectorAll("a, button, input, select, progress, [role=img], nav, summary")) {
  if (!named(element)) stumbles.push("no name: " + element.outerHTML.slice(0, 100));
}
let level = 0;
for (const heading of document.querySelectorAll("h1, h2, h3, h4")) {
  const own = Number(heading.tagName[1]);
  if (own > level + 1) stumbles.push("heading " + heading.tagName + " after level " + level + ": " + heading.textContent.slice(0, 40));
  level = own;
}
const ids = [...document.querySelectorAll("[id]")].map((element) => element.id);
for (const id of new Set(ids.filter((id, number) => ids.indexOf(id) !== number))) stumbles.push("id twice: " + id);
for (const table of document.querySelectorAll("table")) {
  if (table.querySelector("th[scope]") === null) stumbles.push("table without heads");
}
if (document.documentElement.lang === "" || document.title === "") stumbles.push("no language or title");
return stumbles;
"#;

#[test]
fn nobody_stumbles_by_light_or_by_dark() {
    let Some(browser) = Browser::start((1280, 900), true) else {
        return;
    };
    let sandbox = built();
    let explorer = Explorer::start(&sandbox);
    let mut all = Vec::new();
    for scheme in ["light", "dark"] {
        browser.prefer(scheme);
        for page in PAGES {
            browser.open(&explorer.address(page));
            let found = browser.run(STUMBLES);
            all.extend(
                found
                    .as_array()
                    .unwrap()
                    .iter()
                    .map(|stumble| format!("{scheme} {page}: {stumble}")),
            );
        }
    }
    assert!(all.is_empty(), "{all:#?}");
    // What would be wrong is found.
    browser.run(
        "document.querySelector('main').insertAdjacentHTML('beforeend', '<h4 id=main>x</h4><button></button><p class=weak>weak</p>');
         document.querySelector('.weak').style.color = '#777'; document.querySelector('.weak').style.background = '#666'",
    );
    assert_eq!(browser.run(STUMBLES).as_array().unwrap().len(), 4);
}
