//! A person's own command that builds a folder, run while it is noted which programs start and what
//! each of them reads and writes.

use std::io;
use std::path::{Path, PathBuf};

use nubrik_confine::{
    Access, Capture, Confinement, Ended, Recorder, RuleSet, StageSpec, StartedProgram, can_record,
};

use super::{Environment, Ground};
use crate::machine::Machine;

/// How much of what a watched command prints is kept, in bytes.
const PRINTED: usize = 4 << 20;

/// What came of a command that was watched.
#[derive(Debug)]
pub struct WatchedCommand {
    /// How it ended.
    pub ended: Ended,
    /// What it printed, both streams as one; the first of it where it is very much.
    pub printed: Vec<u8>,
    /// The programs that ran, in the order in which they were started.
    pub programs: Vec<StartedProgram>,
    /// Whether it asked for the network, which it was refused.
    pub wanted_network: bool,
}

impl Machine {
    /// Whether commands can be watched here.
    pub fn can_watch(&self) -> bool {
        can_record() && nubrik_confine::support().network_filter
    }

    /// Runs a command by the shell in the workspace's root, with the person's variables, and notes
    /// all programs. It may read what the person may read, write in the workspace and in the
    /// folders that are for everybody's temporary files, and has no network. It may not write in
    /// `original`, wherever that is.
    ///
    /// # Errors
    /// When the command cannot be confined, or there is no room for its temporary files.
    pub fn watch(&self, command: &str, original: &Path) -> io::Result<WatchedCommand> {
        let root = self.root();
        let temporary = tempfile::Builder::new()
            .prefix("nubrik-watches-")
            .tempdir()?;
        let rules = RuleSet::new(self.system())?;
        rules.allow(Path::new("/"), Access::Read)?;
        rules.allow(root, Access::Write)?;
        rules.allow(temporary.path(), Access::Write)?;
        // Functions of C libraries make files there, whatever `TMPDIR` says.
        let is_free = |folder: &Path| folder.is_dir() && !original.starts_with(folder);
        for everybodys in ["/tmp", "/var/tmp"]
            .map(Path::new)
            .into_iter()
            .filter(|folder| is_free(folder))
        {
            rules.allow(everybodys, Access::Write)?;
        }
        let mut environment = Environment::of_person();
        environment.set("TMPDIR", temporary.path().to_string_lossy());
        // What compilers and clients keep between builds is not of this one, and would let them do
        // less than a build.
        environment.set(
            "XDG_CACHE_HOME",
            temporary.path().join("cache").to_string_lossy(),
        );
        environment.set("PWD", root.to_string_lossy());
        let confinement = Confinement::Rules {
            rules: &rules,
            network: false,
            apart: None,
        };
        let ground = Ground {
            folder: root,
            work: root,
            environment: &environment,
            confinement,
        };
        let recorder = Recorder::new().noting_programs(root);
        let shell = StageSpec {
            program: PathBuf::from("/bin/sh"),
            words: vec!["sh".to_owned(), "-c".to_owned(), command.to_owned()],
            stdin: None,
            stdout: None,
            stderr: None,
        };
        let mut spec = ground.spec(vec![shell]);
        spec.recorder = Some(&recorder);
        let mut capture = Capture::new(PRINTED);
        let ended = nubrik_confine::run(&spec, &mut capture, self.cancel());
        let (programs, wanted_network) = (recorder.programs(), recorder.wanted_network());
        Ok(WatchedCommand {
            ended,
            printed: capture.bytes,
            programs,
            wanted_network,
        })
    }
}
