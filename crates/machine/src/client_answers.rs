//! Clients of registries that are asked where they go, as the person would ask them: with the
//! person's own variables and settings, but in no folder of anybody else, so that no checkout
//! decides what they say.

use std::io::{self, Read};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::channel;
use std::time::{Duration, Instant};
use std::{fs, thread};

use nubrik_pins::ClientQuestion;
use rustix::process::{Pid, Signal, kill_process_group};

use crate::search_path::on_persons_path;

/// `off` asks no client: then the address of a registry comes from settings alone.
const ASK_CLIENTS: &str = "NUBRIK_ASK_CLIENTS";

/// The variable that forbids to ask clients, if it does.
pub(crate) fn forbidden_by() -> Option<&'static str> {
    std::env::var(ASK_CLIENTS)
        .is_ok_and(|word| word == "off")
        .then_some(ASK_CLIENTS)
}

/// How long a client may take.
const PATIENCE: Duration = Duration::from_secs(20);

/// How much of each stream of an answer is read, in bytes.
const LIMIT: u64 = 256 << 10;

/// What a client prints, first on its output and then on its errors, however it ends; `None` where
/// there is none, where it says nothing in time. What lies in the workspace is nobody's client.
pub(crate) fn answer(question: &ClientQuestion, workspace: &Path) -> Option<String> {
    let program = on_persons_path(question.program)?;
    // A search path may lead into a checkout.
    let is_of_workspace = |path: &Path| {
        path.canonicalize()
            .is_ok_and(|path| path.starts_with(workspace))
    };
    if !program.is_absolute() || program.starts_with(workspace) || is_of_workspace(&program) {
        return None;
    }
    let folder = tempfile::Builder::new()
        .prefix("nubrik-asks-")
        .tempdir()
        .ok()?;
    for (path, text) in question.files {
        let path = folder.path().join(path);
        fs::create_dir_all(path.parent()?).ok()?;
        fs::write(path, text).ok()?;
    }
    let here = folder.path().to_str()?;
    let filled = |text: &str| text.replace("{folder}", here);
    let mut command = Command::new(program);
    command
        .args(question.words.iter().map(|word| filled(word)))
        .envs(
            question
                .variables
                .iter()
                .map(|(name, value)| (name, filled(value))),
        )
        // Settings of folders above are nobody's but the machine's.
        .current_dir("/")
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .process_group(0);
    printed(command.spawn().ok()?)
}

/// What a process prints. With its time all of its group ends.
fn printed(mut child: Child) -> Option<String> {
    let group = Pid::from_child(&child);
    let (tell, ended) = channel();
    let streams: [Option<Box<dyn Read + Send>>; 2] = [
        child
            .stdout
            .take()
            .map(|stream| Box::new(stream) as Box<dyn Read + Send>),
        child
            .stderr
            .take()
            .map(|stream| Box::new(stream) as Box<dyn Read + Send>),
    ];
    for (number, stream) in streams.into_iter().enumerate() {
        let tell = tell.clone();
        thread::spawn(move || {
            let mut bytes = Vec::new();
            let read = stream.map(|mut stream| {
                stream.by_ref().take(LIMIT).read_to_end(&mut bytes)?;
                // What is beyond the limit is thrown away, so that it does not wait for a reader.
                io::copy(&mut stream, &mut io::sink())
            });
            let _ = tell.send((
                number,
                read.is_some_and(|read| read.is_ok()).then_some(bytes),
            ));
        });
    }
    let until = Instant::now() + PATIENCE;
    let mut texts = [String::new(), String::new()];
    let mut is_whole = true;
    for _ in 0..texts.len() {
        match ended.recv_timeout(until.saturating_duration_since(Instant::now())) {
            Ok((number, Some(bytes))) => {
                texts[number] = String::from_utf8_lossy(&bytes).into_owned()
            }
            _ => is_whole = false,
        }
    }
    // Its streams may be held by what it left running.
    let _ = kill_process_group(group, Signal::KILL);
    let _ = child.wait();
    let text = texts.join("\n");
    (is_whole && !text.trim().is_empty()).then_some(text)
}
