//! The settings: one row each, from which reading, errors, `nubrik explain` and the reference
//! follow.

use std::ops::RangeInclusive;

use toml::de::{DeTable, DeValue};

use super::origins::origins;
use super::shared::shared;
use super::steps::steps;
use super::watching::watching;
use super::workers::workers;
use super::{Key, Keyed, Settings, SettingsProblem, check_version, kit, number, profile, sorted};

/// A setting of `nubrik.toml`.
pub struct WorkspaceSetting {
    /// Its key.
    pub name: &'static str,
    /// What it is for.
    pub summary: &'static str,
    /// Lines that set it.
    pub example: &'static str,
    /// What is said where its value is of another kind.
    pub(super) kind: &'static str,
    /// A value of the right kind.
    pub(super) kind_mend: &'static str,
    /// Whether its value is a text.
    pub(super) is_text: bool,
    /// Takes its value.
    pub(super) read: fn(&mut Settings, &Key<'_>, &Keyed<'_>) -> Result<(), WrongSetting>,
}

/// What is wrong with a value.
pub(super) enum WrongSetting {
    /// It is of another kind than the setting.
    Kind,
    /// Something in it.
    Inside(SettingsProblem),
}

impl From<SettingsProblem> for WrongSetting {
    fn from(problem: SettingsProblem) -> WrongSetting {
        WrongSetting::Inside(problem)
    }
}

/// All settings, in the order in which they are explained.
pub const SETTINGS: [WorkspaceSetting; 11] = [
    WorkspaceSetting {
        name: "at_least",
        summary: "The oldest version of nubrik that can build the workspace. An older one says so, and does nothing.",
        example: "at_least = \"0.1\"",
        kind: "`at_least` is the smallest version of nubrik, as a text",
        kind_mend: "\"0.1\"",
        is_text: true,
        read: |_, _, value| Ok(check_version(value)?),
    },
    WorkspaceSetting {
        name: "jobs",
        summary: "How many steps run at once; as many as there are processors by default.",
        example: "jobs = 4",
        kind: "`jobs` is a number from 1 to 4096",
        kind_mend: "4",
        is_text: false,
        read: |settings, _, value| {
            settings.jobs = Some(usize::try_from(number_in(value, 1..=4096)?).unwrap_or(1));
            Ok(())
        },
    },
    WorkspaceSetting {
        name: "hide_undeclared",
        summary: "For kernels that cannot make sandboxes: whether undeclared files of the workspace are hidden from commands. Commands can never read them, but without this setting they can see that such files exist. It costs time with each call that names a file. In sandboxes undeclared files do not exist anyway.",
        example: "hide_undeclared = true",
        kind: "`hide_undeclared` is true or false",
        kind_mend: "true",
        is_text: false,
        read: |settings, _, value| match value.get_ref() {
            DeValue::Boolean(hide) => {
                settings.hide_undeclared = *hide;
                Ok(())
            }
            _ => Err(WrongSetting::Kind),
        },
    },
    WorkspaceSetting {
        name: "test_timeout",
        summary: "How many seconds each command of a test may take that says no `timeout` of its own: 600 by default, a day at most. What takes longer is ended, and the test has failed.",
        example: "test_timeout = 1200",
        kind: "`test_timeout` is a number of seconds, a day at most",
        kind_mend: "600",
        is_text: false,
        read: |settings, _, value| {
            settings.test_timeout = Some(number_in(value, 1..=86_400)?);
            Ok(())
        },
    },
    WorkspaceSetting {
        name: "kits",
        summary: "Kits in archives, each known by its digest: the first build fetches it, and `use \"harbour:charts\" as charts` means `charts.nub` in the archive `harbour`. `url` is one address, several mirrors, or a path from this folder; `strip` is how many leading folders of names in it are dropped.",
        example: "[kits.harbour]\nurl = \"https://kits.example/harbour-1.2.tar.gz\"\ndigest = \"sha256:9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822cd15d6c15b0f00a08\"\nstrip = 1",
        kind: "`kits` is a table of kits in archives",
        kind_mend: "[kits.harbour]\nurl = \"https://…/harbour-1.2.tar.gz\"\ndigest = \"sha256:…\"",
        is_text: false,
        read: |settings, _, value| {
            for (name, value) in sorted(table(value)?) {
                settings
                    .kits
                    .insert(name.get_ref().to_string(), kit(name, value)?);
            }
            Ok(())
        },
    },
    WorkspaceSetting {
        name: "origins",
        summary: "Where registries are that packages are pinned from: for each registry an address, the path of a folder, or a table with `url`, `secret` (the name of the variable with a token, or a user and a password with `:` between), `packages` (patterns of names that are asked for there alone) and `name`; several in a list. `mirror` is a folder that is looked into first, `certificates` a file in PEM that is trusted as well as those of the machine. Without it the addresses are those that the ordinary client of each registry would ask.",
        example: "[origins]\npython = \"https://packages.example/simple\"",
        kind: "`origins` is a table of addresses of registries",
        kind_mend: "[origins]\npython = \"https://…/simple\"",
        is_text: false,
        read: |settings, _, value| {
            settings.origins = origins(table(value)?)?;
            Ok(())
        },
    },
    WorkspaceSetting {
        name: "profiles",
        summary: "Options that are set together, under a name: `nubrik build --profile ship`. Results of a profile are in `out/<profile>`.",
        example: "[profiles]\nship = { mode = \"release\" }",
        kind: "`profiles` is a table of profiles",
        kind_mend: "[profiles]\nship = { mode = \"release\" }",
        is_text: false,
        read: |settings, _, value| {
            for (name, value) in sorted(table(value)?) {
                settings
                    .profiles
                    .insert(name.get_ref().to_string(), profile(name, value)?);
            }
            Ok(())
        },
    },
    WorkspaceSetting {
        name: "shared",
        summary: "The team's shared cache. `at`: an address, the path of a folder, or `s3://BUCKET/PREFIX` with `endpoint`, the server's address, and perhaps `region`. `behind`: where the shared cache is if `at` is a mirror of it, a copy that is nearer and fills itself; an address or a table with `at` and more. `root_key`: the key that signs its list of members. `channels`: the channels to use, by default \"main\". `secret`: the variable with a token, or a user and a password with `:` between. `certificates`: a PEM file with more trusted certificates. `wait`: how many seconds the end of a build waits for uploads. `verify`: the share of results, from 0 to 1, that a writer rebuilds and compares. Each person trusts the cache once: `nubrik shared trust`.",
        example: "[shared]\nat = \"https://store.example/nubrik\"\nroot_key = \"ed25519:47HhKluE8bw1TPpEvWLq3rdAO5GjzXer1VTXs7MA0zw\"",
        kind: "`shared` is a table that says where a shared cache is",
        kind_mend: "[shared]\nat = \"https://…\"\nroot_key = \"ed25519:…\"",
        is_text: false,
        read: |settings, key, value| {
            settings.shared = Some(shared(key.span(), table(value)?)?);
            Ok(())
        },
    },
    WorkspaceSetting {
        name: "steps",
        summary: "How steps run that say nothing of it themselves. `root`: the address of the image that they run in, in place of this machine's system. `roots`: the same for packages and all packages in them, of which the nearest counts; \"none\" is the machine's own system.",
        example: "[steps]\nroot = \"/images/base\"\nroots = { \"firmware\" = \"/images/cross\", \"docs\" = \"none\" }",
        kind: "`steps` is a table that says how steps run",
        kind_mend: "[steps]\nroot = \"/images/base\"",
        is_text: false,
        read: |settings, _, value| {
            settings.steps = steps(table(value)?)?;
            Ok(())
        },
    },
    WorkspaceSetting {
        name: "watching",
        summary: "Whether commands leave a watcher behind (`keep`, false by default): a process that the kernel tells of each change, so that the next command looks only at files that may have changed. It ends when nothing was asked of it for half an hour. While `nubrik watch`, `nubrik explore` or an editor is open there is one in any case. `nubrik doctor` says how it is.",
        example: "[watching]\nkeep = true",
        kind: "`watching` is a table that says whether a watcher is kept",
        kind_mend: "[watching]\nkeep = true",
        is_text: false,
        read: |settings, _, value| {
            settings.watching = watching(table(value)?)?;
            Ok(())
        },
    },
    WorkspaceSetting {
        name: "workers",
        summary: "Workers, which run steps for this workspace. `at`: the address of a NATS server (`nats://` or `tls://`). `pool`: the pool of workers, by default \"default\". `secret`: the variable with a user and a password, with `:` between. Results return through the shared cache. `nubrik workers serve` makes this machine a worker, `nubrik workers` lists them.",
        example: "[workers]\nat = \"nats://jobs.example:4222\"\npool = \"linux\"",
        kind: "`workers` is a table that names the server between clients and workers",
        kind_mend: "[workers]\nat = \"nats://jobs.example:4222\"",
        is_text: false,
        read: |settings, key, value| {
            settings.workers = Some(workers(key.span(), table(value)?)?);
            Ok(())
        },
    },
];

/// A number in some bounds.
fn number_in(value: &Keyed<'_>, bounds: RangeInclusive<u64>) -> Result<u64, WrongSetting> {
    let found = number(value.get_ref()).and_then(|number| u64::try_from(number).ok());
    found
        .filter(|number| bounds.contains(number))
        .ok_or(WrongSetting::Kind)
}

fn table<'a, 't>(value: &'a Keyed<'t>) -> Result<&'a DeTable<'t>, WrongSetting> {
    match value.get_ref() {
        DeValue::Table(table) => Ok(table),
        _ => Err(WrongSetting::Kind),
    }
}
