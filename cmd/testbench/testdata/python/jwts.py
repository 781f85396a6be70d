"""A server that checks the JWT of each request by PyJWT: python3 jwts.py PORT CERTIFICATE_FILE SHARED_KEY"""
import base64
import hashlib
import http.server
import json
import sys

import jwt
from cryptography import x509
from cryptography.hazmat.primitives import serialization

certificate = x509.load_pem_x509_certificate(open(sys.argv[2], "rb").read())
der = certificate.public_bytes(serialization.Encoding.DER)


def thumbprint(name):
    return base64.urlsafe_b64encode(hashlib.new(name, der).digest()).rstrip(b"=").decode()


class Handler(http.server.BaseHTTPRequestHandler):
    def handle_all(self):
        body = self.rfile.read(int(self.headers.get("Content-Length") or 0))
        status, said = 200, {}
        try:
            token = self.headers["X-Desk-Token"] or self.headers["Authorization"].removeprefix("Bearer ")
            head = jwt.get_unverified_header(token)
            shared = head["alg"].startswith("HS")
            claims = jwt.decode(token, sys.argv[3] if shared else certificate.public_key(), algorithms=[head["alg"]],
                                options={"require": ["exp", "iat", "jti"]})
            wanted = {"digest": hashlib.sha256(body).hexdigest(), "htm": self.command, "target": self.path}
            for name, text in wanted.items():
                if claims.get(name) != text:
                    raise ValueError(f"{name} is {claims.get(name)}, and should be {text}")
            for name, text in {"x5t": thumbprint("sha1"), "x5t#S256": thumbprint("sha256"),
                               "x5c": [base64.b64encode(der).decode()]}.items():
                if name in head and head[name] != text:
                    raise ValueError(f"{name} is {head[name]}, and should be {text}")
            said = {"alg": head["alg"], "kid": head.get("kid"), "named": [n for n in ("x5t", "x5t#S256", "x5c") if n in head],
                    "desk": claims.get("desk"), "life": claims["exp"] - claims["iat"]}
        except Exception as error:  # whatever is wrong with it
            status, said = 401, {"error": str(error)}
        data = json.dumps(said).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    do_GET = do_POST = do_PUT = handle_all

    def log_message(self, *args): pass


http.server.ThreadingHTTPServer(("127.0.0.1", int(sys.argv[1])), Handler).serve_forever()
