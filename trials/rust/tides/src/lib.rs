//! Heights of the tide at the stations of the Skerrin Isles.

mod height;

pub use height::{Height, read};

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_height_is_written_and_read() {
        let height = Height { station: "ardle".into(), centimetres: 412 };
        let written = serde_json::to_string(&height).unwrap();
        assert_eq!(read(&written).unwrap(), height);
    }

    #[test]
    #[ignore = "needs the board"]
    fn the_board_answers() {}
}
