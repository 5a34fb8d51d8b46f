//! The result of an evaluation, as bytes: kept, so that the same request need not be evaluated again while nothing changes.

use std::sync::Arc;

use nubrik_bytes::{Decoder, Encoder, Truncated};
use nubrik_graph::{Assembly, FileId, Graph, Place, Purpose, TargetId, write_service};

use crate::eval::{Evaluation, OptionInfo, Shares};

impl Evaluation {
    /// Writes what a finished evaluation without errors resulted in.
    pub fn encode(&self, out: &mut Encoder) {
        let Evaluation {
            graph,
            requested,
            targets,
            shares: Shares { ends, files: shares },
            effects,
            services,
            through,
            options,
            // What is wrong or missing is reported by the caller that evaluates, and what was read is sealed beside the bytes.
            diagnostics: _,
            sources: _,
            read: _,
            probes: _,
            trail: _,
            digests: _,
            waiting: _,
        } = self;
        graph.encode(out);
        out.list(requested, |out, file| out.u32(file.0));
        out.list(targets, |out, target| out.u32(target.0));
        out.list(ends, |out, end| out.u32(*end));
        out.list(shares, |out, file| out.u32(file.0));
        out.list(through, |out, target| out.u32(target.0));
        out.list(effects, |out, effect| graph.encode_effect(effect, out));
        out.list(services, |out, service| write_service(service, Purpose::Whole, out));
        out.list(options, write_option);
    }

    /// Reads it back, by some threads.
    ///
    /// # Errors
    /// When the bytes are damaged, or speak of rows that are not there.
    pub fn decode(from: &mut Decoder<'_>, threads: usize) -> Result<Evaluation, Truncated> {
        let graph = Graph::decode(from, threads)?;
        let requested = from.list(|from| Ok(FileId(from.u32()?)))?;
        let target = |from: &mut Decoder<'_>| Ok(TargetId(from.u32()?));
        let targets = from.list(target)?;
        let ends = from.list(Decoder::u32)?;
        let shares = Shares { ends, files: from.list(|from| Ok(FileId(from.u32()?)))? };
        let through = from.list(target)?;
        if requested.iter().chain(&shares.files).any(|file| file.index() >= graph.files.len())
            || targets.iter().chain(&through).any(|target| target.index() >= graph.targets.len())
        {
            return Err(Truncated);
        }
        let effects = from.list(|from| graph.decode_effect(from))?;
        let services = from.list(|from| Assembly::service(from))?;
        let options = from.list(read_option)?;
        Ok(Evaluation {
            graph,
            requested,
            targets,
            shares,
            effects,
            services,
            through,
            options,
            ..Evaluation::default()
        })
    }
}

fn write_option(out: &mut Encoder, option: &OptionInfo) {
    let OptionInfo {
        name,
        full_name,
        ty,
        default,
        value,
        documentation,
        place: Place { file, line },
        readers,
    } = option;
    for text in [name, full_name, ty] {
        out.text(text);
    }
    for text in [default, value] {
        out.list(text.as_slice(), |out, text| out.text(text));
    }
    out.text(documentation);
    out.text(file);
    out.u32(*line);
    out.list(readers, |out, reader| out.text(reader));
}

fn read_option(from: &mut Decoder<'_>) -> Result<OptionInfo, Truncated> {
    let text = |from: &mut Decoder<'_>| from.text().map(str::to_owned);
    let shared = |from: &mut Decoder<'_>| from.text().map(Arc::from);
    Ok(OptionInfo {
        name: text(from)?,
        full_name: text(from)?,
        ty: text(from)?,
        default: from.list(text)?.pop(),
        value: from.list(text)?.pop(),
        documentation: shared(from)?,
        place: Place { file: shared(from)?, line: from.u32()? },
        readers: from.list(shared)?,
    })
}
