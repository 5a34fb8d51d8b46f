//! Seals are read back as they were written, and damaged ones are refused.

use std::sync::Arc;

use super::*;

fn seal() -> NewSeal {
    let signature = |n| Signature {
        size: n,
        changed: 5,
        touched: 6,
        inode: n + 7,
        mode: 0o100_644,
    };
    let listing = Names {
        all: 1,
        packages: 2,
    };
    let entries = [
        (
            "",
            Entry {
                roles: Roles::LISTED.and(Roles::KIND),
                listing,
                ..Entry::new(Some(signature(9)))
            },
        ),
        (
            "src/höhe.c",
            Entry {
                node: 3,
                ..Entry::new(Some(signature(1)))
            },
        ),
        (
            "src/none",
            Entry {
                roles: Roles::READ,
                ..Entry::new(None)
            },
        ),
    ];
    NewSeal {
        sealed: Sealed {
            steps: 4,
            results: ["out/default/a"].into_iter().collect(),
        },
        graph: Digest([7; 32]),
        env: vec![
            ("HOME".to_owned(), env_digest(Some("x"))),
            ("NOT".to_owned(), None),
        ],
        samples: Vec::new(),
        entries: entries
            .into_iter()
            .map(|(path, entry)| (FilePath::from_text(path.into()), entry))
            .collect(),
    }
}

fn read(bytes: &[u8]) -> Result<Seal, Truncated> {
    Seal::decode(Arc::new(bytes.to_vec()))
}

#[test]
fn a_seal_is_read_back_and_added_to() {
    let new = seal();
    let bytes = new.encode();
    let plain = read(&bytes).unwrap();
    assert_eq!(plain.sealed, new.sealed);
    assert_eq!(plain.encode(), bytes);
    assert_eq!(plain.entry(0), new.entries[""]);
    assert_eq!(plain.find("src/nix"), None);
    let changed = Entry {
        signature: None,
        ..new.entries["src/höhe.c"]
    };
    let news = |entries: &[(&str, Entry)]| SealNews {
        entries: entries
            .iter()
            .map(|(path, entry)| (FilePath::from_text((*path).into()), *entry))
            .collect(),
        ..SealNews::default()
    };
    let added = Entry { node: 8, ..changed };
    let gone = Entry {
        roles: Roles::GONE,
        ..changed
    };
    let mut last = news(&[("src/a.c", changed), ("z", added), ("src/none", gone)]);
    last.head = Some(NewHead {
        graph: Digest([8; 32]),
        steps: 9,
        gone: vec!["out/default/a".to_owned()],
        results: vec!["out/default/c".to_owned(), "out/default/b".to_owned()],
        env: vec![("MORE".to_owned(), None)],
        samples: Vec::new(),
    });
    let mut more = plain;
    for news in [news(&[("src/höhe.c", changed)]), last] {
        let bytes = Seal::encode_news(&news);
        for at in 0..bytes.len() {
            assert!(Seal::decode_news(&bytes[..at]).is_err(), "cut at {at}");
        }
        more.take(Seal::decode_news(&bytes).unwrap());
    }
    assert_eq!(more.entry(more.find("src/höhe.c").unwrap()), changed);
    assert_eq!(more.entry(more.find("z").unwrap()), added);
    assert_eq!(more.path(more.find("z").unwrap()), "z");
    assert_eq!(
        (more.graph, more.has_env("MORE"), more.has_env("LESS")),
        (Digest([8; 32]), true, false)
    );
    let results = ["out/default/b", "out/default/c"].into_iter().collect();
    assert_eq!(more.sealed, Sealed { steps: 9, results });
    let again = read(&more.encode()).unwrap();
    assert_eq!(
        (again.count, again.find("src/a.c"), again.find("src/none")),
        (4, Some(1), None)
    );
}

#[test]
fn what_is_at_a_path_or_below_it_is_found() {
    let mut new = seal();
    let entry = Entry::new(None);
    for path in [
        "//a/link", "/usr/a/b", "a", "a-b", "a/b", "a/b/c", "a0", "b/a/c",
    ] {
        new.entries.insert(FilePath::from_text(path.into()), entry);
    }
    let mut seal = read(&new.encode()).unwrap();
    let added = ["a/b/added", "other"].map(|path| (FilePath::from_text(path.into()), entry));
    seal.take(SealNews {
        entries: added.into(),
        ..SealNews::default()
    });
    let found = |path: &str| {
        let mut paths: Vec<&str> = seal
            .at_or_below(path)
            .into_iter()
            .map(|n| seal.path(n))
            .collect();
        paths.sort_unstable();
        paths
    };
    assert_eq!(found("a"), ["//a/link", "a", "a/b", "a/b/added", "a/b/c"]);
    assert_eq!(found("a/b"), ["a/b", "a/b/added", "a/b/c"]);
    assert_eq!(found("a/b/c"), ["a/b/c"]);
    assert_eq!(found("nothing"), [""; 0]);
    assert_eq!(found("").len(), seal.len());
    let mut of_log: Vec<&str> = seal.of_log().map(|n| seal.path(n)).collect();
    of_log.sort_unstable();
    assert_eq!(of_log, ["a/b/added", "other"]);
}

#[test]
fn only_the_paths_in_question_are_looked_at() {
    let folder = tempfile::tempdir().unwrap();
    let below = nubrik_disk::Below::new(folder.path()).unwrap();
    let names = ["a", "b", "c"];
    let entries = names.map(|name| {
        std::fs::write(folder.path().join(name), name).unwrap();
        let signature = Signature::at(below.top(), name.as_bytes(), true);
        (FilePath::from_text(name.into()), Entry::new(signature))
    });
    let new = NewSeal {
        env: Vec::new(),
        entries: entries.into(),
        ..seal()
    };
    let seal = read(&new.encode()).unwrap();
    let check = |which| {
        let found = seal.check(&below, which, |_| Digest::of(b""), 2);
        found.map(|changes| {
            changes
                .iter()
                .map(|c| seal.path(c.number).to_owned())
                .collect::<Vec<_>>()
        })
    };
    assert_eq!(check(ToLookAt::All), Some(Vec::new()));
    for name in ["a", "c"] {
        std::fs::write(folder.path().join(name), "other").unwrap();
    }
    assert_eq!(check(ToLookAt::All).map(|all| all.len()), Some(2));
    assert_eq!(check(ToLookAt::Only(&[0, 1])), Some(vec!["a".to_owned()]));
    assert_eq!(check(ToLookAt::Only(&[1])), Some(Vec::new()));
    assert_eq!(check(ToLookAt::Only(&[])), Some(Vec::new()));
    assert_eq!(check(ToLookAt::Only(&[7])), None, "no path has this number");
}

#[test]
fn damaged_seals_are_refused() {
    let bytes = seal().encode();
    for at in 0..bytes.len() {
        let mut damaged = bytes.clone();
        damaged[at] ^= 1;
        assert!(read(&damaged).is_err(), "byte {at}");
        assert!(read(&bytes[..at]).is_err(), "cut at {at}");
    }
}
