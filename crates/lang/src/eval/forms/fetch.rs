//! `fetch`: a file from somewhere else, known by its digest, made by the tool itself.

use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{Native, Unpacking, is_digest};
use nubrik_source::Span;

use super::fields::*;
use super::{Form, FormEvaluation, FormValues};
use crate::builtins::*;
use crate::eval::natives::{FORMATS, without_ending};
use crate::eval::{Evaluator, Result, Scope};
use crate::value::*;

pub(super) const FORM: Form = Form {
    info: FormInfo {
        name: "fetch",
        builtin: Builtin::Fetch,
        shape: CallShape::Braces,
        doc: "A file or folder from the network that never changes: its digest is part of the definition.",
        fields: &[
            field(
                "url",
                FieldType::Texts,
                true,
                "http://, https:// or file:// addresses: mirrors, tried in order; origin://REGISTRY/PATH is below a registry, wherever that is",
            ),
            field(
                "digest",
                FieldType::Text,
                true,
                "of what is fetched: \"sha256:…\", \"sha512:…\", \"blake3:…\", or \"h1:…\" of the files in a zip",
            ),
            field(
                "path",
                FieldType::Text,
                false,
                "the name of the output; the last part of the first URL by default",
            ),
            field(
                "unpack",
                FieldType::Bool,
                false,
                "whether it is an archive to unpack into a folder",
            ),
            field(
                "strip",
                FieldType::Int,
                false,
                "how many leading folders of each name are dropped when it is unpacked",
            ),
            field("format", FieldType::Text, false, FORMATS),
            field(
                "executable",
                FieldType::Bool,
                false,
                "whether it may be executed",
            ),
        ],
        gives: &[],
        example: "target charts = fetch {\n    url = [\"https://charts.example/2031.tar.gz\", \"https://mirror.example/2031.tar.gz\"]\n    digest = \"sha256:9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822cd15d6c15b0f00a08\"\n    unpack = true\n}",
    },
    way: FormEvaluation::Braces(|e, scope, values, span| e.fetch_form(scope, values, span)),
};

/// A name of so many hexadecimal digits is a digest, and so many of them are shown.
const LONG_DIGEST: usize = 40;
const SHOWN_DIGITS: usize = 12;

impl Evaluator<'_> {
    pub(in crate::eval) fn fetch_form(
        &mut self,
        scope: &Scope,
        values: &FormValues,
        span: Span,
    ) -> Result<Value> {
        let urls = values.texts("url");
        let url_span = values.get("url").map_or(span, |(_, s)| s);
        let starts = ["http://", "https://", "file:///", "origin://"];
        let known = |u: &Arc<str>| starts.iter().any(|p| u.starts_with(p));
        if let Some(wrong) = urls.iter().find(|u| !known(u)) {
            let error = Diagnostic::error(
                "wrong-type",
                format!("`{wrong}` is not a URL to fetch from"),
            );
            return self.fail(
                url_span,
                error.note("addresses begin with http://, https://, file:/// or origin://"),
            );
        }
        if urls.is_empty() {
            let error = Diagnostic::error("missing-field", "this `fetch` has no URL");
            return self.fail(url_span, error.mend("url = \"https://…\""));
        }
        let Some((digest, digest_span)) = self.plain(values, "digest")? else {
            return self.failed_before(span);
        };
        if !is_digest(&digest) {
            let error = Diagnostic::error("wrong-type", format!("`{digest}` is not a digest"));
            let error = error
                .note("small hexadecimal digits: 64 after `sha256:` or `blake3:`, 128 after `sha512:`")
                .note("or base64: 88 characters after `sha512:`, 44 after `h1:`");
            return self.fail(
                digest_span,
                error.mend("digest = \"sha256:…\", as `sha256sum FILE` prints it"),
            );
        }
        let last = urls[0]
            .split(['?', '#'])
            .next()
            .unwrap_or("")
            .rsplit('/')
            .next()
            .unwrap_or("")
            .to_owned();
        let unpack = values.bool("unpack");
        let format = match unpack {
            true => Some(self.archive_format(values, &last, url_span)?),
            false => None,
        };
        let default = if unpack {
            without_ending(&last).to_owned()
        } else {
            last
        };
        let (path, path_span) = self
            .plain(values, "path")?
            .unwrap_or_else(|| (default.into(), url_span));
        let strip = self.small_number(values, "strip")?.unwrap_or(0);
        let draft = self.native_draft(scope, &path, unpack, path_span)?;
        let native = Native::Fetch {
            urls,
            digest,
            unpack: format.map(|format| Unpacking { format, strip }),
            executable: values.bool("executable"),
        };
        // What is called by its digest is known by a part of it.
        let is_digest =
            path.len() >= LONG_DIGEST && path.bytes().all(|byte| byte.is_ascii_hexdigit());
        let shown = if is_digest {
            format!("{}…", &path[..SHOWN_DIGITS])
        } else {
            path.to_string()
        };
        self.enter_native(scope, draft, native, format!("fetch {shown}"), span)
    }
}
