//! Values. They belong to the thread that evaluates them: what goes to another one is the graph.

use std::cell::RefCell;
use std::rc::Rc;
use std::sync::Arc;

use crate::hir::DeclId;
use crate::reported::Reported;
use nubrik_graph::Service;
use nubrik_source::{Span, WsPath};
use rustc_hash::FxHashMap;
use smallvec::SmallVec;

use crate::eval::{Reads, Scope};
use crate::hir::{ExprId, ModuleId};
use crate::types::Type;

/// A source file or an output, or a folder of either.
#[derive(Clone, PartialEq, Eq, Debug, PartialOrd, Ord, Hash)]
pub(crate) struct FileRef {
    pub path: WsPath,
    /// The number of the step that makes it.
    pub maker: Option<u32>,
    pub folder: bool,
}

/// A piece of a text made from files.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) enum Strand {
    Literal(Arc<str>),
    File(FileRef),
    Tool(Rc<ToolValue>),
    /// A variable of the environment, by its name, whose value is private.
    Secret(Arc<str>),
    /// Where a service is.
    Served(Rc<ServiceValue>, Whereabouts),
    /// Where the service is in whose definition this is.
    Own(Whereabouts),
}

/// What one wants to know to reach a service.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Whereabouts {
    Port,
    Address,
}

/// A service, with what it uses as this evaluation knows it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct ServiceValue {
    pub service: Arc<Service>,
    pub files: Vec<FileRef>,
}

/// A program of the machine.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct ToolValue {
    pub name: Arc<str>,
    pub path: Arc<str>,
    pub version: Option<Arc<str>>,
}

/// What a sample or probe answered.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct AnswerValue {
    pub ok: bool,
    pub text: Arc<str>,
    pub errors: Arc<str>,
}

/// A text: plain characters, or a rope of characters and the files that it was made from.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) enum Text {
    Plain(Arc<str>),
    Carrying(Rc<[Strand]>),
}

impl Text {
    /// The pieces of the text.
    pub fn strands(&self) -> Vec<Strand> {
        match self {
            Text::Plain(text) => vec![Strand::Literal(text.clone())],
            Text::Carrying(strands) => strands.to_vec(),
        }
    }

    /// The characters, when the text carries nothing.
    pub fn plain(&self) -> Option<&Arc<str>> {
        match self {
            Text::Plain(text) => Some(text),
            Text::Carrying(_) => None,
        }
    }
}

/// A text while it is put together: characters, until something comes that it carries.
#[derive(Default)]
pub(crate) struct Joined {
    strands: Vec<Strand>,
    /// Characters after the last strand.
    characters: String,
    /// How many bytes of characters are in the strands.
    bytes: usize,
}

impl Joined {
    /// An empty one that uses the room of an earlier one.
    pub fn in_room(mut room: String) -> Joined {
        room.clear();
        Joined {
            characters: room,
            ..Joined::default()
        }
    }

    /// How large the text is so far, in bytes: what it carries counts like some characters.
    pub fn size(&self) -> usize {
        self.bytes + self.characters.len() + self.strands.len() * 16
    }

    pub fn push_str(&mut self, characters: &str) {
        self.characters.push_str(characters);
    }

    pub fn push(&mut self, strand: Strand) {
        match strand {
            Strand::Literal(characters) => self.push_str(&characters),
            other => {
                self.end_characters();
                self.strands.push(other);
            }
        }
    }

    pub fn push_text(&mut self, text: &Text) {
        match text {
            Text::Plain(characters) => self.push_str(characters),
            Text::Carrying(strands) => strands.iter().for_each(|s| self.push(s.clone())),
        }
    }

    fn end_characters(&mut self) {
        if !self.characters.is_empty() {
            self.bytes += self.characters.len();
            self.strands
                .push(Strand::Literal(self.characters.as_str().into()));
            self.characters.clear();
        }
    }

    /// The text, and the room in which its characters were put together.
    pub fn finish(mut self) -> (Text, String) {
        if self.strands.is_empty() {
            return (
                Text::Plain(self.characters.as_str().into()),
                self.characters,
            );
        }
        self.end_characters();
        (Text::Carrying(self.strands.into()), self.characters)
    }
}

/// A record's fields in order, and what kind gave it.
#[derive(Clone, Debug, Default)]
pub(crate) struct RecordValue {
    pub fields: Vec<(Arc<str>, Value)>,
    /// The name of the kind that gave the record.
    pub kind: Option<Arc<str>>,
}

impl RecordValue {
    pub fn get(&self, name: &str) -> Option<&Value> {
        self.fields
            .iter()
            .find(|(n, _)| &**n == name)
            .map(|(_, v)| v)
    }
}

/// What the keys of a map may be used for.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub(crate) enum Keys {
    /// For names of targets: no probe decided them. Each is checked where a path is made of it.
    Names,
    /// To look entries up, and for places in folders: they may rest on the answer of a probe.
    Lookup,
}

/// A map's entries in order; each value is evaluated when it is wanted.
#[derive(Debug)]
pub(crate) struct Map {
    pub entries: Vec<(Arc<str>, Rc<Thunk>)>,
    pub index: FxHashMap<Arc<str>, usize>,
    /// Whether it was read from a data file: then its entries are named after a dot, too.
    pub loaded: bool,
    pub keys: Keys,
    /// The type that all its values are taken as, the module from whose package paths in them
    /// count, and the unit that takes them.
    pub taken_as: Option<(Type, ModuleId, u32)>,
    /// The map that this one was last taken as.
    pub last_taken: RefCell<Option<Rc<Map>>>,
}

impl Map {
    pub fn new(entries: Vec<(Arc<str>, Rc<Thunk>)>) -> Map {
        let index = entries
            .iter()
            .enumerate()
            .map(|(i, (k, _))| (k.clone(), i))
            .collect();
        Map {
            entries,
            index,
            loaded: false,
            keys: Keys::Names,
            taken_as: None,
            last_taken: RefCell::default(),
        }
    }

    /// A map whose values are known.
    pub fn of_values(
        values: impl IntoIterator<Item = (Arc<str>, Value)>,
        keys: Keys,
        span: Span,
        origin: u32,
    ) -> Map {
        let thunk = |key: &Arc<str>, value| Thunk {
            state: RefCell::new(ThunkState::Done(value, Rc::default())),
            title: Title {
                word: "entry",
                name: key.clone(),
            },
            span,
            captured: Rc::default(),
            origin,
        };
        let entries = values.into_iter().map(|(key, value)| {
            let thunk = thunk(&key, value);
            (key, Rc::new(thunk))
        });
        Map {
            keys,
            ..Map::new(entries.collect())
        }
    }
}

/// What represents something in messages: ``target `pages` ``, `entry "ardle"`. Written out only
/// when a message needs it.
#[derive(Clone, Debug)]
pub(crate) struct Title {
    pub word: &'static str,
    pub name: Arc<str>,
}

impl std::fmt::Display for Title {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.word {
            "entry" => write!(f, "entry \"{}\"", self.name),
            word => write!(f, "{word} `{}`", self.name),
        }
    }
}

/// A value that is evaluated at most once, when it is wanted.
#[derive(Debug)]
pub(crate) struct Thunk {
    pub state: RefCell<ThunkState>,
    /// What represents the value in messages.
    pub title: Title,
    pub span: Span,
    /// Options that were reached before the thunk was made.
    pub captured: Rc<Reads>,
    /// The unit in which the thunk was made.
    pub origin: u32,
}

#[derive(Debug)]
pub(crate) enum ThunkSource {
    /// An expression in its scope, taken as a type where one was declared.
    Expr {
        scope: Scope,
        expr: ExprId,
        ty: Option<Type>,
    },
    /// Another one's value, taken as a type.
    Coerced {
        inner: Rc<Thunk>,
        ty: Type,
        base: ModuleId,
    },
}

#[derive(Debug)]
pub(crate) enum ThunkState {
    /// Not wanted yet. What it is made of is dropped with this state: it may hold the very scope
    /// that holds the thunk.
    New(ThunkSource),
    Running,
    /// The value, and the options that it reached.
    Done(Value, Rc<Reads>),
    /// Evaluation failed, and the reason was reported.
    Failed(Reported),
    /// An answer is missing that is not there in this evaluation, and the options that were reached
    /// before that.
    Waiting(Rc<Reads>),
}

/// One word of a command: pieces that make one word, or several words where a list was.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum WordStrand {
    Literal(Arc<str>),
    File(FileRef),
    Out {
        name: Option<Arc<str>>,
        path: Arc<str>,
        folder: bool,
        early: bool,
        span: Span,
    },
    DepFile {
        path: Arc<str>,
        span: Span,
    },
    Scratch {
        path: Arc<str>,
        folder: bool,
        span: Span,
    },
    Kept {
        path: Arc<str>,
        span: Span,
    },
    /// The path of a file that holds a text.
    TextFile {
        path: Arc<str>,
        text: Rc<[WordStrand]>,
        span: Span,
    },
    /// The path of a file that lists these, one a line.
    ArgFile(Rc<[FileRef]>),
    Tool(Rc<ToolValue>),
    /// A secret, by its name.
    Secret(Arc<str>),
    Served(Rc<ServiceValue>, Whereabouts),
    Own(Whereabouts),
    /// One word for a shell.
    Quoted(Vec<WordStrand>),
}

impl From<Strand> for WordStrand {
    fn from(strand: Strand) -> WordStrand {
        match strand {
            Strand::Literal(text) => WordStrand::Literal(text),
            Strand::File(file) => WordStrand::File(file),
            Strand::Tool(tool) => WordStrand::Tool(tool),
            Strand::Secret(name) => WordStrand::Secret(name),
            Strand::Served(service, what) => WordStrand::Served(service, what),
            Strand::Own(what) => WordStrand::Own(what),
        }
    }
}

/// The pieces of one word; most often one.
pub(crate) type Strands = SmallVec<[WordStrand; 1]>;

/// A word's place and pieces.
pub(crate) type FilledWord = (Span, Strands);

/// A command whose holes are filled.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct CommandValue {
    pub span: Span,
    pub stages: Vec<StageValue>,
}

#[derive(Clone, Debug, PartialEq, Default)]
pub(crate) struct StageValue {
    /// Words in order, each of its pieces, with its place.
    pub words: Vec<FilledWord>,
    pub stdin: Option<FilledWord>,
    pub stdout: Option<FilledWord>,
    pub stderr: Option<FilledWord>,
}

/// What evaluation gives.
#[derive(Clone, Debug)]
pub(crate) enum Value {
    None,
    Bool(bool),
    Int(i64),
    /// In milliseconds.
    Duration(u64),
    Text(Text),
    File(FileRef),
    /// A set of files in order.
    Files(Rc<[FileRef]>),
    List(Rc<[Value]>),
    Record(Rc<RecordValue>),
    Map(Rc<Map>),
    /// A step, by its number.
    Step(u32),
    /// An effect, by its number.
    Effect(u32),
    Service(Rc<ServiceValue>),
    Command(Rc<CommandValue>),
    Tool(Rc<ToolValue>),
    Answer(Rc<AnswerValue>),
    Function(DeclId),
    Kind(DeclId),
    Builtin(crate::builtins::Builtin),
}

impl Value {
    pub fn text(text: &str) -> Value {
        Value::Text(Text::Plain(text.into()))
    }

    /// What the value is, with its article: `a text`, `a list`.
    pub fn described(&self) -> String {
        match self {
            Value::None => "`none`".to_owned(),
            Value::Bool(_) => "a bool".to_owned(),
            Value::Int(_) => "a number".to_owned(),
            Value::Duration(_) => "a duration".to_owned(),
            Value::Text(_) => "a text".to_owned(),
            Value::File(file) if file.folder => "a folder".to_owned(),
            Value::File(_) => "a file".to_owned(),
            Value::Files(_) => "a set of files".to_owned(),
            Value::List(_) => "a list".to_owned(),
            Value::Record(record) => match &record.kind {
                Some(kind) => format!("a record of kind `{kind}`"),
                None => "a record".to_owned(),
            },
            Value::Map(_) => "a map".to_owned(),
            Value::Step(_) => "a step".to_owned(),
            Value::Effect(_) => "an effect".to_owned(),
            Value::Service(_) => "a service".to_owned(),
            Value::Command(_) => "a command".to_owned(),
            Value::Tool(tool) => format!("the tool `{}`", tool.name),
            Value::Answer(_) => "an answer".to_owned(),
            Value::Function(..) => "a function".to_owned(),
            Value::Kind(..) => "a kind".to_owned(),
            Value::Builtin(_) => "a form of the language".to_owned(),
        }
    }
}
