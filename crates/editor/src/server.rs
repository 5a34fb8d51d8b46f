//! The conversation with an editor.

use std::collections::{HashMap, HashSet};
use std::fs;
use std::io;
use std::sync::Arc;

use crossbeam_channel::{never, select};
use lsp_server::{Connection, ErrorCode, Message, Notification, Request, Response};
use lsp_types as lsp;
use lsp_types::Uri;
use nubrik_lang::topics::Topic;
use nubrik_lang::{AddressPattern, Evaluation};
use nubrik_session::Session;
use nubrik_source::WsPath;
use serde::de::DeserializeOwned;
use serde_json::{Value, json};

use crate::completing::completions;
use crate::document::OpenText;
use crate::places::{DefinitionFiles, FileAddresses};
use crate::problems::{actions, problems};
use crate::reading;
use crate::renaming::{RenameRefusal, renamed, renamed_at};
use crate::state::{Beside, EditorKnowledge, Evaluated, UnsavedTexts, begin};

/// Runs a command of the program for an editor: words as on the command line. Gives what it
/// printed, and whether it ended well.
pub type Runner = Arc<dyn Fn(&[String]) -> (String, bool) + Send + Sync>;

/// What the server does.
fn abilities() -> Value {
    json!({
        "positionEncoding": "utf-16",
        "textDocumentSync": {"openClose": true, "change": 1, "save": true},
        "hoverProvider": true,
        "definitionProvider": true,
        "referencesProvider": true,
        "renameProvider": {"prepareProvider": true},
        "documentSymbolProvider": true,
        "workspaceSymbolProvider": true,
        "documentFormattingProvider": true,
        "foldingRangeProvider": true,
        "codeActionProvider": {"codeActionKinds": ["quickfix"]},
        "codeLensProvider": {"resolveProvider": false},
        "completionProvider": {"triggerCharacters": ["&", ".", "/", "\"", "{"]},
        "signatureHelpProvider": {"triggerCharacters": ["(", ","]},
        "executeCommandProvider": {"commands": [reading::RUN]},
        "semanticTokensProvider": {
            "legend": {"tokenTypes": reading::TOKEN_TYPES, "tokenModifiers": []},
            "full": true,
        },
    })
}

struct EditorServer<'s> {
    connection: &'s Connection,
    places: FileAddresses,
    root: std::path::PathBuf,
    documents: HashMap<WsPath, OpenText>,
    known: EditorKnowledge,
    beside: Beside,
    /// Files of which something was reported.
    told: HashSet<WsPath>,
    runner: Runner,
}

/// Talks to an editor over standard input and output until it ends the conversation.
///
/// # Errors
/// When the conversation breaks.
pub fn serve(session: Session, topics: Vec<Topic>, runner: Runner) -> io::Result<()> {
    let (connection, carriers) = crate::wire::over_standard_streams();
    let done = converse(&connection, session, topics, runner);
    drop(connection);
    carriers.join()?;
    done
}

fn converse(
    connection: &Connection,
    session: Session,
    topics: Vec<Topic>,
    runner: Runner,
) -> io::Result<()> {
    let (id, _) = connection.initialize_start().map_err(io::Error::other)?;
    let about = json!({"capabilities": abilities(), "serverInfo": {"name": "nubrik", "version": env!("CARGO_PKG_VERSION")}});
    connection
        .initialize_finish(id, about)
        .map_err(io::Error::other)?;
    let root = session.workspace.root.clone();
    let nothing = Evaluated {
        evaluation: nothing_known(&session),
        files: Vec::new(),
        costs: HashMap::new(),
        names: Vec::new(),
        packages: Vec::new(),
        texts: HashMap::new(),
        is_whole: false,
    };
    let known = EditorKnowledge {
        evaluated: Arc::new(nothing),
        whole: None,
        topics,
    };
    let mut server = EditorServer {
        connection,
        places: FileAddresses::new(&root),
        root,
        documents: HashMap::new(),
        known,
        beside: begin(session),
        told: HashSet::new(),
        runner,
    };
    server.evaluate();
    server.talk()
}

/// An evaluation of nothing.
fn nothing_known(session: &Session) -> Evaluation {
    let no_patterns: [AddressPattern; 0] = [];
    session.evaluate(&no_patterns)
}

fn parsed<T: DeserializeOwned>(params: Value) -> Option<T> {
    serde_json::from_value(params).ok()
}

fn to_value<T: serde::Serialize>(value: T) -> Value {
    serde_json::to_value(value).unwrap_or(Value::Null)
}

impl EditorServer<'_> {
    fn talk(&mut self) -> io::Result<()> {
        loop {
            while let Ok(done) = self.beside.1.try_recv() {
                self.known.take(done);
                self.tell_problems();
            }
            let message = select! {
                recv(self.beside.1) -> done => {
                    match done {
                        Ok(done) => {
                            self.known.take(done);
                            self.tell_problems();
                        }
                        // Nothing more comes of a thread that ended.
                        Err(_) => self.beside.1 = never(),
                    }
                    continue;
                }
                recv(self.connection.receiver) -> message => match message {
                    Ok(message) => message,
                    // The editor is gone.
                    Err(_) => return Ok(()),
                }
            };
            match message {
                Message::Request(request) => {
                    if self
                        .connection
                        .handle_shutdown(&request)
                        .map_err(io::Error::other)?
                    {
                        return Ok(());
                    }
                    let response = self.answer(request);
                    self.send(Message::Response(response))?;
                }
                Message::Notification(notification) => self.hear(notification),
                Message::Response(_) => {}
            }
        }
    }

    fn send(&self, message: Message) -> io::Result<()> {
        self.connection
            .sender
            .send(message)
            .map_err(io::Error::other)
    }

    fn notify(&self, method: &str, params: Value) {
        let _ = self.send(Message::Notification(Notification {
            method: method.to_owned(),
            params,
        }));
    }

    /// Asks for an evaluation of the texts as they are now.
    fn evaluate(&self) {
        let texts: UnsavedTexts = self
            .documents
            .iter()
            .map(|(path, document)| (path.clone(), document.text.clone()))
            .collect();
        let _ = self.beside.0.send(texts);
    }

    fn hear(&mut self, notification: Notification) {
        let params = notification.params;
        match notification.method.as_str() {
            "textDocument/didOpen" => {
                let Some(opened) = parsed::<lsp::DidOpenTextDocumentParams>(params) else {
                    return;
                };
                self.take(&opened.text_document.uri, opened.text_document.text);
            }
            "textDocument/didChange" => {
                let Some(changed) = parsed::<lsp::DidChangeTextDocumentParams>(params) else {
                    return;
                };
                let Some(last) = changed.content_changes.into_iter().next_back() else {
                    return;
                };
                self.take(&changed.text_document.uri, last.text);
            }
            "textDocument/didClose" => {
                let Some(closed) = parsed::<lsp::DidCloseTextDocumentParams>(params) else {
                    return;
                };
                if let Some(path) = self.places.path(&closed.text_document.uri) {
                    self.documents.remove(&path);
                }
                self.evaluate();
            }
            "textDocument/didSave" | "workspace/didChangeWatchedFiles" => self.evaluate(),
            _ => {}
        }
    }

    fn take(&mut self, uri: &Uri, text: String) {
        let Some(path) = self.places.path(uri) else {
            return;
        };
        self.documents
            .insert(path.clone(), OpenText::new(path, text));
        self.evaluate();
    }

    /// Tells what is wrong in each file, and that nothing is any more where something was.
    fn tell_problems(&mut self) {
        let all = problems(&self.places, &self.known);
        let mut files: HashSet<WsPath> = std::mem::take(&mut self.told);
        // Of what is open the editor also hears that nothing is wrong.
        files.extend(all.keys().chain(self.documents.keys()).cloned());
        let mut files: Vec<WsPath> = files.into_iter().collect();
        files.sort();
        for path in files {
            let Some(uri) = self.places.uri(&path) else {
                continue;
            };
            let diagnostics = all.get(&path).cloned().unwrap_or_default();
            if !diagnostics.is_empty() {
                self.told.insert(path);
            }
            let params = lsp::PublishDiagnosticsParams {
                uri,
                diagnostics,
                version: None,
            };
            self.notify("textDocument/publishDiagnostics", to_value(params));
        }
    }

    fn answer(&mut self, request: Request) -> Response {
        let Request { id, method, params } = request;
        if method == "textDocument/rename" {
            return match self.rename(params) {
                Ok(edit) => Response::new_ok(id, edit),
                // What cannot be done is reported to who asked.
                Err(why) => Response::new_err(id, ErrorCode::RequestFailed as i32, why.to_string()),
            };
        }
        match self.reply(&method, params) {
            Some(value) => Response::new_ok(id, value),
            None => Response::new_err(
                id,
                ErrorCode::MethodNotFound as i32,
                format!("{method} is not understood"),
            ),
        }
    }

    fn rename(&self, params: Value) -> Result<lsp::WorkspaceEdit, RenameRefusal> {
        let asked = parsed::<lsp::RenameParams>(params).ok_or(RenameRefusal::NotUnderstood)?;
        let at = asked.text_document_position;
        let document = self
            .document(&at.text_document.uri)
            .ok_or(RenameRefusal::Elsewhere)?;
        let read = |path: &WsPath| self.text(path);
        let byte = document.byte(at.position);
        let definitions = DefinitionFiles {
            paths: &self.known.evaluated.files,
            read: &read,
        };
        renamed(
            &self.known,
            &self.places,
            &document,
            byte,
            &asked.new_name,
            &definitions,
        )
    }

    /// A text as the editor has it, or as the disk has it.
    fn document(&self, uri: &Uri) -> Option<OpenText> {
        let path = self.places.path(uri)?;
        let text = self.text(&path)?;
        Some(OpenText::new(path, text))
    }

    fn text(&self, path: &WsPath) -> Option<String> {
        match self.documents.get(path) {
            Some(document) => Some(document.text.to_string()),
            None => nubrik_disk::read_text(&self.root.join(path.as_str())).ok(),
        }
    }

    /// What a request is answered; nothing for one that is not known. What cannot be read is
    /// answered with null.
    fn reply(&mut self, method: &str, params: Value) -> Option<Value> {
        let known = &self.known;
        let uri = params["textDocument"]["uri"]
            .as_str()
            .and_then(|uri| uri.parse::<Uri>().ok());
        let document = uri.as_ref().and_then(|uri| self.document(uri));
        let position = parsed::<lsp::Position>(params["position"].clone());
        let at = document
            .as_ref()
            .zip(position)
            .map(|(document, position)| (document, document.byte(position)));
        Some(match method {
            "textDocument/hover" => {
                let hover = at.and_then(|(document, byte)| {
                    reading::hover(known, document, byte, &|path| self.text(path))
                });
                hover.map_or(
                    Value::Null,
                    |(text, range)| json!({"contents": {"kind": "markdown", "value": text}, "range": range}),
                )
            }
            "textDocument/definition" => to_value(at.and_then(|(document, byte)| {
                reading::definition(known, &self.places, document, byte, &|path| self.text(path))
            })),
            "textDocument/prepareRename" => {
                let renamed = at.and_then(|(document, byte)| renamed_at(known, document, byte));
                renamed.map_or(
                    Value::Null,
                    |(_, name, range)| json!({"range": range, "placeholder": name}),
                )
            }
            "textDocument/references" => to_value(at.map(|(document, byte)| {
                let read = |path: &WsPath| self.text(path);
                let definitions = DefinitionFiles {
                    paths: &self.known.evaluated.files,
                    read: &read,
                };
                reading::references(known, &self.places, document, byte, &definitions)
            })),
            "textDocument/signatureHelp" => {
                let found =
                    at.and_then(|(document, byte)| reading::signature(known, document, byte));
                found.map_or(Value::Null, |(label, documentation, argument)| {
                    let one =
                        json!({"label": label, "documentation": documentation, "activeParameter": argument});
                    json!({"signatures": [one], "activeSignature": 0, "activeParameter": argument})
                })
            }
            "textDocument/completion" => at.map_or(Value::Null, |(document, byte)| {
                let (items, is_incomplete) = completions(
                    known,
                    document,
                    byte,
                    &|folder| self.names_in(folder),
                    &|path| self.text(path),
                );
                json!({"isIncomplete": is_incomplete, "items": items})
            }),
            "textDocument/documentSymbol" => to_value(document.as_ref().map(reading::symbols)),
            "textDocument/foldingRange" => to_value(document.as_ref().map(reading::folds)),
            "textDocument/codeLens" => to_value(
                document
                    .as_ref()
                    .map(|document| reading::lenses(known, document)),
            ),
            "textDocument/semanticTokens/full" => {
                document.as_ref().map_or(Value::Null, |document| {
                    let words = reading::words(known, document);
                    let data: Vec<u32> = words
                        .iter()
                        .flat_map(|w| {
                            [
                                w.delta_line,
                                w.delta_start,
                                w.length,
                                w.token_type,
                                w.token_modifiers_bitset,
                            ]
                        })
                        .collect();
                    json!({"data": data})
                })
            }
            "textDocument/formatting" => document.as_ref().map_or(Value::Null, |document| {
                let whole = document.range(0, document.text.len());
                let edit = |new_text| {
                    vec![lsp::TextEdit {
                        range: whole,
                        new_text,
                    }]
                };
                to_value(
                    reading::formatted(document)
                        .filter(|text| **text != *document.text)
                        .map(edit),
                )
            }),
            "textDocument/codeAction" => match (parsed::<lsp::CodeActionParams>(params), &document)
            {
                (Some(asked), Some(document)) => to_value(actions(
                    document,
                    &asked.text_document.uri,
                    &asked.context.diagnostics,
                )),
                _ => Value::Null,
            },
            "workspace/symbol" => to_value(self.found(params["query"].as_str().unwrap_or(""))),
            "workspace/executeCommand" => {
                let words: Vec<String> = parsed(params["arguments"].clone()).unwrap_or_default();
                if params["command"] == reading::RUN {
                    self.run(&words);
                }
                Value::Null
            }
            _ => return None,
        })
    }

    /// Names in a folder, folders with `/` behind them; nothing of what is hidden, or made.
    fn names_in(&self, folder: &str) -> Vec<String> {
        let Ok(path) = WsPath::root().resolve(folder) else {
            return Vec::new();
        };
        let Ok(entries) = fs::read_dir(self.root.join(path.as_str())) else {
            return Vec::new();
        };
        let name = |entry: fs::DirEntry| {
            let name = entry.file_name().into_string().ok()?;
            let is_folder = entry.file_type().ok()?.is_dir();
            (!name.starts_with('.')).then(|| if is_folder { name + "/" } else { name })
        };
        let mut names: Vec<String> = entries.flatten().filter_map(name).collect();
        names.sort();
        names
    }

    /// Targets whose addresses have a text.
    #[allow(deprecated)] // A field that must be there.
    fn found(&self, text: &str) -> Vec<lsp::SymbolInformation> {
        let text = text.to_lowercase();
        let targets = self
            .known
            .targets(|target| target.address.to_lowercase().contains(&text));
        let symbol = |target: &nubrik_graph::Target| {
            let uri = self
                .places
                .uri(&WsPath::root().resolve(&target.place.file).ok()?)?;
            let line = lsp::Position {
                line: target.place.line.saturating_sub(1),
                character: 0,
            };
            Some(lsp::SymbolInformation {
                name: target.address.to_string(),
                kind: lsp::SymbolKind::OBJECT,
                tags: None,
                deprecated: None,
                location: lsp::Location {
                    uri,
                    range: lsp::Range {
                        start: line,
                        end: line,
                    },
                },
                container_name: Some(target.kind.to_string()),
            })
        };
        targets.filter_map(symbol).take(200).collect()
    }

    /// Builds, tests, or says why; what came of it is sent as a message, all of what was printed as
    /// a record.
    fn run(&self, words: &[String]) {
        // An editor asks for nothing else than what it was offered.
        let is_offered = matches!(words, [verb, address] if ["build", "test", "why"].contains(&verb.as_str()) && !address.starts_with('-'));
        if !is_offered {
            return;
        }
        let (runner, sender, words) = (
            self.runner.clone(),
            self.connection.sender.clone(),
            words.to_vec(),
        );
        // Whoever types goes on meanwhile.
        std::thread::spawn(move || {
            let (printed, is_well) = runner(&words);
            let last = printed
                .lines()
                .rev()
                .find(|line| !line.trim().is_empty())
                .unwrap_or("");
            let kind = if is_well { 3 } else { 1 };
            let text = format!("nubrik {}: {last}", words.join(" "));
            let told = [
                ("window/logMessage", json!({"type": 4, "message": printed})),
                ("window/showMessage", json!({"type": kind, "message": text})),
            ];
            for (method, params) in told {
                let _ = sender.send(Message::Notification(Notification {
                    method: method.to_owned(),
                    params,
                }));
            }
        });
    }
}
