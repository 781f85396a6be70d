package xmlstream

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"testing"
)

// lots writes a document of about size bytes, of the kind that services answer.
func lots(size int) []byte {
	var out bytes.Buffer
	out.WriteString(`<?xml version="1.0" encoding="UTF-8"?>` + "\n" +
		`<h:lots xmlns:h="urn:heatherfold:lots" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance">` + "\n")
	for i := 0; out.Len() < size; i++ {
		fmt.Fprintf(&out, `  <h:lot id="L-%07d" depot="north">
    <h:keeper>Beekeeper No. %d &amp; daughters</h:keeper>
    <h:moisture unit="percent">%d.%d</h:moisture>
    <h:delivered>2026-%02d-%02dT08:30:00Z</h:delivered>
    <h:remark xsi:nil="true"/>
  </h:lot>
`, i, i%977, 15+i%6, i%10, 1+i%12, 1+i%28)
	}
	out.WriteString("</h:lots>\n")
	return out.Bytes()
}

func BenchmarkReader(b *testing.B) {
	data := lots(5 << 20)
	b.SetBytes(int64(len(data)))
	b.ReportAllocs()
	for b.Loop() {
		r := NewReader(bytes.NewReader(data), Options{})
		for {
			if _, err := r.Next(); err == io.EOF {
				break
			} else if err != nil {
				b.Fatal(err)
			}
		}
	}
}

// The standard library's reader on the same document, to compare with.
func BenchmarkEncodingXML(b *testing.B) {
	data := lots(5 << 20)
	b.SetBytes(int64(len(data)))
	for b.Loop() {
		d := xml.NewDecoder(bytes.NewReader(data))
		for {
			if _, err := d.Token(); err == io.EOF {
				break
			} else if err != nil {
				b.Fatal(err)
			}
		}
	}
}
