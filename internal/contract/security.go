package contract

import (
	"strings"

	"testbench/internal/yamlfile"
)

// Security is what a contract says of how to get in, at one place of it.
type Security struct {
	Where  string   // a port or a scheme
	Says   []string // what is asked for, in words
	Logins []Login  // that would do, to be pasted
}

// Login is a login as a bench file would have it.
type Login struct {
	Name     string
	Kind     string
	Settings []Setting
	// Remark says what the contract leaves open; empty for nothing.
	Remark string
}

// Setting is one setting of a login: a text, or a list, or settings of its own.
type Setting struct {
	Name     string
	Text     string
	List     []string
	Settings []Setting
}

// YAML writes the logins as they go below logins: of a bench file.
func YAML(logins []Login) string {
	var out strings.Builder
	for _, l := range logins {
		out.WriteString("  " + yamlfile.ScalarText(l.Name) + ":\n    kind: " + l.Kind + "\n")
		if l.Remark != "" {
			out.WriteString("    # " + l.Remark + "\n")
		}
		writeSettings(&out, l.Settings, "    ")
	}
	return out.String()
}

func writeSettings(out *strings.Builder, settings []Setting, lead string) {
	for _, s := range settings {
		out.WriteString(lead + s.Name + ":")
		switch {
		case s.Settings != nil:
			out.WriteString("\n")
			writeSettings(out, s.Settings, lead+"  ")
		case s.List != nil:
			out.WriteString("\n")
			for _, item := range s.List {
				out.WriteString(lead + "  - " + yamlfile.ScalarText(item) + "\n")
			}
		case strings.HasPrefix(s.Text, "${"):
			out.WriteString(" " + s.Text + "\n")
		default:
			out.WriteString(" " + yamlfile.ScalarText(s.Text) + "\n")
		}
	}
}
