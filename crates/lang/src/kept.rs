//! The result of an evaluation, as bytes: kept, so that the same request need not be evaluated
//! again while nothing changes.

use nubrik_bytes::{Decoder, Encoder, Layout, Truncated, layout};
use nubrik_graph::{Assembly, FileId, Graph, Purpose, TargetId, write_service};
use nubrik_source::WsPath;

use crate::eval::{Evaluation, OptionInfo, Shares};

impl Evaluation {
    /// Writes what a finished evaluation without errors resulted in.
    pub fn encode(&self, out: &mut Encoder) {
        let Evaluation {
            graph,
            requested,
            targets,
            shares: Shares {
                ends,
                files: shares,
            },
            effects,
            services,
            through,
            options,
            // The names of definition files are kept; whether they are as they were, the seal
            // beside the bytes says.
            read: _,
            kept: _,
            answers,
            // What is wrong or missing is reported by the caller that evaluates.
            diagnostics: _,
            sources: _,
            probes: _,
            trail: _,
            digests: _,
            waiting: _,
        } = self;
        graph.encode(out);
        requested.write(out);
        targets.write(out);
        ends.write(out);
        shares.write(out);
        through.write(out);
        out.list(effects, |out, effect| graph.encode_effect(effect, out));
        out.list(services, |out, service| {
            write_service(service, Purpose::Whole, out)
        });
        options.write(out);
        answers.write(out);
        self.definitions()
            .cloned()
            .collect::<Vec<WsPath>>()
            .write(out);
    }

    /// Reads it back, by some threads.
    ///
    /// # Errors
    /// When the bytes are damaged, or speak of rows that are not there.
    pub fn decode(from: &mut Decoder<'_>, threads: usize) -> Result<Evaluation, Truncated> {
        let graph = Graph::decode(from, threads)?;
        let (requested, targets): (Vec<FileId>, Vec<TargetId>) = Layout::read(from)?;
        let (ends, files): (_, Vec<FileId>) = Layout::read(from)?;
        let shares = Shares { ends, files };
        let through: Vec<TargetId> = Layout::read(from)?;
        if requested
            .iter()
            .chain(&shares.files)
            .any(|file| file.index() >= graph.files.len())
            || targets
                .iter()
                .chain(&through)
                .any(|target| target.index() >= graph.targets.len())
        {
            return Err(Truncated);
        }
        let effects = from.list(|from| graph.decode_effect(from))?;
        let services = from.list(|from| Assembly::service(from))?;
        let options = Layout::read(from)?;
        let (answers, kept) = Layout::read(from)?;
        Ok(Evaluation {
            graph,
            requested,
            targets,
            shares,
            effects,
            services,
            through,
            options,
            kept,
            answers,
            ..Evaluation::default()
        })
    }
}

layout!(OptionInfo {
    name,
    full_name,
    ty,
    default,
    value,
    documentation,
    place,
    readers
});
