// Package callstep makes a step of a call that a command line asks for, and writes a step as a sheet
// has it. What is written is the call that was made: SameCall says where it would not be.
package callstep

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/mapping"
	"testbench/internal/request"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/soap"
	"testbench/internal/step"
	"testbench/internal/suggest"
	"testbench/internal/value"
	"testbench/internal/vet"
	"testbench/internal/yamlfile"
)

// Spec is a call as a command line asks for it.
type Spec struct {
	// Target is service/operation; or service, method and path; or method and address.
	Target []string
	Fields []string // name=value; a name with dots is a path, unless the operation has a field of that name
	Fill   *document.Node
	In     []string // query.a=b, header.X=y, form.f=v, cookie.c=v, path.p=v
	Body   string   // a file, sent filled in and escaped
	Bytes  string   // a file, sent untouched
	// ReadFile reads those files; nil means os.ReadFile.
	ReadFile func(name string) ([]byte, error)
	Login    string // a name, or none
	Spoil    string // how the login is spoilt
	SOAP     string
	Port     string // of a WSDL
	// Contract says what is checked against it: both (or empty), request, answer, off.
	Contract string
	Action   string
	HTTP     string
	As       string // what the answer is read as, one of document.Readings(); empty for what its media type says
	Stay     bool   // redirects are not followed
	Pages    int    // how many pages are read; 0 and 1 read one
}

// Split tells what is called from the fields after it.
func Split(args []string) (target, fields []string) {
	count := min(len(args), 1)
	if count == 1 {
		before, _, _ := strings.Cut(args[0], "=")
		isAddress := strings.Contains(before, "://") || strings.HasPrefix(args[0], "${")
		isWord := func(i int) bool { return len(args) > i && !strings.Contains(args[i], "=") }
		switch {
		case isAddress:
		case len(args) > 1 && request.IsMethod(args[0]):
			count = 2
		case strings.Contains(args[0], "/") || !isWord(1):
		case len(args) > 2 && (isWord(2) || strings.HasPrefix(args[2], "/") || strings.HasPrefix(args[2], "?")):
			count = 3
		default:
			count = 2
		}
	}
	return args[:count], args[count:]
}

// Make makes a step of a call. The values may hold placeholders; kept:name
// stands for ${kept.name}, and needs no quotes in a shell.
func Make(b *bench.Bench, c Spec, vet vet.Options) (*sheet.Step, error) {
	s := &sheet.Step{
		Name: "call", At: &yamlfile.Node{},
		Message: sheet.Message{
			Contract: c.Contract, SOAP: soap.Version(c.SOAP), Port: c.Port, Stay: c.Stay, HTTP: c.HTTP,
			Pages: c.Pages,
		},
	}
	if err := stepTarget(b, s, c.Target); err != nil {
		return nil, err
	}
	if err := setFields(s, c); err != nil {
		return nil, err
	}
	if err := setIn(s, c.In); err != nil {
		return nil, err
	}
	if err := setBody(s, c); err != nil {
		return nil, err
	}
	if c.Action != "" {
		t, err := value.Parse(c.Action)
		if err != nil {
			return nil, fmt.Errorf("-action: %w", err)
		}
		s.SOAPAction = t
	}
	if c.Login != "" {
		s.Login = &sheet.LoginChoice{At: &yamlfile.Node{}, Spoil: c.Spoil}
		for name := range strings.SplitSeq(c.Login, ",") {
			if name = strings.TrimSpace(name); c.Login == "none" || name == "" {
				continue
			}
			if b.Login(name) == nil {
				return nil, &bench.NotFoundError{What: "login", Name: name, Known: b.LoginNames()}
			}
			s.Login.Names = append(s.Login.Names, name)
		}
	}
	if s.Spec.AnswerAs = document.ReadingType(c.As); s.Spec.AnswerAs == "" && c.As != "" {
		return nil, fmt.Errorf("-as %s is unknown; there are: %s", c.As, strings.Join(document.Readings(), ", "))
	}
	if !isCall(s) && c.Port != "" {
		return nil, errors.New("-port has no effect: a request without an operation has no port; take it out")
	}
	if !isCall(s) && c.Contract != "" {
		return nil, errors.New("-contract has no effect: nothing describes a request without an operation; take it out")
	}
	return s, checkCall(b, s, vet)
}

// checkCall finds placeholders that lead nowhere, before anything is sent.
func checkCall(b *bench.Bench, s *sheet.Step, options vet.Options) error {
	site, err := b.At(options.Site)
	if err != nil {
		return err
	}
	if call, ok := s.Action.(*step.Call); ok {
		found := b.Service(call.Service)
		// What a contract describes is checked against it when it is read.
		endpoint, err := found.Described(call.Operation)
		if err != nil {
			return err
		}
		if endpoint != nil {
			if err := session.WithoutPorts(s); err != nil {
				return err
			}
			if _, problems := session.KnownRequest(b, s, found, session.ByHand(found, endpoint)); len(problems) > 0 {
				return callProblem(s, problems)
			}
		}
	}
	file := &yamlfile.File{Name: "command line"}
	v := &vet.Vetter{Options: options, Site: site}
	for _, h := range s.Placeholders() {
		v.Uses([]mapping.Use{{File: file, Node: &yamlfile.Node{Kind: yamlfile.Mapping}, Placeholder: h}})
	}
	if len(file.Problems) > 0 {
		return session.WithTry(file.Problems[0].Message, file.Problems[0].Try)
	}
	return nil
}

// callProblem is the first thing that is wrong with a call, and what is missing.
func callProblem(s *sheet.Step, problems []contract.Problem) error {
	var missing []string
	for _, p := range problems {
		if p.Missing == "" {
			return session.WithTry(p.Message, p.Try)
		}
		missing = append(missing, p.Missing)
	}
	list := strings.Join(missing, ", ")
	return session.WithTry(s.Target()+" needs "+list, "add "+list)
}

// stepTarget makes the step's action of the words that say what is called.
func stepTarget(b *bench.Bench, s *sheet.Step, target []string) (err error) {
	isOfService := len(target) == 2 && b.Service(target[0]) != nil
	switch {
	case len(target) == 0:
		return errors.New("call what? service/operation, service METHOD PATH, or METHOD ADDRESS")
	case len(target) == 1 && strings.Contains(target[0], "://"):
		s.Action, err = requestOf(b, []string{"GET", target[0]})
	case len(target) == 1:
		s.Action, err = callOf(b, target[0])
	case isOfService && request.IsMethod(target[1]):
		s.Action, err = requestOf(b, []string{target[0], target[1], ""})
	case isOfService:
		return session.WithTry(fmt.Sprintf("%q is not a request method", target[1]),
			fmt.Sprintf("write the operation as one word: %s/%s", target[0], target[1]))
	case len(target) > 3:
		return fmt.Errorf("%q is too much: fields are written name=value", target[3])
	default:
		s.Action, err = requestOf(b, target)
	}
	return err
}

// callOf calls service/operation.
func callOf(b *bench.Bench, target string) (sheet.Action, error) {
	service, operation, ok := strings.Cut(target, "/")
	found := b.Service(service)
	switch {
	case found == nil:
		return nil, &bench.NotFoundError{What: "service", Name: service, Known: b.ServiceNames()}
	case !ok || operation == "":
		return nil, fmt.Errorf("call which operation of %s? %s", service, session.OperationsOf(b, found))
	case found.Operation(operation) == nil && found.Contract == nil && found.Speaks == "":
		return nil, &bench.NotFoundError{What: "operation of " + service, Name: operation, Known: found.OperationNames()}
	}
	return &step.Call{Service: service, Operation: operation}, nil
}

// requestOf makes a request of METHOD ADDRESS, or service METHOD PATH.
func requestOf(b *bench.Bench, target []string) (sheet.Action, error) {
	line := &step.Request{Method: target[len(target)-2], Source: strings.Join(target, " ")}
	if !request.IsMethod(line.Method) {
		try := suggest.DidYouMean(strings.ToUpper(line.Method), request.Methods)
		if slices.Contains(request.Methods, strings.ToUpper(line.Method)) {
			try = "methods are written in capitals: " + strings.ToUpper(line.Method)
		}
		return nil, session.WithTry(fmt.Sprintf("%q is not a request method", line.Method), try)
	}
	parse := value.ParseAddress
	if len(target) == 3 {
		line.Service = target[0]
		if b.Service(line.Service) == nil {
			return nil, &bench.NotFoundError{What: "service", Name: line.Service, Known: b.ServiceNames()}
		}
		parse = value.ParsePath
	}
	address := target[len(target)-1]
	switch {
	case line.Service != "" && address != "" && !strings.HasPrefix(address, "/") && !strings.HasPrefix(address, "?"):
		return nil, fmt.Errorf("the path %q must begin with /", address)
	case line.Service == "" && !strings.Contains(address, "://") && !strings.HasPrefix(address, "${"):
		return nil, fmt.Errorf("%q is not an address: it must begin with http:// or https://, or a service must be "+
			"before the method", address)
	}
	segments := strings.Split(address, "/")
	for i, segment := range segments {
		segments[i] = keptShorthand(segment)
	}
	var err error
	line.Path, err = parse(strings.Join(segments, "/"))
	return line, err
}

// keptShorthand writes kept:name as the placeholder that it stands for.
func keptShorthand(text string) string {
	if name, ok := strings.CutPrefix(text, "kept:"); ok && value.IsIdentifier(name) {
		return "${kept." + name + "}"
	}
	return text
}

func scalarTree(text string) (*request.Tree, error) {
	t, err := value.Parse(keptShorthand(text))
	if err != nil {
		return nil, err
	}
	return request.Text(t, false), nil
}

func setFields(s *sheet.Step, c Spec) error {
	if c.Fill != nil || len(c.Fields) > 0 {
		s.Fill = &request.Tree{}
	}
	if c.Fill != nil && c.Fill.Kind == document.List {
		s.Fill = request.Fixed(c.Fill)
	} else if c.Fill != nil {
		for _, m := range c.Fill.Members() {
			s.Fill.Fields = append(s.Fill.Fields, request.Field{Name: m.Key, Value: request.Fixed(m.Value)})
		}
	}
	given := map[string]*request.Tree{}
	for _, field := range c.Fields {
		name, text, ok := strings.Cut(field, "=")
		if !ok || name == "" {
			try := "fields are written name=value"
			if name, text, ok := strings.Cut(field, ":"); ok && name != "" {
				try = "write " + name + "=" + strings.TrimSpace(text)
			}
			return session.WithTry(fmt.Sprintf("%q is not a field", field), try)
		}
		tree, err := scalarTree(text)
		if err != nil {
			return fmt.Errorf("%s: %w", field, err)
		}
		if isQueried(s) {
			s.Fill.Fields = append(s.Fill.Fields, request.Field{Name: name, Value: tree})
			continue
		}
		given[name] = given[name].Joined(tree) // more than once makes a list
		if err := s.Fill.Set(name, given[name]); err != nil {
			return err
		}
	}
	if !isCall(s) && s.Fill != nil {
		if isQueried(s) {
			for _, f := range s.Fill.Fields {
				s.Spec.Query = append(s.Spec.Query, request.Pair{Name: f.Name, Value: f.Value})
			}
		} else {
			s.Spec.Body = s.Fill
			s.Contents = append(s.Contents, "body")
		}
		s.Fill = nil
	}
	return nil
}

// isQueried says whether fields of a request without an operation are its query: those of
// one that has no body.
func isQueried(s *sheet.Step) bool {
	line, ok := s.Action.(*step.Request)
	return ok && (line.Method == "GET" || line.Method == "HEAD" || line.Method == "DELETE")
}

// isCall says whether a step calls an operation.
func isCall(s *sheet.Step) bool {
	_, ok := s.Action.(*step.Call)
	return ok
}

var callPlaces = []string{"query", "header", "form", "cookie", "path"}

func setIn(s *sheet.Step, in []string) error {
	for _, text := range in {
		place, rest, _ := strings.Cut(text, ".")
		name, v, ok := strings.Cut(rest, "=")
		if !ok || name == "" {
			return fmt.Errorf("-in %s: write it like query.grade=A or header.X-Depot=north", text)
		}
		tree, err := scalarTree(v)
		if err != nil {
			return fmt.Errorf("-in %s: %w", text, err)
		}
		pair := request.Pair{Name: name, Value: tree}
		switch place {
		case "query":
			s.Spec.Query = append(s.Spec.Query, pair)
		case "header":
			s.Spec.Headers = append(s.Spec.Headers, pair)
		case "form":
			s.Spec.Form = append(s.Spec.Form, pair)
			if !slices.Contains(s.Contents, "form") {
				s.Contents = append(s.Contents, "form")
			}
		case "cookie":
			s.Spec.Cookies = append(s.Spec.Cookies, pair)
		case "path":
			if !isCall(s) {
				return fmt.Errorf("-in %s: goes with an operation that has {%s} in its path; here write the value "+
					"into the address", text, name)
			}
			if s.Fill.Get(name) != nil {
				return fmt.Errorf("-in %s: %s is given already, and a part of the path has one value", text, name)
			}
			if s.Fill == nil {
				s.Fill = &request.Tree{}
			}
			if err := s.Fill.Set(name, tree); err != nil {
				return err
			}
		default:
			try := suggest.DidYouMean(place, callPlaces)
			if try == "" {
				try = "there are: " + strings.Join(callPlaces, ", ")
			}
			return fmt.Errorf("-in %s: there is no place %q; %s", text, place, try)
		}
	}
	return nil
}

func setBody(s *sheet.Step, c Spec) error {
	read := c.ReadFile
	if read == nil {
		read = os.ReadFile
	}
	if c.Bytes != "" {
		data, err := read(c.Bytes)
		if err != nil {
			return err
		}
		s.Spec.Bytes, s.Spec.HasBytes, s.BytesFile = data, true, c.Bytes
		s.Contents = append(s.Contents, "bytes")
	}
	if c.Body != "" {
		data, err := read(c.Body)
		if err != nil {
			return err
		}
		format := s.TextFormat(c.Body, string(data))
		t, err := value.ParseBody(string(data), format)
		if err != nil {
			return fmt.Errorf("%s: %w", c.Body, err)
		}
		s.Spec.Text, s.Spec.TextFormat, s.TextFile = t, format, c.Body
		s.Contents = append(s.Contents, "file")
	}
	if len(s.Contents) > 1 {
		return fmt.Errorf("the request has more than one body: %s", strings.Join(s.Contents, ", "))
	}
	return nil
}
