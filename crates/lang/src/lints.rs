//! What is allowed but probably not meant.

use std::collections::HashSet;

use nubrik_diagnostic::Diagnostic;

use crate::hir::*;

/// Names of a module that nothing uses.
pub(crate) fn unused(module: &Module) -> Vec<Diagnostic> {
    let mut used_decls = HashSet::new();
    let mut used_members = HashSet::new();
    let mut used_kits = HashSet::new();
    for reference in module.decls.iter().flat_map(|d| &d.references) {
        match &reference.to {
            ReferenceTo::Decl(number) => drop(used_decls.insert(*number)),
            ReferenceTo::Member(number, name) => {
                used_kits.insert(*number);
                used_members.insert((*number, name.clone()));
            }
            ReferenceTo::Address(_) => {}
        }
    }
    let mut warnings = Vec::new();
    for (number, item) in module.uses.iter().enumerate() {
        if let Some(alias) = &item.alias
            && !used_kits.contains(&(number as u32))
        {
            let warning =
                Diagnostic::warning("unused", format!("the kit `{}` is used by nothing", alias.text));
            warnings.push(warning.at(alias.span).mend("remove this `use`"));
        }
        for name in &item.names {
            if !used_members.contains(&(number as u32, name.text.clone())) {
                let warning = Diagnostic::warning("unused", format!("`{}` is used by nothing", name.text));
                warnings.push(warning.at(name.span).mend("take it out of this `use`"));
            }
        }
    }
    for (number, decl) in module.decls.iter().enumerate() {
        // Other packages may refer to an open value, and other files to anything open in a kit.
        let own = decl.private && !matches!(decl.kind, DeclKind::Target);
        if own && !used_decls.contains(&(number as u32)) {
            let message = format!("the {} `{}` is used by nothing", decl.kind.word(), decl.name.text);
            warnings.push(Diagnostic::warning("unused", message).at(decl.name.span).mend("remove it"));
        }
    }
    warnings.extend(module.decls.iter().flat_map(|d| unused_params(module, d)));
    warnings
}

fn unused_params(module: &Module, decl: &Decl) -> Vec<Diagnostic> {
    let (Some(body), false) = (decl.body, decl.params.is_empty()) else { return Vec::new() };
    // Names in reach of a declaration are told apart by their text: shadowing is an error.
    let start = decl.name.span.start;
    let end = module.span(body).end;
    let mut used: HashSet<u16> = HashSet::new();
    for (i, expr) in module.exprs.iter().enumerate() {
        let span = module.spans[i];
        if span.start >= start
            && span.end <= end
            && let Expr::Local { slot, .. } = expr
        {
            used.insert(*slot);
        }
    }
    let names = decl.params.iter().map(|p| &p.name).chain(decl.lets.iter().map(|l| &l.name));
    let unused = names.enumerate().filter(|(slot, _)| !used.contains(&(*slot as u16)));
    unused
        .map(|(_, name)| {
            let warning = Diagnostic::warning("unused", format!("`{}` is used by nothing", name.text));
            warning.at(name.span).mend("remove it")
        })
        .collect()
}
