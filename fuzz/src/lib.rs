//! What the fuzz targets share: a workspace in memory, and evaluation with little patience.

use std::collections::BTreeMap;
use std::sync::Arc;

use nubrik_lang::{
    AddressPattern, Answer, AnswerText, DefinitionText, EntryKind, Evaluator, KitPlace, LibraryRequest,
    LibrarySearch, Listing, NoAnswer, NotText, SampleRequest, ToolAnswer, ToolRequest, ToolSearch, World,
};
use nubrik_source::WsPath;

/// How much work one input may ask for.
const WORK: u64 = 20_000;

/// Stack of the thread that evaluates, as in the program.
const STACK: usize = 256 << 20;

struct Memory {
    files: BTreeMap<&'static str, Arc<str>>,
}

impl World for Memory {
    fn definition(&self, path: &WsPath) -> Answer<DefinitionText> {
        Answer::Ready(match self.files.get(path.as_str()) {
            Some(text) => DefinitionText::Text(text.clone()),
            None => DefinitionText::Missing,
        })
    }

    fn shipped_kit(&self, name: &str) -> Option<&'static str> {
        (name == "c").then_some(include_str!("../../kits/c.nub"))
    }

    fn shipped_kits(&self) -> Vec<&'static str> {
        vec!["c"]
    }

    fn kit_archive(&self, _: &str) -> KitPlace {
        KitPlace::Unnamed(Vec::new())
    }

    fn test_patience(&self) -> u64 {
        600_000
    }

    fn list(&self, folder: &WsPath) -> Answer<Arc<Listing>> {
        let mut listing = Listing::default();
        if folder.is_root() {
            listing.files = self.files.keys().filter(|p| !p.contains('/')).map(|p| (*p).into()).collect();
            listing.folders = vec!["src".into()];
        } else if folder.as_str() == "src" {
            listing.files = vec!["a.c".into(), "b.c".into()];
        }
        Answer::Ready(Arc::new(listing))
    }

    fn kind(&self, path: &WsPath) -> Answer<Option<EntryKind>> {
        Answer::Ready(match path.as_str() {
            "src" | "" => Some(EntryKind::Folder),
            "src/a.c" | "src/b.c" => Some(EntryKind::File),
            other => self.files.contains_key(other).then_some(EntryKind::File),
        })
    }

    fn env(&self, name: &str) -> Result<Option<String>, NotText> {
        Ok((name.len() < 4).then(|| name.to_owned()))
    }

    fn dangling(&self, _: &WsPath) -> Vec<String> {
        Vec::new()
    }

    fn tool_names(&self) -> Vec<String> {
        Vec::new()
    }

    fn tool(&self, request: &ToolRequest) -> Answer<ToolSearch> {
        let name = request.names[0].clone();
        let found =
            vec![ToolAnswer { path: format!("/usr/bin/{name}").into(), name, version: Some("1.2".into()) }];
        Answer::Ready(ToolSearch { found, ..ToolSearch::default() })
    }

    fn library(&self, _: &LibraryRequest) -> Answer<LibrarySearch> {
        Answer::Ready(LibrarySearch::default())
    }

    fn sample(&self, request: &SampleRequest) -> Answer<Result<AnswerText, NoAnswer>> {
        let text = format!("{:?}", request.commands.len());
        Answer::Ready(Ok(AnswerText { ok: true, text: text.into(), errors: "".into() }))
    }

    fn probe(&self, _: &WsPath) -> Answer<AnswerText> {
        Answer::Ready(AnswerText { ok: true, text: "[1, 2]".into(), errors: "".into() })
    }
}

/// Evaluates everything in a workspace of these files. Any input must come to an end with a graph or
/// with errors.
pub fn evaluate(files: &[(&'static str, &str)]) {
    let files = files.iter().map(|(path, text)| (*path, Arc::from(*text))).collect();
    let world = Memory { files };
    std::thread::scope(|scope| {
        let thread = std::thread::Builder::new().stack_size(STACK);
        let work = || {
            let all = AddressPattern::below(&WsPath::root());
            Evaluator::new(&world).with_work_limit(WORK).request(&[all]);
        };
        let running = thread.spawn_scoped(scope, work).expect("a thread");
        if running.join().is_err() {
            std::process::abort();
        }
    });
}
