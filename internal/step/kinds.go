package step

import (
	"testbench/internal/mapping"
	"testbench/internal/sheet"
	"testbench/internal/yamlfile"
)

// Kinds are all kinds of steps, in the order in which they are listed.
var Kinds = []sheet.Kind{
	callKind, requestKind, followKind, setKind, calculateKind, pauseKind, groupKind, lookupKind, subSheetKind,
	listenKind, batchKind,
}

func init() { mapping.RegisterKeys("a step", sheet.StepKeys(Kinds)) }

// Keys that several kinds share.
var (
	anyStep  = mapping.KeysOf("step, about, when, skip, once, tags, stop, for each")
	ofAsking = mapping.KeysOf(
		"site, login, http, timeout, stream, answer as, redirects, headers, query, cookies, soap, action, "+
			"addressing, blocks, attach, body, text, file, bytes, form, parts, drop empty, pages, until, every, within, states, "+
			"again, undo, keep, expect, checks, fields, where, soft", anyStep)
)

// own is a key that reads the action of one kind.
func own[A sheet.Action](name, holds string,
	read func(r *mapping.Reader, s *sheet.Step, action A, n *yamlfile.Node),
) mapping.Key[sheet.Step] {
	return mapping.NewKey(name, holds, func(r *mapping.Reader, s *sheet.Step, n *yamlfile.Node) {
		read(r, s, s.Action.(A), n) // it was made by the kind that has the key
	})
}

// Mappings are the keys of the mappings that kinds have.
func Mappings() map[string][]string {
	return map[string][]string{"listen": mapping.KeyNames(listenKeys)}
}
