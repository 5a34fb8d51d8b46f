//! Transfers from a small server that breaks off, lies and leads astray.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::io::{BufRead, BufReader, Write};
use std::net::TcpListener;
use std::sync::Arc;

use nubrik_web::{Address, Client, Credential, Trouble, WebRequest};
use parking_lot::Mutex;

/// What the server was asked, request by request: its lines in small letters.
type Asked = Arc<Mutex<Vec<Vec<String>>>>;

/// A server that gives these answers, one a connection, as they are.
fn serving(answers: Vec<String>) -> (Address, Asked) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let at = format!("http://{}/a/tides.txt", listener.local_addr().unwrap());
    let asked = Asked::default();
    let noted = asked.clone();
    std::thread::spawn(move || {
        for answer in answers {
            let Ok((mut stream, _)) = listener.accept() else {
                return;
            };
            let lines = BufReader::new(stream.try_clone().unwrap()).lines();
            let lines = lines
                .map_while(Result::ok)
                .take_while(|line| !line.is_empty());
            noted
                .lock()
                .push(lines.map(|line| line.to_lowercase()).collect());
            stream.write_all(answer.as_bytes()).unwrap();
        }
    });
    (Address::parse(&at).unwrap().0, asked)
}

fn get(address: &Address) -> Result<String, Trouble> {
    let document = Client::new(&[]).document(&WebRequest::new(address.clone()), &|| false)?;
    Ok(String::from_utf8(document.bytes).unwrap())
}

const CLOSE: &str = "Connection: close\r\n";

#[test]
fn a_transfer_goes_on_where_it_broke_off() {
    let (address, asked) = serving(vec![
        format!("HTTP/1.1 200 OK\r\nETag: \"a\"\r\nContent-Length: 10\r\n{CLOSE}\r\nhigh"),
        format!(
            "HTTP/1.1 206 Partial Content\r\nContent-Range: bytes 4-9/10\r\nContent-Length: 6\r\n{CLOSE}\r\n 06:12"
        ),
    ]);
    assert_eq!(get(&address).unwrap(), "high 06:12");
    let asked = asked.lock();
    assert!(
        asked[1].contains(&"range: bytes=4-".to_owned()),
        "{asked:?}"
    );
    assert!(
        asked[1].contains(&"if-range: \"a\"".to_owned()),
        "{asked:?}"
    );
}

#[test]
fn a_token_is_fetched_where_the_server_says_and_kept_for_the_next_request() {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let at = format!("http://{}", listener.local_addr().unwrap());
    let asked = Asked::default();
    let noted = asked.clone();
    let realm = at.clone();
    std::thread::spawn(move || {
        while let Ok((mut stream, _)) = listener.accept() {
            let lines = BufReader::new(stream.try_clone().unwrap()).lines();
            let lines = lines
                .map_while(Result::ok)
                .take_while(|line| !line.is_empty());
            let lines: Vec<String> = lines.map(|line| line.to_lowercase()).collect();
            let has = |text: &str| lines.iter().any(|line| line.starts_with(text));
            let answer = if has("get /token?service=tides&scope=pull ") {
                "HTTP/1.1 200 OK\r\nContent-Length: 17\r\n\r\n{\"token\": \"high\"}"
            } else if has("authorization: bearer high") && !has("get /closed") {
                "HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\ntides"
            } else {
                ""
            };
            let refusal = format!(
                "HTTP/1.1 401 No\r\nWWW-Authenticate: Bearer realm=\"{realm}/token\",service=\"tides\",scope=\"pull\"\r\nContent-Length: 0\r\n"
            );
            noted.lock().push(lines);
            let answer = if answer.is_empty() {
                format!("{refusal}{CLOSE}\r\n")
            } else {
                answer.replacen("\r\n", &format!("\r\n{CLOSE}"), 1)
            };
            stream.write_all(answer.as_bytes()).unwrap();
        }
    });
    let client = Client::new(&[]);
    let get = |path: &str| {
        let address = Address::parse(&format!("{at}{path}")).unwrap().0;
        let credential = Some(Credential::Basic("tide".into(), "ebb".into()));
        client.document(
            &WebRequest {
                credential,
                ..WebRequest::new(address)
            },
            &|| false,
        )
    };
    assert_eq!(get("/a").unwrap().bytes, b"tides");
    assert_eq!(get("/b").unwrap().bytes, b"tides");
    let paths: Vec<String> = asked
        .lock()
        .iter()
        .map(|lines| lines[0].split(' ').nth(1).unwrap().to_owned())
        .collect();
    assert_eq!(
        paths,
        ["/a", "/token?service=tides&scope=pull", "/a", "/b", "/b"]
    );
    // Who gives tokens knows who asks; a token that is refused is asked for anew, and not for ever.
    assert!(
        asked.lock()[1]
            .iter()
            .any(|line| line.starts_with("authorization: basic "))
    );
    asked.lock().clear();
    assert!(matches!(get("/closed"), Err(Trouble::Refused(401))));
    assert!(asked.lock().len() <= 6, "{:?}", asked.lock());
}

#[test]
fn a_changed_whole_begins_again() {
    let (address, _) = serving(vec![
        format!("HTTP/1.1 200 OK\r\nETag: \"a\"\r\nContent-Length: 10\r\n{CLOSE}\r\nhigh"),
        format!("HTTP/1.1 200 OK\r\nETag: \"b\"\r\nContent-Length: 9\r\n{CLOSE}\r\nlow 12:30"),
    ]);
    assert_eq!(get(&address).unwrap(), "low 12:30");
}

#[test]
fn another_part_than_the_wanted_one_is_never_taken() {
    let (address, _) = serving(vec![
        format!("HTTP/1.1 200 OK\r\nETag: \"a\"\r\nContent-Length: 10\r\n{CLOSE}\r\nhigh"),
        format!(
            "HTTP/1.1 206 Partial Content\r\nContent-Range: bytes 2-9/10\r\nContent-Length: 8\r\n{CLOSE}\r\ngh 06:12"
        ),
        format!("HTTP/1.1 200 OK\r\nContent-Length: 10\r\n{CLOSE}\r\nhigh 06:12"),
    ]);
    assert_eq!(get(&address).unwrap(), "high 06:12");
}

#[test]
fn what_may_pass_is_asked_again_and_what_may_not_is_told() {
    let busy = format!("HTTP/1.1 503 Busy\r\nRetry-After: 0\r\nContent-Length: 0\r\n{CLOSE}\r\n");
    let (address, asked) = serving(vec![
        busy.clone(),
        format!("HTTP/1.1 200 OK\r\nContent-Length: 2\r\n{CLOSE}\r\nok"),
    ]);
    assert_eq!(get(&address).unwrap(), "ok");
    assert_eq!(asked.lock().len(), 2);
    let (address, asked) = serving(vec![busy; 4]);
    assert_eq!(
        get(&address).unwrap_err().to_string(),
        "it answers with status 503"
    );
    assert_eq!(asked.lock().len(), 4);
    for (status, said) in [
        ("404 Not Found", "nothing is there"),
        ("401 No", "it wants a credential (status 401)"),
        ("403 No", "it refuses this (status 403)"),
        ("418 Teapot", "it answers with status 418"),
    ] {
        let (address, asked) = serving(vec![format!(
            "HTTP/1.1 {status}\r\nContent-Length: 0\r\n{CLOSE}\r\n"
        )]);
        assert_eq!(get(&address).unwrap_err().to_string(), said);
        assert_eq!(asked.lock().len(), 1);
    }
}

#[test]
fn no_server_leads_to_files_or_learns_what_is_for_another() {
    let to = |place: &str| {
        format!("HTTP/1.1 302 Found\r\nLocation: {place}\r\nContent-Length: 0\r\n{CLOSE}\r\n")
    };
    let (address, _) = serving(vec![to("file:///etc/hostname")]);
    let said = get(&address).unwrap_err().to_string();
    assert!(
        said.starts_with("it leads on to file:///etc/hostname"),
        "{said}"
    );
    let (address, _) = serving(vec![to("/again"); 9]);
    assert_eq!(
        get(&address).unwrap_err().to_string(),
        "it leads on more than 8 times"
    );

    let (other, asked_there) = serving(vec![format!(
        "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n{CLOSE}\r\nok"
    )]);
    let (address, asked_here) = serving(vec![to(&other.as_sent())]);
    let request = WebRequest {
        credential: Some(Credential::Bearer("salt".to_owned())),
        ..WebRequest::new(address)
    };
    Client::new(&[]).document(&request, &|| false).unwrap();
    let has = |asked: &Asked| {
        asked.lock()[0]
            .iter()
            .any(|line| line.starts_with("authorization"))
    };
    assert!(has(&asked_here));
    assert!(!has(&asked_there));
}

#[test]
fn what_is_too_large_or_too_short_is_not_taken() {
    let (address, _) = serving(vec![format!(
        "HTTP/1.1 200 OK\r\nContent-Length: 2000\r\n{CLOSE}\r\nx"
    )]);
    let request = WebRequest {
        limit: 1000,
        ..WebRequest::new(address)
    };
    let said = Client::new(&[])
        .document(&request, &|| false)
        .unwrap_err()
        .to_string();
    assert!(said.starts_with("it has more than"), "{said}");
    let short = format!("HTTP/1.1 200 OK\r\nContent-Length: 9\r\n{CLOSE}\r\nlow");
    let (address, _) = serving(vec![short; 4]);
    assert_eq!(
        get(&address).unwrap_err().to_string(),
        "the transfer broke off"
    );
}

#[test]
fn a_transfer_can_be_stopped_and_folders_can_be_asked() {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let at = format!("http://{}/", listener.local_addr().unwrap());
    let request = WebRequest::new(Address::parse(&at).unwrap().0);
    assert_eq!(
        Client::new(&[]).document(&request, &|| true).unwrap_err(),
        Trouble::Stopped
    );
    let folder = tempfile::tempdir().unwrap();
    let base = Address::of_folder(folder.path()).unwrap();
    assert_eq!(
        get(&base.below("none.txt").unwrap()).unwrap_err(),
        Trouble::NotThere
    );
}
