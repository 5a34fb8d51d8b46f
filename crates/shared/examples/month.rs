//! Plays a team that writes results every day, with the real writer, the real store and the real
//! reader, and says what the index of the shared cache costs:
//!
//!     cargo run --release -p nubrik-shared --example month -- DAYS BUILDS RESULTS STEPS BYTES
//!
//! Each day has so many builds that write, each with so many new results of so many steps in all.
//! Every third day all that was used in the last week is kept and the rest is pruned. A reader
//! looks once a day, another one once a week, and each day one who knows nothing yet. Printed for
//! each day: how many results the index has, its bytes (which the new one fetches) and how many
//! those are for each result; requests and MiB of the other two; and how many seconds the new one
//! takes. A result says in so many BYTES what it was made of: some 5,000 after compression for C
//! that reads fifty headers, 300 for a step that reads two files.

use std::error::Error;
use std::fs;
use std::sync::Arc;
use std::time::{Duration, Instant};

use nubrik_bytes::Digest;
use nubrik_shared::{
    Acceptance, KeyList, KeyedResult, Member, Publisher, SecretKey, SharedStore, Uploads,
};
use nubrik_store::{Basis, LocalStore, OutputRecord, RecordEntry, Store};
use nubrik_web::{Address, Asker, Objects, TlsFiles};

/// So many days of use keep a result.
const KEPT_DAYS: u64 = 7;

const DAY: u64 = 86_400;

struct Team {
    folder: tempfile::TempDir,
    root: SecretKey,
    writer: SecretKey,
    now: u64,
}

impl Team {
    fn objects(&self) -> Result<Objects, Box<dyn Error>> {
        let base = Address::of_folder(&self.folder.path().join("store")).ok_or("no folder")?;
        Ok(Objects::new(base, Asker::Anybody, TlsFiles::default()))
    }

    fn shared(&self, machine: &str) -> Result<Arc<SharedStore>, Box<dyn Error>> {
        let own = self.folder.path().join(machine);
        let accepted = Acceptance {
            root: self.root.public(),
            channels: vec!["main".to_owned()],
            cache: own.join("cache"),
            seen: own.join("seen"),
        };
        Ok(Arc::new(
            SharedStore::new(self.objects()?, accepted).at_time(self.now),
        ))
    }

    fn publisher(&self) -> Result<Publisher, Box<dyn Error>> {
        let key = SecretKey::parse(&self.writer.to_text()).ok_or("no key")?;
        Ok(Publisher::new(key, "main".to_owned(), None))
    }
}

/// Bytes that no compression makes smaller.
fn noise(seed: u64, length: usize) -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut state = Digest::of(&seed.to_le_bytes());
    while bytes.len() < length {
        bytes.extend(state.0);
        state = Digest::of(&state.0);
    }
    bytes.truncate(length);
    bytes
}

fn main() -> Result<(), Box<dyn Error>> {
    let numbers: Vec<u64> = std::env::args()
        .skip(1)
        .map(|text| text.parse())
        .collect::<Result<_, _>>()?;
    let [days, builds, results, steps, made_of] = numbers[..] else {
        return Err("usage: month DAYS BUILDS RESULTS STEPS BYTES".into());
    };
    let (root, writer) = (SecretKey::generate()?, SecretKey::generate()?);
    let mut team = Team {
        folder: tempfile::tempdir()?,
        root,
        writer,
        now: 20_000 * DAY,
    };
    let member = Member {
        name: "ci".to_owned(),
        key: team.writer.public(),
        channels: Vec::new(),
    };
    let list = KeyList {
        sequence: 1,
        expires: u64::MAX,
        members: vec![member],
        revoked: Vec::new(),
    };
    team.objects()?
        .put(&KeyList::object(), &list.sign(&team.root))?;
    let local = Arc::new(LocalStore::open(&team.folder.path().join("local"))?);
    let parts: Vec<Digest> = (0..200)
        .map(|number| local.keep_bytes(&noise(number, 300)))
        .collect::<Result<_, _>>()?;
    println!("                   index: MiB,  bytes   a day: requests, MiB");
    println!("day   results            each result          a week: both  new: s");
    let mut made = 1_000_000u64;
    for day in 0..days {
        for _ in 0..builds {
            let shared = team.shared("ci")?;
            let uploads = Uploads::new(shared.clone(), local.clone());
            let mut given: Vec<(Digest, KeyedResult)> = Vec::new();
            for _ in 0..results {
                made += 1;
                let step = made.wrapping_mul(0x9E37_79B9_7F4A_7C15) % steps;
                let content = local.keep_bytes(&noise(made, 64))?;
                let entry = RecordEntry {
                    outputs: vec![OutputRecord::File {
                        digest: content,
                        executable: false,
                    }],
                    basis: Basis::Noted(vec![
                        parts[(step % 200) as usize],
                        parts[(step * 7 % 200) as usize],
                    ]),
                    micros: 40_000 + step,
                    ..RecordEntry::default()
                };
                let folder = format!("area{}/lib{}/compile_source_{step}", step % 97, step % 1013);
                let made_of = noise(made, usize::try_from(made_of)?);
                given.push((
                    Digest::of(&made.to_le_bytes()),
                    KeyedResult {
                        folder,
                        made_of,
                        entries: vec![entry],
                    },
                ));
            }
            let used: Vec<Digest> = given.iter().map(|(key, _)| *key).collect();
            team.publisher()?
                .publish(&shared, &uploads, &given, &used)?;
        }
        team.now += DAY;
        if day % 3 == 2 {
            let shared = team.shared("ci")?;
            team.publisher()?
                .prune(&shared, KEPT_DAYS, Duration::from_secs(2 * DAY))?;
        }
        let asked = |machine: &str| -> Result<Arc<SharedStore>, Box<dyn Error>> {
            let shared = team.shared(machine)?;
            shared.known();
            Ok(shared)
        };
        let said = |shared: &SharedStore| {
            let traffic = shared.traffic();
            format!(
                "{} {:.1}",
                traffic.requests,
                traffic.moved as f64 / f64::from(1 << 20)
            )
        };
        let daily = said(&*asked("daily")?);
        let weekly = if day % 7 == 6 {
            said(&*asked("weekly")?)
        } else {
            "-".to_owned()
        };
        // Whoever knows nothing yet asks for the whole index.
        let began = Instant::now();
        let new = asked(&format!("new{day}"))?;
        let took = began.elapsed().as_secs_f64();
        let (keys, bytes) = (new.known().0, new.traffic().moved as f64);
        println!(
            "{day:>3} {keys:>9} {:>10.1} {:>6.0} {daily:>14} {weekly:>14} {took:>8.2}",
            bytes / f64::from(1 << 20),
            bytes / keys.max(1) as f64,
        );
        fs::remove_dir_all(team.folder.path().join(format!("new{day}")))?;
    }
    Ok(())
}
