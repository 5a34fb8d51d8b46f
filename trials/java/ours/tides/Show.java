package tides;

import java.io.StringReader;
import org.apache.commons.csv.CSVFormat;

/** Says how high the tide is. */
public class Show {
    private static int twice(int height) {
        return height + height;
    }

    public static void main(String[] words) throws Exception {
        for (var row : CSVFormat.DEFAULT.parse(new StringReader("ardle,206"))) {
            System.out.println(row.get(0) + " " + twice(Integer.parseInt(row.get(1))));
        }
    }
}
