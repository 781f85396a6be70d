import java.io.*;
import java.nio.charset.StandardCharsets;
import java.nio.file.*;
import java.security.KeyStore;
import java.security.cert.*;
import java.util.*;
import javax.security.auth.callback.*;
import javax.xml.parsers.DocumentBuilderFactory;
import javax.xml.transform.TransformerFactory;
import javax.xml.transform.dom.DOMSource;
import javax.xml.transform.stream.StreamResult;
import org.apache.ws.security.*;
import org.apache.ws.security.components.crypto.Merlin;
import org.apache.ws.security.handler.RequestData;
import org.apache.ws.security.message.*;
import org.w3c.dom.Document;

/**
 * The peer of the tests of WS-Security, by a library of others. It reads lines from standard input:
 *   receive FILE [ACTOR]            says what the security engine found, a line
 *   send FILE OUT KEY=VALUE ...     protects an envelope
 * and answers each with one line. The folder holds own.p12 and other.pem.
 */
public class Peer {
    static final String PASSWORD = "heather";
    static final DocumentBuilderFactory factory = DocumentBuilderFactory.newInstance();
    static Merlin own = new Merlin();
    static byte[] secret; // of the encrypted key of what was received last

    public static void main(String[] args) throws Exception {
        factory.setNamespaceAware(true);
        WSSConfig.init();
        Path dir = Paths.get(args[0]);
        KeyStore store = KeyStore.getInstance("PKCS12");
        try (InputStream in = Files.newInputStream(dir.resolve("own.p12"))) {
            store.load(in, PASSWORD.toCharArray());
        }
        Collections.list(store.aliases()).forEach(a -> ownAlias = a);
        KeyStore all = KeyStore.getInstance("JKS");
        all.load(null, null);
        all.setKeyEntry("own", store.getKey(ownAlias, PASSWORD.toCharArray()), PASSWORD.toCharArray(),
            store.getCertificateChain(ownAlias));
        try (InputStream in = Files.newInputStream(dir.resolve("other.pem"))) {
            all.setCertificateEntry("other", CertificateFactory.getInstance("X.509").generateCertificate(in));
        }
        own.setKeyStore(all);
        own.setTrustStore(all);
        BufferedReader in = new BufferedReader(new InputStreamReader(System.in, StandardCharsets.UTF_8));
        for (String line; (line = in.readLine()) != null; ) {
            String[] words = line.split("\t");
            String answer;
            try {
                answer = words[0].equals("receive")
                    ? receive(Paths.get(words[1]), words.length > 2 ? words[2] : null)
                    : send(Paths.get(words[1]), Paths.get(words[2]), Arrays.asList(words).subList(3, words.length));
            } catch (Exception e) {
                StringBuilder said = new StringBuilder("FAILED");
                for (Throwable t = e; t != null; t = t.getCause()) said.append(" ").append(t.getMessage());
                answer = said.toString().replace('\n', ' ');
            }
            System.out.println(answer);
            System.out.flush();
        }
    }

    static String ownAlias;

    static final CallbackHandler passwords = callbacks -> {
        for (Callback c : callbacks) {
            WSPasswordCallback w = (WSPasswordCallback) c;
            if (w.getUsage() == WSPasswordCallback.SECRET_KEY || w.getUsage() == WSPasswordCallback.SECURITY_CONTEXT_TOKEN
                || w.getUsage() == WSPasswordCallback.ENCRYPTED_KEY_TOKEN) {
                w.setKey(secret);
            } else {
                w.setPassword(PASSWORD);
            }
        }
    };

    static Document read(Path file) throws Exception {
        try (InputStream in = Files.newInputStream(file)) {
            return factory.newDocumentBuilder().parse(in);
        }
    }

    /** What the engine found, in its order, and the text of the body. */
    static String receive(Path file, String actor) throws Exception {
        Document doc = read(file);
        WSSecurityEngine engine = new WSSecurityEngine();
        WSSConfig config = WSSConfig.getNewInstance();
        config.setWsiBSPCompliant(false);
        engine.setWssConfig(config);
        List<WSSecurityEngineResult> results = engine.processSecurityHeader(doc, actor, passwords, own, own);
        if (results == null) return "no security header";
        StringBuilder said = new StringBuilder();
        // The engine gives what it found last first.
        List<WSSecurityEngineResult> inOrder = new ArrayList<>(results);
        Collections.reverse(inOrder);
        for (WSSecurityEngineResult r : inOrder) {
            int action = (Integer) r.get(WSSecurityEngineResult.TAG_ACTION);
            byte[] key = (byte[]) r.get(WSSecurityEngineResult.TAG_SECRET);
            switch (action) {
                case WSConstants.SIGN: said.append("signature "); break;
                case WSConstants.ENCR: said.append("encryption "); if (key != null) secret = key; break;
                case WSConstants.TS: said.append("timestamp "); break;
                case WSConstants.UT: said.append("user "); break;
                case WSConstants.BST: break;
                case WSConstants.DKT: said.append("derived "); break;
                default: said.append(action).append(" ");
            }
            List<?> refs = (List<?>) r.get(WSSecurityEngineResult.TAG_DATA_REF_URIS);
            if (refs != null && (action == WSConstants.SIGN || action == WSConstants.ENCR)) {
                for (Object o : refs) {
                    WSDataRef ref = (WSDataRef) o;
                    said.append("(").append(ref.getProtectedElement() == null ? "?" : ref.getProtectedElement().getLocalName()).append(") ");
                }
            }
        }
        String text = doc.getDocumentElement().getTextContent().replaceAll("\\s+", " ");
        return said.toString().trim() + " | " + (text.contains("L-2201 & \u00c4") ? "body" : "no body: " + text);
    }

    static String send(Path file, Path out, List<String> settings) throws Exception {
        Map<String, String> s = new LinkedHashMap<>();
        for (String one : settings) s.put(one.split("=", 2)[0], one.split("=", 2)[1]);
        Document doc = read(file);
        WSSecHeader header = new WSSecHeader(s.get("actor"));
        header.insertSecurityHeader(doc);
        WSSConfig config = WSSConfig.getNewInstance();
        if (s.containsKey("timestamp")) new WSSecTimestamp().build(doc, header);
        WSSecEncryptedKey key = null;
        boolean shared = s.containsKey("shared");
        if (shared && !s.get("shared").equals("sha1")) {
            key = new WSSecEncryptedKey();
            key.setUserInfo("other");
            key.setKeyIdentifierType(WSConstants.THUMBPRINT_IDENTIFIER);
            if (s.containsKey("transport")) key.setKeyEncAlgo(s.get("transport"));
            key.prepare(doc, own);
            secret = key.getEphemeralKey();
        }
        for (String what : s.getOrDefault("do", "sign").split(",")) {
            List<WSEncryptionPart> parts = new ArrayList<>();
            String names = s.get(what + "ed");
            if (names != null) {
                for (String part : names.split(",")) {
                    String[] p = part.split("@");
                    parts.add(new WSEncryptionPart(p[0], p.length > 1 ? p[1] : "", p.length > 2 ? p[2] : ""));
                }
            }
            if (what.equals("sign") && s.containsKey("derived")) {
                WSSecDKSign sign = new WSSecDKSign();
                sign.setExternalKey(secret, key.getId());
                sign.setSignatureAlgorithm(s.getOrDefault("algorithm", WSConstants.HMAC_SHA1));
                sign.setCustomValueType(WSConstants.WSS_ENC_KEY_VALUE_TYPE);
                if (!parts.isEmpty()) sign.setParts(parts);
                sign.build(doc, header);
            } else if (what.equals("sign")) {
                WSSecSignature sign = new WSSecSignature(config);
                sign.setUserInfo("own", PASSWORD);
                sign.setKeyIdentifierType(identifier(s.getOrDefault("reference", "token")));
                sign.setUseSingleCertificate(!"path".equals(s.get("reference")));
                if (s.containsKey("algorithm")) sign.setSignatureAlgorithm(s.get("algorithm"));
                if (s.containsKey("canonical")) sign.setSigCanonicalization(s.get("canonical"));
                if (shared) {
                    sign.setSecretKey(secret);
                    if (key != null) {
                        sign.setKeyIdentifierType(WSConstants.CUSTOM_SYMM_SIGNING);
                        sign.setCustomTokenId(key.getId());
                        sign.setCustomTokenValueType(WSConstants.WSS_ENC_KEY_VALUE_TYPE);
                    } else {
                        sign.setKeyIdentifierType(WSConstants.ENCRYPTED_KEY_SHA1_IDENTIFIER);
                        sign.setEncrKeySha1value(s.get("hash"));
                    }
                }
                if (!parts.isEmpty()) sign.setParts(parts);
                sign.build(doc, own, header);
            } else if (s.containsKey("derived")) {
                WSSecDKEncrypt encrypt = new WSSecDKEncrypt();
                encrypt.setSymmetricEncAlgorithm(s.getOrDefault("cipher", WSConstants.AES_128));
                encrypt.setExternalKey(secret, key.getId());
                encrypt.setCustomValueType(WSConstants.WSS_ENC_KEY_VALUE_TYPE);
                if (!parts.isEmpty()) encrypt.setParts(parts);
                encrypt.build(doc, header);
            } else {
                WSSecEncrypt encrypt = new WSSecEncrypt(config);
                encrypt.setUserInfo("other");
                encrypt.setKeyIdentifierType(identifier(s.getOrDefault("reference", "issuer")));
                if (s.containsKey("cipher")) encrypt.setSymmetricEncAlgorithm(s.get("cipher"));
                if (s.containsKey("transport")) encrypt.setKeyEnc(s.get("transport"));
                if (shared) {
                    encrypt.setEncryptSymmKey(false);
                    encrypt.setEphemeralKey(secret);
                    if (key != null) {
                        encrypt.setEncKeyId(key.getId());
                        encrypt.setKeyIdentifierType(WSConstants.CUSTOM_KEY_IDENTIFIER);
                        encrypt.setCustomReferenceValue(WSConstants.WSS_ENC_KEY_VALUE_TYPE);
                    } else {
                        encrypt.setKeyIdentifierType(WSConstants.ENCRYPTED_KEY_SHA1_IDENTIFIER);
                        encrypt.setCustomReferenceValue(s.get("hash"));
                    }
                }
                if (!parts.isEmpty()) encrypt.setParts(parts);
                encrypt.build(doc, own, header);
            }
        }
        if (key != null) {
            key.prependToHeader(header);
            key.prependBSTElementToHeader(header);
        }
        try (OutputStream to = Files.newOutputStream(out)) {
            TransformerFactory.newInstance().newTransformer().transform(new DOMSource(doc), new StreamResult(to));
        }
        return "sent";
    }

    static int identifier(String name) {
        switch (name) {
            case "token": case "path": return WSConstants.BST_DIRECT_REFERENCE;
            case "issuer": return WSConstants.ISSUER_SERIAL;
            case "key identifier": return WSConstants.SKI_KEY_IDENTIFIER;
            case "thumbprint": return WSConstants.THUMBPRINT_IDENTIFIER;
            case "whole certificate": return WSConstants.X509_KEY_IDENTIFIER;
            case "key value": return WSConstants.KEY_VALUE;
            default: throw new IllegalArgumentException(name);
        }
    }
}
