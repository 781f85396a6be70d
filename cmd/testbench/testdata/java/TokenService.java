import com.sun.net.httpserver.*;
import java.io.*;
import java.net.InetSocketAddress;
import java.nio.charset.StandardCharsets;
import java.nio.file.*;
import java.security.KeyStore;
import java.security.SecureRandom;
import java.security.cert.*;
import java.time.*;
import java.util.*;
import java.util.concurrent.ConcurrentHashMap;
import javax.crypto.spec.SecretKeySpec;
import javax.security.auth.callback.*;
import javax.xml.parsers.DocumentBuilderFactory;
import javax.xml.transform.TransformerFactory;
import javax.xml.transform.dom.DOMSource;
import javax.xml.transform.stream.StreamResult;
import org.apache.ws.security.*;
import org.apache.ws.security.components.crypto.Merlin;
import org.apache.ws.security.conversation.ConversationConstants;
import org.apache.ws.security.conversation.dkalgo.P_SHA1;
import org.apache.ws.security.message.*;
import org.apache.ws.security.message.token.*;
import org.apache.xml.security.signature.XMLSignature;
import org.apache.xml.security.transforms.Transforms;
import org.apache.xml.security.utils.Base64;
import org.apache.xml.security.utils.XMLUtils;
import org.w3c.dom.*;

/**
 * A security token service at /tokens and a service at /ledger that takes its tokens, both by libraries of others.
 * The folder has service.p12, with the password heather. It prints its port.
 */
public class TokenService {
    static final String WSSE = WSConstants.WSSE_NS, WSU = WSConstants.WSU_NS, DS = WSConstants.SIG_NS;
    static final String SAML2 = "urn:oasis:names:tc:SAML:2.0:assertion", SAML1 = "urn:oasis:names:tc:SAML:1.0:assertion";
    static final String TRUST = "http://docs.oasis-open.org/ws-sx/ws-trust/200512";
    static final String TRUST2005 = "http://schemas.xmlsoap.org/ws/2005/02/trust";
    static final DocumentBuilderFactory factory = DocumentBuilderFactory.newInstance();
    static final Merlin crypto = new Merlin();
    static final Map<String, byte[]> keys = new ConcurrentHashMap<>(); // by context or assertion
    static java.security.PrivateKey key;
    static X509Certificate certificate;

    public static void main(String[] args) throws Exception {
        factory.setNamespaceAware(true);
        WSSConfig.init();
        org.apache.xml.security.Init.init();
        KeyStore store = KeyStore.getInstance("PKCS12");
        try (InputStream in = Files.newInputStream(Paths.get(args[0], "service.p12"))) {
            store.load(in, "heather".toCharArray());
        }
        String alias = store.aliases().nextElement();
        key = (java.security.PrivateKey) store.getKey(alias, "heather".toCharArray());
        certificate = (X509Certificate) store.getCertificate(alias);
        crypto.setKeyStore(store);
        crypto.setTrustStore(store);
        HttpServer server = HttpServer.create(new InetSocketAddress("127.0.0.1", 0), 0);
        server.createContext("/tokens", exchange -> serve(exchange, TokenService::issue));
        server.createContext("/ledger", exchange -> serve(exchange, TokenService::ledger));
        server.start();
        System.out.println(server.getAddress().getPort());
        System.in.read(); // whoever started it ends it
        server.stop(0);
    }

    interface Answer { String to(Document request) throws Exception; }

    static void serve(HttpExchange exchange, Answer answer) throws IOException {
        int status = 200;
        String space = WSConstants.URI_SOAP12_ENV, type = "application/soap+xml", said;
        try {
            Document request = factory.newDocumentBuilder().parse(exchange.getRequestBody());
            space = request.getDocumentElement().getNamespaceURI();
            if (space.equals(WSConstants.URI_SOAP11_ENV)) type = "text/xml";
            said = answer.to(request);
        } catch (Exception e) {
            status = 500;
            String text = String.valueOf(e.getMessage()).replace("&", "&amp;").replace("<", "&lt;");
            said = "<s:Envelope xmlns:s=\"" + space + "\"><s:Body>" + (type.equals("text/xml")
                ? "<s:Fault><faultcode>s:Client</faultcode><faultstring>" + text + "</faultstring></s:Fault>"
                : "<s:Fault><s:Code><s:Value>s:Sender</s:Value></s:Code><s:Reason><s:Text xml:lang=\"en\">" + text
                    + "</s:Text></s:Reason></s:Fault>") + "</s:Body></s:Envelope>";
        }
        byte[] body = said.getBytes(StandardCharsets.UTF_8);
        exchange.getResponseHeaders().set("Content-Type", type + "; charset=utf-8");
        exchange.sendResponseHeaders(status, body.length);
        exchange.getResponseBody().write(body);
        exchange.close();
    }

    static final CallbackHandler callbacks = list -> {
        for (Callback c : list) {
            WSPasswordCallback w = (WSPasswordCallback) c;
            if (w.getUsage() == WSPasswordCallback.SECURITY_CONTEXT_TOKEN) {
                byte[] known = keys.get(w.getIdentifier());
                if (known == null) throw new IOException("the context " + w.getIdentifier() + " is unknown");
                w.setKey(known);
            } else if (w.getUsage() == WSPasswordCallback.DECRYPT) {
                w.setPassword("heather");
            } else if ("keeper".equals(w.getIdentifier())) {
                w.setPassword("clover & heather 7");
            }
        }
    };

    static List<WSSecurityEngineResult> check(Document request) throws Exception {
        WSSecurityEngine engine = new WSSecurityEngine();
        WSSConfig config = WSSConfig.getNewInstance();
        config.setWsiBSPCompliant(false);
        engine.setWssConfig(config);
        List<WSSecurityEngineResult> found = engine.processSecurityHeader(request, null, callbacks, crypto);
        if (found == null) throw new Exception("no Security header");
        return found;
    }

    static Element first(Node in, String space, String name) {
        NodeList all = in instanceof Document ? ((Document) in).getElementsByTagNameNS(space, name)
            : ((Element) in).getElementsByTagNameNS(space, name);
        return all.getLength() == 0 ? null : (Element) all.item(0);
    }

    static String text(Node in, String space, String name) {
        Element e = first(in, space, name);
        return e == null ? null : e.getTextContent().trim();
    }

    static String instant(long minutes) {
        return Instant.now().plus(Duration.ofMinutes(minutes)).truncatedTo(java.time.temporal.ChronoUnit.MILLIS).toString();
    }

    /** Issues a token to whoever has a user name token, as it was asked for. */
    static String issue(Document request) throws Exception {
        boolean isUser = false;
        for (WSSecurityEngineResult r : check(request)) {
            isUser |= (Integer) r.get(WSSecurityEngineResult.TAG_ACTION) == WSConstants.UT;
        }
        if (!isUser) throw new Exception("who asks? a UsernameToken is needed");
        Element asked = first(request, TRUST, "RequestSecurityToken");
        String space = asked == null ? TRUST2005 : TRUST;
        if (asked == null) asked = first(request, TRUST2005, "RequestSecurityToken");
        String action = text(request, "http://www.w3.org/2005/08/addressing", "Action");
        String type = text(asked, space, "TokenType"), keyType = text(asked, space, "KeyType");
        boolean isContext = type.endsWith("/sct");
        if (!(space + (isContext ? "/RST/SCT" : "/RST/Issue")).equals(action)) throw new Exception("not an action here: " + action);
        String audience = text(asked, "http://www.w3.org/2005/08/addressing", "Address");
        if (audience != null && !audience.endsWith("/ledger")) throw new Exception("nothing is known of " + audience);
        boolean isShared = keyType.endsWith("/SymmetricKey");
        byte[] secret = null, ours = new byte[32];
        String proof = "";
        if (isShared) {
            new SecureRandom().nextBytes(ours);
            int size = Integer.parseInt(text(asked, space, "KeySize")) / 8;
            secret = new P_SHA1().createKey(Base64.decode(text(asked, space, "BinarySecret")), ours, 0, size);
            proof = "<t:RequestedProofToken><t:ComputedKey>" + space + "/CK/PSHA1</t:ComputedKey></t:RequestedProofToken>"
                + "<t:Entropy><t:BinarySecret Type=\"" + space + "/Nonce\">" + Base64.encode(ours) + "</t:BinarySecret></t:Entropy>";
        }
        String token;
        if (isContext) {
            String id = "urn:uuid:" + UUID.randomUUID();
            keys.put(id, secret);
            token = "<c:SecurityContextToken xmlns:c=\"" + type.substring(0, type.length() - 4) + "\" xmlns:u=\"" + WSU
                + "\" u:Id=\"context-1\"><c:Identifier>" + id + "</c:Identifier></c:SecurityContextToken>";
        } else {
            token = assertion(type.endsWith("V1.1"), text(asked, DS, "X509Certificate"), secret);
        }
        String response = "<t:RequestSecurityTokenResponse xmlns:t=\"" + space + "\"><t:TokenType>" + type + "</t:TokenType>"
            + "<t:RequestedSecurityToken>" + token + "</t:RequestedSecurityToken>" + proof
            + "<t:Lifetime xmlns:u=\"" + WSU + "\"><u:Created>" + instant(0) + "</u:Created><u:Expires>" + instant(5)
            + "</u:Expires></t:Lifetime></t:RequestSecurityTokenResponse>";
        if (space.equals(TRUST)) {
            response = "<t:RequestSecurityTokenResponseCollection xmlns:t=\"" + space + "\">" + response
                + "</t:RequestSecurityTokenResponseCollection>";
        }
        return "<s:Envelope xmlns:s=\"" + request.getDocumentElement().getNamespaceURI() + "\"><s:Body>" + response
            + "</s:Body></s:Envelope>";
    }

    /** A signed assertion; proved by a public key, a shared one, or nothing. */
    static String assertion(boolean isOld, String publicKey, byte[] secret) throws Exception {
        String id = "_" + UUID.randomUUID(), space = isOld ? SAML1 : SAML2;
        if (secret != null) keys.put(id, secret);
        String method = publicKey != null || secret != null ? "holder-of-key" : "bearer";
        String info = publicKey == null ? "" : "<d:KeyInfo xmlns:d=\"" + DS + "\"><d:X509Data><d:X509Certificate>" + publicKey
            + "</d:X509Certificate></d:X509Data></d:KeyInfo>";
        String conditions = "<a:Conditions NotBefore=\"" + instant(-1) + "\" NotOnOrAfter=\"" + instant(5) + "\"/>";
        String xml = isOld
            ? "<a:Assertion xmlns:a=\"" + space + "\" MajorVersion=\"1\" MinorVersion=\"1\" AssertionID=\"" + id
                + "\" Issuer=\"tokens\" IssueInstant=\"" + instant(0) + "\">" + conditions
                + "<a:AuthenticationStatement AuthenticationMethod=\"urn:oasis:names:tc:SAML:1.0:am:password\" AuthenticationInstant=\""
                + instant(0) + "\"><a:Subject><a:NameIdentifier>keeper</a:NameIdentifier><a:SubjectConfirmation>"
                + "<a:ConfirmationMethod>urn:oasis:names:tc:SAML:1.0:cm:" + method + "</a:ConfirmationMethod>" + info
                + "</a:SubjectConfirmation></a:Subject></a:AuthenticationStatement></a:Assertion>"
            : "<a:Assertion xmlns:a=\"" + space + "\" Version=\"2.0\" ID=\"" + id + "\" IssueInstant=\"" + instant(0)
                + "\"><a:Issuer>tokens</a:Issuer><a:Subject><a:NameID>keeper</a:NameID><a:SubjectConfirmation "
                + "Method=\"urn:oasis:names:tc:SAML:2.0:cm:" + method + "\"><a:SubjectConfirmationData>" + info
                + "</a:SubjectConfirmationData></a:SubjectConfirmation></a:Subject>" + conditions + "</a:Assertion>";
        Document doc = factory.newDocumentBuilder().parse(new ByteArrayInputStream(xml.getBytes(StandardCharsets.UTF_8)));
        Element root = doc.getDocumentElement();
        root.setIdAttribute(isOld ? "AssertionID" : "ID", true);
        XMLSignature signature = new XMLSignature(doc, "", XMLSignature.ALGO_ID_SIGNATURE_RSA_SHA256,
            Transforms.TRANSFORM_C14N_EXCL_OMIT_COMMENTS);
        root.appendChild(signature.getElement());
        Transforms transforms = new Transforms(doc);
        transforms.addTransform(Transforms.TRANSFORM_ENVELOPED_SIGNATURE);
        transforms.addTransform(Transforms.TRANSFORM_C14N_EXCL_OMIT_COMMENTS);
        signature.addDocument("#" + id, transforms, "http://www.w3.org/2001/04/xmlenc#sha256");
        signature.sign(key);
        ByteArrayOutputStream out = new ByteArrayOutputStream();
        XMLUtils.outputDOM(root, out);
        return out.toString("UTF-8").replaceFirst("^<\\?xml[^>]*>\\s*", "");
    }

    /** The ledger: it takes a token of the service above, and says what it saw of it. */
    static String ledger(Document request) throws Exception {
        Element assertion = first(request, SAML2, "Assertion");
        boolean isOld = assertion == null;
        if (isOld) assertion = first(request, SAML1, "Assertion");
        if (assertion == null) return byContext(request);
        assertion.setIdAttribute(isOld ? "AssertionID" : "ID", true);
        Element own = null;
        for (Node n = assertion.getFirstChild(); n != null; n = n.getNextSibling()) {
            if (DS.equals(n.getNamespaceURI()) && "Signature".equals(n.getLocalName())) own = (Element) n;
        }
        if (own == null || !new XMLSignature(own, "").checkSignatureValue(certificate.getPublicKey())) {
            throw new Exception("the assertion is not one of ours");
        }
        String id = assertion.getAttribute(isOld ? "AssertionID" : "ID"), proved = "bearer";
        Element body = first(request, request.getDocumentElement().getNamespaceURI(), "Body");
        Element security = first(request, WSSE, "Security"), message = null;
        for (Node n = security.getFirstChild(); n != null; n = n.getNextSibling()) {
            if (DS.equals(n.getNamespaceURI()) && "Signature".equals(n.getLocalName())) message = (Element) n;
        }
        if (assertion.getTextContent().contains("holder-of-key") || own != null && attribute(assertion, "holder-of-key")) {
            if (message == null) throw new Exception("the token must be proved by a signature");
            identify(request.getDocumentElement());
            XMLSignature signature = new XMLSignature(message, "");
            String named = text(message, WSSE, "KeyIdentifier");
            if (!id.equals(named)) throw new Exception("the signature names " + named + ", not the assertion");
            boolean holds;
            if (keys.containsKey(id)) {
                holds = signature.checkSignatureValue(new SecretKeySpec(keys.get(id), "HmacSHA256"));
                proved = "shared";
            } else {
                byte[] raw = Base64.decode(text(first(assertion, DS, "KeyInfo"), DS, "X509Certificate"));
                holds = signature.checkSignatureValue((X509Certificate) CertificateFactory.getInstance("X.509")
                    .generateCertificate(new ByteArrayInputStream(raw)));
                proved = "public";
            }
            if (!holds) throw new Exception("the proof does not hold");
            String covered = message.getTextContent() + references(message);
            if (!references(message).contains("#" + body.getAttributeNS(WSU, "Id"))) throw new Exception("the body is not signed: " + covered);
        }
        return answer(request, (isOld ? "SAML 1.1 " : "SAML 2.0 ") + proved);
    }

    static boolean attribute(Element in, String word) {
        for (String space : new String[] {SAML2}) {
            Element e = first(in, space, "SubjectConfirmation");
            if (e != null && e.getAttribute("Method").endsWith(word)) return true;
        }
        return false;
    }

    static String references(Element signature) {
        StringBuilder all = new StringBuilder();
        NodeList list = signature.getElementsByTagNameNS(DS, "Reference");
        for (int i = 0; i < list.getLength(); i++) all.append(((Element) list.item(i)).getAttribute("URI")).append(' ');
        return all.toString();
    }

    static void identify(Element e) {
        if (e.hasAttributeNS(WSU, "Id")) e.setIdAttributeNS(WSU, "Id", true);
        for (Node n = e.getFirstChild(); n != null; n = n.getNextSibling()) if (n instanceof Element) identify((Element) n);
    }

    /** A security context: the body must be signed by its key or one derived from it; so is the answer. */
    static String byContext(Document request) throws Exception {
        boolean isBodySigned = false, isDerived = false;
        String context = null, space = null;
        for (WSSecurityEngineResult r : check(request)) {
            int action = (Integer) r.get(WSSecurityEngineResult.TAG_ACTION);
            isDerived |= action == WSConstants.DKT;
            if (action == WSConstants.SCT) {
                SecurityContextToken t = (SecurityContextToken) r.get(WSSecurityEngineResult.TAG_SECURITY_CONTEXT_TOKEN);
                context = t.getIdentifier();
                space = t.getElement().getNamespaceURI();
            }
            if (action == WSConstants.SIGN) {
                for (Object o : (List<?>) r.get(WSSecurityEngineResult.TAG_DATA_REF_URIS)) {
                    isBodySigned |= "Body".equals(((WSDataRef) o).getProtectedElement().getLocalName());
                }
            }
        }
        if (context == null || !isBodySigned) throw new Exception("a context must sign the body");
        Document doc = factory.newDocumentBuilder().parse(new ByteArrayInputStream(
            answer(request, "context " + (isDerived ? "derived" : "itself")).getBytes(StandardCharsets.UTF_8)));
        WSSecHeader header = new WSSecHeader();
        header.insertSecurityHeader(doc);
        int version = space.contains("2005") ? ConversationConstants.VERSION_05_02 : ConversationConstants.VERSION_05_12;
        WSSecSecurityContextToken token = new WSSecSecurityContextToken();
        token.setWscVersion(version);
        token.setIdentifier(context);
        token.setSctId("context-2");
        token.prepare(doc, crypto);
        WSSecDKEncrypt encrypt = new WSSecDKEncrypt();
        encrypt.setWscVersion(version);
        encrypt.setSymmetricEncAlgorithm(WSConstants.AES_256);
        encrypt.setDerivedKeyLength(32);
        encrypt.setExternalKey(keys.get(context), token.getSctId());
        WSSecDKSign sign = new WSSecDKSign();
        sign.setWscVersion(version);
        sign.setExternalKey(keys.get(context), token.getSctId());
        sign.setSignatureAlgorithm(WSConstants.HMAC_SHA1);
        sign.build(doc, header);
        encrypt.build(doc, header);
        token.prependSCTElementToHeader(doc, header);
        StringWriter out = new StringWriter();
        TransformerFactory.newInstance().newTransformer().transform(new DOMSource(doc), new StreamResult(out));
        return out.toString();
    }

    static String answer(Document request, String by) {
        Element body = first(request, request.getDocumentElement().getNamespaceURI(), "Body");
        return "<s:Envelope xmlns:s=\"" + request.getDocumentElement().getNamespaceURI() + "\"><s:Header/><s:Body>"
            + "<l:Booked xmlns:l=\"urn:ledger\"><l:by>" + by + "</l:by><l:what>" + body.getTextContent().trim().replace("&", "&amp;")
            + "</l:what></l:Booked></s:Body></s:Envelope>";
    }
}
