package probing

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"testbench/internal/exchange"
	"testbench/internal/probe"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// StepText writes a wrong request as a step of a sheet. Spell writes texts of the request
// as a sheet has them, with its placeholders in.
func StepText(ctx context.Context, s *session.Session, p *Subject, c *probe.Case,
	spell func(string) string,
) (string, error) {
	if strings.ContainsFunc(string(c.Request.Body), isUnwritable) {
		return "", fmt.Errorf("the body cannot be written into a sheet")
	}
	var out strings.Builder
	line := func(indent int, key, text string) {
		fmt.Fprintf(&out, "%s%s: %s\n", strings.Repeat("  ", indent), key, text)
	}
	line(0, "step", yamlfile.ScalarText(Unfilled(string(c.Kind)+": "+c.Changed)))
	target := c.Request.Method + " " + c.Request.URL.String()
	if p.plan.Service != nil {
		if template, err := s.Address(ctx, p.plan.Service); err == nil {
			if base, err := template.Text(s.Scope(nil, nil), value.Address); err == nil {
				if rest, ok := strings.CutPrefix(c.Request.URL.String(), strings.TrimSuffix(base.Sent, "/")); ok &&
					(rest == "" || rest[0] == '/' || rest[0] == '?') {
					target = strings.TrimSpace(p.Service + " " + c.Request.Method + " " + rest)
				}
			}
		}
	}
	line(0, "request", yamlfile.ScalarText(spell(target)))
	if p.Target.SOAP != "" {
		line(0, "soap", sheet.SOAPOff)
	}
	switch l := c.Login; {
	case l != nil && l.None:
		line(0, "login", "none")
	case l != nil:
		out.WriteString("login:\n")
		line(1, "spoil", yamlfile.ScalarText(l.Login))
		line(1, "how", l.Way)
	case !strings.HasPrefix(target, p.Service+" ") && len(p.Target.Logins) > 0:
		var names []string
		for _, l := range p.Target.Logins {
			names = append(names, l.Name)
		}
		line(0, "login", "["+strings.Join(names, ", ")+"]")
	}
	headersText(&out, p.Target.Request, c.Request, spell)
	if len(c.Request.Body) > 0 {
		out.WriteString("text: " + blockText(spell(string(c.Request.Body))))
	}
	out.WriteString("expect:\n")
	if p.Target.SOAP != "" {
		line(1, "status", "4xx or 500") // SOAP 1.1 has faults with 500 only (6.2)
		if c.Kind != probe.Method && c.Kind != probe.Content {
			out.WriteString("  fault:\n    code: not one of Server or Receiver\n")
		}
	} else {
		line(1, "status", "4xx")
	}
	return out.String(), nil
}

// headersText writes header fields; those that the right request has, and the wrong one
// has not, are null, so that nothing else puts them in again.
func headersText(out *strings.Builder, good, wrong *exchange.Request, spell func(string) string) {
	var lines []string
	for name, texts := range wrong.Header {
		lines = append(lines, yamlfile.ScalarText(name)+": "+quotedIfPlain(spell(texts[0])))
	}
	for name := range good.Header {
		if len(wrong.Header[name]) == 0 {
			lines = append(lines, yamlfile.ScalarText(name)+": null")
		}
	}
	if len(lines) == 0 {
		return
	}
	slices.Sort(lines)
	out.WriteString("headers:\n  " + strings.Join(lines, "\n  ") + "\n")
}

// Unfilled writes what looks like a placeholder where none can stand.
func Unfilled(text string) string { return strings.ReplaceAll(text, "${", "$ {") }

// quotedIfPlain keeps a text from being read as something else.
func quotedIfPlain(text string) string {
	if text == "null" || text == "" {
		return yamlfile.Quote(text)
	}
	return yamlfile.ScalarText(text)
}

func isUnwritable(r rune) bool { return r == 0xFFFD || r < 0x20 && r != '\n' && r != '\t' && r != '\r' }

// blockText writes a text as a block, which stays as it is read, or in quotes.
func blockText(text string) string {
	body, ended := strings.CutSuffix(text, "\n")
	if strings.ContainsFunc(text, func(r rune) bool {
		return r != '\n' && (r < 0x20 || r == 0x7f || r == 0x85 || r == 0x2028 || r == 0x2029 || r == 0xfeff)
	}) ||
		strings.HasSuffix(body, "\n") || strings.HasPrefix(body, " ") || strings.TrimSpace(body) == "" ||
		!strings.Contains(body, "\n") {
		return yamlfile.Quote(text) + "\n"
	}
	style := "|-"
	if ended {
		style = "|"
	}
	return style + "\n  " + strings.ReplaceAll(body, "\n", "\n  ") + "\n"
}
