//! Kits that ship with the tool.

/// Each kit's name behind `nub:`, and its text.
pub(crate) const SHIPPED: [(&str, &str); 1] = [("c", include_str!("../../../kits/c.nub"))];
