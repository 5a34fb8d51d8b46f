//! Measures aligned differences: `cargo
//! run --release -p nubrik-shared --example difference OLD NEW [OLD NEW]…`.
//! For each pair of files it prints the bytes of the new one, these compressed as they are stored
//! whole, those of the difference, how much that saves, and the seconds per MiB that making and
//! applying it took. Each difference is applied, and compared with the new file.

use std::process::ExitCode;
use std::time::Instant;

fn main() -> ExitCode {
    let files: Vec<String> = std::env::args().skip(1).collect();
    for pair in files.chunks_exact(2) {
        let (Ok(old), Ok(new)) = (std::fs::read(&pair[0]), std::fs::read(&pair[1])) else {
            eprintln!("{} or {} cannot be read", pair[0], pair[1]);
            return ExitCode::FAILURE;
        };
        let Ok(measured) = measure(&old, &new) else {
            eprintln!("{} cannot be compressed", pair[1]);
            return ExitCode::FAILURE;
        };
        println!("{measured}  {}", pair[1]);
    }
    ExitCode::SUCCESS
}

fn measure(old: &[u8], new: &[u8]) -> std::io::Result<String> {
    let mib = new.len() as f64 / f64::from(1 << 20);
    let whole = nubrik_shared::squeezed(new)?.len();
    let began = Instant::now();
    let difference = nubrik_shared::difference(old, new)?;
    let made = began.elapsed().as_secs_f64() / mib;
    let began = Instant::now();
    let applied = nubrik_shared::apply(old, &difference, new.len() as u64);
    let took = began.elapsed().as_secs_f64() / mib;
    assert!(
        applied.as_deref() == Some(new),
        "a difference leads somewhere else"
    );
    let saved = 100.0 * (1.0 - difference.len() as f64 / whole as f64);
    Ok(format!(
        "{:>11} {whole:>11} {:>11} {saved:>6.1} % {made:.3} {took:.3}",
        new.len(),
        difference.len()
    ))
}
