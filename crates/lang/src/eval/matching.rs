//! `match`: the first case that fits, and whether the cases are complete.

use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_source::Span;

use super::{Evaluator, Result, Scope, Stop};
use crate::hir::*;
use crate::types::{Type, not_an_alternative};
use crate::value::*;

impl Evaluator<'_> {
    pub(super) fn match_value(
        &mut self,
        scope: &Scope,
        id: ExprId,
        subject: ExprId,
        ty: Option<&TypeExpr>,
        arms: &[MatchArm],
        span: Span,
    ) -> Result<Value> {
        self.check_cases(scope.module, id, subject, ty, arms, span)?;
        let module = self.module(scope.module);
        let value = self.eval(scope, subject)?;
        for arm in arms {
            if arm.cases.is_empty() {
                return self.eval(scope, arm.give);
            }
            for case in &arm.cases {
                let case_value = self.eval(scope, *case)?;
                if self.equal(&value, &case_value, module.span(*case))? {
                    return self.eval(scope, arm.give);
                }
            }
        }
        let mut cases: Vec<Arc<str>> = Vec::new();
        for arm in arms {
            for case in &arm.cases {
                if let Value::Text(Text::Plain(text)) = self.eval(scope, *case)? {
                    cases.push(text);
                }
            }
        }
        let error = match &value {
            Value::Text(Text::Plain(text)) if !cases.is_empty() => {
                not_an_alternative(text, &cases).note("no case of this `match` fits")
            }
            _ => Diagnostic::error(
                "no-case",
                format!("no case of this `match` fits {}", value.described()),
            ),
        };
        self.fail(span, error.mend("else: …"))
    }

    /// Reports, once for each `match`, alternatives of the subject's declared type that no case
    /// takes, and cases that none of them can meet.
    fn check_cases(
        &mut self,
        module: ModuleId,
        id: ExprId,
        subject: ExprId,
        ty: Option<&TypeExpr>,
        arms: &[MatchArm],
        span: Span,
    ) -> Result<()> {
        if let Some(fine) = self.memos.checked_matches.get(&(module, id)) {
            return fine.map_err(Stop::Failed);
        }
        self.memos.checked_matches.insert((module, id), Ok(()));
        let Some(ty) = self.declared_type_of(module, subject, ty)? else {
            return Ok(());
        };
        let (texts, optional) = match ty.core() {
            Type::Alternatives(texts) => (texts.clone(), false),
            Type::Optional(inner) => match inner.core() {
                Type::Alternatives(texts) => (texts.clone(), true),
                _ => return Ok(()),
            },
            _ => return Ok(()),
        };
        let owner = self.module(module);
        let mut open: Vec<Arc<str>> = texts.to_vec();
        let mut none_open = optional;
        let mut fine = Ok(());
        let mut has_else = false;
        for arm in arms {
            has_else |= arm.cases.is_empty();
            for case in &arm.cases {
                match owner.expr(*case) {
                    Expr::Plain(text) => {
                        if !texts.contains(text) {
                            let error = not_an_alternative(text, &texts);
                            fine = Err(self.definitions.modules.report(owner.span(*case), error));
                        }
                        open.retain(|t| t != text);
                    }
                    Expr::None => none_open = false,
                    _ => return Ok(()), // Only plain cases can be compared with the type.
                }
            }
        }
        if !has_else && (!open.is_empty() || none_open) {
            let mut missing: Vec<String> = open.iter().map(|t| format!("\"{t}\"")).collect();
            missing.extend(none_open.then(|| "none".to_owned()));
            let message = format!("this `match` has no case for {}", missing.join(" and "));
            let error = Diagnostic::error("no-case", message)
                .note(format!("the value is {}", ty.core().written()));
            let error = error
                .mend(format!("{}: …", missing.join(" | ")))
                .mend("else: …");
            fine = Err(self.definitions.modules.report(span, error));
        }
        self.memos.checked_matches.insert((module, id), fine);
        fine.map_err(Stop::Failed)
    }

    /// The type that an expression was declared with, where it is a name.
    fn declared_type_of(
        &mut self,
        module: ModuleId,
        expr: ExprId,
        local: Option<&TypeExpr>,
    ) -> Result<Option<Type>> {
        if let Some(ty) = local {
            return self.resolve_type(module, ty).map(Some);
        }
        let owner = self.module(module);
        let id = match owner.expr(expr) {
            Expr::Decl(number) => DeclId::new(module, *number),
            Expr::Member(number, name) => self.member(module, *number, name)?,
            _ => return Ok(None),
        };
        let owner = self.module(id.module);
        let taken = self.take_from(id);
        match &owner.decl(id).content(taken).ty {
            Some(ty) => self.resolve_type(id.module, ty).map(Some),
            None => Ok(None),
        }
    }
}
