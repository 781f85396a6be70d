package bench

import (
	"slices"
	"strings"

	"testbench/internal/mapping"
	"testbench/internal/yamlfile"
)

// check finds what is wrong inside the bench file, as far as that can be told
// without knowing the site or the command line.
func check(b *Bench) {
	for _, s := range b.Sites {
		checkSite(b, s)
		vetProxy(b, s)
	}
	checkLogins(b)
	for _, s := range b.Services {
		if s.Address == nil && s.Contract == nil {
			b.Source.Report(s.at, "write address: ${base}/…", "the service %s says neither address: nor contract:",
				s.Name)
		}
		for _, m := range s.marks {
			if s.Contract == nil {
				b.Source.Report(m.at, "write request: GET /path, or payload: prefix:Name for SOAP",
					"the operation %s has no request line", m.op.Name)
			}
		}
		for _, name := range s.Logins {
			if b.Login(name) == nil {
				notThereIn(b, s.loginAt, "login", name, b.LoginNames())
			}
		}
		seen := map[string]bool{}
		for _, op := range s.Operations {
			for _, p := range op.Parameters {
				if seen[op.Name+"\x00"+string(p.In)+p.Name] {
					b.Source.Report(s.at, "give one of them another name:", "%s/%s has two fields named %q", s.Name,
						op.Name, p.Name)
				}
				seen[op.Name+"\x00"+string(p.In)+p.Name] = true
			}
			if op.SOAP && s.SOAP == "" {
				s.SOAP = "1.1"
			}
		}
	}
}

// checkLogins looks for logins that others need and that are not there, or that
// need one another.
func checkLogins(b *Bench) {
	for _, l := range b.Logins {
		for _, other := range l.names {
			if b.Login(other.Name) == nil {
				notThereIn(b, other.At, "login", other.Name, b.LoginNames())
			}
		}
		if ring := loginRing(b, l, nil); ring != nil {
			b.Source.Report(l.at, "", "the logins %s need one another in a circle", strings.Join(ring, ", "))
		}
	}
}

// loginRing follows what a login needs and returns the names that lead back to it.
func loginRing(b *Bench, l *Login, seen []string) []string {
	if l == nil {
		return nil
	}
	if len(seen) > 0 && seen[0] == l.Name {
		return append(seen, l.Name)
	}
	if slices.Contains(seen, l.Name) {
		return nil
	}
	for _, other := range l.names {
		if found := loginRing(b, b.Login(other.Name), append(seen, l.Name)); found != nil {
			return found
		}
	}
	return nil
}

func checkSite(b *Bench, s *Site) {
	if s.Like != "" {
		if b.Site(s.Like) == nil {
			notThereIn(b, s.at, "site", s.Like, b.SiteNames())
		}
		for next, seen := b.Site(s.Like), []string{s.Name}; next != nil; next = b.Site(next.Like) {
			if slices.Contains(seen, next.Name) {
				b.Source.Report(s.at, "", "the sites %s are like one another in a circle",
					strings.Join(append(seen, next.Name), ", "))
				break
			}
			seen = append(seen, next.Name)
		}
	}
	for name, other := range s.Logins {
		for _, login := range []string{name, other} {
			if b.Login(login) == nil {
				notThereIn(b, s.at, "login", login, b.LoginNames())
			}
		}
	}
	for name := range s.Services {
		if b.Service(name) == nil {
			notThereIn(b, s.at, "service", name, b.ServiceNames())
		}
	}
}

func notThereIn(b *Bench, at *yamlfile.Node, what, name string, known []string) {
	NotThere((&mapping.Reader{File: b.Source}), at, what, name, known)
}

// NotThere reports a name that nothing has, with the nearest that there is.
func NotThere(r *mapping.Reader, at *yamlfile.Node, what, name string, known []string) {
	err := &NotFoundError{what, name, known}
	message, try, _ := strings.Cut(err.Error(), "; ")
	r.File.Report(at, try, "%s", message)
}
