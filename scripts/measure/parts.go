//go:build unix

package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"
)

// part runs what is measured in a process of its own: servers, and clients as one would
// write them by hand.
func part(args []string) error {
	switch {
	case len(args) == 3 && args[0] == "serve":
		return serve(args[1], args[2])
	case len(args) == 4 && args[0] == "client":
		return client(args[1], args[2], args[3], askLot)
	case len(args) == 4 && args[0] == "soap-client":
		return client(args[1], args[2], args[3], askGrade)
	case len(args) == 2 && args[0] == "judge":
		return judge(args[1])
	}
	return errors.New("go run ./scripts/measure takes -into FILE or nothing")
}

// serve answers with a lot, a grade or a file, after so much time.
func serve(took, dir string) error {
	pause, err := time.ParseDuration(took)
	if err != nil {
		return err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	fmt.Println(listener.Addr())
	files := http.FileServer(http.Dir(dir))
	return http.Serve(listener, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		time.Sleep(pause)
		switch {
		case strings.HasPrefix(r.URL.Path, "/files/"):
			r.URL.Path = strings.TrimPrefix(r.URL.Path, "/files")
			files.ServeHTTP(w, r)
		case r.URL.Path == "/lab":
			_, _ = io.Copy(io.Discard, r.Body)
			w.Header().Set("Content-Type", "text/xml; charset=utf-8")
			_, _ = io.WriteString(w, gradeAnswer)
		default:
			w.Header().Set("Content-Type", "application/json")
			_, _ = fmt.Fprintf(w, `{"lot": %q, "grade": "A", "moisture": 17.2, "depot": "north",
 "keeper": {"name": "Bryony Marl", "number": "K-14"},`+
				` "measures": [{"name": "hmf", "value": 12.5}, {"name": "diastase", "value": 14.1}],
"on": "2026-11-23T08:30:00Z"}`, strings.TrimPrefix(r.URL.Path, "/lots/"))
		}
	}))
}

// client makes calls as one would write them by hand.
func client(address, calls, jobs string, ask func(c *http.Client, address string, n int) bool) error {
	count, err := strconv.Atoi(calls)
	if err != nil {
		return err
	}
	workers, err := strconv.Atoi(jobs)
	if err != nil {
		return err
	}
	c := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: workers}}
	numbers := make(chan int)
	var group sync.WaitGroup
	var mutex sync.Mutex
	wrong := 0
	for range workers {
		group.Add(1)
		go func() {
			defer group.Done()
			for n := range numbers {
				if !ask(c, address, n) {
					mutex.Lock()
					wrong++
					mutex.Unlock()
				}
			}
		}()
	}
	for n := 1; n <= count; n++ {
		numbers <- n
	}
	close(numbers)
	group.Wait()
	if wrong > 0 {
		return fmt.Errorf("%d of %d calls went wrong", wrong, count)
	}
	return nil
}

// lot is what both clients read and compare.
type lot struct {
	Lot, Grade, Depot string
	Moisture          float64
	Keeper            struct{ Name string }
}

func askLot(c *http.Client, address string, n int) bool {
	id := "L-" + strconv.Itoa(n)
	answer, err := c.Get("http://" + address + "/lots/" + id)
	if err != nil {
		return false
	}
	defer func() { _ = answer.Body.Close() }()
	data, err := io.ReadAll(answer.Body)
	var got lot
	return err == nil && json.Unmarshal(data, &got) == nil && answer.StatusCode == http.StatusOK &&
		got.Lot == id && got.Grade == "A" && got.Moisture < 20 && got.Depot == "north" &&
		got.Keeper.Name == "Bryony Marl"
}

const gradeAnswer = `<soap:Envelope xmlns:soap="http://schemas.xmlsoap.org/soap/envelope/"><soap:Body>
<GradeLotResponse xmlns="urn:heatherfold:lab"><lot>L-2201</lot><grade>A</grade>
<gradedAt>2026-11-26T08:30:00Z</gradedAt><measures><measure name="moisture" unit="%">17</measure></measures>
</GradeLotResponse></soap:Body></soap:Envelope>`

type gradeRequest struct {
	XMLName xml.Name `xml:"http://schemas.xmlsoap.org/soap/envelope/ Envelope"`
	Body    struct {
		Grade struct {
			XMLName  xml.Name `xml:"urn:heatherfold:lab GradeLot"`
			Lot      string   `xml:"lot"`
			Moisture float64  `xml:"moisture"`
		}
	} `xml:"http://schemas.xmlsoap.org/soap/envelope/ Body"`
}

type gradeReply struct {
	Body struct {
		Grade struct {
			Lot      string `xml:"lot"`
			Grade    string `xml:"grade"`
			GradedAt string `xml:"gradedAt"`
		} `xml:"urn:heatherfold:lab GradeLotResponse"`
	} `xml:"http://schemas.xmlsoap.org/soap/envelope/ Body"`
}

func askGrade(c *http.Client, address string, _ int) bool {
	var asked gradeRequest
	asked.Body.Grade.Lot, asked.Body.Grade.Moisture = "L-2201", 17
	body, err := xml.Marshal(asked)
	if err != nil {
		return false
	}
	r, err := http.NewRequest(http.MethodPost, "http://"+address+"/lab", bytes.NewReader(body))
	if err != nil {
		return false
	}
	r.Header.Set("Content-Type", "text/xml; charset=utf-8")
	r.Header.Set("SOAPAction", `"urn:heatherfold:lab:GradeLot"`)
	answer, err := c.Do(r)
	if err != nil {
		return false
	}
	defer func() { _ = answer.Body.Close() }()
	data, err := io.ReadAll(answer.Body)
	var got gradeReply
	return err == nil && xml.Unmarshal(data, &got) == nil && got.Body.Grade.Lot == "L-2201" &&
		got.Body.Grade.Grade == "A" && got.Body.Grade.GradedAt == "2026-11-26T08:30:00Z"
}

// judged are the paths that are judged in a large answer: the elements, and a field of each.
func judged(lots int) (indexes []int) {
	for i := range 20 {
		indexes = append(indexes, i*(lots/20))
	}
	return indexes
}

// judge reads a large answer as one would by hand, and compares twenty fields.
func judge(address string) error {
	answer, err := http.Get(address)
	if err != nil {
		return err
	}
	defer func() { _ = answer.Body.Close() }()
	data, err := io.ReadAll(answer.Body)
	if err != nil {
		return err
	}
	var got any
	if err := json.Unmarshal(data, &got); err != nil {
		return err
	}
	root, _ := got.(map[string]any)
	lots, _ := root["lots"].([]any)
	for _, i := range judged(len(lots)) {
		one, _ := lots[i].(map[string]any)
		if one["id"] != lotName(i) {
			return fmt.Errorf("lot %d is %v", i, one["id"])
		}
	}
	return nil
}

func lotName(i int) string { return fmt.Sprintf("L-%07d", i) }

// files writes what large measurements read: little of it, and ten times as much.
func (m *measuring) files() error {
	for name, lots := range map[string]int{"little": littleLots, "much": 10 * littleLots} {
		if err := m.write(name+".xml", func(w io.Writer) {
			_, _ = io.WriteString(w,
				`<?xml version="1.0" encoding="UTF-8"?>`+"\n"+`<lots xmlns="urn:heatherfold:measured">`+"\n")
			for i := range lots {
				_, _ = fmt.Fprintf(w,
					"  <lot id=%q><keeper>Keeper %d of the "+
						"moor</keeper><grade>%s</grade><moisture>%.2f</moisture><on>2026-11-%02d</on>"+
						"<kilos>%d.50</kilos><note>a note of some length &amp; more</note></lot>\n",
					lotName(i), i%97, []string{"A", "B", "C"}[i%3], 14+float64(i%60)/10, 1+i%28, 10+i%90)
			}
			_, _ = io.WriteString(w, "</lots>\n")
		}); err != nil {
			return err
		}
		if err := m.write(name+".json", func(w io.Writer) {
			_, _ = io.WriteString(w, `{"lots": [`)
			for i := range lots {
				if i > 0 {
					_, _ = io.WriteString(w, ",\n")
				}
				_, _ = fmt.Fprintf(w, `{"id": %q, "keeper": {"name": "Keeper %d of the moor", "number": "K-%d"},
"grade": "%s", "moisture": %.2f, "on": "2026-11-%02d", "kilos": %d.5, "sold": %t, "note": "a note of some length"}`,
					lotName(i), i%97, i%97, []string{"A", "B", "C"}[i%3], 14+float64(i%60)/10, 1+i%28, 10+i%90,
					i%2 == 0)
			}
			_, _ = io.WriteString(w, "]}\n")
		}); err != nil {
			return err
		}
	}
	return m.write("lots.xsd", func(w io.Writer) {
		_, _ = io.WriteString(w, `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:heatherfold:measured" elementFormDefault="qualified">
<xs:element name="lots"><xs:complexType><xs:sequence><xs:element name="lot" maxOccurs="unbounded"><xs:complexType>
<xs:sequence>
<xs:element name="keeper"><xs:simpleType><xs:restriction base="xs:string"><xs:maxLength value="60"/></xs:restriction>
</xs:simpleType></xs:element>
<xs:element name="grade"><xs:simpleType><xs:restriction base="xs:string"><xs:enumeration value="A"/>
<xs:enumeration value="B"/><xs:enumeration value="C"/></xs:restriction></xs:simpleType></xs:element>
<xs:element name="moisture"><xs:simpleType><xs:restriction base="xs:decimal"><xs:minInclusive value="10"/>
<xs:maxInclusive value="30"/><xs:fractionDigits value="2"/></xs:restriction></xs:simpleType></xs:element>
<xs:element name="on" type="xs:date"/><xs:element name="kilos" type="xs:decimal"/>
<xs:element name="note" type="xs:string" minOccurs="0"/>
</xs:sequence><xs:attribute name="id" use="required"><xs:simpleType><xs:restriction base="xs:string">
<xs:pattern value="L-[0-9]{7}"/></xs:restriction></xs:simpleType></xs:attribute></xs:complexType></xs:element>
</xs:sequence></xs:complexType></xs:element></xs:schema>
`)
	})
}

// littleLots are about 5 MB.
const littleLots = 21_500

// write writes a file bit by bit: what this process holds is counted with its children's.
func (m *measuring) write(name string, fill func(io.Writer)) error {
	file, err := os.Create(filepath.Join(m.dir, name))
	if err != nil {
		return err
	}
	buffered := bufio.NewWriter(file)
	fill(buffered)
	return errors.Join(buffered.Flush(), file.Close())
}
