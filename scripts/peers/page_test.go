package peers_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	cdppage "github.com/chromedp/cdproto/page"
	cdpruntime "github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// viewer is a page in headless Chromium that notes what it complains of and asks for.
type viewer struct {
	t        *testing.T
	ctx      context.Context
	mutex    sync.Mutex
	wrong    []string
	requests []string
}

func newViewer(t *testing.T) *viewer {
	t.Helper()
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/bin/chromium"),
		chromedp.NoSandbox, chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true),
		chromedp.UserDataDir(t.TempDir()))
	allocator, stop := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(stop)
	ctx, stopTab := chromedp.NewContext(allocator)
	t.Cleanup(stopTab)
	ctx, stopTime := context.WithTimeout(ctx, 2*time.Minute)
	t.Cleanup(stopTime)
	t.Cleanup(func() { _ = chromedp.Cancel(ctx) }) // it ends by itself: killed, it would still write into its folder
	v := &viewer{t: t, ctx: ctx}
	chromedp.ListenTarget(ctx, func(event any) {
		v.mutex.Lock()
		defer v.mutex.Unlock()
		switch e := event.(type) {
		case *cdpruntime.EventConsoleAPICalled:
			v.wrong = append(v.wrong, fmt.Sprintf("console.%s: %v", e.Type, e.Args))
		case *cdpruntime.EventExceptionThrown:
			v.wrong = append(v.wrong, e.ExceptionDetails.Error())
		case *log.EventEntryAdded:
			v.wrong = append(v.wrong, e.Entry.Text)
		case *network.EventRequestWillBeSent:
			v.requests = append(v.requests, e.Request.URL)
		}
	})
	return v
}

func (v *viewer) do(actions ...chromedp.Action) {
	v.t.Helper()
	require.NoError(v.t, chromedp.Run(v.ctx, actions...))
}

// text is what an expression of the page gives.
func (v *viewer) text(expression string) string {
	v.t.Helper()
	var out string
	v.do(chromedp.Evaluate("String("+expression+")", &out))
	return out
}

func awaited(p *cdpruntime.EvaluateParams) *cdpruntime.EvaluateParams {
	return p.WithAwaitPromise(true)
}

// until waits for an expression of the page to become true.
func until(expression string) chromedp.Action {
	return chromedp.Evaluate(`new Promise((done, fail) => { let left = 1000; const look = () => (`+expression+
		`) ? done(true) : left-- > 0 ? setTimeout(look, 20) : fail(new Error("never so")); look(); })`, nil, awaited)
}

// clicked clicks what a selector finds, where it is.
func clicked(selector string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		var at [2]float64
		find := fmt.Sprintf(`(() => { const e = document.querySelector(%q); e.scrollIntoView({block: "center"}); const r = e.getBoundingClientRect(); return [r.x + Math.min(r.width / 2, 20), r.y + r.height / 2]; })()`, selector)
		if err := chromedp.Evaluate(find, &at).Do(ctx); err != nil {
			return err
		}
		return chromedp.MouseClickXY(at[0], at[1]).Do(ctx)
	})
}

// typed puts a text into a field, key by key, in place of what stood there.
func typed(selector, text string) chromedp.Action {
	return chromedp.Tasks{
		chromedp.Evaluate(
			fmt.Sprintf(`(() => { const e = document.querySelector(%q); e.focus(); e.select(); })()`, selector), nil),
		chromedp.KeyEvent(kb.Delete), chromedp.KeyEvent(text),
	}
}

// chosen picks an entry of a list.
func chosen(selector, value string) chromedp.Action {
	return chromedp.Evaluate(
		fmt.Sprintf(`(() => { const e = document.querySelector(%q); e.value = %q; e.dispatchEvent(new Event("change", {bubbles: true})); })()`, selector, value), nil)
}

func (v *viewer) open(address string) {
	v.t.Helper()
	v.do(network.Enable(), log.Enable(), cdpruntime.Enable(), chromedp.Navigate(address))
}

// isClean says that the page complained of nothing, and asked for nothing but itself.
func (v *viewer) isClean(allowed ...string) {
	v.t.Helper()
	v.mutex.Lock()
	defer v.mutex.Unlock()
	assert.Empty(v.t, v.wrong)
	for _, address := range v.requests {
		known := strings.HasPrefix(address, "data:")
		for _, prefix := range allowed {
			known = known || strings.HasPrefix(address, prefix)
		}
		assert.True(v.t, known, address)
	}
}

// looked writes pictures of the page where somebody asks for them.
func (v *viewer) looked(name string, whole bool) {
	v.t.Helper()
	dir := os.Getenv("TESTBENCH_PICTURES")
	if dir == "" {
		return
	}
	var picture []byte
	if whole {
		v.do(chromedp.FullScreenshot(&picture, 100))
	} else {
		v.do(chromedp.CaptureScreenshot(&picture))
	}
	require.NoError(v.t, os.WriteFile(filepath.Join(dir, name), picture, 0o644))
}

func (v *viewer) dark(dark bool) {
	v.t.Helper()
	scheme := "light"
	if dark {
		scheme = "dark"
	}
	v.do(emulation.SetEmulatedMedia().WithFeatures([]*emulation.MediaFeature{{
		Name:  "prefers-color-scheme",
		Value: scheme,
	}}))
}

// accessible checks the page against the rules of a checker of accessibility.
func (v *viewer) accessible() {
	v.t.Helper()
	rules, err := os.ReadFile("node_modules/axe-core/axe.min.js")
	require.NoError(v.t, err)
	var found []struct {
		ID, Help string
		Nodes    []struct{ HTML, FailureSummary string }
	}
	v.do(chromedp.Evaluate(string(rules), nil),
		chromedp.Evaluate(`axe.run(document).then(r => r.violations)`, &found, awaited))
	for _, one := range found {
		node := one.Nodes[0]
		v.t.Errorf("%s: %s: %s: %s", one.ID, one.Help, node.HTML, node.FailureSummary)
	}
}

// The page of a run can be read, searched, filtered and gone through by keyboard, in light
// and dark, asks for nothing, and nothing in it is live that came from outside.
func TestReportInBrowser(t *testing.T) {
	t.Parallel()
	const evil = `<img src=x onerror="document.title='live'"></script><b>bold</b>`
	server := answering(t, "application/json",
		`{"say": "`+strings.ReplaceAll(evil, `"`, `\"`)+`", "n": 12345678901234567890.10}`)
	p, _ := newDemo(t)
	p.write("data/three.csv", "name,n\n\"<i>one</i>\nline two\",1\ntwo\u202e,2\nthree,3\n")
	p.write("bench.yaml", strings.Replace(p.read("bench.yaml"), "services:\n",
		"services:\n  evil:\n    address: "+server.URL+"\n", 1))
	p.write("sheets/evil.yaml",
		`sheet: what <b>they</b> say
rows:
  from: data/three.csv
  label: name
steps:
  - step: say <u>it</u>
    request: evil GET /it?n=${row.n}
    fields:
      say: not is empty
      n: at least ${row.n}
  - step: say again
    request: evil GET /again
    fields:
      n: under 5
`)
	p.write("sheets/times.yaml",
		`sheet: times
rows:
  numbers: 1 to 40
  as: n
steps:
  - step: search
    call: stores/search
  - step: lot
    request: stores GET /lots
`)
	out, status := p.run("run", "sheets/evil.yaml", "sheets/times.yaml", "sheets/06-too-moist.yaml", "-allow",
		"127.0.0.1", "-out", "r.html")
	require.Equal(t, 1, status, out)
	address := "file://" + filepath.Join(p.dir, "r.html")

	v := newViewer(t)
	v.open(address)
	assert.Contains(t, v.text(`document.querySelector("h1").textContent`), "steps failed, in 2 of 3 sheets.")
	assert.Equal(t, "2", v.text(`document.querySelectorAll("#failures article").length`), "the same in three rows is told once")
	assert.Contains(t, v.text(`document.querySelector("#failures").innerText`), "3 rows: row 1 · <i>one</i>")
	assert.Contains(t, v.text(`document.querySelector("#failures").innerText`),
		"n\nexpected under 5, got 12345678901234567890.10")
	assert.Equal(t, "0", v.text(`document.querySelectorAll("img, article b b, .row i, u").length`),
		"no markup of others")
	// The plots say what they show, in which units.
	for _, words := range []string{
		"Exchanges over the run", "since the start (s)", "time (ms)", "Times of times",
		"percentile (%)", "|90|", "failed",
	} {
		assert.Contains(t, v.text(`[...document.querySelectorAll("svg text")].map(e => e.textContent).join("|")`),
			words)
	}
	v.looked("report-light.png", true)
	v.accessible()

	// A failure is opened from its line at the head.
	v.do(clicked("#failures article h3 a"), until(`document.querySelector(".step .detail pre")`))
	detail := v.text(`document.querySelector(".step .detail").innerText`)
	assert.Contains(t, detail, "GET "+server.URL+"/again")
	assert.Contains(t, detail, `<img src=x onerror=`)
	assert.Contains(t, detail, "12345678901234567890.10")
	assert.Contains(t, detail, "waiting")
	assert.Equal(t, "0", v.text(`document.querySelectorAll("img").length`))
	v.looked("report-open.png", false)
	v.accessible()
	// Opened again by its button, it shuts.
	v.do(chromedp.KeyEvent(kb.Enter), until(`!document.querySelector(".step .detail")`))

	// Search finds what stands in bodies, written as it is; a filter takes away what passed.
	v.do(typed("#find", `<IMG SRC=x`), until(`document.getElementById("shown").textContent.startsWith("6 of ")`),
		typed("#find", "L-2208"), until(`document.querySelectorAll(".step").length === 4`),
		clicked("#outcomes label.passed input"), until(`document.querySelectorAll(".step").length === 3`),
		clicked("#outcomes label.passed input"), typed("#find", ""), chosen("#sheet", "1"),
		until(`document.getElementById("shown").textContent.startsWith("80 of ")`), chosen("#sheet", ""))

	// By keyboard alone: over the head to the steps; and through a grid by the arrows.
	v.do(chromedp.Evaluate(`history.replaceState(null, "", location.pathname)`, nil), chromedp.Reload(),
		until(`document.querySelector(".step")`),
		chromedp.KeyEvent(kb.Tab), until(`document.activeElement.className === "skip"`), chromedp.KeyEvent(kb.Enter),
		until(`location.hash === "#steps"`),
		chromedp.Evaluate(`document.querySelector(".grid button").focus()`, nil), chromedp.KeyEvent(kb.ArrowRight),
		chromedp.KeyEvent(kb.ArrowDown))
	assert.Contains(t, v.text(`document.activeElement.getAttribute("aria-label")`), "say again, row 2")
	v.do(chromedp.KeyEvent(kb.Enter), until(`document.querySelector(".step .detail")`))
	assert.Contains(t, v.text(`document.activeElement.textContent`), "say again")
	assert.Equal(t, "true", v.text(`document.activeElement.getAttribute("aria-expanded")`))

	// In the dark, narrow, and on paper.
	v.dark(true)
	assert.Equal(t, "rgb(27, 26, 23)", v.text(`getComputedStyle(document.body).backgroundColor`))
	v.accessible()
	v.looked("report-dark.png", true)
	v.dark(false)
	v.do(emulation.SetDeviceMetricsOverride(390, 800, 1, true))
	assert.Equal(t, "true", v.text(`document.documentElement.scrollWidth <= 390`),
		v.text(`document.documentElement.scrollWidth`))
	v.looked("report-narrow.png", true)
	v.do(emulation.ClearDeviceMetricsOverride(), chromedp.ActionFunc(func(ctx context.Context) error {
		paper, _, err := cdppage.PrintToPDF().WithPrintBackground(true).Do(ctx)
		if dir := os.Getenv("TESTBENCH_PICTURES"); err == nil && dir != "" {
			err = os.WriteFile(filepath.Join(dir, "report.pdf"), paper, 0o644)
		}
		assert.True(t, strings.HasPrefix(string(paper), "%PDF-"))
		return err
	}))
	assert.NotEqual(t, "live", v.text(`document.title`))
	v.isClean(address)
}

// A page of ten thousand exchanges opens at once and can be searched.
func TestLargeReportInBrowser(t *testing.T) {
	t.Parallel()
	server := answering(t, "application/json", `{"n": 1, "text": "`+strings.Repeat("comb ", 60)+`"}`)
	p := newBench(t)
	p.write("bench.yaml", "bench: t\nsites:\n  local:\n    set:\n      base: "+server.URL+"\nservices: {}\n")
	p.write("sheets/test.yaml",
		`sheet: much
rows:
  numbers: 1 to 10000
  as: n
steps:
  - step: get
    request: GET ${base}/lot-${n}
    fields:
      n: equals ${n}
`)
	out, status := p.run("run", "sheets/test.yaml", "-jobs", "8", "-out", "r.html")
	require.Equal(t, 1, status, out)
	files := httpFiles(t, p.dir)
	v := newViewer(t)
	v.open(files + "/r.html")
	v.do(until(`document.querySelector(".step")`))
	opened := v.text(`Math.round(performance.getEntriesByType("navigation")[0].loadEventEnd)`)
	assert.Equal(t, "200", v.text(`document.querySelectorAll(".step").length`))
	began := time.Now()
	v.do(typed("#find", "lot-9876"), until(`document.getElementById("shown").textContent === "1 of 10000 steps"`))
	found := time.Since(began)
	v.do(clicked(".step button"), until(`document.querySelector(".detail pre")`))
	assert.Contains(t, v.text(`document.querySelector(".detail").innerText`), "/lot-9876")
	info, err := os.Stat(filepath.Join(p.dir, "r.html"))
	require.NoError(t, err)
	t.Logf("%d exchanges, %.1f MB: open after %s ms, found after %v", 10_000, float64(info.Size())/1e6, opened,
		found.Round(time.Millisecond))
	v.isClean(files)
}

// httpFiles offers the files of a folder on the loopback.
func httpFiles(t *testing.T, dir string) string {
	t.Helper()
	server := &http.Server{Handler: http.FileServer(http.Dir(dir)), ReadHeaderTimeout: time.Minute}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := "http://" + listener.Addr().String()
	go func() { _ = server.Serve(listener) }()
	t.Cleanup(func() { _ = server.Close() })
	return address
}

// The bridge's description is valid by a validator of others; its page can be read and
// tried by keyboard, in light and dark, and asks for nothing but the bridge.
func TestBridgePage(t *testing.T) {
	t.Parallel()
	p, _ := newDemo(t)
	issued, _ := p.run("bridge", "lab", "-issue-key", "page")
	key := strings.TrimSpace(issued)
	address := p.serving("bridge", "lab", "-listen", "127.0.0.1:0")
	described, err := http.Get(address + "/openapi.json")
	require.NoError(t, err)
	text, err := io.ReadAll(described.Body)
	require.NoError(t, err)
	_ = described.Body.Close()
	p.write("openapi.json", string(text))
	validated, err := exec.Command("node", "../../cmd/testbench/testdata/node/describes.mjs", ".",
		filepath.Join(p.dir, "openapi.json")).CombinedOutput()
	require.NoError(t, err, string(validated))

	v := newViewer(t)
	v.open(address)
	v.do(until(`document.querySelector("details")`))
	v.accessible()
	v.do(typed("#key", key), chromedp.KeyEvent(kb.Tab), chromedp.KeyEvent(kb.Enter),
		until(`document.querySelector("details[open]").id === "GradeLot"`))
	v.accessible()
	v.do(typed("#GradeLot textarea", `{"lot": "L-2201", "moisture": 17.40}`), chromedp.KeyEvent(kb.Tab),
		chromedp.KeyEvent(kb.Enter),
		until(`document.querySelector("#GradeLot output").textContent.startsWith("200")`))
	assert.Contains(t, v.text(`document.querySelector("#GradeLot pre").textContent`), `".": 17.40`)
	v.looked("bridge.png", false)
	v.do(typed("#GradeLot textarea", `{"lot": "<img src=x onerror=alert(1)>"}`), clicked("#GradeLot button"),
		until(`document.querySelector("#GradeLot output").textContent.startsWith("400")`))
	assert.Equal(t, "0", v.text(`document.querySelectorAll("img").length`))
	v.dark(true)
	v.accessible()
	v.mutex.Lock()
	v.wrong = slices.DeleteFunc(v.wrong, func(text string) bool { return strings.Contains(text, "400 (Bad Request)") })
	v.mutex.Unlock()
	v.isClean(address)
}

// In a real browser a page of another origin does not make the bridge act with the credentials of
// the bench: not by a form, not by a request without a body or with one of a simple kind, and not
// by one that has to be asked for first.
func TestBridgeAttacked(t *testing.T) {
	t.Parallel()
	p, _ := newDemo(t)
	address := p.serving("bridge", "lab", "-listen", "127.0.0.1:0", "-access-log", "access.log")
	p.write("attack/attack.html", `<!doctype html><title>attack</title><iframe name="out"></iframe>
<form id="plain" method="post" target="out" action="`+address+`/GradeLot"></form>
<form id="text" method="post" target="out" action="`+address+`/GradeLot" enctype="text/plain"><input name='{"lot": "L-2201", "moisture": 17, "x": "' value='"}'></form>
<script>
(async () => {
  const tries = [
    { method: "POST", mode: "no-cors" },
    { method: "POST", mode: "no-cors", body: '{"lot": "L-2201", "moisture": 17}' },
    { method: "POST", mode: "no-cors", body: new Blob(['{"lot": "L-2201", "moisture": 17}'], { type: "application/json" }) },
    { method: "POST", mode: "cors", credentials: "include", headers: { "Content-Type": "application/json" }, body: '{"lot": "L-2201", "moisture": 17}' },
    { method: "POST", mode: "no-cors", body: new URLSearchParams({ lot: "L-2201" }) },
  ];
  let told = "";
  for (const one of tries) {
    try { const answer = await fetch("`+address+`/GradeLot", one); told += answer.type === "opaque" ? "sent " : "read " + answer.status + " "; } catch { told += "refused "; }
  }
  navigator.sendBeacon("`+address+`/GradeLot", '{"lot": "L-2201", "moisture": 17}');
  document.getElementById("plain").submit();
  document.querySelector("iframe").onload = () => { document.querySelector("iframe").onload = () => { document.title = "over " + told; }; document.getElementById("text").submit(); };
})();
</script>`)
	v := newViewer(t)
	v.open(httpFiles(t, filepath.Join(p.dir, "attack")) + "/attack.html")
	v.do(until(`document.title.startsWith("over")`))
	assert.NotContains(t, v.text(`document.title`), "read")
	log := p.read("access.log")
	assert.GreaterOrEqual(t, strings.Count(log, `"path":"/GradeLot"`), 6, log)
	assert.NotContains(t, log, `"status":200`)
	assert.NotContains(t, log, `"status":400`, "it was not even read")
	assert.GreaterOrEqual(t, strings.Count(log, `"status":403`), 5, log)
}

// BenchmarkBridge holds calls through the bridge against the same SOAP calls without it,
// 32 at once.
func BenchmarkBridge(b *testing.B) {
	p, server := newDemo(b)
	address := p.serving("bridge", "lab", "-listen", "127.0.0.1:0", "-access-log", "access.log")
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 64}}
	for name, one := range map[string][3]string{
		"bridge": {address + "/GradeLot", "application/json", `{"lot": "L-2201", "moisture": 17.4}`},
		"direct": {
			"http://" + server.Address + "/lab", "text/xml",
			`<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><GradeLot xmlns="urn:heatherfold:lab"><lot>L-2201</lot><moisture>17.4</moisture></GradeLot></e:Body></e:Envelope>`,
		},
	} {
		b.Run(name, func(b *testing.B) {
			b.SetParallelism(16)
			b.RunParallel(func(pb *testing.PB) {
				for pb.Next() {
					r, err := http.NewRequest("POST", one[0], strings.NewReader(one[2]))
					if err != nil {
						b.Error(err)
						return
					}
					r.Header.Set("Content-Type", one[1])
					r.Header.Set("SOAPAction", `"urn:heatherfold:lab:GradeLot"`)
					answer, err := client.Do(r)
					if err != nil {
						b.Error(err)
						return
					}
					_, _ = io.Copy(io.Discard, answer.Body)
					_ = answer.Body.Close()
					if answer.StatusCode != 200 {
						b.Error(answer.Status)
						return
					}
				}
			})
		})
	}
}
