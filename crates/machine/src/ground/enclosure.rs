//! What commands are confined by: a sandbox with what they declare, or rules where this machine's
//! kernel makes no sandboxes.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use nubrik_confine::{
    Access, Apart, Confinement, HOME, Network, OwnNetwork, ROOT, Reach, RuleSet, Sandbox,
    SandboxKind, Sandboxes, Surroundings, TEMPORARY,
};
use nubrik_engine::{OpenRoot, Readables};
use nubrik_images::USUAL_PATH;
use nubrik_source::WsPath;

use super::Environment;
use crate::machine::Machine;
use crate::places::{Furnishing, outermost};
use crate::roots::ImageRoot;
use crate::temporary::remove_folder;

/// With this variable set to `off` there are no sandboxes: to see what a kernel without them does.
const SWITCH: &str = "NUBRIK_SANDBOX";

/// How this machine confines commands.
pub(crate) enum Means {
    /// In sandboxes.
    Sandboxes(Box<Sandboxes>),
    /// By rules, for want of sandboxes: why.
    Rules(String),
}

impl Means {
    /// What this machine can do for commands of a workspace.
    pub fn of(workspace: &Path) -> Means {
        if std::env::var_os(SWITCH).is_some_and(|value| value == "off") {
            return Means::Rules(format!("{SWITCH} is off"));
        }
        match Sandboxes::new(workspace) {
            Ok(sandboxes) => Means::Sandboxes(Box::new(sandboxes)),
            Err(e) => Means::Rules(e.to_string()),
        }
    }

    /// Why commands are not in sandboxes.
    pub fn why_no_sandboxes(&self) -> Option<&str> {
        match self {
            Means::Sandboxes(_) => None,
            Means::Rules(why) => Some(why),
        }
    }

    /// What surrounds a step that has no network and no services.
    pub fn surroundings_of_steps(&self) -> Surroundings {
        let (network, own_processes) = match self {
            Means::Sandboxes(_) => (Network::Own, true),
            Means::Rules(_) => (Network::None, false),
        };
        Surroundings {
            network,
            own_processes,
            own_memory: false,
            only_looks: false,
        }
    }
}

/// Everything from which it follows how commands of a workspace are confined, what they see besides
/// what is declared (without sandboxes, where the workspace is) and what they inherit, as far as
/// that can be known without trying: what was built in other circumstances is looked at again.
pub fn circumstances(workspace: &Path) -> String {
    const FILES: [&str; 4] = [
        "/proc/sys/user/max_user_namespaces",
        "/proc/sys/kernel/unprivileged_userns_clone",
        "/proc/sys/kernel/apparmor_restrict_unprivileged_userns",
        "/proc/self/attr/current",
    ];
    let kernel = rustix::system::uname();
    let user = rustix::process::geteuid().as_raw();
    let switch = std::env::var_os(SWITCH).unwrap_or_default();
    let mut text = format!(
        "{:?} {:?} {user} {switch:?} {workspace:?}\n",
        kernel.release(),
        kernel.version()
    );
    for file in FILES {
        text.push_str(&fs::read_to_string(file).unwrap_or_default());
        text.push('\n');
    }
    let status = fs::read_to_string("/proc/self/status").unwrap_or_default();
    let told = status.lines().filter(|l| {
        ["CapEff:", "NoNewPrivs:", "Seccomp:"]
            .iter()
            .any(|n| l.starts_with(n))
    });
    told.for_each(|line| text.push_str(line));
    text.push_str(nubrik_confine::left_to_inherit().unwrap_or_default());
    text
}

/// Who is to be confined.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Whom {
    /// A step's commands.
    Step,
    /// A person, in a step's place.
    Person,
    /// A service, and who stops it.
    Service,
}

/// What commands want.
pub(crate) struct CommandNeeds<'a> {
    pub whom: Whom,
    pub readable: &'a Readables,
    /// Files of the machine's tools that they start.
    pub parts: Vec<&'a str>,
    /// The folder that they may write to, from the workspace's root.
    pub own: &'a str,
    /// The folder in which they run.
    pub work: &'a str,
    /// Whether they have the machine's network.
    pub network: bool,
    /// The root that they see in place of this machine's system.
    pub root: Option<&'a OpenRoot>,
}

/// What some commands are confined by. Dropping it ends what they left running in a sandbox, and
/// removes their temporary files.
pub(crate) enum Enclosure {
    /// A sandbox, what was put there, and the image whose root is seen there.
    Sandbox(Box<Sandbox>, Furnishing, Option<Arc<ImageRoot>>),
    /// Rules.
    Rules(Fence),
}

/// Rules, and what they allow besides what is declared.
pub(crate) struct Fence {
    rules: RuleSet,
    root: PathBuf,
    /// Whole.
    temporary: PathBuf,
}

/// What a command that stops a service may reach where there are no sandboxes: it sends signals to
/// others.
pub(crate) struct StoppingRules(RuleSet);

/// What there was to see when commands had ended.
pub(crate) struct Aftermath {
    /// How many processes they left running, which were ended.
    pub running: usize,
    /// A folder that was shown whole, and in which names appeared, or went, in the meantime.
    pub disturbed: Option<String>,
}

/// Which network commands have.
#[derive(Clone, Copy)]
pub(crate) enum Net<'a> {
    /// None.
    Nowhere,
    /// The machine's.
    Machine,
    /// That of their services.
    Services(&'a ServiceNet),
}

/// Where services and those who use them meet.
#[derive(Clone)]
pub(crate) enum ServiceNet {
    /// In a network of their own, each in a sandbox.
    Sandboxes(Arc<OwnNetwork>),
    /// By rules, in a network of their own if there is one.
    Rules(Option<Arc<Apart>>),
    /// In sandboxes, in the machine's network.
    Machine,
}

impl Machine {
    /// Makes what commands are confined by.
    ///
    /// # Errors
    /// When something of it cannot be had.
    pub(crate) fn enclose(&self, wanted: &CommandNeeds<'_>) -> io::Result<Enclosure> {
        match self.means() {
            Means::Sandboxes(sandboxes) => {
                let furnishing = self.furnishing(wanted)?;
                let kind = SandboxKind {
                    own_processes: wanted.whom != Whom::Person,
                    own_memory: wanted.whom == Whom::Service,
                };
                let image = self.image_of(wanted)?;
                let sandboxes = image
                    .as_deref()
                    .map_or(&**sandboxes, |image| &image.sandboxes);
                let (common, own) = furnishing.places();
                let sandbox = sandboxes.sandbox((common, &own), kind)?;
                Ok(Enclosure::Sandbox(Box::new(sandbox), furnishing, image))
            }
            Means::Rules(_) if wanted.root.is_some() => Err(io::Error::other(
                "steps in an image need sandboxes, and this machine makes none",
            )),
            Means::Rules(_) => {
                let rules = RuleSet::new(self.system())?;
                self.allow_wanted(&rules, wanted)?;
                if wanted.whom == Whom::Person {
                    // For the line editing and the job control of a shell.
                    let _ = rules.allow(Path::new("/dev/tty"), Access::Terminal);
                }
                let temporary = self.temporary().make(wanted.own)?;
                rules.allow(&temporary, Access::Write)?;
                let root = self.root().to_owned();
                Ok(Enclosure::Rules(Fence {
                    rules,
                    root,
                    temporary,
                }))
            }
        }
    }

    /// The image whose root commands see.
    fn image_of(&self, wanted: &CommandNeeds<'_>) -> io::Result<Option<Arc<ImageRoot>>> {
        let Some(root) = wanted.root else {
            return Ok(None);
        };
        let open = self.image_root(root);
        open.map(Some)
            .ok_or_else(|| io::Error::other("the image is not open"))
    }

    /// What is to be in a sandbox.
    fn furnishing(&self, wanted: &CommandNeeds<'_>) -> io::Result<Furnishing> {
        let mut furnishing = Furnishing::of(self, wanted.readable)?;
        let work = self.seen_at(&WsPath::from_normal(wanted.work)).path;
        furnishing.add_own(wanted.own, work.as_str());
        let mut needed = self.needed(&wanted.parts);
        if wanted.network {
            // Where its names are looked up often lies behind a link out of the system's folders.
            needed.extend(Path::new("/etc/resolv.conf").canonicalize());
        }
        needed.retain(|path| !self.system().cover(path));
        furnishing.add_machine(outermost(needed));
        if wanted.whom == Whom::Person {
            furnishing.add_terminal();
        }
        Ok(furnishing)
    }

    /// Makes a sandbox in which a program stays one with other things in it. Where that cannot be,
    /// the sandbox is given back.
    ///
    /// # Errors
    /// The sandbox that cannot be changed.
    pub(crate) fn enclose_again(
        &self,
        sandbox: Box<Sandbox>,
        wanted: &CommandNeeds<'_>,
    ) -> Result<Enclosure, Box<Sandbox>> {
        let Means::Sandboxes(sandboxes) = self.means() else {
            return Err(sandbox);
        };
        let Ok(furnishing) = self.furnishing(wanted) else {
            return Err(sandbox);
        };
        let (common, own) = furnishing.places();
        let sandbox = sandboxes.change(sandbox, (common, &own))?;
        Ok(Enclosure::Sandbox(sandbox, furnishing, None))
    }

    /// Rules for who stops a service; `None` where a sandbox makes what they allow harmless.
    ///
    /// # Errors
    /// When they cannot be had.
    pub(crate) fn rules_to_stop(
        &self,
        wanted: &CommandNeeds<'_>,
    ) -> io::Result<Option<StoppingRules>> {
        let Means::Rules(_) = self.means() else {
            return Ok(None);
        };
        let rules = RuleSet::with_signals(self.system())?;
        self.allow_wanted(&rules, wanted)?;
        Ok(Some(StoppingRules(rules)))
    }

    fn allow_wanted(&self, rules: &RuleSet, wanted: &CommandNeeds<'_>) -> io::Result<()> {
        for readable in wanted.readable.iter() {
            // What is not there is reported by the command that wants it.
            match rules.allow(&self.root().join(readable.path.as_str()), Access::Read) {
                Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(e),
                _ => {}
            }
        }
        for folder in self.needed(&wanted.parts) {
            rules.allow(&folder, Access::Read)?;
        }
        rules.allow(&self.root().join(wanted.own), Access::Write)
    }

    /// What tools need of the machine besides the system's folders.
    pub(crate) fn needed(&self, parts: &[&str]) -> Vec<PathBuf> {
        let mut needed: Vec<PathBuf> = parts
            .iter()
            .filter_map(|part| needed_folder(Path::new(part), self.root()))
            .collect();
        needed.sort();
        needed.dedup();
        needed
    }
}

impl Enclosure {
    /// The workspace's root, as commands see it.
    pub fn root(&self) -> &Path {
        match self {
            Enclosure::Sandbox(..) => Path::new(ROOT),
            Enclosure::Rules(fence) => &fence.root,
        }
    }

    /// A file, as commands see it: of the workspace or of the machine.
    pub fn seen(&self, file: &Path, root: &Path) -> PathBuf {
        match file.strip_prefix(root) {
            Ok(inside) => self.root().join(inside),
            Err(_) => file.to_owned(),
        }
    }

    /// What confines commands that have a network, or none.
    pub(super) fn confinement<'a>(&'a self, net: Net<'a>) -> Confinement<'a> {
        match self {
            Enclosure::Sandbox(sandbox, ..) => {
                let network = match net {
                    Net::Nowhere => Reach::Loopback,
                    Net::Services(ServiceNet::Sandboxes(own)) => Reach::Own(own),
                    Net::Machine | Net::Services(_) => Reach::Machine,
                };
                Confinement::Sandbox { sandbox, network }
            }
            Enclosure::Rules(Fence { rules, .. }) => net.with_rules(rules),
        }
    }

    /// All variables that commands have before a definition adds its own. `work` is the folder in
    /// which they run, from the root.
    pub fn environment(&self, work: &str) -> Environment {
        let mut environment = Environment::confined();
        if let Enclosure::Sandbox(_, _, Some(image)) = self {
            environment.set("PATH", USUAL_PATH);
            image
                .env
                .iter()
                .for_each(|(name, value)| environment.set(name, &**value));
        }
        let text = |path: &Path| path.to_string_lossy().into_owned();
        let work = if work.is_empty() {
            text(self.root())
        } else {
            text(&self.root().join(work))
        };
        let (home, temporary) = match self {
            Enclosure::Sandbox(..) => (HOME.to_owned(), TEMPORARY.to_owned()),
            Enclosure::Rules(fence) => (text(&fence.temporary), text(&fence.temporary)),
        };
        environment.set("PWD", work);
        environment.set("HOME", home);
        environment.set("TMPDIR", temporary);
        environment
    }

    /// Leaves a sandbox in which a program stays: the sandbox, and a folder that was shown whole
    /// and in which names appeared, or went, in the meantime. By rules, no program stays.
    pub fn leave(self, machine: &Machine) -> (Option<Box<Sandbox>>, Option<String>) {
        match self {
            Enclosure::Sandbox(sandbox, furnishing, _) => {
                let disturbed = furnishing.disturbed(machine).map(str::to_owned);
                (Some(sandbox), disturbed)
            }
            Enclosure::Rules(_) => (None, None),
        }
    }

    /// Whether a process in a sandbox has something of a folder of the workspace open or mapped, or
    /// is in it.
    pub fn holds(&self, folder: &str) -> bool {
        match self {
            Enclosure::Sandbox(sandbox, ..) => sandbox.holds(folder),
            Enclosure::Rules(_) => true,
        }
    }

    /// Ends what commands left running.
    pub fn close(self, machine: &Machine) -> Aftermath {
        match self {
            Enclosure::Sandbox(sandbox, furnishing, image) => {
                let running = match (machine.means(), image) {
                    (_, Some(image)) => image.sandboxes.put_back(*sandbox),
                    (Means::Sandboxes(sandboxes), None) => sandboxes.put_back(*sandbox),
                    (Means::Rules(_), None) => 0,
                };
                Aftermath {
                    running,
                    disturbed: furnishing.disturbed(machine).map(str::to_owned),
                }
            }
            Enclosure::Rules(fence) => Aftermath {
                running: nubrik_confine::end_left_of(&fence.temporary),
                disturbed: None,
            },
        }
    }
}

impl StoppingRules {
    pub(super) fn confinement<'a>(&'a self, net: Net<'a>) -> Confinement<'a> {
        net.with_rules(&self.0)
    }
}

impl<'a> Net<'a> {
    fn with_rules(self, rules: &'a RuleSet) -> Confinement<'a> {
        let apart = match self {
            Net::Services(ServiceNet::Rules(apart)) => apart.as_deref(),
            _ => None,
        };
        Confinement::Rules {
            rules,
            network: !matches!(self, Net::Nowhere),
            apart,
        }
    }
}

/// The folder that a tool outside the system's folders needs: its prefix when it is in one's
/// `bin`, else the file itself. Never one that the workspace lies in.
pub(crate) fn needed_folder(tool: &Path, root: &Path) -> Option<PathBuf> {
    if ["/usr", "/bin", "/sbin", "/lib", "/lib64", "/opt"]
        .iter()
        .any(|s| tool.starts_with(s))
    {
        return None;
    }
    let folder = tool.parent()?;
    let prefix = if folder.file_name().is_some_and(|n| n == "bin") {
        folder.parent()?
    } else {
        tool
    };
    let is_home = std::env::var_os("HOME").is_some_and(|home| Path::new(&home) == prefix);
    Some(
        if root.starts_with(prefix) || is_home || prefix == Path::new("/") {
            tool.to_owned()
        } else {
            prefix.to_owned()
        },
    )
}

impl Drop for Fence {
    fn drop(&mut self) {
        remove_folder(&self.temporary);
    }
}
