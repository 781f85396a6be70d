package report

import (
	"path/filepath"
	"strings"

	"testbench/internal/document"
	"testbench/internal/history"
	"testbench/internal/secret"
)

// leaves are the formats in which exchanges leave the machine whole.
var leaves = map[string]bool{".har": true, ".html": true}

// MasksReceived says whether a report under the name masks what Options.Full shows.
func MasksReceived(name string) bool {
	return leaves[strings.ToLower(filepath.Ext(name))] || isResults(name)
}

// received knows what looks like a credential in the exchanges of a run: cookies and tokens
// that no login took care of.
func received(run history.Finished) (*secret.Masker, error) {
	m := &secret.Masker{}
	hide := func(headers map[string][]secret.Text, mediaType string, body secret.Text) {
		plain := make(map[string][]string, len(headers))
		for name, values := range headers {
			for _, v := range values {
				plain[name] = append(plain[name], string(v))
			}
		}
		root, _, err := document.Read(mediaType, []byte(body))
		if err != nil {
			root = nil
		}
		for _, text := range secret.Credentials(plain, root) {
			m.Hide(text)
		}
	}
	for i := range run.Run().Sheets {
		for row, err := range run.Rows(i) {
			if err != nil {
				return nil, err
			}
			for _, step := range row.Steps {
				kept := document.NewObject()
				for name, value := range step.Values {
					kept.Set(name, document.NewText(string(value)))
				}
				for _, text := range secret.Credentials(nil, kept) {
					m.Hide(text)
				}
				for _, exchanges := range [][]history.Exchange{step.Exchanges, step.Logins} {
					for _, e := range exchanges {
						if e.Request != nil {
							hide(e.Request.Headers, e.Request.MediaType(), e.Request.Body)
						}
						hide(e.Headers, e.MediaType(), e.Body)
					}
				}
			}
		}
	}
	return m, nil
}
