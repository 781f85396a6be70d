// Package standin simulates the services of the Heatherfold Honey Co-operative:
// real HTTP servers that check credentials, validate what they are sent,
// compute their answers and keep state until they are stopped. Tests and the
// demo talk to it; nothing of the core imports it.
package standin

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"
)

// DefaultAddress is where the stand-in listens unless told otherwise.
const DefaultAddress = "127.0.0.1:8720"

// Secrets are the made-up credentials that the services accept, by the names
// under which the demo bench seals them.
var Secrets = map[string]string{
	"clerk":      "smoked-larch-41",
	"honey_desk": "comb & nectar/77",
	"ledger_key": "LK-5f3c-9a11-e0d2",
	"lab":        "heather bell 9",
	"courier":    "wing.and/wheel+5521",
	"bryony_key": bryonyKey,
	"press":      "stone-weir-118",
}

// Options set how the stand-in behaves, for tests and for trying things out.
type Options struct {
	// Offset is how far its clock is ahead of the machine's.
	Offset time.Duration
	// Lifetime is how many seconds its tokens live where a request does not say; 0 is 600.
	Lifetime int
	// Refuse makes it refuse every token that it gave before each so many requests;
	// 0 for never.
	Refuse int
	// Books is a file in which the ledger keeps its intakes as a database (SQLite) too;
	// empty for none. What was in it is gone.
	Books string
	// Weak makes it do wrong what Weaknesses list.
	Weak bool
}

func (o Options) now() time.Time { return time.Now().Add(o.Offset) }

// Server is the stand-in at work.
type Server struct {
	Address string // of the plain port: 127.0.0.1:8720
	CA      []byte // the authority of the mishaps' certificates, PEM

	gate     *gate
	accounts *accounts
	plain    net.Listener
	servers  []*http.Server
	closing  sync.Once
}

// Start listens on an address, and on further loopback ports for what needs TLS.
// It returns when all of them accept connections.
func Start(address string, o Options) (*Server, error) {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	s := &Server{Address: listener.Addr().String(), plain: listener}
	if s.gate, err = newGate("http://"+s.Address+"/gate", o); err != nil {
		return nil, err
	}
	stores := newStores(s.gate)
	m := &mishaps{}
	mux := http.NewServeMux()
	s.gate.register(mux)
	laboratory, err := newLab(o)
	if err != nil {
		return nil, err
	}
	laboratory.register(mux)
	newCourier(o).register(mux)
	(&priceIndex{}).register(mux)
	(&press{now: o.now}).register(mux)
	if err := (&scale{}).register(mux); err != nil {
		return nil, err
	}
	stores.register(mux)
	if s.accounts, err = openAccounts(o.Books); err != nil {
		return nil, err
	}
	newLedger(stores, o, s.accounts).register(mux)
	m.register(mux)
	mux.HandleFunc("GET /{$}", index)
	handler := dated(o, limited(weakened(o, mux)))
	if s.CA, err = s.startTLS(m, handler); err != nil {
		s.Close()
		return nil, err
	}
	m.addresses["plain"] = "http://" + s.Address
	s.serve(listener, handler)
	return s, nil
}

func (s *Server) serve(listener net.Listener, handler http.Handler) {
	protocols := new(http.Protocols)
	protocols.SetHTTP1(true)
	protocols.SetHTTP2(true)
	protocols.SetUnencryptedHTTP2(true)
	server := &http.Server{
		Handler: handler, Protocols: protocols, ReadHeaderTimeout: 10 * time.Second,
		ErrorLog: quietLog(),
	}
	s.servers = append(s.servers, server)
	go func() { _ = server.Serve(listener) }()
}

// startTLS opens a port for each mishap of a certificate, and a good one.
func (s *Server) startTLS(m *mishaps, handler http.Handler) ([]byte, error) {
	authority, err := newAuthority()
	if err != nil {
		return nil, err
	}
	host, _, err := net.SplitHostPort(s.Address)
	if err != nil {
		return nil, err
	}
	m.addresses, m.ca = map[string]string{}, authority.pem
	now := time.Now()
	for _, c := range []struct {
		name     string
		host     string
		from, to time.Time
	}{
		{"tls", host, now.Add(-time.Hour), now.Add(24 * time.Hour)},
		{"client certificate", host, now.Add(-time.Hour), now.Add(24 * time.Hour)},
		{"expired", host, now.Add(-48 * time.Hour), now.Add(-24 * time.Hour)},
		{"wrong name", "elsewhere.heatherfold.example", now.Add(-time.Hour), now.Add(24 * time.Hour)},
	} {
		certificate, err := authority.issue(c.host, c.from, c.to)
		if err != nil {
			return nil, err
		}
		listener, err := net.Listen("tcp", net.JoinHostPort(host, "0"))
		if err != nil {
			return nil, err
		}
		m.addresses[c.name] = "https://" + listener.Addr().String()
		settings := &tls.Config{
			Certificates: []tls.Certificate{certificate}, NextProtos: []string{"h2", "http/1.1"},
			MinVersion: tls.VersionTLS12,
		}
		if c.name == "client certificate" {
			// TLS 1.3 tells a missing certificate only when the request is under way, and
			// not always (RFC 8446, 4.4.2.4); 1.2 tells it in the handshake.
			settings.MaxVersion = tls.VersionTLS12
			settings.ClientAuth, settings.ClientCAs = tls.RequireAndVerifyClientCert, x509.NewCertPool()
			settings.ClientCAs.AppendCertsFromPEM([]byte(bryonyCertificate))
		}
		s.serve(tls.NewListener(listener, settings), handler)
	}
	return authority.pem, nil
}

// Close stops all of it, requests at work included.
func (s *Server) Close() {
	s.closing.Do(func() {
		_ = s.plain.Close()
		for _, server := range s.servers {
			_ = server.Close()
		}
		s.accounts.close()
	})
}

// Wait serves until the context ends, then stops in order.
func (s *Server) Wait(ctx context.Context) error {
	<-ctx.Done()
	bounded, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	var errs error
	for _, server := range s.servers {
		if err := server.Shutdown(bounded); err != nil && !errors.Is(err, context.DeadlineExceeded) {
			errs = errors.Join(errs, err)
		}
	}
	s.Close()
	return errs
}

// Services tells what is offered where, for people.
func (s *Server) Services() [][2]string {
	base := "http://" + s.Address
	return [][2]string{
		{"gate", base + "/gate/token, /gate/authorize, /gate/device, /gate/ticket, /gate/slip"},
		{"lab", base + "/lab?wsdl, /lab/guarded, /lab/digested, /lab/signed, /lab/sealed"},
		{"scale", base + "/scale?wsdl"},
		{"stores", base + "/stores/openapi.yaml"},
		{"ledger", base + "/ledger/$metadata, /ledger/v2/$metadata, /ledger/jsonrpc, /ledger/xmlrpc, /ledger/rpc/…, /ledger/session"},
		{"index", base + "/index/application.wadl"},
		{"courier", base + "/courier/deliveries, /courier/pickups"},
		{"mishaps", base + "/mishaps"},
	}
}

// dated sets the clock that answers tell.
func dated(o Options, next http.Handler) http.Handler {
	if o.Offset == 0 {
		return next
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Date", o.now().UTC().Format(http.TimeFormat))
		next.ServeHTTP(w, r)
	})
}

// maxRequest bounds what the stand-in reads of a request.
const maxRequest = 8 << 20

func limited(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(w, r.Body, maxRequest)
		next.ServeHTTP(w, r)
	})
}

// onlyBy refuses another method at an address that there is (RFC 9110, 15.5.6).
func onlyBy(methods string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Allow", methods)
		problem(w, http.StatusMethodNotAllowed, "no_such_method", "", r.Method+" is not possible here, but "+methods)
	}
}

func index(w http.ResponseWriter, _ *http.Request) {
	writeJSON(w, http.StatusOK,
		map[string]any{"services": []string{
			"/gate", "/lab", "/scale", "/stores", "/ledger", "/index", "/courier",
			"/mishaps",
		}, "of": "Heatherfold Honey Co-operative"})
}

func writeJSON(w http.ResponseWriter, status int, v any) {
	if w.Header().Get("Content-Type") == "" {
		w.Header().Set("Content-Type", "application/json")
	}
	w.WriteHeader(status)
	encoder := json.NewEncoder(w)
	encoder.SetEscapeHTML(false)
	_ = encoder.Encode(v)
}

// problem is the error form of stores and ledger.
func problem(w http.ResponseWriter, status int, code, field, message string) {
	body := map[string]any{"code": code, "message": message}
	if field != "" {
		body["field"] = field
	}
	writeJSON(w, status, map[string]any{"error": body})
}

// credential takes what stands behind a scheme word in the Authorization field.
func credential(r *http.Request, word string) (text string, ok bool) {
	scheme, text, found := strings.Cut(r.Header.Get("Authorization"), " ")
	return strings.TrimSpace(text), found && strings.EqualFold(scheme, word)
}
