package tides;
public record Name(String text) { public Height height() { return new Height(text.length()); } }
