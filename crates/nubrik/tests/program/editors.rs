//! Editors: a recorded conversation over standard input and output, and a real editor as client.

use std::fmt::Write as _;
use std::io::{BufRead, BufReader, Read, Write};
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;

use crate::sandbox::Sandbox;
use serde_json::{Value, json};

const TARGETS: &str = "\
use \"nub:c\" as c
let all = \"*.csv\"
## Fits readings.
target fit = c.library { sources = \"fit.c\", headers = \"fit.h\" }
target table = step { run = `cat {in \"readings.csv\"} > {out \"table.csv\"}` }
target show = c.program { sources = \"show.c\", needs = [fit, &base/clock] }
target late = step {
    run = `cat {tabel} > {out \"x\"}`
}
";
use nubrik_testing::{Need, skip};

const FILES: [(&str, &str); 7] = [
    ("targets.nub", TARGETS),
    (
        "base/targets.nub",
        "use \"nub:c\" as c\n## Hours.\ntarget clock = c.library { sources = \"clock.c\" }\n",
    ),
    ("base/clock.c", "int clock_now(void) { return 0; }\n"),
    ("fit.h", "int fit(void);\n"),
    ("fit.c", "int fit(void) { return 0; }\n"),
    ("show.c", "int main(void) { return 0; }\n"),
    ("readings.csv", "06:12\n"),
];

/// An editor, as far as the server sees it.
struct Client {
    child: Child,
    to: ChildStdin,
    heard: Receiver<Value>,
    number: i64,
    uri: String,
}

impl Client {
    fn start(sandbox: &Sandbox) -> Client {
        let mut command = sandbox.command(&["lsp"]);
        let mut child = command
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::inherit())
            .spawn()
            .unwrap();
        let mut from = BufReader::new(child.stdout.take().unwrap());
        let (sender, heard) = channel();
        std::thread::spawn(move || {
            loop {
                let mut length = 0;
                let mut line = String::new();
                while from.read_line(&mut line).unwrap_or(0) > 0 && line.trim() != "" {
                    if let Some(number) = line.to_lowercase().strip_prefix("content-length:") {
                        length = number.trim().parse().unwrap();
                    }
                    line.clear();
                }
                if length == 0 {
                    return;
                }
                let mut body = vec![0; length];
                from.read_exact(&mut body).unwrap();
                if sender.send(serde_json::from_slice(&body).unwrap()).is_err() {
                    return;
                }
            }
        });
        let to = child.stdin.take().unwrap();
        let uri = format!("file://{}", sandbox.folder.display());
        let mut client = Client {
            child,
            to,
            heard,
            number: 0,
            uri,
        };
        let abilities = client.ask(
            "initialize",
            &json!({"processId": null, "rootUri": client.uri, "capabilities": {}}),
        );
        assert_eq!(abilities["capabilities"]["hoverProvider"], true);
        client.tell("initialized", &json!({}));
        client
    }

    fn send(&mut self, message: &Value) {
        let text = message.to_string();
        write!(self.to, "Content-Length: {}\r\n\r\n{text}", text.len()).unwrap();
        self.to.flush().unwrap();
    }

    fn tell(&mut self, method: &str, params: &Value) {
        self.send(&json!({"jsonrpc": "2.0", "method": method, "params": params}));
    }

    fn next(&self) -> Value {
        self.heard.recv_timeout(Duration::from_secs(20)).unwrap()
    }

    fn ask(&mut self, method: &str, params: &Value) -> Value {
        self.number += 1;
        let id = self.number;
        self.send(&json!({"jsonrpc": "2.0", "id": id, "method": method, "params": params}));
        loop {
            let message = self.next();
            if message["id"] == id {
                assert!(
                    message.get("error").is_none_or(Value::is_null),
                    "{method}: {message}"
                );
                return message["result"].clone();
            }
        }
    }

    /// Waits for something that the server tells.
    fn hear(&self, method: &str, is_it: impl Fn(&Value) -> bool) -> Value {
        loop {
            let message = self.next();
            if message["method"] == method && is_it(&message["params"]) {
                return message["params"].clone();
            }
        }
    }

    fn file(&self, path: &str) -> String {
        format!("{}/{path}", self.uri)
    }

    fn open(&mut self, path: &str, text: &str) {
        let document =
            json!({"uri": self.file(path), "languageId": "nub", "version": 1, "text": text});
        self.tell("textDocument/didOpen", &json!({"textDocument": document}));
    }

    fn change(&mut self, path: &str, text: &str) {
        let document = json!({"uri": self.file(path), "version": 2});
        self.tell(
            "textDocument/didChange",
            &json!({"textDocument": document, "contentChanges": [{"text": text}]}),
        );
    }

    /// Asks something about the first place of a word in a text, so many letters behind its
    /// beginning.
    fn at(&mut self, method: &str, text: &str, word: &str, behind: usize) -> Value {
        let byte = text.find(word).unwrap() + behind;
        let line = text[..byte].matches('\n').count();
        let character = byte - text[..byte].rfind('\n').map_or(0, |at| at + 1);
        let params = json!({
            "textDocument": {"uri": self.file("targets.nub")},
            "position": {"line": line, "character": character},
            "context": {"includeDeclaration": true},
        });
        self.ask(method, &params)
    }

    fn labels(&mut self, text: &str, word: &str) -> Vec<String> {
        let found = self.at("textDocument/completion", text, word, word.len());
        let items = found["items"].as_array().unwrap();
        items
            .iter()
            .map(|item| item["label"].as_str().unwrap().to_owned())
            .collect()
    }

    fn end(mut self) {
        self.ask("shutdown", &Value::Null);
        self.tell("exit", &Value::Null);
        assert_eq!(self.child.wait().unwrap().code(), Some(0));
    }
}

#[test]
fn errors_are_told_as_one_types_and_mended() {
    let sandbox = Sandbox::new(&FILES);
    let mut client = Client::start(&sandbox);
    client.open("targets.nub", TARGETS);
    let file = client.file("targets.nub");
    let told = client.hear("textDocument/publishDiagnostics", |params| {
        params["uri"] == file.as_str()
            && params["diagnostics"]
                .as_array()
                .is_some_and(|all| !all.is_empty())
    });
    let problem = told["diagnostics"]
        .as_array()
        .unwrap()
        .iter()
        .find(|problem| problem["severity"] == 1)
        .unwrap()
        .clone();
    assert_eq!(problem["code"], "unknown-name");
    assert_eq!(
        problem["range"]["start"],
        json!({"line": 7, "character": 16})
    );
    assert!(
        problem["message"].as_str().unwrap().contains("try: table"),
        "{problem}"
    );
    // The same text, and the same mend, as a build gives.
    let said = sandbox.run(&["build"]).expect(3).stderr;
    assert!(
        said.contains(problem["message"].as_str().unwrap().lines().next().unwrap()),
        "{said}"
    );
    let params = json!({
        "textDocument": {"uri": file}, "range": problem["range"], "context": {"diagnostics": [problem]},
    });
    let actions = client.ask("textDocument/codeAction", &params);
    let edit = &actions[0]["edit"]["changes"][file.as_str()][0];
    assert_eq!(
        (edit["newText"].as_str(), &edit["range"]),
        (Some("table"), &problem["range"])
    );
    // What is typed counts, though nothing was saved.
    client.change("targets.nub", &TARGETS.replace("tabel", "table"));
    client.hear("textDocument/publishDiagnostics", |params| {
        let none_wrong = |all: &Vec<Value>| all.iter().all(|problem| problem["severity"] != 1);
        params["uri"] == file.as_str() && params["diagnostics"].as_array().is_some_and(none_wrong)
    });
    assert_eq!(sandbox.read("targets.nub"), TARGETS);
    client.end();
}

#[test]
fn names_are_explained_found_and_completed() {
    let sandbox = Sandbox::new(&FILES);
    let text = TARGETS.replace("tabel", "table");
    sandbox.write("targets.nub", &text);
    sandbox.run(&["build", "table"]).expect(0);
    let mut client = Client::start(&sandbox);
    client.open("targets.nub", &text);
    let file = client.file("targets.nub");
    client.hear("textDocument/publishDiagnostics", |_| true);
    let hover = |client: &mut Client, word: &str, behind: usize| {
        let hover = client.at("textDocument/hover", &text, word, behind);
        hover["contents"]["value"]
            .as_str()
            .unwrap_or_default()
            .to_owned()
    };
    assert!(hover(&mut client, "[fit", 1).contains("Fits readings."));
    assert!(hover(&mut client, "&base", 3).contains("Hours."));
    assert!(hover(&mut client, "c.library", 4).contains("c.library"));
    assert!(hover(&mut client, "headers", 2).contains("of **c.library**"));
    assert!(hover(&mut client, "{table}", 2).contains("last built in"));
    let definition = client.at("textDocument/definition", &text, "&base", 2);
    assert!(
        definition["uri"]
            .as_str()
            .unwrap()
            .ends_with("/base/targets.nub"),
        "{definition}"
    );
    assert_eq!(definition["range"]["start"]["line"], 2);
    let definition = client.at("textDocument/definition", &text, "readings.csv", 2);
    assert!(
        definition["uri"]
            .as_str()
            .unwrap()
            .ends_with("/readings.csv"),
        "{definition}"
    );
    let references = client.at("textDocument/references", &text, "target table", 8);
    assert_eq!(references.as_array().unwrap().len(), 2, "{references}");
    let symbols = client.ask(
        "textDocument/documentSymbol",
        &json!({"textDocument": {"uri": file}}),
    );
    let names: Vec<&str> = symbols
        .as_array()
        .unwrap()
        .iter()
        .map(|s| s["name"].as_str().unwrap())
        .collect();
    assert_eq!(names, ["c", "all", "fit", "table", "show", "late"]);
    let found = client.ask("workspace/symbol", &json!({"query": "clo"}));
    assert_eq!(found[0]["name"], "base/clock");
    let folds = client.ask(
        "textDocument/foldingRange",
        &json!({"textDocument": {"uri": file}}),
    );
    assert!(
        folds
            .as_array()
            .unwrap()
            .iter()
            .any(|fold| fold["startLine"] == 6),
        "{folds}"
    );
    let lenses = client.ask(
        "textDocument/codeLens",
        &json!({"textDocument": {"uri": file}}),
    );
    let titles: Vec<&str> = lenses
        .as_array()
        .unwrap()
        .iter()
        .map(|l| l["command"]["title"].as_str().unwrap())
        .collect();
    assert!(
        titles
            .iter()
            .any(|title| title.starts_with("1 step, last built in")),
        "{titles:?}"
    );
    let words = client.ask(
        "textDocument/semanticTokens/full",
        &json!({"textDocument": {"uri": file}}),
    );
    assert!(words["data"].as_array().unwrap().len() > 100);
    // Completion: addresses, fields, files, members of a kit, names.
    let typing = format!("{text}target more = c.program {{ sources = \"fi\", needs = [&ba] }}\n");
    client.change("targets.nub", &typing);
    assert_eq!(
        client.labels(&typing, "needs = [&ba]")[..0],
        [] as [String; 0]
    );
    assert!(
        client
            .labels(&typing, "more = c.")
            .contains(&"program".to_owned())
    );
    assert!(
        client
            .labels(&typing, "sources = \"fi")
            .contains(&"fit.c".to_owned())
    );
    let at = typing.replace("[&ba]", "[&ba");
    client.change("targets.nub", &at);
    assert_eq!(client.labels(&at, "needs = [&ba"), ["&base/clock"]);
    let at = format!("{text}target more = c.program {{ sou");
    client.change("targets.nub", &at);
    assert!(
        client
            .labels(&at, "more = c.program { sou")
            .contains(&"sources".to_owned())
    );
    let at = format!("{text}let x = fi");
    client.change("targets.nub", &at);
    let names = client.labels(&at, "let x = fi");
    assert!(
        names.contains(&"fit".to_owned()) && names.contains(&"step".to_owned()),
        "{names:?}"
    );
    // Formatting gives what `nubrik fmt` gives, and leaves alone what cannot be read.
    client.change("targets.nub", "let   x = 1\n");
    let edits = client.ask(
        "textDocument/formatting",
        &json!({"textDocument": {"uri": file}, "options": {}}),
    );
    assert_eq!(edits[0]["newText"], "let x = 1\n");
    client.change("targets.nub", "let   x = (\n");
    let edits = client.ask(
        "textDocument/formatting",
        &json!({"textDocument": {"uri": file}, "options": {}}),
    );
    assert!(edits.is_null());
    client.end();
}

#[test]
fn of_a_large_workspace_all_is_told_when_nobody_types() {
    let sandbox = Sandbox::new(&[]);
    for number in 0..310 {
        let text = format!(
            "## Table {number}.\ntarget t{number} = step {{ run = sh`date > {{out \"x\"}}` }}\n"
        );
        sandbox.write(&format!("p{number}/targets.nub"), &text);
    }
    let wrong = "target far = step { run = `cat {tabel} > {out \"x\"}` }\n";
    sandbox.write("p7/targets.nub", wrong);
    let mut client = Client::start(&sandbox);
    let (near, text) = (
        "p1/targets.nub",
        "target near = step { run = `cat {tabel} > {out \"x\"}` }\n",
    );
    client.open(near, text);
    let has_problem = |client: &Client, path: &str| {
        let uri = client.file(path);
        move |told: &Value| {
            told["uri"] == uri && !told["diagnostics"].as_array().unwrap().is_empty()
        }
    };
    // What one looks at comes first.
    client.hear(
        "textDocument/publishDiagnostics",
        has_problem(&client, near),
    );
    let found = client.hear(
        "textDocument/publishDiagnostics",
        has_problem(&client, "p7/targets.nub"),
    );
    assert_eq!(found["diagnostics"].as_array().unwrap().len(), 1, "{found}");
    let symbols = client.ask("workspace/symbol", &json!({"query": "t300"}));
    assert_eq!(symbols[0]["name"], "p300/t300");
    // Whoever types on hears of what they look at, and still of the rest.
    let text = "target near = step { run = `echo > {out \"x\"}`, after = [&p300/t3] }\n";
    client.change(near, text);
    let uri = client.file(near);
    client.hear("textDocument/publishDiagnostics", |told| {
        told["uri"] == uri && !told["diagnostics"].to_string().contains("tabel")
    });
    let far = client.hear(
        "textDocument/publishDiagnostics",
        has_problem(&client, "p7/targets.nub"),
    );
    assert!(far["diagnostics"].to_string().contains("tabel"), "{far}");
    let line = text.find("&p300/t3").unwrap() + "&p300/t3".len();
    let document = json!({"uri": client.file(near)});
    let asked = json!({"textDocument": document, "position": {"line": 0, "character": line}});
    let completed = client.ask("textDocument/completion", &asked);
    assert!(
        completed["items"].to_string().contains("&p300/t300"),
        "{completed}"
    );
    client.end();
}

#[test]
fn a_name_is_another_one_in_all_files_or_in_none() {
    let text = "use { ours } from \"/kit/names.nub\"\nlet all = \"*.c\"\ntarget fit = step { run = `echo {ours} {all} > {out \"x\"}` }\n\
                target show = step { run = `cat {fit} > {out \"y\"}` }\n";
    let sandbox = Sandbox::new(&[
        ("targets.nub", text),
        ("kit/names.nub", "let ours = \"-O1\"\nlet more = ours\n"),
        (
            "far/targets.nub",
            "target fit = step { run = `cat {in &fit} {in &far/fit2} > {out \"z\"}` }\ntarget fit2 = step { run = `echo > {out \"w\"}` }\n",
        ),
        (
            "clock/targets.nub",
            "target clock = step { run = `echo > {out \"c\"}` }\n",
        ),
        (
            "use/targets.nub",
            "target a = step { run = `cat {in &clock} > {out \"c\"}` }\n",
        ),
    ]);
    sandbox.run(&["build"]).expect(0);
    let mut client = Client::start(&sandbox);
    client.open("targets.nub", text);
    client.hear("textDocument/publishDiagnostics", |_| true);
    let rename = |client: &mut Client, path: &str, line: u32, character: u32, new: &str| {
        client.number += 1;
        let (id, uri) = (client.number, client.file(path));
        let params = json!({"textDocument": {"uri": uri}, "position": {"line": line, "character": character}, "newName": new});
        client.send(
            &json!({"jsonrpc": "2.0", "id": id, "method": "textDocument/rename", "params": params}),
        );
        loop {
            let message = client.next();
            if message["id"] == id {
                return message;
            }
        }
    };
    let counts = |answer: &Value| -> Vec<(String, usize)> {
        let changes = answer["result"]["changes"]
            .as_object()
            .unwrap_or_else(|| panic!("{answer}"));
        let mut counts: Vec<_> = changes
            .iter()
            .map(|(uri, edits)| {
                (
                    uri.rsplit("/work/").next().unwrap().to_owned(),
                    edits.as_array().unwrap().len(),
                )
            })
            .collect();
        counts.sort();
        counts
    };
    let of = |path: &str, count: usize| (path.to_owned(), count);
    // A target, with who needs it in other packages.
    let answer = rename(&mut client, "targets.nub", 2, 8, "curve");
    assert_eq!(
        counts(&answer),
        [of("far/targets.nub", 1), of("targets.nub", 2)],
        "{answer}"
    );
    // One that others call by its package alone.
    let answer = rename(&mut client, "clock/targets.nub", 0, 9, "watch");
    let uri = client.file("use/targets.nub");
    assert_eq!(
        answer["result"]["changes"][uri.as_str()][0]["newText"],
        "&clock/watch",
        "{answer}"
    );
    // What a file takes from another one.
    let answer = rename(&mut client, "kit/names.nub", 0, 5, "flags");
    assert_eq!(
        counts(&answer),
        [of("kit/names.nub", 2), of("targets.nub", 2)],
        "{answer}"
    );
    // What is written wrongly elsewhere may be meant for it: then nothing is begun.
    client.change(
        "targets.nub",
        &format!("{text}target broken = nothing_here\n"),
    );
    client.hear("textDocument/publishDiagnostics", |params| {
        !params["diagnostics"].as_array().unwrap().is_empty()
    });
    let answer = rename(&mut client, "targets.nub", 4, 8, "whole");
    assert!(
        answer["error"]["message"].is_string() || counts(&answer) == [of("targets.nub", 1)],
        "{answer}"
    );
    client.change("targets.nub", text);
    client.hear("textDocument/publishDiagnostics", |params| {
        params["diagnostics"].as_array().unwrap().is_empty()
    });
    // What is something else already, or no name, is not begun.
    for new in ["show", "Curve", "target", "a b"] {
        assert!(
            rename(&mut client, "targets.nub", 2, 8, new)["error"]["message"].is_string(),
            "{new}"
        );
    }
    client.end();
}

#[test]
fn an_editor_builds_what_it_was_offered_and_nothing_else() {
    let sandbox = Sandbox::new(&FILES);
    sandbox.write("targets.nub", &TARGETS.replace("tabel", "table"));
    let mut client = Client::start(&sandbox);
    for words in [
        json!(["clean", "--cache"]),
        json!(["build", "--help"]),
        json!(["build"]),
    ] {
        client.ask(
            "workspace/executeCommand",
            &json!({"command": "nubrik.run", "arguments": words}),
        );
    }
    client.ask(
        "workspace/executeCommand",
        &json!({"command": "nubrik.run", "arguments": ["build", "table"]}),
    );
    let told = client.hear("window/showMessage", |_| true);
    assert!(
        told["message"]
            .as_str()
            .unwrap()
            .starts_with("nubrik build table")
            && told["type"] == 3,
        "{told}"
    );
    assert_eq!(sandbox.read("out/default/table.csv"), "06:12\n");
    client.end();
}

#[test]
fn a_real_editor_shows_errors_and_leads_on() {
    let editor = match Command::new("nvim").arg("--version").output() {
        Ok(_) => "nvim",
        Err(_) => return skip(Need::Editor, "there is no nvim"),
    };
    let sandbox = Sandbox::new(&FILES);
    let program = crate::sandbox::program();
    // As the page about editors says it.
    let page = std::fs::read_to_string(editors().join("README.md")).unwrap();
    let setting = page
        .split("```lua\n")
        .nth(1)
        .unwrap()
        .split("```")
        .next()
        .unwrap();
    let colours = std::fs::read_to_string(editors().join("nub.vim")).unwrap();
    sandbox.write("config/syntax/nub.vim", &colours);
    let mut script = setting.replace(
        "cmd = { \"nubrik\"",
        &format!("cmd = {{ \"{}\"", program.display()),
    );
    write!(
        script,
        r#"
vim.opt.runtimepath:prepend(vim.fn.getcwd() .. "/config")
vim.cmd("syntax on")
vim.cmd("edit targets.nub")
vim.wait(15000, function() return #vim.diagnostic.get(0, {{ severity = vim.diagnostic.severity.ERROR }}) > 0 end, 20)
local out = io.open("said", "w")
for _, problem in ipairs(vim.diagnostic.get(0, {{ severity = vim.diagnostic.severity.ERROR }})) do
  out:write("problem " .. problem.lnum .. " " .. problem.message:gsub("\n", " / ") .. "\n")
end
local colour = function(line, column) return vim.fn.synIDattr(vim.fn.synID(line, column, 1), "name") end
out:write("colours " .. colour(1, 1) .. " " .. colour(1, 6) .. " " .. colour(3, 4) .. " " .. colour(4, 2) .. " " .. colour(5, 32) .. "\n")
vim.api.nvim_win_set_cursor(0, {{ 6, 63 }})
local params = vim.lsp.util.make_position_params()
local answers = vim.lsp.buf_request_sync(0, "textDocument/definition", params, 5000)
for _, answer in pairs(answers) do out:write("definition " .. answer.result.uri .. "\n") end
answers = vim.lsp.buf_request_sync(0, "textDocument/hover", params, 5000)
for _, answer in pairs(answers) do out:write("hover " .. answer.result.contents.value:gsub("\n", " / ") .. "\n") end
out:close()
vim.cmd("qall!")
"#
    )
    .unwrap();
    sandbox.write("client.lua", &script);
    let mut command = Command::new(editor);
    command
        .args(["--headless", "-u", "NONE", "-c", "luafile client.lua"])
        .current_dir(&sandbox.folder);
    let ended = command.env("HOME", &sandbox.folder).output().unwrap();
    let said = std::fs::read_to_string(sandbox.folder.join("said"))
        .unwrap_or_else(|_| panic!("{}", String::from_utf8_lossy(&ended.stderr)));
    assert!(
        said.contains("problem 7 ") && said.contains("try: table"),
        "{said}"
    );
    assert!(
        said.contains("/base/targets.nub") && said.contains("Hours."),
        "{said}"
    );
    assert!(
        said.contains("colours nubKeyword nubText nubDocumentation nubDeclaration"),
        "{said}"
    );
}

fn editors() -> std::path::PathBuf {
    std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../editors")
}

#[test]
fn grammars_for_editors_know_every_word() {
    let grammar = std::fs::read_to_string(editors().join("nub.tmLanguage.json")).unwrap();
    serde_json::from_str::<Value>(&grammar).unwrap();
    let vim = std::fs::read_to_string(editors().join("nub.vim")).unwrap();
    for word in nubrik_syntax::RESERVED_WORDS
        .iter()
        .chain(&nubrik_syntax::DECLARATION_WORDS)
    {
        let is_in = |text: &str| {
            text.split(|c: char| !c.is_alphanumeric() && c != '_')
                .any(|part| part == *word)
        };
        assert!(is_in(&grammar) && is_in(&vim), "{word}");
    }
}

#[test]
fn names_tell_their_values() {
    let text = "let hours = [\"6\", \"12\"]\nlet sources = glob(\"*.txt\")\noption mode: \"ebb\" | \"flow\" = \"flow\"\n\
                target t = step { run = `echo {hours} {mode} {sources} > {out \"x\"}` }\n";
    let sandbox = Sandbox::new(&[("targets.nub", text), ("a.txt", "6\n")]);
    let mut client = Client::start(&sandbox);
    client.open("targets.nub", text);
    client.hear("textDocument/publishDiagnostics", |_| true);
    let hover = |client: &mut Client, text: &str, word: &str| {
        let hover = client.at("textDocument/hover", text, word, 1);
        hover["contents"]["value"]
            .as_str()
            .unwrap_or_default()
            .to_owned()
    };
    assert!(hover(&mut client, text, "{hours").contains("a list: `\"6\", \"12\"`"));
    assert!(hover(&mut client, text, "{sources").contains("a set of files: `a.txt`"));
    assert!(hover(&mut client, text, "{mode").contains("a text: `\"flow\"`"));
    client.end();
}

/// Names that are taken from a file and from a kit, an option, and a call.
const TAKEN: &str = "\
use \"nub:c\" as c
use { program } from \"nub:c\"
use { ours } from \"kit/flags.nub\"
option mode: \"debug\" | \"release\" = \"debug\"
let names = [\"tide\", \"ebb\"]
let title = \"Tides\"
target fit = c.library { sources = \"fit.c\", headers = \"fit.h\", flags = ours }
target show = program { sources = \"show.c\", flags = ours + [names.join(\", \")] }
";

#[test]
fn names_of_other_files_and_kits_lead_there() {
    let sandbox = Sandbox::new(&FILES);
    sandbox.write("targets.nub", TAKEN);
    let kit = "## Flags of all.\nlet ours = [\"-O2\"]\nlet others = ours\n";
    sandbox.write("kit/flags.nub", kit);
    let mut client = Client::start(&sandbox);
    client.open("targets.nub", TAKEN);
    client.hear("textDocument/publishDiagnostics", |_| true);
    // From where it is used and from where it is taken.
    for (word, behind) in [("flags = ours", 9), ("{ ours }", 3)] {
        let hover = client.at("textDocument/hover", TAKEN, word, behind);
        let hover = hover["contents"]["value"].as_str().unwrap().to_owned();
        for part in [
            "let ours = [\"-O2\"]",
            "Flags of all.",
            "from kit/flags.nub",
        ] {
            assert!(hover.contains(part), "{part}: {hover}");
        }
        let definition = client.at("textDocument/definition", TAKEN, word, behind);
        assert!(
            definition["uri"]
                .as_str()
                .unwrap()
                .ends_with("/kit/flags.nub"),
            "{definition}"
        );
        assert_eq!(
            definition["range"]["start"],
            json!({"line": 1, "character": 4})
        );
        let references = client.at("textDocument/references", TAKEN, word, behind);
        assert_eq!(references.as_array().unwrap().len(), 5, "{references}");
        let prepared = client.at("textDocument/prepareRename", TAKEN, word, behind);
        assert_eq!(prepared["placeholder"], "ours", "{prepared}");
    }
    // The path of a `use` leads to the file.
    let definition = client.at("textDocument/definition", TAKEN, "kit/flags", 3);
    assert!(
        definition["uri"]
            .as_str()
            .unwrap()
            .ends_with("/kit/flags.nub"),
        "{definition}"
    );
    // A kind that is taken from a kit is known by its fields.
    let hover = client.at("textDocument/hover", TAKEN, "program {", 2);
    assert!(
        hover["contents"]["value"]
            .as_str()
            .unwrap()
            .contains("c.program"),
        "{hover}"
    );
    let hover = client.at("textDocument/hover", TAKEN, "sources = \"show.c\"", 2);
    assert!(
        hover["contents"]["value"]
            .as_str()
            .unwrap()
            .contains("of **c.program**"),
        "{hover}"
    );
    // Another name from the side of who uses it, in all files.
    let file = client.file("targets.nub");
    let line = TAKEN[..TAKEN.find("flags = ours").unwrap()]
        .matches('\n')
        .count();
    let params = json!({
        "textDocument": {"uri": file}, "newName": "mine",
        "position": {"line": line, "character": TAKEN.lines().nth(line).unwrap().find("ours").unwrap() + 1},
    });
    let renamed = client.ask("textDocument/rename", &params);
    let edits: usize = renamed["changes"]
        .as_object()
        .unwrap()
        .values()
        .map(|all| all.as_array().unwrap().len())
        .sum();
    assert_eq!(edits, 5, "{renamed}");
    // A parameter of a kind of one's own.
    let kind = format!(
        "{TAKEN}kind tide(sources: files, level: int = 1): {{ files: files }} {{\n    let made = step {{ run = `cat {{sources}} > {{out \"t\"}}` }}\n    give {{ files = made }}\n}}\n"
    );
    client.change("targets.nub", &kind);
    let hover = client.at("textDocument/hover", &kind, "cat {sources", 7);
    assert!(
        hover["contents"]["value"]
            .as_str()
            .unwrap()
            .contains("sources: files"),
        "{hover}"
    );
    let definition = client.at("textDocument/definition", &kind, "cat {sources", 7);
    assert_eq!(
        definition["range"]["start"]["character"], 10,
        "{definition}"
    );
    client.change("targets.nub", TAKEN);
    // What a call takes.
    let signature = client.at("textDocument/signatureHelp", TAKEN, "names.join(", 11);
    assert!(
        signature["signatures"][0]["documentation"]
            .as_str()
            .unwrap()
            .contains("one text of all items"),
        "{signature}"
    );
    assert_eq!(
        client.at("textDocument/signatureHelp", TAKEN, "let title", 4),
        Value::Null
    );
    client.end();
}

#[test]
fn what_is_proposed_fits_the_place() {
    let sandbox = Sandbox::new(&FILES);
    sandbox.write("targets.nub", TAKEN);
    sandbox.write("kit/flags.nub", "let ours = [\"-O2\"]\nlet others = ours\n");
    let mut client = Client::start(&sandbox);
    client.open("targets.nub", TAKEN);
    client.hear("textDocument/publishDiagnostics", |_| true);
    let mut labels = |line: &str, rest: &str| {
        let text = format!("{TAKEN}{line}{rest}\n");
        client.change("targets.nub", &text);
        client.labels(&text, line)
    };
    // In a hole: names, and the words of holes; no fields.
    let hole = labels("target more = step { run = `cat {", "}` }");
    assert!(
        hole.contains(&"in".to_owned()) && hole.contains(&"fit".to_owned()),
        "{hole:?}"
    );
    assert!(!hole.contains(&"say".to_owned()), "{hole:?}");
    assert!(labels("target more = step { run = `ca", "` }").is_empty());
    // Kits, and what they offer: kinds first.
    let kits = labels("use \"nub:", "\" as x");
    assert!(
        kits.contains(&"rust".to_owned()) && !kits.contains(&"fit.c".to_owned()),
        "{kits:?}"
    );
    let kits = labels("use \"", "\" as x");
    assert!(
        kits.contains(&"nub:rust".to_owned()) && kits.contains(&"kit/".to_owned()),
        "{kits:?}"
    );
    assert_eq!(
        labels("use {  ", "} from \"kit/flags.nub\""),
        ["ours", "others"]
    );
    let members = labels("use {   ", "} from \"nub:c\"");
    assert!(
        members.contains(&"library".to_owned()) && !members.contains(&"ours".to_owned()),
        "{members:?}"
    );
    let members = labels("let x = c.", "");
    let place = |name: &str| members.iter().position(|member| member == name);
    assert!(
        place("library") < place("tuning") && place("library").is_some(),
        "{members:?}"
    );
    // The texts that an option may be.
    assert_eq!(
        labels("let x = if mode == \"", "\" then 1 else 2"),
        ["debug", "release"]
    );
    assert!(labels("let x = title == \"", "\"").contains(&"fit.c".to_owned()));
    // Methods of what is before the dot.
    for (line, has, lacks) in [
        ("let x = [\"a\"].", "sorted", "lower"),
        ("let x = \"a\".", "lower", "sorted"),
        ("let x = names.", "sorted", "lower"),
        ("let x = title.", "lower", "sorted"),
        ("let x = { \"a\": 1 }.", "keys", "sorted"),
        ("let x = fit.", "sorted", "no_such"),
    ] {
        let methods = labels(line, "");
        assert!(
            methods.contains(&has.to_owned()) && !methods.contains(&lacks.to_owned()),
            "{line}: {methods:?}"
        );
    }
    client.end();
}
