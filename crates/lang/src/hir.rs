//! Definitions with their names resolved, ready to be evaluated.

use std::rc::Rc;
use std::sync::Arc;

use crate::eval::Taken;
use nubrik_graph::Role;
use nubrik_source::{Span, TextId, WsPath};
use rustc_hash::FxHashMap;

use crate::builtins::Builtin;

/// A module's number among those loaded.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct ModuleId(pub u32);

impl ModuleId {
    /// Its place among all.
    pub fn index(self) -> usize {
        self.0 as usize
    }
}

/// A declaration of a module that is loaded.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct DeclId {
    pub module: ModuleId,
    /// Its place among those of the module.
    pub number: u32,
}

impl DeclId {
    pub fn new(module: ModuleId, number: u32) -> DeclId {
        DeclId { module, number }
    }

    /// Its place among those of its module.
    pub fn index(self) -> usize {
        self.number as usize
    }
}

/// An expression's number in its module.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub struct ExprId(pub u32);

impl ExprId {
    /// Its place among all.
    pub fn index(self) -> usize {
        self.0 as usize
    }
}

/// A name with its place.
#[derive(Clone, Debug)]
pub struct Name {
    pub text: Arc<str>,
    pub span: Span,
}

/// A definition file.
#[derive(Debug)]
pub struct Module {
    pub file: TextId,
    /// The folder that it is in; `None` for a kit that ships with the tool.
    pub folder: Option<WsPath>,
    /// Whether it is a package's own file, against which texts are taken as paths.
    pub is_package: bool,
    /// Its name in messages.
    pub title: Arc<str>,
    pub uses: Vec<Use>,
    pub decls: Vec<Decl>,
    pub names: FxHashMap<Arc<str>, Bound>,
    pub exprs: Vec<Expr>,
    pub spans: Vec<Span>,
}

impl Module {
    /// A declaration of this module.
    pub fn decl(&self, id: DeclId) -> &Decl {
        &self.decls[id.index()]
    }

    pub fn expr(&self, id: ExprId) -> &Expr {
        &self.exprs[id.index()]
    }

    pub fn span(&self, id: ExprId) -> Span {
        self.spans[id.index()]
    }

    /// The folder against which texts in this file are taken as paths.
    pub fn base(&self) -> Option<&WsPath> {
        self.folder.as_ref().filter(|_| self.is_package)
    }
}

/// What a name of a module represents.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Bound {
    Decl(u32),
    /// A whole kit, by the number of its `use`.
    Kit(u32),
    /// A name taken from a kit: the number of the `use`, and of the name in it.
    FromKit(u32, u32),
}

/// A `use` declaration.
#[derive(Debug)]
pub struct Use {
    pub path: Arc<str>,
    pub path_span: Span,
    /// `as name`.
    pub alias: Option<Name>,
    /// `{ a, b }`.
    pub names: Vec<Name>,
}

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum DeclKind {
    Value,
    Function,
    Type,
    Kind,
    Option,
    Target,
    Test,
    Job,
    Service,
}

impl DeclKind {
    /// What a value declared so is for.
    pub fn role(self) -> Role {
        match self {
            DeclKind::Target => Role::Target,
            DeclKind::Test => Role::Test,
            DeclKind::Job => Role::Job,
            DeclKind::Service => Role::Service,
            _ => Role::Inner,
        }
    }

    pub fn word(self) -> &'static str {
        match self {
            DeclKind::Value => "value",
            DeclKind::Function => "function",
            DeclKind::Type => "type",
            DeclKind::Kind => "kind",
            DeclKind::Option => "option",
            DeclKind::Target => "target",
            DeclKind::Test => "test",
            DeclKind::Job => "job",
            DeclKind::Service => "service",
        }
    }
}

/// A declaration.
#[derive(Debug)]
pub struct Decl {
    pub kind: DeclKind,
    pub name: Name,
    pub private: bool,
    /// Globs of the packages that may use it, from the workspace's root; empty: all may.
    pub within: Vec<(Arc<str>, Span)>,
    pub tags: Vec<Arc<str>>,
    pub documentation: Arc<str>,
    /// Names of other declarations that the text uses: for cycles and for unused names.
    pub references: Vec<Reference>,
    content: Content,
}

/// What a declaration says of its value.
#[derive(Debug, Default)]
pub struct Content {
    pub params: Vec<Param>,
    /// The type after the colon, or (for `type`) after the equals sign.
    pub ty: Option<TypeExpr>,
    /// `let`s in a kind, in the slots after the parameters.
    pub lets: Vec<KindLet>,
    pub body: Option<ExprId>,
}

impl Decl {
    /// A declaration whose text was not looked into yet.
    pub fn new(kind: DeclKind, name: Name, private: bool, documentation: Arc<str>) -> Decl {
        Decl {
            kind,
            name,
            private,
            within: Vec::new(),
            tags: Vec::new(),
            documentation,
            references: Vec::new(),
            content: Content::default(),
        }
    }

    /// Sets what it says of its value.
    pub fn set_content(&mut self, content: Content) {
        self.content = content;
    }

    /// What it says of its value, for evaluation, which has taken note that it takes it from here.
    pub(crate) fn content(&self, _: Taken) -> &Content {
        &self.content
    }

    /// The same for what becomes no part of a value: messages, documentation, and what is asked of
    /// all definitions at once.
    pub fn to_tell(&self) -> &Content {
        &self.content
    }
}

#[derive(Debug)]
pub struct KindLet {
    pub name: Name,
    pub ty: Option<TypeExpr>,
    pub body: ExprId,
}

#[derive(Debug)]
pub struct Param {
    pub name: Name,
    pub ty: TypeExpr,
    pub default: Option<ExprId>,
    pub documentation: Arc<str>,
}

/// A use of a declaration in another one's text.
#[derive(Clone, Debug)]
pub struct Reference {
    pub to: ReferenceTo,
    pub span: Span,
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ReferenceTo {
    Decl(u32),
    /// A member of a kit: the number of the `use`, and the member's name.
    Member(u32, Arc<str>),
    /// `&path`.
    Address(Arc<str>),
}

/// A type as written.
#[derive(Clone, Debug)]
pub struct TypeExpr {
    pub shape: TypeShape,
}

#[derive(Clone, Debug)]
pub enum TypeShape {
    /// Wrong, and reported.
    Error,
    Bool,
    Int,
    Text,
    Duration,
    File,
    Folder,
    Files,
    Command,
    Step,
    Check,
    Service,
    Any,
    List(Box<TypeExpr>),
    Map(Box<TypeExpr>),
    Record(Vec<(Name, TypeExpr)>),
    Alternatives(Vec<Arc<str>>),
    Optional(Box<TypeExpr>),
    Decl(u32),
    Member(u32, Name),
}

/// An expression.
#[derive(Clone, Debug)]
pub enum Expr {
    /// Wrong, and reported.
    Error,
    None,
    Bool(bool),
    Int(i64),
    /// In milliseconds.
    Duration(u64),
    /// A text without holes.
    Plain(Arc<str>),
    Text(Vec<Piece>),
    /// A name in the scope `up` levels out, in its slot.
    Local {
        up: u16,
        slot: u16,
    },
    Decl(u32),
    /// A kit as a whole: only `kit.name` means something.
    Kit(u32),
    /// A name of a kit: the number of the `use`.
    Member(u32, Name),
    Builtin(Builtin),
    /// `self`.
    This,
    /// `&path`.
    Ref(Arc<str>),
    Field(ExprId, Name),
    Call(ExprId, Vec<Arg>),
    BraceCall(ExprId, ExprId),
    Index(ExprId, ExprId),
    List(Vec<ExprId>),
    Record(Vec<(Name, ExprId)>),
    Map(Vec<(ExprId, ExprId)>),
    Each(Each),
    If(ExprId, ExprId, ExprId),
    /// The subject's declared type is known here where it is a parameter.
    Match {
        subject: ExprId,
        ty: Option<Box<TypeExpr>>,
        arms: Vec<MatchArm>,
    },
    Binary(Operator, ExprId, ExprId),
    Not(ExprId),
    Negate(ExprId),
    With(ExprId, ExprId),
    /// `x under { option = value }`; without fields `x under defaults`.
    Under(ExprId, Option<Vec<OptionChoice>>),
    Command(Rc<Command>),
    /// A command for a shell.
    Shell(Rc<Vec<ShellPiece>>),
}

/// An option and the value that `under` gives it.
#[derive(Clone, Debug)]
pub struct OptionChoice {
    pub option: OptionName,
    pub value: ExprId,
}

/// How an option is named after `under`.
#[derive(Clone, Debug)]
pub struct OptionName {
    /// The kit before the dot, by the number of its `use`.
    pub kit: Option<u32>,
    pub name: Name,
}

/// A part of a shell's command.
#[derive(Clone, Debug)]
pub enum ShellPiece {
    /// What the shell reads as it is.
    Literal(Arc<str>),
    /// A hole, quoted for the shell; `inside` when it is between double quotes.
    Hole { piece: WordPiece, inside: bool },
}

#[derive(Clone, Debug)]
pub enum Piece {
    Literal(Arc<str>),
    Hole(ExprId),
}

#[derive(Clone, Debug)]
pub struct Arg {
    pub name: Option<Name>,
    pub value: ExprId,
}

/// `each a, b in items where test give key: value`; its names are the slots of a scope of its own.
#[derive(Clone, Debug)]
pub struct Each {
    pub names: u8,
    pub items: ExprId,
    pub test: Option<ExprId>,
    /// The key, in a map.
    pub key: Option<ExprId>,
    pub give: ExprId,
}

#[derive(Clone, Debug)]
pub struct MatchArm {
    /// The cases; empty for `else`.
    pub cases: Vec<ExprId>,
    pub give: ExprId,
}

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Operator {
    Add,
    Join,
    Equal,
    NotEqual,
    Less,
    LessEqual,
    Greater,
    GreaterEqual,
    And,
    Or,
    In,
    NotIn,
}

/// A command literal.
#[derive(Clone, Debug)]
pub struct Command {
    pub stages: Vec<CommandStage>,
}

#[derive(Clone, Debug, Default)]
pub struct CommandStage {
    pub words: Vec<Word>,
    pub stdin: Option<Word>,
    pub stdout: Option<Word>,
    pub stderr: Option<Word>,
}

#[derive(Clone, Debug)]
pub struct Word {
    pub span: Span,
    pub pieces: Vec<WordPiece>,
    /// Whether the word was grouped by quotes: then it stays one word even when it is empty.
    pub quoted: bool,
}

#[derive(Clone, Debug)]
pub enum WordPiece {
    Literal(Arc<str>),
    /// `{expr}`.
    Value(ExprId),
    /// `{in expr}`: the expression is taken as files.
    In(ExprId),
    /// `{argfile expr}`: the path of a file that lists the files, one a line.
    ArgFile(ExprId),
    /// `{out …}`, `{outfolder …}`, and `{early …}` for a file that others may use before the step
    /// ends.
    Out {
        name: Option<Name>,
        path: ExprId,
        folder: bool,
        early: bool,
    },
    DepFile {
        path: ExprId,
    },
    /// `{scratch …}`, and `{scratchfolder …}` for a folder that is there.
    Scratch {
        path: ExprId,
        folder: bool,
    },
    /// `{keptfolder …}`: a folder that the step finds again when it runs the next time.
    Kept {
        path: ExprId,
    },
    /// `{textfile "name" expr}`: the path of a file that holds the text.
    TextFile {
        path: ExprId,
        text: ExprId,
    },
}
