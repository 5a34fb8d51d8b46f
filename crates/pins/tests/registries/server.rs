//! A small server: answers by path, as true or false as they were given.

use std::collections::HashMap;
use std::io::{BufRead, BufReader, Write};
use std::net::TcpListener;
use std::sync::Arc;

use parking_lot::Mutex;

/// What is answered.
#[derive(Clone)]
pub struct Answer {
    status: u16,
    media_type: String,
    body: Vec<u8>,
    length: usize,
}

impl Answer {
    pub fn of(media_type: &str, body: &[u8]) -> Answer {
        Answer {
            status: 200,
            media_type: media_type.to_owned(),
            length: body.len(),
            body: body.to_vec(),
        }
    }

    pub fn status(self, status: u16) -> Answer {
        Answer { status, ..self }
    }

    /// Says that it has so many bytes.
    pub fn claiming(self, length: usize) -> Answer {
        Answer { length, ..self }
    }
}

/// A server on this machine.
pub struct Server {
    pub address: String,
    asked: Arc<Mutex<Vec<String>>>,
}

impl Server {
    pub fn new(answers: impl IntoIterator<Item = (String, Answer)>) -> Server {
        let answers: HashMap<String, Answer> = answers.into_iter().collect();
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = format!("http://{}", listener.local_addr().unwrap());
        let asked = Arc::new(Mutex::new(Vec::new()));
        let noted = asked.clone();
        std::thread::spawn(move || {
            while let Ok((mut stream, _)) = listener.accept() {
                let mut lines = BufReader::new(stream.try_clone().unwrap())
                    .lines()
                    .map_while(Result::ok);
                let Some(first) = lines.next() else { continue };
                let path = first.split(' ').nth(1).unwrap_or_default().to_owned();
                for line in lines {
                    if line.is_empty() {
                        break;
                    }
                }
                let nothing = Answer::of("text/plain", b"").status(404);
                let Answer {
                    status,
                    media_type,
                    body,
                    length,
                } = answers.get(&path).unwrap_or(&nothing);
                noted.lock().push(path);
                let head = format!(
                    "HTTP/1.1 {status} X\r\nContent-Type: {media_type}\r\nContent-Length: {length}\r\nConnection: close\r\n\r\n"
                );
                let _ = stream
                    .write_all(head.as_bytes())
                    .and_then(|()| stream.write_all(body));
            }
        });
        Server { address, asked }
    }

    /// How often a path was asked for.
    pub fn asked(&self, path: &str) -> usize {
        self.asked
            .lock()
            .iter()
            .filter(|asked| *asked == path)
            .count()
    }
}
