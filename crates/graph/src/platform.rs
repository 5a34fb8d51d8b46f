//! What machines are distinguished by: systems, processors, and labels that somebody gave one of
//! them.

use std::sync::Arc;

use crate::Step;

/// Systems, as labels name them.
pub const SYSTEMS: &[&str] = &[
    "linux",
    "macos",
    "freebsd",
    "netbsd",
    "openbsd",
    "dragonfly",
    "illumos",
    "windows",
];

/// Processors, as labels name them.
pub const PROCESSORS: &[&str] = &[
    "x86",
    "x86_64",
    "arm",
    "aarch64",
    "riscv32",
    "riscv64",
    "loongarch64",
    "powerpc",
    "powerpc64",
    "s390x",
    "mips",
    "mips64",
    "sparc64",
];

/// The longest label, in bytes.
const LONGEST: usize = 32;

/// Whether a text can be a label: letters, digits, `-` and `_`.
pub fn is_label(text: &str) -> bool {
    let is_fine = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_');
    (1..=LONGEST).contains(&text.len()) && text.chars().all(is_fine)
}

/// What this machine is called by, without labels that somebody gave it: its system and its
/// processor.
pub fn own_platform() -> [&'static str; 2] {
    [std::env::consts::OS, std::env::consts::ARCH]
}

/// The system and the processor that some labels name; those of this machine where they name none.
pub fn platform_of(labels: &[Arc<str>]) -> [&str; 2] {
    let named = |names: &[&str]| {
        labels
            .iter()
            .map(|label| &**label)
            .find(|label| names.contains(label))
    };
    let [system, processor] = own_platform();
    [
        named(SYSTEMS).unwrap_or(system),
        named(PROCESSORS).unwrap_or(processor),
    ]
}

impl Step {
    /// All labels that a machine must have to run it, sorted: the platform among them, also where
    /// the step does not name it.
    pub fn needed_labels(&self) -> Vec<Arc<str>> {
        let mut labels: Vec<Arc<str>> = platform_of(&self.machine)
            .into_iter()
            .map(Arc::from)
            .collect();
        labels.extend(self.machine.iter().cloned());
        labels.sort();
        labels.dedup();
        labels
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_named_is_as_here() {
        let [system, processor] = own_platform();
        assert_eq!(platform_of(&[]), [system, processor]);
        assert_eq!(
            platform_of(&["sparc64".into(), "tide-board".into()]),
            [system, "sparc64"]
        );
        let machine = vec![Arc::from("tide-board"), Arc::from("sparc64")];
        let step = Step {
            machine,
            ..Step::empty(nubrik_source::WsPath::root())
        };
        let mut all = [system, "sparc64", "tide-board"];
        all.sort_unstable();
        assert_eq!(
            step.needed_labels()
                .iter()
                .map(|label| &**label)
                .collect::<Vec<_>>(),
            all
        );
        assert!(SYSTEMS.contains(&system) && PROCESSORS.contains(&processor));
    }

    #[test]
    fn labels_are_plain_words() {
        assert!(is_label("tide-board_2") && is_label("x86_64"));
        for text in ["", "a b", "a.b", "a+b", "é", &"a".repeat(33)] {
            assert!(!is_label(text), "{text}");
        }
    }
}
