//! A whole graph as bytes, with its own numbers: to be read back at once, as it was.

use nubrik_bytes::{Decoder, Encoder, Layout, Truncated, layout};

use crate::assembly::Assembly;
use crate::layout::{Purpose, write_step, write_target};
use crate::{Effect, FileId, FileNode, Graph, SetId, Step, StepId, Tables, Target, TargetId};

/// Fewer rows than this are read by one thread.
const MANY: usize = 2_000;

// Makers follow from what steps make.
layout!(FileNode { path, folder } without { maker: None });

/// Read by one thread.
impl Layout for Graph {
    fn write(&self, out: &mut Encoder) {
        self.encode(out);
    }

    fn read(from: &mut Decoder<'_>) -> Result<Graph, Truncated> {
        Graph::decode(from, 1)
    }
}

impl Graph {
    /// Writes the whole graph.
    pub fn encode(&self, out: &mut Encoder) {
        let Tables {
            files,
            steps,
            targets,
            tools,
            sets,
        } = &**self;
        files.write(out);
        tools.write(out);
        out.u32(sets.len() as u32);
        sets.iter()
            .for_each(|set| out.list(set, |out, file| file.write(out)));
        let mut row = Encoder::new();
        out.u32(targets.len() as u32);
        for target in targets {
            row.bytes.clear();
            write_target(self, target, Purpose::Numbers, &mut row);
            out.bytes(&row.bytes);
        }
        out.u32(steps.len() as u32);
        for step in steps {
            row.bytes.clear();
            self.encode_step(step, &mut row);
            out.bytes(&row.bytes);
        }
    }

    fn encode_step(&self, step: &Step, out: &mut Encoder) {
        step.target.write(out);
        step.candidates.write(out);
        write_step(self, step, Purpose::Numbers, out);
    }

    /// Writes something that is done for its effect, whose step is none of the graph's.
    pub fn encode_effect(&self, effect: &Effect, out: &mut Encoder) {
        let Effect {
            address,
            step,
            lasting,
        } = effect;
        out.text(address);
        out.bool(*lasting);
        let mut row = Encoder::new();
        self.encode_step(step, &mut row);
        out.bytes(&row.bytes);
    }

    /// Reads an effect back that belongs to this graph.
    ///
    /// # Errors
    /// When the bytes are damaged.
    pub fn decode_effect(&self, from: &mut Decoder<'_>) -> Result<Effect, Truncated> {
        let (address, lasting) = (from.text()?.into(), from.bool()?);
        let step = Rows::of(self).step(from.bytes()?)?;
        Ok(Effect {
            address,
            step,
            lasting,
        })
    }

    /// Reads a graph back, by some threads.
    ///
    /// # Errors
    /// When the bytes are damaged, or speak of rows that are not there.
    pub fn decode(from: &mut Decoder<'_>, threads: usize) -> Result<Graph, Truncated> {
        // Where each file's row ends shows in two numbers of it.
        let files = from.list(|from| {
            let before = from.rest();
            from.bytes()?;
            from.bool()?;
            Ok(&before[..before.len() - from.rest().len()])
        })?;
        let files = in_parts(&files, threads, |bytes| {
            FileNode::read(&mut Decoder::new(bytes))
        })?;
        let mut graph = Tables {
            files,
            tools: Layout::read(from)?,
            ..Tables::default()
        };
        let count = from.u32()?;
        for number in 0..count as usize {
            let files: Vec<FileId> = Layout::read(from)?;
            let is_there = |file: &FileId| file.index() < graph.files.len();
            // A set has a number of its own.
            if !files.iter().all(is_there) || graph.sets.intern(files).index() != number {
                return Err(Truncated);
            }
        }
        let targets = rows_of(from)?;
        let rows = Rows {
            targets: targets.len(),
            ..Rows::of(&graph)
        };
        graph.targets = in_parts(&targets, threads, |bytes| rows.target(bytes))?;
        let steps = rows_of(from)?;
        graph.steps = in_parts(&steps, threads, |bytes| rows.step(bytes).map(Box::new))?;
        for (number, step) in (0..).zip(&graph.steps) {
            for output in &step.outputs {
                graph.files[output.file.index()].maker = Some(StepId(number));
            }
        }
        graph.finish().map_err(|_| Truncated)
    }
}

/// How many rows there are: numbers beyond them are damage.
#[derive(Clone, Copy)]
struct Rows {
    files: usize,
    tools: usize,
    targets: usize,
    sets: usize,
}

impl Rows {
    fn of(tables: &Tables) -> Rows {
        let (files, tools) = (tables.files.len(), tables.tools.len());
        Rows {
            files,
            tools,
            targets: tables.targets.len(),
            sets: tables.sets.len(),
        }
    }

    fn target(self, bytes: &[u8]) -> Result<Target, Truncated> {
        Assembly::numbered(self.files, self.tools).target_of(&mut Decoder::new(bytes))
    }

    fn step(self, bytes: &[u8]) -> Result<Step, Truncated> {
        let from = &mut Decoder::new(bytes);
        let target = TargetId(from.u32()?);
        let sets = from.list(|from| Ok(SetId(from.u32()?)))?;
        if target.index() >= self.targets || sets.iter().any(|set| set.index() >= self.sets) {
            return Err(Truncated);
        }
        Assembly::numbered(self.files, self.tools).step_of(from, target, sets)
    }
}

/// The bytes of rows.
fn rows_of<'a>(from: &mut Decoder<'a>) -> Result<Vec<&'a [u8]>, Truncated> {
    from.list(|from| from.bytes())
}

/// Reads rows, several at once where there are many.
fn in_parts<T: Send>(
    rows: &[&[u8]],
    threads: usize,
    read: impl Fn(&[u8]) -> Result<T, Truncated> + Sync,
) -> Result<Vec<T>, Truncated> {
    let read_all = |rows: &[&[u8]]| {
        rows.iter()
            .map(|row| read(row))
            .collect::<Result<Vec<T>, Truncated>>()
    };
    if rows.len() < MANY || threads < 2 {
        return read_all(rows);
    }
    std::thread::scope(|scope| {
        let parts = rows.chunks(rows.len().div_ceil(threads));
        let running: Vec<_> = parts.map(|part| scope.spawn(|| read_all(part))).collect();
        let mut all = Vec::with_capacity(rows.len());
        for part in running {
            all.extend(part.join().map_err(|_| Truncated)??);
        }
        Ok(all)
    })
}
