//! A store that hangs is waited for once, and then left alone for a while.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use nubrik_shared::{Acceptance, KeyList, PublicKey, SecretKey, SharedStore, SharedTrouble};
use nubrik_web::{Address, Asker, Objects, TlsFiles};

/// What a server does with a request: takes its first line, and gives the answer; nothing to hang.
type Answering = dyn Fn(&str) -> Option<Vec<u8>> + Send + Sync;

/// A server, and how many requests it heard.
struct Server {
    place: String,
    heard: Arc<AtomicU64>,
}

impl Server {
    fn new(answering: Arc<Answering>) -> Server {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let place = format!("http://{}/team", listener.local_addr().unwrap());
        let heard = Arc::new(AtomicU64::new(0));
        let counted = heard.clone();
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let (answering, counted) = (answering.clone(), counted.clone());
                std::thread::spawn(move || answer_one(stream, &*answering, &counted));
            }
        });
        Server { place, heard }
    }

    fn store(&self, folder: &Path, root: PublicKey) -> SharedStore {
        let base = Address::parse(&self.place).unwrap().0;
        let (cache, seen) = (folder.join("cache"), folder.join("seen"));
        let accepted = Acceptance {
            root,
            channels: vec!["main".to_owned()],
            cache,
            seen,
        };
        SharedStore::new(
            Objects::new(base, Asker::Anybody, TlsFiles::default()),
            accepted,
        )
    }

    fn heard(&self) -> u64 {
        self.heard.load(Ordering::Relaxed)
    }
}

fn answer_one(mut stream: TcpStream, answering: &Answering, counted: &AtomicU64) {
    let mut lines = BufReader::new(stream.try_clone().unwrap())
        .lines()
        .map_while(Result::ok);
    let first = lines.next().unwrap_or_default();
    lines
        .by_ref()
        .take_while(|line| !line.is_empty())
        .for_each(drop);
    counted.fetch_add(1, Ordering::Relaxed);
    match answering(&first) {
        Some(bytes) => {
            let head = format!(
                "HTTP/1.1 200 OK\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
                bytes.len()
            );
            stream
                .write_all(&[head.as_bytes(), &bytes].concat())
                .unwrap();
        }
        // Until the client has enough of it.
        None => drop(stream.read_to_end(&mut Vec::new())),
    }
}

fn root() -> SecretKey {
    SecretKey::generate().unwrap()
}

#[test]
fn who_never_answers_is_waited_for_once() {
    let server = Server::new(Arc::new(|_: &str| None));
    let (folder, root) = (tempfile::tempdir().unwrap(), root());
    let first = server.store(folder.path(), root.public());
    assert!(first.members().members.is_empty() && first.is_off());
    assert_eq!(
        first.trouble().unwrap().to_string(),
        "it said nothing for 3 seconds"
    );
    assert_eq!(server.heard(), 1, "nobody waits for one after another");

    let second = server.store(folder.path(), root.public());
    assert!(second.is_off() && second.members().members.is_empty());
    let Some(SharedTrouble::Resting(rest)) = second.trouble() else {
        panic!("{:?}", second.trouble())
    };
    assert_eq!(rest.why, "it said nothing for 3 seconds");
    assert_eq!(rest.until, rest.since + 300);
    assert_eq!(server.heard(), 1, "the next build asks nothing");

    let asked = second.asked_anew();
    assert!(!asked.is_off() && asked.trouble().is_none());
    asked.members();
    assert_eq!(server.heard(), 2);
}

#[test]
fn who_answers_is_not_left_alone() {
    let (folder, root) = (tempfile::tempdir().unwrap(), root());
    let list = KeyList {
        sequence: 1,
        expires: u64::MAX,
        ..KeyList::default()
    }
    .sign(&root);
    let server = Server::new(Arc::new(move |_: &str| Some(list.clone())));
    for _ in 0..2 {
        let store = server.store(folder.path(), root.public());
        assert_eq!(
            (store.members().sequence, store.trouble(), store.is_off()),
            (1, None, false)
        );
    }
    assert_eq!(server.heard(), 2);
}
