//! What `cfg(…)` is asked of a system.

use std::collections::BTreeMap;
use std::str::FromStr;

use cargo_platform::{Cfg, Platform};

use crate::PinProblem;

/// A system as the compiler describes it.
pub(crate) struct CrateTarget {
    triple: &'static str,
    cfgs: Vec<Cfg>,
}

/// Each system: its name, its target with the usual C library, and with the other one; processor,
/// width of pointers in bits.
const SYSTEMS: [(&str, &str, &str, &str, u32); 6] = [
    (
        "linux-x86_64",
        "x86_64-unknown-linux-gnu",
        "x86_64-unknown-linux-musl",
        "x86_64",
        64,
    ),
    (
        "linux-aarch64",
        "aarch64-unknown-linux-gnu",
        "aarch64-unknown-linux-musl",
        "aarch64",
        64,
    ),
    ("macos-x86_64", "x86_64-apple-darwin", "", "x86_64", 64),
    ("macos-aarch64", "aarch64-apple-darwin", "", "aarch64", 64),
    (
        "windows-x86_64",
        "x86_64-pc-windows-msvc",
        "x86_64-pc-windows-gnu",
        "x86_64",
        64,
    ),
    (
        "windows-aarch64",
        "aarch64-pc-windows-msvc",
        "",
        "aarch64",
        64,
    ),
];

impl CrateTarget {
    /// A system of `pins.toml`, with its facts.
    pub(crate) fn of(
        system: &str,
        facts: &BTreeMap<String, String>,
    ) -> Result<CrateTarget, PinProblem> {
        let Some((_, usual, other, cpu, width)) = SYSTEMS.iter().find(|(name, ..)| *name == system)
        else {
            let known: Vec<&str> = SYSTEMS.iter().map(|(name, ..)| *name).collect();
            let problem = PinProblem::new(format!("`{system}` is no system that crates are for"));
            return Err(problem.note(format!("there is: {}", known.join(", "))));
        };
        let is_musl = facts.contains_key("musl") && !other.is_empty();
        let os = system.split('-').next().unwrap_or_default();
        let (family, vendor, env) = match os {
            "windows" => ("windows", "pc", "msvc"),
            "macos" => ("unix", "apple", ""),
            _ => ("unix", "unknown", if is_musl { "musl" } else { "gnu" }),
        };
        let mut texts = vec![
            family.to_owned(),
            format!("target_family=\"{family}\""),
            format!("target_os=\"{os}\""),
            format!("target_arch=\"{cpu}\""),
            format!("target_pointer_width=\"{width}\""),
            format!("target_env=\"{env}\""),
            format!("target_vendor=\"{vendor}\""),
            "target_endian=\"little\"".to_owned(),
            "panic=\"unwind\"".to_owned(),
        ];
        texts.extend(
            ["8", "16", "32", "64", "ptr"].map(|size| format!("target_has_atomic=\"{size}\"")),
        );
        if *cpu == "x86_64" {
            texts.extend(
                ["fxsr", "sse", "sse2"].map(|feature| format!("target_feature=\"{feature}\"")),
            );
        }
        let cfgs = texts
            .iter()
            .filter_map(|text| Cfg::from_str(text).ok())
            .collect();
        Ok(CrateTarget {
            triple: if is_musl { other } else { usual },
            cfgs,
        })
    }

    /// Whether something for these systems is for this one. What cannot be read is for none, as the
    /// compiler's own tools have it.
    pub(crate) fn matches(&self, condition: &str) -> bool {
        Platform::from_str(condition)
            .is_ok_and(|platform| platform.matches(self.triple, &self.cfgs))
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn conditions_are_asked_of_a_system() {
        let linux = CrateTarget::of("linux-x86_64", &BTreeMap::new()).unwrap();
        let mac = CrateTarget::of("macos-aarch64", &BTreeMap::new()).unwrap();
        for (condition, on_linux, on_mac) in [
            ("cfg(unix)", true, true),
            ("cfg(windows)", false, false),
            ("cfg(all(unix, not(target_os = \"macos\")))", true, false),
            (
                "cfg(any(target_arch = \"aarch64\", target_env = \"musl\"))",
                false,
                true,
            ),
            ("x86_64-unknown-linux-gnu", true, false),
            ("cfg(???)", false, false),
        ] {
            assert_eq!(
                (linux.matches(condition), mac.matches(condition)),
                (on_linux, on_mac),
                "{condition}"
            );
        }
        let musl = CrateTarget::of(
            "linux-x86_64",
            &[("musl".to_owned(), "1.2".to_owned())].into(),
        )
        .unwrap();
        assert!(musl.matches("cfg(target_env = \"musl\")"));
        assert!(CrateTarget::of("beos-68k", &BTreeMap::new()).is_err());
    }
}
