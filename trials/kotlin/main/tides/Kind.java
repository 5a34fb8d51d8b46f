package tides;

public sealed interface Kind permits Kind.Spring, Kind.Neap {
    record Spring() implements Kind {}

    record Neap(int days) implements Kind {}
}
