//! `nubrik lsp`: an editor asks, over standard input and output.

use std::process::Command;
use std::sync::Arc;

use super::{CommandResult, all_topics, open, say_wrong};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::Console;

/// Talks to an editor until it ends the conversation.
pub fn serve_editor(console: Console, choice: &Choice) -> CommandResult<Exit> {
    let session = open(console, choice)?;
    let root = session.workspace.root.clone();
    let _watcher = super::watcher::Open::begin(&root);
    let program = std::env::current_exe().map_err(|e| {
        say_wrong(
            console,
            Exit::Own,
            &format!("cannot find this program: {e}"),
            &[],
        )
    })?;
    let runner = move |words: &[String]| {
        let run = Command::new(&program)
            .args(words)
            .args(["--plain", "--color", "never"])
            .current_dir(&root)
            .output();
        match run {
            Ok(output) => {
                let text = [output.stdout, output.stderr].concat();
                (
                    String::from_utf8_lossy(&text).into_owned(),
                    output.status.success(),
                )
            }
            Err(e) => (format!("cannot run nubrik: {e}"), false),
        }
    };
    nubrik_editor::serve(session, all_topics(), Arc::new(runner)).map_err(|why| {
        let mend = "this command is for editors: the handbook says how each one starts it";
        say_wrong(
            console,
            Exit::Own,
            &format!("the conversation with the editor broke: {why}"),
            &[mend],
        )
    })?;
    Ok(Exit::Done)
}
