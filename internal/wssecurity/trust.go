package wssecurity

import (
	"cmp"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"testbench/internal/document"
)

// Tokens of a security token service (WS-Trust 1.3 and its submission of 2005).

// trustVersion are the names that a version of WS-Trust has for the same things.
type trustVersion struct {
	space, context, bearer string
}

var trustVersions = map[string]trustVersion{
	"1.3": {
		"http://docs.oasis-open.org/ws-sx/ws-trust/200512", conversation + "/sct",
		"http://docs.oasis-open.org/ws-sx/ws-trust/200512/Bearer",
	},
	"2005": {
		"http://schemas.xmlsoap.org/ws/2005/02/trust", "http://schemas.xmlsoap.org/ws/2005/02/sc/sct",
		"http://schemas.xmlsoap.org/ws/2005/05/identity/NoProofKey",
	},
}

// The words for versions of WS-Trust, kinds of tokens and kinds of keys that can be asked for. A token may also be
// named by its URI.
var (
	TrustVersions = []string{"1.3", "2005"}
	TokenTypes    = []string{"saml 2.0", "saml 1.1", "context"}
	KeyTypes      = []string{"bearer", "shared", "public"}
)

// TokenRequest asks a security token service for a token (WS-Trust 1.3, section 4.1).
type TokenRequest struct {
	Version     string            // of TrustVersions; empty is 1.3
	TokenType   string            // of TokenTypes, or a URI; empty is saml 2.0
	KeyType     string            // of KeyTypes; empty is bearer, and shared for a context
	AppliesTo   string            // the address of the service that the token is for; empty for none
	OnBehalfOf  *document.Node    // a token of somebody else; nil for none
	Certificate *x509.Certificate // of the public key that is to prove the token; nil for the other kinds
	// Entropy is this side's part of a shared key, of 32 bytes; nil where there is none.
	Entropy []byte
}

// sharedKeySize is the size of a shared key that is asked for, in bits.
const sharedKeySize = 256

// NewEntropy makes this side's part of a shared key.
func NewEntropy() ([]byte, error) {
	entropy := make([]byte, sharedKeySize/8)
	_, err := rand.Read(entropy)
	return entropy, err
}

func (t TokenRequest) version() trustVersion { return trustVersions[cmp.Or(t.Version, "1.3")] }

// IsShared says whether the token is to come with a key that both sides have.
func (t TokenRequest) IsShared() bool {
	return t.KeyType == "shared" || t.KeyType == "" && t.TokenType == "context"
}

// Action is that of the request (WS-Trust 1.3, section 4.1; WS-SecureConversation 1.3, section 3).
func (t TokenRequest) Action() string {
	if t.TokenType == "context" {
		return t.version().space + "/RST/SCT"
	}
	return t.version().space + "/RST/Issue"
}

// Element is the request, for the Body of an envelope.
func (t TokenRequest) Element() *document.Node {
	v := t.version()
	make := func(local string, items ...*document.Node) *document.Node {
		return document.NewElement(document.Name{Space: v.space, Prefix: "wst", Local: local}, items...)
	}
	kind := cmp.Or(t.TokenType, "saml 2.0")
	switch kind {
	case "saml 2.0":
		kind = samlProfile11 + "#SAMLV2.0"
	case "saml 1.1":
		kind = samlProfile11 + "#SAMLV1.1"
	case "context":
		kind = v.context
	}
	out := make("RequestSecurityToken", make("TokenType", text(kind)), make("RequestType", text(v.space+"/Issue")))
	out.AppendAttributes(declaration("wst", v.space))
	if t.AppliesTo != "" {
		const policy, addressing = "http://schemas.xmlsoap.org/ws/2004/09/policy",
			"http://www.w3.org/2005/08/addressing"
		to := document.NewElement(document.Name{Space: policy, Prefix: "wsp", Local: "AppliesTo"},
			document.NewElement(document.Name{Space: addressing, Prefix: "wsa", Local: "EndpointReference"},
				document.NewElement(document.Name{Space: addressing, Prefix: "wsa", Local: "Address"},
					text(t.AppliesTo))))
		to.AppendAttributes(declaration("wsp", policy), declaration("wsa", addressing))
		out.AppendItems(to)
	}
	if t.OnBehalfOf != nil {
		out.AppendItems(make("OnBehalfOf", t.OnBehalfOf))
	}
	switch {
	case t.IsShared():
		entropy := text(base64.StdEncoding.EncodeToString(t.Entropy))
		entropy.Secret = true
		out.AppendItems(make("KeyType", text(v.space+"/SymmetricKey")),
			make("KeySize", text(strconv.Itoa(sharedKeySize))),
			make("Entropy", with(make("BinarySecret", entropy), "Type", v.space+"/Nonce")),
			make("ComputedKeyAlgorithm", text(v.space+"/CK/PSHA1")))
	case t.KeyType == "public":
		info := element(ds, "KeyInfo", element(ds, "X509Data", element(ds, "X509Certificate",
			text(base64.StdEncoding.EncodeToString(t.Certificate.Raw)))))
		out.AppendItems(make("KeyType", text(v.space+"/PublicKey")), make("UseKey", declareHere(info, ds)))
	default:
		out.AppendItems(make("KeyType", text(v.bearer)))
	}
	return out
}

// Issued is a token that a security token service gave.
type Issued struct {
	Token   *document.Node
	Proof   []byte    // the key that proves it; nil where it has none, or a public key does
	Expires time.Time // by the service's clock; zero where nothing is said
	// Attached is how a message refers to the token, as the service says; nil where it does not.
	Attached *document.Node
}

// ReadIssued reads what a security token service answered to a request: the payload of the answer
// (WS-Trust 1.3, sections 4.2 and 4.4).
func (t TokenRequest) ReadIssued(payload *document.Node) (*Issued, error) {
	response := payload
	if payload != nil && payload.Name().Local == "RequestSecurityTokenResponseCollection" {
		response = payload.Child("RequestSecurityTokenResponse")
	}
	isTrust := func(v trustVersion) bool { return response.Name().Space == v.space }
	if response == nil || response.Name().Local != "RequestSecurityTokenResponse" ||
		!slices.ContainsFunc([]trustVersion{trustVersions["1.3"], trustVersions["2005"]}, isTrust) {
		return nil, errors.New("the answer holds no RequestSecurityTokenResponse of WS-Trust")
	}
	part := func(names ...string) *document.Node {
		n := response
		for _, name := range names {
			n = find(n, response.Name().Space, name)
		}
		return n
	}
	requested := part("RequestedSecurityToken")
	if requested == nil || len(requested.Children()) == 0 {
		return nil, errors.New("the answer holds no token (RequestedSecurityToken)")
	}
	issued := &Issued{Token: document.Apart(payload, requested.Children()[0])}
	if attached := part("RequestedAttachedReference"); attached != nil && len(attached.Children()) > 0 {
		issued.Attached = document.Apart(payload, attached.Children()[0])
	}
	if life := part("Lifetime"); life != nil {
		if end := find(life, wsu, "Expires"); end != nil {
			var err error
			if issued.Expires, err = moment(end.OwnText()); err != nil {
				return nil, fmt.Errorf("the end of the token: %w", err)
			}
		}
	}
	var err error
	issued.Proof, err = t.proof(part)
	return issued, err
}

// proof is the shared key of an answer (WS-Trust 1.3, section 4.4.5): it holds it, or both sides made a part of it,
// or this side made it alone.
func (t TokenRequest) proof(part func(names ...string) *document.Node) ([]byte, error) {
	if !t.IsShared() {
		return nil, nil
	}
	secret := func(n *document.Node) ([]byte, error) {
		key, err := decode(ownText(n))
		if err != nil || len(key) == 0 {
			return nil, errors.New("the key of the token is not Base64")
		}
		return key, nil
	}
	proof := part("RequestedProofToken")
	if key := part("RequestedProofToken", "BinarySecret"); key != nil {
		return secret(key)
	}
	if proof == nil {
		return t.Entropy, nil
	}
	how := strings.TrimSpace(ownText(part("RequestedProofToken", "ComputedKey")))
	theirs := part("Entropy", "BinarySecret")
	switch {
	case how == "" || theirs == nil:
		return nil, errors.New("the key of the token comes in a way that is not known here: it is neither a " +
			"BinarySecret " +
			"nor computed from two parts")
	case !strings.HasSuffix(how, "/CK/PSHA1"):
		return nil, fmt.Errorf("the key of the token is computed by %q, which is not known here", how)
	}
	seed, err := secret(theirs)
	if err != nil {
		return nil, err
	}
	size := sharedKeySize
	if n := part("KeySize"); n != nil {
		if size, err = strconv.Atoi(strings.TrimSpace(n.OwnText())); err != nil || size < 128 || size > 1024 ||
			size%8 != 0 {
			return nil, fmt.Errorf("the size of the token's key is %q: it must be a number of bits from 128 to 1024",
				n.OwnText())
		}
	}
	return PSHA1(t.Entropy, seed, size/8), nil
}
