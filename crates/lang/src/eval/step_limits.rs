//! What a step may take of a machine, and on which one it may run.

use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::{Limits, PROCESSORS, SYSTEMS, is_label};

use super::forms::FormValues;
use super::{Evaluator, Result};

impl Evaluator<'_> {
    /// What a step may take of a machine.
    pub(super) fn limits(&mut self, values: &FormValues, is_check: bool) -> Result<Limits> {
        let memory = match self.plain(values, "memory")? {
            None => None,
            Some((text, span)) => match size(&text) {
                Some(bytes) => Some(bytes),
                None => {
                    let error = Diagnostic::error(
                        "wrong-type",
                        format!("\"{text}\" is not an amount of memory"),
                    );
                    return self.fail(
                        span,
                        error.mend("memory = \"512MiB\"").mend("memory = \"2GiB\""),
                    );
                }
            },
        };
        let processors = self.small_number(values, "processors")?.unwrap_or(1).max(1);
        Ok(Limits {
            network: values.bool("network"),
            timeout: values
                .duration("timeout")
                .or_else(|| is_check.then(|| self.world.test_patience())),
            memory,
            processors,
        })
    }

    /// What is said of the machine on which a step may run.
    pub(super) fn machine(&mut self, values: &FormValues) -> Result<Vec<Arc<str>>> {
        let mut labels = values.texts("machine");
        labels.sort();
        labels.dedup();
        let Some((_, span)) = values.get("machine") else {
            return Ok(labels);
        };
        if let Some(label) = labels.iter().find(|label| !is_label(label)) {
            let text = format!("\"{label}\" is no label: letters, digits, `-` and `_`, 32 at most");
            let error = Diagnostic::error("wrong-value", text);
            return self.fail(span, error.mend("machine = [\"aarch64\", \"tide-board\"]"));
        }
        for (what, names) in [("system", SYSTEMS), ("processor", PROCESSORS)] {
            let mut named = labels.iter().filter(|label| names.contains(&&***label));
            if let (Some(one), Some(other)) = (named.next(), named.next()) {
                let text = format!("no machine has both {what}s, `{one}` and `{other}`");
                let error = Diagnostic::error("wrong-value", text);
                return self.fail(span, error.mend("one of them, or a step for each"));
            }
        }
        Ok(labels)
    }
}

/// An amount such as `512MiB`, in bytes.
fn size(text: &str) -> Option<u64> {
    let digits = text
        .find(|c: char| !c.is_ascii_digit())
        .unwrap_or(text.len());
    let count: u64 = text[..digits].parse().ok()?;
    let unit = match text[digits..].trim_start() {
        "KiB" => 1 << 10,
        "MiB" => 1 << 20,
        "GiB" => 1 << 30,
        _ => return None,
    };
    count.checked_mul(unit).filter(|bytes| *bytes > 0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_have_units() {
        assert_eq!(size("512MiB"), Some(512 << 20));
        assert_eq!(size("2 GiB"), Some(2 << 30));
        assert_eq!(size("12"), None);
        assert_eq!(size("0KiB"), None);
    }
}
