//! The kinds of tokens and nodes.

/// What a token or node of the tree is.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
#[allow(missing_docs)] // The names are the grammar's own; `docs/language.md` explains each form.
pub enum SyntaxKind {
    // Trivia.
    Newline,
    Comment,
    DocComment,
    // Tokens of code.
    Word,
    Int,
    Duration,
    Ref,
    Amp,
    LeftParen,
    RightParen,
    LeftBracket,
    RightBracket,
    LeftBrace,
    RightBrace,
    Comma,
    Dot,
    Colon,
    Equals,
    EqualsEquals,
    NotEquals,
    Less,
    LessEquals,
    Greater,
    GreaterEquals,
    Plus,
    Minus,
    Slash,
    Bar,
    Question,
    Odd,
    // Tokens of texts and commands.
    TextOpen,
    TextPart,
    TextEscape,
    TextClose,
    HoleOpen,
    HoleClose,
    CommandOpen,
    CommandClose,
    CommandSpace,
    CommandPart,
    CommandEscape,
    CommandRaw,
    CommandOperator,
    CommandShell,
    QuoteOpen,
    QuoteClose,
    EndOfFile,
    // Nodes.
    File,
    UseDecl,
    UseNames,
    LetDecl,
    TypeDecl,
    KindDecl,
    TargetDecl,
    TestDecl,
    JobDecl,
    OptionDecl,
    ServiceDecl,
    WithinClause,
    TaggedClause,
    Params,
    Param,
    TypeName,
    TypeOf,
    TypeRecord,
    TypeField,
    TypeAlternatives,
    TypeOptional,
    Literal,
    TextExpr,
    NameExpr,
    RefExpr,
    FieldExpr,
    CallExpr,
    Args,
    Arg,
    BraceCallExpr,
    IndexExpr,
    ListExpr,
    RecordExpr,
    RecordField,
    MapExpr,
    MapEntry,
    EachListExpr,
    EachMapExpr,
    EachHead,
    IfExpr,
    MatchExpr,
    MatchArm,
    BinaryExpr,
    NotExpr,
    NegateExpr,
    WithExpr,
    UnderExpr,
    UnderFields,
    UnderField,
    ParenExpr,
    CommandExpr,
    ShellExpr,
    CommandQuote,
    Hole,
    HoleForm,
    Error,
}

impl SyntaxKind {
    /// Whether such a token is of a text: its quotes and what is between them.
    pub fn is_of_text(self) -> bool {
        use SyntaxKind::*;
        matches!(self, TextOpen | TextPart | TextEscape | TextClose)
    }

    /// Whether such a token is of a command, but for what its holes hold.
    pub fn is_of_command(self) -> bool {
        use SyntaxKind::*;
        matches!(
            self,
            CommandOpen
                | CommandClose
                | CommandPart
                | CommandEscape
                | CommandRaw
                | CommandOperator
                | CommandShell
                | QuoteOpen
                | QuoteClose
        )
    }

    /// Whether the parser passes over such a token.
    pub fn is_trivia(self) -> bool {
        use SyntaxKind::*;
        matches!(self, Newline | Comment | DocComment)
    }

    /// Whether this is a node that has a value.
    pub fn is_expression(self) -> bool {
        use SyntaxKind::*;
        matches!(
            self,
            Literal
                | TextExpr
                | NameExpr
                | RefExpr
                | FieldExpr
                | CallExpr
                | BraceCallExpr
                | IndexExpr
                | ListExpr
                | RecordExpr
                | MapExpr
                | EachListExpr
                | EachMapExpr
                | IfExpr
                | MatchExpr
                | BinaryExpr
                | NotExpr
                | NegateExpr
                | WithExpr
                | UnderExpr
                | ParenExpr
                | CommandExpr
                | ShellExpr
                | Error
        )
    }

    /// Whether this is a node of a type.
    pub fn is_type(self) -> bool {
        use SyntaxKind::*;
        matches!(
            self,
            TypeName | TypeOf | TypeRecord | TypeAlternatives | TypeOptional
        )
    }

    /// Whether this is a declaration's node.
    pub fn is_declaration(self) -> bool {
        use SyntaxKind::*;
        matches!(
            self,
            UseDecl
                | LetDecl
                | TypeDecl
                | KindDecl
                | TargetDecl
                | TestDecl
                | JobDecl
                | OptionDecl
                | ServiceDecl
        )
    }
}
