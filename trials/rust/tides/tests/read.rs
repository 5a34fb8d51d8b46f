#[test]
fn what_is_no_height_is_refused() {
    assert!(tides::read("{}").is_err());
    assert_eq!(tides::read(&serde_json::json!({"station": "bruna", "centimetres": 7}).to_string()).unwrap().centimetres, 7);
}
