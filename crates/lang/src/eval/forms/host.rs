//! `host`: the machine on which commands run.

use std::rc::Rc;

use super::{Form, FormEvaluation};
use crate::builtins::*;
use crate::value::*;

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "host",
        builtin: Builtin::Host,
        shape: CallShape::Plain,
        doc: "The machine on which the build runs.",
        fields: &[],
        gives: &[
            ("os", "\"linux\" or \"macos\""),
            ("cpu", "\"x86_64\", \"aarch64\", …"),
        ],
        example: "let threads = if host.os == \"linux\" then [\"-pthread\"] else []",
    },
    way: FormEvaluation::Plain(host),
};

/// What `host` is.
fn host() -> Value {
    let fields = vec![
        ("os".into(), Value::text(std::env::consts::OS)),
        ("cpu".into(), Value::text(std::env::consts::ARCH)),
    ];
    Value::Record(Rc::new(RecordValue { fields, kind: None }))
}
