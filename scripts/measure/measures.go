//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
)

func (m *measuring) startUp() error {
	if err := m.against("start, and end", "an empty Go program", 21, command{m.empty},
		command{m.program, "version"}); err != nil {
		return err
	}
	if err := m.bench("127.0.0.1:1"); err != nil {
		return err
	}
	return m.against("a call prepared, and shown, that is not sent", "an empty Go program", 21, command{m.empty},
		command{m.program, "call", "stores/lot", "id=L-1", "-dry"})
}

// serving runs a server while something is measured.
func (m *measuring) serving(pause string, measure func(address string) error) error {
	server := exec.Command(m.self, "serve", pause, m.dir)
	out, err := server.StdoutPipe()
	if err != nil {
		return err
	}
	if err := server.Start(); err != nil {
		return err
	}
	defer func() {
		_ = server.Process.Kill()
		_ = server.Wait()
	}()
	var address string
	if _, err = fmt.Fscanln(out, &address); err != nil {
		return err
	}
	if err := m.bench(address); err != nil {
		return err
	}
	return measure(address)
}

const callsSheet = `sheet: calls
rows: {numbers: 1 to ROWS, as: n}
steps:
  - step: lot
    call: stores/lot
    fill: {id: 'L-${n}'}
    fields:
      lot: L-${n}
      grade: A
      moisture: under 20
      depot: north
      keeper.name: Bryony Marl
`

const soapSheet = `sheet: soap
rows: {numbers: 1 to ROWS, as: n}
steps:
  - step: grade
    call: lab/GradeLot
    fill: {lot: L-2201, moisture: 17}
    fields:
      lot: L-2201
      grade: A
      gradedAt: 2026-11-26T08:30:00Z
`

// bench writes a bench for a server.
func (m *measuring) bench(address string) error {
	files := map[string]string{"bench.yaml": `bench: measured
sites:
  local:
    set:
      base: http://` + address + `
services:
  stores:
    address: ${base}
    operations:
      lot:
        request: GET /lots/{id}
  lab:
    contract: lab.wsdl
    address: ${base}/lab
`, "quiet.yaml": "sheet: quiet\nrows: rows.csv\nsteps:\n  - step: set\n    set: {lot: '${row.lot}-${row.n}'}\n"}
	for _, rows := range []int{1_000, 3_000, 10_000} {
		files[fmt.Sprintf("calls-%d.yaml", rows)] = strings.Replace(callsSheet, "ROWS", strconv.Itoa(rows), 1)
		files[fmt.Sprintf("soap-%d.yaml", rows)] = strings.Replace(soapSheet, "ROWS", strconv.Itoa(rows), 1)
	}
	for _, size := range []string{"little", "much"} {
		lots := littleLots
		if size == "much" {
			lots *= 10
		}
		inJSON, inXML := "", ""
		for _, i := range judged(lots) {
			inJSON += fmt.Sprintf("      lots[%d].id: %s\n", i, lotName(i))
			inXML += fmt.Sprintf("      lot[%d].@id: %s\n", i, lotName(i))
		}
		files["json-"+size+".yaml"] = "sheet: json\nsteps:\n  - step: read\n    request: GET ${base}/files/" + size +
			".json\n    fields:\n" + inJSON
		files["xml-"+size+".yaml"] = "sheet: xml\nsteps:\n  - step: read\n    request: GET ${base}/files/" + size +
			".xml\n    fields:\n" + inXML
	}
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(m.dir, name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	for _, name := range []string{"lab.wsdl", "lab.xsd"} {
		data, err := os.ReadFile(filepath.Join("internal", "standin", "demo", name))
		if err != nil {
			return err
		}
		text := strings.NewReplacer("@BASE@", "http://"+address, `schemaLocation="`+"http://"+address+`/lab?xsd"`,
			`schemaLocation="lab.xsd"`).Replace(string(data))
		text = strings.ReplaceAll(text, "http://"+address+"/lab?xsd", "lab.xsd")
		if err := os.WriteFile(filepath.Join(m.dir, name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	return nil
}

func (m *measuring) calls() error {
	for _, c := range []struct {
		pause string
		rows  int
		jobs  []string
	}{
		{"0s", 10_000, []string{"1", "16"}}, {"1ms", 3_000, []string{"1", "16"}}, {"5ms", 1_000, []string{"1", "16"}},
		{"50ms", 10_000, []string{"64"}},
	} {
		if err := m.serving(c.pause, func(address string) error {
			for _, jobs := range c.jobs {
				what := fmt.Sprintf("%d calls, %s at once, to a server that takes %s", c.rows, jobs,
					strings.Replace(c.pause, "0s", "no time", 1))
				if err := m.against(what, "a client by hand", 5,
					command{m.self, "client", address, strconv.Itoa(c.rows), jobs},
					command{m.program, "run", fmt.Sprintf("calls-%d.yaml", c.rows), "-jobs", jobs}); err != nil {
					return err
				}
			}
			if c.pause != "0s" {
				return nil
			}
			return m.grown("1,000 calls, one after the other", command{m.program, "run", "calls-1000.yaml"},
				command{m.program, "run", "calls-10000.yaml"})
		}); err != nil {
			return err
		}
	}
	return nil
}

func (m *measuring) soap() error {
	return m.serving("0s", func(address string) error {
		if err := m.against("3,000 SOAP calls by contract, answers checked against the schema",
			"encoding/xml by hand, no schema", 5,
			command{m.self, "soap-client", address, "3000", "1"},
			command{m.program, "run", "soap-3000.yaml"}); err != nil {
			return err
		}
		return m.grown("1,000 SOAP calls by contract", command{m.program, "run", "soap-1000.yaml"},
			command{m.program, "run", "soap-10000.yaml"})
	})
}

func (m *measuring) validating() error {
	if err := m.files(); err != nil {
		return err
	}
	if err := m.against("50 MB of XML checked against a schema", "xmllint --stream --schema (libxml2)", 5,
		command{"xmllint", "--stream", "--noout", "--schema", "lots.xsd", "much.xml"},
		command{m.program, "validate", "lots.xsd", "much.xml"}); err != nil {
		return err
	}
	return m.grown("5 MB of XML checked against a schema", command{m.program, "validate", "lots.xsd", "little.xml"},
		command{m.program, "validate", "lots.xsd", "much.xml"})
}

// contracts loads large contracts. libxml2 knows no WSDL: it reads the schema of the same.
func (m *measuring) contracts() error {
	for name, operations := range map[string]int{"little": 150, "much": 1500} {
		var schema, messages, port, binding strings.Builder
		for i := range operations {
			fmt.Fprintf(&schema, `<xs:complexType name="T%d"><xs:sequence><xs:element name="a" type="xs:string"/>
<xs:element name="b" type="xs:int" minOccurs="0" maxOccurs="unbounded"/><xs:element name="c" type="xs:date"/>
</xs:sequence></xs:complexType><xs:element name="Op%d" type="t:T%d"/>
<xs:element name="Op%dResponse" type="t:T%d"/>`+"\n", i, i, i, i, i)
			fmt.Fprintf(&messages, `<message name="In%d"><part name="p" element="t:Op%d"/></message>
<message name="Out%d"><part name="p" element="t:Op%dResponse"/></message>`+"\n", i, i, i, i)
			fmt.Fprintf(&port, `<operation name="Op%d"><input message="t:In%d"/><output message="t:Out%d"/>
</operation>`+
				"\n", i, i, i)
			fmt.Fprintf(&binding, `<operation name="Op%d"><soap:operation soapAction="urn:t:Op%d"/><input>
<soap:body use="literal"/></input><output><soap:body use="literal"/></output></operation>`+"\n", i, i)
		}
		own := `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:t="urn:t" targetNamespace="urn:t" elementFormDefault="qualified">` + "\n" + schema.String() + `</xs:schema>`
		whole := `<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:soap="http://schemas.xmlsoap.org/wsdl/soap/" xmlns:t="urn:t" targetNamespace="urn:t"><types>` + own + `</types>` + messages.String() +
			`<portType name="P">` + port.String() +
			`</portType><binding name="B" type="t:P"><soap:binding transport="http://schemas.xmlsoap.org/soap/http"/>` +
			binding.String() + `</binding><service name="S"><port name="SP" binding="t:B">
<soap:address location="http://127.0.0.1/"/></port></service></definitions>`
		payload := `<Op7 xmlns="urn:t"><a>x</a><c>2026-11-26</c></Op7>`
		for file, text := range map[string]string{
			name + ".wsdl": whole, name + "-types.xsd": own,
			"payload.xml": payload,
			"message.xml": `<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body>` + payload +
				`</e:Body></e:Envelope>`,
		} {
			if err := m.write(file, func(w io.Writer) { _, _ = io.WriteString(w, text) }); err != nil {
				return err
			}
		}
	}
	if err := m.against("a WSDL of 1,500 operations loaded, and a message checked against it",
		"xmllint --schema with its schema alone (libxml2)", 9,
		command{"xmllint", "--noout", "--schema", "much-types.xsd", "payload.xml"},
		command{m.program, "validate", "much.wsdl", "message.xml"}); err != nil {
		return err
	}
	if err := m.against("the schema of that WSDL alone loaded, and a document checked against it",
		"xmllint --schema (libxml2)", 9,
		command{"xmllint", "--noout", "--schema", "much-types.xsd", "payload.xml"},
		command{m.program, "validate", "much-types.xsd", "payload.xml"}); err != nil {
		return err
	}
	if err := m.against("all operations of that WSDL listed", "an empty Go program", 9, command{m.empty},
		command{m.program, "survey", "much.wsdl"}); err != nil {
		return err
	}
	return m.grown("a WSDL of 150 operations loaded", command{m.program, "validate", "little.wsdl", "message.xml"},
		command{m.program, "validate", "much.wsdl", "message.xml"})
}

func (m *measuring) judging() error {
	return m.serving("0s", func(address string) error {
		if err := m.against("50 MB of JSON fetched, 20 paths judged", "encoding/json by hand", 5,
			command{m.self, "judge", "http://" + address + "/files/much.json"},
			command{m.program, "run", "json-much.yaml"}); err != nil {
			return err
		}
		if err := m.grown("5 MB of JSON fetched, 20 paths judged", command{m.program, "run", "json-little.yaml"},
			command{m.program, "run", "json-much.yaml"}); err != nil {
			return err
		}
		var paths []string
		for _, i := range judged(10 * littleLots) {
			paths = append(paths, fmt.Sprintf(`string(/*/*[%d]/@id)`, i+1))
		}
		if err := m.against("50 MB of XML fetched, 20 paths judged", "curl and xmllint --xpath (libxml2)", 5,
			command{"sh", "-c", "curl -s http://" + address +
				"/files/much.xml -o fetched.xml && xmllint --huge --xpath \"concat(" + strings.Join(paths, ",") +
				")\" fetched.xml"}, command{m.program, "run", "xml-much.yaml"}); err != nil {
			return err
		}
		return m.grown("5 MB of XML fetched, 20 paths judged", command{m.program, "run", "xml-little.yaml"},
			command{m.program, "run", "xml-much.yaml"})
	})
}

// looking reads back what was recorded.
func (m *measuring) looking() error {
	return m.serving("0s", func(string) error {
		numbers := map[string]string{}
		for i, rows := range []string{"1000", "10000"} {
			if _, err := m.once(command{m.program, "run", "calls-" + rows + ".yaml", "-jobs", "4"}); err != nil {
				return err
			}
			listed, err := m.output(command{m.program, "history", "-json"})
			if err != nil {
				return err
			}
			var runs []struct{ Number int }
			if err := json.Unmarshal([]byte(listed), &runs); err != nil || len(runs) == 0 {
				return fmt.Errorf("run %d is not in the history: %w", i, err)
			}
			numbers[rows] = strconv.Itoa(runs[0].Number)
		}
		if err := m.grown("the page of 1,000 recorded exchanges written",
			command{m.program, "report", numbers["1000"], "-out", "r.html"},
			command{m.program, "report", numbers["10000"], "-out", "r.html"}); err != nil {
			return err
		}
		if err := m.grown("1,000 recorded exchanges listed", command{m.program, "history", numbers["1000"]},
			command{m.program, "history", numbers["10000"]}); err != nil {
			return err
		}
		return m.grown("1,000 exchanges run, recorded and reported",
			command{m.program, "run", "calls-1000.yaml", "-jobs", "4", "-out", "r.html"},
			command{m.program, "run", "calls-10000.yaml", "-jobs", "4", "-out", "r.html"})
	})
}

// rows runs rows of CSV that send nothing.
func (m *measuring) rows() error {
	for name, rows := range map[string]int{"little": 10_000, "much": 100_000} {
		if err := m.write(name+".csv", func(w io.Writer) {
			_, _ = fmt.Fprintln(w, "lot,n,note")
			for n := range rows {
				_, _ = fmt.Fprintf(w, "L-%d,%d,a note of some length that is in each row\n", n, n)
			}
		}); err != nil {
			return err
		}
		if err := m.write("rows-"+name+".yaml", func(w io.Writer) {
			_, _ = fmt.Fprintf(w,
				"sheet: quiet\nrows: %s.csv\nsteps:\n  - step: set\n    set: {lot: '${row.lot}-${row.n}'}\n", name)
		}); err != nil {
			return err
		}
	}
	return m.grown("10,000 rows of CSV that send nothing", command{m.program, "run", "rows-little.yaml"},
		command{m.program, "run", "rows-much.yaml"})
}

// sizes run and vet files of many steps and many services.
func (m *measuring) sizes() error {
	for name, parts := range map[string]int{"little": 1, "much": 10} {
		if err := m.write("steps-"+name+".yaml", func(w io.Writer) {
			_, _ = fmt.Fprint(w, "sheet: steps\nsteps:\n")
			for n := range parts * 1_000 {
				_, _ = fmt.Fprintf(w,
					"  - step: s%[1]d\n    call: stores/lot\n    fill: {id: L-%[1]d}\n    fields: {lot: L-%[1]d}\n", n)
			}
		}); err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Join(m.dir, name), 0o755); err != nil {
			return err
		}
		if err := m.write(name+"/bench.yaml", func(w io.Writer) {
			_, _ = fmt.Fprint(w, "bench: many\nservices:\n")
			for n := range parts * 100 {
				_, _ = fmt.Fprintf(w, "  s%d:\n    address: http://127.0.0.1:1/s%d\n    operations:\n      lot:\n"+
					"        request: GET /lots/{id}\n", n, n)
			}
		}); err != nil {
			return err
		}
	}
	return m.serving("0s", func(string) error {
		if err := m.grown("a sheet of 1,000 steps", command{m.program, "run", "steps-little.yaml"},
			command{m.program, "run", "steps-much.yaml"}); err != nil {
			return err
		}
		return m.grown("a bench of 100 services vetted", command{m.program, "vet", "-bench", "little"},
			command{m.program, "vet", "-bench", "much"})
	})
}

// firstBuild builds the program where nothing was built before; its modules are there.
func (m *measuring) firstBuild() error {
	source, err := os.Getwd()
	if err != nil {
		return err
	}
	cache := filepath.Join(m.dir, "cache")
	defer func() { _ = os.RemoveAll(cache) }()
	build := func(what string) command {
		return command{"env", "CGO_ENABLED=0", "GOCACHE=" + filepath.Join(cache, what), "go", "build", "-C", source,
			"-o", filepath.Join(m.dir, what), "./" + what}
	}
	return m.against("the program built for the first time", "net/http and encoding/xml alone", 1,
		build("scripts/measure"), build("cmd/testbench"))
}
