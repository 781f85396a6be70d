package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"
	"time"

	"testbench"
	"testbench/internal/document"
	"testbench/internal/login"
	"testbench/internal/nearest"
)

type tokenOptions struct {
	bare, verify bool
	spoil        string
}

func tokenCommand() *command {
	return &command{name: "token", group: "getting in", purpose: "gets a token and says what is known of it", usage: "LOGIN", talks: true,
		examples: []string{"testbench token clerk", "testbench token clerk -verify", "testbench token clerk -spoil tampered -verify", "testbench token clerk -bare | other-program"},
		options: func(f *flag.FlagSet) any {
			o := &tokenOptions{}
			f.BoolVar(&o.bare, "bare", false, "print the token itself and nothing else, for a pipe")
			f.BoolVar(&o.verify, "verify", false, "ask the issuer whether it is good")
			f.StringVar(&o.spoil, "spoil", "", "make a bad one of it this `way` (expired, tampered, empty), and show that the issuer refuses it")
			return o
		},
		run: func(ctx context.Context, s *session, options any, args []string) (int, error) {
			return s.token(ctx, options.(*tokenOptions), args)
		}}
}

func (s *session) token(ctx context.Context, o *tokenOptions, args []string) (int, error) {
	bench, err := s.open()
	if err != nil {
		return 0, err
	}
	if len(args) != 1 {
		return 0, usagef("there are: "+strings.Join(bench.Model().LoginNames(), ", "), "a token of which login?")
	}
	if o.spoil != "" {
		known := false
		for _, way := range login.Ways {
			known = known || way == o.spoil
		}
		if !known {
			return 0, usagef(nearest.Try(o.spoil, login.Ways), "a token can be spoilt as %s, not as %q", strings.Join(login.Ways, ", "), o.spoil)
		}
		o.verify = o.verify || !o.bare
	}
	report, err := bench.Token(ctx, args[0], o.spoil, o.verify, s.options())
	if err != nil {
		return 0, err
	}
	if o.bare {
		// Asked for in so many words: the one place where a token is printed.
		s.tell.bare(report.Token.Text)
		return ExitHeld, nil
	}
	refusedAsItShould := o.spoil != "" && report.Standing != nil && !report.Standing.Good
	status := ExitHeld
	if report.Standing != nil && report.Standing.Good == (o.spoil != "") {
		status = ExitFellShort
	}
	if s.common.json {
		return status, s.tell.json(tokenJSON(args[0], o.spoil, report))
	}
	s.showToken(args[0], o, report, refusedAsItShould)
	return status, nil
}

// bare writes a text past the masker.
func (t *teller) bare(text string) { _, _ = t.out.Unmasked([]byte(text + "\n")) }

func (s *session) showToken(name string, o *tokenOptions, report *testbench.TokenReport, refusedAsItShould bool) {
	t := s.tell
	token := report.Token
	row := func(what, text string) { t.printf("  %s  %s\n", fit(what, 9), visible(text)) }
	t.printf("%s\n", t.in(bold, "login "+visible(name)))
	if len(report.Asked) > 0 {
		asked := report.Asked[0]
		text := asked.Request.Method + " " + asked.Request.Shown()
		if asked.Answer != nil {
			text += fmt.Sprintf(" %s %d, %s", t.sign("→", "->"), asked.Answer.Status, milliseconds(asked.Phases.Total))
		}
		row("asked", text)
	}
	claims := login.Claims(token.Text)
	form := "opaque"
	if claims != nil {
		form = "JWT"
	}
	row("token", fmt.Sprintf("%s, %d characters (-bare prints it)", form, len(token.Text)))
	if token.Kind != "" {
		row("kind", token.Kind)
	}
	row("life", life(token))
	if len(token.Scope) > 0 {
		row("scope", strings.Join(token.Scope, " "))
	}
	if token.Refresh != "" {
		row("renewal", "by a refresh token")
	}
	if claims != nil {
		t.printf("  claims\n")
		for _, m := range claims.Members {
			t.printf("    %s  %s\n", fit(m.Key, 9), visible(claim(m.Key, m.Value)))
		}
	}
	if o.spoil != "" {
		row("spoilt", o.spoil)
	}
	if report.Standing != nil {
		style := green
		if report.Standing.Good == (o.spoil != "") {
			style = red
		}
		text := report.Standing.Said
		if refusedAsItShould {
			text += ", as it should be"
		} else if o.spoil != "" {
			text += " although it was spoilt"
		}
		t.printf("  %s  %s\n", fit("verified", 9), t.in(style, visible(text)))
	}
}

func life(token *login.Token) string {
	if token.Expires.IsZero() {
		return "not known"
	}
	left := time.Until(token.Expires).Round(time.Second)
	if left <= 0 {
		return fmt.Sprintf("over since %s (%s)", token.Expires.Format("15:04:05"), inWords(-left))
	}
	return fmt.Sprintf("%s, until %s", inWords(left), token.Expires.Format("15:04:05"))
}

// inWords writes a duration as people say it: 10 min, 1 h 5 min, 40 s.
func inWords(d time.Duration) string {
	var parts []string
	for _, unit := range []struct {
		length time.Duration
		name   string
	}{{24 * time.Hour, "d"}, {time.Hour, "h"}, {time.Minute, "min"}, {time.Second, "s"}} {
		if n := d / unit.length; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, unit.name))
			d -= n * unit.length
		}
	}
	if len(parts) == 0 {
		return "less than a second"
	}
	return strings.Join(parts[:min(2, len(parts))], " ")
}

// claim writes a claim for reading: instants as times (RFC 7519, 4.1).
func claim(name string, v *document.Node) string {
	if name == "exp" || name == "iat" || name == "nbf" || name == "auth_time" {
		if d, ok := v.Decimal(); ok {
			if seconds, err := d.Float64(); err == nil {
				return fmt.Sprintf("%s (%s)", v.Text, time.Unix(int64(seconds), 0).UTC().Format(time.RFC3339))
			}
		}
	}
	if v.IsScalar() {
		return v.Text
	}
	return document.WriteJSON(v, document.Style{})
}

func tokenJSON(name, spoil string, report *testbench.TokenReport) map[string]any {
	token := report.Token
	out := map[string]any{"login": name, "kind": token.Kind, "length": len(token.Text), "scope": token.Scope}
	if !token.Expires.IsZero() {
		out["expires"] = token.Expires.UTC().Format(time.RFC3339)
	}
	if claims := login.Claims(token.Text); claims != nil {
		fields := map[string]string{}
		for _, m := range claims.Members {
			fields[m.Key] = claim(m.Key, m.Value)
		}
		out["claims"] = fields
	}
	if spoil != "" {
		out["spoilt"] = spoil
	}
	if report.Standing != nil {
		out["good"], out["said"] = report.Standing.Good, report.Standing.Said
	}
	return out
}
