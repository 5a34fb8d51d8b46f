//! `pins_of`: other people's code that `pins.toml` names.

use std::collections::{HashMap, HashSet};
use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_source::{Span, WsPath};

use super::{Form, FormEvaluation};
use crate::builtins::*;
use crate::data::{Datum, DatumKind, toml};
use crate::eval::{Evaluator, Result, Scope};
use crate::hir::*;
use crate::value::*;
use crate::world::{Answer, EntryKind};

/// The file that holds pins, at the root of the workspace.
const PINS_FILE: &str = "pins.toml";

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "pins_of",
        builtin: Builtin::PinsOf,
        shape: CallShape::Brackets,
        doc: "What `pins.toml` names of a registry, as far as it is for this machine. Kits read it; definitions use their `pinned`.",
        fields: &[],
        gives: &[
            (
                "asked",
                "of each name that is asked for its `pin`, and `all` that this needs, itself first",
            ),
            (
                "pins",
                "each pin by its name and version: its name, version, licence, archives, features, packages, facts, places and needs",
            ),
            (
                "facts",
                "what else of the machine the versions were chosen for, such as `python`",
            ),
        ],
        example: "private let shelf = pins_of(\"python\")",
    },
    way: FormEvaluation::Round(|e, scope, args, span| e.pins_of_call(scope, args, span)),
};

impl Evaluator<'_> {
    fn pins_of_call(&mut self, scope: &Scope, args: &[Arg], span: Span) -> Result<Value> {
        let args = self.given(scope, args)?;
        let (registry, _) = self.one_text_and(args, "pins_of", &[], span)?;
        let path = WsPath::from_normal(PINS_FILE);
        let is_there = match self.world.kind(&path) {
            Answer::Pending => return self.wait(),
            Answer::Ready(kind) => kind == Some(EntryKind::File),
        };
        if !is_there {
            return self.fail(span, nothing_pinned(&registry.0));
        }
        let file = FileRef {
            path,
            maker: None,
            folder: false,
        };
        let (data, text) = self.data_file(&file, span)?;
        let whole = match toml(&text) {
            Ok(datum) => datum,
            Err(wrong) => {
                let place = Span::new(data, wrong.range.start, wrong.range.end);
                return self.fail(place, wrong.diagnostic.related(span, "it is read here"));
            }
        };
        let Some(shelf) = entry(&whole, &registry.0) else {
            return self.fail(span, nothing_pinned(&registry.0));
        };
        let system = format!("{}-{}", std::env::consts::OS, std::env::consts::ARCH);
        let systems = entry(shelf, "systems").map(entries).unwrap_or_default();
        let nothing = Datum {
            kind: DatumKind::Map(Vec::new()),
            range: 0..0,
        };
        let own = systems
            .iter()
            .find(|(name, _)| *name == system)
            .map(|(_, facts)| *facts);
        // What is the same on all systems names none.
        let Some(facts) = own.or(systems.is_empty().then_some(&nothing)) else {
            let names: Vec<&str> = systems.iter().map(|(name, _)| *name).collect();
            let message = format!(
                "the pins of `{}` are for {}, and this is {system}",
                registry.0,
                names.join(", ")
            );
            let error = Diagnostic::error("no-pins", message);
            return self.fail(
                span,
                error.mend(format!("nubrik pins add {} --system {system}", registry.0)),
            );
        };
        self.count(text.len() as u64 / 64 + 1, span)?;
        let maker = ShelfMaker {
            system: &system,
            at: span,
            unit: self.unit(),
        };
        Ok(maker.whole(shelf, facts))
    }
}

fn nothing_pinned(registry: &str) -> Diagnostic {
    let error = Diagnostic::error(
        "no-pins",
        format!("nothing is pinned from the registry `{registry}`"),
    );
    error.mend(format!("nubrik pins add {registry} NAME"))
}

fn entries(datum: &Datum) -> Vec<(&str, &Datum)> {
    match &datum.kind {
        DatumKind::Map(entries) => entries
            .iter()
            .map(|(name, _, value)| (name.as_str(), value))
            .collect(),
        _ => Vec::new(),
    }
}

fn entry<'d>(datum: &'d Datum, name: &str) -> Option<&'d Datum> {
    entries(datum)
        .into_iter()
        .find(|(key, _)| *key == name)
        .map(|(_, value)| value)
}

fn items(datum: Option<&Datum>) -> &[Datum] {
    match datum.map(|datum| &datum.kind) {
        Some(DatumKind::List(items)) => items,
        _ => &[],
    }
}

fn text(datum: Option<&Datum>) -> &str {
    match datum.map(|datum| &datum.kind) {
        Some(DatumKind::Text(text)) => text,
        _ => "",
    }
}

/// Makes values of what is for one system.
struct ShelfMaker<'a> {
    system: &'a str,
    at: Span,
    unit: u32,
}

impl ShelfMaker<'_> {
    fn whole(&self, shelf: &Datum, facts: &Datum) -> Value {
        let all = entry(shelf, "pins").map(entries).unwrap_or_default();
        let here = all.iter().filter(|(_, pin)| self.is_here(pin));
        let pins = here.clone().map(|(id, pin)| ((*id).into(), self.pin(pin)));
        let asked = entry(shelf, "asked").map(entries).unwrap_or_default();
        let asked = asked.into_iter().filter_map(|(name, asked)| {
            let ids = items(entry(asked, "pins")).iter().map(|id| text(Some(id)));
            let id = ids
                .into_iter()
                .find(|id| here.clone().any(|(known, _)| known == id))?;
            let all = self
                .closure(&all, id)
                .into_iter()
                .filter(|id| here.clone().any(|(known, _)| known == id));
            let all = list(all.map(Value::text));
            Some((
                name.into(),
                record([("pin", Value::text(id)), ("all", all)]),
            ))
        });
        record([
            ("asked", self.map(asked.collect())),
            ("pins", self.map(pins.collect())),
            ("facts", self.texts(facts)),
        ])
    }

    fn pin(&self, pin: &Datum) -> Value {
        let archives = items(entry(pin, "archives"))
            .iter()
            .filter(|archive| self.is_here(archive));
        let archives = archives.map(|archive| {
            let field = |name| Value::text(text(entry(archive, name)));
            record([("path", field("path")), ("digest", field("digest"))])
        });
        let needs = items(entry(pin, "needs"))
            .iter()
            .filter(|need| self.is_here(need));
        let needs = needs.map(|need| {
            let is_for_build = matches!(
                entry(need, "build").map(|d| &d.kind),
                Some(DatumKind::Bool(true))
            );
            record([
                ("pin", Value::text(text(entry(need, "pin")))),
                ("alias", Value::text(text(entry(need, "as")))),
                ("build", Value::Bool(is_for_build)),
            ])
        });
        let texts = |name| {
            list(
                items(entry(pin, name))
                    .iter()
                    .map(|item| Value::text(text(Some(item)))),
            )
        };
        let facts =
            entry(pin, "facts").map_or_else(|| self.map(Vec::new()), |facts| self.texts(facts));
        record([
            ("name", Value::text(text(entry(pin, "name")))),
            ("version", Value::text(text(entry(pin, "version")))),
            ("licence", Value::text(text(entry(pin, "licence")))),
            ("archives", list(archives)),
            ("features", texts("features")),
            ("packages", texts("packages")),
            ("places", texts("places")),
            ("facts", facts),
            ("needs", list(needs)),
        ])
    }

    /// A pin and all that it needs, each once, itself first. Packages may need one another in
    /// circles.
    fn closure<'d>(&self, pins: &[(&'d str, &'d Datum)], id: &'d str) -> Vec<&'d str> {
        let known: HashMap<&str, &Datum> = pins.iter().copied().collect();
        let (mut seen, mut order) = (HashSet::from([id]), vec![id]);
        let mut at = 0;
        while let Some(id) = order.get(at) {
            at += 1;
            let needs = known
                .get(id)
                .map(|pin| items(entry(pin, "needs")))
                .unwrap_or_default();
            for need in needs.iter().filter(|need| self.is_here(need)) {
                let need = text(entry(need, "pin"));
                if seen.insert(need) {
                    order.push(need);
                }
            }
        }
        order
    }

    /// Whether something is for this system: it names none, or this one.
    fn is_here(&self, datum: &Datum) -> bool {
        let on = items(entry(datum, "on"));
        on.is_empty() || on.iter().any(|system| text(Some(system)) == self.system)
    }

    fn texts(&self, datum: &Datum) -> Value {
        self.map(
            entries(datum)
                .into_iter()
                .map(|(name, value)| (name.into(), Value::text(text(Some(value)))))
                .collect(),
        )
    }

    fn map(&self, entries: Vec<(Arc<str>, Value)>) -> Value {
        let map = Map::of_values(entries, Keys::Lookup, self.at, self.unit);
        Value::Map(Rc::new(Map {
            loaded: true,
            ..map
        }))
    }
}

fn list(values: impl Iterator<Item = Value>) -> Value {
    Value::List(values.collect::<Vec<_>>().into())
}

fn record<const N: usize>(fields: [(&str, Value); N]) -> Value {
    let fields = fields
        .into_iter()
        .map(|(name, value)| (name.into(), value))
        .collect();
    Value::Record(Rc::new(RecordValue { fields, kind: None }))
}
