// Package workbench is what commands do with a bench: vet and run its sheets, make calls, get
// tokens, read contracts, add services, probe, hand over, bridge and simulate. The library for
// Go programs and the face are on it.
package workbench

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"testbench/internal/bench"
	"testbench/internal/callstep"
	"testbench/internal/contract"
	"testbench/internal/contract/source"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/hint"
	"testbench/internal/httpurl"
	"testbench/internal/login"
	"testbench/internal/reply"
	"testbench/internal/result"
	"testbench/internal/run"
	"testbench/internal/safefile"
	"testbench/internal/secret"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/step"
	"testbench/internal/vet"
	"testbench/internal/yamlfile"
)

// The types that runs are described with.
type (
	Options     = session.Options
	Result      = result.Run
	SheetResult = result.Sheet
	RowResult   = result.Row
	StepResult  = result.Step
	Check       = result.Check
	Outcome     = result.Outcome
	Observer    = run.Observer
	Problem     = yamlfile.Problem
	Problems    = yamlfile.Problems
)

// The outcomes.
const (
	Passed      = result.Passed
	Failed      = result.Failed
	NotRun      = result.NotRun
	LoginFailed = result.LoginFailed
	Unreachable = result.Unreachable
	Errored     = result.Errored
	Interrupted = result.Interrupted
)

// Bench is an opened bench: its folder, what is in bench.yaml, and the
// sealed store beside it.
type Bench struct {
	Dir   string
	Store *secret.Store
	// Standard is what a sheet that is called - is read from; nil for nothing.
	Standard io.Reader
	inner    *bench.Bench
	keptDir  string
	mutex    sync.Mutex
	kept     map[string]*document.Node
}

// Open opens the bench in a folder. What is wrong with its file is reported by
// Vet and by what would use it, not here.
func Open(dir string) (*Bench, error) {
	inner, err := bench.Open(dir)
	if err != nil {
		return nil, err
	}
	sheet.CheckNamed(inner)
	// Of a bench that somebody else made nothing is read, or written, by a link.
	if err := safefile.CheckLinks(dir, "secrets", ".testbench"); err != nil {
		return nil, err
	}
	identity, err := secret.DefaultIdentity()
	if err != nil {
		identity = ""
	}
	return &Bench{
		Dir: dir, inner: inner,
		Store: &secret.Store{
			Dir: filepath.Join(dir, "secrets"), Identity: identity,
			Mine: secret.MineOf(dir, identity),
		},
		keptDir: filepath.Join(dir, ".testbench", "kept"),
	}, nil
}

// AdHoc returns a bench without a folder, for requests to plain addresses.
func AdHoc() *Bench { return &Bench{inner: bench.Empty()} }

// Model returns what is in bench.yaml.
func (b *Bench) Model() *bench.Bench { return b.inner }

// keptStore is where values kept by calls are sealed.
func keptStore(b *Bench) *secret.Store {
	store := b.Store
	if store == nil {
		store = &secret.Store{}
	}
	return store.Beside(b.keptDir)
}

// Keep seals a value for later calls, which ask for it as ${kept.name}.
func (b *Bench) Keep(name string, node *document.Node) error {
	if b.Dir == "" {
		return errors.New("a value can be kept only in a bench; `testbench new DIR` starts one")
	}
	wrapped := document.NewObject().Set("value", node).Set("secret", document.NewBoolean(node.Secret))
	_, err := keptStore(b).Set("", name, document.WriteJSON(wrapped, document.Style{}))
	return err
}

// Kept returns a value that an earlier call kept.
func (b *Bench) Kept(name string) (*document.Node, bool) {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	if node, ok := b.kept[name]; ok {
		return node, true
	}
	text, err := keptStore(b).Get("", name)
	if err != nil {
		return nil, false
	}
	wrapped, err := document.ReadJSON([]byte(text))
	if err != nil || wrapped.Get("value") == nil {
		return nil, false
	}
	node := wrapped.Get("value")
	if wrapped.Get("secret").Text == "true" {
		node.MarkSecret()
	}
	if b.kept == nil {
		b.kept = map[string]*document.Node{}
	}
	b.kept[name] = node
	return node, true
}

// KeptNames lists the values that earlier calls kept.
func (b *Bench) KeptNames() []string {
	if b.Dir == "" {
		return nil
	}
	entries, err := keptStore(b).List()
	if err != nil {
		return nil
	}
	var names []string
	for _, e := range entries {
		names = append(names, e.Name)
	}
	return names
}

// completeOptions fills in what the bench itself knows.
func completeOptions(b *Bench, o Options) Options {
	if o.Store == nil {
		o.Store = b.Store
	}
	if o.Masker == nil {
		o.Masker = &secret.Masker{}
	}
	if b.Dir != "" {
		o.Kept, o.KeptNames = b.Kept, b.KeptNames()
		if o.Tokens == nil {
			o.Tokens = tokensOf(b, o.Set)
		}
	}
	return o
}

func vetOptions(b *Bench, o Options, forRun bool) vet.Options {
	v := vet.Options{Site: o.Site, Set: o.Set, Kept: b.KeptNames(), ForRun: forRun}
	if b.Store != nil {
		v.HasSecret = b.Store.Has
	}
	return v
}

// Vet finds what is wrong with the bench and with sheets, without sending
// anything. Without sheets it looks at all of the bench's.
func (b *Bench) Vet(sheets []string, o Options) (*Vetted, error) {
	if len(sheets) == 0 {
		var err error
		if sheets, err = b.SheetFiles(); err != nil {
			return nil, err
		}
	}
	if _, err := b.inner.At(o.Site); err != nil {
		return nil, err
	}
	b.inner.Kept = keptContracts(b, o)
	defer func() { b.inner.Kept = nil }()
	vetted := &Vetted{Problems: vet.Bench(b.inner, vetOptions(b, o, false))}
	if len(sheets) == 0 {
		vetted.Unseen = append(vetted.Unseen, "sheets: there are none in the folder sheets of the bench")
	}
	if b.inner.IsUnreadable() {
		vetted.Unseen = append(vetted.Unseen, "what sheets take from the bench: its file cannot be read")
	}
	var opened []*sheet.Sheet
	sheets, err := sheetFiles(b, sheets)
	if err != nil {
		return vetted, err
	}
	for _, file := range sheets {
		s, err := openSheet(b, file)
		if err != nil {
			return vetted, err
		}
		vetted.Problems = append(vetted.Problems, vet.Sheet(s, vetOptions(b, o, false))...)
		for _, text := range run.Unseen(s) {
			if !slices.Contains(vetted.Unseen, text) {
				vetted.Unseen = append(vetted.Unseen, text)
			}
		}
		opened = append(opened, s)
	}
	vetted.Problems = append(vetted.Problems, vet.SameNames(opened)...)
	return vetted, vet.CheckArguments(b.inner, vet.Arguments{Set: o.Set}, opened, nil)
}

// keptContracts gives the contracts that were fetched before, each read once; nobody is asked.
func keptContracts(b *Bench, o Options) func(*bench.Service) contract.Contract {
	at, err := session.NewSession(b.inner, completeOptions(b, o))
	if err != nil {
		return nil // what is wrong with the site is told by vet itself
	}
	read := map[*bench.Service]contract.Contract{}
	return func(service *bench.Service) contract.Contract {
		c, isRead := read[service]
		if !isRead {
			c = session.KeptContract(at, service)
			read[service] = c
		}
		return c
	}
}

// Vetted is what vetting found, and what it did not look at, with the reasons.
type Vetted struct {
	Problems Problems
	Unseen   []string
}

func closeInTime(session *session.Session) error {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	return session.Close(ctx)
}

// Call is one exchange asked for outside of a sheet.
type Call = callstep.Spec

// Prepare makes a step of a call; mistakes are errors.
func (b *Bench) Prepare(c Call, o Options) (*sheet.Step, error) {
	if problems := b.inner.Problems().Serious(); len(problems) > 0 {
		return nil, problems
	}
	step, err := callstep.Make(b.inner, c, vetOptions(b, o, true))
	if err != nil {
		return nil, err
	}
	return step, vet.CheckArguments(b.inner, arguments(o), nil, step)
}

// arguments are those of a command line without a sheet.
func arguments(o Options) vet.Arguments {
	return vet.Arguments{Set: o.Set, Site: o.Site, Write: o.Write, Fresh: o.Fresh}
}

// Do carries out a prepared step and explains what failed.
func (b *Bench) Do(ctx context.Context, prepared *sheet.Step, o Options) (*StepResult, []string, error) {
	session, err := session.NewSession(b.inner, completeOptions(b, o))
	if err != nil {
		return nil, nil, err
	}
	if err := step.CheckCall(ctx, session, prepared); err != nil {
		_ = closeInTime(session)
		return nil, nil, err
	}
	result := step.Ask(ctx, session, prepared, nil, map[string]*document.Node{})
	hint.Explain(result)
	notes := session.Notes
	if _, err := recordSteps(b, session, callSheet, result); err != nil {
		notes = append(notes, "the call is not recorded: "+err.Error())
	}
	if err := closeInTime(session); err != nil {
		notes = append(notes, "a token could not be given back: "+err.Error())
	}
	return result, notes, nil
}

// ReadAnswer reads what a service answered as the tree that paths start from: of an
// envelope its payload. The media type may be empty; then the content tells.
func ReadAnswer(mediaType string, body []byte) (*document.Node, error) {
	answer := &exchange.Answer{Header: http.Header{}, Body: body}
	if mediaType != "" {
		answer.Header.Set("Content-Type", mediaType)
	}
	re := reply.Read(&exchange.Record{Answer: answer})
	switch {
	case re.Problem != nil:
		return nil, re.Problem
	case re.Payload == nil:
		return nil, errors.New("there is nothing in it")
	}
	return re.Payload, nil
}

// Plan fills a prepared step in without sending it; where credentials would
// go, a mark stands.
func (b *Bench) Plan(ctx context.Context, step *sheet.Step, o Options) (*exchange.Request, error) {
	session, err := session.NewSession(b.inner, completeOptions(b, o))
	if err != nil {
		return nil, err
	}
	defer func() { _ = closeInTime(session) }()
	return session.Preview(ctx, step)
}

// StepText writes a prepared step as a sheet has it, with what it keeps as name=path. It
// refuses a step that a sheet would send otherwise than the call does.
func (b *Bench) StepText(ctx context.Context, step *sheet.Step, name string, keep []string, o Options) (string, error) {
	text, err := callstep.Text(b.inner, step, name, keep)
	if err != nil {
		return "", err
	}
	read, err := callstep.Reread(b.inner, text, vetOptions(b, o, false))
	if err == nil {
		now := time.Now()
		o.Now = func() time.Time { return now }
		var sess *session.Session
		if sess, err = session.NewSession(b.inner, completeOptions(b, o)); err != nil {
			return "", err
		}
		defer func() { _ = closeInTime(sess) }()
		err = callstep.SameCall(ctx, sess, step, read)
	}
	if err != nil {
		return "", fmt.Errorf("the call cannot be written as a step that does the same: %w", err)
	}
	return text, nil
}

// TokenReport is what is known of a token.
type TokenReport struct {
	Token    *login.Token
	Asked    []*exchange.Record   // the exchanges it took
	Standing *login.Introspection // what the issuer says of it; nil when not asked
}

// Token gets a token of a login. spoil, where not empty, spoils it (see
// login.Ways); verify asks the issuer about it.
func Token(ctx context.Context, b *Bench, name, spoil string, verify bool, o Options) (*TokenReport, error) {
	if problems := b.inner.Problems().Serious(); len(problems) > 0 {
		return nil, problems
	}
	if err := vet.CheckArguments(b.inner, arguments(o), nil, nil); err != nil {
		return nil, err
	}
	o = completeOptions(b, o)
	if b.inner.Login(name) == nil {
		return nil, &bench.NotFoundError{What: "login", Name: name, Known: b.inner.LoginNames()}
	}
	report := &TokenReport{}
	name = b.inner.LoginAt(o.Site, name)
	if kind, ok := b.inner.Login(name).Kind.(interface{ NeedsPerson() bool }); !ok || !kind.NeedsPerson() {
		o.Tokens = withoutCache(o.Tokens, name)
	}
	session, err := session.NewSession(b.inner, o)
	if err != nil {
		return nil, err
	}
	defer func() {
		report.Asked = session.LoginRecords()
		session.Sender.Close()
	}()
	if report.Token, err = session.Logins.Token(ctx, name); err != nil {
		return nil, err
	}
	if spoil != "" {
		if report.Token, err = session.Logins.Spoil(name, report.Token, spoil); err != nil {
			return nil, err
		}
	}
	if verify {
		report.Standing, err = session.Logins.Verify(ctx, name, report.Token)
	}
	return report, err
}

// New writes the beginnings of a bench into a folder, which must not hold one: with a service at an
// address and a first sheet that calls it; with none of them where address is empty.
func New(dir, address string) ([]string, error) {
	if _, err := os.Stat(filepath.Join(dir, bench.FileName)); err == nil {
		return nil, fmt.Errorf("there is a bench in %s already", dir)
	}
	if info, err := os.Stat(dir); err == nil && !info.IsDir() {
		return nil, fmt.Errorf("%s is a file; a bench is a folder", dir)
	}
	name := filepath.Base(dir)
	if abs, err := filepath.Abs(dir); err == nil {
		name = filepath.Base(abs)
	}
	files := map[string]string{".gitignore": newIgnore}
	files[bench.FileName] = "bench: " + yamlfile.ScalarText(name) + "\n" + emptyBench
	if address != "" {
		if httpurl.HasUser(address) {
			return nil, httpurl.ErrUser
		}
		parsed, err := url.Parse(address)
		if err != nil || !source.IsAddress(address) || parsed.Host == "" {
			return nil, fmt.Errorf("%q is not the address of a service: it begins with http:// or https:// and a host",
				address)
		}
		files[bench.FileName] = "bench: " + yamlfile.ScalarText(name) + "\n" + strings.NewReplacer("@BASE@",
			yamlfile.ScalarText(parsed.Scheme+"://"+parsed.Host), "@PATH@", parsed.RequestURI()).Replace(newBench)
		files[filepath.Join("sheets", "first.yaml")] = newSheet
	}
	var written []string
	for _, folder := range []string{"sheets", "data", "contracts", "secrets"} {
		if err := os.MkdirAll(filepath.Join(dir, folder), 0o755); err != nil {
			return nil, err
		}
	}
	for file, text := range files {
		full := filepath.Join(dir, file)
		f, err := os.OpenFile(full, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if errors.Is(err, os.ErrExist) {
			continue // somebody's own file stays as it is
		}
		if err != nil {
			return written, err
		}
		_, err = f.WriteString(text)
		if closeErr := f.Close(); err == nil {
			err = closeErr
		}
		if err != nil {
			return written, err
		}
		written = append(written, full)
	}
	slices.Sort(written)
	return written, nil
}

// emptyBench is a bench without services, after its name.
const emptyBench = `sites:
  local:
    set:
      stage: test               # a value that sheets and services use as ${stage}
# testbench add NAME CONTRACT puts services here; CONTRACT is a file or an address.
`

// newBench is a bench with one service, after its name; @BASE@ and @PATH@ stand for its address.
const newBench = `sites:
  local:
    set:
      base: @BASE@
services:
  # A service with a contract needs one line: contract: FILE or ADDRESS. One without is
  # described here, operation by operation. A call names both: main/look.
  main:
    address: ${base}
    operations:
      look:
        request: GET @PATH@
`

const newSheet = `sheet: first
about: The service answers.
steps:
  - step: look
    call: main/look
    # Without expect: a step passes when the status is a success (2xx).
    # Checks of the response are written by path, as fields: or where: conditions.
    # fields:
    #   total: at least 1
`

const newIgnore = `# the history, kept values and what else belongs to this machine
.testbench/
local.yaml
# what a program that was killed left of a file: .NAME.NUMBER-RANDOM
.*.[0-9]*-[0-9]*
# reports, logs and runs; all that goes into the folder reports
reports/
nights/
*.html
*.har
*.log
junit*.xml
report*.*
share-*.json
`
