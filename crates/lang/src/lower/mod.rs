//! From the tree to definitions with names resolved. Everything that can be said without evaluating
//! is said here, also about declarations that no request reaches.

mod commands;
mod expressions;
mod types;

use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::Role;
use nubrik_source::{Span, TextId, WsPath};
use nubrik_syntax::{Node, SyntaxKind, Token, Tree, is_name, views};
use rustc_hash::{FxBuildHasher, FxHashMap, FxHashSet};

use crate::builtins::is_builtin_name;
use crate::hir::*;
use crate::renamed::meant;

/// Where a definition file is.
pub(crate) struct Location {
    pub file: TextId,
    pub folder: Option<WsPath>,
    pub is_package: bool,
    pub title: Arc<str>,
}

/// Lowers one file.
pub(crate) fn lower(tree: &Tree, location: Location) -> (Module, Vec<Diagnostic>) {
    let declarations = tree.root().children().count();
    let expressions = tree.expression_count();
    let module = Module {
        file: location.file,
        folder: location.folder,
        is_package: location.is_package,
        title: location.title,
        uses: Vec::new(),
        decls: Vec::with_capacity(declarations),
        names: FxHashMap::with_capacity_and_hasher(declarations, FxBuildHasher),
        exprs: Vec::with_capacity(expressions),
        spans: Vec::with_capacity(expressions),
    };
    let mut lowerer = Lowerer {
        module,
        diagnostics: Vec::new(),
        scopes: Vec::new(),
        slot_types: Vec::new(),
        references: Vec::new(),
        name_spans: FxHashMap::with_capacity_and_hasher(declarations, FxBuildHasher),
        in_kind: false,
        in_serve: false,
        in_key: false,
        texts: FxHashSet::default(),
    };
    // Names first: order does not matter.
    let mut bodies = Vec::with_capacity(declarations);
    for node in tree.root().children() {
        match node.kind() {
            SyntaxKind::UseDecl => lowerer.use_declaration(node),
            kind if kind.is_declaration() => {
                if let Some(decl) = lowerer.declare(node) {
                    bodies.push((decl, node));
                }
            }
            _ => {}
        }
    }
    for (decl, node) in bodies {
        lowerer.declaration_body(decl, node);
    }
    (lowerer.module, lowerer.diagnostics)
}

struct Lowerer {
    module: Module,
    diagnostics: Vec<Diagnostic>,
    /// Names in scope from the outermost scope in; each with its place.
    scopes: Vec<Vec<Name>>,
    /// Types of the parameters and values of the declaration being lowered, where they are written.
    slot_types: Vec<Option<TypeExpr>>,
    /// References of the declaration being lowered.
    references: Vec<Reference>,
    /// Where each of the module's names was declared.
    name_spans: FxHashMap<Arc<str>, Span>,
    in_kind: bool,
    in_serve: bool,
    /// Whether the key of a map's entry is being lowered.
    in_key: bool,
    /// Names that were met: the same few are written again and again.
    texts: FxHashSet<Arc<str>>,
}

impl Lowerer {
    fn span(&self, node: Node<'_>) -> Span {
        let (start, end) = node.range();
        Span::new(self.module.file, start, end)
    }

    fn token_span(&self, token: Token) -> Span {
        Span {
            file: self.module.file,
            start: token.start,
            end: token.end,
        }
    }

    fn name(&mut self, node: Node<'_>, token: Token) -> Name {
        let text = node.token_text(token);
        let known = self.texts.get(text).cloned();
        let text = known.unwrap_or_else(|| {
            let text: Arc<str> = text.into();
            self.texts.insert(text.clone());
            text
        });
        Name {
            text,
            span: self.token_span(token),
        }
    }

    fn report(&mut self, span: Span, diagnostic: Diagnostic) {
        self.diagnostics.push(diagnostic.at(span));
    }

    fn add(&mut self, span: Span, expr: Expr) -> ExprId {
        self.module.exprs.push(expr);
        self.module.spans.push(span);
        ExprId(self.module.exprs.len() as u32 - 1)
    }

    /// Gives a name of the module its meaning; reports a second one.
    fn bind(&mut self, name: &Name, bound: Bound) -> bool {
        if !is_name(&name.text) {
            return false; // The parser has reported it.
        }
        if is_builtin_name(&name.text) {
            // Uses of the name mean this one: they are not wrong as well.
            self.name_spans.insert(name.text.clone(), name.span);
            let message = format!("`{}` is a name of the language", name.text);
            self.report(
                name.span,
                Diagnostic::error("builtin-name", message).mend(format!("my_{}", name.text)),
            );
            return false;
        }
        if let Some(first) = self.name_spans.get(&name.text) {
            let error = Diagnostic::error(
                "declared-twice",
                format!("`{}` is declared twice", name.text),
            )
            .related(*first, "declared here first")
            .mend("give one of them another name");
            self.report(name.span, error);
            return false;
        }
        self.name_spans.insert(name.text.clone(), name.span);
        self.module.names.insert(name.text.clone(), bound);
        true
    }

    fn use_declaration(&mut self, node: Node<'_>) {
        let Some(path_node) = node.child(SyntaxKind::TextExpr) else {
            return;
        };
        let path_span = self.span(path_node);
        if views::is_private(node) {
            self.report(
                path_span,
                Diagnostic::error(
                    "syntax",
                    "`use` is never `private`: it is seen in this file only",
                ),
            );
        }
        let Some(path) = views::plain_text(path_node) else {
            let error = Diagnostic::error("syntax", "the path of a kit cannot hold holes");
            return self.report(path_span, error);
        };
        let number = self.module.uses.len() as u32;
        let mut alias = None;
        let mut names = Vec::new();
        if node.child(SyntaxKind::UseNames).is_some() {
            for token in views::used_names(node) {
                let name = self.name(node, token);
                if self.bind(&name, Bound::FromKit(number, names.len() as u32)) {
                    names.push(name);
                }
            }
        } else if let Some(token) = views::declared_name(node) {
            let name = self.name(node, token);
            if self.bind(&name, Bound::Kit(number)) {
                alias = Some(name);
            }
        }
        self.module.uses.push(Use {
            path: path.into(),
            path_span,
            alias,
            names,
        });
    }

    fn declare(&mut self, node: Node<'_>) -> Option<u32> {
        let token = views::declared_name(node)?;
        let name = self.name(node, token);
        let number = self.module.decls.len() as u32;
        if !self.bind(&name, Bound::Decl(number)) {
            return None;
        }
        let kind = match node.kind() {
            SyntaxKind::TypeDecl => DeclKind::Type,
            SyntaxKind::KindDecl => DeclKind::Kind,
            SyntaxKind::TargetDecl => DeclKind::Target,
            SyntaxKind::TestDecl => DeclKind::Test,
            SyntaxKind::JobDecl => DeclKind::Job,
            SyntaxKind::ServiceDecl => DeclKind::Service,
            SyntaxKind::OptionDecl => DeclKind::Option,
            _ if node.child(SyntaxKind::Params).is_some() => DeclKind::Function,
            _ => DeclKind::Value,
        };
        let documentation = match views::documentation(node) {
            text if text.is_empty() => Arc::default(),
            text => text.into(),
        };
        self.module.decls.push(Decl::new(
            kind,
            name,
            views::is_private(node),
            documentation,
        ));
        Some(number)
    }

    fn declaration_body(&mut self, number: u32, node: Node<'_>) {
        self.references.clear();
        self.clauses(number, node);
        self.in_kind = node.kind() == SyntaxKind::KindDecl;
        let params_node = node.child(SyntaxKind::Params);
        let params = params_node.map(|p| self.params(p)).unwrap_or_default();
        let ty = node.type_node().map(|t| self.type_expr(t));
        let mut lets = Vec::new();
        self.slot_types = params.iter().map(|p| Some(p.ty.clone())).collect();
        if params_node.is_some() {
            let mut scope: Vec<Name> = params.iter().map(|p| p.name.clone()).collect();
            let let_nodes: Vec<Node<'_>> = node
                .children()
                .filter(|c| c.kind() == SyntaxKind::LetDecl)
                .collect();
            let mut let_names = Vec::new();
            for inner in &let_nodes {
                if let Some(token) = views::declared_name(*inner) {
                    let name = self.name(*inner, token);
                    self.new_in_scope(&name, &scope);
                    scope.push(name.clone());
                    let_names.push((name, *inner));
                }
            }
            self.scopes.push(scope);
            for (name, inner) in let_names {
                if inner.child(SyntaxKind::Params).is_some() {
                    let message = "a function cannot be declared inside a kind";
                    let error = Diagnostic::error("not-here", message)
                        .mend("declare it with `private let` outside");
                    self.report(name.span, error);
                }
                let ty = inner.type_node().map(|t| self.type_expr(t));
                self.slot_types.push(ty.clone());
                let body = self.child_expression(inner, 0);
                lets.push(KindLet { name, ty, body });
            }
        }
        let first = self.module.exprs.len();
        let mut body = node.expression(0).map(|e| self.expression(e));
        if node.kind() == SyntaxKind::OptionDecl && !self.default_is_fine(first) {
            body = Some(self.add(self.span(node), Expr::Error));
        }
        if node.kind() == SyntaxKind::KindDecl && body.is_none() {
            let span = self.module.decls[number as usize].name.span;
            let error = Diagnostic::error("no-give", "this kind gives nothing");
            self.report(span, error.mend("give { files = … }"));
        }
        self.scopes.clear();
        let decl = &mut self.module.decls[number as usize];
        decl.set_content(Content {
            params,
            ty,
            lets,
            body,
        });
        decl.references = self.references.drain(..).collect();
    }

    /// Reports what the default of an option must not read: it is asked for before anything else.
    fn default_is_fine(&mut self, first: usize) -> bool {
        let mut wrong = Vec::new();
        for i in first..self.module.exprs.len() {
            let allowed = match &self.module.exprs[i] {
                Expr::Decl(number) => self.module.decls[*number as usize].kind == DeclKind::Option,
                Expr::Builtin(builtin) => *builtin == crate::builtins::Builtin::Host,
                Expr::Command(_)
                | Expr::Shell(_)
                | Expr::Ref(_)
                | Expr::BraceCall(..)
                | Expr::Under(..) => false,
                _ => true,
            };
            if !allowed {
                wrong.push(self.module.spans[i]);
            }
        }
        if let Some(span) = wrong.first() {
            let error = Diagnostic::error("not-here", "the default of an option cannot read this");
            self.report(
                *span,
                error.note("it reads literals, `host` and other options only"),
            );
        }
        wrong.is_empty()
    }

    /// `within "…"` and `tagged …` after a declaration's name.
    fn clauses(&mut self, number: u32, node: Node<'_>) {
        let mut within = Vec::new();
        for text in views::within_texts(node) {
            let span = self.span(text);
            match views::plain_text(text).map(|t| crate::address::WithinPattern::check(&t)) {
                Some(Ok(pattern)) => within.push((pattern.into(), span)),
                Some(Err(problem)) => {
                    let error = Diagnostic::error("bad-path", problem);
                    self.report(span, error.mend("within \"/tide/**\""));
                }
                None => self.report(
                    span,
                    Diagnostic::error("syntax", "this text cannot hold holes"),
                ),
            }
        }
        let tags: Vec<Arc<str>> = views::tags(node)
            .into_iter()
            .map(|t| node.token_text(t).into())
            .collect();
        let decl = &mut self.module.decls[number as usize];
        let (name, private, kind) = (decl.name.clone(), decl.private, decl.kind);
        let none = within.is_empty();
        decl.within = within;
        decl.tags = tags;
        if private && !none {
            let error = Diagnostic::error(
                "not-here",
                format!("`{}` is private, so `within` opens nothing", name.text),
            );
            self.report(name.span, error.mend("drop `private`"));
        }
        if kind.role() == Role::Inner && !self.module.decls[number as usize].tags.is_empty() {
            let error = Diagnostic::error("not-here", "only targets, tests and jobs have tags");
            self.report(name.span, error.mend("drop `tagged`"));
        }
    }

    fn params(&mut self, node: Node<'_>) -> Vec<Param> {
        let mut params: Vec<Param> = Vec::new();
        let mut pending_doc: Option<usize> = None;
        for element in node.elements() {
            match element {
                nubrik_syntax::Element::Node(id) if node.node(id).kind() == SyntaxKind::Param => {
                    let inner = node.node(id);
                    let Some(token) = inner.words().next() else {
                        continue;
                    };
                    let name = self.name(inner, token);
                    if let Some(first) = params.iter().find(|p| p.name.text == name.text) {
                        let first = first.name.span;
                        self.shadowed(&name, first);
                    } else if !self.gives_way(&name.text) {
                        self.new_in_scope(&name, &[]);
                    }
                    let ty = match inner.type_node() {
                        Some(ty) => self.type_expr(ty),
                        None => TypeExpr {
                            shape: TypeShape::Error,
                        },
                    };
                    let default = inner.expression(0).map(|e| self.expression(e));
                    params.push(Param {
                        name,
                        ty,
                        default,
                        documentation: Arc::default(),
                    });
                    pending_doc = Some(params.len() - 1);
                }
                // A `##` comment on the parameter's line belongs to it.
                nubrik_syntax::Element::Token(t) if t.kind == SyntaxKind::DocComment => {
                    if let Some(at) = pending_doc.take() {
                        params[at].documentation =
                            node.token_text(t).trim_start_matches('#').trim().into();
                    }
                }
                nubrik_syntax::Element::Token(t) if t.kind == SyntaxKind::Newline => {
                    pending_doc = None
                }
                _ => {}
            }
        }
        params
    }

    fn shadowed(&mut self, name: &Name, first: Span) {
        let error = Diagnostic::error(
            "shadowed",
            format!("`{}` is already defined here", name.text),
        )
        .related(first, "declared here")
        .mend("give this one another name");
        self.report(name.span, error);
    }

    /// Whether a parameter may take a name: who calls writes it, so that it is called as what it
    /// is, and not as what is free. Types, kinds and names of the language give way, and inside,
    /// the name is the parameter.
    fn gives_way(&self, name: &str) -> bool {
        let is_free = !self.module.names.contains_key(name);
        self.is_shape(name) || (is_free && is_builtin_name(name) && !matches!(name, "self" | "sh"))
    }

    /// Whether a name is that of a type or kind: they are met where no value is, and any local name
    /// may be the same.
    fn is_shape(&self, name: &str) -> bool {
        let Some(Bound::Decl(number)) = self.module.names.get(name) else {
            return false;
        };
        matches!(
            self.module.decls[*number as usize].kind,
            DeclKind::Type | DeclKind::Kind
        )
    }

    /// Reports a name that is declared already, in this scope or one around it.
    fn new_in_scope(&mut self, name: &Name, scope: &[Name]) {
        let outer = self
            .scopes
            .iter()
            .flatten()
            .chain(scope)
            .find(|n| n.text == name.text);
        let declared = || self.name_spans.get(&name.text).copied();
        let first = outer.map(|n| n.span).or_else(|| {
            if self.is_shape(&name.text) {
                None
            } else {
                declared()
            }
        });
        if let Some(first) = first {
            self.shadowed(name, first);
        } else if is_builtin_name(&name.text) {
            let message = format!("`{}` is a name of the language", name.text);
            self.report(name.span, Diagnostic::error("builtin-name", message));
        }
    }

    /// Resolves a name to an expression, or reports that there is none.
    fn resolve(&mut self, node: Node<'_>, token: Token) -> Expr {
        let (text, span) = (node.token_text(token), self.token_span(token));
        for (up, scope) in self.scopes.iter().rev().enumerate() {
            if let Some(slot) = scope.iter().position(|n| *n.text == *text) {
                return Expr::Local {
                    up: up as u16,
                    slot: slot as u16,
                };
            }
        }
        match self.module.names.get(text).copied() {
            Some(Bound::Decl(number)) => {
                self.references.push(Reference {
                    to: ReferenceTo::Decl(number),
                    span,
                });
                return Expr::Decl(number);
            }
            Some(Bound::Kit(number)) => return Expr::Kit(number),
            Some(Bound::FromKit(number, _)) => {
                let name = self.name(node, token);
                return self.member(number, name);
            }
            None => {}
        }
        match crate::builtins::builtin(text) {
            Some(_) if self.name_spans.contains_key(text) => return Expr::Error,
            Some(builtin) => return Expr::Builtin(builtin),
            None if text == "self" && (self.in_kind || self.in_serve) => return Expr::This,
            None if text == "self" => {
                let error = Diagnostic::error(
                    "not-here",
                    "`self` means something inside a kind or `serve` only",
                );
                self.report(span, error.mend("give a parameter for what you need"));
                return Expr::Error;
            }
            None => {}
        }
        let name = self.name(node, token);
        let error = self.unknown_name(&name);
        // `${name}`: a variable of the shell is meant.
        if node.text_before(token).ends_with("${") {
            let whole = Span::new(span.file, span.start as usize - 2, span.end as usize + 1);
            let error = Diagnostic::error("unknown-name", error.message)
                .note("`{…}` is a hole; a variable of the shell goes without braces");
            self.report(whole, error.mend(format!("${text}")));
            return Expr::Error;
        }
        self.report(span, error);
        Expr::Error
    }

    fn member(&mut self, number: u32, name: Name) -> Expr {
        let to = ReferenceTo::Member(number, name.text.clone());
        self.references.push(Reference {
            to,
            span: name.span,
        });
        Expr::Member(number, name)
    }

    fn unknown_name(&self, name: &Name) -> Diagnostic {
        let locals = self.scopes.iter().flatten().map(|n| &*n.text);
        let mut in_reach: Vec<&str> = locals
            .chain(self.module.names.keys().map(|k| &**k))
            .collect();
        in_reach.extend(["step", "glob", "probe", "sample"]);
        in_reach.sort_unstable();
        let error = Diagnostic::error(
            "unknown-name",
            format!("`{}` is not defined here", name.text),
        );
        if self.in_key {
            return error
                .note("a key is any expression")
                .mend(format!("\"{}\" for the text itself", name.text));
        }
        if let Some((_, here)) = ELSEWHERE.iter().find(|(there, _)| *there == &*name.text) {
            return error.mend(*here);
        }
        match meant(&name.text, in_reach.iter().copied()) {
            Some(near) => {
                let span = self
                    .scopes
                    .iter()
                    .flatten()
                    .find(|n| &*n.text == near)
                    .map(|n| n.span);
                let span = span.or_else(|| self.name_spans.get(near).copied());
                let error = match span {
                    Some(span) => error.related(span, format!("`{near}` is declared here")),
                    None => error,
                };
                error.mend(near)
            }
            None if &*name.text == "c" => error.mend("use \"nub:c\" as c"),
            None => error.mend(format!("let {} = …", name.text)).mend(format!(
                "&package/{} for a target of another package",
                name.text
            )),
        }
    }
}

/// Names of other languages for values that have another one here.
const ELSEWHERE: [(&str, &str); 8] = [
    ("null", "none"),
    ("nil", "none"),
    ("None", "none"),
    ("undefined", "none"),
    ("True", "true"),
    ("TRUE", "true"),
    ("False", "false"),
    ("FALSE", "false"),
];
