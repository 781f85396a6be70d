package login

import (
	"context"
	"encoding/base64"
	"strings"

	"github.com/Azure/go-ntlmssp"

	"testbench/internal/exchange"
	"testbench/internal/mapping"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// NTLM authenticates a connection by NTLMv2, under the schemes NTLM or
// Negotiate. The user may be written DOMAIN\user.
type NTLM struct {
	User, Password, Domain *value.Template
}

// ntlmState is how far the talk over one connection has come.
type ntlmState struct {
	scheme  string
	message []byte
	last    bool
}

func (n *NTLM) connected() {}

// Obtain fills user and password in.
func (n *NTLM) Obtain(_ context.Context, env *Env, _ *Token) (*Token, error) {
	token, err := env.credentials("NTLM", n.User, n.Password)
	if err != nil {
		return nil, err
	}
	domain, err := env.text("domain", n.Domain)
	if domain != "" && !strings.ContainsAny(token.User, `\@`) {
		token.User = domain + `\` + token.User
	}
	return token, err
}

// Put sends the message that is next; the first request goes without any, for
// the service says under which scheme it wants them.
func (n *NTLM) Put(r *exchange.Request, env *Env, t *Token) error {
	if state, ok := t.material.(*ntlmState); ok {
		text := base64.StdEncoding.EncodeToString(state.message)
		env.Scope.Hide(text)
		r.SetHeader("Authorization", state.scheme+" "+text)
	}
	return nil
}

// Challenged makes the next message of the talk.
func (n *NTLM) Challenged(answer *exchange.Answer, _ *Env, t *Token) (*Token, bool, bool, error) {
	state, _ := t.material.(*ntlmState)
	if answer.Status != 401 || state != nil && state.last || t.Spoilt == Empty {
		return nil, false, false, nil
	}
	challenges := Challenges(answer.Status, answer.Header)
	asked := Asks(challenges, "NTLM")
	if asked == nil {
		if asked = Asks(challenges, "Negotiate"); asked == nil {
			return nil, false, false, nil
		}
	}
	next := &ntlmState{scheme: asked.Scheme}
	var err error
	if state == nil {
		next.message, err = ntlmssp.NewNegotiateMessage("", "")
	} else {
		var challenge []byte
		if challenge, err = base64.StdEncoding.DecodeString(asked.Token); err == nil && len(challenge) > 0 {
			password := t.Text
			if t.Spoilt == Tampered {
				password = tamper(password)
			}
			next.message, err = ntlmssp.NewAuthenticateMessage(challenge, t.User, password, nil)
			next.last = true
		} else {
			return nil, false, false, nil // the first message was refused
		}
	}
	if err != nil {
		return nil, false, false, &Error{Message: "the service's NTLM message cannot be answered: " + err.Error()}
	}
	made := *t
	made.material = next
	return &made, true, false, nil
}

// spoils says which ways there are: the password is spoilt while it is used.
func (n *NTLM) spoils(way string) bool { return way == Tampered || way == Empty }

// Placeholders lists the placeholders.
func (n *NTLM) Placeholders() []*value.Placeholder { return placeholders(n.User, n.Password, n.Domain) }

func readNTLM(r *mapping.Reader, n *yamlfile.Node) Kind {
	k := &NTLM{}
	mapping.Read(r, "an ntlm login", n, k, ntlmKeys)
	needSettings(r, n, "user", k.User, "password", k.Password)
	return k
}

var ntlmKeys = []mapping.Key[NTLM]{
	ignoreKind[NTLM](),
	mapping.TemplateKey("user", `user name, also as DOMAIN\user`, func(k *NTLM) **value.Template { return &k.User }),
	mapping.SecretKey("password", "password, from ${sealed.x}", func(k *NTLM) **value.Template { return &k.Password }),
	mapping.TemplateKey("domain", "the user's domain", func(k *NTLM) **value.Template { return &k.Domain }),
}
