import java.math.BigDecimal;
import java.sql.*;

/** What a program asks through the JDBC driver: what there is, a question with parameters again and again, rows page by page, an error. */
public class Asked {
    public static void main(String[] given) throws Exception {
        try (Connection own = DriverManager.getConnection(given[0], "anybody", given[1])) {
            DatabaseMetaData about = own.getMetaData();
            try (ResultSet found = about.getTables(null, null, "%", new String[] {"TABLE", "VIEW"})) {
                while (found.next()) System.out.println("table " + found.getString("TABLE_SCHEM") + "." + found.getString("TABLE_NAME"));
            }
            try (ResultSet found = about.getColumns(null, null, "events", "%")) {
                while (found.next()) System.out.println("column " + found.getString("COLUMN_NAME") + " " + found.getInt("DATA_TYPE"));
            }
            try (ResultSet found = about.getPrimaryKeys(null, null, "events")) { while (found.next()) System.out.println("key"); }
            try (ResultSet found = about.getSchemas()) { while (found.next()) System.out.println("schema " + found.getString(1)); }
            try (ResultSet found = about.getTypeInfo()) { System.out.println("types " + found.next()); }
            own.setReadOnly(true);
            PreparedStatement asked = own.prepareStatement(
                "SELECT k, SUM(d), COUNT(*), MAX(y), AVG(f), BOOL_OR(b), MAX(w) FROM events WHERE y >= ? AND d > ? AND t <> ? AND at < ? AND f < ? GROUP BY k ORDER BY k");
            for (int time = 0; time < 8; time++) {  // from the fifth on the driver prepares it, and takes values in binary
                asked.setDate(1, Date.valueOf("2026-01-10"));
                asked.setBigDecimal(2, new BigDecimal("-1.5"));
                asked.setString(3, "it's");
                asked.setInt(4, 140);
                asked.setDouble(5, 9.5);
                StringBuilder said = new StringBuilder();
                try (ResultSet found = asked.executeQuery()) {
                    while (found.next()) {
                        said.append("group ");
                        for (int at = 1; at <= 7; at++) said.append(at > 1 ? "|" : "").append(at == 5 ? Double.toString(found.getDouble(at)) : found.getString(at));
                        said.append("\n");
                    }
                }
                if (time == 0 || time == 7) System.out.print(said);
            }
            own.setAutoCommit(false);
            try (Statement many = own.createStatement()) {
                many.setFetchSize(40);
                int rows = 0;
                try (ResultSet found = many.executeQuery("SELECT at FROM events ORDER BY at")) { while (found.next()) rows += found.getInt(1) == rows ? 1 : 1000; }
                System.out.println("rows " + rows);
            }
            own.commit();
            try { own.createStatement().executeQuery("SELECT nope FROM events"); }
            catch (SQLException error) { System.out.println("error " + error.getSQLState()); }
            own.rollback();
        }
    }
}
