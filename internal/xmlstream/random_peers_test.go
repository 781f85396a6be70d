//go:build peers

package xmlstream_test

import (
	"encoding/base64"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"testbench/internal/xmlstream"
)

// parse is a program that reads documents, a line of Base64 each, with the parser of the
// JDK, and says of each what it makes of it.
const parse = `import java.io.*;
import java.util.Base64;
import javax.xml.parsers.*;
import org.xml.sax.*;
import org.xml.sax.helpers.DefaultHandler;

class Parse {
	public static void main(String[] a) throws Exception {
		SAXParserFactory factory = SAXParserFactory.newInstance();
		factory.setNamespaceAware(true);
		BufferedReader in = new BufferedReader(new InputStreamReader(System.in));
		for (String line = in.readLine(); line != null; line = in.readLine()) {
			StringBuilder out = new StringBuilder();
			try {
				factory.newSAXParser().parse(new ByteArrayInputStream(Base64.getDecoder().decode(line)), new DefaultHandler() {
					public void startElement(String space, String local, String name, Attributes all) {
						out.append("<{" + space + "}" + local);
						for (int i = 0; i < all.getLength(); i++)
							out.append(" {" + all.getURI(i) + "}" + all.getLocalName(i) + "=" + all.getValue(i));
						out.append(">");
					}
					public void endElement(String space, String local, String name) { out.append("</>"); }
					public void characters(char[] text, int from, int length) { out.append(text, from, length); }
					public void processingInstruction(String target, String data) { out.append("<?" + target + " " + data + "?>"); }
					public void error(SAXParseException e) throws SAXException { throw e; }
				});
				System.out.println("read " + Base64.getEncoder().encodeToString(out.toString().getBytes("UTF-8")));
			} catch (SAXException | IOException e) {
				System.out.println("refused " + e.getMessage().replaceAll("\\s+", " "));
			}
		}
	}
}`

// documents are what changes at random.
var documents = []string{
	`<?xml version="1.0" encoding="UTF-8"?>` + "\n" +
		`<a:lots xmlns:a="urn:a" xmlns="urn:b" n='1'><!-- x --><lot id="L-1" a:grade="A">Bry&amp;ony &#x4D;&#97;rl<x/></lot><?page one?><![CDATA[ <y> ]]>é漢</a:lots>`,
	"<a>\r\n <b c='&lt;&quot;\t'>]]&gt;</b>\n<b xml:lang=\"de\" xmlns:p='urn:p'><p:c p:d='1' d='2'/></b></a>\n<!-- end -->",
	`<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><m xmlns="urn:m"><n xmlns="">5</n></m></e:Body></e:Envelope>`,
}

// Documents that were changed at random are read, or refused, as the JDK reads or refuses them.
func TestRandomDocuments(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 5))
	pieces := []string{
		"<", ">", "/", "&", ";", `"`, "'", "=", " ", "\n", "\r", "\t", "-", "--", "!", "?", "[", "]", "]]>",
		"<![CDATA[", "<!--", "-->", "<?", "?>", "a", "b:", ":", "xmlns=''", " xmlns:q='urn:q'", " id='2'", "&#0;",
		"&#x1F600;", "&#xD800;", "&lt;", "&x;",
		"<q:r/>", "<b/>", "</a>", "\x00", "\x01", "é", "\ufffe", "\xff", "1", ".", "xml", "<?xml version='1.0'?>",
		"standalone='yes'",
	}
	var made []string
	var asked strings.Builder
	for range 12_000 {
		text := documents[r.IntN(len(documents))]
		for range 1 + r.IntN(2) {
			at := r.IntN(len(text) + 1)
			end := min(len(text), at+r.IntN(3))
			if r.IntN(3) == 0 {
				text = text[:at] + text[end:]
			} else {
				text = text[:at] + pieces[r.IntN(len(pieces))] + text[end:]
			}
		}
		made = append(made, text)
		asked.WriteString(base64.StdEncoding.EncodeToString([]byte(text)) + "\n")
	}
	program := filepath.Join(t.TempDir(), "Parse.java")
	require.NoError(t, os.WriteFile(program, []byte(parse), 0o600))
	command := exec.Command("java", program)
	command.Stdin = strings.NewReader(asked.String())
	out, err := command.Output()
	require.NoError(t, err)
	answers := strings.Split(strings.TrimSpace(string(out)), "\n")
	require.Len(t, answers, len(made))
	read := 0
	for i, text := range made {
		verdict, rest, _ := strings.Cut(answers[i], " ")
		ours, err := pulled(text)
		switch {
		case err != nil && verdict == "read" && strings.Contains(err.Error(), "Namespaces in XML"):
			// The JDK lets names begin with a colon, and those of instructions hold one
			// (Namespaces in XML 1.0, 3 and 7).
		case err != nil && verdict == "read" && !strings.Contains(text, `"UTF-8"`) && strings.Contains(err.Error(),
			"is not UTF-8"):
			// It knows encodings by other names, and passes over bytes that are wrong in them.
		case (err == nil) != (verdict == "read"):
			t.Errorf("%q: here %v, the JDK %s %s", text, err, verdict, rest)
		case err == nil:
			read++
			theirs, err := base64.StdEncoding.DecodeString(rest)
			require.NoError(t, err)
			if ours != string(theirs) {
				t.Errorf("%q: here %q, the JDK %q", text, ours, theirs)
			}
		}
	}
	t.Logf("%d documents, %d well-formed", len(made), read)
	require.Greater(t, read, len(made)/10)
	require.Less(t, read, len(made)*9/10)
}

// pulled is what the reader makes of a document, written as Parse writes it.
func pulled(text string) (string, error) {
	r := xmlstream.NewBytes([]byte(text), xmlstream.Options{Instructions: true, MaxDepth: 1000, MaxToken: len(text)})
	var out strings.Builder
	depth := 0
	for {
		kind, err := r.Next()
		if err == io.EOF {
			return out.String(), nil
		}
		if err != nil {
			return "", err
		}
		switch kind {
		case xmlstream.Start:
			depth++
			fmt.Fprintf(&out, "<{%s}%s", r.Name().Space, r.Name().Local)
			for _, a := range r.Attrs() {
				if a.Name.Prefix != "xmlns" && a.Name.Local != "xmlns" {
					fmt.Fprintf(&out, " {%s}%s=%s", a.Name.Space, a.Name.Local, a.Value)
				}
			}
			out.WriteString(">")
		case xmlstream.End:
			depth--
			out.WriteString("</>")
		case xmlstream.Text:
			if depth > 0 {
				out.Write(r.Text())
			}
		case xmlstream.Instruction:
			fmt.Fprintf(&out, "<?%s %s?>", r.Name().Local, r.Text())
		}
	}
}
