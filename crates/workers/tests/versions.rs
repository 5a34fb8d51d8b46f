//! Servers with which jobs are not safe.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::io::{BufRead, BufReader, Write};
use std::net::TcpListener;

use nubrik_workers::{Boss, ExchangePlace, ExchangeTrouble};

/// A server that says which version it is, and answers nothing but whether it is there.
fn server(version: &'static str) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let at = format!("nats://{}", listener.local_addr().unwrap());
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let mut out = stream.try_clone().unwrap();
            let info = format!(
                "INFO {{\"server_id\":\"a\",\"server_name\":\"a\",\"version\":\"{version}\",\"proto\":1,\"host\":\"127.0.0.1\",\"port\":1,\"headers\":true,\"max_payload\":1048576,\"jetstream\":true}}\r\n"
            );
            out.write_all(info.as_bytes()).unwrap();
            for line in BufReader::new(stream).lines() {
                match line {
                    Ok(line) if line.starts_with("PING") => out.write_all(b"PONG\r\n").unwrap(),
                    Ok(_) => {}
                    Err(_) => break,
                }
            }
        }
    });
    at
}

fn opened(at: String) -> Option<ExchangeTrouble> {
    Boss::open(
        &ExchangePlace {
            at,
            user: None,
            client: None,
            pool: "default".to_owned(),
        },
        "b1",
    )
    .err()
}

#[test]
fn versions_that_lose_jobs_are_refused() {
    let trouble = opened(server("2.9.10")).unwrap();
    assert_eq!(trouble, ExchangeTrouble::Version("2.9.10".to_owned()));
    assert!(trouble.to_string().contains("2.10 or later is needed"));
    // A newer one that keeps no jobs says nothing to that, and is given up.
    assert!(matches!(
        opened(server("2.15.1")),
        Some(ExchangeTrouble::Refused(_))
    ));
    assert!(matches!(
        opened("nats://127.0.0.1:9".to_owned()),
        Some(ExchangeTrouble::Unreachable(_))
    ));
}
