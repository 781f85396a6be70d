// Package standin simulates the services of the Heatherfold Honey Co-operative:
// real HTTP servers that check credentials, validate what they are sent,
// compute their answers and keep state until they are stopped. Tests and the
// demo talk to it; nothing of the core imports it.
package standin

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"net"
	"net/http"
	"sync"
	"time"

	"testbench/internal/standin/courier"
	"testbench/internal/standin/demo"
	"testbench/internal/standin/gate"
	"testbench/internal/standin/lab"
	"testbench/internal/standin/ledger"
	"testbench/internal/standin/mishaps"
	"testbench/internal/standin/press"
	"testbench/internal/standin/prices"
	"testbench/internal/standin/register"
	"testbench/internal/standin/scale"
	"testbench/internal/standin/service"
	"testbench/internal/standin/stores"
)

// DefaultAddress is where the stand-in listens unless told otherwise.
const DefaultAddress = "127.0.0.1:8720"

// Options set how the stand-in behaves.
type Options = service.Options

// Secrets are the made-up credentials that the services accept.
var Secrets = service.Secrets

// Server is the stand-in at work.
type Server struct {
	Address string // of the plain port: 127.0.0.1:8720
	CA      []byte // the authority of the mishaps' certificates, PEM

	gate     *gate.Service
	accounts *ledger.Accounts
	plain    net.Listener
	servers  []*http.Server
	closing  sync.Once
}

// Start listens on an address, and on further loopback ports for what needs TLS.
// It returns when all of them accept connections.
func Start(address string, o service.Options) (*Server, error) {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	s := &Server{Address: listener.Addr().String(), plain: listener}
	if s.gate, err = gate.New("http://"+s.Address+"/gate", o); err != nil {
		return nil, err
	}
	stores := stores.New(s.gate)
	m := &mishaps.Service{}
	mux := http.NewServeMux()
	s.gate.Register(mux)
	laboratory, err := lab.New(o)
	if err != nil {
		return nil, err
	}
	laboratory.Register(mux)
	courier.New(o).Register(mux)
	(&prices.Service{}).Register(mux)
	(&register.Service{}).Register(mux)
	(&press.Service{Clock: o.Now}).Register(mux)
	if err := (&scale.Service{}).Register(mux); err != nil {
		return nil, err
	}
	stores.Register(mux)
	if s.accounts, err = ledger.OpenAccounts(o.Books); err != nil {
		return nil, err
	}
	ledger.New(stores, o, s.accounts).Register(mux)
	m.Register(mux)
	mux.HandleFunc("GET /{$}", index)
	handler := dated(o, limited(weakened(o, mux)))
	if s.CA, err = s.startTLS(m, handler); err != nil {
		s.Close()
		return nil, err
	}
	m.Addresses["plain"] = "http://" + s.Address
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
		ErrorLog: service.NoLog(),
	}
	s.servers = append(s.servers, server)
	go func() { _ = server.Serve(listener) }()
}

// startTLS opens a port for each mishap of a certificate, and a good one.
func (s *Server) startTLS(m *mishaps.Service, handler http.Handler) ([]byte, error) {
	authority, err := mishaps.NewAuthority()
	if err != nil {
		return nil, err
	}
	host, _, err := net.SplitHostPort(s.Address)
	if err != nil {
		return nil, err
	}
	m.Addresses, m.Ca = map[string]string{}, authority.Pem
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
		certificate, err := authority.Issue(c.host, c.from, c.to)
		if err != nil {
			return nil, err
		}
		listener, err := net.Listen("tcp", net.JoinHostPort(host, "0"))
		if err != nil {
			return nil, err
		}
		m.Addresses[c.name] = "https://" + listener.Addr().String()
		settings := &tls.Config{
			Certificates: []tls.Certificate{certificate}, NextProtos: []string{"h2", "http/1.1"},
			MinVersion: tls.VersionTLS12,
		}
		if c.name == "client certificate" {
			// TLS 1.3 tells a missing certificate only when the request is under way, and
			// not always (RFC 8446, 4.4.2.4); 1.2 tells it in the handshake.
			settings.MaxVersion = tls.VersionTLS12
			settings.ClientAuth, settings.ClientCAs = tls.RequireAndVerifyClientCert, x509.NewCertPool()
			settings.ClientCAs.AppendCertsFromPEM([]byte(demo.BryonyCertificate))
		}
		s.serve(tls.NewListener(listener, settings), handler)
	}
	return authority.Pem, nil
}

// Close stops all of it, requests at work included.
func (s *Server) Close() {
	s.closing.Do(func() {
		_ = s.plain.Close()
		for _, server := range s.servers {
			_ = server.Close()
		}
		s.accounts.Close()
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
		{"ledger", base + "/ledger/$metadata, /ledger/v2/$metadata, /ledger/jsonrpc, /ledger/xmlrpc, " +
			"/ledger/rpc/…, /ledger/session"},
		{"index", base + "/index/application.wadl"},
		{"courier", base + "/courier/deliveries, /courier/pickups"},
		{"register", base + "/register/contract.json, /register/members, /register/news"},
		{"mishaps", base + "/mishaps"},
	}
}

// dated sets the clock that answers tell.
func dated(o service.Options, next http.Handler) http.Handler {
	if o.Offset == 0 {
		return next
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Date", o.Now().UTC().Format(http.TimeFormat))
		next.ServeHTTP(w, r)
	})
}

func limited(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(w, r.Body, service.MaxRequest)
		next.ServeHTTP(w, r)
	})
}

func index(w http.ResponseWriter, _ *http.Request) {
	service.WriteJSON(w, http.StatusOK,
		map[string]any{"services": []string{
			"/gate", "/lab", "/scale", "/stores", "/ledger", "/index", "/courier", "/register",
			"/mishaps",
		}, "of": "Heatherfold Honey Co-operative"})
}
