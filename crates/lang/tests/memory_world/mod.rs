//! A world in memory.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use nubrik_lang::{
    Answer, AnswerText, DefinitionText, EntryKind, KitPlace, LibraryAnswer, LibraryRequest,
    LibrarySearch, Listing, NoAnswer, NotText, SampleRequest, StepRoots, ToolAnswer, ToolRequest,
    ToolSearch, World,
};
use nubrik_source::WsPath;
use parking_lot::Mutex;

pub struct MemoryWorld {
    files: BTreeMap<String, Arc<str>>,
    /// Folders whose listing is not there until it was asked for once.
    pub slow: bool,
    asked: Mutex<BTreeSet<WsPath>>,
    /// Answers of probes by their folders.
    pub answers: BTreeMap<String, Arc<str>>,
}

#[allow(dead_code)] // Each test program uses its part.
impl MemoryWorld {
    pub fn new(files: &[(&str, &str)]) -> Self {
        let files = files
            .iter()
            .map(|(p, t)| ((*p).to_owned(), Arc::from(*t)))
            .collect();
        MemoryWorld {
            files,
            slow: false,
            asked: Mutex::default(),
            answers: BTreeMap::new(),
        }
    }

    /// The files of an example: `#=== path` begins each; what is before is `targets.nub`.
    pub fn from_example(text: &str) -> Self {
        let mut files: Vec<(&str, String)> = vec![("targets.nub", String::new())];
        for line in text.lines() {
            match line.strip_prefix("#=== ") {
                Some(path) => files.push((path.trim(), String::new())),
                None => {
                    let last = &mut files.last_mut().unwrap().1;
                    last.push_str(line);
                    last.push('\n');
                }
            }
        }
        let files: Vec<(&str, &str)> = files.iter().map(|(p, t)| (*p, t.as_str())).collect();
        Self::new(&files)
    }

    pub fn files(&self) -> impl Iterator<Item = (&str, &str)> {
        self.files.iter().map(|(p, t)| (p.as_str(), &**t))
    }

    /// How many folders were asked for.
    pub fn asked(&self) -> usize {
        self.asked.lock().len()
    }
}

impl World for MemoryWorld {
    fn roots(&self) -> &StepRoots {
        StepRoots::none()
    }

    fn test_patience(&self) -> u64 {
        600_000
    }

    fn definition(&self, path: &WsPath) -> Answer<DefinitionText> {
        Answer::Ready(match self.files.get(path.as_str()) {
            Some(text) => DefinitionText::Text(text.clone()),
            None => DefinitionText::Missing,
        })
    }

    fn shipped_kit(&self, name: &str) -> Option<&'static str> {
        (name == "c").then_some(include_str!("../../../../kits/c.nub"))
    }

    fn shipped_kits(&self) -> Vec<&'static str> {
        vec!["c"]
    }

    fn kit_archive(&self, name: &str) -> KitPlace {
        match name {
            "harbour" => KitPlace::Here(
                WsPath::from_normal("unpacked/harbour"),
                vec!["charts.nub".to_owned()],
            ),
            "far" => KitPlace::NotHere("it was not fetched yet".to_owned()),
            _ => KitPlace::Unnamed(vec!["far".to_owned(), "harbour".to_owned()]),
        }
    }

    fn list(&self, folder: &WsPath) -> Answer<Arc<Listing>> {
        if self.asked.lock().insert(folder.clone()) && self.slow {
            return Answer::Pending;
        }
        let (mut files, mut folders) = (BTreeSet::new(), BTreeSet::new());
        for path in self.files.keys() {
            let path = WsPath::from_normal(path);
            let Some(rest) = path.below(folder) else {
                continue;
            };
            match rest.split_once('/') {
                Some((first, _)) => folders.insert(Arc::<str>::from(first)),
                None => files.insert(rest.into()),
            };
        }
        let listing = Listing {
            files: files.into_iter().collect(),
            folders: folders.into_iter().collect(),
            problem: None,
        };
        Answer::Ready(Arc::new(listing))
    }

    fn kind(&self, path: &WsPath) -> Answer<Option<EntryKind>> {
        if self.files.contains_key(path.as_str()) {
            return Answer::Ready(Some(EntryKind::File));
        }
        let below = self
            .files
            .keys()
            .any(|p| WsPath::from_normal(p).below(path).is_some());
        Answer::Ready(below.then_some(EntryKind::Folder))
    }

    fn env(&self, name: &str) -> Result<Option<String>, NotText> {
        Ok((name == "CHANNEL").then(|| "draft".to_owned()))
    }

    /// The machine has `python3` 3.11.7 and `cc`.
    fn dangling(&self, _: &WsPath) -> Vec<String> {
        Vec::new()
    }

    fn tool_names(&self) -> Vec<String> {
        vec!["cat".to_owned(), "python3".to_owned()]
    }

    fn tool(&self, request: &ToolRequest) -> Answer<ToolSearch> {
        let known = [("python3", "3.11.7"), ("cc", "12.2.0")];
        let found = request.names.iter().filter_map(|name| {
            let (_, version) = known.iter().find(|(n, _)| *n == &**name)?;
            let version = request.version.is_some().then(|| Arc::from(*version));
            Some(ToolAnswer {
                name: name.clone(),
                path: format!("/usr/bin/{name}").into(),
                version,
            })
        });
        Answer::Ready(ToolSearch {
            found: found.collect(),
            searched: vec!["/usr/bin".into()],
            mend: None,
        })
    }

    /// The machine has `zlib` 1.2.13.
    fn library(&self, request: &LibraryRequest) -> Answer<LibrarySearch> {
        let zlib = LibraryAnswer {
            name: "zlib".into(),
            version: "1.2.13".into(),
            compile: vec![],
            link: vec!["-lz".into()],
        };
        let found = request
            .names
            .iter()
            .any(|n| &**n == "zlib")
            .then_some(zlib)
            .into_iter()
            .collect();
        Answer::Ready(LibrarySearch {
            found,
            searched: vec!["/usr/lib/pkgconfig".into()],
            problem: None,
        })
    }

    /// Each sample answers with its words.
    fn sample(&self, request: &SampleRequest) -> Answer<Result<AnswerText, NoAnswer>> {
        let words = &request.commands[0][0].words;
        let ok = &*words[0] != "false";
        Answer::Ready(Ok(AnswerText {
            ok,
            text: words[1..].join("\n").into(),
            errors: "".into(),
        }))
    }

    fn probe(&self, folder: &WsPath) -> Answer<AnswerText> {
        match self.answers.get(folder.as_str()) {
            Some(text) => Answer::Ready(AnswerText {
                ok: true,
                text: text.clone(),
                errors: "".into(),
            }),
            None => Answer::Pending,
        }
    }
}
