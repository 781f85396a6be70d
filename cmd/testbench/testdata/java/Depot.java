import java.io.*;
import java.net.*;
import java.nio.charset.StandardCharsets;
import java.util.*;
import org.apache.axis.configuration.FileProvider;
import org.apache.axis.transport.http.SimpleAxisServer;

/** A service in the older style, rpc with encoded values, by a toolkit of others. It prints its port. */
public class Depot {
    public static class Crate {
        private String lot;
        private int frames;
        private java.math.BigDecimal kilos;
        private Date packed;
        private Crate inner;
        public String getLot() { return lot; }
        public void setLot(String v) { lot = v; }
        public int getFrames() { return frames; }
        public void setFrames(int v) { frames = v; }
        public java.math.BigDecimal getKilos() { return kilos; }
        public void setKilos(java.math.BigDecimal v) { kilos = v; }
        public Date getPacked() { return packed; }
        public void setPacked(Date v) { packed = v; }
        public Crate getInner() { return inner; }
        public void setInner(Crate v) { inner = v; }
    }

    public Crate weigh(Crate crate, int more) {
        if (crate == null) throw new IllegalArgumentException("no crate");
        crate.setFrames(crate.getFrames() + more);
        crate.setKilos(crate.getKilos() == null ? null : crate.getKilos().multiply(new java.math.BigDecimal(2)));
        return crate;
    }

    public Crate[] twice(Crate crate) { return new Crate[] {crate, crate}; } // the same one: sent once, and referred to

    public String[] sort(String[] lots) {
        String[] out = lots.clone();
        Arrays.sort(out);
        return out;
    }

    public int sum(int[][] rows) {
        int all = 0;
        for (int[] row : rows) for (int one : row) all += one;
        return all;
    }

    public byte[] turn(byte[] data) {
        byte[] out = new byte[data.length];
        for (int i = 0; i < data.length; i++) out[i] = data[data.length - 1 - i];
        return out;
    }

    public String greet(String name, boolean loud) { return loud ? "HELLO " + name : "hello " + name; }

    public void forget() { }

    public static void main(String[] args) throws Exception {
        String config = "<deployment xmlns='http://xml.apache.org/axis/wsdd/' xmlns:java='http://xml.apache.org/axis/wsdd/providers/java'>"
            + "<globalConfiguration><parameter name='sendMultiRefs' value='true'/></globalConfiguration>"
            + "<handler name='URLMapper' type='java:org.apache.axis.handlers.http.URLMapper'/>"
            + "<service name='Depot' provider='java:RPC'><parameter name='className' value='Depot'/>"
            + "<parameter name='allowedMethods' value='weigh twice sort sum turn greet forget'/>"
            + "<beanMapping qname='d:Crate' xmlns:d='urn:depot' languageSpecificType='java:Depot$Crate'/></service>"
            + "<transport name='http'><requestFlow><handler type='URLMapper'/></requestFlow></transport></deployment>";
        SimpleAxisServer server = new SimpleAxisServer();
        server.setMyConfig(new FileProvider(new ByteArrayInputStream(config.getBytes(StandardCharsets.UTF_8))));
        ServerSocket socket = new ServerSocket(0, 50, InetAddress.getByName("127.0.0.1"));
        server.setServerSocket(socket);
        server.start(true);
        System.out.println(socket.getLocalPort());
        System.in.read(); // whoever started it ends it
        System.exit(0);
    }
}
