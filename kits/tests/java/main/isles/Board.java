package isles;
public class Board { public static void main(String[] words) { } }
