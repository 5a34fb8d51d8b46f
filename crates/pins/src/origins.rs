//! Where registries are: the settings say it, or what their ordinary clients read, or the clients
//! as they are installed. No address is built in.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::path::PathBuf;
use std::sync::{Arc, OnceLock};

use nubrik_web::{Address, Agreement, Credential};

use crate::go_client::{self, PrivateModules};
use crate::origin::{ClientSettings, Origin, not_agreed};
use crate::{PinProblem, Registry, client_defaults, clients};

/// What `[origins]` of `nubrik.toml` says.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct OriginSettings {
    /// A folder that was filled by `nubrik pins vendor`, from the workspace's root. Archives are
    /// taken from it first.
    pub mirror: Option<String>,
    /// A file of certificates in PEM, which are trusted besides those of the machine.
    pub certificates: Option<String>,
    /// Addresses, by registry.
    pub registries: BTreeMap<Registry, Vec<OriginSetting>>,
}

/// One address of a registry.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct OriginSetting {
    /// The address.
    pub url: String,
    /// The name of the site, for plain archives.
    pub site: Option<String>,
    /// The variable of the environment that holds a token, or a user and a password with `:`
    /// between them.
    pub secret: Option<String>,
    /// What it is called: a pin is bound to it by that name.
    pub name: Option<String>,
    /// Which packages it is for, by patterns of names; all of them without any.
    pub packages: Vec<String>,
}

/// Where all registries are.
pub struct Origins {
    /// A folder from which archives are taken first.
    pub mirror: Option<PathBuf>,
    /// The addresses of each registry that settings give, the first one first, or what is wrong
    /// with them.
    registries: BTreeMap<Registry, Result<Vec<Origin>, PinProblem>>,
    /// Where clients go that no settings send elsewhere. Each is asked when somebody needs its
    /// registry.
    defaults: BTreeMap<Registry, OnceLock<Result<Vec<Origin>, PinProblem>>>,
    around: Arc<dyn ClientSettings>,
    /// Files of certificates.
    pub certificates: Vec<PathBuf>,
    /// Modules of Go that no proxy is asked for.
    pub(crate) private_modules: PrivateModules,
}

impl Origins {
    /// Finds all addresses.
    pub fn find(settings: &OriginSettings, around: Arc<dyn ClientSettings>) -> Origins {
        let around_all = around.clone();
        let around = &*around;
        let root = around.root();
        let mut certificates: Vec<PathBuf> = settings
            .certificates
            .iter()
            .map(|path| root.join(path))
            .collect();
        for name in [
            "SSL_CERT_FILE",
            "CURL_CA_BUNDLE",
            "PIP_CERT",
            "CARGO_HTTP_CAINFO",
        ] {
            certificates.extend(
                around
                    .variable(name)
                    .map(PathBuf::from)
                    .filter(|path| path.is_file()),
            );
        }
        certificates.sort();
        certificates.dedup();
        let found = Registry::ALL.into_iter().map(|registry| {
            let own = settings
                .registries
                .get(&registry)
                .map(Vec::as_slice)
                .unwrap_or_default();
            let origins = match own {
                [] => (registry.description().origins)(around),
                own => own
                    .iter()
                    .map(|setting| set(registry, setting, around))
                    .collect(),
            };
            (registry, origins)
        });
        Origins {
            mirror: settings.mirror.as_ref().map(|path| root.join(path)),
            registries: found.collect(),
            defaults: Registry::ALL
                .into_iter()
                .map(|registry| (registry, OnceLock::new()))
                .collect(),
            around: around_all,
            certificates,
            private_modules: go_client::private_modules(around),
        }
    }

    /// The mirror's folder of a registry, if it is there.
    fn in_mirror(&self, registry: Registry) -> Option<Origin> {
        let folder = self.mirror.as_ref()?.join(registry.name());
        let address = Address::of_folder(&folder).filter(|_| folder.is_dir())?;
        Some(Origin::new(address, None, "the mirror of nubrik.toml"))
    }

    /// The file in the first folder that has a path below it: the mirror, then origins of the
    /// registry that are folders.
    pub fn near(&self, registry: Registry, path: &str) -> Option<Address> {
        let own = self
            .registries
            .get(&registry)
            .and_then(|found| found.as_ref().ok())
            .into_iter()
            .flatten();
        let own = own.filter_map(|origin| {
            // The first part of a plain archive's path names its site.
            let path = match &origin.scope {
                Some(site) if registry.description().names_files => {
                    path.strip_prefix(site.as_str())?.strip_prefix('/')?
                }
                _ => path,
            };
            origin.address.below(path)
        });
        let mirror = self
            .in_mirror(registry)
            .and_then(|origin| origin.address.below(path));
        mirror
            .into_iter()
            .chain(own)
            .find(|address| address.file().is_some_and(|file| file.is_file()))
    }

    /// The addresses of each registry, as [`Origins::of`] gives them: clients are asked side by
    /// side.
    pub fn all(&self) -> Vec<(Registry, Result<Vec<Origin>, PinProblem>)> {
        std::thread::scope(|scope| {
            let asked =
                Registry::ALL.map(|registry| (registry, scope.spawn(move || self.of(registry))));
            let ended = asked.into_iter().map(|(registry, thread)| {
                let failed = |_| Err(PinProblem::new("its addresses could not be looked for"));
                (registry, thread.join().unwrap_or_else(failed))
            });
            ended.collect()
        })
    }

    /// The addresses that are asked what a registry has: those that settings give, or else the one
    /// that the registry's client has by itself. The mirror has only what was gathered, and is
    /// asked if there is no other.
    ///
    /// # Errors
    /// When there are none, or one of them cannot be used.
    pub fn of(&self, registry: Registry) -> Result<Vec<Origin>, PinProblem> {
        let origins = match self.registries.get(&registry) {
            Some(Ok(found)) => found.clone(),
            Some(Err(problem)) => return Err(problem.clone()),
            None => Vec::new(),
        };
        if !origins.is_empty() {
            return Ok(origins);
        }
        let default = self.defaults.get(&registry);
        let default = default.map(|d| {
            d.get_or_init(|| client_defaults::of(registry, &*self.around))
                .clone()
        });
        let origins = default.unwrap_or_else(|| Ok(Vec::new()))?;
        if !origins.is_empty() {
            return Ok(origins);
        }
        self.in_mirror(registry)
            .map(|origin| vec![origin])
            .ok_or_else(|| {
                let problem =
                    PinProblem::new(format!("no address of the registry `{registry}` is known"));
                client_defaults::asked_in_vain(registry, &*self.around, registry.unknown(problem))
            })
    }
}

impl fmt::Debug for Origins {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Origins")
            .field("mirror", &self.mirror)
            .field("registries", &self.registries)
            .finish_non_exhaustive()
    }
}

/// What a setting asks for that names the variable of a secret.
fn asked_by(setting: &OriginSetting, variable: &str) -> Agreement {
    Agreement::Secret {
        variable: variable.to_owned(),
        at: setting.url.clone(),
    }
}

/// Which variables a checkout wants to be sent where, sorted: in `[origins]`, and in files of
/// ordinary clients that it brings along.
pub fn asked_for_origins(settings: &OriginSettings, around: &dyn ClientSettings) -> Vec<Agreement> {
    let own = settings.registries.values().flatten();
    let own = own.filter_map(|setting| Some(asked_by(setting, setting.secret.as_deref()?)));
    let all: BTreeSet<Agreement> = own.chain(clients::asked_of_checkout(around)).collect();
    all.into_iter().collect()
}

/// An address that `nubrik.toml` gives.
fn set(
    registry: Registry,
    setting: &OriginSetting,
    around: &dyn ClientSettings,
) -> Result<Origin, PinProblem> {
    let wrong = |what: String| {
        PinProblem::new(format!(
            "the address of `{registry}` in nubrik.toml: {what}"
        ))
    };
    let url = setting.url.strip_prefix("sparse+").unwrap_or(&setting.url);
    let (address, credential) = match url.contains("://") {
        true => Address::parse(url).map_err(|problem| wrong(problem.to_string()))?,
        // A folder, from the workspace's root.
        false => match Address::of_folder(&around.root().join(url)) {
            Some(address) => (address, None),
            None => return Err(wrong("it is neither an address nor a folder".to_owned())),
        },
    };
    if credential.is_some() {
        let problem = wrong("it holds a password, and this file is for everybody".to_owned());
        return Err(problem.mend(format!(
            "{registry} = {{ url = \"{address}\", secret = \"VARIABLE\" }}"
        )));
    }
    let credential = match &setting.secret {
        None => None,
        Some(name) => match around.variable(name) {
            Some(_) if !around.agrees(&asked_by(setting, name)) => {
                return Err(not_agreed(&asked_by(setting, name), "nubrik.toml"));
            }
            Some(secret) => Some(credential_of(secret, registry)),
            None => {
                let problem = wrong(format!(
                    "the variable {name}, which holds its secret, is not set"
                ));
                return Err(problem.mend(format!("{name}=… nubrik …")));
            }
        },
    };
    let own = Origin::new(address, credential, "nubrik.toml");
    let (scope, packages) = (setting.site.clone(), setting.packages.clone());
    let (name, is_named) = (
        setting.name.clone().unwrap_or(own.name),
        setting.name.is_some(),
    );
    Ok(Origin {
        name,
        is_named,
        packages,
        scope,
        ..own
    })
}

/// A secret as it is sent to a registry: a user and a password, or a token.
fn credential_of(secret: String, registry: Registry) -> Credential {
    match (secret.split_once(':'), registry) {
        (Some((user, password)), _) if !secret.contains(' ') => {
            Credential::Basic(user.to_owned(), password.to_owned())
        }
        (_, registry) if registry.description().sends_secret_bare => Credential::Whole(secret),
        _ => Credential::Bearer(secret),
    }
}
