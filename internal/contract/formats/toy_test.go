package formats

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/contract"
	"testbench/internal/document"
)

// honeyList is a made-up format: a line with its name and the address of the service, then
// one with each method and path. Such a format is a type with three methods and a line in All.
type honeyList struct {
	head  contract.Head
	lines []string
}

func (l *honeyList) Head() *contract.Head { return &l.head }

func (l *honeyList) Names() []string {
	var names []string
	for _, line := range l.lines {
		names = append(names, strings.Trim(line[strings.LastIndex(line, "/"):], "/"))
	}
	return names
}

func (l *honeyList) Operation(name string) (*contract.Endpoint, error) {
	for i, line := range l.lines {
		if method, path, _ := strings.Cut(line, " "); l.Names()[i] == name {
			return &contract.Endpoint{Name: name, Method: method, Path: path, Reads: method == "GET"}, nil
		}
	}
	return nil, nil
}

// A new format touches one folder: whatever calls, shows, drafts or simulates operations takes
// it as it takes the others.
func TestToyFormat(t *testing.T) {
	toy := Format{
		Is: func(d *Document) bool { return strings.HasPrefix(string(d.Data), "honey list ") },
		Read: func(d *Document, _ Fetch) (contract.Contract, error) {
			head, lines, _ := strings.Cut(strings.TrimSpace(string(d.Data)), "\n")
			address := strings.TrimPrefix(head, "honey list ")
			return contract.NewDescribed(&honeyList{contract.Head{
				Format: "honey list", Location: d.Location,
				Servers: []contract.Server{{Address: address}},
			}, strings.Split(lines, "\n")}), nil
		},
	}
	c, err := read(append([]Format{toy}, All...), "list.txt",
		[]byte("honey list http://h.example\nGET /lots\nPOST /intakes\n"), nil)
	require.NoError(t, err)
	assert.True(t, c.HasOperations())
	assert.Equal(t, []string{"lots", "intakes"}, c.Names(contract.Binding{}))
	assert.Equal(t, "http://h.example", c.Address(contract.Binding{}))
	assert.Equal(t, []string{"POST", "/intakes"}, c.Overview().Operations[1].Cells)
	op, err := c.Operation("intakes", contract.Binding{})
	require.NoError(t, err)
	assert.False(t, op.Facts().Reads)
	built, problems := op.Build(document.NewObject().Set("lot", document.NewText("L-1")), contract.BuildOptions{})
	require.Empty(t, problems)
	assert.Equal(t, "POST /intakes", built.Line())
	assert.Equal(t, `{"lot":"L-1"}`, document.WriteJSON(built.Body, document.Style{}))
	drafted, err := op.Draft(contract.DraftOptions{As: "step", Target: "list/intakes"})
	require.NoError(t, err)
	assert.Contains(t, drafted.Text, "call: list/intakes")
	assert.Equal(t, []string{"intakes", "POST /intakes"}, op.Outline(0).Title)
	none, err := c.Operation("other", contract.Binding{})
	require.NoError(t, err)
	assert.Nil(t, none)
	_, err = read(All, "list.txt", []byte("honey list"), nil)
	assert.Error(t, err, "nobody else knows it")
}
