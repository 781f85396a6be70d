package login

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"net/url"
	"sync"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/keys"
)

// prover proves with each request that the one who sends a token holds the key
// it is bound to (DPoP, RFC 9449).
type prover struct {
	key    *ecdsa.PrivateKey
	public any // the JWK of its public half
	mutex  sync.Mutex
	nonces map[string]string // by origin; "" for services
}

func newProver() (*prover, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	jwk, err := keys.PublicJWK(&key.PublicKey)
	if err != nil {
		return nil, err
	}
	return &prover{key: key, public: json.RawMessage(document.WriteJSON(jwk, document.Style{})),
		nonces: map[string]string{}}, nil
}

// put adds a proof for the request (section 4.2). token is empty at the token
// endpoint; shift moves its time stamp.
func (p *prover) put(r *exchange.Request, env *Env, token string, shift time.Duration) error {
	// htu is the address without query and fragment.
	target := *r.URL
	target.RawQuery, target.Fragment, target.ForceQuery = "", "", false
	claims := jwt.MapClaims{
		"jti": randomText(), "htm": r.Method, "htu": target.String(),
		"iat": env.serverNow(r.URL.Host).Add(shift).Unix(),
	}
	where := exchange.Origin(r.URL)
	if token != "" {
		sum := sha256.Sum256([]byte(token))
		claims["ath"] = base64.RawURLEncoding.EncodeToString(sum[:])
		where = ""
	}
	p.mutex.Lock()
	if nonce := p.nonces[where]; nonce != "" {
		claims["nonce"] = nonce
	}
	p.mutex.Unlock()
	proof, err := sign("ES256", map[string]any{"typ": "dpop+jwt", "jwk": p.public}, claims, p.key)
	if err != nil {
		return err
	}
	r.SetHeader("DPoP", proof)
	return nil
}

// learn remembers the nonce that an endpoint gives (section 8). It says whether
// that is a new one.
func (p *prover) learn(answer *exchange.Answer, from *url.URL) bool {
	return p.learnAt(exchange.Origin(from), answer)
}

func (p *prover) learnAt(where string, answer *exchange.Answer) bool {
	nonce := answer.Header.Get("DPoP-Nonce")
	p.mutex.Lock()
	defer p.mutex.Unlock()
	isNew := nonce != "" && p.nonces[where] != nonce
	if nonce != "" {
		p.nonces[where] = nonce
	}
	return isNew
}
