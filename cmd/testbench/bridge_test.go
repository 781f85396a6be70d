package main_test

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// serving starts a command that answers until it is interrupted, and gives the address
// that it says first, and what it says on standard error.
func (p *place) serving(args ...string) (address string, stop func() (status int, said string)) {
	p.t.Helper()
	c := p.command(args...)
	stdout, err := c.StdoutPipe()
	require.NoError(p.t, err)
	var stderr bytes.Buffer
	c.Stderr = &stderr
	require.NoError(p.t, c.Start())
	line, err := bufio.NewReader(stdout).ReadString('\n')
	if err != nil {
		_ = c.Wait()
		require.NoError(p.t, err, stderr.String())
	}
	var once sync.Once
	stop = func() (int, string) {
		once.Do(func() {
			end(c.Process)
			_ = c.Wait()
		})
		if runtime.GOOS == "windows" {
			return 0, stderr.String() // there it is killed
		}
		return c.ProcessState.ExitCode(), stderr.String()
	}
	p.t.Cleanup(func() { stop() })
	return strings.TrimSpace(line), stop
}

// post asks a bridge.
func post(t *testing.T, address, body string, header ...string) (status int, text string) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), "POST", address, strings.NewReader(body))
	require.NoError(t, err)
	r.Header.Set("Content-Type", "application/json")
	for i := 0; i+1 < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer func() { _ = answer.Body.Close() }()
	data, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return answer.StatusCode, string(data)
}

// The lab is offered as JSON with the login of the bench; what is wrong is told with the
// right status, who may ask is known by keys, and the log has no secret.
func TestBridge(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	address, stop := p.serving("bridge", "lab", "-listen", "127.0.0.1:0", "-keep", "GradeLot=1h")
	for _, c := range []struct {
		operation, body string
		status          int
		says            []string
	}{
		{
			"GradeLot", `{"lot": "L-2201", "moisture": 17.40}`, 200,
			[]string{`"measure":[{"name":"moisture","unit":"%",".":17.40}]`},
		},
		{"GradeLot", `{"lot": "2201", "moisture": 17}`, 400, []string{"does not match the pattern"}},
		{"GradeLot", `{"lot": "L-2201", "moisture": "${sealed.lab}"}`, 400, []string{"${sealed.lab}"}},
		{"ConvertIndex", `{"refractiveIndex": 9}`, 400, []string{`"errors":[{"detail":"refractiveIndex`}},
		{"Nothing", `{}`, 404, []string{"no operation"}},
	} {
		status, text := post(t, address+"/"+c.operation, c.body)
		assert.Equal(t, c.status, status, "%s: %s", c.body, text)
		for _, says := range c.says {
			assert.Contains(t, text, says)
		}
	}
	answer, err := http.Get(address + "/health")
	require.NoError(t, err)
	health, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	_ = answer.Body.Close()
	assert.JSONEq(t, `{"status": "up", "service": "up"}`, string(health))
	// A key that is issued while it runs counts at once.
	require.Equal(t, 0, p.run("bridge", "lab", "-role", "grader", "-operations", "GradeLot", "-methods", "post").status)
	early := strings.TrimSpace(p.run("bridge", "lab", "-issue-key", "early", "-roles", "grader").stdout)
	status, _ := post(t, address+"/GradeLot", `{"lot": "L-2201", "moisture": 17.40}`)
	assert.Equal(t, 401, status)
	status, _ = post(t, address+"/GradeLot", `{"lot": "L-2201", "moisture": 17.40}`, "Authorization", "bearer "+early)
	assert.Equal(t, 200, status)
	status, _ = post(t, address+"/ConvertIndex", `{"refractiveIndex": 1.494}`, "Authorization", "bearer "+early)
	assert.Equal(t, 403, status)
	status, said := stop()
	assert.Equal(t, 0, status)
	assert.Contains(t, said, `"path":"/GradeLot","status":200`)
	assert.NotContains(t, said, "L-2201")
	key := strings.TrimSpace(p.run("bridge", "lab", "-issue-key", "orchard", "-operations", "ConvertIndex", "-until",
		"1h").stdout)
	assert.Regexp(t, `^key-[A-Z0-9]{52}$`, key)
	assert.NotContains(t, p.read(".testbench/bridge/lab.json"), key)
	p.cases([]commandCase{
		{"bridge lab -list-keys", 0, []string{"orchard", "ConvertIndex", "good until", "as grader"}},
		{"bridge lab -open", 2, []string{"-open has no effect: keys were issued"}},
		{"bridge scale -closed", 2, []string{"-closed asks for a key for everything, and no key was issued"}},
		{"bridge lab -role x -methods PUT", 2, []string{`testbench: -methods does not take "PUT"`}},
		{"bridge lab -role x -operations None", 2, []string{`no operation "None"`}},
		{"bridge lab -issue-key x -roles graders", 2, []string{`there is no role "graders"; did you mean "grader"?`}},
		{"bridge lab -issue-key orchard", 2, []string{"there is a key orchard already"}},
		{"bridge lab -issue-key x -operations None", 2, []string{`no operation "None"`}},
		{"bridge stores", 2, []string{"stores is not described by a WSDL"}},
		{"bridge none", 2, []string{`there is no service "none"`}},
		{"bridge", 2, []string{"bridge takes the name of one service"}},
		{"bridge lab -keep x", 2, []string{"-keep takes an operation and a time"}},
		{"bridge lab -keep None=1s", 2, []string{`no operation "None" whose answers could be kept`}},
		{"bridge lab -listen x", 2, []string{"-listen x"}},
		{"bridge lab -cert x", 2, []string{"both -cert and -key are needed"}},
		{
			"bridge lab -key-header X:Key", 2,
			[]string{"no header field that could hold a key has this name", "-key-header X-Key"},
		},
		{"bridge lab -key-header host", 2, []string{"no header field that could hold a key"}},
		{"bridge lab -host a/b", 2, []string{`-host "a/b": no host has this name`}},
		{"bridge lab -host :80", 2, []string{"no host has this name"}},
		{"bridge lab -rate -1", 2, []string{"-rate takes how many requests a second, not -1"}},
		{"bridge lab -wait -1s", 2, []string{"-wait takes a time"}},
		{"bridge lab -max-request 0", 2, []string{"-max-request takes how many bytes"}},
		{"bridge lab -issue-key x -until -3h", 2, []string{"-until takes a time, not -3h"}},
		{"bridge scale -listen 0.0.0.0:0", 2, []string{"everybody could ask, and no key was issued"}},
	})
	address, stop = p.serving("bridge", "lab", "-listen", "127.0.0.1:0", "-access-log", "access.log")
	status, _ = post(t, address+"/ConvertIndex", `{"refractiveIndex": 1.494}`)
	assert.Equal(t, 401, status)
	status, text := post(t, address+"/ConvertIndex", `{"refractiveIndex": 1.494}`, "Authorization", "Bearer "+key)
	assert.Equal(t, 200, status, text)
	status, _ = post(t, address+"/GradeLot", `{}`, "Authorization", "Bearer "+key)
	assert.Equal(t, 403, status)
	assert.Equal(t, 0, p.run("bridge", "lab", "-withdraw-key", "orchard").status)
	status, text = post(t, address+"/ConvertIndex", `{"refractiveIndex": 1.494}`, "Authorization", "Bearer "+key)
	assert.Equal(t, 401, status)
	assert.Contains(t, text, "withdrawn")
	stop()
	assert.NotContains(t, p.read("access.log"), key)
	assert.Contains(t, p.read("access.log"), `"key":"orchard"`)
}

// With a certificate the bridge speaks TLS, and nothing else.
// Sixteen rows at once, a bridge that sixteen ask, and a stand-in under both: every process with the
// race detector where the tests have it, and every answer is the right one.
func TestAllAtOnce(t *testing.T) {
	slow(t)
	t.Parallel()
	p, _ := newBench(t)
	bridge, stopBridge := p.serving("bridge", "lab", "-listen", "127.0.0.1:0", "-keep", "GradeLot=1s")
	standIn, stopStandIn := p.serving("standin", "-contract", "contracts/stores.yaml", "-listen", "127.0.0.1:0")
	p.write("sheets/many.yaml", `sheet: many
rows: {numbers: 1000 to 1199, as: n}
steps:
  - step: grade
    call: lab/GradeLot
    fill: {lot: "L-${n}", moisture: 17.4}
    fields: {"measures.measure[0]": 17.4, "measures.measure[0].@name": moisture}
  - step: list
    request: GET `+standIn+`/lots
    headers: {X-Depot: north}
    expect: {status: 200}
`)
	ctx, cancel := context.WithCancel(t.Context())
	var asking sync.WaitGroup
	var asked atomic.Int64
	for i := range 16 {
		asking.Go(func() {
			for n := 0; ctx.Err() == nil; n++ {
				moisture := fmt.Sprintf("17.%02d", (i+n)%20)
				status, text := post(t, bridge+"/GradeLot", `{"lot": "L-2201", "moisture": `+moisture+`}`)
				assert.Equal(t, 200, status, text)
				assert.Contains(t, text, `".":`+moisture)
				asked.Add(1)
			}
		})
	}
	o := p.run("run", "sheets/04-rows.yaml", "sheets/many.yaml", "-jobs", "16")
	cancel()
	asking.Wait()
	assert.Equal(t, 0, o.status, "%.2000s", o.all())
	assert.Positive(t, asked.Load())
	for name, stop := range map[string]func() (int, string){"bridge": stopBridge, "standin": stopStandIn} {
		status, said := stop()
		assert.Equal(t, 0, status, name)
		assert.NotContains(t, said, "DATA RACE", name)
	}
	assert.NotContains(t, o.stderr, "DATA RACE")
}

// An error that the bench knows how the service tells is a refusal of the bridge, too.
func TestBridgeToldByTheBench(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	data, err := os.ReadFile(p.dir + "/bench.yaml")
	require.NoError(t, err)
	p.write("bench.yaml", replaced(string(data), "      ConvertIndex:\n        reads: true\n",
		"      ConvertIndex:\n        reads: true\n        error: {when: number(answer.moisture) > 17, code: moisture, text: refractiveIndex}\n"))
	address, _ := p.serving("bridge", "lab", "-listen", "127.0.0.1:0")
	status, text := post(t, address+"/ConvertIndex", `{"refractiveIndex": 1.4940}`)
	assert.Equal(t, 422, status, text)
	assert.Contains(t, text, `"code":"17.02"`)
	status, text = post(t, address+"/ConvertIndex", `{"refractiveIndex": 1.5}`)
	assert.Equal(t, 200, status, text)
}

func TestBridgeTLS(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	authority := newCertificates(t)
	certificate, key := authority.issue(t, "bridge")
	p.write("certs/bridge.pem", certificate)
	p.write("certs/bridge-key.pem", key)
	address, _ := p.serving("bridge", "lab", "-listen", "127.0.0.1:0", "-cert", "certs/bridge.pem", "-key",
		"certs/bridge-key.pem")
	assert.True(t, strings.HasPrefix(address, "https://"))
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	answer, err := client.Get(address + "/health")
	require.NoError(t, err)
	_ = answer.Body.Close()
	assert.Equal(t, 200, answer.StatusCode)
	answer, err = client.Get("http" + strings.TrimPrefix(address, "https") + "/health")
	if err == nil {
		_ = answer.Body.Close()
		assert.Equal(t, 400, answer.StatusCode)
	}
	p.cases([]commandCase{{
		"bridge lab -listen 127.0.0.1:0 -cert certs/bridge.pem -key bench.yaml", 2,
		[]string{"bench.yaml"},
	}})
}

// A service that is slow, broken or gone is told as that.
func TestBridgeUpstream(t *testing.T) {
	t.Parallel()
	hold := make(chan struct{})
	defer close(hold)
	var how lines
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch all := how.read(); all[len(all)-1] {
		case "slow":
			select {
			case <-hold:
			case <-r.Context().Done():
			}
		case "html":
			w.Header().Set("Content-Type", "text/html")
			w.WriteHeader(503)
			_, _ = io.WriteString(w, "<h1>later</h1>")
		case "refused":
			w.WriteHeader(401)
		case "cut":
			w.Header().Set("Content-Length", "1000")
			_, _ = io.WriteString(w, "<a>")
		case "contract":
			w.Header().Set("Content-Type", "text/xml")
			_, _ = io.WriteString(w,
				`<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><GradeLotResponse xmlns="urn:heatherfold:lab"><lot>x</lot></GradeLotResponse></e:Body></e:Envelope>`)
		case "fault", "client":
			w.Header().Set("Content-Type", "text/xml")
			w.WriteHeader(500)
			_, _ = io.WriteString(w,
				`<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><e:Fault><faultcode>e:`+
					map[bool]string{true: "Client", false: "Server"}[all[len(all)-1] == "client"]+
					`</faultcode><faultstring>out of honey</faultstring></e:Fault></e:Body></e:Envelope>`)
		}
	}))
	t.Cleanup(server.Close)
	p, _ := newBench(t)
	p.write("bench.yaml", strings.Replace(p.read("bench.yaml"), "address: ${base}/lab", "address: "+server.URL, 1))
	address, _ := p.serving("bridge", "lab", "-listen", "127.0.0.1:0", "-wait", "300ms")
	for what, want := range map[string]struct {
		status int
		says   string
	}{
		"slow": {504, "took too long"}, "html": {502, ""}, "refused": {502, "refused the login of the bridge"},
		"cut": {502, ""}, "contract": {502, "broke its contract"}, "fault": {502, "out of honey"},
		"client": {422, `"fault":{"code":"Client"`},
	} {
		how.add(what)
		began := time.Now()
		status, text := post(t, address+"/GradeLot", `{"lot": "L-2201", "moisture": 17}`)
		assert.Equal(t, want.status, status, "%s: %s", what, text)
		assert.Contains(t, text, want.says, what)
		assert.Less(t, time.Since(began), 10*time.Second)
	}
}
