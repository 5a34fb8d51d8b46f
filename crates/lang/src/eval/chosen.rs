//! Options that are set, and their values.

use std::collections::BTreeMap;
use std::sync::Arc;

use crate::hir::*;
use crate::value::*;

/// An option: its module, and its number in it.
pub(crate) type OptionId = DeclId;

/// A config's number.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub(crate) struct ConfigId(pub u32);

impl ConfigId {
    /// Its place among all.
    pub(crate) fn index(self) -> usize {
        self.0 as usize
    }
}

/// The config in which nothing is set.
pub(crate) const DEFAULTS: ConfigId = ConfigId(0);

/// Stands among what was reached for the answer of any probe: never set, and never an option.
pub(crate) const PROBE: OptionId = DeclId {
    module: ModuleId(u32::MAX),
    number: 0,
};

/// Stands for the image that steps run in: an option that no definition declares.
pub(crate) const ROOT: OptionId = DeclId {
    module: ModuleId(u32::MAX),
    number: 1,
};

/// Options that were set, each with its value.
#[derive(Clone, Debug, Default)]
pub(crate) struct Config {
    pub set: BTreeMap<OptionId, SetOption>,
}

/// A value that an option was set to.
#[derive(Clone, Debug)]
pub(crate) struct SetOption {
    pub value: Value,
    /// The value in one word, the same for the same value only.
    pub written: Arc<str>,
}

/// A value for an option from outside the definitions.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Setting {
    /// The option as it was named: `mode`, or longer `flags.mode`; `*.mode` is each option of that
    /// name.
    pub name: String,
    /// The value.
    pub value: SettingValue,
    /// Where it was given, for messages: `--set`, ``profile `ship` of nubrik.toml``.
    pub origin: String,
}

impl Setting {
    /// The name, where the setting is of each option of a name.
    pub(super) fn of_all(&self) -> Option<&str> {
        self.name.strip_prefix("*.")
    }
}

/// The value of a setting.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum SettingValue {
    /// A text that is read as the option's type wants.
    Word(String),
    /// A bool.
    Bool(bool),
    /// A number.
    Int(i64),
    /// A list.
    List(Vec<SettingValue>),
}

impl std::fmt::Display for SettingValue {
    /// As definitions write it.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            SettingValue::Word(word) => write!(f, "{word:?}"),
            SettingValue::Bool(value) => write!(f, "{value}"),
            SettingValue::Int(value) => write!(f, "{value}"),
            SettingValue::List(items) => {
                let items: Vec<String> = items.iter().map(ToString::to_string).collect();
                write!(f, "[{}]", items.join(", "))
            }
        }
    }
}
