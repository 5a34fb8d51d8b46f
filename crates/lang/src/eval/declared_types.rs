//! Types that are written in definitions, and members of kits and packages.

use nubrik_diagnostic::Diagnostic;

use super::chosen::DEFAULTS;
use super::memo::OpenKey;
use super::{Evaluator, Result, Stop};
use crate::hir::*;
use crate::modules::Missing;
use crate::types::Type;

impl Evaluator<'_> {
    /// The type that a written one means.
    pub(super) fn resolve_type(&mut self, module_id: ModuleId, ty: &TypeExpr) -> Result<Type> {
        Ok(match &ty.shape {
            TypeShape::Error => Type::Unknown,
            TypeShape::Bool => Type::Bool,
            TypeShape::Int => Type::Int,
            TypeShape::Text => Type::Text,
            TypeShape::File => Type::File,
            TypeShape::Folder => Type::Folder,
            TypeShape::Files => Type::Files,
            TypeShape::Command => Type::Command,
            TypeShape::Step => Type::Step,
            TypeShape::Check => Type::Check,
            TypeShape::Service => Type::Service,
            TypeShape::Duration => Type::Duration,
            TypeShape::Any => Type::Any,
            TypeShape::List(inner) => Type::List(Box::new(self.resolve_type(module_id, inner)?)),
            TypeShape::Map(inner) => Type::Map(Box::new(self.resolve_type(module_id, inner)?)),
            TypeShape::Optional(inner) => {
                Type::Optional(Box::new(self.resolve_type(module_id, inner)?))
            }
            TypeShape::Alternatives(texts) => Type::Alternatives(texts.as_slice().into()),
            TypeShape::Record(fields) => {
                let mut resolved = Vec::new();
                for (name, ty) in fields {
                    resolved.push((name.text.clone(), self.resolve_type(module_id, ty)?));
                }
                Type::Record(resolved.into())
            }
            TypeShape::Decl(number) => self.declared_type(DeclId::new(module_id, *number))?,
            TypeShape::Member(number, name) => {
                let decl = self.member(module_id, *number, name)?;
                let module = self.module(decl.module);
                if module.decl(decl).kind != DeclKind::Type {
                    let error =
                        Diagnostic::error("wrong-type", format!("`{}` is not a type", name.text));
                    return self.fail(name.span, error);
                }
                self.declared_type(decl)?
            }
        })
    }

    pub(super) fn declared_type(&mut self, id: DeclId) -> Result<Type> {
        let taken = self.take_from(id);
        if let Some(ty) = self.memos.types.get(&id) {
            return Ok(ty.clone());
        }
        if let Some(reported) = self.known_memo(id).and_then(|m| m.done.failure()) {
            return Err(Stop::Failed(reported));
        }
        let module = self.module(id.module);
        let decl = module.decl(id);
        let key = OpenKey::Decl(id, DEFAULTS);
        if self.memos.open.iter().any(|o| o.key == key) {
            return self.needs_itself(key, decl.name.span);
        }
        let inner = self.in_unit(id, |this| {
            this.opened(key, decl.name.span, |this| match &decl.content(taken).ty {
                Some(ty) => this.resolve_type(id.module, ty),
                None => Ok(Type::Unknown),
            })
        })?;
        let ty = Type::Named(decl.name.text.clone(), id, Box::new(inner));
        self.memos.types.insert(id, ty.clone());
        Ok(ty)
    }

    /// The declaration that a kit's member means.
    pub(super) fn member(&mut self, from: ModuleId, kit_use: u32, name: &Name) -> Result<DeclId> {
        if self
            .definitions
            .bad_names
            .contains(&(from, kit_use, name.text.clone()))
        {
            return self.failed_before(name.span);
        }
        match self.definitions.modules.used(self.world, from, kit_use) {
            Ok(kit) => {
                self.definitions.modules.entered(kit);
                let found = self.definitions.modules.member(from, kit, name);
                let decl = DeclId::new(kit, self.at(name.span, found)?);
                self.take_from(decl);
                Ok(decl)
            }
            Err(Missing::Pending) => self.wait(),
            Err(_) => self.failed_before(name.span),
        }
    }
}
