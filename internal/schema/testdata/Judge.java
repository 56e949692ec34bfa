import java.io.BufferedReader;
import java.io.File;
import java.io.IOException;
import java.io.InputStreamReader;
import java.nio.charset.StandardCharsets;
import java.util.HashMap;
import java.util.Map;
import javax.xml.XMLConstants;
import javax.xml.transform.stream.StreamSource;
import javax.xml.validation.Schema;
import javax.xml.validation.SchemaFactory;
import org.xml.sax.SAXException;

/** Reads lines "schema TAB document" and says of each whether the document is valid, or the schema refused. */
public final class Judge {
    private Judge() {
    }

    public static void main(String[] args) throws IOException {
        Map<String, Schema> known = new HashMap<>();
        BufferedReader in = new BufferedReader(new InputStreamReader(System.in, StandardCharsets.UTF_8));
        for (String line = in.readLine(); line != null; line = in.readLine()) {
            String[] pair = line.split("\t");
            System.out.println(verdict(known, pair[0], pair[1]));
        }
    }

    private static String verdict(Map<String, Schema> known, String schema, String document) throws IOException {
        try {
            if (!known.containsKey(schema)) {
                known.put(schema, null);
                known.put(schema, SchemaFactory.newInstance(XMLConstants.W3C_XML_SCHEMA_NS_URI).newSchema(new File(schema)));
            }
        } catch (SAXException e) {
            System.err.println(schema + ": " + e.getMessage());
        }
        if (known.get(schema) == null) {
            return "refused";
        }
        try {
            known.get(schema).newValidator().validate(new StreamSource(new File(document)));
            return "valid";
        } catch (SAXException e) {
            return "invalid";
        }
    }
}
