//! Expressions.

use std::borrow::Cow;
use std::sync::Arc;

use nubrik_diagnostic::{Diagnostic, nearest};
use nubrik_source::Span;
use nubrik_syntax::{Element, Node, SyntaxKind, Token, views};

use super::Lowerer;
use crate::builtins::{Builtin, is_builtin_name};
use crate::hir::*;

impl Lowerer {
    /// The `n`th expression of a node; where there is none, the parser has said so.
    pub(super) fn child_expression(&mut self, node: Node<'_>, n: usize) -> ExprId {
        match node.expression(n) {
            Some(inner) => self.expression(inner),
            None => self.add(self.span(node), Expr::Error),
        }
    }

    pub(super) fn expression(&mut self, node: Node<'_>) -> ExprId {
        let span = self.span(node);
        let expr = match node.kind() {
            SyntaxKind::Literal => self.literal(node, span),
            SyntaxKind::TextExpr => self.text(node),
            SyntaxKind::NameExpr => match node.words().next() {
                Some(token) => self.resolve(node, token),
                None => Expr::Error,
            },
            SyntaxKind::RefExpr => self.reference(node, span),
            SyntaxKind::ParenExpr => return self.child_expression(node, 0),
            SyntaxKind::FieldExpr => self.field(node),
            SyntaxKind::CallExpr => {
                let callee = self.child_expression(node, 0);
                Expr::Call(callee, self.args(node))
            }
            SyntaxKind::BraceCallExpr => {
                let callee = self.child_expression(node, 0);
                let outer = self.in_serve;
                self.in_serve |= matches!(self.module.expr(callee), Expr::Builtin(Builtin::Serve));
                let call = Expr::BraceCall(callee, self.child_expression(node, 1));
                self.in_serve = outer;
                call
            }
            SyntaxKind::IndexExpr => {
                let base = self.child_expression(node, 0);
                Expr::Index(base, self.child_expression(node, 1))
            }
            SyntaxKind::ListExpr => {
                let items = node.children().filter(|c| c.kind().is_expression());
                Expr::List(items.map(|i| self.expression(i)).collect())
            }
            SyntaxKind::RecordExpr => Expr::Record(self.record_fields(node)),
            SyntaxKind::MapExpr => {
                let entries = node.children().filter(|c| c.kind() == SyntaxKind::MapEntry);
                let entry = |e: Node<'_>| {
                    let key = e.expression(0);
                    self.in_key = key.is_some_and(|k| k.kind() == SyntaxKind::NameExpr);
                    let key = self.child_expression(e, 0);
                    self.in_key = false;
                    (key, self.child_expression(e, 1))
                };
                Expr::Map(entries.map(entry).collect())
            }
            SyntaxKind::EachListExpr => self.each(node, false),
            SyntaxKind::EachMapExpr => self.each(node, true),
            SyntaxKind::IfExpr => {
                let condition = self.child_expression(node, 0);
                let then = self.child_expression(node, 1);
                Expr::If(condition, then, self.child_expression(node, 2))
            }
            SyntaxKind::MatchExpr => self.match_expression(node),
            SyntaxKind::BinaryExpr => self.binary(node),
            SyntaxKind::NotExpr => Expr::Not(self.child_expression(node, 0)),
            SyntaxKind::NegateExpr => Expr::Negate(self.child_expression(node, 0)),
            SyntaxKind::WithExpr => {
                let base = self.child_expression(node, 0);
                Expr::With(base, self.child_expression(node, 1))
            }
            SyntaxKind::UnderExpr => self.under(node),
            SyntaxKind::CommandExpr => self.command(node),
            SyntaxKind::ShellExpr => self.shell(node),
            _ => Expr::Error,
        };
        self.add(span, expr)
    }

    fn literal(&mut self, node: Node<'_>, span: Span) -> Expr {
        match node.text() {
            "none" => Expr::None,
            "true" => Expr::Bool(true),
            "false" => Expr::Bool(false),
            word if nubrik_syntax::duration(word).is_some() => {
                Expr::Duration(nubrik_syntax::duration(word).unwrap_or(0))
            }
            digits => match plain_digits(digits).parse() {
                Ok(number) => Expr::Int(number),
                Err(_) => {
                    let error = Diagnostic::error("too-large", "this number is too large");
                    self.report(
                        span,
                        error.note("whole numbers go up to 9223372036854775807"),
                    );
                    Expr::Error
                }
            },
        }
    }

    fn text(&mut self, node: Node<'_>) -> Expr {
        if let Some(text) = views::simple_text(node) {
            return Expr::Plain(text.into());
        }
        let parts = views::text_parts(node);
        let mut pieces = Vec::with_capacity(parts.len());
        for part in parts {
            pieces.push(match part {
                views::TextPiece::Literal(text) => Piece::Literal(text.into()),
                views::TextPiece::Hole(hole) if hole.kind() == SyntaxKind::HoleForm => {
                    let span = self.span(hole);
                    let error = Diagnostic::error(
                        "not-here",
                        "this hole means something in a command only",
                    );
                    self.report(span, error.note("a text takes values: `{name}`"));
                    continue;
                }
                views::TextPiece::Hole(hole) => Piece::Hole(self.child_expression(hole, 0)),
            });
        }
        match pieces.as_slice() {
            [] => Expr::Plain(Arc::default()),
            [Piece::Literal(text)] => Expr::Plain(text.clone()),
            _ => Expr::Text(pieces),
        }
    }

    fn reference(&mut self, node: Node<'_>, span: Span) -> Expr {
        let path = match node.child(SyntaxKind::TextExpr) {
            Some(text) => views::plain_text(text),
            None => Some(node.text().trim_start_matches('&').to_owned()),
        };
        let Some(path) = path.filter(|p| !p.is_empty()) else {
            let error = Diagnostic::error(
                "syntax",
                "expected the path of a target after `&`, such as `&base/clock`",
            );
            self.report(span, error);
            return Expr::Error;
        };
        let path: Arc<str> = path.trim_start_matches('/').into();
        self.references.push(Reference {
            to: ReferenceTo::Address(path.clone()),
            span,
        });
        Expr::Ref(path)
    }

    fn field(&mut self, node: Node<'_>) -> Expr {
        let base = self.child_expression(node, 0);
        let Some(token) = node.words().last() else {
            return Expr::Error;
        };
        let name = self.name(node, token);
        match self.module.expr(base) {
            Expr::Kit(number) => self.member(*number, name),
            _ => Expr::Field(base, name),
        }
    }

    fn args(&mut self, node: Node<'_>) -> Vec<Arg> {
        let Some(args) = node.child(SyntaxKind::Args) else {
            return Vec::new();
        };
        let mut lowered = Vec::new();
        for arg in args.children().filter(|c| c.kind() == SyntaxKind::Arg) {
            let name = arg.words().next().map(|t| self.name(arg, t));
            lowered.push(Arg {
                name,
                value: self.child_expression(arg, 0),
            });
        }
        lowered
    }

    fn record_fields(&mut self, node: Node<'_>) -> Vec<(Name, ExprId)> {
        let nodes = || {
            node.children()
                .filter(|c| c.kind() == SyntaxKind::RecordField)
        };
        let mut fields: Vec<(Name, ExprId)> = Vec::with_capacity(nodes().count());
        for field in nodes() {
            let parts = FieldParts::of(field);
            let Some(token) = parts.name else { continue };
            let name = self.name(field, token);
            if let Some((first, _)) = fields.iter().find(|(n, _)| n.text == name.text) {
                let first = first.span;
                let error = Diagnostic::error(
                    "declared-twice",
                    format!("the field `{}` is there twice", name.text),
                );
                self.report(name.span, error.related(first, "first here"));
                continue;
            }
            let value = match parts.value {
                Some(value) if parts.equals => self.expression(value),
                Some(_) => continue, // `name: value`, which the parser has reported.
                None if parts.equals => self.add(self.span(field), Expr::Error),
                None => {
                    // Short form: `{ sources, flags }`.
                    let expr = self.resolve(field, token);
                    self.add(name.span, expr)
                }
            };
            fields.push((name, value));
        }
        fields
    }

    fn each(&mut self, node: Node<'_>, in_map: bool) -> Expr {
        let mut names = Vec::new();
        if let Some(head) = node.child(SyntaxKind::EachHead) {
            for token in head.words().skip(1) {
                let name = self.name(head, token);
                self.new_in_scope(&name, &names);
                names.push(name);
            }
        }
        // `where` is a word of the node itself, so whether it is there tells which part is which.
        let has_test = node.words().any(|w| node.token_text(w) == "where");
        let items = self.child_expression(node, 0);
        let count = names.len() as u8;
        self.scopes.push(names);
        let mut next = 1;
        let mut take = |this: &mut Self| {
            next += 1;
            this.child_expression(node, next - 1)
        };
        let test = has_test.then(|| take(self));
        let key = in_map.then(|| take(self));
        let give = take(self);
        self.scopes.pop();
        Expr::Each(Each {
            names: count,
            items,
            test,
            key,
            give,
        })
    }

    fn under(&mut self, node: Node<'_>) -> Expr {
        let base = self.child_expression(node, 0);
        let Some(fields) = node.child(SyntaxKind::UnderFields) else {
            let defaults = node.words().any(|w| node.token_text(w) == "defaults");
            return if defaults {
                Expr::Under(base, None)
            } else {
                Expr::Error
            };
        };
        let mut choices: Vec<OptionChoice> = Vec::new();
        for field in fields
            .children()
            .filter(|c| c.kind() == SyntaxKind::UnderField)
        {
            let words: Vec<Name> = field.words().map(|w| self.name(field, w)).collect();
            let Some(name) = words.last().cloned() else {
                continue;
            };
            let Some(option) = self.option_name(&words) else {
                continue;
            };
            let value = self.child_expression(field, 0);
            let same =
                |c: &&OptionChoice| c.option.kit == option.kit && c.option.name.text == name.text;
            if let Some(first) = choices.iter().find(same) {
                let first = first.option.name.span;
                let error = Diagnostic::error(
                    "declared-twice",
                    format!("the option `{}` is there twice", name.text),
                );
                self.report(name.span, error.related(first, "first here"));
                continue;
            }
            choices.push(OptionChoice { option, value });
        }
        Expr::Under(base, Some(choices))
    }

    /// The option that `name` or `kit.name` after `under` means; reports when it is in no reach.
    fn option_name(&mut self, words: &[Name]) -> Option<OptionName> {
        if let [kit, name] = words {
            if let Some(Bound::Kit(number)) = self.module.names.get(&kit.text).copied() {
                self.member(number, name.clone());
                return Some(OptionName {
                    kit: Some(number),
                    name: name.clone(),
                });
            }
            let error = Diagnostic::error(
                "unknown-name",
                format!("no kit is imported as `{}`", kit.text),
            );
            self.report(kit.span, error.mend(format!("use \"…\" as {}", kit.text)));
            return None;
        }
        let name = words.first()?;
        match self.module.names.get(&name.text).copied() {
            Some(Bound::Decl(number))
                if self.module.decls[number as usize].kind == DeclKind::Option =>
            {
                self.references.push(Reference {
                    to: ReferenceTo::Decl(number),
                    span: name.span,
                });
                Some(OptionName {
                    kit: None,
                    name: name.clone(),
                })
            }
            Some(Bound::FromKit(number, _)) => {
                self.member(number, name.clone());
                Some(OptionName {
                    kit: Some(number),
                    name: name.clone(),
                })
            }
            Some(Bound::Decl(number)) => {
                let decl = &self.module.decls[number as usize];
                let message = format!("`{}` is a {}, not an option", name.text, decl.kind.word());
                let error = Diagnostic::error("wrong-type", message)
                    .related(decl.name.span, "declared here");
                self.report(name.span, error);
                None
            }
            // Which image steps run in is an option that no definition declares.
            None if *name.text == *crate::eval::ROOT_NAME => Some(OptionName {
                kit: None,
                name: name.clone(),
            }),
            _ => {
                let error = self.no_such_option(&name.text);
                self.report(name.span, error);
                None
            }
        }
    }

    /// The error about an option that this file does not know.
    fn no_such_option(&self, name: &str) -> Diagnostic {
        let decls = self.module.decls.iter();
        let options = decls.filter(|d| d.kind == DeclKind::Option);
        let near = nearest(name, options.map(|d| &*d.name.text)).map(str::to_owned);
        let message = format!("option `{name}` is not defined here");
        let error = Diagnostic::error("unknown-option", message);
        match near {
            Some(near) => error.mend(near),
            None => error
                .note("an option of a kit is taken into this file by `use { NAME } from \"KIT\"`")
                .mend("nubrik options   shows all options, with the kits that declare them"),
        }
    }

    fn match_expression(&mut self, node: Node<'_>) -> Expr {
        let subject = self.child_expression(node, 0);
        let mut arms = Vec::new();
        for arm in node.children().filter(|c| c.kind() == SyntaxKind::MatchArm) {
            let parts: Vec<Node<'_>> = arm
                .children()
                .filter(|c| c.kind().is_expression())
                .collect();
            let Some((give, cases)) = parts.split_last() else {
                continue;
            };
            let is_else = arm.words().any(|w| arm.token_text(w) == "else");
            if !is_else && cases.is_empty() {
                continue; // The parser has reported the missing value.
            }
            let cases = cases.iter().map(|c| self.expression(*c)).collect();
            arms.push(MatchArm {
                cases,
                give: self.expression(*give),
            });
        }
        let ty = match *self.module.expr(subject) {
            Expr::Local { up, slot } if up as usize + 1 == self.scopes.len() => self
                .slot_types
                .get(slot as usize)
                .cloned()
                .flatten()
                .map(Box::new),
            _ => None,
        };
        Expr::Match { subject, ty, arms }
    }

    /// The first name and the whole of `base/clock`, where no such name is in scope: a target that
    /// lacks its sign.
    fn unmarked_target<'n>(&self, node: Node<'n>) -> Option<(&'n str, &'n str)> {
        let whole = node.text();
        let is_part =
            |part: &str| !part.is_empty() && part.chars().all(|c| c.is_alphanumeric() || c == '_');
        let first = whole
            .split('/')
            .next()
            .filter(|_| whole.split('/').all(is_part))?;
        let is_local = self
            .scopes
            .iter()
            .flatten()
            .any(|name| *name.text == *first);
        let is_known = is_local || self.module.names.contains_key(first) || is_builtin_name(first);
        (!is_known && first != "self").then_some((first, whole))
    }

    fn binary(&mut self, node: Node<'_>) -> Expr {
        let mut words = String::new();
        for element in node.elements() {
            if let Element::Token(token) = element
                && !token.kind.is_trivia()
            {
                words.push_str(node.token_text(token));
            }
        }
        let operator = match words.as_str() {
            "+" => Operator::Add,
            "/" => Operator::Join,
            "==" => Operator::Equal,
            "!=" => Operator::NotEqual,
            "<" => Operator::Less,
            "<=" => Operator::LessEqual,
            ">" => Operator::Greater,
            ">=" => Operator::GreaterEqual,
            "and" => Operator::And,
            "or" => Operator::Or,
            "in" => Operator::In,
            "notin" => Operator::NotIn,
            _ => return Expr::Error,
        };
        if let (Operator::Join, Some(path)) = (operator, self.unmarked_target(node)) {
            let error =
                Diagnostic::error("unknown-name", format!("`{}` is not defined here", path.0))
                    .note("a target of another package is written with `&`");
            self.report(self.span(node), error.mend(format!("&{}", path.1)));
            return Expr::Error;
        }
        let left = self.child_expression(node, 0);
        Expr::Binary(operator, left, self.child_expression(node, 1))
    }
}

/// What a record's field consists of.
struct FieldParts<'t> {
    name: Option<Token>,
    equals: bool,
    value: Option<Node<'t>>,
}

impl<'t> FieldParts<'t> {
    fn of(field: Node<'t>) -> FieldParts<'t> {
        let mut parts = FieldParts {
            name: None,
            equals: false,
            value: None,
        };
        for element in field.elements() {
            match element {
                Element::Token(token) if token.kind == SyntaxKind::Word => {
                    parts.name.get_or_insert(token);
                }
                Element::Token(token) => parts.equals |= token.kind == SyntaxKind::Equals,
                Element::Node(id) => {
                    let node = field.node(id);
                    if parts.value.is_none() && node.kind().is_expression() {
                        parts.value = Some(node);
                    }
                }
            }
        }
        parts
    }
}

/// The digits of a number without the `_` between them.
fn plain_digits(digits: &str) -> Cow<'_, str> {
    if digits.contains('_') {
        digits.replace('_', "").into()
    } else {
        digits.into()
    }
}
