package document

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"image"
	_ "image/gif" // the formats of pictures that services send
	_ "image/jpeg"
	_ "image/png"
	"strconv"
	"strings"
)

// mostListed bounds how many files of an archive are listed.
const mostListed = 10_000

// Media tells what is in a picture (image: width and height) or in a ZIP archive (files: each with name and size),
// which is unpacked nowhere. It is nil for all else, and for what is damaged.
func Media(data []byte) *Node {
	if config, _, err := image.DecodeConfig(bytes.NewReader(data)); err == nil {
		size := NewObject().Set("width", NewNumber(strconv.Itoa(config.Width))).
			Set("height", NewNumber(strconv.Itoa(config.Height)))
		return NewObject().Set("image", size)
	}
	if !bytes.HasPrefix(data, []byte("PK")) {
		return nil
	}
	archive, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) { // names are shown, and lead nowhere
		return nil
	}
	files := NewList()
	for _, f := range archive.File[:min(len(archive.File), mostListed)] {
		files.AppendItems(NewObject().Set("name", NewText(strings.ToValidUTF8(f.Name, "\ufffd"))).
			Set("size", NewNumber(strconv.FormatUint(f.UncompressedSize64, 10))))
	}
	return NewObject().Set("files", files)
}

// MediaWords describe what Media tells, in a few words; "" for nil.
func MediaWords(media *Node) string {
	if size := media.Get("image"); size != nil {
		return size.Get("width").Text + " by " + size.Get("height").Text + " pixels"
	}
	files := media.Get("files")
	if files == nil {
		return ""
	}
	const shown = 5
	var names []string
	for _, f := range files.Items()[:min(len(files.Items()), shown)] {
		names = append(names, f.Get("name").Text)
	}
	words := fmt.Sprintf("%d files: %s", len(files.Items()), strings.Join(names, ", "))
	if len(files.Items()) == 1 {
		words = "1 file: " + names[0]
	}
	if len(files.Items()) > shown {
		words += ", …"
	}
	return words
}
