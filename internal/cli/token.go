package cli

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/login"
	"testbench/internal/suggest"
	"testbench/internal/workbench"
)

type tokenOptions struct {
	bare, verify, forget bool
	spoil                string
}

func tokenCommand() *command {
	return &command{
		name: "token", group: "getting in", purpose: "gets a token and says what is known of it", usage: "LOGIN",
		examples: []string{
			"testbench token clerk", "testbench token clerk -verify",
			"testbench token clerk -spoil tampered", "testbench token clerk -forget",
			"testbench token clerk -bare | other-program",
		},
		prepare: func(f *flag.FlagSet) action {
			o := &tokenOptions{}
			f.BoolVar(&o.bare, "bare", false, "print the token itself and nothing else, for a pipe")
			f.BoolVar(&o.verify, "verify", false,
				"ask the issuer whether it is good, and check its signature by the issuer's keys")
			f.BoolVar(&o.forget, "forget", false, "delete the one that is kept between commands, and get none")
			f.StringVar(&o.spoil, "spoil", "",
				"make a bad one of it this `way` ("+strings.Join(login.Ways, ", ")+
					"), and show that the issuer refuses it")
			return o.run
		},
	}
}

func (o *tokenOptions) run(ctx context.Context, s *session, args []string) (int, error) {
	bench, err := s.open()
	if err != nil {
		return 0, err
	}
	if len(args) > 1 {
		return 0, usagef("testbench token "+args[0], "token takes one login, and there are %d", len(args))
	}
	if len(args) == 0 {
		return 0, usagef("there are: "+strings.Join(bench.Model().LoginNames(), ", "), "a token of which login?")
	}
	if o.spoil != "" {
		if err := checkSpoil(o.spoil); err != nil {
			return 0, err
		}
		o.verify = o.verify || !o.bare
	}
	if o.forget {
		was, err := workbench.Forget(ctx, bench, args[0], s.options())
		if err != nil {
			return 0, err
		}
		s.tell.note("%s", map[bool]string{
			true:  "forgotten: the next command gets a new token",
			false: "no token of that login was kept",
		}[was])
		return ExitPassed, nil
	}
	report, err := workbench.Token(ctx, bench, args[0], o.spoil, o.verify, s.options())
	if err != nil {
		return 0, err
	}
	if o.bare {
		// Asked for in so many words: the one place where a token is printed.
		s.tell.bare(report.Token.Text)
		return ExitPassed, nil
	}
	refusedAsItShould := o.spoil != "" && report.Standing != nil && !report.Standing.Good
	status := ExitPassed
	if report.Standing != nil && report.Standing.Good == (o.spoil != "") {
		status = ExitFailed
	}
	if s.common.json {
		return status, s.tell.json(tokenJSON(args[0], o.spoil, report))
	}
	showToken(s.tell, args[0], o, report, refusedAsItShould)
	return status, nil
}

// checkSpoil says what is wrong with a way to spoil a token.
func checkSpoil(way string) error {
	if way == "" || slices.Contains(login.Ways, way) {
		return nil
	}
	return usagef(suggest.DidYouMean(way, login.Ways), "a token can be spoilt as %s, not as %q",
		strings.Join(login.Ways, ", "), way)
}

func showToken(t *printer, name string, o *tokenOptions, report *workbench.TokenReport, refusedAsItShould bool) {
	token := report.Token
	row := func(what, text string) { t.printf("  %s  %s\n", t.fit(what, 9), t.visible(text)) }
	t.printf("%s\n", t.in(bold, "login "+t.visible(name)))
	for i, asked := range report.Asked {
		text := asked.Request.Method + " " + asked.Request.Shown()
		if asked.Answer != nil {
			text += fmt.Sprintf(" %s %d, %s", t.sign("→", "->"), asked.Answer.Status,
				milliseconds(asked.Phases.Total))
		}
		row(map[bool]string{true: "asked", false: ""}[i == 0], text)
	}
	if token.Reused {
		row("kept", fmt.Sprintf("since %s, by an earlier command (-forget deletes it)",
			clock(token.Obtained)))
	}
	claims := login.Claims(token.Text)
	switch {
	case token.Kind == "signature":
		row("token", "none of its own: each request is signed")
	case token.Text == "":
		row("token", "none of its own: the login goes with each request")
	case claims != nil:
		row("token", fmt.Sprintf("JWT, %d characters (-bare prints it)", len(token.Text)))
	default:
		row("token", fmt.Sprintf("opaque, %d characters (-bare prints it)", len(token.Text)))
	}
	if token.Kind != "" {
		row("kind", token.Kind)
	}
	if token.User != "" {
		row("user", token.User)
	}
	if !token.Fixed || !token.Expires.IsZero() {
		row("life", life(token))
	}
	if len(token.Scope) > 0 {
		row("scope", strings.Join(token.Scope, " "))
	}
	if token.Refresh != "" {
		row("renewal", "by a refresh token")
	}
	for name := range token.Headers {
		row("repeats", name+" on calls that write")
	}
	if len(token.Cookies) > 0 {
		row("cookies", strings.Join(slices.Sorted(maps.Keys(token.Cookies)), ", "))
	}
	showClaims(t, "claims", claims)
	if identity := login.Claims(token.Identity); identity != nil {
		showClaims(t, "identity token", identity)
	}
	if o.spoil != "" {
		row("spoilt", o.spoil)
	}
	if report.Standing == nil {
		return
	}
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
	t.printf("  %s  %s\n", t.fit("verified", 9), t.in(style, t.visible(text)))
	for _, also := range report.Standing.Also {
		row("", also)
	}
}

func showClaims(t *printer, title string, claims *document.Node) {
	if claims == nil {
		return
	}
	t.printf("  %s\n", title)
	for _, m := range claims.Members() {
		t.printf("    %s  %s\n", t.fit(m.Key, 9), t.visible(claim(m.Key, m.Value, true)))
	}
}

func life(token *login.Token) string {
	if token.Expires.IsZero() {
		return "not known"
	}
	left := time.Until(token.Expires).Round(time.Second)
	if left <= 0 {
		return fmt.Sprintf("over since %s (%s)", clock(token.Expires), inWords(-left))
	}
	return fmt.Sprintf("%s, until %s", inWords(left), clock(token.Expires))
}

// clock is a moment of the local day, with its date where it is another day.
func clock(at time.Time) string {
	at = at.Local()
	if at.Format(time.DateOnly) == time.Now().Format(time.DateOnly) {
		return at.Format(time.TimeOnly)
	}
	return at.Format(time.DateTime)
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

// claim writes a claim for reading: instants as times (RFC 7519, 4.1), and where
// it is wanted how far they are away.
func claim(name string, v *document.Node, relative bool) string {
	if name == "exp" || name == "iat" || name == "nbf" || name == "auth_time" {
		if d, ok := v.Decimal(); ok {
			if seconds, err := d.Float64(); err == nil {
				moment := time.Unix(int64(seconds), 0)
				text := fmt.Sprintf("%s (%s", v.Text, moment.UTC().Format(time.RFC3339))
				if relative {
					text += ", " + fromNow(moment)
				}
				return text + ")"
			}
		}
	}
	if v.IsScalar() {
		return v.Text
	}
	return document.WriteJSON(v, document.Style{})
}

// fromNow says how far a moment is away.
func fromNow(moment time.Time) string {
	if left := time.Until(moment).Round(time.Second); left > 0 {
		return "in " + inWords(left)
	}
	return inWords(time.Since(moment).Round(time.Second)) + " ago"
}

func tokenJSON(name, spoil string, report *workbench.TokenReport) map[string]any {
	token := report.Token
	out := map[string]any{"login": name, "kind": token.Kind, "length": len(token.Text), "scope": token.Scope}
	if !token.Expires.IsZero() {
		out["expires"] = token.Expires.UTC().Format(time.RFC3339)
	}
	if claims := login.Claims(token.Text); claims != nil {
		fields := map[string]string{}
		for _, m := range claims.Members() {
			fields[m.Key] = claim(m.Key, m.Value, false)
		}
		out["claims"] = fields
	}
	if spoil != "" {
		out["spoilt"] = spoil
	}
	if report.Standing != nil {
		out["good"], out["said"] = report.Standing.Good, append([]string{report.Standing.Said}, report.Standing.Also...)
	}
	return out
}
