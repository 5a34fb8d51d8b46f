//! Types as written.

use nubrik_diagnostic::Diagnostic;
use nubrik_syntax::{Node, SyntaxKind, views};

use super::Lowerer;
use crate::hir::*;
use crate::renamed::meant;

const TYPE_NAMES: [&str; 12] = [
    "bool", "int", "text", "duration", "file", "folder", "files", "command", "step", "any", "list",
    "map",
];

impl Lowerer {
    pub(super) fn type_expr(&mut self, node: Node<'_>) -> TypeExpr {
        let shape = match node.kind() {
            SyntaxKind::TypeName => self.type_name(node),
            SyntaxKind::TypeOf => self.type_of(node),
            SyntaxKind::TypeOptional => match node.type_node() {
                Some(inner) => TypeShape::Optional(Box::new(self.type_expr(inner))),
                None => TypeShape::Error,
            },
            SyntaxKind::TypeAlternatives => {
                let texts = node
                    .children()
                    .filter_map(views::plain_text)
                    .map(Into::into)
                    .collect();
                TypeShape::Alternatives(texts)
            }
            SyntaxKind::TypeRecord => {
                let mut fields: Vec<(Name, TypeExpr)> = Vec::new();
                for field in node
                    .children()
                    .filter(|c| c.kind() == SyntaxKind::TypeField)
                {
                    let (Some(token), Some(ty)) = (field.words().next(), field.type_node()) else {
                        continue;
                    };
                    let name = self.name(field, token);
                    if let Some((first, _)) = fields.iter().find(|(n, _)| n.text == name.text) {
                        let first = first.span;
                        let message = format!("the field `{}` is there twice", name.text);
                        let error = Diagnostic::error("declared-twice", message);
                        self.report(name.span, error.related(first, "first here"));
                        continue;
                    }
                    fields.push((name, self.type_expr(ty)));
                }
                TypeShape::Record(fields)
            }
            _ => TypeShape::Error,
        };
        TypeExpr { shape }
    }

    fn type_name(&mut self, node: Node<'_>) -> TypeShape {
        let words: Vec<_> = node.words().collect();
        let Some(first) = words.first() else {
            return TypeShape::Error;
        };
        let name = self.name(node, *first);
        if let Some(second) = words.get(1) {
            let member = self.name(node, *second);
            if let Some(Bound::Kit(number)) = self.module.names.get(&name.text).copied() {
                self.member(number, member.clone());
                return TypeShape::Member(number, member);
            }
            let error = Diagnostic::error(
                "unknown-name",
                format!("no kit is imported as `{}`", name.text),
            );
            self.report(name.span, error.mend(format!("use \"…\" as {}", name.text)));
            return TypeShape::Error;
        }
        match &*name.text {
            "bool" => TypeShape::Bool,
            "int" => TypeShape::Int,
            "text" => TypeShape::Text,
            "duration" => TypeShape::Duration,
            "any" => TypeShape::Any,
            "file" => TypeShape::File,
            "folder" => TypeShape::Folder,
            "files" => TypeShape::Files,
            "command" => TypeShape::Command,
            "step" => TypeShape::Step,
            "check" => TypeShape::Check,
            "service" => TypeShape::Service,
            "list" | "map" => {
                let error = Diagnostic::error(
                    "wrong-type",
                    format!("`{}` needs the type of its items", name.text),
                );
                self.report(name.span, error.mend(format!("{}[text]", name.text)));
                TypeShape::Error
            }
            _ => self.declared_type(name),
        }
    }

    fn declared_type(&mut self, name: Name) -> TypeShape {
        match self.module.names.get(&name.text).copied() {
            Some(Bound::Decl(number))
                if self.module.decls[number as usize].kind == DeclKind::Type =>
            {
                self.references.push(Reference {
                    to: ReferenceTo::Decl(number),
                    span: name.span,
                });
                TypeShape::Decl(number)
            }
            Some(Bound::FromKit(number, _)) => {
                self.member(number, name.clone());
                TypeShape::Member(number, name)
            }
            Some(_) => {
                let error =
                    Diagnostic::error("wrong-type", format!("`{}` is not a type", name.text));
                self.report(name.span, error);
                TypeShape::Error
            }
            None => {
                let declared = self
                    .module
                    .decls
                    .iter()
                    .filter(|d| d.kind == DeclKind::Type);
                let mut known: Vec<&str> = declared.map(|d| &*d.name.text).collect();
                known.extend(TYPE_NAMES);
                let near = meant(&name.text, known.iter().copied())
                    .map(str::to_owned)
                    .or(match &*name.text {
                        "string" | "str" => Some("text".to_owned()),
                        "number" | "integer" => Some("int".to_owned()),
                        "boolean" => Some("bool".to_owned()),
                        "path" => Some("file".to_owned()),
                        "array" => Some("list[text]".to_owned()),
                        _ => None,
                    });
                let error = Diagnostic::error(
                    "unknown-name",
                    format!("type `{}` is not defined here", name.text),
                );
                self.report(name.span, error.maybe_mend(near));
                TypeShape::Error
            }
        }
    }

    fn type_of(&mut self, node: Node<'_>) -> TypeShape {
        let (Some(token), Some(inner)) = (node.words().next(), node.type_node()) else {
            return TypeShape::Error;
        };
        let name = self.name(node, token);
        let inner = Box::new(self.type_expr(inner));
        match &*name.text {
            "list" => TypeShape::List(inner),
            "map" => TypeShape::Map(inner),
            _ => {
                let message = format!("`{}` does not take the type of its items", name.text);
                let error = Diagnostic::error("wrong-type", message);
                self.report(name.span, error.mend("list[…]").mend("map[…]"));
                TypeShape::Error
            }
        }
    }
}
