package isles;

import java.io.*;

/** Shows the stations. */
public class Board {
    public static void main(String[] words) throws IOException {
        try (var rows = new BufferedReader(new InputStreamReader(Board.class.getResourceAsStream("/stations.csv")))) {
            System.out.println(rows.lines().skip(1).map(row -> row.split(",")[1]).toList());
        }
    }
}
