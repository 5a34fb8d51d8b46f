//! Types that are written in definitions, and members of kits and packages.

use nubrik_diagnostic::Diagnostic;

use super::memo::OpenKey;
use super::options::DEFAULTS;
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
            TypeShape::Optional(inner) => Type::Optional(Box::new(self.resolve_type(module_id, inner)?)),
            TypeShape::Alternatives(texts) => Type::Alternatives(texts.as_slice().into()),
            TypeShape::Record(fields) => {
                let mut resolved = Vec::new();
                for (name, ty) in fields {
                    resolved.push((name.text.clone(), self.resolve_type(module_id, ty)?));
                }
                Type::Record(resolved.into())
            }
            TypeShape::Decl(number) => self.declared_type(module_id, *number)?,
            TypeShape::Member(number, name) => {
                let (kit, decl) = self.member(module_id, *number, name)?;
                let module = self.module(kit);
                if module.decls[decl as usize].kind != DeclKind::Type {
                    let error = Diagnostic::error("wrong-type", format!("`{}` is not a type", name.text));
                    return self.fail(name.span, error);
                }
                self.declared_type(kit, decl)?
            }
        })
    }

    pub(super) fn declared_type(&mut self, module_id: ModuleId, number: u32) -> Result<Type> {
        self.take_from(module_id, number);
        if let Some(ty) = self.memos.types.get(&(module_id, number)) {
            return Ok(ty.clone());
        }
        if self.known_memo((module_id, number)).is_some_and(|m| m.done.has_failure()) {
            return Err(Stop::Failed);
        }
        let module = self.module(module_id);
        let decl = &module.decls[number as usize];
        let key = OpenKey::Decl(module_id, number, DEFAULTS);
        if self.memos.open.iter().any(|o| o.key == key) {
            return self.needs_itself(key, decl.name.span);
        }
        let inner = self.in_unit(module_id, number, |this| {
            this.opened(key, decl.name.span, |this| match &decl.ty {
                Some(ty) => this.resolve_type(module_id, ty),
                None => Ok(Type::Unknown),
            })
        })?;
        let ty = Type::Named(decl.name.text.clone(), module_id, number, Box::new(inner));
        self.memos.types.insert((module_id, number), ty.clone());
        Ok(ty)
    }

    /// The declaration that a kit's member means.
    pub(super) fn member(
        &mut self,
        module_id: ModuleId,
        number: u32,
        name: &Name,
    ) -> Result<(ModuleId, u32)> {
        if self.definitions.bad_names.contains(&(module_id, number, name.text.clone())) {
            return Err(Stop::Failed);
        }
        match self.definitions.modules.used(self.world, module_id, number) {
            Ok(kit) => {
                self.definitions.modules.entered(kit);
                let found = self.definitions.modules.member(module_id, kit, name);
                let number = self.at(name.span, found)?;
                self.take_from(kit, number);
                Ok((kit, number))
            }
            Err(Missing::Pending) => self.wait(),
            Err(_) => Err(Stop::Failed),
        }
    }
}
