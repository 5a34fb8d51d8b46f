//! A service as bytes that stand alone. It has no numbers of a graph, so that these are simply its fields.

use std::sync::Arc;

use nubrik_graph::{ListFile, Place, Service, ServiceCommand, ServiceProgram, ServiceStage, Serving};
use nubrik_source::WsPath;
use nubrik_store::{Decoder, Encoder, Truncated};

/// Services need services only so deep; more is damage.
const DEEPEST: usize = 64;

/// Writes a service, with all that it needs.
pub(crate) fn encode_service(service: &Service, out: &mut Encoder) {
    out.text(&service.address);
    out.text(service.folder.as_str());
    match &service.serving {
        Serving::Here { prepare, run, fill, stop, shared } => {
            out.u8(0);
            out.list(prepare, encode_command);
            encode_command(out, run);
            out.list(fill, encode_command);
            optional(stop.as_ref(), out);
            out.bool(*shared);
        }
        Serving::Elsewhere { address, port } => {
            out.u8(1);
            out.text(address);
            out.text(port);
        }
    }
    optional(service.ready.as_ref(), out);
    out.u64(service.patience);
    out.list(&service.env, |out, (name, value)| {
        out.text(name);
        out.text(value);
    });
    out.list(&service.inputs, |out, path| out.text(path.as_str()));
    for list in [&service.tools, &service.folders] {
        out.list(list, |out, name| out.text(name));
    }
    out.list(&service.lists, |out, list| {
        out.text(list.path.as_str());
        out.list(&list.lines, |out, line| out.text(line));
    });
    out.text(service.work.as_str());
    out.list(&service.needs, |out, need| encode_service(need, out));
    out.text(&service.place.file);
    out.u32(service.place.line);
}

fn encode_command(out: &mut Encoder, command: &ServiceCommand) {
    out.list(command, |out, stage| {
        let (number, name) = match &stage.program {
            ServiceProgram::Tool(name) => (0, &**name),
            ServiceProgram::File(path) => (1, path.as_str()),
        };
        out.u8(number);
        out.text(name);
        out.list(&stage.words, |out, word| out.text(word));
        for redirect in [&stage.stdin, &stage.stdout, &stage.stderr] {
            out.bool(redirect.is_some());
            out.text(redirect.as_ref().map_or("", |path| path.as_str()));
        }
    });
}

fn optional(command: Option<&ServiceCommand>, out: &mut Encoder) {
    out.bool(command.is_some());
    if let Some(command) = command {
        encode_command(out, command);
    }
}

/// Reads a service back.
pub(crate) fn decode_service(from: &mut Decoder<'_>) -> Result<Arc<Service>, Truncated> {
    decode_below(from, 0)
}

fn decode_below(from: &mut Decoder<'_>, depth: usize) -> Result<Arc<Service>, Truncated> {
    if depth > DEEPEST {
        return Err(Truncated);
    }
    let command =
        |from: &mut Decoder<'_>| if from.bool()? { Ok(Some(decode_command(from)?)) } else { Ok(None) };
    let service = Service {
        address: text(from)?,
        folder: path(from)?,
        serving: match from.u8()? {
            0 => Serving::Here {
                prepare: from.list(decode_command)?,
                run: decode_command(from)?,
                fill: from.list(decode_command)?,
                stop: command(from)?,
                shared: from.bool()?,
            },
            1 => Serving::Elsewhere { address: text(from)?, port: text(from)? },
            _ => return Err(Truncated),
        },
        ready: command(from)?,
        patience: from.u64()?,
        env: from.list(|from| Ok((text(from)?, text(from)?)))?,
        inputs: from.list(path)?,
        tools: from.list(text)?,
        folders: from.list(text)?,
        lists: from.list(|from| Ok(ListFile { path: path(from)?, lines: from.list(text)? }))?,
        work: path(from)?,
        needs: from.list(|from| decode_below(from, depth + 1))?,
        place: Place { file: text(from)?, line: from.u32()? },
    };
    Ok(Arc::new(service))
}

fn decode_command(from: &mut Decoder<'_>) -> Result<ServiceCommand, Truncated> {
    from.list(|from| {
        let program = match from.u8()? {
            0 => ServiceProgram::Tool(text(from)?),
            1 => ServiceProgram::File(path(from)?),
            _ => return Err(Truncated),
        };
        let words = from.list(text)?;
        let mut redirect = || {
            let (is_there, path) = (from.bool()?, path(from)?);
            Ok(is_there.then_some(path))
        };
        Ok(ServiceStage { program, words, stdin: redirect()?, stdout: redirect()?, stderr: redirect()? })
    })
}

fn text(from: &mut Decoder<'_>) -> Result<Arc<str>, Truncated> {
    Ok(from.text()?.into())
}

fn path(from: &mut Decoder<'_>) -> Result<WsPath, Truncated> {
    Ok(WsPath::from_normal(from.text()?))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn stage(word: &str) -> ServiceCommand {
        vec![ServiceStage {
            program: ServiceProgram::Tool(word.into()),
            words: vec![word.into(), "-x".into()],
            stdin: None,
            stdout: Some(WsPath::from_normal("a/b")),
            stderr: None,
        }]
    }

    #[test]
    fn services_come_back_as_they_were() {
        let elsewhere = Service {
            address: "tide/board".into(),
            folder: WsPath::from_normal(".nubrik/made/tide/board"),
            serving: Serving::Elsewhere { address: "\0HOST\0".into(), port: "1".into() },
            ready: None,
            patience: 1,
            env: vec![("A".into(), "b".into())],
            inputs: Vec::new(),
            tools: Vec::new(),
            folders: Vec::new(),
            lists: Vec::new(),
            work: WsPath::root(),
            needs: Vec::new(),
            place: Place { file: "targets.nub".into(), line: 3 },
        };
        let here = Service {
            serving: Serving::Here {
                prepare: vec![stage("init"), stage("more")],
                run: stage("server"),
                fill: vec![stage("load")],
                stop: Some(stage("halt")),
                shared: true,
            },
            ready: Some(stage("ask")),
            inputs: vec![WsPath::from_normal("a.sql")],
            tools: vec!["server".into()],
            folders: vec!["x".into()],
            lists: vec![ListFile { path: WsPath::from_normal("l"), lines: vec!["one".into()] }],
            needs: vec![Arc::new(elsewhere.clone())],
            ..elsewhere
        };
        let mut out = Encoder::new();
        encode_service(&here, &mut out);
        assert_eq!(decode_service(&mut Decoder::new(&out.bytes)).ok().as_deref(), Some(&here));
        for cut in 0..out.bytes.len() {
            assert!(decode_service(&mut Decoder::new(&out.bytes[..cut])).is_err(), "cut at {cut}");
        }
    }
}
