fn main() {
    let text = r#"{"station": "ardle", "centimetres": 412}"#;
    match tides::read(text) {
        Ok(height) => println!("{}: {} cm", height.station, height.centimetres),
        Err(problem) => eprintln!("{problem}"),
    }
}
