//! An explorer that serves a workspace of a test.

#![allow(dead_code, clippy::unwrap_used)]

pub mod browser;

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;

use super::sandbox::Sandbox;

/// A server that ends with the test.
pub struct Explorer {
    child: Child,
    pub port: u16,
    pub token: String,
}

impl Drop for Explorer {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Asks a server of this machine; gives the status, the heads and the body.
pub fn fetch(port: u16, method: &str, path: &str, host: &str) -> (u16, String, String) {
    let mut stream = TcpStream::connect(("127.0.0.1", port)).unwrap();
    stream
        .set_read_timeout(Some(Duration::from_secs(20)))
        .unwrap();
    let request = format!(
        "{method} {path} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\nContent-Length: 0\r\n\r\n"
    );
    stream.write_all(request.as_bytes()).unwrap();
    let mut answer = Vec::new();
    stream.read_to_end(&mut answer).unwrap();
    let text = String::from_utf8_lossy(&answer).into_owned();
    let (heads, body) = text.split_once("\r\n\r\n").unwrap();
    let status = heads.split(' ').nth(1).unwrap().parse().unwrap();
    (status, heads.to_owned(), body.to_owned())
}

/// Where the links of a page lead that lead to other pages.
pub fn targets_of(page: &str) -> Vec<String> {
    let links = page
        .split("href=\"")
        .skip(1)
        .map(|rest| rest.split('"').next().unwrap());
    let own = links.filter(|link| !link.starts_with("data:"));
    own.map(|link| link.replace("&amp;", "&").replace("&quot;", "\""))
        .collect()
}

impl Explorer {
    pub fn start(sandbox: &Sandbox) -> Explorer {
        Explorer::start_with(sandbox, &[], &[])
    }

    /// Starts one with more arguments and variables.
    pub fn start_with(sandbox: &Sandbox, args: &[&str], variables: &[(&str, &str)]) -> Explorer {
        let mut command = sandbox.command(&[&["explore"], args].concat());
        command.envs(variables.iter().copied());
        let mut child = command
            .stdout(Stdio::piped())
            .stderr(Stdio::inherit())
            .spawn()
            .unwrap();
        let mut said = BufReader::new(child.stdout.take().unwrap());
        let mut line = String::new();
        said.read_line(&mut line).unwrap();
        let address = line
            .split_whitespace()
            .nth(1)
            .unwrap_or_else(|| panic!("{line}"))
            .to_owned();
        let rest = address.strip_prefix("http://127.0.0.1:").unwrap();
        let (port, token) = rest.trim_end_matches('/').split_once('/').unwrap();
        std::thread::spawn(move || for _ in said.lines() {});
        Explorer {
            child,
            port: port.parse().unwrap(),
            token: token.to_owned(),
        }
    }

    /// The address of a page.
    pub fn address(&self, name: &str) -> String {
        format!("http://127.0.0.1:{}/{}/{name}", self.port, self.token)
    }

    /// A page that is there.
    pub fn page(&self, name: &str) -> String {
        let host = format!("127.0.0.1:{}", self.port);
        let (status, _, body) = fetch(self.port, "GET", &format!("/{}/{name}", self.token), &host);
        assert_eq!(status, 200, "{name}: {body}");
        body
    }

    /// Lines that say that something changed.
    pub fn news(&self) -> Receiver<String> {
        let mut stream = TcpStream::connect(("127.0.0.1", self.port)).unwrap();
        let request = format!(
            "GET /{}/events HTTP/1.1\r\nHost: 127.0.0.1:{}\r\n\r\n",
            self.token, self.port
        );
        stream.write_all(request.as_bytes()).unwrap();
        let (sender, news) = channel();
        std::thread::spawn(move || {
            for line in BufReader::new(stream).lines().map_while(Result::ok) {
                if line.starts_with("data:") && sender.send(line).is_err() {
                    return;
                }
            }
        });
        news
    }

    /// Ends it as Ctrl-C does.
    pub fn stop(mut self) -> Option<i32> {
        Command::new("kill")
            .args(["-INT", &self.child.id().to_string()])
            .status()
            .unwrap();
        self.child.wait().unwrap().code()
    }
}
