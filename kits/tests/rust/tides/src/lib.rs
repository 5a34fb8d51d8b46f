pub fn height() -> u32 { 7 }
