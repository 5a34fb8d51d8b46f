//! Which wheels fit an interpreter on a system (PEP 425, PEP 600, PEP 656).

use std::collections::{BTreeMap, HashMap};

use pep440_rs::Version;
use pep508_rs::{MarkerEnvironment, MarkerEnvironmentBuilder};

use crate::PinProblem;

/// The oldest releases of macOS that wheels are built for, and the newest that this knows.
const MACOS_RELEASES: std::ops::RangeInclusive<u32> = 11..=30;

/// An interpreter on a system.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Interpreter {
    /// The system, such as `linux-x86_64`.
    pub system: String,
    /// Its version: 3 and 11.
    pub version: (u32, u32),
    /// The version of the C library on Linux: `glibc` or `musl`, and its numbers.
    pub libc: Option<(String, u32, u32)>,
}

impl Interpreter {
    /// An interpreter on a system, after the facts of `pins.toml`.
    ///
    /// # Errors
    /// When a fact is missing or makes no sense, or the system is not known.
    pub fn of_facts(
        system: &str,
        facts: &BTreeMap<String, String>,
    ) -> Result<Interpreter, PinProblem> {
        let pair = |text: &str| -> Option<(u32, u32)> {
            let (major, minor) = text.split_once('.')?;
            Some((major.parse().ok()?, minor.split('.').next()?.parse().ok()?))
        };
        let wrong = |what: String| PinProblem::new(format!("the pins for {system}: {what}"));
        let version = facts
            .get("python")
            .ok_or_else(|| wrong("no version of Python is given".to_owned()))?;
        let version =
            pair(version).ok_or_else(|| wrong(format!("`{version}` is no version of Python")))?;
        let libc = ["glibc", "musl"]
            .into_iter()
            .find_map(|name| Some((name, facts.get(name)?)));
        let libc = match libc {
            Some((name, text)) => {
                let (major, minor) =
                    pair(text).ok_or_else(|| wrong(format!("`{text}` is no version of {name}")))?;
                Some((name.to_owned(), major, minor))
            }
            None => None,
        };
        let interpreter = Interpreter {
            system: system.to_owned(),
            version,
            libc,
        };
        if interpreter.platforms().is_empty() {
            return Err(PinProblem::new(format!("`{system}` is no system that wheels are for"))
                .note("systems are written linux-x86_64, linux-aarch64, macos-aarch64, macos-x86_64, windows-x86_64"));
        }
        Ok(interpreter)
    }

    /// Its version as far as requirements ask for it. The last number is that of a release which
    /// has all repairs, so that pins do not depend on the one that is installed.
    pub(crate) fn full_version(&self) -> Version {
        Version::new([u64::from(self.version.0), u64::from(self.version.1), 99])
    }

    fn parts(&self) -> (&str, &str) {
        self.system.split_once('-').unwrap_or((&self.system, ""))
    }

    /// Names of platforms whose wheels run there, the best first.
    fn platforms(&self) -> Vec<String> {
        let (os, cpu) = self.parts();
        match os {
            "linux" => {
                let mut out = Vec::new();
                match &self.libc {
                    Some((name, major, minor)) if name == "musl" => {
                        out.extend(
                            (0..=*minor)
                                .rev()
                                .map(|n| format!("musllinux_{major}_{n}_{cpu}")),
                        );
                    }
                    Some((_, major @ 2, minor)) => {
                        for n in (5..=*minor).rev() {
                            out.push(format!("manylinux_{major}_{n}_{cpu}"));
                            let old = match n {
                                17 => "manylinux2014",
                                12 => "manylinux2010",
                                5 => "manylinux1",
                                _ => continue,
                            };
                            out.push(format!("{old}_{cpu}"));
                        }
                    }
                    _ => {}
                }
                out.push(format!("linux_{cpu}"));
                out
            }
            "macos" => {
                let own = if cpu == "aarch64" { "arm64" } else { cpu };
                let mut out = Vec::new();
                for release in MACOS_RELEASES.rev() {
                    out.extend(
                        [own, "universal2"].map(|arch| format!("macosx_{release}_0_{arch}")),
                    );
                }
                for minor in (4..=16).rev() {
                    let of_old = ["x86_64", "intel", "universal2", "universal"];
                    let archs: &[&str] = if own == "arm64" {
                        &["universal2"]
                    } else {
                        &of_old
                    };
                    out.extend(archs.iter().map(|arch| format!("macosx_10_{minor}_{arch}")));
                }
                out
            }
            "windows" => match cpu {
                "x86_64" => vec!["win_amd64".to_owned()],
                "aarch64" => vec!["win_arm64".to_owned()],
                _ => Vec::new(),
            },
            _ => Vec::new(),
        }
    }

    /// All tags of wheels that fit, each with its rank: the smallest is the best.
    pub(crate) fn ranks(&self) -> HashMap<String, usize> {
        let (major, minor) = self.version;
        let own = format!("cp{major}{minor}");
        let mut out = Vec::new();
        let platforms = self.platforms();
        let mut add = |interpreter: &str, abi: &str| {
            out.extend(
                platforms
                    .iter()
                    .map(|platform| format!("{interpreter}-{abi}-{platform}")),
            );
        };
        add(&own, &own);
        for n in (2..=minor).rev() {
            add(&format!("cp{major}{n}"), "abi3");
        }
        add(&own, "none");
        let generic: Vec<String> = std::iter::once(format!("py{major}{minor}"))
            .chain([format!("py{major}")])
            .chain((0..minor).rev().map(|n| format!("py{major}{n}")))
            .collect();
        for interpreter in &generic {
            add(interpreter, "none");
        }
        out.extend(
            std::iter::once(&own)
                .chain(&generic)
                .map(|interpreter| format!("{interpreter}-none-any")),
        );
        out.into_iter()
            .enumerate()
            .map(|(rank, tag)| (tag, rank))
            .collect()
    }

    /// What markers of requirements are evaluated with (PEP 508).
    pub(crate) fn markers(&self) -> Result<MarkerEnvironment, PinProblem> {
        let (os, cpu) = self.parts();
        let (os_name, platform, system) = match os {
            "windows" => ("nt", "win32", "Windows"),
            "macos" => ("posix", "darwin", "Darwin"),
            _ => ("posix", "linux", "Linux"),
        };
        let machine = match (os, cpu) {
            ("windows", "x86_64") => "AMD64",
            ("windows", "aarch64") => "ARM64",
            ("macos", "aarch64") => "arm64",
            (_, cpu) => cpu,
        };
        let short = format!("{}.{}", self.version.0, self.version.1);
        let full = self.full_version().to_string();
        let builder = MarkerEnvironmentBuilder {
            implementation_name: "cpython",
            implementation_version: &full,
            os_name,
            platform_machine: machine,
            platform_python_implementation: "CPython",
            platform_release: "",
            platform_system: system,
            platform_version: "",
            python_full_version: &full,
            python_version: &short,
            sys_platform: platform,
        };
        builder
            .try_into()
            .map_err(|e| PinProblem::new(format!("{short} is no version of Python: {e}")))
    }
}

/// The rank of a wheel's name, the version in it, and its build number; `None` if it does not fit.
pub(crate) fn rank_of(ranks: &HashMap<String, usize>, file_name: &str) -> Option<usize> {
    let parts: Vec<&str> = file_name.strip_suffix(".whl")?.split('-').collect();
    let [.., interpreters, abis, platforms] = parts.as_slice() else {
        return None;
    };
    let mut best = None;
    for interpreter in interpreters.split('.') {
        for abi in abis.split('.') {
            for platform in platforms.split('.') {
                let rank = ranks.get(&format!("{interpreter}-{abi}-{platform}"));
                best = [best, rank.copied()].into_iter().flatten().min();
            }
        }
    }
    best
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    fn interpreter(system: &str, facts: &[(&str, &str)]) -> Result<Interpreter, PinProblem> {
        let facts = facts
            .iter()
            .map(|(name, value)| ((*name).to_owned(), (*value).to_owned()))
            .collect();
        Interpreter::of_facts(system, &facts)
    }

    #[test]
    fn the_most_special_wheel_that_fits_is_the_best() {
        let linux = interpreter("linux-x86_64", &[("python", "3.11"), ("glibc", "2.36")]).unwrap();
        let ranks = linux.ranks();
        let rank = |name: &str| rank_of(&ranks, name);
        let order = [
            "tides-1.0-cp311-cp311-manylinux_2_28_x86_64.whl",
            "tides-1.0-cp311-cp311-manylinux2014_x86_64.manylinux_2_17_x86_64.whl",
            "tides-1.0-cp311-abi3-manylinux_2_17_x86_64.whl",
            "tides-1.0-cp38-abi3-manylinux1_x86_64.whl",
            "tides-1.0-py3-none-manylinux1_x86_64.whl",
            "tides-1.0-py2.py3-none-any.whl",
        ];
        let found: Vec<usize> = order.iter().map(|name| rank(name).unwrap()).collect();
        assert!(found.is_sorted(), "{found:?}");
        for other in [
            "tides-1.0-cp312-cp312-manylinux_2_17_x86_64.whl",
            "tides-1.0-cp311-cp311-manylinux_2_38_x86_64.whl",
            "tides-1.0-cp311-cp311-win_amd64.whl",
            "tides-1.0-cp312-abi3-manylinux_2_17_x86_64.whl",
            "tides-1.0-py2-none-any.whl",
            "tides-1.0.tar.gz",
        ] {
            assert_eq!(rank(other), None, "{other}");
        }
    }

    #[test]
    fn systems_differ() {
        let has = |system: &str, facts: &[(&str, &str)], tag: &str| {
            interpreter(system, facts)
                .unwrap()
                .ranks()
                .contains_key(tag)
        };
        let python = ("python", "3.12");
        assert!(has(
            "linux-aarch64",
            &[python, ("musl", "1.2")],
            "cp312-cp312-musllinux_1_1_aarch64"
        ));
        assert!(!has(
            "linux-aarch64",
            &[python, ("musl", "1.2")],
            "cp312-cp312-manylinux_2_17_aarch64"
        ));
        assert!(has(
            "macos-aarch64",
            &[python],
            "cp312-cp312-macosx_11_0_arm64"
        ));
        assert!(has(
            "macos-x86_64",
            &[python],
            "cp312-cp312-macosx_10_9_x86_64"
        ));
        assert!(has("windows-x86_64", &[python], "cp312-abi3-win_amd64"));
        assert!(interpreter("beos-68k", &[python]).is_err());
        assert!(interpreter("linux-x86_64", &[]).is_err());
        assert!(interpreter("linux-x86_64", &[("python", "three")]).is_err());
    }
}
