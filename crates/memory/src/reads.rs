//! What requests of commands that only read resulted in: the evaluation itself beside a seal on
//! what it looked at, and the trails of its values, if they are known.
//!
//! They are written without the workspace's lock. Each file is put in its place whole. The seal
//! names the evaluation that it belongs to by its id, and the evaluation its trails: of two who
//! write at once, what fits together counts, and nothing else.

use std::io;
use std::sync::Arc;

use nubrik_bytes::{Decoder, Digest, Frame, Magic};
use nubrik_confine::map_file;
use nubrik_disk::Below;
use nubrik_engine::FileBytes;
use nubrik_graph::Role;
use nubrik_lang::Evaluation;

use crate::journal::FileProblem;
use crate::numbers::{decode_numbers, encode_numbers};
use crate::seal::{NewSeal, Seal};
use crate::seals::{RequestFiles, forget_old, write_seal};
use crate::snapshot::unit_key;
use crate::trails::Trails;

const MAGIC: Magic = *b"nbread 8";

/// What is kept of reading commands.
const READS: RequestFiles = RequestFiles {
    folder: "reads",
    endings: &["", ".log", EVALUATION, TRAILS],
    count: 8,
    size: 256 << 20,
};

/// Where the evaluation of a seal lies.
const EVALUATION: &str = ".evaluation";

/// Where the trails of an evaluation lie.
const TRAILS: &str = ".trails";

/// An evaluation of so many bytes fills huge pages.
const LARGE: usize = 8 << 20;

/// The unit of a target that was asked for and not evaluated.
const NO_UNIT: u32 = u32::MAX;

/// Where the result of a request is, which a digest names.
pub fn read_path(request: &Digest) -> String {
    READS.path(request)
}

/// What the values of a kept evaluation were taken from.
pub struct ReadTrails {
    /// The trails.
    pub trails: Trails,
    units: Vec<u32>,
}

impl ReadTrails {
    /// The trails of an evaluation whose trail was noted; `None` where not all of its targets can
    /// be found in them.
    pub fn of(evaluation: &Evaluation) -> Option<ReadTrails> {
        let trails = Trails::of(&evaluation.trail);
        let asked = || {
            evaluation
                .targets
                .iter()
                .map(|id| evaluation.graph.target(*id))
        };
        let keys: Vec<(String, String)> =
            asked().map(|t| unit_key(&t.package, &t.address)).collect();
        let found = trails.find(keys.iter().map(|(file, name)| (&**file, &**name)));
        let units = asked().zip(found).map(|(target, unit)| match target.role {
            // What somebody has to call for is listed and not evaluated.
            Role::Job | Role::Service => Some(unit.unwrap_or(NO_UNIT)),
            Role::Target | Role::Test | Role::Inner => unit,
        });
        Some(ReadTrails {
            units: units.collect::<Option<_>>()?,
            trails,
        })
    }

    /// The unit of a target, by its place among those that were asked for; `None` where it was not
    /// evaluated.
    pub fn unit(&self, place: usize) -> Option<u32> {
        self.units
            .get(place)
            .copied()
            .filter(|unit| *unit != NO_UNIT)
    }
}

/// Keeps an evaluation, with a seal on what it looked at, whose graph is set to it.
///
/// # Errors
/// When that is not possible, and which file is at fault.
pub fn keep_read(
    own: &Below,
    path: &str,
    evaluation: &Evaluation,
    trails: Option<&ReadTrails>,
    mut seal: NewSeal,
) -> Result<(), FileProblem> {
    forget_old(own, &READS);
    let mut out = Frame::begin(MAGIC);
    match trails {
        None => out.bool(false),
        Some(ReadTrails { trails, units }) => {
            let (at, bytes) = (format!("{path}{TRAILS}"), trails.encode());
            out.bool(true);
            out.digest(&Trails::id_in(&bytes).unwrap_or_default());
            encode_numbers(units, &mut out);
            own.write_whole(&at, &bytes).map_err(|e| (at, e))?;
        }
    }
    let at = format!("{path}{EVALUATION}");
    evaluation.encode(&mut out);
    let bytes = Frame::end(out);
    seal.graph = Frame::id_in(MAGIC, &bytes).ok_or_else(|| {
        (
            at.clone(),
            io::Error::other("it cannot be written as bytes"),
        )
    })?;
    own.write_whole(&at, &bytes).map_err(|e| (at, e))?;
    write_seal(own, path, &seal)
}

/// An evaluation that was kept, not read back yet.
pub struct KeptRead {
    bytes: FileBytes,
    /// Where the evaluation begins.
    start: usize,
    /// The id of its trails and the units of its targets, if they are known.
    trails: Option<(Digest, Vec<u32>)>,
}

impl KeptRead {
    /// The one that belongs to a seal; `None` where it is damaged, or another one is there.
    pub fn open(own: &Below, path: &str, seal: &Seal) -> Option<KeptRead> {
        let file = map_file(&own.open_to_read(&format!("{path}{EVALUATION}")).ok()?).ok()?;
        let bytes: FileBytes = Arc::new(file);
        let all = (*bytes).as_ref();
        let frame = Frame::of(MAGIC, all)
            .ok()
            .filter(|frame| frame.id == seal.graph)?;
        let from = &mut Decoder::new(&all[frame.head]);
        let is_known = from.bool().ok()?;
        let trails = if is_known {
            Some((from.digest().ok()?, decode_numbers(from).ok()?))
        } else {
            None
        };
        let start = all.len() - from.rest().len();
        Some(KeptRead {
            bytes,
            start,
            trails,
        })
    }

    /// What its values were taken from; `None` where that is not known, or damaged.
    pub fn trails(&self, own: &Below, path: &str) -> Option<ReadTrails> {
        let (id, units) = self.trails.clone()?;
        let bytes: FileBytes =
            Arc::new(map_file(&own.open_to_read(&format!("{path}{TRAILS}")).ok()?).ok()?);
        Some(ReadTrails {
            trails: Trails::decode(&bytes, id).ok()?,
            units,
        })
    }

    /// Reads it by some threads; `None` where it is damaged.
    pub fn read(&self, threads: usize) -> Option<Evaluation> {
        let bytes = (*self.bytes).as_ref();
        if bytes.len() >= LARGE {
            // It becomes as many small values as evaluating makes.
            nubrik_confine::allow_huge_pages(true);
        }
        Evaluation::decode(&mut Decoder::new(&bytes[self.start..]), threads).ok()
    }
}
