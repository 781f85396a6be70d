package path

import (
	"errors"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/value"
)

// stage is what a value goes through after a path: a filter, or a further path in what a filter made of it
// (payload | parse json | .lots[0].id).
type stage struct {
	filter *value.Template // ${it | filter}
	path   *Path
	source string
}

// CutBar cuts a text at the first bar that is in no quotes, brackets or braces; found says whether there is one.
func CutBar(text string) (before, after string, found bool) {
	quoted, depth := false, 0
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '[' || c == '{':
			depth++
		case c == ']' || c == '}':
			depth--
		case c == '|' && depth == 0:
			return text[:i], text[i+1:], true
		}
	}
	return text, "", false
}

// stages reads what comes after a bar, which is at the offset.
func (p *Path) addStages(text string, offset int) error {
	for rest, more := text, true; more; {
		var one string
		one, rest, more = CutBar(rest)
		source := strings.TrimSpace(one)
		lead := offset + strings.Index(one, source)
		switch {
		case source == "":
			return &Error{
				Offset: offset, Message: "a filter is missing after |",
				Try: "`testbench help filters` lists them",
			}
		case source[0] == '.' || source[0] == '[':
			inner, err := Compile(strings.TrimPrefix(source, "."))
			if err != nil {
				var mistake *Error
				if errors.As(err, &mistake) {
					mistake.Offset += lead + 1
				}
				return err
			}
			p.stages = append(p.stages, stage{path: inner, source: source})
		default:
			t, err := value.Parse("${it | " + source + "}")
			if err != nil {
				var mistake *Error
				if errors.As(err, &mistake) {
					mistake.Offset += lead - len("${it | ")
					_, err := Compile(source)
					if err == nil && strings.HasSuffix(mistake.Message, "is not a filter") {
						mistake.Try += "; a path that goes on in the value begins with a dot: | ." + source
					}
				}
				return err
			}
			p.stages = append(p.stages, stage{filter: t, source: source})
		}
		offset += len(one) + 1
	}
	return nil
}

// through sends what a path found through its stages.
func (p *Path) through(found Selection, roots Roots, scope value.Scope) (Selection, error) {
	for _, s := range p.stages {
		if s.joins() {
			found = joined(found)
		}
		next := Selection{Many: found.Many || s.path != nil && s.path.HasEach()}
		for _, m := range found.Matches {
			switch {
			case m.Node == nil:
				next.Matches = append(next.Matches, m)
			case s.path != nil:
				inner, err := s.path.Find(Roots{Answer: m.Node, Prefixes: roots.Prefixes}, scope)
				if err != nil {
					return Selection{}, err
				}
				for _, one := range inner.Matches {
					one.Where = m.Where + " | " + one.Where
					next.Matches = append(next.Matches, one)
				}
			default:
				next.Matches = append(next.Matches, filtered(m, s, scope))
			}
		}
		found = next
	}
	return found, nil
}

// joins says whether a filter makes one value of all that a path leads to.
func (s stage) joins() bool {
	word, _, _ := strings.Cut(s.source, " ")
	return s.filter != nil && slices.Contains(ofLists, word)
}

// ofLists are the first words of filters that work on a list.
var ofLists = []string{"join", "first", "last", "least", "most"}

// joined is a selection of the list of what was found. What lacks the value is passed over, unless all do.
func joined(found Selection) Selection {
	if !found.Many {
		return found
	}
	list := document.NewList()
	where := ""
	for _, m := range found.Matches {
		if m.Node != nil {
			list.AppendItems(m.Node)
			where = m.Where
		}
	}
	if len(list.Items()) == 0 {
		return found
	}
	return Selection{Matches: []Match{{Where: where, Node: list}}}
}

// filtered is a match after a filter; where the filter cannot be used, the match is a miss that says why.
func filtered(m Match, s stage, scope value.Scope) Match {
	if scope == nil {
		scope = value.NoNames{}
	}
	it := m.Node
	if v := it.Value(); v != nil && v.IsScalar() {
		it = v
	}
	node, err := s.filter.Node(itScope{scope, it}, false)
	if err != nil {
		why := strings.TrimPrefix(err.Error(), s.filter.Source+": ")
		return Match{
			Where: m.Where,
			Miss:  &Miss{Reached: m.Where, Missing: "| " + s.source, There: it.Describe(), Try: why},
		}
	}
	return Match{Where: m.Where + " | " + s.source, Node: node}
}

// itScope knows the value that a filter works on.
type itScope struct {
	value.Scope
	it *document.Node
}

func (s itScope) Lookup(space, name string) (*document.Node, error) {
	if space == "" && name == "it" {
		return s.it, nil
	}
	return s.Scope.Lookup(space, name)
}
