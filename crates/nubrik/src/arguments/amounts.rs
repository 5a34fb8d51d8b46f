//! Amounts as people write them.

/// A size in bytes: a number with KiB, MiB or GiB behind it.
pub(super) fn size(text: &str) -> Result<u64, String> {
    let units = [("KiB", 10), ("MiB", 20), ("GiB", 30), ("TiB", 40)];
    let parse = |(unit, shift): (&str, u32)| {
        let number: u64 = text.strip_suffix(unit)?.trim().parse().ok()?;
        number.checked_mul(1 << shift)
    };
    units
        .into_iter()
        .find_map(parse)
        .ok_or_else(|| "sizes are written 500MiB or 10GiB".to_owned())
}

/// A share of all, such as 0.05 or 5%; of a million.
pub(super) fn share(text: &str) -> Result<u32, String> {
    let number = |text: &str| text.trim().parse::<f64>().ok();
    let share = match text.strip_suffix('%') {
        Some(text) => number(text).map(|percent| percent / 100.0),
        None => number(text),
    };
    match share.filter(|share| *share > 0.0 && *share <= 1.0) {
        Some(share) => Ok((share * 1e6).round().max(1.0) as u32),
        None => {
            Err("a share is a number above 0 and up to 1, or a percentage: 0.05, 5%".to_owned())
        }
    }
}
