//go:build peers

// Tests against servers that are not ours. They need what scripts/test
// installs, and fail without it.
package main_test

import (
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// peers says whether the programs are there that scripts/test installs.
const peers = true

// freePort finds a port that nothing listens on, below those that the system gives
// to outgoing connections: of these, another test may take one before the server does.
func freePort(t testing.TB) string {
	t.Helper()
	for range 100 {
		port := fmt.Sprint(20_000 + rand.IntN(12_000))
		if listener, err := net.Listen("tcp", "127.0.0.1:"+port); err == nil {
			require.NoError(t, listener.Close())
			return port
		}
	}
	t.Fatal("of a hundred ports from 20000 on, none is free")
	return ""
}

// serve starts a server and waits until it accepts connections.
func serve(t testing.TB, port string, name string, args ...string) {
	t.Helper()
	serveWith(t, os.Environ(), port, name, args...)
}

// program finds a server also where only administrators look for it.
func program(name string) string {
	if _, err := exec.LookPath(name); err != nil {
		return "/usr/sbin/" + name
	}
	return name
}

func serveWith(t testing.TB, env []string, port string, name string, args ...string) {
	t.Helper()
	c := exec.Command(program(name), args...)
	c.Env = env
	c.Stdout, c.Stderr = os.Stderr, os.Stderr
	require.NoError(t, c.Start(), "is %s installed? scripts/test does that", name)
	ended := make(chan struct{})
	go func() {
		_ = c.Wait()
		close(ended)
	}()
	t.Cleanup(func() {
		end(c.Process)
		select {
		case <-ended:
		case <-time.After(5 * time.Second):
			_ = c.Process.Kill()
			<-ended
		}
	})
	deadline := time.Now().Add(15 * time.Second)
	for time.Now().Before(deadline) {
		select {
		case <-ended:
			t.Fatalf("%s ended before it listened", name)
		default:
		}
		if connection, err := net.Dial("tcp", "127.0.0.1:"+port); err == nil {
			_ = connection.Close()
			return
		}
		time.Sleep(20 * time.Millisecond) // there is no event to await: another program's socket
	}
	t.Fatalf("%s does not listen on port %s", name, port)
}

func TestPHPSoapServer(t *testing.T) {
	t.Parallel()
	port := freePort(t)
	root, err := filepath.Abs("testdata/php")
	require.NoError(t, err)
	serve(t, port, "php", "-S", "127.0.0.1:"+port, filepath.Join(root, "index.php"))
	p := newPlace(t)
	p.write("bench.yaml", `bench: hive
names:
  h: urn:heatherfold:hive
sites:
  local:
    set:
      base: http://127.0.0.1:`+port+`
services:
  hive:
    address: ${base}/11
    soap: 1.1
    operations:
      Weigh:
        action: urn:heatherfold:hive:Weigh
        payload: h:Weigh
  hive12:
    address: ${base}/12
    soap: 1.2
    operations:
      Weigh:
        action: urn:heatherfold:hive:Weigh
        payload: h:Weigh
`)
	steps := func(service, version, code string) string {
		return fmt.Sprintf(`  - step: weigh %[2]s
    call: %[1]s/Weigh
    blocks:
      h:Keeper:
        "@mustUnderstand": "1"
        .: Bryony & "sons"
    fill:
      hive: H-<7>
      frames:
        - 10
        - 12
    fields:
      hive: H-<7>
      kilos: 53.90
      keeper: Bryony & "sons"
      reply.soap.version: %[2]s
  - step: one frame %[2]s
    call: %[1]s/Weigh
    fill:
      hive: H-1
      frames: 10
    fields:
      kilos[0]: 24.5
  - step: fault %[2]s
    call: %[1]s/Weigh
    fill:
      hive: H-0
      frames: 1
    expect:
      fault:
        code: %[3]s
        text: hive H-0 is empty
        detail.HiveFault.hive: H-0
  - step: text %[2]s
    request: %[1]s POST
    action: urn:heatherfold:hive:Weigh
    text: <x:Weigh xmlns:x="urn:heatherfold:hive"><x:hive>${base}</x:hive><x:frames>1</x:frames></x:Weigh>
    fields:
      hive: ${base}
`, service, version, code)
	}
	o := p.sheet("sheet: php\nsteps:\n" + steps("hive", "1.1", "Client") + steps("hive12", "1.2", "Sender"))
	assert.Equal(t, 0, o.status, o.all())
	assert.Equal(t, 8, strings.Count(o.stdout, " passed\n"), o.stdout)
}

// PHP's server takes what is built from its own contracts: document and rpc,
// literal and encoded, and its answers are valid by them.
func TestPHPByContract(t *testing.T) {
	t.Parallel()
	port := freePort(t)
	root, err := filepath.Abs("testdata/php")
	require.NoError(t, err)
	serve(t, port, "php", "-S", "127.0.0.1:"+port, filepath.Join(root, "index.php"))
	p := newPlace(t)
	for _, name := range []string{"hive.wsdl", "crates.wsdl"} {
		text, err := os.ReadFile(filepath.Join(root, name))
		require.NoError(t, err)
		p.write("contracts/"+name, string(text))
	}
	p.write("bench.yaml", `bench: hive
sites:
  local:
    set:
      base: http://127.0.0.1:`+port+`
services:
  hive:
    contract: contracts/hive.wsdl
    address: ${base}/11
  hive12:
    contract: contracts/hive.wsdl
    address: ${base}/12
    soap: 1.2
  crates:
    contract: contracts/crates.wsdl
    address: ${base}/crates
  literal:
    contract: contracts/crates.wsdl
    port: Literal
    address: ${base}/crates
`)
	o := p.sheet(`sheet: by contract
steps:
  - step: document
    call: hive/Weigh
    fill:
      frames:
        - 10
        - 12
      hive: H-<7>
    fields:
      kilos: 53.90
  - step: a block of the contract
    call: hive/Weigh
    blocks:
      Keeper:
        "@mustUnderstand": "1"
        .: Bryony
    fill:
      frames: 10
      hive: H-1
    fields:
      keeper: Bryony
  - step: document by 1.2
    call: hive12/Weigh
    fill:
      frames: 10
      hive: H-1
    fields:
      kilos: 24.50
      reply.soap.version: 1.2
  - step: declared fault
    call: hive/Weigh
    fill:
      hive: H-0
      frames: 1
    expect:
      fault:
        detail.HiveFault.hive: H-0
  - step: encoded
    call: crates/Stack
    fill:
      limit: 30
      crates:
        - label: low & wide
          jars: 6
        - jars: 24
          label: "high"
          note: null
    fields:
      tallest.label: high
      tallest.note: is null
      counts.item: count 2
      counts.item[1]: 6
  - step: encoded, refused
    call: crates/Stack
    fill:
      limit: 5
      crates:
        - label: a
          jars: 6
    expect:
      fault:
        text: the crate a is over 5
  - step: literal
    call: literal/Count
    fill:
      crate:
        jars: 6
        label: b
      factor: 7
    fields:
      jars: 42
`)
	assert.Equal(t, 0, o.status, o.all())
	assert.Equal(t, 7, strings.Count(o.stdout, " passed\n"), o.stdout)

	// Every draft of its contracts is valid by xmllint too, and taken by the server.
	for _, c := range []struct{ service, operation string }{
		{"hive", "Weigh"},
		{"hive12", "Weigh"},
		{"literal", "Count"},
		{"crates", "Stack"},
	} {
		draft := p.run("draft", c.service, c.operation)
		assert.Equal(t, 0, draft.status, draft.all())
		p.write("draft.xml", draft.stdout)
		valid := p.run("validate", c.service, "draft.xml")
		assert.Equal(t, 0, valid.status, "%s\n%s", valid.all(), draft.stdout)
	}
}

// A third server, of node-soap, is built from the same contract as PHP's and
// gives the same answers.
func TestNodeByContract(t *testing.T) {
	t.Parallel()
	port := freePort(t)
	peers, err := filepath.Abs("../../scripts/peers")
	require.NoError(t, err)
	contract, err := filepath.Abs("testdata/php/hive.wsdl")
	require.NoError(t, err)
	serve(t, port, "node", "testdata/node/hive.cjs", port, peers, contract)
	p := newPlace(t)
	p.write("bench.yaml", `bench: hive
sites:
  local:
    set:
      base: http://127.0.0.1:`+port+`/hive
services:
  hive: ${base}?wsdl
  saved:
    contract: ${base}?wsdl
    address: ${base}
`)
	o := p.sheet(`sheet: by contract
steps:
  - step: weigh
    call: saved/Weigh
    fill:
      frames:
        - 10
        - 12
      hive: H-<7> & "more"
    fields:
      kilos: 53.90
      hive: H-<7> & "more"
  - step: one frame
    call: saved/Weigh
    fill:
      hive: H-1
      frames: 10
    fields:
      kilos: 24.50
  - step: fault
    call: saved/Weigh
    fill:
      hive: H-0
      frames: 1
    expect:
      fault:
        text: hive H-0 is empty
        detail.HiveFault.hive: H-0
`)
	assert.Equal(t, 0, o.status, o.all())
	assert.Equal(t, 3, strings.Count(o.stdout, " passed\n"), o.stdout)
	survey := p.run("survey", "hive", "Weigh")
	assert.Equal(t, 0, survey.status, survey.all())
	assert.Contains(t, survey.stdout, "frames  integer; once or more")
}

// Drafts of every element of the demo's contract, with and without what may be
// left out, are valid by xmllint.
func TestDraftsByXmllint(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	for _, element := range []string{
		"GradeLot", "GradeLotResponse", "ConvertIndex", "ConvertIndexResponse",
		"RegisterAnalysis", "RegisterAnalysisResponse", "LabFault", "finding", "residue",
	} {
		for _, args := range [][]string{{}, {"-only", "required"}} {
			draft := p.run(append([]string{"draft", "contracts/lab.xsd", element}, args...)...)
			require.Equal(t, 0, draft.status, draft.all())
			p.write("draft.xml", draft.stdout)
			output, err := exec.Command("xmllint", "--noout", "--schema", filepath.Join(p.dir, "contracts/lab.xsd"),
				filepath.Join(p.dir, "draft.xml")).CombinedOutput()
			assert.NoError(t, err, "%s\n%s", output, draft.stdout)
		}
	}
}

// So are those of the other contract of the tests, by the schema inside of it.
func TestDraftsOfTheHiveByXmllint(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	text, err := os.ReadFile("testdata/php/hive.wsdl")
	require.NoError(t, err)
	p.write("hive.wsdl", string(text))
	schema := string(text)[strings.Index(string(text), "<xs:schema"):]
	schema = schema[:strings.Index(schema, "</xs:schema>")+len("</xs:schema>")]
	p.write("hive.xsd", strings.Replace(schema, "<xs:schema",
		`<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:h="urn:heatherfold:hive"`, 1))
	for _, args := range [][]string{{}, {"-only", "required"}, {"-answer"}, {"-soap", "1.2"}} {
		draft := p.run(append([]string{"draft", "hive.wsdl", "Weigh"}, args...)...)
		require.Equal(t, 0, draft.status, draft.all())
		_, payload, found := strings.Cut(draft.stdout, "<soap:Body>")
		require.True(t, found)
		p.write("payload.xml", strings.TrimSpace(payload[:strings.Index(payload, "</soap:Body>")]))
		output, err := exec.Command("xmllint", "--noout", "--schema", filepath.Join(p.dir, "hive.xsd"),
			filepath.Join(p.dir, "payload.xml")).CombinedOutput()
		assert.NoError(t, err, "%s\n%s", output, draft.stdout)
	}
}

// A client of another hand reads the stand-in's contract and is answered by it.
func TestPHPSoapClient(t *testing.T) {
	t.Parallel()
	_, server := newBench(t)
	for _, version := range []string{"SOAP_1_1", "SOAP_1_2"} {
		script := fmt.Sprintf(`ini_set("soap.wsdl_cache_enabled", "0");
$lab = new SoapClient("http://%s/lab?wsdl", ["soap_version" => %s, "location" => "http://%s/lab"]);
echo count($lab->__getFunctions()), " ";
$graded = $lab->GradeLot(["lot" => "L-2201", "moisture" => "17.4", "hmf" => "12.5"]);
echo $graded->grade, " ", count($graded->measures->measure), " ", $lab->ConvertIndex(["refractiveIndex" => "1.4940"])->moisture, " ";
try { $lab->GradeLot(["lot" => "L-2201", "moisture" => "45"]); } catch (SoapFault $f) { echo $f->getMessage(), " ", $f->detail->LabFault->field; }`, server.Address, version, server.Address)
		output, err := exec.Command("php", "-r", script).CombinedOutput()
		require.NoError(t, err, string(output))
		assert.Regexp(t, `^\d+ A 2 17\.02 moisture: 45 is out of range: 10 to 30 moisture$`, string(output), version)
	}
}

func TestApache(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	authority := newCertificates(t)
	serverCertificate, serverKey := authority.issue(t, "localhost")
	clientCertificate, clientKey := authority.issue(t, "bryony")
	for name, text := range map[string]string{
		"ca.pem": authority.pem, "server.pem": serverCertificate,
		"server-key.pem": serverKey, "client.pem": clientCertificate, "client-key.pem": clientKey,
	} {
		p.write("certs/"+name, text)
	}
	p.write("mime.types", "application/json json\n")
	plain, secure := freePort(t), freePort(t)
	const password = `bee: "k&y" ü`
	output, err := exec.Command("htpasswd", "-nbB", "clerk", password).Output()
	require.NoError(t, err, "htpasswd comes with apache2-utils; scripts/test installs it")
	p.write("users", strings.TrimSpace(string(output))+"\n")
	p.write("www/basic/lots.json", `{"lots": ["L-2201"], "about": "`+strings.Repeat("heather honey ", 50)+`"}`)
	p.write("www/secure/lots.json", `{"lots": ["L-2202"]}`)
	p.write("apache.conf", strings.ReplaceAll(`ServerRoot /usr/lib/apache2
ServerName localhost
USERPidFile DIR/apache.pid
ErrorLog DIR/apache-error.log
DocumentRoot DIR/www
Listen 127.0.0.1:`+plain+`
Listen 127.0.0.1:`+secure+`
LoadModule mpm_event_module modules/mod_mpm_event.so
LoadModule authn_core_module modules/mod_authn_core.so
LoadModule authn_file_module modules/mod_authn_file.so
LoadModule authz_core_module modules/mod_authz_core.so
LoadModule authz_user_module modules/mod_authz_user.so
LoadModule auth_basic_module modules/mod_auth_basic.so
LoadModule mime_module modules/mod_mime.so
TypesConfig DIR/mime.types
LoadModule ssl_module modules/mod_ssl.so
LoadModule http2_module modules/mod_http2.so
LoadModule socache_shmcb_module modules/mod_socache_shmcb.so
LoadModule deflate_module modules/mod_deflate.so
LoadModule filter_module modules/mod_filter.so
Protocols h2 http/1.1
AddOutputFilterByType DEFLATE application/json
<Directory DIR/www/basic>
  AuthType Basic
  AuthName "hives"
  AuthUserFile DIR/users
  Require user clerk
</Directory>
<Directory DIR/www/secure>
  Require all granted
</Directory>
<VirtualHost 127.0.0.1:`+secure+`>
  SSLEngine on
  SSLCertificateFile DIR/certs/server.pem
  SSLCertificateKeyFile DIR/certs/server-key.pem
  SSLCACertificateFile DIR/certs/ca.pem
  SSLVerifyClient require
</VirtualHost>
`, "DIR", p.dir))
	user := ""
	if os.Geteuid() == 0 {
		user = "User www-data\nGroup www-data\n" // Apache does not serve as root
	}
	p.write("apache.conf", strings.Replace(p.read("apache.conf"), "USER", user, 1))
	require.NoError(t, os.Chmod(p.dir, 0o755))
	for dir := filepath.Dir(p.dir); dir != "/"; dir = filepath.Dir(dir) {
		if info, err := os.Stat(dir); err == nil && info.Mode().Perm()&0o001 == 0 {
			require.NoError(t, os.Chmod(dir, info.Mode().Perm()|0o055))
		}
	}
	t.Cleanup(func() {
		if t.Failed() {
			t.Log(p.read("apache-error.log"))
		}
	})
	serve(t, plain, "apache2", "-f", filepath.Join(p.dir, "apache.conf"), "-DFOREGROUND")
	p.env = append(p.env, "TESTBENCH_SEALED_BEES="+password, "TESTBENCH_SEALED_WRONG=not the password")
	bench := `bench: apache
sites:
  local:
    set:
      plain: http://127.0.0.1:` + plain + `
      secure: https://localhost:` + secure + `
    tls:
      ca: certs/ca.pem
CERTservices:
  plain:
    address: ${plain}
    login: clerk
  secure:
    address: ${secure}
logins:
  clerk:
    kind: basic
    user: clerk
    password: ${sealed.bees}
  wrong:
    kind: basic
    user: clerk
    password: ${sealed.wrong}
`
	p.write("bench.yaml", strings.Replace(bench, "CERT",
		"      certificate: certs/client.pem\n      key: certs/client-key.pem\n", 1))
	o := p.sheet(`sheet: apache
steps:
  - step: right
    request: plain GET /basic/lots.json
    expect:
      type: application/json
      headers:
        Content-Encoding: gzip
    fields:
      lots[0]: L-2201
  - step: wrong
    request: plain GET /basic/lots.json
    login: wrong
    expect:
      status: 401
      headers:
        WWW-Authenticate: starts with Basic
  - step: none
    request: plain GET /basic/lots.json
    login: none
    expect:
      status: 401
  - step: nothing there
    request: plain GET /basic/lotz.json
    expect:
      status: 404
  - step: certificate
    request: secure GET /secure/lots.json
    fields:
      lots[0]: L-2202
      reply.protocol: HTTP/2.0
`)
	assert.Equal(t, 0, o.status, o.all())
	assert.NotContains(t, o.all(), "bee:")
	o = p.run("call", "plain", "GET", "/basic/lots.json", "-login", "none")
	assert.Equal(t, 1, o.status)
	assert.Contains(t, o.stdout, "the service asks for Basic")

	p.write("bench.yaml", strings.Replace(bench, "CERT", "", 1))
	o = p.run("call", "secure", "GET", "/secure/lots.json")
	assert.Equal(t, 3, o.status, o.all())
	assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), "perhaps the service wants a client certificate")
	o = p.run("call", "GET", "http://127.0.0.1:"+secure+"/secure/lots.json")
	assert.Equal(t, 1, o.status)
	assert.Contains(t, o.all(), "write https:// in the address")
}
