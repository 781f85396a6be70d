package document

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"slices"
	"strings"
)

// mostParts bounds the parts of a multipart body, and their nesting.
const (
	mostParts   = 1_000
	mostNesting = 5
)

// ReadMultipart reads a multipart body (RFC 2046, 5.1) as a list of its parts: name,
// file, type, size, sha256, headers and content, which is read as its type says.
func ReadMultipart(contentType string, data []byte) (*Node, error) {
	return readMultipart(contentType, data, 0)
}

func readMultipart(contentType string, data []byte, depth int) (*Node, error) {
	_, parameters, err := mime.ParseMediaType(contentType)
	if err != nil || parameters["boundary"] == "" {
		return nil, &Error{Format: string(Multipart), Line: 1, Column: 1, Message: "its content type names no boundary"}
	}
	reader := multipart.NewReader(bufio.NewReader(bytes.NewReader(data)), parameters["boundary"])
	list := NewList()
	for {
		part, err := reader.NextRawPart()
		if err == io.EOF {
			return list, nil
		}
		if err != nil {
			return nil, &Error{Format: string(Multipart), Line: 1, Column: 1, Message: err.Error()}
		}
		if len(list.Items()) == mostParts {
			return nil, &Error{
				Format: string(Multipart), Line: 1, Column: 1,
				Message: fmt.Sprintf("it has more than %d parts", mostParts),
			}
		}
		content, err := io.ReadAll(part)
		if err != nil {
			return nil, &Error{Format: string(Multipart), Line: 1, Column: 1, Message: err.Error()}
		}
		list.AppendItems(partNode(part, content, depth))
	}
}

func partNode(part *multipart.Part, content []byte, depth int) *Node {
	switch strings.ToLower(part.Header.Get("Content-Transfer-Encoding")) {
	case "base64":
		if decoded, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(string(content)),
			"")); err == nil {
			content = decoded
		}
	case "quoted-printable":
		if decoded, err := io.ReadAll(quotedprintable.NewReader(bytes.NewReader(content))); err == nil {
			content = decoded
		}
	}
	sum := sha256.Sum256(content)
	mediaType := part.Header.Get("Content-Type")
	node := NewObject()
	if name := part.FormName(); name != "" {
		node.Set("name", NewUntyped(name))
	}
	if file := part.FileName(); file != "" {
		node.Set("file", NewUntyped(file))
	}
	node.Set("type", NewUntyped(mediaType)).Set("size", NewNumber(itoa(len(content)))).Set("sha256",
		NewUntyped(hex.EncodeToString(sum[:])))
	headers := NewFields()
	headers.Object().FoldCase = true
	names := make([]string, 0, len(part.Header))
	for name := range part.Header {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		for _, v := range part.Header[name] {
			headers.Append(name, NewUntyped(v))
		}
	}
	node.Set("headers", headers.Object())
	if mediaType == "" {
		mediaType = "text/plain" // RFC 2046, 5.1
	}
	format := FormatOf(mediaType, content)
	var inner *Node
	var err error
	switch {
	case format == Multipart && depth < mostNesting:
		inner, err = readMultipart(mediaType, content, depth+1)
	case format != Multipart:
		inner, err = ReadAs(format, mediaType, content)
	}
	if inner == nil || err != nil {
		inner = NewUntyped(strings.ToValidUTF8(string(content), "\ufffd"))
	}
	return node.Set("content", inner)
}
